//! Media types, and which of them an answer has (RFC 9110, section 12.5.1).

use http::header::HeaderMap;

use crate::faithful::wire::Encoding;

pub(super) const CBOR: &str = "application/cbor";
pub(super) const JSON: &str = "application/json";
pub(super) const CBOR_SEQ: &str = "application/cbor-seq";
pub(super) const JSON_SEQ: &str = "application/json-seq";
pub(super) const PROBLEM: &str = "application/problem+json";

/// Is the media type of a payload.
pub(super) const fn of_payload(encoding: Encoding) -> &'static str {
    match encoding {
        Encoding::Cbor => CBOR,
        Encoding::Json => JSON,
    }
}

/// Is the media type of a stream.
pub(super) const fn of_stream(encoding: Encoding) -> &'static str {
    match encoding {
        Encoding::Cbor => CBOR_SEQ,
        Encoding::Json => JSON_SEQ,
    }
}

/// Is the encoding of a payload.
pub(super) fn payload(media_type: &str) -> Option<Encoding> {
    match media_type {
        CBOR => Some(Encoding::Cbor),
        JSON => Some(Encoding::Json),
        _ => None,
    }
}

/// Is the encoding of a stream.
pub(super) fn stream(media_type: &str) -> Option<Encoding> {
    match media_type {
        CBOR_SEQ => Some(Encoding::Cbor),
        JSON_SEQ => Some(Encoding::Json),
        _ => None,
    }
}

/// Is the media type of a body in lower case, without parameters; empty for none.
pub(super) fn content_type(headers: &HeaderMap) -> String {
    let text = headers
        .get(http::header::CONTENT_TYPE)
        .map_or("", |v| v.to_str().unwrap_or("?"));
    text.split(';')
        .next()
        .unwrap_or_default()
        .trim()
        .to_ascii_lowercase()
}

/// Is the encoding of an answer: the one that is liked better of the media types of CBOR and JSON, of two alike that of the
/// request, or JSON; none where neither is acceptable.
pub(super) fn preferred(
    headers: &HeaderMap,
    request: Option<Encoding>,
    media_type: fn(Encoding) -> &'static str,
) -> Option<Encoding> {
    let fallback = request.unwrap_or(Encoding::Json);
    if !headers.contains_key(http::header::ACCEPT) {
        return Some(fallback);
    }
    let cbor = quality(headers, media_type(Encoding::Cbor));
    let json = quality(headers, media_type(Encoding::Json));
    if cbor <= 0.0 && json <= 0.0 {
        None
    } else if cbor > json {
        Some(Encoding::Cbor)
    } else if json > cbor {
        Some(Encoding::Json)
    } else {
        Some(fallback)
    }
}

fn quality(headers: &HeaderMap, wanted: &str) -> f32 {
    let mut best = (0.0, -1);
    let lines = headers
        .get_all(http::header::ACCEPT)
        .iter()
        .filter_map(|v| v.to_str().ok());
    for part in lines.flat_map(|line| line.split(',')) {
        let mut parameters = part.split(';').map(|p| p.trim().to_ascii_lowercase());
        let rank = match parameters.next().as_deref() {
            Some(pattern) if pattern == wanted => 2,
            Some("application/*") => 1,
            Some("*/*") => 0,
            _ => continue,
        };
        if rank > best.1 {
            let q = parameters.find_map(|p| p.strip_prefix("q=").and_then(|q| q.parse().ok()));
            best = (q.unwrap_or(1.0), rank);
        }
    }
    best.0
}

/// Whether gzip is taken (RFC 9110, section 12.5.3).
pub(super) fn takes_gzip(headers: &HeaderMap) -> bool {
    let (mut gzip, mut any): (Option<f32>, Option<f32>) = (None, None);
    let lines = headers
        .get_all(http::header::ACCEPT_ENCODING)
        .iter()
        .filter_map(|v| v.to_str().ok());
    for part in lines.flat_map(|line| line.split(',')) {
        let (coding, parameters) = part.split_once(';').unwrap_or((part, ""));
        let q = parameters.trim().to_ascii_lowercase();
        let q = q
            .strip_prefix("q=")
            .and_then(|q| q.parse().ok())
            .unwrap_or(1.0);
        if is_gzip(coding) {
            gzip = Some(gzip.unwrap_or(0.0).max(q));
        } else if coding.trim() == "*" {
            any = Some(any.unwrap_or(0.0).max(q));
        }
    }
    gzip.or(any).is_some_and(|q| q > 0.0)
}

/// Tells the one content coding that is read.
pub(super) fn is_gzip(coding: &str) -> bool {
    let coding = coding.trim();
    coding.eq_ignore_ascii_case("gzip") || coding.eq_ignore_ascii_case("x-gzip")
}
