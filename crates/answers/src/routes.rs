//! Where an interface's traffic goes: every route that applies, what it wins, and to what it loses the rest.

use heronshale_audit::describe::owner_text;
use heronshale_audit::facts::{InterfaceFact, hop_text, interface_fact};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::route::{Candidate, Hop, RoutePlace, candidates, table_of};
use heronshale_model::estate::{
    AutomaticRoutes, EqualRoutes, Id, Interface, MissingNextHop, Reference, Route, RouteKind,
    RouteTable, SameSubnet,
};
use heronshale_model::source::Place;
use heronshale_sets::address::{Addresses, Range};
use serde::Serialize;

/// Where an interface's traffic goes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct RoutesAnswer {
    /// The interface.
    pub interface: InterfaceFact,
    /// Its table; none for automatic routes only.
    pub table: Option<TableFact>,
    /// Whether packets to the own subnet go straight, whatever the routes say.
    pub straight_in_subnet: bool,
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
    /// How the subnet comes to it: `its own`, or `the network's main table`.
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

/// Where an interface's traffic goes.
pub fn routes_answer(view: &Fabric<'_>, id: Id<Interface>) -> RoutesAnswer {
    let estate = view.estate;
    let subnet = estate.interfaces[id].subnet;
    let item = &estate.subnets[subnet];
    let settings = view.settings(item.network);
    let place = RoutePlace::in_subnet(view, subnet, Some(id));
    let found = candidates(view, place);
    let all = &found.all;
    let groups: Vec<&[Candidate]> = all.chunk_by(equal).collect();
    let mut facts: Vec<RouteFact> = Vec::new();
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
            let first = std::ptr::eq(same[0], candidate);
            let beaten = settings.equal_routes == EqualRoutes::First && !first;
            let wins = if beaten {
                Addresses::empty()
            } else {
                range.difference(&taken)
            };
            let mut loses: Vec<Loss> = before
                .iter()
                .filter(|other| other.only_from.is_none() && overlap(other.range, candidate.range))
                .map(|other| loss(view, other, candidate, settings.automatic_routes))
                .collect();
            if beaten {
                loses.push(Loss {
                    because: "the first of equal routes counts".to_owned(),
                    ..loss(view, same[0], candidate, settings.automatic_routes)
                });
            }
            if candidate.only_from.is_none() {
                now = now.union(&range);
            }
            facts.push(RouteFact {
                to: candidate.range.to_string(),
                hop: hop_text(view, candidate.winner.hop),
                kind: kind_text(candidate.kind).to_owned(),
                metric: candidate.metric,
                place: candidate
                    .winner
                    .origin
                    .map(|origin| estate.sources.place(&origin)),
                only_from: candidate.only_from.as_ref().map(Addresses::texts),
                shared: !beaten
                    && same
                        .iter()
                        .any(|other| other.winner.hop != candidate.winner.hop),
                idle: wins.is_empty(),
                wins: wins.texts(),
                loses,
                broken: matches!(candidate.winner.hop, Hop::Dead | Hop::MayNotForward(_)),
            });
        }
        taken = now;
        before.extend(group);
    }
    let last = found.last.map(|hop| hop_text(view, hop));
    let table = table_of(view, subnet);
    let missing = table.is_some_and(|table| table.found().is_none());
    let mut nowhere = if missing {
        Addresses::empty()
    } else {
        Addresses::all().difference(&taken)
    };
    if last.is_some() {
        nowhere = nowhere.difference(&Addresses::of_family(heronshale_sets::address::Family::V4));
    }
    RoutesAnswer {
        interface: interface_fact(view, id),
        table: table.map(|table| table_fact(view, table, item.route_table.is_some())),
        straight_in_subnet: settings.same_subnet == SameSubnet::Direct,
        routes: facts,
        not_in_force: table
            .and_then(Reference::found)
            .map_or_else(Vec::new, |table| set_aside(view, table, id, place)),
        last,
        nowhere: nowhere.texts(),
    }
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

fn table_fact(view: &Fabric<'_>, table: &Reference<RouteTable>, own: bool) -> TableFact {
    let estate = view.estate;
    let found = table.found().map(|id| &estate.route_tables[id]);
    TableFact {
        name: heronshale_audit::describe::name_of(&estate.route_tables, table),
        by: if own {
            "the subnet's own"
        } else {
            "the network's main table"
        }
        .to_owned(),
        missing: found.is_none(),
        place: found.map(|table| estate.sources.place(&table.origin)),
        owner: found.and_then(|table| {
            owner_text(estate, table.owner.or(estate.networks[table.network].owner))
        }),
    }
}

/// Routes that are written in the table and do not apply to the interface.
fn set_aside(
    view: &Fabric<'_>,
    table: Id<RouteTable>,
    id: Id<Interface>,
    place: RoutePlace<'_>,
) -> Vec<SetAside> {
    let estate = view.estate;
    let network = estate.route_tables[table].network;
    let skips = view.settings(network).missing_next_hop == MissingNextHop::Skipped;
    let mut all = Vec::new();
    for route in &estate.route_tables[table].routes {
        let why = if !route.enabled {
            "it is disabled"
        } else if !route.only_tagged.is_empty() && !estate.has_tags(id, &route.only_tagged) {
            "it is limited to tags that this interface does not have"
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
