package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pelletier/go-toml/v2"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/value"
)

// Sheet is an answer sheet: what a mock answers, to which requests. The first
// entry that fits a request is taken.
type Sheet struct {
	entries []*entry

	credentials map[string][]string // by full name; those that it does not name are all good

	mu    sync.Mutex
	state string
}

// entry is one [[answer]].
type entry struct {
	Call   string            `toml:"call"`       // by its full name, or the last parts of it
	When   map[string]any    `toml:"when"`       // fields of the request, by their names in JSON
	State  *string           `toml:"state"`      // the state in which the entry holds; absent: in all
	Next   *string           `toml:"next_state"` // the state afterwards
	With   map[string]any    `toml:"with"`       // fields of the answer, or of the error
	Copy   map[string]string `toml:"copy"`       // fields of the answer from the request, by JSON Pointer
	Error  string            `toml:"error"`      // a declared error instead of the answer
	Stream []map[string]any  `toml:"stream"`     // the elements of an answer that is a stream
	Delay  string            `toml:"delay"`      // before the answer, or each element of it
	Times  int               `toml:"times"`      // how often it is given; 0: always
	Cut    bool              `toml:"cut"`        // break the connection instead

	Problem string `toml:"problem"` // the name of a problem that no call declares, instead

	number int // from 1
	call   *schema.Call
	failed *schema.Message // of Error
	delay  time.Duration
	given  int
	reply  *reply // where nothing is copied
	base   map[string]json.RawMessage
}

// reply is what a mock answers a request with.
type reply struct {
	note    string // where it comes from, for the log
	answer  *message
	stream  []*message
	failed  *declared
	problem error
	delay   time.Duration
	cut     bool
	repeats map[int]int // fields of the answer by those of the request that they repeat
	streams bool        // whether stream is what there is, even if empty
}

// sheetFile is the file as a whole.
type sheetFile struct {
	State       string         `toml:"state"`       // in which a mock begins
	Credentials map[string]any `toml:"credentials"` // by name: the value, or a list of those, that is good
	Answers     []*entry       `toml:"answer"`
}

// BadSheet is the error of an answer sheet with mistakes.
type BadSheet struct{ Findings []source.Finding }

func (e *BadSheet) Error() string { return e.Findings[0].Message }

// ReadSheet reads an answer sheet, and checks all of it against definitions.
// defaults makes the answers that entries change. The error is a *BadSheet.
func ReadSheet(defs *schema.Definitions, file *source.File,
	defaults func(t *schema.Message) (*value.Message, error)) (*Sheet, error) {
	r := &sheetReader{defs: defs, file: file, defaults: defaults}
	var content sheetFile
	d := toml.NewDecoder(strings.NewReader(file.Text))
	d.DisallowUnknownFields()
	if err := d.Decode(&content); err != nil {
		r.undecodable(err)
		return nil, &BadSheet{r.findings}
	}
	r.split()
	for i, e := range content.Answers {
		e.number = i + 1
		r.entry(e)
	}
	credentials := r.credentials(content.Credentials)
	if len(r.findings) > 0 {
		return nil, &BadSheet{r.findings}
	}
	return &Sheet{entries: content.Answers, state: content.State, credentials: credentials}, nil
}

type sheetReader struct {
	defs     *schema.Definitions
	file     *source.File
	defaults func(t *schema.Message) (*value.Message, error)
	findings []source.Finding
	blocks   []source.Span // of each [[answer]]
	current  int
}

var sheetKeys = []string{"call", "when", "state", "next_state", "with", "copy", "error", "problem", "stream", "delay",
	"times", "cut"}

// split finds where each entry stands: positions are for people, so text will do.
func (r *sheetReader) split() {
	heads := regexp.MustCompile(`(?m)^[ \t]*\[\[[ \t]*answer[ \t]*\]\]`).FindAllStringIndex(r.file.Text, -1)
	for i, h := range heads {
		end := len(r.file.Text)
		if i+1 < len(heads) {
			end = heads[i+1][0]
		}
		r.blocks = append(r.blocks, source.Span{Start: uint32(h[0]), End: uint32(end)})
	}
}

// refuse adds a finding at a word of the current entry.
func (r *sheetReader) refuse(word, name, fix, format string, args ...any) {
	place := source.Place{File: r.file}
	if r.current < len(r.blocks) {
		place.Span = r.blocks[r.current]
		text := r.file.Text[place.Span.Start:place.Span.End]
		at := regexp.MustCompile(`(^|[^A-Za-z0-9_])` + regexp.QuoteMeta(word) + `($|[^A-Za-z0-9_])`).FindStringIndex(text)
		start := 0
		if at != nil {
			start = at[0] + strings.Index(text[at[0]:], word)
		} else {
			word = strings.TrimSpace(strings.SplitN(text, "\n", 2)[0])
		}
		place.Span = source.Span{Start: place.Span.Start + uint32(start), End: place.Span.Start + uint32(start+len(word))}
	}
	r.findings = append(r.findings, source.Finding{Name: name, Place: place, Message: fmt.Sprintf(format, args...),
		Fix: fix})
}

func (r *sheetReader) undecodable(err error) {
	at := func(line, column, length int) source.Place {
		offset := 0
		for ; line > 1; line-- {
			offset += strings.IndexByte(r.file.Text[offset:], '\n') + 1
		}
		offset = min(offset+column-1, len(r.file.Text))
		return source.Place{File: r.file, Span: source.Span{Start: uint32(offset),
			End: uint32(min(offset+length, len(r.file.Text)))}}
	}
	switch e := err.(type) {
	case *toml.StrictMissingError:
		for i := range e.Errors {
			key := e.Errors[i].Key()
			line, column := e.Errors[i].Position()
			last := key[len(key)-1]
			known := sheetKeys
			if len(key) == 1 {
				known = []string{"state", "credentials", "answer"}
			}
			fix := "the keys here are: " + strings.Join(known, ", ")
			if near := source.Nearest(last, known); near != "" {
				fix = source.DidYouMean(near)
			}
			r.findings = append(r.findings, source.Finding{Name: "no-such-key", Place: at(line, column, len(last)),
				Message: fmt.Sprintf("an answer sheet has no key %q", strings.Join(key, ".")), Fix: fix})
		}
	case *toml.DecodeError:
		line, column := e.Position()
		r.findings = append(r.findings, source.Finding{Name: "bad-toml", Place: at(line, column, 1),
			Message: strings.TrimPrefix(e.Error(), "toml: "), Fix: "an answer sheet is written in TOML"})
	default:
		r.findings = append(r.findings, source.Finding{Name: "bad-toml", Place: at(1, 1, 0),
			Message: strings.TrimPrefix(err.Error(), "toml: ")})
	}
}

// entry checks one entry, and makes its answer where that is always the same.
func (r *sheetReader) entry(e *entry) {
	r.current = e.number - 1
	if e.call = r.callNamed(e.Call); e.call == nil {
		return
	}
	before := len(r.findings)
	if e.Delay != "" {
		d, err := schema.ParseDuration(e.Delay)
		if err != nil || d < 0 {
			r.refuse("delay", "bad-delay", `write, for example: delay = "PT0.5S"`, "a delay is an ISO 8601 duration, not %q",
				e.Delay)
		}
		e.delay = time.Duration(d)
	}
	if e.Times < 0 {
		r.refuse("times", "bad-times", "leave it out for always", "an answer is given a positive number of times, not %d",
			e.Times)
	}
	if len(e.When) > 0 {
		if e.call.Request == nil {
			r.refuse("when", "no-request", "leave out when", "the request of %q is (): it has no fields", e.call.FullName())
		} else {
			r.checkMatch("when", &schema.Type{Kind: schema.KindMessage, Message: e.call.Request}, e.When)
		}
	}
	what := e.call.Response
	if e.Error != "" {
		if e.failed = r.errorNamed(e); e.failed == nil {
			return
		}
		what = e.failed
	}
	switch {
	case e.Cut && (e.Error != "" || e.Problem != "" || e.With != nil || e.Copy != nil):
		r.refuse("cut", "two-answers", "leave one of them out", "a connection that is cut carries no answer")
	case e.Problem != "" && (e.Error != "" || e.With != nil || e.Copy != nil):
		r.refuse("problem", "two-answers", "leave one of them out", "a problem has no fields, and is not a declared error")
	case e.Problem != "" && problems[e.Problem] == nil:
		r.refuse(e.Problem, "no-such-problem", nearestFix(e.Problem, problemNames()),
			"a mock does not answer with the problem %q", e.Problem)
	case e.Stream != nil && !e.call.ResponseStream:
		r.refuse("stream", "no-stream", "write with instead", "%q does not answer with a stream", e.call.FullName())
	case e.call.ResponseStream && !e.call.RequestStream && e.Error == "" && (e.With != nil || e.Copy != nil):
		r.refuse("with", "is-stream", "write stream = [{ … }, { … }] instead", "%q answers with a stream", e.call.FullName())
	case what == nil && (len(e.With) > 0 || len(e.Copy) > 0):
		r.refuse("with", "no-answer", "leave it out", "the answer of %q is (): it has no fields", e.call.FullName())
	}
	if len(r.findings) == before {
		r.prepare(e, what)
	}
}

func (r *sheetReader) callNamed(name string) *schema.Call {
	var names []string
	var found []*schema.Call
	for _, c := range r.defs.Calls() {
		full := c.FullName()
		if full == name || strings.HasSuffix(full, "."+name) {
			found = append(found, c)
		}
		names = append(names, full, c.Service.Name+"."+c.Name)
	}
	switch {
	case name == "":
		r.refuse("[[answer]]", "no-call", `write, for example: call = "Bookings.book"`,
			"an answer needs the call that it is for")
	case len(found) == 1:
		return found[0]
	case len(found) > 1:
		r.refuse(name, "ambiguous-call", "write its full name", "%q may be any of %d calls", name, len(found))
	default:
		r.refuse(name, "no-such-call", nearestFix(name, names), "there is no call %q", name)
	}
	return nil
}

func nearestFix(name string, names []string) string {
	if near := source.Nearest(name, names); near != "" {
		return source.DidYouMean(near)
	}
	if len(names) > 12 {
		names = append(slices.Clone(names[:12]), "…")
	}
	return "there are: " + strings.Join(names, ", ")
}

func (r *sheetReader) errorNamed(e *entry) *schema.Message {
	var names []string
	for _, f := range e.call.Fails {
		if f.Name == e.Error || f.FullName() == e.Error {
			return f
		}
		names = append(names, f.Name)
	}
	fix := fmt.Sprintf("%q declares none", e.call.Name)
	if len(names) > 0 {
		fix = nearestFix(e.Error, names)
	}
	r.refuse(e.Error, "no-such-error", fix, "%q does not fail with %q", e.call.FullName(), e.Error)
	return nil
}

// prepare makes what an entry answers with.
func (r *sheetReader) prepare(e *entry, what *schema.Message) {
	e.reply = &reply{note: fmt.Sprintf("answer %d", e.number), delay: e.delay, cut: e.Cut}
	for i, fields := range e.Stream {
		m := r.patched(e.call.Response, fields, fmt.Sprintf("element %d of the stream", i+1))
		if m == nil {
			return
		}
		e.reply.stream, e.reply.streams = append(e.reply.stream, made(m)), true
	}
	if e.Problem != "" {
		e.reply.problem = problems[e.Problem]
		return
	}
	if what == nil || e.Cut || what == e.call.Response && e.call.ResponseStream && !e.call.RequestStream {
		return
	}
	m := r.patched(what, e.With, "with")
	if m == nil {
		return
	}
	e.set(m)
	if len(e.Copy) == 0 {
		return
	}
	text, _ := value.EncodeJSON(m) // it was read from JSON
	_ = json.Unmarshal(text, &e.base)
	for name, pointer := range e.Copy {
		if what.ByName(name) == nil && !slices.ContainsFunc(what.Fields,
			func(f *schema.Field) bool { return f.JSONName() == name }) {
			r.refuse(name, "no-such-field", nearestFix(name, jsonNames(what)), "%q has no field %q", what.Name, name)
		}
		if !strings.HasPrefix(pointer, "/") {
			r.refuse(name, "bad-pointer", `write, for example: copy = { sailing = "/sailing" }`,
				"what is copied is named by a JSON Pointer, not by %q", pointer)
		}
	}
}

// set puts the answer, or the error, into the reply.
func (e *entry) set(m *value.Message) {
	if e.failed != nil {
		e.reply.failed = &declared{*made(m)}
	} else {
		e.reply.answer = made(m)
	}
}

// problems are those that an entry may answer with.
var problems = map[string]error{
	"unauthenticated": web.Unauthenticated("the answer sheet says so"),
	"forbidden":       web.Forbidden("the answer sheet says so"),
	"not-implemented": web.ErrNotImplemented,
	"overloaded":      web.Overloaded(time.Second),
	"internal":        errors.New("the answer sheet says so"),
}

func problemNames() []string { return slices.Sorted(maps.Keys(problems)) }

// credentials reads which values are good.
func (r *sheetReader) credentials(given map[string]any) map[string][]string {
	r.current = len(r.blocks) // no entry
	out := map[string][]string{}
	for _, name := range slices.Sorted(maps.Keys(given)) {
		var full string
		var names []string
		for _, m := range r.defs.Modules {
			for _, c := range m.Credentials {
				names = append(names, c.Name)
				if c.Name == name || c.FullName() == name {
					full = c.FullName()
				}
			}
		}
		if full == "" {
			r.findings = append(r.findings, source.Finding{Name: "no-such-credential", Place: source.Place{File: r.file},
				Message: fmt.Sprintf("there is no credential %q", name), Fix: nearestFix(name, names)})
			continue
		}
		switch v := given[name].(type) {
		case string:
			out[full] = []string{v}
		case []any:
			for _, one := range v {
				out[full] = append(out[full], fmt.Sprint(one))
			}
		default:
			out[full] = []string{fmt.Sprint(v)}
		}
	}
	return out
}

// authorize refuses values that the sheet does not name, of the credentials that it does.
func (s *Sheet) authorize(ctx context.Context, _ *web.Call, shown web.Credentials) (context.Context, error) {
	for name, v := range shown {
		if good, named := s.credentials[name]; named && !slices.Contains(good, v) {
			return nil, web.Forbidden(fmt.Sprintf("the answer sheet does not accept this value of %q",
				name[strings.LastIndexByte(name, '.')+1:]))
		}
	}
	return ctx, nil
}

func jsonNames(m *schema.Message) []string {
	var names []string
	for _, f := range m.Fields {
		names = append(names, f.JSONName())
	}
	return names
}

// patched is a value that is made, but for the fields that are given.
func (r *sheetReader) patched(t *schema.Message, fields map[string]any, where string) *value.Message {
	base, err := r.defaults(t)
	if err != nil {
		r.refuse("call", "impossible", "", "%v", err)
		return nil
	}
	text, err := value.EncodeJSON(base)
	if err != nil {
		r.refuse("call", "impossible", "", "%v", err)
		return nil
	}
	merged := map[string]json.RawMessage{}
	_ = json.Unmarshal(text, &merged) // it was written just now
	for name, v := range fields {
		if !slices.Contains(jsonNames(t), name) && !strings.HasPrefix(name, "#") {
			r.refuse(name, "no-such-field", nearestFix(name, jsonNames(t)), "%q has no field %q", t.Name, name)
			continue
		}
		merged[name] = jsonOf(v)
	}
	whole, _ := json.Marshal(merged) // of JSON
	m, err := value.DecodeJSON(t, whole, 0)
	if err != nil {
		r.refuse(firstStep(err), "wrong-value", "", "%s: %v", where, withoutOffset(err))
		return nil
	}
	for _, pointer := range value.UnlistedNames(m) {
		name := pointer[strings.LastIndexByte(pointer, '/')+1:]
		r.refuse(name, "no-such-field", nearestFix(name, r.allNames()), "%s: nothing of these definitions is called %q",
			where, pointer)
	}
	return m
}

// allNames are the names of all fields in JSON.
func (r *sheetReader) allNames() []string {
	var names []string
	for _, module := range r.defs.Modules {
		for _, m := range module.Messages {
			names = append(names, jsonNames(m)...)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// firstStep is the field that an error is about.
func firstStep(err error) string {
	if e, ok := err.(*value.Error); ok {
		first, _, _ := strings.Cut(strings.TrimPrefix(e.Path, "/"), "/")
		return first
	}
	return ""
}

// withoutOffset takes the place in bytes from an error: nobody sees those bytes.
func withoutOffset(err error) error {
	if e, ok := err.(*value.Error); ok {
		own := *e
		own.Offset = -1
		return &own
	}
	return err
}

// jsonOf turns a value of TOML into JSON.
func jsonOf(v any) json.RawMessage {
	switch v := v.(type) {
	case string:
		return value.AppendString(nil, v)
	case bool:
		return strconv.AppendBool(nil, v)
	case int64:
		return strconv.AppendInt(nil, v, 10)
	case float64:
		if math.IsNaN(v) || math.IsInf(v, 0) || v != math.Trunc(v) || math.Abs(v) >= 1e15 {
			return value.AppendFloat(nil, v)
		}
		return strconv.AppendFloat(nil, v, 'f', 1, 64)
	case time.Time:
		return value.AppendString(nil, v.UTC().Format(time.RFC3339Nano))
	case []any:
		out := []byte{'['}
		for i, item := range v {
			if i > 0 {
				out = append(out, ',')
			}
			out = append(out, jsonOf(item)...)
		}
		return append(out, ']')
	case map[string]any:
		var names []string
		for name := range v {
			names = append(names, name)
		}
		slices.Sort(names)
		out := []byte{'{'}
		for i, name := range names {
			if i > 0 {
				out = append(out, ',')
			}
			out = append(append(value.AppendString(out, name), ':'), jsonOf(v[name])...)
		}
		return append(out, '}')
	}
	return value.AppendString(nil, fmt.Sprint(v)) // dates and times of day
}

// checkMatch checks what a request is compared with: names, and scalars.
func (r *sheetReader) checkMatch(path string, t *schema.Type, wanted any) {
	object, isObject := wanted.(map[string]any)
	switch {
	case t.Kind == schema.KindMessage && isObject:
		for name, v := range object {
			i := slices.IndexFunc(t.Message.Fields, func(f *schema.Field) bool { return f.JSONName() == name })
			if i < 0 {
				r.refuse(name, "no-such-field", nearestFix(name, jsonNames(t.Message)), "%q has no field %q", t.Short(), name)
				continue
			}
			r.checkMatch(path+"."+name, t.Message.Fields[i].Type, v)
		}
	case t.Kind == schema.KindUnion && isObject:
		for name, v := range object {
			i := slices.IndexFunc(t.Union.Alternatives, func(a *schema.Alternative) bool { return a.JSONName() == name })
			if i < 0 {
				r.refuse(name, "no-such-alternative", "", "%q has no alternative %q", t.Union.Name, name)
				continue
			}
			r.checkMatch(path+"."+name, t.Union.Alternatives[i].Type, v)
		}
	case t.Kind == schema.KindMap && isObject:
		for name, v := range object {
			r.checkMatch(path+"."+name, t.Elem, v)
		}
	default:
		list, isList := wanted.([]any)
		if t.Kind == schema.KindList && isList {
			for _, v := range list {
				r.checkMatch(path, t.Elem, v)
			}
			return
		}
		if _, err := value.DecodeJSONValue(t, jsonOf(wanted), 0); err != nil {
			r.refuse(path[strings.LastIndexByte(path, '.')+1:], "wrong-value", "", "%s: %v", path, withoutOffset(err))
		}
	}
}

// matches tells whether a value has all that is wanted of it.
func matches(t *schema.Type, wanted any, v value.Value) bool {
	object, isObject := wanted.(map[string]any)
	switch v := v.(type) {
	case *value.Message:
		if !isObject {
			return false
		}
		for name, w := range object {
			i := slices.IndexFunc(v.Type.Fields, func(f *schema.Field) bool { return f.JSONName() == name })
			if i < 0 {
				return false
			}
			f := v.Type.Fields[i]
			field, there := v.Fields[f.Number]
			if !there || !matches(f.Type, w, field) {
				return false
			}
		}
		return true
	case *value.Union:
		a := t.Union.ByNumber(v.Number)
		if a == nil || !isObject {
			return false
		}
		w, there := object[a.JSONName()]
		return there && len(object) == 1 && matches(a.Type, w, v.Value)
	case *value.Map:
		if !isObject {
			return false
		}
		for name, w := range object {
			if !slices.ContainsFunc(v.Entries, func(e value.Entry) bool {
				return value.KeyText(e.Key, t.Key) == name && matches(t.Elem, w, e.Value)
			}) {
				return false
			}
		}
		return true
	case value.List:
		list, isList := wanted.([]any)
		if !isList || len(list) != len(v) {
			return false
		}
		for i := range v {
			if !matches(t.Elem, list[i], v[i]) {
				return false
			}
		}
		return true
	}
	w, err := value.DecodeJSONValue(t, jsonOf(wanted), 0)
	if err != nil {
		return false
	}
	if d, isDecimal := v.(schema.Decimal); isDecimal {
		return d.Compare(w.(schema.Decimal)) == 0
	}
	return value.Equal(w, v)
}

// find returns the reply of the first entry that fits, or nil.
func (s *Sheet) find(c *schema.Call, request *value.Message) (*reply, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range s.entries {
		switch {
		case e.call != c, e.Times > 0 && e.given >= e.Times, e.State != nil && *e.State != s.state:
			continue
		case len(e.When) > 0 && (request == nil || !matches(&schema.Type{Kind: schema.KindMessage, Message: request.Type},
			e.When, request)):
			continue
		}
		e.given++
		if e.Next != nil {
			s.state = *e.Next
		}
		return e.replyTo(request)
	}
	return nil, nil
}

// replyTo is the reply of an entry, with what is copied from the request.
func (e *entry) replyTo(request *value.Message) (*reply, error) {
	if len(e.Copy) == 0 || request == nil {
		return e.reply, nil
	}
	text, err := value.EncodeJSON(request)
	if err != nil {
		return nil, err
	}
	fields := map[string]json.RawMessage{}
	for name, v := range e.base {
		fields[name] = v
	}
	for name, pointer := range e.Copy {
		if v := at(text, pointer); v != nil {
			fields[name] = v
		}
	}
	whole, err := json.Marshal(fields)
	if err != nil {
		return nil, err
	}
	t := e.call.Response
	if e.failed != nil {
		t = e.failed
	}
	m, err := value.DecodeJSON(t, whole, 0)
	if err != nil {
		return nil, fmt.Errorf("answer %d copies what %s can't hold: %w", e.number, t.Name, withoutOffset(err))
	}
	own := *e
	reply := *e.reply
	own.reply = &reply
	own.set(m)
	return own.reply, nil
}

// at is what a JSON Pointer (RFC 6901) points at, or nil.
func at(text json.RawMessage, pointer string) json.RawMessage {
	for step := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
		step = strings.NewReplacer("~1", "/", "~0", "~").Replace(step)
		text = bytes.TrimSpace(text)
		if len(text) == 0 {
			return nil
		}
		if text[0] == '[' {
			var list []json.RawMessage
			i, err := strconv.Atoi(step)
			if err != nil || json.Unmarshal(text, &list) != nil || i < 0 || i >= len(list) {
				return nil
			}
			text = list[i]
			continue
		}
		var object map[string]json.RawMessage
		if json.Unmarshal(text, &object) != nil {
			return nil
		}
		text = object[step]
	}
	return text
}
