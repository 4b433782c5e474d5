package golang

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
)

// present runs body inside the condition that a field is written, giving it
// the expression of the field's value.
func (g *generator) present(f *schema.Field, body func(value string)) {
	if f.Changes != nil {
		g.In(fmt.Sprintf("if v, ok := m.%s.Value(); ok {", FieldName(f)), func() { body("v") }, "}")
		return
	}
	field := "m." + FieldName(f)
	value := field
	if f.Presence != schema.Required && !nilable(f.Type) {
		value = "*" + field
	}
	switch f.Presence {
	case schema.Required:
		body(value)
	case schema.Optional:
		g.In(fmt.Sprintf("if %s {", present(f, field)), func() { body(value) }, "}")
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
		g.P("start, count := len(b), %d+%s.CountUnlisted(m.unlisted)", always, wire)
		for _, f := range optional {
			condition := present(f, "m."+FieldName(f))
			if f.Changes != nil {
				condition = fmt.Sprintf("!m.%s.Left()", FieldName(f))
			}
			g.In(fmt.Sprintf("if %s {", condition), func() { g.P("count++") }, "}")
		}
		g.P("b = %s.AppendMapHead(b, count)", wire)
		for _, f := range m.Fields {
			write := func(value string) {
				g.appendValue(f.Type, value, fmt.Sprintf("append(b, %s)", keyBytes(f.Number)), 0)
			}
			if f.Changes != nil {
				g.eachChange(f, write, func() { g.P("b = append(b, %s, 0xf6)", keyBytes(f.Number)) })
				continue
			}
			g.present(f, write)
		}
		g.P("w.Leave()")
		g.P("return %s.MergeCBOR(b, start, m.unlisted)", wire)
	}, "}")
}

// appendValue writes the statements that append a value of a type to b; head
// is b with what comes before it.
func (g *generator) appendValue(t *schema.Type, value, head string, depth int) {
	if hasMethods(t) {
		g.P("b = %s.AppendCBOR(%s, w)", method(value), head)
		return
	}
	g.appendPlain(t, value, head, depth)
}

// appendPlain is appendValue for a type without methods, or inside of them.
func (g *generator) appendPlain(t *schema.Type, value, head string, depth int) {
	wire := g.wire()
	v := "v" + strings.Repeat("v", depth)
	switch t.Kind {
	case schema.KindUnion:
		g.P("b = %s{}.AppendCBOR(%s, %s, w)", g.unionTools(t.Union), head, value)
	case schema.KindList:
		g.P("b = %s.AppendListHead(%s, len(%s))", wire, head, value)
		g.P("w.Enter()")
		g.each(t, value, v, func(item string) { g.appendValue(t.Elem, item, "b", depth+1) })
		g.P("w.Leave()")
	case schema.KindMap:
		entry := numbered("entry", depth)
		g.P("b = %s.AppendMapHead(%s, len(%s))", wire, head, value)
		g.P("w.Enter()")
		g.In(fmt.Sprintf("for _, %s := range %s {", entry, g.sortedEntries(t, value)), func() {
			g.appendValue(t.Key, entry+".Key", "b", depth+1)
			g.appendValue(t.Elem, entry+".Value", "b", depth+1)
		}, "}")
		g.P("w.Leave()")
	default:
		g.P("b = %s", g.appendScalar(t, value, head, "w", false))
	}
}

// numbered is a variable's name, told apart from those of the lists and maps
// around it.
func numbered(name string, depth int) string {
	if depth == 0 {
		return name
	}
	return name + strconv.Itoa(depth+1)
}

// each loops over a list, by index where copying an item would cost.
func (g *generator) each(t *schema.Type, value, v string, body func(item string)) {
	if t.Elem.Kind == schema.KindMessage {
		i := strings.Repeat("i", len(v))
		g.In(fmt.Sprintf("for %s := range %s {", i, value), func() {
			g.P("b = %s.Spacious(b)", g.wire())
			body(fmt.Sprintf("%s[%s]", value, i))
		}, "}")
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
		g.P("// ReadCBOR reads m, which is new, from CBOR.")
		g.In(fmt.Sprintf("func (m *%s) ReadCBOR(r *%s.CBORReader) {", m.Name, wire), func() {
			g.In(fmt.Sprintf("for n := r.OpenMessage(%q, %d); r.More(&n); {", cmp.Or(g.shown, m.Name), len(m.Fields)), func() {
				g.P("number := r.FieldNumber()")
				g.P("r.KeepUnlisted(&m.unlisted, number)")
				g.In("if r.Failed() {", func() { g.P("r.InsideField(%s, number)", table) }, "}")
			}, "}")
			g.P("r.Leave()")
			g.P("r.Settle(m.unlisted)")
		}, "}")
		return
	}
	g.P("")
	g.P("// ReadCBOR reads m, which is new, from CBOR.")
	g.In(fmt.Sprintf("func (m *%s) ReadCBOR(r *%s.CBORReader) {", m.Name, wire), func() {
		g.P("var seen [%d]uint64", words(m))
		g.P("m.readEntries(r, r.OpenMessage(%q, %d), &seen)", cmp.Or(g.shown, m.Name), len(m.Fields))
		g.P("r.Leave()")
		g.P("m.finish(&r.Reader, &seen)")
	}, "}")
	g.P("")
	g.In(fmt.Sprintf("func (m *%s) readEntries(r *%s.CBORReader, n int, seen *[%d]uint64) {", m.Name, wire, words(m)),
		func() {
			g.In("for r.More(&n) {", func() {
				g.P("number := r.FieldNumber()")
				g.P("switch number {")
				for i, f := range m.Fields {
					g.P("case %d:", f.Number)
					g.Deeper(1, func() {
						g.P("r.Once(&seen[%d], 1<<%d)", i/64, i%64)
						g.readField(f, cborEncoding)
					})
				}
				g.P("default:")
				g.P("\tr.KeepUnlisted(&m.unlisted, number)")
				g.P("}")
				g.In("if r.Failed() {", func() { g.P("r.InsideField(%s, number)", table) }, "}")
			}, "}")
		}, "}")
	g.finish(m)
}

func (g *generator) finish(m *schema.Message) {
	wire, table := g.wire(), unexported(m.Name)+"Fields"
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
		g.P("r.Settle(m.unlisted)")
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
	if _, isMember := f.Default.(*schema.Member); isMember || isAlias(f.Type) {
		return literal
	}
	switch k := f.Type.Kind; {
	case isDefined(f.Type), k.IsInteger(), k == schema.KindFloat32, k == schema.KindFloat64:
		return fmt.Sprintf("%s(%s)", g.typ(f.Type), literal)
	case k == schema.KindDuration:
		return fmt.Sprintf("%s.Duration(%s)", g.std("time"), literal)
	}
	return literal
}

// encoding is what differs between reading CBOR and JSON.
type encoding struct{ json bool }

var cborEncoding, jsonEncoding = encoding{}, encoding{json: true}

func (f encoding) method() string {
	if f.json {
		return "ReadJSON"
	}
	return "ReadCBOR"
}

// readField writes the statements that read a field's value into m.
func (g *generator) readField(f *schema.Field, encoding encoding) {
	field := "m." + FieldName(f)
	switch {
	case f.Changes != nil:
		g.readChange(f, encoding)
	case f.Presence != schema.Required && f.Type.Kind == schema.KindAny && !encoding.json:
		// Null is absent, and read by Any itself.
		g.readValue(f.Type, field, encoding, 0)
	case f.Presence == schema.Required || nilable(f.Type):
		g.readValue(f.Type, field, encoding, 0)
	case hasMethods(f.Type):
		g.P("%s = new(%s)", field, g.typ(f.Type))
		g.P("%s.%s(r)", field, encoding.method())
	default:
		g.P("v := %s", g.readScalar(f.Type))
		g.P("%s = &v", field)
	}
}

func (g *generator) readValue(t *schema.Type, target string, encoding encoding, depth int) {
	if hasMethods(t) {
		g.P("%s.%s(r)", target, encoding.method())
		return
	}
	g.readPlain(t, target, encoding, depth)
}

// readPlain is readValue for a type without methods, or inside of them.
func (g *generator) readPlain(t *schema.Type, target string, encoding encoding, depth int) {
	suffix := numbered("", depth)
	switch t.Kind {
	case schema.KindUnion:
		g.P("%s = %s{}.%s(r)", target, g.unionTools(t.Union), encoding.method())
	case schema.KindList:
		g.readList(t, target, encoding, depth, suffix)
	case schema.KindMap:
		g.readMap(t, target, encoding, depth, suffix)
	default:
		g.P("%s = %s", target, g.readScalar(t))
	}
}

func (g *generator) readList(t *schema.Type, target string, encoding encoding, depth int, suffix string) {
	list, n, item := "list"+suffix, "n"+suffix, "item"+suffix
	open := ""
	if encoding.json {
		g.P("%s := %s{}", list, g.typ(t))
		open = "for from := r.OpenList(); r.More(); {"
	} else {
		g.P("%s := r.OpenList()", n)
		g.P("%s := make(%s, 0, r.Room(%s, %d))", list, g.typ(t), n, size(t.Elem))
		open = fmt.Sprintf("for r.More(&%s) {", n)
	}
	g.In(open, func() {
		if encoding.json {
			g.P("%s = %s.Roomy(r, %s, from)", list, g.wire(), list)
		}
		if t.Elem.Kind == schema.KindMessage {
			g.P("%s = append(%s, %s{})", list, list, g.typ(t.Elem))
			g.readValue(t.Elem, fmt.Sprintf("%s[len(%s)-1]", list, list), encoding, depth+1)
		} else {
			g.readItem(t.Elem, item, encoding, depth+1)
			g.P("%s = append(%s, %s)", list, list, item)
		}
		g.In("if r.Failed() {", func() { g.P("r.InsideIndex(len(%s) - 1)", list) }, "}")
	}, "}")
	if !encoding.json {
		g.P("r.Leave()")
	}
	g.P("%s = %s", target, list)
}

func (g *generator) readMap(t *schema.Type, target string, encoding encoding, depth int, suffix string) {
	key, entries, count, n, item := "key"+suffix, "entries"+suffix, "count"+suffix, "n"+suffix, "item"+suffix
	open := ""
	if encoding.json {
		g.P("%s, %s := %s{}, 0", entries, count, g.typ(t))
		g.P("r.OpenObject(\"a map\")")
		open = "for r.Member() {"
	} else {
		g.P("%s := r.OpenMap()", n)
		g.P("%s, %s := make(%s, r.Room(%s, %d)), 0", entries, count, g.typ(t), n, 48+size(t.Elem))
		open = fmt.Sprintf("for r.More(&%s) {", n)
	}
	g.In(open, func() {
		if encoding.json {
			g.jsonKey(t.Key, key)
		} else {
			g.readItem(t.Key, key, encoding, depth+1)
		}
		g.readItem(t.Elem, item, encoding, depth+1)
		g.In("if r.Failed() {", func() { g.P("r.Inside(%s)", g.keyText(t.Key, key)) }, "}")
		g.P("%s[%s] = %s", entries, key, item)
		g.P("%s++", count)
	}, "}")
	if !encoding.json {
		g.P("r.Leave()")
	}
	g.P("r.Distinct(len(%s), %s)", entries, count)
	g.P("%s = %s", target, entries)
}

// readItem declares a variable and reads a value into it.
func (g *generator) readItem(t *schema.Type, item string, encoding encoding, depth int) {
	switch _, isScalar := scalars[t.Kind]; {
	case isScalar:
		g.P("%s := %s", item, g.readScalar(t))
	case t.Kind == schema.KindUnion:
		g.P("%s := %s{}.%s(r)", item, g.unionTools(t.Union), encoding.method())
	default:
		g.P("var %s %s", item, g.typ(t))
		g.readValue(t, item, encoding, depth)
	}
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
			head := "," + jsonText(f.JSONName()) + ":"
			write := func(value string) {
				g.appendJSONValue(f.Type, value, fmt.Sprintf("append(b, %s...)", rawString(head)), 0)
			}
			if f.Secret && !namedSecret(f.Type) {
				plain := write
				write = func(value string) {
					g.In("if w.Hides() {", func() { g.P("b = append(b, %s...)", rawString(head+`"(secret)"`)) }, "} else {")
					g.Deeper(1, func() { plain(value) })
					g.P("}")
				}
			}
			if f.Changes != nil {
				g.eachChange(f, write, func() { g.P("b = append(b, %s...)", rawString(head+"null")) })
				continue
			}
			g.present(f, write)
		}
		g.P("w.Leave()")
		g.P("return %s.MergeJSON(%s.CloseObject(b, start), start, m.unlisted, %sFields, w)", wire, wire, unexported(m.Name))
	}, "}")
}

func namedSecret(t *schema.Type) bool { return t.Named != nil && t.Named.Secret }

// appendJSONValue is appendValue for JSON.
func (g *generator) appendJSONValue(t *schema.Type, value, head string, depth int) {
	switch {
	case hasMethods(t):
		g.P("b = %s.AppendJSON(%s, w)", method(value), head)
	case namedSecret(t):
		g.In("if w.Hides() {", func() { g.P("b = append(%s, `\"(secret)\"`...)", head) }, "} else {")
		g.Deeper(1, func() { g.appendJSONPlain(t, value, head, depth) })
		g.P("}")
	default:
		g.appendJSONPlain(t, value, head, depth)
	}
}

func (g *generator) appendJSONPlain(t *schema.Type, value, head string, depth int) {
	wire := g.wire()
	v := "v" + strings.Repeat("v", depth)
	start := "start"
	if t.Kind == schema.KindList || t.Kind == schema.KindMap {
		g.starts++
		start += strconv.Itoa(g.starts)
	}
	switch t.Kind {
	case schema.KindUnion:
		g.P("b = %s{}.AppendJSON(%s, %s, w)", g.unionTools(t.Union), head, value)
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
		entry := numbered("entry", depth)
		g.P("w.Enter()")
		if head != "b" {
			g.P("b = %s", head)
		}
		g.P("%s := len(b)", start)
		g.In(fmt.Sprintf("for _, %s := range %s {", entry, g.sortedEntries(t, value)), func() {
			g.appendJSONValue(t.Elem, entry+".Value", g.jsonKeyHead(t.Key, entry+".Key"), depth+1)
		}, "}")
		g.P("b = %s.CloseObject(b, %s)", wire, start)
		g.P("w.Leave()")
	default:
		g.P("b = %s", g.appendScalar(t, value, head, "w", true))
	}
}

// jsonKeyHead writes b with a comma and a map's key before its value.
func (g *generator) jsonKeyHead(t *schema.Type, key string) string {
	wire := g.wire()
	switch {
	case t.Kind == schema.KindEnum:
		return fmt.Sprintf("%s.AppendEnumKey(b, %q, %s, w)", wire, t.Enum.Name, key)
	case t.Kind.IsInteger():
		return fmt.Sprintf("%s.AppendIntegerKey(b, %s)", wire, key)
	case namedSecret(t):
		return fmt.Sprintf("%s.AppendSecretKey(b, string(%s), w)", wire, key)
	case isDefined(t):
		return fmt.Sprintf("%s.AppendKey(b, string(%s), w)", wire, key)
	}
	return fmt.Sprintf("%s.AppendKey(b, %s, w)", wire, key)
}

// jsonKey declares a variable and reads a map's key into it.
func (g *generator) jsonKey(t *schema.Type, key string) {
	switch {
	case t.Kind == schema.KindEnum:
		g.P("var %s %s", key, g.typ(t))
		g.P("%s.ReadKey(r)", key)
	case t.Kind.IsInteger():
		g.P("%s := %s.IntegerKey[%s](r)", key, g.wire(), g.typ(t))
	case isDefined(t):
		g.P("%s := %s(r.Name())", key, g.typ(t))
	default:
		g.P("%s := string(r.Name())", key)
	}
}

func (g *generator) readJSON(m *schema.Message) {
	wire := g.wire()
	table := unexported(m.Name) + "Fields"
	keep := "KeepUnlisted"
	if m.IsPatch() {
		keep = "KeepUnlistedChange"
	}
	g.P("")
	g.P("// ReadJSON reads m, which is new, from JSON.")
	g.In(fmt.Sprintf("func (m *%s) ReadJSON(r *%s.JSONReader) {", m.Name, wire), func() {
		if len(m.Fields) == 0 {
			g.In(fmt.Sprintf("for r.OpenMessage(%q, %d); r.Member(); {", cmp.Or(g.shown, m.Name), len(m.Fields)),
				func() { g.P("r.%s(&m.unlisted, %s)", keep, table) }, "}")
			g.P("r.Settle(m.unlisted)")
			return
		}
		g.P("var seen [%d]uint64", words(m))
		g.In(fmt.Sprintf("for r.OpenMessage(%q, %d); r.Member(); {", cmp.Or(g.shown, m.Name), len(m.Fields)), func() {
			g.P("number := 0")
			g.P("switch string(r.Name()) {")
			for i, f := range m.Fields {
				g.P("case %q:", f.JSONName())
				g.Deeper(1, func() {
					g.P("number = %d", f.Number)
					g.P("r.Once(&seen[%d], 1<<%d)", i/64, i%64)
					if f.Presence == schema.Required || f.Changes != nil {
						g.readField(f, jsonEncoding)
					} else {
						g.In("if !r.Null() {", func() { g.readField(f, jsonEncoding) }, "}")
					}
				})
			}
			g.P("default:")
			g.Deeper(1, func() {
				g.P("at := r.At()")
				g.In(fmt.Sprintf("if entry := r.%s(&m.unlisted, %s); entry != nil {", keep, table), func() {
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
