//! Which route wins for which addresses (design 2.4).

use crate::address::{Addresses, Range};
use crate::faults::{Fault, has};
use crate::model::{
    AddressSet, AutomaticRoutes, EqualRoutes, Gateway, GatewayKind, Id, Interface, MissingNextHop, Network, NextHop,
    Peering, Reference, Route, RouteDestination, RouteKind, RouteTable, SetItem, Subnet,
};
use crate::source::Origin;
use crate::view::View;
use std::net::IpAddr;

/// By what a winning route leads on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hop {
    /// Straight to the interface that holds the destination.
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
    /// A next hop that does not exist, is down or is not attached.
    Dead,
    /// What the snapshot lacks.
    Unknown,
}

/// A route that wins for some addresses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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
    /// The routes that win, all equal; nature takes any of them.
    pub winners: Vec<Winner>,
}

struct Candidate {
    range: Range,
    length: u8,
    kind: RouteKind,
    metric: u32,
    winner: Winner,
}

/// The table of a subnet: its own, else the network's main table; none for automatic routes only.
pub fn table_of<'e>(view: &View<'e>, subnet: Id<Subnet>) -> Option<&'e Reference<RouteTable>> {
    let item = &view.estate.subnets[subnet];
    let own = item.route_table.as_ref().filter(|_| !has(Fault::RouteMainTableAlways));
    own.or(view.estate.networks[item.network].main_table.as_ref())
}

/// Which routes win for packets from a subnet to these addresses.
pub fn routed(view: &View<'_>, subnet: Id<Subnet>, addresses: &Addresses) -> Vec<Routed> {
    let network = view.estate.subnets[subnet].network;
    let settings = view.settings(network);
    let mut candidates = automatic(view, network);
    let mut doubtful: Vec<Hop> = Vec::new();
    match table_of(view, subnet) {
        Some(Reference::Missing(_)) => return vec![unknown(addresses)],
        Some(Reference::Found(table))
            if view.lacks("table", &view.estate.route_tables[*table].name, crate::model::Lack::Routes) =>
        {
            return vec![unknown(addresses)];
        }
        Some(Reference::Found(table)) => {
            let routes = view.estate.route_tables[*table].routes.iter();
            let routes = routes.filter(|route| route.enabled || has(Fault::RouteDisabledCounts));
            for route in routes {
                candidates.extend(written(view, network, route));
                if route.destinations.iter().any(|destination| is_open(view, destination)) {
                    doubtful.push(hop(view, network, &route.next_hop));
                }
            }
        }
        None => {}
    }
    if settings.missing_next_hop == MissingNextHop::Skipped && !has(Fault::RouteMissingLost) {
        candidates.retain(|candidate| candidate.winner.hop != Hop::Dead);
    }
    let fixed = settings.automatic_routes == AutomaticRoutes::Fixed && !has(Fault::RouteFixedIgnored);
    candidates.sort_by_key(|candidate| {
        let first = fixed && candidate.kind == RouteKind::Automatic;
        let length = if has(Fault::RouteShortestWins) { u8::MAX - candidate.length } else { candidate.length };
        let kind = if has(Fault::RouteKindsAlike) { RouteKind::Static } else { candidate.kind };
        let metric = if has(Fault::RouteMetricIgnored) { 0 } else { candidate.metric };
        (!first, std::cmp::Reverse(length), kind, metric)
    });
    let mut rest = addresses.clone();
    let mut found: Vec<Routed> = Vec::new();
    let same = |a: &Candidate, b: &Candidate| {
        let metric = a.metric == b.metric || has(Fault::RouteMetricIgnored);
        (a.length, a.kind) == (b.length, b.kind) && metric
    };
    for group in candidates.chunk_by(same) {
        for candidate in group {
            let here = rest.intersection(&[candidate.range].into_iter().collect());
            if here.is_empty() {
                continue;
            }
            let equal = group.iter().filter(|other| other.range == candidate.range).map(|other| other.winner);
            let first = settings.equal_routes == EqualRoutes::First || has(Fault::RouteFirstAlways);
            let most = if first { 1 } else { usize::MAX };
            let winners: Vec<Winner> = equal.take(most).collect();
            rest = rest.difference(&here);
            match found.iter_mut().find(|routed| routed.winners == winners) {
                Some(routed) => routed.addresses = routed.addresses.union(&here),
                None => found.push(Routed { addresses: here, winners }),
            }
        }
    }
    if !rest.is_empty() {
        found.push(Routed { addresses: rest, winners: Vec::new() });
    }
    // A route to a set whose content is not known may win for any address.
    for routed in &mut found {
        let same = |winner: &Winner| doubtful.iter().all(|hop| *hop == winner.hop);
        if !doubtful.is_empty() && (routed.winners.is_empty() || !routed.winners.iter().all(same)) {
            routed.winners = vec![Winner { hop: Hop::Unknown, origin: None }];
        }
    }
    found
}

/// Whether the snapshot does not say all that a destination holds.
fn is_open(view: &View<'_>, destination: &RouteDestination) -> bool {
    match destination {
        RouteDestination::Block(_) => false,
        RouteDestination::Set(Reference::Missing(_)) => true,
        RouteDestination::Set(Reference::Found(set)) => !view.set(*set).matched.maybe.is_empty(),
    }
}

fn unknown(addresses: &Addresses) -> Routed {
    Routed { addresses: addresses.clone(), winners: vec![Winner { hop: Hop::Unknown, origin: None }] }
}

/// Routes to the network's own blocks and over its peerings.
fn automatic(view: &View<'_>, network: Id<Network>) -> Vec<Candidate> {
    let estate = view.estate;
    let to = |blocks: &Addresses, hop: Hop| {
        let prefixes: Vec<Range> = blocks.ranges().flat_map(|range| prefixes(&range)).collect();
        prefixes.into_iter().map(move |range| Candidate {
            range,
            length: range.prefix_length().unwrap_or(0),
            kind: RouteKind::Automatic,
            metric: 0,
            winner: Winner { hop, origin: None },
        })
    };
    let mut all: Vec<Candidate> = to(&estate.networks[network].blocks, Hop::Local).collect();
    for (id, peering) in estate.peerings.iter().filter(|(_, peering)| peering.is_up()) {
        let here = peering.sides.iter().find(|side| side.network.found() == Some(network));
        if let (Some(side), Some(other)) = (here, peering.opposite(network))
            && side.automatic_routes
            && !has(Fault::RoutePeeringForgotten)
        {
            match other {
                Reference::Found(other) => all.extend(to(&estate.networks[*other].blocks, Hop::Peering(id))),
                Reference::Missing(name) => {
                    let object = format!("network:{name}");
                    let blocks =
                        estate.gaps.iter().find(|gap| *gap.object == object).and_then(|gap| gap.blocks.clone());
                    all.extend(to(&blocks.unwrap_or_default(), Hop::Unknown));
                }
            }
        }
    }
    all
}

fn written(view: &View<'_>, network: Id<Network>, route: &Route) -> Vec<Candidate> {
    let mut ranges: Vec<Range> = Vec::new();
    for destination in &route.destinations {
        match destination {
            RouteDestination::Block(block) => ranges.extend(prefixes(&block.range)),
            RouteDestination::Set(Reference::Found(set)) => collect_set(view, *set, &mut Vec::new(), &mut ranges),
            RouteDestination::Set(Reference::Missing(_)) => {}
        }
    }
    let winner = Winner { hop: hop(view, network, &route.next_hop), origin: Some(route.origin) };
    let candidate = |range: Range| Candidate {
        range,
        length: range.prefix_length().unwrap_or(0),
        kind: route.kind,
        metric: route.metric,
        winner,
    };
    ranges.into_iter().map(candidate).collect()
}

/// The prefixes of a set as written: their lengths count.
fn collect_set(view: &View<'_>, set: Id<AddressSet>, seen: &mut Vec<Id<AddressSet>>, ranges: &mut Vec<Range>) {
    if seen.contains(&set) {
        return;
    }
    seen.push(set);
    for item in view.estate.address_sets[set].content.iter().flatten() {
        match item {
            SetItem::Block(block) => ranges.extend(prefixes(&block.range)),
            SetItem::Set(Reference::Found(inner)) => collect_set(view, *inner, seen, ranges),
            SetItem::Set(Reference::Missing(_)) => {}
        }
    }
}

/// The fewest prefixes that are exactly a run of addresses.
fn prefixes(range: &Range) -> Vec<Range> {
    let mut parts = Vec::new();
    let mut first = range.first;
    loop {
        let aligned = if first == 0 { 128 } else { first.trailing_zeros() };
        let left = range.last - first;
        let fits = if left == u128::MAX { 128 } else { 127 - (left + 1).leading_zeros() };
        let bits = aligned.min(fits).min(u32::from(range.family.bits()));
        let size = if bits >= 128 { u128::MAX } else { (1_u128 << bits) - 1 };
        parts.push(Range { family: range.family, first, last: first + size });
        if first + size >= range.last {
            return parts;
        }
        first += size + 1;
    }
}

fn hop(view: &View<'_>, network: Id<Network>, next: &NextHop) -> Hop {
    let estate = view.estate;
    let lacking = |kind: &str, name: &str| {
        if view.lacks(kind, name, crate::model::Lack::Everything) { Hop::Unknown } else { Hop::Dead }
    };
    match next {
        NextHop::Local => Hop::Local,
        NextHop::Blackhole => Hop::Blackhole,
        NextHop::Gateway(Reference::Found(gateway)) => match estate.gateways[*gateway].kind {
            GatewayKind::Internet { attached: false } => Hop::Dead,
            _ if estate.gateways[*gateway].network != network => Hop::Dead,
            _ => Hop::Gateway(*gateway),
        },
        NextHop::Gateway(Reference::Missing(name)) => lacking("gateway", name),
        NextHop::Interface(Reference::Found(interface)) => forwarding(view, *interface),
        NextHop::Interface(Reference::Missing(name)) => lacking("interface", name),
        NextHop::Address(address) => holder(view, network, *address).map_or(Hop::Dead, |found| forwarding(view, found)),
        NextHop::Peering(Reference::Found(peering)) => {
            let item = &estate.peerings[*peering];
            if item.is_up() && item.opposite(network).is_some() { Hop::Peering(*peering) } else { Hop::Dead }
        }
        NextHop::Peering(Reference::Missing(name)) => lacking("peering", name),
    }
}

fn forwarding(view: &View<'_>, interface: Id<Interface>) -> Hop {
    if view.estate.interfaces[interface].forwards { Hop::Interface(interface) } else { Hop::MayNotForward(interface) }
}

/// The interface of a network, or of one peered with it, that holds an address.
fn holder(view: &View<'_>, network: Id<Network>, address: IpAddr) -> Option<Id<Interface>> {
    let near = |other: Id<Network>| {
        let joins = |peering: &crate::model::Peering| {
            peering.is_up() && peering.opposite(network) == Some(&Reference::Found(other))
        };
        other == network || view.estate.peerings.items().iter().any(joins)
    };
    let holds = view.estate.interfaces.iter().filter(|(_, interface)| interface.addresses.contains(address));
    let mut all: Vec<Id<Interface>> = holds.map(|(id, _)| id).filter(|id| near(view.estate.network_of(*id))).collect();
    all.sort_by_key(|id| view.estate.network_of(*id) != network);
    all.first().copied()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::address::Family;

    #[test]
    fn the_prefixes_of_a_run_are_exactly_the_run_and_no_two_could_be_one() {
        let mut random = fastrand::Rng::with_seed(5);
        for _ in 0..2_000 {
            let family = Family::BOTH[random.usize(0..2)];
            let last = crate::address::last_of(family);
            let bounds = [0, last, random.u128(0..=last), random.u128(0..=last), last / 2, last / 2 + 1];
            let (a, b) = (bounds[random.usize(0..6)], bounds[random.usize(0..6)]);
            let run = Range { family, first: a.min(b), last: a.max(b) };
            let parts = prefixes(&run);
            assert!(parts.iter().all(|part| part.prefix_length().is_some()), "{run}");
            assert!(parts.windows(2).all(|pair| pair[0].last + 1 == pair[1].first), "{run}");
            assert_eq!((parts[0].first, parts[parts.len() - 1].last), (run.first, run.last), "{run}");
            let joined = |pair: &[Range]| Range { family, first: pair[0].first, last: pair[1].last }.prefix_length();
            assert!(parts.windows(2).all(|pair| joined(pair).is_none()), "{run}");
        }
    }
}
