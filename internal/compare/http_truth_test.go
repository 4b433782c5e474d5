package compare

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/conversation"
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
	clauses            string      // safe or idempotent
	request            string      // "R", "stream R", "R, stream Answer" or ""
	answer             string      // "A", "stream Answer" or ""
	fields             []talkField // of the request "R", or the head of a stream
	spare              []talkField // of another message that "R" may be
	swapped            bool        // whether it has been
	answers            []talkField // of the answer "A"
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
		m.calls[i].spare = slices.Clone(m.calls[i].spare)
		m.calls[i].answers = slices.Clone(m.calls[i].answers)
	}
	return m
}

func (m talk) text() string {
	var b strings.Builder
	b.WriteString("module skerry.talk\nenum Deck { #0 open #1 car }\nenum Level { #0 open #1 saloon }\ntype Code = " +
		"text where pattern \"^[A-Z]{2}$\"\nmessage Answer { #1 x int32 }\n")
	b.WriteString("credential desk = bearer\ncredential door = key header \"Door\"\ncredential pass = key query " +
		"\"pass\"\n")
	for i, c := range m.calls {
		used, spare := c.requests(i)
		fmt.Fprintf(&b, "message %s {\n", used)
		for _, f := range c.fields {
			fmt.Fprintf(&b, "  #%d %s %s%s%s%s\n", f.number, f.name, f.typ, f.presence, f.bounds, f.marker)
		}
		fmt.Fprintf(&b, "}\nmessage %s {\n", spare)
		for _, f := range c.spare { // which travels nowhere, so no field of it is placed
			fmt.Fprintf(&b, "  #%d %s %s%s%s\n", f.number, f.name, f.typ, f.presence, f.bounds)
		}
		fmt.Fprintf(&b, "}\nmessage Answer%d {\n", i)
		for _, f := range c.answers {
			fmt.Fprintf(&b, "  #%d %s %s%s%s%s\n", f.number, f.name, f.typ, f.presence, f.bounds, f.marker)
		}
		b.WriteString("}\n")
	}
	b.WriteString("service Talks {\n")
	for i, c := range m.calls {
		used, _ := c.requests(i)
		request := strings.ReplaceAll(c.request, "R", used)
		answer := c.answer
		if answer == "A" {
			answer = fmt.Sprintf("Answer%d", i)
		}
		fmt.Fprintf(&b, "  call %s(%s) -> %s\n", c.name, request, answer)
		if c.path != "" {
			fmt.Fprintf(&b, "    http %s %q%s\n", c.method, c.path, c.status)
		}
		fmt.Fprintf(&b, "    %s\n    needs %s\n", c.clauses, c.needs)
	}
	b.WriteString("}\n")
	return b.String()
}

// requests are the names of the message that is the request and of the one that is not.
func (c talkCall) requests(i int) (used, spare string) {
	used, spare = fmt.Sprintf("Request%d", i), fmt.Sprintf("Request%dSpare", i)
	if c.swapped {
		used, spare = spare, used
	}
	return used, spare
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

func drawAnswerField(t *rapid.T, number int) talkField {
	f := talkField{number: number, name: pick(t, "name", "deck", "level", "since", "word", "tags"), typ: drawPlacedType(t)}
	if f.marker = drawAnswerMarker(t); strings.Contains(f.marker, "cookie") {
		f.typ, f.presence = "text", "?"
	} else if !strings.HasPrefix(f.typ, "[") {
		f.presence = pick(t, "presence", "", "?", "")
	}
	if strings.Contains(f.marker, "ETag") || strings.Contains(f.marker, "Location") {
		f.typ = pick(t, "text", "text", "Code")
	}
	f.bounds = drawBounds(t, f.typ)
	return f
}

func drawRaw(t *rapid.T, number int) talkField {
	return talkField{number: number, name: "photo", typ: "bytes", bounds: drawBounds(t, "bytes"),
		marker: fmt.Sprintf(" in body %q", pick(t, "media", "image/*", "image/png", "*/*", "text/plain"))}
}

func drawAnswerMarker(t *rapid.T) string {
	return pick(t, "place", "", "", ` in header "Word"`, ` in header "word"`, ` in header "Level"`, " in cookie",
		` in cookie "q"`, ` in header "ETag"`, ` in header "Location"`)
}

func drawMarker(t *rapid.T) string {
	return pick(t, "place", "", " in query", " in query \"q\"", ` in header "Word"`, ` in header "word"`,
		" in cookie", ` in query "level"`)
}

func drawCall(t *rapid.T, name string) talkCall {
	c := talkCall{name: name, method: pick(t, "method", "GET", "POST", "PUT", "DELETE"),
		needs:   pick(t, "needs", "nothing", "nothing", "desk", "desk | door", "desk + door", "pass", "door | nothing"),
		request: "R", answer: pick(t, "answer", "A", "A", "A", "()", "stream Answer")}
	c.path = pick(t, "path", "", "/ask", "/ask/{id}", "/ask/{id}/more", "/tell/{id}", "/ask/latest")
	c.status = pick(t, "status", "", "", " 201", " 202", " 204", " 303")
	if rapid.IntRange(0, 3).Draw(t, "raw") == 0 {
		c.fields = append(c.fields, drawRaw(t, 8))
	}
	if rapid.IntRange(0, 3).Draw(t, "raw answer") == 0 {
		c.answers = append(c.answers, drawRaw(t, 8))
	}
	for n := range rapid.IntRange(0, 3).Draw(t, "of the answer") {
		c.answers = append(c.answers, drawAnswerField(t, n+1))
	}
	switch {
	case c.answer == "()" && c.status != "":
		c.status = ""
	case strings.HasPrefix(c.answer, "stream"):
		c.status = ""
	}
	if c.path == "" {
		c.request = pick(t, "request", "R", "R", "", "stream R", "R, stream Answer")
	} else if !strings.HasPrefix(c.answer, "stream") && rapid.IntRange(0, 3).Draw(t, "head") == 0 {
		c.request = "R, stream Answer"
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
	c.spare = slices.Clone(c.fields)
	if rapid.Bool().Draw(t, "another spare") {
		c.spare = changeFields(t, c.spare, drawMarker)
	}
	if c.path == "" {
		for i := range c.spare {
			c.spare[i].marker = ""
		}
		for i := range c.fields {
			c.fields[i].marker = ""
		}
		for i := range c.answers {
			c.answers[i].marker = ""
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
	switch rapid.IntRange(0, 23).Draw(t, "change") {
	case 0:
		c.method = pick(t, "method", "GET", "POST", "PUT", "DELETE")
	case 1:
		c.path = pick(t, "path", "", "/ask", "/ask/{id}", "/ask/{id}/more", "/tell/{id}", "/ask/latest")
	case 2:
		c.status = pick(t, "status", "", " 201", " 202", " 204", " 303", " 308")
	case 3:
		c.needs = pick(t, "needs", "nothing", "desk", "desk | door", "desk + door", "pass", "door | nothing")
	case 4:
		c.answer = pick(t, "answer", "A", "()", "stream Answer")
	case 5:
		c.request = pick(t, "request", "R", "", "stream R", "R, stream Answer")
	case 22, 23:
		c.fields, c.spare, c.swapped = c.spare, c.fields, !c.swapped
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
	case 20:
		c.fields = append(c.fields, drawRaw(t, 8))
	case 21:
		c.answers = append(c.answers, drawRaw(t, 8))
	case 10:
		c.answers = append(c.answers, drawAnswerField(t, 9))
	case 11, 12, 13, 14:
		c.answers = changeFields(t, c.answers, drawAnswerMarker)
	default:
		c.fields = changeFields(t, c.fields, drawMarker)
	}
	return m
}

// changeFields changes one field of several.
func changeFields(t *rapid.T, fields []talkField, marker func(*rapid.T) string) []talkField {
	if len(fields) == 0 {
		return fields
	}
	f := &fields[rapid.IntRange(0, len(fields)-1).Draw(t, "field")]
	if strings.HasPrefix(f.marker, " in body") {
		switch raw := drawRaw(t, f.number); rapid.IntRange(0, 4).Draw(t, "of the raw body") {
		case 0:
			f.bounds = raw.bounds
		case 1:
			f.marker = ""
		case 2:
			return slices.DeleteFunc(fields, func(g talkField) bool { return g == *f })
		default:
			f.marker = raw.marker
		}
		return fields
	}
	switch rapid.IntRange(0, 5).Draw(t, "of the field") {
	case 0:
		f.typ = drawPlacedType(t)
		f.bounds = drawBounds(t, f.typ)
	case 1:
		f.bounds = drawBounds(t, f.typ)
	case 2:
		f.presence = pick(t, "presence", "", "?")
	case 3:
		f.marker = marker(t)
	case 4:
		f.name = pick(t, "name", "deck", "level", "since", "word", "tags")
	case 5:
		fields = slices.DeleteFunc(fields, func(g talkField) bool { return g == *f })
	}
	return fields
}

// TestHTTPTruth holds verdicts on conversations against what servers really answer: for
// every promise, requests that older clients make are sent to newer servers, or the other
// way round. A request that fails or is taken otherwise where nothing is said to break
// fails the test, and so does a break that no request shows.
func TestHTTPTruth(t *testing.T) {
	seen := map[verdict.Verdict]int{}
	rapid.Check(t, func(t *rapid.T) {
		before := drawTalk(t)
		after := before
		for range rapid.IntRange(1, 2).Draw(t, "changes") {
			after = changeTalk(t, after)
		}
		texts := [2]string{before.text(), after.text()}
		old, new := load(t, texts[0]), load(t, texts[1])
		set := change.Find(old, new, nil)
		servers := map[*schema.Definitions]*remote.Counterpart{}
		for _, defs := range []*schema.Definitions{old, new} {
			server, err := remote.NewCounterpart(defs)
			require.NoError(t, err)
			servers[defs] = server
		}
		for _, rollout := range []string{"server-leads", "client-leads", "unordered"} {
			promise := Promise{Rollout: rollout, Stored: "each-reads-other", Covers: []string{"binary", "json", "http"}}
			said := verdict.Compatible
			for _, f := range Compare(old, new, promise).Changes {
				for _, e := range f.Effects {
					if e.Verdict == verdict.Breaking && e.Proof == nil {
						t.Fatalf("%s: nothing shows that %s %s breaks: %s\nOLD %s\nNEW %s", rollout, f.Kind, f.Where, e.Sentence,
							texts[0], texts[1])
					}
				}
				said = max(said, inCalls(f))
			}
			seen[said]++
			if said == verdict.Breaking {
				continue // what shows it was sent
			}
			if failure := anyFailure(set, servers, rollout); failure != "" {
				t.Fatalf("%s: said to be %s, and %s\nOLD %s\nNEW %s", rollout, said, failure, texts[0], texts[1])
			}
		}
	})
	t.Logf("verdicts by promise: %d compatible, %d altering, %d breaking", seen[verdict.Compatible],
		seen[verdict.Altering],
		seen[verdict.Breaking])
	if seen[verdict.Breaking] == 0 || seen[verdict.Altering] == 0 || seen[verdict.Compatible] == 0 {
		t.Fatal("the random changes did not reach every verdict")
	}
}

// inCalls is the worst that is said of anything but stored data.
func inCalls(f *Change) (worst verdict.Verdict) {
	for _, e := range f.Effects {
		if e.Position != verdict.Stored {
			worst = max(worst, e.Verdict)
		}
	}
	return worst
}

// anyFailure sends many requests of every call that both sides have, and says what
// fails.
func anyFailure(set *change.Set, servers map[*schema.Definitions]*remote.Counterpart, rollout string) string {
	rng := rand.New(rand.NewPCG(1, uint64(len(set.Old.Modules[0].Messages))))
	type meeting struct {
		newServer      bool
		client, server *schema.Call
		served         *schema.Definitions
	}
	var meetings []meeting
	for _, c := range set.Calls {
		if rollout != "client-leads" {
			meetings = append(meetings, meeting{true, c.Old, c.New, set.New})
		}
		if rollout != "server-leads" {
			meetings = append(meetings, meeting{false, c.New, c.Old, set.Old})
		}
	}
	for _, c := range set.Changes {
		if c.Kind == change.CallGone && rollout != "client-leads" {
			meetings = append(meetings, meeting{true, c.Call.Old, nil, set.New})
		}
	}
	for _, m := range meetings {
		if m.server != nil && !m.client.ResponseStream && !m.server.ResponseStream {
			for _, answer := range answers(rng, m.server) {
				for _, binary := range []bool{false, true} {
					if failure := give(servers[m.served], oracle{set, !m.newServer}, m.client, m.server, answer,
						binary); failure != "" {
						return fmt.Sprintf("a client (of a newer server: %v): %s", m.newServer, failure)
					}
				}
			}
		}
		for _, request := range requests(rng, m.client) {
			for i := range max(1, len(m.client.Needs)) {
				for _, binary := range []bool{false, true} {
					if failure := send(servers[m.served], oracle{set, m.newServer}, m.client, m.server, request, i,
						binary); failure != "" {
						return fmt.Sprintf("a client (of a newer server: %v): %s", m.newServer, failure)
					}
				}
			}
		}
	}
	return ""
}

// send sends one request, and says what fails outside of its body.
func send(server *remote.Counterpart, o oracle, client, served *schema.Call, request *value.Message, alternative int,
	binary bool) string {
	var shown []*schema.Credential
	if alternative < len(client.Needs) {
		shown = client.Needs[alternative]
	}
	if client.RequestStream {
		if conversation.BothWays(client) && served != nil && conversation.BothWays(served) {
			return "" // an upgrade can't be made in memory
		}
	}
	met, err := server.Meet(context.Background(), client, request, shown, binary)
	if err != nil {
		return "" // a client that can't send it breaks nothing
	}
	sent := fmt.Sprintf("%s %s", met.Method, met.Target)
	switch {
	case met.Problem != nil:
		return fmt.Sprint(sent, ": ", met.Problem.Error(), met.Problem.Violations)
	case met.Status >= 400:
		return fmt.Sprint(sent, ": ", met.Status)
	case served == nil || met.Served != "" && met.Served != served.FullName():
		return sent + " is taken for " + met.Served
	case conversation.BothWays(client) && met.Status != http.StatusSwitchingProtocols:
		return sent + " opens no WebSocket"
	case met.Err != nil:
		return fmt.Sprint(sent, " is answered ", met.Status, ", which is not understood: ", met.Err)
	case client.RequestStream && !client.ResponseStream && client.Response != nil && conversation.AnswerHasBody(client) &&
		met.Status == http.StatusNoContent:
		return sent + " is answered with nothing"
	case conversation.Raw(served) != nil && conversation.Raw(client) == nil:
		return sent + ": its body is taken for a raw one"
	case request == nil || met.Request == nil:
		return ""
	}
	for _, p := range o.sides(client.Placed(), served.Placed()) {
		if p.Old == nil || p.New == nil {
			continue
		}
		was, written := request.Fields[p.Old.Number]
		if !written {
			continue
		}
		found, there := met.Request.Fields[p.New.Number]
		a, b := thing{was, p.Old.Type}, thing{found, p.New.Type}
		v := verdict.Breaking
		if there {
			v, _ = o.same(a, was, b)
		}
		inBody := conversation.PlaceOf(client, p.Old).Place == conversation.InBody &&
			conversation.PlaceOf(served, p.New).Place == conversation.InBody
		if v == verdict.Breaking && (inBody || !there || !slices.Equal(texts(a), texts(b))) {
			return fmt.Sprintf("%s: %s is read otherwise", sent, p.New.Name)
		}
	}
	for i, s := range conversation.Segments(served) {
		own := conversation.Segments(client)
		if s.Field != nil && i < len(own) && own[i].Field == nil {
			return fmt.Sprintf("%s: a part of the path is read as %s", sent, s.Field.Name)
		}
	}
	return ""
}

// give has a server give an answer, and says what of it its client does not take.
func give(server *remote.Counterpart, o oracle, client, served *schema.Call, answer *value.Message,
	binary bool) string {
	met, err := server.MeetAnswer(context.Background(), client, served, requestOf(client), requestOf(served), answer,
		binary)
	text := ""
	if answer != nil {
		b, _ := value.EncodeJSON(answer)
		text = string(b)
	}
	switch {
	case err != nil:
		return "" // what can't be given breaks nothing
	case conversation.AnswerRaw(client) != nil && conversation.AnswerRaw(served) == nil:
		return fmt.Sprintf("the answer %s is taken for a raw one", text)
	case met.Err != nil:
		return fmt.Sprintf("the answer %d %v of %s is not understood: %v", met.Status, met.Header, text, met.Err)
	case answer == nil || met.Answer == nil:
		return ""
	}
	places := func(c *schema.Call, f *schema.Field) conversation.Place {
		for _, p := range conversation.AnswerPlaces(c) {
			if p.Field == f {
				return p.Place
			}
		}
		return ""
	}
	for _, p := range o.sides(served.Response, client.Response) {
		if p.Old == nil || p.New == nil {
			continue
		}
		was, written := answer.Fields[p.Old.Number]
		if !written {
			continue
		}
		found, there := met.Answer.Fields[p.New.Number]
		a, b := thing{was, p.Old.Type}, thing{found, p.New.Type}
		v := verdict.Breaking
		if there {
			v, _ = o.same(a, was, b)
		}
		byText := (places(served, p.Old) != conversation.InBody || places(client, p.New) != conversation.InBody) &&
			(a.kind() != "number" || p.Old.Type.Kind != schema.KindEnum || p.New.Type.Kind != schema.KindEnum)
		if v == verdict.Breaking && (!byText || !there || !slices.Equal(texts(a), texts(b))) {
			return fmt.Sprintf("the answer %s: %s is read otherwise", text, p.New.Name)
		}
	}
	return ""
}

// answers are lawful ones of a call that can be sent.
func answers(rng *rand.Rand, c *schema.Call) []*value.Message {
	if c.Response == nil {
		return []*value.Message{nil}
	}
	var list []*value.Message
	smallest := func() *value.Message { return remote.Sendable(c, value.MinimalMessage(c.Response)) }
	add := func(m *value.Message) {
		for _, p := range conversation.AnswerOutside(c) {
			if v, there := m.Fields[p.Field.Number]; there && !p.Sendable(texts(thing{v, p.Field.Type})[0]) {
				return
			}
		}
		if body, _ := conversation.SplitAnswer(c); body != nil && !conversation.AnswerHasBody(c) {
			for _, f := range body.Fields {
				if _, there := m.Fields[f.Number]; there {
					return
				}
			}
		}
		if len(value.Validate(m)) == 0 {
			list = append(list, m)
		}
	}
	add(smallest())
	for _, f := range c.Response.Fields {
		values := append(value.Edges(f.Type), value.Distinct(f.Type, f.Bounds, 6)...)
		if f.Presence != schema.Required {
			values = append(values, nil)
		}
		for _, v := range values {
			m := smallest()
			if m.Fields[f.Number] = v; v == nil {
				delete(m.Fields, f.Number)
			}
			add(m)
		}
	}
	for range 10 {
		add(value.RandomMessage(rng, c.Response, 2))
	}
	return list
}

// texts are what a value travels as outside of a body: one value is a list of one.
func texts(x thing) (list []string) {
	if x.kind() == "list" {
		for _, item := range x.items() {
			list = append(list, texts(item)...)
		}
		return list
	}
	return []string{strings.Trim(x.json(), `"`)}
}

// requestOf is the smallest request of a call whose path can be sent; nil for "()".
func requestOf(c *schema.Call) *value.Message {
	if c.Placed() == nil {
		return nil
	}
	m := value.MinimalMessage(c.Placed())
	for _, s := range conversation.Segments(c) {
		if f := s.Field; f != nil && !inPath(m.Fields[f.Number], f) {
			for _, v := range value.Distinct(f.Type, f.Bounds, 5) {
				if inPath(v, f) {
					m.Fields[f.Number] = v
					break
				}
			}
		}
	}
	return m
}

// inPath tells whether a value can be a part of a path.
func inPath(v value.Value, f *schema.Field) bool {
	text := texts(thing{v, f.Type})
	return len(text) == 1 && text[0] != "" && text[0] != "." && text[0] != ".."
}

// requests are lawful ones whose path can be sent.
func requests(rng *rand.Rand, c *schema.Call) []*value.Message {
	placed := c.Placed()
	if placed == nil {
		return []*value.Message{nil}
	}
	var list []*value.Message
	add := func(m *value.Message) {
		for _, s := range conversation.Segments(c) {
			if s.Field != nil && !inPath(m.Fields[s.Field.Number], s.Field) {
				return
			}
		}
		if len(value.Validate(m)) == 0 {
			list = append(list, m)
		}
	}
	add(requestOf(c))
	for _, f := range placed.Fields {
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
		add(value.RandomMessage(rng, placed, 2))
	}
	return list
}
