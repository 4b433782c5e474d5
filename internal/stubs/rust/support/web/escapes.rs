//! How texts travel in URLs, headers and cookies.

/// Is a segment of a path (RFC 3986, section 3.3).
pub(super) fn segment(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.bytes() {
        if c.is_ascii_alphanumeric() || b"-._~$&+=:@".contains(&c) {
            out.push(char::from(c));
        } else {
            percent(&mut out, c);
        }
    }
    out
}

/// Is a name or a value of a query (URL standard, application/x-www-form-urlencoded).
pub(super) fn query(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.bytes() {
        match c {
            b' ' => out.push('+'),
            b'-' | b'.' | b'_' | b'~' => out.push(char::from(c)),
            _ if c.is_ascii_alphanumeric() => out.push(char::from(c)),
            _ => percent(&mut out, c),
        }
    }
    out
}

fn percent(out: &mut String, c: u8) {
    const HEX: &[u8; 16] = b"0123456789ABCDEF";
    out.push('%');
    out.push(char::from(HEX[usize::from(c >> 4)]));
    out.push(char::from(HEX[usize::from(c & 15)]));
}

/// Undoes percent-encoding; none where a % is not followed by two hexadecimal digits.
pub(super) fn decoded(text: &str) -> Option<Vec<u8>> {
    let mut out = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((&c, after)) = rest.split_first() {
        rest = after;
        if c != b'%' {
            out.push(c);
            continue;
        }
        let digits = rest.get(..2)?;
        let digit = |c: u8| {
            char::from(c)
                .to_digit(16)
                .and_then(|d| u8::try_from(d).ok())
        };
        out.push(digit(digits[0])? << 4 | digit(digits[1])?);
        rest = &rest[2..];
    }
    Some(out)
}

/// Are the pairs of a query, and whether one of them could not be decoded.
pub(super) fn pairs(raw: &str) -> (Vec<(String, String)>, bool) {
    let mut list = Vec::new();
    let mut odd = false;
    let plain = |text: &str| {
        decoded(&text.replace('+', " ")).and_then(|bytes| String::from_utf8(bytes).ok())
    };
    for pair in raw.split('&').filter(|pair| !pair.is_empty()) {
        let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
        match (plain(name), plain(value)) {
            (Some(name), Some(value)) => list.push((name, value)),
            _ => odd = true,
        }
    }
    (list, odd)
}

/// Tells what can travel in a header verbatim.
pub(super) fn is_printable(text: &str) -> bool {
    text.bytes().all(|c| (b' '..=b'~').contains(&c)) && text.trim_matches(' ') == text
}

/// Is a text for a header, with what can't be in one, or would not be seen at its ends, percent-encoded.
pub(super) fn header(text: &str) -> String {
    let after = text.trim_start_matches(' ');
    let inner = after.trim_end_matches(' ');
    let mut out = "%20".repeat(text.len() - after.len());
    encode(&mut out, inner, b"%");
    out.push_str(&"%20".repeat(after.len() - inner.len()));
    out
}

/// Is a text for a cookie, with what means something there percent-encoded (RFC 6265, section 4.1.1).
pub(super) fn cookie(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    encode(&mut out, text, b"% \",;\\");
    out
}

fn encode(out: &mut String, text: &str, more: &[u8]) {
    for c in text.bytes() {
        if !(b' '..0x7f).contains(&c) || more.contains(&c) {
            percent(out, c);
        } else {
            out.push(char::from(c));
        }
    }
}
