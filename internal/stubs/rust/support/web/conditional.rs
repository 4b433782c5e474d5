//! Entity-tags (RFC 9110, section 8.8.3), and what may be kept of answers.

use http::header::{HeaderMap, HeaderValue, CACHE_CONTROL, IF_NONE_MATCH};

use crate::faithful::wire::Encoding;

/// Tells entity-tags.
pub(super) fn is_tag(text: &str) -> bool {
    let opaque = text.strip_prefix("W/").unwrap_or(text);
    let opaque = opaque
        .strip_prefix('"')
        .and_then(|text| text.strip_suffix('"'));
    opaque.is_some_and(|text| !text.contains(|c: char| c <= ' ' || c == '"' || c == '\x7f'))
}

/// Is an entity-tag for an answer of an encoding: each has a tag of its own, which what is before the closing quote tells
/// apart.
pub(super) fn tagged(tag: &str, encoding: Encoding, gzipped: bool) -> String {
    let encoding = match encoding {
        Encoding::Cbor => "cbor",
        Encoding::Json => "json",
    };
    let gz = if gzipped { ".gz" } else { "" };
    format!("{}.{encoding}{gz}\"", tag.strip_suffix('"').unwrap_or(tag))
}

/// Are the entity-tags of a list, each with what was before it, and what is after the last.
fn tags(list: &str) -> (Vec<&str>, &str) {
    let mut found = Vec::new();
    let mut rest = list;
    while let Some(begin) = rest.find('"') {
        let Some(length) = rest[begin + 1..].find('"') else {
            break;
        };
        let (tag, after) = rest.split_at(begin + length + 2);
        found.push(tag);
        rest = after;
    }
    (found, rest)
}

/// Takes from the entity-tags of If-Match and If-None-Match what [`tagged`] has added.
pub(super) fn without_encodings(list: &str) -> String {
    let (found, rest) = tags(list);
    let plain = |tag: &str| {
        let tag = tag.strip_suffix('"').unwrap_or(tag);
        let expanded = tag.strip_suffix(".gz").unwrap_or(tag);
        let cut = expanded
            .strip_suffix(".cbor")
            .or_else(|| expanded.strip_suffix(".json"));
        format!("{}\"", cut.unwrap_or(tag))
    };
    found
        .into_iter()
        .map(plain)
        .chain([rest.to_owned()])
        .collect()
}

/// Tells whether If-None-Match names the tag of an answer, weakly (RFC 9110, sections 8.8.3.2 and 13.1.2).
pub(super) fn matches(headers: &HeaderMap, tag: &str) -> bool {
    let opaque = tag.strip_prefix("W/").unwrap_or(tag);
    headers
        .get_all(IF_NONE_MATCH)
        .iter()
        .filter_map(|v| v.to_str().ok())
        .any(|list| {
            let same = |one: &str| one.find('"').is_some_and(|begin| &one[begin..] == opaque);
            list.trim() == "*" || tags(list).0.into_iter().any(same)
        })
}

/// Lets an answer with an entity-tag be kept, if it is asked for each time.
pub(super) fn is_to_be_checked(headers: &mut HeaderMap) {
    let checked = match headers.get(CACHE_CONTROL).and_then(|v| v.to_str().ok()) {
        Some("no-store") => "no-cache",
        Some("private, no-store") => "private, no-cache",
        _ => return,
    };
    headers.insert(CACHE_CONTROL, HeaderValue::from_static(checked));
}
