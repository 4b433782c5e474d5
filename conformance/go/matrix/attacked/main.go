// The client in Go of hostile servers: it makes one call, and prints what came of it, after
// how many milliseconds, and what the error says.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"
	"time"

	"faithfulcourier/conformance/go/gen/faithful/web"
	"faithfulcourier/conformance/go/gen/faithful/wire"
	"faithfulcourier/conformance/go/gen/skerry/matrix"
)

func main() {
	server := flag.String("server", "", "where the server is")
	scene := flag.String("call", "", "what is done")
	flag.Parse()
	client := matrix.NewPierClient(*server, web.WithTimeout(time.Second), web.WithStreamIdle(time.Second))
	ctx := context.Background()
	start := time.Now()
	err := map[string]func() error{
		"echo":  func() error { return echo(ctx, client) },
		"count": func() error { return count(ctx, client, 0) },
		"slow":  func() error { return count(ctx, client, 1500*time.Millisecond) },
		"sum": func() error {
			sender := client.Sum(ctx)
			for range 3 {
				if err := sender.Send(&matrix.Tick{N: 1}); err != nil {
					sender.Abort()
					return err
				}
			}
			_, err := sender.Finish()
			return err
		},
		"mirror": func() error {
			talk, err := client.Mirror(ctx)
			if err != nil {
				return err
			}
			defer talk.Close()
			for _, err := range talk.All() {
				if err != nil {
					return err
				}
			}
			return nil
		},
		"credential": func() error {
			c := matrix.NewPierClient(*server, web.WithTimeout(time.Second),
				web.WithCredentialFunc("machine", func(context.Context) (string, error) { select {} }))
			_, err := c.Guarded(ctx)
			return err
		},
		"cancel": func() error {
			ctx, cancel := context.WithCancel(ctx)
			defer cancel()
			time.AfterFunc(500*time.Millisecond, cancel)
			return echo(ctx, matrix.NewPierClient(*server))
		},
		"cancelstream": func() error {
			ctx, cancel := context.WithCancel(ctx)
			defer cancel()
			time.AfterFunc(500*time.Millisecond, cancel)
			return count(ctx, matrix.NewPierClient(*server), 0)
		},
		"secret": func() error {
			c := matrix.NewPierClient(*server, web.WithCredential("crew", "s3cret\nEvil: 1"),
				web.WithCredential("desk", "s3cret"))
			_, err := c.Guarded(ctx)
			return err
		},
		"query": func() error {
			c := matrix.NewPierClient(*server, web.WithTries(1), web.WithCredential("machine", "s3cret"))
			_, err := c.Guarded(ctx)
			return err
		},
		"forever": func() error {
			return echo(ctx, matrix.NewPierClient(*server, web.WithTimeout(0), web.WithStreamIdle(0),
				web.WithAnswerLimit(1<<63-1)))
		},
	}[*scene]()
	took := time.Since(start).Milliseconds()
	fmt.Printf("%s %d %s\n", kind(err), took, strings.ReplaceAll(fmt.Sprint(err), "\n", " "))
}

func echo(ctx context.Context, client *matrix.PierClient) error {
	_, err := client.Echo(ctx, &matrix.EchoRequest{Names: map[string]int64{}})
	return err
}

func count(ctx context.Context, client *matrix.PierClient, pause time.Duration) error {
	for _, err := range client.Count(ctx, &matrix.CountRequest{Count: 3}) {
		if err != nil {
			return err
		}
		time.Sleep(pause)
	}
	return nil
}

func kind(err error) string {
	var unreachable *web.Unreachable
	var bad *web.BadAnswer
	var problem *web.Problem
	var invalid *wire.Error
	switch {
	case err == nil:
		return "ok"
	case errors.As(err, &unreachable):
		return "unreachable"
	case errors.As(err, &bad), errors.As(err, &invalid):
		return "bad"
	case errors.As(err, &problem):
		return "problem"
	}
	return "other"
}
