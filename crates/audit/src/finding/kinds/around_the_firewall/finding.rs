//! Where the routes of tables and domains lead around a firewall.

use super::*;

/// Routes that go before one to a firewall.
pub(super) fn longer(
    context: &Context<'_, '_>,
    senders: &FxHashMap<Id<Subnet>, Vec<Id<Interface>>>,
) -> Vec<Fact> {
    let view = context.view;
    let mut found: Vec<Fact> = Vec::new();
    for placed in &context.routing().places {
        let subnets: Vec<Id<Subnet>> = placed
            .subnets
            .iter()
            .copied()
            .filter(|id| senders.contains_key(id))
            .collect();
        let to_firewall: Vec<(&Candidate, Id<Firewall>)> = placed
            .candidates
            .all
            .iter()
            .filter_map(|candidate| Some((candidate, firewall_of(view, candidate.winner.hop)?)))
            .collect();
        if subnets.is_empty() || to_firewall.is_empty() {
            continue;
        }
        for (candidate, won) in placed.candidates.all.iter().zip(&placed.won) {
            if won.is_empty() || !goes_around(view, candidate.winner.hop) {
                continue;
            }
            let within = |meant: &&(&Candidate, Id<Firewall>)| {
                won.overlaps(&[meant.0.range].into_iter().collect())
            };
            // The longest of those that it goes before.
            let Some((meant, firewall)) = to_firewall.iter().find(within) else {
                continue;
            };
            let part = won.intersection(&[meant.range].into_iter().collect());
            let there =
                held(view, &part).union(&outward(view, candidate.winner.hop).intersection(&part));
            if there.is_empty() {
                continue;
            }
            let goes_by = goes_by(
                view,
                placed.place.network,
                candidate.winner.hop,
                Some(candidate),
            );
            let same = |fact: &&mut Fact| {
                fact.goes_by.is(&goes_by) && fact.network == placed.place.network
            };
            if let Some(known) = found.iter_mut().find(same) {
                known.subnets.extend(
                    subnets
                        .iter()
                        .filter(|id| !known.subnets.contains(id))
                        .copied()
                        .collect::<Vec<_>>(),
                );
                known.to = known.to.union(&there);
                continue;
            }
            found.push(Fact {
                network: placed.place.network,
                subnets: subnets.clone(),
                goes_by,
                firewall: *firewall,
                meant_by: (route_words(view, meant), meant.winner.origin),
                to: there,
                left: Left::Longer,
                proof: None,
            });
        }
    }
    for fact in &mut found {
        fact.proof = proof(view, fact, senders);
    }
    found
}

/// How a place reaches the internet in a family, if by one way: the candidate, or the last resort.
pub(super) fn way_out<'p>(
    view: &Fabric<'_>,
    placed: &'p Placed<'_>,
    family: Family,
) -> Option<(Hop, Option<&'p Candidate>)> {
    let internet = view
        .internet_end()
        .intersection(&Addresses::of_family(family));
    let mut best: Option<(u128, Hop, Option<&Candidate>)> = None;
    let count = |addresses: &Addresses| {
        addresses
            .of(family)
            .spans()
            .iter()
            .map(|(f, l)| (l - f).saturating_add(1))
            .fold(0, u128::saturating_add)
    };
    let mut rest = internet.clone();
    for (candidate, won) in placed.candidates.all.iter().zip(&placed.won) {
        let here = won.intersection(&internet);
        rest = rest.difference(&here);
        let size = count(&here);
        if size > best.as_ref().map_or(0, |(size, _, _)| *size) {
            best = Some((size, candidate.winner.hop, Some(candidate)));
        }
    }
    let last = placed
        .subnets
        .first()
        .and_then(|subnet| heronshale_engine::route::last_resort(view, *subnet));
    let last = last.filter(|_| family == Family::V4);
    if let Some(hop) = last.filter(|_| count(&rest) > best.as_ref().map_or(0, |(size, _, _)| *size))
    {
        return Some((hop, None));
    }
    best.map(|(_, hop, candidate)| (hop, candidate))
}

/// Subnets from which the internet is reached without the firewall of their neighbours.
pub(super) fn forgotten(
    context: &Context<'_, '_>,
    senders: &FxHashMap<Id<Subnet>, Vec<Id<Interface>>>,
    family: Family,
) -> Vec<Fact> {
    let view = context.view;
    let legs = firewall_subnets(view);
    let ways: Vec<_> = context
        .routing()
        .places
        .iter()
        .map(|placed| (placed, way_out(view, placed, family)))
        .collect();
    let mut found: Vec<Fact> = Vec::new();
    for (placed, way) in &ways {
        let Some((hop, candidate)) = way else {
            continue;
        };
        let network = placed.place.network;
        let leads_out =
            matches!(hop, Hop::Gateway(_) | Hop::SharedAddress) && !outward(view, *hop).is_empty();
        if !leads_out {
            continue;
        }
        // By what the neighbours go.
        let neighbour = ways.iter().find_map(|(other, way)| {
            let (hop, meant) = way.as_ref().filter(|_| other.place.network == network)?;
            let firewall = firewall_of(view, *hop)?;
            let sends = other.subnets.iter().any(|id| senders.contains_key(id));
            sends.then_some((firewall, (*meant)?))
        });
        let Some((firewall, meant)) = neighbour else {
            continue;
        };
        // A subnet from which everything public leads elsewhere before a firewall route is told as such.
        let told = placed
            .candidates
            .all
            .iter()
            .any(|one| firewall_of(view, one.winner.hop).is_some() && one.length == 0);
        let subnets: Vec<Id<Subnet>> = placed
            .subnets
            .iter()
            .copied()
            .filter(|id| senders.contains_key(id) && !legs.contains(id) && !told)
            .collect();
        let subnets: Vec<Id<Subnet>> = subnets
            .into_iter()
            .filter(|id| can_send(view, *hop, &senders[id]))
            .collect();
        if subnets.is_empty() {
            continue;
        }
        let mut fact = Fact {
            network,
            subnets,
            goes_by: goes_by(view, network, *hop, *candidate),
            firewall,
            meant_by: (route_words(view, meant), meant.winner.origin),
            to: outward(view, *hop),
            left: Left::Forgotten,
            proof: None,
        };
        fact.proof = proof(view, &fact, senders);
        found.push(fact);
    }
    found
}

/// Subnets that reach the internet through a firewall in one family, and straight in the other.
pub(super) fn by_family(
    context: &Context<'_, '_>,
    senders: &FxHashMap<Id<Subnet>, Vec<Id<Interface>>>,
) -> Vec<Fact> {
    let view = context.view;
    let mut found = Vec::new();
    for placed in &context.routing().places {
        for (family, other) in [(Family::V6, Family::V4), (Family::V4, Family::V6)] {
            let (Some((hop, candidate)), Some((meant_hop, meant))) =
                (way_out(view, placed, family), way_out(view, placed, other))
            else {
                continue;
            };
            let to = outward(view, hop).intersection(&Addresses::of_family(family));
            let (Some(firewall), Some(meant)) = (firewall_of(view, meant_hop), meant) else {
                continue;
            };
            if firewall_of(view, hop).is_some() || to.is_empty() {
                continue;
            }
            let sends = |id: &Interface| !id.addresses.of(family).is_empty();
            let subnets = placed.subnets.iter().copied().filter(|subnet| {
                let all = senders.get(subnet).into_iter().flatten();
                let all: Vec<Id<Interface>> = all
                    .copied()
                    .filter(|id| sends(&view.estate.interfaces[*id]))
                    .collect();
                !all.is_empty() && (family == Family::V6 || can_send(view, hop, &all))
            });
            let subnets: Vec<Id<Subnet>> = subnets.collect();
            if subnets.is_empty() {
                continue;
            }
            let goes_by = goes_by(view, placed.place.network, hop, candidate);
            let mut fact = Fact {
                network: placed.place.network,
                subnets,
                goes_by,
                firewall,
                meant_by: (route_words(view, meant), meant.winner.origin),
                to,
                left: Left::Family(family),
                proof: None,
            };
            fact.proof = proof(view, &fact, senders);
            found.push(fact);
        }
    }
    found
}

/// What is taken instead.
pub(super) fn goes_by(
    view: &Fabric<'_>,
    network: Id<Network>,
    hop: Hop,
    candidate: Option<&Candidate>,
) -> GoesBy {
    let key = Key::default().network(view.estate, network);
    match candidate {
        Some(one) => GoesBy {
            key: key.candidate(view.estate, one),
            words: route_words(view, one),
            origin: one.winner.origin,
            on_purpose: one.kind == RouteKind::Static,
        },
        None => GoesBy {
            key: key.hop(view.estate, hop),
            words: crate::facts::hop_text(view, hop),
            origin: None,
            on_purpose: false,
        },
    }
}

/// Networks in which a firewall stands between the others and the internet, and no subnet is led to it.
pub(super) fn left_by_all(
    context: &Context<'_, '_>,
    senders: &FxHashMap<Id<Subnet>, Vec<Id<Interface>>>,
) -> Vec<Fact> {
    let (view, estate) = (context.view, context.view.estate);
    let legs = firewall_subnets(view);
    let mut found = Vec::new();
    for (firewall, item) in estate.firewalls.iter() {
        let Some(network) = item
            .legs
            .first()
            .map(|leg| estate.network_of(leg.interface))
        else {
            continue;
        };
        let leads = |hop: Hop| firewall_of(view, hop) == Some(firewall);
        if context.routing().places.iter().any(|placed| {
            placed
                .candidates
                .all
                .iter()
                .any(|one| leads(one.winner.hop))
        }) {
            continue;
        }
        // Somebody meant it: a table that nothing asks leads to it, or it translates what leaves.
        let idle = context.routes().find(|(table, _, route)| {
            let of = estate.route_tables[*table].network;
            let place = heronshale_engine::route::RoutePlace::outside(of);
            of == network
                && route.enabled
                && leads(heronshale_engine::route::hop(view, place, &route.next_hop))
        });
        if idle.is_none() && item.source_translations.is_empty() {
            continue;
        }
        let meant_by = match idle {
            Some((table, at, route)) => (
                format!(
                    "{}, which nothing uses",
                    super::super::super::routing::route_text(context, table, at)
                ),
                Some(route.origin),
            ),
            None => (
                format!("source translations of firewall {}", item.name),
                Some(item.origin),
            ),
        };
        let ways = context
            .routing()
            .places
            .iter()
            .filter(|placed| placed.place.network == network);
        for placed in ways {
            let Some((hop, candidate)) = way_out(view, placed, Family::V4) else {
                continue;
            };
            if outward(view, hop).is_empty() || !matches!(hop, Hop::Gateway(_) | Hop::SharedAddress)
            {
                continue;
            }
            let subnets = placed
                .subnets
                .iter()
                .copied()
                .filter(|id| senders.contains_key(id) && !legs.contains(id));
            let subnets: Vec<Id<Subnet>> = subnets
                .filter(|id| can_send(view, hop, &senders[id]))
                .collect();
            if subnets.is_empty() {
                continue;
            }
            let goes_by = goes_by(view, placed.place.network, hop, candidate);
            let to = outward(view, hop).intersection(&Addresses::of_family(Family::V4));
            let mut fact = Fact {
                network,
                subnets,
                goes_by,
                firewall,
                meant_by: meant_by.clone(),
                to,
                left: Left::ByAll,
                proof: None,
            };
            fact.proof = proof(view, &fact, senders);
            found.push(fact);
        }
    }
    found
}

/// Announcements in a hub's domain that are longer than its route to a firewall.
pub(super) fn in_domains(
    context: &Context<'_, '_>,
    senders: &FxHashMap<Id<Subnet>, Vec<Id<Interface>>>,
) -> Vec<Fact> {
    let (view, estate) = (context.view, context.view.estate);
    let mut found = Vec::new();
    for (id, hub) in estate.hubs.iter() {
        let inline = |at: usize| match &hub.links[at].to {
            LinkEnd::Firewall(firewall) => firewall.found(),
            _ => None,
        };
        for (domain, item) in hub.domains.iter().enumerate() {
            let all = heronshale_engine::route::domain_candidates(view, id, domain).all;
            let link_of = |candidate: &Candidate| match candidate.winner.hop {
                Hop::Hub(_, at) => Some(at),
                _ => None,
            };
            let led: Vec<(&Candidate, Id<Firewall>)> = all
                .iter()
                .filter_map(|one| Some((one, inline(link_of(one)?)?)))
                .collect();
            if led.is_empty() {
                continue;
            }
            let readers = hub
                .links
                .iter()
                .enumerate()
                .filter(|(_, link)| link.up && link.reads == Some(domain));
            for (at, reader) in readers {
                let LinkEnd::Network(network) = &reader.to else {
                    continue;
                };
                let Some(network) = network.found() else {
                    continue;
                };
                if reader.steer_private.is_some() {
                    continue;
                }
                let of_network = |subnet: &&Id<Subnet>| estate.subnets[**subnet].network == network;
                let mut subnets: Vec<Id<Subnet>> =
                    senders.keys().filter(of_network).copied().collect();
                subnets.sort_unstable();
                let won = super::super::super::routing::won(&all);
                for (candidate, won) in all.iter().zip(won) {
                    let Some(out) =
                        link_of(candidate).filter(|out| *out != at && inline(*out).is_none())
                    else {
                        continue;
                    };
                    let within = |meant: &&(&Candidate, Id<Firewall>)| {
                        won.overlaps(&[meant.0.range].into_iter().collect())
                    };
                    let Some((meant, firewall)) = led.iter().find(within) else {
                        continue;
                    };
                    let there = held(
                        view,
                        &won.intersection(&[meant.range].into_iter().collect()),
                    );
                    if there.is_empty() || subnets.is_empty() {
                        continue;
                    }
                    let kind = if candidate.kind == RouteKind::Static {
                        "route"
                    } else {
                        "announcement"
                    };
                    let words = |candidate: &Candidate, kind: &str, link: usize| {
                        let (hub, domain, link) = (&hub.name, &item.name, &hub.links[link].name);
                        format!(
                            "{kind} {} in domain {domain} of hub {hub} to link {link}",
                            candidate.range
                        )
                    };
                    let mut fact = Fact {
                        network,
                        subnets: subnets.clone(),
                        goes_by: GoesBy {
                            key: Key::default()
                                .network(estate, network)
                                .token(kind)
                                .range(&candidate.range)
                                .token("in domain")
                                .name(&item.name)
                                .token("of hub")
                                .name(&hub.name)
                                .token("to link")
                                .name(&hub.links[out].name),
                            words: words(candidate, kind, out),
                            origin: Some(hub.links[out].origin),
                            on_purpose: candidate.kind == RouteKind::Static,
                        },
                        firewall: *firewall,
                        meant_by: (
                            words(meant, "route", link_of(meant).unwrap_or(out)),
                            meant.winner.origin,
                        ),
                        to: there,
                        left: Left::Longer,
                        proof: None,
                    };
                    fact.proof = proof(view, &fact, senders);
                    found.push(fact);
                }
            }
        }
    }
    found
}
