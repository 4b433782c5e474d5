package typescript

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
)

// codedDecl is the declaration of a type that has a codec, or nil.
func codedDecl(t *schema.Type) *schema.Decl {
	switch {
	case t.Kind == schema.KindEnum:
		return &t.Enum.Decl
	case t.Kind == schema.KindUnion:
		return &t.Union.Decl
	case t.Kind == schema.KindMessage:
		return &t.Message.Decl
	case t.Named != nil && !t.Kind.IsScalar():
		return &t.Named.Decl
	}
	return nil
}

// codecOf is the codec of a type that has one, or "".
func (g *generator) codecOf(t *schema.Type) string {
	if d := codedDecl(t); d != nil {
		return g.codec(d)
	}
	return ""
}

// readEntry writes what reads one field from CBOR: JSON may bring a known
// field by number, as CBOR, so it stands apart.
func (g *generator) readEntry(m *schema.Message) {
	wire := g.wire()
	g.P("")
	g.In(fmt.Sprintf("function begin%s(): %s.Unfinished<%s> {", m.Name, wire, g.shape(m)), func() {
		var parts []string
		for _, f := range m.Fields {
			parts = append(parts, FieldName(f)+": undefined")
		}
		g.P("return %s;", object(parts...))
	}, "}")
	if g.jsonAlone {
		return
	}
	g.P("")
	parameters := []string{fmt.Sprintf("m: %s.Unfinished<%s>", wire, g.shape(m)), "r: " + wire + ".CborReader",
		"number: number"}
	g.function("read"+m.Name+"Entry", parameters, "void", func() {
		if len(m.Fields) == 0 {
			g.P("r.keepUnlisted(m, number);")
			return
		}
		g.In("switch (number) {", func() {
			for _, f := range m.Fields {
				field := "m." + FieldName(f)
				body := func() {
					g.P("r.once(%s);", field)
					g.readField(f, "Cbor")
					g.P("break;")
				}
				if g.codecOf(f.Type) != "" || f.Type.Kind.IsScalar() {
					g.P("case %d:", f.Number)
					g.Deeper(1, body)
				} else {
					g.In(fmt.Sprintf("case %d: {", f.Number), body, "}")
				}
			}
			g.P("default:")
			g.P("  r.keepUnlisted(m, number);")
		}, "}")
	})
}

// finish writes what makes a message of an unfinished one: what is missing is refused
// and defaults are filled in.
func (g *generator) finish(m *schema.Message) {
	wire := g.wire()
	g.P("")
	parameters := []string{fmt.Sprintf("m: %s.Unfinished<%s>", wire, g.shape(m))}
	if anyRequired(m) {
		readers := wire + ".CborReader | " + wire + ".JsonReader"
		if g.jsonAlone {
			readers = wire + ".JsonReader"
		}
		parameters = append(parameters, "r: "+readers)
	}
	g.function("finish"+m.Name, parameters, m.Name, func() {
		for _, f := range m.Fields {
			field := "m." + FieldName(f)
			switch {
			case f.Presence == schema.Required:
				g.In(fmt.Sprintf("if (%s === undefined) {", field), func() { g.P("r.missing(%s);", text(f.JSONName())) }, "}")
			case f.Presence == schema.Defaulted:
				g.P("%s ??= %s;", field, g.literalOf(f.Type, f.Default))
			case f.Type.Kind == schema.KindAny && f.Changes == nil:
				g.P("%s ??= undefined;", field)
			}
		}
		g.P("%s.settle(m);", wire)
		whole := "m"
		if slices.ContainsFunc(m.Fields, func(f *schema.Field) bool { return f.Presence != schema.Optional }) {
			whole = fmt.Sprintf("m as %s%s", m.Name, map[bool]string{true: "Init"}[m.IsError()])
		}
		if m.IsError() {
			g.P("return new %s(%s);", m.Name, whole)
		} else {
			g.P("return %s;", whole)
		}
	})
}

func anyRequired(m *schema.Message) bool {
	return slices.ContainsFunc(m.Fields, func(f *schema.Field) bool { return f.Presence == schema.Required })
}

func finishCall(m *schema.Message) string {
	if anyRequired(m) {
		return fmt.Sprintf("finish%s(m, r)", m.Name)
	}
	return fmt.Sprintf("finish%s(m)", m.Name)
}

// inCbor is why a field that is listed is not read.
const inCbor = "the field is written in CBOR, which is left out here"

// withoutCbor writes the methods of a codec that has no CBOR.
func (g *generator) withoutCbor() {
	g.P("writeCbor: %s.withoutCbor,", g.wire())
	g.P("")
	g.P("readCbor: %s.withoutCbor,", g.wire())
}

// codecMethods write how a message is made, written, read and checked.
func (g *generator) codecMethods(m *schema.Message) {
	if m.IsError() {
		g.P("make: (init) => new %s(init),", m.Name)
	} else {
		g.P("make: make%s,", m.Name)
	}
	g.P("")
	if g.jsonAlone {
		g.withoutCbor()
	} else {
		g.writeMethod(m, "Cbor")
		g.P("")
		g.readCbor(m)
	}
	g.P("")
	g.writeMethod(m, "Json")
	g.P("")
	g.readJSON(m)
	g.P("")
	g.violations(m)
}

// writeMethod writes writeCbor or writeJson.
func (g *generator) writeMethod(m *schema.Message, encoding string) {
	wire := g.wire()
	g.method(fmt.Sprintf("write%s(w: %s.%sWriter, m: %s): void", encoding, wire, encoding, m.Name), func() {
		if encoding == "Cbor" {
			g.P("const start = %s;", call("w.openMessage", countOf(m)))
		} else {
			g.P("const start = w.openMessage(m[%s.unlisted]);", wire)
		}
		for _, f := range m.Fields {
			name := func() {
				if encoding == "Cbor" {
					g.P("w.key(%d);", f.Number)
				} else {
					g.P("w.field(%s);", quotedName(f))
				}
			}
			value := func() {
				if encoding == "Json" && f.Secret && !namedSecret(f.Type) {
					g.In("if (!w.secret()) {", func() { g.writeValue(f.Type, "m."+FieldName(f), encoding, 0) }, "}")
					return
				}
				g.writeValue(f.Type, "m."+FieldName(f), encoding, 0)
			}
			write := func() {
				name()
				value()
			}
			if f.Changes != nil {
				g.In(fmt.Sprintf("if (%s) {", isPresent(f)), func() {
					name()
					g.writeChange(f, value)
				}, "}")
			} else if f.Presence == schema.Optional {
				g.In(fmt.Sprintf("if (%s) {", isPresent(f)), write, "}")
			} else {
				write()
			}
		}
		if encoding == "Cbor" {
			g.P("w.closeMessage(start, m[%s.unlisted]);", wire)
		} else {
			g.P("w.closeMessage(start, m[%s.unlisted], %s);", wire, fieldTable(m))
		}
	})
}

// quotedName writes the name of a field in JSON as it stands there, with its colon.
func quotedName(f *schema.Field) string {
	name := text(f.JSONName()) + ":"
	if strings.ContainsAny(name, `'\`) {
		return text(name)
	}
	return "'" + name + "'"
}

// isPresent writes the condition that an optional field is there.
func isPresent(f *schema.Field) string {
	if f.Type.Kind == schema.KindAny && f.Changes == nil {
		return fmt.Sprintf("m.%s !== undefined && m.%s !== null", FieldName(f), FieldName(f))
	}
	return fmt.Sprintf("m.%s !== undefined", FieldName(f))
}

// countOf writes how many entries a message has.
func countOf(m *schema.Message) string {
	always := 0
	var parts []string
	for _, f := range m.Fields {
		if f.Presence == schema.Optional {
			parts = append(parts, fmt.Sprintf("(%s ? 1 : 0)", isPresent(f)))
		} else {
			always++
		}
	}
	if always > 0 || len(parts) == 0 {
		parts = append([]string{strconv.Itoa(always)}, parts...)
	}
	return joined(" +", parts)
}

func namedSecret(t *schema.Type) bool { return t.Named != nil && t.Named.Secret }

// deeper is what names of variables end in, so that those of a nested list or
// map are their own.
func deeper(depth int) string {
	if depth == 0 {
		return ""
	}
	return strconv.Itoa(depth + 1)
}

func (g *generator) writeValue(t *schema.Type, value, encoding string, depth int) {
	if encoding == "Json" && namedSecret(t) && t.Kind.IsScalar() {
		g.In("if (!w.secret()) {", func() { g.P("%s;", g.writeScalar(t.Kind, value, encoding)) }, "}")
		return
	}
	if codec := g.codecOf(t); codec != "" {
		g.P("%s.write%s(w, %s);", codec, encoding, value)
		return
	}
	g.writePlain(t, value, encoding, depth)
}

// writePlain is writeValue for a type without a codec, or inside of them.
func (g *generator) writePlain(t *schema.Type, value, encoding string, depth int) {
	n := deeper(depth)
	switch t.Kind {
	case schema.KindList:
		if encoding == "Cbor" {
			g.P("w.openList(%s.length);", value)
		} else {
			g.P("w.open(\"[\");")
		}
		g.In(fmt.Sprintf("for (const item%s of %s) {", n, value), func() {
			if encoding == "Json" {
				g.P("w.separate();")
			}
			g.writeValue(t.Elem, "item"+n, encoding, depth+1)
		}, "}")
		g.closeWriting(encoding, "]")
	case schema.KindMap:
		if encoding == "Cbor" {
			g.P("w.openMap(%s.size);", value)
		} else {
			g.P("w.open(\"{\");")
		}
		g.In(fmt.Sprintf("for (const [key%s, entry%s] of %s) {", n, n, g.sortedEntries(t, value)), func() {
			switch {
			case encoding == "Cbor":
				g.writeValue(t.Key, "key"+n, encoding, depth+1)
			case namedSecret(t.Key):
				g.P("w.secretMember(%s);", g.keyText(t.Key, "key"+n))
			case t.Key.Kind == schema.KindEnum:
				g.P("w.member(%s.writtenKey(key%s));", g.codecOf(t.Key), n)
			default:
				g.P("w.member(%s);", g.keyText(t.Key, "key"+n))
			}
			g.writeValue(t.Elem, "entry"+n, encoding, depth+1)
		}, "}")
		g.closeWriting(encoding, "}")
	default:
		g.P("%s;", g.writeScalar(t.Kind, value, encoding))
	}
}

// writeScalar writes the expression that writes a scalar.
func (g *generator) writeScalar(kind schema.Kind, value, encoding string) string {
	verb := scalars[kind].verb
	if encoding == "Json" && scalars[kind].apart() {
		return fmt.Sprintf("%s.writeJson%s(w, %s)", g.wire(), upperFirst(verb), value)
	}
	return fmt.Sprintf("w.%s(%s)", verb, value)
}

func (g *generator) closeWriting(encoding, bracket string) {
	if encoding == "Cbor" {
		g.P("w.leave();")
	} else {
		g.P("w.close(%q);", bracket)
	}
}

// sortedEntries writes the entries of a map in the order of writing.
func (g *generator) sortedEntries(t *schema.Type, value string) string {
	switch {
	case t.Key.Kind == schema.KindEnum:
		return fmt.Sprintf("%s.sorted(%s)", g.codecOf(t.Key), value)
	case t.Key.Kind.IsInteger():
		return fmt.Sprintf("%s.sortedIntegers(%s)", g.wire(), value)
	}
	return fmt.Sprintf("%s.sortedTexts(%s)", g.wire(), value)
}

// keyText writes a map's key as text.
func (g *generator) keyText(t *schema.Type, key string) string {
	switch {
	case t.Kind == schema.KindEnum:
		return fmt.Sprintf("%s.key(%s)", g.codecOf(t), key)
	case t.Kind.IsInteger():
		return fmt.Sprintf("%s(%s)", g.global("String"), key)
	}
	return key
}

// keyOf writes the key of a map that a name in JSON stands for.
func (g *generator) keyOf(t *schema.Type, name string) string {
	expression := name
	switch {
	case t.Kind == schema.KindEnum:
		return fmt.Sprintf("%s.readKey(r, %s)", g.codecOf(t), name)
	case t.Kind == schema.KindInt64 || t.Kind == schema.KindUint64:
		expression = fmt.Sprintf("r.largeKey(%s, %t)", name, t.Kind == schema.KindInt64)
	case t.Kind.IsInteger():
		low, high := t.Kind.Range()
		expression = fmt.Sprintf("r.smallKey(%s, %d, %d)", name, low, high)
	}
	if isBranded(t) {
		expression += " as " + g.typ(t)
	}
	return expression
}

// readInto writes the statements that read a value into target.
func (g *generator) readInto(t *schema.Type, target, encoding string) {
	if g.codecOf(t) != "" || t.Kind.IsScalar() {
		g.P("%s = %s;", target, g.readExpression(t, encoding))
		return
	}
	g.readPlain(t, func(value string) { g.P("%s = %s;", target, value) }, encoding, 0)
}

// readPlain reads a list or map, and does something with it.
func (g *generator) readPlain(t *schema.Type, do func(value string), encoding string, depth int) {
	wire, n := g.wire(), deeper(depth)
	element := func(use func(value string)) {
		if g.codecOf(t.Elem) != "" || t.Elem.Kind.IsScalar() {
			use(g.readExpression(t.Elem, encoding))
			return
		}
		g.readPlain(t.Elem, use, encoding, depth+1)
	}
	// What is wrong inside is told with its index or key.
	guarded := func(step string, body func()) {
		g.In("try {", body, "} catch (problem) {")
		g.P("  throw %s.inside(problem, %s);", wire, step)
		g.P("}")
	}
	counted := func(body func()) {
		g.In(fmt.Sprintf("for (let i%s = 0; r.more(i%s, length%s); i%s++) {", n, n, n, n), body, "}")
	}
	switch t.Kind {
	case schema.KindList:
		list := "list" + n
		g.P("const %s: %s[] = [];", list, g.elementType(t))
		push := func() { element(func(value string) { g.P("%s.push(%s);", list, value) }) }
		if encoding == "Cbor" {
			g.P("const length%s = r.openList();", n)
			guarded(list+".length", func() { counted(push) })
			g.P("r.leave();")
		} else {
			g.P("r.openList();")
			guarded(list+".length", func() { g.In("while (r.more()) {", push, "}") })
		}
		do(list)
	case schema.KindMap:
		entries, key := "entries"+n, "key"+n
		g.P("const %s = new %s<%s, %s>();", entries, g.global("Map"), g.typ(t.Key), g.typ(t.Elem))
		set := func(key string) func() {
			return func() { element(func(value string) { g.P("%s.distinct(%s, %s, %s);", wire, entries, key, value) }) }
		}
		if encoding == "Cbor" {
			g.P("const length%s = r.openMap();", n)
			counted(func() {
				g.P("const %s = %s;", key, g.readExpression(t.Key, encoding))
				guarded(g.keyText(t.Key, key), set(key))
			})
			g.P("r.leave();")
		} else {
			name := "name" + n
			g.P("r.openObject(\"a map\");")
			g.In(fmt.Sprintf("for (let %s = r.member(); %s !== undefined; %s = r.member()) {", name, name, name), func() {
				g.P("const %s = %s;", key, g.keyOf(t.Key, name))
				guarded(name, set(key))
			}, "}")
		}
		do(entries)
	}
}

// elementType is the type of a list's elements, fit to stand before "[]".
func (g *generator) elementType(t *schema.Type) string { return element(t, g.typ(t.Elem)) }

// readExpression reads what is not a list or map without a name.
func (g *generator) readExpression(t *schema.Type, encoding string) string {
	if codec := g.codecOf(t); codec != "" {
		return fmt.Sprintf("%s.read%s(r)", codec, encoding)
	}
	expression := "r." + scalars[t.Kind].verb + "()"
	if encoding == "Json" && scalars[t.Kind].apart() {
		expression = g.wire() + ".readJson" + upperFirst(scalars[t.Kind].verb) + "(r)"
	}
	switch {
	case t.Kind == schema.KindBytes:
		expression = "r.bytes()"
	case t.Kind == schema.KindText && encoding == "Json":
		expression = "r.textValue()"
	}
	if isBranded(t) {
		expression += " as " + g.typ(t)
	}
	return expression
}

func (g *generator) readCbor(m *schema.Message) {
	wire := g.wire()
	g.method(fmt.Sprintf("readCbor(r: %s.CborReader): %s", wire, m.Name), func() {
		g.P("const m = begin%s();", m.Name)
		g.P("const length = r.openMessage(%s, %d);", text(m.Name), len(m.Fields))
		g.P("let number = 0;")
		g.In("try {", func() {
			g.In("for (let i = 0; r.more(i, length); i++) {", func() {
				g.P("number = 0;")
				g.P("number = r.fieldNumber();")
				g.P("read%sEntry(m, r, number);", m.Name)
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
		g.P("const m = begin%s();", m.Name)
		g.P("let seen: %s.Seen = 0;", wire)
		g.P("let number = 0;")
		g.P("r.openMessage(%s, %d);", text(m.Name), len(m.Fields))
		g.In("try {", func() {
			g.In("for (let name = r.member(); name !== undefined; number = 0, name = r.member()) {", func() {
				g.In("switch (name) {", func() {
					for n, f := range m.Fields {
						g.In(fmt.Sprintf("case %s: {", text(f.JSONName())), func() {
							g.P("number = %d;", f.Number)
							g.P("seen = r.once(seen, %d);", n)
							read := func() { g.readField(f, "Json") }
							if f.Presence == schema.Required || f.Changes != nil {
								read()
							} else {
								g.In("if (!r.null()) {", read, "}")
							}
							g.P("break;")
						}, "}")
					}
					g.In("default: {", func() {
						if m.IsPatch() {
							g.P("const known = %s.keepUnlistedChange(r, m, %s, name);", g.patches(), fieldTable(m))
						} else {
							g.P("const known = r.keepUnlisted(m, %s, name);", fieldTable(m))
						}
						g.In("if (known !== undefined) {", func() {
							g.P("number = known[0];")
							if g.jsonAlone {
								g.P("r.fail(%s);", text(inCbor))
								return
							}
							g.P("seen = r.once(seen, %s.findIndex(([n]) => n === number));", fieldTable(m))
							g.P("read%sEntry(m, known[1], number);", m.Name)
							g.P("r.absorb(known[1]);")
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
