package rust

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// codecOf writes how values of a type are read and written.
func (f *file) codecOf(name string, parts map[string]func()) {
	f.In(fmt.Sprintf("impl wire::Codec for %s {", name), func() {
		f.P("type Value = Self;")
		f.P("")
		for _, method := range []struct{ name, signature string }{
			{"write_cbor", "fn write_cbor(value: &Self, w: &mut wire::CborWriter) {"},
			{"read_cbor", "fn read_cbor(r: &mut wire::CborReader<'_>) -> Result<Self, wire::ReadError> {"},
			{"write_json", "fn write_json(value: &Self, w: &mut wire::JsonWriter) {"},
			{"read_json", "fn read_json(r: &mut wire::JsonReader<'_>) -> Result<Self, wire::ReadError> {"},
			{"violations", "fn violations(value: &Self, v: &mut wire::Violations) {"},
		} {
			if body := parts[method.name]; body != nil {
				f.In(method.signature, body, "}")
				f.P("")
			}
		}
		f.In("fn same(a: &Self, b: &Self) -> bool {", func() { f.P("a == b") }, "}")
		f.P("")
		f.In("fn hash<H: std::hash::Hasher>(value: &Self, state: &mut H) {", func() {
			f.P("std::hash::Hash::hash(value, state);")
		}, "}")
	}, "}")
	f.P("")
}

func (f *file) enumCodec(e *schema.Enum) {
	var names []string
	for _, m := range e.Members {
		names = append(names, m.JSONName())
	}
	listed := quote(strings.Join(names, ", "))
	f.codecOf(e.Name, map[string]func(){
		"write_cbor": func() {
			f.In("match value {", func() {
				f.P("Self::Unlisted(member) => w.unlisted_member(%s, member),", quote(e.Name))
				f.P("listed => w.member(listed.number().unwrap_or_default()),")
			}, "}")
		},
		"read_cbor": func() { f.P("r.member().map(Self::from_number)") },
		"write_json": func() {
			f.In("match value {", func() {
				f.P("Self::Unlisted(member) => w.unlisted_member(%s, member),", quote(e.Name))
				f.P("listed => w.text(listed.name().unwrap_or_default()),")
			}, "}")
		},
		"read_json": func() { f.P("r.member(%s, Self::from_number, Self::from_name)", quote(e.Name)) },
		"violations": func() {
			f.In("if let Self::Unlisted(_) = value {", func() { f.P("v.refuse_unlisted(%s);", listed) }, "}")
		},
	})
	f.In(fmt.Sprintf("impl PartialOrd for %s {", e.Name), func() {
		f.In("fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {", func() { f.P("Some(self.cmp(other))") },
			"}")
	}, "}")
	f.P("")
	f.doc("Members are ordered by number; those of which only the name is known come last.")
	f.In(fmt.Sprintf("impl Ord for %s {", e.Name), func() {
		f.In("fn cmp(&self, other: &Self) -> std::cmp::Ordering {", func() {
			f.P("let rank = |member: &Self| member.number().map_or(u32::MAX, u32::from);")
			f.P("rank(self)")
			f.P("    .cmp(&rank(other))")
			f.P("    .then_with(|| self.name().cmp(&other.name()))")
		}, "}")
	}, "}")
	f.P("")
	f.In(fmt.Sprintf("impl wire::Key for %s {", e.Name), func() {
		f.P("const IN_ORDER: bool = true;")
		f.P("")
		f.In("fn write_cbor_key(&self, w: &mut wire::CborWriter) {", func() {
			f.P("<Self as wire::Codec>::write_cbor(self, w);")
		}, "}")
		f.P("")
		f.In("fn read_cbor_key(r: &mut wire::CborReader<'_>) -> Result<Self, wire::ReadError> {", func() {
			f.P("<Self as wire::Codec>::read_cbor(r)")
		}, "}")
		f.P("")
		f.In("fn write_json_key(&self, w: &mut wire::JsonWriter) {", func() {
			f.P("w.member(&self.text());")
			f.In("if let Self::Unlisted(member) = self {", func() { f.P("w.unlisted_key(%s, member);", quote(e.Name)) }, "}")
		}, "}")
		f.P("")
		f.In("fn read_json_key(name: &str, r: &wire::JsonReader<'_>) -> Result<Self, wire::ReadError> {", func() {
			f.P("wire::member_key(name, r, Self::from_number, Self::from_name)")
		}, "}")
		f.P("")
		f.In("fn text(&self) -> std::borrow::Cow<'_, str> {", func() {
			f.In("match (self.name(), self.number()) {", func() {
				f.P("(Some(name), _) => name.into(),")
				f.P("(None, number) => number.unwrap_or_default().to_string().into(),")
			}, "}")
		}, "}")
		f.P("")
		f.In("fn compare(&self, other: &Self) -> std::cmp::Ordering {", func() { f.P("self.cmp(other)") }, "}")
		f.P("")
		f.In("fn key_violations(&self, v: &mut wire::Violations) {", func() {
			f.P("<Self as wire::Codec>::violations(self, v);")
		}, "}")
	}, "}")
	f.P("")
}

// table writes what readers and writers know of fields or alternatives.
func (f *file) table(constant, name string, numbers []int, names []string) {
	var ns, quoted, heads []string
	for i, n := range numbers {
		ns = append(ns, digits(fmt.Sprint(n)))
		quoted = append(quoted, quote(names[i]))
		heads = append(heads, quote(","+jsonText(names[i])+":"))
	}
	f.In(fmt.Sprintf("const %s: &wire::Fields = &wire::Fields {", constant), func() {
		f.P("message: %s,", quote(name))
		f.P("%s,", stubs.Rows("numbers: &[", ns, "]"))
		f.P("%s,", stubs.Rows("names: &[", quoted, "]"))
		f.P("%s,", stubs.Rows("heads: &[", heads, "]"))
	}, "};")
}

// jsonText writes a text as JSON does.
func jsonText(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteString(`\` + string(r))
		case r == '\b':
			b.WriteString(`\b`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\f':
			b.WriteString(`\f`)
		case r == '\r':
			b.WriteString(`\r`)
		case r < 0x20:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}

// index writes the function that finds a name.
func (f *file) index(names []string) {
	f.In("fn index(name: &[u8]) -> Option<usize> {", func() {
		if len(names) == 0 {
			f.P("let _ = name;")
			f.P("None")
			return
		}
		f.In("match name {", func() {
			for i, name := range names {
				f.P("%s => Some(%d),", bytesText(name), i)
			}
			f.P("_ => None,")
		}, "}")
	}, "}")
}

// bytesText writes a text as its bytes.
func bytesText(s string) string {
	var b strings.Builder
	b.WriteString(`b"`)
	for _, c := range []byte(s) {
		switch {
		case c == '"' || c == '\\':
			b.WriteString(`\` + string(rune(c)))
		case c < 0x20 || c >= 0x7f:
			fmt.Fprintf(&b, `\x%02x`, c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String() + `"`
}

// slot is the type of what holds a field while a message is read.
func (f *file) slot(x *schema.Field) string {
	stored := f.stored(x)
	if x.Changes == nil && x.Presence == schema.Optional {
		stored = strings.TrimSuffix(strings.TrimPrefix(stored, "Option<"), ">")
	}
	return "wire::Slot<" + stored + ">"
}

// messageCodec writes how a message is read and written.
func (f *file) messageCodec(m *schema.Message) {
	f.partial(m)
	f.codecOf(m.Name, map[string]func(){
		"write_cbor": func() { f.writeOf(m, m, false) },
		"read_cbor": func() {
			f.P("let (partial, unlisted) = r.message::<%sPartial_>()?;", m.Name)
			f.P("%s", f.finished(m))
		},
		"write_json": func() { f.writeOf(m, m, true) },
		"read_json": func() {
			f.P("let (partial, unlisted) = r.message::<%sPartial_>()?;", m.Name)
			f.P("%s", f.finished(m))
		},
		"violations": func() { f.violations(m) },
	})
}

// finished writes what makes a message of what was read.
func (f *file) finished(m *schema.Message) string {
	if !hasRequired(m) {
		return "Ok(partial.finish(unlisted))"
	}
	return "partial.finish(unlisted).map_err(|name| r.missing(name))"
}

// hasRequired tells messages that can't be made of nothing.
func hasRequired(m *schema.Message) bool {
	required := func(x *schema.Field) bool { return x.Presence == schema.Required }
	return !m.IsPatch() && slices.ContainsFunc(m.Fields, required)
}

// writeOf writes the statements that write a message, of whose fields m has those that are written.
func (f *file) writeOf(m, whole *schema.Message, json bool) {
	mutable := ""
	if len(m.Fields) > 0 {
		mutable = " mut"
	}
	unlisted := "&value.unlisted"
	if f.service != nil {
		unlisted = "value.unlisted()"
	}
	var required int
	var counted []string
	for _, x := range m.Fields {
		switch {
		case x.Changes != nil:
			counted = append(counted, fmt.Sprintf("!matches!(value.%s, wire::Change::Left)", FieldName(x)))
		case x.Presence == schema.Optional && x.Type.Kind == schema.KindAny:
			counted = append(counted, fmt.Sprintf("wire::present(&value.%s).is_some()", FieldName(x)))
		case x.Presence == schema.Optional:
			counted = append(counted, fmt.Sprintf("value.%s.is_some()", FieldName(x)))
		default:
			required++
		}
	}
	end := "end"
	if json {
		end = "end_message"
		if len(m.Fields) > 0 {
			f.P("let fields = <%sPartial_ as wire::Partial>::FIELDS;", f.name(&whole.Decl))
		}
		f.P("let%s rest = w.begin_message(%s);", mutable, unlisted)
	} else {
		if len(counted) > 0 {
			f.P("let mut count = %d;", required)
			for _, c := range counted {
				f.P("count += usize::from(%s);", c)
			}
		}
		count := fmt.Sprint(required)
		if len(counted) > 0 {
			count = "count"
		}
		f.P("let%s rest = w.begin(%s, %s);", mutable, count, unlisted)
	}
	secret := func(x *schema.Field) bool {
		return json && x.Secret && !(x.Type.Named != nil && x.Type.Named.Secret)
	}
	method := "write_cbor"
	if json {
		method = "write_json"
	}
	for _, x := range m.Fields {
		head := fmt.Sprintf("w.field(&mut rest, %d);", x.Number)
		if json {
			head = fmt.Sprintf("w.field(&mut rest, fields, %d);", slices.Index(whole.Fields, x))
		}
		codec := f.fieldCodec(x)
		one := func(value string) {
			f.P("%s", head)
			write := fmt.Sprintf("<%s as wire::Codec>::%s(%s, w);", codec, method, value)
			if secret(x) {
				f.In("if w.hides() {", func() { f.P("w.secret();") }, "} else {")
				f.Deeper(1, func() { f.P("%s", write) })
				f.P("}")
				return
			}
			f.P("%s", write)
		}
		name := FieldName(x)
		switch {
		case x.Changes != nil:
			f.In(fmt.Sprintf("match &value.%s {", name), func() {
				f.P("wire::Change::Left => {}")
				f.In("wire::Change::Set(value) => {", func() { one("value") }, "}")
				f.In("wire::Change::Cleared => {", func() {
					f.P("%s", head)
					if x.Type.Clearable {
						f.P("w.null();")
					} else {
						f.P("w.cant_clear();")
					}
				}, "}")
			}, "}")
		case x.Presence == schema.Optional:
			open := fmt.Sprintf("if let Some(value) = &value.%s {", name)
			if x.Type.Kind == schema.KindAny {
				open = fmt.Sprintf("if let Some(value) = wire::present(&value.%s) {", name)
			}
			f.In(open, func() { one("value") }, "}")
		default:
			one("&value." + name)
		}
	}
	f.P("w.%s(rest);", end)
}

// partial writes a message while it is read. No name of the definitions ends in "_".
func (f *file) partial(m *schema.Message) {
	f.P("#[doc(hidden)]")
	f.P("#[derive(Default)]")
	f.In(fmt.Sprintf("pub struct %sPartial_ {", m.Name), func() {
		for _, x := range m.Fields {
			f.P("pub(crate) %s: %s,", FieldName(x), f.slot(x))
		}
	}, "}")
	f.P("")
	var numbers []int
	var names []string
	for _, x := range m.Fields {
		numbers = append(numbers, x.Number)
		names = append(names, x.JSONName())
	}
	f.In(fmt.Sprintf("impl wire::Partial for %sPartial_ {", m.Name), func() {
		f.table("FIELDS", m.Name, numbers, names)
		if m.IsPatch() {
			f.P("const PATCH: bool = true;")
		}
		f.P("")
		f.In("fn cbor(&mut self, number: u16, r: &mut wire::CborReader<'_>) -> Result<bool, wire::ReadError> {", func() {
			if len(m.Fields) == 0 {
				f.P("let _ = (number, r);")
				f.P("Ok(false)")
				return
			}
			f.In("match number {", func() {
				for _, x := range m.Fields {
					f.P("%d => %s,", x.Number, f.reading(x, false))
				}
				f.P("_ => return Ok(false),")
			}, "}?;")
			f.P("Ok(true)")
		}, "}")
		f.P("")
		f.In("fn json(&mut self, index: usize, r: &mut wire::JsonReader<'_>) -> Result<(), wire::ReadError> {", func() {
			if len(m.Fields) == 0 {
				f.P("let _ = (index, r);")
				f.P("Ok(())")
				return
			}
			if len(m.Fields) == 1 {
				f.P("let _ = index;")
				f.P("%s", f.reading(m.Fields[0], true))
				return
			}
			f.In("match index {", func() {
				for i, x := range m.Fields {
					if i == len(m.Fields)-1 {
						f.P("_ => %s,", f.reading(x, true))
					} else {
						f.P("%d => %s,", i, f.reading(x, true))
					}
				}
			}, "}")
		}, "}")
		f.P("")
		f.index(names)
	}, "}")
	f.P("")
	required := hasRequired(m)
	f.In(fmt.Sprintf("impl %sPartial_ {", m.Name), func() {
		result := m.Name
		if required {
			result = fmt.Sprintf("Result<%s, &'static str>", m.Name)
		}
		f.In(fmt.Sprintf("pub(crate) fn finish(self, unlisted: wire::Unlisted) -> %s {", result), func() {
			if len(m.Fields) == 0 {
				f.P("let Self {} = self;")
			}
			open, closing := m.Name+" {", "}"
			if required {
				open, closing = "Ok("+open, "})"
			}
			f.In(open, func() {
				for _, x := range m.Fields {
					name := FieldName(x)
					value := "self." + name
					switch {
					case x.Changes != nil:
						value += ".or(Default::default)"
					case x.Presence == schema.Required:
						value += fmt.Sprintf(".required(%s)?", quote(x.JSONName()))
					case x.Presence == schema.Optional:
						value += ".optional()"
					default:
						value += fmt.Sprintf(".or(|| %s)", f.literal(x.Type, x.Default))
					}
					f.P("%s: %s,", name, value)
				}
				f.P("unlisted,")
			}, closing)
		}, "}")
	}, "}")
	f.P("")
}

// reading is the expression that reads a field into its slot.
func (f *file) reading(x *schema.Field, json bool) string {
	name, codec := FieldName(x), f.fieldCodec(x)
	switch {
	case x.Changes != nil:
		return fmt.Sprintf("r.change::<%s>(&mut self.%s, %t)", codec, name, x.Type.Clearable)
	case x.Presence == schema.Required:
		return fmt.Sprintf("r.once::<%s>(&mut self.%s)", codec, name)
	case !json && x.Type.Kind == schema.KindAny && x.Presence == schema.Optional:
		return fmt.Sprintf("r.maybe_any::<%s>(&mut self.%s)", codec, name)
	}
	method := "once"
	if json {
		method = "maybe"
	}
	return fmt.Sprintf("r.%s::<%s>(&mut self.%s)", method, codec, name)
}
