package web

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// The subprotocols of calls that stream both ways, over WebSocket (RFC 6455).
const (
	socketCBOR = "faithful-cbor"
	socketJSON = "faithful-json"
)

// socket is one side of such a call. What comes is read as it comes, one element ahead of
// who needs it, so that the other side's leaving is seen at once.
type socket struct {
	conn   *websocket.Conn
	json   bool
	budget int
	writer *streamWriter
	frames chan []byte
	over   chan struct{} // closed when nothing more will come: why is in broken
	stop   chan struct{} // closed when nobody needs more
	broken error
	once   sync.Once

	received, sent atomic.Int64 // octets of elements

	mu     sync.Mutex
	theirs bool // their end has come
}

// newSocket begins to read. left is called when the connection is over before both sides
// are done; writes give up a peer that does not read for so long.
func newSocket(ctx context.Context, conn *websocket.Conn, limit, budget int, idle time.Duration, left func()) *socket {
	s := &socket{conn: conn, json: conn.Subprotocol() == socketJSON, budget: budget,
		frames: make(chan []byte), over: make(chan struct{}), stop: make(chan struct{})}
	conn.SetReadLimit(int64(limit) + 16)
	kind := websocket.MessageBinary
	if s.json {
		kind = websocket.MessageText
	}
	s.writer = &streamWriter{json: s.json, limit: limit + 16, write: func(element []byte) error {
		patient, cancel := context.WithTimeout(ctx, idle)
		defer cancel()
		err := conn.Write(patient, kind, element)
		if err != nil {
			left()
		} else {
			s.sent.Add(int64(len(element)))
		}
		return err
	}}
	go func() {
		defer close(s.over)
		for {
			_, data, err := conn.Read(ctx)
			if err != nil {
				s.broken = err
				left()
				return
			}
			s.received.Add(int64(len(data)))
			select {
			case s.frames <- data:
			case <-s.stop:
				s.broken = errEnded
				return
			}
		}
	}()
	return s
}

// finish says that nobody needs more of what comes.
func (s *socket) finish() { s.once.Do(func() { close(s.stop) }) }

// next reads one element that is not a heartbeat. A connection that ends before the
// other side's end is errLost. Only waiting for the peer counts as its silence.
func (s *socket) next(ctx context.Context, idle time.Duration, m wire.Message) (wire.Element, *Problem, error) {
	silence := time.NewTimer(idle)
	defer silence.Stop()
	for {
		var data []byte
		select {
		case data = <-s.frames:
		case <-s.over:
			if websocket.CloseStatus(s.broken) == websocket.StatusMessageTooBig ||
				errors.Is(s.broken, websocket.ErrMessageTooBig) {
				return 0, nil, &tooLarge{}
			}
			return 0, nil, fmt.Errorf("%w: %w", errLost, s.broken)
		case <-silence.C:
			return 0, nil, errors.New("the stream was silent for too long")
		case <-ctx.Done():
			select {
			case <-s.over: // which is why it is done
				continue
			default:
				return 0, nil, cmp.Or(unavailable(ctx), fmt.Errorf("%w: %w", errLost, ctx.Err()))
			}
		}
		silence.Reset(idle)
		kind, text, err := wire.ReadElement(data, s.json, m, s.budget)
		switch {
		case err != nil:
			return 0, nil, err
		case kind == wire.ElementOther:
			continue
		case kind == wire.ElementProblem:
			p, err := readProblem(text)
			return kind, p, err
		case kind == wire.ElementEnd:
			s.mu.Lock()
			s.theirs = true
			s.mu.Unlock()
		}
		return kind, nil, nil
	}
}

func (s *socket) ended() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.theirs
}

// The library takes a connection that ends before the first byte of a frame's
// payload for the end of the message. So no connection of ours ever says that
// it ended: it says that it was lost.
func lost(n int, err error) (int, error) {
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

type lostConn struct{ net.Conn }

func (c lostConn) Read(p []byte) (int, error) { return lost(c.Conn.Read(p)) }

type lostHijacker struct{ http.ResponseWriter }

func (h lostHijacker) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	conn, buffered, err := http.NewResponseController(h.ResponseWriter).Hijack()
	if err != nil {
		return nil, nil, err
	}
	return lostConn{conn}, buffered, nil
}

type lostBody struct{ io.ReadWriteCloser }

func (b lostBody) Read(p []byte) (int, error) { return lost(b.ReadWriteCloser.Read(p)) }

type lostTransport struct{ http.RoundTripper }

func (t lostTransport) RoundTrip(r *http.Request) (*http.Response, error) {
	response, err := t.RoundTripper.RoundTrip(r)
	if err == nil && response.StatusCode == http.StatusSwitchingProtocols {
		if body, ok := response.Body.(io.ReadWriteCloser); ok {
			response.Body = lostBody{body}
		}
	}
	return response, err
}

// upgrading puts the middleware around an upgrade. Whatever it makes of the body of a
// response, that of an upgraded one is the connection.
func (c *Client) upgrading(next roundTrip) roundTrip {
	var connection io.ReadCloser
	through := c.through(func(r *http.Request) (*http.Response, error) {
		response, err := next(r)
		if err == nil && response.StatusCode == http.StatusSwitchingProtocols {
			connection = response.Body
		}
		return response, err
	})
	return func(r *http.Request) (*http.Response, error) {
		response, err := through(r)
		if err == nil && response.StatusCode == http.StatusSwitchingProtocols && connection != nil {
			response.Body = connection
		}
		return response, err
	}
}

// Converse serves calls that stream both ways.
func Converse(m *Served, w http.ResponseWriter, r *http.Request, route *Route) {
	if origins := r.Header["Origin"]; len(origins) > 1 || len(origins) == 1 && !m.allowsOrigin(r, origins[0]) {
		m.problem(w, r, "forbidden", "a page of another site may not make this call")
		return
	}
	protocol := ""
	for _, offered := range strings.Split(strings.Join(r.Header.Values("Sec-WebSocket-Protocol"), ","), ",") {
		if offered = strings.TrimSpace(offered); protocol == "" && (offered == socketCBOR || offered == socketJSON) {
			protocol = offered
		}
	}
	if protocol == "" {
		w.Header().Set("Upgrade", "websocket")
		m.problem(w, r, "not-acceptable", "the call streams both ways: upgrade to a WebSocket with the subprotocol "+
			"faithful-cbor or faithful-json")
		return
	}
	outer := r.Context().Value(exchangeKey{}).(*exchange)
	x := &exchange{mount: m, w: w, r: r, route: route, values: outer.values}
	head, ok := x.head()
	if !ok {
		return
	}
	outer.message = head
	conn, err := websocket.Accept(lostHijacker{w}, r,
		&websocket.AcceptOptions{Subprotocols: []string{protocol}, InsecureSkipVerify: true}) // the origin was looked at
	if err != nil {
		return // and it has answered
	}
	defer conn.CloseNow()
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	s := newSocket(ctx, conn, m.element, m.items, m.idle, cancel)
	defer s.finish()
	x.ctx = ctx
	if outer.watch != nil {
		x.watch = outer.watch
		x.watch.status = http.StatusSwitchingProtocols
		defer func() {
			x.watch.received.Add(s.received.Load())
			x.watch.sent.Add(s.sent.Load())
		}()
	}
	ending, release := m.life.ends(x.ctx)
	defer release()
	x.ctx = ending
	in := &socketIncoming{exchange: x, socket: s, cancel: cancel}
	stop := s.writer.heartbeats(m.heartbeat)
	err = x.runStream(x.ctx, func(ctx context.Context) error {
		return route.Converse(ctx, head, in.elements, s.writer.value)
	})
	stop()
	if in.failed != nil {
		err = in.failed
	}
	err = cmp.Or(unavailable(ending), err)
	x.failedWith(err)
	switch {
	case errors.Is(err, errLost):
		return // nobody is there to be told
	case err != nil:
		p, _ := x.problemOf(x.ctx, err)
		_ = s.writer.problem(p)
		s.finish()
		_ = conn.Close(websocket.StatusInternalError, "")
		return
	}
	if s.writer.end() == nil && in.untilEnd() {
		s.finish()
		_ = conn.Close(websocket.StatusNormalClosure, "")
	}
}

// socketIncoming is what a server reads from a socket.
type socketIncoming struct {
	*exchange
	socket *socket
	cancel context.CancelFunc
	failed error
}

func (in *socketIncoming) elements(yield func(wire.Message, error) bool) {
	checked := &incoming{exchange: in.exchange}
	for !in.socket.ended() && in.failed == nil {
		element := in.route.newElement()
		checked.number++
		kind, problem, err := in.socket.next(in.ctx, in.mount.idle, element)
		switch {
		case err != nil:
			in.failed = checked.failure(err)
		case kind == wire.ElementEnd:
			return
		case kind == wire.ElementProblem:
			in.failed = problem
		default:
			in.failed = checked.violations(element)
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

// untilEnd reads on, when the handler has had enough, until the other side's
// end: only then both know that nothing was lost.
func (in *socketIncoming) untilEnd() bool {
	for !in.socket.ended() {
		if _, _, err := in.socket.next(in.ctx, in.mount.idle, in.route.newElement()); err != nil {
			return false
		}
	}
	return true
}

// Conversation is the client's side of a call that streams both ways. One
// goroutine may send while another receives. Close must be called in the end.
type Conversation[T, A any] struct {
	socket *socket
	call   *Call
	client *Client
	ctx    context.Context
	cancel context.CancelFunc
	stop   func()
	once   sync.Once
	failed atomic.Pointer[error] // what it failed with first
}

// NewConversation opens a call that streams both ways. head is what comes before the stream; nil
// for nothing.
func NewConversation[T, A any](ctx context.Context, c *Client, call *Call, head Message) (*Conversation[T, A],
	error) {
	ctx, c = c.watched(ctx, call)
	conversation, err := converse[T, A](ctx, c, call, head)
	if err != nil {
		c.ended(err)
	}
	return conversation, err
}

func converse[T, A any](ctx context.Context, c *Client, call *Call, head Message) (*Conversation[T, A], error) {
	opening, cancelOpening := c.limited(ctx)
	defer cancelOpening()
	r, err := c.request(opening, call, head, c.encoding())
	if err != nil {
		return nil, unsent(call, err)
	}
	protocol := socketCBOR
	if c.json {
		protocol = socketJSON
	}
	r.Header.Del("Accept")
	u := *r.URL
	u.Scheme = map[string]string{"http": "ws", "https": "wss"}[u.Scheme]
	transport := *c.http
	carrier := transport.Transport
	if carrier == nil {
		carrier = http.DefaultTransport
	}
	transport.Transport = c.upgrading(lostTransport{carrier}.RoundTrip)
	conn, response, err := websocket.Dial(opening, u.String(),
		&websocket.DialOptions{HTTPClient: &transport, HTTPHeader: r.Header, Subprotocols: []string{protocol}})
	if response != nil && c.answered != nil {
		*c.answered = response.Header
	}
	if c.watching != nil {
		c.watching.tries = 1
		if response != nil {
			c.watching.status = response.StatusCode
		}
	}
	if err != nil {
		if response != nil && response.Body != nil && response.StatusCode != http.StatusSwitchingProtocols {
			defer response.Body.Close()
			return nil, c.read(call, response, nil)
		}
		return nil, &Unreachable{Call: call.Name, Err: withoutQuery(err)}
	}
	if conn.Subprotocol() != protocol {
		conn.CloseNow()
		return nil, &BadAnswer{Call: call.Name, Status: http.StatusSwitchingProtocols,
			Err: fmt.Errorf("the server did not agree to %s", protocol)}
	}
	ctx, cancel := context.WithCancel(ctx)
	s := newSocket(ctx, conn, c.element, c.items, c.idle, func() {})
	return &Conversation[T, A]{socket: s, call: call, client: c, ctx: ctx, cancel: cancel,
		stop: s.writer.heartbeats(15 * time.Second)}, nil
}

// Send sends one element.
func (c *Conversation[T, A]) Send(element *T) error {
	if element == nil {
		return fmt.Errorf("%s: %w", c.call.Name, errNil)
	}
	m := message(element)
	if err := wire.Validate(m); err != nil {
		return fmt.Errorf("%s: %w", c.call.Name, err)
	}
	if err := c.socket.writer.value(m); err != nil {
		return c.fail(&Unreachable{Call: c.call.Name, Err: err})
	}
	return nil
}

// Finish says that nothing more will be sent; the other side may go on.
func (c *Conversation[T, A]) Finish() error {
	if err := c.socket.writer.end(); err != nil && !errors.Is(err, errEnded) {
		return c.fail(&Unreachable{Call: c.call.Name, Err: err})
	}
	return nil
}

// fail keeps what the call failed with, for who watches it.
func (c *Conversation[T, A]) fail(err error) error {
	c.failed.CompareAndSwap(nil, &err)
	return err
}

// All yields what the other side sends, until its end or an error.
func (c *Conversation[T, A]) All() iter.Seq2[*A, error] {
	return func(yield func(*A, error) bool) {
		for {
			element := new(A)
			kind, problem, err := c.socket.next(c.ctx, c.client.idle, message(element))
			switch {
			case err != nil:
				yield(nil, c.fail((&clientStream{call: c.call, status: http.StatusSwitchingProtocols}).failure(err)))
				return
			case kind == wire.ElementProblem:
				yield(nil, c.fail(typed(c.call, problem)))
				return
			case kind == wire.ElementEnd:
				return
			}
			if !yield(element, nil) {
				return
			}
		}
	}
}

// Close ends the call: as it should be where both sides have sent their end,
// else as a failure, which the other side sees.
func (c *Conversation[T, A]) Close() {
	c.once.Do(func() {
		if !c.socket.ended() || !c.socket.writer.done() {
			_ = c.fail(context.Canceled) // unless it has failed before
		}
		c.socket.finish()
		select {
		case <-c.socket.over: // both ends are known then, or nothing is left to be known
		default:
			if c.socket.ended() && c.socket.writer.done() {
				_ = c.socket.conn.Close(websocket.StatusNormalClosure, "")
			}
		}
		c.cancel() // before anything waits for what is being written
		_ = c.socket.conn.CloseNow()
		c.stop()
		if w := c.client.watching; w != nil {
			w.received.Store(c.socket.received.Load())
			w.sent.Store(c.socket.sent.Load())
		}
		if failed := c.failed.Load(); failed != nil {
			c.client.ended(*failed)
			return
		}
		c.client.ended(nil)
	})
}
