package python

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

func callVariable(c *schema.Call) string {
	return strings.ToUpper(snake(c.Service.Name) + "_" + c.Name)
}

func credentialVariable(c *schema.Credential) string {
	return "_" + strings.ToUpper(strings.ReplaceAll(c.Module.Name, ".", "_")+"_"+c.Name)
}

// calls writes what both sides know of a module's calls.
func (g *generator) calls() {
	g.credentials()
	for _, s := range g.module.Services {
		for _, c := range s.Calls {
			g.call(c)
		}
	}
}

// credentials writes the credentials that calls of the module need.
func (g *generator) credentials() {
	var seen []*schema.Credential
	for _, s := range g.module.Services {
		for _, c := range s.Calls {
			for _, all := range c.Needs {
				for _, credential := range all {
					if slices.Contains(seen, credential) {
						continue
					}
					if seen = append(seen, credential); len(seen) == 1 {
						g.P("")
					}
					kind, key := credential.Kind, []string(nil)
					if kind == "key" {
						kind, key = credential.Carrier, []string{quote(credential.Key)}
					}
					made := stubs.Call(g.faithful("web")+".Credential",
						append([]string{quote(credential.FullName()), quote(kind)}, key...)...)
					g.P("%s = %s", credentialVariable(credential), made)
				}
			}
		}
	}
}

func (g *generator) side(m *schema.Message) string {
	if m == nil {
		return "None"
	}
	return g.name(&m.Decl)
}

func (g *generator) call(c *schema.Call) {
	web := g.faithful("web")
	for _, t := range travelsOf(c) {
		if t.rest != nil {
			t.rest.Doc = fmt.Sprintf("What of %s travels in the body of %s.", t.whole.Name, c.Name)
			g.local = append(g.local, &t.rest.Decl)
			g.shown = t.whole.Name
			g.message(t.rest)
			g.shown = ""
		}
		g.travel(t)
	}
	g.P("")
	g.P("%s: %s.Call[%s, %s] = %s.Call(", callVariable(c), web, g.side(c.Request), g.side(c.Response), web)
	g.Deeper(1, func() {
		g.P("name=%s,", quote(c.FullName()))
		g.P("method=%s,", quote(conversation.Method(c)))
		g.P("path=%s,", quote(conversation.Path(c)))
		if c.Request != nil {
			g.P("request=%s,", g.side(c.Request))
		}
		if c.Response != nil {
			g.P("answer=%s,", g.side(c.Response))
		}
		if c.HTTP != nil && c.HTTP.Status != 0 {
			g.P("status=%d,", c.HTTP.Status)
		}
		for _, flag := range []struct {
			name string
			is   bool
		}{{"safe", c.Safe}, {"idempotent", c.Idempotent}, {"request_stream", c.RequestStream},
			{"answer_stream", c.ResponseStream}, {"compressible", conversation.Compressible(c)}} {
			if flag.is {
				g.P("%s=True,", flag.name)
			}
		}
		for _, t := range travelsOf(c) {
			g.P("%s=%s,", t.member, t.table())
		}
		if len(c.Needs) > 0 {
			var needs []string
			for _, all := range c.Needs {
				var names []string
				for _, credential := range all {
					names = append(names, credentialVariable(credential))
				}
				needs = append(needs, stubs.Rows("[", names, "]"))
			}
			g.P("needs=%s,", stubs.Rows("[", needs, "]"))
		}
		if len(c.Fails) > 0 {
			var names []string
			for _, e := range c.Fails {
				names = append(names, g.name(&e.Decl))
			}
			g.P("fails=%s,", stubs.Rows("[", names, "]"))
		}
	})
	g.P(")")
}

// syntaxPascal joins words as class names do.
func syntaxPascal(s string) string {
	var b strings.Builder
	for word := range strings.SplitSeq(s, "_") {
		b.WriteString(strings.ToUpper(word[:1]) + word[1:])
	}
	return b.String()
}

// travel is a side of a call whose message is not all in the body.
type travel struct {
	member string // of a call
	name   string // what the names of its functions begin with
	whole  *schema.Message
	placed []conversation.Placed
	rest   *schema.Message // what is left for the body, or nil
}

// travelsOf lists the sides of a call whose messages are not all in the body.
func travelsOf(c *schema.Call) (list []travel) {
	class := strings.ReplaceAll(syntaxPascal(c.Service.Name+"_"+c.Name), "_", "")
	name := "_" + strings.ToLower(callVariable(c))
	if c.Head != nil {
		list = append(list, travel{"head", name, c.Head, conversation.Outside(c), nil})
	} else if placed := conversation.Outside(c); len(placed) > 0 || conversation.Bodiless(c) {
		list = append(list, travel{"travel", name, c.Request, placed, conversation.Body(c, class+"Body")})
	}
	if placed := conversation.AnswerOutside(c); len(placed) > 0 || conversation.AnswerRaw(c) != nil {
		// No name of a declaration has two underscores.
		list = append(list, travel{"answer_travel", name + "__answer", c.Response, placed,
			conversation.AnswerBody(c, class+"BodyOfAnswer")})
	}
	return list
}

func (t travel) table() string { return strings.ToUpper(t.name) + "_TRAVEL" }

// travel writes how the fields of a message travel.
func (g *generator) travel(t travel) {
	web, whole := g.faithful("web"), g.side(t.whole)
	body := "None"
	if t.rest != nil {
		body = t.rest.Name
		g.top()
		g.function(t.name+"_body", []string{"m: " + whole}, t.rest.Name, func() {
			var fields []string
			for _, f := range t.rest.Fields {
				fields = append(fields, fmt.Sprintf("%s=m.%s", FieldName(f), FieldName(f)))
			}
			g.P("return %s", stubs.Call(t.rest.Name, append(fields, "_unlisted=m._unlisted")...))
		})
	}
	if len(t.placed) > 0 {
		g.top()
		g.function(t.name+"_place", []string{"m: " + whole, "p: " + web + ".Parameters"}, "None", func() {
			for _, p := range t.placed {
				g.place(p)
			}
		})
	}
	raw := t.whole.Raw()
	if len(t.placed) > 0 || raw != nil {
		g.taking(t)
	}
	g.top()
	g.P("%s: %s.Travel[%s] = %s.Travel(", t.table(), web, whole, web)
	g.Deeper(1, func() {
		if len(t.placed) == 0 {
			g.P("placed=[],")
		} else {
			g.In("placed=[", func() {
				for _, p := range t.placed {
					f := p.Field
					g.P("%s,", stubs.Call(web+".Placed", strconv.Itoa(f.Number), quote(f.JSONName()), quote(string(p.Place)),
						quote(p.Name)))
				}
			}, "],")
		}
		g.P("body=%s,", body)
		if t.rest != nil {
			g.P("body_of=%s_body,", t.name)
		} else {
			g.P("body_of=lambda m: None,")
		}
		if len(t.placed) == 0 {
			g.P("place=lambda m, p: None,")
		} else {
			g.P("place=%s_place,", t.name)
		}
		if len(t.placed) == 0 && raw == nil {
			g.P("take=lambda a, body: %s(),", whole)
		} else {
			g.P("take=%s_take,", t.name)
		}
		if raw != nil {
			of := fmt.Sprintf("lambda m: m.%s", FieldName(raw))
			g.P("raw=%s,", stubs.Call(web+".Raw", quote(raw.JSONName()), g.rawBounds(raw), of))
		}
	})
	g.P(")")
}

// taking writes the function that finds fields outside of the body.
func (g *generator) taking(t travel) {
	web, whole := g.faithful("web"), g.side(t.whole)
	g.top()
	given, raw := "_: None", t.whole.Raw()
	switch {
	case t.rest != nil:
		given = "body: " + t.rest.Name
	case raw != nil:
		given = "raw: " + g.wire() + ".Body"
	}
	g.function(t.name+"_take", []string{"a: " + web + ".Arguments", given}, whole, func() {
		var fields []string
		if t.rest != nil {
			g.P("a.rest(body._unlisted)")
		}
		for i, p := range t.placed {
			fields = append(fields, FieldName(p.Field)+"="+g.take(i, p))
		}
		if raw != nil {
			fields = append(fields, FieldName(raw)+"=raw")
		}
		if t.rest != nil {
			for _, f := range t.rest.Fields {
				fields = append(fields, fmt.Sprintf("%s=body.%s", FieldName(f), FieldName(f)))
			}
			fields = append(fields, "_unlisted=body._unlisted")
		}
		g.P("return %s(", whole)
		for _, f := range fields {
			g.P("    %s,", f)
		}
		g.P(")")
	})
}

// place writes a field outside of the body.
func (g *generator) place(p conversation.Placed) {
	f := p.Field
	put := func(t *schema.Type, value string) {
		plain := value
		if t.Kind != schema.KindText {
			text := strings.ReplaceAll(g.jsonPlain(t, value, "0", 0), ", mode)", ")")
			plain = stubs.Call(g.faithful("web")+".plain", text)
		}
		g.P("%s", stubs.Call("p."+string(p.Place), quote(p.Name), plain))
	}
	value := "m." + FieldName(f)
	switch {
	case f.Type.Kind == schema.KindList:
		item := g.fresh("item")
		g.block(fmt.Sprintf("for %s in %s:", item, value), func() { put(f.Type.Elem, item) })
	case f.Presence == schema.Optional:
		g.block(fmt.Sprintf("if %s is not None:", value), func() { put(f.Type, value) })
	default:
		put(f.Type, value)
	}
}

// take reads a field from outside of the body.
func (g *generator) take(i int, p conversation.Placed) string {
	f, t := p.Field, p.Field.Type
	if t.Kind == schema.KindList {
		t = t.Elem
	}
	arguments := []string{strconv.Itoa(i), quote(string(conversation.ShapeOf(t))),
		"lambda r: " + g.readExpression(t, jsonEncoding)}
	switch {
	case f.Type.Kind == schema.KindList:
		return stubs.Call("a.list", arguments...)
	case f.Presence == schema.Required:
		return stubs.Call("a.required", arguments...)
	case f.Presence == schema.Optional:
		return stubs.Call("a.optional", arguments...)
	}
	return stubs.Call("a.defaulted", append(arguments, g.literalOf(f.Type, f.Default))...)
}

func callDoc(c *schema.Call) string {
	doc := c.Doc
	if doc == "" {
		doc = "Calls " + c.FullName() + "."
	}
	if len(c.Fails) > 0 {
		var names []string
		for _, e := range c.Fails {
			names = append(names, e.Name)
		}
		doc += "\n\nIts errors are " + strings.Join(names, ", ") + "."
	}
	return docOf(doc, c.Deprecated)
}

// flavour is what differs between the two kinds of clients.
type flavour struct {
	prefix         string // of the class
	support        string // the module that it is made over
	sockets        string // and the one for calls that stream both ways
	client, stream string // classes of support
	options        string
	close          string
	async, await   string
}

var (
	plain = flavour{support: "client", sockets: "sockets", client: "Client", stream: "Stream",
		options: "ClientOptions", close: "close"}
	asyncio = flavour{prefix: "Async", support: "aio", sockets: "aiosockets", client: "AsyncClient",
		stream: "AsyncStream", options: "AsyncClientOptions", close: "aclose", async: "async ", await: "await "}
)

func (g *generator) clients()      { g.clientsAs(plain) }
func (g *generator) asyncClients() { g.clientsAs(asyncio) }

func (g *generator) clientsAs(as flavour) {
	client := g.faithful(as.support)
	g.use("from . import calls as _calls")
	g.use("from " + g.up() + "faithful.about import DEFINITIONS as _DEFINITIONS")
	for _, s := range g.module.Services {
		g.export(as.prefix + s.Name + "Client")
		g.top()
		g.block(fmt.Sprintf("class %s%sClient:", as.prefix, s.Name), func() {
			doc := fmt.Sprintf("Calls the service %s.", s.FullName())
			if s.Doc != "" {
				doc += "\n\n" + s.Doc
			}
			g.doc(docOf(doc, s.Deprecated))
			g.P("")
			options := fmt.Sprintf("options: %s.%s | None = None", client, as.options)
			g.def("", "__init__", []string{"self", "base: str", options}, "None", func() {
				g.P("\"\"\"base is where the server is, such as \"http://127.0.0.1:8080\".\"\"\"")
				g.P("self._client = %s.%s(base, _DEFINITIONS, options or {})", client, as.client)
			})
			g.P("")
			g.block(fmt.Sprintf("%sdef %s(self) -> None:", as.async, as.close), func() {
				g.P("\"\"\"Closes all connections.\"\"\"")
				g.P("%sself._client.%s()", as.await, as.close)
			})
			enter, exit := "__enter__", "__exit__"
			if as.async != "" {
				enter, exit = "__aenter__", "__aexit__"
			}
			g.P("")
			g.def(as.async, enter, []string{"self"}, as.prefix+s.Name+"Client", func() { g.P("return self") })
			g.P("")
			g.def(as.async, exit, []string{"self", "*_: object"}, "None", func() { g.P("%sself.%s()", as.await, as.close) })
			for _, c := range s.Calls {
				g.P("")
				g.clientCall(c, as)
			}
		})
	}
}

func (g *generator) clientCall(c *schema.Call, as flavour) {
	client := g.faithful(as.support)
	parameters, argument := []string{"self"}, "None"
	if c.Head != nil {
		parameters = append(parameters, "head: "+g.side(c.Head))
	}
	switch {
	case c.RequestStream && as.async != "":
		parameters = append(parameters, "elements: "+client+".Messages["+g.side(c.Request)+"]")
		argument = "elements"
	case c.RequestStream:
		g.use("from collections.abc import Iterable as _Iterable")
		parameters = append(parameters, "elements: _Iterable["+g.side(c.Request)+"]")
		argument = "elements"
	case c.Request != nil:
		parameters = append(parameters, "request: "+g.side(c.Request))
		argument = "request"
	}
	parameters = append(parameters, "*", "timeout: float | None = None")
	async, verb, tail, result := as.async, as.await+"self._client.given(options).do", []string{"timeout"},
		g.side(c.Response)
	switch {
	case conversation.BothWays(c):
		async, verb = "", g.faithful(as.sockets)+".converse"
	case c.RequestStream:
		verb = as.await + "self._client.given(options).send"
	case c.ResponseStream:
		async, verb = "", "self._client.given(options).stream"
	}
	if as.async == "" { // tasks are cancelled, threads have to be told
		parameters = append(parameters, "cancellation: "+client+".Cancellation | None = None")
		tail = append(tail, "cancellation")
	}
	if c.Head != nil {
		tail = append(tail, "head")
	}
	parameters = append(parameters, "options: "+g.faithful("exchange")+".CallOptions | None = None")
	if c.ResponseStream {
		result = client + "." + as.stream + "[" + result + "]"
	}
	g.def(async, CallName(c), parameters, result, func() {
		g.doc(callDoc(c))
		if c.Deprecated != "" {
			g.use("import warnings as _warnings")
			reason := quote(c.FullName() + " is deprecated: " + c.Deprecated)
			g.P("%s", stubs.Call("_warnings.warn", reason, "DeprecationWarning", "stacklevel=2"))
		}
		arguments := append([]string{"_calls." + callVariable(c), argument}, tail...)
		if conversation.BothWays(c) {
			arguments = append([]string{"self._client.given(options)"}, arguments...)
		}
		call := stubs.Call(verb, arguments...)
		if c.Response == nil {
			g.P("%s", call)
		} else {
			g.P("return %s", call)
		}
	})
}

func (g *generator) servers() {
	server := g.faithful("server")
	g.use("from . import calls as _calls")
	g.use("from " + g.up() + "faithful.about import DEFINITIONS as _DEFINITIONS")
	for _, s := range g.module.Services {
		g.export(s.Name)
		g.export("serve_" + snake(s.Name))
		g.top()
		g.block(fmt.Sprintf("class %s:", s.Name), func() {
			g.doc(docOf(fmt.Sprintf("What a server of %s does, a method a call: derive from it.\n\nMethods may be "+
				"coroutines or not. One that is not written answers 501, so a\nserver goes on working when calls are added.",
				s.FullName()), s.Deprecated))
			for _, c := range s.Calls {
				g.P("")
				g.handler(c, server)
			}
		})
		if g.exhaustive {
			g.everyCall(s, server)
		}
		g.top()
		parameters := []string{"implementation: " + s.Name, "options: " + server + ".ServerOptions | None = None"}
		g.def("", "serve_"+snake(s.Name), parameters, server+".Served", func() {
			g.P("\"\"\"Returns an ASGI application.\"\"\"")
			g.In("routes = [", func() {
				for _, c := range s.Calls {
					g.P("%s,", stubs.Call(server+".route", "_calls."+callVariable(c), "implementation", s.Name, quote(CallName(c))))
				}
			}, "]")
			g.P("return %s.Served(_DEFINITIONS, routes, options or {})", server)
		})
	}
}

// everyCall writes a class whose calls are all abstract, so that it can't be
// made where a call is added.
func (g *generator) everyCall(s *schema.Service, server string) {
	g.use("from abc import ABC as _ABC")
	g.use("from abc import abstractmethod as _abstractmethod")
	g.export(s.Name + "EveryCall")
	g.top()
	g.block(fmt.Sprintf("class %sEveryCall(%s, _ABC):", s.Name, s.Name), func() {
		g.doc(fmt.Sprintf("Every call of %s. It is outside of the promise that code goes on working when calls are added.",
			s.FullName()))
		for _, c := range s.Calls {
			g.P("")
			g.P("@_abstractmethod")
			g.handler(c, server)
		}
	})
}

func (g *generator) handler(c *schema.Call, server string) {
	parameters := []string{"self"}
	if c.Head != nil {
		parameters = append(parameters, "head: "+g.side(c.Head))
	}
	switch {
	case c.RequestStream:
		parameters = append(parameters, fmt.Sprintf("elements: %s.Elements[%s]", server, g.side(c.Request)))
	case c.Request != nil:
		parameters = append(parameters, "request: "+g.side(c.Request))
	}
	parameters = append(parameters, "context: "+server+".Context")
	result := g.side(c.Response)
	if c.ResponseStream {
		result = server + ".Answers[" + result + "]"
	} else {
		g.use("from collections.abc import Awaitable as _Awaitable")
		result = "_Awaitable[" + result + "] | " + result
	}
	g.def("", CallName(c), parameters, result, func() {
		g.doc(callDoc(c))
		g.P("raise NotImplementedError")
	})
}
