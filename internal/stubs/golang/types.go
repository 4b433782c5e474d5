package golang

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/value"
)

// types writes constants, enums, messages and errors.
func (g *generator) types() {
	for _, c := range g.module.Consts {
		g.constant(c)
	}
	for _, e := range g.module.Enums {
		g.enum(e)
	}
	for _, m := range g.module.Messages {
		g.message(m)
	}
}

// doc writes documentation, begun with the Go name where it has none.
func (g *generator) doc(name, doc, otherwise, deprecated string) {
	g.P("")
	switch {
	case doc == "":
		doc = name + " " + otherwise
	case !strings.HasPrefix(doc, name+" "):
		doc = name + ": " + doc
	}
	stubs.Comment(g.Code, "//", docOf(doc, deprecated))
}

// docOf ends documentation as Go's tools expect it of what is deprecated.
func docOf(doc, deprecated string) string { return stubs.DocOf(doc, "Deprecated: ", deprecated) }

func (g *generator) constant(c *schema.Const) {
	name := ConstName(c)
	g.doc(name, c.Doc, fmt.Sprintf("is the constant %s.", c.FullName()), c.Deprecated)
	keyword := "const"
	switch c.Type.Kind {
	case schema.KindBytes, schema.KindUUID, schema.KindInstant:
		keyword = "var"
	}
	g.P("%s %s %s = %s", keyword, name, g.typ(c.Type), g.literal(c.Value))
}

// literal writes a constant or default.
func (g *generator) literal(v any) string {
	switch v := v.(type) {
	case string:
		return strconv.Quote(v)
	case []byte:
		return fmt.Sprintf("[]byte(%q)", v)
	case schema.UUID:
		return fmt.Sprintf("%s.MustUUID(%q)", g.wire(), v)
	case schema.Instant:
		return fmt.Sprintf("%s.MustInstant(%q)", g.wire(), v)
	case *schema.Member:
		return g.member(v)
	case float32:
		return strconv.FormatFloat(float64(v), 'g', -1, 32)
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return fmt.Sprint(v)
}

func (g *generator) member(m *schema.Member) string {
	return strings.TrimSuffix(g.name(&m.Enum.Decl), m.Enum.Name) + MemberName(m)
}

// typ writes a type as an element: what a required field has.
func (g *generator) typ(t *schema.Type) string {
	return spell(t, g.name, func(packageName string) {
		if packageName == "wire" {
			g.wire()
		} else {
			g.std(packageName)
		}
	})
}

// nilable tells whether nil says that a field of this type is absent.
func nilable(t *schema.Type) bool {
	return t.Kind == schema.KindBytes || t.Kind == schema.KindList || t.Kind == schema.KindMap
}

func (g *generator) fieldType(f *schema.Field) string {
	if f.Presence == schema.Required || nilable(f.Type) {
		return g.typ(f.Type)
	}
	return "*" + g.typ(f.Type)
}

// size is about how many bytes a value takes in memory, for making room.
func size(t *schema.Type) int {
	switch t.Kind {
	case schema.KindText, schema.KindUUID, schema.KindEnum:
		return 16
	case schema.KindBytes, schema.KindInstant, schema.KindList:
		return 24
	case schema.KindMessage:
		total := 24
		for _, f := range t.Message.Fields {
			if f.Presence == schema.Required || nilable(f.Type) {
				total += size(f.Type)
			} else {
				total += 8
			}
		}
		return total
	}
	return 8
}

func (g *generator) enum(e *schema.Enum) {
	wire := g.wire()
	doc := e.Doc
	if doc == "" {
		doc = fmt.Sprintf("%s is the enum %s.", e.Name, e.FullName())
	}
	g.doc(e.Name, doc+"\n\nIt is open: a number that is not listed here is kept as \"#7\", a name as\n\"?name\", and Listed tells.", "", e.Deprecated)
	g.P("type %s string", e.Name)
	g.P("")
	g.P("// The members of %s.", e.Name)
	g.In("const (", func() {
		for _, m := range e.Members {
			stubs.Comment(g.Code, "//", docOf(m.Doc, m.Deprecated))
			g.P("%s %s = %q", MemberName(m), e.Name, m.Name)
		}
	}, ")")
	of := unexported(e.Name) + "Of"
	g.P("")
	g.In(fmt.Sprintf("func %s(number uint16) %s {", of, e.Name), func() {
		g.P("switch number {")
		for _, m := range e.Members {
			g.P("case %d:", m.Number)
			g.P("\treturn %s", MemberName(m))
		}
		g.P("}")
		g.P("return %s(%s.UnlistedNumber(number))", e.Name, wire)
	}, "}")
	g.P("")
	g.In(fmt.Sprintf("func (e %s) number() (uint16, bool) {", e.Name), func() {
		g.P("switch e {")
		for _, m := range e.Members {
			g.P("case %s:", MemberName(m))
			g.P("\treturn %d, true", m.Number)
		}
		g.P("}")
		g.P("return %s.ParseUnlistedNumber(string(e))", wire)
	}, "}")
	g.P("")
	g.P("// Listed tells whether e is one of the members above.")
	g.In(fmt.Sprintf("func (e %s) Listed() bool {", e.Name), func() {
		g.P("switch e {")
		var names []string
		for _, m := range e.Members {
			names = append(names, MemberName(m))
		}
		g.P("case %s:", strings.Join(names, ", "))
		g.P("\treturn true")
		g.P("}")
		g.P("return false")
	}, "}")
	g.P("")
	g.P("// AppendViolations adds a violation when e is not listed.")
	g.In(fmt.Sprintf("func (e %s) AppendViolations(list []%s.Violation, path string) []%s.Violation {", e.Name, wire, wire), func() {
		var names []string
		for _, m := range e.Members {
			names = append(names, m.JSONName())
		}
		g.In("if e.Listed() {", func() { g.P("return list") }, "}")
		g.P("return append(list, %s.Violation{Pointer: path, Detail: %q})", wire, "must be one of "+strings.Join(names, ", "))
	}, "}")
	g.P("")
	g.P("// AppendCBOR appends e as CBOR; what can't be written stays in w.")
	g.In(fmt.Sprintf("func (e %s) AppendCBOR(b []byte, w *%s.Writer) []byte {", e.Name, wire), func() {
		g.P("number, ok := e.number()")
		g.In("if !ok {", func() { g.P("w.NoNumber(%q, string(e))", e.Name) }, "}")
		g.P("return %s.AppendUint(b, uint64(number))", wire)
	}, "}")
	g.P("")
	g.P("// ReadCBOR reads e from CBOR.")
	g.In(fmt.Sprintf("func (e *%s) ReadCBOR(r *%s.CBORReader) { *e = %s(r.EnumNumber()) }", e.Name, wire, of), func() {}, "")
	g.P("// AppendJSON appends e as JSON; what can't be written stays in w.")
	g.In(fmt.Sprintf("func (e %s) AppendJSON(b []byte, w *%s.Writer) []byte {", e.Name, wire), func() {
		if renamed := renamedMembers(e); len(renamed) > 0 {
			g.P("switch e {")
			for _, m := range renamed {
				g.P("case %s:", MemberName(m))
				g.P("\treturn append(b, %s...)", rawString(jsonText(m.JSON)))
			}
			g.P("}")
		}
		g.In("if e.Listed() {", func() { g.P("return append(append(append(b, '\"'), e...), '\"')") }, "}")
		g.P("return %s.AppendUnlisted(b, %q, string(e), w)", wire, e.Name)
	}, "}")
	g.P("")
	g.P("// ReadJSON reads e from JSON.")
	g.In(fmt.Sprintf("func (e *%s) ReadJSON(r *%s.JSONReader) {", e.Name, wire), func() {
		g.P("name, number, named := r.Enum(%q)", e.Name)
		g.In("if !named {", func() {
			g.P("*e = %s(number)", of)
			g.P("return")
		}, "}")
		renamed := renamedMembers(e)
		if len(renamed) == 0 {
			g.In(fmt.Sprintf("if *e = %s(name); !e.Listed() {", e.Name), func() { g.P("*e = \"?\" + *e") }, "}")
			return
		}
		g.P("switch string(name) {")
		for _, m := range renamed {
			g.P("case %q:", m.JSON)
			g.P("\t*e = %s", MemberName(m))
		}
		var names []string
		for _, m := range renamed {
			if !slices.ContainsFunc(e.Members, func(x *schema.Member) bool { return x.JSONName() == m.Name }) {
				names = append(names, strconv.Quote(m.Name))
			}
		}
		if len(names) > 0 {
			g.P("case %s: // in JSON another name stands for it", strings.Join(names, ", "))
			g.P("\t*e = %s(\"?\" + string(name))", e.Name)
		}
		g.P("default:")
		g.Deeper(1, func() {
			g.In(fmt.Sprintf("if *e = %s(name); !e.Listed() {", e.Name), func() { g.P("*e = \"?\" + *e") }, "}")
		})
		g.P("}")
	}, "}")
}

// renamedMembers are those that have another name in JSON.
func renamedMembers(e *schema.Enum) []*schema.Member {
	var list []*schema.Member
	for _, m := range e.Members {
		if m.JSON != "" && m.JSON != m.Name {
			list = append(list, m)
		}
	}
	return list
}

// jsonText writes a string as JSON.
func jsonText(s string) string { return string(value.AppendString(nil, s)) }

// message writes a message or error.
func (g *generator) message(m *schema.Message) {
	what := "message"
	if m.IsError() {
		what = "error"
	}
	g.doc(m.Name, m.Doc, fmt.Sprintf("is the %s %s.", what, m.FullName()), m.Deprecated)
	g.In(fmt.Sprintf("type %s struct {", m.Name), func() {
		for _, f := range m.Fields {
			doc := f.Doc
			if f.Presence == schema.Defaulted {
				if doc != "" {
					doc += "\n"
				}
				doc += "Nil is written as " + schema.LiteralText(f.Default) + "."
			}
			stubs.Comment(g.Code, "//", docOf(doc, f.Deprecated))
			g.P("%s %s", FieldName(f), g.fieldType(f))
		}
		if len(m.Fields) > 0 {
			g.P("")
		}
		g.P("unknown []%s.Unknown", g.wire())
	}, "}")
	g.P("")
	g.fieldTable(m)
	if m.IsError() {
		g.errorMethods(m)
	}
	for _, f := range m.Fields {
		if f.Presence == schema.Defaulted {
			g.orDefault(m, f)
		}
	}
	g.standardMethods(m)
	g.appendCBOR(m)
	g.readCBOR(m)
	g.appendJSON(m)
	g.readJSON(m)
	g.patterns(m)
	g.violations(m)
}

func (g *generator) fieldTable(m *schema.Message) {
	if len(m.Fields) == 0 {
		g.P("var %sFields []%s.Field", unexported(m.Name), g.wire())
		return
	}
	g.In(fmt.Sprintf("var %sFields = []%s.Field{", unexported(m.Name), g.wire()), func() {
		for _, f := range m.Fields {
			g.P("{Number: %d, Name: %q},", f.Number, f.JSONName())
		}
	}, "}")
}

func (g *generator) errorMethods(m *schema.Message) {
	line, _, _ := strings.Cut(m.Doc, "\n")
	if line == "" {
		line = m.Name
	}
	g.P("")
	g.P("// Error says what happened, without the fields.")
	g.P("func (m *%s) Error() string { return %q }", m.Name, m.FullName()+": "+line)
	g.P("")
	g.P("// ErrorName is the full name of the error in the definitions.")
	g.P("func (m *%s) ErrorName() string { return %q }", m.Name, m.FullName())
	g.P("")
	g.P("// ErrorStatus is the HTTP status that the definitions give the error.")
	g.P("func (m *%s) ErrorStatus() int { return %d }", m.Name, m.Status)
}

func (g *generator) orDefault(m *schema.Message, f *schema.Field) {
	name := FieldName(f)
	g.P("")
	g.P("// %sOrDefault is %s, or %s where it is nil.", name, name, schema.LiteralText(f.Default))
	g.In(fmt.Sprintf("func (m *%s) %sOrDefault() %s {", m.Name, name, g.typ(f.Type)), func() {
		g.In(fmt.Sprintf("if m.%s == nil {", name), func() { g.P("return %s", g.literal(f.Default)) }, "}")
		if nilable(f.Type) {
			g.P("return m.%s", name)
		} else {
			g.P("return *m.%s", name)
		}
	}, "}")
}

func (g *generator) standardMethods(m *schema.Message) {
	wire := g.wire()
	g.P("")
	g.P("// MarshalBinary writes m as CBOR.")
	g.P("func (m %s) MarshalBinary() ([]byte, error) { return %s.AppendBinary(nil, &m) }", m.Name, wire)
	g.P("")
	g.P("// AppendBinary appends m as CBOR.")
	g.P("func (m *%s) AppendBinary(b []byte) ([]byte, error) { return %s.AppendBinary(b, m) }", m.Name, wire)
	g.P("")
	g.P("// UnmarshalBinary reads m from CBOR.")
	g.P("func (m *%s) UnmarshalBinary(data []byte) error { return %s.Unmarshal(data, m) }", m.Name, wire)
	g.P("")
	g.P("// MarshalJSON writes m as JSON.")
	g.P("func (m %s) MarshalJSON() ([]byte, error) { return %s.AppendText(nil, &m) }", m.Name, wire)
	g.P("")
	g.P("// UnmarshalJSON reads m from JSON.")
	g.P("func (m *%s) UnmarshalJSON(data []byte) error { return %s.UnmarshalText(data, m) }", m.Name, wire)
	g.P("")
	g.P("// Validate returns a *wire.Invalid with everything that a request must not")
	g.P("// hold, or nil.")
	g.P("func (m *%s) Validate() error { return %s.Validate(m) }", m.Name, wire)
}

// present runs body inside the condition that a field is written, giving it
// the expression of the field's value.
func (g *generator) present(f *schema.Field, body func(value string)) {
	field := "m." + FieldName(f)
	value := field
	if f.Presence != schema.Required && !nilable(f.Type) {
		value = "*" + field
	}
	switch f.Presence {
	case schema.Required:
		body(value)
	case schema.Optional:
		g.In(fmt.Sprintf("if %s != nil {", field), func() { body(value) }, "}")
	case schema.Defaulted:
		body(fmt.Sprintf("m.%sOrDefault()", FieldName(f)))
	}
}

// method makes a value something that a method can be called on.
func method(value string) string {
	return strings.TrimPrefix(value, "*")
}

func keyBytes(number int) string {
	switch {
	case number < 24:
		return strconv.Itoa(number)
	case number < 256:
		return fmt.Sprintf("24, %d", number)
	}
	return fmt.Sprintf("25, %d, %d", number>>8, number&255)
}

func (g *generator) appendCBOR(m *schema.Message) {
	wire := g.wire()
	g.P("")
	g.P("// AppendCBOR appends m as CBOR; what can't be written stays in w.")
	g.In(fmt.Sprintf("func (m *%s) AppendCBOR(b []byte, w *%s.Writer) []byte {", m.Name, wire), func() {
		always := 0
		var optional []*schema.Field
		for _, f := range m.Fields {
			if f.Presence == schema.Optional {
				optional = append(optional, f)
			} else {
				always++
			}
		}
		g.P("w.Enter()")
		g.P("start, count := len(b), %d+%s.CountUnknown(m.unknown)", always, wire)
		for _, f := range optional {
			g.In(fmt.Sprintf("if m.%s != nil {", FieldName(f)), func() { g.P("count++") }, "}")
		}
		g.P("b = %s.AppendMapHead(b, count)", wire)
		for _, f := range m.Fields {
			g.present(f, func(value string) {
				g.appendValue(f.Type, value, fmt.Sprintf("append(b, %s)", keyBytes(f.Number)), 0)
			})
		}
		g.P("w.Leave()")
		g.P("return %s.MergeCBOR(b, start, m.unknown)", wire)
	}, "}")
}

// appendValue writes the statements that append a value of a type to b; head
// is b with what comes before it.
func (g *generator) appendValue(t *schema.Type, value, head string, depth int) {
	wire := g.wire()
	v := "v" + strings.Repeat("v", depth)
	switch t.Kind {
	case schema.KindBool:
		g.P("b = %s.AppendBool(%s, %s)", wire, head, value)
	case schema.KindInt64:
		g.P("b = %s.AppendInt(%s, %s)", wire, head, value)
	case schema.KindUint64:
		g.P("b = %s.AppendUint(%s, %s)", wire, head, value)
	case schema.KindInt8, schema.KindInt16, schema.KindInt32:
		g.P("b = %s.AppendInt(%s, int64(%s))", wire, head, value)
	case schema.KindUint8, schema.KindUint16, schema.KindUint32:
		g.P("b = %s.AppendUint(%s, uint64(%s))", wire, head, value)
	case schema.KindFloat32:
		g.P("b = %s.AppendFloat32(%s, %s)", wire, head, value)
	case schema.KindFloat64:
		g.P("b = %s.AppendFloat64(%s, %s)", wire, head, value)
	case schema.KindText:
		g.P("b = %s.AppendString(%s, %s, w)", wire, head, value)
	case schema.KindBytes:
		g.P("b = %s.AppendBytes(%s, %s)", wire, head, value)
	case schema.KindUUID:
		g.P("b = %s.AppendUUID(%s, %s)", wire, head, value)
	case schema.KindInstant:
		g.P("b = %s.AppendInstant(%s, %s, w)", wire, head, value)
	case schema.KindEnum, schema.KindMessage:
		g.P("b = %s.AppendCBOR(%s, w)", method(value), head)
	case schema.KindList:
		g.P("b = %s.AppendListHead(%s, len(%s))", wire, head, value)
		g.P("w.Enter()")
		g.each(t, value, v, func(item string) { g.appendValue(t.Elem, item, "b", depth+1) })
		g.P("w.Leave()")
	case schema.KindMap:
		key := "key" + strings.Repeat("y", depth)
		g.P("b = %s.AppendMapHead(%s, len(%s))", wire, head, value)
		g.P("w.Enter()")
		g.In(fmt.Sprintf("for _, %s := range %s.SortedKeys(make([]string, 0, 8), %s) {", key, wire, value), func() {
			g.P("b = %s.AppendString(b, %s, w)", wire, key)
			g.P("%s := %s[%s]", v, value, key)
			g.appendValue(t.Elem, v, "b", depth+1)
		}, "}")
		g.P("w.Leave()")
	}
}

// each loops over a list, by index where copying an item would cost.
func (g *generator) each(t *schema.Type, value, v string, body func(item string)) {
	if t.Elem.Kind == schema.KindMessage {
		i := strings.Repeat("i", len(v))
		g.In(fmt.Sprintf("for %s := range %s {", i, value), func() { body(fmt.Sprintf("%s[%s]", value, i)) }, "}")
		return
	}
	g.In(fmt.Sprintf("for _, %s := range %s {", v, value), func() { body(v) }, "}")
}

// words is how many words of 64 bits mark the fields that were seen.
func words(m *schema.Message) int { return (len(m.Fields) + 63) / 64 }

// readCBOR writes ReadCBOR, and the loop over entries apart from it: JSON may
// bring a known field by number, as CBOR.
func (g *generator) readCBOR(m *schema.Message) {
	wire := g.wire()
	table := unexported(m.Name) + "Fields"
	if len(m.Fields) == 0 {
		g.P("")
		g.P("// ReadCBOR reads m from CBOR.")
		g.In(fmt.Sprintf("func (m *%s) ReadCBOR(r *%s.CBORReader) {", m.Name, wire), func() {
			g.P("*m = %s{}", m.Name)
			g.In(fmt.Sprintf("for n := r.OpenMessage(%q); r.More(&n); {", m.Name), func() {
				g.P("number := r.FieldNumber()")
				g.P("r.Unknown(&m.unknown, number)")
				g.In("if r.Failed() {", func() { g.P("r.InsideField(%s, number)", table) }, "}")
			}, "}")
			g.P("r.Leave()")
			g.P("r.Settle(m.unknown)")
		}, "}")
		return
	}
	g.P("")
	g.P("// ReadCBOR reads m from CBOR.")
	g.In(fmt.Sprintf("func (m *%s) ReadCBOR(r *%s.CBORReader) {", m.Name, wire), func() {
		g.P("*m = %s{}", m.Name)
		g.P("var seen [%d]uint64", words(m))
		g.P("m.readEntries(r, r.OpenMessage(%q), &seen)", m.Name)
		g.P("r.Leave()")
		g.P("m.finish(&r.Reader, &seen)")
	}, "}")
	g.P("")
	g.In(fmt.Sprintf("func (m *%s) readEntries(r *%s.CBORReader, n int, seen *[%d]uint64) {", m.Name, wire, words(m)), func() {
		g.In("for r.More(&n) {", func() {
			g.P("number := r.FieldNumber()")
			g.P("switch number {")
			for i, f := range m.Fields {
				g.P("case %d:", f.Number)
				g.Deeper(1, func() {
					g.P("r.Once(&seen[%d], 1<<%d)", i/64, i%64)
					g.readField(f, cborForm)
				})
			}
			g.P("default:")
			g.P("\tr.Unknown(&m.unknown, number)")
			g.P("}")
			g.In("if r.Failed() {", func() { g.P("r.InsideField(%s, number)", table) }, "}")
		}, "}")
	}, "}")
	g.P("")
	g.P("// finish refuses what is missing or came twice, and fills in defaults.")
	g.In(fmt.Sprintf("func (m *%s) finish(r *%s.Reader, seen *[%d]uint64) {", m.Name, wire, words(m)), func() {
		for word := range words(m) {
			required := uint64(0)
			last := min(len(m.Fields), (word+1)*64)
			for i := word * 64; i < last; i++ {
				if m.Fields[i].Presence == schema.Required {
					required |= 1 << (i % 64)
				}
			}
			if required != 0 {
				part := table
				if words(m) > 1 {
					part = fmt.Sprintf("%s[%d:%d]", table, word*64, last)
				}
				g.P("r.Require(seen[%d], %#x, %s)", word, required, part)
			}
		}
		g.P("r.Settle(m.unknown)")
		for _, f := range m.Fields {
			if f.Presence != schema.Defaulted {
				continue
			}
			g.In(fmt.Sprintf("if m.%s == nil {", FieldName(f)), func() {
				if nilable(f.Type) {
					g.P("m.%s = %s", FieldName(f), g.literal(f.Default))
				} else {
					g.P("m.%s = %s.Pointer(%s)", FieldName(f), wire, g.typedLiteral(f))
				}
			}, "}")
		}
	}, "}")
}

// typedLiteral writes a default so that a type parameter takes the type.
func (g *generator) typedLiteral(f *schema.Field) string {
	literal := g.literal(f.Default)
	if k := f.Type.Kind; k.IsInteger() || k == schema.KindFloat32 || k == schema.KindFloat64 {
		return fmt.Sprintf("%s(%s)", k, literal)
	}
	return literal
}

// form is what differs between reading CBOR and JSON.
type form struct{ json bool }

var cborForm, jsonForm = form{}, form{json: true}

var readers = map[schema.Kind]string{schema.KindBool: "Bool",
	schema.KindInt8: "Int8", schema.KindInt16: "Int16", schema.KindInt32: "Int32", schema.KindInt64: "Int64",
	schema.KindUint8: "Uint8", schema.KindUint16: "Uint16", schema.KindUint32: "Uint32", schema.KindUint64: "Uint64",
	schema.KindFloat32: "Float32", schema.KindFloat64: "Float64",
	schema.KindText: "Text", schema.KindBytes: "Bytes", schema.KindUUID: "UUID", schema.KindInstant: "Instant"}

// readField writes the statements that read a field's value into m.
func (g *generator) readField(f *schema.Field, form form) {
	field := "m." + FieldName(f)
	if f.Presence == schema.Required || nilable(f.Type) {
		g.readValue(f.Type, field, form, 0)
		return
	}
	method := "Read" + map[bool]string{false: "CBOR", true: "JSON"}[form.json]
	if f.Type.Kind == schema.KindEnum || f.Type.Kind == schema.KindMessage {
		g.P("%s = new(%s)", field, g.typ(f.Type))
		g.P("%s.%s(r)", field, method)
		return
	}
	g.P("v := r.%s()", readers[f.Type.Kind])
	g.P("%s = &v", field)
}

func (g *generator) readValue(t *schema.Type, target string, form form, depth int) {
	suffix := ""
	if depth > 0 {
		suffix = strconv.Itoa(depth + 1)
	}
	list, n, item := "list"+suffix, "n"+suffix, "item"+suffix
	switch t.Kind {
	case schema.KindEnum, schema.KindMessage:
		g.P("%s.Read%s(r)", target, map[bool]string{false: "CBOR", true: "JSON"}[form.json])
	case schema.KindList:
		open := ""
		if form.json {
			g.P("%s := %s{}", list, g.typ(t))
			open = "for r.OpenList(); r.More(); {"
		} else {
			g.P("%s := r.OpenList()", n)
			g.P("%s := make(%s, 0, r.Room(%s, %d))", list, g.typ(t), n, size(t.Elem))
			open = fmt.Sprintf("for r.More(&%s) {", n)
		}
		g.In(open, func() {
			if t.Elem.Kind == schema.KindMessage {
				g.P("%s = append(%s, %s{})", list, list, g.typ(t.Elem))
				g.readValue(t.Elem, fmt.Sprintf("%s[len(%s)-1]", list, list), form, depth+1)
			} else {
				g.readItem(t.Elem, item, form, depth+1)
				g.P("%s = append(%s, %s)", list, list, item)
			}
			g.In("if r.Failed() {", func() { g.P("r.InsideIndex(len(%s) - 1)", list) }, "}")
		}, "}")
		if !form.json {
			g.P("r.Leave()")
		}
		g.P("%s = %s", target, list)
	case schema.KindMap:
		key, entries, count := "key"+suffix, "entries"+suffix, "count"+suffix
		open := ""
		if form.json {
			g.P("%s, %s := %s{}, 0", entries, count, g.typ(t))
			g.P("r.OpenObject(\"a map\")")
			open = fmt.Sprintf("for %s, ok := r.NextKey(); ok; %s, ok = r.NextKey() {", key, key)
		} else {
			g.P("%s := r.OpenMap()", n)
			g.P("%s, %s := make(%s, r.Room(%s, %d)), 0", entries, count, g.typ(t), n, 48+size(t.Elem))
			open = fmt.Sprintf("for r.More(&%s) {", n)
		}
		g.In(open, func() {
			if !form.json {
				g.P("%s := r.Text()", key)
			}
			g.readItem(t.Elem, item, form, depth+1)
			g.In("if r.Failed() {", func() { g.P("r.Inside(%s)", key) }, "}")
			g.P("%s[%s] = %s", entries, key, item)
			g.P("%s++", count)
		}, "}")
		if !form.json {
			g.P("r.Leave()")
		}
		g.P("r.Distinct(len(%s), %s)", entries, count)
		g.P("%s = %s", target, entries)
	default:
		g.P("%s = r.%s()", target, readers[t.Kind])
	}
}

// readItem declares a variable and reads a value into it.
func (g *generator) readItem(t *schema.Type, item string, form form, depth int) {
	if name, scalar := readers[t.Kind]; scalar {
		g.P("%s := r.%s()", item, name)
		return
	}
	g.P("var %s %s", item, g.typ(t))
	g.readValue(t, item, form, depth)
}

func (g *generator) appendJSON(m *schema.Message) {
	wire := g.wire()
	g.P("")
	g.P("// AppendJSON appends m as JSON; what can't be written stays in w.")
	g.In(fmt.Sprintf("func (m *%s) AppendJSON(b []byte, w *%s.Writer) []byte {", m.Name, wire), func() {
		g.P("w.Enter()")
		g.P("start := len(b)")
		g.starts = 1
		for _, f := range m.Fields {
			g.present(f, func(value string) {
				g.appendJSONValue(f.Type, value, fmt.Sprintf("append(b, %s...)", rawString(","+jsonText(f.JSONName())+":")), 0)
			})
		}
		g.P("w.Leave()")
		g.P("return %s.MergeJSON(%s.CloseObject(b, start), start, m.unknown, %sFields)", wire, wire, unexported(m.Name))
	}, "}")
}

func (g *generator) appendJSONValue(t *schema.Type, value, head string, depth int) {
	wire := g.wire()
	v := "v" + strings.Repeat("v", depth)
	start := "start"
	if t.Kind == schema.KindList || t.Kind == schema.KindMap {
		g.starts++
		start += strconv.Itoa(g.starts)
	}
	switch t.Kind {
	case schema.KindBool:
		g.P("b = %s.AppendBool(%s, %s)", g.std("strconv"), head, value)
	case schema.KindInt8, schema.KindInt16, schema.KindInt32, schema.KindUint8, schema.KindUint16, schema.KindUint32:
		g.P("b = %s.AppendInt(%s, int64(%s), 10)", g.std("strconv"), head, value)
	case schema.KindInt64:
		g.P("b = %s.AppendJSONInt(%s, %s)", wire, head, value)
	case schema.KindUint64:
		g.P("b = %s.AppendJSONUint(%s, %s)", wire, head, value)
	case schema.KindFloat32:
		g.P("b = %s.AppendJSONFloat64(%s, float64(%s))", wire, head, value)
	case schema.KindFloat64:
		g.P("b = %s.AppendJSONFloat64(%s, %s)", wire, head, value)
	case schema.KindText:
		g.P("b = %s.AppendJSONString(%s, %s, w)", wire, head, value)
	case schema.KindBytes:
		g.P("b = %s.AppendJSONBytes(%s, %s)", wire, head, value)
	case schema.KindUUID:
		g.P("b = %s.AppendJSONUUID(%s, %s)", wire, head, value)
	case schema.KindInstant:
		g.P("b = %s.AppendJSONInstant(%s, %s, w)", wire, head, value)
	case schema.KindEnum, schema.KindMessage:
		g.P("b = %s.AppendJSON(%s, w)", method(value), head)
	case schema.KindList:
		g.P("w.Enter()")
		if head != "b" {
			g.P("b = %s", head)
		}
		g.P("%s := len(b)", start)
		g.each(t, value, v, func(item string) { g.appendJSONValue(t.Elem, item, "append(b, ',')", depth+1) })
		g.P("b = %s.CloseArray(b, %s)", wire, start)
		g.P("w.Leave()")
	case schema.KindMap:
		key := "key" + strings.Repeat("y", depth)
		g.P("w.Enter()")
		g.P("b = %s", head)
		g.P("%s := len(b)", start)
		g.In(fmt.Sprintf("for _, %s := range %s.SortedKeys(make([]string, 0, 8), %s) {", key, wire, value), func() {
			g.P("%s := %s[%s]", v, value, key)
			g.appendJSONValue(t.Elem, v, fmt.Sprintf("append(%s.AppendJSONString(append(b, ','), %s, w), ':')", wire, key), depth+1)
		}, "}")
		g.P("b = %s.CloseObject(b, %s)", wire, start)
		g.P("w.Leave()")
	}
}

func (g *generator) readJSON(m *schema.Message) {
	wire := g.wire()
	table := unexported(m.Name) + "Fields"
	g.P("")
	g.P("// ReadJSON reads m from JSON.")
	g.In(fmt.Sprintf("func (m *%s) ReadJSON(r *%s.JSONReader) {", m.Name, wire), func() {
		g.P("*m = %s{}", m.Name)
		if len(m.Fields) == 0 {
			g.In(fmt.Sprintf("for r.OpenObject(%q); r.Member(); {", m.Name), func() { g.P("r.Unknown(&m.unknown, %s)", table) }, "}")
			g.P("r.Settle(m.unknown)")
			return
		}
		g.P("var seen [%d]uint64", words(m))
		g.In(fmt.Sprintf("for r.OpenObject(%q); r.Member(); {", m.Name), func() {
			g.P("number := 0")
			g.P("switch string(r.Name()) {")
			for i, f := range m.Fields {
				g.P("case %q:", f.JSONName())
				g.Deeper(1, func() {
					g.P("number = %d", f.Number)
					g.P("r.Once(&seen[%d], 1<<%d)", i/64, i%64)
					if f.Presence == schema.Required {
						g.readField(f, jsonForm)
					} else {
						g.In("if !r.Null() {", func() { g.readField(f, jsonForm) }, "}")
					}
				})
			}
			g.P("default:")
			g.Deeper(1, func() {
				g.P("at := r.At()")
				g.In(fmt.Sprintf("if entry := r.Unknown(&m.unknown, %s); entry != nil {", table), func() {
					g.P("m.readEntries(entry, 1, &seen)")
					g.P("r.Absorb(entry, at)")
				}, "}")
				g.P("continue")
			})
			g.P("}")
			g.In("if r.Failed() {", func() { g.P("r.InsideField(%s, number)", table) }, "}")
		}, "}")
		g.P("m.finish(&r.Reader, &seen)")
	}, "}")
}

func (g *generator) violations(m *schema.Message) {
	wire := g.wire()
	g.P("")
	g.P("// AppendViolations adds everything that a request must not hold.")
	receiver := fmt.Sprintf("func (m *%s) AppendViolations(list []%s.Violation, path string) []%s.Violation {", m.Name, wire, wire)
	if !stubs.Checked(&schema.Type{Kind: schema.KindMessage, Message: m}) {
		g.In(strings.Replace(receiver, "path string", "_ string", 1), func() { g.P("return list") }, "}")
		return
	}
	g.In(receiver, func() {
		for _, f := range m.Fields {
			if !stubs.Checked(f.Type) && f.Bounds == nil {
				continue
			}
			value, path := "m."+FieldName(f), fmt.Sprintf("path+%q", stubs.Pointer(f.JSONName()))
			check := func(plain string) {
				if f.Bounds != nil {
					g.boundsOf(f, plain, path)
				}
				if stubs.Checked(f.Type) {
					g.violationsOf(f.Type, value, path, 0)
				}
			}
			switch {
			case f.Presence == schema.Required || nilable(f.Type) && f.Bounds == nil:
				check(value)
			case nilable(f.Type):
				g.In(fmt.Sprintf("if %s != nil {", value), func() { check(value) }, "}")
			default:
				g.In(fmt.Sprintf("if %s != nil {", value), func() { check("*" + value) }, "}")
			}
		}
		g.P("return list")
	}, "}")
}

func (g *generator) violationsOf(t *schema.Type, value, path string, depth int) {
	v := "v" + strings.Repeat("v", depth)
	switch t.Kind {
	case schema.KindEnum, schema.KindMessage:
		g.P("list = %s.AppendViolations(list, %s)", value, path)
	case schema.KindList:
		i := strings.Repeat("i", depth+1)
		g.In(fmt.Sprintf("for %s := range %s {", i, value), func() {
			g.violationsOf(t.Elem, fmt.Sprintf("%s[%s]", value, i), fmt.Sprintf("%s.Index(%s, %s)", g.wire(), path, i), depth+1)
		}, "}")
	case schema.KindMap:
		key := "key" + strings.Repeat("y", depth)
		g.In(fmt.Sprintf("for _, %s := range %s.SortedKeys(make([]string, 0, 8), %s) {", key, g.wire(), value), func() {
			g.P("%s := %s[%s]", v, value, key)
			g.violationsOf(t.Elem, v, fmt.Sprintf("%s.Step(%s, %s)", g.wire(), path, key), depth+1)
		}, "}")
	}
}
