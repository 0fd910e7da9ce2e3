//! Traffic that gets around the firewall.

mod finding;

use super::super::key::Key;
use finding::{by_family, forgotten, in_domains, left_by_all, longer};

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
    fix: "Write a route to the firewall that is as long as the one that wins, or attach the table that leads there.",
    side_effects: "the packets go through the firewall then, whose policy may refuse them",
    factors: &[
        "-1 if the route was written on purpose",
        "-1 if filters let nothing pass that way today",
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
    draft.fix = match fact.left {
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
