package report

import (
	"strings"
)

// Look is what a stream is: colour and width are those of a terminal. The zero Look is
// for all else: text without styles, a sentence on one line.
type Look struct {
	Colour bool
	Width  int // columns; 0 for lines of any length
}

// Plain is the look of what programs read.
var Plain Look

// Sentence writes a sentence after what begins its line. On a terminal it is broken
// between words, and goes on below, hang columns from the left.
func (p *Printer) Sentence(begin, text string, hang int) {
	for _, line := range folded(begin+text, p.look.Width, hang) {
		p.Line("%s", line)
	}
}

// folded breaks a line between words so that it fits into a width, where that is
// possible: what is in double quotes is copied, and stays whole.
func folded(line string, width, hang int) []string {
	if width < minWidth || columnsOf(line) <= width {
		return []string{line}
	}
	var lines []string
	indent := len(line) - len(strings.TrimLeft(line, " "))
	now, at := line[:indent], indent
	for i, word := range words(line[indent:]) {
		n := columnsOf(word)
		if i > 0 && at+1+n > width {
			lines = append(lines, now)
			now, at = strings.Repeat(" ", hang), hang
		} else if i > 0 {
			now, at = now+" ", at+1
		}
		now, at = now+word, at+n
	}
	return append(lines, now)
}

// minWidth is the narrowest terminal that lines are broken for.
const minWidth = 40

// words are the parts of a line that stay whole: words, and short texts in quotes.
func words(line string) []string {
	const short = 40
	var list []string
	parts := strings.Split(line, " ")
	for i := 0; i < len(parts); i++ {
		word := parts[i]
		if strings.Count(word, `"`)%2 == 1 {
			whole := word
			for j := i + 1; j < len(parts) && len(whole) < short; j++ {
				whole += " " + parts[j]
				if strings.Count(parts[j], `"`)%2 == 1 {
					word, i = whole, j
					break
				}
			}
		}
		list = append(list, word)
	}
	return list
}
