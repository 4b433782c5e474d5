// Package remote is the HTTP conversation of any loaded definitions, without
// generated code: Caller is the client's side, Mock the server's. What travels
// how is decided by the same package that generated Go clients and servers use;
// payloads are those of package value. It must not know terminals or flags.
//
//	message.go   values as the conversation takes them
//	remote.go    what both sides know of a call
//	caller.go    the client
//	curl.go      the same request for another tool
//	mock.go      the server
//	answers.go   the answer sheet
//	record.go    what was asked and answered, and asking it again
//	meet.go      a client of some definitions and a server of others, in memory
package remote

import (
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs/golang/support/web"
)

// callOf is what both sides know of a call. fails are the errors that it
// declares, as messages.
func callOf(c *schema.Call) *web.Call {
	call := &web.Call{Name: c.FullName(), Method: conversation.Method(c), Path: conversation.Path(c), Safe: c.Safe,
		Idempotent: c.Idempotent, RequestStream: c.RequestStream, AnswerStream: c.ResponseStream,
		Compressible: conversation.Compressible(c)}
	if c.HTTP != nil {
		call.Status = c.HTTP.Status
	}
	if placed := conversation.Outside(c); len(placed) > 0 || conversation.Bodiless(c) || c.Head != nil {
		call.Travel = travelOf(c.Placed(), placed, conversation.Body(c, c.Request.Name))
	}
	if placed := conversation.AnswerOutside(c); len(placed) > 0 || conversation.AnswerRaw(c) != nil {
		call.AnswerTravel = travelOf(c.Response, placed, conversation.AnswerBody(c, c.Response.Name))
	}
	for _, all := range c.Needs {
		var needed []*web.Credential
		for _, credential := range all {
			needed = append(needed, credentialOf(credential))
		}
		call.Needs = append(call.Needs, needed)
	}
	for _, f := range c.Fails {
		call.Fails = append(call.Fails, web.Failure{Name: f.FullName(),
			New: func() web.DeclaredError { return &declared{message{typ: f}} }})
	}
	return call
}

func credentialOf(c *schema.Credential) *web.Credential {
	kind := c.Kind
	if kind == "key" {
		kind = c.Carrier
	}
	return &web.Credential{Name: c.FullName(), Kind: kind, Key: c.Key}
}
