package schema

import (
	"slices"
	"strings"
)

// Named is anything that has a name in definitions: a *Module, *Const, *Enum,
// *Member, *Message, *Field, *Service or *Call.
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
		for _, c := range m.Consts {
			add(c.FullName(), c)
		}
		for _, e := range m.Enums {
			add(e.FullName(), e)
			for _, x := range e.Members {
				add(e.FullName()+"."+x.Name, x)
			}
		}
		for _, msg := range m.Messages {
			add(msg.FullName(), msg)
			for _, f := range msg.Fields {
				add(f.FullName(), f)
			}
		}
		for _, s := range m.Services {
			add(s.FullName(), s)
			for _, c := range s.Calls {
				add(c.FullName(), c)
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
	By string `json:"by"` // full name of the field or call
	As string `json:"as"` // "field", "request", "answer" or "error"
}

// UsedBy lists the fields and calls that use an enum, message or error.
func (d *Definitions) UsedBy(thing any) []Use {
	uses := []Use{}
	var holds func(t *Type) bool
	holds = func(t *Type) bool {
		switch t.Kind {
		case KindList, KindMap:
			return holds(t.Elem)
		case KindEnum:
			return thing == t.Enum
		case KindMessage:
			return thing == t.Message
		}
		return false
	}
	for _, m := range d.Modules {
		for _, msg := range m.Messages {
			for _, f := range msg.Fields {
				if holds(f.Type) {
					uses = append(uses, Use{f.FullName(), "field"})
				}
			}
		}
	}
	for _, c := range d.Calls() {
		if c.Request != nil && thing == c.Request {
			uses = append(uses, Use{c.FullName(), "request"})
		}
		if c.Response != nil && thing == c.Response {
			uses = append(uses, Use{c.FullName(), "answer"})
		}
		for _, e := range c.Fails {
			if thing == e {
				uses = append(uses, Use{c.FullName(), "error"})
			}
		}
	}
	return uses
}
