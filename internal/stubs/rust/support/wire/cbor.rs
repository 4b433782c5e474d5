//! Reads and writes CBOR (RFC 8949).

// What is cut off is written apart; floats are held against each other to the bit; numbers are those of RFC 8949.
#![allow(
    clippy::cast_possible_truncation,
    clippy::cast_precision_loss,
    clippy::cast_sign_loss,
    clippy::decimal_bitwise_operands,
    clippy::float_cmp,
    clippy::verbose_bit_mask
)]

use std::borrow::Cow;
use std::collections::BTreeMap;

use super::any::Any;
use super::change::Change;
use super::codec::{Codec, List, Map};
use super::decimal::{Decimal, TOO_LONG};
use super::error::ReadError;
use super::message::{Fields, Partial, Slot};
use super::time::{Date, Duration, Instant};
use super::unlisted::{Unlisted, UnlistedField, UnlistedKey, UnlistedMember};
use super::uuid::Uuid;

// Major types (section 3.1), shifted to their place.
const UNSIGNED: u8 = 0 << 5;
const NEGATIVE: u8 = 1 << 5;
const BYTES: u8 = 2 << 5;
const TEXT: u8 = 3 << 5;
const ARRAY: u8 = 4 << 5;
const MAP: u8 = 5 << 5;
const TAG: u8 = 6 << 5;
const SIMPLE: u8 = 7 << 5;

const INDEFINITE: u8 = 31;
const BREAK: u8 = 0xff;
const NULL: u8 = 0xf6;

pub(super) const REQUIRED: &str = "the field is required, and can't be cleared";
pub(super) const MAX_DEPTH: usize = 100;
pub(super) const TOO_DEEP: &str = "a nesting over 100";

/// Writes CBOR, one byte string for one value (section 4.2.1).
#[doc(hidden)]
pub struct CborWriter {
    data: Vec<u8>,
    depth: usize,
    failed: Option<Cow<'static, str>>,
}

/// Is where a message that is being written is among its unlisted fields.
#[doc(hidden)]
pub struct Rest<'a>(pub(super) &'a [UnlistedField]);

impl CborWriter {
    pub(super) fn after(data: Vec<u8>) -> Self {
        Self {
            data,
            depth: 0,
            failed: None,
        }
    }

    /// What was written, and why not all of it could be.
    pub(super) fn finish(self) -> (Vec<u8>, Option<Cow<'static, str>>) {
        (self.data, self.failed)
    }

    #[cold]
    pub(super) fn fail(&mut self, detail: impl Into<Cow<'static, str>>) {
        self.failed.get_or_insert_with(|| detail.into());
    }

    #[inline]
    fn head(&mut self, major: u8, n: u64) {
        match n {
            0..=23 => self.data.push(major | n as u8),
            _ => self.long_head(major, n),
        }
    }

    fn long_head(&mut self, major: u8, n: u64) {
        let bytes = n.to_be_bytes();
        let (info, from) = match n {
            0..=0xff => (24, 7),
            0x100..=0xffff => (25, 6),
            0x1_0000..=0xffff_ffff => (26, 4),
            _ => (27, 0),
        };
        self.data.push(major | info);
        self.data.extend_from_slice(&bytes[from..]);
    }

    fn enter(&mut self) {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            self.fail(TOO_DEEP);
        }
    }

    /// Ends a list, a map or a union.
    pub fn leave(&mut self) {
        self.depth -= 1;
    }

    /// Begins a message of so many fields and those that are not listed.
    #[inline]
    pub fn begin<'a>(&mut self, entries: usize, unlisted: &'a Unlisted) -> Rest<'a> {
        self.enter();
        let numbers = unlisted.numbers();
        self.head(MAP, (entries + numbers) as u64);
        Rest(&unlisted.fields()[..numbers])
    }

    /// Begins a field, after the unlisted ones that come before it.
    #[inline]
    pub fn field(&mut self, rest: &mut Rest<'_>, number: u16) {
        if !rest.0.is_empty() {
            self.unlisted_below(rest, u32::from(number));
        }
        self.head(UNSIGNED, u64::from(number));
    }

    #[cold]
    fn unlisted_below(&mut self, rest: &mut Rest<'_>, limit: u32) {
        while let [UnlistedField {
            key: UnlistedKey::Number(number),
            raw,
        }, after @ ..] = rest.0
        {
            if u32::from(*number) >= limit {
                return;
            }
            self.head(UNSIGNED, u64::from(*number));
            self.data.extend_from_slice(raw);
            rest.0 = after;
        }
    }

    /// Ends a message.
    #[inline]
    pub fn end(&mut self, mut rest: Rest<'_>) {
        if !rest.0.is_empty() {
            self.unlisted_below(&mut rest, 1 << 16);
        }
        self.leave();
    }

    /// Refuses to clear a field that is required.
    pub fn cant_clear(&mut self) {
        self.fail(REQUIRED);
        self.null();
    }

    /// Writes null, with which a patch clears a field.
    pub fn null(&mut self) {
        self.data.push(NULL);
    }

    #[inline]
    pub fn bool(&mut self, v: bool) {
        self.data.push(SIMPLE | if v { 21 } else { 20 });
    }

    #[inline]
    fn integer(&mut self, v: i64) {
        if v < 0 {
            self.head(NEGATIVE, !(v as u64));
        } else {
            self.head(UNSIGNED, v as u64);
        }
    }

    #[inline]
    pub fn int8(&mut self, v: i8) {
        self.integer(i64::from(v));
    }

    #[inline]
    pub fn int16(&mut self, v: i16) {
        self.integer(i64::from(v));
    }

    #[inline]
    pub fn int32(&mut self, v: i32) {
        self.integer(i64::from(v));
    }

    #[inline]
    pub fn int64(&mut self, v: i64) {
        self.integer(v);
    }

    #[inline]
    pub fn uint8(&mut self, v: u8) {
        self.head(UNSIGNED, u64::from(v));
    }

    #[inline]
    pub fn uint16(&mut self, v: u16) {
        self.head(UNSIGNED, u64::from(v));
    }

    #[inline]
    pub fn uint32(&mut self, v: u32) {
        self.head(UNSIGNED, u64::from(v));
    }

    #[inline]
    pub fn uint64(&mut self, v: u64) {
        self.head(UNSIGNED, v);
    }

    #[inline]
    pub fn float32(&mut self, v: f32) {
        let bits = if v.is_nan() { 0x7fc0_0000 } else { v.to_bits() };
        self.data.push(SIMPLE | 26);
        self.data.extend_from_slice(&bits.to_be_bytes());
    }

    #[inline]
    pub fn float64(&mut self, v: f64) {
        let bits = if v.is_nan() {
            0x7ff8_0000_0000_0000
        } else {
            v.to_bits()
        };
        self.data.push(SIMPLE | 27);
        self.data.extend_from_slice(&bits.to_be_bytes());
    }

    /// Writes a decimal (tag 4).
    pub fn decimal(&mut self, v: &Decimal) {
        self.data.extend_from_slice(&[TAG | 4, ARRAY | 2]);
        self.integer(-i64::from(v.scale()));
        let mantissa = v.mantissa();
        let (negative, amount) = if mantissa < 0 {
            (true, !mantissa)
        } else {
            (false, mantissa)
        };
        let amount = amount as u128;
        if let Ok(small) = u64::try_from(amount) {
            self.head(if negative { NEGATIVE } else { UNSIGNED }, small);
            return;
        }
        self.head(TAG, if negative { 3 } else { 2 });
        let zeros = amount.leading_zeros() as usize / 8;
        self.head(BYTES, 16 - zeros as u64);
        self.data.extend_from_slice(&amount.to_be_bytes()[zeros..]);
    }

    #[inline]
    pub fn text(&mut self, v: &str) {
        self.head(TEXT, v.len() as u64);
        self.data.extend_from_slice(v.as_bytes());
    }

    #[inline]
    pub fn bytes(&mut self, v: &[u8]) {
        self.head(BYTES, v.len() as u64);
        self.data.extend_from_slice(v);
    }

    /// Writes a uuid (tag 37).
    #[inline]
    pub fn uuid(&mut self, v: &Uuid) {
        let mut all = [0; 19];
        all[..3].copy_from_slice(&[TAG | 24, 37, BYTES | 16]);
        all[3..].copy_from_slice(v.as_bytes());
        self.data.extend_from_slice(&all);
    }

    /// Writes an instant (tag 1, or tag 1001 with a fraction; RFC 9581).
    pub fn instant(&mut self, v: &Instant) {
        if v.nanos() == 0 {
            self.head(TAG, 1);
            self.integer(v.seconds());
        } else {
            self.head(TAG, 1001);
            self.extended_time(v.seconds(), v.nanos());
        }
    }

    /// Writes seconds, and the coarsest exact fraction of a second.
    fn extended_time(&mut self, seconds: i64, nanos: u32) {
        self.head(MAP, if nanos == 0 { 1 } else { 2 });
        self.head(UNSIGNED, 1);
        self.integer(seconds);
        let (key, amount) = match nanos {
            0 => return,
            n if n % 1_000_000 == 0 => (-3, n / 1_000_000),
            n if n % 1_000 == 0 => (-6, n / 1_000),
            n => (-9, n),
        };
        self.integer(key);
        self.integer(i64::from(amount));
    }

    /// Writes a date (tag 100; RFC 8943).
    pub fn date(&mut self, v: &Date) {
        self.head(TAG, 100);
        self.integer(i64::from(v.days()));
    }

    /// Writes a duration (tag 1002; RFC 9581).
    pub fn duration(&mut self, v: &Duration) {
        let (seconds, nanos) = v.parts();
        self.head(TAG, 1002);
        self.extended_time(seconds, nanos);
    }

    pub fn any(&mut self, v: &Any) {
        match v {
            Any::Null => self.null(),
            Any::Bool(v) => self.bool(*v),
            Any::Int(v) => self.integer(*v),
            Any::Uint(v) => self.head(UNSIGNED, *v),
            Any::Float(v) => {
                if !v.is_finite() {
                    self.fail("an any can't contain a number that is not finite");
                }
                self.float64(*v);
            }
            Any::Text(v) => self.text(v),
            Any::List(v) => List::<Any>::write_cbor(v, self),
            Any::Map(v) => Map::<String, Any>::write_cbor(v, self),
        }
    }

    /// Writes the number of an enum's member.
    #[inline]
    pub fn member(&mut self, number: u16) {
        self.head(UNSIGNED, u64::from(number));
    }

    /// Writes a member that is not listed, if its number is known.
    pub fn unlisted_member(&mut self, enum_name: &str, member: &UnlistedMember) {
        match member {
            UnlistedMember::Number(number) => self.member(*number),
            UnlistedMember::Name(name) => self.fail(without_number(name, enum_name)),
        }
    }

    pub fn begin_list(&mut self, length: usize) {
        self.enter();
        self.head(ARRAY, length as u64);
    }

    pub fn begin_map(&mut self, length: usize) {
        self.enter();
        self.head(MAP, length as u64);
    }

    /// Begins an alternative of a union; [`leave`](Self::leave) ends it.
    pub fn begin_union(&mut self, number: u16) {
        self.begin_map(1);
        self.head(UNSIGNED, u64::from(number));
    }

    /// Writes an alternative that is not listed, if its number is known.
    pub fn unlisted_alternative(&mut self, union_name: &str, alternative: &UnlistedField) {
        match &alternative.key {
            UnlistedKey::Number(number) => {
                self.begin_union(*number);
                self.data.extend_from_slice(&alternative.raw);
                self.leave();
            }
            UnlistedKey::Name(name) => self.fail(alternative_without_number(name, union_name)),
        }
    }
}

pub(super) fn without_number(name: &str, enum_name: &str) -> String {
    format!("\"?{name}\" is not listed in {enum_name}, and binary payloads contain numbers")
}

pub(super) fn alternative_without_number(name: &str, union_name: &str) -> String {
    format!("the alternative \"{name}\" is not listed in {union_name}, and binary payloads contain numbers")
}

/// Reads CBOR, in every way in which it may be written.
#[doc(hidden)]
pub struct CborReader<'a> {
    data: &'a [u8],
    at: usize,
    depth: usize,
    budget: usize,
}

/// Is how many elements of a list, a map or a message are left; none where no length is known.
#[doc(hidden)]
pub struct Left(Option<usize>);

impl Left {
    /// How many elements there are, as far as memory may be given on the word of a length.
    pub(super) fn room(&self) -> usize {
        self.0.unwrap_or(0).min(1024)
    }
}

impl<'a> CborReader<'a> {
    pub(super) fn new(data: &'a [u8], budget: usize) -> Self {
        Self {
            data,
            at: 0,
            depth: 0,
            budget,
        }
    }

    /// Begins inside of what is nested already.
    pub(super) fn nested(data: &'a [u8], budget: usize, depth: usize) -> Self {
        Self {
            data,
            at: 0,
            depth,
            budget,
        }
    }

    pub(super) fn budget(&self) -> usize {
        self.budget
    }

    pub(super) fn is_over(&self) -> bool {
        self.at >= self.data.len()
    }

    /// Refuses what comes after the payload.
    pub(super) fn end(&self) -> Result<(), ReadError> {
        if self.is_over() {
            Ok(())
        } else {
            Err(self.failure("more bytes after the end"))
        }
    }

    #[cold]
    pub(super) fn failure(&self, detail: impl Into<Cow<'static, str>>) -> ReadError {
        ReadError::new(detail, self.at)
    }

    #[cold]
    pub(super) fn twice(&self) -> ReadError {
        self.failure("a key of the map comes twice")
    }

    #[cold]
    fn too_early(&self) -> ReadError {
        ReadError::new("the payload ends too early", self.data.len())
    }

    fn enter(&mut self) -> Result<(), ReadError> {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err(self.failure(TOO_DEEP));
        }
        Ok(())
    }

    fn spend(&mut self, n: usize) -> Result<(), ReadError> {
        match self.budget.checked_sub(n) {
            Some(left) => {
                self.budget = left;
                Ok(())
            }
            None => Err(ReadError::too_large(
                "more elements and entries than a payload may contain",
                self.at,
            )),
        }
    }

    /// Reads a head (section 3): its first byte and its argument.
    #[inline]
    fn head(&mut self) -> Result<(u8, u64), ReadError> {
        let Some(&first) = self.data.get(self.at) else {
            return Err(self.too_early());
        };
        if first & 31 < 24 {
            self.at += 1;
            return Ok((first, u64::from(first & 31)));
        }
        self.long_head(first)
    }

    fn long_head(&mut self, first: u8) -> Result<(u8, u64), ReadError> {
        let start = self.at;
        let info = first & 31;
        if (24..=27).contains(&info) {
            let size = 1 << (info - 24);
            let Some(bytes) = self.data.get(start + 1..start + 1 + size) else {
                return Err(self.too_early());
            };
            let n = bytes.iter().fold(0, |n, b| n << 8 | u64::from(*b));
            if first == SIMPLE | 24 && n < 32 {
                return Err(self.failure("a simple value that is not well formed"));
            }
            self.at = start + 1 + size;
            return Ok((first, n));
        }
        if info != INDEFINITE || matches!(first & 0xe0, UNSIGNED | NEGATIVE | TAG) {
            return Err(self.failure(format!("the reserved byte 0x{first:02x}")));
        }
        self.at += 1;
        Ok((first, 0))
    }

    #[cold]
    fn wrong(start: usize, first: u8, expected: &str) -> ReadError {
        let found = [
            "an integer",
            "a negative integer",
            "a byte string",
            "a text",
            "an array",
            "a map",
            "a tag",
            "a simple value or float",
        ];
        ReadError::new(
            format!(
                "expected {expected}, found {}",
                found[usize::from(first >> 5)]
            ),
            start,
        )
    }

    fn open(&mut self, major: u8, per_element: usize, expected: &str) -> Result<Left, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        if first & 0xe0 != major {
            return Err(Self::wrong(start, first, expected));
        }
        self.enter()?;
        if first & 31 == INDEFINITE {
            return Ok(Left(None));
        }
        let most = (self.data.len() - self.at) / per_element;
        let Some(count) = usize::try_from(n).ok().filter(|n| *n <= most) else {
            return Err(too_long(start, n));
        };
        self.spend(count)?;
        Ok(Left(Some(count)))
    }

    /// Begins a list.
    pub fn open_list(&mut self) -> Result<Left, ReadError> {
        self.open(ARRAY, 1, "a list")
    }

    /// Begins a map.
    pub fn open_map(&mut self) -> Result<Left, ReadError> {
        self.open(MAP, 2, "a map")
    }

    /// Tells whether another element follows; if not, what was begun is over.
    #[inline]
    pub fn more(&mut self, left: &mut Left) -> Result<bool, ReadError> {
        match &mut left.0 {
            Some(0) => {}
            Some(n) => {
                *n -= 1;
                return Ok(true);
            }
            None if self.data.get(self.at) == Some(&BREAK) => self.at += 1,
            None => {
                self.spend(1)?;
                return Ok(true);
            }
        }
        self.depth -= 1;
        Ok(false)
    }

    /// Reads a message: what it lists into `P`, all else is returned.
    #[inline]
    pub fn message<P: Partial>(&mut self) -> Result<(P, Unlisted), ReadError> {
        self.spend(1 + P::FIELDS.len())?;
        let mut entries = self.open(MAP, 2, P::FIELDS.message)?;
        let mut partial = P::default();
        let mut unlisted = Unlisted::default();
        while self.more(&mut entries)? {
            let number = self.field_number()?;
            match partial.cbor(number, self) {
                Ok(true) => {}
                Ok(false) => self
                    .unlisted(&mut unlisted, number)
                    .map_err(|e| e.inside(&format!("#{number}")))?,
                Err(e) => return Err(e.inside(&P::FIELDS.step(number))),
            }
        }
        unlisted.settle(self.at)?;
        Ok((partial, unlisted))
    }

    #[cold]
    pub(super) fn unlisted(&mut self, list: &mut Unlisted, number: u16) -> Result<(), ReadError> {
        list.push(self.unlisted_alternative(number)?);
        Ok(())
    }

    /// Reads the value of a number that is not listed.
    #[cold]
    pub fn unlisted_alternative(&mut self, number: u16) -> Result<UnlistedField, ReadError> {
        let start = self.at;
        self.skip()?;
        Ok(UnlistedField::numbered(number, &self.data[start..self.at]))
    }

    #[inline]
    fn field_number(&mut self) -> Result<u16, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        match u16::try_from(n) {
            Ok(number) if first & 0xe0 == UNSIGNED && number > 0 => Ok(number),
            _ => Err(ReadError::new(
                "expected a field number from 1 to 65535",
                start,
            )),
        }
    }

    /// Reads a value into a slot that must be empty.
    #[inline]
    pub fn once<C: Codec>(&mut self, slot: &mut Slot<C::Value>) -> Result<bool, ReadError> {
        if !slot.is_empty() {
            return Err(self.failure("the field comes twice"));
        }
        *slot = Slot::Value(C::read_cbor(self)?);
        Ok(true)
    }

    /// Reads any value of a field that may be absent, which null is.
    pub fn maybe_any<C: Codec>(&mut self, slot: &mut Slot<C::Value>) -> Result<bool, ReadError>
    where
        C::Value: AsRef<Any>,
    {
        self.once::<C>(slot)?;
        *slot = std::mem::take(slot)
            .optional()
            .filter(|v| !v.as_ref().is_null())
            .into();
        Ok(true)
    }

    /// Reads what a patch does to a field into a slot that must be empty.
    pub fn change<C: Codec>(
        &mut self,
        slot: &mut Slot<Change<C::Value>>,
        clearable: bool,
    ) -> Result<bool, ReadError> {
        if !slot.is_empty() {
            return Err(self.failure("the field comes twice"));
        }
        let change = if self.clears(clearable)? {
            Change::Cleared
        } else {
            Change::Set(C::read_cbor(self)?)
        };
        *slot = Slot::Value(change);
        Ok(true)
    }

    /// Says that a required field is not there.
    #[cold]
    #[must_use]
    pub fn missing(&self, name: &str) -> ReadError {
        self.failure("the field is required").inside(name)
    }

    #[inline]
    pub fn bool(&mut self) -> Result<bool, ReadError> {
        let start = self.at;
        match self.head()? {
            (0xf4, _) => Ok(false),
            (0xf5, _) => Ok(true),
            (first, _) => Err(Self::wrong(start, first, "bool")),
        }
    }

    #[inline]
    fn signed<T: TryFrom<i64>>(&mut self, expected: &str) -> Result<T, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        let value = match (first & 0xe0, i64::try_from(n)) {
            (UNSIGNED, Ok(n)) => T::try_from(n),
            (NEGATIVE, Ok(n)) => T::try_from(!n),
            (UNSIGNED | NEGATIVE, Err(_)) => return Err(out_of_range(start, first, n, expected)),
            _ => return Err(Self::wrong(start, first, expected)),
        };
        value.map_err(|_| out_of_range(start, first, n, expected))
    }

    #[inline]
    fn unsigned<T: TryFrom<u64>>(&mut self, expected: &str) -> Result<T, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        if first & 0xe0 != UNSIGNED {
            return Err(Self::wrong(start, first, expected));
        }
        T::try_from(n).map_err(|_| out_of_range(start, first, n, expected))
    }

    #[inline]
    pub fn int8(&mut self) -> Result<i8, ReadError> {
        self.signed("int8")
    }

    #[inline]
    pub fn int16(&mut self) -> Result<i16, ReadError> {
        self.signed("int16")
    }

    #[inline]
    pub fn int32(&mut self) -> Result<i32, ReadError> {
        self.signed("int32")
    }

    #[inline]
    pub fn int64(&mut self) -> Result<i64, ReadError> {
        self.signed("int64")
    }

    #[inline]
    pub fn uint8(&mut self) -> Result<u8, ReadError> {
        self.unsigned("uint8")
    }

    #[inline]
    pub fn uint16(&mut self) -> Result<u16, ReadError> {
        self.unsigned("uint16")
    }

    #[inline]
    pub fn uint32(&mut self) -> Result<u32, ReadError> {
        self.unsigned("uint32")
    }

    #[inline]
    pub fn uint64(&mut self) -> Result<u64, ReadError> {
        self.unsigned("uint64")
    }

    /// Reads the number of an enum's member.
    #[inline]
    pub fn member(&mut self) -> Result<u16, ReadError> {
        self.unsigned("the number of a member, 0 to 65535")
    }

    /// Reads a float of any width, or an integer that it can represent.
    #[inline]
    pub fn float64(&mut self) -> Result<f64, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        if first == SIMPLE | 27 {
            return Ok(f64::from_bits(n));
        }
        Self::other_float(start, first, n)
    }

    fn other_float(start: usize, first: u8, n: u64) -> Result<f64, ReadError> {
        match (first, first & 0xe0) {
            (0xfb, _) => Ok(f64::from_bits(n)),
            (0xfa, _) => Ok(f64::from(f32::from_bits(n as u32))),
            (0xf9, _) => Ok(half(n as u16)),
            (_, major @ (UNSIGNED | NEGATIVE)) => {
                let exact = if major == NEGATIVE {
                    !i128::from(n)
                } else {
                    i128::from(n)
                };
                let x = exact as f64;
                if x as i128 == exact {
                    Ok(x)
                } else {
                    Err(ReadError::new(
                        "expected float64, found an integer that it can't represent",
                        start,
                    ))
                }
            }
            _ => Err(Self::wrong(start, first, "float64")),
        }
    }

    /// Reads a float of any width, rounded to the nearest, or an integer that it can represent.
    #[inline]
    pub fn float32(&mut self) -> Result<f32, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        if first == SIMPLE | 26 {
            return Ok(f32::from_bits(n as u32));
        }
        let x = Self::other_float(start, first, n)?;
        let narrow = x as f32;
        let exact = first & 0xe0 == SIMPLE || f64::from(narrow) == x;
        if !exact || (narrow.is_infinite() && x.is_finite()) {
            return Err(ReadError::new(
                "expected float32, found a number that it can't represent",
                start,
            ));
        }
        Ok(narrow)
    }

    /// Reads a decimal (tag 4).
    pub fn decimal(&mut self) -> Result<Decimal, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        if first & 0xe0 != TAG || n != 4 {
            return Err(Self::wrong(start, first, "decimal"));
        }
        let from = self.at;
        let (first, n) = self.head()?;
        let indefinite = first & 31 == INDEFINITE;
        if first & 0xe0 != ARRAY || (!indefinite && n != 2) {
            return Err(Self::wrong(
                from,
                first,
                "an array of exponent and mantissa",
            ));
        }
        let from = self.at;
        let (first, n) = self.head()?;
        let amount = i64::try_from(n).unwrap_or(i64::MAX); // only zero can have an exponent beyond an int64
        let exponent = match first & 0xe0 {
            UNSIGNED => amount,
            NEGATIVE => !amount,
            _ => return Err(Self::wrong(from, first, "an exponent")),
        };
        let (negative, magnitude) = self.mantissa()?;
        let value = Decimal::scaled(negative, &magnitude, exponent)
            .map_err(|why| ReadError::new(why, start))?;
        if indefinite {
            if self.data.get(self.at) != Some(&BREAK) {
                return Err(self.failure("expected the end of exponent and mantissa"));
            }
            self.at += 1;
        }
        Ok(value)
    }

    /// Reads an integer or a bignum (section 3.4.3) as decimal digits.
    fn mantissa(&mut self) -> Result<(bool, Vec<u8>), ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        let negative = match (first & 0xe0, n) {
            (UNSIGNED, _) => return Ok((false, digits(&n.to_be_bytes(), false))),
            (NEGATIVE, _) => return Ok((true, digits(&n.to_be_bytes(), true))),
            (TAG, 2) => false,
            (TAG, 3) => true,
            _ => return Err(Self::wrong(start, first, "a mantissa")),
        };
        let magnitude = self.chunks(BYTES, "the bytes of a bignum")?;
        let zeros = magnitude.iter().take_while(|b| **b == 0).count();
        if magnitude.len() - zeros > 512 {
            return Err(ReadError::new(TOO_LONG, start)); // far over 34 digits
        }
        Ok((negative, digits(&magnitude[zeros..], negative)))
    }

    /// Reads a text.
    #[inline]
    pub fn text(&mut self) -> Result<String, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        if first & 0xe0 == TEXT && first & 31 != INDEFINITE {
            let bytes = self.take(start, n)?;
            return match std::str::from_utf8(bytes) {
                Ok(text) => Ok(text.to_owned()),
                Err(_) => Err(ReadError::new(NOT_UTF8, start)),
            };
        }
        self.at = start;
        let all = self.chunks(TEXT, "text")?;
        String::from_utf8(all.into_owned()).map_err(|_| ReadError::new(NOT_UTF8, start))
    }

    #[inline]
    fn take(&mut self, start: usize, n: u64) -> Result<&'a [u8], ReadError> {
        let rest = &self.data[self.at..];
        match usize::try_from(n).ok().and_then(|n| rest.get(..n)) {
            Some(bytes) => {
                self.at += bytes.len();
                Ok(bytes)
            }
            None => Err(too_long(start, n)),
        }
    }

    pub fn bytes(&mut self) -> Result<Vec<u8>, ReadError> {
        self.chunks(BYTES, "bytes").map(Cow::into_owned)
    }

    /// Reads a string of definite length, or the chunks of an indefinite one (section 3.2.3).
    fn chunks(&mut self, major: u8, expected: &str) -> Result<Cow<'a, [u8]>, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        if first & 0xe0 != major {
            return Err(Self::wrong(start, first, expected));
        }
        if first & 31 != INDEFINITE {
            return self.take(start, n).map(Cow::Borrowed);
        }
        let mut all = Vec::new();
        loop {
            let start = self.at;
            let (first, n) = self.head()?;
            if first == BREAK {
                return Ok(Cow::Owned(all));
            } else if first & 0xe0 != major {
                return Err(Self::wrong(start, first, expected));
            } else if first & 31 == INDEFINITE {
                return Err(ReadError::new("a chunk of indefinite length", start));
            }
            let chunk = self.take(start, n)?;
            if major == TEXT && std::str::from_utf8(chunk).is_err() {
                return Err(ReadError::new(NOT_UTF8, start));
            }
            all.extend_from_slice(chunk);
        }
    }

    /// Reads a uuid (tag 37).
    #[inline]
    pub fn uuid(&mut self) -> Result<Uuid, ReadError> {
        if let Some([0xd8, 37, 0x50, bytes @ ..]) = self.data.get(self.at..self.at + 19) {
            if let Ok(bytes) = bytes.try_into() {
                self.at += 19;
                return Ok(Uuid::from_bytes(bytes));
            }
        }
        self.other_uuid()
    }

    fn other_uuid(&mut self) -> Result<Uuid, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        if first & 0xe0 != TAG || n != 37 {
            return Err(Self::wrong(start, first, "uuid"));
        }
        let bytes = self.chunks(BYTES, "the 16 bytes of a uuid")?;
        <[u8; 16]>::try_from(&*bytes)
            .map(Uuid::from_bytes)
            .map_err(|_| {
                ReadError::new(
                    format!("expected the 16 bytes of a uuid, found {}", bytes.len()),
                    start,
                )
            })
    }

    /// Reads an instant (tag 1 with whole seconds, or tag 1001; RFC 9581).
    pub fn instant(&mut self) -> Result<Instant, ReadError> {
        let start = self.at;
        let (seconds, nanos) = match self.head()? {
            (first, 1) if first & 0xe0 == TAG => (self.int64()?, 0),
            (first, 1001) if first & 0xe0 == TAG => self.extended_time()?,
            (first, _) => return Err(Self::wrong(start, first, "instant")),
        };
        Instant::new(seconds, nanos)
            .ok_or_else(|| ReadError::new("an instant outside the years 0001 to 9999", start))
    }

    /// Reads seconds, and at most one fraction, in nanoseconds.
    fn extended_time(&mut self) -> Result<(i64, u32), ReadError> {
        let start = self.at;
        let wrong = || {
            ReadError::new(
                "expected seconds and at most one fraction of 1 to 999…",
                start,
            )
        };
        let (first, count) = self.head()?;
        let indefinite = first & 31 == INDEFINITE;
        if first & 0xe0 != MAP || count > 2 {
            return Err(wrong());
        }
        let mut seconds = None;
        let mut nanos = 0;
        let mut read = 0;
        while indefinite || read < count {
            if indefinite && self.data.get(self.at) == Some(&BREAK) {
                self.at += 1;
                break;
            }
            read += 1;
            let key = self.int64()?;
            let v = self.int64()?;
            let unit = match key {
                1 if seconds.is_none() => {
                    seconds = Some(v);
                    continue;
                }
                -3 => 1_000_000,
                -6 => 1_000,
                -9 => 1,
                _ => return Err(wrong()),
            };
            if nanos != 0 || v < 1 || v > 999_999_999 / unit {
                return Err(wrong());
            }
            nanos = u32::try_from(v * unit).unwrap_or(0);
        }
        seconds.map(|s| (s, nanos)).ok_or_else(wrong)
    }

    /// Reads a date (tag 100; RFC 8943).
    pub fn date(&mut self) -> Result<Date, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        if first & 0xe0 != TAG || n != 100 {
            return Err(Self::wrong(start, first, "date"));
        }
        let days = self.int64()?;
        i32::try_from(days)
            .ok()
            .and_then(Date::from_days)
            .ok_or_else(|| ReadError::new("a date outside the years 0001 to 9999", start))
    }

    /// Reads a duration (tag 1002; RFC 9581).
    pub fn duration(&mut self) -> Result<Duration, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        if first & 0xe0 != TAG || n != 1002 {
            return Err(Self::wrong(start, first, "duration"));
        }
        let (seconds, nanos) = self.extended_time()?;
        Duration::of_parts(seconds, nanos)
            .ok_or_else(|| ReadError::new("a duration of over 2⁶³ nanoseconds", start))
    }

    /// Tells whether null comes next.
    #[must_use]
    pub fn is_null(&self) -> bool {
        self.data.get(self.at) == Some(&NULL)
    }

    /// Reads null, with which a patch clears a field, if it comes next.
    fn clears(&mut self, clearable: bool) -> Result<bool, ReadError> {
        if !self.is_null() {
            return Ok(false);
        } else if !clearable {
            return Err(self.failure("found null: the field is required, and can't be cleared"));
        }
        self.at += 1;
        Ok(true)
    }

    pub fn any(&mut self) -> Result<Any, ReadError> {
        let start = self.at;
        let (first, n) = self.head()?;
        match (first & 0xe0, i64::try_from(n)) {
            (UNSIGNED, _) => return Ok(Any::from(n)),
            (NEGATIVE, Ok(n)) => return Ok(Any::Int(!n)),
            (TEXT, _) => {
                self.at = start;
                return self.text().map(Any::Text);
            }
            (ARRAY, _) => {
                self.at = start;
                return List::<Any>::read_cbor(self).map(Any::List);
            }
            (MAP, _) => {
                self.at = start;
                let map: BTreeMap<String, Any> = Map::<String, Any>::read_cbor(self)?;
                return Ok(Any::Map(map));
            }
            (SIMPLE, _) => match first {
                0xf4 | 0xf5 => return Ok(Any::Bool(first == 0xf5)),
                NULL => return Ok(Any::Null),
                0xf9..=0xfb => {
                    let x = Self::other_float(start, first, n)?;
                    if x.is_finite() {
                        return Ok(Any::Float(x));
                    }
                }
                _ => {}
            },
            _ => {}
        }
        let expected =
            "null, a bool, an integer, a finite float, text, a list or a map with text keys";
        Err(Self::wrong(start, first, expected))
    }

    /// Reads a union: `read` gets the number of its alternative.
    pub fn union<U>(
        &mut self,
        fields: &Fields,
        read: impl FnOnce(&mut Self, u16) -> Result<U, ReadError>,
    ) -> Result<U, ReadError> {
        let name = fields.message;
        let start = self.at;
        let (first, n) = self.head()?;
        let indefinite = first & 31 == INDEFINITE;
        if first & 0xe0 != MAP {
            return Err(Self::wrong(
                start,
                first,
                &format!("a map of one entry for {name}"),
            ));
        } else if !indefinite && n != 1 {
            return Err(ReadError::new(
                format!("expected one alternative of {name}, found {n}"),
                start,
            ));
        }
        self.enter()?;
        if indefinite && self.data.get(self.at) == Some(&BREAK) {
            return Err(ReadError::new(
                format!("expected one alternative of {name}, found none"),
                start,
            ));
        }
        let number = self.field_number()?;
        let value = read(self, number).map_err(|e| e.inside(&fields.step(number)))?;
        if indefinite {
            if self.data.get(self.at) != Some(&BREAK) {
                return Err(self.failure("expected one alternative, found a second one"));
            }
            self.at += 1;
        }
        self.depth -= 1;
        Ok(value)
    }

    /// Reads the one entry of an element of a stream; its value is as deep as a payload.
    pub(super) fn element<T>(
        &mut self,
        read: impl FnOnce(&mut Self, u64) -> Result<T, ReadError>,
    ) -> Result<T, ReadError> {
        let (first, n) = self.head()?;
        let open = first & 31 == INDEFINITE;
        if first & 0xe0 != MAP || (!open && n != 1) {
            return Err(ReadError::new(
                "expected a map of one entry as the element of a stream",
                0,
            ));
        }
        let (key, number) = self.head()?;
        if key & 0xe0 != UNSIGNED {
            return Err(ReadError::new("expected the number of an element", 1));
        }
        let value = read(self, number)?;
        if open {
            if self.data.get(self.at) != Some(&BREAK) {
                return Err(self.failure("expected the end of an element"));
            }
            self.at += 1;
        }
        if !self.is_over() {
            return Err(self.failure("more bytes after an element"));
        }
        Ok(value)
    }

    /// Passes over one well-formed item.
    pub(super) fn skip(&mut self) -> Result<(), ReadError> {
        let mut start = self.at;
        let (mut first, _) = self.head()?;
        while first & 0xe0 == TAG {
            start = self.at;
            (first, _) = self.head()?;
        }
        let major = first & 0xe0;
        match major {
            BYTES => {
                self.at = start;
                self.chunks(BYTES, "bytes")?;
            }
            TEXT => {
                self.at = start;
                self.text()?;
            }
            ARRAY | MAP => {
                self.at = start;
                let mut left = self.open(major, if major == MAP { 2 } else { 1 }, "a value")?;
                while self.more(&mut left)? {
                    self.skip()?;
                    if major == MAP {
                        self.skip()?;
                    }
                }
            }
            _ if first == BREAK => {
                return Err(ReadError::new("a break where a value is due", start))
            }
            _ => {}
        }
        Ok(())
    }
}

pub(super) const NOT_UTF8: &str = "text that is not UTF-8";

#[cold]
fn too_long(start: usize, n: u64) -> ReadError {
    ReadError::new(
        format!("a length of {n}, more than the payload contains"),
        start,
    )
}

#[cold]
fn out_of_range(start: usize, first: u8, n: u64, expected: &str) -> ReadError {
    let n = if first & 0xe0 == NEGATIVE {
        !i128::from(n)
    } else {
        i128::from(n)
    };
    ReadError::new(format!("expected {expected}, found {n}"), start)
}

/// Widens a half-precision float (appendix D).
fn half(bits: u16) -> f64 {
    let mantissa = f64::from(bits & 1023);
    let x = match bits >> 10 & 31 {
        0 => mantissa * 2f64.powi(-24),
        31 if bits & 1023 == 0 => f64::INFINITY,
        31 => f64::NAN,
        exponent => (mantissa + 1024.0) * 2f64.powi(i32::from(exponent) - 25),
    };
    if bits & 0x8000 == 0 {
        x
    } else {
        -x
    }
}

/// Is a big-endian number as decimal digits, each 0 to 9; with one added where `plus_one`.
fn digits(magnitude: &[u8], plus_one: bool) -> Vec<u8> {
    let mut digits = vec![u8::from(false)]; // the lowest first
    let mut times_and_add = |times: u32, add: u32| {
        let mut carry = add;
        for digit in &mut digits {
            let n = u32::from(*digit) * times + carry;
            *digit = (n % 10) as u8;
            carry = n / 10;
        }
        while carry > 0 {
            digits.push((carry % 10) as u8);
            carry /= 10;
        }
    };
    for byte in magnitude {
        times_and_add(256, u32::from(*byte));
    }
    times_and_add(1, u32::from(plus_one));
    digits.reverse();
    digits
}
