use std::error::Error;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

use super::exchange::Call;
use super::problem::Problem;

/// Is a future in a box.
pub type BoxFuture<'a, T> = Pin<Box<dyn Future<Output = T> + Send + 'a>>;

pub(super) type Authorizer =
    dyn for<'a> Fn(&'a mut Call) -> BoxFuture<'a, Result<(), Problem>> + Send + Sync;
pub(super) type OnError = dyn Fn(&str, &(dyn Error + 'static)) + Send + Sync;

/// Says how a mount serves.
#[derive(Clone)]
#[allow(clippy::struct_excessive_bools)] // each is an option of its own
pub struct ServerOptions {
    pub(super) base: String,
    pub(super) body_limit: usize,
    pub(super) element_limit: usize,
    pub(super) item_limit: usize,
    pub(super) call_limit: usize,
    pub(super) handler_timeout: Duration,
    pub(super) idle_timeout: Duration,
    pub(super) heartbeat: Duration,
    pub(super) origins: Vec<String>,
    pub(super) allow_unlisted: bool,
    pub(super) compression: bool,
    pub(super) quiet: bool,
    pub(super) guarded: bool,
    pub(super) authorizer: Option<Arc<Authorizer>>,
    pub(super) on_error: Option<Arc<OnError>>,
    pub(super) serving: Option<Arc<dyn Fn() -> bool + Send + Sync>>,
}

impl Default for ServerOptions {
    fn default() -> Self {
        Self {
            base: String::new(),
            body_limit: 4 << 20,
            element_limit: 1 << 20,
            // So low that no body of the usual limit that is taken builds more than 64 MiB of values.
            item_limit: 250_000,
            call_limit: usize::MAX,
            handler_timeout: Duration::from_secs(60),
            idle_timeout: Duration::from_secs(60),
            heartbeat: Duration::from_secs(15),
            origins: Vec::new(),
            allow_unlisted: false,
            compression: true,
            quiet: false,
            guarded: false,
            authorizer: None,
            on_error: None,
            serving: None,
        }
    }
}

impl ServerOptions {
    /// Is how a mount serves if nothing is said.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Serves below a path such as "/v1".
    #[must_use]
    pub fn base(mut self, path: &str) -> Self {
        path.trim_end_matches('/').clone_into(&mut self.base);
        self
    }

    /// How large a request may be, in bytes; 4 MiB if nothing is said.
    #[must_use]
    pub fn body_limit(mut self, bytes: usize) -> Self {
        self.body_limit = bytes;
        self
    }

    /// How large an element of a stream may be, in bytes; 1 MiB if nothing is said.
    #[must_use]
    pub fn element_limit(mut self, bytes: usize) -> Self {
        self.element_limit = bytes;
        self
    }

    /// How much a request, or an element of a stream, may contain: list items and entries of maps and messages count one, a
    /// message one and its declared fields as well; 250,000 if nothing is said.
    #[must_use]
    pub fn item_limit(mut self, items: usize) -> Self {
        self.item_limit = items;
        self
    }

    /// How many calls are answered at once, streams included; others are refused with 503. There is no limit if nothing is
    /// said.
    #[must_use]
    pub fn call_limit(mut self, calls: usize) -> Self {
        self.call_limit = calls;
        self
    }

    /// How long a call may take, its body included; 60 s if nothing is said. Streams are not limited.
    #[must_use]
    pub fn handler_timeout(mut self, timeout: Duration) -> Self {
        self.handler_timeout = timeout;
        self
    }

    /// How long a stream may be silent; 60 s if nothing is said.
    #[must_use]
    pub fn idle_timeout(mut self, timeout: Duration) -> Self {
        self.idle_timeout = timeout;
        self
    }

    /// After how much silence a stream says that it lives; 15 s if nothing is said.
    #[must_use]
    pub fn heartbeat(mut self, every: Duration) -> Self {
        self.heartbeat = every;
        self
    }

    /// Lets pages of these origins, such as "<https://skerry.example>", call from a browser.
    #[must_use]
    pub fn origins<O: Into<String>>(mut self, origins: impl IntoIterator<Item = O>) -> Self {
        self.origins.extend(origins.into_iter().map(Into::into));
        self
    }

    /// Lets requests contain members and alternatives that the definitions do not list, for servers that only pass messages
    /// on.
    #[must_use]
    pub fn allow_unlisted(mut self) -> Self {
        self.allow_unlisted = true;
        self
    }

    /// Has answers go out as they are, also to clients that would take them compressed.
    #[must_use]
    pub fn without_compression(mut self) -> Self {
        self.compression = false;
        self
    }

    /// Keeps "/-/about", "/-/definitions" and "/-/manual" to the server.
    #[must_use]
    pub fn without_definitions(mut self) -> Self {
        self.quiet = true;
        self
    }

    /// Has the authorizer guard "/-/about", "/-/definitions" and "/-/manual".
    #[must_use]
    pub fn guarded_definitions(mut self) -> Self {
        self.guarded = true;
        self
    }

    /// Sets what judges credentials; what it adds to the call's extensions, handlers find there. Without an authorizer it is
    /// enough that credentials are there.
    #[must_use]
    pub fn authorizer<F>(mut self, judge: F) -> Self
    where
        F: for<'a> Fn(&'a mut Call) -> BoxFuture<'a, Result<(), Problem>> + Send + Sync + 'static,
    {
        self.authorizer = Some(Arc::new(judge));
        self
    }

    /// Is told each error that the caller is not, with the name of the call. Without it they go to the crate `log`, and
    /// where nothing listens to that to the standard error output.
    #[must_use]
    pub fn on_error(
        mut self,
        hook: impl Fn(&str, &(dyn Error + 'static)) + Send + Sync + 'static,
    ) -> Self {
        self.on_error = Some(Arc::new(hook));
        self
    }

    /// Makes "/-/state" answer 503 while the check says no.
    #[must_use]
    pub fn serving(mut self, check: impl Fn() -> bool + Send + Sync + 'static) -> Self {
        self.serving = Some(Arc::new(check));
        self
    }
}

impl std::fmt::Debug for ServerOptions {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "ServerOptions({:?})", self.base)
    }
}
