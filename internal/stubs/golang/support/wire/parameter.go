package wire

import (
	"strings"
	"unicode/utf8"
)

// Plain is JSON without its quotes: how a scalar travels outside of a body.
func Plain(text []byte) string {
	if len(text) == 0 || text[0] != '"' {
		return string(text)
	}
	r := JSONReader{Reader: Reader{data: text}}
	return string(r.stringBytes())
}

// Shape is how the JSON of a type relates to its text outside of a body.
type Shape uint8

// The text is JSON as it is; or JSON without its quotes; or the one where it
// looks like a number, and else the other.
const (
	Bare Shape = iota
	Quoted
	BareNumber
)

// ReadPlain reads a scalar that travels outside of a body.
func ReadPlain(text string, shape Shape, read func(*JSONReader)) error {
	if shape == BareNumber {
		shape = Quoted
		if digits := strings.TrimPrefix(text, "-"); digits != "" && digits[0]-'0' < 10 {
			shape = Bare
		}
	}
	data := []byte(text)
	if shape == Quoted {
		if !utf8.ValidString(text) {
			return &Error{Detail: "text that is not UTF-8", Offset: -1}
		}
		data = AppendJSONString(nil, text, &Writer{})
	} else if strings.ContainsAny(text, " \t\r\n\"") {
		return &Error{Detail: "expected a value without blanks and quotes", Offset: -1}
	}
	r := JSONReader{Reader: Reader{data: data, budget: DefaultBudget}}
	read(&r)
	if r.err == nil && r.at < len(r.data) {
		r.fail(r.at, "more text after the end")
	}
	if r.err != nil {
		r.err.Offset = -1
		return r.err
	}
	return nil
}
