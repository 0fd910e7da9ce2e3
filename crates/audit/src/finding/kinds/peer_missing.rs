//! A rule or a set that names something the snapshot does not hold.

use super::super::context::Context;
use super::super::draft::{Draft, Evidence, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::{owner_text, peer_text};
use heronshale_model::estate::{AddressSet, Estate, Id, Peer, Reference, RuleId, SetItem};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "peer-missing",
    base: Severity::Serious,
    about: "A rule or an address set names something that is missing from the snapshot.",
    why: "What the rule matches is unknown, and so is every answer that depends on it. Often the thing was \
        deleted and the rule forgotten.",
    triggers: "The peers or the own side of a rule in force name a group, set, interface, network, subnet or site \
        that does not exist, or an address set contains a missing set. Not reported if a gap declares it, or \
        for tags and identities, which need no declaration.",
    fix: "Correct the name, add the missing thing to the snapshot, declare it as a gap, or delete the rule.",
    side_effects: "A corrected rule takes effect. Deleting it changes nothing as far as the snapshot shows.",
    factors: &[],
    example: include_str!("../examples/peer-missing.yaml"),
    check: |context| {
        let rules = rules(context)
            .into_iter()
            .map(|(rule, peer)| tell_rule(context, rule, &peer));
        rules
            .chain(
                sets(context)
                    .into_iter()
                    .map(|(set, name)| tell_set(context, set, &name)),
            )
            .collect()
    },
};

/// The peer as written, if what it names is not there.
fn missing(estate: &Estate, peer: &Peer) -> Option<String> {
    peer.is_missing()
        .then(|| peer_text(estate, peer).replace(" (missing)", ""))
}

fn declared(context: &Context<'_, '_>, object: &str) -> bool {
    context
        .view
        .estate
        .gaps
        .iter()
        .any(|gap| *gap.object == *object)
}

fn rules(context: &Context<'_, '_>) -> Vec<(RuleId, String)> {
    let estate = context.view.estate;
    let mut found = Vec::new();
    for id in estate
        .rule_ids()
        .filter(|id| context.view.in_force(estate.rule(*id)))
    {
        let rule = estate.rule(id);
        let peers = rule
            .peers
            .iter()
            .flatten()
            .chain(rule.local.iter().flatten());
        let names = peers
            .filter_map(|peer| missing(estate, peer))
            .filter(|name| !declared(context, name));
        found.extend(names.map(|name| (id, name)));
    }
    found
}

fn sets(context: &Context<'_, '_>) -> Vec<(Id<AddressSet>, String)> {
    let mut found = Vec::new();
    for (id, set) in context.view.estate.address_sets.iter() {
        found.extend(
            set.content
                .iter()
                .flatten()
                .filter_map(|item| match item {
                    SetItem::Set(Reference::Missing(name)) => Some((id, format!("set:{name}"))),
                    _ => None,
                })
                .filter(|(_, name)| !declared(context, name)),
        );
    }
    found
}

fn tell_rule(context: &Context<'_, '_>, rule: RuleId, peer: &str) -> Draft {
    let mut draft = context.about_rule(rule);
    draft.key = draft.key.notation(peer);
    draft.says(format!("{peer} is missing"));
    draft.title = format!(
        "{} names {peer}, which is missing from the snapshot",
        context.rule_name(rule)
    );
    draft.evidence.push(Evidence {
        role: Role::Names,
        text: format!("{peer}: its addresses are unknown"),
        rule: None,
        place: None,
    });
    draft.evidence.push(context.acts_on(rule.filter));
    draft.fix = "Correct the name, add what is missing, declare it as a gap, or delete the rule."
        .to_owned();
    draft
}

fn tell_set(context: &Context<'_, '_>, id: Id<AddressSet>, name: &str) -> Draft {
    let estate = context.view.estate;
    let set = &estate.address_sets[id];
    let mut draft = context.about(
        Key::of("set").name(&set.name).notation(name),
        &set.origin,
        owner_text(estate, set.owner),
    );
    draft.brief(format!("set {}", set.name), format!("{name} is missing"));
    draft.title = format!(
        "set {} contains {name}, which is missing from the snapshot",
        set.name
    );
    draft.fix = "Correct the name, add what is missing, or declare it as a gap.".to_owned();
    draft
}
