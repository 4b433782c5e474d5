package syntax

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"faithfulcourier/internal/source"
)

// MaxNesting is how deeply types may nest.
const MaxNesting = 100

// Parse reads one file. Every mistake becomes one finding, and the tree holds
// whatever could be read besides.
func Parse(file *source.File, findings *source.Findings) *File {
	p := &parser{file: file, findings: findings, out: &File{Source: file}}
	if !p.readable() {
		return p.out
	}
	p.scan = scanner{text: file.Text, line: true}
	if strings.HasPrefix(file.Text, "\uFEFF") {
		p.scan.at = len("\uFEFF")
	}
	p.advance()
	p.advance()
	p.parseFile()
	return p.out
}

type parser struct {
	file     *source.File
	findings *source.Findings
	out      *File
	scan     scanner
	cur      token
	peek     token
	lastEnd  uint32 // end of the token before cur
	nesting  int
	fields   []Field // of the message that is read, until their number is known
}

// readable refuses what is not text at all.
func (p *parser) readable() bool {
	if i := strings.IndexByte(p.file.Text, 0); i >= 0 {
		p.report(source.Span{Start: uint32(i), End: uint32(i + 1)}, "not-text",
			"this file holds a zero byte: it is binary, not text",
			"definitions are UTF-8 text; give this file another ending than .faithful if it is something else")
		return false
	}
	if !utf8.ValidString(p.file.Text) {
		i := 0
		for i < len(p.file.Text) {
			r, size := utf8.DecodeRuneInString(p.file.Text[i:])
			if r == utf8.RuneError && size == 1 {
				break
			}
			i += size
		}
		p.report(source.Span{Start: uint32(i), End: uint32(i + 1)}, "not-text",
			fmt.Sprintf("the byte 0x%02x here is not valid UTF-8", p.file.Text[i]), "save the file as UTF-8")
		return false
	}
	return true
}

func (p *parser) report(span source.Span, name, message, mend string, notes ...source.Note) {
	p.findings.Add(source.Finding{Name: name, Place: source.Place{File: p.file, Span: span}, Message: message, Mend: mend, Notes: notes})
}

func (p *parser) advance() {
	p.lastEnd = p.cur.end
	p.cur = p.peek
	for {
		p.peek = p.scan.next()
		if p.peek.kind != strayDoc {
			return
		}
		p.report(p.peek.span(), "stray-documentation",
			"a /// after an item on its own line would document the next item", "write it on a line of its own above the item, or make it a // comment")
	}
}

func (p *parser) textOf(t token) string { return p.file.Text[t.start:t.end] }

func (p *parser) at(word string) bool { return p.cur.kind == lowerName && p.textOf(p.cur) == word }

// found says what stands at the current token, for messages.
func (p *parser) found() string {
	switch p.cur.kind {
	case endOfFile:
		return "the file ends"
	case docComment:
		return "there is documentation"
	case brokenText:
		return "there is a string that is not closed on its line"
	}
	return "there is " + strconv.Quote(p.textOf(p.cur))
}

// expected reports that something else should stand here.
func (p *parser) expected(what, mend string) {
	if p.cur.kind == brokenText {
		p.report(p.cur.span(), "unclosed-string", "this string is not closed on its line", `end it with "`)
		return
	}
	span := p.cur.span()
	if p.cur.kind == endOfFile && span.Start > 0 {
		// Underline the last character rather than nothing.
		span.Start = uint32(len(strings.TrimRight(p.file.Text, " \t\r\n")))
		span.Start = max(span.Start, 1) - 1
		span.End = span.Start + 1
	}
	p.report(span, "syntax", fmt.Sprintf("expected %s here, but %s", what, p.found()), mend)
}

func (p *parser) accept(k kind) bool {
	if p.cur.kind == k {
		p.advance()
		return true
	}
	return false
}

func (p *parser) expect(k kind, what string) bool {
	if p.accept(k) {
		return true
	}
	p.expected(what, "")
	return false
}

func (p *parser) doc() Doc {
	if p.cur.kind != docComment {
		return Doc{}
	}
	d := Doc{Span: p.cur.span()}
	for p.cur.kind == docComment {
		d.Span.End = p.cur.end
		p.advance()
	}
	return d
}

var styles = map[kind]struct {
	name string
	to   func(string) string
}{
	lowerName:  {"snake_case", SnakeCase},
	pascalName: {"PascalCase", PascalCase},
	upperName:  {"UPPER_CASE", func(s string) string { return strings.ToUpper(SnakeCase(s)) }},
}

// name reads a name of the wanted style. A name of another style is reported
// and taken all the same, so that nothing else fails because of it.
func (p *parser) name(want kind, what string) (Name, bool) {
	t := p.cur
	n := Name{Text: p.textOf(t), Span: t.span()}
	switch {
	case t.kind == want, want == upperName && t.kind == pascalName && len(n.Text) == 1:
	case t.kind == lowerName || t.kind == pascalName || t.kind == upperName || t.kind == oddName:
		style := styles[want]
		mend := ""
		if better := style.to(n.Text); better != "" && better != n.Text {
			mend = "write " + better
		} else if want == pascalName {
			mend = "it has at least one small letter"
		}
		p.report(n.Span, "name-style", fmt.Sprintf("%s is written in %s, not %q", what, style.name, n.Text), mend)
	default:
		p.expected(what, "")
		return Name{}, false
	}
	p.advance()
	return n, true
}

func (p *parser) dotted() (Name, bool) {
	if p.declBegins(true) {
		p.expected("a module name", "") // it was forgotten: this is the next item
		return Name{}, false
	}
	first, ok := p.name(lowerName, "a module name")
	if !ok {
		return Name{}, false
	}
	end := first.Span.End
	for p.cur.kind == dot {
		p.advance()
		part, ok := p.name(lowerName, "the next part of the module name")
		if !ok {
			return Name{}, false
		}
		end = part.Span.End
	}
	span := source.Span{Start: first.Span.Start, End: end}
	return Name{Text: strings.Join(strings.Fields(p.file.Text[span.Start:span.End]), ""), Span: span}, true
}

var (
	declWords = []string{"const", "type", "enum", "union", "message", "example", "error", "credential", "service"}
	// laterWords belong to the language, but this version does not read them.
	laterWords = []string{"type", "union", "example", "credential", "where", "json", "secret", "in", "stored", "http", "needs", "idempotent", "stream"}
)

// later reports a word of the language that this version does not read yet.
func (p *parser) later() bool {
	if p.cur.kind != lowerName || !slices.Contains(laterWords, p.textOf(p.cur)) {
		return false
	}
	p.report(p.cur.span(), "not-yet", fmt.Sprintf("%q belongs to the language, but this version of faithful does not read it yet", p.textOf(p.cur)), "leave it out for now")
	return true
}

// deprecated reads the mark of that name, if it stands here.
func (p *parser) deprecated(into *Name) bool {
	for p.at("deprecated") {
		at := p.cur
		p.advance()
		if p.cur.kind != text {
			p.expected("the reason, in quotes", "say what to use instead: deprecated \"use fare instead\"")
			return false
		}
		reason, ok := p.literal()
		if !ok {
			return false
		}
		span := source.Span{Start: at.start, End: reason.Span.End}
		switch {
		case into.Text != "":
			p.report(span, "mark-twice", "deprecated stands here twice", "remove one of the two")
		case reason.Text == "":
			p.report(span, "no-reason", "the reason of a deprecation is empty", "say what to use instead")
		}
		*into = Name{Text: reason.Text, Span: span}
	}
	return true
}

func (p *parser) parseFile() {
	p.out.Doc = p.doc()
	if !p.at("module") {
		if p.cur.kind == endOfFile {
			p.report(source.Span{}, "no-module", "this file is empty: a definition file begins with its module", "write, for example: module skerry.booking")
			return
		}
		p.expected("module NAME, the first item of a file", "write, for example: module skerry.booking")
		if p.cur.kind == unknown {
			return // most likely not a definition file at all
		}
		p.skipToDecl()
	} else {
		p.advance()
		if name, ok := p.dotted(); ok {
			p.out.Module = name
		} else {
			p.skipToDecl()
		}
	}
	for p.cur.kind != endOfFile {
		doc := p.doc()
		switch {
		case p.at("use"):
			p.parseUse()
		case p.at("module"):
			p.report(p.cur.span(), "second-module", "a file holds one module, and its module line comes first", "put this module into a file of its own")
			p.advance()
			p.dotted()
		default:
			p.parseDecl(doc)
		}
	}
}

func (p *parser) parseUse() {
	at := p.cur
	p.advance()
	name, ok := p.dotted()
	if !ok {
		p.skipToDecl()
		return
	}
	use := Use{Module: name, Alias: name}
	if i := strings.LastIndexByte(name.Text, '.'); i >= 0 {
		use.Alias.Text = name.Text[i+1:]
	}
	if p.at("as") {
		p.advance()
		if use.Alias, ok = p.name(lowerName, "an alias"); !ok {
			p.skipToDecl()
			return
		}
	}
	if len(p.out.Decls) > 0 {
		p.report(source.Span{Start: at.start, End: use.Module.Span.End}, "late-use", "use comes before the declarations", "move it up, below the module line")
	}
	p.out.Uses = append(p.out.Uses, use)
}

// declBegins tells whether the current token begins a declaration. In a body,
// only a word at the beginning of a line counts, as names may be such words.
func (p *parser) declBegins(inBody bool) bool {
	if p.cur.kind != lowerName || inBody && !p.cur.firstHere {
		return false
	}
	switch p.peek.kind {
	case pascalName, upperName, oddName:
		return slices.Contains(declWords, p.textOf(p.cur))
	case lowerName:
		word := p.textOf(p.cur)
		return p.cur.firstHere && (word == "use" || word == "module" || !inBody && slices.Contains(declWords, word))
	}
	return false
}

// skipToDecl is the one way to go on after a mistake outside of a body.
func (p *parser) skipToDecl() {
	depth := 0
	for p.cur.kind != endOfFile {
		if depth <= 0 && p.declBegins(false) || p.declBegins(true) {
			return
		}
		if p.cur.kind == docComment && depth <= 0 {
			return
		}
		switch p.cur.kind {
		case braceOpen:
			depth++
		case braceClose:
			depth--
		}
		p.advance()
	}
}

func (p *parser) parseDecl(doc Doc) {
	word := p.cur
	if p.cur.kind == endOfFile {
		p.report(doc.Span, "stray-documentation", "this documentation is followed by nothing that it could document", "remove it, or make it a // comment")
		return
	}
	switch {
	case p.at("const"):
		p.advance()
		p.parseConst(doc)
	case p.at("enum"):
		p.advance()
		p.parseEnum(doc)
	case p.at("message"):
		p.advance()
		p.parseMessage(doc, false)
	case p.at("error"):
		p.advance()
		p.parseMessage(doc, true)
	case p.at("service"):
		p.advance()
		p.parseService(doc)
	case p.later():
		p.advance()
		p.skipToDecl()
	case word.kind == braceClose:
		p.report(word.span(), "syntax", "this } closes nothing", "remove it")
		p.advance()
	default:
		mend := "a declaration begins with one of: " + strings.Join(declWords, ", ")
		if word.kind == lowerName || word.kind == oddName || word.kind == pascalName {
			if near := source.Nearest(p.textOf(word), declWords); near != "" {
				mend = fmt.Sprintf("did you mean %q?", near)
			}
		}
		p.expected("a declaration", mend)
		p.advance()
		p.skipToDecl()
	}
}

func (p *parser) parseConst(doc Doc) {
	name, ok := p.name(upperName, "the name of a constant")
	if !ok {
		p.skipToDecl()
		return
	}
	c := &Const{Head: Head{Doc: doc, Name: name}}
	c.Type, ok = p.parseType()
	if ok {
		ok = p.expect(equals, `"=" and the constant's value`)
	}
	if ok {
		c.Value, ok = p.literal()
	}
	if ok {
		ok = p.deprecated(&c.Deprecated)
	}
	if ok && p.cur.firstHere || p.cur.kind == endOfFile || p.declBegins(false) {
		if ok {
			p.out.Decls = append(p.out.Decls, c)
		}
		return
	}
	if ok && !p.later() {
		p.expected("the next declaration", "")
	}
	p.skipToDecl()
}

// body reads the items between { and }. item reads one and tells whether it
// went well; begins tells whether an item can begin at the current token.
func (p *parser) body(head Name, what string, begins func() bool, item func(Doc) bool) {
	open := p.cur
	if !p.accept(braceOpen) {
		if !p.later() {
			p.expected(fmt.Sprintf(`"{" and what is in %s`, head.Text), "")
		}
		p.skipToDecl()
		return
	}
	for {
		doc := p.doc()
		switch {
		case p.cur.kind == braceClose:
			if doc.Span.End != 0 {
				p.report(doc.Span, "stray-documentation", "this documentation is followed by nothing that it could document", "remove it, or make it a // comment")
			}
			p.advance()
			return
		case p.cur.kind == endOfFile || p.declBegins(true):
			p.report(open.span(), "unclosed", fmt.Sprintf("this { of %s is never closed", head.Text), "write } after the last item of "+head.Text,
				source.Note{Place: source.Place{File: p.file, Span: p.cur.span()}, Message: "here something else begins"})
			return
		case begins():
			if item(doc) {
				continue
			}
		default:
			if !p.later() {
				p.expected(what, "")
			}
			p.advance()
		}
		for p.cur.kind != endOfFile && p.cur.kind != braceClose && p.cur.kind != docComment && !begins() && !p.declBegins(true) {
			p.advance()
		}
	}
}

func (p *parser) fieldBegins() bool {
	return p.cur.kind == hash || p.at("retired") && (p.peek.kind == hash || p.peek.kind == text)
}

// ends tells whether an item may end at the current token; if not, it says so.
func (p *parser) ends(what string) bool {
	if p.cur.kind == braceClose || p.cur.kind == endOfFile || p.cur.kind == docComment || p.fieldBegins() || p.declBegins(true) {
		return true
	}
	if !p.later() {
		p.expected(what, "")
	}
	return false
}

func (p *parser) numberAfterHash() (Number, bool) {
	start := p.cur.start
	p.advance() // the "#"
	if p.cur.kind != number {
		p.expected("a number after #", "")
		return Number{Value: -1}, false
	}
	n := Number{Value: -1, Span: source.Span{Start: start, End: p.cur.end}}
	digits := p.textOf(p.cur)
	if v, err := strconv.ParseUint(digits, 10, 16); err == nil && (digits == "0" || digits[0] != '0') {
		n.Value = int(v)
	} else {
		p.report(p.cur.span(), "number-range", fmt.Sprintf("%s is not a whole number up to 65535", digits), "")
	}
	p.advance()
	return n, true
}

func (p *parser) parseRetired() (Retired, bool) {
	p.advance()
	r := Retired{Number: Number{Value: -1}}
	if p.cur.kind == hash {
		var ok bool
		if r.Number, ok = p.numberAfterHash(); !ok {
			return r, false
		}
	}
	if p.cur.kind == text {
		l, ok := p.literal()
		if !ok {
			return r, false
		}
		r.Name = Name{Text: l.Text, Span: l.Span}
	}
	return r, p.ends("the next item")
}

func (p *parser) parseEnum(doc Doc) {
	name, ok := p.name(pascalName, "the name of an enum")
	if !ok {
		p.skipToDecl()
		return
	}
	e := &Enum{Head: Head{Doc: doc, Name: name}}
	p.deprecated(&e.Deprecated)
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
		ok = p.deprecated(&m.Deprecated)
		e.Members = append(e.Members, m)
		return ok && p.ends("the next member")
	})
}

func (p *parser) parseMessage(doc Doc, isError bool) {
	what := "the name of a message"
	if isError {
		what = "the name of an error"
	}
	name, ok := p.name(pascalName, what)
	if !ok {
		p.skipToDecl()
		return
	}
	m := &Message{Head: Head{Doc: doc, Name: name}, IsError: isError}
	if isError {
		if p.cur.kind == number {
			m.Status = Name{Text: p.textOf(p.cur), Span: p.cur.span()}
			p.advance()
		} else {
			p.expected("the error's HTTP status", fmt.Sprintf("write, for example: error %s 409 { … }", name.Text))
		}
	}
	p.deprecated(&m.Deprecated)
	p.out.Decls = append(p.out.Decls, m)
	p.body(name, "#NUMBER name TYPE, a field", p.fieldBegins, func(doc Doc) bool {
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
		return ok && p.ends("the next field")
	})
	m.Fields = slices.Clone(p.fields)
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
	if f.Type, ok = p.parseType(); !ok {
		return false
	}
	if p.cur.kind == question {
		f.Optional = true
		p.advance()
	}
	if p.cur.kind == equals {
		if f.Optional {
			p.report(p.cur.span(), "optional-with-default", fmt.Sprintf("%s is optional and has a default: a field with a default may already be left out", f.Name.Text), "remove the ? or the default")
			f.Optional = false
		}
		p.advance()
		l, ok := p.literal()
		if !ok {
			return false
		}
		f.Default = &l
	}
	return p.deprecated(&f.Deprecated)
}

func (p *parser) parseType() (*Type, bool) {
	p.nesting++
	defer func() { p.nesting-- }()
	start := p.cur.start
	if p.nesting > MaxNesting {
		p.report(p.cur.span(), "too-deep", fmt.Sprintf("types nest more than %d deep here", MaxNesting), "give the inner part a message of its own")
		return nil, false
	}
	t := &Type{}
	var ok bool
	switch p.cur.kind {
	case bracketOpen:
		p.advance()
		t.Form = ListType
		if t.Elem, ok = p.parseType(); !ok || !p.noAbsent("lists") || !p.expect(bracketClose, `"]" after the list's element type`) {
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
		n := Name{Text: p.textOf(p.cur), Span: p.cur.span()}
		p.advance()
		if p.cur.kind == dot {
			p.advance()
			t.Alias = n
			if n, ok = p.name(pascalName, "the name of a type"); !ok {
				return nil, false
			}
		}
		t.Name = n
	default:
		p.expected("a type", "a type is a scalar such as text or int32, the name of a message or enum, [T] or {text: T}")
		return nil, false
	}
	t.Span = source.Span{Start: start, End: p.lastEnd}
	return t, true
}

func (p *parser) noAbsent(what string) bool {
	if p.cur.kind != question {
		return true
	}
	p.report(p.cur.span(), "absent-element", what+" hold no absent elements", "remove the ?; to leave out the whole field, write ? after it")
	p.advance()
	return true
}

func (p *parser) literal() (Literal, bool) {
	l := Literal{Span: p.cur.span(), Text: p.textOf(p.cur)}
	switch p.cur.kind {
	case number:
		if digits := strings.TrimPrefix(l.Text, "-"); len(digits) > 1 && digits[0] == '0' && letters[digits[1]] == isDigit {
			p.report(l.Span, "leading-zero", "numbers have no leading zeros", "")
		}
	case text:
		l.Form = TextLiteral
		value, problem := unquote(l.Text)
		if problem != "" {
			p.report(l.Span, "bad-string", problem, "strings are written as in JSON")
			value = ""
		}
		l.Text = value
	case lowerName:
		if p.peek.kind == dot {
			l.Alias = Name{Text: l.Text, Span: l.Span}
			p.advance()
			p.advance()
			n, ok := p.name(upperName, "the name of a constant")
			if !ok {
				return l, false
			}
			return Literal{Form: ConstLiteral, Alias: l.Alias, Text: n.Text, Span: source.Span{Start: l.Span.Start, End: n.Span.End}}, true
		}
		l.Form = WordLiteral
		if l.Text == "true" || l.Text == "false" {
			l.Form = BoolLiteral
		}
	case upperName, pascalName:
		l.Form = ConstLiteral
	default:
		p.expected("a value", `a value is a number, "text", true, false, an enum's member or a constant`)
		return l, false
	}
	p.advance()
	return l, true
}

// unquote undoes the escapes of a JSON string (RFC 8259, section 7). The
// second result says what is wrong, or is empty.
func unquote(quoted string) (string, string) {
	body := quoted[1 : len(quoted)-1]
	for i := 0; i < len(body); i++ {
		if body[i] < 0x20 {
			return "", fmt.Sprintf("the control character 0x%02x must be written as an escape", body[i])
		}
	}
	if !strings.Contains(body, `\`) {
		return body, ""
	}
	var b strings.Builder
	for i := 0; i < len(body); i++ {
		if body[i] != '\\' {
			b.WriteByte(body[i])
			continue
		}
		i++
		switch c := body[i]; c {
		case '"', '\\', '/':
			b.WriteByte(c)
		case 'b', 'f', 'n', 'r', 't':
			b.WriteByte(map[byte]byte{'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t'}[c])
		case 'u':
			r, ok := hex4(body, i+1)
			if !ok {
				return "", `\u is followed by four hexadecimal digits`
			}
			i += 4
			if r >= 0xD800 && r < 0xE000 {
				low, ok := rune(0), false
				if r < 0xDC00 && strings.HasPrefix(body[i+1:], `\u`) {
					low, ok = hex4(body, i+3)
				}
				if !ok || low < 0xDC00 || low > 0xDFFF {
					return "", "half of a surrogate pair stands alone here"
				}
				r = 0x10000 + (r-0xD800)<<10 + (low - 0xDC00)
				i += 6
			}
			b.WriteRune(r)
		default:
			return "", fmt.Sprintf(`\%c is not an escape`, c)
		}
	}
	return b.String(), ""
}

func hex4(s string, at int) (rune, bool) {
	if at+4 > len(s) {
		return 0, false
	}
	v, err := strconv.ParseUint(s[at:at+4], 16, 16)
	return rune(v), err == nil
}

func (p *parser) parseService(doc Doc) {
	name, ok := p.name(pascalName, "the name of a service")
	if !ok {
		p.skipToDecl()
		return
	}
	s := &Service{Head: Head{Doc: doc, Name: name}}
	p.deprecated(&s.Deprecated)
	p.out.Decls = append(p.out.Decls, s)
	begins := func() bool {
		return p.at("call") && p.peek.kind != parenOpen || p.at("fails")
	}
	p.body(name, `"call", "fails" or "}"`, begins, func(doc Doc) bool {
		if p.at("fails") {
			return p.fails(&s.Fails)
		}
		p.advance()
		c := Call{Doc: doc}
		ok := p.parseCall(&c)
		if c.Name.Text != "" {
			s.Calls = append(s.Calls, c)
		}
		return ok
	})
}

func (p *parser) parseCall(c *Call) bool {
	var ok bool
	if c.Name, ok = p.name(lowerName, "the name of a call"); !ok {
		return false
	}
	if !p.expect(parenOpen, `"(" and the request`) {
		return false
	}
	if p.cur.kind != parenClose {
		if c.Request, ok = p.side(); !ok {
			return false
		}
	}
	if !p.expect(parenClose, `")" after the request`) || !p.expect(arrow, `"->" and the answer`) {
		return false
	}
	if p.accept(parenOpen) {
		if !p.expect(parenClose, `")": "()" answers nothing`) {
			return false
		}
	} else if c.Response, ok = p.side(); !ok {
		return false
	}
	for {
		switch {
		case p.at("fails"):
			if !p.fails(&c.Fails) {
				return false
			}
		case p.at("safe"):
			c.Safe = true
			p.advance()
		case p.at("deprecated"):
			if !p.deprecated(&c.Deprecated) {
				return false
			}
		case p.cur.kind == braceClose, p.cur.kind == docComment, p.at("call"), p.cur.kind == endOfFile, p.declBegins(true):
			return true
		default:
			if !p.later() {
				p.expected(`"fails", "safe", "deprecated", the next call or "}"`, "")
			}
			return false
		}
	}
}

func (p *parser) side() (*Ref, bool) {
	if p.at("stream") && p.peek.kind != dot {
		p.later()
		return nil, false
	}
	r, ok := p.ref("a message")
	return &r, ok
}

func (p *parser) ref(what string) (Ref, bool) {
	var r Ref
	if p.cur.kind == lowerName && p.peek.kind == dot {
		r.Alias = Name{Text: p.textOf(p.cur), Span: p.cur.span()}
		p.advance()
		p.advance()
	}
	switch p.cur.kind {
	case lowerName, oddName, pascalName, upperName:
		r.Name = Name{Text: p.textOf(p.cur), Span: p.cur.span()}
		p.advance()
		return r, true
	}
	p.expected("the name of "+what, "")
	return r, false
}

func (p *parser) fails(list *[]Ref) bool {
	p.advance()
	for {
		r, ok := p.ref("an error")
		if !ok {
			return false
		}
		*list = append(*list, r)
		if !p.accept(comma) {
			return true
		}
	}
}
