package compare

import (
	"bytes"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// oracle says whether what was read is what was written, by the rules of the documentation
// and by nothing of the judge's: it has an equality of its own.
type oracle struct {
	set      *change.Set
	newReads bool
}

// thing is a value and its type; inside of an any there is none.
type thing struct {
	v any
	t *schema.Type
}

// open is what an any holds; other things are themselves.
func (x thing) open() thing {
	if a, isAny := x.v.(schema.Any); isAny {
		return thing{a.Value, nil}
	}
	return x
}

// kind tells apart what no program takes for each other.
func (x thing) kind() string {
	switch v := x.v.(type) {
	case nil:
		return "null"
	case bool:
		return "truth"
	case int64, uint64, float32, float64, schema.Decimal, value.Enum:
		return "number"
	case string:
		return "text"
	case []byte:
		return "bytes"
	case value.List, []schema.Any:
		return "list"
	case *value.Map, []schema.AnyEntry:
		return "map"
	case *value.Message:
		if v.Type.IsPatch() {
			return "patch"
		}
		return "message"
	default:
		return fmt.Sprintf("%T", v)
	}
}

// json is the text that a writer writes, without what was left out.
func (x thing) json() string {
	t, v := x.t, x.v
	if t == nil {
		t, v = &schema.Type{Kind: schema.KindAny}, schema.Any{Value: x.v}
	}
	holder := &schema.Message{Fields: []*schema.Field{{Number: 1, Name: "v", Type: t}}}
	b, err := value.EncodeJSONWithout(&value.Message{Type: holder, Fields: map[int]value.Value{1: v}})
	if err != nil {
		return fmt.Sprint(v)
	}
	return strings.TrimSuffix(strings.TrimPrefix(string(b), `{"v":`), "}")
}

func (o oracle) sides(w, r *schema.Message) []change.FieldPair {
	old, new := w, r
	if !o.newReads {
		old, new = r, w
	}
	pairs := slices.Clone(o.set.Fields(old, new))
	if !o.newReads {
		for i, p := range pairs {
			pairs[i] = change.FieldPair{Old: p.New, New: p.Old}
		}
	}
	return pairs // the writer's field first
}

// message compares what was sent with what was read; own is what the writer's own reader
// makes of what was sent.
func (o oracle) message(sent, own, got *value.Message) (worst verdict.Verdict, where string) {
	say := func(v verdict.Verdict, at string) {
		if v > worst {
			worst, where = v, at
		}
	}
	for _, p := range o.sides(sent.Type, got.Type) {
		if p.Old == nil || p.New == nil {
			continue
		}
		was, written := sent.Fields[p.Old.Number]
		found, there := got.Fields[p.New.Number]
		at := "/" + p.New.JSONName()
		null := written && thing{was, p.Old.Type}.open().kind() == "null"
		if written && (thing{was, nil}).kind() == "value.Cleared" && there && (thing{found, nil}).kind() == "value.Cleared" {
			if o.cleared(p.Old.Changes, p.New.Changes) {
				say(verdict.Altering, at)
			}
			continue
		}
		switch {
		case sent.Type.IsPatch() && !written:
			if there {
				say(verdict.Breaking, at)
			}
		case !written || null:
			// What was left out means what the writer's own reader makes of it. Null in an any is
			// the same as nothing.
			meant, has := own.Fields[p.Old.Number]
			has = has && thing{meant, p.Old.Type}.open().kind() != "null"
			gotNull := there && thing{found, p.New.Type}.open().kind() == "null"
			if has != (there && !gotNull) {
				say(verdict.Altering, at)
			} else if has {
				v, inner := o.same(thing{meant, p.Old.Type}, meant, thing{found, p.New.Type})
				say(min(v, verdict.Altering), at+inner)
			}
		case !there:
			say(verdict.Breaking, at)
		default:
			v, inner := o.same(thing{was, p.Old.Type}, own.Fields[p.Old.Number], thing{found, p.New.Type})
			say(v, at+inner)
		}
	}
	return worst, where
}

// cleared tells whether a cleared field is something else on both sides.
func (o oracle) cleared(w, r *schema.Field) bool {
	if w.Presence != schema.Defaulted || r.Presence != schema.Defaulted {
		return w.Presence != r.Presence
	}
	a := thing{value.Default(w.Default), w.Type}
	v, _ := o.same(a, a.v, thing{value.Default(r.Default), r.Type})
	return v != verdict.Compatible
}

// same compares one value as it was written and as it was read. own is what the writer's
// own reader makes of it.
func (o oracle) same(a thing, own any, b thing) (verdict.Verdict, string) {
	mine := thing{own, a.t}.open()
	a, b = a.open(), b.open()
	if a.kind() != b.kind() {
		if a.json() == b.json() {
			return verdict.Altering, ""
		}
		return verdict.Breaking, ""
	}
	alike := true
	switch x := a.v.(type) {
	case *value.Message:
		return o.message(x, own.(*value.Message), b.v.(*value.Message))
	case *value.Union:
		return o.union(x, own.(*value.Union), b.v.(*value.Union), a.t.Union, b.t.Union)
	case value.List, []schema.Any:
		m, n, inside := a.items(), b.items(), mine.items()
		if len(m) != len(n) {
			return verdict.Breaking, ""
		}
		worst, where := verdict.Compatible, ""
		for i := range m {
			if v, inner := o.same(m[i], inside[i].v, n[i]); v > worst {
				worst, where = v, fmt.Sprint("/", i, inner)
			}
		}
		return worst, where
	case *value.Map, []schema.AnyEntry:
		return o.entries(a.pairs(), mine.pairs(), b.pairs())
	case []byte:
		alike = bytes.Equal(x, b.v.([]byte))
	case value.Enum:
		y, alsoEnum := b.v.(value.Enum)
		alike = alsoEnum && o.member(x, y, a.t.Enum, b.t.Enum) || !alsoEnum && real(a.v) != "" && real(a.v) == real(b.v)
	default:
		if a.kind() == "number" {
			alike = sameNumber(a.v, b.v)
		} else {
			alike = a.v == b.v
		}
	}
	if !alike {
		return verdict.Breaking, ""
	}
	return verdict.Compatible, ""
}

// sameNumber tells whether two numbers of any types are the same.
func sameNumber(a, b any) bool {
	switch a.(type) {
	case int64, uint64, float32, float64:
		if a == b { // which is quicker than fractions, where it holds
			return true
		}
	}
	return real(a) != "" && real(a) == real(b)
}

// real is a number as a fraction, or NaN or an infinity; "" for a name that is not listed.
func real(v any) string {
	switch x := v.(type) {
	case value.Enum:
		if x.Number < 0 {
			return ""
		}
		return fmt.Sprint(x.Number, "/1")
	case schema.Decimal:
		ten := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(x.Scale)), nil)
		return new(big.Rat).SetFrac(x.Big(), ten).String()
	case float32:
		return real(float64(x))
	case float64:
		if r := new(big.Rat).SetFloat64(x); r != nil {
			return r.String()
		}
	}
	if r, ok := new(big.Rat).SetString(fmt.Sprint(v)); ok {
		return r.String()
	}
	return fmt.Sprint(v)
}

func (x thing) items() (list []thing) {
	switch v := x.v.(type) {
	case value.List:
		for _, e := range v {
			list = append(list, thing{e, x.t.Elem})
		}
	case []schema.Any:
		for _, e := range v {
			list = append(list, thing{e, nil})
		}
	}
	return list
}

func (x thing) pairs() (list [][2]thing) {
	switch v := x.v.(type) {
	case *value.Map:
		for _, e := range v.Entries {
			list = append(list, [2]thing{{e.Key, x.t.Key}, {e.Value, x.t.Elem}})
		}
	case []schema.AnyEntry:
		for _, e := range v {
			list = append(list, [2]thing{{e.Key, nil}, {e.Value, nil}})
		}
	}
	return list
}

// entries compares maps as sets.
func (o oracle) entries(a, own, b [][2]thing) (verdict.Verdict, string) {
	if len(a) != len(b) {
		return verdict.Breaking, ""
	}
	worst := verdict.Compatible
	for _, x := range a {
		best := verdict.Breaking
		for _, y := range b {
			key, _ := o.same(x[0], x[0].v, y[0])
			if key == verdict.Breaking && x[0].kind() != y[0].kind() && keyText(x[0]) == keyText(y[0]) {
				key = verdict.Altering // JSON writes all keys as texts
			}
			if key == verdict.Breaking {
				continue
			}
			i := slices.IndexFunc(own, func(e [2]thing) bool { return value.Equal(e[0].v, x[0].v) })
			v, _ := o.same(x[1], own[i][1].v, y[1])
			best = min(best, max(key, v))
		}
		worst = max(worst, best)
	}
	return worst, ""
}

func keyText(x thing) string {
	if x.t == nil {
		return x.v.(string)
	}
	return value.KeyText(x.v, x.t)
}

func (o oracle) member(a, b value.Enum, we, re *schema.Enum) bool {
	written := we.ByNumber(a.Number)
	if written == nil {
		return a == b
	}
	old, new := we, re
	if !o.newReads {
		old, new = re, we
	}
	for _, p := range change.PairMembers(old, new) {
		w, r := p.Old, p.New
		if !o.newReads {
			w, r = r, w
		}
		if w == written && r != nil {
			return b.Number == r.Number
		}
	}
	return re.ByNumber(b.Number) == nil && (b.Number == a.Number || b.Number < 0 && b.Name == written.JSONName())
}

func (o oracle) union(a, own, b *value.Union, wu, ru *schema.Union) (verdict.Verdict, string) {
	written, read := wu.ByNumber(a.Number), ru.ByNumber(b.Number)
	old, new := wu, ru
	if !o.newReads {
		old, new = ru, wu
	}
	var partner *schema.Alternative
	for _, p := range change.PairAlternatives(old, new) {
		w, r := p.Old, p.New
		if !o.newReads {
			w, r = r, w
		}
		if w == written {
			partner = r
		}
	}
	switch {
	case partner == nil && read == nil && (b.Number == a.Number || b.Number == 0 && b.Name == written.JSONName()):
		return verdict.Compatible, "" // preserved as it was written
	case partner == nil || read != partner:
		return verdict.Breaking, ""
	}
	v, inner := o.same(thing{a.Value, written.Type}, own.Value, thing{b.Value, read.Type})
	return v, "/" + read.JSONName() + inner
}
