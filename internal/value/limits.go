package value

import (
	"math"
	"math/big"
	"strings"

	"faithfulcourier/internal/pattern"
	"faithfulcourier/internal/schema"
)

// maxMade is how long a text or list is made at most.
const maxMade = 10_000

// AtLimits returns values of a type at the limits of bounds and one step
// beyond. The type's own range is kept, the bounds need not be.
func AtLimits(t *schema.Type, b *schema.Bounds) []Value {
	var list []Value
	for _, limit := range []any{b.Low, b.High} {
		if limit != nil {
			list = append(append(list, limit), beside(t.Kind, limit)...)
		}
	}
	for _, n := range around(b.Length) {
		if t.Kind == schema.KindBytes {
			list = append(list, make([]byte, n))
		} else {
			list = append(list, strings.Repeat("a", n), strings.Repeat("A", n), strings.Repeat("0", n))
		}
	}
	if b.Pattern != "" {
		if node, problem := pattern.Parse(b.Pattern); problem == nil {
			list = append(list, node.Shortest(), node.Shortest()+"!")
		}
	}
	if t.Kind == schema.KindList {
		for _, n := range around(b.Count) {
			list = append(list, repeated(t, n, false), repeated(t, n, true))
		}
		if b.Unique {
			list = append(list, repeated(t, 2, false))
		}
	}
	if t.Kind == schema.KindMap {
		keys := edges(t.Key, 0)
		for _, n := range around(b.Count) {
			m := &Map{}
			for i := range n {
				var key Value
				switch {
				case t.Key.Kind == schema.KindText:
					key = strings.Repeat("k", i)
				case i < len(keys):
					key = keys[i]
				default:
					continue
				}
				m.Entries = append(m.Entries, Entry{key, Minimal(t.Elem)})
			}
			sortEntries(m.Entries)
			list = append(list, m)
		}
	}
	return list
}

// repeated is a list of n elements, all alike or as different as may be.
func repeated(t *schema.Type, n int, different bool) List {
	candidates := []Value{Minimal(t.Elem)}
	if different {
		candidates = edges(t.Elem, 1)
	}
	list := List{}
	for i := range n {
		list = append(list, candidates[i%len(candidates)])
	}
	return list
}

// around are the limits and one beyond each, as far as they can be made.
func around(l *schema.Limits) []int {
	if l == nil {
		return nil
	}
	var list []int
	for _, n := range []uint64{l.Low, l.High} {
		if n <= maxMade {
			list = append(list, int(n), int(n)+1)
			if n > 0 {
				list = append(list, int(n)-1)
			}
		}
	}
	return list
}

// beside are the values next to a limit.
func beside(k schema.Kind, limit any) []Value {
	switch v := limit.(type) {
	case int64:
		low, high := k.Range()
		var list []Value
		if v > low {
			list = append(list, v-1)
		}
		if v < int64(high) {
			list = append(list, v+1)
		}
		return list
	case uint64:
		_, high := k.Range()
		var list []Value
		if v > 0 {
			list = append(list, v-1)
		}
		if v < high {
			list = append(list, v+1)
		}
		return list
	case float32:
		return []Value{math.Nextafter32(v, float32(math.Inf(-1))), math.Nextafter32(v, float32(math.Inf(1)))}
	case float64:
		return []Value{math.Nextafter(v, math.Inf(-1)), math.Nextafter(v, math.Inf(1))}
	case schema.Date:
		return dates(v)
	case schema.Duration:
		if v > math.MinInt64 && v < math.MaxInt64 {
			return []Value{v - 1, v + 1}
		}
	case schema.Instant:
		if v.Seconds > schema.MinInstantSeconds && v.Seconds < schema.MaxInstantSeconds {
			return []Value{schema.Instant{Seconds: v.Seconds - 1, Nanos: v.Nanos}, schema.Instant{Seconds: v.Seconds + 1, Nanos: v.Nanos}}
		}
	case schema.Decimal:
		return decimals(v)
	}
	return nil
}

func dates(d schema.Date) []Value {
	var list []Value
	if d > schema.MinDate {
		list = append(list, d-1)
	}
	if d < schema.MaxDate {
		list = append(list, d+1)
	}
	return list
}

// decimals are those one step of the last digit away.
func decimals(d schema.Decimal) []Value {
	var list []Value
	for _, step := range []int64{-1, 1} {
		n := d.Big()
		n.Add(n, big.NewInt(step))
		digits := ""
		if n.Sign() != 0 {
			digits = strings.TrimPrefix(n.String(), "-")
		}
		if made, err := schema.MakeDecimal(n.Sign() < 0, digits, -d.Scale); err == nil {
			list = append(list, made)
		}
	}
	return list
}
