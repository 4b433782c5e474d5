package wire

import (
	"bytes"
	"slices"
)

// Change is what a patch does to a field: it leaves it, which is the zero value, sets it,
// or clears it.
type Change[T any] struct {
	value   *T // nobody changes what it points to
	cleared bool
}

// Set is the change that gives a field a value.
func Set[T any](value T) Change[T] { return Change[T]{value: &value} }

// Clear is the change that makes a field absent, or gives it its default. A field that is
// required can't be cleared: writing such a patch fails.
func Clear[T any]() Change[T] { return Change[T]{cleared: true} }

// Value is the value that the field gets; ok tells whether it gets one.
func (c Change[T]) Value() (value T, ok bool) {
	if c.value == nil {
		return value, false
	}
	return *c.value, true
}

// Cleared tells whether the field is cleared.
func (c Change[T]) Cleared() bool { return c.cleared }

// Left tells whether the field stays as it is.
func (c Change[T]) Left() bool { return c.value == nil && !c.cleared }

// SameChange compares two changes of a field.
func SameChange[T comparable](a, b Change[T]) bool {
	return SameChangeFunc(a, b, func(x, y T) bool { return x == y })
}

// SameChangeFunc compares two changes of a field, and their values with same.
func SameChangeFunc[T any](a, b Change[T], same func(x, y T) bool) bool {
	if a.value == nil || b.value == nil {
		return a.value == b.value && a.cleared == b.cleared
	}
	return same(*a.value, *b.value)
}

// CloneChange copies a change with clone for its value.
func CloneChange[T any](c Change[T], clone func(T) T) Change[T] {
	if c.value == nil {
		return c
	}
	return Set(clone(*c.value))
}

// CantClear keeps that a patch clears a field that is required.
func (w *Writer) CantClear(b []byte, field string) []byte {
	if w.err == nil {
		b = w.failed(append(b, ','), "the field is required, and can't be cleared")
		w.err.inside(field)
	}
	return b
}

// Clears reads null, which clears a field of a patch, if it comes next. A required field
// can't be cleared.
func (r *CBORReader) Clears(required bool) bool {
	if !r.IsNull() {
		return false
	}
	if required {
		r.fail(r.at, "found null: the field is required, and can't be cleared")
		return true
	}
	r.at++
	return true
}

// Clears reads null, which clears a field of a patch, if it comes next. A required field
// can't be cleared.
func (r *JSONReader) Clears(required bool) bool {
	if r.peek() == 'n' && required {
		r.fail(r.at, "found null: the field is required, and can't be cleared")
		return true
	}
	return r.Null()
}

// null is the CBOR of an unlisted field that a patch clears.
var null = []byte{simple | 22}

// KeepUnlistedChange is KeepUnlisted for a patch, in which null may replace a number.
func (r *JSONReader) KeepUnlistedChange(list *[]UnlistedField, fields []Field) *CBORReader {
	name := string(r.name)
	n, isNumber := ParseUnlistedNumber(name)
	if !isNumber || n == 0 || name[1] == '0' || !r.Null() {
		return r.KeepUnlisted(list, fields)
	}
	if slices.ContainsFunc(fields, func(f Field) bool { return f.Number == int(n) }) {
		return &CBORReader{Reader{data: append(AppendUint(nil, uint64(n)), null...), depth: r.depth, budget: r.budget}}
	}
	*list = append(*list, UnlistedField{Number: int(n), Raw: null})
	return nil
}

// clears tells whether a patch clears an unlisted field.
func (f UnlistedField) clears() bool {
	return bytes.Equal(f.Raw, null) || f.Number == 0 && string(f.Raw) == "null"
}

// sameField tells whether two unlisted fields have one number, or one name.
func (f UnlistedField) sameField(other UnlistedField) bool {
	return f.Number == other.Number && f.Name == other.Name
}

// ApplyUnlisted is what a message keeps when the unlisted fields of a patch are applied:
// null takes one away, all else takes its place.
func ApplyUnlisted(kept, changes []UnlistedField) []UnlistedField {
	kept = slices.Clone(kept)
	for _, c := range changes {
		i := slices.IndexFunc(kept, c.sameField)
		switch {
		case c.clears() && i >= 0:
			kept = slices.Delete(kept, i, i+1)
		case c.clears():
		case i >= 0:
			kept[i] = CloneUnlistedField(c)
		default:
			kept = append(kept, CloneUnlistedField(c))
		}
	}
	var r Reader
	r.Settle(kept)
	return kept
}

// UnlistedBetween is what a patch has of unlisted fields that are not the same in two
// messages.
func UnlistedBetween(a, b []UnlistedField) (changes []UnlistedField) {
	for _, f := range a {
		if !slices.ContainsFunc(b, f.sameField) {
			gone := UnlistedField{Number: f.Number, Name: f.Name, Raw: null}
			if f.Number == 0 {
				gone.Raw = []byte("null")
			}
			changes = append(changes, gone)
		}
	}
	for _, f := range b {
		if !slices.ContainsFunc(a, func(other UnlistedField) bool { return SameUnlistedField(f, other) }) {
			changes = append(changes, CloneUnlistedField(f))
		}
	}
	var r Reader
	r.Settle(changes)
	return changes
}
