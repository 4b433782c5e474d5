package python

import "faithfulcourier/internal/schema"

// The budget of a payload is spent where a list or map begins, by what each of its items weighs
// with all that it holds in one. Messages that may hold themselves, or very much, weigh themselves
// when they are read, and nothing in what holds them.

// heaviestInlined is the weight over which a message weighs itself.
const heaviestInlined = 200

// weights remembers what messages weigh in what holds them.
type weights map[*schema.Message]int

// spend takes what a message weighs, where it weighs itself.
func (g *generator) spend(m *schema.Message) {
	if g.weights.inlined(m) == 0 {
		g.P("meter.spend(%d)", g.weights.whole(m))
	}
}

// inlined is what a message weighs in what holds it.
func (w weights) inlined(m *schema.Message) int {
	weight, known := w[m]
	if !known {
		if weight = 0; !holdsItself(m) {
			weight = w.whole(m)
		}
		if weight > heaviestInlined {
			weight = 0
		}
		w[m] = weight
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

// holdsItself tells whether a message may hold one of its kind without a list or map between.
func holdsItself(m *schema.Message) bool {
	seen := map[any]bool{}
	var reaches func(t *schema.Type) bool
	fields := func(of *schema.Message) bool {
		for _, f := range of.Fields {
			if reaches(f.Type) {
				return true
			}
		}
		return false
	}
	reaches = func(t *schema.Type) bool {
		switch t.Kind {
		case schema.KindMessage:
			if t.Message == m {
				return true
			}
			if seen[t.Message] {
				return false
			}
			seen[t.Message] = true
			return fields(t.Message)
		case schema.KindUnion:
			if seen[t.Union] {
				return false
			}
			seen[t.Union] = true
			for _, a := range t.Union.Alternatives {
				if reaches(a.Type) {
					return true
				}
			}
		}
		return false
	}
	return fields(m)
}
