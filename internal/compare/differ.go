package compare

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// fieldPair is a field of OLD and its counterpart in NEW; either may be nil.
type fieldPair struct{ old, new *schema.Field }

type memberPair struct{ old, new *schema.Member }

type callPair struct{ old, new *schema.Call }

// differ pairs what two definitions declare, and finds the facts.
type differ struct {
	old, new  *schema.Definitions
	messages  map[*schema.Message]*schema.Message // OLD → NEW
	enums     map[*schema.Enum]*schema.Enum
	types     map[*schema.NamedType]*schema.NamedType
	unions    map[*schema.Union]*schema.Union
	modules   map[*schema.Module]*schema.Module
	known     map[*schema.Decl]string      // NEW's full name of what is paired, by either side
	between   func() []*schema.Definitions // the versions between, oldest first; nil once they were asked
	heirNames map[string]string

	calls []callPair // both there
	facts []*Fact

	goneCalls  []goneCall // by name, in services that are paired or not
	addedCalls []*schema.Call

	backwards []*walker // that takesMore looks with, by encoding

	standing map[*schema.Message]bool      // made for what no message holds
	parts    map[*schema.Message]*callPair // bodies of requests whose other fields travel elsewhere

	paired      map[[2]*schema.Message][]fieldPair
	fieldFacts  map[*schema.Field][]*Fact // by the field of either side
	memberFacts map[*schema.Member][]*Fact
	typeFacts   map[*schema.NamedType][]*Fact   // by the type of either side
	altFacts    map[*schema.Alternative][]*Fact // by the alternative of either side
	callFacts   map[callPair][]*Fact
}

func newDiffer(old, new *schema.Definitions) *differ {
	return &differ{old: old, new: new, messages: map[*schema.Message]*schema.Message{}, enums: map[*schema.Enum]*schema.Enum{},
		types: map[*schema.NamedType]*schema.NamedType{}, unions: map[*schema.Union]*schema.Union{}, modules: map[*schema.Module]*schema.Module{}, known: map[*schema.Decl]string{},
		typeFacts: map[*schema.NamedType][]*Fact{}, altFacts: map[*schema.Alternative][]*Fact{},
		paired: map[[2]*schema.Message][]fieldPair{}, fieldFacts: map[*schema.Field][]*Fact{}, memberFacts: map[*schema.Member][]*Fact{}, callFacts: map[callPair][]*Fact{}, standing: map[*schema.Message]bool{}, parts: map[*schema.Message]*callPair{}}
}

func diff(old, new *schema.Definitions, between func() []*schema.Definitions) *differ {
	d := newDiffer(old, new)
	d.between = between
	d.pairAll()
	for _, om := range old.Modules {
		for _, m := range om.Messages {
			if n := d.messages[m]; n != nil {
				d.message(m, n)
			}
		}
		for _, e := range om.Enums {
			if n := d.enums[e]; n != nil {
				d.enum(e, n)
			}
		}
		for _, t := range om.Types {
			if n := d.types[t]; n != nil {
				d.namedType(t, n)
			}
		}
		for _, u := range om.Unions {
			if n := d.unions[u]; n != nil {
				d.union(u, n)
			}
		}
		if n := d.modules[om]; n != nil {
			d.words(om.Name, om.Doc, n.Doc, "", "", n.Place)
		}
	}
	for _, c := range d.calls {
		d.call(c)
	}
	d.examples()
	return d
}

func (d *differ) add(f *Fact, place source.Place) *Fact {
	f.Place = place
	f.InOld = f.New == "" && f.newAny == nil && f.field.new == nil && f.member.new == nil && f.alternative.new == nil && f.call.new == nil
	f.additive = f.additive || strings.HasSuffix(string(f.Kind), "-added")
	d.facts = append(d.facts, f)
	if f.call.old != nil && f.call.new != nil {
		d.callFacts[f.call] = append(d.callFacts[f.call], f)
	}
	return f
}

func literal(f *schema.Field) string {
	if f.Presence != schema.Defaulted {
		return ""
	}
	return schema.LiteralText(f.Default)
}

func (d *differ) constant(o, n *schema.Const) {
	if o.Type.Kind != n.Type.Kind || schema.LiteralText(o.Value) != schema.LiteralText(n.Value) {
		d.add(&Fact{Kind: ConstChanged, Where: o.FullName(), Old: o.Type.Kind.String() + " = " + schema.LiteralText(o.Value),
			New: n.Type.Kind.String() + " = " + schema.LiteralText(n.Value), oldAny: o, newAny: n}, n.Place)
	}
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
}

// words finds what changed in documentation and deprecation: that holds.
func (d *differ) words(where, oldDoc, newDoc, oldWhy, newWhy string, place source.Place) {
	if oldDoc != newDoc {
		d.add(&Fact{Kind: Documentation, Where: where, Old: firstLine(oldDoc), New: firstLine(newDoc), newAny: place}, place)
	}
	switch {
	case oldWhy == newWhy:
	case newWhy == "":
		d.add(&Fact{Kind: Undeprecated, Where: where, Old: oldWhy, newAny: place}, place)
	default:
		d.add(&Fact{Kind: Deprecated, Where: where, New: newWhy}, place)
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
	}
	return c.Name + request + " -> " + streamed(c.Response, c.ResponseStream)
}

func (d *differ) call(c callPair) {
	o, n := c.old, c.new
	where := o.FullName()
	paired := func(a, b *schema.Message) bool {
		return a == nil && b == nil || a != nil && b != nil && d.messages[a] == b
	}
	if !paired(o.Request, n.Request) {
		d.add(&Fact{Kind: CallRequest, Where: where, Old: side(o.Request), New: side(n.Request), call: c}, n.Place)
	}
	if !paired(o.Response, n.Response) {
		d.add(&Fact{Kind: CallAnswer, Where: where, Old: side(o.Response), New: side(n.Response), call: c}, n.Place)
	}
	if o.Safe && !n.Safe {
		d.add(&Fact{Kind: CallUnsafe, Where: where, Old: "safe", call: c}, n.Place)
	}
	if !o.Safe && n.Safe {
		d.add(&Fact{Kind: CallSafe, Where: where, New: "safe", call: c}, n.Place)
	}
	d.callClauses(c)
	for _, e := range o.Fails {
		if !slices.Contains(n.Fails, d.messages[e]) || d.messages[e] == nil {
			d.add(&Fact{Kind: FailsGone, Where: where, Old: e.FullName(), call: c, oldAny: e}, n.Place)
		}
	}
	for _, e := range n.Fails {
		if !slices.ContainsFunc(o.Fails, func(x *schema.Message) bool { return d.messages[x] == e }) {
			d.add(&Fact{Kind: FailsAdded, Where: where, New: e.FullName(), call: c, newAny: e}, n.Place)
		}
	}
	d.words(where, o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
}

func (d *differ) fieldFact(kind Kind, p fieldPair, old, new string) *Fact {
	f := &Fact{Kind: kind, Old: old, New: new, field: p}
	at := p.new
	if p.old != nil {
		f.Where = p.old.FullName()
	} else {
		f.Where = p.new.FullName()
	}
	if at == nil {
		at = p.old
	}
	d.add(f, at.Place)
	for _, side := range []*schema.Field{p.old, p.new} {
		if side != nil {
			d.fieldFacts[side] = append(d.fieldFacts[side], f)
		}
	}
	return f
}

func (d *differ) message(o, n *schema.Message) {
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
	if o.Status != n.Status {
		d.add(&Fact{Kind: ErrorStatus, Where: o.FullName(), Old: strconv.Itoa(o.Status), New: strconv.Itoa(n.Status), oldAny: o, newAny: n}, n.Place)
	}
	if o.Stored && !n.Stored {
		d.add(&Fact{Kind: StoredOff, Where: o.FullName(), Old: "stored", oldAny: o, newAny: n}, n.Place)
	}
	if !o.Stored && n.Stored {
		d.add(&Fact{Kind: StoredOn, Where: o.FullName(), New: "stored", oldAny: o, newAny: n}, n.Place)
	}
	for _, p := range d.pairs(o, n) {
		switch {
		case p.new == nil:
			d.fieldFact(FieldGone, p, FieldText(p.old), "").Missed = n.Place
		case p.old == nil:
			d.fieldFact(FieldAdded, p, "", FieldText(p.new))
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

func (d *differ) field(p fieldPair) {
	o, n := p.old, p.new
	if o.Name != n.Name {
		d.fieldFact(FieldRenamed, p, o.Name, n.Name)
	}
	if o.Number != n.Number {
		d.fieldFact(FieldRenumbered, p, "#"+strconv.Itoa(o.Number), "#"+strconv.Itoa(n.Number))
	}
	if !d.sameType(o.Type, n.Type) {
		f := d.fieldFact(FieldType, p, o.Type.Local(o.Message.Module), n.Type.Local(n.Message.Module))
		f.How, f.additive = d.typeChange(o.Type, n.Type), d.takesMore(o.Type, n.Type, o.Bounds, n.Bounds)
	}
	switch {
	case o.Presence != n.Presence:
		f := d.fieldFact(FieldPresence, p, o.Presence.String(), n.Presence.String())
		f.additive = o.Presence == schema.Required
	case o.Presence == schema.Defaulted && !d.sameDefault(o, n):
		d.fieldFact(FieldDefault, p, schema.LiteralText(o.Default), schema.LiteralText(n.Default))
	}
	d.fieldMarks(p)
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
}

// sameType tells whether a type is the same but for what changed inside the
// declarations that it names.
func (d *differ) sameType(o, n *schema.Type) bool {
	if o.Named != nil || n.Named != nil {
		return d.pairedTypes(o, n) // what is in a named type is told about that type
	}
	if o.Kind != n.Kind {
		return false
	}
	switch o.Kind {
	case schema.KindUnion:
		return d.unions[o.Union] == n.Union
	case schema.KindEnum:
		return d.enums[o.Enum] == n.Enum
	case schema.KindMessage:
		return d.messages[o.Message] == n.Message
	case schema.KindMap:
		return d.sameType(o.Key, n.Key) && d.sameType(o.Elem, n.Elem)
	case schema.KindList:
		return d.sameType(o.Elem, n.Elem)
	}
	return true
}

// typeChange tells apart how a type changed.
func (d *differ) typeChange(o, n *schema.Type) string {
	switch {
	case o.Named == nil && n.Named != nil && d.sameType(o, bareType(n)):
		return "a named type put on"
	case o.Named != nil && n.Named == nil && d.sameType(bareType(o), n):
		return "a named type taken off"
	case o.Named != nil && n.Named != nil:
		return "one named type for another"
	case numeric(o) && numeric(n):
		wider, narrower := holds(n, o), holds(o, n)
		switch {
		case wider:
			return "widened"
		case narrower:
			return "narrowed"
		}
	case o.Kind != n.Kind:
	case o.Kind == schema.KindMap && !d.sameType(o.Key, n.Key):
		return "its keys changed"
	case o.Kind == schema.KindMap, o.Kind == schema.KindList:
		return "its elements changed"
	case o.Kind == schema.KindMessage:
		return "one message for another"
	case o.Kind == schema.KindEnum:
		return "one enum for another"
	case o.Kind == schema.KindUnion:
		return "one union for another"
	}
	return ""
}

// takesMore tells whether a new type has values that the old one has not.
func (d *differ) takesMore(o, n *schema.Type, ob, nb *schema.Bounds) bool {
	if d.backwards == nil { // NEW's values, by OLD's reader
		d.backwards = []*walker{newWalker(d, crossing{form: "binary", position: Request}), newWalker(d, crossing{form: "json", position: Request})}
	}
	for _, w := range d.backwards {
		s := spot{wt: n, rt: o, wb: nb, rb: ob}
		if (o.Kind == schema.KindList || o.Kind == schema.KindMap) && n.Kind == o.Kind {
			if d.takesMore(o.Elem, n.Elem, nil, nil) || o.Kind == schema.KindMap && d.takesMore(o.Key, n.Key, nil, nil) {
				return true
			}
			own, named := w.counts(s)
			return own != nil || named != nil
		}
		if seen := w.look(s); seen.refused != nil || seen.otherwise != nil || seen.own != nil || seen.named != nil {
			return true
		}
	}
	return false
}

// bareType is what a named type is over, or the type itself.
func bareType(t *schema.Type) *schema.Type {
	bare := *t
	bare.Named = nil
	return &bare
}

func numeric(t *schema.Type) bool {
	return t.Kind.IsInteger() || t.Kind == schema.KindFloat32 || t.Kind == schema.KindFloat64
}

// holds tells whether one type of numbers has every value of another.
func holds(wide, narrow *schema.Type) bool {
	switch {
	case wide.Kind == narrow.Kind:
		return true
	case !narrow.Kind.IsInteger():
		return narrow.Kind == schema.KindFloat32 && wide.Kind == schema.KindFloat64
	case wide.Kind.IsInteger():
		low, high := narrow.Kind.Range()
		least, most := wide.Kind.Range()
		return low >= least && high <= most
	}
	// All integers of so many bits, and their sign, are exact.
	exact := map[schema.Kind]int{schema.KindFloat32: 24, schema.KindFloat64: 53}[wide.Kind]
	return narrow.Kind.Bits() <= exact
}

func (d *differ) sameDefault(o, n *schema.Field) bool {
	a, isMember := o.Default.(*schema.Member)
	b, alsoMember := n.Default.(*schema.Member)
	if isMember && alsoMember {
		return slices.Contains(pairMembers(a.Enum, b.Enum), memberPair{a, b})
	}
	if x, ok := o.Default.([]byte); ok {
		y, ok := n.Default.([]byte)
		return ok && bytes.Equal(x, y)
	}
	return schema.LiteralText(o.Default) == schema.LiteralText(n.Default)
}

func (d *differ) enum(o, n *schema.Enum) {
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
	for _, p := range pairMembers(o, n) {
		switch {
		case p.new == nil:
			d.memberFact(MemberGone, p, memberText(p.old), "").Missed = n.Place
		case p.old == nil:
			d.memberFact(MemberAdded, p, "", memberText(p.new))
		default:
			if p.old.Name != p.new.Name {
				d.memberFact(MemberRenamed, p, p.old.Name, p.new.Name)
			}
			if p.old.Number != p.new.Number {
				d.memberFact(MemberRenumbered, p, "#"+strconv.Itoa(p.old.Number), "#"+strconv.Itoa(p.new.Number))
			}
			if p.old.JSON != p.new.JSON && p.old.JSONName() != p.new.JSONName() {
				d.memberFact(MemberJSON, p, p.old.JSONName(), p.new.JSONName())
			}
			d.words(o.FullName()+"."+p.old.Name, p.old.Doc, p.new.Doc, p.old.Deprecated, p.new.Deprecated, p.new.Place)
		}
	}
	d.retired(o.FullName(), o.Retired, n.Retired, n.Place)
}

func memberText(m *schema.Member) string { return fmt.Sprintf("#%d %s", m.Number, m.Name) }

func (d *differ) memberFact(kind Kind, p memberPair, old, new string) *Fact {
	f := &Fact{Kind: kind, Old: old, New: new, member: p}
	at := p.new
	if p.old != nil {
		f.Where = p.old.Enum.FullName() + "." + p.old.Name
	} else {
		f.Where = p.new.Enum.FullName() + "." + p.new.Name
	}
	if at == nil {
		at = p.old
	}
	d.add(f, at.Place)
	for _, side := range []*schema.Member{p.old, p.new} {
		if side != nil {
			d.memberFacts[side] = append(d.memberFacts[side], f)
		}
	}
	return f
}

func (d *differ) retired(where string, old, new []schema.Retired, place source.Place) {
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
			d.add(&Fact{Kind: Retired, Where: where, New: text(r)}, r.Place)
		}
	}
	for _, r := range old {
		if !covers(new, r) {
			d.add(&Fact{Kind: Freed, Where: where, Old: text(r), newAny: place}, place)
		}
	}
}
