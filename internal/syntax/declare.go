package syntax

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"faithfulcourier/internal/source"
)

// markSet says which marks may stand somewhere.
type markSet uint8

const (
	deprecatedMark markSet = 1 << iota
	jsonMark
	secretMark
	storedMark
	inMark
)

const (
	declarationMarks = deprecatedMark | storedMark
	fieldMarks       = deprecatedMark | jsonMark | secretMark | inMark
)

type markWord struct {
	word  string
	set   markSet
	where string // it may stand
}

var markWords = []markWord{
	{"deprecated", deprecatedMark, ""},
	{"json", jsonMark, "after a field, a member or an alternative"},
	{"secret", secretMark, "after a field or a type"},
	{"stored", storedMark, "before the { of a message"},
	{"in", inMark, "after a field"},
}

// marks reads what marks stand here. One that may not stand here is reported
// and read all the same.
func (p *parser) marks(allowed markSet, into **Marks) bool {
	for {
		i := slices.IndexFunc(markWords, func(m markWord) bool { return p.at(m.word) })
		if i < 0 {
			return true
		}
		at := p.cur
		mark := markWords[i]
		if *into == nil {
			*into = &Marks{}
		}
		p.advance()
		slot, ok := p.mark(mark.set, *into, at)
		if !ok {
			return false
		}
		span := source.Span{Start: at.start, End: p.lastEnd}
		switch {
		case allowed&mark.set == 0:
			p.fix(span, "misplaced-mark", fmt.Sprintf("%q belongs %s, not here", mark.word, mark.where), "remove it here",
				p.remove(span))
		case slot.twice:
			p.fix(span, "mark-twice", fmt.Sprintf("%q is here twice", mark.word), "remove one of the two", p.remove(span))
		}
	}
}

// remove is the edit that takes a part of a line away, with a blank.
func (p *parser) remove(span source.Span) source.Edit {
	if span.Start > 0 && p.file.Text[span.Start-1] == ' ' {
		span.Start--
	}
	return p.edit(span, "")
}

type markSlot struct{ twice bool }

// mark reads what follows a mark's word.
func (p *parser) mark(which markSet, into *Marks, at token) (markSlot, bool) {
	set := func(name *Name, text string) markSlot {
		twice := name.Span.End != 0
		if !twice {
			*name = Name{Text: text, Span: source.Span{Start: at.start, End: p.lastEnd}}
		}
		return markSlot{twice}
	}
	switch which {
	case secretMark:
		return set(&into.Secret, "secret"), true
	case storedMark:
		return set(&into.Stored, "stored"), true
	case inMark:
		return p.inMark(into, at)
	}
	if p.cur.kind != text {
		if which == deprecatedMark {
			p.expected("the reason, in quotes", "say what to use instead: deprecated \"use fare instead\"")
		} else {
			p.expected("the name in JSON, in quotes", "write, for example: json \"seatsLeft\"")
		}
		return markSlot{}, false
	}
	l, ok := p.literal()
	if !ok {
		return markSlot{}, false
	}
	if which == jsonMark {
		return set(&into.JSON, l.Text), true
	}
	slot := set(&into.Deprecated, l.Text)
	switch {
	case slot.twice:
	case l.Text == "":
		p.report(into.Deprecated.Span, "no-reason", "the reason of a deprecation is empty", "say what to use instead")
	case strings.ContainsFunc(l.Text, unicode.IsControl):
		p.report(into.Deprecated.Span, "long-reason", "the reason of a deprecation is one line of text",
			"write it without line breaks and tabs; what is longer goes into the documentation")
	}
	return slot, true
}

var places = []string{"query", "header", "cookie", "body"}

func (p *parser) inMark(into *Marks, at token) (markSlot, bool) {
	place := Name{Text: p.textOf(p.cur), Span: p.cur.span()}
	if !slices.Contains(places, place.Text) {
		fix := "write in query, in header, in cookie or in body, or remove it"
		switch near := source.Nearest(place.Text, places); {
		case p.at("path"):
			fix = "name the field in the path of the call instead: http GET \"/sailings/{code}\""
		case near != "" && p.cur.kind == lowerName:
			fix = source.DidYouMean(near)
		}
		p.expected("query, header, cookie or body", fix)
		return markSlot{}, false
	}
	p.advance()
	in := &In{Place: place}
	if p.cur.kind == text {
		l, ok := p.literal()
		if !ok {
			return markSlot{}, false
		}
		in.Name = Name{Text: l.Text, Span: l.Span}
		if l.Text == "" {
			p.report(l.Span, "empty-name", "the name is empty", "write a name, or none: the field's own name is taken then")
		}
	} else if place.Text == "body" {
		p.expected("a media type", `write, for example: in body "image/*"; a field without a mark is in the body anyway`)
		return markSlot{}, false
	}
	in.Span = source.Span{Start: at.start, End: p.lastEnd}
	if into.In != nil {
		return markSlot{true}, true
	}
	into.In = in
	return markSlot{}, true
}

// usualSlips are words of other languages, and what to write instead.
var usualSlips = map[string]string{
	"optional": "write ? after the type", "nullable": "write ? after the type",
	"required": "leave it out: a field without ? is required",
	"repeated": "a list is written [T]", "min": "bounds come after where: where >= 1",
	"max":     "bounds come after where: where <= 12",
	"default": "a default is written: = 5", "enum": "declare the enum on its own, and use its name",
}

// strayWord says what most likely was meant by a token that can't stand here.
func (p *parser) strayWord(allowed markSet) string {
	word := p.textOf(p.cur)
	switch p.cur.kind {
	case number:
		return "write #" + word
	case bracketOpen:
		return "a list is written [T]"
	case lowerName, pascalName, oddName:
	default:
		return ""
	}
	if slip, ok := usualSlips[word]; ok {
		return slip
	}
	var could []string
	for _, m := range markWords {
		if allowed&m.set != 0 {
			could = append(could, m.word)
		}
	}
	if allowed&inMark != 0 {
		could = append(could, "where")
	}
	if near := source.Nearest(word, could); near != "" {
		return source.DidYouMean(near)
	}
	return ""
}

func (p *parser) parseDecl(doc Doc) {
	word := p.cur
	if p.cur.kind == endOfFile {
		p.report(doc.Span, "stray-documentation", "this documentation is followed by nothing that it could document",
			"remove it, or make it a // comment")
		return
	}
	read := p.declaration(p.textOf(word))
	switch {
	case read != nil:
		p.advance()
		read(doc)
	case word.kind == braceClose:
		p.fix(word.span(), "syntax", "this } closes nothing", "remove it", p.edit(word.span(), ""))
		p.advance()
	default:
		fix := "a declaration begins with one of: " + strings.Join(declWords, ", ")
		if word.kind == lowerName || word.kind == oddName || word.kind == pascalName {
			if near := source.Nearest(p.textOf(word), declWords); near != "" {
				fix = source.DidYouMean(near)
			} else if near, ok := usualDeclarations[p.textOf(word)]; ok {
				fix = source.DidYouMean(near)
			}
		}
		p.expected("a declaration", fix)
		p.advance()
		p.skipToDecl()
	}
}

// declaration returns what reads a declaration, by its word.
func (p *parser) declaration(word string) func(Doc) {
	switch word {
	case "const":
		return p.parseConst
	case "type":
		return p.parseTypeDecl
	case "enum":
		return p.parseEnum
	case "union":
		return p.parseUnion
	case "message":
		return p.parseMessage
	case "error":
		return p.parseError
	case "example":
		return p.parseExample
	case "credential":
		return p.parseCredential
	case "service":
		return p.parseService
	}
	return nil
}

// usualDeclarations maps what people write by habit to our words.
var usualDeclarations = map[string]string{
	"struct": "message", "class": "message", "record": "message", "object": "message", "interface": "service",
	"exception": "error",
	"import":    "use", "include": "use", "package": "module", "namespace": "module", "typedef": "type", "alias": "type",
	"variant": "union", "auth": "credential",
}

// finish ends a declaration that has no body: what follows begins another.
func (p *parser) finish(allowed markSet) bool {
	if p.cur.firstHere || p.cur.kind == endOfFile || p.declaration(p.textOf(p.cur)) != nil || p.cur.kind == braceClose {
		return true
	}
	p.expected("the next declaration", p.strayWord(allowed))
	p.skipToDecl()
	return false
}

func (p *parser) parseConst(doc Doc) {
	c := &Const{Head: Head{Doc: doc}}
	var ok bool
	if c.Name, ok = p.name(upperName, "the name of a constant"); ok {
		c.Type, ok = p.parseType()
	}
	if ok {
		ok = p.expect(equals, `"=" and the constant's value`)
	}
	if ok {
		c.Value, ok = p.literal()
	}
	if c.Name.Text != "" {
		p.out.Decls = append(p.out.Decls, c) // so that its uses are not mistakes, too
	}
	if !ok {
		c.Value = Literal{Form: BrokenLiteral}
	}
	if !ok || !p.marks(deprecatedMark, &c.Marks) {
		p.skipToDecl()
		return
	}
	p.finish(deprecatedMark)
}

func (p *parser) parseTypeDecl(doc Doc) {
	t := &TypeDecl{Head: Head{Doc: doc}}
	var ok bool
	if t.Name, ok = p.name(pascalName, "the name of a type"); ok && p.cur.kind == braceOpen {
		p.report(t.Name.Span, "syntax", "a type is another name for one type, and has no fields",
			"declare what has fields as: message "+t.Name.Text+" { … }")
		ok = false
	} else if ok {
		ok = p.expect(equals, `"=" and the type that it is over`)
	}
	if ok {
		t.Base, ok = p.parseType()
	}
	if ok && p.cur.kind == question {
		p.fix(p.cur.span(), "absent-type", "a type is never absent; a field is",
			"remove the ?, and write it after the fields", p.edit(p.cur.span(), ""))
		p.advance()
	}
	if ok && p.at("where") {
		t.Where, ok = p.where()
	}
	if t.Name.Text != "" {
		p.out.Decls = append(p.out.Decls, t) // so that its uses are not mistakes, too
	}
	if !ok || !p.marks(deprecatedMark|secretMark, &t.Marks) {
		p.skipToDecl()
		return
	}
	p.finish(deprecatedMark | secretMark | inMark)
}

func (p *parser) parseEnum(doc Doc) {
	name, ok := p.name(pascalName, "the name of an enum")
	if !ok {
		p.skipToDecl()
		return
	}
	e := &Enum{Head: Head{Doc: doc, Name: name}}
	p.marks(deprecatedMark, &e.Marks)
	p.out.Decls = append(p.out.Decls, e)
	p.body(name, "#NUMBER name, a member", p.fieldBegins, func(doc Doc) bool {
		if p.cur.kind != hash {
			r, ok := p.parseRetired()
			e.Retired = append(e.Retired, r)
			return ok
		}
		n, ok := p.numberAfterHash()
		if !ok {
			return false
		}
		member, ok := p.name(lowerName, "the name of a member")
		if !ok {
			return false
		}
		m := Member{Doc: doc, Number: n, Name: member}
		ok = p.marks(deprecatedMark|jsonMark, &m.Marks)
		e.Members = append(e.Members, m)
		return ok && p.ends("the next member", deprecatedMark|jsonMark)
	})
}

func (p *parser) parseUnion(doc Doc) {
	name, ok := p.name(pascalName, "the name of a union")
	if !ok {
		p.skipToDecl()
		return
	}
	u := &Union{Head: Head{Doc: doc, Name: name}}
	p.marks(deprecatedMark, &u.Marks)
	p.out.Decls = append(p.out.Decls, u)
	p.body(name, "#NUMBER name TYPE, an alternative", p.fieldBegins, func(doc Doc) bool {
		if p.cur.kind != hash {
			r, ok := p.parseRetired()
			u.Retired = append(u.Retired, r)
			return ok
		}
		a := Alternative{Doc: doc}
		ok := p.parseAlternative(&a)
		if a.Name.Text != "" {
			u.Alternatives = append(u.Alternatives, a)
		}
		return ok && p.ends("the next alternative", deprecatedMark|jsonMark)
	})
}

func (p *parser) parseAlternative(a *Alternative) (ok bool) {
	if a.Number, ok = p.numberAfterHash(); !ok {
		return false
	}
	if a.Name, ok = p.name(lowerName, "the name of an alternative"); !ok {
		return false
	}
	if a.Type, ok = p.itemType(a.Name, "alternative"); !ok {
		return false
	}
	if p.cur.kind == question {
		p.fix(p.cur.span(), "absent-element", "an alternative is never absent: the union is one of them", "remove the ?",
			p.edit(p.cur.span(), ""))
		p.advance()
	}
	return p.marks(deprecatedMark|jsonMark, &a.Marks)
}

// itemType reads the type after the name of a field or alternative.
func (p *parser) itemType(name Name, what string) (*Type, bool) {
	if p.cur.kind == colon {
		p.fix(p.cur.span(), "syntax", "there is no colon between a name and its type", "remove it", p.edit(p.cur.span(), ""))
		p.advance()
	}
	if p.cur.kind == hash || p.cur.kind == braceClose {
		p.report(name.Span, "no-type", fmt.Sprintf("the %s %q has no type", what, name.Text),
			"write its type after the name, such as: "+name.Text+" text")
		return nil, false
	}
	return p.parseType()
}

func (p *parser) parseMessage(doc Doc) {
	name, ok := p.name(pascalName, "the name of a message")
	if !ok {
		p.skipToDecl()
		return
	}
	m := p.messages.next()
	m.Head = Head{Doc: doc, Name: name}
	p.marks(declarationMarks, &m.Marks)
	p.messageBody(m)
}

func (p *parser) parseError(doc Doc) {
	name, ok := p.name(pascalName, "the name of an error")
	if !ok {
		p.skipToDecl()
		return
	}
	m := &Message{Head: Head{Doc: doc, Name: name}, IsError: true}
	if p.cur.kind == number {
		m.Status = Name{Text: p.textOf(p.cur), Span: p.cur.span()}
		p.advance()
	} else {
		p.expected("the error's HTTP status", fmt.Sprintf("write, for example: error %s 409 { … }", name.Text))
	}
	p.marks(deprecatedMark, &m.Marks)
	p.messageBody(m)
}

func (p *parser) messageBody(m *Message) {
	p.out.Decls = append(p.out.Decls, m)
	p.body(m.Name, "#NUMBER name TYPE, a field", p.fieldBegins, func(doc Doc) bool {
		if p.cur.kind != hash {
			r, ok := p.parseRetired()
			m.Retired = append(m.Retired, r)
			return ok
		}
		f := Field{Doc: doc}
		ok := p.parseField(&f)
		if f.Name.Text != "" {
			p.fields = append(p.fields, f)
		}
		return ok && p.ends("the next field", fieldMarks)
	})
	m.Fields = p.keep(p.fields)
	p.fields = p.fields[:0]
}

func (p *parser) parseField(f *Field) bool {
	var ok bool
	if f.Number, ok = p.numberAfterHash(); !ok {
		return false
	}
	if f.Name, ok = p.name(lowerName, "the name of a field"); !ok {
		return false
	}
	if f.Type, ok = p.itemType(f.Name, "field"); !ok {
		return false
	}
	if p.cur.kind == question {
		f.Optional = true
		p.advance()
	}
	if p.cur.kind == equals && !p.fieldDefault(f) {
		return false
	}
	if p.at("where") {
		if f.Where, ok = p.where(); !ok {
			return false
		}
	}
	if p.cur.kind == equals {
		p.report(p.cur.span(), "syntax", "a default comes before \"where\"", "move it after the type")
		if !p.fieldDefault(f) {
			return false
		}
	}
	marksAt := p.cur.start
	if !p.marks(fieldMarks, &f.Marks) {
		return false
	}
	if p.at("where") {
		if f.Where, ok = p.where(); !ok {
			return false
		}
		span := f.Where.Span
		p.fix(span, "syntax", "\"where\" comes before the marks", "move it after the type or its default",
			p.edit(source.Span{Start: marksAt, End: marksAt}, p.file.Text[span.Start:span.End]+" "), p.remove(span))
	}
	return true
}

func (p *parser) fieldDefault(f *Field) bool {
	if f.Optional {
		p.report(p.cur.span(), "optional-with-default",
			fmt.Sprintf("%q is optional and has a default: a field with a default may already be left out", f.Name.Text),
			"remove the ? or the default")
		f.Optional = false
	}
	p.advance()
	l, ok := p.literal()
	if ok {
		f.Default = &l
	}
	return ok
}

func (p *parser) parseType() (*Type, bool) {
	p.nesting++
	defer func() { p.nesting-- }()
	start := p.cur.start
	if p.nesting > MaxNesting {
		p.report(p.cur.span(), "too-deep", fmt.Sprintf("types nest more than %d deep here", MaxNesting),
			"give the inner part a message of its own")
		p.skipBrackets(p.nesting - 1)
		return nil, false
	}
	if p.declBegins(true) { // it was forgotten: this is the next declaration
		p.expected("a type", "a type is a scalar such as text or int32, a declared name, [T] or {text: T}")
		return nil, false
	}
	t := p.types.next()
	var ok bool
	switch p.cur.kind {
	case bracketOpen:
		p.advance()
		t.Form = ListType
		if t.Elem, ok = p.parseType(); !ok || !p.noAbsent("lists") ||
			!p.expect(bracketClose, `"]" after the list's element type`) {
			return nil, false
		}
	case braceOpen:
		p.advance()
		t.Form = MapType
		if t.Key, ok = p.parseType(); !ok || !p.expect(colon, `":" between a map's key type and value type`) {
			return nil, false
		}
		if t.Elem, ok = p.parseType(); !ok || !p.noAbsent("maps") || !p.expect(braceClose, `"}" after the map's value type`) {
			return nil, false
		}
	case lowerName, pascalName, upperName, oddName:
		what := "the name of a type"
		if p.at("patch") && p.peek.kind != dot { // before a dot it is an alias
			p.advance()
			t.Form, what = PatchType, "the name of a message after \"patch\""
			if p.cur.kind != lowerName && p.cur.kind != pascalName && p.cur.kind != upperName {
				p.expected(what, "write, for example: patch Booking")
				return nil, false
			}
		}
		n := Name{Text: p.textOf(p.cur), Span: p.cur.span()}
		p.advance()
		if p.cur.kind == dot {
			p.advance()
			t.Alias = n
			if n, ok = p.name(pascalName, what); !ok {
				return nil, false
			}
		}
		t.Name = n
	default:
		p.expected("a type", "a type is a scalar such as text or int32, a declared name, [T] or {text: T}")
		return nil, false
	}
	t.Span = source.Span{Start: start, End: p.lastEnd}
	return t, true
}

// skipBrackets goes after what closes so many brackets.
func (p *parser) skipBrackets(open int) {
	for open > 0 && p.cur.kind != endOfFile && !p.declBegins(true) {
		switch p.cur.kind {
		case braceOpen, bracketOpen:
			open++
		case braceClose, bracketClose:
			open--
		}
		p.advance()
	}
}

func (p *parser) noAbsent(what string) bool {
	if p.cur.kind != question {
		return true
	}
	p.fix(p.cur.span(), "absent-element", what+" hold no absent elements",
		"remove the ?; to leave out the whole field, write ? after it", p.edit(p.cur.span(), ""))
	p.advance()
	return true
}

// where reads the bounds of a type or field.
func (p *parser) where() (*Where, bool) {
	w := &Where{Span: p.cur.span()}
	p.advance()
	for {
		b, ok := p.bound()
		if !ok {
			return w, false
		}
		w.Bounds = append(w.Bounds, b)
		w.Span.End = p.lastEnd
		if !p.accept(comma) {
			return w, true
		}
	}
}

func (p *parser) bound() (Bound, bool) {
	b := Bound{Span: p.cur.span()}
	var ok bool
	isWord := p.cur.kind == lowerName && p.peek.kind != dot
	switch {
	case isWord && p.at("unique"):
		b.Form = UniqueBound
		p.advance()
		return b, true
	case isWord && p.at("pattern"):
		b.Form = PatternBound
		p.advance()
		if p.cur.kind != text {
			p.expected("the pattern, in quotes", `write, for example: pattern "^[A-Z]{3}$"`)
			return b, false
		}
		l, ok := p.literal()
		b.Low = &l
		b.Span.End = p.lastEnd
		return b, ok
	case isWord && p.at("length"):
		b.Form = LengthBound
		p.advance()
		ok = p.limits(&b)
	case isWord && p.at("count"):
		b.Form = CountBound
		p.advance()
		ok = p.limits(&b)
	case isWord:
		fix := "a bound is 1..12, >= 1, <= 12, length 1..80, pattern \"…\", count 1..8 or unique"
		if near := source.Nearest(p.textOf(p.cur), []string{"unique", "pattern", "length", "count"}); near != "" {
			fix = source.DidYouMean(near)
		} else if usual, known := usualBounds[p.textOf(p.cur)]; known {
			fix = "write " + usual
		}
		p.expected("a bound", fix)
		return b, false
	default:
		ok = p.limits(&b)
	}
	b.Span.End = p.lastEnd
	return b, ok
}

var usualBounds = map[string]string{
	"min": ">= and the smallest value", "max": "<= and the largest value",
	"size": "count 1..8, or length 1..80 of text and bytes", "len": "length 1..80",
	"regex": "pattern \"^…$\"", "matches": "pattern \"^…$\"", "distinct": "unique",
	"range": "the limits alone: where 1..12", "between": "the limits: where 1..12", "items": "count 1..8",
}

// limits reads A..B, >= A or <= B.
func (p *parser) limits(b *Bound) bool {
	limit := func() (*Literal, bool) {
		if p.cur.kind == lowerName && p.peek.kind != dot {
			p.expected("a limit", "a limit is a number, a text in quotes or a constant")
			return nil, false
		}
		l, ok := p.literal()
		return &l, ok
	}
	var ok bool
	switch p.cur.kind {
	case atLeast:
		p.advance()
		b.Low, ok = limit()
		return ok
	case atMost:
		p.advance()
		b.High, ok = limit()
		return ok
	case unknown:
		if word := p.textOf(p.cur); word == "<" || word == ">" {
			p.expected("a bound", "bounds include their ends: write "+word+"=")
			return false
		}
	}
	if b.Low, ok = limit(); !ok {
		return false
	}
	if p.cur.kind != dotDot {
		written := p.file.Text[b.Low.Span.Start:b.Low.Span.End]
		fix := fmt.Sprintf("write %s..%s for exactly that, or >= %s", written, written, written)
		if p.cur.kind == number {
			fix = fmt.Sprintf("write %s..%s", written, strings.TrimPrefix(p.textOf(p.cur), "-"))
		}
		p.expected(`".." and the upper limit`, fix)
		return false
	}
	p.advance()
	b.High, ok = limit()
	return ok
}
