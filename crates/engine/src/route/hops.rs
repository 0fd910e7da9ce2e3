//! Where a next hop leads.

use super::*;

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
pub(super) fn near(view: &View<'_>, network: Id<Network>, interface: Id<Interface>) -> Hop {
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
pub(super) fn firewall_leg(view: &View<'_>, place: RoutePlace<'_>, firewall: Id<Firewall>) -> Hop {
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
pub(super) fn holder(view: &View<'_>, network: Id<Network>, address: IpAddr) -> Hop {
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
