package served

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"time"

	"faithfulcourier/internal/manual"
	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/value"
)

// Limits of what pages send, and of what comes back, in bytes.
const (
	mostSent  = 16 << 20 // of a request in JSON
	mostTaken = 64 << 20 // of an answer
)

// asked is the first line of what a page sends; a raw body follows it. A request that is a stream comes
// afterwards, element by element.
type asked struct {
	Call        string            `json:"call"` // full name
	Head        string            `json:"head"`
	Request     string            `json:"request"`
	MediaType   string            `json:"mediaType"`
	Raw         bool              `json:"raw"`
	Credentials map[string]string `json:"credentials"`
	Unchecked   bool              `json:"unchecked"`
}

// wrong is a place where the definitions refuse something.
type wrong struct {
	Pointer string `json:"pointer"`
	Detail  string `json:"detail"`
	In      string `json:"in,omitempty"`
}

// outcome is one line of what a page is answered with, as page/sending.ts reads it.
type outcome struct {
	Kind         string      `json:"kind"`
	ID           string      `json:"id,omitempty"`
	Status       int         `json:"status,omitempty"`
	Headers      [][2]string `json:"headers,omitempty"`
	Text         string      `json:"text,omitempty"`
	Wrong        []wrong     `json:"wrong,omitempty"`
	Type         string      `json:"type,omitempty"`
	Base64       string      `json:"base64,omitempty"`
	Name         string      `json:"name,omitempty"`
	Problem      string      `json:"problem,omitempty"`
	Title        string      `json:"title,omitempty"`
	Detail       string      `json:"detail,omitempty"`
	Violations   []wrong     `json:"violations,omitempty"`
	Words        string      `json:"words,omitempty"`
	Milliseconds float64     `json:"milliseconds,omitempty"`
	Bytes        int64       `json:"bytes,omitempty"`
}

// opened is a request that is a stream, while it lasts.
type opened struct {
	elements chan []byte
	end      func() // says that no more elements follow
	gone     <-chan struct{}
}

// send makes the call that a page asks for, and answers with what comes of it, a line of JSON each.
func (s *Site) send(w http.ResponseWriter, r *http.Request, state State) {
	if r.Method != http.MethodPost || !s.ours(r) {
		http.Error(w, "only pages of this manual may send", http.StatusForbidden)
		return
	}
	guard(w.Header())
	query := r.URL.Query()
	if query.Has("element") || query.Has("end") {
		s.more(w, r, query.Get("element")+query.Get("end"), query.Has("end"))
		return
	}
	_ = http.NewResponseController(w).EnableFullDuplex() // lines may go before all of a raw body has come
	body := bufio.NewReader(r.Body)
	var line []byte
	err := bufio.ErrBufferFull
	for errors.Is(err, bufio.ErrBufferFull) && len(line) < mostSent {
		var more []byte
		more, err = body.ReadSlice('\n')
		line = append(line, more...)
	}
	var a asked
	if err != nil || json.Unmarshal(line, &a) != nil {
		http.Error(w, "what was sent can't be read, or is too large", http.StatusBadRequest)
		return
	}
	i := slices.IndexFunc(state.Definitions.Calls(), func(c *schema.Call) bool { return c.FullName() == a.Call })
	if i < 0 {
		http.Error(w, fmt.Sprintf("there is no call %q any more: load the page again", a.Call), http.StatusNotFound)
		return
	}
	call := state.Definitions.Calls()[i]
	if query.Has("code") {
		s.code(w, state, call, a)
		return
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	options := remote.Options{Base: s.to, Unchecked: a.Unchecked, Credentials: a.Credentials, Limit: mostTaken,
		Head: []byte(a.Head), Transport: s.transport}
	if a.Raw {
		options.Raw = &web.Body{Reader: body, MediaType: a.MediaType}
		if r.ContentLength > 0 {
			options.Raw.Length = r.ContentLength - int64(len(line))
		}
	}
	t := &trial{site: s, call: call, caller: remote.NewCaller(call, options), out: w, began: time.Now()}
	t.run(r.Context(), []byte(a.Request))
}

// code answers with a call as a program of each language.
func (s *Site) code(w http.ResponseWriter, state State, call *schema.Call, a asked) {
	list := []manual.Copy{}
	if state.Code != nil {
		list = append(list, state.Code(call, []byte(a.Head), []byte(a.Request))...)
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(list) // who has left needs no answer
}

// more takes an element of a request that is a stream, or its end.
func (s *Site) more(w http.ResponseWriter, r *http.Request, id string, end bool) {
	s.mu.Lock()
	stream := s.open[id]
	s.mu.Unlock()
	if stream == nil {
		http.Error(w, "the call has ended", http.StatusGone)
		return
	}
	if end {
		stream.end()
		w.WriteHeader(http.StatusNoContent)
		return
	}
	element, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostSent))
	if err != nil {
		http.Error(w, err.Error(), http.StatusRequestEntityTooLarge)
		return
	}
	select {
	case stream.elements <- element:
		w.WriteHeader(http.StatusNoContent)
	case <-stream.gone:
		http.Error(w, "the call has ended", http.StatusGone)
	case <-r.Context().Done():
	}
}

// trial is one call that a page makes.
type trial struct {
	site   *Site
	call   *schema.Call
	caller *remote.Caller
	began  time.Time

	mu   sync.Mutex
	out  http.ResponseWriter
	told bool // whether the head of the answer was
}

func (t *trial) tell(o outcome) {
	t.mu.Lock()
	defer t.mu.Unlock()
	text, err := json.Marshal(o)
	if err == nil {
		_, err = t.out.Write(append(text, '\n'))
	}
	if err == nil {
		_ = http.NewResponseController(t.out).Flush() // who has left needs no answer
	}
}

// run makes the call. It ends when the page gives it up.
func (t *trial) run(ctx context.Context, request []byte) {
	var err error
	switch c := t.call; {
	case c.RequestStream:
		err = t.stream(ctx)
	case c.ResponseStream:
		for element, failed := range t.caller.Elements(ctx, request) {
			t.head()
			if failed != nil {
				err = failed
				break
			}
			t.answer(element)
		}
	default:
		var answer *remote.Answer
		if answer, err = t.caller.Do(ctx, request); err == nil {
			t.answer(answer)
		}
	}
	if err != nil {
		t.failed(err)
	}
	t.tell(outcome{Kind: "end", Milliseconds: float64(time.Since(t.began).Microseconds()) / 1000,
		Bytes: t.caller.Seen().Size})
}

// stream makes a call whose request is a stream: its elements come with other requests of the page.
func (t *trial) stream(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	sending, err := t.caller.Open(ctx)
	if err != nil {
		return err
	}
	defer sending.Close()
	ended := make(chan struct{})
	stream := &opened{elements: make(chan []byte), end: sync.OnceFunc(func() { close(ended) }), gone: ctx.Done()}
	id := rand.Text()
	s := t.site
	s.mu.Lock()
	s.open[id] = stream
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.open, id)
		s.mu.Unlock()
	}()
	t.tell(outcome{Kind: "open", ID: id})
	received := make(chan error, 1)
	if t.call.ResponseStream {
		go func() {
			for element, err := range sending.Received() {
				if err != nil {
					received <- err
					return
				}
				t.head()
				t.answer(element)
			}
			received <- nil
		}()
	}
	for {
		select {
		case element := <-stream.elements:
			var refusal *remote.Refusal
			if err := sending.Send(element); errors.As(err, &refusal) {
				t.failed(err) // and the stream goes on
			} else if err != nil {
				return err
			}
		case err := <-received:
			return err
		case <-ctx.Done():
			return ctx.Err()
		case <-ended:
			answer, err := sending.Finish()
			if err != nil {
				return err
			}
			if t.call.ResponseStream {
				return <-received
			}
			t.answer(answer)
			return nil
		}
	}
}

// head tells status and headers, once.
func (t *trial) head() {
	seen := t.caller.Seen()
	if t.told || seen.Status == 0 {
		return
	}
	t.told = true
	o := outcome{Kind: "head", Status: seen.Status, Headers: [][2]string{}}
	for name, values := range seen.Header {
		for _, v := range values {
			o.Headers = append(o.Headers, [2]string{name, v})
		}
	}
	slices.SortFunc(o.Headers, func(a, b [2]string) int { return bytes.Compare([]byte(a[0]), []byte(b[0])) })
	t.tell(o)
}

// answer tells an answer, or an element of one, and what the definitions have against it.
func (t *trial) answer(a *remote.Answer) {
	t.head()
	if a == nil || t.call.Response == nil {
		return
	}
	o := outcome{Kind: "value"}
	var refused *value.Error
	switch {
	case errors.As(a.Refused, &refused):
		o.Wrong = append(o.Wrong, wrong{Pointer: refused.Path, Detail: detail(refused)})
		if !t.call.ResponseStream && json.Valid(t.caller.Seen().Body) {
			o.Text = string(t.caller.Seen().Body)
		}
	case a.Refused != nil:
		o.Wrong = append(o.Wrong, wrong{Detail: a.Refused.Error()})
	default:
		text, err := value.EncodeJSON(a.Message)
		if err != nil {
			o.Wrong = append(o.Wrong, wrong{Detail: err.Error()})
		}
		for _, v := range value.Validate(a.Message) {
			o.Wrong = append(o.Wrong, wrong(v))
		}
		o.Text = string(text)
	}
	if a.Raw == nil || o.Text != "{}" {
		t.tell(o)
	}
	if a.Raw == nil {
		return
	}
	defer a.Raw.Close()
	t.tell(outcome{Kind: "type", Type: a.Raw.MediaType})
	chunk := make([]byte, 48<<10)
	for total := 0; ; {
		n, err := a.Raw.Read(chunk)
		if total += n; total > mostTaken {
			t.tell(outcome{Kind: "failed", Words: "The body has over 64 MiB: faithful call takes it whole."})
			return
		}
		if n > 0 {
			t.tell(outcome{Kind: "chunk", Base64: base64.RawURLEncoding.EncodeToString(chunk[:n])})
		}
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			t.tell(outcome{Kind: "failed", Words: "The body is not whole: " + err.Error()})
			return
		}
	}
}

// detail is what is wrong with a payload, without its place.
func detail(e *value.Error) string {
	if e.Expected == "" {
		return e.Found
	}
	return "expected " + e.Expected + ", found " + e.Found
}

// failed tells why a call failed.
func (t *trial) failed(err error) {
	var refusal *remote.Refusal
	var declared *remote.Declared
	var problem *web.Problem
	var bad *web.BadAnswer
	var unchanged *web.NotModified
	t.head()
	switch {
	case errors.As(err, &refusal):
		o := outcome{Kind: "refused"}
		if refusal.Unreadable != nil {
			o.Violations = []wrong{{Pointer: refusal.Unreadable.Path, Detail: detail(refusal.Unreadable)}}
		}
		for _, v := range refusal.Violations {
			o.Violations = append(o.Violations, wrong(v))
		}
		t.tell(o)
	case errors.As(err, &declared):
		t.tell(outcome{Kind: "declared", Name: declared.Problem.Name(), Status: declared.Problem.Status,
			Text: string(declared.Problem.Fields)})
	case errors.As(err, &problem):
		o := outcome{Kind: "problem", Problem: problem.Name(), Status: problem.Status, Title: problem.Title,
			Detail: problem.Detail, Violations: []wrong{}}
		for _, v := range problem.Violations {
			o.Violations = append(o.Violations, wrong{v.Pointer, v.Detail, v.In})
		}
		t.tell(o)
	case errors.As(err, &bad):
		t.tell(outcome{Kind: "failed", Words: "A server of these definitions never gives this answer: " + bad.Err.Error()})
	case errors.As(err, &unchanged):
		t.tell(outcome{Kind: "failed", Words: "It is still the one with the tag " + unchanged.ETag + "."})
	default:
		t.tell(outcome{Kind: "failed", Words: err.Error()})
	}
}
