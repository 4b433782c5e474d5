package rust

import (
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// file writes one module.
type file struct {
	*stubs.Code
	*output
	module  *schema.Module
	service *schema.Service // of whose module the file is, below that of its definitions; or nil
	lacks   []string        // the markers of required fields
}

func (o *output) open(m *schema.Module) *file {
	return &file{Code: stubs.NewCode("    "), output: o, module: m}
}

// source is the module: its documentation, a blank line, and all else.
func (f *file) source() []byte {
	head := stubs.NewCode("    ")
	doc := otherwise(f.module.Doc, fmt.Sprintf("Is the module %s.", f.module.Name))
	if f.service != nil {
		doc = fmt.Sprintf("Is the service %s.", f.service.FullName())
	}
	stubs.Comment(head, "//!", docText(doc))
	head.P("")
	body := f.Bytes()
	uses := 0
	for _, name := range []string{"web", "wire"} {
		if strings.Contains(string(body), name+"::") {
			head.P("use crate::faithful::%s;", name)
			uses++
		}
	}
	if uses > 0 {
		head.P("")
	}
	return append(head.Bytes(), body...)
}

// name writes a declared type.
func (f *file) name(d *schema.Decl) string {
	switch {
	case d.Module == f.module && f.service != nil:
		return "super::" + d.Name
	case d.Module == f.module:
		return d.Name
	}
	return "crate::" + Path(d.Module) + "::" + d.Name
}

// docText is documentation as rustdoc shows it as it is written: brackets are no links, angles no elements.
func docText(text string) string {
	return strings.NewReplacer("[", `\[`, "]", `\]`, "<", `\<`).Replace(strings.TrimSpace(text))
}

func (f *file) doc(text string) { stubs.Comment(f.Code, "///", docText(text)) }

func (f *file) deprecation(why string) {
	if why != "" {
		f.P("#[deprecated = %s]", quote(why))
	}
}

func otherwise(doc, text string) string {
	if doc == "" {
		return text
	}
	return doc
}

// quote writes a text.
func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteString("\\" + string(r))
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case r < 0x20 || r >= 0x7f && r < 0xa0 || r >= 0x2028 && r <= 0x202f || r >= 0x2066 && r <= 0x2069 || r == 0xfeff ||
			r >= 0x200b && r <= 0x200f:
			fmt.Fprintf(&b, "\\u{%x}", r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}

// types writes what a module declares.
func (f *file) types() {
	for _, c := range f.module.Consts {
		f.constant(c)
	}
	for _, n := range f.module.Types {
		f.newtype(n)
	}
	for _, e := range f.module.Enums {
		f.enum(e)
	}
	for _, u := range f.module.Unions {
		f.union(u)
	}
	for _, m := range f.module.Messages {
		f.message(m)
		if p := m.Patch(); p != nil {
			f.message(p)
		}
	}
	f.markers()
	f.Blank(0)
}

// constant writes a constant, or a function where Rust has no constant of the type.
func (f *file) constant(c *schema.Const) {
	f.doc(otherwise(c.Doc, fmt.Sprintf("Is the constant %s.", c.FullName())))
	f.deprecation(c.Deprecated)
	switch c.Type.Kind {
	case schema.KindText:
		f.P("pub const %s: &str = %s;", c.Name, quote(c.Value.(string)))
	case schema.KindBytes:
		f.P("pub const %s: &[u8] = &%s;", c.Name, bytesLiteral(c.Value.([]byte)))
	case schema.KindEnum:
		f.P("pub const %s: %s = %s;", c.Name, f.bare(c.Type), f.literal(c.Type, c.Value))
	default:
		f.P("pub const %s: %s = %s;", c.Name, f.bare(c.Type), f.plainLiteral(c.Type.Kind, c.Value, true))
	}
	f.P("")
}

// literal writes a default of a type.
func (f *file) literal(t *schema.Type, v any) string {
	plain := f.plainLiteral(t.Kind, v, false)
	if t.Named != nil {
		return fmt.Sprintf("%s(%s)", f.name(&t.Named.Decl), plain)
	}
	return plain
}

func (f *file) plainLiteral(k schema.Kind, v any, constant bool) string {
	switch v := v.(type) {
	case string:
		if constant {
			return quote(v)
		}
		return quote(v) + ".to_owned()"
	case []byte:
		return "vec!" + bytesLiteral(v)
	case schema.UUID:
		return "wire::Uuid::from_bytes(" + bytesLiteral(v[:]) + ")"
	case schema.Instant:
		return fmt.Sprintf("wire::Instant::literal(%s, %s)", digits(strconv.FormatInt(v.Seconds, 10)),
			digits(strconv.FormatInt(int64(v.Nanos), 10)))
	case schema.Decimal:
		return fmt.Sprintf("wire::Decimal::literal(%s, %d)", digits(v.Coefficient), v.Scale)
	case schema.Date:
		return fmt.Sprintf("wire::Date::literal(%s)", digits(strconv.FormatInt(int64(v), 10)))
	case schema.Duration:
		return fmt.Sprintf("wire::Duration::from_nanos(%s)", digits(strconv.FormatInt(int64(v), 10)))
	case *schema.Member:
		return f.name(&v.Enum.Decl) + "::" + MemberName(v)
	case float32:
		return floatLiteral(float64(v), 32)
	case float64:
		return floatLiteral(v, 64)
	case int64:
		return digits(strconv.FormatInt(v, 10))
	case uint64:
		return digits(strconv.FormatUint(v, 10))
	}
	return fmt.Sprint(v)
}

func floatLiteral(v float64, bits int) string {
	text := strconv.FormatFloat(v, 'g', -1, bits)
	if strings.Contains(text, "e") {
		return strings.Replace(text, "e+", "e", 1)
	}
	whole, fraction, point := strings.Cut(text, ".")
	if !point {
		fraction = "0"
	}
	return digits(whole) + "." + digitsAfter(fraction)
}

// digits groups the digits of a long number.
func digits(n string) string {
	sign := ""
	if strings.HasPrefix(n, "-") {
		sign, n = "-", n[1:]
	}
	if len(n) < 6 {
		return sign + n
	}
	var b strings.Builder
	for i, c := range n {
		if i > 0 && (len(n)-i)%3 == 0 {
			b.WriteByte('_')
		}
		b.WriteRune(c)
	}
	return sign + b.String()
}

func digitsAfter(n string) string {
	if len(n) < 6 {
		return n
	}
	var parts []string
	for len(n) > 3 {
		parts = append(parts, n[:3])
		n = n[3:]
	}
	return strings.Join(append(parts, n), "_")
}

func bytesLiteral(data []byte) string {
	items := make([]string, len(data))
	for i, b := range data {
		items[i] = strconv.Itoa(int(b))
	}
	return "[" + strings.Join(items, ", ") + "]"
}

func (f *file) debug(name string, body func()) {
	f.In(fmt.Sprintf("impl std::fmt::Debug for %s {", name), func() {
		f.In("fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {", body, "}")
	}, "}")
	f.P("")
}

// compared is a field that is compared by its codec.
type compared struct{ suffix, codec, field string }

// comparing writes what compares floats as definitions do.
func (f *file) comparing(name string, fields []compared, unlisted bool) {
	f.In(fmt.Sprintf("impl PartialEq for %s {", name), func() {
		f.In("fn eq(&self, other: &Self) -> bool {", func() {
			var parts []string
			for _, x := range fields {
				parts = append(parts, fmt.Sprintf("wire::same%s::<%s>(&self.%s, &other.%s)", x.suffix, x.codec, x.field, x.field))
			}
			if unlisted {
				parts = append(parts, "self.unlisted == other.unlisted")
			}
			f.P("%s", strings.Join(parts, "\n            && "))
		}, "}")
	}, "}")
	f.P("")
	f.P("impl Eq for %s {}", name)
	f.P("")
	f.In(fmt.Sprintf("impl std::hash::Hash for %s {", name), func() {
		f.In("fn hash<H: std::hash::Hasher>(&self, state: &mut H) {", func() {
			for _, x := range fields {
				f.P("wire::hash%s::<%s>(&self.%s, state);", x.suffix, x.codec, x.field)
			}
			if unlisted {
				f.P("self.unlisted.hash(state);")
			}
		}, "}")
	}, "}")
	f.P("")
}

// enum writes an enum, which is open.
func (f *file) enum(e *schema.Enum) {
	f.doc(otherwise(e.Doc, fmt.Sprintf("Is the enum %s.", e.FullName())) +
		"\n\nIt is open: a member that is not listed here is preserved.")
	f.deprecation(e.Deprecated)
	f.P("#[derive(Clone, Debug, PartialEq, Eq, Hash)]")
	f.P("#[non_exhaustive]")
	f.In(fmt.Sprintf("pub enum %s {", e.Name), func() {
		for _, m := range e.Members {
			f.doc(otherwise(m.Doc, fmt.Sprintf("Is the member %s.", m.Name)))
			f.deprecation(m.Deprecated)
			f.P("%s,", MemberName(m))
		}
		f.doc("Is any member that these definitions do not list.")
		f.P("Unlisted(wire::UnlistedMember),")
	}, "}")
	f.P("")
	f.In(fmt.Sprintf("impl %s {", e.Name), func() {
		f.doc("Is the member with a number, listed or not.")
		f.P("#[must_use]")
		f.In("pub fn from_number(number: u16) -> Self {", func() {
			f.In("match number {", func() {
				for _, m := range e.Members {
					f.P("%d => Self::%s,", m.Number, MemberName(m))
				}
				f.P("_ => Self::Unlisted(wire::UnlistedMember::Number(number)),")
			}, "}")
		}, "}")
		f.P("")
		f.doc("Is the member with a name in JSON, listed or not.")
		f.P("#[must_use]")
		f.In("pub fn from_name(name: &str) -> Self {", func() {
			f.In("match name {", func() {
				for _, m := range e.Members {
					f.P("%s => Self::%s,", quote(m.JSONName()), MemberName(m))
				}
				f.P("_ => Self::Unlisted(wire::UnlistedMember::Name(name.into())),")
			}, "}")
		}, "}")
		f.P("")
		f.doc("Its number, which a name that is not listed has not.")
		f.P("#[must_use]")
		f.In("pub fn number(&self) -> Option<u16> {", func() {
			f.In("match self {", func() {
				for _, m := range e.Members {
					f.P("Self::%s => Some(%d),", MemberName(m), m.Number)
				}
				f.P("Self::Unlisted(wire::UnlistedMember::Number(number)) => Some(*number),")
				f.P("Self::Unlisted(wire::UnlistedMember::Name(_)) => None,")
			}, "}")
		}, "}")
		f.P("")
		f.doc("Its name in JSON, which a number that is not listed has not.")
		f.P("#[must_use]")
		f.In("pub fn name(&self) -> Option<&str> {", func() {
			f.In("match self {", func() {
				for _, m := range e.Members {
					f.P("Self::%s => Some(%s),", MemberName(m), quote(m.JSONName()))
				}
				f.P("Self::Unlisted(wire::UnlistedMember::Name(name)) => Some(name),")
				f.P("Self::Unlisted(wire::UnlistedMember::Number(_)) => None,")
			}, "}")
		}, "}")
	}, "}")
	f.P("")
	f.In(fmt.Sprintf("impl std::fmt::Display for %s {", e.Name), func() {
		f.In("fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {", func() {
			f.In("match self {", func() {
				f.P("Self::Unlisted(member) => member.fmt(f),")
				f.P("listed => f.write_str(listed.name().unwrap_or_default()),")
			}, "}")
		}, "}")
	}, "}")
	f.P("")
	f.enumCodec(e)
}

// message writes a struct.
func (f *file) message(m *schema.Message) {
	name := m.Name
	doc := otherwise(m.Doc, fmt.Sprintf("Is the message %s.", m.FullName()))
	if m.IsError() {
		doc = otherwise(m.Doc, fmt.Sprintf("Is the error %s.", m.FullName()))
	}
	var fields []compared
	float := false
	for _, x := range m.Fields {
		float = float || isFloat(x.Type)
		suffix := ""
		switch {
		case x.Changes != nil:
			suffix = "_change"
		case x.Presence == schema.Optional:
			suffix = "_option"
		}
		fields = append(fields, compared{suffix, f.fieldCodec(x), FieldName(x)})
	}
	f.doc(doc)
	f.deprecation(m.Deprecated)
	derives := "Clone"
	if !float {
		derives += ", PartialEq, Eq, Hash"
	}
	if m.IsPatch() {
		derives += ", Default"
	}
	f.P("#[derive(%s)]", derives)
	f.In(fmt.Sprintf("pub struct %s {", name), func() {
		for _, x := range m.Fields {
			f.doc(otherwise(x.Doc, fmt.Sprintf("Is the field %s.", x.Name)))
			f.deprecation(x.Deprecated)
			f.P("pub %s: %s,", FieldName(x), f.stored(x))
		}
		f.P("unlisted: wire::Unlisted,")
	}, "}")
	f.P("")
	if float {
		f.comparing(name, fields, true)
	}
	f.debug(name, func() { f.P("f.write_str(&wire::for_people::<Self>(self))") })
	f.vocabulary(m)
	f.messageCodec(m)
	if m.IsPatch() {
		f.applying(m)
	} else {
		f.builder(m)
	}
}

// vocabulary writes what every message can do.
func (f *file) vocabulary(m *schema.Message) {
	f.In(fmt.Sprintf("impl %s {", m.Name), func() { f.verbs() }, "}")
	f.P("")
}

func (f *file) verbs() {
	method := func(doc, signature, body string, errors string) {
		f.doc(doc)
		if errors != "" {
			f.P("///")
			f.P("/// # Errors")
			f.P("///")
			f.doc(errors)
		} else {
			f.P("#[must_use]")
		}
		f.In(signature+" {", func() { f.P("%s", body) }, "}")
	}
	const unwritable = "It has what can't be written in this encoding, or nests too deep."
	const unreadable = "The payload is not one of this type, or has more than readers take."
	method("Writes this as CBOR.", "pub fn to_cbor(&self) -> Result<Vec<u8>, wire::WriteError>",
		"wire::to_cbor::<Self>(self)", unwritable)
	f.P("")
	method("Writes this as CBOR, after what is there.",
		"pub fn append_cbor(&self, out: &mut Vec<u8>) -> Result<(), wire::WriteError>",
		"wire::append_cbor::<Self>(self, out)", unwritable+" Then nothing is appended.")
	f.P("")
	method("Reads a value from CBOR, all of it.", "pub fn from_cbor(data: &[u8]) -> Result<Self, wire::ReadError>",
		"wire::decode_cbor::<Self>(data)", unreadable)
	f.P("")
	method("Writes this as JSON.", "pub fn to_json(&self) -> Result<String, wire::WriteError>",
		"wire::to_json::<Self>(self)", unwritable)
	f.P("")
	method("Writes this as JSON, after what is there.",
		"pub fn append_json(&self, out: &mut Vec<u8>) -> Result<(), wire::WriteError>",
		"wire::append_json::<Self>(self, out)", unwritable+" Then nothing is appended.")
	f.P("")
	method("Reads a value from JSON, all of it.",
		"pub fn from_json(data: impl AsRef<[u8]>) -> Result<Self, wire::ReadError>",
		"wire::decode_json::<Self>(data.as_ref())", unreadable)
	f.P("")
	method("Lists every way in which this violates the definitions.", "pub fn violations(&self) -> Vec<wire::Violation>",
		"wire::Violations::of::<Self>(self)", "")
	f.P("")
	f.doc("Checks this against the definitions.")
	f.P("///")
	f.P("/// # Errors")
	f.P("///")
	f.doc("It violates them; the error has every way.")
	f.In("pub fn validate(&self) -> Result<(), wire::Invalid> {", func() {
		f.P("wire::Invalid::unless_none(self.violations())")
	}, "}")
}
