package web

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// Placed is a field of a request that travels outside of the body.
type Placed struct {
	Number    int
	Name      string // in JSON
	In        string // "path", "query", "header" or "cookie"
	Parameter string // how it is called there
}

// Parameters is what a client puts into path, query, headers and cookies.
type Parameters struct {
	wire.Writer
	path       map[string]string
	query      []string
	header     http.Header
	cookies    []string
	violations []wire.Violation
}

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
	p.header.Set(name, encodeText(text))
}

// Cookie adds a cookie.
func (p *Parameters) Cookie(name, text string) {
	p.cookies = append(p.cookies, name+"="+encodeText(text))
}

// encodeText writes text for a header or cookie: what could mean something
// there, or is not ASCII, percent-encoded.
func encodeText(text string) string {
	var b strings.Builder
	for i := range len(text) {
		c := text[i]
		if c <= ' ' || c >= 0x7f || strings.IndexByte("%\",;\\", c) >= 0 {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// Arguments is what a server finds in path, query, headers and cookies.
type Arguments struct {
	request    *http.Request
	path       map[string]string
	queries    func() url.Values
	violations []wire.Violation
}

// Scalar reads the field of a parameter. It returns false where the field is
// absent.
func (a *Arguments) Scalar(p Placed, optional bool, shape wire.Shape, read func(*wire.JSONReader)) bool {
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
func (a *Arguments) List(p Placed, shape wire.Shape, read func(*wire.JSONReader)) {
	for _, value := range a.values(p) {
		a.read(p, value, shape, read)
	}
}

func (a *Arguments) read(p Placed, text string, shape wire.Shape, read func(*wire.JSONReader)) {
	var err error
	switch p.In {
	case "path":
		if text == "" || text == "." || text == ".." {
			a.refuse(p, "must not be empty, . or .., in a path")
			return
		}
	case "header", "cookie":
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

func (a *Arguments) values(p Placed) []string {
	switch p.In {
	case "path":
		return []string{a.path[p.Parameter]}
	case "query":
		return a.queries()[p.Parameter]
	case "header":
		return a.request.Header.Values(p.Parameter)
	}
	var values []string
	for _, cookie := range a.request.CookiesNamed(p.Parameter) {
		values = append(values, cookie.Value)
	}
	return values
}

// locate says of each violation of a whole request where its field travels.
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
func (a *Arguments) Rest(placed []Placed, unlisted []wire.UnlistedField) {
	for _, p := range placed {
		for _, u := range unlisted {
			if u.Number == p.Number || u.Number == 0 && u.Name == p.Name {
				a.violations = append(a.violations, wire.Violation{Pointer: wire.Step("", p.Name),
					Detail: "travels in the " + p.In + ", and must not come in the body too"})
			}
		}
	}
}
