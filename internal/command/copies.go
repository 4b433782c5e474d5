package command

import (
	"context"
	"slices"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/manual"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/shell"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/value"
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
		raw, media := conversation.Raw(c), ""
		if raw != nil {
			media = conversation.SampleType(raw.In.Name)
			parts = append(parts, "--raw "+shell.Quoted(raw.Name), "--media "+shell.Quoted(media))
		}
		for _, one := range conversation.FirstNeeded(c) {
			name := one.Name
			if credentials[name] > 1 {
				name = one.FullName()
			}
			parts = append(parts, "--credential "+name+"=env:"+conversation.Variable(one.Name))
		}
		list = append(list, manual.Copy{As: "As faithful call", Text: strings.Join(parts, " \\\n  ")})
		if conversation.BothWays(c) {
			return list
		}
		var requests [][]byte
		if c.Request != nil {
			requests = append(requests, request)
		}
		options := remote.Options{Base: to, Head: head}
		if raw != nil {
			options.Raw, options.RawFile = &web.Body{Reader: strings.NewReader(""), MediaType: media}, raw.Name
		}
		line, _, err := remote.NewCaller(c, options).Curl(ctx, requests)
		if err == nil { // else the definitions refuse the example, and check has said so
			list = append(list, manual.Copy{As: "As curl", Text: line})
		}
		return list
	}
	return manual.Calling{Name: named, Copies: copies}
}

// withCode adds programs with the clients of a project's outputs, one of each language.
func withCode(calling manual.Calling, p *project.Project, to string) (manual.Calling, error) {
	type client struct {
		language stubs.Language
		options  stubs.Options
	}
	var clients []client
	for _, o := range p.Config.Stubs {
		known := slices.ContainsFunc(clients, func(c client) bool { return c.language.Name() == o.Language })
		if known || !o.Has("client") || o.Of != "" {
			continue
		}
		language, err := languageNamed(o.Language)
		if err != nil {
			return calling, err
		}
		options, err := stubOptions(p, o)
		if err != nil {
			continue // generate says what is wrong with it
		}
		options.Into = o.Into
		clients = append(clients, client{language, options})
	}
	calling.Code = func(c *schema.Call, head, request []byte) (list []manual.Copy) {
		sent := stubs.Sent{Base: to, Variable: conversation.Variable}
		var err error
		if c.Head != nil {
			if sent.Head, err = value.DecodeJSON(c.Head, head, 0); err != nil {
				return nil // what can't be read can't be written
			}
		}
		if c.Request != nil {
			t := c.Request
			if conversation.Raw(c) != nil {
				t = t.WithoutRaw()
			}
			if sent.Request, err = value.DecodeJSON(t, request, 0); err != nil {
				return nil
			}
			sent.Request.Type = c.Request
		}
		for _, client := range clients {
			list = append(list, manual.Copy{As: "In " + client.language.Title(),
				Text: client.language.Calling(c, sent, client.options)})
		}
		return list
	}
	return calling, nil
}
