package conformance

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"maps"
	"math"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/conformance/go/gen/faithful/web"
	"faithfulcourier/conformance/go/gen/skerry/matrix"
	"faithfulcourier/examples/ferry/go/gen/faithful/wire"
	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/examples/ferry/go/gen/skerry/common"
	"faithfulcourier/examples/ferry/go/gen/skerry/fleet"
	"faithfulcourier/internal/toolchain"
)

// plainBooking is what somebody would write for encoding/json or, with
// numbers as keys, for the CBOR library.
type plainBooking struct {
	ID         [16]byte              `json:"id" cbor:"1,keyasint"`
	Sailing    string                `json:"sailing" cbor:"2,keyasint"`
	Passengers []plainPassenger      `json:"passengers" cbor:"3,keyasint"`
	Vehicle    *plainVehicle         `json:"vehicle,omitempty" cbor:"4,keyasint,omitempty"`
	Fare       plainMoney            `json:"fare" cbor:"5,keyasint"`
	MadeAt     time.Time             `json:"made_at" cbor:"6,keyasint"`
	State      string                `json:"state" cbor:"7,keyasint"`
	Deck       string                `json:"deck" cbor:"8,keyasint"`
	Extras     map[string]plainMoney `json:"extras" cbor:"9,keyasint"`
	Email      *string               `json:"email,omitempty" cbor:"10,keyasint,omitempty"`
	Ticket     []byte                `json:"ticket,omitempty" cbor:"11,keyasint,omitempty"`
}

type plainPassenger struct {
	Name      string     `json:"name" cbor:"1,keyasint"`
	Born      *time.Time `json:"born,omitempty" cbor:"2,keyasint,omitempty"`
	NeedsHelp bool       `json:"needs_help" cbor:"3,keyasint"`
}

type plainVehicle struct {
	Plate  string  `json:"plate" cbor:"1,keyasint"`
	Metres float64 `json:"metres" cbor:"2,keyasint"`
}

type plainMoney struct {
	Hundredths int64  `json:"hundredths" cbor:"1,keyasint"`
	Currency   string `json:"currency" cbor:"2,keyasint"`
}

type plainSpot struct {
	Latitude  float64 `json:"latitude" cbor:"1,keyasint"`
	Longitude float64 `json:"longitude" cbor:"2,keyasint"`
}

type plainPosition struct {
	Vessel [16]byte  `json:"vessel" cbor:"1,keyasint"`
	Spot   plainSpot `json:"spot" cbor:"2,keyasint"`
	SeenAt time.Time `json:"seen_at" cbor:"3,keyasint"`
	Knots  *float64  `json:"knots,omitempty" cbor:"4,keyasint,omitempty"`
}

type plainDeckPlan struct {
	Deck  string `json:"deck" cbor:"1,keyasint"`
	Seats uint32 `json:"seats" cbor:"2,keyasint"`
	Lanes uint32 `json:"lanes" cbor:"3,keyasint"`
}

type plainVessel struct {
	ID    [16]byte          `json:"id" cbor:"1,keyasint"`
	Name  string            `json:"name" cbor:"2,keyasint"`
	Decks []plainDeckPlan   `json:"decks" cbor:"3,keyasint"`
	State string            `json:"state" cbor:"4,keyasint"`
	Names map[string]string `json:"names" cbor:"6,keyasint"`
}

type plainFleet struct {
	Vessels []plainVessel `json:"vessels" cbor:"1,keyasint"`
}

// bookings are a hundred varied bookings, in both shapes.
func bookings() (ours []*booking.Booking, plain []*plainBooking) {
	for i := range 100 {
		made := time.Unix(1784000000+int64(i)*3600, int64(i%3)*250_000_000).UTC()
		b := &booking.Booking{
			ID:         wire.UUID{byte(i), 1, 2, 3, 15: 9},
			Sailing:    fmt.Sprintf("EID-%04d", i),
			Passengers: []booking.Passenger{},
			Fare:       common.Money{Hundredths: int64(i) * 1250, Currency: wire.Pointer("SKD")},
			MadeAt:     made,
			State:      wire.Pointer(booking.BookingStatePaid),
			Deck:       wire.Pointer(fleet.DeckCar),
			Extras:     map[string]common.Money{},
		}
		p := &plainBooking{ID: b.ID, Sailing: b.Sailing, Passengers: []plainPassenger{},
			Fare: plainMoney{b.Fare.Hundredths, "SKD"}, MadeAt: made, State: "paid", Deck: "car",
			Extras: map[string]plainMoney{}}
		for n := range 1 + i%4 {
			name := fmt.Sprintf("Passenger number %d of Skerry", n)
			b.Passengers = append(b.Passengers, booking.Passenger{Name: name, Born: &made, NeedsHelp: wire.Pointer(n == 2)})
			p.Passengers = append(p.Passengers, plainPassenger{name, &made, n == 2})
		}
		if i%2 == 0 {
			b.Vehicle, p.Vehicle = &booking.Vehicle{Plate: "SK 1204", Metres: 4.5 + float64(i)/7},
				&plainVehicle{"SK 1204", 4.5 + float64(i)/7}
			b.Email = wire.Pointer("somebody@skerry.example")
			p.Email = b.Email
			b.Ticket = make([]byte, 40)
			p.Ticket = b.Ticket
		}
		for n := range i % 3 {
			key := []string{"meal", "cabin"}[n]
			b.Extras[key], p.Extras[key] = common.Money{Hundredths: 990, Currency: wire.Pointer("SKD")}, plainMoney{990, "SKD"}
		}
		ours, plain = append(ours, b), append(plain, p)
	}
	return ours, plain
}

// shape is a kind of message, as the stubs have it and as somebody would write
// it for general libraries, a hundred varied ones of each.
type shape struct {
	name  string
	ours  []message
	plain []any
	// fresh return new values to read into.
	fresh      func() message
	freshPlain func() any
}

func shapes() []shape {
	positions := shape{name: "position", fresh: func() message { return new(fleet.Position) },
		freshPlain: func() any { return new(plainPosition) }}
	fleets := shape{name: "fleet", fresh: func() message { return new(fleet.FleetAnswer) },
		freshPlain: func() any { return new(plainFleet) }}
	all := shape{name: "booking", fresh: func() message { return new(booking.Booking) },
		freshPlain: func() any { return new(plainBooking) }}
	ours, plain := bookings()
	for i := range ours {
		all.ours, all.plain = append(all.ours, ours[i]), append(all.plain, plain[i])
		seen, knots := ours[i].MadeAt, float64(i)/3
		spot := common.Spot{Latitude: 12 + float64(i)/7, Longitude: -30 - float64(i)/9}
		positions.ours = append(positions.ours, &fleet.Position{Vessel: ours[i].ID, Spot: spot, SeenAt: seen, Knots: &knots})
		positions.plain = append(positions.plain, &plainPosition{ours[i].ID, plainSpot{spot.Latitude, spot.Longitude}, seen,
			&knots})
		a, b := &fleet.FleetAnswer{}, &plainFleet{}
		for n := range 5 {
			name, names := fmt.Sprintf("Vessel %d", n), map[string]string{}
			for _, language := range []string{"x-skerry", "x-sound", "x-bay", "x-isle"} {
				names[language] = name + " in " + language
			}
			v := fleet.Vessel{ID: wire.UUID{byte(i)}, Name: name, State: wire.Pointer(fleet.VesselStateMoored), Names: names}
			p := plainVessel{ID: v.ID, Name: name, State: "moored", Names: names}
			for d := range uint32(4) {
				v.Decks = append(v.Decks, fleet.DeckPlan{Deck: fleet.DeckSaloon, Seats: d * 20, Lanes: &d})
				p.Decks = append(p.Decks, plainDeckPlan{"saloon", d * 20, d})
			}
			a.Vessels, b.Vessels = append(a.Vessels, v), append(b.Vessels, p)
		}
		fleets.ours, fleets.plain = append(fleets.ours, a), append(fleets.plain, b)
	}
	lists := fleets
	lists.name = "list"
	lists.ours, lists.plain = listOf(fleets, 10_000)
	return []shape{positions, all, fleets, lists}
}

// listOf is one list of so many vessels, in both shapes.
func listOf(fleets shape, vessels int) (ours []message, plain []any) {
	a, b := &fleet.FleetAnswer{}, &plainFleet{}
	for i := 0; len(a.Vessels) < vessels; i++ {
		n := i % len(fleets.ours)
		a.Vessels = append(a.Vessels, fleets.ours[n].(*fleet.FleetAnswer).Vessels...)
		b.Vessels = append(b.Vessels, fleets.plain[n].(*plainFleet).Vessels...)
	}
	return []message{a}, []any{b}
}

// contest is one kind of work, done by the stubs and by references.
type contest struct {
	name       string
	ours       func(i int) error
	references map[string]func(i int) error
	targets    map[string]float64
}

func contests(t testing.TB, s shape) []contest {
	cborPayloads, plainCBOR := make([][]byte, len(s.ours)), make([][]byte, len(s.ours))
	jsonPayloads, plainJSON := make([][]byte, len(s.ours)), make([][]byte, len(s.ours))
	mode, err := cbor.EncOptions{Time: cbor.TimeRFC3339Nano}.EncMode()
	require.NoError(t, err)
	for i, m := range s.ours {
		cborPayloads[i], err = m.AppendBinary(nil)
		require.NoError(t, err)
		plainCBOR[i], err = mode.Marshal(s.plain[i])
		require.NoError(t, err)
		jsonPayloads[i], err = m.MarshalJSON()
		require.NoError(t, err)
		plainJSON[i], err = json.Marshal(s.plain[i])
		require.NoError(t, err)
	}
	buffer := make([]byte, 0, 16<<10+2*len(cborPayloads[0]))
	encode := map[string]func(int) error{
		"fxamacker/cbor": func(i int) error { _, err := mode.Marshal(s.plain[i]); return err },
		"encoding/json":  func(i int) error { _, err := json.Marshal(s.plain[i]); return err },
	}
	decode := map[string]func(int) error{
		"fxamacker/cbor": func(i int) error { return cbor.Unmarshal(plainCBOR[i], s.freshPlain()) },
		"encoding/json":  func(i int) error { return json.Unmarshal(plainJSON[i], s.freshPlain()) },
	}
	return []contest{
		{"CBOR encode, buffer reused", func(i int) error { _, err := s.ours[i].AppendBinary(buffer); return err }, encode,
			map[string]float64{"fxamacker/cbor": 0.12}},
		{"CBOR encode, fresh", func(i int) error { _, err := s.ours[i].MarshalBinary(); return err }, encode,
			map[string]float64{"fxamacker/cbor": 0.20}},
		{"CBOR decode", func(i int) error { return s.fresh().UnmarshalBinary(cborPayloads[i]) }, decode,
			map[string]float64{"fxamacker/cbor": 0.28, "encoding/json": 0.11}},
		{"JSON encode, fresh", func(i int) error { _, err := s.ours[i].MarshalJSON(); return err }, encode,
			map[string]float64{"encoding/json": 0.28}},
		{"JSON decode", func(i int) error { return s.fresh().UnmarshalJSON(jsonPayloads[i]) }, decode,
			map[string]float64{"encoding/json": 0.18}},
	}
}

// processorTime is what this process has used, user and system: unlike the time
// on the wall it does not grow while others have the processor.
func processorTime() float64 {
	var usage syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &usage); err != nil {
		panic(err)
	}
	return float64(usage.Utime.Nano() + usage.Stime.Nano())
}

// ratio is the median, over interleaved rounds, of the processor time that ours
// takes as a part of the reference's.
func ratio(t testing.TB, ours, reference func(i int) error) float64 {
	return ratioOf(t, 100, ours, reference)
}

// ratioOf is ratio for so many values.
func ratioOf(t testing.TB, values int, ours, reference func(i int) error) float64 {
	run := func(f func(i int) error) float64 {
		start := processorTime()
		for range min(5, values) {
			for i := range values {
				if err := f(i); err != nil {
					t.Fatal(err)
				}
			}
		}
		return processorTime() - start
	}
	run(ours)
	run(reference)
	var ratios []float64
	for range 21 {
		ratios = append(ratios, run(ours)/run(reference))
	}
	slices.Sort(ratios)
	return ratios[len(ratios)/2]
}

// TestStubsAreFaster holds what the documentation claims: the stubs read and
// write faster than general libraries do with the same messages. It prints the
// figures next to their targets.
func TestStubsAreFaster(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	for _, s := range shapes() {
		for _, c := range contests(t, s) {
			for _, name := range slices.Sorted(maps.Keys(c.targets)) {
				faster := func(r float64) bool { return r < 1 }
				r := toolchain.Measured(faster, func() float64 { return ratioOf(t, len(s.ours), c.ours, c.references[name]) })
				t.Logf("%-8s  %-26s  %.2f of %-14s  target %.2f", s.name, c.name, r, name, c.targets[name])
				if !faster(r) {
					t.Errorf("%s of a %s is slower than %s", c.name, s.name, name)
				}
			}
		}
	}
}

// TestCodecsGrowWithTheirPayloads holds how the time for a vessel grows, where a payload of 100 kB
// to 100 MB (as JSON; half of that as CBOR) grows tenfold, against how it does in encoding/json.
func TestCodecsGrowWithTheirPayloads(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	fleets := shapes()[2]
	sizes := []int{250, 2_500, 25_000, 250_000}
	grows := func(work func(ours message, plain any) error) float64 {
		var times []float64
		for _, size := range sizes {
			ours, plain := listOf(fleets, size)
			rounds := max(3, 10_000/size)
			start := processorTime() // collecting garbage is a part of it
			for range rounds {
				require.NoError(t, work(ours[0], plain[0]))
			}
			times = append(times, (processorTime()-start)/float64(size*rounds))
		}
		return math.Cbrt(times[len(times)-1] / times[0])
	}
	reference := func() float64 {
		return grows(func(_ message, plain any) error {
			text, err := json.Marshal(plain)
			if err != nil {
				return err
			}
			return json.Unmarshal(text, new(plainFleet))
		})
	}
	const items = 100_000_000
	for name, work := range map[string]func(m message, _ any) error{
		"CBOR": func(m message, _ any) error {
			payload, err := m.MarshalBinary()
			if err != nil {
				return err
			}
			return wire.UnmarshalWithin(payload, new(fleet.FleetAnswer), items)
		},
		"JSON": func(m message, _ any) error {
			text, err := m.MarshalJSON()
			if err != nil {
				return err
			}
			return wire.UnmarshalTextWithin(text, new(fleet.FleetAnswer), items)
		},
	} {
		ours, expected := 0.0, 0.0
		grown := toolchain.Measured(func(r float64) bool { return r <= 1.3 }, func() float64 {
			ours, expected = grows(work), max(1.15, reference())
			return ours / expected
		})
		t.Logf("%s: tenfold payloads take %.2f of tenfold time, encoding/json %.2f", name, ours, expected)
		assert.LessOrEqual(t, grown, 1.3, name)
	}
}

func BenchmarkCodecs(b *testing.B) {
	for _, s := range shapes() {
		for _, c := range contests(b, s) {
			b.Run(s.name+"/"+c.name+"/stubs", func(b *testing.B) { benchmarkOf(b, len(s.ours), c.ours) })
			for name, reference := range c.references {
				b.Run(s.name+"/"+c.name+"/"+name, func(b *testing.B) { benchmarkOf(b, len(s.ours), reference) })
			}
		}
	}
}

func benchmark(b *testing.B, f func(i int) error) { benchmarkOf(b, 100, f) }

func benchmarkOf(b *testing.B, values int, f func(i int) error) {
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		if err := f(i % values); err != nil {
			b.Fatal(err)
		}
	}
}

// TestUnaryCallsAreFast holds a call through stub client and stub server
// against a handler and a client of net/http that move the same bytes.
func TestUnaryCallsAreFast(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	ours, reference := unaryContest(t)
	enough := func(r float64) bool { return r > 0.6 }
	r := toolchain.Measured(enough, func() float64 { return 1 / ratio(t, ours, reference) })
	t.Logf("calls through stubs: %.2f of those of bare net/http in the same processor time, target 0.95", r)
	assert.True(t, enough(r), "%.2f", r)
}

// TestOtherLanguagesAreFast runs the measuring programs of the other languages,
// which print their ratios, and holds each against a bound that only a mistake
// would miss: the figures are in docs/speed.md.
func TestOtherLanguagesAreFast(t *testing.T) {
	figures := regexp.MustCompile(`\d+\.\d\d`)
	growing := regexp.MustCompile(`tenfold payloads take (\d+\.\d\d) of tenfold time, .* (\d+\.\d\d)`)
	number := func(t *testing.T, text string) float64 {
		n, err := strconv.ParseFloat(text, 64)
		require.NoError(t, err)
		return n
	}
	run := func(t *testing.T, dir, program string, args ...string) {
		// The worst of all figures, as a part of what is allowed.
		worst := func() (part float64) {
			output := toolchain.Run(t, dir, program, args...)
			t.Logf("\n%s", output)
			found := figures.FindAllString(output, -1)
			require.NotEmpty(t, found)
			for _, text := range found {
				ratio := number(t, text)
				if strings.Contains(output, "calls a second") {
					ratio = 1 / ratio
				}
				part = max(part, ratio/5)
			}
			for _, step := range growing.FindAllStringSubmatch(output, -1) {
				part = max(part, number(t, step[1])/(1.3*max(1.15, number(t, step[2]))))
			}
			return part
		}
		enough := func(part float64) bool { return part <= 1 }
		assert.LessOrEqual(t, toolchain.Measured(enough, worst), 1.0)
	}
	ferry := filepath.Join(toolchain.Root(), "examples", "ferry")
	t.Run("typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		run(t, ".", "node", filepath.Join(typescriptPrograms(t), "matrix", "speed.js"))
		run(t, ".", "node", filepath.Join(toolchain.BuildTypeScript(t, filepath.Join(ferry, "typescript"), t.TempDir()),
			"speed.js"))
	})
	t.Run("python", func(t *testing.T) {
		python := toolchain.Python(t)
		run(t, "python", python, "-m", "matrix.speed")
		run(t, filepath.Join(ferry, "python"), python, "speed.py")
	})
}

var rounds = flag.Int("rounds", 0, "how many rounds Java is measured in, after as many to get warm; 0 leaves that out")

// javaTargets are how much of Jackson's time the stubs may take, by what they do; of a bare call's for a call.
var javaTargets = map[string]float64{"ToCbor": 0.45, "FromCbor": 0.3, "ToJson": 0.6, "FromJson": 0.5, "": 1.3}

// TestJavaIsFast measures Java's codecs against Jackson, and its calls against the JDK's own client and server, by JMH.
// The bounds are those that only a mistake goes over: a run takes minutes.
func TestJavaIsFast(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	if *rounds == 0 {
		t.Skip("skipped: go test ./conformance -timeout 30m -v -run JavaIsFast -rounds 5 takes minutes")
	}
	libraries := toolchain.JavaLibraries(t)
	dir := t.TempDir()
	ferry := filepath.Join(toolchain.Root(), "examples", "ferry", "java", "src", "main", "java", "ferry", "gen")
	toolchain.CompileBenchmarks(t, libraries, filepath.Join(dir, "classes"), ferry, "java/bench")
	type kind struct{ who, shape, what string }
	measure := func(class string, warm int, times map[kind]float64) {
		into := filepath.Join(dir, class+".json")
		toolchain.Run(t, dir, "java", "-cp", filepath.Join(dir, "classes")+string(filepath.ListSeparator)+libraries,
			"org.openjdk.jmh.Main", class, "-f", "1", "-wi", strconv.Itoa(warm), "-i", strconv.Itoa(*rounds),
			"-w", "1s", "-r", "1s", "-rf", "json", "-rff", into)
		text, err := os.ReadFile(into)
		require.NoError(t, err)
		var measured []struct {
			Benchmark     string
			Params        struct{ Shape, Who, What string }
			PrimaryMetric struct{ RawData [][]float64 } // of each process, and in it of each round
		}
		require.NoError(t, json.Unmarshal(text, &measured))
		for _, m := range measured {
			who := m.Params.Who
			if who == "" { // a call
				who = m.Benchmark[strings.LastIndexByte(m.Benchmark, '.')+1:]
			}
			each := slices.Sorted(slices.Values(m.PrimaryMetric.RawData[0]))
			times[kind{who, m.Params.Shape, m.Params.What}] = each[len(each)/2]
		}
	}
	worst := func() (part float64) {
		times := map[kind]float64{}
		measure("Codecs", *rounds, times)
		measure("Calls", 10**rounds, times) // two clients and two servers are slow to get warm
		held := 0
		for k, ours := range times {
			if k.who != "ours" {
				continue
			}
			held++
			of, target := ours/times[kind{"theirs", k.shape, k.what}], javaTargets[k.what]
			t.Logf("%s %s: %.2f of the reference's time, target %.2f", cmp.Or(k.shape, "call"), k.what, of, target)
			part = max(part, of/(2*target))
			if json, is := strings.CutSuffix(k.what, "Cbor"); is {
				t.Logf("%s %s: %.2f of Jackson's JSON", k.shape, k.what, ours/times[kind{"theirs", k.shape, json + "Json"}])
			}
		}
		require.Equal(t, 3*4+1, held)
		return part
	}
	enough := func(part float64) bool { return part <= 1 }
	assert.LessOrEqual(t, toolchain.Measured(enough, worst), 1.0)
}

func unaryContest(t testing.TB) (ours, reference func(int) error) {
	request := &matrix.EchoRequest{Text: wire.Pointer(strings.Repeat("Skerry ", 30)),
		Names: map[string]int64{"seats": 3, "lanes": 7}}
	stubs := httptest.NewServer(matrix.ServePier(matrix.PierCalls{
		Echo: func(_ context.Context, r *matrix.EchoRequest) (*matrix.EchoAnswer, error) {
			return &matrix.EchoAnswer{Request: *r}, nil
		},
	}))
	t.Cleanup(stubs.Close)
	asked, err := request.MarshalBinary()
	require.NoError(t, err)
	answered, err := (&matrix.EchoAnswer{Request: *request}).MarshalBinary()
	require.NoError(t, err)
	// The same bytes are the same headers, too.
	requestHeaders, answerHeaders := http.Header{}, http.Header{}
	_, err = matrix.NewPierClient(stubs.URL, web.WithClientMiddleware(func(r *http.Request,
		next func(*http.Request) (*http.Response, error)) (*http.Response, error) {
		requestHeaders = r.Header.Clone()
		response, err := next(r)
		if err == nil {
			answerHeaders = response.Header.Clone()
		}
		return response, err
	})).Echo(t.Context(), request)
	require.NoError(t, err)
	delete(answerHeaders, "Date") // net/http writes it for both
	bare := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil || len(body) != len(asked) {
			t.Errorf("%d bytes came: %v", len(body), err)
		}
		for name, values := range answerHeaders {
			w.Header()[name] = values
		}
		_, _ = w.Write(answered)
	}))
	t.Cleanup(bare.Close)
	client := matrix.NewPierClient(stubs.URL)
	ours = func(int) error {
		_, err := client.Echo(t.Context(), request)
		return err
	}
	reference = func(int) error {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, bare.URL+echoPath, bytes.NewReader(asked))
		if err != nil {
			return err
		}
		for name, values := range requestHeaders {
			r.Header[name] = values
		}
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			return err
		}
		defer response.Body.Close()
		body, err := io.ReadAll(response.Body)
		if err == nil && len(body) != len(answered) {
			err = fmt.Errorf("%d bytes came", len(body))
		}
		return err
	}
	return ours, reference
}

func BenchmarkUnaryCalls(b *testing.B) {
	ours, reference := unaryContest(b)
	b.Run("stubs", func(b *testing.B) { benchmark(b, ours) })
	b.Run("bare net/http", func(b *testing.B) { benchmark(b, reference) })
}
