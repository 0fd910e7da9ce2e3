//! A route that drops what exists.

use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use super::super::routing::{addresses_text, destinations_text, held, route_text, won};
use crate::describe::owner_text;
use heronshale_engine::route::{Candidate, Hop, domain_candidates};
use heronshale_model::estate::DomainHop;
use heronshale_model::severity::Severity;
use heronshale_sets::address::Addresses;

pub(crate) const KIND: Kind = Kind {
    name: "blackhole",
    base: Severity::Minor,
    about: "A blackhole route drops traffic to addresses that are in use.",
    why: "Blackholes cover unused space. When somebody uses the space later, the new machines are unreachable \
        from there, and no error says so.",
    triggers: "A blackhole route in force wins for an address of an interface or a site. Its table is in use, or a \
        link reads its hub domain. Not reported if nobody has any of its addresses.",
    fix: "Narrow the blackhole route, or add a more specific route.",
    side_effects: "Packets that are dropped now arrive.",
    factors: &[],
    example: include_str!("../examples/blackhole.yaml"),
    check: |context| {
        let mut drafts = in_tables(context);
        drafts.extend(in_domains(context));
        drafts
    },
};

fn in_tables(context: &Context<'_, '_>) -> Vec<Draft> {
    let estate = context.view.estate;
    let mut drafts = Vec::new();
    for (table, at, route) in context.routes().filter(|(_, _, route)| route.enabled) {
        let mut dropped = Addresses::empty();
        let mut asking = Vec::new();
        for placed in context.routing().asking(table) {
            for (candidate, won) in placed.candidates.all.iter().zip(&placed.won) {
                if candidate.winner.hop == Hop::Blackhole
                    && candidate.winner.origin == Some(route.origin)
                {
                    dropped = dropped.union(won);
                    asking.extend(&placed.subnets);
                }
            }
        }
        let there = held(context.view, &dropped);
        if there.is_empty() {
            continue;
        }
        asking.sort_unstable();
        asking.dedup();
        let item = &estate.route_tables[table];
        let key = Key::default()
            .name(&item.name)
            .destinations(context.view.estate, route);
        let mut draft = context.about(key, &route.origin, context.table_owner(table));
        draft.former = Some(format!(
            "{} {}",
            item.name,
            destinations_text(context, route)
        ));
        draft.networks = vec![estate.networks[item.network].name.to_string()];
        draft.brief(
            route_text(context, table, at),
            format!("drops traffic to {}", addresses_text(&there)),
        );
        draft.title = format!(
            "{} drops traffic to {}, which is in use",
            route_text(context, table, at),
            addresses_text(&there)
        );
        draft
            .evidence
            .push(context.evidence(Role::ActsOn, context.subnets(&asking), None));
        draft.fix = "Narrow the blackhole route, or add a more specific route.".to_owned();
        drafts.push(draft);
    }
    drafts
}

fn in_domains(context: &Context<'_, '_>) -> Vec<Draft> {
    let estate = context.view.estate;
    let mut drafts = Vec::new();
    for (id, hub) in estate.hubs.iter() {
        for (domain, item) in hub.domains.iter().enumerate() {
            let reading: Vec<String> = hub
                .links
                .iter()
                .filter(|link| link.reads == Some(domain))
                .map(|link| link.name.to_string())
                .collect();
            let all = domain_candidates(context.view, id, domain).all;
            let won = won(&all);
            let blackholes = item
                .routes
                .iter()
                .filter(|route| route.enabled && route.hop == DomainHop::Blackhole);
            for route in blackholes.filter(|_| !reading.is_empty()) {
                let mine = |candidate: &Candidate| candidate.winner.origin == Some(route.origin);
                let dropped = all
                    .iter()
                    .zip(&won)
                    .filter(|(candidate, _)| mine(candidate));
                let dropped = dropped.fold(Addresses::empty(), |sum, (_, won)| sum.union(won));
                let there = held(context.view, &dropped);
                if there.is_empty() {
                    continue;
                }
                let key = Key::of("hub")
                    .name(&hub.name)
                    .token("domain")
                    .name(&item.name)
                    .addresses(&dropped);
                let former = format!(
                    "hub {} domain {} {}",
                    hub.name,
                    item.name,
                    addresses_text(&dropped)
                );
                let mut draft = context.about(key, &route.origin, owner_text(estate, hub.owner));
                draft.former = Some(former);
                draft.brief(
                    format!("hub {}, domain {}", hub.name, item.name),
                    format!("drops traffic to {}", addresses_text(&there)),
                );
                draft.title = format!(
                    "a blackhole in domain {} of hub {} drops traffic to {}, which is in use",
                    item.name,
                    hub.name,
                    addresses_text(&there)
                );
                let text = super::super::draft::counted(&reading, "link");
                draft
                    .evidence
                    .push(context.evidence(Role::ActsOn, text, None));
                draft.fix = "Narrow the blackhole route, or add a more specific route.".to_owned();
                drafts.push(draft);
            }
        }
    }
    drafts
}
