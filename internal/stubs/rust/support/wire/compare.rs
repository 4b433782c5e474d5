use std::hash::{Hash, Hasher};

use super::any::Any;
use super::change::Change;
use super::codec::Codec;

/// Tells whether two values are the same, as definitions compare them.
#[doc(hidden)]
#[inline]
pub fn same<C: Codec>(a: &C::Value, b: &C::Value) -> bool {
    C::same(a, b)
}

/// Tells whether two values that may be absent are the same.
#[doc(hidden)]
pub fn same_option<C: Codec>(a: &Option<C::Value>, b: &Option<C::Value>) -> bool {
    match (a, b) {
        (Some(a), Some(b)) => C::same(a, b),
        (None, None) => true,
        _ => false,
    }
}

/// Tells whether two changes of a field are the same.
#[doc(hidden)]
pub fn same_change<C: Codec>(a: &Change<C::Value>, b: &Change<C::Value>) -> bool {
    match (a, b) {
        (Change::Set(a), Change::Set(b)) => C::same(a, b),
        (Change::Left, Change::Left) | (Change::Cleared, Change::Cleared) => true,
        _ => false,
    }
}

/// Hashes a value, so that what is the same has one hash.
#[doc(hidden)]
#[inline]
pub fn hash<C: Codec>(value: &C::Value, state: &mut impl Hasher) {
    C::hash(value, state);
}

/// Hashes a value that may be absent.
#[doc(hidden)]
pub fn hash_option<C: Codec>(value: &Option<C::Value>, state: &mut impl Hasher) {
    value.is_some().hash(state);
    if let Some(value) = value {
        C::hash(value, state);
    }
}

/// Hashes a change of a field.
#[doc(hidden)]
pub fn hash_change<C: Codec>(value: &Change<C::Value>, state: &mut impl Hasher) {
    std::mem::discriminant(value).hash(state);
    if let Change::Set(value) = value {
        C::hash(value, state);
    }
}

/// Is the value of a field of any value that may be absent, which null is.
#[doc(hidden)]
#[must_use]
pub fn present<T: AsRef<Any>>(value: &Option<T>) -> Option<&T> {
    value.as_ref().filter(|v| !v.as_ref().is_null())
}
