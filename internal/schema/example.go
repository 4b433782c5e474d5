package schema

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// Object is a value of a message in an example. A value in it is a scalar or
// *Member as in Field.Default, List, Entries, *Object, *Chosen or Any.
type Object struct {
	Message *Message
	Fields  []FieldValue // by number
}

// FieldValue is a field that is there, and its value.
type FieldValue struct {
	Field *Field
	Value any
}

// List is a list in an example.
type List []any

// Entries is a map in an example, in the order written.
type Entries []Entry

// Entry is one entry of a map. Key is a string, int64, uint64 or *Member.
type Entry struct{ Key, Value any }

// Chosen is a value of a union.
type Chosen struct {
	Alternative *Alternative
	Value       any
}

// Cleared is the value null in a patch: the field is cleared.
type Cleared struct{}

// Any is a value of the scalar any: Value is nil, a bool, int64, uint64,
// float64, string, []Any or []AnyEntry.
type Any struct{ Value any }

// AnyEntry is one entry of a map in an any.
type AnyEntry struct {
	Key   string
	Value Any
}

// examples resolves examples, after all types.
func (r *resolver) examples(f *fileScope) {
	for i, d := range f.tree.Decls {
		tree, ok := d.(*syntax.Example)
		if !ok || f.bound[i] == nil {
			continue
		}
		decl, ok := r.lookup(f, tree.Of.Alias, tree.Of.Name, "message")
		if !ok {
			continue
		}
		e := f.bound[i].(*Example)
		m, isMessage := decl.(*Message)
		if !isMessage {
			r.report(f.place(tree.Of.Name.Span), "not-a-message",
				fmt.Sprintf("examples are of messages and errors, and %q is %s", tree.Of.Name.Text, decl.Noun()), "",
				source.Note{Place: decl.Head().Place, Message: "it is declared here"})
			continue
		}
		e.Of = m
		e.Value = r.object(f, tree.Value, m, strconv.Quote(e.Name))
	}
}

func (r *resolver) object(f *fileScope, v *syntax.Value, m *Message, what string) *Object {
	o := &Object{Message: m}
	if v.Form != syntax.ObjectValue {
		r.report(f.place(v.Span), "wrong-type", fmt.Sprintf("%s is %q, a message", what, m.Name),
			"write its fields in braces: { name: value }")
		return o
	}
	seen := map[int]source.Place{}
	bad := false
	for _, pair := range v.Pairs {
		field := m.ByName(pair.Key.Text)
		place := f.place(pair.Key.Span)
		if field == nil {
			fix := r.meant(pair.Key.Text, "its fields are: ", names(m.Fields, func(x *Field) string { return x.Name }))
			if i := slices.IndexFunc(m.Fields, func(x *Field) bool { return x.JSON == pair.Key.Text }); i >= 0 &&
				pair.Key.Text != "" { // its name in JSON
				fix = "write its declared name: " + strconv.Quote(m.Fields[i].Name)
			}
			r.report(place, "example-refused", fmt.Sprintf("%q has no field %q", m.Name, pair.Key.Text), fix,
				source.Note{Place: m.Place, Message: "it is declared here"})
			bad = true
			continue
		}
		if before, twice := seen[field.Number]; twice {
			r.report(place, "example-refused", fmt.Sprintf("%q is here twice", field.Name), "remove one",
				source.Note{Place: before, Message: "the other is here"})
			continue
		}
		seen[field.Number] = place
		if pair.Value.Form == syntax.NullValue && m.IsPatch() {
			if field.Type.Clearable {
				o.Fields = append(o.Fields, FieldValue{field, Cleared{}})
			} else {
				r.report(f.place(pair.Value.Span), "example-refused",
					fmt.Sprintf("%q is required, and can't be cleared", field.Name), "leave it out: then it stays as it is",
					source.Note{Place: field.Place, Message: "it is declared here"})
			}
			continue
		}
		if pair.Value.Form == syntax.NullValue && field.Presence != Required {
			continue // absent
		}
		var outer *Bounds
		if field.Type.Named != nil {
			outer = field.Type.Named.Bounds
		}
		if value, ok := r.value(f, pair.Value, field.Type, strconv.Quote(field.Name), field.Bounds, outer); ok {
			o.Fields = append(o.Fields, FieldValue{field, value})
		}
	}
	if !bad { // a name that was mistyped is one mistake, not two
		for _, field := range m.Fields {
			if _, there := seen[field.Number]; !there && field.Presence == Required {
				r.report(f.place(source.Span{Start: v.Span.Start, End: v.Span.Start + 1}), "example-refused",
					fmt.Sprintf("%q is required and not here", field.Name), "add it: "+field.Name+": …",
					source.Note{Place: field.Place, Message: "it is declared here"})
			}
		}
	}
	slices.SortFunc(o.Fields, func(a, b FieldValue) int { return a.Field.Number - b.Field.Number })
	return o
}

// value resolves a value of a type, and holds it against bounds. ok is false
// when it has been reported, or its type has.
func (r *resolver) value(f *fileScope, v *syntax.Value, t *Type, what string, bounds ...*Bounds) (any, bool) {
	place := f.place(v.Span)
	refuse := func(message, fix string) (any, bool) {
		r.report(place, "example-refused", message, fix)
		return nil, false
	}
	wrong := func(fix string) (any, bool) {
		return refuse(fmt.Sprintf("%s is %s, and this is not", what, t.InWords(f.module)), fix)
	}
	switch t.Kind {
	case KindInvalid:
		return nil, false
	case KindAny:
		return r.anyValue(f, v, what)
	case KindMessage:
		return r.object(f, v, t.Message, what), true
	case KindUnion:
		if v.Form != syntax.ObjectValue || len(v.Pairs) != 1 {
			return wrong(fmt.Sprintf("write exactly one alternative: { %s: … }", firstAlternative(t.Union)))
		}
		return r.chosen(f, &v.Pairs[0], t.Union)
	case KindList:
		if v.Form != syntax.ListValue {
			return wrong("write it in brackets: [ … ]")
		}
		return r.list(f, v, t, what, bounds)
	case KindMap:
		if v.Form != syntax.ObjectValue {
			return wrong("write its entries in braces: { key: value }")
		}
		return r.entries(f, v, t, what, bounds)
	}
	if v.Form == syntax.NullValue {
		return refuse(what+" can't be null here", "leave it out if it may be absent; a member called null is "+
			"written in quotes")
	}
	if v.Form != syntax.LiteralValue {
		return wrong("write one value, without brackets")
	}
	l := v.Literal
	switch {
	case t.Kind == KindEnum && l.Form == syntax.TextLiteral:
		l.Form = syntax.WordLiteral
	case (t.Kind == KindFloat32 || t.Kind == KindFloat64) && l.Form == syntax.TextLiteral:
		if x, ok := specialFloats[l.Text]; ok {
			if t.Kind == KindFloat32 {
				return float32(x), true
			}
			return x, true
		}
	case t.Kind.IsInteger() && l.Form == syntax.TextLiteral:
		// As large ones are in JSON: their digits.
		if n, ok := ParseInteger(t.Kind, l.Text); ok && LiteralText(n) == l.Text {
			l.Form = syntax.NumberLiteral
		}
	}
	var scalar any
	if t.Kind == KindEnum && l.Form == syntax.WordLiteral && v.Literal.Form == syntax.TextLiteral {
		m := t.Enum.ByName(l.Text)
		if m == nil {
			return refuse(fmt.Sprintf("%q has no member %q", t.Enum.Name, l.Text), r.memberFix(t.Enum, l.Text))
		}
		scalar = m
	} else {
		var ok bool
		if scalar, ok = r.literal(f, &l, t, what); !ok {
			return nil, false
		}
	}
	for _, b := range bounds {
		if list := b.Violations(scalar); len(list) > 0 {
			return refuse(fmt.Sprintf("%s %s", what, list[0]), keepBounds)
		}
	}
	return scalar, true
}

const keepBounds = "change the example, or the bounds"

var specialFloats = map[string]float64{"NaN": math.NaN(), "Infinity": math.Inf(1), "-Infinity": math.Inf(-1)}

func firstAlternative(u *Union) string {
	if len(u.Alternatives) == 0 {
		return "name"
	}
	return u.Alternatives[0].Name
}

func (r *resolver) chosen(f *fileScope, pair *syntax.Pair, u *Union) (any, bool) {
	a := u.ByName(pair.Key.Text)
	if a == nil {
		fix := r.meant(pair.Key.Text, "its alternatives are: ",
			names(u.Alternatives, func(x *Alternative) string { return x.Name }))
		r.report(f.place(pair.Key.Span), "example-refused", fmt.Sprintf("%q has no alternative %q", u.Name, pair.Key.Text),
			fix, source.Note{Place: u.Place, Message: "it is declared here"})
		return nil, false
	}
	value, ok := r.value(f, pair.Value, a.Type, strconv.Quote(a.Name), boundsOf(a.Type))
	return &Chosen{a, value}, ok
}

// boundsOf are the bounds that a type brings itself.
func boundsOf(t *Type) *Bounds {
	if t.Named == nil {
		return nil
	}
	return t.Named.Bounds
}

func (r *resolver) list(f *fileScope, v *syntax.Value, t *Type, what string, bounds []*Bounds) (any, bool) {
	list := List{}
	ok := true
	unique := slices.ContainsFunc(bounds, func(b *Bounds) bool { return b != nil && b.Unique })
	seen := map[string]bool{}
	for _, item := range v.Items {
		value, itemOK := r.value(f, item, t.Elem, "an element of "+what, boundsOf(t.Elem))
		if ok = ok && itemOK; !itemOK {
			continue
		}
		if key := sameText(value); unique && seen[key] {
			r.report(f.place(item.Span), "example-refused",
				fmt.Sprintf("the elements of %s are unique, and this one is here twice", what), "remove one")
			ok = false
		} else if unique {
			seen[key] = true
		}
		list = append(list, value)
	}
	return list, ok && r.counted(f, v, len(v.Items), what, bounds)
}

// sameText is the same for values that are equal as elements of a list.
func sameText(v any) string {
	if d, ok := v.(Decimal); ok {
		digits := strings.TrimRight(d.String(), "0")
		if d.Scale == 0 {
			return d.String()
		}
		return strings.TrimSuffix(digits, ".")
	}
	return ValueText(v)
}

func (r *resolver) entries(f *fileScope, v *syntax.Value, t *Type, what string, bounds []*Bounds) (any, bool) {
	entries := Entries{}
	ok := true
	seen := map[string]bool{}
	for _, pair := range v.Pairs {
		place := f.place(pair.Key.Span)
		key, keyOK := r.mapKey(place, pair.Key.Text, t.Key, what)
		if keyOK {
			for _, violation := range boundsOf(t.Key).Violations(key) {
				r.report(place, "example-refused", fmt.Sprintf("a key of %s %s", what, violation), keepBounds)
				keyOK = false
			}
			if seen[ValueText(key)] {
				r.report(place, "example-refused", fmt.Sprintf("the key %q is here twice", pair.Key.Text), "remove one")
				keyOK = false
			}
			seen[ValueText(key)] = true
		}
		value, valueOK := r.value(f, pair.Value, t.Elem, "an entry of "+what, boundsOf(t.Elem))
		if ok = ok && keyOK && valueOK; keyOK && valueOK {
			entries = append(entries, Entry{key, value})
		}
	}
	return entries, ok && r.counted(f, v, len(v.Pairs), what, bounds)
}

func (r *resolver) mapKey(place source.Place, text string, t *Type, what string) (any, bool) {
	switch {
	case t.Kind == KindInvalid:
		return nil, false
	case t.Kind == KindText:
		return text, true
	case t.Kind == KindEnum:
		if m := t.Enum.ByName(text); m != nil {
			return m, true
		}
		r.report(place, "example-refused", fmt.Sprintf("%q has no member %q", t.Enum.Name, text), r.memberFix(t.Enum, text))
		return nil, false
	}
	n, ok := ParseInteger(t.Kind, text)
	if !ok || LiteralText(n) != text {
		r.report(place, "example-refused", fmt.Sprintf("the keys of %s are %s, and %s is not", what, t.Kind,
			strconv.Quote(text)), "write the number, without quotes unless it is negative")
		return nil, false
	}
	return n, true
}

func (r *resolver) counted(f *fileScope, v *syntax.Value, n int, what string, bounds []*Bounds) bool {
	for _, b := range bounds {
		if violation := b.CountViolation(n); violation != "" {
			r.report(f.place(source.Span{Start: v.Span.Start, End: v.Span.Start + 1}), "example-refused", what+" "+violation,
				keepBounds)
			return false
		}
	}
	return true
}

func (r *resolver) anyValue(f *fileScope, v *syntax.Value, what string) (any, bool) {
	switch v.Form {
	case syntax.NullValue:
		return Any{}, true
	case syntax.ListValue:
		list := []Any{}
		for _, item := range v.Items {
			x, ok := r.anyValue(f, item, what)
			if !ok {
				return nil, false
			}
			list = append(list, x.(Any))
		}
		return Any{list}, true
	case syntax.ObjectValue:
		entries := []AnyEntry{}
		for _, pair := range v.Pairs {
			x, ok := r.anyValue(f, pair.Value, what)
			if !ok {
				return nil, false
			}
			if slices.ContainsFunc(entries, func(e AnyEntry) bool { return e.Key == pair.Key.Text }) {
				r.report(f.place(pair.Key.Span), "example-refused", fmt.Sprintf("the key %q is here twice", pair.Key.Text),
					"remove one")
				return nil, false
			}
			entries = append(entries, AnyEntry{pair.Key.Text, x.(Any)})
		}
		return Any{entries}, true
	}
	l := v.Literal
	switch l.Form {
	case syntax.TextLiteral:
		return Any{l.Text}, true
	case syntax.BoolLiteral:
		return Any{l.Text == "true"}, true
	case syntax.NumberLiteral:
		if !strings.ContainsAny(l.Text, ".eE") {
			if n, ok := ParseInteger(KindInt64, l.Text); ok {
				return Any{n}, true
			}
			if n, ok := ParseInteger(KindUint64, l.Text); ok {
				return Any{n}, true
			}
			r.report(f.place(v.Span), "example-refused", "an integer in an \"any\" must fit int64 or uint64",
				"write it as text, in quotes")
			return nil, false
		}
		x, err := strconv.ParseFloat(l.Text, 64)
		if err != nil || math.IsInf(x, 0) {
			r.report(f.place(v.Span), "example-refused", l.Text+" is too large for a float64", "write it as text, in quotes")
			return nil, false
		}
		return Any{x}, true
	}
	r.findings.Add(source.Finding{Name: "example-refused", Place: f.place(v.Span),
		Message: fmt.Sprintf("%s is any, which has no names", what), Fix: "write it in quotes",
		Edits: []source.Edit{{Place: f.place(v.Span), Text: quote(l.Text)}}, Sure: true})
	return nil, false
}

// ValueText writes a value of an example as the language does, on one line.
func ValueText(v any) string {
	var b strings.Builder
	writeValue(&b, v)
	return b.String()
}

func writeValue(b *strings.Builder, v any) {
	switch v := v.(type) {
	case *Object:
		writeEntries(b, len(v.Fields), func(i int) (string, any) { return v.Fields[i].Field.Name, v.Fields[i].Value })
	case Cleared:
		b.WriteString("null")
	case *Chosen:
		writeEntries(b, 1, func(int) (string, any) { return v.Alternative.Name, v.Value })
	case Entries:
		writeEntries(b, len(v), func(i int) (string, any) { return keyText(v[i].Key), v[i].Value })
	case List:
		writeList(b, len(v), func(i int) any { return v[i] })
	case Any:
		switch x := v.Value.(type) {
		case nil:
			b.WriteString("null")
		case []Any:
			writeList(b, len(x), func(i int) any { return x[i] })
		case []AnyEntry:
			writeEntries(b, len(x), func(i int) (string, any) { return quote(x[i].Key), x[i].Value })
		case float64:
			text := LiteralText(x)
			if !strings.ContainsAny(text, ".e") {
				text += ".0" // so that it stays a float
			}
			b.WriteString(text)
		default:
			b.WriteString(LiteralText(x))
		}
	case *Member:
		if v.Name == "true" || v.Name == "false" || v.Name == "null" {
			b.WriteString(quote(v.Name))
		} else {
			b.WriteString(v.Name)
		}
	default:
		b.WriteString(LiteralText(v))
	}
}

func keyText(key any) string {
	switch k := key.(type) {
	case string:
		return quote(k)
	case int64:
		if k < 0 {
			return quote(LiteralText(k))
		}
	}
	return LiteralText(key)
}

func writeEntries(b *strings.Builder, n int, entry func(int) (string, any)) {
	if n == 0 {
		b.WriteString("{}")
		return
	}
	b.WriteString("{ ")
	for i := range n {
		if i > 0 {
			b.WriteString(", ")
		}
		key, value := entry(i)
		b.WriteString(key + ": ")
		writeValue(b, value)
	}
	b.WriteString(" }")
}

func writeList(b *strings.Builder, n int, item func(int) any) {
	b.WriteString("[")
	for i := range n {
		if i > 0 {
			b.WriteString(", ")
		}
		writeValue(b, item(i))
	}
	b.WriteString("]")
}
