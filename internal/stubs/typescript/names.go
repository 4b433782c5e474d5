package typescript

import (
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/syntax"
)

// Camel turns a snake_case name into a TypeScript one.
func Camel(snake string) string {
	pascal := syntax.PascalCase(snake)
	return strings.ToLower(pascal[:1]) + pascal[1:]
}

// objectMembers are what every object has, errorMembers what every Error has
// besides; a field of one of these names gets a trailing "_". The lists are
// frozen.
var (
	objectMembers = []string{"constructor", "hasOwnProperty", "isPrototypeOf", "propertyIsEnumerable", "toLocaleString",
		"toString", "valueOf"}
	errorMembers = []string{"cause", "message", "name", "stack"}
)

// FieldName is the TypeScript name of a field.
func FieldName(f *schema.Field) string {
	name := Camel(f.Name)
	if slices.Contains(objectMembers, name) || f.Message.IsError() && slices.Contains(errorMembers, name) {
		name += "_"
	}
	return name
}

// ToolsName is the name of what makes, reads and writes messages, or lists the members of an enum.
func ToolsName(d *schema.Decl) string { return unexported(d.Name) + "Tools" }

// codecName is the name of what the stubs themselves read, write and check values with.
func codecName(d *schema.Decl) string { return unexported(d.Name) + "Codec" }

func unexported(name string) string { return strings.ToLower(name[:1]) + name[1:] }

// CallName is the TypeScript name of a call. One that would be the class's
// constructor gets a trailing "_".
func CallName(c *schema.Call) string {
	name := Camel(c.Name)
	if name == "constructor" {
		name += "_"
	}
	return name
}

// Folder is where the files of a module lie, below the output folder.
func Folder(m *schema.Module) string {
	parts := strings.Split(m.Name, ".")
	if parts[0] == "faithful" {
		parts[0] += "_"
	}
	return strings.Join(parts, "/")
}

// taken are the words and names that a module's import must not have.
var taken = strings.Fields(`abstract any arguments as async await bigint boolean break case catch class const continue debugger
	declare default delete do else enum eval export extends false finally for from function get if
	implements import in init instanceof interface is keyof let list m map module n name namespace never
	new null number object of options package path private protected public r readonly request return
	seen set static string super switch symbol this throw true try type typeof undefined unknown v var
	void w web while wire with yield about calls client entry entries i item key known length patches problem
	start t bodies sockets streams connect functions to`)

// importName is how a module's types are called where they are imported.
func importName(m *schema.Module, others []*schema.Module) string {
	last := func(m *schema.Module) string { return Camel(m.Name[strings.LastIndexByte(m.Name, '.')+1:]) }
	name := last(m)
	clash := slices.Contains(taken, name)
	for _, o := range others {
		clash = clash || o != m && last(o) == name
	}
	if clash {
		return syntax.Compact(m.Name) + "Module"
	}
	return name
}

// TypeName is the TypeScript type of a value, as code that imports it by name
// writes it.
func TypeName(t *schema.Type) string {
	return spell(t, speller{
		decl:   func(d *schema.Decl) string { return d.Name },
		global: func(name string) string { return name },
		wire:   func(name string) string { return name },
	})
}

// Shape is TypeName with what named types stand for that are only other names: two types
// of one shape are one to a compiler.
func Shape(t *schema.Type) string {
	switch {
	case t.Named != nil && isBranded(t):
	case t.Named != nil:
		bare := *t
		bare.Named = nil
		return Shape(&bare)
	case t.Kind == schema.KindList:
		return "readonly (" + Shape(t.Elem) + ")[]"
	case t.Kind == schema.KindMap:
		return "ReadonlyMap<" + Shape(t.Key) + ", " + Shape(t.Elem) + ">"
	}
	return TypeName(t)
}

// speller writes the names in a type: declared ones, those of the language,
// and those of the support files.
type speller struct {
	decl         func(*schema.Decl) string
	global, wire func(name string) string
	plain        bool // what is told apart to the compiler alone is written as what it is
	texts        bool // and what is made of texts and objects is so, too
}

func spell(t *schema.Type, s speller) string {
	if s.plain && castable(t) {
		bare := *t
		if bare.Named = nil; t.Kind == schema.KindUUID {
			return "string"
		}
		return spell(&bare, s)
	}
	if s.texts && t.Kind == schema.KindDecimal {
		return s.wire("Decimal") + " | string"
	}
	if t.Named != nil {
		return s.decl(&t.Named.Decl)
	}
	switch t.Kind {
	case schema.KindEnum:
		return s.decl(&t.Enum.Decl)
	case schema.KindUnion:
		return s.decl(&t.Union.Decl)
	case schema.KindMessage:
		return s.decl(&t.Message.Decl)
	case schema.KindList:
		elem := spell(t.Elem, s)
		if s.texts && t.Elem.Kind == schema.KindDecimal {
			elem = "(" + elem + ")"
		}
		return "readonly " + element(t, elem) + "[]"
	case schema.KindMap:
		if s.texts && read(t) {
			return s.wire("MapInit") + "<" + spell(t.Elem, s) + ">"
		}
		return s.global("ReadonlyMap") + "<" + spell(t.Key, s) + ", " + spell(t.Elem, s) + ">"
	}
	row := scalars[t.Kind]
	switch row.from {
	case fromLanguage:
		return s.global(row.typ)
	case fromSupport:
		return s.wire(row.typ)
	}
	return row.typ
}

// element makes the type of a list's elements fit to stand before "[]".
func element(t *schema.Type, elem string) string {
	if t.Elem.Kind == schema.KindList && t.Elem.Named == nil {
		return "(" + elem + ")"
	}
	return elem
}
