//! What of a step decides, by name: the thing that a reader would look at.

use super::super::hop::down_text;
use super::*;

/// What a walk ended at, by its own name.
pub(super) struct Named {
    pub(super) at: String,
    pub(super) why: String,
    pub(super) origin: Option<Origin>,
    pub(super) owner: Option<Id<Owner>>,
}

/// The thing that ended a walk, where that is another than the place at which it showed.
pub(super) fn named(view: &Fabric<'_>, at: Spot, why: Why) -> Option<Named> {
    let estate = view.estate;
    let place = |at: String, why: &str, origin: Option<Origin>| {
        Some(Named {
            at,
            why: why.to_owned(),
            origin,
            owner: None,
        })
    };
    match (why, at) {
        (Why::NoGateway, Spot::Network(network)) => {
            let mut here = estate
                .gateways
                .iter()
                .filter(|(_, gateway)| gateway.network == network);
            let (id, gateway) = here.find(|(_, g)| {
                matches!(
                    g.kind,
                    GatewayKind::Internet {
                        attached: false,
                        ..
                    }
                )
            })?;
            let why = format!(
                "it is not attached to network {}",
                estate.networks[network].name
            );
            let owner = gateway.owner.or(estate.networks[network].owner);
            Some(Named {
                at: gateway_text(estate, id),
                why,
                origin: Some(gateway.origin),
                owner,
            })
        }
        (Why::DeadHop(winner), _) => dead_hop(view, at, winner),
        (Why::NoRoute, Spot::Hub(id, Some(_))) => {
            let hub = &estate.hubs[id];
            let down: Vec<String> = hub
                .links
                .iter()
                .filter(|link| !link.up)
                .map(|link| {
                    format!(
                        "link {} to {} is down",
                        link.name,
                        link_text(estate, &link.to)
                    )
                })
                .collect();
            let (at, ..) = spot_text(view, at);
            let why = format!("no route; {}", down.join(", "));
            (!down.is_empty()).then_some(Named {
                at,
                why,
                origin: None,
                owner: None,
            })
        }
        (Why::OpenRoute(winner), _) => {
            if let Some((table, route)) = winner
                .origin
                .and_then(|origin| heronshale_engine::route::written_route(estate, origin))
            {
                let item = &estate.route_tables[table];
                let name = item.routes[route]
                    .id
                    .as_ref()
                    .map_or_else(|| format!("#{}", route + 1), ToString::to_string);
                let sets =
                    heronshale_engine::route::open_parts(view, &item.routes[route].destinations);
                let from = item.routes[route].only_from.as_deref().unwrap_or(&[]);
                let sets = sets
                    .into_iter()
                    .chain(heronshale_engine::route::open_parts(view, from));
                let sets: Vec<String> = sets.map(|peer| open_text(view, &peer)).collect();
                let why = format!("whether it wins depends on {}", sets.join(" and "));
                return place(
                    format!("route {name} of table {}", item.name),
                    &why,
                    winner.origin,
                );
            }
            lacking_routes(view, at)
        }
        (Why::Lacking, Spot::Peering(id, None)) => {
            let sides = estate.peerings[id]
                .sides
                .iter()
                .filter_map(|side| match &side.network {
                    Reference::Missing(name) => Some(format!("network {name}")),
                    Reference::Found(_) => None,
                });
            let name = sides.collect::<Vec<_>>().join(" and ");
            place(
                name,
                &format!(
                    "missing from the snapshot, behind peering {}",
                    estate.peerings[id].name
                ),
                None,
            )
        }
        (Why::Lacking, Spot::Firewall(id)) => {
            let item = &estate.firewalls[id];
            let lacks = [Lack::Interfaces, Lack::Rules, Lack::Routes];
            let of = lacks
                .into_iter()
                .find(|lack| view.lacks("firewall", &item.name, *lack))?;
            place(
                format!("firewall {}", item.name),
                &format!("its {} are missing from the snapshot", of.word()),
                Some(item.origin),
            )
        }
        (Why::Lacking, Spot::Subnet(_) | Spot::Network(_)) => lacking_routes(view, at),
        (Why::NobodyKnown, _) => {
            let gap = first_gap(
                view,
                &[
                    "interface",
                    "subnet",
                    "balancer",
                    "firewall",
                    "service",
                    "network",
                ],
            )?;
            let (at, ..) = spot_text(view, at);
            place(
                at,
                &format!(
                    "nobody is known to have the address, and {gap} is missing from the snapshot"
                ),
                None,
            )
        }
        _ => None,
    }
}

/// The first gap about something of these kinds, in words: `the interfaces of network quay`.
pub(super) fn first_gap(view: &Fabric<'_>, kinds: &[&str]) -> Option<String> {
    let of = |kind: &&str| {
        view.estate.gaps.iter().find(|gap| {
            let is_kind = gap
                .object
                .split_once(':')
                .is_some_and(|(other, _)| other == *kind);
            is_kind && matches!(gap.lack, Lack::Everything | Lack::Interfaces)
        })
    };
    let gap = kinds.iter().find_map(of)?;
    let object = gap.object.replacen(':', " ", 1);
    let what = if gap.lack == Lack::Everything {
        object
    } else {
        format!("the {} of {object}", gap.lack.word())
    };
    Some(
        gap.reason
            .as_ref()
            .map_or_else(|| what.clone(), |reason| format!("{what} ({reason})")),
    )
}

/// What a place lacks that would say where its packets go.
pub(super) fn lacking_routes(view: &Fabric<'_>, at: Spot) -> Option<Named> {
    let estate = view.estate;
    let (network, table) = match at {
        Spot::Subnet(subnet) => (
            estate.subnets[subnet].network,
            heronshale_engine::route::table_of(view, subnet),
        ),
        Spot::Network(network) => (network, estate.networks[network].main_table.as_ref()),
        Spot::Hub(id, _) => {
            let item = &estate.hubs[id];
            let at = format!("hub {}", item.name);
            let missing: Vec<String> = item
                .links
                .iter()
                .filter_map(|link| missing_end(&link.to))
                .collect();
            let why = match view.lacks("hub", &item.name, Lack::Routes) {
                true => "its routes are missing from the snapshot".to_owned(),
                false => {
                    format!(
                        "its announcements are unknown, because {} is missing from the snapshot",
                        missing.join(" and ")
                    )
                }
            };
            return Some(Named {
                at,
                why,
                origin: Some(item.origin),
                owner: item.owner,
            });
        }
        _ => return None,
    };
    let item = &estate.networks[network];
    let named = |at: String, why: String, origin| {
        Some(Named {
            at,
            why,
            origin,
            owner: item.owner,
        })
    };
    match table {
        Some(Reference::Missing(name)) => {
            return named(
                format!("table {name}"),
                "missing from the snapshot".to_owned(),
                None,
            );
        }
        Some(Reference::Found(id))
            if view.lacks("table", &estate.route_tables[*id].name, Lack::Routes) =>
        {
            let table = &estate.route_tables[*id];
            let why = "its routes are missing from the snapshot".to_owned();
            return named(format!("table {}", table.name), why, Some(table.origin));
        }
        _ => {}
    }
    let (at, ..) = spot_text(view, at);
    if view.lacks("network", &item.name, Lack::Routes) {
        let why = "its routes are missing from the snapshot".to_owned();
        return named(format!("network {}", item.name), why, Some(item.origin));
    }
    let peers = estate
        .peerings
        .items()
        .iter()
        .filter_map(|peering| peering.opposite(network));
    let missing = peers.filter_map(|other| match other {
        Reference::Missing(name) => Some(format!("network {name}")),
        Reference::Found(_) => None,
    });
    let kinds = ["peering", "gateway", "hub"].into_iter();
    let gaps = kinds
        .filter_map(|kind| view.lacking(kind).next())
        .map(|gap| gap.object.replacen(':', " ", 1));
    let what = missing.chain(gaps).next()?;
    named(
        at,
        format!("{what} may lead there, but is missing from the snapshot"),
        None,
    )
}

/// What a link leads to that the snapshot lacks.
pub(super) fn missing_end(to: &LinkEnd) -> Option<String> {
    match to {
        LinkEnd::Network(Reference::Missing(name)) => Some(format!("network {name}")),
        LinkEnd::Site(Reference::Missing(name)) => Some(format!("site {name}")),
        LinkEnd::Hub(Reference::Missing(name)) => Some(format!("hub {name}")),
        LinkEnd::Firewall(Reference::Missing(name)) => Some(format!("firewall {name}")),
        _ => None,
    }
}

/// The route that leads to a dead next hop, and why it is dead.
fn dead_hop(view: &Fabric<'_>, at: Spot, winner: Winner) -> Option<Named> {
    let estate = view.estate;
    let Some(origin) = winner.origin else {
        return dead_peering(view, at);
    };
    if let Some((table, at)) = heronshale_engine::route::written_route(estate, origin) {
        let item = &estate.route_tables[table];
        let route = &item.routes[at];
        let name = route
            .id
            .as_ref()
            .map_or_else(|| format!("#{}", at + 1), ToString::to_string);
        let why = why_dead(view, item.network, &route.next_hop);
        let owner = item.owner.or(estate.networks[item.network].owner);
        return Some(Named {
            at: format!("route {name} of table {}", item.name),
            why,
            origin: Some(origin),
            owner,
        });
    }
    let in_hub = estate.hubs.items().iter().find_map(|hub| {
        let of = |at: String, why: String| {
            Some(Named {
                at,
                why,
                origin: Some(origin),
                owner: hub.owner,
            })
        };
        if let Some(link) = hub.links.iter().find(|link| link.origin == origin) {
            return of(
                format!("hub {}, link {}", hub.name, link.name),
                "its target is missing from the snapshot".to_owned(),
            );
        }
        hub.domains.iter().find_map(|domain| {
            let route = domain.routes.iter().find(|route| route.origin == origin)?;
            let why = match &route.hop {
                DomainHop::Link(at) => format!(
                    "its route leads to link {}, which is down",
                    hub.links[*at].name
                ),
                DomainHop::Missing(name) => {
                    format!("its route leads to link {name}, which does not exist")
                }
                DomainHop::Blackhole => return None,
            };
            of(format!("hub {}, domain {}", hub.name, domain.name), why)
        })
    });
    in_hub.or_else(|| dead_peering(view, at))
}

/// The peerings that are down where an automatic route leads to one.
fn dead_peering(view: &Fabric<'_>, at: Spot) -> Option<Named> {
    let Spot::Subnet(subnet) = at else {
        return None;
    };
    let network = view.estate.subnets[subnet].network;
    let here = view.estate.peerings.items().iter();
    let here = here.filter(|peering| peering.opposite(network).is_some());
    let down: Vec<_> = here
        .filter_map(|peering| Some((peering, down_text(view, peering)?)))
        .collect();
    let (first, _) = down.first()?;
    let texts: Vec<&str> = down.iter().map(|(_, text)| text.as_str()).collect();
    Some(Named {
        at: subnet_table(view, subnet),
        why: texts.join("; "),
        origin: Some(first.origin),
        owner: view.estate.networks[network].owner,
    })
}

/// A peer of which the snapshot does not say everything, in words.
pub(super) fn open_text(view: &Fabric<'_>, peer: &Peer) -> String {
    let estate = view.estate;
    match peer {
        Peer::AddressSet(Reference::Found(set)) => {
            format!(
                "set {}, which the platform does not disclose",
                estate.address_sets[*set].name
            )
        }
        Peer::Probes => {
            "the addresses of health checks, which are missing from the snapshot".to_owned()
        }
        Peer::Network(Reference::Missing(name)) => {
            format!("network {name}, which is missing from the snapshot")
        }
        _ if peer.is_missing() => format!(
            "{}, which is missing from the snapshot",
            crate::describe::peer_text(estate, peer).trim_end_matches(" (missing)")
        ),
        _ => {
            let gap = first_gap(view, &["network", "subnet", "interface", "peering", "hub"]);
            let gap = gap.map_or_else(String::new, |gap| {
                format!(": {gap} is missing from the snapshot")
            });
            format!(
                "the other members of {}{gap}",
                crate::describe::peer_text(estate, peer)
            )
        }
    }
}

/// On what it turns whether the rule of a step matches.
pub(super) fn open_parts(view: &Fabric<'_>, step: &Step) -> Option<String> {
    let by = match &step.what {
        What::Stage { judgement, .. } | What::Acl(_, judgement) => judgement.by,
        What::Policy { by, .. } => *by,
        _ => return None,
    };
    let By::Rule(id) = by else { return None };
    let rule = view.estate.rule(id);
    let network = match step.at {
        Spot::Interface(interface) => Some(view.estate.network_of(interface)),
        Spot::Subnet(subnet) => Some(view.estate.subnets[subnet].network),
        _ => None,
    };
    let peers = rule
        .peers
        .iter()
        .flatten()
        .chain(&rule.except)
        .chain(rule.local.iter().flatten());
    let mut texts: Vec<String> = Vec::new();
    for peer in peers {
        for open in view.open_peers(peer, network) {
            let text = open_text(view, &open);
            if !texts.contains(&text) {
                texts.push(text);
            }
        }
    }
    (!texts.is_empty()).then(|| format!("this depends on {}", texts.join(" and ")))
}
