package compare

import (
	"bytes"
	"fmt"
	"math"
	"math/big"
	"slices"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// prove looks for the smallest payload, of the root that a node is reached
// from, that the reader refuses or reads otherwise; one that proves the same in both forms
// comes before a smaller one. It varies one field of the node's
// message over the edges of its type, or leaves it out; without a field,
// the smallest message must do. The reference reader decides; nil says that no
// witness was found.
func (w *walker) prove(at *node, vary *schema.Field, absent bool) *Witness {
	key := proof{at.w, at.r, vary, absent}
	if witness := w.again(at, key); witness != nil {
		return witness
	}
	return w.proveBy(at, key, w.variations(at, vary, absent), 3) // simple values come first
}

// proveBoth is prove for two fields at once, of which one arrives as the other.
func (w *walker) proveBoth(at *node, vary, other *schema.Field) *Witness {
	var list []*value.Message
	for _, v := range w.minimals.Edges(vary.Type) {
		for _, u := range w.minimals.Edges(other.Type) {
			local := w.minimals.Message(at.w)
			local.Fields[vary.Number], local.Fields[other.Number] = v, u
			list = append(list, local)
		}
	}
	return w.proveBy(at, proof{at.w, at.r, vary, false}, list, 3)
}

// proof is what a search for a witness was about.
type proof struct {
	w, r   *schema.Message
	vary   *schema.Field
	absent bool
}

// proven is what proved a break: a message of the node's, and the payload that it
// came in, by the way to it.
type proven struct {
	local, payload *value.Message
	steps          []*schema.Field
}

// again tries what proved the same in another form.
func (w *walker) again(at *node, key proof) *Witness {
	before, known := w.found[key]
	if !known {
		return nil
	}
	steps := at.steps()
	payload := before.payload
	if !slices.Equal(steps, before.steps) || payload.Type != at.root.w {
		if payload = w.wrap(steps, before.local); len(steps) > 0 && len(value.Validate(payload)) > 0 {
			return nil
		}
	}
	return w.try(at.root.r, payload)
}

// proveLimits is prove for bounds: values around limits are tried first.
func (w *walker) proveLimits(at *node, vary *schema.Field) *Witness {
	key := proof{at.w, at.r, vary, false}
	if witness := w.again(at, key); witness != nil {
		return witness
	}
	reader := w.counterpart(at, vary)
	candidates := w.candidates(vary.Type, reader.Type, vary.Bounds, reader.Bounds, 0)
	if reader.Type != nil && reader.Type.Kind == vary.Type.Kind && vary.Type.Kind.IsScalar() {
		if refused := refusedBy(reader, candidates); len(refused) > 0 {
			candidates = refused // those alone can prove it
		}
	}
	var list []*value.Message
	for _, v := range candidates {
		local := w.minimals.Message(at.w)
		local.Fields[vary.Number] = v
		list = append(list, local)
	}
	if witness := w.proveBy(at, key, list, 3); witness != nil {
		return witness
	}
	return w.prove(at, vary, false)
}

// refusedBy are the values of a scalar that the bounds of a field refuse.
func refusedBy(f *schema.Field, values []value.Value) (refused []value.Value) {
	for _, v := range values {
		if slices.ContainsFunc(boundsOf(f), func(b *schema.Bounds) bool { return len(b.Violations(v)) > 0 }) {
			refused = append(refused, v)
		}
	}
	return refused
}

// counterpart is what a field of the writer is read as; an empty field where it is
// nothing.
func (w *walker) counterpart(at *node, field *schema.Field) *schema.Field {
	old, new := sidesOf(w.newReads, at.w, at.r)
	for _, p := range w.pairs(old, new) {
		fw, fr := sidesOf(w.newReads, p.old, p.new)
		if fw == field && fr != nil {
			return fr
		}
	}
	return &schema.Field{}
}

// patience is how many more values are tried for one that proves it in both forms, once
// one proves it in one of them.
const patience = 60

// proveBy takes the smallest of those that prove it; of those that prove it in both
// forms, as soon as there are enough.
func (w *walker) proveBy(at *node, key proof, variations []*value.Message, enough int) *Witness {
	other := *w
	other.form = map[string]string{"binary": "json", "json": "binary"}[w.form]
	type candidate struct {
		local *value.Message
		size  int
	}
	// What is wrong with the node's own message shows without all that leads to it.
	inBoth, since := 0, 0
	var list []candidate
	for _, local := range variations {
		if since++; len(list) > 0 && since > patience {
			break // the other form does not break, or only far away
		}
		slim, reader := w.slim(at, key.vary, local)
		if len(value.Validate(slim)) > 0 {
			continue // not lawful: its own definitions refuse it
		}
		outcome, size := w.outcome(reader, slim)
		if outcome == nil {
			continue
		}
		alsoThere, _ := other.outcome(reader, slim)
		if alsoThere == nil {
			size += 1 << 20
		} else {
			inBoth++
		}
		if len(list) == 0 {
			since = 0
		}
		if list = append(list, candidate{local, size}); inBoth == enough {
			break
		}
	}
	slices.SortStableFunc(list, func(a, b candidate) int { return a.size - b.size })
	steps := at.steps()
	for _, c := range list {
		payload := w.wrap(steps, c.local)
		if len(steps) > 0 && len(value.Validate(payload)) > 0 {
			continue
		}
		if witness := w.try(at.root.r, payload); witness != nil {
			w.found[key] = proven{c.local, payload, steps}
			return witness
		}
	}
	return nil
}

// slim is a message of a node without those large fields that both sides have and require
// besides the one that is varied, and what it is read as: what they hold is read apart from
// the rest, and need not be written and read for each value that is tried.
func (w *walker) slim(at *node, vary *schema.Field, local *value.Message) (*value.Message, *schema.Message) {
	if vary == nil || at.w.Smallest <= schema.AdviseNodes {
		return local, at.r
	}
	key := proof{at.w, at.r, vary, false}
	sides, known := w.slims[key]
	if !known {
		old, new := sidesOf(w.newReads, at.w, at.r)
		slimOld, slimNew := *old, *new
		slimOld.Fields, slimNew.Fields = nil, nil
		var kept []fieldPair
		for _, p := range w.pairs(old, new) {
			large := func(f *schema.Field) bool {
				return f != nil && f != vary && f.Presence == schema.Required && f.Type.Smallest(f.Bounds) > schema.AdviseNodes/100
			}
			if large(p.old) && large(p.new) {
				continue
			}
			kept = append(kept, p)
			if p.old != nil {
				slimOld.Fields = append(slimOld.Fields, p.old)
			}
			if p.new != nil {
				slimNew.Fields = append(slimNew.Fields, p.new)
			}
		}
		for _, m := range []*schema.Message{&slimOld, &slimNew} {
			slices.SortFunc(m.Fields, func(a, b *schema.Field) int { return a.Number - b.Number })
		}
		w.pairings[[2]*schema.Message{&slimOld, &slimNew}] = kept
		sides.w, sides.r = sidesOf(w.newReads, &slimOld, &slimNew)
		w.slims[key] = sides
	}
	out := &value.Message{Type: sides.w, Fields: map[int]value.Value{}, Unknown: local.Unknown}
	for _, f := range sides.w.Fields {
		if v, there := local.Fields[f.Number]; there {
			out.Fields[f.Number] = v
		}
	}
	return out, sides.r
}

func (w *walker) variations(at *node, vary *schema.Field, absent bool) []*value.Message {
	m := at.w
	smallest := w.minimals.Message(m)
	if vary == nil {
		return []*value.Message{smallest}
	}
	if absent {
		delete(smallest.Fields, vary.Number)
		return []*value.Message{smallest}
	}
	var list []*value.Message
	values := w.minimals.Edges(vary.Type)
	counterpart := w.counterpart(at, vary)
	values = append(values, w.candidates(vary.Type, counterpart.Type, vary.Bounds, counterpart.Bounds, 0)...)
	for _, v := range values {
		local := w.minimals.Message(m)
		local.Fields[vary.Number] = v
		list = append(list, local)
	}
	return list
}

// wrap puts a message into the smallest messages that lead to it.
func (w *walker) wrap(steps []*schema.Field, m *value.Message) *value.Message {
	for i := len(steps) - 1; i >= 0; i-- {
		outer := w.minimals.Message(steps[i].Message)
		outer.Fields[steps[i].Number], _ = w.wrapType(steps[i].Type, m, 0)
		m = outer
	}
	return m
}

// wrapType makes a value of a type that holds a message; false where it can't.
func (w *walker) wrapType(t *schema.Type, m *value.Message, depth int) (value.Value, bool) {
	if depth > 8 {
		return nil, false // a union that holds itself
	}
	switch t.Kind {
	case schema.KindList:
		v, ok := w.wrapType(t.Elem, m, depth+1)
		return value.List{v}, ok
	case schema.KindMap:
		v, ok := w.wrapType(t.Elem, m, depth+1)
		return &value.Map{Entries: []value.Entry{{Key: w.minimals.Within(t.Key, nil), Value: v}}}, ok
	case schema.KindUnion:
		for _, a := range t.Union.Alternatives {
			if a.Type.Kind == schema.KindUnion {
				continue // the shortest way goes straight
			}
			if v, ok := w.wrapType(a.Type, m, depth+1); ok {
				return &value.Union{Number: a.Number, Value: v}, true
			}
		}
		return nil, false
	}
	return m, t.Message == m.Type
}

// writers are those of a position: only people leave out a field with a default;
// writers always write it.
func (w *walker) writers() (toCBOR, toJSON func(*value.Message) ([]byte, error)) {
	if w.leftOut() {
		return value.EncodeCBORWithout, value.EncodeJSONWithout
	}
	return value.EncodeCBOR, value.EncodeJSON
}

// outcome writes a message with the writer's definitions and reads it with the
// reader's. It returns what is said of a break, or nil, and the payload's size.
func (w *walker) outcome(reader *schema.Message, m *value.Message) (says func() string, size int) {
	write, writeJSON := w.writers()
	read := value.DecodeCBOR
	if w.form == "json" {
		write, read = writeJSON, value.DecodeJSON
	}
	payload, err := write(m)
	if err != nil {
		return nil, 0
	}
	got, err := read(reader, payload, 0)
	if err != nil {
		return func() string { return "refuses it: " + err.Error() }, len(payload)
	}
	if w.strict() {
		if violations := value.Validate(got); len(violations) > 0 {
			return func() string {
				return fmt.Sprintf("refuses it with 400: %s %s", violations[0].Pointer, violations[0].Detail)
			}, len(payload)
		}
	}
	if difference := w.otherwise("", m, got); difference != "" {
		return func() string { return difference }, len(payload)
	}
	return nil, 0
}

// try makes a witness of a message, or nil where it proves nothing.
func (w *walker) try(reader *schema.Message, m *value.Message) *Witness {
	says, _ := w.outcome(reader, m)
	if says == nil {
		return nil
	}
	witness := &Witness{Message: m.Type.FullName(), ReadAs: reader.FullName(), Form: w.form, Writer: w.writer(), Reader: w.reader(), Outcome: says()}
	// Both forms are shown, whichever was read; a value that only one form can
	// hold has no other.
	toCBOR, toJSON := w.writers()
	witness.Binary, _ = toCBOR(m)
	text, _ := toJSON(m)
	witness.JSON = string(text)
	return witness
}

// otherwise says where a message reads otherwise than it was written, or "".
// What the reader does not know is kept and never otherwise.
func (w *walker) otherwise(path string, written, got *value.Message) string {
	old, new := sidesOf(w.newReads, written.Type, got.Type)
	for _, p := range w.pairs(old, new) {
		fw, fr := sidesOf(w.newReads, p.old, p.new)
		if fw == nil || fr == nil {
			continue
		}
		v, ok := written.Fields[fw.Number]
		if !ok {
			continue // left out: what that means may shift, not break
		}
		there := path + "/" + fw.Name
		found, ok := got.Fields[fr.Number]
		if !ok {
			return fmt.Sprintf("finds no %s, where %s was written", there, text(v, fw.Type))
		}
		if difference := w.differs(there, v, found, fw.Type, fr.Type); difference != "" {
			return difference
		}
	}
	return ""
}

func (w *walker) differs(path string, v, found value.Value, wt, rt *schema.Type) string {
	difference := func() string {
		return fmt.Sprintf("reads %s as %s, where %s was written", path, text(found, rt), text(v, wt))
	}
	if wt.Kind == rt.Kind {
		switch wt.Kind {
		case schema.KindMessage:
			return w.otherwise(path, v.(*value.Message), found.(*value.Message))
		case schema.KindList:
			a, b := v.(value.List), found.(value.List)
			if len(a) != len(b) {
				return difference()
			}
			for i := range a {
				if d := w.differs(fmt.Sprintf("%s/%d", path, i), a[i], b[i], wt.Elem, rt.Elem); d != "" {
					return d
				}
			}
			return ""
		case schema.KindMap:
			a, b := v.(*value.Map).Entries, found.(*value.Map).Entries
			if len(a) != len(b) {
				return difference()
			}
			for i := range a {
				if d := w.differs("a key of "+path, a[i].Key, b[i].Key, wt.Key, rt.Key); d != "" {
					return d
				}
				if d := w.differs(path+"/"+value.KeyText(a[i].Key, wt.Key), a[i].Value, b[i].Value, wt.Elem, rt.Elem); d != "" {
					return d
				}
			}
			return ""
		case schema.KindUnion:
			a, b := v.(*value.Union), found.(*value.Union)
			aw, ar := wt.Union.ByNumber(a.Number), rt.Union.ByNumber(b.Number)
			if !w.sameAlternative(a, b, wt.Union, rt.Union) {
				return difference()
			}
			if ar == nil {
				return "" // kept as it was written
			}
			return w.differs(path+"/"+aw.JSONName(), a.Value, b.Value, aw.Type, ar.Type)
		case schema.KindEnum:
			if !w.sameMember(v.(value.Enum), found.(value.Enum), wt.Enum, rt.Enum) {
				return fmt.Sprintf("reads %s as %s, where %s was written", path, memberName(rt.Enum, found.(value.Enum)), memberName(wt.Enum, v.(value.Enum)))
			}
			return ""
		}
	}
	if !sameValue(v, found) {
		return difference()
	}
	return ""
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

// sameMember tells whether two enum values are equal: their members are
// paired, or an unlisted one is the number or name that was written and its
// member has no counterpart.
func (w *walker) sameMember(v, found value.Enum, we, re *schema.Enum) bool {
	old, new := sidesOf(w.newReads, we, re)
	member := we.ByNumber(v.Number)
	for _, p := range pairMembers(old, new) {
		mw, mr := sidesOf(w.newReads, p.old, p.new)
		if mw != member {
			continue
		}
		if mr != nil {
			return found.Number == mr.Number
		}
		return found.Number == v.Number && re.ByNumber(v.Number) == nil || found.Number < 0 && found.Name == member.JSONName()
	}
	return false
}

// sameValue compares scalars: all kinds of numbers as numbers, an enum as its
// number; other kinds only with their own.
func sameValue(a, b value.Value) bool {
	x, isNumber := number(a)
	y, alsoNumber := number(b)
	if isNumber || alsoNumber {
		if !isNumber || !alsoNumber {
			return false
		}
		if x == nil || y == nil { // NaN and infinities are floats on both sides
			return value.Equal(float(a), float(b))
		}
		return x.Cmp(y) == 0
	}
	if p, ok := a.([]byte); ok {
		q, ok := b.([]byte)
		return ok && bytes.Equal(p, q)
	}
	switch a.(type) {
	case value.List, *value.Map, *value.Message:
		return false // kinds differ, or this would not be asked
	case schema.Any, *value.Union:
		return value.Equal(a, b)
	}
	switch b.(type) {
	case []byte, value.List, *value.Map, *value.Message, schema.Any, *value.Union:
		return false
	}
	return a == b
}

// float widens a float32.
func float(v value.Value) value.Value {
	if x, ok := v.(float32); ok {
		return float64(x)
	}
	return v
}

// number turns a value into a number; nil stands for NaN and infinities.
func number(v value.Value) (*big.Float, bool) {
	switch v := v.(type) {
	case int64:
		return new(big.Float).SetInt64(v), true
	case uint64:
		return new(big.Float).SetUint64(v), true
	case float32:
		return number(float64(v))
	case float64:
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return nil, true
		}
		return new(big.Float).SetFloat64(v), true
	case schema.Decimal:
		x, _ := new(big.Float).SetPrec(256).SetString(v.String())
		return x, true
	case value.Enum:
		if v.Number >= 0 {
			return new(big.Float).SetInt64(int64(v.Number)), true
		}
	}
	return nil, false
}

// text writes a value for people.
func text(v value.Value, t *schema.Type) string {
	m := &value.Message{Type: &schema.Message{Fields: []*schema.Field{{Number: 1, Name: "v", Type: t}}}, Fields: map[int]value.Value{1: v}}
	b, err := value.EncodeJSON(m)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b[len(`{"v":`) : len(b)-1])
}
