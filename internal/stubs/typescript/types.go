package typescript

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// docOf ends documentation as editors expect it of what is deprecated.
func docOf(doc, deprecated string) string { return stubs.DocOf(doc, "@deprecated ", deprecated) }

// declarations writes constants, enums, messages and errors.
func (g *generator) declarations() {
	for _, c := range g.module.Consts {
		g.P("")
		g.doc(docOf(c.Doc, c.Deprecated))
		g.P("export const %s%s = %s;", g.offerValue(c.Name), g.annotation(c), g.literalOf(c.Type, c.Value))
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
			g.message(p)
		}
	}
}

// annotation is the type of a constant where its value does not show it, so that each file can be
// declared without the others.
func (g *generator) annotation(c *schema.Const) string {
	switch c.Value.(type) {
	case string, int64, uint64, bool, float32, float64:
		return ""
	}
	if isBranded(c.Type) {
		return ""
	}
	return ": " + g.typ(c.Type)
}

// literal writes a constant or default.
func (g *generator) literal(v any) string {
	switch v := v.(type) {
	case string:
		return text(v)
	case int64, uint64, bool:
		return fmt.Sprint(v)
	case float32:
		return strconv.FormatFloat(float64(v), 'g', -1, 64)
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	case []byte:
		var numbers []string
		for _, b := range v {
			numbers = append(numbers, strconv.Itoa(int(b)))
		}
		return "new " + g.global("Uint8Array") + "(" + stubs.Rows("[", numbers, "]") + ")"
	case schema.UUID:
		return fmt.Sprintf("%s.uuid(%s)", g.wire(), text(v.String()))
	case schema.Instant:
		return fmt.Sprintf("%s.Instant.parse(%s)", g.wire(), text(v.String()))
	case schema.Decimal:
		return fmt.Sprintf("%s.Decimal.of(%sn, %d)", g.wire(), v.Coefficient, v.Scale)
	case schema.Date:
		return fmt.Sprintf("%s.CalendarDate.parse(%s)", g.wire(), text(v.String()))
	case schema.Duration:
		return fmt.Sprintf("%s.Duration.parse(%s)", g.wire(), text(v.String()))
	case *schema.Member:
		return text(v.Name)
	}
	return fmt.Sprint(v)
}

// literalOf writes a constant or default as a value of a type.
func (g *generator) literalOf(t *schema.Type, v any) string {
	literal := g.literal(v)
	if t.Kind == schema.KindInt64 || t.Kind == schema.KindUint64 {
		literal += "n"
	}
	if isBranded(t) {
		literal += " as " + g.typ(t)
	}
	return literal
}

func (g *generator) typ(t *schema.Type) string {
	return spell(t, speller{
		decl:   func(d *schema.Decl) string { return g.from(d) + d.Name },
		global: g.global,
		wire:   func(name string) string { return g.wire() + "." + name },
	})
}

func (g *generator) codec(d *schema.Decl) string { return g.from(d) + codecName(d) }

// export writes an exported constant that a function makes. What nobody uses of it, bundlers leave out.
func (g *generator) export(doc, name, typ, function string, arguments ...string) {
	g.P("")
	g.doc(doc)
	g.P("export const %s: %s = /* @__PURE__ */ %s;", g.offerValue(name), typ, call(function, arguments...))
}

func (g *generator) enum(e *schema.Enum) {
	wire := g.wire()
	var names []string
	for _, m := range e.Members {
		names = append(names, text(m.Name))
	}
	g.P("")
	doc := e.Doc
	if doc != "" {
		doc += "\n\n"
	}
	for _, m := range e.Members {
		if text := docOf(m.Doc, m.Deprecated); text != "" {
			doc += fmt.Sprintf("%s: %s\n", m.Name, strings.ReplaceAll(text, "@deprecated", "deprecated:"))
		}
	}
	g.doc(docOf(doc+"It is open: a number that is not listed is preserved as \"#7\", a name as \"?name\".", e.Deprecated))
	g.P("export type %s =%s;", g.offerType(e.Name), stubs.Alternatives('|', append(names, wire+".Unlisted")...))
	g.P("")
	listed := fmt.Sprintf("%s<%s, %s.Unlisted>", g.global("Exclude"), e.Name, wire)
	typ := wire + ".EnumCodec<" + listed + ">"
	g.In(fmt.Sprintf("export const %s: %s = /* @__PURE__ */ new %s.EnumCodec(%s, [", codecName(&e.Decl), typ, wire,
		text(e.Name)), func() {
		for _, m := range e.Members {
			g.P("[%d, %s],", m.Number, text(m.Name))
		}
	}, "]"+renamedInJSON(e)+");")
	g.export(fmt.Sprintf("Lists the members of %s.", e.Name), ToolsName(&e.Decl), wire+".EnumTools<"+listed+">",
		wire+".enumTools", codecName(&e.Decl))
}

// renamedInJSON is the argument that gives members other names in JSON.
func renamedInJSON(e *schema.Enum) string {
	var names []string
	for _, m := range e.Members {
		if m.JSON != "" && m.JSON != m.Name {
			names = append(names, "["+text(m.Name)+", "+text(m.JSON)+"]")
		}
	}
	if len(names) == 0 {
		return ""
	}
	return ", " + stubs.Rows("[", names, "]")
}

// templateText writes text inside of a template literal.
func templateText(s string) string {
	return strings.NewReplacer("\\", "\\\\", "`", "\\`", "${", "\\${").Replace(s)
}

func fieldTable(m *schema.Message) string { return unexported(m.Name) + "Fields" }

// message writes a message or error: its type, what makes it, its codec.
func (g *generator) message(m *schema.Message) {
	wire := g.wire()
	g.P("")
	if !m.IsError() {
		doc := m.Doc
		if m.IsPatch() {
			doc = fmt.Sprintf("What of a %s is to be changed: a field that is left out stays as it is, null clears it.",
				m.PatchOf.Name)
		}
		g.doc(docOf(doc, m.Deprecated))
		g.In(fmt.Sprintf("export interface %s {", g.offerType(m.Name)), func() {
			g.fields(m, "readonly ")
			g.P("readonly [%s.unlisted]?: readonly %s.UnlistedField[] | undefined;", wire, wire)
		}, "}")
		g.P("")
	}
	if m.IsPatch() {
		g.doc(fmt.Sprintf("What makes %s: its values with what makes them.", m.Name))
	} else {
		g.doc(fmt.Sprintf("What makes %s: defaults and optional fields may be left out.", m.Name))
	}
	g.In(fmt.Sprintf("export interface %s {", g.offerType(m.Name+"Init")), func() {
		for _, f := range m.Fields {
			mark, suffix := "", ""
			if f.Presence != schema.Required {
				mark, suffix = "?", orAbsent(f)
			}
			typ := g.initType(f.Type)
			if f.IsRaw() {
				typ = wire + ".BodySource"
			}
			g.P("readonly %s%s: %s%s;", FieldName(f), mark, typ, suffix)
		}
		g.P("readonly [%s.unlisted]?: readonly %s.UnlistedField[] | undefined;", wire, wire)
	}, "}")
	if m.IsError() {
		g.errorClass(m)
	}
	g.P("")
	if len(m.Fields) == 0 {
		g.P("const %s: %s.Fields = [];", fieldTable(m), wire)
	} else {
		g.In(fmt.Sprintf("const %s: %s.Fields = [", fieldTable(m), wire), func() {
			for _, f := range m.Fields {
				g.P("[%d, %s],", f.Number, text(f.JSONName()))
			}
		}, "];")
	}
	g.make(m)
	if m.Raw() != nil {
		g.rawTools(m)
		return
	}
	g.readEntry(m)
	g.finish(m)
	g.P("")
	codec := fmt.Sprintf("export const %s: %s.MadeCodec<%sInit, %s> = {", codecName(&m.Decl), wire, m.Name, m.Name)
	g.In(codec, func() { g.codecMethods(m) }, "};")
	if m.IsPatch() {
		g.applying(m)
		typ := fmt.Sprintf("%s.PatchTools<%sInit, %s, %s>", g.patches(), m.Name, m.Name, m.PatchOf.Name)
		g.export("Makes, reads, writes, checks and applies "+m.Name+".", ToolsName(&m.Decl), typ, g.patches()+".tools",
			codecName(&m.Decl), "apply"+m.Name, "make"+m.Name+"Between")
		return
	}
	g.export(fmt.Sprintf("Makes, reads, writes and checks %s.", m.Name), ToolsName(&m.Decl),
		fmt.Sprintf("%s.Tools<%sInit, %s>", wire, m.Name, m.Name), wire+".tools", codecName(&m.Decl))
	if g.exhaustive && !g.apart && !m.IsPatch() {
		g.ofAll(m)
	}
}

// rawTools writes what there is of a message whose body is one field as it is: no codec, and
// nothing that would have to read the body.
func (g *generator) rawTools(m *schema.Message) {
	wire := g.wire()
	rest := *m
	rest.Fields = slices.DeleteFunc(slices.Clone(m.Fields), (*schema.Field).IsRaw)
	g.P("")
	codec := fmt.Sprintf("export const %s: %s.RawCodec<%sInit, %s> = {", codecName(&m.Decl), wire, m.Name, m.Name)
	g.In(codec, func() {
		g.P("make: make%s,", m.Name)
		g.P("")
		g.writeMethod(&rest, "Json")
		g.P("")
		g.violations(m)
	}, "};")
	typ := fmt.Sprintf("%s.RawTools<%sInit, %s>", wire, m.Name, m.Name)
	g.export(fmt.Sprintf("Makes and checks %s.", m.Name), ToolsName(&m.Decl), typ, wire+".rawTools", codecName(&m.Decl))
	if g.exhaustive && !g.apart {
		g.ofAll(m)
	}
}

// rawBounds is what the definitions say of a body.
func rawBounds(raw *schema.Field) string {
	parts := []string{"mediaType: " + text(raw.In.Name)}
	low, high := conversation.RawLength(raw)
	if low > 0 {
		parts = append(parts, fmt.Sprintf("low: %d", low))
	}
	if high > 0 {
		parts = append(parts, fmt.Sprintf("high: %d", high))
	}
	return object(parts...)
}

// ofAll writes a constructor that takes every field, so that it stops compiling
// where a field is added.
func (g *generator) ofAll(m *schema.Message) {
	g.P("")
	g.doc(fmt.Sprintf("Every field of %s. It is outside of the promise that code goes on compiling when fields "+
		"are added.", m.Name))
	g.In(fmt.Sprintf("export interface %s {", g.offerType(m.Name+"OfAll")), func() {
		for _, f := range m.Fields {
			suffix := ""
			if f.Presence == schema.Optional {
				suffix = " | undefined"
			}
			g.P("readonly %s: %s%s;", FieldName(f), g.fieldType(f), suffix)
		}
	}, "}")
	g.P("")
	g.doc(fmt.Sprintf("Makes %s of every field.", m.Name))
	make := "export " + g.offerValue(unexported(m.Name)+"OfAll")
	g.function(make, []string{"fields: " + m.Name + "OfAll"}, m.Name, func() {
		g.P("return %s.make(fields);", codecName(&m.Decl))
	})
}

func (g *generator) fields(m *schema.Message, readonly string) {
	for _, f := range m.Fields {
		g.doc(docOf(f.Doc, f.Deprecated))
		mark, suffix := "", ""
		if f.Presence == schema.Optional {
			mark, suffix = "?", orAbsent(f)
		}
		g.P("%s%s%s: %s%s;", readonly, FieldName(f), mark, g.fieldType(f), suffix)
	}
}

// orAbsent ends the type of a field that may be absent, or null in a patch.
func orAbsent(f *schema.Field) string {
	if f.Type.Clearable {
		return " | null | undefined"
	}
	return " | undefined"
}

// fieldType is the type of a field that is read.
func (g *generator) fieldType(f *schema.Field) string {
	if f.IsRaw() {
		return g.wire() + ".Body"
	}
	return g.typ(f.Type)
}

func (g *generator) errorClass(m *schema.Message) {
	wire := g.wire()
	line, _, _ := strings.Cut(m.Doc, "\n")
	if line == "" {
		line = m.Name
	}
	g.P("")
	g.doc(docOf(m.Doc, m.Deprecated))
	g.In(fmt.Sprintf("export class %s extends %s.DeclaredError {", g.offerValue(m.Name), wire), func() {
		g.fields(m, "declare readonly ")
		if len(m.Fields) > 0 {
			g.P("")
		}
		g.In(fmt.Sprintf("constructor(init: %sInit) {", m.Name), func() {
			g.P("super(%s, %s);", text(m.FullName()), text(line))
			g.P("%s.assign(this, make%s(init));", g.global("Object"), m.Name)
			if len(m.Fields) > 0 {
				g.P("%s.sayFields(%s, this);", wire, codecName(&m.Decl))
			}
		}, "}")
	}, "}")
}

// shape is the type of a message's fields: of an error, not the class itself.
func (g *generator) shape(m *schema.Message) string {
	if m.IsError() {
		return fmt.Sprintf("%s<%s, keyof %s>", g.global("Omit"), m.Name, g.global("Error"))
	}
	return m.Name
}

// make writes what makes a message, with all fields in one shape: what is
// absent is undefined.
func (g *generator) make(m *schema.Message) {
	wire := g.wire()
	g.P("")
	g.In(fmt.Sprintf("function make%s(init: %sInit): %s {", m.Name, m.Name, g.shape(m)), func() {
		if len(m.Fields) == 0 {
			g.P("return %s.withUnlisted({}, init);", wire)
			return
		}
		g.P("return %s.withUnlisted(", wire)
		g.P("  {")
		g.Deeper(2, func() {
			for _, f := range m.Fields {
				g.P("%s", g.madeField(f))
			}
		})
		g.P("  },")
		g.P("  init,")
		g.P(");")
	}, "}")
}
