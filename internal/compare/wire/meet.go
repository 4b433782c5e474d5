package wire

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/value"
)

// meet sends a request of the client's call, the smallest one unless one is given, into
// a server of the other side in memory, and tells what came of it; nil where all is as
// it should be.
func (j *Judge) meet(m meeting, request *value.Message) *verdict.Proof {
	return j.meetWith(m, request, 0)
}

// meetAbout is meet, and tells of a field first.
func (j *Judge) meetAbout(m meeting, request *value.Message, about *schema.Field) *verdict.Proof {
	return j.exchange(m, request, 0, about, false)
}

// meetAs is meet with a raw body of a media type.
func (j *Judge) meetAs(m meeting, mediaType string) *verdict.Proof {
	if server := j.counterpart(m.served); server != nil {
		server.MediaType = mediaType
		defer func() { server.MediaType = "" }()
	}
	return j.meet(m, nil)
}

// meetWith is meet with the credentials of one alternative.
func (j *Judge) meetWith(m meeting, request *value.Message, alternative int) *verdict.Proof {
	return j.exchange(m, request, alternative, nil, false)
}

func (j *Judge) exchange(m meeting, request *value.Message, alternative int, about *schema.Field,
	binary bool) *verdict.Proof {
	server := j.counterpart(m.served)
	if server == nil {
		return nil
	}
	if request == nil {
		request = requestOf(m.client)
	}
	var shown []*schema.Credential
	if alternative < len(m.client.Needs) {
		shown = m.client.Needs[alternative]
	}
	sent := request
	met, err := server.Meet(context.Background(), m.client, sent, shown, binary)
	if err != nil {
		return nil
	}
	w := &verdict.Proof{Message: m.client.FullName(), Encoding: "http", Writer: m.clientName(), Reader: m.serverName(),
		Request: met.Method + " " + met.Target}
	for _, k := range shown {
		w.Credentials = append(w.Credentials, k.FullName())
	}
	if sent != nil {
		text, _ := value.EncodeJSON(sent)
		if m.client.RequestStream {
			w.Head = string(text)
		} else {
			w.JSON = string(text)
		}
	}
	if w.Outcome = j.cameOf(m, sent, met, about); w.Outcome == "" {
		return nil
	}
	if met.Status == http.StatusUnauthorized {
		var carriers []string
		for _, k := range shown {
			carriers = append(carriers, k.Carries())
		}
		w.Outcome += " to a request with " + named(carriers)
	}
	return w
}

// sendWhole turns the proof of a body, some of whose request travels elsewhere, into
// the whole request: the body alone is nothing that one can try.
func (j *Judge) sendWhole(e *verdict.Effect, payload *value.Message) {
	if payload == nil || e.Verdict != verdict.Breaking {
		return
	}
	of, isPart := j.parts[payload.Type]
	if !isPart {
		return
	}
	e.Proof.ReadAs = ""
	newServer := e.NewReads != of.answers
	m := meeting{true, of.Old, of.New, j.New}
	if !newServer {
		m = meeting{false, of.New, of.Old, j.Old}
	}
	whole := requestOf(m.client)
	if of.answers {
		whole = answerOf(m.server)
	}
	for _, f := range payload.Type.Fields {
		if v, there := payload.Fields[f.Number]; there {
			whole.Fields[f.Number] = v
		} else {
			delete(whole.Fields, f.Number)
		}
	}
	w := (*verdict.Proof)(nil)
	if of.answers {
		w = j.answered(m, whole, nil, e.Covers == "binary")
	} else {
		w = j.exchange(m, whole, 0, nil, e.Covers == "binary")
	}
	if w != nil {
		w.Encoding = e.Covers
		e.Proof = w
	}
}

// cameOf says what came of a request, or "" where all is as it should be.
func (j *Judge) cameOf(m meeting, sent *value.Message, met *remote.Met, about *schema.Field) string {
	switch {
	case met.Problem != nil:
		text := fmt.Sprintf("answers %s %s with %d %s", met.Method, met.Target, met.Status, met.Problem.Name())
		list := met.Problem.Violations
		if len(list) == 0 {
			return text
		}
		v := list[0]
		for _, other := range list {
			if about != nil && (other.Pointer == "/"+pointerStep(about.JSONName()) ||
				strings.HasPrefix(other.Pointer, "/"+pointerStep(about.JSONName())+"/")) {
				v = other
				break
			}
		}
		in := ""
		if v.In != "" {
			in = " in the " + v.In
		}
		return text + ": " + strings.TrimSpace(v.Pointer+" "+v.Detail) + in
	case met.Status >= 400:
		return fmt.Sprintf("answers %s %s with %d", met.Method, met.Target, met.Status)
	case conversation.BothWays(m.client) && met.Status != http.StatusSwitchingProtocols:
		return fmt.Sprintf("answers %s %s with %d, and opens no WebSocket", met.Method, met.Target, met.Status)
	case met.Served != "" && (m.server == nil || met.Served != m.server.FullName()):
		return fmt.Sprintf("takes %s %s for %q", met.Method, met.Target, met.Served)
	}
	if m.server != nil && conversation.Raw(m.server) != nil && conversation.Raw(m.client) == nil {
		return fmt.Sprintf("takes the body of %s %s for %q", met.Method, met.Target, conversation.Raw(m.server).Name)
	}
	if sent != nil && met.Request != nil && m.server != nil {
		if d := j.requestDiffers(m, sent, met.Request); d.verdict == verdict.Breaking {
			return d.says(d.path)
		}
	}
	// Of a stream nobody looks into the answer.
	if c := m.client; c.RequestStream && !c.ResponseStream && conversation.AnswerHasBody(c) &&
		(met.Status == http.StatusNoContent || m.server != nil && m.server.Response == nil) {
		return fmt.Sprintf("answers %s %s with %d and nothing", met.Method, met.Target, met.Status)
	}
	if stray := j.strayPart(m, met); stray != "" {
		return stray
	}
	if met.Err != nil {
		return fmt.Sprintf("answers %d, which the client does not understand: %v", met.Status, met.Err)
	}
	return ""
}

// strayPart says which literal part of a client's path the server reads as a field.
func (j *Judge) strayPart(m meeting, met *remote.Met) string {
	if m.server == nil || met.Request == nil {
		return ""
	}
	sent := conversation.Segments(m.client)
	for i, s := range conversation.Segments(m.server) {
		if s.Field == nil || i >= len(sent) || sent[i].Field != nil {
			continue
		}
		if v, there := met.Request.Fields[s.Field.Number]; there {
			return fmt.Sprintf("reads /%s as %s, which is a part of the path and was meant for no field", s.Field.JSONName(),
				hold(v, s.Field.Type).shown())
		}
	}
	return ""
}

// requestDiffers compares a request that was sent with what the server read.
func (j *Judge) requestDiffers(m meeting, sent, got *value.Message) difference {
	var server []conversation.Placed
	if m.server != nil {
		server = conversation.Places(m.server)
	}
	return j.messageDiffers(j.textReader(m.newReads, verdict.Request), conversation.Places(m.client), server, sent, got,
		nil)
}

// messageDiffers compares a message that was sent with what was read, or one field of
// it. Outside of bodies a value is the same if its text is, and one value is a list of one.
func (j *Judge) messageDiffers(r *textReader, written, read []conversation.Placed, sent, got *value.Message,
	about *schema.Field) (worst difference) {
	sender, receiver := placed(written), placed(read)
	old, new := sidesOf(r.newReads, sent.Type, got.Type)
	for _, p := range j.Fields(old, new) {
		fw, fr := sidesOf(r.newReads, p.Old, p.New)
		if fw == nil || fr == nil || about != nil && fr != about {
			continue
		}
		v, written := sent.Fields[fw.Number]
		found, there := got.Fields[fr.Number]
		d := difference{}
		switch {
		case !written:
		case !there:
			d = difference{verdict.Breaking, "", func(path string) string {
				return fmt.Sprintf("finds no %s, where %s was written", path, hold(v, fw.Type).shown())
			}}
		case sender[fw].Place == conversation.InBody && receiver[fr].Place == conversation.InBody:
			d = r.differs(hold(v, fw.Type), hold(found, fr.Type))
		case r.position == verdict.Answer && fw.Type.Kind == schema.KindEnum && fr.Type.Kind == schema.KindEnum:
			d = r.differs(hold(v, fw.Type), hold(found, fr.Type)) // its text may be kept as one that is not listed
		case !slices.Equal(placedTexts(v, fw.Type), placedTexts(found, fr.Type)):
			if d = r.differs(hold(v, fw.Type), hold(found, fr.Type)); fw.Type.Kind != schema.KindList &&
				fr.Type.Kind == schema.KindList {
				if list := found.(value.List); len(list) == 1 {
					d = r.differs(hold(v, fw.Type), hold(list[0], fr.Type.Elem))
				}
			}
		}
		if d.verdict > worst.verdict {
			worst = d.under(fr.JSONName())
		}
	}
	return worst
}

// meetAnswer has the server of the other side give an answer, and tells what the client
// makes of it, of one field alone where one is given; nil where all is as it should be.
func (j *Judge) meetAnswer(m meeting, answer *value.Message, about *schema.Field) *verdict.Proof {
	return j.answered(m, answer, about, false)
}

func (j *Judge) answered(m meeting, answer *value.Message, about *schema.Field, binary bool) *verdict.Proof {
	server := j.counterpart(m.served)
	if server == nil {
		return nil
	}
	client := *m.client
	if about != nil {
		response := *client.Response
		response.Fields = []*schema.Field{about}
		client.Response = &response
	}
	met, err := server.MeetAnswer(context.Background(), &client, m.server, requestOf(m.client), requestOf(m.server),
		answer, binary)
	if err != nil {
		return nil
	}
	w := &verdict.Proof{Message: m.server.FullName(), Encoding: "http", Writer: m.serverName(), Reader: m.clientName(),
		Answer: answerLine(m.server, met)}
	if answer != nil {
		text, _ := value.EncodeJSON(answer)
		w.JSON = string(text)
	}
	switch {
	case met.Err != nil:
		w.Outcome = "does not understand that: " + met.Err.Error()
		var bad *web.BadAnswer
		if errors.As(met.Err, &bad) {
			w.Outcome = "does not understand that: " + bad.Err.Error()
		}
	case conversation.AnswerRaw(&client) != nil && conversation.AnswerRaw(m.server) == nil:
		w.Outcome = fmt.Sprintf("takes it for %q", conversation.AnswerRaw(&client).Name)
	case answer != nil && met.Answer != nil:
		r := j.textReader(!m.newReads, verdict.Answer)
		got := met.Answer
		if about != nil {
			got = &value.Message{Type: m.client.Response, Fields: got.Fields}
		}
		d := j.messageDiffers(r, conversation.AnswerPlaces(m.server), conversation.AnswerPlaces(m.client), answer, got,
			about)
		if d.verdict != verdict.Breaking {
			return nil
		}
		w.Outcome = d.says(d.path)
	default:
		return nil
	}
	return w
}

// answerLine is the beginning of an answer: its status, and where its fields are outside of
// the body.
func answerLine(c *schema.Call, met *remote.Met) string {
	line := fmt.Sprintf("%d %s", met.Status, http.StatusText(met.Status))
	for _, p := range conversation.AnswerOutside(c) {
		name := p.Name
		if p.Place == conversation.InCookie {
			name = "Set-Cookie"
		}
		for _, v := range met.Header.Values(name) {
			if p.Place == conversation.InHeader || strings.HasPrefix(v, p.Name+"=") {
				line += fmt.Sprintf(", %s: %s", name, v)
			}
		}
	}
	return line
}

// placedTexts are the texts that a value outside of a body travels as.
func placedTexts(v value.Value, t *schema.Type) (texts []string) {
	if list, isList := v.(value.List); isList {
		for _, element := range list {
			texts = append(texts, plainOf(element, t.Elem))
		}
		return texts
	}
	return []string{plainOf(v, t)}
}

// counterpart is a server of one side, or nil where none can be made.
func (j *Judge) counterpart(defs *schema.Definitions) *remote.Counterpart {
	server, known := j.servers[defs]
	if !known {
		if j.servers == nil {
			j.servers = map[*schema.Definitions]*remote.Counterpart{}
		}
		server, _ = remote.NewCounterpart(defs)
		j.servers[defs] = server
	}
	return server
}

// failing has the other side's server fail with its error, and tells what the client
// makes of that.
func (j *Judge) failing(c change.CallPair, old *schema.Message, newReads bool) *verdict.Proof {
	m := meeting{false, c.New, c.Old, j.Old} // the reader of errors is the client
	failure := old
	if !newReads {
		m, failure = meeting{true, c.Old, c.New, j.New}, j.Messages[old]
	}
	server := j.counterpart(m.served)
	if server == nil {
		return nil
	}
	request := requestOf(m.client)
	var shown []*schema.Credential
	if len(m.client.Needs) > 0 {
		shown = m.client.Needs[0]
	}
	met, err := server.MeetFailing(context.Background(), m.client, request, shown, failure)
	if err != nil || met.Problem == nil {
		return nil
	}
	known := slices.ContainsFunc(m.client.Fails,
		func(e *schema.Message) bool { return e.FullName() == met.Problem.Name() })
	var problem *web.Problem
	if known || met.Err != nil && !errors.As(met.Err, &problem) {
		return nil // the client has it as declared
	}
	return &verdict.Proof{Message: failure.FullName(), Encoding: "http", Writer: m.serverName(), Reader: m.clientName(),
		Request: met.Method + " " + met.Target,
		Outcome: fmt.Sprintf("is answered %d with /-/errors/%s, and declares no such error: it is another problem",
			met.Problem.Status, met.Problem.Name())}
}
