package compare

import (
	"fmt"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs/python"
)

// pythonTable is the column of Python: programs in the documented style, as
// mypy --strict checks them.
var pythonTable = map[Kind]codeRule{
	CredentialRenamed: credentialMoved,
	CredentialMoved:   credentialMoved,
	ModuleGone:        pyGone,
	MessageGone:       pyGone,
	ErrorGone:         pyGone,
	EnumGone:          pyGone,
	TypeGone:          pyGone,
	UnionGone:         pyGone,
	ConstGone:         pyGone,
	ConstChanged:      pyConst,
	TypeChanged: func(f *Fact) (Verdict, []string, string) {
		o, n := f.oldAny.(*schema.NamedType), f.newAny.(*schema.NamedType)
		old, new := python.TypeName(bare(o)), python.TypeName(bare(n))
		if old == new {
			return Holds, nil, ""
		}
		if o.Type.Kind == schema.KindAny { // a name for it is called by nobody
			return Breaks, []string{"given: " + old, fmt.Sprintf("made: %s = given", o.Name), fmt.Sprintf("# %s is over %s now", o.Name, new)}, ""
		}
		return Breaks, []string{"given: " + old, fmt.Sprintf("made = %s(given)", o.Name), "other: " + o.Name, fmt.Sprintf("taken: %s = other", old), fmt.Sprintf("# %s is over %s now", o.Name, new)}, ""
	},
	FieldAdded: func(f *Fact) (Verdict, []string, string) {
		if f.field.new.Presence != schema.Required {
			return Holds, nil, ""
		}
		return Breaks, pyMake(f.field.new.Message, f.field.new), ""
	},
	FieldGone:    always(pyField),
	FieldRenamed: when(func(f *Fact) bool { return python.FieldName(f.field.old) != python.FieldName(f.field.new) }, pyField),
	FieldType: func(f *Fact) (Verdict, []string, string) {
		o, n := f.field.old, f.field.new
		if python.TypeName(o.Type) == python.TypeName(n.Type) {
			return Holds, nil, ""
		}
		return Breaks, pyTyped(o, n), ""
	},
	FieldPresence:   pyPresence,
	FieldDefault:    defaultMoved,
	MemberGone:      always(pyMember),
	MemberRenamed:   when(func(f *Fact) bool { return python.MemberName(f.member.old) != python.MemberName(f.member.new) }, pyMember),
	AlternativeGone: always(pyAlternative),
	AlternativeRenamed: when(func(f *Fact) bool {
		return python.AlternativeName(f.alternative.old) != python.AlternativeName(f.alternative.new)
	}, pyAlternative),
	AlternativeType: func(f *Fact) (Verdict, []string, string) {
		o, n := f.alternative.old, f.alternative.new
		if python.TypeName(o.Type) == python.TypeName(n.Type) {
			return Holds, nil, ""
		}
		name := python.AlternativeName(o)
		return Breaks, []string{"way: " + name, fmt.Sprintf("taken: %s = way.value", python.TypeName(o.Type)), "given: " + python.TypeName(o.Type), "way.value = given", fmt.Sprintf("# way.value is %s now", python.TypeName(n.Type))}, ""
	},
}

// bare is what a named type is over.
func bare(t *schema.NamedType) *schema.Type { return bareType(&t.Type) }

func pyGone(f *Fact) (Verdict, []string, string) {
	switch d := f.oldAny.(type) {
	case *schema.Service:
		return Breaks, []string{fmt.Sprintf("from … import %sClient", d.Name)}, ""
	case *schema.Module:
		return Breaks, []string{fmt.Sprintf("import …%s", d.Name)}, ""
	default:
		return Breaks, []string{fmt.Sprintf("from … import %s", schema.Head(d).Name)}, ""
	}
}

func pyConst(f *Fact) (Verdict, []string, string) {
	o, n := f.oldAny.(*schema.Const), f.newAny.(*schema.Const)
	old, new := python.TypeName(o.Type), python.TypeName(n.Type)
	if old == new || old == "float" && new == "int" { // an int is a float to type checkers
		return Shifts, nil, "code goes on, and has another value"
	}
	return Breaks, []string{fmt.Sprintf("value: %s = %s", old, o.Name)}, ""
}

func pyFieldType(f *schema.Field) string {
	t := python.TypeName(f.Type)
	if f.Presence == schema.Optional {
		t += " | None"
	}
	return t
}

func pyField(f *Fact) []string {
	o := f.field.old
	return []string{"m: " + o.Message.Name, "m." + python.FieldName(o)}
}

// pyTyped moves a field into and out of a variable of the type that it had.
func pyTyped(o, n *schema.Field) []string {
	return []string{
		"m: " + o.Message.Name,
		fmt.Sprintf("taken: %s = m.%s", pyFieldType(o), python.FieldName(o)),
		"given: " + pyFieldType(o),
		fmt.Sprintf("m.%s = given", python.FieldName(o)),
		fmt.Sprintf("# m.%s is %s now", python.FieldName(n), pyFieldType(n)),
	}
}

// pyMake makes a message without a field.
func pyMake(m *schema.Message, without *schema.Field) []string {
	var lines []string
	arguments := ""
	for _, f := range m.Fields {
		if f == without || f.Presence != schema.Required {
			continue
		}
		name := python.FieldName(f)
		lines = append(lines, fmt.Sprintf("%s: %s", name, python.TypeName(f.Type)))
		if arguments != "" {
			arguments += ", "
		}
		arguments += name + "=" + name
	}
	return append(lines, fmt.Sprintf("%s(%s)", m.Name, arguments), fmt.Sprintf("# %s is missing", python.FieldName(without)))
}

func pyPresence(f *Fact) (Verdict, []string, string) {
	o, n := f.field.old, f.field.new
	switch {
	case pyFieldType(o) != pyFieldType(n) && python.TypeName(o.Type) == python.TypeName(n.Type):
		return Breaks, pyTyped(o, n), ""
	case n.Presence == schema.Required:
		return Breaks, pyMake(n.Message, n), ""
	}
	return Holds, nil, ""
}

func pyMember(f *Fact) []string {
	m := f.member.old
	return []string{fmt.Sprintf("%s.%s", m.Enum.Name, python.MemberName(m))}
}

func pyAlternative(f *Fact) []string {
	return []string{fmt.Sprintf("from … import %s", python.AlternativeName(f.alternative.old))}
}
