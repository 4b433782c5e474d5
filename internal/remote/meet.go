package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/value"
)

// Counterpart is a server of some definitions in memory, for clients of others: what a
// request of theirs meets with is seen, not guessed. It answers as a Mock does.
type Counterpart struct {
	MediaType string // of raw bodies that are sent; "" is any that is allowed

	mock *Mock

	mu   sync.Mutex
	seen Met
	head *message // of the last stream, which is filled in when it is read; or nil
	body []byte   // of the last answer
}

// Met is what happened when a client called a server of other definitions.
type Met struct {
	Method  string
	Target  string // path and query, as they were sent
	Header  http.Header
	Body    []byte
	Status  int            // of the answer
	Problem *web.Problem   // that it says, or nil
	Served  string         // full name of the call that served it, or ""
	Request *value.Message // as the server read it, or nil
	Answer  *value.Message // as the client read it, or nil
	Err     error          // what the client says of the answer; nil when it took it
}

// NewCounterpart returns a server. The error is a *value.Impossible: of some call no
// answer can be made.
func NewCounterpart(defs *schema.Definitions) (*Counterpart, error) {
	s := &Counterpart{}
	mock, err := NewMock(defs, nil, MockOptions{OnError: func(error) {},
		Record: func(r *Recorded) { s.seen.Served = r.Call },
		Log: func(l *Logged) {
			if s.seen.Served == "" {
				s.seen.Served = l.Call
			}
		}})
	s.mock = mock
	if err == nil {
		mock.took = func(c *schema.Call, request *value.Message) { s.seen.Served, s.seen.Request = c.FullName(), request }
		mock.heads = func(head *message) { s.head = head }
	}
	return s, err
}

// Meet sends a request of a call as its client makes it, in CBOR or in JSON, with the
// credentials of one alternative of what it needs, and returns what came of it. request
// is nil for "()"; of a stream, which is sent without elements, it is the head.
func (s *Counterpart) Meet(
	ctx context.Context, c *schema.Call, request *value.Message, shown []*schema.Credential, binary bool,
) (*Met, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.meet(ctx, c, request, shown, binary)
}

// MeetFailing is Meet with a server whose calls all fail with one error of its own.
func (s *Counterpart) MeetFailing(
	ctx context.Context, c *schema.Call, request *value.Message, shown []*schema.Credential, failure *schema.Message,
) (*Met, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	failed := &declared{*made(value.MinimalMessage(failure))}
	s.mock.fails = failed
	defer func() { s.mock.fails = nil }()
	if !conversation.BothWays(c) {
		return s.meet(ctx, c, request, shown, false)
	}
	// No WebSocket is opened in memory: this is the problem that it would carry.
	problem := &web.Problem{Type: "/-/errors/" + failed.ErrorName(), Status: failed.ErrorStatus(), Fields: failed.json}
	return &Met{Method: http.MethodGet, Target: conversation.Path(c), Status: http.StatusSwitchingProtocols,
		Problem: problem}, nil
}

func (s *Counterpart) meet(
	ctx context.Context, c *schema.Call, request *value.Message, shown []*schema.Credential, binary bool,
) (*Met, error) {
	s.seen, s.head = Met{}, nil
	if c.RequestStream {
		r, err := opening(ctx, c, request, shown, binary)
		if err != nil {
			return nil, err
		}
		s.serve(r)
		s.seen.Request = nil
		if s.head != nil {
			s.seen.Request = s.head.value
		}
		return s.met(), nil
	}
	k := s.caller(c, s.serve, binary)
	k.options.Credentials = standIns(shown)
	k.dial()
	text, err := textOf(request)
	if err != nil {
		return nil, err
	}
	var answer *Answer
	if c.ResponseStream {
		for answer, err = range k.Elements(ctx, text) {
			break // the first one tells enough
		}
	} else {
		answer, err = k.Do(ctx, text)
		err = errors.Join(err, answer.whole(c))
	}
	if s.seen.Status == 0 {
		return nil, fmt.Errorf("nothing was sent: %w", err)
	}
	s.understood(answer, err)
	return s.met(), nil
}

// understood keeps what the client made of the answer.
func (s *Counterpart) understood(answer *Answer, err error) {
	s.seen.Err = err
	if err == nil && answer != nil {
		s.seen.Answer, s.seen.Err = answer.Message, answer.Refused
	}
}

// MeetAnswer has the server give an answer of a call, to a request of its own, and hands
// what it says to the client of a call of other definitions. Neither call streams. Header is
// that of the answer.
func (s *Counterpart) MeetAnswer(
	ctx context.Context, client, server *schema.Call, asked, request, answer *value.Message, binary bool,
) (*Met, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.seen = Met{}
	s.mock.answers = &reply{note: "given"}
	if answer != nil {
		s.mock.answers.answer = made(answer)
	}
	defer func() { s.mock.answers = nil }()
	var given *http.Response
	own := s.caller(server, func(r *http.Request) *http.Response {
		given = s.serve(r)
		return given
	}, binary)
	text, err := textOf(request)
	if err != nil {
		return nil, err
	}
	if own, err := own.once(ctx, text); given == nil || given.StatusCode >= 400 {
		return nil, fmt.Errorf("the answer can't be given: %w", errors.Join(err, own.whole(server)))
	}
	status, header, body := given.StatusCode, given.Header, s.body
	sent := false
	other := s.caller(client, func(r *http.Request) *http.Response {
		sent = true
		return answerTo(r, status, header, body)
	}, binary)
	if text, err = textOf(asked); err != nil {
		return nil, err
	}
	got, err := other.once(ctx, text)
	err = errors.Join(err, got.whole(client))
	if !sent {
		return nil, fmt.Errorf("nothing was sent: %w", err)
	}
	s.seen.Header = header
	s.understood(got, err)
	return s.met(), nil
}

// once makes a call whose answer is no stream; a request that is one has no elements.
func (k *Caller) once(ctx context.Context, request []byte) (*Answer, error) {
	if !k.call.RequestStream {
		return k.Do(ctx, request)
	}
	k.options.Head = request
	sending, err := k.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer sending.Close()
	return sending.Finish()
}

// caller is a client of a call whose requests go to a function.
func (s *Counterpart) caller(c *schema.Call, answer func(*http.Request) *http.Response, binary bool) *Caller {
	k := NewCaller(c, Options{Base: "http://counterpart.invalid", Binary: binary, Unchecked: true, RawType: s.MediaType,
		Credentials: standIns(slices.Concat(c.Needs...))})
	k.intake = func(r *http.Request, _ func(*http.Request) (*http.Response, error)) (*http.Response, error) {
		return answer(r), nil
	}
	return k
}

// textOf is a request as a caller takes it; nil for "()".
func textOf(request *value.Message) ([]byte, error) {
	if request == nil {
		return nil, nil
	}
	return value.EncodeJSONWithout(request)
}

func (s *Counterpart) met() *Met {
	met := s.seen
	return &met
}

// standIns are values for credentials.
func standIns(shown []*schema.Credential) map[string]string {
	values := map[string]string{}
	for _, k := range shown {
		values[k.FullName()] = "stand-in"
		if k.Kind == "basic" {
			values[k.FullName()] = "stand:in"
		}
	}
	return values
}

// serve has the server answer a request.
func (s *Counterpart) serve(r *http.Request) *http.Response {
	s.seen.Method, s.seen.Target, s.seen.Header = r.Method, r.URL.RequestURI(), r.Header.Clone()
	if r.Body != nil {
		s.seen.Body, _ = io.ReadAll(r.Body) // it is in memory
	}
	in := r.Clone(r.Context())
	in.Body, in.RequestURI, in.Host = io.NopCloser(bytes.NewReader(s.seen.Body)), s.seen.Target, r.URL.Host
	in.ContentLength = int64(len(s.seen.Body))
	w := &memory{header: http.Header{}}
	func() {
		defer func() { _ = recover() }() // a broken connection: what was written so far counts
		s.mock.ServeHTTP(w, in)
	}()
	if w.status == 0 {
		w.status = http.StatusOK
	}
	s.seen.Status = w.status
	if strings.HasPrefix(w.header.Get("Content-Type"), "application/problem+json") {
		var p web.Problem
		if json.Unmarshal(w.body.Bytes(), &p) == nil {
			s.seen.Problem = &p
		}
	}
	s.body = w.body.Bytes()
	return answerTo(r, w.status, w.header, s.body)
}

// answerTo is an answer as a client gets it.
func answerTo(r *http.Request, status int, header http.Header, body []byte) *http.Response {
	return &http.Response{StatusCode: status, Status: fmt.Sprintf("%d %s", status, http.StatusText(status)),
		Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
		Header: header, Body: io.NopCloser(bytes.NewReader(body)), ContentLength: int64(len(body)), Request: r}
}

// memory is an answer that is written into memory.
type memory struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (m *memory) Header() http.Header { return m.header }
func (m *memory) WriteHeader(status int) {
	if m.status == 0 {
		m.status = status
	}
}
func (m *memory) Write(p []byte) (int, error) {
	m.WriteHeader(http.StatusOK)
	return m.body.Write(p)
}
func (m *memory) Flush() {}

// opening is the request with which a call begins whose request is a stream.
func opening(ctx context.Context, c *schema.Call, head *value.Message, shown []*schema.Credential, binary bool) (
	*http.Request, error) {
	method, body, header := conversation.Method(c), "", http.Header{}
	switch {
	case c.ResponseStream:
		method = http.MethodGet
		for name, v := range map[string]string{"Connection": "Upgrade", "Upgrade": "websocket",
			"Sec-Websocket-Version": "13", "Sec-Websocket-Key": "c3RhbmQtaW4gZm9yIGEga2V5IQ==",
			"Sec-Websocket-Protocol": "faithful-cbor"} {
			header.Set(name, v)
		}
	case binary:
		body = "\xa1\x02\xa0"
		header.Set("Content-Type", "application/cbor-seq")
		header.Set("Accept", "application/cbor, application/problem+json")
	default:
		body = "\x1e{\"end\":{}}\n"
		header.Set("Content-Type", "application/json-seq")
		header.Set("Accept", "application/json, application/problem+json")
	}
	r, err := taken(ctx, c, head, shown, binary)
	if err != nil {
		return nil, err
	}
	r.Method, r.Body, r.ContentLength = method, io.NopCloser(strings.NewReader(body)), int64(len(body))
	maps.Copy(r.Header, header)
	return r, nil
}

// taken is the request of a call whose request is a stream, as its client makes it: where the
// head and credentials are.
func taken(ctx context.Context, c *schema.Call, head *value.Message, shown []*schema.Credential, binary bool) (
	request *http.Request, err error) {
	one := *c
	one.ResponseStream = false // which opens no WebSocket, and places the same
	k := NewCaller(&one, Options{Base: "http://counterpart.invalid", Binary: binary, Unchecked: true,
		Credentials: standIns(shown)})
	if k.options.Head, err = textOf(head); err != nil {
		return nil, err
	}
	placed, err := k.head()
	if err != nil {
		return nil, err
	}
	errTaken := errors.New("taken")
	k.intake = func(r *http.Request, _ func(*http.Request) (*http.Response, error)) (*http.Response, error) {
		request = r
		return nil, errTaken
	}
	sender := web.NewSender[raw](ctx, k.client, k.web, placed)
	err = sender.Finish()
	sender.Abort()
	if request == nil {
		return nil, err
	}
	return request.Clone(ctx), nil
}
