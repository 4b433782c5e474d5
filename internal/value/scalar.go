package value

import (
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"faithfulcourier/internal/schema"
)

// Tags of CBOR: RFC 8949 (1 to 4), RFC 8943 (100), RFC 9581 (1001, 1002) and
// the registry of tags (37).
const (
	tagEpoch          = 1
	tagPositiveBignum = 2
	tagNegativeBignum = 3
	tagDecimal        = 4
	tagUUID           = 37
	tagDate           = 100
	tagTime           = 1001
	tagDuration       = 1002
)

// decimal reads tag 4 over exponent and mantissa (RFC 8949, section 3.4.4).
func (r *cborReader) decimal(h head, start int) (Value, *Error) {
	if h.major != majorTag || h.argument != tagDecimal {
		return nil, r.refuseAt(start, "decimal", h.describe())
	}
	array, err := r.head()
	if err != nil {
		return nil, err
	}
	if array.major != majorArray || !array.indefinite && array.argument != 2 {
		return nil, r.refuseAt(start, "an array of exponent and mantissa", array.describe())
	}
	exponentHead, err := r.head()
	if err != nil {
		return nil, err
	}
	exponent, ok := exponentHead.integer()
	if !ok && exponentHead.major > majorNegative {
		return nil, r.refuseAt(start, "an exponent", exponentHead.describe())
	}
	if !ok { // beyond an int64: only zero has one
		exponent = map[bool]int64{true: math.MinInt64, false: math.MaxInt64}[exponentHead.major == majorNegative]
	}
	mantissa, err := r.mantissa(start)
	if err != nil {
		return nil, err
	}
	if array.indefinite {
		if r.at >= len(r.data) || r.data[r.at] != 0xff {
			return nil, r.refuse("the end of exponent and mantissa", "more")
		}
		r.at++
	}
	if exponent < -1<<20 || exponent > 1<<20 {
		if mantissa.Sign() != 0 {
			return nil, r.refuseAt(start, "decimal", fmt.Sprintf("the exponent %d", exponent))
		}
		exponent = max(min(exponent, 0), -schema.MaxDecimalDigits)
	}
	digits := ""
	if mantissa.Sign() != 0 {
		digits = new(big.Int).Abs(mantissa).String()
	}
	d, wrong := schema.MakeDecimal(mantissa.Sign() < 0, digits, int(exponent))
	if wrong != nil {
		return nil, r.refuseAt(start, "decimal", "one that is not: "+wrong.Error())
	}
	return d, nil
}

// mantissa reads an integer or a bignum.
func (r *cborReader) mantissa(start int) (*big.Int, *Error) {
	h, err := r.head()
	if err != nil {
		return nil, err
	}
	n := new(big.Int)
	switch {
	case h.major == majorUnsigned:
		return n.SetUint64(h.argument), nil
	case h.major == majorNegative:
		return n.Not(n.SetUint64(h.argument)), nil
	case h.major == majorTag && (h.argument == tagPositiveBignum || h.argument == tagNegativeBignum):
		inner, err := r.head()
		if err != nil {
			return nil, err
		}
		if inner.major != majorBytes {
			return nil, r.refuseAt(start, "the bytes of a bignum", inner.describe())
		}
		b, err := r.chunks(inner)
		if err != nil {
			return nil, err
		}
		if n.SetBytes(b); n.BitLen() > 4096 { // far over 34 digits, and cheap to turn into digits
			return nil, r.refuseAt(start, "decimal", "a mantissa of over a thousand digits")
		}
		if h.argument == tagNegativeBignum {
			n.Not(n)
		}
		return n, nil
	}
	return nil, r.refuseAt(start, "a mantissa", h.describe())
}

// date reads tag 100 (RFC 8943).
func (r *cborReader) date(h head, start int) (Value, *Error) {
	if h.major != majorTag || h.argument != tagDate {
		return nil, r.refuseAt(start, "date", h.describe())
	}
	inner, err := r.head()
	if err != nil {
		return nil, err
	}
	days, ok := inner.integer()
	if !ok || days < int64(schema.MinDate) || days > int64(schema.MaxDate) {
		return nil, r.refuseAt(start, "a date in the years 0001 to 9999", inner.describe())
	}
	return schema.Date(days), nil
}

// duration reads tag 1002 (RFC 9581).
func (r *cborReader) duration(h head, start int) (Value, *Error) {
	if h.major != majorTag || h.argument != tagDuration {
		return nil, r.refuseAt(start, "duration", h.describe())
	}
	inner, err := r.head()
	if err != nil {
		return nil, err
	}
	if inner.major != majorMap {
		return nil, r.refuseAt(start, "duration", "a tag over "+inner.describe())
	}
	t, err := r.extendedTime(inner, start)
	if err != nil {
		return nil, err
	}
	n := new(big.Int).Mul(big.NewInt(t.Seconds), big.NewInt(int64(time.Second)))
	if n.Add(n, big.NewInt(int64(t.Nanos))); !n.IsInt64() {
		return nil, r.refuseAt(start, "a duration of at most 2⁶³ nanoseconds", fmt.Sprintf("%d seconds", t.Seconds))
	}
	return schema.Duration(n.Int64()), nil
}

// any reads a value of the scalar any.
func (r *cborReader) any() (schema.Any, *Error) {
	start := r.at
	h, err := r.head()
	if err != nil {
		return schema.Any{}, err
	}
	wrong := func(found string) (schema.Any, *Error) {
		return schema.Any{}, r.refuseAt(start, "null, a bool, an integer, a float, text, a list or a map with text keys",
			found)
	}
	switch h.major {
	case majorUnsigned:
		return schema.Any{Value: anyInteger(h.argument)}, nil
	case majorNegative:
		if n, ok := h.integer(); ok {
			return schema.Any{Value: n}, nil
		}
		return wrong(h.describe())
	case majorText:
		v, err := r.text(h)
		return schema.Any{Value: v}, err
	case majorArray:
		if err := r.enter(); err != nil {
			return schema.Any{}, err
		}
		list := []schema.Any{}
		err := r.elements(h, 1, func(i int) *Error {
			v, err := r.any()
			list = append(list, v)
			return inside(err, strconv.Itoa(i))
		})
		r.depth--
		return schema.Any{Value: list}, err
	case majorMap:
		return r.anyMap(h)
	case majorSimple:
		if x, ok := h.float(); ok && !math.IsNaN(x) && !math.IsInf(x, 0) {
			return schema.Any{Value: x}, nil
		}
		switch {
		case h.indefinite:
		case h.info == 20 || h.info == 21:
			return schema.Any{Value: h.info == 21}, nil
		case h.info == 22:
			return schema.Any{}, nil
		}
	}
	return wrong(h.describe())
}

// anyInteger is an int64 where the number fits, else a uint64.
func anyInteger(n uint64) any {
	if n <= math.MaxInt64 {
		return int64(n)
	}
	return n
}

func (r *cborReader) anyMap(h head) (schema.Any, *Error) {
	if err := r.enter(); err != nil {
		return schema.Any{}, err
	}
	entries := []schema.AnyEntry{}
	seen := map[string]bool{}
	err := r.elements(h, 2, func(int) *Error {
		start := r.at
		k, err := r.head()
		if err != nil {
			return err
		}
		if k.major != majorText {
			return r.refuseAt(start, "a text as key", k.describe())
		}
		text, err := r.text(k)
		if err != nil {
			return err
		}
		key := text.(string)
		if seen[key] {
			return inside(r.refuseAt(start, "", "the key comes twice"), key)
		}
		seen[key] = true
		v, err := r.any()
		entries = append(entries, schema.AnyEntry{Key: key, Value: v})
		return inside(err, key)
	})
	r.depth--
	sortAny(entries)
	return schema.Any{Value: entries}, err
}

// isNull tells whether null stands here.
func (r *cborReader) isNull() bool { return r.at < len(r.data) && r.data[r.at] == 0xf6 }

func (w *cborWriter) decimal(d schema.Decimal) {
	w.head(majorTag, tagDecimal)
	w.head(majorArray, 2)
	w.integer(int64(-d.Scale))
	n := d.Big()
	major, tag := byte(majorUnsigned), uint64(tagPositiveBignum)
	if n.Sign() < 0 {
		n.Not(n)
		major, tag = majorNegative, tagNegativeBignum
	}
	if n.IsUint64() {
		w.head(major, n.Uint64())
		return
	}
	w.head(majorTag, tag)
	b := n.Bytes()
	w.head(majorBytes, uint64(len(b)))
	w.out = append(w.out, b...)
}

func (w *cborWriter) duration(d schema.Duration) {
	seconds, nanos := int64(d)/1e9, int32(int64(d)%1e9)
	if nanos < 0 {
		seconds--
		nanos += 1e9
	}
	w.head(majorTag, tagDuration)
	w.extendedTime(seconds, nanos)
}

// extendedTime writes seconds and the coarsest exact fraction.
func (w *cborWriter) extendedTime(seconds int64, nanos int32) {
	if nanos == 0 {
		w.head(majorMap, 1)
		w.integer(1)
		w.integer(seconds)
		return
	}
	key, fraction := int64(-9), nanos
	switch {
	case nanos%1_000_000 == 0:
		key, fraction = -3, nanos/1_000_000
	case nanos%1_000 == 0:
		key, fraction = -6, nanos/1_000
	}
	w.head(majorMap, 2)
	w.integer(1)
	w.integer(seconds)
	w.integer(key)
	w.integer(int64(fraction))
}

func (w *cborWriter) any(a schema.Any) *Error {
	switch v := a.Value.(type) {
	case nil:
		w.out = append(w.out, 0xf6)
	case []schema.Any:
		if err := w.enter(); err != nil {
			return err
		}
		w.head(majorArray, uint64(len(v)))
		for i, item := range v {
			if err := w.any(item); err != nil {
				return inside(err, strconv.Itoa(i))
			}
		}
		w.depth--
	case []schema.AnyEntry:
		if err := w.enter(); err != nil {
			return err
		}
		w.head(majorMap, uint64(len(v)))
		for _, e := range sortedAny(v) {
			if err := w.value(e.Key, nil); err != nil {
				return err
			}
			if err := w.any(e.Value); err != nil {
				return inside(err, e.Key)
			}
		}
		w.depth--
	case float64:
		if v != v || v-v != 0 {
			return writeError("%v, which an any can't contain", v)
		}
		return w.value(v, nil)
	case bool, int64, uint64, string:
		return w.value(v, nil)
	default:
		return writeError("an any of the Go type %T", v)
	}
	return nil
}

func sortAny(list []schema.AnyEntry) {
	sortByKey(list, func(e schema.AnyEntry) Value { return e.Key })
}

func sortedAny(list []schema.AnyEntry) []schema.AnyEntry {
	out := append([]schema.AnyEntry{}, list...)
	sortAny(out)
	return out
}

// any reads a value of the scalar any.
func (r *jsonReader) any() (schema.Any, *Error) {
	at := r.skipTo()
	switch c := r.next(); {
	case c == 'n':
		return schema.Any{}, r.word("null")
	case c == 't':
		return schema.Any{Value: true}, r.word("true")
	case c == 'f':
		return schema.Any{Value: false}, r.word("false")
	case c == '"':
		s, err := r.string()
		return schema.Any{Value: s}, err
	case c == '[':
		list := []schema.Any{}
		err := r.sequence(']', func(i int) *Error {
			v, err := r.any()
			list = append(list, v)
			return inside(err, strconv.Itoa(i))
		})
		return schema.Any{Value: list}, err
	case c == '{':
		entries := []schema.AnyEntry{}
		seen := map[string]bool{}
		err := r.sequence('}', func(int) *Error {
			at := r.skipTo()
			key, err := r.name()
			if err != nil {
				return err
			}
			if seen[key] {
				return inside(r.refuseAt(at, "", "the key comes twice"), key)
			}
			seen[key] = true
			v, err := r.any()
			entries = append(entries, schema.AnyEntry{Key: key, Value: v})
			return inside(err, key)
		})
		sortAny(entries)
		return schema.Any{Value: entries}, err
	case c == '-' || c >= '0' && c <= '9':
		s, err := r.number()
		if err != nil {
			return schema.Any{}, err
		}
		return anyNumber(r, at, s)
	}
	return schema.Any{}, r.wrong("a JSON value")
}

func anyNumber(r *jsonReader, at int, s string) (schema.Any, *Error) {
	if strings.ContainsAny(s, ".eE") {
		x, err := strconv.ParseFloat(s, 64)
		if err != nil {
			return schema.Any{}, r.refuseAt(at, "a number in the range of float64", "the number "+shorten(s))
		}
		return schema.Any{Value: x}, nil
	}
	for _, k := range []schema.Kind{schema.KindInt64, schema.KindUint64} {
		if n, ok := schema.ParseInteger(k, s); ok {
			return schema.Any{Value: n}, nil
		}
	}
	return schema.Any{}, r.refuseAt(at, "an integer in the range of int64 or uint64", "the number "+shorten(s))
}

func (w *jsonWriter) any(a schema.Any) *Error {
	switch v := a.Value.(type) {
	case nil:
		w.out = append(w.out, "null"...)
	case bool:
		w.out = strconv.AppendBool(w.out, v)
	case int64:
		w.out = strconv.AppendInt(w.out, v, 10)
	case uint64:
		w.out = strconv.AppendUint(w.out, v, 10)
	case float64:
		if v != v || v-v != 0 {
			return writeError("%v, which an any can't contain", v)
		}
		from := len(w.out)
		w.out = AppendFloat(w.out, v)
		if !strings.ContainsAny(string(w.out[from:]), ".e") {
			w.out = append(w.out, ".0"...)
		}
	case string:
		if !utf8.ValidString(v) {
			return writeError("text that is not UTF-8")
		}
		w.out = AppendString(w.out, v)
	case []schema.Any:
		return w.list(len(v), func(i int) *Error { return w.any(v[i]) })
	case []schema.AnyEntry:
		entries := sortedAny(v)
		return w.object(len(entries), func(i int) (string, *Error) { return entries[i].Key, nil },
			func(i int) *Error { return w.any(entries[i].Value) })
	default:
		return writeError("an any of the Go type %T", v)
	}
	return nil
}
