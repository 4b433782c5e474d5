package golang

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
)

// comparing writes how messages are compared and copied: Equal and Clone.
func (g *generator) comparing(m *schema.Message) {
	wire := g.wire()
	g.P("")
	g.P("// Equal tells whether m and b have the same content: numbers, times and defaults by")
	g.P("// what they mean, unlisted fields byte for byte.")
	g.In(fmt.Sprintf("func (m *%s) Equal(b *%s) bool {", m.Name, m.Name), func() {
		g.In("if m == nil || b == nil {", func() { g.P("return m == b") }, "}")
		parts := []string{}
		for i, f := range m.Fields {
			part := g.sameField(f, "m")
			if i > 0 { // which begins on a line of its own
				part = strings.ReplaceAll(part, "\n", "\n\t")
			}
			parts = append(parts, part)
		}
		parts = append(parts, wire+".SameUnlisted(m.unlisted, b.unlisted)")
		g.rows("return " + strings.Join(parts, " &&\n\t"))
	}, "}")
	g.P("")
	g.P("// Clone copies m, and everything in it.")
	g.In(fmt.Sprintf("func (m *%s) Clone() *%s {", m.Name, m.Name), func() {
		g.In("if m == nil {", func() { g.P("return nil") }, "}")
		g.P("c := *m")
		for _, f := range m.Fields {
			name := FieldName(f)
			switch {
			case f.Changes != nil && plain(f.Type):
			case f.Changes != nil:
				g.rows(fmt.Sprintf("c.%s = %s.CloneChange(m.%s, %s)", name, wire, name, g.cloneFunc(f.Type, 0)))
			case f.Presence != schema.Required && !nilable(f.Type) && f.Type.Kind == schema.KindMessage:
				g.P("c.%s = m.%s.Clone()", name, name)
			case f.Presence != schema.Required && !nilable(f.Type):
				g.P("c.%s = %s.ClonePointer(m.%s)", name, wire, name)
			case !plain(f.Type):
				g.rows("c." + name + " = " + g.clone(f.Type, "m."+name, 0))
			}
		}
		g.P("c.unlisted = %s.CloneUnlisted(m.unlisted)", wire)
		g.P("return &c")
	}, "}")
}

// rows writes lines, with tabs before those that are further in.
func (g *generator) rows(text string) {
	for line := range strings.SplitSeq(text, "\n") {
		bare := strings.TrimLeft(line, "\t")
		g.Deeper(len(line)-len(bare), func() { g.P("%s", bare) })
	}
}

// sameField writes the condition that a field is the same in a message and in b.
func (g *generator) sameField(f *schema.Field, message string) string {
	a, b := message+"."+FieldName(f), "b."+FieldName(f)
	switch {
	case f.Changes != nil:
		return g.sameChange(f, a, b)
	case f.Presence == schema.Required:
		return g.same(f.Type, a, b, 0)
	case f.Presence == schema.Defaulted:
		return g.same(f.Type, a+"OrDefault()", b+"OrDefault()", 0)
	case f.Type.Kind == schema.KindMessage:
		return fmt.Sprintf("%s.Equal(%s)", a, b)
	case f.Type.Kind == schema.KindAny || f.Type.Kind == schema.KindUnion:
		return g.same(f.Type, a, b, 0)
	case nilable(f.Type):
		return fmt.Sprintf("(%s == nil) == (%s == nil) &&\n%s", a, b, g.same(f.Type, a, b, 0))
	}
	if !comparable(f.Type) {
		return fmt.Sprintf("%s.SamePointerFunc(%s, %s, %s)", g.wire(), a, b, g.sameFunc(f.Type, 0))
	}
	return fmt.Sprintf("%s.SamePointer(%s, %s)", g.wire(), a, b)
}

// plain tells types whose values are copied by assigning them, and compared by ==.
func plain(t *schema.Type) bool {
	switch t.Kind {
	case schema.KindBytes, schema.KindList, schema.KindMap, schema.KindMessage, schema.KindUnion:
		return false
	}
	return true
}

// same writes the condition that two values, which are variables where they are messages, are the same.
func (g *generator) same(t *schema.Type, a, b string, depth int) string {
	switch t.Kind {
	case schema.KindMessage:
		return fmt.Sprintf("%s.Equal(&%s)", a, b)
	case schema.KindInstant, schema.KindAny:
		return fmt.Sprintf("%s.Equal(%s)", a, b)
	case schema.KindList, schema.KindMap:
		where := "slices"
		if t.Kind == schema.KindMap {
			where = "maps"
		}
		switch {
		case t.Elem.Kind == schema.KindMessage && t.Kind == schema.KindList:
			return fmt.Sprintf("%s.SameList(%s, %s)", g.wire(), a, b)
		case t.Elem.Kind == schema.KindMessage:
			return fmt.Sprintf("%s.SameMap(%s, %s)", g.wire(), a, b)
		case comparable(t.Elem):
			return fmt.Sprintf("%s.Equal(%s, %s)", g.std(where), a, b)
		}
		return fmt.Sprintf("%s.EqualFunc(%s, %s, %s)", g.std(where), a, b, g.sameFunc(t.Elem, depth))
	}
	if comparable(t) {
		return a + " == " + b
	}
	return fmt.Sprintf("%s(%s, %s)", g.sameFunc(t, depth), a, b)
}

// comparable tells types that == compares.
func comparable(t *schema.Type) bool {
	switch t.Kind {
	case schema.KindFloat32, schema.KindFloat64, schema.KindDecimal, schema.KindInstant, schema.KindAny:
		return false
	}
	return plain(t)
}

// sameFunc is the function that compares two values that are not compared by ==.
func (g *generator) sameFunc(t *schema.Type, depth int) string {
	switch t.Kind {
	case schema.KindFloat32, schema.KindFloat64:
		return g.wire() + ".SameFloat"
	case schema.KindDecimal:
		return g.wire() + ".SameDecimal"
	case schema.KindInstant:
		return g.std("time") + ".Time.Equal"
	case schema.KindAny:
		return g.wire() + ".Any.Equal"
	case schema.KindBytes:
		return g.std("slices") + ".Equal"
	case schema.KindUnion:
		return g.unionTools(t.Union) + "{}.Equal"
	case schema.KindList:
		if comparable(t.Elem) {
			return g.std("slices") + ".Equal"
		}
	case schema.KindMap:
		if comparable(t.Elem) {
			return g.std("maps") + ".Equal"
		}
	}
	x, y := numbered("x", depth), numbered("y", depth)
	return literal(fmt.Sprintf("func(%s, %s %s) bool", x, y, g.typ(t)), g.same(t, x, y, depth+1))
}

// literal writes a function that returns an expression.
func literal(signature, expression string) string {
	return signature + " {\n\treturn " + strings.ReplaceAll(expression, "\n", "\n\t") + "\n}"
}

// clone writes the expression of a copy of a value that is not plain.
func (g *generator) clone(t *schema.Type, v string, depth int) string {
	switch t.Kind {
	case schema.KindMessage:
		return "*" + v + ".Clone()"
	case schema.KindList, schema.KindMap:
		where, function := "slices", "List"
		if t.Kind == schema.KindMap {
			where, function = "maps", "Map"
		}
		switch {
		case plain(t.Elem):
			return fmt.Sprintf("%s.Clone(%s)", g.std(where), v)
		case t.Elem.Kind == schema.KindMessage:
			return fmt.Sprintf("%s.CloneMessage%s(%s)", g.wire(), function, v)
		}
		return fmt.Sprintf("%s.Clone%s(%s, %s)", g.wire(), function, v, g.cloneFunc(t.Elem, depth))
	}
	return fmt.Sprintf("%s(%s)", g.cloneFunc(t, depth), v)
}

// cloneFunc is the function that copies a value that is not plain.
func (g *generator) cloneFunc(t *schema.Type, depth int) string {
	switch t.Kind {
	case schema.KindBytes:
		return g.std("slices") + ".Clone"
	case schema.KindUnion:
		return g.unionTools(t.Union) + "{}.Clone"
	case schema.KindList:
		if plain(t.Elem) {
			return g.std("slices") + ".Clone"
		}
	case schema.KindMap:
		if plain(t.Elem) {
			return g.std("maps") + ".Clone"
		}
	}
	x := numbered("x", depth)
	return literal(fmt.Sprintf("func(%s %s) %s", x, g.typ(t), g.typ(t)), g.clone(t, x, depth+1))
}

// unionComparing writes how values of a union are compared and copied.
func (g *generator) unionComparing(u *schema.Union) {
	wire := g.wire()
	g.P("")
	g.P("// Equal tells whether two values are the same.")
	g.In(fmt.Sprintf("func (t %sTools) Equal(a, b %s) bool {", u.Name, u.Name), func() {
		g.P("a, b = %s.Unpointed(a), %s.Unpointed(b)", wire, wire)
		g.P("switch v := a.(type) {")
		for _, alternative := range u.Alternatives {
			name := AlternativeName(alternative)
			g.P("case %s:", name)
			g.Deeper(1, func() {
				g.P("w, ok := b.(%s)", name)
				g.rows("return ok && " + g.same(alternative.Type, valueOf, "w.Value", 0))
			})
		}
		g.P("case %sUnlisted:", u.Name)
		g.P("\tw, ok := b.(%sUnlisted)", u.Name)
		g.P("\treturn ok && %s.SameUnlistedField(v.alternative, w.alternative)", wire)
		g.P("}")
		g.P("return a == nil && b == nil")
	}, "}")
	g.P("")
	g.P("// Clone copies a value, and everything in it.")
	g.In(fmt.Sprintf("func (t %sTools) Clone(u %s) %s {", u.Name, u.Name, u.Name), func() {
		g.P("switch v := %s.Unpointed(u).(type) {", wire)
		for _, alternative := range u.Alternatives {
			g.P("case %s:", AlternativeName(alternative))
			if plain(alternative.Type) {
				g.P("\treturn v")
			} else {
				g.Deeper(1, func() {
					g.rows(fmt.Sprintf("return %s{%s}", AlternativeName(alternative), g.clone(alternative.Type, valueOf, 0)))
				})
			}
		}
		g.P("case %sUnlisted:", u.Name)
		g.P("\treturn %sUnlisted{%s.CloneUnlistedField(v.alternative)}", u.Name, wire)
		g.P("}")
		g.P("return u")
	}, "}")
}
