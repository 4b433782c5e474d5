// The client of the matrix in Go: it prints a line a case.
package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"iter"
	"net/http"
	"os"
	"reflect"
	"strconv"
	"strings"
	"time"

	"faithfulcourier/conformance/go/gen/faithful/web"
	"faithfulcourier/conformance/go/gen/faithful/wire"
	"faithfulcourier/conformance/go/gen/skerry/matrix"
)

var (
	server = flag.String("server", "http://127.0.0.1:8080", "where the server is")
	json   = flag.Bool("json", false, "send JSON instead of CBOR")
	ctx    = context.Background()
)

func connect(options ...web.ClientOption) *matrix.PierClient {
	if *json {
		options = append(options, web.WithJSON())
	}
	return matrix.NewPierClient(*server, options...)
}

func main() {
	flag.Parse()
	client := connect()
	for _, c := range []struct {
		name string
		run  func(client *matrix.PierClient) error
	}{
		{"unary", unary}, {"bound", bound}, {"answer headers", answerHeaders}, {"raw bodies", rawBodies},
		{"compression", compression}, {"watching", watching},
		{"answer stream", answerStream}, {"request stream", requestStream}, {"both ways", bothWays},
		{"heads", heads}, {"declared error", declaredError}, {"invalid request", invalidRequest},
		{"late failure", lateFailure},
		{"early answer", earlyAnswer}, {"early refusal", earlyRefusal},
		{"cancellation", cancellation}, {"left streams", leftStreams}, {"timeout", timeout}, {"missing credential",
			missingCredential}, {"retry", retry},
		{"not implemented", notImplemented},
	} {
		if err := c.run(client); err != nil {
			fmt.Printf("%s: %v\n", c.name, err)
		} else {
			fmt.Printf("%s: ok\n", c.name)
		}
	}
}

// same is an error unless two values are equal.
func same(got, want any) error {
	if reflect.DeepEqual(got, want) {
		return nil
	}
	return fmt.Errorf("got %v, not %v", got, want)
}

func unary(client *matrix.PierClient) error {
	at := time.Date(2026, 7, 15, 6, 58, 12, 250_000_000, time.UTC)
	request := matrix.EchoRequest{Text: wire.Pointer("Håkon \"the\" Skua 🐦\n"), At: &at,
		Names: map[string]int64{"a": -1, "bb": 1 << 60}}
	const parent = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"
	answer, err := client.Echo(web.WithTrace(ctx, parent, ""), &request)
	if err != nil {
		return err
	}
	request.Amount = wire.Pointer(wire.MustDecimal("1.50"))
	return same(answer, &matrix.EchoAnswer{Request: request, Trace: wire.Pointer(parent)})
}

func bound(client *matrix.PierClient) error {
	since := wire.NewDate(1968, 5, 1)
	request := &matrix.BerthRequest{Code: "a/b ?%ø..", Number: -9007199254740993, Side: wire.Pointer(matrix.SideSouth),
		Decks: []uint8{3, 1}, Since: &since, Ticket: wire.Pointer("50% ; \"é\""), Name: "Guillemot",
		Wait: wire.Pointer(90 * time.Second)}
	answer, err := client.Berth(ctx, request)
	if err != nil {
		return err
	}
	want := &matrix.BerthAnswer{Code: request.Code, Number: request.Number, Side: *request.Side, Decks: request.Decks,
		Since: request.Since, Ticket: request.Ticket, Name: request.Name, Wait: *request.Wait}
	if err := same(answer, want); err != nil {
		return err
	}
	look := &matrix.LookRequest{Code: "EID", Side: wire.Pointer(matrix.SideNorth), Ratio: wire.Pointer(-0.5e-9),
		Open: wire.Pointer(false), Amount: wire.Pointer(wire.MustDecimal("-0.10")),
		Hull: wire.Pointer(wire.MustUUID("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01")), Photo: []byte{0, 255},
		Name: wire.Pointer("12 & = + #")}
	looked, err := client.Look(ctx, look)
	if err == nil {
		err = same(looked, look)
	}
	if err != nil {
		return err
	}
	looked, err = client.Look(ctx, &matrix.LookRequest{Code: "EID"})
	if err == nil {
		err = same(looked, &matrix.LookRequest{Code: "EID", Open: wire.Pointer(true)})
	}
	if err != nil {
		return err
	}
	var invalid *wire.InvalidRequest
	if _, err := client.Look(ctx, &matrix.LookRequest{Code: ".."}); !errors.As(err, &invalid) {
		return fmt.Errorf("a path of .. gave %v", err)
	}
	return client.Leave(ctx, &matrix.LookRequest{Code: "EID"})
}

func answerHeaders(client *matrix.PierClient) error {
	encoding := map[bool]string{true: "json", false: "cbor"}[*json]
	request := &matrix.StampRequest{Code: "kept", Visit: wire.Pointer("a \"b\"; ü"), How: wire.Pointer(" é, 100% \"x\" ")}
	stamp, err := client.Stamp(ctx, request)
	if err != nil {
		return err
	}
	want := &matrix.Stamp{Tag: `"kept.` + encoding + `"`, Cache: wire.Pointer("max-age=60"), Count: 4, Visit: request.Visit,
		Name: "kept", How: request.How}
	if err := same(stamp, want); err != nil {
		return err
	}
	for _, known := range []string{stamp.Tag, `"other", W/` + stamp.Tag, "*"} {
		var unchanged *web.NotModified
		_, err := client.Stamp(ctx, &matrix.StampRequest{Code: "kept", Known: &known})
		if !errors.As(err, &unchanged) || unchanged.ETag != stamp.Tag {
			return fmt.Errorf("%s gave %v", known, err)
		}
	}
	if stamp, err = client.Stamp(ctx, &matrix.StampRequest{Code: "new", Known: &stamp.Tag}); err != nil {
		return err
	}
	if err := same(stamp, &matrix.Stamp{Tag: `"new.` + encoding + `"`, Cache: wire.Pointer("private, no-cache"),
		Count: 3, Name: "new"}); err != nil {
		return err
	}
	moved, err := client.Move(ctx, &matrix.MoveRequest{To: "/stamps/new?y=1"})
	if err == nil {
		err = same(moved, &matrix.Moved{At: "/stamps/new?y=1", Note: wire.Pointer("moved, to: ü")})
	}
	if err != nil {
		return err
	}
	for code, left := range map[string]*uint32{"3": wire.Pointer[uint32](3), "x": nil} {
		forgotten, err := client.Forget(ctx, &matrix.StampRequest{Code: code})
		if err == nil {
			err = same(forgotten, &matrix.Forgotten{Visit: wire.Pointer(""), Left: left})
		}
		if err != nil {
			return err
		}
	}
	_, err = client.Ping(ctx, &matrix.Nothing{})
	return err
}

// made is what a server makes for a photo of some size.
func made(size int) []byte {
	photo := make([]byte, size)
	for i := range photo {
		photo[i] = byte(i % 251)
	}
	return photo
}

func rawBodies(client *matrix.PierClient) error {
	photo, sum := made(3_000_000), uint64(0)
	for _, octet := range photo {
		sum += uint64(octet)
	}
	for _, size := range []int{0, len(photo)} { // unknown and known
		body := web.Body{Reader: io.MultiReader(bytes.NewReader(photo)), MediaType: "image/x-made", Length: int64(size)}
		request := &matrix.HangRequest{Name: "a/b", Photo: body, Label: wire.Pointer("ü"), Tags: []string{"x", "y"}}
		hung, err := client.Hang(ctx, request)
		if err == nil {
			err = same(hung, &matrix.Hung{Name: "a/b", Size: 3_000_000, Kind: "image/x-made", Sum: sum, Label: request.Label,
				Tags: request.Tags})
		}
		if err != nil {
			return err
		}
	}
	for _, known := range []bool{true, false} {
		answer, err := client.Photo(ctx, &matrix.PhotoRequest{Name: "n", Size: 3_000_000, Known: &known})
		if err != nil {
			return err
		}
		got, err := io.ReadAll(answer.Photo)
		wanted := map[bool]int64{true: 3_000_000}[known]
		if err := errors.Join(err, same(bytes.Equal(got, photo), true), same(answer.Photo.Length, wanted),
			same(answer.Photo.MediaType, "image/x-made"), same(answer.Name, "n"), same(*answer.Tag, `"n"`)); err != nil {
			return err
		}
		// One that fails in the middle is not whole.
		answer, err = client.Photo(ctx, &matrix.PhotoRequest{Name: "n", Size: 3_000_000, Known: &known,
			Fails: wire.Pointer[uint64](2_000_000)})
		if err != nil {
			return err
		}
		got, err = io.ReadAll(answer.Photo)
		var lost *web.Unreachable
		if !errors.As(err, &lost) || len(got) > 2_000_000 {
			return fmt.Errorf("a failing photo gave %d bytes, and %v", len(got), err)
		}
		// One that fails at once is a problem.
		_, err = client.Photo(ctx, &matrix.PhotoRequest{Name: "n", Size: 3, Known: &known, Fails: wire.Pointer[uint64](0)})
		if err := problem(err, "internal"); err != nil {
			return err
		}
	}
	var status http.Header
	answer, err := client.Photo(ctx, &matrix.PhotoRequest{Name: "n", Size: 1000}, web.CallHeader("Range", "bytes=990-"),
		web.CallAnswered(&status))
	if err != nil {
		return err
	}
	got, err := io.ReadAll(answer.Photo)
	if err := errors.Join(err, same(got, made(1000)[990:]), same(status.Get("Content-Range"),
		"bytes 990-999/1000")); err != nil {
		return err
	}
	back, err := client.Back(ctx, &matrix.Scanned{Roll: wire.NewBody("", made(1000))})
	if err != nil {
		return err
	}
	got, err = io.ReadAll(back.Roll)
	if err := errors.Join(err, same(got, made(1000))); err != nil {
		return err
	}
	var invalid *wire.InvalidRequest
	for _, wrong := range []web.Body{wire.NewBody("", made(9)), wire.NewBody("text/plain", made(10)), {}} {
		if _, err := client.Back(ctx, &matrix.Scanned{Roll: wrong}); !errors.As(err, &invalid) {
			return fmt.Errorf("%v gave %v", wrong, err)
		}
	}
	// What the client can't know before: the answer has begun, or has not.
	for _, size := range []int{9, 1001} {
		back, err := client.Back(ctx, &matrix.Scanned{Roll: web.Body{Reader: io.MultiReader(bytes.NewReader(made(size)))}})
		if err == nil {
			if _, err := io.ReadAll(back.Roll); err == nil {
				return fmt.Errorf("%d bytes came back", size)
			}
		} else if lost := (*web.Unreachable)(nil); !errors.As(err, &lost) {
			if err := problem(err, "invalid-request"); err != nil {
				return err
			}
		}
	}
	return nil
}

func compression(*matrix.PierClient) error {
	text := strings.Repeat("Håkon ", 5000)
	for _, compressed := range []bool{true, false} {
		var options []web.ClientOption
		if compressed {
			options = append(options, web.WithCompression())
		}
		client := connect(options...)
		var header http.Header
		answer, err := client.Echo(ctx, &matrix.EchoRequest{Text: &text}, web.CallAnswered(&header))
		if err != nil {
			return err
		}
		wanted := map[bool]string{true: "gzip"}[compressed]
		if err := errors.Join(same(*answer.Request.Text, text), same(header.Get("Content-Encoding"), wanted)); err != nil {
			return err
		}
		// What is small, or secret, is not compressed.
		if _, err := client.Echo(ctx, &matrix.EchoRequest{}, web.CallAnswered(&header)); err != nil {
			return err
		}
		if err := same(header.Get("Content-Encoding"), ""); err != nil {
			return err
		}
		if _, err := client.Hush(ctx, &matrix.EchoRequest{Text: &text}, web.CallAnswered(&header)); err != nil {
			return err
		}
		if err := same(header.Get("Content-Encoding"), ""); err != nil {
			return err
		}
	}
	// Limits hold for what comes out.
	var bad *web.BadAnswer
	if _, err := connect(web.WithCompression(), web.WithAnswerLimit(10_000)).Echo(ctx,
		&matrix.EchoRequest{Text: &text}); !errors.As(err, &bad) {
		return fmt.Errorf("an answer that is too large gave %v", err)
	}
	return nil
}

// numbers collects the numbers of a stream.
func numbers(ticks iter.Seq2[*matrix.Tick, error]) (list []uint32, err error) {
	for tick, err := range ticks {
		if err != nil {
			return list, err
		}
		list = append(list, tick.N)
	}
	return list, nil
}

func answerStream(client *matrix.PierClient) error {
	list, err := numbers(client.Count(ctx, &matrix.CountRequest{Count: 5}))
	if err == nil {
		err = same(list, []uint32{0, 1, 2, 3, 4})
	}
	if err != nil {
		return err
	}
	list, err = numbers(client.Count(ctx, &matrix.CountRequest{Count: 0}))
	if err == nil {
		err = same(len(list), 0)
	}
	if err != nil {
		return err
	}
	list, err = numbers(client.Count(ctx, &matrix.CountRequest{Count: 20, Size: wire.Pointer[uint32](99_000)}))
	if err == nil {
		err = same(len(list), 20)
	}
	return err
}

func requestStream(client *matrix.PierClient) error {
	for _, n := range []int{0, 1, 1000} {
		sender := client.Sum(ctx)
		want := uint64(0)
		for i := range n {
			if err := sender.Send(&matrix.Tick{N: uint32(i)}); err != nil {
				return err
			}
			want += uint64(i)
		}
		total, err := sender.Finish()
		if err == nil {
			err = same(total.Total, want)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func bothWays(client *matrix.PierClient) error {
	talk, err := client.Mirror(ctx)
	if err != nil {
		return err
	}
	defer talk.Close()
	next, stop := iter.Pull2(talk.All())
	defer stop()
	for i := range uint32(50) {
		if err := talk.Send(&matrix.Tick{N: i, Text: wire.Pointer(strings.Repeat("é", int(i)))}); err != nil {
			return err
		}
		tick, err, more := next()
		if err != nil || !more || tick.N != i || *tick.Text != strings.Repeat("é", int(i)) {
			return fmt.Errorf("element %d came back as %v, %v", i, tick, err)
		}
	}
	if err := talk.Finish(); err != nil {
		return err
	}
	if _, err, more := next(); more {
		return fmt.Errorf("after the end came more: %v", err)
	}
	return nil
}

func heads(client *matrix.PierClient) error {
	for _, head := range []*matrix.Gangway{
		{Code: "a/b ?%ø..", Since: wire.Pointer[uint64](7), Decks: []uint8{3, 1}, Device: wire.Pointer("é, 100% \"x\""),
			Visit: wire.Pointer("50% ; \"é\"")},
		{Code: "EID", Decks: []uint8{}},
	} {
		want := &matrix.Boarded{Code: head.Code, Decks: head.Decks, Device: head.Device, Visit: head.Visit,
			Total: head.SinceOrDefault() + 6}
		sender := client.Board(ctx, head)
		for _, n := range []uint32{1, 2, 3} {
			if err := sender.Send(&matrix.Tick{N: n}); err != nil {
				return err
			}
		}
		boarded, err := sender.Finish()
		if err == nil {
			err = same(boarded, want)
		}
		if err != nil {
			return err
		}
		talk, err := client.File(ctx, head)
		if err != nil {
			return err
		}
		next, stop := iter.Pull2(talk.All())
		for n := range uint32(4) {
			if err := talk.Send(&matrix.Tick{N: n}); err != nil {
				return err
			}
			if boarded, err, _ = next(); err != nil {
				return err
			}
		}
		stop()
		if err := same(boarded, want); err != nil {
			return err
		}
	}
	if _, err := client.Board(ctx, &matrix.Gangway{Code: "full"}).Finish(); full(err, 0) != nil {
		return full(err, 0)
	}
	for _, wrong := range []*matrix.Gangway{{Code: ".."}, {Code: "EID", Since: wire.Pointer[uint64](1001)}} {
		var invalid *wire.InvalidRequest
		if _, err := client.Board(ctx, wrong).Finish(); !errors.As(err, &invalid) {
			return fmt.Errorf("%v gave %v", wrong, err)
		}
		if _, err := client.File(ctx, wrong); !errors.As(err, &invalid) {
			return fmt.Errorf("%v gave %v", wrong, err)
		}
	}
	return nil
}

func full(err error, berths uint32) error {
	var declared *matrix.PierFull
	if !errors.As(err, &declared) {
		return fmt.Errorf("not PierFull: %w", err)
	}
	return same(declared.Berths, berths)
}

func problem(err error, name string) error {
	var p *web.Problem
	if !errors.As(err, &p) || p.Name() != name {
		return fmt.Errorf("not the problem %s: %v", name, err)
	}
	if strings.Contains(err.Error(), "password") {
		return fmt.Errorf("it tells of the inside: %w", err)
	}
	return nil
}

func declaredError(client *matrix.PierClient) error {
	if err := full(client.Refuse(ctx, &matrix.RefuseRequest{How: "declared"}), 7); err != nil {
		return err
	}
	for _, how := range []string{"panic", "another", "else"} {
		if err := problem(client.Refuse(ctx, &matrix.RefuseRequest{How: how}), "internal"); err != nil {
			return fmt.Errorf("%s: %w", how, err)
		}
	}
	_, err := numbers(client.Count(ctx, &matrix.CountRequest{Count: 1, FailsAfter: wire.Pointer[uint32](0)}))
	return full(err, 0)
}

func invalidRequest(client *matrix.PierClient) error {
	var invalid *wire.InvalidRequest
	_, err := client.Echo(ctx, &matrix.EchoRequest{Text: wire.Pointer("")})
	if !errors.As(err, &invalid) {
		return fmt.Errorf("an empty text gave %v", err)
	}
	// What the client can't know: a body that is too large for this server.
	large := map[string]int64{}
	_, err = client.Echo(ctx, &matrix.EchoRequest{Text: wire.Pointer(strings.Repeat("é", 199_999)), Names: large})
	return problem(err, "too-large")
}

func lateFailure(client *matrix.PierClient) error {
	list, err := numbers(client.Count(ctx, &matrix.CountRequest{Count: 9, FailsAfter: wire.Pointer[uint32](3)}))
	if err := errors.Join(full(err, 3), same(list, []uint32{0, 1, 2})); err != nil {
		return err
	}
	list, err = numbers(client.Count(ctx, &matrix.CountRequest{Count: 9, FailsAfter: wire.Pointer[uint32](3),
		Badly: wire.Pointer(true)}))
	if err := errors.Join(problem(err, "internal"), same(list, []uint32{0, 1, 2})); err != nil {
		return err
	}
	talk, err := client.Mirror(ctx)
	if err != nil {
		return err
	}
	defer talk.Close()
	for _, text := range []string{"a", "full"} {
		if err := talk.Send(&matrix.Tick{N: 5, Text: &text}); err != nil {
			return err
		}
	}
	list, err = numbers(talk.All())
	return errors.Join(full(err, 5), same(list, []uint32{5}))
}

func earlyAnswer(client *matrix.PierClient) error {
	for _, text := range []string{"full", "stop"} {
		sender := client.Sum(ctx)
		var err error
		for i := range uint32(2000) {
			tick := &matrix.Tick{N: 1, Text: wire.Pointer(strings.Repeat("x", 1000))}
			if i == 3 {
				tick = &matrix.Tick{N: 9, Text: &text}
			}
			if err = sender.Send(tick); err != nil {
				break
			}
		}
		total, finished := sender.Finish()
		if err == nil {
			err = finished
		}
		if text == "full" {
			err = full(err, 9)
		} else if err == nil || strings.Contains(err.Error(), "answered") {
			err = nil
			if finished == nil {
				err = same(total.Total, uint64(3))
			}
		}
		if err != nil {
			return fmt.Errorf("%s: %w", text, err)
		}
	}
	return nil
}

func earlyRefusal(*matrix.PierClient) error {
	sender := connect(web.WithCredential("desk", "expired")).GuardedSum(ctx)
	text := strings.Repeat("x", 1000)
	for range 4200 { // over 4 MiB
		if sender.Send(&matrix.Tick{N: 1, Text: &text}) != nil {
			break // Finish says why
		}
	}
	_, err := sender.Finish()
	return problem(err, "unauthenticated")
}

// woken leaves a call after some time and waits until the server has seen one more caller leave. On a busy machine a
// call that is left early may not have reached its handler: then it is left later.
func woken(client *matrix.PierClient, leave func(after time.Duration) error) error {
	return wokenBy(client, leave, 100*time.Millisecond, time.Second, 4*time.Second)
}

// wokenBy is woken with how long calls run before they are left.
func wokenBy(client *matrix.PierClient, leave func(after time.Duration) error, running ...time.Duration) error {
	before, err := client.Woken(ctx)
	if err != nil {
		return err
	}
	for _, after := range running {
		if err := leave(after); err != nil {
			return err
		}
		for range 200 {
			now, err := client.Woken(ctx)
			if err != nil {
				return err
			}
			if now.Total > before.Total {
				return nil
			}
			time.Sleep(10 * time.Millisecond)
		}
	}
	return errors.New("the handler did not notice")
}

func cancellation(client *matrix.PierClient) error {
	running := []time.Duration{100 * time.Millisecond, time.Second, 4 * time.Second}
	if os.Getenv("MATRIX_UNSEEN") != "" { // the server is known to see nothing of it
		running = running[:1]
	}
	return wokenBy(client, func(after time.Duration) error {
		short, cancel := context.WithCancel(ctx)
		time.AfterFunc(after, cancel)
		var unreachable *web.Unreachable
		if err := client.Sleep(short, &matrix.SleepRequest{ID: 1}); !errors.As(err, &unreachable) ||
			!errors.Is(err, context.Canceled) {
			return fmt.Errorf("a cancelled call gave %v", err)
		}
		return nil
	}, running...)
}

func leftStreams(client *matrix.PierClient) error {
	err := woken(client, func(time.Duration) error {
		for tick, err := range client.Drift(ctx, &matrix.SleepRequest{}) {
			if err != nil || tick.N == 2 {
				return err
			}
		}
		return errors.New("it ended")
	})
	if err != nil {
		return fmt.Errorf("answer stream: %w", err)
	}
	sender := client.Sum(ctx)
	if err := sender.Send(&matrix.Tick{N: 1}); err != nil {
		return err
	}
	sender.Abort()
	return nil
}

func timeout(*matrix.PierClient) error {
	return woken(connect(), func(after time.Duration) error {
		client := connect(web.WithTimeout(after), web.WithTries(1))
		var unreachable *web.Unreachable
		if err := client.Sleep(ctx, &matrix.SleepRequest{}); !errors.As(err, &unreachable) ||
			!errors.Is(err, context.DeadlineExceeded) {
			return fmt.Errorf("a call that took too long gave %v", err)
		}
		return nil
	})
}

func missingCredential(client *matrix.PierClient) error {
	var missing *web.MissingCredential
	if _, err := client.Guarded(ctx); !errors.As(err, &missing) ||
		!strings.Contains(err.Error(), "crew + desk | machine") {
		return fmt.Errorf("without credentials: %v", err)
	}
	for _, options := range [][]web.ClientOption{
		{web.WithCredential("desk", "k"), web.WithCredentialFunc("skerry.matrix.crew",
			func(context.Context) (string, error) { return "ada", nil })},
		{web.WithCredential("machine", "m&m")},
	} {
		answer, err := connect(options...).Guarded(ctx)
		if err != nil {
			return err
		}
		if len(options) == 2 && (answer.Crew == nil || *answer.Crew != "ada") {
			return fmt.Errorf("the gate saw %v", answer.Crew)
		}
	}
	_, err := connect(web.WithCredential("desk", "stolen"), web.WithCredential("crew", "c")).Guarded(ctx)
	if err := problem(err, "forbidden"); err != nil {
		return err
	}
	// A client that forgets them all the same is told so by the server.
	bare := connect(web.WithCredential("machine", ""))
	_, err = bare.Guarded(ctx)
	return problem(err, "unauthenticated")
}

// watching is told of calls of every kind, as they end, and puts them in a trace.
func watching(*matrix.PierClient) error {
	const parent = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"
	var told []string
	some := func(octets int64) string {
		if octets == 0 || octets == 1000 || octets == 3000 {
			return strconv.FormatInt(octets, 10)
		}
		return "+"
	}
	watch := func(ctx context.Context, call *web.Call) (context.Context, func(web.Watched)) {
		return web.WithTrace(ctx, parent, ""), func(w web.Watched) {
			failed := "-"
			if w.Err != nil {
				failed = "failed"
			}
			told = append(told, fmt.Sprintf("%s %d %d %s %s %s", strings.TrimPrefix(call.Name, "skerry.matrix.Pier."), w.Status,
				w.Tries, some(w.Sent), some(w.Received), failed))
		}
	}
	client := connect(web.WithClientWatcher(watch))
	answer, err := client.Echo(ctx, &matrix.EchoRequest{Text: wire.Pointer("ü")})
	if err != nil {
		return err
	}
	if err := same(answer.Trace, wire.Pointer(parent)); err != nil {
		return err
	}
	_, _ = client.Stamp(ctx, &matrix.StampRequest{Code: "kept", Known: wire.Pointer("*")})
	_, err = client.Hang(ctx, &matrix.HangRequest{Name: "n", Photo: web.Body{Reader: bytes.NewReader(made(1000)),
		MediaType: "image/x-made"}})
	if err != nil {
		return err
	}
	for _, fails := range []*uint64{nil, wire.Pointer[uint64](2_000_000)} {
		size := map[bool]uint64{true: 3000, false: 3_000_000}[fails == nil]
		photo, err := client.Photo(ctx, &matrix.PhotoRequest{Name: "n", Size: size, Fails: fails})
		if err != nil {
			return err
		}
		_, _ = io.Copy(io.Discard, photo.Photo)
	}
	_ = client.Refuse(ctx, &matrix.RefuseRequest{How: "declared"})
	if _, err = client.Flaky(ctx, &matrix.SleepRequest{ID: uint32(time.Now().UnixNano())}); err != nil {
		return err
	}
	_, _ = client.Look(ctx, &matrix.LookRequest{Code: ".."})
	for _, most := range []int{9, 2} {
		for range client.Count(ctx, &matrix.CountRequest{Count: 5}) {
			if most--; most == 0 {
				break
			}
		}
	}
	sum := client.Sum(ctx)
	if err := sum.Send(&matrix.Tick{N: 1}); err != nil {
		return err
	}
	if _, err := sum.Finish(); err != nil {
		return err
	}
	for _, most := range []int{9, 1} {
		mirror, err := client.Mirror(ctx)
		if err == nil {
			err = errors.Join(mirror.Send(&matrix.Tick{N: 1}), mirror.Send(&matrix.Tick{N: 2}))
		}
		if most > 1 && err == nil {
			err = mirror.Finish()
		}
		if err != nil {
			return err
		}
		for range mirror.All() {
			if most--; most == 0 {
				break
			}
		}
		mirror.Close()
	}
	return same(strings.Join(told, "\n"), `echo 200 1 + + -
stamp 304 1 0 0 -
hang 200 1 1000 + -
photo 200 1 0 3000 -
photo 200 1 0 + failed
refuse 409 1 + + failed
flaky 200 3 + + -
look 0 0 0 0 failed
count 200 1 + + -
count 200 1 + + -
sum 200 1 + + -
mirror 101 1 + + -
mirror 101 1 + + failed`)
}

func retry(client *matrix.PierClient) error {
	id := uint32(time.Now().UnixNano())
	total, err := client.Flaky(ctx, &matrix.SleepRequest{ID: id})
	if err == nil {
		err = same(total.Total, uint64(3))
	}
	if err != nil {
		return err
	}
	_, err = connect(web.WithTries(1)).Flaky(ctx, &matrix.SleepRequest{ID: id + 1})
	return problem(err, "overloaded")
}

func notImplemented(client *matrix.PierClient) error {
	return problem(client.Unwritten(ctx), "not-implemented")
}
