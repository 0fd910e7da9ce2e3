//! Changes as data.

use crate::describe::owner_text;
use crate::fix::{Edit, EditKind};
use heronshale_engine::fabric::Fabric;
use heronshale_model::source::Place;
use serde::Serialize;

/// One change.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct EditFact {
    /// What kind.
    pub kind: EditKind,
    /// In words.
    pub text: String,
    /// Where what is changed was written.
    pub place: Option<Place>,
    /// Who changes it.
    pub owner: Option<String>,
}

/// A change as data.
pub fn edit_fact(view: &Fabric<'_>, edit: &Edit) -> EditFact {
    EditFact {
        kind: edit.kind,
        text: edit.text.clone(),
        place: edit.origin.map(|origin| view.estate.sources.place(&origin)),
        owner: owner_text(view.estate, edit.owner),
    }
}
