package report

import (
	"cmp"
	"fmt"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
)

// Outline writes what a module declares, a line each.
func (p *Printer) Outline(m *schema.Module) {
	head := p.In(Bold, m.Name)
	if m.Doc != "" {
		head += "  " + p.In(Faint, firstLine(m.Doc))
	}
	p.Line("%s", head)
	var rows [][]string
	for _, decl := range m.Declarations() {
		rows = append(rows, outlineRow(m, decl))
	}
	// Signatures of calls are long: they have columns of their own.
	widths := p.columns(rows)
	for i, decl := range m.Declarations() {
		p.row("  ", rows[i], widths)
		if s, ok := decl.(*schema.Service); ok {
			var calls [][]string
			for _, c := range s.Calls {
				calls = append(calls, []string{fmt.Sprintf("%s(%s) -> %s", c.Name, requestName(m, c),
					sideName(m, c.Response, c.ResponseStream, "()")), firstLine(c.Doc)})
			}
			p.Table("    ", calls)
		}
	}
}

// outlineRow is the line of one declaration in an outline.
func outlineRow(m *schema.Module, decl schema.Declaration) []string {
	doc := firstLine(decl.Head().Doc)
	switch d := decl.(type) {
	case *schema.Const:
		return []string{"const", d.Name + " = " + schema.LiteralText(d.Value), doc}
	case *schema.NamedType:
		return []string{"type", d.Name + " = " + d.Type.LocalBase(m), orElse(doc, d.Bounds.String())}
	case *schema.Enum:
		var names []string
		for _, x := range d.Members {
			names = append(names, x.Name)
		}
		return []string{"enum", d.Name, shortened(strings.Join(names, ", "))}
	case *schema.Union:
		var names []string
		for _, a := range d.Alternatives {
			names = append(names, a.Name)
		}
		return []string{"union", d.Name, shortened(strings.Join(names, " | "))}
	case *schema.Message:
		if d.IsError() {
			return []string{"error", fmt.Sprintf("%s %d", d.Name, d.Status), orElse(doc, fieldNames(d))}
		}
		return []string{"message", d.Name, orElse(doc, fieldNames(d))}
	case *schema.Example:
		return []string{"example", d.Name + " of " + sideName(m, d.Of, false, ""), doc}
	case *schema.Credential:
		what := d.Kind
		if d.Kind == "key" {
			what = d.Carrier + " " + d.Key
		} else if d.Format != "" {
			what += " " + d.Format
		}
		return []string{"credential", d.Name, orElse(doc, what)}
	case *schema.Service:
		return []string{"service", d.Name, doc}
	}
	return nil
}

func requestName(m *schema.Module, c *schema.Call) string {
	name := sideName(m, c.Request, c.RequestStream, "")
	if c.Head != nil {
		name = sideName(m, c.Head, false, "") + ", " + name
	}
	return name
}

func sideName(m *schema.Module, side *schema.Message, stream bool, none string) string {
	if side == nil {
		return none
	}
	if stream {
		return "stream " + sideName(m, side, false, none)
	}
	return (&schema.Type{Kind: schema.KindMessage, Message: side}).Local(m)
}

func fieldNames(m *schema.Message) string {
	var names []string
	for _, f := range m.Fields {
		names = append(names, f.Name)
	}
	return shortened(strings.Join(names, ", "))
}

func orElse(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return shortened(line)
}

func shortened(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:59]) + "…"
	}
	return s
}

// Uses writes what a declaration uses, and who uses it.
func (p *Printer) Uses(thing schema.Declaration, uses []schema.Use) {
	if list := schema.Uses(thing); len(list) > 0 {
		p.Line("")
		p.Line("Uses")
		var rows [][]string
		for _, used := range list {
			_, word, _ := strings.Cut(used.Noun(), " ")
			rows = append(rows, []string{word, used.FullName()})
		}
		p.Table("  ", rows)
	}
	switch thing.(type) {
	case *schema.Service, *schema.Const, *schema.Example:
		return // what uses these is code
	}
	p.Line("")
	if len(uses) == 0 {
		p.Line("Nothing uses it.")
		return
	}
	p.Line("Used by")
	var rows [][]string
	for _, u := range uses {
		rows = append(rows, []string{u.As, u.By})
	}
	p.Table("  ", rows)
}

// UsesJSON lists the full names of what a declaration uses.
func UsesJSON(thing schema.Declaration) []string {
	names := []string{}
	for _, used := range schema.Uses(thing) {
		names = append(names, used.FullName())
	}
	return names
}

type moduleJSON struct {
	Name          string           `json:"name"`
	Documentation string           `json:"documentation,omitempty"`
	Constants     []constJSON      `json:"constants"`
	Types         []typeJSON       `json:"types"`
	Enums         []enumJSON       `json:"enums"`
	Unions        []unionJSON      `json:"unions"`
	Messages      []messageJSON    `json:"messages"`
	Errors        []messageJSON    `json:"errors"`
	Examples      []exampleJSON    `json:"examples"`
	Credentials   []credentialJSON `json:"credentials"`
	Services      []serviceJSON    `json:"services"`
}

type typeJSON struct {
	Name          string      `json:"name"`
	Documentation string      `json:"documentation,omitempty"`
	Deprecated    string      `json:"deprecated,omitempty"`
	Over          string      `json:"over"`
	Bounds        *boundsJSON `json:"bounds,omitempty"`
	Secret        bool        `json:"secret"`
}

// boundsJSON has limits as text, as the language writes them: not every
// number of the definitions is one of JSON's.
type boundsJSON struct {
	AtLeast string      `json:"at_least,omitempty"`
	AtMost  string      `json:"at_most,omitempty"`
	Length  *limitsJSON `json:"length,omitempty"`
	Count   *limitsJSON `json:"count,omitempty"`
	Pattern string      `json:"pattern,omitempty"`
	Unique  bool        `json:"unique,omitempty"`
}

type limitsJSON struct {
	AtLeast uint64  `json:"at_least"`
	AtMost  *uint64 `json:"at_most,omitempty"`
}

type unionJSON struct {
	Name          string            `json:"name"`
	Documentation string            `json:"documentation,omitempty"`
	Deprecated    string            `json:"deprecated,omitempty"`
	Alternatives  []alternativeJSON `json:"alternatives"`
	Retired       []retiredJSON     `json:"retired"`
}

type alternativeJSON struct {
	Number        int    `json:"number"`
	Name          string `json:"name"`
	JSON          string `json:"json,omitempty"` // another name in JSON; below, too
	Documentation string `json:"documentation,omitempty"`
	Deprecated    string `json:"deprecated,omitempty"`
	Type          string `json:"type"`
}

type exampleJSON struct {
	Name          string `json:"name"`
	Documentation string `json:"documentation,omitempty"`
	Of            string `json:"of"`
	Value         string `json:"value"` // as the language writes it
}

type credentialJSON struct {
	Name          string `json:"name"`
	Documentation string `json:"documentation,omitempty"`
	Deprecated    string `json:"deprecated,omitempty"`
	Kind          string `json:"kind"`              // "key", "bearer" or "basic"
	Carrier       string `json:"carrier,omitempty"` // of a key
	Key           string `json:"key,omitempty"`
	Format        string `json:"format,omitempty"` // of a bearer
}

type constJSON struct {
	Name          string `json:"name"`
	Documentation string `json:"documentation,omitempty"`
	Deprecated    string `json:"deprecated,omitempty"` // why; below, too
	Type          string `json:"type"`
	Value         string `json:"value"` // as the language writes it
}

type retiredJSON struct {
	Number *int   `json:"number,omitempty"`
	Name   string `json:"name,omitempty"`
}

type enumJSON struct {
	Name          string        `json:"name"`
	Documentation string        `json:"documentation,omitempty"`
	Deprecated    string        `json:"deprecated,omitempty"`
	Members       []memberJSON  `json:"members"`
	Retired       []retiredJSON `json:"retired"`
}

type memberJSON struct {
	Number        int    `json:"number"`
	Name          string `json:"name"`
	JSON          string `json:"json,omitempty"`
	Documentation string `json:"documentation,omitempty"`
	Deprecated    string `json:"deprecated,omitempty"`
}

type messageJSON struct {
	Name          string        `json:"name"`
	Documentation string        `json:"documentation,omitempty"`
	Deprecated    string        `json:"deprecated,omitempty"`
	Status        int           `json:"status,omitempty"` // of an error
	Stored        bool          `json:"stored"`
	Fields        []fieldJSON   `json:"fields"`
	Retired       []retiredJSON `json:"retired"`
}

type fieldJSON struct {
	Number        int         `json:"number"`
	Name          string      `json:"name"`
	Documentation string      `json:"documentation,omitempty"`
	Deprecated    string      `json:"deprecated,omitempty"`
	Type          string      `json:"type"`     // with full names
	Presence      string      `json:"presence"` // "required", "optional" or "defaulted"
	Default       string      `json:"default,omitempty"`
	JSON          string      `json:"json,omitempty"`
	Secret        bool        `json:"secret"` // its own mark, or its type's
	Bounds        *boundsJSON `json:"bounds,omitempty"`
	In            *inJSON     `json:"in,omitempty"`
}

type inJSON struct {
	Place string `json:"place"` // "query", "header", "cookie" or "body"
	Name  string `json:"name"`
}

type serviceJSON struct {
	Name          string     `json:"name"`
	Documentation string     `json:"documentation,omitempty"`
	Deprecated    string     `json:"deprecated,omitempty"`
	Calls         []callJSON `json:"calls"`
}

type callJSON struct {
	Name          string         `json:"name"`
	Documentation string         `json:"documentation,omitempty"`
	Deprecated    string         `json:"deprecated,omitempty"`
	Method        string         `json:"method"`
	Path          string         `json:"path"`
	Head          string         `json:"head,omitempty"`    // full name; absent where no head comes before a stream
	Request       string         `json:"request,omitempty"` // full name; absent for ()
	Answer        string         `json:"answer,omitempty"`
	RequestStream bool           `json:"request_stream"`
	AnswerStream  bool           `json:"answer_stream"`
	Status        int            `json:"status,omitempty"` // of success, where one is given
	Places        []placeOfField `json:"places"`
	AnswerPlaces  []placeOfField `json:"answer_places"`
	Fails         []string       `json:"fails"`
	Needs         [][]string     `json:"needs"` // one of these, of it all; [] for nothing
	Safe          bool           `json:"safe"`
	Idempotent    bool           `json:"idempotent"`
}

// placeOfField says where a field of a request or an answer travels.
type placeOfField struct {
	Field string `json:"field"`
	Place string `json:"place"` // "path", "query", "header", "cookie", "body" or "raw"
	Name  string `json:"name"`
}

// DefinitionsJSON turns definitions into one document.
func DefinitionsJSON(d *schema.Definitions) any {
	modules := []moduleJSON{}
	for _, m := range d.Modules {
		j := moduleJSON{Name: m.Name, Documentation: m.Doc, Constants: []constJSON{}, Types: []typeJSON{},
			Enums: []enumJSON{}, Unions: []unionJSON{}, Messages: []messageJSON{}, Errors: []messageJSON{},
			Examples: []exampleJSON{}, Credentials: []credentialJSON{}, Services: []serviceJSON{}}
		for _, c := range m.Consts {
			j.Constants = append(j.Constants, constJSON{c.Name, c.Doc, c.Deprecated, c.Type.String(),
				schema.LiteralText(c.Value)})
		}
		for _, t := range m.Types {
			j.Types = append(j.Types, typeJSON{t.Name, t.Doc, t.Deprecated, t.Type.StringBase(), boundsOf(t.Bounds), t.Secret})
		}
		for _, u := range m.Unions {
			x := unionJSON{Name: u.Name, Documentation: u.Doc, Deprecated: u.Deprecated, Alternatives: []alternativeJSON{},
				Retired: retiredOf(u.Retired)}
			for _, a := range u.Alternatives {
				x.Alternatives = append(x.Alternatives, alternativeJSON{a.Number, a.Name, a.JSON, a.Doc, a.Deprecated,
					a.Type.String()})
			}
			j.Unions = append(j.Unions, x)
		}
		for _, e := range m.Examples {
			j.Examples = append(j.Examples, exampleJSON{e.Name, e.Doc, e.Of.FullName(), schema.ValueText(e.Value)})
		}
		for _, c := range m.Credentials {
			j.Credentials = append(j.Credentials, credentialJSON{c.Name, c.Doc, c.Deprecated, c.Kind, c.Carrier, c.Key,
				c.Format})
		}
		for _, e := range m.Enums {
			x := enumJSON{Name: e.Name, Documentation: e.Doc, Deprecated: e.Deprecated, Members: []memberJSON{},
				Retired: retiredOf(e.Retired)}
			for _, member := range e.Members {
				x.Members = append(x.Members, memberJSON{member.Number, member.Name, member.JSON, member.Doc, member.Deprecated})
			}
			j.Enums = append(j.Enums, x)
		}
		for _, msg := range m.Messages {
			if msg.IsError() {
				j.Errors = append(j.Errors, messageOf(msg))
			} else {
				j.Messages = append(j.Messages, messageOf(msg))
			}
		}
		for _, s := range m.Services {
			j.Services = append(j.Services, serviceOf(s))
		}
		modules = append(modules, j)
	}
	return map[string]any{"digest": d.Digest(), "modules": modules}
}

func retiredOf(list []schema.Retired) []retiredJSON {
	out := []retiredJSON{}
	for _, r := range list {
		j := retiredJSON{Name: r.Name}
		if r.Number >= 0 {
			j.Number = &r.Number
		}
		out = append(out, j)
	}
	return out
}

func boundsOf(b *schema.Bounds) *boundsJSON {
	if b == nil {
		return nil
	}
	limits := func(l *schema.Limits) *limitsJSON {
		if l == nil {
			return nil
		}
		j := &limitsJSON{AtLeast: l.Low}
		if l.High != schema.Unlimited {
			j.AtMost = &l.High
		}
		return j
	}
	j := &boundsJSON{Length: limits(b.Length), Count: limits(b.Count), Pattern: b.Pattern, Unique: b.Unique}
	if b.Low != nil {
		j.AtLeast = schema.LiteralText(b.Low)
	}
	if b.High != nil {
		j.AtMost = schema.LiteralText(b.High)
	}
	return j
}

func messageOf(m *schema.Message) messageJSON {
	j := messageJSON{Name: m.Name, Stored: m.Stored, Documentation: m.Doc, Deprecated: m.Deprecated, Status: m.Status,
		Fields: []fieldJSON{}, Retired: retiredOf(m.Retired)}
	for _, f := range m.Fields {
		x := fieldJSON{Number: f.Number, Name: f.Name, Documentation: f.Doc, Deprecated: f.Deprecated,
			Type: f.Type.String(), Presence: f.Presence.String(),
			JSON: f.JSON, Secret: f.IsSecret(), Bounds: boundsOf(f.Bounds)}
		if f.Presence == schema.Defaulted {
			x.Default = schema.LiteralText(f.Default)
		}
		if f.In != nil {
			x.In = &inJSON{f.In.Place, cmp.Or(f.In.Name, f.JSONName())}
		}
		j.Fields = append(j.Fields, x)
	}
	return j
}

func serviceOf(s *schema.Service) serviceJSON {
	j := serviceJSON{Name: s.Name, Documentation: s.Doc, Deprecated: s.Deprecated, Calls: []callJSON{}}
	for _, c := range s.Calls {
		x := callJSON{Name: c.Name, Documentation: c.Doc, Deprecated: c.Deprecated, Method: conversation.Method(c),
			Path: conversation.Path(c), Safe: c.Safe, Idempotent: c.Idempotent,
			RequestStream: c.RequestStream, AnswerStream: c.ResponseStream, Fails: []string{}, Needs: [][]string{},
			Places: []placeOfField{}, AnswerPlaces: []placeOfField{}}
		if c.HTTP != nil {
			x.Status = c.HTTP.Status
		}
		for _, p := range conversation.Places(c) {
			x.Places = append(x.Places, placeOfField{p.Field.Name, string(p.Place), p.Name})
		}
		for _, p := range conversation.AnswerPlaces(c) {
			x.AnswerPlaces = append(x.AnswerPlaces, placeOfField{p.Field.Name, string(p.Place), p.Name})
		}
		for _, alternative := range c.Needs {
			names := []string{}
			for _, k := range alternative {
				names = append(names, k.FullName())
			}
			x.Needs = append(x.Needs, names)
		}
		if c.Head != nil {
			x.Head = c.Head.FullName()
		}
		if c.Request != nil {
			x.Request = c.Request.FullName()
		}
		if c.Response != nil {
			x.Answer = c.Response.FullName()
		}
		for _, e := range c.Fails {
			x.Fails = append(x.Fails, e.FullName())
		}
		j.Calls = append(j.Calls, x)
	}
	return j
}
