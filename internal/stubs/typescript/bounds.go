package typescript

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// bounds writes what holds a value against bounds.
func (g *generator) bounds(b *schema.Bounds, t *schema.Type, value, path string, secret bool) {
	wire := g.wire()
	refuse := func(condition, rule string, shown ...string) {
		g.In("if "+stubs.Parens(condition)+" {", func() {
			g.P("%s;", call(wire+".refuse", append([]string{"list", path, text(rule)}, shown...)...))
		}, "}")
	}
	if b.RefuseLow(t.Kind) || b.RefuseHigh(t.Kind) {
		condition, shown := g.outside(t.Kind, value, b)
		if secret {
			refuse(condition, "must be "+b.RangeText())
		} else {
			refuse(condition, "must be "+b.RangeText(), shown)
		}
	}
	if l := b.Length; l.Refuse() {
		length, noun := value+".length", "bytes"
		if t.Kind == schema.KindText {
			length, noun = wire+".codePoints("+value+")", "characters"
		}
		condition := stubs.OutsideLimits(length, l)
		if t.Kind == schema.KindText {
			high := "Infinity"
			if l.High != schema.Unlimited {
				high = fmt.Sprint(l.High)
			}
			condition = fmt.Sprintf("%s.lengthOutside(%s, %d, %s)", wire, value, l.Low, high)
		}
		refuse(condition, fmt.Sprintf("must have %s %s", l, noun), length)
	}
	if l := b.Count; l.Refuse() {
		count := value + ".length"
		if t.Kind == schema.KindMap {
			count = value + ".size"
		}
		rule, _, _ := strings.Cut(b.CountFormat(), ", not ")
		refuse(stubs.OutsideLimits(count, l), rule, count)
	}
	if b.Pattern != "" {
		refuse(fmt.Sprintf("!/%s/u.test(%s)", strings.NewReplacer("/", `\/`, "\n", `\n`, "\r", `\r`, "\u2028", `\u2028`,
			"\u2029", `\u2029`).Replace(b.Pattern), value), "must match "+b.Pattern)
	}
	if b.Unique {
		g.In(fmt.Sprintf("%s.unique(list, %s, %s, (w, element) => {", wire, path, value),
			func() { g.writeValue(t.Elem, "element", "Json", 0) }, "});")
	}
}

// outside writes the condition that a value lies outside of a range, and how
// the value is shown.
func (g *generator) outside(k schema.Kind, value string, b *schema.Bounds) (condition, shown string) {
	suffix := ""
	if k == schema.KindInt64 || k == schema.KindUint64 {
		suffix = "n"
	}
	limit := func(v any) string { return schema.LiteralText(v) + suffix }
	var parts []string
	add := func(is bool, format string, v any) {
		if is {
			parts = append(parts, fmt.Sprintf(format, value, limit(v)))
		}
	}
	switch k {
	case schema.KindInstant, schema.KindDecimal, schema.KindDate, schema.KindDuration:
		compare := func(is bool, sign string, v any) {
			if is {
				parts = append(parts, fmt.Sprintf("%s.compare(%s) %s 0", value, g.literal(v), sign))
			}
		}
		compare(b.Low != nil, "<", b.Low)
		compare(b.High != nil, ">", b.High)
		return joined(" ||", parts), value + ".toString()"
	case schema.KindFloat32, schema.KindFloat64:
		// Negated, so that NaN is outside.
		add(b.Low != nil, "%s >= %s", b.Low)
		add(b.High != nil, "%s <= %s", b.High)
		return "!" + stubs.Parens(joined(" &&", parts)), g.wire() + ".floatText(" + value + ")"
	}
	add(b.RefuseLow(k), "%s < %s", b.Low)
	add(b.RefuseHigh(k), "%s > %s", b.High)
	return joined(" ||", parts), value
}

func (g *generator) violations(m *schema.Message) {
	wire := g.wire()
	if m.Raw() == nil && !m.Checked() {
		g.method("violations(): void", func() { g.P("// Nothing in %s can be a violation.", m.Name) })
		return
	}
	g.method(fmt.Sprintf("violations(list: %s.Violation[], path: string, m: %s): void", wire, m.Name), func() {
		for _, f := range m.Fields {
			value, path := "m."+FieldName(f), "`${path}"+templateText(stubs.Pointer(f.JSONName()))+"`"
			if f.IsRaw() {
				g.P("%s;", call(wire+".bodyViolations", "list", path, value, rawBounds(f)))
				continue
			}
			if !f.Type.Checked() && !f.Bounds.Refuse(f.Type.Kind) {
				continue
			}
			check := func() {
				if f.Bounds.Refuse(f.Type.Kind) {
					g.bounds(f.Bounds, f.Type, value, path, f.IsSecret())
				}
				g.violationsOf(f.Type, value, path, 0)
			}
			if f.Type.Clearable {
				g.In(fmt.Sprintf("if (%s !== undefined && %s !== null) {", value, value), check, "}")
			} else if f.Presence == schema.Optional {
				g.In(fmt.Sprintf("if (%s !== undefined) {", value), check, "}")
			} else {
				check()
			}
		}
	})
}

// violationsOf writes what adds the violations of a value: those of its named
// type, and those of what it holds.
func (g *generator) violationsOf(t *schema.Type, value, path string, depth int) {
	if !t.Checked() {
		return
	}
	codec := g.codecOf(t)
	if t.Named != nil {
		codec = g.codec(&t.Named.Decl)
	}
	if codec != "" {
		if path == "`${path}`" {
			path = "path"
		}
		g.P("%s;", call(codec+".violations", "list", path, value))
		return
	}
	g.violationsInside(t, value, path, depth)
}

// violationsInside is violationsOf for what a list or map holds.
func (g *generator) violationsInside(t *schema.Type, value, path string, depth int) {
	n, inner := deeper(depth), strings.TrimSuffix(path, "`")
	switch {
	case t.Kind == schema.KindList && t.Elem.Checked():
		g.In(fmt.Sprintf("for (const [i%s, item%s] of %s.entries()) {", n, n, value), func() {
			g.violationsOf(t.Elem, "item"+n, fmt.Sprintf("%s/${%s(i%s)}`", inner, g.global("String"), n), depth+1)
		}, "}")
	case t.Kind == schema.KindMap && (t.Key.Checked() || t.Elem.Checked()):
		pair := fmt.Sprintf("[key%s, entry%s]", n, n)
		if !t.Elem.Checked() {
			pair = fmt.Sprintf("[key%s]", n)
		}
		g.In(fmt.Sprintf("for (const %s of %s) {", pair, g.sortedEntries(t, value)), func() {
			at := fmt.Sprintf("%s${%s.pointer(%s)}`", inner, g.wire(), g.keyText(t.Key, "key"+n))
			g.violationsOf(t.Key, "key"+n, at, depth+1)
			g.violationsOf(t.Elem, "entry"+n, at, depth+1)
		}, "}")
	}
}
