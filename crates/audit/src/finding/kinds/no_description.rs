//! Rules that do not say what they are for.

use super::super::context::Context;
use super::super::draft::{Draft, Evidence, NOTHING, Role, counted};
use super::super::kind::Kind;
use crate::describe::filter_text;
use heronshale_model::estate::{Direction, Filter, Id, RuleId};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "no-description",
    base: Severity::Note,
    about: "Rules of a filter have no description, in an estate that describes its rules.",
    why: "Nobody dares to delete a rule without a known purpose.",
    triggers: "Rules in force of the filter have no description or an empty one, and at least one rule of the \
        snapshot has one. Not reported for snapshots without any descriptions.",
    fix: "Ask who wanted the rule, and write down its purpose.",
    side_effects: NOTHING,
    factors: &[],
    example: include_str!("../examples/no-description.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|(filter, rules)| tell(context, *filter, rules))
            .collect()
    },
};

fn facts(context: &Context<'_, '_>) -> Vec<(Id<Filter>, Vec<RuleId>)> {
    let estate = context.view.estate;
    let says = |id: &RuleId| {
        estate
            .rule(*id)
            .description
            .as_ref()
            .is_some_and(|text| !text.trim().is_empty())
    };
    if !estate.rule_ids().any(|id| says(&id)) {
        return Vec::new();
    }
    let mut found: Vec<(Id<Filter>, Vec<RuleId>)> = Vec::new();
    for id in estate
        .rule_ids()
        .filter(|id| context.view.in_force(estate.rule(*id)) && !says(id))
    {
        match found.last_mut() {
            Some((filter, rules)) if *filter == id.filter => rules.push(id),
            _ => found.push((id.filter, vec![id])),
        }
    }
    found
}

fn tell(context: &Context<'_, '_>, filter: Id<Filter>, rules: &[RuleId]) -> Draft {
    let estate = context.view.estate;
    let mut draft = context.about_filter(filter);
    let all: usize = Direction::BOTH
        .iter()
        .map(|direction| estate.filters[filter].rules(*direction).len())
        .sum();
    let plural = if rules.len() == 1 { "has" } else { "have" };
    draft.says(format!("{} of {all} rules", rules.len()));
    draft.title = format!(
        "{} of {all} rules of {} {plural} no description",
        rules.len(),
        filter_text(estate, filter)
    );
    let names: Vec<String> = rules
        .iter()
        .map(|id| estate.rule_name(*id).to_string())
        .collect();
    draft.evidence.push(Evidence {
        role: Role::AtFault,
        text: counted(&names, "rule"),
        rule: None,
        place: None,
    });
    draft.fix = "Ask who wanted them, and write down their purpose.".to_owned();
    draft
}
