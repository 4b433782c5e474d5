//! Holds the stubs against the vectors of a file, a line each, or with - against each line of the input.

use std::fs;
use std::io::{self, BufRead, Write as _};

use conformance::faithful::wire::{self, Any, Codec};
use conformance::skerry::{language, many, shared, vectors};

fn text<'a>(vector: &'a Any, name: &str) -> Option<&'a str> {
    match entry(vector, name) {
        Some(Any::Text(text)) => Some(text),
        _ => None,
    }
}

fn entry<'a>(vector: &'a Any, name: &str) -> Option<&'a Any> {
    match vector {
        Any::Map(entries) => entries.get(name),
        _ => None,
    }
}

fn bytes(hex: &str) -> Vec<u8> {
    let digits: Vec<char> = hex.chars().collect();
    let byte = |pair: &[char]| u8::from_str_radix(&pair.iter().collect::<String>(), 16).expect("hexadecimal digits");
    digits.chunks(2).map(byte).collect()
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// Is what is wrong with a vector.
fn disagreement<C: Codec>(vector: &Any) -> Option<String>
where
    C::Value: PartialEq + std::hash::Hash,
{
    let payload = bytes(text(vector, "payload").unwrap_or_default());
    let accepted = entry(vector, "accepted") == Some(&Any::Bool(true));
    let read = match text(vector, "encoding") {
        Some("cbor") => wire::decode_cbor::<C>(&payload),
        _ => wire::decode_json::<C>(&payload),
    };
    let value = match read {
        Ok(_) if !accepted => return Some(format!("taken; the reference: {}", text(vector, "why").unwrap_or_default())),
        Ok(value) => value,
        Err(e) if accepted => return Some(format!("refused: {e}")),
        Err(_) => return None,
    };
    let cbor = wire::to_cbor::<C>(&value).ok().map(|b| hex(&b));
    if cbor.as_deref() != text(vector, "cbor") {
        return Some(format!("writes {cbor:?}, not {:?}", text(vector, "cbor")));
    }
    let json = wire::to_json::<C>(&value).ok();
    if json.as_deref() != text(vector, "json") {
        return Some(format!("writes {json:?}, not {:?}", text(vector, "json")));
    }
    if let Some(json) = json {
        match wire::decode_json::<C>(json.as_bytes()) {
            Ok(again) if again == value && hash(&again) == hash(&value) => {}
            Ok(_) => return Some("does not equal what is read of what it writes".to_owned()),
            Err(e) => return Some(format!("does not read what it writes: {e}")),
        }
    }
    let found: Vec<(String, String)> =
        wire::Violations::of::<C>(&value).into_iter().map(|v| (v.pointer, v.detail)).collect();
    let wanted: Vec<(String, String)> = match entry(vector, "violations") {
        Some(Any::List(list)) => list
            .iter()
            .map(|v| {
                let of = |name| text(v, name).unwrap_or_default().to_owned();
                (of("pointer"), of("detail"))
            })
            .collect(),
        _ => Vec::new(),
    };
    (found != wanted).then(|| format!("violates {found:?}, not {wanted:?}"))
}

fn hash(value: &impl std::hash::Hash) -> u64 {
    use std::hash::{DefaultHasher, Hasher};
    let mut hasher = DefaultHasher::new();
    value.hash(&mut hasher);
    hasher.finish()
}

macro_rules! messages {
    ($vector:expr, $name:expr, $($module:ident { $($message:ident)* })*) => {
        match $name {
            $($(stringify!($message) => disagreement::<$module::$message>($vector),)*)*
            other => Some(format!("no message is called {other}")),
        }
    };
}

#[allow(deprecated)]
fn judged(vector: &Any) -> Option<String> {
    messages!(vector, text(vector, "message").unwrap_or_default(),
        vectors { Scalars Optionals Defaults Lists Maps Node Empty Bounded Renamed Broken Changes ScalarsPatch
            OptionalsPatch DefaultsPatch ListsPatch MapsPatch NodePatch BoundedPatch RenamedPatch ChangesPatch EmptyPatch }
        shared { Leaf LeafPatch }
        many { Many }
        language { Chain FootPassage NamedScalars NamedOptionals NamedDefaults More MoreOptionals Keys LanguageChanges
            NamedScalarsPatch NamedOptionalsPatch NamedDefaultsPatch MorePatch MoreOptionalsPatch KeysPatch })
}

fn main() {
    let path = std::env::args().nth(1).unwrap_or_default();
    let line = |line: &str| match wire::decode_json::<Any>(line.as_bytes()) {
        Ok(vector) => (judged(&vector), vector),
        Err(e) => (Some(format!("no vector: {e}")), Any::Null),
    };
    if path == "-" {
        for input in io::stdin().lock().lines() {
            let (wrong, _) = line(&input.expect("a line"));
            let answer = wrong.and_then(|why| wire::to_json::<String>(&why).ok());
            println!("{}", answer.as_deref().unwrap_or("null"));
            io::stdout().flush().expect("it is read");
        }
        return;
    }
    let mut wrong = 0;
    let mut agree = 0;
    for input in fs::read_to_string(&path).expect("a file of vectors").lines() {
        let (disagrees, vector) = line(input);
        match disagrees {
            None => agree += 1,
            Some(why) => {
                wrong += 1;
                let of = |name| text(&vector, name).unwrap_or_default();
                println!("{} as {}: {}: {why}", of("message"), of("encoding"), of("payload"));
            }
        }
    }
    println!("{agree} payloads agree");
    std::process::exit(i32::from(wrong > 0));
}
