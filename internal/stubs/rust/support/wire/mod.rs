//! Payloads: CBOR (RFC 8949) and JSON (RFC 8259), and the types that the language has not.

#![allow(clippy::missing_errors_doc)] // of functions that are hidden: stubs alone call them

mod any;
mod base64;
mod cbor;
mod change;
mod codec;
mod compare;
mod decimal;
mod error;
mod json;
mod key;
mod message;
mod pattern;
mod plain;
mod stream;
mod time;
mod unlisted;
mod uuid;
mod violations;

pub use any::Any;
pub(super) use base64::{padded as encode_base64, parse as decode_base64};
#[doc(hidden)]
pub use cbor::{CborReader, CborWriter};
pub use change::Change;
pub(super) use codec::BUDGET;
#[doc(hidden)]
pub use codec::{
    append_cbor, append_cbor_by, append_json, append_json_by, decode_cbor, decode_json, for_people,
    from_cbor, from_json, missing, read_partial, to_cbor, to_json, Boxed, Bytes, Codec, List, Map,
};
#[doc(hidden)]
pub use compare::{hash, hash_change, hash_option, present, same, same_change, same_option};
pub use decimal::Decimal;
pub use error::{ReadError, WriteError};
#[doc(hidden)]
pub use json::{JsonReader, JsonWriter};
#[doc(hidden)]
pub use key::{member_key, Key};
#[doc(hidden)]
pub use message::{Fields, Partial, Set, Slot};
#[doc(hidden)]
pub use pattern::{Pattern, State};
#[doc(hidden)]
pub use plain::{read_plain, to_plain, Shape};
pub use stream::Encoding;
#[doc(hidden)]
pub use stream::{
    append_end, append_heartbeat, append_problem, append_value, read_element, Element, Splitter,
};
pub use time::{Date, Duration, Instant};
pub use unlisted::{Unlisted, UnlistedField, UnlistedMember};
pub use uuid::{ParseError, Uuid};
#[doc(hidden)]
pub use violations::{shown_float, Violations};
pub use violations::{Invalid, Violation};
