//! Changes as data.

use crate::describe::owner_text;
use crate::expect::State;
use crate::fix::{Edit, EditKind, Tried};
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

/// An expectation that is kept, and would not be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct BrokenFact {
    /// Its name.
    pub expectation: String,
    /// How it would stand.
    pub becomes: State,
}

impl BrokenFact {
    /// Those that a trial found, in the order of all.
    pub fn all(view: &Fabric<'_>, tried: &Tried) -> Vec<Self> {
        let fact = |(at, state): &(usize, State)| Self {
            expectation: view.stated.expectations[*at].name.to_string(),
            becomes: *state,
        };
        tried.breaks.iter().map(fact).collect()
    }

    /// With how it would stand, unless it is simply broken: `“ships report” (unknown then)`.
    pub fn text(&self) -> String {
        match self.becomes {
            State::Broken => format!("“{}”", self.expectation),
            other => format!("“{}” ({} then)", self.expectation, other.word()),
        }
    }
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
