//! An expectation says nothing.

use super::super::draft::NOTHING;
use super::super::kind::Kind;
use super::expectation_broken::{facts, tell};
use crate::expect::State;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "expectation-vacuous",
    base: Severity::Serious,
    about: "An expectation says nothing: one of its sides is empty, or no connection exists that could pass the \
        firewall.",
    why: "It looks like a promise that holds, and protects nothing. Typical reasons are a renamed tag, a \
        removed machine, or a spelling mistake.",
    triggers: "A side names something that the estate does not have, or that has no address. The two sides share no \
        address family. For *always passes*: no connection exists at all. Not reported for *never reaches* \
        with two real sides, where no connection is the wanted result.",
    fix: "Correct the names, or delete the expectation.",
    side_effects: NOTHING,
    factors: &[],
    example: include_str!("../examples/expectation-vacuous.yaml"),
    check: |context| {
        facts(context, State::Vacuous)
            .map(|(one, standing)| tell(context, one, standing))
            .collect()
    },
};
