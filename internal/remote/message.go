package remote

import (
	"encoding/json"
	"errors"
	"math"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/stubs/golang/support/wire"
	"faithfulcourier/internal/value"
)

// message is a message of any definitions as the conversation takes it. What is
// written is made once, however often it is sent.
type message struct {
	typ        *schema.Message
	raw        web.Body // what came as it is
	value      *value.Message
	cbor, json []byte
	made       error // why one of them could not be made
}

// made writes a value in both encodings.
func made(v *value.Message) *message {
	m := &message{typ: v.Type, value: v}
	m.write()
	return m
}

// write writes what was read, or made, unless that has been done.
func (m *message) write() {
	if m.json != nil || m.made != nil || m.value == nil {
		return
	}
	m.json, m.made = value.EncodeJSON(m.value)
	if m.made == nil {
		m.cbor, m.made = value.EncodeCBOR(m.value)
	}
}

func (m *message) AppendCBOR(b []byte, w *wire.Writer) []byte {
	m.write()
	if m.made != nil {
		w.Fail(m.made)
	}
	return append(b, m.cbor...)
}

func (m *message) AppendJSON(b []byte, w *wire.Writer) []byte {
	m.write()
	if m.json == nil && m.made != nil {
		w.Fail(m.made)
	}
	return append(b, m.json...)
}

func (m *message) ReadCBOR(r *wire.CBORReader) {
	r.Item(func(item []byte, items int) *wire.Error { return m.read(value.DecodeCBOR(m.typ, item, items)) })
}

func (m *message) ReadJSON(r *wire.JSONReader) {
	r.Item(func(item []byte, items int) *wire.Error { return m.read(value.DecodeJSON(m.typ, item, items)) })
}

func (m *message) read(v *value.Message, err error) *wire.Error {
	m.value = v
	return wireError(err)
}

// wireError is an error of package value as the conversation says it.
func wireError(err error) *wire.Error {
	if err == nil {
		return nil
	}
	var e *value.Error
	if !errors.As(err, &e) {
		return &wire.Error{Detail: err.Error(), Offset: -1}
	}
	detail := e.Found
	if missing, ok := strings.CutPrefix(e.Found, "nothing: "); ok {
		detail = missing // as stubs say it
	} else if e.Expected != "" {
		detail = "expected " + e.Expected + ", found " + e.Found
	}
	return &wire.Error{Path: e.Path, Detail: detail, Offset: e.Offset, TooLarge: e.TooLarge}
}

func (m *message) AppendViolations(list []wire.Violation, path string) []wire.Violation {
	if m.value == nil {
		return list
	}
	for _, v := range value.Validate(m.value) {
		list = append(list, wire.Violation{Pointer: path + v.Pointer, Detail: v.Detail, In: v.In})
	}
	return list
}

// declared is an error that a call declares.
type declared struct{ message }

func (d *declared) Error() string     { return d.typ.Name + " " + string(d.json) }
func (d *declared) ErrorName() string { return d.typ.FullName() }
func (d *declared) ErrorStatus() int  { return d.typ.Status }

func (d *declared) ReadJSON(r *wire.JSONReader) {
	r.Item(func(item []byte, items int) *wire.Error {
		d.json = append([]byte{}, item...)
		return d.read(value.DecodeJSON(d.typ, item, items))
	})
}

// raw is a payload of either encoding that is sent, or kept, as it is.
type raw struct {
	cbor, json []byte
	check      func() []wire.Violation // of what is sent; nil for none
	whole      *message                // of an answer to a stream that is not all in the body; nil for none
}

func (r *raw) AppendCBOR(b []byte, _ *wire.Writer) []byte { return append(b, r.cbor...) }
func (r *raw) AppendJSON(b []byte, _ *wire.Writer) []byte { return append(b, r.json...) }

func (r *raw) ReadCBOR(in *wire.CBORReader) {
	in.Item(func(item []byte, _ int) *wire.Error {
		r.cbor = append([]byte{}, item...)
		return nil
	})
}

func (r *raw) ReadJSON(in *wire.JSONReader) {
	in.Item(func(item []byte, _ int) *wire.Error {
		r.json = append([]byte{}, item...)
		return nil
	})
}

func (r *raw) AppendViolations(list []wire.Violation, _ string) []wire.Violation {
	if r.check == nil {
		return list
	}
	return append(list, r.check()...)
}

// travelOf is how a message travels of which some fields are outside of the body: its
// values are those of type *message. rest is what is left for the body, or nil.
func travelOf(whole *schema.Message, places []conversation.Placed, rest *schema.Message) *web.Travel {
	t := &web.Travel{Placed: placedOf(places)}
	if rest != nil {
		t.NewBody = func() wire.Message { return &message{typ: rest} }
	}
	if f := whole.Raw(); f != nil {
		t.Raw = &web.Raw{Field: f.JSONName(), Bounds: boundsOf(f), Of: func(m web.Message) *web.Body {
			given := m.(*message)
			if given.value != nil {
				if content, ok := given.value.Fields[f.Number].([]byte); ok {
					body := wire.NewBody(conversation.SampleType(f.In.Name), content)
					return &body
				}
			}
			return &given.raw
		}}
	}
	t.BodyOf = func(m web.Message) wire.Message {
		v := m.(*message).value
		part := &value.Message{Type: rest, Fields: map[int]value.Value{}, Unlisted: v.Unlisted}
		for _, f := range rest.Fields {
			if field, there := v.Fields[f.Number]; there {
				part.Fields[f.Number] = field
			}
		}
		return made(part)
	}
	t.Place = func(m web.Message, p *web.Parameters) {
		if err := m.(*message).made; err != nil {
			p.Fail(err)
			return
		}
		fields := map[string]json.RawMessage{}
		_ = json.Unmarshal(m.(*message).json, &fields) // it was written just now
		place(t.Placed, fields, p)
	}
	t.Take = func(m web.Message, body wire.Message, a *web.Arguments) {
		inBody, _ := body.(*message)
		into, isMessage := m.(*message)
		if !isMessage { // a stream is answered with what came
			into = &message{typ: whole}
			m.(*raw).whole = into
		}
		take(t.Placed, whole, into, inBody, a)
	}
	return t
}

// boundsOf is what the definitions say of a raw body.
func boundsOf(f *schema.Field) *wire.RawBounds {
	low, high := conversation.RawLength(f)
	octets := func(n uint64) int64 { return int64(min(n, math.MaxInt64)) }
	return &wire.RawBounds{MediaType: f.In.Name, Low: octets(low), High: octets(high)}
}

func placedOf(places []conversation.Placed) (list []web.Placed) {
	for _, p := range places {
		list = append(list, web.Placed{Number: p.Field.Number, Name: p.Field.JSONName(), In: string(p.Place),
			Parameter: p.Name})
	}
	return list
}

// place puts the fields of a message that travel outside of the body where they
// belong: each by its text in JSON, without quotes.
func place(placed []web.Placed, fields map[string]json.RawMessage, p *web.Parameters) {
	for _, f := range placed {
		text, ok := fields[f.Name]
		if !ok || string(text) == "null" {
			continue
		}
		values := []json.RawMessage{text}
		if len(text) > 0 && text[0] == '[' {
			values = nil
			_ = json.Unmarshal(text, &values) // it was read before
		}
		for _, v := range values {
			plain := wire.Plain(v)
			switch f.In {
			case "path":
				p.Path(f.Parameter, plain)
			case "query":
				p.Query(f.Parameter, plain)
			case "header":
				p.Header(f.Parameter, plain)
			default:
				p.Cookie(f.Parameter, plain)
			}
		}
	}
}

// take reads the fields of a message that travel outside of the body into its
// value, next to those of the body.
func take(placed []web.Placed, t *schema.Message, whole, body *message, a *web.Arguments) {
	v := &value.Message{Type: t, Fields: map[int]value.Value{}}
	if body != nil && body.value != nil {
		for number, field := range body.value.Fields {
			v.Fields[number] = field
		}
		v.Unlisted = body.value.Unlisted
		var unlisted []wire.UnlistedField
		for _, u := range v.Unlisted {
			unlisted = append(unlisted, wire.UnlistedField{Number: u.Number, Name: u.Name})
		}
		a.Rest(unlisted)
	}
	for i, p := range placed {
		f := t.ByNumber(p.Number)
		read := func(t *schema.Type, into func(value.Value)) func(*wire.JSONReader) {
			return func(r *wire.JSONReader) {
				r.Item(func(item []byte, items int) *wire.Error {
					one, err := value.DecodeJSONValue(t, item, items)
					into(one)
					return wireError(err)
				})
			}
		}
		if f.Type.Kind == schema.KindList {
			list := value.List{}
			a.List(i, shapeOf(f.Type.Elem), read(f.Type.Elem, func(one value.Value) { list = append(list, one) }))
			v.Fields[f.Number] = list
			continue
		}
		there := a.Scalar(i, f.Presence != schema.Required, shapeOf(f.Type),
			read(f.Type, func(one value.Value) { v.Fields[f.Number] = one }))
		if !there && f.Presence == schema.Defaulted {
			v.Fields[f.Number] = value.Default(f.Default)
		}
	}
	whole.value = v
}

// shapeOf is the reader's word for a shape.
func shapeOf(t *schema.Type) wire.Shape {
	switch conversation.ShapeOf(t) {
	case conversation.Bare:
		return wire.Bare
	case conversation.Number:
		return wire.BareNumber
	}
	return wire.Quoted
}
