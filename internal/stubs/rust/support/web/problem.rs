use std::error::Error;
use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use crate::faithful::wire::{JsonReader, JsonWriter, ReadError, Violation, BUDGET};

/// Is an error that a call does not declare, as problem details (RFC 9457): a client gets it, and a handler refuses with
/// it for reasons of its own. Its texts are for the caller.
#[derive(Clone, Default)]
#[non_exhaustive]
pub struct Problem {
    /// A URI that tells which problem it is; empty, or "about:blank", where the status says enough.
    pub type_: String,
    /// What is always the same about it.
    pub title: String,
    /// The status, 400 to 599.
    pub status: u16,
    /// What is the matter this time. Where an answer had no problem details, as those of proxies, how its body begins.
    pub detail: String,
    /// A URI of this occurrence.
    pub instance: String,
    /// What is wrong with the request.
    pub violations: Vec<Violation>,
    /// When to try again, if at all.
    pub retry_after: Option<Duration>,
    pub(super) own: Option<&'static Page>, // where it is one that every server has
    pub(super) cause: Option<Arc<dyn Error + Send + Sync>>, // which the caller is not told
    pub(super) fields: Option<Vec<u8>>,    // of a declared error, in JSON
}

impl Problem {
    /// Makes one of a status and what is the matter.
    #[must_use]
    pub fn new(status: u16, detail: impl Into<String>) -> Self {
        Self {
            status,
            detail: detail.into(),
            ..Self::default()
        }
    }

    /// Refuses a request for violations that only the handler can find, with 400.
    #[must_use]
    pub fn violated(violations: Vec<Violation>) -> Self {
        let detail = match violations.len() {
            1 => "1 violation".to_owned(),
            n => format!("{n} violations"),
        };
        Self {
            violations,
            ..Self::own("invalid-request", detail)
        }
    }

    /// Is what an authorizer answers who does not know who calls.
    #[must_use]
    pub fn unauthenticated(detail: impl Into<String>) -> Self {
        Self::own("unauthenticated", detail)
    }

    /// Is what an authorizer answers who knows who calls, and says no.
    #[must_use]
    pub fn forbidden(detail: impl Into<String>) -> Self {
        Self::own("forbidden", detail)
    }

    /// Is what a handler answers that has too much to do.
    #[must_use]
    pub fn overloaded(retry_after: Duration) -> Self {
        Self {
            retry_after: Some(retry_after),
            ..Self::own("overloaded", "the server has too much to do")
        }
    }

    /// Is what a handler answers that is not written yet.
    #[must_use]
    pub fn not_implemented() -> Self {
        Self::own("not-implemented", "the call is not implemented here")
    }

    /// Hides an error: the caller gets a 500 that says nothing of it, the server's hook for errors gets it all.
    #[must_use]
    pub fn internal(cause: impl Into<Box<dyn Error + Send + Sync>>) -> Self {
        Self {
            cause: Some(Arc::from(cause.into())),
            ..Self::own("internal", "")
        }
    }

    /// Is one that every server has.
    pub(super) fn own(name: &str, detail: impl Into<String>) -> Self {
        let page = COMMON.iter().find(|page| page.name == name);
        let status = page.map_or(500, |page| page.status);
        let title = name.replace('-', " ");
        Self {
            own: page,
            title,
            status,
            detail: detail.into(),
            ..Self::default()
        }
    }

    /// What follows "/-/errors/" in the type, such as "invalid-request", or the type.
    #[must_use]
    pub fn name(&self) -> &str {
        match (self.own, self.type_.split_once("/-/errors/")) {
            (Some(page), _) => page.name,
            (None, Some((_, name))) => name,
            (None, None) => &self.type_,
        }
    }

    /// Adds a title.
    #[must_use]
    pub fn title(mut self, title: impl Into<String>) -> Self {
        self.title = title.into();
        self
    }

    /// Is it in JSON, as a server of this base sends it.
    pub(super) fn to_json(&self, base: &str) -> String {
        let mut w = JsonWriter::default();
        let start = w.begin();
        w.member("type");
        match self.own {
            Some(page) => w.text(&format!("{base}/-/errors/{}", page.name)),
            None if self.type_.is_empty() => w.text(BLANK),
            None => w.text(&self.type_),
        }
        w.member("title");
        w.text(if self.title.is_empty() {
            status_text(self.status)
        } else {
            &self.title
        });
        w.member("status");
        w.uint16(self.status);
        for (name, text) in [("detail", &self.detail), ("instance", &self.instance)] {
            if !text.is_empty() {
                w.member(name);
                w.text(text);
            }
        }
        if !self.violations.is_empty() {
            w.member("errors");
            write_violations(&mut w, &self.violations);
        }
        w.end(start, b'{', b'}');
        let mut json = String::from_utf8(w.finish().0).unwrap_or_default();
        if let Some(fields) = &self.fields {
            json.pop();
            json.push_str(",\"error\":");
            json.push_str(&String::from_utf8_lossy(fields));
            json.push('}');
        }
        json
    }

    pub(super) fn from_json(data: &[u8]) -> Result<Self, ReadError> {
        let mut r = JsonReader::new(data, BUDGET);
        let mut p = Self::default();
        let mut first = r.begin(b'{', "problem details")?;
        while let Some(name) = r.next_member(&mut first)? {
            if r.is_null()? {
                continue;
            }
            match &*name {
                "type" => p.type_ = r.text()?,
                "title" => p.title = r.text()?,
                "status" => p.status = r.uint16()?,
                "detail" => p.detail = r.text()?,
                "instance" => p.instance = r.text()?,
                "errors" => p.violations = read_violations(&mut r)?,
                "error" => p.fields = Some(r.raw()?),
                _ => drop(r.raw()?),
            }
        }
        r.end()?;
        Ok(p)
    }
}

fn write_violations(w: &mut JsonWriter, violations: &[Violation]) {
    let start = w.begin();
    for (i, violation) in violations.iter().enumerate() {
        w.item(i);
        let start = w.begin();
        w.member("pointer");
        w.text(&violation.pointer);
        w.member("detail");
        w.text(&violation.detail);
        if !violation.place.is_empty() {
            w.member("in");
            w.text(violation.place);
        }
        w.end(start, b'{', b'}');
    }
    w.end(start, b'[', b']');
}

fn read_violations(r: &mut JsonReader<'_>) -> Result<Vec<Violation>, ReadError> {
    let mut list = Vec::new();
    let mut first = r.begin(b'[', "a list of violations")?;
    while r.following(&mut first, b']')? {
        let mut violation = Violation::default();
        let mut first = r.begin(b'{', "a violation")?;
        while let Some(name) = r.next_member(&mut first)? {
            if r.is_null()? {
                continue;
            }
            match &*name {
                "pointer" => violation.pointer = r.text()?,
                "detail" => violation.detail = r.text()?,
                "in" => {
                    let place = r.text()?;
                    violation.place = PLACES
                        .iter()
                        .find(|known| **known == place)
                        .copied()
                        .unwrap_or_default();
                }
                _ => drop(r.raw()?),
            }
        }
        list.push(violation);
    }
    Ok(list)
}

const PLACES: [&str; 4] = ["path", "query", "header", "cookie"];

/// Is the type of a problem of which its status says enough (RFC 9457, section 4.2.1).
pub(super) const BLANK: &str = "about:blank";

/// What a status is called (RFC 9110, section 15).
pub(super) fn status_text(status: u16) -> &'static str {
    let known = http::StatusCode::from_u16(status)
        .ok()
        .and_then(|status| status.canonical_reason());
    known.unwrap_or(if status < 500 {
        "Client error"
    } else {
        "Server error"
    })
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let title = if self.title.is_empty() {
            status_text(self.status)
        } else {
            &self.title
        };
        write!(f, "{} {title}", self.status)?;
        if !self.detail.is_empty() {
            write!(f, ": {}", self.detail)?;
        }
        for violation in &self.violations {
            write!(f, "; {violation}")?;
        }
        Ok(())
    }
}

impl fmt::Debug for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Problem({self}")?;
        if let Some(cause) = &self.cause {
            write!(f, ", because of {cause:?}")?;
        }
        f.write_str(")")
    }
}

impl Error for Problem {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        self.cause
            .as_deref()
            .map(|cause| cause as &(dyn Error + 'static))
    }
}

/// Documents one error.
#[doc(hidden)]
#[derive(Debug)]
pub struct Page {
    /// Its full name.
    pub name: &'static str,
    /// Its status.
    pub status: u16,
    /// Its documentation.
    pub doc: &'static str,
}

/// Are the errors that every server may answer with.
pub(super) static COMMON: [Page; 14] = [
    Page {
        name: "invalid-request",
        status: 400,
        doc: "The request could not be read, or violates its definition. The member errors lists every violation with a \
              JSON Pointer.",
    },
    Page {
        name: "unauthenticated",
        status: 401,
        doc: "The call needs credentials that the request did not show, or that are not good; WWW-Authenticate names \
              them.",
    },
    Page { name: "forbidden", status: 403, doc: "The credentials are good, and not enough for this." },
    Page { name: "unknown-call", status: 404, doc: "No call has this path." },
    Page {
        name: "wrong-method",
        status: 405,
        doc: "The path is right and the method is not; Allow names the right one.",
    },
    Page {
        name: "not-acceptable",
        status: 406,
        doc: "Accept names neither application/cbor nor application/json.",
    },
    Page {
        name: "too-large",
        status: 413,
        doc: "The request is larger than this server takes, or has more elements.",
    },
    Page {
        name: "unsupported-form",
        status: 415,
        doc: "The body is neither application/cbor nor application/json, or is encoded.",
    },
    Page {
        name: "range-not-satisfiable",
        status: 416,
        doc: "The range that was asked for is not a part of the body; Content-Range says how long that is.",
    },
    Page { name: "internal", status: 500, doc: "The server failed. Its log says why." },
    Page {
        name: "not-implemented",
        status: 501,
        doc: "The call is defined, but this server does not implement it.",
    },
    Page {
        name: "overloaded",
        status: 503,
        doc: "The server has too much to do; Retry-After says when to try again.",
    },
    Page {
        name: "too-slow",
        status: 503,
        doc: "The call took longer than the client or the server allows.",
    },
    Page {
        name: "unavailable",
        status: 503,
        doc: "The server is shutting down; Retry-After says when to try again.",
    },
];
