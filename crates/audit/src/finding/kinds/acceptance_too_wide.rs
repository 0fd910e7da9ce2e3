//! An acceptance of more than there is.

use super::super::kind::Kind;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "acceptance-too-wide",
    base: Severity::Minor,
    about: "An acceptance accepts packets that the finding is not about, or names none where it should.",
    why: "What was narrowed may grow back to what was once accepted, and nobody is told.",
    triggers: "Packets of the acceptance that are not among the finding's; or no packets, for a finding that is about some, which is \
        then told again as well. Silent if it accepts just what is open.",
    fix: "Draft the acceptance again.",
    side_effects: "no packet's fate changes; what it covered beyond need is found again",
    factors: &[],
    example: include_str!("../examples/acceptance-too-wide.yaml"),
    // Told once all findings are there: see `accepting.rs`.
    check: |_| Vec::new(),
};
