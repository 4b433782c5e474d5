// Package value reads and writes values of any definitions without generated
// code: CBOR (RFC 8949), JSON (RFC 8259), and the checks of a request. It is
// the reference that stubs of every language are compared with, and it makes
// the witnesses of a comparison. It must not know HTTP, files or languages.
package value

import (
	"bytes"
	"fmt"
	"math"
	"slices"

	"faithfulcourier/internal/schema"
)

// Value is one value: bool, int64 (int8 to int64), uint64 (uint8 to uint64),
// float32, float64, string, []byte, schema.UUID, schema.Instant, Enum, List, *Map or *Message.
type Value any

// Enum is a value of an enum: a number from 0 to 65535, or -1 and a name that
// the definitions do not list.
type Enum struct {
	Number int
	Name   string
}

// List is a list.
type List []Value

// Map is a map with text keys, in the order of their CBOR encoding: shorter
// keys first, then bytewise.
type Map struct{ Entries []Entry }

// Entry is one entry of a map.
type Entry struct {
	Key   string
	Value Value
}

// Message is a value of a message or error. A field that is left out has no
// entry in Fields.
type Message struct {
	Type    *schema.Message
	Fields  map[int]Value
	Unknown []Unknown
}

// Unknown is a field that the definitions do not know: a number with its CBOR,
// or (Number 0) a JSON name with its JSON.
type Unknown struct {
	Number int
	CBOR   []byte
	Name   string
	JSON   string
}

// MaxDepth is how deep messages, lists and maps may nest.
const MaxDepth = 100

// DefaultBudget is how many list items and entries a payload may hold.
const DefaultBudget = 1_000_000

// Error says where and why a payload is refused.
type Error struct {
	Path     string // RFC 6901, "" for the whole
	Expected string // may be empty
	Found    string
	Offset   int // in bytes, from the start of the payload; -1 when writing
	TooLarge bool
}

func (e *Error) Error() string {
	where := "the payload"
	if e.Path != "" {
		where = e.Path
	}
	s := where + ": " + e.Found
	if e.Expected != "" {
		s = fmt.Sprintf("%s: expected %s, found %s", where, e.Expected, e.Found)
	}
	if e.Offset >= 0 {
		s += fmt.Sprintf(" (byte %d)", e.Offset)
	}
	return s
}

// inside adds a step to the path of an error on its way up.
func inside(err *Error, step string) *Error {
	if err != nil {
		err.Path = "/" + escapePointer(step) + err.Path
	}
	return err
}

func escapePointer(step string) string {
	if !bytes.ContainsAny([]byte(step), "~/") {
		return step
	}
	var b []byte
	for i := 0; i < len(step); i++ {
		switch step[i] {
		case '~':
			b = append(b, "~0"...)
		case '/':
			b = append(b, "~1"...)
		default:
			b = append(b, step[i])
		}
	}
	return string(b)
}

func sortEntries(entries []Entry) {
	slices.SortFunc(entries, func(a, b Entry) int { return compareKeys(a.Key, b.Key) })
}

func compareKeys(a, b string) int {
	if len(a) != len(b) {
		return len(a) - len(b)
	}
	return bytes.Compare([]byte(a), []byte(b))
}

// Default turns a default of the definitions into a value.
func Default(v any) Value {
	if m, ok := v.(*schema.Member); ok {
		return Enum{Number: m.Number}
	}
	return v
}

// Equal tells whether two values of one type are equal: NaN equals NaN, 0
// equals -0, and what is unknown counts.
func Equal(a, b Value) bool {
	switch a := a.(type) {
	case float32:
		b, ok := b.(float32)
		return ok && (a == b || a != a && b != b)
	case float64:
		b, ok := b.(float64)
		return ok && (a == b || math.IsNaN(a) && math.IsNaN(b))
	case []byte:
		b, ok := b.([]byte)
		return ok && bytes.Equal(a, b)
	case List:
		b, ok := b.(List)
		return ok && slices.EqualFunc(a, b, Equal)
	case *Map:
		b, ok := b.(*Map)
		return ok && slices.EqualFunc(a.Entries, b.Entries, func(x, y Entry) bool { return x.Key == y.Key && Equal(x.Value, y.Value) })
	case *Message:
		b, ok := b.(*Message)
		if !ok || len(a.Fields) != len(b.Fields) {
			return false
		}
		for n, v := range a.Fields {
			if w, ok := b.Fields[n]; !ok || !Equal(v, w) {
				return false
			}
		}
		return slices.EqualFunc(a.Unknown, b.Unknown, func(x, y Unknown) bool {
			return x.Number == y.Number && bytes.Equal(x.CBOR, y.CBOR) && x.Name == y.Name && x.JSON == y.JSON
		})
	}
	return a == b
}

// Violation is one thing that a request must not hold.
type Violation struct {
	Pointer string `json:"pointer"` // RFC 6901
	Detail  string `json:"detail"`  // a sentence for a person
}

// Validate lists every violation in a request that could be read.
func Validate(m *Message) []Violation {
	var list []Violation
	validate("", m, &schema.Type{Kind: schema.KindMessage, Message: m.Type}, &list)
	return list
}

func validate(path string, v Value, t *schema.Type, list *[]Violation) {
	switch v := v.(type) {
	case Enum:
		if v.Number < 0 || t.Enum.ByNumber(v.Number) == nil {
			*list = append(*list, Violation{path, "must be one of " + memberNames(t.Enum)})
		}
	case List:
		for i, item := range v {
			validate(fmt.Sprintf("%s/%d", path, i), item, t.Elem, list)
		}
	case *Map:
		for _, e := range v.Entries {
			validate(path+"/"+escapePointer(e.Key), e.Value, t.Elem, list)
		}
	case *Message:
		for _, f := range v.Type.Fields {
			if item, ok := v.Fields[f.Number]; ok {
				validate(path+"/"+f.Name, item, f.Type, list)
			}
		}
	}
}

func memberNames(e *schema.Enum) string {
	s := ""
	for i, m := range e.Members {
		if i > 0 {
			s += ", "
		}
		s += m.Name
	}
	return s
}
