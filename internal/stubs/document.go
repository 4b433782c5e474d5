package stubs

import (
	"bytes"
	"fmt"
	"strings"
)

// Width is how long a line of generated code may be, in characters, before it
// is broken where its text says that it may be.
const Width = 120

// Code is a writer for source code. It knows the indent, and breaks the lines
// that are too long: Call, Brackets, Rows, Parens and Either return text that
// carries marks for the places where it may break. A mark is a control character,
// which no line of code holds.
type Code struct {
	b      bytes.Buffer
	indent int
	unit   string
}

// The marks. What stands between begin and end is a group: on one line if it
// fits, else with every break of its own taken.
const (
	begin = '\x0e'
	end   = '\x0f'
	soft  = '\x11' // a break or nothing
	blank = '\x12' // a break or a blank
	in    = '\x13' // what follows is indented one step further
	out   = '\x14' // one step less
	when  = '\x15' // the character that follows is written only where the group is broken

	marks = "\x0e\x0f\x11\x12\x13\x14\x15"
)

// Call writes what is called and its arguments, as Brackets does.
func Call(callee string, arguments ...string) string {
	return callee + Brackets("(", arguments, ")")
}

// Brackets writes items in brackets: on one line; or together on a line of their
// own; or one per line, each with a comma. A single item gets no comma.
func Brackets(open string, items []string, closing string) string {
	inside := strings.Join(items, "")
	if len(items) > 1 {
		inside = string(begin) + separated(items) + string(end)
	}
	return bracketed(open, inside, closing)
}

// Rows writes items in brackets: on one line, or one per line, each with a comma.
func Rows(open string, items []string, closing string) string {
	return bracketed(open, separated(items), closing)
}

// Bare is Rows without a comma after the last item, for languages that take none.
func Bare(open string, items []string, closing string) string {
	return bracketed(open, strings.Join(items, ","+string(blank)), closing)
}

// Parens writes one thing in parentheses, which get lines of their own where it
// is too long.
func Parens(inside string) string { return bracketed("(", inside, ")") }

// Optional writes items in brackets that are there only where they are too long,
// one per line, each with a comma. A single item gets no comma.
func Optional(open string, items []string, closing string) string {
	inside := separated(items)
	if len(items) == 1 {
		inside = items[0]
	}
	return string(begin) + string(when) + open + string(in) + string(soft) + inside + string(out) + string(soft) +
		string(when) + closing + string(end)
}

// Alternatives writes a blank and parts with a mark between them, or one per line,
// indented, each after the mark.
func Alternatives(mark rune, parts ...string) string {
	first := string(when) + string(mark) + string(when) + " "
	return string(begin) + string(in) + string(blank) + first +
		strings.Join(parts, string(blank)+string(mark)+" ") + string(out) + string(end)
}

// Either writes parts on one line with blanks between them, or one per line.
func Either(first string, others ...string) string {
	return string(begin) + strings.Join(append([]string{first}, others...), string(blank)) + string(end)
}

// Padded writes items as Rows does, with blanks inside of the brackets.
func Padded(open string, items []string, closing string) string {
	if len(items) == 0 {
		return open + closing
	}
	return open + string(begin) + string(in) + string(blank) + separated(items) + string(out) + string(blank) +
		string(end) + closing
}

func bracketed(open, inside, closing string) string {
	if inside == "" {
		return open + closing
	}
	return open + string(begin) + string(in) + string(soft) + inside + string(out) + string(soft) + string(end) + closing
}

func separated(items []string) string {
	if len(items) == 0 {
		return ""
	}
	return strings.Join(items, ","+string(blank)) + string(when) + ","
}

// NewCode returns a writer that indents by unit.
func NewCode(unit string) *Code { return &Code{unit: unit} }

// P writes one line, indented, as several where it is too long and may be broken;
// an empty line stays empty.
func (c *Code) P(format string, args ...any) {
	line := format
	if len(args) > 0 {
		line = fmt.Sprintf(format, args...)
	}
	switch {
	case line == "":
	case strings.ContainsAny(line, marks):
		c.lay(line)
	default:
		c.start(c.indent)
		c.b.WriteString(line)
	}
	c.b.WriteByte('\n')
}

// Add writes whole lines as they are.
func (c *Code) Add(lines []byte) { c.b.Write(lines) }

// In writes a line, then body one step further in, then the closing line.
func (c *Code) In(open string, body func(), closing string) {
	c.P("%s", open)
	c.Deeper(1, body)
	c.P("%s", closing)
}

// Blank leaves n blank lines after what was written, however many there are.
func (c *Code) Blank(n int) {
	c.b.Truncate(len(bytes.TrimRight(c.b.Bytes(), "\n")))
	if c.b.Len() > 0 {
		n++
	}
	c.b.WriteString(strings.Repeat("\n", n))
}

// Deeper runs body with the indent n steps further in; n may be negative.
func (c *Code) Deeper(n int, body func()) {
	c.indent += n
	body()
	c.indent -= n
}

// Bytes returns what was written.
func (c *Code) Bytes() []byte { return c.b.Bytes() }

func (c *Code) start(indent int) {
	for range indent {
		c.b.WriteString(c.unit)
	}
}

// lay writes a line with marks.
func (c *Code) lay(line string) {
	indent := c.indent
	column := indent * len(c.unit)
	c.start(indent)
	broken := []bool{false} // the groups that the place is in, the outermost first
	hidden := false
	for i, r := range line {
		inner := len(broken) - 1
		switch r {
		case begin:
			broken = append(broken, column+flat(line[i:], broken) > Width)
		case end:
			broken = broken[:inner]
		case in:
			indent++
		case out:
			indent--
		case soft, blank:
			switch {
			case broken[inner]:
				c.b.WriteByte('\n')
				c.start(indent)
				column = indent * len(c.unit)
			case r == blank:
				c.b.WriteByte(' ')
				column++
			}
		case when:
			hidden = !broken[inner]
		default:
			if !hidden {
				c.b.WriteRune(r)
				column++
			}
			hidden = false
		}
	}
}

// flat is how wide the group at the start of a text is on one line, with what
// follows up to the next break that is taken anyway.
func flat(text string, broken []bool) int {
	width, depth, inner := 0, 0, len(broken)-1
	for _, r := range text {
		switch r {
		case begin:
			depth++
		case end:
			if depth--; depth < 0 {
				depth = 0
				inner--
			}
		case soft, blank:
			if depth == 0 && broken[inner] {
				return width
			}
			if r == blank {
				width++
			}
		case in, out:
		case when:
			width-- // the character after it is not there
		default:
			width++
		}
	}
	return width
}
