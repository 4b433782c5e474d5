package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// Route is one call with what serves it.
type Route struct {
	Call        *Call
	Implemented bool
	NewRequest  func() wire.Message // nil for "()"
	Answers     bool                // whether the answer is a message, not "()"
	Serve       func(ctx context.Context, request wire.Message) (wire.Message, error)
}

// Mount is an http.Handler that serves calls, and speaks for all of them
// below "/-/".
type Mount struct {
	definitions *Definitions
	base        string
	routes      map[string]*Route // by path
	limit       int64
	timeout     time.Duration
	onError     func(call string, err error)
	healthy     func(ctx context.Context) error
	quiet       bool
}

// ServerOption changes how a mount serves.
type ServerOption func(*Mount)

// WithBase serves below a path such as "/v1".
func WithBase(path string) ServerOption {
	return func(m *Mount) { m.base = strings.TrimRight(path, "/") }
}

// WithBodyLimit changes how large a request may be; the default is 4 MiB.
func WithBodyLimit(octets int64) ServerOption { return func(m *Mount) { m.limit = octets } }

// WithHandlerTimeout changes how long a call may take; the default is 60 s.
func WithHandlerTimeout(d time.Duration) ServerOption { return func(m *Mount) { m.timeout = d } }

// WithOnError is told each error that the caller is not: a handler's error
// that the call does not declare, a panic, an answer that can't be written.
func WithOnError(hook func(call string, err error)) ServerOption {
	return func(m *Mount) { m.onError = hook }
}

// WithHealth makes "/-/health" answer 503 while check returns an error.
func WithHealth(check func(ctx context.Context) error) ServerOption {
	return func(m *Mount) { m.healthy = check }
}

// WithoutDefinitions keeps "/-/about" and "/-/definitions" to the server.
func WithoutDefinitions() ServerOption { return func(m *Mount) { m.quiet = true } }

// NewMount returns a mount of routes.
func NewMount(definitions *Definitions, routes []Route, options ...ServerOption) *Mount {
	m := &Mount{definitions: definitions, routes: map[string]*Route{}, limit: 4 << 20, timeout: time.Minute,
		onError: func(string, error) {}, healthy: func(context.Context) error { return nil }}
	for i := range routes {
		m.routes[routes[i].Call.Path] = &routes[i]
	}
	for _, option := range options {
		option(m)
	}
	return m
}

// Serve joins mounts of several services into one; the options are those of
// the first.
func Serve(first *Mount, others ...*Mount) *Mount {
	joined := *first
	joined.routes = maps.Clone(first.routes)
	for _, m := range others {
		maps.Copy(joined.routes, m.routes)
	}
	return &joined
}

// ServeHTTP answers one request.
func (m *Mount) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Faithful-Definitions", m.definitions.Digest)
	path, ok := strings.CutPrefix(r.URL.Path, m.base)
	if !ok {
		m.problem(w, r, "unknown-call", "nothing is served at "+r.URL.Path)
		return
	}
	if rest, own := strings.CutPrefix(path, "/-/"); own {
		m.ownPages(w, r, rest)
		return
	}
	route := m.routes[path]
	if route == nil {
		m.problem(w, r, "unknown-call", "no call has the path "+path)
		return
	}
	if r.Method != route.Call.Method {
		w.Header().Set("Allow", route.Call.Method)
		m.problem(w, r, "wrong-method", fmt.Sprintf("%s is called with %s, not %s", route.Call.Name, route.Call.Method, r.Method))
		return
	}
	m.call(w, r, route)
}

// call answers one call, refusing in the order: form of the answer, form of
// the request, size, what can't be read, what is not allowed.
func (m *Mount) call(w http.ResponseWriter, r *http.Request, route *Route) {
	w.Header().Set("Vary", "Accept")
	requestForm := mediaType(r.Header.Get("Content-Type"))
	form := preferred(r.Header.Values("Accept"), requestForm)
	if form == "" {
		m.problem(w, r, "not-acceptable", "answers are application/cbor or application/json")
		return
	}
	request, ok := m.readRequest(w, r, route, requestForm)
	if !ok {
		return
	}
	ctx, cancel := context.WithTimeout(r.Context(), m.patience(r))
	defer cancel()
	answer, err := m.serve(ctx, route, request)
	if err == nil && answer == nil && route.Answers {
		err = errors.New("the handler returned neither an answer nor an error")
	}
	if err != nil {
		m.fail(ctx, w, r, route.Call, err)
		return
	}
	if !route.Answers {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	body, err := encode(form, answer)
	if err != nil {
		m.fail(ctx, w, r, route.Call, err)
		return
	}
	w.Header().Set("Content-Type", form)
	w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	w.Write(body) // a client that has left is no error of ours
}

func (m *Mount) readRequest(w http.ResponseWriter, r *http.Request, route *Route, form string) (wire.Message, bool) {
	if route.NewRequest == nil {
		return nil, true
	}
	if coding := r.Header.Get("Content-Encoding"); coding != "" && !strings.EqualFold(coding, "identity") {
		m.problem(w, r, "unsupported-form", "encoded bodies are not read: "+coding)
		return nil, false
	}
	if form != CBOR && form != JSON && (form != "" || r.ContentLength != 0) {
		m.problem(w, r, "unsupported-form", fmt.Sprintf("Content-Type is application/cbor or application/json, not %q", form))
		return nil, false
	}
	body, err := io.ReadAll(io.LimitReader(r.Body, m.limit+1))
	if err != nil {
		m.problem(w, r, "invalid-request", "the body ended too early")
		return nil, false
	}
	if int64(len(body)) > m.limit {
		m.problem(w, r, "too-large", fmt.Sprintf("the body is larger than %d bytes", m.limit))
		return nil, false
	}
	if form == "" {
		body = []byte("{}") // no type and no body: nothing was set
	}
	request := route.NewRequest()
	if err := decode(form, body, request); err != nil {
		var e *wire.Error
		if errors.As(err, &e) && e.TooLarge {
			m.problem(w, r, "too-large", e.Detail)
			return nil, false
		}
		p := commonProblem(m.base, "invalid-request", "the body can't be read")
		p.Violations = []wire.Violation{{Detail: err.Error()}}
		if e != nil {
			p.Violations[0] = wire.Violation{Pointer: e.Path, Detail: e.Detail}
		}
		m.write(w, r, p)
		return nil, false
	}
	if violations := request.AppendViolations(nil, ""); len(violations) > 0 {
		p := commonProblem(m.base, "invalid-request", fmt.Sprintf("%d violations", len(violations)))
		if len(violations) == 1 {
			p.Detail = "1 violation"
		}
		p.Violations = violations
		m.write(w, r, p)
		return nil, false
	}
	return request, true
}

// patience is how long the handler may take: as long as the client says that
// it waits (RFC 7240, section 4.3), and no longer than the server allows.
func (m *Mount) patience(r *http.Request) time.Duration {
	for preference := range strings.SplitSeq(r.Header.Get("Prefer"), ",") {
		if value, ok := strings.CutPrefix(strings.TrimSpace(preference), "wait="); ok {
			if seconds, err := strconv.Atoi(value); err == nil && seconds > 0 && seconds < int(m.timeout/time.Second) {
				return time.Duration(seconds) * time.Second
			}
		}
	}
	return m.timeout
}

var errNotImplemented = errors.New("not implemented")

func (m *Mount) serve(ctx context.Context, route *Route, request wire.Message) (answer wire.Message, err error) {
	if !route.Implemented {
		return nil, errNotImplemented
	}
	defer func() {
		if p := recover(); p != nil {
			answer, err = nil, fmt.Errorf("panic: %v", p)
		}
	}()
	return route.Serve(ctx, request)
}

// fail answers with an error: as it is when the call declares it, else as one
// that says nothing of the inside.
func (m *Mount) fail(ctx context.Context, w http.ResponseWriter, r *http.Request, call *Call, err error) {
	var declared DeclaredError
	if errors.As(err, &declared) && slices.ContainsFunc(call.Fails, func(f Failure) bool { return f.Name == declared.ErrorName() }) {
		fields, encodeErr := encode(JSON, declared)
		if encodeErr == nil {
			m.write(w, r, &Problem{Type: m.base + "/-/errors/" + declared.ErrorName(), Title: m.title(declared.ErrorName()), Status: declared.ErrorStatus(), Fields: fields})
			return
		}
		err = encodeErr
	}
	switch {
	case errors.Is(err, errNotImplemented):
		m.problem(w, r, "not-implemented", call.Name+" is not implemented here")
	case ctx.Err() != nil && r.Context().Err() == nil:
		w.Header().Set("Retry-After", "1")
		m.problem(w, r, "too-slow", "the call took too long")
	default:
		m.onError(call.Name, err)
		m.problem(w, r, "internal", "")
	}
}

// title is the first line of an error's documentation, or its name.
func (m *Mount) title(name string) string {
	for _, e := range m.definitions.Errors {
		if e.Name == name && e.Doc != "" {
			line, _, _ := strings.Cut(e.Doc, "\n")
			return line
		}
	}
	return name[strings.LastIndexByte(name, '.')+1:]
}

func (m *Mount) problem(w http.ResponseWriter, r *http.Request, name, detail string) {
	m.write(w, r, commonProblem(m.base, name, detail))
}

func (m *Mount) write(w http.ResponseWriter, r *http.Request, p *Problem) {
	body, err := json.Marshal(p)
	if err != nil {
		m.onError(p.Name(), err)
	}
	controller := http.NewResponseController(w)
	unread := r.ContentLength != 0 && r.ProtoMajor == 1
	if unread {
		// Without it the server would wait for the rest of the request first.
		_ = controller.EnableFullDuplex()
	}
	w.Header().Set("Content-Type", problemJSON)
	w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	w.WriteHeader(p.Status)
	w.Write(body) // a client that has left is no error of ours
	if unread {
		drain(controller, r.Body)
	}
}

// drain reads on after an early answer, for 64 MiB or until nothing comes for
// 2 s: a client that is still sending would lose the answer if the connection
// were closed on it.
func drain(controller *http.ResponseController, body io.Reader) {
	if controller.Flush() != nil {
		return
	}
	buffer := make([]byte, 32<<10)
	for total := 0; total < 64<<20; {
		if controller.SetReadDeadline(time.Now().Add(2*time.Second)) != nil {
			return
		}
		n, err := body.Read(buffer)
		if err != nil {
			break
		}
		total += n
	}
	_ = controller.SetReadDeadline(time.Time{})
}

func (m *Mount) ownPages(w http.ResponseWriter, r *http.Request, page string) {
	name, isError := strings.CutPrefix(page, "errors/")
	var answer any
	status := http.StatusOK
	switch {
	case r.Method != http.MethodGet && r.Method != http.MethodHead:
		w.Header().Set("Allow", "GET, HEAD")
		m.problem(w, r, "wrong-method", "pages below /-/ are read with GET")
		return
	case page == "health":
		answer = map[string]string{"status": "ok"}
		if err := m.healthy(r.Context()); err != nil {
			m.onError("health", err)
			status, answer = http.StatusServiceUnavailable, map[string]string{"status": "unwell"}
		}
	case page == "about" && !m.quiet:
		answer = m.about()
	case page == "definitions" && !m.quiet:
		answer = map[string]any{"name": m.definitions.Name, "version": m.definitions.Version, "digest": m.definitions.Digest, "modules": m.definitions.Modules}
	case isError:
		pages := slices.Concat(commonErrors, m.definitions.Errors)
		if i := slices.IndexFunc(pages, func(e ErrorPage) bool { return e.Name == name }); i >= 0 {
			answer = pages[i]
		}
	}
	if answer == nil {
		m.problem(w, r, "unknown-call", "there is no page /-/"+page)
		return
	}
	body, err := json.Marshal(answer)
	if err != nil {
		m.onError(page, err)
		m.problem(w, r, "internal", "")
		return
	}
	w.Header().Set("Content-Type", JSON)
	w.WriteHeader(status)
	w.Write(body) // a client that has left is no error of ours
}

func (m *Mount) about() any {
	type call struct {
		Call   string `json:"call"`
		Method string `json:"method"`
		Path   string `json:"path"`
	}
	calls := []call{}
	for _, path := range slices.Sorted(maps.Keys(m.routes)) {
		c := m.routes[path].Call
		calls = append(calls, call{c.Name, c.Method, m.base + path})
	}
	return map[string]any{"name": m.definitions.Name, "version": m.definitions.Version, "digest": m.definitions.Digest, "calls": calls}
}
