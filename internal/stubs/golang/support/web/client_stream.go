package web

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"sync"
	"time"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// Stream sends a call that is answered by a stream, each time that its elements
// are ranged over. An error is the last thing that it yields: as those of Do,
// and *Unreachable also when the connection ended before the stream did.
func Stream[T any](ctx context.Context, c *Client, call *Call, request Message) iter.Seq2[*T, error] {
	return func(yield func(*T, error) bool) {
		ctx, c := c.watched(ctx, call)
		var failed error
		defer func() { c.ended(failed) }()
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		in, err := c.openStream(ctx, cancel, call, request)
		if err != nil {
			failed = err
			yield(nil, err)
			return
		}
		defer in.close()
		for {
			element := new(T)
			more, err := in.next(message(element))
			if err != nil {
				failed = err
				yield(nil, err)
				return
			}
			if !more || !yield(element, nil) {
				return
			}
		}
	}
}

// message is what every generated message is; only those are streamed.
func message[T any](m *T) wire.Message { return any(m).(wire.Message) }

// errNil is what a request, or an element of one, that is nil fails with.
var errNil = errors.New("what is sent is nil; give a pointer to an empty message instead")

// clientStream is the stream that a client reads.
type clientStream struct {
	call    *Call
	status  int
	reader  *streamReader
	close   func()
	silence *watch
}

// watch cancels what has been silent for too long.
type watch struct {
	mu    sync.Mutex
	after time.Duration
	timer *time.Timer
	fired bool
}

func newWatch(after time.Duration, cancel func()) *watch {
	w := &watch{after: after}
	w.timer = time.AfterFunc(after, func() {
		w.mu.Lock()
		w.fired = true
		w.mu.Unlock()
		cancel()
	})
	return w
}

func (w *watch) wasSilent() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.fired
}

func (c *Client) openStream(ctx context.Context, cancel context.CancelFunc, call *Call, request Message) (*clientStream,
	error) {
	silence := newWatch(c.timeout, cancel)
	response, err := c.open(ctx, call, request, c.sequence())
	if err != nil {
		silence.timer.Stop()
		if silence.wasSilent() {
			return nil, &Unreachable{Call: call.Name, Err: context.DeadlineExceeded}
		}
		return nil, err
	}
	encoding := mediaType(response.Header.Get("Content-Type"))
	if response.StatusCode/100 != 2 || encoding != CBORSeq && encoding != JSONSeq {
		defer silence.timer.Stop()
		defer response.Body.Close()
		if response.StatusCode/100 == 2 {
			return nil, &BadAnswer{Call: call.Name, Status: response.StatusCode, Err: fmt.Errorf("its type is %q", encoding)}
		}
		return nil, c.read(call, response, nil)
	}
	silence.timer.Stop()
	silence.after = c.idle
	return &clientStream{call: call, status: response.StatusCode, silence: silence,
		close: func() {
			silence.timer.Stop()
			response.Body.Close()
		},
		reader: newStreamReader(encoding == JSONSeq, c.element+16, c.items, func(b []byte) (int, error) {
			// Only waiting for the server counts as its silence, not what is done with an element.
			silence.timer.Reset(silence.after)
			defer silence.timer.Stop()
			return response.Body.Read(b)
		})}, nil
}

// next reads one element; more is false at the end.
func (s *clientStream) next(m wire.Message) (more bool, err error) {
	kind, problem, err := s.reader.next(m)
	switch {
	case err != nil:
		return false, s.failure(err)
	case kind == wire.ElementProblem:
		return false, typed(s.call, problem)
	case kind == wire.ElementEnd:
		if err := s.reader.rest(); err != nil {
			return false, s.failure(err)
		}
		return false, nil
	}
	return true, nil
}

func (s *clientStream) failure(err error) error {
	var e *wire.Error
	var large *tooLarge
	switch {
	case s.silence != nil && s.silence.wasSilent():
		return &Unreachable{Call: s.call.Name, Err: errors.New("the stream was silent for too long")}
	case errors.As(err, &e), errors.As(err, &large):
		return &BadAnswer{Call: s.call.Name, Status: s.status, Err: err}
	}
	return &Unreachable{Call: s.call.Name, Err: err}
}

// Sender sends the elements of a request that is a stream. Finish or Abort must
// be called in the end.
type Sender[T any] struct {
	call    *Call
	writer  *streamWriter
	pipe    *io.PipeWriter
	cancel  context.CancelFunc
	stop    func()
	client  *Client
	done    chan struct{} // closed when answer and body, or err, are there
	answer  *http.Response
	body    []byte
	err     error
	endOnce sync.Once
}

// NewSender begins a call whose request is a stream. head is what comes before it; nil for
// nothing.
func NewSender[T any](ctx context.Context, c *Client, call *Call, head Message) *Sender[T] {
	ctx, c = c.watched(ctx, call)
	ctx, cancel := context.WithCancel(ctx)
	reader, pipe := io.Pipe()
	s := &Sender[T]{call: call, pipe: pipe, cancel: cancel, client: c, done: make(chan struct{})}
	s.writer = &streamWriter{json: c.json, sequence: true, limit: c.element + 16, write: func(element []byte) error {
		_, err := pipe.Write(element)
		return err
	}}
	r, err := c.request(ctx, call, head, c.encoding())
	if err != nil {
		s.err = unsent(call, err)
		close(s.done)
		s.stop = func() {}
		_ = reader.CloseWithError(s.err)
		return s
	}
	r.Header["Content-Type"] = []string{c.sequence()}
	r.Body, r.ContentLength = reader, -1
	s.stop = s.writer.heartbeats(15 * time.Second)
	go func() {
		defer close(s.done)
		if s.answer, s.err = c.send(r); s.err != nil {
			s.err = &Unreachable{Call: call.Name, Err: s.err}
		} else {
			// All of it, before the request ends: a request that breaks off takes
			// its connection with it.
			s.body, s.err = c.body(call, s.answer)
			s.answer.Body.Close()
		}
		_ = reader.CloseWithError(errAnswered)
	}()
	return s
}

var errAnswered = errors.New("the server has answered already")

// Send sends one element, and waits while the server is slow. Where the server
// has answered before the end, its error is returned; Finish returns it, too.
func (s *Sender[T]) Send(element *T) error {
	if element == nil {
		return fmt.Errorf("%s: %w", s.call.Name, errNil)
	}
	m := message(element)
	if err := wire.Validate(m); err != nil {
		return fmt.Errorf("%s: %w", s.call.Name, err)
	}
	err := s.writer.value(m)
	if !s.writer.broken() {
		return err
	}
	// Its answer says more than that nothing more can be written.
	if err := s.finish(nil); err != nil {
		return err
	}
	return fmt.Errorf("%s: %w", s.call.Name, errAnswered)
}

// Abort gives the call up: the server sees a stream without its end.
func (s *Sender[T]) Abort() {
	s.cancel()
	_ = s.pipe.CloseWithError(context.Canceled) // before anything waits for what is being written
	s.endOnce.Do(s.stop)
	<-s.done
	s.client.ended(context.Canceled)
}

// Finish ends the stream and returns what the server makes of it.
func (s *Sender[T]) Finish() error { return s.finish(nil) }

func (s *Sender[T]) finish(answer wire.Message) error {
	defer s.cancel()
	timer := time.AfterFunc(s.client.timeout, s.cancel)
	defer timer.Stop()
	s.endOnce.Do(s.stop)
	if s.writer.end() == nil {
		_ = s.pipe.Close()
	}
	<-s.done
	err := s.err
	if err == nil {
		err = s.client.understand(s.call, s.answer, s.body, answer)
	}
	s.client.ended(err)
	return err
}

// AnsweredSender is a Sender of a call with an answer.
type AnsweredSender[T, A any] struct{ *Sender[T] }

// NewAnsweredSender begins a call whose request is a stream, and its answer not.
func NewAnsweredSender[T, A any](ctx context.Context, c *Client, call *Call, head Message) *AnsweredSender[T, A] {
	return &AnsweredSender[T, A]{NewSender[T](ctx, c, call, head)}
}

// Finish ends the stream and returns the answer.
func (s *AnsweredSender[T, A]) Finish() (*A, error) {
	answer := new(A)
	if err := s.finish(message(answer)); err != nil {
		return nil, err
	}
	return answer, nil
}
