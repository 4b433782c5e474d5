package value

import (
	"math"
	"math/big"
	"math/bits"
	"slices"
	"strings"

	"faithfulcourier/internal/pattern"
	"faithfulcourier/internal/schema"
)

// maxMade is how long a text or list is made at most.
const maxMade = 10_000

// Countless is the Capacity of a type with more values than are counted.
const Countless = math.MaxUint64

// codePoints is how many code points a text may be made of: all but surrogates.
const codePoints = 0x110000 - 0x800

// Capacity is how many values of a type are told apart in a list whose elements are
// unique, or as keys of a map, within its bounds and those of its field. It counts up
// to most; more than that is Countless.
func Capacity(t *schema.Type, own *schema.Bounds, most uint64) uint64 {
	c := counter{most: most}
	if n := c.of(t, own); n <= most {
		return n
	}
	return Countless
}

type counter struct {
	most   uint64
	inside []any // messages and unions that are being counted
	steps  int
}

// mostSteps is how many types are looked at before there are said to be countless
// values: only few small types have few values.
const mostSteps = 2000

// plus and times count up to Countless.
func plus(a, b uint64) uint64 {
	sum, carry := bits.Add64(a, b, 0)
	if carry != 0 {
		return Countless
	}
	return sum
}

func times(a, b uint64) uint64 {
	high, low := bits.Mul64(a, b)
	if high != 0 {
		return Countless
	}
	return low
}

// powers is the sum of base to the powers low to high.
func powers(base, low, high uint64) (sum uint64) {
	if base <= 1 {
		switch {
		case base == 1:
			return plus(high-low, 1)
		case low == 0:
			return 1
		}
		return 0
	}
	term := uint64(1)
	for k := uint64(0); k <= high && sum < Countless; k++ {
		if k >= low {
			sum = plus(sum, term)
		}
		term = times(term, base)
	}
	return sum
}

func (c *counter) of(t *schema.Type, own *schema.Bounds) uint64 {
	if c.steps++; c.steps > mostSteps {
		return Countless
	}
	bounds := boundsOf(t, own)
	lengths := func() (low, high uint64) {
		return limits(bounds, func(b *schema.Bounds) *schema.Limits { return b.Length })
	}
	switch t.Kind {
	case schema.KindBool:
		return 2
	case schema.KindEnum:
		return uint64(len(t.Enum.Members))
	case schema.KindText:
		low, high := lengths()
		if low > high {
			return 0
		}
		if nodes := patterns(bounds); len(nodes) > 0 {
			n, err := pattern.NewAutomaton(nodes...).Count(low, high, c.most)
			if err != nil {
				return Countless
			}
			return n
		}
		return powers(codePoints, low, high)
	case schema.KindBytes:
		low, high := lengths()
		if low > high {
			return 0
		}
		return powers(256, low, high)
	case schema.KindList, schema.KindMap:
		return c.many(t, bounds)
	case schema.KindMessage:
		return c.within(t.Message, func() uint64 {
			n := uint64(1)
			for _, f := range t.Message.Fields {
				of := c.of(f.Type, f.Bounds)
				if f.Presence == schema.Optional {
					of = plus(of, 1)
				}
				if f.Type.Clearable {
					of = plus(of, 1)
				}
				n = times(n, of)
			}
			return n
		})
	case schema.KindUnion:
		return c.within(t.Union, func() (n uint64) {
			for _, a := range t.Union.Alternatives {
				n = plus(n, c.of(a.Type, nil))
			}
			return n
		})
	}
	return span(t.Kind, bounds)
}

// within counts a message or a union; one inside of itself has no end.
func (c *counter) within(of any, count func() uint64) uint64 {
	if slices.Contains(c.inside, of) || len(c.inside) > 20 {
		return Countless
	}
	c.inside = append(c.inside, of)
	defer func() { c.inside = c.inside[:len(c.inside)-1] }()
	return count()
}

// many counts lists and maps.
func (c *counter) many(t *schema.Type, bounds []*schema.Bounds) uint64 {
	low, high := limits(bounds, func(b *schema.Bounds) *schema.Limits { return b.Count })
	if high == 0 {
		return 1
	}
	elements := c.of(t.Elem, nil)
	if t.Kind == schema.KindList && !isUnique(bounds) {
		return powers(elements, low, high)
	}
	// Some of the elements in order, or some of the keys, each with any value.
	of, each := elements, uint64(1)
	if t.Kind == schema.KindMap {
		of, each = c.of(t.Key, nil), elements
	}
	total, term := uint64(0), uint64(1)
	for k := uint64(0); k <= min(high, of) && total < Countless; k++ {
		if k >= low {
			total = plus(total, term)
		}
		if k < of {
			term = times(term, times(of-k, each))
			if t.Kind == schema.KindMap {
				term = max(term/(k+1), 1) // close enough: what counts is how few there may be
			}
		}
	}
	return total
}

func isUnique(bounds []*schema.Bounds) bool {
	return slices.ContainsFunc(bounds, func(b *schema.Bounds) bool { return b.Unique })
}

func patterns(bounds []*schema.Bounds) (nodes []*pattern.Node) {
	for _, b := range bounds {
		if node, problem := pattern.Parse(b.Pattern); b.Pattern != "" && problem == nil {
			nodes = append(nodes, node)
		}
	}
	return nodes
}

// span counts the values of a kind that has an order.
func span(k schema.Kind, bounds []*schema.Bounds) uint64 {
	low, high := Ends(k, bounds)
	if low == nil || high == nil {
		return Countless
	}
	order, ordered := schema.Compare(low, high)
	if !ordered || order > 0 {
		return 0
	}
	difference := func(a, b int64) uint64 { return plus(uint64(b)-uint64(a), 1) }
	switch low := low.(type) {
	case int64:
		return difference(low, high.(int64))
	case uint64:
		return plus(high.(uint64)-low, 1)
	case schema.Date:
		return difference(int64(low), int64(high.(schema.Date)))
	case schema.Duration:
		return difference(int64(low), int64(high.(schema.Duration)))
	case schema.Instant:
		high := high.(schema.Instant)
		seconds := uint64(high.Seconds - low.Seconds)
		if seconds > math.MaxInt64/1_000_000_000 {
			return Countless
		}
		return uint64(int64(seconds*1e9)+int64(high.Nanos)-int64(low.Nanos)) + 1
	case schema.Decimal:
		if order == 0 {
			return 1
		}
	case float32:
		return span(schema.KindFloat64, []*schema.Bounds{{Low: float64(low), High: float64(high.(float32))}})
	case float64:
		if order == 0 && low != 0 {
			return 1
		}
		if order == 0 {
			return 2 // 0 and -0
		}
	}
	return Countless
}

// Ends are the least and the greatest value of an ordered kind within bounds, nil
// where there is none.
func Ends(k schema.Kind, bounds []*schema.Bounds) (low, high any) {
	switch {
	case k.IsUnsigned():
		_, most := k.Range()
		low, high = uint64(0), most
	case k.IsInteger():
		least, most := k.Range()
		low, high = least, int64(most)
	case k == schema.KindDate:
		low, high = schema.MinDate, schema.MaxDate
	case k == schema.KindInstant:
		low = schema.Instant{Seconds: schema.MinInstantSeconds}
		high = schema.Instant{Seconds: schema.MaxInstantSeconds, Nanos: 999_999_999}
	case k == schema.KindDuration:
		low, high = schema.Duration(math.MinInt64), schema.Duration(math.MaxInt64)
	}
	for _, b := range bounds {
		low, high = tighter(low, b.Low, 1), tighter(high, b.High, -1)
	}
	return low, high
}

// Distinct returns up to so many lawful values of a type that are told apart as those
// that Capacity counts are: fewer only where there are no more, or where messages and
// unions nest deeply.
func Distinct(t *schema.Type, own *schema.Bounds, most int) []Value {
	return maker{minimals: Minimals{}}.distinct(t, own, most)
}

// maker makes different values; it counts how deep in messages and unions it is.
type maker struct {
	depth    int
	minimals Minimals
}

func (m maker) distinct(t *schema.Type, own *schema.Bounds, most int) []Value {
	if most <= 0 {
		return nil
	}
	bounds := boundsOf(t, own)
	switch t.Kind {
	case schema.KindBool:
		return []Value{false, true}[:min(most, 2)]
	case schema.KindEnum:
		var list []Value
		for _, member := range t.Enum.Members[:min(most, len(t.Enum.Members))] {
			list = append(list, Enum{Number: member.Number})
		}
		return list
	case schema.KindText:
		return texts(bounds, most)
	case schema.KindBytes:
		return byteStrings(bounds, most)
	case schema.KindUUID:
		var list []Value
		for i := range most {
			list = append(list, schema.UUID{12: byte(i >> 24), 13: byte(i >> 16), 14: byte(i >> 8), 15: byte(i)})
		}
		return list
	case schema.KindAny:
		var list []Value
		for i := range most {
			list = append(list, schema.Any{Value: int64(i)})
		}
		return list
	case schema.KindList:
		return m.lists(t, bounds, most)
	case schema.KindMap:
		return m.maps(t, bounds, most)
	case schema.KindMessage:
		return m.messages(t.Message, most)
	case schema.KindUnion:
		if m.depth > 3 {
			return []Value{m.minimals.Within(t, nil)}
		}
		m.depth++
		var list []Value
		for _, a := range t.Union.Alternatives {
			for _, v := range m.distinct(a.Type, nil, most-len(list)) {
				list = append(list, &Union{Number: a.Number, Value: v})
			}
		}
		return list
	}
	return inOrder(t.Kind, bounds, most)
}

// texts are the shortest ones first.
func texts(bounds []*schema.Bounds, most int) (list []Value) {
	low, high := limits(bounds, func(b *schema.Bounds) *schema.Limits { return b.Length })
	if low > high || low > maxMade {
		return nil
	}
	if nodes := patterns(bounds); len(nodes) > 0 {
		all, _ := pattern.NewAutomaton(nodes...).Texts(low, min(high, maxMade), most)
		for _, text := range all {
			list = append(list, text)
		}
		return list
	}
	alphabet := []rune("abcdefghijklmnopqrstuvwxyz0123456789")
	if low == high && low == 1 {
		for r := rune(0x4e00); len(alphabet) < most && r < 0x9fff; r++ {
			alphabet = append(alphabet, r)
		}
	}
	for length := low; length <= high && len(list) < most; length++ {
		counted(len(alphabet), int(length), most-len(list), func(digits []int) {
			var b strings.Builder
			for _, d := range digits {
				b.WriteRune(alphabet[d])
			}
			list = append(list, b.String())
		})
	}
	return list
}

func byteStrings(bounds []*schema.Bounds, most int) (list []Value) {
	low, high := limits(bounds, func(b *schema.Bounds) *schema.Limits { return b.Length })
	if low > maxMade {
		return nil
	}
	for length := low; length <= high && len(list) < most; length++ {
		counted(256, int(length), most-len(list), func(digits []int) {
			b := make([]byte, length)
			for i, d := range digits {
				b[i] = byte(d)
			}
			list = append(list, b)
		})
	}
	return list
}

// counted counts with so many digits, the last one fastest, up to most numbers.
func counted(base, width, most int, each func(digits []int)) {
	digits := make([]int, width)
	for range most {
		each(digits)
		i := width - 1
		for ; i >= 0; i-- {
			if digits[i]++; digits[i] < base {
				break
			}
			digits[i] = 0
		}
		if i < 0 {
			return
		}
	}
}

// combined is counted with other choices for each place: as many as are needed for
// most results are asked for, beginning with the last place.
func combined(places int, choices func(place, most int) []Value, most int, each func(values []Value) bool) {
	all := make([][]Value, places)
	need := most
	for i := places - 1; i >= 0; i-- {
		all[i] = choices(i, need)
		if len(all[i]) == 0 {
			return
		}
		need = (need + len(all[i]) - 1) / len(all[i])
	}
	at, values := make([]int, places), make([]Value, places)
	for made, tries := 0, 0; made < most && tries < 20*most+1000; tries++ {
		for i := range values {
			values[i] = all[i][at[i]]
		}
		if each(values) {
			made++
		}
		i := places - 1
		for ; i >= 0; i-- {
			if at[i]++; at[i] < len(all[i]) {
				break
			}
			at[i] = 0
		}
		if i < 0 {
			return
		}
	}
}

func (m maker) lists(t *schema.Type, bounds []*schema.Bounds, most int) (list []Value) {
	low, high := limits(bounds, func(b *schema.Bounds) *schema.Limits { return b.Count })
	unique := isUnique(bounds)
	for size := low; size <= high && size <= maxMade && len(list) < most; size++ {
		before := len(list)
		if unique {
			// Each turns the same different elements round.
			elements := m.distinct(t.Elem, nil, max(int(size), most-len(list)))
			if uint64(len(elements)) < size {
				break
			}
			for i := 0; i < max(len(elements), 1) && len(list) < most && (i == 0 || size > 0); i++ {
				turned := slices.Concat(elements[i:], elements[:i])[:size]
				list = append(list, List(turned))
			}
			continue
		}
		combined(int(size), func(_, most int) []Value { return m.distinct(t.Elem, nil, most) }, most-len(list),
			func(values []Value) bool {
				list = append(list, List(slices.Clone(values)))
				return true
			})
		if len(list) == before {
			break // no element can be made
		}
	}
	return list
}

func (m maker) maps(t *schema.Type, bounds []*schema.Bounds, most int) (list []Value) {
	low, high := limits(bounds, func(b *schema.Bounds) *schema.Limits { return b.Count })
	for size := low; size <= high && size <= maxMade && len(list) < most; size++ {
		keys := m.distinct(t.Key, nil, max(int(size), most-len(list)))
		if uint64(len(keys)) < size {
			break
		}
		if size == 0 {
			list = append(list, &Map{})
			continue
		}
		values := m.distinct(t.Elem, nil, most-len(list))
		for i := 0; i < len(keys) && len(list) < most; i++ {
			for _, v := range values[:min(len(values), most-len(list))] {
				out := &Map{}
				for _, key := range slices.Concat(keys[i:], keys[:i])[:size] {
					out.Entries = append(out.Entries, Entry{key, v})
				}
				sortEntries(out.Entries)
				list = append(list, out)
			}
			if uint64(len(keys)) == size {
				break // the same keys in another turn
			}
		}
	}
	return list
}

func (m maker) messages(t *schema.Message, most int) (list []Value) {
	if m.depth > 3 || most == 1 {
		return []Value{m.minimals.message(t)}
	}
	m.depth++
	combined(len(t.Fields), func(i, most int) []Value {
		f := t.Fields[i]
		if f.Type.Clearable && most > 1 {
			return append([]Value{nil, Cleared{}}, m.distinct(f.Type, f.Bounds, most-2)...)
		}
		if f.Presence == schema.Optional {
			return append([]Value{nil}, m.distinct(f.Type, f.Bounds, most-1)...)
		}
		if f.Presence == schema.Defaulted && most == 1 {
			return []Value{Default(f.Default)}
		}
		return m.distinct(f.Type, f.Bounds, most)
	}, most, func(values []Value) bool {
		out := &Message{Type: t, Fields: map[int]Value{}}
		for i, f := range t.Fields {
			if values[i] != nil {
				out.Fields[f.Number] = values[i]
			}
		}
		list = append(list, out)
		return true
	})
	return list
}

// inOrder are values of an ordered kind, one after the other.
func inOrder(k schema.Kind, bounds []*schema.Bounds, most int) (list []Value) {
	low, high := Ends(k, bounds)
	if most = int(min(uint64(most), span(k, bounds))); most == 0 {
		return nil
	}
	for i := range most {
		var v Value
		switch low := low.(type) {
		case int64:
			v = fromZero(low, high.(int64), int64(i), int64(most))
		case uint64:
			v = low + uint64(i)
		case schema.Date:
			v = schema.Date(fromZero(int64(low), int64(high.(schema.Date)), int64(i), int64(most)))
		case schema.Duration:
			v = schema.Duration(fromZero(int64(low), int64(high.(schema.Duration)), int64(i), int64(most)))
		case schema.Instant:
			start := fromZero(low.Seconds, high.(schema.Instant).Seconds, 0, 0)
			nanos := int64(i)
			if start == low.Seconds {
				nanos += int64(low.Nanos)
			}
			v = schema.Instant{Seconds: start + nanos/1e9, Nanos: int32(nanos % 1e9)}
		}
		if v == nil {
			break
		}
		list = append(list, v)
	}
	switch k {
	case schema.KindFloat32, schema.KindFloat64:
		return floats(k, low, high, most)
	case schema.KindDecimal:
		return decimalsBetween(low, high, most)
	}
	return list
}

// fromZero is the i-th of most integers: from 0 where they all lie within the limits,
// else from the lower limit.
func fromZero(low, high, i, most int64) int64 {
	if low <= 0 && high-most >= 0 {
		return i
	}
	return low + i
}

func floats(k schema.Kind, low, high any, most int) (list []Value) {
	wide := func(v any) float64 {
		switch v := v.(type) {
		case float32:
			return float64(v)
		case float64:
			return v
		}
		return math.NaN()
	}
	x, last := wide(low), wide(high)
	if x == 0 && last == 0 {
		x = math.Copysign(0, -1)
	}
	step := 1.0
	switch {
	case low == nil && high == nil:
		x, last = 0, math.Inf(1)
	case low == nil:
		x, last, step = last, math.Inf(-1), -1
	case high == nil:
		last = math.Inf(1)
	}
	for len(list) < most && (step > 0 && x <= last || step < 0 && x >= last) {
		if k == schema.KindFloat32 {
			list = append(list, float32(x))
		} else {
			list = append(list, x)
		}
		switch next := x + step; {
		case x == 0 && math.Signbit(x):
			x = 0
		case math.Abs(next-x) == 1 && (step < 0 || next+float64(most) <= last):
			x = next
		case k == schema.KindFloat32:
			x = float64(math.Nextafter32(float32(x), float32(math.Inf(int(step)))))
		default:
			x = math.Nextafter(x, math.Inf(int(step)))
		}
	}
	return list
}

// decimalsBetween are decimals at equal steps, as coarse as they may be.
func decimalsBetween(low, high any, most int) (list []Value) {
	if low == nil && high == nil {
		low = schema.Decimal{Coefficient: "0"}
	}
	from, step := low, big.NewRat(1, 1)
	if low == nil {
		from, step = high, big.NewRat(-1, 1)
	}
	at := decimalRat(from.(schema.Decimal))
	scale := from.(schema.Decimal).Scale
	if low != nil && high != nil {
		room := new(big.Rat).Sub(decimalRat(high.(schema.Decimal)), at)
		for room.Sign() > 0 && scale < 34 && new(big.Rat).Mul(step, big.NewRat(int64(most), 1)).Cmp(room) > 0 {
			step.Mul(step, big.NewRat(1, 10))
			scale++
		}
	}
	for range most {
		text := at.FloatString(int(scale))
		if d, err := schema.ParseDecimal(text); err == nil {
			if order := 0; high != nil {
				if order, _ = schema.Compare(d, high); order > 0 {
					break
				}
			}
			list = append(list, d)
		}
		at = new(big.Rat).Add(at, step)
	}
	return list
}

func decimalRat(d schema.Decimal) *big.Rat {
	return new(big.Rat).SetFrac(d.Big(), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(d.Scale)), nil))
}

// WithEntry is a map with an entry more, which Sorted puts in its place.
func WithEntry(m *Map, key, v Value) *Map {
	m.Entries = append(m.Entries, Entry{key, v})
	return m
}

// Sorted puts the entries of a map in order.
func Sorted(m *Map) *Map {
	sortEntries(m.Entries)
	return m
}
