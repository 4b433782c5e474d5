package syntax

import (
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/source"
)

func (p *parser) parseCredential(doc Doc) {
	c := &Credential{Head: Head{Doc: doc}}
	ok := p.credential(c)
	if !ok {
		c.Kind = Name{}
	}
	if c.Name.Text != "" {
		p.out.Decls = append(p.out.Decls, c) // so that its uses are not mistakes, too
	}
	if !ok || !p.marks(deprecatedMark, &c.Marks) {
		p.skipToDecl()
		return
	}
	p.finish(deprecatedMark)
}

var credentialKinds = []string{"key", "bearer", "basic"}

func (p *parser) credential(c *Credential) (ok bool) {
	if c.Name, ok = p.name(lowerName, "the name of a credential"); !ok {
		return false
	}
	if !p.expect(equals, `"=" and what the credential is`) {
		return false
	}
	c.Kind = Name{Text: p.textOf(p.cur), Span: p.cur.span()}
	if !slices.Contains(credentialKinds, c.Kind.Text) {
		fix := `write key header "Desk-Key", bearer or basic`
		if slices.Contains(places, c.Kind.Text) {
			fix = "write: key " + c.Kind.Text + " \"NAME\""
		} else if near := source.Nearest(c.Kind.Text, credentialKinds); near != "" && p.cur.kind == lowerName {
			fix = source.DidYouMean(near)
		}
		p.expected("key, bearer or basic", fix)
		return false
	}
	p.advance()
	if c.Kind.Text == "key" {
		c.Carrier = Name{Text: p.textOf(p.cur), Span: p.cur.span()}
		if !slices.Contains(places, c.Carrier.Text) {
			p.expected("header, query or cookie", `write, for example: key header "Desk-Key"`)
			return false
		}
		p.advance()
		if p.cur.kind != text {
			p.expected("the name of the "+c.Carrier.Text+", in quotes", `write, for example: key `+c.Carrier.Text+` "desk_key"`)
			return false
		}
	}
	if p.cur.kind == text && c.Kind.Text != "basic" {
		l, ok := p.literal()
		c.Text = Name{Text: l.Text, Span: l.Span}
		return ok
	}
	return true
}

func (p *parser) parseService(doc Doc) {
	name, ok := p.name(pascalName, "the name of a service")
	if !ok {
		p.skipToDecl()
		return
	}
	s := &Service{Head: Head{Doc: doc, Name: name}}
	p.marks(deprecatedMark, &s.Marks)
	p.out.Decls = append(p.out.Decls, s)
	begins := func() bool {
		return p.at("call") && p.peek.kind != parenOpen || p.at("fails") || p.at("needs")
	}
	p.body(name, `"call", "fails", "needs" or "}"`, begins, func(doc Doc) bool {
		switch {
		case p.at("fails"):
			return p.fails(&s.Fails)
		case p.at("needs"):
			return p.needs(&s.Needs)
		}
		p.advance()
		c := Call{Doc: doc}
		ok := p.parseCall(&c)
		if c.Name.Text != "" {
			s.Calls = append(s.Calls, c)
		}
		return ok
	})
}

func (p *parser) parseCall(c *Call) bool {
	var ok bool
	if c.Name, ok = p.name(lowerName, "the name of a call"); !ok {
		return false
	}
	if !p.expect(parenOpen, `"(" and the request`) {
		return false
	}
	if p.cur.kind != parenClose {
		if c.Request, ok = p.side(); !ok {
			return false
		}
	}
	if p.cur.kind == comma && !p.head(c) {
		return false
	}
	if p.cur.kind == colon || p.cur.kind == pascalName && c.Request.Message != nil {
		p.expected(`")" after the request`, "a request is its message alone, without a name: (BookRequest)")
		return false
	}
	if !p.expect(parenClose, `")" after the request`) || !p.arrow() {
		return false
	}
	if p.accept(parenOpen) {
		if p.cur.kind != parenClose {
			p.expected(`")": "()" answers nothing`, "an answer is written without brackets: -> Booking")
			return false
		}
		p.advance()
	} else if c.Response, ok = p.side(); !ok {
		return false
	}
	for {
		switch {
		case p.at("http"):
			ok = p.http(c)
		case p.at("fails"):
			ok = p.fails(&c.Fails)
		case p.at("needs"):
			ok = p.needs(&c.Needs)
		case p.at("safe"):
			p.flag(&c.Safe)
		case p.at("idempotent"):
			p.flag(&c.Idempotent)
		case p.cur.kind == braceClose, p.cur.kind == docComment, p.at("call"), p.cur.kind == endOfFile, p.declBegins(true):
			return true
		case slices.ContainsFunc(markWords, func(m markWord) bool { return p.at(m.word) }):
			ok = p.marks(deprecatedMark, &c.Marks)
		case p.separator():
		default:
			p.expected(`a clause, the next call or "}"`, p.strayClause())
			return false
		}
		if !ok {
			return false
		}
	}
}

var (
	clauseWords  = []string{"http", "fails", "needs", "safe", "idempotent", "deprecated", "call"}
	usualClauses = map[string]string{"throws": "fails", "raises": "fails", "errors": "fails", "auth": "needs",
		"requires": "needs", "security": "needs",
		"readonly": "safe", "path": "http", "route": "http", "get": "http GET \"/…\"", "post": "http POST \"/…\"",
		"rpc": "call", "returns": "->", "async": "nothing: a call is a call"}
)

// strayClause says what most likely was meant by a word after a call.
func (p *parser) strayClause() string {
	word := p.textOf(p.cur)
	if near := source.Nearest(word, clauseWords); near != "" {
		return source.DidYouMean(near)
	}
	if usual, ok := usualClauses[strings.ToLower(word)]; ok {
		return "write " + usual
	}
	return "a clause is http, fails, needs, safe, idempotent or deprecated"
}

func (p *parser) arrow() bool {
	if p.cur.kind == colon {
		p.fix(p.cur.span(), "syntax", `"->" belongs between request and answer, not ":"`, "write ->",
			p.edit(p.cur.span(), " ->"))
		p.advance()
		return true
	}
	if p.accept(arrow) {
		return true
	}
	fix := ""
	if p.cur.kind == docComment || p.at("call") || p.cur.kind == braceClose ||
		slices.Contains(clauseWords, p.textOf(p.cur)) {
		fix = "a call that answers nothing is written: -> ()"
	}
	p.expected(`"->" and the answer`, fix)
	return false
}

// flag reads a clause of one word.
func (p *parser) flag(into *Name) {
	word := Name{Text: p.textOf(p.cur), Span: p.cur.span()}
	p.advance()
	if into.Text != "" {
		p.fix(word.Span, "clause-twice", strconv.Quote(word.Text)+" is here twice", "remove one of the two",
			p.remove(word.Span))
		return
	}
	*into = word
}

func (p *parser) http(c *Call) bool {
	h := &HTTP{Span: p.cur.span()}
	p.advance()
	h.Method = Name{Text: p.textOf(p.cur), Span: p.cur.span()}
	switch p.cur.kind {
	case upperName:
		p.advance()
	case lowerName, pascalName:
		better := strings.ToUpper(h.Method.Text)
		p.fix(h.Method.Span, "http-method", "HTTP methods are written in capitals", "write "+better,
			p.edit(h.Method.Span, better))
		h.Method.Text = better
		p.advance()
	default:
		p.expected("an HTTP method", `write, for example: http POST "/sailings/{sailing}/bookings"`)
		return false
	}
	if p.cur.kind != text {
		p.expected("the path, in quotes", `write, for example: http `+h.Method.Text+` "/sailings/{sailing}"`)
		return false
	}
	l, ok := p.literal()
	if !ok {
		return false
	}
	h.Path = Name{Text: l.Text, Span: l.Span}
	if p.cur.kind == number {
		h.Status = Name{Text: p.textOf(p.cur), Span: p.cur.span()}
		p.advance()
	}
	h.Span.End = p.lastEnd
	if c.HTTP != nil {
		p.report(h.Span, "clause-twice", "\"http\" is here twice", "remove one of the two, or declare a second call")
		return true
	}
	c.HTTP = h
	return true
}

// head reads what comes after a comma: the stream that a head stands before.
func (p *parser) head(c *Call) bool {
	at := p.cur.span()
	p.advance()
	if c.Request.Stream || c.Request.Message == nil {
		p.report(at, "syntax", "a head comes before the stream, and there is one stream at most",
			"write, for example: (BoardingAt, stream BoardingScan)")
		return false
	}
	c.Head = c.Request.Message
	var ok bool
	if c.Request, ok = p.side(); !ok {
		return false
	}
	if !c.Request.Stream {
		p.report(c.Request.Message.Name.Span, "syntax", "a request is one message, or a stream, which can have a head",
			"write \"stream\" before it, or put both into one message")
		return false
	}
	return true
}

func (p *parser) side() (Side, bool) {
	var s Side
	if p.at("stream") && p.peek.kind != dot {
		at := p.cur
		p.advance()
		s.Stream = true
		if p.cur.kind == parenOpen || p.cur.kind == parenClose {
			p.report(at.span(), "stream-of-nothing", "a stream has elements, and () is nothing",
				"name the message of its elements: stream Position")
			return s, false
		}
	}
	if p.cur.kind == bracketOpen || p.cur.kind == braceOpen {
		p.expected("the name of a message", "declare a message with one field for the list, so that more can be "+
			"added later")
		return s, false
	}
	r, ok := p.ref("a message")
	s.Message = &r
	return s, ok
}

func (p *parser) ref(what string) (Ref, bool) {
	var r Ref
	if p.cur.kind == lowerName && p.peek.kind == dot {
		r.Alias = Name{Text: p.textOf(p.cur), Span: p.cur.span()}
		p.advance()
		p.advance()
	}
	switch p.cur.kind {
	case lowerName, oddName, pascalName, upperName:
		r.Name = Name{Text: p.textOf(p.cur), Span: p.cur.span()}
		p.advance()
		return r, true
	}
	p.expected("the name of "+what, "")
	return r, false
}

func (p *parser) fails(list *[]Ref) bool {
	p.advance()
	for {
		r, ok := p.ref("an error")
		if !ok {
			return false
		}
		*list = append(*list, r)
		if !p.accept(comma) {
			return true
		}
	}
}

func (p *parser) needs(into **Needs) bool {
	n := &Needs{Span: p.cur.span()}
	p.advance()
	for {
		alternative, ok := p.needed()
		if !ok {
			return false
		}
		n.Alternatives = append(n.Alternatives, alternative)
		if p.cur.kind == comma {
			p.report(p.cur.span(), "syntax", "a comma does not say whether both are needed or either is",
				"write + for both, | for either")
			return false
		}
		if !p.accept(bar) {
			break
		}
	}
	n.Span.End = p.lastEnd
	if *into != nil {
		p.report(n.Span, "clause-twice", "\"needs\" is here twice", "join them: + needs both, | either")
		return true
	}
	*into = n
	return true
}

// needed reads "nothing", or credentials joined by +.
func (p *parser) needed() ([]Ref, bool) {
	if p.at("nothing") && p.peek.kind != dot {
		p.advance()
		return nil, true
	}
	var list []Ref
	for {
		r, ok := p.ref("a credential")
		if !ok {
			return nil, false
		}
		list = append(list, r)
		if !p.accept(plus) {
			return list, true
		}
	}
}
