package conformance

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"os/exec"
	"regexp"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/conformance/go/gen/skerry/matrix"
)

// cutter is a proxy that cuts its connections in one direction: the first
// before any byte, and each next one a byte later.
type cutter struct {
	address  string
	listener net.Listener
	target   string
	requests bool // cut what the client sends, not what the server answers

	mu    sync.Mutex
	cuts  int
	conns []net.Conn
	open  sync.WaitGroup
}

func cut(t *testing.T, server string, requests bool) *cutter {
	at, err := url.Parse(server)
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := &cutter{address: "http://" + listener.Addr().String(), listener: listener, target: at.Host, requests: requests}
	c.open.Add(1)
	go func() {
		defer c.open.Done()
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			c.mu.Lock()
			n := c.cuts
			c.cuts++
			c.conns = append(c.conns, conn)
			c.mu.Unlock()
			c.open.Add(1)
			go c.serve(conn, n)
		}
	}()
	t.Cleanup(func() {
		_ = listener.Close()
		c.mu.Lock()
		for _, conn := range c.conns {
			_ = conn.Close() // those that are kept for another call
		}
		c.mu.Unlock()
		c.open.Wait()
	})
	return c
}

// serve lets n bytes through in the one direction, and then closes both.
func (c *cutter) serve(client net.Conn, n int) {
	defer c.open.Done()
	defer client.Close()
	server, err := net.Dial("tcp", c.target)
	if err != nil {
		return
	}
	defer server.Close()
	from, to := server, client
	if c.requests {
		from, to = client, server
	}
	ended := make(chan struct{}, 2)
	c.open.Add(2)
	go func() { // the other direction
		defer c.open.Done()
		buffer := make([]byte, 64<<10)
		for {
			read, err := to.Read(buffer)
			if err != nil {
				break
			}
			if _, err := from.Write(buffer[:read]); err != nil {
				break
			}
		}
		ended <- struct{}{}
	}()
	go func() {
		defer c.open.Done()
		passed := 0
		buffer := make([]byte, 64<<10)
		for passed < n {
			read, err := from.Read(buffer[:min(len(buffer), n-passed)])
			if err != nil {
				break
			}
			if _, err := to.Write(buffer[:read]); err != nil {
				break
			}
			passed += read
		}
		ended <- struct{}{}
	}()
	<-ended
}

// losses are the programs that call through a cutter, by language.
func losses(t *testing.T, s side, address, encoding, call string) []string {
	switch s.language {
	case "go":
		return []string{outputs(t) + "/go/losses", "-server", address, fmt.Sprintf("-json=%t", encoding == "json"), "-call",
			call}
	case "typescript":
		return []string{"node", typescriptPrograms(t) + "/matrix/losses.js", address, encoding, call}
	}
	if s.language == "java" {
		return javaProgram(t, "Losses", address, encoding, call)
	}
	module := "matrix.losses"
	if s.language == "asyncio" {
		module = "matrix.async_losses"
	}
	return []string{s.server[0], "-m", module, address, encoding, call}
}

var wholeAfter = regexp.MustCompile(`^whole after (\d+)\n$`)

// callThrough calls until a call comes through whole.
func callThrough(t *testing.T, client side, proxy *cutter, encoding, call string) {
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	command := losses(t, client, proxy.address, encoding, call)
	c := exec.CommandContext(ctx, command[0], command[1:]...)
	c.Dir = client.dir
	output, err := c.Output() // the library of Python logs what we know
	require.NoError(t, err, "%s", output)
	found := wholeAfter.FindStringSubmatch(string(output))
	require.NotNil(t, found, "%s", output)
	cuts, err := strconv.Atoi(found[1])
	require.NoError(t, err)
	assert.Greater(t, cuts, 100, "headers and elements are far more bytes")
}

// TestLostAnswers cuts the connection at every byte of an answer: no client
// may take a part for the whole.
func TestLostAnswers(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	all := withJava(t)
	address := start(t, all[0])
	for _, client := range withAsyncio(callers(all)) {
		for _, encoding := range []string{"cbor", "json"} {
			for _, call := range []string{"count", "sum", "mirror"} {
				t.Run(client.language+" "+encoding+" "+call, func(t *testing.T) {
					callThrough(t, client, cut(t, address, false), encoding, call)
				})
			}
		}
	}
}

// TestLostRequests cuts the connection at every byte of a stream that a client
// sends: no handler may take a part for the whole.
func TestLostRequests(t *testing.T) {
	all := withJava(t)
	for _, server := range all {
		t.Run("server in "+server.language, func(t *testing.T) {
			address := start(t, server)
			for _, encoding := range []string{"cbor", "json"} {
				for _, call := range []string{"sum", "mirror"} {
					if lacks := server.lacks["both ways"]; call == "mirror" && lacks != "" {
						t.Logf("left out: %s, as %s", call, lacks)
						continue
					}
					what := server.language + " " + encoding + " " + call
					direct := matrix.NewPierClient(address)
					before, err := direct.Ended(t.Context())
					require.NoError(t, err)
					callThrough(t, all[0], cut(t, address, true), encoding, call)
					// The handler was told of each that was cut after its head. Only the
					// end of the last chunk, at most, may be missing from what is whole.
					var now *matrix.Ended
					for range 500 {
						now, err = direct.Ended(t.Context())
						require.NoError(t, err)
						if now.Whole > before.Whole && now.Lost-before.Lost >= 10 {
							break
						}
						time.Sleep(10 * time.Millisecond)
					}
					assert.GreaterOrEqual(t, now.Whole-before.Whole, uint64(1), what)
					assert.LessOrEqual(t, now.Whole-before.Whole, uint64(1+len("\r\n0\r\n\r\n")), what)
					assert.GreaterOrEqual(t, now.Lost-before.Lost, uint64(10), what)
				}
			}
		})
	}
}
