//! Streams: what reads and writes their elements.

use std::future::Future;
use std::marker::PhantomData;
use std::pin::Pin;
use std::task::{ready, Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use futures_core::Stream;
use http_body::Body as _;
use tokio::time::{sleep, Instant, Sleep};

use crate::faithful::wire::{
    append_end, append_heartbeat, append_problem, append_value, read_element, Codec, Element,
    Encoding, ReadError, Splitter, WriteError,
};

use super::body::{drain, BoxError, Incoming};

/// What JSON has before each element of a sequence (RFC 7464).
const SEPARATOR: u8 = 0x1e;

/// How many blanks may follow the end of a stream in JSON.
const MOST_BLANKS: usize = 64 << 10;

/// Writes elements, each as a piece of a body.
pub(super) struct Writer {
    encoding: Encoding,
    limit: usize,
    every: Duration,
    silence: Pin<Box<Sleep>>,
}

impl Writer {
    pub(super) fn new(encoding: Encoding, limit: usize, heartbeat: Duration) -> Self {
        Self {
            encoding,
            limit,
            every: heartbeat,
            silence: Box::pin(sleep(heartbeat)),
        }
    }

    fn piece(
        &mut self,
        add: impl FnOnce(&mut Vec<u8>, Encoding) -> Result<(), WriteError>,
    ) -> Result<Bytes, WriteError> {
        let mut out = Vec::with_capacity(128);
        if self.encoding == Encoding::Json {
            out.push(SEPARATOR);
        }
        add(&mut out, self.encoding)?;
        if self.encoding == Encoding::Json {
            out.push(b'\n');
        }
        self.silence.as_mut().reset(Instant::now() + self.every);
        Ok(out.into())
    }

    /// Is a value as an element.
    pub(super) fn value<C: Codec>(&mut self, value: &C::Value) -> Result<Bytes, BoxError> {
        let piece = self.piece(|out, encoding| append_value::<C>(out, encoding, value))?;
        if piece.len() > self.limit + 16 {
            let limit = self.limit;
            return Err(format!(
                "an element of {} bytes, more than the {limit} that a stream may contain",
                piece.len()
            )
            .into());
        }
        Ok(piece)
    }

    /// Is the end.
    pub(super) fn end(&mut self) -> Bytes {
        self.piece(|out, encoding| {
            append_end(out, encoding);
            Ok(())
        })
        .unwrap_or_default()
    }

    /// Is the end, with the details of a problem.
    pub(super) fn problem(&mut self, details: &str) -> Bytes {
        self.piece(|out, encoding| {
            append_problem(out, encoding, details);
            Ok(())
        })
        .unwrap_or_default()
    }

    /// Is a heartbeat, once nothing was written for a while.
    pub(super) fn heartbeat(&mut self, cx: &mut Context<'_>) -> Poll<Bytes> {
        ready!(self.silence.as_mut().poll(cx));
        Poll::Ready(
            self.piece(|out, encoding| {
                append_heartbeat(out, encoding);
                Ok(())
            })
            .unwrap_or_default(),
        )
    }
}

/// Says why a stream could not be read on.
#[derive(Debug)]
pub(super) enum Failure {
    /// The connection ended before the stream did.
    Lost(BoxError),
    /// Nothing came for too long.
    Silent,
    /// An element is larger than it may be.
    TooLarge(usize),
    /// What came is no sequence of elements, or an element can't be read.
    Unreadable(ReadError),
    Malformed(&'static str),
    /// The other side ended it with problem details.
    Problem(Vec<u8>),
}

/// Reads elements as they come.
pub(super) struct Reader<C> {
    body: Option<Incoming>,
    encoding: Encoding,
    splitter: Splitter,
    buffer: Vec<u8>,
    from: usize,
    limit: usize,
    budget: usize,
    idle: Duration,
    silence: Pin<Box<Sleep>>,
    waits: bool, // whether the silence is the other side's
    ended: bool,
    blanks: usize,
    codec: PhantomData<fn() -> C>,
}

/// Says how much a stream may have.
#[derive(Clone, Copy)]
pub(super) struct Limits {
    pub(super) element: usize,
    pub(super) items: usize,
    pub(super) idle: Duration,
}

impl<C: Codec> Reader<C> {
    pub(super) fn new(body: Incoming, encoding: Encoding, limits: Limits) -> Self {
        Self {
            body: Some(body),
            encoding,
            splitter: Splitter::new(encoding),
            buffer: Vec::new(),
            from: 0,
            limit: limits.element + 16,
            budget: limits.items,
            idle: limits.idle,
            silence: Box::pin(sleep(limits.idle)),
            waits: false,
            ended: false,
            blanks: 0,
            codec: PhantomData,
        }
    }

    /// Is the next value, or none at the end, which nothing may follow.
    pub(super) fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Result<Option<C::Value>, Failure>> {
        loop {
            if self.ended {
                if let Err(failure) = self.nothing_follows() {
                    return Poll::Ready(Err(failure));
                }
            } else {
                match self.buffered() {
                    Ok(Some(Element::Value(value))) => return Poll::Ready(Ok(Some(value))),
                    Ok(Some(Element::End)) => {
                        self.ended = true;
                        continue;
                    }
                    Ok(Some(Element::Problem(details))) => {
                        return Poll::Ready(Err(Failure::Problem(details)))
                    }
                    Ok(Some(Element::Other)) => continue,
                    Ok(None) => {}
                    Err(failure) => return Poll::Ready(Err(failure)),
                }
            }
            match ready!(self.more(cx)) {
                Ok(true) => {}
                Ok(false) if self.ended => return Poll::Ready(Ok(None)),
                Ok(false) => {
                    return Poll::Ready(Err(Failure::Lost(
                        "the connection ended before the stream did".into(),
                    )));
                }
                Err(failure) => return Poll::Ready(Err(failure)),
            }
        }
    }

    /// Is the next element, if all of it has come.
    fn buffered(&mut self) -> Result<Option<Element<C::Value>>, Failure> {
        let rest = &self.buffer[self.from..];
        let Some((from, to)) = self.splitter.next(rest).map_err(Failure::Malformed)? else {
            if rest.len() > self.limit {
                return Err(Failure::TooLarge(self.limit));
            }
            return Ok(None);
        };
        if to - from > self.limit {
            return Err(Failure::TooLarge(self.limit));
        }
        let element = read_element::<C>(&rest[from..to], self.encoding, self.budget)
            .map_err(Failure::Unreadable)?;
        self.from += to;
        Ok(Some(element))
    }

    fn nothing_follows(&mut self) -> Result<(), Failure> {
        let rest = &self.buffer[self.from..];
        self.blanks += rest.len();
        let is_blank = |c: &u8| self.encoding == Encoding::Json && (*c <= b' ');
        if !rest.iter().all(is_blank) || self.blanks > MOST_BLANKS {
            return Err(Failure::Malformed("bytes after the end of the stream"));
        }
        self.from = self.buffer.len();
        Ok(())
    }

    /// Reads more bytes; false is the end of the body.
    fn more(&mut self, cx: &mut Context<'_>) -> Poll<Result<bool, Failure>> {
        if self.from > 0 && self.from >= self.buffer.len() / 2 {
            self.buffer.drain(..self.from);
            self.from = 0;
        }
        let Some(body) = &mut self.body else {
            return Poll::Ready(Ok(false));
        };
        if !self.waits {
            // Only waiting for the other side counts as its silence, not what is done with an element.
            self.waits = true;
            self.silence.as_mut().reset(Instant::now() + self.idle);
        }
        loop {
            match body.as_mut().poll_frame(cx) {
                Poll::Ready(None) => {
                    self.body = None;
                    return Poll::Ready(Ok(false));
                }
                Poll::Ready(Some(Err(e))) => {
                    self.body = None;
                    return Poll::Ready(Err(Failure::Lost(e)));
                }
                Poll::Ready(Some(Ok(frame))) => {
                    if let Ok(data) = frame.into_data() {
                        self.waits = false;
                        self.buffer.extend_from_slice(&data);
                        return Poll::Ready(Ok(true));
                    }
                }
                Poll::Pending => {
                    return self
                        .silence
                        .as_mut()
                        .poll(cx)
                        .map(|()| Err(Failure::Silent));
                }
            }
        }
    }

    /// Gives the connection up, with what is still to come.
    pub(super) fn give_up(&mut self) {
        self.body = None;
    }

    /// Reads on, for a while, after an early answer.
    pub(super) fn drain(&mut self) {
        if let Some(body) = self.body.take().filter(|body| !body.is_end_stream()) {
            if let Ok(runtime) = tokio::runtime::Handle::try_current() {
                runtime.spawn(drain(body));
            }
        }
    }
}

/// Is a stream in a box.
pub type BoxStream<T> = Pin<Box<dyn Stream<Item = T> + Send>>;

/// Puts a stream in a box: its type no longer mentions what its handler borrowed.
#[doc(hidden)]
pub fn boxed<T>(elements: impl Stream<Item = T> + Send + 'static) -> BoxStream<T> {
    Box::pin(elements)
}

/// Is a stream without anything in it, for what is not implemented.
#[doc(hidden)]
pub struct NoStream<T>(PhantomData<fn() -> T>);

impl<T> Stream for NoStream<T> {
    type Item = T;

    fn poll_next(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<T>> {
        Poll::Ready(None)
    }
}
