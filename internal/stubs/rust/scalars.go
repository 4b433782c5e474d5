package rust

import (
	"faithfulcourier/internal/schema"
)

// scalar is how values of a kind look in Rust.
type scalar struct {
	typ   string // of a value
	codec string // what reads and writes it; "" where that is the type
}

var scalars = map[schema.Kind]scalar{
	schema.KindBool:     {typ: "bool"},
	schema.KindInt8:     {typ: "i8"},
	schema.KindInt16:    {typ: "i16"},
	schema.KindInt32:    {typ: "i32"},
	schema.KindInt64:    {typ: "i64"},
	schema.KindUint8:    {typ: "u8"},
	schema.KindUint16:   {typ: "u16"},
	schema.KindUint32:   {typ: "u32"},
	schema.KindUint64:   {typ: "u64"},
	schema.KindFloat32:  {typ: "f32"},
	schema.KindFloat64:  {typ: "f64"},
	schema.KindDecimal:  {typ: "wire::Decimal"},
	schema.KindText:     {typ: "String"},
	schema.KindBytes:    {typ: "Vec<u8>", codec: "wire::Bytes"},
	schema.KindUUID:     {typ: "wire::Uuid"},
	schema.KindInstant:  {typ: "wire::Instant"},
	schema.KindDate:     {typ: "wire::Date"},
	schema.KindDuration: {typ: "wire::Duration"},
	schema.KindAny:      {typ: "wire::Any"},
}

// isFloat tells types whose values Rust does not compare as definitions do.
func isFloat(t *schema.Type) bool {
	switch {
	case t.Named != nil:
		return false // it has a comparison of its own
	case t.Kind == schema.KindList || t.Kind == schema.KindMap:
		return isFloat(t.Elem)
	}
	return t.Kind == schema.KindFloat32 || t.Kind == schema.KindFloat64
}

// isCopy tells types whose values are copied as they are. A named type's never are: it may be over another one later.
func isCopy(t *schema.Type) bool {
	switch t.Kind {
	case schema.KindText, schema.KindBytes, schema.KindAny, schema.KindEnum, schema.KindUnion, schema.KindMessage,
		schema.KindList, schema.KindMap:
		return false
	}
	return t.Named == nil
}

// isBoxed tells types that are in a box wherever they are optional, or alternatives: a cycle that appears later must
// not change a type.
func isBoxed(t *schema.Type) bool {
	return t.Kind == schema.KindMessage || t.Kind == schema.KindUnion
}

// typ writes the type of a value.
func (f *file) typ(t *schema.Type) string {
	if t.Named != nil {
		return f.name(&t.Named.Decl)
	}
	return f.bare(t)
}

// bare writes the type of what a named type is over.
func (f *file) bare(t *schema.Type) string {
	switch t.Kind {
	case schema.KindEnum:
		return f.name(&t.Enum.Decl)
	case schema.KindUnion:
		return f.name(&t.Union.Decl)
	case schema.KindMessage:
		return f.name(&t.Message.Decl)
	case schema.KindList:
		return "Vec<" + f.typ(t.Elem) + ">"
	case schema.KindMap:
		return "std::collections::BTreeMap<" + f.typ(t.Key) + ", " + f.typ(t.Elem) + ">"
	}
	return scalars[t.Kind].typ
}

// codec writes the type that reads and writes values.
func (f *file) codec(t *schema.Type) string {
	if t.Named != nil {
		return f.name(&t.Named.Decl)
	}
	return f.bareCodec(t)
}

func (f *file) bareCodec(t *schema.Type) string {
	switch t.Kind {
	case schema.KindList:
		return "wire::List<" + f.codec(t.Elem) + ">"
	case schema.KindMap:
		return "wire::Map<" + f.typ(t.Key) + ", " + f.codec(t.Elem) + ">"
	}
	if s := scalars[t.Kind]; s.codec != "" {
		return s.codec
	}
	return f.bare(t)
}

// stored is the type of a field.
func (f *file) stored(x *schema.Field) string {
	inner := f.typ(x.Type)
	if isBoxed(x.Type) && (x.Presence == schema.Optional || x.Changes != nil) {
		inner = "Box<" + inner + ">"
	}
	switch {
	case x.Changes != nil:
		return "wire::Change<" + inner + ">"
	case x.Presence == schema.Optional:
		return "Option<" + inner + ">"
	}
	return inner
}

// fieldCodec writes the type that reads and writes the value of a field that is there.
func (f *file) fieldCodec(x *schema.Field) string {
	if isBoxed(x.Type) && (x.Presence == schema.Optional || x.Changes != nil) {
		return "wire::Boxed<" + f.codec(x.Type) + ">"
	}
	return f.codec(x.Type)
}
