package golang

import (
	"fmt"
	"go/format"
	"strconv"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// Next lists the commands that run and test what Scaffold wrote.
func (Language) Next(into string, _ stubs.Options) []string {
	if !strings.HasPrefix(into, "/") && !strings.HasPrefix(into, ".") {
		into = "./" + into
	}
	return []string{"go run " + into, "go test " + into}
}

// Scaffold writes a main program, and for each call a file with its handler and
// one with a test. Handlers add themselves to the calls of the server, so that
// a later run only has to add files.
func (Language) Scaffold(s *schema.Service, options stubs.Options) []stubs.File {
	root := strings.Trim(options.Package, "/")
	types := root
	if !options.Types {
		types = strings.Trim(options.TypesAt, "/")
	}
	var files []stubs.File
	add := func(path string, write func(g *generator)) {
		g := &generator{Code: stubs.NewCode("\t"), module: &schema.Module{Name: "main"}, root: root, types: types,
			imports: map[string]string{}}
		write(g)
		head := stubs.NewCode("\t")
		g.head(head)
		source, err := format.Source(append(head.Bytes(), g.Bytes()...))
		if err != nil {
			source = g.Bytes() // which its reader will see
		}
		files = append(files, stubs.File{Path: path, Content: source})
	}
	service := PackageName(s.Module)
	add("main.go", func(g *generator) {
		g.use(Folder(s.Module), service)
		g.P("")
		g.P("// calls are what this server does; each file of a call adds its own.")
		g.P("var calls %s.%sCalls", service, s.Name)
		g.P("")
		g.In("func main() {", func() {
			g.P("listen := %s.String(\"listen\", \"127.0.0.1:8080\", \"the address to listen on\")", g.std("flag"))
			g.P("flag.Parse()")
			g.P("mount := %s.Serve%s(calls, %s.WithOnError(func(_ %s.Context, call string, err error) { "+
				"%s.Printf(\"%%s: %%v\", call, err) }))", service, s.Name, g.web(), g.std("context"), g.std("log"))
			g.P("server := %s.NewServer(mount)", g.web())
			g.P("server.Addr = *listen")
			g.P("%s", `log.Printf("listening on http://%s", *listen)`)
			g.P("log.Fatal(server.ListenAndServe())")
		}, "}")
	})
	for _, c := range s.Calls {
		name := unexported(CallName(c))
		handler := "serve" + CallName(c)
		add(stubs.CallFile(c.Name, "main")+".go", func(g *generator) {
			g.P("")
			g.P("func init() { calls.%s = %s }", CallName(c), handler)
			g.P("")
			comment(g.Code, handler+" serves "+c.FullName()+"."+paragraph(c.Doc))
			g.std("context")
			g.In(fmt.Sprintf("func %s%s {", handler, g.handlerType(c)), func() { g.sample(c, options) }, "}")
		})
		add(stubs.CallFile(c.Name, "main")+"_test.go", func(g *generator) { g.sampleTest(c, options, service, name) })
	}
	return files
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
func (g *generator) head(head *stubs.Code) {
	file := g.file(false)
	text := strings.Replace(strings.TrimSuffix(string(file), string(g.Bytes())), "package main_", "package main", 1)
	head.P("%s", strings.TrimPrefix(text, "\n"))
}

// sample writes the body of a handler that answers with a sample.
func (g *generator) sample(c *schema.Call, options stubs.Options) {
	g.P("// A sample to begin with: write what the call does here.")
	decode := func(failure string) {
		g.P("answer := new(%s)", g.name(&c.Response.Decl))
		g.In(fmt.Sprintf("if err := answer.UnmarshalJSON([]byte(%s)); err != nil {",
			multiline(options.Samples(c.Response))), func() { g.P("return %serr", failure) }, "}")
	}
	switch {
	case conversation.BothWays(c):
		g.In("for element, err := range elements {", func() {
			g.In("if err != nil {", func() { g.P("return err") }, "}")
			g.P("_ = element")
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
			g.P("_ = element")
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
func (g *generator) sampleTest(c *schema.Call, options stubs.Options, service, _ string) {
	g.std("testing")
	g.use(Folder(c.Service.Module), service)
	g.P("")
	g.In(fmt.Sprintf("func Test%s(t *testing.T) {", CallName(c)), func() {
		g.P("server := %s.NewServer(%s.Serve%s(calls))", g.std("net/http/httptest"), service, c.Service.Name)
		g.P("defer server.Close()")
		var options2 []string
		for _, credential := range firstNeeds(c) {
			value := "sample"
			if credential.Kind == "basic" {
				value = "user:password"
			}
			options2 = append(options2, fmt.Sprintf("%s.WithCredential(%q, %q)", g.web(), credential.FullName(), value))
		}
		g.P("client := %s.New%sClient(%s)", service, c.Service.Name,
			strings.Join(append([]string{"server.URL"}, options2...), ", "))
		request := func(name string) {
			g.P("%s := new(%s)", name, g.name(&c.Request.Decl))
			g.In(fmt.Sprintf("if err := %s.UnmarshalJSON([]byte(%s)); err != nil {", name,
				multiline(options.Samples(c.Request))), func() { g.P("t.Fatal(err)") }, "}")
		}
		fatal := func(call string) {
			g.In("if "+call+"; err != nil {", func() { g.P("t.Fatal(err)") }, "}")
		}
		context := func() string { return g.std("context") + ".Background()" }
		switch {
		case conversation.BothWays(c):
			request("element")
			g.P("talk, err := client.%s(%s)", CallName(c), context())
			g.In("if err != nil {", func() { g.P("t.Fatal(err)") }, "}")
			g.P("defer talk.Close()")
			fatal("err := talk.Send(element)")
			fatal("err := talk.Finish()")
			g.In("for _, err := range talk.All() {", func() { g.In("if err != nil {", func() { g.P("t.Fatal(err)") }, "}") },
				"}")
		case c.RequestStream:
			request("element")
			g.P("sender := client.%s(%s)", CallName(c), context())
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

func firstNeeds(c *schema.Call) []*schema.Credential {
	if len(c.Needs) == 0 {
		return nil
	}
	return c.Needs[0]
}
