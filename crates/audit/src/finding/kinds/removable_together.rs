//! Rules of one list that can all go at once.

use super::super::context::Context;
use super::super::draft::{Draft, Evidence, NOTHING, Role, counted};
use super::super::kind::Kind;
use crate::describe::filter_text;
use heronshale_model::estate::{Direction, Filter, Id, RuleId};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "removable-together",
    base: Severity::Note,
    about: "Several rules of one list can be deleted together without any effect.",
    why: "Of two rules that do the same, one can go, but not both. Single findings do not tell which set is \
        safe.",
    triggers: "Two or more rules of one filter and direction are shadowed or redundant. They are chosen from last \
        to first, and each is judged again without those already chosen, wherever the filter applies. Not \
        reported for fewer than two rules, or for rules that are redundant only because of the list's \
        default or other groups.",
    fix: "Delete them together. `tidy` writes a patch for those that are dead for good.",
    side_effects: NOTHING,
    factors: &[],
    example: include_str!("../examples/removable-together.yaml"),
    check: |context| {
        let all =
            crate::dead::removable_together(context.view, &context.bindings, context.dead(), false);
        let several = all.into_iter().filter(|(_, _, rules)| rules.len() > 1);
        several
            .map(|(filter, direction, rules)| tell(context, filter, direction, &rules))
            .collect()
    },
};

fn tell(
    context: &Context<'_, '_>,
    id: Id<Filter>,
    direction: Direction,
    rules: &[RuleId],
) -> Draft {
    let estate = context.view.estate;
    let mut draft = context.about_filter(id);
    draft.key = draft.key.token(direction.word());
    let names: Vec<String> = rules
        .iter()
        .map(|id| estate.rule_name(*id).to_string())
        .collect();
    let of = estate.filters[id].rules(direction).len();
    draft.says(format!("{} of {of} rules", rules.len()));
    draft.title = format!(
        "{} of {of} rules of {} ({}) can be deleted together",
        rules.len(),
        filter_text(estate, id),
        direction.bound()
    );
    draft.evidence.push(Evidence {
        role: Role::AtFault,
        text: counted(&names, "rule"),
        rule: None,
        place: None,
    });
    draft.evidence.push(context.acts_on(id));
    draft.fix = "Delete them all. `heronshale tidy` writes the patch.".to_owned();
    draft
}
