package command

import (
	"context"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/manual"
	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/shell"
)

// exampleServer is where the copies of a manual expect a server.
const exampleServer = "http://127.0.0.1:8080"

// callingOf returns what writes the same request for a terminal: as faithful call, and for curl where that can make
// it. to is the server that it is sent to.
func callingOf(ctx context.Context, defs *schema.Definitions, to string) manual.Calling {
	calls, credentials := map[string]int{}, map[string]int{}
	for _, c := range defs.Calls() {
		calls[c.Service.Name+"."+c.Name]++
	}
	for _, m := range defs.Modules {
		for _, c := range m.Credentials {
			credentials[c.Name]++
		}
	}
	named := func(c *schema.Call) string {
		if name := c.Service.Name + "." + c.Name; calls[name] == 1 {
			return name
		}
		return c.FullName()
	}
	copies := func(c *schema.Call, head, request []byte) (list []manual.Copy) {
		parts := []string{"faithful call " + to + " " + named(c)}
		if head != nil {
			parts = append(parts, "--head "+shell.Quoted(string(head)))
		}
		if c.Request != nil {
			parts = append(parts, "-d "+shell.Quoted(string(request)))
		}
		if len(c.Needs) > 0 { // any alternative will do; the first is what people think of first
			for _, one := range c.Needs[0] {
				name := one.Name
				if credentials[name] > 1 {
					name = one.FullName()
				}
				parts = append(parts, "--credential "+name+"=env:"+conversation.Variable(one.Name))
			}
		}
		list = append(list, manual.Copy{As: "As faithful call", Text: strings.Join(parts, " \\\n  ")})
		if conversation.BothWays(c) {
			return list
		}
		var requests [][]byte
		if c.Request != nil {
			requests = append(requests, request)
		}
		line, _, err := remote.NewCaller(c, remote.Options{Base: to, Head: head}).Curl(ctx, requests)
		if err == nil { // else the definitions refuse the example, and check has said so
			list = append(list, manual.Copy{As: "As curl", Text: line})
		}
		return list
	}
	return manual.Calling{Name: named, Copies: copies}
}
