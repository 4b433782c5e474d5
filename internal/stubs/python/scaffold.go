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

// Next lists the commands that run and test what Scaffold wrote.
func (Language) Next(into string, options stubs.Options) []string {
	// Imports begin where the package of the stubs lies.
	up := strings.Repeat("../", strings.Count(packageOf(options), ".")+1)
	root := path.Join(into, options.Into, up)
	return []string{"PYTHONPATH=" + root + " python " + into + "/main.py",
		"PYTHONPATH=" + root + ":" + into + " python -m pytest " + into}
}

// packageOf is the dotted name of the stubs' package, as said or as its folder
// tells.
func packageOf(options stubs.Options) string {
	return cmp.Or(options.Package, strings.ReplaceAll(strings.TrimLeft(options.Into, "./"), "/", "."))
}

// Scaffold writes a main program, and for each call a file with its handler and
// one with a test. The program puts all handlers together, so that a later run
// only has to add files.
func (Language) Scaffold(s *schema.Service, options stubs.Options) []stubs.File {
	var files []stubs.File
	add := func(path string, write func(c *stubs.Code)) {
		c := stubs.NewCode("    ")
		write(c)
		files = append(files, stubs.File{Path: path, Content: c.Bytes()})
	}
	// The package of the stubs, as programs beside the output folder import it.
	gen := packageOf(options)
	types := gen
	if !options.Types {
		types = options.TypesAt
	}
	module := func(root string, m *schema.Module) string { return root + "." + strings.Join(Parts(m), ".") }
	service := module(gen, s.Module)
	block := func(c *stubs.Code, open string, body func()) {
		c.P("%s", open)
		c.Deeper(1, body)
	}
	add("main.py", func(c *stubs.Code) {
		c.P("\"\"\"Serves %s with uvicorn; any other ASGI server will do as well.\"\"\"", s.FullName())
		c.P("")
		c.P("import sys")
		c.P("")
		c.P("import uvicorn")
		c.P("")
		c.P("from handlers import make_app")
		c.P("")
		c.P("app = make_app()")
		c.P("")
		block(c, "if __name__ == \"__main__\":", func() {
			c.P("port = int(sys.argv[1]) if len(sys.argv) > 1 else 8080")
			c.P("uvicorn.run(app, host=\"127.0.0.1\", port=port, **app.uvicorn_limits())")
		})
	})
	add("handlers/__init__.py", func(c *stubs.Code) {
		c.P("\"\"\"What the server does: a file a call, each with a class that derives from %s.\"\"\"", s.Name)
		c.P("")
		c.P("import importlib")
		c.P("import logging")
		c.P("import pkgutil")
		c.P("")
		c.P("from %s.faithful.server import Served", gen)
		c.P("from %s import %s, serve_%s", service, s.Name, snake(s.Name))
		c.P("")
		c.P("")
		block(c, "def make_app() -> Served:", func() {
			c.P("\"\"\"Makes the server, with every handler there is.\"\"\"")
			block(c, "for module in pkgutil.iter_modules(__path__):", func() {
				block(c, "if not module.name.startswith(\"test_\"):",
					func() { c.P("importlib.import_module(f\"{__name__}.{module.name}\")") })
			})
			c.P("server: %s = type(\"Server\", tuple(%s.__subclasses__()), {})()", s.Name, s.Name)
			c.P("return serve_%s(server, {\"on_error\": lambda call, problem, _: logging.error(\"%%s\", call, "+
				"exc_info=problem)})", snake(s.Name))
		})
	})
	for _, call := range s.Calls {
		class := "Serve" + syntaxPascal(call.Name)
		add("handlers/"+stubs.CallFile(call.Name)+".py", func(c *stubs.Code) {
			imports := imports{}
			name := func(m *schema.Message) string {
				imports.add(module(types, m.Module), m.Name)
				return m.Name
			}
			body := stubs.NewCode("    ")
			parameters, result := []string{"self"}, "None"
			switch {
			case call.RequestStream:
				imports.add(gen+".faithful.server", "Elements")
				parameters = append(parameters, "elements: Elements["+name(call.Request)+"]")
			case call.Request != nil:
				parameters = append(parameters, "request: "+name(call.Request))
			}
			imports.add(gen+".faithful.server", "Context")
			parameters = append(parameters, "context: Context")
			if call.Response != nil {
				result = name(call.Response)
			}
			standard := ""
			if call.ResponseStream {
				standard = "from collections.abc import AsyncIterator\n\n"
				result = "AsyncIterator[" + result + "]"
			}
			imports.add(service, s.Name)
			block(body, fmt.Sprintf("class %s(%s):", class, s.Name), func() {
				block(body, fmt.Sprintf("async def %s(%s) -> %s:", CallName(call), strings.Join(parameters, ", "), result), func() {
					if call.Doc != "" {
						for line := range strings.SplitSeq(docString(call.Doc), "\n") {
							body.P("%s", line)
						}
					}
					body.P("# A sample to begin with: write what the call does here.")
					if call.RequestStream {
						block(body, "async for element in elements:", func() { body.P("print(element)") })
					}
					if call.Response == nil {
						if !call.RequestStream {
							body.P("return None")
						}
						return
					}
					verb := "return"
					if call.ResponseStream {
						verb = "yield"
					}
					sample := strings.ReplaceAll(options.Samples(call.Response), "\n", "\n        ")
					body.P("%s %s.from_json(", verb, call.Response.Name)
					body.P("    r\"\"\"%s\"\"\"", sample)
					body.P(")")
				})
			})
			c.P("\"\"\"%s\"\"\"", "Serves "+call.FullName()+".")
			c.P("")
			if standard != "" {
				c.P("%s", strings.TrimSuffix(standard, "\n"))
			}
			imports.write(c)
			c.P("")
			c.P("")
			c.P("%s", strings.TrimSuffix(string(body.Bytes()), "\n"))
		})
		add("test_"+stubs.CallFile(call.Name)+".py", func(c *stubs.Code) {
			c.P("\"\"\"Starts the real server and calls %s.\"\"\"", call.FullName())
			c.P("")
			c.P("import threading")
			c.P("import time")
			c.P("")
			c.P("import uvicorn")
			c.P("")
			own := imports{}
			own.add(gen+".faithful.server", "listen")
			own.add(service, s.Name+"Client")
			if call.Request != nil {
				own.add(module(types, call.Request.Module), call.Request.Name)
			}
			own.add("handlers", "make_app")
			own.write(c)
			c.P("")
			c.P("")
			block(c, fmt.Sprintf("def test_%s() -> None:", call.Name), func() {
				c.P("listener = listen()")
				c.P("app = make_app()")
				c.P("server = uvicorn.Server(uvicorn.Config(app, log_level=\"warning\", **app.uvicorn_limits()))")
				c.P("thread = threading.Thread(target=server.run, args=([listener],))")
				c.P("thread.start()")
				block(c, "while not server.started:", func() { c.P("time.sleep(0.01)") })
				var credentials []string
				if len(call.Needs) > 0 {
					for _, credential := range call.Needs[0] {
						value := "sample"
						if credential.Kind == "basic" {
							value = "user:password"
						}
						credentials = append(credentials, quote(credential.FullName())+": "+quote(value))
					}
				}
				c.P("client = %sClient(f\"http://127.0.0.1:{listener.getsockname()[1]}\", {\"credentials\": {%s}})", s.Name,
					strings.Join(credentials, ", "))
				block(c, "try:", func() {
					argument := ""
					if call.Request != nil {
						sample := strings.ReplaceAll(options.Samples(call.Request), "\n", "\n            ")
						c.P("request = %s.from_json(", call.Request.Name)
						c.P("    r\"\"\"%s\"\"\"", sample)
						c.P(")")
						argument = "request"
					}
					if call.RequestStream {
						argument = "[request]"
					}
					switch {
					case call.ResponseStream:
						c.P("assert list(client.%s(%s))", CallName(call), argument)
					case call.Response == nil:
						c.P("client.%s(%s)", CallName(call), argument)
					default:
						c.P("assert client.%s(%s) is not None", CallName(call), argument)
					}
				})
				block(c, "finally:", func() {
					c.P("client.close()")
					c.P("server.should_exit = True")
					c.P("thread.join()")
				})
			})
		})
	}
	return files
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
