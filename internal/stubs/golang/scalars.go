package golang

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
)

// scalar is how values of a kind are read and written.
type scalar struct {
	goType string
	read   string // method of both readers
	cbor   string // function that appends CBOR
	json   string // function that appends JSON
	wide   string // the type that these functions take, where it is another
	writer failing
}

// failing says which of the functions that append a scalar take the writer, where they
// leave what can't be written.
type failing uint8

const (
	neverFails failing = iota
	mayFail
	jsonMayFail // only the one for JSON
)

var scalars = map[schema.Kind]scalar{
	schema.KindBool:  {goType: "bool", read: "Bool", cbor: "AppendBool", json: "strconv.AppendBool"},
	schema.KindInt8:  {goType: "int8", read: "Int8", cbor: "AppendInt", json: "strconv.AppendInt", wide: "int64"},
	schema.KindInt16: {goType: "int16", read: "Int16", cbor: "AppendInt", json: "strconv.AppendInt", wide: "int64"},
	schema.KindInt32: {goType: "int32", read: "Int32", cbor: "AppendInt", json: "strconv.AppendInt", wide: "int64"},
	schema.KindInt64: {goType: "int64", read: "Int64", cbor: "AppendInt", json: "AppendJSONInt"},
	schema.KindUint8: {goType: "uint8", read: "Uint8", cbor: "AppendUint", json: "strconv.AppendUint", wide: "uint64"},
	schema.KindUint16: {goType: "uint16", read: "Uint16", cbor: "AppendUint", json: "strconv.AppendUint",
		wide: "uint64"},
	schema.KindUint32: {goType: "uint32", read: "Uint32", cbor: "AppendUint", json: "strconv.AppendUint",
		wide: "uint64"},
	schema.KindUint64:  {goType: "uint64", read: "Uint64", cbor: "AppendUint", json: "AppendJSONUint"},
	schema.KindFloat32: {goType: "float32", read: "Float32", cbor: "AppendFloat32", json: "AppendJSONFloat32"},
	schema.KindFloat64: {goType: "float64", read: "Float64", cbor: "AppendFloat64", json: "AppendJSONFloat64"},
	schema.KindDecimal: {goType: "wire.Decimal", read: "Decimal", cbor: "AppendDecimal", json: "AppendJSONDecimal",
		writer: jsonMayFail},
	schema.KindText:  {goType: "string", read: "Text", cbor: "AppendString", json: "AppendJSONString", writer: mayFail},
	schema.KindBytes: {goType: "[]byte", read: "Bytes", cbor: "AppendBytes", json: "AppendJSONBytes"},
	schema.KindUUID:  {goType: "wire.UUID", read: "UUID", cbor: "AppendUUID", json: "AppendJSONUUID"},
	schema.KindInstant: {goType: "time.Time", read: "Instant", cbor: "AppendInstant", json: "AppendJSONInstant",
		writer: mayFail},
	schema.KindDate:     {goType: "wire.Date", read: "Date", cbor: "AppendDate", json: "AppendJSONDate", writer: mayFail},
	schema.KindDuration: {goType: "time.Duration", read: "Duration", cbor: "AppendDuration", json: "AppendJSONDuration"},
	schema.KindAny:      {goType: "wire.Any", read: "Any", cbor: "AppendAny", json: "AppendJSONAny", writer: mayFail},
}

// Scalar tells whether these stubs know a scalar.
func (Language) Scalar(k schema.Kind) bool { return scalars[k].goType != "" }

// isAlias tells named types that are another name for their base in Go: those
// over the types of times and numbers that have methods of their own.
func isAlias(t *schema.Type) bool {
	switch t.Kind {
	case schema.KindDecimal, schema.KindInstant, schema.KindDate, schema.KindDuration, schema.KindAny:
		return t.Named != nil
	}
	return false
}

// isDefined tells types that are a Go type of their own over their base.
func isDefined(t *schema.Type) bool { return t.Named != nil && !isAlias(t) }

// hasMethods tells types that read and write themselves.
func hasMethods(t *schema.Type) bool {
	switch t.Kind {
	case schema.KindEnum, schema.KindMessage:
		return true
	case schema.KindList, schema.KindMap:
		return t.Named != nil
	}
	return false
}

// nilable tells whether a field needs no pointer to say that it is absent.
func nilable(t *schema.Type) bool {
	switch t.Kind {
	case schema.KindBytes, schema.KindList, schema.KindMap, schema.KindUnion, schema.KindAny:
		return true
	}
	return false
}

// present writes the condition that a field of a nilable or pointer type is
// not absent.
func present(f *schema.Field, field string) string {
	if f.Type.Kind == schema.KindAny {
		return "!" + field + ".IsNull()"
	}
	return field + " != nil"
}

// base turns an expression into one of the Go type that the support functions
// take.
func (g *generator) base(t *schema.Type, value string) string {
	s := scalars[t.Kind]
	switch {
	case s.wide != "":
		return s.wide + "(" + value + ")"
	case isDefined(t):
		g.needs(s.goType)
		return s.goType + "(" + value + ")"
	}
	return value
}

// needs imports what a Go type of the support packages wants.
func (g *generator) needs(goType string) {
	switch {
	case strings.HasPrefix(goType, "wire."):
		g.wire()
	case strings.HasPrefix(goType, "time."):
		g.std("time")
	}
}

// appendScalar writes the call that appends a scalar; what can't be written stays in
// writer, an expression.
func (g *generator) appendScalar(t *schema.Type, value, head, writer string, json bool) string {
	s := scalars[t.Kind]
	function, fails := s.cbor, s.writer == mayFail
	if json {
		function, fails = s.json, s.writer != neverFails
	}
	if writer = ", " + writer; !fails {
		writer = ""
	}
	if name, standard := strings.CutPrefix(function, "strconv."); standard {
		function = g.std("strconv") + "." + name
		if name != "AppendBool" {
			writer = ", 10"
		}
	} else {
		function = g.wire() + "." + function
	}
	return fmt.Sprintf("%s(%s, %s%s)", function, head, g.base(t, value), writer)
}

// readScalar writes the expression that reads a scalar.
func (g *generator) readScalar(t *schema.Type) string {
	read := "r." + scalars[t.Kind].read + "()"
	if isDefined(t) {
		return g.typ(t) + "(" + read + ")"
	}
	return read
}

// sortedEntries writes the expression of a map's entries in the order of
// writing.
func (g *generator) sortedEntries(t *schema.Type, value string) string {
	key, wire := g.typ(t.Key), g.wire()
	room := fmt.Sprintf("make([]%s.Entry[%s, %s], 0, 8)", wire, key, g.typ(t.Elem))
	switch {
	case t.Key.Kind == schema.KindEnum:
		return fmt.Sprintf("%s.SortedMembers(%s, %s, %s.Number)", wire, room, value, key)
	case t.Key.Kind.IsInteger():
		return fmt.Sprintf("%s.SortedIntegers(%s, %s)", wire, room, value)
	}
	return fmt.Sprintf("%s.SortedTexts(%s, %s)", wire, room, value)
}

// keyText writes the expression of a map's key as JSON has it, without quotes.
func (g *generator) keyText(t *schema.Type, key string) string {
	switch {
	case t.Kind == schema.KindEnum:
		return key + ".JSONName()"
	case t.Kind == schema.KindInt64 || t.Kind.IsInteger() && strings.HasPrefix(t.Kind.String(), "int"):
		return fmt.Sprintf("%s.FormatInt(int64(%s), 10)", g.std("strconv"), key)
	case t.Kind.IsInteger():
		return fmt.Sprintf("%s.FormatUint(uint64(%s), 10)", g.std("strconv"), key)
	case isDefined(t):
		return "string(" + key + ")"
	}
	return key
}
