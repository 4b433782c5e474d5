package schema

import (
	"container/heap"
	"fmt"
	"math"

	"faithfulcourier/internal/source"
)

// MostNodes is the size of the largest value that a message, error, union or named type
// may need at least; AdviseNodes that from which advice is given.
const (
	MostNodes   = 1_000_000
	AdviseNodes = 10_000
)

// endless is the size of what has no finite value, beyondCounting of one that is larger
// than a size can say.
const (
	endless        = math.MaxInt64
	beyondCounting = endless - 1
)

// textNode is how many octets of a text or of bytes that must be there weigh as much as a
// value.
const textNode = 64

// Smallest is the size of a type's smallest value, within its bounds and those of its
// place: a value counts one, and what it must hold besides.
func (t *Type) Smallest(own *Bounds) int64 {
	c := t.least(own)
	switch owner := c.owner.(type) {
	case *Message:
		return plus(c.base, times(c.times, owner.Smallest))
	case *Union:
		return plus(c.base, times(c.times, owner.Smallest))
	}
	return c.base
}

// cost is how large the smallest value of a type is: base, and times the smallest value
// of a message or union.
type cost struct {
	base  int64
	owner Declaration // *Message, *Union or nil
	times int64
}

func (t *Type) least(own *Bounds) cost {
	low := func(of func(*Bounds) *Limits) (n int64) {
		for _, b := range []*Bounds{own, t.bounds()} {
			if b != nil && of(b) != nil {
				n = max(n, int64(min(of(b).Low, beyondCounting)))
			}
		}
		return n
	}
	switch t.Kind {
	case KindMessage:
		if t.Message.IsPatch() {
			return cost{base: 1} // of which nothing must be there
		}
		return cost{owner: t.Message, times: 1}
	case KindUnion:
		return cost{owner: t.Union, times: 1}
	case KindText, KindBytes:
		return cost{base: plus(1, low(func(b *Bounds) *Limits { return b.Length })/textNode)}
	case KindList, KindMap:
		count := low(func(b *Bounds) *Limits { return b.Count })
		if count == 0 {
			return cost{base: 1}
		}
		of := t.Elem.least(nil)
		if t.Kind == KindMap {
			of.base = plus(of.base, t.Key.least(nil).base)
		}
		return cost{base: plus(1, times(count, of.base)), owner: of.owner, times: times(count, of.times)}
	}
	return cost{base: 1}
}

// bounds are those of the named type that a type is, or nil.
func (t *Type) bounds() *Bounds {
	if t.Named == nil {
		return nil
	}
	return t.Named.Bounds
}

func plus(a, b int64) int64 {
	switch {
	case a == endless || b == endless:
		return endless
	case a > beyondCounting-b:
		return beyondCounting
	}
	return a + b
}

func times(a, b int64) int64 {
	switch {
	case a == 0 || b == 0:
		return 0
	case a == endless || b == endless:
		return endless
	case b > beyondCounting/a:
		return beyondCounting
	}
	return a * b
}

// measure fills in the Smallest of all messages and unions. A message is known when all
// that it must hold is, a union when its cheapest alternative is: taking the cheapest of
// all that are known next, as Dijkstra's algorithm does, finds each once (Knuth, "A
// Generalization of Dijkstra's Algorithm", 1977).
func measure(d *Definitions) {
	type waiter struct {
		owner Declaration
		cost  cost
	}
	by := map[Declaration][]waiter{}
	waiting := map[*Message]int{}
	var next sizes
	for _, m := range d.Modules {
		for _, msg := range m.Messages {
			msg.Smallest = 1
			for _, f := range msg.Fields {
				if f.Presence == Optional {
					continue
				}
				c := f.Type.least(f.Bounds)
				msg.Smallest = plus(msg.Smallest, c.base)
				if c.owner != nil {
					by[c.owner] = append(by[c.owner], waiter{msg, c})
					waiting[msg]++
				}
			}
			if waiting[msg] == 0 {
				next = append(next, sized{msg.Smallest, msg})
			}
		}
		for _, u := range m.Unions {
			u.Smallest = endless
			for _, a := range u.Alternatives {
				if c := a.Type.least(nil); c.owner == nil {
					next = append(next, sized{plus(1, c.base), u})
				} else {
					by[c.owner] = append(by[c.owner], waiter{u, c})
				}
			}
		}
	}
	heap.Init(&next)
	done := map[Declaration]bool{}
	for len(next) > 0 {
		s := heap.Pop(&next).(sized)
		if done[s.owner] {
			continue
		}
		done[s.owner] = true
		if u, is := s.owner.(*Union); is {
			u.Smallest = s.size
		}
		for _, w := range by[s.owner] {
			size := plus(w.cost.base, times(w.cost.times, s.size))
			switch owner := w.owner.(type) {
			case *Union:
				heap.Push(&next, sized{plus(1, size), owner})
			case *Message:
				owner.Smallest = plus(owner.Smallest, times(w.cost.times, s.size)) // its base is in it already
				if waiting[owner]--; waiting[owner] == 0 {
					heap.Push(&next, sized{owner.Smallest, owner})
				}
			}
		}
	}
	for msg, n := range waiting {
		if n > 0 {
			msg.Smallest = endless
		}
	}
}

type sized struct {
	size  int64
	owner Declaration
}

// sizes is a heap.
type sizes []sized

func (s sizes) Len() int           { return len(s) }
func (s sizes) Less(i, j int) bool { return s[i].size < s[j].size }
func (s sizes) Swap(i, j int)      { s[i], s[j] = s[j], s[i] }
func (s *sizes) Push(x any)        { *s = append(*s, x.(sized)) }
func (s *sizes) Pop() any {
	last := len(*s) - 1
	x := (*s)[last]
	*s = (*s)[:last]
	return x
}

// checkSmallest refuses what needs too large a value to be written at all: no message of
// it could be made, shown or sent. Only the innermost is named: what holds it is as large
// for its sake.
func checkSmallest(d *Definitions, findings *source.Findings) {
	measure(d)
	refuse := func(place source.Place, name string, size int64) {
		findings.Add(source.Finding{Name: "huge-value", Place: place,
			Message: fmt.Sprintf("the smallest value of %q has %s values in it, and at most %d are allowed", name,
				counted(size), MostNodes),
			Fix: "make fields optional, or lower the counts and lengths that must be there"})
	}
	large := func(t *Type, own *Bounds) bool { return t.Smallest(own) > MostNodes }
	for _, m := range d.Modules {
		for _, n := range m.Types {
			if t := &n.Type; large(t, n.Bounds) && (t.Elem == nil || !large(t.Elem, nil)) {
				refuse(n.Place, n.Name, t.Smallest(n.Bounds))
			}
		}
		for _, msg := range m.Messages {
			if msg.Smallest <= MostNodes || msg.Smallest == endless {
				continue
			}
			innermost := true
			for _, f := range msg.Fields {
				// What is too large by itself is named where it is declared, or here.
				inner := f.Type.owner()
				if f.Presence != Optional && (inner != nil && inner.smallest() > MostNodes || f.Type.Named != nil &&
					large(f.Type, nil)) {
					innermost = false
				}
			}
			if innermost {
				refuse(msg.Place, msg.Name, msg.Smallest)
			}
		}
		for _, u := range m.Unions {
			innermost := u.Smallest > MostNodes && u.Smallest != endless
			for _, a := range u.Alternatives {
				inner := a.Type.owner()
				innermost = innermost && !(inner != nil && inner.smallest() > MostNodes || a.Type.Named != nil &&
					large(a.Type, nil))
			}
			if innermost {
				refuse(u.Place, u.Name, u.Smallest)
			}
		}
	}
}

// counted is a size in a sentence.
func counted(size int64) string {
	if size >= beyondCounting {
		return "more than can be counted"
	}
	return fmt.Sprint(size)
}

// measured is what has a smallest value of its own.
type measured interface{ smallest() int64 }

func (m *Message) smallest() int64 { return m.Smallest }
func (u *Union) smallest() int64   { return u.Smallest }

// owner is the message or union that every value of a type holds, or nil.
func (t *Type) owner() measured {
	switch owner := t.least(nil).owner.(type) {
	case *Message:
		return owner
	case *Union:
		return owner
	}
	return nil
}
