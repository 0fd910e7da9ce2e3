//! How full subnets are.

use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{Estate, GatewayKind, Id, Subnet};
use heronshale_sets::address::{Addresses, Family, Range};

/// The IPv4 addresses of a subnet that something may have, and those that something has.
#[derive(Clone, Debug)]
pub struct Room {
    /// How many there are: its blocks without what the platform reserves in each.
    pub usable: u128,
    /// Those that an interface, a NAT gateway or a private front end has.
    pub held: Addresses,
}

impl Room {
    /// How many are taken.
    pub fn used(&self) -> u128 {
        count(&self.held)
    }
}

/// How many IPv4 addresses there are among some.
pub fn count(addresses: &Addresses) -> u128 {
    let spans = addresses.of(Family::V4).spans().iter();
    spans.map(|(first, last)| last - first + 1).sum()
}

/// What is held in each subnet, in the order of the snapshot.
fn held(estate: &Estate) -> Vec<Addresses> {
    let mut all: Vec<Vec<Range>> = vec![Vec::new(); estate.subnets.len()];
    for interface in estate.interfaces.items() {
        all[interface.subnet.index()].extend(interface.addresses.ranges());
    }
    for gateway in estate.gateways.items() {
        if let GatewayKind::Nat {
            subnet,
            address: Some(address),
            ..
        } = &gateway.kind
        {
            all[subnet.index()].push(Range::single(*address));
        }
    }
    for balancer in estate.balancers.items() {
        let Some(subnet) = balancer.subnet else {
            continue;
        };
        let fronts = balancer.front_ends.iter().filter(|front| !front.public);
        all[subnet.index()].extend(fronts.map(|front| Range::single(front.address)));
    }
    all.into_iter()
        .map(|ranges| ranges.into_iter().collect())
        .collect()
}

/// How full each subnet is, in the order of the snapshot.
pub fn rooms(view: &Fabric<'_>) -> Vec<(Id<Subnet>, Room)> {
    let estate = view.estate;
    let held = held(estate);
    let room = |(id, held): (Id<Subnet>, Addresses)| {
        let subnet = &estate.subnets[id];
        let blocks = subnet
            .blocks
            .ranges()
            .filter(|range| range.family == Family::V4)
            .map(|_| 1_u128)
            .sum::<u128>();
        let reserved = u128::from(view.settings(subnet.network).reserved_addresses);
        let room = Room {
            usable: count(&subnet.blocks).saturating_sub(reserved * blocks),
            held: held.intersection(&subnet.blocks),
        };
        (id, room)
    };
    estate.subnets.ids().zip(held).map(room).collect()
}
