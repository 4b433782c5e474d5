package syntax

import (
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/source"
)

func (p *parser) literal() (Literal, bool) {
	l := Literal{Span: p.cur.span(), Text: p.textOf(p.cur)}
	if p.declBegins(true) { // it was forgotten: this is the next declaration
		p.expected("a value", `a value is a number, "text", true, false, an enum's member or a constant`)
		return l, false
	}
	switch p.cur.kind {
	case number:
		if digits := strings.TrimPrefix(l.Text, "-"); len(digits) > 1 && digits[0] == '0' && letters[digits[1]] == isDigit {
			p.report(l.Span, "leading-zero", "numbers have no leading zeros", "write "+strings.TrimLeft(digits, "0"))
		}
		if p.peek.kind == number && p.peek.start == p.cur.end && len(l.Text) == 4 {
			return p.unquoted(), true
		}
	case text:
		l.Form = TextLiteral
		value, problem := unquote(l.Text)
		if doubled, ok := doubledBackslashes(l.Text); problem != "" && ok {
			p.guess(l.Span, "bad-string", problem, "a backslash is written twice in a string: write "+doubled, doubled)
			value, _ = unquote(doubled)
		} else if problem != "" {
			p.report(l.Span, "bad-string", problem, "strings are written as in JSON")
			value = ""
		}
		l.Text = value
	case lowerName:
		if p.peek.kind == dot {
			l.Alias = Name{Text: l.Text, Span: l.Span}
			p.advance()
			p.advance()
			n, ok := p.name(upperName, "the name of a constant")
			if !ok {
				return l, false
			}
			return Literal{Form: ConstLiteral, Alias: l.Alias, Text: n.Text,
				Span: source.Span{Start: l.Span.Start, End: n.Span.End}}, true
		}
		l.Form = WordLiteral
		if l.Text == "true" || l.Text == "false" {
			l.Form = BoolLiteral
		}
	case upperName, pascalName:
		l.Form = ConstLiteral
	default:
		p.expected("a value", `a value is a number, "text", true, false, an enum's member or a constant`)
		return l, false
	}
	p.advance()
	return l, true
}

// unquoted reads a date or time whose quotes were forgotten: 2026-07-15.
func (p *parser) unquoted() Literal {
	span := p.cur.span()
	for p.cur.end == p.peek.start && (p.peek.kind == number || p.peek.kind == colon || p.peek.kind == upperName ||
		p.peek.kind == pascalName || p.peek.kind == oddName) {
		p.advance()
	}
	span.End = p.cur.end
	text := p.file.Text[span.Start:span.End]
	p.fix(span, "wrong-type", "dates and times are written in quotes", "write "+strconv.Quote(text),
		p.edit(span, strconv.Quote(text)))
	p.advance()
	return Literal{Form: BrokenLiteral, Span: span, Text: text}
}

// unquote undoes the escapes of a JSON string (RFC 8259, section 7). The
// second result says what is wrong, or is empty.
func unquote(quoted string) (string, string) {
	body := quoted[1 : len(quoted)-1]
	if strings.Contains(body, "\t") { // other controls were refused with all of the file
		return "", `a tab in a string is written as \t`
	}
	if !strings.Contains(body, `\`) {
		return body, ""
	}
	var b strings.Builder
	for i := 0; i < len(body); i++ {
		if body[i] != '\\' {
			b.WriteByte(body[i])
			continue
		}
		i++
		switch c := body[i]; c {
		case '"', '\\', '/':
			b.WriteByte(c)
		case 'b', 'f', 'n', 'r', 't':
			b.WriteByte(map[byte]byte{'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t'}[c])
		case 'u':
			r, ok := hex4(body, i+1)
			if !ok {
				return "", `\u is followed by four hexadecimal digits`
			}
			i += 4
			if r >= 0xD800 && r < 0xE000 {
				low, ok := rune(0), false
				if r < 0xDC00 && strings.HasPrefix(body[i+1:], `\u`) {
					low, ok = hex4(body, i+3)
				}
				if !ok || low < 0xDC00 || low > 0xDFFF {
					return "", "half of a surrogate pair is alone here"
				}
				r = 0x10000 + (r-0xD800)<<10 + (low - 0xDC00)
				i += 6
			}
			if r == 0 || Deceptive(r) {
				return "", hiddenMessage(r)
			}
			b.WriteRune(r)
		default:
			return "", fmt.Sprintf(`\%c is not an escape`, c)
		}
	}
	return b.String(), ""
}

// doubledBackslashes is a string with two backslashes where its one begins no escape, as
// people write patterns; ok is false where it is not a string then either.
func doubledBackslashes(quoted string) (text string, ok bool) {
	var b strings.Builder
	for i := 0; i < len(quoted); i++ {
		b.WriteByte(quoted[i])
		if quoted[i] != '\\' || i+1 == len(quoted) {
			continue
		}
		i++
		if !strings.ContainsRune(`"\/bfnrtu`, rune(quoted[i])) {
			b.WriteByte('\\')
		}
		b.WriteByte(quoted[i])
	}
	_, problem := unquote(b.String())
	return b.String(), problem == ""
}

func hex4(s string, at int) (rune, bool) {
	if at+4 > len(s) {
		return 0, false
	}
	v, err := strconv.ParseUint(s[at:at+4], 16, 16)
	return rune(v), err == nil
}

func (p *parser) parseExample(doc Doc) {
	e := &Example{Head: Head{Doc: doc}}
	var ok bool
	if e.Name, ok = p.name(lowerName, "the name of an example"); ok {
		if ok = p.at("of"); ok {
			p.advance()
			e.Of, ok = p.ref("a message or error")
		} else {
			p.expected(`"of" and the message that it is an example of`, "write, for example: example family of Booking { … }")
		}
	}
	if ok {
		if ok = p.cur.kind == braceOpen; ok {
			e.Value, ok = p.value()
		} else {
			p.expected(`"{" and the example's fields`, "")
		}
	}
	if !ok {
		p.skipToDecl()
		return
	}
	p.out.Decls = append(p.out.Decls, e)
}

// value reads a value of an example.
func (p *parser) value() (*Value, bool) {
	p.nesting++
	defer func() { p.nesting-- }()
	v := &Value{Span: p.cur.span()}
	if p.nesting > MaxNesting {
		p.report(p.cur.span(), "too-deep", fmt.Sprintf("values nest more than %d deep here", MaxNesting), "")
		return nil, false
	}
	ok := true
	switch {
	case p.cur.kind == braceOpen:
		v.Form = ObjectValue
		p.advance()
		ok = p.entries(braceClose, `"}" or "," and the next entry`, func() bool {
			pair, ok := p.pair()
			v.Pairs = append(v.Pairs, pair)
			return ok
		})
	case p.cur.kind == bracketOpen:
		v.Form = ListValue
		p.advance()
		ok = p.entries(bracketClose, `"]" or "," and the next value`, func() bool {
			item, ok := p.value()
			v.Items = append(v.Items, item)
			return ok
		})
	case p.at("null") && p.peek.kind != dot:
		v.Form = NullValue
		p.advance()
	default:
		v.Literal, ok = p.literal()
	}
	v.Span.End = p.lastEnd
	return v, ok
}

// entries reads what stands between brackets, a last comma allowed.
func (p *parser) entries(end kind, what string, entry func() bool) bool {
	for p.cur.kind != end {
		if !entry() {
			return false
		}
		if p.cur.kind != end && !p.accept(comma) {
			p.expected(what, "entries are separated by commas")
			return false
		}
	}
	p.advance()
	return true
}

func (p *parser) pair() (Pair, bool) {
	key := Name{Text: p.textOf(p.cur), Span: p.cur.span()}
	switch p.cur.kind {
	case lowerName:
		p.advance()
	case number:
		if strings.HasPrefix(key.Text, "-") || strings.ContainsAny(key.Text, ".eE") {
			p.fix(key.Span, "syntax", "a key that is not a plain whole number is written in quotes",
				"write "+strconv.Quote(key.Text), p.edit(key.Span, strconv.Quote(key.Text)))
		}
		p.advance()
	case text:
		l, ok := p.literal()
		if !ok {
			return Pair{}, false
		}
		key.Text = l.Text
	default:
		p.expected("a name and its value", `write, for example: seats: 4, or "key": 4 in a map`)
		return Pair{}, false
	}
	if p.cur.kind == equals {
		p.fix(p.cur.span(), "syntax", "a name and its value are separated by a colon", "write :", p.edit(p.cur.span(), ":"))
		p.advance()
	} else if !p.expect(colon, `":" and the value of `+key.Text) {
		return Pair{}, false
	}
	v, ok := p.value()
	return Pair{Key: key, Value: v}, ok
}

// Inside returns the span of the bytes from start to end of a string's value,
// where the string stands at span in its file.
func Inside(file *source.File, span source.Span, start, end int) source.Span {
	quoted := file.Text[span.Start:span.End]
	out := span
	value := 0 // bytes of the value so far
	for i := 1; i < len(quoted)-1; {
		size, width := 1, 1
		if quoted[i] == '\\' {
			size = 2
			if quoted[i+1] == 'u' {
				size = 6
				if r, ok := hex4(quoted, i+2); ok && r >= 0xD800 && r < 0xDC00 {
					size = 12
				}
			}
			if text, problem := unquote(`"` + quoted[i:min(i+size, len(quoted)-1)] + `"`); problem == "" {
				width = len(text)
			}
		}
		if value <= start {
			out.Start = span.Start + uint32(i)
		}
		i += size
		value += width
		if value >= end {
			out.End = span.Start + uint32(i)
			break
		}
	}
	return out
}
