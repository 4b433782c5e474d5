package wire

import (
	"bytes"
	"reflect"
	"strconv"
)

// OpenUnion begins a union: the number of its alternative, and what CloseUnion
// needs.
func (r *CBORReader) OpenUnion(name string) (number, open int) {
	start := r.at
	first, n := r.head()
	if first&0xe0 != mapping || first&31 != indefinite && n != 1 {
		if r.err == nil && first&0xe0 == mapping {
			r.fail(start, "expected one alternative of %s, found %d", name, n)
		}
		r.wrong(start, first, "a map of one entry for "+name)
		return 0, 0
	}
	r.enter()
	if first&31 == indefinite {
		open = -1
		if r.at < len(r.data) && r.data[r.at] == breakByte {
			r.fail(start, "expected one alternative of %s, found none", name)
		}
	}
	return r.FieldNumber(), open
}

// CloseUnion ends a union.
func (r *CBORReader) CloseUnion(open int) {
	if open < 0 && r.err == nil {
		if r.at >= len(r.data) || r.data[r.at] != breakByte {
			r.fail(r.at, "expected one alternative, found a second one")
		} else {
			r.at++
		}
	}
	r.Leave()
}

// UnlistedAlternative keeps an alternative whose number is not listed.
func (r *CBORReader) UnlistedAlternative(number int) UnlistedField {
	start := r.at
	r.skip()
	if r.err != nil {
		return UnlistedField{}
	}
	return UnlistedField{Number: number, Raw: bytes.Clone(r.data[start:r.at])}
}

// OpenUnion begins a union: the name of its alternative.
func (r *JSONReader) OpenUnion(union string) (name string) {
	start := r.at
	r.OpenObject(union)
	if r.budget++; !r.Member() { // a union is one value, whatever it is written as
		r.fail(start, "expected one alternative of %s, found none", union)
		return ""
	}
	return string(r.name)
}

// CloseUnion ends a union whose alternative had a name.
func (r *JSONReader) CloseUnion(name string) {
	r.Inside(name)
	if r.err == nil && r.Member() {
		r.fail(r.at, "expected one alternative, found a second one")
	}
}

// UnlistedAlternative reads an alternative whose name is not listed: as the
// number and CBOR of one that may be, or as unlisted.
func (r *JSONReader) UnlistedAlternative(name string) (number int, entry *CBORReader, unlisted UnlistedField) {
	if len(name) > 1 && name[0] == '#' && onlyDigits(name[1:]) {
		number, data := r.numberedEntry(name)
		return number, &CBORReader{Reader{data: data, depth: r.depth, budget: r.budget, err: r.err}}, UnlistedField{}
	}
	return 0, nil, UnlistedField{Name: name, Raw: r.raw(nil)}
}

// numberedEntry reads "#13" and its CBOR as base64url.
func (r *JSONReader) numberedEntry(name string) (number int, data []byte) {
	n, ok := ParseUnlistedNumber(name)
	if !ok || n == 0 || name[1] == '0' {
		r.fail(r.at, "expected #1 to #65535, found %s", name)
		return 0, nil
	}
	return int(n), r.Bytes()
}

// AppendUnion begins an alternative in CBOR.
func (w *Writer) AppendUnion(b []byte, number int) []byte {
	w.Enter()
	return AppendUint(append(b, mapping|1), uint64(number))
}

// AppendUnlistedCBOR appends an alternative of union that is not listed.
func AppendUnlistedCBOR(b []byte, union string, u UnlistedField, w *Writer) []byte {
	if u.Number == 0 {
		w.numbers = w.numbers || w.err == nil
		w.fail(alternativeWithoutNumber, u.Name, union)
		return b
	}
	b = append(w.AppendUnion(b, u.Number), u.Raw...)
	w.Leave()
	return b
}

const alternativeWithoutNumber = "the alternative %q is not listed in %s, and binary payloads contain numbers"

// AppendUnlistedJSON appends an alternative that is not listed.
func AppendUnlistedJSON(b []byte, union string, u UnlistedField, w *Writer) []byte {
	switch {
	case w.hides:
		return append(b, `"(unlisted)"`...)
	case u.Number > 0:
		b = append(strconv.AppendInt(append(b, `{"#`...), int64(u.Number), 10), `":`...)
		return append(AppendJSONBytes(b, u.Raw), '}')
	case u.Raw == nil:
		return w.NotSet(b, union)
	case w.numbers:
		return w.failed(b, alternativeWithoutNumber, u.Name, union)
	}
	b = append(AppendJSONString(append(b, '{'), u.Name, w), ':')
	return append(append(b, u.Raw...), '}')
}

// Pointed is what a pointer to an alternative points to; nil for anything else. Both
// have the methods of the union, and only the value is one of its types.
func Pointed(u any) any {
	if v := reflect.ValueOf(u); v.Kind() == reflect.Pointer && !v.IsNil() {
		return v.Elem().Interface()
	}
	return nil
}

// Unpointed is a value of a union, where a pointer to an alternative may be used for it.
func Unpointed[U any](u U) U {
	if v, ok := Pointed(u).(U); ok {
		return v
	}
	return u
}

// NotSet keeps that a union is nil.
func (w *Writer) NotSet(b []byte, union string) []byte { return w.failed(b, "%s is not set", union) }
