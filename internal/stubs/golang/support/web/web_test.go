package web

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/stubs/golang/support/wire"
)

func TestPreferred(t *testing.T) {
	for _, c := range []struct{ accept, request, want string }{
		{"", "", JSON}, {"", CBOR, CBOR}, {"", JSON, JSON}, {"*/*", CBOR, CBOR}, {"application/*", "", JSON},
		{"application/cbor", JSON, CBOR}, {"APPLICATION/CBOR", JSON, CBOR},
		{"application/json;q=0.5, application/cbor;q=0.4", CBOR, JSON}, {"application/json; q=0.5, */*", JSON, CBOR},
		{"application/cbor;q=0, */*", CBOR, JSON},
		{"text/html", JSON, ""}, {"application/cbor;q=0", CBOR, ""}, {"application/json;q=x", CBOR, JSON},
		{"text/html, application/json;q=0.1", CBOR, JSON},
	} {
		var accept []string
		if c.accept != "" {
			accept = []string{c.accept}
		}
		assert.Equal(t, c.want, preferred(accept, c.request, CBOR, JSON), "%q for a request in %q", c.accept, c.request)
	}
	assert.Equal(t, CBOR, preferred([]string{"text/html", "application/cbor"}, JSON, CBOR, JSON), "several headers")
	assert.Equal(t, "application/json", mediaType(" Application/JSON ; charset=utf-8"))
}

func TestPatience(t *testing.T) {
	m := NewServed(&Definitions{}, nil, WithHandlerTimeout(10*time.Second))
	for prefer, want := range map[string]time.Duration{"": 10 * time.Second, "wait=3": 3 * time.Second,
		"respond-async, wait=3": 3 * time.Second, "wait=60": 10 * time.Second, "wait=0": 10 * time.Second,
		"wait=-1": 10 * time.Second, "wait=x": 10 * time.Second} {
		r := httptest.NewRequest("POST", "/", nil)
		r.Header.Set("Prefer", prefer)
		assert.Equal(t, want, m.patience(r), prefer)
	}
}

func TestProblem(t *testing.T) {
	p := &Problem{Type: "/v1/-/errors/invalid-request", Title: "invalid request", Status: 400, Detail: "2 violations",
		Violations: []wire.Violation{{Pointer: "/a", Detail: "is wrong"}, {Pointer: "/b", Detail: "too"}}}
	assert.Equal(t, "invalid-request", p.Name())
	assert.Equal(t, "400 invalid request: 2 violations; /a is wrong; /b too", p.Error())
	assert.Equal(t, "about:blank", (&Problem{Type: "about:blank"}).Name())
	inner := errors.New("inner")
	assert.ErrorIs(t, &Unreachable{Call: "c", Err: inner}, inner)
	assert.ErrorIs(t, &BadAnswer{Call: "c", Status: 200, Err: inner}, inner)
}

// note is a message of one text, read and written by hand.
type note struct{ text string }

func (n *note) AppendCBOR(b []byte, w *wire.Writer) []byte {
	return wire.AppendString(append(wire.AppendMapHead(b, 1), 1), n.text, w)
}

func (n *note) ReadCBOR(r *wire.CBORReader) {
	for count := r.OpenMessage("note", 1); r.More(&count); {
		r.FieldNumber()
		n.text = r.Text()
	}
	r.Leave()
}

func (n *note) AppendJSON(b []byte, w *wire.Writer) []byte {
	return append(wire.AppendJSONString(append(b, `{"text":`...), n.text, w), '}')
}

func (n *note) ReadJSON(r *wire.JSONReader) {
	for r.OpenMessage("note", 1); r.Member(); {
		n.text = r.Text()
	}
}

func (n *note) AppendViolations(list []wire.Violation, path string) []wire.Violation {
	if n.text == "forbidden" {
		list = append(list, wire.Violation{Pointer: path + "/text", Detail: "is forbidden"})
	}
	return list
}

type failed struct{ note }

func (*failed) Error() string     { return "failed" }
func (*failed) ErrorName() string { return "m.Failed" }
func (*failed) ErrorStatus() int  { return 422 }

func outgoing(text string) Message { return &note{text} }

var echo = Call{Name: "m.S.echo", Method: "POST", Path: "/m/s/echo",
	Fails: []Failure{{Name: "m.Failed", New: func() DeclaredError { return new(failed) }}}}

func echoServed(options ...ServerOption) *Served {
	return NewServed(&Definitions{Name: "n", Version: "v", Digest: "d",
		Errors: []ErrorPage{{"m.Failed", 422, "It failed.\nBadly."}}}, []Route{{
		Call: &echo, Implemented: true, NewRequest: func() Message { return new(note) }, Answers: true,
		Serve: func(ctx context.Context, request Message) (Message, error) {
			switch n := request.(*note); n.text {
			case "fail":
				return nil, &failed{note{"why"}}
			case "slow":
				<-ctx.Done()
				return nil, ctx.Err()
			default:
				return n, nil
			}
		},
	}}, options...)
}

func TestRoundTrip(t *testing.T) {
	server := httptest.NewServer(echoServed(WithHandlerTimeout(30 * time.Millisecond)))
	defer server.Close()
	var digests []string
	for _, options := range [][]ClientOption{nil, {WithJSON()}} {
		options = append(options, WithHeader("Line", "skerry"), WithTimeout(5*time.Second),
			WithHTTPClient(server.Client()), WithDigestHook(func(d string) { digests = append(digests, d) }))
		client := NewClient(server.URL+"/", "other", options...)
		answer := new(note)
		require.NoError(t, client.Do(context.Background(), &echo, outgoing("héllo"), answer))
		assert.Equal(t, "héllo", answer.text)
		var declared *failed
		require.ErrorAs(t, client.Do(context.Background(), &echo, outgoing("fail"), answer), &declared)
		assert.Equal(t, "why", declared.text)
		var p *Problem
		require.ErrorAs(t, client.Do(context.Background(), &echo, outgoing("slow"), answer), &p)
		assert.Equal(t, "too-slow", p.Name())
		var invalid *wire.InvalidRequest
		require.ErrorAs(t, client.Do(context.Background(), &echo, outgoing("forbidden"), answer), &invalid)
		err := client.Do(context.Background(), &echo, outgoing("\xff"), answer)
		require.ErrorAs(t, err, &invalid)
		assert.Equal(t, "m.S.echo: /text text that is not UTF-8", err.Error())
		var bad *BadAnswer
		small := NewClient(server.URL, "d", append(options, WithAnswerLimit(3))...)
		require.ErrorAs(t, small.Do(context.Background(), &echo, outgoing("long"), answer), &bad)
	}
	assert.NotEmpty(t, digests)
	assert.Equal(t, "d", digests[0])
}

func TestOwnPages(t *testing.T) {
	sick := errors.New("the sea is rough")
	var told []string
	server := httptest.NewServer(Serve(echoServed(WithBase("/v1"),
		WithServing(func(context.Context) error { return sick }),
		WithOnError(func(_ context.Context, c string, err error) { told = append(told, c+": "+err.Error()) })), echoServed()))
	defer server.Close()
	get := func(path string) (int, string) {
		response, err := http.Get(server.URL + path)
		require.NoError(t, err)
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		require.True(t, json.Valid(text), "%s", text)
		return response.StatusCode, string(text)
	}
	status, text := get("/v1/-/state")
	assert.Equal(t, 503, status)
	assert.NotContains(t, text, "sea")
	assert.Equal(t, []string{"state: the sea is rough"}, told)
	status, text = get("/v1/-/about")
	assert.Equal(t, 200, status)
	assert.Contains(t, text, `"path":"/v1/m/s/echo"`)
	for _, path := range []string{"/-/about", "/v1/-/", "/v1/-/errors/", "/elsewhere", "/v1"} {
		status, text = get(path)
		assert.Equal(t, 404, status, path)
		assert.Contains(t, text, "/v1/-/errors/unknown-call")
	}
	quiet := httptest.NewServer(echoServed(WithoutDefinitions()))
	defer quiet.Close()
	for _, path := range []string{"/-/about", "/-/definitions"} {
		response, err := http.Get(quiet.URL + path)
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, 404, response.StatusCode)
	}
}

func TestEarlyAnswerReachesAClientThatStillSends(t *testing.T) {
	server := httptest.NewServer(echoServed(WithBodyLimit(1000)))
	defer server.Close()
	body := io.MultiReader(strings.NewReader(`{"text":"`), io.LimitReader(zeros{}, 20<<20))
	response, err := http.Post(server.URL+"/m/s/echo", JSON, body)
	require.NoError(t, err)
	defer response.Body.Close()
	assert.Equal(t, 413, response.StatusCode)
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = '0'
	}
	return len(p), nil
}

// soon is an error of the test unless act returns before its time is over.
func soon(t *testing.T, act func()) {
	t.Helper()
	done := make(chan struct{})
	go func() {
		defer close(done)
		act()
	}()
	select {
	case <-done:
	case <-time.After(2 * time.Second):
		require.FailNow(t, "it still waits")
	}
}

func TestAbortBehindAStuckHeartbeat(t *testing.T) {
	_, pipe := io.Pipe() // that nobody reads
	s := &Sender[struct{}]{client: &Client{}, pipe: pipe, cancel: func() {}, done: make(chan struct{})}
	began := make(chan struct{})
	s.writer = &streamWriter{limit: 16, write: func(element []byte) error {
		close(began)
		_, err := pipe.Write(element)
		return err
	}}
	s.stop = s.writer.heartbeats(time.Millisecond)
	close(s.done)
	<-began
	soon(t, s.Abort)
}

func TestCloseBehindAStuckWrite(t *testing.T) {
	for _, ended := range []bool{false, true} {
		closed := make(chan struct{})
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			conn, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{socketCBOR}})
			if !assert.NoError(t, err) {
				return
			}
			defer conn.CloseNow()
			if ended {
				assert.NoError(t, conn.Write(r.Context(), websocket.MessageBinary, wire.AppendEnd(nil, false)))
			}
			<-closed // and reads nothing
		}))
		c := NewClient(server.URL, "")
		conversation, err := NewConversation[struct{}, struct{}](t.Context(), c,
			&Call{Name: "quay.Pier.mirror", Method: "GET", Path: "/mirror"}, nil)
		require.NoError(t, err)
		s := conversation.socket
		if ended {
			kind, _, err := s.next(t.Context(), time.Second, nil)
			require.NoError(t, err)
			require.Equal(t, wire.ElementEnd, kind)
		}
		s.writer.limit = 64 << 20
		go s.writer.put(false, func(b []byte) ([]byte, error) { return append(b, make([]byte, 64<<20)...), nil })
		time.Sleep(100 * time.Millisecond) // until no more goes into the connection
		soon(t, conversation.Close)
		close(closed)
		server.Close()
	}
}

// TestProblemsAreTold holds that what manuals tell of the problems of every server is what servers answer with.
func TestProblemsAreTold(t *testing.T) {
	require.Len(t, conversation.Problems, len(commonErrors))
	for i, p := range conversation.Problems {
		assert.Equal(t, commonErrors[i].Name, p.Name)
		assert.Equal(t, commonErrors[i].Status, p.Status, p.Name)
	}
}
