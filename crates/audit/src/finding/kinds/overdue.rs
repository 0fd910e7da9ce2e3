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
    about: "The review date of a rule has passed, and the rule is still in force.",
    why: "A review date stops nothing. Access for a week stays open until somebody closes it.",
    triggers: "The rule is in force, and its `review_by` date is before the audit date. Not reported on the day \
        itself, for expired or disabled rules, or if the audit has no date.",
    fix: "Ask the owner: delete the rule, or set a new date.",
    side_effects: "Deleting it blocks what it allows.",
    factors: &["down: it is a deny rule"],
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
    let day = crate::describe::day_text(&date.to_string());
    draft.says(format!("review was due {day}"));
    draft.title = format!(
        "{} was due for review on {day} and is still in force",
        context.rule_name(rule)
    );
    if context.view.estate.rule(rule).action.refuses() {
        draft.factors.push(factor(-1, "it is a deny rule"));
    }
    draft.evidence.push(context.acts_on(rule.filter));
    draft.trials.push(context.without(rule));
    draft.fix =
        "Ask the owner whether it is still needed. Delete it, or set a new date.".to_owned();
    draft
}
