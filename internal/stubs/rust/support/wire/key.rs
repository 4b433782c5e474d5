use std::borrow::Cow;
use std::cmp::Ordering;
use std::hash::Hash;

use super::cbor::{CborReader, CborWriter};
use super::error::{shortened, ReadError};
use super::json::{JsonReader, JsonWriter};
use super::violations::Violations;

/// Is what can be the key of a map.
#[doc(hidden)]
pub trait Key: Ord + Hash {
    /// Whether keys are ordered as their encodings are.
    const IN_ORDER: bool;

    fn write_cbor_key(&self, w: &mut CborWriter);
    fn read_cbor_key(r: &mut CborReader<'_>) -> Result<Self, ReadError>
    where
        Self: Sized;
    fn write_json_key(&self, w: &mut JsonWriter) {
        w.member(&self.text());
    }
    fn read_json_key(name: &str, r: &JsonReader<'_>) -> Result<Self, ReadError>
    where
        Self: Sized;
    fn text(&self) -> Cow<'_, str>;
    /// Compares encodings (RFC 8949, section 4.2.1).
    fn compare(&self, other: &Self) -> Ordering;
    fn key_violations(&self, _v: &mut Violations) {}
}

impl Key for String {
    const IN_ORDER: bool = false;

    fn write_cbor_key(&self, w: &mut CborWriter) {
        w.text(self);
    }

    fn read_cbor_key(r: &mut CborReader<'_>) -> Result<Self, ReadError> {
        r.text()
    }

    fn read_json_key(name: &str, _r: &JsonReader<'_>) -> Result<Self, ReadError> {
        Ok(name.to_owned())
    }

    fn text(&self) -> Cow<'_, str> {
        Cow::Borrowed(self)
    }

    fn compare(&self, other: &Self) -> Ordering {
        // The length comes first.
        self.len()
            .cmp(&other.len())
            .then_with(|| self.as_bytes().cmp(other.as_bytes()))
    }
}

macro_rules! integers {
    ($($integer:ty, $method:ident, $in_order:literal;)*) => {$(
        impl Key for $integer {
            const IN_ORDER: bool = $in_order;

            fn write_cbor_key(&self, w: &mut CborWriter) {
                w.$method(*self);
            }

            fn read_cbor_key(r: &mut CborReader<'_>) -> Result<Self, ReadError> {
                r.$method()
            }

            fn read_json_key(name: &str, r: &JsonReader<'_>) -> Result<Self, ReadError> {
                let canonical = name == "0" || !name.trim_start_matches('-').starts_with(['0', '+']);
                name.parse().ok().filter(|_| canonical && !name.starts_with('+')).ok_or_else(|| {
                    r.failure(format!("expected an integer of the key's type, found {}", shortened(name)))
                })
            }

            fn text(&self) -> Cow<'_, str> {
                Cow::Owned(self.to_string())
            }

            #[allow(unused_comparisons)]
            fn compare(&self, other: &Self) -> Ordering {
                match (*self < 0, *other < 0) {
                    (false, true) => Ordering::Less,
                    (true, false) => Ordering::Greater,
                    (false, false) => self.cmp(other),
                    (true, true) => other.cmp(self), // -1 is encoded as 0
                }
            }
        }
    )*};
}

integers! {
    i8, int8, false;
    i16, int16, false;
    i32, int32, false;
    i64, int64, false;
    u8, uint8, true;
    u16, uint16, true;
    u32, uint32, true;
    u64, uint64, true;
}

/// Reads the key of a map whose keys are members of an enum: canonical digits are a number, all else is a name.
#[doc(hidden)]
pub fn member_key<E>(
    name: &str,
    r: &JsonReader<'_>,
    by_number: impl Fn(u16) -> E,
    by_name: impl Fn(&str) -> E,
) -> Result<E, ReadError> {
    let digits = !name.is_empty()
        && name.bytes().all(|c| c.is_ascii_digit())
        && (name == "0" || !name.starts_with('0'));
    if !digits {
        return Ok(by_name(name));
    }
    match name.parse() {
        Ok(number) => Ok(by_number(number)),
        Err(_) => Err(r.failure(format!(
            "expected a number from 0 to 65535, found {}",
            shortened(name)
        ))),
    }
}
