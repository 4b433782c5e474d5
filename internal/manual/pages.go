package manual

import (
	"bytes"
	"encoding/json"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"sync"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// pages lists the pages of a manual.
func (s *site) pages() []sheet {
	all := []sheet{{path: "index.html", title: s.about.Name, template: "start.html",
		body: func() (any, error) { return s.start() }}}
	for _, m := range s.defs.Modules {
		data := sync.OnceValue(func() modulePage { return s.module(m) })
		all = append(all, sheet{path: modulePath(m), title: m.Name, template: "module.html",
			body: func() (any, error) { return data(), nil }})
		if large(m) {
			for i, d := range dataOf(m) {
				all = append(all, sheet{path: dataPath(d.Head()), title: d.FullName(), template: "declaration.html",
					body: func() (any, error) { return data().Things[i], nil }})
			}
		}
		for _, service := range m.Services {
			all = append(all, sheet{path: servicePath(service), title: service.FullName(), template: "service.html",
				body: func() (any, error) { return s.service(service), nil }, forms: formsPath(service)})
		}
	}
	for i, to := range s.about.Versions {
		for _, from := range s.about.Versions[i+1:] {
			all = append(all, sheet{path: betweenPath(from, to), title: from + " and " + to, template: "between.html",
				body: func() (any, error) { return s.between(from, to) }})
		}
	}
	for _, one := range []struct {
		path, title string
		body        func() (any, error)
	}{
		{"changes.html", "Changes", func() (any, error) { return s.changes() }},
		{"deprecated.html", "Deprecated", func() (any, error) { return s.deprecations(), nil }},
		{"errors.html", "Errors", func() (any, error) { return errorsPage{s.failures(), conversation.Problems}, nil }},
		{"credentials.html", "Credentials", func() (any, error) { return s.credentials(), nil }},
		{"names.html", "All names", func() (any, error) { return s.names(), nil }},
	} {
		all = append(all, sheet{path: one.path, title: one.title, template: one.path, body: one.body})
	}
	return all
}

// written is what somebody wrote of an element, and why it is not to be used any more; "" where it may be.
func written(e schema.Element) (doc, deprecated string) {
	switch e := e.(type) {
	case *schema.Module:
		return e.Doc, ""
	case *schema.Field:
		return e.Doc, e.Deprecated
	case *schema.Member:
		return e.Doc, e.Deprecated
	case *schema.Alternative:
		return e.Doc, e.Deprecated
	case *schema.Call:
		return e.Doc, e.Deprecated
	case schema.Declaration:
		return e.Head().Doc, e.Head().Deprecated
	}
	return "", ""
}

// method is how a call is asked for.
func method(c *schema.Call) string { return conversation.Method(c) + " " + conversation.Path(c) }

type startPage struct {
	Modules  []moduleLine
	Services []item
	First    *firstCall
	Last     *item // what changed last
	Needs    bool  // whether any call needs credentials
}

// firstCall is one that needs no credential, and how it is made.
type firstCall struct {
	item
	Copies []Copy
}

type moduleLine struct {
	item
	Doc template.HTML
}

func (s *site) start() (p startPage, err error) {
	steps, err := s.about.Steps()
	if err != nil {
		return p, err
	}
	if len(steps) > 0 && steps[0].Old != "" {
		last := steps[0]
		p.Last = &item{Name: last.New, To: "changes.html#" + last.New, Line: last.Report.Summary()}
	}
	for _, m := range s.defs.Modules {
		p.Modules = append(p.Modules, moduleLine{item{Name: m.Name, To: modulePath(m)}, prose(m.Doc)})
		for _, service := range m.Services {
			one := item{Name: service.FullName(), To: servicePath(service), Line: line(service.Doc),
				Deprecated: service.Deprecated != ""}
			for _, c := range service.Calls {
				one.Calls = append(one.Calls, item{Name: c.Name, To: address(c), Line: line(c.Doc),
					Deprecated: c.Deprecated != ""})
				p.Needs = p.Needs || len(c.Needs) > 0
				if p.First == nil && !c.RequestStream && len(c.Needs) == 0 {
					if copies := s.copies(c, nil, s.side(c.Request, nil)); len(copies) > 0 {
						p.First = &firstCall{item{Name: c.FullName(), To: address(c)}, copies}
					}
				}
			}
			p.Services = append(p.Services, one)
		}
	}
	return p, nil
}

type servicePage struct {
	Name, Module, ModuleTo string
	Doc                    template.HTML
	Deprecated             string
	Calls                  []callView
}

type callView struct {
	Name, Full              string
	Method, Path            string
	Doc                     template.HTML
	Deprecated              string
	Needs, Repeats, Streams string
	Status                  string
	Head, Request, Answer   *side
	Fails                   []failView
	Copies                  []Copy
}

// side is what goes one way in a call.
type side struct {
	Name, To string
	Doc      template.HTML
	Table    table
	sample
}

// sample is a message as JSON and as CBOR with notes.
type sample struct {
	JSON       string
	compact    []byte // the same without blanks
	JSONSize   string // in bytes, without the blanks that people like
	Bytes      []bytesLine
	CBORSize   string
	Impossible string // why there is none, or not all of it
}

type failView struct {
	Name, To string
	Status   int
	Doc      template.HTML
}

func (s *site) service(service *schema.Service) servicePage {
	p := servicePage{Name: service.Name, Module: service.Module.Name,
		ModuleTo: fromModules + modulePath(service.Module), Doc: prose(service.Doc), Deprecated: service.Deprecated}
	for _, c := range service.Calls {
		v := callView{Name: c.Name, Full: c.FullName(), Method: conversation.Method(c), Path: conversation.Path(c),
			Doc: prose(c.Doc), Deprecated: c.Deprecated, Needs: needs(c), Repeats: repeats(c), Streams: streams(c),
			Status: statusText(c)}
		v.Head = s.side(c.Head, conversation.Places(c))
		v.Request = s.side(c.Request, conversation.Places(c))
		v.Answer = s.side(c.Response, conversation.AnswerPlaces(c))
		for _, e := range c.Fails {
			v.Fails = append(v.Fails, failView{e.FullName(), fromModules + address(e), e.Status, prose(e.Doc)})
		}
		v.Copies = s.copies(c, v.Head, v.Request)
		p.Calls = append(p.Calls, v)
	}
	return p
}

// copies are there where the whole request is known.
func (s *site) copies(c *schema.Call, head, request *side) (list []Copy) {
	var texts [2][]byte
	for i, of := range []*side{head, request} {
		if of != nil && of.compact == nil {
			return nil
		}
		if of != nil {
			texts[i] = of.compact
		}
	}
	for _, make := range []func(*schema.Call, []byte, []byte) []Copy{s.about.Calling.Copies, s.about.Calling.Code} {
		if make != nil {
			list = append(list, make(c, texts[0], texts[1])...)
		}
	}
	return list
}

func (s *site) side(m *schema.Message, places []conversation.Placed) *side {
	if m == nil {
		return nil
	}
	at := map[*schema.Field]string{}
	for _, p := range places {
		if p.Place != "body" {
			at[p.Field] = string(p.Place)
		}
	}
	v := &side{Name: m.FullName(), To: fromModules + address(m), Doc: prose(m.Doc), Table: s.unfolded(m, at, nil)}
	v.sample = s.sample(m)
	return v
}

// sample shows the first declared example of a message, or one that is made: the same wherever it is shown.
func (s *site) sample(m *schema.Message) sample {
	s.mu.Lock()
	defer s.mu.Unlock()
	v, made := s.samples[m]
	if !made {
		v = s.made(m)
		s.samples[m] = v
	}
	return v
}

func (s *site) made(m *schema.Message) (v sample) {
	made, err := value.NewMaker(s.defs, 0).Element(m, 0)
	if err != nil {
		return sample{Impossible: err.Error()}
	}
	if raw := m.Raw(); raw != nil {
		rest := *made
		rest.Type = m.WithoutRaw()
		compact, err := value.EncodeJSON(&rest)
		if err != nil {
			return sample{Impossible: err.Error()}
		}
		return sample{compact: compact, Impossible: "Its body travels as it is: " + raw.In.Name + "."}
	}
	compact, err := value.EncodeJSON(made)
	if err != nil {
		return sample{Impossible: err.Error()}
	}
	var b bytes.Buffer
	if json.Indent(&b, compact, "", "  ") != nil {
		b.Write(compact)
	}
	v.JSON, v.compact, v.JSONSize = b.String(), compact, size(compact)
	binary, err := value.EncodeCBOR(made)
	if err != nil {
		v.Impossible = err.Error()
		return v
	}
	part, err := value.Dump(m, binary)
	if err != nil {
		v.Impossible = err.Error()
		return v
	}
	v.Bytes, v.CBORSize = bytesLines(part, binary, 0), size(binary)
	return v
}

// bytesLine is one value of a payload in CBOR: its bytes, and what they are.
type bytesLine struct {
	Indent             string
	Hex                string
	Label, Type, Value string
}

func bytesLines(p *value.Part, data []byte, depth int) []bytesLine {
	end := p.End
	if len(p.Parts) > 0 {
		end = p.Body
		if first := p.Parts[0]; first.Start < end || end <= p.Start {
			end = first.Start
		}
	}
	l := bytesLine{Indent: strings.Repeat("  ", depth), Hex: fmt.Sprintf("% x", data[p.Start:end]), Label: p.Label,
		Type: p.Type, Value: p.Text}
	if len(p.Parts) > 0 {
		l.Value = p.Note
	}
	lines := []bytesLine{l}
	for _, part := range p.Parts {
		lines = append(lines, bytesLines(part, data, depth+1)...)
	}
	return lines
}

// table is what a message, an enum or a union has in it.
type table struct{ Rows []row }

type row struct {
	ID, Name   string
	Number     int
	Key        string // the number in CBOR
	JSON       string
	Type       template.HTML
	Must       string
	Rules      []string
	Pattern    string
	Doc        template.HTML
	Deprecated string
	Secret     bool
	Place      string
	CBOR, Wire string
	Inside     *table
	InsideName string
}

// deepest is how deep tables unfold.
const deepest = 4

// unfolded describes the fields of a message, and of the messages in them that through has not had: what
// else there is to know of a call is on its page.
func (s *site) unfolded(m *schema.Message, at map[*schema.Field]string, through []*schema.Message) table {
	t := s.table(m, at)
	through = append(slices.Clone(through), m)
	for i, f := range m.Fields {
		if inner := messageIn(f.Type); inner != nil && len(through) <= deepest && !slices.Contains(through, inner) {
			inside := s.unfolded(inner, nil, through)
			t.Rows[i].Inside, t.Rows[i].InsideName = &inside, inner.Name
		}
		t.Rows[i].ID = "" // the page of the module has the place of the field
	}
	return t
}

// table describes the fields of a message.
func (s *site) table(m *schema.Message, at map[*schema.Field]string) table {
	var t table
	for _, f := range m.Fields {
		travels := encodings(f.Type)
		r := row{ID: m.Name + "." + f.Name, Name: f.Name, Number: f.Number, Key: keyOf(f.Number), JSON: f.JSONName(),
			Type: typeHTML(f.Type, fromModules), Must: must(f), Doc: prose(f.Doc), Deprecated: f.Deprecated,
			Secret: f.IsSecret(), Place: at[f], CBOR: travels.cbor, Wire: travels.json}
		for _, b := range []*schema.Bounds{f.Bounds, namedBounds(f.Type)} {
			r.Rules = append(r.Rules, inWords(b, f.Type)...)
			if b != nil && b.Pattern != "" {
				r.Pattern = b.Pattern
			}
		}
		t.Rows = append(t.Rows, r)
	}
	return t
}

func namedBounds(t *schema.Type) *schema.Bounds {
	if t.Named == nil {
		return nil
	}
	return t.Named.Bounds
}

// messageIn is the message that a type holds, by itself or in a list or map.
func messageIn(t *schema.Type) *schema.Message {
	switch t.Kind {
	case schema.KindMessage:
		return t.Message
	case schema.KindList, schema.KindMap:
		return messageIn(t.Elem)
	}
	return nil
}

// keyOf is a number as bytes of a payload in CBOR.
func keyOf(n int) string { return fmt.Sprintf("% x", numberCBOR(n)) }

// numberCBOR is a small number in CBOR (RFC 8949, section 3).
func numberCBOR(n int) []byte {
	switch {
	case n < 24:
		return []byte{byte(n)}
	case n < 256:
		return []byte{0x18, byte(n)}
	}
	return []byte{0x19, byte(n >> 8), byte(n)}
}

func must(f *schema.Field) string {
	switch f.Presence {
	case schema.Required:
		return "required"
	case schema.Defaulted:
		return "defaults to " + schema.LiteralText(f.Default)
	}
	return "optional"
}

// typeHTML is a type as the definitions write it, with links to what is declared.
func typeHTML(t *schema.Type, up string) template.HTML {
	link := func(d schema.Declaration) template.HTML {
		return template.HTML(`<a href="` + template.HTMLEscapeString(up+address(d)) + `">` +
			template.HTMLEscapeString(d.Head().Name) + `</a>`)
	}
	switch {
	case t.Named != nil:
		return link(t.Named)
	case t.Kind == schema.KindList:
		return "[" + typeHTML(t.Elem, up) + "]"
	case t.Kind == schema.KindMap:
		return "{" + typeHTML(t.Key, up) + ": " + typeHTML(t.Elem, up) + "}"
	case t.Kind == schema.KindEnum:
		return link(t.Enum)
	case t.Kind == schema.KindUnion:
		return link(t.Union)
	case t.Kind == schema.KindMessage && t.Message.IsPatch():
		return "patch " + link(t.Message.PatchOf)
	case t.Kind == schema.KindMessage:
		return link(t.Message)
	}
	return template.HTML(template.HTMLEscapeString(t.String()))
}

type modulePage struct {
	Name     string
	Doc      template.HTML
	Services []item
	Things   []thing
	Large    bool // each thing has a page of its own
}

// thing is one declaration of a module that is data.
type thing struct {
	Module, Name, Noun string
	To                 string // from the page of its module
	Line               string
	Doc                template.HTML
	Deprecated         string
	Says               template.HTML // what it is, in a line: a type, a value, a status
	Rules              []string
	Pattern            string
	Secret             bool
	Stored             bool
	Table              table
	IsMessage          bool
	Retired            []string
	UsedBy             []use
}

type use struct{ By, To, As string }

// fromModules leads from a page of a module or service to the folder of the manual.
const fromModules = "../"

// dataOf are the declarations of a module that its page tells of: services and credentials have pages of their own.
func dataOf(m *schema.Module) []schema.Declaration {
	return slices.DeleteFunc(m.Declarations(), func(d schema.Declaration) bool {
		switch d.(type) {
		case *schema.Service, *schema.Credential:
			return true
		}
		return false
	})
}

func (s *site) module(m *schema.Module) modulePage {
	p := modulePage{Name: m.Name, Doc: prose(m.Doc), Large: large(m)}
	for _, one := range m.Services {
		p.Services = append(p.Services, item{Name: one.Name, To: fromModules + servicePath(one), Line: line(one.Doc)})
	}
	for _, d := range dataOf(m) {
		head := d.Head()
		t := thing{Module: m.Name, Name: head.Name, Noun: noun(d), To: fromModules + address(d), Line: line(head.Doc),
			Doc: prose(head.Doc), Deprecated: head.Deprecated}
		switch d := d.(type) {
		case *schema.Example:
			t.Says = "of " + typeHTML(&schema.Type{Kind: schema.KindMessage, Message: d.Of}, fromModules)
		case *schema.Const:
			t.Says = typeHTML(d.Type, fromModules) +
				template.HTML(" = "+template.HTMLEscapeString(schema.LiteralText(d.Value)))
		case *schema.NamedType:
			plain := d.Type
			plain.Named = nil
			t.Says, t.Rules, t.Secret = "= "+typeHTML(&plain, fromModules), inWords(d.Bounds, &plain), d.Secret
			if d.Bounds != nil {
				t.Pattern = d.Bounds.Pattern
			}
		case *schema.Enum:
			t.Retired = retired(d.Retired)
			for _, x := range d.Members {
				t.Table.Rows = append(t.Table.Rows, row{ID: d.Name + "." + x.Name, Name: x.Name, Number: x.Number,
					JSON: jsonOr(x.JSON, x.Name), Key: keyOf(x.Number), Doc: prose(x.Doc), Deprecated: x.Deprecated})
			}
		case *schema.Union:
			t.Retired = retired(d.Retired)
			for _, a := range d.Alternatives {
				travels := encodings(a.Type)
				t.Table.Rows = append(t.Table.Rows, row{ID: d.Name + "." + a.Name, Name: a.Name, Number: a.Number,
					JSON: a.JSONName(), Key: keyOf(a.Number), Type: typeHTML(a.Type, fromModules), Doc: prose(a.Doc),
					Deprecated: a.Deprecated, CBOR: travels.cbor, Wire: travels.json})
			}
		case *schema.Message:
			t.Table, t.IsMessage, t.Stored = s.table(d, nil), true, d.Stored
			t.Retired = retired(d.Retired)
			if d.IsError() {
				t.Says = template.HTML(fmt.Sprintf("status %d", d.Status))
			}
		}
		for _, u := range s.users[d] {
			t.UsedBy = append(t.UsedBy, s.use(u, fromModules))
		}
		p.Things = append(p.Things, t)
	}
	return p
}

// use links to what uses a declaration, as far as that has a place; from leads to the folder of the manual.
func (s *site) use(u schema.Use, from string) use {
	if e := s.named[u.By]; e != nil {
		return use{u.By, from + address(e), u.As}
	}
	return use{By: u.By, As: u.As}
}

func noun(d schema.Declaration) string {
	_, word, _ := strings.Cut(d.Noun(), " ")
	return word
}

func jsonOr(name, otherwise string) string {
	if name == "" {
		return otherwise
	}
	return name
}

func retired(list []schema.Retired) (texts []string) {
	for _, r := range list {
		text := r.Name
		if r.Number >= 0 {
			text = strings.TrimSpace(fmt.Sprintf("#%d %s", r.Number, r.Name))
		}
		texts = append(texts, text)
	}
	return texts
}

// errorsPage is what calls can fail with: what they declare, and what every server may answer.
type errorsPage struct {
	Declared []failure
	Problems []conversation.Problem
}

type failure struct {
	failView
	Calls []item
}

func (s *site) failures() []failure {
	var list []failure
	for _, m := range s.defs.Modules {
		for _, e := range m.Messages {
			if !e.IsError() {
				continue
			}
			f := failure{failView: failView{e.FullName(), address(e), e.Status, prose(e.Doc)}}
			for _, c := range s.defs.Calls() {
				if slices.Contains(c.Fails, e) {
					f.Calls = append(f.Calls, item{Name: c.FullName(), To: address(c)})
				}
			}
			list = append(list, f)
		}
	}
	return list
}

type deprecation struct {
	Name, Noun, To, Why string
	UsedBy              []use
}

// deprecations are what nobody should begin to use, and who still does.
func (s *site) deprecations() (list []deprecation) {
	for _, e := range s.defs.Everything() {
		_, why := written(e)
		if why == "" {
			continue
		}
		_, noun, _ := strings.Cut(e.Noun(), " ")
		d := deprecation{Name: e.FullName(), Noun: noun, To: address(e), Why: why}
		if declaration, is := e.(schema.Declaration); is {
			for _, u := range s.users[declaration] {
				d.UsedBy = append(d.UsedBy, s.use(u, ""))
			}
		}
		list = append(list, d)
	}
	return list
}

type credentialView struct {
	ID, Name, Carried string
	Doc               template.HTML
	Deprecated        string
	Calls             []item
}

func (s *site) credentials() []credentialView {
	var list []credentialView
	for _, m := range s.defs.Modules {
		for _, k := range m.Credentials {
			v := credentialView{ID: k.FullName(), Name: k.FullName(), Carried: carrier(k), Doc: prose(k.Doc),
				Deprecated: k.Deprecated}
			asks := func(all []*schema.Credential) bool { return slices.Contains(all, k) }
			for _, c := range s.defs.Calls() {
				if slices.ContainsFunc(c.Needs, asks) {
					v.Calls = append(v.Calls, item{Name: c.FullName(), To: address(c)})
				}
			}
			list = append(list, v)
		}
	}
	return list
}

// carrier says how a credential travels.
func carrier(k *schema.Credential) string {
	switch k.Kind {
	case "bearer":
		return "Authorization: Bearer …"
	case "basic":
		return "Authorization: Basic …"
	}
	switch k.Carrier {
	case "header":
		return k.Key + ": …"
	case "cookie":
		return "Cookie: " + k.Key + "=…"
	}
	return "?" + k.Key + "=…"
}

type letter struct {
	Letter string
	Names  []item
}

func (s *site) names() []letter {
	var list []letter
	all := s.defs.Everything()
	short := func(e schema.Element) string {
		name := e.FullName()
		return name[strings.LastIndexByte(name, '.')+1:]
	}
	slices.SortStableFunc(all, func(a, b schema.Element) int {
		return strings.Compare(strings.ToLower(short(a)), strings.ToLower(short(b)))
	})
	for _, e := range all {
		switch e.(type) {
		case *schema.Field, *schema.Member, *schema.Alternative:
			continue // the search finds those
		}
		first := strings.ToUpper(short(e)[:1])
		if len(list) == 0 || list[len(list)-1].Letter != first {
			list = append(list, letter{Letter: first})
		}
		last := &list[len(list)-1]
		_, word, _ := strings.Cut(e.Noun(), " ")
		last.Names = append(last.Names, item{Name: short(e), To: address(e), Line: word + " " + e.FullName()})
	}
	return list
}
