package python

import (
	"strings"
	"unicode/utf8"
)

// width is how long a line may be before it is broken.
const width = 120

// layout breaks the lines that are too long as the language's formatters do:
// at a bracket, what is in it on a line of its own or, where that is too long as
// well, an item a line.
func layout(code []byte) []byte {
	var lines []string
	inDoc := false
	blank := 0
	for line := range strings.SplitSeq(string(code), "\n") {
		quotes := strings.Count(line, `"""`)
		if line != "" {
			blank = 0
		} else if blank++; blank > 2 && !inDoc {
			continue
		}
		if !inDoc && quotes == 0 {
			line = broken(line)
		}
		lines = append(lines, line)
		inDoc = inDoc != (quotes == 1)
	}
	return []byte(strings.Join(lines, "\n"))
}

// broken is a statement's line, as several where it is too long.
func broken(line string) string {
	text := strings.TrimLeft(line, " ")
	indent := line[:len(line)-len(text)]
	if !tooLong(line) || strings.HasPrefix(text, "#") || strings.HasPrefix(text, `"`) {
		return line
	}
	if result, ok := strings.CutPrefix(text, "return "); ok && len(split(result, " + ")) > 2 {
		return indent + "return (\n" + inBrackets(indent+"    ", result, false) + "\n" + indent + ")"
	}
	pairs := brackets(text)
	if len(pairs) == 0 {
		return line
	}
	pair := pairs[len(pairs)-1]
	if strings.HasPrefix(text, "def ") { // the parameters, not the result
		pair = pairs[0]
	}
	open, end := pair[0], pair[1]
	inside := strings.TrimSuffix(text[open+1:end], ",")
	// Arguments may share a line of their own; the items of a literal never do.
	literal := (open == 0 || !strings.ContainsRune("_)]", rune(text[open-1])) && !isLetter(text[open-1])) && len(split(inside, ", ")) > 1
	return indent + text[:open+1] + "\n" + inBrackets(indent+"    ", inside, literal) + "\n" + indent + text[end:]
}

func tooLong(line string) bool { return utf8.RuneCountInString(line) > width }

func isLetter(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9'
}

// inBrackets lays out what stands in brackets: in one line or, where that is
// too long or not wanted, in the parts that hold together least.
func inBrackets(indent, text string, apart bool) string {
	if !apart && !tooLong(indent+text) {
		return indent + text
	}
	var lines []string
	switch items := split(text, ", "); {
	case len(split(text, " for ")) > 1:
		for i, clause := range split(text, " for ") {
			if i > 0 {
				clause = "for " + clause
			}
			lines = append(lines, inBrackets(indent, clause, false))
		}
	case len(items) > 1:
		for _, item := range items {
			if tooLong(indent + item + ",") {
				lines = append(lines, inBrackets(indent, item, true)+",")
			} else {
				lines = append(lines, indent+item+",")
			}
		}
	case len(conditional(text)) > 1:
		for _, clause := range conditional(text) {
			lines = append(lines, inBrackets(indent, clause, false))
		}
	case len(split(text, " + ")) > 1:
		for i, term := range split(text, " + ") {
			if i > 0 {
				term = "+ " + term
			}
			lines = append(lines, broken(indent+term))
		}
	default:
		return broken(indent + text)
	}
	return strings.Join(lines, "\n")
}

// brackets finds the pairs of brackets that are in no other and not empty:
// where they open and close.
func brackets(text string) [][2]int {
	var found [][2]int
	depth, start := 0, 0
	outside(text, func(i int, c byte) {
		switch c {
		case '(', '[', '{':
			if depth++; depth == 1 {
				start = i
			}
		case ')', ']', '}':
			if depth--; depth == 0 && i > start+1 {
				found = append(found, [2]int{start, i})
			}
		}
	})
	return found
}

// split splits a text at what is in no brackets and no strings.
func split(text, at string) []string {
	var parts []string
	depth, from := 0, 0
	outside(text, func(i int, c byte) {
		switch c {
		case '(', '[', '{':
			depth++
		case ')', ']', '}':
			depth--
		}
		if depth == 0 && strings.HasPrefix(text[i:], at) {
			parts = append(parts, text[from:i])
			from = i + len(at)
		}
	})
	return append(parts, text[from:])
}

// conditional splits "a if b else c".
func conditional(text string) []string {
	when := split(text, " if ")
	if len(when) != 2 {
		return nil
	}
	other := split(when[1], " else ")
	if len(other) != 2 {
		return nil
	}
	return []string{when[0], "if " + other[0], "else " + other[1]}
}

// outside gives each byte of a text that is in no string.
func outside(text string, each func(i int, c byte)) {
	for i := 0; i < len(text); i++ {
		if c := text[i]; c == '"' || c == '\'' {
			for i++; i < len(text) && text[i] != c; i++ {
				if text[i] == '\\' {
					i++
				}
			}
			continue
		}
		each(i, text[i])
	}
}
