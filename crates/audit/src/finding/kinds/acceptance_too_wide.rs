//! An acceptance of more than there is.

use super::super::kind::Kind;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "acceptance-too-wide",
    base: Severity::Minor,
    about: "An acceptance covers packets outside its finding, or names no packets although the finding has some.",
    why: "The finding can grow back to the accepted size without a report.",
    triggers: "The acceptance lists packets that are not part of the finding. Or it lists none although the finding \
        is about packets; then the finding is reported again as well. Not reported if the acceptance covers \
        exactly what is open.",
    fix: "Draft the acceptance again.",
    side_effects: "No traffic changes. Anything that the old acceptance covered in excess is reported again.",
    factors: &[],
    example: include_str!("../examples/acceptance-too-wide.yaml"),
    // Told once all findings are there: see `accepting.rs`.
    check: |_| Vec::new(),
};
