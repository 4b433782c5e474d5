package java

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// unlistedClass is the class of alternatives that are not listed. It is inside another one, next to what reads and
// writes all of them: a codec inside of a class that implements the union would have two threads, which begin with one
// each, wait for each other for ever.
func unlistedClass(u *schema.Union) string { return u.Name + "Unlisted.Alternative" }

// union writes a sealed interface with a record for each alternative; those that are not listed are of a class that
// only the package knows.
func (o *output) union(u *schema.Union) {
	var nested, permitted []string
	for _, a := range u.Alternatives {
		nested = append(nested, AlternativeName(a))
		permitted = append(permitted, u.Name+"."+AlternativeName(a))
	}
	f := o.open(u.Module, u.Name, nested...)
	f.qualified = true
	outer := f.Code
	f.Code = stubs.NewCode("  ")
	text := f.lang("String")
	codec := f.wire("Codec")
	f.In(fmt.Sprintf("public sealed interface %s permits %s {", u.Name, strings.Join(append(permitted,
		unlistedClass(u)), ", ")), func() {
		f.doc(fmt.Sprintf("Reads and writes values of %s.", u.Name), "")
		f.P("%s<%s> CODEC = new %sUnlisted.Coding();", codec, u.Name, u.Name)
		f.P("")
		for _, a := range u.Alternatives {
			f.alternative(a)
			f.P("")
		}
		problem := f.wire("PayloadException")
		f.doc("Writes this as CBOR.", "", "@return the payload", "@throws "+problem+" if it can't be written")
		f.In("default byte[] toCbor() {", func() { f.P("return CODEC.toCbor(this);") }, "}")
		f.P("")
		f.doc("Reads a value from CBOR.", "", "@param data the payload, all of it", "@return what was read",
			"@throws "+problem+" if it can't be read")
		f.In(fmt.Sprintf("static %s fromCbor(byte[] data) {", u.Name), func() { f.P("return CODEC.fromCbor(data);") }, "}")
		f.P("")
		f.doc("Writes this as JSON.", "", "@return the payload", "@throws "+problem+" if it can't be written")
		f.In(fmt.Sprintf("default %s toJson() {", text), func() { f.P("return CODEC.toJson(this);") }, "}")
		f.P("")
		f.doc("Reads a value from JSON.", "", "@param text the payload, all of it", "@return what was read",
			"@throws "+problem+" if it can't be read")
		f.In(fmt.Sprintf("static %s fromJson(%s text) {", u.Name, text), func() { f.P("return CODEC.fromJson(text);") }, "}")
	}, "}")
	body := f.Code
	f.Code = outer
	f.doc(otherwise(u.Doc, fmt.Sprintf("Is the union %s.",
		u.FullName()))+fmt.Sprintf("\n\nIt is exactly one of the records in "+
		"here. It is open: an alternative that is not listed is\npreserved, so a `switch` needs a `default`."), u.Deprecated)
	f.deprecation(u.Deprecated)
	f.suppress()
	f.Add(body.Bytes())
	f.close()
	o.unlisted(u)
}

// alternative writes the record of an alternative; a class where its value is an array.
func (f *file) alternative(a *schema.Alternative) {
	name, union := AlternativeName(a), a.Union.Name
	typ := f.typ(a.Type)
	doc := otherwise(a.Doc, fmt.Sprintf("Is the alternative %s.", a.Name))
	object := f.lang("Object")
	equal := func() {
		f.P("%s", f.override())
		f.In(fmt.Sprintf("public boolean equals(%s other) {", object), func() {
			f.P("return other instanceof %s o && %s.same(value, o.value);", name, f.wire("Values"))
		}, "}")
		f.P("")
		f.P("%s", f.override())
		f.In("public int hashCode() {", func() { f.P("return %s.hash(value);", f.wire("Values")) }, "}")
		f.P("")
	}
	text := func() {
		f.P("%s", f.override())
		f.In(fmt.Sprintf("public %s toString() {", f.lang("String")), func() { f.P("return CODEC.toText(this);") }, "}")
	}
	if a.Type.Kind == schema.KindBytes {
		f.doc(doc, a.Deprecated)
		f.deprecation(a.Deprecated)
		f.In(fmt.Sprintf("final class %s implements %s {", name, union), func() {
			f.P("private final byte[] value;")
			f.P("")
			f.doc("Makes a value.", "", "@param value is copied")
			f.In(fmt.Sprintf("public %s(byte[] value) {", name), func() { f.P("this.value = value.clone();") }, "}")
			f.P("")
			f.returns("a copy of the bytes")
			f.In("public byte[] value() {", func() { f.P("return value.clone();") }, "}")
			f.P("")
			equal()
			text()
		}, "}")
		return
	}
	f.doc(doc, a.Deprecated, "@param value what it is")
	f.deprecation(a.Deprecated)
	f.In(fmt.Sprintf("record %s(%s value) implements %s {", name, typ, union), func() {
		if !isPrimitive(a.Type) {
			f.doc("Makes a value.", "", "@param value what it is")
			f.In(fmt.Sprintf("public %s {", name), func() {
				f.P("%s.requireNonNull(value, \"value\");", f.use("java.util.Objects"))
				if isMutable(a.Type) {
					f.P("value = %s;", f.copy(a.Type, "value", 0))
				}
			}, "}")
			f.P("")
		}
		if holdsBytes(a.Type) {
			f.returns("a copy of the value")
			f.P("%s", f.override())
			f.In(fmt.Sprintf("public %s value() {", typ), func() { f.P("return %s;", f.copy(a.Type, "value", 0)) }, "}")
			f.P("")
		}
		if !isPlain(a.Type) {
			equal()
		}
		text()
	}, "}")
}

// unlisted writes the class of alternatives that are not listed, with the codec of the union.
func (o *output) unlisted(u *schema.Union) {
	f := o.open(u.Module, u.Name+"Unlisted", "Alternative", "Coding")
	for _, a := range u.Alternatives {
		f.nested[AlternativeName(a)] = true // as a class that implements the interface sees them
	}
	outer := f.Code
	f.Code = stubs.NewCode("  ")
	field := f.wire("UnlistedField")
	f.In(fmt.Sprintf("final class %sUnlisted {", u.Name), func() {
		f.P("private %sUnlisted() {}", u.Name)
		f.P("")
		f.In(fmt.Sprintf("static final class Alternative implements %s {", u.Name), func() {
			f.P("private final %s field;", field)
			f.P("")
			f.In(fmt.Sprintf("private Alternative(%s field) {", field), func() { f.P("this.field = field;") }, "}")
			f.P("")
			f.P("%s", f.override())
			f.In(fmt.Sprintf("public boolean equals(%s other) {", f.lang("Object")), func() {
				f.P("return other instanceof %s o && field.equals(o.field);", unlistedClass(u))
			}, "}")
			f.P("")
			f.P("%s", f.override())
			f.In("public int hashCode() {", func() { f.P("return field.hashCode();") }, "}")
			f.P("")
			f.P("%s", f.override())
			f.In(fmt.Sprintf("public %s toString() {", f.lang("String")),
				func() { f.P("return \"(unlisted \" + field + \")\";") }, "}")
		}, "}")
		f.P("")
		f.unionCoding(u)
	}, "}")
	body := f.Code
	f.Code = outer
	f.suppress()
	f.Add(body.Bytes())
	f.close()
}

func (f *file) unionCoding(u *schema.Union) {
	union, self := f.name(&u.Decl), unlistedClass(u)
	of := func(a *schema.Alternative) string {
		if a.Deprecated != "" {
			f.deprecated = true
		}
		return union + "." + AlternativeName(a)
	}
	f.In(fmt.Sprintf("static final class Coding extends %s<%s> {", f.wire("Codec"), union), func() {
		var numbers, names []string
		for _, a := range u.Alternatives {
			numbers = append(numbers, fmt.Sprint(a.Number))
			names = append(names, quote(a.JSONName()))
		}
		f.P("private static final %s FIELDS =", f.wire("Fields"))
		f.Deeper(2, func() {
			f.P("%s;", stubs.Bare("new "+f.wire("Fields")+"(", append([]string{quote(u.Name),
				stubs.Bare("new int[] {", numbers, "}")}, names...), ")"))
		})
		f.P("")
		each := func(body func(i int, a *schema.Alternative), unlisted string) {
			for i, a := range u.Alternatives {
				open := "if"
				if i > 0 {
					open = "} else if"
				}
				f.P("%s (u instanceof %s a) {", open, of(a))
				f.Deeper(1, func() { body(i, a) })
			}
			f.P("} else if (u instanceof %s a) {", self)
			f.P("  %s", unlisted)
			f.P("}")
		}
		f.coding("writeCbor", "CborWriter w", union+" u", "void", func() {
			each(func(_ int, a *schema.Alternative) {
				f.P("w.beginUnion(%d);", a.Number)
				f.lines(f.write(a.Type, "a.value()", cborEncoding, "w", 0) + ";")
				f.P("w.endUnion();")
			}, fmt.Sprintf("w.unlisted(%s, a.field);", quote(u.Name)))
		})
		f.coding("readCbor", "CborReader r", "", union, func() {
			f.P("%s value = alternative(r, r.openUnion(%s));", union, quote(u.Name))
			f.P("r.closeUnion();")
			f.P("return value;")
		})
		f.In(fmt.Sprintf("private static %s alternative(%s r, int number) {", union, f.wire("CborReader")), func() {
			f.In("try {", func() {
				f.In("return switch (number) {", func() {
					for _, a := range u.Alternatives {
						f.lines(fmt.Sprintf("case %d -> new %s(%s);", a.Number, of(a), f.read(a.Type, cborEncoding, "r", 0)))
					}
					f.P("default -> new %s(r.unlistedAlternative(number));", self)
				}, "};")
			}, fmt.Sprintf("} catch (%s e) {", f.wire("PayloadException")))
			f.P("  throw e.inside(FIELDS, number);")
			f.P("}")
		}, "}")
		f.P("")
		f.coding("writeJson", "JsonWriter w", union+" u", "void", func() {
			each(func(i int, a *schema.Alternative) {
				f.P("int start = w.beginUnion(FIELDS, %d);", i)
				f.lines(f.write(a.Type, "a.value()", jsonEncoding, "w", 0) + ";")
				f.P("w.endUnion(start);")
			}, fmt.Sprintf("w.unlisted(%s, a.field);", quote(u.Name)))
		})
		f.coding("readJson", "JsonReader r", "", union, func() {
			f.P("int index = r.openUnion(FIELDS);")
			f.P("%s value;", union)
			f.In("try {", func() {
				f.In("value =", func() {
					f.In("switch (index) {", func() {
						for i, a := range u.Alternatives {
							f.lines(fmt.Sprintf("case %d -> new %s(%s);", i, of(a), f.read(a.Type, jsonEncoding, "r", 0)))
						}
						f.P("default -> r.unlistedAlternative(Coding::alternative, %s::new);", self)
					}, "};")
				}, "")
			}, fmt.Sprintf("} catch (%s e) {", f.wire("PayloadException")))
			f.P("  throw e.insideIndex(FIELDS, index);")
			f.P("}")
			f.P("r.closeUnion();")
			f.P("return value;")
		})
		f.coding("violations", "Violations v", union+" u", "void", func() {
			each(func(_ int, a *schema.Alternative) {
				f.violationsOf(a.Type, "v", "a.value()", quote(stubs.Pointer(a.JSONName())), 0)
			}, fmt.Sprintf("v.refuseUnlisted(\"\", %s);", quote(jsonNames(u))))
		})
		f.Blank(0)
	}, "}")
}

// jsonNames lists the alternatives for a sentence.
func jsonNames(u *schema.Union) string {
	var names []string
	for _, a := range u.Alternatives {
		names = append(names, a.JSONName())
	}
	return strings.Join(names, ", ")
}
