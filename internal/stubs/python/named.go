package python

import (
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// isDistinct tells named types that are a NewType: those over what can be
// subclassed.
func isDistinct(t *schema.Type) bool {
	return t.Named != nil && t.Kind != schema.KindBool && t.Kind != schema.KindAny
}

func (g *generator) named(n *schema.NamedType) {
	plain := n.Type
	plain.Named = nil
	g.P("")
	g.export(n.Name)
	if isDistinct(&n.Type) {
		g.use("from typing import NewType as _NewType")
		t := g.typ(&plain)
		if strings.Contains(t, "[") {
			// What is declared further down has no name yet when this is run.
			t = g.lateType(&plain, t)
		}
		g.P("%s = %s", n.Name, stubs.Call("_NewType", quote(n.Name), t))
	} else {
		g.use("from typing import TypeAlias as _TypeAlias")
		g.P("%s: _TypeAlias = %s", n.Name, g.typ(&plain))
	}
	g.doc(docOf(n.Doc, n.Deprecated))
}

// lateType writes the type of a collection in quotes where it names what is
// declared later in this file.
func (g *generator) lateType(t *schema.Type, text string) string {
	late := false
	for elem := t; elem != nil; elem = elem.Elem {
		for _, x := range []*schema.Type{elem, elem.Key} {
			if x != nil && x != t && (x.Named != nil && x.Named.Module == g.module || x.Enum != nil &&
				x.Enum.Module == g.module || x.Union != nil && x.Union.Module == g.module || x.Message != nil &&
				x.Message.Module == g.module) {
				late = true
			}
		}
	}
	if late {
		return quote(text)
	}
	return text
}

// namedCodec writes what finds violations in a named type.
func (g *generator) namedCodec(n *schema.NamedType) {
	if !n.Type.Checked() {
		return
	}
	g.top()
	parameters := []string{"value: " + n.Name, "found: list[" + g.wire() + ".Violation]", "path: str"}
	g.function("check_"+snake(n.Name), parameters, "None", func() {
		g.P("\"\"\"Adds every violation of the definitions.\"\"\"")
		plain := n.Type
		plain.Named = nil
		if n.Bounds.Refuse(n.Type.Kind) {
			g.bounds(n.Bounds, &plain, snake(n.Name), "value", "path", n.Secret)
		}
		g.violationsInside(&plain, "value", "path")
	})
}
