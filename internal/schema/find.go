package schema

import (
	"slices"
	"strings"
)

// Named is anything that has a name in definitions: a *Module, a declaration,
// a *Member, *Alternative, *Field or *Call.
type Named struct {
	FullName string
	Thing    any
}

// Everything lists what has a name, in order of full names.
func (d *Definitions) Everything() []Named {
	var list []Named
	add := func(name string, thing any) { list = append(list, Named{name, thing}) }
	for _, m := range d.Modules {
		add(m.Name, m)
		for _, decl := range m.Declarations() {
			add(head(decl).FullName(), decl)
			switch x := decl.(type) {
			case *Enum:
				for _, member := range x.Members {
					add(x.FullName()+"."+member.Name, member)
				}
			case *Union:
				for _, a := range x.Alternatives {
					add(a.FullName(), a)
				}
			case *Message:
				for _, f := range x.Fields {
					add(f.FullName(), f)
				}
			case *Service:
				for _, c := range x.Calls {
					add(c.FullName(), c)
				}
			}
		}
	}
	slices.SortStableFunc(list, func(a, b Named) int { return strings.Compare(a.FullName, b.FullName) })
	return list
}

// Find returns what a name means: a full name, or the last parts of one, such
// as "Booking" or "Bookings.book". Several are returned when it is ambiguous.
func (d *Definitions) Find(name string) []Named {
	var found []Named
	for _, n := range d.Everything() {
		if n.FullName == name {
			return []Named{n}
		}
		if strings.HasSuffix(n.FullName, "."+name) {
			found = append(found, n)
		}
	}
	return found
}

// Use is one place where a declaration is used.
type Use struct {
	By string `json:"by"` // full name of the field, alternative, type, call or example
	As string `json:"as"` // "field", "alternative", "type", "request", "answer", "error", "credential" or "example"; a part of a type is "element of field", "key of field"
}

// UsedBy lists what uses a declaration, in order of modules.
func (d *Definitions) UsedBy(thing any) []Use {
	uses := []Use{}
	for _, m := range d.Modules {
		for _, decl := range m.Declarations() {
			usesIn(decl, func(used any, use func() Use) {
				if used == thing {
					uses = append(uses, use())
				}
			})
		}
	}
	return uses
}

// usesIn calls visit with each declaration that a declaration names, and a
// function that says how.
func usesIn(decl any, visit func(used any, use func() Use)) {
	inType := func(t *Type, walk func(*Type, string, func(any, string)), name func() string, as string) {
		walk(t, as, func(used any, as string) { visit(used, func() Use { return Use{name(), as} }) })
	}
	switch x := decl.(type) {
	case *NamedType:
		inType(&x.Type, (*Type).usesBase, x.FullName, "type")
	case *Union:
		for _, a := range x.Alternatives {
			inType(a.Type, (*Type).uses, a.FullName, "alternative")
		}
	case *Message:
		for _, f := range x.Fields {
			inType(f.Type, (*Type).uses, f.FullName, "field")
		}
	case *Example:
		visit(x.Of, func() Use { return Use{x.FullName(), "example"} })
	case *Service:
		for _, c := range x.Calls {
			c.usesIn(visit)
		}
	}
}

func (c *Call) usesIn(visit func(used any, use func() Use)) {
	as := func(word string) func() Use { return func() Use { return Use{c.FullName(), word} } }
	side := func(m *Message, stream bool, word string) {
		if stream {
			word = "element of " + word
		}
		if m != nil {
			visit(m, as(word))
		}
	}
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

func (t *Type) uses(as string, visit func(used any, as string)) {
	if t.Named != nil {
		visit(t.Named, as)
		return
	}
	t.usesBase(as, visit)
}

func (t *Type) usesBase(as string, visit func(used any, as string)) {
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
		visit(t.Message, as)
	}
}

// Names lists the declarations that the text of a type names.
func (t *Type) Names() []any {
	var list []any
	t.uses("", func(used any, _ string) { list = append(list, used) })
	return list
}

// Head returns what every declaration has, or nil for what is none.
func Head(decl any) *Decl { return head(decl) }

// Uses lists the declarations that a declaration uses, once each, in order of
// full names.
func Uses(decl any) []any {
	var list []any
	usesIn(decl, func(used any, _ func() Use) {
		if !slices.Contains(list, used) && used != decl {
			list = append(list, used)
		}
	})
	slices.SortFunc(list, func(a, b any) int { return strings.Compare(head(a).FullName(), head(b).FullName()) })
	return list
}
