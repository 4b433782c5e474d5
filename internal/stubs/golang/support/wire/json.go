package wire

import (
	"bytes"
	"encoding/base64"
	"math"
	"slices"
	"strconv"
	"time"
	"unicode/utf16"
	"unicode/utf8"
)

// JSONReader reads JSON. After a failure it reads zero values.
type JSONReader struct {
	Reader
	first bool   // nothing read yet of the innermost object or array
	name  []byte // of the current member
	spare []byte // where names and strings with escapes are put together
}

func (r *JSONReader) blanks() {
	for r.at < len(r.data) {
		switch r.data[r.at] {
		case ' ', '\t', '\r', '\n':
			r.at++
		default:
			return
		}
	}
}

// peek returns the next byte that is not a blank, or 0.
func (r *JSONReader) peek() byte {
	if r.at < len(r.data) && r.data[r.at] > ' ' {
		return r.data[r.at]
	}
	r.blanks()
	if r.at < len(r.data) {
		return r.data[r.at]
	}
	return 0
}

func (r *JSONReader) wrong(expected string) {
	found := "the end"
	switch c := r.peek(); {
	case r.at >= len(r.data):
	case c == '{':
		found = "an object"
	case c == '[':
		found = "an array"
	case c == '"':
		found = "a string"
	case c == '-' || c >= '0' && c <= '9':
		found = "a number"
	case bytes.HasPrefix(r.data[r.at:], []byte("null")):
		found = "null"
	default:
		found = strconv.QuoteRune(rune(c))
	}
	r.fail(r.at, "expected %s, found %s", expected, found)
}

// OpenMessage begins a message that declares so many fields; Member goes on.
func (r *JSONReader) OpenMessage(name string, fields int) {
	r.spend(1 + fields)
	r.begin('{', name)
}

// OpenObject begins a map; NextKey goes on.
func (r *JSONReader) OpenObject(name string) { r.begin('{', name) }

// OpenList begins a list; More goes on. It returns where the first item begins.
func (r *JSONReader) OpenList() int {
	r.begin('[', "a list")
	return r.at
}

// Roomy makes room in a list that is full, by what its items took of the payload so far. It began
// at from.
func Roomy[T any](r *JSONReader, list []T, from int) []T {
	if len(list) < cap(list) || len(list) < 16 {
		return list
	}
	left := (len(r.data) - r.at) / max(1, (r.at-from)/len(list))
	return slices.Grow(list, 1+min(left+left/16, 4*len(list)))
}

func (r *JSONReader) begin(c byte, expected string) {
	if r.peek() != c {
		r.wrong(expected)
		return
	}
	r.at++
	r.enter()
	r.first = true
}

// following moves to the next element, or past the closing bracket.
func (r *JSONReader) following(closing byte) bool {
	if r.err != nil {
		return false
	}
	c := r.peek()
	switch {
	case c == closing:
		r.at++
		r.first = false
		r.depth--
		return false
	case r.first:
		r.first = false
	case c == ',':
		r.at++
	default:
		r.wrong("a comma or " + string(closing))
		return false
	}
	r.spend(1)
	return r.err == nil
}

// More tells whether another item of a list follows.
func (r *JSONReader) More() bool { return r.following(']') }

// Member moves to the next member of a message; Name tells which.
func (r *JSONReader) Member() bool {
	if !r.following('}') {
		return false
	}
	if r.peek() != '"' {
		r.wrong("a name in quotes")
		return false
	}
	r.name = r.stringBytes()
	if r.peek() != ':' {
		r.wrong("a colon")
		return false
	}
	r.at++
	return r.err == nil
}

// Name is the name of the current member, until the next is read.
func (r *JSONReader) Name() []byte { return r.name }

// IntegerKey reads the name of the current member as an integer: its canonical
// digits.
func IntegerKey[K Integer](r *JSONReader) K {
	n, minus, ok := parseInteger(r.name, true)
	key := K(n)
	if minus {
		key = -key
	}
	fits := key < 0 == minus && (minus && uint64(-int64(key)) == n || !minus && uint64(key) == n)
	if !ok || !fits {
		r.fail(r.at, "expected an integer of the key's type, found %s", shorten(r.name))
		return 0
	}
	return key
}

// EnumKey reads the name of the current member where it is the number of an
// enum's member, in canonical digits.
func (r *JSONReader) EnumKey() (number uint16, digits bool) {
	if len(r.name) == 0 || !onlyDigits(string(r.name)) || r.name[0] == '0' && len(r.name) > 1 {
		return 0, false
	}
	n, _, ok := parseInteger(r.name, true)
	if !ok || n > math.MaxUint16 {
		r.fail(r.at, "expected a number from 0 to 65535, found %s", shorten(r.name))
		return 0, true
	}
	return uint16(n), true
}

// AppendKey appends a comma, the key of an object and a colon.
func AppendKey(b []byte, key string, w *Writer) []byte {
	return append(AppendJSONString(append(b, ','), key, w), ':')
}

// AppendSecretKey is AppendKey for a key that is not for people and logs.
func AppendSecretKey(b []byte, key string, w *Writer) []byte {
	if w.hides {
		key = Secret
	}
	return AppendKey(b, key, w)
}

// AppendIntegerKey is AppendKey for an integer.
func AppendIntegerKey[K Integer](b []byte, key K) []byte {
	b = append(b, ',', '"')
	if key < 0 {
		b = strconv.AppendInt(b, int64(key), 10)
	} else {
		b = strconv.AppendUint(b, uint64(key), 10)
	}
	return append(b, '"', ':')
}

// Null reads null if it comes next.
func (r *JSONReader) Null() bool {
	if r.peek() != 'n' {
		return false
	}
	r.word("null")
	return true
}

func (r *JSONReader) word(word string) {
	if !bytes.HasPrefix(r.data[r.at:], []byte(word)) {
		r.wrong(word)
		return
	}
	r.at += len(word)
}

// Bool reads a bool.
func (r *JSONReader) Bool() bool {
	switch r.peek() {
	case 't':
		r.word("true")
		return true
	case 'f':
		r.word("false")
	default:
		r.wrong("bool")
	}
	return false
}

// Int64 reads an int64: a number, or its canonical digits as a string.
func (r *JSONReader) Int64() int64 { return r.signed("int64", math.MaxInt64) }

// Int32 reads an int32.
func (r *JSONReader) Int32() int32 { return int32(r.signed("int32", math.MaxInt32)) }

// Int16 reads an int16.
func (r *JSONReader) Int16() int16 { return int16(r.signed("int16", math.MaxInt16)) }

// Int8 reads an int8.
func (r *JSONReader) Int8() int8 { return int8(r.signed("int8", math.MaxInt8)) }

// Uint64 reads a uint64.
func (r *JSONReader) Uint64() uint64 { return r.unsigned("uint64", math.MaxUint64) }

// Uint32 reads a uint32.
func (r *JSONReader) Uint32() uint32 { return uint32(r.unsigned("uint32", math.MaxUint32)) }

// Uint16 reads a uint16.
func (r *JSONReader) Uint16() uint16 { return uint16(r.unsigned("uint16", math.MaxUint16)) }

// Uint8 reads a uint8.
func (r *JSONReader) Uint8() uint8 { return uint8(r.unsigned("uint8", math.MaxUint8)) }

// signed reads an integer from -1-high to high.
func (r *JSONReader) signed(expected string, high uint64) int64 {
	n, minus := r.integer(expected, high+1, high)
	if minus {
		return -int64(n)
	}
	return int64(n)
}

func (r *JSONReader) unsigned(expected string, high uint64) uint64 {
	n, _ := r.integer(expected, 0, high)
	return n
}

// integer reads an integer from -low to high, as its amount and its sign.
func (r *JSONReader) integer(expected string, low, high uint64) (n uint64, minus bool) {
	first := r.peek()
	if data := r.data[r.at:]; first >= '1' && first <= '9' {
		// Up to 18 digits, which can't overflow.
		i := 0
		for ; i < len(data) && i < 18 && data[i]-'0' < 10; i++ {
			n = n*10 + uint64(data[i]-'0')
		}
		if n <= high && i < len(data) && (data[i] == ',' || data[i] == '}' || data[i] == ']') {
			r.at += i
			return n, false
		}
	}
	var digits []byte
	quoted := first == '"'
	start := r.at
	if quoted {
		digits = r.stringBytes()
	} else {
		digits = r.number(expected)
	}
	if r.err != nil {
		return 0, false
	}
	n, minus, ok := parseInteger(digits, quoted)
	if !ok || minus && n > low || !minus && n > high {
		found := shorten(digits)
		if quoted {
			found = strconv.Quote(found)
		}
		r.at = start
		r.fail(start, "expected %s, found %s", expected, found)
		return 0, false
	}
	return n, minus
}

func shorten(b []byte) string {
	if len(b) > 40 {
		return string(bytes.ToValidUTF8(b[:40], nil)) + "…"
	}
	return string(b)
}

// parseInteger reads digits without a fraction or exponent. "-0" is 0 as a
// number and refused as a string.
func parseInteger(s []byte, quoted bool) (n uint64, minus, ok bool) {
	digits := s
	if len(digits) > 0 && digits[0] == '-' {
		digits, minus = digits[1:], true
	}
	if len(digits) == 0 || len(digits) > 20 || digits[0] == '0' && len(digits) > 1 || quoted && minus && digits[0] == '0' {
		return 0, false, false
	}
	for i, c := range digits {
		digit := uint64(c - '0')
		if digit > 9 || i == 19 && n > (math.MaxUint64-digit)/10 {
			return 0, false, false
		}
		n = n*10 + digit
	}
	return n, minus && n > 0, true
}

// number returns the text of a number (RFC 8259, section 6).
func (r *JSONReader) number(expected string) []byte {
	c := r.peek()
	if c != '-' && (c < '0' || c > '9') {
		r.wrong(expected)
		return nil
	}
	start, data, i := r.at, r.data, r.at
	digits := func() bool {
		from := i
		for i < len(data) && data[i]-'0' < 10 {
			i++
		}
		return i > from
	}
	if c == '-' {
		i++
	}
	ok := true
	if i < len(data) && data[i] == '0' {
		i++
	} else {
		ok = digits()
	}
	if ok && i < len(data) && data[i] == '.' {
		i++
		ok = digits()
	}
	if ok && i < len(data) && (data[i] == 'e' || data[i] == 'E') {
		i++
		if i < len(data) && (data[i] == '+' || data[i] == '-') {
			i++
		}
		ok = digits()
	}
	if !ok || i < len(data) && data[i]-'0' < 10 {
		r.fail(start, "a number that is not well formed")
		return nil
	}
	r.at = i
	return data[start:i]
}

// Float64 reads a float64: a number, "NaN", "Infinity" or "-Infinity".
func (r *JSONReader) Float64() float64 { return r.float("float64", 64) }

// Float32 reads a float32, rounded straight from the digits.
func (r *JSONReader) Float32() float32 { return float32(r.float("float32", 32)) }

func (r *JSONReader) float(expected string, bits int) float64 {
	start := r.at
	if r.peek() == '"' {
		switch s := r.stringBytes(); string(s) {
		case "NaN":
			return math.NaN()
		case "Infinity":
			return math.Inf(1)
		case "-Infinity":
			return math.Inf(-1)
		}
		r.fail(start, "expected %s, found a string", expected)
		return 0
	}
	s := r.number(expected)
	if r.err != nil {
		return 0
	}
	if x, ok := exactFloat(s); ok && bits == 64 {
		return x
	}
	x, err := strconv.ParseFloat(string(s), bits)
	if err != nil {
		r.fail(start, "%s is too large for a %s", shorten(s), expected)
	}
	return x
}

// exactFloat reads a number of up to 15 digits without an exponent: it is exact
// as an integer over an exact power of ten, so that one division rounds it right.
func exactFloat(s []byte) (float64, bool) {
	digits := s
	if digits[0] == '-' {
		digits = digits[1:]
	}
	if len(digits) > 16 {
		return 0, false
	}
	mantissa, point := uint64(0), len(digits)-1
	for i, c := range digits {
		switch {
		case c == '.':
			point = i
		case c-'0' < 10:
			mantissa = mantissa*10 + uint64(c-'0')
		default:
			return 0, false
		}
	}
	if mantissa >= 1e15 {
		return 0, false
	}
	x := float64(mantissa) / powersOfTen[len(digits)-1-point]
	if s[0] == '-' {
		x = -x
	}
	return x, true
}

var powersOfTen = [16]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// Text reads a text.
func (r *JSONReader) Text() string {
	if r.peek() != '"' {
		r.wrong("text")
		return ""
	}
	return string(r.stringBytes())
}

// stringBytes returns the value of the string here, until the next is read.
func (r *JSONReader) stringBytes() []byte {
	start := r.at + 1
	data := r.data
	i := plainLength(data, start)
	if i < len(data) && data[i] == '"' {
		r.at = i + 1
		return data[start:i]
	}
	return r.longString(start, i)
}

// longString reads a string with escapes or non-ASCII text; what is
// between start and i is plain.
func (r *JSONReader) longString(start, i int) []byte {
	data := r.data
	b := append(r.spare[:0], data[start:i]...)
	for i < len(data) {
		c := data[i]
		switch {
		case c == '"':
			r.at = i + 1
			r.spare = b
			return b
		case c == '\\':
			var ok bool
			if b, i, ok = appendEscape(b, data, i+1); !ok {
				r.fail(i, "an escape that is not well formed")
				return nil
			}
		case c < 0x20:
			r.fail(i, "a control character in a string")
			return nil
		case c < 0x80:
			from := i
			i = plainLength(data, i)
			b = append(b, data[from:i]...)
		default:
			_, size := utf8.DecodeRune(data[i:])
			if size == 1 {
				r.fail(i, "text that is not UTF-8")
				return nil
			}
			b = append(b, data[i:i+size]...)
			i += size
		}
	}
	r.fail(start-1, "a string that is not closed")
	return nil
}

func appendEscape(b, data []byte, i int) ([]byte, int, bool) {
	if i >= len(data) {
		return b, i, false
	}
	switch c := data[i]; c {
	case '"', '\\', '/':
		return append(b, c), i + 1, true
	case 'b':
		return append(b, '\b'), i + 1, true
	case 'f':
		return append(b, '\f'), i + 1, true
	case 'n':
		return append(b, '\n'), i + 1, true
	case 'r':
		return append(b, '\r'), i + 1, true
	case 't':
		return append(b, '\t'), i + 1, true
	}
	code, ok := hex4(data, i)
	i += 5
	if ok && utf16.IsSurrogate(code) {
		var low rune
		if i < len(data) && data[i] == '\\' {
			low, ok = hex4(data, i+1)
			i += 6
		} else {
			ok = false
		}
		code = utf16.DecodeRune(code, low)
		ok = ok && code != utf8.RuneError
	}
	return utf8.AppendRune(b, code), i, ok
}

// hex4 reads u and four hexadecimal digits.
func hex4(data []byte, i int) (code rune, ok bool) {
	if i+5 > len(data) || data[i] != 'u' {
		return 0, false
	}
	for _, c := range data[i+1 : i+5] {
		digit := hexDigit(c)
		if digit > 15 {
			return 0, false
		}
		code = code<<4 | rune(digit)
	}
	return code, true
}

// Bytes reads base64url or base64 (RFC 4648), padded or not; the result is
// never nil.
func (r *JSONReader) Bytes() []byte {
	start := r.at
	if r.peek() != '"' {
		r.wrong("bytes as base64url")
		return nil
	}
	b, ok := decodeBase64(r.stringBytes())
	if !ok {
		r.fail(start, "expected bytes as base64url")
	}
	return b
}

func decodeBase64(s []byte) ([]byte, bool) {
	bare := bytes.TrimRight(s, "=")
	if len(bare) != len(s) && (len(s)%4 != 0 || len(s)-len(bare) > 2) {
		return nil, false
	}
	text := make([]byte, len(bare))
	for i, c := range bare {
		switch c {
		case '+':
			c = '-'
		case '/':
			c = '_'
		case '\r', '\n':
			return nil, false
		}
		text[i] = c
	}
	b := make([]byte, base64.RawURLEncoding.DecodedLen(len(text)))
	n, err := base64.RawURLEncoding.Strict().Decode(b, text)
	return b[:n], err == nil
}

// UUID reads a uuid.
func (r *JSONReader) UUID() UUID {
	start := r.at
	if r.peek() != '"' {
		r.wrong("uuid")
		return UUID{}
	}
	u, ok := parseUUID(r.stringBytes())
	if !ok {
		r.fail(start, "expected a uuid as 8-4-4-4-12 hexadecimal digits")
	}
	return u
}

// Instant reads an RFC 3339 time.
func (r *JSONReader) Instant() time.Time {
	start := r.at
	if r.peek() != '"' {
		r.wrong("instant")
		return time.Time{}
	}
	t, ok := parseInstant(r.stringBytes())
	if !ok {
		r.fail(start, "expected an instant such as 2026-07-15T09:30:00Z")
	}
	return t
}

// Enum reads an enum: a name, or a number with named false.
func (r *JSONReader) Enum(expected string) (name []byte, number uint16, named bool) {
	if r.peek() == '"' {
		return r.stringBytes(), 0, true
	}
	return nil, uint16(r.unsigned(expected, math.MaxUint16)), false
}

// KeepUnlisted keeps a member whose name the definitions do not know. Where it is
// the number of a field that they do know, the field's entry in CBOR is
// returned instead, for the message to read.
func (r *JSONReader) KeepUnlisted(list *[]UnlistedField, fields []Field) *CBORReader {
	name := string(r.name)
	if len(name) > 1 && name[0] == '#' && onlyDigits(name[1:]) {
		return r.numbered(list, fields, name, r.at)
	}
	raw := r.raw(nil)
	if r.err == nil {
		*list = append(*list, UnlistedField{Name: name, Raw: raw})
	} else {
		r.Inside(name)
	}
	return nil
}

func onlyDigits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

func (r *JSONReader) numbered(list *[]UnlistedField, fields []Field, name string, at int) *CBORReader {
	n, data := r.numberedEntry(name)
	if r.err != nil {
		return nil
	}
	inner := &CBORReader{Reader{data: data, depth: r.depth, budget: r.budget}}
	for _, f := range fields {
		if f.Number == n {
			inner.data = append(AppendUint(nil, uint64(n)), data...)
			return inner
		}
	}
	inner.KeepUnlisted(list, n)
	r.Absorb(inner, at)
	r.Inside(name)
	return nil
}

// Absorb takes over what became of an entry that KeepUnlisted returned.
func (r *JSONReader) Absorb(inner *CBORReader, at int) {
	if inner.err == nil && inner.at < len(inner.data) {
		inner.fail(at, "more bytes after a CBOR item")
	}
	r.budget = inner.budget
	if r.err == nil && inner.err != nil {
		r.err = inner.err
		r.err.Offset = at
	}
}

// At is the offset of what is read next.
func (r *JSONReader) At() int { return r.at }

// raw appends any JSON value without the blanks between its tokens.
func (r *JSONReader) raw(b []byte) []byte {
	c := r.peek()
	start := r.at
	switch {
	case c == '"':
		r.stringBytes()
		return append(b, r.data[start:r.at]...)
	case c == '{':
		b = append(b, '{')
		r.OpenObject("an object")
		for first := true; r.following('}'); first = false {
			if !first {
				b = append(b, ',')
			}
			if r.peek() != '"' {
				r.wrong("a name in quotes")
				return nil
			}
			from := r.at
			r.stringBytes()
			b = append(append(b, r.data[from:r.at]...), ':')
			if r.peek() != ':' {
				r.wrong("a colon")
				return nil
			}
			r.at++
			b = r.raw(b)
		}
		return append(b, '}')
	case c == '[':
		b = append(b, '[')
		r.OpenList()
		for first := true; r.following(']'); first = false {
			if !first {
				b = append(b, ',')
			}
			b = r.raw(b)
		}
		return append(b, ']')
	case c == 't':
		r.word("true")
	case c == 'f':
		r.word("false")
	case c == 'n':
		r.word("null")
	default:
		r.number("a JSON value")
	}
	return append(b, r.data[start:r.at]...)
}

// CloseObject ends the object that begins at start, each of whose members was
// written with a comma before it.
func CloseObject(b []byte, start int) []byte {
	if len(b) == start {
		return append(b, '{', '}')
	}
	b[start] = '{'
	return append(b, '}')
}

// CloseArray ends the array that begins at start, each of whose items was
// written with a comma before it.
func CloseArray(b []byte, start int) []byte {
	if len(b) == start {
		return append(b, '[', ']')
	}
	b[start] = '['
	return append(b, ']')
}

// AppendJSONInt appends an integer; one beyond 2^53-1 as a string.
func AppendJSONInt(b []byte, v int64) []byte {
	if v > 1<<53-1 || v < -(1<<53-1) {
		return append(strconv.AppendInt(append(b, '"'), v, 10), '"')
	}
	return strconv.AppendInt(b, v, 10)
}

// AppendJSONUint appends an unsigned integer; one beyond 2^53-1 as a string.
func AppendJSONUint(b []byte, v uint64) []byte {
	if v > 1<<53-1 {
		return append(strconv.AppendUint(append(b, '"'), v, 10), '"')
	}
	return strconv.AppendUint(b, v, 10)
}

// AppendJSONFloat64 appends a float64 as ECMAScript prints it, -0 as "-0".
func AppendJSONFloat64(b []byte, v float64) []byte {
	switch {
	case v != v:
		return append(b, `"NaN"`...)
	case v > math.MaxFloat64:
		return append(b, `"Infinity"`...)
	case v < -math.MaxFloat64:
		return append(b, `"-Infinity"`...)
	}
	if a := math.Abs(v); a != 0 && (a < 1e-6 || a >= 1e21) {
		b = strconv.AppendFloat(b, v, 'e', -1, 64)
		// Go writes at least two digits of exponent, ECMAScript one.
		if n := len(b); b[n-2] == '0' && (b[n-3] == '-' || b[n-3] == '+') {
			b[n-2] = b[n-1]
			b = b[:n-1]
		}
		return b
	}
	return strconv.AppendFloat(b, v, 'f', -1, 64)
}

// AppendJSONFloat32 appends a float32 by its float64 value.
func AppendJSONFloat32(b []byte, v float32) []byte { return AppendJSONFloat64(b, float64(v)) }

// AppendJSONString appends a string, which must be UTF-8.
func AppendJSONString(b []byte, s string, w *Writer) []byte {
	b = append(b, '"')
	if plainLength(s, 0) < len(s) {
		return appendEscaped(b, s, w)
	}
	return append(append(b, s...), '"')
}

// appendEscaped is the rest of AppendJSONString for what is not plain.
func appendEscaped(b []byte, s string, w *Writer) []byte {
	if !validText(s) {
		b = w.failed(b, "text that is not UTF-8")
	}
	from := 0
	for i := 0; i < len(s); i++ {
		c := s[i]
		if plain[c] || c >= 0x80 {
			continue
		}
		b = append(b, s[from:i]...)
		from = i + 1
		switch c {
		case '"', '\\':
			b = append(b, '\\', c)
		case '\b':
			b = append(b, '\\', 'b')
		case '\t':
			b = append(b, '\\', 't')
		case '\n':
			b = append(b, '\\', 'n')
		case '\f':
			b = append(b, '\\', 'f')
		case '\r':
			b = append(b, '\\', 'r')
		default:
			b = append(b, '\\', 'u', '0', '0', "0123456789abcdef"[c>>4], "0123456789abcdef"[c&15])
		}
	}
	return append(append(b, s[from:]...), '"')
}

// AppendJSONBytes appends bytes as base64url without padding.
func AppendJSONBytes(b, v []byte) []byte {
	return append(base64.RawURLEncoding.AppendEncode(append(b, '"'), v), '"')
}

// AppendJSONUUID appends a uuid.
func AppendJSONUUID(b []byte, v UUID) []byte {
	return append(appendUUIDText(append(b, '"'), v), '"')
}

// AppendJSONInstant appends an instant in the years 0001 to 9999.
func AppendJSONInstant(b []byte, v time.Time, w *Writer) []byte {
	if s := v.Unix(); s < minSeconds || s > maxSeconds {
		return w.failed(b, "an instant outside the years 0001 to 9999")
	}
	return append(appendInstantText(append(b, '"'), v), '"')
}

// MergeJSON puts unlisted fields into the object that begins at start: numbers
// in their places among fields, names at the end.
func MergeJSON(b []byte, start int, list []UnlistedField, fields []Field, w *Writer) []byte {
	if len(list) == 0 {
		return b
	}
	if w.hides {
		b = append(b[:len(b)-1], `,"(unlisted fields)":`...)
		if len(b) == start+len(`{,"(unlisted fields)":`) {
			b = append(b[:start], `{"(unlisted fields)":`...)
		}
		return append(strconv.AppendInt(b, int64(len(list)), 10), '}')
	}
	r := JSONReader{Reader: Reader{data: bytes.Clone(b[start:]), budget: math.MaxInt}}
	b = b[:start]
	numberOf := func(name string) int {
		for _, f := range fields {
			if f.Name == name {
				return f.Number
			}
		}
		return 0
	}
	below := func(limit int) {
		for len(list) > 0 && list[0].Number > 0 && list[0].Number < limit {
			b = append(strconv.AppendInt(append(b, ',', '"', '#'), int64(list[0].Number), 10), '"', ':')
			b = AppendJSONBytes(b, list[0].Raw)
			list = list[1:]
		}
	}
	for r.OpenObject("an object"); r.Member(); {
		below(numberOf(string(r.name)))
		b = append(AppendJSONString(append(b, ','), string(r.name), &Writer{}), ':')
		b = r.raw(b)
	}
	below(1 << 16)
	for _, u := range list {
		b = append(AppendJSONString(append(b, ','), u.Name, &Writer{}), ':')
		b = append(b, u.Raw...)
	}
	return CloseObject(b, start)
}
