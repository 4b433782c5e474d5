package manual

import (
	"encoding/json"
	"fmt"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// The forms of a service are what the pages' script builds inputs from, checks what is typed with, and
// sends calls by: page/model.ts reads them. Declared things are known by their full names.
type forms struct {
	Service  string                 `json:"service"`
	Digest   string                 `json:"digest"`
	Calls    []callForm             `json:"calls"`
	Messages map[string]messageForm `json:"messages"`
	Enums    map[string]enumForm    `json:"enums"`
	Unions   map[string]unionForm   `json:"unions"`
}

// callForm is one call. Head, Request and Answer are names of messages, or "".
type callForm struct {
	Name         string             `json:"name"` // in its service
	Full         string             `json:"full"`
	Command      string             `json:"command"` // as faithful call takes it
	Method       string             `json:"method"`
	Path         string             `json:"path"`
	Status       int                `json:"status"` // of success
	Safe         bool               `json:"safe,omitempty"`
	Idempotent   bool               `json:"idempotent,omitempty"`
	Sends        bool               `json:"sends,omitempty"`    // elements
	Receives     bool               `json:"receives,omitempty"` // elements
	Head         string             `json:"head,omitempty"`
	Request      string             `json:"request,omitempty"`
	Answer       string             `json:"answer,omitempty"`
	Body         bool               `json:"body"` // whether a part of the request is a body in JSON
	Places       []placeForm        `json:"places"`
	Raw          *rawForm           `json:"raw,omitempty"`
	AnswerBody   bool               `json:"answerBody"`
	AnswerPlaces []placeForm        `json:"answerPlaces"`
	AnswerRaw    *rawForm           `json:"answerRaw,omitempty"`
	Needs        [][]credentialForm `json:"needs"`
	Fails        []failForm         `json:"fails"`
	SampleHead   string             `json:"sampleHead,omitempty"` // in JSON, as text: JavaScript would lose digits
	Sample       string             `json:"sample,omitempty"`
}

// placeForm is a field that travels outside of the body.
type placeForm struct {
	Field string `json:"field"` // in JSON
	Place string `json:"place"` // "path", "query", "header" or "cookie"
	Name  string `json:"name"`
	Shape string `json:"shape"` // of its JSON: "bare", "quoted" or "number"
	List  bool   `json:"list,omitempty"`
}

// rawForm is a field that is the whole body.
type rawForm struct {
	Field string `json:"field"`
	Type  string `json:"type"`  // media type, or such as "image/*"
	Given string `json:"given"` // a media type that it allows
	Low   uint64 `json:"low"`
	High  uint64 `json:"high,omitempty"` // absent where there is no limit
}

type credentialForm struct {
	Name string `json:"name"`
	Kind string `json:"kind"` // "bearer", "basic", "header", "query" or "cookie"
	Key  string `json:"key,omitempty"`
	Var  string `json:"variable"` // of the environment, in copies
}

type failForm struct {
	Name   string `json:"name"`
	Status int    `json:"status"`
}

type messageForm struct {
	Name     string        `json:"name"`
	Patch    bool          `json:"patch,omitempty"`
	Fields   []fieldForm   `json:"fields"`
	Examples []exampleForm `json:"examples,omitempty"` // where there are several
}

// exampleForm is a declared example, in JSON as text.
type exampleForm struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

type fieldForm struct {
	Number  int         `json:"number"`
	Name    string      `json:"name"` // in JSON
	Type    *typeForm   `json:"type"`
	Must    string      `json:"must"`              // "required", "optional" or "defaulted"
	Default string      `json:"default,omitempty"` // in JSON, as text
	Bounds  *boundsForm `json:"bounds,omitempty"`
	Secret  bool        `json:"secret,omitempty"`
	Doc     string      `json:"doc,omitempty"`
	Old     string      `json:"old,omitempty"` // why it is deprecated
}

// typeForm is a type. Of is the name of an enum, union or message.
type typeForm struct {
	Kind   string      `json:"kind"`
	Of     string      `json:"of,omitempty"`
	Key    *typeForm   `json:"key,omitempty"`
	Elem   *typeForm   `json:"elem,omitempty"`
	Bounds *boundsForm `json:"bounds,omitempty"` // of its name
	Secret bool        `json:"secret,omitempty"`
	Clear  bool        `json:"clear,omitempty"` // whether null clears it
}

// boundsForm has limits as text, since not every number is one of JavaScript's, and what is said where they are not
// kept.
type boundsForm struct {
	Low       string `json:"low,omitempty"`
	High      string `json:"high,omitempty"`
	Range     string `json:"range,omitempty"`
	Length    string `json:"length,omitempty"` // what is said
	LengthLow uint64 `json:"lengthLow,omitempty"`
	LengthMax uint64 `json:"lengthMax,omitempty"` // 0 for none, or Length and 0
	Count     string `json:"count,omitempty"`
	CountLow  uint64 `json:"countLow,omitempty"`
	CountMax  uint64 `json:"countMax,omitempty"`
	Pattern   string `json:"pattern,omitempty"`
	Unique    bool   `json:"unique,omitempty"`
}

type enumForm struct {
	Name    string       `json:"name"`
	Members []memberForm `json:"members"`
}

type memberForm struct {
	Number int       `json:"number"`
	Name   string    `json:"name"` // in JSON
	Type   *typeForm `json:"type,omitempty"`
	Doc    string    `json:"doc,omitempty"`
}

type unionForm struct {
	Name         string       `json:"name"`
	Alternatives []memberForm `json:"alternatives"`
}

// forms of a service, as a script that hands them to that of the pages: from a disk, nothing else can be loaded.
func (s *site) forms(service *schema.Service) ([]byte, error) {
	f := &forms{Service: service.FullName(), Digest: s.defs.Digest(), Messages: map[string]messageForm{},
		Enums: map[string]enumForm{}, Unions: map[string]unionForm{}}
	for _, c := range service.Calls {
		f.Calls = append(f.Calls, f.call(s, c))
	}
	text, err := json.Marshal(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", service.FullName(), err)
	}
	return append(append([]byte("manualForms("), text...), ");\n"...), nil
}

func (f *forms) call(s *site, c *schema.Call) callForm {
	v := callForm{Name: c.Name, Full: c.FullName(), Command: s.about.Calling.Name(c), Method: conversation.Method(c),
		Path: conversation.Path(c), Status: conversation.Status(c), Safe: c.Safe, Idempotent: c.Idempotent,
		Sends: c.RequestStream, Receives: c.ResponseStream, Head: f.message(c.Head), Request: f.message(c.Request),
		Answer: f.message(c.Response), Raw: rawOf(conversation.Raw(c)), AnswerRaw: rawOf(conversation.AnswerRaw(c)),
		Places: placesOf(conversation.Outside(c)), AnswerPlaces: placesOf(conversation.AnswerOutside(c)),
		Needs: [][]credentialForm{}, Fails: []failForm{}}
	v.Body = c.Request != nil && !c.RequestStream && conversation.HasBody(c)
	if v.Body {
		body, _ := conversation.Split(c)
		v.Body = body != nil
	}
	if c.Response != nil {
		body, _ := conversation.SplitAnswer(c)
		v.AnswerBody = body != nil
	}
	for _, all := range c.Needs {
		list := []credentialForm{}
		for _, k := range all {
			kind := k.Kind
			if kind == "key" {
				kind = k.Carrier
			}
			list = append(list, credentialForm{k.FullName(), kind, k.Key, conversation.Variable(k.Name)})
		}
		v.Needs = append(v.Needs, list)
	}
	for _, e := range c.Fails {
		f.message(e)
		v.Fails = append(v.Fails, failForm{e.FullName(), e.Status})
	}
	f.examples(s.defs, c.Head)
	f.examples(s.defs, c.Request)
	if c.Head != nil {
		v.SampleHead = string(s.sample(c.Head).compact)
	}
	if c.Request != nil {
		v.Sample = string(s.sample(c.Request).compact)
	}
	return v
}

func placesOf(places []conversation.Placed) []placeForm {
	list := []placeForm{}
	for _, p := range places {
		list = append(list, placeForm{p.Field.JSONName(), string(p.Place), p.Name, string(conversation.ShapeOf(p.Field.Type)),
			p.Field.Type.Kind == schema.KindList})
	}
	return list
}

func rawOf(f *schema.Field) *rawForm {
	if f == nil {
		return nil
	}
	low, high := conversation.RawLength(f)
	return &rawForm{f.JSONName(), f.In.Name, conversation.SampleType(f.In.Name), low, high}
}

// message adds a message and what is in it, and returns its name; "" for nil.
func (f *forms) message(m *schema.Message) string {
	if m == nil {
		return ""
	}
	name := m.FullName()
	if m.IsPatch() {
		name = "patch " + m.PatchOf.FullName()
	}
	if _, there := f.Messages[name]; there {
		return name
	}
	f.Messages[name] = messageForm{} // it may be in itself
	v := messageForm{Name: m.Name, Patch: m.IsPatch(), Fields: []fieldForm{}}
	for _, field := range m.Fields {
		one := fieldForm{Number: field.Number, Name: field.JSONName(), Type: f.typ(field.Type),
			Must: field.Presence.String(), Bounds: boundsOf(field.Bounds, field.Type), Secret: field.IsSecret(),
			Doc: line(field.Doc), Old: field.Deprecated}
		if field.Presence == schema.Defaulted {
			one.Default = defaultJSON(field)
		}
		v.Fields = append(v.Fields, one)
	}
	f.Messages[name] = v
	return name
}

// examples adds the declared examples of a message that a form is for, if there are several to choose from.
func (f *forms) examples(defs *schema.Definitions, m *schema.Message) {
	if m == nil {
		return
	}
	var list []exampleForm
	for _, module := range defs.Modules {
		for _, e := range module.Examples {
			if e.Of != m {
				continue
			}
			v := value.FromExample(e.Value)
			v.Type = m.WithoutRaw()
			if text, err := value.EncodeJSON(v); err == nil { // else check has said so
				list = append(list, exampleForm{e.Name, string(text)})
			}
		}
	}
	if len(list) > 1 {
		form := f.Messages[m.FullName()]
		form.Examples = list
		f.Messages[m.FullName()] = form
	}
}

// defaultJSON is the default of a field in JSON.
func defaultJSON(f *schema.Field) string {
	text, err := value.EncodeJSON(&value.Message{Type: &schema.Message{Fields: []*schema.Field{f}},
		Fields: map[int]value.Value{f.Number: value.Default(f.Default)}})
	if err != nil {
		return "" // what can't be written can't be shown either
	}
	var object map[string]json.RawMessage
	if json.Unmarshal(text, &object) != nil {
		return ""
	}
	return string(object[f.JSONName()])
}

func (f *forms) typ(t *schema.Type) *typeForm {
	v := &typeForm{Kind: t.Kind.String(), Clear: t.Clearable}
	if t.Named != nil {
		v.Bounds, v.Secret = boundsOf(t.Named.Bounds, t), t.Named.Secret
	}
	switch t.Kind {
	case schema.KindList:
		v.Elem = f.typ(t.Elem)
	case schema.KindMap:
		v.Key, v.Elem = f.typ(t.Key), f.typ(t.Elem)
	case schema.KindMessage:
		v.Of = f.message(t.Message)
	case schema.KindEnum:
		v.Of = t.Enum.FullName()
		if _, there := f.Enums[v.Of]; !there {
			e := enumForm{Name: t.Enum.Name}
			for _, m := range t.Enum.Members {
				e.Members = append(e.Members, memberForm{Number: m.Number, Name: m.JSONName(), Doc: line(m.Doc)})
			}
			f.Enums[v.Of] = e
		}
	case schema.KindUnion:
		v.Of = t.Union.FullName()
		if _, there := f.Unions[v.Of]; !there {
			u := unionForm{Name: t.Union.Name}
			f.Unions[v.Of] = u
			for _, a := range t.Union.Alternatives {
				u.Alternatives = append(u.Alternatives, memberForm{a.Number, a.JSONName(), f.typ(a.Type), line(a.Doc)})
			}
			f.Unions[v.Of] = u
		}
	}
	return v
}

// boundsOf are bounds that refuse something, with the words of Validate; nil for none.
func boundsOf(b *schema.Bounds, t *schema.Type) *boundsForm {
	if !b.Refuse(t.Kind) {
		return nil
	}
	v := &boundsForm{Pattern: b.Pattern, Unique: b.Unique}
	if b.RefuseLow(t.Kind) || b.RefuseHigh(t.Kind) {
		v.Range = "must be " + b.RangeText()
		one := &schema.Bounds{Low: b.Low}
		if b.Low != nil {
			v.Low, _ = strings.CutPrefix(one.RangeText(), "at least ")
		}
		if b.High != nil {
			v.High, _ = strings.CutPrefix((&schema.Bounds{High: b.High}).RangeText(), "at most ")
		}
	}
	limits := func(l *schema.Limits) (low, high uint64) {
		if l.High != schema.Unlimited {
			high = l.High
		}
		return l.Low, high
	}
	if b.Length.Refuse() {
		unit := "characters"
		if t.Kind == schema.KindBytes {
			unit = "bytes"
		}
		v.Length = fmt.Sprintf("must have %s %s", b.Length, unit)
		v.LengthLow, v.LengthMax = limits(b.Length)
	}
	if b.Count.Refuse() {
		v.Count, _, _ = strings.Cut(b.CountFormat(), ", not ")
		v.CountLow, v.CountMax = limits(b.Count)
	}
	return v
}
