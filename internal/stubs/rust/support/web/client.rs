use std::sync::{Arc, PoisonError};
use std::time::Duration;

use futures_core::Stream;
use http::header::{self, HeaderMap, HeaderName, HeaderValue};
use http::{Request, Response, StatusCode};

use crate::faithful::wire::{encode_base64, Codec, Encoding, Invalid, Violation, BUDGET};

use super::answers::{Answers, Requests};
use super::body::{self, Body, BoxError, Unread};
use super::call::{needs_text, CallTable, Credential, CredentialKind, Failure};
use super::compression;
use super::errors::{BadUrl, CallError, MissingCredential, NoAnswer, NotUnderstood, Reason};
use super::exchange::header_values;
use super::media;
use super::options::BoxFuture;
use super::problem::{status_text, Problem, BLANK};
use super::stream::{Limits, Reader, Writer};
use super::transport::{Answer, HttpTransport, Transport, TransportError};
use super::travel::{locate, Arguments, Body as Payload, Parameters, Place, Placed, Travels};

/// Says how a client calls.
#[derive(Clone)]
pub struct ClientOptions {
    encoding: Encoding,
    headers: HeaderMap,
    credentials: Vec<(String, Source)>,
    timeout: Option<Duration>,
    tries: u32,
    answer_limit: usize,
    element_limit: usize,
    item_limit: usize,
    idle_timeout: Option<Duration>,
    compression: bool,
    transport: Option<Arc<dyn Transport>>,
    on_digest: Option<Arc<OnDigest>>,
}

/// After how much silence a stream of requests says that it lives.
const HEARTBEAT: Duration = Duration::from_secs(15);

/// Is as good as no limit.
const FOREVER: Duration = Duration::from_secs(1 << 31);

type OnDigest = dyn Fn(&str) + Send + Sync;
type Ask = dyn Fn() -> BoxFuture<'static, Result<String, BoxError>> + Send + Sync;

#[derive(Clone)]
enum Source {
    Value(String),
    Ask(Arc<Ask>),
}

impl Default for ClientOptions {
    fn default() -> Self {
        Self {
            encoding: Encoding::Cbor,
            headers: HeaderMap::new(),
            credentials: Vec::new(),
            timeout: Some(Duration::from_secs(60)),
            tries: 4,
            answer_limit: 4 << 20,
            element_limit: 1 << 20,
            item_limit: BUDGET,
            idle_timeout: Some(Duration::from_secs(60)),
            compression: false,
            transport: None,
            on_digest: None,
        }
    }
}

impl ClientOptions {
    /// Is how a client calls if nothing is said.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Sends and asks for JSON instead of CBOR.
    #[must_use]
    pub fn json(mut self) -> Self {
        self.encoding = Encoding::Json;
        self
    }

    /// Adds a header to every request.
    #[must_use]
    pub fn header(mut self, name: HeaderName, value: HeaderValue) -> Self {
        self.headers.append(name, value);
        self
    }

    /// Gives the value of a credential, by its name with or without its module; that of a basic one is "user:password".
    #[must_use]
    pub fn credential(self, name: &str, value: impl Into<String>) -> Self {
        self.with_credential(name, Source::Value(value.into()))
    }

    /// Is [`credential`](Self::credential) for a value that is asked for on every call. A call whose time is over does not
    /// wait for it any more.
    #[must_use]
    pub fn credential_from<F>(self, name: &str, ask: F) -> Self
    where
        F: Fn() -> BoxFuture<'static, Result<String, BoxError>> + Send + Sync + 'static,
    {
        self.with_credential(name, Source::Ask(Arc::new(ask)))
    }

    fn with_credential(mut self, name: &str, source: Source) -> Self {
        let last = |name: &str| name.rsplit('.').next().unwrap_or_default().to_owned();
        let same = |known: &str| {
            known == name
                || (last(known) == last(name) && !(known.contains('.') && name.contains('.')))
        };
        self.credentials.retain(|(known, _)| !same(known));
        self.credentials.push((name.to_owned(), source));
        self
    }

    /// Limits the time of each call and of everything that it waits for: credentials, tries and the pauses between them. It
    /// is 60 s if nothing is said; of a stream it limits the time until it begins.
    #[must_use]
    pub fn timeout(mut self, timeout: Duration) -> Self {
        self.timeout = Some(timeout);
        self
    }

    /// Lets calls take any time.
    #[must_use]
    pub fn without_timeout(mut self) -> Self {
        self.timeout = None;
        self
    }

    /// How often a call that is safe or idempotent is sent at most; 4 if nothing is said, and 1 never repeats.
    #[must_use]
    pub fn tries(mut self, tries: u32) -> Self {
        self.tries = tries;
        self
    }

    /// How large an answer may be, in bytes; 4 MiB if nothing is said.
    #[must_use]
    pub fn answer_limit(mut self, bytes: usize) -> Self {
        self.answer_limit = bytes;
        self
    }

    /// How many list items and entries an answer, or an element of one, may contain; 1,000,000 if nothing is said.
    #[must_use]
    pub fn item_limit(mut self, items: usize) -> Self {
        self.item_limit = items;
        self
    }

    /// How large an element of a stream may be, in bytes; 1 MiB if nothing is said.
    #[must_use]
    pub fn element_limit(mut self, bytes: usize) -> Self {
        self.element_limit = bytes;
        self
    }

    /// How long a stream may be silent; 60 s if nothing is said.
    #[must_use]
    pub fn idle_timeout(mut self, timeout: Duration) -> Self {
        self.idle_timeout = Some(timeout);
        self
    }

    /// Asks for answers in gzip, and sends bodies of more than 1 KiB so.
    #[must_use]
    pub fn compression(mut self) -> Self {
        self.compression = true;
        self
    }

    /// Sends requests in another way.
    #[must_use]
    pub fn transport(mut self, transport: impl Transport) -> Self {
        self.transport = Some(Arc::new(transport));
        self
    }

    /// Is called with the digest of a server's definitions when they are not the ones that the client was generated from.
    /// The call goes on all the same.
    #[must_use]
    pub fn on_digest(mut self, hook: impl Fn(&str) + Send + Sync + 'static) -> Self {
        self.on_digest = Some(Arc::new(hook));
        self
    }
}

impl std::fmt::Debug for ClientOptions {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let names: Vec<&str> = self.credentials.iter().map(|(name, _)| &**name).collect();
        write!(
            f,
            "ClientOptions({:?}, credentials {names:?})",
            self.encoding
        )
    }
}

/// Sends calls to one server.
#[derive(Clone)]
pub struct Client {
    base: Arc<str>,
    digest: &'static str,
    options: Arc<ClientOptions>,
    transport: Arc<dyn Transport>,
}

impl std::fmt::Debug for Client {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Client({})", self.base)
    }
}

impl Client {
    /// Makes a client of the server at a URL.
    pub fn new(base: &str, digest: &'static str, options: ClientOptions) -> Result<Self, BadUrl> {
        let url: http::Uri = base
            .trim_end_matches('/')
            .parse()
            .map_err(|_| BadUrl(base.to_owned()))?;
        let known = matches!(url.scheme_str(), Some("http" | "https"));
        if !known || url.host().unwrap_or_default().is_empty() || url.query().is_some() {
            return Err(BadUrl(base.to_owned()));
        }
        let transport = options
            .transport
            .clone()
            .unwrap_or_else(|| Arc::new(HttpTransport::new()));
        Ok(Self {
            base: base.trim_end_matches('/').into(),
            digest,
            options: Arc::new(options),
            transport,
        })
    }

    /// Is a client with other options, over the same connections.
    #[must_use]
    pub fn with(&self, change: impl FnOnce(ClientOptions) -> ClientOptions) -> Self {
        let options = change((*self.options).clone());
        let transport = options
            .transport
            .clone()
            .unwrap_or_else(|| Arc::clone(&self.transport));
        Self {
            options: Arc::new(options),
            transport,
            ..self.clone()
        }
    }

    /// Makes a call of one request and one answer.
    pub async fn unary<Q, A, E>(
        &self,
        call: &'static CallTable,
        request: &Q::Message,
    ) -> Result<A::Message, CallError<E>>
    where
        Q: Travels,
        A: Travels,
        E: Failure,
    {
        self.within(call, async {
            let outgoing = self.outgoing::<Q, E>(call, request).await?;
            let response = self.send(call, &outgoing).await?;
            let is_conditional = outgoing.headers.contains_key(header::IF_NONE_MATCH);
            let (parts, answer) = response.into_parts();
            let data = self.body(call, &parts, answer).await?;
            self.understand::<A, E>(call, &parts, &data, is_conditional)
        })
        .await
    }

    /// Makes a call whose answer is a stream.
    pub async fn stream<Q, T, E>(
        &self,
        call: &'static CallTable,
        request: &Q::Message,
    ) -> Result<Answers<T, E>, CallError<E>>
    where
        Q: Travels,
        T: Codec<Value = T>,
        E: Failure,
    {
        self.within(call, async {
            let mut outgoing = self.outgoing::<Q, E>(call, request).await?;
            let accept = HeaderValue::from_static(media::of_stream(self.options.encoding));
            outgoing.headers.insert(header::ACCEPT, accept);
            outgoing.headers.remove("prefer");
            let (parts, answer) = self.send(call, &outgoing).await?.into_parts();
            if !call.succeeds(parts.status.as_u16()) {
                let data = self.body(call, &parts, answer).await?;
                return Err(failure(
                    call,
                    &parts,
                    &media::content_type(&parts.headers),
                    &data,
                ));
            }
            let media_type = media::content_type(&parts.headers);
            let Some(encoding) = media::stream(&media_type) else {
                return Err(bad(
                    call,
                    parts.status,
                    format!("its type is \"{media_type}\""),
                ));
            };
            Ok(Answers::new(
                call,
                parts.status,
                Reader::new(answer.0, encoding, self.limits()),
            ))
        })
        .await
    }

    /// Makes a call whose request is a stream, with what comes before it.
    pub async fn send_stream<Q, T, A, E>(
        &self,
        call: &'static CallTable,
        head: &Q::Message,
        elements: impl Stream<Item = T> + Send + 'static,
    ) -> Result<A::Message, CallError<E>>
    where
        Q: Travels,
        T: Codec<Value = T> + Send + 'static,
        A: Travels,
        E: Failure,
    {
        let mut outgoing = self.outgoing::<Q, E>(call, head).await?;
        outgoing.headers.remove("prefer");
        let media_type = HeaderValue::from_static(media::of_stream(self.options.encoding));
        outgoing.headers.insert(header::CONTENT_TYPE, media_type);
        let writer = Writer::new(self.options.encoding, self.options.element_limit, HEARTBEAT);
        let refused = Arc::default();
        let body = Body::pieces(Requests::new(elements, writer, Arc::clone(&refused)));
        let request = outgoing
            .with(body)
            .map_err(|e| unsent(call, &e.to_string()))?;
        let answered = self.transport.send(request).await;
        if let Some(invalid) = refused
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .take()
        {
            return Err(CallError::Invalid(invalid));
        }
        let answered = answered.map_err(|e| {
            CallError::NoAnswer(NoAnswer {
                call: call.name,
                reason: e.reason,
                cause: e.cause,
            })
        })?;
        self.look_at_digest(&answered);
        let (parts, answer) = answered.into_parts();
        let data = self.body(call, &parts, answer).await?;
        self.understand::<A, E>(call, &parts, &data, false)
    }

    fn limits(&self) -> Limits {
        Limits {
            element: self.options.element_limit,
            items: self.options.item_limit,
            idle: self.options.idle_timeout.unwrap_or(FOREVER),
        }
    }

    /// Gives up what takes longer than a call may.
    async fn within<T, E>(
        &self,
        call: &'static CallTable,
        work: impl std::future::Future<Output = Result<T, CallError<E>>>,
    ) -> Result<T, CallError<E>> {
        let Some(timeout) = self.options.timeout else {
            return work.await;
        };
        if let Ok(result) = tokio::time::timeout(timeout, work).await {
            return result;
        }
        Err(CallError::NoAnswer(NoAnswer {
            call: call.name,
            reason: Reason::TimedOut,
            cause: format!("it took longer than {timeout:?}").into(),
        }))
    }

    async fn outgoing<Q: Travels, E>(
        &self,
        call: &'static CallTable,
        request: &Q::Message,
    ) -> Result<Outgoing, CallError<E>> {
        let mut parameters = Parameters::default();
        Q::place(request, &mut parameters);
        let mut violations = locate(Q::violations(request), Q::PLACED);
        violations.append(&mut parameters.violations);
        Invalid::unless_none(violations).map_err(CallError::Invalid)?;
        let encoding = self.options.encoding;
        let mut headers = self.options.headers.clone();
        let mut body = None;
        if Q::IN_BODY {
            let mut data = Vec::with_capacity(256);
            Q::append(request, encoding, &mut data).map_err(|e| {
                CallError::Invalid(Invalid(vec![Violation::new(e.path(), e.detail())]))
            })?;
            headers.insert(
                header::CONTENT_TYPE,
                HeaderValue::from_static(media::of_payload(encoding)),
            );
            if self.options.compression && data.len() > compression::FROM {
                data = compression::compressed(&data);
                headers.insert(header::CONTENT_ENCODING, HeaderValue::from_static("gzip"));
            }
            body = Some(bytes::Bytes::from(data));
        }
        headers.insert(
            header::ACCEPT,
            HeaderValue::from_static(media::of_payload(encoding)),
        );
        if self.options.compression {
            headers.insert(header::ACCEPT_ENCODING, HeaderValue::from_static("gzip"));
        }
        if let Some(timeout) = self.options.timeout {
            let seconds = (timeout.as_secs() + u64::from(timeout.subsec_nanos() > 0)).max(1);
            if let Ok(wait) = HeaderValue::from_str(&format!("wait={seconds}")) {
                headers.insert("prefer", wait);
            }
        }
        self.show(call, &mut headers, &mut parameters).await?;
        for (name, value) in &parameters.headers {
            headers.insert(name, value.clone());
        }
        if !parameters.cookies.is_empty() {
            let pairs: Vec<String> = parameters
                .cookies
                .iter()
                .map(|(name, value)| format!("{name}={value}"))
                .collect();
            if let Ok(value) = HeaderValue::from_str(&pairs.join("; ")) {
                headers.insert(header::COOKIE, value);
            }
        }
        let mut path = call.path.to_owned();
        for (name, value) in &parameters.path {
            path = path.replacen(&format!("{{{name}}}"), value, 1);
        }
        let query = if parameters.query.is_empty() {
            String::new()
        } else {
            format!("?{}", parameters.query)
        };
        let url = format!("{}{path}{query}", self.base);
        Ok(Outgoing {
            method: call.method,
            url,
            headers,
            body,
        })
    }

    /// Puts the first alternative of what a call needs that the client can fill into a request.
    async fn show<E>(
        &self,
        call: &'static CallTable,
        headers: &mut HeaderMap,
        parameters: &mut Parameters,
    ) -> Result<(), CallError<E>> {
        if call.needs.is_empty() {
            return Ok(());
        }
        for all in call.needs {
            let sources: Option<Vec<(&Credential, &Source)>> = all
                .iter()
                .map(|credential| self.source(credential).map(|source| (*credential, source)))
                .collect();
            for (credential, source) in match sources {
                Some(sources) => sources,
                None => continue,
            } {
                let value = match source {
                    Source::Value(value) => value.clone(),
                    Source::Ask(ask) => ask()
                        .await
                        .map_err(|e| unsent(call, &format!("{}: {e}", credential.name)))?,
                };
                put(credential, &value, headers, parameters).map_err(|_| {
                    unsent(
                        call,
                        &format!("{} has control characters in it", credential.name),
                    )
                })?;
            }
            return Ok(());
        }
        let mut given: Vec<String> = self
            .options
            .credentials
            .iter()
            .map(|(name, _)| name.clone())
            .collect();
        given.sort();
        let needs = needs_text(call.needs);
        Err(CallError::MissingCredential(MissingCredential {
            call: call.name,
            needs,
            given,
        }))
    }

    fn source(&self, credential: &Credential) -> Option<&Source> {
        self.options
            .credentials
            .iter()
            .find(|(name, _)| credential.is(name))
            .map(|(_, source)| source)
    }

    /// Sends a request until it is answered, as often as it may be repeated.
    async fn send<E>(
        &self,
        call: &'static CallTable,
        outgoing: &Outgoing,
    ) -> Result<Response<Answer>, CallError<E>> {
        let tries = if call.safe || call.idempotent {
            self.options.tries
        } else {
            1
        };
        let mut attempt = 1;
        loop {
            let request = outgoing
                .request()
                .map_err(|e| unsent(call, &e.to_string()))?;
            let result = self.transport.send(request).await;
            let pause = pause(&result, attempt);
            match pause {
                Some(pause)
                    if attempt < tries
                        && self.options.timeout.map_or(true, |timeout| pause < timeout) =>
                {
                    attempt += 1;
                    tokio::time::sleep(pause).await;
                }
                _ => {
                    let response = result.map_err(|e| {
                        CallError::NoAnswer(NoAnswer {
                            call: call.name,
                            reason: e.reason,
                            cause: e.cause,
                        })
                    })?;
                    self.look_at_digest(&response);
                    return Ok(response);
                }
            }
        }
    }

    fn look_at_digest(&self, response: &Response<Answer>) {
        let theirs = response
            .headers()
            .get("faithful-definitions")
            .and_then(|v| v.to_str().ok());
        if let (Some(hook), Some(theirs)) = (&self.options.on_digest, theirs) {
            if theirs != self.digest {
                hook(theirs);
            }
        }
    }

    /// Reads the whole body of an answer, without its content coding.
    async fn body<E>(
        &self,
        call: &'static CallTable,
        parts: &http::response::Parts,
        answer: Answer,
    ) -> Result<Vec<u8>, CallError<E>> {
        let limit = self.options.answer_limit;
        let mut incoming = answer.0;
        let data = match body::whole(&mut incoming, limit).await {
            Ok(data) => data.to_vec(),
            Err(Unread::TooLarge) => {
                return Err(bad(
                    call,
                    parts.status,
                    format!("it is larger than {limit} bytes"),
                ))
            }
            Err(Unread::Broken(cause)) => return Err(lost(call, cause)),
        };
        let coding = parts
            .headers
            .get(header::CONTENT_ENCODING)
            .map(|v| v.to_str().unwrap_or("?").to_owned());
        match coding.filter(|coding| !coding.eq_ignore_ascii_case("identity")) {
            None => Ok(data),
            Some(coding) if media::is_gzip(&coding) => match compression::expanded(&data, limit) {
                Some(data) if data.len() <= limit => Ok(data),
                Some(_) => Err(bad(
                    call,
                    parts.status,
                    format!("it is larger than {limit} bytes"),
                )),
                None => Err(bad(call, parts.status, "it is not whole gzip")),
            },
            Some(coding) => Err(bad(
                call,
                parts.status,
                format!("its content coding is \"{coding}\""),
            )),
        }
    }

    /// Makes an answer, or an error, of an answer's body.
    fn understand<A: Travels, E: Failure>(
        &self,
        call: &'static CallTable,
        parts: &http::response::Parts,
        data: &[u8],
        is_conditional: bool,
    ) -> Result<A::Message, CallError<E>> {
        let status = parts.status;
        let media_type = media::content_type(&parts.headers);
        if status == StatusCode::NOT_MODIFIED && is_conditional {
            let tag = parts
                .headers
                .get(header::ETAG)
                .and_then(|v| v.to_str().ok())
                .unwrap_or_default();
            return Err(CallError::NotModified(tag.to_owned()));
        }
        if !call.succeeds(status.as_u16()) {
            return Err(failure(call, parts, &media_type, data));
        }
        let encoding = media::payload(&media_type);
        let payload = if A::IN_BODY && (A::PLACED.is_empty() || !data.is_empty()) {
            match encoding {
                Some(encoding) => Some(Payload {
                    data,
                    encoding,
                    budget: self.options.item_limit,
                }),
                None if media_type.is_empty() && data.is_empty() => {
                    return Err(bad(call, status, "it has no body"))
                }
                None => return Err(bad(call, status, format!("its type is \"{media_type}\""))),
            }
        } else {
            None
        };
        let mut find = |placed: &Placed| received(&parts.headers, placed);
        let mut arguments = Arguments::new(&mut find);
        let read = A::read(payload, &mut arguments);
        if let Some(v) = arguments.violations.first() {
            return Err(bad(
                call,
                status,
                format!("{} in its {} {}", v.pointer, v.place, v.detail),
            ));
        }
        match read {
            Ok(Some(message)) => Ok(message),
            Ok(None) => Err(bad(call, status, "a part of it is missing")),
            Err(e) => Err(bad(call, status, e)),
        }
    }
}

/// Is where what travels outside of an answer's body is found.
fn received(headers: &HeaderMap, placed: &Placed) -> Vec<String> {
    if placed.place != Place::Cookie {
        return header_values(headers, placed);
    }
    let set = headers
        .get_all(header::SET_COOKIE)
        .iter()
        .filter_map(|v| v.to_str().ok());
    let pair = |line: &str| {
        let (name, value) = line.split(';').next()?.trim().split_once('=')?;
        (name == placed.parameter).then(|| value.to_owned())
    };
    set.filter_map(pair).next_back().into_iter().collect() // the last one set is the one that is kept
}

/// Is a request that may be sent more than once.
struct Outgoing {
    method: &'static str,
    url: String,
    headers: HeaderMap,
    body: Option<bytes::Bytes>,
}

impl Outgoing {
    fn request(&self) -> Result<Request<Body>, http::Error> {
        self.with(self.body.clone().map_or_else(Body::empty, Body::whole))
    }

    fn with(&self, body: Body) -> Result<Request<Body>, http::Error> {
        let mut request = Request::builder()
            .method(self.method)
            .uri(&*self.url)
            .body(body)?;
        *request.headers_mut() = self.headers.clone();
        Ok(request)
    }
}

fn put(
    credential: &Credential,
    value: &str,
    headers: &mut HeaderMap,
    parameters: &mut Parameters,
) -> Result<(), http::Error> {
    let authorization =
        |scheme: &str, value: &str| HeaderValue::from_str(&format!("{scheme} {value}"));
    match credential.kind {
        CredentialKind::Header(name) => {
            headers.insert(
                HeaderName::from_bytes(name.as_bytes())?,
                HeaderValue::from_str(value)?,
            );
        }
        CredentialKind::Query(name) => parameters.add_query(name, value),
        CredentialKind::Cookie(name) => {
            HeaderValue::from_str(value)?;
            parameters.cookies.push((name.to_owned(), value.to_owned()));
        }
        CredentialKind::Basic => {
            headers.insert(
                header::AUTHORIZATION,
                authorization("Basic", &encode_base64(value.as_bytes()))?,
            );
        }
        CredentialKind::Bearer => {
            headers.insert(header::AUTHORIZATION, authorization("Bearer", value)?);
        }
    }
    Ok(())
}

/// Says that a call could not be sent.
fn unsent<E>(call: &'static CallTable, why: &str) -> CallError<E> {
    CallError::NoAnswer(NoAnswer {
        call: call.name,
        reason: Reason::Refused,
        cause: format!("nothing was sent: {why}").into(),
    })
}

/// Says that the connection of a call broke.
pub(super) fn lost<E>(call: &'static CallTable, cause: BoxError) -> CallError<E> {
    CallError::NoAnswer(NoAnswer {
        call: call.name,
        reason: Reason::Lost,
        cause,
    })
}

/// Says that an answer is not understood.
pub(super) fn bad<E>(
    call: &'static CallTable,
    status: StatusCode,
    cause: impl Into<BoxError>,
) -> CallError<E> {
    CallError::NotUnderstood(NotUnderstood {
        call: call.name,
        status: status.as_u16(),
        cause: cause.into(),
    })
}

/// Is how long to wait before a call is sent again after what came of it, if it may be: exponential, with full jitter, or
/// what Retry-After says.
fn pause(result: &Result<Response<Answer>, TransportError>, attempt: u32) -> Option<Duration> {
    let most = 100_000 << attempt.min(6); // microseconds
    let wait = Duration::from_micros(random() % most);
    let response = match result {
        Err(e) => return e.is_early.then_some(wait),
        Ok(response) => response,
    };
    if !matches!(response.status().as_u16(), 429 | 502 | 503 | 504) {
        return None;
    }
    let after = response
        .headers()
        .get(header::RETRY_AFTER)
        .and_then(|v| v.to_str().ok())
        .unwrap_or_default();
    match after.parse() {
        Ok(seconds) => Some(Duration::from_secs(seconds)),
        Err(_) => Some(wait),
    }
}

/// Is a number that nobody needs to guess: the standard library seeds each of these at random.
fn random() -> u64 {
    use std::hash::{BuildHasher, Hasher};
    std::collections::hash_map::RandomState::new()
        .build_hasher()
        .finish()
}

/// Turns an answer that is not a success into an error.
fn failure<E: Failure>(
    call: &'static CallTable,
    parts: &http::response::Parts,
    media_type: &str,
    data: &[u8],
) -> CallError<E> {
    let status = parts.status;
    if media_type != media::PROBLEM {
        if status.as_u16() < 400 {
            return bad(call, status, "it is not problem details");
        }
        let status = status.as_u16();
        let title = status_text(status).to_owned();
        let type_ = BLANK.to_owned();
        return CallError::Problem(Box::new(Problem {
            type_,
            title,
            status,
            detail: beginning(data),
            ..Problem::default()
        }));
    }
    let mut problem = match Problem::from_json(data) {
        Ok(problem) => problem,
        Err(e) => return bad(call, status, e),
    };
    if problem.status == 0 {
        problem.status = status.as_u16();
    }
    let after = parts
        .headers
        .get(header::RETRY_AFTER)
        .and_then(|v| v.to_str().ok())
        .and_then(|v| v.parse().ok());
    problem.retry_after = after.map(Duration::from_secs);
    typed(call, status, problem)
}

/// Is the error that a call declares where a problem is one.
pub(super) fn typed<E: Failure>(
    call: &'static CallTable,
    status: StatusCode,
    problem: Problem,
) -> CallError<E> {
    match E::read(problem.name(), problem.fields.as_deref().unwrap_or(b"{}")) {
        Some(Ok(declared)) => CallError::Declared(declared),
        Some(Err(e)) => bad(call, status, e),
        None => CallError::Problem(Box::new(problem)),
    }
}

/// Is how a text begins that somebody else wrote.
fn beginning(data: &[u8]) -> String {
    const MOST: usize = 200;
    let text = String::from_utf8_lossy(&data[..data.len().min(4 * MOST)]);
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    match text.char_indices().nth(MOST) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text,
    }
}
