// Package wire reads and writes payloads: CBOR (RFC 8949) and JSON (RFC 8259).
// The message types next to it call it; other code seldom needs more than its
// types UUID, Error and InvalidRequest.
package wire

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// MaxDepth is how deep messages, lists and maps may nest.
const MaxDepth = 100

// DefaultBudget is how much one payload may contain: a list item or an entry of a map or
// message counts one, a message one plus its declared fields, whether they are
// there or not, since memory is taken for all of them.
const DefaultBudget = 1_000_000

// Message is what every generated message is.
type Message interface {
	AppendCBOR(b []byte, w *Writer) []byte
	ReadCBOR(r *CBORReader)
	AppendJSON(b []byte, w *Writer) []byte
	ReadJSON(r *JSONReader)
	AppendViolations(list []Violation, path string) []Violation
}

// Field is a field's number and its name in JSON.
type Field struct {
	Number int
	Name   string
}

// Error says why a payload could not be read or a value not be written.
type Error struct {
	Path     string // RFC 6901, "" for the whole payload
	Detail   string
	Offset   int // in bytes from the start; -1 when writing
	TooLarge bool
}

func (e *Error) Error() string {
	where := e.Path
	if where == "" {
		where = "payload"
	}
	if e.Offset < 0 {
		return where + ": " + e.Detail
	}
	return fmt.Sprintf("%s: %s (byte %d)", where, e.Detail, e.Offset)
}

func (e *Error) inside(step string) {
	if strings.ContainsAny(step, "~/") {
		step = strings.ReplaceAll(strings.ReplaceAll(step, "~", "~0"), "/", "~1")
	}
	e.Path = "/" + step + e.Path
}

// Violation is one way in which a request violates its definitions.
type Violation struct {
	Pointer string `json:"pointer"` // RFC 6901
	Detail  string `json:"detail"`
	In      string `json:"in,omitempty"` // "path", "query", "header" or "cookie"; "" for the body

	unlisted bool
}

// InvalidRequest is the error that lists every violation of a message.
type InvalidRequest struct{ Violations []Violation }

func (e *InvalidRequest) Error() string {
	var lines []string
	for _, v := range e.Violations {
		lines = append(lines, strings.TrimPrefix(v.Pointer+" "+v.Detail, " "))
	}
	return strings.Join(lines, "; ")
}

// Validate returns an *InvalidRequest with all violations of m, or nil.
func Validate(m interface {
	AppendViolations(list []Violation, path string) []Violation
}) error {
	return InvalidOf(m.AppendViolations(nil, ""))
}

// InvalidOf returns an *InvalidRequest with violations, or nil where there are none.
func InvalidOf(list []Violation) error {
	if len(list) == 0 {
		return nil
	}
	return &InvalidRequest{Violations: list}
}

// Refuse adds a violation; format and args are as for fmt.Sprintf.
func Refuse(list []Violation, path, format string, args ...any) []Violation {
	return append(list, Violation{Pointer: path, Detail: fmt.Sprintf(format, args...)})
}

// RefuseUnlisted adds the violation of a member or alternative that is none of
// those listed.
func RefuseUnlisted(list []Violation, path, listed string) []Violation {
	return append(list, Violation{Pointer: path, Detail: "must be one of " + listed, unlisted: true})
}

// WithoutUnlisted leaves out the violations of RefuseUnlisted.
func WithoutUnlisted(list []Violation) []Violation {
	return slices.DeleteFunc(list, func(v Violation) bool { return v.unlisted })
}

// Unique adds a violation for each element of a list of n that is equal to one
// before it. appendJSON appends an element as JSON, by which they are compared.
func Unique(list []Violation, path string, n int, appendJSON func(b []byte, w *Writer, i int) []byte) []Violation {
	first := make(map[string]int, n)
	w := Writer{exact: true}
	var b []byte
	for i := range n {
		b = appendJSON(b[:0], &w, i)
		if j, known := first[string(b)]; known {
			list = Refuse(list, Index(path, i), "must be unique, and is equal to element %d", j)
		} else {
			first[string(b)] = i
		}
	}
	return list
}

// FloatText writes a float64 for people, as JSON has it but without quotes.
func FloatText(v float64) string {
	return strings.Trim(string(AppendJSONFloat64(nil, v)), `"`)
}

// InstantText writes an instant for people, as JSON has it.
func InstantText(v time.Time) string { return string(appendInstantText(nil, v)) }

// Step adds a step to a path of a violation.
func Step(path, step string) string {
	e := Error{}
	e.inside(step)
	return path + e.Path
}

// Index adds the index of a list's item to a path of a violation.
func Index(path string, i int) string { return path + "/" + strconv.Itoa(i) }

// UnlistedField is a field that these definitions do not know: a number with its
// CBOR, or (Number 0) a JSON name with its JSON.
type UnlistedField struct {
	Number int
	Name   string
	Raw    []byte
}

// Reader is what both readers share. The first failure stays: from then on
// nothing more is read.
type Reader struct {
	data   []byte
	at     int
	depth  int
	budget int
	err    *Error
}

// Failed tells whether something could not be read.
func (r *Reader) Failed() bool { return r.err != nil }

// Err returns the first failure, or nil.
func (r *Reader) Err() error {
	if r.err == nil {
		return nil
	}
	return r.err
}

// fail keeps the first failure, and leaves nothing to be read: so what reads
// need not ask whether something failed.
func (r *Reader) fail(at int, format string, args ...any) {
	if r.err == nil {
		r.err = &Error{Detail: fmt.Sprintf(format, args...), Offset: at}
	}
	r.at = len(r.data)
}

// Inside adds a step to the path of a failure on its way up.
func (r *Reader) Inside(step string) {
	if r.err != nil {
		r.err.inside(step)
	}
}

// Settle puts the unlisted fields of a message in order, numbers ascending
// before names, and refuses what came twice. It is done once, at the end: a
// payload of many unlisted fields must not cost more than its length.
func (r *Reader) Settle(list []UnlistedField) {
	if len(list) > 1 && r.err == nil {
		r.settle(list)
	}
}

func (r *Reader) settle(list []UnlistedField) {
	rank := func(u UnlistedField) int {
		if u.Number == 0 {
			return 1 << 16 // after all numbers
		}
		return u.Number
	}
	slices.SortStableFunc(list, func(a, b UnlistedField) int { return rank(a) - rank(b) })
	names := map[string]bool{}
	for i, u := range list {
		twice := u.Number == 0 && names[u.Name] || i > 0 && u.Number > 0 && list[i-1].Number == u.Number
		if twice {
			r.fail(r.at, "an unlisted field comes twice")
			return
		}
		if u.Number == 0 {
			names[u.Name] = true
		}
	}
}

// Distinct refuses a map in which some key came twice.
func (r *Reader) Distinct(distinct, read int) {
	if distinct != read && r.err == nil {
		r.fail(r.at, "a key of the map comes twice")
	}
}

// InsideIndex adds the index of a list's item.
func (r *Reader) InsideIndex(i int) { r.Inside(strconv.Itoa(i)) }

// InsideField adds the name of the field with a number.
func (r *Reader) InsideField(fields []Field, number int) {
	for _, f := range fields {
		if f.Number == number {
			r.Inside(f.Name)
			return
		}
	}
	r.Inside("#" + strconv.Itoa(number))
}

// Once marks a field as seen and refuses it the second time.
func (r *Reader) Once(seen *uint64, bit uint64) {
	if *seen&bit != 0 {
		r.twice()
	}
	*seen |= bit
}

func (r *Reader) twice() { r.fail(r.at, "the field comes twice") }

// Require refuses a message whose required fields were not all seen.
func (r *Reader) Require(seen, required uint64, fields []Field) {
	if seen&required != required && r.err == nil {
		r.missing(seen, required, fields)
	}
}

func (r *Reader) missing(seen, required uint64, fields []Field) {
	for i, f := range fields {
		if missing := required &^ seen; missing&(1<<i) != 0 {
			r.fail(r.at, "the field is required")
			r.Inside(f.Name)
			return
		}
	}
}

func (r *Reader) enter() {
	if r.depth++; r.depth > MaxDepth {
		r.fail(r.at, "a nesting over %d", MaxDepth)
	}
}

// Leave ends a message, list or map.
func (r *Reader) Leave() { r.depth-- }

func (r *Reader) spend(n int) {
	if r.budget -= n; r.budget < 0 && r.err == nil {
		r.fail(r.at, "more elements and entries than a payload may contain")
		r.err.TooLarge = true
	}
}

// Room is how many of n items, of size bytes each in memory, to make room for
// before any of them was read: no more than a small multiple of what is left
// of the payload.
func (r *Reader) Room(n, size int) int {
	if n < 0 {
		return 0
	}
	return min(n, 4+8*(len(r.data)-r.at)/size)
}

// Writer keeps what went wrong while writing, and the depth.
type Writer struct {
	err   *Error
	depth int
	hides bool // what is secret
	exact bool // decimals by number, so that what is equal is written alike

	numbers bool // whether what failed has no number, which only CBOR asks for
	marks   bool // whether JSON has a mark where it failed

	scratch []byte // empty, of those that Scratch returns
}

// Hides tells that what is written is for people and logs: secret fields are
// left out.
func (w *Writer) Hides() bool { return w.hides }

// Text writes m for people and logs: as JSON, without what is secret, unlisted
// fields as their count.
func Text(m interface {
	AppendJSON(b []byte, w *Writer) []byte
}) string {
	return string(m.AppendJSON(nil, &Writer{hides: true}))
}

// Secret is the placeholder of a secret in texts for people and logs.
const Secret = "(secret)"

func (w *Writer) fail(format string, args ...any) {
	if w.err == nil {
		w.err = &Error{Detail: fmt.Sprintf(format, args...), Offset: -1}
	}
}

// mark is a byte that no JSON has.
const mark = 0xff

// failed is fail at the end of what was appended as JSON.
func (w *Writer) failed(b []byte, format string, args ...any) []byte {
	first := w.err == nil
	w.fail(format, args...)
	if first && w.marks {
		return append(b, mark)
	}
	return b
}

// located is what went wrong, with its place: what is written as JSON once more has a mark there.
func (w *Writer) located(appendJSON func(b []byte, w *Writer) []byte) error {
	again := &Writer{marks: true, numbers: w.numbers}
	text := appendJSON(nil, again)
	if i := bytes.IndexByte(text, mark); i >= 0 {
		w.err.Path = pathAt(text[:i]) + again.err.Path
	}
	return w.err
}

// pathAt is the path (RFC 6901) of what comes after the beginning of a JSON text.
func pathAt(text []byte) string {
	type level struct {
		step string
		at   int // the index in a list; in an object noName or named
	}
	const noName, named = -1, -2
	var open []level
	for i := 0; i < len(text); i++ {
		last := len(open) - 1
		switch c := text[i]; {
		case c == '{':
			open = append(open, level{at: noName})
		case c == '[':
			open = append(open, level{step: "0"})
		case c == '}' || c == ']':
			open = open[:last]
		case c == ',' && open[last].at < 0:
			open[last] = level{at: noName}
		case c == ',':
			open[last].at++
			open[last].step = strconv.Itoa(open[last].at)
		case c == '"':
			start := i
			for i++; i < len(text) && text[i] != '"'; i++ {
				if text[i] == '\\' {
					i++
				}
			}
			if i+1 < len(text) && text[i+1] == ':' {
				open[last].at = named
				_ = json.Unmarshal(text[start:i+1], &open[last].step) // we wrote it
			}
		}
	}
	var place Error
	for _, l := range slices.Backward(open) {
		if l.at != noName {
			place.inside(l.step)
		}
	}
	return place.Path
}

// Enter begins a message, list or map.
func (w *Writer) Enter() {
	if w.depth++; w.depth > MaxDepth {
		w.tooDeep()
	}
}

func (w *Writer) tooDeep() { w.fail("a nesting over %d", MaxDepth) }

// Leave ends a message, list or map.
func (w *Writer) Leave() { w.depth-- }

// Err returns the first failure, or nil.
func (w *Writer) Err() error {
	if w.err == nil {
		return nil
	}
	return w.err
}

// Written is the end of a method that appended something to b: out, or b as it
// was and what could not be written, with its place, for which it is written once more.
func (w *Writer) Written(out, b []byte, appendJSON func(b []byte, w *Writer) []byte) ([]byte, error) {
	if w.err != nil {
		return b, w.located(appendJSON)
	}
	return out, nil
}

// scratch is where values are written whose length nobody knows yet.
var scratch = sync.Pool{New: func() any { return &Writer{scratch: make([]byte, 0, 1024)} }}

// maxScratch is the largest buffer that is kept for another value.
const maxScratch = 2 << 20

// Scratch returns a writer and a buffer of its own, until Fresh.
func Scratch() (*Writer, []byte) {
	w := scratch.Get().(*Writer)
	return w, w.scratch
}

// Spacious doubles a large buffer that is nearly full: append alone gives it a quarter more, and
// copies its content more often.
func Spacious(b []byte) []byte {
	if cap(b)-len(b) > 512 || len(b) < 16<<10 {
		return b
	}
	return slices.Grow(b, len(b))
}

// Fresh is Written for what was appended to the buffer of Scratch: a copy that
// is the caller's, or the buffer itself where that is too large to keep. The
// writer must not be used after it. What could not be written is written once more, for its place.
func (w *Writer) Fresh(out []byte, appendJSON func(b []byte, w *Writer) []byte) ([]byte, error) {
	if w.err != nil {
		return nil, w.located(appendJSON)
	}
	fresh := out
	if cap(out) <= maxScratch {
		fresh = append([]byte(nil), out...)
		*w = Writer{scratch: out[:0]}
		scratch.Put(w)
	}
	return fresh, nil
}

// MarshalBinary writes m as CBOR.
func MarshalBinary(m Message) ([]byte, error) {
	w, b := Scratch()
	return w.Fresh(m.AppendCBOR(b, w), m.AppendJSON)
}

// MarshalText writes m as JSON.
func MarshalText(m Message) ([]byte, error) {
	w, b := Scratch()
	return w.Fresh(m.AppendJSON(b, w), m.AppendJSON)
}

// NewCBORReader returns a reader of one payload.
func NewCBORReader(data []byte) CBORReader {
	return CBORReader{Reader{data: data, budget: DefaultBudget}}
}

// NewJSONReader returns a reader of one payload.
func NewJSONReader(data []byte) JSONReader {
	return JSONReader{Reader: Reader{data: data, budget: DefaultBudget}}
}

// End refuses what comes after the payload, and returns what went wrong.
func (r *CBORReader) End() error {
	if r.err == nil && r.at < len(r.data) {
		r.fail(r.at, "more bytes after the end")
	}
	return r.Err()
}

// End refuses what comes after the payload, and returns what went wrong.
func (r *JSONReader) End() error {
	if r.blanks(); r.err == nil && r.at < len(r.data) {
		r.fail(r.at, "more text after the end")
	}
	return r.Err()
}

// UnmarshalWithin reads m, which is new, from CBOR with a budget of list items
// and entries.
func UnmarshalWithin(data []byte, m Message, items int) error {
	r := NewCBORReader(data)
	r.budget = items
	m.ReadCBOR(&r)
	return r.End()
}

// UnmarshalTextWithin reads m, which is new, from JSON with a budget of list
// items and entries.
func UnmarshalTextWithin(data []byte, m Message, items int) error {
	r := NewJSONReader(data)
	r.budget = items
	m.ReadJSON(&r)
	return r.End()
}

// Item is for messages that read themselves in a way of their own: read is given
// the next item and how many list items and entries it may contain.
func (r *CBORReader) Item(read func(item []byte, items int) *Error) {
	start := r.at
	r.skip()
	r.item(start, read)
}

// Item is for messages that read themselves in a way of their own: read is given
// the next value and how many list items and entries it may contain.
func (r *JSONReader) Item(read func(value []byte, items int) *Error) {
	r.blanks()
	start := r.at
	r.raw(nil)
	r.item(start, read)
}

func (r *Reader) item(start int, read func([]byte, int) *Error) {
	// What is not well formed is for read to refuse: it knows more of it.
	if err := read(r.data[start:r.at], r.budget); err != nil {
		if err.Offset >= 0 {
			err.Offset += start
		}
		r.err, r.at = err, len(r.data)
	}
}

// Fail keeps why a message that writes itself in a way of its own could not.
func (w *Writer) Fail(err error) { w.fail("%v", err) }

// NoNumber keeps that an enum's value has no number to be written as.
func (w *Writer) NoNumber(enum, value string) {
	if value == "" {
		w.fail("%s is not set", enum)
		return
	}
	if w.err == nil {
		w.numbers = true
	}
	w.fail(withoutNumber, value, enum)
}

const withoutNumber = "%q is not listed in %s, and binary payloads contain numbers"

// AppendUnlisted appends an enum's value that is not listed: "#7" as the
// number, "?name" as the name.
func AppendUnlisted(b []byte, enum, value string, w *Writer) []byte {
	if w.numbers && strings.HasPrefix(value, "?") {
		return w.failed(b, withoutNumber, value, enum)
	}
	if number, ok := ParseUnlistedNumber(value); ok {
		return strconv.AppendUint(b, uint64(number), 10)
	}
	if name, ok := strings.CutPrefix(value, "?"); ok {
		return AppendJSONString(b, name, w)
	}
	return w.notListed(b, enum, value)
}

// notListed keeps that a text is not a value of an enum.
func (w *Writer) notListed(b []byte, enum, value string) []byte {
	if value == "" {
		return w.failed(b, "%s is not set", enum)
	}
	return w.failed(b, "%q is not listed in %s", value, enum)
}

// AppendEnumKey is AppendKey for an enum's value; what is none stays in w.
func AppendEnumKey[E interface {
	~string
	JSONName() string
	Listed() bool
}](b []byte, enum string, e E, w *Writer) []byte {
	b = AppendKey(b, e.JSONName(), w)
	if !e.Listed() && (w.numbers || !strings.HasPrefix(string(e), "?")) {
		if _, ok := ParseUnlistedNumber(string(e)); !ok {
			return w.notListed(b, enum, string(e))
		}
	}
	return b
}
