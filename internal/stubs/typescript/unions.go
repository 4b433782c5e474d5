package typescript

import (
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// AlternativeName is the TypeScript type of an alternative.
func AlternativeName(a *schema.Alternative) string { return a.Union.Name + upperFirst(Camel(a.Name)) }

// union writes a union: an interface for each alternative, and its tools.
func (g *generator) union(u *schema.Union) {
	wire := g.wire()
	var names []string
	for _, a := range u.Alternatives {
		names = append(names, AlternativeName(a))
	}
	doc := u.Doc
	if doc != "" {
		doc += "\n\n"
	}
	g.P("")
	g.doc(docOf(doc+"It is exactly one of these, told apart by kind. It is open: an alternative\nthat is not listed "+
		"is preserved, so a switch needs a default.", u.Deprecated))
	g.P("export type %s =%s;", g.offerType(u.Name), stubs.Alternatives('|', append(names, u.Name+"Unlisted")...))
	for _, a := range u.Alternatives {
		g.P("")
		g.doc(docOf(a.Doc, a.Deprecated))
		g.In(fmt.Sprintf("export interface %s {", g.offerType(AlternativeName(a))), func() {
			g.P("readonly kind: %s;", text(a.Name))
			g.P("readonly value: %s;", g.typ(a.Type))
		}, "}")
	}
	g.P("")
	g.doc("An alternative that these definitions do not list.")
	g.P("export type %s = %s.UnlistedAlternative;", g.offerType(u.Name+"Unlisted"), wire)
	if g.made[&u.Decl] {
		g.unionInit(u)
	}
	if !g.jsonAlone {
		g.unionReadAlternative(u)
	}
	codec := fmt.Sprintf("%s.Codec<%s>", wire, u.Name)
	if g.made[&u.Decl] {
		g.unionMake(u)
		codec = fmt.Sprintf("%s.MadeCodec<%sInit, %s>", wire, u.Name, u.Name)
	}
	g.P("")
	g.In(fmt.Sprintf("export const %s: %s = {", codecName(&u.Decl), codec), func() {
		if g.made[&u.Decl] {
			g.P("make: make%s,", u.Name)
			g.P("")
		}
		g.unionWrite(u)
		g.unionRead(u)
		g.unionViolations(u)
	}, "};")
	if g.made[&u.Decl] {
		g.export(fmt.Sprintf("Makes, reads, writes and checks values of %s.", u.Name), ToolsName(&u.Decl),
			fmt.Sprintf("%s.Tools<%sInit, %s>", wire, u.Name, u.Name), wire+".tools", codecName(&u.Decl))
		return
	}
	g.export(fmt.Sprintf("Reads, writes and checks values of %s.", u.Name), ToolsName(&u.Decl),
		fmt.Sprintf("%s.ValueTools<%s>", wire, u.Name), wire+".valueTools", codecName(&u.Decl))
}

// unionReadAlternative writes what reads an alternative by its number.
func (g *generator) unionReadAlternative(u *schema.Union) {
	wire := g.wire()
	g.P("")
	g.function("read"+u.Name+"Alternative", []string{"r: " + wire + ".CborReader", "number: number"}, u.Name, func() {
		g.In("switch (number) {", func() {
			for _, a := range u.Alternatives {
				g.P("case %d:", a.Number)
				g.Deeper(1, func() { g.alternative(a, "Cbor", "return ") })
			}
		}, "}")
		g.P("return r.unlisted(number);")
	})
}

// alternative reads the value of an alternative.
func (g *generator) alternative(a *schema.Alternative, encoding, keep string) {
	g.In("try {", func() {
		done := func(value string) { g.P("%s{ kind: %s, value: %s };", keep, text(a.Name), value) }
		if g.codecOf(a.Type) != "" || a.Type.Kind.IsScalar() {
			done(g.readExpression(a.Type, encoding))
		} else {
			g.readPlain(a.Type, done, encoding, 0)
		}
	}, "} catch (problem) {")
	g.P("  throw %s.inside(problem, %s);", g.wire(), text(a.JSONName()))
	g.P("}")
}

func (g *generator) unionWrite(u *schema.Union) {
	for _, encoding := range []string{"Cbor", "Json"} {
		if encoding == "Cbor" && g.jsonAlone {
			g.withoutCbor()
			g.P("")
			continue
		}
		g.method(fmt.Sprintf("write%s(w: %s.%sWriter, m: %s): void", encoding, g.wire(), encoding, u.Name), func() {
			g.In("switch (m.kind) {", func() {
				for _, a := range u.Alternatives {
					g.P("case %s:", text(a.Name))
					g.Deeper(1, func() {
						if encoding == "Cbor" {
							g.P("w.openUnion(%d);", a.Number)
						} else {
							g.P("w.openUnion(%s);", text(a.JSONName()))
						}
						g.writeValue(a.Type, "m.value", encoding, 0)
						g.closeWriting(encoding, "}")
						g.P("break;")
					})
				}
				g.P("default:")
				if encoding == "Cbor" {
					g.P("  w.unlisted(%s, m);", text(u.Name))
				} else {
					g.P("  w.unlisted(m);")
				}
			}, "}")
		})
		g.P("")
	}
}

func (g *generator) unionRead(u *schema.Union) {
	wire := g.wire()
	if !g.jsonAlone {
		g.method(fmt.Sprintf("readCbor(r: %s.CborReader): %s", wire, u.Name), func() {
			g.P("const number = r.openUnion(%s);", text(u.Name))
			g.P("const m = read%sAlternative(r, %s.abs(number));", u.Name, g.global("Math"))
			g.P("r.closeUnion(number);")
			g.P("return m;")
		})
		g.P("")
	}
	g.method(fmt.Sprintf("readJson(r: %s.JsonReader): %s", wire, u.Name), func() {
		g.P("const name = r.openUnion(%s);", text(u.Name))
		g.P("let m: %s;", u.Name)
		g.In("switch (name) {", func() {
			for _, a := range u.Alternatives {
				g.P("case %s:", text(a.JSONName()))
				g.Deeper(1, func() {
					g.alternative(a, "Json", "m = ")
					g.P("break;")
				})
			}
			g.In("default: {", func() {
				g.P("const found = r.unlisted(name);")
				g.In(fmt.Sprintf("if (%s.isArray(found)) {", g.global("Array")), func() {
					if g.jsonAlone {
						g.unlistedNumber(u)
						return
					}
					g.P("m = read%sAlternative(found[1], found[0]);", u.Name)
					g.P("r.absorb(found[1]);")
				}, "} else {")
				g.P("  m = found;")
				g.P("}")
			}, "}")
		}, "}")
		g.P("r.closeUnion();")
		g.P("return m;")
	})
	g.P("")
}

// unlistedNumber writes what keeps an alternative that came by its number, unless it is listed.
func (g *generator) unlistedNumber(u *schema.Union) {
	var numbers []string
	for _, a := range u.Alternatives {
		numbers = append(numbers, strconv.Itoa(a.Number))
	}
	g.In(fmt.Sprintf("if (%s.includes(found[0])) {", stubs.Rows("[", numbers, "]")), func() {
		g.P("r.fail(%s);", text(inCbor))
	}, "}")
	g.P("m = { kind: %s.unlistedKind, ...found[1].unlisted(found[0]) };", g.wire())
	g.P("r.absorb(found[1]);")
}

func (g *generator) unionViolations(u *schema.Union) {
	var names, quiet []string
	g.method(fmt.Sprintf("violations(list: %s.Violation[], path: string, m: %s): void", g.wire(), u.Name), func() {
		g.In("switch (m.kind) {", func() {
			for _, a := range u.Alternatives {
				names = append(names, a.JSONName())
				if !a.Type.Checked() {
					quiet = append(quiet, a.Name)
					continue
				}
				g.P("case %s:", text(a.Name))
				g.Deeper(1, func() {
					g.violationsOf(a.Type, "m.value", "`${path}"+templateText(stubs.Pointer(a.JSONName()))+"`", 0)
					g.P("break;")
				})
			}
			for i, name := range quiet {
				g.P("case %s:", text(name))
				if i == len(quiet)-1 {
					g.P("  break;")
				}
			}
			g.P("default:")
			g.Deeper(1, func() {
				g.P("%s;", call(g.wire()+".refuseUnlisted", "list", "path", text(strings.Join(names, ", "))))
			})
		}, "}")
	})
}
