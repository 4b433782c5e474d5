//! What callers show of themselves.

use http::header::{HeaderMap, HeaderValue, AUTHORIZATION, COOKIE};

use crate::faithful::wire::decode_base64;

use super::call::{CallTable, Credential, CredentialKind};

/// Are the values that a request came with, by the full names of their credentials; of basic ones "user:password".
pub(super) type Shown = Vec<(&'static Credential, String)>;

/// Reads all credentials of a call that a request has, and tells whether those of one alternative are complete.
pub(super) fn found(
    call: &CallTable,
    headers: &HeaderMap,
    query: &[(String, String)],
) -> (Shown, bool) {
    let mut shown = Shown::new();
    let mut enough = call.needs.is_empty();
    for all in call.needs {
        let mut complete = true;
        for &credential in *all {
            match value(credential, headers, query) {
                Some(value) => shown.push((credential, value)),
                None => complete = false,
            }
        }
        enough |= complete;
    }
    (shown, enough)
}

fn value(
    credential: &Credential,
    headers: &HeaderMap,
    query: &[(String, String)],
) -> Option<String> {
    let header = |name: &str| {
        headers
            .get(name)
            .and_then(|v| v.to_str().ok())
            .map(str::to_owned)
    };
    let found = match credential.kind {
        CredentialKind::Header(name) => header(name),
        CredentialKind::Query(name) => query
            .iter()
            .find(|(n, _)| n == name)
            .map(|(_, v)| v.clone()),
        CredentialKind::Cookie(name) => cookie(headers, name),
        CredentialKind::Bearer => scheme(headers, "Bearer"),
        CredentialKind::Basic => return basic(headers),
    };
    found.filter(|value| !value.is_empty())
}

fn scheme(headers: &HeaderMap, name: &str) -> Option<String> {
    let text = headers.get(AUTHORIZATION)?.to_str().ok()?;
    let (scheme, rest) = text.split_once(' ')?;
    scheme
        .eq_ignore_ascii_case(name)
        .then(|| rest.trim().to_owned())
}

pub(super) fn basic(headers: &HeaderMap) -> Option<String> {
    let packed = scheme(headers, "Basic")?;
    let plain = String::from_utf8(decode_base64(packed.as_bytes())?).ok()?;
    plain.contains(':').then_some(plain)
}

/// Is the value of a cookie; of several of one name the first counts.
pub(super) fn cookie(headers: &HeaderMap, name: &str) -> Option<String> {
    let lines = headers
        .get_all(COOKIE)
        .iter()
        .filter_map(|v| v.to_str().ok());
    let pair = |pair: &str| {
        let (n, value) = pair.trim().split_once('=')?;
        let value = value
            .strip_prefix('"')
            .and_then(|v| v.strip_suffix('"'))
            .unwrap_or(value);
        (n == name).then(|| value.to_owned())
    };
    lines.flat_map(|line| line.split(';')).find_map(pair)
}

/// Are what WWW-Authenticate says (RFC 9110, section 11.6.1).
pub(super) fn challenges(call: &CallTable) -> Vec<HeaderValue> {
    let mut list: Vec<String> = Vec::new();
    for credential in call.needs.iter().flat_map(|all| all.iter()) {
        let key = |place: &str, name: &str| format!("Key in=\"{place}\", name=\"{name}\"");
        let challenge = match credential.kind {
            CredentialKind::Bearer => "Bearer".to_owned(),
            CredentialKind::Basic => format!("Basic realm=\"{}\", charset=\"UTF-8\"", call.name),
            CredentialKind::Header(name) => key("header", name),
            CredentialKind::Query(name) => key("query", name),
            CredentialKind::Cookie(name) => key("cookie", name),
        };
        if !list.contains(&challenge) {
            list.push(challenge);
        }
    }
    list.iter()
        .filter_map(|challenge| HeaderValue::from_str(challenge).ok())
        .collect()
}
