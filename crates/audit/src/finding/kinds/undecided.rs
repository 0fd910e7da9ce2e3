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
    about: "A proof stopped at its declared limit, so the result is open.",
    why: "An audit must not leave anything out in silence. All other results are complete.",
    triggers: "A proof about a rule took more than four million steps. A list has so many end dates and pairs of \
        firewall zones that their product is 65,536 or more. Connections have more possible ways than the \
        limit of steps allows. Such an audit never ends with exit code 0.",
    fix: "Split the list, or delete expired rules. For connections: remove equal routes, and devices that lead \
        to each other.",
    side_effects: "Splitting a list changes nothing.",
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
        title: "some connections are undecided: they have more possible ways than the limit of steps allows"
            .to_owned(),
        subject: "connections".to_owned(),
        short: "more possible ways than the limit allows".to_owned(),
        side_effects: Some("Traffic of the removed routes and devices takes other ways.".to_owned()),
        fix: "Ask `path` for the connections that matter. Remove equal routes, and devices that lead to each other."
            .to_owned(),
        ..Draft::about_nothing(Key::of("connections"))
    })
}

fn tell(context: &Context<'_, '_>, rule: RuleId) -> Draft {
    let mut draft = context.about_rule(rule);
    draft.says("the proof stopped at its limit");
    draft.title = format!(
        "undecided whether {} has any effect: the proof stopped at its limit",
        context.rule_name(rule)
    );
    draft.fix = "Split the list or delete expired rules, and audit again.".to_owned();
    draft
}
