package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/value"
)

// ferryLine loads the definitions of the ferry project.
func ferryLine(t testing.TB) *schema.Definitions {
	t.Helper()
	paths, err := filepath.Glob("../../examples/ferry/definitions/*.faithful")
	require.NoError(t, err)
	var files []*source.File
	for _, path := range paths {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		files = append(files, source.NewFile(path, string(text)))
	}
	defs, findings := check.Load(files)
	require.Zero(t, source.Errors(findings))
	return defs
}

func call(t testing.TB, defs *schema.Definitions, name string) *schema.Call {
	t.Helper()
	found := defs.Find(name)
	require.Len(t, found, 1, name)
	return found[0].(*schema.Call)
}

func serve(t *testing.T, defs *schema.Definitions, sheet string, options MockOptions) *httptest.Server {
	t.Helper()
	var read *Sheet
	if sheet != "" {
		var err error
		read, err = ReadSheet(defs, source.NewFile("answers.toml", sheet), Sampled(defs, 0))
		require.NoError(t, err)
	}
	mock, err := NewMock(defs, read, options)
	require.NoError(t, err)
	server := httptest.NewServer(mock)
	t.Cleanup(server.Close)
	return server
}

// all are credentials for everything that needs some.
var all = map[string]string{"crew": "a-token", "door": "north pier", "machine": "m & m", "screen": "s",
	"office": "ada:secret"}

func requestOf(t *testing.T, defs *schema.Definitions, c *schema.Call, i int) []byte {
	t.Helper()
	if c.Request == nil {
		return nil
	}
	v, err := value.NewMaker(defs, uint64(i)).Element(c.Request, i)
	require.NoError(t, err)
	text, err := value.EncodeJSON(v)
	require.NoError(t, err)
	return text
}

// Every call of every service, in both encodings, is asked and answered; other tools
// read what travels, and agree.
func TestEveryCallIsAnswered(t *testing.T) {
	defs := ferryLine(t)
	var mu sync.Mutex
	var bodies [][]byte
	var encodings []string
	mock, err := NewMock(defs, nil, MockOptions{})
	require.NoError(t, err)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Upgrade") == "" {
			body, err := io.ReadAll(r.Body)
			if err == nil && len(body) > 0 {
				mu.Lock()
				bodies, encodings = append(bodies, body), append(encodings, r.Header.Get("Content-Type"))
				mu.Unlock()
			}
			r.Body = io.NopCloser(bytes.NewReader(body))
		}
		mock.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	for _, c := range defs.Calls() {
		for _, binary := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s binary=%t", c.FullName(), binary), func(t *testing.T) {
				k := NewCaller(c, Options{Base: server.URL, Binary: binary, Credentials: all, Timeout: 5 * time.Second})
				for i := range 3 {
					answers, err := asked(t, k, c, requestOf(t, defs, c, i))
					require.NoError(t, err)
					for _, a := range answers {
						require.NoError(t, a.Refused)
						if a.Message != nil {
							assert.Empty(t, value.Validate(a.Message))
						}
					}
					want := 1
					if c.ResponseStream && !c.RequestStream {
						want = 3
					}
					assert.GreaterOrEqual(t, len(answers), want)
				}
			})
		}
	}
	kinds := map[string]int{}
	for i, body := range bodies {
		kinds[encodings[i]]++
		switch encodings[i] {
		case "application/json":
			assert.True(t, json.Valid(body), "%s", body)
		case "application/cbor":
			assert.NoError(t, cbor.Wellformed(body), "%x", body)
		case "application/cbor-seq":
			d := cbor.NewDecoder(bytes.NewReader(body))
			for d.NumBytesRead() < len(body) {
				var element map[int]any
				require.NoError(t, d.Decode(&element), "%x", body)
			}
		case "application/json-seq":
			for _, element := range bytes.Split(bytes.TrimPrefix(body, []byte{0x1e}), []byte{0x1e}) {
				assert.True(t, json.Valid(element), "%q", element)
			}
		}
	}
	assert.Len(t, kinds, 4, "bodies of all four types were sent")
}

// asked makes any call, and returns all answers.
func asked(t *testing.T, k *Caller, c *schema.Call, request []byte) (answers []*Answer, err error) {
	t.Helper()
	ctx := t.Context()
	switch {
	case c.RequestStream:
		s, err := k.Open(ctx)
		if err != nil {
			return nil, err
		}
		defer s.Close()
		for range 2 {
			if err := s.Send(request); err != nil {
				return nil, err
			}
		}
		a, err := s.Finish()
		if err != nil || !c.ResponseStream {
			return []*Answer{a}, err
		}
		for a, err := range s.Received() {
			if err != nil {
				return answers, err
			}
			answers = append(answers, a)
		}
		return answers, nil
	case c.ResponseStream:
		for a, err := range k.Elements(ctx, request) {
			if err != nil {
				return answers, err
			}
			answers = append(answers, a)
		}
		return answers, nil
	}
	a, err := k.Do(ctx, request)
	return []*Answer{a}, err
}

// The JSON Schema of problem details in RFC 9457, appendix A.
const problemSchema = `{
  "$schema": "https://json-schema.org/draft/2020-12/schema",
  "title": "An RFC 7807 problem object",
  "type": "object",
  "properties": {
    "type": { "type": "string", "format": "uri-reference" },
    "title": { "type": "string" },
    "status": { "type": "integer", "minimum": 100, "maximum": 599 },
    "detail": { "type": "string" },
    "instance": { "type": "string", "format": "uri-reference" }
  }
}`

// Requests that a server refuses are refused, in problem details that their
// schema takes.
func TestRefusalsAreProblemDetails(t *testing.T) {
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(problemSchema))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	compiler.AssertFormat()
	require.NoError(t, compiler.AddResource("problem.json", document))
	compiled, err := compiler.Compile("problem.json")
	require.NoError(t, err)
	server := serve(t, ferryLine(t), "[[answer]]\ncall = \"Bookings.cancel\"\nproblem = "+
		"\"internal\"\n[[answer]]\ncall = \"Bookings.booking\"\nerror = \"NotFound\"\n[credentials]\ndoor = [\"north pier\", \"south pier\"]\n", MockOptions{})
	for _, c := range []struct {
		method, path, headers, body string
		status                      int
		name                        string
	}{
		{"POST", "/skerry/booking/bookings/book", "Content-Type: application/json", `{"sailing": "x", "passengers": []}`,
			400, "invalid-request"},
		{"POST", "/skerry/booking/bookings/book", "Content-Type: application/json", `{`, 400, "invalid-request"},
		{"POST", "/skerry/booking/bookings/book", "Content-Type: application/cbor", "\xa1\x01\x05", 400, "invalid-request"},
		{"POST", "/skerry/booking/bookings/book", "Content-Type: text/plain", "x", 415, "unsupported-form"},
		{"POST", "/skerry/booking/bookings/book", "Accept: image/png", "", 406, "not-acceptable"},
		{"GET", "/skerry/booking/bookings/book", "", "", 405, "wrong-method"},
		{"GET", "/nowhere", "", "", 404, "unknown-call"},
		{"POST", "/skerry/quay/quay/ring", "", "", 401, "unauthenticated"},
		{"POST", "/skerry/quay/quay/ring", "Door-Key: west pier", "", 403, "forbidden"},
		{"POST", "/skerry/booking/bookings/cancel", "Content-Type: application/json",
			`{"id": "6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"}`, 500, "internal"},
		{"POST", "/skerry/booking/bookings/booking", "Content-Type: application/json",
			`{"id": "6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"}`, 404, "skerry.common.NotFound"},
		{"GET", "/vessels/nobody/positions?deck=moon&since=today", "Quay-Client: 50%", "", 400, "invalid-request"},
		{"PUT", "/notices/EID-0715/x-skerry", "Content-Type: application/json\nDoor-Key: south pier",
			`{"code": "EID-0715", "body": "Fog"}`, 400, "invalid-request"},
	} {
		r, err := http.NewRequest(c.method, server.URL+c.path, strings.NewReader(c.body))
		require.NoError(t, err)
		for line := range strings.SplitSeq(c.headers, "\n") {
			if name, v, ok := strings.Cut(line, ": "); ok {
				r.Header.Set(name, v)
			}
		}
		response, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		body, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		response.Body.Close()
		require.Equal(t, c.status, response.StatusCode, "%s %s: %s", c.method, c.path, body)
		assert.Equal(t, "application/problem+json", response.Header.Get("Content-Type"))
		read, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
		require.NoError(t, err)
		require.NoError(t, compiled.Validate(read), "%s", body)
		var p web.Problem
		require.NoError(t, json.Unmarshal(body, &p))
		assert.Equal(t, c.name, p.Name())
		if c.name == "invalid-request" {
			assert.NotEmpty(t, p.Violations, "%s", body)
		}
	}
}

// What is printed for curl works as it is printed.
func TestCurl(t *testing.T) {
	if _, err := exec.LookPath("curl"); err != nil {
		t.Skip("skipped: there is no curl here")
	}
	defs := ferryLine(t)
	var mu sync.Mutex
	var logged []string
	server := serve(t, defs, "[credentials]\ndoor = \"north \\\"pier\\\" $HOME\"\n",
		MockOptions{Base: "/v1", Log: func(l *Logged) {
			mu.Lock()
			defer mu.Unlock()
			logged = append(logged, fmt.Sprintf("%s %d", l.Call, l.Status))
		}})
	own := map[string]string{"CREW": "a-token", "DOOR": `north "pier" $HOME`, "MACHINE": "m & m=1",
		"SCREEN": "screen-value", "OFFICE": "ada:se cret"}
	for _, c := range defs.Calls() {
		t.Run(c.FullName(), func(t *testing.T) {
			if conversation.BothWays(c) {
				_, _, err := NewCaller(c, Options{Base: server.URL + "/v1"}).Curl(t.Context(), nil)
				require.ErrorContains(t, err, "curl can't make it")
				return
			}
			needs := c.Needs
			if len(needs) == 0 {
				needs = [][]*schema.Credential{nil}
			}
			for i := range needs {
				// Each alternative once.
				one := *c
				if c.Needs != nil {
					one.Needs = needs[i : i+1]
				}
				line, variables, err := NewCaller(&one, Options{Base: server.URL + "/v1",
					Headers: http.Header{"Note": {"it's `here` $HOME"}}}).Curl(t.Context(), [][]byte{requestOf(t, defs, c, i)})
				require.NoError(t, err)
				assert.Len(t, variables, len(needs[i]))
				shell := exec.Command("bash", "-c", line+` -w '\n%{http_code}'`)
				shell.Env = os.Environ()
				for name, v := range own {
					assert.NotContains(t, line, v)
					shell.Env = append(shell.Env, name+"="+v)
				}
				output, err := shell.CombinedOutput()
				require.NoError(t, err, "%s\n%s", line, output)
				assert.True(t, strings.HasSuffix(string(output), fmt.Sprintf("\n%d", conversation.Status(c))), "%s\n%s", line,
					output)
			}
		})
	}
	mu.Lock()
	defer mu.Unlock()
	assert.Greater(t, len(logged), 15)
}

// A record holds all of a day, and says what is otherwise on the next.
func TestReplay(t *testing.T) {
	defs := ferryLine(t)
	var mu sync.Mutex
	var day []*Recorded
	const sheet = "[[answer]]\ncall = \"Fleet.vessel\"\nerror = \"NotFound\"\nwith = { what = \"gone\" " +
		"}\n[[answer]]\ncall = \"Bookings.cancel\"\nproblem = \"forbidden\"\n"
	server := serve(t, defs, sheet, MockOptions{Record: func(r *Recorded) {
		mu.Lock()
		defer mu.Unlock()
		day = append(day, r)
	}})
	options := Options{Base: server.URL, Credentials: all, Timeout: 5 * time.Second}
	for _, c := range defs.Calls() {
		_, err := asked(t, NewCaller(c, options), c, requestOf(t, defs, c, 0))
		if name := c.FullName(); !strings.HasSuffix(name, ".vessel") && !strings.HasSuffix(name, ".cancel") {
			require.NoError(t, err, name)
		}
	}
	mu.Lock()
	recorded := append([]*Recorded{}, day...)
	mu.Unlock()
	require.Len(t, recorded, len(defs.Calls())-1, "what is not a declared error is not recorded")
	lines, err := jsonschema.NewCompiler().Compile("../../docs/record.schema.json")
	require.NoError(t, err)
	other := serve(t, defs, "[[answer]]\ncall = \"Quay.post\"\nwith = { body = \"Sun.\" }\n[[answer]]\ncall = "+
		"\"Quay.follow\"\nstream = [{}]\n[[answer]]\ncall = \"Quay.ring\"\nerror = \"Refused\"\n", MockOptions{})
	var differ []string
	for _, r := range recorded {
		text, err := json.Marshal(r)
		require.NoError(t, err)
		document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(t, err)
		require.NoError(t, lines.Validate(document), "%s", text)
		var again Recorded
		require.NoError(t, json.Unmarshal(text, &again))
		c := call(t, defs, r.Call)
		same, err := Replay(t.Context(), c, &again, options)
		require.NoError(t, err, r.Call)
		require.Empty(t, same, r.Call)
		otherOptions := options
		otherOptions.Base = other.URL
		differences, err := Replay(t.Context(), c, &again, otherOptions)
		require.NoError(t, err, r.Call)
		for _, d := range differences {
			differ = append(differ, fmt.Sprintf("%s %s: %.20s, %.20s", c.Name, d.Path, d.Recorded, d.Now))
		}
	}
	assert.ElementsMatch(t, []string{
		"vessel /status: 404, 200", "vessel /error: skerry.common.NotFou, none", `vessel /fields: {"what":"gone"}, absent`,
		"vessel /answer: absent, " + fmt.Sprintf("%.20s", requestOf(t, defs, call(t, defs, "Fleet.vessel"), 0)),
		// whose id it repeats
		`post /answer/body: "Fog. We sail when w, "Sun."`, "follow /answers: 3 elements, 1 elements",
		"ring /status: 204, 403", "ring /error: none, skerry.quay.Refused", `ring /fields: absent, {"why":"tooLate"}`,
	}, differ)
}

// Mistakes in an answer sheet are found at their place, with what was meant.
func TestMistakesInSheets(t *testing.T) {
	defs := ferryLine(t)
	const book = "[[answer]]\ncall = \"Bookings.book\"\n"
	for text, want := range map[string]string{
		"[[answers]]":                         "1:3 no-such-key: an answer sheet has no key \"answers\" | did you mean \"answer\"?",
		"[[answer]]\ncal = \"Bookings.book\"": "2:1 no-such-key: an answer sheet has no key \"answer.cal\" | did you mean \"call\"?",
		"[[answer]]\nwith = {}":               "1:1 no-call: an answer needs the call that it is for",
		"[[answer]]\ncall = \"Bookings.bok\"": "2:9 no-such-call: there is no call \"Bookings.bok\" | did you mean \"Bookings.book\"?",
		"[[answer]]\ncall = \"Bookings.book":  "2:21 bad-toml: ",
		"state = 7":                           "1:9 bad-toml: ",
		book + "when = { saling = \"x\" }": "3:10 no-such-field: \"BookRequest\" has no field " +
			"\"saling\" | did you mean \"sailing\"?",
		book + "when = { vehicle = { metre = 4 } }": "3:22 no-such-field: \"Vehicle\" has no field " +
			"\"metre\" | did you mean \"metres\"?",
		book + "when = { deck = 1.5 }": "3:10 wrong-value: when.deck: the payload: " +
			"expected Deck, found the number 1.5",
		book + "with = { fare = { hundredth = 4 } }": "3:10 wrong-value: with: /fare/hundredths: " +
			"expected int64, found nothing: the field is required",
		book + "with = { fare = { hundredths = 4, curency = \"SKD\" } }": "3:35 no-such-field: with: nothing of these " +
			"definitions is called \"/fare/curency\" | did you mean \"currency\"?",
		book + "with = { id = 4 }": "3:10 wrong-value: with: /id: expected uuid, " +
			"found the number 4",
		book + "with = { idd = \"x\" }": "3:10 no-such-field: \"Booking\" has no field \"idd\" " +
			"| did you mean \"id\"?",
		book + "error = \"SailingFul\"": "3:10 no-such-error: " +
			"\"skerry.booking.Bookings.book\" does not fail with \"SailingFul\" | did you mean \"SailingFull\"?",
		book + "error = \"SailingFull\"\nwith = { seats = 4 }": "4:10 no-such-field: \"SailingFull\" has no " +
			"field \"seats\" | ",
		book + "problem = \"sleepy\"": "3:12 no-such-problem: a mock does not answer " +
			"with the problem \"sleepy\" | ",
		book + "problem = \"internal\"\nerror = \"SailingFull\"": "3:1 two-answers: ",
		book + "cut = true\nwith = {}":                           "3:1 two-answers: ",
		book + "delay = \"soon\"": "3:1 bad-delay: a delay is an ISO 8601 " +
			"duration, not \"soon\"",
		book + "times = -1":                                        "3:1 bad-times: ",
		book + "stream = []":                                       "3:1 no-stream: ",
		book + "copy = { id = \"sailing\" }":                       "3:10 bad-pointer: ",
		book + "copy = { idd = \"/sailing\" }":                     "3:10 no-such-field: ",
		"[[answer]]\ncall = \"Quay.ring\"\nwhen = { a = 1 }":       "3:1 no-request: ",
		"[[answer]]\ncall = \"Quay.ring\"\nwith = { a = 1 }":       "3:1 no-answer: ",
		"[[answer]]\ncall = \"Quay.follow\"\nwith = {}":            "3:1 is-stream: ",
		"[[answer]]\ncall = \"Quay.follow\"\nstream = [{ x = 1 }]": "3:13 no-such-field: \"Position\" has no field \"x\" | ",
		"[credentials]\ndoo = \"x\"":                               "1:1 no-such-credential: there is no credential \"doo\" | did you mean \"door\"?",
		"\xff\x00":                                                 "1:1 bad-toml: ",
	} {
		_, err := ReadSheet(defs, source.NewFile("answers.toml", text), Sampled(defs, 0))
		if want == "" {
			require.NoError(t, err, text)
			continue
		}
		var bad *BadSheet
		require.ErrorAs(t, err, &bad, text)
		f := bad.Findings[0]
		at := f.Place.File.Position(f.Place.Span.Start)
		got := fmt.Sprintf("%d:%d %s: %s", at.Line, at.Column, f.Name, f.Message)
		if strings.Contains(want, " | ") {
			got += " | " + f.Fix
		}
		assert.True(t, strings.HasPrefix(got, want), "%q\ngot  %s\nwant %s", text, got, want)
	}
}

func FuzzReadSheet(f *testing.F) {
	defs := ferryLine(f)
	text, err := os.ReadFile("../../examples/ferry/answers.toml")
	require.NoError(f, err)
	for _, part := range strings.Split(string(text), "\n\n") {
		f.Add(part)
	}
	f.Fuzz(func(t *testing.T, text string) {
		sheet, err := ReadSheet(defs, source.NewFile("answers.toml", text), Sampled(defs, 0))
		var bad *BadSheet
		if err != nil {
			require.True(t, errors.As(err, &bad))
			for _, finding := range bad.Findings {
				require.LessOrEqual(t, int(finding.Place.Span.End), len(text))
			}
			return
		}
		for _, c := range defs.Calls() {
			_, err := sheet.find(c, nil)
			require.NoError(t, err)
		}
	})
}

// The same seed gives the same faults; slow ones are slow, and those who leave
// are let go.
func TestFaults(t *testing.T) {
	defs := ferryLine(t)
	book := call(t, defs, "Bookings.book")
	run := func(seed uint64) (outcomes string) {
		server := serve(t, defs, "", MockOptions{Faults: 0.5, Seed: seed})
		k := NewCaller(book, Options{Base: server.URL, Timeout: 5 * time.Second})
		for range 12 {
			_, err := k.Do(t.Context(), requestOf(t, defs, book, 0))
			var declared *Declared
			switch {
			case errors.As(err, &declared):
				outcomes += declared.Problem.Name()[len("skerry."):] + " "
			case err != nil:
				require.NoError(t, err)
			default:
				outcomes += "fine "
			}
		}
		return outcomes
	}
	first := run(3)
	assert.Equal(t, first, run(3))
	assert.NotEqual(t, first, run(4))
	assert.Contains(t, first, "fine")
	assert.Contains(t, first, "booking.Sailing")

	server := serve(t, defs, "[[answer]]\ncall = \"Bookings.book\"\ndelay = \"PT1H\"", MockOptions{})
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err := NewCaller(book, Options{Base: server.URL}).Do(ctx, requestOf(t, defs, book, 0))
	var unreachable *web.Unreachable
	require.ErrorAs(t, err, &unreachable)
}
