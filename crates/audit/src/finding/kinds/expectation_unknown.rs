//! Whether what somebody expects is so depends on what the snapshot lacks.

use super::super::draft::NOTHING;
use super::super::kind::Kind;
use super::expectation_broken::{facts, tell};
use crate::expect::{Against, Standing, State};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "expectation-unknown",
    base: Severity::Serious,
    about: "Whether an expectation is so depends on what the snapshot lacks.",
    why: "It was asked for, and nobody can answer: that is not the same as yes.",
    triggers: "Nothing speaks against the expectation for certain, and some packet's fate depends on a gap. Silent if it comes out the \
        same whatever the gap hides, and if all that is unknown is which services a firewall has itself.",
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
