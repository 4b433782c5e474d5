package wire

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/remote"
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
func (j *Judge) meetings(c change.CallPair) []meeting {
	var list []meeting
	if j.promise.Rollout != "client-leads" {
		list = append(list, meeting{true, c.Old, c.New, j.New})
	}
	if j.promise.Rollout != "server-leads" {
		list = append(list, meeting{false, c.New, c.Old, j.Old})
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
func (j *Judge) httpEffect(f *change.Change, m meeting, v verdict.Verdict, sentence string, w *verdict.Proof) {
	j.callEffect(f, m, verdict.Request, m.newReads, v, sentence, w)
}

func (j *Judge) callEffect(f *change.Change, m meeting, p verdict.Position, newReads bool, v verdict.Verdict,
	sentence string, w *verdict.Proof) {
	for _, e := range j.judged[f].Effects {
		if e.Covers == "http" && e.Position == p && e.NewReads == newReads && e.Sentence == sentence {
			e.Calls = append(e.Calls, callName(m.client))
			return
		}
	}
	j.add(f, &verdict.Effect{Covers: "http", Position: p, NewReads: newReads,
		Calls: []string{callName(m.client)}, Verdict: v, Sentence: sentence, Proof: w})
}

// Route judges a method or path that changed: it sends the client's request to
// the server's table of paths.
func (j *Judge) Route(f *change.Change) {
	if !j.promise.Promises("http") {
		return
	}
	for _, m := range j.meetings(f.Call) {
		if j.arrives(m) {
			j.otherStatus(f, m)
			continue
		}
		j.unreachable(f, m)
	}
}

// otherStatus tells of another status of success.
func (j *Judge) otherStatus(f *change.Change, m meeting) {
	told, answered := conversation.Status(m.client), conversation.Status(m.server)
	if told == answered {
		return
	}
	e := &verdict.Effect{Covers: "http", Position: verdict.Answer, NewReads: !m.newReads,
		Calls: []string{callName(m.client)}, Verdict: verdict.Altering,
		Sentence: fmt.Sprintf("%s answers %d where %s was told %d", m.serverName(), answered, m.clientName(), told)}
	switch {
	case !conversation.Succeeds(m.client, answered):
		e.Verdict, e.Proof = verdict.Breaking, j.meetAnswer(m, answerOf(m.server), nil)
	case conversation.Redirects(m.client):
		e.Sentence += "; stubs take any redirect"
	default:
		e.Sentence += "; stubs take any 2xx"
	}
	j.judged[f].Effects = append(j.judged[f].Effects, e)
}

// status judges an answer that is nothing now, or was: its status is another one.
func (j *Judge) status(c change.CallPair) {
	f := j.callChange(c, change.CallAnswer)
	if f == nil || !j.promise.Promises("http") || j.callChange(c, change.CallHTTP) != nil {
		return
	}
	for _, m := range j.meetings(c) {
		j.otherStatus(f, m)
	}
}

// unreachable tells of a client's request that no longer reaches its call.
func (j *Judge) unreachable(f *change.Change, m meeting) {
	j.httpEffect(f, m, verdict.Breaking, fmt.Sprintf("%s sends %s %s, and %s serves %s %s", m.clientName(),
		conversation.Method(m.client), conversation.Path(m.client), m.serverName(), conversation.Method(m.server),
		conversation.Path(m.server)), j.meet(m, nil))
}

// Renamed judges what a call's path has its name from: the call, its service or its
// module. A path of its own stays.
func (j *Judge) Renamed(f *change.Change) {
	if !j.promise.Promises("http") {
		return
	}
	for _, c := range j.Calls {
		service := c.Old.Service
		concerned := f.Call == c || f.OldDecl == schema.Declaration(service) || f.Modules.Old == service.Module
		if !concerned || c.Old.HTTP != nil || c.New.HTTP != nil {
			continue
		}
		for _, m := range j.meetings(c) {
			// One call shows what happens to all.
			if i := slices.IndexFunc(j.judged[f].Effects, func(e *verdict.Effect) bool {
				return e.Covers == "http" && e.Position == verdict.Request && e.NewReads == m.newReads
			}); i >= 0 {
				e := j.judged[f].Effects[i]
				e.Calls = append(e.Calls, callName(m.client))
				continue
			}
			j.unreachable(f, m)
		}
	}
	if f.Modules.Old != nil {
		j.otherProblem(f, func(e *schema.Message) bool { return e.Module == f.Modules.Old })
	}
}

// ErrorRenamed judges an error with another full name.
func (j *Judge) ErrorRenamed(f *change.Change) {
	j.otherProblem(f, func(e *schema.Message) bool { return schema.Declaration(e) == f.OldDecl })
}

// otherProblem tells of errors whose full name changed: clients tell them apart by that.
func (j *Judge) otherProblem(f *change.Change, concerned func(*schema.Message) bool) {
	if !j.promise.Promises("http") {
		return
	}
	for _, newReads := range j.directions(verdict.Failure) {
		e := &verdict.Effect{Covers: "http", Position: verdict.Failure, NewReads: newReads, Verdict: verdict.Breaking,
			Sentence: "clients tell errors apart by name: to the other side it is another problem"}
		for _, c := range j.Calls {
			i := slices.IndexFunc(c.Old.Fails, func(o *schema.Message) bool {
				return concerned(o) && j.Messages[o] != nil && slices.Contains(c.New.Fails, j.Messages[o])
			})
			if i < 0 {
				continue
			}
			e.Calls = append(e.Calls, callName(c.Old))
			if e.Proof == nil {
				e.Proof = j.failing(c, c.Old.Fails[i], newReads)
			}
		}
		if e.Proof != nil {
			j.add(f, e)
		}
	}
}

// intercepts judges a call that is new by its path: a request of it that another
// call takes, or a request of an older call that it takes.
func (j *Judge) intercepts(f *change.Change) {
	if !j.promise.Promises("http") {
		return
	}
	added := f.Call.New
	if j.routes == nil {
		j.routes = conversation.NewRoutes(j.Old.Calls())
	}
	for c := range j.routes.Overlapping(added) {
		for _, m := range []meeting{{true, c, added, j.New}, {false, added, c, j.Old}} {
			request, path, matches := matching(m.client, m.server)
			if !matches {
				continue
			}
			j.judged[f].Effects = append(j.judged[f].Effects,
				&verdict.Effect{Covers: "http", Position: verdict.Request, NewReads: m.newReads,
					Calls: []string{callName(m.client)}, Verdict: verdict.Breaking,
					Sentence: fmt.Sprintf("a request of %s may be %s %s, which is a path of %s, too (%s)", callName(m.client),
						conversation.Method(m.client), path, callName(m.server), conversation.Path(m.server)),
					Proof: j.meet(meeting{m.newReads, m.client, nil, m.served}, request)})
		}
	}
}

// matching makes a lawful request of one call that matches the path of another one, with
// which it overlaps.
func matching(from, to *schema.Call) (request *value.Message, path string, matches bool) {
	if from.HTTP == nil && to.HTTP == nil {
		return nil, conversation.Path(from), true
	}
	a, b := conversation.Segments(from), conversation.Segments(to)
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

// written is the value of a type whose text stands in a path.
func written(sent string, t *schema.Type) (value.Value, bool) {
	v, ok := readText(sent, t)
	return v, ok && plainOf(v, t) == sent
}

// Stream judges a side that became a stream, or is none any more: it travels
// by another method or in another media type.
func (j *Judge) Stream(f *change.Change) {
	if !j.promise.Promises("http") {
		return
	}
	for _, m := range j.meetings(f.Call) {
		sent := "a request that accepts " + conversation.MediaType(m.client.ResponseStream)
		switch {
		case conversation.BothWays(m.client) != conversation.BothWays(m.server):
			sent = opening(m.client)
		case m.client.RequestStream != m.server.RequestStream && m.client.Request == nil:
			sent = "no body"
		case m.client.RequestStream != m.server.RequestStream:
			sent = "a body of " + conversation.MediaType(m.client.RequestStream)
		}
		j.httpEffect(f, m, verdict.Breaking, fmt.Sprintf("%s sends %s, and %s expects otherwise", m.clientName(), sent,
			m.serverName()), j.meet(m, nil))
	}
}

func opening(c *schema.Call) string {
	if conversation.BothWays(c) {
		return "a GET that opens a WebSocket"
	}
	return "a " + conversation.Method(c)
}

// arrives tells whether a client's requests reach the call of the server: by the same
// method and path, whose fields are paired.
func (j *Judge) arrives(m meeting) bool {
	if conversation.Method(m.client) != conversation.Method(m.server) {
		return false
	}
	old, new := sidesOf(m.newReads, m.client, m.server)
	paired := func(x, y *schema.Field) bool {
		return old.Placed() != nil && new.Placed() != nil &&
			slices.Contains(j.Fields(old.Placed(), new.Placed()), change.FieldPair{Old: x, New: y})
	}
	return slices.EqualFunc(conversation.Segments(old), conversation.Segments(new), func(x, y schema.Segment) bool {
		if x.Field == nil || y.Field == nil {
			return x.Field == nil && y.Field == nil && x.Literal == y.Literal
		}
		return paired(x.Field, y.Field)
	})
}

// requestOf is the smallest request of a call, or head of a stream, whose path can be sent; nil
// for "()".
func requestOf(c *schema.Call) *value.Message {
	if c.Placed() == nil {
		return nil
	}
	m := value.MinimalMessage(c.Placed())
	for _, s := range conversation.Segments(c) {
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

// answerOf is the smallest answer of a call that can be sent; nil for "()".
func answerOf(c *schema.Call) *value.Message {
	if c.Response == nil {
		return nil
	}
	return remote.Sendable(c, value.MinimalMessage(c.Response))
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
	for _, s := range conversation.Segments(c) {
		if s.Field != nil {
			path += "/" + pathPart(request.Fields[s.Field.Number], s.Field)
		} else {
			path += "/" + s.Literal
		}
	}
	return path
}

// credentials judges which credentials a call needs, by what carries them:
// each alternative that a client may use must hold one that the server takes.
func (j *Judge) credentials(c change.CallPair) {
	f := j.callChange(c, change.CallNeeds)
	if !j.promise.Promises("http") {
		return
	}
	for _, m := range j.meetings(c) {
		for i, offered := range conversation.Alternatives(m.client) {
			if conversation.LetsIn(m.server, offered) {
				continue
			}
			of := f
			if of == nil {
				of = j.credentialChange(c.Old)
			}
			if of == nil {
				continue
			}
			j.httpEffect(of, m, verdict.Breaking, fmt.Sprintf("%s may send %s, and %s expects %s", m.clientName(),
				named(offered), m.serverName(), wants(m.server)),
				j.meetWith(m, nil, i))
			break
		}
	}
}

// credentialChange finds the change that a credential changed which a call needs.
func (j *Judge) credentialChange(c *schema.Call) *change.Change {
	for _, f := range j.Changes {
		if f.Kind != change.CredentialChanged {
			continue
		}
		for _, alternative := range c.Needs {
			for _, k := range alternative {
				if f.OldDecl == k {
					return f
				}
			}
		}
	}
	return nil
}

func named(carriers []string) string {
	if len(carriers) == 0 {
		return "no credential"
	}
	return strings.Join(carriers, " and ")
}

func wants(c *schema.Call) string {
	var list []string
	for _, alternative := range conversation.Alternatives(c) {
		list = append(list, named(alternative))
	}
	return strings.Join(list, " or ")
}
