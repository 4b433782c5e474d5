package change

import (
	"cmp"
	"slices"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
)

// credential finds what changed in a credential.
func (d *Set) credential(o, n *schema.Credential) {
	if a, b := credentialText(o), credentialText(n); a != b {
		d.add(&Change{Kind: CredentialChanged, Where: o.FullName(), Old: schema.PlainText(o), New: schema.PlainText(n),
			OldDecl: o, NewDecl: n}, n.Place)
	}
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
}

func credentialText(c *schema.Credential) string {
	return c.Kind + " " + c.Carrier + " " + c.Key + " " + c.Format
}

// examples finds what came, went and changed in examples.
func (d *Set) examples() {
	of := func(m *schema.Module) []*schema.Example {
		if m == nil {
			return nil
		}
		return m.Examples
	}
	each := func(o, n *schema.Example) {
		switch {
		case n == nil:
			d.add(&Change{Kind: ExampleGone, Where: o.FullName(), Old: schema.PlainText(o), OldDecl: o}, o.Place)
		case o == nil:
			d.add(&Change{Kind: ExampleAdded, Where: n.FullName(), New: schema.PlainText(n), NewDecl: n}, n.Place)
		default:
			if d.Messages[o.Of] != n.Of || schema.ValueText(o.Value) != schema.ValueText(n.Value) {
				d.add(&Change{Kind: ExampleChanged, Where: o.FullName(), New: schema.ValueText(n.Value), OldDecl: o, NewDecl: n},
					n.Place)
			}
			d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
		}
	}
	byName := func(e *schema.Example) string { return e.Name }
	paired := map[*schema.Module]bool{}
	for _, m := range d.Old.Modules {
		paired[d.Modules[m]] = true
		pair(m.Examples, of(d.Modules[m]), byName, each)
	}
	for _, m := range d.New.Modules {
		if !paired[m] {
			pair(nil, m.Examples, byName, each)
		}
	}
}

// fieldMarks finds what changed in bounds and marks of a field.
func (d *Set) fieldMarks(p FieldPair) {
	o, n := p.Old, p.New
	if a, b := o.Bounds.String(), n.Bounds.String(); a != b {
		d.fieldChange(FieldBounds, p, a, b)
	}
	if o.JSON != n.JSON && o.JSONName() != n.JSONName() {
		d.fieldChange(FieldJSON, p, o.JSONName(), n.JSONName())
	}
	place := func(f *schema.Field) string {
		if f.In == nil {
			return ""
		}
		return strings.TrimSpace("in " + f.In.Place + " " + f.In.Name)
	}
	if place(o) != place(n) {
		d.fieldChange(FieldPlace, p, place(o), place(n))
	}
	if o.Secret && !n.Secret {
		d.fieldChange(SecretOff, p, "secret", "")
	}
	if !o.Secret && n.Secret {
		d.fieldChange(SecretOn, p, "", "secret")
	}
}

// callClauses finds what changed in the clauses of a call that are not judged
// one by one.
func (d *Set) callClauses(c CallPair) {
	o, n := c.Old, c.New
	add := func(kind Kind, old, new string) *Change {
		if old == new {
			return &Change{}
		}
		return d.add(&Change{Kind: kind, Where: o.FullName(), Old: old, New: new, Call: c}, n.Place)
	}
	add(CallHTTP, httpText(o), httpText(n))
	add(CallStream, streamText(o), streamText(n))
	add(CallNeeds, d.needsText(o), d.needsText(n)).More = slices.ContainsFunc(conversation.Alternatives(n),
		func(shown []string) bool {
			return !conversation.LetsIn(o, shown)
		})
	if o.Idempotent && !n.Idempotent {
		add(IdempotentOf, "idempotent", "")
	}
	if !o.Idempotent && n.Idempotent {
		add(IdempotentOn, "", "idempotent")
	}
}

func httpText(c *schema.Call) string {
	if c.HTTP == nil {
		return ""
	}
	return c.HTTP.Text()
}

func streamText(c *schema.Call) string {
	var sides []string
	if c.RequestStream {
		sides = append(sides, "requests")
	}
	if c.ResponseStream {
		sides = append(sides, "answers")
	}
	if len(sides) == 0 {
		return ""
	}
	return "a stream of " + strings.Join(sides, " and ")
}

// needsText is what a call needs, by NEW's names where there are such.
func (d *Set) needsText(c *schema.Call) string {
	var alternatives []string
	for _, list := range c.Needs {
		var names []string
		for _, k := range list {
			names = append(names, cmp.Or(d.known[&k.Decl], k.FullName()))
		}
		slices.Sort(names)
		alternatives = append(alternatives, cmp.Or(strings.Join(names, " + "), "nothing"))
	}
	slices.Sort(alternatives)
	return strings.Join(alternatives, " | ")
}
