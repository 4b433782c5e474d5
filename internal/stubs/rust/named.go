package rust

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
)

// newtype writes a struct of one field.
func (f *file) newtype(n *schema.NamedType) {
	t := n.Bare()
	float := isFloat(t)
	f.doc(otherwise(n.Doc, fmt.Sprintf("Is the type %s.", n.FullName())))
	f.deprecation(n.Deprecated)
	derives := []string{"Clone"}
	if !n.Secret {
		derives = append(derives, "Debug")
	}
	if !float {
		derives = append(derives, "PartialEq", "Eq", "Hash")
	}
	if isKey(t) {
		derives = append(derives, "PartialOrd", "Ord")
	}
	f.P("#[derive(%s)]", strings.Join(derives, ", "))
	f.P("pub struct %s(pub %s);", n.Name, f.bare(t))
	f.P("")
	if n.Secret {
		f.debug(n.Name, func() { f.P(`f.write_str("(secret)")`) })
	}
	if float {
		f.comparing(n.Name, []compared{{codec: f.bareCodec(t), field: "0"}}, false)
	}
	from := f.bare(t)
	f.In(fmt.Sprintf("impl From<%s> for %s {", from, n.Name), func() {
		f.In(fmt.Sprintf("fn from(value: %s) -> Self {", from), func() { f.P("Self(value)") }, "}")
	}, "}")
	f.P("")
	if t.Kind == schema.KindText {
		f.In(fmt.Sprintf("impl From<&str> for %s {", n.Name), func() {
			f.In("fn from(value: &str) -> Self {", func() { f.P("Self(value.to_owned())") }, "}")
		}, "}")
		f.P("")
	}
	if t.Kind == schema.KindAny {
		f.In(fmt.Sprintf("impl AsRef<wire::Any> for %s {", n.Name), func() {
			f.In("fn as_ref(&self) -> &wire::Any {", func() { f.P("&self.0") }, "}")
		}, "}")
		f.P("")
	}
	f.newtypeCodec(n, t)
	if isKey(t) {
		f.newtypeKey(n, t)
	}
}

func isKey(t *schema.Type) bool { return t.Kind == schema.KindText || t.Kind.IsInteger() }

func (f *file) newtypeCodec(n *schema.NamedType, t *schema.Type) {
	codec := "<" + f.bareCodec(t) + " as wire::Codec>"
	parts := map[string]func(){
		"write_cbor": func() { f.P("%s::write_cbor(&value.0, w);", codec) },
		"read_cbor":  func() { f.P("%s::read_cbor(r).map(Self)", codec) },
		"write_json": func() {
			if n.Secret {
				f.In("if w.hides() {", func() {
					f.P("w.secret();")
					f.P("return;")
				}, "}")
			}
			f.P("%s::write_json(&value.0, w);", codec)
		},
		"read_json": func() { f.P("%s::read_json(r).map(Self)", codec) },
	}
	if (&schema.Type{Kind: n.Type.Kind, Named: n, Elem: n.Type.Elem, Key: n.Type.Key}).Checked() {
		parts["violations"] = func() {
			f.bounds(n.Bounds, check{typ: t, value: "value.0", secret: n.Secret})
			if t.Checked() {
				f.P("%s::violations(&value.0, v);", codec)
			}
		}
	}
	f.codecOf(n.Name, parts)
}

func (f *file) newtypeKey(n *schema.NamedType, t *schema.Type) {
	inner := f.bare(t)
	key := "<" + inner + " as wire::Key>"
	f.In(fmt.Sprintf("impl wire::Key for %s {", n.Name), func() {
		f.P("const IN_ORDER: bool = %s::IN_ORDER;", key)
		f.P("")
		f.In("fn write_cbor_key(&self, w: &mut wire::CborWriter) {", func() { f.P("self.0.write_cbor_key(w);") }, "}")
		f.P("")
		f.In("fn read_cbor_key(r: &mut wire::CborReader<'_>) -> Result<Self, wire::ReadError> {", func() {
			f.P("%s::read_cbor_key(r).map(Self)", key)
		}, "}")
		f.P("")
		if n.Secret {
			f.In("fn write_json_key(&self, w: &mut wire::JsonWriter) {", func() {
				f.P(`let shown = if w.hides() { "(secret)".into() } else { self.text() };`)
				f.P("w.member(&shown);")
			}, "}")
			f.P("")
		}
		f.In("fn read_json_key(name: &str, r: &wire::JsonReader<'_>) -> Result<Self, wire::ReadError> {", func() {
			f.P("%s::read_json_key(name, r).map(Self)", key)
		}, "}")
		f.P("")
		f.In("fn text(&self) -> std::borrow::Cow<'_, str> {", func() { f.P("self.0.text()") }, "}")
		f.P("")
		f.In("fn compare(&self, other: &Self) -> std::cmp::Ordering {", func() { f.P("self.0.compare(&other.0)") }, "}")
		f.P("")
		f.In("fn key_violations(&self, v: &mut wire::Violations) {", func() {
			f.P("<Self as wire::Codec>::violations(self, v);")
		}, "}")
	}, "}")
	f.P("")
}
