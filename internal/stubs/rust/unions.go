package rust

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
)

// held is the type of what an alternative holds.
func (f *file) held(a *schema.Alternative) string {
	if isBoxed(a.Type) {
		return "Box<" + f.typ(a.Type) + ">"
	}
	return f.typ(a.Type)
}

func (f *file) heldCodec(a *schema.Alternative) string {
	if isBoxed(a.Type) {
		return "wire::Boxed<" + f.codec(a.Type) + ">"
	}
	return f.codec(a.Type)
}

// union writes an enum with a variant for each alternative, which is open.
func (f *file) union(u *schema.Union) {
	float := false
	for _, a := range u.Alternatives {
		float = float || isFloat(a.Type)
	}
	f.doc(otherwise(u.Doc, fmt.Sprintf("Is the union %s.", u.FullName())) +
		"\n\nIt is open: an alternative that is not listed here is preserved.")
	f.deprecation(u.Deprecated)
	if float {
		f.P("#[derive(Clone)]")
	} else {
		f.P("#[derive(Clone, PartialEq, Eq, Hash)]")
	}
	f.P("#[non_exhaustive]")
	f.In(fmt.Sprintf("pub enum %s {", u.Name), func() {
		for _, a := range u.Alternatives {
			f.doc(otherwise(a.Doc, fmt.Sprintf("Is the alternative %s.", a.Name)))
			f.deprecation(a.Deprecated)
			f.P("%s(%s),", AlternativeName(a), f.held(a))
		}
		f.doc("Is any alternative that these definitions do not list.")
		f.P("Unlisted(wire::UnlistedField),")
	}, "}")
	f.P("")
	if float {
		f.unionComparing(u)
	}
	f.debug(u.Name, func() { f.P("f.write_str(&wire::for_people::<Self>(self))") })
	f.In(fmt.Sprintf("impl %s {", u.Name), f.verbs, "}")
	f.P("")
	f.unionCodec(u)
}

func (f *file) unionComparing(u *schema.Union) {
	f.In(fmt.Sprintf("impl PartialEq for %s {", u.Name), func() {
		f.In("fn eq(&self, other: &Self) -> bool {", func() {
			f.In("match (self, other) {", func() {
				for _, a := range u.Alternatives {
					v := AlternativeName(a)
					f.P("(Self::%s(a), Self::%s(b)) => wire::same::<%s>(a, b),", v, v, f.heldCodec(a))
				}
				f.P("(Self::Unlisted(a), Self::Unlisted(b)) => a == b,")
				f.P("_ => false,")
			}, "}")
		}, "}")
	}, "}")
	f.P("")
	f.P("impl Eq for %s {}", u.Name)
	f.P("")
	f.In(fmt.Sprintf("impl std::hash::Hash for %s {", u.Name), func() {
		f.In("fn hash<H: std::hash::Hasher>(&self, state: &mut H) {", func() {
			f.P("std::mem::discriminant(self).hash(state);")
			f.In("match self {", func() {
				for _, a := range u.Alternatives {
					f.P("Self::%s(value) => wire::hash::<%s>(value, state),", AlternativeName(a), f.heldCodec(a))
				}
				f.P("Self::Unlisted(value) => value.hash(state),")
			}, "}")
		}, "}")
	}, "}")
	f.P("")
}

func (f *file) unionCodec(u *schema.Union) {
	var numbers []int
	var names []string
	for _, a := range u.Alternatives {
		numbers = append(numbers, a.Number)
		names = append(names, a.JSONName())
	}
	f.In(fmt.Sprintf("impl %s {", u.Name), func() {
		f.table("ALTERNATIVES", u.Name, numbers, names)
		f.P("")
		f.In("fn read_number(r: &mut wire::CborReader<'_>, number: u16) -> Result<Self, wire::ReadError> {", func() {
			f.In("match number {", func() {
				for _, a := range u.Alternatives {
					f.P("%d => <%s as wire::Codec>::read_cbor(r).map(Self::%s),", a.Number, f.heldCodec(a), AlternativeName(a))
				}
				f.P("_ => r.unlisted_alternative(number).map(Self::Unlisted),")
			}, "}")
		}, "}")
		f.P("")
		f.In("fn read_index(r: &mut wire::JsonReader<'_>, index: usize) -> Result<Self, wire::ReadError> {", func() {
			f.In("match index {", func() {
				for i, a := range u.Alternatives {
					pattern := fmt.Sprint(i)
					if i == len(u.Alternatives)-1 {
						pattern = "_"
					}
					f.P("%s => <%s as wire::Codec>::read_json(r).map(Self::%s),", pattern, f.heldCodec(a), AlternativeName(a))
				}
			}, "}")
		}, "}")
		f.P("")
		f.index(names)
	}, "}")
	f.P("")
	f.codecOf(u.Name, map[string]func(){
		"write_cbor": func() {
			f.In("match value {", func() {
				for _, a := range u.Alternatives {
					f.In(fmt.Sprintf("Self::%s(value) => {", AlternativeName(a)), func() {
						f.P("w.begin_union(%d);", a.Number)
						f.P("<%s as wire::Codec>::write_cbor(value, w);", f.heldCodec(a))
						f.P("w.leave();")
					}, "}")
				}
				f.P("Self::Unlisted(value) => w.unlisted_alternative(%s, value),", quote(u.Name))
			}, "}")
		},
		"read_cbor": func() { f.P("r.union(Self::ALTERNATIVES, Self::read_number)") },
		"write_json": func() {
			f.In("match value {", func() {
				for i, a := range u.Alternatives {
					f.In(fmt.Sprintf("Self::%s(value) => {", AlternativeName(a)), func() {
						f.P("let start = w.begin_union(Self::ALTERNATIVES, %d);", i)
						f.P("<%s as wire::Codec>::write_json(value, w);", f.heldCodec(a))
						f.P("w.end(start, b'{', b'}');")
					}, "}")
				}
				f.P("Self::Unlisted(value) => w.unlisted_alternative(%s, value),", quote(u.Name))
			}, "}")
		},
		"read_json": func() {
			f.In("r.union(", func() {
				f.P("Self::ALTERNATIVES,")
				f.P("Self::index,")
				f.P("Self::read_index,")
				f.P("Self::read_number,")
				f.P("Self::Unlisted,")
			}, ")")
		},
		"violations": func() {
			f.In("match value {", func() {
				var fine []string
				for _, a := range u.Alternatives {
					if !a.Type.Checked() {
						fine = append(fine, fmt.Sprintf("Self::%s(_)", AlternativeName(a)))
						continue
					}
					f.In(fmt.Sprintf("Self::%s(value) => v.inside(%s, |v| {", AlternativeName(a), quote(a.JSONName())), func() {
						f.P("<%s as wire::Codec>::violations(value, v);", f.heldCodec(a))
					}, "}),")
				}
				if len(fine) > 0 {
					f.P("%s => {}", strings.Join(fine, " | "))
				}
				f.P("Self::Unlisted(_) => v.refuse_unlisted(%s),", quote(strings.Join(names, ", ")))
			}, "}")
		},
	})
}
