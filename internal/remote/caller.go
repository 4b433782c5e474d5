package remote

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"slices"
	"strings"
	"time"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/stubs/golang/support/wire"
	"faithfulcourier/internal/value"
)

// Options is how a caller calls.
type Options struct {
	Base        string            // of the server, as in http://127.0.0.1:8080/v1
	Binary      bool              // CBOR instead of JSON
	Unchecked   bool              // send what the definitions refuse, too
	Headers     http.Header       // of every request
	Credentials map[string]string // by name, with or without module
	Timeout     time.Duration     // 0 for a minute; of a stream until it begins, and its silence
	Limit       int64             // of an answer in bytes; 0 for 64 MiB
	Tries       int               // of calls that are safe or idempotent; 0 for 1
	Transport   http.RoundTripper // nil for that of net/http
	Raw         *web.Body         // a raw body, instead of the request's field for it; may be nil
	RawFile     string            // where it comes from, for people
	Head        []byte            // what comes before a stream of requests, in JSON; nil for a head without fields
	RawType     string            // the media type of a body that is made of a field; "" is any that is allowed
}

// Caller calls one call of a server.
type Caller struct {
	call    *schema.Call
	options Options
	web     *web.Call
	body    *schema.Message // what travels in the request's body; nil for nothing
	client  *web.Client
	seen    Exchange
	binary  bool
	intake  web.ClientMiddleware // takes the request instead of the server; nil for none
	standIn string               // stands in for credentials, while a command line is written
}

// Exchange is what a caller saw of HTTP: the last answer, and how long it took
// until its head, and until all of it, was there.
type Exchange struct {
	Status  int
	Header  http.Header
	Body    []byte // as far as it was read; of streams what came of it first
	Size    int64
	Head    time.Duration
	Whole   time.Duration
	begin   time.Time
	Request *http.Request
}

// Answer is what became of a call. Message is nil for "()", and where Refused says
// why the definitions refuse what came.
type Answer struct {
	Message *value.Message
	Refused error
	Raw     *web.Body // the body where it is one field as it is, which Message is without; to be read or closed
}

// whole reads the body of an answer that has one as it is into its field.
func (a *Answer) whole(c *schema.Call) error {
	if a == nil || a.Raw == nil {
		return nil
	}
	defer a.Raw.Close()
	content, err := io.ReadAll(io.LimitReader(a.Raw, keptBody))
	a.Message.Type = c.Response
	a.Message.Fields[conversation.AnswerRaw(c).Number] = content
	return err
}

// Declared is the error of a call that the server answers with an error that it
// declares.
type Declared struct {
	Problem *web.Problem
	Message *value.Message // nil where its fields can't be read
}

func (e *Declared) Error() string { return e.Problem.Error() }

// Refusal is the error of a request that the definitions refuse, before it is
// sent.
type Refusal struct {
	Of         *schema.Message // what was refused: the request, an element of it, or its head
	Unreadable *value.Error    // where it can't be read
	Violations []value.Violation
}

func (e *Refusal) Error() string {
	if e.Unreadable != nil {
		return e.Unreadable.Error()
	}
	return fmt.Sprintf("%d violations", len(e.Violations))
}

// keptBody is how much of an answer is kept to be shown.
const keptBody = 64 << 20

// NewCaller returns a caller of one call.
func NewCaller(c *schema.Call, options Options) *Caller {
	k := &Caller{call: c, options: options, web: callOf(c), binary: options.Binary}
	if c.Request != nil && !conversation.Bodiless(c) {
		if k.body = conversation.Body(c, c.Request.Name); k.body == nil {
			k.body = c.Request
		}
	}
	if t := k.web.Travel; t != nil {
		t.BodyOf = func(m web.Message) wire.Message { return m.(*outgoing).body }
		t.Place = func(m web.Message, p *web.Parameters) { place(t.Placed, m.(*outgoing).fields, p) }
		if t.Raw != nil {
			t.Raw.Of = func(m web.Message) *web.Body { return &m.(*outgoing).raw }
		}
	}
	k.dial()
	return k
}

// dial makes the client, in the encoding that is set.
func (k *Caller) dial() {
	o := k.options
	if o.Timeout == 0 {
		o.Timeout = time.Minute
	}
	if o.Limit == 0 {
		o.Limit = keptBody
	}
	options := []web.ClientOption{web.WithTimeout(o.Timeout), web.WithStreamIdle(o.Timeout),
		web.WithTries(max(1, o.Tries)), web.WithAnswerLimit(o.Limit),
		web.WithStreamElementLimit(int(o.Limit)), web.WithClientMiddleware(k.watch)}
	if !k.binary {
		options = append(options, web.WithJSON())
	}
	if o.Transport != nil {
		options = append(options, web.WithHTTPClient(&http.Client{Transport: o.Transport}))
	}
	for name, values := range o.Headers {
		for _, v := range values {
			options = append(options, web.WithHeader(name, v))
		}
	}
	for name, v := range o.Credentials {
		options = append(options, web.WithCredential(name, v))
	}
	k.client = web.NewClient(o.Base, "", options...)
}

// watch sees what goes over the wire.
func (k *Caller) watch(r *http.Request, next func(*http.Request) (*http.Response, error)) (*http.Response, error) {
	if k.intake != nil {
		return k.intake(r, next)
	}
	k.seen = Exchange{begin: time.Now(), Request: r}
	response, err := next(r)
	if err != nil {
		return nil, err
	}
	k.seen.Status, k.seen.Header, k.seen.Head = response.StatusCode, response.Header, time.Since(k.seen.begin)
	k.seen.Whole = k.seen.Head
	room := keptBody
	if k.call.ResponseStream {
		room = 64 << 10 // a stream may go on for ever
	}
	response.Body = &watched{response.Body, &k.seen, room}
	return response, nil
}

// watched keeps what is read of an answer.
type watched struct {
	io.ReadCloser
	seen *Exchange
	room int // for how much of it
}

func (w *watched) Read(p []byte) (int, error) {
	n, err := w.ReadCloser.Read(p)
	w.seen.Size += int64(n)
	if room := w.room - len(w.seen.Body); room > 0 {
		w.seen.Body = append(w.seen.Body, p[:min(n, room)]...)
	}
	w.seen.Whole = time.Since(w.seen.begin)
	return n, err
}

// Seen is what was seen of the last exchange.
func (k *Caller) Seen() *Exchange { return &k.seen }

// Check reads a request in JSON and says what the definitions have against it.
func (k *Caller) Check(request []byte) *Refusal {
	t := k.call.Request
	if k.options.Raw != nil && t.Raw() != nil { // it comes apart
		t = t.WithoutRaw()
	}
	return refusalOf(t, request)
}

func refusalOf(t *schema.Message, data []byte) *Refusal {
	v, err := value.DecodeJSON(t, data, 0)
	if err != nil {
		var e *value.Error
		errors.As(err, &e)
		return &Refusal{Of: t, Unreadable: e}
	}
	if violations := value.Validate(v); len(violations) > 0 {
		return &Refusal{Of: t, Violations: violations}
	}
	return nil
}

// outgoing is a request of which not all travels in the body.
type outgoing struct {
	raw    web.Body
	body   *raw
	fields map[string]json.RawMessage // by their names in JSON
}

func (*outgoing) AppendViolations(list []wire.Violation, _ string) []wire.Violation { return list }

// outgoing prepares a request that was written in JSON; nil for "()".
func (k *Caller) outgoing(request []byte) (web.Message, error) {
	if k.call.Request == nil {
		return nil, nil
	}
	refused := k.Check(request)
	if refused != nil && !k.options.Unchecked {
		return nil, refused
	}
	if k.options.Raw == nil {
		request = written(k.call.Request, request, refused)
	}
	if k.web.Travel == nil {
		return k.payload(k.body, request)
	}
	out, err := apartOf(request)
	if err != nil {
		return nil, err
	}
	if raw := conversation.Raw(k.call); raw != nil {
		return out, k.rawBody(raw, out)
	}
	if k.body != nil {
		out.body, err = k.payload(k.body, without(request, k.web.Travel.Placed))
	}
	return out, err
}

// head is what comes before a stream of requests; nil where the call has no head.
func (k *Caller) head() (web.Message, error) {
	t := k.call.Head
	if t == nil {
		return nil, nil
	}
	text := k.options.Head
	if len(text) == 0 {
		text = []byte("{}")
	}
	refused := refusalOf(t, text)
	if refused != nil && !k.options.Unchecked {
		return nil, refused
	}
	return apartOf(written(t, text, refused))
}

// written is a message as a stub would write it, where it can be read.
func written(t *schema.Message, text []byte, refused *Refusal) []byte {
	if refused != nil && refused.Unreadable != nil {
		return text
	}
	v, _ := value.DecodeJSON(t, text, 0) // it was read before
	if again, err := value.EncodeJSON(v); err == nil {
		return again
	}
	return text
}

// apartOf are the fields of a message in JSON, which travel in different places.
func apartOf(text []byte) (*outgoing, error) {
	out := &outgoing{fields: map[string]json.RawMessage{}}
	if err := json.Unmarshal(text, &out.fields); err != nil {
		return nil, fmt.Errorf("a message whose fields travel in different places can only be sent as a JSON object: %w",
			err)
	}
	return out, nil
}

// rawBody is the body of a request that has one as it is: what was given for it, or its field in JSON.
func (k *Caller) rawBody(f *schema.Field, out *outgoing) error {
	if k.options.Raw != nil {
		out.raw = *k.options.Raw
		wrong := k.web.Travel.Raw.Bounds.AppendViolations(nil, "/"+f.JSONName(), &out.raw)
		if len(wrong) == 0 || k.options.Unchecked {
			return nil
		}
		refused := &Refusal{Of: k.call.Request}
		for _, v := range wrong {
			refused.Violations = append(refused.Violations, value.Violation{Pointer: v.Pointer, Detail: v.Detail})
		}
		return refused
	}
	v, err := value.DecodeJSONValue(f.Type, out.fields[f.JSONName()], 0)
	if err != nil {
		return err
	}
	out.raw = wire.NewBody(cmp.Or(k.options.RawType, conversation.SampleType(f.In.Name)), v.([]byte))
	return nil
}

// payload is a body in the encoding that travels. What can't be turned into CBOR, since
// the definitions refuse it, travels in JSON.
func (k *Caller) payload(t *schema.Message, text []byte) (*raw, error) {
	if !k.binary {
		return &raw{json: text}, nil
	}
	binary, err := value.NewConverter(t, 0).ToCBOR(nil, text)
	if err != nil && k.options.Unchecked {
		k.binary = false
		k.dial()
		return &raw{json: text}, nil
	}
	return &raw{cbor: binary, json: text}, err
}

// without takes the placed fields out of a JSON object, whose other members stay in
// their order.
func without(object []byte, placed []web.Placed) []byte {
	d := json.NewDecoder(bytes.NewReader(object))
	if _, err := d.Token(); err != nil {
		return object
	}
	out := []byte{'{'}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return object
		}
		var member json.RawMessage
		if err := d.Decode(&member); err != nil {
			return object
		}
		text, _ := name.(string)
		if slices.ContainsFunc(placed, func(p web.Placed) bool { return p.Name == text }) {
			continue
		}
		if len(out) > 1 {
			out = append(out, ',')
		}
		out = append(append(value.AppendString(out, text), ':'), member...)
	}
	return append(out, '}')
}

// Do sends one request, in JSON (nil for "()"), of a call without streams. The
// error is a *Refusal where nothing was sent, a *Declared, a *web.Problem, a
// *web.Unreachable, a *web.BadAnswer or a *web.MissingCredential.
func (k *Caller) Do(ctx context.Context, request []byte) (*Answer, error) {
	out, err := k.outgoing(request)
	if err != nil {
		return nil, err
	}
	return k.answer(func(into web.Message) error { return k.client.Do(ctx, k.web, out, into) })
}

// answer reads what a call is answered with.
func (k *Caller) answer(do func(into web.Message) error) (*Answer, error) {
	switch {
	case k.call.Response == nil:
		return &Answer{}, declaredOf(do(nil))
	case k.web.AnswerTravel != nil:
		got := &message{typ: k.call.Response}
		if err := do(got); err != nil {
			return nil, declaredOf(err)
		}
		a := &Answer{Message: got.value}
		if conversation.AnswerRaw(k.call) != nil {
			a.Raw = &got.raw
			a.Message.Type = k.call.Response.WithoutRaw()
		}
		return a, nil
	}
	got := &raw{}
	if err := do(got); err != nil {
		return nil, declaredOf(err)
	}
	return k.understood(got), nil
}

// understood reads an answer, or an element of one, as the definitions have it.
func (k *Caller) understood(got *raw) *Answer {
	a := &Answer{}
	if got.cbor != nil {
		a.Message, a.Refused = value.DecodeCBOR(k.call.Response, got.cbor, 0)
	} else {
		a.Message, a.Refused = value.DecodeJSON(k.call.Response, got.json, 0)
	}
	return a
}

// declaredOf makes a *Declared of a declared error.
func declaredOf(err error) error {
	var d *declared
	if !errors.As(err, &d) {
		return err
	}
	return &Declared{Problem: &web.Problem{Title: d.typ.Name, Type: "/-/errors/" + d.ErrorName(), Status: d.typ.Status,
		Fields: d.json}, Message: d.value}
}

// Elements sends a call whose answer is a stream, and its request none, and
// yields the elements as they come. An error is the last thing that it yields, as
// those of Do.
func (k *Caller) Elements(ctx context.Context, request []byte) iter.Seq2[*Answer, error] {
	return func(yield func(*Answer, error) bool) {
		out, err := k.outgoing(request)
		if err != nil {
			yield(nil, err)
			return
		}
		for element, err := range web.Stream[raw](ctx, k.client, k.web, out) {
			if err != nil {
				yield(nil, declaredOf(err))
				return
			}
			if !yield(k.understood(element), nil) {
				return
			}
		}
	}
}

// Sending is a call whose request is a stream.
type Sending struct {
	k      *Caller
	sender *web.AnsweredSender[raw, raw]
	talk   *web.Conversation[raw, raw]
}

// Open begins a call whose request is a stream.
func (k *Caller) Open(ctx context.Context) (*Sending, error) {
	s := &Sending{k: k}
	head, err := k.head()
	if err != nil {
		return nil, err
	}
	if k.call.ResponseStream {
		talk, err := web.NewConversation[raw, raw](ctx, k.client, k.web, head)
		s.talk = talk
		return s, declaredOf(err)
	}
	s.sender = web.NewAnsweredSender[raw, raw](ctx, k.client, k.web, head)
	return s, nil
}

// Send sends one element that was written in JSON. The error is a *Refusal where
// it was not sent, or as those of Do: then the call has ended.
func (s *Sending) Send(element []byte) error {
	k := s.k
	if refused := k.Check(element); refused != nil && !k.options.Unchecked {
		return refused
	}
	payload, err := k.payload(k.call.Request, bytes.TrimSpace(element))
	if err != nil {
		return err
	}
	if s.talk != nil {
		return declaredOf(s.talk.Send(payload))
	}
	return declaredOf(s.sender.Send(payload))
}

// Finish ends the request. Of a call that streams both ways it returns nil: what
// comes is with Received.
func (s *Sending) Finish() (*Answer, error) {
	if s.talk != nil {
		return nil, s.talk.Finish()
	}
	return s.k.answer(func(into web.Message) error {
		if into == nil {
			return s.sender.Sender.Finish()
		}
		got, err := s.sender.Finish()
		if err != nil {
			return err
		}
		switch into := into.(type) {
		case *message:
			*into = *got.whole
		case *raw:
			*into = *got
		}
		return nil
	})
}

// Received yields what a call that streams both ways sends.
func (s *Sending) Received() iter.Seq2[*Answer, error] {
	return func(yield func(*Answer, error) bool) {
		for element, err := range s.talk.All() {
			if err != nil {
				yield(nil, declaredOf(err))
				return
			}
			if !yield(s.k.understood(element), nil) {
				return
			}
		}
	}
}

// Close gives up what has not ended.
func (s *Sending) Close() {
	if s.talk != nil {
		s.talk.Close()
		return
	}
	s.sender.Abort()
}

// Blank is a request to be filled in: all its fields, what may be left out as null.
func Blank(t *schema.Message) []byte {
	b := &blank{}
	b.message(t)
	return b.out
}

type blank struct {
	out    []byte
	inside []*schema.Message
}

func (b *blank) message(t *schema.Message) {
	if slices.Contains(b.inside, t) {
		b.out = append(b.out, "null"...)
		return
	}
	if t.IsPatch() {
		b.out = append(b.out, "{}"...)
		return
	}
	b.inside = append(b.inside, t)
	b.out = append(b.out, '{')
	for i, f := range t.Fields {
		if i > 0 {
			b.out = append(b.out, ',')
		}
		b.out = append(value.AppendString(b.out, f.JSONName()), ':')
		if f.Presence == schema.Optional {
			b.out = append(b.out, "null"...)
		} else if f.Presence == schema.Defaulted {
			m := &schema.Message{Fields: []*schema.Field{f}}
			one, _ := value.EncodeJSON(&value.Message{Type: m,
				Fields: map[int]value.Value{f.Number: value.Default(f.Default)}}) // a scalar can be written
			_, text, _ := strings.Cut(string(one), ":")
			b.out = append(b.out, strings.TrimSuffix(text, "}")...)
		} else {
			b.value(f.Type)
		}
	}
	b.out = append(b.out, '}')
	b.inside = b.inside[:len(b.inside)-1]
}

func (b *blank) value(t *schema.Type) {
	switch t.Kind {
	case schema.KindMessage:
		b.message(t.Message)
	case schema.KindList:
		b.out = append(b.out, '[')
		if t.Elem.Kind == schema.KindMessage && !slices.Contains(b.inside, t.Elem.Message) {
			b.value(t.Elem)
		}
		b.out = append(b.out, ']')
	case schema.KindMap:
		b.out = append(b.out, "{}"...)
	case schema.KindUnion:
		b.out = append(value.AppendString(append(b.out, '{'), t.Union.Alternatives[0].JSONName()), ':')
		b.value(t.Union.Alternatives[0].Type)
		b.out = append(b.out, '}')
	case schema.KindEnum:
		b.out = value.AppendString(b.out, t.Enum.Members[0].JSONName())
	case schema.KindBool:
		b.out = append(b.out, "false"...)
	case schema.KindAny:
		b.out = append(b.out, "null"...)
	case schema.KindInt8, schema.KindInt16, schema.KindInt32, schema.KindInt64, schema.KindUint8, schema.KindUint16,
		schema.KindUint32, schema.KindUint64, schema.KindFloat32, schema.KindFloat64:
		b.out = append(b.out, '0')
	default:
		b.out = append(b.out, `""`...)
	}
}
