package conformance

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha1"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// attackedClients makes one call of each language's client. A new language joins with a line.
var attackedClients = map[string]func(t *testing.T, s side, address, scene string) []string{
	"go": func(t *testing.T, _ side, address, scene string) []string {
		return []string{filepath.Join(outputs(t), "go", "attacked"), "-server", address, "-call", scene}
	},
	"typescript": func(t *testing.T, _ side, address, scene string) []string {
		return []string{"node", filepath.Join(typescriptPrograms(t), "matrix", "attacked.js"), address, scene}
	},
	"python": func(_ *testing.T, s side, address, scene string) []string {
		return []string{s.server[0], "-m", "matrix.attacked", address, scene}
	},
	"java": func(t *testing.T, _ side, address, scene string) []string {
		return javaProgram(t, "Attacked", address, scene)
	},
}

// drip writes a text byte by byte, again and again, until nobody takes it.
func drip(conn net.Conn, text string) {
	for {
		for i := range len(text) {
			if _, err := conn.Write([]byte{text[i]}); err != nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
}

// flood writes a text again and again, as fast as it is taken.
func flood(conn net.Conn, text string) {
	many := []byte(strings.Repeat(text, max(1, 64<<10/len(text))))
	for {
		if _, err := conn.Write(many); err != nil {
			return
		}
	}
}

// problemAnswer is an answer with problem details.
func problemAnswer(status int, body string, headers ...string) string {
	return fmt.Sprintf("HTTP/1.1 %d No\r\nContent-Type: application/problem+json\r\nContent-Length: %d\r\n%s\r\n%s",
		status, len(body), lines(headers), body)
}

const (
	streamHead = "HTTP/1.1 200 OK\r\nContent-Type: application/cbor-seq\r\nTransfer-Encoding: chunked\r\n\r\n"
	jsonHead   = "HTTP/1.1 200 OK\r\nContent-Type: application/json-seq\r\nTransfer-Encoding: chunked\r\n\r\n"
)

func chunk(text string) string { return fmt.Sprintf("%x\r\n%s\r\n", len(text), text) }

// clientAttacks are what servers do to a client that gives a call one second, and what must
// come of it, in how many milliseconds.
var clientAttacks = []struct {
	name   string
	scene  string
	do     func(conn net.Conn, request *http.Request)
	kinds  []string
	within int
}{
	{"silence", "echo", func(conn net.Conn, _ *http.Request) { _, _ = io.Copy(io.Discard, conn) },
		[]string{"unreachable"}, 1800},
	// What is left of its second is said to the server, rounded up (RFC 7240, section 4.3).
	{"an answer to who says how long it waits", "echo", func(conn net.Conn, request *http.Request) {
		if request.Header.Get("Prefer") == "wait=1" {
			_, _ = io.WriteString(conn, problemAnswer(418, `{"type":"about:blank","title":"well","status":418}`))
		}
		_, _ = io.Copy(io.Discard, conn)
	}, []string{"problem"}, 900},
	{"a head that drips", "echo", func(conn net.Conn, _ *http.Request) {
		drip(conn, "HTTP/1.1 200 OK\r\nA: "+strings.Repeat("a", 10_000))
	}, []string{"unreachable"}, 1800},
	{"a body that drips", "echo", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Type: application/cbor\r\nContent-Length: 100000\r\n\r\n")
		drip(conn, "a")
	}, []string{"unreachable"}, 1800},
	{"100 Continue without end", "echo", func(conn net.Conn, _ *http.Request) {
		for {
			if _, err := io.WriteString(conn, "HTTP/1.1 100 Continue\r\n\r\n"); err != nil {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	}, []string{"unreachable"}, 1800},
	{"a flood of 100 Continue", "echo", func(conn net.Conn,
		_ *http.Request) {
		flood(conn, "HTTP/1.1 100 Continue\r\n\r\n")
	}, []string{"unreachable"}, 1800},
	{"trailers without end", "echo", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Type: application/cbor\r\nTransfer-Encoding: "+
			"chunked\r\n\r\n1\r\n\xa0\r\n0\r\n")
		drip(conn, "A: a\r\n")
	}, []string{"unreachable", "bad"}, 1800},
	{"headers without end", "echo", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\n")
		flood(conn, "A: "+strings.Repeat("a", 50)+"\r\n")
	}, []string{"unreachable"}, 1800},
	{"a line without end", "echo", func(conn net.Conn, _ *http.Request) { flood(conn, "HTTP/1.1 200 OK and more") },
		[]string{"unreachable"}, 1800},
	{"a body without end", "echo", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Type: application/cbor\r\n\r\n")
		flood(conn, "aaaa")
	}, []string{"bad"}, 1800},
	{"a status beyond numbers", "echo", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, problemAnswer(500, `{"type":"x","status":1e999,"title":"t"}`))
	}, []string{"bad", "problem"}, 1500},
	{"a problem that nests", "echo", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, problemAnswer(500,
			`{"type":`+strings.Repeat("[", 100_000)+strings.Repeat("]", 100_000)+`}`))
	}, []string{"bad", "problem"}, 1500},
	{"a pause beyond time", "echo", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, problemAnswer(503, `{"type":"x"}`, "Retry-After: 9223372037"))
	}, []string{"problem"}, 1500},
	{"a pause that is waited for hears a cancel", "cancel", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, problemAnswer(503, `{"type":"x"}`, "Retry-After: 8"))
	}, []string{"unreachable"}, 1300},
	{"a stream that is waited for hears a cancel", "cancelstream", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, streamHead+chunk("\xa1\x01\xa1\x01\x00"))
		_, _ = io.Copy(io.Discard, conn)
	}, []string{"unreachable"}, 1300},
	{"heartbeats after the end", "count", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, streamHead+chunk("\xa1\x02\xa0"))
		flood(conn, chunk("\xa1\x00\xa0"))
	}, []string{"ok", "bad", "unreachable"}, 2500},
	{"blanks after the end", "count", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, jsonHead+chunk("\x1e{\"end\":{}}\n"))
		flood(conn, chunk(strings.Repeat(" ", 1000)))
	}, []string{"ok", "bad", "unreachable"}, 2500},
	{"an element that is said to be large", "count", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, streamHead+chunk("\xa1\x01\xa1\x02\x7b\x00\x00\x01\x00\x00\x00\x00\x00"))
		flood(conn, chunk(strings.Repeat("a", 1000)))
	}, []string{"bad", "unreachable"}, 2500},
	{"elements that explode", "count", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, streamHead+chunk("\xa1\x01\xa1\x09\x9a\x00\x0f\x00\x00"))
		flood(conn, chunk(strings.Repeat("\xa0", 1000)))
	}, []string{"bad", "unreachable"}, 15_000}, // a client takes four times what a server does, and others are at work
	{"a stream that is silent", "count", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, streamHead+chunk("\xa1\x01\xa1\x01\x00"))
		_, _ = io.Copy(io.Discard, conn)
	}, []string{"unreachable"}, 2500},
	{"a slow reader of a healthy stream", "slow", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, streamHead)
		for range 3 {
			_, _ = io.WriteString(conn, chunk("\xa1\x01\xa1\x01\x00"))
		}
		_, _ = io.WriteString(conn, chunk("\xa1\x02\xa0")+"0\r\n\r\n")
	}, []string{"ok"}, 6000},
	{"an upload that nobody answers", "sum", func(conn net.Conn, _ *http.Request) { _, _ = io.Copy(io.Discard, conn) },
		[]string{"unreachable"}, 2500},
	{"an upload answered by drips", "sum", func(conn net.Conn,
		_ *http.Request) {
		drip(conn, "HTTP/1.1 200 OK\r\nA: a\r\n")
	}, []string{"unreachable"}, 2500},
	{"an upgrade that is not answered", "mirror",
		func(conn net.Conn, _ *http.Request) { _, _ = io.Copy(io.Discard, conn) }, []string{"unreachable"}, 3500},
	{"an upgrade answered by drips", "mirror", func(conn net.Conn, _ *http.Request) {
		drip(conn, "HTTP/1.1 101 Switching Protocols\r\nA: "+strings.Repeat("a", 10_000))
	}, []string{"unreachable"}, 3500},
	{"a refusal without end", "mirror", func(conn net.Conn, _ *http.Request) {
		_, _ = io.WriteString(conn, "HTTP/1.1 403 No\r\nContent-Type: application/problem+json\r\n\r\n")
		flood(conn, "aaaa")
	}, []string{"bad", "unreachable", "problem"}, 3500},
	{"pings without end", "mirror", func(conn net.Conn, r *http.Request) {
		_, _ = io.WriteString(conn, agreed(r))
		for {
			if _, err := conn.Write([]byte{0x89, 0}); err != nil {
				return
			}
			time.Sleep(5 * time.Millisecond)
		}
	}, []string{"unreachable"}, 5500},
	{"a message over the limit", "mirror", func(conn net.Conn, r *http.Request) {
		_, _ = io.WriteString(conn, agreed(r))
		_, _ = conn.Write([]byte{0x82, 127, 0, 0, 0, 0, 0x10, 0, 0, 0})
		flood(conn, "aaaa")
	}, []string{"bad", "unreachable"}, 5500},
	{"a credential that does not come", "credential", nil, []string{"unreachable"}, 1800},
	{"no limit of time", "forever", func(conn net.Conn, _ *http.Request) {
		time.Sleep(300 * time.Millisecond)
		body := "\xa1\x01\xa2\x02\xc4\x82\x21\x18\x96\x04\xa0"
		_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Type: application/cbor\r\nTransfer-Encoding: "+
			"chunked\r\n\r\n"+chunk(body)+"0\r\n\r\n")
	}, []string{"ok"}, 1500},
	{"a secret that no header can contain", "secret", nil, []string{"other", "unreachable"}, 1500},
	{"a secret in a query", "query", func(conn net.Conn, _ *http.Request) {}, []string{"unreachable"}, 1500},
}

// agreed is the answer to an upgrade.
func agreed(r *http.Request) string {
	return "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: " +
		acceptOf(r.Header.Get("Sec-WebSocket-Key")) +
		"\r\nSec-WebSocket-Protocol: " + r.Header.Get("Sec-WebSocket-Protocol") + "\r\n\r\n"
}

// TestAttackedClients lets each language's client call servers that do all that they can.
func TestAttackedClients(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out attacks, which wait")
	}
	all := callers(withJava(t))
	for _, attack := range clientAttacks {
		t.Run(attack.name, func(t *testing.T) {
			listener, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			t.Cleanup(func() { _ = listener.Close() })
			var reached atomic.Int64
			go func() {
				for {
					conn, err := listener.Accept()
					if err != nil {
						return
					}
					go func() {
						defer conn.Close()
						_ = conn.SetDeadline(time.Now().Add(30 * time.Second))
						request, err := http.ReadRequest(bufio.NewReader(conn))
						reached.Add(1)
						if err == nil && attack.do != nil {
							attack.do(conn, request)
						}
						// Closing with something unread would take back what was answered.
						_ = conn.(*net.TCPConn).CloseWrite()
						_ = conn.SetReadDeadline(time.Now().Add(time.Second))
						_, _ = io.Copy(io.Discard, conn)
					}()
				}
			}()
			t.Cleanup(func() {
				if attack.do != nil && !t.Skipped() {
					assert.GreaterOrEqual(t, int(reached.Load()), len(all), "every client must come so far")
				}
			})
			for _, s := range all {
				t.Run(s.language, func(t *testing.T) {
					t.Parallel()
					ctx, cancel := context.WithTimeout(t.Context(), 40*time.Second)
					defer cancel()
					command := attackedClients[s.language](t, s, "http://"+listener.Addr().String(), attack.scene)
					c := exec.CommandContext(ctx, command[0], command[1:]...)
					c.Dir = s.dir
					var out, log bytes.Buffer
					c.Stdout, c.Stderr = &out, &log
					require.NoError(t, c.Run(), "%s%s", &out, &log)
					kind, rest, _ := strings.Cut(out.String(), " ")
					took, text, _ := strings.Cut(rest, " ")
					ms, err := strconv.Atoi(strings.TrimSpace(took))
					require.NoError(t, err, out.String())
					assert.True(t, slices.Contains(attack.kinds, kind), "%s, not one of %v", out.String(), attack.kinds)
					assert.Less(t, ms, attack.within, "%s", out.String())
					assert.NotContains(t, text+log.String(), "s3cret")
					assert.Less(t, len(text), 2000, "an error is not a copy of what came")
				})
			}
		})
	}
}

// acceptOf is what a server says to the key of an upgrade (RFC 6455, section 4.2.2).
func acceptOf(key string) string {
	sum := sha1.Sum([]byte(key + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11"))
	return base64.StdEncoding.EncodeToString(sum[:])
}
