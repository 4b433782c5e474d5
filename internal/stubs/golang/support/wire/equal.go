package wire

import (
	"bytes"
	"maps"
	"slices"
)

// SameFloat tells whether two floats are the same number, or both are none.
func SameFloat[F ~float32 | ~float64](a, b F) bool { return a == b || a != a && b != b }

// Equal tells whether two values are of one kind, and the same.
func (a Any) Equal(b Any) bool {
	switch v := a.value.(type) {
	case []Any:
		w, ok := b.value.([]Any)
		return ok && slices.EqualFunc(v, w, Any.Equal)
	case map[string]Any:
		w, ok := b.value.(map[string]Any)
		return ok && maps.EqualFunc(v, w, Any.Equal)
	}
	switch b.value.(type) {
	case []Any, map[string]Any:
		return false // which can't be compared by ==
	}
	return a.value == b.value
}

// SameDecimal tells whether two decimals are the same number.
func SameDecimal(a, b Decimal) bool { return a.Compare(b) == 0 }

// Comparer is what every message is: its pointer compares and copies.
type Comparer[T any] interface {
	*T
	Equal(*T) bool
	Clone() *T
}

// SameList compares lists of messages.
func SameList[T any, P Comparer[T]](a, b []T) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if !P(&a[i]).Equal(&b[i]) {
			return false
		}
	}
	return true
}

// SameMap compares maps of messages.
func SameMap[M ~map[K]T, K comparable, T any, P Comparer[T]](a, b M) bool {
	return maps.EqualFunc(a, b, func(x, y T) bool { return P(&x).Equal(&y) })
}

// CloneMessageList copies a list of messages.
func CloneMessageList[S ~[]T, T any, P Comparer[T]](list S) S {
	return CloneList(list, func(m T) T { return *P(&m).Clone() })
}

// CloneMessageMap copies a map of messages.
func CloneMessageMap[M ~map[K]T, K comparable, T any, P Comparer[T]](entries M) M {
	return CloneMap(entries, func(m T) T { return *P(&m).Clone() })
}

// SamePointer tells whether both are nil, or point to the same value.
func SamePointer[T comparable](a, b *T) bool {
	return a == b || a != nil && b != nil && *a == *b
}

// SamePointerFunc is SamePointer by a function that compares.
func SamePointerFunc[T any](a, b *T, same func(T, T) bool) bool {
	return a == b || a != nil && b != nil && same(*a, *b)
}

// SameUnlisted tells whether two messages were read with the same unlisted fields.
func SameUnlisted(a, b []UnlistedField) bool {
	if slices.EqualFunc(a, b, SameUnlistedField) {
		return true
	}
	if len(a) != len(b) {
		return false
	}
	named := map[string]UnlistedField{}
	for _, f := range b {
		if f.Number == 0 {
			named[f.Name] = f
		}
	}
	for i, f := range a {
		other := b[i] // numbers come first, ascending
		if f.Number == 0 {
			other = named[f.Name] // names in any order, as in all of JSON
		}
		if !SameUnlistedField(f, other) {
			return false
		}
	}
	return true
}

// SameUnlistedField compares two unlisted fields or alternatives byte for byte.
func SameUnlistedField(a, b UnlistedField) bool {
	return a.Number == b.Number && a.Name == b.Name && bytes.Equal(a.Raw, b.Raw)
}

// CloneUnlisted copies unlisted fields.
func CloneUnlisted(list []UnlistedField) []UnlistedField { return CloneList(list, CloneUnlistedField) }

// CloneUnlistedField copies an unlisted field or alternative.
func CloneUnlistedField(f UnlistedField) UnlistedField {
	f.Raw = slices.Clone(f.Raw)
	return f
}

// ClonePointer points to a copy of what p points to.
func ClonePointer[T any](p *T) *T {
	if p == nil {
		return nil
	}
	v := *p
	return &v
}

// CloneList copies a list with clone for each item; a nil one stays nil.
func CloneList[S ~[]E, E any](list S, clone func(E) E) S {
	if list == nil {
		return nil
	}
	copied := make(S, len(list))
	for i, item := range list {
		copied[i] = clone(item)
	}
	return copied
}

// CloneMap copies a map with clone for each value; a nil one stays nil.
func CloneMap[M ~map[K]V, K comparable, V any](entries M, clone func(V) V) M {
	if entries == nil {
		return nil
	}
	copied := make(M, len(entries))
	for key, value := range entries {
		copied[key] = clone(value)
	}
	return copied
}
