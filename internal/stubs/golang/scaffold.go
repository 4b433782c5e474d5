package golang

import (
	"fmt"
	"go/format"
	"path"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// Frameworks are none.
func (Language) Frameworks() []string { return nil }

// Next lists the commands that run and test what Scaffold wrote.
func (Language) Next(into string, options stubs.Options) []string {
	if !strings.HasPrefix(into, "/") && !strings.HasPrefix(into, ".") {
		into = "./" + into
	}
	next := []string{"go run " + into}
	if options.Client {
		next = append(next, "go test "+into+"/...")
	}
	return next
}

// Scaffold writes a main program, and for the service a package: a struct for what its
// calls depend on, and for each call a file with its handler and one with a test.
func (Language) Scaffold(s *schema.Service, options stubs.Options) []stubs.Start {
	w := &starter{service: s, options: options, root: strings.Trim(options.Package, "/")}
	w.types = w.root
	if !options.Types {
		w.types = strings.Trim(options.TypesAt, "/")
	}
	w.here = path.Join(w.root, options.From)
	w.folder = strings.ReplaceAll(options.Folder, "_", "")
	if slices.Contains(keywords, w.folder) || slices.Contains([]string{"main", "init", "internal", "vendor", "testdata"},
		w.folder) {
		w.folder += "service"
	}
	w.program()
	w.dependencies()
	for _, c := range s.Calls {
		w.handler(c)
		if options.Client {
			w.add(stubs.CallFile(c.Name, "service")+"_test.go", w.folder,
				func(g *generator) { g.sampleTest(c, options, w.stub(g)) })
		}
	}
	return w.starts
}

// starter writes the files of one service.
type starter struct {
	service           *schema.Service
	options           stubs.Options
	root, types, here string // import paths: of the stubs, of their types, of the server
	folder            string // of the service, and the name of its package
	starts            []stubs.Start
}

// add writes a file of the program, or of the package of the service.
func (w *starter) add(file, packageName string, write func(g *generator), joins ...stubs.Join) {
	g := &generator{Code: stubs.NewCode("\t"), module: &schema.Module{Name: "main"}, root: w.root, types: w.types,
		imports: map[string]string{}, here: w.here, beside: append(w.service.Module.Uses(), w.service.Module)}
	write(g)
	head := stubs.NewCode("\t")
	g.head(head, packageName)
	source, err := format.Source(append(head.Bytes(), g.Bytes()...))
	if err != nil {
		source = g.Bytes() // which its reader will see
	}
	if packageName != "main" {
		file = packageName + "/" + file
	}
	w.starts = append(w.starts, stubs.Start{File: stubs.File{Path: file, Content: source}, Joins: joins})
}

// stub imports the stubs of the service.
func (w *starter) stub(g *generator) string {
	m := w.service.Module
	return g.use(Folder(m), importName(m, g.beside))
}

func (w *starter) program() {
	w.add("main.go", "main", func(g *generator) {
		g.imports[w.here+"/"+w.folder] = w.folder
		context, slog := g.std("context"), g.std("log/slog")
		g.P("")
		g.In("func main() {", func() {
			g.P("listen := %s.String(\"listen\", \"127.0.0.1:8080\", \"the address to listen on\")", g.std("flag"))
			g.P("flag.Parse()")
			g.In("if err := run(*listen); err != nil {", func() {
				g.P("%s.Error(\"the server stopped\", \"error\", err)", slog)
				g.P("%s.Exit(1)", g.std("os"))
			}, "}")
		}, "}")
		g.P("")
		g.P("// handler is every service, each with what it depends on.")
		g.In(fmt.Sprintf("func handler(log *%s.Logger) *%s.Served {", slog, g.web()), func() {
			g.In("return "+g.web()+".Serve(", func() { g.P("%s.Serve(%s.New(log)),", w.folder, w.folder) }, ")")
		}, "}")
		g.P("")
		g.P("// run serves until the process is interrupted or terminated. Calls that are running")
		g.P("// then have 10 s to end; streams end with a problem that says why.")
		g.In("func run(listen string) error {", func() {
			g.P("ctx, stop := %s.NotifyContext(%s.Background(), os.Interrupt, %s.SIGTERM)", g.std("os/signal"), context,
				g.std("syscall"))
			g.P("defer stop()")
			g.P("served := handler(%s.Default())", slog)
			g.P("server := %s.NewServer(served)", g.web())
			g.P("server.Addr = listen")
			g.P("stopped := make(chan error, 1)")
			g.In("go func() {", func() {
				g.P("<-ctx.Done()")
				g.P("limit, cancel := %s.WithTimeout(%s.Background(), 10*%s.Second)", context, context, g.std("time"))
				g.P("defer cancel()")
				g.P("stopped <- %s.Join(served.Shutdown(limit), server.Shutdown(limit))", g.std("errors"))
			}, "}()")
			g.P("%s.Info(\"listening\", \"address\", \"http://\"+listen)", slog)
			g.In(fmt.Sprintf("if err := server.ListenAndServe(); !errors.Is(err, %s.ErrServerClosed) {", g.std("net/http")),
				func() { g.P("return err") }, "}")
			g.P("return <-stopped")
		}, "}")
	})
}

func (w *starter) dependencies() {
	join := stubs.Join{Path: "main.go", Lines: []string{"import " + strconv.Quote(w.here+"/"+w.folder),
		fmt.Sprintf("%s.Serve(%s.New(log)), // among the arguments of web.Serve", w.folder, w.folder)}}
	w.add("service.go", w.folder, func(g *generator) {
		stub, name := w.stub(g), w.service.Name
		slog := g.std("log/slog")
		g.P("")
		g.P("// Service is what the calls of %s depend on: a database, other", w.service.FullName())
		g.P("// clients, a clock.")
		g.In("type Service struct {", func() { g.P("log *%s.Logger", slog) }, "}")
		g.P("")
		g.P("// New makes the service of what it depends on.")
		g.P("func New(log *%s.Logger) *Service { return &Service{log: log} }", slog)
		g.P("")
		g.P("// Serve is the handler of the service. A call that is not listed answers 501.")
		g.In(fmt.Sprintf("func Serve(s *Service, options ...%s.ServerOption) *%s.Served {", g.web(), g.web()), func() {
			g.In(fmt.Sprintf("return %s.Serve%s(%s.%sCalls{", stub, name, stub, name), func() {
				for _, c := range w.service.Calls {
					g.P("%s", joined(c))
				}
			}, "}, options...)")
		}, "}")
	}, join)
}

// joined is the line by which the service serves a call.
func joined(c *schema.Call) string { return fmt.Sprintf("%s: s.%s,", CallName(c), CallName(c)) }

func (w *starter) handler(c *schema.Call) {
	w.add(stubs.CallFile(c.Name, "service")+".go", w.folder, func(g *generator) {
		g.P("")
		comment(g.Code, CallName(c)+" serves "+c.FullName()+"."+paragraph(c.Doc))
		g.std("context")
		g.In(fmt.Sprintf("func (s *Service) %s%s {", CallName(c), g.handlerType(c)), func() { g.sample(c, w.options) }, "}")
	}, stubs.Join{Path: w.folder + "/service.go", Lines: []string{joined(c) + " // in Serve"}})
}

// multiline writes a string over several lines where Go can.
func multiline(s string) string {
	if strings.ContainsAny(s, "`\r") {
		return strconv.Quote(s)
	}
	return "`" + s + "`"
}

func paragraph(doc string) string {
	if doc == "" {
		return ""
	}
	return "\n\n" + doc
}

// head writes package clause and imports of a file of the user's.
func (g *generator) head(head *stubs.Code, packageName string) {
	file := g.file(false)
	text := strings.Replace(strings.TrimSuffix(string(file), string(g.Bytes())), "package main_", "package "+packageName,
		1)
	head.P("%s", strings.TrimPrefix(text, "\n"))
}

// sample writes the body of a handler that answers with a sample.
func (g *generator) sample(c *schema.Call, options stubs.Options) {
	g.P("// A sample to begin with: write what the call does here.")
	g.P("s.log.InfoContext(ctx, \"answering with a sample\", \"call\", %q)", c.FullName())
	decode := func(failure string) {
		g.P("answer := new(%s)", g.name(&c.Response.Decl))
		g.In(fmt.Sprintf("if err := answer.UnmarshalJSON([]byte(%s)); err != nil {",
			multiline(options.Samples(c.Response))), func() { g.P("return %serr", failure) }, "}")
	}
	if c.Head != nil {
		g.P("s.log.InfoContext(ctx, \"received\", \"head\", head)")
	}
	switch {
	case conversation.BothWays(c):
		g.In("for element, err := range elements {", func() {
			g.In("if err != nil {", func() { g.P("return err") }, "}")
			g.P("s.log.InfoContext(ctx, \"received\", \"element\", element)")
		}, "}")
		decode("")
		g.P("return send(answer)")
	case c.RequestStream:
		failure, result := "nil, ", "answer, nil"
		if c.Response == nil {
			failure, result = "", "nil"
		}
		g.In("for element, err := range elements {", func() {
			g.In("if err != nil {", func() { g.P("return %serr", failure) }, "}")
			g.P("s.log.InfoContext(ctx, \"received\", \"element\", element)")
		}, "}")
		if c.Response != nil {
			decode("nil, ")
		}
		g.P("return %s", result)
	case c.ResponseStream:
		decode("")
		g.P("return send(answer)")
	case c.Response == nil:
		g.P("return nil")
	default:
		decode("nil, ")
		g.P("return answer, nil")
	}
}

// sampleTest writes a test that starts the real server and makes a call.
func (g *generator) sampleTest(c *schema.Call, options stubs.Options, service string) {
	g.std("testing")
	g.P("")
	g.In(fmt.Sprintf("func Test%s(t *testing.T) {", CallName(c)), func() {
		g.P("server := %s.NewServer(Serve(New(%s.Default())))", g.std("net/http/httptest"), g.std("log/slog"))
		g.P("defer server.Close()")
		arguments := []string{"server.URL"}
		for _, sample := range stubs.SampleCredentials(c) {
			arguments = append(arguments, fmt.Sprintf("%s.WithCredential(%q, %q)", g.web(), sample[0], sample[1]))
		}
		g.P("client := %s.New%sClient(%s)", service, c.Service.Name, strings.Join(arguments, ", "))
		sampled := func(name string, m *schema.Message) {
			g.P("%s := new(%s)", name, g.name(&m.Decl))
			g.In(fmt.Sprintf("if err := %s.UnmarshalJSON([]byte(%s)); err != nil {", name,
				multiline(options.Samples(m))), func() { g.P("t.Fatal(err)") }, "}")
		}
		request := func(name string) { sampled(name, c.Request) }
		head := ""
		if c.Head != nil {
			sampled("head", c.Head)
			head = ", head"
		}
		fatal := func(call string) {
			g.In("if "+call+"; err != nil {", func() { g.P("t.Fatal(err)") }, "}")
		}
		context := func() string { return g.std("context") + ".Background()" }
		switch {
		case conversation.BothWays(c):
			request("element")
			g.P("talk, err := client.%s(%s%s)", CallName(c), context(), head)
			g.In("if err != nil {", func() { g.P("t.Fatal(err)") }, "}")
			g.P("defer talk.Close()")
			fatal("err := talk.Send(element)")
			fatal("err := talk.Finish()")
			g.In("for _, err := range talk.All() {", func() { g.In("if err != nil {", func() { g.P("t.Fatal(err)") }, "}") },
				"}")
		case c.RequestStream:
			request("element")
			g.P("sender := client.%s(%s%s)", CallName(c), context(), head)
			fatal("err := sender.Send(element)")
			if c.Response == nil {
				fatal("err := sender.Finish()")
			} else {
				fatal("_, err := sender.Finish()")
			}
		case c.ResponseStream:
			arguments := context()
			if c.Request != nil {
				request("request")
				arguments += ", request"
			}
			g.In(fmt.Sprintf("for _, err := range client.%s(%s) {", CallName(c), arguments),
				func() { g.In("if err != nil {", func() { g.P("t.Fatal(err)") }, "}") }, "}")
		default:
			arguments := context()
			if c.Request != nil {
				request("request")
				arguments += ", request"
			}
			if c.Response == nil {
				fatal(fmt.Sprintf("err := client.%s(%s)", CallName(c), arguments))
			} else {
				fatal(fmt.Sprintf("_, err := client.%s(%s)", CallName(c), arguments))
			}
		}
	}, "}")
}
