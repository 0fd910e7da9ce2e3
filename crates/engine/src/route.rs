//! Which route wins for which addresses (`docs/semantics.md`).

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
    /// What the snapshot lacks.
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
    /// The routes that win, all equal; nature takes any of them. What the snapshot lacks, if that may decide.
    pub winners: Vec<Winner>,
    /// Where what the snapshot lacks may decide: what wins otherwise, and what may win instead.
    pub open: Option<OpenRoutes>,
}

/// Routes that may win, depending on what the snapshot lacks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpenRoutes {
    /// Those that win if none of the others does.
    pub winners: Vec<Winner>,
    /// Those that win if all of their doubts hold, the first before the others.
    pub perhaps: Vec<(Vec<Doubt>, Winner)>,
}

/// A route that may win for some addresses, depending on what the snapshot lacks.
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
    /// Routes that may be there, or may win, depending on what the snapshot lacks.
    perhaps: Vec<Perhaps>,
    /// What takes IPv4 that no route takes.
    pub last: Option<Hop>,
    first_only: bool,
    fixed: bool,
}

/// Where a route stands among those that apply: the lowest wins.
type Precedence = (bool, std::cmp::Reverse<u8>, RouteKind, u32);

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

/// The same, with what may win depending on what the snapshot lacks.
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

impl Candidates {
    /// Where routes may lead of which that depends on what the snapshot lacks.
    pub(crate) fn perhaps_of(&self, leads: impl Fn(&Winner) -> bool) -> Addresses {
        let open = self.perhaps.iter().filter(|one| leads(&one.winner));
        open.fold(Addresses::empty(), |sum, one| sum.union(&one.region))
    }

    fn none() -> Self {
        Self {
            all: Vec::new(),
            perhaps: Vec::new(),
            last: None,
            first_only: false,
            fixed: false,
        }
    }

    /// Routes that may lead anywhere, of which the snapshot says nothing.
    fn lacking(&mut self, kind: RouteKind, region: Addresses) {
        let winner = Winner {
            hop: Hop::Unknown,
            origin: None,
        };
        self.perhaps.push(Perhaps {
            region,
            only_from: None,
            length: None,
            kind,
            metric: 0,
            holds: None,
            winner,
        });
    }

    /// Whether two candidates are equal in all that decides.
    fn same(a: &Candidate, b: &Candidate) -> bool {
        let metric = a.metric == b.metric || has(Fault::RouteMetricIgnored);
        (a.length, a.kind) == (b.length, b.kind) && metric
    }

    fn precedence(&self, length: u8, kind: RouteKind, metric: u32) -> Precedence {
        let first = self.fixed && kind == RouteKind::Automatic;
        let length = if has(Fault::RouteShortestWins) {
            u8::MAX - length
        } else {
            length
        };
        let kind = if has(Fault::RouteKindsAlike) {
            RouteKind::Static
        } else {
            kind
        };
        let metric = if has(Fault::RouteMetricIgnored) {
            0
        } else {
            metric
        };
        (!first, std::cmp::Reverse(length), kind, metric)
    }

    fn winners<'c>(
        &self,
        all: impl Iterator<Item = &'c Candidate>,
        perhaps: &[&Perhaps],
        addresses: &Addresses,
    ) -> Vec<Routed> {
        let touches = |candidate: &&Candidate| {
            addresses
                .of(candidate.range.family)
                .touches(candidate.range.first, candidate.range.last)
        };
        let all: Vec<&Candidate> = all.filter(touches).collect();
        let mut rest = addresses.clone();
        let mut found: Vec<Routed> = Vec::new();
        let mut add = |addresses: Addresses, winners: Vec<Winner>, than: Option<Precedence>| {
            for (addresses, open) in self.split(addresses, &winners, than, perhaps) {
                let unknown = || {
                    vec![Winner {
                        hop: Hop::Unknown,
                        origin: None,
                    }]
                };
                let winners = if open.is_some() {
                    unknown()
                } else {
                    winners.clone()
                };
                match found
                    .iter_mut()
                    .find(|r| r.winners == winners && r.open == open)
                {
                    Some(routed) => routed.addresses = routed.addresses.union(&addresses),
                    None => found.push(Routed {
                        addresses,
                        winners,
                        open,
                    }),
                }
            }
        };
        for group in all.chunk_by(|a, b| Self::same(a, b)) {
            for candidate in group {
                if !rest
                    .of(candidate.range.family)
                    .touches(candidate.range.first, candidate.range.last)
                {
                    continue;
                }
                let here = rest.intersection(&[candidate.range].into_iter().collect());
                if here.is_empty() {
                    continue;
                }
                let equal = group
                    .iter()
                    .filter(|other| other.range == candidate.range)
                    .map(|other| other.winner);
                let first = self.first_only || has(Fault::RouteFirstAlways);
                let most = if first { 1 } else { usize::MAX };
                let mut winners: Vec<Winner> = Vec::new();
                for winner in equal.take(most) {
                    // Branches that are equal count once.
                    if !winners.iter().any(|known| known.hop == winner.hop) {
                        winners.push(winner);
                    }
                }
                rest = rest.difference(&here);
                add(
                    here,
                    winners,
                    Some(self.precedence(candidate.length, candidate.kind, candidate.metric)),
                );
            }
        }
        if let Some(last) = self.last {
            let here = rest.intersection(&Addresses::of_family(Family::V4));
            rest = rest.difference(&here);
            if !here.is_empty() {
                add(
                    here,
                    vec![Winner {
                        hop: last,
                        origin: None,
                    }],
                    None,
                );
            }
        }
        if !rest.is_empty() {
            add(rest, Vec::new(), None);
        }
        found
    }

    /// Addresses for which the same routes win, by what may win instead. `than`: where the winners stand; none: last of all.
    fn split(
        &self,
        addresses: Addresses,
        winners: &[Winner],
        than: Option<Precedence>,
        perhaps: &[&Perhaps],
    ) -> Vec<(Addresses, Option<OpenRoutes>)> {
        let mut parts: Vec<(Addresses, Option<OpenRoutes>)> = vec![(addresses, None)];
        for (at, one) in (0_u32..).zip(perhaps) {
            let mut next = Vec::with_capacity(parts.len());
            for (part, open) in parts {
                let mut here = part.intersection(&one.region);
                if let Some(than) = than {
                    for family in Family::BOTH {
                        let length = one.length.unwrap_or(family.bits());
                        if self.precedence(length, one.kind, one.metric) > than {
                            here = here.difference(&Addresses::of_family(family));
                        }
                    }
                }
                if here.is_empty() || winners == [one.winner] {
                    next.push((part, open));
                    continue;
                }
                let rest = part.difference(&here);
                if !rest.is_empty() {
                    next.push((rest, open.clone()));
                }
                let mut open = open.unwrap_or_else(|| OpenRoutes {
                    winners: winners.to_vec(),
                    perhaps: Vec::new(),
                });
                let holds = one.holds.clone().map(|(peer, at)| Doubt {
                    what: Unsaid::Holds(peer),
                    at,
                });
                let wins = Doubt {
                    what: Unsaid::Wins(one.winner.origin, at),
                    at: At::Destination,
                };
                open.perhaps
                    .push((holds.into_iter().chain([wins]).collect(), one.winner));
                next.push((here, Some(open)));
            }
            parts = next;
        }
        parts
    }

    fn sort(&mut self, settings: &Settings) {
        if settings.missing_next_hop == MissingNextHop::Skipped && !has(Fault::RouteMissingLost) {
            self.all
                .retain(|candidate| candidate.winner.hop != Hop::Dead);
        }
        self.fixed =
            settings.automatic_routes == AutomaticRoutes::Fixed && !has(Fault::RouteFixedIgnored);
        let mut all = std::mem::take(&mut self.all);
        all.sort_by_key(|candidate| {
            self.precedence(candidate.length, candidate.kind, candidate.metric)
        });
        self.all = all;
        self.first_only = settings.equal_routes == EqualRoutes::First;
    }
}

/// The routes that apply at a place.
pub fn candidates(view: &View<'_>, place: RoutePlace<'_>) -> Candidates {
    let network = place.network;
    let mut found = Candidates::none();
    found.all = automatic(view, network);
    lacking_automatic(view, network, &mut found);
    if view.lacks("network", &view.estate.networks[network].name, Lack::Routes) {
        found.lacking(RouteKind::Static, Addresses::all());
    }
    match place.table {
        Some(Reference::Missing(_)) => found.lacking(RouteKind::Static, Addresses::all()),
        Some(Reference::Found(table)) => {
            let table = &view.estate.route_tables[*table];
            if view.lacks("table", &table.name, Lack::Routes) {
                found.lacking(RouteKind::Static, Addresses::all());
            }
            let routes = table
                .routes
                .iter()
                .filter(|route| route.enabled || has(Fault::RouteDisabledCounts));
            let for_sender = |route: &&Route| {
                route.only_tagged.is_empty()
                    || has(Fault::RouteTagLimitIgnored)
                    || place
                        .sender
                        .is_some_and(|sender| view.estate.has_tags(sender, &route.only_tagged))
            };
            for route in routes.filter(for_sender) {
                let written = written(view, place, route);
                written_in_doubt(
                    view,
                    route,
                    &written,
                    hop(view, place, &route.next_hop),
                    &mut found,
                );
                found.all.extend(written);
            }
            if table.accepts_propagation && !has(Fault::RoutePropagationIgnored) {
                propagated(view, network, &mut found);
            }
        }
        None => {}
    }
    found.sort(view.settings(network));
    found.last = place.subnet.and_then(|subnet| last_resort(view, subnet));
    found
}

/// What a written route may match besides: destinations, and sources to which it is limited, that nobody knows.
fn written_in_doubt(
    view: &View<'_>,
    route: &Route,
    written: &[Candidate],
    hop: Hop,
    found: &mut Candidates,
) {
    let winner = Winner {
        hop,
        origin: Some(route.origin),
    };
    let only_from = written
        .first()
        .and_then(|candidate| candidate.only_from.clone());
    let only_from = only_from.or_else(|| {
        let limit = route
            .only_from
            .as_ref()
            .filter(|_| !has(Fault::RouteSourceLimitIgnored));
        limit.map(|from| ranges_of(view, from).into_iter().collect())
    });
    for peer in open_parts(view, &route.destinations) {
        found.perhaps.push(Perhaps {
            region: Addresses::all(),
            only_from: only_from.clone(),
            length: None,
            kind: route.kind,
            metric: route.metric,
            holds: Some((peer, At::Destination)),
            winner,
        });
    }
    for peer in open_parts(view, route.only_from.as_deref().unwrap_or(&[])) {
        for candidate in written {
            found.perhaps.push(Perhaps {
                region: [candidate.range].into_iter().collect(),
                only_from: None,
                length: Some(candidate.length),
                kind: route.kind,
                metric: route.metric,
                holds: Some((peer.clone(), At::Source)),
                winner,
            });
        }
    }
}

/// The parts of destinations whose content is not known.
pub fn open_parts(
    view: &View<'_>,
    destinations: &[RouteDestination],
) -> Vec<heronshale_model::estate::Peer> {
    let of = |destination: &RouteDestination| match destination {
        RouteDestination::Block(_) => Vec::new(),
        RouteDestination::Set(Reference::Found(set)) => view.set(*set).open.clone(),
        RouteDestination::Set(missing) => {
            vec![heronshale_model::estate::Peer::AddressSet(missing.clone())]
        }
    };
    destinations.iter().flat_map(of).collect()
}

/// Automatic routes that what the snapshot lacks may bring: over peerings with networks whose blocks are not known, over peerings
/// that are lacking themselves. None is longer than a known block within it.
fn lacking_automatic(view: &View<'_>, network: Id<Network>, found: &mut Candidates) {
    let estate = view.estate;
    for peering in estate
        .peerings
        .items()
        .iter()
        .filter(|peering| peering.is_up())
    {
        let (Some(side), Some(Reference::Missing(name))) =
            (peering.side(network), peering.opposite(network))
        else {
            continue;
        };
        let (blocks, known) = view.lacking_blocks(name);
        if side.automatic_routes && !known {
            found.lacking(RouteKind::Automatic, blocks.clone());
        }
        if side.use_gateways {
            found.lacking(RouteKind::OtherAutomatic, Addresses::all());
        }
    }
    if view.lacks_any(&["peering"]) {
        let joined = |other: Id<Network>| other == network || joins(view, network, other).is_some();
        let elsewhere = view
            .lacking("network")
            .map(|gap| (gap.blocks.as_ref().unwrap_or(view.elsewhere()), None));
        let others = estate.networks.iter().filter(|(id, _)| !joined(*id));
        let others = others
            .flat_map(|(_, other)| &other.written_blocks)
            .flat_map(prefixes);
        for range in others {
            let winner = Winner {
                hop: Hop::Unknown,
                origin: None,
            };
            let (region, length) = ([range].into_iter().collect(), range.prefix_length());
            let kind = RouteKind::Automatic;
            found.perhaps.push(Perhaps {
                region,
                only_from: None,
                length,
                kind,
                metric: 0,
                holds: None,
                winner,
            });
        }
        for (blocks, _) in elsewhere.collect::<Vec<(&Addresses, Option<()>)>>() {
            found.lacking(RouteKind::Automatic, blocks.clone());
        }
        // It may lend the site gateways of whatever it leads to.
        found.lacking(RouteKind::OtherAutomatic, Addresses::all());
    }
    let lent = estate.peerings.items().iter().any(|peering| {
        let other = peering.opposite(network).and_then(Reference::found);
        let lends = other
            .and_then(|other| peering.side(other))
            .is_some_and(|side| side.lend_gateways);
        lends && peering.is_up() && peering.side(network).is_some_and(|side| side.use_gateways)
    });
    if lent && view.lacks_any(&["gateway"]) {
        found.lacking(RouteKind::OtherAutomatic, Addresses::all());
    }
    if view.lacks_any(&["gateway"]) {
        // A NAT gateway may serve what no route takes.
        let served = Addresses::of_family(Family::V4);
        let winner = Winner {
            hop: Hop::Unknown,
            origin: None,
        };
        let (kind, metric) = (RouteKind::OtherAutomatic, u32::MAX);
        found.perhaps.push(Perhaps {
            region: served,
            only_from: None,
            length: Some(0),
            kind,
            metric,
            holds: None,
            winner,
        });
    }
}

/// What takes IPv4 of a subnet that no route takes: a NAT gateway that serves it, else the platform's shared address.
pub fn last_resort(view: &View<'_>, subnet: Id<Subnet>) -> Option<Hop> {
    let serves = |gateway: &Gateway| matches!(&gateway.kind, GatewayKind::Nat { serves, .. } if serves.contains(&subnet));
    if has(Fault::RouteNoLastResort) {
        return None;
    }
    let nat = view
        .estate
        .gateways
        .iter()
        .find(|(_, gateway)| serves(gateway));
    nat.map(|(id, _)| Hop::Gateway(id)).or_else(|| {
        view.estate.subnets[subnet]
            .default_outbound
            .then_some(Hop::SharedAddress)
    })
}

fn of_blocks(
    blocks: &[Range],
    kind: RouteKind,
    hop: Hop,
) -> impl Iterator<Item = Candidate> + use<> {
    let prefixes: Vec<Range> = blocks.iter().flat_map(prefixes).collect();
    prefixes.into_iter().map(move |range| Candidate {
        range,
        length: range.prefix_length().unwrap_or(0),
        kind,
        metric: 0,
        winner: Winner { hop, origin: None },
        only_from: None,
    })
}

/// Routes to the network's own blocks and over its peerings, to lent gateways and private doors.
fn automatic(view: &View<'_>, network: Id<Network>) -> Vec<Candidate> {
    let estate = view.estate;
    let mut all: Vec<Candidate> = of_blocks(
        &estate.networks[network].written_blocks,
        RouteKind::Automatic,
        Hop::Local,
    )
    .collect();
    let mut near = vec![network];
    for (id, peering) in estate
        .peerings
        .iter()
        .filter(|(_, peering)| peering.is_up())
    {
        let (Some(side), Some(other)) = (peering.side(network), peering.opposite(network)) else {
            continue;
        };
        let automatic = side.automatic_routes && !has(Fault::RoutePeeringForgotten);
        match other {
            Reference::Found(other) => {
                near.push(*other);
                if automatic {
                    all.extend(of_blocks(
                        &estate.networks[*other].written_blocks,
                        RouteKind::Automatic,
                        Hop::Peering(id),
                    ));
                }
                for (gateway, site) in lent_gateways(view, peering, network) {
                    let announced = &estate.sites[site].written_announces;
                    all.extend(of_blocks(
                        announced,
                        RouteKind::OtherAutomatic,
                        Hop::Gateway(gateway),
                    ));
                }
            }
            Reference::Missing(name) if automatic => {
                if let (blocks, true) = view.lacking_blocks(name) {
                    let blocks: Vec<Range> = blocks.ranges().collect();
                    all.extend(of_blocks(&blocks, RouteKind::Automatic, Hop::Unknown));
                }
            }
            Reference::Missing(_) => {}
        }
    }
    for service in estate.services.items() {
        for door in &service.private_doors {
            let home = estate.network_of(*door);
            if view.settings(home).door_route == DoorRoute::Automatic && near.contains(&home) {
                let addresses: Vec<Range> = estate.interfaces[*door].addresses.ranges().collect();
                all.extend(of_blocks(
                    &addresses,
                    RouteKind::OtherAutomatic,
                    Hop::Door(*door),
                ));
            }
        }
    }
    all
}

/// The site gateways that the other side of a peering lends to a network that uses them, with their sites.
pub(crate) fn lent_gateways(
    view: &View<'_>,
    peering: &Peering,
    network: Id<Network>,
) -> Vec<(Id<Gateway>, Id<heronshale_model::estate::Site>)> {
    let other = peering.opposite(network).and_then(Reference::found);
    let used = peering.side(network).is_some_and(|side| side.use_gateways);
    let used = used && !has(Fault::RouteNothingLent);
    let lent = other
        .and_then(|other| peering.side(other))
        .is_some_and(|side| side.lend_gateways);
    let Some(other) = other.filter(|_| used && lent && peering.is_up()) else {
        return Vec::new();
    };
    site_gateways(view, other)
}

/// The site gateways of a network that are up, with their sites.
pub fn site_gateways(
    view: &View<'_>,
    network: Id<Network>,
) -> Vec<(Id<Gateway>, Id<heronshale_model::estate::Site>)> {
    let up = |(id, gateway): (Id<Gateway>, &Gateway)| match gateway.kind {
        GatewayKind::Site { site, up: true } if gateway.network == network => Some((id, site)),
        _ => None,
    };
    view.estate.gateways.iter().filter_map(up).collect()
}

/// The link of a network, site, hub or firewall at a hub: the first that is up.
pub fn link_of(hub: &Hub, wanted: impl Fn(&LinkEnd) -> bool) -> Option<(usize, &Link)> {
    hub.links
        .iter()
        .enumerate()
        .find(|(_, link)| link.up && wanted(&link.to))
}

/// What a table that accepts propagation learns.
fn propagated(view: &View<'_>, network: Id<Network>, found: &mut Candidates) {
    let estate = view.estate;
    for (gateway, site) in site_gateways(view, network) {
        let announced = &estate.sites[site].written_announces;
        found.all.extend(of_blocks(
            announced,
            RouteKind::Propagated,
            Hop::Gateway(gateway),
        ));
    }
    if view.lacks_any(&["gateway", "hub"]) {
        found.lacking(RouteKind::Propagated, Addresses::all());
    }
    let own = &estate.networks[network].blocks;
    for (id, hub) in estate.hubs.iter() {
        let is_ours = |to: &LinkEnd| *to == LinkEnd::Network(Reference::Found(network));
        let Some((at, link)) = link_of(hub, is_ours) else {
            continue;
        };
        let Some(domain) = link.reads else { continue };
        let domain = domain_candidates(view, id, domain);
        for mut learned in domain.all {
            let leads_back = learned.winner.hop == Hop::Hub(id, at);
            let dark = matches!(learned.winner.hop, Hop::Blackhole | Hop::Dead);
            let ours = Addresses::is_subset(&[learned.range].into_iter().collect(), own);
            let default = learned.length == 0
                && !link.offers_default
                && !has(Fault::RouteDefaultAlwaysOffered);
            if leads_back || dark || ours || default {
                continue;
            }
            learned.kind = RouteKind::Propagated;
            learned.winner.hop = Hop::Hub(id, at);
            found.all.push(learned);
        }
        for mut learned in domain.perhaps {
            if learned.winner.hop == Hop::Hub(id, at)
                || matches!(learned.winner.hop, Hop::Blackhole | Hop::Dead)
            {
                continue;
            }
            learned.kind = RouteKind::Propagated;
            learned.winner.hop = Hop::Hub(id, at);
            learned.region = learned.region.difference(own);
            found.perhaps.push(learned);
        }
    }
}

/// The routes of a hub's domain: static ones, and what links announce. [`Hop::Hub`] names the link that leads on.
pub fn domain_candidates(view: &View<'_>, hub: Id<Hub>, domain: usize) -> Candidates {
    let estate = view.estate;
    let item = &estate.hubs[hub];
    let mut found = Candidates::none();
    if view.lacks("hub", &item.name, Lack::Routes) {
        found.lacking(RouteKind::Static, Addresses::all());
    }
    for route in item.domains[domain]
        .routes
        .iter()
        .filter(|route| route.enabled)
    {
        let hop = match &route.hop {
            DomainHop::Blackhole => Hop::Blackhole,
            DomainHop::Link(at) if item.links[*at].up => Hop::Hub(hub, *at),
            DomainHop::Link(_) | DomainHop::Missing(_) => Hop::Dead,
        };
        let winner = Winner {
            hop,
            origin: Some(route.origin),
        };
        for range in ranges_of(view, &route.destinations) {
            let (length, kind, metric) = (
                range.prefix_length().unwrap_or(0),
                RouteKind::Static,
                route.metric,
            );
            found.all.push(Candidate {
                range,
                length,
                kind,
                metric,
                winner,
                only_from: None,
            });
        }
        for peer in open_parts(view, &route.destinations) {
            found.perhaps.push(Perhaps {
                region: Addresses::all(),
                only_from: None,
                length: None,
                kind: RouteKind::Static,
                metric: route.metric,
                holds: Some((peer, At::Destination)),
                winner,
            });
        }
    }
    for (at, link) in item.links.iter().enumerate() {
        if !link.up || !link.announces_into.contains(&domain) {
            continue;
        }
        found.all.extend(of_blocks(
            &announced(view, link),
            RouteKind::Propagated,
            Hop::Hub(hub, at),
        ));
        if let Some(region) = announced_unknown(view, link) {
            let winner = Winner {
                hop: Hop::Hub(hub, at),
                origin: None,
            };
            let kind = RouteKind::Propagated;
            found.perhaps.push(Perhaps {
                region,
                only_from: None,
                length: None,
                kind,
                metric: 0,
                holds: None,
                winner,
            });
        }
    }
    found.sort(view.settings(None));
    found
}

/// Where a link to something that the snapshot lacks may lead, beside what it is known to announce.
fn announced_unknown(view: &View<'_>, link: &Link) -> Option<Addresses> {
    if link.announces.is_some() {
        return None;
    }
    match &link.to {
        LinkEnd::Network(Reference::Missing(name)) => match view.lacking_blocks(name) {
            (_, true) => None,
            (blocks, false) => view
                .lacks("network", name, Lack::Everything)
                .then(|| blocks.clone()),
        },
        LinkEnd::Site(Reference::Missing(name)) => {
            let gap = view
                .lacking("site")
                .find(|gap| gap.object.strip_prefix("site:") == Some(name));
            gap.map(|gap| gap.blocks.clone().unwrap_or_else(Addresses::all))
        }
        _ => None,
    }
}

/// What a link announces.
pub fn announced(view: &View<'_>, link: &Link) -> Vec<Range> {
    let default = || match &link.to {
        LinkEnd::Network(Reference::Found(network)) => {
            view.estate.networks[*network].written_blocks.clone()
        }
        LinkEnd::Network(Reference::Missing(name)) => match view.lacking_blocks(name) {
            (blocks, true) => blocks.ranges().collect(),
            (_, false) => Vec::new(),
        },
        LinkEnd::Site(Reference::Found(site)) => view.estate.sites[*site].written_announces.clone(),
        LinkEnd::Site(Reference::Missing(_)) | LinkEnd::Hub(_) | LinkEnd::Firewall(_) => Vec::new(),
    };
    link.announces.clone().unwrap_or_else(default)
}

fn ranges_of(view: &View<'_>, destinations: &[RouteDestination]) -> Vec<Range> {
    let mut ranges: Vec<Range> = Vec::new();
    for destination in destinations {
        match destination {
            RouteDestination::Block(block) => ranges.extend(prefixes(&block.range)),
            RouteDestination::Set(Reference::Found(set)) => {
                collect_set(view, *set, &mut Vec::new(), &mut ranges)
            }
            RouteDestination::Set(Reference::Missing(_)) => {}
        }
    }
    ranges.sort_unstable();
    ranges.dedup();
    ranges
}

fn written(view: &View<'_>, place: RoutePlace<'_>, route: &Route) -> Vec<Candidate> {
    let winner = Winner {
        hop: hop(view, place, &route.next_hop),
        origin: Some(route.origin),
    };
    let limit = route
        .only_from
        .as_ref()
        .filter(|_| !has(Fault::RouteSourceLimitIgnored));
    let only_from = limit.map(|from| ranges_of(view, from).into_iter().collect::<Addresses>());
    let candidate = |range: Range| Candidate {
        range,
        length: range.prefix_length().unwrap_or(0),
        kind: route.kind,
        metric: route.metric,
        winner,
        only_from: only_from.clone(),
    };
    ranges_of(view, &route.destinations)
        .into_iter()
        .map(candidate)
        .collect()
}

/// The prefixes of a set as written: their lengths count.
fn collect_set(
    view: &View<'_>,
    set: Id<AddressSet>,
    seen: &mut Vec<Id<AddressSet>>,
    ranges: &mut Vec<Range>,
) {
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
pub fn prefixes(range: &Range) -> Vec<Range> {
    let mut parts = Vec::new();
    let mut first = range.first;
    loop {
        let aligned = if first == 0 {
            128
        } else {
            first.trailing_zeros()
        };
        let left = range.last - first;
        let fits = if left == u128::MAX {
            128
        } else {
            127 - (left + 1).leading_zeros()
        };
        let bits = aligned.min(fits).min(u32::from(range.family.bits()));
        let size = if bits >= 128 {
            u128::MAX
        } else {
            (1_u128 << bits) - 1
        };
        parts.push(Range {
            family: range.family,
            first,
            last: first + size,
        });
        if first + size >= range.last {
            return parts;
        }
        first += size + 1;
    }
}

/// The written route behind a winner.
pub fn written_route(
    estate: &heronshale_model::estate::Estate,
    origin: Origin,
) -> Option<(Id<RouteTable>, usize)> {
    estate.route_tables.iter().find_map(|(id, table)| {
        let at = table
            .routes
            .iter()
            .position(|route| route.origin == origin)?;
        Some((id, at))
    })
}

/// Where a written route leads, seen from a place.
pub fn hop(view: &View<'_>, place: RoutePlace<'_>, next: &NextHop) -> Hop {
    let estate = view.estate;
    let network = place.network;
    let lacking = |kind: &str, name: &str| {
        if view.lacks(kind, name, Lack::Everything) {
            Hop::Unknown
        } else {
            Hop::Dead
        }
    };
    match next {
        NextHop::Local => Hop::Local,
        NextHop::Blackhole => Hop::Blackhole,
        NextHop::Gateway(Reference::Found(id)) => {
            let gateway = &estate.gateways[*id];
            let dead = matches!(
                gateway.kind,
                GatewayKind::Internet {
                    attached: false,
                    ..
                } | GatewayKind::Site { up: false, .. }
            );
            let lent = || {
                estate
                    .peerings
                    .items()
                    .iter()
                    .any(|p| lent_gateways(view, p, network).iter().any(|(g, _)| g == id))
            };
            if dead {
                Hop::Dead
            } else if gateway.network != network && !lent() {
                if view.lacks_any(&["peering"]) {
                    Hop::Unknown
                } else {
                    Hop::Dead
                }
            } else {
                Hop::Gateway(*id)
            }
        }
        NextHop::Gateway(Reference::Missing(name)) => lacking("gateway", name),
        NextHop::Interface(Reference::Found(interface)) => near(view, network, *interface),
        NextHop::Interface(Reference::Missing(name)) => lacking("interface", name),
        NextHop::Address(address) => holder(view, network, *address),
        NextHop::Peering(Reference::Found(peering)) => {
            let item = &estate.peerings[*peering];
            match item.opposite(network) {
                Some(Reference::Missing(_)) if item.is_up() => Hop::Unknown,
                Some(_) if item.is_up() => Hop::Peering(*peering),
                _ => Hop::Dead,
            }
        }
        NextHop::Peering(Reference::Missing(name)) => lacking("peering", name),
        NextHop::Firewall(Reference::Found(firewall)) => {
            let item = &estate.firewalls[*firewall];
            match firewall_leg(view, place, *firewall) {
                _ if view.lacks("firewall", &item.name, Lack::Interfaces) => Hop::Unknown,
                // A firewall none of whose members is up is down.
                _ if item.members_up() == 0 && !has(Fault::WalkMembersAlwaysUp) => Hop::Dead,
                leg => leg,
            }
        }
        NextHop::Firewall(Reference::Missing(name)) => lacking("firewall", name),
        NextHop::Balancer(Reference::Found(balancer)) => {
            let home = estate.balancers[*balancer].network;
            if home == network || joins(view, network, home).is_some() {
                Hop::Balancer(*balancer)
            } else if view.lacks_any(&["peering"]) {
                Hop::Unknown
            } else {
                Hop::Dead
            }
        }
        NextHop::Balancer(Reference::Missing(name)) => lacking("balancer", name),
        NextHop::Hub(Reference::Found(hub)) => {
            let is_ours = |to: &LinkEnd| *to == LinkEnd::Network(Reference::Found(network));
            link_of(&estate.hubs[*hub], is_ours).map_or(Hop::Dead, |(at, _)| Hop::Hub(*hub, at))
        }
        NextHop::Hub(Reference::Missing(name)) => lacking("hub", name),
        NextHop::Service(Reference::Found(service)) => Hop::Service(*service),
        NextHop::Service(Reference::Missing(name)) => lacking("service", name),
    }
}

/// The peering, up on both sides, that joins two networks.
pub fn joins(view: &View<'_>, one: Id<Network>, other: Id<Network>) -> Option<Id<Peering>> {
    let fits = |peering: &Peering| {
        peering.is_up() && peering.opposite(one) == Some(&Reference::Found(other))
    };
    view.estate
        .peerings
        .iter()
        .find(|(_, peering)| fits(peering))
        .map(|(id, _)| id)
}

/// An interface as next hop: in the same or a directly peered network.
fn near(view: &View<'_>, network: Id<Network>, interface: Id<Interface>) -> Hop {
    let home = view.estate.network_of(interface);
    if home != network && joins(view, network, home).is_none() {
        // A peering that the snapshot lacks may join them.
        if view.lacks_any(&["peering"]) {
            Hop::Unknown
        } else {
            Hop::Dead
        }
    } else if view.estate.interfaces[interface].forwards {
        Hop::Interface(interface)
    } else {
        Hop::MayNotForward(interface)
    }
}

/// The interface of a firewall that stands nearest: same subnet, same network, peered network.
fn firewall_leg(view: &View<'_>, place: RoutePlace<'_>, firewall: Id<Firewall>) -> Hop {
    let legs = &view.estate.firewalls[firewall].legs;
    let rank = |interface: Id<Interface>| {
        let subnet = view.estate.interfaces[interface].subnet;
        (
            Some(subnet) != place.subnet,
            view.estate.network_of(interface) != place.network,
        )
    };
    let mut all: Vec<Id<Interface>> = legs.iter().map(|leg| leg.interface).collect();
    all.retain(|interface| near(view, place.network, *interface) != Hop::Dead);
    all.sort_by_key(|interface| {
        (
            near(view, place.network, *interface) == Hop::Unknown,
            rank(*interface),
        )
    });
    all.first()
        .map_or(Hop::Dead, |interface| near(view, place.network, *interface))
}

/// What holds an address as next hop, in a network or in one peered with it: an interface, a front end, a NAT gateway.
fn holder(view: &View<'_>, network: Id<Network>, address: IpAddr) -> Hop {
    let estate = view.estate;
    let reached = |home: Id<Network>| home == network || joins(view, network, home).is_some();
    let holds = estate
        .interfaces
        .iter()
        .filter(|(_, interface)| interface.addresses.contains(address));
    let mut all: Vec<Id<Interface>> = holds.map(|(id, _)| id).collect();
    let known = !all.is_empty();
    all.retain(|id| reached(estate.network_of(*id)));
    all.sort_by_key(|id| estate.network_of(*id) != network);
    if let Some(found) = all.first() {
        return near(view, network, *found);
    }
    let mut front = estate
        .balancers
        .iter()
        .filter(|(_, b)| b.front_ends.iter().any(|f| f.address == address));
    if let Some((id, _)) = front.find(|(_, b)| reached(b.network)) {
        return Hop::Balancer(id);
    }
    let is_nat = |gateway: &Gateway| matches!(gateway.kind, GatewayKind::Nat { address: Some(own), .. } if own == address);
    let mut nat = estate
        .gateways
        .iter()
        .filter(|(_, gateway)| is_nat(gateway));
    if let Some((id, _)) = nat.find(|(_, gateway)| gateway.network == network) {
        return Hop::Gateway(id);
    }
    // Somebody may hold it whom the snapshot lacks, or it may be joined by a peering that it lacks.
    let mut near = estate.networks.ids().filter(|id| reached(*id));
    let in_known = near.any(|id| {
        view.unlisted_in(id).contains(address)
            || (view.lacks_any(&["gateway"]) && estate.networks[id].blocks.contains(address))
    });
    let in_lacking = estate
        .peerings
        .items()
        .iter()
        .filter(|peering| peering.is_up())
        .any(|peering| {
            let Some(Reference::Missing(name)) = peering.opposite(network) else {
                return false;
            };
            view.lacks("network", name, Lack::Everything)
                && view.lacking_blocks(name).0.contains(address)
        });
    let by_peering = || {
        let lacking = || {
            view.lacking("network").any(|gap| {
                gap.blocks
                    .as_ref()
                    .unwrap_or(view.elsewhere())
                    .contains(address)
            })
        };
        let elsewhere = || {
            estate
                .networks
                .iter()
                .any(|(id, _)| view.unlisted_in(id).contains(address))
        };
        view.lacks_any(&["peering"]) && (known || lacking() || elsewhere())
    };
    if in_known || in_lacking || by_peering() {
        Hop::Unknown
    } else {
        Hop::Dead
    }
}

/// The firewall that a hop leads to, if it leads straight to one.
pub fn firewall_of(view: &View<'_>, hop: Hop) -> Option<Id<Firewall>> {
    let of = |interface: Id<Interface>| {
        let is_leg =
            |firewall: &Firewall| firewall.legs.iter().any(|leg| leg.interface == interface);
        view.estate
            .firewalls
            .iter()
            .find(|(_, firewall)| is_leg(firewall))
            .map(|(id, _)| id)
    };
    match hop {
        Hop::Interface(id) | Hop::MayNotForward(id) => of(id),
        Hop::Balancer(id) => view.estate.balancers[id]
            .back_ends
            .iter()
            .filter_map(|end| end.interface)
            .find_map(of),
        Hop::Hub(hub, link) => {
            let item = &view.estate.hubs[hub];
            let steered = &item.links[link];
            let to = [&steered.steer_internet, &steered.steer_private]
                .into_iter()
                .flatten()
                .find_map(Reference::found);
            let inline = |link: &heronshale_model::estate::Link| match &link.to {
                LinkEnd::Firewall(firewall) => firewall.found(),
                _ => None,
            };
            // A hub whose domain leads on to a firewall.
            to.or_else(|| {
                let domain = steered
                    .reads
                    .filter(|_| item.links.iter().any(|link| inline(link).is_some()))?;
                let routes = domain_candidates(view, hub, domain).all;
                let onward = routes
                    .iter()
                    .filter_map(|candidate| match candidate.winner.hop {
                        Hop::Hub(_, at) => Some(at),
                        _ => None,
                    });
                onward.filter_map(|at| inline(&item.links[at])).next()
            })
        }
        _ => None,
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
