use std::marker::PhantomData;

use http::header::{HeaderMap, HeaderName, HeaderValue};

use crate::faithful::wire::{
    append_cbor, append_json, from_cbor, from_json, read_partial, read_plain, to_plain, Codec,
    Encoding, Partial, ReadError, Shape, Slot, Unlisted, Violation, Violations, WriteError,
};

use super::escapes;

/// Says how a message travels: in a body alone, or in the path, the query, headers and cookies too.
#[doc(hidden)]
pub trait Travels: Send + Sync + 'static {
    /// What travels.
    type Message: Send + 'static;
    /// Whether any of it is in a body.
    const IN_BODY: bool = true;
    /// Whether there is a message at all.
    const IS_MESSAGE: bool = true;
    /// What of it travels outside of the body.
    const PLACED: &'static [Placed] = &[];

    /// Adds what of a message is in the body.
    fn append(
        message: &Self::Message,
        encoding: Encoding,
        out: &mut Vec<u8>,
    ) -> Result<(), WriteError>;

    /// Puts what is not in the body where it travels.
    fn place(message: &Self::Message, p: &mut Parameters) {
        let _ = (message, p);
    }

    /// Reads a message; none where the arguments have violations.
    fn read(
        body: Option<Body<'_>>,
        a: &mut Arguments<'_>,
    ) -> Result<Option<Self::Message>, ReadError>;

    /// Lists the violations of a message.
    fn violations(message: &Self::Message) -> Vec<Violation>;

    /// Whether nothing is set of what would be in the body.
    fn is_blank(message: &Self::Message) -> bool {
        let _ = message;
        true
    }
}

/// Is a body that is to be read, with how many items it may have.
#[doc(hidden)]
#[derive(Clone, Copy, Debug)]
pub struct Body<'a> {
    pub data: &'a [u8],
    pub encoding: Encoding,
    pub budget: usize,
}

impl Body<'_> {
    /// Reads what a message lists, and the rest.
    pub fn partial<P: Partial>(&self) -> Result<(P, Unlisted), ReadError> {
        read_partial::<P>(self.data, self.encoding, self.budget)
    }

    /// Reads a value from it.
    pub fn read<C: Codec>(&self) -> Result<C::Value, ReadError> {
        match self.encoding {
            Encoding::Cbor => from_cbor::<C>(self.data, self.budget),
            Encoding::Json => from_json::<C>(self.data, self.budget),
        }
    }
}

/// Is a message that is all in a body.
#[doc(hidden)]
pub struct InBody<C>(PhantomData<fn() -> C>);

impl<C: Codec + 'static> Travels for InBody<C>
where
    C::Value: Send + 'static,
{
    type Message = C::Value;

    fn append(message: &C::Value, encoding: Encoding, out: &mut Vec<u8>) -> Result<(), WriteError> {
        match encoding {
            Encoding::Cbor => append_cbor::<C>(message, out),
            Encoding::Json => append_json::<C>(message, out),
        }
    }

    fn read(body: Option<Body<'_>>, _: &mut Arguments<'_>) -> Result<Option<C::Value>, ReadError> {
        let nothing = Body {
            data: b"{}",
            encoding: Encoding::Json,
            budget: 1_000,
        };
        body.unwrap_or(nothing).read::<C>().map(Some)
    }

    fn violations(message: &C::Value) -> Vec<Violation> {
        Violations::of::<C>(message)
    }

    fn is_blank(message: &C::Value) -> bool {
        let nothing = Body {
            data: b"{}",
            encoding: Encoding::Json,
            budget: 1_000,
        };
        nothing
            .read::<C>()
            .is_ok_and(|blank| C::same(message, &blank))
    }
}

/// Is what travels where there is no message.
#[doc(hidden)]
pub enum Nothing {}

impl Travels for Nothing {
    type Message = ();
    const IN_BODY: bool = false;
    const IS_MESSAGE: bool = false;

    fn append((): &(), _: Encoding, _: &mut Vec<u8>) -> Result<(), WriteError> {
        Ok(())
    }

    fn read(_: Option<Body<'_>>, _: &mut Arguments<'_>) -> Result<Option<()>, ReadError> {
        Ok(Some(()))
    }

    fn violations((): &()) -> Vec<Violation> {
        Vec::new()
    }
}

/// Is a field that travels outside of a body.
#[doc(hidden)]
#[derive(Debug)]
pub struct Placed {
    /// Its name in JSON.
    pub name: &'static str,
    pub place: Place,
    /// How it is called there.
    pub parameter: &'static str,
}

/// Is where a field travels.
#[doc(hidden)]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    Path,
    Query,
    Header,
    Cookie,
}

impl Place {
    pub(super) const fn name(self) -> &'static str {
        match self {
            Self::Path => "path",
            Self::Query => "query",
            Self::Header => "header",
            Self::Cookie => "cookie",
        }
    }
}

impl Placed {
    /// Tells fields in headers that HTTP has a meaning for: they are sent as they are.
    pub(super) fn is_verbatim(&self) -> bool {
        const NAMES: [&str; 10] = [
            "accept-language",
            "cache-control",
            "content-disposition",
            "content-language",
            "etag",
            "if-match",
            "if-none-match",
            "last-modified",
            "link",
            "location",
        ];
        self.place == Place::Header
            && NAMES
                .iter()
                .any(|name| name.eq_ignore_ascii_case(self.parameter))
    }

    fn refusal(&self, detail: impl Into<String>) -> Violation {
        let mut violations = Violations::default();
        violations.inside(self.name, |v| v.refuse(detail));
        let mut violation = violations.found().pop().unwrap_or_default();
        violation.place = self.place.name();
        violation
    }
}

const NOT_IN_PATH: &str = "must not be empty, . or .., in a path";
const NOT_PRINTABLE: &str = "must be printable ASCII, without spaces at either end";

/// Is what is put into path, query, headers and cookies.
#[doc(hidden)]
#[derive(Debug, Default)]
pub struct Parameters {
    pub(super) path: Vec<(&'static str, String)>,
    pub(super) query: String,
    pub(super) headers: HeaderMap,
    pub(super) cookies: Vec<(String, String)>,
    pub(super) violations: Vec<Violation>,
}

impl Parameters {
    /// Puts a scalar where it travels.
    pub fn put<C: Codec>(&mut self, placed: &Placed, value: &C::Value) {
        let text = match to_plain::<C>(value) {
            Ok(text) => text,
            Err(e) => {
                self.violations.push(placed.refusal(e.detail()));
                return;
            }
        };
        match placed.place {
            Place::Path => {
                if matches!(&*text, "" | "." | "..") {
                    self.violations.push(placed.refusal(NOT_IN_PATH));
                }
                self.path.push((placed.parameter, escapes::segment(&text)));
            }
            Place::Query => self.add_query(placed.parameter, &text),
            Place::Cookie => self
                .cookies
                .push((placed.parameter.to_owned(), escapes::cookie(&text))),
            Place::Header if placed.is_verbatim() && !escapes::is_printable(&text) => {
                self.violations.push(placed.refusal(NOT_PRINTABLE));
            }
            Place::Header => {
                let text = if placed.is_verbatim() {
                    text
                } else {
                    escapes::header(&text)
                };
                let name = HeaderName::from_bytes(placed.parameter.as_bytes());
                if let (Ok(name), Ok(value)) = (name, HeaderValue::from_str(&text)) {
                    self.headers.insert(name, value);
                }
            }
        }
    }

    pub(super) fn add_query(&mut self, name: &str, text: &str) {
        if !self.query.is_empty() {
            self.query.push('&');
        }
        self.query.push_str(&escapes::query(name));
        self.query.push('=');
        self.query.push_str(&escapes::query(text));
    }
}

/// Is what is found in path, query, headers and cookies.
#[doc(hidden)]
pub struct Arguments<'a> {
    find: &'a mut dyn FnMut(&Placed) -> Vec<String>,
    pub(super) violations: Vec<Violation>,
}

impl<'a> Arguments<'a> {
    pub(super) fn new(find: &'a mut dyn FnMut(&Placed) -> Vec<String>) -> Self {
        Self {
            find,
            violations: Vec::new(),
        }
    }

    /// Reads a field into its slot, which the body must have left empty.
    pub fn scalar<C: Codec>(
        &mut self,
        placed: &Placed,
        optional: bool,
        shape: Shape,
        slot: &mut Slot<C::Value>,
    ) {
        self.is_apart(placed, slot);
        let values = (self.find)(placed);
        match &*values {
            [] if optional => {}
            [] => self.violations.push(placed.refusal("is required")),
            [value] => {
                *slot = self
                    .read::<C>(placed, value, shape)
                    .map_or(Slot::Empty, Slot::Value);
            }
            _ => self.violations.push(placed.refusal("comes more than once")),
        }
    }

    /// Reads a field that is a list, each value of a parameter that is repeated.
    pub fn list<C: Codec>(
        &mut self,
        placed: &Placed,
        shape: Shape,
        slot: &mut Slot<Vec<C::Value>>,
    ) {
        self.is_apart(placed, slot);
        let values = (self.find)(placed);
        *slot = Slot::Value(
            values
                .iter()
                .filter_map(|value| self.read::<C>(placed, value, shape))
                .collect(),
        );
    }

    /// Whether all was as it should be.
    #[must_use]
    pub fn are_good(&self) -> bool {
        self.violations.is_empty()
    }

    fn is_apart<T>(&mut self, placed: &Placed, slot: &Slot<T>) {
        if !matches!(slot, Slot::Empty) {
            let place = placed.place.name();
            let mut violation = placed.refusal(format!(
                "travels in the {place}, and must not come in the body too"
            ));
            violation.place = "";
            self.violations.push(violation);
        }
    }

    fn read<C: Codec>(&mut self, placed: &Placed, text: &str, shape: Shape) -> Option<C::Value> {
        let escaped = placed.place == Place::Cookie
            || (placed.place == Place::Header && !placed.is_verbatim());
        let read = if placed.place == Place::Path && matches!(text, "" | "." | "..") {
            Err(NOT_IN_PATH.to_owned())
        } else if placed.is_verbatim() && !escapes::is_printable(text) {
            Err(NOT_PRINTABLE.to_owned())
        } else if escaped {
            match escapes::decoded(text).map(String::from_utf8) {
                None => Err("has a % that is not followed by two hexadecimal digits".to_owned()),
                Some(Err(_)) => Err("text that is not UTF-8".to_owned()),
                Some(Ok(text)) => read_plain::<C>(&text, shape),
            }
        } else {
            read_plain::<C>(text, shape)
        };
        read.map_err(|detail| self.violations.push(placed.refusal(detail)))
            .ok()
    }
}

/// Says of each violation of a whole message where its field travels.
pub(super) fn locate(mut violations: Vec<Violation>, placed: &[Placed]) -> Vec<Violation> {
    for violation in &mut violations {
        let first = violation.pointer.split('/').nth(1).unwrap_or_default();
        let first = first.replace("~1", "/").replace("~0", "~");
        if let Some(p) = placed.iter().find(|p| p.name == first) {
            violation.place = p.place.name();
        }
    }
    violations
}
