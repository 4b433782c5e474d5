package describe

import (
	"cmp"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
)

// Of describes definitions.
func Of(d *schema.Definitions) *Definitions {
	modules := []Module{}
	for _, m := range d.Modules {
		j := Module{Name: m.Name, Documentation: m.Doc, Constants: []Const{}, Types: []NamedType{},
			Enums: []Enum{}, Unions: []Union{}, Messages: []Message{}, Errors: []Message{},
			Examples: []Example{}, Credentials: []Credential{}, Services: []Service{}}
		for _, c := range m.Consts {
			j.Constants = append(j.Constants, Const{c.Name, c.Doc, c.Deprecated, c.Type.String(),
				schema.LiteralText(c.Value)})
		}
		for _, t := range m.Types {
			j.Types = append(j.Types, NamedType{t.Name, t.Doc, t.Deprecated, t.Type.StringBase(), boundsOf(t.Bounds), t.Secret})
		}
		for _, u := range m.Unions {
			x := Union{Name: u.Name, Documentation: u.Doc, Deprecated: u.Deprecated, Alternatives: []Alternative{},
				Retired: retiredOf(u.Retired)}
			for _, a := range u.Alternatives {
				x.Alternatives = append(x.Alternatives, Alternative{a.Number, a.Name, a.JSON, a.Doc, a.Deprecated,
					a.Type.String()})
			}
			j.Unions = append(j.Unions, x)
		}
		for _, e := range m.Examples {
			j.Examples = append(j.Examples, Example{e.Name, e.Doc, e.Of.FullName(), schema.ValueText(e.Value)})
		}
		for _, c := range m.Credentials {
			j.Credentials = append(j.Credentials, Credential{c.Name, c.Doc, c.Deprecated, c.Kind, c.Carrier, c.Key,
				c.Format})
		}
		for _, e := range m.Enums {
			x := Enum{Name: e.Name, Documentation: e.Doc, Deprecated: e.Deprecated, Members: []Member{},
				Retired: retiredOf(e.Retired)}
			for _, member := range e.Members {
				x.Members = append(x.Members, Member{member.Number, member.Name, member.JSON, member.Doc, member.Deprecated})
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
	return &Definitions{Digest: d.Digest(), Modules: modules}
}

// One describes one declaration by itself: what it is found as, such as one of its fields, its text, what it uses, and
// who uses it.
func One(found schema.Element, decl schema.Declaration, uses []schema.Use) *Declaration {
	names := []string{}
	for _, used := range schema.Uses(decl) {
		names = append(names, used.FullName())
	}
	return &Declaration{Name: found.FullName(), Text: schema.Text(decl), Uses: names, UsedBy: uses}
}

func retiredOf(list []schema.Retired) []Retired {
	out := []Retired{}
	for _, r := range list {
		j := Retired{Name: r.Name}
		if r.Number >= 0 {
			j.Number = &r.Number
		}
		out = append(out, j)
	}
	return out
}

func boundsOf(b *schema.Bounds) *Bounds {
	if b == nil {
		return nil
	}
	limits := func(l *schema.Limits) *Limits {
		if l == nil {
			return nil
		}
		j := &Limits{AtLeast: l.Low}
		if l.High != schema.Unlimited {
			j.AtMost = &l.High
		}
		return j
	}
	j := &Bounds{Length: limits(b.Length), Count: limits(b.Count), Pattern: b.Pattern, Unique: b.Unique}
	if b.Low != nil {
		j.AtLeast = schema.LiteralText(b.Low)
	}
	if b.High != nil {
		j.AtMost = schema.LiteralText(b.High)
	}
	return j
}

func messageOf(m *schema.Message) Message {
	j := Message{Name: m.Name, Stored: m.Stored, Documentation: m.Doc, Deprecated: m.Deprecated, Status: m.Status,
		Fields: []Field{}, Retired: retiredOf(m.Retired)}
	for _, f := range m.Fields {
		x := Field{Number: f.Number, Name: f.Name, Documentation: f.Doc, Deprecated: f.Deprecated,
			Type: f.Type.String(), Presence: f.Presence.String(),
			JSON: f.JSON, Secret: f.IsSecret(), Bounds: boundsOf(f.Bounds)}
		if f.Presence == schema.Defaulted {
			x.Default = schema.LiteralText(f.Default)
		}
		if f.In != nil {
			x.In = &Mark{f.In.Place, cmp.Or(f.In.Name, f.JSONName())}
		}
		j.Fields = append(j.Fields, x)
	}
	return j
}

func serviceOf(s *schema.Service) Service {
	j := Service{Name: s.Name, Documentation: s.Doc, Deprecated: s.Deprecated, Calls: []Call{}}
	for _, c := range s.Calls {
		x := Call{Name: c.Name, Documentation: c.Doc, Deprecated: c.Deprecated, Method: conversation.Method(c),
			Path: conversation.Path(c), Safe: c.Safe, Idempotent: c.Idempotent,
			RequestStream: c.RequestStream, AnswerStream: c.ResponseStream, Fails: []string{}, Needs: [][]string{},
			Places: []Place{}, AnswerPlaces: []Place{}}
		if c.HTTP != nil {
			x.Status = c.HTTP.Status
		}
		for _, p := range conversation.Places(c) {
			x.Places = append(x.Places, Place{p.Field.Name, string(p.Place), p.Name})
		}
		for _, p := range conversation.AnswerPlaces(c) {
			x.AnswerPlaces = append(x.AnswerPlaces, Place{p.Field.Name, string(p.Place), p.Name})
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
