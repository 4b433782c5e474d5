// Package schema resolves the syntax trees of all files of a project into
// definitions: names bound, types known, everything checked. It must not know
// payloads, languages or files on disk.
//
//	resolve.go    trees → definitions, with every finding of meaning
//	finite.go     types that could have no finite value
//	claims.go     the names that each declaration claims in stubs
//	scalar.go     the text forms of scalars
//	canonical.go  definitions → canonical text and digest
package schema

import (
	"math"
	"slices"
	"strings"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
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
	KindEnum
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
	{"uint8", KindUint8}, {"uint16", KindUint16}, {"uint32", KindUint32}, {"uint64", KindUint64}, {"float32", KindFloat32}, {"float64", KindFloat64},
	{"text", KindText}, {"bytes", KindBytes}, {"uuid", KindUUID}, {"instant", KindInstant},
}

func (k Kind) String() string {
	for _, s := range Scalars {
		if s.Kind == k {
			return s.Word
		}
	}
	return map[Kind]string{KindEnum: "enum", KindMessage: "message", KindList: "list", KindMap: "map"}[k]
}

// IsInteger tells integers from all other kinds.
func (k Kind) IsInteger() bool { return k >= KindInt8 && k <= KindUint64 }

// IsUnsigned tells the integers that have no negative values.
func (k Kind) IsUnsigned() bool { return k >= KindUint8 && k <= KindUint64 }

// Bits is how many bits an integer or float has.
func (k Kind) Bits() int {
	return map[Kind]int{KindInt8: 8, KindInt16: 16, KindInt32: 32, KindInt64: 64, KindUint8: 8, KindUint16: 16, KindUint32: 32, KindUint64: 64, KindFloat32: 32, KindFloat64: 64}[k]
}

// Range returns the smallest and the largest value of an integer kind.
func (k Kind) Range() (low int64, high uint64) {
	if k.IsUnsigned() {
		return 0, math.MaxUint64 >> (64 - k.Bits())
	}
	high = math.MaxInt64 >> (64 - k.Bits())
	return -int64(high) - 1, high
}

// Type is a resolved type. Enum, Message, Key and Elem are set by kind.
type Type struct {
	Kind    Kind
	Enum    *Enum
	Message *Message
	Key     *Type
	Elem    *Type
}

// String writes the type with full names, as in "{text: skerry.fleet.Vessel}".
func (t *Type) String() string {
	return t.spell(func(d *Decl) string { return d.FullName() })
}

func (t *Type) spell(name func(*Decl) string) string {
	switch t.Kind {
	case KindList:
		return "[" + t.Elem.spell(name) + "]"
	case KindMap:
		return "{" + t.Key.spell(name) + ": " + t.Elem.spell(name) + "}"
	case KindEnum:
		return name(&t.Enum.Decl)
	case KindMessage:
		return name(&t.Message.Decl)
	}
	return t.Kind.String()
}

// Short names the type for a sentence: "int32", "a list", "Deck".
func (t *Type) Short() string {
	switch t.Kind {
	case KindList, KindMap:
		return "a " + t.Kind.String()
	case KindEnum:
		return t.Enum.Name
	case KindMessage:
		return t.Message.Name
	}
	return t.Kind.String()
}

// Local writes the type as a file of a module would, with the usual aliases.
func (t *Type) Local(m *Module) string {
	return t.spell(func(d *Decl) string {
		if d.Module == m {
			return d.Name
		}
		return d.Module.Name[strings.LastIndexByte(d.Module.Name, '.')+1:] + "." + d.Name
	})
}

// HoldsEnum tells whether a value of the type can hold an enum's value, which
// a request may get wrong though it can be read. seen guards against types
// that contain themselves; pass an empty map.
func (t *Type) HoldsEnum(seen map[*Message]bool) bool {
	switch t.Kind {
	case KindEnum:
		return true
	case KindList, KindMap:
		return t.Elem.HoldsEnum(seen)
	case KindMessage:
		if seen[t.Message] {
			return false
		}
		seen[t.Message] = true
		return slices.ContainsFunc(t.Message.Fields, func(f *Field) bool { return f.Type.HoldsEnum(seen) })
	}
	return false
}

// Definitions is everything that a project defines.
type Definitions struct {
	Modules []*Module // by name
}

// Module is one module with its declarations, each kind by name.
type Module struct {
	Name     string
	Doc      string
	Consts   []*Const
	Enums    []*Enum
	Messages []*Message // errors too
	Services []*Service
}

// Decl is what every declaration has.
type Decl struct {
	Module *Module
	Name   string
	Doc    string
	Place  source.Place // of the name

	Deprecated string // why, or "" when it is not; below, too
}

// FullName is the module's name, a dot and the declaration's name.
func (d *Decl) FullName() string { return d.Module.Name + "." + d.Name }

// Const is a named scalar. Value is as in Field.Default.
type Const struct {
	Decl
	Type  *Type
	Value any
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
	Members []*Member // by number
	Retired []Retired
}

// Member is one member of an enum.
type Member struct {
	Enum   *Enum
	Number int
	Name   string
	Doc    string
	Place  source.Place

	Deprecated string
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
	Status  int      // the HTTP status of an error
	Fields  []*Field // by number
	Retired []Retired
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
// []byte, UUID, Instant or *Member.
type Field struct {
	Message  *Message
	Number   int
	Name     string
	Type     *Type
	Presence Presence
	Default  any
	Doc      string
	Place    source.Place

	Deprecated string
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

// Call is one call. A nil Request or Response is "()".
type Call struct {
	Service  *Service
	Name     string
	Request  *Message
	Response *Message
	Fails    []*Message // by full name; what the service says holds for all is in here
	Safe     bool
	Doc      string
	Place    source.Place

	Deprecated string
}

// FullName is the service's full name, a dot and the call's name.
func (c *Call) FullName() string { return c.Service.FullName() + "." + c.Name }

// Path is the call's path below the server's base: module, service and call,
// in snake_case, a segment each.
func (c *Call) Path() string {
	return "/" + strings.ReplaceAll(c.Service.Module.Name, ".", "/") + "/" + syntax.SnakeCase(c.Service.Name) + "/" + c.Name
}

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
type Count struct{ Modules, Messages, Errors, Enums, Consts, Services, Calls int }

// Count counts the declarations.
func (d *Definitions) Count() Count {
	c := Count{Modules: len(d.Modules), Calls: len(d.Calls())}
	for _, m := range d.Modules {
		c.Enums += len(m.Enums)
		c.Consts += len(m.Consts)
		c.Services += len(m.Services)
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

// Uses lists the other modules whose names a module refers to, by name.
func (m *Module) Uses() []*Module {
	var list []*Module
	add := func(d *Decl) {
		if d.Module != m && !slices.Contains(list, d.Module) {
			list = append(list, d.Module)
		}
	}
	var walk func(t *Type)
	walk = func(t *Type) {
		switch t.Kind {
		case KindList, KindMap:
			walk(t.Elem)
		case KindEnum:
			add(&t.Enum.Decl)
		case KindMessage:
			add(&t.Message.Decl)
		}
	}
	for _, msg := range m.Messages {
		for _, f := range msg.Fields {
			walk(f.Type)
		}
	}
	for _, s := range m.Services {
		for _, c := range s.Calls {
			for _, side := range append([]*Message{c.Request, c.Response}, c.Fails...) {
				if side != nil {
					add(&side.Decl)
				}
			}
		}
	}
	slices.SortFunc(list, func(a, b *Module) int { return strings.Compare(a.Name, b.Name) })
	return list
}
