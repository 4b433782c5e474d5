package compare

import "faithfulcourier/internal/schema"

// implies tells whether every value of a type that some bounds allow is allowed by
// others; false also where that can't be decided.
func implies(t *schema.Type, some, others *schema.Bounds) bool {
	if others == nil {
		return true
	}
	w := newWalker(newDiffer(nil, nil), crossing{form: "binary", position: Kept})
	bare := bareType(t)
	s := spot{wt: bare, rt: bare, wb: some, rb: others}
	if t.Kind == schema.KindList || t.Kind == schema.KindMap {
		own, _ := w.counts(s)
		return own == nil
	}
	seen := w.look(s)
	return seen.own == nil && !seen.undecided
}

// boundsChange tells apart how the bounds of a type changed.
func boundsChange(t *schema.Type, o, n *schema.Bounds) string {
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
