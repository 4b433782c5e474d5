package golang

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// AlternativeName is the Go type of an alternative.
func AlternativeName(a *schema.Alternative) string { return a.Union.Name + Pascal(a.Name) }

// unionTools is the type that reads and writes values of a union.
func (g *generator) unionTools(u *schema.Union) string { return g.name(&u.Decl) + "Tools" }

// union writes an interface, a type for each alternative and one for those
// that are not listed, and the tools that read and write them.
func (g *generator) union(u *schema.Union) {
	wire := g.wire()
	doc := u.Doc
	if doc == "" {
		doc = fmt.Sprintf("%s is the union %s.", u.Name, u.FullName())
	}
	g.doc(u.Name, fmt.Sprintf("%s\n\nIt is exactly one of the types below. It is open: an alternative that is\nnot "+
		"listed here is preserved as %sUnlisted, so a type switch needs a default.", doc, u.Name), "", u.Deprecated)
	marker := "is" + u.Name
	g.P("type %s interface{ %s() }", u.Name, marker)
	for _, a := range u.Alternatives {
		name := AlternativeName(a)
		g.doc(name, a.Doc, fmt.Sprintf("is the alternative %s of %s.", a.Name, u.Name), a.Deprecated)
		g.P("type %s struct{ Value %s }", name, g.typ(a.Type))
	}
	g.P("")
	g.P("// %sUnlisted is an alternative that these definitions do not list.", u.Name)
	g.P("type %sUnlisted struct{ alternative %s.UnlistedField }", u.Name, wire)
	g.P("")
	g.P("// Number is the number of the alternative, or 0 where only its name is known.")
	g.P("func (u %sUnlisted) Number() int { return u.alternative.Number }", u.Name)
	g.P("")
	g.P("// Name is the name of the alternative in JSON, or \"\" where only its number")
	g.P("// is known.")
	g.P("func (u %sUnlisted) Name() string { return u.alternative.Name }", u.Name)
	g.P("")
	for _, a := range u.Alternatives {
		g.P("func (%s) %s() {}", AlternativeName(a), marker)
	}
	g.P("func (%sUnlisted) %s() {}", u.Name, marker)
	g.P("")
	for _, name := range append(alternativeNames(u), u.Name+"Unlisted") {
		g.P("// MarshalJSON writes v as JSON, also where it is in a struct of your own.")
		g.P("func (v %s) MarshalJSON() ([]byte, error) { return %sTools{}.ToJSON(v) }", name, u.Name)
		g.P("")
	}
	g.P("// %sTools reads and writes values of %s.", u.Name, u.Name)
	g.P("type %sTools struct{}", u.Name)
	g.P("")
	g.P("// ToJSON writes u as JSON.")
	g.In(fmt.Sprintf("func (t %sTools) ToJSON(u %s) ([]byte, error) {", u.Name, u.Name), func() {
		g.P("w, b := %s.Scratch()", wire)
		g.P("again := func(b []byte, w *%s.Writer) []byte { return t.AppendJSON(b, u, w) }", wire)
		g.P("return w.Fresh(again(b, w), again)")
	}, "}")
	g.P("")
	g.P("// FromJSON reads a value from JSON.")
	g.In(fmt.Sprintf("func (t %sTools) FromJSON(data []byte) (%s, error) {", u.Name, u.Name), func() {
		g.P("r := %s.NewJSONReader(data)", wire)
		g.P("u := t.ReadJSON(&r)")
		g.In("if err := r.End(); err != nil {", func() { g.P("return nil, err") }, "}")
		g.P("return u, nil")
	}, "}")
	g.unionComparing(u)
	g.unionAppend(u)
	g.unionRead(u)
	g.unionViolations(u)
}

// alternativeNames are the types of the listed alternatives.
func alternativeNames(u *schema.Union) (names []string) {
	for _, a := range u.Alternatives {
		names = append(names, AlternativeName(a))
	}
	return names
}

// valueOf is the expression of an alternative's value.
const valueOf = "v.Value"

func (g *generator) unionAppend(u *schema.Union) {
	wire := g.wire()
	for _, encoding := range []string{"CBOR", "JSON"} {
		g.P("")
		g.P("// Append%s appends u as %s; what can't be written stays in w.", encoding, encoding)
		g.In(fmt.Sprintf("func (t %sTools) Append%s(b []byte, u %s, w *%s.Writer) []byte {", u.Name, encoding, u.Name, wire),
			func() {
				g.P("switch v := u.(type) {")
				for _, a := range u.Alternatives {
					g.P("case %s:", AlternativeName(a))
					g.Deeper(1, func() {
						if encoding == "CBOR" {
							g.appendValue(a.Type, valueOf, fmt.Sprintf("w.AppendUnion(b, %d)", a.Number), 0)
							g.P("w.Leave()")
							return
						}
						g.starts = 1
						g.P("w.Enter()")
						g.appendJSONValue(a.Type, valueOf, fmt.Sprintf("append(b, %s...)", rawString("{"+jsonText(a.JSONName())+":")),
							0)
						g.P("w.Leave()")
						g.P("b = append(b, '}')")
					})
				}
				g.P("case %sUnlisted:", u.Name)
				g.P("\tb = %s.AppendUnlisted%s(b, %q, v.alternative, w)", wire, encoding, u.Name)
				g.P("default:")
				g.Deeper(1, func() {
					g.In(fmt.Sprintf("if v, ok := %s.Pointed(u).(%s); ok {", wire, u.Name),
						func() { g.P("return t.Append%s(b, v, w)", encoding) }, "}")
					g.P("return w.NotSet(b, %q)", u.Name)
				})
				g.P("}")
				g.P("return b")
			}, "}")
	}
}

func (g *generator) unionRead(u *schema.Union) {
	wire, unlisted := g.wire(), u.Name+"Unlisted"
	g.P("")
	g.P("// ReadCBOR reads a value from CBOR.")
	g.In(fmt.Sprintf("func (t %sTools) ReadCBOR(r *%s.CBORReader) %s {", u.Name, wire, u.Name), func() {
		g.P("number, open := r.OpenUnion(%q)", u.Name)
		g.P("v := t.readAlternative(r, number)")
		g.P("r.CloseUnion(open)")
		g.P("return v")
	}, "}")
	g.P("")
	g.In(fmt.Sprintf("func (%sTools) readAlternative(r *%s.CBORReader, number int) %s {", u.Name, wire, u.Name), func() {
		g.P("switch number {")
		for _, a := range u.Alternatives {
			g.P("case %d:", a.Number)
			g.Deeper(1, func() {
				g.readItem(a.Type, "value", cborEncoding, 0)
				g.P("r.Inside(%q)", a.JSONName())
				g.P("return %s{value}", AlternativeName(a))
			})
		}
		g.P("}")
		g.P("return %s{r.UnlistedAlternative(number)}", unlisted)
	}, "}")
	g.P("")
	g.P("// ReadJSON reads a value from JSON.")
	g.In(fmt.Sprintf("func (t %sTools) ReadJSON(r *%s.JSONReader) (v %s) {", u.Name, wire, u.Name), func() {
		g.P("name := r.OpenUnion(%q)", u.Name)
		g.P("switch name {")
		for _, a := range u.Alternatives {
			g.P("case %q:", a.JSONName())
			g.Deeper(1, func() {
				g.readItem(a.Type, "value", jsonEncoding, 0)
				g.P("v = %s{value}", AlternativeName(a))
			})
		}
		g.P("default:")
		g.Deeper(1, func() {
			g.P("at := r.At()")
			g.P("number, entry, unlisted := r.UnlistedAlternative(name)")
			g.In("if entry != nil {", func() {
				g.P("v = t.readAlternative(entry, number)")
				g.P("r.Absorb(entry, at)")
			}, "} else {")
			g.P("\tv = %s{unlisted}", unlisted)
			g.P("}")
		})
		g.P("}")
		g.P("r.CloseUnion(name)")
		g.P("return v")
	}, "}")
}

func (g *generator) unionViolations(u *schema.Union) {
	wire := g.wire()
	g.P("")
	g.P("// AppendViolations adds every violation of the definitions.")
	g.In(fmt.Sprintf("func (t %sTools) AppendViolations(list []%s.Violation, path string, u %s) []%s.Violation {", u.Name,
		wire, u.Name, wire), func() {
		var names, quiet []string
		var checked []*schema.Alternative
		for _, a := range u.Alternatives {
			names = append(names, a.JSONName())
			if a.Type.Checked() {
				checked = append(checked, a)
			} else {
				quiet = append(quiet, AlternativeName(a))
			}
		}
		binding := "u.(type)"
		if len(checked) > 0 {
			binding = "v := u.(type)"
		}
		g.P("switch %s {", binding)
		for _, a := range checked {
			g.P("case %s:", AlternativeName(a))
			g.Deeper(1, func() {
				g.violationsOf(a.Type, valueOf, fmt.Sprintf("path+%q", stubs.Pointer(a.JSONName())), 0)
			})
		}
		if len(quiet) > 0 {
			g.P("case %s:", strings.Join(quiet, ", "))
		}
		g.P("default:")
		g.Deeper(1, func() {
			g.In(fmt.Sprintf("if v, ok := %s.Pointed(u).(%s); ok {", wire, u.Name),
				func() { g.P("return t.AppendViolations(list, path, v)") }, "}")
			g.P("list = %s.RefuseUnlisted(list, path, %q)", wire, strings.Join(names, ", "))
		})
		g.P("}")
		g.P("return list")
	}, "}")
}
