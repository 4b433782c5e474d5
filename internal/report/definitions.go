package report

import (
	"fmt"
	"strings"

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
	for _, c := range m.Consts {
		rows = append(rows, []string{"const", c.Name + " = " + schema.LiteralText(c.Value), firstLine(c.Doc)})
	}
	for _, e := range m.Enums {
		var names []string
		for _, x := range e.Members {
			names = append(names, x.Name)
		}
		rows = append(rows, []string{"enum", e.Name, shortened(strings.Join(names, ", "))})
	}
	for _, msg := range m.Messages {
		if !msg.IsError() {
			rows = append(rows, []string{"message", msg.Name, orElse(firstLine(msg.Doc), fieldNames(msg))})
		}
	}
	for _, msg := range m.Messages {
		if msg.IsError() {
			rows = append(rows, []string{"error", fmt.Sprintf("%s %d", msg.Name, msg.Status), orElse(firstLine(msg.Doc), fieldNames(msg))})
		}
	}
	for _, s := range m.Services {
		rows = append(rows, []string{"service", s.Name, firstLine(s.Doc)})
		for _, c := range s.Calls {
			rows = append(rows, []string{"", fmt.Sprintf("  %s(%s) -> %s", c.Name, sideName(m, c.Request, ""), sideName(m, c.Response, "()")), firstLine(c.Doc)})
		}
	}
	p.Table("  ", rows)
}

func sideName(m *schema.Module, side *schema.Message, none string) string {
	if side == nil {
		return none
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

// Uses writes who uses a declaration.
func (p *Printer) Uses(thing any, uses []schema.Use) {
	switch thing.(type) {
	case *schema.Service, *schema.Const:
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

type moduleJSON struct {
	Name          string        `json:"name"`
	Documentation string        `json:"documentation,omitempty"`
	Constants     []constJSON   `json:"constants"`
	Enums         []enumJSON    `json:"enums"`
	Messages      []messageJSON `json:"messages"`
	Errors        []messageJSON `json:"errors"`
	Services      []serviceJSON `json:"services"`
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
	Documentation string `json:"documentation,omitempty"`
	Deprecated    string `json:"deprecated,omitempty"`
}

type messageJSON struct {
	Name          string        `json:"name"`
	Documentation string        `json:"documentation,omitempty"`
	Deprecated    string        `json:"deprecated,omitempty"`
	Status        int           `json:"status,omitempty"` // of an error
	Fields        []fieldJSON   `json:"fields"`
	Retired       []retiredJSON `json:"retired"`
}

type fieldJSON struct {
	Number        int    `json:"number"`
	Name          string `json:"name"`
	Documentation string `json:"documentation,omitempty"`
	Deprecated    string `json:"deprecated,omitempty"`
	Type          string `json:"type"`     // with full names
	Presence      string `json:"presence"` // "required", "optional" or "defaulted"
	Default       string `json:"default,omitempty"`
}

type serviceJSON struct {
	Name          string     `json:"name"`
	Documentation string     `json:"documentation,omitempty"`
	Deprecated    string     `json:"deprecated,omitempty"`
	Calls         []callJSON `json:"calls"`
}

type callJSON struct {
	Name          string   `json:"name"`
	Documentation string   `json:"documentation,omitempty"`
	Deprecated    string   `json:"deprecated,omitempty"`
	Method        string   `json:"method"`
	Path          string   `json:"path"`
	Request       string   `json:"request,omitempty"` // full name; absent for ()
	Answer        string   `json:"answer,omitempty"`
	Fails         []string `json:"fails"`
	Safe          bool     `json:"safe"`
}

// DefinitionsJSON turns definitions into one document.
func DefinitionsJSON(d *schema.Definitions) any {
	modules := []moduleJSON{}
	for _, m := range d.Modules {
		j := moduleJSON{Name: m.Name, Documentation: m.Doc, Constants: []constJSON{}, Enums: []enumJSON{}, Messages: []messageJSON{}, Errors: []messageJSON{}, Services: []serviceJSON{}}
		for _, c := range m.Consts {
			j.Constants = append(j.Constants, constJSON{c.Name, c.Doc, c.Deprecated, c.Type.String(), schema.LiteralText(c.Value)})
		}
		for _, e := range m.Enums {
			x := enumJSON{Name: e.Name, Documentation: e.Doc, Deprecated: e.Deprecated, Members: []memberJSON{}, Retired: retiredOf(e.Retired)}
			for _, member := range e.Members {
				x.Members = append(x.Members, memberJSON{member.Number, member.Name, member.Doc, member.Deprecated})
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

func messageOf(m *schema.Message) messageJSON {
	j := messageJSON{Name: m.Name, Documentation: m.Doc, Deprecated: m.Deprecated, Status: m.Status, Fields: []fieldJSON{}, Retired: retiredOf(m.Retired)}
	for _, f := range m.Fields {
		x := fieldJSON{Number: f.Number, Name: f.Name, Documentation: f.Doc, Deprecated: f.Deprecated, Type: f.Type.String(), Presence: f.Presence.String()}
		if f.Presence == schema.Defaulted {
			x.Default = schema.LiteralText(f.Default)
		}
		j.Fields = append(j.Fields, x)
	}
	return j
}

func serviceOf(s *schema.Service) serviceJSON {
	j := serviceJSON{Name: s.Name, Documentation: s.Doc, Deprecated: s.Deprecated, Calls: []callJSON{}}
	for _, c := range s.Calls {
		x := callJSON{Name: c.Name, Documentation: c.Doc, Deprecated: c.Deprecated, Method: "POST", Path: c.Path(), Safe: c.Safe, Fails: []string{}}
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
