use std::convert::Infallible;
use std::error::Error;
use std::fmt::Write as _;
use std::future::Future;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http::header::{self, HeaderValue};
use http::{Method, Request, Response};
use http_body::Body as HttpBody;
use tokio::sync::watch;

use crate::faithful::wire::{Any, Codec, Encoding};

use super::body::{incoming, Body, BoxError};
use super::call::{CallTable, CredentialKind, Failure};
use super::elements::Elements;
use super::exchange::{Call, Caught, Exchange};
use super::media;
use super::options::{BoxFuture, ServerOptions};
use super::problem::{Page, Problem, COMMON};
use super::routes::{Found, Routes};
use super::sending::Sending;
use super::stream::BoxStream;
use super::travel::{Place, Placed, Travels};

/// Is what a server says of itself.
#[doc(hidden)]
#[derive(Debug)]
pub struct Definitions {
    pub name: &'static str,
    pub version: &'static str,
    pub digest: &'static str,
    /// The canonical text of each module, by its name.
    pub modules: &'static [(&'static str, &'static str)],
    pub errors: &'static [Page],
}

type Serve = Box<
    dyn for<'a> Fn(&'a mut Exchange) -> BoxFuture<'a, Result<Response<Body>, Problem>>
        + Send
        + Sync,
>;

fn too_slow(what: &str) -> Problem {
    Problem {
        retry_after: Some(Duration::from_secs(1)),
        ..Problem::own("too-slow", format!("the {what} took too long"))
    }
}

/// Is one call with what serves it.
#[doc(hidden)]
pub struct Route {
    table: &'static CallTable,
    placed: [&'static [Placed]; 2], // of requests, and of answers
    serve: Serve,
    vary: String,
    private: bool,
}

fn serving<F>(serve: F) -> Serve
where
    F: for<'a> Fn(&'a mut Exchange) -> BoxFuture<'a, Result<Response<Body>, Problem>>
        + Send
        + Sync
        + 'static,
{
    Box::new(serve)
}

impl Route {
    /// Serves a call of one request and one answer.
    pub fn unary<Q, A, E, H, R>(table: &'static CallTable, handler: H) -> Arc<Self>
    where
        Q: Travels,
        A: Travels,
        E: Failure,
        H: Fn(Call, Q::Message) -> R + Send + Sync + 'static,
        R: Future<Output = Result<A::Message, E>> + Send + 'static,
    {
        let handler = Arc::new(handler);
        let serve = serving(move |x| {
            let handler = Arc::clone(&handler);
            Box::pin(async move {
                let media_type = media::content_type(&x.parts.headers);
                let encoding = media::preferred(
                    &x.parts.headers,
                    media::payload(&media_type),
                    media::of_payload,
                )
                .ok_or_else(|| Problem::own("not-acceptable", "answers are in CBOR or JSON"))?;
                let patience = x.patience();
                let until = tokio::time::Instant::now() + patience;
                let request = tokio::time::timeout_at(until, x.request::<Q>());
                let request = request.await.map_err(|_| too_slow("body"))??;
                let call = x.call_for_handler();
                let running = Caught(Box::pin(async move { handler(call, request).await }));
                match tokio::time::timeout_at(until, running).await {
                    Err(_) => Err(too_slow("call")),
                    Ok(Err(panic)) => Err(Problem::internal(panic)),
                    Ok(Ok(Err(failure))) => Err(x.problem_of(failure)),
                    Ok(Ok(Ok(answer))) => x.answer::<A>(&answer, encoding),
                }
            })
        });
        Arc::new(Self::new(table, [Q::PLACED, A::PLACED], serve))
    }

    /// Serves a call whose answer is a stream.
    pub fn send<Q, T, E, H, R>(table: &'static CallTable, handler: H) -> Arc<Self>
    where
        Q: Travels,
        T: Codec<Value = T> + Send + 'static,
        E: Failure,
        H: Fn(Call, Q::Message) -> R + Send + Sync + 'static,
        R: Future<Output = Result<BoxStream<Result<T, E>>, E>> + Send + 'static,
    {
        let handler = Arc::new(handler);
        let serve = serving(move |x| {
            let handler = Arc::clone(&handler);
            Box::pin(async move {
                let media_type = media::content_type(&x.parts.headers);
                let encoding = media::preferred(
                    &x.parts.headers,
                    media::payload(&media_type),
                    media::of_stream,
                )
                .ok_or_else(|| Problem::own("not-acceptable", "answers are in CBOR or JSON"))?;
                let request = tokio::time::timeout(x.patience(), x.request::<Q>());
                let request = request.await.map_err(|_| too_slow("body"))??;
                if x.parts.method == Method::HEAD {
                    return Ok(x.stream(encoding, Body::empty()));
                }
                let call = x.call_for_handler();
                let running = Caught(Box::pin(async move { handler(call, request).await }));
                let answer = match running.await {
                    Err(panic) => return Err(Problem::internal(panic)),
                    Ok(Err(failure)) => return Err(x.problem_of(failure)),
                    Ok(Ok(answer)) => answer,
                };
                let body = Body::pieces(Sending::new(x, encoding, answer));
                Ok(x.stream(encoding, body))
            })
        });
        Arc::new(Self::new(table, [Q::PLACED, &[]], serve))
    }

    /// Serves a call whose request is a stream, with what comes before it.
    pub fn receive<Q, T, A, E, H, R>(table: &'static CallTable, handler: H) -> Arc<Self>
    where
        Q: Travels,
        T: Codec<Value = T> + Send + 'static,
        A: Travels,
        E: Failure,
        H: Fn(Call, Q::Message, Elements<T>) -> R + Send + Sync + 'static,
        R: Future<Output = Result<A::Message, E>> + Send + 'static,
    {
        let handler = Arc::new(handler);
        let serve = serving(move |x| {
            let handler = Arc::clone(&handler);
            Box::pin(async move {
                let media_type = media::content_type(&x.parts.headers);
                let stream = media::stream(&media_type);
                let encoding = media::preferred(&x.parts.headers, stream, media::of_payload)
                    .ok_or_else(|| Problem::own("not-acceptable", "answers are in CBOR or JSON"))?;
                let Some(stream) = stream else {
                    return Err(Problem::own(
                        "unsupported-form",
                        format!("Content-Type is application/cbor-seq or application/json-seq, not \"{media_type}\""),
                    ));
                };
                let head = x.whole::<Q>(None)?;
                let elements = x.elements::<T>(stream);
                let call = x.call_for_handler();
                match Caught(Box::pin(async move { handler(call, head, elements).await })).await {
                    Err(panic) => Err(Problem::internal(panic)),
                    Ok(Err(failure)) => Err(x.problem_of(failure)),
                    Ok(Ok(answer)) => x.answer::<A>(&answer, encoding),
                }
            })
        });
        Arc::new(Self::new(table, [Q::PLACED, A::PLACED], serve))
    }

    fn new(table: &'static CallTable, placed: [&'static [Placed]; 2], serve: Serve) -> Self {
        let mut vary = vec!["Accept".to_owned()];
        let mut add = |name: &str| {
            let taken = ["if-match", "if-none-match"]
                .iter()
                .any(|n| n.eq_ignore_ascii_case(name));
            if !taken && !vary.iter().any(|known| known.eq_ignore_ascii_case(name)) {
                vary.push(name.to_owned());
            }
        };
        let mut private = false;
        for credential in table.needs.iter().flat_map(|all| all.iter()) {
            private = true;
            match credential.kind {
                CredentialKind::Header(name) => add(name),
                CredentialKind::Cookie(_) => add("Cookie"),
                CredentialKind::Bearer | CredentialKind::Basic => add("Authorization"),
                CredentialKind::Query(_) => {}
            }
        }
        for p in placed[0] {
            match p.place {
                Place::Header => add(p.parameter),
                Place::Cookie => {
                    private = true;
                    add("Cookie");
                }
                Place::Path | Place::Query => {}
            }
        }
        Self {
            table,
            placed,
            serve,
            vary: vary.join(", "),
            private,
        }
    }
}

impl std::fmt::Debug for Route {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Route({})", self.table.name)
    }
}

/// Is what a mount is made of.
pub(super) struct Shared {
    pub(super) options: ServerOptions,
    pub(super) definitions: &'static Definitions,
    routes: Vec<Arc<Route>>,
    table: Routes,
    active: AtomicUsize,
    over: AtomicBool,
    pub(super) changed: watch::Sender<()>, // whenever a call ends, or the mount is over
}

impl Shared {
    /// Tells an error that the caller is not told.
    pub(super) fn report(&self, call: &str, error: &(dyn Error + 'static)) {
        match &self.options.on_error {
            Some(hook) => hook(call, error),
            None if log::log_enabled!(log::Level::Error) => {
                log::error!("the call {call} failed: {error}");
            }
            None => eprintln!("the call {call} failed: {error}"),
        }
    }

    pub(super) fn is_over(&self) -> bool {
        self.over.load(Ordering::SeqCst)
    }
}

/// Is a call that is active, until it is dropped.
pub(super) struct Active(Arc<Shared>);

impl Active {
    fn enter(shared: &Arc<Shared>) -> Option<Self> {
        let now = shared.active.fetch_add(1, Ordering::SeqCst) + 1;
        let active = Self(Arc::clone(shared));
        (now <= shared.options.call_limit).then_some(active)
    }
}

impl Drop for Active {
    fn drop(&mut self) {
        self.0.active.fetch_sub(1, Ordering::SeqCst);
        self.0.changed.send_replace(());
    }
}

/// Serves the calls of one or more services, and speaks for all of them below "/-/". It is a service of the crate `tower`,
/// so that `axum` mounts it, and layers go around it.
#[derive(Clone)]
pub struct Mount(Arc<Shared>);

impl Mount {
    /// Makes a mount of calls.
    #[doc(hidden)]
    #[must_use]
    pub fn of(
        definitions: &'static Definitions,
        options: ServerOptions,
        routes: Vec<Arc<Route>>,
    ) -> Self {
        let table = Routes::of(routes.iter().map(|route| route.table));
        let (active, over, changed) = (
            AtomicUsize::new(0),
            AtomicBool::new(false),
            watch::channel(()).0,
        );
        Self(Arc::new(Shared {
            options,
            definitions,
            routes,
            table,
            active,
            over,
            changed,
        }))
    }

    /// Serves the calls of another mount too, with the options of this one.
    #[must_use]
    pub fn and(self, other: impl Into<Mount>) -> Self {
        let mut routes = self.0.routes.clone();
        routes.extend(other.into().0.routes.iter().cloned());
        Self::of(self.0.definitions, self.0.options.clone(), routes)
    }

    /// Ends the mount's work: "/-/state" answers 503, requests that come are refused with 503, streams end with a problem,
    /// and other calls are finished. Call it before the server is stopped; it returns when all calls are done.
    pub async fn shutdown(&self) {
        let mut changes = self.0.changed.subscribe();
        self.0.over.store(true, Ordering::SeqCst);
        self.0.changed.send_replace(());
        while self.0.active.load(Ordering::SeqCst) > 0 {
            if changes.changed().await.is_err() {
                return;
            }
        }
    }

    /// Answers one request.
    pub async fn answer<B>(&self, request: Request<B>) -> Response<Body>
    where
        B: HttpBody<Data = Bytes> + Send + 'static,
        B::Error: Into<BoxError>,
    {
        let (parts, body) = request.into_parts();
        let mut x = Exchange::new(Arc::clone(&self.0), parts, incoming(body));
        let mut response = match self.route(&mut x).await {
            Ok(response) => response,
            Err(problem) => x.refusal(&problem),
        };
        if let Ok(digest) = HeaderValue::from_str(self.0.definitions.digest) {
            response
                .headers_mut()
                .insert("faithful-definitions", digest);
        }
        response
    }

    async fn route(&self, x: &mut Exchange) -> Result<Response<Body>, Problem> {
        if let Some(response) = self.cross_origin(x) {
            return Ok(response);
        }
        let path = x.parts.uri.path().to_owned();
        let below = path
            .strip_prefix(&*self.0.options.base)
            .filter(|below| below.starts_with('/'));
        let Some(below) = below else {
            return Err(Problem::own(
                "unknown-call",
                format!("nothing is served at {path}"),
            ));
        };
        if let Some(page) = below.strip_prefix("/-/") {
            return self.own_page(x, page).await;
        }
        let (i, values) = match self.0.table.find(x.parts.method.as_str(), below) {
            Found::Call(i, values) => (i, values),
            Found::Others(methods) => return Self::no_call(x, &path, below, methods),
        };
        let Some(active) = Active::enter(&self.0) else {
            return Err(Problem::own("overloaded", "the server has too much to do"));
        };
        if self.0.is_over() {
            return Err(Problem::own("unavailable", "the server is shutting down"));
        }
        let route = Arc::clone(&self.0.routes[i]);
        x.call = route.table;
        x.values = values;
        x.active = Some(active);
        self.caching(x, &route);
        x.judge_origin(&route.placed)?;
        x.admit().await?;
        (route.serve)(x).await
    }

    /// Says in the headers of an answer what may be kept of it, unless the handler does.
    fn caching(&self, x: &mut Exchange, route: &Route) {
        let gzip = route.table.compressible && self.0.options.compression;
        let vary = if gzip {
            format!("{}, Accept-Encoding", route.vary)
        } else {
            route.vary.clone()
        };
        if let Ok(vary) = HeaderValue::from_str(&vary) {
            x.headers.append(header::VARY, vary);
        }
        let kept = if route.private {
            "private, no-store"
        } else {
            "no-store"
        };
        x.headers
            .insert(header::CACHE_CONTROL, HeaderValue::from_static(kept));
        if let Some(exposed) = x.headers.get_mut(header::ACCESS_CONTROL_EXPOSE_HEADERS) {
            let mut list = exposed.to_str().unwrap_or_default().to_owned();
            for p in route.placed[1].iter().filter(|p| p.place == Place::Header) {
                let _ = write!(list, ", {}", p.parameter);
            }
            if let Ok(list) = HeaderValue::from_str(&list) {
                *exposed = list;
            }
        }
    }

    fn no_call(
        x: &mut Exchange,
        path: &str,
        below: &str,
        mut methods: Vec<&'static str>,
    ) -> Result<Response<Body>, Problem> {
        if methods.is_empty() {
            return Err(Problem::own(
                "unknown-call",
                format!("no call has the path {path}"),
            ));
        }
        methods.sort_unstable();
        let called = methods.join(" or ");
        let mut allow = methods.clone();
        allow.push("OPTIONS");
        if methods.contains(&"GET") {
            allow.push("HEAD");
        }
        allow.sort_unstable();
        if let Ok(allow) = HeaderValue::from_str(&allow.join(", ")) {
            x.headers.insert(header::ALLOW, allow);
        }
        if x.parts.method == Method::OPTIONS {
            return Ok(x.response(204, Body::empty()));
        }
        let method = &x.parts.method;
        Err(Problem::own(
            "wrong-method",
            format!("{below} is called with {called}, not {method}"),
        ))
    }

    /// Lets browsers call from the origins that were given, with their cookies (Fetch standard, CORS protocol), and answers
    /// what they ask before they do.
    fn cross_origin(&self, x: &mut Exchange) -> Option<Response<Body>> {
        let origins = &self.0.options.origins;
        if origins.is_empty() {
            return None;
        }
        x.headers
            .append(header::VARY, HeaderValue::from_static("Origin"));
        let origin = x.parts.headers.get(header::ORIGIN)?.clone();
        if !origins.iter().any(|known| origin == known.as_str()) {
            return None;
        }
        x.headers
            .insert(header::ACCESS_CONTROL_ALLOW_ORIGIN, origin);
        x.headers.insert(
            header::ACCESS_CONTROL_ALLOW_CREDENTIALS,
            HeaderValue::from_static("true"),
        );
        x.headers.insert(
            header::ACCESS_CONTROL_EXPOSE_HEADERS,
            HeaderValue::from_static("Faithful-Definitions, Retry-After, WWW-Authenticate"),
        );
        let wanted = x
            .parts
            .headers
            .get(header::ACCESS_CONTROL_REQUEST_METHOD)?
            .clone();
        if x.parts.method != Method::OPTIONS {
            return None;
        }
        x.headers
            .insert(header::ACCESS_CONTROL_ALLOW_METHODS, wanted);
        if let Some(names) = x.parts.headers.get(header::ACCESS_CONTROL_REQUEST_HEADERS) {
            x.headers
                .insert(header::ACCESS_CONTROL_ALLOW_HEADERS, names.clone());
        }
        x.headers.insert(
            header::ACCESS_CONTROL_MAX_AGE,
            HeaderValue::from_static("600"),
        );
        Some(x.response(204, Body::empty()))
    }

    async fn own_page(&self, x: &mut Exchange, page: &str) -> Result<Response<Body>, Problem> {
        if !matches!(x.parts.method, Method::GET | Method::HEAD) {
            x.headers
                .insert(header::ALLOW, HeaderValue::from_static("GET, HEAD"));
            return Err(Problem::own(
                "wrong-method",
                "pages below /-/ are read with GET",
            ));
        }
        let open = !self.0.options.quiet;
        let mut status = 200;
        let answer = match page {
            "state" => {
                let check = self.0.options.serving.as_deref();
                let serving = !self.0.is_over() && check.map_or(true, |check| check());
                if !serving {
                    status = 503;
                }
                [("serving", Any::from(serving))].into_iter().collect()
            }
            "about" | "definitions" if open => {
                if self.0.options.guarded {
                    x.admit().await?;
                }
                self.described(page == "about")
            }
            _ => {
                let name = page.strip_prefix("errors/");
                let pages = COMMON.iter().chain(self.0.definitions.errors);
                let Some(page) = pages.into_iter().find(|page| Some(page.name) == name) else {
                    return Err(Problem::own(
                        "unknown-call",
                        format!("there is no page /-/{page}"),
                    ));
                };
                let status = Any::from(i32::from(page.status));
                [
                    ("name", page.name.into()),
                    ("status", status),
                    ("documentation", page.doc.into()),
                ]
                .into_iter()
                .collect()
            }
        };
        let json = crate::faithful::wire::to_json::<Any>(&answer).map_err(Problem::internal)?;
        x.headers.insert(
            header::CONTENT_TYPE,
            HeaderValue::from_static(media::of_payload(Encoding::Json)),
        );
        x.headers
            .insert(header::CONTENT_LENGTH, HeaderValue::from(json.len()));
        Ok(x.response(status, Body::whole(json)))
    }

    fn described(&self, is_about: bool) -> Any {
        let definitions = self.0.definitions;
        let mut calls: Vec<_> = self.0.routes.iter().map(|route| route.table).collect();
        calls.sort_by_key(|call| (call.path, call.method));
        let call = |call: &&CallTable| -> Any {
            let path = format!("{}{}", self.0.options.base, call.path);
            [
                ("call", call.name.into()),
                ("method", call.method.into()),
                ("path", Any::from(path)),
            ]
            .into_iter()
            .collect()
        };
        let module = |(name, text): &(&'static str, &'static str)| -> Any {
            [("name", Any::from(*name)), ("text", Any::from(*text))]
                .into_iter()
                .collect()
        };
        let last = if is_about {
            ("calls", Any::List(calls.iter().map(call).collect()))
        } else {
            (
                "modules",
                Any::List(definitions.modules.iter().map(module).collect()),
            )
        };
        let texts = [
            ("name", definitions.name),
            ("version", definitions.version),
            ("digest", definitions.digest),
        ];
        texts
            .into_iter()
            .map(|(name, text)| (name, Any::from(text)))
            .chain([last])
            .collect()
    }
}

impl std::fmt::Debug for Mount {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Mount({:?})", self.0.routes)
    }
}

impl<B> tower_service::Service<Request<B>> for Mount
where
    B: HttpBody<Data = Bytes> + Send + 'static,
    B::Error: Into<BoxError>,
{
    type Response = Response<Body>;
    type Error = Infallible;
    type Future = BoxFuture<'static, Result<Response<Body>, Infallible>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, request: Request<B>) -> Self::Future {
        let mount = self.clone();
        Box::pin(async move { Ok(mount.answer(request).await) })
    }
}

/// Serves a mount on a listener until `stop` is ready, and then finishes what goes on.
///
/// # Errors
///
/// The listener fails.
pub async fn serve(
    listener: tokio::net::TcpListener,
    mount: impl Into<Mount>,
    stop: impl Future<Output = ()>,
) -> std::io::Result<()> {
    use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
    use hyper_util::server::{conn::auto, graceful::GracefulShutdown};
    use hyper_util::service::TowerToHyperService;

    let mount = mount.into();
    let mut builder = auto::Builder::new(TokioExecutor::new());
    builder
        .http1()
        .timer(TokioTimer::new())
        .header_read_timeout(Duration::from_secs(30))
        .max_buf_size(64 << 10);
    builder
        .http2()
        .timer(TokioTimer::new())
        .max_header_list_size(64 << 10);
    let connections = GracefulShutdown::new();
    let mut stop = std::pin::pin!(stop);
    loop {
        let (stream, _) = tokio::select! {
            accepted = listener.accept() => match accepted {
                Ok(accepted) => accepted,
                Err(e) if is_of_one_connection(&e) => continue,
                Err(e) => return Err(e),
            },
            () = &mut stop => break,
        };
        let _ = stream.set_nodelay(true);
        let service = TowerToHyperService::new(mount.clone());
        let connection = builder
            .serve_connection_with_upgrades(TokioIo::new(stream), service)
            .into_owned();
        let connection = connections.watch(connection);
        tokio::spawn(async move {
            let _ = connection.await; // its caller has left
        });
    }
    drop(listener);
    mount.shutdown().await;
    connections.shutdown().await;
    Ok(())
}

fn is_of_one_connection(e: &std::io::Error) -> bool {
    use std::io::ErrorKind::{ConnectionAborted, ConnectionRefused, ConnectionReset};
    matches!(
        e.kind(),
        ConnectionRefused | ConnectionAborted | ConnectionReset
    )
}
