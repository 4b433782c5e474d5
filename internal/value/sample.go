package value

import (
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"faithfulcourier/internal/pattern"
	"faithfulcourier/internal/schema"
)

// Minimal returns the smallest value of a type that its bounds allow: no
// optional fields, lists and maps as short as may be, defaults where there are
// any. Every checked type has one.
func Minimal(t *schema.Type) Value { return MinimalWithin(t, nil) }

// MinimalWithin is Minimal, within the bounds of a field, too.
func MinimalWithin(t *schema.Type, own *schema.Bounds) Value { return Minimals{}.Within(t, own) }

// Minimals remembers the smallest values of messages and unions: whoever holds one of them
// several times holds the same one, so that all of it is not larger than its definitions.
// What is in it is not to be changed.
type Minimals map[any]Value

// Within is the smallest value of a type, within the bounds of a field.
func (m Minimals) Within(t *schema.Type, own *schema.Bounds) Value {
	if t.Kind == schema.KindText {
		if text, ok := MatchingText(boundsOf(t, own), nil); ok {
			return text
		}
	}
	v := m.plain(t)
	for _, b := range boundsOf(t, own) {
		v = m.within(v, t, b)
	}
	return v
}

// boundsOf lists the bounds that hold for a value: its field's, and its
// type's.
func boundsOf(t *schema.Type, own *schema.Bounds) []*schema.Bounds {
	var list []*schema.Bounds
	if t.Named != nil && t.Named.Bounds != nil {
		list = append(list, t.Named.Bounds)
	}
	if own != nil {
		list = append(list, own)
	}
	return list
}

// MatchingText returns a shortest text that all of the bounds within allow, and
// that breaks the pattern of none or of the one that is given; ok is false where
// there is none, where it would be very long, or where there is no pattern at all.
func MatchingText(within []*schema.Bounds, breaks *schema.Bounds) (text string, ok bool) {
	low, high := limits(within, func(b *schema.Bounds) *schema.Limits { return b.Length })
	var with, without []*pattern.Node
	for _, b := range within {
		if node, problem := pattern.Parse(b.Pattern); b.Pattern != "" && problem == nil {
			with = append(with, node)
		}
	}
	if breaks != nil {
		if node, problem := pattern.Parse(breaks.Pattern); breaks.Pattern != "" && problem == nil {
			without = append(without, node)
		}
	}
	if len(with)+len(without) == 0 || low > 1<<16 {
		return "", false
	}
	text, ok, err := pattern.Difference(with, without).Text(low, high, func(int) int { return 0 })
	return text, ok && err == nil
}

// Holding is the smallest list or map of a type that holds an item: as an element,
// as the value of an entry, or as its key. Bounds of a field are own.
func Holding(t *schema.Type, own *schema.Bounds, item Value, asKey bool) Value {
	low, _ := limits(boundsOf(t, own), func(b *schema.Bounds) *schema.Limits { return b.Count })
	others := int(min(low, maxMade))
	switch t.Kind {
	case schema.KindList:
		list := List{item}
		if others < 2 || !isUnique(boundsOf(t, own)) {
			for len(list) < others {
				list = append(list, Minimal(t.Elem))
			}
			return list
		}
		for _, v := range Distinct(t.Elem, nil, others+1) {
			if len(list) < others && !alike(v, item) {
				list = append(list, v)
			}
		}
		return list
	case schema.KindMap:
		first := Entry{item, nil}
		if !asKey {
			first = Entry{Minimal(t.Key), item}
		}
		out := &Map{Entries: []Entry{first}}
		var minimal Value
		if asKey || others > 1 {
			minimal = Minimal(t.Elem)
		}
		if asKey {
			out.Entries[0].Value = minimal
		}
		if others < 2 {
			return out
		}
		for _, key := range Distinct(t.Key, nil, others+1) {
			if len(out.Entries) < others && key != first.Key {
				out.Entries = append(out.Entries, Entry{key, minimal})
			}
		}
		sortEntries(out.Entries)
		return out
	}
	return item
}

// within moves a minimal value into bounds.
func (m Minimals) within(v Value, t *schema.Type, b *schema.Bounds) Value {
	switch x := v.(type) {
	case string:
		if b.Pattern != "" {
			if node, problem := pattern.Parse(b.Pattern); problem == nil {
				x = node.Shortest()
			}
		}
		if b.Length != nil {
			if n := uint64(utf8.RuneCountInString(x)); n < b.Length.Low {
				x += strings.Repeat("a", int(b.Length.Low-n))
			}
		}
		return x
	case []byte:
		if b.Length != nil && uint64(len(x)) < b.Length.Low {
			return make([]byte, b.Length.Low)
		}
	case List:
		if b.Count != nil {
			if uint64(len(x)) >= b.Count.Low {
				return x
			}
			if b.Unique && b.Count.Low <= maxMade {
				return List(maker{minimals: m}.distinct(t.Elem, nil, int(b.Count.Low)))
			}
			for uint64(len(x)) < b.Count.Low {
				x = append(x, m.Within(t.Elem, nil))
			}
			return x
		}
	case *Map:
		if b.Count != nil && uint64(len(x.Entries)) < b.Count.Low && b.Count.Low <= maxMade {
			x = &Map{}
			for _, key := range (maker{minimals: m}).distinct(t.Key, nil, int(b.Count.Low)) {
				x.Entries = append(x.Entries, Entry{key, m.Within(t.Elem, nil)})
			}
			sortEntries(x.Entries)
			return x
		}
	default:
		for _, edge := range []any{b.Low, b.High} {
			if len(b.Violations(v)) > 0 && edge != nil {
				v = edge
			}
		}
	}
	return v
}

func (m Minimals) plain(t *schema.Type) Value {
	switch {
	case t.Kind.IsUnsigned():
		return uint64(0)
	case t.Kind.IsInteger():
		return int64(0)
	}
	switch t.Kind {
	case schema.KindBool:
		return false
	case schema.KindFloat32:
		return float32(0)
	case schema.KindFloat64:
		return float64(0)
	case schema.KindText:
		return ""
	case schema.KindBytes:
		return []byte{}
	case schema.KindUUID:
		return schema.UUID{}
	case schema.KindInstant:
		return schema.Instant{}
	case schema.KindDecimal:
		return schema.Decimal{Coefficient: "0"}
	case schema.KindDate:
		return schema.Date(0)
	case schema.KindDuration:
		return schema.Duration(0)
	case schema.KindAny:
		return schema.Any{}
	case schema.KindUnion:
		return m.union(t.Union)
	case schema.KindEnum:
		return Enum{Number: t.Enum.Members[0].Number}
	case schema.KindList:
		return List{}
	case schema.KindMap:
		return &Map{}
	case schema.KindMessage:
		return m.message(t.Message)
	}
	return nil
}

// union takes the first alternative that never leads back to the union,
// else the one whose values nest least: each step then leads to less.
func (m Minimals) union(u *schema.Union) Value {
	if v, known := m[u]; known {
		return v
	}
	chosen := slices.IndexFunc(u.Alternatives, func(a *schema.Alternative) bool { return !a.Type.Holds(u) })
	nests := nesting{}
	for depth := 0; chosen < 0; depth++ { // every checked type has a value
		chosen = slices.IndexFunc(u.Alternatives, func(a *schema.Alternative) bool {
			return nests.within(a.Type, nil, depth)
		})
	}
	a := u.Alternatives[chosen]
	v := &Union{Number: a.Number, Value: m.Within(a.Type, nil)}
	m[u] = v
	return v
}

// nesting remembers which messages and unions have a value in which so many of
// them stand in each other at most.
type nesting map[nested]bool

type nested struct {
	thing any // *schema.Message or *schema.Union
	depth int
}

func (n nesting) within(t *schema.Type, own *schema.Bounds, depth int) bool {
	switch t.Kind {
	case schema.KindList, schema.KindMap:
		low, _ := limits(boundsOf(t, own), func(b *schema.Bounds) *schema.Limits { return b.Count })
		return low == 0 || n.within(t.Elem, nil, depth)
	case schema.KindMessage:
		return n.remember(nested{t.Message, depth}, func() bool {
			return !slices.ContainsFunc(t.Message.Fields, func(f *schema.Field) bool {
				return f.Presence == schema.Required && !n.within(f.Type, f.Bounds, depth-1)
			})
		})
	case schema.KindUnion:
		return n.remember(nested{t.Union, depth}, func() bool {
			return slices.ContainsFunc(t.Union.Alternatives,
				func(a *schema.Alternative) bool { return n.within(a.Type, nil, depth-1) })
		})
	}
	return true
}

func (n nesting) remember(key nested, find func() bool) bool {
	if key.depth <= 0 {
		return false
	}
	result, known := n[key]
	if !known {
		result = find()
		n[key] = result
	}
	return result
}

// MinimalMessage is Minimal for a message.
func MinimalMessage(t *schema.Message) *Message { return Minimals{}.Message(t) }

// Message is the smallest value of a message, whose fields may be changed.
func (m Minimals) Message(t *schema.Message) *Message {
	return &Message{Type: t, Fields: maps.Clone(m.message(t).Fields)}
}

func (m Minimals) message(t *schema.Message) *Message {
	if v, known := m[t]; known {
		return v.(*Message)
	}
	v := &Message{Type: t, Fields: map[int]Value{}}
	m[t] = &Message{Type: t, Fields: map[int]Value{}} // for what leads back here, which has no end
	for _, f := range t.Fields {
		switch f.Presence {
		case schema.Required:
			v.Fields[f.Number] = m.Within(f.Type, f.Bounds)
		case schema.Defaulted:
			v.Fields[f.Number] = Default(f.Default)
		}
	}
	m[t] = v
	return v
}

// Edges returns lawful values at the edges of a type, simple ones first. Any
// two values of the type that differ in kind or range from another type are
// told apart by one of them.
func Edges(t *schema.Type) []Value { return Minimals{}.edges(t, 3, math.MaxInt) }

// mostEdges is how many edges of a type are enough: each field of a message has its share.
const mostEdges = 800

// Edges are enough of what the function Edges lists, of values that share what they hold.
func (m Minimals) Edges(t *schema.Type) []Value { return m.edges(t, 3, mostEdges) }

func edges(t *schema.Type, depth int) []Value { return Minimals{}.edges(t, depth, math.MaxInt) }

// edges lists at most so many edges of messages, lists and maps, nested so deeply.
func (m Minimals) edges(t *schema.Type, depth, most int) []Value {
	if t.Kind.IsInteger() {
		return integerEdges(t.Kind)
	}
	switch t.Kind {
	case schema.KindBool:
		return []Value{false, true}
	case schema.KindFloat32:
		return []Value{float32(0), float32(1), float32(1.5), float32(0.1), float32(math.Copysign(0, -1)),
			float32(math.MaxFloat32), float32(math.SmallestNonzeroFloat32), float32(math.Inf(1)), float32(math.NaN())}
	case schema.KindFloat64:
		return []Value{0.0, 1.0, 1.5, -1.5, 0.1, math.Copysign(0, -1), 1e300, math.SmallestNonzeroFloat64, math.Inf(1),
			math.Inf(-1), math.NaN()}
	case schema.KindText:
		return []Value{"", "a", "7", "true", "0123456789", "\u00e9\u4e16\U0001f6a2", "2026-07-15T09:30:00Z"}
	case schema.KindBytes:
		return []Value{[]byte{}, []byte{0}, []byte{0xff, 0xfe}, make([]byte, 16)}
	case schema.KindUUID:
		return []Value{schema.UUID{}, schema.UUID{0x6f, 0x0c, 15: 1}}
	case schema.KindInstant:
		return []Value{schema.Instant{}, schema.Instant{Seconds: 1}, schema.Instant{Seconds: -2, Nanos: 500_000_000},
			schema.Instant{Seconds: 1, Nanos: 1_000},
			schema.Instant{Seconds: schema.MaxInstantSeconds, Nanos: 999_999_999},
			schema.Instant{Seconds: schema.MinInstantSeconds}}
	case schema.KindDecimal:
		var list []Value
		for _, s := range []string{"0", "1", "-1.5", "1.50", "0.0001", "255", "9007199254740993",
			"99999999999999999999999999999999.99", "-0.1234567890123456789012345678901234"} {
			d, err := schema.ParseDecimal(s)
			if err == nil {
				list = append(list, d)
			}
		}
		return list
	case schema.KindDate:
		return []Value{schema.Date(0), schema.Date(1), schema.Date(-1), schema.MinDate, schema.MaxDate}
	case schema.KindDuration:
		return []Value{schema.Duration(0), schema.Duration(1e9), schema.Duration(-15e8), schema.Duration(1),
			schema.Duration(math.MaxInt64), schema.Duration(math.MinInt64)}
	case schema.KindAny:
		return []Value{schema.Any{}, schema.Any{Value: true}, schema.Any{Value: int64(-1)},
			schema.Any{Value: uint64(math.MaxUint64)}, schema.Any{Value: 1.0}, schema.Any{Value: 0.1}, schema.Any{Value: "a"},
			schema.Any{Value: []schema.Any{{Value: int64(7)}, {}}},
			schema.Any{Value: []schema.AnyEntry{{Key: "a", Value: schema.Any{Value: "b"}}}}}
	case schema.KindUnion:
		var list []Value
		for _, a := range t.Union.Alternatives {
			if depth == 0 {
				return []Value{m.union(t.Union)}
			}
			for _, v := range m.edges(a.Type, depth-1, share(most, len(t.Union.Alternatives))) {
				list = append(list, &Union{Number: a.Number, Value: v})
			}
		}
		return list
	case schema.KindEnum:
		var list []Value
		for _, member := range t.Enum.Members {
			list = append(list, Enum{Number: member.Number})
		}
		return list
	case schema.KindList:
		list := []Value{List{}}
		for _, v := range m.edges(t.Elem, depth, most) {
			list = append(list, List{v})
		}
		return list
	case schema.KindMap:
		list := []Value{&Map{}}
		keys := m.edges(t.Key, 0, most)
		for _, v := range m.edges(t.Elem, depth, most) {
			list = append(list, &Map{Entries: []Entry{{keys[0], v}}})
		}
		for _, k := range keys[1:] {
			list = append(list, &Map{Entries: []Entry{{k, m.Within(t.Elem, nil)}}})
		}
		return list
	case schema.KindMessage:
		list := []Value{m.message(t.Message)}
		if depth == 0 || t.Message.Smallest > schema.AdviseNodes { // each of them would be as large
			return list
		}
		for _, f := range t.Message.Fields {
			values := m.edges(f.Type, depth-1, share(most, len(t.Message.Fields)))
			if f.Type.Clearable {
				values = append([]Value{Cleared{}}, values...)
			}
			for _, v := range values {
				if len(list) >= most {
					return list
				}
				if isAbsent(f, v) {
					continue
				}
				varied := m.Message(t.Message)
				varied.Fields[f.Number] = v
				list = append(list, varied)
			}
		}
		return list
	}
	return nil
}

// isAbsent tells whether a value of a field is written as nothing: null in an "any?".
func isAbsent(f *schema.Field, v Value) bool {
	a, isAny := v.(schema.Any)
	return isAny && a.Value == nil && f.Presence == schema.Optional
}

// share is each one's part, of which something is always left.
func share(most, parts int) int { return max(most/max(parts, 1), 4) }

// integerEdges are the values of an integer kind where one kind ends and
// another goes on, simple ones first.
func integerEdges(k schema.Kind) []Value {
	low, high := k.Range()
	var list []Value
	if !k.IsUnsigned() {
		for _, n := range []int64{0, 1, -1, math.MaxInt8, math.MinInt8, math.MaxUint8, math.MaxInt16, math.MinInt16,
			math.MaxUint16, 1<<24 + 1, math.MaxInt32, math.MinInt32, math.MaxUint32, 1<<53 - 1, 1<<53 + 1, -(1<<53 + 1),
			math.MaxInt64, math.MinInt64, -(1<<24 + 1)} {
			if n >= low && n <= int64(high) {
				list = append(list, n)
			}
		}
		return list
	}
	for _, n := range []uint64{0, 1, math.MaxInt8 + 1, math.MaxUint8, math.MaxInt16 + 1, math.MaxUint16, 1<<24 + 1,
		math.MaxInt32 + 1, math.MaxUint32, 1<<53 - 1, 1<<53 + 1, math.MaxInt64 + 1, math.MaxUint64} {
		if n <= high {
			list = append(list, n)
		}
	}
	return list
}

// Random returns a lawful value of a type, often at an edge. depth bounds how
// far optional fields, lists and maps are filled.
func Random(rng *rand.Rand, t *schema.Type, depth int) Value {
	if t.Kind.IsInteger() && rng.IntN(2) == 0 {
		shift := rng.IntN(t.Kind.Bits()) + 64 - t.Kind.Bits()
		if t.Kind.IsUnsigned() {
			return rng.Uint64() >> shift
		}
		return int64(rng.Uint64()) >> shift
	}
	switch t.Kind {
	case schema.KindFloat32:
		if rng.IntN(2) == 0 {
			return math.Float32frombits(rng.Uint32())
		}
	case schema.KindFloat64:
		if rng.IntN(2) == 0 {
			return math.Float64frombits(rng.Uint64())
		}
	case schema.KindText:
		if rng.IntN(2) == 0 {
			return randomText(rng)
		}
	case schema.KindBytes:
		b := make([]byte, rng.IntN(40))
		for i := range b {
			b[i] = byte(rng.Uint32())
		}
		return b
	case schema.KindUUID:
		var u schema.UUID
		for i := range u {
			u[i] = byte(rng.Uint32())
		}
		return u
	case schema.KindInstant:
		if rng.IntN(2) == 0 {
			return schema.Instant{Seconds: rng.Int64N(schema.MaxInstantSeconds), Nanos: rng.Int32N(1_000_000_000)}
		}
	case schema.KindDecimal:
		if rng.IntN(2) == 0 {
			digits := strconv.FormatUint(rng.Uint64()>>rng.IntN(64), 10)
			if d, err := schema.MakeDecimal(rng.IntN(2) == 0 && digits != "0", strings.TrimLeft(digits, "0"),
				-rng.IntN(35)); err == nil {
				return d
			}
		}
	case schema.KindDate:
		if rng.IntN(2) == 0 {
			return schema.Date(rng.Int32N(int32(schema.MaxDate)))
		}
	case schema.KindDuration:
		if rng.IntN(2) == 0 {
			return schema.Duration(int64(rng.Uint64()) >> rng.IntN(64))
		}
	case schema.KindUnion:
		a := t.Union.Alternatives[rng.IntN(len(t.Union.Alternatives))]
		if depth <= 0 {
			return Minimals{}.union(t.Union)
		}
		return &Union{Number: a.Number, Value: Random(rng, a.Type, depth-1)}
	case schema.KindList:
		list := List{}
		for range length(rng, depth) {
			list = append(list, Random(rng, t.Elem, depth-1))
		}
		return list
	case schema.KindMap:
		m := &Map{}
		seen := map[Value]bool{}
		for range length(rng, depth) {
			if k := Random(rng, t.Key, 0); !seen[k] {
				seen[k] = true
				m.Entries = append(m.Entries, Entry{k, Random(rng, t.Elem, depth-1)})
			}
		}
		sortEntries(m.Entries)
		return m
	case schema.KindMessage:
		return RandomMessage(rng, t.Message, depth)
	}
	list := edges(t, 1)
	return list[rng.IntN(len(list))]
}

// RandomMessage is Random for a message.
func RandomMessage(rng *rand.Rand, t *schema.Message, depth int) *Message {
	m := &Message{Type: t, Fields: map[int]Value{}}
	for _, f := range t.Fields {
		switch {
		case f.Type.Clearable && rng.IntN(3) == 0:
			m.Fields[f.Number] = Cleared{}
		case f.Presence == schema.Optional && (depth <= 0 || rng.IntN(2) == 0):
		case f.Presence == schema.Defaulted && (depth <= 0 || rng.IntN(3) == 0):
			m.Fields[f.Number] = Default(f.Default)
		default:
			if v := Random(rng, f.Type, depth-1); !isAbsent(f, v) {
				m.Fields[f.Number] = v
			}
		}
	}
	return m
}

func length(rng *rand.Rand, depth int) int {
	if depth <= 0 {
		return 0
	}
	return rng.IntN(4)
}

func randomText(rng *rand.Rand) string {
	letters := []rune("abcxyz019 _-\"\\/\n\t\u0001\u007f\u00e9\u00df\u4e16\u754c\u2028\U0001f6a2")
	out := make([]rune, rng.IntN(1<<rng.IntN(7)+1))
	for i := range out {
		out[i] = letters[rng.IntN(len(letters))]
	}
	return string(out)
}
