package conformance

import (
	"encoding/hex"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// equal calls a message's own Equal.
func equal(a, b message) bool {
	return reflect.ValueOf(a).MethodByName("Equal").Call([]reflect.Value{reflect.ValueOf(b)})[0].Bool()
}

// TestGoEquality holds Equal of the Go stubs against the reference's, over pairs of all payloads
// that can be read, and looks that copies are equal and apart.
func TestGoEquality(t *testing.T) {
	types := map[string]*schema.Message{}
	for _, m := range messages(t) {
		types[m.Name] = m
	}
	type read struct {
		ours      message
		reference *value.Message
		payload   string
	}
	const beside = 12
	last := map[string][]read{}
	same, pairs := 0, 0
	for _, v := range allVectors(t) {
		if !v.Accepted || v.CBOR == nil {
			continue
		}
		data, err := hex.DecodeString(v.Payload)
		require.NoError(t, err)
		this := read{ours: goMessages[v.Message](), payload: v.Encoding + " " + v.Payload}
		if v.Encoding == "json" {
			require.NoError(t, this.ours.UnmarshalJSON(data))
			this.reference, err = value.DecodeJSON(types[v.Message], data, 0)
		} else {
			require.NoError(t, this.ours.UnmarshalBinary(data))
			this.reference, err = value.DecodeCBOR(types[v.Message], data, 0)
		}
		require.NoError(t, err)

		copied := reflect.ValueOf(this.ours).MethodByName("Clone").Call(nil)[0].Interface().(message)
		require.True(t, equal(this.ours, copied), this.payload)
		require.True(t, equal(copied, this.ours), this.payload)
		written, err := copied.MarshalBinary()
		require.NoError(t, err)
		require.Equal(t, *v.CBOR, hex.EncodeToString(written), this.payload)
		assert.Empty(t, inCommon(reflect.ValueOf(this.ours), reflect.ValueOf(copied), map[uintptr]bool{}), this.payload)

		for _, other := range last[v.Message] {
			want := value.Equal(byNumber(this.reference), byNumber(other.reference))
			require.Equal(t, want, equal(this.ours, other.ours), "%s\n%s", this.payload, other.payload)
			pairs++
			if want {
				same++
			}
		}
		last[v.Message] = append(last[v.Message], this)
		if len(last[v.Message]) > beside {
			last[v.Message] = last[v.Message][1:]
		}
	}
	assert.Greater(t, same, 100)
	assert.Greater(t, pairs-same, 1000)
	t.Logf("%d pairs, %d of them equal", pairs, same)
}

// inCommon tells the type of memory that two values have in common, strings and functions aside.
func inCommon(a, b reflect.Value, seen map[uintptr]bool) string {
	switch a.Kind() {
	case reflect.Pointer, reflect.Map, reflect.Slice:
		if a.IsNil() || a.Kind() == reflect.Slice && a.Cap() == 0 || a.Type().String() == "*time.Location" ||
			a.Type().String() == "*big.Int" {
			return ""
		}
		if a.Pointer() == b.Pointer() {
			return a.Type().String()
		}
	}
	switch a.Kind() {
	case reflect.Pointer:
		if seen[a.Pointer()] {
			return ""
		}
		seen[a.Pointer()] = true
		return inCommon(a.Elem(), b.Elem(), seen)
	case reflect.Interface:
		if !a.IsNil() {
			return inCommon(a.Elem(), b.Elem(), seen)
		}
	case reflect.Struct:
		if a.Type().String() == "wire.Any" {
			return "" // which nothing can change
		}
		if strings.HasPrefix(a.Type().Name(), "Change[") { // nor what its pointer points to, but what is in that
			if a.Field(0).IsNil() {
				return ""
			}
			return inCommon(a.Field(0).Elem(), b.Field(0).Elem(), seen)
		}
		for i := range a.NumField() {
			if found := inCommon(a.Field(i), b.Field(i), seen); found != "" {
				return a.Type().Field(i).Name + " " + found
			}
		}
	case reflect.Slice:
		for i := range a.Len() {
			if found := inCommon(a.Index(i), b.Index(i), seen); found != "" {
				return found
			}
		}
	case reflect.Map:
		for _, key := range a.MapKeys() {
			if found := inCommon(a.MapIndex(key), b.MapIndex(key), seen); found != "" {
				return found
			}
		}
	}
	return ""
}

// byNumber makes decimals alike that are the same number, as Equal takes them.
func byNumber(v value.Value) value.Value {
	switch v := v.(type) {
	case schema.Decimal:
		for v.Scale > 0 && (strings.HasSuffix(v.Coefficient, "0")) {
			v.Coefficient, v.Scale = strings.TrimSuffix(v.Coefficient, "0"), v.Scale-1
		}
		if v.Coefficient == "" || v.Coefficient == "-" || v.Coefficient == "0" {
			return schema.Decimal{Coefficient: "0"}
		}
		return v
	case value.List:
		list := make(value.List, len(v))
		for i, item := range v {
			list[i] = byNumber(item)
		}
		return list
	case *value.Map:
		m := *v
		m.Entries = nil
		for _, e := range v.Entries {
			e.Value = byNumber(e.Value)
			m.Entries = append(m.Entries, e)
		}
		return &m
	case *value.Union:
		u := *v
		u.Value = byNumber(v.Value)
		return &u
	case *value.Message:
		m := *v
		m.Fields = map[int]value.Value{}
		for n, field := range v.Fields {
			m.Fields[n] = byNumber(field)
		}
		return &m
	}
	return v
}
