package typescript

import "faithfulcourier/internal/schema"

// scalar is all that these stubs know of a scalar.
type scalar struct {
	verb string // method of both readers and writers
	typ  string // its type
	from origin // where the type comes from
}

// apart tells scalars that JSON is read and written with by functions, so that bundles have those that they need.
func (s scalar) apart() bool {
	switch s.verb {
	case "float32", "instant", "decimal", "date", "duration", "any":
		return true
	}
	return false
}

// origin is where a type comes from.
type origin uint8

const (
	fromWord     origin = iota // a word of the language
	fromLanguage               // a global of the language
	fromSupport                // the support files
)

// scalars has a row for each scalar; a test walks it.
var scalars = map[schema.Kind]scalar{
	schema.KindBool:     {"bool", "boolean", fromWord},
	schema.KindInt8:     {"int8", "number", fromWord},
	schema.KindInt16:    {"int16", "number", fromWord},
	schema.KindInt32:    {"int32", "number", fromWord},
	schema.KindInt64:    {"int64", "bigint", fromWord},
	schema.KindUint8:    {"uint8", "number", fromWord},
	schema.KindUint16:   {"uint16", "number", fromWord},
	schema.KindUint32:   {"uint32", "number", fromWord},
	schema.KindUint64:   {"uint64", "bigint", fromWord},
	schema.KindFloat32:  {"float32", "number", fromWord},
	schema.KindFloat64:  {"float64", "number", fromWord},
	schema.KindText:     {"text", "string", fromWord},
	schema.KindBytes:    {"bytesValue", "Uint8Array", fromLanguage},
	schema.KindUUID:     {"uuid", "Uuid", fromSupport},
	schema.KindInstant:  {"instant", "Instant", fromSupport},
	schema.KindDecimal:  {"decimal", "Decimal", fromSupport},
	schema.KindDate:     {"date", "CalendarDate", fromSupport},
	schema.KindDuration: {"duration", "Duration", fromSupport},
	schema.KindAny:      {"any", "Any", fromSupport},
}

// Scalar tells whether these stubs know a scalar.
func (Language) Scalar(k schema.Kind) bool { return scalars[k].verb != "" }
