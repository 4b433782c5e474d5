package compare

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// meeting is a client and a server of different age that may meet.
type meeting struct {
	newReads bool // the server is the newer one
	client   *schema.Call
	server   *schema.Call
	served   *schema.Definitions // what the server has
}

// meetings lists who may meet whom in a call, by the rollout that is promised.
func (j *judge) meetings(c callPair) []meeting {
	var list []meeting
	if j.promise.Rollout != "client-leads" {
		list = append(list, meeting{true, c.old, c.new, j.new})
	}
	if j.promise.Rollout != "server-leads" {
		list = append(list, meeting{false, c.new, c.old, j.old})
	}
	return list
}

func (m meeting) clientName() string {
	return map[bool]string{true: "an older client", false: "a newer client"}[m.newReads]
}

func (m meeting) serverName() string {
	return map[bool]string{true: "a newer server", false: "an older server"}[m.newReads]
}

// httpEffect adds an effect on a call, or the call to an effect that says the
// same of another one.
func (j *judge) httpEffect(f *Fact, m meeting, v Verdict, sentence string, w *Witness) {
	for _, e := range f.Effects {
		if e.Form == "http" && e.NewReads == m.newReads && e.Sentence == sentence {
			e.Calls = append(e.Calls, callName(m.client))
			return
		}
	}
	f.Effects = append(f.Effects, &Effect{Form: "http", Position: Request, NewReads: m.newReads, Calls: []string{callName(m.client)}, Verdict: v, Sentence: sentence, Witness: w})
}

// route judges a method or path that changed: it sends the client's request to
// the server's table of paths.
func (j *judge) route(f *Fact) {
	if !j.promised("http") {
		return
	}
	for _, m := range j.meetings(f.call) {
		if j.arrives(m) {
			j.otherStatus(f, m)
			continue
		}
		j.unreachable(f, m)
	}
}

// otherStatus tells of another status of success.
func (j *judge) otherStatus(f *Fact, m meeting) {
	if statusOf(m.client) != statusOf(m.server) {
		f.Effects = append(f.Effects, &Effect{Form: "http", Position: Answer, NewReads: !m.newReads, Calls: []string{callName(m.client)}, Verdict: Shifts,
			Sentence: fmt.Sprintf("%s answers %d where %s was told %d; stubs take any 2xx", m.serverName(), statusOf(m.server), m.clientName(), statusOf(m.client))})
	}
}

// status judges an answer that is nothing now, or was: its status is another one.
func (j *judge) status(c callPair) {
	f := j.callFact(c, CallAnswer)
	if f == nil || !j.promised("http") || j.callFact(c, CallHTTP) != nil {
		return
	}
	for _, m := range j.meetings(c) {
		j.otherStatus(f, m)
	}
}

// unreachable tells of a client's request that no longer reaches its call.
func (j *judge) unreachable(f *Fact, m meeting) {
	j.httpEffect(f, m, Breaks, fmt.Sprintf("%s sends %s %s, and %s serves %s %s", m.clientName(), travels(m.client), m.client.Path(), m.serverName(), travels(m.server), m.server.Path()), j.meet(m, nil))
}

// renamed judges what a call's path has its name from: the call, its service or
// its module. A path of its own stays.
func (j *judge) renamed(f *Fact) {
	if !j.promised("http") {
		return
	}
	for _, c := range j.calls {
		concerned := f.call == c || f.oldAny == c.old.Service || f.oldAny == c.old.Service.Module
		if !concerned || c.old.HTTP != nil || c.new.HTTP != nil {
			continue
		}
		for _, m := range j.meetings(c) {
			// One call shows what happens to all.
			if i := slices.IndexFunc(f.Effects, func(e *Effect) bool { return e.Form == "http" && e.NewReads == m.newReads }); i >= 0 {
				f.Effects[i].Calls = append(f.Effects[i].Calls, callName(m.client))
				continue
			}
			j.unreachable(f, m)
		}
	}
	if o, ok := f.oldAny.(*schema.Module); ok {
		for _, e := range o.Messages {
			if n := j.messages[e]; e.IsError() && n != nil {
				j.otherProblem(f, e.FullName(), n.FullName())
				return
			}
		}
	}
}

// otherProblem tells of an error whose full name changed.
func (j *judge) otherProblem(f *Fact, old, new string) {
	f.Effects = append(f.Effects, &Effect{Form: "http", Position: Failure, NewReads: false, Verdict: Breaks,
		Sentence: "clients tell errors apart by name: to the other side it is another problem",
		Witness:  &Witness{Message: old, Form: "json", Writer: "one side", Reader: "the other", Outcome: fmt.Sprintf("looks for /-/errors/%s and finds /-/errors/%s", old, new)}})
}

// intercepts judges a call that is new by its path: a request of it that another
// call takes, or a request of an older call that it takes.
func (j *judge) intercepts(f *Fact) {
	if !j.promised("http") {
		return
	}
	added := f.call.new
	for _, c := range j.table(j.old).near(added) {
		for _, m := range []meeting{{true, c, added, j.new}, {false, added, c, j.old}} {
			request, path, matches := matching(m.client, m.server)
			if !matches {
				continue
			}
			f.Effects = append(f.Effects, &Effect{Form: "http", Position: Request, NewReads: m.newReads, Calls: []string{callName(m.client)}, Verdict: Breaks,
				Sentence: fmt.Sprintf("a request of %s may be %s %s, which is a path of %s, too (%s)", callName(m.client), travels(m.client), path, callName(m.server), m.server.Path()),
				Witness:  j.meet(meeting{m.newReads, m.client, nil, m.served}, request)})
		}
	}
}

// matching makes a lawful request of one call whose path fits another's.
func matching(from, to *schema.Call) (request *value.Message, path string, matches bool) {
	if travels(from) != travels(to) {
		return nil, "", false
	}
	if from.HTTP == nil && to.HTTP == nil {
		return nil, from.Path(), from.Path() == to.Path()
	}
	a, b := from.PathSegments(), to.PathSegments()
	differs := func(x, y schema.Segment) bool { return x.Field == nil && y.Field == nil && x.Literal != y.Literal }
	if !slices.EqualFunc(a, b, func(x, y schema.Segment) bool { return !differs(x, y) }) {
		return nil, "", false
	}
	request = requestOf(from)
	for i := range a {
		if b[i].Field != nil || a[i].Field == nil {
			continue // a field takes any text; literals are the same
		}
		v, ok := written(b[i].Literal, a[i].Field.Type)
		if !ok {
			return nil, "", false
		}
		request.Fields[a[i].Field.Number] = v
	}
	if request != nil && len(value.Validate(request)) > 0 {
		return nil, "", false
	}
	return request, pathWith(from, request), true
}

// travels is the method that a request arrives by.
func travels(c *schema.Call) string {
	if bothWays(c) {
		return "GET"
	}
	return c.Method()
}

// written is the value of a type whose text stands in a path.
func written(sent string, t *schema.Type) (value.Value, bool) {
	v, ok := readText(sent, t)
	return v, ok && plainOf(v, t) == sent
}

// stream judges a side that became a stream, or is none any more: it travels
// by another method or in another media type.
func (j *judge) stream(f *Fact) {
	if !j.promised("http") {
		return
	}
	for _, m := range j.meetings(f.call) {
		sent := "a request that accepts " + mediaType(m.client.ResponseStream)
		switch {
		case bothWays(m.client) != bothWays(m.server):
			sent = opening(m.client)
		case m.client.RequestStream != m.server.RequestStream && m.client.Request == nil:
			sent = "no body"
		case m.client.RequestStream != m.server.RequestStream:
			sent = "a body of " + mediaType(m.client.RequestStream)
		}
		j.httpEffect(f, m, Breaks, fmt.Sprintf("%s sends %s, and %s expects otherwise", m.clientName(), sent, m.serverName()), j.meet(m, nil))
	}
}

func bothWays(c *schema.Call) bool { return c.RequestStream && c.ResponseStream }

func opening(c *schema.Call) string {
	if bothWays(c) {
		return "a GET that opens a WebSocket"
	}
	return "a " + c.Method()
}

func mediaType(stream bool) string {
	if stream {
		return "application/cbor-seq"
	}
	return "application/cbor"
}

func statusOf(c *schema.Call) int {
	switch {
	case c.HTTP != nil && c.HTTP.Status != 0:
		return c.HTTP.Status
	case c.Response == nil:
		return 204
	}
	return 200
}

// arrives tells whether a client's requests reach the call of the server: by the same
// method and path, whose fields are paired.
func (j *judge) arrives(m meeting) bool {
	if travels(m.client) != travels(m.server) {
		return false
	}
	old, new := sidesOf(m.newReads, m.client, m.server)
	paired := func(x, y *schema.Field) bool {
		return old.Request != nil && new.Request != nil && slices.Contains(j.pairs(old.Request, new.Request), fieldPair{x, y})
	}
	return slices.EqualFunc(old.PathSegments(), new.PathSegments(), func(x, y schema.Segment) bool {
		if x.Field == nil || y.Field == nil {
			return x.Field == nil && y.Field == nil && x.Literal == y.Literal
		}
		return paired(x.Field, y.Field)
	})
}

// requestOf is the smallest request of a call whose path can be sent; nil for "()".
func requestOf(c *schema.Call) *value.Message {
	if c.Request == nil {
		return nil
	}
	m := value.MinimalMessage(c.Request)
	for _, s := range c.PathSegments() {
		if f := s.Field; f != nil && pathPart(m.Fields[f.Number], f) == "" {
			for _, v := range value.Distinct(f.Type, notEmpty(f.Bounds, f.Type), 3) {
				if pathPart(v, f) != "" {
					m.Fields[f.Number] = v
					break
				}
			}
		}
	}
	return m
}

// pathPart is a value as a part of a path, or "" where it can't be one.
func pathPart(v value.Value, f *schema.Field) string {
	part := plainOf(v, f.Type)
	if part == "." || part == ".." {
		return ""
	}
	return part
}

// pathWith is the path of a request.
func pathWith(c *schema.Call, request *value.Message) string {
	path := ""
	for _, s := range c.PathSegments() {
		if s.Field != nil {
			path += "/" + pathPart(request.Fields[s.Field.Number], s.Field)
		} else {
			path += "/" + s.Literal
		}
	}
	return path
}

// table is the calls of definitions by their paths: by the whole path where it holds
// no field, and by how long it is and how it begins.
type table struct {
	literal map[string][]*schema.Call
	begins  map[beginning][]*schema.Call
}

// beginning is how a path begins: with a literal, with a field ("{}"), or in any way
// (""). No literal is one of these.
type beginning struct {
	parts   int
	first   string
	pattern bool // it holds a field
}

func beginningOf(c *schema.Call) beginning {
	segments := c.PathSegments()
	b := beginning{len(segments), "{}", literalCount(c) < len(segments)}
	if segments[0].Field == nil {
		b.first = segments[0].Literal
	}
	return b
}

// table is made once for each side.
func (j *judge) table(d *schema.Definitions) *table {
	t := j.tables[d]
	if t == nil {
		t = &table{map[string][]*schema.Call{}, map[beginning][]*schema.Call{}}
		for _, c := range d.Calls() {
			b := beginningOf(c)
			for _, first := range []string{b.first, ""} {
				key := beginning{b.parts, first, b.pattern}
				t.begins[key] = append(t.begins[key], c)
			}
			if !b.pattern {
				t.literal[c.Path()] = append(t.literal[c.Path()], c)
			}
		}
		if j.tables == nil {
			j.tables = map[*schema.Definitions]*table{}
		}
		j.tables[d] = t
	}
	return t
}

// near lists the calls whose paths may match that of another one.
func (t *table) near(c *schema.Call) (list []*schema.Call) {
	b := beginningOf(c)
	firsts := []string{""} // a field matches any literal
	if b.first != "{}" {
		firsts = []string{b.first, "{}"}
	}
	for _, first := range firsts {
		list = append(list, t.begins[beginning{b.parts, first, true}]...)
		if b.pattern {
			list = append(list, t.begins[beginning{b.parts, first, false}]...)
		}
	}
	if !b.pattern {
		list = append(list, t.literal[c.Path()]...)
	}
	return list
}

func literalCount(c *schema.Call) int {
	n := 0
	for _, s := range c.PathSegments() {
		if s.Field == nil {
			n++
		}
	}
	return n
}

// credentials judges which credentials a call needs, by what carries them:
// each alternative that a client may use must hold one that the server takes.
func (j *judge) credentials(c callPair) {
	f := j.callFact(c, CallNeeds)
	if !j.promised("http") {
		return
	}
	for _, m := range j.meetings(c) {
		for i, offered := range alternatives(m.client) {
			if letsIn(m.server, offered) {
				continue
			}
			fact := f
			if fact == nil {
				fact = j.credentialFact(c.old)
			}
			if fact == nil {
				continue
			}
			j.httpEffect(fact, m, Breaks, fmt.Sprintf("%s may send %s, and %s wants %s", m.clientName(), named(offered), m.serverName(), wants(m.server)),
				j.meetWith(m, nil, i))
			break
		}
	}
}

// letsIn tells whether a server of a call takes some credentials, by what carries them.
func letsIn(c *schema.Call, offered []string) bool {
	return slices.ContainsFunc(alternatives(c), func(wanted []string) bool {
		return !slices.ContainsFunc(wanted, func(carrier string) bool { return !slices.Contains(offered, carrier) })
	})
}

// credentialFact finds the fact that a credential changed which a call needs.
func (j *judge) credentialFact(c *schema.Call) *Fact {
	for _, f := range j.facts {
		if f.Kind != CredentialChanged {
			continue
		}
		for _, alternative := range c.Needs {
			for _, k := range alternative {
				if f.oldAny == k {
					return f
				}
			}
		}
	}
	return nil
}

// alternatives are the sets of carriers of which a call needs one.
func alternatives(c *schema.Call) [][]string {
	if len(c.Needs) == 0 {
		return [][]string{nil}
	}
	var list [][]string
	for _, alternative := range c.Needs {
		var carriers []string
		for _, k := range alternative {
			carriers = append(carriers, k.Carries())
		}
		list = append(list, carriers)
	}
	return list
}

func named(carriers []string) string {
	if len(carriers) == 0 {
		return "no credential"
	}
	return strings.Join(carriers, " and ")
}

func wants(c *schema.Call) string {
	var list []string
	for _, alternative := range alternatives(c) {
		list = append(list, named(alternative))
	}
	return strings.Join(list, " or ")
}
