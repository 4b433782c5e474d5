package typescript

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// Next lists the commands that run and test what Scaffold wrote.
func (Language) Next(into string, _ stubs.Options) []string {
	return []string{
		"tsc, with " + into + " among what it compiles; then, where it puts that:",
		"node main.js",
		"node --test handlers/*.test.js",
	}
}

// Scaffold writes a main program, and for each call a file with its handler and
// one with a test. The program loads all files of handlers/, so that a later
// run only has to add files.
func (Language) Scaffold(s *schema.Service, options stubs.Options) []stubs.File {
	var files []stubs.File
	add := func(path string, write func(c *stubs.Code)) {
		c := stubs.NewCode("  ")
		write(c)
		files = append(files, stubs.File{Path: path, Content: c.Bytes()})
	}
	stub := func(depth int, file string) string {
		up := strings.Repeat("../", depth)
		if depth == 0 && !strings.HasPrefix(options.Into, ".") {
			up = "./"
		}
		return text(up + options.Into + "/" + file)
	}
	types := func(depth int, m *schema.Module) string {
		at := ""
		if !options.Types {
			at = options.TypesAt + "/"
		}
		return stub(depth, at+Folder(m)+"/types.js")
	}
	service := Folder(s.Module)
	both := false
	for _, c := range s.Calls {
		both = both || conversation.BothWays(c)
	}
	add("calls.ts", func(c *stubs.Code) {
		c.P("import type { %sCalls } from %s;", s.Name, stub(0, service+"/server.js"))
		c.P("")
		c.P("/** What this server does; each file of handlers adds its own. */")
		c.P("export const calls: %sCalls = {};", s.Name)
	})
	add("server.ts", func(c *stubs.Code) {
		c.P("import { readdirSync } from \"node:fs\";")
		c.P("import { createServer } from \"node:http\";")
		c.P("import type { Server } from \"node:http\";")
		c.P("")
		c.P("import { nodeLimits, nodeListener } from %s;", stub(0, "faithful/node.js"))
		if both {
			c.P("import { serveSockets } from %s;", stub(0, "faithful/socket.js"))
		}
		c.P("import { serve%s } from %s;", s.Name, stub(0, service+"/server.js"))
		c.P("import { calls } from \"./calls.js\";")
		c.P("")
		c.P("/** Makes the server, with every handler there is. */")
		c.In("export async function makeServer(): Promise<Server> {", func() {
			c.P("const handlers = new URL(\"./handlers/\", import.meta.url);")
			c.In("for (const file of readdirSync(handlers).filter((name) => /\\.[jt]s$/.test(name) && "+
				"!/\\.(test|d)\\./.test(name))) {", func() {
				c.P("await import(new URL(file, handlers).href);")
			}, "}")
			c.In(fmt.Sprintf("const mount = serve%s(calls, {", s.Name), func() {
				c.In("onError: (call, problem) => {", func() { c.P("console.error(call, problem);") }, "},")
			}, "});")
			c.P("const server = createServer(nodeLimits, nodeListener(mount));")
			if both {
				c.P("serveSockets(server, mount);")
			}
			c.P("return server;")
		}, "}")
	})
	add("main.ts", func(c *stubs.Code) {
		c.P("import { makeServer } from \"./server.js\";")
		c.P("")
		c.P("const port = Number(process.argv[2] ?? \"8080\");")
		c.P("const server = await makeServer();")
		c.In("server.listen(port, \"127.0.0.1\", () => {",
			func() { c.P("console.log(`listening on http://127.0.0.1:${String(port)}`);") }, "});")
	})
	for _, call := range s.Calls {
		name := CallName(call)
		add("handlers/"+stubs.CallFile(call.Name)+".ts", func(c *stubs.Code) {
			if call.Response != nil {
				c.P("import { %s } from %s;", ToolsName(&call.Response.Decl), types(1, call.Response.Module))
			}
			c.P("import { calls } from \"../calls.js\";")
			c.P("")
			g := &generator{Code: c}
			g.doc("Serves " + call.FullName() + "." + paragraph(call.Doc))
			answer := ""
			if call.Response != nil {
				answer = fmt.Sprintf("%s.fromJson(%s)", ToolsName(&call.Response.Decl),
					"`"+templateText(options.Samples(call.Response))+"`")
			}
			begin := func() { c.P("// A sample to begin with: write what the call does here.") }
			drain := func() { c.In("for await (const element of elements) {", func() { c.P("void element;") }, "}") }
			switch {
			case conversation.BothWays(call):
				c.In("calls."+name+" = async function* (elements) {", func() { begin(); drain(); c.P("yield %s;", answer) }, "};")
			case call.RequestStream:
				c.In("calls."+name+" = async (elements) => {", func() {
					begin()
					drain()
					if answer != "" {
						c.P("return %s;", answer)
					}
				}, "};")
			case call.ResponseStream:
				c.In("calls."+name+" = async function* () {", func() { begin(); c.P("yield await Promise.resolve(%s);", answer) },
					"};")
			default:
				c.In("calls."+name+" = () => {", func() {
					begin()
					if answer != "" {
						c.P("return %s;", answer)
					}
				}, "};")
			}
		})
		add("handlers/"+stubs.CallFile(call.Name)+".test.ts", func(c *stubs.Code) {
			if call.Response != nil {
				c.P("import assert from \"node:assert/strict\";")
			}
			c.P("import { once } from \"node:events\";")
			c.P("import type { AddressInfo } from \"node:net\";")
			c.P("import { test } from \"node:test\";")
			c.P("")
			if conversation.BothWays(call) {
				c.P("import { nodeSocket } from %s;", stub(1, "faithful/socket.js"))
			}
			c.P("import { %sClient } from %s;", s.Name, stub(1, service+"/client.js"))
			if call.Request != nil {
				c.P("import { %s } from %s;", ToolsName(&call.Request.Decl), types(1, call.Request.Module))
			}
			c.P("import { makeServer } from \"../server.js\";")
			c.P("")
			c.In(fmt.Sprintf("test(%s, async () => {", text(call.Name+" answers")), func() {
				c.P("const server = await makeServer();")
				c.P("server.listen(0, \"127.0.0.1\");")
				c.P("await once(server, \"listening\");")
				c.P("const base = `http://127.0.0.1:${String((server.address() as AddressInfo).port)}`;")
				var credentials []string
				if len(call.Needs) > 0 {
					for _, credential := range call.Needs[0] {
						value := "sample"
						if credential.Kind == "basic" {
							value = "user:password"
						}
						credentials = append(credentials, text(credential.FullName())+": "+text(value))
					}
				}
				var clientOptions []string
				if len(credentials) > 0 {
					clientOptions = append(clientOptions, "credentials: { "+strings.Join(credentials, ", ")+" }")
				}
				if conversation.BothWays(call) {
					clientOptions = append(clientOptions, "socket: nodeSocket")
				}
				c.P("const client = new %sClient(base, { %s });", s.Name, strings.Join(clientOptions, ", "))
				argument := ""
				if call.Request != nil {
					c.P("const request = %s.fromJson(%s);", ToolsName(&call.Request.Decl),
						"`"+templateText(options.Samples(call.Request))+"`")
					argument = "request"
				}
				if call.RequestStream {
					argument = "[request]"
				}
				c.In("try {", func() {
					if call.ResponseStream {
						c.P("let count = 0;")
						c.In(fmt.Sprintf("for await (const element of client.%s(%s)) {", name, argument), func() {
							c.P("assert.ok(element);")
							c.P("count++;")
						}, "}")
						c.P("assert.ok(count > 0);")
					} else if call.Response == nil {
						c.P("await client.%s(%s);", name, argument)
					} else {
						c.P("assert.ok(await client.%s(%s));", name, argument)
					}
				}, "} finally {")
				c.P("  server.close();")
				c.P("  server.closeAllConnections();")
				c.P("}")
			}, "});")
		})
	}
	return files
}

func paragraph(doc string) string {
	if doc == "" {
		return ""
	}
	return "\n\n" + doc
}
