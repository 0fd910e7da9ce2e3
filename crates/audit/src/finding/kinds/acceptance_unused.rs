//! An acceptance of nothing.

use super::super::draft::NOTHING;
use super::super::kind::Kind;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "acceptance-unused",
    base: Severity::Minor,
    about: "An acceptance accepts nothing: there is no such finding, or one that nobody can accept.",
    why: "It waits for a finding to come back, and lets it pass unseen.",
    triggers: "No finding has the fingerprint; or it is of a kind that cannot be accepted: undecided, or about an expectation. Silent if \
        there is one, be the acceptance expired or too narrow.",
    fix: "Strike it out.",
    side_effects: NOTHING,
    factors: &[],
    example: include_str!("../examples/acceptance-unused.yaml"),
    // Told once all findings are there: see `accepting.rs`.
    check: |_| Vec::new(),
};
