//! A rule whose packets another stage refuses, wherever it acts.

use super::super::context::Context;
use super::super::draft::{Draft, Evidence, Role};
use super::super::kind::Kind;
use crate::describe::witness;
use crate::elsewhere::{Denied, DeniedBy, denied_elsewhere};
use heronshale_engine::judgement::{By, StageKind};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "denied-elsewhere",
    base: Severity::Minor,
    about: "All that a rule admits is refused by another stage, or its replies are.",
    why: "Its author believes that the connection works. When it turns out that it does not, somebody opens the other stage, \
        without knowing what else that opens.",
    triggers: "An allow rule in force of a group, ACL, scope policy or own firewall that lets packets through its own stage, all of which \
        another stage of the same interface and direction refuses, or whose replies a stage that keeps no state refuses, on every \
        interface on which the rule acts, and there is one. A rule that keeps no state is of use if it lets a reply through, or ICMP errors about connections. Packets of neighbours in the same subnet cross no ACL. Silent if one \
        packet gets through and is answered, and where the snapshot lacks what might let it through.",
    fix: "Delete it, or open the other stage for exactly what is meant.",
    side_effects: "to delete it changes no packet's fate; to open the other stage lets its packets in",
    factors: &[],
    example: include_str!("../examples/denied-elsewhere.yaml"),
    check: |context| {
        denied_elsewhere(context.view)
            .iter()
            .map(|denied| tell(context, denied))
            .collect()
    },
};

fn told(kind: StageKind) -> &'static str {
    match kind {
        StageKind::OwnFirewall => "the own firewall",
        StageKind::ScopePolicies => "a policy",
        StageKind::InterfaceGroups | StageKind::PooledGroups => "the groups",
        StageKind::SubnetGroups => "the subnet's groups",
        StageKind::NetworkAcl => "the ACL",
    }
}

fn tell(context: &Context<'_, '_>, denied: &Denied) -> Draft {
    let mut draft = context.about_rule(denied.rule);
    let rule = context.rule_name(denied.rule);
    let (what, by) = match denied.by {
        DeniedBy::Request(kind, _) => ("all that it admits is refused", kind),
        DeniedBy::Reply(kind) => ("every reply to what it admits is refused", kind),
    };
    draft.title = format!("{rule} admits nothing in the end: {what} by {}", told(by));
    match denied.by {
        DeniedBy::Request(_, By::Rule(id)) => draft
            .evidence
            .push(context.rule_evidence(Role::TakenBy, id)),
        DeniedBy::Request(kind, _) => draft.evidence.push(Evidence {
            role: Role::TakenBy,
            text: format!("{}: no rule there admits it", kind.word()),
            rule: None,
            place: None,
        }),
        DeniedBy::Reply(kind) => draft.evidence.push(Evidence {
            role: Role::TakenBy,
            text: format!(
                "{}: keeps no state, and no rule there admits the reply",
                kind.word()
            ),
            rule: None,
            place: None,
        }),
    }
    draft.evidence.push(context.acts_on(denied.rule.filter));
    draft.witness = Some(witness(&denied.packet));
    draft.fix = "delete it, or open the other stage for exactly what is meant".to_owned();
    draft
}
