//! Which route wins for which addresses (`docs/semantics.md` 8).

mod choosing;
mod hops;
mod hubs;
mod offers;
mod tables;

pub use hops::{firewall_of, hop, joins};
pub use hubs::{announced, domain_candidates, link_of};
pub use offers::{Offers, SiteWay, offers_to};
pub(crate) use tables::lent_gateways;
pub use tables::{candidates, last_resort, open_parts, prefixes, site_gateways, written_route};
use tables::{of_blocks, ranges_of};

use crate::doubt::{At, Doubt, Unsaid};
use crate::faults::{Fault, has};
use heronshale_model::estate::{
    AddressSet, AutomaticRoutes, Balancer, DomainHop, DoorRoute, EqualRoutes, Firewall, Gateway,
    GatewayKind, Hub, Id, Interface, Lack, Link, LinkEnd, MissingNextHop, Network, NextHop,
    Peering, PlatformService, Reference, Route, RouteDestination, RouteKind, RouteTable, SetItem,
    Settings, Subnet,
};
use heronshale_model::source::Origin;
use heronshale_model::view::View;
use heronshale_sets::address::{Addresses, Family, Range};
use heronshale_sets::packet::PacketSet;
use std::net::IpAddr;

/// By what a winning route leads on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Hop {
    /// Straight to what holds the destination.
    Local,
    /// Dropped.
    Blackhole,
    /// A gateway that is there.
    Gateway(Id<Gateway>),
    /// An interface that passes packets on.
    Interface(Id<Interface>),
    /// An interface that may not pass on packets that are not its own.
    MayNotForward(Id<Interface>),
    /// The other network of a peering that is up.
    Peering(Id<Peering>),
    /// A balancer in front of devices that pass packets on.
    Balancer(Id<Balancer>),
    /// A hub, by the place of one of its links.
    Hub(Id<Hub>, usize),
    /// The public door of a platform service.
    Service(Id<PlatformService>),
    /// A private door of a platform service.
    Door(Id<Interface>),
    /// The platform's own shared address: no route.
    SharedAddress,
    /// A next hop that does not exist, is down or is not attached.
    Dead,
    /// What is missing from the snapshot.
    Unknown,
}

/// A route that wins for some addresses.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Winner {
    /// Where it leads.
    pub hop: Hop,
    /// Where it was written; none for an automatic one.
    pub origin: Option<Origin>,
}

/// The addresses for which the same routes win; none win: no route.
#[derive(Clone, Debug)]
pub struct Routed {
    /// The destinations.
    pub addresses: Addresses,
    /// The routes that win, all equal; nature takes any of them. What is missing from the snapshot, if that may decide.
    pub winners: Vec<Winner>,
    /// Where what is missing from the snapshot may decide: what wins otherwise, and what may win instead.
    pub open: Option<OpenRoutes>,
}

/// Routes that may win, depending on what is missing from the snapshot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpenRoutes {
    /// Those that win if none of the others does.
    pub winners: Vec<Winner>,
    /// Those that win if all of their doubts hold, the first before the others.
    pub perhaps: Vec<(Vec<Doubt>, Winner)>,
}

/// A route that may win for some addresses, depending on what is missing from the snapshot.
#[derive(Clone, Debug)]
struct Perhaps {
    /// Where it may win.
    region: Addresses,
    /// Where it may apply: to these sources, if it is limited.
    only_from: Option<Addresses>,
    /// Its length; none if it may be as long as can be.
    length: Option<u8>,
    kind: RouteKind,
    metric: u32,
    /// The peers of which one must hold an address of the packet, for the route to be about it.
    holds: Option<(heronshale_model::estate::Peer, At)>,
    winner: Winner,
}

/// One prefix of one route that applies at a place.
#[derive(Clone, Debug)]
pub struct Candidate {
    /// The prefix.
    pub range: Range,
    /// Its length.
    pub length: u8,
    /// How it came here.
    pub kind: RouteKind,
    /// Lowest first.
    pub metric: u32,
    /// Where it leads, and where it was written.
    pub winner: Winner,
    /// The sources it is limited to; none for all.
    pub only_from: Option<Addresses>,
}

/// Where a packet is routed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct RoutePlace<'e> {
    /// The network.
    pub network: Id<Network>,
    /// The subnet; none for places outside of all subnets.
    pub subnet: Option<Id<Subnet>>,
    /// The interface that sends, for routes that are limited to tags.
    pub sender: Option<Id<Interface>>,
    /// The table; none for automatic routes only.
    pub table: Option<&'e Reference<RouteTable>>,
}

impl<'e> RoutePlace<'e> {
    /// What stands in a subnet.
    pub fn in_subnet(view: &View<'e>, subnet: Id<Subnet>, sender: Option<Id<Interface>>) -> Self {
        let network = view.estate.subnets[subnet].network;
        Self {
            network,
            subnet: Some(subnet),
            sender,
            table: table_of(view, subnet),
        }
    }

    /// What stands outside of all subnets: automatic routes only.
    pub fn outside(network: Id<Network>) -> Self {
        Self {
            network,
            subnet: None,
            sender: None,
            table: None,
        }
    }
}

/// All routes that apply at a place, those that win first in front.
#[derive(Clone, Debug)]
pub struct Candidates {
    /// In order of precedence; equal ones as written.
    pub all: Vec<Candidate>,
    /// Routes that may be there, or may win, depending on what is missing from the snapshot.
    perhaps: Vec<Perhaps>,
    /// What takes IPv4 that no route takes.
    pub last: Option<Hop>,
    first_only: bool,
    fixed: bool,
}

/// The table of a subnet: its own, else the network's main table; none for automatic routes only.
pub fn table_of<'e>(view: &View<'e>, subnet: Id<Subnet>) -> Option<&'e Reference<RouteTable>> {
    let item = &view.estate.subnets[subnet];
    let own = item
        .route_table
        .as_ref()
        .filter(|_| !has(Fault::RouteMainTableAlways));
    own.or(view.estate.networks[item.network].main_table.as_ref())
}

/// Which routes win for packets from an interface, or from anything in a subnet, to these addresses.
pub fn routed(
    view: &View<'_>,
    subnet: Id<Subnet>,
    sender: Option<Id<Interface>>,
    source: Option<IpAddr>,
    addresses: &Addresses,
) -> Vec<Routed> {
    let candidates = candidates(view, RoutePlace::in_subnet(view, subnet, sender));
    let applies = |candidate: &&Candidate| match (&candidate.only_from, source) {
        (None, _) => true,
        (Some(from), Some(source)) => from.contains(source),
        (Some(_), None) => false,
    };
    let perhaps: Vec<&Perhaps> = candidates.perhaps.iter().collect();
    candidates.winners(candidates.all.iter().filter(applies), &perhaps, addresses)
}

/// Splits packets by the routes that win for them at a place. `mirrored`: they are requests whose replies are routed.
pub fn routed_packets(
    candidates: &Candidates,
    packets: &PacketSet,
    mirrored: bool,
) -> Vec<(PacketSet, Vec<Winner>)> {
    routes_of(candidates, packets, mirrored)
        .into_iter()
        .map(|(set, routed)| (set, routed.winners))
        .collect()
}

/// The same, with what may win depending on what is missing from the snapshot.
pub(crate) fn routes_of(
    candidates: &Candidates,
    packets: &PacketSet,
    mirrored: bool,
) -> Vec<(PacketSet, Routed)> {
    let (mut sources, mut destinations) = (packets.sources(), packets.destinations());
    if mirrored {
        std::mem::swap(&mut sources, &mut destinations);
    }
    let mut limits: Vec<&Addresses> = Vec::new();
    let limited = candidates
        .all
        .iter()
        .filter_map(|candidate| candidate.only_from.as_ref());
    for from in limited.chain(
        candidates
            .perhaps
            .iter()
            .filter_map(|one| one.only_from.as_ref()),
    ) {
        if !limits.contains(&from) {
            limits.push(from);
        }
    }
    // Sources that the same limits hold.
    let mut parts: Vec<(Addresses, Vec<bool>)> = vec![(sources, Vec::new())];
    for limit in &limits {
        let split = |(part, held): &(Addresses, Vec<bool>)| {
            let with =
                |part: Addresses, is: bool| (part, held.iter().copied().chain([is]).collect());
            [
                with(part.intersection(limit), true),
                with(part.difference(limit), false),
            ]
        };
        parts = parts
            .iter()
            .flat_map(split)
            .filter(|(part, _)| !part.is_empty())
            .collect();
    }
    let mut found: Vec<(PacketSet, Routed)> = Vec::new();
    for (part, held) in &parts {
        let within = |only_from: &Option<Addresses>| {
            let is_held = |from| {
                limits
                    .iter()
                    .position(|limit| *limit == from)
                    .is_some_and(|at| held[at])
            };
            only_from.as_ref().is_none_or(is_held)
        };
        let applying = candidates
            .all
            .iter()
            .filter(|candidate| within(&candidate.only_from));
        let perhaps: Vec<&Perhaps> = candidates
            .perhaps
            .iter()
            .filter(|one| within(&one.only_from))
            .collect();
        let mut routes = candidates.winners(applying, &perhaps, &destinations);
        if let ([_], [_]) = (routes.as_slice(), parts.as_slice()) {
            return routes
                .drain(..)
                .map(|routed| (packets.clone(), routed.turned(mirrored)))
                .collect();
        }
        for routed in routes {
            let (from, to) = if mirrored {
                (&routed.addresses, part)
            } else {
                (part, &routed.addresses)
            };
            let here = packets.between(Some(from), Some(to));
            if !here.is_empty() {
                found.push((here, routed.turned(mirrored)));
            }
        }
    }
    found
}

impl Routed {
    /// The same for packets of which the requests are told.
    fn turned(mut self, mirrored: bool) -> Self {
        if let Some(open) = self.open.as_mut().filter(|_| mirrored) {
            for (doubts, _) in &mut open.perhaps {
                for doubt in doubts {
                    *doubt = doubt.mirrored();
                }
            }
        }
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use heronshale_sets::address::Family;

    #[test]
    fn the_prefixes_of_a_run_are_exactly_the_run_and_no_two_could_be_one() {
        let mut random = fastrand::Rng::with_seed(5);
        for _ in 0..2_000 {
            let family = Family::BOTH[random.usize(0..2)];
            let last = heronshale_sets::address::last_of(family);
            let bounds = [
                0,
                last,
                random.u128(0..=last),
                random.u128(0..=last),
                last / 2,
                last / 2 + 1,
            ];
            let (a, b) = (bounds[random.usize(0..6)], bounds[random.usize(0..6)]);
            let run = Range {
                family,
                first: a.min(b),
                last: a.max(b),
            };
            let parts = prefixes(&run);
            assert!(
                parts.iter().all(|part| part.prefix_length().is_some()),
                "{run}"
            );
            assert!(
                parts
                    .windows(2)
                    .all(|pair| pair[0].last + 1 == pair[1].first),
                "{run}"
            );
            assert_eq!(
                (parts[0].first, parts[parts.len() - 1].last),
                (run.first, run.last),
                "{run}"
            );
            let joined = |pair: &[Range]| {
                Range {
                    family,
                    first: pair[0].first,
                    last: pair[1].last,
                }
                .prefix_length()
            };
            assert!(parts.windows(2).all(|pair| joined(pair).is_none()), "{run}");
        }
    }
}
