package python

import (
	"faithfulcourier/internal/graph"
	"faithfulcourier/internal/schema"
)

// The budget of a payload is spent where a list or map begins, by what each of its items weighs
// with all that it holds in one. Messages that may hold themselves, or very much, weigh themselves
// when they are read, and nothing in what holds them.

// heaviestInlined is the weight over which a message weighs itself.
const heaviestInlined = 200

// weights remembers what messages weigh in what holds them.
type weights struct {
	known       map[*schema.Message]int
	selfHolding map[*schema.Message]bool
}

// spend takes what a message weighs, where it weighs itself.
func (g *generator) spend(m *schema.Message) {
	if g.weights.inlined(m) == 0 {
		g.P("meter.spend(%d)", g.weights.whole(m))
	}
}

// inlined is what a message weighs in what holds it.
func (w weights) inlined(m *schema.Message) int {
	weight, known := w.known[m]
	if !known {
		if weight = 0; !w.selfHolding[m] {
			weight = w.whole(m)
		}
		if weight > heaviestInlined {
			weight = 0
		}
		w.known[m] = weight
	}
	return weight
}

// whole is what a message weighs, itself included.
func (w weights) whole(m *schema.Message) int {
	weight := 1 + len(m.Fields)
	for _, f := range m.Fields {
		weight += w.of(f.Type)
	}
	return weight
}

// of is what a value of a type weighs in what holds it; the items of lists and maps weigh apart.
func (w weights) of(t *schema.Type) int {
	switch t.Kind {
	case schema.KindMessage:
		return w.inlined(t.Message)
	case schema.KindUnion:
		return w.union(t.Union, map[*schema.Union]bool{})
	}
	return 0
}

// union is what the heaviest alternative weighs.
func (w weights) union(u *schema.Union, seen map[*schema.Union]bool) int {
	seen[u] = true
	most := 0
	for _, a := range u.Alternatives {
		switch {
		case a.Type.Kind != schema.KindUnion:
			most = max(most, w.of(a.Type))
		case !seen[a.Type.Union]:
			most = max(most, w.union(a.Type.Union, seen))
		}
	}
	return most
}

// selfHolding lists the messages that may hold one of their kind without a list or map between.
func selfHolding(defs *schema.Definitions) map[*schema.Message]bool {
	var all []schema.Declaration
	at := map[schema.Declaration]int{}
	for _, m := range defs.Modules {
		for _, list := range [][]*schema.Message{m.Messages, m.Patches} {
			for _, message := range list {
				at[message] = len(all)
				all = append(all, message)
			}
		}
		for _, u := range m.Unions {
			at[u] = len(all)
			all = append(all, u)
		}
	}
	next := make([][]int, len(all))
	for i, d := range all {
		leadTo := func(t *schema.Type) {
			switch t.Kind {
			case schema.KindMessage:
				next[i] = append(next[i], at[t.Message])
			case schema.KindUnion:
				next[i] = append(next[i], at[t.Union])
			}
		}
		switch d := d.(type) {
		case *schema.Message:
			for _, f := range d.Fields {
				leadTo(f.Type)
			}
		case *schema.Union:
			for _, a := range d.Alternatives {
				leadTo(a.Type)
			}
		}
	}
	holding := map[*schema.Message]bool{}
	for _, loop := range graph.Loops(next) {
		for _, i := range loop {
			if m, is := all[i].(*schema.Message); is {
				holding[m] = true
			}
		}
	}
	return holding
}
