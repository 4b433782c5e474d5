package syntax

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"faithfulcourier/internal/source"
)

// kind is the kind of a token.
type kind uint8

const (
	endOfFile   kind = iota
	lowerName        // snake_case
	pascalName       // PascalCase, also a single capital
	upperName        // UPPER_CASE of two letters or more
	oddName          // a name in none of the three styles
	number           // JSON number
	text             // JSON string, quotes included
	brokenText       // a string that is not closed or has a wrong escape
	lineComment      // from // to the end of its line; only when comments are kept
	docComment       // one line of ///
	strayDoc         // a /// after an item on its own line
	unknown          // a byte that begins nothing
	braceOpen
	braceClose
	bracketOpen
	bracketClose
	parenOpen
	parenClose
	colon
	comma
	dot
	dotDot
	question
	equals
	hash
	bar
	plus
	arrow
	atLeast // >=
	atMost  // <=
)

type token struct {
	kind      kind
	firstHere bool // first token on its line
	start     uint32
	end       uint32
}

func (t token) span() source.Span { return source.Span{Start: t.start, End: t.end} }

// scanner cuts text into tokens. It reports nothing itself: what is wrong has
// a token kind of its own, and the parser says so.
type scanner struct {
	text         string
	at           int
	line         bool // nothing but blanks since the line began
	keepComments bool
}

var punctuation = [128]kind{
	'{': braceOpen, '}': braceClose, '[': bracketOpen, ']': bracketClose, '(': parenOpen, ')': parenClose,
	':': colon, ',': comma, '?': question, '=': equals, '#': hash, '|': bar, '+': plus,
}

const (
	isLower = 1 << iota
	isUpper
	isDigit
	isUnderscore
)

var letters = func() (table [256]uint8) {
	for c := 'a'; c <= 'z'; c++ {
		table[c] = isLower
		table[c-'a'+'A'] = isUpper
	}
	for c := '0'; c <= '9'; c++ {
		table[c] = isDigit
	}
	table['_'] = isUnderscore
	return
}()

func (s *scanner) next() token {
	for s.at < len(s.text) {
		c := s.text[s.at]
		switch {
		case c == '\n':
			s.line = true
			s.at++
		case c == ' ' || c == '\t' || c == '\r':
			s.at++
		case c == '/' && strings.HasPrefix(s.text[s.at:], "//"):
			if strings.HasPrefix(s.text[s.at:], "///") {
				kind := docComment
				if !s.line {
					kind = strayDoc
				}
				return s.take(kind, s.lineLength())
			}
			if s.keepComments {
				return s.take(lineComment, s.lineLength())
			}
			s.at += s.lineLength()
		default:
			return s.token(c)
		}
	}
	return token{kind: endOfFile, firstHere: s.line, start: uint32(len(s.text)), end: uint32(len(s.text))}
}

func (s *scanner) take(k kind, length int) token {
	t := token{kind: k, firstHere: s.line, start: uint32(s.at), end: uint32(s.at + length)}
	s.at += length
	s.line = false
	return t
}

// lineLength is the number of bytes up to the end of the line.
func (s *scanner) lineLength() int {
	if i := strings.IndexByte(s.text[s.at:], '\n'); i >= 0 {
		return i
	}
	return len(s.text) - s.at
}

func (s *scanner) token(c byte) token {
	switch {
	case letters[c]&(isLower|isUpper|isUnderscore) != 0:
		return s.name()
	case letters[c]&isDigit != 0:
		return s.number()
	case c == '"':
		return s.string()
	case c == '-':
		if s.byteAt(1) == '>' {
			return s.take(arrow, 2)
		}
		if letters[s.byteAt(1)]&isDigit != 0 {
			return s.number()
		}
	case (c == '>' || c == '<') && s.byteAt(1) == '=':
		if c == '>' {
			return s.take(atLeast, 2)
		}
		return s.take(atMost, 2)
	case c == '.':
		if s.byteAt(1) == '.' {
			return s.take(dotDot, 2)
		}
		return s.take(dot, 1)
	case c < 128 && punctuation[c] != 0:
		return s.take(punctuation[c], 1)
	}
	if foreignLetter(s.text[s.at:]) > 0 {
		return s.name()
	}
	_, size := utf8.DecodeRuneInString(s.text[s.at:])
	return s.take(unknown, size)
}

func (s *scanner) byteAt(ahead int) byte {
	if s.at+ahead < len(s.text) {
		return s.text[s.at+ahead]
	}
	return 0
}

func (s *scanner) name() token {
	seen, i, odd := uint8(0), s.at, false
	last := byte(0)
	for ; i < len(s.text); i++ {
		class := letters[s.text[i]]
		if class == 0 {
			size := foreignLetter(s.text[i:])
			if size == 0 {
				break
			}
			odd, last, i = true, 'x', i+size-1
			continue
		}
		seen |= class
		// A "_" stands between two letters or digits, alone.
		odd = odd || class == isUnderscore && (last == '_' || last == 0)
		last = s.text[i]
	}
	first := letters[s.text[s.at]]
	k := oddName
	switch {
	case odd || last == '_':
	case first == isLower && seen&isUpper == 0:
		k = lowerName
	case first == isUpper && i-s.at == 1:
		k = pascalName
	case first == isUpper && seen&isLower != 0 && seen&isUnderscore == 0:
		k = pascalName
	case first == isUpper && seen&isLower == 0:
		k = upperName
	}
	return s.take(k, i-s.at)
}

// foreignLetter is the size of a letter outside of ASCII, or of a mark on one, at the
// start of a text; 0 where there is none. No name has any, and one with them is a whole.
func foreignLetter(text string) int {
	r, size := utf8.DecodeRuneInString(text)
	if r >= utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsMark(r) || unicode.IsDigit(r)) {
		return size
	}
	return 0
}

func (s *scanner) number() token {
	i := s.at
	if s.text[i] == '-' {
		i++
	}
	digits := func() {
		for i < len(s.text) && letters[s.text[i]] == isDigit {
			i++
		}
	}
	digits()
	// "." before "." is a range, never part of the number.
	if i+1 < len(s.text) && s.text[i] == '.' && letters[s.text[i+1]] == isDigit {
		i++
		digits()
	}
	if i < len(s.text) && (s.text[i] == 'e' || s.text[i] == 'E') {
		j := i + 1
		if j < len(s.text) && (s.text[j] == '+' || s.text[j] == '-') {
			j++
		}
		if j < len(s.text) && letters[s.text[j]] == isDigit {
			i = j
			digits()
		}
	}
	return s.take(number, i-s.at)
}

func (s *scanner) string() token {
	for i := s.at + 1; i < len(s.text); i++ {
		switch c := s.text[i]; {
		case c == '"':
			return s.take(text, i+1-s.at)
		case c == '\\':
			i++
		case c == '\n' || c == '\r':
			return s.take(brokenText, i-s.at)
		}
		if i < len(s.text) && s.text[i] == '\n' {
			return s.take(brokenText, i-s.at)
		}
	}
	return s.take(brokenText, len(s.text)-s.at)
}
