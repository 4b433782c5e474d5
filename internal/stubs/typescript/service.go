package typescript

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
)

// own is the import of this module's types, seen from its other files.
func (g *generator) own(d *schema.Decl) string {
	if d.Module == g.module {
		return g.use("types", Folder(g.module)+"/types.js") + "."
	}
	return g.from(d)
}

func (g *generator) side(m *schema.Message, suffix string) string {
	if m == nil {
		return "void"
	}
	return g.own(&m.Decl) + m.Name + suffix
}

// calls writes what both sides know of a module's calls.
func (g *generator) calls() {
	web := g.web()
	codec := func(m *schema.Message) string {
		if m == nil {
			return "undefined"
		}
		return g.own(&m.Decl) + ToolsName(&m.Decl)
	}
	for _, s := range g.module.Services {
		g.P("")
		for _, c := range s.Calls {
			g.In(fmt.Sprintf("export const %s%s: %s.Call<%s, %s> = {", unexported(s.Name), upperFirst(CallName(c)), web, g.side(c.Request, ""), g.side(c.Response, "")), func() {
				g.P("name: %s,", text(c.FullName()))
				g.P("method: \"POST\",")
				g.P("path: %s,", text(c.Path()))
				g.P("safe: %t,", c.Safe)
				g.P("request: %s,", codec(c.Request))
				g.P("answer: %s,", codec(c.Response))
				if len(c.Fails) == 0 {
					g.P("fails: [],")
					return
				}
				g.In("fails: [", func() {
					for _, e := range c.Fails {
						g.P("{ name: %s, status: %d, codec: %s },", text(e.FullName()), e.Status, codec(e))
					}
				}, "],")
			}, "};")
		}
	}
}

func upperFirst(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func (g *generator) call(c *schema.Call) string {
	return g.use("calls", Folder(g.module)+"/calls.js") + "." + unexported(c.Service.Name) + upperFirst(CallName(c))
}

func callDoc(c *schema.Call, g *generator) string {
	doc := c.Doc
	if len(c.Fails) > 0 {
		var names []string
		for _, e := range c.Fails {
			names = append(names, e.Name)
		}
		if doc != "" {
			doc += "\n\n"
		}
		doc += "Its errors are " + strings.Join(names, ", ") + "."
	}
	return docOf(doc, c.Deprecated)
}

func (g *generator) clients() {
	web := g.web()
	about := g.use("about", "faithful/about.js")
	for _, s := range g.module.Services {
		g.P("")
		doc := fmt.Sprintf("Calls the service %s.", s.FullName())
		if s.Doc != "" {
			doc += "\n\n" + s.Doc
		}
		g.doc(docOf(doc, s.Deprecated))
		g.In(fmt.Sprintf("export class %sClient {", s.Name), func() {
			g.P("readonly #client: %s.Client;", web)
			g.P("")
			g.doc("base is where the server is, such as \"http://127.0.0.1:8080\".")
			g.In(fmt.Sprintf("constructor(base: string, options: %s.ClientOptions = {}) {", web), func() {
				g.P("this.#client = new %s.Client(base, %s.definitions.digest, options);", web, about)
			}, "}")
			for _, c := range s.Calls {
				g.P("")
				g.doc(callDoc(c, g))
				parameters, message := "", "undefined"
				if c.Request != nil {
					parameters = fmt.Sprintf("request: %s, ", g.side(c.Request, "Init"))
					message = fmt.Sprintf("%s%s.make(request)", g.own(&c.Request.Decl), ToolsName(&c.Request.Decl))
				}
				g.In(fmt.Sprintf("%s(%soptions?: %s.CallOptions): Promise<%s> {", CallName(c), parameters, web, g.side(c.Response, "")), func() {
					g.P("return this.#client.do(%s, %s, options);", g.call(c), message)
				}, "}")
			}
		}, "}")
	}
}

func (g *generator) servers() {
	web := g.web()
	about := g.use("about", "faithful/about.js")
	for _, s := range g.module.Services {
		g.P("")
		g.doc(fmt.Sprintf("What a server of %s does, call by call. One that is left out\nanswers 501, so a server goes on compiling when calls are added.", s.FullName()))
		g.In(fmt.Sprintf("export interface %sCalls {", s.Name), func() {
			for _, c := range s.Calls {
				g.doc(callDoc(c, g))
				parameters := "context: " + web + ".Context"
				if c.Request != nil {
					parameters = fmt.Sprintf("request: %s, %s", g.side(c.Request, ""), parameters)
				}
				result := g.side(c.Response, "Init")
				g.P("%s?(%s): Promise<%s> | %s;", CallName(c), parameters, result, result)
			}
		}, "}")
		g.P("")
		g.doc("Returns what answers requests: give it to nodeListener, or call it with one.")
		g.In(fmt.Sprintf("export function serve%s(implementation: %sCalls, options: %s.ServerOptions = {}): %s.Mount {", s.Name, s.Name, web, web), func() {
			var routes []string
			for _, c := range s.Calls {
				routes = append(routes, g.route(c))
			}
			g.In(fmt.Sprintf("return %s.mount(%s.definitions, [", web, about), func() {
				for _, r := range routes {
					g.P("%s,", r)
				}
			}, "], options);")
		}, "}")
	}
}

// route pairs a call with its handler. What a handler returns may leave out
// what has a default, so it is made whole before it is written.
func (g *generator) route(c *schema.Call) string {
	handler := fmt.Sprintf("implementation.%s?.bind(implementation)", CallName(c))
	if c.Request == nil {
		handler = fmt.Sprintf("%s.withoutRequest(%s)", g.web(), handler)
	}
	finish := ""
	if c.Response != nil {
		finish = fmt.Sprintf(", (answer) => %s%s.make(answer)", g.own(&c.Response.Decl), ToolsName(&c.Response.Decl))
	}
	return fmt.Sprintf("%s.route(%s, %s%s)", g.web(), g.call(c), handler, finish)
}
