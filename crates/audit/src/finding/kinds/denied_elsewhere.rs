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
    about: "Another stage blocks everything that a rule allows, or every reply to it.",
    why: "Its author believes that the connection works. To make it work, somebody later opens the other \
        stage, often too wide.",
    triggers: "An allow rule in force of a group, ACL, scope policy or own firewall lets packets through its own \
        stage. On every interface with the rule, and there is at least one, another stage of the same \
        direction denies all of them, or a stateless stage denies all replies. A stateless rule counts as \
        useful if it lets a reply, or an ICMP error of a connection, through. Traffic inside a subnet does \
        not cross an ACL. Not reported if one packet gets through and is answered, or if it might because of \
        something missing from the snapshot.",
    fix: "Delete the rule, or open the other stage for exactly the intended traffic.",
    side_effects: "Deleting it changes nothing. Opening the other stage lets the rule's packets in.",
    factors: &[],
    example: include_str!("../examples/denied-elsewhere.yaml"),
    check: |context| {
        denied_elsewhere(context.view)
            .iter()
            .map(|denied| tell(context, denied))
            .collect()
    },
};

fn denies(kind: StageKind) -> &'static str {
    match kind {
        StageKind::OwnFirewall => "the own firewall blocks",
        StageKind::ScopePolicies => "a policy blocks",
        StageKind::InterfaceGroups | StageKind::PooledGroups => "the groups block",
        StageKind::SubnetGroups => "the subnet's groups block",
        StageKind::NetworkAcl => "the ACL blocks",
    }
}

fn tell(context: &Context<'_, '_>, denied: &Denied) -> Draft {
    let mut draft = context.about_rule(denied.rule);
    let rule = context.rule_name(denied.rule);
    draft.says(match denied.by {
        DeniedBy::Request(kind, _) => format!("{} all of it", denies(kind)),
        DeniedBy::Reply(kind) => format!("{} every reply", denies(kind)),
    });
    draft.title = match denied.by {
        DeniedBy::Request(kind, _) => {
            format!(
                "{rule} allows nothing in the end: {} all of it first",
                denies(kind)
            )
        }
        DeniedBy::Reply(kind) => {
            format!(
                "{rule} allows nothing in the end: {} every reply",
                denies(kind)
            )
        }
    };
    match denied.by {
        DeniedBy::Request(_, By::Rule(id)) => draft
            .evidence
            .push(context.rule_evidence(Role::TakenBy, id)),
        DeniedBy::Request(kind, _) => draft.evidence.push(Evidence {
            role: Role::TakenBy,
            text: format!("{}: no rule allows it", kind.word()),
            rule: None,
            place: None,
        }),
        DeniedBy::Reply(kind) => draft.evidence.push(Evidence {
            role: Role::TakenBy,
            text: format!("{}: stateless, and no rule allows the reply", kind.word()),
            rule: None,
            place: None,
        }),
    }
    draft.evidence.push(context.acts_on(denied.rule.filter));
    draft.witness = Some(witness(&denied.packet));
    draft.fix = "Delete it, or open the other stage for exactly the intended traffic.".to_owned();
    draft
}
