package stubs

import (
	"slices"

	"faithfulcourier/internal/schema"
)

// Method is the HTTP method by which a call is made: one that streams both ways
// begins as the GET of a WebSocket.
func Method(c *schema.Call) string {
	if c.RequestStream && c.ResponseStream {
		return "GET"
	}
	return c.Method()
}

// Placed lists the fields of a call's request that travel outside of the body.
func Placed(c *schema.Call) []schema.Placed {
	return slices.DeleteFunc(c.Places(), func(p schema.Placed) bool { return p.Place == "body" })
}

// Bodiless tells calls whose request has no body at all.
func Bodiless(c *schema.Call) bool { return c.Request != nil && !c.RequestStream && !c.HasBody() }

// Body returns the message that travels in the body of a call where that is
// not the whole request: its fields that are not placed elsewhere. It is nil
// for calls without a body and for those whose body is the request.
func Body(c *schema.Call, name string) *schema.Message {
	placed := Placed(c)
	if len(placed) == 0 || !c.HasBody() {
		return nil
	}
	body := &schema.Message{Decl: schema.Decl{Module: c.Service.Module, Name: name}}
	for _, f := range c.Request.Fields {
		if !slices.ContainsFunc(placed, func(p schema.Placed) bool { return p.Field == f }) {
			body.Fields = append(body.Fields, f)
		}
	}
	return body
}

// Parameter is how a placed field is called where it travels: in a path as the
// path itself says.
func Parameter(p schema.Placed) string {
	if p.Place == "path" {
		return p.Field.Name
	}
	return p.Name
}
