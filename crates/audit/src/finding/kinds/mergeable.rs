//! Rules that could be one.

use super::super::context::Context;
use super::super::draft::{Draft, Evidence, NOTHING, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::dead::mergeable;
use heronshale_model::estate::RuleId;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "mergeable",
    base: Severity::Note,
    about: "Rules that differ in one range only, with adjacent or overlapping ranges, could be one rule.",
    why: "In pieces, nobody sees how wide the range is.",
    triggers: "Two or more rules in force of one list are equal in action, state, end and everything else except \
        one thing: their single block of peers, or their single port range of one protocol. Together the \
        ranges are one range, and no rule with another decision about their packets stands between them. Not \
        reported if one of them is shadowed or redundant, if the ranges leave a hole, or if two things \
        differ.",
    fix: "Replace the first rule with one rule for the whole range, and delete the others.",
    side_effects: NOTHING,
    factors: &[],
    example: include_str!("../examples/mergeable.yaml"),
    check: |context| {
        let dead = context.dead();
        mergeable(context.view, dead)
            .iter()
            .map(|run| tell(context, &run.rules, &run.whole))
            .collect()
    },
};

/// How many rules of a run are named.
const NAMED: usize = 6;

fn tell(context: &Context<'_, '_>, rules: &[RuleId], whole: &str) -> Draft {
    let mut draft = context.about_rule(rules[0]);
    let first = context.rule_name(rules[0]);
    // All of them, in whatever order they stand.
    let key = Key::all(rules.iter().map(|id| Key::rule(context.view.estate, *id)));
    draft.former = Some(std::mem::replace(&mut draft.key, key).written().to_owned());
    draft.brief(
        rules
            .iter()
            .map(|id| context.rule_name(*id))
            .collect::<Vec<_>>()
            .join(", "),
        format!("could be one rule, {whole}"),
    );
    draft.title = match rules {
        [_, other] => format!(
            "{first} and {} could be one rule: {whole}",
            context.rule_name(*other)
        ),
        _ => format!(
            "{first} and {} others could be one rule: {whole}",
            rules.len() - 1
        ),
    };
    draft.evidence.extend(
        rules[1..]
            .iter()
            .take(NAMED)
            .map(|id| context.rule_evidence(Role::Names, *id)),
    );
    if rules.len() > NAMED + 1 {
        let last = context.rule_name(rules[rules.len() - 1]);
        let text = format!("and {} more, to {last}", rules.len() - NAMED - 1);
        draft.evidence.push(Evidence {
            role: Role::Names,
            text,
            rule: None,
            place: None,
        });
    }
    draft.fix = format!("Replace the first rule with one for {whole}, and delete the others.");
    draft
}
