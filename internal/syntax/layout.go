package syntax

import (
	"strings"
	"unicode/utf8"

	"faithfulcourier/internal/source"
)

// maxWidth is how many columns an item may have before it goes on, clause by
// clause, on lines of its own.
const maxWidth = 100

// Tidy writes a file in the one canonical layout, with every comment. It never
// changes the meaning, and changes nothing the second time. A file with errors
// is not touched: these are returned.
func Tidy(file *source.File) (string, []source.Finding) {
	findings := &source.Findings{}
	Parse(file, findings)
	if list := findings.Sorted(); source.Errors(list) > 0 {
		return "", list
	}
	l := &layout{text: file.Text}
	l.scan()
	l.file()
	return l.out.String(), nil
}

// layout lays out the tokens of a file that is known to be right. It reads
// items (a declaration, a field, a call) as words and decides where they go;
// what a word means does not matter to it.
type layout struct {
	text   string
	tokens []token
	at     int
	out    strings.Builder

	lead  []string // comments and documentation on lines of their own before the item
	blank bool     // the author left a blank line before the item
	rows  []row    // of the body, until their columns are known
}

// row is a line of a body, or a blank one.
type row struct {
	cells   []string // aligned with those of other rows, but for the last
	comment string   // after the item, on its line
	blank   bool
}

func (l *layout) scan() {
	s := scanner{text: l.text, line: true, keepComments: true}
	if strings.HasPrefix(l.text, "\uFEFF") {
		s.at = len("\uFEFF")
	}
	for {
		t := s.next()
		l.tokens = append(l.tokens, t)
		if t.kind == endOfFile {
			return
		}
	}
}

func (l *layout) word(t token) string { return l.text[t.start:t.end] }

// comments reads what stands on lines of its own before an item, and whether
// a blank line does.
func (l *layout) comments() {
	l.lead, l.blank = nil, l.blankBefore()
	for t := l.tokens[l.at]; t.kind == lineComment || t.kind == docComment; t = l.tokens[l.at] {
		if len(l.lead) > 0 && l.blankBefore() {
			l.lead = append(l.lead, "")
		}
		l.lead = append(l.lead, strings.TrimRight(l.word(t), " \t\r"))
		l.at++
	}
	if len(l.lead) > 0 && l.blankBefore() && l.tokens[l.at].kind != endOfFile {
		l.lead = append(l.lead, "")
	}
}

// blankBefore tells whether the author left a blank line before the token.
func (l *layout) blankBefore() bool {
	if l.at == 0 {
		return false
	}
	return strings.Count(l.text[l.tokens[l.at-1].end:l.tokens[l.at].start], "\n") > 1
}

// trailing reads a comment on the line of what was read last.
func (l *layout) trailing() string {
	if t := l.tokens[l.at]; t.kind == lineComment && !t.firstHere {
		l.at++
		return strings.TrimRight(l.word(t), " \t\r")
	}
	return ""
}

// next is the next token that is not a comment; after is the one after it.
func (l *layout) next() token {
	t, _ := l.look()
	return t
}

func (l *layout) look() (next, after token) {
	i := l.at
	skip := func() {
		for l.tokens[i].kind == lineComment {
			i++
		}
	}
	skip()
	next = l.tokens[i]
	if next.kind != endOfFile {
		i++
	}
	skip()
	return next, l.tokens[i]
}

func (l *layout) is(word string) bool {
	t := l.next()
	return t.kind == lowerName && l.word(t) == word
}

// phrase writes words with the blanks that belong between them.
type phrase struct {
	b        strings.Builder
	last     kind
	lastWord string
}

func (p *phrase) add(k kind, word string) {
	tight := p.b.Len() == 0
	switch k {
	case comma, colon, dot, dotDot, question, parenOpen, parenClose, bracketClose, braceClose:
		tight = tight || p.last != arrow && p.last != comma && p.last != colon && p.last != equals
	}
	switch p.last {
	case dot, dotDot, hash, parenOpen, bracketOpen, braceOpen:
		tight = true
	}
	if !tight {
		p.b.WriteByte(' ')
	}
	p.b.WriteString(word)
	p.last, p.lastWord = k, word
}

// into adds the next token of an item. Comments in the middle of an item move
// before it.
func (l *layout) into(p *phrase) {
	for l.tokens[l.at].kind == lineComment {
		l.lead = append(l.lead, strings.TrimRight(l.word(l.tokens[l.at]), " \t\r"))
		l.at++
	}
	t := l.tokens[l.at]
	p.add(t.kind, l.word(t))
	l.at++
}

func (l *layout) file() {
	l.comments()
	l.single() // module
	first := true
	for l.comments(); l.tokens[l.at].kind != endOfFile; l.comments() {
		isUse := l.is("use")
		if !isUse || first || l.blank {
			l.out.WriteByte('\n')
		}
		first = false
		if isUse {
			l.single()
		} else {
			l.declaration()
		}
	}
	if len(l.lead) > 0 {
		l.out.WriteByte('\n')
		l.leading("")
	}
}

// leading writes the comments before an item.
func (l *layout) leading(indent string) {
	for _, line := range l.lead {
		l.out.WriteString(strings.TrimRight(indent+line, " ") + "\n")
	}
	l.lead = nil
}

// single writes a module or use line.
func (l *layout) single() {
	var p phrase
	l.into(&p)
	for {
		l.into(&p) // a part of the name, or an alias
		if l.next().kind == dot {
			l.into(&p)
		} else if l.is("as") {
			l.into(&p)
		} else {
			break
		}
	}
	l.finish(p.b.String())
}

// finish writes one line of the top level, with the comments around it.
func (l *layout) finish(line string) {
	comment := l.trailing()
	l.leading("")
	l.line(line, comment)
}

func (l *layout) declaration() {
	switch {
	case l.is("const"), l.is("type"), l.is("credential"):
		l.plain()
		return
	case l.is("example"):
		l.example()
		return
	}
	isService, isEnum := l.is("service"), l.is("enum")
	var p phrase
	for p.last != braceOpen {
		l.into(&p)
	}
	head := p.b.String()
	comment := l.trailing()
	l.leading("")
	l.rows = nil
	for l.comments(); l.tokens[l.at].kind != braceClose; l.comments() {
		if l.blank && len(l.rows) > 0 {
			l.rows = append(l.rows, row{blank: true})
		}
		if isService {
			l.call()
		} else {
			l.item(isEnum)
		}
	}
	if l.blank && len(l.lead) > 0 && len(l.rows) > 0 {
		l.rows = append(l.rows, row{blank: true})
	}
	if last := len(l.lead) - 1; last >= 0 && l.lead[last] == "" {
		l.lead = l.lead[:last] // no blank line before the "}"
	}
	l.leadRows()
	l.at++ // the "}"
	if len(l.rows) == 0 && comment == "" {
		l.line(head+" }", l.trailing())
		return
	}
	l.line(head, comment)
	l.body()
	l.line("}", l.trailing())
}

func (l *layout) line(text, comment string) {
	if comment != "" {
		text += "  " + comment
	}
	l.out.WriteString(text + "\n")
}

// plain reads a constant, a type or a credential: a line, or where that would
// be too wide one that goes on clause by clause.
func (l *layout) plain() {
	isType, isCredential := l.is("type"), l.is("credential")
	var p phrase
	l.into(&p) // the word
	l.into(&p) // its name
	if !isType && !isCredential {
		l.typ(&p)
	}
	l.into(&p) // =
	switch {
	case isType:
		l.typ(&p)
	case isCredential:
		l.into(&p) // key, bearer, basic
		if p.lastWord == "key" {
			l.into(&p) // header, query, cookie
		}
		if l.next().kind == text {
			l.into(&p)
		}
	default:
		l.literal(&p)
	}
	parts := append([]string{p.b.String()}, l.clauses()...)
	line := strings.Join(parts, " ")
	if utf8.RuneCountInString(line) <= maxWidth {
		l.finish(line)
		return
	}
	comment := l.trailing()
	l.leading("")
	for i, part := range parts {
		if i > 0 {
			part = "    " + part
		}
		if i < len(parts)-1 {
			l.line(part, "")
		} else {
			l.line(part, comment)
		}
	}
}

// clauses reads a default, where and marks, each apart.
func (l *layout) clauses() []string {
	var parts []string
	part := func(read func(p *phrase)) {
		var p phrase
		read(&p)
		parts = append(parts, p.b.String())
	}
	if l.next().kind == equals {
		part(func(p *phrase) { l.into(p); l.literal(p) })
	}
	if l.is("where") {
		part(l.where)
	}
	for l.markBegins() {
		part(l.mark)
	}
	return parts
}

// where reads bounds.
func (l *layout) where(p *phrase) {
	l.into(p)
	for {
		next, after := l.look()
		word := ""
		if next.kind == lowerName && after.kind != dot {
			word = l.word(next)
		}
		switch word {
		case "unique":
			l.into(p)
		case "pattern":
			l.into(p)
			l.into(p)
		case "length", "count":
			l.into(p)
			l.limits(p)
		default:
			l.limits(p)
		}
		if l.next().kind != comma {
			return
		}
		l.into(p)
	}
}

func (l *layout) limits(p *phrase) {
	if k := l.next().kind; k == atLeast || k == atMost {
		l.into(p)
		l.literal(p)
		return
	}
	l.literal(p)
	l.into(p) // ..
	l.literal(p)
}

// mark reads one mark with what belongs to it.
func (l *layout) mark(p *phrase) {
	l.into(p)
	switch p.lastWord {
	case "in":
		l.into(p)
		if l.next().kind == text {
			l.into(p)
		}
	case "deprecated", "json":
		l.into(p)
	}
}

// markBegins tells whether a mark stands here. Where a type or name may stand,
// nobody asks: a mark never comes first.
func (l *layout) markBegins() bool {
	next, after := l.look()
	if next.kind != lowerName {
		return false
	}
	switch l.word(next) {
	case "deprecated", "json":
		return after.kind == text
	case "in":
		return after.kind == lowerName
	case "secret", "stored":
		return true
	}
	return false
}

// example reads an example: on one line, or a line each entry.
func (l *layout) example() {
	var p phrase
	for range 3 { // example name of
		l.into(&p)
	}
	l.into(&p)
	if l.next().kind == dot {
		l.into(&p)
		l.into(&p)
	}
	l.skipComments()
	l.leading("")
	last := l.value(p.b.String()+" ", "")
	l.line(last, l.trailing())
}

// skipComments moves comments in the middle of an item before it.
func (l *layout) skipComments() {
	for l.tokens[l.at].kind == lineComment {
		l.lead = append(l.lead, strings.TrimRight(l.word(l.tokens[l.at]), " \t\r"))
		l.at++
	}
}

// value lays out a value after what stands on the line before it, and returns
// the line that it ends on, without what may follow there.
func (l *layout) value(before, indent string) string {
	if k := l.next().kind; k != braceOpen && k != bracketOpen {
		var p phrase
		l.literal(&p)
		return before + p.b.String()
	}
	if flat, end := l.flat(maxWidth - utf8.RuneCountInString(before)); end > 0 {
		l.at = end
		return before + flat
	}
	return l.broken(before, indent)
}

// flat writes a value on one line, in at most width columns; end is the token
// after it, or 0 where it has comments, its author broke it, or it is too
// wide.
func (l *layout) flat(width int) (text string, end int) {
	var p phrase
	depth := 0
	for i := l.at; ; i++ {
		t := l.tokens[i]
		if t.kind == lineComment || t.kind == docComment || p.b.Len() > 4*width {
			return "", 0
		}
		if opens := p.last == braceOpen || p.last == bracketOpen; opens && t.firstHere && t.kind != braceClose &&
			t.kind != bracketClose {
			return "", 0
		} else if t.kind == braceClose && p.last != braceOpen && p.last != comma || opens && p.last == braceOpen &&
			t.kind != braceClose {
			p.b.WriteByte(' ')
		}
		p.add(t.kind, l.word(t))
		switch t.kind {
		case braceOpen, bracketOpen:
			depth++
		case braceClose, bracketClose:
			depth--
		}
		if depth == 0 {
			if utf8.RuneCountInString(p.b.String()) > width {
				return "", 0
			}
			return p.b.String(), i + 1
		}
	}
}

// broken writes a value with a line each entry.
func (l *layout) broken(before, indent string) string {
	var p phrase
	l.into(&p)
	l.line(before+p.b.String(), l.trailing())
	inner := indent + "  "
	first := true
	for l.comments(); !l.closes(); l.comments() {
		if l.blank && !first {
			l.out.WriteByte('\n')
		}
		first = false
		l.entry(inner)
	}
	if len(l.lead) > 0 {
		if l.blank && !first {
			l.out.WriteByte('\n')
		}
		if l.lead[len(l.lead)-1] == "" {
			l.lead = l.lead[:len(l.lead)-1]
		}
		l.leading(inner)
	}
	closing := l.word(l.tokens[l.at])
	l.at++
	return indent + closing
}

func (l *layout) closes() bool {
	k := l.tokens[l.at].kind
	return k == braceClose || k == bracketClose
}

// entry writes one entry of an object or list, with its comma.
func (l *layout) entry(indent string) {
	var p phrase
	if _, after := l.look(); after.kind == colon {
		l.into(&p)
		l.into(&p)
		p.b.WriteByte(' ')
	}
	l.skipComments()
	l.leading(indent)
	line := l.value(indent+p.b.String(), indent)
	// A literal may have moved comments of its own out of its way.
	late := l.lead
	l.lead = nil
	if l.next().kind == comma {
		var rest phrase
		l.into(&rest)
		late = append(late, l.lead...)
		l.lead = nil
		line += ","
	}
	comment := l.trailing()
	if comment == "" && len(late) > 0 {
		comment, late = late[0], late[1:]
	}
	l.line(line, comment)
	l.lead = late
	l.leading(indent)
}

// typ reads a type: a name, or what is between its brackets.
func (l *layout) typ(p *phrase) {
	depth := 0
	for {
		first := l.next()
		switch first.kind {
		case bracketOpen, braceOpen:
			depth++
		case bracketClose, braceClose:
			depth--
		}
		ofPatch := l.word(first) == "patch" && p.last != dot
		l.into(p)
		after := l.next().kind
		if depth == 0 && after != dot && p.last != dot && !ofPatch {
			return
		}
	}
}

func (l *layout) literal(p *phrase) {
	l.into(p)
	if l.next().kind == dot {
		l.into(p)
		l.into(p)
	}
}

// item reads a field, a member, an alternative, or what is retired.
func (l *layout) item(isMember bool) {
	lead := l.lead
	l.lead = nil
	var cells, rest []string
	cell := func(read func(p *phrase)) {
		var p phrase
		read(&p)
		cells = append(cells, p.b.String())
	}
	if l.retiredBegins() {
		cell(func(p *phrase) {
			l.into(p)
			if l.next().kind == hash {
				l.into(p)
				l.into(p)
			}
			if l.next().kind == text {
				l.into(p)
			}
		})
	} else {
		cell(func(p *phrase) { l.into(p); l.into(p) }) // #1
		cell(l.into)
		if !isMember {
			cell(func(p *phrase) {
				l.typ(p)
				if l.next().kind == question {
					l.into(p)
				}
			})
		}
		rest = l.clauses()
	}
	l.addItem(append(lead, l.lead...), cells, rest)
}

// addItem adds an item; what stands after the type goes on lines of its own,
// clause by clause, where it would be too wide.
func (l *layout) addItem(lead, cells, rest []string) {
	if len(rest) == 0 {
		l.add(lead, cells)
		return
	}
	whole := append(cells, strings.Join(rest, " "))
	if utf8.RuneCountInString(strings.Join(whole, " "))+2 <= maxWidth {
		l.add(lead, whole)
		return
	}
	l.add(lead, cells)
	first := len(l.rows) - 1
	for _, clause := range rest {
		l.rows = append(l.rows, row{cells: []string{"  " + clause}})
	}
	last := len(l.rows) - 1
	l.rows[last].comment, l.rows[first].comment = l.rows[first].comment, ""
}

// retiredBegins tells a retired item from a type of that name.
func (l *layout) retiredBegins() bool {
	next, after := l.look()
	return l.word(next) == "retired" && (after.kind == hash || after.kind == text)
}

// add adds an item to the body, with what stands before it and after.
func (l *layout) add(lead, cells []string) {
	comment := l.trailing()
	l.lead = lead
	l.leadRows()
	l.rows = append(l.rows, row{cells: cells, comment: comment})
}

// leadRows adds the comments before an item to the body.
func (l *layout) leadRows() {
	for _, line := range l.lead {
		l.rows = append(l.rows, row{cells: []string{line}, blank: line == ""})
	}
	l.lead = nil
}

// call reads a call with its clauses, or what holds for all calls.
func (l *layout) call() {
	lead := l.lead
	l.lead = nil
	var parts []string
	broken := false
	part := func(read func(p *phrase)) {
		broken = broken || len(parts) > 0 && l.next().firstHere
		var p phrase
		read(&p)
		parts = append(parts, p.b.String())
	}
	if !l.is("call") {
		part(l.clause)
	} else {
		part(func(p *phrase) {
			l.into(p) // call
			for p.last != arrow {
				l.into(p)
			}
			if l.is("stream") {
				if _, after := l.look(); after.kind != dot {
					l.into(p)
				}
			}
			l.literal(p)
			if p.last == parenOpen {
				l.into(p)
			}
		})
		for l.clauseBegins() {
			part(l.clause)
		}
	}
	lead = append(lead, l.lead...)
	l.lead = nil
	whole := strings.Join(parts, " ")
	if !broken && utf8.RuneCountInString(whole)+2 <= maxWidth {
		l.add(lead, []string{whole})
		return
	}
	l.add(lead, parts[:1])
	for _, clause := range parts[1:] {
		l.rows = append(l.rows, row{cells: []string{"  " + clause}})
	}
	// A comment after the last clause was read with the call's line.
	if last := len(l.rows) - 1; len(parts) > 1 {
		first := last - len(parts) + 1
		l.rows[last].comment, l.rows[first].comment = l.rows[first].comment, ""
	}
}

func (l *layout) clauseBegins() bool {
	return l.is("fails") || l.is("safe") || l.is("http") || l.is("needs") || l.is("idempotent") || l.markBegins()
}

// clause reads one clause of a call or service.
func (l *layout) clause(p *phrase) {
	l.into(p)
	switch p.lastWord {
	case "http":
		l.into(p)
		l.into(p)
		if l.next().kind == number {
			l.into(p)
		}
	case "deprecated":
		l.into(p)
	case "fails", "needs":
		for {
			l.literal(p) // a name, or alias.Name
			if k := l.next().kind; k != comma && k != bar && k != plus {
				return
			}
			l.into(p)
		}
	}
}

// body writes the rows: columns are aligned among rows that no blank line
// parts.
func (l *layout) body() {
	for start := 0; start < len(l.rows); {
		end := start
		for end < len(l.rows) && !l.rows[end].blank {
			end++
		}
		l.run(l.rows[start:end])
		if end < len(l.rows) {
			l.out.WriteByte('\n')
			end++
		}
		start = end
	}
}

func (l *layout) run(rows []row) {
	var widths []int
	for _, r := range rows {
		for i, cell := range r.cells[:max(0, len(r.cells)-1)] {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	for _, r := range rows {
		line := " "
		for i, cell := range r.cells {
			line += " " + cell
			if i < len(r.cells)-1 {
				line += strings.Repeat(" ", widths[i]-utf8.RuneCountInString(cell))
			}
		}
		l.line(strings.TrimRight(line, " "), r.comment)
	}
}
