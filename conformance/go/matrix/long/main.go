// The client in Go of long streams: it prints how much memory it came to need,
// in KiB. The reader of a stream is slow at first.
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"strings"
	"syscall"
	"time"

	"faithfulcourier/conformance/go/gen/faithful/wire"
	"faithfulcourier/conformance/go/gen/skerry/matrix"
)

func main() {
	server := flag.String("server", "http://127.0.0.1:8080", "where the server is")
	call := flag.String("call", "count", "what is called: count or sum")
	n := flag.Uint("n", 1000, "how many elements")
	size := flag.Uint("size", 100, "of each, in bytes")
	flag.Parse()
	client := matrix.NewPierClient(*server)
	if err := map[string]func(*matrix.PierClient, uint32, uint32) error{"count": count, "sum": sum}[*call](client,
		uint32(*n), uint32(*size)); err != nil {
		log.Fatal(err)
	}
	var usage syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &usage); err != nil {
		log.Fatal(err)
	}
	fmt.Println(usage.Maxrss)
}

func count(client *matrix.PierClient, n, size uint32) error {
	seen := uint32(0)
	for tick, err := range client.Count(context.Background(), &matrix.CountRequest{Count: n, Size: &size}) {
		if err != nil {
			return err
		}
		if tick.N == 0 {
			time.Sleep(time.Second)
		}
		seen++
	}
	if seen != n {
		return fmt.Errorf("%d elements came, not %d", seen, n)
	}
	return nil
}

func sum(client *matrix.PierClient, n, size uint32) error {
	text := strings.Repeat("x", int(size))
	sender := client.Sum(context.Background())
	for i := range n {
		tick := &matrix.Tick{N: 1, Text: &text}
		if i < 50 {
			tick.Text = wire.Pointer("slow")
		}
		if err := sender.Send(tick); err != nil {
			return err
		}
	}
	total, err := sender.Finish()
	if err == nil && total.Total != uint64(n) {
		err = fmt.Errorf("%d elements came, not %d", total.Total, n)
	}
	return err
}
