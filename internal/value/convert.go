package value

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"math"
	"strconv"
	"time"
	"unicode/utf8"
	"unsafe"

	"faithfulcourier/internal/schema"
)

// Converter turns payloads of one message from one encoding into the other without
// making values of them. What is written in the way that writers write, it copies
// from the one encoding to the other in a straight line; at the first surprise it
// begins the payload again by way of DecodeCBOR or DecodeJSON, which say what is
// wrong or know what is meant. So it gives what they give, sooner.
type Converter struct {
	root    *converted
	message *schema.Message
	budget  int
	out     []byte
	data    []byte
	at      int
	depth   int
	left    int // of the budget
	slow    int // payloads that took the other way

	// LeftOut is told of names in JSON that no definitions list, by JSON Pointers
	// (RFC 6901): they have no number, so CBOR leaves them out. It may be nil.
	LeftOut func(pointers []string)
}

// converted is a message as a converter knows it.
type converted struct {
	fields []convertedField
}

type convertedField struct {
	number   int
	presence schema.Presence
	clears   bool   // null may stand for it, which clears what it changes
	key      []byte // the number as CBOR
	name     []byte // in JSON, quoted
	start    []byte // the name and a colon
	typ      *convertedType
	missing  [2][]byte // of a defaulted field: all that is written for it, as CBOR and as JSON
}

type convertedType struct {
	*schema.Type
	kind    schema.Kind
	message *converted
	elem    *convertedType
	key     *convertedType
	members map[string]int // of an enum, by name in JSON
	names   map[int][]byte // of an enum, by number, quoted
	union   []convertedField
	low     int64 // of an integer kind
	high    uint64
}

// NewConverter returns a converter for a message. budget is as for DecodeCBOR.
func NewConverter(t *schema.Message, budget int) *Converter {
	if budget == 0 {
		budget = DefaultBudget
	}
	b := convertedTypes{messages: map[*schema.Message]*converted{}, unions: map[*schema.Union]*convertedType{}}
	return &Converter{root: b.of(t), message: t, budget: budget}
}

// convertedTypes are those made so far: types may contain themselves.
type convertedTypes struct {
	messages map[*schema.Message]*converted
	unions   map[*schema.Union]*convertedType
}

func (b *convertedTypes) of(t *schema.Message) *converted {
	if known, ok := b.messages[t]; ok {
		return known
	}
	c := &converted{}
	b.messages[t] = c
	for _, f := range t.Fields {
		field := convertedField{number: f.Number, presence: f.Presence, clears: f.Type.Clearable, typ: b.typ(f.Type)}
		field.spell(f.Number, f.JSONName())
		if f.Presence == schema.Defaulted {
			cbor, json := &cborWriter{out: bytes.Clone(field.key)}, &jsonWriter{out: bytes.Clone(field.start)}
			_, _ = cbor.value(Default(f.Default), f.Type), json.value(Default(f.Default), f.Type) // a scalar can be written
			field.missing = [2][]byte{cbor.out, json.out}
		}
		c.fields = append(c.fields, field)
	}
	return c
}

func (f *convertedField) spell(number int, name string) {
	w := &cborWriter{}
	w.head(majorUnsigned, uint64(number))
	f.key = w.out
	f.name = AppendString(nil, name)
	f.start = append(bytes.Clone(f.name), ':')
}

func (b *convertedTypes) typ(t *schema.Type) *convertedType {
	c := &convertedType{Type: t, kind: t.Kind}
	if t.Kind.IsInteger() {
		c.low, c.high = t.Kind.Range()
	}
	switch t.Kind {
	case schema.KindMessage:
		c.message = b.of(t.Message)
	case schema.KindList:
		c.elem = b.typ(t.Elem)
	case schema.KindMap:
		c.key, c.elem = b.typ(t.Key), b.typ(t.Elem)
	case schema.KindEnum:
		c.members, c.names = map[string]int{}, map[int][]byte{}
		for _, m := range t.Enum.Members {
			c.members[m.JSONName()], c.names[m.Number] = m.Number, AppendString(nil, m.JSONName())
		}
	case schema.KindUnion:
		if known, ok := b.unions[t.Union]; ok {
			return known
		}
		b.unions[t.Union] = c
		for _, a := range t.Union.Alternatives {
			field := convertedField{number: a.Number, typ: b.typ(a.Type)}
			field.spell(a.Number, a.JSONName())
			c.union = append(c.union, field)
		}
	}
	return c
}

// ToJSON appends a CBOR payload as JSON. The error is an *Error.
func (c *Converter) ToJSON(out, cbor []byte) ([]byte, error) {
	c.begin(out, cbor)
	if c.messageToJSON(c.root) && c.at == len(cbor) {
		return c.out, nil
	}
	c.slow++
	m, err := DecodeCBOR(c.message, cbor, c.budget)
	if err != nil {
		return out, err
	}
	text, err := EncodeJSON(m)
	return append(out, text...), err
}

// ToCBOR appends a JSON payload as CBOR. The error is an *Error.
func (c *Converter) ToCBOR(out, json []byte) ([]byte, error) {
	c.begin(out, json)
	if c.messageToCBOR(c.root) {
		if c.blanks(); c.at == len(json) {
			return c.out, nil
		}
	}
	c.slow++
	m, err := DecodeJSON(c.message, json, c.budget)
	if err != nil {
		return out, err
	}
	if names := UnlistedNames(m); len(names) > 0 && c.LeftOut != nil {
		c.LeftOut(names)
	}
	binary, err := EncodeCBOR(m)
	return append(out, binary...), err
}

// UnlistedNames lists what a message holds of names in JSON that no definitions
// list, as JSON Pointers (RFC 6901).
func UnlistedNames(m *Message) []string { return unlistedNames(nil, "", m, nil) }

func unlistedNames(list []string, path string, v Value, t *schema.Type) []string {
	switch v := v.(type) {
	case *Message:
		for _, u := range v.Unlisted {
			if u.Number == 0 {
				list = append(list, path+"/"+escapePointer(u.Name))
			}
		}
		for _, f := range v.Type.Fields {
			if field, there := v.Fields[f.Number]; there {
				list = unlistedNames(list, path+"/"+escapePointer(f.JSONName()), field, f.Type)
			}
		}
	case List:
		for i, item := range v {
			list = unlistedNames(list, path+"/"+strconv.Itoa(i), item, t.Elem)
		}
	case *Map:
		for _, e := range v.Entries {
			list = unlistedNames(list, path+"/"+escapePointer(KeyText(e.Key, t.Key)), e.Value, t.Elem)
		}
	case *Union:
		if a := t.Union.ByNumber(v.Number); a != nil {
			list = unlistedNames(list, path+"/"+escapePointer(a.JSONName()), v.Value, a.Type)
		}
	}
	return list
}

func (c *Converter) begin(out, data []byte) {
	c.out, c.data, c.at, c.depth, c.left = out, data, 0, 0, c.budget
}

// enter and spend count as the readers do; false is a surprise, as below.
func (c *Converter) enter() bool {
	c.depth++
	return c.depth <= MaxDepth
}

func (c *Converter) weigh(t *converted) bool {
	c.left -= len(t.fields)
	return c.spend()
}

func (c *Converter) spend() bool {
	c.left--
	return c.left >= 0
}

// head reads the head of an item of definite length in its shortest form.
func (c *Converter) head() (major byte, argument uint64, ok bool) {
	if c.at >= len(c.data) {
		return 0, 0, false
	}
	b := c.data[c.at]
	major, argument = b>>5, uint64(b&31)
	c.at++
	if argument < 24 {
		return major, argument, true
	}
	if argument > 27 {
		return 0, 0, false
	}
	size := 1 << (argument - 24)
	if len(c.data)-c.at < size {
		return 0, 0, false
	}
	rest := c.data[c.at:]
	c.at += size
	switch size {
	case 1:
		argument = uint64(rest[0])
		return major, argument, argument >= 24
	case 2:
		argument = uint64(binary.BigEndian.Uint16(rest))
		return major, argument, argument >= 1<<8
	case 4:
		argument = uint64(binary.BigEndian.Uint32(rest))
		return major, argument, argument >= 1<<16
	}
	argument = binary.BigEndian.Uint64(rest)
	return major, argument, argument >= 1<<32
}

func (c *Converter) messageToJSON(t *converted) bool {
	major, n, ok := c.head()
	if !ok || major != majorMap || n > uint64(len(c.data)) || !c.enter() || !c.weigh(t) {
		return false
	}
	c.out = append(c.out, '{')
	first := true
	next := 0
	for ; n > 0; n-- {
		if !c.spend() {
			return false
		}
		for ; next < len(t.fields); next++ {
			f := &t.fields[next]
			if bytes.HasPrefix(c.data[c.at:], f.key) {
				break
			}
			if f.presence != schema.Optional {
				return false
			}
		}
		if next == len(t.fields) {
			return false
		}
		f := &t.fields[next]
		next++
		c.at += len(f.key)
		if !first {
			c.out = append(c.out, ',')
		}
		first = false
		c.out = append(c.out, f.start...)
		if f.clears && c.at < len(c.data) && c.data[c.at] == 0xf6 {
			c.at++
			c.out = append(c.out, "null"...)
		} else if !c.toJSON(f.typ) {
			return false
		}
	}
	for ; next < len(t.fields); next++ {
		f := &t.fields[next]
		if f.presence == schema.Required {
			return false
		}
		if f.presence == schema.Defaulted {
			if !first {
				c.out = append(c.out, ',')
			}
			first = false
			c.out = append(c.out, f.missing[1]...)
		}
	}
	c.out = append(c.out, '}')
	c.depth--
	return true
}

func (c *Converter) toJSON(t *convertedType) bool {
	switch t.kind {
	case schema.KindMessage:
		return c.messageToJSON(t.message)
	case schema.KindText:
		text, ok := c.string(majorText)
		if !ok || !utf8.Valid(text) {
			return false
		}
		c.out = appendText(c.out, text)
		return true
	case schema.KindBytes:
		b, ok := c.string(majorBytes)
		if !ok {
			return false
		}
		c.out = base64.RawURLEncoding.AppendEncode(append(c.out, '"'), b)
		c.out = append(c.out, '"')
		return true
	case schema.KindBool:
		if c.at >= len(c.data) || c.data[c.at]&^1 != 0xf4 {
			return false
		}
		c.out = strconv.AppendBool(c.out, c.data[c.at] == 0xf5)
		c.at++
		return true
	case schema.KindFloat64, schema.KindFloat32:
		return c.floatToJSON(t.kind)
	case schema.KindList:
		return c.listToJSON(t)
	case schema.KindMap:
		return c.mapToJSON(t)
	case schema.KindUnion:
		return c.unionToJSON(t)
	case schema.KindUUID:
		return c.uuidToJSON()
	case schema.KindAny:
		return false
	case schema.KindInstant, schema.KindDecimal, schema.KindDate, schema.KindDuration:
		return c.taggedToJSON(t.kind)
	}
	major, n, ok := c.head()
	if !ok {
		return false
	}
	if t.kind == schema.KindEnum {
		name := t.names[int(n)]
		if major != majorUnsigned || n > 65535 || name == nil {
			return false
		}
		c.out = append(c.out, name...)
		return true
	}
	return c.integerToJSON(t, major, n)
}

func (c *Converter) integerToJSON(t *convertedType, major byte, n uint64) bool {
	const safe = 1<<53 - 1
	switch {
	case major == majorUnsigned && n <= t.high:
		if n > safe {
			c.out = append(strconv.AppendUint(append(c.out, '"'), n, 10), '"')
		} else {
			c.out = strconv.AppendUint(c.out, n, 10)
		}
	case major == majorNegative && n <= math.MaxInt64 && -1-int64(n) >= t.low:
		if n >= safe {
			c.out = append(strconv.AppendInt(append(c.out, '"'), -1-int64(n), 10), '"')
		} else {
			c.out = strconv.AppendInt(c.out, -1-int64(n), 10)
		}
	default:
		return false
	}
	return true
}

// string reads a string of definite length.
func (c *Converter) string(want byte) ([]byte, bool) {
	major, n, ok := c.head()
	if !ok || major != want || n > uint64(len(c.data)-c.at) {
		return nil, false
	}
	b := c.data[c.at : c.at+int(n)]
	c.at += int(n)
	return b, true
}

func (c *Converter) floatToJSON(k schema.Kind) bool {
	rest := c.data[c.at:]
	var x float64
	switch {
	case k == schema.KindFloat64 && len(rest) >= 9 && rest[0] == 0xfb:
		x = math.Float64frombits(binary.BigEndian.Uint64(rest[1:]))
		c.at += 9
	case k == schema.KindFloat32 && len(rest) >= 5 && rest[0] == 0xfa:
		x = float64(math.Float32frombits(binary.BigEndian.Uint32(rest[1:])))
		c.at += 5
	default:
		return false
	}
	if a := math.Abs(x); a >= 1e-6 && a < 1e21 {
		c.out = strconv.AppendFloat(c.out, x, 'f', -1, 64)
	} else {
		c.out = AppendFloat(c.out, x)
	}
	return true
}

func (c *Converter) listToJSON(t *convertedType) bool {
	major, n, ok := c.head()
	if !ok || major != majorArray || n > uint64(len(c.data)-c.at) || !c.enter() {
		return false
	}
	c.out = append(c.out, '[')
	for i := range n {
		if i > 0 {
			c.out = append(c.out, ',')
		}
		if !c.spend() || !c.toJSON(t.elem) {
			return false
		}
	}
	c.out = append(c.out, ']')
	c.depth--
	return true
}

func (c *Converter) mapToJSON(t *convertedType) bool {
	major, n, ok := c.head()
	if !ok || major != majorMap || n > uint64(len(c.data)-c.at) || !c.enter() {
		return false
	}
	c.out = append(c.out, '{')
	var before []byte
	for i := range n {
		if i > 0 {
			c.out = append(c.out, ',')
		}
		if !c.spend() {
			return false
		}
		from, quoted := c.at, t.key.kind == schema.KindText || t.key.kind == schema.KindEnum
		if !quoted {
			major, n, ok := c.head()
			if !ok || major == majorUnsigned && n > t.key.high || major == majorNegative &&
				(n > math.MaxInt64 || -1-int64(n) < t.key.low) || major > majorNegative {
				return false
			}
			c.out = append(c.out, '"')
			if major == majorUnsigned {
				c.out = strconv.AppendUint(c.out, n, 10)
			} else {
				c.out = strconv.AppendInt(c.out, -1-int64(n), 10)
			}
			c.out = append(c.out, '"')
		} else if !c.toJSON(t.key) {
			return false
		}
		key := c.data[from:c.at]
		if i > 0 && bytes.Compare(before, key) >= 0 {
			return false
		}
		before = key
		c.out = append(c.out, ':')
		if !c.toJSON(t.elem) {
			return false
		}
	}
	c.out = append(c.out, '}')
	c.depth--
	return true
}

func (c *Converter) unionToJSON(t *convertedType) bool {
	if c.at >= len(c.data) || c.data[c.at] != majorMap<<5|1 || !c.enter() {
		return false
	}
	c.at++
	for i := range t.union {
		if a := &t.union[i]; bytes.HasPrefix(c.data[c.at:], a.key) {
			c.at += len(a.key)
			c.out = append(append(c.out, '{'), a.start...)
			ok := c.toJSON(a.typ)
			c.out = append(c.out, '}')
			c.depth--
			return ok
		}
	}
	return false
}

func (c *Converter) uuidToJSON() bool {
	rest := c.data[c.at:]
	if len(rest) < 19 || rest[0] != 0xd8 || rest[1] != tagUUID || rest[2] != 0x50 {
		return false
	}
	c.out = appendUUID(c.out, rest[3:19])
	c.at += 19
	return true
}

func appendUUID(out, u []byte) []byte {
	const digits = "0123456789abcdef"
	out = append(out, '"')
	for i, b := range u[:16] {
		if i == 4 || i == 6 || i == 8 || i == 10 {
			out = append(out, '-')
		}
		out = append(out, digits[b>>4], digits[b&15])
	}
	return append(out, '"')
}

// taggedToJSON copies times and decimals: the usual encodings by hand, others by way
// of the reader.
func (c *Converter) taggedToJSON(k schema.Kind) bool {
	start := c.at
	major, tag, ok := c.head()
	if !ok || major != majorTag {
		return false
	}
	switch {
	case k == schema.KindInstant && tag == tagEpoch:
		major, n, ok := c.head()
		if ok && major == majorUnsigned && n <= uint64(schema.MaxInstantSeconds) {
			c.out = appendInstant(c.out, int64(n))
			return true
		}
	case k == schema.KindDecimal && tag == tagDecimal && c.at < len(c.data) && c.data[c.at] == majorArray<<5|2:
		c.at++
		scaleMajor, scale, ok := c.head()
		major, n, ok2 := c.head()
		if ok && ok2 && scaleMajor == majorNegative && scale < 18 && major <= majorNegative && n > 0 && n < 1e18 {
			c.out = appendDecimal(c.out, major == majorNegative, n, int(scale)+1)
			return true
		}
	}
	r := &cborReader{data: c.data, at: start, depth: c.depth, budget: c.left}
	v, err := r.value(&schema.Type{Kind: k})
	if err != nil {
		return false
	}
	c.at = r.at
	w := &jsonWriter{out: c.out}
	if w.value(v, nil) != nil {
		return false
	}
	c.out = w.out
	return true
}

// appendInstant writes whole seconds since 1970.
func appendInstant(out []byte, seconds int64) []byte {
	t := time.Unix(seconds, 0).UTC()
	year, month, day := t.Date()
	hour, minute, second := t.Clock()
	out = append(out, '"', byte('0'+year/1000), byte('0'+year/100%10), byte('0'+year/10%10), byte('0'+year%10), '-')
	out = append(out, byte('0'+month/10), byte('0'+month%10), '-', byte('0'+day/10), byte('0'+day%10), 'T')
	out = append(out, byte('0'+hour/10), byte('0'+hour%10), ':', byte('0'+minute/10), byte('0'+minute%10), ':')
	return append(out, byte('0'+second/10), byte('0'+second%10), 'Z', '"')
}

// appendDecimal writes -1-n where it is negative, else n, with scale digits
// after the point.
func appendDecimal(out []byte, negative bool, n uint64, scale int) []byte {
	out = append(out, '"')
	if negative {
		out, n = append(out, '-'), n+1
	}
	var digits [24]byte
	b := strconv.AppendUint(digits[:0], n, 10)
	if len(b) <= scale {
		out = append(out, '0', '.')
		for range scale - len(b) {
			out = append(out, '0')
		}
		return append(append(out, b...), '"')
	}
	out = append(append(out, b[:len(b)-scale]...), '.')
	return append(append(out, b[len(b)-scale:]...), '"')
}

// appendText writes a JSON string, in one piece where nothing has to be escaped.
func appendText(out, text []byte) []byte {
	for _, b := range text {
		if b < 0x20 || b == '"' || b == '\\' {
			return AppendString(out, string(text))
		}
	}
	out = append(out, '"')
	return append(append(out, text...), '"')
}

func (c *Converter) blanks() {
	for c.at < len(c.data) {
		switch c.data[c.at] {
		case ' ', '\t', '\r', '\n':
			c.at++
		default:
			return
		}
	}
}

// take passes over one byte that must come next.
func (c *Converter) take(b byte) bool {
	c.blanks()
	if c.at >= len(c.data) || c.data[c.at] != b {
		return false
	}
	c.at++
	return true
}

// takeName passes over a name and its colon.
func (c *Converter) takeName(f *convertedField) bool {
	if bytes.HasPrefix(c.data[c.at:], f.start) {
		c.at += len(f.start)
		return true
	}
	if !bytes.HasPrefix(c.data[c.at:], f.name) {
		return false
	}
	start := c.at
	c.at += len(f.name)
	if !c.take(':') {
		c.at = start
		return false
	}
	return true
}

// counted writes the head of an array or map before what was written from start
// on: until then nobody knew how much it is.
func (c *Converter) counted(start int, major byte, n int) {
	if n < 24 {
		c.out[start] = major<<5 | byte(n)
		return
	}
	w := cborWriter{}
	w.head(major, uint64(n))
	c.out = append(c.out, w.out[1:]...)
	copy(c.out[start+len(w.out):], c.out[start+1:])
	copy(c.out[start:], w.out)
}

func (c *Converter) messageToCBOR(t *converted) bool {
	if !c.take('{') || !c.enter() || !c.weigh(t) {
		return false
	}
	start := len(c.out)
	c.out = append(c.out, 0)
	count, next := 0, 0
	missing := func(f *convertedField) bool {
		if f.presence == schema.Defaulted {
			c.out = append(c.out, f.missing[0]...)
			count++
		}
		return f.presence != schema.Required
	}
	for first := true; !c.take('}'); first = false {
		if !first && !c.take(',') || !c.spend() {
			return false
		}
		c.blanks()
		for ; next < len(t.fields) && !c.takeName(&t.fields[next]); next++ {
			if !missing(&t.fields[next]) {
				return false
			}
		}
		if next == len(t.fields) {
			return false
		}
		f := &t.fields[next]
		next++
		c.out = append(c.out, f.key...)
		count++
		if f.clears {
			c.blanks()
		}
		if f.clears && bytes.HasPrefix(c.data[c.at:], []byte("null")) {
			c.at += len("null")
			c.out = append(c.out, 0xf6)
		} else if !c.toCBOR(f.typ) {
			return false
		}
	}
	for ; next < len(t.fields); next++ {
		if !missing(&t.fields[next]) {
			return false
		}
	}
	c.counted(start, majorMap, count)
	c.depth--
	return true
}

// text reads a string without escapes, of valid UTF-8.
func (c *Converter) text() ([]byte, bool) {
	if !c.take('"') {
		return nil, false
	}
	start := c.at
	high := byte(0)
	for ; c.at < len(c.data); c.at++ {
		b := c.data[c.at]
		if b == '"' {
			text := c.data[start:c.at]
			c.at++
			return text, high < utf8.RuneSelf || utf8.Valid(text)
		}
		if b < 0x20 || b == '\\' {
			return nil, false
		}
		high |= b
	}
	return nil, false
}

func (c *Converter) appendHead(major byte, n uint64) {
	if n < 24 {
		c.out = append(c.out, major<<5|byte(n))
		return
	}
	w := cborWriter{out: c.out}
	w.head(major, n)
	c.out = w.out
}

func (c *Converter) toCBOR(t *convertedType) bool {
	switch t.kind {
	case schema.KindMessage:
		return c.messageToCBOR(t.message)
	case schema.KindText:
		text, ok := c.text()
		if !ok {
			return false
		}
		c.appendHead(majorText, uint64(len(text)))
		c.out = append(c.out, text...)
		return true
	case schema.KindList:
		return c.listToCBOR(t)
	case schema.KindMap:
		return c.mapToCBOR(t)
	case schema.KindUnion:
		return c.unionToCBOR(t)
	case schema.KindBool:
		c.blanks()
		switch {
		case bytes.HasPrefix(c.data[c.at:], []byte("true")):
			c.out, c.at = append(c.out, 0xf5), c.at+4
		case bytes.HasPrefix(c.data[c.at:], []byte("false")):
			c.out, c.at = append(c.out, 0xf4), c.at+5
		default:
			return false
		}
		return true
	case schema.KindEnum:
		name, ok := c.text()
		number, listed := t.members[string(name)]
		if ok && listed {
			c.appendHead(majorUnsigned, uint64(number))
		}
		return ok && listed
	case schema.KindFloat64, schema.KindFloat32:
		return c.floatToCBOR(t.kind)
	case schema.KindAny:
		return false
	case schema.KindBytes, schema.KindUUID, schema.KindInstant, schema.KindDecimal, schema.KindDate, schema.KindDuration:
		return c.textualToCBOR(t.kind)
	}
	negative, n, ok := c.digits()
	return ok && c.appendInteger(t, negative, n)
}

func (c *Converter) appendInteger(t *convertedType, negative bool, n uint64) bool {
	switch {
	case !negative && n <= t.high:
		c.appendHead(majorUnsigned, n)
	case negative && n > 0 && n <= 1<<63 && -int64(n-1)-1 >= t.low:
		c.appendHead(majorNegative, n-1)
	default:
		return false
	}
	return true
}

// digits reads an integer of up to 18 digits without fraction and exponent.
func (c *Converter) digits() (negative bool, n uint64, ok bool) {
	c.blanks()
	if c.at < len(c.data) && c.data[c.at] == '-' {
		negative = true
		c.at++
	}
	start := c.at
	for c.at < len(c.data) && c.data[c.at]-'0' < 10 {
		n = n*10 + uint64(c.data[c.at]-'0')
		c.at++
	}
	length := c.at - start
	if length == 0 || length > 18 || length > 1 && c.data[start] == '0' {
		return false, 0, false
	}
	if c.at < len(c.data) {
		switch c.data[c.at] {
		case '.', 'e', 'E':
			return false, 0, false
		}
	}
	return negative, n, true
}

func (c *Converter) floatToCBOR(k schema.Kind) bool {
	c.blanks()
	r := &jsonReader{&cborReader{data: c.data, at: c.at}}
	if r.at >= len(r.data) || r.data[r.at] == '"' || !r.skipNumber() {
		return false
	}
	number := c.data[c.at:r.at]
	c.at = r.at
	x, err := strconv.ParseFloat(unsafe.String(&number[0], len(number)), k.Bits()) // the text is not kept
	if err != nil || math.IsInf(x, 0) {
		return false
	}
	if k == schema.KindFloat32 {
		c.out = binary.BigEndian.AppendUint32(append(c.out, 0xfa), math.Float32bits(float32(x)))
	} else {
		c.out = binary.BigEndian.AppendUint64(append(c.out, 0xfb), math.Float64bits(x))
	}
	return true
}

// textualToCBOR copies what is a string in JSON and something else in CBOR.
func (c *Converter) textualToCBOR(k schema.Kind) bool {
	text, ok := c.text()
	if !ok {
		return false
	}
	if k == schema.KindInstant {
		if seconds, ok := wholeInstant(text); ok {
			c.out = append(c.out, majorTag<<5|tagEpoch)
			c.appendHead(majorUnsigned, uint64(seconds))
			return true
		}
	}
	if k == schema.KindBytes {
		// The usual alphabet without padding; what else is read, the reader reads.
		size := base64.RawURLEncoding.DecodedLen(len(text))
		c.appendHead(majorBytes, uint64(size))
		out, err := base64.RawURLEncoding.Strict().AppendDecode(c.out, text)
		c.out = out
		return err == nil
	}
	var v Value
	if k == schema.KindDecimal {
		d, err := schema.ParseDecimal(string(text))
		v, ok = d, err == nil
	} else {
		v, ok = textValue(k, string(text))
	}
	if !ok {
		return false
	}
	w := &cborWriter{out: c.out}
	if w.value(v, nil) != nil {
		return false
	}
	c.out = w.out
	return true
}

// wholeInstant reads the encoding in which whole seconds since 1970 are written.
func wholeInstant(text []byte) (seconds int64, ok bool) {
	const encoding = "0000-00-00T00:00:00Z"
	if len(text) != len(encoding) {
		return 0, false
	}
	for i := range text {
		if encoding[i] == '0' && text[i]-'0' > 9 || encoding[i] != '0' && text[i] != encoding[i] {
			return 0, false
		}
	}
	two := func(i int) int { return int(text[i]-'0')*10 + int(text[i+1]-'0') }
	year, month, day, hour, minute, second := two(0)*100+two(2), two(5), two(8), two(11), two(14), two(17)
	if year < 1970 || month < 1 || month > 12 || day < 1 || day > 28 || hour > 23 || minute > 59 || second > 59 {
		return 0, false // days that not every month has are for the reader
	}
	return time.Date(year, time.Month(month), day, hour, minute, second, 0, time.UTC).Unix(), true
}

func (c *Converter) listToCBOR(t *convertedType) bool {
	if !c.take('[') || !c.enter() {
		return false
	}
	start, count := len(c.out), 0
	c.out = append(c.out, 0)
	for ; !c.take(']'); count++ {
		if count > 0 && !c.take(',') || !c.spend() || !c.toCBOR(t.elem) {
			return false
		}
	}
	c.counted(start, majorArray, count)
	c.depth--
	return true
}

func (c *Converter) mapToCBOR(t *convertedType) bool {
	if !c.take('{') || !c.enter() {
		return false
	}
	start, count := len(c.out), 0
	c.out = append(c.out, 0)
	before, end := 0, 0 // where the key before stands in out
	for ; !c.take('}'); count++ {
		if count > 0 && !c.take(',') || !c.spend() {
			return false
		}
		from := len(c.out)
		if t.key.kind == schema.KindText || t.key.kind == schema.KindEnum {
			if !c.toCBOR(t.key) {
				return false
			}
		} else {
			if !c.take('"') {
				return false
			}
			negative, n, ok := c.digits()
			if !ok || !c.appendInteger(t.key, negative, n) || c.at >= len(c.data) || c.data[c.at] != '"' {
				return false
			}
			c.at++
		}
		if count > 0 && bytes.Compare(c.out[before:end], c.out[from:]) >= 0 {
			return false
		}
		before, end = from, len(c.out)
		if !c.take(':') || !c.toCBOR(t.elem) {
			return false
		}
	}
	c.counted(start, majorMap, count)
	c.depth--
	return true
}

func (c *Converter) unionToCBOR(t *convertedType) bool {
	if !c.take('{') || !c.enter() {
		return false
	}
	c.blanks()
	for i := range t.union {
		if a := &t.union[i]; c.takeName(a) {
			c.out = append(append(c.out, majorMap<<5|1), a.key...)
			if !c.toCBOR(a.typ) || !c.take('}') {
				return false
			}
			c.depth--
			return true
		}
	}
	return false
}
