use std::collections::BTreeMap;
use std::hash::{Hash, Hasher};
use std::marker::PhantomData;

use super::any::{hash_float, Any};
use super::cbor::{CborReader, CborWriter};
use super::decimal::Decimal;
use super::error::{ReadError, WriteError};
use super::json::{JsonReader, JsonWriter};
use super::key::Key;
use super::message::Partial;
use super::stream::Encoding;
use super::time::{Date, Duration, Instant};
use super::unlisted::Unlisted;
use super::uuid::Uuid;
use super::violations::Violations;

/// Reads and writes the values of one type of the definitions.
pub trait Codec {
    /// What is read and written.
    type Value;

    #[doc(hidden)]
    fn write_cbor(value: &Self::Value, w: &mut CborWriter);
    #[doc(hidden)]
    fn read_cbor(r: &mut CborReader<'_>) -> Result<Self::Value, ReadError>;
    #[doc(hidden)]
    fn write_json(value: &Self::Value, w: &mut JsonWriter);
    #[doc(hidden)]
    fn read_json(r: &mut JsonReader<'_>) -> Result<Self::Value, ReadError>;
    #[doc(hidden)]
    fn violations(_value: &Self::Value, _v: &mut Violations) {}
    /// Whether two values are the same: NaN is what NaN is.
    #[doc(hidden)]
    fn same(a: &Self::Value, b: &Self::Value) -> bool;
    #[doc(hidden)]
    fn hash<H: Hasher>(value: &Self::Value, state: &mut H);
}

/// How many items a payload may have that a program reads: bounds the memory that a payload of some bytes can need.
pub(in crate::faithful) const BUDGET: usize = 1_000_000;

/// Writes a value as CBOR, after what is there.
#[doc(hidden)]
pub fn append_cbor<C: Codec>(value: &C::Value, out: &mut Vec<u8>) -> Result<(), WriteError> {
    append_cbor_by(
        out,
        |w| C::write_cbor(value, w),
        |w| C::write_json(value, w),
    )
}

/// Writes as CBOR, after what is there; what writes JSON finds where it can't be.
#[doc(hidden)]
pub fn append_cbor_by(
    out: &mut Vec<u8>,
    cbor: impl FnOnce(&mut CborWriter),
    json: impl FnOnce(&mut JsonWriter),
) -> Result<(), WriteError> {
    let start = out.len();
    let mut w = CborWriter::after(std::mem::take(out));
    cbor(&mut w);
    let (data, failed) = w.finish();
    *out = data;
    if let Some(detail) = failed {
        out.truncate(start);
        let mut w = JsonWriter::locating();
        json(&mut w);
        return Err(w
            .failed()
            .unwrap_or_else(|| WriteError::new(String::new(), detail)));
    }
    Ok(())
}

/// Writes a value as JSON, after what is there.
#[doc(hidden)]
pub fn append_json<C: Codec>(value: &C::Value, out: &mut Vec<u8>) -> Result<(), WriteError> {
    append_json_by(out, |w| C::write_json(value, w))
}

/// Writes as JSON, after what is there, and once more to find where it can't be.
#[doc(hidden)]
pub fn append_json_by(out: &mut Vec<u8>, json: impl Fn(&mut JsonWriter)) -> Result<(), WriteError> {
    let start = out.len();
    let mut w = JsonWriter::after(std::mem::take(out));
    json(&mut w);
    let (data, failed) = w.finish();
    *out = data;
    if let Some(detail) = failed {
        out.truncate(start);
        let mut w = JsonWriter::tracing();
        json(&mut w);
        return Err(w
            .failed()
            .unwrap_or_else(|| WriteError::new(String::new(), detail)));
    }
    Ok(())
}

/// Writes a value as JSON.
#[doc(hidden)]
pub fn to_json<C: Codec>(value: &C::Value) -> Result<String, WriteError> {
    let mut out = Vec::with_capacity(256);
    append_json::<C>(value, &mut out)?;
    // What writers write is UTF-8; the check costs little next to writing it.
    String::from_utf8(out)
        .map_err(|_| WriteError::new(String::new(), "text that is not UTF-8".into()))
}

/// Writes a value as CBOR.
#[doc(hidden)]
pub fn to_cbor<C: Codec>(value: &C::Value) -> Result<Vec<u8>, WriteError> {
    let mut out = Vec::with_capacity(256);
    append_cbor::<C>(value, &mut out)?;
    Ok(out)
}

/// Reads a value from CBOR, all of it, with at most so many items and entries.
#[doc(hidden)]
pub fn from_cbor<C: Codec>(data: &[u8], budget: usize) -> Result<C::Value, ReadError> {
    let mut r = CborReader::new(data, budget);
    let value = C::read_cbor(&mut r)?;
    r.end()?;
    Ok(value)
}

/// Reads a value from JSON, all of it, with at most so many items and entries.
#[doc(hidden)]
pub fn from_json<C: Codec>(data: &[u8], budget: usize) -> Result<C::Value, ReadError> {
    let mut r = JsonReader::new(data, budget);
    let value = C::read_json(&mut r)?;
    r.end()?;
    Ok(value)
}

/// Reads what a message lists, and the rest, from a payload, all of it.
#[doc(hidden)]
pub fn read_partial<P: Partial>(
    data: &[u8],
    encoding: Encoding,
    budget: usize,
) -> Result<(P, Unlisted), ReadError> {
    match encoding {
        Encoding::Cbor => {
            let mut r = CborReader::new(data, budget);
            let read = r.message::<P>()?;
            r.end()?;
            Ok(read)
        }
        Encoding::Json => {
            let mut r = JsonReader::new(data, budget);
            let read = r.message::<P>()?;
            r.end()?;
            Ok(read)
        }
    }
}

/// Says that a required field is not there.
#[doc(hidden)]
#[must_use]
pub fn missing(name: &str) -> ReadError {
    ReadError::new("the field is required", 0).inside(name)
}

/// Is a value as JSON for people and logs, without what is secret.
#[doc(hidden)]
pub fn for_people<C: Codec>(value: &C::Value) -> String {
    let mut w = JsonWriter::for_people();
    C::write_json(value, &mut w);
    String::from_utf8_lossy(&w.finish().0).into_owned()
}

/// Reads a value from CBOR, all of it.
#[doc(hidden)]
pub fn decode_cbor<C: Codec>(data: &[u8]) -> Result<C::Value, ReadError> {
    from_cbor::<C>(data, BUDGET)
}

/// Reads a value from JSON, all of it.
#[doc(hidden)]
pub fn decode_json<C: Codec>(data: &[u8]) -> Result<C::Value, ReadError> {
    from_json::<C>(data, BUDGET)
}

macro_rules! plain {
    ($($codec:ty, $value:ty, $method:ident, ($($given:tt)*);)*) => {$(
        impl Codec for $codec {
            type Value = $value;

            #[inline]
            fn write_cbor(value: &$value, w: &mut CborWriter) {
                w.$method($($given)* value);
            }

            #[inline]
            fn read_cbor(r: &mut CborReader<'_>) -> Result<$value, ReadError> {
                r.$method()
            }

            #[inline]
            fn write_json(value: &$value, w: &mut JsonWriter) {
                w.$method($($given)* value);
            }

            #[inline]
            fn read_json(r: &mut JsonReader<'_>) -> Result<$value, ReadError> {
                r.$method()
            }

            #[inline]
            fn same(a: &$value, b: &$value) -> bool {
                a == b
            }

            #[inline]
            fn hash<H: Hasher>(value: &$value, state: &mut H) {
                value.hash(state);
            }
        }
    )*};
}

/// Is the codec of bytes.
#[doc(hidden)]
pub enum Bytes {}

plain! {
    bool, bool, bool, (*);
    i8, i8, int8, (*);
    i16, i16, int16, (*);
    i32, i32, int32, (*);
    i64, i64, int64, (*);
    u8, u8, uint8, (*);
    u16, u16, uint16, (*);
    u32, u32, uint32, (*);
    u64, u64, uint64, (*);
    Decimal, Decimal, decimal, ();
    String, String, text, ();
    Bytes, Vec<u8>, bytes, ();
    Uuid, Uuid, uuid, ();
    Instant, Instant, instant, ();
    Date, Date, date, ();
    Duration, Duration, duration, ();
    Any, Any, any, ();
}

macro_rules! floats {
    ($($float:ty, $method:ident;)*) => {$(
        impl Codec for $float {
            type Value = $float;

            #[inline]
            fn write_cbor(value: &$float, w: &mut CborWriter) {
                w.$method(*value);
            }

            #[inline]
            fn read_cbor(r: &mut CborReader<'_>) -> Result<$float, ReadError> {
                r.$method()
            }

            #[inline]
            fn write_json(value: &$float, w: &mut JsonWriter) {
                w.$method(*value);
            }

            #[inline]
            fn read_json(r: &mut JsonReader<'_>) -> Result<$float, ReadError> {
                r.$method()
            }

            #[inline]
            #[allow(clippy::float_cmp)] // they are the same or not
            fn same(a: &$float, b: &$float) -> bool {
                a == b || (a.is_nan() && b.is_nan())
            }

            #[inline]
            fn hash<H: Hasher>(value: &$float, state: &mut H) {
                hash_float(f64::from(*value), state);
            }
        }
    )*};
}

floats! {
    f32, float32;
    f64, float64;
}

/// Is the codec of lists.
#[doc(hidden)]
pub struct List<C>(PhantomData<C>);

impl<C: Codec> Codec for List<C> {
    type Value = Vec<C::Value>;

    fn write_cbor(value: &Self::Value, w: &mut CborWriter) {
        w.begin_list(value.len());
        for item in value {
            C::write_cbor(item, w);
        }
        w.leave();
    }

    fn read_cbor(r: &mut CborReader<'_>) -> Result<Self::Value, ReadError> {
        let mut items = r.open_list()?;
        let mut list = Vec::with_capacity(items.room());
        while r.more(&mut items)? {
            let item = C::read_cbor(r).map_err(|e| e.inside(&list.len().to_string()))?;
            list.push(item);
        }
        Ok(list)
    }

    fn write_json(value: &Self::Value, w: &mut JsonWriter) {
        let start = w.begin();
        for (i, item) in value.iter().enumerate() {
            w.item(i);
            C::write_json(item, w);
        }
        w.end(start, b'[', b']');
    }

    fn read_json(r: &mut JsonReader<'_>) -> Result<Self::Value, ReadError> {
        let mut first = r.begin(b'[', "a list")?;
        let mut list = Vec::new();
        while r.following(&mut first, b']')? {
            let item = C::read_json(r).map_err(|e| e.inside(&list.len().to_string()))?;
            list.push(item);
        }
        Ok(list)
    }

    fn violations(value: &Self::Value, v: &mut Violations) {
        for (i, item) in value.iter().enumerate() {
            v.inside(&i.to_string(), |v| C::violations(item, v));
        }
    }

    fn same(a: &Self::Value, b: &Self::Value) -> bool {
        a.len() == b.len() && a.iter().zip(b).all(|(a, b)| C::same(a, b))
    }

    fn hash<H: Hasher>(value: &Self::Value, state: &mut H) {
        value.len().hash(state);
        for item in value {
            C::hash(item, state);
        }
    }
}

/// Is the codec of maps.
#[doc(hidden)]
pub struct Map<K, C>(PhantomData<(K, C)>);

impl<K: Key, C: Codec> Codec for Map<K, C> {
    type Value = BTreeMap<K, C::Value>;

    fn write_cbor(value: &Self::Value, w: &mut CborWriter) {
        w.begin_map(value.len());
        each_sorted(value, |key, item| {
            key.write_cbor_key(w);
            C::write_cbor(item, w);
        });
        w.leave();
    }

    fn read_cbor(r: &mut CborReader<'_>) -> Result<Self::Value, ReadError> {
        let mut entries = r.open_map()?;
        let mut map = BTreeMap::new();
        while r.more(&mut entries)? {
            let key = K::read_cbor_key(r)?;
            let item = match C::read_cbor(r) {
                Ok(item) => item,
                Err(e) => return Err(e.inside(&key.text())),
            };
            if map.insert(key, item).is_some() {
                return Err(r.twice());
            }
        }
        Ok(map)
    }

    fn write_json(value: &Self::Value, w: &mut JsonWriter) {
        let start = w.begin();
        each_sorted(value, |key, item| {
            key.write_json_key(w);
            C::write_json(item, w);
        });
        w.end(start, b'{', b'}');
    }

    fn read_json(r: &mut JsonReader<'_>) -> Result<Self::Value, ReadError> {
        let mut first = r.begin(b'{', "a map")?;
        let mut map = BTreeMap::new();
        while let Some(name) = r.next_member(&mut first)? {
            let key = K::read_json_key(&name, r)?;
            let item = match C::read_json(r) {
                Ok(item) => item,
                Err(e) => return Err(e.inside(&key.text())),
            };
            if map.insert(key, item).is_some() {
                return Err(r.twice());
            }
        }
        Ok(map)
    }

    fn violations(value: &Self::Value, v: &mut Violations) {
        each_sorted(value, |key, item| {
            v.inside(&key.text(), |v| {
                key.key_violations(v);
                C::violations(item, v);
            });
        });
    }

    fn same(a: &Self::Value, b: &Self::Value) -> bool {
        a.len() == b.len()
            && a.iter()
                .zip(b)
                .all(|((k, a), (l, b))| k == l && C::same(a, b))
    }

    fn hash<H: Hasher>(value: &Self::Value, state: &mut H) {
        value.len().hash(state);
        for (key, item) in value {
            key.hash(state);
            C::hash(item, state);
        }
    }
}

/// Visits the entries of a map in the order of their keys' encoding (RFC 8949, section 4.2.1).
fn each_sorted<K: Key, V>(map: &BTreeMap<K, V>, mut visit: impl FnMut(&K, &V)) {
    if K::IN_ORDER || map.len() < 2 {
        for (key, item) in map {
            visit(key, item);
        }
        return;
    }
    let mut entries: Vec<(&K, &V)> = map.iter().collect();
    entries.sort_by(|a, b| a.0.compare(b.0));
    for (key, item) in entries {
        visit(key, item);
    }
}

/// Is the codec of what is in a box.
#[doc(hidden)]
pub struct Boxed<C>(PhantomData<C>);

impl<C: Codec> Codec for Boxed<C> {
    type Value = Box<C::Value>;

    fn write_cbor(value: &Self::Value, w: &mut CborWriter) {
        C::write_cbor(value, w);
    }

    fn read_cbor(r: &mut CborReader<'_>) -> Result<Self::Value, ReadError> {
        C::read_cbor(r).map(Box::new)
    }

    fn write_json(value: &Self::Value, w: &mut JsonWriter) {
        C::write_json(value, w);
    }

    fn read_json(r: &mut JsonReader<'_>) -> Result<Self::Value, ReadError> {
        C::read_json(r).map(Box::new)
    }

    fn violations(value: &Self::Value, v: &mut Violations) {
        C::violations(value, v);
    }

    fn same(a: &Self::Value, b: &Self::Value) -> bool {
        C::same(a, b)
    }

    fn hash<H: Hasher>(value: &Self::Value, state: &mut H) {
        C::hash(value, state);
    }
}
