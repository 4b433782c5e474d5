package schema

import (
	"fmt"
	"strconv"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// newPatch is the patch of a message, whose fields come when those of the message are
// known.
func newPatch(of *Message) *Message {
	p := &Message{Decl: Decl{Module: of.Module, Name: of.Name + "Patch", Place: of.Place, Deprecated: of.Deprecated},
		PatchOf: of, Smallest: 1}
	p.typ = Type{Kind: KindMessage, Message: p}
	return p
}

// patch resolves "patch" and the name of a message.
func (r *resolver) patch(f *fileScope, t *syntax.Type) *Type {
	if scalar := scalarTypes[t.Name.Text]; scalar != nil && t.Alias.Text == "" {
		r.report(f.place(t.Name.Span), "not-a-message", fmt.Sprintf("a patch is of a message, and %q is a scalar",
			t.Name.Text), "leave out \"patch\"")
		return invalidType
	}
	decl, ok := r.lookup(f, t.Alias, t.Name, "message")
	if !ok {
		return invalidType
	}
	m, isMessage := decl.(*Message)
	if isMessage && !m.IsError() {
		return &m.patch.typ
	}
	r.report(f.place(t.Name.Span), "not-a-message", fmt.Sprintf("a patch is of a message, and %q is %s", t.Name.Text,
		decl.Noun()), "write the name of a message, or leave out \"patch\"",
		source.Note{Place: decl.Head().Place, Message: "it is declared here"})
	return invalidType
}

// fillPatches gives the patches that any type is their fields.
func fillPatches(d *Definitions) {
	var fill func(t *Type, place source.Place)
	fill = func(t *Type, place source.Place) {
		if t.Elem != nil && t.Named == nil { // what a named type is over is visited where it is declared
			fill(t.Elem, place)
		}
		if p := t.Message; t.Kind == KindMessage && p.IsPatch() && p.Fields == nil {
			p.fill()
			p.Module.Patches = append(p.Module.Patches, p)
		}
	}
	for _, m := range d.Modules {
		m.EachType(fill)
	}
}

// fill makes the fields of a patch: those of the message, none of which must be there, and
// null where the message can do without.
func (m *Message) fill() {
	m.Fields = make([]*Field, len(m.PatchOf.Fields))
	m.Doc = "What of a " + strconv.Quote(m.PatchOf.Name) + " is to be changed."
	for i, of := range m.PatchOf.Fields {
		f := *of
		t := *of.Type
		t.Clearable = of.Presence != Required
		f.Message, f.Type, f.Presence, f.Default, f.Changes = m, &t, Optional, nil, of
		m.Fields[i] = &f
	}
}
