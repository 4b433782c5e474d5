package wire

import (
	"fmt"
	"slices"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// spot is a type that is written and the type that it is read as, each with the bounds
// of its field.
type spot struct {
	wt, rt *schema.Type
	wb, rb *schema.Bounds
	key    bool          // of a map: JSON writes it as a text
	absent bool          // the writer may leave it out: null in an any is nothing then
	into   *schema.Field // that an any is read as, which may be absent
}

// sight is what reading shows: for each thing that can happen, a value with which it
// does, or nil.
type sight struct {
	refused, otherwise *example // by its kind: not read at all, or as another value
	altered            *example // as another kind with the same text
	own, named         *example // by the reader's bounds: those of the field, those of its type
	undecided          bool     // the patterns are too large
}

// example is a value. One that is too large to be made is described.
type example struct {
	value value.Value
	large string // what it would be, such as "a text of 5000000 characters"
	both  bool   // in both encodings
}

// alone is a type as the only field of a message.
func alone(t *schema.Type, b *schema.Bounds) *schema.Message {
	f := &schema.Field{Number: 1, Name: "value", Type: t, Bounds: b}
	f.Message = &schema.Message{Decl: schema.Decl{Module: &schema.Module{}}, Fields: []*schema.Field{f}}
	return f.Message
}

func only(m *schema.Message, v value.Value) *value.Message {
	return &value.Message{Type: m, Fields: map[int]value.Value{m.Fields[0].Number: v}}
}

// look reads values of one type as the other one: all those at which the two can differ.
func (w *walker) look(s spot) *sight {
	s.wb, s.rb = w.one(s.wb), w.one(s.rb)
	if seen := w.sights[s]; seen != nil {
		return seen
	}
	seen := &sight{}
	w.sights[s] = seen
	if !s.wt.Kind.IsScalar() {
		// The smallest value shows already that kinds have nothing in common.
		w.try(s, seen, []example{{value: w.minimals.Within(s.wt, s.wb)}})
		if seen.refused != nil || seen.otherwise != nil {
			return seen
		}
	}
	var candidates []example
	candidates, seen.undecided = w.candidates(s, 0)
	w.try(s, seen, candidates)
	return seen
}

// one is the first of equal bounds, so that what they do is looked at once.
func (w *walker) one(b *schema.Bounds) *schema.Bounds {
	if b == nil {
		return nil
	}
	text := fmt.Sprintf("%T %T %s", b.Low, b.High, b)
	first := w.bounds[text]
	if first == nil {
		first = b
		w.bounds[text] = b
	}
	return first
}

// sameBounds tells whether bounds allow the same, as they are written.
func sameBounds(a, b *schema.Bounds) bool {
	if a == nil || b == nil {
		return a == b
	}
	same := func(x, y *schema.Limits) bool { return x == y || x != nil && y != nil && *x == *y }
	return a.Low == b.Low && a.High == b.High && same(a.Length, b.Length) && same(a.Count, b.Count) &&
		a.Pattern == b.Pattern && a.Unique == b.Unique
}

// alsoThere tells whether the other encoding of a message is not read alike, either:
// one payload that shows both is better than two.
func (w *walker) alsoThere(reader *schema.Message, m *value.Message) bool {
	other := *w
	other.encoding = map[string]string{"binary": "json", "json": "binary"}[w.encoding]
	return other.read(reader, m).verdict == verdict.Breaking
}

// try reads values of a spot, and keeps the first one of each kind of what happens.
func (w *walker) try(s spot, seen *sight, candidates []example) {
	writer, reader := s.sides()
	old, new := sidesOf(w.newReads, writer, reader)
	w.pairings[[2]*schema.Message{old, new}] = []change.FieldPair{{Old: old.Fields[0], New: new.Fields[0]}}
	keep := func(at **example, e example) {
		if *at == nil {
			*at = &e
		}
	}
	tries := 0
	for _, e := range candidates {
		if e.large != "" {
			if s.rb != nil {
				keep(&seen.own, e)
			} else {
				keep(&seen.named, e)
			}
			continue
		}
		if a, isAny := e.value.(schema.Any); isAny && s.absent && a.Value == nil {
			continue
		}
		m := only(writer, s.held(e.value))
		if len(value.Validate(m)) > 0 {
			continue // not lawful
		}
		got, err := w.through(reader, m)
		if err != nil {
			if seen.refused == nil || !seen.refused.both && tries < 20 {
				tries++
				if e.both = w.alsoThere(reader, m); e.both {
					seen.refused = nil
				}
			}
			keep(&seen.refused, e)
			continue
		}
		if got == nil {
			continue // it can't be written in this encoding
		}
		switch w.messageDiffers(m, got).verdict {
		case verdict.Breaking:
			keep(&seen.otherwise, e)
		case verdict.Altering:
			keep(&seen.altered, e)
		}
		found, there := got.Fields[1]
		if !there {
			continue
		}
		if s.key {
			found = found.(*value.Map).Entries[0].Key
		}
		own, named := boundsRefuse(s.rb, found), boundsRefuse(namedBounds(s.rt), found)
		if own && !named || own && seen.own == nil {
			keep(&seen.own, e)
		}
		if named && !own || named && seen.named == nil {
			keep(&seen.named, e)
		}
		if w.strict() && !own && !named && len(value.Validate(got)) > 0 {
			keep(&seen.refused, e) // something inside of it is not listed
		}
	}
}

// sides are messages that hold nothing but a value of the spot.
func (s spot) sides() (writer, reader *schema.Message) {
	if !s.key {
		writer, reader = alone(s.wt, s.wb), alone(s.rt, s.rb)
		if s.into != nil {
			reader.Fields[0].Presence, reader.Fields[0].Default = s.into.Presence, s.into.Default
		}
		return writer, reader
	}
	truth := &schema.Type{Kind: schema.KindBool}
	return alone(&schema.Type{Kind: schema.KindMap, Key: s.wt, Elem: truth}, nil),
		alone(&schema.Type{Kind: schema.KindMap, Key: s.rt, Elem: truth}, nil)
}

func (s spot) held(v value.Value) value.Value {
	if s.key {
		return &value.Map{Entries: []value.Entry{{Key: v, Value: true}}}
	}
	return v
}

// boundsRefuse tells whether bounds refuse a value, whose elements are not looked at.
func boundsRefuse(b *schema.Bounds, v value.Value) bool {
	if b == nil {
		return false
	}
	switch x := v.(type) {
	case value.List:
		return b.CountViolation(len(x)) != ""
	case *value.Map:
		return b.CountViolation(len(x.Entries)) != ""
	}
	return len(b.Violations(v)) > 0
}

// through writes a message and reads it as another one.
func (w *walker) through(reader *schema.Message, m *value.Message) (*value.Message, error) {
	toCBOR, toJSON := w.writers()
	write, read := toCBOR, value.DecodeCBOR
	if w.encoding == "json" {
		write, read = toJSON, value.DecodeJSON
	}
	payload, err := write(m)
	if err != nil {
		return nil, nil
	}
	return read(reader, payload, 0)
}

// writers are those of a position: only people leave out a field with a default;
// writers always write it.
func (w *walker) writers() (toCBOR, toJSON func(*value.Message) ([]byte, error)) {
	if w.leftOut() {
		return value.EncodeCBORWithout, value.EncodeJSONWithout
	}
	return value.EncodeCBOR, value.EncodeJSON
}

// mostMade is how many elements or characters are made to show something.
const mostMade = 100_000

// counts compares how many elements a list may have, or entries a map, and whether they
// are unique. What it returns is refused by the reader's bounds.
func (w *walker) counts(s spot) (own, named *example) {
	low, high, unique := countLimits(s.wt, s.wb)
	if low > high {
		return nil, nil // no value at all
	}
	refuse := func(b *schema.Bounds) *example {
		if b == nil {
			return nil
		}
		switch {
		case b.Count != nil && low < b.Count.Low:
			return w.sized(s, low, unique, false)
		case b.Count != nil && high > b.Count.High:
			return w.sized(s, max(low, b.Count.High+1), unique, false)
		case b.Unique && !unique && s.wt.Kind == schema.KindList && high >= 2:
			return w.sized(s, max(low, 2), false, true)
		}
		return nil
	}
	return refuse(s.rb), refuse(namedBounds(s.rt))
}

// countLimits are how many elements or entries a lawful value may have: no more than
// there are different ones.
func countLimits(t *schema.Type, own *schema.Bounds) (low, high uint64, unique bool) {
	high = schema.Unlimited
	for _, b := range []*schema.Bounds{own, namedBounds(t)} {
		if b != nil && b.Count != nil {
			low, high = max(low, b.Count.Low), min(high, b.Count.High)
		}
		unique = unique || b != nil && b.Unique
	}
	if t.Kind == schema.KindMap {
		high = min(high, value.Capacity(t.Key, nil, 1<<33))
	} else if unique {
		high = min(high, value.Capacity(t.Elem, nil, 1<<33))
	}
	return low, high, unique
}

// empty tells whether a list or map never holds anything.
func empty(t *schema.Type, own *schema.Bounds) bool {
	return slices.ContainsFunc([]*schema.Bounds{own, namedBounds(t)},
		func(b *schema.Bounds) bool { return b != nil && b.Count != nil && b.Count.High == 0 })
}

// sized is a list or map of so many elements; alike asks for two that are the same.
func (w *walker) sized(s spot, n uint64, unique, alike bool) *example {
	noun := "elements"
	if s.wt.Kind == schema.KindMap {
		noun = "entries"
	}
	size := s.wt.Elem.Smallest(nil)
	if n > mostMade || n*uint64(max(size, 1)) > 10*mostMade {
		return &example{value: nil, large: fmt.Sprintf("%s of %d %s", s.wt.Kind, n, noun)}
	}
	if s.wt.Kind == schema.KindMap {
		out := &value.Map{}
		element := w.minimals.Within(s.wt.Elem, nil)
		for _, key := range value.Distinct(s.wt.Key, nil, int(n)) {
			out = value.WithEntry(out, key, element)
		}
		return &example{value: value.Sorted(out)}
	}
	var list value.List
	if unique {
		list = value.Distinct(s.wt.Elem, nil, int(n))
	}
	if !unique && !alike {
		// Different ones, as far as there are, so that nothing else is wrong with them.
		list = value.Distinct(s.wt.Elem, nil, int(min(n, 1000)))
	}
	for uint64(len(list)) < n {
		list = append(list, w.minimals.Within(s.wt.Elem, nil))
	}
	return &example{value: list}
}

func namedBounds(t *schema.Type) *schema.Bounds {
	if t == nil || t.Named == nil {
		return nil
	}
	return t.Named.Bounds
}

// boundsOf lists the bounds of a spot's type that is written.
func (s spot) writers() []*schema.Bounds {
	return slices.DeleteFunc([]*schema.Bounds{s.wb, namedBounds(s.wt)}, func(b *schema.Bounds) bool { return b == nil })
}

func (s spot) readers() []*schema.Bounds {
	return slices.DeleteFunc([]*schema.Bounds{s.rb, namedBounds(s.rt)}, func(b *schema.Bounds) bool { return b == nil })
}
