//! Calls over HTTP: requests and answers as CBOR or JSON, errors as problem details (RFC 9457). The clients and servers of
//! the definitions use it; other code uses its options and its errors.

#![allow(clippy::result_large_err)] // a problem is made once, on the way out
#![allow(clippy::missing_errors_doc)] // of functions that are hidden: stubs alone call them

#[doc(hidden)]
pub use bytes::Bytes;
#[doc(hidden)]
pub use futures_core::Stream;
#[doc(hidden)]
pub use http::{Request, Response};
#[doc(hidden)]
pub use http_body::Body as HttpBody;
#[doc(hidden)]
pub use tower_service::Service as TowerService;

mod answers;
mod body;
mod call;
mod client;
mod compression;
mod conditional;
mod credentials;
mod elements;
mod errors;
mod escapes;
mod exchange;
mod media;
mod options;
mod problem;
mod routes;
mod sending;
mod server;
mod stream;
mod transport;
mod travel;

pub use answers::Answers;
pub use body::{Body, BoxError};
pub use call::Failure;
#[doc(hidden)]
pub use call::{CallTable, Credential, CredentialKind, Declared};
pub use client::{Client, ClientOptions};
pub use elements::Elements;
pub use errors::{BadUrl, CallError, MissingCredential, NoAnswer, NotUnderstood, Reason};
pub use exchange::{Call, Panic};
pub use options::{BoxFuture, ServerOptions};
#[doc(hidden)]
pub use problem::Page;
pub use problem::Problem;
pub use server::{serve, Mount};
#[doc(hidden)]
pub use server::{Definitions, Route};
pub use stream::BoxStream;
#[doc(hidden)]
pub use stream::{boxed, NoStream};
pub use transport::{Answer, HttpTransport, Transport, TransportError};
#[doc(hidden)]
pub use travel::{Arguments, Body as Payload, InBody, Nothing, Parameters, Place, Placed, Travels};
