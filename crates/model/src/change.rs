//! A change as edits, and the states between before and after (`docs/semantics.md` 17).

use crate::estate::Estate;
use crate::source::Place;

/// One edit: the smallest piece of a difference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edit {
    /// What it does, in words.
    pub text: String,
    /// Who owns what it changes.
    pub owner: Option<String>,
    /// Where: in the state after it, of what is gone in the state before.
    pub place: Place,
    /// The section of the snapshot in which that stands.
    pub section: &'static str,
    /// The item of that section.
    pub item: String,
    /// The field or list of it; empty for a whole item or element.
    pub field: String,
    /// Whether it adds or removes that item as a whole.
    pub whole: bool,
    /// Whether it takes something away.
    pub gone: bool,
    /// Whether it is about what the snapshot declares as missing.
    pub gap: bool,
    /// Edits, by their place, without which it means nothing.
    pub needs: Vec<usize>,
}

/// A difference of two estates, and the states that have some of its edits.
pub trait States: Sync {
    /// All edits, in the order of their places.
    fn edits(&self) -> Vec<Edit>;

    /// The estate with these edits and no others; none if that is no legal estate.
    fn state(&self, taken: &[usize]) -> Option<Estate>;
}
