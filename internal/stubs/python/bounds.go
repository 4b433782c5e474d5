package python

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// bounds writes what holds a value against bounds.
func (g *generator) bounds(b *schema.Bounds, t *schema.Type, label, value, path string, secret bool) {
	wire := g.wire()
	refuse := func(condition, detail string) {
		g.block("if "+condition+":", func() { g.P("%s", stubs.Call(wire+".refuse", "found", path, detail)) })
	}
	formatted := func(text, shown string) string {
		escaped := strings.NewReplacer("{", "{{", "}", "}}").Replace(quote(text))
		mark := escaped[len(escaped)-1:]
		return "f" + strings.TrimSuffix(escaped, mark) + ", not {" + shown + "}" + mark
	}
	if b.RefuseLow(t.Kind) || b.RefuseHigh(t.Kind) {
		condition, shown := g.outside(t.Kind, label, value, b)
		if secret {
			refuse(condition, quote("must be "+b.RangeText()))
		} else {
			refuse(condition, formatted("must be "+b.RangeText(), shown))
		}
	}
	if l := b.Length; l.Refuse() {
		noun := "bytes"
		if t.Kind == schema.KindText {
			noun = "characters"
		}
		refuse(outsideLimits(value, l), formatted(fmt.Sprintf("must have %s %s", l, noun), "len("+value+")"))
	}
	if l := b.Count; l.Refuse() {
		text, _, _ := strings.Cut(b.CountFormat(), ", not ")
		refuse(outsideLimits(value, l), formatted(text, "len("+value+")"))
	}
	if b.Pattern != "" {
		g.use("import re as _re")
		search := stubs.Call("_re.search", quote(pythonPattern(b.Pattern)), value, "_re.ASCII")
		refuse(search+" is None", quote("must match "+b.Pattern))
	}
	if b.Unique {
		compared := strings.ReplaceAll(g.jsonValue(t.Elem, "item", "0", 0), "mode", wire+".COMPARED")
		g.P("%s", stubs.Call(wire+".unique", "found", path, value, "lambda item: "+compared))
	}
}

// pythonPattern makes "$" the very end: in Python it also stands before a last
// newline.
func pythonPattern(pattern string) string {
	var b strings.Builder
	class := false
	for i := 0; i < len(pattern); i++ {
		c := pattern[i]
		switch {
		case c == '\\' && i+1 < len(pattern):
			b.WriteByte(c)
			i++
			c = pattern[i]
		case c == '[':
			class = true
		case c == ']':
			class = false
		case c == '$' && !class:
			b.WriteString(`\Z`)
			continue
		}
		b.WriteByte(c)
	}
	return b.String()
}

func outsideLimits(value string, l *schema.Limits) string {
	switch {
	case l.High == schema.Unlimited:
		return fmt.Sprintf("len(%s) < %d", value, l.Low)
	case l.Low == 0:
		return fmt.Sprintf("len(%s) > %d", value, l.High)
	}
	return fmt.Sprintf("not %d <= len(%s) <= %d", l.Low, value, l.High)
}

// outside writes the condition that a value lies outside of a range, and how
// the value is shown.
func (g *generator) outside(k schema.Kind, label, value string, b *schema.Bounds) (condition, shown string) {
	limit := func(v any, end string) string {
		literal := g.literal(v)
		if !strings.Contains(literal, "(") {
			return literal
		}
		name := "_" + label + "__" + end
		g.constants = append(g.constants, name+" = "+literal)
		return name
	}
	isFloat := k == schema.KindFloat32 || k == schema.KindFloat64
	low, high := b.Low != nil, b.High != nil
	if k.IsInteger() {
		low, high = b.RefuseLow(k), b.RefuseHigh(k)
	}
	shown = value
	switch {
	case isFloat:
		shown = g.wire() + ".float_text(" + value + ")"
	case k == schema.KindDecimal:
		shown = g.wire() + ".decimal_text(" + value + ")"
	}
	switch {
	case low && high:
		condition = fmt.Sprintf("not %s <= %s <= %s", limit(b.Low, "low"), value, limit(b.High, "high"))
	case low && isFloat:
		condition = fmt.Sprintf("not %s >= %s", value, limit(b.Low, "low")) // NaN is outside
	case high && isFloat:
		condition = fmt.Sprintf("not %s <= %s", value, limit(b.High, "high"))
	case low:
		condition = fmt.Sprintf("%s < %s", value, limit(b.Low, "low"))
	default:
		condition = fmt.Sprintf("%s > %s", value, limit(b.High, "high"))
	}
	return condition, shown
}

func (g *generator) violations(m *schema.Message) {
	g.function("_violations", []string{"self", "found: list[" + g.wire() + ".Violation]", "path: str"}, "None", func() {
		if m.Raw() == nil && !m.Checked() {
			g.P("\"\"\"Nothing in it can be a violation.\"\"\"")
			return
		}
		for _, f := range m.Fields {
			if f.IsRaw() {
				path := sum("path", quote(stubs.Pointer(f.JSONName())))
				g.P("%s", stubs.Call(g.rawBounds(f)+".violations", "found", path, "self."+FieldName(f)))
				continue
			}
			if !f.Type.Checked() && !f.Bounds.Refuse(f.Type.Kind) {
				continue
			}
			value, path := "self."+FieldName(f), []string{"path", quote(stubs.Pointer(f.JSONName()))}
			check := func() {
				if f.Bounds.Refuse(f.Type.Kind) {
					g.bounds(f.Bounds, f.Type, snake(f.Message.Name)+"__"+f.Name, value, sum(path...), f.IsSecret())
				}
				g.violationsOf(f.Type, value, path...)
			}
			if f.Type.Clearable {
				g.block(fmt.Sprintf("if %s is not %s and %s is not None:", value, g.unchanged(), value), check)
			} else if f.Presence == schema.Optional {
				g.block(fmt.Sprintf("if %s is not %s:", value, g.nothing(f)), check)
			} else {
				check()
			}
		}
	})
	g.P("")
}

// violationsOf writes what adds the violations of a value, whose path is a sum of
// texts: those of its named
// type, and those of what it holds.
func (g *generator) violationsOf(t *schema.Type, value string, path ...string) {
	switch {
	case !t.Checked():
	case t.Named != nil:
		name := g.name(&t.Named.Decl)
		check := strings.TrimSuffix(name, t.Named.Name) + "check_" + snake(t.Named.Name)
		g.P("%s", stubs.Call(check, value, "found", sum(path...)))
	case t.Kind == schema.KindEnum, t.Kind == schema.KindMessage, t.Kind == schema.KindUnion:
		g.P("%s", stubs.Call(value+"._violations", "found", sum(path...)))
	default:
		g.violationsInside(t, value, path...)
	}
}

// violationsInside is violationsOf for what a list or map holds.
func (g *generator) violationsInside(t *schema.Type, value string, path ...string) {
	switch {
	case t.Kind == schema.KindList && t.Elem.Checked():
		i, item := g.fresh("i"), g.fresh("item")
		g.block(fmt.Sprintf("for %s, %s in enumerate(%s):", i, item, value), func() {
			g.violationsOf(t.Elem, item, append(slices.Clip(path), fmt.Sprintf(`f"/{%s}"`, i))...)
		})
	case t.Kind == schema.KindMap && (t.Key.Checked() || t.Elem.Checked()):
		key, item := g.fresh("key"), g.fresh("item")
		if !t.Elem.Checked() {
			item = "_"
		}
		g.block(fmt.Sprintf("for %s, %s in %s:", key, item, g.sorted(t, value)), func() {
			at := append(slices.Clip(path), stubs.Call(g.wire()+".pointer", g.keyText(t.Key, key)))
			g.violationsOf(t.Key, key, at...)
			g.violationsOf(t.Elem, item, at...)
		})
	}
}
