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
	comment string   // behind the item, on its line
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

// next is the next token that is no comment; after is the one behind it.
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
	b    strings.Builder
	last kind
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
	p.last = k
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
	if l.is("const") {
		l.constant()
		return
	}
	isService := l.is("service")
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
			l.item()
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

func (l *layout) constant() {
	var p phrase
	for range 2 { // const NAME
		l.into(&p)
	}
	l.typ(&p)
	l.into(&p) // =
	l.literal(&p)
	l.marks(&p)
	l.finish(p.b.String())
}

// typ reads a type: a name, or what is between its brackets.
func (l *layout) typ(p *phrase) {
	depth := 0
	for {
		switch l.next().kind {
		case bracketOpen, braceOpen:
			depth++
		case bracketClose, braceClose:
			depth--
		}
		l.into(p)
		after := l.next().kind
		if depth == 0 && after != dot && p.last != dot {
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

// item reads a field, a member, or what is retired.
func (l *layout) item() {
	lead := l.lead
	l.lead = nil
	var cells []string
	cell := func(read func(p *phrase)) {
		var p phrase
		read(&p)
		cells = append(cells, p.b.String())
	}
	if l.is("retired") {
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
		if k := l.next().kind; k == lowerName && !l.retiredBegins() && !l.markBegins() || k == pascalName || k == upperName || k == oddName || k == bracketOpen || k == braceOpen {
			cell(func(p *phrase) {
				l.typ(p)
				if l.next().kind == question {
					l.into(p)
				}
			})
		}
		if l.next().kind == equals || l.markBegins() {
			cell(func(p *phrase) {
				if l.next().kind == equals {
					l.into(p)
					l.literal(p)
				}
				l.marks(p)
			})
		}
	}
	l.addItem(append(lead, l.lead...), cells)
}

// addItem adds an item; what stands behind the type goes on a line of its own
// where it would be too wide.
func (l *layout) addItem(lead, cells []string) {
	last := len(cells) - 1
	if last < 2 || utf8.RuneCountInString(strings.Join(cells, " "))+2 <= maxWidth {
		l.add(lead, cells)
		return
	}
	l.add(lead, cells[:last])
	behind := &l.rows[len(l.rows)-1]
	l.rows = append(l.rows, row{cells: []string{"  " + cells[last]}, comment: behind.comment})
	l.rows[len(l.rows)-2].comment = ""
}

// marks reads what stands behind the rest of an item, a word and its text.
func (l *layout) marks(p *phrase) {
	for l.markBegins() {
		l.into(p)
		l.into(p)
	}
}

func (l *layout) markBegins() bool {
	next, after := l.look()
	return next.kind == lowerName && l.word(next) == "deprecated" && after.kind == text
}

// retiredBegins tells a retired item from a type of that name.
func (l *layout) retiredBegins() bool {
	next, after := l.look()
	return l.word(next) == "retired" && (after.kind == hash || after.kind == text)
}

// add adds an item to the body, with what stands before it and behind.
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
	fails := func(p *phrase) {
		l.into(p)
		for {
			l.literal(p) // a name, or alias.Name
			if l.next().kind != comma {
				return
			}
			l.into(p)
		}
	}
	if l.is("fails") {
		part(fails)
	} else {
		part(func(p *phrase) {
			l.into(p) // call
			for p.last != arrow {
				l.into(p)
			}
			l.literal(p)
			if p.last == parenOpen {
				l.into(p)
			}
		})
		for l.clauseBegins() {
			switch {
			case l.is("fails"):
				part(fails)
			case l.markBegins():
				part(l.marks)
			default:
				part(l.into)
			}
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
	// A comment behind the last clause was read with the call's line.
	if last := len(l.rows) - 1; len(parts) > 1 {
		first := last - len(parts) + 1
		l.rows[last].comment, l.rows[first].comment = l.rows[first].comment, ""
	}
}

func (l *layout) clauseBegins() bool { return l.is("fails") || l.is("safe") || l.markBegins() }

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
