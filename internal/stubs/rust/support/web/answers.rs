use std::future::poll_fn;
use std::marker::PhantomData;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};

use bytes::Bytes;
use futures_core::Stream;
use http::StatusCode;

use crate::faithful::wire::{Codec, Invalid, Violations};

use super::body::{BoxError, Pieces};
use super::call::{CallTable, Failure};
use super::client::{bad, lost, typed};
use super::errors::CallError;
use super::problem::Problem;
use super::stream::{self, Reader, Writer};

/// Is an answer that is a stream, as it comes. Dropping it gives the call up; where it is lost, its last item says so.
pub struct Answers<T: Codec<Value = T>, E> {
    call: &'static CallTable,
    status: StatusCode,
    reader: Reader<T>,
    over: bool,
    failure: PhantomData<fn() -> E>,
}

impl<T: Codec<Value = T>, E: Failure> Answers<T, E> {
    pub(super) fn new(call: &'static CallTable, status: StatusCode, reader: Reader<T>) -> Self {
        Self {
            call,
            status,
            reader,
            over: false,
            failure: PhantomData,
        }
    }

    /// Is the next element, or none at the end.
    pub async fn next(&mut self) -> Option<Result<T, CallError<E>>> {
        poll_fn(|cx| self.poll(cx)).await
    }

    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<T, CallError<E>>>> {
        if self.over {
            return Poll::Ready(None);
        }
        match self.reader.poll(cx) {
            Poll::Pending => Poll::Pending,
            Poll::Ready(Ok(Some(element))) => Poll::Ready(Some(Ok(element))),
            Poll::Ready(Ok(None)) => {
                self.over = true;
                Poll::Ready(None)
            }
            Poll::Ready(Err(failure)) => {
                self.over = true;
                self.reader.give_up();
                Poll::Ready(Some(Err(self.error(failure))))
            }
        }
    }

    fn error(&self, failure: stream::Failure) -> CallError<E> {
        match failure {
            stream::Failure::Lost(cause) => lost(self.call, cause),
            stream::Failure::Silent => lost(self.call, "the stream was silent for too long".into()),
            stream::Failure::TooLarge(limit) => bad(
                self.call,
                self.status,
                format!("an element of more than {limit} bytes"),
            ),
            stream::Failure::Unreadable(e) => bad(self.call, self.status, e),
            stream::Failure::Malformed(detail) => bad(self.call, self.status, detail),
            stream::Failure::Problem(details) => match Problem::from_json(&details) {
                Ok(problem) => typed(self.call, self.status, problem),
                Err(e) => bad(self.call, self.status, e),
            },
        }
    }
}

impl<T: Codec<Value = T>, E: Failure> Stream for Answers<T, E> {
    type Item = Result<T, CallError<E>>;

    fn poll_next(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        self.poll(cx)
    }
}

impl<T: Codec<Value = T>, E> Unpin for Answers<T, E> {}

impl<T: Codec<Value = T>, E> std::fmt::Debug for Answers<T, E> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Answers({})", self.call.name)
    }
}

/// Is a request that is a stream, as it is written.
pub(super) struct Requests<S> {
    elements: Pin<Box<S>>,
    writer: Writer,
    refused: Arc<Mutex<Option<Invalid>>>, // what the definitions refuse of it
    ended: bool,
}

impl<S> Requests<S> {
    pub(super) fn new(elements: S, writer: Writer, refused: Arc<Mutex<Option<Invalid>>>) -> Self {
        Self {
            elements: Box::pin(elements),
            writer,
            refused,
            ended: false,
        }
    }
}

impl<T, S> Pieces for Requests<S>
where
    T: Codec<Value = T> + Send + 'static,
    S: Stream<Item = T> + Send + 'static,
{
    fn poll(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Bytes, BoxError>>> {
        if self.ended {
            return Poll::Ready(None);
        }
        match self.elements.as_mut().poll_next(cx) {
            Poll::Pending => self.writer.heartbeat(cx).map(|piece| Some(Ok(piece))),
            Poll::Ready(None) => {
                self.ended = true;
                Poll::Ready(Some(Ok(self.writer.end())))
            }
            Poll::Ready(Some(element)) => {
                let violations = Violations::of::<T>(&element);
                let piece = match Invalid::unless_none(violations) {
                    Ok(()) => self.writer.value::<T>(&element),
                    Err(invalid) => {
                        let text = invalid.to_string();
                        *self.refused.lock().unwrap_or_else(PoisonError::into_inner) =
                            Some(invalid);
                        Err(text.into())
                    }
                };
                self.ended = piece.is_err(); // breaks the connection: the server sees a stream without its end
                Poll::Ready(Some(piece))
            }
        }
    }
}
