use std::panic::{catch_unwind, AssertUnwindSafe};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use bytes::Bytes;

use crate::faithful::wire::{Codec, Encoding};

use super::body::{BoxError, Pieces};
use super::call::Failure;
use super::exchange::{problem_of, Exchange, Panic};
use super::options::BoxFuture;
use super::problem::Problem;
use super::server::{Active, Shared};
use super::stream::{BoxStream, Writer};

/// Is an answer that is a stream, as it is written: each element as soon as it is there, heartbeats between them, and an end
/// or a problem.
pub(super) struct Sending<T, E> {
    elements: BoxStream<Result<T, E>>,
    writer: Writer,
    mount: Arc<Shared>,
    call: &'static str,
    over: BoxFuture<'static, ()>, // ready when the mount is
    ended: bool,
    _active: Option<Active>,
}

impl<T, E> Sending<T, E> {
    pub(super) fn new(
        x: &mut Exchange,
        encoding: Encoding,
        elements: BoxStream<Result<T, E>>,
    ) -> Self {
        let mount = Arc::clone(&x.mount);
        let writer = Writer::new(
            encoding,
            mount.options.element_limit,
            mount.options.heartbeat,
        );
        let mut changes = mount.changed.subscribe();
        let shared = Arc::clone(&mount);
        let over = Box::pin(async move {
            while !shared.is_over() {
                if changes.changed().await.is_err() {
                    return;
                }
            }
        });
        Self {
            elements,
            writer,
            mount,
            call: x.call.name,
            over,
            ended: false,
            _active: x.active.take(),
        }
    }

    fn problem(&mut self, problem: &Problem) -> Bytes {
        if let Some(cause) = &problem.cause {
            self.mount.report(self.call, &**cause);
        }
        self.ended = true;
        self.writer
            .problem(&problem.to_json(&self.mount.options.base))
    }
}

impl<T: Codec<Value = T> + Send + 'static, E: Failure> Pieces for Sending<T, E> {
    fn poll(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Bytes, BoxError>>> {
        if self.ended {
            return Poll::Ready(None);
        }
        let next = catch_unwind(AssertUnwindSafe(|| self.elements.as_mut().poll_next(cx)));
        let piece = match next {
            Err(value) => {
                let problem = Problem::internal(Panic::of(&*value));
                self.problem(&problem)
            }
            Ok(Poll::Ready(None)) => {
                self.ended = true;
                self.writer.end()
            }
            Ok(Poll::Ready(Some(Ok(element)))) => match self.writer.value::<T>(&element) {
                Ok(piece) => piece,
                Err(e) => self.problem(&Problem::internal(e)),
            },
            Ok(Poll::Ready(Some(Err(failure)))) => {
                let problem = problem_of(failure, &self.mount.options.base);
                self.problem(&problem)
            }
            Ok(Poll::Pending) => {
                if self.over.as_mut().poll(cx).is_ready() {
                    self.problem(&Problem::own("unavailable", "the server is shutting down"))
                } else {
                    match self.writer.heartbeat(cx) {
                        Poll::Ready(piece) => piece,
                        Poll::Pending => return Poll::Pending,
                    }
                }
            }
        };
        Poll::Ready(Some(Ok(piece)))
    }
}
