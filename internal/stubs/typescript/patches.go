package typescript

import (
	"fmt"

	"faithfulcourier/internal/schema"
)

// readField writes the statements that read a field into m. In a patch null clears it.
func (g *generator) readField(f *schema.Field, encoding string) {
	field := "m." + FieldName(f)
	isExpression := g.codecOf(f.Type) != "" || f.Type.Kind.IsScalar()
	switch {
	case f.Changes != nil && f.Type.Clearable && isExpression:
		g.P("%s = r.null() ? null : %s;", field, g.readExpression(f.Type, encoding))
	case f.Changes != nil && f.Type.Clearable:
		g.In("if (r.null()) {", func() { g.P("%s = null;", field) }, "} else {")
		g.Deeper(1, func() { g.readInto(f.Type, field, encoding) })
		g.P("}")
	case f.Changes != nil && f.Type.Kind == schema.KindAny:
		g.P("%s = r.null() ? r.fail(%s) : %s;", field,
			text("found null: the field is required, and can't be cleared"), g.readExpression(f.Type, encoding))
	default:
		g.readInto(f.Type, field, encoding)
	}
}

// writeChange writes the statements that write what a patch does to a field.
func (g *generator) writeChange(f *schema.Field, write func()) {
	null := fmt.Sprintf("if (m.%s === null) {", FieldName(f))
	switch {
	case f.Type.Clearable:
		g.In(null, func() { g.P("w.null();") }, "} else {")
		g.Deeper(1, write)
		g.P("}")
	case f.Type.Kind == schema.KindAny: // of all others null is refused anyway
		g.In(null, func() { g.P("%s.notCleared();", g.patches()) }, "}")
		write()
	default:
		write()
	}
}

// applying writes how a patch is applied, and made of two messages.
func (g *generator) applying(p *schema.Message) {
	patches, of := g.patches(), p.PatchOf
	g.P("")
	parameters := []string{"patch: " + p.Name, "to: " + of.Name}
	g.function("apply"+p.Name, parameters, of.Name, func() {
		g.P("return %s.applyUnlisted(", patches)
		g.fieldsOf(p, func(f *schema.Field) string {
			name := FieldName(f)
			switch {
			case !f.Type.Clearable:
				return fmt.Sprintf("patch.%s ?? to.%s", name, name)
			case f.Changes.Presence == schema.Defaulted:
				return call(patches+".changed", "patch."+name, "to."+name, g.literalOf(f.Type, f.Changes.Default))
			}
			return call(patches+".changed", "patch."+name, "to."+name, "undefined")
		})
		g.P("  to,")
		g.P("  patch,")
		g.P(");")
	})
	g.P("")
	parameters = []string{"a: " + of.Name, "b: " + of.Name}
	g.function("make"+p.Name+"Between", parameters, p.Name, func() {
		g.P("return %s.unlistedBetween(", patches)
		g.fieldsOf(p, func(f *schema.Field) string {
			function := "changeOf"
			if f.Changes.Presence == schema.Optional {
				function = "change"
			}
			return call(patches+"."+function, "a."+FieldName(f), "b."+FieldName(f))
		})
		g.P("  a,")
		g.P("  b,")
		g.P(");")
	})
}

// fieldsOf writes an object with the fields of a patch, as an argument.
func (g *generator) fieldsOf(p *schema.Message, value func(f *schema.Field) string) {
	if len(p.Fields) == 0 {
		g.P("  {},")
		return
	}
	g.P("  {")
	g.Deeper(2, func() {
		for _, f := range p.Fields {
			g.P("%s: %s,", FieldName(f), value(f))
		}
	})
	g.P("  },")
}
