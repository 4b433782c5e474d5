package web

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// send answers a call with a stream.
func (x *exchange) send() {
	slow := time.AfterFunc(x.mount.timeout, func() {
		_ = http.NewResponseController(x.w).SetReadDeadline(time.Now()) // the body took too long
	})
	request, ok := x.request()
	slow.Stop()
	if !ok {
		return
	}
	if x.r.Method == http.MethodHead {
		x.w.Header().Set("Content-Type", x.answerType)
		x.mount.deliver(x.w, x.r, cmp.Or(x.route.Call.Status, http.StatusOK), nil)
		return
	}
	ending, release := x.mount.life.ends(x.ctx)
	defer release()
	ctx, cancel := context.WithCancel(ending)
	defer cancel()
	if !flushes(x.w) {
		x.fail(ctx, errors.New("a wrapper of the http.ResponseWriter hides Flush, without which no element is sent: "+
			"give it a method Unwrap() http.ResponseWriter"))
		return
	}
	out := x.answerStream(cancel)
	stop := out.heartbeats(x.mount.heartbeat)
	err := x.runStream(ctx, func(ctx context.Context) error {
		return x.route.Send(ctx, request, func(m wire.Message) error {
			if err := unavailable(ending); err != nil {
				return err
			}
			return out.value(m)
		})
	})
	stop()
	err = cmp.Or(unavailable(ending), err) // whatever the handler made of it, what was sent is not whole
	switch {
	case err == nil:
		_ = out.end() // a client that has left is not an error of ours
	case !out.begun:
		x.fail(ctx, err)
	default:
		x.failedWith(err)
		p, _ := x.problemOf(ctx, err)
		_ = out.problem(p)
	}
}

// unavailable is errUnavailable where a stream's context was cancelled for it.
func unavailable(ctx context.Context) error {
	if context.Cause(ctx) == errUnavailable {
		return errUnavailable
	}
	return nil
}

// runStream is run for a handler that streams: whatever middleware makes of an error, what
// is not whole does not end as if it were.
func (x *exchange) runStream(ctx context.Context, handler func(ctx context.Context) error) error {
	failed := errors.New("middleware ended a stream before its handler did")
	if err := x.run(ctx, func(ctx context.Context) error { failed = handler(ctx); return failed }); err != nil {
		return err
	}
	return failed
}

// answerStream writes the elements of an answer. The first fixes the status.
func (x *exchange) answerStream(cancel context.CancelFunc) *streamWriter {
	controller := http.NewResponseController(x.w)
	out := &streamWriter{json: !isCBOR(x.answerType), sequence: true, limit: x.mount.element + 16}
	headed := false
	var deadline time.Time
	out.write = func(element []byte) error {
		if !headed {
			headed = true
			x.w.Header().Set("Content-Type", x.answerType)
			x.w.Header().Set("X-Accel-Buffering", "no") // proxies should pass elements on as they come
			if x.route.Call.Status != 0 {
				x.w.WriteHeader(x.route.Call.Status)
			}
		}
		// A reader that has stopped for so long is gone.
		if now := time.Now(); deadline.Sub(now) < x.mount.idle/2 {
			deadline = now.Add(x.mount.idle)
			_ = controller.SetWriteDeadline(deadline)
		}
		_, err := x.w.Write(element)
		if err == nil {
			err = controller.Flush()
		}
		if err != nil {
			cancel()
			return fmt.Errorf("the reader has left: %w", err)
		}
		return nil
	}
	return out
}

// flushes tells whether a writer can flush, as http.ResponseController finds out.
func flushes(w http.ResponseWriter) bool {
	for {
		switch inner := w.(type) {
		case http.Flusher, interface{ FlushError() error }:
			return true
		case interface{ Unwrap() http.ResponseWriter }:
			w = inner.Unwrap()
		default:
			return false
		}
	}
}

// receive answers a call whose request is a stream.
func (x *exchange) receive() {
	m, w, r := x.mount, x.w, x.r
	if coding := r.Header.Get("Content-Encoding"); coding != "" && !strings.EqualFold(coding, "identity") {
		m.problem(w, r, "unsupported-form", "encoded bodies are not read: "+coding)
		return
	}
	if x.requestType != CBORSeq && x.requestType != JSONSeq {
		m.problem(w, r, "unsupported-form", fmt.Sprintf("Content-Type is application/cbor-seq or "+
			"application/json-seq, not %q", x.requestType))
		return
	}
	if !x.route.Implemented {
		x.fail(x.ctx, ErrNotImplemented)
		return
	}
	head, ok := x.head()
	if !ok {
		return
	}
	x.message = head
	controller := http.NewResponseController(w)
	if r.ProtoMajor == 1 {
		_ = controller.EnableFullDuplex() // an answer may come before the end
	}
	ctx, cancel := context.WithCancel(x.ctx)
	defer cancel()
	var deadline time.Time
	in := &incoming{exchange: x, reader: newStreamReader(x.requestType == JSONSeq, m.element+16, m.items,
		func(b []byte) (int, error) {
			if m.life.over.Err() != nil {
				return 0, errUnavailable
			}
			if now := time.Now(); deadline.Sub(now) < m.idle/2 {
				deadline = now.Add(m.idle)
				_ = controller.SetReadDeadline(deadline)
			}
			n, err := r.Body.Read(b)
			if err != nil && m.life.over.Err() != nil && isTimeout(err) {
				err = errUnavailable
			}
			return n, err
		}), rest: true}
	defer context.AfterFunc(m.life.over, func() { _ = controller.SetReadDeadline(time.Now()) })()
	var answer Message
	err := x.run(ctx, func(ctx context.Context) (err error) {
		answer, err = x.route.Receive(ctx, head, in.elements)
		if err == nil && answer == nil && x.route.Answers {
			err = errors.New("the handler returned neither an answer nor an error")
		}
		return err
	})
	if in.failed != nil {
		// Whatever the handler made of it, half a stream was not a request.
		err = in.failed
	}
	if errors.Is(err, errLost) && r.Context().Err() != nil {
		x.failedWith(err)
		panic(http.ErrAbortHandler)
	}
	x.answer(ctx, answer, err)
	if !in.ended && err == nil && r.ProtoMajor == 1 {
		drain(controller, r.Body)
	}
}

// incoming is the stream that a server reads.
type incoming struct {
	*exchange
	reader *streamReader
	rest   bool // whether nothing may follow the end
	ended  bool
	failed error
	number int // of the element that is read or judged, from 1
}

// elements yields what comes, each element checked as a request is.
func (in *incoming) elements(yield func(wire.Message, error) bool) {
	for !in.ended && in.failed == nil {
		element := in.route.newElement()
		in.number++
		kind, problem, err := in.reader.next(element)
		switch {
		case err != nil:
			in.failed = in.failure(err)
		case kind == wire.ElementEnd:
			in.ended = true
			if in.rest {
				if err := in.reader.rest(); err != nil {
					in.failed = in.failure(err)
				}
			}
			if in.failed == nil {
				return
			}
		case kind == wire.ElementProblem:
			in.failed = problem
		default:
			in.failed = in.violations(element)
		}
		if in.failed != nil {
			yield(nil, in.failed)
			return
		}
		if !yield(element, nil) {
			return
		}
	}
}

// violations refuses an element that the definitions do not allow.
func (in *incoming) violations(element wire.Message) error {
	violations := element.AppendViolations(nil, "")
	if in.mount.unlisted {
		violations = wire.WithoutUnlisted(violations)
	}
	if len(violations) == 0 {
		return nil
	}
	p := commonProblem(in.mount.base, "invalid-request",
		fmt.Sprintf("element %d of the stream is refused", in.number))
	p.Violations = violations
	return &requestError{p}
}

// failure turns what went wrong while reading into what it is answered with.
func (in *incoming) failure(err error) error {
	base := in.mount.base
	var e *wire.Error
	var large *tooLarge
	switch {
	case errors.Is(err, errUnavailable):
		return err
	case errors.Is(err, errLost):
		return fmt.Errorf("%w: %w", errLost, &requestError{commonProblem(base, "invalid-request", errLost.Error())})
	case errors.As(err, &large) || errors.As(err, &e) && e.TooLarge:
		return &requestError{commonProblem(base, "too-large", err.Error())}
	case isTimeout(err):
		return &requestError{commonProblem(base, "too-slow", "the stream was silent for too long")}
	case in.r.Context().Err() != nil:
		return fmt.Errorf("%w: %w", errLost, err)
	}
	p := commonProblem(base, "invalid-request", fmt.Sprintf("element %d of the stream can't be read", in.number))
	p.Violations = []wire.Violation{{Detail: err.Error()}}
	if e != nil {
		p.Violations[0] = wire.Violation{Pointer: e.Path, Detail: e.Detail}
	}
	return &requestError{p}
}
