//! The routes of a place: written, automatic, propagated, lent.

use super::*;

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
pub(super) fn written_in_doubt(
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

/// Automatic routes that what is missing from the snapshot may bring: over peerings with networks whose blocks are not known, over peerings
/// that are lacking themselves. None is longer than a known block within it.
pub(super) fn lacking_automatic(view: &View<'_>, network: Id<Network>, found: &mut Candidates) {
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

pub(super) fn of_blocks(
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
pub(super) fn automatic(view: &View<'_>, network: Id<Network>) -> Vec<Candidate> {
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

/// What a table that accepts propagation learns.
pub(super) fn propagated(view: &View<'_>, network: Id<Network>, found: &mut Candidates) {
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

pub(super) fn ranges_of(view: &View<'_>, destinations: &[RouteDestination]) -> Vec<Range> {
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

pub(super) fn written(view: &View<'_>, place: RoutePlace<'_>, route: &Route) -> Vec<Candidate> {
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
pub(super) fn collect_set(
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
