//! An expectation says nothing.

use super::super::draft::NOTHING;
use super::super::kind::Kind;
use super::expectation_broken::{facts, tell};
use crate::expect::State;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "expectation-vacuous",
    base: Severity::Serious,
    about: "An expectation says nothing: one of its sides stands for nobody, or nothing connects that could pass the firewall.",
    why: "It looks like a promise that is kept, and guards nothing: a tag was renamed, a machine went away, a name was misspelt.",
    triggers: "A name that the estate does not know, or that stands for nothing; two sides without a family of addresses in \
        common; for *always passes*, no connection at all. Silent if something can be asked, and for *never reaches* if nothing gets \
        through, which is what it wants.",
    fix: "Correct the names, or strike it out.",
    side_effects: NOTHING,
    factors: &[],
    example: include_str!("../examples/expectation-vacuous.yaml"),
    check: |context| {
        facts(context, State::Vacuous)
            .map(|(one, standing)| tell(context, one, standing))
            .collect()
    },
};
