//! A rule of which earlier rules take a part, and decide it otherwise.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::kind::Kind;
use super::shadowed::against;
use crate::dead::{Dead, How};
use crate::describe::witness;
use heronshale_model::severity::Severity;
use heronshale_sets::packet::Packet;

pub(crate) const KIND: Kind = Kind {
    name: "partly-shadowed",
    base: Severity::Note,
    about: "Earlier rules take part of a rule's traffic and decide it differently.",
    why: "This is how exceptions before a wider rule look, and also how mistakes look. Only somebody who knows \
        the intention can tell.",
    triggers: "In an ordered list, a rule in force decides some packets, and an earlier rule takes at least one of \
        its packets with a different decision (action, state, defer or finally), in some place where the \
        list applies. If the rule decides nothing anywhere, see shadowed. Not reported if all earlier \
        decisions are the same.",
    fix: "If the exception is intended, leave it. Otherwise move the rule up, or narrow the earlier one.",
    side_effects: "The shared packets get the other decision.",
    factors: &["up: it would deny or reject what is allowed"],
    example: include_str!("../examples/partly-shadowed.yaml"),
    check: |context| {
        facts(context)
            .into_iter()
            .map(|(dead, packet)| tell(context, dead, packet))
            .collect()
    },
};

fn facts<'c>(context: &'c Context<'_, '_>) -> Vec<(&'c Dead, Packet)> {
    let of = |dead: &'c Dead| match dead.how {
        How::PartlyShadowed(packet) => Some((dead, packet)),
        _ => None,
    };
    context.dead().iter().filter_map(of).collect()
}

fn tell(context: &Context<'_, '_>, dead: &Dead, packet: Packet) -> Draft {
    let mut draft = context.about_rule(dead.rule);
    let rule = context.rule_name(dead.rule);
    draft.says("part of its traffic is taken earlier");
    draft.title = match dead.covers.as_slice() {
        [one] => format!(
            "{rule} loses part of its traffic to {}",
            context.rule_name(*one)
        ),
        _ => format!("{rule} loses part of its traffic to earlier rules"),
    };
    if against(context, dead.rule, &dead.covers) {
        draft
            .factors
            .push(factor(1, "it would deny what is allowed"));
    }
    draft.evidence.extend(
        dead.covers
            .iter()
            .map(|id| context.rule_evidence(Role::TakenBy, *id)),
    );
    draft.witness = Some(witness(&packet));
    draft.fix =
        "If the exception is intended, leave it. Otherwise move the rule up, or narrow the earlier one.".to_owned();
    draft
}
