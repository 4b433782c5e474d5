package typescript

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// docOf ends documentation as editors expect it of what is deprecated.
func docOf(doc, deprecated string) string { return stubs.DocOf(doc, "@deprecated ", deprecated) }

// types writes constants, enums, messages and errors.
func (g *generator) types() {
	for _, c := range g.module.Consts {
		g.P("")
		g.doc(docOf(c.Doc, c.Deprecated))
		suffix := ""
		if c.Type.Kind == schema.KindInt64 || c.Type.Kind == schema.KindUint64 {
			suffix = "n"
		}
		g.P("export const %s = %s%s;", c.Name, g.literal(c.Value), suffix)
	}
	for _, e := range g.module.Enums {
		g.enum(e)
	}
	for _, m := range g.module.Messages {
		g.message(m)
	}
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
		return "new " + g.global("Uint8Array") + "([" + strings.Join(numbers, ", ") + "])"
	case schema.UUID:
		return fmt.Sprintf("%s.uuid(%s)", g.wire(), text(v.String()))
	case schema.Instant:
		return fmt.Sprintf("%s.Instant.parse(%s)", g.wire(), text(v.String()))
	case *schema.Member:
		return text(v.Name)
	}
	return fmt.Sprint(v)
}

func (g *generator) defaultOf(f *schema.Field) string {
	if f.Type.Kind == schema.KindInt64 || f.Type.Kind == schema.KindUint64 {
		return g.literal(f.Default) + "n"
	}
	return g.literal(f.Default)
}

func (g *generator) typ(t *schema.Type) string {
	return spell(t, speller{
		decl:   func(d *schema.Decl) string { return g.from(d) + d.Name },
		global: g.global,
		wire:   func(name string) string { return g.wire() + "." + name },
	})
}

func (g *generator) tools(d *schema.Decl) string { return g.from(d) + ToolsName(d) }

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
	g.doc(docOf(doc+"It is open: a number that is not listed is kept as \"#7\", a name as \"?name\".", e.Deprecated))
	g.P("export type %s = %s | %s.Unlisted;", e.Name, strings.Join(names, " | "), wire)
	g.P("")
	g.doc(fmt.Sprintf("Lists, reads and writes values of %s.", e.Name))
	g.In(fmt.Sprintf("export const %s = new %s.EnumTools(%s, [", ToolsName(&e.Decl), wire, text(e.Name)), func() {
		for _, m := range e.Members {
			g.P("[%d, %s],", m.Number, text(m.Name))
		}
	}, "] as const"+renamedInJSON(e)+");")
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
	return ", [" + strings.Join(names, ", ") + "]"
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
		g.doc(docOf(m.Doc, m.Deprecated))
		g.In(fmt.Sprintf("export interface %s {", m.Name), func() { g.fields(m, "readonly ") }, "}")
		g.P("")
	}
	g.doc(fmt.Sprintf("What makes %s: defaults and optional fields may be left out.", m.Name))
	g.In(fmt.Sprintf("export interface %sInit {", m.Name), func() {
		for _, f := range m.Fields {
			mark, suffix := "", ""
			if f.Presence != schema.Required {
				mark, suffix = "?", " | undefined"
			}
			g.P("readonly %s%s: %s%s;", FieldName(f), mark, g.typ(f.Type), suffix)
		}
		g.P("readonly [%s.unknown]?: readonly %s.UnknownField[] | undefined;", wire, wire)
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
	g.readEntry(m)
	g.finish(m)
	g.P("")
	g.doc(fmt.Sprintf("Makes, reads, writes and checks %s.", m.Name))
	g.In(fmt.Sprintf("export const %s = {", ToolsName(&m.Decl)), func() { g.codec(m) }, "};")
}

func (g *generator) fields(m *schema.Message, readonly string) {
	for _, f := range m.Fields {
		g.doc(docOf(f.Doc, f.Deprecated))
		mark := ""
		if f.Presence == schema.Optional {
			mark = "?"
		}
		g.P("%s%s%s: %s;", readonly, FieldName(f), mark, g.typ(f.Type))
	}
	g.P("%s[%s.unknown]?: readonly %s.UnknownField[];", readonly, g.wire(), g.wire())
}

func (g *generator) errorClass(m *schema.Message) {
	wire := g.wire()
	line, _, _ := strings.Cut(m.Doc, "\n")
	if line == "" {
		line = m.Name
	}
	g.P("")
	g.doc(docOf(m.Doc, m.Deprecated))
	g.In(fmt.Sprintf("export class %s extends %s.DeclaredError {", m.Name, wire), func() {
		g.fields(m, "declare readonly ")
		g.P("")
		g.In(fmt.Sprintf("constructor(init: %sInit) {", m.Name), func() {
			g.P("super(%s, %s);", text(m.FullName()), text(line))
			g.P("%s.assign(this, make%s(init));", g.global("Object"), m.Name)
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

// readEntry writes what reads one field from CBOR: JSON may bring a known
// field by number, as CBOR, so it stands apart.
func (g *generator) readEntry(m *schema.Message) {
	wire := g.wire()
	g.P("")
	g.In(fmt.Sprintf("function read%sEntry(%s: %s.Draft<%s>, r: %s.CborReader, number: number, unknown: %s.UnknownField[]): void {", m.Name, draftName(m), wire, g.shape(m), wire, wire), func() {
		if len(m.Fields) == 0 {
			g.P("r.unknown(unknown, number);")
			return
		}
		g.In("switch (number) {", func() {
			for _, f := range m.Fields {
				field := "m." + FieldName(f)
				g.In(fmt.Sprintf("case %d: {", f.Number), func() {
					g.P("r.once(%s);", field)
					g.readInto(f.Type, field, "Cbor", 0)
					g.P("break;")
				}, "}")
			}
			g.P("default:")
			g.P("  r.unknown(unknown, number);")
		}, "}")
	}, "}")
}

// finish writes what makes a message of a draft: what is missing is refused,
// defaults are filled in, and what is absent gets no property.
func (g *generator) finish(m *schema.Message) {
	wire := g.wire()
	if m.IsError() {
		// The class assigns these to itself, so that there is one way to fill
		// in defaults.
		g.P("")
		g.In(fmt.Sprintf("function make%s(init: %sInit): %s {", m.Name, m.Name, g.shape(m)), func() { g.makeFrom(m) }, "}")
	}
	g.P("")
	reader := ""
	if anyRequired(m) {
		reader = fmt.Sprintf("r: %s.CborReader | %s.JsonReader, ", wire, wire)
	}
	g.In(fmt.Sprintf("function finish%s(%s: %s.Draft<%s>, %sunknown: %s.UnknownField[]): %s {", m.Name, draftName(m), wire, g.shape(m), reader, wire, m.Name), func() {
		var parts []string
		for _, f := range m.Fields {
			name := FieldName(f)
			if f.Presence == schema.Required {
				parts = append(parts, fmt.Sprintf("%s: r.required(m.%s, %s)", name, name, text(f.JSONName())))
			} else {
				parts = append(parts, fmt.Sprintf("%s: m.%s", name, name))
			}
		}
		if !m.IsError() {
			g.P("return %s.make({", ToolsName(&m.Decl))
		} else {
			g.P("return new %s({", m.Name)
		}
		for _, part := range parts {
			g.P("  %s,", part)
		}
		g.P("  [%s.unknown]: %s.settle(unknown),", wire, wire)
		g.P("});")
	}, "}")
}

// draftName is what a draft is called where a message without fields does not
// use it.
func draftName(m *schema.Message) string {
	if len(m.Fields) == 0 {
		return "_m"
	}
	return "m"
}

func anyRequired(m *schema.Message) bool {
	return slices.ContainsFunc(m.Fields, func(f *schema.Field) bool { return f.Presence == schema.Required })
}

func finishCall(m *schema.Message) string {
	if anyRequired(m) {
		return fmt.Sprintf("finish%s(m, r, unknown)", m.Name)
	}
	return fmt.Sprintf("finish%s(m, unknown)", m.Name)
}

// makeFrom writes the body that makes a message's fields of init.
func (g *generator) makeFrom(m *schema.Message) {
	wire := g.wire()
	var parts []string
	for _, f := range m.Fields {
		switch f.Presence {
		case schema.Required:
			parts = append(parts, fmt.Sprintf("%s: init.%s,", FieldName(f), FieldName(f)))
		case schema.Defaulted:
			parts = append(parts, fmt.Sprintf("%s: init.%s ?? %s,", FieldName(f), FieldName(f), g.defaultOf(f)))
		}
	}
	head := fmt.Sprintf("const m: %s.Mutable<%s> = {", wire, g.shape(m))
	if len(parts) == 0 {
		g.P("%s};", head)
	} else {
		g.In(head, func() {
			for _, part := range parts {
				g.P("%s", part)
			}
		}, "};")
	}
	for _, f := range m.Fields {
		if f.Presence == schema.Optional {
			g.In(fmt.Sprintf("if (init.%s !== undefined) {", FieldName(f)), func() { g.P("m.%s = init.%s;", FieldName(f), FieldName(f)) }, "}")
		}
	}
	g.In(fmt.Sprintf("if (init[%s.unknown] !== undefined) {", wire), func() { g.P("m[%s.unknown] = init[%s.unknown];", wire, wire) }, "}")
	g.P("return m;")
}

func (g *generator) codec(m *schema.Message) {
	wire, tools := g.wire(), ToolsName(&m.Decl)
	g.method(fmt.Sprintf("make(init: %sInit): %s", m.Name, m.Name), func() {
		if m.IsError() {
			g.P("return new %s(init);", m.Name)
		} else {
			g.makeFrom(m)
		}
	})
	g.P("")
	for _, verb := range []struct{ signature, call string }{
		{fmt.Sprintf("toCbor(m: %s): %s<%s>", m.Name, g.global("Uint8Array"), g.global("ArrayBuffer")), "toCbor(%s, m)"},
		{fmt.Sprintf("fromCbor(payload: %s): %s", g.global("Uint8Array"), m.Name), "fromCbor(%s, payload)"},
		{fmt.Sprintf("toJson(m: %s): string", m.Name), "toJson(%s, m)"},
		{fmt.Sprintf("fromJson(payload: string | %s): %s", g.global("Uint8Array"), m.Name), "fromJson(%s, payload)"},
		{fmt.Sprintf("validate(m: %s): %s.Violation[]", m.Name, wire), "validate(%s, m)"},
	} {
		g.method(verb.signature, func() { g.P("return %s.%s;", wire, fmt.Sprintf(verb.call, tools)) })
		g.P("")
	}
	g.writeMethod(m, "Cbor")
	g.P("")
	g.readCbor(m)
	g.P("")
	g.writeMethod(m, "Json")
	g.P("")
	g.readJSON(m)
	g.P("")
	g.violations(m)
}

// writeMethod writes writeCbor or writeJson.
func (g *generator) writeMethod(m *schema.Message, form string) {
	wire := g.wire()
	g.method(fmt.Sprintf("write%s(w: %s.%sWriter, m: %s): void", form, wire, form, m.Name), func() {
		always := 0
		var optional []string
		for _, f := range m.Fields {
			if f.Presence == schema.Optional {
				optional = append(optional, fmt.Sprintf("(m.%s === undefined ? 0 : 1)", FieldName(f)))
			} else {
				always++
			}
		}
		if form == "Cbor" {
			count := optional
			if always > 0 || len(optional) == 0 {
				count = append([]string{strconv.Itoa(always)}, optional...)
			}
			g.P("const start = w.openMessage(%s);", strings.Join(count, " + "))
		} else {
			g.P("const start = w.openMessage();")
		}
		for _, f := range m.Fields {
			write := func() {
				if form == "Cbor" {
					g.P("w.key(%d);", f.Number)
				} else {
					g.P("w.member(%s);", text(f.JSONName()))
				}
				g.writeValue(f.Type, "m."+FieldName(f), form, 0)
			}
			if f.Presence == schema.Optional {
				g.In(fmt.Sprintf("if (m.%s !== undefined) {", FieldName(f)), write, "}")
			} else {
				write()
			}
		}
		if form == "Cbor" {
			g.P("w.closeMessage(start, m[%s.unknown]);", wire)
		} else {
			g.P("w.closeMessage(start, m[%s.unknown], %s);", wire, fieldTable(m))
		}
	})
}

var verbs = map[schema.Kind]string{schema.KindBool: "bool",
	schema.KindInt8: "int8", schema.KindInt16: "int16", schema.KindInt32: "int32", schema.KindInt64: "int64",
	schema.KindUint8: "uint8", schema.KindUint16: "uint16", schema.KindUint32: "uint32", schema.KindUint64: "uint64",
	schema.KindFloat32: "float32", schema.KindFloat64: "float64",
	schema.KindText: "text", schema.KindBytes: "bytesValue", schema.KindUUID: "uuid", schema.KindInstant: "instant"}

// toolsOf is the tools object of an enum or message type.
func (g *generator) toolsOf(t *schema.Type) string {
	if t.Kind == schema.KindEnum {
		return g.tools(&t.Enum.Decl)
	}
	return g.tools(&t.Message.Decl)
}

func (g *generator) writeValue(t *schema.Type, value, form string, depth int) {
	n := ""
	if depth > 0 {
		n = strconv.Itoa(depth + 1)
	}
	switch t.Kind {
	case schema.KindEnum, schema.KindMessage:
		g.P("%s.write%s(w, %s);", g.toolsOf(t), form, value)
	case schema.KindList:
		if form == "Cbor" {
			g.P("w.openList(%s.length);", value)
		} else {
			g.P("w.open(\"[\");")
		}
		g.In(fmt.Sprintf("for (const item%s of %s) {", n, value), func() {
			if form == "Json" {
				g.P("w.separate();")
			}
			g.writeValue(t.Elem, "item"+n, form, depth+1)
		}, "}")
		if form == "Cbor" {
			g.P("w.leave();")
		} else {
			g.P("w.close(\"]\");")
		}
	case schema.KindMap:
		if form == "Cbor" {
			g.P("w.openMap(%s.size);", value)
		} else {
			g.P("w.open(\"{\");")
		}
		g.In(fmt.Sprintf("for (const [key%s, entry%s] of %s.sortedEntries(%s)) {", n, n, g.wire(), value), func() {
			if form == "Cbor" {
				g.P("w.text(key%s);", n)
			} else {
				g.P("w.member(key%s);", n)
			}
			g.writeValue(t.Elem, "entry"+n, form, depth+1)
		}, "}")
		if form == "Cbor" {
			g.P("w.leave();")
		} else {
			g.P("w.close(\"}\");")
		}
	default:
		g.P("w.%s(%s);", verbs[t.Kind], value)
	}
}

// readInto writes the statements that read a value into target.
func (g *generator) readInto(t *schema.Type, target, form string, depth int) {
	wire := g.wire()
	n := ""
	if depth > 0 {
		n = strconv.Itoa(depth + 1)
	}
	// Elements are read in their own block, so that a mistake in one can be
	// told with its index or key.
	element := func(step string, keep func(value string)) {
		g.In("try {", func() {
			if t.Elem.Kind == schema.KindList || t.Elem.Kind == schema.KindMap {
				g.P("let item%s: %s;", n, g.typ(t.Elem))
				g.readInto(t.Elem, "item"+n, form, depth+1)
				keep("item" + n)
			} else {
				keep(g.readExpression(t.Elem, form))
			}
		}, "} catch (problem) {")
		g.P("  throw %s.inside(problem, %s);", wire, step)
		g.P("}")
	}
	switch t.Kind {
	case schema.KindList:
		list := "list" + n
		g.P("const %s: %s[] = [];", list, g.elementType(t))
		open := "while (r.more()) {"
		if form == "Cbor" {
			g.P("const length%s = r.openList();", n)
			open = fmt.Sprintf("for (let i%s = 0; r.more(i%s, length%s); i%s++) {", n, n, n, n)
		} else {
			g.P("r.openList();")
		}
		g.In(open, func() {
			element(list+".length", func(value string) { g.P("%s.push(%s);", list, value) })
		}, "}")
		if form == "Cbor" {
			g.P("r.leave();")
		}
		g.P("%s = %s;", target, list)
	case schema.KindMap:
		entries := "entries" + n
		g.P("const %s = new %s<string, %s>();", entries, g.global("Map"), g.typ(t.Elem))
		key := "key" + n
		if form == "Cbor" {
			g.P("const length%s = r.openMap();", n)
			g.In(fmt.Sprintf("for (let i%s = 0; r.more(i%s, length%s); i%s++) {", n, n, n, n), func() {
				g.P("const %s = r.text();", key)
				element(key, func(value string) { g.P("%s.distinct(%s, %s, %s);", wire, entries, key, value) })
			}, "}")
			g.P("r.leave();")
		} else {
			g.P("r.openObject(\"a map\");")
			g.In(fmt.Sprintf("for (let %s = r.member(); %s !== undefined; %s = r.member()) {", key, key, key), func() {
				element(key, func(value string) { g.P("%s.distinct(%s, %s, %s);", wire, entries, key, value) })
			}, "}")
		}
		g.P("%s = %s;", target, entries)
	default:
		g.P("%s = %s;", target, g.readExpression(t, form))
	}
}

// elementType is the type of a list's elements, fit to stand before "[]".
func (g *generator) elementType(t *schema.Type) string {
	elem := g.typ(t.Elem)
	if t.Elem.Kind == schema.KindList {
		return "(" + elem + ")"
	}
	return elem
}

// readExpression reads what is no list or map.
func (g *generator) readExpression(t *schema.Type, form string) string {
	switch t.Kind {
	case schema.KindEnum, schema.KindMessage:
		return fmt.Sprintf("%s.read%s(r)", g.toolsOf(t), form)
	case schema.KindBytes:
		return "r.bytes()"
	case schema.KindText:
		if form == "Json" {
			return "r.textValue()"
		}
	}
	return "r." + verbs[t.Kind] + "()"
}

func (g *generator) draft(m *schema.Message) {
	var parts []string
	for _, f := range m.Fields {
		parts = append(parts, FieldName(f)+": undefined")
	}
	parts = append(parts, fmt.Sprintf("[%s.unknown]: undefined", g.wire()))
	g.P("const m: %s.Draft<%s> = { %s };", g.wire(), g.shape(m), strings.Join(parts, ", "))
	g.P("const unknown: %s.UnknownField[] = [];", g.wire())
}

func (g *generator) readCbor(m *schema.Message) {
	wire := g.wire()
	g.method(fmt.Sprintf("readCbor(r: %s.CborReader): %s", wire, m.Name), func() {
		g.draft(m)
		g.P("const length = r.openMessage(%s);", text(m.Name))
		g.P("let number = 0;")
		g.In("try {", func() {
			g.In("for (let i = 0; r.more(i, length); i++) {", func() {
				g.P("number = 0;")
				g.P("number = r.fieldNumber();")
				g.P("read%sEntry(m, r, number, unknown);", m.Name)
			}, "}")
		}, "} catch (problem) {")
		g.P("  throw %s.insideField(problem, %s, number);", wire, fieldTable(m))
		g.P("}")
		g.P("r.leave();")
		g.P("return %s;", finishCall(m))
	})
}

func (g *generator) readJSON(m *schema.Message) {
	wire := g.wire()
	g.method(fmt.Sprintf("readJson(r: %s.JsonReader): %s", wire, m.Name), func() {
		g.draft(m)
		g.P("const seen = new %s<number>();", g.global("Set"))
		g.P("let number = 0;")
		g.P("r.openObject(%s);", text(m.Name))
		g.In("try {", func() {
			g.In("for (let name = r.member(); name !== undefined; number = 0, name = r.member()) {", func() {
				g.In("switch (name) {", func() {
					for _, f := range m.Fields {
						g.In(fmt.Sprintf("case %s: {", text(f.JSONName())), func() {
							g.P("number = %d;", f.Number)
							g.P("r.once(seen, number);")
							read := func() { g.readInto(f.Type, "m."+FieldName(f), "Json", 0) }
							if f.Presence == schema.Required {
								read()
							} else {
								g.In("if (!r.null()) {", read, "}")
							}
							g.P("break;")
						}, "}")
					}
					g.In("default: {", func() {
						g.P("const known = r.unknown(unknown, %s, name);", fieldTable(m))
						g.In("if (known !== undefined) {", func() {
							g.P("number = known[0];")
							g.P("r.once(seen, number);")
							g.P("read%sEntry(m, known[1], number, unknown);", m.Name)
							g.P("known[1].end();")
						}, "}")
					}, "}")
				}, "}")
			}, "}")
		}, "} catch (problem) {")
		g.P("  throw %s.insideField(problem, %s, number);", wire, fieldTable(m))
		g.P("}")
		g.P("return %s;", finishCall(m))
	})
}

func (g *generator) violations(m *schema.Message) {
	wire := g.wire()
	if !stubs.Checked(&schema.Type{Kind: schema.KindMessage, Message: m}) {
		g.method("violations(): void", func() { g.P("// Nothing in %s can be a violation.", m.Name) })
		return
	}
	g.method(fmt.Sprintf("violations(list: %s.Violation[], path: string, m: %s): void", wire, m.Name), func() {
		for _, f := range m.Fields {
			if !stubs.Checked(f.Type) && f.Bounds == nil {
				continue
			}
			value, path := "m."+FieldName(f), "`${path}"+templateText(stubs.Pointer(f.JSONName()))+"`"
			check := func() {
				if f.Bounds != nil {
					g.boundsOf(f, value, path)
				}
				if stubs.Checked(f.Type) {
					g.violationsOf(f.Type, value, path, 0)
				}
			}
			if f.Presence == schema.Optional {
				g.In(fmt.Sprintf("if (%s !== undefined) {", value), check, "}")
			} else {
				check()
			}
		}
	})
}

func (g *generator) violationsOf(t *schema.Type, value, path string, depth int) {
	n := ""
	if depth > 0 {
		n = strconv.Itoa(depth + 1)
	}
	inner := strings.TrimSuffix(path, "`")
	switch t.Kind {
	case schema.KindEnum:
		g.P("%s.validate(list, %s, %s);", g.toolsOf(t), path, value)
	case schema.KindMessage:
		g.P("%s.violations(list, %s, %s);", g.toolsOf(t), path, value)
	case schema.KindList:
		g.In(fmt.Sprintf("for (const [i%s, item%s] of %s.entries()) {", n, n, value), func() {
			g.violationsOf(t.Elem, "item"+n, fmt.Sprintf("%s/${i%s}`", inner, n), depth+1)
		}, "}")
	case schema.KindMap:
		g.In(fmt.Sprintf("for (const [key%s, entry%s] of %s.sortedEntries(%s)) {", n, n, g.wire(), value), func() {
			g.violationsOf(t.Elem, "entry"+n, fmt.Sprintf("%s${%s.pointer(key%s)}`", inner, g.wire(), n), depth+1)
		}, "}")
	}
}
