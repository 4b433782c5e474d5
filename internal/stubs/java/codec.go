package java

import (
	"fmt"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// encoding is what differs between CBOR and JSON.
type encoding struct {
	json           bool
	reader, writer string
}

var (
	cborEncoding = encoding{reader: "CborReader", writer: "CborWriter"}
	jsonEncoding = encoding{json: true, reader: "JsonReader", writer: "JsonWriter"}
)

// codec is the constant that reads and writes values of a type.
func (f *file) codec(t *schema.Type) string { return f.object(t) + ".CODEC" }

// read writes the expression that reads a value.
func (f *file) read(t *schema.Type, e encoding, reader string, depth int) string {
	switch {
	case hasCodec(t):
		return fmt.Sprintf("%s.value(%s)", reader, f.codec(t))
	case t.Kind == schema.KindList && hasCodec(t.Elem):
		return fmt.Sprintf("%s.list(%s)", reader, f.codec(t.Elem))
	case t.Kind == schema.KindList:
		return fmt.Sprintf("%s.list(%s)", reader, f.reader(t.Elem, e, depth))
	case t.Kind == schema.KindMap:
		return fmt.Sprintf("%s.map(%s, %s)", reader, f.keyOf(t.Key), f.reader(t.Elem, e, depth))
	}
	return fmt.Sprintf("%s.%s()", reader, scalars[t.Kind].method)
}

// reader writes the function that reads an item.
func (f *file) reader(t *schema.Type, e encoding, depth int) string {
	if !hasCodec(t) && t.Kind != schema.KindList && t.Kind != schema.KindMap {
		return f.wire(e.reader) + "::" + scalars[t.Kind].method
	}
	inner := numbered("r", depth+1)
	return inner + " -> " + f.read(t, e, inner, depth+1)
}

// write writes the expression that writes a value.
func (f *file) write(t *schema.Type, value string, e encoding, writer string, depth int) string {
	switch {
	case hasCodec(t):
		return fmt.Sprintf("%s.value(%s, %s)", writer, f.codec(t), value)
	case t.Kind == schema.KindList && hasCodec(t.Elem):
		return fmt.Sprintf("%s.list(%s, %s)", writer, value, f.codec(t.Elem))
	case t.Kind == schema.KindList:
		return fmt.Sprintf("%s.list(%s, %s)", writer, value, f.writer(t.Elem, e, depth))
	case t.Kind == schema.KindMap:
		return fmt.Sprintf("%s.map(%s, %s, %s)", writer, f.keyOf(t.Key), value, f.writer(t.Elem, e, depth))
	}
	return fmt.Sprintf("%s.%s(%s)", writer, scalars[t.Kind].method, value)
}

// writer writes the function that writes an item.
func (f *file) writer(t *schema.Type, e encoding, depth int) string {
	secret := e.json && namedSecret(t) && !isRecord(t)
	if !secret && !hasCodec(t) && t.Kind != schema.KindList && t.Kind != schema.KindMap {
		return f.wire(e.writer) + "::" + scalars[t.Kind].method
	}
	inner, item := numbered("w", depth+1), numbered("x", depth)
	text := f.write(t, item, e, inner, depth+1)
	if secret {
		return fmt.Sprintf("(%s, %s) -> {\n  if (%s.hides()) {\n    %s.secret();\n  } else {\n    %s;\n  }\n}", inner,
			item, inner,
			inner, text)
	}
	return fmt.Sprintf("(%s, %s) -> %s", inner, item, text)
}

// namedSecret tells types whose name says that they are secret.
func namedSecret(t *schema.Type) bool { return t.Named != nil && t.Named.Secret }

// messageCoding writes the codec of a message.
func (f *file) messageCoding(m *schema.Message, list []field) {
	f.In(fmt.Sprintf("private static final class Coding extends %s<%s> {", f.wire("Codec"), m.Name), func() {
		f.fieldTable(m.Name, list)
		for _, x := range list {
			f.patternConstant(patternOf(x.Field), x.Bounds)
		}
		f.P("")
		value := func(x field) string { return "m." + x.variable }
		f.coding("writeCbor", "CborWriter w", m.Name+" m", "void", func() { f.writeCbor(list, value, "m.unlisted") })
		target := assignment{set: func(x field, value string) string { return "b." + x.variable + " = " + value },
			seen: func(word int) string { return fmt.Sprintf("b.set%d", word) }, builder: "Builder b", arguments: "b"}
		f.coding("readCbor", "CborReader r", "", m.Name, func() {
			f.P("Builder b = new Builder();")
			f.readCbor(len(list) > 0, target, "b.unlisted = ")
			f.finish(m)
		})
		f.coding("writeJson", "JsonWriter w", m.Name+" m", "void", func() { f.writeJson(list, value, "m.unlisted") })
		f.coding("readJson", "JsonReader r", "", m.Name, func() {
			f.P("Builder b = new Builder();")
			f.readJson(list, target, m.IsPatch(), "b.unlisted = ")
			f.finish(m)
		})
		f.entry(list, target)
		f.coding("violations", "Violations v", m.Name+" m", "void", func() { f.violations(list) })
		f.Blank(0)
	}, "}")
}

// rawCoding writes what a message has whose body is one field as it is: no codec, but what validates and shows
// the rest.
func (f *file) rawCoding(m *schema.Message, list []field) {
	var rest []field
	for _, x := range list {
		if !x.IsRaw() {
			rest = append(rest, x)
		}
	}
	f.In("private static final class Coding {", func() {
		f.fieldTable(m.Name, rest)
		f.P("private static final %s RAW = %s;", f.wire("BodyBounds"), f.rawBounds(m.Raw()))
		for _, x := range rest {
			f.patternConstant(patternOf(x.Field), x.Bounds)
		}
		f.P("")
		f.P("private Coding() {}")
		f.P("")
		f.In(fmt.Sprintf("private static %s text(%s m) {", f.lang("String"), m.Name), func() {
			f.P("%s w = %s.forPeople();", f.wire("JsonWriter"), f.wire("JsonWriter"))
			f.writeJson(rest, func(x field) string { return "m." + x.variable }, "m.unlisted")
			f.P("return w.toString();")
		}, "}")
		f.P("")
		f.In(fmt.Sprintf("private static void violations(%s v, %s m) {", f.wire("Violations"), m.Name),
			func() { f.violations(list) }, "}")
	}, "}")
}

// fieldTable writes what readers and writers know of fields.
func (f *file) fieldTable(message string, list []field) {
	var numbers, names []string
	for _, x := range list {
		numbers = append(numbers, fmt.Sprint(x.Number))
		names = append(names, quote(x.JSONName()))
	}
	f.P("private static final %s FIELDS =", f.wire("Fields"))
	f.Deeper(2, func() {
		f.P("%s;", stubs.Bare("new "+f.wire("Fields")+"(", append([]string{quote(message),
			stubs.Bare("new int[] {", numbers, "}")}, names...), ")"))
	})
}

// writeCbor writes the statements that write a message, by the expressions of its fields' values; what may be absent
// is null then.
func (f *file) writeCbor(list []field, value func(field) string, unlisted string) {
	always := 0
	counted := false
	for _, x := range list {
		if x.Presence != schema.Optional {
			always++
		} else {
			counted = true
		}
	}
	count := fmt.Sprint(always)
	if counted {
		f.P("int count = %d;", always)
		count = "count"
		for _, x := range list {
			if x.Presence == schema.Optional {
				f.In(fmt.Sprintf("if (%s) {", present(x, value(x))), func() { f.P("count++;") }, "}")
			}
		}
	}
	f.P("int start = w.beginMessage(%s, %s);", count, unlisted)
	for _, x := range list {
		write := func(v string) {
			f.P("w.field(%d);", x.Number)
			f.lines(f.write(x.Type, v, cborEncoding, "w", 0) + ";")
		}
		f.eachPresent(x, value(x), write, func() {
			f.P("w.field(%d);", x.Number)
			f.P("w.nothing();")
		})
	}
	f.P("w.endMessage(start, %s);", unlisted)
}

// present is the condition that a field that may be absent is there.
func present(x field, value string) string {
	if x.Changes != nil {
		return "!" + value + ".isLeft()"
	}
	return value + " != null"
}

// eachPresent runs write for the value of a field where it is there, and cleared where a patch clears it.
func (f *file) eachPresent(x field, value string, write func(value string), cleared func()) {
	switch {
	case x.Changes != nil:
		f.In(fmt.Sprintf("if (%s.isSet()) {", value), func() { write(value + ".value()") },
			fmt.Sprintf("} else if (%s.isCleared()) {", value))
		f.Deeper(1, func() {
			if x.Type.Clearable {
				cleared()
			} else {
				f.P("throw %s.cantClear(%s);", f.wire("Writer"), quote(x.JSONName()))
			}
		})
		f.P("}")
	case x.Presence == schema.Optional:
		f.In(fmt.Sprintf("if (%s) {", present(x, value)), func() { write(value) }, "}")
	default:
		write(value)
	}
}

// writeJson is writeCbor for JSON.
func (f *file) writeJson(list []field, value func(field) string, unlisted string) {
	f.P("int start = w.beginMessage();")
	for i, x := range list {
		write := func(v string) {
			f.P("w.field(FIELDS, %d);", i)
			text := f.write(x.Type, v, jsonEncoding, "w", 0) + ";"
			if secret := x.Secret || namedSecret(x.Type); secret && !(isRecord(x.Type) && namedSecret(x.Type)) {
				f.In("if (w.hides()) {", func() { f.P("w.secret();") }, "} else {")
				f.Deeper(1, func() { f.lines(text) })
				f.P("}")
				return
			}
			f.lines(text)
		}
		f.eachPresent(x, value(x), write, func() {
			f.P("w.field(FIELDS, %d);", i)
			f.P("w.nothing();")
		})
	}
	f.P("w.endMessage(start, %s, FIELDS);", unlisted)
}

// assignment is where what is read goes.
type assignment struct {
	set       func(x field, value string) string
	seen      func(word int) string // the variable that marks fields as read
	builder   string                // the parameters of entry after the reader and the number
	arguments string
}

// readCbor writes the statements that read a message, which may have no fields that are listed; unlisted begins the
// statement that keeps those that are not.
func (f *file) readCbor(listed bool, to assignment, unlisted string) {
	f.P("%s<%s> unlisted = null;", f.use("java.util.List"), f.wire("UnlistedField"))
	f.P("int number = 0;")
	f.In("try {", func() {
		f.P("r.openMessage(FIELDS);")
		f.In("while (r.more()) {", func() {
			f.P("number = 0;")
			f.P("number = r.fieldNumber();")
			if !listed {
				f.P("unlisted = r.unlisted(unlisted, number);")
				return
			}
			f.In(fmt.Sprintf("if (!entry(r, number, %s)) {", to.arguments),
				func() { f.P("unlisted = r.unlisted(unlisted, number);") }, "}")
		}, "}")
	}, fmt.Sprintf("} catch (%s e) {", f.wire("PayloadException")))
	f.Deeper(1, func() { f.P("throw e.inside(FIELDS, number);") })
	f.P("}")
	f.P("%sr.settled(unlisted);", unlisted)
}

// entry writes the method that reads the value of a field by its number.
func (f *file) entry(list []field, to assignment) {
	if len(list) == 0 {
		return
	}
	f.In(fmt.Sprintf("private static boolean entry(%s r, int number, %s) {", f.wire("CborReader"), to.builder), func() {
		f.In("switch (number) {", func() {
			for i, x := range list {
				f.In(fmt.Sprintf("case %d -> {", x.Number), func() {
					f.P("%s = r.once(%s, %d);", to.seen(i/64), to.seen(i/64), i%64)
					f.readField(x, cborEncoding, to)
				}, "}")
			}
			f.In("default -> {", func() { f.P("return false;") }, "}")
		}, "}")
		f.P("return true;")
	}, "}")
	f.P("")
}

// readField writes the statement that reads a field.
func (f *file) readField(x field, e encoding, to assignment) {
	read := f.read(x.Type, e, "r", 0)
	switch {
	case x.Changes != nil:
		change := f.wire("Change")
		clears := fmt.Sprintf("r.clears(%t)", !x.Type.Clearable)
		f.P("%s;", to.set(x, fmt.Sprintf("%s ? %s.clear() : %s.set(%s)", clears, change, change, read)))
	case x.Presence == schema.Optional && x.Type.Kind == schema.KindAny:
		f.P("%s;", to.set(x, f.wire("Any")+".present("+read+")"))
	case e.json && x.Presence != schema.Required:
		f.In("if (!r.isNull()) {", func() { f.lines(to.set(x, read) + ";") }, "}")
	default:
		f.lines(to.set(x, read) + ";")
	}
}

// readJson is readCbor for JSON, in which a field may come by its number, as CBOR.
func (f *file) readJson(list []field, to assignment, patch bool, unlisted string) {
	f.P("%s<%s> unlisted = null;", f.use("java.util.List"), f.wire("UnlistedField"))
	f.P("int index = %s.END;", f.wire("JsonReader"))
	f.In("try {", func() {
		f.P("r.openMessage(FIELDS);")
		f.In(fmt.Sprintf("while ((index = r.member(FIELDS, index)) != %s.END) {", f.wire("JsonReader")), func() {
			if len(list) == 0 {
				f.P("unlisted = r.unlisted(unlisted, FIELDS, %t, (inner, number) -> false);", patch)
				return
			}
			f.In("switch (index) {", func() {
				for i, x := range list {
					f.In(fmt.Sprintf("case %d -> {", i), func() {
						f.P("%s = r.once(%s, %d);", to.seen(i/64), to.seen(i/64), i%64)
						f.readField(x, jsonEncoding, to)
					}, "}")
				}
				f.P("default -> unlisted = r.unlisted(unlisted, FIELDS, %t, (inner, number) -> entry(inner, number, %s));", patch,
					to.arguments)
			}, "}")
		}, "}")
	}, fmt.Sprintf("} catch (%s e) {", f.wire("PayloadException")))
	f.Deeper(1, func() { f.P("throw e.insideIndex(FIELDS, index);") })
	f.P("}")
	f.P("%sr.settled(unlisted);", unlisted)
}

// finish writes the end of reading a message: what is missing is refused.
func (f *file) finish(m *schema.Message) {
	for i := range words(m) {
		if bits := requiredBits(m, i); bits != 0 {
			f.P("r.require(b.set%d, %s, FIELDS, %d);", i, bitsLiteral(bits), i*64)
		}
	}
	f.P("return new %s(b);", m.Name)
}
