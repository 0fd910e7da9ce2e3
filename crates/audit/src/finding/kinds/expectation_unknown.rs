//! Whether what somebody expects is so depends on something missing from the snapshot.

use super::super::draft::NOTHING;
use super::super::kind::Kind;
use super::expectation_broken::{facts, tell};
use crate::expect::{Against, Standing, State};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "expectation-unknown",
    base: Severity::Serious,
    about: "Whether an expectation holds depends on something missing from the snapshot.",
    why: "Somebody asked, and nobody can answer. Unknown does not mean yes.",
    triggers: "Nothing contradicts the expectation for certain, and the result for some packet depends on a gap. \
        Not reported if the result is the same for every possible content of the gap, or if only a \
        firewall's own services are unknown.",
    fix: "Complete the snapshot.",
    side_effects: NOTHING,
    factors: &[],
    example: include_str!("../examples/expectation-unknown.yaml"),
    check: |context| {
        let own = |standing: &Standing| {
            standing
                .against
                .as_ref()
                .is_some_and(Against::turns_on_own_services)
        };
        let told = facts(context, State::Unknown).filter(|(_, standing)| !own(standing));
        told.map(|(one, standing)| tell(context, one, standing))
            .collect()
    },
};
