//! Rules that could be one.

use super::super::{Context, Draft, Kind, Role, Severity};
use crate::dead::mergeable;
use crate::model::RuleId;

pub(crate) const KIND: Kind = Kind {
    name: "mergeable",
    base: Severity::Note,
    about: "Rules that differ in one range only, and whose ranges touch or overlap, could be one rule.",
    why: "A range that is written in pieces is read in pieces: nobody sees how wide it is.",
    triggers: "Two or more rules in force of one list with the same action, state, end, and all else, but for one of: their single block of \
        peers, their single range of ports of one protocol. These ranges touch or overlap, so that together they are one, \
        and no rule that decides otherwise and meets them stands between. Silent if one is shadowed or redundant, if a gap is left, and \
        if two things differ.",
    mend: "Write one rule with the whole range, in the place of the first.",
    factors: &[],
    example: include_str!("../examples/mergeable.yaml"),
    check: |context| {
        let dead = context.dead();
        mergeable(context.view, dead).iter().map(|run| tell(context, &run.rules, &run.whole)).collect()
    },
};

fn tell(context: &Context<'_, '_>, rules: &[RuleId], whole: &str) -> Draft {
    let mut draft = context.about_rule(rules[0]);
    let names: Vec<String> = rules.iter().map(|id| context.rule_name(*id)).collect();
    let (last, others) = names.split_last().map_or(("", &[][..]), |(last, others)| (last.as_str(), others));
    draft.title = format!("{} and {last} could be one rule: {whole}", others.join(", "));
    draft.evidence.extend(rules[1..].iter().map(|id| context.rule_evidence(Role::Names, *id)));
    draft.mend = format!("write one rule with {whole}, in the place of the first, and delete the others");
    draft
}
