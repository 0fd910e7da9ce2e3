//! Where connections start, in one state and in the other: matched by network and address, never by id.

use heronshale_engine::fabric::Fabric;
use heronshale_engine::sweep::sent;
use heronshale_engine::walk::{Asked, Start};
use heronshale_model::estate::{Id, Interface, Name, Network};
use heronshale_sets::address::{Addresses, internet_at_large};
use heronshale_sets::packet::PacketSet;
use rustc_hash::FxHashMap;
use std::collections::BTreeMap;

/// Where connections start.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum From {
    /// At addresses of a network; of an address that several hold, at its first holder, or a later one.
    Network(Name, usize),
    /// At a site.
    Site(Name),
    /// On the internet.
    Internet,
}

/// One start of one state.
pub(crate) struct Here {
    /// The interfaces; empty for what is none.
    interfaces: Vec<Id<Interface>>,
    start: Start,
    /// The addresses from which it sends.
    pub sources: Addresses,
}

/// All starts of a state.
pub(crate) fn starts(view: &Fabric<'_>) -> BTreeMap<From, Here> {
    let estate = view.estate;
    // A private door opens nothing from its side.
    let doors: Vec<Id<Interface>> = estate
        .services
        .items()
        .iter()
        .flat_map(|service| service.private_doors.iter().copied())
        .collect();
    let mut found: BTreeMap<From, Here> = BTreeMap::new();
    let mut held: FxHashMap<(Id<Network>, usize), Addresses> = FxHashMap::default();
    // By name, so that the order of a snapshot says nothing about who of several holders is the first.
    let mut interfaces: Vec<_> = estate.interfaces.iter().collect();
    interfaces.sort_by(|(_, one), (_, other)| one.name.cmp(&other.name));
    for (id, interface) in interfaces {
        if interface.addresses.is_empty() || doors.contains(&id) {
            continue;
        }
        let network = estate.network_of(id);
        let name = &estate.networks[network].name;
        // A packet says nothing else about who sent it than its source.
        let mut turn = 0;
        while held
            .get(&(network, turn))
            .is_some_and(|held| held.overlaps(&interface.addresses))
        {
            turn += 1;
        }
        let all = held.entry((network, turn)).or_insert_with(Addresses::empty);
        *all = all.union(&interface.addresses);
        let here = found
            .entry(From::Network(name.clone(), turn))
            .or_insert_with(|| Here {
                interfaces: Vec::new(),
                start: Start::Internet,
                sources: Addresses::empty(),
            });
        here.interfaces.push(id);
        here.sources = here.sources.union(&interface.addresses);
    }
    for here in found.values_mut() {
        here.start = Start::Interfaces(here.interfaces.clone());
    }
    for (id, site) in estate.sites.iter() {
        let here = Here {
            interfaces: Vec::new(),
            start: Start::Site(id),
            sources: site.holds.clone(),
        };
        found.insert(From::Site(site.name.clone()), here);
    }
    let internet = Here {
        interfaces: Vec::new(),
        start: Start::Internet,
        sources: view.internet_end(),
    };
    found.insert(From::Internet, internet);
    found
}

impl Here {
    /// All that it sends of some packets, by the ports from which clients connect there.
    pub fn asked(&self, view: &Fabric<'_>, from: &From, packets: &PacketSet) -> Asked {
        let sources = packets.sources().intersection(&self.sources);
        let to = packets.destinations();
        let to = if *from == From::Internet {
            to.intersection(&internet_at_large())
        } else {
            to
        };
        let network = self
            .interfaces
            .first()
            .map(|id| view.estate.network_of(*id));
        let ports = &view.settings(network).client_ports;
        let all = sent(&sources, &to, &[], ports);
        let start = match &self.start {
            Start::Interfaces(all) => {
                let senders = all
                    .iter()
                    .copied()
                    .filter(|id| view.estate.interfaces[*id].addresses.overlaps(&sources));
                Start::Interfaces(senders.collect())
            }
            other => other.clone(),
        };
        Asked {
            start,
            packets: all.intersection(packets),
            name: None,
            any_of: Vec::new(),
        }
    }
}

/// Packets as one start of a state sends them; none if nothing starts there.
pub fn question(view: &Fabric<'_>, from: &From, packets: &PacketSet) -> Option<Asked> {
    let mut all = starts(view);
    let here = all.remove(from)?;
    Some(here.asked(view, from, packets))
}

/// The start as the engine knows it; none if nothing starts there.
pub fn start_of(view: &Fabric<'_>, from: &From) -> Option<Start> {
    starts(view).remove(from).map(|here| here.start)
}
