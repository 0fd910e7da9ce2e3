//! A way in from the internet that leads by a device, as data.

use super::grade::exposure_severity;
use super::step::{StepFact, step_fact};
use super::traffic::{PathTraffic, choices_text, condition_text};
use super::way::{Meaning, SpokenFact, meaning_of, spoken_fact, union_rules};
use crate::describe::{
    PeerWords, RuleFact, Symbols, Witness, owner_text, peer_words, rule_fact, witness,
};
use crate::expect::Spoken;
use crate::exposure::{DeviceWay, HeldBy, WalkedPart};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::By;
use heronshale_engine::walk::{Spot, Verdict, What};
use heronshale_model::estate::{Network, RuleId};
use heronshale_model::severity::Severity;
use heronshale_model::source::Place;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, entries_within};
use serde::Serialize;

/// What holds the address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum HolderKind {
    /// An interface of a device, or one whose packets or replies are led by one.
    Interface,
    /// A balancer's front end.
    Balancer,
    /// A firewall that holds addresses itself.
    Firewall,
    /// A service's public door.
    Service,
}

impl HolderKind {
    /// In words.
    pub fn word(self) -> &'static str {
        match self {
            Self::Interface => "interface",
            Self::Balancer => "balancer",
            Self::Firewall => "firewall",
            Self::Service => "service",
        }
    }
}

/// One way in that leads by a device.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct DeviceWayFact {
    /// What holds the addresses.
    pub kind: HolderKind,
    /// Its name.
    pub name: String,
    /// Where it was written.
    pub place: Place,
    /// The addresses that are asked.
    pub addresses: Vec<String>,
    /// Its network, if it stands in one.
    pub network: Option<String>,
    /// Who changes it.
    pub owner: Option<String>,
    /// The interfaces that are reached.
    pub ends: Vec<String>,
    /// How bad it is that something is open; none if nothing is.
    pub severity: Option<Severity>,
    /// What expectations say of what is open; none if nothing is, or if there are no expectations about who reaches whom.
    pub spoken: Option<SpokenFact>,
    /// What works, perhaps under a condition.
    pub open: Vec<WalkedFact>,
    /// What depends on something missing from the snapshot.
    pub unknown: Vec<WalkedFact>,
    /// What does not work.
    pub closed: Vec<WalkedFact>,
}

/// Packets from the internet that fare alike.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct WalkedFact {
    /// How they fare.
    pub verdict: Verdict,
    /// Who sends, where to, and which services; to be read from the top.
    pub traffic: Vec<PathTraffic>,
    /// What would have to hold.
    pub conditions: Vec<String>,
    /// Where only some of nature's choices work: those that do.
    pub only_if: Vec<String>,
    /// The interfaces that they reach.
    pub ends: Vec<String>,
    /// The rules that let an example pass, there and back, in order.
    pub rules: Vec<RuleFact>,
    /// Every step of the example; the last one decides where it does not work.
    pub steps: Vec<StepFact>,
    /// The example.
    pub witness: Option<Witness>,
    /// Whether somebody meant it; none if there are no expectations about who reaches whom, or if it is not open.
    pub meaning: Option<Meaning>,
}

/// One way in as data.
pub fn device_way_fact(view: &Fabric<'_>, way: &DeviceWay, spoken: &Spoken) -> DeviceWayFact {
    let estate = view.estate;
    let of = |network: heronshale_model::estate::Id<Network>| {
        Some(estate.networks[network].name.to_string())
    };
    let (kind, name, origin, network, owner) = match way.by {
        HeldBy::Interface(id) => {
            let item = &estate.interfaces[id];
            (
                HolderKind::Interface,
                &item.name,
                &item.origin,
                of(estate.network_of(id)),
                estate.interface_owner(id),
            )
        }
        HeldBy::Balancer(id) => {
            let item = &estate.balancers[id];
            let owner = item.owner.or(estate.networks[item.network].owner);
            (
                HolderKind::Balancer,
                &item.name,
                &item.origin,
                of(item.network),
                owner,
            )
        }
        HeldBy::Firewall(id) => {
            let item = &estate.firewalls[id];
            (
                HolderKind::Firewall,
                &item.name,
                &item.origin,
                None,
                item.owner,
            )
        }
        HeldBy::Service(id) => {
            let item = &estate.services[id];
            (
                HolderKind::Service,
                &item.name,
                &item.origin,
                None,
                item.owner,
            )
        }
    };
    let outside = way.asked().complement();
    let mut parts: Vec<&WalkedPart> = way.parts.iter().collect();
    parts.sort_by_key(|part| (part.judged.verdict, part.packets.lowest()));
    let mut above = outside;
    let (mut open, mut unknown, mut closed) = (Vec::new(), Vec::new(), Vec::new());
    for part in parts {
        above = above.union(&part.packets);
        let fact = walked_fact(view, way, part, &above, spoken);
        match part.judged.verdict {
            Verdict::Undecided | Verdict::Unknown => unknown.push(fact),
            _ if part.is_open() => open.push(fact),
            _ => closed.push(fact),
        }
    }
    DeviceWayFact {
        kind,
        name: name.to_string(),
        place: estate.sources.place(origin),
        addresses: way.addresses.texts(),
        network,
        owner: owner_text(estate, owner),
        ends: way
            .ends()
            .into_iter()
            .map(|id| estate.interfaces[id].name.to_string())
            .collect(),
        severity: exposure_severity(view, &way.open(), &way.asked(), spoken),
        spoken: spoken_fact(spoken),
        open,
        unknown,
        closed,
    }
}

/// The rules that let the example of a part pass, in the order of its steps; of union groups all that match it, since
/// whoever takes away the first finds the others still there.
pub fn letting(view: &Fabric<'_>, part: &WalkedPart) -> Vec<RuleId> {
    let mut here = part
        .example
        .map_or_else(PacketSet::empty, |packet| PacketSet::single(&packet));
    let mut rules = Vec::new();
    for step in &part.steps {
        let by = match &step.what {
            What::Stage { judgement, .. } | What::Acl(_, judgement) => judgement.by,
            What::Policy { by, .. } => *by,
            What::Changed(change, _) if !step.reply => {
                here = here.rewritten(change);
                continue;
            }
            _ => continue,
        };
        let By::Rule(id) = by else { continue };
        rules.push(id);
        if let (
            What::Stage {
                direction, stage, ..
            },
            Spot::Interface(interface),
        ) = (&step.what, step.at)
            && view.estate.filters[id.filter].is_union()
            && !step.reply
        {
            let all = union_rules(view, interface, *direction).into_iter();
            let also = all.filter(|(kind, other, packets)| {
                kind == stage && *other != id && packets.overlaps(&here)
            });
            rules.extend(also.map(|(_, other, _)| other));
        }
    }
    rules
}

fn walked_fact(
    view: &Fabric<'_>,
    way: &DeviceWay,
    part: &WalkedPart,
    above: &PacketSet,
    spoken: &Spoken,
) -> WalkedFact {
    let estate = view.estate;
    let internet = view.internet_end();
    let symbols: Symbols = estate
        .address_sets
        .iter()
        .map(|(id, set)| {
            (
                format!("set {}", set.name),
                view.set(id).matched.sure.clone(),
            )
        })
        .collect();
    let sources = |family: Family, numbers: &Intervals| {
        let set = Addresses::from_intervals(family, numbers.clone()).intersection(&internet);
        let whole = internet.intersection(&Addresses::of_family(family));
        let missing = whole.difference(&set);
        let mut words = peer_words(family, set.of(family), &symbols);
        words.whole = missing.is_empty();
        if missing.is_empty() {
            words.said = format!("any {family} address");
        } else if missing.texts().len() * 2 < words.ranges.len() {
            words.said = format!(
                "any {family} address except {}",
                peer_words(family, missing.of(family), &symbols).said
            );
        }
        words
    };
    let destinations = |family: Family, numbers: &Intervals| {
        let set = Addresses::from_intervals(family, numbers.clone()).intersection(&way.addresses);
        PeerWords {
            said: set.texts().join(", "),
            ranges: set.texts(),
            whole: false,
        }
    };
    let entries = entries_within(&part.packets, above);
    let traffic = entries.iter().map(|entry| PathTraffic {
        sources: sources(entry.family, &entry.sources),
        destinations: destinations(entry.family, &entry.destinations),
        services: entry.service_texts(),
        exact: true,
    });
    let mut rules: Vec<RuleFact> = Vec::new();
    for id in letting(view, part) {
        let fact = rule_fact(estate, id);
        if !rules.contains(&fact) {
            rules.push(fact);
        }
    }
    WalkedFact {
        verdict: part.judged.verdict,
        traffic: traffic.collect(),
        conditions: part
            .judged
            .conditions
            .iter()
            .map(|condition| condition_text(estate, condition))
            .collect(),
        only_if: choices_text(view, &part.judged),
        ends: part
            .ends
            .iter()
            .map(|id| estate.interfaces[*id].name.to_string())
            .collect(),
        rules,
        steps: part
            .steps
            .iter()
            .map(|step| step_fact(view, step))
            .collect(),
        witness: part.example.map(|packet| witness(&packet)),
        meaning: meaning_of(spoken, &part.packets),
    }
}
