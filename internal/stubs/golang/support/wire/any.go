package wire

import (
	"fmt"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
)

// Any is a value of the scalar any. The zero Any is null.
type Any struct {
	_     [0]func() // not for ==, which would panic where a list or a map is inside
	value any       // nil, bool, int64, uint64 beyond int64, float64, string, []Any or map[string]Any
}

// AnyOf makes an Any of nil, a bool, any integer, a finite float, a string, an
// Any, or a slice or a map with string keys of these, whatever their types are called.
func AnyOf(v any) (Any, error) {
	switch v := v.(type) {
	case nil:
		return Any{}, nil
	case Any:
		return v, nil
	case bool, string, int64:
		return Any{value: v}, nil
	case int:
		return Any{value: int64(v)}, nil
	case int8:
		return Any{value: int64(v)}, nil
	case int16:
		return Any{value: int64(v)}, nil
	case int32:
		return Any{value: int64(v)}, nil
	case uint8:
		return Any{value: int64(v)}, nil
	case uint16:
		return Any{value: int64(v)}, nil
	case uint32:
		return Any{value: int64(v)}, nil
	case uint:
		return anyInteger(uint64(v)), nil
	case uint64:
		return anyInteger(v), nil
	case float32:
		return AnyOf(float64(v))
	case float64:
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return Any{}, fmt.Errorf("an any can't contain %v", v)
		}
		return Any{value: v}, nil
	case []Any:
		return Any{value: slices.Clone(v)}, nil
	}
	return reflected(reflect.ValueOf(v))
}

// reflected makes an Any of types with other names: slices, maps and pointers of what
// AnyOf takes, and types that are over it.
func reflected(v reflect.Value) (Any, error) {
	switch v.Kind() {
	case reflect.Bool:
		return AnyOf(v.Bool())
	case reflect.String:
		return AnyOf(v.String())
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return AnyOf(v.Int())
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return AnyOf(v.Uint())
	case reflect.Float32, reflect.Float64:
		return AnyOf(v.Float())
	case reflect.Pointer:
		if v.IsNil() {
			return Any{}, nil
		}
		return AnyOf(v.Elem().Interface())
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			break // bytes have no one form in JSON
		}
		list := make([]Any, v.Len())
		for i := range list {
			var err error
			if list[i], err = AnyOf(v.Index(i).Interface()); err != nil {
				return Any{}, err
			}
		}
		return Any{value: list}, nil
	case reflect.Map:
		if v.Type().Key().Kind() != reflect.String {
			break
		}
		entries := make(map[string]Any, v.Len())
		for key, item := range v.Seq2() {
			made, err := AnyOf(item.Interface())
			if err != nil {
				return Any{}, err
			}
			entries[key.String()] = made
		}
		return Any{value: entries}, nil
	}
	return Any{}, fmt.Errorf("an any can't contain a %s", v.Type())
}

// MustAny is AnyOf for values that are known to fit; it panics on others.
func MustAny(v any) Any {
	a, err := AnyOf(v)
	if err != nil {
		panic(err)
	}
	return a
}

// IsNull tells whether a is null.
func (a Any) IsNull() bool { return a.value == nil }

// Value is nil, a bool, an int64, a uint64 beyond int64, a float64, a string,
// a []Any or a map[string]Any.
func (a Any) Value() any { return a.value }

// String writes a as JSON.
func (a Any) String() string { return string(AppendJSONAny(nil, a, &Writer{})) }

func anyInteger(n uint64) Any {
	if n <= math.MaxInt64 {
		return Any{value: int64(n)}
	}
	return Any{value: n}
}

// AppendAny appends an any as CBOR.
func AppendAny(b []byte, a Any, w *Writer) []byte {
	switch v := a.value.(type) {
	case bool:
		return AppendBool(b, v)
	case int64:
		return AppendInt(b, v)
	case uint64:
		return AppendUint(b, v)
	case float64:
		return AppendFloat64(b, v)
	case string:
		return AppendString(b, v, w)
	case []Any:
		w.Enter()
		b = AppendListHead(b, len(v))
		for _, item := range v {
			b = AppendAny(b, item, w)
		}
		w.Leave()
		return b
	case map[string]Any:
		w.Enter()
		b = AppendMapHead(b, len(v))
		for _, entry := range SortedTexts(make([]Entry[string, Any], 0, 8), v) {
			b = AppendAny(AppendString(b, entry.Key, w), entry.Value, w)
		}
		w.Leave()
		return b
	}
	return append(b, simple|22)
}

// Any reads an any.
func (r *CBORReader) Any() Any {
	start := r.at
	first, n := r.head()
	switch first & 0xe0 {
	case unsigned:
		return anyInteger(n)
	case negative:
		if n <= math.MaxInt64 {
			return Any{value: -1 - int64(n)}
		}
	case utf8Text:
		r.at = start
		return Any{value: r.Text()}
	case array:
		r.at = start
		list := []Any{}
		for n := r.OpenList(); r.More(&n); {
			list = append(list, r.Any())
			if r.Failed() {
				r.InsideIndex(len(list) - 1)
			}
		}
		r.Leave()
		return Any{value: list}
	case mapping:
		r.at = start
		entries := map[string]Any{}
		count := 0
		for n := r.OpenMap(); r.More(&n); count++ {
			key := r.Text()
			entries[key] = r.Any()
			if r.Failed() {
				r.Inside(key)
			}
		}
		r.Leave()
		r.Distinct(len(entries), count)
		return Any{value: entries}
	case simple:
		switch first & 31 {
		case 20, 21:
			return Any{value: first&31 == 21}
		case 22:
			return Any{}
		case 25, 26, 27:
			r.at = start
			if x := r.Float64(); !math.IsNaN(x) && !math.IsInf(x, 0) {
				return Any{value: x}
			}
		}
	}
	r.wrong(start, first, "null, a bool, an integer, a finite float, text, a list or a map with text keys")
	return Any{}
}

// IsNull tells whether null comes next.
func (r *CBORReader) IsNull() bool { return r.at < len(r.data) && r.data[r.at] == simple|22 }

// AppendJSONAny appends an any as JSON.
func AppendJSONAny(b []byte, a Any, w *Writer) []byte {
	switch v := a.value.(type) {
	case bool:
		return strconv.AppendBool(b, v)
	case int64:
		return strconv.AppendInt(b, v, 10)
	case uint64:
		return strconv.AppendUint(b, v, 10)
	case float64:
		start := len(b)
		b = AppendJSONFloat64(b, v)
		if !strings.ContainsAny(string(b[start:]), ".e") {
			b = append(b, '.', '0')
		}
		return b
	case string:
		return AppendJSONString(b, v, w)
	case []Any:
		w.Enter()
		start := len(b)
		for _, item := range v {
			b = AppendJSONAny(append(b, ','), item, w)
		}
		w.Leave()
		return CloseArray(b, start)
	case map[string]Any:
		w.Enter()
		start := len(b)
		for _, entry := range SortedTexts(make([]Entry[string, Any], 0, 8), v) {
			b = AppendJSONAny(append(AppendJSONString(append(b, ','), entry.Key, w), ':'), entry.Value, w)
		}
		w.Leave()
		return CloseObject(b, start)
	}
	return append(b, "null"...)
}

// Any reads any JSON value.
func (r *JSONReader) Any() Any {
	switch c := r.peek(); {
	case c == 'n':
		r.word("null")
		return Any{}
	case c == 't' || c == 'f':
		return Any{value: r.Bool()}
	case c == '"':
		return Any{value: r.Text()}
	case c == '[':
		list := []Any{}
		for r.OpenList(); r.More(); {
			list = append(list, r.Any())
			if r.Failed() {
				r.InsideIndex(len(list) - 1)
			}
		}
		return Any{value: list}
	case c == '{':
		entries := map[string]Any{}
		count := 0
		r.OpenObject("a map")
		for r.Member() {
			key := string(r.Name())
			entries[key] = r.Any()
			if r.Failed() {
				r.Inside(key)
			}
			count++
		}
		r.Distinct(len(entries), count)
		return Any{value: entries}
	}
	return r.anyNumber()
}

func (r *JSONReader) anyNumber() Any {
	start := r.at
	s := r.number("a JSON value")
	if r.err != nil {
		return Any{}
	}
	if strings.ContainsAny(string(s), ".eE") {
		x, err := strconv.ParseFloat(string(s), 64)
		if err != nil {
			r.fail(start, "%s is too large for a float64", shorten(s))
		}
		return Any{value: x}
	}
	n, minus, ok := parseInteger(s, false)
	switch {
	case !ok || minus && n > 1<<63:
		r.fail(start, "%s is neither an int64 nor a uint64", shorten(s))
		return Any{}
	case minus:
		return Any{value: -int64(n)}
	}
	return anyInteger(n)
}
