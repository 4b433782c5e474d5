package rust

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/syntax"
)

// marker is the type that stands for a required field that is not set.
func marker(x *schema.Field) string { return syntax.PascalCase(x.Name) }

// builder writes what makes values of a message. It has one type parameter for each required field: a marker named
// after the field until it is set, so that the compiler names what is missing.
func (f *file) builder(m *schema.Message) {
	var required []*schema.Field
	for _, x := range m.Fields {
		if x.Presence == schema.Required {
			required = append(required, x)
			if !slices.Contains(f.lacks, marker(x)) {
				f.lacks = append(f.lacks, marker(x))
			}
		}
	}
	parameters := func(set int, value string) string {
		if len(required) == 0 {
			return ""
		}
		var list []string
		for i := range required {
			if i == set {
				list = append(list, value)
			} else {
				list = append(list, fmt.Sprintf("R%d", i))
			}
		}
		return "<" + strings.Join(list, ", ") + ">"
	}
	all := func(value func(*schema.Field) string) string {
		if len(required) == 0 {
			return ""
		}
		var list []string
		for _, x := range required {
			list = append(list, value(x))
		}
		return "<" + strings.Join(list, ", ") + ">"
	}
	name := m.Name + "Builder"
	empty := name + all(func(x *schema.Field) string { return "lacks_::" + marker(x) })
	f.In(fmt.Sprintf("impl %s {", m.Name), func() {
		f.doc("Begins a value. What is required is set by name; then `build` makes it.")
		f.In(fmt.Sprintf("pub fn builder() -> %s {", empty), func() {
			f.In(name+" {", func() {
				f.P("partial: %sPartial_::default(),", m.Name)
				f.P("unlisted: wire::Unlisted::default(),")
				f.P("set: std::marker::PhantomData,")
			}, "}")
		}, "}")
		f.P("")
		f.doc("What was read and these definitions do not list.")
		f.P("#[must_use]")
		f.In("pub fn unlisted(&self) -> &wire::Unlisted {", func() { f.P("&self.unlisted") }, "}")
	}, "}")
	f.P("")
	f.doc(fmt.Sprintf("Makes values of `%s`. Its type says which required fields are set; do not write it.", m.Name))
	f.P("#[must_use]")
	f.In(fmt.Sprintf("pub struct %s%s {", name, parameters(-1, "")), func() {
		f.P("partial: %sPartial_,", m.Name)
		f.P("unlisted: wire::Unlisted,")
		phantom := "()"
		if len(required) > 0 {
			var list []string
			for i := range required {
				list = append(list, fmt.Sprintf("R%d", i))
			}
			phantom = "fn() -> (" + strings.Join(list, ", ") + ",)"
		}
		f.P("set: std::marker::PhantomData<%s>,", phantom)
	}, "}")
	f.P("")
	f.In(fmt.Sprintf("impl%s %s%s {", parameters(-1, ""), name, parameters(-1, "")), func() {
		for _, x := range m.Fields {
			f.setter(x, name, parameters, slices.Index(required, x))
			f.P("")
		}
		f.doc("Passes on what another message was read with.")
		f.In("pub fn unlisted(mut self, fields: &wire::Unlisted) -> Self {", func() {
			f.P("self.unlisted = fields.clone();")
			f.P("self")
		}, "}")
	}, "}")
	f.P("")
	whole := name + all(func(*schema.Field) string { return "wire::Set" })
	f.In(fmt.Sprintf("impl %s {", whole), func() {
		f.doc("Makes the value.")
		f.P("#[must_use]")
		f.In(fmt.Sprintf("pub fn build(self) -> %s {", m.Name), func() {
			if len(required) == 0 {
				f.P("self.partial.finish(self.unlisted)")
				return
			}
			f.In("match self.partial.finish(self.unlisted) {", func() {
				f.P("Ok(value) => value,")
				f.P(`Err(name) => unreachable!("the field {name} is set by its type"),`)
			}, "}")
		}, "}")
	}, "}")
	f.P("")
}

// setter writes the method that sets a field; index is that of its type parameter, or -1.
func (f *file) setter(x *schema.Field, builder string, parameters func(int, string) string, index int) {
	name := FieldName(x)
	given, value := f.typ(x.Type), "value"
	switch {
	case x.Type.Named == nil && x.Type.Kind == schema.KindText, isBoxed(x.Type) && x.Presence == schema.Optional:
		inner := given
		if isBoxed(x.Type) {
			inner = "Box<" + given + ">"
		}
		given, value = "impl Into<"+inner+">", "value.into()"
	}
	f.doc(otherwise(x.Doc, fmt.Sprintf("Sets the field %s.", x.Name)))
	f.deprecation(x.Deprecated)
	if x.Presence == schema.Required {
		result := builder + parameters(index, "wire::Set")
		f.In(fmt.Sprintf("pub fn %s(mut self, value: %s) -> %s {", name, given, result), func() {
			f.P("self.partial.%s = wire::Slot::Value(%s);", name, value)
			f.In(builder+" {", func() {
				f.P("partial: self.partial,")
				f.P("unlisted: self.unlisted,")
				f.P("set: std::marker::PhantomData,")
			}, "}")
		}, "}")
		return
	}
	f.In(fmt.Sprintf("pub fn %s(mut self, value: %s) -> Self {", name, given), func() {
		f.P("self.partial.%s = wire::Slot::Value(%s);", name, value)
		f.P("self")
	}, "}")
}

// markers writes the types that stand for required fields that are not set.
func (f *file) markers() {
	if len(f.lacks) == 0 {
		return
	}
	slices.Sort(f.lacks)
	f.P("/// Says in errors of the compiler which required field is not set.")
	f.P("#[doc(hidden)]")
	f.In("pub mod lacks_ {", func() {
		for _, name := range f.lacks {
			f.P("pub enum %s {}", name)
		}
	}, "}")
}
