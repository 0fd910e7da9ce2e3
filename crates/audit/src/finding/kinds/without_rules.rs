//! A security group that is bound and has no rule.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::Draft;
use super::super::kind::Kind;
use crate::describe::filter_text;
use heronshale_model::estate::{Filter, Id, Interface, Lack, Peer, Reference, Rule};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "without-rules",
    base: Severity::Note,
    about: "A bound security group has no rule in either direction.",
    why: "Whoever bound it believes that it allows something. On interfaces without another group, nothing \
        passes.",
    triggers: "An interface or a subnet has the union group, and it has no rules, not even disabled ones. Not \
        reported if its rules are a gap.",
    fix: "Write the intended rules, or unbind the group.",
    side_effects: "A new rule allows what it says. Without its only group, an interface follows its network's \
        `no_group` setting.",
    factors: &[
        "up: an interface has no other group, so nothing passes there",
        "down: rules name it as a peer, so it serves as a label",
    ],
    example: include_str!("../examples/without-rules.yaml"),
    check: |context| {
        facts(context)
            .into_iter()
            .map(|filter| tell(context, filter))
            .collect()
    },
};

fn facts(context: &Context<'_, '_>) -> Vec<Id<Filter>> {
    let view = context.view;
    let lacks = |filter: &Filter| {
        filter
            .key
            .split_once(':')
            .is_some_and(|(kind, name)| view.lacks(kind, name, Lack::Rules))
            || view
                .estate
                .networks
                .items()
                .iter()
                .any(|network| view.lacks("network", &network.name, Lack::Rules))
    };
    let all = view.estate.filters.iter();
    let empty = all.filter(|(_, filter)| {
        filter.is_union() && filter.rules.iter().all(|rules| rules.is_empty()) && !lacks(filter)
    });
    empty
        .map(|(id, _)| id)
        .filter(|id| context.bindings.is_bound(view, *id))
        .collect()
}

/// Whether some rule names the group as a peer.
fn is_peer(context: &Context<'_, '_>, group: Id<Filter>) -> bool {
    let names = |peer: &Peer| matches!(peer, Peer::Group(Reference::Found(id)) if *id == group);
    let of = |rule: &Rule| rule.peers.iter().chain(&rule.local).flatten().any(names);
    context
        .view
        .estate
        .rule_ids()
        .any(|id| of(context.view.estate.rule(id)))
}

fn tell(context: &Context<'_, '_>, group: Id<Filter>) -> Draft {
    let estate = context.view.estate;
    let mut draft = context.about_filter(group);
    let alone = |id: &&Id<Interface>| {
        let item = &estate.interfaces[**id];
        let groups = item
            .groups
            .iter()
            .chain(&estate.subnets[item.subnet].groups);
        !item.unfiltered && groups.into_iter().all(|one| one.found() == Some(group))
    };
    let shut = context
        .bindings
        .interfaces(group)
        .iter()
        .filter(alone)
        .count();
    draft.says("bound, without rules");
    draft.title = format!("{} is bound and has no rules", filter_text(estate, group));
    if shut > 0 {
        let many = if shut == 1 {
            "an interface has".to_owned()
        } else {
            format!("{shut} interfaces have")
        };
        draft.factors.push(factor(
            1,
            format!("{many} no other group, so nothing passes there"),
        ));
    }
    if is_peer(context, group) {
        draft.factors.push(factor(-1, "rules name it as a peer"));
    }
    draft.fix = "Write the intended rules, or unbind it.".to_owned();
    draft
}
