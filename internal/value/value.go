// Package value reads and writes values of any definitions without generated
// code: CBOR (RFC 8949), JSON (RFC 8259), and the checks of a request. It is
// the reference that stubs of every language are compared with, and it makes
// the proofs of a comparison. It must not know HTTP, files or languages.
package value

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
)

// Value is one value: bool, int64 (int8 to int64), uint64 (uint8 to uint64),
// float32, float64, string, []byte, schema.UUID, schema.Instant, schema.Decimal,
// schema.Date, schema.Duration, schema.Any, Enum, List, *Map, *Union, *Message or Cleared.
type Value any

// Cleared stands for null in a field of a patch: what the field changes is cleared.
type Cleared = schema.Cleared

// Enum is a value of an enum: a number from 0 to 65535, or -1 and a name that
// the definitions do not list.
type Enum struct {
	Number int
	Name   string
}

// List is a list.
type List []Value

// Map is a map, its keys in the bytewise order of their CBOR encoding (RFC
// 8949, section 4.2.1); unlisted names of an enum come last, in the order of texts.
type Map struct{ Entries []Entry }

// Entry is one entry of a map. Key is a string, int64, uint64 or Enum.
type Entry struct {
	Key   Value
	Value Value
}

// Message is a value of a message or error. A field that is left out has no
// entry in Fields.
type Message struct {
	Type     *schema.Message
	Fields   map[int]Value
	Unlisted []UnlistedField
}

// UnlistedField is a field that the definitions do not know: a number with its CBOR,
// or (Number 0) a JSON name with its JSON.
type UnlistedField struct {
	Number int
	CBOR   []byte
	Name   string
	JSON   string
}

// MaxDepth is how deep messages, lists and maps may nest.
const MaxDepth = 100

// DefaultBudget is how much a payload may contain: a list item or an entry of a map or
// message counts one, a message one and its declared fields besides.
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
	if !strings.ContainsAny(step, "~/") {
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
	sortByKey(entries, func(e Entry) Value { return e.Key })
}

// sortByKey puts entries in the bytewise order of their encoded keys; names
// that have no encoding come last, shorter ones first, then bytewise.
func sortByKey[T any](entries []T, key func(T) Value) {
	if len(entries) < 2 {
		return
	}
	type encoded struct {
		entry T
		key   []byte
	}
	list := make([]encoded, len(entries))
	for i, e := range entries {
		list[i].entry = e
		w := &cborWriter{}
		if k, isEnum := key(e).(Enum); isEnum && k.Number < 0 {
			// After every head, by their texts.
			list[i].key = append(append([]byte{0xff}, binary.BigEndian.AppendUint32(nil, uint32(len(k.Name)))...), k.Name...)
		} else if err := w.value(key(e), nil); err == nil {
			list[i].key = w.out
		}
	}
	slices.SortStableFunc(list, func(a, b encoded) int { return bytes.Compare(a.key, b.key) })
	for i := range list {
		entries[i] = list[i].entry
	}
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
		return ok && slices.EqualFunc(a.Entries, b.Entries,
			func(x, y Entry) bool { return Equal(x.Key, y.Key) && Equal(x.Value, y.Value) })
	case schema.Any:
		b, ok := b.(schema.Any)
		return ok && equalAny(a, b)
	case *Union:
		b, ok := b.(*Union)
		return ok && a.Number == b.Number && a.Name == b.Name && a.JSON == b.JSON && bytes.Equal(a.CBOR, b.CBOR) &&
			Equal(a.Value, b.Value)
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
		return slices.EqualFunc(a.Unlisted, b.Unlisted, func(x, y UnlistedField) bool {
			return x.Number == y.Number && bytes.Equal(x.CBOR, y.CBOR) && x.Name == y.Name && x.JSON == y.JSON
		})
	}
	return a == b
}

func equalAny(a, b schema.Any) bool {
	switch x := a.Value.(type) {
	case []schema.Any:
		y, ok := b.Value.([]schema.Any)
		return ok && slices.EqualFunc(x, y, equalAny)
	case []schema.AnyEntry:
		y, ok := b.Value.([]schema.AnyEntry)
		return ok && slices.EqualFunc(x, y, func(a,
			b schema.AnyEntry) bool {
			return a.Key == b.Key && equalAny(a.Value, b.Value)
		})
	}
	if _, isScalar := b.Value.([]schema.Any); isScalar {
		return false
	}
	if _, isScalar := b.Value.([]schema.AnyEntry); isScalar {
		return false
	}
	return a.Value == b.Value
}

// Violation is one way in which a request violates its definitions.
type Violation struct {
	Pointer string `json:"pointer"` // RFC 6901, by names in JSON
	Detail  string `json:"detail"`  // a sentence for a person

	In string `json:"in,omitempty"` // "path", "query", "header" or "cookie"; "" for the body
}

// Validate lists every violation in a request that could be read: members and
// alternatives that are not listed, and bounds that are not kept.
func Validate(m *Message) []Violation {
	v := &validator{}
	v.value(nil, m, &schema.Type{Kind: schema.KindMessage, Message: m.Type}, nil, false)
	return v.list
}

type validator struct{ list []Violation }

// way leads to a value: its last step, and the way before. Its text is made only
// for what is violated.
type way struct {
	before *way
	name   string // of a field or alternative; "" for an element
	index  int
	key    Value // of an entry, with its type
	of     *schema.Type
}

// pointer is the way as a JSON Pointer (RFC 6901).
func (w *way) pointer() string {
	if w == nil {
		return ""
	}
	step := escapePointer(w.name)
	switch {
	case w.of != nil:
		step = escapePointer(KeyText(w.key, w.of))
	case w.name == "":
		step = strconv.Itoa(w.index)
	}
	return w.before.pointer() + "/" + step
}

func (v *validator) add(at *way, details ...string) {
	for _, detail := range details {
		v.list = append(v.list, Violation{Pointer: at.pointer(), Detail: detail})
	}
}

// value validates one value, against its type and the bounds of its field. A
// secret value is not said.
func (v *validator) value(at *way, x Value, t *schema.Type, own *schema.Bounds, secret bool) {
	if isCleared(x) {
		return
	}
	if own != nil {
		v.bounds(at, x, own, secret || t.Named != nil && t.Named.Secret)
	}
	if t.Named != nil {
		secret = secret || t.Named.Secret
		if t.Named.Bounds != nil {
			v.bounds(at, x, t.Named.Bounds, secret)
		}
	}
	switch x := x.(type) {
	case Enum:
		if x.Number < 0 || t.Enum.ByNumber(x.Number) == nil {
			v.add(at, "must be one of "+joined(t.Enum.Members, (*schema.Member).JSONName))
		}
	case *Union:
		a := t.Union.ByNumber(x.Number)
		if a == nil {
			v.add(at, "must be one of "+joined(t.Union.Alternatives, (*schema.Alternative).JSONName))
			return
		}
		v.value(&way{before: at, name: a.JSONName()}, x.Value, a.Type, nil, false)
	case List:
		for i, item := range x {
			v.value(&way{before: at, index: i}, item, t.Elem, nil, false)
		}
	case *Map:
		for _, e := range x.Entries {
			there := &way{before: at, key: e.Key, of: t.Key}
			v.value(there, e.Key, t.Key, nil, false)
			v.value(there, e.Value, t.Elem, nil, false)
		}
	case *Message:
		for _, f := range x.Type.Fields {
			if item, ok := x.Fields[f.Number]; ok {
				v.value(&way{before: at, name: f.JSONName()}, item, f.Type, f.Bounds, f.Secret)
			}
		}
	}
}

func (v *validator) bounds(at *way, x Value, b *schema.Bounds, secret bool) {
	count := func(n int) {
		if violation := b.CountViolation(n); violation != "" {
			v.add(at, violation)
		}
	}
	switch x := x.(type) {
	case List:
		count(len(x))
		if b.Unique {
			for i := range x {
				if j := slices.IndexFunc(x[:i], func(before Value) bool { return alike(before, x[i]) }); j >= 0 {
					v.add(&way{before: at, index: i}, fmt.Sprintf("must be unique, and is equal to element %d", j))
				}
			}
		}
	case *Map:
		count(len(x.Entries))
	default:
		if secret {
			v.add(at, b.SecretViolations(x)...)
		} else {
			v.add(at, b.Violations(x)...)
		}
	}
}

// alike tells elements of a list that is unique apart: decimals go by number,
// NaN equals NaN, and -0 differs from 0.
func alike(a, b Value) bool {
	if isCleared(a) || isCleared(b) {
		return isCleared(a) && isCleared(b)
	}
	switch a := a.(type) {
	case schema.Decimal:
		return a.Compare(b.(schema.Decimal)) == 0
	case float32:
		return alike(float64(a), float64(b.(float32)))
	case float64:
		b := b.(float64)
		return a == b && math.Signbit(a) == math.Signbit(b) || a != a && b != b
	case List:
		return slices.EqualFunc(a, b.(List), alike)
	case *Map:
		return slices.EqualFunc(a.Entries, b.(*Map).Entries,
			func(x, y Entry) bool { return x.Key == y.Key && alike(x.Value, y.Value) })
	case *Union:
		b := b.(*Union)
		if a.Value == nil || b.Value == nil || a.Number != b.Number {
			return Equal(a, b)
		}
		return alike(a.Value, b.Value)
	case *Message:
		b := b.(*Message)
		if len(a.Fields) != len(b.Fields) || !Equal(&Message{Type: a.Type, Unlisted: a.Unlisted},
			&Message{Type: b.Type, Unlisted: b.Unlisted}) {
			return false
		}
		for n, x := range a.Fields {
			if y, ok := b.Fields[n]; !ok || !alike(x, y) {
				return false
			}
		}
		return true
	}
	return Equal(a, b)
}

func isCleared(v Value) bool {
	_, is := v.(Cleared)
	return is
}

func joined[T any](list []T, name func(T) string) string {
	var names []string
	for _, x := range list {
		names = append(names, name(x))
	}
	return strings.Join(names, ", ")
}
