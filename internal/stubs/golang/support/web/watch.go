package web

import (
	"context"
	"errors"
	"io"
	"net/http"
	"sync/atomic"
	"time"
)

// Watched is how a call went.
type Watched struct {
	Start    time.Time
	Duration time.Duration
	Status   int   // HTTP; 0 where no answer began
	Received int64 // octets of the body that came, or of a stream's elements
	Sent     int64 // octets of the body that went
	Err      error // what it failed with, in the middle of a stream, too; nil for what the server refused by itself
}

// Watcher is told that a call begins; the context that it returns is the call's, and what it
// returns is told how it went.
type Watcher func(ctx context.Context, call *Call) (context.Context, func(Watched))

// WithWatcher has each call told to watch when it begins and ends: for metrics, logs and traces.
func WithWatcher(watch Watcher) ServerOption { return func(m *Served) { m.watch = watch } }

// watching counts what goes through one call.
type watching struct {
	start    time.Time
	status   int
	received atomic.Int64
	sent     atomic.Int64
	failed   error
	done     func(Watched)
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
	x.r.Body = &watchedBody{x.r.Body, w}
}

// ended tells how the call went.
func (x *exchange) ended() {
	w := x.watch
	result := Watched{w.start, time.Since(w.start), w.status, w.received.Load(), w.sent.Load(), w.failed}
	if failed := guard(func() error { w.done(result); return nil }); failed != nil {
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

type watchedBody struct {
	io.ReadCloser
	w *watching
}

func (b *watchedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.w.received.Add(int64(n))
	return n, err
}
