package web

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"math/rand/v2"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// Client sends calls to one server.
type Client struct {
	base        *url.URL
	baseErr     error
	digest      string
	json        bool
	http        *http.Client
	headers     http.Header
	credentials map[string]source
	middleware  []ClientMiddleware
	timeout     time.Duration
	waits       []string // what prefer says of timeout
	idle        time.Duration
	tries       int
	limit       int64
	items       int
	element     int
	compression bool
	ownHTTP     bool // whether http is another one than ours
	onDigest    func(theirs string)
	answered    *http.Header // where the headers of an answer go
	watch       Watcher
	watching    *watching // of the one call that this client makes, where it is watched
}

// ClientMiddleware runs around every HTTP request of a client; next sends it.
// CallOf tells which call a request is of.
type ClientMiddleware func(r *http.Request, next func(*http.Request) (*http.Response, error)) (*http.Response, error)

// ClientOption changes how a client calls.
type ClientOption func(*Client)

// WithJSON makes a client send and ask for JSON instead of CBOR.
func WithJSON() ClientOption { return func(c *Client) { c.json = true } }

// WithHTTPClient makes a client use another http.Client, for its transport.
// Redirects are never followed.
func WithHTTPClient(h *http.Client) ClientOption {
	return func(c *Client) {
		own := *h
		c.http, c.ownHTTP = &own, true
	}
}

// WithHeader adds a header to every request.
func WithHeader(name, value string) ClientOption {
	return func(c *Client) { c.headers.Add(name, value) }
}

// WithCredential gives a client the value of a credential, by its name with or
// without its module; that of basic credentials is "user:password".
func WithCredential(name, value string) ClientOption {
	return func(c *Client) { c.credentials[name] = source{value: value} }
}

// WithCredentialFunc is WithCredential for a value that is asked for on every
// call. A call whose time is over does not wait for it any more.
func WithCredentialFunc(name string, value func(ctx context.Context) (string, error)) ClientOption {
	return func(c *Client) { c.credentials[name] = source{ask: value} }
}

// WithClientMiddleware adds middleware; the first added is the outermost.
func WithClientMiddleware(middleware ...ClientMiddleware) ClientOption {
	return func(c *Client) { c.middleware = append(c.middleware, middleware...) }
}

// WithTimeout limits the time of each call and of everything that it waits for:
// credentials, tries and the pauses between them. The default is 60 s; 0 means no limit. Of
// a stream it limits the time until it begins.
func WithTimeout(d time.Duration) ClientOption { return func(c *Client) { c.timeout = orForever(d) } }

// WithStreamIdle limits how long a stream may be silent; the default is 60 s, 0 means no limit.
func WithStreamIdle(d time.Duration) ClientOption { return func(c *Client) { c.idle = orForever(d) } }

// forever is as good as no limit.
const forever = time.Duration(1 << 62)

func orForever(d time.Duration) time.Duration {
	if d <= 0 {
		return forever
	}
	return d
}

// WithTries changes how often a call that is safe or idempotent is sent at most;
// the default is 4, and 1 never repeats.
func WithTries(n int) ClientOption { return func(c *Client) { c.tries = n } }

// WithAnswerItemLimit is how many list items and entries an answer, or an
// element of one, may contain; 1,000,000 unless said otherwise.
func WithAnswerItemLimit(items int) ClientOption { return func(c *Client) { c.items = items } }

// WithAnswerLimit changes how large an answer may be; the default is 4 MiB.
func WithAnswerLimit(octets int64) ClientOption {
	return func(c *Client) { c.limit = min(octets, mostOctets) }
}

// WithStreamElementLimit changes how large an element of a stream may be; the
// default is 1 MiB.
func WithStreamElementLimit(octets int) ClientOption {
	return func(c *Client) { c.element = min(octets, math.MaxInt32) }
}

// WithDigestHook calls hook when a server's definitions are not the ones that
// this client was generated from. The call goes on all the same.
func WithDigestHook(hook func(theirs string)) ClientOption {
	return func(c *Client) { c.onDigest = hook }
}

// CallOption changes how one call is made.
type CallOption func(*Client)

// CallTimeout is WithTimeout for one call.
func CallTimeout(d time.Duration) CallOption {
	return func(c *Client) {
		c.timeout = orForever(d)
		c.waits = waits(c.timeout)
	}
}

// CallHeader sets a header of one call's request.
func CallHeader(name, value string) CallOption {
	return func(c *Client) {
		c.headers = c.headers.Clone()
		c.headers.Set(name, value)
	}
}

// CallCredential is WithCredential for one call.
func CallCredential(name, value string) CallOption {
	return func(c *Client) {
		c.credentials = maps.Clone(c.credentials)
		maps.DeleteFunc(c.credentials, func(known string, _ source) bool {
			return strings.HasSuffix("."+known, "."+name) || strings.HasSuffix("."+name, "."+known)
		})
		c.credentials[name] = source{value: value}
	}
}

// CallAnswered has the headers of one call's answer written to into, once it begins; of a refusal,
// too.
func CallAnswered(into *http.Header) CallOption { return func(c *Client) { c.answered = into } }

// For returns a client that makes one call with options of its own.
func (c *Client) For(options []CallOption) *Client {
	if len(options) == 0 {
		return c
	}
	own := *c
	for _, option := range options {
		option(&own)
	}
	return &own
}

// NewClient returns a client of the server at base, such as
// "http://127.0.0.1:8080". digest is that of the client's definitions.
func NewClient(base, digest string, options ...ClientOption) *Client {
	c := &Client{digest: digest, http: &http.Client{Transport: manyIdle()}, headers: http.Header{},
		credentials: map[string]source{},
		timeout:     time.Minute, idle: time.Minute, tries: 4, limit: 4 << 20, items: wire.DefaultBudget, element: 1 << 20}
	var err error
	c.base, err = url.Parse(strings.TrimRight(base, "/"))
	if err != nil || c.base.Host == "" || c.base.Scheme != "http" && c.base.Scheme != "https" {
		example := base
		if base == "" || strings.Contains(base, "//") {
			example = "127.0.0.1:8080"
		}
		c.baseErr = fmt.Errorf("%q is not the URL of a server; write, for example: http://%s", base, example)
	}
	for _, option := range options {
		option(c)
	}
	c.waits = waits(c.timeout)
	c.http.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return c
}

type callKey struct{}

// CallOf returns the call that a context of a client's request is of, or nil.
func CallOf(ctx context.Context) *Call {
	call, _ := ctx.Value(callKey{}).(*Call)
	return call
}

// Do sends one call; request and answer are nil for "()". The error is one that the call
// declares, a *Problem, an *Unreachable, a *NotModified or a *BadAnswer; or it says why
// nothing was sent.
func (c *Client) Do(ctx context.Context, call *Call, request, answer Message) error {
	ctx, c = c.watched(ctx, call)
	if call.Travel.raw() != nil || call.AnswerTravel.raw() != nil {
		return c.doRaw(ctx, call, request, answer)
	}
	err := c.do(ctx, call, request, answer)
	c.ended(err)
	return err
}

func (c *Client) do(ctx context.Context, call *Call, request, answer Message) error {
	ctx, cancel := c.limited(ctx)
	defer cancel()
	response, err := c.open(ctx, call, request, c.encoding())
	if err != nil {
		return err
	}
	defer response.Body.Close()
	return c.read(call, response, answer)
}

// limited is a context with the client's timeout.
func (c *Client) limited(ctx context.Context) (context.Context, context.CancelFunc) {
	if c.timeout == forever {
		return context.WithCancel(ctx)
	}
	return context.WithTimeout(ctx, c.timeout)
}

// encoding is the media type of payloads.
func (c *Client) encoding() string {
	if c.json {
		return JSON
	}
	return CBOR
}

func (c *Client) sequence() string {
	if c.json {
		return JSONSeq
	}
	return CBORSeq
}

// read reads an answer that is not a stream.
func (c *Client) read(call *Call, response *http.Response, answer Message) error {
	body, err := c.body(call, response)
	if err != nil {
		return err
	}
	return c.understand(call, response, body, answer)
}

// body reads the whole body of an answer.
func (c *Client) body(call *Call, response *http.Response) ([]byte, error) {
	body, err := readAll(response.Body, response.ContentLength, c.limit)
	if err != nil {
		return nil, &Unreachable{Call: call.Name, Err: err}
	}
	plain, large, err := plainBody(response.Header, body, c.limit)
	if large {
		err = fmt.Errorf("it is larger than %d bytes", c.limit)
	}
	if err != nil {
		return nil, &BadAnswer{Call: call.Name, Status: response.StatusCode, Err: err}
	}
	return plain, nil
}

// understand makes an answer, or an error, of an answer's body.
func (c *Client) understand(call *Call, response *http.Response, body []byte, answer Message) error {
	bad := func(err error) error { return &BadAnswer{Call: call.Name, Status: response.StatusCode, Err: err} }
	encoding := mediaType(response.Header.Get("Content-Type"))
	switch {
	case response.StatusCode == http.StatusNotModified && response.Request.Header["If-None-Match"] != nil:
		return &NotModified{Call: call.Name, ETag: response.Header.Get("Etag")}
	case !call.succeeds(response.StatusCode):
		return failure(call, response.StatusCode, encoding, body)
	case answer == nil:
		return nil
	}
	travel := call.AnswerTravel
	if travel == nil {
		if err := c.decode(encoding, body, answer.(wire.Message)); err != nil {
			return bad(err)
		}
		return nil
	}
	var inBody wire.Message
	if travel.NewBody != nil {
		inBody = travel.NewBody()
		if len(body) == 0 { // reads as if all of it were absent
			encoding, body = JSON, []byte("{}")
		}
		if err := c.decode(encoding, body, inBody); err != nil {
			return bad(err)
		}
	}
	return c.take(call, response, answer, inBody)
}

// take fills an answer from what of it came in the body and what came elsewhere.
func (c *Client) take(call *Call, response *http.Response, answer Message, inBody wire.Message) error {
	a := &Arguments{placed: call.AnswerTravel.Placed, values: received(response)}
	call.AnswerTravel.Take(answer, inBody, a)
	if len(a.violations) > 0 {
		v := a.violations[0]
		return &BadAnswer{Call: call.Name, Status: response.StatusCode,
			Err: fmt.Errorf("%s in its %s %s", v.Pointer, v.In, v.Detail)}
	}
	return nil
}

// decode reads a body of an encoding.
func (c *Client) decode(encoding string, body []byte, into wire.Message) error {
	switch {
	case encoding == "" && len(body) == 0:
		return errors.New("it has no body")
	case encoding != CBOR && encoding != JSON:
		return fmt.Errorf("its type is %q", encoding)
	}
	return decode(encoding, body, into, c.items)
}

// open sends a request until it is answered, as often as it may be repeated.
func (c *Client) open(ctx context.Context, call *Call, request Message, accept string) (*http.Response, error) {
	return c.openWith(ctx, call, request, accept, nil)
}

// openWith is open with a request that is changed before each try; change may be nil.
func (c *Client) openWith(ctx context.Context, call *Call, request Message, accept string,
	change func(*http.Request)) (*http.Response, error) {
	r, err := c.request(ctx, call, request, accept)
	if err != nil {
		return nil, unsent(call, err)
	}
	tries := c.tries
	if !call.Safe && !call.Idempotent || call.RequestStream ||
		call.Travel.raw() != nil && r.Body != http.NoBody && r.GetBody == nil {
		tries = 1
	}
	for try := 1; ; try++ {
		if change != nil {
			change(r)
		}
		response, err := c.send(r)
		if err != nil {
			err = &Unreachable{Call: call.Name, Err: err}
		}
		wait, again := retry(response, err, try)
		if deadline, ok := ctx.Deadline(); try >= tries || !again || ok && time.Until(deadline) <= wait {
			return response, err
		}
		if response != nil {
			_, _ = io.CopyN(io.Discard, response.Body, 64<<10) // so that the connection can be used again
			response.Body.Close()
		}
		pause := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			pause.Stop()
			return nil, &Unreachable{Call: call.Name, Err: ctx.Err()}
		case <-pause.C:
		}
		if r.GetBody != nil {
			r.Body, _ = r.GetBody() // from memory, so it can't fail
		}
	}
}

// unsent says which call was not sent, unless the error does.
func unsent(call *Call, err error) error {
	if _, says := err.(*MissingCredential); says {
		return err
	}
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled) {
		return &Unreachable{Call: call.Name, Err: err}
	}
	return fmt.Errorf("%s: %w", call.Name, err)
}

// send sends one request through the middleware.
func (c *Client) send(r *http.Request) (*http.Response, error) {
	if c.watching != nil {
		c.watching.leaves(r)
	}
	response, err := c.within(r, c.through(c.http.Do))
	if err != nil {
		return nil, withoutQuery(err)
	}
	if c.watching != nil {
		c.watching.arrives(response)
	}
	if c.answered != nil {
		*c.answered = response.Header
	}
	if theirs := response.Header.Get("Faithful-Definitions"); c.onDigest != nil && theirs != "" && theirs != c.digest {
		c.onDigest(theirs)
	}
	return response, nil
}

// roundTrip is what sends a request; it is a transport, too.
type roundTrip func(*http.Request) (*http.Response, error)

func (f roundTrip) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }

// through puts the middleware around what sends a request.
func (c *Client) through(next roundTrip) roundTrip {
	for _, middleware := range slices.Backward(c.middleware) {
		inner := next
		next = func(r *http.Request) (*http.Response, error) { return middleware(r, inner) }
	}
	return next
}

// manyIdle is Go's own transport, with as many connections kept to one server as calls at
// once are likely: its 2 make more calls open a new one each.
var manyIdle = sync.OnceValue(func() http.RoundTripper {
	own, ok := http.DefaultTransport.(*http.Transport)
	if !ok {
		return http.DefaultTransport // replaced by the program
	}
	transport := own.Clone()
	transport.MaxIdleConns, transport.MaxIdleConnsPerHost = 0, 64
	transport.DisableCompression = true // whoever needs it asks for it
	return transport
})

// within sends a request, and gives up what was written by others, such as middleware,
// where that goes on beyond the call's time.
func (c *Client) within(r *http.Request, next roundTrip) (*http.Response, error) {
	if len(c.middleware) == 0 && c.http.Transport == manyIdle() {
		return next(r)
	}
	type result struct {
		response *http.Response
		err      error
	}
	came := make(chan result, 1)
	go func() {
		response, err := next(r)
		came <- result{response, err}
	}()
	select {
	case got := <-came:
		return got.response, got.err
	case <-r.Context().Done():
	}
	select {
	case got := <-came: // it has heard of it, or was done
		return got.response, got.err
	case <-time.After(100 * time.Millisecond):
	}
	go func() {
		if got := <-came; got.response != nil {
			got.response.Body.Close()
		}
	}()
	return nil, r.Context().Err()
}

// withoutQuery takes from the text of an error what may contain a credential.
func withoutQuery(err error) error {
	var sent *url.Error
	if !errors.As(err, &sent) {
		return err
	}
	shown, _, _ := strings.Cut(sent.URL, "?")
	return &url.Error{Op: sent.Op, URL: shown, Err: sent.Err}
}

// retry tells whether a call may be sent again after what came of it, and how
// long to wait: exponential, with full jitter, or what Retry-After says.
func retry(response *http.Response, err error, try int) (time.Duration, bool) {
	wait := time.Duration(rand.Int64N(int64(100*time.Millisecond) << min(try, 6)))
	if err != nil {
		refused := errors.Is(err, syscall.ECONNREFUSED)
		// A kept-alive connection that was closed before it answered anything.
		stale := errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) ||
			strings.Contains(err.Error(), "server closed idle connection")
		return wait, refused || stale
	}
	switch response.StatusCode {
	case http.StatusTooManyRequests, http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
	default:
		return 0, false
	}
	after := response.Header.Get("Retry-After")
	if seconds, err := strconv.ParseUint(after, 10, 64); err == nil || errors.Is(err, strconv.ErrRange) {
		return time.Duration(min(seconds, uint64(forever/time.Second))) * time.Second, true
	}
	if at, err := http.ParseTime(after); err == nil {
		return max(0, time.Until(at)), true
	}
	return wait, true
}

func (c *Client) request(ctx context.Context, call *Call, request Message, accept string) (*http.Request, error) {
	if c.baseErr != nil {
		return nil, c.baseErr
	}
	var p Parameters
	if request != nil {
		if reflect.ValueOf(request).IsNil() {
			return nil, errNil
		}
		violations := request.AppendViolations(nil, "")
		if call.Travel != nil {
			call.Travel.Place(request, &p)
			violations = append(locate(violations, call.Travel.Placed), p.violations...)
			if err := p.Err(); err != nil {
				return nil, err
			}
		}
		if err := wire.InvalidOf(violations); err != nil {
			return nil, err
		}
	}
	if len(c.middleware) > 0 {
		ctx = context.WithValue(ctx, callKey{}, call)
	}
	r := (&http.Request{Method: call.Method, Header: make(http.Header, 4+len(c.headers)), Host: c.base.Host,
		Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1}).WithContext(ctx)
	for name, values := range c.headers {
		r.Header[name] = slices.Clone(values) // a request may be changed by middleware
	}
	for name, values := range p.header {
		r.Header[name] = values
	}
	if err := c.present(ctx, call, r, &p); err != nil {
		return nil, err
	}
	r.URL = c.target(call, &p)
	r.Header["Accept"] = single(accept)
	switch {
	case c.compression:
		r.Header["Accept-Encoding"] = []string{"gzip"}
	case c.ownHTTP && r.Header["Accept-Encoding"] == nil:
		r.Header["Accept-Encoding"] = []string{"identity"} // else Go's transport would ask for gzip
	}
	if len(p.cookies) > 0 {
		r.Header["Cookie"] = []string{p.cookieText()}
	}
	if raw := call.Travel.raw(); raw != nil {
		sendRaw(r, raw, request)
	} else if body := bodyOf(call, request); body != nil {
		data, err := encode(c.encoding(), body)
		if err != nil { // what can't be written is a violation, too
			return nil, unwritable(err)
		}
		r.Header["Content-Type"] = single(c.encoding())
		if c.compression && len(data) > compressedFrom {
			data = compressed(data)
			r.Header["Content-Encoding"] = []string{"gzip"}
		}
		r.ContentLength = int64(len(data))
		r.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }
		r.Body, _ = r.GetBody()
	}
	if deadline, ok := ctx.Deadline(); ok && time.Until(deadline) < forever/2 && !call.AnswerStream &&
		!call.RequestStream && call.Travel.raw() == nil && call.AnswerTravel.raw() == nil {
		r.Header["Prefer"] = c.prefer(seconds(time.Until(deadline)))
	}
	passTrace(ctx, r.Header)
	return r, nil
}

// bodyOf is what of a request travels in the body; nil for nothing.
func bodyOf(call *Call, request Message) wire.Message {
	if request == nil {
		return nil
	}
	return call.Travel.bodyOf(request)
}

// unwritable turns what can't be written into a violation.
func unwritable(err error) error {
	var e *wire.Error
	if !errors.As(err, &e) {
		return err
	}
	return &wire.InvalidRequest{Violations: []wire.Violation{{Pointer: e.Path, Detail: e.Detail}}}
}

// seconds are those of a time, rounded up, at least one.
func seconds(d time.Duration) int { return max(1, int((d+time.Second-1)/time.Second)) }

// waits is what prefer says of a client's own timeout.
func waits(timeout time.Duration) []string { return []string{"wait=" + strconv.Itoa(seconds(timeout))} }

// prefer is how a client says how long it waits (RFC 7240, section 4.3). Most
// calls wait as long as the client does.
func (c *Client) prefer(n int) []string {
	if n == seconds(c.timeout) {
		return c.waits
	}
	return []string{"wait=" + strconv.Itoa(n)}
}

// target is the URL of a call with what travels in it.
func (c *Client) target(call *Call, p *Parameters) *url.URL {
	u := *c.base
	path := call.Path
	if len(p.path) == 0 && u.RawPath == "" { // nothing of it has to be escaped
		u.Path += path
		u.RawQuery = strings.Join(p.query, "&")
		return &u
	}
	for name, value := range p.path {
		path = strings.Replace(path, "{"+name+"}", value, 1)
	}
	u.RawPath = c.base.EscapedPath() + path
	u.Path, _ = url.PathUnescape(u.RawPath) // it was escaped above
	u.RawQuery = strings.Join(p.query, "&")
	return &u
}

// failure turns an answer that is not a success into an error.
func failure(call *Call, status int, encoding string, body []byte) error {
	bad := func(err error) error { return &BadAnswer{Call: call.Name, Status: status, Err: err} }
	switch {
	case encoding != problemJSON && status >= 400:
		return &Problem{Type: blank, Title: statusText(status), Status: status, Detail: beginning(body)}
	case encoding != problemJSON:
		return bad(errors.New("it is not problem details"))
	}
	p := &Problem{}
	if err := json.Unmarshal(body, p); err != nil {
		return bad(err)
	}
	if p.Status == 0 {
		p.Status = status
	}
	return typed(call, p)
}

// beginning is how a text begins that somebody else wrote.
func beginning(body []byte) string {
	const most = 200
	text := strings.Join(strings.Fields(strings.ToValidUTF8(string(body[:min(len(body), 4*most)]), "")), " ")
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return text
}

// typed returns the error that a call declares where a problem is one.
func typed(call *Call, p *Problem) error {
	name := p.Name()
	for _, f := range call.Fails {
		if f.Name != name {
			continue
		}
		e := f.New()
		if err := wire.UnmarshalTextWithin(p.Fields, e, wire.DefaultBudget); err != nil {
			return &BadAnswer{Call: call.Name, Status: p.Status, Err: err}
		}
		return e
	}
	return p
}
