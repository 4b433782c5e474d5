package schema

import (
	"cmp"
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
}

// MaxPlacedBytes is the largest upper limit of the length of bytes that
// travel outside of a body.
const MaxPlacedBytes = 1024

// Placed is a field of a request and where it travels in a call.
type Placed struct {
	Field *Field
	Place string // "path", "query", "header", "cookie" or "body"
	Name  string // of the parameter, header or cookie
}

// Places says where each field of the request travels, by number.
func (c *Call) Places() []Placed {
	var list []Placed
	if c.Request == nil {
		return nil
	}
	for _, f := range c.Request.Fields {
		p := Placed{Field: f, Place: "body", Name: f.JSONName()}
		switch {
		case c.HTTP == nil, c.RequestStream: // elements are never placed
		case slices.ContainsFunc(c.HTTP.Segments, func(s Segment) bool { return s.Field == f }):
			p.Place = "path"
		case f.In != nil:
			p.Place, p.Name = f.In.Place, cmp.Or(f.In.Name, p.Name)
		case !c.HasBody():
			p.Place = "query"
		}
		list = append(list, p)
	}
	return list
}

// HasBody tells whether a call's method has a body.
func (c *Call) HasBody() bool { return c.Method() != "GET" && c.Method() != "DELETE" }

var httpMethods = []string{"GET", "POST", "PUT", "PATCH", "DELETE"}

// http resolves an http clause.
func (r *resolver) http(f *fileScope, tree *syntax.Call, c *Call) {
	t := tree.HTTP
	h := &HTTP{Method: t.Method.Text, Path: t.Path.Text, Place: f.place(t.Path.Span)}
	if !slices.Contains(httpMethods, h.Method) {
		r.report(f.place(t.Method.Span), "http-method", fmt.Sprintf("a call is not made by %s", h.Method), r.meant(h.Method, "the methods are: ", httpMethods))
		return
	}
	bothWays := c.RequestStream && c.ResponseStream
	switch {
	case bothWays && h.Method != "GET":
		r.findings.Add(source.Finding{Name: "http-method", Place: f.place(t.Method.Span), Message: "a call that streams both ways begins with a GET that opens a WebSocket", Mend: "write GET",
			Edits: []source.Edit{{Place: f.place(t.Method.Span), Text: "GET"}}, Sure: true})
		return
	case c.RequestStream && !bothWays && !slices.Contains([]string{"POST", "PUT", "PATCH"}, h.Method):
		r.report(f.place(t.Method.Span), "http-method", fmt.Sprintf("%s has no body, and a stream of requests travels in it", h.Method), "write POST")
		return
	case h.Method == "GET" && !c.Safe && !bothWays:
		end := f.place(source.Span{Start: t.Span.End, End: t.Span.End})
		r.findings.Add(source.Finding{Name: "get-not-safe", Place: f.place(t.Method.Span), Message: fmt.Sprintf("GET promises that the call only reads, and %s does not say that it is safe", c.Name),
			Mend: "write safe behind it, or POST if it changes something", Edits: []source.Edit{{Place: end, Text: " safe"}}})
	}
	if t.Status.Text != "" {
		r.successStatus(f, t, c, h)
	}
	if r.path(f, t.Path, c, h) {
		c.HTTP = h
	}
}

func (r *resolver) successStatus(f *fileScope, t *syntax.HTTP, c *Call, h *HTTP) {
	n, err := strconv.Atoi(t.Status.Text)
	place := f.place(t.Status.Span)
	switch {
	case err != nil || n < 200 || n > 299:
		r.report(place, "http-status", fmt.Sprintf("the status of success is 200 to 299, not %s", t.Status.Text), "201 says that something was made; errors have their status where they are declared")
	case (n == 204 || n == 205) && c.Response != nil:
		r.report(place, "http-status", fmt.Sprintf("%d says that there is no answer, and %s answers %s", n, c.Name, c.Response.Name), "remove it, or answer ()")
	case n == 206:
		r.report(place, "http-status", "206 belongs to requests for a range of bytes", "write 200")
	default:
		h.Status = n
	}
}

// path reads a path's segments.
func (r *resolver) path(f *fileScope, path syntax.Name, c *Call, h *HTTP) bool {
	refuse := func(start, end int, message, mend string) bool {
		r.report(f.place(syntax.Inside(f.tree.Source, path.Span, start, end)), "http-path", message, mend)
		return false
	}
	text := path.Text
	switch {
	case !strings.HasPrefix(text, "/"):
		r.findings.Add(source.Finding{Name: "http-path", Place: f.place(path.Span), Message: "a path begins with /", Mend: "write " + quote("/"+text),
			Edits: []source.Edit{{Place: f.place(source.Span{Start: path.Span.Start + 1, End: path.Span.Start + 1}), Text: "/"}}, Sure: true})
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
				ok = refuse(start, end, field.Name+" stands twice in the path", "remove one of the two")
			}
			h.Segments = append(h.Segments, Segment{Field: field})
			continue
		case strings.ContainsAny(part, "{}"):
			return refuse(start, end, "a field takes a whole part of a path", "put a / on both sides of {…}")
		default:
			if i := strings.IndexFunc(part, func(c rune) bool { return !isPathChar(c) }); i >= 0 {
				mend := "write letters, digits and any of -._~!$&'()*+,;=:@"
				if part[i] == '?' {
					mend = "parameters of the query are fields: #1 from text in query"
				} else if part[i] == ':' && i == 0 {
					mend = "a field is written {name}"
				}
				return refuse(start+i, start+i+1, fmt.Sprintf("%q can't stand in a path", []rune(part[i:])[0]), mend)
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
	return c < 128 && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("-._~!$&'()*+,;=:@", c))
}

// pathField finds the field that a part of a path names.
func (r *resolver) pathField(f *fileScope, path syntax.Name, c *Call, name string, at int) *Field {
	place := f.place(syntax.Inside(f.tree.Source, path.Span, at, at+len(name)))
	if c.RequestStream {
		r.report(place, "http-path", "a call with a stream of requests has no fields in its path", "put it into the stream's elements")
		return nil
	}
	if c.Request == nil {
		r.report(place, "http-path", fmt.Sprintf("%s has no request, and so no field %s", c.Name, name), "give it a request message with that field")
		return nil
	}
	field := c.Request.ByName(name)
	note := source.Note{Place: c.Request.Place, Message: "the request is declared here"}
	if field == nil {
		mend := r.meant(name, "add it there, or write one of: ", names(c.Request.Fields, func(x *Field) string { return x.Name }))
		r.report(place, "http-path", fmt.Sprintf("%s has no field %s", c.Request.Name, name), mend, note)
		return nil
	}
	note = source.Note{Place: field.Place, Message: "the field is declared here"}
	switch {
	case field.Type.Kind == KindInvalid:
		return nil
	case field.Presence != Required:
		r.report(place, "http-path", fmt.Sprintf("%s may be absent, and a path has all its parts", name), "make the field required, or let it travel in the query", note)
	case field.In != nil:
		r.report(place, "http-path", fmt.Sprintf("%s is in the path, and its mark says in %s", name, field.In.Place), "remove one of the two: the path alone places a field", note)
	case field.Type.Kind == KindList:
		r.report(place, "http-path", fmt.Sprintf("%s is a list, and a part of a path is one value", name), "let it travel in the query", note)
	default:
		if why, mend := notPlaceable(field.Type, field.Bounds); why != "" {
			r.report(place, "http-path", fmt.Sprintf("%s %s", name, why), mend, note)
			break
		}
		return field
	}
	return nil
}

// notPlaceable says why values of a type can't travel outside of a body, or
// nothing.
func notPlaceable(t *Type, b *Bounds) (why, mend string) {
	switch t.Kind {
	case KindMessage, KindUnion, KindMap, KindAny:
		return fmt.Sprintf("is %s, which can't travel outside of a body", describe(t)), "take POST, PUT or PATCH, or fields of its own"
	case KindBytes:
		limited := func(b *Bounds) bool { return b != nil && b.Length != nil && b.Length.High <= MaxPlacedBytes }
		if !limited(b) && (t.Named == nil || !limited(t.Named.Bounds)) {
			return "is bytes, which travel outside of a body only when they are short", fmt.Sprintf("write: where length 0..%d", MaxPlacedBytes)
		}
	}
	return "", ""
}

// headersTaken are the headers that HTTP itself, its tools or our servers use.
var headersTaken = map[string]bool{}

func init() {
	for name := range strings.FieldsSeq(`accept accept-charset accept-encoding accept-language accept-ranges age allow alt-svc authorization cache-control connection
		content-disposition content-encoding content-language content-length content-location content-range content-type cookie date etag expect expires
		faithful-definitions forwarded from host if-match if-modified-since if-none-match if-range if-unmodified-since keep-alive last-modified link location
		max-forwards origin pragma prefer preference-applied proxy-authenticate proxy-authorization proxy-connection range referer retry-after server
		set-cookie te traceparent tracestate trailer transfer-encoding upgrade user-agent vary via warning www-authenticate`) {
		headersTaken[name] = true
	}
}

// HeaderTaken tells the headers that a field or key can't have.
func HeaderTaken(name string) bool {
	name = strings.ToLower(name)
	return headersTaken[name] || strings.HasPrefix(name, "sec-") || strings.HasPrefix(name, "access-control-")
}

// isToken tells the tokens of RFC 9110, section 5.6.2: names of headers and
// cookies.
func isToken(s string) bool {
	return s != "" && strings.IndexFunc(s, func(c rune) bool {
		return c > 126 || !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("!#$%&'*+-.^_`|~", c))
	}) < 0
}

// checkHTTP refuses placements that can't travel, and paths that overlap.
func checkHTTP(d *Definitions, findings *source.Findings) {
	report := func(place source.Place, name, message, mend string, notes ...source.Note) {
		findings.Add(source.Finding{Name: name, Place: place, Message: message, Mend: mend, Notes: notes})
	}
	calls := d.Calls()
	for _, c := range calls {
		if c.HTTP != nil && c.Request != nil && !c.RequestStream {
			checkPlaces(c, report)
		}
	}
	checkPlacedMessages(d, calls, report)
	checkPaths(calls, report)
}

type reporter func(place source.Place, name, message, mend string, notes ...source.Note)

// checkPlaces checks where the fields of one call travel.
func checkPlaces(c *Call, report reporter) {
	taken := map[string]*Field{}
	for _, p := range c.Places() {
		f := p.Field
		if f.Type.Kind == KindInvalid || p.Place == "body" || p.Place == "path" {
			continue
		}
		note := source.Note{Place: c.Place, Message: "the call is here"}
		where := map[string]string{"query": "the query", "header": "a header", "cookie": "a cookie"}[p.Place]
		how := ""
		if f.In == nil {
			how = fmt.Sprintf(": %s has no body", c.HTTP.Method)
		}
		element := f.Type
		if f.Type.Kind == KindList {
			switch {
			case p.Place != "query":
				report(f.Place, "placement", fmt.Sprintf("%s is a list, and a list travels in the query alone, not in %s", f.Name, where), "write: in query", note)
				continue
			case f.Presence == Optional:
				report(f.Place, "placement", fmt.Sprintf("%s is a list that may be absent, and %s puts it into the query%s; there it can't be told from an empty one", f.Name, c.Name, how), "remove the ?", note)
				continue
			case f.Type.Elem.Kind == KindList:
				report(f.Place, "placement", fmt.Sprintf("%s is a list of lists, which can't travel outside of a body", f.Name), "take POST, PUT or PATCH", note)
				continue
			}
			element = f.Type.Elem
		}
		var bounds *Bounds
		if element == f.Type {
			bounds = f.Bounds
		}
		if why, mend := notPlaceable(element, bounds); why != "" {
			if element != f.Type {
				why = "is a list of what " + why
			}
			report(f.Place, "placement", fmt.Sprintf("%s %s, and %s puts it into %s%s", f.Name, why, c.Name, where, how), mend, note)
			continue
		}
		key := p.Place + " " + p.Name
		switch p.Place {
		case "header":
			key = strings.ToLower(key)
			if HeaderTaken(p.Name) {
				report(f.Place, "http-header", fmt.Sprintf("HTTP itself uses the header %s", p.Name), "give it another name, such as: in header \"X-"+syntax.PascalCase(f.Name)+"\"")
				continue
			}
			fallthrough
		case "cookie":
			if !isToken(p.Name) {
				report(f.Place, "http-name", fmt.Sprintf("%q can't be the name of %s", p.Name, where), "give it another: in "+p.Place+" \"NAME\"")
				continue
			}
		}
		if before := taken[key]; before != nil {
			report(f.Place, "placement", fmt.Sprintf("%s and %s travel under the same name in %s: %s", before.Name, f.Name, where, p.Name), "give one of them another name: in "+p.Place+" \"NAME\"",
				source.Note{Place: before.Place, Message: "the other is here"})
			continue
		}
		taken[key] = f
		for _, alternative := range c.Needs {
			for _, credential := range alternative {
				if credential.Travels() == key {
					report(f.Place, "placement", fmt.Sprintf("%s travels where the credential %s does: in %s %s", f.Name, credential.Name, where, p.Name), "give one of them another name",
						source.Note{Place: credential.Place, Message: "the credential is declared here"})
				}
			}
		}
	}
}

// checkPlacedMessages refuses the mark in outside of messages that are nothing
// but requests of calls with http.
func checkPlacedMessages(d *Definitions, calls []*Call, report reporter) {
	var placed []*Field
	for _, m := range d.Modules {
		for _, msg := range m.Messages {
			if i := slices.IndexFunc(msg.Fields, func(f *Field) bool { return f.In != nil }); i >= 0 {
				placed = append(placed, msg.Fields[i])
			}
		}
	}
	if len(placed) == 0 {
		return
	}
	watched := map[any]*Message{}
	for _, f := range placed {
		watched[f.Message] = f.Message
	}
	requests := map[*Message]bool{}
	other := map[*Message]source.Note{}
	use := func(m *Message, place source.Place, message string) {
		if _, known := other[m]; !known && m != nil {
			other[m] = source.Note{Place: place, Message: message}
		}
	}
	for _, c := range calls {
		switch {
		case c.RequestStream:
			use(c.Request, c.Place, "it is an element of a stream here")
		case c.HTTP == nil:
			use(c.Request, c.Place, "it is the request of a call without http here")
		case c.Request != nil:
			requests[c.Request] = true
		}
		use(c.Response, c.Place, "it is an answer here")
	}
	held := func(t *Type, place source.Place) {
		t.uses("", func(used any, _ string) { use(watched[used], place, "it is held by something else here") })
	}
	for _, m := range d.Modules {
		for _, t := range m.Types {
			if t.Type.Elem != nil {
				held(t.Type.Elem, t.Place)
			}
		}
		for _, u := range m.Unions {
			for _, a := range u.Alternatives {
				held(a.Type, a.Place)
			}
		}
		for _, msg := range m.Messages {
			for _, f := range msg.Fields {
				held(f.Type, f.Place)
			}
		}
	}
	for _, f := range placed {
		m := f.Message
		note, elsewhere := other[m]
		switch {
		case m.Stored:
			report(f.Place, "placement", fmt.Sprintf("%s is stored, and a field of it travels in %s", m.Name, f.In.Place), "declare a message for the request alone")
		case elsewhere:
			report(f.Place, "placement", fmt.Sprintf("%s travels in %s, but %s is not only a request of calls with http", f.Name, f.In.Place, m.Name), "declare a message for the request alone", note)
		case !requests[m]:
			report(f.Place, "placement", fmt.Sprintf("%s travels in %s, but %s is no request of a call with http", f.Name, f.In.Place, m.Name), "give the call an http clause, or remove the mark")
		}
	}
}

// pathNode is a part of the tree of all paths of one method.
type pathNode struct {
	literals map[string]*pathNode
	field    *pathNode
	call     *Call // whose path ends here
}

// checkPaths refuses two calls of one method whose paths a request could both
// match, unless one is strictly more specific.
func checkPaths(calls []*Call, report reporter) {
	if !slices.ContainsFunc(calls, func(c *Call) bool { return c.HTTP != nil }) {
		return // default paths differ by their names
	}
	sorted := slices.Clone(calls)
	slices.SortStableFunc(sorted, func(a, b *Call) int { return comparePlaces(a.Place, b.Place) })
	roots := map[string]*pathNode{}
	for _, c := range sorted {
		method := c.Method()
		if c.RequestStream && c.ResponseStream {
			method = "GET"
		}
		root := roots[method]
		if root == nil {
			root = &pathNode{}
			roots[method] = root
		}
		segments := c.PathSegments()
		if other := root.overlap(segments, 0, false, false); other != nil {
			path := c.Place
			if c.HTTP != nil {
				path = c.HTTP.Place
			}
			message := fmt.Sprintf("%s and %s have the same path: %s %s", other.Name, c.Name, method, c.Path())
			mend := "change one of them"
			if example := common(segments, other.PathSegments()); !slices.Equal(literals(segments), literals(other.PathSegments())) {
				message = fmt.Sprintf("%s %s belongs to %s (%s) and to %s (%s), and neither is more specific", method, example, other.Name, other.Path(), c.Name, c.Path())
				mend = "let one of them begin differently"
			}
			report(path, "path-overlap", message, mend, source.Note{Place: other.Place, Message: "the other is here"})
			continue
		}
		root.add(segments, c)
	}
}

// PathSegments are the parts of the call's path, of its default path too.
func (c *Call) PathSegments() []Segment {
	if c.HTTP != nil {
		return c.HTTP.Segments
	}
	var list []Segment
	for part := range strings.SplitSeq(c.Path()[1:], "/") {
		list = append(list, Segment{Literal: part})
	}
	return list
}

func literals(segments []Segment) []string {
	var list []string
	for _, s := range segments {
		text := "/" + s.Literal // a literal is never {}
		if s.Field != nil {
			text = "{}"
		}
		list = append(list, text)
	}
	return list
}

// common is a path that two lists of segments both match.
func common(a, b []Segment) string {
	text := ""
	for i := range a {
		part := cmp.Or(a[i].Literal, b[i].Literal)
		if a[i].Field != nil && b[i].Field != nil {
			part = "x"
		}
		text += "/" + part
	}
	return text
}

func (n *pathNode) add(segments []Segment, c *Call) {
	for _, s := range segments {
		next := &n.field
		if s.Field == nil {
			if n.literals == nil {
				n.literals = map[string]*pathNode{}
			}
			child := n.literals[s.Literal]
			if child == nil {
				child = &pathNode{}
				n.literals[s.Literal] = child
			}
			n = child
			continue
		}
		if *next == nil {
			*next = &pathNode{}
		}
		n = *next
	}
	n.call = c
}

// overlap finds a call in the tree that overlaps with segments, where neither
// is strictly more specific. mine and theirs tell whose literal stood against a
// field of the other so far.
func (n *pathNode) overlap(segments []Segment, at int, mine, theirs bool) *Call {
	if n == nil {
		return nil
	}
	if at == len(segments) {
		if n.call != nil && mine == theirs {
			return n.call
		}
		return nil
	}
	if s := segments[at]; s.Field == nil {
		if other := n.literals[s.Literal].overlap(segments, at+1, mine, theirs); other != nil {
			return other
		}
		return n.field.overlap(segments, at+1, true, theirs)
	}
	if other := n.field.overlap(segments, at+1, mine, theirs); other != nil {
		return other
	}
	names := make([]string, 0, len(n.literals))
	for name := range n.literals {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		if other := n.literals[name].overlap(segments, at+1, mine, true); other != nil {
			return other
		}
	}
	return nil
}
