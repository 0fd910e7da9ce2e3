//! Traffic that gets around the firewall.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::kind::Kind;
use super::super::routing::{Placed, addresses_text, firewall_subnets, held, proving};
use crate::describe::{owner_text, witness};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::route::firewall_of;
use heronshale_engine::route::{Candidate, Hop};
use heronshale_engine::sweep::sent;
use heronshale_engine::walk::{Asked, Spot, Start, Verdict, What, walk_ends};
use heronshale_model::estate::{
    Firewall, GatewayKind, Id, Interface, LinkEnd, Network, RouteKind, Subnet,
};
use heronshale_model::severity::Severity;
use heronshale_model::source::Origin;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::packet::Packet;
use rustc_hash::FxHashMap;

pub(crate) const KIND: Kind = Kind {
    name: "around-the-firewall",
    base: Severity::Serious,
    about: "Traffic gets around a firewall through which other routes of the same place, or of the same network, lead.",
    why: "Who looks at the default route believes that everything is inspected. A more specific route, made by the platform or by somebody else, wins without a word; or one subnet was forgotten.",
    triggers: "A place with a route to a firewall, where a route that goes before it (a peering's, a propagated one, a private door's, a written one) leads part of the same destinations elsewhere, and something is there; or a subnet from which the internet is \
        reached without the firewall by which other subnets of its network reach it, or by which the other family does; a firewall to which no subnet of its network is led, though a table or its translations were made for it; an announcement in a hub's domain \
        that is longer than the domain's route to a firewall. Silent for the network's own blocks, for subnets of the firewall itself, and where nothing could be sent.",
    mend: "Write a route to the firewall that is as long as the one that wins, or attach the table that leads there.",
    price: "the packets go through the firewall then, whose policy may refuse them",
    factors: &[
        "-1 if the route was written on purpose",
        "-1 if filters let nothing pass that way today",
    ],
    example: include_str!("../examples/around-the-firewall.yaml"),
    check: |context| {
        let senders = senders(context.view);
        let mut all = longer(context, &senders);
        all.extend(forgotten(context, &senders, Family::V4));
        all.extend(by_family(context, &senders));
        all.extend(left_by_all(context, &senders));
        all.extend(in_domains(context, &senders));
        all.iter().map(|fact| tell(context, fact)).collect()
    },
};

/// No more interfaces are looked at to find one that proves it.
const MOST: usize = 64;

/// In which way a firewall is left out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Left {
    /// A route goes before the one that leads to it.
    Longer,
    /// Neighbours go through it, this subnet does not.
    Forgotten,
    /// One family goes through it, the other does not.
    Family(Family),
    /// Nothing leads to it any more.
    ByAll,
}

struct Fact {
    network: Id<Network>,
    subnets: Vec<Id<Subnet>>,
    /// How it goes, in words, where that was written, and whether on purpose.
    goes_by: (String, Option<Origin>, bool),
    firewall: Id<Firewall>,
    /// The route or table that leads to the firewall.
    meant_by: (String, Option<Origin>),
    to: Addresses,
    /// How it was left out.
    left: Left,
    proof: Option<Packet>,
}

fn senders(view: &Fabric<'_>) -> FxHashMap<Id<Subnet>, Vec<Id<Interface>>> {
    let mut all: FxHashMap<Id<Subnet>, Vec<Id<Interface>>> = FxHashMap::default();
    for (id, interface) in view.estate.interfaces.iter() {
        if !interface.forwards {
            all.entry(interface.subnet).or_default().push(id);
        }
    }
    all
}

/// The addresses of the internet, if the hop leads there.
fn outward(view: &Fabric<'_>, hop: Hop) -> Addresses {
    match hop {
        Hop::Gateway(id) if !matches!(view.estate.gateways[id].kind, GatewayKind::Site { .. }) => {
            view.internet_end()
        }
        Hop::SharedAddress => view
            .internet_end()
            .intersection(&Addresses::of_family(Family::V4)),
        _ => Addresses::empty(),
    }
}

fn goes_around(view: &Fabric<'_>, hop: Hop) -> bool {
    let elsewhere = matches!(
        hop,
        Hop::Gateway(_)
            | Hop::Interface(_)
            | Hop::Peering(_)
            | Hop::Hub(..)
            | Hop::Service(_)
            | Hop::Door(_)
    );
    elsewhere && firewall_of(view, hop).is_none()
}

fn route_words(view: &Fabric<'_>, candidate: &Candidate) -> String {
    let hop = crate::facts::hop_text(view, candidate.winner.hop);
    let kind = match candidate.kind {
        RouteKind::Static => "route",
        RouteKind::Propagated => "propagated route",
        RouteKind::Automatic | RouteKind::OtherAutomatic => "automatic route",
    };
    format!("{kind} {} to {hop}", candidate.range)
}

/// Routes that go before one to a firewall.
fn longer(
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
            let goes_by = (
                route_words(view, candidate),
                candidate.winner.origin,
                candidate.kind == RouteKind::Static,
            );
            let same =
                |fact: &&mut Fact| fact.goes_by == goes_by && fact.network == placed.place.network;
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
fn way_out<'p>(
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
fn forgotten(
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
            goes_by: goes_by(view, *hop, *candidate),
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
fn by_family(
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
            let goes_by = goes_by(view, hop, candidate);
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

/// What is taken instead, in words, where it is written, and whether on purpose.
fn goes_by(
    view: &Fabric<'_>,
    hop: Hop,
    candidate: Option<&Candidate>,
) -> (String, Option<Origin>, bool) {
    let words = candidate.map_or_else(
        || crate::facts::hop_text(view, hop),
        |one| route_words(view, one),
    );
    let on_purpose = candidate.is_some_and(|one| one.kind == RouteKind::Static);
    (
        words,
        candidate.and_then(|one| one.winner.origin),
        on_purpose,
    )
}

/// Networks in which a firewall stands between the others and the internet, and no subnet is led to it.
fn left_by_all(
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
                    "{}, which nothing asks",
                    super::super::routing::route_text(context, table, at)
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
            let goes_by = goes_by(view, hop, candidate);
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
fn in_domains(
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
                let won = super::super::routing::won(&all);
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
                        goes_by: (
                            words(candidate, kind, out),
                            Some(hub.links[out].origin),
                            candidate.kind == RouteKind::Static,
                        ),
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

/// Whether a hop takes what these interfaces send: an internet gateway maps only those with a public address.
fn can_send(view: &Fabric<'_>, hop: Hop, senders: &[Id<Interface>]) -> bool {
    let Hop::Gateway(id) = hop else { return true };
    if !matches!(view.estate.gateways[id].kind, GatewayKind::Internet { .. }) {
        return true;
    }
    let mapped = |id: &Id<Interface>| {
        view.estate
            .public_addresses
            .items()
            .iter()
            .any(|p| p.interface == Some(*id))
    };
    senders.iter().any(mapped)
}

/// A packet that works and passes no firewall.
fn proof(
    view: &Fabric<'_>,
    fact: &Fact,
    senders: &FxHashMap<Id<Subnet>, Vec<Id<Interface>>>,
) -> Option<Packet> {
    let from: Vec<Id<Interface>> = fact
        .subnets
        .iter()
        .filter_map(|id| senders.get(id))
        .flatten()
        .copied()
        .take(MOST)
        .collect();
    let sources: Addresses = from
        .iter()
        .flat_map(|id| view.estate.interfaces[*id].addresses.ranges())
        .collect();
    let packets = sent(
        &sources,
        &fact.to,
        &[],
        &view.settings(fact.network).client_ports,
    );
    let asked = Asked {
        start: Start::Interfaces(from),
        packets,
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk_ends(view, &asked, Addresses::empty());
    let around = |label: u32| {
        answered
            .labels
            .trails_that_work(label)
            .into_iter()
            .any(|trail| {
                let steps = answered.labels.steps(trail);
                !steps
                    .iter()
                    .any(|step| matches!((step.at, &step.what), (Spot::Firewall(_), What::Passed)))
            })
    };
    let works = answered
        .parts
        .iter()
        .filter(|part| part.judged.verdict <= Verdict::Conditional);
    works
        .filter(|part| around(part.label))
        .find_map(|part| proving(&part.packets))
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let network = &estate.networks[fact.network];
    let firewall = &estate.firewalls[fact.firewall].name;
    let subnet = &estate.subnets[fact.subnets[0]];
    let (words, origin, on_purpose) = &fact.goes_by;
    let public = fact.to.is_subset(&context.view.internet_end());
    let to = if public && fact.to.ranges().count() > 3 {
        "the internet".to_owned()
    } else {
        addresses_text(&fact.to)
    };
    let subject = format!("network {} {words}", network.name);
    let table = heronshale_engine::route::table_of(context.view, fact.subnets[0])
        .and_then(heronshale_model::estate::Reference::found);
    let owner = table.map_or_else(
        || owner_text(estate, network.owner),
        |table| context.table_owner(table),
    );
    let place = origin.unwrap_or_else(|| match fact.left {
        Left::Forgotten | Left::ByAll => subnet.origin,
        _ => table.map_or(network.origin, |t| estate.route_tables[t].origin),
    });
    let mut draft = context.about(subject, &place, owner);
    draft.networks = vec![network.name.to_string()];
    let who = context.subnets(&fact.subnets);
    let reach = if fact.subnets.len() == 1 {
        "reaches"
    } else {
        "reach"
    };
    let subnets = if fact.subnets.len() == 1 {
        format!("subnet {}", subnet.name)
    } else {
        who.clone()
    };
    draft.title = match fact.left {
        Left::Forgotten => {
            let name = &network.name;
            format!(
                "{subnets} of {name} {reach} {to} around firewall {firewall}: other subnets go through it"
            )
        }
        Left::Family(family) => {
            let (name, other) = (
                &network.name,
                if family == Family::V6 {
                    Family::V4
                } else {
                    Family::V6
                },
            );
            format!(
                "{subnets} of {name} {reach} {to} over {family} around firewall {firewall}: {other} goes through it"
            )
        }
        Left::ByAll => {
            let name = &network.name;
            format!(
                "{subnets} of {name} {reach} {to} around firewall {firewall}: no subnet is led to it"
            )
        }
        Left::Longer => {
            format!(
                "traffic of {} to {to} gets around firewall {firewall}: {words} wins",
                network.name
            )
        }
    };
    draft
        .evidence
        .push(context.evidence(Role::GoesBy, words.clone(), origin.as_ref()));
    draft.evidence.push(context.evidence(
        Role::MeantBy,
        fact.meant_by.0.clone(),
        fact.meant_by.1.as_ref(),
    ));
    draft
        .evidence
        .push(context.evidence(Role::ActsOn, who, None));
    if *on_purpose {
        draft
            .factors
            .push(factor(-1, "the route was written on purpose"));
    }
    match &fact.proof {
        Some(packet) => draft.witness = Some(witness(packet)),
        None => draft
            .factors
            .push(factor(-1, "filters let nothing pass that way today")),
    }
    draft.mend = match fact.left {
        Left::Forgotten => {
            format!(
                "lead subnet {} to firewall {firewall} as its neighbours are, or accept the exception",
                subnet.name
            )
        }
        Left::ByAll => format!(
            "lead subnet {} to firewall {firewall}, or accept the exception",
            subnet.name
        ),
        Left::Family(family) => {
            format!(
                "lead {family} to firewall {firewall} as the other family is, or accept the exception"
            )
        }
        Left::Longer => {
            format!(
                "write a route to firewall {firewall} for {to} that is as long, or take the other away"
            )
        }
    };
    draft
}
