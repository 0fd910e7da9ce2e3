//! A route to something that passes nothing on.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Role, Trial};
use super::super::key::Key;
use super::super::kind::Kind;
use super::super::routing::{addresses_text, destinations_text, route_name, route_text};
use crate::describe::owner_text;
use crate::fix::{Edit, EditKind};
use heronshale_engine::route::firewall_of;
use heronshale_engine::route::{Hop, RoutePlace, candidates};
use heronshale_model::estate::{Id, Interface, Network, Peering, RouteTable};
use heronshale_model::severity::Severity;
use heronshale_sets::address::Addresses;

pub(crate) const KIND: Kind = Kind {
    name: "may-not-forward",
    base: Severity::Serious,
    about: "A route leads to an interface, or over a peering, that does not forward packets of others.",
    why: "The route is right and the rules are right, and every packet is dropped because one flag is missing.",
    triggers: "A route in force, in a table that is in use, leads to an interface or a firewall's interface without \
        `forwards`. Or it leads to a device in a peered network, for destinations in a third network that \
        does not accept forwarded packets over its peering. Not reported if nothing uses the table.",
    fix: "Let the interface forward, or let that side of the peering accept forwarded packets.",
    side_effects: "Packets that are dropped there now pass.",
    factors: &[],
    example: include_str!("../examples/may-not-forward.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

enum What {
    Interface(Id<Interface>),
    /// The peering, the network that refuses, and which of its addresses are meant.
    Peering(Id<Peering>, Id<Network>, Addresses),
}

struct Fact {
    table: Id<RouteTable>,
    at: usize,
    what: What,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let (view, estate) = (context.view, context.view.estate);
    let mut found = Vec::new();
    for (table, at, route) in context.routes().filter(|(_, _, route)| route.enabled) {
        let mut seen: Vec<Hop> = Vec::new();
        for placed in context.routing().asking(table) {
            for (place, candidate) in placed.candidates.all.iter().enumerate() {
                let hop = candidate.winner.hop;
                if candidate.winner.origin != Some(route.origin)
                    || placed.won[place].is_empty()
                    || seen.contains(&hop)
                {
                    continue;
                }
                match hop {
                    Hop::MayNotForward(interface) => {
                        seen.push(hop);
                        found.push(Fact {
                            table,
                            at,
                            what: What::Interface(interface),
                        });
                    }
                    Hop::Interface(interface) => {
                        let refused = refused(
                            context,
                            estate.route_tables[table].network,
                            interface,
                            &placed.won[place],
                        );
                        if !refused.is_empty() {
                            seen.push(hop);
                        }
                        found.extend(refused.into_iter().map(|(peering, network, addresses)| {
                            Fact {
                                table,
                                at,
                                what: What::Peering(peering, network, addresses),
                            }
                        }));
                    }
                    Hop::Balancer(balancer) => {
                        let ends = estate.balancers[balancer]
                            .back_ends
                            .iter()
                            .filter_map(|end| end.interface);
                        for interface in ends.filter(|id| !estate.interfaces[*id].forwards) {
                            if firewall_of(view, Hop::Interface(interface)).is_some() {
                                seen.push(hop);
                                found.push(Fact {
                                    table,
                                    at,
                                    what: What::Interface(interface),
                                });
                            }
                        }
                    }
                    _ => {}
                }
            }
        }
    }
    found
}

/// The networks behind an interface that take no packets from elsewhere, with the peering by which it reaches them.
fn refused(
    context: &Context<'_, '_>,
    from: Id<Network>,
    by: Id<Interface>,
    to: &Addresses,
) -> Vec<(Id<Peering>, Id<Network>, Addresses)> {
    let (view, estate) = (context.view, context.view.estate);
    let between = estate.network_of(by);
    let translated = firewall_of(view, Hop::Interface(by))
        .is_some_and(|firewall| !estate.firewalls[firewall].source_translations.is_empty());
    if between == from || translated {
        return Vec::new();
    }
    let onward = candidates(
        view,
        RoutePlace::in_subnet(view, estate.interfaces[by].subnet, Some(by)),
    );
    let won = super::super::routing::won(&onward.all);
    let mut found: Vec<(Id<Peering>, Id<Network>, Addresses)> = Vec::new();
    for (candidate, won) in onward.all.iter().zip(&won) {
        let Hop::Peering(peering) = candidate.winner.hop else {
            continue;
        };
        let item = &estate.peerings[peering];
        let Some(other) = item
            .opposite(between)
            .and_then(heronshale_model::estate::Reference::found)
        else {
            continue;
        };
        let here = won.intersection(to);
        let accepts = item.side(other).is_some_and(|side| side.accept_forwarded);
        if other != from
            && !accepts
            && !here.is_empty()
            && !found.iter().any(|(known, _, _)| *known == peering)
        {
            found.push((peering, other, here));
        }
    }
    found
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let table = &estate.route_tables[fact.table];
    let route = &table.routes[fact.at];
    let text = route_text(context, fact.table, fact.at);
    let brief = route_name(table, fact.at);
    let destinations = destinations_text(context, route);
    let key = Key::default().name(&table.name).destinations(estate, route);
    let network = estate.networks[table.network].name.to_string();
    match &fact.what {
        What::Interface(id) => {
            let interface = &estate.interfaces[*id];
            let owner = owner_text(estate, estate.interface_owner(*id));
            let key = key.token("interface").name(&interface.name);
            let former = format!("{} {destinations} interface {}", table.name, interface.name);
            let mut draft = context.about(key, &route.origin, owner);
            draft.former = Some(former);
            draft.networks = vec![network];
            draft.brief(
                &brief,
                format!("interface {} does not forward", interface.name),
            );
            draft.title = format!(
                "{text} leads to interface {}, which does not forward packets",
                interface.name
            );
            let at = format!("interface {} without `forwards`", interface.name);
            draft
                .evidence
                .push(context.evidence(Role::AtFault, at, Some(&interface.origin)));
            let id = *id;
            draft.trials.push(Trial::of(Edit::new(
                EditKind::Flag,
                format!("let interface {} forward packets", interface.name),
                Some(interface.origin),
                estate.interface_owner(id),
                move |estate| estate.interfaces.get_mut(id).forwards = true,
            )));
            draft.fix = format!("Let interface {} forward packets.", interface.name);
            draft
        }
        What::Peering(id, to, addresses) => {
            let peering = &estate.peerings[*id];
            let far = &estate.networks[*to].name;
            let key = key.token("peering").name(&peering.name);
            let former = format!("{} {destinations} peering {}", table.name, peering.name);
            let mut draft = context.about(key, &route.origin, context.network_owner(*to));
            draft.former = Some(former);
            draft.networks = vec![network, far.to_string()];
            draft.brief(&brief, format!("{far} accepts no forwarded packets"));
            draft.title = format!(
                "{text} leads over peering {} to {far} ({}), which accepts no forwarded packets from {}",
                peering.name,
                addresses_text(addresses),
                estate.networks[table.network].name
            );
            let at = format!(
                "peering {}, side {far}, without `accept_forwarded`",
                peering.name
            );
            draft
                .evidence
                .push(context.evidence(Role::AtFault, at, Some(&peering.origin)));
            if super::super::routing::held(context.view, addresses).is_empty() {
                draft
                    .factors
                    .push(factor(-1, "nothing there has an address yet"));
            }
            let (id, to) = (*id, *to);
            draft.trials.push(Trial::of(Edit::new(
                EditKind::Flag,
                format!(
                    "let {far} accept forwarded packets over peering {}",
                    peering.name
                ),
                Some(peering.origin),
                estate.networks[to].owner,
                move |estate| {
                    for side in &mut estate.peerings.get_mut(id).sides {
                        side.accept_forwarded |= side.network.found() == Some(to);
                    }
                },
            )));
            draft.fix = format!(
                "Let {far} accept forwarded packets over peering {}.",
                peering.name
            );
            draft
        }
    }
}
