package schema

import (
	"cmp"
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

// Text writes one declaration, such as a *Message, in the canonical layout, as
// its module has it.
func Text(decl Declaration) string {
	d := decl.Head()
	c := &canonical{module: d.Module, withDoc: true, aliases: map[*Module]string{}}
	c.chooseAliases()
	c.line("module " + d.Module.Name)
	decl.write(c)
	out, _ := syntax.Tidy(source.NewFile(d.Name, c.b.String())) // right, as in Canonical
	_, text, _ := strings.Cut(out, "\n\n")
	return text
}

// PlainText is Text without documentation, on as few lines as may be.
func PlainText(decl Declaration) string {
	d := decl.Head()
	c := &canonical{module: d.Module, withDoc: true, aliases: map[*Module]string{}}
	c.chooseAliases()
	c.withDoc = false
	if e, isExample := decl.(*Example); isExample {
		return "example " + e.Name + " of " + c.name(&e.Of.Decl) + " " + ValueText(e.Value)
	}
	decl.write(c)
	var lines []string
	for line := range strings.SplitSeq(strings.TrimSpace(c.b.String()), "\n") {
		lines = append(lines, strings.TrimSpace(line))
	}
	return strings.Join(lines, " ")
}

// plain is what Canonical lays out, one blank between words. The digest is made
// of it, so that it does not depend on any layout. Documentation and examples
// are there or not together.
func (m *Module) plain(withDoc bool) string {
	c := &canonical{module: m, withDoc: withDoc, aliases: map[*Module]string{}}
	c.chooseAliases()
	c.doc("", m.Doc)
	c.line("module " + m.Name)
	c.uses()
	for _, decl := range m.Declarations() {
		decl.write(c)
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
	for _, m := range c.module.uses(c.withDoc) {
		count[last(m)]++
	}
	for _, m := range c.module.uses(c.withDoc) {
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

// item writes a declaration of one line.
func (c *canonical) item(d *Decl, line string) {
	c.line("")
	c.doc("", d.Doc)
	c.line(line + deprecated(d.Deprecated))
}

func (k *Const) write(c *canonical) {
	c.item(&k.Decl, "const "+k.Name+" "+k.Type.Kind.String()+" = "+LiteralText(k.Value))
}

func (t *NamedType) write(c *canonical) {
	line := "type " + t.Name + " = " + t.Type.SpellBase(c.name) + spaced(t.Bounds.String())
	if t.Secret {
		line += " secret"
	}
	c.item(&t.Decl, line)
}

func (k *Credential) write(c *canonical) {
	line := "credential " + k.Name + " = " + k.Kind
	if k.Kind == "key" {
		line += " " + k.Carrier + " " + quote(k.Key)
	} else if k.Format != "" {
		line += " " + quote(k.Format)
	}
	c.item(&k.Decl, line)
}

// spaced puts a blank before what is there.
func spaced(s string) string {
	if s == "" {
		return ""
	}
	return " " + s
}

func jsonMark(name string) string {
	if name == "" {
		return ""
	}
	return " json " + quote(name)
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

func (e *Enum) write(c *canonical) {
	c.open(&e.Decl, "enum "+e.Name)
	for _, m := range e.Members {
		c.doc("  ", m.Doc)
		c.line(fmt.Sprintf("  #%d %s%s%s", m.Number, m.Name, jsonMark(m.JSON), deprecated(m.Deprecated)))
	}
	c.retired(e.Retired)
}

func (u *Union) write(c *canonical) {
	c.open(&u.Decl, "union "+u.Name)
	for _, a := range u.Alternatives {
		c.doc("  ", a.Doc)
		c.line(fmt.Sprintf("  #%d %s %s%s%s", a.Number, a.Name, a.Type.Spell(c.name), jsonMark(a.JSON),
			deprecated(a.Deprecated)))
	}
	c.retired(u.Retired)
}

func (m *Message) write(c *canonical) {
	head := "message " + m.Name
	if m.IsError() {
		head = fmt.Sprintf("error %s %d", m.Name, m.Status)
	}
	if m.Stored {
		head += " stored"
	}
	c.open(&m.Decl, head)
	for _, f := range m.Fields {
		c.doc("  ", f.Doc)
		t := f.Type.Spell(c.name)
		switch f.Presence {
		case Optional:
			t += "?"
		case Defaulted:
			t += " = " + LiteralText(f.Default)
		}
		t += spaced(f.Bounds.String()) + jsonMark(f.JSON)
		if f.Secret {
			t += " secret"
		}
		if f.In != nil {
			t += " in " + f.In.Place
			if f.In.Name != "" {
				t += " " + quote(f.In.Name)
			}
		}
		c.line(fmt.Sprintf("  #%d %s %s%s", f.Number, f.Name, t, deprecated(f.Deprecated)))
	}
	c.retired(m.Retired)
}

func (e *Example) write(c *canonical) {
	if c.withDoc {
		c.item(&e.Decl, "example "+e.Name+" of "+c.name(&e.Of.Decl)+" "+ValueText(e.Value))
	}
}

func (s *Service) write(c *canonical) {
	c.open(&s.Decl, "service "+s.Name)
	for i, call := range s.Calls {
		if i > 0 {
			c.line("")
		}
		c.doc("  ", call.Doc)
		head := ""
		if call.Head != nil {
			head = c.name(&call.Head.Decl) + ", "
		}
		c.line(fmt.Sprintf("  call %s(%s%s) -> %s", call.Name, head, c.side(call.Request, call.RequestStream, ""),
			c.side(call.Response, call.ResponseStream, "()")))
		if h := call.HTTP; h != nil {
			c.line("    " + h.Text())
		}
		if call.Safe {
			c.line("    safe")
		}
		if call.Idempotent {
			c.line("    idempotent")
		}
		if len(call.Needs) > 0 {
			c.line("    needs " + c.needs(call.Needs))
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

func (c *canonical) side(m *Message, stream bool, none string) string {
	switch {
	case m == nil:
		return none
	case stream:
		return "stream " + c.name(&m.Decl)
	}
	return c.name(&m.Decl)
}

func (c *canonical) needs(needs [][]*Credential) string {
	var alternatives []string
	for _, list := range needs {
		var names []string
		for _, k := range list {
			names = append(names, c.name(&k.Decl))
		}
		alternatives = append(alternatives, cmp.Or(strings.Join(names, " + "), "nothing"))
	}
	return strings.Join(alternatives, " | ")
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
	case Decimal:
		if v.Scale == 0 {
			return v.String()
		}
		return quote(v.String())
	case Date:
		return quote(v.String())
	case Duration:
		return quote(v.String())
	case *Member:
		return v.Name
	case float32:
		if x := float64(v); x != x || x-x != 0 {
			return LiteralText(x)
		}
		return strconv.FormatFloat(float64(v), 'g', -1, 32)
	case float64:
		switch {
		case v != v:
			return `"NaN"` // examples alone have these three
		case v-v != 0 && v > 0:
			return `"Infinity"`
		case v-v != 0:
			return `"-Infinity"`
		}
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
