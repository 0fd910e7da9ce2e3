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
    about: "Rules of a filter do not say what they are for, in an estate whose rules do.",
    why: "Nobody dares to delete a rule of which nobody knows the reason.",
    triggers: "A filter with rules in force that bear no description, or an empty one, in a snapshot where at least one rule of any filter \
        bears one. Silent if every rule in force of the filter has one, and for snapshots without any: their source has none to give.",
    fix: "Ask who wanted the rule, and write down what for.",
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
    let plural = if rules.len() == 1 { "does" } else { "do" };
    draft.title = format!(
        "{} of {all} rules of {} {plural} not say what they are for",
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
    draft.fix = "ask who wanted them, and write down what for".to_owned();
    draft
}
