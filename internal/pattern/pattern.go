// Package pattern reads the part of regular expressions that ECMAScript (with
// the flag u), RE2, Python, Java and Rust read alike, and names what is outside
// of it. A pattern is looked for anywhere in a text; its anchors are explicit.
//
// It must not know definitions, and matches by the standard library alone.
package pattern

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// MaxRepeat is how often something may be repeated, repeats of repeats
// multiplied: RE2 refuses more.
const MaxRepeat = 1000

// maxNesting is how deeply groups may nest.
const maxNesting = 100

// Problem is why a pattern is refused: bytes Start to End of it, the construct
// by its name, and what to write instead (or "").
type Problem struct {
	Start, End int
	Message    string
	Fix        string
}

func (p *Problem) Error() string { return p.Message }

// Form tells the nodes of a pattern apart.
type Form uint8

// The forms of a node.
const (
	Class    Form = iota // one code point out of Ranges
	Sequence             // Parts, one after the other
	Choice               // one of Parts
	Repeat               // Parts[0], Min to Max times
	Begin                // the beginning of the text
	End                  // the end of the text
)

// Unbounded is the Max of a Repeat without one.
const Unbounded = -1

// Range is code points from Low to High, both included.
type Range struct{ Low, High rune }

// Node is a part of a pattern.
type Node struct {
	Form     Form
	Ranges   []Range // of a Class, sorted, without overlaps
	Parts    []*Node
	Min, Max int
}

// Parse reads a pattern.
func Parse(text string) (*Node, *Problem) {
	p := &parser{text: text}
	if !utf8.ValidString(text) {
		return nil, &Problem{Start: 0, End: len(text), Message: "bytes that are not UTF-8"}
	}
	node := p.choice(0)
	if p.problem == nil && p.at < len(text) {
		p.refuse(p.at, p.at+1, "a ) that closes nothing", `write \)`)
	}
	if p.problem == nil {
		p.multiplied(node, 1)
	}
	if p.problem != nil {
		return nil, p.problem
	}
	return node, nil
}

// Compile returns a matcher for a pattern that Parse accepts.
func Compile(text string) (*regexp.Regexp, error) { return regexp.Compile(text) }

// Bounded tells whether what matches can't be of any length: the pattern is
// anchored at both ends, and repeats nothing without a limit.
func (n *Node) Bounded() bool {
	switch n.Form {
	case Choice:
		for _, part := range n.Parts {
			if !part.Bounded() {
				return false
			}
		}
		return true
	case Sequence:
		last := len(n.Parts) - 1
		return last > 0 && n.Parts[0].Form == Begin && n.Parts[last].Form == End && !n.unlimited()
	}
	return false
}

func (n *Node) unlimited() bool {
	if n.Form == Repeat && n.Max == Unbounded {
		return true
	}
	for _, part := range n.Parts {
		if part.unlimited() {
			return true
		}
	}
	return false
}

// Size is about how many parts a matcher of the pattern has: what is repeated
// counts as often as it must.
func (n *Node) Size() int {
	size := 1
	for _, part := range n.Parts {
		size += part.Size()
	}
	if n.Form == Repeat {
		size *= max(1, n.Min, n.Max)
	}
	return size
}

// Shortest returns a text that matches, made of as few parts as may be and of
// letters and digits where there is a choice. What anchors say is not looked at.
func (n *Node) Shortest() string {
	switch n.Form {
	case Class:
		for _, wanted := range []rune{'a', 'A', '0', '-', ' '} {
			for _, r := range n.Ranges {
				if r.Low <= wanted && wanted <= r.High {
					return string(wanted)
				}
			}
		}
		for _, r := range n.Ranges {
			if r.High > ' ' {
				return string(max(r.Low, '!'))
			}
		}
		return string(n.Ranges[0].Low)
	case Choice:
		return n.Parts[0].Shortest()
	case Repeat:
		return strings.Repeat(n.Parts[0].Shortest(), n.Min)
	}
	text := ""
	for _, part := range n.Parts {
		text += part.Shortest()
	}
	return text
}

type parser struct {
	text    string
	at      int
	problem *Problem
}

// refuse keeps the first problem.
func (p *parser) refuse(start, end int, construct, fix string) {
	if p.problem == nil {
		p.problem = &Problem{Start: start, End: min(end, len(p.text)), Message: construct, Fix: fix}
	}
	p.at = len(p.text)
}

func (p *parser) peek(s string) bool { return strings.HasPrefix(p.text[p.at:], s) }

func (p *parser) rune() rune {
	r, size := utf8.DecodeRuneInString(p.text[p.at:])
	p.at += size
	return r
}

func (p *parser) choice(depth int) *Node {
	if depth > maxNesting {
		p.refuse(p.at, p.at+1, fmt.Sprintf("groups nested more than %d deep", maxNesting), "")
		return nil
	}
	parts := []*Node{p.sequence(depth)}
	for p.problem == nil && p.peek("|") {
		p.at++
		parts = append(parts, p.sequence(depth))
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return &Node{Form: Choice, Parts: parts}
}

func (p *parser) sequence(depth int) *Node {
	n := &Node{Form: Sequence}
	for p.at < len(p.text) && !p.peek("|") && !p.peek(")") {
		start := p.at
		atom := p.atom(depth)
		atom = p.repeat(atom, start)
		if p.problem != nil {
			return nil
		}
		n.Parts = append(n.Parts, atom)
	}
	return n
}

func (p *parser) atom(depth int) *Node {
	start := p.at
	switch c := p.rune(); c {
	case '^':
		return &Node{Form: Begin}
	case '$':
		return &Node{Form: End}
	case '(':
		return p.group(start, depth)
	case '[':
		return p.class(start)
	case '\\':
		return p.escape(start)
	case '.':
		p.refuse(start, p.at, "the dot: languages differ on which line ends it leaves out",
			`write [^\n], in a definition "[^\\n]"`)
	case '*', '+', '?':
		p.refuse(start, p.at, fmt.Sprintf("a %c that repeats nothing", c), fmt.Sprintf(`write \%c for the character`, c))
	case '{', '}', ']':
		p.refuse(start, p.at, fmt.Sprintf("a %c on its own", c), fmt.Sprintf(`write \%c for the character`, c))
	default:
		return &Node{Form: Class, Ranges: []Range{{c, c}}}
	}
	return nil
}

const alternatives = "write out what may appear there: (?:…|…)"

func (p *parser) group(start, depth int) *Node {
	if p.peek("?") && !p.peek("?:") {
		construct, fix := "a flag in a group", "write out both cases: [Aa]"
		for _, g := range []struct{ begins, construct, fix string }{
			{"?=", "lookahead", alternatives}, {"?!", "lookahead", alternatives},
			{"?<=", "lookbehind", alternatives}, {"?<!", "lookbehind", alternatives},
			{"?<", "a named group", "write (…)"}, {"?P", "a named group", "write (…)"}, {"?>", "an atomic group", "write (…)"},
			{"?#", "a comment", "remove it"},
		} {
			if p.peek(g.begins) {
				construct, fix = g.construct, g.fix
				break
			}
		}
		p.refuse(start, p.at+2, construct, fix)
		return nil
	}
	if p.peek("?:") {
		p.at += 2
	}
	n := p.choice(depth + 1)
	if p.problem != nil {
		return nil
	}
	if !p.peek(")") {
		p.refuse(start, start+1, "a ( that is never closed", `write \( for the character`)
		return nil
	}
	p.at++
	return n
}

// repeat reads what repeats an atom, if anything does.
func (p *parser) repeat(atom *Node, start int) *Node {
	if p.problem != nil || p.at >= len(p.text) {
		return atom
	}
	repeat := p.at
	n := &Node{Form: Repeat, Parts: []*Node{atom}}
	switch p.text[p.at] {
	case '*':
		n.Min, n.Max = 0, Unbounded
	case '+':
		n.Min, n.Max = 1, Unbounded
	case '?':
		n.Min, n.Max = 0, 1
	case '{':
		if !p.counts(n) {
			return nil
		}
		p.at--
	default:
		return atom
	}
	p.at++
	switch {
	case atom.Form == Begin || atom.Form == End:
		p.refuse(start, p.at, "a repeated anchor", "remove what repeats it")
	case p.peek("?"):
		p.refuse(repeat, p.at+1, "a lazy repeat: a text matches or not, however it is looked for", "remove the ?")
	case p.peek("+"):
		p.refuse(repeat, p.at+1, "a possessive repeat", "remove the second +")
	case p.peek("*") || p.peek("{"):
		p.refuse(repeat, p.at+1, "a repeat of a repeat", "put the inner one in a group: (?:…)")
	}
	return n
}

// counts reads {n}, {n,} or {n,m}.
func (p *parser) counts(n *Node) bool {
	start := p.at
	end := strings.IndexByte(p.text[p.at:], '}')
	if end < 0 {
		p.refuse(start, start+1, "a { on its own", `write \{ for the character`)
		return false
	}
	end += p.at
	low, high, isRange := strings.Cut(p.text[p.at+1:end], ",")
	if low == "" && isRange {
		p.refuse(start, end+1, "a repeat without its lower limit", "write {0,"+high+"}")
		return false
	}
	number := func(s string) int {
		v, err := strconv.ParseUint(s, 10, 31)
		switch {
		case err != nil && strings.Trim(s, "0123456789") == "" && s != "", err == nil && v > MaxRepeat:
			p.refuse(start, end+1, fmt.Sprintf("a repeat over %d", MaxRepeat), "limit the length instead: where length …")
		case err != nil || len(s) > 1 && s[0] == '0':
			p.refuse(start, end+1, "a { on its own", `write \{ for the character, or {2,5} to repeat`)
		}
		return int(v)
	}
	n.Min = number(low)
	n.Max = n.Min
	if isRange {
		n.Max = Unbounded
		if high != "" {
			n.Max = number(high)
		}
	}
	if p.problem == nil && n.Max != Unbounded && n.Max < n.Min {
		p.refuse(start, end+1, "a repeat whose limits are in the wrong order", fmt.Sprintf("write {%d,%d}", n.Max, n.Min))
	}
	if p.problem == nil {
		p.at = end + 1
	}
	return p.problem == nil
}

// multiplied refuses repeats that are too many when multiplied.
func (p *parser) multiplied(n *Node, times int) {
	if n.Form == Repeat {
		times *= max(1, n.Min, n.Max)
		if times > MaxRepeat {
			p.refuse(0, len(p.text), fmt.Sprintf("repeats that make more than %d together", MaxRepeat),
				"limit the length instead: where length …")
			return
		}
	}
	for _, part := range n.Parts {
		p.multiplied(part, times)
	}
}

const metacharacters = `^$\.*+?()[]{}|`

var (
	digits = []Range{{'0', '9'}}
	word   = []Range{{'0', '9'}, {'A', 'Z'}, {'_', '_'}, {'a', 'z'}}
)

// escape reads what follows a backslash outside of a class.
func (p *parser) escape(start int) *Node {
	ranges := p.escaped(start, metacharacters)
	return &Node{Form: Class, Ranges: ranges}
}

// escaped reads an escape; plain are the characters that it may make plain.
func (p *parser) escaped(start int, plain string) []Range {
	if p.at == len(p.text) {
		p.refuse(start, start+1, `a \ at the end`, `write \\ for the character, in a definition "\\\\"`)
		return nil
	}
	c := p.rune()
	if strings.ContainsRune(plain, c) {
		return []Range{{c, c}}
	}
	switch c {
	case 'd':
		return digits
	case 'D':
		return inverted(digits)
	case 'w':
		return word
	case 'W':
		return inverted(word)
	case 'n':
		return []Range{{'\n', '\n'}}
	case 'r':
		return []Range{{'\r', '\r'}}
	case 't':
		return []Range{{'\t', '\t'}}
	case 'f':
		return []Range{{'\f', '\f'}}
	case 'x':
		if v, err := strconv.ParseUint(p.text[p.at:min(p.at+2, len(p.text))], 16, 8); err == nil && p.at+2 <= len(p.text) {
			p.at += 2
			return []Range{{rune(v), rune(v)}}
		}
		p.refuse(start, p.at, `a \x without two hexadecimal digits`, "")
		return nil
	}
	construct, fix := fmt.Sprintf(`the escape \%c`, c), fmt.Sprintf("write %c alone", c)
	switch {
	case c == 's' || c == 'S':
		construct, fix = fmt.Sprintf(`\%c: languages differ on what white space is`, c),
			`write the blanks that are meant: [ \t]`
	case c == 'b' || c == 'B':
		construct, fix = fmt.Sprintf(`\%c: languages differ on what a word is`, c), "write the characters next to the word"
	case c == 'A' || c == 'Z' || c == 'z' || c == 'G':
		construct, fix = fmt.Sprintf(`the anchor \%c`, c), "write ^ for the beginning, $ for the end"
	case c == 'p' || c == 'P':
		construct, fix = "a class of Unicode", "write out the characters: [A-Za-z]"
	case c >= '1' && c <= '9' || c == 'k':
		construct, fix = "a reference to a group", "write the group again"
	case c == 'u' || c == 'U':
		construct, fix = `the escape \`+string(c), `write the character, or in the string "\u00e9" with one backslash`
	case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '0':
		fix = ""
	}
	p.refuse(start, p.at, construct, fix)
	return nil
}

// class reads what stands between brackets.
func (p *parser) class(start int) *Node {
	negated := p.peek("^")
	if negated {
		p.at++
	}
	var ranges []Range
	first := true
	for !p.peek("]") {
		if p.at >= len(p.text) {
			p.refuse(start, start+1, "a [ that is never closed", `write \[ for the character`)
			return nil
		}
		from := p.at
		low, single := p.member(first)
		if p.problem != nil {
			return nil
		}
		first = false
		if !p.peek("-") || p.peek("-]") {
			ranges = append(ranges, low...)
			continue
		}
		p.at++
		if p.at >= len(p.text) {
			continue // never closed
		}
		high, alsoSingle := p.member(false)
		if p.problem != nil {
			return nil
		}
		if !single || !alsoSingle {
			p.refuse(from, p.at, "a range with a class at its end", `write \- for the character`)
			return nil
		}
		if high[0].High < low[0].Low {
			p.refuse(from, p.at, "a range in the wrong order", fmt.Sprintf("write %c-%c", high[0].Low, low[0].Low))
			return nil
		}
		ranges = append(ranges, Range{low[0].Low, high[0].High})
	}
	p.at++
	if len(ranges) == 0 {
		p.refuse(start, p.at, "an empty class", `write \] if ] is meant`)
		return nil
	}
	ranges = sorted(ranges)
	if negated {
		ranges = inverted(ranges)
	}
	return &Node{Form: Class, Ranges: ranges}
}

// member reads one character, or a class of them, inside of brackets.
func (p *parser) member(first bool) (ranges []Range, single bool) {
	start := p.at
	for _, double := range []string{"&&", "--", "~~"} {
		if p.peek(double) {
			p.refuse(start, start+2, "an operation on classes, as some languages read "+double,
				`write \- for a minus, and others once`)
			return nil, false
		}
	}
	switch c := p.rune(); c {
	case '[':
		p.refuse(start, p.at, "a class inside of a class", `write \[ for the character`)
	case '^':
		p.refuse(start, p.at, "a ^ inside of a class", `write \^ for the character`)
	case '-':
		if first || p.peek("]") {
			return []Range{{c, c}}, true
		}
		p.refuse(start, p.at, "a - in the middle of a class", `write \- for the character`)
	case '\\':
		ranges = p.escaped(start, metacharacters+"-")
		return ranges, len(ranges) == 1 && ranges[0].Low == ranges[0].High
	default:
		return []Range{{c, c}}, true
	}
	return nil, false
}
