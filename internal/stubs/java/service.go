package java

import (
	"fmt"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/syntax"
)

// servicesOf writes what both sides know of the calls of a module, its clients and its servers.
func (o *output) servicesOf(m *schema.Module) {
	for _, s := range m.Services {
		o.calls(s)
		if o.options.Client {
			o.client(s)
		}
		if o.options.Server {
			o.server(s)
			if o.options.Exhaustive {
				o.everyCall(s)
			}
		}
	}
}

// callConstant is what both sides know of a call.
func callConstant(c *schema.Call) string { return strings.ToUpper(c.Name) }

// calls writes a class with what both sides know of the calls of a service, and how their messages travel.
func (o *output) calls(s *schema.Service) {
	nested := []string{"Credentials"}
	for _, c := range s.Calls {
		for _, t := range travelsOf(c) {
			nested = append(nested, t.class)
		}
	}
	self := s.Name + "Calls"
	f := o.open(s.Module, self, nested...)
	outer := f.Code
	f.Code = stubs.NewCode("  ")
	f.In(fmt.Sprintf("final class %s {", self), func() {
		for _, c := range s.Calls {
			f.callConstant(c)
		}
		f.P("private %s() {}", self)
		f.credentials(s)
		for _, c := range s.Calls {
			for _, t := range travelsOf(c) {
				f.P("")
				f.travel(t)
			}
		}
	}, "}")
	body := f.Code
	f.Code = outer
	f.doc(fmt.Sprintf("Is what clients and servers of %s know of its calls.", s.FullName()), "")
	f.suppress()
	f.Add(body.Bytes())
	f.close()
}

// side is the type of one side of a call, "Void" for nothing.
func (f *file) side(m *schema.Message) string {
	if m == nil {
		return f.lang("Void")
	}
	return f.name(&m.Decl)
}

func (f *file) callConstant(c *schema.Call) {
	call := f.web("Call")
	f.P("static final %s<%s, %s, %s> %s =", call, f.side(c.Head), f.side(c.Request), f.side(c.Response), callConstant(c))
	f.Deeper(2, func() {
		f.P("%s.of(%s, %s, %s)", call, quote(c.FullName()), quote(conversation.Method(c)), quote(conversation.Path(c)))
		f.Deeper(2, func() {
			if c.HTTP != nil && c.HTTP.Status != 0 {
				f.P(".status(%d)", c.HTTP.Status)
			}
			if c.Safe {
				f.P(".safe()")
			}
			if c.Idempotent {
				f.P(".idempotent()")
			}
			if conversation.Compressible(c) {
				f.P(".compressible()")
			}
			for _, all := range c.Needs {
				var names []string
				for _, credential := range all {
					names = append(names, "Credentials."+credentialConstant(credential))
				}
				f.P(".needs(%s)", strings.Join(names, ", "))
			}
			for _, e := range c.Fails {
				f.P(".fails(%s, %s.CODEC)", quote(e.FullName()), f.name(&e.Decl))
			}
			request, answer := "null", "null"
			for _, t := range travelsOf(c) {
				if t.answer {
					answer = "new " + t.class + "()"
				} else {
					request = "new " + t.class + "()"
				}
			}
			if c.Head != nil {
				f.P(".head(%s.CODEC, %s)", f.name(&c.Head.Decl), request)
			}
			switch {
			case c.RequestStream:
				f.P(".requests(%s.CODEC)", f.name(&c.Request.Decl))
			case c.Request != nil && c.Request.Raw() != nil:
				f.P(".rawRequest(%s, %s::violations)", request, f.name(&c.Request.Decl))
			case c.Request != nil:
				f.P(".request(%s.CODEC, %s)", f.name(&c.Request.Decl), request)
			}
			switch {
			case c.ResponseStream:
				f.P(".answers(%s.CODEC)", f.name(&c.Response.Decl))
			case c.Response != nil && c.Response.Raw() != nil:
				f.P(".rawAnswer(%s, %s::violations)", answer, f.name(&c.Response.Decl))
			case c.Response != nil:
				f.P(".answer(%s.CODEC, %s)", f.name(&c.Response.Decl), answer)
			}
			f.P(".build();")
		})
	})
	f.P("")
}

func credentialConstant(c *schema.Credential) string {
	return strings.ToUpper(strings.ReplaceAll(c.Module.Name, ".", "_") + "_" + c.Name)
}

// credentials writes the credentials that calls of a service need.
func (f *file) credentials(s *schema.Service) {
	seen := map[*schema.Credential]bool{}
	var list []*schema.Credential
	for _, c := range s.Calls {
		for _, all := range c.Needs {
			for _, credential := range all {
				if !seen[credential] {
					seen[credential] = true
					list = append(list, credential)
				}
			}
		}
	}
	if len(list) == 0 {
		return
	}
	f.P("")
	f.In("private static final class Credentials {", func() {
		for _, c := range list {
			kind, key := c.Kind, ""
			if c.Kind == "key" {
				kind, key = c.Carrier, c.Key
			}
			f.P("private static final %s %s =", f.web("Credential"), credentialConstant(c))
			f.P("    new %s(%s, %s, %s);", f.web("Credential"), quote(c.FullName()), quote(kind), quote(key))
		}
		f.P("")
		f.P("private Credentials() {}")
	}, "}")
}

// travel is a side of a call whose message is not all in the body.
type travel struct {
	class  string
	answer bool
	whole  *schema.Message
	placed []conversation.Placed
	rest   *schema.Message // what is left for the body, or nil
}

// travelsOf lists the sides of a call whose messages are not all in the body.
func travelsOf(c *schema.Call) (list []travel) {
	name := syntax.PascalCase(c.Name)
	if placed := conversation.Outside(c); len(placed) > 0 || conversation.Bodiless(c) || c.Head != nil {
		list = append(list, travel{name + "Travel", false, c.Placed(), placed, conversation.Body(c, "body")})
	}
	if placed := conversation.AnswerOutside(c); len(placed) > 0 || conversation.AnswerRaw(c) != nil {
		list = append(list, travel{name + "TravelOfAnswer", true, c.Response, placed, conversation.AnswerBody(c, "body")})
	}
	return list
}

// travel writes how a message travels that is not all in the body.
func (f *file) travel(t travel) {
	whole := f.name(&t.whole.Decl)
	builder := whole + ".Builder"
	fields := map[*schema.Field]field{}
	for _, x := range f.fieldsOf(t.whole) {
		fields[x.Field] = x
		f.deprecated = f.deprecated || x.Deprecated != ""
	}
	var rest []field
	if t.rest != nil {
		for _, x := range t.rest.Fields {
			whole := fields[t.whole.ByNumber(x.Number)]
			rest = append(rest, field{x, whole.accessor, whole.variable})
		}
	}
	f.In(fmt.Sprintf("private static final class %s extends %s<%s, %s> {", t.class, f.web("Travel"), whole, builder),
		func() {
			if t.rest != nil {
				f.fieldTable(t.whole.Name, rest)
			}
			raw := t.whole.Raw()
			if raw != nil {
				f.P("private static final %s RAW = %s;", f.wire("BodyBounds"), f.rawBounds(raw))
			}
			if t.rest != nil || raw != nil {
				f.P("")
			}
			var placed []string
			for _, p := range t.placed {
				placed = append(placed, fmt.Sprintf("new %s(%d, %s, %s, %s)", f.web("Placed"), p.Field.Number,
					quote(p.Field.JSONName()), quote(string(p.Place)), quote(p.Name)))
			}
			f.In(fmt.Sprintf("%s() {", t.class), func() {
				f.P("%s;", stubs.Bare("super(", append([]string{fmt.Sprint(t.rest != nil)}, placed...), ")"))
			}, "}")
			method := func(signature string, body func()) {
				f.P("")
				f.P("%s", f.override())
				f.In("protected "+signature+" {", body, "}")
			}
			method(builder+" begin()", func() { f.P("return %s.builder();", whole) })
			method(fmt.Sprintf("%s end(%s b)", whole, builder), func() { f.P("return b.build();") })
			if len(t.placed) > 0 {
				method(fmt.Sprintf("void place(%s p, %s m)", f.web("Parameters"), whole), func() {
					for _, p := range t.placed {
						f.place(p, fields[p.Field])
					}
				})
				method(fmt.Sprintf("void take(%s a, %s b)", f.web("Arguments"), builder), func() {
					for i, p := range t.placed {
						f.take(i, fields[p.Field])
					}
				})
			}
			if raw != nil {
				x := fields[raw]
				method(f.wire("BodyBounds")+" raw()", func() { f.P("return RAW;") })
				method(f.lang("String")+" rawName()", func() { f.P("return %s;", quote(raw.JSONName())) })
				method(fmt.Sprintf("%s rawOf(%s m)", f.wire("Body"), whole), func() { f.P("return m.%s();", x.accessor) })
				method(fmt.Sprintf("void setRaw(%s b, %s body)", builder, f.wire("Body")), func() {
					f.P("b.%s(body);",
						x.accessor)
				})
			}
			if t.rest != nil {
				f.bodyOf(t, whole, builder, rest, method)
			}
		}, "}")
}

// bodyOf writes how the rest of a message is read and written that is in the body.
func (f *file) bodyOf(t travel, whole, builder string, rest []field, method func(string, func())) {
	unlisted := f.wire("UnlistedFields")
	if t.answer {
		method(fmt.Sprintf("boolean isBlank(%s m)", whole), func() {
			conditions := []string{"m.unlistedFields().isEmpty()"}
			for _, x := range rest {
				switch x.Presence {
				case schema.Optional:
					conditions = append(conditions, fmt.Sprintf("m.%s().isEmpty()", x.accessor))
				case schema.Defaulted:
					conditions = append(conditions, f.sameValue(x.Type, "m."+x.accessor+"()", f.literal(x.Type, x.Default)))
				default:
					conditions = []string{"false"}
				}
				if conditions[0] == "false" {
					break
				}
			}
			f.P("return %s;", strings.Join(conditions, " && "))
		})
	}
	value := func(x field) string {
		if x.Presence == schema.Optional {
			return fmt.Sprintf("x%d", x.Number)
		}
		return "m." + x.accessor + "()"
	}
	locals := func() {
		for _, x := range rest {
			if x.Presence == schema.Optional {
				f.P("%s x%d = m.%s().orElse(null);", f.object(x.Type), x.Number, x.accessor)
			}
		}
	}
	method(fmt.Sprintf("void writeCbor(%s w, %s m)", f.wire("CborWriter"), whole), func() {
		locals()
		f.P("%s others = m.unlistedFields().orElse(null);", unlisted)
		f.writeCbor(rest, value, "others")
	})
	method(fmt.Sprintf("void writeJson(%s w, %s m)", f.wire("JsonWriter"), whole), func() {
		locals()
		f.P("%s others = m.unlistedFields().orElse(null);", unlisted)
		f.writeJson(rest, value, "others")
	})
	to := assignment{set: func(x field, value string) string { return fmt.Sprintf("b.%s(%s)", x.accessor, value) },
		seen: func(word int) string { return fmt.Sprintf("seen[%d]", word) }, builder: builder + " b, long[] seen",
		arguments: "b, seen"}
	end := func() {
		f.P("b.unlistedFields(others);")
		for i := range words(t.rest) {
			if bits := requiredBits(t.rest, i); bits != 0 {
				f.P("r.require(seen[%d], %s, FIELDS, %d);", i, bitsLiteral(bits), i*64)
			}
		}
		f.P("return others;")
	}
	seen := fmt.Sprintf("long[] seen = new long[%d];", max(1, words(t.rest)))
	method(fmt.Sprintf("%s readCbor(%s r, %s b)", unlisted, f.wire("CborReader"), builder), func() {
		f.P("%s", seen)
		f.readCbor(len(rest) > 0, to, unlisted+" others = ")
		end()
	})
	method(fmt.Sprintf("%s readJson(%s r, %s b)", unlisted, f.wire("JsonReader"), builder), func() {
		f.P("%s", seen)
		f.readJson(rest, to, false, unlisted+" others = ")
		end()
	})
	f.P("")
	f.entry(rest, to)
	f.Blank(0)
}

// place writes the statement that puts a field where it travels.
func (f *file) place(p conversation.Placed, x field) {
	put := func(t *schema.Type, value string) string {
		write := f.wire("JsonWriter") + "::" + scalars[t.Kind].method
		if hasCodec(t) {
			write = f.codec(t)
		}
		return fmt.Sprintf("p.put(%s, %s, %s, %s)", quote(string(p.Place)), quote(p.Name), value, write)
	}
	accessor := "m." + x.accessor + "()"
	switch {
	case x.Type.Kind == schema.KindList:
		f.P("%s.forEach(v -> %s);", accessor, put(x.Type.Elem, "v"))
	case x.Presence == schema.Optional:
		f.P("%s.ifPresent(v -> %s);", accessor, put(x.Type, "v"))
	default:
		f.P("%s;", put(x.Type, accessor))
	}
}

// take writes the statement that finds a field where it travels.
func (f *file) take(i int, x field) {
	shape := f.web("Arguments") + ".Shape."
	t := x.Type
	if t.Kind == schema.KindList {
		t = t.Elem
	}
	switch conversation.ShapeOf(t) {
	case conversation.Bare:
		shape += "BARE"
	case conversation.Number:
		shape += "BARE_NUMBER"
	default:
		shape += "QUOTED"
	}
	read := f.reader(t, jsonEncoding, 0)
	if x.Type.Kind == schema.KindList {
		f.P("a.list(%d, %s, %s, b::%s);", i, shape, read, x.accessor)
		return
	}
	f.P("a.scalar(%d, %t, %s, %s, b::%s);", i, x.Presence != schema.Required, shape, read, x.accessor)
}

// callDoc is the documentation of a call.
func callDoc(c *schema.Call) string { return otherwise(c.Doc, fmt.Sprintf("Calls %s.", c.FullName())) }

// thrown are the errors that a call declares, as tags.
func (f *file) thrown(c *schema.Call) (tags []string) {
	for _, e := range c.Fails {
		line, _, _ := strings.Cut(strings.TrimSpace(e.Doc), "\n")
		tags = append(tags, fmt.Sprintf("@throws %s %s", f.name(&e.Decl), html(otherwise(line, "see there"))))
	}
	return tags
}

func (o *output) client(s *schema.Service) {
	self := s.Name + "Client"
	f := o.open(s.Module, self)
	outer := f.Code
	f.Code = stubs.NewCode("  ")
	builder, about := f.web("ClientBuilder"), f.use(o.root+".faithful.About")
	f.In(fmt.Sprintf("public final class %s {", self), func() {
		f.P("private final %s client;", f.web("Client"))
		f.P("")
		f.In(fmt.Sprintf("private %s(%s client) {", self, f.web("Client")), func() { f.P("this.client = client;") }, "}")
		f.P("")
		text, uri := f.lang("String"), f.use("java.net.URI")
		for _, base := range []struct{ typ, value string }{{text, "base"}, {uri, "base.toString()"}} {
			f.doc("Begins a client of a server.", "", "@param base where the server is, such as \"http://127.0.0.1:8080\"",
				"@return makes the client")
			f.In(fmt.Sprintf("public static %s<%s> to(%s base) {", builder, self, base.typ), func() {
				f.P("return new %s<>(%s, %s.DIGEST, %s::new);", builder, base.value, about, self)
			}, "}")
			f.P("")
		}
		for _, c := range s.Calls {
			f.clientCall(c)
		}
		f.Blank(0)
	}, "}")
	body := f.Code
	f.Code = outer
	f.doc(otherwise(s.Doc, fmt.Sprintf("Calls the service %s.", s.FullName())), s.Deprecated)
	f.deprecation(s.Deprecated)
	f.suppress()
	f.Add(body.Bytes())
	f.close()
}

// clientCall writes the methods that make one call: with and without options of its own, waiting and not.
func (f *file) clientCall(c *schema.Call) {
	var parameter, argument string
	switch {
	case c.Placed() == nil:
	case c.RequestStream:
		parameter, argument = f.name(&c.Head.Decl)+" head", "head"
	default:
		parameter, argument = f.name(&c.Request.Decl)+" request", "request"
	}
	sent := argument
	if sent == "" {
		sent = "null"
	}
	service := c.Service.Name + "Calls." + callConstant(c)
	name := CallName(c)
	options := f.web("CallOptions")
	method := func(name, result, body, returns string) {
		for _, own := range []bool{false, true} {
			var parameters, tags []string
			if parameter != "" {
				parameters = append(parameters, parameter)
				tags = append(tags, "@param "+argument+" what is sent")
			}
			given := "null"
			if own {
				parameters = append(parameters, options+" options")
				tags = append(tags, "@param options of this call alone")
				given = "options"
			}
			if returns != "" {
				tags = append(tags, "@return "+returns)
			}
			f.doc(callDoc(c), c.Deprecated, append(tags, f.thrown(c)...)...)
			f.deprecation(c.Deprecated)
			f.In(fmt.Sprintf("public %s %s {", result, stubs.Bare(name+"(", parameters, ")")), func() {
				f.P("%s;", fmt.Sprintf(body, given))
			}, "}")
			f.P("")
		}
	}
	future := f.use("java.util.concurrent.CompletableFuture")
	switch {
	case conversation.BothWays(c):
		typ := fmt.Sprintf("%s<%s, %s>", f.web("Conversation"), f.side(c.Request), f.side(c.Response))
		method(name, typ, fmt.Sprintf("return client.converse(%s, %s, %%s)", service, sent),
			"the conversation, to be closed in the end")
	case c.RequestStream:
		typ := fmt.Sprintf("%s<%s, %s>", f.web("Sender"), f.side(c.Request), f.side(c.Response))
		method(name, typ, fmt.Sprintf("return client.sender(%s, %s, %%s)", service, sent),
			"sends the elements, to be closed in the end")
	case c.ResponseStream:
		typ := fmt.Sprintf("%s<%s>", f.web("AnswerStream"), f.side(c.Response))
		method(name, typ, fmt.Sprintf("return client.stream(%s, %s, %%s)", service, sent),
			"the stream, to be closed in the end")
		method(name+"Async", future+"<"+typ+">", fmt.Sprintf("return client.streamAsync(%s, %s, %%s)", service, sent),
			"the stream, once it has begun")
	case c.Response == nil:
		method(name, "void", fmt.Sprintf("client.call(%s, %s, %%s)", service, sent), "")
		method(name+"Async", future+"<"+f.lang("Void")+">", fmt.Sprintf("return client.callAsync(%s, %s, %%s)", service,
			sent),
			"is complete when the call is done")
	default:
		answer := f.side(c.Response)
		method(name, answer, fmt.Sprintf("return client.call(%s, %s, %%s)", service, sent), "the answer")
		method(name+"Async", future+"<"+answer+">", fmt.Sprintf("return client.callAsync(%s, %s, %%s)", service, sent),
			"the answer")
	}
}

// handlerParameters are those of the method that serves a call, and their tags.
func (f *file) handlerParameters(c *schema.Call) (parameters, tags []string) {
	add := func(parameter, doc string) {
		parameters = append(parameters, parameter)
		tags = append(tags, "@param "+parameter[strings.LastIndexByte(parameter, ' ')+1:]+" "+doc)
	}
	if c.Head != nil {
		add(f.name(&c.Head.Decl)+" head", "what came before the stream")
	}
	switch {
	case c.RequestStream:
		add(fmt.Sprintf("%s<%s> elements", f.web("Elements"), f.side(c.Request)), "the stream, as it comes")
	case c.Request != nil:
		add(f.name(&c.Request.Decl)+" request", "what is asked for")
	}
	if c.ResponseStream {
		add(fmt.Sprintf("%s<%s> answers", f.web("Answers"), f.side(c.Response)), "takes the elements of the answer")
	}
	add(f.web("Context")+" context", "who calls, and how")
	return parameters, tags
}

// handlerResult is what the method that serves a call returns.
func (f *file) handlerResult(c *schema.Call) string {
	if c.Response == nil || c.ResponseStream {
		return "void"
	}
	return f.name(&c.Response.Decl)
}

func (f *file) handlerDoc(c *schema.Call, tags []string) {
	if f.handlerResult(c) != "void" {
		tags = append(tags, "@return the answer")
	}
	f.doc(callDoc(c), c.Deprecated, append(tags, append(f.thrown(c), "@throws "+f.lang("Exception")+
		" anything else is answered with 500")...)...)
	f.deprecation(c.Deprecated)
}

func (o *output) server(s *schema.Service) {
	f := o.open(s.Module, s.Name)
	outer := f.Code
	f.Code = stubs.NewCode("  ")
	served, options := f.web("Served"), f.web("ServerOptions")
	about := f.use(o.root + ".faithful.About")
	exception := f.lang("Exception")
	f.In(fmt.Sprintf("public abstract class %s {", s.Name), func() {
		f.doc("Makes a server in which every call answers 501.", "")
		f.P("protected %s() {}", s.Name)
		f.P("")
		for _, c := range s.Calls {
			parameters, tags := f.handlerParameters(c)
			f.handlerDoc(c, tags)
			f.In(fmt.Sprintf("public %s %s throws %s {", f.handlerResult(c), stubs.Bare(CallName(c)+"(", parameters, ")"),
				exception),
				func() { f.P("throw new %s();", f.web("NotImplementedCallException")) }, "}")
			f.P("")
		}
		f.doc("Makes a mount of an implementation, which serves as usual.", "", "@param implementation its calls",
			"@return the mount")
		f.In(fmt.Sprintf("public static %s serve(%s implementation) {", served, s.Name),
			func() { f.P("return serve(implementation, null);") }, "}")
		f.P("")
		f.doc("Makes a mount of an implementation.", "", "@param implementation its calls",
			"@param options how it serves, or null for the usual", "@return the mount")
		f.In(fmt.Sprintf("public static %s serve(%s implementation, %s options) {", served, s.Name, options), func() {
			f.P("return %s.of(", served)
			f.Deeper(2, func() {
				f.P("%s.DEFINITIONS,", about)
				f.P("options,")
				for i, c := range s.Calls {
					f.route(c, map[bool]string{true: ");", false: ","}[i == len(s.Calls)-1])
				}
				if len(s.Calls) == 0 {
					f.P("new %s[0]);", f.web("Route"))
				}
			})
		}, "}")
	}, "}")
	body := f.Code
	f.Code = outer
	f.doc(otherwise(s.Doc, fmt.Sprintf("Serves %s.",
		s.FullName()))+"\n\nDerive from it, with a method for each call that is "+
		"implemented. One that is not answers 501, so a\nserver goes on compiling when "+
		"calls are added.", s.Deprecated)
	f.deprecation(s.Deprecated)
	f.suppress()
	f.Add(body.Bytes())
	f.close()
}

// route writes what connects a call with its method.
func (f *file) route(c *schema.Call, end string) {
	var classes, arguments []string
	class := func(name string) { classes = append(classes, name+".class") }
	if c.Head != nil {
		class(f.name(&c.Head.Decl))
		arguments = append(arguments, "head")
	}
	switch {
	case c.RequestStream:
		class(f.web("Elements"))
		arguments = append(arguments, "elements")
	case c.Request != nil:
		class(f.name(&c.Request.Decl))
		arguments = append(arguments, "request")
	}
	if c.ResponseStream {
		class(f.web("Answers"))
		arguments = append(arguments, "answers")
	}
	class(f.web("Context"))
	arguments = append(arguments, "context")
	implemented := stubs.Bare(f.web("Route")+".isImplemented(", append([]string{c.Service.Name + ".class",
		"implementation",
		quote(CallName(c))}, classes...), ")")
	call := fmt.Sprintf("implementation.%s(%s)", CallName(c), strings.Join(arguments, ", "))
	f.P("new %s<>(", f.web("Route"))
	f.Deeper(2, func() {
		f.P("%sCalls.%s,", c.Service.Name, callConstant(c))
		f.P("%s,", implemented)
		if f.handlerResult(c) == "void" {
			f.In("(head, request, elements, answers, context) -> {", func() {
				f.P("%s;", call)
				f.P("return null;")
			}, "})"+end)
			return
		}
		f.P("(head, request, elements, answers, context) ->")
		f.P("    %s)%s", call, end)
	})
}

// everyCall writes a class whose calls are all abstract, so that code stops compiling where a call is added.
func (o *output) everyCall(s *schema.Service) {
	self := s.Name + "EveryCall"
	f := o.open(s.Module, self)
	outer := f.Code
	f.Code = stubs.NewCode("  ")
	f.In(fmt.Sprintf("public abstract class %s extends %s {", self, s.Name), func() {
		f.doc("Makes a server.", "")
		f.P("protected %s() {}", self)
		for _, c := range s.Calls {
			f.P("")
			f.deprecated = f.deprecated || c.Deprecated != ""
			parameters, _ := f.handlerParameters(c)
			f.P("%s", f.override())
			f.P("public abstract %s %s throws %s;", f.handlerResult(c), stubs.Bare(CallName(c)+"(", parameters, ")"),
				f.lang("Exception"))
		}
	}, "}")
	body := f.Code
	f.Code = outer
	f.doc(fmt.Sprintf("Is every call of %s. It is outside of the promise that code goes on compiling when "+
		"calls are added.",
		s.FullName()), "")
	f.suppress()
	f.Add(body.Bytes())
	f.close()
}
