package wire

import (
	"bytes"
	"fmt"
	"math"
	"math/big"
	"strings"

	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// difference is how something is read otherwise than it was written: where, by names
// in JSON as the reader has them (RFC 6901), and what is said of it. The zero value
// says that all is read alike.
type difference struct {
	verdict verdict.Verdict
	path    string
	says    func(path string) string
}

// reads is the difference between what is read and what was written.
func reads(v verdict.Verdict, b, a held) difference {
	return printed(v, "", func() (string, string) {
		x, y := b.shown(), a.shown()
		if x == y {
			x, y = x+" ("+b.kind()+")", y+" ("+a.kind()+")"
		}
		return x, y
	})
}

// printed is a difference of which both sides print apart.
func printed(v verdict.Verdict, what string, sides func() (read, written string)) difference {
	return difference{v, "", func(path string) string {
		if path == "" {
			path = "it"
		}
		b, a := sides()
		return fmt.Sprintf("reads %s%s as %s, where %s was written", what, path, b, a)
	}}
}

func (d *difference) under(step string) difference {
	if d.verdict != verdict.Compatible {
		d.path = "/" + pointerStep(step) + d.path
	}
	return *d
}

var pointerSteps = strings.NewReplacer("~", "~0", "/", "~1")

func pointerStep(step string) string { return pointerSteps.Replace(step) }

// class tells kinds apart as programs do: numbers are one class, however wide; a text
// is never a uuid or a date, though JSON writes them alike.
type class uint8

const (
	noClass class = iota
	truthClass
	numberClass
	textClass
	bytesClass
	uuidClass
	instantClass
	dateClass
	durationClass
	listClass
	mapClass
	messageClass
	patchClass
	clearedClass
	unionClass
	nullClass
)

var classes = map[schema.Kind]class{
	schema.KindBool: truthClass, schema.KindFloat32: numberClass, schema.KindFloat64: numberClass,
	schema.KindDecimal: numberClass, schema.KindEnum: numberClass,
	schema.KindText: textClass, schema.KindBytes: bytesClass, schema.KindUUID: uuidClass,
	schema.KindInstant: instantClass, schema.KindDate: dateClass,
	schema.KindDuration: durationClass, schema.KindList: listClass, schema.KindMap: mapClass,
	schema.KindMessage: messageClass, schema.KindUnion: unionClass,
}

func classOf(k schema.Kind) class {
	if k.IsInteger() {
		return numberClass
	}
	return classes[k]
}

// held is what stands for a value when it is compared: an "any" is what it holds.
type held struct {
	class class
	value value.Value  // of an any: a bool, string, number, []schema.Any or []schema.AnyEntry
	typ   *schema.Type // nil inside of an any
}

func hold(v value.Value, t *schema.Type) held {
	if _, is := v.(value.Cleared); is {
		return held{clearedClass, v, t}
	}
	if t != nil && t.Kind == schema.KindMessage && t.Message.IsPatch() {
		return held{patchClass, v, t}
	}
	if t != nil && t.Kind != schema.KindAny {
		return held{classOf(t.Kind), v, t}
	}
	if a, isAny := v.(schema.Any); isAny {
		v = a.Value
	}
	h := held{value: v}
	switch v.(type) {
	case nil:
		h.class = nullClass
	case bool:
		h.class = truthClass
	case string:
		h.class = textClass
	case []schema.Any:
		h.class = listClass
	case []schema.AnyEntry:
		h.class = mapClass
	default:
		h.class = numberClass
	}
	return h
}

// shown is a value for people: what is not listed is said to be so.
func (h held) shown() string {
	if h.class == clearedClass {
		return "null"
	}
	if h.typ != nil && h.typ.Kind == schema.KindEnum {
		return memberName(h.typ.Enum, h.value.(value.Enum))
	}
	return h.text()
}

// memberName names a value of an enum for people.
func memberName(e *schema.Enum, v value.Enum) string {
	if m := e.ByNumber(v.Number); m != nil {
		return m.Name
	}
	if v.Number < 0 {
		return fmt.Sprintf("the unlisted name %q", v.Name)
	}
	return fmt.Sprintf("the unlisted number %d", v.Number)
}

// alternativeName names the alternative of a union's value for people.
func alternativeName(u *schema.Union, v *value.Union) string {
	if a := u.ByNumber(v.Number); a != nil {
		return "the alternative " + a.Name
	}
	if v.Number == 0 {
		return fmt.Sprintf("the unlisted alternative %q", v.Name)
	}
	return fmt.Sprintf("the unlisted alternative #%d", v.Number)
}

func (h held) text() string {
	if h.typ == nil {
		return text(schema.Any{Value: h.value}, anyType)
	}
	return text(h.value, h.typ)
}

var anyType = &schema.Type{Kind: schema.KindAny}

// elements are those of a list.
func (h held) elements() (list []held) {
	if h.typ == nil {
		for _, v := range h.value.([]schema.Any) {
			list = append(list, hold(v, nil))
		}
		return list
	}
	for _, v := range h.value.(value.List) {
		list = append(list, hold(v, h.typ.Elem))
	}
	return list
}

type heldEntry struct{ key, value held }

// entries are those of a map.
func (h held) entries() (list []heldEntry) {
	if h.typ == nil {
		for _, e := range h.value.([]schema.AnyEntry) {
			list = append(list, heldEntry{held{textClass, e.Key, nil}, hold(e.Value, nil)})
		}
		return list
	}
	for _, e := range h.value.(*value.Map).Entries {
		list = append(list, heldEntry{hold(e.Key, h.typ.Key), hold(e.Value, h.typ.Elem)})
	}
	return list
}

// messages says where a message reads otherwise than it was written. What the reader
// does not list is preserved, and never otherwise.
func (w *walker) messageDiffers(written, got *value.Message) (worst difference) {
	old, new := sidesOf(w.newReads, written.Type, got.Type)
	for _, p := range w.pairs(old, new) {
		fw, fr := sidesOf(w.newReads, p.Old, p.New)
		if fw == nil || fr == nil {
			continue
		}
		v, ok := written.Fields[fw.Number]
		if !ok {
			continue // left out: what that means may be altered, not broken
		}
		found, ok := got.Fields[fr.Number]
		d := difference{}
		switch {
		case !ok && hold(v, fw.Type).class == nullClass:
		case fr.Presence == schema.Defaulted && fr.Type.Kind != schema.KindAny && hold(v, fw.Type).class == nullClass:
			d = reads(verdict.Altering, hold(found, fr.Type), hold(v, fw.Type))
		case !ok:
			d = difference{verdict.Breaking, "", func(path string) string {
				return fmt.Sprintf("finds no %s, where %s was written", path, hold(v, fw.Type).shown())
			}}
		default:
			d = w.differs(hold(v, fw.Type), hold(found, fr.Type))
		}
		if d.verdict > worst.verdict {
			worst = d.under(fr.JSONName())
		}
	}
	return worst
}

// differs compares what was written with what was read.
func (w *walker) differs(a, b held) (worst difference) {
	otherwise := reads(verdict.Breaking, b, a)
	if a.class != b.class {
		if a.text() == b.text() {
			return reads(verdict.Altering, b, a)
		}
		return otherwise
	}
	switch a.class {
	case messageClass, patchClass:
		return w.messageDiffers(a.value.(*value.Message), b.value.(*value.Message))
	case unionClass:
		return w.unionDiffers(a, b)
	case listClass:
		x, y := a.elements(), b.elements()
		if len(x) != len(y) {
			return otherwise
		}
		for i := range x {
			if d := w.differs(x[i], y[i]); d.verdict > worst.verdict {
				worst = d.under(fmt.Sprint(i))
			}
		}
		return worst
	case mapClass:
		return w.mapDiffers(a.entries(), b.entries(), otherwise)
	}
	if !w.sameScalar(a, b) {
		return otherwise
	}
	return difference{}
}

// kind names what a value is, for people.
func (h held) kind() string {
	if h.typ != nil {
		return h.typ.Bare().Short() // two named types may have one name
	}
	return map[class]string{nullClass: "nothing", truthClass: "a bool", textClass: "a text", numberClass: "a number",
		listClass: "a list", mapClass: "a map"}[h.class]
}

// mapDiffers compares maps as sets of entries, whatever order they came in.
func (w *walker) mapDiffers(a, b []heldEntry, otherwise difference) (worst difference) {
	if len(a) != len(b) {
		return otherwise
	}
	find := func(i int) (heldEntry, difference) {
		if d := w.keyDiffers(a[i].key, b[i].key); d.verdict == verdict.Compatible {
			return b[i], d
		}
		best, found := otherwise, heldEntry{}
		for _, e := range b {
			if d := w.keyDiffers(a[i].key, e.key); d.verdict < best.verdict {
				best, found = d, e
			}
		}
		return found, best
	}
	for i := range a {
		e, d := find(i)
		if d.verdict == verdict.Breaking {
			if at := w.keyDiffers(a[i].key, b[i].key); at.verdict == verdict.Breaking {
				return printed(verdict.Breaking, "a key of ", func() (string, string) { return b[i].key.shown(), a[i].key.shown() })
			}
			return otherwise
		}
		if inner := w.differs(a[i].value, e.value); inner.verdict > d.verdict {
			d = inner
		}
		if d.verdict > worst.verdict {
			worst = d.under(e.key.keyText())
		}
	}
	return worst
}

// keyDiffers is differs for keys, which JSON writes as texts.
func (w *walker) keyDiffers(a, b held) difference {
	if a.class != b.class && a.keyText() == b.keyText() {
		return printed(verdict.Altering, "a key of ", func() (string, string) {
			return fmt.Sprintf("%q (%s)", b.keyText(), b.kind()), fmt.Sprintf("%q (%s)", a.keyText(), a.kind())
		})
	}
	return w.differs(a, b)
}

// keyText is a key of a map as JSON writes it.
func (h held) keyText() string {
	if h.typ == nil {
		return h.value.(string)
	}
	return value.KeyText(h.value, h.typ)
}

func (w *walker) unionDiffers(a, b held) difference {
	x, y := a.value.(*value.Union), b.value.(*value.Union)
	if !w.sameAlternative(x, y, a.typ.Union, b.typ.Union) {
		return printed(verdict.Breaking, "", func() (string, string) {
			return alternativeName(b.typ.Union, y), alternativeName(a.typ.Union, x)
		})
	}
	aw, ar := a.typ.Union.ByNumber(x.Number), b.typ.Union.ByNumber(y.Number)
	if ar == nil {
		return difference{} // preserved as it was written
	}
	d := w.differs(hold(x.Value, aw.Type), hold(y.Value, ar.Type))
	return d.under(ar.JSONName())
}

// sameAlternative tells whether a union value is the one that was written: their
// alternatives are paired, or the unlisted one is preserved as it was.
func (w *walker) sameAlternative(a, b *value.Union, wu, ru *schema.Union) bool {
	written := wu.ByNumber(a.Number)
	if listed := w.alternativePairs(wu, ru)[written]; listed != nil {
		return b.Number == listed.Number
	}
	return b.Number == a.Number && ru.ByNumber(b.Number) == nil || b.Number == 0 && b.Name == written.JSONName()
}

// sameMember is sameAlternative for enums. An unlisted number is equal to itself.
func (w *walker) sameMember(a, b value.Enum, we, re *schema.Enum) bool {
	written := we.ByNumber(a.Number)
	if written == nil {
		return a == b
	}
	if listed := w.memberPairs(we, re)[written]; listed != nil {
		return b.Number == listed.Number
	}
	return b.Number == a.Number && re.ByNumber(b.Number) == nil || b.Number < 0 && b.Name == written.JSONName()
}

// sameScalar compares two values of one class.
func (w *walker) sameScalar(a, b held) bool {
	if a.class != numberClass {
		if p, isBytes := a.value.([]byte); isBytes {
			q, ok := b.value.([]byte)
			return ok && bytes.Equal(p, q)
		}
		return a.value == b.value
	}
	x, isEnum := a.value.(value.Enum)
	y, alsoEnum := b.value.(value.Enum)
	if isEnum && alsoEnum {
		return w.sameMember(x, y, a.typ.Enum, b.typ.Enum)
	}
	m, n := number(a.value), number(b.value)
	if m == nil || n == nil { // NaN and infinities are floats on both sides
		return value.Equal(float(a.value), float(b.value))
	}
	return m.Cmp(n) == 0
}

// float widens a float32.
func float(v value.Value) value.Value {
	if x, ok := v.(float32); ok {
		return float64(x)
	}
	return v
}

// number is the exact real value of a number; nil stands for NaN, infinities and
// names that an enum does not list.
func number(v value.Value) *big.Rat {
	switch v := v.(type) {
	case int64:
		return new(big.Rat).SetInt64(v)
	case uint64:
		return new(big.Rat).SetUint64(v)
	case float32:
		return number(float64(v))
	case float64:
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return nil
		}
		return new(big.Rat).SetFloat64(v)
	case schema.Decimal:
		return new(big.Rat).SetFrac(v.Big(), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(v.Scale)), nil))
	case value.Enum:
		if v.Number >= 0 {
			return new(big.Rat).SetInt64(int64(v.Number))
		}
	}
	return nil
}

// text writes a value as JSON does.
func text(v value.Value, t *schema.Type) string {
	m := &value.Message{Type: &schema.Message{Fields: []*schema.Field{{Number: 1, Name: "v", Type: t}}},
		Fields: map[int]value.Value{1: v}}
	b, err := value.EncodeJSON(m)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b[len(`{"v":`) : len(b)-1])
}
