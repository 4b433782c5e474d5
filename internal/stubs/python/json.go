package python

import (
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

func (g *generator) writeJSON(m *schema.Message) {
	wire := g.wire()
	g.function("write_json", []string{"self", "depth: int", "mode: int"}, "str", func() {
		g.tooDeep()
		if holdsDepth(m) {
			g.P("depth += 1")
		}
		g.P("members: list[tuple[int, str]] = []")
		for _, f := range m.Fields {
			g.present(f, func(value string) {
				text := g.jsonValue(f.Type, value, "depth", 0)
				if f.Secret && !namedSecret(f.Type) {
					text = g.hidden(text)
				}
				g.P("%s", stubs.Call("members.append", stubs.Rows("(", []string{strconv.Itoa(f.Number), member(f, text)}, ")")))
			})
		}
		g.block("if self._unknown:", func() { g.P("return %s.merge_json(members, self._unknown, mode)", wire) })
		g.P("return %s.json_object([text for _, text in members])", wire)
	})
	g.P("")
}

// member is a field's name with the text of its value.
func member(f *schema.Field, text string) string {
	name := quote(jsonText(f.JSONName()) + ":")
	if rest, formatted := strings.CutPrefix(text, "f'"); formatted && !strings.ContainsAny(name, `{}\`) {
		return "f" + strings.TrimSuffix(name, "'") + rest
	}
	return sum(name, text)
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
	deeper := depth + " + 1"
	if level > 0 {
		deeper = fmt.Sprintf("depth + %d", level+1)
	}
	switch {
	case t.Kind.IsInteger():
		return fmt.Sprintf("%s.json_%s(%s)", wire, t.Kind, value)
	case t.Kind == schema.KindUUID, t.Kind == schema.KindInstant, t.Kind == schema.KindDuration, t.Kind == schema.KindDate:
		return fmt.Sprintf("f'\"{%s}\"'", value)
	case t.Kind == schema.KindDecimal:
		return fmt.Sprintf("%s.json_decimal(%s, mode)", wire, value)
	case t.Kind == schema.KindEnum:
		return value + ".json()"
	case t.Kind == schema.KindAny:
		return fmt.Sprintf("%s.json_any(%s, %s)", wire, value, depth)
	case t.Kind == schema.KindMessage, t.Kind == schema.KindUnion:
		return stubs.Call(value+".write_json", depth, "mode")
	case t.Kind == schema.KindList:
		item := "item" + suffix
		each := fmt.Sprintf("for %s in %s", item, stubs.Call(wire+".shallow", value, depth))
		return stubs.Call(wire+".json_list", stubs.Either(g.jsonValue(t.Elem, item, deeper, level+1), each))
	case t.Kind == schema.KindMap:
		key, item := "key"+suffix, "item"+suffix
		text := g.keyText(t.Key, key)
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
		return fmt.Sprintf("%s.read_key(r, %s)", g.name(&t.Enum.Decl), name)
	case t.Kind.IsInteger():
		low, high := t.Kind.Range()
		return g.distinct(t, fmt.Sprintf("r.key(%s, %d, %d)", name, low, high))
	}
	return g.distinct(t, name)
}

func (g *generator) readJSON(m *schema.Message) {
	wire := g.wire()
	g.P("@classmethod")
	g.function("read_json", []string{"cls", "r: " + wire + ".JsonReader"}, m.Name, func() {
		g.P("values: dict[str, _Any] = {}")
		g.P("unknown: list[%s.Unknown] = []", wire)
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
						read := func() {
							value := g.readItem(f.Type, jsonForm)
							g.P("values[%s] = %s", quote(FieldName(f)), value)
						}
						if f.Presence == schema.Required {
							read()
						} else {
							g.block("if not r.null():", read)
						}
					})
				}
				other := func() {
					g.P("kept = r.unknown(name, %s)", g.fieldTable(m))
					g.block(fmt.Sprintf("if isinstance(kept, %s.Unknown):", wire), func() { g.P("unknown.append(kept)") })
					g.block("else:", func() {
						g.P("number = kept[0]")
						g.P("r.once_in(seen, number)")
						g.P("_read_%s_entry(kept[1], number, values, unknown)", snake(m.Name))
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
		g.P("return cls(**%s.finished(r, values, unknown, %s))", wire, g.requiredName(m))
	})
}
