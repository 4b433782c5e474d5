package python

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/value"
)

// static is how many lists and maps of a type nest before the next message.
func static(t *schema.Type) int {
	switch t.Kind {
	case schema.KindList, schema.KindMap:
		return 1 + static(t.Elem)
	case schema.KindUnion:
		return 1
	}
	return 0
}

func staticOf(m *schema.Message) int {
	most := 0
	for _, f := range m.Fields {
		most = max(most, static(f.Type))
	}
	return most
}

func staticOfUnion(u *schema.Union) int {
	most := 0
	for _, a := range u.Alternatives {
		most = max(most, static(a.Type))
	}
	return most
}

// table imports a table or function of the support file for itself: looking it
// up in the module each time would cost.
func (g *generator) table(name string) string {
	g.use("from " + g.typesRoot() + "faithful.wire import " + name + " as _" + name)
	return "_" + name
}

// fast writes the reading of what writers write: fields in their order, in
// their shortest forms. Everything else is a surprise, and read the other way.
func (g *generator) fast(m *schema.Message) {
	g.table("new")
	g.entries(m)
	g.top()
	g.fastFunction(m.Name, func() {
		g.P("left = d[i] - 0xA0")
		g.block(fmt.Sprintf("if not 0 <= left < 24 or depth > %d:", value.MaxDepth-1-staticOf(m)), g.surprise)
		g.spend(m)
		g.P("i += 1")
		always := 0
		var arguments []string
		for n, f := range m.Fields {
			variable := fmt.Sprintf("v%d", n)
			key := cborHead(0, f.Number)
			condition := fmt.Sprintf("d[i] == %d", f.Number)
			if len(key) > 1 {
				condition = fmt.Sprintf("d[i : i + %d] == %s", len(key), bytesLiteral(key))
			}
			arguments = append(arguments, fmt.Sprintf("%s=%s", FieldName(f), variable))
			if f.Presence == schema.Optional {
				if f.Changes != nil {
					g.P("%s: %s = %s", variable, g.changeType(f), g.unchanged())
				} else {
					g.P("%s: %s = None", variable, g.optional(f.Type))
				}
				g.block(fmt.Sprintf("if i < len(d) and %s:", condition), func() {
					g.P("i += %d", len(key))
					g.fastChange(f, variable)
					g.P("left -= 1")
				})
				continue
			}
			always++
			negated := strings.Replace(condition, "==", "!=", 1)
			g.block(fmt.Sprintf("if %s:", negated), g.surprise)
			g.P("i += %d", len(key))
			g.fastValue(f.Type, variable, 0)
		}
		g.block(fmt.Sprintf("if left != %d:", always), g.surprise)
		g.P("return %s, i", g.made(m, arguments))
	})
}

func (g *generator) surprise() { g.P("%s.surprise()", g.wire()) }

// optional is the type of a field that may be absent.
func (g *generator) optional(t *schema.Type) string {
	if t.Kind == schema.KindAny {
		return g.typ(t)
	}
	return g.typ(t) + " | None"
}

// made writes the making of a message without looking at every argument again, and returns its expression.
func (g *generator) made(m *schema.Message, arguments []string) string {
	if m.IsError() { // An exception makes itself.
		return stubs.Call(m.Name, append(arguments, "_unlisted=None")...)
	}
	g.P("m = _new(%s)", m.Name)
	for _, a := range arguments {
		name, variable, _ := strings.Cut(a, "=")
		g.P("m.%s = %s", name, variable)
	}
	g.P("m._unlisted = None")
	return "m"
}

func (g *generator) fastFunction(name string, body func()) {
	g.function("_fast_"+snake(name), []string{"d: bytes", "i: int", "depth: int", "meter: " + g.wire() + ".Meter"},
		"tuple["+name+", int]", body)
}

// fastValue reads a value at i into a variable.
func (g *generator) fastValue(t *schema.Type, variable string, level int) {
	wire := g.wire()
	depth := fmt.Sprintf("depth + %d", level+1)
	wrap, plain := func() {}, variable
	if isDistinct(t) && t.Kind.IsScalar() && !t.Kind.IsInteger() {
		plain = g.fresh("raw")
		wrap = func() { g.P("%s = %s(%s)", variable, g.name(&t.Named.Decl), plain) }
	}
	switch {
	case t.Kind.IsInteger():
		low, high := t.Kind.Range()
		g.block("if d[i] < 24:", func() {
			g.P("%s = %s", variable, g.distinct(t, "d[i]"))
			g.P("i += 1")
		})
		g.block("else:", func() {
			g.P("n, i = %s.fast_int(d, i)", wire)
			g.block(fmt.Sprintf("if not %d <= n <= %d:", low, high), g.surprise)
			g.P("%s = %s", variable, g.distinct(t, "n"))
		})
	case t.Kind == schema.KindText:
		g.P("n = d[i] - 0x60")
		g.block("if 0 <= n < 24:", func() {
			g.P("j = i + 1 + n")
			g.P("%s = %s", variable, g.distinct(t, "d[i + 1 : j].decode()"))
			g.P("i = j")
		})
		g.block("else:", func() {
			g.P("%s, i = %s.fast_text(d, i)", plain, wire)
			wrap()
		})
	case t.Kind == schema.KindEnum:
		g.P("%s, i = %s", variable, stubs.Call(g.table("fast_enum"), "d", "i", g.name(&t.Enum.Decl)))
	case t.Kind == schema.KindAny:
		g.P("%s, i = %s.fast_any(d, i, %s, meter)", variable, wire, depth)
	case t.Kind == schema.KindMessage:
		name := g.name(&t.Message.Decl)
		reader := strings.TrimSuffix(name, t.Message.Name) + "_fast_" + snake(t.Message.Name)
		g.P("%s, i = %s", variable, stubs.Call(reader, "d", "i", depth, "meter"))
	case t.Kind == schema.KindUnion:
		name := g.name(&t.Union.Decl)
		reader := strings.TrimSuffix(name, t.Union.Name) + "_fast_" + snake(t.Union.Name)
		g.P("%s, i = %s", variable, stubs.Call(reader, "d", "i", depth, "meter"))
	case t.Kind == schema.KindList:
		items, item, count := g.fresh("items"), g.fresh("item"), g.fresh("count")
		g.P("%s, i = %s.fast_length(d, i, 4)", count, wire)
		g.P("meter.spend(%s)", times(count, 1+g.weights.of(t.Elem)))
		g.P("%s: list[%s] = []", items, g.typ(t.Elem))
		g.block(fmt.Sprintf("for _ in range(%s):", count), func() {
			g.fastValue(t.Elem, item, level+1)
			g.P("%s.append(%s)", items, item)
		})
		g.P("%s = %s", variable, g.distinct(t, items))
	case t.Kind == schema.KindMap:
		entries, key, item, count := g.fresh("entries"), g.fresh("key"), g.fresh("item"), g.fresh("count")
		g.P("%s, i = %s.fast_length(d, i, 5)", count, wire)
		g.P("meter.spend(%s)", times(count, 1+g.weights.of(t.Elem)))
		g.P("%s: dict[%s, %s] = {}", entries, g.typ(t.Key), g.typ(t.Elem))
		g.block(fmt.Sprintf("for _ in range(%s):", count), func() {
			g.fastValue(t.Key, key, level+1)
			g.fastValue(t.Elem, item, level+1)
			g.P("%s[%s] = %s", entries, key, item)
		})
		g.block(fmt.Sprintf("if len(%s) != %s:", entries, count), g.surprise)
		g.P("%s = %s", variable, g.distinct(t, entries))
	default:
		g.P("%s, i = %s(d, i)", plain, g.table(scalars[t.Kind].fast))
		wrap()
	}
}

func (g *generator) fastUnion(u *schema.Union) {
	wire := g.wire()
	g.P("")
	g.fastFunction(u.Name, func() {
		g.block(fmt.Sprintf("if d[i] != 0xA1 or depth > %d:", value.MaxDepth-1-staticOfUnion(u)), g.surprise)
		g.P("number, i = %s.fast_int(d, i + 1)", wire)
		for n, a := range u.Alternatives {
			g.block(fmt.Sprintf("if number == %d:", a.Number), func() {
				variable := fmt.Sprintf("v%d", n)
				g.fastValue(a.Type, variable, 0)
				g.P("return %s, i", stubs.Call(AlternativeName(a), variable))
			})
		}
		g.P("%s.surprise()", wire)
	})
}
