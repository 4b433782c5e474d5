package change

import (
	"fmt"
	"strconv"

	"faithfulcourier/internal/schema"
)

// pairedTypes tells whether both types are named, and one is the other's
// counterpart.
func (d *Set) PairedTypes(o, n *schema.Type) bool {
	return o.Named != nil && n.Named != nil && d.Types[o.Named] == n.Named
}

// namedType finds what changed in a named type.
func (d *Set) namedType(o, n *schema.NamedType) {
	add := func(kind Kind, old, new string) *Change {
		f := d.add(&Change{Kind: kind, Where: o.FullName(), Old: old, New: new, OldDecl: o, NewDecl: n}, n.Place)
		d.OfType[o], d.OfType[n] = append(d.OfType[o], f), append(d.OfType[n], f)
		return f
	}
	if !d.SameType(o.Bare(), n.Bare()) {
		add(TypeChanged, o.Type.LocalBase(o.Module), n.Type.LocalBase(n.Module))
	}
	if a, b := o.Bounds.String(), n.Bounds.String(); a != b {
		add(TypeBounds, a, b)
	}
	if o.Secret && !n.Secret {
		add(SecretOff, "secret", "")
	}
	if !o.Secret && n.Secret {
		add(SecretOn, "", "secret")
	}
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
}

// TypeChange finds the change of a kind about a named type.
func (d *Set) TypeChange(t *schema.NamedType, kind Kind) *Change {
	if t == nil {
		return nil
	}
	for _, f := range d.OfType[t] {
		if f.Kind == kind {
			return f
		}
	}
	return nil
}

// pairAlternatives pairs the alternatives of two unions, as fields are.
func PairAlternatives(o, n *schema.Union) []AlternativePair {
	return pairNumbered(o.Alternatives, n.Alternatives,
		func(a *schema.Alternative) (int, string, string) { return a.Number, a.Name, a.Type.String() },
		func(a, b *schema.Alternative) AlternativePair { return AlternativePair{a, b} })
}

// union finds what changed in a union.
func (d *Set) union(o, n *schema.Union) {
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
	for _, p := range PairAlternatives(o, n) {
		switch {
		case p.New == nil:
			d.alternativeChange(AlternativeGone, p, alternativeText(p.Old), "").Missed = n.Place
		case p.Old == nil:
			d.alternativeChange(AlternativeAdded, p, "", alternativeText(p.New))
		default:
			if p.Old.Name != p.New.Name {
				d.alternativeChange(AlternativeRenamed, p, p.Old.Name, p.New.Name)
			}
			if p.Old.Number != p.New.Number {
				d.alternativeChange(AlternativeRenumbered, p, "#"+strconv.Itoa(p.Old.Number), "#"+strconv.Itoa(p.New.Number))
			}
			if p.Old.JSON != p.New.JSON && p.Old.JSONName() != p.New.JSONName() {
				d.alternativeChange(AlternativeJSON, p, p.Old.JSONName(), p.New.JSONName())
			}
			if !d.SameType(p.Old.Type, p.New.Type) {
				d.alternativeChange(AlternativeType, p, p.Old.Type.Local(o.Module), p.New.Type.Local(n.Module))
			}
			d.words(p.Old.FullName(), p.Old.Doc, p.New.Doc, p.Old.Deprecated, p.New.Deprecated, p.New.Place)
		}
	}
	d.retired(o.FullName(), o.Retired, n.Retired, n.Place)
}

func alternativeText(a *schema.Alternative) string {
	return fmt.Sprintf("#%d %s %s", a.Number, a.Name, a.Type.Local(a.Union.Module))
}

func (d *Set) alternativeChange(kind Kind, p AlternativePair, old, new string) *Change {
	f := &Change{Kind: kind, Old: old, New: new, Alternative: p}
	at := p.New
	if p.Old != nil {
		f.Where = p.Old.FullName()
	} else {
		f.Where = p.New.FullName()
	}
	if at == nil {
		at = p.Old
	}
	d.add(f, at.Place)
	for _, side := range []*schema.Alternative{p.Old, p.New} {
		if side != nil {
			d.OfAlternative[side] = append(d.OfAlternative[side], f)
		}
	}
	return f
}
