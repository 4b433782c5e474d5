//! Reads and writes JSON (RFC 8259).

use std::borrow::Cow;
use std::collections::BTreeMap;

use super::any::Any;
use super::base64;
use super::cbor::{
    alternative_without_number, without_number, CborReader, MAX_DEPTH, NOT_UTF8, REQUIRED, TOO_DEEP,
};
use super::change::Change;
use super::codec::{Codec, List, Map};
use super::decimal::Decimal;
use super::error::{escaped, shortened, ReadError, WriteError};
use super::message::{Fields, Partial, Slot};
use super::time::{Date, Duration, Instant};
use super::unlisted::{Unlisted, UnlistedField, UnlistedKey, UnlistedMember};
use super::uuid::Uuid;

const MOST_EXACT: u64 = (1 << 53) - 1;

/// Writes JSON, in UTF-8 and without blanks.
#[doc(hidden)]
#[derive(Default)]
pub struct JsonWriter {
    data: Vec<u8>,
    depth: usize,
    failed: Option<Cow<'static, str>>,
    hides: bool,               // what is secret
    exact: bool,               // decimals by number, so that what is equal is written alike
    numbers: bool,             // whether what has no number fails, as in CBOR
    path: Option<Vec<String>>, // to what is being written, where that is asked for
    place: String,             // of the failure
}

/// Is where a message that is being written is among its unlisted fields.
#[doc(hidden)]
pub struct JsonRest<'a> {
    start: usize,
    left: &'a [UnlistedField],
    hidden: usize,
}

impl JsonWriter {
    pub(super) fn after(data: Vec<u8>) -> Self {
        Self {
            data,
            ..Self::default()
        }
    }

    /// Writes texts for people and logs, without what is secret.
    pub(super) fn for_people() -> Self {
        Self {
            hides: true,
            ..Self::default()
        }
    }

    /// Writes what is equal alike.
    pub(super) fn comparing() -> Self {
        Self {
            exact: true,
            ..Self::default()
        }
    }

    /// Finds the place of what has no number.
    pub(super) fn locating() -> Self {
        Self {
            numbers: true,
            ..Self::tracing()
        }
    }

    /// Finds the place of a failure.
    pub(super) fn tracing() -> Self {
        Self {
            path: Some(Vec::new()),
            ..Self::default()
        }
    }

    /// What was written, and why not all of it could be.
    pub(in crate::faithful) fn finish(self) -> (Vec<u8>, Option<Cow<'static, str>>) {
        (self.data, self.failed)
    }

    /// Why not all of it could be written, and where.
    pub(super) fn failed(self) -> Option<WriteError> {
        let place = self.place;
        self.failed.map(|detail| WriteError::new(place, detail))
    }

    #[cold]
    fn fail(&mut self, detail: impl Into<Cow<'static, str>>) {
        if self.failed.is_none() {
            self.failed = Some(detail.into());
            for step in self.path.iter().flatten() {
                self.place.push('/');
                self.place.push_str(&escaped(step));
            }
        }
    }

    #[cold]
    fn step(&mut self, step: &str) {
        if let Some(last) = self.path.as_mut().and_then(|path| path.last_mut()) {
            step.clone_into(last);
        }
    }

    /// Whether the text is for people and logs, without what is secret.
    #[must_use]
    pub fn hides(&self) -> bool {
        self.hides
    }

    /// Writes what stands for a secret.
    pub fn secret(&mut self) {
        self.data.extend_from_slice(b"\"(secret)\"");
    }

    /// Begins an object or an array: each member is written with a comma before it, and the first comma becomes the
    /// bracket.
    pub fn begin(&mut self) -> usize {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            self.fail(TOO_DEEP);
        }
        if let Some(path) = &mut self.path {
            path.push(String::new());
        }
        self.data.len()
    }

    /// Ends what [`begin`](Self::begin) began.
    pub fn end(&mut self, start: usize, open: u8, close: u8) {
        self.depth -= 1;
        if let Some(path) = &mut self.path {
            path.pop();
        }
        match self.data.get_mut(start) {
            Some(comma) => *comma = open,
            None => self.data.push(open),
        }
        self.data.push(close);
    }

    /// Begins an item of a list.
    #[inline]
    pub fn item(&mut self, index: usize) {
        self.data.push(b',');
        if self.path.is_some() {
            self.step(&index.to_string());
        }
    }

    /// Begins a member of an object.
    pub fn member(&mut self, name: &str) {
        self.data.push(b',');
        self.text(name);
        self.data.push(b':');
        if self.path.is_some() {
            self.step(name);
        }
    }

    /// Begins a message.
    pub fn begin_message<'a>(&mut self, unlisted: &'a Unlisted) -> JsonRest<'a> {
        let start = self.begin();
        let all = unlisted.fields();
        if self.hides {
            return JsonRest {
                start,
                left: &[],
                hidden: all.len(),
            };
        }
        JsonRest {
            start,
            left: all,
            hidden: 0,
        }
    }

    /// Begins a field, after the unlisted ones that come before it.
    #[inline]
    pub fn field(&mut self, rest: &mut JsonRest<'_>, fields: &Fields, index: usize) {
        if !rest.left.is_empty() {
            self.unlisted_below(rest, u32::from(fields.numbers[index]));
        }
        self.data.extend_from_slice(fields.heads[index].as_bytes());
        if self.path.is_some() {
            self.step(fields.names[index]);
        }
    }

    #[cold]
    fn unlisted_below(&mut self, rest: &mut JsonRest<'_>, limit: u32) {
        while let [UnlistedField {
            key: UnlistedKey::Number(number),
            raw,
        }, after @ ..] = rest.left
        {
            if u32::from(*number) >= limit {
                return;
            }
            self.member(&format!("#{number}"));
            self.bytes(raw);
            rest.left = after;
        }
    }

    /// Ends a message.
    pub fn end_message(&mut self, mut rest: JsonRest<'_>) {
        if !rest.left.is_empty() {
            self.unlisted_below(&mut rest, 1 << 16);
        }
        for field in rest.left {
            self.member(field.name().unwrap_or_default());
            self.data.extend_from_slice(&field.raw);
        }
        if rest.hidden > 0 {
            self.member("(unlisted fields)");
            self.digits(rest.hidden as u64);
        }
        self.end(rest.start, b'{', b'}');
    }

    /// Refuses to clear a field that is required.
    pub fn cant_clear(&mut self) {
        self.fail(REQUIRED);
        self.null();
    }

    /// Writes null, with which a patch clears a field.
    pub fn null(&mut self) {
        self.data.extend_from_slice(b"null");
    }

    pub fn bool(&mut self, v: bool) {
        self.data
            .extend_from_slice(if v { b"true" } else { b"false" });
    }

    #[allow(clippy::cast_possible_truncation)] // it is a digit
    fn digits(&mut self, n: u64) {
        if n < 10 {
            self.data.push(b'0' + n as u8);
            return;
        }
        let mut digits = [0; 20];
        let mut at = digits.len();
        let mut rest = n;
        while rest > 0 {
            at -= 1;
            digits[at] = b'0' + (rest % 10) as u8;
            rest /= 10;
        }
        self.data.extend_from_slice(&digits[at..]);
    }

    fn number(&mut self, v: i64) {
        if v < 0 {
            self.data.push(b'-');
        }
        self.digits(v.unsigned_abs());
    }

    pub fn int8(&mut self, v: i8) {
        self.number(i64::from(v));
    }

    pub fn int16(&mut self, v: i16) {
        self.number(i64::from(v));
    }

    pub fn int32(&mut self, v: i32) {
        self.number(i64::from(v));
    }

    /// Writes an integer; one beyond 2⁵³−1 as a string.
    pub fn int64(&mut self, v: i64) {
        let quoted = v.unsigned_abs() > MOST_EXACT;
        self.quote(quoted);
        self.number(v);
        self.quote(quoted);
    }

    fn quote(&mut self, quoted: bool) {
        if quoted {
            self.data.push(b'"');
        }
    }

    pub fn uint8(&mut self, v: u8) {
        self.digits(u64::from(v));
    }

    pub fn uint16(&mut self, v: u16) {
        self.digits(u64::from(v));
    }

    pub fn uint32(&mut self, v: u32) {
        self.digits(u64::from(v));
    }

    /// Writes an integer; one beyond 2⁵³−1 as a string.
    pub fn uint64(&mut self, v: u64) {
        let quoted = v > MOST_EXACT;
        self.quote(quoted);
        self.digits(v);
        self.quote(quoted);
    }

    /// Writes a float by its float64 value.
    pub fn float32(&mut self, v: f32) {
        self.float64(f64::from(v));
    }

    /// Writes a float as ECMAScript prints it, −0 as -0.
    pub fn float64(&mut self, v: f64) {
        if v.is_nan() {
            self.data.extend_from_slice(b"\"NaN\"");
        } else if v.is_infinite() {
            self.data.extend_from_slice(if v > 0.0 {
                b"\"Infinity\""
            } else {
                b"\"-Infinity\""
            });
        } else {
            self.finite(v);
        }
    }

    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)] // it is whole, and below 2^53
    fn finite(&mut self, v: f64) {
        let size = v.abs();
        if v.fract() == 0.0 && size < 9e15 {
            if v.is_sign_negative() {
                self.data.push(b'-');
            }
            self.digits(size as u64);
            return;
        }
        let text = shortest(v);
        match text.split_once('e') {
            Some((mantissa, exponent)) if !exponent.starts_with('-') => {
                self.data.extend_from_slice(mantissa.as_bytes());
                self.data.extend_from_slice(b"e+");
                self.data.extend_from_slice(exponent.as_bytes());
            }
            _ => self.data.extend_from_slice(text.as_bytes()),
        }
    }

    pub fn decimal(&mut self, v: &Decimal) {
        let text = if self.exact { v.shortest() } else { *v }.to_string();
        self.data.push(b'"');
        self.data.extend_from_slice(text.as_bytes());
        self.data.push(b'"');
    }

    #[inline]
    pub fn text(&mut self, v: &str) {
        self.data.push(b'"');
        let mut from = 0;
        for (i, c) in v.bytes().enumerate() {
            if c < 0x20 || c == b'"' || c == b'\\' {
                self.data.extend_from_slice(&v.as_bytes()[from..i]);
                self.escape(c);
                from = i + 1;
            }
        }
        self.data.extend_from_slice(&v.as_bytes()[from..]);
        self.data.push(b'"');
    }

    #[cold]
    fn escape(&mut self, c: u8) {
        const DIGITS: &[u8; 16] = b"0123456789abcdef";
        let short = match c {
            b'"' | b'\\' => c,
            0x08 => b'b',
            b'\t' => b't',
            b'\n' => b'n',
            0x0c => b'f',
            b'\r' => b'r',
            _ => {
                self.data.extend_from_slice(b"\\u00");
                self.data.push(DIGITS[usize::from(c >> 4)]);
                self.data.push(DIGITS[usize::from(c & 15)]);
                return;
            }
        };
        self.data.extend_from_slice(&[b'\\', short]);
    }

    /// Writes bytes as base64url without padding.
    pub fn bytes(&mut self, v: &[u8]) {
        self.data.push(b'"');
        base64::append(v, &mut self.data);
        self.data.push(b'"');
    }

    pub fn uuid(&mut self, v: &Uuid) {
        self.data.push(b'"');
        self.data.extend_from_slice(&v.text());
        self.data.push(b'"');
    }

    /// Writes an instant (RFC 3339, in UTC).
    pub fn instant(&mut self, v: &Instant) {
        self.data.push(b'"');
        v.append(&mut self.data);
        self.data.push(b'"');
    }

    pub fn date(&mut self, v: &Date) {
        self.data.push(b'"');
        v.append(&mut self.data);
        self.data.push(b'"');
    }

    /// Writes a duration, in seconds.
    pub fn duration(&mut self, v: &Duration) {
        self.data.push(b'"');
        v.append(&mut self.data);
        self.data.push(b'"');
    }

    pub fn any(&mut self, v: &Any) {
        match v {
            Any::Null => self.null(),
            Any::Bool(v) => self.bool(*v),
            Any::Int(v) => self.number(*v),
            Any::Uint(v) => self.digits(*v),
            Any::Float(v) if v.is_finite() => {
                let start = self.data.len();
                self.finite(*v);
                if !self.data[start..].iter().any(|c| matches!(c, b'.' | b'e')) {
                    self.data.extend_from_slice(b".0");
                }
            }
            Any::Float(_) => self.fail("an any can't contain a number that is not finite"),
            Any::Text(v) => self.text(v),
            Any::List(v) => List::<Any>::write_json(v, self),
            Any::Map(v) => Map::<String, Any>::write_json(v, self),
        }
    }

    /// Writes a member that is not listed.
    pub fn unlisted_member(&mut self, enum_name: &str, member: &UnlistedMember) {
        match member {
            UnlistedMember::Number(number) => self.digits(u64::from(*number)),
            UnlistedMember::Name(name) if self.numbers => {
                self.fail(without_number(name, enum_name));
            }
            UnlistedMember::Name(name) => self.text(name),
        }
    }

    /// Refuses the key of a map that has no number, where numbers are needed.
    pub fn unlisted_key(&mut self, enum_name: &str, member: &UnlistedMember) {
        if let (true, UnlistedMember::Name(name)) = (self.numbers, member) {
            self.fail(without_number(name, enum_name));
        }
    }

    /// Begins an alternative of a union; [`end`](Self::end) ends it.
    pub fn begin_union(&mut self, fields: &Fields, index: usize) -> usize {
        let start = self.begin();
        self.data.extend_from_slice(fields.heads[index].as_bytes());
        if self.path.is_some() {
            self.step(fields.names[index]);
        }
        start
    }

    /// Writes an alternative that is not listed.
    pub fn unlisted_alternative(&mut self, union_name: &str, alternative: &UnlistedField) {
        if self.hides {
            self.data.extend_from_slice(b"\"(unlisted)\"");
            return;
        }
        if let (true, UnlistedKey::Name(name)) = (self.numbers, &alternative.key) {
            self.fail(alternative_without_number(name, union_name));
        }
        let start = self.begin();
        match &alternative.key {
            UnlistedKey::Number(number) => {
                self.member(&format!("#{number}"));
                self.bytes(&alternative.raw);
            }
            UnlistedKey::Name(name) => {
                self.member(name);
                self.data.extend_from_slice(&alternative.raw);
            }
        }
        self.end(start, b'{', b'}');
    }
}

/// Reads JSON, in every way in which it may be written.
#[doc(hidden)]
pub struct JsonReader<'a> {
    data: &'a [u8],
    at: usize,
    depth: usize,
    budget: usize,
}

impl<'a> JsonReader<'a> {
    pub(in crate::faithful) fn new(data: &'a [u8], budget: usize) -> Self {
        Self {
            data,
            at: 0,
            depth: 0,
            budget,
        }
    }

    /// Refuses what comes after the payload.
    pub(in crate::faithful) fn end(&mut self) -> Result<(), ReadError> {
        self.blanks();
        if self.at < self.data.len() {
            return Err(self.failure("more text after the end"));
        }
        Ok(())
    }

    #[cold]
    pub(super) fn failure(&self, detail: impl Into<Cow<'static, str>>) -> ReadError {
        ReadError::new(detail, self.at)
    }

    #[cold]
    pub(super) fn twice(&self) -> ReadError {
        self.failure("a key of the map comes twice")
    }

    fn blanks(&mut self) {
        while let Some(b' ' | b'\t' | b'\r' | b'\n') = self.data.get(self.at) {
            self.at += 1;
        }
    }

    /// The next byte that is not a blank, or 0.
    #[inline]
    fn peek(&mut self) -> u8 {
        match self.data.get(self.at) {
            Some(&c) if c > b' ' => c,
            _ => {
                self.blanks();
                self.data.get(self.at).copied().unwrap_or(0)
            }
        }
    }

    #[cold]
    fn wrong(&mut self, expected: &str) -> ReadError {
        let c = self.peek();
        let found = match self.data.get(self.at) {
            None => Cow::Borrowed("the end"),
            Some(b'{') => Cow::Borrowed("an object"),
            Some(b'[') => Cow::Borrowed("an array"),
            Some(b'"') => Cow::Borrowed("a string"),
            Some(b'-' | b'0'..=b'9') => Cow::Borrowed("a number"),
            Some(b'n') if self.data[self.at..].starts_with(b"null") => Cow::Borrowed("null"),
            Some(0x21..=0x7e) => Cow::Owned(format!("'{}'", char::from(c))),
            Some(c) => Cow::Owned(format!("the byte 0x{c:02x}")),
        };
        self.failure(format!("expected {expected}, found {found}"))
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

    /// Begins an object or an array; what is returned is for [`following`](Self::following).
    pub fn begin(&mut self, open: u8, expected: &str) -> Result<bool, ReadError> {
        if self.peek() != open {
            return Err(self.wrong(expected));
        }
        self.at += 1;
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err(self.failure(TOO_DEEP));
        }
        Ok(true)
    }

    /// Moves to the next element, or past the closing bracket.
    #[inline]
    pub fn following(&mut self, first: &mut bool, close: u8) -> Result<bool, ReadError> {
        let c = self.peek();
        if c == close {
            self.at += 1;
            self.depth -= 1;
            return Ok(false);
        }
        if *first {
            *first = false;
        } else if c == b',' {
            self.at += 1;
        } else {
            return Err(self.wrong(&format!("a comma or {}", char::from(close))));
        }
        self.spend(1)?;
        Ok(true)
    }

    /// Moves to the next member of an object, past its colon.
    pub fn next_member(&mut self, first: &mut bool) -> Result<Option<Cow<'a, str>>, ReadError> {
        if !self.following(first, b'}')? {
            return Ok(None);
        }
        if self.peek() != b'"' {
            return Err(self.wrong("a name in quotes"));
        }
        let name = self.string()?;
        if self.peek() != b':' {
            return Err(self.wrong("a colon"));
        }
        self.at += 1;
        Ok(Some(name))
    }

    /// Reads a message: what it lists into `P`, all else is returned.
    pub fn message<P: Partial>(&mut self) -> Result<(P, Unlisted), ReadError> {
        let fields = P::FIELDS;
        self.spend(1 + fields.len())?;
        let mut first = self.begin(b'{', fields.message)?;
        let mut partial = P::default();
        let mut unlisted = Unlisted::default();
        let mut expected = 0; // writers keep the order
        loop {
            let head = fields
                .heads
                .get(expected)
                .map_or("", |head| &head[usize::from(first)..]);
            let index = if !head.is_empty() && self.data[self.at..].starts_with(head.as_bytes()) {
                self.at += head.len();
                first = false;
                self.spend(1)?;
                expected
            } else {
                let Some(name) = self.next_member(&mut first)? else {
                    break;
                };
                let Some(index) = P::index(name.as_bytes()) else {
                    self.unlisted(&mut partial, &mut unlisted, &name)?;
                    continue;
                };
                index
            };
            if let Err(e) = partial.json(index, self) {
                return Err(e.inside(fields.names[index]));
            }
            expected = index + 1;
        }
        unlisted.settle(self.at)?;
        Ok((partial, unlisted))
    }

    /// Reads a member whose name is not listed. Where it is the number of a field that is, the field is read.
    #[cold]
    fn unlisted<P: Partial>(
        &mut self,
        partial: &mut P,
        list: &mut Unlisted,
        name: &str,
    ) -> Result<(), ReadError> {
        self.unlisted_value(partial, list, name)
            .map_err(|e| match number_of(name) {
                Some(Ok(number)) if P::FIELDS.lists(number) => e,
                _ => e.inside(name),
            })
    }

    fn unlisted_value<P: Partial>(
        &mut self,
        partial: &mut P,
        list: &mut Unlisted,
        name: &str,
    ) -> Result<(), ReadError> {
        let Some(number) = number_of(name) else {
            let raw = self.raw()?;
            list.push(UnlistedField::named(name, &raw));
            return Ok(());
        };
        let number = number.map_err(|why| self.failure(why))?;
        let start = self.at;
        let cbor = if P::PATCH && self.is_null()? {
            vec![0xf6]
        } else {
            self.bytes()?
        };
        self.inside(&cbor, start, |inner| {
            if P::FIELDS.lists(number) {
                partial
                    .cbor(number, inner)
                    .map_err(|e| e.inside(&P::FIELDS.step(number)))?;
            } else {
                inner.unlisted(list, number)?;
            }
            Ok(())
        })
    }

    /// Reads CBOR that is inside of this payload.
    fn inside<T>(
        &mut self,
        cbor: &[u8],
        start: usize,
        read: impl FnOnce(&mut CborReader<'_>) -> Result<T, ReadError>,
    ) -> Result<T, ReadError> {
        let mut inner = CborReader::nested(cbor, self.budget, self.depth);
        let value = read(&mut inner).map_err(|e| e.moved(start))?;
        if !inner.is_over() {
            return Err(ReadError::new("more bytes after a CBOR item", start));
        }
        self.budget = inner.budget();
        Ok(value)
    }

    /// Reads a value into a slot that must be empty.
    #[inline]
    pub fn once<C: Codec>(&mut self, slot: &mut Slot<C::Value>) -> Result<(), ReadError> {
        if !slot.is_empty() {
            return Err(self.failure("the field comes twice"));
        }
        *slot = Slot::Value(C::read_json(self)?);
        Ok(())
    }

    /// Reads a value, or null, into a slot that must be empty.
    #[inline]
    pub fn maybe<C: Codec>(&mut self, slot: &mut Slot<C::Value>) -> Result<(), ReadError> {
        if !slot.is_empty() {
            return Err(self.failure("the field comes twice"));
        }
        *slot = if self.is_null()? {
            Slot::Absent
        } else {
            Slot::Value(C::read_json(self)?)
        };
        Ok(())
    }

    /// Reads what a patch does to a field into a slot that must be empty.
    pub fn change<C: Codec>(
        &mut self,
        slot: &mut Slot<Change<C::Value>>,
        clearable: bool,
    ) -> Result<(), ReadError> {
        if !slot.is_empty() {
            return Err(self.failure("the field comes twice"));
        }
        let change = if self.clears(clearable)? {
            Change::Cleared
        } else {
            Change::Set(C::read_json(self)?)
        };
        *slot = Slot::Value(change);
        Ok(())
    }

    /// Says that a required field is not there.
    #[cold]
    #[must_use]
    pub fn missing(&self, name: &str) -> ReadError {
        self.failure("the field is required").inside(name)
    }

    /// Reads the string here.
    #[inline]
    fn string(&mut self) -> Result<Cow<'a, str>, ReadError> {
        let start = self.at + 1;
        let rest = self.data.get(start..).unwrap_or_default();
        match rest
            .iter()
            .position(|c| *c == b'"' || *c == b'\\' || *c < 0x20)
        {
            Some(length) if rest[length] == b'"' => {
                self.at = start + length + 1;
                match std::str::from_utf8(&rest[..length]) {
                    Ok(text) => Ok(Cow::Borrowed(text)),
                    Err(e) => Err(ReadError::new(NOT_UTF8, start + e.valid_up_to())),
                }
            }
            Some(length) => self.long_string(start, length).map(Cow::Owned),
            None => Err(ReadError::new("a string that is not closed", self.at)),
        }
    }

    fn long_string(&mut self, start: usize, plain: usize) -> Result<String, ReadError> {
        let mut text = Vec::with_capacity(plain + 32);
        text.extend_from_slice(&self.data[start..start + plain]);
        let mut i = start + plain;
        loop {
            match self.data.get(i) {
                Some(b'"') => break,
                Some(b'\\') => i = self.escape(&mut text, i + 1)?,
                Some(c) if *c < 0x20 => {
                    return Err(ReadError::new("a control character in a string", i))
                }
                Some(c) => {
                    text.push(*c);
                    i += 1;
                }
                None => return Err(ReadError::new("a string that is not closed", start - 1)),
            }
        }
        self.at = i + 1;
        String::from_utf8(text).map_err(|_| ReadError::new(NOT_UTF8, start))
    }

    fn escape(&self, text: &mut Vec<u8>, at: usize) -> Result<usize, ReadError> {
        let wrong = || ReadError::new("an escape that is not well formed", at.min(self.data.len()));
        let plain = match self.data.get(at) {
            Some(c @ (b'"' | b'\\' | b'/')) => *c,
            Some(b'b') => 0x08,
            Some(b'f') => 0x0c,
            Some(b'n') => b'\n',
            Some(b'r') => b'\r',
            Some(b't') => b'\t',
            _ => {
                let mut next = at + 5;
                let mut code = self.hex4(at).ok_or_else(wrong)?;
                if (0xd800..0xdc00).contains(&code) && self.data.get(next) == Some(&b'\\') {
                    let low = self
                        .hex4(next + 1)
                        .filter(|low| (0xdc00..0xe000).contains(low))
                        .ok_or_else(wrong)?;
                    code = 0x1_0000 + ((code - 0xd800) << 10) + (low - 0xdc00);
                    next += 6;
                }
                let c = char::from_u32(code).ok_or_else(wrong)?;
                text.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
                return Ok(next);
            }
        };
        text.push(plain);
        Ok(at + 1)
    }

    /// Reads u and four hexadecimal digits.
    fn hex4(&self, at: usize) -> Option<u32> {
        let [b'u', digits @ ..] = self.data.get(at..at + 5)? else {
            return None;
        };
        digits.iter().try_fold(0, |n, c| {
            char::from(*c).to_digit(16).map(|digit| n << 4 | digit)
        })
    }

    /// Reads null if it comes next.
    #[inline]
    pub fn is_null(&mut self) -> Result<bool, ReadError> {
        if self.peek() != b'n' {
            return Ok(false);
        }
        self.word("null")?;
        Ok(true)
    }

    /// Reads null, with which a patch clears a field, if it comes next.
    fn clears(&mut self, clearable: bool) -> Result<bool, ReadError> {
        if !clearable && self.peek() == b'n' {
            return Err(self.failure("found null: the field is required, and can't be cleared"));
        }
        self.is_null()
    }

    fn word(&mut self, word: &str) -> Result<(), ReadError> {
        if !self.data[self.at..].starts_with(word.as_bytes()) {
            return Err(self.wrong(word));
        }
        self.at += word.len();
        Ok(())
    }

    pub fn bool(&mut self) -> Result<bool, ReadError> {
        match self.peek() {
            b't' => self.word("true").map(|()| true),
            b'f' => self.word("false").map(|()| false),
            _ => Err(self.wrong("bool")),
        }
    }

    #[inline]
    fn integer<T: TryFrom<i128>>(&mut self, expected: &str) -> Result<T, ReadError> {
        let c = self.peek();
        if c.is_ascii_digit() && c != b'0' {
            let rest = &self.data[self.at..];
            let length = rest
                .iter()
                .take(18)
                .take_while(|c| c.is_ascii_digit())
                .count();
            if let Some(b',' | b'}' | b']') = rest.get(length) {
                let n = rest[..length]
                    .iter()
                    .fold(0_i64, |n, c| n * 10 + i64::from(c - b'0'));
                if let Ok(n) = T::try_from(i128::from(n)) {
                    self.at += length;
                    return Ok(n);
                }
            }
        }
        self.other_integer(expected)
    }

    fn other_integer<T: TryFrom<i128>>(&mut self, expected: &str) -> Result<T, ReadError> {
        let quoted = self.peek() == b'"';
        let start = self.at;
        let text = if quoted {
            self.string()?
        } else {
            Cow::Borrowed(self.number(expected)?)
        };
        parsed(&text, quoted)
            .and_then(|n| T::try_from(n).ok())
            .ok_or_else(|| {
                let quote = if quoted { "\"" } else { "" };
                ReadError::new(
                    format!(
                        "expected {expected}, found {quote}{}{quote}",
                        shortened(&text)
                    ),
                    start,
                )
            })
    }

    pub fn int8(&mut self) -> Result<i8, ReadError> {
        self.integer("int8")
    }

    pub fn int16(&mut self) -> Result<i16, ReadError> {
        self.integer("int16")
    }

    pub fn int32(&mut self) -> Result<i32, ReadError> {
        self.integer("int32")
    }

    pub fn int64(&mut self) -> Result<i64, ReadError> {
        self.integer("int64")
    }

    pub fn uint8(&mut self) -> Result<u8, ReadError> {
        self.integer("uint8")
    }

    pub fn uint16(&mut self) -> Result<u16, ReadError> {
        self.integer("uint16")
    }

    pub fn uint32(&mut self) -> Result<u32, ReadError> {
        self.integer("uint32")
    }

    pub fn uint64(&mut self) -> Result<u64, ReadError> {
        self.integer("uint64")
    }

    /// Is the text of a number (section 6).
    fn number(&mut self, expected: &str) -> Result<&'a str, ReadError> {
        let c = self.peek();
        if c != b'-' && !c.is_ascii_digit() {
            return Err(self.wrong(expected));
        }
        let rest = &self.data[self.at..];
        let digits = |from: usize| {
            rest[from..]
                .iter()
                .take_while(|c| c.is_ascii_digit())
                .count()
        };
        let mut i = usize::from(c == b'-');
        let whole = if rest.get(i) == Some(&b'0') {
            1
        } else {
            digits(i)
        };
        i += whole;
        let mut ok = whole > 0;
        if ok && rest.get(i) == Some(&b'.') {
            let fraction = digits(i + 1);
            i += 1 + fraction;
            ok = fraction > 0;
        }
        if ok && matches!(rest.get(i), Some(b'e' | b'E')) {
            i += 1 + usize::from(matches!(rest.get(i + 1), Some(b'+' | b'-')));
            let exponent = digits(i);
            i += exponent;
            ok = exponent > 0;
        }
        if !ok || rest.get(i).is_some_and(u8::is_ascii_digit) {
            return Err(self.failure("a number that is not well formed"));
        }
        self.at += i;
        std::str::from_utf8(&rest[..i]).map_err(|_| self.failure(NOT_UTF8))
    }

    /// Reads a number, "NaN", "Infinity" or "-Infinity".
    pub fn float64(&mut self) -> Result<f64, ReadError> {
        self.float("float64")
    }

    /// Reads a float, rounded straight from the digits.
    pub fn float32(&mut self) -> Result<f32, ReadError> {
        self.float("float32")
    }

    #[inline]
    fn float<T: std::str::FromStr + Into<f64> + Copy>(
        &mut self,
        expected: &str,
    ) -> Result<T, ReadError> {
        let quoted = self.peek() == b'"';
        let start = self.at;
        if quoted {
            let text = self.string()?;
            return match (&*text, text.parse()) {
                ("NaN" | "Infinity" | "-Infinity", Ok(x)) => Ok(x),
                _ => Err(ReadError::new(
                    format!("expected {expected}, found a string"),
                    start,
                )),
            };
        }
        let text = self.number(expected)?;
        match text.parse::<T>() {
            Ok(x) if x.into().is_finite() => Ok(x),
            _ => Err(ReadError::new(
                format!("{} is too large for a {expected}", shortened(text)),
                start,
            )),
        }
    }

    /// Reads a string, or a number by its digits.
    pub fn decimal(&mut self) -> Result<Decimal, ReadError> {
        let quoted = self.peek() == b'"';
        let start = self.at;
        let text = if quoted {
            self.string()?
        } else {
            Cow::Borrowed(self.number("decimal")?)
        };
        Decimal::parse(&text).map_err(|why| ReadError::new(why, start))
    }

    #[inline]
    fn expect_string(&mut self, expected: &str) -> Result<Cow<'a, str>, ReadError> {
        if self.peek() != b'"' {
            return Err(self.wrong(expected));
        }
        self.string()
    }

    #[inline]
    pub fn text(&mut self) -> Result<String, ReadError> {
        self.expect_string("text").map(Cow::into_owned)
    }

    #[inline]
    fn parse<T>(
        &mut self,
        expected: &str,
        wrong: &'static str,
        parse: impl FnOnce(&[u8]) -> Option<T>,
    ) -> Result<T, ReadError> {
        self.blanks();
        let start = self.at;
        let text = self.expect_string(expected)?;
        parse(text.as_bytes()).ok_or_else(|| ReadError::new(wrong, start))
    }

    /// Reads base64url or base64 (RFC 4648), padded or not.
    pub fn bytes(&mut self) -> Result<Vec<u8>, ReadError> {
        self.parse(
            "bytes as base64url",
            "expected bytes as base64url",
            base64::parse,
        )
    }

    pub fn uuid(&mut self) -> Result<Uuid, ReadError> {
        self.parse(
            "uuid",
            "expected a uuid as 8-4-4-4-12 hexadecimal digits",
            Uuid::parse,
        )
    }

    /// Reads an instant (RFC 3339).
    pub fn instant(&mut self) -> Result<Instant, ReadError> {
        self.parse(
            "instant",
            "expected an instant such as 2026-07-15T09:30:00Z",
            Instant::parse,
        )
    }

    pub fn date(&mut self) -> Result<Date, ReadError> {
        self.parse("date", "expected a date such as 2026-07-15", Date::parse)
    }

    /// Reads a duration (ISO 8601).
    pub fn duration(&mut self) -> Result<Duration, ReadError> {
        self.parse(
            "duration",
            "expected a duration such as PT1.5S",
            Duration::parse,
        )
    }

    pub fn any(&mut self) -> Result<Any, ReadError> {
        match self.peek() {
            b'n' => self.word("null").map(|()| Any::Null),
            b't' | b'f' => self.bool().map(Any::Bool),
            b'"' => self.text().map(Any::Text),
            b'[' => List::<Any>::read_json(self).map(Any::List),
            b'{' => {
                let map: BTreeMap<String, Any> = Map::<String, Any>::read_json(self)?;
                Ok(Any::Map(map))
            }
            _ => self.any_number(),
        }
    }

    fn any_number(&mut self) -> Result<Any, ReadError> {
        self.blanks();
        let start = self.at;
        let text = self.number("a JSON value")?;
        if text.contains(['.', 'e', 'E']) {
            return match text.parse::<f64>() {
                Ok(x) if x.is_finite() => Ok(Any::Float(x)),
                _ => Err(ReadError::new(
                    format!("{} is too large for a float64", shortened(text)),
                    start,
                )),
            };
        }
        let n = parsed(text, false);
        if let Some(n) = n.and_then(|n| i64::try_from(n).ok()) {
            Ok(Any::Int(n))
        } else if let Some(n) = n.and_then(|n| u64::try_from(n).ok()) {
            Ok(Any::Uint(n))
        } else {
            Err(ReadError::new(
                format!("{} is neither an int64 nor a uint64", shortened(text)),
                start,
            ))
        }
    }

    /// Reads an enum's member: its name, or its number.
    pub fn member<E>(
        &mut self,
        enum_name: &str,
        by_number: impl FnOnce(u16) -> E,
        by_name: impl FnOnce(&str) -> E,
    ) -> Result<E, ReadError> {
        if self.peek() == b'"' {
            return Ok(by_name(&self.string()?));
        }
        self.integer(enum_name).map(by_number)
    }

    /// Reads a union: `read` gets the index of its alternative, or the name of one that is not listed.
    pub fn union<U>(
        &mut self,
        fields: &Fields,
        index: impl FnOnce(&[u8]) -> Option<usize>,
        read: impl FnOnce(&mut Self, usize) -> Result<U, ReadError>,
        by_number: impl FnOnce(&mut CborReader<'_>, u16) -> Result<U, ReadError>,
        unlisted: impl FnOnce(UnlistedField) -> U,
    ) -> Result<U, ReadError> {
        self.blanks();
        let start = self.at;
        let mut first = self.begin(b'{', fields.message)?;
        self.budget += 1; // a union is one value, whatever it is written as
        let Some(name) = self.next_member(&mut first)? else {
            return Err(ReadError::new(
                format!("expected one alternative of {}, found none", fields.message),
                start,
            ));
        };
        let value = match index(name.as_bytes()) {
            Some(index) => read(self, index),
            None => self.unlisted_union(&name, by_number, unlisted),
        };
        let value = value.map_err(|e| e.inside(&name))?;
        if self.next_member(&mut first)?.is_some() {
            return Err(self.failure("expected one alternative, found a second one"));
        }
        Ok(value)
    }

    fn unlisted_union<U>(
        &mut self,
        name: &str,
        by_number: impl FnOnce(&mut CborReader<'_>, u16) -> Result<U, ReadError>,
        unlisted: impl FnOnce(UnlistedField) -> U,
    ) -> Result<U, ReadError> {
        match number_of(name) {
            Some(number) => {
                let number = number.map_err(|why| self.failure(why))?;
                let start = self.at;
                let cbor = self.bytes()?;
                self.inside(&cbor, start, |inner| by_number(inner, number))
            }
            None => self
                .raw()
                .map(|raw| unlisted(UnlistedField::named(name, &raw))),
        }
    }

    /// Reads the one member of an element of a stream; its value is as deep as a payload.
    pub(super) fn element<T>(
        &mut self,
        read: impl FnOnce(&mut Self, &str) -> Result<T, ReadError>,
    ) -> Result<T, ReadError> {
        let mut first = self.begin(b'{', "an element of a stream")?;
        let Some(name) = self.next_member(&mut first)? else {
            return Err(self.failure("expected one member in an element"));
        };
        self.depth -= 1;
        let value = read(self, &name)?;
        self.depth += 1;
        if self.following(&mut first, b'}')? {
            return Err(self.failure("expected one member in an element"));
        }
        self.end()?;
        Ok(value)
    }

    /// Reads any value as it is, without the blanks between its tokens.
    pub(in crate::faithful) fn raw(&mut self) -> Result<Vec<u8>, ReadError> {
        let mut out = Vec::new();
        self.append_raw(&mut out)?;
        Ok(out)
    }

    fn append_raw(&mut self, out: &mut Vec<u8>) -> Result<(), ReadError> {
        let c = self.peek();
        let start = self.at;
        match c {
            b'"' => {
                self.string()?;
            }
            b'{' => {
                let mut first = self.begin(b'{', "an object")?;
                out.push(b'{');
                let mut any = false;
                while self.following(&mut first, b'}')? {
                    if any {
                        out.push(b',');
                    }
                    any = true;
                    if self.peek() != b'"' {
                        return Err(self.wrong("a name in quotes"));
                    }
                    let name = self.at;
                    self.string()?;
                    out.extend_from_slice(&self.data[name..self.at]);
                    if self.peek() != b':' {
                        return Err(self.wrong("a colon"));
                    }
                    self.at += 1;
                    out.push(b':');
                    self.append_raw(out)?;
                }
                out.push(b'}');
                return Ok(());
            }
            b'[' => {
                let mut first = self.begin(b'[', "a list")?;
                out.push(b'[');
                let mut any = false;
                while self.following(&mut first, b']')? {
                    if any {
                        out.push(b',');
                    }
                    any = true;
                    self.append_raw(out)?;
                }
                out.push(b']');
                return Ok(());
            }
            b't' => self.word("true")?,
            b'f' => self.word("false")?,
            b'n' => self.word("null")?,
            _ => {
                self.number("a JSON value")?;
            }
        }
        out.extend_from_slice(&self.data[start..self.at]);
        Ok(())
    }
}

/// Is a number by its shortest digits; of two that are as near, the even ones, as ECMAScript has it.
fn shortest(v: f64) -> String {
    let print = |v: f64| {
        if (1e-6..1e21).contains(&v.abs()) {
            format!("{v}")
        } else {
            format!("{v:e}")
        }
    };
    let text = print(v);
    let mantissa = text.split('e').next().unwrap_or_default();
    let count = mantissa.bytes().filter(u8::is_ascii_digit).count();
    let odd = mantissa.bytes().next_back().is_some_and(|c| c % 2 == 1);
    if count < 16 || !odd {
        return text;
    }
    let (digits, exponent) = text.split_at(mantissa.len());
    let even = format!(
        "{}{}{exponent}",
        &digits[..digits.len() - 1],
        char::from(digits.as_bytes()[digits.len() - 1] - 1)
    );
    let significant = mantissa
        .trim_start_matches(['-', '0', '.'])
        .bytes()
        .filter(u8::is_ascii_digit)
        .count();
    let exact = format!("{:.*e}", significant + 30, v);
    let rest = exact
        .split('e')
        .next()
        .unwrap_or_default()
        .bytes()
        .filter(u8::is_ascii_digit)
        .skip(significant);
    let tie = rest
        .enumerate()
        .all(|(i, c)| c == if i == 0 { b'5' } else { b'0' });
    if tie && even.parse() == Ok(v) {
        even
    } else {
        text
    }
}

/// Is the number of a name such as #13, or why it is none; a name that is not like that has none.
fn number_of(name: &str) -> Option<Result<u16, String>> {
    let digits = name
        .strip_prefix('#')
        .filter(|d| !d.is_empty() && d.bytes().all(|c| c.is_ascii_digit()))?;
    let canonical = !digits.starts_with('0');
    Some(
        digits
            .parse()
            .ok()
            .filter(|_| canonical)
            .ok_or_else(|| format!("expected #1 to #65535, found {}", shortened(name))),
    )
}

/// Reads digits without a fraction or exponent; "-0" is 0 as a number and nothing as a string.
fn parsed(text: &str, quoted: bool) -> Option<i128> {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let minus = digits.len() < text.len();
    let canonical = digits == "0" && !(quoted && minus) || !digits.starts_with('0');
    if digits.is_empty()
        || digits.len() > 20
        || !canonical
        || !digits.bytes().all(|c| c.is_ascii_digit())
    {
        return None;
    }
    text.parse().ok()
}
