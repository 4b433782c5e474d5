use std::error::Error;
use std::fmt;

use crate::faithful::wire::Invalid;

use super::body::BoxError;
use super::problem::Problem;

/// Says why a call has no answer, `E` being the errors that it declares.
#[derive(Debug)]
#[non_exhaustive]
pub enum CallError<E> {
    /// The server answered with an error that the call declares.
    Declared(E),
    /// The server answered with another problem.
    Problem(Box<Problem>),
    /// There is no answer.
    NoAnswer(NoAnswer),
    /// There is an answer that is not understood.
    NotUnderstood(NotUnderstood),
    /// The definitions refuse the request: nothing was sent.
    Invalid(Invalid),
    /// The client has none of the credentials that would do: nothing was sent.
    MissingCredential(MissingCredential),
    /// The answer is the one that the caller has already, by this entity-tag.
    NotModified(String),
}

impl<E: fmt::Display> fmt::Display for CallError<E> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Declared(e) => e.fmt(f),
            Self::Problem(e) => e.fmt(f),
            Self::NoAnswer(e) => e.fmt(f),
            Self::NotUnderstood(e) => e.fmt(f),
            Self::Invalid(e) => e.fmt(f),
            Self::MissingCredential(e) => e.fmt(f),
            Self::NotModified(tag) => write!(f, "not modified since {tag}"),
        }
    }
}

impl<E: Error + 'static> Error for CallError<E> {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        match self {
            Self::Declared(e) => Some(e),
            Self::Problem(e) => Some(&**e),
            Self::NoAnswer(e) => e.source(),
            Self::NotUnderstood(e) => e.source(),
            Self::Invalid(e) => Some(e),
            Self::MissingCredential(_) | Self::NotModified(_) => None,
        }
    }
}

/// Is why there is no answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Reason {
    /// There was no connection.
    Refused,
    /// The connection broke.
    Lost,
    /// The call took longer than it may.
    TimedOut,
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Refused => "refused",
            Self::Lost => "lost",
            Self::TimedOut => "timed out",
        })
    }
}

/// Says that a call got no answer.
#[derive(Debug)]
pub struct NoAnswer {
    pub(super) call: &'static str,
    pub(super) reason: Reason,
    pub(super) cause: BoxError,
}

impl NoAnswer {
    /// Why there is none.
    #[must_use]
    pub fn reason(&self) -> Reason {
        self.reason
    }
}

impl fmt::Display for NoAnswer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{}: no answer, {}: {}",
            self.call, self.reason, self.cause
        )
    }
}

impl Error for NoAnswer {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        Some(&*self.cause)
    }
}

/// Says that an answer is not understood.
#[derive(Debug)]
pub struct NotUnderstood {
    pub(super) call: &'static str,
    pub(super) status: u16,
    pub(super) cause: BoxError,
}

impl NotUnderstood {
    /// The status of the answer.
    #[must_use]
    pub fn status(&self) -> u16 {
        self.status
    }
}

impl fmt::Display for NotUnderstood {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{}: the answer with status {} was not understood: {}",
            self.call, self.status, self.cause
        )
    }
}

impl Error for NotUnderstood {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        Some(&*self.cause)
    }
}

/// Says that a client has none of the credentials that a call needs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MissingCredential {
    pub(super) call: &'static str,
    pub(super) needs: String,
    pub(super) given: Vec<String>,
}

impl MissingCredential {
    /// What would do, such as "crew | door".
    #[must_use]
    pub fn needs(&self) -> &str {
        &self.needs
    }

    /// The names of those that the client has.
    #[must_use]
    pub fn given(&self) -> &[String] {
        &self.given
    }
}

impl fmt::Display for MissingCredential {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let given = match &*self.given {
            [] => "none".to_owned(),
            names => format!("\"{}\"", names.join("\", \"")),
        };
        write!(
            f,
            "{} needs {}; the credentials that the client was given: {given}",
            self.call, self.needs
        )
    }
}

impl Error for MissingCredential {}

/// Says that a text is not the URL of a server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BadUrl(pub(super) String);

impl fmt::Display for BadUrl {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let example = if self.0.is_empty() || self.0.contains("//") {
            "127.0.0.1:8080"
        } else {
            &self.0
        };
        write!(
            f,
            "\"{}\" is not the URL of a server; write, for example: http://{example}",
            self.0
        )
    }
}

impl Error for BadUrl {}
