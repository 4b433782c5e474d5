//! Bytes as base64url (RFC 4648, section 5).

const DIGITS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";

/// Writes bytes without padding.
pub(super) fn append(bytes: &[u8], out: &mut Vec<u8>) {
    for chunk in bytes.chunks(3) {
        let word = chunk.iter().fold(0, |n, b| n << 8 | u32::from(*b)) << (8 * (3 - chunk.len()));
        for i in 0..=chunk.len() {
            out.push(DIGITS[(word >> (18 - 6 * i) & 63) as usize]);
        }
    }
}

/// Is bytes in the other alphabet, padded (section 4), as HTTP has it.
pub(in crate::faithful) fn padded(bytes: &[u8]) -> String {
    let mut out = Vec::with_capacity(bytes.len() * 4 / 3 + 4);
    append(bytes, &mut out);
    out.resize(out.len().div_ceil(4) * 4, b'=');
    let other = |c: u8| match c {
        b'-' => '+',
        b'_' => '/',
        c => char::from(c),
    };
    out.into_iter().map(other).collect()
}

/// Reads either alphabet, padded or not.
pub(in crate::faithful) fn parse(text: &[u8]) -> Option<Vec<u8>> {
    let padding = text.iter().rev().take_while(|c| **c == b'=').count();
    let digits = &text[..text.len() - padding];
    if (padding > 0 && (text.len() % 4 != 0 || padding > 2)) || digits.len() % 4 == 1 {
        return None;
    }
    let mut out = Vec::with_capacity(digits.len() * 3 / 4);
    for chunk in digits.chunks(4) {
        let mut word = 0;
        for c in chunk {
            word = word << 6 | u32::from(digit(*c)?);
        }
        word <<= 6 * (4 - chunk.len());
        let length = chunk.len() - 1;
        if word & (0xff_ffff >> (8 * length)) != 0 {
            return None; // stray bits
        }
        out.extend_from_slice(&word.to_be_bytes()[1..=length]);
    }
    Some(out)
}

fn digit(c: u8) -> Option<u8> {
    match c {
        b'A'..=b'Z' => Some(c - b'A'),
        b'a'..=b'z' => Some(c - b'a' + 26),
        b'0'..=b'9' => Some(c - b'0' + 52),
        b'-' | b'+' => Some(62),
        b'_' | b'/' => Some(63),
        _ => None,
    }
}
