use std::error::Error;

use http::{Request, Response};
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::client::legacy::Client;
use hyper_util::rt::{TokioExecutor, TokioTimer};

use super::body::{incoming, Body, BoxError, Incoming};
use super::errors::Reason;
use super::options::BoxFuture;

/// Sends requests. Wrap [`HttpTransport`] in one of your own to look at what is sent and what is answered.
pub trait Transport: Send + Sync + 'static {
    /// Sends a request. Redirects are not followed. Dropping the future, or the body of the answer, gives the call up.
    fn send(
        &self,
        request: Request<Body>,
    ) -> BoxFuture<'static, Result<Response<Answer>, TransportError>>;
}

/// Is the body of an answer as it comes.
pub struct Answer(pub(super) Incoming);

impl std::fmt::Debug for Answer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Answer")
    }
}

/// Says why a request was not answered.
#[derive(Debug)]
pub struct TransportError {
    /// Why.
    pub reason: Reason,
    /// Whether nothing of an answer had come, so that a call that may be repeated is.
    pub is_early: bool,
    /// What went wrong.
    pub cause: BoxError,
}

impl std::fmt::Display for TransportError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}: {}", self.reason, self.cause)
    }
}

impl Error for TransportError {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        Some(&*self.cause)
    }
}

/// Sends requests with hyper, over connections that are kept.
#[derive(Clone, Debug)]
pub struct HttpTransport(Client<HttpConnector, Body>);

impl HttpTransport {
    /// Makes one; it belongs to the runtime that uses it first.
    #[must_use]
    pub fn new() -> Self {
        let mut connector = HttpConnector::new();
        connector.set_nodelay(true);
        let mut builder = Client::builder(TokioExecutor::new());
        builder
            .pool_timer(TokioTimer::new())
            .http1_max_buf_size(1 << 20);
        Self(builder.build(connector))
    }
}

impl Default for HttpTransport {
    fn default() -> Self {
        Self::new()
    }
}

impl Transport for HttpTransport {
    fn send(
        &self,
        request: Request<Body>,
    ) -> BoxFuture<'static, Result<Response<Answer>, TransportError>> {
        let answer = self.0.request(request);
        Box::pin(async move {
            match answer.await {
                Ok(response) => Ok(response.map(|body| Answer(incoming(body)))),
                Err(e) => {
                    let reason = if e.is_connect() {
                        Reason::Refused
                    } else {
                        Reason::Lost
                    };
                    Err(TransportError {
                        reason,
                        is_early: true,
                        cause: innermost(e),
                    })
                }
            }
        })
    }
}

/// Is what is at the bottom of an error, which says most.
fn innermost(e: impl Error + Send + Sync + 'static) -> BoxError {
    let mut last: &(dyn Error + 'static) = &e;
    while let Some(source) = last.source() {
        last = source;
    }
    last.to_string().into()
}
