package value

import (
	"fmt"
	"math"
	"strconv"
	"unicode/utf8"

	"faithfulcourier/internal/schema"
)

// DecodeCBOR reads one message. budget is how many items and entries the
// payload may hold; 0 means DefaultBudget. The error is an *Error.
func DecodeCBOR(t *schema.Message, data []byte, budget int) (*Message, error) {
	r := newCBORReader(data, budget)
	m, err := r.message(t)
	if err == nil && r.at < len(data) {
		err = r.refuse("", "more bytes after the end")
	}
	if err != nil {
		return nil, err
	}
	return m, nil
}

type cborReader struct {
	data   []byte
	at     int
	depth  int
	budget int
}

func newCBORReader(data []byte, budget int) *cborReader {
	if budget == 0 {
		budget = DefaultBudget
	}
	return &cborReader{data: data, budget: budget}
}

func (r *cborReader) refuse(expected, found string) *Error {
	return &Error{Expected: expected, Found: found, Offset: r.at}
}

func (r *cborReader) refuseAt(offset int, expected, found string) *Error {
	return &Error{Expected: expected, Found: found, Offset: offset}
}

// CBOR major types (RFC 8949, section 3.1).
const (
	majorUnsigned = iota
	majorNegative
	majorBytes
	majorText
	majorArray
	majorMap
	majorTag
	majorSimple
)

// head is the first part of a data item (RFC 8949, section 3).
type head struct {
	major      byte
	info       byte
	argument   uint64
	indefinite bool
}

func (r *cborReader) head() (head, *Error) {
	if r.at >= len(r.data) {
		return head{}, r.refuse("", "the payload ends too early")
	}
	start := r.at
	b := r.data[r.at]
	h := head{major: b >> 5, info: b & 31}
	r.at++
	switch {
	case h.info < 24:
		h.argument = uint64(h.info)
	case h.info <= 27:
		size := 1 << (h.info - 24)
		if len(r.data)-r.at < size {
			return h, r.refuse("", "the payload ends too early")
		}
		for range size {
			h.argument = h.argument<<8 | uint64(r.data[r.at])
			r.at++
		}
		if h.major == majorSimple && h.info == 24 && h.argument < 32 {
			return h, r.refuseAt(start, "", "a simple value that is not well formed")
		}
	case h.info == 31 && (h.major >= majorBytes && h.major <= majorMap || h.major == majorSimple):
		h.indefinite = true
	default:
		return h, r.refuseAt(start, "", fmt.Sprintf("the reserved byte 0x%02x", b))
	}
	return h, nil
}

func (h head) describe() string {
	switch h.major {
	case majorUnsigned:
		return "the integer " + strconv.FormatUint(h.argument, 10)
	case majorNegative:
		if h.argument < 1<<63 {
			return "the integer " + strconv.FormatInt(-1-int64(h.argument), 10)
		}
		return "an integer below those of 64 bits"
	case majorBytes:
		return "a byte string"
	case majorText:
		return "a text"
	case majorArray:
		return "an array"
	case majorMap:
		return "a map"
	case majorTag:
		return fmt.Sprintf("tag %d", h.argument)
	}
	switch h.info {
	case 20:
		return "false"
	case 21:
		return "true"
	case 22:
		return "null"
	case 25, 26, 27:
		return "a float"
	case 31:
		return "a break"
	}
	return "a simple value"
}

func (r *cborReader) enter() *Error {
	if r.depth++; r.depth > MaxDepth {
		return r.refuse("", fmt.Sprintf("a nesting over %d", MaxDepth))
	}
	return nil
}

// weigh counts a message: one, and its declared fields, whether they are there or not.
func (r *cborReader) weigh(t *schema.Message) *Error {
	r.budget -= len(t.Fields)
	return r.spend()
}

func (r *cborReader) spend() *Error {
	if r.budget--; r.budget < 0 {
		return &Error{Found: "more elements and entries than a payload may contain", Offset: r.at, TooLarge: true}
	}
	return nil
}

// elements calls each for every element of an array or entry of a map, and
// refuses a count that the rest of the payload cannot hold.
func (r *cborReader) elements(h head, perElement int, each func(i int) *Error) *Error {
	if !h.indefinite && h.argument > uint64(len(r.data)-r.at)/uint64(perElement) {
		return r.refuse("", fmt.Sprintf("a length of %d, more than the payload contains", h.argument))
	}
	for i := 0; h.indefinite || uint64(i) < h.argument; i++ {
		if h.indefinite && r.at < len(r.data) && r.data[r.at] == 0xff {
			r.at++
			return nil
		}
		if err := r.spend(); err != nil {
			return err
		}
		if err := each(i); err != nil {
			return err
		}
	}
	return nil
}

func (r *cborReader) message(t *schema.Message) (*Message, *Error) {
	start := r.at
	h, err := r.head()
	if err != nil {
		return nil, err
	}
	if h.major != majorMap {
		return nil, r.refuseAt(start, "a map for "+named(t), h.describe())
	}
	if err := r.weigh(t); err != nil {
		return nil, err
	}
	if err := r.enter(); err != nil {
		return nil, err
	}
	m := &Message{Type: t, Fields: map[int]Value{}}
	seen := map[int]bool{}
	err = r.elements(h, 2, func(int) *Error {
		keyAt := r.at
		key, err := r.head()
		if err != nil {
			return err
		}
		if key.major != majorUnsigned || key.argument < 1 || key.argument > 65535 {
			return r.refuseAt(keyAt, "a field number from 1 to 65535", key.describe())
		}
		number := int(key.argument)
		f := t.ByNumber(number)
		step := "#" + strconv.Itoa(number)
		if f != nil {
			step = f.JSONName()
		}
		if seen[number] {
			return inside(r.refuseAt(keyAt, "", fmt.Sprintf("field #%d comes twice", number)), step)
		}
		seen[number] = true
		if f == nil {
			from := r.at
			if err := r.skip(); err != nil {
				return inside(err, step)
			}
			m.Unlisted = append(m.Unlisted, UnlistedField{Number: number, CBOR: r.data[from:r.at:r.at]})
			return nil
		}
		if f.Type.Kind == schema.KindAny && f.Presence == schema.Optional && !t.IsPatch() && r.isNull() {
			r.at++
			return nil
		}
		v, err := r.field(f)
		if err != nil {
			return inside(err, step)
		}
		m.Fields[number] = v
		return nil
	})
	if err != nil {
		return nil, err
	}
	r.depth--
	return m, finish(m, start)
}

// field reads the value of a field. In a patch null clears what may be cleared.
func (r *cborReader) field(f *schema.Field) (Value, *Error) {
	if f.Changes == nil || !r.isNull() {
		return r.value(f.Type)
	}
	if !f.Type.Clearable {
		return nil, r.refuse(f.Type.Short(), notCleared)
	}
	r.at++
	return Cleared{}, nil
}

// notCleared says why null is refused in a patch.
const notCleared = "null: the field is required, and can't be cleared"

// named names a message, or the patch of one, for a sentence.
func named(t *schema.Message) string {
	return (&schema.Type{Kind: schema.KindMessage, Message: t}).Short()
}

// finish fills in defaults, refuses what is missing and orders the unlisted.
func finish(m *Message, start int) *Error {
	for _, f := range m.Type.Fields {
		if _, ok := m.Fields[f.Number]; ok {
			continue
		}
		switch f.Presence {
		case schema.Required:
			return &Error{Path: "/" + escapePointer(f.JSONName()), Expected: f.Type.Short(),
				Found: "nothing: the field is required", Offset: start}
		case schema.Defaulted:
			m.Fields[f.Number] = Default(f.Default)
		}
	}
	sortUnlisted(m.Unlisted)
	return nil
}

func (r *cborReader) value(t *schema.Type) (Value, *Error) {
	switch t.Kind {
	case schema.KindMessage:
		return r.message(t.Message)
	case schema.KindAny:
		return r.any()
	}
	start := r.at
	h, err := r.head()
	if err != nil {
		return nil, err
	}
	wrong := func() (Value, *Error) { return nil, r.refuseAt(start, t.Short(), h.describe()) }
	if t.Kind.IsInteger() {
		low, high := t.Kind.Range()
		switch {
		case h.major == majorUnsigned && h.argument <= high && t.Kind.IsUnsigned():
			return h.argument, nil
		case h.major == majorUnsigned && h.argument <= high:
			return int64(h.argument), nil
		case h.major == majorNegative && h.argument <= math.MaxInt64 && -1-int64(h.argument) >= low:
			return -1 - int64(h.argument), nil
		}
		return wrong()
	}
	switch t.Kind {
	case schema.KindBool:
		if h.major != majorSimple || h.info != 20 && h.info != 21 {
			return wrong()
		}
		return h.info == 21, nil
	case schema.KindFloat32:
		x, ok := h.float()
		if !ok || h.major != majorSimple && float64(float32(x)) != x || math.IsInf(float64(float32(x)), 0) &&
			!math.IsInf(x, 0) {
			return wrong()
		}
		return float32(x), nil
	case schema.KindFloat64:
		x, ok := h.float()
		if !ok {
			return wrong()
		}
		return x, nil
	case schema.KindText:
		if h.major != majorText {
			return wrong()
		}
		return r.text(h)
	case schema.KindBytes:
		if h.major != majorBytes {
			return wrong()
		}
		return r.chunks(h)
	case schema.KindUUID:
		if h.major != majorTag || h.argument != tagUUID {
			return wrong()
		}
		return r.uuid()
	case schema.KindInstant:
		return r.instant(h, start)
	case schema.KindDecimal:
		return r.decimal(h, start)
	case schema.KindDate:
		return r.date(h, start)
	case schema.KindDuration:
		return r.duration(h, start)
	case schema.KindUnion:
		return r.union(h, start, t.Union)
	case schema.KindEnum:
		if h.major != majorUnsigned || h.argument > 65535 {
			return wrong()
		}
		return Enum{Number: int(h.argument)}, nil
	case schema.KindList:
		if h.major != majorArray {
			return wrong()
		}
		return r.list(h, t)
	case schema.KindMap:
		if h.major != majorMap {
			return wrong()
		}
		return r.mapping(h, t)
	}
	return wrong()
}

func (h head) integer() (int64, bool) {
	switch {
	case h.major == majorUnsigned && h.argument <= math.MaxInt64:
		return int64(h.argument), true
	case h.major == majorNegative && h.argument <= math.MaxInt64:
		return -1 - int64(h.argument), true
	}
	return 0, false
}

// float reads any width of float, and integers that a float64 can hold.
func (h head) float() (float64, bool) {
	switch h.major {
	case majorSimple:
		switch h.info {
		case 25:
			return float16(uint16(h.argument)), true
		case 26:
			return float64(math.Float32frombits(uint32(h.argument))), true
		case 27:
			return math.Float64frombits(h.argument), true
		}
	case majorUnsigned:
		x := float64(h.argument)
		return x, x < 1<<64 && uint64(x) == h.argument
	case majorNegative:
		// The value is -1-argument: exact when argument+1 is.
		if h.argument == math.MaxUint64 {
			return -(1 << 64), true
		}
		x := float64(h.argument + 1)
		return -x, x < 1<<64 && uint64(x) == h.argument+1
	}
	return 0, false
}

// float16 widens a half-precision float (RFC 8949, appendix D).
func float16(bits uint16) float64 {
	exponent, mantissa := int(bits>>10&31), float64(bits&1023)
	var x float64
	switch exponent {
	case 0:
		x = math.Ldexp(mantissa, -24)
	case 31:
		x = math.Inf(1)
		if mantissa != 0 {
			x = math.NaN()
		}
	default:
		x = math.Ldexp(mantissa+1024, exponent-25)
	}
	if bits&0x8000 != 0 {
		return math.Copysign(x, -1)
	}
	return x
}

func (r *cborReader) text(h head) (Value, *Error) {
	start := r.at
	b, err := r.chunks(h)
	if err != nil {
		return nil, err
	}
	if !utf8.Valid(b) {
		return nil, r.refuseAt(start, "text", "bytes that are not UTF-8")
	}
	return string(b), nil
}

// chunks reads a string of definite length, or the chunks of an indefinite
// one (RFC 8949, section 3.2.3).
func (r *cborReader) chunks(h head) ([]byte, *Error) {
	if !h.indefinite {
		if h.argument > uint64(len(r.data)-r.at) {
			return nil, r.refuse("", fmt.Sprintf("a length of %d, more than the payload contains", h.argument))
		}
		b := r.data[r.at : r.at+int(h.argument) : r.at+int(h.argument)]
		r.at += int(h.argument)
		return b, nil
	}
	all := []byte{}
	for {
		start := r.at
		chunk, err := r.head()
		if err != nil {
			return nil, err
		}
		if chunk.major == majorSimple && chunk.indefinite {
			return all, nil
		}
		if chunk.major != h.major || chunk.indefinite {
			return nil, r.refuseAt(start, "a chunk of the string", chunk.describe())
		}
		b, err := r.chunks(chunk)
		if err != nil {
			return nil, err
		}
		if h.major == majorText && !utf8.Valid(b) {
			return nil, r.refuseAt(start, "text", "bytes that are not UTF-8")
		}
		all = append(all, b...)
	}
}

func (r *cborReader) uuid() (Value, *Error) {
	start := r.at
	h, err := r.head()
	if err != nil {
		return nil, err
	}
	if h.major != majorBytes {
		return nil, r.refuseAt(start, "the 16 bytes of a uuid", h.describe())
	}
	b, err := r.chunks(h)
	if err != nil {
		return nil, err
	}
	if len(b) != 16 {
		return nil, r.refuseAt(start, "the 16 bytes of a uuid", fmt.Sprintf("%d bytes", len(b)))
	}
	return schema.UUID(b), nil
}

// instant reads tag 1 with integer seconds, or tag 1001 (RFC 9581).
func (r *cborReader) instant(h head, start int) (Value, *Error) {
	if h.major != majorTag || h.argument != tagEpoch && h.argument != tagTime {
		return nil, r.refuseAt(start, "instant", h.describe())
	}
	inner, err := r.head()
	if err != nil {
		return nil, err
	}
	var i schema.Instant
	seconds, isInteger := inner.integer()
	switch {
	case h.argument == tagEpoch && isInteger:
		i.Seconds = seconds
	case h.argument == tagTime && inner.major == majorMap:
		if i, err = r.extendedTime(inner, start); err != nil {
			return nil, err
		}
	default:
		return nil, r.refuseAt(start, "instant", "a tag over "+inner.describe())
	}
	if i.Seconds < schema.MinInstantSeconds || i.Seconds > schema.MaxInstantSeconds {
		return nil, r.refuseAt(start, "an instant in the years 0001 to 9999", fmt.Sprintf("%d seconds", i.Seconds))
	}
	return i, nil
}

func (r *cborReader) extendedTime(h head, start int) (schema.Instant, *Error) {
	var i schema.Instant
	hasSeconds, hasFraction := false, false
	if !h.indefinite && h.argument > 2 {
		return i, r.refuseAt(start, "seconds and at most one fraction", fmt.Sprintf("%d entries", h.argument))
	}
	for n := uint64(0); h.indefinite || n < h.argument; n++ {
		if h.indefinite && r.at < len(r.data) && r.data[r.at] == 0xff {
			r.at++
			break
		}
		key, err := r.head()
		if err != nil {
			return i, err
		}
		v, err := r.head()
		if err != nil {
			return i, err
		}
		k, keyOK := key.integer()
		number, ok := v.integer()
		unit := map[int64]int64{-3: 1_000_000, -6: 1_000, -9: 1}[k]
		switch {
		case keyOK && k == 1 && ok && !hasSeconds:
			i.Seconds, hasSeconds = number, true
		case keyOK && unit != 0 && ok && !hasFraction && number >= 1 && number <= 999_999_999/unit:
			i.Nanos, hasFraction = int32(number*unit), true
		default:
			return i, r.refuseAt(start, "seconds and at most one fraction of 1 to 999…",
				"an entry "+key.describe()+": "+v.describe())
		}
	}
	if !hasSeconds {
		return i, r.refuseAt(start, "seconds and at most one fraction", "no seconds")
	}
	return i, nil
}

func (r *cborReader) list(h head, t *schema.Type) (Value, *Error) {
	if err := r.enter(); err != nil {
		return nil, err
	}
	list := List{}
	err := r.elements(h, 1, func(i int) *Error {
		v, err := r.value(t.Elem)
		list = append(list, v)
		return inside(err, strconv.Itoa(i))
	})
	r.depth--
	return list, err
}

func (r *cborReader) mapping(h head, t *schema.Type) (Value, *Error) {
	if err := r.enter(); err != nil {
		return nil, err
	}
	m := &Map{}
	seen := map[Value]bool{}
	err := r.elements(h, 2, func(int) *Error {
		start := r.at
		key, err := r.value(t.Key)
		if err != nil {
			return err
		}
		step := KeyText(key, t.Key)
		if seen[key] {
			return inside(r.refuseAt(start, "", "the key comes twice"), step)
		}
		seen[key] = true
		v, err := r.value(t.Elem)
		m.Entries = append(m.Entries, Entry{key, v})
		return inside(err, step)
	})
	r.depth--
	sortEntries(m.Entries)
	return m, err
}

// skip passes over one well-formed item. Its arrays and maps count for depth
// and budget, tags do not; its text must be UTF-8.
func (r *cborReader) skip() *Error {
	h, err := r.head()
	for err == nil && h.major == majorTag {
		h, err = r.head()
	}
	if err != nil {
		return err
	}
	switch h.major {
	case majorBytes:
		_, err = r.chunks(h)
	case majorText:
		_, err = r.text(h)
	case majorArray, majorMap:
		if err := r.enter(); err != nil {
			return err
		}
		perElement := int(h.major) - majorArray + 1
		err = r.elements(h, perElement, func(int) *Error {
			for range perElement {
				if err := r.skip(); err != nil {
					return err
				}
			}
			return nil
		})
		r.depth--
	case majorSimple:
		if h.indefinite {
			err = r.refuseAt(r.at-1, "a value", "a break")
		}
	}
	return err
}

// EncodeCBOR writes a message deterministically: shortest heads, fields and
// keys ascending. The error is an *Error.
func EncodeCBOR(m *Message) ([]byte, error) { return encodeCBOR(m, false) }

// EncodeCBORWithout is EncodeCBOR, but a defaulted field without a value is
// left out, as people do who write payloads by hand.
func EncodeCBORWithout(m *Message) ([]byte, error) { return encodeCBOR(m, true) }

func encodeCBOR(m *Message, leaveOut bool) ([]byte, error) {
	w := &cborWriter{leaveOut: leaveOut}
	if err := w.message(m); err != nil {
		return nil, err
	}
	return w.out, nil
}

type cborWriter struct {
	out      []byte
	depth    int
	leaveOut bool
}

func (w *cborWriter) head(major byte, n uint64) {
	switch {
	case n < 24:
		w.out = append(w.out, major<<5|byte(n))
	case n < 1<<8:
		w.out = append(w.out, major<<5|24, byte(n))
	case n < 1<<16:
		w.out = append(w.out, major<<5|25, byte(n>>8), byte(n))
	case n < 1<<32:
		w.out = append(w.out, major<<5|26, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
	default:
		w.out = append(w.out, major<<5|27)
		for shift := 56; shift >= 0; shift -= 8 {
			w.out = append(w.out, byte(n>>shift))
		}
	}
}

func (w *cborWriter) integer(n int64) {
	if n < 0 {
		w.head(majorNegative, uint64(-1-n))
	} else {
		w.head(majorUnsigned, uint64(n))
	}
}

func writeError(format string, args ...any) *Error {
	return &Error{Found: fmt.Sprintf(format, args...), Offset: -1}
}

// present lists what a writer writes: fields and unknown numbers ascending.
type present struct {
	number   int
	field    *schema.Field
	value    Value
	unlisted []byte
}

func presentFields(m *Message, leaveOut bool) ([]present, *Error) {
	list := make([]present, 0, len(m.Fields)+len(m.Unlisted))
	unlisted := m.Unlisted
	flush := func(below int) {
		for len(unlisted) > 0 && (unlisted[0].Number == 0 || unlisted[0].Number < below) {
			if unlisted[0].Number > 0 {
				list = append(list, present{number: unlisted[0].Number, unlisted: unlisted[0].CBOR})
			}
			unlisted = unlisted[1:]
		}
	}
	for _, f := range m.Type.Fields {
		flush(f.Number)
		v, ok := m.Fields[f.Number]
		if a, isAny := v.(schema.Any); isAny && a.Value == nil && f.Presence == schema.Optional {
			if !m.Type.IsPatch() {
				continue // null is absent here
			}
			v = Cleared{}
		}
		if isCleared(v) && !f.Type.Clearable {
			return nil, inside(writeError("the field is required, and can't be cleared"), f.JSONName())
		}
		if !ok {
			if f.Presence == schema.Required {
				return nil, inside(writeError("the field is required"), f.JSONName())
			}
			if f.Presence == schema.Optional || leaveOut {
				continue
			}
			v = Default(f.Default)
		}
		list = append(list, present{number: f.Number, field: f, value: v})
	}
	flush(1 << 16)
	return list, nil
}

func (w *cborWriter) enter() *Error {
	if w.depth++; w.depth > MaxDepth {
		return writeError("a nesting over %d", MaxDepth)
	}
	return nil
}

func (w *cborWriter) message(m *Message) *Error {
	if err := w.enter(); err != nil {
		return err
	}
	list, err := presentFields(m, w.leaveOut)
	if err != nil {
		return err
	}
	w.head(majorMap, uint64(len(list)))
	for _, p := range list {
		w.head(majorUnsigned, uint64(p.number))
		if p.field == nil {
			w.out = append(w.out, p.unlisted...)
		} else if err := w.value(p.value, p.field.Type); err != nil {
			return inside(err, p.field.JSONName())
		}
	}
	w.depth--
	return nil
}

func (w *cborWriter) value(v Value, t *schema.Type) *Error {
	switch v := v.(type) {
	case Cleared:
		w.out = append(w.out, 0xf6)
	case bool:
		w.out = append(w.out, map[bool]byte{false: 0xf4, true: 0xf5}[v])
	case int64:
		w.integer(v)
	case uint64:
		w.head(majorUnsigned, v)
	case float32:
		bits := math.Float32bits(v)
		if v != v {
			bits = 0x7fc00000
		}
		w.out = append(w.out, 0xfa, byte(bits>>24), byte(bits>>16), byte(bits>>8), byte(bits))
	case float64:
		bits := math.Float64bits(v)
		if math.IsNaN(v) {
			bits = 0x7ff8000000000000
		}
		w.out = append(w.out, 0xfb)
		for shift := 56; shift >= 0; shift -= 8 {
			w.out = append(w.out, byte(bits>>shift))
		}
	case string:
		if !utf8.ValidString(v) {
			return writeError("text that is not UTF-8")
		}
		w.head(majorText, uint64(len(v)))
		w.out = append(w.out, v...)
	case []byte:
		w.head(majorBytes, uint64(len(v)))
		w.out = append(w.out, v...)
	case schema.UUID:
		w.out = append(append(w.out, 0xd8, 37, 0x50), v[:]...)
	case schema.Instant:
		w.instant(v)
	case schema.Decimal:
		w.decimal(v)
	case schema.Date:
		w.head(majorTag, tagDate)
		w.integer(int64(v))
	case schema.Duration:
		w.duration(v)
	case schema.Any:
		return w.any(v)
	case Enum:
		if v.Number < 0 {
			return writeError("the name %q is not listed in %s, and binary payloads contain numbers", v.Name, t.Enum.Name)
		}
		w.head(majorUnsigned, uint64(v.Number))
	case List:
		if err := w.enter(); err != nil {
			return err
		}
		w.head(majorArray, uint64(len(v)))
		for i, item := range v {
			if err := w.value(item, t.Elem); err != nil {
				return inside(err, strconv.Itoa(i))
			}
		}
		w.depth--
	case *Map:
		if err := w.enter(); err != nil {
			return err
		}
		w.head(majorMap, uint64(len(v.Entries)))
		for _, e := range v.Entries {
			if err := w.value(e.Key, t.Key); err != nil {
				return err
			}
			if err := w.value(e.Value, t.Elem); err != nil {
				return inside(err, KeyText(e.Key, t.Key))
			}
		}
		w.depth--
	case *Union:
		return w.union(v, t.Union)
	case *Message:
		return w.message(v)
	default:
		return writeError("a value of the Go type %T", v)
	}
	return nil
}

func (w *cborWriter) instant(i schema.Instant) {
	if i.Nanos == 0 {
		w.head(majorTag, tagEpoch)
		w.integer(i.Seconds)
		return
	}
	w.head(majorTag, tagTime)
	w.extendedTime(i.Seconds, i.Nanos)
}
