package compare

import (
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
)

// Kinds of facts about bounds, marks and clauses.
const (
	CredentialAdded   Kind = "credential-added"
	CredentialGone    Kind = "credential-gone"
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

// declarations finds what came, went and changed in declarations that are
// compared by their text.
func (d *differ) declarations() {
	for _, c := range []struct {
		of                   func(*schema.Module) []any
		added, gone, changed Kind
	}{
		{func(m *schema.Module) []any { return anys(m.Credentials) }, CredentialAdded, CredentialGone, CredentialChanged},
		{func(m *schema.Module) []any { return anys(m.Examples) }, ExampleAdded, ExampleGone, ExampleChanged},
	} {
		old, new := byName(d.old, c.of), byName(d.new, c.of)
		for _, name := range sortedNames(old, new) {
			o, n := old[name], new[name]
			switch {
			case n == nil:
				d.add(&Fact{Kind: c.gone, Where: name, Old: schema.PlainText(o), oldAny: o}, schema.Head(o).Place)
			case o == nil:
				d.add(&Fact{Kind: c.added, Where: name, New: schema.PlainText(n), newAny: n}, schema.Head(n).Place)
			default:
				a, b := schema.Head(o), schema.Head(n)
				if oldText, newText := schema.PlainText(o), schema.PlainText(n); oldText != newText {
					if e, isExample := n.(*schema.Example); isExample {
						oldText, newText = "", schema.ValueText(e.Value)
					}
					d.add(&Fact{Kind: c.changed, Where: name, Old: oldText, New: newText, oldAny: o, newAny: n}, b.Place)
				}
				d.words(name, a.Doc, b.Doc, a.Deprecated, b.Deprecated, b.Place)
			}
		}
	}
}

func anys[T any](list []*T) []any {
	var out []any
	for _, x := range list {
		out = append(out, x)
	}
	return out
}

func byName(d *schema.Definitions, of func(*schema.Module) []any) map[string]any {
	all := map[string]any{}
	for _, m := range d.Modules {
		for _, x := range of(m) {
			all[schema.Head(x).FullName()] = x
		}
	}
	return all
}

func sortedNames(old, new map[string]any) []string {
	var names []string
	for name := range old {
		names = append(names, name)
	}
	for name := range new {
		if old[name] == nil {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// fieldMarks finds what changed in bounds and marks of a field.
func (d *differ) fieldMarks(p fieldPair) {
	o, n := p.old, p.new
	if a, b := o.Bounds.String(), n.Bounds.String(); a != b {
		f := d.fieldFact(FieldBounds, p, a, b)
		f.additive = implies(o.Type.Kind, []*schema.Bounds{o.Bounds}, n.Bounds) // loosened
	}
	if o.JSON != n.JSON {
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
	add := func(kind Kind, old, new string) {
		if old != new {
			d.add(&Fact{Kind: kind, Where: o.FullName(), Old: old, New: new, call: c}, n.Place)
		}
	}
	add(CallHTTP, httpText(o), httpText(n))
	add(CallStream, streamText(o), streamText(n))
	add(CallNeeds, needsText(o), needsText(n))
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

func needsText(c *schema.Call) string {
	var alternatives []string
	for _, list := range c.Needs {
		alternatives = append(alternatives, schema.NeedsText(list))
	}
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
