package schema

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/source"
)

// checkFinite refuses messages and unions that no finite value can satisfy:
// messages that contain themselves through required fields alone, and unions
// all of whose alternatives do. What may be absent or empty ends every chain.
func checkFinite(d *Definitions, findings *source.Findings) {
	endless := endlessTypes(d)
	if len(endless) == 0 {
		return
	}
	const (
		open = iota + 1
		done
	)
	state := map[Declaration]int{}
	reported := map[Declaration]bool{}
	var chain []step
	var visit func(owner Declaration)
	visit = func(owner Declaration) {
		state[owner] = open
		for _, s := range steps(owner) {
			if !endless[s.to] {
				continue
			}
			chain = append(chain, s)
			switch state[s.to] {
			case 0:
				visit(s.to)
			case open:
				if !reported[s.to] {
					reported[s.to] = true
					reportCycle(chain, s.to, findings)
				}
			}
			chain = chain[:len(chain)-1]
		}
		state[owner] = done
	}
	for _, m := range d.Modules {
		for _, decl := range m.Declarations() {
			if endless[decl] && state[decl] == 0 {
				visit(decl)
			}
		}
	}
}

// step is a field or alternative whose value always holds another message or
// union.
type step struct {
	owner Declaration // *Message or *Union
	to    Declaration
	name  string // of the field or alternative
	typ   *Type
	place source.Place
}

// steps lists the steps out of a message or union.
func steps(owner Declaration) []step {
	var list []step
	switch o := owner.(type) {
	case *Message:
		for _, f := range o.Fields {
			if to := f.Type.always(f.Bounds); to != nil && f.Presence == Required {
				list = append(list, step{o, to, f.Name, f.Type, f.Place})
			}
		}
	case *Union:
		for _, a := range o.Alternatives {
			if to := a.Type.always(nil); to != nil {
				list = append(list, step{o, to, a.Name, a.Type, a.Place})
			}
		}
	}
	return list
}

// always returns the *Message or *Union that every value of a type holds, or
// nil. A type has at most one, as keys of maps are scalars.
func (t *Type) always(b *Bounds) Declaration {
	switch t.Kind {
	case KindMessage:
		if t.Message.IsPatch() {
			return nil
		}
		return t.Message
	case KindUnion:
		return t.Union
	case KindList, KindMap:
		filled := func(b *Bounds) bool { return b != nil && b.Count != nil && b.Count.Low > 0 }
		if filled(b) || t.Named != nil && filled(t.Named.Bounds) {
			if inner := t.Elem.always(nil); inner != nil {
				return inner
			}
		}
		if several(b) || t.Named != nil && several(t.Named.Bounds) {
			return t.Elem.unlessEmpty()
		}
	}
	return nil
}

// several tells whether a list has two different elements at least.
func several(b *Bounds) bool { return b != nil && b.Unique && b.Count != nil && b.Count.Low > 1 }

// unlessEmpty returns the *Message or *Union that every list or map holds but the empty
// one, or nil: of two different ones, one holds it.
func (t *Type) unlessEmpty() Declaration {
	if t.Kind != KindList && t.Kind != KindMap {
		return nil
	}
	return t.Elem.always(nil)
}

// endlessTypes finds the messages and unions without a finite value. It begins
// with those that hold nothing else, and goes from what is finite to what
// waits for it.
func endlessTypes(d *Definitions) map[Declaration]bool {
	// Of a message: how many of its steps are not known to be finite. Of a union: one,
	// that there is no finite one.
	waiting := map[Declaration]int{}
	by := map[Declaration][]Declaration{} // who waits for what
	var finite []Declaration
	for _, m := range d.Modules {
		for _, msg := range m.Messages {
			list := steps(msg)
			if len(list) == 0 {
				continue // nobody asks for it
			}
			waiting[msg] = len(list)
			for _, s := range list {
				by[s.to] = append(by[s.to], msg)
			}
		}
		for _, u := range m.Unions {
			list := steps(u)
			if len(list) < len(u.Alternatives) || len(list) == 0 {
				continue
			}
			waiting[u] = 1
			for _, s := range list {
				by[s.to] = append(by[s.to], u)
			}
		}
	}
	for to := range by {
		if waiting[to] == 0 {
			finite = append(finite, to)
		}
	}
	for len(finite) > 0 {
		last := len(finite) - 1
		thing := finite[last]
		finite = finite[:last]
		for _, waiter := range by[thing] {
			if waiting[waiter]--; waiting[waiter] == 0 {
				delete(waiting, waiter)
				finite = append(finite, waiter)
			}
		}
	}
	endless := map[Declaration]bool{}
	for thing, n := range waiting {
		if n > 0 {
			endless[thing] = true
		}
	}
	return endless
}

func reportCycle(chain []step, start Declaration, findings *source.Findings) {
	first := slices.IndexFunc(chain, func(s step) bool { return s.owner == start })
	var names []string
	canFix := ""
	var last step
	for _, s := range chain[first:] {
		names = append(names, s.owner.Head().Name+"."+s.name)
		if _, isMessage := s.owner.(*Message); isMessage {
			last = s
			canFix = fmt.Sprintf("make one of these fields optional, such as: %s %s?", s.name,
				s.typ.Local(s.owner.Head().Module))
		}
	}
	name := start.Head().Name
	message := fmt.Sprintf("%q can never be written: it always contains another %q", name, name)
	if len(names) > 1 {
		message += " (" + strings.Join(names, " → ") + ")"
	}
	if canFix == "" {
		last = chain[len(chain)-1]
		canFix = fmt.Sprintf("add an alternative that does not hold %q", name)
	}
	findings.Add(source.Finding{Name: "endless-type", Place: last.place, Message: message, Fix: canFix})
}
