package java

import (
	"strings"

	"faithfulcourier/internal/schema"
)

// scalar is how values of a kind look in Java, and are read and written.
type scalar struct {
	typ    string // the type of a value that is there
	boxed  string // the class of it; "" where that is the type
	method string // of both readers and writers
	key    string // the constant of wire.Key; "" for kinds that no key has
	lang   bool   // whether the class is one of java.lang
}

var scalars = map[schema.Kind]scalar{
	schema.KindBool:     {typ: "boolean", boxed: "Boolean", method: "bool", lang: true},
	schema.KindInt8:     {typ: "int", boxed: "Integer", method: "int8", key: "INT8", lang: true},
	schema.KindInt16:    {typ: "int", boxed: "Integer", method: "int16", key: "INT16", lang: true},
	schema.KindInt32:    {typ: "int", boxed: "Integer", method: "int32", key: "INT32", lang: true},
	schema.KindInt64:    {typ: "long", boxed: "Long", method: "int64", key: "INT64", lang: true},
	schema.KindUint8:    {typ: "int", boxed: "Integer", method: "uint8", key: "UINT8", lang: true},
	schema.KindUint16:   {typ: "int", boxed: "Integer", method: "uint16", key: "UINT16", lang: true},
	schema.KindUint32:   {typ: "long", boxed: "Long", method: "uint32", key: "UINT32", lang: true},
	schema.KindUint64:   {typ: "long", boxed: "Long", method: "uint64", key: "UINT64", lang: true},
	schema.KindFloat32:  {typ: "float", boxed: "Float", method: "float32", lang: true},
	schema.KindFloat64:  {typ: "double", boxed: "Double", method: "float64", lang: true},
	schema.KindDecimal:  {typ: "java.math.BigDecimal", method: "decimal"},
	schema.KindText:     {typ: "String", method: "text", key: "TEXT", lang: true},
	schema.KindBytes:    {typ: "byte[]", method: "bytes"},
	schema.KindUUID:     {typ: "java.util.UUID", method: "uuid"},
	schema.KindInstant:  {typ: "java.time.Instant", method: "instant"},
	schema.KindDate:     {typ: "java.time.LocalDate", method: "date"},
	schema.KindDuration: {typ: "java.time.Duration", method: "duration"},
	schema.KindAny:      {typ: "wire.Any", method: "any"},
}

// Scalar tells whether these stubs know a scalar.
func (Language) Scalar(k schema.Kind) bool { return scalars[k].typ != "" }

// isRecord tells types that are a record of one component: named ones over what is compared by equals.
func isRecord(t *schema.Type) bool {
	if t.Named == nil {
		return false
	}
	switch t.Kind {
	case schema.KindText, schema.KindDecimal, schema.KindUUID:
		return true
	}
	return t.Kind.IsInteger()
}

// hasCodec tells types that have a codec of their own.
func hasCodec(t *schema.Type) bool {
	switch t.Kind {
	case schema.KindEnum, schema.KindMessage, schema.KindUnion:
		return true
	}
	return isRecord(t)
}

// isPrimitive tells types whose values are no objects.
func isPrimitive(t *schema.Type) bool { return !isRecord(t) && scalars[t.Kind].boxed != "" }

// isPlain tells types whose values equals compares by what they mean.
func isPlain(t *schema.Type) bool {
	switch {
	case isRecord(t):
		return true
	case t.Kind == schema.KindList:
		return isPlain(t.Elem)
	case t.Kind == schema.KindMap:
		return isPlain(t.Elem)
	}
	switch t.Kind {
	case schema.KindFloat32, schema.KindFloat64, schema.KindDecimal, schema.KindBytes:
		return false
	}
	return true
}

// isMutable tells types whose values others could change: what is kept is a copy.
func isMutable(t *schema.Type) bool {
	return t.Kind == schema.KindBytes || t.Kind == schema.KindList || t.Kind == schema.KindMap
}

// holdsBytes tells types whose values hold arrays, which nobody may be given.
func holdsBytes(t *schema.Type) bool {
	switch t.Kind {
	case schema.KindBytes:
		return true
	case schema.KindList, schema.KindMap:
		return holdsBytes(t.Elem)
	}
	return false
}

// typ writes the type of a value.
func (f *file) typ(t *schema.Type) string {
	if isPrimitive(t) {
		return scalars[t.Kind].typ
	}
	return f.object(t)
}

// object writes the class of a value.
func (f *file) object(t *schema.Type) string {
	if isRecord(t) {
		return f.name(&t.Named.Decl)
	}
	switch t.Kind {
	case schema.KindEnum:
		return f.name(&t.Enum.Decl)
	case schema.KindUnion:
		return f.name(&t.Union.Decl)
	case schema.KindMessage:
		return f.name(&t.Message.Decl)
	case schema.KindList:
		return f.use("java.util.List") + "<" + f.object(t.Elem) + ">"
	case schema.KindMap:
		return f.use("java.util.Map") + "<" + f.object(t.Key) + ", " + f.object(t.Elem) + ">"
	}
	return f.class(scalars[t.Kind])
}

// class writes the class of a scalar.
func (f *file) class(s scalar) string {
	name := s.typ
	if s.boxed != "" {
		name = s.boxed
	}
	simple, isWire := strings.CutPrefix(name, "wire.")
	switch {
	case name == "byte[]":
		return name
	case s.lang:
		return f.lang(name)
	case isWire:
		return f.wire(simple)
	}
	return f.use(name)
}

// TypeName is the Java type of a value, as code that imports what it names writes it.
func TypeName(t *schema.Type) string { return spell(t, false) }

func spell(t *schema.Type, boxed bool) string {
	if isRecord(t) {
		return t.Named.Name
	}
	switch t.Kind {
	case schema.KindEnum:
		return t.Enum.Name
	case schema.KindUnion:
		return t.Union.Name
	case schema.KindMessage:
		return t.Message.Name
	case schema.KindList:
		return "List<" + spell(t.Elem, true) + ">"
	case schema.KindMap:
		return "Map<" + spell(t.Key, true) + ", " + spell(t.Elem, true) + ">"
	}
	s := scalars[t.Kind]
	if boxed && s.boxed != "" {
		return s.boxed
	}
	return s.typ[strings.LastIndexByte(s.typ, '.')+1:]
}
