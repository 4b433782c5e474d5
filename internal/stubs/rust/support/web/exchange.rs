use std::any::Any;
use std::error::Error;
use std::fmt;
use std::future::Future;
use std::panic::{catch_unwind, AssertUnwindSafe};
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::task::{Context, Poll};
use std::time::Duration;

use http::header::{self, HeaderMap, HeaderName, HeaderValue};
use http::request::Parts;
use http::{Extensions, Method, Response};

use crate::faithful::wire::{Codec, Encoding, ReadError, Violation};

use super::body::{self, Body, Incoming, Unread};
use super::call::{needs_text, CallTable, CredentialKind, Declared, Failure};
use super::compression;
use super::conditional;
use super::credentials::{self, Shown};
use super::elements::Elements;
use super::escapes;
use super::media;
use super::problem::Problem;
use super::routes::Values;
use super::server::{Active, Shared};
use super::stream::{Limits, Reader};
use super::travel::{locate, Arguments, Body as Payload, Parameters, Place, Placed, Travels};

/// Is a call as its handler sees it.
pub struct Call {
    name: &'static str,
    headers: HeaderMap,
    extensions: Extensions,
    shown: Shown,
    answer: Arc<Mutex<HeaderMap>>,
}

impl Call {
    /// Its full name: module, service and call.
    #[must_use]
    pub fn name(&self) -> &'static str {
        self.name
    }

    /// The headers of its request.
    #[must_use]
    pub fn headers(&self) -> &HeaderMap {
        &self.headers
    }

    /// What the server, layers around it and the authorizer know of the request.
    #[must_use]
    pub fn extensions(&self) -> &Extensions {
        &self.extensions
    }

    /// Where an authorizer puts what it found, for handlers.
    pub fn extensions_mut(&mut self) -> &mut Extensions {
        &mut self.extensions
    }

    /// The value of a credential, by its name with or without its module; of a basic one "user:password".
    #[must_use]
    pub fn credential(&self, name: &str) -> Option<&str> {
        self.shown
            .iter()
            .find(|(credential, _)| credential.is(name))
            .map(|(_, value)| &**value)
    }

    /// The trace that the caller is in (W3C Trace Context): traceparent and tracestate.
    #[must_use]
    pub fn trace(&self) -> Option<(&str, &str)> {
        let text = |name| self.headers.get(name).and_then(|v| v.to_str().ok());
        text("traceparent").map(|parent| (parent, text("tracestate").unwrap_or_default()))
    }

    /// The headers of its answer, to add to until it begins.
    pub fn answer_headers(&self) -> MutexGuard<'_, HeaderMap> {
        self.answer.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl fmt::Debug for Call {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Call({})", self.name)
    }
}

/// Is one request while it is answered.
pub(super) struct Exchange {
    pub(super) mount: Arc<Shared>,
    pub(super) parts: Parts,
    pub(super) body: Option<Incoming>,
    pub(super) headers: HeaderMap, // of the answer
    pub(super) call: &'static CallTable,
    pub(super) values: Values,
    pub(super) active: Option<Active>,
    query: Option<(Vec<(String, String)>, bool)>,
    shown: Shown,
    extensions: Extensions,
    answer_headers: Arc<Mutex<HeaderMap>>,
}

/// Is what a request is before its call is known.
static NO_CALL: CallTable = CallTable {
    name: "",
    method: "GET",
    path: "",
    status: 0,
    safe: true,
    idempotent: true,
    needs: &[],
    request_stream: false,
    answer_stream: false,
    compressible: false,
};

impl Exchange {
    pub(super) fn new(mount: Arc<Shared>, parts: Parts, body: Incoming) -> Self {
        Self {
            mount,
            parts,
            body: Some(body),
            headers: HeaderMap::new(),
            call: &NO_CALL,
            values: Vec::new(),
            active: None,
            query: None,
            shown: Vec::new(),
            extensions: Extensions::new(),
            answer_headers: Arc::default(),
        }
    }

    fn queries(&mut self) -> &[(String, String)] {
        let raw = self.parts.uri.query().unwrap_or_default();
        &self.query.get_or_insert_with(|| escapes::pairs(raw)).0
    }

    /// Refuses calls that a page of another site made a browser send with what it keeps for this one: cookies, and names and
    /// passwords (Fetch standard; Fetch Metadata).
    pub(super) fn judge_origin(&self, placed: &[&[Placed]]) -> Result<(), Problem> {
        let in_cookies = placed
            .iter()
            .any(|list| list.iter().any(|p| p.place == Place::Cookie));
        let kept = in_cookies
            || self
                .call
                .needs
                .iter()
                .flat_map(|all| all.iter())
                .any(|c| match c.kind {
                    CredentialKind::Cookie(_) => true,
                    CredentialKind::Basic => credentials::basic(&self.parts.headers).is_some(),
                    _ => false,
                });
        if !kept {
            return Ok(());
        }
        let headers = &self.parts.headers;
        let text = |name: &str| {
            headers
                .get(name)
                .and_then(|v| v.to_str().ok())
                .unwrap_or_default()
        };
        let mut origins = headers.get_all(header::ORIGIN).iter();
        let allowed = match (origins.next(), origins.next()) {
            (Some(origin), None) => self.allows(origin),
            (Some(_), Some(_)) => false,
            (None, _) => {
                let asks = matches!(self.parts.method, Method::GET | Method::HEAD);
                let follows = asks && text("sec-fetch-mode") == "navigate"; // somebody follows a link
                follows || text("sec-fetch-site") != "cross-site"
            }
        };
        if allowed {
            Ok(())
        } else {
            Err(Problem::own(
                "forbidden",
                "a page of another site may not make this call",
            ))
        }
    }

    fn allows(&self, origin: &HeaderValue) -> bool {
        let headers = &self.parts.headers;
        let Ok(origin) = origin.to_str() else {
            return false;
        };
        if self.mount.options.origins.iter().any(|o| o == origin)
            || headers
                .get("sec-fetch-site")
                .is_some_and(|v| v == "same-origin")
        {
            return true;
        }
        let host = origin
            .strip_prefix("http://")
            .or_else(|| origin.strip_prefix("https://"));
        let own = headers.get(header::HOST).and_then(|v| v.to_str().ok());
        let own = own.or_else(|| self.parts.uri.authority().map(http::uri::Authority::as_str));
        matches!((host, own), (Some(host), Some(own)) if !host.is_empty() && host.eq_ignore_ascii_case(own))
    }

    /// Looks at credentials: that they are there, and what the authorizer says.
    pub(super) async fn admit(&mut self) -> Result<(), Problem> {
        let authorizer = self.mount.options.authorizer.clone();
        if self.call.needs.is_empty() && authorizer.is_none() {
            self.extensions = std::mem::take(&mut self.parts.extensions);
            return Ok(());
        }
        self.queries();
        let query = self.query.as_ref().map_or(&[][..], |(pairs, _)| pairs);
        let (shown, enough) = credentials::found(self.call, &self.parts.headers, query);
        if !enough {
            self.challenge();
            return Err(Problem::own(
                "unauthenticated",
                format!("the call needs {}", needs_text(self.call.needs)),
            ));
        }
        self.shown = shown;
        self.extensions = std::mem::take(&mut self.parts.extensions);
        let Some(authorizer) = authorizer else {
            return Ok(());
        };
        let mut call = self.call_for_handler();
        let judged = Caught(authorizer(&mut call)).await;
        self.extensions = std::mem::take(&mut call.extensions);
        let problem = match judged {
            Ok(Ok(())) => return Ok(()),
            Ok(Err(problem)) => problem,
            Err(panic) => Problem::internal(panic),
        };
        if problem.own.is_some_and(|page| page.status == 401) {
            self.challenge();
        }
        Err(problem)
    }

    fn challenge(&mut self) {
        for challenge in credentials::challenges(self.call) {
            self.headers.append(header::WWW_AUTHENTICATE, challenge);
        }
    }

    /// Is the call as its handler sees it.
    pub(super) fn call_for_handler(&mut self) -> Call {
        Call {
            name: self.call.name,
            headers: self.parts.headers.clone(),
            extensions: std::mem::take(&mut self.extensions),
            shown: self.shown.clone(),
            answer: Arc::clone(&self.answer_headers),
        }
    }

    /// How long the handler may take: as long as the client says that it waits (RFC 7240, section 4.3), and no longer than
    /// the server allows.
    pub(super) fn patience(&self) -> Duration {
        let most = self.mount.options.handler_timeout;
        let prefer = self
            .parts
            .headers
            .get_all("prefer")
            .iter()
            .filter_map(|v| v.to_str().ok());
        let seconds = prefer
            .flat_map(|line| line.split(','))
            .find_map(|preference| {
                preference
                    .trim()
                    .strip_prefix("wait=")
                    .and_then(|n| n.parse::<u32>().ok())
            });
        match seconds {
            Some(n) if n > 0 => most.min(Duration::from_secs(u64::from(n))),
            _ => most,
        }
    }

    /// Reads the request, from wherever its fields travel.
    pub(super) async fn request<Q: Travels>(&mut self) -> Result<Q::Message, Problem> {
        if !Q::IS_MESSAGE {
            // Any body is dropped, but for a stream: who sends one means another call.
            let media_type = media::content_type(&self.parts.headers);
            if media::stream(&media_type).is_some() {
                return Err(Problem::own(
                    "unsupported-form",
                    format!("the call takes no request, and no stream: Content-Type is not \"{media_type}\""),
                ));
            }
        }
        let body = if Q::IN_BODY {
            Some(self.payload().await?)
        } else {
            None
        };
        self.whole::<Q>(body.as_ref().map(|(encoding, data)| (*encoding, &**data)))
    }

    /// Makes a message of a body and of what came outside of it, and looks at what the definitions say of it.
    pub(super) fn whole<Q: Travels>(
        &mut self,
        body: Option<(Encoding, &[u8])>,
    ) -> Result<Q::Message, Problem> {
        let budget = self.mount.options.item_limit;
        let payload = body.map(|(encoding, data)| Payload {
            data,
            encoding,
            budget,
        });
        if !Q::PLACED.is_empty() {
            self.queries();
        }
        let mut find = |placed: &Placed| self.arrived(placed);
        let mut arguments = Arguments::new(&mut find);
        let read = Q::read(payload, &mut arguments);
        let mut violations = std::mem::take(&mut arguments.violations);
        if self.query.as_ref().is_some_and(|(_, odd)| *odd)
            && Q::PLACED.iter().any(|p| p.place == Place::Query)
        {
            let mut odd = Violation::new(
                "",
                "must be pairs that are percent-encoded as they should be",
            );
            odd.place = "query";
            violations.push(odd);
        }
        if !violations.is_empty() {
            return Err(Problem::violated(violations));
        }
        let message = match read {
            Ok(Some(message)) => message,
            Ok(None) => return Err(Problem::violated(violations)),
            Err(e) => return Err(unreadable(&e)),
        };
        let mut violations = Q::violations(&message);
        if self.mount.options.allow_unlisted {
            violations.retain(|violation| !violation.unlisted);
        }
        if violations.is_empty() {
            Ok(message)
        } else {
            Err(Problem::violated(locate(violations, Q::PLACED)))
        }
    }

    /// Is where what travels outside of a request's body is found.
    fn arrived(&self, placed: &Placed) -> Vec<String> {
        match placed.place {
            Place::Path => {
                let value = self
                    .values
                    .iter()
                    .find(|(name, _)| *name == placed.parameter);
                value.map(|(_, value)| value.clone()).into_iter().collect()
            }
            Place::Query => {
                let pairs = self.query.as_ref().map_or(&[][..], |(pairs, _)| pairs);
                pairs
                    .iter()
                    .filter(|(name, _)| name == placed.parameter)
                    .map(|(_, value)| value.clone())
                    .collect()
            }
            Place::Cookie => credentials::cookie(&self.parts.headers, placed.parameter)
                .into_iter()
                .collect(),
            Place::Header => {
                let mut values = header_values(&self.parts.headers, placed);
                if ["if-match", "if-none-match"]
                    .iter()
                    .any(|name| name.eq_ignore_ascii_case(placed.parameter))
                {
                    for value in &mut values {
                        *value = conditional::without_encodings(value);
                    }
                }
                values
            }
        }
    }

    /// Reads the body, without its content coding.
    async fn payload(&mut self) -> Result<(Encoding, Vec<u8>), Problem> {
        let limit = self.mount.options.body_limit;
        let too_large = || {
            Problem::own(
                "too-large",
                format!("the body is larger than {limit} bytes"),
            )
        };
        let coding = self
            .parts
            .headers
            .get(header::CONTENT_ENCODING)
            .map(|v| v.to_str().unwrap_or("?").to_owned());
        let coding = coding.filter(|coding| !coding.eq_ignore_ascii_case("identity"));
        if let Some(coding) = coding.as_ref().filter(|coding| !media::is_gzip(coding)) {
            self.headers
                .insert(header::ACCEPT_ENCODING, HeaderValue::from_static("gzip")); // RFC 9110, section 12.5.3
            return Err(Problem::own(
                "unsupported-form",
                format!("the content coding \"{coding}\" is not read"),
            ));
        }
        let media_type = media::content_type(&self.parts.headers);
        let encoding = media::payload(&media_type);
        let mut incoming = self.body.take();
        let is_empty = incoming
            .as_ref()
            .map_or(true, http_body::Body::is_end_stream);
        if encoding.is_none() && !(media_type.is_empty() && is_empty) {
            self.body = incoming;
            return Err(Problem::own(
                "unsupported-form",
                format!(
                    "Content-Type is application/cbor or application/json, not \"{media_type}\""
                ),
            ));
        }
        let read = match &mut incoming {
            Some(incoming) => body::whole(incoming, limit).await,
            None => Ok(bytes::Bytes::new()),
        };
        let mut data = match read {
            Ok(data) => data.to_vec(),
            Err(why) => {
                self.body = incoming;
                return Err(match why {
                    Unread::TooLarge => too_large(),
                    Unread::Broken(_) => {
                        Problem::own("invalid-request", "the body ended too early")
                    }
                });
            }
        };
        if coding.is_some() {
            data = compression::expanded(&data, limit).ok_or_else(|| {
                Problem::own(
                    "invalid-request",
                    "the body can't be read: it is not whole gzip",
                )
            })?;
            if data.len() > limit {
                return Err(too_large());
            }
        }
        // No type and no body: nothing was set.
        Ok(encoding.map_or_else(
            || (Encoding::Json, b"{}".to_vec()),
            |encoding| (encoding, data),
        ))
    }

    /// Is the request as it comes.
    pub(super) fn elements<T: Codec<Value = T>>(&mut self, encoding: Encoding) -> Elements<T> {
        let options = &self.mount.options;
        let limits = Limits {
            element: options.element_limit,
            items: options.item_limit,
            idle: options.idle_timeout,
        };
        let body = self
            .body
            .take()
            .unwrap_or_else(|| body::incoming(Body::empty()));
        Elements::new(Reader::new(body, encoding, limits), options.allow_unlisted)
    }

    /// Is an answer that is a stream.
    pub(super) fn stream(&mut self, encoding: Encoding, body: Body) -> Response<Body> {
        self.take_answer_headers();
        self.headers.insert(
            header::CONTENT_TYPE,
            HeaderValue::from_static(media::of_stream(encoding)),
        );
        self.response(200, body)
    }

    /// Is an answer that is not a stream.
    pub(super) fn answer<A: Travels>(
        &mut self,
        message: &A::Message,
        encoding: Encoding,
    ) -> Result<Response<Body>, Problem> {
        let status = match self.call.status {
            0 if A::IS_MESSAGE => 200,
            0 => 204,
            status => status,
        };
        let unwritable =
            |detail: String| Problem::internal(format!("an answer that can't be sent: {detail}"));
        let mut data = Vec::with_capacity(256);
        let mut in_body = A::IN_BODY;
        if in_body {
            A::append(message, encoding, &mut data).map_err(|e| unwritable(e.to_string()))?;
        }
        if is_bodiless(status) && in_body {
            if !A::is_blank(message) {
                return Err(unwritable(format!(
                    "the status {status} has no body, and the answer sets a field that would be in it"
                )));
            }
            in_body = false;
            data.clear();
        }
        self.take_answer_headers();
        let gzipped = in_body && self.compresses(data.len());
        if !A::PLACED.is_empty() {
            let mut parameters = Parameters::default();
            A::place(message, &mut parameters);
            if let Some(violation) = parameters.violations.first() {
                return Err(unwritable(violation.to_string()));
            }
            if self
                .outside(parameters, status, in_body.then_some(encoding), gzipped)
                .map_err(unwritable)?
            {
                return Ok(self.response(304, Body::empty()));
            }
        }
        if in_body {
            let media_type = HeaderValue::from_static(media::of_payload(encoding));
            self.headers.insert(header::CONTENT_TYPE, media_type);
        }
        if gzipped {
            data = compression::compressed(&data);
            self.headers
                .insert(header::CONTENT_ENCODING, HeaderValue::from_static("gzip"));
        }
        if !is_bodiless(status) {
            self.headers
                .insert(header::CONTENT_LENGTH, HeaderValue::from(data.len()));
        }
        Ok(self.response(status, Body::whole(data)))
    }

    pub(super) fn take_answer_headers(&mut self) {
        let own = std::mem::take(
            &mut *self
                .answer_headers
                .lock()
                .unwrap_or_else(PoisonError::into_inner),
        );
        let mut last: Option<HeaderName> = None;
        for (name, value) in own {
            last = name.or(last);
            if let Some(name) = &last {
                self.headers.append(name, value);
            }
        }
    }

    fn compresses(&self, length: usize) -> bool {
        self.call.compressible
            && self.mount.options.compression
            && length > compression::FROM
            && !self.headers.contains_key(header::SET_COOKIE)
            && media::takes_gzip(&self.parts.headers)
    }

    /// Puts what of an answer travels outside of its body where it does. True tells that the client has the answer already,
    /// and is told so alone.
    fn outside(
        &mut self,
        parameters: Parameters,
        status: u16,
        in_body: Option<Encoding>,
        gzipped: bool,
    ) -> Result<bool, String> {
        let mut headers = parameters.headers;
        if let Some(control) = headers.remove(header::CACHE_CONTROL) {
            self.headers.insert(header::CACHE_CONTROL, control);
        }
        if let Some(tag) = headers.remove(header::ETAG) {
            let mut tag = tag.to_str().unwrap_or_default().to_owned();
            if !conditional::is_tag(&tag) {
                return Err(format!(
                    "the header \"ETag\" is an entity-tag with its quotes (RFC 9110, section 8.8.3), not {tag}"
                ));
            }
            if let Some(encoding) = in_body {
                tag = conditional::tagged(&tag, encoding, gzipped);
            }
            conditional::is_to_be_checked(&mut self.headers);
            let asks = matches!(self.parts.method, Method::GET | Method::HEAD)
                && (200..=299).contains(&status);
            let known = asks && conditional::matches(&self.parts.headers, &tag);
            self.headers.insert(
                header::ETAG,
                HeaderValue::from_str(&tag).map_err(|e| e.to_string())?,
            );
            if known {
                return Ok(true);
            }
        }
        let mut last: Option<HeaderName> = None;
        for (name, value) in headers {
            last = name.or(last);
            if let Some(name) = &last {
                self.headers.insert(name, value);
            }
        }
        for (name, value) in parameters.cookies {
            let gone = if value.is_empty() { "; Max-Age=0" } else { "" };
            let text = format!("{name}={value}; Path=/{gone}; HttpOnly; Secure; SameSite=Lax");
            self.headers.append(
                header::SET_COOKIE,
                HeaderValue::from_str(&text).map_err(|e| e.to_string())?,
            );
        }
        Ok(false)
    }

    pub(super) fn response(&mut self, status: u16, body: Body) -> Response<Body> {
        let is_head = self.parts.method == Method::HEAD;
        let mut response = Response::new(if is_head { Body::empty() } else { body });
        *response.status_mut() = http::StatusCode::from_u16(status).unwrap_or_default();
        *response.headers_mut() = std::mem::take(&mut self.headers);
        response
    }

    /// Is the problem of what a handler failed with.
    pub(super) fn problem_of<E: Failure>(&self, failure: E) -> Problem {
        problem_of(failure, &self.mount.options.base)
    }

    /// Is the answer of a problem.
    pub(super) fn refusal(&mut self, problem: &Problem) -> Response<Body> {
        if let Some(cause) = &problem.cause {
            self.mount.report(self.call.name, &**cause);
        }
        let wait = match problem.retry_after {
            Some(wait) => Some(wait.as_secs() + u64::from(wait.subsec_nanos() > 0)),
            None => (problem.status == 503).then_some(1),
        };
        if let Some(seconds) = wait {
            self.headers
                .insert(header::RETRY_AFTER, HeaderValue::from(seconds));
        }
        let json = problem.to_json(&self.mount.options.base);
        self.headers.insert(
            header::CONTENT_TYPE,
            HeaderValue::from_static(media::PROBLEM),
        );
        self.headers
            .insert(header::CONTENT_LENGTH, HeaderValue::from(json.len()));
        if let Some(body) = self
            .body
            .take()
            .filter(|body| !http_body::Body::is_end_stream(body))
        {
            tokio::spawn(body::drain(body));
        }
        self.response(problem.status, Body::whole(json))
    }
}

/// Is the problem of what a handler failed with.
pub(super) fn problem_of<E: Failure>(failure: E, base: &str) -> Problem {
    match failure.into_parts() {
        Ok(Declared {
            name,
            status,
            title,
            fields,
        }) => match fields {
            Ok(fields) => Problem {
                type_: format!("{base}/-/errors/{name}"),
                title: title.to_owned(),
                status,
                fields: Some(fields.into_bytes()),
                ..Problem::default()
            },
            Err(e) => Problem::internal(e),
        },
        Err(problem) => checked(problem),
    }
}

/// Makes a problem of a handler's what it must be, or hides it.
fn checked(problem: Problem) -> Problem {
    if problem.own.is_some() {
        return problem;
    }
    if !(400..=599).contains(&problem.status) {
        return Problem::internal(format!(
            "a problem has a status of 400 to 599, not {}: {problem}",
            problem.status
        ));
    }
    if problem.type_.contains("/-/errors/") {
        let type_ = &problem.type_;
        return Problem::internal(format!(
            "the type \"{type_}\" of a problem means an error of the definitions: {problem}"
        ));
    }
    problem
}

fn unreadable(e: &ReadError) -> Problem {
    if e.is_too_large() {
        return Problem::own("too-large", e.detail());
    }
    let violation = Violation::new(e.path(), e.detail());
    Problem {
        violations: vec![violation],
        ..Problem::own("invalid-request", "the request can't be read")
    }
}

/// Tells statuses whose answers have no body (RFC 9110, section 6.4.1).
pub(super) fn is_bodiless(status: u16) -> bool {
    matches!(status, 204 | 205 | 304)
}

/// Are the values of a field in a header. Those that HTTP has a meaning for may come in several lines (RFC 9110, section
/// 5.3).
pub(super) fn header_values(headers: &HeaderMap, placed: &Placed) -> Vec<String> {
    let lines = headers.get_all(placed.parameter).iter();
    let values: Vec<String> = lines
        .map(|v| String::from_utf8_lossy(v.as_bytes()).into_owned())
        .collect();
    if values.len() > 1 && placed.is_verbatim() {
        return vec![values.join(", ")];
    }
    values
}

/// Runs what the server's author wrote; a panic becomes an error.
pub(super) struct Caught<F>(pub(super) F);

impl<F: Future + Unpin> Future for Caught<F> {
    type Output = Result<F::Output, Panic>;

    fn poll(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Self::Output> {
        match catch_unwind(AssertUnwindSafe(|| Pin::new(&mut self.0).poll(cx))) {
            Ok(poll) => poll.map(Ok),
            Err(value) => Poll::Ready(Err(Panic::of(&*value))),
        }
    }
}

/// Is the error that a panic in a handler or an authorizer becomes.
#[derive(Debug)]
pub struct Panic(String);

impl Panic {
    pub(super) fn of(value: &(dyn Any + Send)) -> Self {
        let text = value.downcast_ref::<&str>().map(|text| (*text).to_owned());
        Self(
            text.or_else(|| value.downcast_ref::<String>().cloned())
                .unwrap_or_else(|| "a value of its own".to_owned()),
        )
    }
}

impl fmt::Display for Panic {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "panic: {}", self.0)
    }
}

impl Error for Panic {}
