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
    about: "A rule changes nothing: without it every packet gets the same decision.",
    why: "It costs attention at every review, and hides the rule that really decides.",
    triggers: "Ordered lists: later rules, or the default, give the same decision to everything that the rule \
        decides. Union groups: the other rules of the group allow all of it, or on every interface with the \
        group its other groups do. This must be so wherever the filter applies. Of two equal rules each is \
        redundant, but only one can go. Not reported if one packet would get another decision, if another \
        group covers it on some interfaces only, or if a covering rule ends earlier.",
    fix: "Delete the rule. Every packet gets the same decision without it.",
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
        let title = "changes nothing: others translate all its traffic the same way";
        tell_translation(
            context,
            dead,
            title,
            "Delete it. Every packet gets the same decision without it.",
        )
    };
    redundant.map(tell).collect()
}

fn tell(context: &Context<'_, '_>, dead: &Dead) -> Draft {
    let mut draft = context.about_rule(dead.rule);
    let by_default = dead.how == How::RedundantByDefault;
    let how = match (by_default || dead.across, dead.covers.as_slice()) {
        (true, _) if dead.across => "on every interface other groups allow the same",
        (true, []) => "the list's default does the same",
        (true, _) => "other rules and the list's default do the same",
        (false, [_]) => "another rule does the same and more",
        (false, _) => "other rules together do the same",
    };
    draft.says(how);
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
            .map_or("continue with the next policy", |action| action.word());
        let text = format!(
            "default of {}: {action}",
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
        (false, true) => " Check first that these groups stay bound together.",
        (false, false) => " Check first that members of groups and sets stay as they are.",
    };
    draft.fix = format!("Delete it.{lasting}");
    draft
}
