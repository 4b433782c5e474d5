package python

import (
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/syntax"
)

// keywords are the words that no name may be; builtins and verbs are what
// generated classes mean by these names. A field or call of one of them gets a
// trailing "_". The lists are frozen.
var (
	keywords = strings.Fields(`and as assert async await break class continue def del elif else except finally for from global if
	import in is lambda nonlocal not or pass raise return try while with yield`)
	builtins = strings.Fields(`bool bytes classmethod dict float int list property set staticmethod str tuple type`)
	verbs    = strings.Fields(`apply between from_cbor from_json read_cbor read_json to_cbor to_json to_text validate violations write_cbor
	write_json`)
	raised = strings.Fields(`add_note args with_traceback`)
	client = strings.Fields(`close`)
)

// FieldName is the Python name of a field.
func FieldName(f *schema.Field) string {
	taken := slices.Contains(keywords, f.Name) || slices.Contains(builtins, f.Name) || slices.Contains(verbs, f.Name) ||
		f.Message.IsError() && slices.Contains(raised, f.Name)
	if taken {
		return f.Name + "_"
	}
	return f.Name
}

// CallName is the Python name of a call.
func CallName(c *schema.Call) string {
	if slices.Contains(keywords, c.Name) || slices.Contains(builtins, c.Name) || slices.Contains(client, c.Name) {
		return c.Name + "_"
	}
	return c.Name
}

// MemberName is the Python name of an enum's member, in its class.
func MemberName(m *schema.Member) string { return strings.ToUpper(m.Name) }

// AlternativeName is the Python class of an alternative.
func AlternativeName(a *schema.Alternative) string { return a.Union.Name + syntax.PascalCase(a.Name) }

// Parts are the names of a module's packages, from the output's own on.
func Parts(m *schema.Module) []string {
	parts := strings.Split(m.Name, ".")
	for i, part := range parts {
		if slices.Contains(keywords, part) || part == "faithful" && i == 0 {
			parts[i] += "_"
		}
	}
	return parts
}

// Folder is where the package of a module lies, below the output folder.
func Folder(m *schema.Module) string { return strings.Join(Parts(m), "/") }

// importName is how a module is called where it is imported.
func importName(m *schema.Module) string { return "_" + strings.Join(Parts(m), "_") }

// TypeName is the Python type of a value, as code that imports it by name
// writes it.
func TypeName(t *schema.Type) string {
	return strings.NewReplacer("_wire.", "", "_UUID", "UUID", "_Decimal", "Decimal", "_date",
		"date").Replace(spell(t, func(d *schema.Decl) string { return d.Name }))
}

// spell writes a type; name writes a declared one.
func spell(t *schema.Type, name func(*schema.Decl) string) string {
	if t.Named != nil {
		return name(&t.Named.Decl)
	}
	switch t.Kind {
	case schema.KindEnum:
		return name(&t.Enum.Decl)
	case schema.KindUnion:
		return name(&t.Union.Decl)
	case schema.KindMessage:
		return name(&t.Message.Decl)
	case schema.KindList:
		return "list[" + spell(t.Elem, name) + "]"
	case schema.KindMap:
		return "dict[" + spell(t.Key, name) + ", " + spell(t.Elem, name) + "]"
	}
	return scalars[t.Kind].typ
}
