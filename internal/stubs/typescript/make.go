package typescript

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/graph"
	"faithfulcourier/internal/schema"
)

// What makes a message takes what makes those inside of it: so a literal that
// is written today is enough tomorrow, when some message has another default. And it takes
// plain values: texts and numbers where a named type, or a UUID, is told apart to the compiler
// alone, texts for decimals, objects for maps of texts.

// castable tells whether a value is made of a plain one, which the compiler alone tells apart.
func castable(t *schema.Type) bool {
	return isBranded(t) || t.Named == nil && t.Kind == schema.KindUUID
}

// cast tells whether a value is made of a plain one, or holds nothing but such values.
func cast(t *schema.Type) bool {
	switch {
	case read(t):
		return false
	case t.Kind == schema.KindMap:
		return (castable(t.Key) || cast(t.Elem)) && (cast(t.Elem) || !remade(t.Elem))
	case t.Kind == schema.KindList:
		return cast(t.Elem)
	}
	return castable(t)
}

// read tells whether a value is made of a text, or of an object, which is made into another one.
func read(t *schema.Type) bool {
	return t.Kind == schema.KindDecimal || t.Kind == schema.KindMap && t.Key.Kind == schema.KindText
}

// remade tells whether a value is made from something less than itself: a
// message, a plain value, or what holds one.
func remade(t *schema.Type) bool { return remadeBeyond(t, map[*schema.Union]bool{}) }

func remadeBeyond(t *schema.Type, seen map[*schema.Union]bool) bool {
	if castable(t) || read(t) {
		return true
	}
	switch t.Kind {
	case schema.KindMessage:
		return true
	case schema.KindList:
		return remadeBeyond(t.Elem, seen)
	case schema.KindMap:
		return castable(t.Key) || remadeBeyond(t.Elem, seen)
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
		plain:  true,
		texts:  true,
	})
}

// plainName is TypeName of what makes a value, as far as named types and UUIDs go.
func plainName(t *schema.Type) string {
	name := func(s string) string { return s }
	return spell(t, speller{decl: func(d *schema.Decl) string { return d.Name }, global: name, wire: name, plain: true})
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
			made[&n.Decl] = remade(&n.Type) && !isBranded(&n.Type)
		}
	}
	return made
}

// casted writes a plain value as what the compiler tells apart. It takes no map for one of
// other keys unless it is told twice.
func (g *generator) casted(t *schema.Type, value string) string {
	if keyed(t) {
		value += " as unknown"
	}
	return value + " as " + g.typ(t)
}

// keyed tells whether a map with keys of a named type is in a type.
func keyed(t *schema.Type) bool {
	switch t.Kind {
	case schema.KindMap:
		return castable(t.Key) || keyed(t.Elem)
	case schema.KindList:
		return keyed(t.Elem)
	}
	return false
}

// remake writes the expression that makes a value.
func (g *generator) remake(t *schema.Type, value string) string {
	switch {
	case !remade(t):
		return value
	case cast(t):
		return g.casted(t, value)
	case isBranded(t): // over a decimal
		return g.wire() + ".decimalOf(" + value + ") as " + g.typ(t)
	case t.Kind == schema.KindDecimal:
		return g.wire() + ".decimalOf(" + value + ")"
	case codedDecl(t) != nil:
		return g.codec(codedDecl(t)) + ".make(" + value + ")"
	}
	return g.remakeInside(t, value)
}

// remakeInside is remake for what a list or map holds, named or not.
func (g *generator) remakeInside(t *schema.Type, value string) string {
	if t.Kind == schema.KindList {
		if g.canFail(t.Elem) {
			return fmt.Sprintf("%s.map((item, i) => %s)", value, g.at("i", t.Elem, g.remake(t.Elem, "item")))
		}
		return fmt.Sprintf("%s.map((item) => %s)", value, g.remake(t.Elem, "item"))
	}
	if read(t) {
		value = g.wire() + ".mapOf(" + value + ")"
	}
	if remade(t.Elem) && !cast(t.Elem) {
		value = fmt.Sprintf("%s.mapValues(%s, (item) => %s)", g.wire(), value, g.remake(t.Elem, "item"))
	}
	if castable(t.Key) || cast(t.Elem) {
		return g.casted(t, value)
	}
	return value
}

// unionInit writes what makes a union: its alternatives, with what makes theirs.
func (g *generator) unionInit(u *schema.Union) {
	g.P("")
	g.doc(fmt.Sprintf("What makes %s: its alternatives, with what makes their values.", u.Name))
	g.P("export type %s =", g.offerType(u.Name+"Init"))
	for _, a := range u.Alternatives {
		if remade(a.Type) {
			g.P("  | { readonly kind: %s; readonly value: %s }", text(a.Name), g.initType(a.Type))
		} else {
			g.P("  | %s", AlternativeName(a))
		}
	}
	g.P("  | %sUnlisted;", u.Name)
}

// unionMake writes what makes a union.
func (g *generator) unionMake(u *schema.Union) {
	g.P("")
	g.function("make"+u.Name, []string{fmt.Sprintf("init: %sInit", u.Name)}, u.Name, func() {
		g.In("switch (init.kind) {", func() {
			for _, a := range u.Alternatives {
				if remade(a.Type) {
					g.P("case %s:", text(a.Name))
					made := g.at(text(a.JSONName()), a.Type, g.remake(a.Type, "init.value"))
					g.P("  return { kind: %s, value: %s };", text(a.Name), made)
				}
			}
			g.P("default:")
			g.P("  return init;")
		}, "}")
	})
}

// canFail tells whether making a value can fail.
func (g *generator) canFail(t *schema.Type) bool {
	for codedDecl(t) == nil && t.Elem != nil {
		t = t.Elem
	}
	return t.Kind == schema.KindDecimal || g.fails[codedDecl(t)]
}

// failing lists the declarations of which making a value can fail: those in which a decimal is, which may be made of
// text. Each is looked at once, so a large project takes as long as it is large.
func failing(defs *schema.Definitions) map[*schema.Decl]bool {
	within := map[*schema.Decl][]*schema.Decl{}
	var found []*schema.Decl
	holds := func(d *schema.Decl, t *schema.Type) {
		for codedDecl(t) == nil && t.Elem != nil {
			t = t.Elem
		}
		if inner := codedDecl(t); inner != nil {
			within[inner] = append(within[inner], d)
		} else if t.Kind == schema.KindDecimal {
			found = append(found, d)
		}
	}
	ofMessage := func(m *schema.Message) {
		for _, f := range m.Fields {
			holds(&m.Decl, f.Type)
		}
	}
	for _, m := range defs.Modules {
		for _, message := range m.Messages {
			ofMessage(message)
			if p := message.Patch(); p != nil {
				ofMessage(p)
			}
		}
		for _, u := range m.Unions {
			for _, a := range u.Alternatives {
				holds(&u.Decl, a.Type)
			}
		}
		for _, n := range m.Types {
			holds(&n.Decl, n.Bare())
		}
	}
	return graph.Reached(found, within)
}

// at writes what makes a value of a type, so that what fails in it is told with its place.
func (g *generator) at(step string, t *schema.Type, made string) string {
	if !g.canFail(t) {
		return made
	}
	return call(g.wire()+".at", step, "() => "+made)
}

// madeField writes what a field is made of what makes the message.
func (g *generator) madeField(f *schema.Field) string {
	return fmt.Sprintf("%s: %s,", FieldName(f), g.at(text(f.JSONName()), f.Type, g.madeValue(f)))
}

func (g *generator) madeValue(f *schema.Field) string {
	value := "init." + FieldName(f)
	switch {
	case f.IsRaw():
		return g.wire() + ".bodyOf(" + value + ")"
	case f.Presence != schema.Required && f.Type.Kind == schema.KindDecimal:
		return g.madeDecimal(f, g.wire()+".decimalOf("+value+")")
	case f.Presence == schema.Defaulted && remade(f.Type):
		return fmt.Sprintf("(%s ?? %s) as %s", value, parenthesized(g.literalOf(f.Type, f.Default)), g.typ(f.Type))
	case f.Presence == schema.Defaulted:
		return fmt.Sprintf("%s ?? %s", value, parenthesized(g.literalOf(f.Type, f.Default)))
	case f.Presence == schema.Optional && cast(f.Type):
		return g.casted(f.Type, value) + orAbsent(f)
	case f.Presence == schema.Optional && f.Type.Kind == schema.KindAny && f.Changes == nil:
		return value + " ?? undefined"
	case f.Presence == schema.Optional && remade(f.Type):
		return value + " && " + g.remake(f.Type, value)
	}
	return g.remake(f.Type, value)
}

// madeDecimal writes a decimal that may be left out.
func (g *generator) madeDecimal(f *schema.Field, value string) string {
	typ := g.typ(f.Type) + orAbsent(f)
	if f.Presence == schema.Defaulted {
		value, typ = value+" ?? "+parenthesized(g.literalOf(f.Type, f.Default)), g.typ(f.Type)
	}
	switch {
	case !isBranded(f.Type):
		return value
	case f.Presence == schema.Defaulted:
		value = "(" + value + ")"
	}
	return value + " as " + typ
}

func parenthesized(literal string) string {
	if strings.Contains(literal, " as ") {
		return "(" + literal + ")"
	}
	return literal
}
