// The client in Go of connections that are cut: it calls until a call comes
// through whole, and holds each that does not against what it is told of it.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"iter"
	"os"
	"time"

	"faithfulcourier/conformance/go/gen/faithful/web"
	"faithfulcourier/conformance/go/gen/skerry/matrix"
)

func main() {
	server := flag.String("server", "http://127.0.0.1:8080", "where the server is")
	json := flag.Bool("json", false, "send JSON instead of CBOR")
	call := flag.String("call", "count", "what is called: count, sum or mirror")
	flag.Parse()
	options := []web.ClientOption{web.WithTries(1), web.WithTimeout(10 * time.Second)}
	if *json {
		options = append(options, web.WithJSON())
	}
	client := matrix.NewPierClient(*server, options...)
	act := map[string]func(*matrix.PierClient) (int, error){"count": count, "sum": sum, "mirror": mirror}[*call]
	for cuts := 0; ; cuts++ {
		n, err := act(client)
		var unreachable *web.Unreachable
		switch {
		case err == nil && n == 3:
			fmt.Printf("whole after %d\n", cuts)
			return
		case err == nil:
			fmt.Printf("cut %d: %d elements were taken for the whole\n", cuts, n)
			os.Exit(1)
		case !errors.As(err, &unreachable):
			fmt.Printf("cut %d: %v\n", cuts, err)
			os.Exit(1)
		}
	}
}

func number(ticks iter.Seq2[*matrix.Tick, error]) (n int, err error) {
	for _, err := range ticks {
		if err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}

func count(client *matrix.PierClient) (int, error) {
	return number(client.Count(context.Background(), &matrix.CountRequest{Count: 3}))
}

func sum(client *matrix.PierClient) (int, error) {
	sender := client.Sum(context.Background())
	for n := range uint32(3) {
		if sender.Send(&matrix.Tick{N: n}) != nil {
			break // Finish says why
		}
	}
	total, err := sender.Finish()
	if err != nil {
		return 0, err
	}
	return int(total.Total), nil
}

func mirror(client *matrix.PierClient) (int, error) {
	talk, err := client.Mirror(context.Background())
	if err != nil {
		return 0, err
	}
	defer talk.Close()
	for n := range uint32(3) {
		if talk.Send(&matrix.Tick{N: n}) != nil {
			break // All says why
		}
	}
	finished := talk.Finish()
	n, err := number(talk.All())
	if err == nil {
		err = finished
	}
	return n, err
}
