//! A rule that the platform has stopped.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::Draft;
use super::super::kind::Kind;
use heronshale_model::estate::RuleId;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "no-longer-enforced",
    base: Severity::Note,
    about: "The platform has stopped enforcing a rule: its end date has passed.",
    why: "Every review reads it, and it does nothing. If it was a deny rule, that traffic may be allowed now.",
    triggers: "The rule is enabled, and its `enforced_until` date is before the audit date. Not reported on the \
        last day itself, for disabled rules, or if the audit has no date.",
    fix: "Delete it, or give it a new date if it is still needed.",
    side_effects: "Deleting it changes nothing. With a new date it takes effect again.",
    factors: &["up: it denied something and no longer does"],
    example: include_str!("../examples/no-longer-enforced.yaml"),
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
    let ended = |id: RuleId| {
        let rule = estate.rule(id);
        Some((
            id,
            rule.enforced_until
                .filter(|end| rule.enabled && *end < now)?,
        ))
    };
    estate.rule_ids().filter_map(ended).collect()
}

fn tell(context: &Context<'_, '_>, rule: RuleId, date: jiff::Timestamp) -> Draft {
    let mut draft = context.about_rule(rule);
    let day = crate::describe::day_text(&date.to_string());
    draft.says(format!("ended {day}"));
    draft.title = format!(
        "{} ended on {day} and does nothing now",
        context.rule_name(rule)
    );
    if context.view.estate.rule(rule).action.refuses() {
        draft
            .factors
            .push(factor(1, "it denied something and no longer does"));
    }
    draft.fix = "Delete it, or give it a new date if it is still needed.".to_owned();
    draft
}
