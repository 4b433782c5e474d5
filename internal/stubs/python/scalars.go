package python

import "faithfulcourier/internal/schema"

// scalar is all that these stubs know of a scalar: its type, and what reads and writes it.
// Integers are read and written by their range; where a writer has no function of its own
// the expression is written out.
type scalar struct {
	typ     string // as modules import it
	read    string // method of both readers
	cbor    string // function that writes CBOR
	json    string // function that writes JSON
	fast    string // function that reads what our writers wrote as CBOR
	scanned string // function that reads what the scanner made of what our writers wrote as JSON
}

// scalars has a row for each scalar; a test walks it.
var scalars = map[schema.Kind]scalar{
	schema.KindBool:   {typ: "bool", read: "boolean", json: "json_bool", fast: "fast_bool"},
	schema.KindInt8:   {typ: "int"},
	schema.KindInt16:  {typ: "int"},
	schema.KindInt32:  {typ: "int"},
	schema.KindInt64:  {typ: "int"},
	schema.KindUint8:  {typ: "int"},
	schema.KindUint16: {typ: "int"},
	schema.KindUint32: {typ: "int"},
	schema.KindUint64: {typ: "int"},
	schema.KindFloat32: {typ: "float", read: "float32", cbor: "cbor_float32", json: "json_float32",
		fast: "fast_float32", scanned: "scanned_float32"},
	schema.KindFloat64: {typ: "float", read: "float64", cbor: "cbor_float64", json: "json_float64",
		fast: "fast_float64", scanned: "scanned_float64"},
	schema.KindText: {typ: "str", read: "text", json: "json_text"},
	schema.KindBytes: {typ: "bytes", read: "octets", cbor: "cbor_bytes", json: "json_bytes", fast: "fast_octets",
		scanned: "scanned_octets"},
	schema.KindUUID: {typ: "_UUID", read: "uuid", json: "json_uuid", fast: "fast_uuid", scanned: "scanned_uuid"},
	schema.KindInstant: {typ: "_wire.Instant", read: "instant", cbor: "cbor_instant", json: "json_instant",
		fast: "fast_instant", scanned: "scanned_instant"},
	schema.KindDecimal: {typ: "_Decimal", read: "decimal", cbor: "cbor_decimal", fast: "fast_decimal",
		scanned: "scanned_decimal"},
	schema.KindDate: {typ: "_date", read: "date", cbor: "cbor_date", json: "json_date", fast: "fast_date",
		scanned: "scanned_date"},
	schema.KindDuration: {typ: "_wire.Duration", read: "duration", cbor: "cbor_duration", json: "json_duration",
		fast: "fast_duration", scanned: "scanned_duration"},
	schema.KindAny: {typ: "_wire.Any", read: "any"},
}

// Scalar tells whether these stubs know a scalar.
func (Language) Scalar(k schema.Kind) bool { return scalars[k].typ != "" }
