//! What is looked up about an estate, by the tables on which it rests.

use crate::estate::{
    Estate, Gap, GatewayKind, Id, Interface, LinkEnd, Name, Network, PublicAddress, Reference,
    Subnet,
};
use crate::faults::{Fault, has};
use heronshale_sets::address::{Addresses, Range, internet_at_large};
use rustc_hash::{FxHashMap, FxHashSet};
use std::sync::OnceLock;

/// Which addresses are the internet's, the estate's public ones, and nobody's that is known.
pub(super) struct Bounds {
    pub internet: Addresses,
    pub elsewhere: Addresses,
    pub public: Addresses,
    pub held_by_others: OnceLock<Addresses>,
}

impl Bounds {
    pub fn new(estate: &Estate) -> Self {
        let networks = estate
            .networks
            .items()
            .iter()
            .map(|network| &network.blocks);
        let sites = estate.sites.items().iter().map(|site| &site.holds);
        let gaps = estate
            .gaps
            .iter()
            .filter_map(|gap: &Gap| gap.blocks.as_ref());
        let known = networks
            .chain(sites)
            .chain(gaps)
            .fold(Addresses::empty(), |sum, blocks| sum.union(blocks));
        Self {
            internet: internet_at_large().difference(&known),
            elsewhere: Addresses::all()
                .difference(&internet_at_large())
                .difference(&known),
            public: public_addresses(estate),
            held_by_others: OnceLock::new(),
        }
    }
}

/// Which networks are joined.
pub(super) struct Joined {
    pub within_reach: Vec<Vec<Id<Network>>>,
    pub at_hub: Vec<Vec<Id<Network>>>,
}

impl Joined {
    pub fn new(estate: &Estate) -> Self {
        Self {
            within_reach: reaches(estate),
            at_hub: at_hub(estate),
        }
    }
}

/// Interfaces by what is bound to them and where they stand.
#[derive(Default)]
pub(super) struct Index {
    pub carriers: Vec<Vec<Id<Interface>>>,
    pub bound_subnets: Vec<Vec<Id<Subnet>>>,
    pub by_identity: FxHashMap<Name, Vec<Id<Interface>>>,
    pub by_tag: FxHashMap<(Name, Name), Vec<Id<Interface>>>,
    pub interfaces_in: Vec<Vec<Id<Interface>>>,
    pub network_of: Vec<Id<Network>>,
    pub mapped: FxHashMap<Id<Interface>, Vec<Id<PublicAddress>>>,
    pub held_by_several: OnceLock<Addresses>,
}

impl Index {
    pub fn new(estate: &Estate) -> Self {
        let mut index = Self {
            carriers: vec![Vec::new(); estate.filters.len()],
            bound_subnets: vec![Vec::new(); estate.filters.len()],
            interfaces_in: vec![Vec::new(); estate.networks.len()],
            network_of: estate
                .interfaces
                .ids()
                .map(|id| estate.network_of(id))
                .collect(),
            ..Self::default()
        };
        for (id, subnet) in estate.subnets.iter() {
            for group in subnet.groups.iter().filter_map(Reference::found) {
                push_once(&mut index.bound_subnets[group.index()], id);
            }
        }
        for (id, public) in estate.public_addresses.iter() {
            if let Some(interface) = public.interface {
                index.mapped.entry(interface).or_default().push(id);
            }
        }
        for (id, interface) in estate.interfaces.iter() {
            index.add(estate, id, interface);
        }
        index
    }

    fn add(&mut self, estate: &Estate, id: Id<Interface>, interface: &Interface) {
        self.interfaces_in[estate.network_of(id).index()].push(id);
        for group in interface.groups.iter().filter_map(Reference::found) {
            push_once(&mut self.carriers[group.index()], id);
        }
        if has(Fault::SubnetBindingCarries) {
            for group in estate.subnets[interface.subnet]
                .groups
                .iter()
                .filter_map(Reference::found)
            {
                push_once(&mut self.carriers[group.index()], id);
            }
        }
        if let Some(identity) = estate.identity(id) {
            self.by_identity
                .entry(identity.clone())
                .or_default()
                .push(id);
        }
        let of_workload = interface
            .workload
            .map(|workload| &estate.workloads[workload].tags);
        for tag in interface
            .tags
            .iter()
            .chain(of_workload.into_iter().flatten())
        {
            push_once(self.by_tag.entry(tag.clone()).or_default(), id);
        }
    }
}

/// The addresses of interfaces other than firewalls', and what sites hold.
pub(super) fn held_by_others(estate: &Estate) -> Addresses {
    let legs = estate
        .firewalls
        .items()
        .iter()
        .flat_map(|firewall| &firewall.legs);
    let legs: FxHashSet<Id<Interface>> = legs.map(|leg| leg.interface).collect();
    let own = estate
        .interfaces
        .iter()
        .filter(|(id, _)| !legs.contains(id));
    let sites = estate
        .sites
        .items()
        .iter()
        .flat_map(|site| site.holds.ranges());
    own.flat_map(|(_, item)| item.addresses.ranges())
        .chain(sites)
        .collect()
}

/// The addresses that more than one interface holds.
pub(super) fn held_by_several(estate: &Estate) -> Addresses {
    let mut held: Vec<_> = estate
        .interfaces
        .items()
        .iter()
        .flat_map(|item| item.addresses.ranges())
        .collect();
    held.sort_unstable_by_key(|range| (range.family, range.first));
    let mut several = Vec::new();
    let mut last: Option<Range> = None;
    for range in held {
        if let Some(before) =
            last.filter(|before| before.family == range.family && range.first <= before.last)
        {
            several.push(Range {
                last: range.last.min(before.last),
                ..range
            });
        }
        if last.is_none_or(|before| before.family != range.family || before.last < range.last) {
            last = Some(range);
        }
    }
    several.into_iter().collect()
}

/// Adds an item to a list that is made in the order of the items: where it already exists, it is the last.
fn push_once<T: PartialEq>(list: &mut Vec<T>, item: T) {
    if list.last() != Some(&item) {
        list.push(item);
    }
}

/// The networks that each is peered with, up on both sides.
fn reaches(estate: &Estate) -> Vec<Vec<Id<Network>>> {
    let mut reach = vec![Vec::new(); estate.networks.len()];
    for peering in estate
        .peerings
        .items()
        .iter()
        .filter(|peering| peering.is_up())
    {
        let [a, b] = [&peering.sides[0].network, &peering.sides[1].network];
        if let (Some(a), Some(b)) = (a.found(), b.found()) {
            reach[a.index()].push(b);
            if !has(Fault::ReachOneWay) {
                reach[b.index()].push(a);
            }
        }
    }
    reach
}

/// All public addresses that the estate holds: of interfaces, balancers, NAT gateways, firewalls and public doors.
fn public_addresses(estate: &Estate) -> Addresses {
    let listed = estate
        .public_addresses
        .items()
        .iter()
        .map(|public| public.address);
    let fronts = estate
        .balancers
        .items()
        .iter()
        .flat_map(|balancer| &balancer.front_ends);
    let fronts = fronts
        .filter(|front| front.public)
        .map(|front| front.address);
    let nat = estate
        .gateways
        .items()
        .iter()
        .filter_map(|gateway| match &gateway.kind {
            GatewayKind::Nat { public, .. } => *public,
            _ => None,
        });
    let single: Addresses = listed.chain(fronts).chain(nat).collect();
    let doors = estate
        .services
        .items()
        .iter()
        .filter_map(|service| service.public_door.as_ref());
    let blocks = doors
        .map(|door| &door.addresses)
        .chain(estate.firewalls.items().iter().map(|item| &item.addresses));
    blocks.fold(single, |sum, block| sum.union(block))
}

/// The networks that each shares a hub with, links up.
fn at_hub(estate: &Estate) -> Vec<Vec<Id<Network>>> {
    let mut near = vec![Vec::new(); estate.networks.len()];
    for hub in estate.hubs.items() {
        let networks = hub
            .links
            .iter()
            .filter(|link| link.up)
            .filter_map(|link| match &link.to {
                LinkEnd::Network(network) => network.found(),
                _ => None,
            });
        let networks: Vec<Id<Network>> = networks.collect();
        for one in &networks {
            near[one.index()].extend(&networks);
        }
    }
    near
}
