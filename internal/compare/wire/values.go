package wire

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"math/big"
	"slices"
	"strings"

	"faithfulcourier/internal/pattern"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// candidates are the values of a spot's written type at which its reader can differ: if
// any lawful value is refused or read otherwise, one of these is. What is refused and
// what is read otherwise begins and ends at limits of either side, or where one kind of
// numbers ends; texts are found by the automata of the patterns. Simple ones come first.
// undecided says that the patterns were too large.
func (w *walker) candidates(s spot, depth int) (list []example, undecided bool) {
	add := func(values ...value.Value) {
		for _, v := range values {
			list = append(list, example{value: v})
		}
	}
	add(w.minimals.Within(s.wt, s.wb))
	k := s.wt.Kind
	switch {
	case k.IsInteger():
		add(integers(s)...)
	case k == schema.KindFloat32 || k == schema.KindFloat64:
		add(floats(s)...)
	case k == schema.KindDecimal:
		add(decimals(s)...)
	case k == schema.KindText:
		texts, open := textsOf(s)
		return append(list, texts...), open
	case k == schema.KindBytes:
		return append(list, byteStrings(s)...), false
	case k == schema.KindInstant || k == schema.KindDate || k == schema.KindDuration:
		add(times(s)...)
	case k == schema.KindUnion, k == schema.KindMessage:
		add(w.minimals.Edges(s.wt)...)
		if s.rt.Kind == schema.KindAny && depth < 4 {
			add(w.nested(s, depth)...)
		}
	case k == schema.KindList || k == schema.KindMap:
		if depth > 4 {
			return list, false
		}
		if empty(s.wt, s.wb) {
			return list, false
		}
		inside := func(wt *schema.Type, key bool) {
			elements, open := w.candidates(spot{wt: wt, rt: elementOf(s.rt, key)}, depth+1)
			undecided = undecided || open
			for _, e := range elements {
				if e.large == "" {
					add(value.Holding(s.wt, s.wb, e.value, key))
				}
			}
		}
		add(w.minimals.Edges(s.wt)...)
		add(value.Distinct(s.wt, s.wb, 8)...)
		if k == schema.KindMap {
			inside(s.wt.Key, true)
			add(w.namedEntries(s, depth)...)
		}
		inside(s.wt.Elem, false)
	default: // of a bool, a uuid, an enum and an any there are few that differ
		add(w.minimals.Edges(s.wt)...)
	}
	return list, undecided
}

// namedEntries are maps as a reader sees them that takes keys for names: of fields, of
// alternatives, or of what it does not list; and one of two entries.
func (w *walker) namedEntries(s spot, depth int) (list []value.Value) {
	as := map[string]*schema.Type{}
	switch s.rt.Kind {
	case schema.KindMessage:
		for _, f := range s.rt.Message.Fields {
			as[f.JSONName()] = f.Type
		}
	case schema.KindUnion:
		for _, a := range s.rt.Union.Alternatives {
			as[a.JSONName()] = a.Type
		}
	case schema.KindAny:
	default:
		return nil
	}
	if s.rt.Kind == schema.KindAny {
		return append(list, w.manyKeys(s, 12)) // whose order may be another one
	}
	list = append(list, w.manyKeys(s, 2))
	if s.wt.Key.Kind != schema.KindText {
		return list
	}
	for _, name := range append(slices.Sorted(maps.Keys(as)), "#0", "#1", "#1x", "a") {
		elements := []example{{value: w.minimals.Within(s.wt.Elem, nil)}}
		if as[name] != nil {
			elements, _ = w.candidates(spot{wt: s.wt.Elem, rt: as[name]}, depth+1)
		}
		for _, e := range elements[:min(len(elements), 40)] {
			if e.large == "" {
				list = append(list, &value.Map{Entries: []value.Entry{{Key: name, Value: e.value}}})
			}
		}
	}
	return list
}

// manyKeys is a map of several different keys, those at the edges of their type among
// them.
func (w *walker) manyKeys(s spot, most int) value.Value {
	out, taken := &value.Map{}, map[value.Value]bool{}
	keys, _ := w.candidates(spot{wt: s.wt.Key, rt: s.wt.Key}, 5)
	for _, key := range value.Distinct(s.wt.Key, nil, most) {
		keys = append(keys, example{value: key})
	}
	_, high, _ := countLimits(s.wt, s.wb)
	for _, e := range keys {
		lawful := e.large == "" && len(value.Validate(only(alone(s.wt.Key, nil), e.value))) == 0
		if lawful && !taken[e.value] && len(taken) < min(most, int(min(high, 100))) {
			taken[e.value] = true
			out = value.WithEntry(out, e.value, w.minimals.Within(s.wt.Elem, nil))
		}
	}
	return value.Sorted(out)
}

// nested are values of a union or a message with what differs when it is read as an any.
func (w *walker) nested(s spot, depth int) (list []value.Value) {
	inside := func(t *schema.Type, b *schema.Bounds, put func(value.Value) value.Value) {
		if t.Kind.IsScalar() || t.Kind == schema.KindEnum {
			return // its edges do
		}
		examples, _ := w.candidates(spot{wt: t, rt: s.rt, wb: b}, depth+1)
		for _, e := range examples[:min(len(examples), 60)] {
			if e.large == "" {
				list = append(list, put(e.value))
			}
		}
	}
	if s.wt.Kind == schema.KindUnion {
		for _, a := range s.wt.Union.Alternatives {
			inside(a.Type, nil, func(v value.Value) value.Value { return &value.Union{Number: a.Number, Value: v} })
		}
		return list
	}
	all := w.minimals.Message(s.wt.Message) // whose order may be another one
	for _, f := range s.wt.Message.Fields {
		if a, isAny := w.minimals.Within(f.Type, f.Bounds).(schema.Any); !isAny || a.Value != nil {
			all.Fields[f.Number] = w.minimals.Within(f.Type, f.Bounds)
		}
	}
	list = append(list, all)
	for _, f := range s.wt.Message.Fields {
		inside(f.Type, f.Bounds, func(v value.Value) value.Value {
			m := w.minimals.Message(s.wt.Message)
			m.Fields[f.Number] = v
			return m
		})
	}
	return list
}

// elementOf is what an element or key is read as, where that is known.
func elementOf(rt *schema.Type, key bool) *schema.Type {
	switch {
	case rt.Kind == schema.KindMap && key:
		return rt.Key
	case rt.Kind == schema.KindList || rt.Kind == schema.KindMap:
		return rt.Elem
	}
	return rt
}

// integers are those at limits, and where numbers of other kinds end.
func integers(s spot) (list []value.Value) {
	low, high := value.Ends(s.wt.Kind, s.writers())
	from, to := number(low).Num(), number(high).Num()
	add := func(n *big.Int) {
		switch {
		case n.Cmp(from) < 0 || n.Cmp(to) > 0:
		case s.wt.Kind.IsUnsigned():
			list = append(list, n.Uint64())
		default:
			list = append(list, n.Int64())
		}
	}
	near := func(n *big.Int) {
		for _, step := range []int64{0, -1, 1} {
			add(new(big.Int).Add(n, big.NewInt(step)))
		}
	}
	near(big.NewInt(0))
	if s.rt.Kind.IsInteger() {
		least, most := value.Ends(s.rt.Kind, nil)
		near(number(most).Num())
		near(number(least).Num())
	}
	for _, b := range s.readers() {
		for _, limit := range []any{b.Low, b.High} {
			if n := number(limit); limit != nil && n != nil {
				near(new(big.Int).Div(n.Num(), n.Denom()))
			}
		}
	}
	near(to)
	near(from)
	if s.rt.Kind == schema.KindEnum {
		add(big.NewInt(math.MaxUint16 + 1))
		// The first number that is not listed.
		n := new(big.Int).Set(from)
		if n.Sign() < 0 {
			n.SetInt64(0)
		}
		for n.IsInt64() && n.Int64() <= math.MaxUint16 && s.rt.Enum.ByNumber(int(n.Int64())) != nil {
			n.Add(n, big.NewInt(1))
		}
		add(n)
	}
	return list
}

// floats are those at limits, whole and not, and those that are no numbers.
func floats(s spot) (list []value.Value) {
	narrow := s.wt.Kind == schema.KindFloat32
	add := func(x float64) {
		if narrow {
			list = append(list, float32(x))
			return
		}
		list = append(list, x)
	}
	near := func(x float64) {
		add(x)
		for _, end := range []float64{math.Inf(-1), math.Inf(1)} {
			if narrow {
				list = append(list, math.Nextafter32(float32(x), float32(end)))
			} else {
				list = append(list, math.Nextafter(x, end))
			}
			if whole := math.Trunc(x); whole != x {
				add(whole)
			}
		}
	}
	for _, x := range []float64{1.5, 0.5, 0.1} {
		add(x)
	}
	for _, b := range slices.Concat(s.writers(), s.readers()) {
		for _, limit := range []any{b.Low, b.High} {
			if n := number(limit); limit != nil && n != nil {
				x, _ := n.Float64()
				near(x)
			}
		}
	}
	low, high := value.Ends(s.wt.Kind, s.writers())
	if low != nil && high != nil && number(low) != nil && number(high) != nil {
		middle, _ := new(big.Rat).Quo(new(big.Rat).Add(number(low), number(high)), big.NewRat(2, 1)).Float64()
		near(middle)
		near(math.Trunc(middle))
	}
	// From 2⁶⁴ up to 10²¹ a float prints as an integer that nothing but a float can be.
	for _, x := range []float64{0, 1, -1, math.Copysign(0, -1), 1<<24 + 1, 1<<53 + 2, 1e10, 1e19, 1e20, -1e20, 1e30, -1e30,
		math.MaxFloat32, 1e300, -1e300, math.SmallestNonzeroFloat32, math.SmallestNonzeroFloat64, math.NaN(), math.Inf(1),
		math.Inf(-1)} {
		add(x)
	}
	return list
}

// decimals are those at limits, at more than one scale.
func decimals(s spot) (list []value.Value) {
	add := func(text string) {
		if d, err := schema.ParseDecimal(text); err == nil {
			list = append(list, d)
		}
	}
	near := func(r *big.Rat) {
		for _, scale := range []int{0, 1, 2, 20} {
			add(r.FloatString(scale))
		}
		for _, step := range []*big.Rat{big.NewRat(1, 10), big.NewRat(-1, 10), big.NewRat(1, 1), big.NewRat(-1, 1)} {
			add(new(big.Rat).Add(r, step).FloatString(1))
		}
	}
	for _, b := range slices.Concat(s.writers(), s.readers()) {
		for _, limit := range []any{b.Low, b.High} {
			if limit == nil || number(limit) == nil {
				continue
			}
			if d, isDecimal := limit.(schema.Decimal); isDecimal {
				list = append(list, d)
				add(number(d).FloatString(d.Scale + 1))
			}
			near(number(limit))
		}
	}
	low, high := value.Ends(s.wt.Kind, s.writers())
	if low != nil && high != nil {
		near(new(big.Rat).Quo(new(big.Rat).Add(number(low), number(high)), big.NewRat(2, 1)))
	}
	near(new(big.Rat))
	for _, text := range []string{"1.50", "-1.5", "0.0001", "9007199254740993", "9999999999999999999999999999999999",
		"-9999999999999999999999999999999999", "0.1234567890123456789012345678901234"} {
		add(text)
	}
	return list
}

// times are instants, dates and durations at limits, whole seconds and not.
func times(s spot) (list []value.Value) {
	low, high := value.Ends(s.wt.Kind, s.writers())
	list = append(list, value.Distinct(&schema.Type{Kind: s.wt.Kind}, &schema.Bounds{Low: low, High: high}, 2)...)
	add := func(limit any) {
		list = append(list, limit)
		switch v := limit.(type) {
		case schema.Instant:
			for _, nanos := range []int32{0, 1, 500_000_000, 999_999_999} {
				for _, seconds := range []int64{v.Seconds, v.Seconds - 1, v.Seconds + 1} {
					if seconds >= schema.MinInstantSeconds && seconds <= schema.MaxInstantSeconds {
						list = append(list, schema.Instant{Seconds: seconds, Nanos: nanos})
					}
				}
			}
		case schema.Date:
			if v > schema.MinDate && v < schema.MaxDate {
				list = append(list, v-1, v+1)
			}
		case schema.Duration:
			if v > math.MinInt64+1_500_000_000 && v < math.MaxInt64-1_500_000_000 {
				list = append(list, v-1, v+1, v+1_500_000_000)
			}
		}
	}
	add(low)
	add(high)
	for _, b := range s.readers() {
		for _, limit := range []any{b.Low, b.High} {
			if fmt.Sprintf("%T", limit) == fmt.Sprintf("%T", low) {
				add(limit)
			}
		}
	}
	return append(list, value.Edges(&schema.Type{Kind: s.wt.Kind})...)
}

// lengths are the least and greatest length that bounds allow.
func lengths(bounds []*schema.Bounds) (low, high uint64) {
	high = schema.Unlimited
	for _, b := range bounds {
		if b.Length != nil {
			low, high = max(low, b.Length.Low), min(high, b.Length.High)
		}
	}
	return low, high
}

func byteStrings(s spot) (list []example) {
	low, high := lengths(s.writers())
	add := func(n uint64) {
		switch {
		case n < low || n > high:
		case n > 64*mostMade:
			list = append(list, example{large: fmt.Sprintf("%d bytes", n)})
		default:
			b := make([]byte, n)
			list = append(list, example{value: b})
			if n <= 64 {
				b = slices.Clone(b)
				for i := range b {
					b[i] = 0xfb // digits that differ between the alphabets of base64
				}
				list = append(list, example{value: b})
			}
		}
	}
	add(low)
	add(min(high, low+1))
	add(min(high, low+2))
	for _, b := range s.readers() {
		if b.Length != nil && s.rt.Kind == schema.KindBytes {
			if low < b.Length.Low {
				add(low)
			}
			if b.Length.High < high {
				add(max(low, b.Length.High+1))
			}
		}
	}
	if s.rt.Kind != schema.KindBytes {
		for _, n := range []uint64{0, 1, 2, 3, 4, 12, 16, 27, 36, 100, 1000, high} {
			if n <= 10*mostMade {
				add(n)
			}
		}
	}
	return list
}

// canonical are the texts that JSON writes values of a kind as, as far as a pattern
// says it: all other texts are refused, or written otherwise again.
var canonical = map[schema.Kind]string{
	schema.KindUUID:  "^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$",
	schema.KindBytes: "^([A-Za-z0-9_-]{4})*([A-Za-z0-9_-]([AQgw]|[A-Za-z0-9_-][AEIMQUYcgkosw048]))?$",
	schema.KindDate: "^[0-9]{4}-(0[13578]|1[02])-(0[1-9]|[12][0-9]|3[01])$|" +
		"^[0-9]{4}-(0[469]|11)-(0[1-9]|[12][0-9]|30)$|^[0-9]{4}-02-(0[1-9]|1[0-9]|2[0-8])$",
	schema.KindDecimal:  `^-?(0|[1-9][0-9]{0,16})(\.[0-9]{1,16})?$`,
	schema.KindInstant:  `^[0-9]{4}-(0[1-9]|1[0-2])-(0[1-9]|1[0-9]|2[0-8])T([01][0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9](\.[0-9]{0,8}[1-9])?Z$`,
	schema.KindDuration: `^-?PT(0|[1-9][0-9]{0,8})(\.[0-9]{0,8}[1-9])?S$`,
}

// textsOf are texts that the writer's bounds allow: a shortest one, and for each bound of
// the reader a shortest one that it refuses.
func textsOf(s spot) (list []example, undecided bool) {
	writers := s.writers()
	low, high := lengths(writers)
	if low > high {
		return nil, false
	}
	var with []*pattern.Node
	for _, b := range writers {
		if node, problem := pattern.Parse(b.Pattern); b.Pattern != "" && problem == nil {
			with = append(with, node)
		}
	}
	find := func(without string, low, high uint64) {
		if low > high {
			return
		}
		var not []*pattern.Node
		if without != "" {
			node, problem := pattern.Parse(without)
			if problem != nil {
				return
			}
			not = append(not, node)
		}
		if len(with)+len(not) == 0 {
			list = append(list, plainText(low))
			return
		}
		automaton := pattern.Difference(with, not)
		there, err := automaton.Has(low, high)
		switch {
		case errors.Is(err, pattern.ErrTooLarge):
			undecided = true
		case !there:
		case low > mostMade:
			list = append(list, example{large: fmt.Sprintf("a text of at least %d characters", low)})
		default:
			if text, ok, err := automaton.Text(low, high, func(int) int { return 0 }); err == nil && ok {
				list = append(list, example{value: text})
			}
		}
	}
	find("", low, high)
	if s.rt.Kind == schema.KindText {
		for _, b := range s.readers() {
			if b.Length != nil {
				if b.Length.Low > 0 {
					find("", low, min(high, b.Length.Low-1))
				}
				if b.Length.High != schema.Unlimited {
					find("", max(low, b.Length.High+1), high)
				}
			}
			if b.Pattern != "" {
				find(b.Pattern, low, high)
			}
		}
		return list, undecided
	}
	if s.rt.Kind == schema.KindEnum {
		var names []string
		for _, m := range s.rt.Enum.Members {
			names = append(names, "^"+plain(m.JSONName())+"$")
		}
		if len(names) <= 200 {
			find(strings.Join(names, "|"), low, high)
		}
	}
	if same := canonical[s.rt.Kind]; same != "" {
		wide := undecided
		find(same, low, high)
		undecided = wide // what is found by trying will do
	}
	for _, v := range value.Distinct(s.wt, s.wb, 50) {
		list = append(list, example{value: v})
	}
	for _, v := range value.Edges(&schema.Type{Kind: schema.KindText}) {
		list = append(list, example{value: v})
	}
	return list, undecided
}

// plainText is a text of so many characters.
func plainText(n uint64) example {
	if n > 64*mostMade {
		return example{large: fmt.Sprintf("a text of %d characters", n)}
	}
	return example{value: strings.Repeat("a", int(n))}
}

// plain writes a text so that a pattern matches it alone.
func plain(text string) string {
	var b strings.Builder
	for _, r := range text {
		if strings.ContainsRune(`\.+*?()|[]{}^$`, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}
