package python

import (
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/value"
)

// scanned writes the reading of JSON that the scanner of the standard library has scanned. What is
// not as writers write it, their order aside, is a surprise, and read the other way.
func (g *generator) scanned(m *schema.Message) {
	g.top()
	g.scannedFunction(m.Name, func() {
		g.begun(value.MaxDepth - 1 - staticOf(m))
		g.spend(m)
		optional := false
		var arguments []string
		for n, f := range m.Fields {
			variable := fmt.Sprintf("v%d", n)
			arguments = append(arguments, FieldName(f)+"="+variable)
			if f.Presence != schema.Optional {
				g.P("w = p[%s]", quote(f.JSONName()))
				g.scannedValue(f.Type, "w", variable, 0)
				continue
			}
			if !optional {
				g.P("absent = 0")
			}
			optional = true
			if f.Changes != nil {
				g.scannedChange(f, variable)
				continue
			}
			g.P("%s: %s = None", variable, g.optional(f.Type))
			g.P("w = p.get(%s)", quote(f.JSONName()))
			g.block("if w is None:", func() { g.P("absent += 1") })
			g.block("else:", func() { g.scannedValue(f.Type, "w", variable, 0) })
		}
		fields := strconv.Itoa(len(m.Fields))
		if optional {
			fields += " - absent"
		}
		g.block(fmt.Sprintf("if len(p) != %s:", fields), g.surprise)
		g.P("return %s", g.made(m, arguments))
	})
}

// begun checks that p is an object that is not nested too deep, and counts its members.
func (g *generator) begun(deepest int) {
	g.block(fmt.Sprintf("if p.__class__ is not dict or depth > %d:", deepest), g.surprise)
	g.P("meter.members += len(p)")
}

func (g *generator) scannedFunction(name string, body func()) {
	parameters := []string{"p: " + g.wire() + ".Object", "depth: int", "meter: " + g.wire() + ".Meter"}
	g.function("_scanned_"+snake(name), parameters, name, body)
}

// scannedValue turns what the scanner made of a value into what the stubs have for it.
func (g *generator) scannedValue(t *schema.Type, source, variable string, level int) {
	wire := g.wire()
	depth := fmt.Sprintf("depth + %d", level+1)
	reader := func(decl *schema.Decl) string {
		name := g.name(decl)
		return stubs.Call(strings.TrimSuffix(name, decl.Name)+"_scanned_"+snake(decl.Name), source, depth, "meter")
	}
	class := func(class string) { g.block(fmt.Sprintf("if %s.__class__ is not %s:", source, class), g.surprise) }
	switch {
	case t.Kind.IsInteger():
		low, high := t.Kind.Range()
		inside := fmt.Sprintf("%s.__class__ is int and %d <= %s <= %d", source, low, source, high)
		other := stubs.Call(wire+".scanned_int", source, strconv.FormatInt(low, 10), strconv.FormatUint(high, 10))
		g.P("%s = %s", variable, g.distinct(t, stubs.Optional("(", []string{either(source, inside, other)}, ")")))
	case t.Kind == schema.KindText:
		class("str")
		g.P("%s = %s", variable, g.distinct(t, source))
	case t.Kind == schema.KindBool:
		class("bool")
		g.P("%s = %s", variable, g.distinct(t, source))
	case t.Kind == schema.KindEnum:
		g.P("%s = %s", variable, stubs.Call(wire+".scanned_enum", source, g.name(&t.Enum.Decl)))
	case t.Kind == schema.KindAny:
		g.P("%s = %s.scanned_any(%s, %s, meter)", variable, wire, source, depth)
	case t.Kind == schema.KindMessage:
		g.P("%s = %s", variable, reader(&t.Message.Decl))
	case t.Kind == schema.KindUnion:
		g.P("%s = %s", variable, reader(&t.Union.Decl))
	case t.Kind == schema.KindList:
		items, item, each := g.fresh("items"), g.fresh("item"), g.fresh("each")
		class("list")
		g.P("meter.spend(%s)", times("len("+source+")", 1+g.weights.of(t.Elem)))
		g.P("%s: list[%s] = []", items, g.typ(t.Elem))
		g.block(fmt.Sprintf("for %s in %s:", each, source), func() {
			g.scannedValue(t.Elem, each, item, level+1)
			g.P("%s.append(%s)", items, item)
		})
		g.P("%s = %s", variable, g.distinct(t, items))
	case t.Kind == schema.KindMap:
		entries, key, item, name, each := g.fresh("entries"), g.fresh("key"), g.fresh("item"), g.fresh("name"),
			g.fresh("each")
		class("dict")
		g.P("meter.members += len(%s)", source)
		g.P("meter.spend(%s)", times("len("+source+")", 1+g.weights.of(t.Elem)))
		g.P("%s: dict[%s, %s] = {}", entries, g.typ(t.Key), g.typ(t.Elem))
		g.block(fmt.Sprintf("for %s, %s in %s.items():", name, each, source), func() {
			switch {
			case t.Key.Kind == schema.KindEnum:
				g.P("%s = %s", key, stubs.Call(wire+".scanned_enum", name, g.name(&t.Key.Enum.Decl)))
			case t.Key.Kind.IsInteger():
				low, high := t.Key.Kind.Range()
				g.P("%s = %s", key, g.distinct(t.Key, fmt.Sprintf("%s.scanned_key(%s, %d, %d)", wire, name, low, high)))
			default:
				g.P("%s = %s", key, g.distinct(t.Key, name))
			}
			g.scannedValue(t.Elem, each, item, level+1)
			g.P("%s[%s] = %s", entries, key, item)
		})
		g.block(fmt.Sprintf("if len(%s) != len(%s):", entries, source), g.surprise)
		g.P("%s = %s", variable, g.distinct(t, entries))
	case t.Kind == schema.KindFloat32, t.Kind == schema.KindFloat64:
		g.P("%s = %s", variable, g.distinct(t, g.table(scalars[t.Kind].scanned)+"("+source+", meter)"))
	default:
		g.P("%s = %s", variable, g.distinct(t, g.table(scalars[t.Kind].scanned)+"("+source+")"))
	}
}

func (g *generator) scannedUnion(u *schema.Union) {
	g.top()
	g.scannedFunction(u.Name, func() {
		g.begun(value.MaxDepth - 1 - staticOfUnion(u))
		g.P("((name, w),) = p.items()")
		for n, a := range u.Alternatives {
			g.block(fmt.Sprintf("if name == %s:", quote(a.JSONName())), func() {
				variable := fmt.Sprintf("v%d", n)
				g.scannedValue(a.Type, "w", variable, 0)
				g.P("return %s", stubs.Call(AlternativeName(a), variable))
			})
		}
		g.surprise()
	})
}

// times writes a number of items, each of which weighs so much.
func times(count string, weight int) string {
	if weight == 1 {
		return count
	}
	return fmt.Sprintf("%s * %d", count, weight)
}
