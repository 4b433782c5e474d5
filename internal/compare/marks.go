package compare

import (
	"cmp"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
)

// Kinds of facts about bounds, marks and clauses.
const (
	CredentialAdded   Kind = "credential-added"
	CredentialGone    Kind = "credential-gone"
	CredentialRenamed Kind = "credential-renamed"
	CredentialMoved   Kind = "credential-moved"
	CredentialChanged Kind = "credential-changed"
	ExampleAdded      Kind = "example-added"
	ExampleGone       Kind = "example-gone"
	ExampleChanged    Kind = "example-changed"

	FieldBounds  Kind = "field-bounds-changed"
	FieldJSON    Kind = "field-json-name-changed"
	FieldPlace   Kind = "field-place-changed"
	SecretOn     Kind = "secret-put-on"
	SecretOff    Kind = "secret-taken-off"
	StoredOn     Kind = "stored-put-on"
	StoredOff    Kind = "stored-taken-off"
	MemberJSON   Kind = "member-json-name-changed"
	CallHTTP     Kind = "call-http-changed"
	CallStream   Kind = "call-stream-changed"
	CallNeeds    Kind = "call-needs-changed"
	IdempotentOn Kind = "call-idempotent-put-on"
	IdempotentOf Kind = "call-idempotent-taken-off"
)

// notDecided begins the sentence of what is not judged.
const notDecided = "this version of faithful does not decide whether this breaks: look at it yourself"

// credential finds what changed in a credential.
func (d *differ) credential(o, n *schema.Credential) {
	if a, b := credentialText(o), credentialText(n); a != b {
		d.add(&Fact{Kind: CredentialChanged, Where: o.FullName(), Old: schema.PlainText(o), New: schema.PlainText(n), oldAny: o, newAny: n}, n.Place)
	}
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
}

func credentialText(c *schema.Credential) string {
	return c.Kind + " " + c.Carrier + " " + c.Key + " " + c.Format
}

// examples finds what came, went and changed in examples.
func (d *differ) examples() {
	of := func(m *schema.Module) []*schema.Example {
		if m == nil {
			return nil
		}
		return m.Examples
	}
	each := func(o, n *schema.Example) {
		switch {
		case n == nil:
			d.add(&Fact{Kind: ExampleGone, Where: o.FullName(), Old: schema.PlainText(o), oldAny: o}, o.Place)
		case o == nil:
			d.add(&Fact{Kind: ExampleAdded, Where: n.FullName(), New: schema.PlainText(n), newAny: n}, n.Place)
		default:
			if d.messages[o.Of] != n.Of || schema.ValueText(o.Value) != schema.ValueText(n.Value) {
				d.add(&Fact{Kind: ExampleChanged, Where: o.FullName(), New: schema.ValueText(n.Value), oldAny: o, newAny: n}, n.Place)
			}
			d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
		}
	}
	byName := func(e *schema.Example) string { return e.Name }
	paired := map[*schema.Module]bool{}
	for _, m := range d.old.Modules {
		paired[d.modules[m]] = true
		pair(m.Examples, of(d.modules[m]), byName, each)
	}
	for _, m := range d.new.Modules {
		if !paired[m] {
			pair(nil, m.Examples, byName, each)
		}
	}
}

// fieldMarks finds what changed in bounds and marks of a field.
func (d *differ) fieldMarks(p fieldPair) {
	o, n := p.old, p.new
	if a, b := o.Bounds.String(), n.Bounds.String(); a != b {
		f := d.fieldFact(FieldBounds, p, a, b)
		if o.Type.Kind == n.Type.Kind {
			f.additive = implies(o.Type, o.Bounds, n.Bounds) // loosened
			f.How = boundsChange(o.Type, o.Bounds, n.Bounds)
		}
	}
	if o.JSON != n.JSON && o.JSONName() != n.JSONName() {
		d.fieldFact(FieldJSON, p, o.JSONName(), n.JSONName())
	}
	place := func(f *schema.Field) string {
		if f.In == nil {
			return ""
		}
		return strings.TrimSpace("in " + f.In.Place + " " + f.In.Name)
	}
	if place(o) != place(n) {
		d.fieldFact(FieldPlace, p, place(o), place(n))
	}
	if o.Secret && !n.Secret {
		d.fieldFact(SecretOff, p, "secret", "")
	}
	if !o.Secret && n.Secret {
		d.fieldFact(SecretOn, p, "", "secret")
	}
}

// callClauses finds what changed in the clauses of a call that are not judged
// one by one.
func (d *differ) callClauses(c callPair) {
	o, n := c.old, c.new
	add := func(kind Kind, old, new string) *Fact {
		if old == new {
			return &Fact{}
		}
		return d.add(&Fact{Kind: kind, Where: o.FullName(), Old: old, New: new, call: c}, n.Place)
	}
	add(CallHTTP, httpText(o), httpText(n))
	add(CallStream, streamText(o), streamText(n))
	add(CallNeeds, d.needsText(o), d.needsText(n)).additive = slices.ContainsFunc(alternatives(n), func(shown []string) bool { return !letsIn(o, shown) })
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
func (d *differ) needsText(c *schema.Call) string {
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

// marks judges what was taken off: nothing is read otherwise, but a promise is
// gone.
func (j *judge) marks(f *Fact) {
	effect := Effect{Position: All, NewReads: true, Verdict: Shifts}
	if f.call.old != nil {
		effect.Position, effect.Calls = Request, []string{callName(f.call.old)}
	}
	shifts := func(forms []string, sentence string) {
		for _, form := range forms {
			if j.promised(form) {
				e := effect
				e.Form, e.Sentence = form, sentence
				f.Effects = append(f.Effects, &e)
			}
		}
	}
	for _, e := range f.Effects {
		f.open = f.open || strings.HasPrefix(e.Sentence, notDecided)
	}
	switch f.Kind {
	case SecretOff:
		shifts(j.promise.Forms, "what was kept out of logs may now be in them")
	case StoredOff:
		shifts(j.promise.Forms, "older payloads that are kept somewhere are no longer promised to be read")
	case IdempotentOf:
		if j.promise.Rollout != "client-leads" {
			shifts([]string{"http"}, "an older client takes the call for idempotent and may send it again")
		}
	case IdempotentOn:
		if j.promise.Rollout != "server-leads" {
			shifts([]string{"http"}, "a newer client takes the call for idempotent and may send it again to an older server")
		}
	}
}
