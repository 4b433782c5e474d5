package java

import (
	"fmt"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/syntax"
)

// patchSetters write what sets and clears a field of a patch.
func (f *file) patchSetters(x field) {
	change := f.wire("Change")
	name := syntax.PascalCase(x.Name)
	deprecated := x.Deprecated
	f.doc(fmt.Sprintf("Sets the field %s.", x.Changes.Name), deprecated, "@param value the value that it gets",
		"@return this")
	f.deprecation(deprecated)
	f.In(fmt.Sprintf("public Builder set%s(%s value) {", name, f.typ(x.Type)), func() {
		v := "value"
		if isMutable(x.Type) {
			v = f.copy(x.Type, v, 0)
		}
		if x.Type.Kind == schema.KindAny { // null clears, however it came there
			f.P("this.%s = value.isNull() ? %s.clear() : %s.set(value);", x.variable, change, change)
		} else {
			f.P("this.%s = %s.set(%s);", x.variable, change, v)
		}
		f.P("return this;")
	}, "}")
	f.P("")
	if !x.Type.Clearable {
		return
	}
	f.doc(fmt.Sprintf("Clears the field %s: it is absent then, or has its default.", x.Changes.Name), deprecated,
		"@return this")
	f.deprecation(deprecated)
	f.In(fmt.Sprintf("public Builder clear%s() {", name), func() {
		f.P("this.%s = %s.clear();", x.variable, change)
		f.P("return this;")
	}, "}")
	f.P("")
}

// applying writes how a patch is applied, and made of two messages.
func (f *file) applying(p *schema.Message) {
	of := f.name(&p.PatchOf.Decl)
	list := f.fieldsOf(p)
	original := f.fieldsOf(p.PatchOf)
	f.doc(fmt.Sprintf("Applies this to a message: what is cleared is absent then, or has its default; what it has that "+
		"is not listed is preserved, but where this changes it. A required field that this clears is left."), "",
		"@param to what is changed, which stays as it is", "@return the changed message")
	f.In(fmt.Sprintf("public %s applyTo(%s to) {", of, of), func() {
		f.P("%s.Builder b = to.toBuilder();", of)
		for i, x := range list {
			f.deprecated = f.deprecated || x.Changes.Deprecated != ""
			setter := original[i].accessor
			end := "}"
			if x.Type.Clearable {
				end = fmt.Sprintf("} else if (this.%s.isCleared()) {", x.variable)
			}
			f.In(fmt.Sprintf("if (this.%s.isSet()) {", x.variable),
				func() { f.P("b.%s(this.%s.value());", setter, x.variable) }, end)
			if !x.Type.Clearable {
				continue
			}
			f.Deeper(1, func() {
				if x.Changes.Presence == schema.Defaulted {
					f.P("b.%s(%s);", setter, f.literal(x.Type, x.Changes.Default))
				} else {
					f.P("b.%s(null);", setter)
				}
			})
			f.P("}")
		}
		f.P("return b.unlistedFields(%s.applied(to.unlistedFields().orElse(null), unlisted)).build();",
			f.wire("UnlistedFields"))
	}, "}")
	f.P("")
	f.doc("Finds what changes one message into another: applied to the first, it gives what equals the second.", "",
		"@param before the one", "@param after the other", "@return the patch")
	f.In(fmt.Sprintf("public static %s between(%s before, %s after) {", p.Name, of, of), func() {
		f.P("Builder b = new Builder();")
		for i, x := range list {
			name := original[i].accessor
			setter := "b.set" + syntax.PascalCase(x.Name)
			if x.Changes.Presence == schema.Optional {
				f.In(fmt.Sprintf("if (!%s) {", f.sameOptional(x, "before."+name+"()", "after."+name+"()")), func() {
					f.P("after.%s().ifPresentOrElse(b::set%s, b::clear%s);", name, syntax.PascalCase(x.Name),
						syntax.PascalCase(x.Name))
				}, "}")
				continue
			}
			f.In(fmt.Sprintf("if (!%s) {", f.sameValue(x.Type, "before."+name+"()", "after."+name+"()")), func() {
				f.P("%s(after.%s());", setter, name)
			}, "}")
		}
		f.P("b.unlisted =")
		f.P("    %s.between(before.unlistedFields().orElse(null), after.unlistedFields().orElse(null));",
			f.wire("UnlistedFields"))
		f.P("return b.build();")
	}, "}")
	f.P("")
}

func (f *file) sameValue(t *schema.Type, a, b string) string {
	switch {
	case isPrimitive(t) && isPlain(t):
		return fmt.Sprintf("(%s == %s)", a, b)
	case isPlain(t):
		return fmt.Sprintf("%s.equals(%s)", a, b)
	}
	return fmt.Sprintf("%s.same(%s, %s)", f.wire("Values"), a, b)
}

func (f *file) sameOptional(x field, a, b string) string {
	if isPlain(x.Type) {
		return fmt.Sprintf("%s.equals(%s)", a, b)
	}
	return fmt.Sprintf("%s.same(%s.orElse(null), %s.orElse(null))", f.wire("Values"), a, b)
}
