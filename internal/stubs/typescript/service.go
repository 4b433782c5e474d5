package typescript

import (
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// side is the type of a message of a call, void for "()".
func (g *generator) side(m *schema.Message, suffix string) string {
	if m == nil {
		return "void"
	}
	return g.from(&m.Decl) + m.Name + suffix
}

func (g *generator) sideCodec(m *schema.Message) string {
	if m == nil {
		return "undefined"
	}
	return g.codec(&m.Decl)
}

// calls writes what both sides know of a module's calls.
func (g *generator) calls() {
	g.credentials()
	for _, s := range g.module.Services {
		for _, c := range s.Calls {
			for _, t := range travelsOf(c) {
				g.body(c, t)
			}
			g.P("")
			g.In(fmt.Sprintf("export const %s: %s.Call<%s, %s> = {", callVariable(c), g.web(), g.side(c.Request, ""),
				g.side(c.Response, "")), func() { g.callTable(c) }, "};")
		}
	}
}

func callVariable(c *schema.Call) string {
	return unexported(c.Service.Name) + upperFirst(CallName(c))
}

func credentialVariable(c *schema.Credential) string {
	return Camel(strings.ReplaceAll(c.Module.Name, ".", "_")+"_"+c.Name) + "Credential"
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
					kind := credential.Kind
					if kind == "key" {
						kind = credential.Carrier
					}
					g.P("")
					made := object("name: "+text(credential.FullName()), "kind: "+text(kind), "key: "+text(credential.Key))
					g.P("const %s: %s.Credential = %s;", credentialVariable(credential), g.web(), made)
				}
			}
		}
	}
}

func (g *generator) callTable(c *schema.Call) {
	g.P("name: %s,", text(c.FullName()))
	g.P("method: %s,", text(conversation.Method(c)))
	g.P("path: %s,", text(conversation.Path(c)))
	if c.HTTP != nil && c.HTTP.Status != 0 {
		g.P("status: %d,", c.HTTP.Status)
	}
	g.P("safe: %t,", c.Safe)
	g.P("idempotent: %t,", c.Idempotent)
	g.P("requestStream: %t,", c.RequestStream)
	g.P("answerStream: %t,", c.ResponseStream)
	if conversation.Compressible(c) {
		g.P("compressible: true,")
	}
	g.P("request: %s,", g.sideCodec(c.Request))
	g.P("answer: %s,", g.sideCodec(c.Response))
	for _, t := range travelsOf(c) {
		if t.member == "head" {
			g.In("head: {", func() {
				g.P("codec: %s,", g.sideCodec(c.Head))
				g.In("travel: {", func() { g.travel(t) }, fmt.Sprintf("} satisfies %s.Travel<%s>,", g.web(), g.side(c.Head, "")))
			}, "},")
			continue
		}
		g.In(t.member+": {", func() { g.travel(t) }, "},")
	}
	var needs []string
	for _, all := range c.Needs {
		var names []string
		for _, credential := range all {
			names = append(names, credentialVariable(credential))
		}
		needs = append(needs, stubs.Rows("[", names, "]"))
	}
	g.P("needs: %s,", stubs.Rows("[", needs, "]"))
	if len(c.Fails) == 0 {
		g.P("fails: [],")
		return
	}
	g.In("fails: [", func() {
		for _, e := range c.Fails {
			status := "status: " + strconv.Itoa(e.Status)
			g.P("%s,", object("name: "+text(e.FullName()), status, "codec: "+g.sideCodec(e)))
		}
	}, "],")
}

// travel is a side of a call whose message is not all in the body.
type travel struct {
	member string // of a call
	whole  *schema.Message
	placed []conversation.Placed
	rest   *schema.Message // what is left for the body, or nil
}

// travelsOf lists the sides of a call whose messages are not all in the body.
func travelsOf(c *schema.Call) (list []travel) {
	name := upperFirst(callVariable(c))
	if c.Head != nil {
		list = append(list, travel{"head", c.Head, conversation.Outside(c), nil})
	} else if placed := conversation.Outside(c); len(placed) > 0 || conversation.Bodiless(c) {
		list = append(list, travel{"travel", c.Request, placed, conversation.Body(c, name+"Body")})
	}
	if placed := conversation.AnswerOutside(c); len(placed) > 0 || conversation.AnswerRaw(c) != nil {
		list = append(list, travel{"answerTravel", c.Response, placed, conversation.AnswerBody(c, name+"BodyOfAnswer")})
	}
	return list
}

// body writes what of a message travels in the body, where that is not all.
func (g *generator) body(c *schema.Call, t travel) {
	if t.rest == nil {
		return
	}
	t.rest.Doc = fmt.Sprintf("What of %s travels in the body of %s.", t.whole.Name, c.Name)
	g.local = append(g.local, &t.rest.Decl)
	g.message(t.rest)
}

// travel writes how the fields of a message travel.
func (g *generator) travel(t travel) {
	if len(t.placed) == 0 {
		g.P("placed: [],")
	} else {
		g.In("placed: [", func() {
			for _, p := range t.placed {
				number, name := "number: "+strconv.Itoa(p.Field.Number), "name: "+text(p.Field.JSONName())
				g.P("%s,", object(number, name, "in: "+text(string(p.Place)), "parameter: "+text(p.Name)))
			}
		}, "],")
	}
	if t.rest == nil {
		g.P("body: undefined,")
		g.method("bodyOf()", func() { g.P("return undefined;") })
	} else {
		g.P("body: %s,", codecName(&t.rest.Decl))
		g.method("bodyOf(m)", func() {
			var fields []string
			for _, f := range t.rest.Fields {
				fields = append(fields, fmt.Sprintf("%s: m.%s", FieldName(f), FieldName(f)))
			}
			fields = append(fields, fmt.Sprintf("[%s.unlisted]: m[%s.unlisted]", g.wire(), g.wire()))
			g.P("return %s satisfies %s;", object(fields...), t.rest.Name)
		})
	}
	raw := t.whole.Raw()
	if len(t.placed) == 0 {
		g.method("place()", func() { g.P("// There is nothing.") })
	} else {
		g.method("place(m, p)", func() {
			for _, p := range t.placed {
				g.place(p)
			}
		})
	}
	if raw != nil {
		g.In("raw: {", func() {
			g.P("field: %s,", text(raw.JSONName()))
			g.P("bounds: %s,", rawBounds(raw))
			g.method("of(m)", func() { g.P("return m.%s;", FieldName(raw)) })
		}, "},")
	}
	signature := "take(a)"
	switch {
	case len(t.placed) == 0 && raw == nil:
		g.method("take()", func() { g.P("return %s.make({});", g.codec(&t.whole.Decl)) })
		return
	case t.rest != nil:
		signature = "take(a, given)"
	case raw != nil && len(t.placed) == 0:
		signature = "take(_, __, raw)"
	case raw != nil:
		signature = "take(a, _, raw)"
	}
	g.method(signature, func() {
		if t.rest != nil {
			g.P("const body = given as %s;", t.rest.Name)
			g.P("a.rest(body[%s.unlisted]);", g.wire())
		}
		g.In(fmt.Sprintf("return %s.make({", g.codec(&t.whole.Decl)), func() {
			for i, p := range t.placed {
				g.take(i, p)
			}
			if raw != nil {
				g.P("%s: raw as %s.Body,", FieldName(raw), g.wire())
			}
			if t.rest != nil {
				for _, f := range t.rest.Fields {
					g.P("%s: body.%s,", FieldName(f), FieldName(f))
				}
				g.P("[%s.unlisted]: body[%s.unlisted],", g.wire(), g.wire())
			}
		}, "});")
	})
}

// place writes a field outside of the body.
func (g *generator) place(p conversation.Placed) {
	f := p.Field
	put := func(t *schema.Type, value string) {
		plain := value
		switch {
		case t.Kind == schema.KindText:
		case t.Kind == schema.KindEnum:
			plain = fmt.Sprintf("%s.plain((w) => { %s.writeJson(w, %s); })", g.web(), g.codecOf(t), value)
		default:
			plain = fmt.Sprintf("%s.plain((w) => { %s; })", g.web(), g.writeScalar(t.Kind, value, "Json"))
		}
		g.P("%s;", call("p."+string(p.Place), text(p.Name), plain))
	}
	value := "m." + FieldName(f)
	switch {
	case f.Type.Kind == schema.KindList:
		g.In(fmt.Sprintf("for (const item of %s) {", value), func() { put(f.Type.Elem, "item") }, "}")
	case f.Presence == schema.Optional:
		// A constant, so that its type holds inside of functions, too.
		g.P("const { %s } = m;", FieldName(f))
		g.In(fmt.Sprintf("if (%s !== undefined) {", FieldName(f)), func() { put(f.Type, FieldName(f)) }, "}")
	default:
		put(f.Type, value)
	}
}

// take reads a field from outside of the body.
func (g *generator) take(i int, p conversation.Placed) {
	f := p.Field
	verb, t := map[schema.Presence]string{schema.Required: "required", schema.Optional: "optional",
		schema.Defaulted: "optional"}[f.Presence], f.Type
	if f.Type.Kind == schema.KindList {
		verb, t = "list", f.Type.Elem
	}
	taken := call("a."+verb, strconv.Itoa(i), text(string(conversation.ShapeOf(t))), "(r) => "+g.readExpression(t, "Json"))
	g.P("%s: %s,", FieldName(f), taken)
}

func upperFirst(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func (g *generator) call(c *schema.Call) string {
	return g.use("calls", Folder(g.module)+"/calls.js") + "." + callVariable(c)
}

func callDoc(c *schema.Call) string {
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

// clients writes each client as an interface, so that anything with its calls can take its place, and
// what it is made by.
func (g *generator) clients() {
	client, connect := g.use("client", "faithful/client.js"), g.use("connect", "faithful/connect.js")
	for _, s := range g.module.Services {
		g.P("")
		doc := fmt.Sprintf("Calls the service %s.", s.FullName())
		if s.Doc != "" {
			doc += "\n\n" + s.Doc
		}
		g.doc(docOf(doc, s.Deprecated))
		g.In(fmt.Sprintf("export interface %sClient {", s.Name), func() {
			for _, c := range s.Calls {
				g.doc(callDoc(c))
				name := CallName(c)
				if name == "new" {
					name = `"new"` // else it would be what the interface is made by
				}
				g.P("%s;", g.clientSignature(c, name, ""))
			}
		}, "}")
		g.P("")
		g.In(fmt.Sprintf("class %sCaller implements %sClient {", s.Name, s.Name), func() {
			g.P("readonly #client: %s.Client;", client)
			g.P("")
			g.In(fmt.Sprintf("constructor(base: string, options?: %s.Options) {", connect), func() {
				g.P("this.#client = %s.connect(base, options);", connect)
			}, "}")
			for _, c := range s.Calls {
				g.P("")
				functions := g.use("functions", Folder(g.module)+"/functions.js")
				g.In(g.clientSignature(c, CallName(c), "")+" {", func() {
					arguments := append([]string{"this.#client"}, argumentsOf(c)...)
					g.P("return %s;", call(functions+"."+callVariable(c), arguments...))
				}, "}")
			}
		}, "}")
		g.P("")
		g.doc("Makes clients. base is where the server is, such as \"http://127.0.0.1:8080\".")
		g.P("export const %sClient: new (base: string, options?: %s.Options) => %sClient = %sCaller;", s.Name, connect,
			s.Name, s.Name)
	}
}

// functions writes each call as a function, of which bundlers leave out what nobody calls.
func (g *generator) functions() {
	for _, s := range g.module.Services {
		for _, c := range s.Calls {
			g.P("")
			g.doc(callDoc(c))
			to := "to: " + g.use("client", "faithful/client.js") + ".Client"
			g.In("export function "+g.clientSignature(c, callVariable(c), to)+" {", func() { g.clientCall(c) }, "}")
		}
	}
}

// argumentsOf are the arguments of a call of a client.
func argumentsOf(c *schema.Call) (list []string) {
	if c.Head != nil {
		list = append(list, "head")
	}
	switch {
	case c.RequestStream:
		list = append(list, "elements")
	case c.Request != nil:
		list = append(list, "request")
	}
	return append(list, "options")
}

// clientSignature is the signature of a call of a client; first is what comes before its own arguments.
func (g *generator) clientSignature(c *schema.Call, name, first string) string {
	var parameters []string
	if first != "" {
		parameters = append(parameters, first)
	}
	if c.Head != nil {
		parameters = append(parameters, "head: "+g.side(c.Head, "Init"))
	}
	if c.Request != nil {
		element := g.side(c.Request, "Init")
		given := "request: " + element
		if c.RequestStream {
			given = fmt.Sprintf("elements: %s<%s> | %s<%s>", g.global("AsyncIterable"), element, g.global("Iterable"),
				element)
		}
		parameters = append(parameters, given)
	}
	result := fmt.Sprintf("%s<%s>", g.global("Promise"), g.side(c.Response, ""))
	if c.ResponseStream {
		result = fmt.Sprintf("%s<%s, void, undefined>", g.global("AsyncGenerator"), g.side(c.Response, ""))
	}
	parameters = append(parameters, "options?: "+g.use("connect", "faithful/connect.js")+".CallOptions")
	return call(name, parameters...) + ": " + result
}

// clientCall writes what sends a call, by what carries calls of its kind.
func (g *generator) clientCall(c *schema.Call) {
	made := func(m *schema.Message, value string) string {
		return fmt.Sprintf("%s.make(%s)", g.codec(&m.Decl), value)
	}
	streams := func() string { return g.use("streams", "faithful/client_streams.js") }
	message := "undefined"
	switch {
	case c.RequestStream:
		message = call(streams()+".mapped", "elements", "(element) => "+made(c.Request, "element"))
	case c.Request != nil:
		message = made(c.Request, "request")
	}
	var verb string
	switch {
	case conversation.BothWays(c):
		verb = g.use("sockets", "faithful/client_sockets.js") + ".converse"
	case c.RequestStream:
		verb = streams() + ".send"
	case c.ResponseStream:
		verb = streams() + ".receive"
	case conversation.Raw(c) != nil || conversation.AnswerRaw(c) != nil:
		verb = g.use("bodies", "faithful/client_bodies.js") + ".exchange"
	}
	arguments := []string{g.call(c), message, "options"}
	if c.Head != nil {
		arguments = append(arguments, made(c.Head, "head"))
	}
	if verb == "" {
		g.P("return %s;", call("to.do", arguments...))
		return
	}
	g.P("return %s;", call(verb, append([]string{"to"}, arguments...)...))
}

func (g *generator) servers() {
	server := g.use("server", "faithful/server.js")
	about := g.use("about", "faithful/about.js")
	for _, s := range g.module.Services {
		g.P("")
		g.doc(fmt.Sprintf("What a server of %s does, call by call. One that is left out\nanswers 501, so a server goes "+
			"on compiling when calls are added.", s.FullName()))
		g.In(fmt.Sprintf("export interface %sCalls {", s.Name), func() {
			for _, c := range s.Calls {
				g.doc(callDoc(c))
				g.handlerType(c, server)
			}
		}, "}")
		if g.exhaustive {
			g.P("")
			g.doc(fmt.Sprintf("Every call of %s. It is outside of the promise that code goes on compiling when calls "+
				"are added.", s.FullName()))
			g.P("export type %sEveryCall = %s<%sCalls>;", s.Name, g.global("Required"), s.Name)
		}
		g.P("")
		g.doc("Returns what answers requests: give it to nodeListener, or call it with one.")
		parameters := []string{"implementation: " + s.Name + "Calls", "options: " + server + ".ServerOptions = {}"}
		g.function("export serve"+s.Name, parameters, server+".Served", func() {
			var routes []string
			for _, c := range s.Calls {
				routes = append(routes, g.route(c, server))
			}
			g.In(fmt.Sprintf("return %s.mount(%s.definitions, [", server, about), func() {
				for _, r := range routes {
					g.P("%s,", r)
				}
			}, "], options);")
		})
	}
}

func (g *generator) handlerType(c *schema.Call, server string) {
	parameters := []string{"context: " + server + ".Context"}
	switch {
	case c.RequestStream:
		elements := fmt.Sprintf("elements: %s<%s>", g.global("AsyncIterable"), g.side(c.Request, ""))
		parameters = append([]string{elements}, parameters...)
		if c.Head != nil {
			parameters = append([]string{"head: " + g.side(c.Head, "")}, parameters...)
		}
	case c.Request != nil:
		parameters = append([]string{"request: " + g.side(c.Request, "")}, parameters...)
	}
	result := g.side(c.Response, "Init")
	if c.ResponseStream {
		g.P("%s: %s<%s>;", call(CallName(c)+"?", parameters...), g.global("AsyncIterable"), result)
		return
	}
	g.P("%s: %s<%s> | %s;", call(CallName(c)+"?", parameters...), g.global("Promise"), result, result)
}

// route pairs a call with its handler. What a handler returns may leave out
// what has a default, so it is made whole before it is written.
func (g *generator) route(c *schema.Call, server string) string {
	handler := fmt.Sprintf("implementation.%s?.bind(implementation)", CallName(c))
	if c.Request == nil {
		handler = fmt.Sprintf("%s.withoutRequest(%s)", server, handler)
	}
	if c.Head != nil {
		handler = fmt.Sprintf("%s.withHead(%s)", server, handler)
	}
	finish := "() => undefined"
	if c.Response != nil {
		finish = fmt.Sprintf("(answer: %s) => %s.make(answer)", g.side(c.Response, "Init"), g.codec(&c.Response.Decl))
	}
	return call(server+".route", g.call(c), handler, finish)
}
