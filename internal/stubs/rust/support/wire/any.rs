use std::collections::BTreeMap;
use std::hash::{Hash, Hasher};

/// Is a value of the scalar any.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub enum Any {
    /// The value null.
    #[default]
    Null,
    /// A bool.
    Bool(bool),
    /// An integer.
    Int(i64),
    /// An integer above the largest [`Int`](Self::Int); one that is not above it is equal to that.
    Uint(u64),
    /// A finite number; others can't be written.
    Float(f64),
    /// A text.
    Text(String),
    /// A list.
    List(Vec<Any>),
    /// A map.
    Map(BTreeMap<String, Any>),
}

impl Any {
    /// Whether it is null.
    #[must_use]
    pub const fn is_null(&self) -> bool {
        matches!(self, Self::Null)
    }

    fn as_integer(&self) -> Option<i128> {
        match self {
            Self::Int(n) => Some(i128::from(*n)),
            Self::Uint(n) => Some(i128::from(*n)),
            _ => None,
        }
    }
}

impl PartialEq for Any {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Null, Self::Null) => true,
            (Self::Bool(a), Self::Bool(b)) => a == b,
            (Self::Float(a), Self::Float(b)) => a == b || (a.is_nan() && b.is_nan()),
            (Self::Text(a), Self::Text(b)) => a == b,
            (Self::List(a), Self::List(b)) => a == b,
            (Self::Map(a), Self::Map(b)) => a == b,
            (a, b) => a.as_integer().is_some() && a.as_integer() == b.as_integer(),
        }
    }
}

impl Eq for Any {}

impl Hash for Any {
    fn hash<H: Hasher>(&self, state: &mut H) {
        match self {
            Self::Null => 0_u8.hash(state),
            Self::Bool(v) => v.hash(state),
            Self::Int(_) | Self::Uint(_) => self.as_integer().hash(state),
            Self::Float(v) => hash_float(*v, state),
            Self::Text(v) => v.hash(state),
            Self::List(v) => v.hash(state),
            Self::Map(v) => v.hash(state),
        }
    }
}

/// Numbers that are equal have one hash: the two zeros, and all that are none.
pub(super) fn hash_float<H: Hasher>(v: f64, state: &mut H) {
    let v = if v == 0.0 {
        0.0
    } else if v.is_nan() {
        f64::NAN
    } else {
        v
    };
    v.to_bits().hash(state);
}

impl AsRef<Any> for Any {
    fn as_ref(&self) -> &Any {
        self
    }
}

impl From<bool> for Any {
    fn from(v: bool) -> Self {
        Self::Bool(v)
    }
}

impl From<i64> for Any {
    fn from(v: i64) -> Self {
        Self::Int(v)
    }
}

impl From<i32> for Any {
    fn from(v: i32) -> Self {
        Self::Int(i64::from(v))
    }
}

impl From<u64> for Any {
    fn from(v: u64) -> Self {
        i64::try_from(v).map_or(Self::Uint(v), Self::Int)
    }
}

impl From<f64> for Any {
    fn from(v: f64) -> Self {
        Self::Float(v)
    }
}

impl From<&str> for Any {
    fn from(v: &str) -> Self {
        Self::Text(v.to_owned())
    }
}

impl From<String> for Any {
    fn from(v: String) -> Self {
        Self::Text(v)
    }
}

impl<T: Into<Any>> From<Vec<T>> for Any {
    fn from(items: Vec<T>) -> Self {
        Self::List(items.into_iter().map(Into::into).collect())
    }
}

impl<K: Into<String>, V: Into<Any>> FromIterator<(K, V)> for Any {
    fn from_iter<I: IntoIterator<Item = (K, V)>>(entries: I) -> Self {
        Self::Map(
            entries
                .into_iter()
                .map(|(k, v)| (k.into(), v.into()))
                .collect(),
        )
    }
}
