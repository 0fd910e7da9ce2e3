//! A rule that names something which stands for no address.

use super::super::context::Context;
use super::super::draft::{Draft, Evidence, Role};
use super::super::kind::Kind;
use crate::describe::peer_text;
use heronshale_model::estate::Id;
use heronshale_model::estate::{Network, Peer, RuleId};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "peer-empty",
    base: Severity::Minor,
    about: "A rule names a group, set, tag or identity without any address, or no peer at all.",
    why: "The rule, or that part of it, matches nothing. A group without members is a common reason why a \
        connection fails although a rule allows it.",
    triggers: "A rule in force has a peer without an address in any network where the rule applies: a group without \
        members within reach, a tag or identity of no interface, an empty set. Or its list of peers is empty \
        (`[]`). Not reported if the peer has one address, or may have one because of a gap. For names that \
        do not exist, see peer-missing.",
    fix: "Bind the group, tag or identity to the intended interfaces, or delete the rule.",
    side_effects: "Deleting it changes nothing. Binding allows whoever is a member then.",
    factors: &[],
    example: include_str!("../examples/peer-empty.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

struct Fact {
    rule: RuleId,
    /// None: the rule has no peers at all.
    peer: Option<String>,
    /// Whether the group, tag or identity is carried somewhere out of reach.
    out_of_reach: bool,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let (estate, view) = (context.view.estate, context.view);
    let mut found = Vec::new();
    for id in estate
        .rule_ids()
        .filter(|id| view.in_force(estate.rule(*id)))
    {
        let Some(peers) = &estate.rule(id).peers else {
            continue;
        };
        if peers.is_empty() {
            found.push(Fact {
                rule: id,
                peer: None,
                out_of_reach: false,
            });
            continue;
        }
        let enforced = context.bindings.enforced(view, id.filter);
        let networks: Vec<Option<Id<Network>>> =
            enforced.iter().map(|place| place.network).collect();
        let empty = |peer: &&Peer, network: Option<Id<Network>>| {
            let matched = view.peer(peer, network);
            matched.sure.is_empty() && matched.maybe.is_empty()
        };
        for peer in peers
            .iter()
            .filter(|peer| networks.iter().all(|network| empty(peer, *network)))
        {
            let out_of_reach = !empty(&peer, None);
            found.push(Fact {
                rule: id,
                peer: Some(peer_text(estate, peer)),
                out_of_reach,
            });
        }
    }
    found
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let mut draft = context.about_rule(fact.rule);
    let rule = context.rule_name(fact.rule);
    draft.says(match &fact.peer {
        None => "matches nobody".to_owned(),
        Some(peer) => format!("{peer} is empty"),
    });
    draft.title = match &fact.peer {
        None => format!("{rule} matches nobody: its list of peers is empty"),
        Some(peer) if fact.out_of_reach => {
            format!("{rule} names {peer}, which has no member in the networks of the rule")
        }
        Some(peer) => format!("{rule} names {peer}, which has no address"),
    };
    if let Some(peer) = &fact.peer {
        draft.key = draft.key.notation(peer);
        draft.cause = Some(if fact.out_of_reach {
            draft.key.written().to_owned()
        } else {
            format!("{peer} has no address")
        });
        let text = if fact.out_of_reach {
            format!("{peer}: members only in other networks")
        } else {
            format!("{peer}: no address")
        };
        draft.evidence.push(Evidence {
            role: Role::Names,
            text,
            rule: None,
            place: None,
        });
    }
    draft.fix = "Bind the peer to the intended interfaces, or delete the rule.".to_owned();
    draft
}
