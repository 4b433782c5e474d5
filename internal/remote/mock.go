package remote

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/stubs/golang/support/wire"
	"faithfulcourier/internal/value"
)

// MockOptions is how a mock answers.
type MockOptions struct {
	Name, Version string // what it says of its definitions
	Base          string // the path below which it serves, as in /v1
	Origins       []string
	Seed          uint64
	Faults        float64          // the share of calls that fail or are slow, 0 to 1
	Log           func(*Logged)    // told of each request when it has been answered; may be nil
	Record        func(*Recorded)  // told of each call that was answered; may be nil
	OnError       func(error)      // told what the caller is not; nil for the log of the program
	Now           func() time.Time // nil for the clock
}

// Logged is one request as a mock saw it. Credentials are in none of it.
type Logged struct {
	At       time.Time
	Method   string
	Path     string // without the query
	Call     string // full name; "" where none was found
	Status   int
	Took     time.Duration
	Answer   string // where the answer comes from
	Problem  string // the name of a problem
	Detail   string
	Refused  []wire.Violation
	Elements int // of streams, both ways
}

// Mock is an http.Handler that serves all calls of definitions: with what an
// answer sheet says, else with declared examples, else with what is made.
type Mock struct {
	defs     *schema.Definitions
	sheet    *Sheet
	options  MockOptions
	mount    *web.Served
	routes   *conversation.Routes
	defaults map[*schema.Call]*reply
	took     func(c *schema.Call, request *value.Message) // told of each request that reaches a call; may be nil
	heads    func(head *message)                          // told of each head before it is read; may be nil
	fails    *declared                                    // what every call fails with; nil for none
	answers  *reply                                       // what every call is answered with; nil for none

	mu  sync.Mutex
	rng *rand.Rand
}

// streamed is how many elements of a stream are made.
const streamed = 3

// NewMock returns a mock. sheet may be nil. The error is a *value.Impossible: of
// some call no answer can be made.
func NewMock(defs *schema.Definitions, sheet *Sheet, options MockOptions) (*Mock, error) {
	if options.Now == nil {
		options.Now = time.Now
	}
	m := &Mock{defs: defs, sheet: sheet, options: options, defaults: map[*schema.Call]*reply{},
		routes: conversation.NewRoutes(defs.Calls()), rng: rand.New(rand.NewPCG(options.Seed, 1))}
	about := &web.Definitions{Name: options.Name, Version: options.Version, Digest: defs.Digest()}
	for _, module := range defs.Modules {
		about.Modules = append(about.Modules, web.Module{Name: module.Name, Text: module.Canonical()})
		for _, t := range module.Messages {
			if t.IsError() {
				about.Errors = append(about.Errors, web.ErrorPage{Name: t.FullName(), Status: t.Status, Doc: t.Doc})
			}
		}
	}
	var routes []web.Route
	for _, c := range defs.Calls() {
		reply, err := m.standard(c)
		if err != nil {
			return nil, err
		}
		m.defaults[c] = reply
		routes = append(routes, m.route(c))
	}
	serving := []web.ServerOption{web.WithBase(options.Base), web.WithOrigins(options.Origins...)}
	if options.OnError != nil {
		serving = append(serving, web.WithOnError(func(_ context.Context, _ string, err error) { options.OnError(err) }))
	}
	if sheet != nil && len(sheet.credentials) > 0 {
		serving = append(serving, web.WithAuthorizer(sheet.authorize))
	}
	m.mount = web.NewServed(about, routes, serving...)
	return m, nil
}

// Definitions are those that the mock serves.
func (m *Mock) Definitions() *schema.Definitions { return m.defs }

// Sampled returns what entries of an answer sheet change: the first example of a
// message, else one that is made.
func Sampled(defs *schema.Definitions, seed uint64) func(t *schema.Message) (*value.Message, error) {
	return func(t *schema.Message) (*value.Message, error) { return value.NewMaker(defs, seed).Element(t, 0) }
}

// standard is what a call is answered with when nobody says otherwise.
func (m *Mock) standard(c *schema.Call) (*reply, error) {
	r := &reply{note: "made"}
	if c.Response == nil {
		r.note = "nothing"
		return r, nil
	}
	examples := value.Examples(m.defs, c.Response)
	if len(examples) > 0 {
		r.note = "example"
	}
	maker := value.NewMaker(m.defs, m.options.Seed)
	count := 1
	if c.ResponseStream {
		count = max(streamed, len(examples))
	}
	for i := range count {
		v, err := maker.Element(c.Response, i)
		if err != nil {
			return nil, err
		}
		r.stream = append(r.stream, made(Sendable(c, v)))
	}
	r.answer = r.stream[0]
	if r.note == "made" && !c.ResponseStream && c.Request != nil {
		r.repeats = repeated(c.Request, c.Response)
	}
	return r, nil
}

// Sendable is an answer with texts in headers that HTTP has a meaning for that can travel
// there: entity-tags in ETag, say; and, where its status has no body, without what would be in
// one. What can be sent already stays as it is.
func Sendable(c *schema.Call, answer *value.Message) *value.Message {
	answer = &value.Message{Type: answer.Type, Fields: maps.Clone(answer.Fields), Unlisted: answer.Unlisted}
	if body, elsewhere := conversation.SplitAnswer(c); body != nil && elsewhere != nil && !conversation.AnswerHasBody(c) {
		for _, f := range body.Fields {
			delete(answer.Fields, f.Number)
			if f.Presence == schema.Defaulted {
				answer.Fields[f.Number] = value.Default(f.Default)
			}
		}
	}
	for _, p := range conversation.AnswerOutside(c) {
		f := p.Field
		text, isText := answer.Fields[f.Number].(string)
		if !isText || p.Sendable(text) {
			continue
		}
		within := []*schema.Bounds{{Pattern: p.Pattern()}, f.Bounds}
		if f.Type.Named != nil {
			within = append(within, f.Type.Named.Bounds)
		}
		within = slices.DeleteFunc(within, func(b *schema.Bounds) bool { return b == nil })
		if fits, ok := value.MatchingText(within, nil); ok {
			answer.Fields[f.Number] = fits
		}
	}
	return answer
}

// repeated pairs the fields of an answer with those of the request that have the
// same name and type: who asks for a booking by its id gets one with that id.
func repeated(request, answer *schema.Message) map[int]int {
	var pairs map[int]int
	for _, f := range answer.Fields {
		if f.In != nil {
			continue // what can be there depends on more than its type
		}
		if asked := request.ByName(f.Name); asked != nil && asked.Type.String() == f.Type.String() {
			if pairs == nil {
				pairs = map[int]int{}
			}
			pairs[f.Number] = asked.Number
		}
	}
	return pairs
}

// repeating is a made answer with what it repeats of a request.
func (r *reply) repeating(request *value.Message) *message {
	if r.repeats == nil || request == nil {
		return r.answer
	}
	v := &value.Message{Type: r.answer.typ, Fields: maps.Clone(r.answer.value.Fields)}
	for own, asked := range r.repeats {
		if field, there := request.Fields[asked]; there {
			v.Fields[own] = field
		}
	}
	if m := made(v); m.made == nil {
		return m
	}
	return r.answer // what the request holds has no binary encoding
}

// route is one call as it is served.
func (m *Mock) route(c *schema.Call) web.Route {
	call := callOf(c)
	r := web.Route{Call: call, Implemented: true, Answers: c.Response != nil && !c.ResponseStream}
	if c.Request != nil {
		r.NewRequest = func() web.Message { return &message{typ: c.Request} }
	}
	if c.Head != nil {
		r.NewHead = func() web.Message {
			head := &message{typ: c.Head}
			if m.heads != nil {
				m.heads(head)
			}
			return head
		}
	}
	switch {
	case conversation.BothWays(c):
		r.Upgrade = web.Converse
		r.Converse = func(ctx context.Context, head web.Message, elements web.Elements, send web.Send) error {
			return m.converse(ctx, c, head, elements, send)
		}
	case c.RequestStream:
		r.Receive = func(ctx context.Context, head web.Message, elements web.Elements) (web.Message, error) {
			return m.receive(ctx, c, head, elements)
		}
	case c.ResponseStream:
		r.Send = func(ctx context.Context, request web.Message, send web.Send) error {
			return m.send(ctx, c, request, send)
		}
	default:
		r.Serve = func(ctx context.Context, request web.Message) (web.Message, error) {
			v := valueOf(request)
			if raw := conversation.Raw(c); raw != nil {
				content, err := io.ReadAll(request.(*message).raw)
				if err != nil {
					return nil, err
				}
				v.Fields[raw.Number] = content
			}
			answer, err := m.unary(ctx, c, v)
			m.record(c, v, nil, answer, nil, err)
			return answer, err
		}
	}
	return r
}

// valueOf is the value of a request; nil for "()".
func valueOf(request web.Message) *value.Message {
	if request == nil {
		return nil
	}
	return request.(*message).value
}

// choose returns what a request is answered with, after the delay that it asks
// for.
func (m *Mock) choose(ctx context.Context, c *schema.Call, request *value.Message) (*reply, error) {
	r := m.defaults[c]
	if m.sheet != nil {
		chosen, err := m.sheet.find(c, request)
		if err != nil {
			return nil, err
		}
		if chosen != nil {
			r = chosen
		}
	}
	if m.answers != nil {
		r = m.answers
	}
	if m.fails != nil {
		r = &reply{note: "failure", failed: m.fails, streams: true}
	}
	if r == m.defaults[c] {
		if fault := m.fault(c); fault != nil {
			r = fault
		}
	}
	if m.took != nil {
		m.took(c, request)
	}
	note(ctx, func(l *Logged) { l.Call, l.Answer = c.FullName(), r.note })
	if err := wait(ctx, r.delay); err != nil {
		return nil, err
	}
	if r.cut {
		panic(http.ErrAbortHandler)
	}
	return r, r.problem
}

// fault is a random fault, or nil: an error that the call declares, or slowness.
func (m *Mock) fault(c *schema.Call) *reply {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.options.Faults <= 0 || m.rng.Float64() >= m.options.Faults {
		return nil
	}
	if i := m.rng.IntN(len(c.Fails) + 1); i < len(c.Fails) {
		if v, err := value.NewMaker(m.defs, m.rng.Uint64()).Element(c.Fails[i], 0); err == nil {
			return &reply{note: "fault", failed: &declared{*made(v)}}
		}
	}
	slow := *m.defaults[c]
	slow.note, slow.delay = "slow", time.Duration(50+m.rng.IntN(950))*time.Millisecond
	return &slow
}

func wait(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return nil
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// unary answers a call without streams.
func (m *Mock) unary(ctx context.Context, c *schema.Call, request *value.Message) (web.Message, error) {
	r, err := m.choose(ctx, c, request)
	switch {
	case err != nil:
		return nil, err
	case r.failed != nil:
		return nil, r.failed
	case c.Response == nil:
		return nil, nil
	}
	return r.repeating(request), nil
}

// send answers a call with a stream.
func (m *Mock) send(ctx context.Context, c *schema.Call, request web.Message, send web.Send) (err error) {
	v := valueOf(request)
	var sent []*message
	defer func() { m.record(c, v, nil, nil, sent, err) }()
	r, err := m.choose(ctx, c, v)
	if err != nil {
		return err
	}
	elements := r.stream
	if r.failed == nil && !r.streams && elements == nil {
		elements = m.defaults[c].stream
	}
	for i, element := range elements {
		if i > 0 {
			if err := wait(ctx, r.delay); err != nil {
				return err
			}
		}
		if err := send(element); err != nil {
			return err
		}
		if m.options.Record != nil {
			sent = append(sent, element)
		}
		note(ctx, func(l *Logged) { l.Elements++ })
	}
	if r.failed != nil {
		return r.failed
	}
	return nil
}

// receive answers a stream: by its first element.
func (m *Mock) receive(ctx context.Context, c *schema.Call, head web.Message, elements web.Elements) (
	answer web.Message, err error) {
	var first *value.Message
	var all []*value.Message
	defer func() { m.record(c, valueOf(head), all, answer, nil, err) }()
	for element, err := range elements {
		if err != nil {
			return nil, err
		}
		note(ctx, func(l *Logged) { l.Elements++ })
		if first == nil {
			first = valueOf(element)
		}
		if m.options.Record != nil {
			all = append(all, valueOf(element))
		}
	}
	return m.unary(ctx, c, first)
}

// converse answers each element with one.
func (m *Mock) converse(ctx context.Context, c *schema.Call, head web.Message, elements web.Elements, send web.Send) (
	err error) {
	var all []*value.Message
	var sent []*message
	defer func() { m.record(c, valueOf(head), all, nil, sent, err) }()
	i := 0
	for element, err := range elements {
		if err != nil {
			return err
		}
		r, err := m.choose(ctx, c, valueOf(element))
		switch {
		case err != nil:
			return err
		case r.failed != nil:
			return r.failed
		}
		answers := r.stream
		if !r.streams {
			answers = []*message{r.answer}
			if r.stream != nil { // examples and made ones, each in its turn
				answers = []*message{r.stream[i%len(r.stream)]}
			}
		}
		i++
		if m.options.Record != nil {
			all, sent = append(all, valueOf(element)), append(sent, answers...)
		}
		for _, answer := range answers {
			if err := send(answer); err != nil {
				return err
			}
		}
		note(ctx, func(l *Logged) { l.Elements += 1 + len(answers) })
	}
	return nil
}

// logKey is where the log line of a request is, in its context.
type logKey struct{}

// logged is a log line that is being written.
type logged struct {
	mu   sync.Mutex
	line Logged
}

// note adds to the log line of a request.
func note(ctx context.Context, add func(*Logged)) {
	if l, ok := ctx.Value(logKey{}).(*logged); ok {
		l.mu.Lock()
		defer l.mu.Unlock()
		add(&l.line)
	}
}

// ServeHTTP answers one request, and logs it.
func (m *Mock) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if m.options.Log == nil {
		m.mount.ServeHTTP(w, r)
		return
	}
	l := &logged{line: Logged{At: m.options.Now(), Method: r.Method, Path: r.URL.EscapedPath()}}
	seen := &seenWriter{ResponseWriter: w, status: http.StatusOK}
	begin := time.Now()
	defer func() {
		broken := recover()
		l.mu.Lock()
		line := l.line
		l.mu.Unlock()
		line.Status, line.Took = seen.status, time.Since(begin)
		if line.Call == "" { // it was refused before anybody answered it
			line.Call = m.callAt(r.Method, line.Path)
		}
		if broken != nil {
			line.Status = 0 // there was none
		}
		if seen.problem != nil {
			var p web.Problem
			if json.Unmarshal(seen.problem, &p) == nil {
				line.Problem, line.Detail, line.Refused = p.Name(), p.Detail, p.Violations
			}
		}
		m.options.Log(&line)
		if broken != nil {
			panic(broken)
		}
	}()
	m.mount.ServeHTTP(seen, r.WithContext(context.WithValue(r.Context(), logKey{}, l)))
}

// callAt is the call with a method and path, or "".
func (m *Mock) callAt(method, path string) string {
	path, ok := strings.CutPrefix(path, strings.TrimRight(m.options.Base, "/"))
	if !ok {
		return ""
	}
	if c := m.routes.Find(method, path); c != nil {
		return c.FullName()
	}
	return ""
}

// seenWriter sees the status of an answer, and problem details.
type seenWriter struct {
	http.ResponseWriter
	status  int
	problem []byte
}

// Unwrap is for http.ResponseController.
func (w *seenWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

func (w *seenWriter) WriteHeader(status int) {
	w.status = status
	w.ResponseWriter.WriteHeader(status)
}

func (w *seenWriter) Write(b []byte) (int, error) {
	if w.status >= 400 && len(w.problem) < 64<<10 {
		w.problem = append(w.problem, b...)
	}
	return w.ResponseWriter.Write(b)
}

// record tells what a call was asked and answered.
func (m *Mock) record(c *schema.Call, request *value.Message, requests []*value.Message, answer web.Message,
	answers []*message, err error) {
	if m.options.Record == nil || errors.Is(err, context.Canceled) || errors.Is(err, io.ErrUnexpectedEOF) {
		return
	}
	r := &Recorded{Call: c.FullName(), Status: conversation.Status(c)}
	if request != nil { // what was read can be written
		text, _ := value.EncodeJSON(request)
		if c.RequestStream {
			r.Head = text
		} else {
			r.Request = text
		}
	}
	for _, one := range requests {
		text, _ := value.EncodeJSON(one)
		r.Requests = append(r.Requests, text)
	}
	for _, one := range answers {
		r.Answers = append(r.Answers, json.RawMessage(one.json))
	}
	if a, ok := answer.(*message); ok && err == nil {
		r.Answer = a.json
	}
	var failed *declared
	switch {
	case errors.As(err, &failed):
		r.Error, r.Fields = failed.ErrorName(), failed.json
		if len(answers) == 0 {
			r.Status = failed.typ.Status
		}
	case err != nil:
		return // of a stream that was lost there is nothing to be asked again
	}
	m.options.Record(r)
}
