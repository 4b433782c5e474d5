package conformance

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

// projectOf makes a project of files, and of the ferries' definitions where ferry says so.
func projectOf(t *testing.T, ferry bool, files map[string]string) (dir string, run func(args ...string) string) {
	t.Helper()
	dir = t.TempDir()
	if ferry {
		definitions := filepath.Join(toolchain.Root(), "examples", "ferry", "definitions")
		require.NoError(t, os.CopyFS(filepath.Join(dir, "definitions"), os.DirFS(definitions)))
	}
	config := "name = \"skerry-line\"\nsources = [\"definitions\"]\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "faithful.toml"), []byte(config), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "definitions"), 0o777))
	for name, text := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "definitions", name), []byte(text), 0o600))
	}
	return dir, func(args ...string) string {
		t.Helper()
		output, err := toolchain.Faithful(t, dir, args...).CombinedOutput()
		require.NoError(t, err, "%s", output)
		return string(output)
	}
}

// replaceIn changes what a definition says.
func replaceIn(t *testing.T, path, old, now string) {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	changed := strings.Replace(string(text), old, now, 1)
	require.NotEqual(t, string(text), changed)
	require.NoError(t, os.WriteFile(path, []byte(changed), 0o600))
}

const manualRead = `a policy: nothing ran, refused 1
a policy: nothing ran, refused 1
a policy: nothing ran, refused 1
names: false
wire: true #101
remembered: true
find pasenger: skerry.booking.Passenger
at modules/skerry.booking.html#Passenger
find /quay/board: skerry.quay.Quay.board
find #65535: nothing
find Guillemot: nothing
switched off: true
typed: true 0
to send: faithful manual --serve --to http://127.0.0.1:8080
copies: 15 the same, 0 others
one file: 1 skerry-line
a link: Bookings #services/skerry.booking.Bookings--book
a form: EID-0715
found: #modules/skerry.quay--NoticeRequest skerry.quay
within a frame: true true
without scripts: true false 0
one file without scripts: 16
printed: true 0
`

// TestManualInBrowser reads the manual of the ferries from disk in Chromium: in light and dark, on a desk and on a
// phone, with the keyboard alone, in one file, on paper, and without scripts. axe finds nothing, nothing is asked for
// from elsewhere, and 10,000 names are searched within a frame.
func TestManualInBrowser(t *testing.T) {
	toolchain.Require(t, "typescript")
	toolchain.Browser(t)
	programs := typescriptPrograms(t)
	dir, run := projectOf(t, true, nil)
	run("seal")
	booking := filepath.Join(dir, "definitions", "booking.faithful")
	replaceIn(t, booking, "#6 open      bool = true", "#6 open      text?")
	run("seal", "2.0.0")
	replaceIn(t, booking, "#6 open      text?", "#6 open      int32?")
	run("manual", "--since", "latest")
	run("manual", "--single", "line.html", "--since", "latest")
	changes, err := os.ReadFile(filepath.Join(dir, "manual", "changes.html"))
	require.NoError(t, err)
	assert.Contains(t, string(changes), `<section class="change">`, "there is a break to read about")

	var text strings.Builder
	text.WriteString("/// Many names.\nmodule skerry.many\n")
	for i := range 1000 {
		fmt.Fprintf(&text, "\n/// The lighthouse %d.\nmessage M%d {\n", i, i)
		for n := range 9 {
			fmt.Fprintf(&text, "  #%d field_%d_%d text?\n", n+1, i, n)
		}
		text.WriteString("}\n")
	}
	large, runLarge := projectOf(t, false, map[string]string{"many.faithful": text.String()})
	runLarge("manual")
	assert.Equal(t, manualRead, toolchain.Run(t, ".", "node", filepath.Join(programs, "browser", "manual.js"),
		filepath.Join(dir, "manual"), filepath.Join(dir, "line.html"), filepath.Join(large, "manual")))
}

const kindsFilled = `made: true
missing: the field is required
to begin with: {"open": false,"small": 0,"large": 0,"huge": 0,"half": 0,"ratio": 0,"exact": 0,"name": "","note": "","content": "","key": "","at": "","day": "","wait": "","price": "","extra": null,"lane": "left","load": {"sheep": 0},"list": [],"texts": {},"numbers": {},"lanes": {},"change": {},"word": ""}
typed: {"open": true,"small": -128,"large": -9007199254740993,"huge": 18446744073709551615,"half": "NaN","ratio": 0.1,"exact": 1e400,"name": "ü\"\\","note": "two\nlines","content": "AAEC","key": "6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f","at": "2026-07-15T09:30:00Z","day": "2026-02-28","wait": "PT90S","price": "12.50","extra": {"a": [1,2.50]},"lane": "Right","load": {"crate": {"label": "glass"}},"list": [7,7],"texts": {"a/b~c": "x"},"numbers": {"-5": "n"},"lanes": {"Right": false},"crate": {"label": "in"},"change": {"label": "new","note": null},"seats": 4,"word": "hidden"}
what is wrong: too large for a float64
a secret is hidden: password
out of its type: expected int8, found 200
nothing is wrong: true, 
picked: true, 2026-12-24T18:00:01Z, 2026-12-24, __4
removed: "list": [8]
in the form: 3, 7, must be one of left, Right
kept: true, true
not JSON: expected a JSON value, found the end, 4
twice: "small" comes twice
no object: expected an object
no bool: "yes", expected bool, found a string
examples: {"name": "mast"}, {"name": "rudder"}
`

// TestManualsInputs fills in a form with a field of every type, from disk.
func TestManualsInputs(t *testing.T) {
	toolchain.Require(t, "typescript")
	toolchain.Browser(t)
	programs := typescriptPrograms(t)
	text, err := os.ReadFile(filepath.Join("testdata", "kinds.faithful"))
	require.NoError(t, err)
	dir, run := projectOf(t, false, map[string]string{"kinds.faithful": string(text)})
	run("manual")
	page := filepath.Join(dir, "manual", "services", "skerry.kinds.Keeper.html")
	assert.Equal(t, kindsFilled, toolchain.Run(t, ".", "node", filepath.Join(programs, "browser", "kinds.js"), page))
}

const tried = `at: /-/manual/, vectors
copies lead here: true
views: false, true, false
found: /-/manual/services/skerry.matrix.Pier.html#berth
refused as typed: must have 1 to 200000 characters, not 0, The definitions refuse this: 1 violation.
not sent: Nothing was sent: The definitions refuse this: 1 violation., 0
sent all the same: 400 Bad Request, invalid request (invalid-request), /text must have 1 to 200000 characters, not 0
mended: {"text": "ü","at": "2026-07-15T09:30:05Z","names": {"a": 9007199254740993}}, 200 OK
answered: requesttext"ü"amount"1.50"at"2026-07-15T09:30:05Z"namesa"9007199254740993"
path and query: 200 OK, code"a/b ü"side"South"ratio0.1opentruename"n"
headers and a cookie: 200 OK, COOKIE
copies: COPIES
upload: 200 OK, "n",100000,"image/png",100000,0"a","a"
download: 200 OK, Save it: 70000 bytes of image/x-made, name"n"tag"\"n\""
answer stream: 200 OK, 20 elements, 20
that fails: 200 OK, 2 elements, 2, It failed with skerry.matrix.PierFull, as the call declares:
stopped: 200 OK, some elements, Stopped.
request stream: 200 OK, total9
both ways: BOTH, 2 elements, n1,n2
without credentials: No answer, skerry.matrix.Pier.guarded needs crew + desk | machine; the credentials that the client was given: none
with them: 200 OK, "Ada"
in the next form: 200 OK
a header and a WebSocket: SOCKET
a redirect: REDIRECT
a declared error: 409 Conflict, It failed with skerry.matrix.PierFull, as the call declares:, berths7
not implemented: 501 Not Implemented, not implemented (not-implemented)
a server that hangs: No answer, Stopped.
`

// TestManualTried tries calls of every kind from the pages of a manual: from those that servers of each language answer
// with, and through faithful manual --serve.
func TestManualTried(t *testing.T) {
	toolchain.Require(t, "typescript")
	toolchain.Browser(t)
	all := withJava(t)
	program := filepath.Join(typescriptPrograms(t), "browser", "trying.js")
	own := strings.NewReplacer("COOKIE", `name"kept"tag"\"kept.json\""cache"max-age=60"count4how"so"`,
		"COPIES", "As faithful call,As curl", "BOTH", "Ended",
		"SOCKET", "Its credential travels in a header, which browsers can't send with a WebSocket. Take it along instead:, "+
			"As faithful call", "REDIRECT", "It is answered with a redirect, which browsers hide from scripts. Take it along "+
			"instead:, As faithful call").Replace(tried)
	relayed := strings.NewReplacer("COOKIE",
		`tag"\"kept.json\""cache"max-age=60"count4visit"hello"name"kept"how"so"`,
		"COPIES", "As faithful call,As curl,In Go,In TypeScript,In Python,In Java", "BOTH", "101 Switching Protocols",
		"SOCKET", "101 Switching Protocols, 1 element", "REDIRECT", `303 See Other, at"/elsewhere"note"moved, to: ü"`).
		Replace(tried)
	for i, s := range all {
		t.Run(s.language, func(t *testing.T) {
			if lacks := s.lacks["both ways"]; lacks != "" {
				t.Skip("skipped: " + lacks)
			}
			address := start(t, s)
			assert.Equal(t, own, toolchain.Run(t, ".", "node", program, address))
			if i > 0 {
				return // what passes requests on is one program, whoever answers them
			}
			serving := toolchain.Faithful(t, ".", "manual", "--serve=127.0.0.1:0", "--to", address)
			base := strings.TrimSuffix(listening(t, serving, "Open it with a browser: "), "/-/manual/")
			assert.Equal(t, relayed, toolchain.Run(t, ".", "node", program, base), "through faithful manual --serve")
		})
	}
}

const served = `typing goes on: ada@example.org.nfi, true
the save is shown: 1, 1
its bounds hold: must have at most 3 characters, not 4
a broken save: The definitions are wrong. What is below is their last good state.definitions/booking.faithful:118:3: error: e, 1
mended: 0, 0, no
a save is shown in under 300 ms: true
another request: 1, 0, true
and back: EID-0715
another type: 200 OK, The definitions refuse this answer:, /id expected uuid, found the number 7
no JSON: 200 OK, A server of these definitions never gives this answer: payload: expected a JSON value, found '<' (byte 0), 
no problem details: 500 Internal Server Error, Internal Server Error (about:blank)
a redirect that nobody declared: 302 Found, A server of these definitions never gives this answer: it is not problem details
nothing: No answer, 1
a server that hangs: No answer, Stopped.
a stream for ever: 200 OK, many elements, 200
somebody else's page: read refused, send refused, send blindly unseen, send with a guess refused, a frame shows nothing, 0 calls were made
a name for this address: 421
no origin: 403
another origin with the secret: 403
ours: 400, 0
it ends: 0
the page says so: faithful manual --serve has ended, or can't be reached. This
`

// TestManualServed reads and tries a manual that is served while its definitions are saved, its server lies, and
// somebody else's page tries to use it.
func TestManualServed(t *testing.T) {
	toolchain.Require(t, "typescript")
	toolchain.Browser(t)
	programs := typescriptPrograms(t)
	dir, _ := projectOf(t, true, nil)
	assert.Equal(t, served, toolchain.Run(t, ".", "node", filepath.Join(programs, "browser", "serving.js"),
		toolchain.Program(t), dir))
}
