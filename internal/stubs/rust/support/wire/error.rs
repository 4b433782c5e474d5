//! Why a payload can't be read, or a value not be written.

use std::borrow::Cow;
use std::fmt;

/// Says why a payload could not be read.
#[derive(Clone, PartialEq, Eq)]
pub struct ReadError(Box<Reason>);

#[derive(Clone, PartialEq, Eq)]
struct Reason {
    detail: Cow<'static, str>,
    path: String,
    offset: usize,
    too_large: bool,
}

impl ReadError {
    #[cold]
    pub(super) fn new(detail: impl Into<Cow<'static, str>>, offset: usize) -> Self {
        Self(Box::new(Reason {
            detail: detail.into(),
            path: String::new(),
            offset,
            too_large: false,
        }))
    }

    /// Is how payloads are refused that contain more than readers take.
    #[doc(hidden)]
    #[cold]
    pub fn too_large(detail: impl Into<Cow<'static, str>>, offset: usize) -> Self {
        let mut error = Self::new(detail, offset);
        error.0.too_large = true;
        error
    }

    /// Adds a step to the path, on the way up.
    #[doc(hidden)]
    #[cold]
    #[must_use]
    pub fn inside(mut self, step: &str) -> Self {
        self.0.path = format!("/{}{}", escaped(step), self.0.path);
        self
    }

    /// Moves the error to another place of the payload.
    pub(super) fn moved(mut self, offset: usize) -> Self {
        self.0.offset = offset;
        self
    }

    /// Where it is in the value, as a JSON Pointer (RFC 6901); empty for all of it.
    #[must_use]
    pub fn path(&self) -> &str {
        &self.0.path
    }

    /// What is wrong there.
    #[must_use]
    pub fn detail(&self) -> &str {
        &self.0.detail
    }

    /// How many bytes of the payload lie before it.
    #[must_use]
    pub fn offset(&self) -> usize {
        self.0.offset
    }

    /// Whether the payload contains more than readers take.
    #[must_use]
    pub fn is_too_large(&self) -> bool {
        self.0.too_large
    }
}

impl fmt::Display for ReadError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let place = if self.0.path.is_empty() {
            "payload"
        } else {
            &self.0.path
        };
        write!(f, "{place}: {} (byte {})", self.0.detail, self.0.offset)
    }
}

impl fmt::Debug for ReadError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ReadError({self})")
    }
}

impl std::error::Error for ReadError {}

/// Says why a value could not be written.
#[derive(Clone, PartialEq, Eq)]
pub struct WriteError(Box<(String, Cow<'static, str>)>);

impl WriteError {
    #[cold]
    pub(super) fn new(path: String, detail: Cow<'static, str>) -> Self {
        Self(Box::new((path, detail)))
    }

    /// Where it is in the value, as a JSON Pointer (RFC 6901); empty for all of it.
    #[must_use]
    pub fn path(&self) -> &str {
        &self.0 .0
    }

    /// What is wrong there.
    #[must_use]
    pub fn detail(&self) -> &str {
        &self.0 .1
    }
}

impl fmt::Display for WriteError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let place = if self.path().is_empty() {
            "payload"
        } else {
            self.path()
        };
        write!(f, "{place}: {}", self.detail())
    }
}

impl fmt::Debug for WriteError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "WriteError({self})")
    }
}

impl std::error::Error for WriteError {}

/// Is a step of a JSON Pointer.
pub(super) fn escaped(step: &str) -> Cow<'_, str> {
    if step.contains(['~', '/']) {
        Cow::Owned(step.replace('~', "~0").replace('/', "~1"))
    } else {
        Cow::Borrowed(step)
    }
}

/// Is a text as errors show it: at most 40 characters.
pub(super) fn shortened(text: &str) -> Cow<'_, str> {
    match text.char_indices().nth(40) {
        Some((end, _)) => Cow::Owned(format!("{}…", &text[..end])),
        None => Cow::Borrowed(text),
    }
}
