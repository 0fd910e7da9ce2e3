//! An acceptance whose day has passed.

use super::super::kind::Kind;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "acceptance-expired",
    base: Severity::Serious,
    about: "An acceptance has expired, and the finding is still there.",
    why: "Nobody answers for an exception after its end date.",
    triggers: "The `until` date of the acceptance is before the audit date, or the audit has no date to compare it \
        with. The accepted finding is reported again as well. Not reported on the last day itself, or if the \
        finding is gone.",
    fix: "Fix the finding, or write a new reason and a new date.",
    side_effects: "None, unless the finding itself is fixed.",
    factors: &[],
    example: include_str!("../examples/acceptance-expired.yaml"),
    // Told once all findings are there: see `accepting.rs`.
    check: |_| Vec::new(),
};
