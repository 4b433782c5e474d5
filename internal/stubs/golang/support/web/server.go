package web

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math"
	"net/http"
	"net/url"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// Served is an http.Handler that serves calls, and speaks for all of them
// below "/-/".
type Served struct {
	definitions *Definitions
	manual      func() (map[string]string, error)
	digest      []string // as a header has it
	base        string
	routes      []*Route
	table       table
	limit       int64
	items       int
	element     int
	timeout     time.Duration
	idle        time.Duration
	heartbeat   time.Duration
	atOnce      int // how many calls, 0 is no limit
	origins     []string
	unlisted    bool
	optioned    bool // whether any option was given
	quiet       bool
	guarded     bool
	authorizer  Authorizer
	middleware  []Middleware
	onError     func(ctx context.Context, call string, err error)
	serving     func(ctx context.Context) error
	life        *life
	watch       Watcher
	plain       bool                          // whether answers are never compressed
	cookies     map[string]func(*http.Cookie) // by name: what is not as usual
}

// Authorizer judges the credentials of a request. The context that it returns is the
// handler's. An error made by Unauthenticated or Forbidden is answered as such,
// any other with 500. call is nil for "/-/about" and "/-/definitions".
type Authorizer func(ctx context.Context, call *Call, credentials Credentials) (context.Context, error)

// Middleware runs around every handler; next runs the rest.
type Middleware func(ctx context.Context, call *Call, next func(ctx context.Context) error) error

// ServerOption changes how a mount serves.
type ServerOption func(*Served)

// WithBase serves below a path such as "/v1".
func WithBase(path string) ServerOption {
	return func(m *Served) { m.base = strings.TrimRight(path, "/") }
}

// WithBodyLimit changes how large a request may be; the default is 4 MiB.
func WithBodyLimit(octets int64) ServerOption {
	return func(m *Served) { m.limit = min(octets, mostOctets) }
}

// mostOctets is as good as no limit, and leaves room to count beyond it.
const mostOctets = math.MaxInt32 << 16

// WithElementLimit changes how large an element of a stream may be; the default
// is 1 MiB.
func WithElementLimit(octets int) ServerOption {
	return func(m *Served) { m.element = min(octets, math.MaxInt32) }
}

// serverBudget is so low that no body of the default limit that is taken builds more
// than 64 MiB of values, or takes longer than 0.3 s to read.
const serverBudget = 250_000

// WithItemLimit changes how much a request, or an element of a stream, may contain: list
// items and entries of maps and messages count one, a message one and its declared
// fields as well. The default is 250,000.
func WithItemLimit(items int) ServerOption { return func(m *Served) { m.items = items } }

// WithHandlerTimeout changes how long a call may take, its body included; the
// default is 60 s. Streams are not limited.
func WithHandlerTimeout(d time.Duration) ServerOption { return func(m *Served) { m.timeout = d } }

// WithIdleTimeout changes how long a stream may be silent; the default is 60 s.
func WithIdleTimeout(d time.Duration) ServerOption { return func(m *Served) { m.idle = d } }

// WithHeartbeat changes after how much silence a stream says that it lives; the
// default is 15 s.
func WithHeartbeat(d time.Duration) ServerOption { return func(m *Served) { m.heartbeat = d } }

// WithCallLimit changes how many calls are answered at once, streams included; others are refused
// with 503. The default is no limit.
func WithCallLimit(calls int) ServerOption { return func(m *Served) { m.atOnce = calls } }

// WithOrigins lets pages of these origins, such as "https://skerry.example",
// call the server from a browser. The default is none.
func WithOrigins(origins ...string) ServerOption {
	return func(m *Served) { m.origins = append(m.origins, origins...) }
}

// WithCookie changes how a cookie is set that answers have fields for, of this name: its
// path, domain, age and flags. Without it a cookie has Path=/, HttpOnly, Secure and
// SameSite=Lax, and lasts until the browser is closed; pages of another site need SameSite=None.
func WithCookie(name string, change func(*http.Cookie)) ServerOption {
	return func(m *Served) {
		if m.cookies == nil {
			m.cookies = map[string]func(*http.Cookie){}
		}
		m.cookies[name] = change
	}
}

// WithUnlisted lets requests contain members and alternatives that the
// definitions do not list, for servers that only pass messages on.
func WithUnlisted() ServerOption { return func(m *Served) { m.unlisted = true } }

// WithAuthorizer sets what judges credentials. Without an authorizer it is enough that they
// are there.
func WithAuthorizer(authorizer Authorizer) ServerOption {
	return func(m *Served) { m.authorizer = authorizer }
}

// WithMiddleware adds middleware; the first added is the outermost.
func WithMiddleware(middleware ...Middleware) ServerOption {
	return func(m *Served) { m.middleware = append(m.middleware, middleware...) }
}

// WithOnError is told each error that the caller is not: a handler's error
// that the call does not declare, a panic (a *Panic, with its stack), an answer that
// can't be written. Without it they are logged by log/slog.
func WithOnError(hook func(ctx context.Context, call string, err error)) ServerOption {
	return func(m *Served) { m.onError = hook }
}

// WithServing makes "/-/state" answer 503 while check returns an error.
func WithServing(check func(ctx context.Context) error) ServerOption {
	return func(m *Served) { m.serving = check }
}

// WithoutDefinitions keeps "/-/about", "/-/definitions" and "/-/manual" to the server.
func WithoutDefinitions() ServerOption { return func(m *Served) { m.quiet = true } }

// WithGuardedDefinitions has the authorizer guard "/-/about", "/-/definitions" and "/-/manual".
func WithGuardedDefinitions() ServerOption { return func(m *Served) { m.guarded = true } }

// NewServed returns a mount of routes.
func NewServed(definitions *Definitions, routes []Route, options ...ServerOption) *Served {
	m := &Served{definitions: definitions, digest: []string{definitions.Digest}, limit: 4 << 20, items: serverBudget,
		manual:  sync.OnceValues(func() (map[string]string, error) { return unpacked(definitions.Manual) }),
		element: 1 << 20, timeout: time.Minute, idle: time.Minute, heartbeat: 15 * time.Second,
		onError: logError, serving: func(context.Context) error { return nil }, life: newLife()}
	for i := range routes {
		m.routes = append(m.routes, &routes[i])
	}
	m.table = newTable(m.routes)
	m.optioned = len(options) > 0
	for _, option := range options {
		option(m)
	}
	return m
}

// Serve joins mounts of several services into one. The options of the first apply
// to all; Serve panics where another has options of its own, which would not be
// heeded.
func Serve(first *Served, others ...*Served) *Served {
	joined := *first
	joined.routes = slices.Clone(first.routes)
	for _, m := range others {
		if m.optioned {
			panic("web.Serve: options are given to the first mount, and apply to all")
		}
		joined.routes = append(joined.routes, m.routes...)
	}
	joined.table = newTable(joined.routes)
	return &joined
}

// NewServer returns a server of a handler with the limits that suit one open to
// the world: 64 KiB of headers, 30 s for them, 60 s of idleness.
func NewServer(handler http.Handler) *http.Server {
	return &http.Server{Handler: handler, ReadHeaderTimeout: 30 * time.Second, IdleTimeout: time.Minute,
		MaxHeaderBytes: 64 << 10}
}

// ServeHTTP answers one request.
func (m *Served) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header()["Faithful-Definitions"] = m.digest
	if len(m.origins) > 0 && m.crossOrigin(w, r) {
		return
	}
	path, ok := strings.CutPrefix(r.URL.EscapedPath(), m.base)
	if !ok || !strings.HasPrefix(path, "/") { // a base is whole segments
		m.problem(w, r, "unknown-call", "nothing is served at "+r.URL.Path)
		return
	}
	if rest, own := strings.CutPrefix(path, "/-/"); own {
		m.ownPages(w, r, rest)
		return
	}
	route, values, allow := m.table.find(r.Method, path)
	switch {
	case route != nil && m.life.over.Err() != nil:
		m.problem(w, r, "unavailable", errUnavailable.Error())
	case route != nil && !m.life.enter(m.atOnce):
		m.problem(w, r, "overloaded", "the server has too much to do")
	case route != nil:
		defer m.life.leave()
		m.call(w, r, route, values)
	case len(allow) > 0:
		slices.Sort(allow)
		w.Header().Set("Allow", strings.Join(answered(allow), ", "))
		if r.Method == http.MethodOptions {
			m.deliver(w, r, http.StatusNoContent, nil)
			return
		}
		m.problem(w, r, "wrong-method", fmt.Sprintf("%s is called with %s, not %s", path, strings.Join(allow, " or "),
			r.Method))
	default:
		m.problem(w, r, "unknown-call", "no call has the path "+r.URL.Path)
	}
}

// answered are the methods that a path with calls of these answers, in their order.
func answered(methods []string) []string {
	all := append(slices.Clone(methods), http.MethodOptions)
	if slices.Contains(methods, http.MethodGet) {
		all = append(all, http.MethodHead)
	}
	slices.Sort(all)
	return all
}

// crossOrigin lets browsers call from the origins that were given, with their cookies (Fetch
// standard, CORS protocol), and answers what they ask before they do.
func (m *Served) crossOrigin(w http.ResponseWriter, r *http.Request) (answered bool) {
	w.Header().Add("Vary", "Origin") // also where none is told: what is kept of that answer is not for all
	origin := r.Header.Get("Origin")
	if !slices.Contains(m.origins, origin) {
		return false
	}
	w.Header().Set("Access-Control-Allow-Origin", origin)
	w.Header().Set("Access-Control-Allow-Credentials", "true")
	w.Header().Set("Access-Control-Expose-Headers", "Faithful-Definitions, Retry-After, WWW-Authenticate")
	wanted := r.Header.Get("Access-Control-Request-Method")
	if r.Method != http.MethodOptions || wanted == "" {
		return false
	}
	w.Header().Set("Access-Control-Allow-Methods", wanted)
	w.Header().Set("Access-Control-Allow-Headers", r.Header.Get("Access-Control-Request-Headers"))
	w.Header().Set("Access-Control-Max-Age", "600")
	w.WriteHeader(http.StatusNoContent)
	return true
}

// exchange is one call while it is answered.
type exchange struct {
	mount       *Served
	w           http.ResponseWriter
	r           *http.Request
	route       *Route
	values      map[string]string // of the path
	query       url.Values
	oddQuery    bool // whether a pair of it can't be decoded
	requestType string
	answerType  string
	ctx         context.Context
	watch       *watching // nil where nobody does
	message     Message
	answered    Message
	arriving    *arriving // the body of the request, where it travels as it is

	mu       sync.Mutex
	progress progress
}

type exchangeKey struct{}

// RequestOf returns the HTTP request that the context of a handler, an authorizer or middleware
// is of, with its headers and its peer; nil where there is none. Its body is not to be read.
func RequestOf(ctx context.Context) *http.Request {
	if x, ok := ctx.Value(exchangeKey{}).(*exchange); ok {
		return x.r
	}
	return nil
}

// AnswerHeader returns the headers of the answer to the call that a context is of, to add to
// until it begins; nil where there is none.
func AnswerHeader(ctx context.Context) http.Header {
	if x, ok := ctx.Value(exchangeKey{}).(*exchange); ok {
		return x.w.Header()
	}
	return nil
}

// MessagesOf returns the request of the call that a context of middleware is of, or the head of a
// stream, and, once next has returned, the handler's answer. Either is nil where there is none; the
// answer is, too, where it is a stream.
func MessagesOf(ctx context.Context) (request, answer Message) {
	if x, ok := ctx.Value(exchangeKey{}).(*exchange); ok {
		return x.message, x.answered
	}
	return nil, nil
}

// call answers one call, refusing in the order: credentials, encoding of the
// answer, encoding of the request, size, what can't be read, what is not allowed.
func (m *Served) call(w http.ResponseWriter, r *http.Request, route *Route, values map[string]string) {
	x := &exchange{mount: m, w: w, r: r, route: route, values: values}
	x.ctx = context.WithValue(r.Context(), exchangeKey{}, x)
	x.traced()
	call := route.Call
	if m.watch != nil {
		x.watched()
		w, r = x.w, x.r
		defer x.ended()
	}
	route.caching.keep(w.Header(), m.plain)
	if exposed := w.Header()["Access-Control-Expose-Headers"]; exposed != nil {
		for _, p := range call.AnswerTravel.placed() {
			if p.In == "header" {
				exposed[0] += ", " + p.Parameter
			}
		}
	}
	if x.foreign() {
		m.problem(w, r, "forbidden", "a page of another site may not make this call")
		return
	}
	if !x.admitted() {
		return
	}
	if call.RequestStream && call.AnswerStream {
		if !route.Implemented {
			m.problem(w, r, "not-implemented", call.Name+" is not implemented here")
			return
		}
		route.Upgrade(m, w, r.WithContext(x.ctx), route)
		return
	}
	x.requestType = mediaType(r.Header.Get("Content-Type"))
	if call.AnswerStream {
		x.answerType = preferred(r.Header.Values("Accept"), x.requestType, CBORSeq, JSONSeq)
	} else {
		x.answerType = preferred(r.Header.Values("Accept"), x.requestType, CBOR, JSON)
	}
	if x.answerType == "" && call.AnswerTravel.raw() == nil {
		m.problem(w, r, "not-acceptable", "answers are in CBOR or JSON")
		return
	}
	switch {
	case call.RequestStream:
		x.receive()
	case call.AnswerStream:
		x.send()
	default:
		x.unary()
	}
}

// admitted looks at credentials: that they are there, and what the authorizer says.
func (x *exchange) admitted() bool {
	m, call := x.mount, x.route.Call
	if len(call.Needs) == 0 && m.authorizer == nil {
		return true
	}
	credentials, enough := found(call, x.r, x.queries)
	if !enough {
		m.unauthenticated(x.w, x.r, call, "the call needs "+needsText(call.Needs))
		return false
	}
	if m.authorizer == nil {
		return true
	}
	ctx, err := m.judge(x.ctx, call, credentials)
	if err != nil {
		x.failedWith(err)
		m.authorizerRefused(x.w, x.r, call, err)
		return false
	}
	x.ctx = ctx
	return true
}

// judge asks the authorizer; a panic in it is an error.
func (m *Served) judge(ctx context.Context, call *Call, credentials Credentials) (allowed context.Context, err error) {
	err = guard(func() (err error) {
		allowed, err = m.authorizer(ctx, call, credentials)
		return err
	})
	if err == nil && allowed == nil {
		err = errors.New("the authorizer returned neither a context nor an error")
	}
	return allowed, err
}

// Panic is the error that a panic in a handler, an authorizer, middleware or a hook becomes.
type Panic struct {
	Value any
	Stack []byte
}

func (p *Panic) Error() string { return fmt.Sprintf("panic: %v\n\n%s", p.Value, p.Stack) }

// guard runs what the server's author wrote; a panic becomes a *Panic.
func guard(run func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			if p == http.ErrAbortHandler { // how a handler gives up the connection
				panic(p)
			}
			err = &Panic{p, debug.Stack()}
		}
	}()
	return run()
}

// logError is what errors are told to without WithOnError.
func logError(ctx context.Context, call string, err error) {
	slog.ErrorContext(ctx, "a call failed", "call", call, "error", err)
}

// report tells an error that the caller is not told.
func (m *Served) report(ctx context.Context, call string, err error) {
	if failed := guard(func() error { m.onError(ctx, call, err); return nil }); failed != nil {
		logError(ctx, call, err)
		logError(ctx, "WithOnError", failed)
	}
}

// foreign tells calls that a page of another site made a browser send with what it keeps
// for this one: cookies, and names and passwords (Fetch standard; Fetch Metadata).
func (x *exchange) foreign() bool {
	r, kept := x.r, false
	for _, all := range x.route.Call.Needs {
		for _, c := range all {
			_, _, basic := r.BasicAuth()
			kept = kept || c.Kind == "cookie" || c.Kind == "basic" && basic
		}
	}
	kept = kept || x.route.Call.Travel.inCookies() || x.route.Call.AnswerTravel.inCookies()
	if !kept {
		return false
	}
	if origins := r.Header["Origin"]; len(origins) > 0 {
		return len(origins) > 1 || !x.mount.allowsOrigin(r, origins[0])
	}
	if (r.Method == http.MethodGet || r.Method == http.MethodHead) && r.Header.Get("Sec-Fetch-Mode") == "navigate" {
		return false // somebody follows a link
	}
	return r.Header.Get("Sec-Fetch-Site") == "cross-site"
}

// allowsOrigin lets pages of the server itself in, and of the origins given.
func (m *Served) allowsOrigin(r *http.Request, origin string) bool {
	if slices.Contains(m.origins, origin) || r.Header.Get("Sec-Fetch-Site") == "same-origin" {
		return true
	}
	u, err := url.Parse(origin)
	return err == nil && u.Host != "" && u.User == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Path == "" &&
		strings.EqualFold(u.Host, r.Host)
}

// refusedCredential is what an authorizer says no with.
type refusedCredential struct{ problem, detail string }

func (e *refusedCredential) Error() string { return e.problem + ": " + e.detail }

// Unauthenticated is the error of an authorizer that does not know who calls; detail is
// for the caller.
func Unauthenticated(detail string) error { return &refusedCredential{"unauthenticated", detail} }

// Forbidden is the error of an authorizer that knows who calls, and says no; detail is
// for the caller.
func Forbidden(detail string) error { return &refusedCredential{"forbidden", detail} }

func (m *Served) authorizerRefused(w http.ResponseWriter, r *http.Request, call *Call, err error) {
	var refused *refusedCredential
	switch {
	case !errors.As(err, &refused):
		m.report(r.Context(), call.Name, err)
		m.problem(w, r, "internal", "")
	case refused.problem == "unauthenticated":
		m.unauthenticated(w, r, call, refused.detail)
	default:
		m.problem(w, r, refused.problem, refused.detail)
	}
}

// requestError is what is wrong with a request that was being streamed.
type requestError struct{ problem *Problem }

func (e *requestError) Error() string { return e.problem.Error() }

func (m *Served) unauthenticated(w http.ResponseWriter, r *http.Request, call *Call, detail string) {
	for _, challenge := range challenges(call) {
		w.Header().Add("WWW-Authenticate", challenge)
	}
	m.problem(w, r, "unauthenticated", detail)
}

func (x *exchange) queries() url.Values {
	if x.query == nil {
		x.query, x.oddQuery = parseQuery(x.r.URL.RawQuery)
	}
	return x.query
}

// parseQuery reads the pairs of a query; odd tells that one of them can't be decoded.
func parseQuery(raw string) (query url.Values, odd bool) {
	query = url.Values{}
	for pair := range strings.SplitSeq(raw, "&") {
		name, value, _ := strings.Cut(pair, "=")
		name, err := url.QueryUnescape(name)
		value, valueErr := url.QueryUnescape(value)
		if err != nil || valueErr != nil {
			odd = true
		} else if pair != "" {
			query.Add(name, value)
		}
	}
	return query, odd
}

// traced hands the trace that the caller is in to the handler (W3C Trace
// Context).
func (x *exchange) traced() {
	if parent := x.r.Header.Get("Traceparent"); parent != "" {
		x.ctx = WithTrace(x.ctx, parent, strings.Join(x.r.Header.Values("Tracestate"), ","))
	}
}

// unary answers a call of one request and one answer.
func (x *exchange) unary() {
	if x.route.Call.Travel.raw() != nil || x.route.Call.AnswerTravel.raw() != nil {
		x.unaryRaw()
		return
	}
	patience := x.mount.patience(x.r)
	ctx, cancel := context.WithTimeout(x.ctx, patience)
	defer cancel()
	late := time.AfterFunc(patience, func() { x.late(ctx) })
	defer late.Stop()
	request, ok := x.request()
	if !ok {
		x.reached(answering)
		return
	}
	x.reached(running)
	x.message = request
	var answer Message
	err := x.run(ctx, func(ctx context.Context) (err error) {
		answer, err = x.route.Serve(ctx, request)
		x.answered = answer
		if err == nil && answer == nil && x.route.Answers {
			err = errors.New("the handler returned neither an answer nor an error")
		}
		return err
	})
	if x.reached(answering) {
		x.answer(ctx, answer, err)
	}
}

// unaryRaw is unary for calls that take or answer a body as it is: it is idleness that has a limit.
func (x *exchange) unaryRaw() {
	request, ok := x.request()
	if !ok {
		return
	}
	x.message = request
	var answer Message
	err := x.run(x.ctx, func(ctx context.Context) (err error) {
		answer, err = x.route.Serve(ctx, request)
		x.answered = answer
		if err == nil && answer == nil && x.route.Answers {
			err = errors.New("the handler returned neither an answer nor an error")
		}
		return err
	})
	var wrong *requestError
	if x.arriving != nil && errors.As(x.arriving.failed, &wrong) {
		err = wrong // whatever the handler made of it
	}
	x.answer(x.ctx, answer, err)
	if x.arriving != nil && !x.arriving.ended && err == nil && x.r.ProtoMajor == 1 {
		drain(http.NewResponseController(x.w), x.r.Body)
	}
}

// progress is how far a call has come that has to be done in time.
type progress int

const (
	reading progress = iota
	running
	answering
)

// reached tells whether a call may go on: not where it was answered meanwhile.
func (x *exchange) reached(p progress) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.progress == answering {
		return false
	}
	x.progress = p
	return true
}

// late ends a call that has taken too long: the reading of its body, or, with
// an answer in its stead, a handler that may never return.
func (x *exchange) late(ctx context.Context) {
	<-ctx.Done() // its timer is another one, of the same time
	if !errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return
	}
	control := http.NewResponseController(x.w)
	x.mu.Lock()
	defer x.mu.Unlock()
	switch x.progress {
	case reading:
		_ = control.SetReadDeadline(time.Now()) // a recorder of tests has none
	case running:
		x.progress = answering
		if x.r.ProtoMajor == 1 {
			x.w.Header().Set("Connection", "close") // it is taken until the handler returns
		}
		x.fail(ctx, ctx.Err())
		_ = control.Flush()
	}
}

// answer writes what became of a call that does not stream its answer.
func (x *exchange) answer(ctx context.Context, answer Message, err error) {
	if err != nil {
		x.fail(ctx, err)
		return
	}
	call := x.route.Call
	if !x.route.Answers {
		x.mount.deliver(x.w, x.r, cmp.Or(call.Status, http.StatusNoContent), nil)
		return
	}
	if raw := call.AnswerTravel.raw(); raw != nil {
		x.rawAnswer(ctx, raw, answer)
		return
	}
	status := cmp.Or(call.Status, http.StatusOK)
	inBody := call.AnswerTravel.bodyOf(answer)
	var body []byte
	if inBody != nil {
		if body, err = encode(x.answerType, inBody); err != nil {
			x.fail(ctx, err)
			return
		}
	}
	if bodiless(status) && inBody != nil {
		if err := x.nothingIn(body); err != nil {
			x.fail(ctx, err)
			return
		}
		inBody, body = nil, nil
	}
	header := x.w.Header()
	gzipped := inBody != nil && x.compresses(body)
	if call.AnswerTravel != nil {
		known, err := x.outside(answer, status, inBody != nil, gzipped)
		if err != nil {
			x.fail(ctx, err)
			return
		}
		if known {
			x.mount.deliver(x.w, x.r, http.StatusNotModified, nil)
			return
		}
	}
	if inBody != nil {
		header["Content-Type"] = single(x.answerType)
	}
	if gzipped {
		body = compressed(body)
		header["Content-Encoding"] = []string{"gzip"}
	}
	if !bodiless(status) {
		header["Content-Length"] = []string{strconv.Itoa(len(body))}
	}
	x.mount.deliver(x.w, x.r, status, body)
}

// bodiless tells statuses whose answers have no body (RFC 9110, section 6.4.1).
func bodiless(status int) bool {
	return status == http.StatusNoContent || status == http.StatusResetContent || status == http.StatusNotModified
}

// nothingIn looks whether what of an answer would be in a body may be left out.
func (x *exchange) nothingIn(body []byte) error {
	blank := x.route.Call.AnswerTravel.NewBody()
	if err := decode(JSON, []byte("{}"), blank, x.mount.items); err != nil {
		return err
	}
	if empty, err := encode(x.answerType, blank); err != nil || !bytes.Equal(empty, body) {
		return fmt.Errorf("the status %d has no body, and the answer sets a field that would be in it",
			x.route.Call.Status)
	}
	return nil
}

// outside puts what of an answer travels outside of its body where it does. known tells
// that the client has the answer already, and is told so alone.
func (x *exchange) outside(answer Message, status int, inBody, gzipped bool) (known bool, err error) {
	var p Parameters
	x.route.Call.AnswerTravel.Place(answer, &p)
	if err := p.finish(); err != nil {
		return false, fmt.Errorf("an answer that can't be sent: %w", err)
	}
	header, caching := x.w.Header(), &x.route.caching
	if control := p.header["Cache-Control"]; control != nil {
		header["Cache-Control"] = control
	}
	if tag := p.header.Get("Etag"); p.header["Etag"] != nil {
		if !isTag(tag) {
			return false, fmt.Errorf("the header \"ETag\" is an entity-tag with its quotes (RFC 9110, section 8.8.3), not %s",
				tag)
		}
		if inBody {
			tag = tagged(tag, x.answerType, gzipped)
			p.header.Set("Etag", tag)
		}
		if slices.Equal(header["Cache-Control"], caching.none) {
			header["Cache-Control"] = caching.checked
		}
		if x.unmodified(status, tag) {
			header["Etag"] = []string{tag}
			return true, nil
		}
	}
	maps.Copy(header, p.header)
	for _, c := range p.cookies {
		http.SetCookie(x.w, x.mount.cookie(c))
	}
	return false, nil
}

// cookie is one that an answer sets; an empty one is taken away.
func (m *Served) cookie(c cookie) *http.Cookie {
	set := &http.Cookie{Name: c.name, Value: c.value, Path: "/", HttpOnly: true, Secure: true,
		SameSite: http.SameSiteLaxMode}
	if change := m.cookies[c.name]; change != nil {
		change(set)
		set.Name, set.Value = c.name, c.value
	}
	if c.value == "" {
		set.MaxAge, set.Expires = -1, time.Time{}
	}
	return set
}

// deliver writes an answer, and gives up a client that does not read it.
func (m *Served) deliver(w http.ResponseWriter, r *http.Request, status int, body []byte) {
	controller := http.NewResponseController(w)
	const piece = 256 << 10
	_ = controller.SetWriteDeadline(time.Now().Add(m.idle)) // a recorder of tests has none
	w.WriteHeader(status)
	for len(body) > piece {
		if _, err := w.Write(body[:piece]); err != nil {
			return // a client that has left is not an error of ours
		}
		body = body[piece:]
		_ = controller.SetWriteDeadline(time.Now().Add(m.idle))
	}
	_, _ = w.Write(body)
	if r.ProtoMajor == 1 && controller.Flush() == nil {
		_ = controller.SetWriteDeadline(time.Time{}) // all of it is written: what follows has its own
	}
}

// request reads the request, from wherever its fields travel.
func (x *exchange) request() (Message, bool) {
	m, route := x.mount, x.route
	if route.NewRequest == nil {
		// Any body is dropped, but for a stream: who sends one means another call.
		if x.requestType == CBORSeq || x.requestType == JSONSeq {
			m.problem(x.w, x.r, "unsupported-form", fmt.Sprintf("the call takes no request, and no stream: "+
				"Content-Type is not %q", x.requestType))
			return nil, false
		}
		return nil, true
	}
	request := route.NewRequest()
	travel := route.Call.Travel
	var body wire.Message
	switch {
	case travel == nil:
		body = request.(wire.Message)
	case travel.NewBody != nil:
		body = travel.NewBody()
	}
	if body != nil && !x.readBody(body) {
		return nil, false
	}
	if raw := travel.raw(); raw != nil && !x.rawRequest(raw, request) {
		return nil, false
	}
	return request, x.whole(request, body)
}

// head reads what comes before a stream of requests; nil where nothing does.
func (x *exchange) head() (Message, bool) {
	if x.route.NewHead == nil {
		return nil, true
	}
	head := x.route.NewHead()
	return head, x.whole(head, nil)
}

// whole fills a message from a body and from what came outside of it, and looks at what the
// definitions say of it.
func (x *exchange) whole(request Message, body wire.Message) bool {
	m, travel := x.mount, x.route.Call.Travel
	var violations []wire.Violation
	if travel != nil {
		a := &Arguments{placed: travel.Placed, values: x.arrived}
		travel.Take(request, body, a)
		if violations = a.violations; x.oddQuery {
			violations = append(violations, wire.Violation{In: "query",
				Detail: "must be pairs that are percent-encoded as they should be"})
		}
		if len(violations) > 0 {
			m.invalid(x.w, x.r, violations)
			return false
		}
	}
	violations = request.AppendViolations(nil, "")
	if m.unlisted {
		violations = wire.WithoutUnlisted(violations)
	}
	if len(violations) > 0 {
		m.invalid(x.w, x.r, locate(violations, travel.placed()))
		return false
	}
	return true
}

// invalid answers with violations.
func (m *Served) invalid(w http.ResponseWriter, r *http.Request, violations []wire.Violation) {
	m.write(w, r, violated(m.base, violations))
}

// readBody reads the body into a message.
func (x *exchange) readBody(message wire.Message) bool {
	m, w, r, encoding := x.mount, x.w, x.r, x.requestType
	if coding := r.Header.Get("Content-Encoding"); coding != "" && !strings.EqualFold(coding, "identity") &&
		!isGzip(coding) {
		w.Header()["Accept-Encoding"] = []string{"gzip"} // RFC 9110, section 12.5.3
		m.problem(w, r, "unsupported-form", fmt.Sprintf("the content coding %q is not read", coding))
		return false
	}
	if encoding != CBOR && encoding != JSON && (encoding != "" || r.ContentLength != 0) {
		m.problem(w, r, "unsupported-form", fmt.Sprintf("Content-Type is application/cbor or application/json, not %q",
			encoding))
		return false
	}
	if r.ContentLength > m.limit {
		m.problem(w, r, "too-large", fmt.Sprintf("the body is larger than %d bytes", m.limit))
		return false
	}
	body, err := readAll(r.Body, r.ContentLength, m.limit)
	switch {
	case err != nil && isTimeout(err):
		m.problem(w, r, "too-slow", "the body took too long")
		return false
	case err != nil:
		m.problem(w, r, "invalid-request", "the body ended too early")
		return false
	}
	body, large, err := plainBody(r.Header, body, m.limit)
	switch {
	case large:
		m.problem(w, r, "too-large", fmt.Sprintf("the body is larger than %d bytes", m.limit))
		return false
	case err != nil:
		m.problem(w, r, "invalid-request", "the body can't be read: "+err.Error())
		return false
	}
	if encoding == "" {
		encoding, body = JSON, []byte("{}") // no type and no body: nothing was set
	}
	if err := decode(encoding, body, message, x.mount.items); err != nil {
		m.unreadable(w, r, err)
		return false
	}
	return true
}

func isTimeout(err error) bool {
	var timeout interface{ Timeout() bool }
	return errors.As(err, &timeout) && timeout.Timeout()
}

// unreadable answers for a payload that can't be read.
func (m *Served) unreadable(w http.ResponseWriter, r *http.Request, err error) {
	var e *wire.Error
	if errors.As(err, &e) && e.TooLarge {
		m.problem(w, r, "too-large", e.Detail)
		return
	}
	p := commonProblem(m.base, "invalid-request", "the request can't be read")
	p.Violations = []wire.Violation{{Detail: err.Error()}}
	if e != nil {
		p.Violations[0] = wire.Violation{Pointer: e.Path, Detail: e.Detail}
	}
	m.write(w, r, p)
}

// readAll reads a body whose length may be known, or -1: at most one byte more
// than limit.
func readAll(body io.Reader, length, limit int64) ([]byte, error) {
	if length < 0 || length > min(limit, 1<<20) {
		return io.ReadAll(io.LimitReader(body, limit+1))
	}
	// A length is only the other side's word, so what it makes us allocate is small.
	all := make([]byte, length)
	_, err := io.ReadFull(body, all)
	return all, err
}

// patience is how long the handler may take: as long as the client says that
// it waits (RFC 7240, section 4.3), and no longer than the server allows.
func (m *Served) patience(r *http.Request) time.Duration {
	header := r.Header.Get("Prefer")
	if header == "" {
		return m.timeout
	}
	for preference := range strings.SplitSeq(header, ",") {
		if value, ok := strings.CutPrefix(strings.TrimSpace(preference), "wait="); ok {
			if seconds, err := strconv.Atoi(value); err == nil && seconds > 0 && seconds < int(m.timeout/time.Second) {
				return time.Duration(seconds) * time.Second
			}
		}
	}
	return m.timeout
}

// ErrNotImplemented is the error of a handler that is not written yet: it is
// answered with 501, as a call without a handler is.
var ErrNotImplemented = errors.New("not implemented")

// run runs a handler inside of the middleware; a panic becomes an error.
func (x *exchange) run(ctx context.Context, handler func(ctx context.Context) error) error {
	if !x.route.Implemented {
		return ErrNotImplemented
	}
	next := handler
	for _, middleware := range slices.Backward(x.mount.middleware) {
		inner := next
		next = func(ctx context.Context) error { return middleware(ctx, x.route.Call, inner) }
	}
	return guard(func() error { return next(ctx) })
}

// fail answers with what a handler failed with.
func (x *exchange) fail(ctx context.Context, err error) {
	x.failedWith(err)
	p, headers := x.problemOf(ctx, err)
	for name, value := range headers {
		x.w.Header().Set(name, value)
	}
	x.mount.write(x.w, x.r, p)
}

// problemOf turns an error into what the caller may know of it: as it is when
// the call declares it, else without anything of the inside.
func (x *exchange) problemOf(ctx context.Context, err error) (p *Problem, headers map[string]string) {
	m, call := x.mount, x.route.Call
	var declared DeclaredError
	if errors.As(err, &declared) {
		name := declared.ErrorName()
		if !slices.ContainsFunc(call.Fails, func(f Failure) bool { return f.Name == name }) {
			err = fmt.Errorf("%s failed with %s, which it does not declare; add it to fails: %w", call.Name, name, err)
		} else if fields, encodeErr := encode(JSON, declared); encodeErr != nil {
			err = encodeErr
		} else {
			return &Problem{Type: m.base + "/-/errors/" + name, Title: m.title(name), Status: declared.ErrorStatus(),
				Fields: fields}, nil
		}
	}
	var refused *refusedCredential
	var request *requestError
	var overloaded *overload
	var refusal *Refusal
	if errors.As(err, &refusal) {
		p, headers, wrong := refusal.problem(m.base)
		if wrong == nil {
			return p, headers
		}
		err = wrong
	}
	switch {
	case errors.Is(err, errUnavailable):
		return commonProblem(m.base, "unavailable", errUnavailable.Error()), nil
	case errors.Is(err, ErrNotImplemented):
		return commonProblem(m.base, "not-implemented", call.Name+" is not implemented here"), nil
	case errors.As(err, &refused):
		return commonProblem(m.base, refused.problem, refused.detail), nil
	case errors.As(err, &overloaded):
		return commonProblem(m.base, "overloaded", "the server has too much to do"),
			map[string]string{"Retry-After": strconv.Itoa(overloaded.seconds)}
	case errors.As(err, &request):
		return request.problem, nil
	case errors.Is(ctx.Err(), context.DeadlineExceeded) && x.r.Context().Err() == nil:
		return commonProblem(m.base, "too-slow", "the call took too long"), map[string]string{"Retry-After": "1"}
	}
	if x.r.Context().Err() == nil || !errors.Is(err, context.Canceled) {
		m.report(ctx, call.Name, err)
	}
	return commonProblem(m.base, "internal", ""), nil
}

type overload struct{ seconds int }

func (e *overload) Error() string { return "overloaded" }

// Overloaded is the error of a handler or middleware that has too much to do: it
// is answered with 503, and when to try again.
func Overloaded(retryAfter time.Duration) error {
	return &overload{max(0, int((retryAfter+time.Second-1)/time.Second))}
}

// title is the first line of an error's documentation, or its name.
func (m *Served) title(name string) string {
	for _, e := range m.definitions.Errors {
		if e.Name == name && e.Doc != "" {
			line, _, _ := strings.Cut(e.Doc, "\n")
			return line
		}
	}
	return name[strings.LastIndexByte(name, '.')+1:]
}

func (m *Served) problem(w http.ResponseWriter, r *http.Request, name, detail string) {
	m.write(w, r, commonProblem(m.base, name, detail))
}

// write answers with problem details. What is left of the request is read and
// dropped before the connection may close.
func (m *Served) write(w http.ResponseWriter, r *http.Request, p *Problem) {
	body, err := json.Marshal(p)
	if err != nil {
		m.report(r.Context(), p.Name(), err)
	}
	if p.Status == http.StatusServiceUnavailable && w.Header().Get("Retry-After") == "" {
		w.Header().Set("Retry-After", "1")
	}
	controller := http.NewResponseController(w)
	unread := r.ContentLength != 0 && r.ProtoMajor == 1
	if unread {
		// Without it the server would wait for the rest of the request first.
		_ = controller.EnableFullDuplex()
	}
	w.Header().Set("Content-Type", problemJSON)
	w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	m.deliver(w, r, p.Status, body)
	if unread {
		drain(controller, r.Body)
	}
}

// How long drain reads on: without any progress, in all, and so many octets at most.
const (
	drainPause  = 2 * time.Second
	drainTime   = 10 * time.Second
	drainOctets = 64 << 20
)

// drain reads on after an early answer: a client that is still sending would lose the
// answer if the connection were closed on it. Only where the request ends as it should
// does the connection go on: after anything else, nothing is a request.
func drain(controller *http.ResponseController, body io.Reader) {
	if controller.Flush() != nil {
		return
	}
	buffer := make([]byte, 32<<10)
	until := time.Now().Add(drainTime)
	for total := 0; total < drainOctets; {
		deadline := time.Now().Add(drainPause)
		if deadline.After(until) {
			deadline = until
		}
		if controller.SetReadDeadline(deadline) != nil {
			return // no connection: a recorder of tests
		}
		n, err := body.Read(buffer)
		if errors.Is(err, io.EOF) {
			return // and the server sets the deadlines of the next request
		}
		if err != nil {
			break
		}
		total += n
	}
	hangUp(controller)
}

// hangUp closes a connection after what was written has had its time to arrive.
func hangUp(controller *http.ResponseController) {
	conn, _, err := controller.Hijack()
	if err != nil {
		panic(http.ErrAbortHandler) // which closes it at once
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(500 * time.Millisecond))
	if half, ok := conn.(interface{ CloseWrite() error }); ok && half.CloseWrite() == nil {
		_, _ = io.CopyN(io.Discard, conn, 1<<20)
	}
}
