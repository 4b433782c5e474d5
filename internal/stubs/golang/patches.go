package golang

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
)

// patch writes the patch of a message.
func (g *generator) patch(p *schema.Message) {
	of := p.PatchOf
	g.doc(p.Name, fmt.Sprintf("%s is what of a %s is to be changed: its zero value leaves all as it is.", p.Name, of.Name),
		"", p.Deprecated)
	g.structOf(p)
	g.P("")
	g.fieldTable(p)
	g.standardMethods(p)
	g.comparing(p)
	g.applying(p)
	g.appendCBOR(p)
	g.readCBOR(p)
	g.appendJSON(p)
	g.readJSON(p)
	g.violations(p)
}

// changeType is the Go type of a patch's field.
func (g *generator) changeType(f *schema.Field) string {
	return fmt.Sprintf("%s.Change[%s]", g.wire(), g.typ(f.Type))
}

// eachChange runs body for the value that a field of a patch is set to, and cleared where
// it is cleared.
func (g *generator) eachChange(f *schema.Field, body func(value string), cleared func()) {
	name := FieldName(f)
	set, otherwise := "ok", fmt.Sprintf("m.%s.Cleared()", name)
	if f.Type.Kind == schema.KindAny { // null clears, however it came there
		set, otherwise = "ok && !v.IsNull()", fmt.Sprintf("!m.%s.Left()", name)
	}
	g.In(fmt.Sprintf("if v, ok := m.%s.Value(); %s {", name, set), func() { body("v") }, "} else if "+otherwise+" {")
	g.Deeper(1, func() {
		if f.Type.Clearable {
			cleared()
		} else {
			g.P("b = w.CantClear(b, %q)", f.JSONName())
		}
	})
	g.P("}")
}

// readChange writes the statements that read a field of a patch.
func (g *generator) readChange(f *schema.Field, encoding encoding) {
	name := FieldName(f)
	set := func() {
		switch _, isScalar := scalars[f.Type.Kind]; {
		case isScalar:
			g.P("m.%s = %s.Set(%s)", name, g.wire(), g.readScalar(f.Type))
		default:
			g.readItem(f.Type, "v", encoding, 0)
			g.P("m.%s = %s.Set(v)", name, g.wire())
		}
	}
	if !f.Type.Clearable {
		g.In("if !r.Clears(true) {", set, "}")
		return
	}
	g.In("if r.Clears(false) {", func() { g.P("m.%s = %s.Clear[%s]()", name, g.wire(), g.typ(f.Type)) }, "} else {")
	g.Deeper(1, set)
	g.P("}")
}

// sameChange writes the condition that a field of a patch is the same in m and b.
func (g *generator) sameChange(f *schema.Field, a, b string) string {
	if comparable(f.Type) {
		return fmt.Sprintf("%s.SameChange(%s, %s)", g.wire(), a, b)
	}
	return fmt.Sprintf("%s.SameChangeFunc(%s, %s, %s)", g.wire(), a, b, g.sameFunc(f.Type, 0))
}

// applying writes how a patch is applied, and made of two messages.
func (g *generator) applying(p *schema.Message) {
	wire, of := g.wire(), p.PatchOf
	g.P("")
	g.P("// Apply changes to as m says, unlisted fields too: what is cleared is absent after it,")
	g.P("// or has its default. A required field that m clears is left.")
	g.In(fmt.Sprintf("func (m *%s) Apply(to *%s) {", p.Name, of.Name), func() {
		for _, f := range p.Fields {
			g.applyField(f)
		}
		g.P("to.unlisted = %s.ApplyUnlisted(to.unlisted, m.unlisted)", wire)
	}, "}")
	g.P("")
	g.P("// Between makes m the patch that changes a into b, and returns it: applied to a, it gives")
	g.P("// what equals b.")
	g.In(fmt.Sprintf("func (m *%s) Between(a, b *%s) *%s {", p.Name, of.Name, p.Name), func() {
		g.P("*m = %s{unlisted: %s.UnlistedBetween(a.unlisted, b.unlisted)}", p.Name, wire)
		for _, f := range p.Fields {
			g.betweenField(f)
		}
		g.P("return m")
	}, "}")
}

// applyField writes what applies one field of a patch.
func (g *generator) applyField(f *schema.Field) {
	name, wire := FieldName(f), g.wire()
	of := f.Changes
	value := "v"
	if !plain(f.Type) {
		value = g.clone(f.Type, "v", 0)
	}
	end := "}"
	if f.Type.Clearable {
		end = fmt.Sprintf("} else if m.%s.Cleared() {", name)
	}
	g.In(fmt.Sprintf("if v, ok := m.%s.Value(); ok {", name), func() {
		switch {
		case of.Presence == schema.Required || nilable(f.Type):
			g.rows(fmt.Sprintf("to.%s = %s", name, value))
		case f.Type.Kind == schema.KindMessage:
			g.P("to.%s = v.Clone()", name)
		default:
			g.P("to.%s = &v", name)
		}
	}, end)
	if !f.Type.Clearable {
		return
	}
	g.Deeper(1, func() {
		switch {
		case of.Presence == schema.Defaulted && nilable(f.Type):
			g.P("to.%s = %s", name, g.literal(of.Default))
		case of.Presence == schema.Defaulted:
			g.P("to.%s = %s.Pointer(%s)", name, wire, g.typedLiteral(of))
		case f.Type.Kind == schema.KindAny:
			g.P("to.%s = %s{}", name, g.typ(f.Type))
		default:
			g.P("to.%s = nil", name)
		}
	})
	g.P("}")
}

// betweenField writes what finds how one field changed.
func (g *generator) betweenField(f *schema.Field) {
	name, wire, of := FieldName(f), g.wire(), f.Changes
	value := "b." + name
	switch {
	case of.Presence == schema.Defaulted:
		value += "OrDefault()"
	case of.Presence == schema.Optional && !nilable(f.Type):
		value = "*" + value
	}
	if !plain(f.Type) {
		value = g.clone(f.Type, method(value), 0)
	}
	same := g.sameField(of, "a")
	set := func() { g.rows(fmt.Sprintf("m.%s = %s.Set(%s)", name, wire, value)) }
	if of.Presence != schema.Optional {
		differs := "!" + same
		if f.Type.Kind == schema.KindUnion { // a literal can't begin the condition
			differs = "!(" + same + ")"
		}
		if comparable(f.Type) {
			differs = strings.Replace(same, " == ", " != ", 1)
		}
		g.rows("if " + differs + " {")
		g.Deeper(1, set)
		g.P("}")
		return
	}
	g.rows("switch {\ncase " + strings.ReplaceAll(same, "\n", "\n\t") + ":")
	g.P("case %s:", present(of, "b."+name))
	g.Deeper(1, set)
	g.P("default:")
	g.P("\tm.%s = %s.Clear[%s]()", name, wire, g.typ(f.Type))
	g.P("}")
}
