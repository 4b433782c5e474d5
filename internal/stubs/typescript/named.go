package typescript

import (
	"fmt"

	"faithfulcourier/internal/schema"
)

// isBranded tells named types that are told apart from what they are over.
func isBranded(t *schema.Type) bool {
	return t.Named != nil && t.Kind.IsScalar() && t.Kind != schema.KindAny
}

// named writes a named type with its tools.
func (g *generator) named(n *schema.NamedType) {
	wire := g.wire()
	plain := n.Type
	plain.Named = nil
	g.P("")
	g.doc(docOf(n.Doc, n.Deprecated))
	if isBranded(&n.Type) {
		g.P("export type %s = %s.Named<%s, %s>;", g.offerType(n.Name), wire, g.typ(&plain), text(n.FullName()))
	} else {
		g.P("export type %s = %s;", g.offerType(n.Name), g.typ(&plain))
	}
	if g.made[&n.Decl] {
		g.P("")
		g.doc(fmt.Sprintf("What makes %s.", n.Name))
		g.P("export type %s = %s;", g.offerType(n.Name+"Init"), g.initType(&plain))
	}
	from := g.typ(&plain)
	if g.made[&n.Decl] {
		from = n.Name + "Init"
	}
	g.P("")
	g.function("make"+n.Name, []string{"value: " + from}, n.Name, func() {
		switch {
		case g.made[&n.Decl]:
			g.P("return %s;", g.remake(&plain, "value"))
		case isBranded(&n.Type):
			g.P("return value as %s;", n.Name)
		default:
			g.P("return value;")
		}
	})
	codec, tools, function := "NamedCodec", "NamedTools", "namedTools"
	if !n.Type.Kind.IsScalar() {
		codec, tools, function = "MadeCodec", "Tools", "tools"
	}
	g.P("")
	g.In(fmt.Sprintf("export const %s: %s.%s<%s, %s> = {", codecName(&n.Decl), wire, codec, from, n.Name), func() {
		g.P("make: make%s,", n.Name)
		g.P("")
		if !n.Type.Kind.IsScalar() {
			g.collection(n, &plain)
		}
		if !n.Type.Checked() {
			g.method("violations(): void", func() { g.P("// Nothing in %s can be a violation.", n.Name) })
			return
		}
		g.method(fmt.Sprintf("violations(list: %s.Violation[], path: string, value: %s): void", wire, n.Name), func() {
			if n.Bounds.Refuse(n.Type.Kind) {
				g.bounds(n.Bounds, &n.Type, "value", "path", n.Secret)
			}
			g.violationsInside(&plain, "value", "`${path}`", 0)
		})
	}, "};")
	g.export(fmt.Sprintf("Makes and checks values of %s.", n.Name), ToolsName(&n.Decl),
		fmt.Sprintf("%s.%s<%s, %s>", wire, tools, from, n.Name), wire+"."+function, codecName(&n.Decl))
}

// collection writes how a named list or map is read and written.
func (g *generator) collection(n *schema.NamedType, plain *schema.Type) {
	wire := g.wire()
	for _, encoding := range []string{"Cbor", "Json"} {
		if encoding == "Cbor" && g.jsonAlone {
			g.withoutCbor()
			g.P("")
			continue
		}
		g.method(fmt.Sprintf("write%s(w: %s.%sWriter, value: %s): void", encoding, wire, encoding, n.Name), func() {
			if encoding == "Json" && n.Secret {
				g.In("if (!w.secret()) {", func() { g.writePlain(plain, "value", encoding, 0) }, "}")
				return
			}
			g.writePlain(plain, "value", encoding, 0)
		})
		g.P("")
		g.method(fmt.Sprintf("read%s(r: %s.%sReader): %s", encoding, wire, encoding, n.Name), func() {
			g.readPlain(plain, func(value string) { g.P("return %s;", value) }, encoding, 0)
		})
		g.P("")
	}
}
