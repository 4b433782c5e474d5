package schema

import (
	"slices"
	"strings"

	"faithfulcourier/internal/source"
)

// Element is anything in definitions that has a name: a *Module, a Declaration, or a part
// of one.
type Element interface {
	FullName() string
	// Noun says what it is, with its article: "an enum".
	Noun() string
}

// Declaration is what a module declares: a *Const, *NamedType, *Enum, *Union, *Message,
// *Example, *Credential or *Service.
type Declaration interface {
	Element
	Head() *Decl
	// Parts are what has a name in it, in order: *Member, *Alternative, *Field or *Call.
	Parts() []Element
	// Claims lists the names that it claims in the stubs of every language, its own first.
	// They are the same for all languages, so that switching on a language later never fails.
	Claims() []string
	// EachType visits the types that it holds: of its fields, of its alternatives, or what
	// it is over.
	EachType(visit func(t *Type, place source.Place))

	// visitUses visits each declaration that it names, with a function that says how.
	visitUses(visit func(used Declaration, use func() Use))
	write(c *canonical)
}

// Head returns what every declaration has.
func (d *Decl) Head() *Decl { return d }

// FullName is the module's name, a dot and the declaration's name.
func (d *Decl) FullName() string { return d.Module.Name + "." + d.Name }

// What most declarations have none of.

// Parts are none.
func (d *Decl) Parts() []Element { return nil }

// Claims are none.
func (d *Decl) Claims() []string { return nil }

// EachType visits none.
func (d *Decl) EachType(func(*Type, source.Place)) {}

func (d *Decl) visitUses(func(Declaration, func() Use)) {}

// FullName is the module's name.
func (m *Module) FullName() string { return m.Name }

// FullName is the enum's full name, a dot and the member's name.
func (m *Member) FullName() string { return m.Enum.FullName() + "." + m.Name }

// Noun is "a module".
func (*Module) Noun() string { return "a module" }

// Noun is "a constant".
func (*Const) Noun() string { return "a constant" }

// Noun is "a named type".
func (*NamedType) Noun() string { return "a named type" }

// Noun is "an enum".
func (*Enum) Noun() string { return "an enum" }

// Noun is "a member of an enum".
func (*Member) Noun() string { return "a member of an enum" }

// Noun is "a union".
func (*Union) Noun() string { return "a union" }

// Noun is "an alternative of a union".
func (*Alternative) Noun() string { return "an alternative of a union" }

// Noun is "a message" or "an error".
func (m *Message) Noun() string {
	if m.IsError() {
		return "an error"
	}
	return "a message"
}

// Noun is "a field".
func (*Field) Noun() string { return "a field" }

// Noun is "an example".
func (*Example) Noun() string { return "an example" }

// Noun is "a credential".
func (*Credential) Noun() string { return "a credential" }

// Noun is "a service".
func (*Service) Noun() string { return "a service" }

// Noun is "a call".
func (*Call) Noun() string { return "a call" }

func elements[T Element](list []T) []Element {
	all := make([]Element, len(list))
	for i, x := range list {
		all[i] = x
	}
	return all
}

// Parts are the members.
func (e *Enum) Parts() []Element { return elements(e.Members) }

// Parts are the alternatives.
func (u *Union) Parts() []Element { return elements(u.Alternatives) }

// Parts are the fields.
func (m *Message) Parts() []Element { return elements(m.Fields) }

// Parts are the calls.
func (s *Service) Parts() []Element { return elements(s.Calls) }

// EachType visits what the type is over.
func (t *NamedType) EachType(visit func(*Type, source.Place)) {
	bare := t.Type
	bare.Named = nil
	visit(&bare, t.Place)
}

// EachType visits the types of the alternatives.
func (u *Union) EachType(visit func(*Type, source.Place)) {
	for _, a := range u.Alternatives {
		visit(a.Type, a.Place)
	}
}

// EachType visits the types of the fields.
func (m *Message) EachType(visit func(*Type, source.Place)) {
	for _, f := range m.Fields {
		visit(f.Type, f.Place)
	}
}

// Within visits a type and all that it is made of: elements and keys, and what the
// unions and messages in it hold, each declaration once. visit returns false for what is
// not to be entered.
func (t *Type) Within(visit func(t *Type) bool) {
	t.within(visit, map[Declaration]bool{})
}

func (t *Type) within(visit func(t *Type) bool, seen map[Declaration]bool) {
	if !visit(t) {
		return
	}
	if t.Key != nil {
		t.Key.within(visit, seen)
	}
	if t.Elem != nil {
		t.Elem.within(visit, seen)
	}
	var inner Declaration
	switch t.Kind {
	case KindUnion:
		inner = t.Union
	case KindMessage:
		inner = t.Message
	}
	if inner == nil || seen[inner] {
		return
	}
	seen[inner] = true
	inner.EachType(func(held *Type, _ source.Place) { held.within(visit, seen) })
}

// EachType visits the types of a module's declarations.
func (m *Module) EachType(visit func(*Type, source.Place)) {
	for _, t := range m.Types {
		t.EachType(visit)
	}
	for _, u := range m.Unions {
		u.EachType(visit)
	}
	for _, msg := range m.Messages {
		msg.EachType(visit)
	}
}

// Declarations lists the declarations of a module by kind, then name: *Const,
// *NamedType, *Enum, *Union, *Message (errors last), *Example, *Credential and
// *Service.
func (m *Module) Declarations() []Declaration {
	list := make([]Declaration, 0, len(m.Consts)+len(m.Types)+len(m.Enums)+len(m.Unions)+
		len(m.Messages)+len(m.Examples)+len(m.Credentials)+len(m.Services))
	list = appendAll(list, m.Consts)
	list = appendAll(list, m.Types)
	list = appendAll(list, m.Enums)
	list = appendAll(list, m.Unions)
	messages := len(list)
	list = appendAll(list, m.Messages)
	slices.SortStableFunc(list[messages:], func(a, b Declaration) int {
		return strings.Compare(a.Noun(), b.Noun()) // "a message" before "an error"
	})
	list = appendAll(list, m.Examples)
	list = appendAll(list, m.Credentials)
	return appendAll(list, m.Services)
}

func appendAll[T Declaration](list []Declaration, more []T) []Declaration {
	for _, x := range more {
		list = append(list, x)
	}
	return list
}

// Bare is what the type is over.
func (t *NamedType) Bare() *Type { return t.Type.Bare() }

// Bare is what a named type is over, or the type itself.
func (t *Type) Bare() *Type {
	bare := *t
	bare.Named = nil
	return &bare
}

// Declaration is what a type names itself: a *NamedType, *Enum, *Union or *Message, also
// where the type is a patch of it; nil for scalars, lists and maps.
func (t *Type) Declaration() Declaration {
	switch {
	case t.Named != nil:
		return t.Named
	case t.Kind == KindEnum:
		return t.Enum
	case t.Kind == KindUnion:
		return t.Union
	case t.Kind == KindMessage:
		return t.Message.Declared()
	}
	return nil
}
