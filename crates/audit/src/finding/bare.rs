//! The estate as routes and devices alone, without filters, and all connections in it of which a device may see only half.

use heronshale_engine::fabric::Fabric;
use heronshale_engine::sweep::{From, Spared, Sweep, Sweeping, Transit, sent, sweep};
use heronshale_engine::walk::{Direct, alike};
use heronshale_model::estate::{
    Action, Estate, Filter, FilterKind, Id, Interface, InternetTraffic, Lack, Network, NoGroup,
    Reference, RouteDestination,
};
use heronshale_sets::address::Addresses;
use heronshale_sets::packet::PacketSet;
use rustc_hash::{FxHashMap, FxHashSet};

/// The estate as if no filter were anywhere: what is left are routes and devices.
pub(super) fn without_filters(estate: &Estate) -> Estate {
    let mut bare = estate.clone();
    for id in estate.interfaces.ids() {
        let item = bare.interfaces.get_mut(id);
        item.groups.clear();
        item.own_firewall = None;
    }
    for id in estate.workloads.ids() {
        bare.workloads.get_mut(id).own_firewall = None;
    }
    for id in estate.subnets.ids() {
        let item = bare.subnets.get_mut(id);
        (item.acl, item.internet_traffic) = (None, InternetTraffic::BothWays);
        item.groups.clear();
    }
    for id in estate.networks.ids() {
        let item = bare.networks.get_mut(id);
        item.internet_traffic = InternetTraffic::BothWays;
        (item.settings.no_group, item.settings.implied_pair) = (NoGroup::Allow, false);
    }
    for id in estate.filters.ids() {
        bare.filters.get_mut(id).rules = Default::default();
    }
    let open = Filter {
        key: "firewall-policy:\0open".into(),
        name: "open".into(),
        origin: estate
            .firewalls
            .items()
            .first()
            .map_or_else(|| estate.networks.items()[0].origin, |one| one.origin),
        kind: FilterKind::FirewallPolicy {
            base: None,
            default: Action::Allow,
            class_order: Vec::new(),
            sections: Vec::new(),
        },
        rules: Default::default(),
        owner: None,
        tags: Vec::new(),
        description: None,
    };
    if let Ok(open) = bare.filters.add(open) {
        for id in estate.firewalls.ids() {
            bare.firewalls.get_mut(id).policy = Some(Reference::Found(open));
        }
    }
    bare.gaps
        .retain(|gap| !matches!(gap.lack, Lack::Rules | Lack::Groups | Lack::OwnFirewalls));
    bare
}

/// Leaves of interfaces whose packets are routed alike two, where a network routes between its own subnets two in each of two; and
/// says for whom the first stands.
pub(super) fn thin(
    bare: &mut Estate,
    at: Option<jiff::Timestamp>,
) -> FxHashMap<Id<Interface>, Vec<Id<Interface>>> {
    let public = std::mem::take(&mut bare.public_addresses);
    let mut mapped: FxHashMap<Id<Interface>, u32> = FxHashMap::default();
    for item in public.items() {
        if let Some(id) = item.interface {
            *mapped.entry(id).or_default() += if item.address.is_ipv4() { 1 } else { 1 << 16 };
        }
    }
    let kinds = {
        let view = Fabric::new(bare, at);
        let held: Addresses = public
            .items()
            .iter()
            .filter(|item| item.interface.is_some())
            .map(|p| p.address)
            .collect();
        let told_apart = alike::are_told_apart(&view, &held);
        let apart = |id: Id<Interface>| mapped.get(&id).copied().unwrap_or_default();
        let mut kinds = alike::routed_alike(&view, &apart);
        kinds.retain(|members| !told_apart || apart(members[0]) == 0);
        kinds
    };
    let within: FxHashSet<Id<Network>> = networks_routed_within(bare);
    let mut others: FxHashMap<Id<Interface>, Vec<Id<Interface>>> = FxHashMap::default();
    let mut left_out: FxHashSet<Id<Interface>> = FxHashSet::default();
    for members in kinds {
        let most = if within.contains(&bare.network_of(members[0])) {
            2
        } else {
            1
        };
        let mut subnets: Vec<(Id<heronshale_model::estate::Subnet>, usize)> = Vec::new();
        for id in &members {
            let subnet = bare.interfaces[*id].subnet;
            let known = subnets.iter().position(|(other, _)| *other == subnet);
            let stays = match known {
                Some(at) => subnets[at].1 < 2,
                None => subnets.len() < most,
            };
            match known {
                _ if !stays => {}
                Some(at) => subnets[at].1 += 1,
                None => subnets.push((subnet, 1)),
            }
            if !stays {
                left_out.insert(*id);
                others.entry(members[0]).or_default().push(*id);
            }
        }
    }
    for item in public
        .items()
        .iter()
        .filter(|item| item.interface.is_none_or(|id| !left_out.contains(&id)))
    {
        bare.public_addresses
            .add(item.clone())
            .expect("names stay unique");
    }
    for id in left_out {
        bare.interfaces.get_mut(id).addresses = Addresses::empty();
    }
    others
}

/// Networks with a route to a part of their own blocks.
fn networks_routed_within(estate: &Estate) -> FxHashSet<Id<Network>> {
    let inside = |network: Id<Network>, destination: &RouteDestination| match destination {
        RouteDestination::Block(block) => {
            let range: Addresses = [block.range].into_iter().collect();
            range
                .difference(&estate.networks[network].blocks)
                .is_empty()
        }
        RouteDestination::Set(_) => true,
    };
    let tables = estate.route_tables.items().iter();
    let routes = tables.flat_map(|table| table.routes.iter().map(|route| (table.network, route)));
    let within =
        routes.filter(|(network, route)| route.destinations.iter().any(|to| inside(*network, to)));
    within.map(|(network, _)| network).collect()
}

/// All connections of the estate on one port, less those of which it is known that no device sees only half of them.
pub(super) fn all_there_and_back(routes: &Fabric<'_>) -> Vec<Sweep> {
    let estate = routes.estate;
    let web = [heronshale_engine::path::tcp(443)];
    let ports = &routes.settings(None).client_ports;
    let own = |ids: &[Id<Interface>]| -> Addresses {
        ids.iter()
            .flat_map(|id| estate.interfaces[*id].addresses.ranges())
            .collect()
    };
    let all = PacketSet::full();
    // A device's interfaces are no ends, unless their address is a name of something else.
    let roles = routes.roles();
    let is_part = |id: &Id<Interface>| roles.contains_key(id) || estate.interfaces[*id].forwards;
    let fronts = estate
        .balancers
        .items()
        .iter()
        .flat_map(|balancer| &balancer.front_ends);
    let names: Addresses = fronts
        .map(|front| front.address)
        .collect::<Addresses>()
        .union(routes.public());
    let names = names.union(routes.held_by_several());
    let parts =
        own(&estate.interfaces.ids().filter(is_part).collect::<Vec<_>>()).difference(&names);
    let direct = Direct::new(routes);
    let transit = Transit::new(routes, |from, to| sent(from, to, &web, ports));
    let between = |from: &Addresses, to: &Addresses| all.between(Some(from), Some(to));
    let spared = |ids: &[Id<Interface>]| {
        let subnets = ids.iter().map(|id| estate.interfaces[*id].subnet);
        let near = direct
            .as_ref()
            .map_or_else(PacketSet::empty, |direct| direct.packets(subnets));
        let public = transit
            .as_ref()
            .map_or_else(|| parts.clone(), |transit| parts.union(transit.public()));
        let devices: Vec<Id<Interface>> = ids.iter().copied().filter(is_part).collect();
        let of_devices = all.between(Some(&own(&devices)), None);
        near.union(&between(&own(ids), &public)).union(&of_devices)
    };
    let asked = |from: From<'_>, spared: Spared<'_>| {
        let (spared, apart) = (Some(spared), |_| 0);
        sweep(
            routes,
            &Sweeping {
                services: &web,
                failing: true,
                spared,
                ..Sweeping::of(from, &apart)
            },
        )
    };
    let mut sweeps = vec![asked(From::Everywhere, &spared)];
    if let Some(transit) = &transit {
        let unclean: FxHashSet<Id<Interface>> =
            Transit::unclean_senders(&sweeps[0]).into_iter().collect();
        if !unclean.is_empty() || !transit.unclean().is_empty() {
            let everybody: Vec<Id<Interface>> = estate.interfaces.ids().collect();
            sweeps.push(asked(From::Interfaces(&everybody), &|ids: &[Id<
                Interface,
            >]| {
                let some: Vec<Id<Interface>> = ids
                    .iter()
                    .copied()
                    .filter(|id| unclean.contains(id))
                    .collect();
                let wanted = between(&own(ids), transit.unclean());
                all.difference(&wanted.union(&between(&own(&some), transit.public())))
            }));
        }
    }
    sweeps
}
