//! An acceptance of nothing.

use super::super::draft::NOTHING;
use super::super::kind::Kind;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "acceptance-unused",
    base: Severity::Minor,
    about: "An acceptance applies to nothing: its finding does not exist or cannot be accepted.",
    why: "If the finding comes back, the acceptance hides it.",
    triggers: "No finding has this fingerprint, or its kind cannot be accepted (undecided, or about an \
        expectation). Not reported if the finding exists, even if the acceptance has expired or is too \
        narrow.",
    fix: "Delete the acceptance.",
    side_effects: NOTHING,
    factors: &[],
    example: include_str!("../examples/acceptance-unused.yaml"),
    // Told once all findings are there: see `accepting.rs`.
    check: |_| Vec::new(),
};
