//! Traffic of a part, and on what it turns, in words.

use super::hop::hop_text;
use crate::describe::{PeerWords, ports_text};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{Choice, Condition, Judged};
use heronshale_model::estate::Estate;
use serde::Serialize;

/// Some traffic of a part.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct PathTraffic {
    /// The senders.
    pub sources: PeerWords,
    /// Where they send to.
    pub destinations: PeerWords,
    /// Protocols with ports, or ICMP types and codes.
    pub services: Vec<String>,
    /// Whether every combination of the three is meant; else each of them occurs with some of the others.
    pub exact: bool,
}

/// A condition in words.
pub fn condition_text(estate: &Estate, condition: &Condition) -> String {
    match condition {
        Condition::Named { sets, .. } => {
            let names: Vec<String> = sets
                .iter()
                .map(|set| estate.name_sets[*set].name.to_string())
                .collect();
            format!("the request is for a name in {}", names.join(" or "))
        }
        Condition::Other(text) => text.to_string(),
    }
}

/// Nature's choices that work, in words.
pub fn choices_text(view: &Fabric<'_>, judged: &Judged) -> Vec<String> {
    let Some((choices, _)) = &judged.some else {
        return Vec::new();
    };
    let estate = view.estate;
    let one = |choice: &Choice| match choice {
        Choice::ClientPorts(ports) => format!("the client port is in {}", ports_text(ports)),
        Choice::TranslatedPorts(ports) => {
            format!("the translated port is in {}", ports_text(ports))
        }
        Choice::Route(winner) => {
            format!("the equal route to {} is used", hop_text(view, winner.hop))
        }
        Choice::Offer(_) => "the site uses the right one of its ways back".to_owned(),
        Choice::Member(_) => "the reply reaches the firewall member of the request".to_owned(),
        Choice::BackEnd(id, at) => {
            let item = &estate.balancers[*id];
            let name = item
                .back_ends
                .get(*at)
                .and_then(|end| match (end.interface, end.address) {
                    (Some(interface), _) => Some(estate.interfaces[interface].name.to_string()),
                    (None, address) => address.map(|address| address.to_string()),
                });
            let name = name.unwrap_or_else(|| format!("back end {}", at + 1));
            format!("balancer {} picks {name}", item.name)
        }
        Choice::ProxyInterface(id) => format!("the proxy uses {}", estate.interfaces[*id].name),
        Choice::Holder(_) => {
            "the right one of several machines with this address answers".to_owned()
        }
        Choice::Resolved(at) => format!("the name resolves to its address no. {}", at + 1),
    };
    let mut texts: Vec<String> = choices.iter().map(one).collect();
    texts.dedup();
    texts
}
