//! How expectations stand, as data.

use heronshale_audit::expect::sentence;
use heronshale_audit::expect::{Standing, State};
use heronshale_engine::fabric::Fabric;
use heronshale_model::source::Place;
use serde::Serialize;

/// An expectation, and how it stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct ExpectationFact {
    /// Its name.
    pub name: String,
    /// What it says, as a sentence.
    pub says: String,
    /// How it stands.
    pub state: State,
    /// What speaks against it, or why it says nothing; empty if it holds.
    pub why: String,
    /// Who expects it.
    pub owner: Option<String>,
    /// Where it was written.
    pub place: Place,
}

/// How every expectation stands, in the order of the files.
pub(super) fn expectation_facts(view: &Fabric<'_>, standings: &[Standing]) -> Vec<ExpectationFact> {
    let all = view.stated.expectations.iter().zip(standings);
    let fact = all.map(|(one, standing)| ExpectationFact {
        name: one.name.to_string(),
        says: sentence(one),
        state: standing.state,
        why: standing.why.clone(),
        owner: one.owner.as_ref().map(ToString::to_string),
        place: one.place.clone(),
    });
    fact.collect()
}
