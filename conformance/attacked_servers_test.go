package conformance

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/conformance/go/gen/skerry/matrix"
)

var crowd = flag.Int("crowd", 0, "how many hostile connections at once are held against each server; 0 leaves that out")

// victim is a running server that is attacked.
type victim struct {
	lacks   map[string]string
	t       *testing.T
	address string // with the base
	host    string
	pid     int
}

// The base below which the attacked servers serve, and how long they let a peer do
// nothing.
const (
	attackedBase = "/v1"
	attackedIdle = 2 * time.Second
)

// attackedArguments are those of each language's server. A new language joins with a line.
var attackedArguments = map[string][]string{
	"go":         {"-idle", "2s", "-base", attackedBase, "-body", "4194304", "-heartbeat", "500ms"},
	"typescript": {"0", "500", "2000", attackedBase, "4194304"},
	"python":     {"0", "0.5", "2", attackedBase, "4194304"},

	"java":           {"0", "0.5", "2", attackedBase, "4194304"},
	"java in jetty":  {"0", "0.5", "2", attackedBase, "4194304"},
	"java in tomcat": {"0", "0.5", "2", attackedBase, "4194304"},
}

// dial opens a connection that is closed with the test.
func (v *victim) dial() net.Conn {
	conn, err := net.Dial("tcp", v.host)
	require.NoError(v.t, err)
	v.t.Cleanup(func() { _ = conn.Close() })
	return conn
}

// say sends a request as it is written, and returns the connection with what reads it.
func (v *victim) say(text string) (net.Conn, *bufio.Reader) {
	conn := v.dial()
	require.NoError(v.t, conn.SetDeadline(time.Now().Add(30*time.Second)))
	_, err := conn.Write([]byte(strings.ReplaceAll(text, "HOST", v.host)))
	require.NoError(v.t, err)
	return conn, bufio.NewReader(conn)
}

// status is that of the answer to a request.
func (v *victim) status(text string) int {
	conn, reader := v.say(text)
	defer conn.Close()
	response, err := http.ReadResponse(reader, nil)
	require.NoError(v.t, err, "%.80q", text)
	_, _ = io.Copy(io.Discard, response.Body)
	return response.StatusCode
}

func (v *victim) client() *matrix.PierClient { return matrix.NewPierClient(v.address) }

func (v *victim) woken() uint64 {
	total, err := v.client().Woken(context.Background())
	require.NoError(v.t, err)
	return total.Total
}

// wakes holds that a handler hears within a second that its caller has left.
func (v *victim) wakes(leave func()) {
	before := v.woken()
	time.Sleep(200 * time.Millisecond) // so that the handler runs
	leave()
	assert.Eventually(v.t, func() bool { return v.woken() == before+1 }, time.Second, 20*time.Millisecond,
		"the handler was not cancelled")
}

// needs skips what a server can't do.
func (v *victim) needs(what string) {
	if lacks := v.lacks[what]; lacks != "" {
		v.t.Skip("skipped: " + lacks)
	}
}

// memory is what the server's process has resident, in bytes.
func (v *victim) memory() int {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", v.pid))
	require.NoError(v.t, err)
	for line := range strings.SplitSeq(string(text), "\n") {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kilobytes, err := strconv.Atoi(strings.Fields(rest)[0])
			require.NoError(v.t, err)
			return kilobytes << 10
		}
	}
	require.Fail(v.t, "no VmRSS")
	return 0
}

// files is how many files, connections among them, the server's process has open.
func (v *victim) files() int {
	list, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", v.pid))
	require.NoError(v.t, err)
	return len(list)
}

// ends holds that a connection is over within so long, and returns what came.
func (v *victim) ends(conn net.Conn, within time.Duration) []byte {
	require.NoError(v.t, conn.SetReadDeadline(time.Now().Add(within)))
	came, err := io.ReadAll(conn)
	assert.False(v.t, isTimeout(err), "the connection goes on after %v", within)
	return came
}

func get(path string, headers ...string) string {
	return "GET " + attackedBase + path + " HTTP/1.1\r\nHost: HOST\r\n" + lines(headers) + "\r\n"
}

const (
	pier     = attackedBase + "/skerry/matrix/pier/"
	openings = "GET " + attackedBase + "/skerry/matrix/pier/%s HTTP/1.1\r\nHost: HOST\r\n" + upgrade +
		"Sec-WebSocket-Protocol: faithful-json\r\n%s\r\n"
)

// serverAttacks are what peers do to a server, and what must come of it. They run one
// after the other against one process, which must serve on.
var serverAttacks = []struct {
	name string
	do   func(v *victim)
}{
	{"an early answer does not hold a connection", func(v *victim) {
		var conns []net.Conn
		for range 50 {
			conn, reader := v.say("POST /nope HTTP/1.1\r\nHost: HOST\r\nContent-Length: 100\r\n\r\nx")
			response, err := http.ReadResponse(reader, nil)
			require.NoError(v.t, err)
			assert.Equal(v.t, http.StatusNotFound, response.StatusCode)
			conns = append(conns, conn)
		}
		until := time.Now().Add(15 * time.Second)
		for _, conn := range conns {
			v.ends(conn, time.Until(until))
		}
	}},
	{"an early answer to a body that drips ends, too", func(v *victim) {
		conn, reader := v.say("POST /nope HTTP/1.1\r\nHost: HOST\r\nContent-Length: 100000\r\n\r\nx")
		response, err := http.ReadResponse(reader, nil)
		require.NoError(v.t, err)
		assert.Equal(v.t, http.StatusNotFound, response.StatusCode)
		start := time.Now()
		for time.Since(start) < 20*time.Second {
			if _, err := conn.Write([]byte("x")); err != nil {
				break
			}
			time.Sleep(200 * time.Millisecond)
		}
		assert.Less(v.t, time.Since(start), 15*time.Second)
	}},
	{"nothing behind a malformed body is a request", func(v *victim) {
		hidden := get("/piers/smuggled")
		for name, text := range map[string]string{
			"an unknown call":  "POST /nope HTTP/1.1\r\nHost: HOST\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n" + hidden,
			"a wrong type":     "POST " + pier + "echo HTTP/1.1\r\nHost: HOST\r\nContent-Type: text/plain\r\nTransfer-Encoding: chunked\r\n\r\n1;x\r\na\r\nzz\r\n" + hidden,
			"a body":           "POST " + pier + "echo HTTP/1.1\r\nHost: HOST\r\nContent-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n2\r\n{}\r\nxyz\r\n" + hidden,
			"no credential":    "POST " + pier + "guarded_sum HTTP/1.1\r\nHost: HOST\r\nContent-Type: application/json-seq\r\nTransfer-Encoding: chunked\r\n\r\nxyz\r\n" + hidden,
			"a request stream": "POST " + pier + "sum HTTP/1.1\r\nHost: HOST\r\nContent-Type: application/json-seq\r\nTransfer-Encoding: chunked\r\n\r\n3\r\n\x1e{}\r\nxyz\r\n" + hidden,
		} {
			conn, _ := v.say(text)
			came := string(v.ends(conn, 15*time.Second))
			// Node says so itself when it finds out.
			came = strings.TrimSuffix(came, "HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n")
			assert.LessOrEqual(v.t, strings.Count(came, "HTTP/1.1 "), 1, "%s: %s", name, came)
			assert.NotContains(v.t, came, "smuggled", name)
		}
	}},
	{"who never reads answers is dropped", func(v *victim) {
		request := strings.ReplaceAll(post(pier+"echo", `{"text":"`+strings.Repeat("x", 100_000)+`","names":{}}`), "HOST",
			v.host)
		conn := v.dial()
		require.NoError(v.t, conn.(*net.TCPConn).SetReadBuffer(64<<10))
		var sent atomic.Int64
		go func() {
			for range 400 {
				n, err := conn.Write([]byte(request))
				sent.Add(int64(n))
				if err != nil {
					return
				}
			}
		}()
		v.dropped(conn, 400*100_000)
	}},
	{"who never reads a stream is dropped", func(v *victim) {
		conn, _ := v.say(post(pier+"count", `{"count":200000,"size":1000}`))
		require.NoError(v.t, conn.(*net.TCPConn).SetReadBuffer(64<<10))
		v.dropped(conn, 200_000*1000)
	}},
	{"who never reads a socket is dropped", func(v *victim) {
		v.needs("both ways")
		conn, reader := v.say(fmt.Sprintf(openings, "mirror", ""))
		response, err := http.ReadResponse(reader, nil)
		require.NoError(v.t, err)
		require.Equal(v.t, http.StatusSwitchingProtocols, response.StatusCode)
		frame := textFrame(`{"value":{"n":1,"text":"` + strings.Repeat("x", 60_000) + `"}}`)
		require.NoError(v.t, conn.SetWriteDeadline(time.Now().Add(20*time.Second)))
		for range 2000 {
			if _, err = conn.Write(frame); err != nil {
				break
			}
		}
		require.Error(v.t, err, "120 MB were taken")
		assert.False(v.t, isTimeout(err), "the connection is held for ever")
	}},
	{"a handler hears that its caller left: a call", func(v *victim) {
		v.needs("cancellation")
		conn, _ := v.say(post(pier+"sleep", `{"id":1}`))
		v.wakes(func() { _ = conn.Close() })
	}},
	{"a handler hears that its caller left: a stream without a body", func(v *victim) {
		conn, _ := v.say(get("/tail?id=1"))
		v.wakes(func() { _ = conn.Close() })
	}},
	{"a handler hears that its caller left: a stream with a body", func(v *victim) {
		conn, _ := v.say(post(pier+"drift", `{"id":1}`))
		v.wakes(func() { _ = conn.Close() })
	}},
	{"a handler hears that its caller left: a socket", func(v *victim) {
		v.needs("both ways")
		conn, reader := v.say(fmt.Sprintf(openings, "hold", ""))
		response, err := http.ReadResponse(reader, nil)
		require.NoError(v.t, err)
		require.Equal(v.t, http.StatusSwitchingProtocols, response.StatusCode)
		v.wakes(func() { _ = conn.Close() })
	}},
	{"a base is whole segments", func(v *victim) {
		assert.Equal(v.t, http.StatusOK, v.status(get("/piers/a?name=b")))
		assert.Equal(v.t, http.StatusNotFound, v.status("GET "+attackedBase+"things/piers/a HTTP/1.1\r\nHost: HOST\r\n\r\n"))
		assert.Equal(v.t, http.StatusNotFound, v.status("GET "+attackedBase+"/piers HTTP/1.1\r\nHost: HOST\r\n\r\n"))
		assert.Equal(v.t, http.StatusNotFound, v.status("GET "+attackedBase+" HTTP/1.1\r\nHost: HOST\r\n\r\n"))
	}},
	{"what fails in the gate is answered", func(v *victim) {
		assert.Equal(v.t, http.StatusInternalServerError,
			v.status(post(pier+"guarded", "", "Desk-Key: panic", "Authorization: Bearer b")))
		if v.lacks["both ways"] == "" {
			assert.Equal(v.t, http.StatusInternalServerError,
				v.status(fmt.Sprintf(openings, "guarded_mirror", "Desk-Key: panic\r\n")))
		}
		assert.Equal(v.t, http.StatusInternalServerError, v.status(post(pier+"refuse", `{"how":"panic"}`)))
	}},
	{"pages of others are refused", func(v *victim) {
		put := func(headers ...string) int {
			body := `{"name":"b"}`
			return v.status("PUT " + attackedBase + "/piers/a/berths/1 HTTP/1.1\r\nHost: HOST\r\nContent-Type: " +
				"application/json\r\nContent-Length: " + strconv.Itoa(len(body)) + "\r\n" + lines(headers) + "\r\n" + body)
		}
		assert.Equal(v.t, http.StatusCreated, put())
		assert.Equal(v.t, http.StatusCreated, put("Origin: http://HOST"))
		assert.Equal(v.t, http.StatusCreated, put("Origin: https://HOST"), "proxies end TLS")
		assert.Equal(v.t, http.StatusCreated, put("Origin: http://other.example", "Sec-Fetch-Site: same-origin"),
			"a browser says so")
		for _, foreign := range []string{"http://other.example", "null", "", "HOST", "http://HOST/x", "http://user@HOST",
			"file://HOST", "http://", "http://[::1"} {
			assert.Equal(v.t, http.StatusForbidden, put("Origin: "+foreign), foreign)
			if v.lacks["both ways"] == "" {
				assert.Equal(v.t, http.StatusForbidden, v.status(fmt.Sprintf(openings, "mirror", "Origin: "+foreign+"\r\n")),
					foreign)
			}
		}
		assert.Equal(v.t, http.StatusForbidden, put("Sec-Fetch-Site: cross-site"))
		assert.Equal(v.t, http.StatusOK, v.status(post(pier+"echo", `{"names":{}}`, "Origin: http://other.example")),
			"nothing that a browser keeps goes with it")
	}},
	{"headers are not believed", func(v *victim) {
		assert.Equal(v.t, http.StatusOK, v.status(post(pier+"echo", `{"names":{}}`,
			"Prefer: wait="+strings.Repeat("9", 5000))))
		conn, reader := v.say("PUT " + attackedBase +
			"/piers/a/berths/1 HTTP/1.1\r\nHost: HOST\r\nContent-Type: application/json\r\nCookie: other=1\r\nCookie: ticket=first\r\nContent-Length: 12\r\n\r\n" + `{"name":"b"}`)
		defer conn.Close()
		response, err := http.ReadResponse(reader, nil)
		require.NoError(v.t, err)
		answer, _ := io.ReadAll(response.Body)
		assert.Contains(v.t, string(answer), `"ticket":"first"`)
	}},
	{"a query that can't be decoded is a violation", func(v *victim) {
		for _, query := range []string{"name=%zz", "name=%ff", "%=1&name=a", "name=a&other=%2"} {
			assert.Equal(v.t, http.StatusBadRequest, v.status(get("/piers/a?"+query)), query)
		}
		assert.Equal(v.t, http.StatusOK, v.status(get("/piers/a?name=a%20b+c;d&&unknown")))
	}},
	{"what explodes is too large", func(v *victim) {
		before := v.memory()
		for name, body := range map[string][]byte{
			"empty messages": append([]byte{0xa3, 1, 0x9a, 0, 0x0f, 0x42, 0x40},
				append(bytes.Repeat([]byte{0xa0}, 1_000_000), 2, 0xa0, 3, 0x80)...),
			"empty texts": append([]byte{0xa3, 1, 0x80, 2, 0xa0, 3, 0x9a, 0, 0x3d, 0x09, 0x00},
				bytes.Repeat([]byte{0x60}, 4_000_000)...),
			"sixty-four bits": sixtyFour(200_000),
		} {
			start := time.Now()
			conn, reader := v.say("POST " + pier + "weigh HTTP/1.1\r\nHost: HOST\r\nContent-Type: " +
				"application/cbor\r\nContent-Length: " + strconv.Itoa(len(body)) + "\r\n\r\n" + string(body))
			response, err := http.ReadResponse(reader, nil)
			require.NoError(v.t, err, name)
			if name != "sixty-four bits" { // which only TypeScript has to refuse
				assert.Equal(v.t, http.StatusRequestEntityTooLarge, response.StatusCode, name)
			}
			assert.Less(v.t, time.Since(start), 4*time.Second, name) // on a busy machine, too
			_ = conn.Close()
		}
		in := []byte(`{"wide":[` + strings.Repeat("{},", 999_999) + `{}],"counts":{},"texts":[]}`)
		assert.Equal(v.t, http.StatusRequestEntityTooLarge,
			v.status("POST "+pier+"weigh HTTP/1.1\r\nHost: HOST\r\nContent-Type: "+
				"application/json\r\nContent-Length: "+strconv.Itoa(len(in))+"\r\n\r\n"+string(in)))
		assert.Less(v.t, v.memory()-before, 200<<20, "most of it is what the runtime keeps")
	}},
	{"numbers of millions of digits are refused in few words", func(v *victim) {
		digits := strings.Repeat("7", 1_300_000)
		for _, body := range []string{`{"names":{"a":` + digits + `}}`, `{"amount":` + digits + `,"names":{}}`,
			`{"amount":"` + digits + `","names":{}}`, `{"at":"` + digits + `","names":{}}`, `{"names":{"a":"` + digits + `"}}`,
			`{"amount":0.` + digits + `,"names":{}}`, `{"amount":1e` + digits + `,"names":{}}`} {
			start := time.Now()
			conn, reader := v.say(post(pier+"echo", body))
			response, err := http.ReadResponse(reader, nil)
			require.NoError(v.t, err, "%.40s", body)
			answer, err := io.ReadAll(response.Body)
			require.NoError(v.t, err)
			assert.Equal(v.t, http.StatusBadRequest, response.StatusCode, "%.40s", body)
			assert.Less(v.t, len(answer), 2000, "%.40s", body)
			assert.Less(v.t, time.Since(start), 3*time.Second, "%.40s", body)
			_ = conn.Close()
		}
	}},
	{"elements are weighed, too", func(v *victim) {
		// An element of the limit's size that holds far more than it may.
		text := "\x1e" + `{"value":{"n":1,"text":"a","x":[` + strings.Repeat("0,", 99_000) + `0]}}` + "\n"
		body := strings.Repeat(text, 1) + "\x1e{\"end\":{}}\n"
		status := v.status("POST " + pier + "sum HTTP/1.1\r\nHost: HOST\r\nContent-Type: " +
			"application/json-seq\r\nContent-Length: " + strconv.Itoa(len(body)) + "\r\n\r\n" + body)
		assert.Contains(v.t, []int{http.StatusOK, http.StatusRequestEntityTooLarge}, status, "it answers")
	}},
	{"large answers are quick", func(v *victim) {
		list := strings.Repeat(`"aaaaaaaa",`, 99_999) + `"a"`
		body := `{"wide":[],"counts":{},"texts":[` + list + `]}`
		start := time.Now()
		assert.Equal(v.t, http.StatusOK, v.status(post(pier+"repeat", body)))
		assert.Less(v.t, time.Since(start), 6*time.Second, "writing goes with the size")
	}},
	{"upgrades that are no WebSockets are ignored", func(v *victim) {
		assert.Equal(v.t, http.StatusOK, v.status(get("/piers/a?name=b", "Connection: Upgrade, HTTP2-Settings",
			"Upgrade: h2c", "HTTP2-Settings: AAMAAABkAAQAAP__")))
	}},
	{"a socket takes no deflate and no element over the limit", func(v *victim) {
		v.needs("both ways")
		ctx, cancel := context.WithTimeout(v.t.Context(), 10*time.Second)
		defer cancel()
		conn, response, err := websocket.Dial(ctx, "ws://"+v.host+pier+"mirror",
			&websocket.DialOptions{Subprotocols: []string{"faithful-json"},
				CompressionMode: websocket.CompressionContextTakeover})
		require.NoError(v.t, err)
		defer conn.CloseNow()
		assert.Empty(v.t, response.Header.Get("Sec-WebSocket-Extensions"))
		_ = conn.Write(ctx, websocket.MessageText, []byte(`{"value":{"n":1,"text":"`+strings.Repeat("x", 300_000)+`"}}`))
		for err = nil; err == nil; {
			var data []byte
			if _, data, err = conn.Read(ctx); err == nil {
				assert.NotContains(v.t, string(data), "xxxx")
			}
		}
		assert.NotErrorIs(v.t, err, context.DeadlineExceeded)
	}},
}

// sixtyFour is a map with so many 64-bit keys.
func sixtyFour(n int) []byte {
	body := []byte{0xa3, 1, 0x80, 2, 0xba, byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}
	for i := range n {
		body = append(binary.BigEndian.AppendUint64(append(body, 0x1b), uint64(i)<<32|1<<62), 0xf5)
	}
	return append(body, 3, 0x80)
}

// textFrame is a masked frame of text of 64 KiB at most (RFC 6455, section 5.2).
func textFrame(text string) []byte {
	frame := []byte{0x81, 0xfe, byte(len(text) >> 8), byte(len(text)), 0, 0, 0, 0}
	return append(frame, text...)
}

// dropped holds that a peer which reads nothing for longer than the limit finds its
// connection ended before all of the answers were sent.
func (v *victim) dropped(conn net.Conn, all int) {
	time.Sleep(attackedIdle + 3*time.Second)
	require.NoError(v.t, conn.SetReadDeadline(time.Now().Add(5*time.Second)))
	came, err := io.Copy(io.Discard, conn)
	assert.False(v.t, isTimeout(err), "the connection is held")
	assert.Less(v.t, int(came), all, "all of it came")
}

// TestAttackedServers attacks each language's server in every way that is known, and asks
// it after each whether it still serves.
func TestAttackedServers(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out attacks, which wait")
	}
	for _, s := range withJava(t) {
		t.Run(s.language, func(t *testing.T) {
			t.Parallel() // most of it is waiting
			address, pid := process(t, s, attackedArguments[s.language]...)
			at, err := url.Parse(address)
			require.NoError(t, err)
			base := &victim{address: address + attackedBase, host: at.Host, pid: pid, lacks: s.lacks}
			for _, attack := range serverAttacks {
				t.Run(attack.name, func(t *testing.T) {
					v := *base
					v.t = t
					attack.do(&v)
					v.t = t
					start := time.Now()
					_, err := v.client().Echo(t.Context(), &matrix.EchoRequest{Names: map[string]int64{}})
					require.NoError(t, err, "it serves on")
					assert.Less(t, time.Since(start), 2*time.Second)
				})
			}
		})
	}
}

// TestCrowds holds thousands of hostile connections of all kinds against each server at
// once, and measures how long others wait for their answers.
func TestCrowds(t *testing.T) {
	if *crowd == 0 {
		t.Skip("skipped: go test ./conformance -run Crowds -crowd 10000 takes minutes")
	}
	var files syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &files))
	require.Greater(t, int(files.Cur), *crowd+500, "ulimit -n")
	for _, s := range withJava(t) {
		t.Run(s.language, func(t *testing.T) {
			// With heartbeats as often as servers send them.
			arguments := slices.Clone(attackedArguments[s.language])
			for i, text := range arguments {
				arguments[i] = map[string]string{"500ms": "15s", "500": "15000", "0.5": "15"}[text]
				if arguments[i] == "" {
					arguments[i] = text
				}
			}
			address, pid := process(t, s, arguments...)
			at, err := url.Parse(address)
			require.NoError(t, err)
			v := &victim{t: t, address: address + attackedBase, host: at.Host, pid: pid}
			kinds := []string{
				"POST /nope HTTP/1.1\r\nHost: HOST\r\nContent-Length: 100\r\n\r\nx",
				"POST " + pier + "echo HTTP/1.1\r\nHost: HOST\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{",
				post(pier+"count", `{"count":200000,"size":1000}`),
				post(pier+"sleep", `{"id":1}`),
				get("/tail?id=1"),
				fmt.Sprintf(openings, "hold", ""),
				"GET / HTTP/1.1\r\nHost: HO",
				"POST " + pier + "sum HTTP/1.1\r\nHost: HOST\r\nContent-Type: application/json-seq\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n",
				"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03",
			}
			var conns []net.Conn
			var mu sync.Mutex
			var group sync.WaitGroup
			var failed atomic.Int64
			next := make(chan string)
			for range 32 {
				group.Go(func() {
					for text := range next {
						conn, err := net.DialTimeout("tcp", v.host, 20*time.Second)
						if err != nil {
							failed.Add(1)
							continue
						}
						mu.Lock()
						conns = append(conns, conn)
						mu.Unlock()
						_, _ = conn.Write([]byte(strings.ReplaceAll(text, "HOST", v.host)))
					}
				})
			}
			var waits []time.Duration // of calls that began once all were there
			var early time.Duration   // the longest before
			var there atomic.Bool
			client := v.client()
			measured := make(chan struct{})
			stop := make(chan struct{})
			go func() {
				defer close(measured)
				for {
					select {
					case <-stop:
						return
					case <-time.After(10 * time.Millisecond):
					}
					start := time.Now()
					ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
					_, err := client.Echo(ctx, &matrix.EchoRequest{Names: map[string]int64{}})
					cancel()
					if err != nil && !errors.Is(err, context.Canceled) {
						failed.Add(1)
					}
					if there.Load() {
						waits = append(waits, time.Since(start))
					} else {
						early = max(early, time.Since(start))
					}
				}
			}()
			for i := range *crowd {
				next <- kinds[i%len(kinds)]
			}
			close(next)
			group.Wait()
			time.Sleep(30 * time.Second) // what was asked for is written until nobody takes more
			there.Store(true)
			open := v.files()
			time.Sleep(10 * time.Second)
			close(stop)
			<-measured
			for _, conn := range conns {
				_ = conn.Close()
			}
			slices.Sort(waits)
			t.Logf("%s: %d hostile connections, %d files open once all had come, %d calls of others then: median %v, 99 of "+
				"100 in %v, worst %v (%v while they came), memory %d MB, %d failed",
				s.language, len(conns), open, len(waits), waits[len(waits)/2], waits[len(waits)*99/100], waits[len(waits)-1],
				early, v.memory()>>20, failed.Load())
			assert.Less(t, waits[len(waits)/2], 50*time.Millisecond)
			assert.Zero(t, failed.Load())
		})
	}
}
