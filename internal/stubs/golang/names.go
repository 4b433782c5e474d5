package golang

import (
	"path"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/syntax"
)

// initialisms are written in capitals, as Go's own style has it.
var initialisms = map[string]string{
	"api": "API", "cbor": "CBOR", "cpu": "CPU", "css": "CSS", "csv": "CSV", "dns": "DNS", "eof": "EOF", "html": "HTML",
	"http": "HTTP", "https": "HTTPS",
	"id": "ID", "ids": "IDs", "ip": "IP", "json": "JSON", "os": "OS", "sql": "SQL", "ssh": "SSH", "tcp": "TCP",
	"tls": "TLS", "ttl": "TTL", "udp": "UDP",
	"ui": "UI", "uri": "URI", "url": "URL", "urls": "URLs", "utf8": "UTF8", "uuid": "UUID", "xml": "XML",
}

// methods are the names that every message has; a field of one of these names
// gets a trailing "_". The list is frozen: later verbs are functions.
var methods = []string{"AppendBinary", "AppendCBOR", "AppendJSON", "AppendViolations", "Apply", "Between", "Clone",
	"Equal", "Error", "ErrorName",
	"ErrorStatus", "Format", "GoString", "KeepUnlistedFields", "LogValue", "MarshalBinary", "MarshalJSON",
	"ReadCBOR", "ReadJSON", "String", "UnlistedFields", "UnmarshalBinary", "UnmarshalJSON", "Validate"}

// Pascal turns a snake_case name into an exported Go name.
func Pascal(snake string) string {
	var b strings.Builder
	for part := range strings.SplitSeq(snake, "_") {
		if known, ok := initialisms[part]; ok {
			b.WriteString(known)
		} else {
			b.WriteString(strings.ToUpper(part[:1]) + part[1:])
		}
	}
	return b.String()
}

// FieldName is the Go name of a field.
func FieldName(f *schema.Field) string {
	name := Pascal(f.Name)
	if slices.Contains(methods, name) || strings.HasSuffix(name, "OrDefault") {
		name += "_"
	}
	return name
}

// MemberName is the Go name of an enum's member.
func MemberName(m *schema.Member) string { return m.Enum.Name + Pascal(m.Name) }

// ConstName is the Go name of a constant.
func ConstName(c *schema.Const) string { return Pascal(strings.ToLower(c.Name)) }

// wellKnown are methods whose signature the Go tools insist on; a call of one
// of these names gets a trailing "_". The list is frozen.
var wellKnown = []string{"GobDecode", "GobEncode", "MarshalJSON", "MarshalXML", "ReadByte", "ReadRune",
	"UnmarshalJSON", "UnmarshalXML", "UnreadByte", "UnreadRune", "WriteByte"}

// CallName is the Go name of a call, in clients and in the struct of calls.
func CallName(c *schema.Call) string {
	name := Pascal(c.Name)
	if slices.Contains(wellKnown, name) {
		name += "_"
	}
	return name
}

// unexported turns an exported name into one of the package's own.
func unexported(name string) string { return strings.ToLower(name[:1]) + name[1:] }

// Folder is where the package of a module lies, below the output folder.
func Folder(m *schema.Module) string {
	parts := strings.Split(m.Name, ".")
	for i, part := range parts {
		// The go command gives these folder names a meaning of their own.
		if part == "internal" || part == "vendor" || part == "testdata" || part == "faithful" && i == 0 {
			parts[i] += "_"
		}
	}
	return path.Join(parts...)
}

var keywords = strings.Fields("break case chan const continue default defer else fallthrough for func go goto if " +
	"import interface map package range return select struct switch type var main")

// PackageName is the name of a module's package.
func PackageName(m *schema.Module) string {
	name := strings.ReplaceAll(m.Name[strings.LastIndexByte(m.Name, '.')+1:], "_", "")
	// Neither a program nor "init" can be imported.
	if slices.Contains(keywords, name) || name == "main" || name == "init" {
		name += "_"
	}
	return name
}

// taken are the names that files use for other imports, variables or
// predeclared things; a module's package of such a name is imported as
// another.
var taken = strings.Fields(`about any append b bool byte c cap clear close complex copy delete imag panic print println real
	recover calls client context ctx e entries err error false fields float64 int int32 int64 iota item
	key len list m make max min n name nil number options path r request seen start string time true
	int8 int16 uint8 float32 uint16 uint32 uint64 v w web wire answer at entry
	element elements log s sender server slog t talk a x x2 x3 y y2 y3
	errors flag fmt http httptest io iter maps math os regexp signal slices strconv syscall testing utf8`)

// importName is how a module's package is called where it is imported.
func importName(m *schema.Module, others []*schema.Module) string {
	name := PackageName(m)
	clash := slices.Contains(taken, name) || slices.Contains(keywords, name)
	for _, o := range others {
		clash = clash || o != m && PackageName(o) == name
	}
	if clash {
		return syntax.Compact(m.Name) + "module"
	}
	return name
}

// TypeName is the Go type of a value, as code outside of its module writes it.
func TypeName(t *schema.Type) string {
	return spell(t, func(d *schema.Decl) string { return PackageName(d.Module) + "." + d.Name }, func(string) {})
}

// Shape is TypeName with the types that aliases stand for: two types of one shape are one
// to a compiler.
func Shape(t *schema.Type) string {
	switch {
	case t.Named != nil && isAlias(t):
		bare := *t
		bare.Named = nil
		return TypeName(&bare)
	case t.Named != nil:
	case t.Kind == schema.KindList:
		return "[]" + Shape(t.Elem)
	case t.Kind == schema.KindMap:
		return "map[" + Shape(t.Key) + "]" + Shape(t.Elem)
	}
	return TypeName(t)
}

// spell writes a type; name writes a declared one, and use is told the
// packages that the rest needs.
func spell(t *schema.Type, name func(*schema.Decl) string, use func(packageName string)) string {
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
		return "[]" + spell(t.Elem, name, use)
	case schema.KindMap:
		return "map[" + spell(t.Key, name, use) + "]" + spell(t.Elem, name, use)
	}
	goType := scalars[t.Kind].goType
	if packageName, _, qualified := strings.Cut(goType, "."); qualified {
		use(packageName)
	}
	return goType
}

// FieldTypeName is TypeName for a field: a pointer where it may be absent.
func FieldTypeName(f *schema.Field) string {
	if f.IsRaw() {
		return "wire.Body"
	}
	if f.Presence == schema.Required || nilable(f.Type) {
		return TypeName(f.Type)
	}
	return "*" + TypeName(f.Type)
}
