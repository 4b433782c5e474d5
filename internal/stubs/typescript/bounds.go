package typescript

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// boundsOf writes what holds the value of a field against its bounds.
func (g *generator) boundsOf(f *schema.Field, value, path string) {
	b, wire := f.Bounds, g.wire()
	refuse := func(condition, detail string) {
		g.In("if ("+condition+") {", func() { g.P("%s.refuse(list, %s, %s);", wire, path, detail) }, "}")
	}
	if stubs.Narrows(f.Type.Kind, b) {
		condition, shown := g.outside(f.Type.Kind, value, b)
		refuse(condition, fmt.Sprintf("`must be %s, not ${%s}`", b.RangeText(), shown))
	}
	if l := b.Length; stubs.Limits(l) {
		length, noun := value+".length", "bytes"
		if f.Type.Kind == schema.KindText {
			length, noun = wire+".codePoints("+value+")", "characters"
		}
		refuse(stubs.OutsideLimits(length, l), fmt.Sprintf("`must have %s %s, not ${%s}`", l, noun, length))
	}
	if l := b.Count; stubs.Limits(l) {
		count := value + ".length"
		if f.Type.Kind == schema.KindMap {
			count = value + ".size"
		}
		refuse(stubs.OutsideLimits(count, l), "`"+strings.Replace(b.CountFormat(), "%d", "${"+count+"}", 1)+"`")
	}
	if b.Pattern != "" {
		refuse(fmt.Sprintf("!/%s/u.test(%s)", strings.NewReplacer("/", `\/`, "\n", `\n`, "\r", `\r`, "\u2028", `\u2028`, "\u2029", `\u2029`).Replace(b.Pattern), value), text("must match "+b.Pattern))
	}
	if b.Unique {
		g.In(fmt.Sprintf("%s.unique(list, %s, %s, (w, element) => {", wire, path, value), func() { g.writeValue(f.Type.Elem, "element", "Json", 0) }, "});")
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
	case schema.KindInstant:
		compare := func(is bool, sign string, v any) {
			if is {
				parts = append(parts, fmt.Sprintf("%s.compare(%s) %s 0", value, g.literal(v), sign))
			}
		}
		compare(b.Low != nil, "<", b.Low)
		compare(b.High != nil, ">", b.High)
		return strings.Join(parts, " || "), value + ".toString()"
	case schema.KindFloat32, schema.KindFloat64:
		// Negated, so that NaN is outside.
		add(b.Low != nil, "%s >= %s", b.Low)
		add(b.High != nil, "%s <= %s", b.High)
		return "!(" + strings.Join(parts, " && ") + ")", g.wire() + ".floatText(" + value + ")"
	}
	add(stubs.NarrowsLow(k, b), "%s < %s", b.Low)
	add(stubs.NarrowsHigh(k, b), "%s > %s", b.High)
	return strings.Join(parts, " || "), value
}
