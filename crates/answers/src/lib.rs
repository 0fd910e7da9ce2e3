//! Answers: what each command found, as plain data that can be stored, compared and rendered.
//!
//! An answer holds facts in the words of the snapshot. It decides nothing about its looks, and no renderer decides
//! anything about its content.

mod audit;
mod compare;
mod connections;
pub mod draft;
mod effective;
mod expectations;
mod export;
mod exposure;
mod figure;
mod find;
mod fixes;
mod inventory;
mod losses;
mod matrix;
mod order;
mod path;
mod plain_routes;
mod reach;
mod routes;
mod rule;
mod surface;
mod tidy;
mod traffic;

pub use audit::{Audit, BecauseFact, Count, KindCount, Since, audit};
pub use compare::{
    ChangeEdit, ChangedRow, ChangedSet, CompareAnswer, OutcomeFact, TurnedAcceptance,
    TurnedExpectation, compare_answer, edits_behind, edits_to_undo, letter, others_that_differ,
    some_edits, turned_acceptances,
};
pub use connections::{
    ConnectionAsked, ConnectionFact, ConnectionsAnswer, connections_answer, is_met,
};
pub use effective::{
    Effective, EntryFact, ReplyFact, SideFact, StageFact, effective_answer, effective_answers,
};
pub use expectations::ExpectationFact;
pub use export::{
    Counted, ExportAnswer, LeftOut, PlainAcl, PlainEntry, PlainTraffic, Sheet, interface_sheet,
    plain_acls, rule_sheet,
};
pub use exposure::{ClosedAddress, ExposureAnswer, ExposureOf, exposure_answer};
pub use figure::{
    BoxKind, FOLDS_ABOVE, Figure, FigureBox, FigureLink, FigureLinkKind, FigureRow, RowKind, figure,
};
pub use find::{
    FindError, Finds, FreeBlock, Holding, PlanAnswer, PlanRow, ResolvesFact, find, plan,
};
pub use fixes::{FixFact, ObstacleFact, RevertFact, SinceFact};
pub use heronshale_audit::facts::EditFact;
pub use inventory::{
    DeviceRow, FilterRow, GapRow, GatewayRow, InterfaceRow, Inventory, NetworkRow, PeeringRow,
    PublicRow, SetRow, SiteRow, SubnetRow, TableRow, inventory,
};
pub use losses::{
    Failed, FailureFact, FailuresAnswer, LossFact, LostFact, PairsFact, Standings, failures_answer,
    pairs_fact,
};
pub use matrix::{CellAnswer, CellFact, CellPart, CellVerdict, Matrix, MatrixAnswer, SegmentFact};
pub use order::{
    BetweenFact, CheckFact, ConflictFact, ConstraintFact, HarmFact, OrderAnswer, StepOfOrder,
    order_answer,
};
pub use path::{
    LookupFact, PathAnswer, PathEnd, PathEntrance, PathPart, Symptom, path_answer, since,
};
pub use plain_routes::{PlainHop, PlainRoute, plain_routes};
pub use reach::{
    HopFact, LinkFact, PlaceFact, PlaceKind, ReachAnswer, ReachAsked, ReachedFact, reach_answer,
};
pub use routes::{Loss, RouteFact, RoutesAnswer, RoutesOf, SetAside, TableFact, routes_answer};
pub use rule::{MatchFact, Resting, RuleAnswer, rule_answer};
pub use surface::{
    MOST_STEPS, MarkedFact, ObservedFact, OneStepFact, OnwardFact, OnwardFrom, OutwardFact,
    SeenFact, Sight, UnseenFact, observed, one_step_away, onward, outward,
};
pub use tidy::{Going, Proof, Staying, TidyAnswer, TidyFile, TidyFilter, tidy_plan};

use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::{
    Estate, FilterKind, GatewayKind, Id, Interface, Network, RouteDestination,
};
use heronshale_sets::address::Addresses;
use serde::Serialize;

/// The version of all formats of answers.
pub const VERSION: u32 = 2;

/// A whole answer as a file or a stream bears it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Answer<T> {
    /// Which kind of answer: `heronshale-audit`, `heronshale-effective` …
    pub format: String,
    /// The version of that format.
    pub version: u32,
    /// What was judged, by what date and by which settings.
    pub heading: Heading,
    /// The answer itself.
    pub answer: T,
}

/// What was judged, by what date and by which settings.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Heading {
    /// The estate's name.
    pub estate: String,
    /// When the snapshot was taken.
    pub taken: Option<String>,
    /// The moment by which ends of rules are judged.
    pub judged_by: Option<String>,
    /// Networks, interfaces, rules.
    pub size: Size,
    /// Settings that nobody wrote down and on which something here rests, with the value that they have.
    pub settings_at_default: Vec<String>,
    /// What was said beside the snapshot: the configuration, and how many expectations and acceptances of which files.
    pub stated: Vec<String>,
    /// What the snapshot declares as missing.
    pub gaps: Vec<GapRow>,
    /// Whether something was given up at a declared limit: it is undecided, and counts as unknown.
    pub given_up: bool,
}

/// How large an estate is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Size {
    /// Virtual networks.
    pub networks: usize,
    /// Network cards.
    pub interfaces: usize,
    /// Workloads; an interface that belongs to none counts as one.
    pub workloads: usize,
    /// Rules of all filters.
    pub rules: usize,
}

/// How large the estate is.
pub fn size(estate: &Estate) -> Size {
    let alone = estate
        .interfaces
        .items()
        .iter()
        .filter(|interface| interface.workload.is_none())
        .count();
    Size {
        networks: estate.networks.len(),
        interfaces: estate.interfaces.len(),
        workloads: estate.workloads.len() + alone,
        rules: estate.rule_ids().count(),
    }
}

/// The heading of every answer about a view.
pub fn heading(view: &Fabric<'_>) -> Heading {
    let estate = view.estate;
    Heading {
        estate: estate.name.to_string(),
        taken: estate.taken.map(|at| at.to_string()),
        judged_by: view.at.map(|at| at.to_string()),
        size: size(estate),
        settings_at_default: settings_at_default(view),
        stated: view.stated.sources.clone(),
        gaps: inventory::gaps(estate),
        given_up: view.gave_up(),
    }
}

/// An answer with its heading.
pub fn with_heading<T>(view: &Fabric<'_>, kind: &str, answer: T) -> Answer<T> {
    Answer {
        format: format!("heronshale-{kind}"),
        version: VERSION,
        heading: heading(view),
        answer,
    }
}

/// The settings at their default on which decisions in this estate rest, for example `named_peer_reach=peered`.
/// Whether some table has two routes in force to one prefix with one metric.
fn equal_routes(estate: &Estate) -> bool {
    estate.route_tables.items().iter().any(|table| {
        let routes = table.routes.iter().filter(|route| route.enabled);
        let of = |route: &heronshale_model::estate::Route| {
            let metric = route.metric;
            let range = move |destination: &RouteDestination| match destination {
                RouteDestination::Block(block) => Some((
                    block.range.family,
                    block.range.first,
                    block.range.last,
                    metric,
                )),
                RouteDestination::Set(_) => None,
            };
            route
                .destinations
                .iter()
                .filter_map(range)
                .collect::<Vec<_>>()
        };
        let mut all: Vec<_> = routes.flat_map(of).collect();
        all.sort_unstable();
        all.windows(2).any(|pair| pair[0] == pair[1])
    })
}

/// Whether a route leads to something that is not there.
fn names_next_hop(remark: &heronshale_model::estate::Remark) -> bool {
    matches!(&remark.what, heronshale_model::estate::RemarkKind::Missing { holder, .. } if holder.starts_with("table"))
}

/// Whether something that a route can lead to is down.
fn something_down(estate: &Estate) -> bool {
    let gateway = |gateway: &heronshale_model::estate::Gateway| {
        matches!(
            gateway.kind,
            GatewayKind::Internet {
                attached: false,
                ..
            } | GatewayKind::Site { up: false, .. }
        )
    };
    estate.gateways.items().iter().any(gateway)
        || estate
            .peerings
            .items()
            .iter()
            .any(|peering| !peering.is_up())
        || estate
            .hubs
            .items()
            .iter()
            .flat_map(|hub| &hub.links)
            .any(|link| !link.up)
}

/// Whether a written route leads into a part of its own network.
fn inner_routes(estate: &Estate) -> bool {
    estate.route_tables.items().iter().any(|table| {
        let blocks = &estate.networks[table.network].blocks;
        table
            .routes
            .iter()
            .flat_map(|route| &route.destinations)
            .any(|destination| match destination {
                RouteDestination::Block(block) => [block.range]
                    .into_iter()
                    .collect::<Addresses>()
                    .is_subset(blocks),
                RouteDestination::Set(_) => false,
            })
    })
}

fn translates(estate: &Estate) -> bool {
    estate
        .gateways
        .items()
        .iter()
        .any(|gateway| matches!(gateway.kind, GatewayKind::Nat { .. }))
        || estate
            .firewalls
            .items()
            .iter()
            .any(|firewall| !firewall.source_translations.is_empty())
}

fn doors(estate: &Estate) -> bool {
    estate
        .services
        .items()
        .iter()
        .any(|service| !service.private_doors.is_empty())
}

fn settings_at_default(view: &Fabric<'_>) -> Vec<String> {
    let estate = view.estate;
    let rules = || {
        estate
            .filters
            .items()
            .iter()
            .flat_map(|filter| filter.rules.iter().flatten())
    };
    let grouped = |id: Id<Interface>| !estate.interfaces[id].groups.is_empty();
    let below = |id: Id<Interface>| {
        !estate.subnets[estate.interfaces[id].subnet]
            .groups
            .is_empty()
    };
    let any_interface =
        |chosen: &dyn Fn(Id<Interface>) -> bool| estate.interfaces.ids().any(chosen);
    let stateless = estate
        .filters
        .items()
        .iter()
        .any(|filter| matches!(filter.kind, FilterKind::NetworkAcl))
        || rules().any(|rule| rule.stateless);
    let same_priority = estate.filters.items().iter().any(|filter| {
        filter.rules.iter().any(|list| {
            let mut all: Vec<u32> = list.iter().filter_map(|rule| rule.priority).collect();
            all.sort_unstable();
            all.windows(2).any(|pair| pair[0] == pair[1])
        })
    });
    let relied = [
        ("client_ports=1024-65535", stateless),
        (
            "named_peer_reach=peered",
            estate.networks.len() > 1 && rules().any(heronshale_engine::binding::depends_on_place),
        ),
        ("equal_priority=deny_first", same_priority),
        (
            "subnet_groups=both_must_allow",
            any_interface(&|id| grouped(id) && below(id)),
        ),
        (
            "no_group=allow",
            any_interface(&|id| !grouped(id) && !below(id)),
        ),
        (
            "automatic_routes=overridable",
            !estate.route_tables.is_empty(),
        ),
        ("equal_routes=all", equal_routes(estate)),
        (
            "missing_next_hop=lost",
            estate.remarks.iter().any(names_next_hop) || something_down(estate),
        ),
        ("same_subnet=direct", inner_routes(estate)),
        ("nat_ports=1024-65535", translates(estate)),
        (
            "policy_sees=translated",
            estate
                .firewalls
                .items()
                .iter()
                .any(|one| one.policy_sees.is_none() && !one.destination_translations.is_empty()),
        ),
        (
            "no_healthy=lost",
            estate
                .balancers
                .items()
                .iter()
                .any(|one| one.back_ends.iter().all(|back_end| !back_end.healthy)),
        ),
        ("filter_private_doors=yes", doors(estate)),
        ("door_route=none", doors(estate)),
        (
            "fall_through=no",
            estate
                .dns_zones
                .items()
                .iter()
                .any(|zone| zone.fall_through.is_none()),
        ),
    ];
    let at_default = |setting: &str| {
        let name = setting.split('=').next().unwrap_or(setting);
        let mut all = estate
            .networks
            .items()
            .iter()
            .map(|network| &network.settings);
        estate.networks.is_empty() || all.any(|settings| !settings.written.contains(&name))
    };
    relied
        .into_iter()
        .filter(|(setting, rests)| *rests && at_default(setting))
        .map(|(setting, _)| setting.to_owned())
        .collect()
}

/// The network of a name in output, for grouping.
pub(crate) fn network_name(estate: &Estate, network: Id<Network>) -> String {
    estate.networks[network].name.to_string()
}
