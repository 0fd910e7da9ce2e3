//! Who holds an address.

use heronshale_model::estate::{
    Balancer, FrontEnd, Gateway, GatewayKind, Id, Interface, Network, Subnet,
};
use heronshale_model::view::View;
use heronshale_sets::address::{Addresses, Range};
use rustc_hash::FxHashMap;
use std::net::IpAddr;

/// Who holds an address of a network.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Holder {
    /// An interface.
    Interface(Id<Interface>),
    /// A balancer.
    Balancer(Id<Balancer>),
    /// A NAT gateway.
    Nat(Id<Gateway>),
}

/// Who holds which addresses of a network, in ascending order.
#[derive(Debug, Default)]
pub struct Holders {
    /// Each range with its holder.
    pub all: Vec<(Range, Holder)>,
    /// The addresses of each subnet's interfaces.
    pub by_subnet: FxHashMap<Id<Subnet>, Addresses>,
    /// The addresses of balancers and NAT gateways, with the subnets in which they stand; none outside of all.
    devices: Vec<(IpAddr, Option<Id<Subnet>>)>,
    /// Whether some address has two holders.
    pub shared: bool,
}

impl Holders {
    /// The addresses that something holds beside what stands in a subnet: only inside it; or only elsewhere.
    pub fn of_devices(&self, subnet: Id<Subnet>, inside: bool) -> Addresses {
        let there = self
            .devices
            .iter()
            .filter(|(_, place)| (*place == Some(subnet)) == inside);
        there.map(|(address, _)| *address).collect()
    }

    /// The addresses of each subnet's interfaces, in the order of the subnets.
    pub fn by_subnet(&self) -> impl Iterator<Item = (&Id<Subnet>, &Addresses)> {
        let mut all: Vec<_> = self.by_subnet.iter().collect();
        all.sort_by_key(|(subnet, _)| **subnet);
        all.into_iter()
    }

    /// Who holds which addresses of a network.
    pub(super) fn new(view: &View<'_>, network: Id<Network>) -> Self {
        let estate = view.estate;
        let mut found = Holders::default();
        let mut by_subnet: FxHashMap<Id<Subnet>, Vec<Range>> = FxHashMap::default();
        for id in view.interfaces_in(network) {
            let interface = &estate.interfaces[*id];
            found.all.extend(
                interface
                    .addresses
                    .ranges()
                    .map(|range| (range, Holder::Interface(*id))),
            );
            by_subnet
                .entry(interface.subnet)
                .or_default()
                .extend(interface.addresses.ranges());
        }
        found.by_subnet = by_subnet
            .into_iter()
            .map(|(subnet, ranges)| (subnet, ranges.into_iter().collect()))
            .collect();
        for (id, balancer) in estate
            .balancers
            .iter()
            .filter(|(_, balancer)| balancer.network == network)
        {
            let own = |address| {
                let mut held = balancer
                    .interfaces
                    .iter()
                    .map(|id| &estate.interfaces[*id].addresses);
                held.any(|held| held.contains(address))
            };
            for address in balancer
                .front_ends
                .iter()
                .filter_map(FrontEnd::inside)
                .filter(|address| !own(*address))
            {
                found
                    .all
                    .push((Range::single(address), Holder::Balancer(id)));
                found
                    .devices
                    .push((address, place_of_balancer(view, balancer)));
            }
        }
        for (id, gateway) in estate
            .gateways
            .iter()
            .filter(|(_, gateway)| gateway.network == network)
        {
            if let GatewayKind::Nat {
                address: Some(address),
                subnet,
                ..
            } = &gateway.kind
            {
                found.all.push((Range::single(*address), Holder::Nat(id)));
                found.devices.push((*address, Some(*subnet)));
            }
        }
        found
            .all
            .sort_by_key(|(range, _)| (range.family, range.first));
        found.all.dedup();
        let meet = |pair: &[(Range, Holder)]| {
            pair[0].0.family == pair[1].0.family && pair[1].0.first <= pair[0].0.last
        };
        found.shared = found.all.windows(2).any(meet);
        found
    }
}

/// The subnet in which a balancer stands: a proxy in that of its interfaces, if they have one.
pub fn place_of_balancer(view: &View<'_>, balancer: &Balancer) -> Option<Id<Subnet>> {
    let mut subnets = balancer
        .interfaces
        .iter()
        .map(|id| view.estate.interfaces[*id].subnet);
    let first = subnets.next();
    balancer
        .subnet
        .or_else(|| first.filter(|first| subnets.all(|other| other == *first)))
}
