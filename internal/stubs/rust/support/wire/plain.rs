//! Scalars outside of a body: in a path, a query, a header or a cookie.

use super::codec::{to_json, Codec, BUDGET};
use super::error::WriteError;
use super::json::{JsonReader, JsonWriter};

/// Is how the JSON of a type relates to its text outside of a body.
#[doc(hidden)]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    /// The text is JSON as it is.
    Bare,
    /// The text is JSON without its quotes.
    Quoted,
    /// The text is JSON as it is where it looks like a number, else without its quotes.
    Number,
}

/// Is a scalar as it travels outside of a body: JSON without its quotes.
#[doc(hidden)]
pub fn to_plain<C: Codec>(value: &C::Value) -> Result<String, WriteError> {
    let json = to_json::<C>(value)?;
    if !json.starts_with('"') {
        return Ok(json);
    }
    Ok(JsonReader::new(json.as_bytes(), BUDGET)
        .text()
        .unwrap_or_default())
}

/// Reads a scalar that travels outside of a body.
#[doc(hidden)]
pub fn read_plain<C: Codec>(text: &str, shape: Shape) -> Result<C::Value, String> {
    let looks_like_number = || {
        text.strip_prefix('-')
            .unwrap_or(text)
            .starts_with(|c: char| c.is_ascii_digit())
    };
    let bare = shape == Shape::Bare || (shape == Shape::Number && looks_like_number());
    let json = if bare {
        if text.contains([' ', '\t', '\r', '\n', '"']) {
            return Err("expected a value without blanks and quotes".to_owned());
        }
        text.as_bytes().to_vec()
    } else {
        let mut w = JsonWriter::default();
        w.text(text);
        w.finish().0
    };
    let mut r = JsonReader::new(&json, BUDGET);
    let read = C::read_json(&mut r).and_then(|value| r.end().map(|()| value));
    read.map_err(|e| e.detail().to_owned())
}
