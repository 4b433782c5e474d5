package web

import (
	"context"
	"errors"
	"sync"
)

// errUnavailable ends what goes on when a server shuts down.
var errUnavailable = errors.New("the server is shutting down")

// life tells a mount's calls when it shuts down, and it when they are done.
type life struct {
	over   context.Context // done once the mount shuts down
	ending context.CancelFunc

	mu     sync.Mutex
	active int
	idle   chan struct{} // closed when none is active any more; nil until somebody waits
}

func newLife() *life {
	over, ending := context.WithCancel(context.Background())
	return &life{over: over, ending: ending}
}

// enter begins a call, unless so many are active already; 0 is no limit. One that begins while the
// mount shuts down is waited for.
func (l *life) enter(most int) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if most > 0 && l.active >= most {
		return false
	}
	l.active++
	return true
}

func (l *life) leave() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.active--
	if l.active == 0 && l.idle != nil {
		close(l.idle)
		l.idle = nil
	}
}

// rest begins the end, and returns what is closed when no call is active; nil where none is.
func (l *life) rest() <-chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.ending()
	if l.active > 0 && l.idle == nil {
		l.idle = make(chan struct{})
	}
	return l.idle
}

// ends is a context for a stream's handler that is cancelled when the mount shuts down, with
// errUnavailable as its cause. release frees it.
func (l *life) ends(parent context.Context) (ctx context.Context, release func()) {
	ctx, cancel := context.WithCancelCause(parent)
	stop := context.AfterFunc(l.over, func() { cancel(errUnavailable) })
	return ctx, func() {
		stop()
		cancel(nil)
	}
}

// Shutdown ends the mount's work: "/-/state" answers 503, requests that come are refused with
// 503, streams end with a problem, for which their handlers' contexts are cancelled, and other
// calls are finished. It returns when all are, or with the error of ctx. Call it before
// Shutdown of the http.Server, which does not wait for WebSockets.
func (m *Served) Shutdown(ctx context.Context) error {
	idle := m.life.rest()
	if idle == nil {
		return nil
	}
	select {
	case <-idle:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
