package ferry

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/examples/ferry/go/gen/faithful/web"
	"faithfulcourier/examples/ferry/go/gen/faithful/wire"
	"faithfulcourier/examples/ferry/go/gen/skerry/fleet"
	"faithfulcourier/examples/ferry/go/gen/skerry/quay"
)

// summer is a request that every fare of the season agrees with.
var summer = &quay.FareRequest{Season: wire.NewDate(2026, 5, 1), Table: quay.FareTable{6: wire.MustDecimal("4.50")}}

// asked sends a bare request, and returns the answer with its body.
func asked(t *testing.T, method, url string, headers ...string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, url, nil)
	require.NoError(t, err)
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	response, err := http.DefaultTransport.RoundTrip(r)
	require.NoError(t, err)
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response, string(body)
}

// TestRefusalsOfOnesOwn lets a handler refuse requests for reasons that only it knows.
func TestRefusalsOfOnesOwn(t *testing.T) {
	var refusal error
	var told []error
	server := httptest.NewServer(quay.ServeQuay(quay.QuayCalls{
		SetFares: func(context.Context, *quay.FareRequest) error { return fmt.Errorf("fares: %w", refusal) },
	}, web.WithOnError(func(_ context.Context, _ string, err error) { told = append(told, err) })))
	defer server.Close()
	client := quay.NewQuayClient(server.URL, web.WithCredential("crew", "ada"), web.WithTries(1))
	fail := func(with error) *web.Problem {
		refusal, told = with, nil
		err := client.SetFares(t.Context(), summer)
		var p *web.Problem
		require.ErrorAs(t, err, &p)
		return p
	}

	p := fail(&web.Refusal{Violations: []wire.Violation{{Pointer: "/fare", Detail: "must be what the office set"},
		{In: "query", Pointer: "/season", Detail: "must not be over"}}})
	assert.Equal(t, "invalid-request", p.Name())
	assert.Equal(t, 400, p.Status)
	assert.Equal(t, "2 violations", p.Detail)
	assert.Equal(t, []wire.Violation{{Pointer: "/fare", Detail: "must be what the office set"},
		{In: "query", Pointer: "/season", Detail: "must not be over"}}, p.Violations)

	p = fail(&web.Refusal{Status: 429, Detail: "one change a minute", RetryAfter: 1500 * time.Millisecond})
	assert.Equal(t, web.Problem{Type: "about:blank", Title: "Too Many Requests", Status: 429,
		Detail: "one change a minute"}, *p)
	assert.Equal(t, "429 Too Many Requests: one change a minute", p.Error())

	p = fail(&web.Refusal{Status: 423, Type: "https://skerry.example/problems/frozen", Title: "The fares are frozen",
		Instance: "/fares/2026-05-01"})
	assert.Equal(t, web.Problem{Type: "https://skerry.example/problems/frozen", Title: "The fares are frozen", Status: 423,
		Instance: "/fares/2026-05-01"}, *p)
	assert.Equal(t, "https://skerry.example/problems/frozen", p.Name())
	assert.Empty(t, told)

	for _, wrong := range []*web.Refusal{
		{Status: 200, Detail: "all is well"},
		{Detail: "no status"},
		{Status: 409, Type: "/-/errors/skerry.quay.SailingFull"},
		{Status: 409, Violations: []wire.Violation{{Detail: "a status of its own"}}},
	} {
		p = fail(wrong)
		assert.Equal(t, "internal", p.Name(), "%+v", wrong)
		assert.Empty(t, p.Detail)
		require.Len(t, told, 1)
		assert.ErrorAs(t, told[0], new(*web.Refusal))
	}

	// What another server refused is an error of this one, not of its caller.
	p = fail(&web.Problem{Type: "https://skerry.example/problems/frozen", Title: "frozen", Status: 423})
	assert.Equal(t, "internal", p.Name())
	p = fail(wire.InvalidOf([]wire.Violation{{Detail: "of another request"}}))
	assert.Equal(t, "internal", p.Name())
}

// TestRetryAfterOfARefusal looks at the header that a client waits by.
func TestRetryAfterOfARefusal(t *testing.T) {
	server := httptest.NewServer(quay.ServeQuay(quay.QuayCalls{
		Follow: func(context.Context, *quay.FollowRequest, func(*fleet.Position) error) error {
			return &web.Refusal{Status: 429, RetryAfter: 1500 * time.Millisecond}
		}}))
	defer server.Close()
	response, body := asked(t, "GET", server.URL+"/vessels/00000000-0000-0000-0000-000000000001/positions")
	assert.Equal(t, "2", response.Header.Get("Retry-After"))
	assert.JSONEq(t, `{"type":"about:blank","title":"Too Many Requests","status":429}`, body)
}

// TestMethodsOfAPath asks for the methods of paths, and for answers without their bodies.
func TestMethodsOfAPath(t *testing.T) {
	ran := 0
	server := httptest.NewServer(quay.ServeQuay(quay.QuayCalls{
		Follow: func(context.Context, *quay.FollowRequest, func(*fleet.Position) error) error { ran++; return nil },
	}))
	defer server.Close()
	const vessel = "/vessels/00000000-0000-0000-0000-000000000001"
	for path, allow := range map[string]string{
		vessel + "/positions":        "GET, HEAD, OPTIONS",
		"/notices/EID-0715/x-skerry": "DELETE, OPTIONS, PUT",
		"/fares/2026-05-01":          "OPTIONS, PATCH",
	} {
		response, body := asked(t, "OPTIONS", server.URL+path)
		assert.Equal(t, []any{204, allow, ""}, []any{response.StatusCode, response.Header.Get("Allow"), body}, path)
		response, _ = asked(t, "TRACE", server.URL+path)
		assert.Equal(t, []any{405, allow}, []any{response.StatusCode, response.Header.Get("Allow")}, path)
	}
	response, _ := asked(t, "OPTIONS", server.URL+"/nothing")
	assert.Equal(t, 404, response.StatusCode)

	head, none := asked(t, "HEAD", server.URL+vessel+"/positions")
	assert.Equal(t, []any{200, "application/json-seq", ""}, []any{head.StatusCode, head.Header.Get("Content-Type"), none})
	assert.Zero(t, ran)
	head, _ = asked(t, "HEAD", server.URL+"/vessels/none/positions")
	assert.Equal(t, 400, head.StatusCode)
}

// TestPagesOfOtherOrigins looks at what a browser is told.
func TestPagesOfOtherOrigins(t *testing.T) {
	server := httptest.NewServer(quay.ServeQuay(quayCalls, web.WithOrigins("https://skerry.example")))
	defer server.Close()
	path := server.URL + "/vessels/00000000-0000-0000-0000-000000000001/positions"
	response, _ := asked(t, "GET", path, "Origin", "https://skerry.example")
	assert.Equal(t, "https://skerry.example", response.Header.Get("Access-Control-Allow-Origin"))
	assert.Equal(t, "true", response.Header.Get("Access-Control-Allow-Credentials"))
	assert.Contains(t, response.Header.Values("Vary"), "Origin")
	for _, headers := range [][]string{{"Origin", "https://elsewhere.example"}, {}} {
		response, _ = asked(t, "GET", path, headers...)
		assert.Empty(t, response.Header.Get("Access-Control-Allow-Origin"))
		assert.Contains(t, response.Header.Values("Vary"), "Origin")
	}
	response, _ = asked(t, "OPTIONS", server.URL+"/fares/2026-05-01", "Origin", "https://skerry.example",
		"Access-Control-Request-Method", "PATCH", "Access-Control-Request-Headers", "content-type")
	assert.Equal(t, 204, response.StatusCode, "a preflight comes without credentials")
	assert.Equal(t, "PATCH", response.Header.Get("Access-Control-Allow-Methods"))
}

// TestHandlersSeeTheRequest looks at headers in both directions.
func TestHandlersSeeTheRequest(t *testing.T) {
	server := httptest.NewServer(quay.ServeQuay(quay.QuayCalls{
		SetFares: func(ctx context.Context, _ *quay.FareRequest) error {
			r := web.RequestOf(ctx)
			web.AnswerHeader(ctx).Set("Quay-Told", r.Header.Get("Quay-Asked")+" of "+r.RemoteAddr[:9])
			return nil
		},
	}))
	defer server.Close()
	told := ""
	client := quay.NewQuayClient(server.URL, web.WithCredential("crew", "ada"), web.WithHeader("Quay-Asked", "tide"),
		web.WithClientMiddleware(func(r *http.Request, next func(*http.Request) (*http.Response, error)) (*http.Response,
			error) {
			response, err := next(r)
			if err == nil {
				told = response.Header.Get("Quay-Told")
			}
			return response, err
		}))
	require.NoError(t, client.SetFares(t.Context(), summer))
	assert.Equal(t, "tide of 127.0.0.1", told)
	assert.Nil(t, web.RequestOf(t.Context()))
}

// TestAnswersOfProxies reads what does not come from a server of the definitions.
func TestAnswersOfProxies(t *testing.T) {
	status, body := 502, "<html>\n<h1>Bad gateway</h1>\n"
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}))
	defer server.Close()
	client := quay.NewQuayClient(server.URL, web.WithCredential("crew", "ada"), web.WithTries(1))
	var p *web.Problem
	require.ErrorAs(t, client.SetFares(t.Context(), summer), &p)
	assert.Equal(t, web.Problem{Type: "about:blank", Title: "Bad Gateway", Status: 502,
		Detail: "<html> <h1>Bad gateway</h1>"}, *p)
	status, body = 302, ""
	require.ErrorAs(t, client.SetFares(t.Context(), summer), new(*web.BadAnswer))
}

// TestReasonsOfNoAnswer tells apart why no answer came.
func TestReasonsOfNoAnswer(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	closing := make(chan bool)
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			if <-closing {
				_, _ = bufio.NewReader(conn).ReadString('\n')
				conn.Close()
			}
		}
	}()
	base := "http://" + listener.Addr().String()
	reason := func(ctx context.Context, options ...web.ClientOption) string {
		client := quay.NewQuayClient(base, append(options, web.WithCredential("crew", "ada"), web.WithTries(1))...)
		var unreachable *web.Unreachable
		require.ErrorAs(t, client.SetFares(ctx, summer), &unreachable)
		assert.Contains(t, unreachable.Error(), "no answer, "+unreachable.Reason()+": ")
		return unreachable.Reason()
	}
	go func() { closing <- true }()
	assert.Equal(t, "lost", reason(t.Context()))
	go func() { closing <- false }()
	assert.Equal(t, "timed out", reason(t.Context(), web.WithTimeout(50*time.Millisecond)))
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, cancel)
	go func() { closing <- false }()
	assert.Equal(t, "cancelled", reason(ctx))
	listener.Close()
	assert.Equal(t, "refused", reason(t.Context()))
}

// TestShuttingDown ends a server with calls of every kind in the middle.
func TestShuttingDown(t *testing.T) {
	started, finish := make(chan string, 4), make(chan struct{})
	served := quay.ServeQuay(quay.QuayCalls{
		SetFares: func(context.Context, *quay.FareRequest) error {
			started <- "set_fares"
			<-finish
			return nil
		},
		Follow: func(ctx context.Context, _ *quay.FollowRequest, send func(*fleet.Position) error) error {
			if err := send(&fleet.Position{}); err != nil {
				return err
			}
			started <- "follow"
			<-ctx.Done()
			return nil // as if all were sent
		},
		Board: func(_ context.Context, elements iter.Seq2[*quay.BoardingScan, error]) (*quay.BoardingSummary, error) {
			started <- "board"
			for _, err := range elements {
				if err != nil {
					return nil, err
				}
			}
			return &quay.BoardingSummary{}, nil
		},
		Talk: func(_ context.Context, elements iter.Seq2[*quay.Signal, error], _ func(*quay.Signal) error) error {
			started <- "talk"
			for _, err := range elements {
				if err != nil {
					return err
				}
			}
			return nil
		},
	}, web.WithHeartbeat(20*time.Millisecond))
	server := httptest.NewServer(served)
	defer server.Close()
	client := quay.NewQuayClient(server.URL, web.WithTries(1), web.WithCredential("crew", "ada"),
		web.WithCredential("door", "7"))
	results := make(chan string, 4)
	told := func(call string, err error) {
		var p *web.Problem
		if errors.As(err, &p) {
			err = errors.New(p.Name())
		}
		results <- fmt.Sprint(call, " ", err)
	}
	go func() { told("set_fares", client.SetFares(t.Context(), summer)) }()
	go func() {
		var failed error
		for _, err := range client.Follow(t.Context(), &quay.FollowRequest{}) {
			failed = err
		}
		told("follow", failed)
	}()
	go func() {
		sender := client.Board(t.Context())
		scan := &quay.BoardingScan{Sailing: "EID-0715", Passage: quay.PassageFoot{}, DoorCode: "K7PLM2", SeenAt: time.Now()}
		for sender.Send(scan) == nil {
			time.Sleep(5 * time.Millisecond)
		}
		_, err := sender.Finish()
		told("board", err)
	}()
	go func() {
		talk, err := client.Talk(t.Context())
		if err == nil {
			defer talk.Close()
			for _, failed := range talk.All() {
				err = failed
			}
		}
		told("talk", err)
	}()
	for range 4 {
		<-started
	}

	impatient, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, served.Shutdown(impatient), context.DeadlineExceeded, "a call is still at work")
	ended := map[string]bool{}
	for range 3 {
		ended[<-results] = true
	}
	assert.Equal(t, map[string]bool{"follow unavailable": true, "board unavailable": true, "talk unavailable": true},
		ended)
	response, body := asked(t, "GET", server.URL+"/-/state")
	assert.Equal(t, 503, response.StatusCode)
	assert.JSONEq(t, `{"serving":false}`, body)
	var p *web.Problem
	require.ErrorAs(t, client.Unpost(t.Context(), &quay.NoticeRequest{Code: "EID-0715", Language: "x-skerry"}), &p)
	assert.Equal(t, "unavailable", p.Name())
	response, _ = asked(t, "DELETE", server.URL+"/notices/EID-0715/x-skerry")
	assert.Equal(t, "1", response.Header.Get("Retry-After"))

	close(finish)
	assert.Equal(t, "set_fares <nil>", <-results, "it was finished")
	require.NoError(t, served.Shutdown(t.Context()))
}

// TestOptionsOfOneCall makes calls with a timeout, a header and a credential of their own, and
// reads the headers of their answers.
func TestOptionsOfOneCall(t *testing.T) {
	var headers []string
	server := httptest.NewServer(quay.ServeQuay(quay.QuayCalls{
		SetFares: func(ctx context.Context, _ *quay.FareRequest) error {
			r := web.RequestOf(ctx)
			headers = append(headers, r.Header.Get("Quay-Asked")+" "+r.Header.Get("Authorization")+" "+r.Header.Get("Prefer"))
			web.AnswerHeader(ctx).Set("Quay-Tide", "ebb")
			return nil
		},
		Follow: quayCalls.Follow,
		Talk:   quayCalls.Talk,
	}))
	defer server.Close()
	client := quay.NewQuayClient(server.URL, web.WithCredential("skerry.quay.crew", "ada"),
		web.WithHeader("Quay-Asked", "always"))
	var answered http.Header
	require.NoError(t, client.SetFares(t.Context(), summer, web.CallHeader("Quay-Asked", "once"),
		web.CallCredential("crew", "per"), web.CallTimeout(7*time.Second), web.CallAnswered(&answered)))
	assert.Equal(t, "ebb", answered.Get("Quay-Tide"))
	require.NoError(t, client.SetFares(t.Context(), summer))
	assert.Equal(t, []string{"once Bearer per wait=7", "always Bearer ada wait=60"}, headers)

	for range client.Follow(t.Context(), &quay.FollowRequest{}, web.CallAnswered(&answered)) {
		continue
	}
	assert.Equal(t, "application/cbor-seq", answered.Get("Content-Type"))
	talk, err := client.Talk(t.Context(), web.CallAnswered(&answered))
	require.NoError(t, err)
	talk.Close()
	assert.Equal(t, "faithful-cbor", answered.Get("Sec-WebSocket-Protocol"))
	require.Error(t, client.Unpost(t.Context(), &quay.NoticeRequest{Code: "EID-0715", Language: "x-skerry"},
		web.CallAnswered(&answered)))
	assert.Equal(t, "application/problem+json", answered.Get("Content-Type"))
}

// TestCallLimit refuses calls beyond those that a server answers at once.
func TestCallLimit(t *testing.T) {
	started, finish := make(chan bool), make(chan bool)
	server := httptest.NewServer(quay.ServeQuay(quay.QuayCalls{
		SetFares: func(context.Context, *quay.FareRequest) error { started <- true; <-finish; return nil },
		Talk:     quayCalls.Talk,
	}, web.WithCallLimit(1)))
	defer server.Close()
	client := quay.NewQuayClient(server.URL, web.WithCredential("crew", "ada"), web.WithTries(1))
	first := make(chan error)
	go func() { first <- client.SetFares(t.Context(), summer) }()
	<-started
	var p *web.Problem
	var answered http.Header
	require.ErrorAs(t, client.SetFares(t.Context(), summer, web.CallAnswered(&answered)), &p)
	assert.Equal(t, []string{"overloaded", "1"}, []string{p.Name(), answered.Get("Retry-After")})
	_, err := client.Talk(t.Context())
	require.ErrorAs(t, err, &p)
	assert.Equal(t, "overloaded", p.Name())
	response, _ := asked(t, "GET", server.URL+"/-/state")
	assert.Equal(t, 200, response.StatusCode)
	finish <- true
	require.NoError(t, <-first)
	go func() { <-started; finish <- true }()
	require.NoError(t, client.SetFares(t.Context(), summer))
}

// TestWatching is told of calls of every kind, as they begin and as they end.
func TestWatching(t *testing.T) {
	type key struct{}
	told := make(chan string, 1)
	calls := quay.QuayCalls{
		SetFares: func(ctx context.Context, _ *quay.FareRequest) error {
			assert.Equal(t, "skerry.quay.Quay.set_fares", ctx.Value(key{}), "the watcher's context is the handler's")
			return nil
		},
		Unpost: func(context.Context, *quay.NoticeRequest) error { return errors.New("no glue") },
		Follow: func(_ context.Context, _ *quay.FollowRequest, send func(*fleet.Position) error) error {
			return errors.Join(send(&fleet.Position{}), errors.New("fog"))
		},
		Talk: func(_ context.Context, elements iter.Seq2[*quay.Signal, error], send func(*quay.Signal) error) error {
			for signal := range elements {
				if err := send(signal); err != nil {
					return err
				}
			}
			return nil
		},
	}
	server := httptest.NewServer(quay.ServeQuay(calls, web.WithOnError(func(context.Context, string, error) {}),
		web.WithWatcher(func(ctx context.Context, call *web.Call) (context.Context, func(web.Watched)) {
			began := time.Now()
			return context.WithValue(ctx, key{}, call.Name), func(w web.Watched) {
				assert.WithinDuration(t, began, w.Start, time.Second)
				assert.Positive(t, w.Duration)
				told <- fmt.Sprintf("%s %d in %d out %d %v", call.Name, w.Status, w.Received, w.Sent, w.Err)
			}
		})))
	defer server.Close()
	client := quay.NewQuayClient(server.URL, web.WithCredential("crew", "ada"), web.WithTries(1))
	whole, err := summer.MarshalBinary()
	require.NoError(t, err)
	body := len(whole) - len("\x01\xd8\x64\x19\x50\x9d") // the season travels in the path
	const problem = `{"type":"/-/errors/internal","title":"internal","status":500}`
	require.NoError(t, client.SetFares(t.Context(), summer))
	assert.Equal(t, fmt.Sprintf("skerry.quay.Quay.set_fares 204 in %d out 0 <nil>", body), <-told)
	require.Error(t, client.Unpost(t.Context(), &quay.NoticeRequest{Code: "EID-0715", Language: "x-skerry"}))
	assert.Equal(t, fmt.Sprintf("skerry.quay.Quay.unpost 500 in 0 out %d no glue", len(problem)), <-told)
	for range client.Follow(t.Context(), &quay.FollowRequest{}) {
		continue
	}
	assert.Regexp(t, `^skerry.quay.Quay.follow 200 in 0 out [1-9][0-9]+ fog$`, <-told)
	talk, err := client.Talk(t.Context())
	require.NoError(t, err)
	require.NoError(t, errors.Join(talk.Send(&quay.Signal{Text: "Lines off."}), talk.Finish()))
	for range talk.All() {
		continue
	}
	talk.Close()
	assert.Regexp(t, `^skerry.quay.Quay.talk 101 in [1-9][0-9] out [1-9][0-9] <nil>$`, <-told)
	require.Error(t, quay.NewQuayClient(server.URL, web.WithCredential("machine", "a:b")).Ring(t.Context()))
	_, _ = http.Post(server.URL+"/skerry/quay/quay/ring", "", nil)
	assert.Regexp(t, `^skerry.quay.Quay.ring 401 in 0 out [1-9][0-9]+ <nil>$`, <-told)
}

// TestMiddlewareSeesMessages looks at request and answer around a handler.
func TestMiddlewareSeesMessages(t *testing.T) {
	var seen []string
	server := httptest.NewServer(quay.ServeQuay(quay.QuayCalls{
		SetFares: func(context.Context, *quay.FareRequest) error { return nil },
		Post:     func(_ context.Context, notice *quay.Notice) (*quay.Notice, error) { return notice, nil },
		Follow:   quayCalls.Follow,
	}, web.WithMiddleware(func(ctx context.Context, _ *web.Call, next func(context.Context) error) error {
		request, before := web.MessagesOf(ctx)
		err := next(ctx)
		_, after := web.MessagesOf(ctx)
		seen = append(seen, fmt.Sprintf("%T %v %T", request, before, after))
		return err
	})))
	defer server.Close()
	client := quay.NewQuayClient(server.URL, web.WithCredential("crew", "ada"))
	require.NoError(t, client.SetFares(t.Context(), summer))
	_, err := client.Post(t.Context(), &quay.Notice{Code: "EID-0715", Language: "x-skerry", Body: "Fog."})
	require.NoError(t, err)
	for range client.Follow(t.Context(), &quay.FollowRequest{}) {
		continue
	}
	assert.Equal(t, []string{"*quay.FareRequest <nil> <nil>", "*quay.Notice <nil> *quay.Notice", "<nil> <nil> <nil>"},
		seen)
}

// TestWhatCannotBeWritten is a violation, and nothing is sent.
func TestWhatCannotBeWritten(t *testing.T) {
	client := quay.NewQuayClient("http://127.0.0.1:1", web.WithCredential("crew", "ada"))
	_, err := client.Post(t.Context(), &quay.Notice{Code: "EID-0715", Language: "x-skerry", Body: "\xff"})
	var invalid *wire.InvalidRequest
	require.ErrorAs(t, err, &invalid)
	require.Len(t, invalid.Violations, 1)
	assert.Contains(t, invalid.Violations[0].Detail, "UTF-8")
}

// TestWatchersThatFail do not fail the call.
func TestWatchersThatFail(t *testing.T) {
	var told []string
	for _, watcher := range []web.Watcher{
		func(context.Context, *web.Call) (context.Context, func(web.Watched)) { panic("no gauge") },
		func(context.Context, *web.Call) (context.Context, func(web.Watched)) { return nil, nil },
		func(ctx context.Context, _ *web.Call) (context.Context, func(web.Watched)) {
			return ctx, func(web.Watched) { panic("no gauge") }
		},
	} {
		server := httptest.NewServer(quay.ServeQuay(quay.QuayCalls{
			SetFares: func(context.Context, *quay.FareRequest) error { return nil },
		}, web.WithWatcher(watcher), web.WithOnError(func(_ context.Context, call string,
			_ error) {
			told = append(told, call)
		})))
		require.NoError(t, quay.NewQuayClient(server.URL, web.WithCredential("crew", "ada")).SetFares(t.Context(), summer))
		server.Close()
	}
	assert.Equal(t, slices.Repeat([]string{"skerry.quay.Quay.set_fares"}, 3), told)
}
