package compare

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// talk is a service that can be changed at random and written as text.
type talk struct {
	calls []talkCall
}

type talkCall struct {
	name, method, path string // the path with fields in braces; "" for the default one
	status             string
	needs              string
	clauses            string // safe or idempotent
	request            string // "A", "stream A" or ""; likewise the answer
	answer             string
	fields             []talkField
}

type talkField struct {
	number         int
	name, typ      string
	presence       string
	bounds, marker string // marker places it
}

func (m talk) clone() talk {
	m.calls = slices.Clone(m.calls)
	for i := range m.calls {
		m.calls[i].fields = slices.Clone(m.calls[i].fields)
	}
	return m
}

func (m talk) text() string {
	var b strings.Builder
	b.WriteString("module skerry.talk\nenum Deck { #0 open #1 car }\nenum Level { #0 open #1 saloon }\ntype Code = text where pattern \"^[A-Z]{2}$\"\nmessage Answer { #1 x int32 }\n")
	b.WriteString("credential desk = bearer\ncredential gate = key header \"X-Gate\"\ncredential pass = key query \"pass\"\n")
	for i, c := range m.calls {
		fmt.Fprintf(&b, "message Request%d {\n", i)
		for _, f := range c.fields {
			fmt.Fprintf(&b, "  #%d %s %s%s%s%s\n", f.number, f.name, f.typ, f.presence, f.bounds, f.marker)
		}
		b.WriteString("}\n")
	}
	b.WriteString("service Talks {\n")
	for i, c := range m.calls {
		request := strings.ReplaceAll(c.request, "R", fmt.Sprintf("Request%d", i))
		answer := c.answer
		fmt.Fprintf(&b, "  call %s(%s) -> %s\n", c.name, request, answer)
		if c.path != "" {
			fmt.Fprintf(&b, "    http %s %q%s\n", c.method, c.path, c.status)
		}
		fmt.Fprintf(&b, "    %s\n    needs %s\n", c.clauses, c.needs)
	}
	b.WriteString("}\n")
	return b.String()
}

func pick(t *rapid.T, what string, of ...string) string { return rapid.SampledFrom(of).Draw(t, what) }

func drawPlacedType(t *rapid.T) string {
	types := []string{"Deck", "Level", "Code", "[text]", "[int32]", "[Code]", "[Deck]"}
	for _, s := range schema.Scalars {
		if s.Kind != schema.KindAny && s.Kind != schema.KindBytes {
			types = append(types, s.Word)
		}
	}
	return pick(t, "type", types...)
}

func drawPlacedField(t *rapid.T, number int) talkField {
	f := talkField{number: number, name: pick(t, "name", "deck", "level", "since", "word", "tags"), typ: drawPlacedType(t)}
	f.bounds = drawBounds(t, f.typ)
	if !strings.HasPrefix(f.typ, "[") {
		f.presence = pick(t, "presence", "", "?", "")
	}
	f.marker = drawMarker(t)
	return f
}

func drawMarker(t *rapid.T) string {
	return pick(t, "place", "", " in query", " in query \"q\"", ` in header "X-Word"`, ` in header "x-word"`, " in cookie", ` in query "level"`)
}

func drawCall(t *rapid.T, name string) talkCall {
	c := talkCall{name: name, method: pick(t, "method", "GET", "POST", "PUT", "DELETE"), needs: pick(t, "needs", "nothing", "nothing", "desk", "desk | gate", "desk + gate", "pass", "gate | nothing"), request: "R", answer: pick(t, "answer", "Answer", "Answer", "()", "stream Answer")}
	c.path = pick(t, "path", "", "/ask", "/ask/{id}", "/ask/{id}/more", "/tell/{id}", "/ask/latest")
	c.status = pick(t, "status", "", "", " 201", " 202")
	switch {
	case c.answer == "()" && c.status != "":
		c.status = ""
	case strings.HasPrefix(c.answer, "stream"):
		c.status = ""
	}
	if c.path == "" {
		c.request = pick(t, "request", "R", "R", "", "stream R")
	}
	if c.method == "GET" || pick(t, "safe", "", "safe") != "" {
		c.clauses = "safe"
	}
	if strings.Contains(c.path, "{id}") || rapid.Bool().Draw(t, "id") {
		typ := pick(t, "id type", "text", "int32", "uuid", "Deck", "Code", "text")
		c.fields = append(c.fields, talkField{number: 1, name: "id", typ: typ, bounds: drawBounds(t, typ)})
	}
	for n := range rapid.IntRange(0, 2).Draw(t, "fields") {
		c.fields = append(c.fields, drawPlacedField(t, n+2))
	}
	if c.path == "" {
		for i := range c.fields {
			c.fields[i].marker = ""
		}
	}
	return c
}

func drawTalk(t *rapid.T) talk {
	var m talk
	for i := range rapid.IntRange(1, 2).Draw(t, "calls") {
		m.calls = append(m.calls, drawCall(t, []string{"ask", "tell"}[i]))
	}
	return m
}

// changeTalk changes a service in one way; what makes no sense is refused by the front end.
func changeTalk(t *rapid.T, m talk) talk {
	m = m.clone()
	c := &m.calls[rapid.IntRange(0, len(m.calls)-1).Draw(t, "call")]
	switch rapid.IntRange(0, 14).Draw(t, "change") {
	case 0:
		c.method = pick(t, "method", "GET", "POST", "PUT", "DELETE")
	case 1:
		c.path = pick(t, "path", "", "/ask", "/ask/{id}", "/ask/{id}/more", "/tell/{id}", "/ask/latest")
	case 2:
		c.status = pick(t, "status", "", " 201", " 202")
	case 3:
		c.needs = pick(t, "needs", "nothing", "desk", "desk | gate", "desk + gate", "pass", "gate | nothing")
	case 4:
		c.answer = pick(t, "answer", "Answer", "()", "stream Answer")
	case 5:
		c.request = pick(t, "request", "R", "", "stream R")
	case 6:
		c.name = pick(t, "name", "ask", "tell", "say")
	case 7:
		m.calls = append(m.calls, drawCall(t, "added"))
	case 8:
		if len(m.calls) > 1 {
			m.calls = m.calls[:1]
		}
	case 9:
		c.fields = append(c.fields, drawPlacedField(t, 9))
	default:
		if len(c.fields) == 0 {
			return m
		}
		f := &c.fields[rapid.IntRange(0, len(c.fields)-1).Draw(t, "field")]
		switch rapid.IntRange(0, 5).Draw(t, "of the field") {
		case 0:
			f.typ = drawPlacedType(t)
			f.bounds = drawBounds(t, f.typ)
		case 1:
			f.bounds = drawBounds(t, f.typ)
		case 2:
			f.presence = pick(t, "presence", "", "?")
		case 3:
			f.marker = drawMarker(t)
		case 4:
			f.name = pick(t, "name", "deck", "level", "since", "word", "tags")
		case 5:
			c.fields = slices.DeleteFunc(c.fields, func(g talkField) bool { return g == *f })
		}
	}
	return m
}

// TestHTTPTruth holds verdicts on conversations against what servers really answer: for
// every promise, requests that older clients make are sent to newer servers, or the other
// way round. A request that fails or is taken otherwise where nothing is said to break
// fails the test, and so does a break that no request shows.
func TestHTTPTruth(t *testing.T) {
	seen := map[Verdict]int{}
	rapid.Check(t, func(t *rapid.T) {
		before := drawTalk(t)
		after := before
		for range rapid.IntRange(1, 2).Draw(t, "changes") {
			after = changeTalk(t, after)
		}
		texts := [2]string{before.text(), after.text()}
		old, new := load(t, texts[0]), load(t, texts[1])
		servers := map[*schema.Definitions]*remote.Counterpart{}
		for _, defs := range []*schema.Definitions{old, new} {
			server, err := remote.NewCounterpart(defs)
			require.NoError(t, err)
			servers[defs] = server
		}
		for _, rollout := range []string{"server-leads", "client-leads", "unordered"} {
			promise := Promise{Rollout: rollout, Kept: "each-reads-other", Forms: []string{"binary", "json", "http"}}
			verdict := Holds
			for _, f := range Compare(old, new, promise).Facts {
				for _, e := range f.Effects {
					if e.Verdict == Breaks && e.Witness == nil {
						t.Fatalf("%s: nothing shows that %s %s breaks: %s\nOLD %s\nNEW %s", rollout, f.Kind, f.Where, e.Sentence, texts[0], texts[1])
					}
				}
				verdict = max(verdict, inCalls(f))
			}
			seen[verdict]++
			if verdict == Breaks {
				continue // what shows it was sent
			}
			if failure := anyFailure(old, new, servers, promise); failure != "" {
				t.Fatalf("%s: said to be %s, and %s\nOLD %s\nNEW %s", rollout, verdict, failure, texts[0], texts[1])
			}
		}
	})
	t.Logf("verdicts by promise: %d hold, %d shift, %d break", seen[Holds], seen[Shifts], seen[Breaks])
	if seen[Breaks] == 0 || seen[Shifts] == 0 || seen[Holds] == 0 {
		t.Fatal("the random changes did not reach every verdict")
	}
}

// inCalls is the worst that is said of anything but stored data.
func inCalls(f *Fact) (worst Verdict) {
	for _, e := range f.Effects {
		if e.Position != Kept {
			worst = max(worst, e.Verdict)
		}
	}
	return worst
}

// anyFailure sends many requests of every call that both sides have, and says what
// fails.
func anyFailure(old, new *schema.Definitions, servers map[*schema.Definitions]*remote.Counterpart, promise Promise) string {
	j := &judge{differ: diff(old, new, nil), promise: promise}
	rng := rand.New(rand.NewPCG(1, uint64(len(old.Modules[0].Messages))))
	calls := slices.Clone(j.calls)
	for _, f := range j.facts {
		if f.Kind == CallGone && promise.Rollout != "client-leads" {
			calls = append(calls, callPair{f.call.old, nil})
		}
	}
	for _, c := range calls {
		meetings := []meeting{{true, c.old, nil, new}}
		if c.new != nil {
			meetings = j.meetings(c)
		}
		for _, m := range meetings {
			for _, request := range requests(rng, m.client) {
				for i := range max(1, len(m.client.Needs)) {
					for _, binary := range []bool{false, true} {
						if failure := j.send(servers[m.served], m, request, i, binary); failure != "" {
							return fmt.Sprintf("%s: %s", m.clientName(), failure)
						}
					}
				}
			}
		}
	}
	return ""
}

// send sends one request, and says what fails outside of its body.
func (j *judge) send(server *remote.Counterpart, m meeting, request *value.Message, alternative int, binary bool) string {
	var shown []*schema.Credential
	if alternative < len(m.client.Needs) {
		shown = m.client.Needs[alternative]
	}
	if m.client.RequestStream {
		if m.client.ResponseStream && m.server != nil && bothWays(m.server) {
			return "" // an upgrade can't be made in memory
		}
		request = nil
	}
	met, err := server.Meet(context.Background(), m.client, request, shown, binary)
	if err != nil {
		return "" // a client that can't send it breaks nothing
	}
	return j.cameOf(m, request, met, nil)
}

// requests are lawful ones whose path can be sent.
func requests(rng *rand.Rand, c *schema.Call) []*value.Message {
	if c.Request == nil {
		return []*value.Message{nil}
	}
	var list []*value.Message
	add := func(m *value.Message) {
		for _, s := range c.PathSegments() {
			if s.Field != nil && pathPart(m.Fields[s.Field.Number], s.Field) == "" {
				return
			}
		}
		if len(value.Validate(m)) == 0 {
			list = append(list, m)
		}
	}
	add(requestOf(c))
	for _, f := range c.Request.Fields {
		values := append(value.Edges(f.Type), value.Distinct(f.Type, f.Bounds, 6)...)
		if f.Presence != schema.Required {
			values = append(values, nil)
		}
		for _, v := range values {
			m := requestOf(c)
			if m.Fields[f.Number] = v; v == nil {
				delete(m.Fields, f.Number)
			}
			add(m)
		}
	}
	for range 10 {
		add(value.RandomMessage(rng, c.Request, 2))
	}
	return list
}
