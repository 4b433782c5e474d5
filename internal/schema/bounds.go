package schema

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"unicode/utf8"

	"faithfulcourier/internal/pattern"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// Bounds is what limits the values of a type or field; all must hold.
type Bounds struct {
	Low, High any     // scalars of the type, both allowed themselves; nil for none
	Length    *Limits // of text in code points, of bytes in octets
	Count     *Limits // of the elements of a list, the entries of a map
	Pattern   string  // "" for none
	Unique    bool    // no two elements of a list are equal
}

// Limits are how many of something there may be, both ends allowed.
type Limits struct {
	Low  uint64
	High uint64 // Unlimited for none
}

// Refuse tells whether bounds refuse any value of a kind: a check that never fails
// would be noise, and linters say so. Nil refuses nothing.
func (b *Bounds) Refuse(k Kind) bool {
	return b != nil && (b.RefuseLow(k) || b.RefuseHigh(k) || b.Length.Refuse() || b.Count.Refuse() || b.Pattern != "" ||
		b.Unique)
}

// RefuseLow tells whether the lower limit of a range refuses any value of a kind.
func (b *Bounds) RefuseLow(k Kind) bool {
	if b.Low == nil || !k.IsInteger() {
		return b.Low != nil
	}
	low, _ := k.Range()
	return fmt.Sprint(b.Low) != fmt.Sprint(low)
}

// RefuseHigh is RefuseLow for the upper limit.
func (b *Bounds) RefuseHigh(k Kind) bool {
	if b.High == nil || !k.IsInteger() {
		return b.High != nil
	}
	_, high := k.Range()
	return fmt.Sprint(b.High) != fmt.Sprint(high)
}

// Refuse tells whether limits leave anything out. Nil leaves out nothing.
func (l *Limits) Refuse() bool { return l != nil && (l.Low > 0 || l.High != Unlimited) }

// Unlimited is the High of Limits without one.
const Unlimited = math.MaxUint64

// Allows tells whether n lies within the limits; nil allows all.
func (l *Limits) Allows(n int) bool {
	return l == nil || uint64(n) >= l.Low && uint64(n) <= l.High
}

// String writes the limits for a sentence: "1 to 8", "at least 1".
func (l *Limits) String() string {
	switch {
	case l.Low == l.High:
		return strconv.FormatUint(l.Low, 10)
	case l.High == Unlimited:
		return fmt.Sprintf("at least %d", l.Low)
	case l.Low == 0:
		return fmt.Sprintf("at most %d", l.High)
	}
	return fmt.Sprintf("%d to %d", l.Low, l.High)
}

// Compare orders two scalars of one kind that can have bounds; ordered is
// false when one is NaN.
func Compare(a, b any) (order int, ordered bool) {
	switch a := a.(type) {
	case int64:
		return cmp.Compare(a, b.(int64)), true
	case uint64:
		return cmp.Compare(a, b.(uint64)), true
	case float32:
		b := b.(float32)
		return cmp.Compare(a, b), a == a && b == b
	case float64:
		b := b.(float64)
		return cmp.Compare(a, b), a == a && b == b
	case Decimal:
		return a.Compare(b.(Decimal)), true
	case Instant:
		return a.Compare(b.(Instant)), true
	case Date:
		return cmp.Compare(a, b.(Date)), true
	case Duration:
		return cmp.Compare(a, b.(Duration)), true
	}
	return 0, false
}

// Violations says what a scalar breaks, a sentence each: "must be 1 to 12, not
// 40". Counts and uniqueness are for those who know lists and maps.
func (b *Bounds) Violations(v any) []string { return b.violations(v, true) }

// SecretViolations is Violations of a value that is never said.
func (b *Bounds) SecretViolations(v any) []string { return b.violations(v, false) }

func (b *Bounds) violations(v any, said bool) []string {
	if b == nil {
		return nil
	}
	var list []string
	if (b.Low != nil || b.High != nil) && !b.within(v) {
		detail := "must be " + b.RangeText()
		if said {
			detail += ", not " + plainText(v)
		}
		list = append(list, detail)
	}
	switch v := v.(type) {
	case string:
		if n := utf8.RuneCountInString(v); !b.Length.Allows(n) {
			list = append(list, fmt.Sprintf("must have %s characters, not %d", b.Length, n))
		}
		if b.Pattern != "" {
			// One that was loaded compiles.
			if matcher, err := pattern.Compile(b.Pattern); err == nil && !matcher.MatchString(v) {
				list = append(list, "must match "+b.Pattern)
			}
		}
	case []byte:
		if !b.Length.Allows(len(v)) {
			list = append(list, fmt.Sprintf("must have %s bytes, not %d", b.Length, len(v)))
		}
	}
	return list
}

func (b *Bounds) within(v any) bool {
	if b.Low != nil {
		if order, ordered := Compare(v, b.Low); !ordered || order < 0 {
			return false
		}
	}
	if b.High != nil {
		if order, ordered := Compare(v, b.High); !ordered || order > 0 {
			return false
		}
	}
	return true
}

// RangeText writes a range for a sentence: "1 to 12", "at least 1".
func (b *Bounds) RangeText() string {
	switch {
	case b.High == nil:
		return "at least " + plainText(b.Low)
	case b.Low == nil:
		return "at most " + plainText(b.High)
	}
	return plainText(b.Low) + " to " + plainText(b.High)
}

// plainText writes a scalar without quotes.
func plainText(v any) string {
	switch v := v.(type) {
	case fmt.Stringer:
		return v.String()
	case float32:
		return FloatText(float64(v))
	case float64:
		return FloatText(v)
	}
	return LiteralText(v)
}

// CountViolation says what a list or map of n breaks, or is empty.
func (b *Bounds) CountViolation(n int) string {
	if b == nil || b.Count.Allows(n) {
		return ""
	}
	return fmt.Sprintf(b.CountFormat(), n)
}

// CountFormat is the sentence about a count that is refused, with %d in the
// place of the count.
func (b *Bounds) CountFormat() string {
	noun := "entries"
	if b.Count.Low == 1 && b.Count.High == 1 {
		noun = "entry"
	}
	return fmt.Sprintf("must have %s %s, not %%d", b.Count, noun)
}

// String writes bounds as the language does, in one order, or "" for none.
func (b *Bounds) String() string {
	if b == nil {
		return ""
	}
	var parts []string
	if text := boundText(b.Low, b.High); text != "" {
		parts = append(parts, text)
	}
	for _, l := range []struct {
		word   string
		limits *Limits
	}{{"length", b.Length}, {"count", b.Count}} {
		if l.limits != nil {
			var low, high any = l.limits.Low, nil
			if l.limits.High != Unlimited {
				high = l.limits.High
				if l.limits.Low == 0 {
					low = nil
				}
			}
			parts = append(parts, l.word+" "+boundText(low, high))
		}
	}
	if b.Pattern != "" {
		parts = append(parts, "pattern "+quote(b.Pattern))
	}
	if b.Unique {
		parts = append(parts, "unique")
	}
	text := "where "
	for i, part := range parts {
		if i > 0 {
			text += ", "
		}
		text += part
	}
	return text
}

func boundText(low, high any) string {
	switch {
	case low == nil && high == nil:
		return ""
	case high == nil:
		return ">= " + LiteralText(low)
	case low == nil:
		return "<= " + LiteralText(high)
	}
	return LiteralText(low) + ".." + LiteralText(high)
}

// bounds resolves where; outer is what a named type allows already, or nil.
func (r *resolver) bounds(f *fileScope, where *syntax.Where, t *Type, outer *Bounds, what string) *Bounds {
	if where == nil || t.Kind == KindInvalid {
		return nil
	}
	b := &Bounds{}
	ok := true
	for i := range where.Bounds {
		ok = r.bound(f, &where.Bounds[i], t, b, what) && ok
	}
	if ok {
		r.satisfiable(f.place(where.Span), b, outer, t, what)
	}
	return b
}

// boundWords are the bounds by form, and what they are for.
var boundWords = [...]struct{ word, on string }{
	syntax.RangeBound:   {"a range", "numbers, decimals, dates, instants and durations"},
	syntax.LengthBound:  {"length", "text and bytes"},
	syntax.CountBound:   {"count", "lists and maps"},
	syntax.PatternBound: {"pattern", "text"},
	syntax.UniqueBound:  {"unique", "lists"},
}

// fits tells whether a bound may stand on a kind.
func fits(form syntax.BoundForm, k Kind) bool {
	switch form {
	case syntax.LengthBound:
		return k == KindText || k == KindBytes
	case syntax.CountBound:
		return k == KindList || k == KindMap
	case syntax.PatternBound:
		return k == KindText
	case syntax.UniqueBound:
		return k == KindList
	}
	return k.IsInteger() || slices.Contains([]Kind{KindFloat32, KindFloat64, KindDecimal, KindDate, KindInstant,
		KindDuration}, k)
}

func (r *resolver) bound(f *fileScope, tree *syntax.Bound, t *Type, b *Bounds, what string) bool {
	place := f.place(tree.Span)
	if !fits(tree.Form, t.Kind) {
		fix := fmt.Sprintf("remove it: nothing limits %s", indefinite(t.Described()))
		for _, other := range []syntax.BoundForm{syntax.LengthBound, syntax.CountBound, syntax.RangeBound} {
			if fits(other, t.Kind) {
				fix = map[syntax.BoundForm]string{syntax.LengthBound: "write: where length 1..80",
					syntax.CountBound: "write: where count 1..8", syntax.RangeBound: "write: where 1..12"}[other]
				break
			}
		}
		r.report(place, "bound-misplaced", fmt.Sprintf("%s is for %s, and %s is %s", boundWords[tree.Form].word,
			boundWords[tree.Form].on, what, indefinite(t.Described())), fix)
		return false
	}
	twice := func(is bool) bool {
		if is {
			r.report(place, "bound-twice", fmt.Sprintf("%s is limited twice in the same way", what), "remove one of the two")
		}
		return is
	}
	switch tree.Form {
	case syntax.UniqueBound:
		if twice(b.Unique) {
			return false
		}
		b.Unique = true
	case syntax.PatternBound:
		return !twice(b.Pattern != "") && r.pattern(f, tree.Low, b)
	case syntax.LengthBound, syntax.CountBound:
		limits := &b.Length
		if tree.Form == syntax.CountBound {
			limits = &b.Count
		}
		if twice(*limits != nil) {
			return false
		}
		low, ok := r.amount(f, tree.Low, 0)
		high, alsoOK := r.amount(f, tree.High, Unlimited)
		if !ok || !alsoOK {
			return false
		}
		if low > high {
			r.reversed(f, tree)
			return false
		}
		*limits = &Limits{low, high}
	default:
		if twice(b.Low != nil && tree.Low != nil || b.High != nil && tree.High != nil) {
			return false
		}
		for _, side := range []struct {
			tree *syntax.Literal
			into *any
		}{{tree.Low, &b.Low}, {tree.High, &b.High}} {
			if side.tree == nil {
				continue
			}
			v, ok := r.limit(f, side.tree, t, what)
			if !ok {
				return false
			}
			*side.into = v
		}
		if tree.Low != nil && tree.High != nil {
			if order, _ := Compare(b.Low, b.High); order > 0 {
				r.reversed(f, tree)
				return false
			}
		}
	}
	return true
}

func (r *resolver) reversed(f *fileScope, tree *syntax.Bound) {
	text := func(l *syntax.Literal) string { return f.tree.Source.Text[l.Span.Start:l.Span.End] }
	low, high := text(tree.Low), text(tree.High)
	span := source.Span{Start: tree.Low.Span.Start, End: tree.High.Span.End}
	r.findings.Add(source.Finding{Name: "bound-reversed", Place: f.place(span),
		Message: fmt.Sprintf("the lower limit %s is above the upper one, %s", low, high),
		Fix:     fmt.Sprintf("write %s..%s", high, low),
		Edits:   []source.Edit{{Place: f.place(span), Text: high + ".." + low}}})
}

// limit resolves one end of a range. A constant of any integer kind may stand
// for an integer that fits.
func (r *resolver) limit(f *fileScope, l *syntax.Literal, t *Type, what string) (any, bool) {
	base := &Type{Kind: t.Kind}
	if l.Form != syntax.ConstLiteral {
		return r.literal(f, l, base, "the limit of "+what)
	}
	c, ok := r.namedConst(f, l)
	if !ok {
		return nil, false
	}
	if c.Type.Kind == t.Kind {
		return c.Value, true
	}
	if t.Kind.IsInteger() && c.Type.Kind.IsInteger() {
		if v, ok := ParseInteger(t.Kind, LiteralText(c.Value)); ok {
			return v, true
		}
	}
	r.report(f.place(l.Span), "wrong-type", fmt.Sprintf("the limit of %s is %s, and the constant %q is %s with "+
		"the value %s", what, t.Kind, c.Name, c.Type.Kind, LiteralText(c.Value)),
		"write the limit itself, or a constant that fits",
		source.Note{Place: c.Place, Message: "the constant is declared here"})
	return nil, false
}

// amount resolves one end of a length or count.
func (r *resolver) amount(f *fileScope, l *syntax.Literal, none uint64) (uint64, bool) {
	if l == nil {
		return none, true
	}
	text := l.Text
	if l.Form == syntax.ConstLiteral {
		c, ok := r.namedConst(f, l)
		if !ok {
			return 0, false
		}
		text = LiteralText(c.Value)
	}
	n, err := strconv.ParseUint(text, 10, 32)
	if err != nil || l.Form == syntax.TextLiteral {
		r.report(f.place(l.Span), "wrong-type", fmt.Sprintf("an amount is a whole number from 0 to 4294967295, "+
			"and %s is not", text), "write a whole number")
		return 0, false
	}
	return n, true
}

// satisfiable refuses bounds that no value of the type could keep.
func (r *resolver) satisfiable(place source.Place, b, outer *Bounds, t *Type, what string) {
	empty := func(because string) {
		r.report(place, "bound-empty", fmt.Sprintf("no value of %s could keep this: %s", what, because), "widen the limits")
	}
	if b.Low != nil && b.High != nil {
		if order, _ := Compare(b.Low, b.High); order > 0 {
			empty(fmt.Sprintf("%s is above %s", plainText(b.Low), plainText(b.High)))
			return
		}
	}
	if outer == nil {
		return
	}
	name := t.Named.Name
	apart := func(low, high any) bool {
		if low == nil || high == nil {
			return false
		}
		order, _ := Compare(low, high)
		return order > 0
	}
	switch {
	case apart(b.Low, outer.High) || apart(outer.Low, b.High):
		empty(fmt.Sprintf("%q itself is %s", name, outer.RangeText()))
	case disjoint(b.Length, outer.Length):
		empty(fmt.Sprintf("%q itself has a length of %s", name, outer.Length))
	case disjoint(b.Count, outer.Count):
		empty(fmt.Sprintf("%q itself has a count of %s", name, outer.Count))
	}
}

func disjoint(a, b *Limits) bool {
	return a != nil && b != nil && (a.Low > b.High || b.Low > a.High)
}

// pattern checks a pattern, and keeps it.
func (r *resolver) pattern(f *fileScope, l *syntax.Literal, b *Bounds) bool {
	node, problem := pattern.Parse(l.Text)
	if problem != nil {
		span := syntax.Inside(f.tree.Source, l.Span, problem.Start, problem.End)
		r.report(f.place(span), "pattern", "a pattern can't have "+problem.Message, problem.Fix)
		return false
	}
	if l.Text == "" {
		r.report(f.place(l.Span), "pattern", "an empty pattern allows everything", "remove it")
		return false
	}
	// Small ones always compile; to try it each time would be most of a check.
	if node.Size() > 1000 && !compiles(l.Text) {
		r.report(f.place(l.Span), "pattern", "the pattern is too large", "limit the length instead: where length …")
		return false
	}
	if text, slow := node.Exponential(); slow {
		r.report(f.place(l.Span), "slow-pattern", fmt.Sprintf("a loop of this pattern can read %q in two ways, so that "+
			"engines which backtrack, as those of JavaScript, Python and Java do, take twice the time for each further one",
			text),
			"let each text be read in one way: no loop directly in a loop, and no alternatives in it that begin alike")
		return false
	}
	b.Pattern = l.Text
	return true
}

func compiles(text string) bool {
	_, err := pattern.Compile(text)
	return err == nil
}
