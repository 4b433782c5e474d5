package python

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// union writes a class for each alternative, and the functions that read and
// write them.
func (g *generator) union(u *schema.Union) {
	wire := g.wire()
	g.use("from dataclasses import dataclass as _dataclass")
	g.use("from typing import TypeAlias as _TypeAlias")
	var names []string
	for _, a := range u.Alternatives {
		names = append(names, AlternativeName(a))
		g.export(AlternativeName(a))
		g.top()
		g.P("@_dataclass(slots=True)")
		g.In(fmt.Sprintf("class %s:", AlternativeName(a)), func() {
			doc := a.Doc
			if doc == "" {
				doc = fmt.Sprintf("The alternative %s of %s.", a.Name, u.Name)
			}
			g.doc(docOf(doc, a.Deprecated))
			g.P("")
			secret := ""
			if a.Type.Named != nil && a.Type.Named.Secret {
				g.use("from dataclasses import field as _field")
				secret = " = _field(repr=False)"
			}
			g.P("value: %s%s", g.typ(a.Type), secret)
			g.alternative(a)
		}, "")
	}
	unlisted := "_" + u.Name + "Unlisted"
	g.top()
	g.P("@_dataclass(slots=True)")
	g.In(fmt.Sprintf("class %s:", unlisted), func() {
		g.P("\"\"\"An alternative that these definitions do not list.\"\"\"")
		g.P("")
		g.P("alternative: %s.UnlistedField", wire)
		g.P("")
		g.method("_violations", []string{"self", "found: list[" + wire + ".Violation]", "path: str"}, "None", func() {
			var listed []string
			for _, a := range u.Alternatives {
				listed = append(listed, a.JSONName())
			}
			g.P("%s", stubs.Call(wire+".refuse_unlisted", "found", "path", quote(strings.Join(listed, ", "))))
		})
		g.method("_write_cbor", []string{"self", "out: " + wire + ".Out", "depth: int"}, "None", func() {
			g.P("%s", stubs.Call(wire+".unlisted_cbor", "self.alternative", quote(u.Name), "out", "depth"))
		})
		g.method("_write_json", []string{"self", "depth: int", "mode: int"}, "str", func() {
			g.P("return %s.unlisted_json(self.alternative, depth, mode)", wire)
		})
	}, "")
	names = append(names, unlisted)
	g.export(u.Name)
	g.Blank(2)
	var others []string
	for _, name := range names[1:] {
		others = append(others, "| "+name)
	}
	g.P("%s: _TypeAlias = %s", u.Name, stubs.Optional("(", []string{stubs.Either(names[0], others...)}, ")"))
	doc := u.Doc
	if doc == "" {
		doc = "The union " + u.FullName() + "."
	}
	g.doc(docOf(doc+"\n\nIt is exactly one of these classes. It is open: an alternative that is not listed is preserved, "+
		"so a match needs a default.", u.Deprecated))
	g.readUnion(u, unlisted)
}

// alternative writes the methods of an alternative's class.
func (g *generator) alternative(a *schema.Alternative) {
	wire := g.wire()
	g.P("")
	g.method("_violations", []string{"self", "found: list[" + wire + ".Violation]", "path: str"}, "None", func() {
		if !a.Type.Checked() {
			g.P("\"\"\"Nothing in it can be a violation.\"\"\"")
			return
		}
		g.violationsOf(a.Type, "self.value", "path", quote(stubs.Pointer(a.JSONName())))
	})
	g.method("_write_cbor", []string{"self", "out: " + wire + ".Out", "depth: int"}, "None", func() {
		g.tooDeep()
		g.P("depth += 1")
		g.P("out.append(%s)", bytesLiteral(append([]byte{0xa1}, cborHead(0, a.Number)...)))
		g.putValue(a.Type, "self.value", 0)
	})
	g.method("_write_json", []string{"self", "depth: int", "mode: int"}, "str", func() {
		g.tooDeep()
		g.P("depth += 1")
		terms := sum(quote("{"+jsonText(a.JSONName())+":"), g.jsonValue(a.Type, "self.value", "depth", 0), `"}"`)
		g.P("return %s", stubs.Optional("(", []string{terms}, ")"))
	})
}

// readUnion writes the functions that read a union.
func (g *generator) readUnion(u *schema.Union, unlisted string) {
	wire := g.wire()
	g.top()
	name := snake(u.Name)
	g.method("_read_"+name+"_cbor", []string{"r: " + wire + ".CborReader"}, u.Name, func() {
		g.P("number = r.open_union(%s)", quote(u.Name))
		g.P("value = %s", stubs.Call("_read_"+name+"_alternative", "r", "abs(number)"))
		g.P("r.close_union(number)")
		g.P("return value")
	})
	g.top()
	g.method("_read_"+name+"_alternative", []string{"r: " + wire + ".CborReader", "number: int"}, u.Name, func() {
		for _, a := range u.Alternatives {
			g.block(fmt.Sprintf("if number == %d:", a.Number), func() { g.readAlternative(a, cborEncoding) })
		}
		g.P("return %s", stubs.Call(unlisted, "r.unlisted(number)"))
	})
	g.top()
	g.method("_read_"+name+"_json", []string{"r: " + wire + ".JsonReader"}, u.Name, func() {
		g.P("name = r.open_union(%s)", quote(u.Name))
		g.P("value = _read_%s_member(r, name)", name)
		g.P("r.close_union()")
		g.P("return value")
	})
	g.top()
	g.method("_read_"+name+"_member", []string{"r: " + wire + ".JsonReader", "name: str"}, u.Name, func() {
		for _, a := range u.Alternatives {
			g.block(fmt.Sprintf("if name == %s:", quote(a.JSONName())), func() { g.readAlternative(a, jsonEncoding) })
		}
		g.P("entry = r.entry(name)")
		g.block("if entry is None:", func() {
			g.P("return %s", stubs.Call(unlisted, stubs.Call(wire+".UnlistedField", "0", "name", `b""`, "r.raw()")))
		})
		g.P("value = %s", stubs.Call("_read_"+name+"_alternative", "entry[1]", "entry[0]"))
		g.P("r.absorb(entry[1])")
		g.P("return value")
	})
	g.fastUnion(u)
	g.scannedUnion(u)
}

func (g *generator) readAlternative(a *schema.Alternative, encoding encoding) {
	g.P("try:")
	g.Deeper(1, func() {
		value := g.readItem(a.Type, encoding)
		g.P("return %s", stubs.Call(AlternativeName(a), value))
	})
	g.P("except %s.WireError as problem:", g.wire())
	g.P("    raise problem.inside(%s) from None", quote(a.JSONName()))
}
