use std::fmt;

use super::error::ReadError;

/// Is a field or alternative that the definitions do not list: a number with its CBOR, or a name with its JSON. It is
/// preserved, and written again as it was read.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct UnlistedField {
    // Names come after all numbers.
    pub(super) key: UnlistedKey,
    pub(super) raw: Box<[u8]>,
}

#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum UnlistedKey {
    Number(u16),
    Name(Box<str>),
}

impl UnlistedField {
    pub(super) fn numbered(number: u16, raw: &[u8]) -> Self {
        Self {
            key: UnlistedKey::Number(number),
            raw: raw.into(),
        }
    }

    pub(super) fn named(name: &str, raw: &[u8]) -> Self {
        Self {
            key: UnlistedKey::Name(name.into()),
            raw: raw.into(),
        }
    }

    /// Its number, if it is known.
    #[must_use]
    pub fn number(&self) -> Option<u16> {
        match self.key {
            UnlistedKey::Number(number) => Some(number),
            UnlistedKey::Name(_) => None,
        }
    }

    /// Its name in JSON, if it is known.
    #[must_use]
    pub fn name(&self) -> Option<&str> {
        match &self.key {
            UnlistedKey::Number(_) => None,
            UnlistedKey::Name(name) => Some(name),
        }
    }

    /// Whether a patch clears it.
    fn clears(&self) -> bool {
        match self.key {
            UnlistedKey::Number(_) => *self.raw == [0xf6],
            UnlistedKey::Name(_) => *self.raw == *b"null",
        }
    }
}

impl fmt::Debug for UnlistedField {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.key {
            UnlistedKey::Number(number) => write!(f, "#{number}"),
            UnlistedKey::Name(name) => f.write_str(name),
        }
    }
}

/// Are the fields of a message that its definitions do not list, in order: by number, then names as read.
#[derive(Clone, Default)]
#[allow(clippy::box_collection)] // one pointer wide in each message
pub struct Unlisted(Option<Box<Vec<UnlistedField>>>);

impl Unlisted {
    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_none()
    }

    /// The fields, in order.
    #[must_use]
    pub fn fields(&self) -> &[UnlistedField] {
        self.0.as_deref().map_or(&[], Vec::as_slice)
    }

    /// How many of them have numbers.
    pub(super) fn numbers(&self) -> usize {
        self.fields()
            .iter()
            .take_while(|f| f.number().is_some())
            .count()
    }

    pub(super) fn push(&mut self, field: UnlistedField) {
        self.0.get_or_insert_with(Box::default).push(field);
    }

    /// Puts what was read in order, once, at the end: many fields must not cost more than their length.
    pub(super) fn settle(&mut self, at: usize) -> Result<(), ReadError> {
        let Some(list) = &mut self.0 else {
            return Ok(());
        };
        // Numbers by size, names as they came.
        list.sort_by_key(|f| f.number().map_or(1 << 16, u32::from));
        let mut keys: Vec<&UnlistedKey> = list.iter().map(|f| &f.key).collect();
        keys.sort_unstable();
        if keys.windows(2).any(|pair| pair[0] == pair[1]) {
            return Err(ReadError::new("an unlisted field comes twice", at));
        }
        Ok(())
    }

    /// Is what a message has after a patch was applied: null takes a field away, all else takes its place.
    #[doc(hidden)]
    #[must_use]
    pub fn applied(&self, changes: &Self) -> Self {
        let mut list: Vec<UnlistedField> = self.fields().to_vec();
        for change in changes.fields() {
            let at = list.iter().position(|f| f.key == change.key);
            match at {
                Some(at) if change.clears() => {
                    list.remove(at);
                }
                Some(at) => list[at] = change.clone(),
                None if !change.clears() => list.push(change.clone()),
                None => {}
            }
        }
        Self::of(list)
    }

    /// Is what a patch has of fields that are not the same in two messages.
    #[doc(hidden)]
    #[must_use]
    pub fn between(&self, after: &Self) -> Self {
        let gone = |f: &UnlistedField| {
            let null: &[u8] = if f.number().is_some() {
                &[0xf6]
            } else {
                b"null"
            };
            UnlistedField {
                key: f.key.clone(),
                raw: null.into(),
            }
        };
        let removed = self
            .fields()
            .iter()
            .filter(|f| after.fields().iter().all(|o| o.key != f.key))
            .map(gone);
        let changed = after
            .fields()
            .iter()
            .filter(|f| !self.fields().contains(f))
            .cloned();
        Self::of(removed.chain(changed).collect())
    }

    fn of(mut list: Vec<UnlistedField>) -> Self {
        list.sort_by_key(|f| f.number().map_or(1 << 16, u32::from));
        Self(if list.is_empty() {
            None
        } else {
            Some(Box::new(list))
        })
    }

    /// The fields in an order that does not depend on that of names, which in JSON means nothing.
    fn sorted(&self) -> Vec<&UnlistedField> {
        let mut list: Vec<&UnlistedField> = self.fields().iter().collect();
        list.sort_unstable();
        list
    }
}

impl PartialEq for Unlisted {
    fn eq(&self, other: &Self) -> bool {
        match (&self.0, &other.0) {
            (None, None) => true,
            (Some(_), Some(_)) => self.sorted() == other.sorted(),
            _ => false,
        }
    }
}

impl Eq for Unlisted {}

impl std::hash::Hash for Unlisted {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        self.sorted().hash(state);
    }
}

impl fmt::Debug for Unlisted {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.fields()).finish()
    }
}

/// Is a member of an enum that the definitions do not list: only its number is known, or only its name in JSON.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum UnlistedMember {
    /// Its number.
    Number(u16),
    /// Its name in JSON.
    Name(Box<str>),
}

/// A number that is not listed is shown as `#7`, a name as `?name`.
impl fmt::Display for UnlistedMember {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Number(number) => write!(f, "#{number}"),
            Self::Name(name) => write!(f, "?{name}"),
        }
    }
}
