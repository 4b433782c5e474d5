// Package conversation decides how a call travels over HTTP: by which method, path and
// status, in which encodings, and where each part of a request is. These are pure rules
// over definitions, for all who need them: checks, stubs, comparing, calling, mocking.
// It must not know values, sockets or languages.
//
//	conversation.go  methods, statuses and media types
//	places.go        where the fields of requests and answers travel
//	routes.go        paths: which requests reach which call
//	credentials.go   what lets a request in
//	problems.go      what every server may answer with
//	check.go         what can't travel as it is written
package conversation

import (
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/syntax"
)

// BothWays tells calls that stream both ways: over a WebSocket (RFC 6455).
func BothWays(c *schema.Call) bool { return c.RequestStream && c.ResponseStream }

// Method is the HTTP method by which a call is made. One that streams both ways begins
// as the GET that opens a WebSocket.
func Method(c *schema.Call) string {
	switch {
	case BothWays(c):
		return "GET"
	case c.HTTP != nil:
		return c.HTTP.Method
	}
	return "POST"
}

// Path is the call's path below the server's base, with its fields in braces: that of its
// http clause, or module, service and call, in snake_case, a segment each.
func Path(c *schema.Call) string {
	if c.HTTP != nil {
		return c.HTTP.Path
	}
	module := strings.ReplaceAll(c.Service.Module.Name, ".", "/")
	return "/" + module + "/" + syntax.SnakeCase(c.Service.Name) + "/" + c.Name
}

// Status is the status of a call's success.
func Status(c *schema.Call) int {
	switch {
	case c.HTTP != nil && c.HTTP.Status != 0:
		return c.HTTP.Status
	case c.Response == nil:
		return 204
	}
	return 200
}

// redirects are the statuses of success with which an answer sends its reader elsewhere
// (RFC 9110, section 15.4).
var redirects = []int{301, 302, 303, 307, 308}

// Redirects tells calls whose success sends the client to where the header Location says.
func Redirects(c *schema.Call) bool { return slices.Contains(redirects, Status(c)) }

// Succeeds tells whether a client of a call takes a status as success.
func Succeeds(c *schema.Call, status int) bool {
	if Redirects(c) {
		return slices.Contains(redirects, status)
	}
	return status >= 200 && status <= 299
}

// HasBody tells whether a call's request can have a body (RFC 9110, section 9.3) in which
// fields are: a raw body is one field, as it is.
func HasBody(c *schema.Call) bool { return !BothWays(c) && methodHasBody(Method(c)) && Raw(c) == nil }

func methodHasBody(method string) bool { return method != "GET" && method != "DELETE" }

// Bodiless tells calls whose request is a message, none of which travels in a body.
func Bodiless(c *schema.Call) bool { return c.Request != nil && !c.RequestStream && !HasBody(c) }

// Compressible tells calls whose answers may be compressed: those with one message in the body,
// of which nothing is secret, and without cookies, since the length of what is compressed tells of
// what is in it (RFC 9110, section 8.4).
func Compressible(c *schema.Call) bool {
	body, _ := SplitAnswer(c)
	if body == nil || c.ResponseStream ||
		slices.ContainsFunc(AnswerPlaces(c), func(p Placed) bool { return p.Place == InCookie }) {
		return false
	}
	seen, secret := map[schema.Declaration]bool{}, false
	(&schema.Type{Kind: schema.KindMessage, Message: c.Response}).Within(func(t *schema.Type) bool {
		d := t.Declaration()
		if d != nil && seen[d] {
			return false
		}
		seen[d] = true
		secret = secret || t.Named != nil && t.Named.Secret
		if t.Kind == schema.KindMessage {
			secret = secret || slices.ContainsFunc(t.Message.Fields, (*schema.Field).IsSecret)
		}
		return true
	})
	return !secret
}

// MediaType is what one side of a call travels as, in CBOR: a message, or a stream
// (RFC 8742) of them.
func MediaType(stream bool) string {
	if stream {
		return "application/cbor-seq"
	}
	return "application/cbor"
}
