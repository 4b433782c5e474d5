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
