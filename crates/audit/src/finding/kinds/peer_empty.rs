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
    about: "A rule names a group, set, tag or identity that stands for no address, or nobody at all.",
    why: "The rule, or that part of it, matches nothing. A group created before its members were bound is the usual reason why a \
        connection that looks allowed fails.",
    triggers: "A rule in force with a peer that stands for no address in any network where the rule is enforced: a group without carriers \
        in reach, a tag or identity that no interface has, an empty set; or with no peers at all (`[]`). Silent if one address is in it, \
        if the snapshot lacks what might be in it, and for names that are missing (that is peer-missing).",
    fix: "Bind the group, tag or identity to the interfaces that are meant, or delete the rule.",
    side_effects: "to delete it changes no packet's fate; bound it lets in whoever is a member then",
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
    draft.title = match &fact.peer {
        None => format!("{rule} is about nobody: its peers are an empty list"),
        Some(peer) if fact.out_of_reach => {
            format!("{rule} names {peer}, which no interface in reach carries")
        }
        Some(peer) => format!("{rule} names {peer}, which stands for no address"),
    };
    if let Some(peer) = &fact.peer {
        draft.key = draft.key.notation(peer);
        draft.cause = Some(if fact.out_of_reach {
            draft.key.written().to_owned()
        } else {
            format!("{peer} stands for no address")
        });
        let text = if fact.out_of_reach {
            format!("{peer}: carried only in networks out of reach")
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
    draft.fix =
        "bind what it names to the interfaces that are meant, or delete the rule".to_owned();
    draft
}
