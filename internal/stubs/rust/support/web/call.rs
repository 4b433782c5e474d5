use std::fmt;

use crate::faithful::wire::{ReadError, WriteError};

use super::problem::Problem;

/// Is what both sides know of one call.
#[doc(hidden)]
#[derive(Debug)]
#[allow(clippy::struct_excessive_bools)] // each is one of what a call says of itself
pub struct CallTable {
    /// Its full name: module, service and call.
    pub name: &'static str,
    pub method: &'static str,
    /// The path below the base; "{field}" is the place of a segment.
    pub path: &'static str,
    /// The status of success; 0 for the usual.
    pub status: u16,
    pub safe: bool,
    pub idempotent: bool,
    /// One of these is needed, of it all.
    pub needs: &'static [&'static [&'static Credential]],
    pub request_stream: bool,
    pub answer_stream: bool,
    /// Whether answers may be compressed.
    pub compressible: bool,
}

impl CallTable {
    /// Whether success sends the client elsewhere (RFC 9110, section 15.4).
    pub(super) fn redirects(&self) -> bool {
        is_redirect(self.status)
    }

    /// Whether an answer's status is one of success.
    pub(super) fn succeeds(&self, status: u16) -> bool {
        if self.redirects() {
            is_redirect(status)
        } else {
            (200..=299).contains(&status)
        }
    }
}

fn is_redirect(status: u16) -> bool {
    matches!(status, 301 | 302 | 303 | 307 | 308)
}

/// Is what a caller may have to show.
#[doc(hidden)]
#[derive(Debug)]
pub struct Credential {
    /// Its full name: module and credential.
    pub name: &'static str,
    pub kind: CredentialKind,
}

/// Is how a credential travels.
#[doc(hidden)]
#[derive(Debug)]
pub enum CredentialKind {
    Bearer,
    Basic,
    /// A key in the header of a name.
    Header(&'static str),
    /// A key in the parameter of a name.
    Query(&'static str),
    /// A key in the cookie of a name.
    Cookie(&'static str),
}

impl Credential {
    /// Whether a name, with or without its module, is the credential's.
    pub(super) fn is(&self, name: &str) -> bool {
        let own = self.name.rsplit('.').next();
        self.name == name || own == Some(name)
    }
}

/// Says what a call needs, for people.
pub(super) fn needs_text(needs: &[&[&Credential]]) -> String {
    let alternative = |all: &&[&Credential]| {
        let names: Vec<&str> = all
            .iter()
            .filter_map(|c| c.name.rsplit('.').next())
            .collect();
        if names.is_empty() {
            "nothing".to_owned()
        } else {
            names.join(" + ")
        }
    };
    needs
        .iter()
        .map(alternative)
        .collect::<Vec<_>>()
        .join(" | ")
}

/// Is what a call answers with instead of what it is to answer: one enum for each call.
pub trait Failure: From<Problem> + fmt::Debug + Send + Sync + 'static {
    /// The name, status and fields of a declared error, or what else it is.
    #[doc(hidden)]
    fn into_parts(self) -> Result<Declared, Problem>;

    /// Reads the fields of the declared error of a name; none is no error of this call.
    #[doc(hidden)]
    fn read(name: &str, fields: &[u8]) -> Option<Result<Self, ReadError>>;
}

/// Is a declared error, as a server sends it.
#[doc(hidden)]
#[derive(Debug)]
pub struct Declared {
    pub name: &'static str,
    pub status: u16,
    pub title: &'static str,
    pub fields: Result<String, WriteError>,
}
