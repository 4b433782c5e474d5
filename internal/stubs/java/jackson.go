package java

import (
	"fmt"
	"slices"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// jackson writes the module by which Jackson reads and writes all declared types as JSON, by their own codecs.
func (o *output) jackson(defs *schema.Definitions) {
	f := &file{Code: stubs.NewCode("  "), output: o, packageName: o.root + ".faithful", self: "JacksonStubs",
		top: map[string]bool{}, nested: map[string]bool{}, imports: map[string]string{}}
	const databind = "com.fasterxml.jackson.databind."
	simple := f.use(databind + "module.SimpleModule")
	codec, problem := f.wire("Codec"), f.wire("PayloadException")
	class := f.lang("Class")
	parts := slices.Collect(slices.Chunk(serialized(defs), 1000)) // as a method has at most 64 KiB of code
	add := func(decls []*schema.Decl) {
		for _, d := range decls {
			f.P("add(%s.class, %s.CODEC);", f.full(d), f.full(d))
		}
	}
	outer := f.Code
	f.Code = stubs.NewCode("  ")
	f.In("public final class JacksonStubs extends "+simple+" {", func() {
		f.P("private static final long serialVersionUID = 1L;")
		f.P("")
		f.doc("Makes the module.", "")
		f.In("public JacksonStubs() {", func() {
			f.P("super(\"faithful\");")
			if len(parts) == 1 {
				add(parts[0])
				return
			}
			for i := range parts {
				f.P("addTypes%d();", i+1)
			}
		}, "}")
		f.P("")
		for i, part := range parts {
			if len(parts) > 1 {
				f.In(fmt.Sprintf("private void addTypes%d() {", i+1), func() { add(part) }, "}")
				f.P("")
			}
		}
		f.In("private <T> void add("+class+"<T> type, "+codec+"<T> codec) {", func() {
			f.P("addSerializer(type, new Writing<>(type, codec));")
			f.P("addDeserializer(type, new Reading<>(type, codec));")
		}, "}")
		f.P("")
		exception := f.use("java.io.IOException")
		f.In("private static final class Writing<T> extends "+f.use(databind+"ser.std.StdSerializer")+"<T> {", func() {
			f.P("private static final long serialVersionUID = 1L;")
			f.P("private final transient %s<T> codec;", codec)
			f.P("")
			f.In("Writing("+class+"<T> type, "+codec+"<T> codec) {", func() {
				f.P("super(type);")
				f.P("this.codec = codec;")
			}, "}")
			f.P("")
			f.P("%s", f.override())
			f.P("public void serialize(T value, %s to, %s provider)", f.use("com.fasterxml.jackson.core.JsonGenerator"),
				f.use(databind+"SerializerProvider"))
			f.In("    throws "+exception+" {", func() { f.P("to.writeRawValue(codec.toJson(value));") }, "}")
			f.P("")
			f.P("%s", f.override())
			f.In("public void serializeWithType(", func() {
				f.P("    T value, JsonGenerator to, SerializerProvider provider, %s type)",
					f.use(databind+"jsontype.TypeSerializer"))
			}, "    throws "+exception+" {")
			f.Deeper(1, func() { f.P("serialize(value, to, provider); // whose rules have no place for a type") })
			f.P("}")
		}, "}")
		f.P("")
		f.In("private static final class Reading<T> extends "+f.use(databind+"deser.std.StdDeserializer")+"<T> {", func() {
			f.P("private static final long serialVersionUID = 1L;")
			f.P("private final transient %s<T> codec;", codec)
			f.P("")
			f.In("Reading("+class+"<T> type, "+codec+"<T> codec) {", func() {
				f.P("super(type);")
				f.P("this.codec = codec;")
			}, "}")
			f.P("")
			f.P("%s", f.override())
			f.P("public T deserialize(%s from, %s context)", f.use("com.fasterxml.jackson.core.JsonParser"),
				f.use(databind+"DeserializationContext"))
			f.In("    throws "+exception+" {", func() {
				f.P("%s text = new StringWriter();", f.use("java.io.StringWriter"))
				f.In("try (JsonGenerator copy = from.getCodec().getFactory().createGenerator(text)) {", func() {
					f.P("copy.copyCurrentStructure(from);")
				}, "}")
				f.In("try {", func() { f.P("return codec.fromJson(text.toString());") }, "} catch ("+problem+" e) {")
				f.Deeper(1, func() {
					f.P("throw %s.from(from, e.getMessage(), e);", f.use(databind+"JsonMappingException"))
				})
				f.P("}")
			}, "}")
		}, "}")
	}, "}")
	body := f.Code
	f.Code = outer
	f.doc("Lets Jackson read and write the types of these definitions, as JSON and by their own rules.\n\n"+
		"Register it with an "+
		"`ObjectMapper`. What is read has the limits of `fromJson`.", "")
	f.suppress()
	f.Add(body.Bytes())
	f.close()
}

// serialized are the types that have a codec of their own.
func serialized(defs *schema.Definitions) []*schema.Decl {
	var decls []*schema.Decl
	for _, m := range defs.Modules {
		for _, n := range m.Types {
			if isRecord(&n.Type) {
				decls = append(decls, &n.Decl)
			}
		}
		for _, e := range m.Enums {
			decls = append(decls, &e.Decl)
		}
		for _, u := range m.Unions {
			decls = append(decls, &u.Decl)
		}
		for _, message := range m.Messages {
			if message.Raw() != nil {
				continue
			}
			decls = append(decls, &message.Decl)
			if p := message.Patch(); p != nil {
				decls = append(decls, &p.Decl)
			}
		}
	}
	return decls
}

// full writes a declared type in full.
func (f *file) full(d *schema.Decl) string {
	if d.Deprecated != "" {
		f.deprecated = true
	}
	return f.types + "." + Below(d.Module) + "." + d.Name
}
