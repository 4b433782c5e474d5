package wire

import (
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
)

// Measure tells apart how types and bounds changed, and which of them allow more now: what
// only reading can tell.
func Measure(set *change.Set) {
	m := &measure{Set: set}
	for _, c := range set.Changes {
		switch c.Kind {
		case change.FieldType:
			o, n := c.Field.Old, c.Field.New
			c.How, c.More = m.howTyped(o.Type, n.Type), m.takesMore(o.Type, n.Type, o.Bounds, n.Bounds)
		case change.AlternativeType:
			o, n := c.Alternative.Old, c.Alternative.New
			c.How, c.More = m.howTyped(o.Type, n.Type), m.takesMore(o.Type, n.Type, nil, nil)
		case change.TypeChanged:
			o, n := c.OldDecl.(*schema.NamedType), c.NewDecl.(*schema.NamedType)
			c.How, c.More = m.howTyped(o.Bare(), n.Bare()), m.takesMore(o.Bare(), n.Bare(), o.Bounds, n.Bounds)
		case change.FieldBounds:
			o, n := c.Field.Old, c.Field.New
			if o.Type.Kind == n.Type.Kind {
				c.How, c.More = howBound(o.Type, o.Bounds, n.Bounds), implies(o.Type, o.Bounds, n.Bounds)
			}
		case change.TypeBounds:
			o, n := c.OldDecl.(*schema.NamedType), c.NewDecl.(*schema.NamedType)
			if o.Type.Kind == n.Type.Kind {
				c.How, c.More = howBound(&o.Type, o.Bounds, n.Bounds), implies(&o.Type, o.Bounds, n.Bounds)
			}
		}
	}
}

// measure compares types by reading.
type measure struct {
	*change.Set
	oldReadsNew []*walker // by encoding
}

// implies tells whether every value of a type that some bounds allow is allowed by
// others; false also where that can't be decided.
func implies(t *schema.Type, some, others *schema.Bounds) bool {
	if others == nil {
		return true
	}
	w := newWalker(change.Nothing(), crossing{encoding: "binary", position: verdict.Stored})
	bare := t.Bare()
	s := spot{wt: bare, rt: bare, wb: some, rb: others}
	if t.Kind == schema.KindList || t.Kind == schema.KindMap {
		own, _ := w.counts(s)
		return own == nil
	}
	seen := w.look(s)
	return seen.own == nil && !seen.undecided
}

// howBound tells apart how the bounds of a type changed.
func howBound(t *schema.Type, o, n *schema.Bounds) string {
	looser, tighter := implies(t, o, n), implies(t, n, o)
	switch {
	case o == nil:
		return "put on"
	case n == nil:
		return "taken off"
	case looser && !tighter:
		return "loosened"
	case tighter && !looser:
		return "tightened"
	case !looser:
		return "moved"
	}
	return ""
}

// howTyped tells apart how a type changed.
func (m *measure) howTyped(o, n *schema.Type) string {
	switch {
	case o.Named == nil && n.Named != nil && m.SameType(o, n.Bare()):
		return "a named type put on"
	case o.Named != nil && n.Named == nil && m.SameType(o.Bare(), n):
		return "a named type taken off"
	case o.Named != nil && n.Named != nil:
		return "one named type for another"
	case numeric(o) && numeric(n):
		wider, narrower := holds(n, o), holds(o, n)
		switch {
		case wider:
			return "widened"
		case narrower:
			return "narrowed"
		}
	case o.Kind != n.Kind:
	case o.Kind == schema.KindMap && !m.SameType(o.Key, n.Key):
		return "its keys changed"
	case o.Kind == schema.KindMap, o.Kind == schema.KindList:
		return "its elements changed"
	case o.Kind == schema.KindMessage:
		return "one message for another"
	case o.Kind == schema.KindEnum:
		return "one enum for another"
	case o.Kind == schema.KindUnion:
		return "one union for another"
	}
	return ""
}

// takesMore tells whether a new type has values that the old one has not.
func (m *measure) takesMore(o, n *schema.Type, ob, nb *schema.Bounds) bool {
	if m.oldReadsNew == nil { // NEW's values, by OLD's reader
		m.oldReadsNew = []*walker{newWalker(m.Set, crossing{encoding: "binary", position: verdict.Request}),
			newWalker(m.Set, crossing{encoding: "json", position: verdict.Request})}
	}
	for _, w := range m.oldReadsNew {
		s := spot{wt: n, rt: o, wb: nb, rb: ob}
		if (o.Kind == schema.KindList || o.Kind == schema.KindMap) && n.Kind == o.Kind {
			if m.takesMore(o.Elem, n.Elem, nil, nil) || o.Kind == schema.KindMap && m.takesMore(o.Key, n.Key, nil, nil) {
				return true
			}
			own, named := w.counts(s)
			return own != nil || named != nil
		}
		if seen := w.look(s); seen.refused != nil || seen.otherwise != nil || seen.own != nil || seen.named != nil {
			return true
		}
	}
	return false
}

func numeric(t *schema.Type) bool {
	return t.Kind.IsInteger() || t.Kind == schema.KindFloat32 || t.Kind == schema.KindFloat64
}

// holds tells whether one type of numbers has every value of another.
func holds(wide, narrow *schema.Type) bool {
	switch {
	case wide.Kind == narrow.Kind:
		return true
	case !narrow.Kind.IsInteger():
		return narrow.Kind == schema.KindFloat32 && wide.Kind == schema.KindFloat64
	case wide.Kind.IsInteger():
		low, high := narrow.Kind.Range()
		least, most := wide.Kind.Range()
		return low >= least && high <= most
	}
	// All integers of so many bits, and their sign, are exact.
	exact := map[schema.Kind]int{schema.KindFloat32: 24, schema.KindFloat64: 53}[wide.Kind]
	return narrow.Kind.Bits() <= exact
}
