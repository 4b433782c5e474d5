package ferry

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/examples/ferry/go/gen/faithful/about"
	"faithfulcourier/examples/ferry/go/gen/faithful/web"
	"faithfulcourier/examples/ferry/go/gen/faithful/wire"
	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/examples/ferry/go/gen/skerry/common"
	"faithfulcourier/examples/ferry/go/gen/skerry/fleet"
	"faithfulcourier/examples/ferry/go/gen/skerry/quay"
	"faithfulcourier/internal/toolchain"
)

// side is a server and a client in one language.
type side struct {
	language string
	server   []string
	client   func(address, encoding string) []string
}

func sides(t *testing.T) []side {
	dir := t.TempDir()
	toolchain.Run(t, ".", "go", "build", "-o", dir+"/", "./go/server", "./go/client", "../../cmd/faithful")
	list := []side{{"go", []string{dir + "/server"}, func(address, encoding string) []string {
		return []string{dir + "/client", "-server", address, fmt.Sprintf("-json=%t", encoding == "json")}
	}}}
	t.Run("typescript is there", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		list = append(list, side{language: "typescript"})
	})
	if len(list) > 1 {
		out := toolchain.BuildTypeScript(t, "typescript", t.TempDir())
		list[1].server = []string{"node", filepath.Join(out, "server.js")}
		list[1].client = func(address, encoding string) []string {
			return []string{"node", filepath.Join(out, "client.js"), address, encoding}
		}
	}
	t.Run("python is there", func(t *testing.T) {
		python := toolchain.Python(t)
		list = append(list, side{"python", []string{python, "python/server.py"}, func(address, encoding string) []string {
			return []string{python, "python/client.py", address, encoding}
		}})
	})
	classes := filepath.Join(t.TempDir(), "classes")
	t.Run("java is there", func(t *testing.T) {
		path := java(t, "java", classes)
		list = append(list, side{"java", []string{"java", "-cp", path, "ferry.Server"}, func(address,
			encoding string) []string {
			return []string{"java", "-cp", path, "ferry.Client", address, encoding}
		}})
	})
	// No server at all, but for the answer sheet of this project: it has no client.
	return append(list, side{language: "mock", server: []string{dir + "/faithful", "mock", "--at", "127.0.0.1:0"}})
}

// java compiles the project in a folder into another, and returns the class path of its programs.
func java(t *testing.T, folder, classes string) string {
	libraries := toolchain.JavaLibraries(t)
	toolchain.CompileJava(t, libraries, classes, filepath.Join(folder, "src"))
	return classes + string(filepath.ListSeparator) + libraries
}

// start runs a server until the test ends, and returns its address.
func start(t *testing.T, command []string) string {
	ctx, stop := context.WithCancel(context.Background())
	c := exec.CommandContext(ctx, command[0], command[1:]...)
	output, err := c.StdoutPipe()
	require.NoError(t, err)
	var log bytes.Buffer
	c.Stderr = &log
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		stop()
		_ = c.Wait() // it was told to end
		if t.Failed() && log.Len() > 0 {
			t.Logf("the server's log:\n%s", &log)
		}
	})
	read := bufio.NewReader(output)
	line, err := read.ReadString('\n')
	require.NoError(t, err)
	go func() { _, _ = io.Copy(io.Discard, read) }() // the log of a mock
	return strings.TrimSpace(line[strings.LastIndex(line, " ")+1:])
}

const story = `sails      EID-0715 at 07:15, Eiderwick to Skerry
booked     2 passengers, deck car, SKD 25.00
found      the booking again: true, held
full       3 seats are left
not found  vessel 00000000-0000-0000-0000-000000000000
problem    501 not implemented: skerry.booking.Bookings.cancel is not implemented here
stale      the server knows a later position
follows    at 07:15
follows    at 07:16
follows    at 07:17
missing    crew | door
boarded    4, refused 1 on the wrong ferry
talks      Understood: Lines off at 07:15.
posted     Fog. for EID-0715
`

// TestEveryClientCallsEveryServer lets the clients of each language call the
// servers of each, over loopback, in both encodings.
func TestEveryClientCallsEveryServer(t *testing.T) {
	all := sides(t)
	for _, server := range all {
		for _, client := range all {
			if client.client == nil {
				continue
			}
			for _, encoding := range []string{"cbor", "json"} {
				t.Run(fmt.Sprintf("%s calls %s in %s", client.language, server.language, encoding), func(t *testing.T) {
					command := client.client(start(t, server.server), encoding)
					output, err := exec.Command(command[0], command[1:]...).CombinedOutput()
					require.NoError(t, err, "%s", output)
					assert.Equal(t, story, string(output))
				})
			}
		}
	}
}

// exchange is a plain HTTP request, and what it must be answered with.
type exchange struct {
	method, path, headers, body string
	status                      int
	answerHeaders, answer       string // a part of it
}

// handled are exchanges that only the handlers of the ferry can answer so: a mock
// knows no seats.
var handled = []exchange{
	{"POST", "/skerry/booking/bookings/book", "Content-Type: application/json; charset=utf-8",
		`{"sailing":"XXX-0000","passengers":[{"name":"a"}]}`, 404, "Vary: Accept, Accept-Encoding",
		`{"type":"/-/errors/skerry.common.NotFound","title":"Nothing is known under the name that was asked for.","status":404,"error":{"what":"sailing XXX-0000"}}`},
	{"POST", "/skerry/booking/bookings/book", "Content-Type: application/json",
		`{"sailing":"EID-0715","passengers":[{"name":"a"},{"name":"b"},{"name":"c"},{"name":"d"},{"name":"e"},{"name":"f"}]}`, 409, "", `"error":{"seats_left":5}`},
}

// exchanges are plain HTTP requests, as any tool would send them, with what
// every server must answer.
var exchanges = []exchange{
	{"GET", "/-/state", "", "", 200, "Content-Type: application/json", `{"serving":true}`},
	{"GET", "/-/about", "", "", 200, "", `{"call":"skerry.booking.Bookings.book","method":"POST","path":"/skerry/booking/bookings/book"}`},
	{"GET", "/-/about", "", "", 200, "", `"name":"skerry-line"`},
	{"GET", "/-/definitions", "", "", 200, "", `"name":"skerry.booking","text":"/// Sailings and bookings of a small ferry line.\nmodule skerry.booking`},
	{"GET", "/-/errors/skerry.booking.SailingFull", "", "", 200, "",
		`"status":409,"documentation":"There are not as many seats as were asked for."`},
	{"GET", "/-/errors/unknown-call", "", "", 200, "", `"status":404`},
	{"GET", "/-/errors/nothing", "", "", 404, "Content-Type: application/problem+json", `"type":"/-/errors/unknown-call"`},
	{"POST", "/-/state", "", "", 405, "Allow: GET, HEAD", `wrong-method`},
	{"GET", "/nowhere", "", "", 404, "Content-Type: application/problem+json",
		`{"type":"/-/errors/unknown-call","title":"unknown call","status":404,"detail":"no call has the path /nowhere"}`},
	{"POST", "/skerry/booking/bookings/../bookings/book", "", "", 404, "", `unknown-call`},
	{"GET", "/skerry/booking/bookings/book", "", "", 405, "Allow: OPTIONS, POST", `"type":"/-/errors/wrong-method"`},
	{"POST", "/skerry/booking/bookings/book", "Accept: text/html", "", 406, "", `"type":"/-/errors/not-acceptable"`},
	{"POST", "/skerry/booking/bookings/book", "Content-Type: text/plain", "x", 415, "",
		`"type":"/-/errors/unsupported-form"`},
	{"POST", "/skerry/booking/bookings/book", "", "{}", 415, "", `"type":"/-/errors/unsupported-form"`},
	{"POST", "/skerry/booking/bookings/book", "Content-Type: application/json\nContent-Encoding: br", "{}", 415, "",
		`"type":"/-/errors/unsupported-form"`},
	{"POST", "/skerry/booking/bookings/book", "Content-Type: application/json", `{"sailing":"X","passengers":[{}]}`, 400,
		"", `"errors":[{"pointer":"/passengers/0/name","detail":"the field is required"}]`},
	{"POST", "/skerry/booking/bookings/book", "Content-Type: application/json",
		`{"sailing":"EID-0715","passengers":[{"name":"a"}],"deck":"moon"}`, 400, "",
		`"detail":"1 violation","errors":[{"pointer":"/deck","detail":"must be one of unassigned, open, car, saloon"}]`},
	{"POST", "/skerry/booking/bookings/book", "Content-Type: application/json",
		`{"sailing":"X","passengers":[],"vehicle":{"plate":"é","metres":0.25}}`, 400, "",
		`"detail":"4 violations","errors":[{"pointer":"/sailing","detail":"must match ^[A-Z]{3}-[0-9]{4}$"},{"pointer":"/passengers","detail":"must have 1 to 12 entries, not 0"},{"pointer":"/vehicle/plate","detail":"must have 2 to 12 characters, not 1"},{"pointer":"/vehicle/metres","detail":"must be 1 to 25, not 0.25"}]`},
	{"POST", "/skerry/booking/bookings/book", "Content-Type: application/json",
		`{"sailing":"X","passengers":[],"deck":7}`, 400, "", `"pointer":"/deck"`},
	{"POST", "/skerry/booking/bookings/book", "Content-Type: application/json", `{`, 400, "",
		`"type":"/-/errors/invalid-request"`},
	{"POST", "/skerry/booking/bookings/sailings", "", "", 200, "Content-Type: application/json",
		`{"sailings":[{"code":"EID-0715"`},
	{"POST", "/skerry/booking/bookings/sailings", "Content-Type: application/cbor", "\xa0", 200,
		"Content-Type: application/cbor", "EID-0715"},
	{"POST", "/skerry/booking/bookings/sailings",
		"Content-Type: application/cbor\nAccept: application/json;q=0.9, application/cbor;q=0.1", "\xa0", 200,
		"Content-Type: application/json", `"leaves_at":"2026-07-15T07:15:00Z"`},
	{"POST", "/skerry/booking/bookings/sailings", "Accept: */*", "", 200, "Content-Type: application/json", `EID-0715`},
	{"POST", "/skerry/booking/bookings/cancel", "Content-Type: application/json",
		`{"id":"00000000-0000-0000-0000-000000000000"}`, 501, "", `"type":"/-/errors/not-implemented"`},
	{"POST", "/skerry/fleet/fleet/report", "Content-Type: application/json",
		`{"vessel":"00000000-0000-0000-0000-000000000000","spot":{"latitude":1,"longitude":2},"seen_at":"2026-07-15T07:15:00Z"}`, 204, "", ``},
}

func TestServersSpeakPlainHTTP(t *testing.T) {
	for _, s := range sides(t) {
		address := start(t, s.server)
		list := exchanges
		if s.client != nil {
			list = append(slices.Clone(exchanges), handled...)
		}
		for _, x := range list {
			t.Run(fmt.Sprintf("%s %s %s %.30q", s.language, x.method, x.path, x.body), func(t *testing.T) {
				r, err := http.NewRequest(x.method, address, strings.NewReader(x.body))
				require.NoError(t, err)
				r.URL.Opaque = x.path
				if x.body == "" {
					r.Body = http.NoBody
				}
				for line := range strings.SplitSeq(x.headers, "\n") {
					if name, value, ok := strings.Cut(line, ": "); ok {
						r.Header.Set(name, value)
					}
				}
				response, err := http.DefaultClient.Do(r)
				require.NoError(t, err)
				defer response.Body.Close()
				body, err := io.ReadAll(response.Body)
				require.NoError(t, err)
				assert.Equal(t, x.status, response.StatusCode, "%s", body)
				assert.Equal(t, about.Digest, response.Header.Get("Faithful-Definitions"))
				if name, value, ok := strings.Cut(x.answerHeaders, ": "); ok {
					assert.Equal(t, value, response.Header.Get(name))
				}
				assert.Contains(t, string(body), x.answer)
				if response.Header.Get("Content-Type") == "application/json" || x.status >= 400 {
					assert.True(t, json.Valid(body), "%s", body)
				}
			})
		}
		t.Run(s.language+" refuses a body over the limit, and says so", func(t *testing.T) {
			body := io.MultiReader(strings.NewReader(`{"sailing":"`), io.LimitReader(endless{}, 8<<20))
			response, err := http.Post(address+"/skerry/booking/bookings/book", "application/json", body)
			require.NoError(t, err)
			defer response.Body.Close()
			text, err := io.ReadAll(response.Body)
			require.NoError(t, err)
			assert.Equal(t, 413, response.StatusCode)
			assert.Contains(t, string(text), "/-/errors/too-large")
		})
		t.Run(s.language+" is understood by a general CBOR library", func(t *testing.T) {
			request, err := cbor.Marshal(map[int]any{1: "EID-0715", 2: []any{map[int]any{1: "Ada Quill"}}})
			require.NoError(t, err)
			response, err := http.Post(address+"/skerry/booking/bookings/book", "application/cbor", bytes.NewReader(request))
			require.NoError(t, err)
			defer response.Body.Close()
			require.Equal(t, 200, response.StatusCode)
			var answer map[int]any
			require.NoError(t, cbor.NewDecoder(response.Body).Decode(&answer))
			assert.Equal(t, "EID-0715", answer[2])
			tag, ok := answer[6].(cbor.Tag) // the library knows tag 1, not the newer 1001
			_, isTime := answer[6].(time.Time)
			assert.True(t, isTime || ok && tag.Number == 1001, "an instant is a standard tag: %v", answer[6])
		})
	}
}

type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'x'
	}
	return len(p), nil
}

// TestDemoKnowsTheLibrary holds what the demo writes into go.mod and go.sum
// against what this repository has.
func TestDemoKnowsTheLibrary(t *testing.T) {
	for name, wanted := range map[string]string{"go.mod": webSocket, "go.sum": webSocketSums} {
		text, err := os.ReadFile(filepath.Join(toolchain.Root(), name))
		require.NoError(t, err)
		assert.Contains(t, string(text), wanted)
	}
}

// TestUnlistedFieldsAreKept passes a message on through an older program.
func TestUnlistedFieldsAreKept(t *testing.T) {
	newer, err := cbor.Marshal(map[int]any{1: "EID-0715", 2: []byte{1}, 9: []any{"later", 1.5}, 200: "x"})
	require.NoError(t, err)
	var v fleet.VesselRequest
	require.Error(t, v.UnmarshalBinary(newer), "#1 is a uuid there")
	newer, err = cbor.Marshal(map[int]any{1: "SK 1204", 2: 4.5, 9: []any{"later"}})
	require.NoError(t, err)
	var vehicle booking.Vehicle
	require.NoError(t, vehicle.UnmarshalBinary(newer))
	text, err := json.Marshal(vehicle)
	require.NoError(t, err)
	assert.JSONEq(t, `{"plate":"SK 1204","metres":4.5,"#9":"gWVsYXRlcg"}`, string(text))
	var again booking.Vehicle
	require.NoError(t, json.Unmarshal(text, &again))
	binary, err := again.MarshalBinary()
	require.NoError(t, err)
	var read map[int]any
	require.NoError(t, cbor.Unmarshal(binary, &read))
	assert.Equal(t, map[int]any{1: "SK 1204", 2: 4.5, 9: []any{"later"}}, read)
}

// someRequest is a lawful request whose email is a word to the handler.
func someRequest(word string) *booking.BookRequest {
	return &booking.BookRequest{Sailing: "EID-0715", Passengers: []booking.Passenger{{Name: "Ada"}}, Email: &word}
}

// TestFailuresAreToldApart holds the four kinds of failure of a Go client.
func TestFailuresAreToldApart(t *testing.T) {
	var logged []string
	calls := booking.BookingsCalls{
		Book: func(_ context.Context, request *booking.BookRequest) (*booking.Booking, error) {
			switch *request.Email {
			case "declared":
				return nil, fmt.Errorf("wrapped: %w", &booking.SailingFull{SeatsLeft: 2})
			case "undeclared":
				return nil, &fleet.StalePosition{}
			case "secret":
				return nil, errors.New("the password is wrong")
			case "panic":
				panic("the password is wrong")
			case "invalid":
				return &booking.Booking{Sailing: "\xff"}, nil
			}
			return nil, nil
		},
		Booking: func(ctx context.Context, _ *booking.BookingRequest) (*booking.Booking, error) {
			<-ctx.Done()
			return nil, ctx.Err()
		},
	}
	server := httptest.NewServer(booking.ServeBookings(calls,
		web.WithOnError(func(_ context.Context, call string, err error) { logged = append(logged, err.Error()) }),
		web.WithHandlerTimeout(50*time.Millisecond), web.WithBase("/v1/")))
	defer server.Close()
	client := booking.NewBookingsClient(server.URL + "/v1")
	ctx := context.Background()
	var full *booking.SailingFull
	_, err := client.Book(ctx, someRequest("declared"))
	require.ErrorAs(t, err, &full)
	assert.EqualValues(t, 2, full.SeatsLeft)
	for _, name := range []string{"undeclared", "secret", "panic", "invalid", "nothing"} {
		_, err = client.Book(ctx, someRequest(name))
		var problem *web.Problem
		require.ErrorAs(t, err, &problem, name)
		assert.Equal(t, "internal", problem.Name())
		assert.NotContains(t, err.Error(), "password")
	}
	require.Len(t, logged, 5, "the hook is told all of it: %q", logged)
	assert.Contains(t, logged[0], "skerry.booking.Bookings.book failed with skerry.fleet.StalePosition, which it does "+
		"not declare; add it to fails: ")
	_, err = client.Booking(ctx, &booking.BookingRequest{})
	var problem *web.Problem
	require.ErrorAs(t, err, &problem)
	assert.Equal(t, "too-slow", problem.Name())

	_, err = client.Book(ctx, &booking.BookRequest{Deck: wire.Pointer(fleet.Deck("?moon"))})
	var invalid *wire.InvalidRequest
	require.ErrorAs(t, err, &invalid, "a client checks what it sends")

	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	listener.Close()
	var unreachable *web.Unreachable
	_, err = booking.NewBookingsClient("http://"+listener.Addr().String()).Book(ctx, someRequest("declared"))
	require.ErrorAs(t, err, &unreachable)
	short, cancel := context.WithTimeout(ctx, time.Millisecond)
	defer cancel()
	_, err = client.Booking(short, &booking.BookingRequest{})
	require.ErrorAs(t, err, &unreachable)
	require.ErrorIs(t, err, context.DeadlineExceeded)

	for name, answer := range map[string]func(w http.ResponseWriter){
		"another type": func(w http.ResponseWriter) { fmt.Fprint(w, "<html>") },
		"damaged": func(w http.ResponseWriter) {
			w.Header().Set("Content-Type",
				"application/cbor")
			w.Write([]byte{0xa1})
		},
		"a redirect": func(w http.ResponseWriter) { w.Header().Set("Location", "/elsewhere"); w.WriteHeader(302) },
		"a 204":      func(w http.ResponseWriter) { w.WriteHeader(204) },
	} {
		odd := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { answer(w) }))
		_, err = booking.NewBookingsClient(odd.URL).Book(ctx, someRequest("declared"))
		odd.Close()
		var bad *web.BadAnswer
		require.ErrorAs(t, err, &bad, name)
	}
	var told string
	client = booking.NewBookingsClient(server.URL+"/v1", web.WithDigestHook(func(theirs string) { told = theirs }))
	_, _ = client.Book(ctx, someRequest("declared")) // its error is of no interest
	assert.Empty(t, told, "the same definitions on both sides")
	var notFound *common.NotFound
	assert.False(t, errors.As(err, &notFound))
}

// TestStructsOfOnesOwn holds enums and unions to their JSON on the wire where encoding/json
// meets them in a user's struct.
func TestStructsOfOnesOwn(t *testing.T) {
	type mine struct {
		Deck    fleet.Deck
		Decks   []fleet.Deck
		Passage quay.Passage
	}
	dogs := int8(2)
	text, err := json.Marshal(mine{fleet.DeckCar, []fleet.Deck{"#7", "?roof"},
		quay.PassageFoot{Value: quay.FootPassage{Dogs: &dogs}}})
	require.NoError(t, err)
	assert.JSONEq(t, `{"Deck":"car","Decks":[7,"roof"],"Passage":{"foot":{"dogs":2,"bicycles":0}}}`, string(text))
	var read struct {
		Deck    fleet.Deck
		Decks   []fleet.Deck
		Passage json.RawMessage
	}
	require.NoError(t, json.Unmarshal(text, &read))
	assert.Equal(t, []fleet.Deck{"#7", "?roof"}, read.Decks)
	passage, err := quay.PassageTools{}.FromJSON(read.Passage)
	require.NoError(t, err)
	assert.Equal(t, &dogs, passage.(quay.PassageFoot).Value.Dogs)
	require.NoError(t, json.Unmarshal([]byte(`{"Deck":2}`), &read))
	assert.Equal(t, fleet.DeckCar, read.Deck)
	require.Error(t, json.Unmarshal([]byte(`{"Deck":{}}`), &read))
	require.Error(t, json.Unmarshal([]byte(`{"Decks":[70000]}`), &read))
	_, err = quay.PassageTools{}.FromJSON([]byte(`{}`))
	require.Error(t, err)
}

// TestAlternativesByPointer takes a pointer where a union wants a value.
func TestAlternativesByPointer(t *testing.T) {
	message := func(p quay.Passage) *quay.BoardingScan { return &quay.BoardingScan{Sailing: "EID-0715", Passage: p} }
	foot := quay.PassageFoot{Value: quay.FootPassage{}}
	for _, write := range []func(*quay.BoardingScan) ([]byte, error){
		func(m *quay.BoardingScan) ([]byte, error) { return m.MarshalJSON() },
		func(m *quay.BoardingScan) ([]byte, error) { return m.MarshalBinary() },
		func(m *quay.BoardingScan) ([]byte, error) { return []byte(fmt.Sprint(m.Validate())), nil },
	} {
		want, err := write(message(foot))
		require.NoError(t, err)
		got, err := write(message(&foot))
		require.NoError(t, err)
		assert.Equal(t, string(want), string(got))
	}
	for _, nothing := range []quay.Passage{nil, (*quay.PassageFoot)(nil)} {
		_, err := message(nothing).MarshalJSON()
		require.ErrorContains(t, err, "Passage is not set")
	}
}

// TestErrorsSayTheirFields looks at what an error says of itself, and at what clients say of
// a base that is none.
func TestErrorsSayTheirFields(t *testing.T) {
	assert.Equal(t, `skerry.booking.SailingFull: There are not as many seats as were asked for. {"seats_left":3}`,
		(&booking.SailingFull{SeatsLeft: 3}).Error())
	for base, example := range map[string]string{"127.0.0.1:1": "127.0.0.1:1", "skerry.example": "skerry.example",
		"": "127.0.0.1:8080", "ftp://x": "127.0.0.1:8080"} {
		_, err := booking.NewBookingsClient(base).Booking(context.Background(), &booking.BookingRequest{})
		require.ErrorContains(t, err, fmt.Sprintf("%q is not the URL of a server; write, for example: http://%s", base,
			example))
	}
}

// TestScaffoldsRun makes starting points of a server in each language, of one service and
// then of another next to it, runs the tests that come with them, and stops the servers.
func TestScaffoldsRun(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out scaffolds of whole services")
	}
	dir := t.TempDir()
	project, err := Files()
	require.NoError(t, err)
	for path, text := range project {
		full := filepath.Join(dir, filepath.FromSlash(path))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o777))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o666))
	}
	toolchain.Run(t, dir, toolchain.Program(t), "generate")
	// scaffold writes two services, and adds to the program what is said to be missing there.
	scaffold := func(t *testing.T, language, into, program string) {
		for _, service := range []string{"Bookings", "Quay"} {
			arguments := []string{"scaffold", language, service, "--into", into}
			said := toolchain.Run(t, dir, toolchain.Program(t), arguments...)
			assert.Contains(t, said, "files written, ")
			assert.Contains(t, toolchain.Run(t, dir, toolchain.Program(t), append(arguments, "--dry")...), "0 files to write")
			if service == "Bookings" {
				assert.NotContains(t, said, "Add to")
				continue
			}
			assert.Contains(t, said, "left alone "+into+"/"+program)
			_, missing, found := strings.Cut(said, "Add to "+into+"/"+program+"\n")
			require.True(t, found, said)
			missing, _, _ = strings.Cut(missing, "\n\n")
			path := filepath.Join(dir, filepath.FromSlash(into), program)
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			changed := string(text)
			for line := range strings.Lines(missing + "\n") {
				line, comment, entry := strings.Cut(strings.TrimSpace(line), " // among the arguments of ")
				if !entry {
					line, comment, entry = strings.Cut(line, "  # among the arguments of ")
				}
				switch {
				case language == "go" && !entry:
					changed = strings.Replace(changed, "import (\n", line+"\nimport (\n", 1)
				case strings.HasPrefix(line, "import ") || strings.HasPrefix(line, "from "):
					changed = strings.Replace(changed, "\nimport ", "\n"+line+"\nimport ", 1)
				case entry:
					at := regexp.MustCompile(`(?m)^.*(return|=) ` + regexp.QuoteMeta(comment) + `\(\n[ \t]*`)
					changed = at.ReplaceAllString(changed, "${0}"+line+"\n        ")
				default:
					changed = strings.Replace(changed, "const port", line+"\nconst port", 1)
				}
			}
			require.NotEqual(t, string(text), changed)
			require.NoError(t, os.WriteFile(path, []byte(changed), 0o666))
		}
	}
	t.Run("go", func(t *testing.T) {
		scaffold(t, "go", "go/made", "main.go")
		toolchain.Run(t, dir, "go", "vet", "./go/made/...")
		toolchain.Run(t, dir, "go", "test", "./go/made/...")
		toolchain.Run(t, dir, "go", "build", "-o", "made", "./go/made")
		assert.Contains(t, stops(t, dir, filepath.Join(dir, "made"), "-listen", "ADDRESS"), "skerry.quay.Quay.post")
	})
	t.Run("typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		scaffold(t, "typescript", "typescript/src/made", "main.ts")
		out := toolchain.BuildTypeScript(t, filepath.Join(dir, "typescript"), t.TempDir())
		tests, err := filepath.Glob(filepath.Join(out, "made", "*", "*.test.js"))
		require.NoError(t, err)
		assert.Regexp(t, `# pass 12`, toolchain.Run(t, out, "node", append([]string{"--test"}, tests...)...))
		assert.Contains(t, stops(t, out, "node", filepath.Join("made", "main.js"), "PORT"), "skerry.quay.Quay.post")
	})
	t.Run("python", func(t *testing.T) {
		python := toolchain.Python(t)
		scaffold(t, "python", "python/made", "main.py")
		in := filepath.Join(dir, "python")
		c := exec.Command(python, "-m", "pytest", "-q", "-p", "no:cacheprovider", "made")
		c.Dir = in
		output, err := c.CombinedOutput()
		require.NoError(t, err, "%s", output)
		assert.Contains(t, string(output), "12 passed")
		toolchain.Run(t, in, python, "-m", "mypy", "made")
		assert.Contains(t, stops(t, in, python, "-m", "made.main", "PORT"), "skerry.quay.Quay.post")
	})
	t.Run("java", func(t *testing.T) {
		toolchain.Require(t, "java")
		for _, way := range [][]string{nil, {"--framework", "spring"}} {
			into := "java-made" + strings.Join(way, "")
			arguments := append([]string{"scaffold", "java", "Bookings", "--into", into}, way...)
			said := toolchain.Run(t, dir, toolchain.Program(t), arguments...)
			written := 9
			if way != nil {
				written++ // settings of Spring's
			}
			assert.Contains(t, said, fmt.Sprintf("%d files written, 0 there already", written))
			assert.Contains(t, toolchain.Run(t, dir, toolchain.Program(t), append(arguments, "--dry")...), "0 files to write")
			program := toolchain.Program(t)
			maven := func(goal string) (string, error) {
				c := exec.Command("mvn", "-B", "-f", into, goal)
				c.Dir = dir
				c.Env = append(os.Environ(), "FAITHFUL="+program)
				output, err := c.CombinedOutput()
				return string(output), err
			}
			// Nothing is written yet: each test says so.
			output, err := maven("test")
			require.Error(t, err)
			assert.Contains(t, output, "Tests run: 4, Failures: 0, Errors: 4")
			for _, call := range []string{"book", "booking", "cancel", "sailings"} {
				assert.Contains(t, output, "skerry.booking.Bookings."+call+" is not implemented here")
			}
			service := filepath.Join(dir, into, "src/main/java/ferry/server/bookings/BookingsService.java")
			text, err := os.ReadFile(service)
			require.NoError(t, err)
			end := strings.LastIndex(string(text), "}")
			require.NoError(t, os.WriteFile(service, []byte(string(text[:end])+implementedBookings+"}\n"), 0o666))
			output, err = maven("package")
			require.NoError(t, err, "%s", output)
			assert.Contains(t, output, "Tests run: 4, Failures: 0, Errors: 0")
			if program = "nowhere/faithful"; way == nil { // a machine that only builds
				output, err = maven("generate-sources")
				require.NoError(t, err, "%s", output)
				assert.Contains(t, output, "are compiled as they are, because nowhere/faithful can't be started")
			}
			address := "ADDRESS"
			if way != nil {
				address = "--server.port=PORT"
			}
			stops(t, dir, "java", "-jar", filepath.Join(into, "target", "server.jar"), address)
		}
	})
}

// implementedBookings are the calls of a service, as somebody may write them.
const implementedBookings = `
  private final ferry.gen.skerry.booking.Booking made =
      ferry.gen.skerry.booking.Booking.builder()
          .id(new java.util.UUID(1, 2))
          .sailing("EID-0715")
          .passengers(java.util.List.of(ferry.gen.skerry.booking.Passenger.builder().name("Ada Quill").build()))
          .fare(ferry.gen.skerry.common.Money.builder().hundredths(1250).build())
          .madeAt(java.time.Instant.EPOCH)
          .extras(java.util.Map.of())
          .build();

  @Override
  public ferry.gen.skerry.booking.Booking book(
      ferry.gen.skerry.booking.BookRequest request, ferry.gen.faithful.web.Context context) {
    return made;
  }

  @Override
  public ferry.gen.skerry.booking.Booking booking(
      ferry.gen.skerry.booking.BookingRequest request, ferry.gen.faithful.web.Context context) {
    return made;
  }

  @Override
  public ferry.gen.skerry.booking.Booking cancel(
      ferry.gen.skerry.booking.BookingRequest request, ferry.gen.faithful.web.Context context) {
    return made;
  }

  @Override
  public ferry.gen.skerry.booking.SailingsAnswer sailings(
      ferry.gen.skerry.booking.SailingsRequest request, ferry.gen.faithful.web.Context context) {
    return ferry.gen.skerry.booking.SailingsAnswer.builder().sailings(java.util.List.of()).build();
  }
`

// stops starts a server, which is told its ADDRESS or its PORT, sees it end well when it is terminated, and returns
// what it said of itself.
func stops(t *testing.T, dir string, program string, arguments ...string) (about string) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := listener.Addr().String()
	listener.Close()
	fill := strings.NewReplacer("ADDRESS", address, "PORT", address[strings.LastIndexByte(address, ':')+1:])
	for i, argument := range arguments {
		arguments[i] = fill.Replace(argument)
	}
	server := exec.Command(program, arguments...)
	server.Dir = dir
	var output bytes.Buffer
	server.Stdout, server.Stderr = &output, &output
	require.NoError(t, server.Start())
	defer server.Process.Kill()
	get := func(path string) string {
		response, err := http.Get("http://" + address + path)
		if err != nil {
			return ""
		}
		defer response.Body.Close()
		text, _ := io.ReadAll(response.Body)
		return string(text)
	}
	require.Eventually(t, func() bool { return get("/-/state") != "" }, 20*time.Second, 20*time.Millisecond)
	about = get("/-/about")
	assert.Contains(t, about, "skerry.booking.Bookings.book")
	require.NoError(t, server.Process.Signal(syscall.SIGTERM))
	ended := make(chan error, 1)
	go func() { ended <- server.Wait() }()
	select {
	case err := <-ended:
		if err != nil {
			// As uvicorn ends, after it shut down, and the JDK.
			assert.Regexp(t, "terminated|exit status 143", err.Error(), "%s", &output)
		}
	case <-time.After(15 * time.Second):
		t.Errorf("the server goes on: %s", &output)
	}
	return about
}
