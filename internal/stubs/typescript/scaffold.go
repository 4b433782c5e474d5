package typescript

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// Frameworks are none.
func (Language) Frameworks() []string { return nil }

// Next lists the commands that run and test what Scaffold wrote.
func (Language) Next(into string, options stubs.Options) []string {
	next := []string{"tsc, with " + into + " among what it compiles; then, where it puts that:", "node main.js"}
	if options.Client {
		next = append(next, "node --test "+options.Folder+"/*.test.js")
	}
	return next
}

// Scaffold writes a main program, and for the service a folder: an interface for what its
// calls depend on, and for each call a file with its handler and one with a test.
func (Language) Scaffold(s *schema.Service, options stubs.Options) []stubs.Start {
	w := &starter{service: s, options: options, folder: options.Folder}
	for _, c := range s.Calls {
		w.both = w.both || conversation.BothWays(c)
	}
	w.program()
	w.dependencies()
	for _, c := range s.Calls {
		w.handler(c)
		if options.Client {
			w.test(c)
		}
	}
	return w.starts
}

// starter writes the files of one service.
type starter struct {
	service *schema.Service
	options stubs.Options
	folder  string
	both    bool // whether any call streams both ways
	starts  []stubs.Start
}

func (w *starter) add(path string, write func(c *stubs.Code), joins ...stubs.Join) {
	c := stubs.NewCode("  ")
	write(c)
	w.starts = append(w.starts, stubs.Start{File: stubs.File{Path: path, Content: c.Bytes()}, Joins: joins})
}

// stub is the specifier of a file of the stubs; depth is how many folders the importing
// file is below that of the server.
func (w *starter) stub(depth int, file string) string {
	up := strings.Repeat("../", depth)
	if depth == 0 && !strings.HasPrefix(w.options.Into, ".") {
		up = "./"
	}
	return text(up + w.options.Into + "/" + file)
}

func (w *starter) types(m *schema.Module) string {
	file := Folder(m) + "/types.js"
	switch {
	case w.options.Types:
		return w.stub(1, file)
	case w.options.TypesInPackage:
		return text(w.options.TypesAt + "/" + file)
	}
	return w.stub(1, w.options.TypesAt+"/"+file)
}

func (w *starter) serverStubs() string { return Folder(w.service.Module) + "/server.js" }

// factory makes the calls of the service.
func (w *starter) factory() string { return "make" + w.service.Name }

func (w *starter) program() {
	name := w.service.Name
	w.add("main.ts", func(c *stubs.Code) {
		c.P("import { createServer } from \"node:http\";")
		c.P("")
		c.P("import { nodeLimits, nodeListener } from %s;", w.stub(0, "faithful/node.js"))
		c.P("import { serve } from %s;", w.stub(0, "faithful/server.js"))
		if w.both {
			c.P("import { serveSockets } from %s;", w.stub(0, "faithful/socket.js"))
		}
		c.P("import { serve%s } from %s;", name, w.stub(0, w.serverStubs()))
		c.P("import { %s } from %s;", w.factory(), text("./"+w.folder+"/service.js"))
		c.P("")
		c.P("// Every service, each with what it depends on.")
		c.In("const served = serve(", func() { c.P("%s", w.joined()) }, ");")
		c.P("")
		c.P("const server = createServer(nodeLimits, nodeListener(served));")
		if w.both {
			c.P("serveSockets(server, served);")
		}
		c.P("const port = Number(process.argv[2] ?? \"8080\");")
		c.In("server.listen(port, \"127.0.0.1\", () => {",
			func() { c.P("console.log(`listening on http://127.0.0.1:${String(port)}`);") }, "});")
		c.P("")
		c.P("// Calls that are running when the process is interrupted or terminated have 10 s to end; streams end with " +
			"a problem.")
		c.In("for (const signal of [\"SIGINT\", \"SIGTERM\"] as const) {", func() {
			c.In("process.once(signal, () => {", func() {
				c.In("void served.shutdown().then(() => {", func() {
					c.P("server.close();")
					c.P("server.closeIdleConnections();")
				}, "});")
				c.In("setTimeout(() => {", func() {
					c.P("server.close();")
					c.P("server.closeAllConnections();")
				}, "}, 10_000).unref();")
			}, "});")
		}, "}")
	})
}

// joined is the line by which the program serves the service.
func (w *starter) joined() string {
	return fmt.Sprintf("serve%s(%s({ log: console })),", w.service.Name, w.factory())
}

func (w *starter) dependencies() {
	name := w.service.Name
	lines := []string{
		fmt.Sprintf("import { serve%s } from %s;", name, w.stub(0, w.serverStubs())),
		fmt.Sprintf("import { %s } from %s;", w.factory(), text("./"+w.folder+"/service.js")),
		w.joined() + " // among the arguments of serve",
	}
	if w.both {
		lines = append(lines, fmt.Sprintf("import { serveSockets } from %s;", w.stub(0, "faithful/socket.js")),
			"serveSockets(server, served);")
	}
	w.add(w.folder+"/service.ts", func(c *stubs.Code) {
		c.P("import type { %sCalls } from %s;", name, w.stub(1, w.serverStubs()))
		for _, call := range w.service.Calls {
			c.P("%s", w.callImport(call))
		}
		c.P("")
		c.P("/** What the calls depend on: a database, other clients, a clock. */")
		c.In("export interface Dependencies {", func() { c.P("readonly log: Pick<Console, \"info\" | \"error\">;") }, "}")
		c.P("")
		c.P("/** Makes the calls of the service; one that is left out answers 501. */")
		c.In(fmt.Sprintf("export function %s(dependencies: Dependencies): %sCalls {", w.factory(), name), func() {
			c.In("return {", func() {
				for _, call := range w.service.Calls {
					c.P("%s", callEntry(call))
				}
			}, "};")
		}, "}")
	}, stubs.Join{Path: "main.ts", Lines: lines})
}

func (w *starter) callImport(call *schema.Call) string {
	return fmt.Sprintf("import { %s } from %s;", handlerName(call), text("./"+stubs.CallFile(call.Name, "service")+".js"))
}

func callEntry(call *schema.Call) string {
	return fmt.Sprintf("%s: %s(dependencies),", CallName(call), handlerName(call))
}

// handlerName is the name of the function that makes the handler of a call.
func handlerName(call *schema.Call) string {
	name := CallName(call)
	return "serve" + strings.ToUpper(name[:1]) + name[1:]
}

func (w *starter) handler(call *schema.Call) {
	w.add(w.folder+"/"+stubs.CallFile(call.Name, "service")+".ts", func(c *stubs.Code) {
		c.P("import type { %sCalls } from %s;", w.service.Name, w.stub(1, w.serverStubs()))
		answer := ""
		if call.Response != nil {
			tools := ToolsName(&call.Response.Decl)
			c.P("import { %s } from %s;", tools, w.types(call.Response.Module))
			answer = fmt.Sprintf("%s.fromJson(%s)", tools, "`"+templateText(w.options.Samples(call.Response))+"`")
		}
		c.P("import type { Dependencies } from \"./service.js\";")
		c.P("")
		g := &generator{Code: c}
		g.doc("Serves " + call.FullName() + "." + paragraph(call.Doc))
		open, body := "return () => {", func() {
			if answer != "" {
				c.P("return %s;", answer)
			}
		}
		drain := func() { c.In("for await (const element of elements) {", func() { c.P("log.info(element);") }, "}") }
		switch {
		case conversation.BothWays(call) && call.Head != nil:
			open = "return async function* (head, elements) {"
			body = func() { c.P("log.info(head);"); drain(); c.P("yield %s;", answer) }
		case conversation.BothWays(call):
			open = "return async function* (elements) {"
			body = func() { drain(); c.P("yield %s;", answer) }
		case call.RequestStream:
			open = "return async (elements) => {"
			after := body
			body = func() { drain(); after() }
			if call.Head != nil {
				open = "return async (head, elements) => {"
				body = func() { c.P("log.info(head);"); drain(); after() }
			}
		case call.ResponseStream:
			open = "return async function* () {"
			body = func() { c.P("yield await Promise.resolve(%s);", answer) }
		}
		c.In(fmt.Sprintf("export function %s({ log }: Dependencies): NonNullable<%sCalls[%s]> {", handlerName(call),
			w.service.Name, text(CallName(call))), func() {
			c.In(open, func() {
				c.P("// A sample to begin with: write what the call does here.")
				c.P("log.info(%s);", text("answering "+call.FullName()+" with a sample"))
				body()
			}, "};")
		}, "}")
	}, stubs.Join{Path: w.folder + "/service.ts",
		Lines: []string{w.callImport(call), callEntry(call) + " // in " + w.factory()}})
}

func (w *starter) test(call *schema.Call) {
	s := w.service
	w.add(w.folder+"/"+stubs.CallFile(call.Name, "service")+".test.ts", func(c *stubs.Code) {
		if call.Response != nil {
			c.P("import assert from \"node:assert/strict\";")
		}
		c.P("import { once } from \"node:events\";")
		c.P("import { createServer } from \"node:http\";")
		c.P("import type { AddressInfo } from \"node:net\";")
		c.P("import { test } from \"node:test\";")
		c.P("")
		c.P("import { nodeLimits, nodeListener } from %s;", w.stub(1, "faithful/node.js"))
		if conversation.BothWays(call) {
			c.P("import { nodeSocket, serveSockets } from %s;", w.stub(1, "faithful/socket.js"))
		}
		c.P("import { %sClient } from %s;", s.Name, w.stub(1, Folder(s.Module)+"/client.js"))
		c.P("import { serve%s } from %s;", s.Name, w.stub(1, w.serverStubs()))
		if call.Request != nil {
			c.P("import { %s } from %s;", ToolsName(&call.Request.Decl), w.types(call.Request.Module))
		}
		if call.Head != nil && call.Head != call.Request {
			c.P("import { %s } from %s;", ToolsName(&call.Head.Decl), w.types(call.Head.Module))
		}
		c.P("import { %s } from \"./service.js\";", w.factory())
		c.P("")
		c.In(fmt.Sprintf("test(%s, async () => {", text(call.Name+" answers")), func() {
			c.P("const served = serve%s(%s({ log: console }));", s.Name, w.factory())
			c.P("const server = createServer(nodeLimits, nodeListener(served));")
			if conversation.BothWays(call) {
				c.P("serveSockets(server, served);")
			}
			c.P("server.listen(0, \"127.0.0.1\");")
			c.P("await once(server, \"listening\");")
			c.P("const base = `http://127.0.0.1:${String((server.address() as AddressInfo).port)}`;")
			w.client(c, call)
			argument := ""
			if call.Request != nil {
				c.P("const request = %s.fromJson(%s);", ToolsName(&call.Request.Decl),
					"`"+templateText(w.options.Samples(call.Request))+"`")
				argument = "request"
			}
			if call.RequestStream {
				argument = "[request]"
			}
			if call.Head != nil {
				c.P("const head = %s.fromJson(%s);", ToolsName(&call.Head.Decl),
					"`"+templateText(w.options.Samples(call.Head))+"`")
				argument = "head, [request]"
			}
			c.In("try {", func() { exchange(c, call, argument) }, "} finally {")
			c.P("  server.close();")
			c.P("  server.closeAllConnections();")
			c.P("}")
		}, "});")
	})
}

// client makes the client of a test, with credentials that are made up.
func (w *starter) client(c *stubs.Code, call *schema.Call) {
	var credentials, options []string
	for _, sample := range stubs.SampleCredentials(call) {
		credentials = append(credentials, text(sample[0])+": "+text(sample[1]))
	}
	if len(credentials) > 0 {
		options = append(options, "credentials: { "+strings.Join(credentials, ", ")+" }")
	}
	if conversation.BothWays(call) {
		options = append(options, "socket: nodeSocket")
	}
	arguments := "base"
	if len(options) > 0 {
		arguments += ", { " + strings.Join(options, ", ") + " }"
	}
	c.P("const client = new %sClient(%s);", w.service.Name, arguments)
}

// exchange calls, and asserts that there is an answer.
func exchange(c *stubs.Code, call *schema.Call, argument string) {
	name := CallName(call)
	switch {
	case call.ResponseStream:
		c.P("let count = 0;")
		c.In(fmt.Sprintf("for await (const element of client.%s(%s)) {", name, argument), func() {
			c.P("assert.ok(element);")
			c.P("count++;")
		}, "}")
		c.P("assert.ok(count > 0);")
	case call.Response == nil:
		c.P("await client.%s(%s);", name, argument)
	default:
		c.P("assert.ok(await client.%s(%s));", name, argument)
	}
}

func paragraph(doc string) string {
	if doc == "" {
		return ""
	}
	return "\n\n" + doc
}
