//! A rule that earlier rules leave nothing to, and decide otherwise.

use super::super::{Context, Draft, Kind, Role, Severity};
use super::factor;
use crate::dead::{Dead, How};
use crate::describe::witness;
use crate::packet::Packet;

pub(crate) const KIND: Kind = Kind {
    name: "shadowed",
    base: Severity::Minor,
    about: "Earlier rules take all that a rule matches, and decide some of it otherwise.",
    why: "Its author wanted something that does not happen. A shadowed deny means that traffic gets through; a shadowed allow, \
        that somebody will open a second, wider rule.",
    triggers: "In an ordered list a rule in force matches something, all of that is matched by earlier rules together, and at \
        least one packet is decided otherwise (action, state, defer or finally). It must be so wherever the list is enforced. Silent \
        if one packet is left, if all is decided alike (that is redundant), and if a covering rule ends before it does.",
    mend: "Move it before the rules that cover it, or delete it: deleting changes no packet's fate.",
    factors: &["up: it would deny or reject what is allowed"],
    example: include_str!("../examples/shadowed.yaml"),
    check: |context| facts(context).into_iter().map(|(dead, packet)| tell(context, dead, packet)).collect(),
};

fn facts<'c>(context: &'c Context<'_, '_>) -> Vec<(&'c Dead, Packet)> {
    let of = |dead: &'c Dead| match dead.how {
        How::Shadowed(packet) => Some((dead, packet)),
        How::Redundant | How::RedundantByDefault => None,
    };
    context.dead().iter().filter_map(of).collect()
}

fn tell(context: &Context<'_, '_>, dead: &Dead, packet: Packet) -> Draft {
    let mut draft = context.about_rule(dead.rule);
    let action = context.view.estate.rule(dead.rule).action;
    let others = if dead.covers.len() == 1 { "an earlier rule takes" } else { "earlier rules together take" };
    draft.title = format!("{} never {}: {others} all that it matches", context.rule_name(dead.rule), acts(action));
    let admits = |id: &crate::model::RuleId| context.view.estate.rule(*id).action.admits();
    if action.refuses() && dead.takers.iter().any(admits) {
        draft.factors.push(factor(1, "it would refuse what is allowed"));
    }
    draft.evidence.extend(dead.covers.iter().map(|id| context.rule_evidence(Role::CoveredBy, *id)));
    let takers = dead.takers.iter().filter(|id| !dead.covers.contains(id));
    draft.evidence.extend(takers.map(|id| context.rule_evidence(Role::TakenBy, *id)));
    draft.witness = Some(witness(&packet));
    let lasting = if dead.durable { "" } else { ", with today's members of groups and sets" };
    draft.mend = format!("move it up if it is meant, or delete it: that changes no packet's fate{lasting}");
    draft
}

fn acts(action: crate::model::Action) -> &'static str {
    use crate::model::Action::{Allow, AllowFinally, Defer, Deny, Reject};
    match action {
        Allow => "allows anything",
        AllowFinally => "allows anything finally",
        Deny => "denies anything",
        Reject => "rejects anything",
        Defer => "defers anything",
    }
}
