package golang

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
)

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
			g.present(f, write)
		}
		g.P("w.Leave()")
		g.P("return %s.MergeJSON(%s.CloseObject(b, start), start, m.unknown, %sFields, w)", wire, wire, unexported(m.Name))
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
		return fmt.Sprintf("%s.AppendKey(b, %s, w)", wire, key+".JSONName()")
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
	g.P("")
	g.P("// ReadJSON reads m, which is new, from JSON.")
	g.In(fmt.Sprintf("func (m *%s) ReadJSON(r *%s.JSONReader) {", m.Name, wire), func() {
		if len(m.Fields) == 0 {
			g.In(fmt.Sprintf("for r.OpenMessage(%q, %d); r.Member(); {", cmp.Or(g.shown, m.Name), len(m.Fields)),
				func() { g.P("r.Unknown(&m.unknown, %s)", table) }, "}")
			g.P("r.Settle(m.unknown)")
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
