use std::fmt;

use super::codec::Codec;
use super::error::escaped;
use super::json::JsonWriter;

/// Is one way in which a value violates the definitions.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub struct Violation {
    /// Where it is, as a JSON Pointer (RFC 6901).
    pub pointer: String,
    /// What is wrong, for people.
    pub detail: String,
    /// Where the field travels: "path", "query", "header" or "cookie", or nothing for the body.
    pub place: &'static str,
    /// Whether it is a member or an alternative that is not listed.
    pub unlisted: bool,
}

impl Violation {
    /// Makes one that a handler finds, at a JSON Pointer (RFC 6901).
    #[must_use]
    pub fn new(pointer: impl Into<String>, detail: impl Into<String>) -> Self {
        Self {
            pointer: pointer.into(),
            detail: detail.into(),
            ..Self::default()
        }
    }
}

impl fmt::Display for Violation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.pointer, self.detail)
    }
}

/// Says every way in which a value violates the definitions.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Invalid(pub Vec<Violation>);

impl Invalid {
    #[doc(hidden)]
    pub fn unless_none(violations: Vec<Violation>) -> Result<(), Self> {
        if violations.is_empty() {
            Ok(())
        } else {
            Err(Self(violations))
        }
    }
}

impl fmt::Display for Invalid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, violation) in self.0.iter().enumerate() {
            let between = if i > 0 { "; " } else { "" };
            write!(f, "{between}{violation}")?;
        }
        Ok(())
    }
}

impl std::error::Error for Invalid {}

/// Collects violations.
#[doc(hidden)]
#[derive(Default)]
pub struct Violations {
    path: String,
    found: Vec<Violation>,
}

impl Violations {
    /// Lists those of a value.
    pub fn of<C: Codec>(value: &C::Value) -> Vec<Violation> {
        let mut v = Self::default();
        C::violations(value, &mut v);
        v.found
    }

    /// Are those that were found.
    pub(in crate::faithful) fn found(self) -> Vec<Violation> {
        self.found
    }

    /// Looks inside of a field, an item or an entry.
    pub fn inside(&mut self, step: &str, look: impl FnOnce(&mut Self)) {
        let length = self.path.len();
        self.path.push('/');
        self.path.push_str(&escaped(step));
        look(self);
        self.path.truncate(length);
    }

    /// Adds a violation of what is looked at.
    pub fn refuse(&mut self, detail: impl Into<String>) {
        self.found.push(Violation {
            pointer: self.path.clone(),
            detail: detail.into(),
            place: "",
            unlisted: false,
        });
    }

    /// Adds a violation of what is looked at, with what it is instead.
    pub fn refuse_not(&mut self, detail: &str, found: impl fmt::Display) {
        self.refuse(format!("{detail}, not {found}"));
    }

    /// Refuses a member or an alternative that is not listed.
    pub fn refuse_unlisted(&mut self, names: &str) {
        self.refuse(format!("must be one of {names}"));
        if let Some(violation) = self.found.last_mut() {
            violation.unlisted = true;
        }
    }

    /// Refuses items that come twice.
    pub fn unique<C: Codec>(&mut self, items: &[C::Value]) {
        let mut seen = std::collections::HashMap::new();
        for (i, item) in items.iter().enumerate() {
            let mut w = JsonWriter::comparing();
            C::write_json(item, &mut w);
            let first = *seen.entry(w.finish().0).or_insert(i);
            if first < i {
                self.inside(&i.to_string(), |v| {
                    v.refuse(format!("must be unique, and is equal to element {first}"));
                });
            }
        }
    }
}

/// Is a float as JSON has it, for people.
#[doc(hidden)]
#[must_use]
pub fn shown_float(v: f64) -> String {
    let mut w = JsonWriter::default();
    w.float64(v);
    String::from_utf8_lossy(&w.finish().0).replace('"', "")
}
