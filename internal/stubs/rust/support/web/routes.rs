//! Which call a request is of.

use std::collections::HashMap;

use super::call::CallTable;
use super::escapes;

/// Finds the call of a method and a path.
pub(super) struct Routes {
    exact: HashMap<&'static str, Vec<usize>>,
    patterns: Vec<(Vec<&'static str>, usize)>, // the more specific first: a literal is more than a field
    methods: Vec<&'static str>,
}

/// Are the values of a path's fields.
pub(super) type Values = Vec<(&'static str, String)>;

/// Is what was found: a call, or the methods that would be right.
pub(super) enum Found {
    Call(usize, Values),
    Others(Vec<&'static str>),
}

impl Routes {
    pub(super) fn of<'a>(calls: impl Iterator<Item = &'a CallTable>) -> Self {
        let mut routes = Self {
            exact: HashMap::new(),
            patterns: Vec::new(),
            methods: Vec::new(),
        };
        for (i, call) in calls.enumerate() {
            routes.methods.push(call.method);
            if call.path.contains('{') {
                routes
                    .patterns
                    .push((call.path[1..].split('/').collect(), i));
            } else {
                routes.exact.entry(call.path).or_default().push(i);
            }
        }
        routes
            .patterns
            .sort_by_key(|(segments, _)| segments.iter().filter(|s| s.starts_with('{')).count());
        routes
    }

    /// Finds the call of a path as it was sent.
    pub(super) fn find(&self, method: &str, path: &str) -> Found {
        let method = if method == "HEAD" { "GET" } else { method }; // all of it but the body
        let mut others = Vec::new();
        for &i in self.exact.get(path).into_iter().flatten() {
            if self.methods[i] == method {
                return Found::Call(i, Vec::new());
            }
            others.push(self.methods[i]);
        }
        if self.patterns.is_empty() {
            return Found::Others(others);
        }
        let plain = |s: &str| {
            escapes::decoded(s)
                .and_then(|b| String::from_utf8(b).ok())
                .unwrap_or_else(|| s.to_owned())
        };
        let segments: Vec<String> = path.trim_start_matches('/').split('/').map(plain).collect();
        for (pattern, i) in &self.patterns {
            let Some(values) = matched(pattern, &segments) else {
                continue;
            };
            if self.methods[*i] == method {
                return Found::Call(*i, values);
            }
            if !others.contains(&self.methods[*i]) {
                others.push(self.methods[*i]);
            }
        }
        Found::Others(others)
    }
}

fn matched(pattern: &[&'static str], segments: &[String]) -> Option<Values> {
    if pattern.len() != segments.len() {
        return None;
    }
    let mut values = Vec::new();
    for (part, segment) in pattern.iter().zip(segments) {
        match part
            .strip_prefix('{')
            .and_then(|part| part.strip_suffix('}'))
        {
            Some(name) => values.push((name, segment.clone())),
            None if part == segment => {}
            None => return None,
        }
    }
    Some(values)
}
