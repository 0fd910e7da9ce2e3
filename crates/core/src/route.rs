//! Which route wins for which addresses (design 2.4).

use crate::address::{Addresses, Family, Range};
use crate::faults::{Fault, has};
use crate::model::{
    AddressSet, AutomaticRoutes, Balancer, DomainHop, DoorRoute, EqualRoutes, Firewall, Gateway, GatewayKind, Hub, Id,
    Interface, Lack, Link, LinkEnd, MissingNextHop, Network, NextHop, Peering, PlatformService, Reference, Route,
    RouteDestination, RouteKind, RouteTable, SetItem, Settings, Subnet,
};
use crate::packet::PacketSet;
use crate::source::Origin;
use crate::view::View;
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
    /// The routes that win, all equal; nature takes any of them.
    pub winners: Vec<Winner>,
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
        Self { network, subnet: Some(subnet), sender, table: table_of(view, subnet) }
    }

    /// What stands outside of all subnets: automatic routes only.
    pub fn outside(network: Id<Network>) -> Self {
        Self { network, subnet: None, sender: None, table: None }
    }
}

/// All routes that apply at a place, those that win first in front.
#[derive(Clone, Debug)]
pub struct Candidates {
    /// In order of precedence; equal ones as written.
    pub all: Vec<Candidate>,
    /// Next hops of routes to sets whose content is not known.
    doubtful: Vec<Hop>,
    /// Whether the routes are not in the snapshot.
    unknown: bool,
    /// What takes IPv4 that no route takes.
    last: Option<Hop>,
    first_only: bool,
}

/// The table of a subnet: its own, else the network's main table; none for automatic routes only.
pub fn table_of<'e>(view: &View<'e>, subnet: Id<Subnet>) -> Option<&'e Reference<RouteTable>> {
    let item = &view.estate.subnets[subnet];
    let own = item.route_table.as_ref().filter(|_| !has(Fault::RouteMainTableAlways));
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
    candidates.winners(candidates.all.iter().filter(applies), addresses)
}

/// Splits packets by the routes that win for them at a place. `mirrored`: they are requests whose replies are routed.
pub fn routed_packets(candidates: &Candidates, packets: &PacketSet, mirrored: bool) -> Vec<(PacketSet, Vec<Winner>)> {
    let (mut sources, mut destinations) = (packets.sources(), packets.destinations());
    if mirrored {
        std::mem::swap(&mut sources, &mut destinations);
    }
    let mut limits: Vec<&Addresses> = Vec::new();
    for from in candidates.all.iter().filter_map(|candidate| candidate.only_from.as_ref()) {
        if !limits.contains(&from) {
            limits.push(from);
        }
    }
    // Sources that the same limits hold.
    let mut parts: Vec<(Addresses, Vec<bool>)> = vec![(sources, Vec::new())];
    for limit in &limits {
        let split = |(part, held): &(Addresses, Vec<bool>)| {
            let with = |part: Addresses, is: bool| (part, held.iter().copied().chain([is]).collect());
            [with(part.intersection(limit), true), with(part.difference(limit), false)]
        };
        parts = parts.iter().flat_map(split).filter(|(part, _)| !part.is_empty()).collect();
    }
    let mut found: Vec<(PacketSet, Vec<Winner>)> = Vec::new();
    for (part, held) in &parts {
        let applies = |candidate: &&Candidate| {
            candidate
                .only_from
                .as_ref()
                .is_none_or(|from| limits.iter().position(|limit| *limit == from).is_some_and(|at| held[at]))
        };
        let mut routes = candidates.winners(candidates.all.iter().filter(applies), &destinations);
        if let ([_], [_]) = (routes.as_slice(), parts.as_slice()) {
            return routes.drain(..).map(|routed| (packets.clone(), routed.winners)).collect();
        }
        for routed in routes {
            let (from, to) = if mirrored { (&routed.addresses, part) } else { (part, &routed.addresses) };
            let here = packets.between(Some(from), Some(to));
            if !here.is_empty() {
                found.push((here, routed.winners));
            }
        }
    }
    found
}

impl Candidates {
    /// What takes IPv4 that no route takes, in words.
    pub(crate) fn last_text(&self, view: &View<'_>) -> Option<String> {
        self.last.map(|hop| crate::answer::hop_text(view, hop))
    }

    fn unknown() -> Self {
        Self { all: Vec::new(), doubtful: Vec::new(), unknown: true, last: None, first_only: false }
    }

    /// Whether two candidates are equal in all that decides.
    fn same(a: &Candidate, b: &Candidate) -> bool {
        let metric = a.metric == b.metric || has(Fault::RouteMetricIgnored);
        (a.length, a.kind) == (b.length, b.kind) && metric
    }

    fn winners<'c>(&self, all: impl Iterator<Item = &'c Candidate>, addresses: &Addresses) -> Vec<Routed> {
        let unknown = || vec![Winner { hop: Hop::Unknown, origin: None }];
        if self.unknown {
            return vec![Routed { addresses: addresses.clone(), winners: unknown() }];
        }
        let touches = |candidate: &&Candidate| {
            addresses.of(candidate.range.family).touches(candidate.range.first, candidate.range.last)
        };
        let all: Vec<&Candidate> = all.filter(touches).collect();
        let mut rest = addresses.clone();
        let mut found: Vec<Routed> = Vec::new();
        let mut add = |addresses: Addresses, winners: Vec<Winner>| match found.iter_mut().find(|r| r.winners == winners)
        {
            Some(routed) => routed.addresses = routed.addresses.union(&addresses),
            None => found.push(Routed { addresses, winners }),
        };
        for group in all.chunk_by(|a, b| Self::same(a, b)) {
            for candidate in group {
                if !rest.of(candidate.range.family).touches(candidate.range.first, candidate.range.last) {
                    continue;
                }
                let here = rest.intersection(&[candidate.range].into_iter().collect());
                if here.is_empty() {
                    continue;
                }
                let equal = group.iter().filter(|other| other.range == candidate.range).map(|other| other.winner);
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
                add(here, winners);
            }
        }
        if let Some(last) = self.last {
            let here = rest.intersection(&Addresses::of_family(Family::V4));
            rest = rest.difference(&here);
            if !here.is_empty() {
                add(here, vec![Winner { hop: last, origin: None }]);
            }
        }
        if !rest.is_empty() {
            add(rest, Vec::new());
        }
        // A route to a set whose content is not known may win for any address.
        for routed in &mut found {
            let same = |winner: &Winner| self.doubtful.iter().all(|hop| *hop == winner.hop);
            if !self.doubtful.is_empty() && (routed.winners.is_empty() || !routed.winners.iter().all(same)) {
                routed.winners = unknown();
            }
        }
        found
    }

    fn sort(&mut self, settings: &Settings) {
        if settings.missing_next_hop == MissingNextHop::Skipped && !has(Fault::RouteMissingLost) {
            self.all.retain(|candidate| candidate.winner.hop != Hop::Dead);
        }
        let fixed = settings.automatic_routes == AutomaticRoutes::Fixed && !has(Fault::RouteFixedIgnored);
        self.all.sort_by_key(|candidate| {
            let first = fixed && candidate.kind == RouteKind::Automatic;
            let length = if has(Fault::RouteShortestWins) { u8::MAX - candidate.length } else { candidate.length };
            let kind = if has(Fault::RouteKindsAlike) { RouteKind::Static } else { candidate.kind };
            let metric = if has(Fault::RouteMetricIgnored) { 0 } else { candidate.metric };
            (!first, std::cmp::Reverse(length), kind, metric)
        });
        self.first_only = settings.equal_routes == EqualRoutes::First;
    }
}

/// The routes that apply at a place.
pub fn candidates(view: &View<'_>, place: RoutePlace<'_>) -> Candidates {
    let network = place.network;
    let mut found = Candidates { unknown: false, ..Candidates::unknown() };
    found.all = automatic(view, network);
    match place.table {
        Some(Reference::Missing(_)) => return Candidates::unknown(),
        Some(Reference::Found(table)) if view.lacks("table", &view.estate.route_tables[*table].name, Lack::Routes) => {
            return Candidates::unknown();
        }
        Some(Reference::Found(table)) => {
            let table = &view.estate.route_tables[*table];
            let routes = table.routes.iter().filter(|route| route.enabled || has(Fault::RouteDisabledCounts));
            let for_sender = |route: &&Route| {
                route.only_tagged.is_empty()
                    || has(Fault::RouteTagLimitIgnored)
                    || place.sender.is_some_and(|sender| view.estate.has_tags(sender, &route.only_tagged))
            };
            for route in routes.filter(for_sender) {
                found.all.extend(written(view, place, route));
                if route.destinations.iter().any(|destination| is_open(view, destination)) {
                    found.doubtful.push(hop(view, place, &route.next_hop));
                }
            }
            if table.accepts_propagation && !has(Fault::RoutePropagationIgnored) {
                found.all.extend(propagated(view, network));
            }
        }
        None => {}
    }
    found.sort(view.settings(network));
    found.last = place.subnet.and_then(|subnet| last_resort(view, subnet));
    found
}

/// What takes IPv4 of a subnet that no route takes: a NAT gateway that serves it, else the platform's shared address.
pub(crate) fn last_resort(view: &View<'_>, subnet: Id<Subnet>) -> Option<Hop> {
    let serves =
        |gateway: &Gateway| matches!(&gateway.kind, GatewayKind::Nat { serves, .. } if serves.contains(&subnet));
    if has(Fault::RouteNoLastResort) {
        return None;
    }
    let nat = view.estate.gateways.iter().find(|(_, gateway)| serves(gateway));
    nat.map(|(id, _)| Hop::Gateway(id))
        .or_else(|| view.estate.subnets[subnet].default_outbound.then_some(Hop::SharedAddress))
}

/// Whether the snapshot does not say all that a destination holds.
fn is_open(view: &View<'_>, destination: &RouteDestination) -> bool {
    match destination {
        RouteDestination::Block(_) => false,
        RouteDestination::Set(Reference::Missing(_)) => true,
        RouteDestination::Set(Reference::Found(set)) => !view.set(*set).matched.maybe.is_empty(),
    }
}

fn of_blocks(blocks: &[Range], kind: RouteKind, hop: Hop) -> impl Iterator<Item = Candidate> + use<> {
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
    let mut all: Vec<Candidate> =
        of_blocks(&estate.networks[network].written_blocks, RouteKind::Automatic, Hop::Local).collect();
    let mut near = vec![network];
    for (id, peering) in estate.peerings.iter().filter(|(_, peering)| peering.is_up()) {
        let (Some(side), Some(other)) = (peering.side(network), peering.opposite(network)) else { continue };
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
                    all.extend(of_blocks(announced, RouteKind::OtherAutomatic, Hop::Gateway(gateway)));
                }
            }
            Reference::Missing(name) if automatic => {
                let object = format!("network:{name}");
                let blocks = estate.gaps.iter().find(|gap| *gap.object == object).and_then(|gap| gap.blocks.clone());
                let blocks: Vec<Range> = blocks.iter().flat_map(Addresses::ranges).collect();
                all.extend(of_blocks(&blocks, RouteKind::Automatic, Hop::Unknown));
            }
            Reference::Missing(_) => {}
        }
    }
    for service in estate.services.items() {
        for door in &service.private_doors {
            let home = estate.network_of(*door);
            if view.settings(home).door_route == DoorRoute::Automatic && near.contains(&home) {
                let addresses: Vec<Range> = estate.interfaces[*door].addresses.ranges().collect();
                all.extend(of_blocks(&addresses, RouteKind::OtherAutomatic, Hop::Door(*door)));
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
) -> Vec<(Id<Gateway>, Id<crate::model::Site>)> {
    let other = peering.opposite(network).and_then(Reference::found);
    let used = peering.side(network).is_some_and(|side| side.use_gateways);
    let used = used && !has(Fault::RouteNothingLent);
    let lent = other.and_then(|other| peering.side(other)).is_some_and(|side| side.lend_gateways);
    let Some(other) = other.filter(|_| used && lent && peering.is_up()) else { return Vec::new() };
    site_gateways(view, other)
}

/// The site gateways of a network that are up, with their sites.
pub(crate) fn site_gateways(view: &View<'_>, network: Id<Network>) -> Vec<(Id<Gateway>, Id<crate::model::Site>)> {
    let up = |(id, gateway): (Id<Gateway>, &Gateway)| match gateway.kind {
        GatewayKind::Site { site, up: true } if gateway.network == network => Some((id, site)),
        _ => None,
    };
    view.estate.gateways.iter().filter_map(up).collect()
}

/// The link of a network, site, hub or firewall at a hub: the first that is up.
pub fn link_of(hub: &Hub, wanted: impl Fn(&LinkEnd) -> bool) -> Option<(usize, &Link)> {
    hub.links.iter().enumerate().find(|(_, link)| link.up && wanted(&link.to))
}

/// What a table that accepts propagation learns.
fn propagated(view: &View<'_>, network: Id<Network>) -> Vec<Candidate> {
    let estate = view.estate;
    let mut all = Vec::new();
    for (gateway, site) in site_gateways(view, network) {
        all.extend(of_blocks(&estate.sites[site].written_announces, RouteKind::Propagated, Hop::Gateway(gateway)));
    }
    let own = &estate.networks[network].blocks;
    for (id, hub) in estate.hubs.iter() {
        let is_ours = |to: &LinkEnd| *to == LinkEnd::Network(Reference::Found(network));
        let Some((at, link)) = link_of(hub, is_ours) else { continue };
        let Some(domain) = link.reads else { continue };
        for mut learned in domain_candidates(view, id, domain).all {
            let leads_back = learned.winner.hop == Hop::Hub(id, at);
            let dark = matches!(learned.winner.hop, Hop::Blackhole | Hop::Dead);
            let ours = Addresses::is_subset(&[learned.range].into_iter().collect(), own);
            let default = learned.length == 0 && !link.offers_default && !has(Fault::RouteDefaultAlwaysOffered);
            if leads_back || dark || ours || default {
                continue;
            }
            learned.kind = RouteKind::Propagated;
            learned.winner.hop = Hop::Hub(id, at);
            all.push(learned);
        }
    }
    all
}

/// The routes of a hub's domain: static ones, and what links announce. [`Hop::Hub`] names the link that leads on.
pub fn domain_candidates(view: &View<'_>, hub: Id<Hub>, domain: usize) -> Candidates {
    let estate = view.estate;
    let item = &estate.hubs[hub];
    let mut found = Candidates { unknown: false, ..Candidates::unknown() };
    for route in item.domains[domain].routes.iter().filter(|route| route.enabled) {
        let hop = match &route.hop {
            DomainHop::Blackhole => Hop::Blackhole,
            DomainHop::Link(at) if item.links[*at].up => Hop::Hub(hub, *at),
            DomainHop::Link(_) | DomainHop::Missing(_) => Hop::Dead,
        };
        let winner = Winner { hop, origin: Some(route.origin) };
        for range in ranges_of(view, &route.destinations) {
            let (length, kind, metric) = (range.prefix_length().unwrap_or(0), RouteKind::Static, route.metric);
            found.all.push(Candidate { range, length, kind, metric, winner, only_from: None });
        }
        if route.destinations.iter().any(|destination| is_open(view, destination)) {
            found.doubtful.push(hop);
        }
    }
    for (at, link) in item.links.iter().enumerate() {
        if link.up && link.announces_into.contains(&domain) {
            found.all.extend(of_blocks(&announced(view, link), RouteKind::Propagated, Hop::Hub(hub, at)));
        }
    }
    found.sort(view.settings(None));
    found
}

/// What a link announces.
pub fn announced(view: &View<'_>, link: &Link) -> Vec<Range> {
    let default = || match &link.to {
        LinkEnd::Network(Reference::Found(network)) => view.estate.networks[*network].written_blocks.clone(),
        LinkEnd::Network(Reference::Missing(name)) => {
            let object = format!("network:{name}");
            let gap = view.estate.gaps.iter().find(|gap| *gap.object == object);
            gap.and_then(|gap| gap.blocks.as_ref()).map_or_else(Vec::new, |blocks| blocks.ranges().collect())
        }
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
            RouteDestination::Set(Reference::Found(set)) => collect_set(view, *set, &mut Vec::new(), &mut ranges),
            RouteDestination::Set(Reference::Missing(_)) => {}
        }
    }
    ranges.sort_unstable();
    ranges.dedup();
    ranges
}

fn written(view: &View<'_>, place: RoutePlace<'_>, route: &Route) -> Vec<Candidate> {
    let winner = Winner { hop: hop(view, place, &route.next_hop), origin: Some(route.origin) };
    let limit = route.only_from.as_ref().filter(|_| !has(Fault::RouteSourceLimitIgnored));
    let only_from = limit.map(|from| ranges_of(view, from).into_iter().collect::<Addresses>());
    let candidate = |range: Range| Candidate {
        range,
        length: range.prefix_length().unwrap_or(0),
        kind: route.kind,
        metric: route.metric,
        winner,
        only_from: only_from.clone(),
    };
    ranges_of(view, &route.destinations).into_iter().map(candidate).collect()
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
pub(crate) fn prefixes(range: &Range) -> Vec<Range> {
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

/// Where a written route leads, seen from a place.
pub fn hop(view: &View<'_>, place: RoutePlace<'_>, next: &NextHop) -> Hop {
    let estate = view.estate;
    let network = place.network;
    let lacking =
        |kind: &str, name: &str| if view.lacks(kind, name, Lack::Everything) { Hop::Unknown } else { Hop::Dead };
    match next {
        NextHop::Local => Hop::Local,
        NextHop::Blackhole => Hop::Blackhole,
        NextHop::Gateway(Reference::Found(id)) => {
            let gateway = &estate.gateways[*id];
            let dead = matches!(
                gateway.kind,
                GatewayKind::Internet { attached: false, .. } | GatewayKind::Site { up: false, .. }
            );
            let lent =
                || estate.peerings.items().iter().any(|p| lent_gateways(view, p, network).iter().any(|(g, _)| g == id));
            if dead || (gateway.network != network && !lent()) { Hop::Dead } else { Hop::Gateway(*id) }
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
        NextHop::Firewall(Reference::Found(firewall)) => firewall_leg(view, place, *firewall),
        NextHop::Firewall(Reference::Missing(name)) => lacking("firewall", name),
        NextHop::Balancer(Reference::Found(balancer)) => {
            let home = estate.balancers[*balancer].network;
            if home == network || joins(view, network, home).is_some() { Hop::Balancer(*balancer) } else { Hop::Dead }
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
pub(crate) fn joins(view: &View<'_>, one: Id<Network>, other: Id<Network>) -> Option<Id<Peering>> {
    let fits = |peering: &Peering| peering.is_up() && peering.opposite(one) == Some(&Reference::Found(other));
    view.estate.peerings.iter().find(|(_, peering)| fits(peering)).map(|(id, _)| id)
}

/// An interface as next hop: in the same or a directly peered network.
fn near(view: &View<'_>, network: Id<Network>, interface: Id<Interface>) -> Hop {
    let home = view.estate.network_of(interface);
    if home != network && joins(view, network, home).is_none() {
        Hop::Dead
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
        (Some(subnet) != place.subnet, view.estate.network_of(interface) != place.network)
    };
    let mut all: Vec<Id<Interface>> = legs.iter().map(|leg| leg.interface).collect();
    all.retain(|interface| near(view, place.network, *interface) != Hop::Dead);
    all.sort_by_key(|interface| rank(*interface));
    all.first().map_or(Hop::Dead, |interface| near(view, place.network, *interface))
}

/// The interface of a network, or of one peered with it, that holds an address.
fn holder(view: &View<'_>, network: Id<Network>, address: IpAddr) -> Hop {
    let holds = view.estate.interfaces.iter().filter(|(_, interface)| interface.addresses.contains(address));
    let mut all: Vec<Id<Interface>> =
        holds.map(|(id, _)| id).filter(|id| near(view, network, *id) != Hop::Dead).collect();
    all.sort_by_key(|id| view.estate.network_of(*id) != network);
    if let Some(found) = all.first() {
        return near(view, network, *found);
    }
    let mut front = view.estate.balancers.iter().filter(|(_, b)| b.front_ends.iter().any(|f| f.address == address));
    let found = front.find(|(_, b)| b.network == network || joins(view, network, b.network).is_some());
    found.map_or(Hop::Dead, |(id, _)| Hop::Balancer(id))
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
