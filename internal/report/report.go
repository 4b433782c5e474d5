// Package report is how things look: findings with the line underlined,
// aligned tables, colour on a terminal, and JSON. It computes nothing.
package report

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"faithfulcourier/internal/source"
)

// Printer writes to one stream.
type Printer struct {
	w     io.Writer
	look  Look
	refs  [2]string // what is compared, while that is printed
	needs string    // the version that a comparison needs
}

// New returns a printer to w.
func New(w io.Writer, look Look) *Printer { return &Printer{w: w, look: look} }

// Style is a look of text on a terminal.
type Style string

// The styles.
const (
	Bold   Style = "1"
	Faint  Style = "2"
	Red    Style = "1;31"
	Green  Style = "32"
	Yellow Style = "33"
	Blue   Style = "36"
)

// In returns text in a style, when colour is on.
func (p *Printer) In(style Style, text string) string {
	if !p.look.Colour || text == "" || style == "" {
		return text
	}
	return "\x1b[" + string(style) + "m" + text + "\x1b[0m"
}

// Line writes one line. What a terminal would obey in it is shown instead.
func (p *Printer) Line(format string, args ...any) {
	if len(args) > 0 {
		format = fmt.Sprintf(format, args...)
	}
	p.Text(format + "\n")
}

// Text writes text as it is, but shows what a terminal would obey.
func (p *Printer) Text(text string) {
	io.WriteString(p.w, printable(text, p.look.Colour)) // a broken pipe has no one to tell
}

// hanging is how far the second line of a finding is indented.
const hanging = 7

// Of more than manyAdvice pieces of advice, the first shownPerRule of each rule are shown.
const manyAdvice, shownPerRule = 20, 3

// shownPerFile is how many errors of one file are printed.
const shownPerFile = 50

// Findings writes findings, each with its line underlined.
func (p *Printer) Findings(list []source.Finding) {
	shown := map[*source.File]int{}
	total := map[*source.File]int{}
	for _, f := range list {
		total[f.Place.File]++
	}
	for _, f := range list {
		if shown[f.Place.File]++; shown[f.Place.File] <= shownPerFile {
			p.finding(f)
		} else if shown[f.Place.File] == total[f.Place.File] {
			p.Line("%s: %d more, not shown", f.Place.File.Name, total[f.Place.File]-shownPerFile)
			p.Line("")
		}
	}
}

// Advice writes advice, a line each: it must not drown what matters more. why
// says for each rule, once, why it matters.
func (p *Printer) Advice(list []source.Finding, why map[string]string) {
	count := map[string]int{}
	var names []string
	for _, f := range list {
		if count[f.Name]++; count[f.Name] == 1 {
			names = append(names, f.Name)
		}
		if len(list) > manyAdvice && count[f.Name] > shownPerRule {
			continue
		}
		p.Sentence(p.In(Bold, Where(f.Place))+": "+p.In(Yellow, "advice")+": ",
			sentence(f.Message, f.Fix)+" "+p.In(Faint, "("+f.Name+")"), hanging)
	}
	var rows [][]string
	for _, name := range names {
		if more := count[name] - shownPerRule; len(list) > manyAdvice && more > 0 {
			p.Line("%s more of %s: faithful check --as json has all", p.In(Bold, fmt.Sprint(more)), name)
		}
		if why[name] != "" {
			rows = append(rows, []string{name, why[name]})
		}
	}
	if len(rows) > 0 {
		p.Line("")
		p.Line("%s", p.In(Bold, "Why"))
		p.Table("  ", rows)
		p.Line("")
	}
}

// Fixed writes findings that were fixed, each with its lines before and
// after.
func (p *Printer) Fixed(list []source.Finding) {
	for _, f := range list {
		p.Sentence(p.In(Bold, Where(f.Place))+": "+p.In(Green, "fixed")+": ",
			sentence(f.Message, f.Fix)+" "+p.In(Faint, "("+f.Name+")"), hanging)
		after, _ := source.Apply(f.Place.File, f.Edits)
		p.change(f.Place.File.Text, after)
		p.Line("")
	}
}

// change writes the lines in which two texts differ, from the first to the
// last of them in each.
func (p *Printer) change(before, after string) {
	old, new := strings.Split(before, "\n"), strings.Split(after, "\n")
	first := 0
	for first < min(len(old), len(new)) && old[first] == new[first] {
		first++
	}
	tail := 0
	for tail < min(len(old), len(new))-first && old[len(old)-1-tail] == new[len(new)-1-tail] {
		tail++
	}
	show := func(style Style, sign string, lines []string) {
		for i, line := range lines {
			// Edits can lie far apart: what is between them is left out.
			if len(lines) > 4 && i == 1 {
				p.Line("      %s", p.In(Faint, "…"))
			}
			if len(lines) <= 4 || i == 0 || i == len(lines)-1 {
				p.Line("    %s", p.In(style, sign+" "+Printable(strings.TrimRight(line, "\r"))))
			}
		}
	}
	show(Red, "-", old[first:len(old)-tail])
	show(Green, "+", new[first:len(new)-tail])
}

func (p *Printer) finding(f source.Finding) {
	word := p.In(Red, "error")
	if f.Severity == source.Advice {
		word = p.In(Yellow, "advice")
	}
	p.Sentence(p.In(Bold, Where(f.Place))+": "+word+": ", f.Message+" "+p.In(Faint, "("+f.Name+")"), hanging)
	p.excerpt(f.Place, Red, "")
	for _, n := range f.Notes {
		if n.Place.File != f.Place.File && n.Place.File != nil {
			p.Line("      %s", p.In(Faint, "in "+Where(n.Place)+":"))
		}
		p.excerpt(n.Place, Blue, n.Message)
	}
	if f.Fix != "" {
		p.Sentence("       "+p.In(Green, "fix:")+" ", f.Fix, hanging+len("fix: "))
	}
	p.Line("")
}

// Where writes a place as file:line:column.
func Where(place source.Place) string {
	if place.File == nil {
		return "faithful"
	}
	at := place.File.Position(place.Span.Start)
	return fmt.Sprintf("%s:%d:%d", place.File.Name, at.Line, at.Column)
}

// excerpt writes a line of a file with a part underlined, and a message
// after the underline.
func (p *Printer) excerpt(place source.Place, style Style, message string) {
	if place.File == nil || place.File.Text == "" || strings.IndexByte(place.File.Text, 0) >= 0 {
		return // nothing to see: not even in a binary file
	}
	start, end := place.File.Position(place.Span.Start), place.File.Position(place.Span.End)
	runes := []rune(place.File.Line(start.Line))
	from := min(start.Column-1, len(runes))
	to := len(runes)
	if end.Line == start.Line {
		to = min(end.Column-1, len(runes))
	}
	runes, from, to = window(runes, from, to)
	var before strings.Builder
	for _, r := range runes[:from] {
		if r == '\t' {
			before.WriteRune('\t') // so that the underline lines up
		} else {
			before.WriteString(strings.Repeat(" ", width(r)))
		}
	}
	length := 0
	for _, r := range runes[from:to] {
		length += width(r)
	}
	gutter := fmt.Sprintf("%5d", start.Line)
	p.Line("%s %s", p.In(Faint, gutter+" │"), Printable(string(runes)))
	line := before.String() + p.In(style, strings.Repeat("^", max(1, length)))
	if message != "" {
		line += " " + p.In(style, message)
	}
	p.Line("%s %s", p.In(Faint, "      │"), line)
}

// window cuts a very long line to what surrounds the underlined part.
func window(runes []rune, from, to int) ([]rune, int, int) {
	const wide = 160
	if len(runes) <= wide {
		return runes, from, to
	}
	start := max(0, from-wide/2)
	stop := min(len(runes), start+wide)
	return runes[start:stop], from - start, min(max(to, from), stop) - start
}

// width is how many columns a character takes as it is printed: two for East Asian wide
// ones.
func width(r rune) int {
	if IsControl(r) {
		return len(escaped(r))
	}
	if r >= 0x1100 && r <= 0x115f || r >= 0x2e80 && r <= 0xa4cf || r >= 0xac00 && r <= 0xd7a3 || r >= 0xf900 &&
		r <= 0xfaff || r >= 0xff00 && r <= 0xff60 || r >= 0x1f300 && r <= 0x1faff {
		return 2
	}
	return 1
}

// Table writes rows in aligned columns, the last one ragged.
func (p *Printer) Table(indent string, rows [][]string) {
	widths := p.columns(rows)
	for _, row := range rows {
		p.row(indent, row, widths)
	}
}

// columns are the widths of all columns but the last.
func (p *Printer) columns(rows [][]string) []int {
	var widths []int
	for _, row := range rows {
		for i, cell := range row[:len(row)-1] {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], columnsOf(cell))
		}
	}
	return widths
}

// columnsOf is how wide a cell is: a style takes no room.
func columnsOf(cell string) int {
	n, inside := 0, false
	for _, r := range cell {
		switch {
		case r == 0x1b:
			inside = true
		case inside:
			inside = r != 'm'
		default:
			n++
		}
	}
	return n
}

func (p *Printer) row(indent string, row []string, widths []int) {
	line, hang := indent, len(indent)
	for i, cell := range row {
		line += cell
		if i < len(row)-1 {
			line += strings.Repeat(" ", widths[i]-columnsOf(cell)+2)
			hang += widths[i] + 2
		}
	}
	line = strings.TrimRight(line, " ")
	if last := row[len(row)-1]; p.look.Width-hang >= minWidth && strings.HasSuffix(line, last) {
		p.Sentence(strings.TrimSuffix(line, last), last, hang)
		return
	}
	p.Line("%s", line)
}

// JSON writes v as indented JSON.
func (p *Printer) JSON(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := p.w.Write(VisibleJSON(b.Bytes()))
	return err
}

// VisibleJSON escapes in the strings of a JSON text what a terminal would obey: the same
// JSON (RFC 8259, section 7).
func VisibleJSON(text []byte) []byte {
	if !bytes.ContainsFunc(text, IsControl) {
		return text
	}
	var b []byte
	for _, r := range string(text) {
		if IsControl(r) {
			b = fmt.Appendf(b, `\u%04x`, r)
		} else {
			b = utf8.AppendRune(b, r)
		}
	}
	return b
}

// Finding is a finding as JSON has it.
type Finding struct {
	Name     string `json:"name"`
	Severity string `json:"severity"` // "error" or "advice"
	Place
	Message string `json:"message"`
	Fix     string `json:"fix,omitempty"`
	Notes   []Note `json:"notes,omitempty"`
	Edits   []Edit `json:"edits,omitempty"` // that carry out the fix
	Sure    bool   `json:"sure,omitempty"`  // the edits are certain
}

// Edit is an edit as JSON has it: text in the place of what stands there.
type Edit struct {
	Place
	Text string `json:"text"`
}

// Place is a place as JSON has it; lines and columns begin at 1.
type Place struct {
	File  string           `json:"file,omitempty"`
	Start *source.Position `json:"start,omitempty"`
	End   *source.Position `json:"end,omitempty"`
}

// Note is a second place as JSON has it.
type Note struct {
	Place
	Message string `json:"message"`
}

func placeJSON(p source.Place) Place {
	if p.File == nil {
		return Place{}
	}
	start, end := p.File.Position(p.Span.Start), p.File.Position(p.Span.End)
	return Place{File: p.File.Name, Start: &start, End: &end}
}

// FindingsJSON turns findings into what JSON has; the result is never nil.
func FindingsJSON(list []source.Finding) []Finding {
	out := []Finding{}
	for _, f := range list {
		j := Finding{Name: f.Name, Severity: "error", Place: placeJSON(f.Place), Message: f.Message, Fix: f.Fix}
		if f.Severity == source.Advice {
			j.Severity = "advice"
		}
		for _, n := range f.Notes {
			j.Notes = append(j.Notes, Note{placeJSON(n.Place), n.Message})
		}
		for _, e := range f.Edits {
			j.Edits = append(j.Edits, Edit{placeJSON(e.Place), e.Text})
		}
		j.Sure = f.Sure && len(f.Edits) > 0
		out = append(out, j)
	}
	return out
}

// Plural writes a count with its noun: "1 file", "2 files".
func Plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "y") {
		return fmt.Sprintf("%d %sies", n, strings.TrimSuffix(noun, "y"))
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Faintly returns a writer of text that matters less.
func Faintly(w io.Writer, colour bool) io.Writer {
	if !colour {
		return w
	}
	return faint{w}
}

type faint struct{ w io.Writer }

func (f faint) Write(b []byte) (int, error) {
	_, err := io.WriteString(f.w, "\x1b["+string(Faint)+"m"+strings.TrimRight(string(b), "\n")+"\x1b[0m\n")
	return len(b), err
}
