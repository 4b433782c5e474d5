package typescript

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
)

// What makes a message takes what makes those inside of it: so a literal that
// is written today is enough tomorrow, when some message has another default.

// remade tells whether a value is made from something less than itself: a
// message, or what holds one.
func remade(t *schema.Type) bool { return remadeBeyond(t, map[*schema.Union]bool{}) }

func remadeBeyond(t *schema.Type, seen map[*schema.Union]bool) bool {
	switch t.Kind {
	case schema.KindMessage:
		return true
	case schema.KindList, schema.KindMap:
		return remadeBeyond(t.Elem, seen)
	case schema.KindUnion:
		if seen[t.Union] {
			return false
		}
		seen[t.Union] = true
		for _, a := range t.Union.Alternatives {
			if remadeBeyond(a.Type, seen) {
				return true
			}
		}
	}
	return false
}

// initType is the type of what makes a value.
func (g *generator) initType(t *schema.Type) string {
	if !remade(t) {
		return g.typ(t)
	}
	return spell(t, speller{
		decl: func(d *schema.Decl) string {
			if g.made[d] {
				return g.from(d) + d.Name + "Init"
			}
			return g.from(d) + d.Name
		},
		global: g.global,
		wire:   func(name string) string { return g.wire() + "." + name },
	})
}

// madeFrom lists the declarations inside of definitions that are made from
// something less than themselves.
func madeFrom(defs *schema.Definitions) map[*schema.Decl]bool {
	made := map[*schema.Decl]bool{}
	for _, m := range defs.Modules {
		for _, message := range m.Messages {
			made[&message.Decl] = true
			if p := message.Patch(); p != nil {
				made[&p.Decl] = true
			}
		}
		for _, u := range m.Unions {
			made[&u.Decl] = remade(&schema.Type{Kind: schema.KindUnion, Union: u})
		}
		for _, n := range m.Types {
			made[&n.Decl] = remade(&n.Type)
		}
	}
	return made
}

// remake writes the expression that makes a value.
func (g *generator) remake(t *schema.Type, value string) string {
	switch {
	case !remade(t):
		return value
	case g.toolsOf(t) != "":
		return g.toolsOf(t) + ".make(" + value + ")"
	}
	return g.remakeInside(t, value)
}

// remakeInside is remake for what a list or map holds, named or not.
func (g *generator) remakeInside(t *schema.Type, value string) string {
	if t.Kind == schema.KindList {
		return fmt.Sprintf("%s.map((item) => %s)", value, g.remake(t.Elem, "item"))
	}
	return fmt.Sprintf("%s.mapValues(%s, (item) => %s)", g.wire(), value, g.remake(t.Elem, "item"))
}

// unionInit writes what makes a union: its alternatives, with what makes theirs.
func (g *generator) unionInit(u *schema.Union) {
	g.P("")
	g.doc(fmt.Sprintf("What makes %s: its alternatives, with what makes their values.", u.Name))
	g.P("export type %sInit =", u.Name)
	for _, a := range u.Alternatives {
		if remade(a.Type) {
			g.P("  | { readonly kind: %s; readonly value: %s }", text(a.Name), g.initType(a.Type))
		} else {
			g.P("  | %s", AlternativeName(a))
		}
	}
	g.P("  | %sUnlisted;", u.Name)
}

// unionMake writes the method that makes a union.
func (g *generator) unionMake(u *schema.Union) {
	g.method(fmt.Sprintf("make(init: %sInit): %s", u.Name, u.Name), func() {
		g.In("switch (init.kind) {", func() {
			for _, a := range u.Alternatives {
				if remade(a.Type) {
					g.P("case %s:", text(a.Name))
					g.P("  return { kind: %s, value: %s };", text(a.Name), g.remake(a.Type, "init.value"))
				}
			}
			g.P("default:")
			g.P("  return init;")
		}, "}")
	})
	g.P("")
}

// madeField writes what a field is made of what makes the message.
func (g *generator) madeField(f *schema.Field) string {
	name := FieldName(f)
	value := "init." + name
	switch {
	case f.IsRaw():
		return fmt.Sprintf("%s: %s.bodyOf(%s),", name, g.wire(), value)
	case f.Presence == schema.Defaulted:
		return fmt.Sprintf("%s: %s ?? %s,", name, value, parenthesized(g.literalOf(f.Type, f.Default)))
	case f.Presence == schema.Optional && f.Type.Kind == schema.KindAny && f.Changes == nil:
		return fmt.Sprintf("%s: %s ?? undefined,", name, value)
	case f.Presence == schema.Optional && remade(f.Type):
		return fmt.Sprintf("%s: %s && %s,", name, value, g.remake(f.Type, value))
	}
	return fmt.Sprintf("%s: %s,", name, g.remake(f.Type, value))
}

func parenthesized(literal string) string {
	if strings.Contains(literal, " as ") {
		return "(" + literal + ")"
	}
	return literal
}
