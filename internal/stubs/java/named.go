package java

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
)

// record writes a named type over a text, an integer, a decimal or a uuid.
func (o *output) record(n *schema.NamedType) {
	f := o.open(n.Module, n.Name, "Coding")
	bare := n.Bare()
	typ, codec := f.typ(bare), f.wire("Codec")
	doc := otherwise(n.Doc, fmt.Sprintf("Is the type %s.", n.FullName()))
	tag := "@param value what it is over"
	if n.Type.Kind == schema.KindUint64 {
		tag += "; its bits are unsigned"
	}
	f.doc(doc, n.Deprecated, tag)
	f.deprecation(n.Deprecated)
	f.In(fmt.Sprintf("public record %s(%s value) {", n.Name, typ), func() {
		f.doc(fmt.Sprintf("Reads and writes values of %s.", n.Name), "")
		f.P("public static final %s<%s> CODEC = new Coding();", codec, n.Name)
		f.P("")
		if !isPrimitive(bare) {
			f.doc("Makes a value.", "", "@param value what it is over")
			f.In(fmt.Sprintf("public %s {", n.Name), func() {
				f.P("%s.requireNonNull(value, \"value\");", f.use("java.util.Objects"))
			}, "}")
			f.P("")
		}
		if key := scalars[n.Type.Kind].key; key != "" {
			f.doc("Is how maps are read and written whose keys are of this type.", "", "@return the keys")
			f.In(fmt.Sprintf("public static %s<%s> keys() {", f.wire("Key"), n.Name), func() { f.P("return Coding.KEYS;") }, "}")
			f.P("")
		}
		if !isPlain(bare) { // decimals are equal by number
			values := f.wire("Values")
			f.P("%s", f.override())
			f.In(fmt.Sprintf("public boolean equals(%s other) {", f.lang("Object")), func() {
				f.P("return other instanceof %s o && %s.same(value, o.value);", n.Name, values)
			}, "}")
			f.P("")
			f.P("%s", f.override())
			f.In("public int hashCode() {", func() { f.P("return %s.hash(value);", values) }, "}")
			f.P("")
		}
		if n.Secret {
			f.returns("what never shows the value")
			f.P("%s", f.override())
			f.In(fmt.Sprintf("public %s toString() {", f.lang("String")), func() { f.P("return \"(secret)\";") }, "}")
			f.P("")
		}
		f.recordCoding(n, bare)
	}, "}")
	f.close()
}

func (f *file) recordCoding(n *schema.NamedType, bare *schema.Type) {
	method := scalars[n.Type.Kind].method
	f.In(fmt.Sprintf("private static final class Coding extends %s<%s> {", f.wire("Codec"), n.Name), func() {
		if key := scalars[n.Type.Kind].key; key != "" {
			f.P("private static final %s<%s> KEYS = %s.%s.as(%s::new, %s::value, %t);", f.wire("Key"), n.Name, f.wire("Key"),
				key, n.Name,
				n.Name, n.Secret)
		}
		f.patternConstant("PATTERN", n.Bounds)
		f.P("")
		f.coding("writeCbor", "CborWriter w", n.Name+" x", "void", func() { f.P("w.%s(x.value);", method) })
		f.coding("readCbor", "CborReader r", "", n.Name, func() { f.P("return new %s(r.%s());", n.Name, method) })
		f.coding("writeJson", "JsonWriter w", n.Name+" x", "void", func() {
			if n.Secret {
				f.In("if (w.hides()) {", func() {
					f.P("w.secret();")
					f.P("return;")
				}, "}")
			}
			f.P("w.%s(x.value);", method)
		})
		f.coding("readJson", "JsonReader r", "", n.Name, func() { f.P("return new %s(r.%s());", n.Name, method) })
		f.coding("violations", "Violations v", n.Name+" x", "void", func() {
			if n.Bounds.Refuse(n.Type.Kind) {
				f.bounds(n.Bounds, check{found: "v", typ: bare, value: "x.value", step: `""`, pattern: "PATTERN", secret: n.Secret})
			}
		})
		f.Blank(0)
	}, "}")
}

// patternConstant writes the compiled pattern of some bounds.
func (f *file) patternConstant(name string, b *schema.Bounds) {
	if b != nil && b.Pattern != "" {
		pattern := f.use("java.util.regex.Pattern")
		f.P("private static final %s %s = %s.compile(%s);", pattern, name, pattern,
			quote(javaPattern(b.Pattern)))
	}
}

// javaPattern makes "$" the very end: in Java it also matches before a last newline.
func javaPattern(pattern string) string {
	var b strings.Builder
	class := false
	for i := 0; i < len(pattern); i++ {
		c := pattern[i]
		switch {
		case c == '\\' && i+1 < len(pattern):
			b.WriteByte(c)
			i++
			c = pattern[i]
		case c == '[':
			class = true
		case c == ']':
			class = false
		case c == '&' && class: // && would be an intersection
			b.WriteByte('\\')
		case c == '$' && !class:
			b.WriteString(`\z`)
			continue
		}
		b.WriteByte(c)
	}
	return b.String()
}
