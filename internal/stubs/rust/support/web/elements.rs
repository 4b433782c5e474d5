use std::future::poll_fn;
use std::pin::Pin;
use std::task::{ready, Context, Poll};

use futures_core::Stream;

use crate::faithful::wire::{Codec, Violation, Violations};

use super::problem::Problem;
use super::stream::{Failure, Reader};

/// Is a request that is a stream, as it comes. Where it is lost, or broken, its last item says so; `?` answers with that.
pub struct Elements<T: Codec<Value = T>> {
    reader: Reader<T>,
    allow_unlisted: bool,
    over: bool,
}

impl<T: Codec<Value = T>> Elements<T> {
    pub(super) fn new(reader: Reader<T>, allow_unlisted: bool) -> Self {
        Self {
            reader,
            allow_unlisted,
            over: false,
        }
    }

    /// Is the next element, or none at the end.
    pub async fn next(&mut self) -> Option<Result<T, Problem>> {
        poll_fn(|cx| self.poll(cx)).await
    }

    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<T, Problem>>> {
        if self.over {
            return Poll::Ready(None);
        }
        let problem = match ready!(self.reader.poll(cx)) {
            Ok(None) => {
                self.over = true;
                return Poll::Ready(None);
            }
            Ok(Some(element)) => {
                let mut violations = Violations::of::<T>(&element);
                if self.allow_unlisted {
                    violations.retain(|violation| !violation.unlisted);
                }
                if violations.is_empty() {
                    return Poll::Ready(Some(Ok(element)));
                }
                Problem::violated(violations)
            }
            Err(failure) => problem_of(failure),
        };
        self.over = true;
        Poll::Ready(Some(Err(problem)))
    }
}

fn problem_of(failure: Failure) -> Problem {
    let unreadable = |pointer: &str, detail: &str| Problem {
        violations: vec![Violation::new(pointer, detail)],
        ..Problem::own("invalid-request", "an element can't be read")
    };
    match failure {
        Failure::TooLarge(limit) => Problem::own(
            "too-large",
            format!("an element of more than {limit} bytes"),
        ),
        Failure::Unreadable(e) if e.is_too_large() => Problem::own("too-large", e.detail()),
        Failure::Unreadable(e) => unreadable(e.path(), e.detail()),
        Failure::Malformed(detail) => unreadable("", detail),
        Failure::Silent => Problem::own("too-slow", "the stream was silent for too long"),
        Failure::Lost(_) => Problem::own("invalid-request", "the stream ended without its end"),
        Failure::Problem(details) => {
            let detail = Problem::from_json(&details)
                .map(|p| p.to_string())
                .unwrap_or_default();
            Problem::own("invalid-request", format!("the caller gave up: {detail}"))
        }
    }
}

impl<T: Codec<Value = T>> Stream for Elements<T> {
    type Item = Result<T, Problem>;

    fn poll_next(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        self.poll(cx)
    }
}

impl<T: Codec<Value = T>> Unpin for Elements<T> {}

impl<T: Codec<Value = T>> Drop for Elements<T> {
    fn drop(&mut self) {
        self.reader.drain(); // an early answer would be lost if the connection were closed on it
    }
}

impl<T: Codec<Value = T>> std::fmt::Debug for Elements<T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Elements")
    }
}
