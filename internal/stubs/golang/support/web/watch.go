package web

import (
	"context"
	"errors"
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"time"
)

// Watched is how a call went.
type Watched struct {
	Start    time.Time
	Duration time.Duration
	Status   int   // HTTP, of the last try; 0 where no answer began
	Tries    int   // how often a client sent it; 0 for servers, and where nothing was sent
	Received int64 // octets of the body that came, or of a stream's elements; of all tries
	Sent     int64 // octets of the body that went; of all tries
	// Err is what the call failed with, in the middle of a stream, too. At a server it is nil for
	// what the server refused by itself; at a client it is what the caller gets, but nil for
	// *NotModified.
	Err error
}

// Watcher is told that a call begins; the context that it returns is the call's, and what it
// returns is told how it went. A trace in that context (WithTrace) goes with a client's call.
type Watcher func(ctx context.Context, call *Call) (context.Context, func(Watched))

// WithWatcher has each call told to watch when it begins and ends: for metrics, logs and traces.
func WithWatcher(watch Watcher) ServerOption { return func(m *Served) { m.watch = watch } }

// WithClientWatcher has each call of a client told to watch when it begins and ends: a stream or
// a raw body ends when it was read or given up, a conversation when it is closed.
func WithClientWatcher(watch Watcher) ClientOption { return func(c *Client) { c.watch = watch } }

// watching counts what goes through one call.
type watching struct {
	start    time.Time
	status   int
	tries    int
	received atomic.Int64
	sent     atomic.Int64
	failed   error
	done     func(Watched)
	once     sync.Once
}

func (w *watching) result() Watched {
	return Watched{Start: w.start, Duration: time.Since(w.start), Status: w.status, Tries: w.tries,
		Received: w.received.Load(), Sent: w.sent.Load(), Err: w.failed}
}

// watched begins to watch an exchange.
func (x *exchange) watched() {
	w := &watching{start: time.Now(), done: func(Watched) {}}
	failed := guard(func() error {
		ctx, done := x.mount.watch(x.ctx, x.route.Call)
		if ctx == nil || done == nil {
			return errors.New("the watcher returned no context, or nothing to be told")
		}
		x.ctx, w.done = ctx, done
		return nil
	})
	if failed != nil {
		x.mount.report(x.r.Context(), x.route.Call.Name, failed)
	}
	x.watch = w
	x.w = &watchedWriter{x.w, w}
	x.r = x.r.WithContext(x.r.Context()) // so that the body is this call's alone
	x.r.Body = &counted{x.r.Body, &w.received}
}

// ended tells how the call went.
func (x *exchange) ended() {
	if failed := guard(func() error { x.watch.done(x.watch.result()); return nil }); failed != nil {
		x.mount.report(x.r.Context(), x.route.Call.Name, failed)
	}
}

// failedWith keeps what a call failed with, for who watches it.
func (x *exchange) failedWith(err error) {
	if x.watch != nil {
		x.watch.failed = err
	}
}

type watchedWriter struct {
	http.ResponseWriter
	w *watching
}

func (w *watchedWriter) WriteHeader(status int) {
	w.w.status = status
	w.ResponseWriter.WriteHeader(status)
}

func (w *watchedWriter) Write(b []byte) (int, error) {
	if w.w.status == 0 {
		w.w.status = http.StatusOK
	}
	n, err := w.ResponseWriter.Write(b)
	w.w.sent.Add(int64(n))
	return n, err
}

// Unwrap gives http.ResponseController what is inside.
func (w *watchedWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// counted is a body whose octets are counted as they are read.
type counted struct {
	io.ReadCloser
	octets *atomic.Int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.octets.Add(int64(n))
	return n, err
}

// watched begins to watch a call: the client that it returns makes that one call.
func (c *Client) watched(ctx context.Context, call *Call) (context.Context, *Client) {
	if c.watch == nil {
		return ctx, c
	}
	own := *c
	own.watching = &watching{start: time.Now()}
	of, done := c.watch(ctx, call)
	if of != nil {
		ctx = of
	}
	own.watching.done = done
	return ctx, &own
}

// ended tells the watcher, once, that the call is over.
func (c *Client) ended(err error) {
	w := c.watching
	if w == nil || w.done == nil {
		return
	}
	var same *NotModified
	if !errors.As(err, &same) {
		w.failed = err
	}
	w.once.Do(func() { w.done(w.result()) })
}

// leaves counts a try, and what it sends.
func (w *watching) leaves(r *http.Request) {
	w.tries++
	w.status = 0
	if r.Body != nil && r.Body != http.NoBody {
		r.Body = &counted{r.Body, &w.sent}
	}
}

// arrives counts what comes of a try.
func (w *watching) arrives(response *http.Response) {
	w.status = response.StatusCode
	response.Body = &counted{response.Body, &w.received}
}
