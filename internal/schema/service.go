package schema

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// services resolves calls, after everything that they name.
func (r *resolver) services(f *fileScope) {
	for i, d := range f.tree.Decls {
		if tree, ok := d.(*syntax.Service); ok && f.bound[i] != nil {
			r.service(f, tree, f.bound[i].(*Service))
		}
	}
}

func (r *resolver) service(f *fileScope, tree *syntax.Service, s *Service) {
	common := r.errors(f, tree.Fails)
	commonNeeds := r.needs(f, tree.Needs)
	names := map[string]used{}
	for i := range tree.Calls {
		t := &tree.Calls[i]
		c := &Call{Service: s, Name: t.Name.Text, Doc: t.Doc.Text(f.tree.Source), Place: f.place(t.Name.Span),
			Safe: t.Safe.Text != "", Idempotent: t.Idempotent.Text != "", Deprecated: t.Marks.DeprecatedWhy()}
		if before, taken := names[syntax.Fold(c.Name)]; taken {
			message := fmt.Sprintf("%q has two calls named %q", s.Name, c.Name)
			if before.name != c.Name {
				message = fmt.Sprintf("the calls %q and %q differ only in _ or case", before.name, c.Name)
			}
			r.report(c.Place, "name-twice", message, "rename one of them",
				source.Note{Place: before.place, Message: "the other is here"})
			continue
		}
		names[syntax.Fold(c.Name)] = used{c.Name, c.Place}
		c.Head = r.side(f, t.Head)
		c.Request, c.RequestStream = r.side(f, t.Request.Message), t.Request.Stream
		c.Response, c.ResponseStream = r.side(f, t.Response.Message), t.Response.Stream
		c.Fails, c.Needs = common, commonNeeds
		if len(t.Fails) > 0 {
			c.Fails = r.errors(f, t.Fails)
		}
		if t.Needs != nil {
			c.Needs = r.needs(f, t.Needs)
		}
		c.NeedsNothing = len(c.Needs) == 0 && (t.Needs != nil || tree.Needs != nil)
		if t.HTTP != nil {
			r.http(f, t, c)
		}
		s.Calls = append(s.Calls, c)
	}
}

// credential checks what a declaration of one says.
func (r *resolver) credential(f *fileScope, tree *syntax.Credential, c *Credential) {
	if c.Name == "nothing" {
		r.report(c.Place, "name-taken", "a credential is not called nothing: needs nothing means none", "choose another name")
	}
	if c.Kind == "key" {
		c.KeyPlace = f.place(tree.Text.Span)
	}
}

// Travels says where a credential travels: two that travel alike can't be sent
// together.
func (c *Credential) Travels() string {
	switch {
	case c.Kind == "":
		return c.FullName() // its mistake has been reported
	case c.Kind != "key":
		return "header authorization"
	case c.Carrier == "header":
		return "header " + strings.ToLower(c.Key)
	}
	return c.Carrier + " " + c.Key
}

// Carries says where a credential travels and what it is there: bearer and basic
// travel alike and differ, a bearer's format does not count.
func (c *Credential) Carries() string {
	if c.Kind == "key" {
		return c.Travels()
	}
	return c.Kind
}

// needs resolves which credentials are needed; nil for nothing.
func (r *resolver) needs(f *fileScope, tree *syntax.Needs) [][]*Credential {
	if tree == nil {
		return nil
	}
	var out [][]*Credential
	some := false
	for _, alternative := range tree.Alternatives {
		list := []*Credential{}
		for _, ref := range alternative {
			c, ok := r.credentialNamed(f, ref)
			if !ok {
				continue
			}
			if i := slices.IndexFunc(list, func(x *Credential) bool { return x.Travels() == c.Travels() }); i >= 0 {
				message := fmt.Sprintf("%q and %q travel in the same place (%s), so a request can't have both", list[i].Name,
					c.Name, c.Travels())
				if list[i] == c {
					message = fmt.Sprintf("%q is named twice here", c.Name)
				}
				r.report(f.place(ref.Span()), "same-carrier", message, "write | for either, or let one travel elsewhere",
					source.Note{Place: c.Place, Message: fmt.Sprintf("%q is declared here", c.Name)})
				continue
			}
			list = append(list, c)
		}
		slices.SortFunc(list, func(a, b *Credential) int { return strings.Compare(a.FullName(), b.FullName()) })
		if slices.ContainsFunc(out, func(x []*Credential) bool { return slices.Equal(x, list) }) &&
			len(alternative) == len(list) {
			r.report(f.place(tree.Span), "needs-twice", "two alternatives need the same", "remove one")
			continue
		}
		some = some || len(alternative) > 0
		out = append(out, list)
	}
	if !some {
		return nil // needs nothing
	}
	slices.SortFunc(out, func(a, b []*Credential) int { return strings.Compare(NeedsText(a), NeedsText(b)) })
	return out
}

// NeedsText joins the full names of credentials that are needed together;
// "nothing" for none.
func NeedsText(list []*Credential) string {
	if len(list) == 0 {
		return "nothing"
	}
	var names []string
	for _, c := range list {
		names = append(names, c.FullName())
	}
	return strings.Join(names, " + ")
}

func (r *resolver) credentialNamed(f *fileScope, ref syntax.Ref) (*Credential, bool) {
	decl, ok := r.lookup(f, ref.Alias, ref.Name, "credential")
	if !ok {
		return nil, false
	}
	c, isCredential := decl.(*Credential)
	if !isCredential {
		r.report(f.place(ref.Name.Span), "not-a-credential",
			fmt.Sprintf("a call needs credentials, and %q is %s", ref.Name.Text, decl.Noun()),
			"declare it as: credential "+ref.Name.Text+" = bearer",
			source.Note{Place: decl.Head().Place, Message: "it is declared here"})
	}
	return c, isCredential
}

// nothingWords are what people write by habit for ().
var nothingWords = []string{"void", "none", "nothing", "empty", "unit", "nil", "null"}

func (r *resolver) side(f *fileScope, ref *syntax.Ref) *Message {
	if ref == nil {
		return nil
	}
	if ref.Alias.Text == "" && slices.Contains(nothingWords, strings.ToLower(ref.Name.Text)) &&
		!f.declares(ref.Name.Text) {
		r.findings.Add(source.Finding{Name: "no-such-name", Place: f.place(ref.Name.Span),
			Message: fmt.Sprintf("there is no message %q", ref.Name.Text), Fix: "nothing is written ()"})
		return nil
	}
	if ref.Alias.Text == "" && scalarTypes[ref.Name.Text] != nil {
		r.report(f.place(ref.Name.Span), "not-a-message",
			fmt.Sprintf("requests and answers are messages, not %q", ref.Name.Text),
			"declare a message with one field, so that more can be added later; write () for nothing")
		return nil
	}
	decl, ok := r.lookup(f, ref.Alias, ref.Name, "message")
	if !ok {
		return nil
	}
	if m, isMessage := decl.(*Message); isMessage && !m.IsError() {
		return m
	}
	r.report(f.place(ref.Name.Span), "not-a-message",
		fmt.Sprintf("requests and answers are messages, and %q is %s", ref.Name.Text, decl.Noun()),
		"declare a message, and write its name here",
		source.Note{Place: decl.Head().Place, Message: "it is declared here"})
	return nil
}

func (r *resolver) errors(f *fileScope, refs []syntax.Ref) []*Message {
	var list []*Message
	for _, ref := range refs {
		decl, ok := r.lookup(f, ref.Alias, ref.Name, "error")
		if !ok {
			continue
		}
		m, isMessage := decl.(*Message)
		switch {
		case !isMessage || !m.IsError():
			r.report(f.place(ref.Name.Span), "not-an-error",
				fmt.Sprintf("a call fails with errors, and %q is %s", ref.Name.Text, decl.Noun()),
				"declare it as: error "+ref.Name.Text+" 409 { … }",
				source.Note{Place: decl.Head().Place, Message: "it is declared here"})
		case slices.Contains(list, m):
			r.report(f.place(ref.Name.Span), "fails-twice", fmt.Sprintf("%q is named twice here", ref.Name.Text), "remove one")
		default:
			list = append(list, m)
		}
	}
	slices.SortFunc(list, func(a, b *Message) int { return strings.Compare(a.FullName(), b.FullName()) })
	return list
}

func (f *fileScope) declares(name string) bool {
	_, found := f.decls[name]
	return found
}
