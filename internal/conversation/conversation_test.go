package conversation_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// quay has calls of every kind. Nothing but its text says how they travel.
const quay = `module skerry.quay
credential desk = key header "Desk"
credential crew = bearer
message Berth { #1 code text }
message Find { #1 code text #2 page int32? in header "Page" #3 tags [text] in query #4 note text? #5 sid text? in cookie "session" }
message Look { #1 code text #2 after int32? }
message Tick { #1 at int32 }
service Quay {
  needs desk | crew + desk
  call plain(Berth) -> Berth
  call nothing() -> ()
  call find(Find) -> Berth       http PUT "/berths/{code}" 201
  call look(Look) -> Berth       http GET "/berths/{code}" safe needs nothing
  call drop(Look) -> ()          http DELETE "/berths/{code}" idempotent needs crew
  call latest() -> Berth         http GET "/berths/latest" safe
  call log(Look) -> Berth        http GET "/berths/{code}/log" safe
  call first_log() -> Berth      http GET "/berths/first/log" safe
  call count(stream Tick) -> Berth
  call tail(Berth) -> stream Tick
  call talk(stream Tick) -> stream Tick
}
`

func load(t *testing.T, text string) map[string]*schema.Call {
	defs, findings := check.Load([]*source.File{source.NewFile("quay.faithful", text)})
	require.Zero(t, source.Errors(findings), "%v", findings)
	calls := map[string]*schema.Call{}
	for _, c := range defs.Calls() {
		calls[c.Name] = c
	}
	return calls
}

func TestHowCallsTravel(t *testing.T) {
	calls := load(t, quay)
	for name, want := range map[string]string{
		"plain":     "POST /skerry/quay/quay/plain 200 body",
		"nothing":   "POST /skerry/quay/quay/nothing 204 body",
		"find":      "PUT /berths/{code} 201 body: code in the path, page in the header as Page, tags in the query as tags, note in the body, sid in the cookie as session",
		"look":      "GET /berths/{code} 200: code in the path, after in the query as after",
		"drop":      "DELETE /berths/{code} 204: code in the path, after in the query as after",
		"latest":    "GET /berths/latest 200",
		"log":       "GET /berths/{code}/log 200: code in the path, after in the query as after",
		"first_log": "GET /berths/first/log 200",
		"count":     "POST /skerry/quay/quay/count 200 body",
		"tail":      "POST /skerry/quay/quay/tail 200 body",
		"talk":      "GET /skerry/quay/quay/talk 200",
	} {
		c := calls[name]
		got := fmt.Sprintf("%s %s %d", conversation.Method(c), conversation.Path(c), conversation.Status(c))
		if conversation.HasBody(c) {
			got += " body"
		}
		if len(conversation.Outside(c)) > 0 {
			var places []string
			for _, p := range conversation.Places(c) {
				places = append(places, p.Field.Name+" in "+p.String())
			}
			got += ": " + strings.Join(places, ", ")
		}
		assert.Equal(t, want, got, name)
	}
	assert.True(t, conversation.BothWays(calls["talk"]))
	assert.False(t, conversation.BothWays(calls["tail"]))
	assert.True(t, conversation.Bodiless(calls["look"]))
	assert.False(t, conversation.Bodiless(calls["find"]))
	assert.False(t, conversation.Bodiless(calls["latest"]), "there is no request at all")
}

func TestSplitRequests(t *testing.T) {
	calls := load(t, quay)
	names := func(m *schema.Message) string {
		if m == nil {
			return "nothing"
		}
		var list []string
		for _, f := range m.Fields {
			list = append(list, f.Name)
		}
		return strings.Join(list, " ")
	}
	for name, want := range map[string]string{
		"plain": "code | nothing", "nothing": "nothing | nothing", "find": "note | code page tags sid",
		"look": "nothing | code after", "count": "at | nothing",
	} {
		body, elsewhere := conversation.Split(calls[name])
		assert.Equal(t, want, names(body)+" | "+names(elsewhere), name)
	}
	assert.Nil(t, conversation.Body(calls["plain"], "PlainBody"), "the body is the request itself")
	assert.Nil(t, conversation.Body(calls["look"], "LookBody"))
	rest := conversation.Body(calls["find"], "FindBody")
	require.NotNil(t, rest)
	assert.Equal(t, "FindBody: note", rest.Name+": "+names(rest))
}

// TestRoutes: the most specific path has a request, whatever the order of the calls.
func TestRoutes(t *testing.T) {
	calls := load(t, quay)
	var forth, back []*schema.Call
	for _, c := range calls {
		forth, back = append(forth, c), append([]*schema.Call{c}, back...)
	}
	for _, routes := range []*conversation.Routes{conversation.NewRoutes(forth), conversation.NewRoutes(back)} {
		for request, want := range map[string]string{
			"GET /berths/latest":             "latest",
			"GET /berths/late%73t":           "latest",
			"GET /berths/EID-0715":           "look",
			"GET /berths/a%2Fb":              "look",
			"GET /berths/first/log":          "first_log",
			"GET /berths/latest/log":         "log",
			"PUT /berths/latest":             "find",
			"DELETE /berths/x":               "drop",
			"POST /skerry/quay/quay/plain":   "plain",
			"GET /skerry/quay/quay/talk":     "talk",
			"GET /berths/":                   "",
			"GET /berths":                    "",
			"GET /berths/x/log/more":         "",
			"PATCH /berths/x":                "",
			"GET /berths/%zz":                "",
			"POST /skerry/quay/quay/plainer": "",
		} {
			method, path, _ := strings.Cut(request, " ")
			got := ""
			if c := routes.Find(method, path); c != nil {
				got = c.Name
			}
			assert.Equal(t, want, got, request)
		}
	}
	routes := conversation.NewRoutes(forth)
	for name, want := range map[string]string{
		"latest": "latest 0, look 1", "look": "look 0, latest 2", "first_log": "first_log 0, log 1", "find": "find 0",
	} {
		var list []string
		for c, relation := range routes.Overlapping(calls[name]) {
			list = append(list, fmt.Sprintf("%s %d", c.Name, relation))
		}
		assert.Equal(t, want, strings.Join(list, ", "), name)
	}
	assert.Equal(t, "/berths/{}/log", conversation.Pattern(calls["log"]))
}

func TestCredentials(t *testing.T) {
	calls := load(t, quay)
	desk, crew := "header desk", calls["drop"].Needs[0][0].Carries()
	for _, c := range []struct {
		call  string
		shown []string
		want  bool
	}{
		{"plain", nil, false}, {"plain", []string{desk}, true}, {"plain", []string{crew}, false},
		{"plain", []string{crew, desk}, true}, {"look", nil, true}, {"drop", []string{desk}, false},
		{"drop", []string{crew}, true},
	} {
		assert.Equal(t, c.want, conversation.LetsIn(calls[c.call], c.shown), "%v", c)
	}
	assert.Equal(t, [][]string{{crew, desk}, {desk}}, conversation.Alternatives(calls["plain"]))
	assert.Equal(t, [][]string{nil}, conversation.Alternatives(calls["look"]))
}

// TestMeets: what is sent in one place is found in another one, or is not.
func TestMeets(t *testing.T) {
	at := func(place conversation.Place, name string) conversation.Placed {
		return conversation.Placed{Place: place, Name: name}
	}
	for _, c := range []struct {
		sent, read conversation.Placed
		want       bool
	}{
		{at(conversation.InHeader, "Page"), at(conversation.InHeader, "page"), true},
		{at(conversation.InQuery, "page"), at(conversation.InQuery, "Page"), false},
		{at(conversation.InQuery, "page"), at(conversation.InHeader, "page"), false},
		{at(conversation.InPath, "code"), at(conversation.InPath, "id"), true},
		{at(conversation.InCookie, "sid"), at(conversation.InCookie, "sid"), true},
	} {
		assert.Equal(t, c.want, c.sent.Meets(c.read), "%v %v", c.sent, c.read)
		assert.Equal(t, c.want, c.read.Meets(c.sent), "%v %v", c.read, c.sent)
	}
}
