//! Traffic that gets around the firewall.

mod finding;

use super::super::key::Key;
use finding::{by_family, forgotten, in_domains, left_by_all, longer};

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Role, Trial};
use super::super::kind::Kind;
use super::super::routing::{Placed, addresses_text, firewall_subnets, held, proving};
use crate::describe::{owner_text, witness};
use crate::fix::{Edit, led_to_firewall};
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
    about: "Traffic bypasses a firewall that other routes of the same place or network lead through.",
    why: "The default route suggests that the firewall inspects everything. A more specific route, automatic \
        or manual, wins without notice, or one subnet was forgotten.",
    triggers: "A place has a route to a firewall, and a route with higher precedence (from a peering, propagation, \
        a private door, or written) sends part of the same destinations elsewhere, and something is there. A \
        subnet reaches the internet without the firewall of its neighbours, or one address family does. No \
        subnet routes to a firewall although a table or its translations exist for it. An announcement in a \
        hub domain is longer than the domain's route to a firewall. Not reported for the network's own \
        blocks, for the firewall's own subnets, or if nothing could be sent.",
    fix: "Add a route to the firewall that is as specific as the one that wins, or attach the table with such \
        a route.",
    side_effects: "The packets pass the firewall, and its policy may block them.",
    factors: &[
        "down: somebody wrote the route on purpose",
        "down: filters block everything on that way today",
    ],
    example: include_str!("../../examples/around-the-firewall.yaml"),
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

/// A way around: as a key, in words, where it was written, and whether on purpose.
#[derive(Clone)]
struct GoesBy {
    key: Key,
    words: String,
    origin: Option<Origin>,
    on_purpose: bool,
}

impl GoesBy {
    fn is(&self, other: &Self) -> bool {
        (&self.key, self.origin) == (&other.key, other.origin)
    }
}

struct Fact {
    network: Id<Network>,
    subnets: Vec<Id<Subnet>>,
    /// How it goes: as a key, in words, where that was written, and whether on purpose.
    goes_by: GoesBy,
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
    let GoesBy {
        key,
        words,
        origin,
        on_purpose,
    } = &fact.goes_by;
    let public = fact.to.is_subset(&context.view.internet_end());
    let to = if public && fact.to.ranges().count() > 3 {
        "the internet".to_owned()
    } else {
        addresses_text(&fact.to)
    };
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
    let mut draft = context.about(key.clone(), &place, owner);
    draft.former = Some(format!("network {} {words}", network.name));
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
    let over = match fact.left {
        Left::Family(family) => format!(" over {family}"),
        _ => String::new(),
    };
    let from = match fact.left {
        Left::Longer => format!("network {}", network.name),
        _ => subnets.clone(),
    };
    let near = networks_with(context, &fact.to);
    let near = near.unwrap_or_else(|| to.clone());
    draft.brief(
        format!("{from} → {near}{over}"),
        format!("bypasses {firewall}"),
    );
    draft.title = match fact.left {
        Left::Forgotten => {
            let name = &network.name;
            format!(
                "{subnets} of {name} {reach} {to} without firewall {firewall}; other subnets pass it"
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
                "{subnets} of {name} {reach} {to} over {family} without firewall {firewall}; {other} passes it"
            )
        }
        Left::ByAll => {
            let name = &network.name;
            format!(
                "{subnets} of {name} {reach} {to} without firewall {firewall}; no subnet routes to it"
            )
        }
        Left::Longer => {
            format!(
                "traffic from {} to {to} bypasses firewall {firewall}: {words} wins",
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
            .push(factor(-1, "somebody wrote the route on purpose"));
    }
    match &fact.proof {
        Some(packet) => draft.witness = Some(witness(packet)),
        None => draft
            .factors
            .push(factor(-1, "filters block everything on that way today")),
    }
    draft.trials.extend(leading(context, fact));
    draft.fix = match fact.left {
        Left::Forgotten => {
            format!(
                "Route subnet {} through firewall {firewall} like its neighbours, or accept the exception.",
                subnet.name
            )
        }
        Left::ByAll => format!(
            "Route subnet {} through firewall {firewall}, or accept the exception.",
            subnet.name
        ),
        Left::Family(family) => {
            format!(
                "Route {family} through firewall {firewall} like the other family, or accept the exception."
            )
        }
        Left::Longer => {
            format!(
                "Add a route for {to} to firewall {firewall} that is as specific, or delete the other route."
            )
        }
    };
    draft
}

/// The change that leads to the firewall what goes around it; none where a subnet has no table of routes.
fn leading(context: &Context<'_, '_>, fact: &Fact) -> Option<Trial> {
    let estate = context.view.estate;
    let table = |subnet: &Id<Subnet>| {
        heronshale_engine::route::table_of(context.view, *subnet)
            .and_then(heronshale_model::estate::Reference::found)
    };
    let mut tables = fact.subnets.iter().map(table).collect::<Option<Vec<_>>>()?;
    tables.sort_unstable();
    tables.dedup();
    let leads = tables
        .into_iter()
        .map(|table| led_to_firewall(estate, table, &fact.to, fact.firewall));
    let edits: Vec<Edit> = leads.collect();
    let texts: Vec<&str> = edits.iter().map(|edit| edit.text.as_str()).collect();
    Some(Trial {
        change: texts.join(" and "),
        edits,
        narrows: Vec::new(),
    })
}

/// The networks that have all of some addresses, by name; none if that says no more than the addresses.
fn networks_with(context: &Context<'_, '_>, addresses: &Addresses) -> Option<String> {
    const MOST: usize = 2;
    let near = context.view.estate.networks.items().iter();
    let near: Vec<_> = near
        .filter(|network| network.blocks.overlaps(addresses))
        .collect();
    let all = near.iter().fold(Addresses::empty(), |sum, network| {
        sum.union(&network.blocks)
    });
    let names: Vec<&str> = near.iter().map(|network| &*network.name).collect();
    (names.len() <= MOST && addresses.is_subset(&all)).then(|| names.join(", "))
}
