//! A rule without which no packet's fate changes.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Evidence, NOTHING, Role};
use super::super::kind::Kind;
use super::shadowed::{taken_by, tell_translation};
use crate::dead::{Dead, How};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "redundant",
    base: Severity::Minor,
    about: "Without the rule no packet's fate changes.",
    why: "It costs attention at every review, and hides which rule really decides.",
    triggers: "Ordered lists: all that is visible of the rule is decided alike by the rules that come next, or by the default. Union \
        groups: the group's other rules admit all of it, or on every interface that carries the group its other groups do. It must \
        be so wherever the filter is enforced. Of two equal rules each is redundant; not both can go. Silent if one packet would \
        be decided otherwise, if another group covers it on some interfaces only, and if what covers it ends before it does.",
    fix: "Delete it: no packet is decided otherwise.",
    side_effects: NOTHING,
    factors: &["down: only because of the list's default, which people like to spell out"],
    example: include_str!("../examples/redundant.yaml"),
    check: |context| {
        let rules = facts(context).into_iter().map(|dead| tell(context, dead));
        rules.chain(translations(context)).collect()
    },
};

fn facts<'c>(context: &'c Context<'_, '_>) -> Vec<&'c Dead> {
    context
        .dead()
        .iter()
        .filter(|dead| matches!(dead.how, How::Redundant | How::RedundantByDefault))
        .collect()
}

fn translations(context: &Context<'_, '_>) -> Vec<Draft> {
    let redundant = context
        .dead_translations()
        .iter()
        .filter(|dead| dead.how == How::Redundant);
    let tell = |dead| {
        let title = "changes nothing: others translate alike all that it matches";
        tell_translation(
            context,
            dead,
            title,
            "delete it: that changes no packet's fate",
        )
    };
    redundant.map(tell).collect()
}

fn tell(context: &Context<'_, '_>, dead: &Dead) -> Draft {
    let mut draft = context.about_rule(dead.rule);
    let by_default = dead.how == How::RedundantByDefault;
    let how = match (by_default || dead.across, dead.covers.as_slice()) {
        (true, _) if dead.across => "on every interface other groups admit the same",
        (true, []) => "the list's default does the same",
        (true, _) => "other rules and the list's default do the same",
        (false, [_]) => "another rule does the same and more",
        (false, _) => "other rules together do the same",
    };
    draft.title = format!("{} changes nothing: {how}", context.rule_name(dead.rule));
    draft.evidence.extend(
        dead.covers
            .iter()
            .map(|id| context.rule_evidence(Role::CoveredBy, *id)),
    );
    taken_by(context, &mut draft, dead);
    if by_default {
        draft
            .factors
            .push(factor(-1, "only because of the list's default"));
        let filter = &context.view.estate.filters[dead.rule.filter];
        draft.cause = Some(format!(
            "the default of {}",
            crate::describe::filter_text(context.view.estate, dead.rule.filter)
        ));
        let action = filter
            .default_action(dead.rule.direction)
            .map_or("goes on to the next policy", |action| action.word());
        let text = format!(
            "what no rule of {} matches: {action}",
            crate::describe::filter_text(context.view.estate, dead.rule.filter)
        );
        draft.evidence.push(Evidence {
            role: Role::Default,
            text,
            rule: None,
            place: Some(context.place(&filter.origin)),
        });
    }
    let lasting = match (dead.durable, dead.across) {
        (true, _) => "",
        (false, true) => ", as long as these groups are bound together",
        (false, false) => ", with today's members of groups and sets",
    };
    draft.fix = format!("delete it: that changes no packet's fate{lasting}");
    draft
}
