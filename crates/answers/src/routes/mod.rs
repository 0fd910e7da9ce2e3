//! Where traffic goes from a place: every route that applies there, what it wins, and to what it loses the rest.

mod place;

pub use place::RoutesOf;

use heronshale_audit::describe::owner_text;
use heronshale_audit::facts::{InterfaceFact, hop_text, interface_fact};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::route::{
    Candidate, Candidates, Hop, RoutePlace, candidates, domain_candidates,
};
use heronshale_model::estate::{
    AutomaticRoutes, EqualRoutes, Gateway, GatewayKind, Hub, Id, MissingNextHop, Name, Reference,
    Route, RouteKind, RouteTable, SameSubnet,
};
use heronshale_model::source::Place;
use heronshale_sets::address::{Addresses, Range};
use serde::Serialize;

/// Where traffic goes from a place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct RoutesAnswer {
    /// The place in words: `freight-db`, `hub harbour, domain ships`.
    pub of: String,
    /// The interface, if it is one.
    pub interface: Option<InterfaceFact>,
    /// Its table; none for automatic routes only, and for places that have no table.
    pub table: Option<TableFact>,
    /// How the place routes, if that is not by a table: `a domain of the hub`.
    pub routed_by: Option<String>,
    /// The subnet inside of which packets go straight, whatever the routes say.
    pub straight_in: Option<String>,
    /// Every route that applies, those that win first in front.
    pub routes: Vec<RouteFact>,
    /// Routes of the table that do not apply here, and why.
    pub not_in_force: Vec<SetAside>,
    /// What takes IPv4 that no route takes.
    pub last: Option<String>,
    /// The IPv4 and IPv6 addresses for which there is no route.
    pub nowhere: Vec<String>,
}

/// A route table as a reader finds it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct TableFact {
    /// Its name.
    pub name: String,
    /// How the place comes to it: `the subnet's own`, `the network's main table` …
    pub by: String,
    /// Whether it is in the snapshot.
    pub missing: bool,
    /// Where it stands.
    pub place: Option<Place>,
    /// Who changes it.
    pub owner: Option<String>,
}

/// One prefix of one route.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct RouteFact {
    /// The prefix.
    pub to: String,
    /// Where it leads.
    pub hop: String,
    /// How it came: `static`, `automatic`, `propagated` or `platform`.
    pub kind: String,
    /// Lowest wins among equals.
    pub metric: u32,
    /// Where it was written; none for an automatic one.
    pub place: Option<Place>,
    /// From which sources only.
    pub only_from: Option<Vec<String>>,
    /// The addresses for which it wins.
    pub wins: Vec<String>,
    /// Whether others win along with it, and nature picks one.
    pub shared: bool,
    /// To what it loses addresses of its prefix, and why.
    pub loses: Vec<Loss>,
    /// Whether it wins nothing.
    pub idle: bool,
    /// Whether its next hop does not exist, is down, or may not forward.
    pub broken: bool,
}

/// Addresses that a better route takes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Loss {
    /// The better route's prefix.
    pub to: String,
    /// Where that leads.
    pub hop: String,
    /// Why it is better.
    pub because: String,
    /// Where it was written; none for an automatic one.
    pub place: Option<Place>,
}

/// A route of the table that does not apply.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct SetAside {
    /// Its id, or its first destination.
    pub route: String,
    /// Why it does not apply.
    pub why: String,
    /// Where it stands.
    pub place: Place,
}

/// Where traffic goes from a place.
pub fn routes_answer(view: &Fabric<'_>, of: RoutesOf) -> RoutesAnswer {
    let estate = view.estate;
    let mut answer = RoutesAnswer {
        of: of.text(view),
        interface: None,
        table: None,
        routed_by: None,
        straight_in: None,
        routes: Vec::new(),
        not_in_force: Vec::new(),
        last: None,
        nowhere: Vec::new(),
    };
    match of {
        RoutesOf::Interface(id) => {
            answer.interface = Some(interface_fact(view, id));
            let place = RoutePlace::in_subnet(view, estate.interfaces[id].subnet, Some(id));
            in_subnet(view, place, &mut answer);
        }
        RoutesOf::Subnet(id) => {
            in_subnet(view, RoutePlace::in_subnet(view, id, None), &mut answer);
        }
        RoutesOf::Table(id) => {
            let table = Reference::Found(id);
            let place = RoutePlace {
                table: Some(&table),
                ..RoutePlace::outside(estate.route_tables[id].network)
            };
            by_table(view, place, "asked for", &mut answer);
        }
        RoutesOf::Gateway(id) => at_gateway(view, id, &mut answer),
        RoutesOf::Domain(hub, domain) => in_domain(view, hub, domain, &mut answer),
        RoutesOf::Link(hub, link) => {
            let link = &estate.hubs[hub].links[link];
            match link.reads {
                Some(domain) => in_domain(view, hub, domain, &mut answer),
                None => answer.routed_by = Some("no domain, so everything is dropped".to_owned()),
            }
        }
        RoutesOf::Firewall(id) => place::at_firewall(view, id, &mut answer),
        RoutesOf::Site(id) => place::at_site(view, id, &mut answer),
    }
    answer
}

fn in_subnet(view: &Fabric<'_>, place: RoutePlace<'_>, answer: &mut RoutesAnswer) {
    let estate = view.estate;
    let Some(subnet) = place.subnet.map(|id| &estate.subnets[id]) else {
        return;
    };
    if view.settings(subnet.network).same_subnet == SameSubnet::Direct {
        answer.straight_in = Some(subnet.name.to_string());
    }
    let by = if subnet.route_table.is_some() {
        "the subnet's own"
    } else {
        "the network's main table"
    };
    by_table(view, place, by, answer);
}

/// Routes of a place by a table, or automatic ones only.
fn by_table(view: &Fabric<'_>, place: RoutePlace<'_>, by: &str, answer: &mut RoutesAnswer) {
    let first_counts = view.settings(place.network).equal_routes == EqualRoutes::First;
    let found = candidates(view, place);
    let fixed = view.settings(place.network).automatic_routes;
    let taken = listed(view, &found, first_counts, fixed, answer);
    let missing = place.table.is_some_and(|table| table.found().is_none());
    if missing {
        answer.nowhere = Vec::new();
    } else {
        nowhere(&taken, answer);
    }
    answer.table = place.table.map(|table| table_fact(view, table, by));
    let table = place.table.and_then(Reference::found);
    answer.not_in_force = table.map_or_else(Vec::new, |table| set_aside(view, table, place));
}

/// The addresses for which there is no route.
fn nowhere(taken: &Addresses, answer: &mut RoutesAnswer) {
    let mut left = Addresses::all().difference(taken);
    if answer.last.is_some() {
        left = left.difference(&Addresses::of_family(heronshale_sets::address::Family::V4));
    }
    answer.nowhere = left.texts();
}

fn at_gateway(view: &Fabric<'_>, id: Id<Gateway>, answer: &mut RoutesAnswer) {
    let gateway = &view.estate.gateways[id];
    match &gateway.kind {
        GatewayKind::Internet { table, .. } => {
            let place = RoutePlace {
                table: table.as_ref(),
                ..RoutePlace::outside(gateway.network)
            };
            by_table(view, place, "for everything that comes in", answer);
        }
        GatewayKind::Nat { subnet, .. } => {
            in_subnet(view, RoutePlace::in_subnet(view, *subnet, None), answer);
        }
        GatewayKind::OutboundOnly | GatewayKind::Site { .. } => {
            by_table(view, RoutePlace::outside(gateway.network), "", answer);
        }
    }
}

fn in_domain(view: &Fabric<'_>, hub: Id<Hub>, domain: usize, answer: &mut RoutesAnswer) {
    let name = &view.estate.hubs[hub].domains[domain].name;
    answer.routed_by = Some(format!("domain {name}"));
    let found = domain_candidates(view, hub, domain);
    let taken = listed(view, &found, false, AutomaticRoutes::Overridable, answer);
    nowhere(&taken, answer);
}

/// Tells candidates in the order in which they win, and gives all that some of them take.
fn listed(
    view: &Fabric<'_>,
    found: &Candidates,
    first_counts: bool,
    fixed: AutomaticRoutes,
    answer: &mut RoutesAnswer,
) -> Addresses {
    let groups: Vec<&[Candidate]> = found.all.chunk_by(equal).collect();
    let mut taken = Addresses::empty();
    let mut before: Vec<&Candidate> = Vec::new();
    for group in groups {
        let mut now = taken.clone();
        for candidate in group {
            let range: Addresses = [candidate.range].into_iter().collect();
            let same: Vec<&Candidate> = group
                .iter()
                .filter(|other| other.range == candidate.range)
                .collect();
            let beaten = first_counts && !std::ptr::eq(same[0], candidate);
            let wins = if beaten {
                Addresses::empty()
            } else {
                range.difference(&taken)
            };
            let mut loses: Vec<Loss> = before
                .iter()
                .filter(|other| other.only_from.is_none() && overlap(other.range, candidate.range))
                .map(|other| loss(view, other, candidate, fixed))
                .collect();
            if beaten {
                loses.push(Loss {
                    because: "the first of equal routes counts".to_owned(),
                    ..loss(view, same[0], candidate, fixed)
                });
            }
            if candidate.only_from.is_none() {
                now = now.union(&range);
            }
            let shares = same
                .iter()
                .any(|other| other.winner.hop != candidate.winner.hop);
            let origin = candidate.winner.origin;
            answer.routes.push(RouteFact {
                to: candidate.range.to_string(),
                hop: hop_text(view, candidate.winner.hop),
                kind: kind_text(candidate.kind).to_owned(),
                metric: candidate.metric,
                place: origin.map(|origin| view.estate.sources.place(&origin)),
                only_from: candidate.only_from.as_ref().map(Addresses::texts),
                shared: !beaten && shares,
                idle: wins.is_empty(),
                wins: wins.texts(),
                loses,
                broken: matches!(candidate.winner.hop, Hop::Dead | Hop::MayNotForward(_)),
            });
        }
        taken = now;
        before.extend(group);
    }
    answer.last = found.last.map(|hop| hop_text(view, hop));
    taken
}

fn equal(a: &Candidate, b: &Candidate) -> bool {
    (a.length, a.kind, a.metric) == (b.length, b.kind, b.metric)
}

fn overlap(a: Range, b: Range) -> bool {
    a.family == b.family && a.first <= b.last && b.first <= a.last
}

fn kind_text(kind: RouteKind) -> &'static str {
    match kind {
        RouteKind::Static => "static",
        RouteKind::Automatic => "automatic",
        RouteKind::Propagated => "propagated",
        RouteKind::OtherAutomatic => "platform",
    }
}

fn loss(
    view: &Fabric<'_>,
    better: &Candidate,
    worse: &Candidate,
    automatic: AutomaticRoutes,
) -> Loss {
    let fixed = automatic == AutomaticRoutes::Fixed;
    let because = if better.length > worse.length {
        "longer prefix".to_owned()
    } else if fixed && better.kind == RouteKind::Automatic && worse.kind != RouteKind::Automatic {
        "automatic routes are fixed".to_owned()
    } else if better.kind != worse.kind {
        format!(
            "{} before {}",
            kind_text(better.kind),
            kind_text(worse.kind)
        )
    } else {
        format!("lower metric {}", better.metric)
    };
    Loss {
        to: better.range.to_string(),
        hop: hop_text(view, better.winner.hop),
        because,
        place: better
            .winner
            .origin
            .map(|origin| view.estate.sources.place(&origin)),
    }
}

fn table_fact(view: &Fabric<'_>, table: &Reference<RouteTable>, by: &str) -> TableFact {
    let estate = view.estate;
    let found = table.found().map(|id| &estate.route_tables[id]);
    TableFact {
        name: heronshale_audit::describe::name_of(&estate.route_tables, table),
        by: by.to_owned(),
        missing: found.is_none(),
        place: found.map(|table| estate.sources.place(&table.origin)),
        owner: found.and_then(|table| {
            owner_text(estate, table.owner.or(estate.networks[table.network].owner))
        }),
    }
}

/// Routes that are written in the table and do not apply at the place.
fn set_aside(view: &Fabric<'_>, table: Id<RouteTable>, place: RoutePlace<'_>) -> Vec<SetAside> {
    let estate = view.estate;
    let network = estate.route_tables[table].network;
    let tagged = |tags: &[(Name, Name)]| {
        let sender = place.sender;
        sender.is_some_and(|sender| estate.has_tags(sender, tags))
    };
    let skips = view.settings(network).missing_next_hop == MissingNextHop::Skipped;
    let mut all = Vec::new();
    for route in &estate.route_tables[table].routes {
        let why = if !route.enabled {
            "it is disabled"
        } else if !route.only_tagged.is_empty() && !tagged(&route.only_tagged) {
            "it is limited to interfaces with other tags"
        } else if skips && heronshale_engine::route::hop(view, place, &route.next_hop) == Hop::Dead
        {
            "its next hop does not exist or is down, and this network skips such routes"
        } else {
            continue;
        };
        all.push(SetAside {
            route: route_name(view, route),
            why: why.to_owned(),
            place: estate.sources.place(&route.origin),
        });
    }
    all
}

fn route_name(view: &Fabric<'_>, route: &Route) -> String {
    let to = route.destinations.first().map(|to| match to {
        heronshale_model::estate::RouteDestination::Block(block) => block.range.to_string(),
        heronshale_model::estate::RouteDestination::Set(set) => {
            format!(
                "set {}",
                heronshale_audit::describe::name_of(&view.estate.address_sets, set)
            )
        }
    });
    route
        .id
        .as_ref()
        .map(ToString::to_string)
        .or(to)
        .unwrap_or_default()
}
