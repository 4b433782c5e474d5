package wire

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// read writes a message with the writer's definitions and reads it with the reader's.
func (w *walker) read(reader *schema.Message, m *value.Message) difference {
	got, err := w.through(reader, m)
	if got == nil && err == nil {
		return difference{} // it can't be written in this encoding
	}
	if err != nil {
		e := &value.Error{Found: err.Error(), Offset: -1}
		errors.As(err, &e)
		return difference{verdict.Breaking, e.Path, func(path string) string {
			again := *e
			if again.Path != path {
				again.Path, again.Offset = path, -1
			}
			return "refuses it: " + again.Error()
		}}
	}
	if w.strict() {
		if violations := value.Validate(got); len(violations) > 0 {
			v := violations[0]
			return difference{verdict.Breaking, v.Pointer,
				func(path string) string { return fmt.Sprintf("refuses it with 400: %s %s", path, v.Detail) }}
		}
	}
	return w.messageDiffers(m, got)
}

// reduce makes messages of some fields alone, on both sides: what happens to them has no
// other reason. Fields may be nil.
func (w *walker) reduce(at *node, fw, fr, other *schema.Field) (writer, reader *schema.Message) {
	received := (*schema.Field)(nil)
	if fw != nil {
		received = w.receiver(at.r, fw)
	}
	key := [4]*schema.Field{fw, fr, other, received}
	if sides, known := w.reduced[key]; known {
		return sides[0], sides[1]
	}
	part := func(of *schema.Message, fields ...*schema.Field) *schema.Message {
		m := *of
		m.Fields = nil
		for _, f := range fields {
			if f != nil && !slices.Contains(m.Fields, f) {
				m.Fields = append(m.Fields, f)
			}
		}
		slices.SortFunc(m.Fields, func(a, b *schema.Field) int { return a.Number - b.Number })
		return &m
	}
	writer, reader = part(at.w, fw, other), part(at.r, fr, received)
	old, new := sidesOf(w.newReads, at.w, at.r)
	var kept []change.FieldPair
	for _, p := range w.pairs(old, new) {
		a, b := sidesOf(w.newReads, p.Old, p.New)
		if a != nil && b != nil && slices.Contains(writer.Fields, a) && slices.Contains(reader.Fields, b) {
			kept = append(kept, p)
		}
	}
	slimOld, slimNew := sidesOf(w.newReads, writer, reader)
	w.pairings[[2]*schema.Message{slimOld, slimNew}] = kept
	w.reduced[key] = [2]*schema.Message{writer, reader}
	return writer, reader
}

// breaks tells what happens when fields arrive as others, or not at all: fw is what is
// written, fr what should be read, other what arrives instead; any may be nil. It tries
// all values that can matter, and returns whether anything breaks.
func (w *walker) breaks(f *change.Change, at *node, fw, fr, other *schema.Field, sentence string) bool {
	writer, reader := w.reduce(at, fw, fr, other)
	var worst difference
	var shown *value.Message
	for _, m := range w.variants(writer, reader, fw, fr, other) {
		if len(value.Validate(m)) > 0 {
			continue
		}
		if o := w.read(reader, m); o.verdict > worst.verdict {
			if worst, shown = o, m; o.verdict == verdict.Breaking {
				break
			}
		}
	}
	if worst.verdict == verdict.Compatible {
		return false
	}
	w.emit(f, event{verdict: worst.verdict, sentence: sentence,
		proof: func() *verdict.Proof { return w.prove(at, shown, worst, "") }})
	return worst.verdict == verdict.Breaking
}

// variants are messages of a writer with any values that can matter in a field and in
// another one; first without them, where they may be left out.
func (w *walker) variants(writer, reader *schema.Message, fw, fr, other *schema.Field) (list []*value.Message) {
	choices := func(f *schema.Field, as ...*schema.Field) (values []value.Value) {
		if f == nil {
			return []value.Value{nil}
		}
		if f.Presence != schema.Required {
			values = append(values, nil)
		}
		if f.Type.Clearable {
			values = append(values, value.Cleared{})
		}
		for _, r := range as {
			if r == nil {
				continue
			}
			examples, _ := w.candidates(spot{wt: f.Type, rt: r.Type, wb: f.Bounds, rb: r.Bounds}, 0)
			for _, e := range examples {
				if e.large == "" {
					values = append(values, e.value)
				}
			}
		}
		// What is read may be the same for all values: any other one will do.
		return append(append(values, value.Distinct(f.Type, f.Bounds, 3)...), w.minimals.Edges(f.Type)...)
	}
	var received *schema.Field
	if fw != nil {
		received = w.receiver(reader, fw)
		if received == nil {
			received = fr
		}
	}
	const most = 60
	first, second := choices(fw, received, fr), choices(other, fr)
	for i, v := range first {
		for j, u := range second {
			if i > most && j > 3 || j > most && i > 3 {
				break
			}
			m := w.minimals.Message(writer)
			for _, set := range []struct {
				f *schema.Field
				v value.Value
			}{{fw, v}, {other, u}} {
				switch {
				case set.f == nil:
				case set.v != nil:
					m.Fields[set.f.Number] = set.v
				case set.f.Presence == schema.Optional || w.leftOut():
					delete(m.Fields, set.f.Number)
				}
			}
			list = append(list, m)
		}
	}
	return list
}

// shows makes the payload in which a field that has a default is left out.
func (w *walker) shows(fw, fr *schema.Field) func() *verdict.Proof {
	at := w.at
	return func() *verdict.Proof {
		writer, _ := w.reduce(at, fw, fr, nil)
		m := w.minimals.Message(writer)
		delete(m.Fields, fw.Number)
		return w.prove(at, m, difference{verdict.Altering, "/" + pointerStep(fr.JSONName()), func(path string) string {
			if fr.Presence != schema.Defaulted {
				return fmt.Sprintf("finds nothing at %s, where %s was meant", path, schema.LiteralText(fw.Default))
			}
			return fmt.Sprintf("reads %s as %s, where nothing was written", path, schema.LiteralText(fr.Default))
		}}, "")
	}
}

// proofOf makes the proof of what happens to a value at a place of a node.
func (w *walker) proofOf(at *node, p place, e *example) func() *verdict.Proof {
	return func() *verdict.Proof {
		if e.large != "" {
			return &verdict.Proof{Message: w.messageOf(at).w.FullName(), Encoding: w.encoding, Writer: w.writer(),
				Reader: w.reader(), Outcome: fmt.Sprintf("refuses %s in %s", e.large, p.name())}
		}
		inner := w.wrapped(p, e.value)
		if at.wu != nil {
			writer, reader := w.alternativeAlone(at, p)
			o := w.read(reader, only(writer, &value.Union{Number: p.writtenAlt.Number, Value: inner}))
			return w.prove(at, &value.Union{Number: p.writtenAlt.Number, Value: inner}, o, "/value")
		}
		writer, reader := w.reduce(at, p.written, p.read, nil)
		m := w.minimals.Message(writer)
		m.Fields[p.written.Number] = inner
		return w.prove(at, m, w.read(reader, m), "")
	}
}

// alternativeAlone are messages that hold a union of one alternative.
func (w *walker) alternativeAlone(at *node, p place) (writer, reader *schema.Message) {
	wu, ru := *at.wu, *at.ru
	wu.Alternatives = []*schema.Alternative{p.writtenAlt}
	ru.Alternatives = nil
	for _, a := range at.ru.Alternatives {
		if a == p.readAlt || a.Number == p.writtenAlt.Number || a.JSONName() == p.writtenAlt.JSONName() {
			ru.Alternatives = append(ru.Alternatives, a)
		}
	}
	pairs := map[*schema.Alternative]*schema.Alternative{}
	if p.readAlt != nil {
		pairs[p.writtenAlt], pairs[p.readAlt] = p.readAlt, p.writtenAlt
	}
	w.alternatives[[2]*schema.Union{&wu, &ru}] = pairs
	writer = alone(&schema.Type{Kind: schema.KindUnion, Union: &wu}, nil)
	reader = alone(&schema.Type{Kind: schema.KindUnion, Union: &ru}, nil)
	old, new := sidesOf(w.newReads, writer, reader)
	w.pairings[[2]*schema.Message{old, new}] = []change.FieldPair{{Old: old.Fields[0], New: new.Fields[0]}}
	return writer, reader
}

// wrapped puts a value into the lists and maps of a place.
func (w *walker) wrapped(p place, v value.Value) value.Value {
	for _, l := range slices.Backward(p.chain) {
		v = value.Holding(l.typ, l.own, v, l.key)
	}
	return v
}

// whole puts a value into the smallest one of a node that holds it.
func (w *walker) whole(n *node, p place, v value.Value) value.Value {
	v = w.wrapped(p, v)
	if p.writtenAlt != nil {
		return &value.Union{Number: p.writtenAlt.Number, Value: v}
	}
	m := w.minimals.Message(n.w)
	m.Fields[p.written.Number] = v
	return m
}

// messageOf is the nearest node of a message: the node itself, or what leads to it.
func (w *walker) messageOf(n *node) *node {
	for n.wu != nil && n.parent != nil {
		n = n.parent
	}
	return n
}

// mostShown is how many nodes a payload of a root may have before the nearest message
// stands for it.
const mostShown = 20_000

// prove makes the payload, of the root that a node is reached from, in which something
// happens; what happens was seen by reading alone what is concerned, below stripped in
// its path. Where the whole reader fails in another way, for another change, that is
// what the proof tells of.
func (w *walker) prove(at *node, local value.Value, seen difference, stripped string) *verdict.Proof {
	if seen.verdict == verdict.Compatible {
		return nil
	}
	path := strings.TrimPrefix(seen.path, stripped)
	v, n := local, at
	if m, isMessage := local.(*value.Message); isMessage && at.w.Smallest > mostShown {
		return w.inPart(at, m, seen)
	} else if isMessage {
		full := w.minimals.Message(at.w)
		for _, f := range m.Type.Fields {
			if x, there := m.Fields[f.Number]; there {
				full.Fields[f.Number] = x
			} else {
				delete(full.Fields, f.Number)
			}
		}
		v = full
	}
	for n.parent != nil && (n.wu != nil || n.root.w.Smallest <= mostShown) {
		v, path = w.whole(n.parent, n.via, v), w.pathTo(n.via)+path
		n = n.parent
	}
	if n.wu != nil { // a union that nothing holds
		writer, reader := alone(&schema.Type{Kind: schema.KindUnion, Union: n.wu}, nil),
			alone(&schema.Type{Kind: schema.KindUnion, Union: n.ru}, nil)
		n = &node{visit: visit{w: writer, r: reader}}
		v = only(writer, v)
	}
	payload := v.(*value.Message)
	proof := &verdict.Proof{Message: payload.Type.FullName(), ReadAs: n.r.FullName(), Encoding: w.encoding,
		Writer: w.writer(), Reader: w.reader(), Outcome: seen.says(path)}
	w.made[proof] = payload
	if w.standing[n.r] {
		proof.ReadAs = "" // nothing reads it alone
	}
	if real := w.read(n.r, payload); real.verdict != verdict.Compatible &&
		(real.path == path || strings.HasPrefix(real.path, path+"/") || strings.HasPrefix(path, real.path+"/")) {
		proof.Outcome = real.says(real.path)
	} else if seen.verdict == verdict.Breaking {
		proof.Alone = true
	}
	// Both encodings are shown, whichever was read; a value that only one of them can
	// hold has no other.
	toCBOR, toJSON := w.writers()
	proof.Binary, _ = toCBOR(payload)
	text, _ := toJSON(payload)
	proof.JSON = string(text)
	return proof
}

// inPart is the proof of a message whose smallest value is too large for anybody to
// read: the fields that are concerned, alone.
func (w *walker) inPart(at *node, part *value.Message, seen difference) *verdict.Proof {
	proof := &verdict.Proof{Message: at.w.FullName(), Encoding: w.encoding, Writer: w.writer(), Reader: w.reader(),
		Outcome: seen.says(seen.path), Alone: true}
	toCBOR, toJSON := w.writers()
	proof.Binary, _ = toCBOR(part)
	text, _ := toJSON(part)
	proof.JSON = string(text)
	return proof
}

// pathTo is the JSON Pointer to a place, as the reader has it.
func (w *walker) pathTo(p place) string {
	path := ""
	if p.readAlt != nil {
		path = "/" + pointerStep(p.readAlt.JSONName())
	} else if p.read != nil {
		path = "/" + pointerStep(p.read.JSONName())
	}
	for _, l := range p.chain {
		if l.typ.Kind == schema.KindList {
			path += "/0"
		} else {
			path += "/" + pointerStep(value.KeyText(w.minimals.Within(l.typ.Key, nil), l.typ.Key))
		}
	}
	return path
}
