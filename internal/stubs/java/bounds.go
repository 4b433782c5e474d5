package java

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// check is a value to be held against bounds.
type check struct {
	found   string // the variable that violations are added to
	typ     *schema.Type
	value   string // an expression that is not null
	step    string // the expression of the step from here to the value
	pattern string // the constant of the compiled pattern
	secret  bool
}

// bounds writes what holds a value against bounds.
func (f *file) bounds(b *schema.Bounds, c check) {
	t, value := c.typ, c.value
	if isRecord(t) {
		value += ".value()"
	}
	refuse := func(condition, detail, shown string) {
		text := quote(detail)
		if shown != "" {
			text = quote(detail+", not ") + " + " + shown
		}
		f.In("if ("+condition+") {", func() { f.P("%s.refuse(%s, %s);", c.found, c.step, text) }, "}")
	}
	if b.RefuseLow(t.Kind) || b.RefuseHigh(t.Kind) {
		condition, shown := f.outside(t.Kind, value, b)
		if c.secret {
			shown = ""
		}
		refuse(condition, "must be "+b.RangeText(), shown)
	}
	if l := b.Length; l.Refuse() {
		length, noun := value+".length", "bytes"
		if t.Kind == schema.KindText {
			length, noun = f.wire("Violations")+".characters("+value+")", "characters"
		}
		refuse(stubs.OutsideLimits(length, l), fmt.Sprintf("must have %s %s", l, noun), length)
	}
	if l := b.Count; l.Refuse() {
		text, _, _ := strings.Cut(b.CountFormat(), ", not ")
		refuse(stubs.OutsideLimits(value+".size()", l), text, value+".size()")
	}
	if b.Pattern != "" {
		refuse(fmt.Sprintf("!%s.matches(%s, %s)", f.wire("Violations"), c.pattern, value), "must match "+b.Pattern, "")
	}
	if b.Unique {
		f.P("%s.unique(%s, %s, %s);", c.found, c.step, value, f.writer(t.Elem, jsonEncoding, 1))
	}
}

// outside writes the condition that a value lies outside of a range, and how the value is shown.
func (f *file) outside(k schema.Kind, value string, b *schema.Bounds) (condition, shown string) {
	low, high := b.Low != nil, b.High != nil
	if k.IsInteger() {
		low, high = b.RefuseLow(k), b.RefuseHigh(k)
	}
	var parts []string
	compare := func(format string) {
		if low {
			parts = append(parts, fmt.Sprintf(format, value, "<", f.plainLiteral(k, b.Low)))
		}
		if high {
			parts = append(parts, fmt.Sprintf(format, value, ">", f.plainLiteral(k, b.High)))
		}
	}
	shown = value
	switch k {
	case schema.KindUint64:
		compare(f.lang("Long") + ".compareUnsigned(%[1]s, %[3]s) %[2]s 0")
		shown = f.lang("Long") + ".toUnsignedString(" + value + ")"
	case schema.KindFloat32, schema.KindFloat64:
		// Negated, so that NaN is outside.
		if low {
			parts = append(parts, fmt.Sprintf("%s >= %s", value, f.plainLiteral(k, b.Low)))
		}
		if high {
			parts = append(parts, fmt.Sprintf("%s <= %s", value, f.plainLiteral(k, b.High)))
		}
		return "!(" + strings.Join(parts, " && ") + ")", f.wire("Violations") + ".shown(" + value + ")"
	case schema.KindInstant, schema.KindDate, schema.KindDuration, schema.KindDecimal:
		compare("%[1]s.compareTo(%[3]s) %[2]s 0")
		shown = f.wire("Violations") + ".shown(" + value + ")"
	default:
		compare("%s %s %s")
	}
	return strings.Join(parts, " || "), shown
}

// violations writes what adds the violations of a message's fields.
func (f *file) violations(list []field) {
	for _, x := range list {
		step := quote(stubs.Pointer(x.JSONName()))
		value := "m." + x.variable
		if x.IsRaw() {
			f.P("RAW.violations(v, %s, %s);", step, value)
			continue
		}
		own := x.Bounds.Refuse(x.Type.Kind)
		if !x.Type.Checked() && !own {
			continue
		}
		look := func(value string) {
			if own {
				f.bounds(x.Bounds, check{found: "v", typ: x.Type, value: value, step: step, pattern: patternOf(x.Field),
					secret: x.IsSecret()})
			}
			f.violationsOf(x.Type, "v", value, step, 0)
		}
		switch {
		case x.Changes != nil:
			f.In(fmt.Sprintf("if (%s.isSet()) {", value), func() { look(value + ".value()") }, "}")
		case x.Presence == schema.Optional && (own || inlineBounds(x.Type)):
			f.In(fmt.Sprintf("if (%s != null) {", value), func() { look(value) }, "}")
		default:
			look(value)
		}
	}
}

// inlineBounds tells types whose own bounds are not in a codec.
func inlineBounds(t *schema.Type) bool {
	return t.Named != nil && !isRecord(t) && t.Named.Bounds.Refuse(t.Kind)
}

// patternOf is the constant of a field's compiled pattern.
func patternOf(x *schema.Field) string { return strings.ToUpper(x.Declared().Name) + "_PATTERN" }

// violationsOf writes what adds the violations of a value to found: those of its named type, and those of what it
// holds.
func (f *file) violationsOf(t *schema.Type, found, value, step string, depth int) {
	if !t.Checked() {
		return
	}
	if hasCodec(t) {
		f.P("%s.value(%s, %s, %s);", found, step, f.codec(t), value)
		return
	}
	if inlineBounds(t) {
		f.bounds(t.Named.Bounds, check{found: found, typ: t.Bare(), value: value, step: step, secret: t.Named.Secret})
	}
	if inside := (schema.Type{Kind: t.Kind, Elem: t.Elem, Key: t.Key}); t.Elem == nil || !inside.Checked() {
		return
	}
	if t.Kind == schema.KindList {
		f.lines(fmt.Sprintf("%s.list(%s, %s, %s);", found, step, value, f.looker(t.Elem, depth+1)))
		return
	}
	f.lines(fmt.Sprintf("%s.map(%s, %s, %s, %s, %s);", found, step, f.keyOf(t.Key), value, f.looker(t.Key, depth+1),
		f.looker(t.Elem, depth+1)))
}

// looker writes the function that adds the violations of an item, or null.
func (f *file) looker(t *schema.Type, depth int) string {
	if !t.Checked() {
		return "null"
	}
	found, item := numbered("v", depth), numbered("item", depth-1)
	body := f.captured(func() { f.violationsOf(t, found, item, `""`, depth) })
	if hasCodec(t) {
		return fmt.Sprintf("(%s, %s) -> %s", found, item, strings.TrimSuffix(strings.TrimSpace(body), ";"))
	}
	return fmt.Sprintf("(%s, %s) -> {\n%s\n}", found, item, strings.TrimRight(body, "\n"))
}

// captured is what body writes, one step further in.
func (f *file) captured(body func()) string {
	outer := f.Code
	f.Code = stubs.NewCode("  ")
	f.Deeper(1, body)
	text := string(f.Bytes())
	f.Code = outer
	return text
}

// lines writes text of several lines.
func (f *file) lines(text string) {
	for line := range strings.SplitSeq(text, "\n") {
		f.P("%s", line)
	}
}
