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
    about: "An address set holds itself, by other sets.",
    why: "All sets of the circle mean the same: the union of what is in any of them. Rarely did anybody want that, and some platforms refuse it.",
    triggers: "A set that is reached from itself by nesting. It is judged as the least fixed point. Silent for sets that nest without a circle, also for one \
        that is nested twice.",
    fix: "Take one of the references out of the circle.",
    side_effects: "no packet's fate changes: the circle adds no address",
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
    draft.title = format!(
        "set {} holds itself, by other sets; together they mean {}",
        set.name,
        super::super::draft::counted(&all, "prefix").replace("prefixs", "prefixes")
    );
    draft.fix = "take one of the references out of the circle".to_owned();
    draft
}
