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
)

// Placed is a field of a request and where it travels in a call.
type Placed struct {
	Field *schema.Field
	Place Place
	Name  string // of the parameter, header or cookie; in a path, the field's own
}

// String says where, for people.
func (p Placed) String() string {
	switch p.Place {
	case InBody, InPath:
		return "the " + string(p.Place)
	}
	return fmt.Sprintf("the %s as %s", p.Place, p.Name)
}

// Meets tells whether what is sent in one place is found in the other one. A path has
// its parts by where they stand; names of headers have no case (RFC 9110, section 5.1).
func (p Placed) Meets(other Placed) bool {
	switch {
	case p.Place != other.Place:
		return false
	case p.Place == InPath, p.Name == other.Name:
		return true
	}
	return p.Place == InHeader && strings.EqualFold(p.Name, other.Name)
}

// Places says where each field of a call's request travels, by number. Elements of
// streams are never placed.
func Places(c *schema.Call) (list []Placed) {
	if c.Request == nil {
		return nil
	}
	for _, f := range c.Request.Fields {
		list = append(list, PlaceOf(c, f))
	}
	return list
}

// PlaceOf says where a field of a call's request travels.
func PlaceOf(c *schema.Call, f *schema.Field) Placed {
	switch {
	case c.HTTP == nil, c.RequestStream:
	case slices.ContainsFunc(c.HTTP.Segments, func(s schema.Segment) bool { return s.Field == f }):
		return Placed{f, InPath, f.Name}
	case f.In != nil:
		return Placed{f, Place(f.In.Place), cmp.Or(f.In.Name, f.JSONName())}
	case !HasBody(c):
		return Placed{f, InQuery, f.JSONName()}
	}
	return Placed{f, InBody, f.JSONName()}
}

// Outside lists the fields of a call's request that travel outside of the body.
func Outside(c *schema.Call) []Placed {
	return slices.DeleteFunc(Places(c), func(p Placed) bool { return p.Place == InBody })
}

// Split parts a request into what travels in the body and what travels elsewhere;
// either may be nil. Their fields are the same ones. Where nothing travels elsewhere,
// the body is the request itself.
func Split(c *schema.Call) (body, elsewhere *schema.Message) {
	if c.Request == nil {
		return nil, nil
	}
	body, elsewhere = &schema.Message{Decl: c.Request.Decl}, &schema.Message{Decl: c.Request.Decl}
	for _, p := range Places(c) {
		part := elsewhere
		if p.Place == InBody {
			part = body
		}
		part.Fields = append(part.Fields, p.Field)
	}
	switch {
	case len(elsewhere.Fields) == 0:
		return c.Request, nil
	case !HasBody(c):
		return nil, elsewhere
	}
	return body, elsewhere
}

// Body is the message in the body of a call where that is not the whole request: its
// fields that are not placed elsewhere. It is nil for calls without a body and for those
// whose body is the request.
func Body(c *schema.Call, name string) *schema.Message {
	body, elsewhere := Split(c)
	if body == nil || elsewhere == nil {
		return nil
	}
	return &schema.Message{Decl: schema.Decl{Module: c.Service.Module, Name: name}, Fields: body.Fields}
}
