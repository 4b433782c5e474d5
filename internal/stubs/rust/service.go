package rust

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/syntax"
)

// service writes the module of a service: what both sides know of its calls, their errors, the trait that servers
// implement, the server and the client.
func (o *output) service(s *schema.Service) *file {
	f := &file{Code: stubs.NewCode("    "), output: o, module: s.Module, service: s}
	var calls []*schema.Call
	for _, c := range s.Calls {
		if isServed(c) {
			calls = append(calls, c)
		}
	}
	f.credentials(calls)
	for _, c := range calls {
		f.callTable(c)
		f.travels(c)
		f.failures(c)
	}
	f.server(calls)
	f.client(calls)
	f.Blank(0)
	return f
}

// isServed tells calls that clients and servers are written for.
func isServed(c *schema.Call) bool {
	return !conversation.BothWays(c) && conversation.Raw(c) == nil && conversation.AnswerRaw(c) == nil
}

// ServiceModule is the Rust module of a service, in that of its definitions.
func ServiceModule(s *schema.Service) string { return safe(syntax.SnakeCase(s.Name), keywords) }

// CallName is the Rust name of a call. Clients have a few methods of their own.
func CallName(c *schema.Call) string { return safe(c.Name, keywords, []string{"connect", "with"}) }

func constantOf(name string) string { return strings.ToUpper(name) }

// credentials writes what calls of the service need.
func (f *file) credentials(calls []*schema.Call) {
	var seen []*schema.Credential
	for _, c := range calls {
		for _, all := range c.Needs {
			for _, k := range all {
				if slices.Contains(seen, k) {
					continue
				}
				seen = append(seen, k)
				f.In(fmt.Sprintf("static %s: web::Credential = web::Credential {", credentialName(k)), func() {
					f.P("name: %s,", quote(k.FullName()))
					if k.Kind == "key" {
						f.P("kind: web::CredentialKind::%s(%s),", syntax.PascalCase(k.Carrier), quote(k.Key))
					} else {
						f.P("kind: web::CredentialKind::%s,", syntax.PascalCase(k.Kind))
					}
				}, "};")
				f.P("")
			}
		}
	}
}

// credentialName is the name of a credential's static, which no call's has: theirs do not end in "_".
func credentialName(k *schema.Credential) string {
	return constantOf(strings.ReplaceAll(k.FullName(), ".", "_")) + "_"
}

func (f *file) callTable(c *schema.Call) {
	f.In(fmt.Sprintf("static %s: web::CallTable = web::CallTable {", constantOf(c.Name)), func() {
		f.P("name: %s,", quote(c.FullName()))
		f.P("method: %s,", quote(conversation.Method(c)))
		f.P("path: %s,", quote(conversation.Path(c)))
		status := 0
		if c.HTTP != nil {
			status = c.HTTP.Status
		}
		f.P("status: %d,", status)
		f.P("safe: %t,", c.Safe)
		f.P("idempotent: %t,", c.Idempotent)
		var needs []string
		for _, all := range c.Needs {
			var names []string
			for _, k := range all {
				names = append(names, "&"+credentialName(k))
			}
			needs = append(needs, "&["+strings.Join(names, ", ")+"]")
		}
		f.P("%s,", stubs.Rows("needs: &[", needs, "]"))
		f.P("request_stream: %t,", c.RequestStream)
		f.P("answer_stream: %t,", c.ResponseStream)
		f.P("compressible: %t,", conversation.Compressible(c))
	}, "};")
	f.P("")
}

// side is the request or the answer of a call.
type side struct {
	message *schema.Message
	travels string // the type that says how it travels
	placed  []conversation.Placed
	body    []*schema.Field // what of it is in the body, where it is split
	inBody  bool
}

func (f *file) request(c *schema.Call) side {
	s := side{message: c.Placed(), placed: conversation.Outside(c), inBody: true}
	if c.RequestStream {
		return f.completed(s, c, nil, c.Head != nil, "HeadOf")
	}
	body, _ := conversation.Split(c)
	return f.completed(s, c, body, conversation.Bodiless(c), "RequestOf")
}

func (f *file) answer(c *schema.Call) side {
	s := side{message: c.Response, placed: conversation.AnswerOutside(c), inBody: true}
	if c.Response == nil || c.ResponseStream {
		s.message = nil
		return f.completed(s, c, nil, false, "")
	}
	body, _ := conversation.SplitAnswer(c)
	return f.completed(s, c, body, false, "AnswerOf")
}

// completed says how a side travels, once it is known what of it is in the body.
func (f *file) completed(s side, c *schema.Call, body *schema.Message, bodiless bool, prefix string) side {
	switch {
	case s.message == nil:
		s.travels, s.inBody = "web::Nothing", false
	case len(s.placed) == 0 && !bodiless:
		s.travels = fmt.Sprintf("web::InBody<%s>", f.name(&s.message.Decl))
	default:
		s.travels = prefix + syntax.PascalCase(c.Name) + "_"
		s.inBody = body != nil
		if body != nil {
			s.body = body.Fields
		}
	}
	return s
}

// isSplit tells sides that are not all in the body.
func (s side) isSplit() bool { return strings.HasSuffix(s.travels, "_") }

// messageType is the type of what travels.
func (f *file) messageType(s side) string {
	if s.message == nil {
		return "()"
	}
	return f.name(&s.message.Decl)
}

// travels writes how the fields of requests and answers are put outside of the body and found again.
func (f *file) travels(c *schema.Call) {
	for _, s := range []side{f.request(c), f.answer(c)} {
		if s.isSplit() {
			f.split(s)
		}
	}
}

func (f *file) split(s side) {
	whole, m := f.messageType(s), s.message
	f.P("#[doc(hidden)]")
	f.P("pub enum %s {}", s.travels)
	f.P("")
	if s.inBody {
		rest := &schema.Message{Decl: m.Decl, Fields: s.body}
		f.In(fmt.Sprintf("impl %s {", s.travels), func() {
			f.In(fmt.Sprintf("fn write_cbor(value: &%s, w: &mut wire::CborWriter) {", whole), func() {
				f.writeOf(rest, m, false)
			}, "}")
			f.P("")
			f.In(fmt.Sprintf("fn write_json(value: &%s, w: &mut wire::JsonWriter) {", whole), func() {
				f.writeOf(rest, m, true)
			}, "}")
		}, "}")
		f.P("")
	}
	f.In(fmt.Sprintf("impl web::Travels for %s {", s.travels), func() {
		f.P("type Message = %s;", whole)
		f.P("")
		f.P("const IN_BODY: bool = %t;", s.inBody)
		f.In("const PLACED: &'static [web::Placed] = &[", func() {
			for _, p := range s.placed {
				f.In("web::Placed {", func() {
					f.P("name: %s,", quote(p.Field.JSONName()))
					f.P("place: web::Place::%s,", syntax.PascalCase(string(p.Place)))
					f.P("parameter: %s,", quote(p.Name))
				}, "},")
			}
		}, "];")
		f.P("")
		f.appending(s, whole)
		f.P("")
		f.placing(s, whole)
		f.P("")
		f.taking(s)
		f.P("")
		f.In(fmt.Sprintf("fn violations(value: &%s) -> Vec<wire::Violation> {", whole), func() {
			f.P("wire::Violations::of::<%s>(value)", whole)
		}, "}")
		if s.inBody {
			f.P("")
			f.blank(s, whole)
		}
	}, "}")
	f.P("")
}

func (f *file) appending(s side, whole string) {
	f.P("fn append(")
	f.P("    value: &%s,", whole)
	f.P("    encoding: wire::Encoding,")
	f.P("    out: &mut Vec<u8>,")
	f.In(") -> Result<(), wire::WriteError> {", func() {
		if !s.inBody {
			f.P("let _ = (value, encoding, out);")
			f.P("Ok(())")
			return
		}
		f.P("let json = |w: &mut wire::JsonWriter| Self::write_json(value, w);")
		f.In("match encoding {", func() {
			f.P("wire::Encoding::Cbor => wire::append_cbor_by(out, |w| Self::write_cbor(value, w), json),")
			f.P("wire::Encoding::Json => wire::append_json_by(out, json),")
		}, "}")
	}, "}")
}

func (f *file) placing(s side, whole string) {
	if len(s.placed) == 0 {
		return
	}
	f.In(fmt.Sprintf("fn place(value: &%s, p: &mut web::Parameters) {", whole), func() {
		for i, p := range s.placed {
			put := func(t *schema.Type, value string) {
				f.P("p.put::<%s>(&Self::PLACED[%d], %s);", f.codec(t), i, value)
			}
			name := FieldName(p.Field)
			switch {
			case p.Field.Type.Kind == schema.KindList:
				f.In(fmt.Sprintf("for item in &value.%s {", name), func() { put(p.Field.Type.Elem, "item") }, "}")
			case p.Field.Presence == schema.Optional:
				f.In(fmt.Sprintf("if let Some(value) = &value.%s {", name), func() { put(p.Field.Type, "value") }, "}")
			default:
				put(p.Field.Type, "&value."+name)
			}
		}
	}, "}")
}

// taking writes how a message is read from a body and from elsewhere.
func (f *file) taking(s side) {
	m := s.message
	f.P("fn read(")
	f.P("    body: Option<web::Payload<'_>>,")
	f.P("    a: &mut web::Arguments<'_>,")
	f.In(") -> Result<Option<Self::Message>, wire::ReadError> {", func() {
		partial := f.name(&m.Decl) + "Partial_"
		mutable := ""
		if len(s.placed) > 0 {
			mutable = "mut "
		}
		if s.inBody {
			f.In(fmt.Sprintf("let (%spartial, unlisted) = match body {", mutable), func() {
				f.P("Some(body) => body.partial::<%s>()?,", partial)
				f.P("None => Default::default(),")
			}, "};")
		} else {
			f.P("let _ = body;")
			f.P("let %spartial = %s::default();", mutable, partial)
			f.P("let unlisted = wire::Unlisted::default();")
		}
		for i, p := range s.placed {
			shape := map[conversation.Shape]string{conversation.Bare: "Bare", conversation.Quoted: "Quoted",
				conversation.Number: "Number"}[conversation.ShapeOf(p.Field.Type)]
			at, slot := fmt.Sprintf("&Self::PLACED[%d]", i), "&mut partial."+FieldName(p.Field)
			if p.Field.Type.Kind == schema.KindList {
				f.P("a.list::<%s>(%s, wire::Shape::%s, %s);", f.codec(p.Field.Type.Elem), at, shape, slot)
			} else {
				f.P("a.scalar::<%s>(%s, %t, wire::Shape::%s, %s);", f.codec(p.Field.Type), at,
					p.Field.Presence != schema.Required, shape, slot)
			}
		}
		f.In("if !a.are_good() {", func() { f.P("return Ok(None);") }, "}")
		if hasRequired(m) {
			f.P("partial.finish(unlisted).map(Some).map_err(wire::missing)")
		} else {
			f.P("Ok(Some(partial.finish(unlisted)))")
		}
	}, "}")
}

// blank writes what tells whether nothing of a body is set.
func (f *file) blank(s side, whole string) {
	f.In(fmt.Sprintf("fn is_blank(value: &%s) -> bool {", whole), func() {
		var parts []string
		for _, x := range s.body {
			name := FieldName(x)
			switch x.Presence {
			case schema.Optional:
				parts = append(parts, fmt.Sprintf("value.%s.is_none()", name))
			case schema.Defaulted:
				parts = append(parts, fmt.Sprintf("<%s as wire::Codec>::same(&value.%s, &%s)", f.codec(x.Type), name,
					f.literal(x.Type, x.Default)))
			default:
				f.P("let _ = value;")
				f.P("false")
				return
			}
		}
		parts = append(parts, "value.unlisted().fields().is_empty()")
		f.P("%s", strings.Join(parts, " && "))
	}, "}")
}

// FailureName is the Rust enum of what a call answers with instead.
func FailureName(c *schema.Call) string { return syntax.PascalCase(c.Name) + "Error" }

// failures writes the enum of what a call answers with instead.
func (f *file) failures(c *schema.Call) {
	name := FailureName(c)
	f.doc(fmt.Sprintf("Is what `%s` answers with instead.", CallName(c)))
	f.P("#[derive(Clone, Debug)]")
	f.P("#[non_exhaustive]")
	f.In(fmt.Sprintf("pub enum %s {", name), func() {
		for _, e := range c.Fails {
			f.doc(otherwise(firstLine(e.Doc), fmt.Sprintf("Is the error %s.", e.FullName())))
			f.P("%s(Box<%s>),", failureVariant(e), f.name(&e.Decl))
		}
		f.doc("Is any other problem.")
		f.P("Problem(Box<web::Problem>),")
	}, "}")
	f.P("")
	from := func(variant, typ string) {
		f.In(fmt.Sprintf("impl From<%s> for %s {", typ, name), func() {
			f.In(fmt.Sprintf("fn from(e: %s) -> Self {", typ), func() { f.P("Self::%s(Box::new(e))", variant) }, "}")
		}, "}")
		f.P("")
	}
	for _, e := range c.Fails {
		from(failureVariant(e), f.name(&e.Decl))
	}
	from("Problem", "web::Problem")
	f.In(fmt.Sprintf("impl std::fmt::Display for %s {", name), func() {
		f.In("fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {", func() {
			f.In("match self {", func() {
				for _, e := range c.Fails {
					f.P("Self::%s(e) => write!(f, \"%s: {e:?}\"),", failureVariant(e), e.FullName())
				}
				f.P("Self::Problem(e) => e.fmt(f),")
			}, "}")
		}, "}")
	}, "}")
	f.P("")
	f.P("impl std::error::Error for %s {}", name)
	f.P("")
	f.In(fmt.Sprintf("impl web::Failure for %s {", name), func() {
		f.In("fn into_parts(self) -> Result<web::Declared, web::Problem> {", func() {
			f.In("match self {", func() {
				for _, e := range c.Fails {
					title := firstLine(e.Doc)
					if title == "" {
						title = e.Name
					}
					f.In(fmt.Sprintf("Self::%s(e) => Ok(web::Declared {", failureVariant(e)), func() {
						f.P("name: %s,", quote(e.FullName()))
						f.P("status: %d,", e.Status)
						f.P("title: %s,", quote(title))
						f.P("fields: e.to_json(),")
					}, "}),")
				}
				f.P("Self::Problem(e) => Err(*e),")
			}, "}")
		}, "}")
		f.P("")
		f.In("fn read(name: &str, fields: &[u8]) -> Option<Result<Self, wire::ReadError>> {", func() {
			if len(c.Fails) == 0 {
				f.P("let _ = (name, fields);")
				f.P("None")
				return
			}
			f.In("match name {", func() {
				for _, e := range c.Fails {
					f.P("%s => Some(%s::from_json(fields).map(Self::from)),", quote(e.FullName()), f.name(&e.Decl))
				}
				f.P("_ => None,")
			}, "}")
		}, "}")
	}, "}")
	f.P("")
}

// sent is how what is sent whole is called: the request, or the head of a stream.
func sent(c *schema.Call) string {
	if c.RequestStream {
		return "head"
	}
	return "request"
}

// failureVariant is the variant of a declared error.
func failureVariant(e *schema.Message) string {
	if e.Name == "Problem" {
		return "Problem_"
	}
	return e.Name
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	return line
}

// server writes the trait that a server implements, and what serves it.
func (f *file) server(calls []*schema.Call) {
	s := f.service
	f.doc(otherwise(s.Doc, fmt.Sprintf("Is the service %s.", s.FullName())) +
		"\n\nImplement what you serve; a call that is not implemented answers 501.")
	f.deprecation(s.Deprecated)
	f.In(fmt.Sprintf("pub trait %s: Send + Sync + 'static {", s.Name), func() {
		for i, c := range calls {
			if i > 0 {
				f.P("")
			}
			f.doc(otherwise(c.Doc, fmt.Sprintf("Answers the call %s.", c.Name)))
			f.deprecation(c.Deprecated)
			request, answer := f.request(c), f.answer(c)
			f.P("fn %s(", CallName(c))
			f.P("    &self,")
			f.P("    call: &web::Call,")
			given := []string{"call"}
			if request.message != nil {
				f.P("    %s: %s,", sent(c), f.messageType(request))
				given = append(given, sent(c))
			}
			if c.RequestStream {
				f.P("    elements: web::Elements<%s>,", f.name(&c.Request.Decl))
				given = append(given, "elements")
			}
			result, failed := f.messageType(answer), "Err"
			if c.ResponseStream {
				item := fmt.Sprintf("Result<%s, %s>", f.name(&c.Response.Decl), FailureName(c))
				result = fmt.Sprintf("impl web::Stream<Item = %s> + Send + 'static", item)
				failed = fmt.Sprintf("Err::<web::NoStream<%s>, _>", item)
			}
			f.P(") -> impl std::future::Future<Output = Result<%s, %s>> + Send", result, FailureName(c))
			f.In("{", func() {
				if len(given) == 1 {
					f.P("let _ = call;")
				} else {
					f.P("let _ = (%s);", strings.Join(given, ", "))
				}
				f.P("async { %s(web::Problem::not_implemented().into()) }", failed)
			}, "}")
		}
	}, "}")
	f.P("")
	server := s.Name + "Server"
	f.doc(fmt.Sprintf("Serves `%s`: a service of the crate tower, for axum or hyper.", s.Name))
	f.In(fmt.Sprintf("pub struct %s<S> {", server), func() {
		f.P("mount: web::Mount,")
		f.P("service: std::marker::PhantomData<fn() -> S>,")
	}, "}")
	f.P("")
	f.In(fmt.Sprintf("impl<S: %s> %s<S> {", s.Name, server), func() {
		f.doc("Serves with the usual options.")
		f.P("#[must_use]")
		f.In("pub fn new(service: S) -> Self {", func() { f.P("Self::with(service, web::ServerOptions::new())") }, "}")
		f.P("")
		f.doc("Serves with options.")
		f.P("#[must_use]")
		f.In("pub fn with(service: S, options: web::ServerOptions) -> Self {", func() {
			f.P("let service = std::sync::Arc::new(service);")
			f.In("let routes = vec![", func() {
				for _, c := range calls {
					f.route(c)
				}
			}, "];")
			f.In("Self {", func() {
				f.P("mount: web::Mount::of(&crate::faithful::about::DEFINITIONS, options, routes),")
				f.P("service: std::marker::PhantomData,")
			}, "}")
		}, "}")
	}, "}")
	f.P("")
	f.In(fmt.Sprintf("impl<S> Clone for %s<S> {", server), func() {
		f.In("fn clone(&self) -> Self {", func() {
			f.In("Self {", func() {
				f.P("mount: self.mount.clone(),")
				f.P("service: std::marker::PhantomData,")
			}, "}")
		}, "}")
	}, "}")
	f.P("")
	f.In(fmt.Sprintf("impl<S> std::fmt::Debug for %s<S> {", server), func() {
		f.In("fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {", func() { f.P("self.mount.fmt(f)") }, "}")
	}, "}")
	f.P("")
	f.In(fmt.Sprintf("impl<S> From<%s<S>> for web::Mount {", server), func() {
		f.In(fmt.Sprintf("fn from(server: %s<S>) -> Self {", server), func() { f.P("server.mount") }, "}")
	}, "}")
	f.P("")
	f.P("impl<S, B> web::TowerService<web::Request<B>> for %s<S>", server)
	f.P("where")
	f.P("    B: web::HttpBody<Data = web::Bytes> + Send + 'static,")
	f.P("    B::Error: Into<web::BoxError>,")
	f.In("{", func() {
		f.P("type Response = web::Response<web::Body>;")
		f.P("type Error = std::convert::Infallible;")
		f.P("type Future = web::BoxFuture<'static, Result<Self::Response, Self::Error>>;")
		f.P("")
		f.P("fn poll_ready(")
		f.P("    &mut self,")
		f.P("    _: &mut std::task::Context<'_>,")
		f.In(") -> std::task::Poll<Result<(), Self::Error>> {", func() { f.P("std::task::Poll::Ready(Ok(()))") }, "}")
		f.P("")
		f.In("fn call(&mut self, request: web::Request<B>) -> Self::Future {", func() {
			f.P("web::TowerService::call(&mut self.mount, request)")
		}, "}")
	}, "}")
	f.P("")
}

// route writes what serves a call.
func (f *file) route(c *schema.Call) {
	request, answer := f.request(c), f.answer(c)
	given, passed := "()", "&call"
	if request.message != nil {
		given, passed = sent(c), "&call, "+sent(c)
	}
	kind := fmt.Sprintf("unary::<%s, %s, %s, _, _>", request.travels, answer.travels, FailureName(c))
	switch {
	case c.RequestStream:
		given, passed = given+", elements", passed+", elements"
		kind = fmt.Sprintf("receive::<%s, %s, %s, %s, _, _>", request.travels, f.name(&c.Request.Decl), answer.travels,
			FailureName(c))
	case c.ResponseStream:
		kind = fmt.Sprintf("send::<%s, %s, %s, _, _>", request.travels, f.name(&c.Response.Decl), FailureName(c))
	}
	f.In("{", func() {
		f.P("let service = std::sync::Arc::clone(&service);")
		f.In(fmt.Sprintf("web::Route::%s(&%s, move |call, %s| {", kind, constantOf(c.Name), given), func() {
			f.P("let service = std::sync::Arc::clone(&service);")
			boxed := ""
			if c.ResponseStream {
				boxed = ".map(web::boxed)"
			}
			f.P("async move { <S as %s>::%s(&service, %s).await%s }", f.service.Name, CallName(c), passed, boxed)
		}, "})")
	}, "},")
}

// client writes what calls the service.
func (f *file) client(calls []*schema.Call) {
	s := f.service
	client := s.Name + "Client"
	f.doc(fmt.Sprintf("Calls the service %s. Its clones share their connections.", s.FullName()))
	f.deprecation(s.Deprecated)
	f.P("#[derive(Clone, Debug)]")
	f.P("pub struct %s(web::Client);", client)
	f.P("")
	f.In(fmt.Sprintf("impl %s {", client), func() {
		f.doc("Makes a client of the server at a URL, such as \"<http://127.0.0.1:8080>\".")
		f.P("///")
		f.P("/// # Errors")
		f.P("///")
		f.doc("The text is not the URL of a server.")
		f.In("pub fn connect(base: &str, options: web::ClientOptions) -> Result<Self, web::BadUrl> {", func() {
			f.P("web::Client::new(base, crate::faithful::about::DIGEST, options).map(Self)")
		}, "}")
		f.P("")
		f.doc("Is a client with other options, over the same connections: `client.with(|o| o.timeout(…))`.")
		f.P("#[must_use]")
		f.P("pub fn with(")
		f.P("    &self,")
		f.P("    change: impl FnOnce(web::ClientOptions) -> web::ClientOptions,")
		f.In(") -> Self {", func() { f.P("Self(self.0.with(change))") }, "}")
		for _, c := range calls {
			f.P("")
			f.clientCall(c)
		}
	}, "}")
	f.P("")
}

func (f *file) clientCall(c *schema.Call) {
	request, answer := f.request(c), f.answer(c)
	f.doc(otherwise(c.Doc, fmt.Sprintf("Calls %s.", c.FullName())))
	f.P("///")
	f.P("/// # Errors")
	f.P("///")
	f.doc("The call fails with what it declares, another problem, no answer, or one that is not understood.")
	f.deprecation(c.Deprecated)
	f.P("pub async fn %s(", CallName(c))
	f.P("    &self,")
	given := "&()"
	if request.message != nil {
		f.P("    %s: &%s,", sent(c), f.messageType(request))
		given = sent(c)
	}
	result := f.messageType(answer)
	making := fmt.Sprintf("unary::<%s, %s, %s>", request.travels, answer.travels, FailureName(c))
	switch {
	case c.RequestStream:
		element := f.name(&c.Request.Decl)
		f.P("    elements: impl web::Stream<Item = %s> + Send + 'static,", element)
		given += ", elements"
		making = fmt.Sprintf("send_stream::<%s, %s, %s, %s>", request.travels, element, answer.travels, FailureName(c))
	case c.ResponseStream:
		element := f.name(&c.Response.Decl)
		result = fmt.Sprintf("web::Answers<%s, %s>", element, FailureName(c))
		making = fmt.Sprintf("stream::<%s, %s, %s>", request.travels, element, FailureName(c))
	}
	f.In(fmt.Sprintf(") -> Result<%s, web::CallError<%s>> {", result, FailureName(c)), func() {
		f.P("self.0.%s(&%s, %s).await", making, constantOf(c.Name), given)
	}, "}")
}
