//! What refers to a thing, what it refers to, and what has to change before it can go (`docs/semantics.md` 17).

use crate::source::Place;
use serde::Serialize;

/// An item of the snapshot.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Item {
    /// With its kind: `group fares-db`.
    pub name: String,
    /// Who changes it.
    pub owner: Option<String>,
    /// Where it was written.
    pub place: Place,
}

/// A reference from one item to another.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Use {
    /// The other item: of what the thing names, the item that is named.
    pub item: String,
    /// Where in the item that names: `groups`, `rule partners, from`.
    pub by: String,
    /// Who changes the item that names.
    pub owner: Option<String>,
    /// Where the reference was written.
    pub place: Place,
}

/// Something to do before a thing can go.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Before {
    /// The item that has to go too, or to change.
    pub item: Item,
    /// The references to take away; none if the item cannot stand without them, and has to be removed.
    pub without: Vec<String>,
}

/// How a thing hangs together with the rest.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Uses {
    /// The thing.
    pub thing: Item,
    /// What names it.
    pub named_by: Vec<Use>,
    /// What it names.
    pub names: Vec<Use>,
    /// What has to be done before it can go, in this order; without it the snapshot would not be legal.
    pub before: Vec<Before>,
    /// References that would lead to nothing then.
    pub dangling: Vec<Use>,
    /// What would be wrong even then, with no item in particular; none if it can go.
    pub refused: Option<String>,
}
