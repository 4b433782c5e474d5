package web

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// Client sends calls to one server.
type Client struct {
	base     string
	digest   string
	form     string
	http     *http.Client
	headers  http.Header
	timeout  time.Duration
	limit    int64
	onDigest func(theirs string)
}

// ClientOption changes how a client calls.
type ClientOption func(*Client)

// WithJSON makes a client send and ask for JSON instead of CBOR.
func WithJSON() ClientOption { return func(c *Client) { c.form = JSON } }

// WithHTTPClient makes a client use another http.Client, for its transport.
// Redirects are never followed.
func WithHTTPClient(h *http.Client) ClientOption {
	return func(c *Client) {
		own := *h
		c.http = &own
	}
}

// WithHeader adds a header to every request.
func WithHeader(name, value string) ClientOption {
	return func(c *Client) { c.headers.Add(name, value) }
}

// WithTimeout limits the time of each call; the default is 60 s.
func WithTimeout(d time.Duration) ClientOption { return func(c *Client) { c.timeout = d } }

// WithAnswerLimit changes how large an answer may be; the default is 4 MiB.
func WithAnswerLimit(octets int64) ClientOption { return func(c *Client) { c.limit = octets } }

// WithDigestHook calls hook when a server's definitions are not the ones that
// this client was generated from. The call goes on all the same.
func WithDigestHook(hook func(theirs string)) ClientOption {
	return func(c *Client) { c.onDigest = hook }
}

// NewClient returns a client of the server at base, such as
// "http://127.0.0.1:8080". digest is that of the client's definitions.
func NewClient(base, digest string, options ...ClientOption) *Client {
	c := &Client{base: strings.TrimRight(base, "/"), digest: digest, form: CBOR, http: &http.Client{}, headers: http.Header{}, timeout: time.Minute, limit: 4 << 20}
	for _, option := range options {
		option(c)
	}
	c.http.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return c
}

// Do sends one call. A nil request or answer is "()". The error is one that
// the call declares, a *Problem, an *Unreachable or a *BadAnswer; or it says
// why the request could not be written.
func (c *Client) Do(ctx context.Context, call *Call, request, answer wire.Message) error {
	ctx, cancel := context.WithTimeout(ctx, c.timeout)
	defer cancel()
	r, err := c.request(ctx, call, request)
	if err != nil {
		return fmt.Errorf("%s: %w", call.Name, err)
	}
	response, err := c.http.Do(r)
	if err != nil {
		return &Unreachable{Call: call.Name, Err: err}
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, c.limit+1))
	if err != nil {
		return &Unreachable{Call: call.Name, Err: err}
	}
	if theirs := response.Header.Get("Faithful-Definitions"); c.onDigest != nil && theirs != "" && theirs != c.digest {
		c.onDigest(theirs)
	}
	bad := func(err error) error { return &BadAnswer{Call: call.Name, Status: response.StatusCode, Err: err} }
	if int64(len(body)) > c.limit {
		return bad(fmt.Errorf("it is larger than %d bytes", c.limit))
	}
	form := mediaType(response.Header.Get("Content-Type"))
	switch {
	case response.StatusCode/100 != 2:
		return failure(call, response.StatusCode, form, body, bad)
	case answer == nil:
		return nil
	case form != CBOR && form != JSON:
		return bad(fmt.Errorf("its type is %q", form))
	}
	if err := decode(form, body, answer); err != nil {
		return bad(err)
	}
	return nil
}

func (c *Client) request(ctx context.Context, call *Call, request wire.Message) (*http.Request, error) {
	var body io.Reader = http.NoBody
	if request != nil {
		if err := wire.Validate(request); err != nil {
			return nil, err
		}
		data, err := encode(c.form, request)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(data)
	}
	r, err := http.NewRequestWithContext(ctx, call.Method, c.base+call.Path, body)
	if err != nil {
		return nil, err
	}
	for name, values := range c.headers {
		r.Header[name] = values
	}
	r.Header.Set("Accept", c.form)
	if request != nil {
		r.Header.Set("Content-Type", c.form)
	}
	if deadline, ok := ctx.Deadline(); ok {
		seconds := max(1, int(math.Ceil(time.Until(deadline).Seconds())))
		r.Header.Set("Prefer", "wait="+strconv.Itoa(seconds)) // RFC 7240, section 4.3
	}
	return r, nil
}

// failure turns an answer that is no success into an error.
func failure(call *Call, status int, form string, body []byte, bad func(error) error) error {
	if form != problemJSON {
		return bad(errors.New("it is no problem details"))
	}
	p := &Problem{}
	if err := json.Unmarshal(body, p); err != nil {
		return bad(err)
	}
	if p.Status == 0 {
		p.Status = status
	}
	for _, f := range call.Fails {
		if f.Name != p.Name() {
			continue
		}
		e := f.New()
		if err := wire.UnmarshalText(p.Fields, e); err != nil {
			return bad(err)
		}
		return e
	}
	return p
}
