package value

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"faithfulcourier/internal/schema"
)

// DecodeJSON reads one message. budget is as for DecodeCBOR; the error is an
// *Error.
func DecodeJSON(t *schema.Message, data []byte, budget int) (*Message, error) {
	v, err := DecodeJSONValue(&schema.Type{Kind: schema.KindMessage, Message: t}, data, budget)
	if err != nil {
		return nil, err
	}
	return v.(*Message), nil
}

// jsonReader shares position, depth and budget with the CBOR reader.
type jsonReader struct{ *cborReader }

func (r *jsonReader) blanks() {
	for r.at < len(r.data) && strings.IndexByte(" \t\r\n", r.data[r.at]) >= 0 {
		r.at++
	}
}

func (r *jsonReader) next() byte {
	r.blanks()
	if r.at < len(r.data) {
		return r.data[r.at]
	}
	return 0
}

// describe says what stands here, for messages.
func (r *jsonReader) describe() string {
	switch c := r.next(); {
	case r.at >= len(r.data):
		return "the end"
	case c == '{':
		return "an object"
	case c == '[':
		return "an array"
	case c == '"':
		if s, err := r.string(); err == nil {
			return "the string " + strconv.Quote(shorten(s))
		}
		return "a string that is not well formed"
	case c == '-' || c >= '0' && c <= '9':
		if s, err := r.number(); err == nil {
			return "the number " + shorten(s)
		}
		return "a number that is not well formed"
	}
	for _, word := range []string{"true", "false", "null"} {
		if bytes.HasPrefix(r.data[r.at:], []byte(word)) {
			return word
		}
	}
	c, _ := utf8.DecodeRune(r.data[r.at:])
	return strconv.QuoteRune(c)
}

func shorten(s string) string {
	if len(s) > 40 {
		return strings.ToValidUTF8(s[:40], "") + "…"
	}
	return s
}

func (r *jsonReader) wrong(expected string) *Error {
	start := r.skipTo()
	found := r.describe()
	return r.refuseAt(start, expected, found)
}

func (r *jsonReader) skipTo() int { r.blanks(); return r.at }

// sequence reads what is between two brackets, separated by commas.
func (r *jsonReader) sequence(closing byte, each func(i int) *Error) *Error {
	r.at++
	if err := r.enter(); err != nil {
		return err
	}
	for i := 0; ; i++ {
		if i == 0 && r.next() == closing {
			break
		}
		if err := r.spend(); err != nil {
			return err
		}
		if err := each(i); err != nil {
			return err
		}
		if c := r.next(); c == closing {
			break
		} else if c != ',' {
			return r.wrong(fmt.Sprintf("%q or %q", ',', closing))
		}
		r.at++
	}
	r.at++
	r.depth--
	return nil
}

func (r *jsonReader) name() (string, *Error) {
	if r.next() != '"' {
		return "", r.wrong("a name in quotes")
	}
	name, err := r.string()
	if err != nil {
		return "", err
	}
	if r.next() != ':' {
		return "", r.wrong(`":"`)
	}
	r.at++
	return name, nil
}

func (r *jsonReader) message(t *schema.Message) (*Message, *Error) {
	if r.next() != '{' {
		return nil, r.wrong("an object for " + named(t))
	}
	if err := r.weigh(t); err != nil {
		return nil, err
	}
	start := r.at
	m := &Message{Type: t, Fields: map[int]Value{}}
	seen := map[string]bool{}
	err := r.sequence('}', func(int) *Error {
		at := r.skipTo()
		name, err := r.name()
		if err != nil {
			return err
		}
		number, err := r.numberName(name, at)
		if err != nil {
			return err
		}
		f := byJSONName(t, name)
		if number > 0 {
			f = t.ByNumber(number)
		}
		identity := name
		if f != nil {
			identity = f.JSONName()
		}
		if seen[identity] {
			return inside(r.refuseAt(at, "", "the name comes twice"), name)
		}
		seen[identity] = true
		switch {
		case number > 0:
			err = r.byNumber(m, number, f)
		case f == nil:
			var raw []byte
			raw, err = r.raw(nil)
			m.Unlisted = append(m.Unlisted, UnlistedField{Name: name, JSON: string(raw)})
		case t.IsPatch() && r.next() == 'n':
			err = r.clear(m, f)
		case f.Presence != schema.Required && r.next() == 'n':
			err = r.word("null")
		default:
			var v Value
			v, err = r.value(f.Type)
			m.Fields[f.Number] = v
		}
		return inside(err, name)
	})
	if err != nil {
		return nil, err
	}
	return m, finish(m, start)
}

// clear reads null for a field of a patch.
func (r *jsonReader) clear(m *Message, f *schema.Field) *Error {
	if !f.Type.Clearable {
		return r.refuseAt(r.skipTo(), f.Type.Short(), notCleared)
	}
	m.Fields[f.Number] = Cleared{}
	return r.word("null")
}

// numberName reads "#13"; 0 says that the name is not of this encoding.
func (r *jsonReader) numberName(name string, at int) (int, *Error) {
	digits, ok := strings.CutPrefix(name, "#")
	if !ok || digits == "" || strings.Trim(digits, "0123456789") != "" {
		return 0, nil
	}
	n, err := strconv.ParseUint(digits, 10, 16)
	if err != nil || n == 0 || digits[0] == '0' {
		return 0, r.refuseAt(at, "#1 to #65535", strconv.Quote(name))
	}
	return int(n), nil
}

func byJSONName(t *schema.Message, name string) *schema.Field {
	for _, f := range t.Fields {
		if f.JSONName() == name {
			return f
		}
	}
	return nil
}

// byNumber reads a field as the base64url of its CBOR.
func (r *jsonReader) byNumber(m *Message, number int, f *schema.Field) *Error {
	if m.Type.IsPatch() && r.next() == 'n' {
		if f != nil {
			return r.clear(m, f)
		}
		m.Unlisted = append(m.Unlisted, UnlistedField{Number: number, CBOR: []byte{0xf6}})
		return r.word("null")
	}
	return r.inBase64(func(inner *cborReader) *Error {
		if f == nil {
			m.Unlisted = append(m.Unlisted, UnlistedField{Number: number, CBOR: inner.data})
			return inner.skip()
		}
		if f.Type.Kind == schema.KindAny && f.Presence == schema.Optional && !m.Type.IsPatch() && inner.isNull() {
			return inner.skip()
		}
		v, err := inner.field(f)
		m.Fields[number] = v
		return err
	})
}

// inBase64 reads one CBOR item out of a string of base64url.
func (r *jsonReader) inBase64(read func(inner *cborReader) *Error) *Error {
	at := r.skipTo()
	if r.next() != '"' {
		return r.wrong("base64url of a CBOR item")
	}
	s, err := r.string()
	if err != nil {
		return err
	}
	data, ok := decodeBase64(s)
	if !ok {
		return r.refuseAt(at, "base64url of a CBOR item", "a string that is not base64url")
	}
	inner := &cborReader{data: data, depth: r.depth, budget: r.budget}
	err = read(inner)
	if err == nil && inner.at < len(data) {
		err = inner.refuse("one CBOR item", "more bytes after it")
	}
	r.budget = inner.budget
	if err != nil {
		err.Offset = at
	}
	return err
}

func (r *jsonReader) word(word string) *Error {
	r.blanks()
	if !bytes.HasPrefix(r.data[r.at:], []byte(word)) {
		return r.wrong(word)
	}
	r.at += len(word)
	return nil
}

func (r *jsonReader) value(t *schema.Type) (Value, *Error) {
	at := r.skipTo()
	c := r.next()
	isNumber := c == '-' || c >= '0' && c <= '9'
	fail := func() (Value, *Error) {
		r.at = at
		return nil, r.wrong(t.Short())
	}
	if t.Kind.IsInteger() {
		return r.integer(t, c, isNumber, fail)
	}
	switch t.Kind {
	case schema.KindMessage:
		return r.message(t.Message)
	case schema.KindAny:
		return r.any()
	case schema.KindUnion:
		if c == '{' {
			return r.union(t.Union)
		}
	case schema.KindDecimal:
		if c == '"' || isNumber {
			read := r.number
			if c == '"' {
				read = r.string
			}
			s, err := read()
			if err != nil {
				return nil, err
			}
			if d, parseErr := schema.ParseDecimal(s); parseErr == nil {
				return d, nil
			}
		}
	case schema.KindBool:
		if c == 't' {
			return true, r.word("true")
		}
		if c == 'f' {
			return false, r.word("false")
		}
	case schema.KindFloat32, schema.KindFloat64:
		if isNumber {
			s, err := r.number()
			if err != nil {
				return nil, err
			}
			x, parseErr := strconv.ParseFloat(s, t.Kind.Bits())
			if parseErr != nil || math.IsInf(x, 0) {
				return fail()
			}
			return floatOf(t.Kind, x), nil
		}
		if c == '"' {
			s, err := r.string()
			if x, ok := map[string]float64{"NaN": math.NaN(), "Infinity": math.Inf(1), "-Infinity": math.Inf(-1)}[s]; ok &&
				err == nil {
				return floatOf(t.Kind, x), nil
			}
		}
	case schema.KindText, schema.KindBytes, schema.KindUUID, schema.KindInstant, schema.KindDate, schema.KindDuration:
		if c == '"' {
			s, err := r.string()
			if err != nil {
				return nil, err
			}
			if v, ok := textValue(t.Kind, s); ok {
				return v, nil
			}
		}
	case schema.KindEnum:
		return r.enum(t.Enum, c, isNumber, fail)
	case schema.KindList:
		if c == '[' {
			list := List{}
			err := r.sequence(']', func(i int) *Error {
				v, err := r.value(t.Elem)
				list = append(list, v)
				return inside(err, strconv.Itoa(i))
			})
			return list, err
		}
	case schema.KindMap:
		if c == '{' {
			return r.mapping(t)
		}
	}
	return fail()
}

func textValue(k schema.Kind, s string) (Value, bool) {
	switch k {
	case schema.KindBytes:
		return decodeBase64Value(s)
	case schema.KindUUID:
		u, err := schema.ParseUUID(s)
		return u, err == nil
	case schema.KindInstant:
		i, err := schema.ParseInstant(s)
		return i, err == nil
	case schema.KindDate:
		d, err := schema.ParseDate(s)
		return d, err == nil
	case schema.KindDuration:
		d, err := schema.ParseDuration(s)
		return d, err == nil
	}
	return s, true
}

func (r *jsonReader) integer(t *schema.Type, c byte, isNumber bool, fail func() (Value, *Error)) (Value, *Error) {
	var digits string
	var err *Error
	switch {
	case isNumber:
		digits, err = r.number()
	case c == '"':
		digits, err = r.string()
	default:
		return fail()
	}
	if err != nil {
		return nil, err
	}
	n, ok := schema.ParseInteger(t.Kind, digits)
	if canonical := fmt.Sprint(n) == digits || isNumber && digits == "-0"; !ok || !canonical {
		return fail()
	}
	return n, nil
}

// floatOf makes a float of a kind; x is rounded to it already.
func floatOf(k schema.Kind, x float64) Value {
	if k == schema.KindFloat32 {
		return float32(x)
	}
	return x
}

func (r *jsonReader) enum(e *schema.Enum, c byte, isNumber bool, fail func() (Value, *Error)) (Value, *Error) {
	switch {
	case isNumber:
		s, err := r.number()
		if err != nil {
			return nil, err
		}
		if s == "-0" {
			s = "0"
		}
		n, parseErr := strconv.ParseUint(s, 10, 16)
		if parseErr != nil {
			return fail()
		}
		return Enum{Number: int(n)}, nil
	case c == '"':
		s, err := r.string()
		if err != nil {
			return nil, err
		}
		return enumNamed(e, s), nil
	}
	return fail()
}

func enumNamed(e *schema.Enum, name string) Enum {
	for _, m := range e.Members {
		if m.JSONName() == name {
			return Enum{Number: m.Number}
		}
	}
	return Enum{Number: -1, Name: name}
}

func (r *jsonReader) mapping(t *schema.Type) (Value, *Error) {
	m := &Map{}
	seen := map[Value]bool{}
	err := r.sequence('}', func(int) *Error {
		at := r.skipTo()
		name, err := r.name()
		if err != nil {
			return err
		}
		key, ok := keyValue(t.Key, name)
		if !ok {
			return r.refuseAt(at, t.Key.Short()+" as key", "the string "+strconv.Quote(shorten(name)))
		}
		if seen[key] {
			return inside(r.refuseAt(at, "", "the key comes twice"), name)
		}
		seen[key] = true
		v, err := r.value(t.Elem)
		m.Entries = append(m.Entries, Entry{key, v})
		return inside(err, name)
	})
	sortEntries(m.Entries)
	return m, err
}

// keyValue reads a key of a map from its text.
func keyValue(t *schema.Type, text string) (Value, bool) {
	isDigits := text != "" && strings.Trim(text, "0123456789") == "" && (text == "0" || text[0] != '0')
	switch {
	case t.Kind == schema.KindText:
		return text, true
	case t.Kind == schema.KindEnum && isDigits:
		n, err := strconv.ParseUint(text, 10, 16)
		return Enum{Number: int(n)}, err == nil
	case t.Kind == schema.KindEnum:
		return enumNamed(t.Enum, text), true
	}
	n, ok := schema.ParseInteger(t.Kind, text)
	return n, ok && fmt.Sprint(n) == text
}

// KeyText writes a key of a map as text.
func KeyText(key Value, t *schema.Type) string {
	e, isEnum := key.(Enum)
	if !isEnum {
		return fmt.Sprint(key)
	}
	if m := t.Enum.ByNumber(e.Number); m != nil {
		return m.JSONName()
	}
	if e.Number >= 0 {
		return strconv.Itoa(e.Number)
	}
	return e.Name
}

// number returns the text of a number (RFC 8259, section 6).
func (r *jsonReader) number() (string, *Error) {
	start := r.at
	if !r.skipNumber() {
		return "", r.refuseAt(start, "a number", "one that is not well formed")
	}
	return string(r.data[start:r.at]), nil
}

// skipNumber passes over a number, and tells whether it is well formed.
func (r *jsonReader) skipNumber() bool {
	digits := func() bool {
		from := r.at
		for r.at < len(r.data) && r.data[r.at] >= '0' && r.data[r.at] <= '9' {
			r.at++
		}
		return r.at > from
	}
	peek := func() byte {
		if r.at < len(r.data) {
			return r.data[r.at]
		}
		return 0
	}
	if peek() == '-' {
		r.at++
	}
	ok := true
	if peek() == '0' {
		r.at++
	} else {
		ok = digits()
	}
	if ok && peek() == '.' {
		r.at++
		ok = digits()
	}
	if ok && (peek() == 'e' || peek() == 'E') {
		r.at++
		if peek() == '+' || peek() == '-' {
			r.at++
		}
		ok = digits()
	}
	return ok && (peek() < '0' || peek() > '9')
}

// string returns the value of the string here (RFC 8259, section 7).
func (r *jsonReader) string() (string, *Error) {
	start := r.at
	r.at++
	var b []byte // what came before the last run without escapes
	for r.at < len(r.data) {
		run := r.at
		for r.at < len(r.data) && r.data[r.at] >= 0x20 && r.data[r.at] != '"' && r.data[r.at] != '\\' {
			r.at++
		}
		plain := r.data[run:r.at]
		switch {
		case r.at == len(r.data):
			return "", r.refuseAt(start, "a string", "one that is not closed")
		case r.data[r.at] < 0x20:
			return "", r.refuse("a string", "a control character")
		case r.data[r.at] == '"' && b == nil:
			r.at++
			return string(plain), nil
		case r.data[r.at] == '"':
			r.at++
			return string(append(b, plain...)), nil
		}
		b = append(b, plain...)
		r.at++
		if r.at >= len(r.data) {
			break
		}
		escape := r.data[r.at]
		r.at++
		if i := strings.IndexByte(`"\/bfnrt`, escape); i >= 0 {
			b = append(b, "\"\\/\b\f\n\r\t"[i])
			continue
		}
		code, ok := r.hex4(escape)
		if ok && utf16.IsSurrogate(code) {
			low, lowOK := rune(0), false
			if r.at+1 < len(r.data) && r.data[r.at] == '\\' {
				r.at += 2
				low, lowOK = r.hex4(r.data[r.at-1])
			}
			code = utf16.DecodeRune(code, low)
			ok = lowOK && code != utf8.RuneError
		}
		if !ok {
			return "", r.refuseAt(start, "a string", "an escape that is not well formed")
		}
		b = utf8.AppendRune(b, code)
	}
	return "", r.refuseAt(start, "a string", "one that is not closed")
}

func (r *jsonReader) hex4(escape byte) (rune, bool) {
	if escape != 'u' || r.at+4 > len(r.data) {
		return 0, false
	}
	n, err := strconv.ParseUint(string(r.data[r.at:r.at+4]), 16, 16)
	r.at += 4
	return rune(n), err == nil
}

// raw appends any JSON value without the blanks between its tokens, the
// tokens as they are written.
func (r *jsonReader) raw(out []byte) ([]byte, *Error) {
	start := r.skipTo()
	var err *Error
	switch c := r.next(); {
	case c == '"':
		_, err = r.string()
	case c == '-' || c >= '0' && c <= '9':
		_, err = r.number()
	case c == 't':
		err = r.word("true")
	case c == 'f':
		err = r.word("false")
	case c == 'n':
		err = r.word("null")
	case c == '[':
		out = append(out, '[')
		err = r.sequence(']', func(i int) (err *Error) {
			if i > 0 {
				out = append(out, ',')
			}
			out, err = r.raw(out)
			return err
		})
		return append(out, ']'), err
	case c == '{':
		out = append(out, '{')
		err = r.sequence('}', func(i int) *Error {
			at := r.skipTo()
			if _, err := r.name(); err != nil {
				return err
			}
			if i > 0 {
				out = append(out, ',')
			}
			key := bytes.TrimRight(bytes.TrimSuffix(r.data[at:r.at], []byte(":")), " \t\r\n")
			var err *Error
			out, err = r.raw(append(append(out, key...), ':'))
			return err
		})
		return append(out, '}'), err
	default:
		return out, r.wrong("a JSON value")
	}
	return append(out, r.data[start:r.at]...), err
}

// decodeBase64 takes both alphabets of RFC 4648, mixed or not, with complete
// padding or none, and refuses stray bits and blanks.
func decodeBase64(s string) ([]byte, bool) {
	s = strings.NewReplacer("+", "-", "/", "_").Replace(s)
	if bare := strings.TrimRight(s, "="); bare != s {
		if len(s)%4 != 0 || len(s)-len(bare) > 2 {
			return nil, false
		}
		s = bare
	}
	if strings.ContainsAny(s, "\r\n") {
		return nil, false
	}
	b, err := base64.RawURLEncoding.Strict().DecodeString(s)
	return b, err == nil
}

func decodeBase64Value(s string) (Value, bool) {
	b, ok := decodeBase64(s)
	return b, ok
}

// EncodeJSON writes a message without blanks, fields by number, unknown names
// last. The error is an *Error.
func EncodeJSON(m *Message) ([]byte, error) { return encodeJSON(m, false) }

// EncodeJSONWithout is EncodeJSON as EncodeCBORWithout is EncodeCBOR.
func EncodeJSONWithout(m *Message) ([]byte, error) { return encodeJSON(m, true) }

func encodeJSON(m *Message, leaveOut bool) ([]byte, error) {
	w := &jsonWriter{leaveOut: leaveOut}
	if err := w.message(m); err != nil {
		return nil, err
	}
	return w.out, nil
}

type jsonWriter struct {
	out      []byte
	depth    int
	leaveOut bool
}

func (w *jsonWriter) enter() *Error {
	if w.depth++; w.depth > MaxDepth {
		return writeError("a nesting over %d", MaxDepth)
	}
	return nil
}

func (w *jsonWriter) message(m *Message) *Error {
	if err := w.enter(); err != nil {
		return err
	}
	list, err := presentFields(m, w.leaveOut)
	if err != nil {
		return err
	}
	w.out = append(w.out, '{')
	separate := func() {
		if w.out[len(w.out)-1] != '{' {
			w.out = append(w.out, ',')
		}
	}
	for _, p := range list {
		separate()
		if p.field == nil {
			w.out = fmt.Appendf(w.out, `"#%d":"%s"`, p.number, base64.RawURLEncoding.EncodeToString(p.unlisted))
			continue
		}
		w.out = append(AppendString(w.out, p.field.JSONName()), ':')
		if err := w.value(p.value, p.field.Type); err != nil {
			return inside(err, p.field.JSONName())
		}
	}
	for _, u := range m.Unlisted {
		if u.Number == 0 {
			separate()
			w.out = append(append(AppendString(w.out, u.Name), ':'), u.JSON...)
		}
	}
	w.out = append(w.out, '}')
	w.depth--
	return nil
}

func (w *jsonWriter) value(v Value, t *schema.Type) *Error {
	switch v := v.(type) {
	case Cleared:
		w.out = append(w.out, "null"...)
	case bool:
		w.out = strconv.AppendBool(w.out, v)
	case int64:
		if v > 1<<53-1 || v < -(1<<53-1) {
			w.out = fmt.Appendf(w.out, `"%d"`, v)
		} else {
			w.out = strconv.AppendInt(w.out, v, 10)
		}
	case uint64:
		if v > 1<<53-1 {
			w.out = fmt.Appendf(w.out, `"%d"`, v)
		} else {
			w.out = strconv.AppendUint(w.out, v, 10)
		}
	case float32:
		w.out = AppendFloat(w.out, float64(v))
	case float64:
		w.out = AppendFloat(w.out, v)
	case string:
		if !utf8.ValidString(v) {
			return writeError("text that is not UTF-8")
		}
		w.out = AppendString(w.out, v)
	case []byte:
		w.out = fmt.Appendf(w.out, `"%s"`, base64.RawURLEncoding.EncodeToString(v))
	case schema.UUID, schema.Instant, schema.Decimal, schema.Date, schema.Duration:
		w.out = fmt.Appendf(w.out, `"%s"`, v)
	case Enum:
		if m := t.Enum.ByNumber(v.Number); m != nil {
			w.out = AppendString(w.out, m.JSONName())
		} else if v.Number >= 0 {
			w.out = strconv.AppendInt(w.out, int64(v.Number), 10)
		} else {
			w.out = AppendString(w.out, v.Name)
		}
	case schema.Any:
		return w.any(v)
	case List:
		return w.list(len(v), func(i int) *Error { return w.value(v[i], t.Elem) })
	case *Map:
		return w.object(len(v.Entries), func(i int) (string, *Error) {
			key, isText := v.Entries[i].Key.(string)
			if isText && !utf8.ValidString(key) {
				return "", writeError("a key that is not UTF-8")
			}
			return KeyText(v.Entries[i].Key, t.Key), nil
		}, func(i int) *Error { return w.value(v.Entries[i].Value, t.Elem) })
	case *Union:
		return w.union(v, t.Union)
	case *Message:
		return w.message(v)
	default:
		return writeError("a value of the Go type %T", v)
	}
	return nil
}

// list writes n items.
func (w *jsonWriter) list(n int, item func(i int) *Error) *Error {
	if err := w.enter(); err != nil {
		return err
	}
	w.out = append(w.out, '[')
	for i := range n {
		if i > 0 {
			w.out = append(w.out, ',')
		}
		if err := item(i); err != nil {
			return inside(err, strconv.Itoa(i))
		}
	}
	w.out = append(w.out, ']')
	w.depth--
	return nil
}

// object writes n entries.
func (w *jsonWriter) object(n int, key func(i int) (string, *Error), item func(i int) *Error) *Error {
	if err := w.enter(); err != nil {
		return err
	}
	w.out = append(w.out, '{')
	for i := range n {
		if i > 0 {
			w.out = append(w.out, ',')
		}
		name, err := key(i)
		if err != nil {
			return err
		}
		w.out = append(AppendString(w.out, name), ':')
		if err := item(i); err != nil {
			return inside(err, name)
		}
	}
	w.out = append(w.out, '}')
	w.depth--
	return nil
}

// AppendFloat writes a float64 as ECMAScript prints it, but -0 as "-0", and
// what JSON has no number for as a string.
func AppendFloat(out []byte, x float64) []byte {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return AppendString(out, schema.FloatText(x))
	}
	return append(out, schema.FloatText(x)...)
}

// AppendString writes a JSON string that escapes only what it must.
func AppendString(out []byte, s string) []byte {
	out = append(out, '"')
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= 0x20 && c != '"' && c != '\\' {
			out = append(out, c)
			continue
		}
		if j := strings.IndexByte("\"\\\b\f\n\r\t", c); j >= 0 {
			out = append(out, '\\', `"\bfnrt`[j])
		} else {
			out = fmt.Appendf(out, `\u%04x`, c)
		}
	}
	return append(out, '"')
}

// sortUnlisted puts numbers first, ascending, then names in the order read.
func sortUnlisted(list []UnlistedField) {
	key := func(u UnlistedField) int {
		if u.Number == 0 {
			return 1 << 16
		}
		return u.Number
	}
	slices.SortStableFunc(list, func(a, b UnlistedField) int { return key(a) - key(b) })
}

// DecodeJSONValue reads one value of any type, as DecodeJSON reads a message.
func DecodeJSONValue(t *schema.Type, data []byte, budget int) (Value, error) {
	r := &jsonReader{newCBORReader(data, budget)}
	if !utf8.Valid(data) {
		return nil, r.refuseAt(0, "", "bytes that are not UTF-8")
	}
	v, err := r.value(t)
	if err == nil {
		if r.blanks(); r.at < len(data) {
			err = r.refuse("", "more text after the end")
		}
	}
	if err != nil {
		return nil, err
	}
	return v, nil
}
