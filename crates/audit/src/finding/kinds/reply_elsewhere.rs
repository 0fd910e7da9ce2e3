//! Replies that take another way than their requests, past a device that keeps state.

use super::super::bare::{all_there_and_back, thin, without_filters};
use super::super::context::Context;
use super::super::draft::{Draft, Role, counted};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::{owner_text, witness};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::sweep::{Node, Sweep, sent};
use heronshale_engine::walk::{Asked, Spot, Start, Verdict, What, Why, walk_ends};
use heronshale_model::estate::{Estate, Gateway, GatewayKind, Id, Interface, Network, Reference};
use heronshale_model::severity::Severity;
use heronshale_sets::address::Addresses;
use heronshale_sets::each::each;
use heronshale_sets::packet::Packet;
use rustc_hash::FxHashMap;

pub(crate) const KIND: Kind = Kind {
    name: "reply-elsewhere",
    base: Severity::Serious,
    about: "Requests pass a firewall or translator, and replies take another way, or the other way round.",
    why: "A stateful device drops a connection of which it sees only one half. The connection hangs although \
        every rule allows it. The routes of the two sides do not match.",
    triggers: "Connections between two places arrive, but the reply misses the firewall, gateway or balancer of the \
        request, or reaches one that saw no request. Not reported if filters block the request, if one of \
        several ways works, if it depends on something missing from the snapshot, or in estates with nothing \
        but peerings and internet gateways without a table.",
    fix: "Route the replies to the same device by a route in the table of the other side, or route the \
        requests past it.",
    side_effects: "Replies take another way, and so does everything else that the changed route covers.",
    factors: &[],
    example: include_str!("../examples/reply-elsewhere.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

/// No more interfaces of one side are looked at to find one that proves it.
const MOST: usize = 64;

struct Fact {
    from: Side,
    to: Side,
    device: Spot,
    /// Whether the reply came to the device and the request did not.
    saw_no_request: bool,
    senders: Vec<Id<Interface>>,
    receivers: Vec<Id<Interface>>,
    packet: Packet,
}

/// One side, in the words of the finding.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum Side {
    Network(Id<Network>),
    Internet,
    Site(Id<heronshale_model::estate::Site>),
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let (view, estate) = (context.view, context.view.estate);
    let leads_elsewhere = |gateway: &Gateway| {
        matches!(
            gateway.kind,
            GatewayKind::Nat { .. }
                | GatewayKind::Site { .. }
                | GatewayKind::Internet { table: Some(_), .. }
        )
    };
    let devices =
        !estate.firewalls.is_empty() || !estate.balancers.is_empty() || !estate.hubs.is_empty();
    if !devices && !estate.gateways.items().iter().any(leads_elsewhere) {
        return Vec::new();
    }
    if estate.networks.is_empty() {
        return Vec::new();
    }
    let mut bare = without_filters(estate);
    let others = thin(&mut bare, view.at);
    let routes = Fabric::new(&bare, view.at);
    let sweeps = all_there_and_back(&routes);
    if routes.gave_up() {
        view.give_up();
    }
    // By sides and device: who sends, who receives.
    type Ends = (Vec<Id<Interface>>, Vec<Id<Interface>>);
    let mut groups: Vec<((Side, Side, Spot), Ends)> = Vec::new();
    let mut places: FxHashMap<(Side, Side, Spot), usize> = FxHashMap::default();
    // A firewall's own interfaces are no ends.
    let devices = view.roles();
    let ends_of = |node: &Node| match node {
        Node::Interfaces(all) => !all
            .iter()
            .all(|id| devices.contains_key(id) || estate.interfaces[*id].forwards),
        _ => true,
    };
    for (found, row) in sweeps
        .iter()
        .flat_map(|found| found.rows.iter().map(move |row| (found, row)))
    {
        let fate = &found.fates[row.fate as usize];
        let Some(ended) = fate.ended_at.filter(|ended| ended.other_way) else {
            continue;
        };
        if fate.judged.verdict != Verdict::ReplyLost {
            continue;
        }
        for reach in &row.reach {
            for source in &row.sources {
                for (target, second) in &reach.targets {
                    let both = [*source, *target]
                        .into_iter()
                        .all(|node| ends_of(&found.nodes[node as usize]));
                    if !both || !Sweep::counts(*source, (*target, *second)) {
                        continue;
                    }
                    let (Some((from, senders)), Some((to, receivers))) = (
                        side(estate, &found.nodes[*source as usize]),
                        side(estate, &found.nodes[*target as usize]),
                    ) else {
                        continue;
                    };
                    let key = (from, to, ended.at);
                    let at = *places.entry(key.clone()).or_insert_with(|| {
                        groups.push((key, Ends::default()));
                        groups.len() - 1
                    });
                    let ends = &mut groups[at].1;
                    for (all, more) in [(&mut ends.0, senders), (&mut ends.1, receivers)] {
                        let stands_for = |id: &Id<Interface>| {
                            others.get(id).map_or(&[][..], Vec::as_slice).iter()
                        };
                        for id in more
                            .iter()
                            .flat_map(|id| std::iter::once(id).chain(stands_for(id)))
                            .take(MOST)
                        {
                            if all.len() < MOST && !all.contains(id) {
                                all.push(*id);
                            }
                        }
                    }
                }
            }
        }
    }
    groups.sort_by(|(a, _), (b, _)| a.cmp(b));
    for (_, (senders, receivers)) in &mut groups {
        senders.sort_unstable();
        receivers.sort_unstable();
    }
    let proofs = each(&groups, |((from, to, device), (senders, receivers))| {
        proof(view, from, to, *device, senders, receivers)
    });
    let fact =
        |(((from, to, device), (senders, receivers)), proof): (((Side, Side, Spot), Ends), _)| {
            let (packet, saw_no_request) = proof?;
            Some(Fact {
                from,
                to,
                device,
                saw_no_request,
                senders,
                receivers,
                packet,
            })
        };
    groups.into_iter().zip(proofs).filter_map(fact).collect()
}

fn side<'n>(estate: &Estate, node: &'n Node) -> Option<(Side, &'n [Id<Interface>])> {
    match node {
        Node::Interfaces(all) => Some((Side::Network(estate.network_of(all[0])), all)),
        Node::Internet => Some((Side::Internet, &[])),
        Node::Site(id) => Some((Side::Site(*id), &[])),
        Node::Service(_) | Node::Lacking(_) => None,
    }
}

/// A packet between the two sides, filters and all, whose reply is lost at the device; and whether that saw no request.
fn proof(
    view: &Fabric<'_>,
    from: &Side,
    to: &Side,
    device: Spot,
    senders: &[Id<Interface>],
    receivers: &[Id<Interface>],
) -> Option<(Packet, bool)> {
    let estate = view.estate;
    let own = |all: &[Id<Interface>]| {
        all.iter()
            .flat_map(|id| estate.interfaces[*id].addresses.ranges())
            .collect()
    };
    let (start, sources): (Start, Addresses) = match from {
        Side::Network(_) => (Start::Interfaces(senders.to_vec()), own(senders)),
        Side::Internet => (Start::Internet, view.internet_end()),
        Side::Site(id) => (Start::Site(*id), estate.sites[*id].holds.clone()),
    };
    let mapped = estate.public_addresses.items().iter();
    let mapped = mapped.filter(|public| public.interface.is_some_and(|id| receivers.contains(&id)));
    let mapped: Addresses = mapped.map(|public| public.address).collect();
    let targets: Addresses = match to {
        Side::Network(_) => own(receivers).union(&mapped),
        Side::Internet => view.internet_end(),
        Side::Site(id) => estate.sites[*id].holds.clone(),
    };
    let network = match from {
        Side::Network(id) => Some(*id),
        _ => None,
    };
    let packets = sent(
        &sources,
        &targets,
        &[],
        &view.settings(network).client_ports,
    );
    let asked = Asked {
        start,
        packets,
        name: None,
        any_of: Vec::new(),
    };
    let answered = walk_ends(view, &asked, Addresses::empty());
    answered
        .parts
        .iter()
        .filter(|part| part.judged.verdict == Verdict::ReplyLost)
        .find_map(|part| {
            let steps = answered.labels.steps(part.judged.trail);
            let last = steps.last().filter(|step| step.at == device)?;
            let What::Ended(why @ (Why::Bypassed | Why::SawNoRequest)) = last.what else {
                return None;
            };
            Some((
                super::super::routing::proving(&part.packets)?,
                why == Why::SawNoRequest,
            ))
        })
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let device = crate::facts::spot_text(context.view, fact.device).0;
    let text = |side: &Side| match side {
        Side::Network(id) => format!("network {}", estate.networks[*id].name),
        Side::Internet => "the internet".to_owned(),
        Side::Site(id) => format!("site {}", estate.sites[*id].name),
    };
    let with = |key: Key, side: &Side| match side {
        Side::Network(id) => key.network(estate, *id),
        Side::Internet => key.token("the internet"),
        Side::Site(id) => key.token("site").name(&estate.sites[*id].name),
    };
    let key = with(with(Key::default(), &fact.from), &fact.to).spot(estate, fact.device);
    let (origin, owner) = match (&fact.to, &fact.from) {
        (Side::Network(id), _) | (_, Side::Network(id)) => (
            estate.networks[*id].origin,
            owner_text(estate, estate.networks[*id].owner),
        ),
        (Side::Site(id), _) | (_, Side::Site(id)) => (
            estate.sites[*id].origin,
            owner_text(estate, estate.sites[*id].owner),
        ),
        (Side::Internet, Side::Internet) => (estate.networks.items()[0].origin, None),
    };
    // The table by which the reply goes is the one to change.
    let replying = fact
        .receivers
        .first()
        .map(|id| estate.interfaces[*id].subnet);
    let table = replying
        .and_then(|subnet| heronshale_engine::route::table_of(context.view, subnet))
        .and_then(Reference::found);
    let origin = table.map_or(origin, |table| estate.route_tables[table].origin);
    let owner = table.map_or(owner, |table| context.table_owner(table));
    let mut draft = context.about(key, &origin, owner);
    let mut networks = Vec::new();
    for side in [&fact.from, &fact.to] {
        if let Side::Network(id) = side {
            networks.push(estate.networks[*id].name.to_string());
        }
    }
    networks.sort_unstable();
    networks.dedup();
    draft.networks = networks;
    draft.cause =
        table.map(|table| format!("table {} and {device}", estate.route_tables[table].name));
    let (from, to) = (text(&fact.from), text(&fact.to));
    draft.brief(
        format!("{from} → {to}"),
        if fact.saw_no_request {
            format!("replies reach {device}")
        } else {
            format!("replies bypass {device}")
        },
    );
    draft.title = if fact.saw_no_request {
        format!("replies of connections from {from} to {to} reach {device}, which saw no request")
    } else {
        format!("connections from {from} to {to} pass {device}, and their replies bypass it")
    };
    draft.witness = Some(witness(&fact.packet));
    let names = |all: &[Id<Interface>]| {
        all.iter()
            .map(|id| estate.interfaces[*id].name.to_string())
            .collect::<Vec<_>>()
    };
    for (word, all) in [("from", &fact.senders), ("to", &fact.receivers)] {
        if !all.is_empty() {
            let text = format!("{word} {}", counted(&names(all), "interface"));
            draft
                .evidence
                .push(context.evidence(Role::ActsOn, text, None));
        }
    }
    let table = table.map_or_else(
        || format!("the routes of {to}"),
        |table| format!("table {}", estate.route_tables[table].name),
    );
    draft.fix = if fact.saw_no_request {
        format!(
            "Route the requests through {device} too, or let {table} route the replies past it."
        )
    } else {
        format!("Route the replies through {device}: add the route to {table}.")
    };
    draft
}
