//! Routes that could fix something: to next hops that exist.

mod links;

use links::{accepting, lending, links_up, routes_back};

use super::edit::{Edit, EditKind, block};
use super::repairs::Failure;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::route::{Hop, prefixes, table_of};
use heronshale_engine::walk::{Spot, Step, What};
use heronshale_model::estate::{
    DomainHop, DomainRoute, Estate, Firewall, FirewallRoute, GatewayKind, Hub, Id, LinkEnd,
    Network, NextHop, Reference, Route, RouteDestination, RouteKind, RouteTable, Subnet,
};
use heronshale_sets::address::{Addresses, Family, Range};
use heronshale_sets::packet::PacketSet;

/// Of one place no more next hops than this are tried.
const MOST_HOPS: usize = 8;

/// Of the destinations of a route no more are told one by one.
const MOST_TOLD: usize = 12;

/// The destinations as one would write them: the network's block, what the site announces, everything public.
fn as_written(view: &Fabric<'_>, to: &Addresses) -> Vec<Range> {
    let estate = view.estate;
    let mut found: Vec<Range> = Vec::new();
    for wanted in to.ranges() {
        let holds = |range: &&Range| {
            range.family == wanted.family
                && range.first <= wanted.first
                && range.last >= wanted.last
        };
        let networks = estate
            .networks
            .items()
            .iter()
            .flat_map(|network| network.written_blocks.iter());
        let sites = estate
            .sites
            .items()
            .iter()
            .flat_map(|site| site.written_announces.iter());
        let narrowest = networks
            .chain(sites)
            .filter(holds)
            .min_by_key(|range| range.last - range.first);
        let public = Addresses::from_intervals(
            wanted.family,
            heronshale_sets::intervals::Intervals::span(wanted.first, wanted.last),
        )
        .is_subset(view.internet());
        let range = match narrowest {
            Some(range) => *range,
            None if public => Range {
                family: wanted.family,
                first: 0,
                last: heronshale_sets::address::last_of(wanted.family),
            },
            None => wanted,
        };
        if !found.contains(&range) {
            found.push(range);
        }
    }
    found.truncate(4);
    found
}

/// The destinations themselves, if they are few.
fn exactly(to: &Addresses) -> Vec<Range> {
    let all: Vec<Range> = to.ranges().collect();
    if all.len() <= 2 && all.iter().all(|range| range.prefix_length().is_some()) {
        all
    } else {
        Vec::new()
    }
}

/// Next hops of a network that could lead there, the likeliest first, each with its name.
fn next_hops(view: &Fabric<'_>, network: Id<Network>, to: &Addresses) -> Vec<(NextHop, String)> {
    let estate = view.estate;
    let public = to.overlaps(view.internet());
    let six = !to.of(Family::V6).is_empty();
    let mut hops: Vec<(u8, NextHop, String)> = Vec::new();
    let mut near = vec![network];
    for (id, peering) in estate.peerings.iter() {
        let Some(other) = peering.opposite(network).and_then(Reference::found) else {
            continue;
        };
        near.push(other);
        if estate.networks[other].blocks.overlaps(to) {
            hops.push((
                0,
                NextHop::Peering(Reference::Found(id)),
                format!("peering {}", peering.name),
            ));
        }
    }
    for (id, gateway) in estate.gateways.iter() {
        let here = gateway.network == network;
        let hop = NextHop::Gateway(Reference::Found(id));
        let (rank, word) = match &gateway.kind {
            GatewayKind::Internet { .. } if here && public => (1, "internet gateway"),
            GatewayKind::Nat { .. } if here && public && !six => (0, "NAT gateway"),
            GatewayKind::OutboundOnly if here && public && six => (2, "outbound-only gateway"),
            GatewayKind::Site { site, .. }
                if here && estate.sites[*site].announces.overlaps(to) =>
            {
                (0, "site gateway")
            }
            _ => continue,
        };
        hops.push((rank, hop, format!("{word} {}", gateway.name)));
    }
    for (id, hub) in estate.hubs.iter() {
        let ours = |end: &LinkEnd| matches!(end, LinkEnd::Network(other) if other.found() == Some(network));
        if hub.links.iter().any(|link| ours(&link.to)) {
            let rank = if leads_near(view, hub, to) { 1 } else { 3 };
            hops.push((
                rank,
                NextHop::Hub(Reference::Found(id)),
                format!("hub {}", hub.name),
            ));
        }
    }
    for (id, firewall) in estate.firewalls.iter() {
        if firewall
            .legs
            .iter()
            .any(|leg| near.contains(&estate.network_of(leg.interface)))
        {
            hops.push((
                2,
                NextHop::Firewall(Reference::Found(id)),
                format!("firewall {}", firewall.name),
            ));
        }
    }
    for (id, balancer) in estate.balancers.iter() {
        if near.contains(&balancer.network) && balancer.front_ends.is_empty() {
            hops.push((
                3,
                NextHop::Balancer(Reference::Found(id)),
                format!("balancer {}", balancer.name),
            ));
        }
    }
    for (id, service) in estate.services.iter() {
        if service
            .public_door
            .as_ref()
            .is_some_and(|door| door.addresses.overlaps(to))
        {
            hops.push((
                1,
                NextHop::Service(Reference::Found(id)),
                format!("service {}", service.name),
            ));
        }
    }
    hops.sort_by_key(|(rank, _, _)| *rank);
    hops.truncate(MOST_HOPS);
    hops.into_iter().map(|(_, hop, name)| (hop, name)).collect()
}

/// Whether some link of a hub leads to a network or site that has some of these addresses.
fn leads_near(view: &Fabric<'_>, hub: &Hub, to: &Addresses) -> bool {
    hub.links.iter().any(|link| match &link.to {
        LinkEnd::Network(other) => other
            .found()
            .is_some_and(|id| view.estate.networks[id].blocks.overlaps(to)),
        LinkEnd::Site(site) => site
            .found()
            .is_some_and(|id| view.estate.sites[id].announces.overlaps(to)),
        LinkEnd::Hub(_) | LinkEnd::Firewall(_) => false,
    })
}

fn texts(ranges: &[Range]) -> String {
    let text = |range: &Range| match range.prefix_length() {
        Some(length) if length < range.family.bits() => {
            format!(
                "{}/{length}",
                heronshale_sets::address::address_of(range.family, range.first)
            )
        }
        _ => range.to_string(),
    };
    ranges.iter().map(text).collect::<Vec<_>>().join(", ")
}

fn destinations(ranges: &[Range]) -> Vec<RouteDestination> {
    ranges
        .iter()
        .map(|range| RouteDestination::Block(block(*range)))
        .collect()
}

/// A route more in a table.
fn in_table(
    estate: &Estate,
    table: Id<RouteTable>,
    to: &[Range],
    hop: NextHop,
    name: &str,
) -> Edit {
    let item = &estate.route_tables[table];
    let text = format!(
        "add to table {} a route to {} via {name}",
        item.name,
        texts(to)
    );
    let route = Route {
        id: None,
        origin: item.origin,
        destinations: destinations(to),
        next_hop: hop,
        metric: 0,
        kind: RouteKind::Static,
        enabled: true,
        only_tagged: Vec::new(),
        only_from: None,
    };
    let owner = item.owner.or(estate.networks[item.network].owner);
    Edit::new(
        EditKind::Route,
        text,
        Some(item.origin),
        owner,
        move |estate| {
            estate
                .route_tables
                .get_mut(table)
                .routes
                .push(route.clone());
        },
    )
    .routing(&item.name, name)
}

/// A table that exists, attached to a subnet instead of its own.
fn attached(view: &Fabric<'_>, subnet: Id<Subnet>, to: &Addresses) -> Vec<Edit> {
    let estate = view.estate;
    let item = &estate.subnets[subnet];
    let now = table_of(view, subnet).and_then(Reference::found);
    let leads = |table: &RouteTable| {
        table
            .routes
            .iter()
            .flat_map(|route| &route.destinations)
            .any(|destination| match destination {
                RouteDestination::Block(block) => [block.range]
                    .into_iter()
                    .collect::<Addresses>()
                    .overlaps(to),
                RouteDestination::Set(_) => true,
            })
    };
    let others = estate
        .route_tables
        .iter()
        .filter(|(id, table)| table.network == item.network && Some(*id) != now);
    others
        .filter(|(_, table)| leads(table))
        .take(3)
        .map(|(id, table)| {
            let text = format!("attach table {} to subnet {}", table.name, item.name);
            Edit::new(
                EditKind::Table,
                text,
                Some(item.origin),
                estate.subnet_owner(subnet),
                move |estate| {
                    estate.subnets.get_mut(subnet).route_table = Some(Reference::Found(id));
                },
            )
        })
        .collect()
}

/// Routes at a place for packets that have none, or a wrong one.
pub(super) fn routes_at(
    view: &Fabric<'_>,
    failure: &Failure,
    spot: Spot,
    instead: bool,
) -> Vec<Edit> {
    routes_for(view, &failure.packets, spot, instead)
}

fn routes_for(view: &Fabric<'_>, packets: &PacketSet, spot: Spot, instead: bool) -> Vec<Edit> {
    let estate = view.estate;
    let to = packets.destinations();
    let natural = as_written(view, &to);
    // A longer one goes before the one that is there.
    let exact = exactly(&to);
    let wanted: Vec<Vec<Range>> = if instead && !exact.is_empty() {
        vec![exact]
    } else {
        vec![natural]
    };
    let mut edits = Vec::new();
    let in_tables = |tables: &[Id<RouteTable>], edits: &mut Vec<Edit>| {
        for table in tables {
            edits.extend(accepting(view, *table, &to));
            edits.extend(lending(view, estate.route_tables[*table].network, &to));
            for (hop, name) in next_hops(view, estate.route_tables[*table].network, &to) {
                edits.extend(
                    wanted
                        .iter()
                        .map(|wanted| in_table(estate, *table, wanted, hop.clone(), &name)),
                );
            }
        }
    };
    match spot {
        Spot::Subnet(subnet) => {
            let table = table_of(view, subnet).and_then(Reference::found);
            in_tables(&table.into_iter().collect::<Vec<_>>(), &mut edits);
            edits.extend(attached(view, subnet, &to));
        }
        Spot::Network(network) => {
            let main = estate.networks[network]
                .main_table
                .as_ref()
                .and_then(Reference::found);
            let gateways = estate
                .gateways
                .items()
                .iter()
                .filter(|gateway| gateway.network == network);
            let own = gateways.filter_map(|gateway| match &gateway.kind {
                GatewayKind::Internet {
                    table: Some(table), ..
                } => table.found(),
                _ => None,
            });
            in_tables(&main.into_iter().chain(own).collect::<Vec<_>>(), &mut edits);
        }
        Spot::Hub(id, Some(at)) => {
            let hub = &estate.hubs[id];
            let Some(domain) = hub.links[at]
                .reads
                .filter(|domain| *domain < hub.domains.len())
            else {
                return edits;
            };
            edits.extend(links_up(view, id, &to));
            let mut others = Vec::new();
            for (link, item) in hub
                .links
                .iter()
                .enumerate()
                .filter(|(link, item)| *link != at && item.up)
            {
                let (name, wanted) = (&hub.domains[domain].name, wanted[0].clone());
                let text = format!(
                    "add to hub {}, domain {name}, a route to {} via link {}",
                    hub.name,
                    texts(&wanted),
                    item.name
                );
                let route = DomainRoute {
                    origin: hub.domains[domain].origin,
                    destinations: destinations(&wanted),
                    hop: DomainHop::Link(link),
                    metric: 0,
                    enabled: true,
                };
                let rank = match &item.to {
                    LinkEnd::Network(other) => !other
                        .found()
                        .is_some_and(|other| estate.networks[other].blocks.overlaps(&to)),
                    LinkEnd::Site(other) => !other
                        .found()
                        .is_some_and(|other| estate.sites[other].announces.overlaps(&to)),
                    LinkEnd::Hub(_) | LinkEnd::Firewall(_) => true,
                };
                let edit = Edit::new(
                    EditKind::Route,
                    text,
                    Some(route.origin),
                    hub.owner,
                    move |estate| {
                        estate.hubs.get_mut(id).domains[domain]
                            .routes
                            .push(route.clone());
                    },
                )
                .routing(
                    &format!("{} {}", hub.name, hub.domains[domain].name),
                    &item.name,
                );
                if rank {
                    others.push(edit)
                } else {
                    edits.push(edit)
                }
            }
            edits.append(&mut others);
            edits.truncate(MOST_HOPS);
        }
        Spot::Firewall(id) => {
            let firewall = &estate.firewalls[id];
            if firewall.routes.is_none() {
                return edits;
            }
            // First the interfaces that lead there, and last the one by which the packets came.
            let from = packets.sources();
            let leads = |interface: Id<heronshale_model::estate::Interface>| {
                let subnet = estate.interfaces[interface].subnet;
                let near = estate.networks[estate.subnets[subnet].network]
                    .blocks
                    .overlaps(&to);
                let routes =
                    heronshale_engine::route::routed(view, subnet, Some(interface), None, &to);
                let lost = |winner: &heronshale_engine::route::Winner| {
                    matches!(winner.hop, Hop::Dead | Hop::Blackhole)
                };
                let routed = routes
                    .iter()
                    .any(|one| one.winners.iter().any(|winner| !lost(winner)));
                let comes = routes_back(view, id, &from) == Some(interface);
                (comes, !(near || routed))
            };
            let mut legs: Vec<_> = firewall.legs.iter().collect();
            legs.sort_by_key(|leg| leads(leg.interface));
            for leg in legs {
                let name = &estate.interfaces[leg.interface].name;
                let text = format!(
                    "add to firewall {} a route to {} via interface {name}",
                    firewall.name,
                    texts(&wanted[0])
                );
                let route = FirewallRoute {
                    origin: firewall.origin,
                    destinations: destinations(&wanted[0]),
                    interface: leg.interface,
                };
                let edit = Edit::new(
                    EditKind::Route,
                    text,
                    Some(firewall.origin),
                    firewall.owner,
                    move |estate| {
                        estate
                            .firewalls
                            .get_mut(id)
                            .routes
                            .get_or_insert_default()
                            .push(route.clone());
                    },
                );
                edits.push(edit.routing(&firewall.name, name));
            }
        }
        _ => {}
    }
    edits
}

/// Other routes at the places where it was routed: the reply's first, since what comes back is where it went wrong.
pub(super) fn reroutes(view: &Fabric<'_>, failure: &Failure) -> Vec<Edit> {
    let mut edits = Vec::new();
    let mut headers = vec![failure.asked.clone()];
    let mut places: Vec<(Spot, PacketSet, bool)> = Vec::new();
    for step in &failure.steps {
        let now = headers[headers.len() - 1].clone();
        let Step { at, what, reply } = step;
        match what {
            What::Changed(change, _) if !reply => headers.push(now.rewritten(change)),
            What::Changed(..) if headers.len() > 1 => drop(headers.pop()),
            What::Routed(_) => places.push((*at, if *reply { now.replies() } else { now }, *reply)),
            _ => {}
        }
    }
    places.sort_by_key(|(_, _, reply)| !reply);
    places.truncate(4);
    for (spot, packets, _) in places {
        edits.extend(routes_for(view, &packets, spot, true));
    }
    edits
}

/// Leads addresses to a firewall, by one route more in a table.
pub(crate) fn led_to_firewall(
    estate: &Estate,
    table: Id<RouteTable>,
    to: &Addresses,
    firewall: Id<Firewall>,
) -> Edit {
    let ranges: Vec<Range> = to.ranges().flat_map(|range| prefixes(&range)).collect();
    let hop = NextHop::Firewall(Reference::Found(firewall));
    let name = format!("firewall {}", estate.firewalls[firewall].name);
    let mut edit = in_table(estate, table, &ranges, hop, &name);
    // As many prefixes as the internet has nobody reads.
    if ranges.len() > MOST_TOLD {
        let table = &estate.route_tables[table].name;
        let (few, more) = (texts(&ranges[..MOST_TOLD]), ranges.len() - MOST_TOLD);
        edit.text = format!("add to table {table} a route to {few} and {more} more via {name}");
    }
    edit
}
