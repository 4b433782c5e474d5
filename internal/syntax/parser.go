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
	if ours, at := beforeMerge(file.Text); ours != "" {
		// One error for all: the side that was here is read without a word.
		findings.Add(source.Finding{Name: "stopped-merge", Place: source.Place{File: file, Span: at},
			Message: "a merge of version control stopped here",
			Fix:     "keep what is right of the two sides, and remove the lines of marks"})
		return Parse(source.NewFile(file.Name, ours), &source.Findings{})
	}
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

// beforeMerge is a text in which a merge stopped as it was on the branch that was merged
// into: all else is blank, so that what is left stays where it is. It is "" for a text
// without the marks of a merge; the span is that of the first.
func beforeMerge(text string) (ours string, at source.Span) {
	if !strings.Contains(text, "<<<<<<< ") || !strings.Contains(text, "\n>>>>>>> ") {
		return "", at
	}
	var b strings.Builder
	keeping := true
	for line := range strings.Lines(text) {
		mark := ""
		for _, m := range []string{"<<<<<<< ", "||||||| ", "=======\n", "=======\r", ">>>>>>> "} {
			if strings.HasPrefix(line, m) {
				mark = m
			}
		}
		switch {
		case mark == "<<<<<<< ":
			if at.End == 0 {
				at = source.Span{Start: uint32(b.Len()), End: uint32(b.Len() + len(strings.TrimRight(line, "\r\n")))}
			}
		case mark == ">>>>>>> ":
			keeping = true
		case mark != "":
			keeping = false
		}
		if keeping && mark == "" {
			b.WriteString(line)
			continue
		}
		for i := range len(line) {
			b.WriteByte(map[bool]byte{true: '\n', false: ' '}[line[i] == '\n'])
		}
	}
	if at.End == 0 {
		return "", at
	}
	return b.String(), at
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

	types    chunk[Type]
	messages chunk[Message]
	kept     []Field // chunks of the fields of all messages
}

// chunk makes room for many things at a time: that is much cheaper than one
// after the other.
type chunk[T any] struct{ free []T }

func (c *chunk[T]) next() *T {
	if len(c.free) == 0 {
		c.free = make([]T, 64)
	}
	t := &c.free[0]
	c.free = c.free[1:]
	return t
}

// keep copies the fields of a message to where they stay.
func (p *parser) keep(fields []Field) []Field {
	if len(fields) == 0 {
		return nil
	}
	if cap(p.kept)-len(p.kept) < len(fields) {
		p.kept = make([]Field, 0, max(64, len(fields)))
	}
	start := len(p.kept)
	p.kept = append(p.kept, fields...)
	return p.kept[start:len(p.kept):len(p.kept)]
}

// readable refuses what is not text at all.
func (p *parser) readable() bool {
	if i := strings.IndexByte(p.file.Text, 0); i >= 0 {
		p.report(source.Span{Start: uint32(i), End: uint32(i + 1)}, "not-text",
			"this file contains a zero byte: it is binary, not text",
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
	return !p.hidden()
}

// hidden refuses characters that are not seen and change how a text reads, wherever they
// are: control characters, marks of direction (UAX #9), separators of lines, byte order
// marks. No emitter, log or reviewer need think of them then.
func (p *parser) hidden() (found bool) {
	text := strings.TrimPrefix(p.file.Text, "\uFEFF")
	offset := len(p.file.Text) - len(text)
	for i := 0; i < len(text); i++ {
		c := text[i]
		// What begins none of them, quickly: nearly every byte.
		if c >= 0x20 && c < 0x7f || c == '\t' || c == '\n' || c > 0xef || c > 0x7f && c != 0xc2 && c != 0xd8 && c != 0xe2 &&
			c != 0xef {
			continue
		}
		r, size := utf8.DecodeRuneInString(text[i:])
		if !Hidden(r) || r == '\r' && strings.HasPrefix(text[i:], "\r\n") {
			continue
		}
		found = true
		at := source.Span{Start: uint32(offset + i), End: uint32(offset + i + size)}
		p.fix(at, "hidden-character", hiddenMessage(r), "remove it", p.edit(at, ""))
	}
	return found
}

func hiddenMessage(r rune) string {
	return fmt.Sprintf("the character U+%04X is not seen and changes how the text around it is read", r)
}

// Hidden tells characters that stand nowhere in definitions, but for tab, newline and, at
// the end of a line, carriage return.
func Hidden(r rune) bool {
	switch {
	case r < 0x20:
		return r != '\t' && r != '\n'
	case r < 0x7f:
		return false
	case r < 0xa0:
		return true
	}
	return Deceptive(r)
}

// Deceptive tells characters that stand in no text of definitions, not even as escapes:
// marks of direction, separators of lines, byte order marks.
func Deceptive(r rune) bool {
	return r == 0x061c || r == 0x200e || r == 0x200f || r >= 0x2028 && r <= 0x202e || r >= 0x2066 && r <= 0x2069 ||
		r == 0xfeff
}

func (p *parser) report(span source.Span, name, message, fix string, notes ...source.Note) {
	p.findings.Add(source.Finding{Name: name, Place: p.place(span), Message: message, Fix: fix, Notes: notes})
}

// fix reports what the edits fix for certain.
func (p *parser) fix(span source.Span, name, message, fix string, edits ...source.Edit) {
	p.findings.Add(source.Finding{Name: name, Place: p.place(span), Message: message, Fix: fix, Edits: edits, Sure: true})
}

// guess reports what the edit most likely fixes.
func (p *parser) guess(span source.Span, name, message, fix, text string) {
	p.findings.Add(source.Finding{Name: name, Place: p.place(span), Message: message, Fix: fix,
		Edits: []source.Edit{p.edit(span, text)}})
}

func (p *parser) place(span source.Span) source.Place { return source.Place{File: p.file, Span: span} }

func (p *parser) edit(span source.Span, text string) source.Edit {
	return source.Edit{Place: p.place(span), Text: text}
}

func (p *parser) advance() {
	p.lastEnd = p.cur.end
	p.cur = p.peek
	for {
		p.peek = p.scan.next()
		if p.peek.kind != strayDoc {
			return
		}
		p.fix(p.peek.span(), "stray-documentation",
			"a /// at the end of a line would document what follows",
			"write it on a line of its own above what it documents, or make it a // comment",
			p.edit(source.Span{Start: p.peek.start, End: p.peek.start + 3}, "//"))
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
func (p *parser) expected(what, fix string) {
	if p.cur.kind == brokenText {
		p.report(p.cur.span(), "unclosed-string", "this string is not closed on its line", `end it with "`)
		return
	}
	span := p.cur.span()
	if p.lastEnd > 0 && p.declBegins(true) {
		// It was left out at the end of what stands before.
		p.report(source.Span{Start: p.lastEnd - 1, End: p.lastEnd}, "syntax",
			fmt.Sprintf("expected %s after this, but the next declaration begins", what), fix)
		return
	}
	if p.cur.kind == endOfFile && span.Start > 0 {
		// Underline the last character rather than nothing.
		span.Start = uint32(len(strings.TrimRight(p.file.Text, " \t\r\n")))
		span.Start = max(span.Start, 1) - 1
		span.End = span.Start + 1
	}
	p.report(span, "syntax", fmt.Sprintf("expected %s here, but %s", what, p.found()), fix)
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
	case t.kind == want, want == upperName && t.kind == pascalName && len(n.Text) == 1,
		want == pascalName && t.kind == upperName && strings.Trim(n.Text[1:], "0123456789") == "": // such as V2
	case t.kind == lowerName || t.kind == pascalName || t.kind == upperName || t.kind == oddName:
		style := styles[want]
		fix := ""
		if strings.ContainsFunc(n.Text, func(r rune) bool { return r >= utf8.RuneSelf }) {
			fix = fmt.Sprintf("a name is made of the letters a to z, digits and _, in %s", style.name)
		} else if better := style.to(n.Text); better != "" && better != n.Text {
			fix = "write " + better
		} else if want == pascalName {
			fix = "it has at least one small letter"
		}
		message := fmt.Sprintf("%s is written in %s, not %q", what, style.name, n.Text)
		if better, ok := strings.CutPrefix(fix, "write "); ok {
			p.guess(n.Span, "name-style", message, fix, better)
		} else {
			p.report(n.Span, "name-style", message, fix)
		}
	default:
		fix := ""
		if t.kind == unknown || t.kind == text || t.kind == number {
			fix = fmt.Sprintf("a name is made of the letters a to z, digits and _, in %s", styles[want].name)
		}
		p.expected(what, fix)
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

var declWords = []string{"const", "type", "enum", "union", "message", "example", "error", "credential", "service"}

func (p *parser) parseFile() {
	p.out.Doc = p.doc()
	if !p.at("module") {
		if p.cur.kind == endOfFile {
			p.report(source.Span{}, "no-module", "this file is empty: a definition file begins with its module",
				"write, for example: module skerry.booking")
			return
		}
		p.expected("module NAME, which begins every file", "write, for example: module skerry.booking")
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
			p.report(p.cur.span(), "second-module", "a file contains one module, and its module line comes first",
				"put this module into a file of its own")
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
		p.report(source.Span{Start: at.start, End: use.Module.Span.End}, "late-use", "\"use\" comes before the declarations",
			"move it up, below the module line")
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
		switch word := p.textOf(p.cur); word {
		case "use", "module", "example", "credential":
			return p.cur.firstHere
		default:
			return p.cur.firstHere && !inBody && slices.Contains(declWords, word)
		}
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

// body reads the items between { and }. item reads one and tells whether it
// went well; begins tells whether an item can begin at the current token.
func (p *parser) body(head Name, what string, begins func() bool, item func(Doc) bool) {
	open := p.cur
	if !p.accept(braceOpen) {
		p.expected(fmt.Sprintf(`"{" and what is in %s`, head.Text), p.strayWord(declarationMarks))
		p.skipToDecl()
		return
	}
	for {
		doc := p.doc()
		switch {
		case p.cur.kind == braceClose:
			if doc.Span.End != 0 {
				p.report(doc.Span, "stray-documentation", "this documentation is followed by nothing that it could document",
					"remove it, or make it a // comment")
			}
			p.advance()
			return
		case p.cur.kind == endOfFile || p.declBegins(true):
			p.report(open.span(), "unclosed", fmt.Sprintf("this { of %q is never closed", head.Text),
				"write } at the end of "+strconv.Quote(head.Text),
				source.Note{Place: source.Place{File: p.file, Span: p.cur.span()}, Message: "here something else begins"})
			return
		case begins():
			if item(doc) {
				continue
			}
		default:
			p.expected(what, p.strayWord(0))
			p.advance()
		}
		for p.cur.kind != endOfFile && p.cur.kind != braceClose && p.cur.kind != docComment && !begins() &&
			!p.declBegins(true) {
			p.advance()
		}
	}
}

func (p *parser) fieldBegins() bool {
	return p.cur.kind == hash || p.at("retired") && (p.peek.kind == hash || p.peek.kind == text)
}

// ends tells whether an item may end at the current token; if not, it says so.
func (p *parser) ends(what string, marks markSet) bool {
	if p.cur.kind == braceClose || p.cur.kind == endOfFile || p.cur.kind == docComment || p.fieldBegins() ||
		p.declBegins(true) {
		return true
	}
	if p.separator() {
		return true
	}
	p.expected(what, p.strayWord(marks))
	return false
}

// separator reads a comma or semicolon after an item, where none belongs.
func (p *parser) separator() bool {
	if word := p.textOf(p.cur); p.cur.kind != comma && word != ";" {
		return false
	}
	p.fix(p.cur.span(), "separator", "nothing belongs here: what follows begins with its own mark or word", "remove it",
		p.edit(p.cur.span(), ""))
	p.advance()
	return true
}

func (p *parser) numberAfterHash() (Number, bool) {
	start := p.cur.start
	p.advance() // the "#"
	if p.cur.kind != number {
		p.expected("a number after #", "a field, a member and an alternative begin with their number: #1")
		return Number{Value: -1}, false
	}
	n := Number{Value: -1, Span: source.Span{Start: start, End: p.cur.end}}
	digits := p.textOf(p.cur)
	if v, err := strconv.ParseUint(digits, 10, 16); err == nil && (digits == "0" || digits[0] != '0') {
		n.Value = int(v)
	} else {
		p.report(p.cur.span(), "number-range", fmt.Sprintf("%s is not a whole number up to 65535", digits),
			"count on from the last one")
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
	return r, p.ends("the next line", 0)
}
