//! Address sets that hold each other.

use super::super::context::Context;
use super::super::draft::Draft;
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::owner_text;
use heronshale_model::estate::{AddressSet, Id};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "set-cycle",
    base: Severity::Minor,
    about: "An address set contains itself through other sets.",
    why: "All sets of the cycle mean the same: everything in any of them. Rarely is that intended, and some \
        platforms refuse it.",
    triggers: "Nesting leads from a set back to itself. Its meaning is the least fixed point. Not reported for \
        nesting without a cycle, even if a set is nested twice.",
    fix: "Remove one reference of the cycle.",
    side_effects: "No traffic changes: the cycle adds no address.",
    factors: &[],
    example: include_str!("../examples/set-cycle.yaml"),
    check: |context| {
        facts(context)
            .into_iter()
            .map(|set| tell(context, set))
            .collect()
    },
};

fn facts(context: &Context<'_, '_>) -> Vec<Id<AddressSet>> {
    context
        .view
        .estate
        .address_sets
        .ids()
        .filter(|set| context.view.set(*set).cyclic)
        .collect()
}

fn tell(context: &Context<'_, '_>, id: Id<AddressSet>) -> Draft {
    let estate = context.view.estate;
    let set = &estate.address_sets[id];
    let mut draft = context.about(
        Key::of("set").name(&set.name),
        &set.origin,
        owner_text(estate, set.owner),
    );
    let all = context.view.set(id).matched.sure.texts();
    draft.brief(format!("set {}", set.name), "contains itself");
    draft.title = format!(
        "set {} contains itself through other sets. Together they mean {}",
        set.name,
        super::super::draft::counted(&all, "prefix")
    );
    draft.fix = "Remove one reference of the cycle.".to_owned();
    draft
}
