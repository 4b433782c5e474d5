package wire

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"math"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// CBOR major types (RFC 8949, section 3.1), shifted to their place.
const (
	unsigned = 0 << 5
	negative = 1 << 5
	byteText = 2 << 5
	utf8Text = 3 << 5
	array    = 4 << 5
	mapping  = 5 << 5
	tag      = 6 << 5
	simple   = 7 << 5

	indefinite = 31
	breakByte  = 0xff
)

// CBORReader reads CBOR. After a failure it reads zero values.
type CBORReader struct{ Reader }

// head reads the first byte and the argument of an item (RFC 8949, section
// 3). The argument of an indefinite length is 0.
func (r *CBORReader) head() (first byte, argument uint64) {
	if r.at >= len(r.data) || r.err != nil {
		r.fail(r.at, "the payload ends too early")
		return simple, 0
	}
	first = r.data[r.at]
	if info := first & 31; info < 24 {
		r.at++
		return first, uint64(info)
	}
	return r.longHead(first)
}

func (r *CBORReader) longHead(first byte) (byte, uint64) {
	start := r.at
	info := first & 31
	r.at++
	rest := r.data[r.at:]
	var argument uint64
	switch {
	case info == 24 && len(rest) >= 1:
		argument = uint64(rest[0])
		r.at++
		if first&0xe0 == simple && argument < 32 {
			r.fail(start, "a simple value that is not well formed")
		}
	case info == 25 && len(rest) >= 2:
		argument = uint64(binary.BigEndian.Uint16(rest))
		r.at += 2
	case info == 26 && len(rest) >= 4:
		argument = uint64(binary.BigEndian.Uint32(rest))
		r.at += 4
	case info == 27 && len(rest) >= 8:
		argument = binary.BigEndian.Uint64(rest)
		r.at += 8
	case info <= 27:
		r.fail(len(r.data), "the payload ends too early")
		return simple, 0
	case info == indefinite && first&0xe0 != unsigned && first&0xe0 != negative && first&0xe0 != tag:
	default:
		r.fail(start, "the reserved byte 0x%02x", first)
		return simple, 0
	}
	return first, argument
}

var majorNames = map[byte]string{unsigned: "an integer", negative: "a negative integer", byteText: "a byte string",
	utf8Text: "a text",
	array:    "an array", mapping: "a map", tag: "a tag", simple: "a simple value or float"}

// short reads the argument of a head of one byte, of a major type. ok is false
// where the head is longer, or of another type, or not there: nothing was read
// then.
func (r *CBORReader) short(major byte) (argument int, ok bool) {
	if r.at >= len(r.data) {
		return 0, false
	}
	argument = int(r.data[r.at] ^ major)
	if argument >= 24 {
		return 0, false
	}
	r.at++
	return argument, true
}

func (r *CBORReader) wrong(start int, first byte, expected string) {
	r.fail(start, "expected %s, found %s", expected, majorNames[first&0xe0])
}

// open reads the head of an array or map: its length, or -1 for indefinite.
func (r *CBORReader) open(major byte, perElement int, expected string) int {
	if r.at < len(r.data) {
		n := int(r.data[r.at] ^ major)
		if n < 24 && n*perElement < len(r.data)-r.at && n <= r.budget && r.depth < MaxDepth {
			r.at++
			r.depth++
			r.budget -= n
			return n
		}
	}
	return r.openLong(major, perElement, expected)
}

func (r *CBORReader) openLong(major byte, perElement int, expected string) int {
	start := r.at
	first, n := r.head()
	if first&0xe0 != major {
		r.wrong(start, first, expected)
		return 0
	}
	r.enter()
	if first&31 == indefinite {
		return -1
	}
	if n > uint64((len(r.data)-r.at)/perElement) {
		r.fail(start, "a length of %d, more than the payload contains", n)
		return 0
	}
	r.spend(int(n))
	return int(n)
}

// OpenMessage begins a message that declares so many fields: its number of entries, or -1.
func (r *CBORReader) OpenMessage(name string, fields int) int {
	r.spend(1 + fields)
	return r.open(mapping, 2, name)
}

// OpenList begins a list: its length, or -1.
func (r *CBORReader) OpenList() int { return r.open(array, 1, "a list") }

// OpenMap begins a map: its number of entries, or -1.
func (r *CBORReader) OpenMap() int { return r.open(mapping, 2, "a map") }

// More tells whether another element follows, counting n down.
func (r *CBORReader) More(n *int) bool {
	if *n > 0 && r.err == nil {
		*n--
		return true
	}
	return *n != 0 && r.moreAfter(n)
}

// moreAfter is More where no length is known, or something failed.
func (r *CBORReader) moreAfter(n *int) bool {
	if *n == 0 || r.err != nil {
		return false
	}
	if r.at < len(r.data) && r.data[r.at] == breakByte {
		r.at++
		return false
	}
	r.spend(1)
	return r.err == nil
}

// FieldNumber reads the key of a message's entry.
func (r *CBORReader) FieldNumber() int {
	if r.at < len(r.data) {
		if c := r.data[r.at]; c-1 < 23 {
			r.at++
			return int(c)
		}
	}
	start := r.at
	first, n := r.head()
	if first&0xe0 != unsigned || n < 1 || n > 65535 {
		r.fail(start, "expected a field number from 1 to 65535")
		return 0
	}
	return int(n)
}

// Bool reads a bool.
func (r *CBORReader) Bool() bool {
	if r.at < len(r.data) && r.data[r.at]|1 == simple|21 {
		r.at++
		return r.data[r.at-1] == simple|21
	}
	start := r.at
	first, _ := r.head()
	if first != simple|20 && first != simple|21 {
		r.wrong(start, first, "bool")
	}
	return first == simple|21
}

// Int64 reads an int64.
func (r *CBORReader) Int64() int64 { return r.signed(math.MaxInt64, "int64") }

// Int32 reads an int32.
func (r *CBORReader) Int32() int32 { return int32(r.signed(math.MaxInt32, "int32")) }

// Int16 reads an int16.
func (r *CBORReader) Int16() int16 { return int16(r.signed(math.MaxInt16, "int16")) }

// Int8 reads an int8.
func (r *CBORReader) Int8() int8 { return int8(r.signed(math.MaxInt8, "int8")) }

// signed reads an integer from -1-high to high.
func (r *CBORReader) signed(high uint64, expected string) int64 {
	if n, ok := r.short(unsigned); ok {
		return int64(n)
	}
	start := r.at
	first, n := r.head()
	if first&0xe0 > negative || n > high {
		r.wrong(start, first, expected)
		return 0
	}
	if first&0xe0 == negative {
		return -1 - int64(n)
	}
	return int64(n)
}

// Uint64 reads a uint64.
func (r *CBORReader) Uint64() uint64 { return r.unsigned(math.MaxUint64, "uint64") }

// Uint32 reads a uint32.
func (r *CBORReader) Uint32() uint32 { return uint32(r.unsigned(math.MaxUint32, "uint32")) }

// Uint16 reads a uint16.
func (r *CBORReader) Uint16() uint16 { return uint16(r.unsigned(math.MaxUint16, "uint16")) }

// Uint8 reads a uint8.
func (r *CBORReader) Uint8() uint8 { return uint8(r.unsigned(math.MaxUint8, "uint8")) }

func (r *CBORReader) unsigned(high uint64, expected string) uint64 {
	if n, ok := r.short(unsigned); ok {
		return uint64(n)
	}
	start := r.at
	first, n := r.head()
	if first&0xe0 != unsigned || n > high {
		r.wrong(start, first, expected)
		return 0
	}
	return n
}

// EnumNumber reads the number of an enum's member.
func (r *CBORReader) EnumNumber() uint16 {
	return uint16(r.unsigned(math.MaxUint16, "the number of a member, 0 to 65535"))
}

// Float64 reads a float of any width, or an integer that it can represent.
func (r *CBORReader) Float64() float64 {
	if rest := r.data[r.at:]; len(rest) >= 9 && rest[0] == simple|27 {
		r.at += 9
		return math.Float64frombits(binary.BigEndian.Uint64(rest[1:]))
	}
	start := r.at
	first, n := r.head()
	switch first {
	case simple | 27:
		return math.Float64frombits(n)
	case simple | 26:
		return float64(math.Float32frombits(uint32(n)))
	case simple | 25:
		return float16(uint16(n))
	}
	x := float64(n)
	switch first & 0xe0 {
	case unsigned:
		if x < 1<<64 && uint64(x) == n {
			return x
		}
	case negative:
		if n == math.MaxUint64 {
			return -(1 << 64)
		}
		if x = float64(n + 1); x < 1<<64 && uint64(x) == n+1 {
			return -x
		}
	}
	r.wrong(start, first, "float64")
	return 0
}

// Float32 reads a float of any width, rounded to the nearest, or an integer
// that it can represent.
func (r *CBORReader) Float32() float32 {
	start := r.at
	x := r.Float64()
	narrow := float32(x)
	isFloat := start < len(r.data) && r.data[start]&0xe0 == simple
	if !isFloat && float64(narrow) != x || math.IsInf(float64(narrow), 0) && !math.IsInf(x, 0) {
		r.fail(start, "expected float32, found a number that it can't represent")
	}
	return narrow
}

// float16 widens a half-precision float (RFC 8949, appendix D).
func float16(bits uint16) float64 {
	mantissa := float64(bits & 1023)
	var x float64
	switch exponent := int(bits >> 10 & 31); exponent {
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
		return -x
	}
	return x
}

// Text reads a text.
func (r *CBORReader) Text() string {
	if r.at < len(r.data) {
		n := int(r.data[r.at] ^ utf8Text)
		if rest := r.data[r.at+1:]; n < 24 && n <= len(rest) {
			if text := string(rest[:n]); validText(text) {
				r.at += 1 + n
				return text
			}
		}
	}
	return r.longText()
}

func (r *CBORReader) longText() string {
	start := r.at
	text := string(r.chunks(utf8Text, "text"))
	if !validText(text) {
		r.fail(start, "text that is not UTF-8")
		return ""
	}
	return text
}

// Bytes reads bytes; the result is a copy and never nil.
func (r *CBORReader) Bytes() []byte {
	return append([]byte{}, r.chunks(byteText, "bytes")...)
}

// chunks reads a string of definite length, or the chunks of an indefinite
// one (RFC 8949, section 3.2.3).
func (r *CBORReader) chunks(major byte, expected string) []byte {
	start := r.at
	first, n := r.head()
	if first&0xe0 != major {
		r.wrong(start, first, expected)
		return nil
	}
	if first&31 != indefinite {
		if n > uint64(len(r.data)-r.at) {
			r.fail(start, "a length of %d, more than the payload contains", n)
			return nil
		}
		r.at += int(n)
		return r.data[r.at-int(n) : r.at]
	}
	var all []byte
	for r.err == nil {
		if r.at < len(r.data) && r.data[r.at] == breakByte {
			r.at++
			return all
		}
		if r.at < len(r.data) && r.data[r.at] == major|indefinite {
			r.fail(r.at, "a chunk of indefinite length")
			return nil
		}
		start := r.at
		chunk := r.chunks(major, expected)
		if major == utf8Text && !utf8.Valid(chunk) {
			r.fail(start, "text that is not UTF-8")
		}
		all = append(all, chunk...)
	}
	return nil
}

// UUID reads tag 37 over 16 bytes.
func (r *CBORReader) UUID() (u UUID) {
	if rest := r.data[r.at:]; len(rest) >= 19 && rest[0] == tag|24 && rest[1] == 37 && rest[2] == byteText|16 {
		r.at += 19
		return UUID(rest[3:19])
	}
	start := r.at
	first, n := r.head()
	if first&0xe0 != tag || n != 37 {
		r.wrong(start, first, "uuid")
		return u
	}
	b := r.chunks(byteText, "the 16 bytes of a uuid")
	if len(b) != 16 {
		r.fail(start, "expected the 16 bytes of a uuid, found %d", len(b))
		return u
	}
	return UUID(b)
}

// Instant reads tag 1 with integer seconds, or tag 1001 (RFC 9581).
func (r *CBORReader) Instant() time.Time {
	// As our writers write the years 1970 to 2106, in whole or in milliseconds.
	rest := r.data[r.at:]
	if len(rest) >= 6 && rest[0] == tag|1 && rest[1] == unsigned|26 {
		r.at += 6
		return time.Unix(int64(binary.BigEndian.Uint32(rest[2:])), 0).UTC()
	}
	if len(rest) >= 14 && string(rest[:6]) == "\xd9\x03\xe9\xa2\x01\x1a" && rest[10] == negative|2 &&
		rest[11] == unsigned|25 {
		if millis := binary.BigEndian.Uint16(rest[12:]); millis >= 1 && millis <= 999 {
			r.at += 14
			return time.Unix(int64(binary.BigEndian.Uint32(rest[6:])), int64(millis)*1_000_000).UTC()
		}
	}
	return r.anyInstant()
}

func (r *CBORReader) anyInstant() time.Time {
	start := r.at
	first, n := r.head()
	var seconds, nanos int64
	switch {
	case first&0xe0 == tag && n == 1:
		seconds = r.Int64()
	case first&0xe0 == tag && n == 1001:
		seconds, nanos = r.extendedTime()
	default:
		r.wrong(start, first, "instant")
	}
	if seconds < minSeconds || seconds > maxSeconds {
		r.fail(start, "an instant outside the years 0001 to 9999")
	}
	if r.err != nil {
		return time.Time{}
	}
	return time.Unix(seconds, nanos).UTC()
}

func (r *CBORReader) extendedTime() (seconds, nanos int64) {
	start := r.at
	first, count := r.head()
	if first&0xe0 != mapping || count > 2 {
		r.fail(start, "expected seconds and at most one fraction")
		return 0, 0
	}
	n := int(count)
	if first&31 == indefinite {
		n = -1
	}
	hasSeconds := false
	for r.More(&n) {
		key, v := r.Int64(), r.Int64()
		var unit int64
		switch key {
		case -3:
			unit = 1_000_000
		case -6:
			unit = 1_000
		case -9:
			unit = 1
		}
		switch {
		case key == 1 && !hasSeconds:
			seconds, hasSeconds = v, true
		case unit != 0 && nanos == 0 && v >= 1 && v <= 999_999_999/unit:
			nanos = v * unit
		default:
			r.fail(start, "expected seconds and at most one fraction of 1 to 999…")
		}
	}
	if !hasSeconds {
		r.fail(start, "expected seconds and at most one fraction")
	}
	return seconds, nanos
}

// KeepUnlisted keeps an entry whose number the definitions do not know.
func (r *CBORReader) KeepUnlisted(list *[]UnlistedField, number int) {
	start := r.at
	r.skip()
	if r.err == nil {
		*list = append(*list, UnlistedField{Number: number, Raw: bytes.Clone(r.data[start:r.at])})
	}
}

// skip passes over one well-formed item.
func (r *CBORReader) skip() {
	start := r.at
	first, _ := r.head()
	for first&0xe0 == tag {
		start = r.at
		first, _ = r.head()
	}
	if r.err != nil {
		return
	}
	switch first & 0xe0 {
	case byteText:
		r.at = start
		r.chunks(byteText, "bytes")
	case utf8Text:
		r.at = start
		if !utf8.Valid(r.chunks(utf8Text, "text")) {
			r.fail(start, "text that is not UTF-8")
		}
	case array, mapping:
		r.at = start
		items := int(first&0xe0-array)>>5 + 1
		for n := r.open(first&0xe0, items, "a value"); r.More(&n); {
			r.skip()
			if items == 2 {
				r.skip()
			}
		}
		r.Leave()
	case simple:
		if first == breakByte {
			r.fail(start, "a break where a value is due")
		}
	}
}

// appendHead appends the head of an item of a major type.
func appendHead(b []byte, major byte, n uint64) []byte {
	if n < 24 {
		return append(b, major|byte(n))
	}
	return appendLongHead(b, major, n)
}

//go:noinline
func appendLongHead(b []byte, major byte, n uint64) []byte {
	switch {
	case n < 1<<8:
		return append(b, major|24, byte(n))
	case n < 1<<16:
		return append(b, major|25, byte(n>>8), byte(n))
	case n < 1<<32:
		return binary.BigEndian.AppendUint32(append(b, major|26), uint32(n))
	}
	return binary.BigEndian.AppendUint64(append(b, major|27), n)
}

// AppendMapHead begins a message or map of n entries.
func AppendMapHead(b []byte, n int) []byte { return appendHead(b, mapping, uint64(n)) }

// AppendListHead begins a list of n items.
func AppendListHead(b []byte, n int) []byte { return appendHead(b, array, uint64(n)) }

// AppendBool appends a bool.
func AppendBool(b []byte, v bool) []byte {
	if v {
		return append(b, simple|21)
	}
	return append(b, simple|20)
}

// AppendInt appends a signed integer.
func AppendInt(b []byte, v int64) []byte {
	if v < 0 {
		return appendHead(b, negative, uint64(^v))
	}
	return appendHead(b, unsigned, uint64(v))
}

// AppendUint appends an unsigned integer, or the number of an enum's member.
func AppendUint(b []byte, v uint64) []byte { return appendHead(b, unsigned, v) }

// AppendFloat64 appends a float64, always in 8 bytes.
func AppendFloat64(b []byte, v float64) []byte {
	bits := math.Float64bits(v)
	if v != v {
		bits = 0x7ff8000000000000
	}
	return binary.BigEndian.AppendUint64(append(b, simple|27), bits)
}

// AppendFloat32 appends a float32, always in 4 bytes.
func AppendFloat32(b []byte, v float32) []byte {
	bits := math.Float32bits(v)
	if v != v {
		bits = 0x7fc00000
	}
	return binary.BigEndian.AppendUint32(append(b, simple|26), bits)
}

// AppendString appends a text, which must be UTF-8.
func AppendString(b []byte, v string, w *Writer) []byte {
	if !validText(v) {
		w.fail("text that is not UTF-8")
	}
	return append(appendHead(b, utf8Text, uint64(len(v))), v...)
}

// AppendBytes appends bytes.
func AppendBytes(b, v []byte) []byte {
	return append(appendHead(b, byteText, uint64(len(v))), v...)
}

// AppendUUID appends a uuid.
func AppendUUID(b []byte, v UUID) []byte {
	return append(append(b, tag|24, 37, byteText|16), v[:]...)
}

// AppendInstant appends an instant in the years 0001 to 9999.
func AppendInstant(b []byte, v time.Time, w *Writer) []byte {
	seconds, nanos := v.Unix(), v.Nanosecond()
	if seconds < minSeconds || seconds > maxSeconds {
		w.fail("an instant outside the years 0001 to 9999")
		return b
	}
	if nanos == 0 {
		return AppendInt(append(b, tag|1), seconds)
	}
	return appendFraction(AppendInt(append(b, tag|25, 1001>>8, 1001&255, mapping|2, 1), seconds), int64(nanos))
}

// appendFraction appends the coarsest exact fraction of a second.
func appendFraction(b []byte, nanos int64) []byte {
	switch {
	case nanos%1_000_000 == 0:
		return AppendInt(append(b, negative|2), nanos/1_000_000)
	case nanos%1_000 == 0:
		return AppendInt(append(b, negative|5), nanos/1_000)
	}
	return AppendInt(append(b, negative|8), nanos)
}

// Integer is every integer that a map may have as key, named ones too.
type Integer interface {
	~int8 | ~int16 | ~int32 | ~int64 | ~uint8 | ~uint16 | ~uint32 | ~uint64
}

// Entry is an entry of a map.
type Entry[K comparable, V any] struct {
	Key   K
	Value V
}

// SortedTexts appends the entries of a map to list, in the order of the keys'
// encoding (RFC 8949, section 4.2.1): shorter ones first, then bytewise.
func SortedTexts[K ~string, V any](list []Entry[K, V], m map[K]V) []Entry[K, V] {
	for k, v := range m {
		list = append(list, Entry[K, V]{k, v})
	}
	if len(list) > 12 {
		slices.SortFunc(list, func(a, b Entry[K, V]) int { return compareTexts(a.Key, b.Key) })
		return list
	}
	for i := 1; i < len(list); i++ {
		for j := i; j > 0 && lessText(list[j].Key, list[j-1].Key); j-- {
			list[j], list[j-1] = list[j-1], list[j]
		}
	}
	return list
}

func lessText[K ~string](a, b K) bool {
	if len(a) != len(b) {
		return len(a) < len(b)
	}
	return a < b
}

func compareTexts[K ~string](a, b K) int {
	if len(a) != len(b) {
		return len(a) - len(b)
	}
	return strings.Compare(string(a), string(b))
}

// SortedIntegers is SortedTexts for integers: those from 0 up, then -1, -2….
func SortedIntegers[K Integer, V any](list []Entry[K, V], m map[K]V) []Entry[K, V] {
	for k, v := range m {
		list = append(list, Entry[K, V]{k, v})
	}
	slices.SortFunc(list, func(a, b Entry[K, V]) int {
		switch x, y := a.Key, b.Key; {
		case (x < 0) != (y < 0), x < 0:
			return cmp.Compare(y, x)
		default:
			return cmp.Compare(x, y)
		}
	})
	return list
}

// SortedMembers is SortedTexts for an enum: by number, then what has none.
func SortedMembers[K ~string, V any](list []Entry[K, V], m map[K]V, number func(K) (uint16, bool)) []Entry[K, V] {
	for k, v := range m {
		list = append(list, Entry[K, V]{k, v})
	}
	slices.SortFunc(list, func(a, b Entry[K, V]) int {
		x, known := number(a.Key)
		y, alsoKnown := number(b.Key)
		switch {
		case known && alsoKnown:
			return int(x) - int(y)
		case known:
			return -1
		case alsoKnown:
			return 1
		}
		return compareTexts(a.Key, b.Key)
	})
	return list
}

// CountUnlisted is how many unlisted fields have a binary encoding.
func CountUnlisted(list []UnlistedField) int {
	if len(list) == 0 {
		return 0
	}
	return countNumbered(list)
}

func countNumbered(list []UnlistedField) int {
	n := 0
	for _, u := range list {
		if u.Number > 0 {
			n++
		}
	}
	return n
}

// MergeCBOR puts unlisted fields among those of the message that begins at
// start, in the order of their numbers.
func MergeCBOR(b []byte, start int, list []UnlistedField) []byte {
	if CountUnlisted(list) == 0 {
		return b
	}
	return mergeCBOR(b, start, list)
}

func mergeCBOR(b []byte, start int, list []UnlistedField) []byte {
	r := CBORReader{Reader{data: bytes.Clone(b[start:]), budget: math.MaxInt}}
	_, total := r.head()
	b = append(b[:start], r.data[:r.at]...)
	for known := int(total) - CountUnlisted(list); known > 0; known-- {
		at := r.at
		number := r.FieldNumber()
		for len(list) > 0 && list[0].Number > 0 && list[0].Number < number {
			b = append(AppendUint(b, uint64(list[0].Number)), list[0].Raw...)
			list = list[1:]
		}
		r.skip()
		b = append(b, r.data[at:r.at]...)
	}
	for _, u := range list {
		if u.Number > 0 {
			b = append(AppendUint(b, uint64(u.Number)), u.Raw...)
		}
	}
	return b
}
