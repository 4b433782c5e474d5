package rust

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
)

// applying writes how a patch is applied, and made of two messages.
func (f *file) applying(p *schema.Message) {
	of := f.name(&p.PatchOf.Decl)
	f.In(fmt.Sprintf("impl %s {", p.Name), func() {
		f.doc("What was read and these definitions do not list.")
		f.P("#[must_use]")
		f.In("pub fn unlisted(&self) -> &wire::Unlisted {", func() { f.P("&self.unlisted") }, "}")
		f.P("")
		f.doc("Applies this to a message: what is cleared is absent then, or has its default. A required field that this " +
			"clears is left.")
		f.P("#[must_use]")
		f.In(fmt.Sprintf("pub fn apply_to(&self, to: &%s) -> %s {", of, of), func() {
			f.P("let mut to = to.clone();")
			for i, x := range p.Fields {
				original := p.PatchOf.Fields[i]
				name := FieldName(x)
				set := "to." + name + ".clone_from(value)"
				switch {
				case isCopy(x.Type) && original.Presence == schema.Optional:
					set = "to." + name + " = Some(*value)"
				case isCopy(x.Type):
					set = "to." + name + " = *value"
				case original.Presence == schema.Optional:
					set = "to." + name + " = Some(value.clone())"
				}
				f.In(fmt.Sprintf("match &self.%s {", name), func() {
					f.P("wire::Change::Set(value) => %s,", set)
					switch {
					case original.Presence == schema.Optional:
						f.P("wire::Change::Cleared => to.%s = None,", name)
						f.P("wire::Change::Left => {}")
					case original.Presence == schema.Defaulted:
						given := f.literal(original.Type, original.Default)
						if text, ok := strings.CutSuffix(given, ".to_owned()"); ok {
							f.P("wire::Change::Cleared => %s.clone_into(&mut to.%s),", text, name)
						} else {
							f.P("wire::Change::Cleared => to.%s = %s,", name, given)
						}
						f.P("wire::Change::Left => {}")
					default:
						f.P("wire::Change::Cleared | wire::Change::Left => {}")
					}
				}, "}")
			}
			f.P("to.unlisted = to.unlisted.applied(&self.unlisted);")
			f.P("to")
		}, "}")
		f.P("")
		f.doc("Finds what changes one message into another: applied to the first, it gives what equals the second.")
		f.P("#[must_use]")
		f.In(fmt.Sprintf("pub fn between(before: &%s, after: &%s) -> Self {", of, of), func() {
			f.P("let mut patch = Self::default();")
			for i, x := range p.Fields {
				original := p.PatchOf.Fields[i]
				name := FieldName(x)
				same := "same"
				if original.Presence == schema.Optional {
					same = "same_option"
				}
				f.In(fmt.Sprintf("if !wire::%s::<%s>(&before.%s, &after.%s) {", same, f.fieldCodec(original), name, name), func() {
					switch {
					case original.Presence == schema.Optional:
						f.P("patch.%s = after", name)
						f.P("    .%s", name)
						if !isCopy(x.Type) {
							f.P("    .clone()")
						}
						f.P("    .map_or(wire::Change::Cleared, wire::Change::Set);")
					case isBoxed(x.Type):
						f.P("patch.%s = wire::Change::Set(Box::new(after.%s.clone()));", name, name)
					case isCopy(x.Type):
						f.P("patch.%s = wire::Change::Set(after.%s);", name, name)
					default:
						f.P("patch.%s = wire::Change::Set(after.%s.clone());", name, name)
					}
				}, "}")
			}
			f.P("patch.unlisted = before.unlisted.between(&after.unlisted);")
			f.P("patch")
		}, "}")
	}, "}")
	f.P("")
}
