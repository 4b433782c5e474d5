package golang

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
)

func callVariable(c *schema.Call) string { return unexported(c.Service.Name) + CallName(c) }

// calls writes what clients and servers of a module share: what is to be known
// of each call, and how its request travels.
func (g *generator) calls() {
	g.credentials()
	for _, s := range g.module.Services {
		g.callTable(s)
		for _, c := range s.Calls {
			g.travels(c)
		}
	}
}

// credentials writes the credentials that calls of the module need.
func (g *generator) credentials() {
	seen := map[*schema.Credential]bool{}
	for _, s := range g.module.Services {
		for _, c := range s.Calls {
			for _, all := range c.Needs {
				for _, credential := range all {
					if seen[credential] {
						continue
					}
					seen[credential] = true
					kind, key := credential.Kind, ""
					if credential.Kind == "key" {
						kind, key = credential.Carrier, fmt.Sprintf(", Key: %q", credential.Key)
					}
					g.P("")
					g.P("var %s = &%s.Credential{Name: %q, Kind: %q%s}", credentialVariable(credential), g.web(),
						credential.FullName(), kind, key)
				}
			}
		}
	}
}

func credentialVariable(c *schema.Credential) string {
	return unexported(Pascal(strings.ReplaceAll(c.Module.Name, ".", "_")+"_"+c.Name)) + "Credential"
}

// callTable writes what both sides know of a service's calls.
func (g *generator) callTable(s *schema.Service) {
	web := g.web()
	g.P("")
	g.In("var (", func() {
		for _, c := range s.Calls {
			g.In(fmt.Sprintf("%s = %s.Call{", callVariable(c), web), func() { g.callFields(c) }, "}")
		}
	}, ")")
}

func (g *generator) callFields(c *schema.Call) {
	web := g.web()
	g.P("Name: %q,", c.FullName())
	g.P("Method: %q,", conversation.Method(c))
	g.P("Path: %q,", conversation.Path(c))
	if c.HTTP != nil && c.HTTP.Status != 0 {
		g.P("Status: %d,", c.HTTP.Status)
	}
	for _, flag := range []struct {
		name string
		is   bool
	}{{"Safe", c.Safe}, {"Idempotent", c.Idempotent}, {"RequestStream", c.RequestStream},
		{"AnswerStream", c.ResponseStream}, {"Compressible", conversation.Compressible(c)}} {
		if flag.is {
			g.P("%s: true,", flag.name)
		}
	}
	for _, t := range travelsOf(c) {
		g.P("%s: &%s,", t.member, t.table)
	}
	if len(c.Needs) > 0 {
		g.In(fmt.Sprintf("Needs: [][]*%s.Credential{", web), func() {
			for _, all := range c.Needs {
				var names []string
				for _, credential := range all {
					names = append(names, credentialVariable(credential))
				}
				g.P("{%s},", strings.Join(names, ", "))
			}
		}, "},")
	}
	if len(c.Fails) > 0 {
		g.In(fmt.Sprintf("Fails: []%s.Failure{", web), func() {
			for _, e := range c.Fails {
				g.P("{Name: %q, New: func() %s.DeclaredError { return new(%s) }},", e.FullName(), web, g.name(&e.Decl))
			}
		}, "},")
	}
}

// travel is a side of a call whose message is not all in the body, with the names of what
// is declared for it.
type travel struct {
	member      string // of web.Call
	table       string
	place, take string
	whole       *schema.Message
	placed      []conversation.Placed
	rest        *schema.Message // what is left for the body, or nil
}

// travelsOf lists the sides of a call whose messages are not all in the body.
func travelsOf(c *schema.Call) (list []travel) {
	name := func(format string) string { return nameBeside(c, fmt.Sprintf(format, CallName(c))) }
	of := c.Service.Name
	if placed := conversation.Outside(c); len(placed) > 0 || conversation.Bodiless(c) || c.Head != nil {
		list = append(list, travel{"Travel", name(unexported(of) + "%sTravel"), name("place" + of + "%s"),
			name("take" + of + "%s"), c.Placed(), placed, conversation.Body(c, name(unexported(of)+"%sBody"))})
	}
	if placed := conversation.AnswerOutside(c); len(placed) > 0 || conversation.AnswerRaw(c) != nil {
		list = append(list, travel{"AnswerTravel", name(unexported(of) + "%sTravelOfAnswer"),
			name("placeAnswerOf" + of + "%s"), name("takeAnswerOf" + of + "%s"), c.Response, placed,
			conversation.AnswerBody(c, name(unexported(of)+"%sBodyOfAnswer"))})
	}
	return list
}

// nameBeside is a name that no call's variable has.
func nameBeside(c *schema.Call, name string) string {
	for _, s := range c.Service.Module.Services {
		if slices.ContainsFunc(s.Calls, func(other *schema.Call) bool { return callVariable(other) == name }) {
			return nameBeside(c, name+"_")
		}
	}
	return name
}

// travels writes how the fields of requests and answers are put outside of the body and
// found again.
func (g *generator) travels(c *schema.Call) {
	for _, t := range travelsOf(c) {
		if t.rest != nil {
			g.bodyType(c, t)
		}
		g.travelTable(t)
		g.placing(t)
		g.taking(t)
	}
}

// bodyType writes the message that travels in the body.
func (g *generator) bodyType(c *schema.Call, t travel) {
	rest := t.rest
	g.shown = t.whole.Name
	defer func() { g.shown = "" }()
	g.P("")
	g.P("// %s is what of %s travels in the body of %s.", rest.Name, t.whole.Name, c.Name)
	g.structOf(rest)
	g.P("")
	g.fieldTable(rest)
	for _, f := range rest.Fields {
		if f.Presence == schema.Defaulted {
			g.orDefault(rest, f)
		}
	}
	g.appendCBOR(rest)
	g.readCBOR(rest)
	g.appendJSON(rest)
	g.readJSON(rest)
	g.P("")
	g.P("// AppendViolations adds nothing: the whole message is looked at.")
	g.P("func (m *%s) AppendViolations(list []%s.Violation, _ string) []%s.Violation { return list }", rest.Name,
		g.wire(), g.wire())
}

// travelTable writes what both sides know of how a message travels.
func (g *generator) travelTable(t travel) {
	web, wire, whole := g.web(), g.wire(), g.name(&t.whole.Decl)
	g.P("")
	g.In(fmt.Sprintf("var %s = %s.Travel{", t.table, web), func() {
		if len(t.placed) > 0 {
			g.In(fmt.Sprintf("Placed: []%s.Placed{", web), func() {
				for _, p := range t.placed {
					g.P("{Number: %d, Name: %q, In: %q, Parameter: %q},", p.Field.Number, p.Field.JSONName(), p.Place, p.Name)
				}
			}, "},")
		}
		if raw := t.whole.Raw(); raw != nil {
			g.In(fmt.Sprintf("Raw: &%s.Raw{", web), func() {
				g.P("Field: %q,", raw.JSONName())
				g.P("Bounds: &%s,", g.rawBounds(raw))
				g.P("Of: func(whole %s.Message) *%s.Body { return &whole.(*%s).%s },", web, web, whole, FieldName(raw))
			}, "},")
		}
		body := "_"
		if t.rest != nil {
			body = "body"
			g.P("NewBody: func() %s.Message { return new(%s) },", wire, t.rest.Name)
			g.In(fmt.Sprintf("BodyOf: func(whole %s.Message) %s.Message {", web, wire), func() {
				g.P("m := whole.(*%s)", whole)
				g.In(fmt.Sprintf("return &%s{", t.rest.Name), func() {
					for _, f := range t.rest.Fields {
						g.P("%s: m.%s,", FieldName(f), FieldName(f))
					}
					g.P("unlisted: m.UnlistedFields(),")
				}, "}")
			}, "},")
		}
		g.P("Place: func(whole %s.Message, p *%s.Parameters) { %s(whole.(*%s), p) },", web, web, t.place, whole)
		g.In(fmt.Sprintf("Take: func(whole %s.Message, %s %s.Message, a *%s.Arguments) {", web, body, wire, web), func() {
			if t.rest != nil {
				g.P("%s(whole.(*%s), body.(*%s), a)", t.take, whole, t.rest.Name)
			} else {
				g.P("%s(whole.(*%s), a)", t.take, whole)
			}
		}, "},")
	}, "}")
}

// placing writes the function that puts fields outside of the body.
func (g *generator) placing(t travel) {
	whole, web := g.name(&t.whole.Decl), g.web()
	m, p := "m", "p"
	if len(t.placed) == 0 {
		m, p = "_", "_"
	}
	g.P("")
	g.In(fmt.Sprintf("func %s(%s *%s, %s *%s.Parameters) {", t.place, m, whole, p, web), func() {
		g.starts = 0
		for _, p := range t.placed {
			g.place(p)
		}
	}, "}")
}

// taking writes the function that finds them again.
func (g *generator) taking(t travel) {
	whole, web := g.name(&t.whole.Decl), g.web()
	parameters := fmt.Sprintf("m *%s, a *%s.Arguments", whole, web)
	switch {
	case t.rest != nil:
		parameters = fmt.Sprintf("m *%s, body *%s, a *%s.Arguments", whole, t.rest.Name, web)
	case len(t.placed) == 0:
		parameters = fmt.Sprintf("_ *%s, _ *%s.Arguments", whole, web)
	}
	g.P("")
	g.In(fmt.Sprintf("func %s(%s) {", t.take, parameters), func() {
		for i, p := range t.placed {
			g.take(p, i)
		}
		if t.rest != nil {
			for _, f := range t.rest.Fields {
				g.P("m.%s = body.%s", FieldName(f), FieldName(f))
			}
			g.P("m.KeepUnlistedFields(body.unlisted)")
			g.P("a.Rest(body.unlisted)")
		}
	}, "}")
}

// place writes a field outside of the body.
func (g *generator) place(p conversation.Placed) {
	f, name := p.Field, p.Name
	put := func(t *schema.Type, value string) {
		text := ""
		switch {
		case t.Kind == schema.KindText && isDefined(t):
			text = "string(" + value + ")"
		case t.Kind == schema.KindText:
			text = value
		case t.Kind == schema.KindEnum:
			text = fmt.Sprintf("%s.Plain(%s.AppendJSON(nil, &p.Writer))", g.wire(), method(value))
		default:
			text = fmt.Sprintf("%s.Plain(%s)", g.wire(), g.appendScalar(t, value, "nil", "&p.Writer", true))
		}
		g.P("p.%s(%q, %s)", Pascal(string(p.Place)), name, text)
	}
	g.present(f, func(value string) {
		if f.Type.Kind == schema.KindList {
			g.In(fmt.Sprintf("for _, v := range %s {", value), func() { put(f.Type.Elem, "v") }, "}")
			return
		}
		put(f.Type, value)
	})
}

// take reads a field from outside of the body, by its place among those that travel there.
func (g *generator) take(p conversation.Placed, i int) {
	f := p.Field
	field, reader := "m."+FieldName(f), "func(r *"+g.wire()+".JSONReader) {"
	if f.Type.Kind == schema.KindList {
		g.P("%s = %s{}", field, g.typ(f.Type))
		g.In(fmt.Sprintf("a.List(%d, %s, %s", i, jsonShape(f.Type.Elem), reader), func() {
			g.readItem(f.Type.Elem, "item", jsonEncoding, 0)
			g.P("%s = append(%s, item)", field, field)
		}, "})")
		return
	}
	read := func() { g.readField(f, jsonEncoding) }
	open := fmt.Sprintf("a.Scalar(%d, %t, %s, %s", i, f.Presence != schema.Required, jsonShape(f.Type), reader)
	if f.Presence != schema.Defaulted {
		g.In(open, read, "})")
		return
	}
	g.In("if !"+open, read, "}) {")
	g.Deeper(1, func() {
		if nilable(f.Type) {
			g.P("%s = %s", field, g.literal(f.Default))
		} else {
			g.P("%s = %s.Pointer(%s)", field, g.wire(), g.typedLiteral(f))
		}
	})
	g.P("}")
}

// jsonShape is the support's name for a shape.
func jsonShape(t *schema.Type) string {
	switch conversation.ShapeOf(t) {
	case conversation.Bare:
		return "wire.Bare"
	case conversation.Number:
		return "wire.BareNumber"
	}
	return "wire.Quoted"
}

func (g *generator) callDoc(c *schema.Call, name string) {
	g.P("")
	doc := c.Doc
	if doc == "" {
		doc = "calls " + c.FullName() + "."
		g.P("// %s %s", name, doc)
	} else {
		comment(g.Code, name+": "+doc)
	}
	if len(c.Fails) > 0 {
		var names []string
		for _, e := range c.Fails {
			name := e.Name
			if e.Module != g.module {
				name = PackageName(e.Module) + "." + name
			}
			names = append(names, "*"+name)
		}
		g.P("//")
		g.P("// Its errors are %s.", strings.Join(names, ", "))
	}
	if c.Deprecated != "" {
		g.P("//")
		comment(g.Code, docOf("", c.Deprecated))
	}
}

func (g *generator) clients() {
	for _, s := range g.module.Services {
		g.client(s)
	}
}

func (g *generator) client(s *schema.Service) {
	web := g.web()
	g.std("context")
	client := s.Name + "Client"
	g.P("")
	g.P("// %s calls the service %s.", client, s.FullName())
	if s.Doc != "" {
		g.P("//")
		comment(g.Code, s.Doc)
	}
	if s.Deprecated != "" {
		g.P("//")
		comment(g.Code, docOf("", s.Deprecated))
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
		g.clientCall(c, client)
	}
}

// sent is the request of a call, or the head of a stream, as the client sends it.
func sent(c *schema.Call) string {
	switch {
	case c.Placed() == nil:
		return "nil"
	case c.RequestStream:
		return "head"
	}
	return "request"
}

func (g *generator) clientCall(c *schema.Call, client string) {
	web := g.web()
	parameters, call := "ctx context.Context", "&"+callVariable(c)
	if m := c.Placed(); m != nil {
		parameters += ", " + sent(c) + " *" + g.name(&m.Decl)
	}
	parameters += ", options ..." + web + ".CallOption"
	method := func(results string, body func()) {
		g.In(fmt.Sprintf("func (c *%s) %s(%s) %s {", client, CallName(c), parameters, results), body, "}")
	}
	switch {
	case conversation.BothWays(c):
		q, a := g.name(&c.Request.Decl), g.name(&c.Response.Decl)
		method(fmt.Sprintf("(*%s.Conversation[%s, %s], error)", web, q, a), func() {
			g.P("return %s.NewConversation[%s, %s](ctx, c.client.For(options), %s, %s)", web, q, a, call, sent(c))
		})
	case c.RequestStream && c.Response == nil:
		method(fmt.Sprintf("*%s.Sender[%s]", web, g.name(&c.Request.Decl)), func() {
			g.P("return %s.NewSender[%s](ctx, c.client.For(options), %s, %s)", web, g.name(&c.Request.Decl), call, sent(c))
		})
	case c.RequestStream:
		q, a := g.name(&c.Request.Decl), g.name(&c.Response.Decl)
		method(fmt.Sprintf("*%s.AnsweredSender[%s, %s]", web, q, a), func() {
			g.P("return %s.NewAnsweredSender[%s, %s](ctx, c.client.For(options), %s, %s)", web, q, a, call, sent(c))
		})
	case c.ResponseStream:
		method(fmt.Sprintf("%s.Seq2[*%s, error]", g.std("iter"), g.name(&c.Response.Decl)), func() {
			g.P("return %s.Stream[%s](ctx, c.client.For(options), %s, %s)", web, g.name(&c.Response.Decl), call, sent(c))
		})
	case c.Response == nil:
		method("error", func() { g.P("return c.client.For(options).Do(ctx, %s, %s, nil)", call, sent(c)) })
	default:
		answer := g.name(&c.Response.Decl)
		method(fmt.Sprintf("(*%s, error)", answer), func() {
			g.P("answer := new(%s)", answer)
			g.In(fmt.Sprintf("if err := c.client.For(options).Do(ctx, %s, %s, answer); err != nil {", call, sent(c)),
				func() { g.P("return nil, err") }, "}")
			g.P("return answer, nil")
		})
	}
}

func (g *generator) servers() {
	for _, s := range g.module.Services {
		g.server(s)
		if g.exhaustive {
			g.everyCall(s)
		}
	}
}

// handlerType is the type of the function that serves a call.
func (g *generator) handlerType(c *schema.Call) string {
	parameters, results := []string{"ctx context.Context"}, "error"
	if c.Head != nil {
		parameters = append(parameters, "head *"+g.name(&c.Head.Decl))
	}
	switch {
	case c.RequestStream:
		parameters = append(parameters, fmt.Sprintf("elements %s.Seq2[*%s, error]", g.std("iter"), g.name(&c.Request.Decl)))
	case c.Request != nil:
		parameters = append(parameters, "request *"+g.name(&c.Request.Decl))
	}
	switch {
	case c.ResponseStream:
		parameters = append(parameters, fmt.Sprintf("send func(*%s) error", g.name(&c.Response.Decl)))
	case c.Response != nil:
		results = fmt.Sprintf("(*%s, error)", g.name(&c.Response.Decl))
	}
	return fmt.Sprintf("(%s) %s", strings.Join(parameters, ", "), results)
}

func (g *generator) server(s *schema.Service) {
	web := g.web()
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
			comment(g.Code, docOf(c.Doc, c.Deprecated))
			g.P("%s func%s", CallName(c), g.handlerType(c))
		}
	}, "}")
	g.P("")
	g.P("// Serve%s returns an http.Handler of the service.", s.Name)
	g.In(fmt.Sprintf("func Serve%s(calls %s, options ...%s.ServerOption) *%s.Served {", s.Name, calls, web, web), func() {
		g.In(fmt.Sprintf("return %s.NewServed(&%s.Definitions, []%s.Route{", web, g.use("faithful/about", "about"), web),
			func() {
				for _, c := range s.Calls {
					g.route(c)
				}
			}, "}, options...)")
	}, "}")
}

// everyCall writes an interface of every call, so that it stops compiling where
// a call is added.
func (g *generator) everyCall(s *schema.Service) {
	web := g.web()
	every := s.Name + "EveryCall"
	g.P("")
	g.P("// %s is every call of %s. It is outside of the promise that code goes", every, s.FullName())
	g.P("// on compiling when calls are added.")
	g.In(fmt.Sprintf("type %s interface {", every), func() {
		for _, c := range s.Calls {
			g.P("%s%s", CallName(c), g.handlerType(c))
		}
	}, "}")
	g.P("")
	g.P("// Serve%s is Serve%s for an implementation of every call.", every, s.Name)
	g.In(fmt.Sprintf("func Serve%s(every %s, options ...%s.ServerOption) *%s.Served {", every, every, web, web), func() {
		g.In(fmt.Sprintf("return Serve%s(%sCalls{", s.Name, s.Name), func() {
			for _, c := range s.Calls {
				g.P("%s: every.%s,", CallName(c), CallName(c))
			}
		}, "}, options...)")
	}, "}")
}

func (g *generator) route(c *schema.Call) {
	web := g.web()
	g.In("{", func() {
		g.P("Call: &%s,", callVariable(c))
		g.P("Implemented: calls.%s != nil,", CallName(c))
		if c.Request != nil {
			g.P("NewRequest: func() %s.Message { return new(%s) },", web, g.name(&c.Request.Decl))
		}
		if c.Head != nil {
			g.P("NewHead: func() %s.Message { return new(%s) },", web, g.name(&c.Head.Decl))
		}
		if c.Response != nil && !c.ResponseStream {
			g.P("Answers: true,")
		}
		typed := func(m *schema.Message) string {
			return fmt.Sprintf("%s.Typed[%s](elements)", web, g.name(&m.Decl))
		}
		call := "calls." + CallName(c)
		request, argument := "_", "ctx"
		if m := c.Placed(); m != nil {
			request = sent(c)
			argument = fmt.Sprintf("ctx, %s.(*%s)", request, g.name(&m.Decl))
		}
		send := ""
		if c.ResponseStream {
			send = fmt.Sprintf("func(m *%s) error { return send(m) }", g.name(&c.Response.Decl))
		}
		switch {
		case conversation.BothWays(c):
			g.P("Upgrade: %s.Converse,", web)
			g.In(fmt.Sprintf("Converse: func(ctx context.Context, %s %s.Message, elements %s.Elements, send %s.Send) error {",
				request, web, web, web), func() {
				g.P("return %s(%s, %s, %s)", call, argument, typed(c.Request), send)
			}, "},")
		case c.RequestStream:
			g.In(fmt.Sprintf("Receive: func(ctx context.Context, %s %s.Message, elements %s.Elements) (%s.Message, error) {",
				request, web, web, web), func() {
				g.answer(c, fmt.Sprintf("%s(%s, %s)", call, argument, typed(c.Request)))
			}, "},")
		case c.ResponseStream:
			g.In(fmt.Sprintf("Send: func(ctx context.Context, %s %s.Message, send %s.Send) error {", request, web, web),
				func() {
					g.P("return %s(%s, %s)", call, argument, send)
				}, "},")
		default:
			g.In(fmt.Sprintf("Serve: func(ctx context.Context, %s %s.Message) (%s.Message, error) {", request, web, web),
				func() {
					g.answer(c, fmt.Sprintf("%s(%s)", call, argument))
				}, "},")
		}
	}, "},")
}

// answer returns what a handler returned; a nil pointer is not a message.
func (g *generator) answer(c *schema.Call, call string) {
	if c.Response == nil {
		g.P("return nil, %s", call)
		return
	}
	g.P("answer, err := %s", call)
	g.In("if answer == nil {", func() { g.P("return nil, err") }, "}")
	g.P("return answer, err")
}
