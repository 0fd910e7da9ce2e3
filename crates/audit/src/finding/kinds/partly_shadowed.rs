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
    about: "Earlier rules take a part of what a rule matches, and decide it otherwise.",
    why: "Exceptions before a wider rule are written like this, and so are mistakes. Only a reader who knows what was meant can tell.",
    triggers: "In an ordered list a rule in force has something visible, and at least one packet of it is taken by an earlier rule and \
        decided otherwise (action, state, defer or finally), in some place where the list is enforced. Silent if nothing is \
        visible anywhere (that is shadowed), and if all that is taken is decided alike.",
    fix: "If it was meant as an exception, leave it; else move the rule up, or narrow the one before it.",
    side_effects: "moved up, or the other narrowed, the shared packets are decided the other way",
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
    let by = match dead.covers.as_slice() {
        [one] => context.rule_name(*one),
        _ => "an earlier rule".to_owned(),
    };
    draft.title = format!(
        "{} comes too late for some of what it matches: {by} takes it",
        context.rule_name(dead.rule)
    );
    if against(context, dead.rule, &dead.covers) {
        draft
            .factors
            .push(factor(1, "it would refuse what is allowed"));
    }
    draft.evidence.extend(
        dead.covers
            .iter()
            .map(|id| context.rule_evidence(Role::TakenBy, *id)),
    );
    draft.witness = Some(witness(&packet));
    draft.fix =
        "leave it if that is the exception that was meant; else move it up, or narrow the rule before it".to_owned();
    draft
}
