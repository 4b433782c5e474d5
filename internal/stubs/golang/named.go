package golang

import (
	"fmt"

	"faithfulcourier/internal/schema"
)

// named writes a named type: a defined type, or an alias over types that have
// methods of their own.
func (g *generator) named(n *schema.NamedType) {
	g.doc(n.Name, n.Doc, fmt.Sprintf("is the type %s.", n.FullName()), n.Deprecated)
	plain := n.Type
	plain.Named = nil
	if isAlias(&n.Type) {
		g.P("type %s = %s", n.Name, g.typ(&plain))
		return
	}
	g.P("type %s %s", n.Name, g.typ(&plain))
	if n.Secret && n.Type.Kind.IsScalar() {
		g.P("")
		g.P("// String never shows the value; convert it to see it.")
		g.P("func (%s) String() string { return %s.Secret }", n.Name, g.wire())
		g.P("")
		g.P("// GoString never shows the value.")
		g.P("func (%s) GoString() string { return %s.Secret }", n.Name, g.wire())
		g.P("")
		g.P("// LogValue never shows the value.")
		g.P("func (%s) LogValue() %s.Value { return slog.StringValue(%s.Secret) }", n.Name, g.std("log/slog"), g.wire())
	} else if n.Type.Kind == schema.KindUUID {
		g.P("")
		g.P("// String writes 8-4-4-4-12 hexadecimal digits, lower case.")
		g.P("func (v %s) String() string { return %s.UUID(v).String() }", n.Name, g.wire())
	}
	if !n.Type.Kind.IsScalar() {
		g.collection(n, &plain)
	}
	g.namedViolations(n, &plain)
}

// collection writes how a named list or map is read and written.
func (g *generator) collection(n *schema.NamedType, plain *schema.Type) {
	wire := g.wire()
	// Made as the named type, so that what is read needs no conversion.
	body := *plain
	for _, f := range []struct {
		name string
		emit func()
	}{
		{"CBOR", func() { g.appendPlain(&body, "v", "b", 0) }},
		{"JSON", func() { g.starts = 1; g.secretly(n, func() { g.appendJSONPlain(&body, "v", "b", 0) }) }},
	} {
		g.P("")
		g.P("// Append%s appends v as %s; what can't be written stays in w.", f.name, f.name)
		g.In(fmt.Sprintf("func (v %s) Append%s(b []byte, w *%s.Writer) []byte {", n.Name, f.name, wire), func() {
			f.emit()
			g.P("return b")
		}, "}")
	}
	for _, encoding := range []encoding{cborEncoding, jsonEncoding} {
		g.P("")
		g.P("// %s reads v from %s.", encoding.method(), encoding.method()[4:])
		g.In(fmt.Sprintf("func (v *%s) %s(r *%s.%sReader) {", n.Name, encoding.method(), wire, encoding.method()[4:]),
			func() {
				g.readPlain(&body, "*v", encoding, 0)
			}, "}")
	}
}

// secretly hides what is written of a secret type where that is for people.
func (g *generator) secretly(n *schema.NamedType, write func()) {
	if n.Secret {
		g.In("if w.Hides() {", func() { g.P("return append(b, `\"(secret)\"`...)") }, "}")
	}
	write()
}

func (g *generator) namedViolations(n *schema.NamedType, plain *schema.Type) {
	if !n.Type.Checked() {
		return
	}
	wire := g.wire()
	pattern := unexported(n.Name) + "Pattern"
	if n.Bounds != nil && n.Bounds.Pattern != "" {
		g.P("")
		g.P("var %s = %s.MustCompile(%s)", pattern, g.std("regexp"), rawString(n.Bounds.Pattern))
	}
	g.P("")
	g.P("// AppendViolations adds every violation of the definitions.")
	g.In(fmt.Sprintf("func (v %s) AppendViolations(list []%s.Violation, path string) []%s.Violation {", n.Name, wire,
		wire), func() {
		if n.Bounds.Refuse(n.Type.Kind) {
			g.bounds(n.Bounds, check{typ: &n.Type, value: "v", path: "path", pattern: pattern, secret: n.Secret})
		}
		g.violationsInside(plain, "v", "path", 0)
		g.P("return list")
	}, "}")
	g.P("")
	g.P("// Validate returns a *wire.InvalidRequest with every violation, or nil.")
	g.P("func (v %s) Validate() error { return %s.InvalidOf(v.AppendViolations(nil, \"\")) }", n.Name, wire)
}
