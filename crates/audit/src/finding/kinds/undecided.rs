//! A part of the audit that stopped at a declared limit.

use super::super::context::Context;
use super::super::draft::Draft;
use super::super::key::Key;
use super::super::kind::Kind;
use crate::dead::How;
use heronshale_model::estate::RuleId;
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "undecided",
    base: Severity::Serious,
    about: "A proof stopped at its declared limit: nothing is said of this rule.",
    why: "An audit that leaves something out in silence is worse than none. All other statements are complete.",
    triggers: "A rule of which it took more than four million steps to prove whether others cover it; or any rule of a list whose ends of \
        rules times pairs of firewall-zones are 65,536 or more; connections that have more ways than can be followed within the limit of \
        steps. The audit then never ends with 0. Silent for everything else.",
    fix: "Split the list, or delete rules that have ended; of connections: fewer equal routes, and no devices that lead to each other.",
    side_effects: "no packet's fate changes by splitting",
    factors: &[],
    example: include_str!("../examples/undecided.yaml"),
    check: |context| {
        let undecided = context
            .dead()
            .iter()
            .filter(|dead| dead.how == How::Undecided);
        undecided.map(|dead| tell(context, dead.rule)).collect()
    },
};

/// Connections that were given up, once all other kinds have asked.
pub(crate) fn given_up(context: &Context<'_, '_>) -> Option<Draft> {
    context.view.gave_up().then(|| Draft {
        title: "some connections are undecided: they have more ways than the limit of steps allows to follow"
            .to_owned(),
        side_effects: Some("what goes by the routes and devices that are taken out".to_owned()),
        fix: "ask `path` for the connections that matter; take out equal routes, and devices that lead to each other"
            .to_owned(),
        ..Draft::about_nothing(Key::of("connections"))
    })
}

fn tell(context: &Context<'_, '_>, rule: RuleId) -> Draft {
    let mut draft = context.about_rule(rule);
    draft.title = format!(
        "whether {} is dead is undecided: the proof stopped at its limit",
        context.rule_name(rule)
    );
    draft.fix = "split the list, or delete rules that have ended, and audit again".to_owned();
    draft
}
