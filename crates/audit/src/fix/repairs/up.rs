//! Repairs of what is down or leads nowhere.

use super::*;

pub(super) fn attached_gateways(view: &Fabric<'_>, spot: Spot) -> Vec<Edit> {
    let estate = view.estate;
    let network = match spot {
        Spot::Network(network) => network,
        Spot::Gateway(gateway) => estate.gateways[gateway].network,
        _ => return Vec::new(),
    };
    let here = estate
        .gateways
        .iter()
        .filter(|(_, gateway)| gateway.network == network);
    here.filter(|(_, gateway)| {
        matches!(
            gateway.kind,
            GatewayKind::Internet {
                attached: false,
                ..
            }
        )
    })
    .map(|(id, gateway)| {
        let text = format!("attach internet gateway {} to its network", gateway.name);
        let owner = gateway.owner.or(estate.networks[network].owner);
        Edit::new(
            EditKind::Up,
            text,
            Some(gateway.origin),
            owner,
            move |estate| raise_gateway(estate, id),
        )
    })
    .collect()
}

pub(super) fn raise_gateway(estate: &mut Estate, id: Id<heronshale_model::estate::Gateway>) {
    match &mut estate.gateways.get_mut(id).kind {
        GatewayKind::Internet { attached, .. } => *attached = true,
        GatewayKind::Site { up, .. } => *up = true,
        GatewayKind::Nat { .. } | GatewayKind::OutboundOnly => {}
    }
}

/// Peerings that are down, from here to a network that has the destination.
pub(super) fn peerings_up(view: &Fabric<'_>, failure: &Failure, spot: Spot) -> Vec<Edit> {
    let estate = view.estate;
    let network = match spot {
        Spot::Subnet(subnet) => estate.subnets[subnet].network,
        Spot::Network(network) => network,
        _ => return Vec::new(),
    };
    let to = failure.packets.destinations();
    let leads = |peering: &Peering| {
        let other = peering.opposite(network).and_then(Reference::found);
        !peering.is_up() && other.is_some_and(|other| estate.networks[other].blocks.overlaps(&to))
    };
    let down = estate.peerings.iter().filter(|(_, peering)| leads(peering));
    down.map(|(id, _)| peering_up(estate, id, network))
        .collect()
}

pub(super) fn peering_up(estate: &Estate, id: Id<Peering>, network: Id<Network>) -> Edit {
    let peering = &estate.peerings[id];
    let text = format!("bring peering {} up on both sides", peering.name);
    Edit::new(
        EditKind::Up,
        text,
        Some(peering.origin),
        estate.networks[network].owner,
        move |estate| {
            for side in &mut estate.peerings.get_mut(id).sides {
                side.up = true;
            }
        },
    )
}

/// Peerings that are down between a network and some others.
pub(super) fn joined(
    view: &Fabric<'_>,
    network: Id<Network>,
    others: Vec<Id<Network>>,
) -> Vec<Edit> {
    let estate = view.estate;
    let leads = |peering: &Peering| {
        let other = peering.opposite(network).and_then(Reference::found);
        !peering.is_up() && other.is_some_and(|other| others.contains(&other))
    };
    let down = estate.peerings.iter().filter(|(_, peering)| leads(peering));
    down.map(|(id, _)| peering_up(estate, id, network))
        .collect()
}

/// Members of a firewall that are down.
pub(super) fn members_up(view: &Fabric<'_>, id: Id<Firewall>) -> Vec<Edit> {
    let item = &view.estate.firewalls[id];
    let up = |(at, member): (usize, &heronshale_model::estate::Member)| {
        let text = format!(
            "bring member {1} of firewall {0} up",
            item.name, member.name
        );
        Edit::new(
            EditKind::Up,
            text,
            Some(item.origin),
            item.owner,
            move |estate| {
                estate.firewalls.get_mut(id).members[at].up = true;
            },
        )
    };
    item.members
        .iter()
        .enumerate()
        .filter(|(_, member)| !member.up)
        .map(up)
        .collect()
}

/// What a dead route leads to, up.
pub(super) fn raised(view: &Fabric<'_>, winner: Winner) -> Vec<Edit> {
    use heronshale_model::estate::NextHop;
    let estate = view.estate;
    let Some((table, at)) = winner
        .origin
        .and_then(|origin| written_route(estate, origin))
    else {
        return Vec::new();
    };
    let network = estate.route_tables[table].network;
    match &estate.route_tables[table].routes[at].next_hop {
        NextHop::Gateway(Reference::Found(id)) => {
            let (id, gateway) = (*id, &estate.gateways[*id]);
            let text = match gateway.kind {
                GatewayKind::Internet { .. } => {
                    format!("attach internet gateway {} to its network", gateway.name)
                }
                _ => format!("bring gateway {} up", gateway.name),
            };
            let owner = gateway.owner.or(estate.networks[gateway.network].owner);
            vec![Edit::new(
                EditKind::Up,
                text,
                Some(gateway.origin),
                owner,
                move |estate| raise_gateway(estate, id),
            )]
        }
        NextHop::Peering(Reference::Found(id)) => {
            vec![peering_up(estate, *id, network)]
        }
        NextHop::Firewall(Reference::Found(id)) if estate.firewalls[*id].members_up() == 0 => {
            members_up(view, *id)
        }
        NextHop::Firewall(Reference::Found(id)) => {
            let legs = estate.firewalls[*id].legs.iter();
            joined(
                view,
                network,
                legs.map(|leg| estate.network_of(leg.interface)).collect(),
            )
        }
        NextHop::Interface(Reference::Found(id)) => {
            joined(view, network, vec![estate.network_of(*id)])
        }
        NextHop::Balancer(Reference::Found(id)) => {
            joined(view, network, vec![estate.balancers[*id].network])
        }
        NextHop::Address(address) => {
            let holds = estate
                .interfaces
                .iter()
                .filter(|(_, item)| item.addresses.contains(*address));
            joined(
                view,
                network,
                holds.map(|(id, _)| estate.network_of(id)).collect(),
            )
        }
        NextHop::Hub(Reference::Found(id)) => {
            let (id, hub) = (*id, &estate.hubs[*id]);
            let ours = |link: &Link| {
                matches!(&link.to, heronshale_model::estate::LinkEnd::Network(to) if to.found() == Some(network))
                    && !link.up
            };
            hub.links
                .iter()
                .enumerate()
                .filter(|(_, link)| ours(link))
                .map(|(at, _)| Edit::link_up(estate, id, at))
                .collect()
        }
        _ => Vec::new(),
    }
}

pub(super) fn route_off(estate: &Estate, winner: Winner) -> Option<Edit> {
    let (table, at) = written_route(estate, winner.origin?)?;
    let (item, route) = (
        &estate.route_tables[table],
        &estate.route_tables[table].routes[at],
    );
    let name = route
        .id
        .as_ref()
        .map_or_else(|| format!("#{}", at + 1), ToString::to_string);
    let text = format!("disable route {name} of table {}", item.name);
    let owner = item.owner.or(estate.networks[item.network].owner);
    Some(Edit::new(
        EditKind::Flag,
        text,
        Some(route.origin),
        owner,
        move |estate| {
            estate.route_tables.get_mut(table).routes[at].enabled = false;
        },
    ))
}

/// Front ends at the address for the services that none takes.
pub(super) fn front_ends(view: &Fabric<'_>, failure: &Failure, spot: Spot) -> Vec<Edit> {
    let Spot::Balancer(id) = spot else {
        return Vec::new();
    };
    let item = &view.estate.balancers[id];
    let wanted = failure.packets.destinations();
    let Some(front) = item
        .front_ends
        .iter()
        .find(|front| wanted.contains(front.address))
    else {
        return Vec::new();
    };
    let services = services_of(&failure.packets);
    let new = FrontEnd {
        services: services.clone(),
        ..front.clone()
    };
    let probe = rule_for(view, &failure.packets, Direction::In, item.origin, None);
    let says = rule_line(
        view.estate,
        &heronshale_model::estate::Rule {
            peers: None,
            ..probe
        },
        Direction::In,
    );
    let says = says.trim_end_matches(" from any");
    let text = format!(
        "add to balancer {} a front end at {} for {says}",
        item.name, front.address
    );
    let owner = item.owner.or(view.estate.networks[item.network].owner);
    vec![Edit::new(
        EditKind::FrontEnd,
        text,
        Some(front.origin),
        owner,
        move |estate| {
            estate.balancers.get_mut(id).front_ends.push(new.clone());
        },
    )]
}
