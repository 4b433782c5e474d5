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
	old, new *schema.Definitions
	messages map[*schema.Message]*schema.Message // OLD → NEW
	enums    map[*schema.Enum]*schema.Enum
	types    map[*schema.NamedType]*schema.NamedType
	unions   map[*schema.Union]*schema.Union
	calls    []callPair // both there
	facts    []*Fact

	paired      map[[2]*schema.Message][]fieldPair
	fieldFacts  map[*schema.Field][]*Fact // by the field of either side
	memberFacts map[*schema.Member][]*Fact
	typeFacts   map[*schema.NamedType][]*Fact   // by the type of either side
	altFacts    map[*schema.Alternative][]*Fact // by the alternative of either side
	callFacts   map[callPair][]*Fact
}

func diff(old, new *schema.Definitions) *differ {
	d := &differ{old: old, new: new, messages: map[*schema.Message]*schema.Message{}, enums: map[*schema.Enum]*schema.Enum{},
		types: map[*schema.NamedType]*schema.NamedType{}, unions: map[*schema.Union]*schema.Union{}, typeFacts: map[*schema.NamedType][]*Fact{}, altFacts: map[*schema.Alternative][]*Fact{},
		paired: map[[2]*schema.Message][]fieldPair{}, fieldFacts: map[*schema.Field][]*Fact{}, memberFacts: map[*schema.Member][]*Fact{}, callFacts: map[callPair][]*Fact{}}
	d.modules()
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
	}
	for _, c := range d.calls {
		d.call(c)
	}
	d.declarations()
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

// modules pairs declarations by module and name; then those that are gone
// with equal ones that have appeared.
func (d *differ) modules() {
	var names []string
	for _, m := range slices.Concat(d.old.Modules, d.new.Modules) {
		if !slices.Contains(names, m.Name) {
			names = append(names, m.Name)
		}
	}
	slices.Sort(names)
	var goneMessages, newMessages []*schema.Message
	var goneEnums, newEnums []*schema.Enum
	var goneTypes, newTypes []*schema.NamedType
	var goneUnions, newUnions []*schema.Union
	for _, name := range names {
		o, n := d.old.Module(name), d.new.Module(name)
		if o == nil {
			d.add(&Fact{Kind: ModuleAdded, Where: name, New: name, newAny: n}, source.Place{})
			o = &schema.Module{Name: name}
		}
		if n == nil {
			d.add(&Fact{Kind: ModuleGone, Where: name, Old: name, oldAny: o}, source.Place{})
			n = &schema.Module{Name: name}
		}
		pair(o.Messages, n.Messages, func(m *schema.Message) string { return m.Name + map[bool]string{true: "!"}[m.IsError()] }, func(a, b *schema.Message) {
			switch {
			case b == nil:
				goneMessages = append(goneMessages, a)
			case a == nil:
				newMessages = append(newMessages, b)
			default:
				d.messages[a] = b
			}
		})
		pair(o.Enums, n.Enums, func(e *schema.Enum) string { return e.Name }, func(a, b *schema.Enum) {
			switch {
			case b == nil:
				goneEnums = append(goneEnums, a)
			case a == nil:
				newEnums = append(newEnums, b)
			default:
				d.enums[a] = b
			}
		})
		pair(o.Types, n.Types, func(t *schema.NamedType) string { return t.Name }, sorted(d.types, &goneTypes, &newTypes))
		pair(o.Unions, n.Unions, func(u *schema.Union) string { return u.Name }, sorted(d.unions, &goneUnions, &newUnions))
		pair(o.Consts, n.Consts, func(c *schema.Const) string { return c.Name }, d.constant)
		pair(o.Services, n.Services, func(s *schema.Service) string { return s.Name }, d.service)
	}
	d.renamedEnums(goneEnums, newEnums)
	renamed(d, d.types, goneTypes, newTypes, TypeAdded, TypeGone, TypeRenamed)
	renamed(d, d.unions, goneUnions, newUnions, UnionAdded, UnionGone, UnionRenamed)
	d.renamedMessages(goneMessages, newMessages)
}

// pair calls each for the elements of two lists with equal keys, and for
// those that only one has.
func pair[T any](old, new []*T, key func(*T) string, each func(old, new *T)) {
	byKey := map[string]*T{}
	for _, n := range new {
		byKey[key(n)] = n
	}
	for _, o := range old {
		each(o, byKey[key(o)])
		delete(byKey, key(o))
	}
	for _, n := range new {
		if byKey[key(n)] != nil {
			each(nil, n)
		}
	}
}

func (d *differ) renamedEnums(gone, added []*schema.Enum) {
	text := func(e *schema.Enum) string {
		var b strings.Builder
		for _, m := range e.Members {
			fmt.Fprintf(&b, "#%d %s\n", m.Number, m.Name)
		}
		return b.String()
	}
	for _, o := range gone {
		i := slices.IndexFunc(added, func(n *schema.Enum) bool { return text(n) == text(o) })
		if i < 0 {
			d.add(&Fact{Kind: EnumGone, Where: o.FullName(), Old: o.Name, oldAny: o}, o.Place)
			continue
		}
		n := added[i]
		added = slices.Delete(added, i, i+1)
		d.enums[o] = n
		d.add(&Fact{Kind: EnumRenamed, Where: o.FullName(), Old: o.FullName(), New: n.FullName(), oldAny: o, newAny: n}, n.Place)
	}
	for _, n := range added {
		d.add(&Fact{Kind: EnumAdded, Where: n.FullName(), New: n.Name, newAny: n}, n.Place)
	}
}

func (d *differ) renamedMessages(gone, added []*schema.Message) {
	text := func(m *schema.Message) string {
		var b strings.Builder
		fmt.Fprintf(&b, "%d\n", m.Status)
		for _, f := range m.Fields {
			t := f.Type.String()
			// A message may refer to itself, and to what was renamed with it.
			t = strings.ReplaceAll(t, m.FullName(), "itself")
			fmt.Fprintf(&b, "#%d %s %s %d %s\n", f.Number, f.Name, t, f.Presence, literal(f))
		}
		return b.String()
	}
	kinds := func(m *schema.Message) (added, gone, renamed Kind) {
		if m.IsError() {
			return ErrorAdded, ErrorGone, ErrorRenamed
		}
		return MessageAdded, MessageGone, MessageRenamed
	}
	for _, o := range gone {
		_, goneKind, renamedKind := kinds(o)
		i := slices.IndexFunc(added, func(n *schema.Message) bool { return text(n) == text(o) })
		if i < 0 {
			d.add(&Fact{Kind: goneKind, Where: o.FullName(), Old: o.Name, oldAny: o}, o.Place)
			continue
		}
		n := added[i]
		added = slices.Delete(added, i, i+1)
		d.messages[o] = n
		d.add(&Fact{Kind: renamedKind, Where: o.FullName(), Old: o.FullName(), New: n.FullName(), oldAny: o, newAny: n}, n.Place)
	}
	for _, n := range added {
		addedKind, _, _ := kinds(n)
		d.add(&Fact{Kind: addedKind, Where: n.FullName(), New: n.Name, newAny: n}, n.Place)
	}
}

func literal(f *schema.Field) string {
	if f.Presence != schema.Defaulted {
		return ""
	}
	return schema.LiteralText(f.Default)
}

func (d *differ) constant(o, n *schema.Const) {
	switch {
	case n == nil:
		d.add(&Fact{Kind: ConstGone, Where: o.FullName(), Old: schema.LiteralText(o.Value), oldAny: o}, o.Place)
	case o == nil:
		d.add(&Fact{Kind: ConstAdded, Where: n.FullName(), New: schema.LiteralText(n.Value), newAny: n}, n.Place)
	default:
		if o.Type.Kind != n.Type.Kind || schema.LiteralText(o.Value) != schema.LiteralText(n.Value) {
			d.add(&Fact{Kind: ConstChanged, Where: o.FullName(), Old: o.Type.Kind.String() + " = " + schema.LiteralText(o.Value),
				New: n.Type.Kind.String() + " = " + schema.LiteralText(n.Value), oldAny: o, newAny: n}, n.Place)
		}
		d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
	}
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

func (d *differ) service(o, n *schema.Service) {
	switch {
	case n == nil:
		d.add(&Fact{Kind: ServiceGone, Where: o.FullName(), Old: o.Name, oldAny: o}, o.Place)
		n = &schema.Service{Decl: o.Decl}
	case o == nil:
		d.add(&Fact{Kind: ServiceAdded, Where: n.FullName(), New: n.Name, newAny: n}, n.Place)
		o = &schema.Service{Decl: n.Decl}
	default:
		d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
	}
	pair(o.Calls, n.Calls, func(c *schema.Call) string { return c.Name }, func(a, b *schema.Call) {
		switch {
		case b == nil:
			d.add(&Fact{Kind: CallGone, Where: a.FullName(), Old: signature(a), call: callPair{a, nil}}, a.Place)
		case a == nil:
			d.add(&Fact{Kind: CallAdded, Where: b.FullName(), New: signature(b), call: callPair{nil, b}}, b.Place)
		default:
			d.calls = append(d.calls, callPair{a, b})
		}
	})
}

func side(m *schema.Message) string {
	if m == nil {
		return "()"
	}
	return m.Name
}

func signature(c *schema.Call) string {
	request := side(c.Request)
	if c.Request != nil {
		request = "(" + request + ")"
	}
	return c.Name + request + " -> " + side(c.Response)
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

// pairFields pairs the fields of two messages: where a number is gone and its
// name stands under another number, by name; where two exchange numbers and
// keep names and types, by name; else by number.
func pairFields(o, n *schema.Message) []fieldPair {
	return pairNumbered(o.Fields, n.Fields, func(f *schema.Field) (int, string, string) { return f.Number, f.Name, f.Type.String() },
		func(a, b *schema.Field) fieldPair { return fieldPair{a, b} })
}

// pairs is pairFields, done once for each two messages.
func (d *differ) pairs(o, n *schema.Message) []fieldPair {
	key := [2]*schema.Message{o, n}
	list, known := d.paired[key]
	if !known {
		list = pairFields(o, n)
		d.paired[key] = list
	}
	return list
}

// pairMembers pairs the members of two enums in the same way.
func pairMembers(o, n *schema.Enum) []memberPair {
	return pairNumbered(o.Members, n.Members, func(m *schema.Member) (int, string, string) { return m.Number, m.Name, "" },
		func(a, b *schema.Member) memberPair { return memberPair{a, b} })
}

func pairNumbered[T, P any](old, new []*T, key func(*T) (int, string, string), make func(old, new *T) P) []P {
	oldByNumber, newByNumber, newByName := map[int]*T{}, map[int]*T{}, map[string]*T{}
	for _, o := range old {
		number, _, _ := key(o)
		oldByNumber[number] = o
	}
	for _, n := range new {
		number, name, _ := key(n)
		newByNumber[number], newByName[name] = n, n
	}
	partner, taken := map[*T]*T{}, map[*T]bool{}
	join := func(o, n *T) { partner[o], taken[n] = n, true }
	// A number is gone when NEW has not it, or has it for something that is
	// paired by name already; so one pairing can lead to the next.
	for again := true; again; {
		again = false
		for _, o := range old {
			number, name, _ := key(o)
			n, there := newByName[name], newByNumber[number]
			if partner[o] == nil && n != nil && !taken[n] && n != there && (there == nil || taken[there]) {
				join(o, n)
				again = true
			}
		}
	}
	for _, o := range old {
		number, name, typ := key(o)
		n := newByName[name]
		if n == nil || partner[o] != nil || taken[n] {
			continue
		}
		// o's name now stands under a number whose old name stands under o's.
		newNumber, _, newType := key(n)
		other, back := oldByNumber[newNumber], newByNumber[number]
		if newNumber == number || other == nil || back == nil || taken[back] {
			continue
		}
		_, otherName, otherType := key(other)
		_, backName, backType := key(back)
		if otherName == backName && typ == newType && otherType == backType && partner[other] == nil {
			join(o, n)
			join(other, back)
		}
	}
	var pairs []P
	for _, o := range old {
		number, _, _ := key(o)
		n := partner[o]
		if candidate := newByNumber[number]; n == nil && candidate != nil && !taken[candidate] {
			n = candidate
			taken[n] = true
		}
		pairs = append(pairs, make(o, n))
	}
	for _, n := range new {
		if !taken[n] {
			pairs = append(pairs, make(nil, n))
		}
	}
	return pairs
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
			d.fieldFact(FieldGone, p, FieldText(p.old), "")
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
		d.fieldFact(FieldType, p, o.Type.Local(o.Message.Module), n.Type.Local(n.Message.Module))
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
			d.memberFact(MemberGone, p, memberText(p.old), "")
		case p.old == nil:
			d.memberFact(MemberAdded, p, "", memberText(p.new))
		default:
			if p.old.Name != p.new.Name {
				d.memberFact(MemberRenamed, p, p.old.Name, p.new.Name)
			}
			if p.old.Number != p.new.Number {
				d.memberFact(MemberRenumbered, p, "#"+strconv.Itoa(p.old.Number), "#"+strconv.Itoa(p.new.Number))
			}
			if p.old.JSON != p.new.JSON {
				d.memberFact(MemberJSON, p, p.old.JSONName(), p.new.JSONName())
			}
			d.words(o.FullName()+"."+p.old.Name, p.old.Doc, p.new.Doc, p.old.Deprecated, p.new.Deprecated, p.new.Place)
		}
	}
	d.retired(o.FullName(), o.Retired, n.Retired, n.Place)
}

func memberText(m *schema.Member) string { return fmt.Sprintf("#%d %s", m.Number, m.Name) }

func (d *differ) memberFact(kind Kind, p memberPair, old, new string) {
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
	has := func(list []schema.Retired, r schema.Retired) bool {
		return slices.ContainsFunc(list, func(x schema.Retired) bool { return x.Number == r.Number && x.Name == r.Name })
	}
	for _, r := range new {
		if !has(old, r) {
			d.add(&Fact{Kind: Retired, Where: where, New: text(r)}, r.Place)
		}
	}
	for _, r := range old {
		if !has(new, r) {
			d.add(&Fact{Kind: Freed, Where: where, Old: text(r), newAny: place}, place)
		}
	}
}
