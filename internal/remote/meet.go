package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
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
	mock *Mock

	mu   sync.Mutex
	seen Met
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
	Err     error          // what the client says of the answer; nil when it took it
}

// NewCounterpart returns a server. The error is a *value.Impossible: of some call no
// answer can be made.
func NewCounterpart(defs *schema.Definitions) (*Counterpart, error) {
	s := &Counterpart{}
	mock, err := NewMock(defs, nil, MockOptions{Record: func(r *Recorded) { s.seen.Served = r.Call },
		Log: func(l *Logged) {
			if s.seen.Served == "" {
				s.seen.Served = l.Call
			}
		}})
	s.mock = mock
	if err == nil {
		mock.took = func(c *schema.Call, request *value.Message) { s.seen.Served, s.seen.Request = c.FullName(), request }
	}
	return s, err
}

// Meet sends a request of a call as its client makes it, in CBOR or in JSON, with the
// credentials of one alternative of what it needs, and returns what came of it. request
// is nil for "()", and for streams, which are sent without elements.
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
	s.seen = Met{}
	if c.RequestStream {
		r, err := opening(ctx, c, shown, binary)
		if err != nil {
			return nil, err
		}
		s.serve(r)
		return s.met(), nil
	}
	k := NewCaller(c, Options{Base: "http://counterpart.invalid", Binary: binary, Unchecked: true,
		Credentials: standIns(shown)})
	k.intake = func(r *http.Request, _ func(*http.Request) (*http.Response, error)) (*http.Response, error) {
		return s.serve(r), nil
	}
	var text []byte
	if request != nil {
		var err error
		if text, err = value.EncodeJSONWithout(request); err != nil {
			return nil, err
		}
	}
	var answer *Answer
	var err error
	if c.ResponseStream {
		for answer, err = range k.Elements(ctx, text) {
			break // the first one tells enough
		}
	} else {
		answer, err = k.Do(ctx, text)
	}
	if s.seen.Status == 0 {
		return nil, fmt.Errorf("nothing was sent: %w", err)
	}
	s.seen.Err = err
	if err == nil && answer != nil && answer.Refused != nil {
		s.seen.Err = answer.Refused
	}
	return s.met(), nil
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
	return &http.Response{StatusCode: w.status, Status: fmt.Sprintf("%d %s", w.status, http.StatusText(w.status)),
		Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
		Header: w.header, Body: io.NopCloser(&w.body), ContentLength: int64(w.body.Len()), Request: r}
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
func opening(ctx context.Context, c *schema.Call, shown []*schema.Credential, binary bool) (*http.Request, error) {
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
	r, err := http.NewRequestWithContext(ctx, method, "http://counterpart.invalid"+conversation.Path(c),
		strings.NewReader(body))
	if err != nil {
		return nil, err
	}
	r.Header = header
	for _, k := range shown {
		switch v := standIns(shown)[k.FullName()]; {
		case k.Kind == "bearer":
			r.Header.Set("Authorization", "Bearer "+v)
		case k.Kind == "basic":
			r.SetBasicAuth("stand", "in")
		case k.Carrier == "header":
			r.Header.Set(k.Key, v)
		case k.Carrier == "cookie":
			r.AddCookie(&http.Cookie{Name: k.Key, Value: v})
		default:
			r.URL.RawQuery = url.Values{k.Key: {v}}.Encode()
		}
	}
	return r, nil
}
