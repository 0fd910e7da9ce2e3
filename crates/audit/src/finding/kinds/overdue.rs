//! A rule that somebody wanted to look at again by now.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::Draft;
use super::super::kind::Kind;
use heronshale_model::estate::RuleId;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "overdue",
    base: Severity::Minor,
    about: "The date by which somebody wanted to look at a rule again has passed, and the rule still matches.",
    why: "A note stops nothing: what was opened for a week is open until somebody closes it.",
    triggers: "A rule in force whose `review_by` lies before the date judged by. Silent on the day itself, for rules that the platform has \
        stopped or that are switched off, and if no date is known to judge by.",
    fix: "Ask its owner: delete it, or set a new date.",
    side_effects: "to delete it ends what it admits",
    factors: &["down: it refuses, so it opens nothing"],
    example: include_str!("../examples/overdue.yaml"),
    check: |context| {
        facts(context)
            .into_iter()
            .map(|(rule, date)| tell(context, rule, date))
            .collect()
    },
};

fn facts(context: &Context<'_, '_>) -> Vec<(RuleId, jiff::Timestamp)> {
    let Some(now) = context.view.at else {
        return Vec::new();
    };
    let estate = context.view.estate;
    let rules = estate
        .rule_ids()
        .filter(|id| context.view.in_force(estate.rule(*id)));
    rules
        .filter_map(|id| Some((id, estate.rule(id).review_by.filter(|by| *by < now)?)))
        .collect()
}

fn tell(context: &Context<'_, '_>, rule: RuleId, date: jiff::Timestamp) -> Draft {
    let mut draft = context.about_rule(rule);
    let day = crate::describe::moment_text(&date.to_string());
    draft.title = format!(
        "{} was to be looked at again by {day}, and still matches",
        context.rule_name(rule)
    );
    if context.view.estate.rule(rule).action.refuses() {
        draft
            .factors
            .push(factor(-1, "it refuses, so it opens nothing"));
    }
    draft.evidence.push(context.acts_on(rule.filter));
    draft.fix = "ask its owner whether it is still needed: delete it, or set a new date".to_owned();
    draft
}
