package web

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// Message is a request or an answer as a whole, however its fields travel.
type Message interface {
	AppendViolations(list []wire.Violation, path string) []wire.Violation
}

// Travel is how the fields of a message travel that is not all in the body.
type Travel struct {
	Placed  []Placed                           // what travels outside of the body
	NewBody func() wire.Message                // what is left for the body; nil where there is none
	BodyOf  func(whole Message) wire.Message   // takes that out of a message
	Place   func(whole Message, p *Parameters) // puts the rest where it travels
	Raw     *Raw                               // the body, where that is one field as it is; or nil
	// Take fills a message from a body and from what came outside of it.
	Take func(whole Message, body wire.Message, a *Arguments)
}

// placed is what of a message travels outside of the body.
func (t *Travel) placed() []Placed {
	if t == nil {
		return nil
	}
	return t.Placed
}

// inCookies tells whether anything of a message travels in cookies.
func (t *Travel) inCookies() bool {
	for _, p := range t.placed() {
		if p.In == "cookie" {
			return true
		}
	}
	return false
}

// bodyOf is what of a message travels in the body; nil where there is none.
func (t *Travel) bodyOf(m Message) wire.Message {
	switch {
	case t == nil:
		return m.(wire.Message)
	case t.NewBody == nil:
		return nil
	}
	return t.BodyOf(m)
}

// Placed is a field of a request or an answer that travels outside of the body.
type Placed struct {
	Number    int
	Name      string // in JSON
	In        string // "path", "query", "header" or "cookie"
	Parameter string // how it is called there
}

// verbatim tells fields in headers that HTTP has a meaning for: they are sent as they are.
func (p Placed) verbatim() bool { return p.In == "header" && isVerbatim(p.Parameter) }

func isVerbatim(header string) bool {
	switch http.CanonicalHeaderKey(header) {
	case "Accept-Language", "If-Match", "If-None-Match", "Cache-Control", "Content-Disposition", "Content-Language",
		"Etag", "Last-Modified", "Link", "Location":
		return true
	}
	return false
}

// Parameters is what is put into path, query, headers and cookies.
type Parameters struct {
	wire.Writer
	path       map[string]string
	query      []string
	header     http.Header
	cookies    []cookie
	violations []wire.Violation
}

// cookie is one that is sent, its value encoded.
type cookie struct{ name, value string }

// Path adds the value of a field in the path.
func (p *Parameters) Path(name, text string) {
	if text == "" || text == "." || text == ".." {
		p.violations = append(p.violations, wire.Violation{Pointer: "/" + name,
			Detail: "must not be empty, . or .., in a path", In: "path"})
	}
	if p.path == nil {
		p.path = map[string]string{}
	}
	p.path[name] = url.PathEscape(text)
}

// Query adds a parameter.
func (p *Parameters) Query(name, text string) {
	p.query = append(p.query, url.QueryEscape(name)+"="+url.QueryEscape(text))
}

// Header adds a header.
func (p *Parameters) Header(name, text string) {
	if p.header == nil {
		p.header = http.Header{}
	}
	if isVerbatim(name) {
		if !printable(text) {
			p.violations = append(p.violations, wire.Violation{Detail: fmt.Sprintf("the header %q %s", name, notPrintable),
				In: "header"})
		}
		p.header.Set(name, text)
		return
	}
	p.header.Set(name, encodeHeader(text))
}

// Cookie adds a cookie.
func (p *Parameters) Cookie(name, text string) {
	p.cookies = append(p.cookies, cookie{name, encodeCookie(text)})
}

// cookieText is what the header Cookie says.
func (p *Parameters) cookieText() string {
	var pairs []string
	for _, c := range p.cookies {
		pairs = append(pairs, c.name+"="+c.value)
	}
	return strings.Join(pairs, "; ")
}

const notPrintable = "must be printable ASCII, without spaces at either end"

// printable tells what can travel in a header verbatim.
func printable(text string) bool {
	for i := range len(text) {
		if text[i] < ' ' || text[i] > '~' {
			return false
		}
	}
	return strings.Trim(text, " ") == text
}

// encodeHeader writes text for a header, with what can't be in one, or would not be seen
// at its ends, percent-encoded.
func encodeHeader(text string) string {
	inner := strings.Trim(text, " ")
	if inner == "" {
		return strings.Repeat("%20", len(text))
	}
	begin := strings.Index(text, inner)
	return strings.Repeat("%20", begin) + encode256(inner, "%") + strings.Repeat("%20", len(text)-begin-len(inner))
}

// encodeCookie writes text for a cookie, with what means something there percent-encoded
// (RFC 6265, section 4.1.1).
func encodeCookie(text string) string { return encode256(text, "% \",;\\") }

// encode256 percent-encodes controls, what is not ASCII, and some characters.
func encode256(text, more string) string {
	var b strings.Builder
	for i := range len(text) {
		c := text[i]
		if c < ' ' || c >= 0x7f || strings.IndexByte(more, c) >= 0 {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// Arguments is what is found in path, query, headers and cookies.
type Arguments struct {
	placed     []Placed
	values     func(p Placed) []string
	violations []wire.Violation
}

// Scalar reads the field of a parameter, by its place in Travel.Placed. It returns false
// where the field is absent.
func (a *Arguments) Scalar(i int, optional bool, shape wire.Shape, read func(*wire.JSONReader)) bool {
	p := a.placed[i]
	values := a.values(p)
	switch {
	case len(values) == 0 && optional:
		return false
	case len(values) == 0:
		a.refuse(p, "is required")
		return false
	case len(values) > 1:
		a.refuse(p, "comes more than once")
		return false
	}
	a.read(p, values[0], shape, read)
	return true
}

// List reads each value of a parameter that is repeated.
func (a *Arguments) List(i int, shape wire.Shape, read func(*wire.JSONReader)) {
	for _, value := range a.values(a.placed[i]) {
		a.read(a.placed[i], value, shape, read)
	}
}

func (a *Arguments) read(p Placed, text string, shape wire.Shape, read func(*wire.JSONReader)) {
	var err error
	switch {
	case p.In == "path" && (text == "" || text == "." || text == ".."):
		a.refuse(p, "must not be empty, . or .., in a path")
		return
	case p.verbatim() && !printable(text):
		a.refuse(p, notPrintable)
		return
	case p.In == "cookie" || p.In == "header" && !p.verbatim():
		if text, err = url.PathUnescape(text); err != nil {
			a.refuse(p, "has a % that is not followed by two hexadecimal digits")
			return
		}
	}
	if err := wire.ReadPlain(text, shape, read); err != nil {
		detail := err.Error()
		if e, ok := err.(*wire.Error); ok {
			detail = e.Detail
		}
		a.refuse(p, detail)
	}
}

func (a *Arguments) refuse(p Placed, detail string) {
	a.violations = append(a.violations, wire.Violation{Pointer: wire.Step("", p.Name), Detail: detail, In: p.In})
}

// headerValues are the values of a field in a header. Those that HTTP has a meaning for
// may come in several lines (RFC 9110, section 5.3).
func headerValues(h http.Header, p Placed) []string {
	values := h.Values(p.Parameter)
	if len(values) > 1 && p.verbatim() {
		return []string{strings.Join(values, ", ")}
	}
	return values
}

// arrived is where a server finds what travels outside of a request's body.
func (x *exchange) arrived(p Placed) []string {
	switch p.In {
	case "path":
		return []string{x.values[p.Parameter]}
	case "query":
		return x.queries()[p.Parameter]
	case "header":
		values := headerValues(x.r.Header, p)
		switch http.CanonicalHeaderKey(p.Parameter) {
		case "If-Match", "If-None-Match":
			if len(values) > 0 {
				return []string{withoutEncodings(values[0])} // they are one
			}
		}
		return values
	}
	for _, c := range x.r.CookiesNamed(p.Parameter) {
		return []string{c.Value} // of several the first counts
	}
	return nil
}

// received is where a client finds what travels outside of an answer's body.
func received(response *http.Response) func(p Placed) []string {
	var cookies []*http.Cookie
	return func(p Placed) []string {
		if p.In == "header" {
			return headerValues(response.Header, p)
		}
		if cookies == nil {
			cookies = response.Cookies()
		}
		for i := range cookies {
			if c := cookies[len(cookies)-1-i]; c.Name == p.Parameter { // the last one set is the one that is kept
				return []string{c.Value}
			}
		}
		return nil
	}
}

// locate says of each violation of a whole message where its field travels.
func locate(list []wire.Violation, placed []Placed) []wire.Violation {
	for i, v := range list {
		first, _, _ := strings.Cut(strings.TrimPrefix(v.Pointer, "/"), "/")
		for _, p := range placed {
			if wire.Step("", p.Name) == "/"+first {
				list[i].In = p.In
			}
		}
	}
	return list
}

// Rest refuses fields that travel outside of the body and came in it too.
func (a *Arguments) Rest(unlisted []wire.UnlistedField) {
	for _, p := range a.placed {
		for _, u := range unlisted {
			if u.Number == p.Number || u.Number == 0 && u.Name == p.Name {
				a.violations = append(a.violations, wire.Violation{Pointer: wire.Step("", p.Name),
					Detail: "travels in the " + p.In + ", and must not come in the body too"})
			}
		}
	}
}

// finish is what an answer is when what travels outside of its body has been put there.
func (p *Parameters) finish() error {
	if err := p.Err(); err != nil {
		return err
	}
	var all []error
	for _, v := range p.violations {
		all = append(all, errors.New(strings.TrimSpace(v.Pointer+" "+v.Detail)))
	}
	return errors.Join(all...)
}
