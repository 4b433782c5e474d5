/// Is what a patch does to a field.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub enum Change<T> {
    /// It stays as it is.
    #[default]
    Left,
    /// It gets a value.
    Set(T),
    /// It is absent then, or has its default.
    Cleared,
}
