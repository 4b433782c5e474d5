package conversation

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
)

// MaxPlacedBytes is the largest upper limit of the length of bytes that
// travel outside of a body.
const MaxPlacedBytes = 1024

// Place is where in an HTTP message a field travels.
type Place string

// The places.
const (
	InBody   Place = "body"
	InPath   Place = "path"
	InQuery  Place = "query"
	InHeader Place = "header"
	InCookie Place = "cookie"
	InRaw    Place = "raw" // the body is the field, as it is
)

// Placed is a field of a request or an answer, and where it travels in a call.
type Placed struct {
	Field *schema.Field
	Place Place
	Name  string // of the parameter, header or cookie; in a path, the field's own; of a raw body its media type
}

// String says where, for people.
func (p Placed) String() string {
	switch p.Place {
	case InBody, InPath:
		return "the " + string(p.Place)
	case InRaw:
		return "the body as " + p.Name
	}
	return fmt.Sprintf("the %s as %s", p.Place, p.Name)
}

// Verbatim tells whether a field travels in a header that HTTP itself has a meaning for:
// as its text, without escapes (RFC 9110).
func (p Placed) Verbatim() bool {
	name := strings.ToLower(p.Name)
	return p.Place == InHeader && (slices.Contains(headersOfRequests, name) || slices.Contains(headersOfAnswers, name))
}

// Sendable tells whether a text can travel where a field is placed.
func (p Placed) Sendable(text string) bool {
	switch {
	case p.Place == InPath:
		return text != "" && text != "." && text != ".."
	case p.Is("ETag"):
		return IsTag(text)
	case p.Verbatim():
		return printable(text)
	}
	return true
}

// Pattern is what every text matches that can travel in a header that HTTP has a meaning
// for; "" for other places.
func (p Placed) Pattern() string {
	switch {
	case p.Is("ETag"):
		return `^(W/)?"[!#-~]*"$`
	case p.Verbatim():
		return `^([!-~]([ -~]*[!-~])?)?$`
	}
	return ""
}

// IsTag tells entity-tags (RFC 9110, section 8.8.3), of printable ASCII alone.
func IsTag(text string) bool {
	opaque := strings.TrimPrefix(text, "W/")
	return printable(text) && len(opaque) >= 2 && opaque[0] == '"' && !strings.Contains(opaque, " ") &&
		strings.IndexByte(opaque[1:], '"') == len(opaque)-2
}

// printable tells what can travel in a header as it is.
func printable(text string) bool {
	return strings.Trim(text, " ") == text &&
		strings.IndexFunc(text, func(c rune) bool { return c < ' ' || c > '~' }) < 0
}

// Is tells whether a field travels in a header of some name (RFC 9110, section 5.1).
func (p Placed) Is(header string) bool {
	return p.Place == InHeader && strings.EqualFold(p.Name, header)
}

// Meets tells whether what is sent in one place is found in the other one. A path has
// its parts by where they stand; names of headers have no case (RFC 9110, section 5.1).
func (p Placed) Meets(other Placed) bool {
	switch {
	case p.Place != other.Place:
		return false
	case p.Place == InPath, p.Place == InRaw, p.Name == other.Name:
		return true
	}
	return p.Place == InHeader && strings.EqualFold(p.Name, other.Name)
}

// Places says where each field of a call's request travels, by number; of a stream those of
// its head. Elements of streams are never placed.
func Places(c *schema.Call) []Placed {
	return placesOf(c.Placed(), func(f *schema.Field) Placed { return PlaceOf(c, f) })
}

// AnswerPlaces says where each field of a call's answer travels, by number: in the body,
// in a header, or in a cookie that is set. Elements of streams are never placed.
func AnswerPlaces(c *schema.Call) []Placed {
	return placesOf(c.Response, func(f *schema.Field) Placed {
		if c.HTTP != nil && !c.ResponseStream && f.In != nil {
			return marked(f)
		}
		return Placed{f, InBody, f.JSONName()}
	})
}

func placesOf(m *schema.Message, place func(*schema.Field) Placed) (list []Placed) {
	if m == nil {
		return nil
	}
	for _, f := range m.Fields {
		list = append(list, place(f))
	}
	return list
}

// PlaceOf says where a field of a call's request travels.
func PlaceOf(c *schema.Call, f *schema.Field) Placed {
	switch {
	case c.HTTP == nil && c.RequestStream:
		return Placed{f, InQuery, f.JSONName()}
	case c.HTTP == nil:
	case slices.ContainsFunc(c.HTTP.Segments, func(s schema.Segment) bool { return s.Field == f }):
		return Placed{f, InPath, f.Name}
	case f.In != nil:
		return marked(f)
	case !HasBody(c) || c.RequestStream:
		return Placed{f, InQuery, f.JSONName()}
	}
	return Placed{f, InBody, f.JSONName()}
}

// Raw is the field of a call's request that is its body, as it is; or nil.
func Raw(c *schema.Call) *schema.Field {
	if c.HTTP == nil || c.Request == nil || c.RequestStream {
		return nil
	}
	return c.Request.Raw()
}

// AnswerRaw is Raw for an answer.
func AnswerRaw(c *schema.Call) *schema.Field {
	if c.HTTP == nil || c.Response == nil || c.ResponseStream {
		return nil
	}
	return c.Response.Raw()
}

// RawLength is how many octets a raw body may have, by its field's bounds and those of its
// type; high is 0 where there is no limit.
func RawLength(f *schema.Field) (low, high uint64) {
	bounds := []*schema.Bounds{f.Bounds}
	if f.Type.Named != nil {
		bounds = append(bounds, f.Type.Named.Bounds)
	}
	for _, b := range bounds {
		if b == nil || b.Length == nil {
			continue
		}
		low = max(low, b.Length.Low)
		if b.Length.High != schema.Unlimited && (high == 0 || b.Length.High < high) {
			high = b.Length.High
		}
	}
	return low, high
}

// SampleType is a media type that a pattern of one allows.
func SampleType(pattern string) string {
	if pattern == "*/*" {
		return "application/octet-stream"
	}
	return strings.Replace(pattern, "*", "x-sample", 1)
}

// TypeBeyond is a media type that one pattern allows and another one does not; "" where there
// is none.
func TypeBeyond(pattern, other string) string {
	if Takes(other, pattern) {
		return ""
	}
	for _, sample := range []string{SampleType(pattern), strings.Replace(pattern, "*", "x-other", 1),
		"application/x-other", "text/x-other"} {
		if Takes(pattern, sample) && !Takes(other, sample) {
			return sample
		}
	}
	return ""
}

// marked is where the mark of a field places it.
func marked(f *schema.Field) Placed {
	if f.IsRaw() {
		return Placed{f, InRaw, f.In.Name}
	}
	return Placed{f, Place(f.In.Place), cmp.Or(f.In.Name, f.JSONName())}
}

// Outside lists the fields of a call's request that travel outside of the body.
func Outside(c *schema.Call) []Placed { return outside(Places(c)) }

// AnswerOutside lists the fields of a call's answer that travel outside of the body.
func AnswerOutside(c *schema.Call) []Placed { return outside(AnswerPlaces(c)) }

func outside(places []Placed) []Placed {
	return slices.DeleteFunc(slices.Clone(places), func(p Placed) bool { return p.Place == InBody || p.Place == InRaw })
}

// Split parts a request into what travels in the body and what travels elsewhere;
// either may be nil. Their fields are the same ones. Where nothing travels elsewhere,
// the body is the request itself; of a stream its elements are, and the head travels
// elsewhere. A raw body is in neither part.
func Split(c *schema.Call) (body, elsewhere *schema.Message) {
	if c.RequestStream {
		if c.Head != nil && len(c.Head.Fields) > 0 {
			elsewhere = c.Head
		}
		return c.Request, elsewhere
	}
	return split(c.Request, Places(c), HasBody(c))
}

// SplitAnswer is Split for an answer. Where all of it travels elsewhere there is no body.
func SplitAnswer(c *schema.Call) (body, elsewhere *schema.Message) {
	places := AnswerPlaces(c)
	hasBody := slices.ContainsFunc(places, func(p Placed) bool { return p.Place == InBody })
	return split(c.Response, places, hasBody || len(places) == 0)
}

func split(m *schema.Message, places []Placed, hasBody bool) (body, elsewhere *schema.Message) {
	if m == nil {
		return nil, nil
	}
	body, elsewhere = &schema.Message{Decl: m.Decl}, &schema.Message{Decl: m.Decl}
	raw := false
	for _, p := range places {
		switch p.Place {
		case InRaw:
			raw = true
		case InBody:
			body.Fields = append(body.Fields, p.Field)
		default:
			elsewhere.Fields = append(elsewhere.Fields, p.Field)
		}
	}
	switch {
	case raw:
		return nil, elsewhere
	case len(elsewhere.Fields) == 0:
		return m, nil
	case !hasBody:
		return nil, elsewhere
	}
	return body, elsewhere
}

// Body is the message in the body of a call where that is not the whole request: its
// fields that are not placed elsewhere. It is nil for calls without a body and for those
// whose body is the request.
func Body(c *schema.Call, name string) *schema.Message {
	if c.RequestStream {
		return nil
	}
	return rest(c, name, Split)
}

// AnswerBody is Body for an answer.
func AnswerBody(c *schema.Call, name string) *schema.Message {
	return rest(c, name, SplitAnswer)
}

func rest(c *schema.Call, name string, split func(*schema.Call) (body, elsewhere *schema.Message)) *schema.Message {
	body, elsewhere := split(c)
	if body == nil || elsewhere == nil {
		return nil
	}
	return &schema.Message{Decl: schema.Decl{Module: c.Service.Module, Name: name}, Fields: body.Fields}
}

// AnswerHasBody tells whether the answer of a call that does not stream it has a body.
func AnswerHasBody(c *schema.Call) bool {
	body, _ := SplitAnswer(c)
	return (body != nil || AnswerRaw(c) != nil) && Status(c) != 204 && Status(c) != 205
}

// AnswerMayBeEmpty tells whether an answer reads as it should where no body comes: fields
// of it travel elsewhere, and the others may all be absent.
func AnswerMayBeEmpty(c *schema.Call) bool {
	body, elsewhere := SplitAnswer(c)
	return elsewhere != nil && AnswerRaw(c) == nil && (body == nil ||
		!slices.ContainsFunc(body.Fields, func(f *schema.Field) bool { return f.Presence == schema.Required }))
}

// headersOfRequests and headersOfAnswers are the headers that HTTP itself has a meaning
// for and that a field may be placed in all the same, by lower-case name: as its text, verbatim.
var (
	headersOfRequests = []string{"accept-language", "if-match", "if-none-match"}
	headersOfAnswers  = []string{"cache-control", "content-disposition", "content-language", "etag", "last-modified",
		"link", "location"}
)

// Shape is how the JSON of a value relates to its text outside of a body.
type Shape string

// The shapes.
const (
	Bare   Shape = "bare"   // the same, as in 7 and true
	Quoted Shape = "quoted" // the JSON has quotes around it
	Number Shape = "number" // a number is bare; NaN, or a name, has quotes
)

// ShapeOf is the shape of a type; of a list, that of its elements.
func ShapeOf(t *schema.Type) Shape {
	if t.Kind == schema.KindList {
		t = t.Elem
	}
	switch {
	case t.Kind.IsInteger() || t.Kind == schema.KindBool:
		return Bare
	case t.Kind == schema.KindFloat32 || t.Kind == schema.KindFloat64 || t.Kind == schema.KindEnum:
		return Number
	}
	return Quoted
}
