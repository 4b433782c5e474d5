//! Streams: elements one after the other, in CBOR (RFC 8742) or JSON (RFC 7464).

use super::cbor::{CborReader, CborWriter, MAX_DEPTH, TOO_DEEP};
use super::codec::{append_cbor, append_json, Codec};
use super::error::{ReadError, WriteError};
use super::json::JsonReader;

/// Is how a payload is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Encoding {
    /// CBOR (RFC 8949).
    #[default]
    Cbor,
    /// JSON (RFC 8259).
    Json,
}

/// Is one element of a stream.
#[doc(hidden)]
#[derive(Debug, PartialEq, Eq)]
pub enum Element<T> {
    /// A value.
    Value(T),
    /// The end.
    End,
    /// The end, with problem details (RFC 9457) that say why.
    Problem(Vec<u8>),
    /// A heartbeat, or one that these definitions lack.
    Other,
}

/// Adds a value as an element.
#[doc(hidden)]
pub fn append_value<C: Codec>(
    out: &mut Vec<u8>,
    encoding: Encoding,
    value: &C::Value,
) -> Result<(), WriteError> {
    let start = out.len();
    let written = match encoding {
        Encoding::Cbor => {
            out.extend_from_slice(&[0xa1, 1]);
            append_cbor::<C>(value, out)
        }
        Encoding::Json => {
            out.extend_from_slice(b"{\"value\":");
            append_json::<C>(value, out).map(|()| out.push(b'}'))
        }
    };
    if written.is_err() {
        out.truncate(start);
    }
    written
}

/// Adds the element that ends a stream.
#[doc(hidden)]
pub fn append_end(out: &mut Vec<u8>, encoding: Encoding) {
    out.extend_from_slice(match encoding {
        Encoding::Cbor => &[0xa1, 2, 0xa0],
        Encoding::Json => b"{\"end\":{}}",
    });
}

/// Adds the element that ends a stream with problem details.
#[doc(hidden)]
pub fn append_problem(out: &mut Vec<u8>, encoding: Encoding, details: &str) {
    match encoding {
        Encoding::Cbor => {
            out.extend_from_slice(&[0xa1, 3]);
            let mut w = CborWriter::after(std::mem::take(out));
            w.text(details);
            *out = w.finish().0;
        }
        Encoding::Json => {
            out.extend_from_slice(b"{\"problem\":");
            out.extend_from_slice(details.as_bytes());
            out.push(b'}');
        }
    }
}

/// Adds the element that says only that its writer lives.
#[doc(hidden)]
pub fn append_heartbeat(out: &mut Vec<u8>, encoding: Encoding) {
    out.extend_from_slice(match encoding {
        Encoding::Cbor => &[0xa1, 0, 0xa0],
        Encoding::Json => b"{\"heartbeat\":{}}",
    });
}

/// Reads an element, all of it, with at most so many items and entries in its value.
#[doc(hidden)]
pub fn read_element<C: Codec>(
    data: &[u8],
    encoding: Encoding,
    budget: usize,
) -> Result<Element<C::Value>, ReadError> {
    match encoding {
        Encoding::Cbor => CborReader::new(data, budget).element(|r, number| match number {
            1 => C::read_cbor(r).map(Element::Value),
            2 => r.skip().map(|()| Element::End),
            3 => r
                .text()
                .map(|details| Element::Problem(details.into_bytes())),
            _ => r.skip().map(|()| Element::Other),
        }),
        Encoding::Json => JsonReader::new(data, budget).element(|r, name| match name {
            "value" => C::read_json(r).map(Element::Value),
            "end" => r.raw().map(|_| Element::End),
            "problem" => r.raw().map(Element::Problem),
            _ => r.raw().map(|_| Element::Other),
        }),
    }
}

/// How deep an element may nest while it is looked for; what reads it allows less.
const DEEPEST: usize = 4 * MAX_DEPTH;

/// Finds the elements of a sequence as its bytes arrive.
#[doc(hidden)]
#[derive(Debug)]
pub struct Splitter {
    encoding: Encoding,
    at: usize,              // how far the bytes of the current element were looked at
    skip: usize,            // bytes of a string that need no look
    whole: bool,            // with them, an item is
    open: Vec<Option<u64>>, // how many items each array, map and tag still needs; none until a break
    depth: usize,           // of JSON
    text: bool,
    quote: bool, // the byte before was a backslash
    begun: Option<usize>,
}

const NO_SEQUENCE: &str = "what came is not a sequence of elements";

impl Splitter {
    #[must_use]
    pub fn new(encoding: Encoding) -> Self {
        Self {
            encoding,
            at: 0,
            skip: 0,
            whole: false,
            open: Vec::new(),
            depth: 0,
            text: false,
            quote: false,
            begun: None,
        }
    }

    /// Returns where in `data` its first element begins and ends, or none while more is needed. From call to call `data`
    /// only grows, but for elements that were returned.
    pub fn next(&mut self, data: &[u8]) -> Result<Option<(usize, usize)>, &'static str> {
        match self.encoding {
            Encoding::Cbor => self.next_cbor(data),
            Encoding::Json => self.next_json(data),
        }
    }

    fn next_cbor(&mut self, data: &[u8]) -> Result<Option<(usize, usize)>, &'static str> {
        loop {
            let step = self.skip.min(data.len() - self.at);
            self.at += step;
            self.skip -= step;
            if self.skip > 0 {
                return Ok(None);
            }
            if std::mem::take(&mut self.whole) && self.completes() {
                return Ok(Some((0, std::mem::take(&mut self.at))));
            }
            match self.head(&data[self.at..])? {
                0 => return Ok(None),
                size => self.at += size,
            }
        }
    }

    /// Takes the head of an item; its size is 0 while it is not all there.
    fn head(&mut self, data: &[u8]) -> Result<usize, &'static str> {
        let Some(&first) = data.first() else {
            return Ok(0);
        };
        if first == 0xff {
            return match self.open.pop() {
                Some(None) => {
                    self.whole = true;
                    Ok(1)
                }
                _ => Err(NO_SEQUENCE),
            };
        }
        let (size, argument) = match first & 31 {
            info @ 0..=23 => (1, Some(u64::from(info))),
            info @ 24..=27 => {
                let size = 1 + (1 << (info - 24));
                let Some(bytes) = data.get(1..size) else {
                    return Ok(0);
                };
                (
                    size,
                    Some(bytes.iter().fold(0, |n, b| n << 8 | u64::from(*b))),
                )
            }
            31 => (1, None),
            _ => return Err(NO_SEQUENCE),
        };
        if self.open.len() > DEEPEST {
            return Err(TOO_DEEP);
        }
        match (first >> 5, argument) {
            (6, _) => self.open.push(Some(1)),
            (2..=5, Some(n)) if n > 1 << 40 => return Err(NO_SEQUENCE),
            (_, None) => self.open.push(None),
            (2 | 3, Some(n)) => {
                self.skip = usize::try_from(n).map_err(|_| NO_SEQUENCE)?;
                self.whole = true;
            }
            (4, Some(n)) if n > 0 => self.open.push(Some(n)),
            (5, Some(n)) if n > 0 => self.open.push(Some(2 * n)),
            _ => self.whole = true,
        }
        Ok(size)
    }

    /// Counts an item that is whole, and tells whether with it the outermost one is.
    fn completes(&mut self) -> bool {
        while let Some(last) = self.open.last_mut() {
            match last {
                None => return false,
                Some(n) => {
                    *n -= 1;
                    if *n > 0 {
                        return false;
                    }
                }
            }
            self.open.pop();
        }
        true
    }

    fn next_json(&mut self, data: &[u8]) -> Result<Option<(usize, usize)>, &'static str> {
        while let Some(&c) = data.get(self.at) {
            self.at += 1;
            let Some(begun) = self.begun else {
                match c {
                    b'{' => {
                        self.begun = Some(self.at - 1);
                        self.depth = 1;
                    }
                    0x1e | b' ' | b'\t' | b'\r' | b'\n' => {}
                    _ => return Err(NO_SEQUENCE),
                }
                continue;
            };
            if self.text {
                self.text = c != b'"' || self.quote;
                self.quote = c == b'\\' && !self.quote;
                continue;
            }
            match c {
                b'"' => self.text = true,
                b'{' | b'[' => {
                    self.depth += 1;
                    if self.depth > DEEPEST {
                        return Err(TOO_DEEP);
                    }
                }
                b'}' | b']' => {
                    self.depth -= 1;
                    if self.depth == 0 {
                        self.begun = None;
                        return Ok(Some((begun, std::mem::take(&mut self.at))));
                    }
                }
                _ => {}
            }
        }
        Ok(None)
    }
}
