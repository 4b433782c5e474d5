package python

import (
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/value"
)

// block writes a line and what is indented below it.
func (g *generator) block(open string, body func()) {
	g.P("%s", open)
	g.Deeper(1, body)
}

// jsonText writes a string as JSON.
func jsonText(s string) string { return string(value.AppendString(nil, s)) }

// cborHead is the head of an item of a major type.
func cborHead(major, n int) []byte {
	switch {
	case n < 24:
		return []byte{byte(major<<5 | n)}
	case n < 256:
		return []byte{byte(major<<5 | 24), byte(n)}
	}
	return []byte{byte(major<<5 | 25), byte(n >> 8), byte(n)}
}

func (g *generator) tooDeep() {
	g.block(fmt.Sprintf("if depth >= %d:", value.MaxDepth), func() { g.P("%s.too_deep()", g.wire()) })
}

// present runs body inside the condition that a field is written, giving it
// the expression of the field's value.
func (g *generator) present(f *schema.Field, body func(value string)) {
	value := "self." + FieldName(f)
	if f.Presence == schema.Optional {
		g.block(fmt.Sprintf("if %s is not %s:", value, g.nothing(f)), func() { body(value) })
		return
	}
	body(value)
}

func (g *generator) writeCBOR(m *schema.Message) {
	g.function("_write_cbor", []string{"self", "out: " + g.wire() + ".Out", "depth: int"}, "None", func() {
		g.tooDeep()
		if holdsDepth(m) {
			g.P("depth += 1")
		}
		g.P("whole = out")
		g.block("if self._unlisted:", func() { g.P("out = []") })
		always := 0
		var optional []*schema.Field
		for _, f := range m.Fields {
			if f.Presence == schema.Optional {
				optional = append(optional, f)
			} else {
				always++
			}
		}
		if len(optional) == 0 {
			g.pending = append(g.pending, cborHead(5, always)...)
		} else {
			var parts []string
			for _, f := range optional {
				parts = append(parts, fmt.Sprintf("(self.%s is not %s)", FieldName(f), g.nothing(f)))
			}
			count := sum(append([]string{strconv.Itoa(always)}, parts...)...)
			g.P("%s", stubs.Call("out.append", stubs.Call(g.wire()+".map_head", count)))
		}
		for _, f := range m.Fields {
			if f.Presence == schema.Optional {
				g.flush()
			}
			g.present(f, func(value string) {
				if f.Changes != nil {
					g.putChange(f, value)
					return
				}
				g.pending = append(g.pending, cborHead(0, f.Number)...)
				g.putValue(f.Type, value, 0)
				if f.Presence == schema.Optional {
					g.flush()
				}
			})
		}
		g.flush()
		g.block("if self._unlisted:", func() {
			g.P("whole.append(%s.merge_cbor(b\"\".join(out), self._unlisted))", g.wire())
		})
	})
	g.P("")
}

// holdsDepth tells whether what a message holds wants to know how deep it is.
func holdsDepth(m *schema.Message) bool {
	for _, f := range m.Fields {
		switch f.Type.Kind {
		case schema.KindMessage, schema.KindUnion, schema.KindList, schema.KindMap, schema.KindAny:
			return true
		}
	}
	return false
}

// flush writes bytes that wait to be written with what comes after them.
func (g *generator) flush() {
	if len(g.pending) > 0 {
		g.P("out.append(%s)", bytesLiteral(g.pending))
		g.pending = nil
	}
}

// put writes pieces, with what waits before them.
func (g *generator) put(pieces ...string) {
	if len(g.pending) > 0 {
		pieces = append([]string{bytesLiteral(g.pending)}, pieces...)
		g.pending = nil
	}
	if len(pieces) == 1 {
		g.P("%s", stubs.Call("out.append", pieces[0]))
	} else {
		g.P("out += %s", stubs.Rows("(", pieces, ")"))
	}
}

// either writes a choice between two expressions.
func either(one, condition, other string) string {
	return stubs.Either(one, "if "+condition, "else "+other)
}

// putValue writes what writes a value as CBOR.
func (g *generator) putValue(t *schema.Type, value string, level int) {
	wire := g.wire()
	depth := "depth"
	if level > 0 {
		depth = fmt.Sprintf("depth + %d", level)
	}
	switch {
	case t.Kind.IsInteger():
		if !strings.Contains(value, ".") {
			g.put(either(g.table("UINTS")+"["+value+"]", value+".__class__ is int and 0 <= "+value+" < 128",
				fmt.Sprintf("%s.cbor_%s(%s)", wire, t.Kind, value)))
			return
		}
		n := "n"
		if isDistinct(t) { // a variable of one type has no room for another
			n = g.fresh("number")
		}
		g.put(either(g.table("UINTS")+"["+n+"]", "("+n+" := "+value+").__class__ is int and 0 <= "+n+" < 128",
			fmt.Sprintf("%s.cbor_%s(%s)", wire, t.Kind, n)))
	case t.Kind == schema.KindBool:
		g.put(g.wire() + ".cbor_bool(" + value + ")")
	case t.Kind == schema.KindText:
		g.put(either(g.table("TEXTS")+"[n]", "(n := len(text := "+value+".encode())) < 256", wire+".head(3, n)"), "text")
	case t.Kind == schema.KindUUID:
		g.pending = append(g.pending, 0xd8, 0x25, 0x50)
		g.put(value + ".bytes")
	case t.Kind == schema.KindEnum:
		g.put(stubs.Either(stubs.Call(g.name(&t.Enum.Decl)+"._heads.get", value), "or "+stubs.Call(wire+".enum_head", value)))
	case t.Kind == schema.KindAny:
		g.flush()
		g.P("%s.cbor_any(%s, out, %s)", wire, value, depth)
	case t.Kind == schema.KindMessage || t.Kind == schema.KindUnion:
		g.flush()
		g.P("%s._write_cbor(out, %s)", value, depth)
	case t.Kind == schema.KindFloat64:
		pack := fmt.Sprintf("%s(0xFB, %s)", g.table("pack_float64"), value)
		g.put(either(pack, value+".__class__ is float and "+value+" == "+value,
			fmt.Sprintf("%s.cbor_float64(%s)", wire, value)))
	case t.Kind == schema.KindList:
		g.flush()
		g.tooDeepAt(depth)
		item := g.fresh("item")
		g.P("out.append(%s.list_head(len(%s)))", wire, value)
		g.block(fmt.Sprintf("for %s in %s:", item, value), func() { g.putValue(t.Elem, item, level+1) })
	case t.Kind == schema.KindMap:
		g.flush()
		g.tooDeepAt(depth)
		key, item := g.fresh("key"), g.fresh("item")
		g.P("out.append(%s.map_head(len(%s)))", wire, value)
		g.block(fmt.Sprintf("for %s, %s in %s:", key, item, g.sorted(t, value)), func() {
			g.putValue(t.Key, key, level+1)
			g.putValue(t.Elem, item, level+1)
		})
	default:
		g.put(fmt.Sprintf("%s.%s(%s)", wire, scalars[t.Kind].cbor, value))
	}
}

func (g *generator) tooDeepAt(depth string) {
	g.block(fmt.Sprintf("if %s >= %d:", depth, value.MaxDepth), func() { g.P("%s.too_deep()", g.wire()) })
}

// sorted writes the entries of a map in the order of writing.
func (g *generator) sorted(t *schema.Type, value string) string {
	switch {
	case t.Key.Kind == schema.KindEnum:
		return fmt.Sprintf("%s.sorted_members(%s)", g.wire(), value)
	case t.Key.Kind.IsInteger():
		return fmt.Sprintf("%s.sorted_integers(%s)", g.wire(), value)
	}
	return fmt.Sprintf("%s.sorted_texts(%s)", g.wire(), value)
}

// encoding is what differs between reading CBOR and JSON.
type encoding struct{ json bool }

var cborEncoding, jsonEncoding = encoding{}, encoding{json: true}

func (f encoding) suffix() string {
	if f.json {
		return "json"
	}
	return "cbor"
}

// readExpression writes the expression that reads what is not a list or map.
func (g *generator) readExpression(t *schema.Type, encoding encoding) string {
	expression := ""
	switch {
	case t.Kind.IsInteger():
		low, high := t.Kind.Range()
		expression = stubs.Call("r.integer", quote(t.Kind.String()), strconv.FormatInt(low, 10), strconv.FormatUint(high, 10))
	case t.Kind == schema.KindText && encoding.json:
		expression = "r.quoted()"
	case t.Kind == schema.KindEnum:
		return stubs.Call(g.name(&t.Enum.Decl)+"._read_"+encoding.suffix(), "r")
	case t.Kind == schema.KindMessage:
		return stubs.Call(g.name(&t.Message.Decl)+"._read_"+encoding.suffix(), "r")
	case t.Kind == schema.KindUnion:
		name := g.name(&t.Union.Decl)
		return stubs.Call(strings.TrimSuffix(name, t.Union.Name)+"_read_"+snake(t.Union.Name)+"_"+encoding.suffix(), "r")
	default:
		expression = "r." + scalars[t.Kind].read + "()"
	}
	return g.distinct(t, expression)
}

// distinct makes an expression one of its named type.
func (g *generator) distinct(t *schema.Type, expression string) string {
	if isDistinct(t) {
		return stubs.Call(g.name(&t.Named.Decl), expression)
	}
	return expression
}

// readItem writes what reads a value, and returns its expression.
func (g *generator) readItem(t *schema.Type, encoding encoding) string {
	if t.Kind != schema.KindList && t.Kind != schema.KindMap {
		return g.readExpression(t, encoding)
	}
	wire := g.wire()
	guarded := func(step string, body func()) {
		g.block("try:", body)
		g.P("except %s.WireError as problem:", wire)
		g.P("    raise problem.inside(%s) from None", step)
	}
	if t.Kind == schema.KindList {
		items := g.fresh("items")
		g.P("%s: list[%s] = []", items, g.typ(t.Elem))
		add := func() {
			item := g.readItem(t.Elem, encoding)
			g.P("%s", stubs.Call(items+".append", item))
		}
		if encoding.json {
			g.P("r.open_list()")
			guarded("len("+items+")", func() { g.block("while r.more():", add) })
		} else {
			length := g.fresh("length")
			g.P("%s = r.open_list()", length)
			guarded("len("+items+")", func() { g.block(fmt.Sprintf("while r.more(len(%s), %s):", items, length), add) })
			g.P("r.leave()")
		}
		return g.distinct(t, items)
	}
	entries, key := g.fresh("entries"), g.fresh("key")
	g.P("%s: dict[%s, %s] = {}", entries, g.typ(t.Key), g.typ(t.Elem))
	put := func() {
		item := g.readItem(t.Elem, encoding)
		g.P("%s", stubs.Call(wire+".put_once", entries, key, item))
	}
	if encoding.json {
		g.P("r.open_object(\"a map\")")
		name := g.fresh("key_name")
		g.block(fmt.Sprintf("while (%s := r.member()) is not None:", name), func() {
			g.P("%s = %s", key, g.jsonKey(t.Key, name))
			guarded(name, put)
		})
	} else {
		length := g.fresh("length")
		g.P("%s = r.open_map()", length)
		g.block(fmt.Sprintf("while r.more(len(%s), %s):", entries, length), func() {
			g.P("%s = %s", key, g.readExpression(t.Key, encoding))
			guarded(g.keyText(t.Key, key), put)
		})
		g.P("r.leave()")
	}
	return g.distinct(t, entries)
}

// keyText writes a map's key as text.
func (g *generator) keyText(t *schema.Type, key string) string {
	switch {
	case t.Kind == schema.KindEnum:
		return key + "._json_key()"
	case t.Kind.IsInteger():
		return "str(" + key + ")"
	}
	return key
}

func (g *generator) fieldTable(m *schema.Message) string { return "_" + snake(m.Name) + "_names" }

// readCBOR writes _read_cbor, and the reading of one entry apart from it: JSON
// may bring a known field by number, as CBOR.
func (g *generator) readCBOR(m *schema.Message) {
	wire := g.wire()
	g.use("from typing import Any as _Any")
	g.P("@classmethod")
	g.function("_read_cbor", []string{"cls", "r: " + wire + ".CborReader"}, m.Name, func() {
		g.P("values: dict[str, _Any] = {}")
		g.P("unlisted: list[%s.UnlistedField] = []", wire)
		g.P("length = r.open_message(%s, %d)", quote(g.shownAs(m)), len(m.Fields))
		g.P("number = i = 0")
		g.block("try:", func() {
			g.block("while r.more(i, length):", func() {
				g.P("number = 0")
				g.P("number = r.field_number()")
				g.P("_read_%s_entry(r, number, values, unlisted)", snake(m.Name))
				g.P("i += 1")
			})
		})
		g.P("except %s.WireError as problem:", wire)
		g.P("    raise %s from None", stubs.Call(wire+".inside_field", "problem", g.fieldTable(m), "number"))
		g.P("r.leave()")
		finished := stubs.Call(wire+".finished", "r", "values", "unlisted", g.requiredName(m))
		g.P("return %s", stubs.Call("cls", "**"+finished))
	})
	g.P("")
}

// shownAs is what errors call a message.
func (g *generator) shownAs(m *schema.Message) string {
	if g.shown != "" {
		return g.shown
	}
	return m.Name
}

func (g *generator) requiredName(m *schema.Message) string { return "_" + snake(m.Name) + "_required" }

// entries writes what reads one entry of a message, and the names of its
// fields in JSON.
func (g *generator) entries(m *schema.Message) {
	wire := g.wire()
	var names []string
	for _, f := range m.Fields {
		names = append(names, fmt.Sprintf("%d: %s", f.Number, quote(f.JSONName())))
	}
	var required []string
	for _, f := range m.Fields {
		if f.Presence == schema.Required {
			required = append(required, fmt.Sprintf("(%s, %s)", quote(FieldName(f)), quote(f.JSONName())))
		}
	}
	g.P("%s: dict[int, str] = %s", g.fieldTable(m), stubs.Rows("{", names, "}"))
	g.P("%s: list[tuple[str, str]] = %s", g.requiredName(m), stubs.Rows("[", required, "]"))
	g.P("")
	g.P("")
	parameters := []string{
		"r: " + wire + ".CborReader", "number: int", "values: dict[str, _Any]", "unlisted: list[" + wire + ".UnlistedField]",
	}
	g.function("_read_"+snake(m.Name)+"_entry", parameters, "None", func() {
		for i, f := range m.Fields {
			word := "elif"
			if i == 0 {
				word = "if"
			}
			g.block(fmt.Sprintf("%s number == %d:", word, f.Number), func() {
				g.P("r.once(%s in values)", quote(FieldName(f)))
				g.readField(f, cborEncoding)
			})
		}
		if len(m.Fields) == 0 {
			g.P("unlisted.append(r.unlisted(number))")
			return
		}
		g.P("else:")
		g.P("    unlisted.append(r.unlisted(number))")
	})
}

func (g *generator) writeJSON(m *schema.Message) {
	wire := g.wire()
	g.function("_write_json", []string{"self", "depth: int", "mode: int"}, "str", func() {
		g.tooDeep()
		if holdsDepth(m) {
			g.P("depth += 1")
		}
		g.P("members: dict[int, str] = {}")
		for _, f := range m.Fields {
			g.present(f, func(value string) {
				text := g.jsonValue(f.Type, value, "depth", 0)
				if f.Secret && !namedSecret(f.Type) {
					text = g.hidden(text)
				}
				text = g.changeText(f, value, text)
				g.P("members[%d] = %s", f.Number, member(f, text))
			})
		}
		g.block("if self._unlisted:", func() { g.P("return %s.merge_json(members, self._unlisted, mode)", wire) })
		g.P("return %s.json_object(members.values())", wire)
	})
	g.P("")
}

// member is a field's name with the text of its value.
func member(f *schema.Field, text string) string {
	name := quote(jsonText(f.JSONName()) + ":")
	if rest, formatted := strings.CutPrefix(text, "f'"); formatted && !strings.ContainsAny(name, `{}\`) {
		return "f" + strings.TrimSuffix(name, "'") + rest
	}
	return name + " + " + text
}

// hidden writes the text of what is secret: not for people.
func (g *generator) hidden(text string) string {
	return stubs.Parens(stubs.Either(g.wire()+".SECRET", "if mode == "+g.wire()+".FOR_PEOPLE", "else "+text))
}

// jsonValue writes the expression of a value as JSON.
func (g *generator) jsonValue(t *schema.Type, value, depth string, level int) string {
	plain := g.jsonPlain(t, value, depth, level)
	if namedSecret(t) {
		return g.hidden(plain)
	}
	return plain
}

func (g *generator) jsonPlain(t *schema.Type, value, depth string, level int) string {
	wire, suffix := g.wire(), ""
	if level > 0 {
		suffix = strconv.Itoa(level + 1)
	}
	deeper := strconv.Itoa(level + 1) // below nothing
	if strings.HasPrefix(depth, "depth") {
		deeper = "depth + " + deeper
	}
	switch {
	case t.Kind.IsInteger():
		return fmt.Sprintf("%s.json_%s(%s)", wire, t.Kind, value)
	case t.Kind == schema.KindDecimal:
		return fmt.Sprintf("%s.json_decimal(%s, mode)", wire, value)
	case t.Kind == schema.KindEnum:
		return value + "._json()"
	case t.Kind == schema.KindAny:
		return fmt.Sprintf("%s.json_any(%s, %s)", wire, value, depth)
	case t.Kind == schema.KindMessage, t.Kind == schema.KindUnion:
		return stubs.Call(value+"._write_json", depth, "mode")
	case t.Kind == schema.KindList:
		item := "item" + suffix
		each := fmt.Sprintf("for %s in %s", item, stubs.Call(wire+".shallow", value, depth))
		return stubs.Call(wire+".json_list", stubs.Either(g.jsonValue(t.Elem, item, deeper, level+1), each))
	case t.Kind == schema.KindMap:
		key, item := "key"+suffix, "item"+suffix
		text := g.keyText(t.Key, key)
		if t.Key.Kind == schema.KindEnum {
			text = key + "._written_key()"
		}
		quoted := fmt.Sprintf("%s.json_text(%s)", wire, text)
		if namedSecret(t.Key) {
			quoted = g.hidden(quoted)
		}
		entry := sum(quoted, `":"`, g.jsonValue(t.Elem, item, deeper, level+1))
		each := fmt.Sprintf("for %s, %s in %s", key, item, stubs.Call(wire+".shallow", g.sorted(t, value), depth))
		return stubs.Call(wire+".json_object", stubs.Brackets("[", []string{stubs.Either(entry, each)}, "]"))
	}
	return fmt.Sprintf("%s.%s(%s)", wire, scalars[t.Kind].json, value)
}

// jsonKey writes the key of a map that a name in JSON stands for.
func (g *generator) jsonKey(t *schema.Type, name string) string {
	switch {
	case t.Kind == schema.KindEnum:
		return fmt.Sprintf("%s._read_key(r, %s)", g.name(&t.Enum.Decl), name)
	case t.Kind.IsInteger():
		low, high := t.Kind.Range()
		return g.distinct(t, fmt.Sprintf("r.key(%s, %d, %d)", name, low, high))
	}
	return g.distinct(t, name)
}

func (g *generator) readJSON(m *schema.Message) {
	wire := g.wire()
	g.P("@classmethod")
	g.function("_read_json", []string{"cls", "r: " + wire + ".JsonReader"}, m.Name, func() {
		g.P("values: dict[str, _Any] = {}")
		g.P("unlisted: list[%s.UnlistedField] = []", wire)
		g.P("seen: set[int] = set()")
		g.P("number = 0")
		g.P("r.open_message(%s, %d)", quote(g.shownAs(m)), len(m.Fields))
		g.block("try:", func() {
			g.block("while (name := r.member()) is not None:", func() {
				for i, f := range m.Fields {
					word := "elif"
					if i == 0 {
						word = "if"
					}
					g.block(fmt.Sprintf("%s name == %s:", word, quote(f.JSONName())), func() {
						g.P("number = %d", f.Number)
						g.P("r.once_in(seen, number)")
						read := func() { g.readField(f, jsonEncoding) }
						if f.Presence == schema.Required || f.Changes != nil {
							read()
						} else {
							g.block("if not r.null():", read)
						}
					})
				}
				other := func() {
					if m.IsPatch() {
						g.P("kept = %s.unlisted_change(r, name, %s)", wire, g.fieldTable(m))
					} else {
						g.P("kept = r.unlisted(name, %s)", g.fieldTable(m))
					}
					g.block(fmt.Sprintf("if isinstance(kept, %s.UnlistedField):", wire), func() { g.P("unlisted.append(kept)") })
					g.block("else:", func() {
						g.P("number = kept[0]")
						g.P("r.once_in(seen, number)")
						g.P("_read_%s_entry(kept[1], number, values, unlisted)", snake(m.Name))
						g.P("r.absorb(kept[1])")
					})
				}
				if len(m.Fields) == 0 {
					other()
				} else {
					g.block("else:", other)
				}
				g.P("number = 0")
			})
		})
		g.P("except %s.WireError as problem:", wire)
		g.P("    raise %s.inside_field(problem, %s, number) from None", wire, g.fieldTable(m))
		g.P("return cls(**%s.finished(r, values, unlisted, %s))", wire, g.requiredName(m))
	})
}
