package python

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// Frameworks are none.
func (Language) Frameworks() []string { return nil }

// Next lists the commands that run and test what Scaffold wrote. Imports begin in the
// folder of the server's package, and in that of the stubs' package.
func (Language) Next(into string, options stubs.Options) []string {
	parent, name := path.Split(into)
	roots := []string{path.Clean("./" + parent)}
	if path.IsAbs(into) {
		roots[0] = path.Clean(parent)
	}
	up := strings.Repeat("../", strings.Count(packageOf(options), ".")+1)
	if root := path.Join(into, options.Into, up); root != roots[0] {
		roots = append(roots, root)
	}
	python := "python"
	if len(roots) > 1 || roots[0] != "." {
		python = "PYTHONPATH=" + strings.Join(roots, ":") + " python"
	}
	next := []string{python + " -m " + name + ".main"}
	if options.Client {
		next = append(next, python+" -m pytest "+into)
	}
	return next
}

// packageOf is the dotted name of the stubs' package, as said or as its folder
// tells.
func packageOf(options stubs.Options) string {
	return cmp.Or(options.Package, strings.ReplaceAll(strings.TrimLeft(options.Into, "./"), "/", "."))
}

// Scaffold writes a main program, and for the service a package: a class for what its
// calls depend on, for each call a file with its handler and one with a test, and the
// class that joins them.
func (Language) Scaffold(s *schema.Service, options stubs.Options) []stubs.Start {
	w := &starter{service: s, options: options, gen: packageOf(options)}
	w.types = w.gen
	if !options.Types {
		w.types = options.TypesAt
	}
	w.folder = options.Folder
	if slices.Contains(keywords, w.folder) || w.folder == "main" {
		w.folder += "_service"
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
	service    *schema.Service
	options    stubs.Options
	gen, types string // dotted names: of the stubs, of their types
	folder     string // of the service
	starts     []stubs.Start
}

func (w *starter) add(path string, write func(c *stubs.Code), joins ...stubs.Join) {
	c := stubs.NewCode("    ")
	write(c)
	w.starts = append(w.starts, stubs.Start{File: stubs.File{Path: path, Content: c.Bytes()}, Joins: joins})
}

// module is the dotted name of a module's package.
func module(root string, m *schema.Module) string { return root + "." + strings.Join(Parts(m), ".") }

func (w *starter) stub() string { return module(w.gen, w.service.Module) }

// class is the class that serves all calls, and file where a call is served.
func (w *starter) class() string { return w.service.Name + "Service" }

func (w *starter) serve() string { return "serve_" + snake(w.service.Name) }

func file(call *schema.Call) string { return stubs.CallFile(call.Name, "service", "dependencies") }

// handlerClass serves one call.
func handlerClass(call *schema.Call) string { return "Serve" + syntaxPascal(call.Name) }

func block(c *stubs.Code, open string, body func()) {
	c.P("%s", open)
	c.Deeper(1, body)
}

func (w *starter) program() {
	w.add("__init__.py", func(c *stubs.Code) { c.P("\"\"\"The server: a package for each service.\"\"\"") })
	w.add("main.py", func(c *stubs.Code) {
		c.P("\"\"\"Serves every service with uvicorn; any other ASGI server will do as well.\"\"\"")
		c.P("")
		c.P("import logging")
		c.P("import sys")
		c.P("")
		c.P("import uvicorn")
		c.P("")
		own := imports{}
		own.add(w.gen+".faithful.server", "Served")
		own.add(w.gen+".faithful.server", "serve")
		own.add(w.stub(), w.serve())
		own.write(c)
		c.P("")
		c.P("%s", w.serviceImport())
		c.P("")
		c.P("")
		block(c, "def make_app() -> Served:", func() {
			c.P("\"\"\"Every service, each with what it depends on.\"\"\"")
			c.P("log = logging.getLogger(\"server\")")
			block(c, "return serve(", func() { c.P("%s", w.joined()) })
			c.P(")")
		})
		c.P("")
		c.P("")
		block(c, "if __name__ == \"__main__\":", func() {
			c.P("port = int(sys.argv[1]) if len(sys.argv) > 1 else 8080")
			c.P("logging.basicConfig(level=logging.INFO)")
			c.P("app = make_app()")
			c.P("# Calls that are running when the process is interrupted or terminated have 10 s to end.")
			c.P("uvicorn.run(app, host=\"127.0.0.1\", port=port, timeout_graceful_shutdown=10, **app.uvicorn_limits())")
		})
	})
}

func (w *starter) serviceImport() string {
	return fmt.Sprintf("from .%s.service import %s", w.folder, w.class())
}

// joined is the line by which the program serves the service.
func (w *starter) joined() string { return fmt.Sprintf("%s(%s(log)),", w.serve(), w.class()) }

func (w *starter) dependencies() {
	w.add(w.folder+"/__init__.py", func(c *stubs.Code) { c.P("\"\"\"Serves %s.\"\"\"", w.service.FullName()) })
	w.add(w.folder+"/dependencies.py", func(c *stubs.Code) {
		c.P("\"\"\"What the calls of %s depend on.\"\"\"", w.service.FullName())
		c.P("")
		c.P("import logging")
		c.P("")
		c.P("from %s import %s", w.stub(), w.service.Name)
		c.P("")
		c.P("")
		block(c, fmt.Sprintf("class Dependencies(%s):", w.service.Name), func() {
			c.P("\"\"\"A database, other clients, a clock: whatever the calls need.\"\"\"")
			c.P("")
			block(c, "def __init__(self, log: logging.Logger) -> None:", func() { c.P("self._log = log") })
		})
	})
	w.add(w.folder+"/service.py", func(c *stubs.Code) {
		c.P("\"\"\"The class that serves %s.\"\"\"", w.service.FullName())
		c.P("")
		var classes []string
		for _, call := range w.service.Calls {
			c.P("%s", callImport(call))
			classes = append(classes, handlerClass(call))
		}
		if len(classes) == 0 {
			c.P("from .dependencies import Dependencies")
			classes = []string{"Dependencies"}
		}
		c.P("")
		c.P("")
		c.P("class %s%s:", w.class(), stubs.Brackets("(", classes, ")"))
		c.Deeper(1, func() { c.P("\"\"\"A class for each call. A call without one answers 501.\"\"\"") })
	}, stubs.Join{Path: "main.py", Lines: []string{fmt.Sprintf("from %s import %s", w.stub(), w.serve()),
		w.serviceImport(), w.joined() + "  # among the arguments of serve"}})
}

func callImport(call *schema.Call) string {
	return fmt.Sprintf("from .%s import %s", file(call), handlerClass(call))
}

func (w *starter) handler(call *schema.Call) {
	w.add(w.folder+"/"+file(call)+".py", func(c *stubs.Code) {
		own := imports{}
		name := func(m *schema.Message) string {
			own.add(module(w.types, m.Module), m.Name)
			return m.Name
		}
		parameters, result := []string{"self"}, "None"
		if call.Head != nil {
			parameters = append(parameters, "head: "+name(call.Head))
		}
		switch {
		case call.RequestStream:
			own.add(w.gen+".faithful.server", "Elements")
			parameters = append(parameters, "elements: Elements["+name(call.Request)+"]")
		case call.Request != nil:
			parameters = append(parameters, "request: "+name(call.Request))
		}
		own.add(w.gen+".faithful.server", "Context")
		parameters = append(parameters, "context: Context")
		if call.Response != nil {
			result = name(call.Response)
		}
		c.P("\"\"\"Serves %s.\"\"\"", call.FullName())
		c.P("")
		if call.ResponseStream {
			result = "AsyncIterator[" + result + "]"
			c.P("from collections.abc import AsyncIterator")
			c.P("")
		}
		own.write(c)
		c.P("")
		c.P("from .dependencies import Dependencies")
		c.P("")
		c.P("")
		block(c, fmt.Sprintf("class %s(Dependencies):", handlerClass(call)), func() {
			block(c, fmt.Sprintf("async def %s(%s) -> %s:", CallName(call), strings.Join(parameters, ", "), result),
				func() { w.sample(c, call) })
		})
	}, stubs.Join{Path: w.folder + "/service.py", Lines: []string{callImport(call),
		fmt.Sprintf("%s,  # among the bases of %s", handlerClass(call), w.class())}})
}

// sample writes the body of a handler that answers with a sample.
func (w *starter) sample(c *stubs.Code, call *schema.Call) {
	if call.Doc != "" {
		for line := range strings.SplitSeq(docString(call.Doc), "\n") {
			c.P("%s", line)
		}
	}
	c.P("# A sample to begin with: write what the call does here.")
	c.P("self._log.info(%s)", quote("answering "+call.FullName()+" with a sample"))
	if call.Head != nil {
		c.P("%s", `self._log.info("%s", head)`)
	}
	if call.RequestStream {
		block(c, "async for element in elements:", func() { c.P("%s", `self._log.info("%s", element)`) })
	}
	if call.Response == nil {
		if !call.RequestStream {
			c.P("return None")
		}
		return
	}
	verb := "return"
	if call.ResponseStream {
		verb = "yield"
	}
	c.P("%s %s.from_json(", verb, call.Response.Name)
	c.P("    r\"\"\"%s\"\"\"", strings.ReplaceAll(w.options.Samples(call.Response), "\n", "\n        "))
	c.P(")")
}

func (w *starter) test(call *schema.Call) {
	w.add(w.folder+"/test_"+file(call)+".py", func(c *stubs.Code) {
		c.P("\"\"\"Starts the real server and calls %s.\"\"\"", call.FullName())
		c.P("")
		c.P("import logging")
		c.P("import threading")
		c.P("import time")
		c.P("")
		c.P("import uvicorn")
		c.P("")
		own := imports{}
		own.add(w.gen+".faithful.server", "listen")
		own.add(w.stub(), w.service.Name+"Client")
		own.add(w.stub(), w.serve())
		if call.Request != nil {
			own.add(module(w.types, call.Request.Module), call.Request.Name)
		}
		if call.Head != nil {
			own.add(module(w.types, call.Head.Module), call.Head.Name)
		}
		own.write(c)
		c.P("")
		c.P("from .service import %s", w.class())
		c.P("")
		c.P("")
		block(c, fmt.Sprintf("def test_%s() -> None:", call.Name), func() {
			c.P("listener = listen()")
			c.P("app = %s(%s(logging.getLogger(\"test\")))", w.serve(), w.class())
			c.P("server = uvicorn.Server(uvicorn.Config(app, log_level=\"warning\", **app.uvicorn_limits()))")
			c.P("thread = threading.Thread(target=server.run, args=([listener],))")
			c.P("thread.start()")
			block(c, "while not server.started:", func() { c.P("time.sleep(0.01)") })
			var credentials []string
			for _, sample := range stubs.SampleCredentials(call) {
				credentials = append(credentials, quote(sample[0])+": "+quote(sample[1]))
			}
			c.P("base = f\"http://127.0.0.1:{listener.getsockname()[1]}\"")
			arguments := []string{"base"}
			if len(credentials) > 0 {
				arguments = append(arguments, stubs.Brackets("{", []string{"\"credentials\": " +
					stubs.Brackets("{", credentials, "}")}, "}"))
			}
			c.P("%s", stubs.Call("client = "+w.service.Name+"Client", arguments...))
			block(c, "try:", func() { w.exchange(c, call) })
			block(c, "finally:", func() {
				c.P("client.close()")
				c.P("server.should_exit = True")
				c.P("thread.join()")
			})
		})
	})
}

// exchange calls, and asserts that there is an answer.
func (w *starter) exchange(c *stubs.Code, call *schema.Call) {
	sampled := func(variable string, m *schema.Message) {
		c.P("%s = %s.from_json(", variable, m.Name)
		c.P("    r\"\"\"%s\"\"\"", strings.ReplaceAll(w.options.Samples(m), "\n", "\n            "))
		c.P(")")
	}
	argument := ""
	if call.Request != nil {
		sampled("request", call.Request)
		argument = "request"
	}
	if call.RequestStream {
		argument = "[request]"
	}
	if call.Head != nil {
		sampled("head", call.Head)
		argument = "head, [request]"
	}
	switch {
	case call.ResponseStream:
		c.P("assert list(client.%s(%s))", CallName(call), argument)
	case call.Response == nil:
		c.P("client.%s(%s)", CallName(call), argument)
	default:
		c.P("assert client.%s(%s) is not None", CallName(call), argument)
	}
}

// imports are names by the modules that they are imported from.
type imports map[string][]string

func (m imports) add(module, name string) {
	if !slices.Contains(m[module], name) {
		m[module] = append(m[module], name)
	}
}

func (m imports) write(c *stubs.Code) {
	for _, module := range slices.Sorted(maps.Keys(m)) {
		slices.SortFunc(m[module], byKind)
		c.P("from %s import %s", module, stubs.Optional("(", m[module], ")"))
	}
}
