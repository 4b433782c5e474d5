// The client in Go of long streams: it prints how much memory it came to need,
// in KiB. The reader of a stream is slow at first.
package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"log"
	"strings"
	"syscall"
	"time"

	"faithfulcourier/conformance/go/gen/faithful/web"
	"faithfulcourier/conformance/go/gen/faithful/wire"
	"faithfulcourier/conformance/go/gen/skerry/matrix"
)

func main() {
	server := flag.String("server", "http://127.0.0.1:8080", "where the server is")
	call := flag.String("call", "count", "what is called: count, sum, stow or unload")
	n := flag.Uint("n", 1000, "how many elements")
	size := flag.Uint("size", 100, "of each, in bytes")
	flag.Parse()
	client := matrix.NewPierClient(*server)
	if err := map[string]func(*matrix.PierClient, uint32, uint32) error{"count": count, "sum": sum,
		"stow": stow, "unload": unload}[*call](client,
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

// blocks are zeros, so many blocks of a size.
type blocks struct{ left int64 }

func (b *blocks) Read(p []byte) (int, error) {
	if b.left == 0 {
		return 0, io.EOF
	}
	n := int(min(b.left, int64(len(p))))
	clear(p[:n])
	b.left -= int64(n)
	return n, nil
}

func stow(client *matrix.PierClient, n, size uint32) error {
	all := int64(n) * int64(size)
	total, err := client.Stow(context.Background(), &matrix.Crate{Load: web.Body{Reader: &blocks{all}, Length: all}})
	if err == nil && total.Total != uint64(all) {
		err = fmt.Errorf("%d bytes came, not %d", total.Total, all)
	}
	return err
}

func unload(client *matrix.PierClient, n, size uint32) error {
	all := int64(n) * int64(size)
	answer, err := client.Unload(context.Background(), &matrix.CrateRequest{Size: uint64(all)})
	if err != nil {
		return err
	}
	seen, err := io.Copy(io.Discard, answer.Load)
	if err == nil && seen != all {
		err = fmt.Errorf("%d bytes came, not %d", seen, all)
	}
	return err
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
