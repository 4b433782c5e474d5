package command

import (
	"bufio"
	"context"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

// mockInBackground runs faithful mock with arguments until the script ends, its
// address in $URL and its log in mock.log.
func mockInBackground(ts *testscript.TestScript, _ bool, args []string) {
	ctx, stop := context.WithCancel(context.Background())
	c := exec.CommandContext(ctx, ts.Getenv("PROGRAM"), append([]string{"mock", "--at", "127.0.0.1:0"}, args...)...)
	c.Cancel = func() error { return c.Process.Signal(os.Interrupt) }
	c.Dir = ts.MkAbs(".")
	out, err := c.StdoutPipe()
	ts.Check(err)
	c.Stderr = os.Stderr
	ts.Check(c.Start())
	ts.Defer(func() {
		stop()
		_ = c.Wait() // it was told to end
	})
	read := bufio.NewReader(out)
	line, err := read.ReadString('\n')
	ts.Check(err)
	ts.Setenv("URL", strings.TrimSpace(line[strings.LastIndex(line, " ")+1:]))
	log, err := os.Create(ts.MkAbs("mock.log"))
	ts.Check(err)
	go func() { _, _ = io.Copy(log, read) }()
}

// awaitLines waits until a file has a number of lines that match: await FILE
// REGEXP COUNT.
func awaitLines(ts *testscript.TestScript, _ bool, args []string) {
	pattern := regexp.MustCompile("(?m)^.*" + args[1] + ".*$")
	for range 200 {
		if fmt.Sprint(len(pattern.FindAllString(ts.ReadFile(args[0]), -1))) == args[2] {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	ts.Fatalf("%s has not %s lines that match %s:\n%s", args[0], args[2], args[1], ts.ReadFile(args[0]))
}

// hostileServer serves in a way that no server should until the script ends, at
// $BAD.
func hostileServer(ts *testscript.TestScript, _ bool, args []string) {
	answer := func(encoding, body string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", encoding)
			_, _ = io.WriteString(w, body)
		}
	}
	done := make(chan struct{})
	handler := map[string]http.HandlerFunc{
		"page":     answer("text/html", "<h1>Welcome</h1>\x1b[31m"),
		"not-json": answer("application/json", "nonsense"),
		"other":    answer("application/json", `{"sailings": 7}`),
		"controls": answer("application/json", `{"sailings": [], "next": "\u009b31mred\u007f"}`),
		"missing":  answer("application/json", `{"sailings": [{"code": "EID-0715"}]}`),
		"binary":   answer("application/cbor", "\xa1\x01\x07"),
		"redirect": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://192.0.2.1/elsewhere", http.StatusFound)
		},
		"reset": func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) },
		"never": func(_ http.ResponseWriter, r *http.Request) { wait(r, done) },
		"huge": func(w http.ResponseWriter, _ *http.Request) {
			endless(w, "application/json", strings.Repeat(" ", 1<<20), 20)
		},
		"drip":      func(w http.ResponseWriter, r *http.Request) { drip(w, r, done) },
		"cut-short": func(w http.ResponseWriter, _ *http.Request) { cut(w) },
		"twice":     answer("application/json", `{"name":"x","version":"1","digest":"0","modules":[{"name":"a","text":"module a"},{"name":"a","text":"module a"}]}`),
		"names":     answer("application/json", `{"name":"x","version":"1","digest":"0","modules":[{"name":"../../a","text":"module a"}]}`),
		"wrong":     answer("application/json", `{"name":"x","version":"1","digest":"0","modules":[{"name":"a","text":"module a message M { #1 x nothing }"}]}`),
		"digest":    answer("application/json", `{"name":"x","version":"1","digest":"0","modules":[{"name":"a","text":"module a message M { #1 x text }"}]}`),
		"empty":     answer("application/json", `{}`),
		"locked": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusUnauthorized)
			_, _ = io.WriteString(w, `{"type":"/-/errors/unauthenticated","title":"unauthenticated","status":401,"detail":"who\u001b[31m are you?"}`)
		},
	}[args[0]]
	if handler == nil {
		ts.Fatalf("there is no hostile server %q", args[0])
	}
	server := httptest.NewUnstartedServer(handler)
	server.Config.ErrorLog = nil
	server.Start()
	ts.Setenv("BAD", server.URL)
	ts.Defer(func() {
		close(done)
		server.CloseClientConnections()
		server.Close()
	})
}

func wait(r *http.Request, done <-chan struct{}) {
	select {
	case <-r.Context().Done():
	case <-done:
	}
}

func endless(w http.ResponseWriter, encoding, piece string, times int) {
	w.Header().Set("Content-Type", encoding)
	for range times {
		if _, err := io.WriteString(w, piece); err != nil {
			return
		}
	}
}

func drip(w http.ResponseWriter, r *http.Request, done <-chan struct{}) {
	w.Header().Set("Content-Type", "application/json")
	for {
		select {
		case <-r.Context().Done():
			return
		case <-done:
			return
		case <-time.After(50 * time.Millisecond):
			_, _ = io.WriteString(w, " ")
			_ = http.NewResponseController(w).Flush()
		}
	}
}

func cut(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Content-Length", "1000")
	_, _ = io.WriteString(w, `{"sailings": [`)
	panic(http.ErrAbortHandler)
}

// TestCallIsQuick holds a whole process that calls a server over loopback. The
// target is 30 ms, on a machine that does nothing else.
func TestCallIsQuick(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	url := runMock(t, "../../examples/ferry", "--quiet")
	least := toolchain.Measured(func(ms float64) bool { return ms < 30 }, func() float64 {
		var times []time.Duration
		for range 15 {
			c := exec.Command(toolchain.Program(t), "call", url, "Bookings.sailings", "-d", "{}")
			c.Dir = "../../examples/ferry"
			start := time.Now()
			require.NoError(t, c.Run())
			times = append(times, time.Since(start))
		}
		slices.Sort(times)
		return float64(times[len(times)/2].Microseconds()) / 1000
	})
	t.Logf("a call as a whole process takes %.1f ms (target 30)", least)
	assert.Less(t, least, 100.0)
}

// runMock runs the built mock in a folder until the test ends, and returns its
// address.
func runMock(t *testing.T, dir string, args ...string) string {
	ctx, stop := context.WithCancel(context.Background())
	c := exec.CommandContext(ctx, toolchain.Program(t), append([]string{"mock", "--at", "127.0.0.1:0"}, args...)...)
	c.Dir = dir
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		stop()
		_ = c.Wait() // it was told to end
	})
	read := bufio.NewReader(out)
	line, err := read.ReadString('\n')
	require.NoError(t, err)
	go func() { _, _ = io.Copy(io.Discard, read) }()
	return strings.TrimSpace(line[strings.LastIndex(line, " ")+1:])
}

// TestConvertsLargeSequences turns 100 MB of CBOR into JSON and back with the
// built program, and holds its memory.
func TestConvertsLargeSequences(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	dir := t.TempDir()
	sample := exec.Command(toolchain.Program(t), "sample", "Booking", "--count", "300", "--seed", "1", "--binary")
	sample.Dir = "../../examples/ferry"
	one, err := sample.Output()
	require.NoError(t, err)
	f, err := os.Create(filepath.Join(dir, "bookings.cbor"))
	require.NoError(t, err)
	size := 0
	for size < 100_000_000 {
		n, err := f.Write(one)
		require.NoError(t, err)
		size += n
	}
	require.NoError(t, f.Close())
	// Both programs at once, their memory limited: what grew with the sequence
	// would not be let.
	start := time.Now()
	back := exec.Command("sh", "-c", `ulimit -d 400000 && "$FAITHFUL" from-cbor Booking "$DIR/bookings.cbor" | "$FAITHFUL" to-cbor Booking | cmp - "$DIR/bookings.cbor"`)
	back.Dir = "../../examples/ferry"
	back.Env = append(os.Environ(), "FAITHFUL="+toolchain.Program(t), "DIR="+dir)
	output, err := back.CombinedOutput()
	require.NoError(t, err, "%s", output)
	t.Logf("%d MB of CBOR to JSON and back in %v", size/1_000_000, time.Since(start).Round(time.Millisecond))
}

// TestMockSurvivesItsCallers cuts connections of all kinds, and calls once more.
func TestMockSurvivesItsCallers(t *testing.T) {
	url := runMock(t, "../../examples/ferry", "--quiet")
	address := strings.TrimPrefix(url, "http://")
	for _, bytes := range []string{"", "G", "GET / HTTP/1.1\r\n",
		"POST /skerry/booking/bookings/book HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{", "\x00\xff\x00", "POST / HTTP/1.1\r\nHost: x\r\nX: " + strings.Repeat("x", 100<<10) + "\r\n\r\n"} {
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		_, _ = io.WriteString(conn, bytes)
		require.NoError(t, conn.Close())
	}
	response, err := http.Get(url + "/-/state")
	require.NoError(t, err)
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	assert.Equal(t, `{"serving":true}`, string(body), fmt.Sprint(response.Status))
}

// TestTalksWhileTyping holds a call that streams both ways against somebody who
// types: each line is answered before the next one comes.
func TestTalksWhileTyping(t *testing.T) {
	address := runMock(t, "../../examples/ferry", "--quiet")
	start := func() (*exec.Cmd, io.WriteCloser, *bufio.Reader) {
		c := exec.Command(toolchain.Program(t), "call", address, "Quay.talk", "--credential", "crew=ada")
		c.Dir = "../../examples/ferry"
		in, err := c.StdinPipe()
		require.NoError(t, err)
		out, err := c.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		return c, in, bufio.NewReader(out)
	}
	c, in, out := start()
	for i := range 3 {
		_, err := fmt.Fprintf(in, "{\"text\": \"Line %d\"}\n", i)
		require.NoError(t, err)
		line, err := out.ReadString('\n')
		require.NoError(t, err)
		assert.Equal(t, "{\"text\":\"Understood: Lines off at 07:15.\"}\n", line)
	}
	require.NoError(t, in.Close())
	require.NoError(t, c.Wait())

	// Ctrl-C ends it, though more could be typed.
	c, in, out = start()
	_, err := io.WriteString(in, "{\"text\": \"Lines off\"}\n")
	require.NoError(t, err)
	_, err = out.ReadString('\n')
	require.NoError(t, err)
	require.NoError(t, c.Process.Signal(os.Interrupt))
	var ended *exec.ExitError
	require.ErrorAs(t, c.Wait(), &ended)
	assert.Equal(t, trouble, ended.ExitCode())
}

// TestTrust calls a server by TLS whose certificate nobody knows.
func TestTrust(t *testing.T) {
	plain, err := url.Parse(runMock(t, "../../examples/ferry", "--quiet"))
	require.NoError(t, err)
	server := httptest.NewTLSServer(httputil.NewSingleHostReverseProxy(plain))
	defer server.Close()
	server.Config.ErrorLog = log.New(io.Discard, "", 0)
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
		Bytes: server.Certificate().Raw}), 0o666))
	empty := filepath.Join(t.TempDir(), "empty.pem")
	require.NoError(t, os.WriteFile(empty, nil, 0o666))
	call := func(arguments ...string) (string, error) {
		c := exec.Command(toolchain.Program(t), append([]string{"call", server.URL, "Bookings.sailings", "-d", "{}"},
			arguments...)...)
		c.Dir = "../../examples/ferry"
		out, err := c.CombinedOutput()
		return string(out), err
	}
	out, err := call()
	require.Error(t, err)
	assert.Contains(t, out, "certificate")
	for _, arguments := range [][]string{{"--ca", ca}, {"--insecure"}} {
		out, err := call(arguments...)
		require.NoError(t, err, out)
		assert.Contains(t, out, "Eiderwick")
	}
	out, err = call("--ca", empty)
	require.Error(t, err)
	assert.Contains(t, out, "has no certificate in PEM")

	show := exec.Command(toolchain.Program(t), "show", "--of", server.URL, "--ca", ca, "skerry.booking.Booking")
	text, err := show.CombinedOutput()
	require.NoError(t, err, "%s", text)
	assert.Contains(t, string(text), "message Booking")

	// Without a scheme it is not a URL, and the message says what one is.
	host := strings.TrimPrefix(server.URL, "https://")
	bare := exec.Command(toolchain.Program(t), "call", host, "Bookings.sailings")
	text, err = bare.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(text), fmt.Sprintf("%q is not the URL of a server; write, for example: http://%s", host,
		host))
}

// TestMockEndsWithItsTerminal closes the terminal of a mock, in a way of speaking:
// it ends as it should, and so do the streams that it serves.
func TestMockEndsWithItsTerminal(t *testing.T) {
	for _, signal := range []os.Signal{syscall.SIGHUP, syscall.SIGTERM, os.Interrupt} {
		c := exec.Command(toolchain.Program(t), "mock", "--at", "127.0.0.1:0")
		c.Dir = "../../examples/ferry"
		out, err := c.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		line, err := bufio.NewReader(out).ReadString('\n')
		require.NoError(t, err)
		talk := exec.Command(toolchain.Program(t), "call", strings.TrimSpace(line[strings.LastIndex(line, " ")+1:]),
			"Quay.talk", "--credential", "crew=ada")
		talk.Dir = c.Dir
		in, err := talk.StdinPipe()
		require.NoError(t, err)
		answers, err := talk.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, talk.Start())
		_, err = io.WriteString(in, "{\"text\": \"Lines off\"}\n")
		require.NoError(t, err)
		_, err = bufio.NewReader(answers).ReadString('\n')
		require.NoError(t, err)
		require.NoError(t, c.Process.Signal(signal))
		assert.NoError(t, c.Wait(), "%v", signal)
		var ended *exec.ExitError
		require.ErrorAs(t, talk.Wait(), &ended, "the caller does not take the end of the server for that of the stream")
		assert.NotEqual(t, fine, ended.ExitCode())
	}
}
