use std::borrow::Cow;

use super::cbor::CborReader;
use super::error::ReadError;
use super::json::JsonReader;

/// Is what readers and writers know of a message's fields, or of a union's alternatives.
#[doc(hidden)]
pub struct Fields {
    /// The name of the message, for errors.
    pub message: &'static str,
    /// The numbers of the fields, ascending.
    pub numbers: &'static [u16],
    /// Their names in JSON.
    pub names: &'static [&'static str],
    /// How each begins as a member of an object: a comma, the name in quotes and a colon.
    pub heads: &'static [&'static str],
}

impl Fields {
    #[allow(clippy::len_without_is_empty)]
    #[must_use]
    pub const fn len(&self) -> usize {
        self.numbers.len()
    }

    /// Is the step of a path to a number.
    pub(super) fn step(&self, number: u16) -> Cow<'static, str> {
        match self.numbers.binary_search(&number) {
            Ok(index) => Cow::Borrowed(self.names[index]),
            Err(_) => Cow::Owned(format!("#{number}")),
        }
    }

    pub(super) fn lists(&self, number: u16) -> bool {
        self.numbers.binary_search(&number).is_ok()
    }
}

/// Is a message while it is read.
#[doc(hidden)]
pub trait Partial: Default {
    const FIELDS: &'static Fields;
    /// Whether the message is a patch, in which null may stand for a number.
    const PATCH: bool = false;

    /// Reads the field of a number; false is none.
    fn cbor(&mut self, number: u16, r: &mut CborReader<'_>) -> Result<bool, ReadError>;

    /// Reads the field of an index.
    fn json(&mut self, index: usize, r: &mut JsonReader<'_>) -> Result<(), ReadError>;

    /// Is the index of a name.
    fn index(name: &[u8]) -> Option<usize>;
}

/// Stands for a required field that is set.
#[doc(hidden)]
pub enum Set {}

/// Holds a field while its message is read.
#[doc(hidden)]
#[derive(Default)]
pub enum Slot<T> {
    /// It was not read.
    #[default]
    Empty,
    /// It was read, and is absent.
    Absent,
    /// It was read.
    Value(T),
}

impl<T> Slot<T> {
    pub(super) fn is_empty(&self) -> bool {
        matches!(self, Self::Empty)
    }

    /// Is the value of a required field, or its name where there is none.
    pub fn required(self, name: &'static str) -> Result<T, &'static str> {
        self.optional().ok_or(name)
    }

    /// Is the value of a field that may be absent.
    pub fn optional(self) -> Option<T> {
        match self {
            Self::Value(value) => Some(value),
            Self::Empty | Self::Absent => None,
        }
    }

    /// Is the value of a field that has a default.
    pub fn or(self, default: impl FnOnce() -> T) -> T {
        self.optional().unwrap_or_else(default)
    }
}

impl<T> From<Option<T>> for Slot<T> {
    fn from(value: Option<T>) -> Self {
        value.map_or(Self::Absent, Self::Value)
    }
}
