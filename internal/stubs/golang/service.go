package golang

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

func callVariable(c *schema.Call) string { return unexported(c.Service.Name) + CallName(c) }

// callTable writes what both sides know of a service's calls.
func (g *generator) callTable(s *schema.Service) {
	web := g.web()
	g.P("")
	g.In("var (", func() {
		for _, c := range s.Calls {
			g.In(fmt.Sprintf("%s = %s.Call{", callVariable(c), web), func() {
				g.P("Name: %q,", c.FullName())
				g.P("Method: \"POST\",")
				g.P("Path: %q,", c.Path())
				if c.Safe {
					g.P("Safe: true,")
				}
				if len(c.Fails) > 0 {
					g.In(fmt.Sprintf("Fails: []%s.Failure{", web), func() {
						for _, e := range c.Fails {
							g.P("{Name: %q, New: func() %s.DeclaredError { return new(%s) }},", e.FullName(), web, g.name(&e.Decl))
						}
					}, "},")
				}
			}, "}")
		}
	}, ")")
}

func (g *generator) callDoc(c *schema.Call, name string) {
	g.P("")
	doc := c.Doc
	if doc == "" {
		doc = "calls " + c.FullName() + "."
		g.P("// %s %s", name, doc)
	} else {
		stubs.Comment(g.Code, "//", name+": "+doc)
	}
	if len(c.Fails) > 0 {
		var names []string
		for _, e := range c.Fails {
			names = append(names, "*"+g.name(&e.Decl))
		}
		g.P("//")
		g.P("// Its errors are %s.", strings.Join(names, ", "))
	}
	if c.Deprecated != "" {
		g.P("//")
		stubs.Comment(g.Code, "//", docOf("", c.Deprecated))
	}
}

func (g *generator) clients() {
	for _, s := range g.module.Services {
		g.callTable(s)
		g.client(s)
	}
}

func (g *generator) client(s *schema.Service) {
	web, ctx := g.web(), g.std("context")+".Context"
	client := s.Name + "Client"
	g.P("")
	g.P("// %s calls the service %s.", client, s.FullName())
	if s.Doc != "" {
		g.P("//")
		stubs.Comment(g.Code, "//", s.Doc)
	}
	if s.Deprecated != "" {
		g.P("//")
		stubs.Comment(g.Code, "//", docOf("", s.Deprecated))
	}
	g.P("type %s struct{ client *%s.Client }", client, web)
	g.P("")
	g.P("// New%s returns a client of the server at base, such as", client)
	g.P("// \"http://127.0.0.1:8080\".")
	g.In(fmt.Sprintf("func New%s(base string, options ...%s.ClientOption) *%s {", client, web, client), func() {
		g.P("return &%s{client: %s.NewClient(base, %s.Digest, options...)}", client, web, g.use("faithful/about", "about"))
	}, "}")
	for _, c := range s.Calls {
		g.callDoc(c, CallName(c))
		parameters, request, results := "ctx "+ctx, "nil", "error"
		if c.Request != nil {
			parameters += ", request *" + g.name(&c.Request.Decl)
			request = "request"
		}
		if c.Response != nil {
			results = fmt.Sprintf("(*%s, error)", g.name(&c.Response.Decl))
		}
		g.In(fmt.Sprintf("func (c *%s) %s(%s) %s {", client, CallName(c), parameters, results), func() {
			if c.Response == nil {
				g.P("return c.client.Do(ctx, &%s, %s, nil)", callVariable(c), request)
				return
			}
			g.P("answer := new(%s)", g.name(&c.Response.Decl))
			g.In(fmt.Sprintf("if err := c.client.Do(ctx, &%s, %s, answer); err != nil {", callVariable(c), request), func() { g.P("return nil, err") }, "}")
			g.P("return answer, nil")
		}, "}")
	}
}

func (g *generator) servers() {
	for _, s := range g.module.Services {
		g.server(s)
	}
}

func (g *generator) server(s *schema.Service) {
	web, wire := g.web(), g.wire()
	g.std("context")
	calls := s.Name + "Calls"
	g.P("")
	g.P("// %s is what a server of %s does, call by call. One that is nil", calls, s.FullName())
	g.P("// answers 501, so a server goes on compiling when calls are added.")
	g.In(fmt.Sprintf("type %s struct {", calls), func() {
		for i, c := range s.Calls {
			if i > 0 {
				g.P("")
			}
			stubs.Comment(g.Code, "//", docOf(c.Doc, c.Deprecated))
			parameters, results := "ctx context.Context", "error"
			if c.Request != nil {
				parameters += ", request *" + g.name(&c.Request.Decl)
			}
			if c.Response != nil {
				results = fmt.Sprintf("(*%s, error)", g.name(&c.Response.Decl))
			}
			g.P("%s func(%s) %s", CallName(c), parameters, results)
		}
	}, "}")
	g.P("")
	g.P("// Serve%s returns an http.Handler of the service.", s.Name)
	g.In(fmt.Sprintf("func Serve%s(calls %s, options ...%s.ServerOption) *%s.Mount {", s.Name, calls, web, web), func() {
		g.In(fmt.Sprintf("return %s.NewMount(&%s.Definitions, []%s.Route{", web, g.use("faithful/about", "about"), web), func() {
			for _, c := range s.Calls {
				g.route(c, wire)
			}
		}, "}, options...)")
	}, "}")
}

func (g *generator) route(c *schema.Call, wire string) {
	g.In("{", func() {
		g.P("Call: &%s,", callVariable(c))
		g.P("Implemented: calls.%s != nil,", CallName(c))
		parameter, argument := "_", "ctx"
		if c.Request != nil {
			name := g.name(&c.Request.Decl)
			g.P("NewRequest: func() %s.Message { return new(%s) },", wire, name)
			parameter, argument = "request", fmt.Sprintf("ctx, request.(*%s)", name)
		}
		if c.Response != nil {
			g.P("Answers: true,")
		}
		g.In(fmt.Sprintf("Serve: func(ctx context.Context, %s %s.Message) (%s.Message, error) {", parameter, wire, wire), func() {
			if c.Response == nil {
				g.P("return nil, calls.%s(%s)", CallName(c), argument)
				return
			}
			g.P("answer, err := calls.%s(%s)", CallName(c), argument)
			g.In("if answer == nil {", func() { g.P("return nil, err") }, "}")
			g.P("return answer, err")
		}, "},")
	}, "},")
}
