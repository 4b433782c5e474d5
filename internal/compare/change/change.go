// Package change finds what changed between two definitions, without any opinion of it.
// It must not know payloads, languages or promises.
//
//	kinds.go   the kinds of changes
//	pairs.go   what of two definitions belongs together
//	change.go  pairs → changes: of fields, members and calls
//	marks.go   of bounds, names in JSON, places and clauses
//	types.go   of named types and unions
package change

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// Pair is what OLD has and its counterpart in NEW; either may be nil.
type Pair[T any] struct{ Old, New *T }

// The pairs of what declarations hold, and of modules.
type (
	FieldPair       = Pair[schema.Field]
	MemberPair      = Pair[schema.Member]
	AlternativePair = Pair[schema.Alternative]
	CallPair        = Pair[schema.Call]
	ModulePair      = Pair[schema.Module]
)

// Change is one difference between two definitions.
type Change struct {
	Kind   Kind
	Where  string       // full name of the element, OLD's where there is one
	Old    string       // how it was, or ""
	New    string       // how it is, or ""
	How    string       // of a type or of bounds: "widened", "tightened"…; or ""
	Place  source.Place // in NEW where it is there, else in OLD
	InOld  bool         // the place is in OLD
	Missed source.Place // then: what held it, in NEW, where that is there
	More   bool         // something is allowed now that was not: another value, another way to be let in

	// What it is about: one of these.
	Field       FieldPair
	Member      MemberPair
	Alternative AlternativePair
	Call        CallPair
	Modules     ModulePair
	OldDecl     schema.Declaration // in OLD, or nil
	NewDecl     schema.Declaration

	inNew bool // the place is, though nothing else says so
}

// Module is the name of the module that a change is about, OLD's where there is one.
func (c *Change) Module() string {
	switch {
	case c.Modules.Old != nil:
		return c.Modules.Old.Name
	case c.Modules.New != nil:
		return c.Modules.New.Name
	case c.OldDecl != nil:
		return c.OldDecl.Head().Module.Name
	case c.NewDecl != nil:
		return c.NewDecl.Head().Module.Name
	}
	// What stands before the first name that is not lower case.
	parts := strings.Split(c.Where, ".")
	if i := slices.IndexFunc(parts, func(part string) bool { return part != strings.ToLower(part) }); i >= 0 {
		parts = parts[:i]
	}
	return strings.Join(parts, ".")
}

// FromTo is what a change was before, and is now, on one line.
func (c *Change) FromTo() string {
	old, new, how := OneBlank(c.Old), OneBlank(c.New), ""
	if c.How != "" {
		how = " (" + c.How + ")"
	}
	switch {
	case old == "":
		return new + how
	case new == "":
		return "was " + old + how
	}
	return old + " → " + new + how
}

// OneBlank makes runs of blanks one, but in strings: columns of a definition have no
// meaning elsewhere.
func OneBlank(line string) string {
	var b strings.Builder
	quoted := false
	for i, r := range line {
		if r == ' ' && !quoted && i > 0 && line[i-1] == ' ' {
			continue
		}
		if r == '"' && (i == 0 || line[i-1] != '\\') {
			quoted = !quoted
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Set is the changes from OLD to NEW, and what of the two belongs together.
type Set struct {
	Old, New *schema.Definitions
	Changes  []*Change

	// What is paired: OLD → NEW.
	Messages map[*schema.Message]*schema.Message
	Enums    map[*schema.Enum]*schema.Enum
	Types    map[*schema.NamedType]*schema.NamedType
	Unions   map[*schema.Union]*schema.Union
	Modules  map[*schema.Module]*schema.Module
	Calls    []CallPair // both there

	// The changes by what they are about, on either side.
	OfField       map[*schema.Field][]*Change
	OfMember      map[*schema.Member][]*Change
	OfType        map[*schema.NamedType][]*Change
	OfAlternative map[*schema.Alternative][]*Change
	OfCall        map[CallPair][]*Change

	known      map[*schema.Decl]string      // NEW's full name of what is paired, by either side
	between    func() []*schema.Definitions // the versions between, oldest first; nil once they were asked
	heirNames  map[string]string
	goneCalls  []goneCall // by name, in services that are paired or not
	addedCalls []*schema.Call
	paired     map[[2]*schema.Message][]FieldPair
}

func newSet(old, new *schema.Definitions) *Set {
	return &Set{Old: old, New: new,
		Messages: map[*schema.Message]*schema.Message{}, Enums: map[*schema.Enum]*schema.Enum{},
		Types: map[*schema.NamedType]*schema.NamedType{}, Unions: map[*schema.Union]*schema.Union{},
		Modules: map[*schema.Module]*schema.Module{},
		OfField: map[*schema.Field][]*Change{}, OfMember: map[*schema.Member][]*Change{},
		OfType: map[*schema.NamedType][]*Change{}, OfAlternative: map[*schema.Alternative][]*Change{},
		OfCall: map[CallPair][]*Change{},
		known:  map[*schema.Decl]string{}, paired: map[[2]*schema.Message][]FieldPair{}}
}

// Find finds the changes from OLD to NEW. between gives the versions between the two,
// oldest first, or is nil: what one of them renamed or moved, and a later one changed, is
// found through them. They are asked for only where something is gone and something has
// appeared.
func Find(old, new *schema.Definitions, between func() []*schema.Definitions) *Set {
	d := newSet(old, new)
	d.between = between
	d.pairAll()
	for _, om := range old.Modules {
		for _, m := range om.Messages {
			if n := d.Messages[m]; n != nil {
				d.message(m, n)
			}
		}
		for _, e := range om.Enums {
			if n := d.Enums[e]; n != nil {
				d.enum(e, n)
			}
		}
		for _, t := range om.Types {
			if n := d.Types[t]; n != nil {
				d.namedType(t, n)
			}
		}
		for _, u := range om.Unions {
			if n := d.Unions[u]; n != nil {
				d.union(u, n)
			}
		}
		if n := d.Modules[om]; n != nil {
			d.words(om.Name, om.Doc, n.Doc, "", "", n.Place)
		}
	}
	for _, c := range d.Calls {
		d.call(c)
	}
	d.examples()
	return d
}

func (d *Set) add(f *Change, place source.Place) *Change {
	f.Place = place
	f.InOld = f.New == "" && !f.inNew && f.NewDecl == nil && f.Modules.New == nil && f.Field.New == nil &&
		f.Member.New == nil && f.Alternative.New == nil && f.Call.New == nil
	d.Changes = append(d.Changes, f)
	if f.Call.Old != nil && f.Call.New != nil {
		d.OfCall[f.Call] = append(d.OfCall[f.Call], f)
	}
	return f
}

func literal(f *schema.Field) string {
	if f.Presence != schema.Defaulted {
		return ""
	}
	return schema.LiteralText(f.Default)
}

func (d *Set) constant(o, n *schema.Const) {
	if o.Type.Kind != n.Type.Kind || schema.LiteralText(o.Value) != schema.LiteralText(n.Value) {
		d.add(&Change{Kind: ConstChanged, Where: o.FullName(),
			Old: o.Type.Kind.String() + " = " + schema.LiteralText(o.Value),
			New: n.Type.Kind.String() + " = " + schema.LiteralText(n.Value), OldDecl: o, NewDecl: n}, n.Place)
	}
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
}

// words finds what changed in documentation and deprecation: that holds.
func (d *Set) words(where, oldDoc, newDoc, oldWhy, newWhy string, place source.Place) {
	if oldDoc != newDoc {
		d.add(&Change{Kind: Documentation, Where: where, Old: firstLine(oldDoc), New: firstLine(newDoc), inNew: true}, place)
	}
	switch {
	case oldWhy == newWhy:
	case newWhy == "":
		d.add(&Change{Kind: Undeprecated, Where: where, Old: oldWhy, inNew: true}, place)
	default:
		d.add(&Change{Kind: Deprecated, Where: where, New: newWhy}, place)
	}
}

func firstLine(s string) string {
	line, _, more := strings.Cut(s, "\n")
	if more {
		line += " …"
	}
	return line
}

func side(m *schema.Message) string {
	if m == nil {
		return "()"
	}
	return m.Name
}

func signature(c *schema.Call) string {
	streamed := func(m *schema.Message, stream bool) string {
		if stream {
			return "stream " + side(m)
		}
		return side(m)
	}
	request := side(c.Request)
	if c.Request != nil {
		request = "(" + streamed(c.Request, c.RequestStream) + ")"
		if c.Head != nil {
			request = "(" + c.Head.Name + ", " + streamed(c.Request, true) + ")"
		}
	}
	return c.Name + request + " -> " + streamed(c.Response, c.ResponseStream)
}

func (d *Set) call(c CallPair) {
	o, n := c.Old, c.New
	where := o.FullName()
	paired := func(a, b *schema.Message) bool {
		return a == nil && b == nil || a != nil && b != nil && d.Messages[a] == b
	}
	if !paired(o.Request, n.Request) {
		d.add(&Change{Kind: CallRequest, Where: where, Old: side(o.Request), New: side(n.Request), Call: c}, n.Place)
	}
	if o.RequestStream && n.RequestStream && !paired(o.Head, n.Head) {
		d.add(&Change{Kind: CallHead, Where: where, Old: side(o.Head), New: side(n.Head), Call: c}, n.Place)
	}
	if !paired(o.Response, n.Response) {
		d.add(&Change{Kind: CallAnswer, Where: where, Old: side(o.Response), New: side(n.Response), Call: c}, n.Place)
	}
	if o.Safe && !n.Safe {
		d.add(&Change{Kind: CallUnsafe, Where: where, Old: "safe", Call: c}, n.Place)
	}
	if !o.Safe && n.Safe {
		d.add(&Change{Kind: CallSafe, Where: where, New: "safe", Call: c}, n.Place)
	}
	d.callClauses(c)
	for _, e := range o.Fails {
		if !slices.Contains(n.Fails, d.Messages[e]) || d.Messages[e] == nil {
			d.add(&Change{Kind: FailsGone, Where: where, Old: e.FullName(), Call: c, OldDecl: e}, n.Place)
		}
	}
	for _, e := range n.Fails {
		if !slices.ContainsFunc(o.Fails, func(x *schema.Message) bool { return d.Messages[x] == e }) {
			d.add(&Change{Kind: FailsAdded, Where: where, New: e.FullName(), Call: c, NewDecl: e}, n.Place)
		}
	}
	d.words(where, o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
}

func (d *Set) fieldChange(kind Kind, p FieldPair, old, new string) *Change {
	f := &Change{Kind: kind, Old: old, New: new, Field: p}
	at := p.New
	if p.Old != nil {
		f.Where = p.Old.FullName()
	} else {
		f.Where = p.New.FullName()
	}
	if at == nil {
		at = p.Old
	}
	d.add(f, at.Place)
	for _, side := range []*schema.Field{p.Old, p.New} {
		if side != nil {
			d.OfField[side] = append(d.OfField[side], f)
		}
	}
	return f
}

func (d *Set) message(o, n *schema.Message) {
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
	if o.Status != n.Status {
		d.add(&Change{Kind: ErrorStatus, Where: o.FullName(), Old: strconv.Itoa(o.Status), New: strconv.Itoa(n.Status),
			OldDecl: o, NewDecl: n}, n.Place)
	}
	if o.Stored && !n.Stored {
		d.add(&Change{Kind: StoredOff, Where: o.FullName(), Old: "stored", OldDecl: o, NewDecl: n}, n.Place)
	}
	if !o.Stored && n.Stored {
		d.add(&Change{Kind: StoredOn, Where: o.FullName(), New: "stored", OldDecl: o, NewDecl: n}, n.Place)
	}
	for _, p := range d.Fields(o, n) {
		switch {
		case p.New == nil:
			d.fieldChange(FieldGone, p, FieldText(p.Old), "").Missed = n.Place
		case p.Old == nil:
			d.fieldChange(FieldAdded, p, "", FieldText(p.New))
		default:
			d.field(p)
		}
	}
	d.retired(o.FullName(), o.Retired, n.Retired, n.Place)
}

// FieldText writes a field as the language does.
func FieldText(f *schema.Field) string {
	return fmt.Sprintf("#%d %s %s", f.Number, f.Name, typeText(f))
}

func typeText(f *schema.Field) string {
	t := f.Type.Local(f.Message.Module)
	switch f.Presence {
	case schema.Optional:
		return t + "?"
	case schema.Defaulted:
		return t + " = " + schema.LiteralText(f.Default)
	}
	return t
}

func (d *Set) field(p FieldPair) {
	o, n := p.Old, p.New
	if o.Name != n.Name {
		d.fieldChange(FieldRenamed, p, o.Name, n.Name)
	}
	if o.Number != n.Number {
		d.fieldChange(FieldRenumbered, p, "#"+strconv.Itoa(o.Number), "#"+strconv.Itoa(n.Number))
	}
	if !d.SameType(o.Type, n.Type) {
		d.fieldChange(FieldType, p, o.Type.Local(o.Message.Module), n.Type.Local(n.Message.Module))
	}
	switch {
	case o.Presence != n.Presence:
		f := d.fieldChange(FieldPresence, p, o.Presence.String(), n.Presence.String())
		f.More = o.Presence == schema.Required
	case o.Presence == schema.Defaulted && !d.sameDefault(o, n):
		d.fieldChange(FieldDefault, p, schema.LiteralText(o.Default), schema.LiteralText(n.Default))
	}
	d.fieldMarks(p)
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
}

// SameType tells whether a type is the same but for what changed inside the
// declarations that it names.
func (d *Set) SameType(o, n *schema.Type) bool {
	if o.Named != nil || n.Named != nil {
		return d.PairedTypes(o, n) // what is in a named type is told about that type
	}
	if o.Kind != n.Kind {
		return false
	}
	switch o.Kind {
	case schema.KindUnion:
		return d.Unions[o.Union] == n.Union
	case schema.KindEnum:
		return d.Enums[o.Enum] == n.Enum
	case schema.KindMessage:
		return d.Messages[o.Message] == n.Message
	case schema.KindMap:
		return d.SameType(o.Key, n.Key) && d.SameType(o.Elem, n.Elem)
	case schema.KindList:
		return d.SameType(o.Elem, n.Elem)
	}
	return true
}

func (d *Set) sameDefault(o, n *schema.Field) bool {
	a, isMember := o.Default.(*schema.Member)
	b, alsoMember := n.Default.(*schema.Member)
	if isMember && alsoMember {
		return slices.Contains(PairMembers(a.Enum, b.Enum), MemberPair{Old: a, New: b})
	}
	if x, ok := o.Default.([]byte); ok {
		y, ok := n.Default.([]byte)
		return ok && bytes.Equal(x, y)
	}
	return schema.LiteralText(o.Default) == schema.LiteralText(n.Default)
}

func (d *Set) enum(o, n *schema.Enum) {
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
	for _, p := range PairMembers(o, n) {
		switch {
		case p.New == nil:
			d.memberChange(MemberGone, p, memberText(p.Old), "").Missed = n.Place
		case p.Old == nil:
			d.memberChange(MemberAdded, p, "", memberText(p.New))
		default:
			if p.Old.Name != p.New.Name {
				d.memberChange(MemberRenamed, p, p.Old.Name, p.New.Name)
			}
			if p.Old.Number != p.New.Number {
				d.memberChange(MemberRenumbered, p, "#"+strconv.Itoa(p.Old.Number), "#"+strconv.Itoa(p.New.Number))
			}
			if p.Old.JSON != p.New.JSON && p.Old.JSONName() != p.New.JSONName() {
				d.memberChange(MemberJSON, p, p.Old.JSONName(), p.New.JSONName())
			}
			d.words(o.FullName()+"."+p.Old.Name, p.Old.Doc, p.New.Doc, p.Old.Deprecated, p.New.Deprecated, p.New.Place)
		}
	}
	d.retired(o.FullName(), o.Retired, n.Retired, n.Place)
}

func memberText(m *schema.Member) string { return fmt.Sprintf("#%d %s", m.Number, m.Name) }

func (d *Set) memberChange(kind Kind, p MemberPair, old, new string) *Change {
	f := &Change{Kind: kind, Old: old, New: new, Member: p}
	at := p.New
	if p.Old != nil {
		f.Where = p.Old.Enum.FullName() + "." + p.Old.Name
	} else {
		f.Where = p.New.Enum.FullName() + "." + p.New.Name
	}
	if at == nil {
		at = p.Old
	}
	d.add(f, at.Place)
	for _, side := range []*schema.Member{p.Old, p.New} {
		if side != nil {
			d.OfMember[side] = append(d.OfMember[side], f)
		}
	}
	return f
}

func (d *Set) retired(where string, old, new []schema.Retired, place source.Place) {
	text := func(r schema.Retired) string {
		s := ""
		if r.Number >= 0 {
			s = "#" + strconv.Itoa(r.Number)
		}
		if r.Name != "" {
			s = strings.TrimSpace(s + " " + strconv.Quote(r.Name))
		}
		return s
	}
	covers := func(list []schema.Retired, r schema.Retired) bool {
		number := slices.ContainsFunc(list, func(x schema.Retired) bool { return x.Number == r.Number })
		name := slices.ContainsFunc(list, func(x schema.Retired) bool { return x.Name == r.Name })
		return (number || r.Number < 0) && (name || r.Name == "")
	}
	for _, r := range new {
		if !covers(old, r) {
			d.add(&Change{Kind: Retired, Where: where, New: text(r)}, r.Place)
		}
	}
	for _, r := range old {
		if !covers(new, r) {
			d.add(&Change{Kind: Freed, Where: where, Old: text(r), inNew: true}, place)
		}
	}
}

// Nothing is the set of no changes.
func Nothing() *Set { return newSet(nil, nil) }

// Paired is Fields where it is known already; unlike that it changes nothing, and may be
// asked by many at once.
func (d *Set) Paired(o, n *schema.Message) (list []FieldPair, known bool) {
	list, known = d.paired[[2]*schema.Message{o, n}]
	return list, known
}
