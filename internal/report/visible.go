package report

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

// IsControl tells what a terminal obeys or what changes how a line is read: the control
// characters C0, except tab and newline, DEL and C1 (ISO/IEC 6429), what sets the
// direction of text (UAX #9), line and paragraph separators, and the byte order mark.
func IsControl(r rune) bool {
	switch {
	case r < 0x20:
		return r != '\t' && r != '\n'
	case r < 0x7f:
		return false
	case r < 0xa0:
		return true
	}
	return r == 0x061c || r == 0x200e || r == 0x200f || r >= 0x2028 && r <= 0x202e || r >= 0x2066 && r <= 0x2069 ||
		r == 0xfeff
}

// escaped is how a control character is shown.
func escaped(r rune) string {
	if r < 0x80 {
		return fmt.Sprintf(`\x%02x`, r)
	}
	return fmt.Sprintf(`\u%04x`, r)
}

// Printable shows in a text what a terminal would obey, and bytes that are not UTF-8.
func Printable(s string) string { return printable(s, false) }

// printable is Printable; with styles, those of Printer.In stay.
func printable(s string, styles bool) string {
	if utf8.ValidString(s) && !strings.ContainsFunc(s, IsControl) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case styles && r == 0x1b && styleLength(s[i:]) > 0:
			size = styleLength(s[i:])
			b.WriteString(s[i : i+size])
		case IsControl(r):
			b.WriteString(escaped(r))
		default:
			b.WriteString(s[i : i+size])
		}
		i += size
	}
	return b.String()
}

// sequences are all that Printer.In writes to a terminal: whatever else may be in a text,
// it can at most change the look of what follows.
var sequences = func() (list []string) {
	for _, style := range []Style{Bold, Faint, Red, Green, Yellow, Blue, "0"} {
		list = append(list, "\x1b["+string(style)+"m")
	}
	return list
}()

// styleLength is the length of the style that a text begins with, or 0.
func styleLength(s string) int {
	i := slices.IndexFunc(sequences, func(sequence string) bool { return strings.HasPrefix(s, sequence) })
	if i < 0 {
		return 0
	}
	return len(sequences[i])
}

// Screen returns a writer of text to a terminal, which shows what the terminal would
// obey, but for styles. What others wrote is text, too: payloads, names, notes.
func Screen(w io.Writer) io.Writer { return &screen{w: w} }

type screen struct {
	w    io.Writer
	rest []byte // the beginning of a character or of a style
}

func (s *screen) Write(b []byte) (int, error) {
	text := append(s.rest, b...)
	cut := len(text) - incomplete(text)
	s.rest = append([]byte(nil), text[cut:]...)
	if _, err := io.WriteString(s.w, printable(string(text[:cut]), true)); err != nil {
		return 0, err
	}
	return len(b), nil
}

// incomplete is how many bytes at the end may begin a character or a style.
func incomplete(b []byte) int {
	for n := 1; n <= min(utf8.UTFMax-1, len(b)); n++ {
		if at := b[len(b)-n:]; utf8.RuneStart(at[0]) {
			if !utf8.FullRune(at) {
				return n
			}
			break
		}
	}
	for n := min(6, len(b)); n > 0; n-- {
		at := string(b[len(b)-n:])
		if slices.ContainsFunc(sequences, func(sequence string) bool {
			return len(at) < len(sequence) &&
				strings.HasPrefix(sequence, at)
		}) {
			return n
		}
	}
	return 0
}
