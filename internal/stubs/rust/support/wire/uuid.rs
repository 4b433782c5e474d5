use std::fmt;
use std::str::FromStr;

/// Is a universally unique identifier (RFC 9562).
#[derive(Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Uuid([u8; 16]);

impl Uuid {
    /// Makes a uuid of its bytes.
    #[must_use]
    pub const fn from_bytes(bytes: [u8; 16]) -> Self {
        Self(bytes)
    }

    /// Its bytes.
    #[must_use]
    pub const fn as_bytes(&self) -> &[u8; 16] {
        &self.0
    }

    /// Reads 8-4-4-4-12 hexadecimal digits.
    pub(super) fn parse(text: &[u8]) -> Option<Self> {
        if text.len() != 36 {
            return None;
        }
        let mut bytes = [0; 16];
        let mut at = 0;
        for byte in &mut bytes {
            if matches!(at, 8 | 13 | 18 | 23) {
                if text[at] != b'-' {
                    return None;
                }
                at += 1;
            }
            *byte = hex(text[at])? << 4 | hex(text[at + 1])?;
            at += 2;
        }
        Some(Self(bytes))
    }

    /// Its 36 characters.
    pub(super) fn text(&self) -> [u8; 36] {
        const DIGITS: &[u8; 16] = b"0123456789abcdef";
        let mut text = [b'-'; 36];
        let mut at = 0;
        for byte in self.0 {
            if matches!(at, 8 | 13 | 18 | 23) {
                at += 1;
            }
            text[at] = DIGITS[usize::from(byte >> 4)];
            text[at + 1] = DIGITS[usize::from(byte & 15)];
            at += 2;
        }
        text
    }
}

fn hex(c: u8) -> Option<u8> {
    match c {
        b'0'..=b'9' => Some(c - b'0'),
        b'a'..=b'f' => Some(c - b'a' + 10),
        b'A'..=b'F' => Some(c - b'A' + 10),
        _ => None,
    }
}

impl fmt::Display for Uuid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for c in self.text() {
            fmt::Write::write_char(f, char::from(c))?;
        }
        Ok(())
    }
}

impl fmt::Debug for Uuid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

/// Says that a text is not what it was read as.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ParseError(pub(super) &'static str);

impl fmt::Display for ParseError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0)
    }
}

impl std::error::Error for ParseError {}

impl FromStr for Uuid {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        Self::parse(text.as_bytes()).ok_or(ParseError(
            "a uuid is written in 8-4-4-4-12 hexadecimal digits",
        ))
    }
}

impl From<[u8; 16]> for Uuid {
    fn from(bytes: [u8; 16]) -> Self {
        Self(bytes)
    }
}
