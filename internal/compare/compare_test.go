package compare

import (
	"encoding/hex"
	"faithfulcourier/internal/compare/change"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/toolchain"
	"faithfulcourier/internal/value"
)

const quay = `module skerry.quay

enum Deck { #0 unassigned #1 open #2 car }

message Money { #1 hundredths int64 }

message Booking {
  #1 id    uuid
  #2 seats int32 = 1
  #3 deck  Deck
  #4 email text?
  #5 fare  Money
  #6 notes [Money]
}

message BookRequest { #1 booking Booking? #2 deck Deck? }

message Stored { #1 deck Deck #2 seats int32 = 1 }

error Full 409 { #1 left int32 }

service Bookings {
  call book(BookRequest) -> Booking
    fails Full
  call nudge(Money) -> ()
  call count() -> Money
}
`

var everything = Promise{Rollout: "unordered", Stored: "each-reads-other", Covers: []string{"binary", "json", "http"}}

// told writes what a report says, a line for each change and effect.
func told(r *Report) []string {
	var lines []string
	for _, f := range r.Changes {
		line := fmt.Sprintf("%s %s", f.Kind, strings.TrimPrefix(f.Where, "skerry.quay."))
		if len(f.Effects) == 0 {
			lines = append(lines, line+": compatible")
		}
		for _, e := range f.Effects {
			direction := "old reads new"
			if e.NewReads {
				direction = "new reads old"
			}
			effect := fmt.Sprintf("%s: %s %s %s, %s", line, e.Verdict, e.Covers, e.Position, direction)
			if len(e.Calls) > 0 {
				effect += ": " + strings.Join(e.Calls, " ")
			}
			lines = append(lines, effect)
		}
	}
	slices.Sort(lines)
	return lines
}

// verdicts are one change each, and all that is said of it.
var verdicts = []struct{ old, new, want string }{
	{"#4 email text?", "#4 email text? #9 phone text?", "field-added Booking.phone: compatible"},
	{"#4 email text?", "#4 email text? #9 phone text", `
		field-added Booking.phone: breaking binary answer, new reads old: Bookings.book
		field-added Booking.phone: breaking binary request, new reads old: Bookings.book
		field-added Booking.phone: breaking json answer, new reads old: Bookings.book
		field-added Booking.phone: breaking json request, new reads old: Bookings.book`},
	{"#4 email text?", "retired #4 \"email\"", `
		field-gone Booking.email: altering binary answer, new reads old: Bookings.book
		field-gone Booking.email: altering binary answer, old reads new: Bookings.book
		field-gone Booking.email: altering binary request, new reads old: Bookings.book
		field-gone Booking.email: altering binary request, old reads new: Bookings.book
		field-gone Booking.email: altering json answer, new reads old: Bookings.book
		field-gone Booking.email: altering json answer, old reads new: Bookings.book
		field-gone Booking.email: altering json request, new reads old: Bookings.book
		field-gone Booking.email: altering json request, old reads new: Bookings.book
		retired Booking: compatible`},
	{"#1 hundredths int64", "#1 cents int64", `
		field-renamed Money.hundredths: breaking json answer, new reads old: Bookings.book Bookings.count
		field-renamed Money.hundredths: breaking json answer, old reads new: Bookings.book Bookings.count
		field-renamed Money.hundredths: breaking json request, new reads old: Bookings.book Bookings.nudge
		field-renamed Money.hundredths: breaking json request, old reads new: Bookings.book Bookings.nudge`},
	{"#2 car }", "#2 car #3 saloon }", `
		member-added Deck.saloon: breaking binary request, old reads new: Bookings.book
		member-added Deck.saloon: breaking json request, old reads new: Bookings.book`},
	{"#2 car }", "retired #2 \"car\" }", `
		member-gone Deck.car: breaking binary request, new reads old: Bookings.book
		member-gone Deck.car: breaking json request, new reads old: Bookings.book
		member-gone Deck.car: altering binary answer, new reads old: Bookings.book
		member-gone Deck.car: altering binary answer, old reads new: Bookings.book
		member-gone Deck.car: altering binary stored, new reads old
		member-gone Deck.car: altering binary stored, old reads new
		member-gone Deck.car: altering binary request, old reads new: Bookings.book
		member-gone Deck.car: altering json answer, new reads old: Bookings.book
		member-gone Deck.car: altering json answer, old reads new: Bookings.book
		member-gone Deck.car: altering json stored, new reads old
		member-gone Deck.car: altering json stored, old reads new
		member-gone Deck.car: altering json request, old reads new: Bookings.book
		retired Deck: compatible`},
	{"message Stored { #1 deck Deck #2 seats int32 = 1 }", "message Stored { #1 deck Deck #2 seats int32 = 2 }", `
		field-default-changed Stored.seats: altering binary stored, new reads old
		field-default-changed Stored.seats: altering binary stored, old reads new
		field-default-changed Stored.seats: altering json stored, new reads old
		field-default-changed Stored.seats: altering json stored, old reads new`},
	{"message Stored { #1 deck Deck #2 seats int32 = 1 }", "message Stored { #1 deck Deck #2 seats int64 = 1 }", `
		field-type-changed Stored.seats: breaking binary stored, old reads new
		field-type-changed Stored.seats: breaking json stored, old reads new`},
	{"#1 left int32", "#1 left text", `
		field-type-changed Full.left: breaking http error, new reads old: Bookings.book
		field-type-changed Full.left: breaking http error, old reads new: Bookings.book`},
	{"error Full 409", "error Full 410", "error-status-changed Full: altering http request, old reads new"},
	{"    fails Full\n", "", "call-fails-gone Bookings.book: altering http request, new reads old"},
	{"call count() -> Money", "call count() -> Money fails Full",
		"call-fails-added Bookings.count: altering http request, old reads new"},
	{"  call count() -> Money\n", "", "call-gone Bookings.count: breaking http request, new reads old"},
	{"call count() -> Money", "call count() -> Money call more() -> ()",
		"call-added Bookings.more: altering http request, old reads new"},
	{"call count() -> Money", "call count() -> Money safe",
		"call-safe-put-on Bookings.count: altering http request, old reads new"},
	{"call count() -> Money", "call count() -> ()", `
		call-answer-changed Bookings.count: breaking binary answer, old reads new: Bookings.count
		call-answer-changed Bookings.count: breaking json answer, old reads new: Bookings.count
		call-answer-changed Bookings.count: altering binary answer, new reads old: Bookings.count
		call-answer-changed Bookings.count: altering http answer, new reads old: Bookings.count
		call-answer-changed Bookings.count: altering http answer, old reads new: Bookings.count
		call-answer-changed Bookings.count: altering json answer, new reads old: Bookings.count`},
	{"call nudge(Money) -> ()", "call nudge(Money) -> Money", `
		call-answer-changed Bookings.nudge: breaking binary answer, new reads old: Bookings.nudge
		call-answer-changed Bookings.nudge: breaking json answer, new reads old: Bookings.nudge
		call-answer-changed Bookings.nudge: altering http answer, new reads old: Bookings.nudge
		call-answer-changed Bookings.nudge: altering http answer, old reads new: Bookings.nudge`},
	{"call nudge(Money)", "call nudge()", `
		call-request-changed Bookings.nudge: breaking binary request, old reads new: Bookings.nudge
		call-request-changed Bookings.nudge: breaking json request, old reads new: Bookings.nudge
		call-request-changed Bookings.nudge: altering binary request, new reads old: Bookings.nudge
		call-request-changed Bookings.nudge: altering json request, new reads old: Bookings.nudge`},
	{"call nudge(Money)", "call nudge(BookRequest)", `
		call-request-changed Bookings.nudge: breaking binary request, new reads old: Bookings.nudge
		call-request-changed Bookings.nudge: breaking binary request, old reads new: Bookings.nudge
		call-request-changed Bookings.nudge: breaking json request, new reads old: Bookings.nudge
		call-request-changed Bookings.nudge: breaking json request, old reads new: Bookings.nudge`},
	{"message Stored", "/// Stored for a season.\nmessage Stored", "documentation-changed Stored: compatible"},
	{"#4 email text?", "#4 email text? deprecated \"call them\"", "deprecated-put-on Booking.email: compatible"},
	{"call count() -> Money", "call count() -> Money deprecated \"count yourself\"",
		"deprecated-put-on Bookings.count: compatible"},
	{"enum Deck", "enum Level { #0 low }\nenum Deck", "enum-added Level: compatible"},
	{"message Stored", "message More { }\nmessage Stored", "message-added More: compatible"},
}

func TestVerdicts(t *testing.T) {
	old := definitions(t, quay)
	for _, c := range verdicts {
		t.Run(c.old+" → "+c.new, func(t *testing.T) {
			require.Contains(t, quay, c.old)
			r := Compare(old, definitions(t, strings.Replace(quay, c.old, c.new, 1)), everything)
			var want []string
			for line := range strings.SplitSeq(strings.TrimSpace(c.want), "\n") {
				want = append(want, strings.TrimSpace(line))
			}
			assert.ElementsMatch(t, want, told(r))
			for _, f := range r.Changes {
				for _, e := range f.Effects {
					assert.NotEmpty(t, e.Sentence)
					if e.Verdict == verdict.Breaking {
						assert.NotNil(t, e.Proof, "a break has its proof: %s", e.Sentence)
					}
				}
			}
		})
	}
}

// TestRolloutChoosesDirections compares one change under each promise.
// TestStored holds that what is stored counts there as well as in calls.
func TestStored(t *testing.T) {
	text := func(mark, field string) string {
		return "module skerry.quay\nmessage Ticket " + mark + " { #1 seat " + field +
			" }\nservice Tickets { call keep(Ticket) -> () }\n"
	}
	promise := everything
	promise.Rollout = "server-leads"
	lines := func(mark string) []string {
		return told(Compare(definitions(t, text(mark, "text")), definitions(t, text(mark, "text?")), promise))
	}
	assert.Equal(t, []string{"field-presence-changed Ticket.seat: compatible"}, lines(""))
	assert.Equal(t, []string{"field-presence-changed Ticket.seat: breaking binary stored, old reads new",
		"field-presence-changed Ticket.seat: breaking json stored, old reads new"}, lines("stored"))
}

func TestRolloutChoosesDirections(t *testing.T) {
	old := definitions(t, quay)
	new := definitions(t, strings.Replace(quay, "#1 hundredths int64", "#1 hundredths int64 #2 currency text", 1))
	for rollout, want := range map[string][]string{
		"server-leads": {"field-added Money.currency: breaking binary request, new reads old: Bookings.book Bookings.nudge"},
		"client-leads": {"field-added Money.currency: breaking binary answer, new reads old: Bookings.book Bookings.count"},
		"unordered": {
			"field-added Money.currency: breaking binary answer, new reads old: Bookings.book Bookings.count",
			"field-added Money.currency: breaking binary request, new reads old: Bookings.book Bookings.nudge"},
	} {
		assert.Equal(t, want, told(Compare(old, new,
			Promise{Rollout: rollout, Stored: "each-reads-other", Covers: []string{"binary"}})), rollout)
	}
	stored := definitions(t, strings.Replace(quay, "message Stored { #1 deck Deck",
		"message Stored { #1 deck Deck #5 more text", 1))
	for kept, want := range map[string][]string{
		"new-reads-old": {"field-added Stored.more: breaking json stored, new reads old"},
		"old-reads-new": {"field-added Stored.more: compatible"},
	} {
		assert.Equal(t, want, told(Compare(old, stored,
			Promise{Rollout: "server-leads", Stored: kept, Covers: []string{"json"}})), kept)
	}
}

// TestProofIsReproduced reads the bytes of a proof anew.
func TestProofIsReproduced(t *testing.T) {
	old := definitions(t, quay)
	new := definitions(t, strings.Replace(quay, "#6 notes [Money]", "#6 notes [Booking]", 1))
	r := Compare(old, new, Promise{Rollout: "server-leads", Stored: "each-reads-other", Covers: []string{"binary"}})
	require.Len(t, r.Changes, 1)
	w := r.Changes[0].Effects[0].Proof
	assert.Equal(t, "skerry.quay.BookRequest", w.Message)
	message := func(d *schema.Definitions, name string) *schema.Message {
		for _, m := range d.Module("skerry.quay").Messages {
			if m.Name == name {
				return m
			}
		}
		return nil
	}
	read, err := value.DecodeCBOR(message(old, "BookRequest"), w.Binary, 0)
	require.NoError(t, err, "its writer's definitions read it")
	text, err := value.EncodeJSON(read)
	require.NoError(t, err)
	assert.Equal(t, w.JSON, string(text), "%s", hex.EncodeToString(w.Binary))
	_, err = value.DecodeCBOR(message(new, "BookRequest"), w.Binary, 0)
	require.ErrorContains(t, err, "/booking/notes/0")
	assert.Equal(t, "refuses it: "+err.Error(), w.Outcome)
	assert.Equal(t, "an older client", w.Writer)
	assert.Equal(t, "a newer server", w.Reader)
}

func TestRenamesAreOneChange(t *testing.T) {
	old := definitions(t, quay)
	for _, c := range []struct{ change, want string }{
		{"Money", "message-renamed Money: compatible"},
		{"Deck", "enum-renamed Deck: compatible"},
		{"Full", "error-renamed Full: breaking http error, old reads new: Bookings.book"},
	} {
		new := definitions(t, strings.ReplaceAll(quay, c.change, "Other"+c.change))
		lines := told(Compare(old, new, everything))
		assert.Contains(t, lines, c.want)
		for _, line := range lines {
			assert.NotContains(t, line, "message-gone")
			assert.NotContains(t, line, "field-")
		}
	}
	pier := "module skerry.pier\n"
	clause := "call book(BookRequest) -> Booking\n    fails Full\n    http POST \"/bookings\""
	for _, c := range []struct {
		old, new []string // replaced in quay, and what it is replaced by
		want     []string
	}{
		{nil, []string{"service Bookings", "service Reservations"}, []string{
			"service-renamed Bookings: breaking http request, new reads old: Bookings.book Bookings.count Bookings.nudge",
			"service-renamed Bookings: breaking http request, old reads new: Reservations.book Reservations.count Reservations.nudge"}},
		{nil, []string{"call count", "call number"}, []string{
			"call-renamed Bookings.count: breaking http request, new reads old: Bookings.count",
			"call-renamed Bookings.count: breaking http request, old reads new: Bookings.number"}},
		{[]string{"call book(BookRequest) -> Booking\n    fails Full", clause},
			[]string{"call book(BookRequest) -> Booking\n    fails Full",
				strings.Replace(clause, "call book", "call reserve", 1)}, []string{
				"call-renamed Bookings.book: compatible"}},
		{nil, []string{"skerry.quay", "skerry.pier"}, []string{
			"module-renamed skerry.quay: breaking http error, new reads old: Bookings.book",
			"module-renamed skerry.quay: breaking http error, old reads new: Bookings.book",
			"module-renamed skerry.quay: breaking http request, new reads old: Bookings.book Bookings.count Bookings.nudge",
			"module-renamed skerry.quay: breaking http request, old reads new: Bookings.book Bookings.count Bookings.nudge"}},
		{nil, []string{"module skerry.quay\n", "module skerry.quay\nuse skerry.pier\n",
			"enum Deck { #0 unassigned #1 open #2 car }\n", "", "message Stored { #1 deck Deck #2 seats int32 = 1 }\n", "",
			"Deck", "pier.Deck",
			"call count() -> Money\n}", "call count() -> Money\n}\n" + pier +
				"enum Deck { #0 unassigned #1 open #2 car }\nmessage Stored { #1 deck Deck #2 seats int32 = 1 }\n"}, []string{
			"enum-moved Deck: compatible", "message-moved Stored: compatible", "module-added skerry.pier: compatible"}},
	} {
		apply := func(text string, pairs []string) string {
			for i := 0; i < len(pairs); i += 2 {
				text = strings.ReplaceAll(text, pairs[i], pairs[i+1])
			}
			return text
		}
		r := Compare(definitions(t, apply(quay, c.old)), definitions(t, apply(quay, c.new)), everything)
		assert.Equal(t, c.want, told(r), "%q", c.new)
		for _, f := range r.Changes {
			if f.Verdict() == verdict.Breaking {
				assert.NotNil(t, f.Effects[0].Proof)
			}
		}
	}
}

// TestAcrossVersions follows what one version renamed and the next one changed.
func TestAcrossVersions(t *testing.T) {
	renamed := strings.ReplaceAll(quay, "Money", "Price")
	changed := strings.Replace(renamed, "#1 hundredths int64", "#1 hundredths int64 #2 currency text?", 1)
	old, middle, new := definitions(t, quay), definitions(t, renamed), definitions(t, changed)
	assert.Contains(t, told(Compare(old, new, everything)), "message-gone Money: compatible",
		"two versions alone can't tell")
	asked := 0
	between := func() []*schema.Definitions {
		asked++
		return []*schema.Definitions{middle}
	}
	assert.Equal(t, []string{"field-added Price.currency: compatible", "message-renamed Money: compatible"},
		told(Across(old, new, everything, between)))
	assert.Equal(t, 1, asked)
	Across(old, old, everything, between)
	assert.Equal(t, 1, asked, "they are asked for only where they may tell")
}

// TestNewCallThatIntercepts adds calls whose paths fit lawful requests of older calls, or
// the other way round.
func TestNewCallThatIntercepts(t *testing.T) {
	quay := func(id, more string) string {
		return "module skerry.quay\nenum Deck { #0 open #1 car }\nmessage Find { #1 id " + id +
			" }\nmessage Berth { #1 name text }\nservice Berths {\n  call find(Find) -> Berth\n    safe http GET \"/berths/{id}\"\n" + more + "}\n"
	}
	for _, c := range []struct{ id, path, takes string }{
		{"text", "GET \"/berths/latest\"", "takes GET /berths/latest for \"skerry.quay.Berths.added\""},
		{"text", "POST \"/berths/latest\"", ""},
		{"text", "GET \"/berths/latest/all\"", ""},
		{"text where length 1..3", "GET \"/berths/latest\"",
			"answers GET /berths/latest with 400 invalid-request: /id must have 1 to 3 characters"},
		{"uuid", "GET \"/berths/latest\"", "answers GET /berths/latest with 400 invalid-request: /id expected uuid"},
		{"int32", "GET \"/berths/12\"", "takes GET /berths/12 for \"skerry.quay.Berths.added\""},
		{"int32 where 1..9", "GET \"/berths/12\"", "answers GET /berths/12 with 400 invalid-request: /id must be 1 to 9, not 12"},
		{"Deck", "GET \"/berths/car\"", "takes GET /berths/car for \"skerry.quay.Berths.added\""},
		{"Deck", "GET \"/berths/latest\"", "answers GET /berths/latest with 400 invalid-request: /id must be one of open, car"},
	} {
		safe := ""
		if c.path[0] == 'G' {
			safe = "safe "
		}
		old, new := definitions(t, quay(c.id, "")),
			definitions(t, quay(c.id, "  call added() -> Berth\n    "+safe+"http "+c.path+"\n"))
		r := Compare(old, new, Promise{Rollout: "server-leads", Stored: "each-reads-other", Covers: []string{"http"}})
		require.Len(t, r.Changes, 1)
		if c.takes == "" {
			assert.Equal(t, verdict.Compatible, r.Changes[0].Verdict(), "%v", c)
			continue
		}
		require.Equal(t, verdict.Breaking, r.Changes[0].Verdict(), "%v", c)
		w := r.Changes[0].Effects[0].Proof
		require.NotNil(t, w, "%v", c)
		assert.True(t, strings.HasPrefix(w.Outcome, c.takes), "%s, not %s", w.Outcome, c.takes)
	}
	// A new call with a field, whose requests an older one takes.
	old := definitions(t, quay("text", "  call latest() -> Berth\n    safe http GET \"/latest/one\"\n"))
	new := definitions(t, quay("text", "  call latest() -> Berth\n    safe http GET \"/latest/one\"\n  call "+
		"added(Find) -> Berth\n    safe http GET \"/latest/{id}\"\n"))
	r := Compare(old, new, Promise{Rollout: "server-leads", Stored: "each-reads-other", Covers: []string{"http"}})
	require.Equal(t, verdict.Breaking, r.Changes[0].Verdict())
	assert.Equal(t, "takes GET /latest/one for \"skerry.quay.Berths.latest\"", r.Changes[0].Effects[0].Proof.Outcome)
}

// TestChangesAreToldApart holds how types and bounds changed.
func TestChangesAreToldApart(t *testing.T) {
	text := func(field string) string {
		return "module skerry.quay\ntype Name = text\ntype Code = text\nenum Deck { #0 a }\nenum Floor { #0 a }\nunion " +
			"Way { #1 a text }\nunion Road { #1 a text }\nmessage A { }\nmessage B { }\nmessage Berth { #1 x " + field + " }\n"
	}
	for _, c := range []struct{ old, new, how string }{
		{"int32", "int64", "widened"}, {"int64", "int32", "narrowed"}, {"int32", "uint32", ""}, {"uint8", "int16", "widened"},
		{"float32", "float64", "widened"}, {"float64", "int32", "narrowed"}, {"int64", "float64", ""}, {"int32", "text", ""},
		{"text", "Name", "a named type put on"}, {"Name", "text", "a named type taken off"},
		{"Name", "Code", "one named type for another"}, {"int32", "Name", ""},
		{"[text]", "[int32]", "its elements changed"}, {"{text: text}", "{text: int32}", "its elements changed"},
		{"{text: text}", "{int32: text}", "its keys changed"}, {"text", "[text]", ""},
		{"A", "B", "one message for another"}, {"Deck", "Floor", "one enum for another"},
		{"Way", "Road", "one union for another"},
		{"int32", "int32 where 1..5", "put on"}, {"int32 where 1..5", "int32", "taken off"},
		{"int32 where 1..5", "int32 where 1..9", "loosened"},
		{"int32 where 1..5", "int32 where 2..5", "tightened"}, {"int32 where 1..5", "int32 where 3..9", "moved"},
		{"text where length 1..5", "text where length 1..5, pattern \"^a\"", "tightened"},
		{"text where pattern \"a\"", "text where pattern \"[ab]\"", "loosened"},
	} {
		r := Compare(definitions(t, text(c.old)), definitions(t, text(c.new)), everything)
		require.Len(t, r.Changes, 1)
		assert.Equal(t, c.how, r.Changes[0].How, "%s → %s", c.old, c.new)
	}
}

func TestPairing(t *testing.T) {
	message := func(fields string) *schema.Message {
		return definitions(t, "module m\nmessage M { "+fields+" }").Modules[0].Messages[0]
	}
	for _, c := range []struct{ old, new, want string }{
		{"#1 a text #2 b text", "#1 a text #2 c text", "a=a b=c"},
		{"#1 a text #2 b text", "#3 a text #2 b text", "a=a b=b"},
		{"#1 a text #2 b text", "#1 b text #2 a text", "a=a b=b"},
		{"#1 a text #2 b int32", "#1 b text #2 a int32", "a=b b=a"},
		{"#1 a text #2 b text", "#2 a text", "a=a b=-"},
		{"#1 a text #4 b text", "#4 a text #5 b text", "a=a b=b"},
		{"#2 a text", "#1 a text #2 b text", "a=b -=a"},
	} {
		var got []string
		name := func(f *schema.Field) string {
			if f == nil {
				return "-"
			}
			return f.Name
		}
		for _, p := range change.PairFields(message(c.old), message(c.new)) {
			got = append(got, name(p.Old)+"="+name(p.New))
		}
		assert.Equal(t, c.want, strings.Join(got, " "), "%s → %s", c.old, c.new)
	}
}

func TestSize(t *testing.T) {
	old := definitions(t, quay)
	for _, c := range []struct {
		old, new string
		size     int
	}{
		{"message Stored", "/// Documented.\nmessage Stored", 0},
		{"message Stored", "message More { }\nmessage Stored", 1},
		{"#4 email text?", "#4 email text? #9 phone text?", 1},
		{"#4 email text?", "#4 email text", 2},
	} {
		assert.Equal(t, c.size, Compare(old, definitions(t, strings.Replace(quay, c.old, c.new, 1)), everything).Size(),
			c.new)
	}
	// What is loosened is something new that one may write, or show.
	const before = "module m credential k = bearer credential b = basic type Code = int32 message Q { #1 n int32? #2 " +
		"l [int32] #3 c Code #4 q text? } message A { #1 n int32 } service S { call ask(Q) -> A http GET \"/ask\" safe needs k }"
	leads := Promise{Rollout: "server-leads", Stored: "new-reads-old", Covers: []string{"binary", "json", "http"}}
	for _, c := range []struct {
		old, new string
		size     int
	}{
		{"#1 n int32? ", "#1 n int64? ", 1}, {"[int32]", "[int64]", 1}, {"type Code = int32", "type Code = int64", 1},
		{"needs k", "needs k | b", 1}, {"needs k", "needs nothing", 1},
		{"#4 q text?", "#4 q [text]", 1}, {"#1 n int32? ", "#1 n int32? deprecated \"why\" ", 0},
		{"{ #1 n int32 }", "{ #1 n int32 where 1..9 }", 0},
		{"{ #1 n int32 }", "{ #1 n int64 }", 2},
	} {
		assert.Equal(t, c.size, Compare(definitions(t, before), definitions(t, strings.Replace(before, c.old, c.new, 1)),
			leads).Size(), c.new)
	}
}

// TestManyCallsAreOneChange changes a type that forty calls use.
func TestManyCallsAreOneChange(t *testing.T) {
	text := "module m\nmessage Money { #1 hundredths int64 }\nservice Many {\n"
	for i := range 40 {
		text += fmt.Sprintf("call c%d(Money) -> Money\n", i)
	}
	text += "}\n"
	r := Compare(definitions(t, text), definitions(t, strings.Replace(text, "int64", "text", 1)),
		Promise{Rollout: "server-leads", Stored: "each-reads-other", Covers: []string{"binary"}})
	require.Len(t, r.Changes, 1)
	require.Len(t, r.Changes[0].Effects, 2)
	assert.Len(t, r.Changes[0].Effects[0].Calls, 40)
}

// TestLargeComparison compares a thousand messages, each of which leads to all
// others, that 250 calls use: the work must not multiply.
func TestLargeComparison(t *testing.T) {
	build := func(typ string) string {
		var b strings.Builder
		b.WriteString("module big\n")
		for i := range 1000 {
			changed := "int32"
			if i%50 == 0 {
				changed = typ
			}
			fmt.Fprintf(&b, "message Leg%d { #1 id uuid #2 seats %s #3 next Leg%d? #4 names [text] }\n", i, changed, (i+1)%1000)
		}
		b.WriteString("service Legs {\n")
		for i := 0; i < 1000; i += 4 {
			fmt.Fprintf(&b, "call get_%d(Leg%d) -> Leg%d\n", i, i, i)
		}
		b.WriteString("}\n")
		return b.String()
	}
	old, new := definitions(t, build("int32")), definitions(t, build("int64"))
	var r *Report
	few := func(loads float64) bool { return loads < 25 }
	loads := toolchain.Measured(few, func() float64 {
		start := time.Now()
		definitions(t, build("int32"))
		loading := time.Since(start)
		start = time.Now()
		r = Compare(old, new, everything)
		return float64(time.Since(start)) / float64(loading)
	})
	require.Len(t, r.Changes, 20)
	for _, f := range r.Changes {
		require.Len(t, f.Effects[0].Calls, 250)
		require.NotNil(t, f.Effects[0].Proof)
		assert.Less(t, len(f.Effects[0].Proof.Binary), 200, "the nearest root makes the proof")
	}
	t.Logf("comparing takes %.1f times as long as loading one side", loads)
	assert.True(t, few(loads), "with twenty changes in every position, encoding and direction: %.1f", loads)
}

// TestSizes holds how much a change asks of a version: bounds, alternatives and
// named types are decided, one way or the other.
func TestSizes(t *testing.T) {
	const before = "module m type Code = text where length 1..9 union Way { #1 sea text } credential desk = bearer " +
		"message A { #1 code Code #2 way Way #3 note text } service S { needs desk call tell(A) -> A http POST \"/tell\" }"
	for old, new := range map[string]string{
		"length 1..9":            "length 1..8",
		"#1 sea text":            "#1 sea text #2 land text",
		"#1 code Code":           "#1 code text",
		"#3 note text }":         "#3 note text where pattern \"^a\" }", // proved: it breaks
		"credential desk = bear": "credential spare = basic credential desk = bear",
	} {
		load := func(text string) *schema.Definitions {
			defs, findings := check.Load([]*source.File{source.NewFile("m", text)})
			require.Zero(t, source.Errors(findings), "%v", findings)
			return defs
		}
		r := Compare(load(before), load(strings.Replace(before, old, new, 1)),
			Promise{Rollout: "unordered", Stored: "each-reads-other", Covers: []string{"binary", "json", "http"}})
		require.NotEmpty(t, r.Changes, new)
		size := 2
		if strings.Contains(new, "spare") {
			size = 1
		}
		assert.Equal(t, size, r.Size(), new)
		assert.Zero(t, r.Undecided(), new)
	}
}

// TestConversation judges methods, paths and credentials, with the request of
// one side and what the other answers.
func TestConversation(t *testing.T) {
	const before = `module m credential desk = bearer credential spare = key header "Spare" credential other = key cookie "a" message A { #1 id uuid #2 note text where length 2..9 } message B { #1 id uuid } message H { #1 id uuid #2 door int32? where 1..9 } message I { #1 id uuid #3 door text? } message J { #1 id uuid }
service S { call board(H, stream B) -> B http POST "/board/{id}" call tell(A) -> A http POST "/tell/{id}" 201 needs desk call see(B) -> A http GET "/tell/{id}/seen" safe needs desk | spare call free() -> () needs nothing }`
	both := Promise{Rollout: "unordered", Stored: "each-reads-other", Covers: []string{"http"}}
	for _, c := range []struct{ old, new, want string }{
		{`POST "/tell/{id}"`, `PUT "/tell/{id}"`, "breaking call-http-changed: a newer server answers POST /tell/00000000-0000-0000-0000-000000000000 with 405 wrong-method; an older server answers PUT /tell/00000000-0000-0000-0000-000000000000 with 405 wrong-method"},
		{`"/tell/{id}"`, `"/say/{id}"`, "breaking call-http-changed: a newer server answers POST /tell/00000000-0000-0000-0000-000000000000 with 404 unknown-call; an older server answers POST /say/00000000-0000-0000-0000-000000000000 with 404 unknown-call"},
		{`"/tell/{id}"`, `"/tell/{note}"`, "breaking call-http-changed: a newer server answers POST /tell/00000000-0000-0000-0000-000000000000 with 400 invalid-request: /id the field is required; an older server answers POST /tell/aa with 400 invalid-request: /note the field is required"},
		{`{id}" 201`, `{id}" 202`, "altering call-http-changed"},
		{`http POST "/tell/{id}" 201 `, ``, "breaking call-http-changed: a newer server answers POST /tell/00000000-0000-0000-0000-000000000000 with 404 unknown-call; an older server answers POST /m/s/tell with 404 unknown-call"},
		{`201 needs desk`, `201 needs desk | spare`,
			"breaking call-needs-changed: an older server answers POST /tell/00000000-0000-0000-0000-000000000000 with 401 unauthenticated to a request with header spare"},
		{`201 needs desk`, `201 needs desk + spare`,
			"breaking call-needs-changed: a newer server answers POST /tell/00000000-0000-0000-0000-000000000000 with 401 unauthenticated to a request with bearer"},
		{`201 needs desk`, `201`, "breaking call-needs-changed: an older server answers POST /tell/00000000-0000-0000-0000-000000000000 with 401 unauthenticated to a request with no credential"},
		{`tell(A) -> A http POST "/tell/{id}" 201`, `tell(stream A) -> stream A http GET "/tell" safe`,
			"breaking call-http-changed: a newer server answers POST /tell/00000000-0000-0000-0000-000000000000 with 404 unknown-call; an older server answers GET /tell with 404 unknown-call"},
		{`tell(A) -> A http POST "/tell/{id}" 201`, `tell(A) -> stream A http POST "/tell/{id}" 201`,
			"breaking call-stream-changed: a newer server answers POST /tell/00000000-0000-0000-0000-000000000000 with 406 not-acceptable; an older server answers POST /tell/00000000-0000-0000-0000-000000000000 with 406 not-acceptable"},
		{`board(H, stream B) -> B http POST "/board/{id}"`, `board(stream B) -> B http POST "/board"`,
			"breaking call-head-changed: an older server answers POST /board with 404 unknown-call"},
		{`board(H, stream B)`, `board(I, stream B)`,
			"breaking call-head-changed: an older server answers POST /board/00000000-0000-0000-0000-000000000000?door= with 400 invalid-request: /door expected int32, found the end in the query; an older server answers POST /board/00000000-0000-0000-0000-000000000000?door=0 with 400 invalid-request: /door must be 1 to 9, not 0 in the query"},
		{`board(H, stream B)`, `board(J, stream B)`,
			"altering call-head-changed"},
		{`board(H, stream B)`, `board(H, stream A)`,
			"compatible call-request-changed"},
		{`#2 door int32? where 1..9`, `#2 door int32? where 1..8`,
			"breaking field-bounds-changed: a newer server answers POST /board/00000000-0000-0000-0000-000000000000?door=9 with 400 invalid-request: /door must be 1 to 8, not 9 in the query"},
		{`#2 door int32? where 1..9`, `#2 door int32? where 1..9 in header "Door"`,
			"breaking field-place-changed: a newer server finds no /door, where 1 was written; an older server finds no /door, where 1 was written"},
		{`#2 door int32? where 1..9`, `#2 door int32 where 1..9`,
			"breaking field-presence-changed: a newer server answers POST /board/00000000-0000-0000-0000-000000000000 with 400 invalid-request: /door is required in the query"},
		{`#2 door int32? where 1..9`, `#2 door int32? where 1..9 #3 side text`,
			"breaking field-added: a newer server answers POST /board/00000000-0000-0000-0000-000000000000 with 400 invalid-request: /side is required in the query"},
		{`desk | spare`, `spare | desk`, ""},
		{`needs desk | spare`, `needs desk | spare | nothing`,
			"breaking call-needs-changed: an older server answers GET /tell/00000000-0000-0000-0000-000000000000/seen with 401 unauthenticated to a request with no credential"},
		{`desk = bearer`, `desk = bearer "JWT"`, "compatible credential-changed"},
		{`desk = bearer`, `desk = basic`, "breaking credential-changed: a newer server answers GET /tell/00000000-0000-0000-0000-000000000000/seen with 401 unauthenticated to a request with bearer; an older server answers GET /tell/00000000-0000-0000-0000-000000000000/seen with 401 unauthenticated to a request with basic"},
		{`"Spare"`, `"spare"`, "compatible credential-changed"},
		{`credential other = key cookie "a"`, ``, "compatible credential-gone"},
		{`cookie "a"`, `cookie "b"`, "compatible credential-changed"}, // no call needs it
	} {
		load := func(text string) *schema.Definitions {
			defs, findings := check.Load([]*source.File{source.NewFile("m", text)})
			require.Zero(t, source.Errors(findings), "%s: %v", text, findings)
			return defs
		}
		r := Compare(load(before), load(strings.Replace(before, c.old, c.new, 1)), both)
		if c.want == "" {
			assert.Empty(t, r.Changes, c.new)
			continue
		}
		require.NotEmpty(t, r.Changes, c.new)
		f := r.Changes[0]
		got := f.Verdict().String() + " " + string(f.Kind)
		var proofs []string
		for _, e := range f.Effects {
			if e.Verdict == verdict.Breaking {
				require.NotNil(t, e.Proof, c.new)
				if proof := e.Proof.Reader + " " + e.Proof.Outcome; !slices.Contains(proofs, proof) {
					proofs = append(proofs, proof)
				}
			}
		}
		if len(proofs) > 0 {
			got += ": " + strings.Join(proofs, "; ")
		}
		assert.True(t, strings.HasPrefix(got, c.want), "%s: %s\nnot %s", c.new, got, c.want)
	}
	// Of a client that leads, only what a newer client sends matters.
	leads := both
	leads.Rollout = "server-leads"
	loosened := strings.Replace(before, "201 needs desk", "201 needs desk | spare", 1)
	defs, _ := check.Load([]*source.File{source.NewFile("m", before)})
	next, _ := check.Load([]*source.File{source.NewFile("m", loosened)})
	assert.Equal(t, verdict.Compatible, Compare(defs, next, leads).Changes[0].Verdict())
}

// TestThroughUnions holds that what only a union leads to is judged where the
// union is used, with a proof that goes through it.
func TestThroughUnions(t *testing.T) {
	const before = `module m union Way { #1 foot Foot #2 group [Foot] json "people" #3 deep {text: Car} } message Foot { #1 dogs int32? #2 deck Deck } message Car { #1 plate text } enum Deck { #0 open #1 car }
message Ask { #1 way Way } message Answer { #1 ways [Way] } service S { call ask(Ask) -> Answer }`
	for _, c := range []struct{ old, new, want, json string }{
		{"#1 dogs int32?", "#1 dogs int32", "field-presence-changed request true", `{"way":{"foot":{"deck":"open"}}}`},
		{"#1 plate text", "#1 plate text #2 metres int32", "field-added request true", `{"way":{"deep":{"":{"plate":""}}}}`},
		{"#1 plate text", "#1 plate int32", "field-type-changed request true", `{"way":{"deep":{"":{"plate":""}}}}`},
		{"#1 car", "#1 cars", "member-renamed request true", `{"way":{"foot":{"deck":"car"}}}`},
	} {
		load := func(text string) *schema.Definitions {
			defs, findings := check.Load([]*source.File{source.NewFile("m", text)})
			require.Zero(t, source.Errors(findings), "%s: %v", text, findings)
			return defs
		}
		r := Compare(load(before), load(strings.Replace(before, c.old, c.new, 1)),
			Promise{Rollout: "server-leads", Stored: "each-reads-other", Covers: []string{"binary", "json"}})
		require.Len(t, r.Changes, 1, c.new)
		f := r.Changes[0]
		require.Equal(t, verdict.Breaking, f.Verdict(), c.new)
		e := f.Effects[0]
		assert.Equal(t, c.want, fmt.Sprintf("%s %s %t", f.Kind, e.Position, e.NewReads), c.new)
		require.NotNil(t, e.Proof, c.new)
		assert.Equal(t, c.json, e.Proof.JSON, c.new)
		for _, e := range f.Effects {
			assert.NotEqual(t, verdict.Stored, e.Position, "calls use it: it is not kept alone")
		}
	}
}

// TestPlaces judges where the fields of a request travel, and what travels there
// by its text.
func TestPlaces(t *testing.T) {
	const before = `module m enum Deck { #0 open #1 car } message A { #1 id uuid #2 deck Deck = open in query #3 since date? in header "Since" #4 note text? #5 tags [int32] in query "tag" #6 level int32 in query }
service S { call tell(A) -> () http POST "/tell/{id}" needs nothing call see(B) -> () http GET "/see" safe needs nothing } message B { #1 page int32 #2 word text? where length 1..9 in query "q" }`
	for _, c := range []struct{ old, new, want string }{
		{`in header "Since"`, `in query`, `http breaking field-place-changed: a newer server finds no /since, where "1970-01-01" was written; an older server finds no /since`},
		{`in header "Since"`, ``, "http breaking field-place-changed: a newer server finds no /since, where \"1970-01-01\" was written; an older server answers POST /tell/00000000-0000-0000-0000-000000000000?deck=open&level=0 with 400 invalid-request: /since travels in the header, and must not come in the body too"},
		{`in query "tag"`, `in query "tags"`, "http breaking field-place-changed: a newer server reads /tags as [], where [0] was written; an older server reads /tags as [], where [0] was written"},
		{`deck Deck = open in query`, `deck Deck = open in cookie`,
			"http breaking field-place-changed: a newer server reads /deck as open, where car was written; an older server reads /deck as open, where car was written"},
		{`#6 level int32 in query`, `#6 height int32 in query`,
			"http breaking field-renamed: a newer server answers POST /tell/00000000-0000-0000-0000-000000000000?deck=open&level=0 with 400 invalid-request: /height is required in the query; an older server answers POST /tell/00000000-0000-0000-0000-000000000000?deck=open&height=0 with 400 invalid-request: /level is required in the query"},
		{`#5 tags [int32] in query "tag"`, `#5 marks [int32] in query "tag"`, " compatible field-renamed"},
		{`#4 note text?`, `#4 remark text?`, "json breaking field-renamed"},
		{`#6 level int32`, `#6 level int64`, "http breaking field-type-changed"},
		{`#6 level int32`, `#6 level [int32]`, "http breaking field-type-changed"}, // several have no place in one
		{`length 1..9`, `length 1..5`, "http breaking field-bounds-changed"},
		{`#1 page int32`, `#1 page int32 #3 more bool in header "More"`, "http breaking field-added"},
		{`#1 page int32`, `#1 page int32 #3 more bool? in header "More"`, " compatible field-added"},
	} {
		load := func(text string) *schema.Definitions {
			defs, findings := check.Load([]*source.File{source.NewFile("m", text)})
			require.Zero(t, source.Errors(findings), "%s: %v", text, findings)
			return defs
		}
		r := Compare(load(before), load(strings.Replace(before, c.old, c.new, 1)),
			Promise{Rollout: "unordered", Stored: "each-reads-other", Covers: []string{"binary", "json", "http"}})
		require.NotEmpty(t, r.Changes, c.new)
		f := r.Changes[0]
		encoding := ""
		var proofs []string
		for _, e := range f.Effects {
			if e.Verdict != verdict.Breaking {
				continue
			}
			if encoding == "" {
				encoding = e.Covers
			}
			require.NotNil(t, e.Proof, "%s: %s", c.new, e.Sentence)
			if e.Covers == "http" {
				proofs = append(proofs, e.Proof.Reader+" "+e.Proof.Outcome)
			}
		}
		got := fmt.Sprintf("%s %s %s: %s", encoding, f.Verdict(), f.Kind, strings.Join(proofs, "; "))
		assert.True(t, strings.HasPrefix(got, c.want), "%s\ngot  %s\nwant %s", c.new, got, c.want)
	}
	// One value in a parameter is a list of one, for a newer server.
	defs := func(text string) *schema.Definitions {
		d, _ := check.Load([]*source.File{source.NewFile("m", text)})
		return d
	}
	r := Compare(defs(before), defs(strings.Replace(before, "#6 level int32", "#6 level [int32]", 1)),
		Promise{Rollout: "server-leads", Covers: []string{"binary", "json", "http"}})
	assert.Equal(t, verdict.Compatible, r.Changes[0].Verdict())
}

// TestTenThousandTypes compares ten thousand types with two thousand changes,
// proofs included. The targets are 0.5 s, and five times what it takes to parse
// both sides.
func TestTenThousandTypes(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	build := func(changed bool) []*source.File {
		var files []*source.File
		for file := range 20 {
			var b strings.Builder
			fmt.Fprintf(&b, "module big.m%d\n", file)
			for i := range 500 {
				seats, note := "int32", "text? where length 1..80"
				if changed && i%10 == 0 {
					seats = "int64"
				}
				if changed && i%10 == 5 {
					note = "text? where length 1..40"
				}
				fmt.Fprintf(&b, "message Leg%d { #1 id uuid #2 seats %s #3 next Leg%d? #4 names [text] #5 note %s }\n", i, seats,
					(i+1)%500, note)
			}
			b.WriteString("service Legs {\n")
			for i := 0; i < 500; i += 25 {
				fmt.Fprintf(&b, "call get_%d(Leg%d) -> Leg%d\n", i, i, i)
			}
			b.WriteString("}\n")
			files = append(files, source.NewFile(fmt.Sprintf("m%d", file), b.String()))
		}
		return files
	}
	var r *Report
	var comparing, parsing time.Duration
	quick := func(seconds float64) bool { return seconds < 0.5 }
	seconds := toolchain.Measured(quick, func() float64 {
		start := time.Now()
		old, findings := check.Load(build(false))
		require.Zero(t, source.Errors(findings))
		new, _ := check.Load(build(true))
		parsing = time.Since(start)
		start = time.Now()
		r = Compare(old, new, Promise{Rollout: "server-leads", Stored: "each-reads-other",
			Covers:    []string{"binary", "json", "http"},
			Languages: languages})
		comparing = time.Since(start)
		return comparing.Seconds()
	})
	require.Len(t, r.Changes, 2000)
	for _, f := range r.Changes {
		require.Equal(t, verdict.Breaking, f.Verdict())
		require.NotNil(t, f.Effects[0].Proof)
	}
	t.Logf("comparing 10,000 types with 2,000 changes takes %.2f s (target 0.5), %.1f times as long as parsing both "+
		"(target 5)", seconds, float64(comparing)/float64(parsing))
	assert.Less(t, seconds, 5.0)
}

// TestEveryKindIsExplained holds the entries against the kinds that there are.
func TestEveryKindIsExplained(t *testing.T) {
	known := Kinds()
	assert.Equal(t, len(known), len(slices.Compact(slices.Clone(known))), "each once")
	text, err := os.ReadFile("change/kinds.go")
	require.NoError(t, err)
	kinds := regexp.MustCompile(`(?m)^\t[A-Z][A-Za-z]+ +Kind = "([a-z-]+)"`).FindAllStringSubmatch(string(text), -1)
	assert.Len(t, known, len(kinds))
	for _, m := range kinds {
		assert.Contains(t, known, m[1])
	}
}
