package java

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// typesOf writes the constants, enums, unions, named types, messages and errors of a module.
func (o *output) typesOf(m *schema.Module) {
	o.packageInfo(m)
	if len(m.Consts) > 0 {
		o.constants(m)
	}
	for _, n := range m.Types {
		if isRecord(&n.Type) {
			o.record(n)
		}
	}
	for _, e := range m.Enums {
		o.enum(e)
	}
	for _, u := range m.Unions {
		o.union(u)
	}
	for _, message := range m.Messages {
		o.message(message)
		if p := message.Patch(); p != nil {
			o.message(p)
		}
		if o.options.Exhaustive {
			o.ofAll(message)
		}
	}
}

// packageInfo writes the documentation of a package.
func (o *output) packageInfo(m *schema.Module) {
	f := o.open(m, "package-info")
	doc := m.Doc
	if doc == "" {
		doc = fmt.Sprintf("Is the module %s.", m.Name)
	}
	f.doc(doc, "")
	f.P("package %s;", f.packageName)
	f.add(f.packageName, f.self, f.Bytes())
}

func (o *output) constants(m *schema.Module) {
	f := o.open(m, constantsClass)
	f.doc(fmt.Sprintf("Has the constants of the module %s.", m.Name), "")
	f.In(fmt.Sprintf("public final class %s {", constantsClass), func() {
		for _, c := range m.Consts {
			isBytes := c.Type.Kind == schema.KindBytes // which nobody may be given
			var tags []string
			if isBytes {
				tags = append(tags, "@return a copy")
			}
			f.doc(otherwise(c.Doc, fmt.Sprintf("Is the constant %s.", c.FullName())), c.Deprecated, tags...)
			f.deprecation(c.Deprecated)
			name := ConstName(c)
			if isBytes {
				f.In(fmt.Sprintf("public static byte[] %s() {", name), func() { f.P("return %s;", f.literal(c.Type, c.Value)) },
					"}")
			} else {
				f.P("public static final %s %s = %s;", f.typ(c.Type), name, f.literal(c.Type, c.Value))
			}
			f.P("")
		}
		f.P("private %s() {}", constantsClass)
	}, "}")
	f.close()
}

func otherwise(doc, text string) string {
	if doc == "" {
		return text
	}
	return doc
}

// literal writes a constant or default of a type.
func (f *file) literal(t *schema.Type, v any) string {
	plain := f.plainLiteral(t.Kind, v)
	if isRecord(t) {
		return fmt.Sprintf("new %s(%s)", f.name(&t.Named.Decl), plain)
	}
	return plain
}

func (f *file) plainLiteral(k schema.Kind, v any) string {
	switch v := v.(type) {
	case string:
		return quote(v)
	case []byte:
		return bytesLiteral(v)
	case schema.UUID:
		return fmt.Sprintf("%s.fromString(%q)", f.use("java.util.UUID"), v)
	case schema.Instant:
		return fmt.Sprintf("%s.parse(%q)", f.use("java.time.Instant"), v)
	case schema.Decimal:
		return fmt.Sprintf("new %s(%q)", f.use("java.math.BigDecimal"), v)
	case schema.Date:
		day := time.Unix(int64(v)*86400, 0).UTC()
		return fmt.Sprintf("%s.of(%d, %d, %d)", f.use("java.time.LocalDate"), day.Year(), day.Month(), day.Day())
	case schema.Duration:
		return f.durationLiteral(int64(v))
	case *schema.Member:
		if v.Deprecated != "" {
			f.deprecated = true
		}
		return f.name(&v.Enum.Decl) + "." + MemberName(v)
	case float32:
		return floatLiteral(float64(v), 32) + "f"
	case float64:
		return floatLiteral(v, 64)
	case int64:
		if k == schema.KindInt64 {
			return strconv.FormatInt(v, 10) + "L"
		}
		return strconv.FormatInt(v, 10)
	case uint64:
		switch {
		case k == schema.KindUint64 && v > 1<<63-1:
			return fmt.Sprintf("0x%xL", v)
		case k == schema.KindUint64 || k == schema.KindUint32:
			return strconv.FormatUint(v, 10) + "L"
		}
		return strconv.FormatUint(v, 10)
	}
	return fmt.Sprint(v)
}

func floatLiteral(v float64, bits int) string {
	text := strconv.FormatFloat(v, 'g', -1, bits)
	if !strings.ContainsAny(text, ".e") {
		text += ".0"
	}
	return text
}

func bytesLiteral(data []byte) string {
	items := make([]string, len(data))
	for i, b := range data {
		items[i] = strconv.Itoa(int(int8(b)))
	}
	return "new byte[] {" + strings.Join(items, ", ") + "}"
}

// durationLiteral writes a duration in the largest unit that holds it whole.
func (f *file) durationLiteral(nanos int64) string {
	duration := f.use("java.time.Duration")
	if nanos == 0 {
		return duration + ".ZERO"
	}
	for _, unit := range []struct {
		name string
		size time.Duration
	}{{"Hours", time.Hour}, {"Minutes", time.Minute}, {"Seconds", time.Second}, {"Millis", time.Millisecond}} {
		if nanos%int64(unit.size) == 0 {
			return fmt.Sprintf("%s.of%s(%d)", duration, unit.name, nanos/int64(unit.size))
		}
	}
	return fmt.Sprintf("%s.ofNanos(%dL)", duration, nanos)
}

// enum writes a class with a constant for each member.
func (o *output) enum(e *schema.Enum) {
	f := o.open(e.Module, e.Name, "Known", "Coding")
	codec, key, text := f.wire("Codec"), f.wire("Key"), f.lang("String")
	f.doc(otherwise(e.Doc, fmt.Sprintf("Is the enum %s.",
		e.FullName()))+fmt.Sprintf("\n\nIt is open: a number or name that is "+
		"not listed here is preserved. A `switch` over\n`known()` is documented to have a `default`: the compiler does not "+
		"ask for one, and without it\na member that is added later stops the program there."), e.Deprecated)
	f.deprecation(e.Deprecated)
	f.In(fmt.Sprintf("public final class %s {", e.Name), func() {
		for _, m := range e.Members {
			f.doc(otherwise(m.Doc, fmt.Sprintf("Is the member %s.", m.Name)), m.Deprecated)
			f.deprecation(m.Deprecated)
			f.P("public static final %s %s =", e.Name, MemberName(m))
			f.P("    new %s(%d, %s, Known.%s);", e.Name, m.Number, quote(m.JSONName()), MemberName(m))
			f.P("")
		}
		f.doc(fmt.Sprintf("Reads and writes values of %s.", e.Name), "")
		f.P("public static final %s<%s> CODEC = new Coding();", codec, e.Name)
		f.P("")
		f.doc("Are the members that are listed, for `switch`.", "")
		f.In("public enum Known {", func() {
			for _, m := range e.Members {
				f.doc(otherwise(m.Doc, fmt.Sprintf("Is the member %s.", m.Name)), m.Deprecated)
				f.deprecation(m.Deprecated)
				f.P("%s,", MemberName(m))
			}
			f.doc("Is any member that these definitions do not list.", "")
			f.P("UNLISTED")
		}, "}")
		f.P("")
		f.P("private final int number; // below 0 where only the name is known")
		f.P("private final %s name; // in JSON; null where only the number is known", text)
		f.P("private final Known known;")
		f.P("")
		f.In(fmt.Sprintf("private %s(int number, %s name, Known known) {", e.Name, text), func() {
			f.P("this.number = number;")
			f.P("this.name = name;")
			f.P("this.known = known;")
		}, "}")
		f.P("")
		f.doc("Is the member with a number, listed or not.", "", "@param number 0 to 65535", "@return the member")
		f.In(fmt.Sprintf("public static %s ofNumber(int number) {", e.Name), func() {
			f.In("return switch (number) {", func() {
				for _, m := range e.Members {
					f.P("case %d -> %s;", m.Number, MemberName(m))
				}
				f.In("default -> {", func() {
					f.In("if (number < 0 || number > 65535) {", func() {
						f.P("throw new %s(\"the number of a member is 0 to 65535, not \" + number);", f.lang("IllegalArgumentException"))
					}, "}")
					f.P("yield new %s(number, null, Known.UNLISTED);", e.Name)
				}, "}")
			}, "};")
		}, "}")
		f.P("")
		f.doc("Is the member with a name in JSON, listed or not.", "", "@param name its name", "@return the member")
		f.In(fmt.Sprintf("public static %s ofName(%s name) {", e.Name, text), func() {
			f.In("return switch (name) {", func() {
				for _, m := range e.Members {
					f.P("case %s -> %s;", quote(m.JSONName()), MemberName(m))
				}
				f.P("default -> new %s(-1, name, Known.UNLISTED);", e.Name)
			}, "};")
		}, "}")
		f.P("")
		f.returns("the member for a `switch`, or `UNLISTED`")
		f.In("public Known known() {", func() { f.P("return known;") }, "}")
		f.P("")
		f.returns("whether the member is listed")
		f.In("public boolean isListed() {", func() { f.P("return known != Known.UNLISTED;") }, "}")
		f.P("")
		optional := f.use("java.util.OptionalInt")
		f.returns("its number, which a name that is not listed has not")
		f.In(fmt.Sprintf("public %s number() {", optional), func() {
			f.P("return number < 0 ? %s.empty() : %s.of(number);", optional, optional)
		}, "}")
		f.P("")
		f.returns("its name in JSON, or the digits of a number that is not listed")
		f.In(fmt.Sprintf("public %s name() {", text), func() {
			f.P("return name == null ? %s.toString(number) : name;", f.lang("Integer"))
		}, "}")
		f.P("")
		f.doc("Is how maps are read and written whose keys are these members.", "", "@return the keys")
		f.In(fmt.Sprintf("public static %s<%s> keys() {", key, e.Name), func() { f.P("return Coding.KEYS;") }, "}")
		f.P("")
		f.P("%s", f.override())
		f.In(fmt.Sprintf("public boolean equals(%s other) {", f.lang("Object")), func() {
			f.P("return other instanceof %s o && number == o.number && %s.equals(name, o.name);", e.Name,
				f.use("java.util.Objects"))
		}, "}")
		f.P("")
		f.P("%s", f.override())
		f.In("public int hashCode() {", func() { f.P("return number < 0 ? name.hashCode() : number;") }, "}")
		f.P("")
		f.returns("its name; `#7` or `?name` where it is not listed")
		f.P("%s", f.override())
		f.In(fmt.Sprintf("public %s toString() {", text), func() {
			f.P("return isListed() ? name : name == null ? \"#\" + number : \"?\" + name;")
		}, "}")
		f.P("")
		f.enumCoding(e)
	}, "}")
	f.close()
}

func (f *file) enumCoding(e *schema.Enum) {
	var names []string
	for _, m := range e.Members {
		names = append(names, m.JSONName())
	}
	f.In(fmt.Sprintf("private static final class Coding extends %s<%s> {", f.wire("Codec"), e.Name), func() {
		f.P("private static final %s<%s> KEYS =", f.wire("Key"), e.Name)
		f.Deeper(2, func() {
			f.P("%s;", stubs.Bare(f.wire("Key")+".member(", []string{e.Name + "::ofNumber", e.Name + "::ofName",
				"e -> e.number", e.Name + "::name", quote(e.Name)}, ")"))
		})
		f.P("")
		f.coding("writeCbor", "CborWriter w", e.Name+" e", "void", func() {
			f.P("w.member(e.number, %s, e.name);",
				quote(e.Name))
		})
		f.coding("readCbor", "CborReader r", "", e.Name, func() { f.P("return ofNumber(r.member());") })
		f.coding("writeJson", "JsonWriter w", e.Name+" e", "void", func() {
			f.P("w.member(e.number, e.name, e.isListed(), %s);", quote(e.Name))
		})
		f.coding("readJson", "JsonReader r", "", e.Name, func() {
			f.P("return r.member(%s, %s::ofNumber, %s::ofName);", quote(e.Name), e.Name, e.Name)
		})
		f.coding("violations", "Violations v", e.Name+" e", "void", func() {
			f.In("if (!e.isListed()) {", func() { f.P("v.refuseUnlisted(\"\", %s);", quote(strings.Join(names, ", "))) }, "}")
		})
		f.Blank(0)
	}, "}")
}

// coding writes a method of a codec; the first parameter's type is one of the support package.
func (f *file) coding(name, first, second, result string, body func()) {
	typ, variable, _ := strings.Cut(first, " ")
	parameters := f.wire(typ) + " " + variable
	if second != "" {
		parameters += ", " + second
	}
	f.P("%s", f.override())
	f.In(fmt.Sprintf("protected %s %s(%s) {", result, name, parameters), body, "}")
	f.P("")
}

// field is what a class has for a field of a message.
type field struct {
	*schema.Field
	accessor string // its name, in the builder too
	variable string // of the class and its builder
}

// fieldsOf are the fields of a message.
func (f *file) fieldsOf(m *schema.Message) []field {
	list := make([]field, len(m.Fields))
	root, _, _ := strings.Cut(f.types, ".")
	for i, x := range m.Fields {
		name := FieldName(x)
		list[i] = field{Field: x, accessor: name, variable: name}
		if name == "java" || name == root || name == "unlisted" || strings.HasPrefix(name, "set") && m.IsPatch() {
			list[i].variable = name + "__" // a full name would be taken for it, or a variable of our own
		}
	}
	return list
}

// stored is the type of the variable that holds a field.
func (f *file) stored(x *schema.Field) string {
	switch {
	case x.Changes != nil:
		return f.wire("Change") + "<" + f.object(x.Type) + ">"
	case x.IsRaw():
		return f.wire("Body")
	case x.Presence == schema.Optional:
		return f.object(x.Type)
	}
	return f.typ(x.Type)
}

// given is the type of the value that sets a field.
func (f *file) given(x *schema.Field) string {
	if x.Changes != nil {
		return f.typ(x.Type)
	}
	return f.stored(x)
}

// shown is the type that an accessor returns.
func (f *file) shown(x *schema.Field) string {
	if x.Changes == nil && x.Presence == schema.Optional {
		return f.use("java.util.Optional") + "<" + f.object(x.Type) + ">"
	}
	return f.stored(x)
}

// message writes the class of a message, an error or a patch.
func (o *output) message(m *schema.Message) {
	f := o.open(m.Module, m.Name, "Builder", "Coding", "Serialized")
	body := stubs.NewCode("  ")
	list := f.fieldsOf(m)
	what := "message"
	switch {
	case m.IsError():
		what = "error"
	case m.IsPatch():
		what = "patch"
	}
	doc := otherwise(m.Doc, fmt.Sprintf("Is the %s %s.", what, m.FullName()))
	if m.IsPatch() {
		doc = fmt.Sprintf("Is what of a %s is to be changed: each field is left, set or cleared.", m.PatchOf.Name)
	}
	outer := f.Code
	f.Code = body
	extends := ""
	if m.IsError() {
		extends = " extends " + f.wire("DeclaredException")
	}
	f.In(fmt.Sprintf("public final class %s%s {", m.Name, extends), func() {
		if m.IsError() {
			f.P("private static final long serialVersionUID = 1L;")
			f.P("")
		}
		if m.Raw() == nil {
			f.doc(fmt.Sprintf("Reads and writes values of %s.", m.Name), "")
			f.P("public static final %s<%s> CODEC = new Coding();", f.wire("Codec"), m.Name)
			f.P("")
		}
		final := "final"
		if m.IsError() {
			final = "final transient"
		}
		for _, x := range list {
			f.P("private %s %s %s;", final, f.stored(x.Field), x.variable)
		}
		f.P("private %s %s unlisted; // or null", final, f.wire("UnlistedFields"))
		f.P("")
		f.In(fmt.Sprintf("private %s(Builder b) {", m.Name), func() {
			if m.IsError() {
				line, _, _ := strings.Cut(otherwise(m.Doc, m.Name), "\n")
				f.P("super(%s);", quote(m.FullName()+": "+line))
			}
			for _, x := range list {
				f.P("this.%s = b.%s;", x.variable, x.variable)
			}
			f.P("this.unlisted = b.unlisted;")
		}, "}")
		f.P("")
		f.doc("Begins a value.", "", "@return a builder, in which nothing is set but what has a default")
		f.In("public static Builder builder() {", func() { f.P("return new Builder();") }, "}")
		f.P("")
		f.doc("Begins a value that is like this one.", "", "@return a builder, in which all is set as it is here")
		f.In("public Builder toBuilder() {", func() {
			f.P("Builder b = new Builder();")
			for _, x := range list {
				f.P("b.%s = this.%s;", x.variable, x.variable)
			}
			f.P("b.unlisted = this.unlisted;")
			for i := range words(m) {
				f.P("b.set%d = -1L;", i)
			}
			f.P("return b;")
		}, "}")
		f.P("")
		for _, x := range list {
			f.accessor(x)
		}
		f.returns("what was read and these definitions do not list, if there was anything")
		optional := f.use("java.util.Optional")
		f.In(fmt.Sprintf("public %s<%s> unlistedFields() {", optional, f.wire("UnlistedFields")), func() {
			f.P("return %s.ofNullable(unlisted);", optional)
		}, "}")
		f.P("")
		if m.IsPatch() {
			f.applying(m)
		}
		if m.IsError() {
			f.errorMethods(m)
		}
		f.vocabulary(m)
		f.comparing(m, list)
		f.builder(m, list)
		f.P("")
		if m.Raw() == nil {
			f.messageCoding(m, list)
		} else {
			f.rawCoding(m, list)
		}
		f.Blank(0)
	}, "}")
	f.Code = outer
	f.doc(doc, m.Deprecated)
	f.deprecation(m.Deprecated)
	f.suppress()
	f.Add(body.Bytes())
	f.close()
}

// suppress quiets what the compiler says of things that the definitions deprecate and still use.
func (f *file) suppress() {
	if f.deprecated {
		f.P("@%s(\"deprecation\")", f.lang("SuppressWarnings"))
	}
}

// words is how many words of 64 bits mark the fields that are set.
func words(m *schema.Message) int { return (len(m.Fields) + 63) / 64 }

// requiredBits are the bits of required fields in a word.
func requiredBits(m *schema.Message, word int) (bits uint64) {
	for i := word * 64; i < min(len(m.Fields), (word+1)*64); i++ {
		if m.Fields[i].Presence == schema.Required && m.Fields[i].Changes == nil {
			bits |= 1 << (i % 64)
		}
	}
	return bits
}

func bitsLiteral(bits uint64) string { return fmt.Sprintf("0x%xL", bits) }

// accessor writes the method that returns a field.
func (f *file) accessor(x field) {
	doc := otherwise(x.Doc, fmt.Sprintf("Is the field %s.", x.Name))
	switch {
	case x.Changes != nil:
		doc = fmt.Sprintf("Is what becomes of the field %s.", x.Changes.Name)
	case x.Type.Kind == schema.KindUint64 && !isRecord(x.Type):
		doc += "\n\nThe bits of the long are unsigned."
	}
	f.doc(doc, x.Deprecated, "@return the value"+map[bool]string{true: ", if there is one",
		false: ""}[x.Changes == nil && x.Presence == schema.Optional])
	f.deprecation(x.Deprecated)
	f.In(fmt.Sprintf("public %s %s() {", f.shown(x.Field), x.accessor), func() {
		value := x.variable
		if x.Changes == nil && holdsBytes(x.Type) && !x.IsRaw() {
			value = f.copy(x.Type, value, 0)
		}
		if x.Changes == nil && x.Presence == schema.Optional {
			value = f.use("java.util.Optional") + ".ofNullable(" + value + ")"
		}
		f.P("return %s;", value)
	}, "}")
	f.P("")
}

// copy writes the copy of a value that others could change.
func (f *file) copy(t *schema.Type, value string, depth int) string {
	values := f.wire("Values")
	if t.Kind == schema.KindBytes || !isMutable(t.Elem) {
		return fmt.Sprintf("%s.copy(%s)", values, value)
	}
	item := numbered("x", depth)
	return fmt.Sprintf("%s.copy(%s, %s -> %s)", values, value, item, f.copy(t.Elem, item, depth+1))
}

// numbered is a variable's name, told apart from those around it.
func numbered(name string, depth int) string {
	if depth == 0 {
		return name
	}
	return name + strconv.Itoa(depth+1)
}

func (f *file) errorMethods(m *schema.Message) {
	f.P("%s", f.override())
	f.In(fmt.Sprintf("public %s errorName() {", f.lang("String")), func() { f.P("return %s;", quote(m.FullName())) }, "}")
	f.P("")
	f.P("%s", f.override())
	f.In("public int errorStatus() {", func() { f.P("return %d;", m.Status) }, "}")
	f.P("")
	if len(m.Fields) > 0 {
		f.P("%s", f.override())
		f.In(fmt.Sprintf("public %s getMessage() {", f.lang("String")), func() {
			f.P("return super.getMessage() + \" \" + CODEC.toText(this);")
		}, "}")
		f.P("")
	}
	f.doc("Is written by serialization in the place of the error.", "", "@return its fields as CBOR")
	object := f.lang("Object")
	f.In(fmt.Sprintf("private %s writeReplace() {", object), func() { f.P("return new Serialized(toCbor());") }, "}")
	f.P("")
	f.In("private static final class Serialized implements java.io.Serializable {", func() {
		f.P("private static final long serialVersionUID = 1L;")
		f.P("")
		f.P("private final byte[] cbor;")
		f.P("")
		f.In("private Serialized(byte[] cbor) {", func() { f.P("this.cbor = cbor;") }, "}")
		f.P("")
		f.In(fmt.Sprintf("private %s readResolve() {", object), func() { f.P("return fromCbor(cbor);") }, "}")
	}, "}")
	f.P("")
}

// vocabulary writes what every message can do.
func (f *file) vocabulary(m *schema.Message) {
	text := f.lang("String")
	if m.Raw() == nil {
		f.doc("Writes this as CBOR.", "", "@return the payload",
			"@throws "+f.wire("PayloadException")+" if it can't be written")
		f.overriding(m)
		f.In("public byte[] toCbor() {", func() { f.P("return CODEC.toCbor(this);") }, "}")
		f.P("")
		f.doc("Reads a value from CBOR.", "", "@param data the payload, all of it", "@return what was read",
			"@throws "+f.wire("PayloadException")+" if it can't be read")
		f.In(fmt.Sprintf("public static %s fromCbor(byte[] data) {", m.Name),
			func() { f.P("return CODEC.fromCbor(data);") }, "}")
		f.P("")
		f.doc("Writes this as JSON.", "", "@return the payload",
			"@throws "+f.wire("PayloadException")+" if it can't be written")
		f.overriding(m)
		f.In(fmt.Sprintf("public %s toJson() {", text), func() { f.P("return CODEC.toJson(this);") }, "}")
		f.P("")
		f.doc("Reads a value from JSON.", "", "@param text the payload, all of it", "@return what was read",
			"@throws "+f.wire("PayloadException")+" if it can't be read")
		f.In(fmt.Sprintf("public static %s fromJson(%s text) {", m.Name, text),
			func() { f.P("return CODEC.fromJson(text);") }, "}")
		f.P("")
		f.doc("Reads a value from JSON.", "", "@param data the payload in UTF-8, all of it", "@return what was read",
			"@throws "+f.wire("PayloadException")+" if it can't be read")
		f.In(fmt.Sprintf("public static %s fromJson(byte[] data) {", m.Name),
			func() { f.P("return CODEC.fromJson(data);") }, "}")
		f.P("")
		f.doc("Writes this to a stream.", "", "@param encoding CBOR or JSON", "@param out where it goes, which stays open",
			"@throws "+f.use("java.io.IOException")+" if the stream fails",
			"@throws "+f.wire("PayloadException")+" if it can't be written")
		f.In(fmt.Sprintf("public void writeTo(%s encoding, %s out) throws %s {", f.wire("Encoding"),
			f.use("java.io.OutputStream"), f.use("java.io.IOException")), func() {
			f.P("CODEC.writeTo(this, encoding, out);")
		}, "}")
		f.P("")
	}
	f.doc("Lists every way in which this violates the definitions.", "", "@return what is wrong, nothing if all is well")
	f.In(fmt.Sprintf("public %s<%s> violations() {", f.use("java.util.List"), f.wire("Violation")), func() {
		if m.Raw() == nil {
			f.P("return CODEC.violations(this);")
			return
		}
		f.P("%s v = new %s();", f.wire("Violations"), f.wire("Violations"))
		f.P("Coding.violations(v, this);")
		f.P("return v.found();")
	}, "}")
	f.P("")
	f.doc("Throws if this violates the definitions.", "",
		"@throws "+f.wire("InvalidRequestException")+" with every violation")
	f.In("public void validate() {", func() {
		f.P("%s<%s> found = violations();", f.use("java.util.List"), f.wire("Violation"))
		f.In("if (!found.isEmpty()) {", func() { f.P("throw new %s(found);", f.wire("InvalidRequestException")) }, "}")
	}, "}")
	f.P("")
}

// overriding marks methods that every error has.
func (f *file) overriding(m *schema.Message) {
	if m.IsError() {
		f.P("%s", f.override())
	}
}

// comparing writes equals, hashCode and toString.
func (f *file) comparing(m *schema.Message, list []field) {
	if m.Raw() == nil && !m.IsError() {
		f.P("%s", f.override())
		f.In(fmt.Sprintf("public boolean equals(%s other) {", f.lang("Object")), func() {
			f.In("if (this == other) {", func() { f.P("return true;") }, "}")
			f.P("return other instanceof %s o", m.Name)
			f.Deeper(2, func() {
				for _, x := range list {
					f.P("&& %s", f.same(x.Field, x.variable, "o."+x.variable))
				}
				f.P("&& %s.equals(unlisted, o.unlisted);", f.use("java.util.Objects"))
			})
		}, "}")
		f.P("")
		f.P("%s", f.override())
		f.In("public int hashCode() {", func() {
			var variables []string
			for _, x := range list {
				variables = append(variables, x.variable)
			}
			f.P("return %s;", stubs.Bare(f.wire("Values")+".hashAll(", append(variables, "unlisted"), ")"))
		}, "}")
		f.P("")
	}
	if m.IsError() {
		return
	}
	f.returns("this as JSON for people and logs, without what is secret")
	f.P("%s", f.override())
	f.In(fmt.Sprintf("public %s toString() {", f.lang("String")), func() {
		if m.Raw() == nil {
			f.P("return CODEC.toText(this);")
		} else {
			f.P("return Coding.text(this);")
		}
	}, "}")
	f.P("")
}

// same writes the condition that a field is the same in two messages.
func (f *file) same(x *schema.Field, a, b string) string {
	switch {
	case x.Changes != nil:
		return fmt.Sprintf("%s.equals(%s)", a, b)
	case x.Presence != schema.Optional && isPrimitive(x.Type) && isPlain(x.Type):
		return fmt.Sprintf("%s == %s", a, b)
	case x.Presence != schema.Optional && isPlain(x.Type):
		return fmt.Sprintf("%s.equals(%s)", a, b)
	case isPlain(x.Type):
		return fmt.Sprintf("%s.equals(%s, %s)", f.use("java.util.Objects"), a, b)
	}
	return fmt.Sprintf("%s.same(%s, %s)", f.wire("Values"), a, b)
}

// builder writes the class that values are made with.
func (f *file) builder(m *schema.Message, list []field) {
	f.doc(fmt.Sprintf("Makes values of %s.", m.Name), "")
	f.In("public static final class Builder {", func() {
		for i := range words(m) {
			f.P("private long set%d; // a bit for each field", i)
		}
		for _, x := range list {
			initial := ""
			switch {
			case x.Changes != nil:
				initial = " = " + f.wire("Change") + ".left()"
			case x.Presence == schema.Defaulted:
				initial = " = " + f.literal(x.Type, x.Default)
			}
			f.P("private %s %s%s;", f.stored(x.Field), x.variable, initial)
		}
		f.P("private %s unlisted;", f.wire("UnlistedFields"))
		f.P("")
		f.P("private Builder() {}")
		f.P("")
		for i, x := range list {
			if x.Changes != nil {
				f.patchSetters(x)
			} else {
				f.setter(i, x)
			}
		}
		f.doc("Passes on what another message was read with.", "",
			"@param fields what these definitions do not list, or null",
			"@return this")
		f.In(fmt.Sprintf("public Builder unlistedFields(%s fields) {", f.wire("UnlistedFields")), func() {
			f.P("unlisted = fields;")
			f.P("return this;")
		}, "}")
		f.P("")
		f.building(m)
	}, "}")
}

func (f *file) setter(i int, x field) {
	doc := otherwise(x.Doc, fmt.Sprintf("Sets the field %s.", x.Name))
	value := "@param " + x.accessor + " the value"
	switch x.Presence {
	case schema.Optional:
		value += ", or null for none"
	case schema.Defaulted:
		value += fmt.Sprintf("; %s if it is not set", html(schema.LiteralText(x.Default)))
	}
	f.doc(doc, x.Deprecated, value, "@return this")
	f.deprecation(x.Deprecated)
	f.In(fmt.Sprintf("public Builder %s(%s %s) {", x.accessor, f.given(x.Field), x.variable), func() {
		nothing := x.Presence == schema.Optional
		v := x.variable
		switch {
		case nothing && x.Type.Kind == schema.KindAny:
			v = f.wire("Any") + ".present(" + v + ")"
		case !isPrimitive(x.Type) && !nothing:
			v = fmt.Sprintf("%s.requireNonNull(%s, %s)", f.use("java.util.Objects"), v, quote(x.accessor))
		}
		if isMutable(x.Type) && !x.IsRaw() {
			v = f.copy(x.Type, v, 0)
		}
		f.P("this.%s = %s;", x.variable, v)
		if x.Presence == schema.Required {
			f.P("set%d |= %s;", i/64, bitsLiteral(1<<(i%64)))
		}
		f.P("return this;")
	}, "}")
	f.P("")
}

// building writes build, which names all that is missing.
func (f *file) building(m *schema.Message) {
	required := false
	for i := range words(m) {
		required = required || requiredBits(m, i) != 0
	}
	tags := []string{"@return it"}
	if required {
		tags = append(tags,
			"@throws "+f.lang("IllegalStateException")+" if a required field was not set, with the names of all of these")
	}
	f.doc("Makes the value.", "", tags...)
	f.In(fmt.Sprintf("public %s build() {", m.Name), func() {
		if required {
			var parts []string
			for i := range words(m) {
				if bits := requiredBits(m, i); bits != 0 {
					parts = append(parts, fmt.Sprintf("(set%d & %s) != %s", i, bitsLiteral(bits), bitsLiteral(bits)))
				}
			}
			f.In("if ("+strings.Join(parts, " || ")+") {", func() { f.P("throw missing();") }, "}")
		}
		f.P("return new %s(this);", m.Name)
	}, "}")
	if !required {
		return
	}
	f.P("")
	state := f.lang("IllegalStateException")
	f.In(fmt.Sprintf("private %s missing() {", state), func() {
		list := f.use("java.util.List")
		f.P("%s<%s> names = new %s<>();", list, f.lang("String"), f.use("java.util.ArrayList"))
		for i, x := range m.Fields {
			if x.Presence == schema.Required {
				f.In(fmt.Sprintf("if ((set%d & %s) == 0) {", i/64, bitsLiteral(1<<(i%64))), func() {
					f.P("names.add(%s);", quote(FieldName(x)))
				}, "}")
			}
		}
		f.P("return new %s(%s + %s.join(\", \", names));", state, quote(m.Name+" lacks what is required: "), f.lang("String"))
	}, "}")
}

// ofAll writes a class whose one method takes every field, so that it stops compiling where a field is added.
func (o *output) ofAll(m *schema.Message) {
	units := 0
	var parameters, tags []string
	f := o.open(m.Module, m.Name+"OfAll")
	list := f.fieldsOf(m)
	for _, x := range list {
		f.deprecated = f.deprecated || x.Deprecated != ""
		units++
		if x.Presence != schema.Optional && (f.typ(x.Type) == "long" || f.typ(x.Type) == "double") {
			units++
		}
		parameters = append(parameters, f.stored(x.Field)+" "+x.variable)
		tags = append(tags, "@param "+x.variable+" "+otherwise(strings.Split(html(x.Doc), "\n")[0], "the field "+x.Name))
	}
	if units > 255 {
		o.err = fmt.Errorf("exhaustive = true: %s has more fields than a method of Java has parameters; leave it out for "+
			"this "+
			"output, or split the message", m.FullName())
		return
	}
	f.doc(fmt.Sprintf("Makes a %s of every field. It is outside of the promise that code goes on compiling when "+
		"fields are added.",
		m.Name), "")
	name := f.name(&m.Decl)
	f.suppress()
	f.In(fmt.Sprintf("public final class %sOfAll {", m.Name), func() {
		f.P("private %sOfAll() {}", m.Name)
		f.P("")
		f.doc("Makes a value.", "", append(tags, "@return it")...)
		f.In("public static "+name+" "+stubs.Bare("of(", parameters, ")")+" {", func() {
			f.P("return %s.builder()", name)
			for _, x := range list {
				f.P("    .%s(%s)", x.accessor, x.variable)
			}
			f.P("    .build();")
		}, "}")
	}, "}")
	f.close()
}

// rawBounds is what the definitions say of a body that is sent as it is.
func (f *file) rawBounds(raw *schema.Field) string {
	low, high := conversation.RawLength(raw)
	return fmt.Sprintf("new %s(%s, %dL, %dL)", f.wire("BodyBounds"), quote(raw.In.Name), low, high)
}
