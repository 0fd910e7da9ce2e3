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
    about: "A rule has passed the date until which the platform enforces it.",
    why: "It is read at every review and does nothing. If it refused something, that may be let through now.",
    triggers: "A rule that is not switched off and whose `enforced_until` lies before the date judged by. Silent on the day itself, for rules \
        that are switched off, and if no date is known to judge by.",
    fix: "Delete it, or give it a new date if it is still needed.",
    side_effects: "to delete it changes no packet's fate; a new date makes it act again",
    factors: &["up: it refused something, which no longer is refused by it"],
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
    let day = crate::describe::moment_text(&date.to_string());
    draft.title = format!(
        "{} was enforced until {day}, and does nothing now",
        context.rule_name(rule)
    );
    if context.view.estate.rule(rule).action.refuses() {
        draft
            .factors
            .push(factor(1, "it refused something, and no longer does"));
    }
    draft.fix = "delete it, or give it a new date if it is still needed".to_owned();
    draft
}
