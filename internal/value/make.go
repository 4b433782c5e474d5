package value

import (
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"slices"
	"strings"
	"unicode/utf8"

	"faithfulcourier/internal/pattern"
	"faithfulcourier/internal/schema"
)

// Maker makes values that definitions allow, for people to look at and to send:
// the same ones for the same seed.
type Maker struct {
	rng      *rand.Rand
	defs     *schema.Definitions
	inside   []*schema.Message // what is being made, outermost first
	unions   []*schema.Union   // likewise
	made     int64             // values so far
	sparse   bool              // leave some of what is optional out
	problems []Violation
}

// NewMaker returns a maker. defs are looked up for examples of nested messages.
func NewMaker(defs *schema.Definitions, seed uint64) *Maker {
	return &Maker{rng: rand.New(rand.NewPCG(seed, 0)), defs: defs}
}

// Impossible is the error of bounds that contradict each other: no value could
// keep them.
type Impossible struct {
	Message  *schema.Message
	Problems []Violation
}

func (e *Impossible) Error() string {
	s := "no value of " + e.Message.FullName() + " could be made"
	for _, p := range e.Problems {
		s += fmt.Sprintf("\n  %s: %s", p.Pointer, p.Detail)
	}
	return s
}

// Examples returns the values of a message that definitions show, by name.
func Examples(defs *schema.Definitions, t *schema.Message) []*Message {
	var list []*Message
	for _, module := range defs.Modules {
		for _, e := range module.Examples {
			if e.Of == t {
				list = append(list, FromExample(e.Value))
			}
		}
	}
	return list
}

// Make makes a message. The first one of a maker has all that it may hold; in
// those that follow some of what is optional is left out. The error is an
// *Impossible.
func (m *Maker) Make(t *schema.Message) (*Message, error) {
	m.problems, m.made = nil, 0
	v := m.message("", t)
	m.sparse = true
	problems := m.problems
	if len(problems) == 0 {
		problems = Validate(v)
	}
	if len(problems) > 0 {
		return nil, &Impossible{t, problems}
	}
	return v, nil
}

// Element makes the next element of a stream: an example where there are any,
// each in its turn, else one that is made.
func (m *Maker) Element(t *schema.Message, i int) (*Message, error) {
	if examples := Examples(m.defs, t); i < len(examples) {
		return examples[i], nil
	}
	return m.Make(t)
}

func (m *Maker) message(path string, t *schema.Message) *Message {
	m.inside = append(m.inside, t)
	defer func() { m.inside = m.inside[:len(m.inside)-1] }()
	out := &Message{Type: t, Fields: map[int]Value{}}
	for _, f := range t.Fields {
		at := path + "/" + escapePointer(f.JSONName())
		switch {
		case f.Type.Clearable && m.sparse && m.rng.IntN(4) == 0:
			out.Fields[f.Number] = Cleared{}
		case f.Presence == schema.Optional && (m.sparse && m.rng.IntN(3) == 0 || !m.affords(f.Type, f.Bounds) ||
			m.recurs(f.Type)):
		case f.Presence == schema.Defaulted && (!m.sparse || m.rng.IntN(2) == 0):
			out.Fields[f.Number] = Default(f.Default)
		default:
			out.Fields[f.Number] = m.value(at, f.Type, f.Bounds, f.Name)
		}
	}
	return out
}

// recurs tells whether every way on from a type leads back, for the second time,
// to what is being made.
func (m *Maker) recurs(t *schema.Type) bool { return m.leadsBack(t, nil) }

func (m *Maker) leadsBack(t *schema.Type, through []*schema.Union) bool {
	switch t.Kind {
	case schema.KindMessage:
		first := slices.Index(m.inside, t.Message)
		return first >= 0 && slices.Contains(m.inside[first+1:], t.Message)
	case schema.KindList, schema.KindMap:
		return m.leadsBack(t.Elem, through)
	case schema.KindUnion:
		if slices.Contains(through, t.Union) || m.deepIn(t.Union) {
			return true
		}
		through = append(through, t.Union)
		return !slices.ContainsFunc(t.Union.Alternatives,
			func(a *schema.Alternative) bool { return !m.leadsBack(a.Type, through) })
	}
	return false
}

// deepIn tells whether a union is inside of itself already.
func (m *Maker) deepIn(u *schema.Union) bool {
	first := slices.Index(m.unions, u)
	return first >= 0 && slices.Contains(m.unions[first+1:], u)
}

// enough is how many values are made before only what must be there is added.
const enough = 2000

// deep ends what could go on for very long by ways that recurs does not see.
func (m *Maker) deep() bool { return len(m.inside) > 12 || m.made > enough }

// affords tells whether there is room for what need not be there.
func (m *Maker) affords(t *schema.Type, own *schema.Bounds) bool {
	return !m.deep() && t.Smallest(own) <= enough-m.made
}

func (m *Maker) refuse(path, format string, args ...any) {
	m.problems = append(m.problems, Violation{Pointer: path, Detail: fmt.Sprintf(format, args...)})
}

// value makes a value of a type. hint is the name of the field that it is for.
func (m *Maker) value(path string, t *schema.Type, own *schema.Bounds, hint string) Value {
	m.made++
	bounds := boundsOf(t, own)
	switch t.Kind {
	case schema.KindBool:
		return m.rng.IntN(2) == 0
	case schema.KindText:
		return m.text(path, bounds, hint)
	case schema.KindBytes:
		low, high := limits(bounds, func(b *schema.Bounds) *schema.Limits { return b.Length })
		b := make([]byte, m.size(path, low, high, 8, "bytes"))
		for i := range b {
			b[i] = byte(m.rng.Uint32())
		}
		return b
	case schema.KindUUID:
		var u schema.UUID
		for i := range u {
			u[i] = byte(m.rng.Uint32())
		}
		u[6], u[8] = u[6]&0x0f|0x40, u[8]&0x3f|0x80 // random ones have these bits (RFC 9562, section 5.4)
		return u
	case schema.KindAny:
		return schema.Any{Value: m.word()}
	case schema.KindEnum:
		members := slices.DeleteFunc(slices.Clone(t.Enum.Members), func(e *schema.Member) bool { return e.Deprecated != "" })
		if len(members) == 0 {
			members = t.Enum.Members
		}
		return Enum{Number: members[m.rng.IntN(len(members))].Number}
	case schema.KindUnion:
		return m.union(path, t.Union)
	case schema.KindList:
		return m.list(path, t, bounds, hint)
	case schema.KindMap:
		return m.mapping(path, t, bounds)
	case schema.KindMessage:
		if examples := Examples(m.defs, t.Message); len(examples) > 0 {
			return examples[m.rng.IntN(len(examples))]
		}
		return m.message(path, t.Message)
	}
	return m.ordered(path, t.Kind, bounds)
}

func (m *Maker) union(path string, u *schema.Union) Value {
	m.unions = append(m.unions, u)
	defer func() { m.unions = m.unions[:len(m.unions)-1] }()
	open := slices.DeleteFunc(slices.Clone(u.Alternatives), func(a *schema.Alternative) bool {
		return a.Deprecated != "" || m.recurs(a.Type) || !m.affords(a.Type, nil)
	})
	if len(open) == 0 {
		return Minimals{}.union(u)
	}
	a := open[m.rng.IntN(len(open))]
	return &Union{Number: a.Number, Value: m.value(path+"/"+escapePointer(a.JSONName()), a.Type, nil, a.Name)}
}

// limits are those that all bounds allow.
func limits(bounds []*schema.Bounds, of func(*schema.Bounds) *schema.Limits) (low, high uint64) {
	high = schema.Unlimited
	for _, b := range bounds {
		if l := of(b); l != nil {
			low, high = max(low, l.Low), min(high, l.High)
		}
	}
	return low, high
}

// size chooses how large something is: as a rule usual, or what is near.
func (m *Maker) size(path string, low, high uint64, usual int, what string) int {
	switch {
	case low > high:
		m.refuse(path, "at least %d %s and at most %d contradict each other", low, what, high)
		return 0
	case low > 1<<20:
		m.refuse(path, "at least %d %s are more than is made here", low, what)
		return 0
	}
	return int(min(max(low, uint64(usual)), high))
}

func (m *Maker) list(path string, t *schema.Type, bounds []*schema.Bounds, hint string) Value {
	low, high := limits(bounds, func(b *schema.Bounds) *schema.Limits { return b.Count })
	usual := 1 + m.rng.IntN(2)
	if m.recurs(t.Elem) || !m.affords(t.Elem, nil) {
		usual = 0
	}
	n := m.size(path, low, high, usual, "elements")
	unique := slices.ContainsFunc(bounds, func(b *schema.Bounds) bool { return b.Unique })
	list := List{}
	for tries := 0; len(list) < n; tries++ {
		v := m.value(fmt.Sprintf("%s/%d", path, len(list)), t.Elem, nil, strings.TrimSuffix(hint, "s"))
		if unique && slices.ContainsFunc(list, func(before Value) bool { return alike(before, v) }) {
			if tries > 50*n {
				if uint64(len(list)) < low {
					m.refuse(path, "at least %d elements that are unique were not found", low)
				}
				break
			}
			continue
		}
		list = append(list, v)
	}
	return list
}

func (m *Maker) mapping(path string, t *schema.Type, bounds []*schema.Bounds) Value {
	low, high := limits(bounds, func(b *schema.Bounds) *schema.Limits { return b.Count })
	usual := 1 + m.rng.IntN(2)
	if m.recurs(t.Elem) || !m.affords(t.Elem, nil) {
		usual = 0
	}
	n := m.size(path, low, high, usual, "entries")
	out := &Map{}
	seen := map[Value]bool{}
	for tries := 0; len(out.Entries) < n; tries++ {
		key := m.value(path, t.Key, nil, "")
		switch {
		case !seen[key]:
			seen[key] = true
			out.Entries = append(out.Entries, Entry{key, m.value(path+"/"+escapePointer(KeyText(key, t.Key)), t.Elem, nil, "")})
			continue
		case tries <= 50*n:
			continue
		case uint64(len(out.Entries)) < low:
			m.refuse(path, "at least %d entries of different keys were not found", low)
		}
		break
	}
	sortEntries(out.Entries)
	return out
}

// words are what texts are made of.
var words = strings.Fields("alder anchor beacon birch bollard buoy cedar channel cliff compass cove current drift " +
	"ebb fender fjord foghorn gull harbour heron inlet jetty juniper keel lantern ledge lighthouse mast mooring moss " +
	"narrows oar otter pebble pier plover quay ridge rowan rudder sandbar seal shoal skerry slipway spruce swell " +
	"tern tide wharf")

func (m *Maker) word() string { return words[m.rng.IntN(len(words))] }

func (m *Maker) text(path string, bounds []*schema.Bounds, hint string) Value {
	low, high := limits(bounds, func(b *schema.Bounds) *schema.Limits { return b.Length })
	var patterns []*pattern.Node
	var written []string
	for _, b := range bounds {
		if b.Pattern == "" {
			continue
		}
		if node, problem := pattern.Parse(b.Pattern); problem == nil {
			patterns, written = append(patterns, node), append(written, b.Pattern)
		}
	}
	if len(patterns) > 0 {
		text, ok, err := pattern.NewAutomaton(patterns...).Text(low, high, m.rng.IntN)
		switch {
		case err != nil:
			m.refuse(path, "no text was found that matches %s: %v", strings.Join(written, " and "), err)
		case !ok && (low > 0 || high < schema.Unlimited):
			m.refuse(path, "no text of %s characters matches %s", &schema.Limits{Low: low, High: high},
				strings.Join(written, " and "))
		case !ok:
			m.refuse(path, "no text matches %s", strings.Join(written, " and "))
		}
		return text
	}
	text := m.word()
	if strings.Contains(hint, "mail") {
		text += "@example.org"
	}
	n := m.size(path, low, high, utf8.RuneCountInString(text), "characters")
	for utf8.RuneCountInString(text) < n {
		text += " " + m.word()
	}
	return strings.TrimSpace(text[:n]) + strings.Repeat("x", n-len(strings.TrimSpace(text[:n]))) // words are ASCII
}

// ordered makes a value of a kind that has an order: in a range that people
// would expect, as far as bounds allow it.
func (m *Maker) ordered(path string, k schema.Kind, bounds []*schema.Bounds) Value {
	var low, high any
	for _, b := range bounds {
		low, high = tighter(low, b.Low, 1), tighter(high, b.High, -1)
	}
	if low != nil && high != nil {
		if order, ordered := schema.Compare(low, high); !ordered || order > 0 {
			m.refuse(path, "bounds contradict each other: at least %v and at most %v", low, high)
			return Minimals{}.plain(&schema.Type{Kind: k})
		}
	}
	// All of it happens on a scale of whole steps.
	scale := scaleOf(k)
	usualLow, usualHigh := big.NewInt(scale.low), big.NewInt(scale.high)
	from, to := usualLow, usualHigh
	if low != nil {
		from = scale.step(low, true)
		to = new(big.Int).Add(from, new(big.Int).Sub(usualHigh, usualLow))
	}
	if high != nil {
		to = scale.step(high, false)
		if low == nil && to.Cmp(from) < 0 {
			from = new(big.Int).Sub(to, new(big.Int).Sub(usualHigh, usualLow))
		}
	}
	if kindLow, kindHigh, ok := scaleRange(k); ok {
		from, to = maxInt(from, kindLow), minInt(to, kindHigh)
	}
	if to.Cmp(from) >= 0 {
		span := new(big.Int).Add(new(big.Int).Sub(to, from), big.NewInt(1))
		offset := new(big.Int).SetUint64(m.rng.Uint64())
		v := scale.value(k, new(big.Int).Add(from, offset.Mod(offset, span)))
		if v != nil && !slices.ContainsFunc(bounds, func(b *schema.Bounds) bool { return len(b.Violations(v)) > 0 }) {
			return v
		}
	}
	// No whole step lies within: an end does.
	if low != nil {
		return low
	}
	return high
}

// tighter is the limit of two that allows less: the higher one (sign 1) or the
// lower one (sign -1).
func tighter(a, b any, sign int) any {
	if a == nil || b == nil {
		if a == nil {
			return b
		}
		return a
	}
	if order, _ := schema.Compare(a, b); order*sign >= 0 {
		return a
	}
	return b
}

func maxInt(a, b *big.Int) *big.Int {
	if a.Cmp(b) > 0 {
		return a
	}
	return b
}

func minInt(a, b *big.Int) *big.Int {
	if a.Cmp(b) < 0 {
		return a
	}
	return b
}

// scale counts the values of a kind in steps: ones, hundredths, minutes, days.
type scale struct{ low, high int64 }

const (
	minute      = 60
	summer2026  = 1_780_272_000 // 2026-06-01T00:00:00Z
	summerDays  = 92
	dayOfSummer = summer2026 / 86400
)

func scaleOf(k schema.Kind) scale {
	switch k {
	case schema.KindInstant:
		return scale{summer2026 / minute, summer2026/minute + summerDays*1440 - 1}
	case schema.KindDate:
		return scale{dayOfSummer, dayOfSummer + summerDays - 1}
	case schema.KindDuration:
		return scale{1, 120} // minutes
	case schema.KindDecimal, schema.KindFloat32, schema.KindFloat64:
		return scale{1, 9999} // hundredths
	}
	return scale{1, 100}
}

// scaleRange is the range of a kind in steps, where it has one.
func scaleRange(k schema.Kind) (low, high *big.Int, ok bool) {
	switch {
	case k.IsInteger():
		l, h := k.Range()
		return big.NewInt(l), new(big.Int).SetUint64(h), true
	case k == schema.KindDate:
		return big.NewInt(int64(schema.MinDate)), big.NewInt(int64(schema.MaxDate)), true
	case k == schema.KindInstant:
		return big.NewInt(schema.MinInstantSeconds / minute), big.NewInt(schema.MaxInstantSeconds / minute), true
	}
	return nil, nil, false
}

// step is the step of a limit: the first one that is not below it, or the last
// one that is not above.
func (s scale) step(limit any, up bool) *big.Int {
	rat := new(big.Rat)
	switch v := limit.(type) {
	case int64:
		return big.NewInt(v)
	case uint64:
		return new(big.Int).SetUint64(v)
	case float32:
		return s.step(float64(v), up)
	case float64:
		if rat.SetFloat64(v) == nil { // an infinity
			return big.NewInt(map[bool]int64{true: math.MinInt64, false: math.MaxInt64}[v < 0])
		}
		rat.Mul(rat, big.NewRat(100, 1))
	case schema.Decimal:
		rat.SetFrac(v.Big(), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(v.Scale)), nil))
		rat.Mul(rat, big.NewRat(100, 1))
	case schema.Instant:
		rat.SetFrac64(v.Seconds, minute)
		if v.Nanos > 0 && up {
			rat.Add(rat, big.NewRat(1, minute))
		}
	case schema.Duration:
		rat.SetFrac64(int64(v), minute*1_000_000_000)
	case schema.Date:
		return big.NewInt(int64(v))
	}
	whole, rest := new(big.Int).DivMod(rat.Num(), rat.Denom(), new(big.Int))
	if up && rest.Sign() > 0 {
		whole.Add(whole, big.NewInt(1))
	}
	return whole
}

// value is the value at a step, or nil where the kind has none there.
func (s scale) value(k schema.Kind, step *big.Int) Value {
	switch {
	case k.IsUnsigned() && step.IsUint64():
		return step.Uint64()
	case k.IsInteger() && step.IsInt64():
		return step.Int64()
	case !step.IsInt64():
		return nil
	}
	n := step.Int64()
	switch k {
	case schema.KindFloat32:
		return float32(math.Round(float64(n)/25) / 4) // what a float32 holds as it is written
	case schema.KindFloat64:
		return float64(n) / 100
	case schema.KindDecimal:
		digits := new(big.Int).Abs(step).String()
		if n == 0 {
			digits = ""
		}
		d, err := schema.MakeDecimal(n < 0, digits, -2)
		if err != nil {
			return nil
		}
		return d
	case schema.KindInstant:
		return schema.Instant{Seconds: n * minute}
	case schema.KindDate:
		return schema.Date(n)
	case schema.KindDuration:
		if n > math.MaxInt64/(minute*1_000_000_000) || n < math.MinInt64/(minute*1_000_000_000) {
			return nil
		}
		return schema.Duration(n * minute * 1_000_000_000)
	}
	return nil
}
