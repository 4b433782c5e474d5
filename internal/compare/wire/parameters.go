package wire

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// textReader reads what travels outside of a body: in a path, a query, a header or a
// cookie, as texts.
type textReader struct {
	*walker
	sights map[placedSpot]*sight
}

// placedSpot is a spot outside of a body. Two are alike where the same texts can travel.
type placedSpot struct {
	spot
	inPath, verbatim, tag bool
}

// textReader returns that of one direction and position.
func (j *Judge) textReader(newReads bool, position verdict.Position) *textReader {
	key := crossing{newReads, "json", "http", position}
	if j.texts == nil {
		j.texts = map[crossing]*textReader{}
	}
	r := j.texts[key]
	if r == nil {
		r = &textReader{newWalker(j.Set, key), map[placedSpot]*sight{}}
		j.texts[key] = r
	}
	return r
}

// parameters judges what a call's requests and answers hold outside of their bodies: values that
// are refused, are read otherwise, or are not where the reader looks for them.
func (j *Judge) parameters(c change.CallPair) {
	if !j.promise.Promises("http") || c.Old.HTTP == nil && c.New.HTTP == nil && c.Old.Head == nil && c.New.Head == nil {
		return
	}
	for _, m := range j.meetings(c) {
		if c.Old.RequestStream == c.New.RequestStream {
			p := &passage{Judge: j, meeting: m, pair: c, byNew: m.newReads, reader: j.textReader(m.newReads, verdict.Request),
				writerName: m.clientName(), readerName: m.serverName(), sent: placed(conversation.Places(m.client)),
				sought: placed(conversation.Places(m.server))}
			p.judge()
		}
		if !c.Old.ResponseStream && !c.New.ResponseStream {
			p := &passage{Judge: j, meeting: m, pair: c, byNew: !m.newReads, reader: j.textReader(!m.newReads, verdict.Answer),
				writerName: m.serverName(), readerName: m.clientName(), sent: placed(conversation.AnswerPlaces(m.server)),
				sought: placed(conversation.AnswerPlaces(m.client)), answers: true}
			p.judge()
		}
	}
}

// passage is what travels outside of the body from a client to a server, or back.
type passage struct {
	*Judge
	meeting
	pair                   change.CallPair
	answers                bool // from the server to the client
	byNew                  bool // NEW reads
	writerName, readerName string
	reader                 *textReader
	sent, sought           map[*schema.Field]conversation.Placed
}

// judge judges every field that either side has.
func (p *passage) judge() {
	for _, pair := range p.pairs() {
		fw, fr := sidesOf(p.byNew, pair.Old, pair.New)
		switch {
		case fw == nil:
			p.onlySought(fr)
		case fr == nil:
			p.onlySent(fw)
		default:
			p.both(fw, fr)
		}
	}
	if p.answers {
		p.bodies()
	}
}

// bodies judges an answer that has no body any more, where its reader has nothing but one.
func (p *passage) bodies() {
	if p.server.Response == nil || p.client.Response == nil || conversation.AnswerHasBody(p.server) ||
		len(conversation.AnswerOutside(p.client)) > 0 {
		return
	}
	f := p.callChange(p.pair, change.CallAnswer)
	for _, kind := range []change.Kind{change.FieldPlace, change.FieldGone, change.FieldAdded} {
		for _, pair := range p.pairs() {
			for _, field := range []*schema.Field{pair.Old, pair.New} {
				if field != nil {
					f = firstOf(f, p.fieldChange(field, kind))
				}
			}
		}
	}
	p.tell(firstOf(f, p.callChange(p.pair, change.CallHTTP)), verdict.Breaking, fmt.Sprintf(
		"%s answers without a body, and %s expects %q in it", p.writerName, p.readerName, p.client.Response.Name), nil, nil)
}

// placed says where each field of a message travels.
func placed(places []conversation.Placed) map[*schema.Field]conversation.Placed {
	all := map[*schema.Field]conversation.Placed{}
	for _, p := range places {
		all[p.Field] = p
	}
	return all
}

// pairs pairs the fields of the two messages; "()" has none.
func (p *passage) pairs() (list []change.FieldPair) {
	old, new := p.pair.Old.Placed(), p.pair.New.Placed()
	if p.answers {
		old, new = p.pair.Old.Response, p.pair.New.Response
	}
	switch {
	case old != nil && new != nil:
		return p.Judge.Fields(old, new)
	case old != nil:
		for _, f := range old.Fields {
			list = append(list, change.FieldPair{Old: f, New: nil})
		}
	case new != nil:
		for _, f := range new.Fields {
			list = append(list, change.FieldPair{Old: nil, New: f})
		}
	}
	return list
}

// change finds the change of a kind about a field, else about the request as a whole.
func (p *passage) changeOf(f *schema.Field, kinds ...change.Kind) *change.Change {
	for _, kind := range kinds {
		for _, x := range p.OfField[f] {
			if x.Kind == kind {
				return x
			}
		}
	}
	return p.callChange(p.pair, p.whole())
}

// whole is the kind of change of the message as a whole.
func (p *passage) whole() change.Kind {
	switch {
	case p.answers:
		return change.CallAnswer
	case p.client.RequestStream:
		return change.CallHead
	}
	return change.CallRequest
}

// effect adds an effect on what travels this way.
func (p *passage) effect(f *change.Change, v verdict.Verdict, sentence string, w *verdict.Proof) {
	position := verdict.Request
	if p.answers {
		position = verdict.Answer
	}
	p.callEffect(f, p.meeting, position, p.byNew, v, sentence, w)
}

// shows is what comes of a message, the smallest unless one is given, with what is said
// about one field first.
func (p *passage) shows(sent *value.Message, about *schema.Field) *verdict.Proof {
	if sent == nil {
		sent = p.smallest()
	}
	if p.answers {
		return p.meetAnswer(p.meeting, sent, about)
	}
	return p.meetAbout(p.meeting, sent, about)
}

// tell adds an effect. What breaks is shown by a message that is about a field.
func (p *passage) tell(f *change.Change, v verdict.Verdict, sentence string, about *schema.Field,
	sent *value.Message) {
	if f == nil {
		return
	}
	var w *verdict.Proof
	if v == verdict.Breaking {
		w = p.shows(sent, about)
	}
	p.effect(f, v, sentence, w)
}

// alters is tell for what changes a meaning alone.
func (p *passage) alters(f *change.Change, sentence string) {
	p.tell(f, verdict.Altering, sentence, nil, nil)
}

// with is the smallest message that holds a value in a field; nil leaves it out.
func (p *passage) with(fw *schema.Field, v value.Value) *value.Message {
	m := p.smallest()
	if v == nil && fw.Type.Kind == schema.KindList {
		v = value.List{}
	}
	if v == nil {
		delete(m.Fields, fw.Number)
	} else {
		m.Fields[fw.Number] = v
	}
	if p.answers {
		return remote.Sendable(p.server, m)
	}
	return m
}

// smallest is the smallest message that can be sent this way.
func (p *passage) smallest() *value.Message {
	if p.answers {
		return answerOf(p.server)
	}
	return requestOf(p.client)
}

// sentAs is the field of the writer that travels where the reader looks for another one.
func (p *passage) sentAs(fr *schema.Field) *schema.Field {
	there := p.sought[fr]
	places := conversation.Places(p.client)
	if p.answers {
		places = conversation.AnswerPlaces(p.server)
	}
	for _, at := range places {
		if at.Place == there.Place && sameName(at, there) && at.Place != "path" && at.Place != "body" {
			return at.Field
		}
	}
	return nil
}

// onlySought judges a field that the server looks for and the client does not know.
func (p *passage) onlySought(fr *schema.Field) {
	if p.sought[fr].Place == "body" {
		return
	}
	f := p.changeOf(fr, change.FieldAdded, change.FieldGone)
	where := p.sought[fr].String()
	if p.sought[fr].Place == conversation.InRaw && p.answers {
		if p.server.Response != nil && conversation.AnswerRaw(p.server) == nil {
			p.tell(f, verdict.Breaking, fmt.Sprintf("%s answers with a message, and %s takes it for %q", p.writerName,
				p.readerName, fr.Name), fr, nil)
		}
		return
	}
	if other := p.sentAs(fr); other != nil {
		if seen := p.reader.lookText(spot{wt: other.Type, rt: fr.Type, wb: other.Bounds, rb: fr.Bounds},
			p.sent[other]); seen.any() != nil {
			p.tell(f, verdict.Breaking, fmt.Sprintf("%s sends %q in %s, where %s looks for %q", p.writerName, other.Name,
				where, p.readerName, fr.Name), fr, p.with(other, seen.any().value))
			return
		}
	} else if lacking(fr) {
		p.tell(f, verdict.Breaking, fmt.Sprintf("%s sends no %q in %s, and %s requires it", p.writerName, fr.Name, where,
			p.readerName), fr, nil)
		return
	}
	if !p.byNew {
		p.alters(f, fmt.Sprintf("%s no longer sends %q; %s finds it absent", p.writerName, fr.Name, p.readerName))
	}
}

// lacking tells whether a field that is not sent is refused: no element of a list is the
// empty list.
func lacking(fr *schema.Field) bool {
	if fr.Type.Kind != schema.KindList {
		return fr.Presence == schema.Required
	}
	return fr.Bounds.CountViolation(0) != "" || namedBounds(fr.Type).CountViolation(0) != ""
}

// onlySent judges a field that the server does not know: it is dropped.
func (p *passage) onlySent(fw *schema.Field) {
	if raw := p.sent[fw].Place == conversation.InRaw; raw && p.rawGone(fw) {
		return
	}
	if p.sent[fw].Place == "body" || !p.byNew {
		return
	}
	p.alters(p.changeOf(fw, change.FieldGone), fmt.Sprintf("%s still sends %q in %s; %s no longer looks at it",
		p.writerName, fw.Name, p.sent[fw].String(), p.readerName))
}

// rawGone judges a raw body that its reader does not know: it is read as another body, unless
// none is read.
func (p *passage) rawGone(fw *schema.Field) bool {
	f := p.changeOf(fw, change.FieldGone, change.FieldAdded)
	inBody, _ := conversation.SplitAnswer(p.client)
	switch {
	case p.answers && inBody == nil:
		return false
	case !p.answers && (p.server.Request == nil || conversation.Raw(p.server) != nil || !conversation.HasBody(p.server)):
		return false
	}
	p.tell(f, verdict.Breaking, fmt.Sprintf("%s sends %q as the body, and %s reads a message there", p.writerName, fw.Name,
		p.readerName), nil, nil)
	return true
}

// both judges a field that both know, and that at least one of them places.
func (p *passage) both(fw, fr *schema.Field) {
	a, b := p.sent[fw], p.sought[fr]
	switch {
	case a.Place == "body" && b.Place == "body":
	case a.Place == conversation.InRaw && b.Place == conversation.InRaw:
		p.media(fw, fr, a.Name, b.Name)
		p.values(fw, fr)
	case a.Place != b.Place || a.Place != "path" && !sameName(a, b):
		p.moved(fw, fr, a, b)
	default:
		p.presence(fw, fr)
		p.values(fw, fr)
	}
}

// media judges the media types of a raw body.
func (p *passage) media(fw, fr *schema.Field, sent, sought string) {
	beyond := conversation.TypeBeyond(sent, sought)
	f := p.changeOf(fw, change.FieldPlace)
	switch {
	case beyond == "" || f == nil:
	case p.answers:
		p.alters(f, fmt.Sprintf("%s may send %q as %s, and %s expects %s; nobody checks that there", p.writerName, fw.Name,
			beyond, p.readerName, sought))
	default:
		p.effect(f, verdict.Breaking, fmt.Sprintf("%s may send %q as %s, and %s takes %s", p.writerName, fw.Name, beyond,
			p.readerName, sought), p.meetAs(p.meeting, beyond))
	}
}

// sameName compares the names of parameters; those of headers have no case (RFC 9110,
// section 5.1).
func sameName(a, b conversation.Placed) bool {
	return a.Name == b.Name || a.Place == "header" && strings.EqualFold(a.Name, b.Name)
}

// moved judges a field that the server looks for where the client does not send it.
func (p *passage) moved(fw, fr *schema.Field, a, b conversation.Placed) {
	f := p.placeChange(p.pair, fw, fr, p.whole())
	if f == nil || f.Kind == change.CallHTTP && !p.answers && !p.arrives(p.meeting) {
		return // which is said already
	}
	sentence := fmt.Sprintf("%s sends %q in %s, and %s looks for it in %s", p.writerName, fw.Name, a, p.readerName, b)
	if p.counterpart(p.served) == nil {
		p.effect(f, verdict.Breaking, sentence, nil)
		return
	}
	// What the server reads instead may be the same by chance: any value that shows it will do.
	for _, v := range value.Distinct(fw.Type, fw.Bounds, 5) {
		if w := p.shows(p.with(fw, v), fr); w != nil {
			p.effect(f, verdict.Breaking, sentence, w)
			return
		}
	}
}

// presence judges whether a field may be left out, and what that means.
func (p *passage) presence(fw, fr *schema.Field) {
	none := fw.Type.Kind == schema.KindList
	if low, _, _ := countLimits(fw.Type, fw.Bounds); none && low > 0 {
		return // there is always one
	}
	if none || fw.Presence == schema.Required || p.answers && fw.Presence == schema.Defaulted {
		if !none || fr.Type.Kind == schema.KindList || fr.Presence != schema.Required {
			return
		}
	}
	f := p.changeOf(fw, change.FieldPresence, change.FieldType, change.FieldDefault)
	reads := func(how string) {
		p.alters(f, fmt.Sprintf("where %s leaves out %q, %s", p.writerName, fw.Name, how))
	}
	switch {
	case lacking(fr):
		p.tell(f, verdict.Breaking, fmt.Sprintf("%s may leave out %q, and %s requires it", p.writerName, fw.Name,
			p.readerName), fr, p.with(fw, nil))
	case none || fr.Type.Kind == schema.KindList:
	case fw.Presence == schema.Optional && fr.Presence == schema.Defaulted:
		reads(fmt.Sprintf("%s reads %s", p.readerName, schema.LiteralText(fr.Default)))
	case fw.Presence == schema.Defaulted && fr.Presence == schema.Optional:
		reads(fmt.Sprintf("meaning %s, %s finds it absent", schema.LiteralText(fw.Default), p.readerName))
	case fw.Presence == schema.Defaulted && schema.LiteralText(fw.Default) != schema.LiteralText(fr.Default):
		f = firstOf(p.changeOf(fw, change.FieldDefault, change.FieldType), f)
		reads(fmt.Sprintf("meaning %s, %s reads %s", schema.LiteralText(fw.Default), p.readerName,
			schema.LiteralText(fr.Default)))
	}
}

// values judges the values of a field that is where it is looked for.
func (p *passage) values(fw, fr *schema.Field) {
	s := spot{wt: fw.Type, rt: fr.Type, wb: fw.Bounds, rb: fr.Bounds}
	old, new := sidesOf(p.byNew, fw.Type, fr.Type)
	blamed := blame{bounds: p.changeOf(fw, change.FieldBounds), typ: p.changeOf(fw, change.FieldType)}
	if p.PairedTypes(old, new) {
		blamed.typ = firstOf(p.TypeChange(fw.Type.Named, change.TypeChanged), blamed.typ)
	}
	one := s // of a list, one element
	if s.wt.Kind == schema.KindList {
		one.wt, one.wb = s.wt.Elem, nil
	}
	if s.rt.Kind == schema.KindList {
		one.rt, one.rb = s.rt.Elem, nil
	}
	p.amounts(fw, fr, s, blamed)
	if one.wt.Kind == schema.KindEnum && one.rt.Kind == schema.KindEnum {
		p.members(fw, fr, one.wt.Enum, one.rt.Enum, blamed.typ)
		return
	}
	if p.sent[fw].Place == "path" {
		one.wb = notEmpty(one.wb, one.wt)
	}
	seen := p.reader.lookText(one, p.sent[fw])
	sentence := fmt.Sprintf("%s sends %q as %s, and %s expects %s", p.writerName, fw.Name, s.wt.Short(),
		p.readerName, s.rt.Short())
	of := firstOf(blamed.typ, p.TypeChange(one.rt.Named, change.TypeChanged),
		p.TypeChange(one.wt.Named, change.TypeChanged), blamed.bounds)
	refuses := func(f *change.Change, e *example, sentence string) {
		if e == nil {
			return
		}
		v := e.value
		if s.wt.Kind == schema.KindList {
			v = value.Holding(s.wt, s.wb, v, false)
		}
		p.tell(f, verdict.Breaking, sentence, fr, p.with(fw, v))
	}
	refuses(of, firstExample(seen.refused, seen.otherwise), sentence)
	bounds := fmt.Sprintf("%s may send values of %q that %s refuses", p.writerName, fw.Name, p.readerName)
	if p.answers { // nobody checks them there
		unchecked := fmt.Sprintf("%s may send values of %q that %s's own bounds refuse; nobody checks them there",
			p.writerName, fw.Name, p.readerName)
		if seen.own != nil {
			p.alters(p.reader.ofOwn(one, blamed), unchecked)
		}
		if seen.named != nil {
			p.alters(p.reader.ofNamed(one, blamed), unchecked)
		}
		seen = &sight{refused: seen.refused, otherwise: seen.otherwise, undecided: seen.undecided}
	}
	refuses(p.reader.ofOwn(one, blamed), seen.own, bounds)
	refuses(p.reader.ofNamed(one, blamed), seen.named, bounds)
	if seen.undecided && seen.any() == nil {
		f := p.reader.ofOwn(one, blamed)
		if f != nil {
			p.judged[f].Undecided = true
			p.alters(f, fmt.Sprintf("%s, at values of %q that %s may send and %s may refuse", notDecided, fw.Name,
				p.writerName, p.readerName))
		}
	}
}

// notEmpty are bounds that allow no empty text: in a path nobody sends one.
func notEmpty(b *schema.Bounds, t *schema.Type) *schema.Bounds {
	if t.Kind != schema.KindText {
		return b
	}
	some := schema.Bounds{}
	if b != nil {
		some = *b
	}
	limits := schema.Limits{Low: 1, High: schema.Unlimited}
	if some.Length != nil {
		limits = schema.Limits{Low: max(1, some.Length.Low), High: some.Length.High}
	}
	some.Length = &limits
	return &some
}

func (p *passage) fieldChange(f *schema.Field, kind change.Kind) *change.Change {
	for _, x := range p.OfField[f] {
		if x.Kind == kind {
			return x
		}
	}
	return nil
}

// amounts judges how many elements there may be: one value is a list of one, and a
// scalar may not come twice.
func (p *passage) amounts(fw, fr *schema.Field, s spot, blamed blame) {
	of := firstOf(blamed.typ, blamed.bounds, p.TypeChange(s.rt.Named, change.TypeChanged),
		p.TypeChange(s.rt.Named, change.TypeBounds))
	refuse := func(f *change.Change, n int, v value.Value) {
		noun := "values"
		if n == 1 {
			noun = "value"
		}
		p.tell(f, verdict.Breaking, fmt.Sprintf("%s may send %d %s of %q, and %s refuses that", p.writerName, n, noun,
			fw.Name, p.readerName), fr, p.with(fw, v))
	}
	switch lists := [2]bool{s.wt.Kind == schema.KindList, s.rt.Kind == schema.KindList}; {
	case lists[0] && lists[1]:
		own, named := p.reader.counts(s)
		for _, refused := range []struct {
			e *example
			f *change.Change
		}{{own, p.reader.ofOwn(s, blamed)}, {named, p.reader.ofNamed(s, blamed)}} {
			switch e := refused.e; {
			case e == nil || refused.f == nil:
			case e.large == "":
				refuse(refused.f, len(e.value.(value.List)), e.value)
			default:
				p.effect(refused.f, verdict.Breaking,
					fmt.Sprintf("%s may send %s in %q, and %s refuses that", p.writerName, e.large, fw.Name, p.readerName), nil)
			}
		}
	case lists[0]:
		if low, high, unique := countLimits(s.wt, s.wb); high > 1 && low <= high {
			refuse(of, 2, p.reader.sized(s, max(low, 2), unique, false).value)
		}
	case lists[1]:
		for _, b := range s.readers() {
			if b.CountViolation(1) != "" {
				refuse(of, 1, value.MinimalWithin(fw.Type, fw.Bounds))
			} else if fw.Presence == schema.Optional && b.CountViolation(0) != "" {
				refuse(of, 0, nil)
			}
		}
	}
}

// members judges the members of an enum, whose names are the texts that travel.
func (p *passage) members(fw, fr *schema.Field, we, re *schema.Enum, owner *change.Change) {
	old, new := sidesOf(p.byNew, we, re)
	if p.Enums[old] == new {
		owner = nil
	}
	paired := p.reader.memberPairs(we, re)
	for _, mw := range we.Members {
		if p.reader.memberByJSONName(re, mw.JSONName()) != nil {
			continue // the same text
		}
		f := owner
		for _, kind := range []change.Kind{change.MemberJSON, change.MemberRenamed, change.MemberGone, change.MemberAdded} {
			for _, x := range p.OfMember[mw] {
				if f == nil && x.Kind == kind {
					f = x
				}
			}
		}
		switch {
		case p.answers && paired[mw] != nil:
			p.tell(f, verdict.Breaking, fmt.Sprintf("%s sends %q in %q, which %s does not list", p.writerName, mw.Name, fw.Name,
				p.readerName), fr, p.with(fw, value.Enum{Number: mw.Number}))
			continue
		case p.answers && p.byNew && f != nil:
			p.alters(f, fmt.Sprintf("%s may send %q in %q; %s keeps it as unlisted", p.writerName, mw.Name, fw.Name,
				p.readerName))
			continue
		case p.answers:
			continue
		}
		p.tell(f, verdict.Breaking, fmt.Sprintf("%s may send %q as %s, and %s answers 400: it does not list it",
			p.writerName, mw.Name, fw.Name, p.readerName), fr, p.with(fw, asElement(fw.Type, value.Enum{Number: mw.Number})))
	}
}

// asElement puts a value into a list where the type is one.
func asElement(t *schema.Type, v value.Value) value.Value {
	if t.Kind == schema.KindList {
		return value.List{v}
	}
	return v
}

func firstExample(examples ...*example) *example {
	for _, e := range examples {
		if e != nil {
			return e
		}
	}
	return nil
}

// any is what shows that something is refused or read otherwise, or nil.
func (s *sight) any() *example { return firstExample(s.refused, s.otherwise, s.own, s.named) }

// lookText is look for texts outside of bodies, as far as they can travel there.
func (r *textReader) lookText(s spot, at conversation.Placed) *sight {
	inPath := at.Place == conversation.InPath
	if s.wt.Kind == s.rt.Kind && (s.wb.String() == s.rb.String() || inPath &&
		s.wb.String() == notEmpty(s.rb, s.rt).String()) && namedBounds(s.wt).String() == namedBounds(s.rt).String() &&
		s.wt.Kind != schema.KindEnum {
		return &sight{}
	}
	key := placedSpot{s, inPath, at.Verbatim(), at.Is("ETag")}
	if seen := r.sights[key]; seen != nil {
		return seen
	}
	seen := &sight{}
	r.sights[key] = seen
	candidates, undecided := r.candidates(s, 0)
	if s.wt.Kind == schema.KindText && s.rt.Kind != schema.KindText {
		more, open := r.placedTexts(s)
		candidates, undecided = append(candidates, more...), open
	}
	seen.undecided = undecided
	keep := func(at **example, e example) {
		if *at == nil {
			*at = &e
		}
	}
	writer := alone(s.wt, s.wb)
	for _, e := range candidates {
		if e.large != "" {
			keep(&seen.own, e)
			continue
		}
		if len(value.Validate(only(writer, e.value))) > 0 {
			continue
		}
		sent := plainOf(e.value, s.wt)
		if !at.Sendable(sent) {
			continue
		}
		found, ok := readText(sent, s.rt)
		if !ok {
			keep(&seen.refused, e)
			continue
		}
		if plainOf(found, s.rt) != sent && r.differs(hold(e.value, s.wt), hold(found, s.rt)).verdict != verdict.Compatible {
			keep(&seen.otherwise, e)
		}
		switch {
		case boundsRefuse(s.rb, found):
			keep(&seen.own, e)
		case boundsRefuse(namedBounds(s.rt), found):
			keep(&seen.named, e)
		case r.strict() && len(value.Validate(only(alone(s.rt, nil), found))) > 0:
			keep(&seen.refused, e) // a member that is not listed
		}
	}
	return seen
}

// placedTexts are texts that are read as no value of a kind, by automata.
func (r *textReader) placedTexts(s spot) (list []example, undecided bool) {
	pattern := map[bool]string{true: "^(true|false)$"}[s.rt.Kind == schema.KindBool]
	if s.rt.Kind.IsInteger() {
		pattern = "^(0|-?[1-9][0-9]{0,18})$"
		if s.rt.Kind.IsUnsigned() {
			pattern = "^(0|[1-9][0-9]{0,19})$"
		}
	}
	if pattern == "" {
		pattern = canonical[s.rt.Kind]
		undecided = slices.Contains([]schema.Kind{schema.KindDecimal, schema.KindInstant, schema.KindDuration,
			schema.KindFloat32, schema.KindFloat64}, s.rt.Kind)
	}
	if pattern == "" {
		return nil, undecided
	}
	return textsBeyond(s, pattern), undecided
}

// textsBeyond is a text that the writer's bounds allow and that a pattern does not match.
func textsBeyond(s spot, pattern string) (list []example) {
	found, _ := textsOf(spot{wt: s.wt, rt: &schema.Type{Kind: schema.KindText}, wb: s.wb,
		rb: &schema.Bounds{Pattern: pattern}})
	return found
}

// plainOf is the text of a value outside of a body: that of JSON without its quotes.
func plainOf(v value.Value, t *schema.Type) string {
	if s, isText := v.(string); isText && t.Kind == schema.KindText {
		return s
	}
	if e, isEnum := v.(value.Enum); isEnum && t.Enum.ByNumber(e.Number) != nil {
		return t.Enum.ByNumber(e.Number).JSONName()
	}
	return strings.Trim(text(v, t), `"`)
}

// readText reads a text outside of a body as a value of a type.
func readText(sent string, t *schema.Type) (value.Value, bool) {
	shape := string(value.AppendString(nil, sent))
	switch k := t.Kind; {
	case k.IsInteger() || k == schema.KindBool:
		shape = sent
	case (k == schema.KindFloat32 || k == schema.KindFloat64 || k == schema.KindEnum) && likeNumber(sent):
		shape = sent
	}
	v, err := value.DecodeJSONValue(t, []byte(shape), 0)
	return v, err == nil
}

// likeNumber tells texts that are read as numbers where a name could be, too.
func likeNumber(text string) bool {
	digits := strings.TrimPrefix(text, "-")
	return digits != "" && digits[0] >= '0' && digits[0] <= '9'
}
