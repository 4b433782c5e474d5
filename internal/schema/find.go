package schema

import (
	"slices"
	"strings"
)

// Everything lists what has a name, in order of full names.
func (d *Definitions) Everything() []Element {
	var list []Element
	for _, m := range d.Modules {
		list = append(list, m)
		for _, decl := range m.Declarations() {
			list = append(append(list, decl), decl.Parts()...)
		}
	}
	slices.SortStableFunc(list, func(a, b Element) int { return strings.Compare(a.FullName(), b.FullName()) })
	return list
}

// Find returns what a name means: a full name, or the last parts of one, such
// as "Booking" or "Bookings.book". Several are returned when it is ambiguous.
func (d *Definitions) Find(name string) []Element {
	var found []Element
	for _, x := range d.Everything() {
		full := x.FullName()
		if full == name {
			return []Element{x}
		}
		if strings.HasSuffix(full, "."+name) {
			found = append(found, x)
		}
	}
	return found
}

// Use is one place where a declaration is used.
type Use struct {
	By string `json:"by"` // full name of the field, alternative, type, call or example
	As string `json:"as"` // "field", "alternative", "type", "request", "head", "answer", "error", "credential" or "example"; a part of a type is "element of field", "key of field"; a patch "field, as patch"
}

// Users lists what uses each declaration, as UsedBy does for one.
func (d *Definitions) Users() map[Declaration][]Use {
	users := map[Declaration][]Use{}
	for _, m := range d.Modules {
		for _, decl := range m.Declarations() {
			decl.visitUses(func(used Declaration, use func() Use) { users[used] = append(users[used], use()) })
		}
	}
	return users
}

// UsedBy lists what uses a declaration, in order of modules.
func (d *Definitions) UsedBy(thing Element) []Use {
	uses := []Use{}
	for _, m := range d.Modules {
		for _, decl := range m.Declarations() {
			decl.visitUses(func(used Declaration, use func() Use) {
				if Element(used) == thing {
					uses = append(uses, use())
				}
			})
		}
	}
	return uses
}

func (t *NamedType) visitUses(visit func(used Declaration, use func() Use)) {
	t.Type.usesBase("type", func(used Declaration, as string) { visit(used, func() Use { return Use{t.FullName(), as} }) })
}

func (u *Union) visitUses(visit func(used Declaration, use func() Use)) {
	for _, a := range u.Alternatives {
		a.Type.uses("alternative", func(used Declaration,
			as string) {
			visit(used, func() Use { return Use{a.FullName(), as} })
		})
	}
}

func (m *Message) visitUses(visit func(used Declaration, use func() Use)) {
	for _, f := range m.Fields {
		f.Type.uses("field", func(used Declaration, as string) { visit(used, func() Use { return Use{f.FullName(), as} }) })
	}
}

func (e *Example) visitUses(visit func(used Declaration, use func() Use)) {
	visit(e.Of, func() Use { return Use{e.FullName(), "example"} })
}

func (s *Service) visitUses(visit func(used Declaration, use func() Use)) {
	for _, c := range s.Calls {
		c.visitUses(visit)
	}
}

func (c *Call) visitUses(visit func(used Declaration, use func() Use)) {
	as := func(word string) func() Use { return func() Use { return Use{c.FullName(), word} } }
	side := func(m *Message, stream bool, word string) {
		if stream {
			word = "element of " + word
		}
		if m != nil {
			visit(m, as(word))
		}
	}
	side(c.Head, false, "head")
	side(c.Request, c.RequestStream, "request")
	side(c.Response, c.ResponseStream, "answer")
	for _, e := range c.Fails {
		visit(e, as("error"))
	}
	for i, alternative := range c.Needs {
		for _, k := range alternative {
			if !slices.ContainsFunc(c.Needs[:i], func(before []*Credential) bool { return slices.Contains(before, k) }) {
				visit(k, as("credential"))
			}
		}
	}
}

func (t *Type) uses(as string, visit func(used Declaration, as string)) {
	if t.Named != nil {
		visit(t.Named, as)
		return
	}
	t.usesBase(as, visit)
}

func (t *Type) usesBase(as string, visit func(used Declaration, as string)) {
	inside := as
	if !strings.Contains(as, " of ") {
		inside = "element of " + as
	}
	switch t.Kind {
	case KindList:
		t.Elem.uses(inside, visit)
	case KindMap:
		t.Key.uses(strings.Replace(inside, "element of", "key of", 1), visit)
		t.Elem.uses(inside, visit)
	case KindEnum:
		visit(t.Enum, as)
	case KindUnion:
		visit(t.Union, as)
	case KindMessage:
		if of := t.Message.PatchOf; of != nil {
			visit(of, as+", as patch")
			return
		}
		visit(t.Message, as)
	}
}

// Names lists the declarations that the text of a type names.
func (t *Type) Names() []Declaration {
	var list []Declaration
	t.uses("", func(used Declaration, _ string) { list = append(list, used) })
	return list
}

// Uses lists the declarations that a declaration uses, once each, in order of
// full names.
func Uses(decl Declaration) []Declaration {
	var list []Declaration
	decl.visitUses(func(used Declaration, _ func() Use) {
		if !slices.Contains(list, used) && used != decl {
			list = append(list, used)
		}
	})
	slices.SortFunc(list, func(a, b Declaration) int { return strings.Compare(a.Head().FullName(), b.Head().FullName()) })
	return list
}
