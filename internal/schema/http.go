package schema

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// HTTP is how a call with an http clause travels.
type HTTP struct {
	Method   string
	Path     string
	Segments []Segment // of the path, in order
	Status   int       // of success; 0 where none is given
	Place    source.Place

	MethodPlace, StatusPlace source.Place
	End                      source.Place // of the clause: where more can be written
	PathWrong                bool         // its mistake has been reported
}

// Text writes the clause as the language does.
func (h *HTTP) Text() string {
	text := "http " + h.Method + " " + quote(h.Path)
	if h.Status != 0 {
		text += " " + strconv.Itoa(h.Status)
	}
	return text
}

// Segment is one part of a path: a literal, or a field of the request.
type Segment struct {
	Literal string
	Field   *Field
	Place   source.Place // of a field's name
}

var httpMethods = []string{"GET", "POST", "PUT", "PATCH", "DELETE"}

// http resolves an http clause.
func (r *resolver) http(f *fileScope, tree *syntax.Call, c *Call) {
	t := tree.HTTP
	h := &HTTP{Method: t.Method.Text, Path: t.Path.Text, Place: f.place(t.Path.Span)}
	if !slices.Contains(httpMethods, h.Method) {
		r.report(f.place(t.Method.Span), "http-method", fmt.Sprintf("a call is not made by %q", h.Method),
			r.meant(h.Method, "the methods are: ", httpMethods))
		return
	}
	h.MethodPlace = f.place(t.Method.Span)
	h.End = f.place(source.Span{Start: t.Span.End, End: t.Span.End})
	if t.Status.Text != "" {
		n, err := strconv.Atoi(t.Status.Text)
		if err != nil {
			n = -1
		}
		h.Status, h.StatusPlace = n, f.place(t.Status.Span)
	}
	h.PathWrong = !r.path(f, t.Path, c, h)
	c.HTTP = h
}

// path reads a path's segments.
func (r *resolver) path(f *fileScope, path syntax.Name, c *Call, h *HTTP) bool {
	refuse := func(start, end int, message, fix string) bool {
		r.report(f.place(syntax.Inside(f.tree.Source, path.Span, start, end)), "http-path", message, fix)
		return false
	}
	text := path.Text
	switch {
	case !strings.HasPrefix(text, "/"):
		r.findings.Add(source.Finding{Name: "http-path", Place: f.place(path.Span), Message: "a path begins with /",
			Fix: "write " + quote("/"+text),
			Edits: []source.Edit{{Place: f.place(source.Span{Start: path.Span.Start + 1, End: path.Span.Start + 1}),
				Text: "/"}}, Sure: true})
		return false
	case text == "/-" || strings.HasPrefix(text, "/-/"):
		return refuse(0, len(text), "paths below /-/ are the server's own", "choose another beginning")
	}
	ok := true
	at := 1
	for part := range strings.SplitSeq(text[1:], "/") {
		start, end := at, at+len(part)
		at = end + 1
		switch {
		case part == "" && text == "/":
		case part == "":
			refuse(start-1, start, "a path has no empty parts", "remove the / that is too much")
			return false
		case part == "." || part == "..":
			return refuse(start, end, "a path has no parts . and ..", "write the path that is meant")
		case strings.HasPrefix(part, "{") && strings.HasSuffix(part, "}"):
			field := r.pathField(f, path, c, part[1:len(part)-1], start+1)
			if field == nil {
				ok = false
			} else if slices.ContainsFunc(h.Segments, func(s Segment) bool { return s.Field == field }) {
				ok = refuse(start, end, fmt.Sprintf("%q is twice in the path", field.Name), "remove one of the two")
			}
			place := f.place(syntax.Inside(f.tree.Source, path.Span, start+1, end-1))
			h.Segments = append(h.Segments, Segment{Field: field, Place: place})
			continue
		case strings.ContainsAny(part, "{}"):
			return refuse(start, end, "a field takes a whole part of a path", "put a / on both sides of {…}")
		default:
			if i := strings.IndexFunc(part, func(c rune) bool { return !isPathChar(c) }); i >= 0 {
				fix := "write letters, digits and any of -._~!$&'()*+,;=:@"
				if part[i] == '?' {
					fix = "parameters of the query are fields: #1 from text in query"
				} else if part[i] == ':' && i == 0 {
					fix = "a field is written {name}"
				}
				return refuse(start+i, start+i+1, fmt.Sprintf("%q can't appear in a path", []rune(part[i:])[0]), fix)
			}
			if part[0] == ':' {
				return refuse(start, end, "a field in a path is written in braces", "write {"+part[1:]+"}")
			}
		}
		h.Segments = append(h.Segments, Segment{Literal: part})
	}
	return ok
}

// isPathChar tells the pchar of RFC 3986, section 3.3, without escapes.
func isPathChar(c rune) bool {
	return c < 128 && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' ||
		strings.ContainsRune("-._~!$&'()*+,;=:@", c))
}

// pathField finds the field that a part of a path names.
func (r *resolver) pathField(f *fileScope, path syntax.Name, c *Call, name string, at int) *Field {
	place := f.place(syntax.Inside(f.tree.Source, path.Span, at, at+len(name)))
	placed := c.Placed()
	if c.RequestStream && placed == nil {
		r.report(place, "http-path",
			"a call with a stream of requests has no fields in its path, unless the stream has a head",
			fmt.Sprintf("declare a message with that field, and write it before the stream: (%sAt, stream %s)",
				syntax.PascalCase(c.Name), c.Request.Name))
		return nil
	}
	if placed == nil {
		r.report(place, "http-path", fmt.Sprintf("%q has no request, and so no field %q", c.Name, name),
			"give it a request message with that field")
		return nil
	}
	field := placed.ByName(name)
	note := source.Note{Place: placed.Place, Message: "the request is declared here"}
	if field == nil {
		fix := r.meant(name, "add it there, or write one of: ",
			names(placed.Fields, func(x *Field) string { return x.Name }))
		r.report(place, "http-path", fmt.Sprintf("%q has no field %q", placed.Name, name), fix, note)
		return nil
	}
	return field
}
