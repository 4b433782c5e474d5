package conformance

import (
	"bufio"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// spoken sends bytes to a server, as they are, and returns its answer: nil
// where it closed the connection without one.
func spoken(t *testing.T, address, text string) (*http.Response, string) {
	at, err := url.Parse(address)
	require.NoError(t, err)
	conn, err := net.Dial("tcp", at.Host)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
	go func() {
		_, _ = conn.Write([]byte(strings.ReplaceAll(text, "HOST",
			at.Host)))
	}() // it may answer before it has read all
	response, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		require.False(t, isTimeout(err), "no answer to %.60q", text)
		return nil, ""
	}
	body, err := io.ReadAll(response.Body)
	require.False(t, isTimeout(err), "no end of the answer to %.60q", text)
	return response, string(body)
}

func isTimeout(err error) bool {
	timeout, ok := err.(net.Error)
	return ok && timeout.Timeout()
}

// post is a request with a body of JSON.
func post(path, body string, headers ...string) string {
	return "POST " + path + " HTTP/1.1\r\nHost: HOST\r\nContent-Type: application/json\r\nContent-Length: " +
		strconv.Itoa(len(body)) + "\r\n" + lines(headers) + "\r\n" + body
}

func lines(headers []string) string {
	var b strings.Builder
	for _, h := range headers {
		b.WriteString(h + "\r\n")
	}
	return b.String()
}

const (
	echoPath = "/skerry/matrix/pier/echo"
	upgrade  = "Connection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: " +
		"dGhlIHNhbXBsZSBub25jZQ==\r\n"
)

// TestHostileClients says to each server what no client of ours says.
func TestHostileClients(t *testing.T) {
	for _, server := range withJava(t) {
		t.Run(server.language, func(t *testing.T) {
			address := start(t, server)
			for _, x := range []struct {
				name, request string
				status        int
				problem       string
			}{
				{"a path that climbs", "GET /piers/.. HTTP/1.1\r\nHost: HOST\r\n\r\n", 400, "invalid-request"},
				{"one that climbs in disguise", "GET /piers/%2e%2e HTTP/1.1\r\nHost: HOST\r\n\r\n", 400, "invalid-request"},
				{"an empty part of a path", "GET /piers/ HTTP/1.1\r\nHost: HOST\r\n\r\n", 400, "invalid-request"},
				{"a path that nobody has", "POST /nowhere HTTP/1.1\r\nHost: HOST\r\nContent-Length: 0\r\n\r\n", 404,
					"unknown-call"},
				{"a percent sign alone", "GET /piers/%zz HTTP/1.1\r\nHost: HOST\r\n\r\n", 400, ""},
				{"another method", "GET " + echoPath + " HTTP/1.1\r\nHost: HOST\r\n\r\n", 405, "wrong-method"},
				{"an answer in what nobody writes", post(echoPath, `{"names":{}}`, "Accept: text/csv"), 406, "not-acceptable"},
				{"a body in what nobody reads", strings.Replace(post(echoPath, `{"names":{}}`), "application/json", "text/csv",
					1), 415, "unsupported-form"},
				{"a stream where nothing is taken", strings.Replace(post("/skerry/matrix/pier/ended", "\x1e{\"end\":{}}\n"),
					"application/json", "application/json-seq", 1), 415, "unsupported-form"},
				{"a body that is not JSON", post(echoPath, `{"names":`), 400, "invalid-request"},
				{"two violations", post(echoPath, `{"text":"","names":{"a":1,"b":1,"c":1,"d":1,"e":1,"f":1,"g":1,"h":1,"i":1,"j":1}}`), 400, "invalid-request"},
				{"a promise of ten million bytes", "POST " + echoPath +
					" HTTP/1.1\r\nHost: HOST\r\nContent-Type: application/json\r\nContent-Length: 10000000\r\n\r\n", 413, "too-large"},
				{"a body without end", "POST " + echoPath +
					" HTTP/1.1\r\nHost: HOST\r\nContent-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n" +
					strings.Repeat("2710\r\n"+strings.Repeat(" ", 10000)+"\r\n", 50), 413, "too-large"},
				{"a body that does not come", "POST " + echoPath +
					" HTTP/1.1\r\nHost: HOST\r\nPrefer: wait=1\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{",
					503, "too-slow"},
				{"a handler that does not return", post("/skerry/matrix/pier/refuse", `{"how":"hang"}`, "Prefer: wait=1"), 503,
					"too-slow"},
				{"a socket for a page from elsewhere", "GET /skerry/matrix/pier/mirror HTTP/1.1\r\nHost: HOST\r\nOrigin: http://elsewhere.example\r\nSec-WebSocket-Protocol: faithful-json\r\n" + upgrade + "\r\n", 403, "forbidden"},
				{"a socket in what nobody speaks", "GET /skerry/matrix/pier/mirror HTTP/1.1\r\nHost: HOST\r\nSec-WebSocket-Protocol: chat\r\n" + upgrade + "\r\n", 406, "not-acceptable"},
				{"a socket without credentials", "GET /skerry/matrix/pier/guarded_mirror HTTP/1.1\r\nHost: HOST\r\nSec-WebSocket-Protocol: faithful-json\r\n" + upgrade + "\r\n", 401, "unauthenticated"},
			} {
				t.Run(x.name, func(t *testing.T) {
					began := time.Now()
					response, body := spoken(t, address, x.request)
					require.NotNil(t, response)
					assert.Equal(t, x.status, response.StatusCode, body)
					assert.Less(t, time.Since(began), 5*time.Second)
					if strings.Contains(x.request, "Prefer: wait=1") { // which may be a part of a second, rounded up
						assert.GreaterOrEqual(t, time.Since(began), time.Second)
					}
					if x.problem == "" {
						return
					}
					assert.Equal(t, "application/problem+json", response.Header.Get("Content-Type"))
					var problem struct {
						Type   string
						Status int
						Errors []struct{ Pointer, Detail string }
					}
					require.NoError(t, json.Unmarshal([]byte(body), &problem), body)
					assert.Equal(t, "/-/errors/"+x.problem, problem.Type)
					assert.Equal(t, x.status, problem.Status)
					if x.name == "two violations" {
						assert.Len(t, problem.Errors, 2, body)
					}
				})
			}
			t.Run("headers without end", func(t *testing.T) {
				response, body := spoken(t, address, post(echoPath, `{"names":{}}`, "Long: "+strings.Repeat("x", 1<<20)))
				if response != nil { // some can only close the connection
					assert.Contains(t, []int{400, 431}, response.StatusCode, body)
				}
			})
			t.Run("no HTTP at all", func(t *testing.T) {
				response, body := spoken(t, address, strings.Repeat("\x00\xff", 1000)+"\r\n\r\n")
				if response != nil {
					assert.Equal(t, 400, response.StatusCode, body)
				}
			})
			t.Run("a page from elsewhere", func(t *testing.T) {
				response, body := spoken(t, address, post(echoPath, `{"names":{}}`, "Origin: http://elsewhere.example"))
				require.NotNil(t, response)
				assert.Equal(t, 200, response.StatusCode, body)
				assert.Empty(t, response.Header.Get("Access-Control-Allow-Origin"))
			})
			t.Run("and it goes on", func(t *testing.T) {
				response, body := spoken(t, address, post(echoPath, `{"names":{}}`))
				require.NotNil(t, response)
				assert.Equal(t, 200, response.StatusCode)
				assert.JSONEq(t, `{"request":{"amount":"1.50","names":{}}}`, body)
			})
		})
	}
}
