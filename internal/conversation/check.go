package conversation

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/pattern"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// Check adds to findings what can't travel over HTTP as definitions have it.
func Check(d *schema.Definitions, findings *source.Findings) {
	c := &checker{findings: findings, calls: d.Calls(), mixed: map[*schema.Message]bool{}}
	for _, m := range d.Modules {
		for _, k := range m.Credentials {
			c.credential(k)
		}
	}
	c.placedMessages(d)
	for _, call := range c.calls {
		c.head(call)
		if call.HTTP == nil {
			continue
		}
		c.method(call)
		c.status(call)
		if call.HTTP.PathWrong {
			continue
		}
		c.pathFields(call)
		c.raw(call)
		if call.Placed() != nil && call.Head == nil {
			c.places(call, Outside(call), false)
		}
		if call.Response != nil && !call.ResponseStream {
			c.places(call, AnswerOutside(call), true)
		}
	}
	c.paths()
}

// head refuses heads of streams whose fields can't all travel outside of a body.
func (c *checker) head(call *schema.Call) {
	if call.Head == nil || call.HTTP != nil && call.HTTP.PathWrong {
		return
	}
	if f := call.Head.Raw(); f != nil && !c.mixed[f.Message] {
		c.report(f.Place, "placement", fmt.Sprintf("%q is a body, as it is, and the body of %q is the stream", f.Name,
			call.Name), "send it with a call of its own", source.Note{Place: call.Place,
			Message: "the call is here"})
		return
	}
	c.places(call, Outside(call), false)
}

// checker collects what is wrong with calls.
type checker struct {
	findings *source.Findings
	calls    []*schema.Call
	mixed    map[*schema.Message]bool // with placed fields, and used where those can't travel
}

func (c *checker) report(place source.Place, name, message, fix string, notes ...source.Note) {
	c.findings.Add(source.Finding{Name: name, Place: place, Message: message, Fix: fix, Notes: notes})
}

// credential refuses names under which a key can't travel.
func (c *checker) credential(k *schema.Credential) {
	if k.Kind != "key" {
		return
	}
	switch {
	case k.Carrier == "header" && strings.EqualFold(k.Key, "Authorization"):
		c.report(k.KeyPlace, "http-header", "Authorization carries bearer and basic credentials",
			"write bearer or basic, or name another header")
	case k.Carrier == "header" && HeaderTaken(k.Key):
		c.report(k.KeyPlace, "http-header", fmt.Sprintf("HTTP itself uses the header %q", k.Key),
			"choose another name, such as \"Desk-Key\"")
	case k.Key == "" || k.Carrier != "query" && !isToken(k.Key):
		c.report(k.KeyPlace, "http-name", fmt.Sprintf("%q can't be the name of a %s", k.Key, k.Carrier),
			"names are letters, digits and any of !#$%&'*+-.^_`|~")
	}
}

// method refuses methods that can't carry what a call sends.
func (c *checker) method(call *schema.Call) {
	h := call.HTTP
	switch {
	case BothWays(call) && h.Method != "GET":
		c.findings.Add(source.Finding{Name: "http-method", Place: h.MethodPlace,
			Message: "a call that streams both ways begins with a GET that opens a WebSocket", Fix: "write GET",
			Edits: []source.Edit{{Place: h.MethodPlace, Text: "GET"}}, Sure: true})
	case call.RequestStream && !BothWays(call) && !methodHasBody(h.Method):
		c.report(h.MethodPlace, "http-method",
			fmt.Sprintf("%s has no body, and a stream of requests travels in it", h.Method), "write POST")
	case h.Method == "GET" && !call.Safe && !BothWays(call):
		c.findings.Add(source.Finding{Name: "get-not-safe", Place: h.MethodPlace,
			Message: fmt.Sprintf("GET promises that the call only reads, and %q does not say that it is safe", call.Name),
			Fix:     "write \"safe\" after it, or POST if it changes something",
			Edits:   []source.Edit{{Place: h.End, Text: " safe"}}})
	}
}

// status refuses statuses that don't say success, or say what is not so.
func (c *checker) status(call *schema.Call) {
	h := call.HTTP
	at := slices.IndexFunc(AnswerOutside(call), func(p Placed) bool { return p.Is("Location") })
	switch n := h.Status; {
	case h.StatusPlace.File == nil:
	case slices.Contains(redirects, n) && at < 0:
		c.report(h.StatusPlace, "http-status",
			fmt.Sprintf("%d sends the client elsewhere, and the answer does not say where", n),
			"give the answer a field: location text in header \"Location\"")
	case slices.Contains(redirects, n) && AnswerOutside(call)[at].Field.Presence != schema.Required:
		f := AnswerOutside(call)[at].Field
		c.report(h.StatusPlace, "http-status",
			fmt.Sprintf("%d sends the client elsewhere, and %q may be absent", n, f.Name),
			"make the field required", source.Note{Place: f.Place, Message: "the field is declared here"})
	case slices.Contains(redirects, n):
	case n < 200 || n > 299:
		c.report(h.StatusPlace, "http-status",
			fmt.Sprintf("the status of success is 200 to 299, not %s", h.StatusPlace.Text()),
			"201 says that something was made; errors have their status where they are declared")
	case (n == 204 || n == 205) && call.Response != nil && !AnswerMayBeEmpty(call):
		c.report(h.StatusPlace, "http-status",
			fmt.Sprintf("%d says that the answer has no body, and %q answers %q", n, call.Name, call.Response.Name),
			"remove it, or answer ()")
	case n == 206:
		c.report(h.StatusPlace, "http-status", "206 belongs to requests for a range of bytes", "write 200")
	}
}

// raw refuses raw bodies that can't be those of a call.
func (c *checker) raw(call *schema.Call) {
	note := source.Note{Place: call.Place, Message: "the call is here"}
	if f := Raw(call); f != nil && !c.mixed[f.Message] && !methodHasBody(call.HTTP.Method) {
		c.report(f.Place, "placement", fmt.Sprintf("%q is the body, and %s has none", f.Name, call.HTTP.Method),
			"take POST, PUT or PATCH", note)
	}
	if f := Raw(call); f != nil && !c.mixed[f.Message] && call.ResponseStream {
		c.report(f.Place, "placement",
			fmt.Sprintf("%q is the body as it is, and %q answers with a stream", f.Name, call.Name),
			"let one call take the body, and another one answer with the stream", note)
	}
	f := AnswerRaw(call)
	if f == nil || c.mixed[f.Message] {
		return
	}
	if call.RequestStream {
		c.report(f.Place, "placement", fmt.Sprintf("%q is the body as it is, and %q takes a stream", f.Name, call.Name),
			"let one call take the stream, and another one answer with the body", note)
	}
	for _, p := range AnswerPlaces(call) {
		if p.Place == InBody && p.Field.Type.Kind != schema.KindInvalid {
			c.report(p.Field.Place, "placement", fmt.Sprintf("%q has no place: the body is %q, as it is", p.Field.Name, f.Name),
				"write: in header", note)
		}
	}
}

// rawFields refuses marks of raw bodies that don't say how a body can be.
func (c *checker) rawFields(m *schema.Message) {
	var first *schema.Field
	for _, f := range m.Fields {
		if !f.IsRaw() || f.Type.Kind == schema.KindInvalid {
			continue
		}
		switch {
		case first != nil:
			c.report(f.Place, "placement", fmt.Sprintf("%q and %q can't both be the body", first.Name, f.Name),
				"remove one of the marks", source.Note{Place: first.Place, Message: "the other is here"})
		case f.Type.Kind != schema.KindBytes:
			c.report(f.Place, "placement", fmt.Sprintf("%q is %s, and what is in the body as it is are bytes", f.Name,
				f.Type.Described()), "write: "+f.Name+" bytes in body \""+f.In.Name+"\"")
		case f.Presence != schema.Required:
			c.report(f.Place, "placement",
				fmt.Sprintf("%q may be absent, and there is always a body, even if it is empty", f.Name),
				"make the field required")
		case !isMediaPattern(f.In.Name):
			c.report(f.Place, "media-type", fmt.Sprintf("%q is not a media type", f.In.Name),
				`write it in lower case and without parameters, such as "image/png", "image/*" or "*/*"`)
		}
		first = f
	}
}

// isMediaPattern tells media types, without parameters, whose parts may be * (RFC 9110, section 12.5.1).
func isMediaPattern(s string) bool {
	kind, subtype, ok := strings.Cut(s, "/")
	token := func(s string) bool { return isToken(s) && !strings.Contains(s, "*") && s == strings.ToLower(s) }
	return ok && (s == "*/*" || token(kind) && (subtype == "*" || token(subtype)))
}

// Takes tells whether what a media pattern allows is all allowed by another one.
func Takes(wide, narrow string) bool {
	kind, _ := strings.CutSuffix(wide, "*")
	return wide == narrow || wide == "*/*" || kind != wide && strings.HasPrefix(narrow, kind)
}

// pathFields refuses fields that can't be a part of a path.
func (c *checker) pathFields(call *schema.Call) {
	for _, s := range call.HTTP.Segments {
		f := s.Field
		if f == nil || f.Type.Kind == schema.KindInvalid {
			continue
		}
		note := source.Note{Place: f.Place, Message: "the field is declared here"}
		refuse := func(message, fix string) {
			c.report(s.Place, "http-path", strconv.Quote(f.Name)+" "+message, fix, note)
		}
		switch {
		case f.Presence != schema.Required:
			refuse("may be absent, and a path has all its parts",
				"make the field required, or let it travel in the query")
		case f.In != nil:
			refuse("is in the path, and its mark says in "+f.In.Place, "remove one of the two: the path alone places a field")
		case f.Type.Kind == schema.KindList:
			refuse("is a list, and a part of a path is one value", "let it travel in the query")
		default:
			if why, fix := notPlaceable(f.Type, f.Bounds); why != "" {
				refuse(why, fix)
			}
		}
	}
}

// notPlaceable says why values of a type can't travel outside of a body, or
// nothing.
func notPlaceable(t *schema.Type, b *schema.Bounds) (why, fix string) {
	switch t.Kind {
	case schema.KindMessage, schema.KindUnion, schema.KindMap, schema.KindAny:
		return fmt.Sprintf("is %s, which can't travel outside of a body", t.Described()),
			"take POST, PUT or PATCH, or fields of its own"
	case schema.KindBytes:
		limited := func(b *schema.Bounds) bool {
			return b != nil && b.Length != nil && b.Length.High <= MaxPlacedBytes
		}
		if !limited(b) && (t.Named == nil || !limited(t.Named.Bounds)) {
			return "is bytes, which travel outside of a body only when they are short",
				fmt.Sprintf("write: where length 0..%d", MaxPlacedBytes)
		}
	}
	return "", ""
}

// places refuses fields that can't travel where one call puts them.
// FitsQuery tells whether a field could travel in the query of a request.
func FitsQuery(f *schema.Field) bool {
	element, bounds := f.Type, f.Bounds
	if f.Type.Kind == schema.KindList {
		element, bounds = f.Type.Elem, nil
		if f.Presence == schema.Optional || element.Kind == schema.KindList {
			return false
		}
	}
	why, _ := notPlaceable(element, bounds)
	return why == ""
}

func (c *checker) places(call *schema.Call, placed []Placed, answers bool) {
	taken := map[string]*schema.Field{}
	for _, p := range placed {
		f := p.Field
		if f.Type.Kind == schema.KindInvalid || p.Place == InPath || f.In != nil && c.mixed[f.Message] ||
			!c.placeable(call, p, answers) {
			continue
		}
		key := string(p.Place) + " " + p.Name
		if p.Place == InHeader {
			key = strings.ToLower(key)
		}
		if before := taken[key]; before != nil {
			c.report(f.Place, "placement",
				fmt.Sprintf("%q and %q travel under the same name in %s: %q", before.Name, f.Name, nouns[p.Place], p.Name),
				fmt.Sprintf("give one of them another name: in %s \"NAME\"", p.Place),
				source.Note{Place: before.Place, Message: "the other is here"})
			continue
		}
		taken[key] = f
		if answers {
			continue
		}
		for _, alternative := range call.Needs {
			for _, k := range alternative {
				if k.Travels() == key {
					c.report(f.Place, "placement",
						fmt.Sprintf("%q travels where the credential %q does: in %s %q", f.Name, k.Name, nouns[p.Place], p.Name),
						"give one of them another name", source.Note{Place: k.Place, Message: "the credential is declared here"})
				}
			}
		}
	}
}

// nouns are the places, for a sentence.
var nouns = map[Place]string{InQuery: "the query", InHeader: "a header", InCookie: "a cookie"}

// placeable refuses a field whose values or name can't travel where it is placed.
func (c *checker) placeable(call *schema.Call, p Placed, answers bool) bool {
	f, where := p.Field, nouns[p.Place]
	note := source.Note{Place: call.Place, Message: "the call is here"}
	refuse := func(message, fix string) bool {
		c.report(f.Place, "placement", strconv.Quote(f.Name)+" "+message, fix, note)
		return false
	}
	if answers && p.Place == InQuery {
		return refuse(fmt.Sprintf("is in the query, and %q is an answer, which has none", call.Response.Name),
			"write: in header, or in cookie")
	}
	if answers && p.Place == InCookie && (f.Type.Kind != schema.KindText || f.Presence != schema.Optional) {
		return refuse("is a cookie of an answer, and those are text that may be absent", "write: "+f.Name+" text? in cookie")
	}
	how := ""
	switch raw := Raw(call); {
	case f.In != nil:
	case raw != nil:
		how = fmt.Sprintf(": the body is %q, as it is", raw.Name)
	case call.RequestStream:
		how = ": the body is the stream"
	default:
		how = fmt.Sprintf(": %s has no body", call.HTTP.Method)
	}
	element, bounds := f.Type, f.Bounds
	if f.Type.Kind == schema.KindList {
		switch {
		case answers:
			return refuse("is a list, which can't travel in "+where, "remove the mark, so that it is in the body")
		case p.Place != InQuery:
			return refuse("is a list, and a list travels in the query alone, not in "+where, "write: in query")
		case f.Presence == schema.Optional:
			return refuse(fmt.Sprintf("is a list that may be absent, and %q puts it into the query%s; "+
				"there it can't be told from an empty one", call.Name, how), "remove the ?")
		case f.Type.Elem.Kind == schema.KindList:
			return refuse("is a list of lists, which can't travel outside of a body", "take POST, PUT or PATCH")
		}
		element, bounds = f.Type.Elem, nil
	}
	if why, fix := notPlaceable(element, bounds); why != "" {
		if (Raw(call) != nil || call.RequestStream) && !answers && element.Kind != schema.KindBytes {
			fix = "declare fields of its own instead"
		}
		if element != f.Type {
			why = "is a list of what " + why
		}
		return refuse(fmt.Sprintf("%s, and %q puts it into %s%s", why, call.Name, where, how), fix)
	}
	switch lower := strings.ToLower(p.Name); {
	case p.Place == InHeader && !answers && slices.Contains(headersOfRequests, lower),
		p.Place == InHeader && answers && slices.Contains(headersOfAnswers, lower):
		return c.standard(p, refuse)
	case p.Verbatim():
		side, other := "an answer", "requests"
		if !answers {
			side, other = "a request", "answers"
		}
		return refuse(fmt.Sprintf("is in the header %q, which %s does not have: it belongs to %s", p.Name, side, other),
			"give it another name")
	case p.Place == InHeader && HeaderTaken(p.Name):
		c.report(f.Place, "http-header", fmt.Sprintf("HTTP itself uses the header %q", p.Name),
			"give it another name, such as: in header \""+syntax.PascalCase(call.Name)+"-"+syntax.PascalCase(f.Name)+"\"")
		return false
	case p.Place != InQuery && !isToken(p.Name):
		c.report(f.Place, "http-name", fmt.Sprintf("%q can't be the name of %s", p.Name, where),
			fmt.Sprintf("give it another: in %s \"NAME\"", p.Place))
		return false
	}
	return true
}

// standard refuses a field in a header that HTTP has a meaning for, unless it is a text.
func (c *checker) standard(p Placed, refuse func(message, fix string) bool) bool {
	f := p.Field
	switch {
	case f.Type.Kind != schema.KindText:
		return refuse(fmt.Sprintf("is of type %s, and the header %q, which HTTP defines, is a text", f.Type.Short(), p.Name),
			"write: "+f.Name+" text?")
	case p.Is("If-None-Match") && f.Presence != schema.Optional:
		return refuse(`is in the header "If-None-Match", which only some requests have`, "write: "+f.Name+" text?")
	case !someFit(p):
		what, fix := "text that can travel there", "write a pattern that printable ASCII can match"
		if p.Is("ETag") {
			what, fix = "entity-tag, such as \"a1\" with its quotes", `write, for example: where pattern "^\"[0-9a-z]*\"$"`
		}
		return refuse(fmt.Sprintf("is in the header %q, and its bounds allow no %s", p.Name, what), fix)
	}
	return true
}

// someFit tells whether the bounds of a field allow any text that can travel where it is placed.
func someFit(p Placed) bool {
	bounds := []*schema.Bounds{p.Field.Bounds}
	if p.Field.Type.Named != nil {
		bounds = append(bounds, p.Field.Type.Named.Bounds)
	}
	texts := []string{p.Pattern()}
	low, high := uint64(0), uint64(schema.Unlimited)
	for _, b := range bounds {
		if b != nil && b.Length != nil {
			low, high = max(low, b.Length.Low), min(high, b.Length.High)
		}
		if b != nil && b.Pattern != "" {
			texts = append(texts, b.Pattern)
		}
	}
	var nodes []*pattern.Node
	for _, text := range texts {
		node, problem := pattern.Parse(text)
		if problem != nil {
			return true // which is said where it stands
		}
		nodes = append(nodes, node)
	}
	_, fits, err := pattern.NewAutomaton(nodes...).Text(low, high, func(int) int { return 0 })
	return fits || err != nil
}

// placedMessages refuses the mark in outside of messages that are nothing but requests,
// or nothing but answers, of calls with http.
func (c *checker) placedMessages(d *schema.Definitions) {
	var placed []*schema.Field
	watched := map[schema.Declaration]*schema.Message{}
	for _, m := range d.Modules {
		for _, msg := range m.Messages {
			c.rawFields(msg)
			if i := slices.IndexFunc(msg.Fields, func(f *schema.Field) bool { return f.In != nil }); i >= 0 {
				placed = append(placed, msg.Fields[i])
				watched[msg] = msg
			}
		}
	}
	if len(placed) == 0 {
		return
	}
	// The side on which each message is used by calls with http, and what else uses it.
	sides := map[*schema.Message]string{}
	other := map[*schema.Message]source.Note{}
	use := func(m *schema.Message, place source.Place, message string) {
		if _, known := other[m]; !known && m != nil {
			other[m] = source.Note{Place: place, Message: message}
		}
	}
	side := func(m *schema.Message, call *schema.Call, name string, stream bool) {
		switch {
		case m == nil:
		case stream:
			use(m, call.Place, "it is an element of a stream here")
		case call.HTTP == nil:
			use(m, call.Place, "it is the "+name+" of a call without http here")
		case sides[m] != "" && sides[m] != name:
			use(m, call.Place, "it is the "+name+" here, and the "+sides[m]+" of another call")
		default:
			sides[m] = name
		}
	}
	for _, call := range c.calls {
		side(call.Request, call, "request", call.RequestStream)
		side(call.Head, call, "request", false)
		side(call.Response, call, "answer", call.ResponseStream)
	}
	for _, m := range d.Modules {
		m.EachType(func(t *schema.Type, place source.Place) {
			for _, used := range t.Names() {
				use(watched[used], place, "it is held by something else here")
			}
		})
	}
	for _, f := range placed {
		m := f.Message
		note, elsewhere := other[m]
		where := fmt.Sprintf("%q travels in a %s", f.Name, f.In.Place)
		switch f.In.Place {
		case "query":
			where = fmt.Sprintf("%q travels in the query", f.Name)
		case "body":
			where = fmt.Sprintf("%q is a body, as it is", f.Name)
		}
		switch {
		case m.Stored:
			c.report(f.Place, "placement",
				fmt.Sprintf("%q is stored, and a field of it travels in %s", m.Name, f.In.Place),
				"declare a message for the call alone")
		case elsewhere:
			c.mixed[m] = true
			c.report(f.Place, "placement",
				fmt.Sprintf("%s, but %q is not only a request, or only an answer, of calls with http", where, m.Name),
				"declare a message for that alone", note)
		case sides[m] == "":
			c.report(f.Place, "placement",
				fmt.Sprintf("%s, but %q is neither a request nor an answer of a call with http", where, m.Name),
				"give the call an http clause, or remove the mark")
		}
	}
}

// paths refuses two calls of one method whose paths a request could both match, unless
// one is strictly more specific.
func (c *checker) paths() {
	if !slices.ContainsFunc(c.calls, func(call *schema.Call) bool { return call.HTTP != nil }) {
		return // default paths differ by their names
	}
	sorted := slices.Clone(c.calls)
	// In the order written, so that the later of two is the one at fault.
	slices.SortStableFunc(sorted, func(a, b *schema.Call) int { return source.ComparePlaces(a.Place, b.Place) })
	routes := NewRoutes(nil)
	for _, call := range sorted {
		if call.HTTP != nil && call.HTTP.PathWrong {
			continue
		}
		other := routes.clash(call)
		if other == nil {
			routes.Add(call)
			continue
		}
		place := call.Place
		if call.HTTP != nil {
			place = call.HTTP.Place
		}
		message := fmt.Sprintf("%q and %q have the same path: %s %s", other.Name, call.Name, Method(call), Path(call))
		fix := "change one of them"
		if Pattern(call) != Pattern(other) {
			message = fmt.Sprintf("%s %s belongs to %q (%s) and to %q (%s), and neither is more specific",
				Method(call), inBoth(call, other), other.Name, Path(other), call.Name, Path(call))
			fix = "let one of them begin differently"
		}
		c.report(place, "path-overlap", message, fix, source.Note{Place: other.Place, Message: "the other is here"})
	}
}

// clash finds a call with which another one overlaps, and neither is more specific.
func (r *Routes) clash(c *schema.Call) *schema.Call {
	for other, relation := range r.Overlapping(c) {
		if relation == Neither {
			return other
		}
	}
	return nil
}

// inBoth is a path that both calls match.
func inBoth(a, b *schema.Call) (path string) {
	others := Segments(b)
	for i, s := range Segments(a) {
		path += "/" + cmp.Or(s.Literal, others[i].Literal, "x")
	}
	return path
}

// headersTaken are the headers that HTTP itself, its tools or our servers use.
var headersTaken = strings.Fields(`accept accept-charset accept-encoding accept-language accept-ranges age allow
	alt-svc authorization cache-control connection content-disposition content-encoding content-language content-length
	content-location content-range content-type cookie date etag expect expires faithful-definitions forwarded from host
	if-match if-modified-since if-none-match if-range if-unmodified-since keep-alive last-modified link location
	max-forwards origin pragma prefer preference-applied proxy-authenticate proxy-authorization proxy-connection range
	referer retry-after server set-cookie te traceparent tracestate trailer transfer-encoding upgrade user-agent vary via
	warning www-authenticate`)

// HeaderTaken tells the headers that a field or key can't have.
func HeaderTaken(name string) bool {
	name = strings.ToLower(name)
	return slices.Contains(headersTaken, name) || strings.HasPrefix(name, "sec-") ||
		strings.HasPrefix(name, "access-control-")
}

// isToken tells the tokens of RFC 9110, section 5.6.2: names of headers and cookies.
func isToken(s string) bool {
	return s != "" && strings.IndexFunc(s, func(c rune) bool {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
		return c > 126 || !letter && !strings.ContainsRune("!#$%&'*+-.^_`|~", c)
	}) < 0
}
