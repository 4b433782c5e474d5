package wire

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Any is a value of the scalar any. The zero Any is null.
type Any struct {
	value any // nil, bool, int64, uint64 beyond int64, float64, string, []Any or map[string]Any
}

// AnyOf makes an Any of nil, a bool, any integer, a finite float, a string, an
// Any, or a slice or a map with string keys of these.
func AnyOf(v any) (Any, error) {
	switch v := v.(type) {
	case nil:
		return Any{}, nil
	case Any:
		return v, nil
	case bool, string, int64:
		return Any{v}, nil
	case int:
		return Any{int64(v)}, nil
	case int8:
		return Any{int64(v)}, nil
	case int16:
		return Any{int64(v)}, nil
	case int32:
		return Any{int64(v)}, nil
	case uint8:
		return Any{int64(v)}, nil
	case uint16:
		return Any{int64(v)}, nil
	case uint32:
		return Any{int64(v)}, nil
	case uint:
		return anyInteger(uint64(v)), nil
	case uint64:
		return anyInteger(v), nil
	case float32:
		return AnyOf(float64(v))
	case float64:
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return Any{}, fmt.Errorf("an any can't hold %v", v)
		}
		return Any{v}, nil
	case []Any:
		return Any{slices.Clone(v)}, nil
	case []any:
		list := make([]Any, len(v))
		for i, item := range v {
			var err error
			if list[i], err = AnyOf(item); err != nil {
				return Any{}, err
			}
		}
		return Any{list}, nil
	case map[string]any:
		entries := make(map[string]Any, len(v))
		for key, item := range v {
			made, err := AnyOf(item)
			if err != nil {
				return Any{}, err
			}
			entries[key] = made
		}
		return Any{entries}, nil
	}
	return Any{}, fmt.Errorf("an any can't hold a %T", v)
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
		return Any{int64(n)}
	}
	return Any{n}
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
			return Any{-1 - int64(n)}
		}
	case utf8Text:
		r.at = start
		return Any{r.Text()}
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
		return Any{list}
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
		return Any{entries}
	case simple:
		switch first & 31 {
		case 20, 21:
			return Any{first&31 == 21}
		case 22:
			return Any{}
		case 25, 26, 27:
			r.at = start
			if x := r.Float64(); !math.IsNaN(x) && !math.IsInf(x, 0) {
				return Any{x}
			}
		}
	}
	r.wrong(start, first, "null, a bool, an integer, a finite float, text, a list or a map with text keys")
	return Any{}
}

// IsNull tells whether null stands here.
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
		return Any{r.Bool()}
	case c == '"':
		return Any{r.Text()}
	case c == '[':
		list := []Any{}
		for r.OpenList(); r.More(); {
			list = append(list, r.Any())
			if r.Failed() {
				r.InsideIndex(len(list) - 1)
			}
		}
		return Any{list}
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
		return Any{entries}
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
		return Any{x}
	}
	n, minus, ok := parseInteger(s, false)
	switch {
	case !ok || minus && n > 1<<63:
		r.fail(start, "%s is neither an int64 nor a uint64", shorten(s))
		return Any{}
	case minus:
		return Any{-int64(n)}
	}
	return anyInteger(n)
}
