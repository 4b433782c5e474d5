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

func patternsName(m *schema.Message) string { return unexported(m.Declared().Name) + "Patterns" }

// rawString writes a string in back quotes where that reads better.
func rawString(s string) string {
	if strconv.CanBackquote(s) {
		return "`" + s + "`"
	}
	return strconv.Quote(s)
}

// check is a value to be held against bounds.
type check struct {
	typ     *schema.Type
	value   string // an expression, never a pointer
	path    string
	pattern string // the expression of the compiled pattern
	secret  bool
}

// bounds writes what holds a value against bounds.
func (g *generator) bounds(b *schema.Bounds, c check) {
	wire, t, value := g.wire(), c.typ, c.value
	refuse := func(condition, format string, args ...string) {
		g.In("if "+condition+" {", func() {
			g.P("list = %s.Refuse(list, %s, %s)", wire, c.path,
				strings.Join(append([]string{strconv.Quote(format)}, args...), ", "))
		}, "}")
	}
	if b.RefuseLow(t.Kind) || b.RefuseHigh(t.Kind) {
		condition, shown := g.outside(t, value, b)
		format := "must be " + strings.ReplaceAll(b.RangeText(), "%", "%%")
		if c.secret {
			refuse(condition, format)
		} else {
			refuse(condition, format+", not %v", shown)
		}
	}
	if l := b.Length; l.Refuse() {
		length, noun := "len("+value+")", "bytes"
		if t.Kind == schema.KindText {
			g.std("unicode/utf8")
			length, noun = "utf8.RuneCountInString("+g.base(t, value)+")", "characters"
		}
		refuse("n := "+length+"; "+stubs.OutsideLimits("n", l), fmt.Sprintf("must have %s %s, not %%d", l, noun), "n")
	}
	if l := b.Count; l.Refuse() {
		refuse("n := len("+value+"); "+stubs.OutsideLimits("n", l), b.CountFormat(), "n")
	}
	if b.Pattern != "" {
		refuse("!"+c.pattern+".MatchString("+g.base(t, value)+")", "must match %s", rawString(b.Pattern))
	}
	if b.Unique {
		g.In(fmt.Sprintf("list = %s.Unique(list, %s, len(%s), func(b []byte, w *%s.Writer, i int) []byte {", wire, c.path,
			value, wire), func() {
			g.starts = 0
			g.appendJSONValue(t.Elem, value+"[i]", "b", 0)
			g.P("return b")
		}, "})")
	}
}

// outside writes the condition that a value lies outside of a range, and how
// the value is shown.
func (g *generator) outside(t *schema.Type, value string, b *schema.Bounds) (condition, shown string) {
	var parts []string
	compare := func(format string, low, high bool, literal func(any) string) {
		if low {
			parts = append(parts, fmt.Sprintf(format, value, "<", literal(b.Low)))
		}
		if high {
			parts = append(parts, fmt.Sprintf(format, value, ">", literal(b.High)))
		}
	}
	switch t.Kind {
	case schema.KindInstant:
		if b.Low != nil {
			parts = append(parts, fmt.Sprintf("%s.Before(%s)", method(value), g.literal(b.Low)))
		}
		if b.High != nil {
			parts = append(parts, fmt.Sprintf("%s.After(%s)", method(value), g.literal(b.High)))
		}
		shown = g.wire() + ".InstantText(" + value + ")"
	case schema.KindDecimal:
		compare("%[1]s.Compare(%[3]s) %[2]s 0", b.Low != nil, b.High != nil, g.literal)
		for i := range parts {
			parts[i] = method(parts[i])
		}
		shown = value
	case schema.KindDate:
		compare("%s %s %s", b.Low != nil, b.High != nil, g.literal)
		shown = value
	case schema.KindDuration:
		compare("%s %s %s", b.Low != nil, b.High != nil,
			func(v any) string { return strings.ReplaceAll(g.literal(v), " * ", "*") })
		shown = g.wire() + ".DurationText(" + value + ")"
	case schema.KindFloat32, schema.KindFloat64:
		// Negated, so that NaN is outside.
		if b.Low != nil {
			parts = append(parts, fmt.Sprintf("%s >= %s", value, schema.LiteralText(b.Low)))
		}
		if b.High != nil {
			parts = append(parts, fmt.Sprintf("%s <= %s", value, schema.LiteralText(b.High)))
		}
		return "!(" + strings.Join(parts, " && ") + ")", g.wire() + ".FloatText(float64(" + value + "))"
	default:
		compare("%s %s %s", b.RefuseLow(t.Kind), b.RefuseHigh(t.Kind), schema.LiteralText)
		shown = value
	}
	return strings.Join(parts, " || "), shown
}

func (g *generator) violations(m *schema.Message) {
	wire := g.wire()
	g.P("")
	g.P("// AppendViolations adds every violation of the definitions.")
	receiver := fmt.Sprintf("func (m *%s) AppendViolations(list []%s.Violation, path string) []%s.Violation {", m.Name,
		wire, wire)
	raw := m.Raw()
	if raw == nil && !m.Checked() {
		g.In(strings.Replace(receiver, "path string", "_ string", 1), func() { g.P("return list") }, "}")
		return
	}
	g.In(receiver, func() {
		for _, f := range m.Fields {
			if f == raw {
				g.P("list = %s.AppendViolations(list, path+%q, &m.%s)", rawName(m), stubs.Pointer(f.JSONName()), FieldName(f))
				continue
			}
			if !f.Type.Checked() && !f.Bounds.Refuse(f.Type.Kind) {
				continue
			}
			value, path := "m."+FieldName(f), fmt.Sprintf("path+%q", stubs.Pointer(f.JSONName()))
			check := func(plain string) {
				if f.Bounds.Refuse(f.Type.Kind) {
					g.bounds(f.Bounds, check{typ: f.Type, value: plain, path: path, pattern: patternsName(m) + "." + FieldName(f),
						secret: f.IsSecret()})
				}
				if f.Type.Checked() {
					g.violationsOf(f.Type, plain, path, 0)
				}
			}
			switch {
			case f.Changes != nil:
				g.present(f, check)
			case f.Presence == schema.Required || nilable(f.Type) && f.Presence == schema.Defaulted &&
				!f.Bounds.Refuse(f.Type.Kind):
				check(value)
			case nilable(f.Type):
				g.In(fmt.Sprintf("if %s {", present(f, value)), func() { check(value) }, "}")
			default:
				g.In(fmt.Sprintf("if %s != nil {", value), func() { check("*" + value) }, "}")
			}
		}
		g.P("return list")
	}, "}")
}

// violationsOf writes what adds the violations of a value: those of its named
// type, and those of what it holds.
func (g *generator) violationsOf(t *schema.Type, value, path string, depth int) {
	if !t.Checked() {
		return
	}
	if hasMethods(t) || isDefined(t) {
		g.P("list = %s.AppendViolations(list, %s)", method(value), path)
		return
	}
	if t.Named != nil && t.Named.Bounds.Refuse(t.Kind) {
		g.bounds(t.Named.Bounds, check{typ: t, value: value, path: path, secret: t.Named.Secret})
	}
	g.violationsInside(t, value, path, depth)
}

// violationsInside is violationsOf for what a list, map or union holds.
func (g *generator) violationsInside(t *schema.Type, value, path string, depth int) {
	if of := (schema.Type{Kind: t.Kind, Union: t.Union, Elem: t.Elem, Key: t.Key}); !of.Checked() {
		return
	}
	switch t.Kind {
	case schema.KindUnion:
		g.P("list = %s{}.AppendViolations(list, %s, %s)", g.unionTools(t.Union), path, value)
	case schema.KindList:
		i := strings.Repeat("i", depth+1)
		g.In(fmt.Sprintf("for %s := range %s {", i, value), func() {
			g.violationsOf(t.Elem, fmt.Sprintf("%s[%s]", value, i), fmt.Sprintf("%s.Index(%s, %s)", g.wire(), path, i), depth+1)
		}, "}")
	case schema.KindMap:
		entry := numbered("entry", depth)
		g.In(fmt.Sprintf("for _, %s := range %s {", entry, g.sortedEntries(t, value)), func() {
			at := fmt.Sprintf("%s.Step(%s, %s)", g.wire(), path, g.keyText(t.Key, entry+".Key"))
			g.violationsOf(t.Key, entry+".Key", at, depth+1)
			if t.Elem.Checked() {
				g.violationsOf(t.Elem, entry+".Value", at, depth+1)
			}
		}, "}")
	}
}
