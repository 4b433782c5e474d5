// The server of the matrix in Go.
package main

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"iter"
	"log"
	"net"
	"net/http"
	"os"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"faithfulcourier/conformance/go/gen/faithful/web"
	"faithfulcourier/conformance/go/gen/faithful/wire"
	"faithfulcourier/conformance/go/gen/skerry/matrix"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:0", "the address to listen on")
	heartbeat := flag.Duration("heartbeat", 15*time.Second, "how often silent streams heartbeat")
	idle := flag.Duration("idle", time.Minute, "how long a peer may do nothing")
	base := flag.String("base", "", "below which path calls are")
	body := flag.Int64("body", 300_000, "how large a request may be")
	flag.Parse()
	listener, err := net.Listen("tcp", *listen)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Printf("listening on http://%s\n", listener.Addr())
	authorize := func(ctx context.Context, call *web.Call, credentials web.Credentials) (context.Context, error) {
		if key, ok := credentials.Value("desk"); ok && key == "panic" {
			panic("the authorizer fell")
		} else if ok && key == "stolen" {
			return nil, web.Forbidden("this key was stolen")
		} else if ok && key == "expired" {
			return nil, web.Unauthenticated("this key has expired")
		}
		return context.WithValue(ctx, crewKey{}, credentials["skerry.matrix.crew"]), nil
	}
	p := new(pier)
	var pages []web.ServerOption
	switch os.Getenv("MATRIX_DEFINITIONS") {
	case "guarded":
		pages = append(pages, web.WithGuardedDefinitions())
	case "hidden":
		pages = append(pages, web.WithoutDefinitions())
	}
	mount := matrix.ServePier(p.calls(), append(pages, web.WithMiddleware(p.runs), web.WithAuthorizer(authorize),
		web.WithHeartbeat(*heartbeat), web.WithElementLimit(200_000), web.WithBodyLimit(*body), web.WithIdleTimeout(*idle),
		web.WithBase(*base), web.WithOrigins(strings.Fields(os.Getenv("MATRIX_ORIGINS"))...),
		web.WithCookie("visit", func(c *http.Cookie) { c.MaxAge, c.SameSite = 3600, http.SameSiteStrictMode }))...)
	log.Fatal(web.NewServer(mount).Serve(listener))
}

type crewKey struct{}

type pier struct {
	woken atomic.Uint64
	// Handlers that run.
	running atomic.Int64
	whole   atomic.Uint64
	lost    atomic.Uint64
	mu      sync.Mutex
	tries   map[uint32]int
}

func (p *pier) calls() matrix.PierCalls {
	return matrix.PierCalls{
		Echo: func(ctx context.Context, request *matrix.EchoRequest) (*matrix.EchoAnswer, error) {
			answer := &matrix.EchoAnswer{Request: *request}
			if trace, _ := web.TraceOf(ctx); trace != "" {
				answer.Trace = &trace
			}
			return answer, nil
		},
		Berth: func(_ context.Context, r *matrix.BerthRequest) (*matrix.BerthAnswer, error) {
			return &matrix.BerthAnswer{Code: r.Code, Number: r.Number, Side: r.SideOrDefault(), Decks: r.Decks, Since: r.Since,
				Ticket: r.Ticket, Name: r.Name, Wait: r.WaitOrDefault()}, nil
		},
		Look: func(_ context.Context, request *matrix.LookRequest) (*matrix.LookRequest, error) {
			return request,
				nil
		},
		Stamp: func(_ context.Context, r *matrix.StampRequest) (*matrix.Stamp, error) {
			stamp := &matrix.Stamp{Tag: `"` + r.Code + `"`, Count: uint32(len(r.Code)), Visit: r.Visit, Name: r.Code, How: r.How}
			if r.Code == "kept" {
				stamp.Cache = wire.Pointer("max-age=60")
			}
			return stamp, nil
		},
		Move: func(_ context.Context, r *matrix.MoveRequest) (*matrix.Moved, error) {
			return &matrix.Moved{At: r.To, Note: wire.Pointer("moved, to: ü")}, nil
		},
		Forget: func(_ context.Context, r *matrix.StampRequest) (*matrix.Forgotten, error) {
			forgotten := &matrix.Forgotten{Visit: wire.Pointer("")}
			if left, err := strconv.ParseUint(r.Code, 10, 32); err == nil {
				forgotten.Left = wire.Pointer(uint32(left))
			}
			return forgotten, nil
		},
		Hang: func(_ context.Context, r *matrix.HangRequest) (*matrix.Hung, error) {
			hung := &matrix.Hung{Name: r.Name, Kind: r.Photo.MediaType, Label: r.Label, Tags: r.Tags}
			buffer := make([]byte, 32<<10)
			for {
				n, err := r.Photo.Read(buffer)
				for _, octet := range buffer[:n] {
					hung.Sum += uint64(octet)
				}
				hung.Size += uint64(n)
				if err == io.EOF {
					return hung, nil
				} else if err != nil {
					return nil, err
				}
			}
		},
		Photo: func(_ context.Context, r *matrix.PhotoRequest) (*matrix.Photo, error) {
			photo := &matrix.Photo{Photo: web.Body{Reader: &octets{size: r.Size, fails: r.Fails}, MediaType: "image/x-made"},
				Name: r.Name, Tag: wire.Pointer(`"` + r.Name + `"`)}
			if r.KnownOrDefault() {
				photo.Photo.Length = int64(r.Size)
			}
			return photo, nil
		},
		Hush: func(_ context.Context, r *matrix.EchoRequest) (*matrix.Hush, error) {
			return &matrix.Hush{Text: *cmp.Or(r.Text, new(string))}, nil
		},
		Tale: func(_ context.Context, r *matrix.StampRequest) (*matrix.Tale, error) {
			return &matrix.Tale{Tag: `"` + r.Code + `"`, Text: strings.Repeat(r.Code, 1000)}, nil
		},
		Stow: func(_ context.Context, r *matrix.Crate) (*matrix.Total, error) {
			n, err := io.Copy(io.Discard, r.Load)
			return &matrix.Total{Total: uint64(n)}, err
		},
		Unload: func(_ context.Context, r *matrix.CrateRequest) (*matrix.Unloaded, error) {
			return &matrix.Unloaded{Load: web.Body{Reader: io.LimitReader(nothing{}, int64(r.Size)), Length: int64(r.Size)}}, nil
		},
		Back: func(_ context.Context, r *matrix.Scanned) (*matrix.Back, error) {
			return &matrix.Back{Roll: web.Body{Reader: r.Roll, MediaType: r.Roll.MediaType}}, nil
		},
		Ping:   func(_ context.Context, r *matrix.Nothing) (*matrix.Nothing, error) { return r, nil },
		Leave:  func(context.Context, *matrix.LookRequest) error { return nil },
		Count:  p.count,
		Sum:    p.sum,
		Mirror: p.mirror,
		Board: func(_ context.Context, head *matrix.Gangway, ticks iter.Seq2[*matrix.Tick, error]) (*matrix.Boarded, error) {
			if head.Code == "full" {
				return nil, &matrix.PierFull{Berths: 0}
			}
			boarded := boardedAt(head)
			for tick, err := range ticks {
				if err != nil {
					return nil, err
				}
				boarded.Total += uint64(tick.N)
			}
			return boarded, nil
		},
		File: func(_ context.Context, head *matrix.Gangway, ticks iter.Seq2[*matrix.Tick, error],
			send func(*matrix.Boarded) error) error {
			boarded := boardedAt(head)
			for tick, err := range ticks {
				if err != nil {
					return err
				}
				boarded.Total += uint64(tick.N)
				if err := send(boarded); err != nil {
					return err
				}
			}
			return nil
		},
		GuardedSum:    p.sum,
		GuardedMirror: p.mirror,
		Ended: func(context.Context) (*matrix.Ended, error) {
			return &matrix.Ended{Whole: p.whole.Load(), Lost: p.lost.Load()}, nil
		},
		Refuse: p.refuse,
		Sleep: func(ctx context.Context, _ *matrix.SleepRequest) error {
			<-ctx.Done()
			p.woken.Add(1)
			return ctx.Err()
		},
		Drift: func(ctx context.Context, _ *matrix.SleepRequest, send func(*matrix.Tick) error) error {
			defer p.woken.Add(1)
			for n := uint32(0); ; n++ {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(5 * time.Millisecond):
				}
				if err := send(&matrix.Tick{N: n}); err != nil {
					return err
				}
			}
		},
		Weigh: func(_ context.Context, load *matrix.Load) (*matrix.Total, error) {
			return &matrix.Total{Total: uint64(len(load.Wide) + len(load.Counts) + len(load.Texts))}, nil
		},
		Repeat: func(_ context.Context, load *matrix.Load) (*matrix.Load, error) { return load, nil },
		Tail: func(ctx context.Context, _ *matrix.SleepRequest, _ func(*matrix.Tick) error) error {
			<-ctx.Done()
			p.woken.Add(1)
			return ctx.Err()
		},
		Hold: func(ctx context.Context, _ iter.Seq2[*matrix.Tick, error], _ func(*matrix.Tick) error) error {
			<-ctx.Done()
			p.woken.Add(1)
			return ctx.Err()
		},
		Works: func(context.Context) (*matrix.Works, error) {
			return &matrix.Works{Handlers: uint32(p.running.Load()), Tasks: uint32(runtime.NumGoroutine())}, nil
		},
		Woken: func(context.Context) (*matrix.Total, error) { return &matrix.Total{Total: p.woken.Load()}, nil },
		Guarded: func(ctx context.Context) (*matrix.EchoAnswer, error) {
			answer := &matrix.EchoAnswer{Request: matrix.EchoRequest{Names: map[string]int64{}}}
			if crew, _ := ctx.Value(crewKey{}).(string); crew != "" {
				answer.Crew = &crew
			}
			return answer, nil
		},
		Flaky: func(_ context.Context, request *matrix.SleepRequest) (*matrix.Total, error) {
			p.mu.Lock()
			defer p.mu.Unlock()
			if p.tries == nil {
				p.tries = map[uint32]int{}
			}
			if p.tries[request.ID]++; p.tries[request.ID] < 3 {
				return nil, web.Overloaded(0)
			}
			return &matrix.Total{Total: uint64(p.tries[request.ID])}, nil
		},
	}
}

// nothing is as many zeros as somebody wants.
type nothing struct{}

func (nothing) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// octets is a photo that is made as it goes.
type octets struct {
	at, size uint64
	fails    *uint64
}

func (o *octets) Read(p []byte) (int, error) {
	if o.fails != nil && o.at >= *o.fails {
		return 0, errors.New("the password is wrong")
	}
	end := o.size
	if o.fails != nil {
		end = min(end, *o.fails)
	}
	n := int(min(uint64(len(p)), end-o.at))
	if o.at == o.size {
		return 0, io.EOF
	}
	for i := range p[:n] {
		p[i] = byte((o.at + uint64(i)) % 251)
	}
	o.at += uint64(n)
	return n, nil
}

func (p *pier) count(_ context.Context, request *matrix.CountRequest, send func(*matrix.Tick) error) error {
	text := strings.Repeat("x", int(request.SizeOrDefault()))
	for n := range request.Count {
		if request.FailsAfter != nil && n == *request.FailsAfter {
			if request.BadlyOrDefault() {
				return errors.New("the password is wrong")
			}
			return &matrix.PierFull{Berths: n}
		}
		tick := &matrix.Tick{N: n}
		if text != "" {
			tick.Text = &text
		}
		if err := send(tick); err != nil {
			return err
		}
	}
	return nil
}

func (p *pier) sum(_ context.Context, ticks iter.Seq2[*matrix.Tick, error]) (*matrix.Total, error) {
	total := &matrix.Total{}
	for tick, err := range ticks {
		if err != nil {
			p.lost.Add(1)
			return nil, err
		}
		switch {
		case tick.Text != nil && *tick.Text == "stop":
			return total, nil
		case tick.Text != nil && *tick.Text == "full":
			return nil, &matrix.PierFull{Berths: tick.N}
		case tick.Text != nil && *tick.Text == "slow":
			time.Sleep(20 * time.Millisecond)
		}
		total.Total += uint64(tick.N)
	}
	p.whole.Add(1)
	return total, nil
}

func boardedAt(head *matrix.Gangway) *matrix.Boarded {
	return &matrix.Boarded{Code: head.Code, Decks: head.Decks, Device: head.Device, Visit: head.Visit,
		Total: head.SinceOrDefault()}
}

func (p *pier) mirror(_ context.Context, ticks iter.Seq2[*matrix.Tick, error], send func(*matrix.Tick) error) error {
	for tick, err := range ticks {
		if err != nil {
			p.lost.Add(1)
			return err
		}
		if tick.Text != nil && *tick.Text == "full" {
			return &matrix.PierFull{Berths: tick.N}
		}
		if err := send(tick); err != nil {
			p.lost.Add(1)
			return err
		}
	}
	p.whole.Add(1)
	return nil
}

// runs counts handlers.
func (p *pier) runs(ctx context.Context, _ *web.Call, next func(context.Context) error) error {
	p.running.Add(1)
	defer p.running.Add(-1)
	return next(ctx)
}

func (p *pier) refuse(_ context.Context, request *matrix.RefuseRequest) error {
	switch request.How {
	case "declared":
		return &matrix.PierFull{Berths: 7}
	case "hang":
		select {}
	case "panic":
		panic("the password is wrong")
	case "another":
		return &wire.Error{Detail: "the password is wrong"}
	}
	return errors.New("the password is wrong")
}
