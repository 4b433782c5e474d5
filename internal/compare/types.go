package compare

import (
	"fmt"
	"slices"
	"strconv"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// Kinds of facts about named types and unions.
const (
	TypeAdded   Kind = "type-added"
	TypeGone    Kind = "type-gone"
	TypeRenamed Kind = "type-renamed"
	TypeMoved   Kind = "type-moved"
	TypeChanged Kind = "type-changed" // what it is over
	TypeBounds  Kind = "type-bounds-changed"

	UnionAdded   Kind = "union-added"
	UnionGone    Kind = "union-gone"
	UnionRenamed Kind = "union-renamed"
	UnionMoved   Kind = "union-moved"

	AlternativeAdded      Kind = "alternative-added"
	AlternativeGone       Kind = "alternative-gone"
	AlternativeRenamed    Kind = "alternative-renamed"
	AlternativeRenumbered Kind = "alternative-renumbered"
	AlternativeType       Kind = "alternative-type-changed"
	AlternativeJSON       Kind = "alternative-json-name-changed"
)

type alternativePair struct{ old, new *schema.Alternative }

// pairedTypes tells whether both types are named, and one is the other's
// counterpart.
func (d *differ) pairedTypes(o, n *schema.Type) bool {
	return o.Named != nil && n.Named != nil && d.types[o.Named] == n.Named
}

// namedType finds what changed in a named type.
func (d *differ) namedType(o, n *schema.NamedType) {
	add := func(kind Kind, old, new string) *Fact {
		f := d.add(&Fact{Kind: kind, Where: o.FullName(), Old: old, New: new, oldAny: o, newAny: n}, n.Place)
		d.typeFacts[o], d.typeFacts[n] = append(d.typeFacts[o], f), append(d.typeFacts[n], f)
		return f
	}
	if !d.sameType(bare(o), bare(n)) {
		add(TypeChanged, o.Type.LocalBase(o.Module), n.Type.LocalBase(n.Module)).How = d.typeChange(bare(o), bare(n))
	}
	if a, b := o.Bounds.String(), n.Bounds.String(); a != b {
		f := add(TypeBounds, a, b)
		if o.Type.Kind == n.Type.Kind {
			f.additive = implies(o.Type.Kind, []*schema.Bounds{o.Bounds}, n.Bounds) // loosened
			f.How = boundsChange(o.Type.Kind, o.Bounds, n.Bounds)
		}
	}
	if o.Secret && !n.Secret {
		add(SecretOff, "secret", "")
	}
	if !o.Secret && n.Secret {
		add(SecretOn, "", "secret")
	}
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
}

// typeFact finds the fact of a kind about a named type.
func (d *differ) typeFact(t *schema.NamedType, kind Kind) *Fact {
	if t == nil {
		return nil
	}
	for _, f := range d.typeFacts[t] {
		if f.Kind == kind {
			return f
		}
	}
	return nil
}

// pairAlternatives pairs the alternatives of two unions, as fields are.
func pairAlternatives(o, n *schema.Union) []alternativePair {
	return pairNumbered(o.Alternatives, n.Alternatives, func(a *schema.Alternative) (int, string, string) { return a.Number, a.Name, a.Type.String() },
		func(a, b *schema.Alternative) alternativePair { return alternativePair{a, b} })
}

// union finds what changed in a union.
func (d *differ) union(o, n *schema.Union) {
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
	for _, p := range pairAlternatives(o, n) {
		switch {
		case p.new == nil:
			d.alternativeFact(AlternativeGone, p, alternativeText(p.old), "").Missed = n.Place
		case p.old == nil:
			d.alternativeFact(AlternativeAdded, p, "", alternativeText(p.new))
		default:
			if p.old.Name != p.new.Name {
				d.alternativeFact(AlternativeRenamed, p, p.old.Name, p.new.Name)
			}
			if p.old.Number != p.new.Number {
				d.alternativeFact(AlternativeRenumbered, p, "#"+strconv.Itoa(p.old.Number), "#"+strconv.Itoa(p.new.Number))
			}
			if p.old.JSON != p.new.JSON && p.old.JSONName() != p.new.JSONName() {
				d.alternativeFact(AlternativeJSON, p, p.old.JSONName(), p.new.JSONName())
			}
			if !d.sameType(p.old.Type, p.new.Type) {
				d.alternativeFact(AlternativeType, p, p.old.Type.Local(o.Module), p.new.Type.Local(n.Module)).How = d.typeChange(p.old.Type, p.new.Type)
			}
			d.words(p.old.FullName(), p.old.Doc, p.new.Doc, p.old.Deprecated, p.new.Deprecated, p.new.Place)
		}
	}
	d.retired(o.FullName(), o.Retired, n.Retired, n.Place)
}

func alternativeText(a *schema.Alternative) string {
	return fmt.Sprintf("#%d %s %s", a.Number, a.Name, a.Type.Local(a.Union.Module))
}

func (d *differ) alternativeFact(kind Kind, p alternativePair, old, new string) *Fact {
	f := &Fact{Kind: kind, Old: old, New: new, alternative: p}
	at := p.new
	if p.old != nil {
		f.Where = p.old.FullName()
	} else {
		f.Where = p.new.FullName()
	}
	if at == nil {
		at = p.old
	}
	d.add(f, at.Place)
	for _, side := range []*schema.Alternative{p.old, p.new} {
		if side != nil {
			d.altFacts[side] = append(d.altFacts[side], f)
		}
	}
	return f
}

// union judges what is written as one union and read as another.
func (w *walker) union(field *schema.Field, wu, ru *schema.Union, owner *Fact) {
	if !w.enterUnion(wu) {
		return // it is inside of itself, and judged already
	}
	defer w.leaveUnion()
	at := w.at
	old, new := sidesOf(w.newReads, wu, ru)
	if w.differ.unions[old] == new {
		owner = nil
	}
	prove := func() *Witness { return w.prove(at, field, false) }
	for _, p := range pairAlternatives(old, new) {
		aw, ar := sidesOf(w.newReads, p.old, p.new)
		fact := func(a *schema.Alternative, kind Kind) *Fact {
			if owner != nil {
				return owner
			}
			for _, f := range w.altFacts[a] {
				if f.Kind == kind {
					return f
				}
			}
			return nil
		}
		if aw == nil {
			w.unwritten(fact(ar, AlternativeGone), ar.Name)
			continue
		}
		listed, kind, as := ru.ByNumber(aw.Number), AlternativeRenumbered, fmt.Sprintf("#%d", aw.Number)
		if w.form == "json" {
			listed, kind, as = alternativeByJSONName(ru, aw.JSONName()), AlternativeRenamed, fmt.Sprintf("%q", aw.JSONName())
			if ar != nil && aw.JSON != ar.JSON {
				kind = AlternativeJSON
			}
		}
		if ar == nil {
			kind = AlternativeAdded
			if w.newReads {
				kind = AlternativeGone
			}
		}
		f := fact(aw, kind)
		switch {
		case listed == ar && ar != nil:
			w.types(field, aw.Type, ar.Type, nil, fact(aw, AlternativeType))
		case listed != nil:
			w.taken(f, aw.Name, as, listed.Name, prove)
		default:
			w.unlisted(f, aw.Name, as, ar != nil, prove)
		}
	}
}

func alternativeByJSONName(u *schema.Union, name string) *schema.Alternative {
	for _, a := range u.Alternatives {
		if a.JSONName() == name {
			return a
		}
	}
	return nil
}

// sameAlternative tells whether a union value is the one that was written: their
// alternatives are paired, or the unlisted one is kept as it was.
func (w *walker) sameAlternative(a, b *value.Union, wu, ru *schema.Union) bool {
	old, new := sidesOf(w.newReads, wu, ru)
	written := wu.ByNumber(a.Number)
	for _, p := range pairAlternatives(old, new) {
		aw, ar := sidesOf(w.newReads, p.old, p.new)
		if aw != written {
			continue
		}
		if ar != nil {
			return b.Number == ar.Number
		}
		return b.Number == a.Number && ru.ByNumber(b.Number) == nil || b.Number == 0 && b.Name == written.JSONName()
	}
	return false
}

// ownBounds are those of a field, beside those of its type, and the facts that
// may have changed them.
type ownBounds struct {
	writer, reader *schema.Bounds
	fact           *Fact
}

// limits judges bounds that differ at one place: of a field, of a named type, or
// of what it holds. In a request the reader checks them: what the writer's own
// bounds allow must be allowed there, too. Elsewhere nobody checks, and a looser
// writer may surprise.
func (w *walker) limits(field *schema.Field, wt, rt *schema.Type, own *ownBounds, f *Fact) {
	if own == nil {
		own = &ownBounds{}
	}
	writers := []*schema.Bounds{own.writer, namedBounds(wt)}
	for _, reader := range []*schema.Bounds{own.reader, namedBounds(rt)} {
		if reader == nil || wt.Kind != rt.Kind && !w.widens(wt, rt) || implies(wt.Kind, writers, reader) {
			continue
		}
		fact := firstFact(own.fact, w.typeFact(wt.Named, TypeBounds), w.typeFact(rt.Named, TypeBounds), f, w.typeFact(rt.Named, TypeChanged))
		if reader != own.reader {
			fact = firstFact(w.typeFact(rt.Named, TypeBounds), f, own.fact, w.typeFact(wt.Named, TypeBounds), w.typeFact(rt.Named, TypeChanged))
		}
		if fact == nil {
			continue // nothing changed here
		}
		if !w.strict() {
			w.emit(fact, event{verdict: Shifts, sentence: fmt.Sprintf("%s may write values of %s that %s's own bounds refuse; nobody checks them there", w.writer(), field.Name, w.reader())})
			continue
		}
		if witness := w.proveLimits(w.at, field); witness != nil {
			w.emit(fact, event{Breaks, fmt.Sprintf("%s may write values of %s that %s refuses", w.writer(), field.Name, w.reader()), func() *Witness { return witness }})
			continue
		}
		w.emit(fact, event{verdict: Shifts, sentence: fmt.Sprintf("%s, at values of %s that %s may write and %s may refuse", notDecided, field.Name, w.writer(), w.reader())})
	}
}

func firstFact(facts ...*Fact) *Fact {
	for _, f := range facts {
		if f != nil {
			return f
		}
	}
	return nil
}

func namedBounds(t *schema.Type) *schema.Bounds {
	if t.Named == nil {
		return nil
	}
	return t.Named.Bounds
}

// bounded tells whether a type has bounds anywhere but in messages.
func bounded(t *schema.Type, depth int) bool {
	if namedBounds(t) != nil {
		return true
	}
	switch t.Kind {
	case schema.KindList:
		return bounded(t.Elem, depth)
	case schema.KindMap:
		return bounded(t.Key, depth) || bounded(t.Elem, depth)
	case schema.KindUnion:
		return depth < 4 && slices.ContainsFunc(t.Union.Alternatives, func(a *schema.Alternative) bool { return bounded(a.Type, depth+1) })
	}
	return false
}

// candidates are values of a type at which a reader of another type may differ:
// the smallest, and those at the limits of either's bounds, at any depth but
// inside of messages.
func (w *walker) candidates(wt, rt *schema.Type, ownW, ownR *schema.Bounds, depth int) []value.Value {
	writers := []*schema.Bounds{}
	for _, b := range []*schema.Bounds{ownW, namedBounds(wt)} {
		if b != nil {
			writers = append(writers, b)
		}
	}
	list := []value.Value{w.minimals.Within(wt, ownW)}
	if rt != nil && wt.Kind == rt.Kind {
		for _, b := range []*schema.Bounds{ownR, namedBounds(rt)} {
			if b == nil {
				continue
			}
			list = append(list, value.AtLimits(wt, b)...)
			if wt.Kind == schema.KindText {
				list = append(list, textsBeyond(writers, b)...)
			}
		}
	}
	for _, b := range writers { // what the reader refuses is nearer to its own limits
		list = append(list, value.AtLimits(wt, b)...)
	}
	if depth > 4 {
		return list
	}
	same := rt != nil && wt.Kind == rt.Kind
	side := func(t *schema.Type) *schema.Type {
		if same {
			return t
		}
		return nil
	}
	switch wt.Kind {
	case schema.KindList:
		for _, item := range w.candidates(wt.Elem, side(elemOf(rt)), nil, nil, depth+1) {
			list = append(list, value.Holding(wt, ownW, item, false))
		}
	case schema.KindMap:
		for _, key := range w.candidates(wt.Key, side(keyOf(rt)), nil, nil, depth+1) {
			list = append(list, value.Holding(wt, ownW, key, true))
		}
		for _, item := range w.candidates(wt.Elem, side(elemOf(rt)), nil, nil, depth+1) {
			list = append(list, value.Holding(wt, ownW, item, false))
		}
	case schema.KindUnion:
		for _, a := range wt.Union.Alternatives {
			var other *schema.Type
			if same {
				if b := rt.Union.ByNumber(a.Number); b != nil {
					other = b.Type
				}
			}
			if a.Type.Kind == schema.KindUnion && a.Type.Union == wt.Union {
				continue
			}
			for _, item := range w.candidates(a.Type, other, nil, nil, depth+1) {
				list = append(list, &value.Union{Number: a.Number, Value: item})
			}
		}
	}
	return list
}

func elemOf(t *schema.Type) *schema.Type {
	if t == nil {
		return nil
	}
	return t.Elem
}

func keyOf(t *schema.Type) *schema.Type {
	if t == nil {
		return nil
	}
	return t.Key
}

// textsBeyond are texts that a writer's bounds allow and a reader's refuse: by
// its pattern, or by its length.
func textsBeyond(writers []*schema.Bounds, reader *schema.Bounds) []value.Value {
	var list []value.Value
	add := func(within []*schema.Bounds, breaks *schema.Bounds) {
		if text, ok := value.MatchingText(within, breaks); ok {
			list = append(list, text)
		}
	}
	if reader.Pattern != "" {
		add(writers, reader)
	}
	if l := reader.Length; l != nil {
		if l.Low > 0 {
			add(append(slices.Clone(writers), &schema.Bounds{Length: &schema.Limits{High: l.Low - 1}}), nil)
		}
		if l.High != schema.Unlimited {
			add(append(slices.Clone(writers), &schema.Bounds{Length: &schema.Limits{Low: l.High + 1, High: schema.Unlimited}}), nil)
		}
	}
	return list
}
