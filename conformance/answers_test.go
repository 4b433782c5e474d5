package conformance

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var gzipJSON = []string{"Content-Type: application/json", "Content-Encoding: gzip"}

var sequenceJSON = []string{"Content-Type: application/json-seq"}

// handshake asks for a WebSocket (RFC 6455, section 4.1).
var handshake = []string{"Connection: Upgrade", "Upgrade: websocket", "Sec-WebSocket-Version: 13",
	"Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==", "Sec-WebSocket-Protocol: faithful-json"}

// tick is an element of a stream.
func tick(n string) string { return "\x1e{\"value\":{\"n\":" + n + "}}\n" }

// zipped is a text in gzip.
func zipped(text string) string {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write([]byte(text)) // into memory
	_ = w.Close()
	return b.String()
}

// answerCase is a request, and what its answer says.
type answerCase struct {
	name, request, sent string
	headers             []string // "Name: value"
	status              int
	want                map[string]string // by name; "" is absent
	body                string            // a part of it
}

func answerCases(set string) []answerCase {
	return []answerCase{

		{"whole", "GET /stamps/new", "", nil, 200, map[string]string{"Etag": `"new.json"`, "Count": "3", "Set-Cookie": "",
			"Cache-Control": "private, no-cache", "Vary": "Accept, Cookie, How", "How": ""}, `{"name":"new"}`},
		{"handler's caching", "GET /stamps/kept", "", nil, 200, map[string]string{"Cache-Control": "max-age=60"},
			`{"name":"kept"}`},
		{"cookie", "GET /stamps/new", "", []string{"Cookie: visit=a%20b"}, 200,
			map[string]string{"Set-Cookie": "visit=a%20b" + set}, `{"name":"new"}`},
		{"first of two cookies", "GET /stamps/new", "", []string{"Cookie: visit=1; visit=2"}, 200,
			map[string]string{"Set-Cookie": "visit=1" + set}, `{"name":"new"}`},
		{"other encoding", "GET /stamps/new", "", []string{"Accept: application/cbor", `If-None-Match: "new.json"`}, 200,
			map[string]string{"Etag": `"new.cbor"`}, "\xa1\x05cnew"},
		{"same", "GET /stamps/new", "", []string{`If-None-Match: "a", "new.json"`, "Cookie: visit=1", "How: so"}, 304,
			map[string]string{"Etag": `"new.json"`, "Cache-Control": "private, no-cache", "Vary": "Accept, Cookie, How",
				"Set-Cookie": "", "Count": "", "How": "", "Content-Type": "", "Content-Length": ""}, ""},
		{"same, in two lines", "GET /stamps/new", "", []string{`If-None-Match: "a"`, `If-None-Match: "new.json"`}, 304,
			map[string]string{"Etag": `"new.json"`}, ""},
		{"head, same", "HEAD /stamps/new", "", []string{`If-None-Match: W/"new.json"`}, 304,
			map[string]string{"Etag": `"new.json"`}, ""},
		{"head", "HEAD /stamps/new", "", nil, 200, map[string]string{"Etag": `"new.json"`, "Count": "3",
			"Content-Length": "14"}, ""},
		{"no tag", "GET /stamps/a%20b", "", nil, 500, map[string]string{"Etag": "", "Count": "",
			"Cache-Control": "private, no-store"}, "internal"},
		{"header twice", "GET /stamps/new", "", []string{"How: a", "How: b"}, 400, nil, "/how"},
		{"header that can't be read", "GET /stamps/new", "", []string{"How: 100%"}, 400, nil, "/how"},
		{"verbatim that is not ASCII", "GET /stamps/new", "", []string{"If-None-Match: \"\xc3\xbc\""}, 400, nil, "/known"},
		{"header as it is", "GET /stamps/new", "", []string{`How: a "b", c; \`}, 200,
			map[string]string{"How": `a "b", c; \`},
			`{"name":"new"}`},
		{"encoded header", "GET /stamps/new", "", []string{"How: %20%C3%A9%25"}, 200,
			map[string]string{"How": "%20%C3%A9%25"},
			`{"name":"new"`},
		{"elsewhere", "POST /stamps", `{"to":"/there?a=1"}`, []string{"Content-Type: application/json"}, 303,
			map[string]string{"Location": "/there?a=1", "Note": "moved, to: %C3%BC", "Content-Length": "0", "Content-Type": "",
				"Cache-Control": "no-store"}, ""},
		{"cookie taken away", "DELETE /stamps/x", "", nil, 200, map[string]string{
			"Set-Cookie": "visit=; Path=/; Max-Age=0; HttpOnly; Secure; SameSite=Strict"}, "{}"},
		{"foreign page", "GET /stamps/new", "", []string{"Origin: https://other.example"}, 403, nil, "forbidden"},
		{"page that follows a link", "GET /stamps/new", "",
			[]string{"Sec-Fetch-Site: cross-site", "Sec-Fetch-Mode: navigate"}, 200, nil, "new"},
		{"raw", "GET /photos/n?size=10", "", nil, 200, map[string]string{"Content-Length": "10", "Etag": `"n"`,
			"Content-Type": "image/x-made", "X-Content-Type-Options": "nosniff", "Content-Security-Policy": "sandbox",
			"Accept-Ranges": "bytes", "Vary": "", "Cache-Control": "no-cache"}, "\x00\x01\x02\x03\x04\x05\x06\x07\x08\x09"},
		{"raw whatever is accepted", "GET /photos/n?size=1", "", []string{"Accept: text/html"}, 200, nil, "\x00"},
		{"raw head", "HEAD /photos/n?size=10", "", nil, 200, map[string]string{"Content-Length": "10"}, ""},
		{"raw and known", "GET /photos/n?size=10", "", []string{`If-None-Match: "n"`}, 304, map[string]string{
			"Content-Length": "", "Content-Type": ""}, ""},
		{"raw of unknown length", "GET /photos/n?size=10&known=false", "", []string{"Range: bytes=1-2"}, 200,
			map[string]string{"Content-Length": "", "Accept-Ranges": "", "Content-Range": ""}, "\x00\x01"},
		{"range", "GET /photos/n?size=10", "", []string{"Range: bytes=2-3"}, 206,
			map[string]string{"Content-Length": "2", "Content-Range": "bytes 2-3/10"}, "\x02\x03"},
		{"range to the end", "GET /photos/n?size=10", "", []string{"Range: bytes=8-99"}, 206,
			map[string]string{"Content-Range": "bytes 8-9/10"}, "\x08\x09"},
		{"range of the last", "GET /photos/n?size=10", "", []string{"Range: bytes=-1"}, 206,
			map[string]string{"Content-Range": "bytes 9-9/10"}, "\x09"},
		{"range beyond", "GET /photos/n?size=10", "", []string{"Range: bytes=10-"}, 416,
			map[string]string{"Content-Range": "bytes */10", "Content-Type": "application/problem+json"},
			"range-not-satisfiable"},
		{"several ranges", "GET /photos/n?size=10", "", []string{"Range: bytes=0-1,4-5"}, 200,
			map[string]string{"Content-Range": ""}, "\x00\x01\x02"},
		{"range of this version", "GET /photos/n?size=10", "", []string{"Range: bytes=0-0", `If-Range: "n"`}, 206, nil,
			"\x00"},
		{"range of another version", "GET /photos/n?size=10", "", []string{"Range: bytes=0-0", `If-Range: "m"`}, 200, nil,
			"\x00\x01"},
		{"not a range", "GET /photos/n?size=10", "", []string{"Range: bytes=5-2"}, 200, nil, "\x00\x01"},
		{"raw that fails at once", "GET /photos/n?size=10&fails=0", "", nil, 500, map[string]string{"Etag": "",
			"Content-Type": "application/problem+json"}, "internal"},
		{"upload", "PUT /photos/n?tags=a&tags=b", "\x01\x02", []string{"Content-Type: image/PNG; q=1", "Label: l"}, 200, nil,
			`{"name":"n","size":2,"kind":"image/PNG; q=1","sum":3,"label":"l","tags":["a","b"]}`},
		{"upload without a type", "PUT /photos/n", "\x01", nil, 415, nil, "image/*"},
		{"upload of another type", "PUT /photos/n", "\x01", []string{"Content-Type: text/plain"}, 415, nil, "text/plain"},
		{"encoded upload", "PUT /photos/n", "\x01", []string{"Content-Type: image/png", "Content-Encoding: gzip"}, 415, nil,
			"gzip"},
		{"upload that is too short", "POST /back", "123456789", []string{"Content-Type: application/x-roll"}, 400, nil,
			"must have 10 to 1000 bytes, not 9"},
		{"upload with a bad name", "PUT /photos/" + strings.Repeat("n", 41), "\x01", []string{"Content-Type: image/png"}, 400,
			nil, "/name"},
		{"compressed", "GET /tales/long", "", []string{"Accept-Encoding: br, gzip;q=0.5"}, 200, map[string]string{
			"Content-Encoding": "gzip", "Etag": `"long.json.gz"`, "Vary": "Accept, Cookie, How, Accept-Encoding"}, "\x1f\x8b"},
		{"not compressed", "GET /tales/long", "", []string{"Accept-Encoding: identity"}, 200, map[string]string{
			"Content-Encoding": "", "Etag": `"long.json"`, "Vary": "Accept, Cookie, How, Accept-Encoding"}, "longlong"},
		{"not wanted compressed", "GET /tales/long", "", []string{"Accept-Encoding: gzip;q=0, *"}, 200,
			map[string]string{"Content-Encoding": ""}, "longlong"},
		{"any coding", "GET /tales/long", "", []string{"Accept-Encoding: *"}, 200,
			map[string]string{"Content-Encoding": "gzip"}, ""},
		{"compressed and known", "GET /tales/long", "", []string{"Accept-Encoding: gzip", `If-None-Match: "long.json.gz"`}, 304,
			map[string]string{"Etag": `"long.json.gz"`}, ""},
		{"known in another coding", "GET /tales/long", "", []string{"Accept-Encoding: identity",
			`If-None-Match: "long.json.gz"`}, 200, nil, ""},
		{"secret", "POST /skerry/matrix/pier/hush", `{"names":{},"text":"` + strings.Repeat("x", 2000) + `"}`,
			[]string{"Content-Type: application/json", "Accept-Encoding: gzip"}, 200, map[string]string{"Content-Encoding": "",
				"Vary": "Accept"}, "xxx"},
		{"raw is not compressed", "GET /photos/n?size=5000", "", []string{"Accept-Encoding: gzip"}, 200,
			map[string]string{"Content-Encoding": ""}, "\x00\x01\x02"},
		{"second element refused", "POST /skerry/matrix/pier/sum", tick("1") + tick("2000001"), sequenceJSON, 400, nil,
			`"detail":"element 2 of the stream is refused","errors":[{"pointer":"/n"`},
		{"third element unreadable", "POST /skerry/matrix/pier/sum", tick("1") + tick("2") + tick(`"x"`), sequenceJSON, 400,
			nil, `"detail":"element 3 of the stream can't be read","errors":[{"pointer":"/n"`},
		{"head and elements", "POST /gangways/EID?deck=2&deck=1&since=5", tick("1") + tick("2") + "\x1e{\"end\":true}\n",
			append([]string{"Device: d", "Cookie: visit=v"}, sequenceJSON...), 200, nil,
			`{"code":"EID","decks":[2,1],"device":"d","visit":"v","total":8}`},
		{"head alone", "POST /gangways/EID", "\x1e{\"end\":true}\n", sequenceJSON, 200, nil,
			`{"code":"EID","decks":[],"total":100}`},
		{"head refused before an element is looked at", "POST /gangways/EID?since=1001", tick("2000001"), sequenceJSON, 400, nil,
			`"errors":[{"pointer":"/since","detail":"must be at most 1000, not 1001","in":"query"}]`},
		{"head that can't be read", "POST /gangways/EID?deck=x", tick("2000001"), sequenceJSON, 400, nil, `"pointer":"/deck`},
		{"second element after a head refused", "POST /gangways/EID", tick("1") + tick("2000001"), sequenceJSON, 400, nil,
			`"detail":"element 2 of the stream is refused","errors":[{"pointer":"/n"`},
		{"head of a page elsewhere", "POST /gangways/EID", "", append([]string{"Origin: https://other.example"},
			sequenceJSON...), 403, nil, "forbidden"},
		{"head of a WebSocket refused", "GET /gangways/EID/file?since=1001", "", handshake, 400, nil,
			`"errors":[{"pointer":"/since","detail":"must be at most 1000, not 1001","in":"query"}]`},
		{"head of a WebSocket taken", "GET /gangways/EID/file?since=10", "", handshake, 101, nil, ""},
		{"compressed request", "POST /stamps", zipped(`{"to":"/a"}`), gzipJSON, 303, map[string]string{"Location": "/a"}, ""},
		{"in two members", "POST /stamps", zipped(`{"to":`) + zipped(`"/a"}`), gzipJSON, 303,
			map[string]string{"Location": "/a"}, ""},
		{"with more behind it", "POST /stamps", zipped(`{"to":"/a"}`) + "more", gzipJSON, 400, nil, "gzip"},
		{"cut", "POST /stamps", zipped(`{"to":"/a"}`)[:20], gzipJSON, 400, nil, "gzip"},
		{"not gzip", "POST /stamps", `{"to":"/a"}`, gzipJSON, 400, nil, "gzip"},
		{"a bomb", "POST /stamps", zipped(`{"to":"` + strings.Repeat("a", 10_000_000) + `"}`), gzipJSON, 413, nil, "too-large"},
		{"another coding", "POST /stamps", "x", []string{"Content-Type: application/json", "Content-Encoding: br"}, 415,
			map[string]string{"Accept-Encoding": "gzip"}, "br"},
		{"nothing is kept", "GET /ping", "", nil, 200,
			map[string]string{"Cache-Control": "no-store", "Vary": "Accept, Accept-Encoding"}, "{}"},
		{"nor of what needs a key", "POST /skerry/matrix/pier/guarded", "", nil, 401, map[string]string{
			"Cache-Control": "private, no-store", "Vary": "Accept, Authorization, Desk-Key, Accept-Encoding"},
			"unauthenticated"},
	}
}

// TestAnswersOutsideOfBodies asks every server with a tool that knows nothing of stubs, and
// looks at what its answers say outside of their bodies.
func TestAnswersOutsideOfBodies(t *testing.T) {
	client := &http.Client{Transport: &http.Transport{DisableCompression: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	set := "; Path=/; Max-Age=3600; HttpOnly; Secure; SameSite=Strict"
	for _, s := range withJava(t) {
		t.Run(s.language, func(t *testing.T) {
			address := start(t, s)
			for _, c := range answerCases(set) {
				t.Run(c.name, func(t *testing.T) {
					if why := s.lacks["both ways"]; why != "" && strings.Contains(c.name, "WebSocket") {
						t.Skip("skipped: " + why)
					}
					method, path, _ := strings.Cut(c.request, " ")
					r, err := http.NewRequestWithContext(t.Context(), method, address+path, strings.NewReader(c.sent))
					require.NoError(t, err)
					for _, h := range c.headers {
						name, value, _ := strings.Cut(h, ": ")
						r.Header.Add(name, value)
					}
					response, err := client.Do(r)
					require.NoError(t, err)
					defer response.Body.Close()
					var body []byte
					if response.StatusCode != http.StatusSwitchingProtocols {
						body, err = io.ReadAll(response.Body)
						require.NoError(t, err)
					}
					assert.Equal(t, c.status, response.StatusCode, "%s", body)
					assert.Contains(t, string(body), c.body)
					for name, want := range c.want {
						assert.Equal(t, want, strings.Join(response.Header.Values(name), ", "), name)
					}
				})
			}
		})
	}
}
