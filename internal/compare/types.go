package compare

import (
	"fmt"
	"strconv"

	"faithfulcourier/internal/schema"
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
		f := add(TypeChanged, o.Type.LocalBase(o.Module), n.Type.LocalBase(n.Module))
		f.How, f.additive = d.typeChange(bare(o), bare(n)), d.takesMore(bare(o), bare(n), o.Bounds, n.Bounds)
	}
	if a, b := o.Bounds.String(), n.Bounds.String(); a != b {
		f := add(TypeBounds, a, b)
		if o.Type.Kind == n.Type.Kind {
			f.additive = implies(&o.Type, o.Bounds, n.Bounds) // loosened
			f.How = boundsChange(&o.Type, o.Bounds, n.Bounds)
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
				f := d.alternativeFact(AlternativeType, p, p.old.Type.Local(o.Module), p.new.Type.Local(n.Module))
				f.How, f.additive = d.typeChange(p.old.Type, p.new.Type), d.takesMore(p.old.Type, p.new.Type, nil, nil)
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
func (w *walker) union(wu, ru *schema.Union, owner *Fact) {
	fact := func(a *schema.Alternative, kinds ...Kind) *Fact {
		for _, kind := range kinds {
			for _, f := range w.altFacts[a] {
				if owner == nil && f.Kind == kind {
					return f
				}
			}
		}
		return owner
	}
	paired := w.alternativePairs(wu, ru)
	for _, ar := range ru.Alternatives {
		if paired[ar] == nil {
			w.unwritten(fact(ar, AlternativeGone), ar.Name)
		}
	}
	for _, aw := range wu.Alternatives {
		ar := paired[aw]
		p := place{writtenAlt: aw, readAlt: ar}
		listed, kinds, as := ru.ByNumber(aw.Number), []Kind{AlternativeRenumbered}, fmt.Sprintf("#%d", aw.Number)
		if w.form == "json" {
			listed, kinds, as = alternativeByJSONName(ru, aw.JSONName()), []Kind{AlternativeRenamed, AlternativeJSON}, fmt.Sprintf("%q", aw.JSONName())
			if ar != nil && aw.JSON != ar.JSON {
				kinds = []Kind{AlternativeJSON, AlternativeRenamed}
			}
		}
		if listed == ar && ar != nil {
			w.types(p, spot{wt: aw.Type, rt: ar.Type}, nil, fact(aw, AlternativeType))
			continue
		}
		if ar == nil {
			kinds = []Kind{AlternativeAdded}
			if w.newReads {
				kinds = []Kind{AlternativeGone}
			}
		}
		witness := w.witnessOf(w.at, p, &example{value: w.minimals.Within(aw.Type, nil)})
		if f := fact(aw, kinds...); listed != nil {
			w.taken(f, aw.Name, as, listed.Name, witness)
		} else {
			w.unlisted(f, aw.Name, as, ar != nil, witness)
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

func firstFact(facts ...*Fact) *Fact {
	for _, f := range facts {
		if f != nil {
			return f
		}
	}
	return nil
}
