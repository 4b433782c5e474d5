package schema

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// Digest identifies definitions, documentation aside: the SHA-256 of the plain
// text of all modules, as 64 hexadecimal digits. It does not depend
// on file names, the order of declarations or aliases.
func (d *Definitions) Digest() string {
	hash := sha256.New()
	for _, m := range d.Modules {
		hash.Write([]byte(m.plain(false)))
	}
	return hex.EncodeToString(hash.Sum(nil))
}

// Canonical writes a module as one definition file in the canonical layout,
// documentation included: declarations by kind and name, fields and members by
// number, calls by name.
func (m *Module) Canonical() string {
	out, findings := syntax.Tidy(source.NewFile(m.Name, m.plain(true)))
	if len(findings) > 0 {
		panic("what we write must be right: " + findings[0].Message)
	}
	return out
}

// Text writes one declaration (a *Const, *Enum, *Message or *Service) in the
// canonical layout, as its module has it.
func Text(decl any) string {
	d := head(decl)
	c := &canonical{module: d.Module, withDoc: true, aliases: map[*Module]string{}}
	c.chooseAliases()
	c.line("module " + d.Module.Name)
	switch x := decl.(type) {
	case *Const:
		c.constant(x)
	case *Enum:
		c.enum(x)
	case *Message:
		c.message(x)
	case *Service:
		c.service(x)
	}
	out, _ := syntax.Tidy(source.NewFile(d.Name, c.b.String())) // right, as in Canonical
	_, text, _ := strings.Cut(out, "\n\n")
	return text
}

// plain is what Canonical lays out, one blank between words. The digest is made
// of it, so that it does not depend on any layout.
func (m *Module) plain(withDoc bool) string {
	c := &canonical{module: m, withDoc: withDoc, aliases: map[*Module]string{}}
	c.chooseAliases()
	c.doc("", m.Doc)
	c.line("module " + m.Name)
	c.uses()
	for _, k := range m.Consts {
		c.constant(k)
	}
	for _, e := range m.Enums {
		c.enum(e)
	}
	for _, isError := range []bool{false, true} {
		for _, msg := range m.Messages {
			if msg.IsError() == isError {
				c.message(msg)
			}
		}
	}
	for _, s := range m.Services {
		c.service(s)
	}
	return c.b.String()
}

type canonical struct {
	b       strings.Builder
	module  *Module
	withDoc bool
	aliases map[*Module]string
}

func (c *canonical) line(s string) { c.b.WriteString(s + "\n") }

func (c *canonical) doc(indent, text string) {
	if !c.withDoc || text == "" {
		return
	}
	for line := range strings.SplitSeq(text, "\n") {
		c.line(strings.TrimRight(indent+"/// "+line, " "))
	}
}

// chooseAliases gives each module that is referred to its last part as alias,
// or all its parts where two would be equal.
func (c *canonical) chooseAliases() {
	last := func(m *Module) string { return m.Name[strings.LastIndexByte(m.Name, '.')+1:] }
	count := map[string]int{}
	for _, m := range c.module.Uses() {
		count[last(m)]++
	}
	for _, m := range c.module.Uses() {
		c.aliases[m] = last(m)
		if count[last(m)] > 1 {
			c.aliases[m] = strings.ReplaceAll(m.Name, ".", "_")
		}
	}
}

func (c *canonical) uses() {
	var lines []string
	for m, alias := range c.aliases {
		line := "use " + m.Name
		if alias != m.Name[strings.LastIndexByte(m.Name, '.')+1:] {
			line += " as " + alias
		}
		lines = append(lines, line)
	}
	slices.Sort(lines)
	if len(lines) > 0 {
		c.line("\n" + strings.Join(lines, "\n"))
	}
}

func (c *canonical) name(d *Decl) string {
	if d.Module == c.module {
		return d.Name
	}
	return c.aliases[d.Module] + "." + d.Name
}

func (c *canonical) constant(k *Const) {
	c.line("")
	c.doc("", k.Doc)
	c.line("const " + k.Name + " " + k.Type.Kind.String() + " = " + LiteralText(k.Value) + deprecated(k.Deprecated))
}

// deprecated writes the mark, with a blank before it.
func deprecated(why string) string {
	if why == "" {
		return ""
	}
	return " deprecated " + quote(why)
}

func (c *canonical) open(d *Decl, head string) {
	c.line("")
	c.doc("", d.Doc)
	c.line(head + deprecated(d.Deprecated) + " {")
}

func (c *canonical) retired(list []Retired) {
	list = slices.Clone(list)
	slices.SortFunc(list, func(a, b Retired) int {
		if a.Number != b.Number {
			return a.Number - b.Number
		}
		return strings.Compare(a.Name, b.Name)
	})
	for _, r := range list {
		line := "  retired"
		if r.Number >= 0 {
			line += " #" + strconv.Itoa(r.Number)
		}
		if r.Name != "" {
			line += " " + quote(r.Name)
		}
		c.line(line)
	}
	c.line("}")
}

func (c *canonical) enum(e *Enum) {
	c.open(&e.Decl, "enum "+e.Name)
	for _, m := range e.Members {
		c.doc("  ", m.Doc)
		c.line(fmt.Sprintf("  #%d %s%s", m.Number, m.Name, deprecated(m.Deprecated)))
	}
	c.retired(e.Retired)
}

func (c *canonical) message(m *Message) {
	head := "message " + m.Name
	if m.IsError() {
		head = fmt.Sprintf("error %s %d", m.Name, m.Status)
	}
	c.open(&m.Decl, head)
	for _, f := range m.Fields {
		c.doc("  ", f.Doc)
		t := f.Type.spell(c.name)
		switch f.Presence {
		case Optional:
			t += "?"
		case Defaulted:
			t += " = " + LiteralText(f.Default)
		}
		c.line(fmt.Sprintf("  #%d %s %s%s", f.Number, f.Name, t, deprecated(f.Deprecated)))
	}
	c.retired(m.Retired)
}

func (c *canonical) service(s *Service) {
	c.open(&s.Decl, "service "+s.Name)
	for i, call := range s.Calls {
		if i > 0 {
			c.line("")
		}
		c.doc("  ", call.Doc)
		side := func(m *Message) string {
			if m == nil {
				return ""
			}
			return c.name(&m.Decl)
		}
		answer := side(call.Response)
		if call.Response == nil {
			answer = "()"
		}
		c.line(fmt.Sprintf("  call %s(%s) -> %s", call.Name, side(call.Request), answer))
		if call.Safe {
			c.line("    safe")
		}
		var fails []string
		for _, e := range call.Fails {
			fails = append(fails, c.name(&e.Decl))
		}
		if len(fails) > 0 {
			c.line("    fails " + strings.Join(fails, ", "))
		}
		if call.Deprecated != "" {
			c.line("   " + deprecated(call.Deprecated))
		}
	}
	c.line("}")
}

// LiteralText writes a default or constant as the language does.
func LiteralText(v any) string {
	switch v := v.(type) {
	case string:
		return quote(v)
	case []byte:
		return quote(base64.RawURLEncoding.EncodeToString(v))
	case UUID:
		return quote(v.String())
	case Instant:
		return quote(v.String())
	case *Member:
		return v.Name
	case float32:
		return strconv.FormatFloat(float64(v), 'g', -1, 32)
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return fmt.Sprint(v)
}

func quote(s string) string {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(s); err != nil {
		return strconv.Quote(s) // strings always encode; this is never reached
	}
	return strings.TrimSuffix(b.String(), "\n")
}
