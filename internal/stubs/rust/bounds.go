package rust

import (
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/pattern"
	"faithfulcourier/internal/schema"
)

// check is a value to be held against bounds.
type check struct {
	typ       *schema.Type
	value     string
	reference bool // whether the value is a reference to it
	secret    bool
}

// bounds writes what holds a value against bounds.
func (f *file) bounds(b *schema.Bounds, c check) {
	t, value := c.typ, c.value
	if !b.Refuse(t.Kind) {
		return
	}
	if t.Named != nil {
		value += ".0"
		c.reference = false
	}
	reference := "&" + value
	if c.reference {
		reference = value
	}
	refuse := func(condition, detail, shown string) {
		f.In("if "+condition+" {", func() {
			if shown == "" {
				f.P("v.refuse(%s);", quote(detail))
			} else {
				f.P("v.refuse_not(%s, %s);", quote(detail), shown)
			}
		}, "}")
	}
	if b.RefuseLow(t.Kind) || b.RefuseHigh(t.Kind) {
		condition, shown := f.outside(t.Kind, value, reference, b)
		if c.secret {
			shown = ""
		}
		refuse(condition, "must be "+b.RangeText(), shown)
	}
	if l := b.Length; l.Refuse() {
		length, noun := value+".len()", "bytes"
		if t.Kind == schema.KindText {
			length, noun = value+".chars().count()", "characters"
		}
		refuse(outsideLimits(length, l), fmt.Sprintf("must have %s %s", l, noun), length)
	}
	if l := b.Count; l.Refuse() {
		text, _, _ := strings.Cut(b.CountFormat(), ", not ")
		refuse(outsideLimits(value+".len()", l), text, value+".len()")
	}
	if b.Pattern != "" {
		f.In("{", func() {
			f.pattern(b.Pattern)
			refuse(fmt.Sprintf("!PATTERN.matches(%s)", reference), "must match "+b.Pattern, "")
		}, "}")
	}
	if b.Unique {
		f.P("v.unique::<%s>(%s);", f.codec(t.Elem), reference)
	}
}

// outsideLimits writes the condition that a length is not within limits.
func outsideLimits(length string, l *schema.Limits) string {
	number := func(n uint64) string { return digits(strconv.FormatUint(n, 10)) }
	var parts []string
	switch of, ok := strings.CutSuffix(length, ".len()"); {
	case l.Low == 1 && ok:
		parts = append(parts, of+".is_empty()")
	case l.Low > 0:
		parts = append(parts, length+" < "+number(l.Low))
	}
	if l.High != schema.Unlimited {
		parts = append(parts, length+" > "+number(l.High))
	}
	return strings.Join(parts, " || ")
}

// outside writes the condition that a value lies outside of a range, and how the value is shown.
func (f *file) outside(k schema.Kind, value, reference string, b *schema.Bounds) (condition, shown string) {
	low, high := b.Low != nil, b.High != nil
	if k.IsInteger() {
		low, high = b.RefuseLow(k), b.RefuseHigh(k)
	}
	literal := func(v any) string { return f.plainLiteral(k, v, true) }
	plain := value
	if reference == value {
		plain = "*" + value
	}
	switch {
	case k == schema.KindFloat64:
		shown = "wire::shown_float(" + plain + ")"
	case k == schema.KindFloat32:
		shown = "wire::shown_float(f64::from(" + plain + "))"
	case k.IsInteger():
		shown = plain
	case reference == value:
		shown = value
	default:
		shown = plain
	}
	switch {
	case low && high:
		return fmt.Sprintf("!(%s..=%s).contains(%s)", literal(b.Low), literal(b.High), reference), shown
	case low && k.IsInteger():
		return fmt.Sprintf("%s < %s", plain, literal(b.Low)), shown
	case high && k.IsInteger():
		return fmt.Sprintf("%s > %s", plain, literal(b.High)), shown
	case low:
		return fmt.Sprintf("!(%s..).contains(%s)", literal(b.Low), reference), shown
	}
	return fmt.Sprintf("!(..=%s).contains(%s)", literal(b.High), reference), shown
}

// violations writes what adds the violations of a message's fields.
func (f *file) violations(m *schema.Message) {
	any := false
	for _, x := range m.Fields {
		own := x.Bounds.Refuse(x.Type.Kind)
		if !own && !x.Type.Checked() {
			continue
		}
		any = true
		look := func(value string, reference bool) {
			f.In(fmt.Sprintf("v.inside(%s, |v| {", quote(x.JSONName())), func() {
				if own {
					f.bounds(x.Bounds, check{typ: x.Type, value: value, reference: reference, secret: x.IsSecret()})
				}
				if x.Type.Checked() {
					of := "&" + value
					if reference {
						of = value
					}
					f.P("<%s as wire::Codec>::violations(%s, v);", f.fieldCodec(x), of)
				}
			}, "});")
		}
		name := FieldName(x)
		switch {
		case x.Changes != nil:
			f.In(fmt.Sprintf("if let wire::Change::Set(inner) = &value.%s {", name), func() { look("inner", true) }, "}")
		case x.Presence == schema.Optional:
			f.In(fmt.Sprintf("if let Some(inner) = &value.%s {", name), func() { look("inner", true) }, "}")
		default:
			look("value."+name, false)
		}
	}
	if !any {
		f.P("let _ = (value, v);")
	}
}

// pattern writes the machine of a pattern.
func (f *file) pattern(text string) {
	node, problem := pattern.Parse(text)
	if problem != nil { // check refuses such patterns
		return
	}
	m := &machine{}
	m.add(node)
	m.states = append(m.states, "Found")
	f.In("const PATTERN: wire::Pattern = wire::Pattern(&[", func() {
		for _, s := range m.states {
			f.P("wire::State::%s,", s)
		}
	}, "]);")
}

// machine is a pattern as the states of wire::Pattern.
type machine struct{ states []string }

func (m *machine) add(n *pattern.Node) {
	switch n.Form {
	case pattern.Class:
		var ranges []string
		for _, r := range n.Ranges {
			ranges = append(ranges, fmt.Sprintf("(%#x, %#x)", r.Low, r.High))
		}
		m.states = append(m.states, "Class(&["+strings.Join(ranges, ", ")+"])")
	case pattern.Sequence:
		for _, part := range n.Parts {
			m.add(part)
		}
	case pattern.Begin:
		m.states = append(m.states, "Begin")
	case pattern.End:
		m.states = append(m.states, "End")
	case pattern.Choice:
		split := m.room()
		var targets []string
		var jumps []int
		for i, part := range n.Parts {
			targets = append(targets, fmt.Sprint(len(m.states)))
			m.add(part)
			if i < len(n.Parts)-1 {
				jumps = append(jumps, m.room())
			}
		}
		m.states[split] = "Split(&[" + strings.Join(targets, ", ") + "])"
		for _, jump := range jumps {
			m.states[jump] = fmt.Sprintf("Jump(%d)", len(m.states))
		}
	case pattern.Repeat:
		for range n.Min {
			m.add(n.Parts[0])
		}
		if n.Max == pattern.Unbounded {
			split := m.room()
			m.add(n.Parts[0])
			m.states = append(m.states, fmt.Sprintf("Jump(%d)", split))
			m.states[split] = fmt.Sprintf("Split(&[%d, %d])", split+1, len(m.states))
			return
		}
		var splits []int
		for range n.Max - n.Min {
			splits = append(splits, m.room())
			m.add(n.Parts[0])
		}
		for _, split := range splits {
			m.states[split] = fmt.Sprintf("Split(&[%d, %d])", split+1, len(m.states))
		}
	}
}

func (m *machine) room() int {
	m.states = append(m.states, "")
	return len(m.states) - 1
}
