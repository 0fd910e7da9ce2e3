//! Next hops, spots and ends of links, in words.

use heronshale_engine::fabric::Fabric;
use heronshale_engine::route::Hop;
use heronshale_engine::walk::Spot;
use heronshale_model::estate::{
    Estate, GatewayKind, Id, LinkEnd, Network, NextHop, Owner, Peering, Reference, Subnet,
};
use heronshale_model::source::Place;

/// A next hop in words.
pub fn hop_text(view: &Fabric<'_>, hop: Hop) -> String {
    let estate = view.estate;
    match hop {
        Hop::Local => "the network itself".to_owned(),
        Hop::Blackhole => "nowhere (blackhole)".to_owned(),
        Hop::Gateway(gateway) => gateway_text(estate, gateway),
        Hop::Interface(id) | Hop::MayNotForward(id) => {
            let owner = estate
                .firewalls
                .items()
                .iter()
                .find(|f| f.legs.iter().any(|leg| leg.interface == id));
            let interface = format!("interface {}", estate.interfaces[id].name);
            owner.map_or(interface.clone(), |firewall| {
                format!("firewall {}, {interface}", firewall.name)
            })
        }
        Hop::Peering(peering) => format!("peering {}", estate.peerings[peering].name),
        Hop::Balancer(balancer) => format!("balancer {}", estate.balancers[balancer].name),
        Hop::Hub(hub, link) => format!(
            "hub {}, link {}",
            estate.hubs[hub].name, estate.hubs[hub].links[link].name
        ),
        Hop::Service(service) => format!("service {}", estate.services[service].name),
        Hop::Door(interface) => format!("private door {}", estate.interfaces[interface].name),
        Hop::SharedAddress => "the platform's shared address".to_owned(),
        Hop::Dead => "a next hop that does not exist or is down".to_owned(),
        Hop::Unknown => "something missing from the snapshot".to_owned(),
    }
}

pub(super) fn gateway_text(estate: &Estate, id: Id<heronshale_model::estate::Gateway>) -> String {
    let gateway = &estate.gateways[id];
    let kind = match gateway.kind {
        GatewayKind::Internet { .. } => "internet gateway",
        GatewayKind::Nat { .. } => "NAT gateway",
        GatewayKind::OutboundOnly => "outbound-only gateway",
        GatewayKind::Site { .. } => "site gateway",
    };
    format!("{kind} {}", gateway.name)
}

pub(super) fn subnet_table(view: &Fabric<'_>, subnet: Id<Subnet>) -> String {
    match heronshale_engine::route::table_of(view, subnet) {
        Some(table) => format!(
            "table {}",
            crate::describe::name_of(&view.estate.route_tables, table)
        ),
        None => format!(
            "automatic routes of subnet {}",
            view.estate.subnets[subnet].name
        ),
    }
}

/// A place in words, and who changes it.
pub fn spot_text(view: &Fabric<'_>, spot: Spot) -> (String, Option<Place>, Option<Id<Owner>>) {
    let estate = view.estate;
    let place = |origin| Some(estate.sources.place(origin));
    let network = |id: Id<Network>| estate.networks[id].owner;
    match spot {
        Spot::Interface(id) => {
            let item = &estate.interfaces[id];
            (
                item.name.to_string(),
                place(&item.origin),
                estate.interface_owner(id),
            )
        }
        Spot::Subnet(id) => {
            let item = &estate.subnets[id];
            (
                format!("subnet {}", item.name),
                place(&item.origin),
                estate.subnet_owner(id),
            )
        }
        Spot::Network(id) => {
            let item = &estate.networks[id];
            (
                format!("network {}", item.name),
                place(&item.origin),
                item.owner,
            )
        }
        Spot::Gateway(id) => {
            let item = &estate.gateways[id];
            (
                gateway_text(estate, id),
                place(&item.origin),
                item.owner.or_else(|| network(item.network)),
            )
        }
        Spot::Peering(id, to) => {
            let item = &estate.peerings[id];
            let to_text = to.map_or_else(String::new, |to| {
                format!(", to {}", estate.networks[to].name)
            });
            (
                format!("peering {}{to_text}", item.name),
                place(&item.origin),
                to.and_then(network),
            )
        }
        Spot::Firewall(id) => {
            let item = &estate.firewalls[id];
            (
                format!("firewall {}", item.name),
                place(&item.origin),
                item.owner,
            )
        }
        Spot::Balancer(id) => {
            let item = &estate.balancers[id];
            (
                format!("balancer {}", item.name),
                place(&item.origin),
                item.owner.or_else(|| network(item.network)),
            )
        }
        Spot::Service(id) => {
            let item = &estate.services[id];
            (
                format!("service {}", item.name),
                place(&item.origin),
                item.owner,
            )
        }
        Spot::Hub(id, link) => {
            let item = &estate.hubs[id];
            let at = link.and_then(|link| item.links.get(link));
            let text = at.map_or_else(String::new, |link| format!(", link {}", link.name));
            (
                format!("hub {}{text}", item.name),
                place(at.map_or(&item.origin, |link| &link.origin)),
                item.owner,
            )
        }
        Spot::Site(id) => {
            let item = &estate.sites[id];
            (
                format!("site {}", item.name),
                place(&item.origin),
                item.owner,
            )
        }
        Spot::Internet => ("the internet".to_owned(), None, None),
    }
}

/// What a link leads to, in words.
pub fn link_text(estate: &Estate, to: &LinkEnd) -> String {
    use crate::describe::name_of;
    match to {
        LinkEnd::Network(network) => format!("network {}", name_of(&estate.networks, network)),
        LinkEnd::Site(site) => format!("site {}", name_of(&estate.sites, site)),
        LinkEnd::Hub(hub) => format!("hub {}", name_of(&estate.hubs, hub)),
        LinkEnd::Firewall(firewall) => format!("firewall {}", name_of(&estate.firewalls, firewall)),
    }
}

/// Why a next hop does not work, in words.
pub fn why_dead(view: &Fabric<'_>, network: Id<Network>, next: &NextHop) -> String {
    let estate = view.estate;
    let missing = |what: &str, name: &str| format!("{what} {name} does not exist");
    let far = |what: &str, name: &str| {
        format!("{what} {name} is neither in this network nor in a peered one")
    };
    match next {
        NextHop::Gateway(Reference::Found(id)) => {
            let gateway = &estate.gateways[*id];
            match gateway.kind {
                GatewayKind::Internet {
                    attached: false, ..
                } => {
                    format!(
                        "internet gateway {} is not attached to its network",
                        gateway.name
                    )
                }
                GatewayKind::Site { up: false, .. } => {
                    format!("site gateway {} is down", gateway.name)
                }
                _ => format!(
                    "gateway {} belongs to network {}",
                    gateway.name, estate.networks[gateway.network].name
                ),
            }
        }
        NextHop::Peering(Reference::Found(id)) => {
            let peering = &estate.peerings[*id];
            down_text(view, peering).unwrap_or_else(|| {
                format!(
                    "peering {} does not include network {}",
                    peering.name, estate.networks[network].name
                )
            })
        }
        NextHop::Hub(Reference::Found(id)) => {
            let hub = &estate.hubs[*id];
            let ours = |link: &&heronshale_model::estate::Link| matches!(&link.to, LinkEnd::Network(to) if to.found() == Some(network));
            match hub.links.iter().find(ours) {
                Some(link) => format!("link {} of hub {} is down", link.name, hub.name),
                None => format!(
                    "hub {} has no link to network {}",
                    hub.name, estate.networks[network].name
                ),
            }
        }
        NextHop::Firewall(Reference::Found(id)) if estate.firewalls[*id].members_up() == 0 => {
            format!(
                "firewall {} has no member that is up",
                estate.firewalls[*id].name
            )
        }
        NextHop::Firewall(Reference::Found(id)) => {
            let legs = estate.firewalls[*id]
                .legs
                .iter()
                .map(|leg| estate.network_of(leg.interface));
            down_between(view, network, legs)
                .unwrap_or_else(|| far("firewall", &estate.firewalls[*id].name))
        }
        NextHop::Interface(Reference::Found(id)) => {
            down_between(view, network, [estate.network_of(*id)])
                .unwrap_or_else(|| far("interface", &estate.interfaces[*id].name))
        }
        NextHop::Balancer(Reference::Found(id)) => {
            down_between(view, network, [estate.balancers[*id].network])
                .unwrap_or_else(|| far("balancer", &estate.balancers[*id].name))
        }
        NextHop::Address(address) => format!("nobody in reach has {address}"),
        NextHop::Gateway(Reference::Missing(name)) => missing("gateway", name),
        NextHop::Peering(Reference::Missing(name)) => missing("peering", name),
        NextHop::Hub(Reference::Missing(name)) => missing("hub", name),
        NextHop::Firewall(Reference::Missing(name)) => missing("firewall", name),
        NextHop::Interface(Reference::Missing(name)) => missing("interface", name),
        NextHop::Balancer(Reference::Missing(name)) => missing("balancer", name),
        NextHop::Service(Reference::Missing(name)) => missing("service", name),
        NextHop::Service(Reference::Found(_)) | NextHop::Local | NextHop::Blackhole => {
            String::new()
        }
    }
}

/// On which side a peering is down; none if it is up.
pub fn down_text(view: &Fabric<'_>, peering: &Peering) -> Option<String> {
    let down: Vec<String> = peering
        .sides
        .iter()
        .filter(|side| !side.up)
        .map(|side| crate::describe::name_of(&view.estate.networks, &side.network))
        .collect();
    (!down.is_empty()).then(|| {
        format!(
            "peering {} is down on the side of {}",
            peering.name,
            down.join(" and of ")
        )
    })
}

/// The peering that is down between a network and one of some others, in words.
fn down_between(
    view: &Fabric<'_>,
    network: Id<Network>,
    others: impl IntoIterator<Item = Id<Network>>,
) -> Option<String> {
    let others: Vec<Id<Network>> = others.into_iter().collect();
    let joins = |peering: &&Peering| {
        let other = peering.opposite(network).and_then(Reference::found);
        other.is_some_and(|other| others.contains(&other))
    };
    view.estate
        .peerings
        .items()
        .iter()
        .filter(joins)
        .find_map(|peering| down_text(view, peering))
}
