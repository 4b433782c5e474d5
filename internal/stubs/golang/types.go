package golang

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/value"
)

// typesOf writes constants, named types, enums, unions, messages and errors.
func (g *generator) typesOf() {
	for _, c := range g.module.Consts {
		g.constant(c)
	}
	for _, n := range g.module.Types {
		g.named(n)
	}
	for _, e := range g.module.Enums {
		g.enum(e)
	}
	for _, u := range g.module.Unions {
		g.union(u)
	}
	for _, m := range g.module.Messages {
		g.message(m)
		if p := m.Patch(); p != nil {
			g.patch(p)
		}
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
	comment(g.Code, docOf(doc, deprecated))
}

// comment writes documentation. A line that tools would read as a build constraint, and
// move to the top of the file, is set as code.
func comment(c *stubs.Code, doc string) {
	lines := strings.Split(doc, "\n")
	for i, line := range lines {
		if rest, ok := strings.CutPrefix(strings.TrimSpace(line), "+build"); ok {
			lines[i] = "`+build`" + rest
		}
	}
	stubs.Comment(c, "//", strings.Join(lines, "\n"))
}

// docOf ends documentation as Go's tools expect it of what is deprecated.
func docOf(doc, deprecated string) string { return stubs.DocOf(doc, "Deprecated: ", deprecated) }

func (g *generator) constant(c *schema.Const) {
	name := ConstName(c)
	g.doc(name, c.Doc, fmt.Sprintf("is the constant %s.", c.FullName()), c.Deprecated)
	keyword := "const"
	switch c.Type.Kind {
	case schema.KindBytes, schema.KindUUID, schema.KindInstant, schema.KindDecimal, schema.KindDate:
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
	case schema.Decimal:
		if n, err := strconv.ParseInt(v.Coefficient, 10, 64); err == nil {
			return fmt.Sprintf("%s.NewDecimal(%d, %d)", g.wire(), n, v.Scale)
		}
		return fmt.Sprintf("%s.MustDecimal(%q)", g.wire(), v)
	case schema.Date:
		day := time.Unix(int64(v)*86400, 0).UTC()
		return fmt.Sprintf("%s.NewDate(%d, %d, %d)", g.wire(), day.Year(), day.Month(), day.Day())
	case schema.Duration:
		return g.duration(int64(v))
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

// duration writes a duration in the largest unit that holds it whole.
func (g *generator) duration(nanos int64) string {
	if nanos == 0 {
		return "0"
	}
	for _, unit := range []struct {
		name string
		size time.Duration
	}{{"Hour", time.Hour}, {"Minute", time.Minute}, {"Second", time.Second}, {"Millisecond", time.Millisecond},
		{"Microsecond", time.Microsecond}} {
		if nanos%int64(unit.size) == 0 {
			return fmt.Sprintf("%d * %s.%s", nanos/int64(unit.size), g.std("time"), unit.name)
		}
	}
	return fmt.Sprint(nanos)
}

func (g *generator) fieldType(f *schema.Field) string {
	switch {
	case f.Changes != nil:
		return g.changeType(f)
	case f.IsRaw():
		return g.wire() + ".Body"
	case f.Presence == schema.Required || nilable(f.Type):
		return g.typ(f.Type)
	}
	return "*" + g.typ(f.Type)
}

// size is about how many bytes a value takes in memory, for making room.
func size(t *schema.Type) int {
	switch t.Kind {
	case schema.KindText, schema.KindUUID, schema.KindEnum, schema.KindAny, schema.KindUnion:
		return 16
	case schema.KindBytes, schema.KindInstant, schema.KindList, schema.KindDecimal:
		return 24
	case schema.KindMessage:
		total := 24
		for _, f := range t.Message.Fields {
			if f.Changes != nil {
				total += 16
			} else if f.Presence == schema.Required || nilable(f.Type) {
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
	g.doc(e.Name, doc+"\n\nIt is open: a number that is not listed here is preserved as \"#7\", a name "+
		"as\n\"?name\", and "+
		"Listed tells.", "", e.Deprecated)
	g.P("type %s string", e.Name)
	g.P("")
	g.P("// The members of %s.", e.Name)
	g.In("const (", func() {
		for _, m := range e.Members {
			comment(g.Code, docOf(m.Doc, m.Deprecated))
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
	g.P("// Number is the number of e; a name that is not listed has none.")
	g.In(fmt.Sprintf("func (e %s) Number() (uint16, bool) {", e.Name), func() {
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
	g.In(fmt.Sprintf("func (e %s) AppendViolations(list []%s.Violation, path string) []%s.Violation {", e.Name, wire,
		wire), func() {
		var names []string
		for _, m := range e.Members {
			names = append(names, m.JSONName())
		}
		g.In("if e.Listed() {", func() { g.P("return list") }, "}")
		g.P("return %s.RefuseUnlisted(list, path, %q)", wire, strings.Join(names, ", "))
	}, "}")
	g.P("")
	g.P("// AppendCBOR appends e as CBOR; what can't be written stays in w.")
	g.In(fmt.Sprintf("func (e %s) AppendCBOR(b []byte, w *%s.Writer) []byte {", e.Name, wire), func() {
		g.P("number, ok := e.Number()")
		g.In("if !ok {", func() { g.P("w.NoNumber(%q, string(e))", e.Name) }, "}")
		g.P("return %s.AppendUint(b, uint64(number))", wire)
	}, "}")
	g.P("")
	g.P("// ReadCBOR reads e from CBOR.")
	g.In(fmt.Sprintf("func (e *%s) ReadCBOR(r *%s.CBORReader) { *e = %s(r.EnumNumber()) }", e.Name, wire, of), func() {},
		"")
	g.enumJSON(e, of)
}

func (g *generator) enumJSON(e *schema.Enum, of string) {
	wire, renamed := g.wire(), renamedMembers(e)
	g.P("// JSONName is e as the key of a JSON object.")
	g.In(fmt.Sprintf("func (e %s) JSONName() string {", e.Name), func() {
		if len(renamed) > 0 {
			g.P("switch e {")
			for _, m := range renamed {
				g.P("case %s:", MemberName(m))
				g.P("\treturn %q", m.JSON)
			}
			g.P("}")
		}
		g.P("return %s.UnlistedName(string(e))", wire)
	}, "}")
	g.P("")
	g.P("// AppendJSON appends e as JSON; what can't be written stays in w.")
	g.In(fmt.Sprintf("func (e %s) AppendJSON(b []byte, w *%s.Writer) []byte {", e.Name, wire), func() {
		if len(renamed) > 0 {
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
		g.P("e.readName(name)")
	}, "}")
	g.P("")
	g.P("// ReadKey reads e from the key of a JSON object.")
	g.In(fmt.Sprintf("func (e *%s) ReadKey(r *%s.JSONReader) {", e.Name, wire), func() {
		g.In("if number, digits := r.EnumKey(); digits {", func() {
			g.P("*e = %s(number)", of)
			g.P("return")
		}, "}")
		g.P("e.readName(r.Name())")
	}, "}")
	g.P("")
	g.P("// MarshalJSON writes e as JSON, also where it is in a struct of your own.")
	g.In(fmt.Sprintf("func (e %s) MarshalJSON() ([]byte, error) {", e.Name), func() {
		g.P("w, b := %s.Scratch()", wire)
		g.P("return w.Fresh(e.AppendJSON(b, w), e.AppendJSON)")
	}, "}")
	g.P("")
	g.P("// UnmarshalJSON reads e from JSON.")
	g.In(fmt.Sprintf("func (e *%s) UnmarshalJSON(data []byte) error {", e.Name), func() {
		g.P("r := %s.NewJSONReader(data)", wire)
		g.P("e.ReadJSON(&r)")
		g.P("return r.End()")
	}, "}")
	g.P("")
	g.In(fmt.Sprintf("func (e *%s) readName(name []byte) {", e.Name), func() {
		g.P("switch string(name) {")
		for _, m := range e.Members {
			g.P("case %q:", m.JSONName())
			g.P("\t*e = %s", MemberName(m))
		}
		g.P("default:")
		g.P("\t*e = %s(\"?\" + string(name))", e.Name)
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
	g.structOf(m)
	g.P("")
	g.fieldTable(m)
	if m.Raw() != nil {
		g.rawMethods(m)
		return
	}
	if m.IsError() {
		g.errorMethods(m)
	}
	for _, f := range m.Fields {
		if f.Presence == schema.Defaulted {
			g.orDefault(m, f)
		}
	}
	g.standardMethods(m)
	g.comparing(m)
	g.appendCBOR(m)
	g.readCBOR(m)
	g.appendJSON(m)
	g.readJSON(m)
	g.patterns(m)
	g.violations(m)
	if g.exhaustive {
		g.ofAll(m)
	}
}

// rawMethods writes what a message has whose body is one field as it is: no codec, and nothing
// that would have to read the body.
func (g *generator) rawMethods(m *schema.Message) {
	rest := *m
	rest.Fields = slices.DeleteFunc(slices.Clone(m.Fields), (*schema.Field).IsRaw)
	for _, f := range rest.Fields {
		if f.Presence == schema.Defaulted {
			g.orDefault(m, f)
		}
	}
	wire := g.wire()
	raw := m.Raw()
	g.P("")
	g.P("var %s = %s", rawName(m), g.rawBounds(raw))
	g.P("")
	g.P("// Validate returns a *wire.InvalidRequest with every violation, or nil.")
	g.P("func (m *%s) Validate() error { return %s.Validate(m) }", m.Name, wire)
	g.texts(m)
	g.appendJSON(&rest)
	g.patterns(&rest)
	g.violations(m)
	if g.exhaustive {
		g.ofAll(m)
	}
}

// rawBounds is what the definitions say of a body.
func (g *generator) rawBounds(raw *schema.Field) string {
	text := fmt.Sprintf("%s.RawBounds{MediaType: %q", g.wire(), raw.In.Name)
	low, high := conversation.RawLength(raw)
	if low > 0 {
		text += fmt.Sprintf(", Low: %d", low)
	}
	if high > 0 {
		text += fmt.Sprintf(", High: %d", high)
	}
	return text + "}"
}

// rawName is the variable of what the definitions say of a body.
func rawName(m *schema.Message) string { return unexported(m.Name) + "Raw" }

// ofAll writes a constructor that takes every field, so that it stops compiling
// where a field is added.
func (g *generator) ofAll(m *schema.Message) {
	var parameters, fields []string
	for _, f := range m.Fields {
		name := unexported(strings.TrimSuffix(FieldName(f), "_")) + "_"
		parameters = append(parameters, name+" "+g.fieldType(f))
		fields = append(fields, FieldName(f)+": "+name)
	}
	g.P("")
	g.P("// %sOfAll makes a %s of every field. It is outside of the promise that code", m.Name, m.Name)
	g.P("// goes on compiling when fields are added.")
	g.In(fmt.Sprintf("func %sOfAll(%s) *%s {", m.Name, strings.Join(parameters, ", "), m.Name), func() {
		g.P("return &%s{%s}", m.Name, strings.Join(fields, ", "))
	}, "}")
}

// structOf writes the struct of a message.
func (g *generator) structOf(m *schema.Message) {
	g.In(fmt.Sprintf("type %s struct {", m.Name), func() {
		for _, f := range m.Fields {
			doc := f.Doc
			if f.Presence == schema.Defaulted {
				if doc != "" {
					doc += "\n"
				}
				doc += "Nil is written as " + schema.LiteralText(f.Default) + "."
			}
			comment(g.Code, docOf(doc, f.Deprecated))
			g.P("%s %s", FieldName(f), g.fieldType(f))
		}
		if len(m.Fields) > 0 {
			g.P("")
		}
		g.P("unlisted []%s.UnlistedField", g.wire())
	}, "}")
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
	g.P("// Error says what happened; of the fields what is secret is left out.")
	if said := m.FullName() + ": " + line; len(m.Fields) == 0 {
		g.P("func (m *%s) Error() string { return %q }", m.Name, said)
	} else {
		g.P("func (m *%s) Error() string { return %q + %s.Text(m) }", m.Name, said+" ", g.wire())
	}
	g.P("")
	g.P("// ErrorName is the full name of the error in the definitions.")
	g.P("func (m *%s) ErrorName() string { return %q }", m.Name, m.FullName())
	g.P("")
	g.P("// ErrorStatus is the HTTP status that the definitions give the error.")
	g.P("func (m *%s) ErrorStatus() int { return %d }", m.Name, m.Status)
}

// defaultOf writes a default that can be assigned to the field's type.
func (g *generator) defaultOf(f *schema.Field) string {
	literal := g.literal(f.Default)
	if f.Type.Kind == schema.KindUUID && isDefined(f.Type) {
		return fmt.Sprintf("%s(%s)", g.typ(f.Type), literal)
	}
	return literal
}

func (g *generator) orDefault(m *schema.Message, f *schema.Field) {
	name := FieldName(f)
	g.P("")
	g.P("// %sOrDefault is %s, or %s where it is nil.", name, name, schema.LiteralText(f.Default))
	g.In(fmt.Sprintf("func (m *%s) %sOrDefault() %s {", m.Name, name, g.typ(f.Type)), func() {
		g.In(fmt.Sprintf("if m.%s == nil {", name), func() { g.P("return %s", g.defaultOf(f)) }, "}")
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
	g.In(fmt.Sprintf("func (m %s) MarshalBinary() ([]byte, error) {", m.Name), func() {
		g.P("w, b := %s.Scratch()", wire)
		g.P("return w.Fresh(m.AppendCBOR(b, w), m.AppendJSON)")
	}, "}")
	g.P("")
	g.P("// AppendBinary appends m as CBOR.")
	g.In(fmt.Sprintf("func (m *%s) AppendBinary(b []byte) ([]byte, error) {", m.Name), func() {
		g.P("var w %s.Writer", wire)
		g.P("return w.Written(m.AppendCBOR(b, &w), b, m.AppendJSON)")
	}, "}")
	g.P("")
	g.P("// UnmarshalBinary reads m from CBOR.")
	g.In(fmt.Sprintf("func (m *%s) UnmarshalBinary(data []byte) error {", m.Name), func() {
		g.P("*m = %s{}", m.Name)
		g.P("r := %s.NewCBORReader(data)", wire)
		g.P("m.ReadCBOR(&r)")
		g.P("return r.End()")
	}, "}")
	g.P("")
	g.P("// MarshalJSON writes m as JSON.")
	g.In(fmt.Sprintf("func (m %s) MarshalJSON() ([]byte, error) {", m.Name), func() {
		g.P("w, b := %s.Scratch()", wire)
		g.P("return w.Fresh(m.AppendJSON(b, w), m.AppendJSON)")
	}, "}")
	g.P("")
	g.P("// UnmarshalJSON reads m from JSON.")
	g.In(fmt.Sprintf("func (m *%s) UnmarshalJSON(data []byte) error {", m.Name), func() {
		g.P("*m = %s{}", m.Name)
		g.P("r := %s.NewJSONReader(data)", wire)
		g.P("m.ReadJSON(&r)")
		g.P("return r.End()")
	}, "}")
	g.P("")
	g.P("// Validate returns a *wire.InvalidRequest with every violation, or nil.")
	g.P("func (m *%s) Validate() error { return %s.Validate(m) }", m.Name, wire)
	g.P("")
	g.P("// UnlistedFields are what m was read with and its definitions do not know.")
	g.P("func (m *%s) UnlistedFields() []%s.UnlistedField { return m.unlisted }", m.Name, wire)
	g.P("")
	g.P("// KeepUnlistedFields makes m pass on what another message was read with.")
	g.P("func (m *%s) KeepUnlistedFields(list []%s.UnlistedField) { m.unlisted = list }", m.Name, wire)
	g.texts(m)
}

// texts writes how a message looks to people.
func (g *generator) texts(m *schema.Message) {
	wire := g.wire()
	g.P("")
	g.P("// String writes m for people and logs: what is secret is left out.")
	g.P("func (m %s) String() string { return %s.Text(&m) }", m.Name, wire)
	g.P("")
	g.P("// GoString is String, so that no way of printing shows what is secret.")
	g.P("func (m %s) GoString() string { return %s.Text(&m) }", m.Name, wire)
	g.P("")
	g.P("// LogValue is String, for structured logs.")
	g.P("func (m %s) LogValue() %s.Value { return slog.StringValue(%s.Text(&m)) }", m.Name, g.std("log/slog"), wire)
}
