package golang

import (
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// patterns writes the compiled patterns of a message's fields.
func (g *generator) patterns(m *schema.Message) {
	var fields []*schema.Field
	for _, f := range m.Fields {
		if f.Bounds != nil && f.Bounds.Pattern != "" {
			fields = append(fields, f)
		}
	}
	if len(fields) == 0 {
		return
	}
	g.P("")
	g.P("// %s are what texts of %s must match.", patternsName(m), m.Name)
	g.P("var %s = struct {", patternsName(m))
	for _, f := range fields {
		g.P("%s *%s.Regexp", FieldName(f), g.std("regexp"))
	}
	g.P("}{")
	for _, f := range fields {
		g.P("%s: %s.MustCompile(%s),", FieldName(f), g.std("regexp"), rawString(f.Bounds.Pattern))
	}
	g.P("}")
}

func patternsName(m *schema.Message) string { return unexported(m.Name) + "Patterns" }

// rawString writes a string in back quotes where that reads better.
func rawString(s string) string {
	if strconv.CanBackquote(s) {
		return "`" + s + "`"
	}
	return strconv.Quote(s)
}

// boundsOf writes what holds the value of a field against its bounds; value is
// an expression of the field's own type, never a pointer.
func (g *generator) boundsOf(f *schema.Field, value, path string) {
	b, wire := f.Bounds, g.wire()
	refuse := func(condition, format string, args ...string) {
		g.In("if "+condition+" {", func() {
			g.P("list = %s.Refuse(list, %s, %s)", wire, path, strings.Join(append([]string{strconv.Quote(format)}, args...), ", "))
		}, "}")
	}
	if stubs.Narrows(f.Type.Kind, b) {
		condition, shown := g.outside(f.Type.Kind, value, b)
		refuse(condition, "must be "+strings.ReplaceAll(b.RangeText(), "%", "%%")+", not %v", shown)
	}
	if l := b.Length; stubs.Limits(l) {
		length, noun := "len("+value+")", "bytes"
		if f.Type.Kind == schema.KindText {
			g.std("unicode/utf8")
			length, noun = "utf8.RuneCountInString("+value+")", "characters"
		}
		refuse("n := "+length+"; "+stubs.OutsideLimits("n", l), fmt.Sprintf("must have %s %s, not %%d", l, noun), "n")
	}
	if l := b.Count; stubs.Limits(l) {
		refuse("n := len("+value+"); "+stubs.OutsideLimits("n", l), b.CountFormat(), "n")
	}
	if b.Pattern != "" {
		refuse("!"+patternsName(f.Message)+"."+FieldName(f)+".MatchString("+value+")", "must match %s", rawString(b.Pattern))
	}
	if b.Unique {
		g.In(fmt.Sprintf("list = %s.Unique(list, %s, len(%s), func(b []byte, w *%s.Writer, i int) []byte {", wire, path, value, wire), func() {
			g.appendJSONValue(f.Type.Elem, value+"[i]", "b", 0)
			g.P("return b")
		}, "})")
	}
}

// outside writes the condition that a value lies outside of a range, and how
// the value is shown.
func (g *generator) outside(k schema.Kind, value string, b *schema.Bounds) (condition, shown string) {
	var parts []string
	switch {
	case k == schema.KindInstant:
		if b.Low != nil {
			parts = append(parts, fmt.Sprintf("%s.Before(%s)", method(value), g.literal(b.Low)))
		}
		if b.High != nil {
			parts = append(parts, fmt.Sprintf("%s.After(%s)", method(value), g.literal(b.High)))
		}
		return strings.Join(parts, " || "), g.wire() + ".InstantText(" + value + ")"
	case k == schema.KindFloat32 || k == schema.KindFloat64:
		wide := value
		if k == schema.KindFloat32 {
			wide = "float64(" + value + ")"
		}
		// Negated, so that NaN is outside.
		if b.Low != nil {
			parts = append(parts, fmt.Sprintf("%s >= %s", value, schema.LiteralText(b.Low)))
		}
		if b.High != nil {
			parts = append(parts, fmt.Sprintf("%s <= %s", value, schema.LiteralText(b.High)))
		}
		return "!(" + strings.Join(parts, " && ") + ")", g.wire() + ".FloatText(" + wide + ")"
	}
	if stubs.NarrowsLow(k, b) {
		parts = append(parts, fmt.Sprintf("%s < %s", value, schema.LiteralText(b.Low)))
	}
	if stubs.NarrowsHigh(k, b) {
		parts = append(parts, fmt.Sprintf("%s > %s", value, schema.LiteralText(b.High)))
	}
	return strings.Join(parts, " || "), value
}
