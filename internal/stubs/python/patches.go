package python

import (
	"fmt"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// unchanged is what a field of a patch is that stays as it is.
func (g *generator) unchanged() string { return g.wire() + ".UNCHANGED" }

// changeType is the type of a field of a patch.
func (g *generator) changeType(f *schema.Field) string {
	t := g.typ(f.Type)
	if f.Type.Clearable && f.Type.Kind != schema.KindAny {
		t += " | None"
	}
	return t + " | " + g.wire() + ".Unchanged"
}

// nothing is what an optional field is that is not written.
func (g *generator) nothing(f *schema.Field) string {
	if f.Changes != nil {
		return g.unchanged()
	}
	return "None"
}

// clears tells whether null for a field of a patch is looked for: where it is not, no reader or
// writer of its type takes it.
func clears(f *schema.Field) bool { return f.Type.Clearable || f.Type.Kind == schema.KindAny }

// putChange writes what writes a field of a patch as CBOR, which is there.
func (g *generator) putChange(f *schema.Field, value string) {
	set := func() {
		g.pending = append(g.pending, cborHead(0, f.Number)...)
		g.putValue(f.Type, value, 0)
		g.flush()
	}
	if !clears(f) {
		set()
		return
	}
	g.block(fmt.Sprintf("if %s is None:", value), func() {
		if !f.Type.Clearable {
			g.P("%s.not_cleared(%s)", g.wire(), quote(f.JSONName()))
			return
		}
		g.pending = append(append(g.pending, cborHead(0, f.Number)...), 0xf6)
		g.flush()
	})
	if f.Type.Clearable {
		g.block("else:", set)
	} else {
		set()
	}
}

// changeText is the expression of a field's value as JSON, which in a patch may be null.
func (g *generator) changeText(f *schema.Field, value, text string) string {
	if f.Changes == nil || !clears(f) {
		return text
	}
	null := quote("null")
	if !f.Type.Clearable {
		null = g.wire() + ".not_cleared(" + quote(f.JSONName()) + ")"
	}
	return stubs.Parens(stubs.Either(null, "if "+value+" is None", "else "+text))
}

// readField writes what reads a field. In a patch null clears it.
func (g *generator) readField(f *schema.Field, encoding encoding) {
	set := func() {
		value := g.readItem(f.Type, encoding)
		g.P("values[%s] = %s", quote(FieldName(f)), value)
	}
	if f.Changes == nil || !clears(f) {
		set()
		return
	}
	g.block("if r.null():", func() {
		if f.Type.Clearable {
			g.P("values[%s] = None", quote(FieldName(f)))
		} else {
			g.P("r.fail(%s)", quote("found null: the field is required, and can't be cleared"))
		}
	})
	g.block("else:", set)
}

// fastChange reads a value at i into a variable, or null where it clears.
func (g *generator) fastChange(f *schema.Field, variable string) {
	if f.Changes == nil || !clears(f) {
		g.fastValue(f.Type, variable, 0)
		return
	}
	g.block("if d[i] == 0xF6:", func() {
		if !f.Type.Clearable {
			g.surprise()
			return
		}
		g.P("%s = None", variable)
		g.P("i += 1")
	})
	g.block("else:", func() { g.fastValue(f.Type, variable, 0) })
}

// scannedChange turns what the scanner made of a field of a patch into what the stubs have for it.
func (g *generator) scannedChange(f *schema.Field, variable string) {
	g.P("%s: %s = %s", variable, g.changeType(f), g.unchanged())
	g.P("w = p.get(%s, %s)", quote(f.JSONName()), g.unchanged())
	g.block(fmt.Sprintf("if w is %s:", g.unchanged()), func() { g.P("absent += 1") })
	if clears(f) {
		g.block("elif w is None:", func() {
			if f.Type.Clearable {
				g.P("%s = None", variable)
			} else {
				g.surprise()
			}
		})
	}
	g.block("else:", func() { g.scannedValue(f.Type, "w", variable, 0) })
}

// applying writes how a patch is applied, and made of two messages.
func (g *generator) applying(p *schema.Message) {
	wire, of := g.wire(), p.PatchOf.Name
	g.method("apply", []string{"self", "to: " + of}, of, func() {
		g.doc("What to is once the patch is applied, unlisted fields included: what is cleared is None, or has its\n" +
			"default.")
		var arguments []string
		for _, f := range p.Fields {
			name := FieldName(f)
			change := fmt.Sprintf("%s=%s", name, stubs.Call(wire+".changed", "self."+name, "to."+name))
			if f.Type.Clearable {
				cleared := "None"
				if f.Changes.Presence == schema.Defaulted {
					if cleared = g.literalOf(f.Type, f.Changes.Default); g.computed(f.Changes) {
						cleared = defaultName(f.Changes)
					}
				}
				change = fmt.Sprintf("%s=%s", name, stubs.Call(wire+".changed_or", "self."+name, "to."+name, cleared))
			}
			arguments = append(arguments, change)
		}
		arguments = append(arguments, "_unlisted="+wire+".apply_unlisted(to._unlisted, self._unlisted)")
		g.P("return %s", stubs.Call(of, arguments...))
	})
	g.P("@classmethod")
	g.method("between", []string{"cls", "a: " + of, "b: " + of}, p.Name, func() {
		g.doc("The patch that changes a into b: applied to a, it gives what equals b.")
		var arguments []string
		for _, f := range p.Fields {
			name := FieldName(f)
			arguments = append(arguments, fmt.Sprintf("%s=%s", name, stubs.Call(wire+".change", "a."+name, "b."+name)))
		}
		arguments = append(arguments, "_unlisted="+wire+".unlisted_between(a._unlisted, b._unlisted)")
		g.P("return %s", stubs.Call("cls", arguments...))
	})
}
