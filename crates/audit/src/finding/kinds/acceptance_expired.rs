//! An acceptance whose day has passed.

use super::super::kind::Kind;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "acceptance-expired",
    base: Severity::Serious,
    about: "The day until which somebody accepted a finding has passed, and the finding is still there.",
    why: "An exception that outlives its date is a hole that nobody answers for.",
    triggers: "The acceptance's `until` lies before the date judged by, or no date is known to judge by; the finding is told again as \
        well. Silent on the day itself, and if the finding is gone.",
    fix: "Fix the finding, or give a new reason and a new date.",
    side_effects: "no packet's fate changes unless the finding is fixed",
    factors: &[],
    example: include_str!("../examples/acceptance-expired.yaml"),
    // Told once all findings are there: see `accepting.rs`.
    check: |_| Vec::new(),
};
