//! What belongs to the exposure of an estate beside its ways in: what lies behind what is exposed, who connects outward, what is one
//! step from open, and what was seen from outside.

mod outward;
mod seen;

pub use outward::{OutwardFact, outward};
pub use seen::{ObservedFact, SeenFact, Sight, UnseenFact, names_of_nothing, observed};

use super::reach::{HopFact, PlaceFact, hop_fact, place_fact};
use heronshale_audit::describe::{Witness, witness};
use heronshale_audit::exposure::{
    DeviceWay, DirectWay, Verdict as WayVerdict, device_ways, direct_ways,
};
use heronshale_audit::facts::{EditFact, edit_fact};
use heronshale_audit::fix::{Asking, fixing};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::By;
use heronshale_engine::path::{Connection, Goal};
use heronshale_engine::stage::chain;
use heronshale_engine::sweep::{Chains, From, Node, Place, Sweeping, machine_of, machines, sweep};
use heronshale_engine::walk::{Asked, Spot, Start, Tell, Verdict, What, walk};
use heronshale_model::ends::End;
use heronshale_model::estate::{Direction, Id, Interface, RecordData, Service};
use heronshale_model::observed::Seen;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};
use serde::Serialize;
use std::net::IpAddr;

/// A marked machine that can be reached from the internet over others.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct MarkedFact {
    /// The machine.
    pub place: PlaceFact,
    /// Whether no link depends on something missing from the snapshot.
    pub certain: bool,
    /// The shortest chain from the internet.
    pub hops: Vec<HopFact>,
    /// The machines that every chain passes, however long: narrow one of them, and it is out of reach.
    pub always_by: Vec<PlaceFact>,
}

/// What one exposed machine reaches further on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct OnwardFrom {
    /// The exposed machine.
    pub from: PlaceFact,
    /// Whether it is exposed for certain, whatever is missing from the snapshot.
    pub certain: bool,
    /// How many machines it reaches for certain, by the number of connections one after the other.
    pub reaches: Vec<usize>,
    /// How many more it may reach: that depends on something missing from the snapshot.
    pub perhaps: usize,
    /// Those of all these that are marked.
    pub marked: Vec<PlaceFact>,
}

/// What lies behind what is exposed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct OnwardFact {
    /// How many connections one after the other behind the exposed machine were looked at.
    pub jumps: u32,
    /// The tags that mark a machine.
    pub marks: Vec<String>,
    /// For each exposed machine, what it reaches: the most first.
    pub from: Vec<OnwardFrom>,
    /// The marked machines that can be reached from the internet.
    pub marked: Vec<MarkedFact>,
}

/// What lies behind what the internet reaches, so many connections further.
pub fn onward(view: &Fabric<'_>, jumps: u32) -> OnwardFact {
    let apart = |_| 0;
    let sweeping = Sweeping::of(From::Everywhere, &apart);
    let found = sweep(view, &sweeping);
    let chains = Chains::new(view, &found);
    let all = machines(view);
    let marked: Vec<Place> = {
        let tagged = view
            .tuning
            .marks
            .iter()
            .flat_map(|mark| view.tagged(std::slice::from_ref(mark)));
        let mut places: Vec<Place> = tagged
            .map(|id| Place::Machine(machine_of(view, id)))
            .collect();
        places.sort_unstable();
        places.dedup();
        places
    };
    let place = |one: Place| place_fact(view, &all, one);
    let is_marked = |one: &Place| marked.contains(one);
    let from_internet = chains.onward(
        &chains.starting(&[(Place::Internet, Vec::new())]),
        jumps + 1,
    );
    let exposed = from_internet
        .iter()
        .filter(|one| one.jumps == 1 && matches!(one.place, Place::Machine(_)));
    let mut from: Vec<OnwardFrom> = exposed
        .map(|one| {
            let interfaces = if let Place::Machine(at) = one.place {
                all[at as usize].clone()
            } else {
                Vec::new()
            };
            let onward = chains.onward(&chains.starting(&[(one.place, interfaces)]), jumps);
            let machines = || {
                onward
                    .iter()
                    .filter(|other| matches!(other.place, Place::Machine(_)))
            };
            OnwardFrom {
                from: place(one.place),
                certain: one.certain,
                reaches: (1..=jumps)
                    .map(|jump| {
                        machines()
                            .filter(|other| other.certain && other.jumps == jump)
                            .count()
                    })
                    .collect(),
                perhaps: machines().filter(|other| !other.certain).count(),
                marked: machines()
                    .filter(|other| is_marked(&other.place))
                    .map(|other| place(other.place))
                    .collect(),
            }
        })
        .collect();
    from.sort_by_key(|one| {
        std::cmp::Reverse((
            one.certain,
            one.marked.len(),
            one.reaches.iter().sum::<usize>(),
        ))
    });
    let reached = from_internet
        .iter()
        .filter(|one| is_marked(&one.place))
        .map(|one| MarkedFact {
            place: place(one.place),
            certain: one.certain,
            hops: one
                .hops
                .iter()
                .map(|hop| hop_fact(view, &found, &all, hop))
                .collect(),
            always_by: one.always_by.iter().map(|one| place(*one)).collect(),
        });
    OnwardFact {
        jumps,
        marks: view
            .tuning
            .marks
            .iter()
            .map(|(key, value)| format!("{key}={value}"))
            .collect(),
        from,
        marked: reached.collect(),
    }
}

/// A way in that one change would open.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct OneStepFact {
    /// The interface.
    pub interface: String,
    /// The address that is asked.
    pub address: String,
    /// The change; it was made in memory and asked again.
    pub edit: EditFact,
    /// What the interface's own filters would then let in, as services.
    pub services: Vec<String>,
    /// A packet that then gets in.
    pub witness: Witness,
}

/// No more ways in are looked at.
pub const MOST_STEPS: usize = 200;

/// The closed ways in whose own filters let something in from the internet, and that a single change would open. The number of
/// ways that were not looked at comes with them.
pub fn one_step_away(view: &Fabric<'_>) -> (Vec<OneStepFact>, usize) {
    let estate = view.estate;
    let closed = |way: &DirectWay| way.open().is_empty() && way.unknown().is_empty();
    let ways: Vec<DirectWay> = direct_ways(view).into_iter().filter(closed).collect();
    let left = ways.len().saturating_sub(MOST_STEPS);
    let mut found = Vec::new();
    for way in ways.iter().take(MOST_STEPS) {
        let forward = chain(view, way.interface, Direction::In);
        let asked = PacketSet::union_all(way.parts.iter().map(|part| part.packets.clone()));
        // Let in by what somebody wrote; or refused by a rule, so that the rule stands in the way.
        let ways = forward.ways(&asked);
        let regions = ways.regions();
        let passes = regions
            .iter()
            .filter(|(taken, _)| taken.passes())
            .map(|(_, packets)| packets.clone());
        let refused = way.parts.iter().filter(|part| {
            part.verdict == WayVerdict::Denied
                && part
                    .way
                    .judgements
                    .last()
                    .is_some_and(|judgement| matches!(judgement.by, By::Rule(_)))
        });
        let admitted = PacketSet::union_all(passes);
        let wanted = if admitted.is_empty() {
            PacketSet::union_all(refused.map(|part| part.packets.clone()))
        } else {
            admitted
        };
        let Some(packet) = wanted.witness() else {
            continue;
        };
        let numbers = Intervals::span(packet.service.into(), packet.service.into());
        let text = service::notation(packet.family, &numbers).join(", ");
        let Ok(one) = text.parse::<Service>() else {
            continue;
        };
        let public = way.public.map(|id| estate.public_addresses[id].address);
        let address = public
            .unwrap_or_else(|| heronshale_sets::address::address_of(way.own.family, way.own.first));
        let Ok(block) = address.to_string().parse() else {
            continue;
        };
        let connection = Connection {
            from: End::Internet,
            to: Goal::End(End::Block(block)),
            services: vec![one],
            source_port: None,
        };
        let asking = Asking {
            connection,
            only: Some((packet.source_address(), address)),
        };
        let fixes = fixing(view, &asking);
        let Some(fix) = fixes.fixes.iter().find(|fix| fix.edits.len() == 1) else {
            continue;
        };
        found.push(OneStepFact {
            interface: estate.interfaces[way.interface].name.to_string(),
            address: address.to_string(),
            edit: edit_fact(view, &fix.edits[0]),
            services: service::texts(way.family, &wanted.services()),
            witness: witness(&packet),
        });
    }
    (found, left)
}
