package conformance

import (
	"fmt"
	"net"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/conformance/go/gen/skerry/matrix"
)

const (
	abandoned = 1000 // calls of each kind
	atOnce    = 500
	forgotten = 2 * time.Second // is how long a server may take to forget them
	tries     = 3               // is how often a machine may be too busy for that
)

// abandonedCalls are the beginnings of calls that are left in the middle.
func abandonedCalls(host string) map[string]string {
	const json, sequence = "Content-Type: application/json\r\n", "Content-Type: application/json-seq\r\n"
	post := func(line, headers, body string) string {
		return line + " HTTP/1.1\r\nHost: " + host + "\r\n" + headers + "\r\n" + body
	}
	whole := func(line, body string) string {
		return post(line, fmt.Sprintf("%sContent-Length: %d\r\n", json, len(body)), body)
	}
	const element = "\x1e{\"value\":{\"n\":1}}\n"
	upgrade := "Connection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\n" +
		"Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\nSec-WebSocket-Protocol: faithful-json\r\n"
	return map[string]string{
		"sleep": whole("POST /skerry/matrix/pier/sleep", `{"id":1}`),
		"drift": whole("POST /skerry/matrix/pier/drift", `{"id":1}`),
		"tail":  post("GET /tail?id=1", "", ""),
		"sum": post("POST /skerry/matrix/pier/sum", sequence+"Transfer-Encoding: chunked\r\n",
			fmt.Sprintf("%x\r\n%s\r\n", len(element), element)),
		"hold":   post("GET /skerry/matrix/pier/hold", upgrade, ""),
		"mirror": post("GET /skerry/matrix/pier/mirror", upgrade, ""),
		"hang": post("PUT /photos/n", "Content-Type: image/x-made\r\nContent-Length: 1000000\r\n",
			strings.Repeat("x", 1000)),
		"unload": post("GET /crates/900000000", "", ""),
	}
}

// sockets is how many a process has.
func sockets(t *testing.T, pid int) int {
	dir := fmt.Sprintf("/proc/%d/fd", pid)
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Skipf("skipped: this system does not tell what processes have open: %v", err)
	}
	n := 0
	for _, entry := range entries {
		if to, err := os.Readlink(dir + "/" + entry.Name()); err == nil && strings.HasPrefix(to, "socket:") {
			n++
		}
	}
	return n
}

// TestAbandonedCalls leaves many calls of each kind in the middle, half of them without a goodbye:
// soon after, a server has no handler, task or connection of them left.
func TestAbandonedCalls(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out abandoned calls")
	}
	for _, s := range withJava(t) {
		t.Run(s.language, func(t *testing.T) {
			var arguments []string
			if strings.HasPrefix(s.language, "java") {
				arguments = []string{"0", "0.2"} // they hear that a caller has left by their heartbeats
			}
			address, pid := process(t, s, arguments...)
			host := strings.TrimPrefix(address, "http://")
			client := matrix.NewPierClient(address)
			works := func() *matrix.Works {
				w, err := client.Works(t.Context())
				require.NoError(t, err)
				return w
			}
			leave := func(begin string, n int) {
				var open sync.WaitGroup
				connections := make([]*net.TCPConn, n)
				for i := range n {
					open.Go(func() {
						c, err := net.Dial("tcp", host)
						if !assert.NoError(t, err) {
							return
						}
						connections[i] = c.(*net.TCPConn)
						_, err = c.Write([]byte(begin))
						assert.NoError(t, err)
						if strings.Contains(begin, "/crates/") { // its handler is done when the body begins
							_, err = c.Read(make([]byte, 1))
							assert.NoError(t, err)
						}
					})
				}
				open.Wait()
				if !strings.Contains(begin, "/crates/") {
					var now *matrix.Works
					run := func() bool {
						now = works()
						return now.Handlers > uint32(n)
					}
					for until := time.Now().Add(time.Minute); !run(); time.Sleep(10 * time.Millisecond) {
						require.True(t, time.Now().Before(until), "all of %d calls run, not %d", n, now.Handlers-1)
					}
				}
				for i, c := range connections {
					if i%2 == 0 {
						require.NoError(t, c.SetLinger(0))
					}
					require.NoError(t, c.Close())
				}
			}
			calls := abandonedCalls(host)
			if lacks := s.lacks["cancellation"]; lacks != "" {
				t.Logf("left out: calls without a stream: %s that its caller has left", lacks)
				delete(calls, "sleep")
			}
			if lacks := s.lacks["both ways"]; lacks != "" {
				t.Logf("left out: calls with two streams: %s", lacks)
				delete(calls, "hold")
				delete(calls, "mirror")
			}
			for _, begin := range calls {
				leave(begin, 5) // whatever a runtime keeps from then on, it has now
			}
			time.Sleep(forgotten)
			require.Eventually(t, func() bool { return works().Handlers == 1 }, 20*time.Second, 100*time.Millisecond,
				"on a busy machine the first ones are forgotten late")
			for name, begin := range calls {
				t.Run(name, func(t *testing.T) {
					// A server that keeps nothing forgets late where another process took its time, and in time
					// once in a few tries; one that keeps a thing never comes back to what it had before.
					before, socketsBefore := works(), sockets(t, pid)
					require.Equal(t, uint32(1), before.Handlers)
					var after *matrix.Works
					left := func() bool {
						after = works()
						return after.Handlers == 1 && after.Tasks <= before.Tasks+2 && sockets(t, pid) <= socketsBefore
					}
					var took time.Duration
					for range tries {
						for range abandoned / atOnce {
							leave(begin, atOnce)
						}
						start := time.Now()
						require.Eventually(t, left, tries*10*time.Second, 20*time.Millisecond)
						took = time.Since(start)
						t.Logf("%d calls: %+v with %d sockets before, %+v with %d after %v", abandoned, before, socketsBefore,
							after, sockets(t, pid), took.Round(time.Millisecond))
						if took <= forgotten {
							return
						}
					}
					assert.Failf(t, "forgotten late", "in none of %d tries within %v", tries, forgotten)
				})
			}
		})
	}
}
