// Package schema resolves the syntax trees of all files of a project into
// definitions: names bound, types known, everything checked. It must not know
// payloads, languages or files on disk.
//
//	declaration.go  what declarations have in common, and the walk over types
//	resolve.go    trees → definitions, with every finding of meaning
//	types.go      named types, unions and what their text refers to
//	bounds.go     what where allows, and what it refuses
//	service.go    calls, and the credentials that they need
//	http.go       what an http clause says; what that means is decided in conversation
//	example.go    values written in definitions
//	checked.go    which values can be refused once they are read
//	patch.go      what "patch" before a message's name makes of it
//	finite.go     types that could have no finite value
//	claims.go     the names that each declaration claims in stubs
//	scalar.go     the text forms of scalars; decimal.go those of decimals
//	canonical.go  definitions → canonical text and digest
package schema

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/source"
)

// Kind is the kind of a type.
type Kind uint8

// The kinds. KindInvalid stands for a type whose mistake has been reported.
const (
	KindInvalid Kind = iota
	KindBool
	KindInt8
	KindInt16
	KindInt32
	KindInt64
	KindUint8
	KindUint16
	KindUint32
	KindUint64
	KindFloat32
	KindFloat64
	KindText
	KindBytes
	KindUUID
	KindInstant
	KindDecimal
	KindDate
	KindDuration
	KindAny
	KindEnum
	KindUnion
	KindMessage
	KindList
	KindMap
)

// Scalars lists the scalar words with their kinds.
var Scalars = []struct {
	Word string
	Kind Kind
}{
	{"bool", KindBool}, {"int8", KindInt8}, {"int16", KindInt16}, {"int32", KindInt32}, {"int64", KindInt64},
	{"uint8", KindUint8}, {"uint16", KindUint16}, {"uint32", KindUint32}, {"uint64", KindUint64},
	{"float32", KindFloat32}, {"float64", KindFloat64},
	{"text", KindText}, {"bytes", KindBytes}, {"uuid", KindUUID}, {"instant", KindInstant},
	{"decimal", KindDecimal}, {"date", KindDate}, {"duration", KindDuration}, {"any", KindAny},
}

func (k Kind) String() string {
	for _, s := range Scalars {
		if s.Kind == k {
			return s.Word
		}
	}
	return map[Kind]string{KindEnum: "enum", KindUnion: "union", KindMessage: "message", KindList: "list",
		KindMap: "map"}[k]
}

// IsScalar tells the kinds that a scalar word names from all others.
func (k Kind) IsScalar() bool { return k >= KindBool && k <= KindAny }

// IsInteger tells integers from all other kinds.
func (k Kind) IsInteger() bool { return k >= KindInt8 && k <= KindUint64 }

// IsUnsigned tells the integers that have no negative values.
func (k Kind) IsUnsigned() bool { return k >= KindUint8 && k <= KindUint64 }

// Bits is how many bits an integer or float has.
func (k Kind) Bits() int {
	return bits[k]
}

var bits = [KindMap + 1]int{KindInt8: 8, KindInt16: 16, KindInt32: 32, KindInt64: 64, KindUint8: 8, KindUint16: 16,
	KindUint32: 32, KindUint64: 64, KindFloat32: 32, KindFloat64: 64}

// Range returns the smallest and the largest value of an integer kind.
func (k Kind) Range() (low int64, high uint64) {
	if k.IsUnsigned() {
		return 0, math.MaxUint64 >> (64 - k.Bits())
	}
	high = math.MaxInt64 >> (64 - k.Bits())
	return -int64(high) - 1, high
}

// Type is a resolved type. Enum, Union, Message, Key and Elem are set by kind.
// Of a named type Named is set, and all else is what it is over: whoever does
// not ask for the name sees through it.
type Type struct {
	Kind    Kind
	Enum    *Enum
	Union   *Union
	Message *Message
	Key     *Type
	Elem    *Type
	Named   *NamedType
	// Clearable is set for the types of a patch's fields that may be null, which clears
	// what they change.
	Clearable bool
}

// String writes the type with full names, as in "{text: skerry.fleet.Vessel}".
func (t *Type) String() string {
	return t.Spell(func(d *Decl) string { return d.FullName() })
}

// Spell writes the type with names of one's choice.
func (t *Type) Spell(name func(*Decl) string) string {
	if t.Named != nil {
		return name(&t.Named.Decl)
	}
	return t.SpellBase(name)
}

// SpellBase is Spell, but writes what a named type is over, or the type itself.
func (t *Type) SpellBase(name func(*Decl) string) string {
	switch t.Kind {
	case KindList:
		return "[" + t.Elem.Spell(name) + "]"
	case KindMap:
		return "{" + t.Key.Spell(name) + ": " + t.Elem.Spell(name) + "}"
	case KindEnum:
		return name(&t.Enum.Decl)
	case KindUnion:
		return name(&t.Union.Decl)
	case KindMessage:
		if of := t.Message.PatchOf; of != nil {
			return "patch " + name(&of.Decl)
		}
		return name(&t.Message.Decl)
	}
	return t.Kind.String()
}

// Short names the type for a sentence: "int32", "a list", "Deck".
func (t *Type) Short() string {
	if t.Named != nil {
		return t.Named.Name
	}
	return t.ShortBase()
}

// ShortBase is Short, but of what a named type is over.
func (t *Type) ShortBase() string {
	switch t.Kind {
	case KindList, KindMap:
		return "a " + t.Kind.String()
	case KindEnum:
		return t.Enum.Name
	case KindUnion:
		return t.Union.Name
	case KindMessage:
		if of := t.Message.PatchOf; of != nil {
			return "patch " + of.Name
		}
		return t.Message.Name
	}
	return t.Kind.String()
}

// StringBase is String, but of what a named type is over.
func (t *Type) StringBase() string {
	return t.SpellBase(func(d *Decl) string { return d.FullName() })
}

// Local writes the type as a file of a module would, with the usual aliases.
func (t *Type) Local(m *Module) string { return t.Spell(m.local) }

// InWords is Local, for a sentence: quoted, but for scalars.
func (t *Type) InWords(m *Module) string {
	if t.Named == nil && t.Kind.IsScalar() && t.Kind != KindEnum {
		return t.Local(m)
	}
	return strconv.Quote(t.Local(m))
}

// LocalBase is Local, but of what a named type is over.
func (t *Type) LocalBase(m *Module) string { return t.SpellBase(m.local) }

// local names a declaration as a file of the module would; a nil module is
// that of the declaration.
func (m *Module) local(d *Decl) string {
	if m == nil || d.Module == m {
		return d.Name
	}
	return d.Module.Name[strings.LastIndexByte(d.Module.Name, '.')+1:] + "." + d.Name
}

// Holds tells whether values of a type may hold a *Message or *Union through
// what is required, lists and maps included.
func (t *Type) Holds(thing Declaration) bool {
	seen := map[Declaration]bool{}
	var holds func(t *Type) bool
	holds = func(t *Type) bool {
		switch t.Kind {
		case KindList, KindMap:
			return holds(t.Elem)
		case KindUnion:
			if Declaration(t.Union) == thing || seen[t.Union] {
				return Declaration(t.Union) == thing
			}
			seen[t.Union] = true
			return slices.ContainsFunc(t.Union.Alternatives, func(a *Alternative) bool { return holds(a.Type) })
		case KindMessage:
			if Declaration(t.Message) == thing || seen[t.Message] {
				return Declaration(t.Message) == thing
			}
			seen[t.Message] = true
			return slices.ContainsFunc(t.Message.Fields, func(f *Field) bool { return f.Presence == Required && holds(f.Type) })
		}
		return false
	}
	return holds(t)
}

// Definitions is everything that a project defines.
type Definitions struct {
	Modules []*Module // by name
}

// Module is one module with its declarations, each kind by name.
type Module struct {
	Name        string
	Place       source.Place // of the name, in the first of its files
	Doc         string
	Consts      []*Const
	Types       []*NamedType
	Enums       []*Enum
	Unions      []*Union
	Messages    []*Message // errors too
	Patches     []*Message // those that any type is, of messages of this module; they are not declared
	Examples    []*Example
	Credentials []*Credential
	Services    []*Service
}

// Decl is what every declaration has.
type Decl struct {
	Module *Module
	Name   string
	Doc    string
	Place  source.Place // of the name

	Deprecated string // why, or "" when it is not; below, too
}

// Const is a named scalar. Value is as in Field.Default.
type Const struct {
	Decl
	Type  *Type
	Value any
}

// NamedType is a distinct type over a scalar, list or map, with bounds of its
// own. References to it are &Type.
type NamedType struct {
	Decl
	Type   Type    // what it is over, with Named set
	Bounds *Bounds // nil for none; below, too
	Secret bool
}

// Retired is a number (-1: none) or a name ("": none) not to be used again.
type Retired struct {
	Number int
	Name   string
	Place  source.Place
}

// Enum is an open list of members.
type Enum struct {
	Decl
	typ     Type      // of all fields that hold it; below, too
	Members []*Member // by number
	Retired []Retired
}

// Member is one member of an enum.
type Member struct {
	Enum   *Enum
	Number int
	Name   string
	JSON   string // another name in JSON, or ""; below, too
	Doc    string
	Place  source.Place

	Deprecated string
}

// JSONName is the member's name in JSON.
func (m *Member) JSONName() string { return cmp.Or(m.JSON, m.Name) }

// Union is an open list of alternatives, of which a value is exactly one.
type Union struct {
	Decl
	typ          Type
	Alternatives []*Alternative // by number
	Retired      []Retired
	Smallest     int64 // the size of the smallest value, as Type.Smallest has it
}

// Alternative is one alternative of a union.
type Alternative struct {
	Union  *Union
	Number int
	Name   string
	JSON   string
	Type   *Type
	Doc    string
	Place  source.Place

	Deprecated string
}

// JSONName is the alternative's name in JSON.
func (a *Alternative) JSONName() string { return cmp.Or(a.JSON, a.Name) }

// FullName is the union's full name, a dot and the alternative's name.
func (a *Alternative) FullName() string { return a.Union.FullName() + "." + a.Name }

// ByNumber returns the alternative with a number, or nil.
func (u *Union) ByNumber(number int) *Alternative {
	i, ok := slices.BinarySearchFunc(u.Alternatives, number, func(a *Alternative, n int) int { return a.Number - n })
	if !ok {
		return nil
	}
	return u.Alternatives[i]
}

// ByName returns the alternative with a name, or nil.
func (u *Union) ByName(name string) *Alternative {
	for _, a := range u.Alternatives {
		if a.Name == name {
			return a
		}
	}
	return nil
}

// ByNumber returns the member with a number, or nil.
func (e *Enum) ByNumber(number int) *Member {
	i, ok := slices.BinarySearchFunc(e.Members, number, func(m *Member, n int) int { return m.Number - n })
	if !ok {
		return nil
	}
	return e.Members[i]
}

// ByName returns the member with a name, or nil.
func (e *Enum) ByName(name string) *Member {
	for _, m := range e.Members {
		if m.Name == name {
			return m
		}
	}
	return nil
}

// Presence says whether a field may be left out.
type Presence uint8

// The three kinds of presence.
const (
	Required Presence = iota
	Optional
	Defaulted
)

func (p Presence) String() string { return [...]string{"required", "optional", "defaulted"}[p] }

// Message is a message, or an error when Status is not 0.
type Message struct {
	Decl
	typ     Type
	Status  int      // the HTTP status of an error
	Stored  bool     // also stored in queues or databases
	Fields  []*Field // by number
	Retired []Retired
	// Smallest is the size of the smallest value, as Type.Smallest has it.
	Smallest int64
	// PatchOf is set of a patch alone: the message that it changes. Its fields are those of
	// the message, all optional.
	PatchOf *Message
	patch   *Message // which nobody may look at but by Patch
	checked bool     // as Type.Checked has it
}

// IsPatch tells patches from messages that are declared.
func (m *Message) IsPatch() bool { return m.PatchOf != nil }

// Declared is the message itself, or the one that a patch changes.
func (m *Message) Declared() *Message {
	if m.PatchOf != nil {
		return m.PatchOf
	}
	return m
}

// Patch is the patch of a message, or nil where no type is one.
func (m *Message) Patch() *Message {
	if m.patch == nil || m.patch.Fields == nil {
		return nil
	}
	return m.patch
}

// IsError tells errors from messages.
func (m *Message) IsError() bool { return m.Status != 0 }

// ByNumber returns the field with a number, or nil.
func (m *Message) ByNumber(number int) *Field {
	i, ok := slices.BinarySearchFunc(m.Fields, number, func(f *Field, n int) int { return f.Number - n })
	if !ok {
		return nil
	}
	return m.Fields[i]
}

// ByName returns the field with a name, or nil.
func (m *Message) ByName(name string) *Field {
	for _, f := range m.Fields {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// Field is one field. Default is set when Presence is Defaulted: a bool,
// int64 (int8 to int64), uint64 (uint8 to uint64), float32, float64, string,
// []byte, UUID, Instant, Decimal, Date, Duration or *Member.
type Field struct {
	Message  *Message
	Number   int
	Name     string
	JSON     string
	Type     *Type
	Presence Presence
	Secret   bool // kept out of what generated code prints or logs
	Default  any
	Bounds   *Bounds // in addition to those of a named type
	In       *In     // where the field travels when not in the body, or nil
	Doc      string
	Place    source.Place
	Changes  *Field // of a patch's field: the one that it changes

	Deprecated string
}

// Declared is the field itself, or the one that a patch's field changes.
func (f *Field) Declared() *Field {
	if f.Changes != nil {
		return f.Changes
	}
	return f
}

// In places a field of a request or an answer in the query, a header or a cookie. Name is
// the parameter's, "" for the field's name in JSON. In the body, Name is the media
// type of a raw body, which is that field and nothing else.
type In struct {
	Place string // "query", "header", "cookie" or "body"
	Name  string
}

// IsRaw tells fields that are the whole body, as it is.
func (f *Field) IsRaw() bool { return f.In != nil && f.In.Place == "body" }

// Raw is the field of a message that is the whole body, or nil.
func (m *Message) Raw() *Field {
	for _, f := range m.Fields {
		if f.IsRaw() {
			return f
		}
	}
	return nil
}

// WithoutRaw is a message without the field that is the whole body: what else it has. Its fields are the message's own.
func (m *Message) WithoutRaw() *Message {
	rest := *m
	rest.Fields = slices.DeleteFunc(slices.Clone(m.Fields), (*Field).IsRaw)
	return &rest
}

// JSONName is the field's name in JSON.
func (f *Field) JSONName() string { return cmp.Or(f.JSON, f.Name) }

// IsSecret tells fields whose values are never shown.
func (f *Field) IsSecret() bool {
	return f.Secret || f.Type.Named != nil && f.Type.Named.Secret
}

// FullName is the message's full name, a dot and the field's name.
func (f *Field) FullName() string { return f.Message.FullName() + "." + f.Name }

// Service is a list of calls.
type Service struct {
	Decl
	Calls []*Call // by name
}

// ByName returns the call with a name, or nil.
func (s *Service) ByName(name string) *Call {
	for _, c := range s.Calls {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// Example is a value of a message or error, for documentation and samples.
type Example struct {
	Decl
	Of    *Message
	Value *Object
}

// Credential is what a caller may have to show.
type Credential struct {
	Decl
	Kind    string // "key", "bearer" or "basic"
	Carrier string // of a key: "header", "query" or "cookie"
	Key     string // of a key: the name of the header, parameter or cookie
	Format  string // of a bearer, or ""

	KeyPlace source.Place // of the key's text
}

// Call is one call. A nil Request or Response is "()".
type Call struct {
	Service        *Service
	Name           string
	Head           *Message // before a request that is a stream, or nil
	Request        *Message
	Response       *Message
	RequestStream  bool
	ResponseStream bool
	HTTP           *HTTP           // nil without an http clause
	Fails          []*Message      // by full name; what the service says is in here
	Needs          [][]*Credential // one of these, of it all; nil for nothing; what the service says is in here
	NeedsNothing   bool            // it was said that nothing is needed
	Safe           bool
	Idempotent     bool
	Doc            string
	Place          source.Place

	Deprecated string
}

// Inputs are the messages that a caller sends: the head of a stream, and the request or the
// stream's element.
func (c *Call) Inputs() []*Message {
	return slices.DeleteFunc([]*Message{c.Head, c.Request}, func(m *Message) bool { return m == nil })
}

// Placed is the message of a call's request whose fields may travel outside of the body: the
// request itself, or the head of a stream; nil where there is none.
func (c *Call) Placed() *Message {
	if c.RequestStream {
		return c.Head
	}
	return c.Request
}

// FullName is the service's full name, a dot and the call's name.
func (c *Call) FullName() string { return c.Service.FullName() + "." + c.Name }

// Module returns the module with a name, or nil.
func (d *Definitions) Module(name string) *Module {
	for _, m := range d.Modules {
		if m.Name == name {
			return m
		}
	}
	return nil
}

// Calls returns all calls of all services, in order.
func (d *Definitions) Calls() []*Call {
	var calls []*Call
	for _, m := range d.Modules {
		for _, s := range m.Services {
			calls = append(calls, s.Calls...)
		}
	}
	return calls
}

// Count is how much a project defines.
type Count struct{ Modules, Messages, Errors, Enums, Unions, Types, Consts, Services, Calls, Examples, Credentials int }

// Count counts the declarations.
func (d *Definitions) Count() Count {
	c := Count{Modules: len(d.Modules), Calls: len(d.Calls())}
	for _, m := range d.Modules {
		c.Enums += len(m.Enums)
		c.Unions += len(m.Unions)
		c.Types += len(m.Types)
		c.Consts += len(m.Consts)
		c.Services += len(m.Services)
		c.Examples += len(m.Examples)
		c.Credentials += len(m.Credentials)
		for _, msg := range m.Messages {
			if msg.IsError() {
				c.Errors++
			} else {
				c.Messages++
			}
		}
	}
	return c
}

// Uses lists the other modules whose names a module refers to, by name. What
// only examples refer to does not count.
func (m *Module) Uses() []*Module { return m.uses(false) }

func (m *Module) uses(withExamples bool) []*Module {
	var list []*Module
	add := func(used Declaration, _ func() Use) {
		if d := used.Head(); d.Module != m && !slices.Contains(list, d.Module) {
			list = append(list, d.Module)
		}
	}
	for _, decl := range m.Declarations() {
		if _, isExample := decl.(*Example); withExamples || !isExample {
			decl.visitUses(add)
		}
	}
	slices.SortFunc(list, func(a, b *Module) int { return strings.Compare(a.Name, b.Name) })
	return list
}
