//! A default that lets packets in.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Trial};
use super::super::kind::Kind;
use crate::describe::filter_text;
use crate::fix::{Edit, EditKind};
use heronshale_engine::judgement::By;
use heronshale_engine::stage::meaning;
use heronshale_model::estate::{Action, Direction, Filter, FilterKind, Id};
use heronshale_model::severity::Severity;
use heronshale_sets::packet::{PacketSet, service};

pub(crate) const KIND: Kind = Kind {
    name: "default-in-use",
    base: Severity::Minor,
    about: "A filter allows by default what no rule matches.",
    why: "Such a filter lists what is bad. New bad traffic is allowed until somebody lists it.",
    triggers: "An ordered group or own firewall on some interface allows inbound traffic by default, and the \
        default decides some packet. Not reported if rules decide every packet, if the default denies, or \
        for outbound traffic.",
    fix: "Set the default to deny, and add rules for what is needed.",
    side_effects: "Blocks everything that no rule allows.",
    factors: &["up: the default allows every service with ports from some address"],
    example: include_str!("../examples/default-in-use.yaml"),
    check: |context| {
        facts(context)
            .into_iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

struct Fact {
    filter: Id<Filter>,
    /// Every service with ports, from some address.
    every: bool,
    packets: PacketSet,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let view = context.view;
    let mut found = Vec::new();
    for (id, filter) in view.estate.filters.iter() {
        let kind = matches!(
            filter.kind,
            FilterKind::OrderedGroup { .. } | FilterKind::OwnFirewall { .. }
        );
        let allows = filter
            .default_action(Direction::In)
            .is_some_and(heronshale_model::estate::Action::admits);
        if !kind || !allows || context.bindings.interfaces(id).is_empty() {
            continue;
        }
        let by_default =
            meaning(view, id, Direction::In).select(|judgement| judgement.by == By::Default(id));
        if by_default.is_empty() {
            continue;
        }
        let every = service::all_with_ports().is_subset(&by_default.services());
        found.push(Fact {
            filter: id,
            every,
            packets: by_default,
        });
    }
    found
}

fn tell(context: &Context<'_, '_>, fact: Fact) -> Draft {
    let Fact {
        filter: id,
        every,
        packets,
    } = fact;
    let estate = context.view.estate;
    let mut draft = context.about_filter(id);
    draft.packets = Some(packets);
    draft.says("allows by default");
    draft.title = format!(
        "{} allows by default what none of its rules matches",
        filter_text(estate, id)
    );
    if every {
        draft.factors.push(factor(
            1,
            "it allows every service with ports from some address",
        ));
    }
    draft.evidence.push(context.acts_on(id));
    draft.trials.push(Trial::of(denying(context, id)));
    draft.fix = "Set the default to deny, and add rules for what is needed.".to_owned();
    draft
}

/// Turns the default of what comes in to deny.
fn denying(context: &Context<'_, '_>, id: Id<Filter>) -> Edit {
    let filter = &context.view.estate.filters[id];
    let text = format!(
        "set the default of {} to deny",
        filter_text(context.view.estate, id)
    );
    Edit::new(
        EditKind::Flag,
        text,
        Some(filter.origin),
        filter.owner,
        move |estate| match &mut estate.filters.get_mut(id).kind {
            FilterKind::OrderedGroup { defaults } => defaults[0] = Some(Action::Deny),
            FilterKind::OwnFirewall { defaults } => defaults[0] = Action::Deny,
            _ => {}
        },
    )
}
