package schema

import (
	"slices"

	"faithfulcourier/internal/graph"
)

// Checked tells whether a value of the type that could be read may still be
// refused in a request: it may hold an unlisted member or alternative, or
// break bounds.
func (t *Type) Checked() bool {
	of, checked := t.checked()
	return checked || of != nil && of.checked
}

// Checked tells whether a message that could be read may still be refused in a request, as Type.Checked does. It may be
// one that no definition has, such as a body of some fields of another.
func (m *Message) Checked() bool {
	return slices.ContainsFunc(m.Fields, func(f *Field) bool { return f.Bounds.Refuse(f.Type.Kind) || f.Type.Checked() })
}

// checked is Checked, where that does not depend on the fields of a message; else it returns the message.
func (t *Type) checked() (*Message, bool) {
	if t.Named != nil && t.Named.Bounds.Refuse(t.Kind) {
		return nil, true
	}
	switch t.Kind {
	case KindEnum, KindUnion:
		return nil, true
	case KindList:
		return t.Elem.checked()
	case KindMap:
		if _, checked := t.Key.checked(); checked {
			return nil, true // a key is not a message
		}
		return t.Elem.checked()
	case KindMessage:
		return t.Message, false
	}
	return nil, false
}

// fillChecked finds the messages, and the patches that any type is, of which a value may be refused.
func fillChecked(d *Definitions) {
	var found []*Message
	within := map[*Message][]*Message{}
	for _, m := range d.Modules {
		for _, list := range [][]*Message{m.Messages, m.Patches} {
			for _, message := range list {
				for _, f := range message.Fields {
					of, checked := f.Type.checked()
					if checked || f.Bounds.Refuse(f.Type.Kind) {
						found = append(found, message)
						break
					}
					if of != nil {
						within[of] = append(within[of], message)
					}
				}
			}
		}
	}
	for m := range graph.Reached(found, within) {
		m.checked = true
	}
}
