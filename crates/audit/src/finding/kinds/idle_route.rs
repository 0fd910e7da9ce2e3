//! A route that never wins.

use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use super::super::routing::{addresses_text, route_text, won};
use heronshale_engine::route::{Candidate, Hop, domain_candidates};
use heronshale_model::estate::{DomainHop, Id, MissingNextHop, RouteKind, RouteTable};
use heronshale_model::severity::Severity;
use heronshale_model::source::Origin;
use heronshale_sets::address::Addresses;

pub(crate) const KIND: Kind = Kind {
    name: "idle-route",
    base: Severity::Minor,
    about: "A route never wins. Other routes take all its destinations.",
    why: "It looks as if it routes traffic, and it does not. Often a more specific route, or an automatic one, \
        has replaced it without notice, and traffic now takes another way.",
    triggers: "The route is in force, in a table that is in use or a hub domain that a link reads. Routes with \
        higher precedence take all its destinations: longer ones, or equal ones of an earlier kind or a \
        lower metric. Or it is limited to tags that no interface there has. Not reported for disabled routes \
        or for one of several equal routes. For broken next hops, see next-hop-dead.",
    fix: "Delete the route, or make it as specific as the route that takes its traffic.",
    side_effects: "Deleting it changes nothing. A more specific route takes over the traffic of the other one.",
    factors: &[],
    example: include_str!("../examples/idle-route.yaml"),
    check: |context| {
        let mut drafts: Vec<Draft> = facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect();
        drafts.extend(in_domains(context));
        drafts
    },
};

struct Fact {
    table: Id<RouteTable>,
    at: usize,
    /// What takes its place: where it was written, and in words.
    taken: Option<(Option<Origin>, String)>,
}

fn kind_text(kind: RouteKind) -> &'static str {
    match kind {
        RouteKind::Static => "static",
        RouteKind::Automatic => "automatic",
        RouteKind::Propagated => "propagated",
        RouteKind::OtherAutomatic => "automatic",
    }
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let view = context.view;
    let mut found = Vec::new();
    for (table, at, route) in context.routes().filter(|(_, _, route)| route.enabled) {
        let mut asked = false;
        let mut wins = false;
        let mut dead = false;
        let mut taken = None;
        for placed in context.routing().asking(table) {
            asked = true;
            let mine = |candidate: &Candidate| candidate.winner.origin == Some(route.origin);
            for (place, candidate) in placed
                .candidates
                .all
                .iter()
                .enumerate()
                .filter(|(_, one)| mine(one))
            {
                dead |= candidate.winner.hop == Hop::Dead;
                if !placed.won[place].is_empty() {
                    wins = true;
                } else if taken.is_none() {
                    let range: Addresses = [candidate.range].into_iter().collect();
                    let before = placed.candidates.all[..place]
                        .iter()
                        .filter(|other| !mine(other));
                    let taker = before
                        .rev()
                        .find(|other| range.overlaps(&[other.range].into_iter().collect()));
                    taken = taker.map(|other| {
                        let hop = crate::facts::hop_text(view, other.winner.hop);
                        (
                            other.winner.origin,
                            format!(
                                "the {} route {} to {hop}",
                                kind_text(other.kind),
                                other.range
                            ),
                        )
                    });
                }
            }
        }
        let skipped = view
            .settings(view.estate.route_tables[table].network)
            .missing_next_hop
            == MissingNextHop::Skipped;
        let unknown = route
            .destinations
            .iter()
            .any(|destination| match destination {
                heronshale_model::estate::RouteDestination::Set(
                    heronshale_model::estate::Reference::Found(set),
                ) => !view.set(*set).matched.maybe.is_empty(),
                heronshale_model::estate::RouteDestination::Set(_) => true,
                heronshale_model::estate::RouteDestination::Block(_) => false,
            });
        let limited = !route.only_tagged.is_empty();
        if asked
            && !wins
            && !dead
            && !unknown
            && (taken.is_some() || limited)
            && !(skipped && taken.is_none() && !limited)
        {
            found.push(Fact { table, at, taken });
        }
    }
    found
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
    draft.networks = vec![estate.networks[table.network].name.to_string()];
    let text = route_text(context, fact.table, fact.at);
    draft.brief(&text, "never wins");
    match &fact.taken {
        Some((origin, taker)) => {
            draft.title = format!("{text} never wins: {taker} takes all its destinations");
            draft
                .evidence
                .push(context.evidence(Role::TakenBy, taker.clone(), origin.as_ref()));
        }
        None => draft.title = format!("{text} never wins: no interface there has its tags"),
    }
    draft.fix = "Delete it, or make it as specific as the route that takes its traffic.".to_owned();
    draft
}

/// Static routes of hubs' domains.
fn in_domains(context: &Context<'_, '_>) -> Vec<Draft> {
    let estate = context.view.estate;
    let mut drafts = Vec::new();
    for (id, hub) in estate.hubs.iter() {
        for (domain, item) in hub.domains.iter().enumerate() {
            if !hub.links.iter().any(|link| link.reads == Some(domain)) {
                continue;
            }
            let all = domain_candidates(context.view, id, domain).all;
            let won = won(&all);
            for route in item
                .routes
                .iter()
                .filter(|route| route.enabled && !matches!(route.hop, DomainHop::Missing(_)))
            {
                let mine: Vec<usize> = (0..all.len())
                    .filter(|at| all[*at].winner.origin == Some(route.origin))
                    .collect();
                if mine.is_empty()
                    || mine
                        .iter()
                        .any(|at| !won[*at].is_empty() || all[*at].winner.hop == Hop::Dead)
                {
                    continue;
                }
                let to: Addresses = mine.iter().map(|at| all[*at].range).collect();
                let key = Key::of("hub")
                    .name(&hub.name)
                    .token("domain")
                    .name(&item.name)
                    .addresses(&to);
                let former = format!(
                    "hub {} domain {} {}",
                    hub.name,
                    item.name,
                    addresses_text(&to)
                );
                let owner = crate::describe::owner_text(estate, hub.owner);
                let mut draft = context.about(key, &route.origin, owner);
                draft.former = Some(former);
                draft.brief(
                    format!("hub {}, domain {}", hub.name, item.name),
                    format!("route to {} never wins", addresses_text(&to)),
                );
                draft.title = format!(
                    "route to {} in domain {} of hub {} never wins: longer or equal routes take all its destinations",
                    addresses_text(&to),
                    item.name,
                    hub.name
                );
                draft.fix =
                    "Delete it, or make it as specific as the routes that take its traffic."
                        .to_owned();
                drafts.push(draft);
            }
        }
    }
    drafts
}
