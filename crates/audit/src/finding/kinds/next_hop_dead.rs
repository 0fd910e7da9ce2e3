//! A route to something that is not there, or is down.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::Draft;
use super::super::key::Key;
use super::super::kind::Kind;
use super::super::routing::{destinations_text, route_name, route_text};
use crate::describe::owner_text;
use crate::facts::why_dead;
use heronshale_engine::route::{Hop, RoutePlace, hop};
use heronshale_model::estate::{
    DomainHop, Id, Lack, LinkEnd, MissingNextHop, NextHop, Reference, RouteTable,
};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "next-hop-dead",
    base: Severity::Serious,
    about: "A route leads to a next hop that does not exist, is down, is not attached, or does not forward.",
    why: "Its traffic is dropped without notice. On platforms that skip such routes, it goes another way than \
        intended.",
    triggers: "The route is in force, and its next hop is missing from the snapshot, is down on one side, is a \
        gateway that is not attached or belongs to another network, is a firewall without a member that is \
        up (as a next hop, or where a hub link steers traffic), is a balancer without a healthy back end, or \
        is a hub to which the network has no working link. Not reported for disabled or automatic routes, or \
        if a gap explains it.",
    fix: "Bring the next hop up, attach it, or route elsewhere.",
    side_effects: "Packets that are dropped now arrive.",
    factors: &[
        "down: nothing uses the table",
        "down: this network skips routes to dead next hops",
    ],
    example: include_str!("../examples/next-hop-dead.yaml"),
    check: |context| {
        let mut drafts: Vec<Draft> = facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect();
        drafts.extend(links(context));
        drafts
    },
};

struct Fact {
    table: Id<RouteTable>,
    at: usize,
    why: String,
    asked: bool,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let (view, estate) = (context.view, context.view.estate);
    let mut found = Vec::new();
    for (table, at, route) in context.routes().filter(|(_, _, route)| route.enabled) {
        let network = estate.route_tables[table].network;
        let asking: Vec<RoutePlace<'_>> = context
            .routing()
            .asking(table)
            .map(|placed| placed.place)
            .collect();
        let asked = !asking.is_empty();
        let places = if asked {
            asking
        } else {
            vec![RoutePlace::outside(network)]
        };
        let dead = places
            .iter()
            .find(|place| hop(view, **place, &route.next_hop) == Hop::Dead);
        let why = match dead {
            Some(place) => Some(why_dead(view, place.network, &route.next_hop)),
            None => lets_nothing_on(context, network, &route.next_hop),
        };
        found.extend(why.map(|why| Fact {
            table,
            at,
            why,
            asked,
        }));
    }
    found
}

/// A next hop that is there, behind which nothing goes on.
fn lets_nothing_on(
    context: &Context<'_, '_>,
    network: Id<heronshale_model::estate::Network>,
    next: &NextHop,
) -> Option<String> {
    let estate = context.view.estate;
    match next {
        NextHop::Balancer(Reference::Found(id)) => {
            let balancer = &estate.balancers[*id];
            let none = !balancer.back_ends.iter().any(|end| end.healthy);
            none.then(|| format!("balancer {} has no healthy back end", balancer.name))
        }
        NextHop::Hub(Reference::Found(id)) => {
            let hub = &estate.hubs[*id];
            let ours =
                |to: &LinkEnd| matches!(to, LinkEnd::Network(of) if of.found() == Some(network));
            let (_, link) = heronshale_engine::route::link_of(hub, ours)?;
            let steered = link.steer_internet.is_some() || link.steer_private.is_some();
            (link.reads.is_none() && !steered).then(|| {
                format!(
                    "link {} of hub {} reads from no domain",
                    link.name, hub.name
                )
            })
        }
        _ => None,
    }
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let table = &estate.route_tables[fact.table];
    let route = &table.routes[fact.at];
    let key = Key::default()
        .name(&table.name)
        .destinations(estate, route)
        .token("by")
        .next_hop(estate, &route.next_hop);
    let mut draft = context.about(key, &route.origin, context.table_owner(fact.table));
    draft.former = Some(format!(
        "{} {} {}",
        table.name,
        destinations_text(context, route),
        fact.why
    ));
    draft.networks = vec![estate.networks[table.network].name.to_string()];
    draft.brief(route_name(table, fact.at), &fact.why);
    draft.title = format!(
        "{} leads nowhere: {}",
        route_text(context, fact.table, fact.at),
        fact.why
    );
    if !fact.asked {
        draft.factors.push(factor(-1, "nothing uses the table"));
    }
    if context.view.settings(table.network).missing_next_hop == MissingNextHop::Skipped {
        draft
            .factors
            .push(factor(-1, "this network skips routes to dead next hops"));
    }
    draft.fix = "Bring the next hop up, attach it, or route elsewhere.".to_owned();
    draft
}

/// Routes of hubs' domains.
fn links(context: &Context<'_, '_>) -> Vec<Draft> {
    let estate = context.view.estate;
    let mut drafts = Vec::new();
    for hub in estate.hubs.items() {
        for link in hub.links.iter().filter(|link| link.up) {
            for (steered, what) in [
                (&link.steer_internet, "internet"),
                (&link.steer_private, "private"),
            ] {
                let why = match steered {
                    Some(Reference::Found(id)) if estate.firewalls[*id].members_up() == 0 => {
                        format!(
                            "firewall {} has no member that is up",
                            estate.firewalls[*id].name
                        )
                    }
                    Some(Reference::Missing(name))
                        if !context.view.lacks("firewall", name, Lack::Everything) =>
                    {
                        format!("firewall {name} does not exist")
                    }
                    _ => continue,
                };
                let key = Key::of("hub")
                    .name(&hub.name)
                    .token("link")
                    .name(&link.name)
                    .token(what);
                let mut draft = context.about(key, &link.origin, owner_text(estate, hub.owner));
                draft.former = Some(format!("hub {} link {} {what} {why}", hub.name, link.name));
                draft.brief(format!("hub {}, link {}", hub.name, link.name), &why);
                draft.title = format!(
                    "link {} of hub {} steers {what} traffic nowhere: {why}",
                    link.name, hub.name
                );
                draft.fix =
                    "Bring a member of the firewall up, or steer the link to another firewall."
                        .to_owned();
                drafts.push(draft);
            }
        }
        for domain in &hub.domains {
            for route in domain.routes.iter().filter(|route| route.enabled) {
                let why = match &route.hop {
                    DomainHop::Missing(name) => format!("hub {} has no link {name}", hub.name),
                    DomainHop::Link(at) if !hub.links[*at].up => {
                        format!("link {} of hub {} is down", hub.links[*at].name, hub.name)
                    }
                    _ => continue,
                };
                let owner = owner_text(estate, hub.owner);
                let to = match &route.hop {
                    DomainHop::Missing(name) => name,
                    DomainHop::Link(at) => &hub.links[*at].name,
                    DomainHop::Blackhole => continue,
                };
                let key = Key::of("hub")
                    .name(&hub.name)
                    .token("domain")
                    .name(&domain.name);
                let mut draft = context.about(key.token("link").name(to), &route.origin, owner);
                draft.former = Some(format!("hub {} domain {} {why}", hub.name, domain.name));
                draft.brief(format!("hub {}, domain {}", hub.name, domain.name), &why);
                draft.title = format!(
                    "a route in domain {} of hub {} leads nowhere: {why}",
                    domain.name, hub.name
                );
                if !hub.links.iter().any(|link| {
                    link.reads
                        .is_some_and(|at| hub.domains[at].name == domain.name)
                }) {
                    draft.factors.push(factor(-1, "nothing uses the table"));
                }
                draft.fix = "Bring the link up, or route elsewhere.".to_owned();
                drafts.push(draft);
            }
        }
    }
    drafts
}
