//! Answers: what each command found, as plain data that can be stored, compared and rendered.
//!
//! An answer holds facts in the words of the snapshot. It decides nothing about its looks, and no renderer decides
//! anything about its content.

mod audit;
mod coverage;
mod device_way;
mod effective;
mod expectations;
mod export;
mod exposure;
mod figure;
mod holding;
mod inventory;
mod matrix;
mod mends;
mod path;
mod plain_routes;
mod reach;
mod routes;
mod rule;
mod step;
mod surface;
mod tidy;

pub use audit::{Audit, Count, KindCount, Since, audit};
pub use coverage::{
    CoverageAnswer, CoveredFile, CoveredRecords, DanglingName, GuideAnswer, GuideQuestion, GuidedList,
    HoldsForEverything, IgnoredPart, NeverGiven, NotCovered, Read, ReadAnswer, ReadItems, UnclearRule, UnresolvedId,
    UsedPart, loose_ends,
};
pub(crate) use device_way::letting;
pub use device_way::{DeviceWayFact, HolderKind, WalkedFact, device_way_fact};
pub use effective::{Effective, EntryFact, ReplyFact, SideFact, StageFact, effective_answer, effective_answers};
pub use expectations::ExpectationFact;
pub use export::{
    Counted, ExportAnswer, LeftOut, PlainAcl, PlainEntry, PlainTraffic, Sheet, interface_sheet, plain_acls, rule_sheet,
};
pub use exposure::{
    ClosedAddress, ClosedFact, Closing, ExposureAnswer, ExposureOf, Meaning, OpenFact, SpokenFact, WayFact, WayKind,
    exposure_answer, way_fact,
};
pub use figure::{BoxKind, FOLDS_ABOVE, Figure, FigureBox, FigureLink, FigureLinkKind, FigureRow, RowKind, figure};
pub use holding::{Finds, Holding, find};
pub use inventory::{
    DeviceRow, FilterRow, GapRow, GatewayRow, InterfaceRow, Inventory, NetworkRow, PeeringRow, PublicRow, SetRow,
    SiteRow, SubnetRow, TableRow, inventory,
};
pub use matrix::{CellAnswer, CellFact, CellPart, CellVerdict, Matrix, MatrixAnswer, SegmentBy, SegmentFact};
pub use mends::{EditFact, MendFact, ObstacleFact, SinceFact, since};
pub use path::{LookupFact, PathAnswer, PathEnd, PathEntrance, PathPart, PathTraffic, Symptom, path_answer};
pub use plain_routes::{PlainHop, PlainRoute, plain_routes};
pub use reach::{HopFact, LinkFact, PlaceFact, PlaceKind, ReachAnswer, ReachAsked, ReachedFact, reach_answer};
pub use routes::{Loss, RouteFact, RoutesAnswer, SetAside, TableFact, routes_answer};
pub use rule::{MatchFact, Resting, RuleAnswer, rule_answer};
pub(crate) use step::spot_text;
pub use step::{StepDoes, StepFact, hop_text, step_fact};
pub use surface::{
    MOST_STEPS, MarkedFact, ObservedFact, OneStepFact, OnwardFact, OnwardFrom, OutwardFact, Seen, SeenFact, Sight,
    UnseenFact, observed, one_step_away, onward, outward,
};
pub use tidy::{Going, Proof, Staying, TidyAnswer, TidyFile, TidyFilter, tidy_plan};

use crate::address::Addresses;
use crate::describe::{RuleFact, filter_text, owner_text, rule_fact};
use crate::model::{Direction, Estate, FilterKind, GatewayKind, Id, Interface, Network, RouteDestination, RuleId};
use crate::source::Place;
use crate::stage::{By, Judgement, Outcome, StageKind};
use crate::view::View;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A whole answer as a file or a stream bears it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
    /// What the snapshot says it lacks.
    pub gaps: Vec<GapRow>,
    /// Whether something was given up at a declared limit: it is undecided, and counts as unknown.
    pub given_up: bool,
}

/// How large an estate is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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

/// An interface as a reader finds it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct InterfaceFact {
    /// Its name.
    pub name: String,
    /// What runs behind it.
    pub workload: Option<String>,
    /// Its network.
    pub network: String,
    /// Its subnet.
    pub subnet: String,
    /// Its own addresses.
    pub addresses: Vec<String>,
    /// The public addresses that are mapped to it.
    pub public: Vec<String>,
    /// Who changes it.
    pub owner: Option<String>,
    /// Where it stands.
    pub place: Place,
}

/// What decided at a stage.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "by", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Decider {
    /// A rule: for a union of rules the first that matches.
    Rule {
        /// The rule.
        rule: RuleFact,
    },
    /// The default of a filter.
    Default {
        /// The filter.
        filter: String,
        /// Where it stands.
        place: Place,
    },
    /// No rule of the groups there admits it.
    NoRule,
    /// The implied end of an ACL.
    ImpliedDeny,
    /// The implied pair past the innermost scope policy.
    ImpliedPair,
    /// No policy decided, so the stage lets it on.
    NoPolicy,
    /// Neither interface nor subnet has a group.
    NoGroup,
    /// Both ends are in one subnet: an ACL is not crossed.
    SameSubnet,
    /// A scope policy allowed it finally: groups are skipped.
    Finally,
    /// Traffic of the platform itself.
    Platform,
    /// A filter that is bound here, its rules, or the bindings are not in the snapshot.
    Lacking,
}

/// What a stage does with packets.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Does {
    /// Lets them on.
    Passes,
    /// Drops them in silence.
    Denies,
    /// Drops them and tells the sender.
    Rejects,
    /// Depends on what the snapshot lacks.
    Unknown,
}

/// One stage and what it decided.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Decided {
    /// Which check.
    pub stage: StageKind,
    /// What it does.
    pub does: Does,
    /// What decided.
    pub decider: Decider,
    /// Other rules of the same union that admit it too: all of it in effective rules, some of it in exposures.
    pub also: Vec<RuleFact>,
}

/// How large the estate is.
pub fn size(estate: &Estate) -> Size {
    let alone = estate.interfaces.items().iter().filter(|interface| interface.workload.is_none()).count();
    Size {
        networks: estate.networks.len(),
        interfaces: estate.interfaces.len(),
        workloads: estate.workloads.len() + alone,
        rules: estate.rule_ids().count(),
    }
}

/// The heading of every answer about a view.
pub fn heading(view: &View<'_>) -> Heading {
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
pub fn with_heading<T>(view: &View<'_>, kind: &str, answer: T) -> Answer<T> {
    Answer { format: format!("heronshale-{kind}"), version: 1, heading: heading(view), answer }
}

/// The settings at their default on which decisions in this estate rest, for example `named_peer_reach=peered`.
/// Whether some table has two routes in force to one prefix with one metric.
fn equal_routes(estate: &Estate) -> bool {
    estate.route_tables.items().iter().any(|table| {
        let routes = table.routes.iter().filter(|route| route.enabled);
        let of = |route: &crate::model::Route| {
            let metric = route.metric;
            let range = move |destination: &RouteDestination| match destination {
                RouteDestination::Block(block) => {
                    Some((block.range.family, block.range.first, block.range.last, metric))
                }
                RouteDestination::Set(_) => None,
            };
            route.destinations.iter().filter_map(range).collect::<Vec<_>>()
        };
        let mut all: Vec<_> = routes.flat_map(of).collect();
        all.sort_unstable();
        all.windows(2).any(|pair| pair[0] == pair[1])
    })
}

/// Whether a route leads to something that is not there.
fn names_next_hop(remark: &crate::model::Remark) -> bool {
    matches!(&remark.what, crate::model::RemarkKind::Missing { holder, .. } if holder.starts_with("table"))
}

/// Whether something that a route can lead to is down.
fn something_down(estate: &Estate) -> bool {
    let gateway = |gateway: &crate::model::Gateway| {
        matches!(gateway.kind, GatewayKind::Internet { attached: false, .. } | GatewayKind::Site { up: false, .. })
    };
    estate.gateways.items().iter().any(gateway)
        || estate.peerings.items().iter().any(|peering| !peering.is_up())
        || estate.hubs.items().iter().flat_map(|hub| &hub.links).any(|link| !link.up)
}

/// Whether a written route leads into a part of its own network.
fn inner_routes(estate: &Estate) -> bool {
    estate.route_tables.items().iter().any(|table| {
        let blocks = &estate.networks[table.network].blocks;
        table.routes.iter().flat_map(|route| &route.destinations).any(|destination| match destination {
            RouteDestination::Block(block) => [block.range].into_iter().collect::<Addresses>().is_subset(blocks),
            RouteDestination::Set(_) => false,
        })
    })
}

fn translates(estate: &Estate) -> bool {
    estate.gateways.items().iter().any(|gateway| matches!(gateway.kind, GatewayKind::Nat { .. }))
        || estate.firewalls.items().iter().any(|firewall| !firewall.source_translations.is_empty())
}

fn doors(estate: &Estate) -> bool {
    estate.services.items().iter().any(|service| !service.private_doors.is_empty())
}

fn settings_at_default(view: &View<'_>) -> Vec<String> {
    let estate = view.estate;
    let rules = || estate.filters.items().iter().flat_map(|filter| filter.rules.iter().flatten());
    let grouped = |id: Id<Interface>| !estate.interfaces[id].groups.is_empty();
    let below = |id: Id<Interface>| !estate.subnets[estate.interfaces[id].subnet].groups.is_empty();
    let any_interface = |chosen: &dyn Fn(Id<Interface>) -> bool| estate.interfaces.ids().any(chosen);
    let stateless = estate.filters.items().iter().any(|filter| matches!(filter.kind, FilterKind::NetworkAcl))
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
        ("named_peer_reach=peered", estate.networks.len() > 1 && rules().any(crate::binding::depends_on_place)),
        ("equal_priority=deny_first", same_priority),
        ("subnet_groups=both_must_allow", any_interface(&|id| grouped(id) && below(id))),
        ("no_group=allow", any_interface(&|id| !grouped(id) && !below(id))),
        ("automatic_routes=overridable", !estate.route_tables.is_empty()),
        ("equal_routes=all", equal_routes(estate)),
        ("missing_next_hop=lost", estate.remarks.iter().any(names_next_hop) || something_down(estate)),
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
            estate.balancers.items().iter().any(|one| one.back_ends.iter().all(|back_end| !back_end.healthy)),
        ),
        ("filter_private_doors=yes", doors(estate)),
        ("door_route=none", doors(estate)),
        ("fall_through=no", estate.dns_zones.items().iter().any(|zone| zone.fall_through.is_none())),
    ];
    let at_default = |setting: &str| {
        let name = setting.split('=').next().unwrap_or(setting);
        let mut all = estate.networks.items().iter().map(|network| &network.settings);
        estate.networks.is_empty() || all.any(|settings| !settings.written.contains(&name))
    };
    relied
        .into_iter()
        .filter(|(setting, rests)| *rests && at_default(setting))
        .map(|(setting, _)| setting.to_owned())
        .collect()
}

/// An interface as data.
pub fn interface_fact(view: &View<'_>, id: Id<Interface>) -> InterfaceFact {
    let estate = view.estate;
    let item = &estate.interfaces[id];
    let public = view.mapped_to(id).iter().map(|public| &estate.public_addresses[*public]);
    InterfaceFact {
        name: item.name.to_string(),
        workload: item.workload.map(|workload| estate.workloads[workload].name.to_string()),
        network: estate.networks[estate.network_of(id)].name.to_string(),
        subnet: estate.subnets[item.subnet].name.to_string(),
        addresses: item.written_addresses.iter().map(|block| block.range.to_string()).collect(),
        public: public.map(|public| public.name.to_string()).collect(),
        owner: owner_text(estate, estate.interface_owner(id)),
        place: estate.sources.place(&item.origin),
    }
}

/// What decided, as data.
pub fn decider(estate: &Estate, by: By) -> Decider {
    match by {
        By::Rule(id) => Decider::Rule { rule: rule_fact(estate, id) },
        By::Default(filter) => Decider::Default {
            filter: filter_text(estate, filter),
            place: estate.sources.place(&estate.filters[filter].origin),
        },
        By::NoRule => Decider::NoRule,
        By::ImpliedDeny => Decider::ImpliedDeny,
        By::ImpliedPair => Decider::ImpliedPair,
        By::NoPolicy => Decider::NoPolicy,
        By::NoGroup => Decider::NoGroup,
        By::SameSubnet => Decider::SameSubnet,
        By::Finally => Decider::Finally,
        By::Platform => Decider::Platform,
        By::Lacking => Decider::Lacking,
    }
}

fn does(outcome: Outcome) -> Does {
    match outcome {
        Outcome::Pass | Outcome::PassFinally | Outcome::PassPerhapsFinally => Does::Passes,
        Outcome::Deny => Does::Denies,
        Outcome::Reject => Does::Rejects,
        Outcome::Unknown | Outcome::UnknownFinally => Does::Unknown,
    }
}

/// The stages that some packets cross with what each decided; `also` names other rules of a union that admit them all.
fn decided(
    estate: &Estate,
    stages: &[StageKind],
    judgements: &[Judgement],
    also: impl Fn(StageKind, RuleId) -> Vec<RuleId>,
) -> Vec<Decided> {
    let one = |(stage, judgement): (&StageKind, &Judgement)| Decided {
        stage: *stage,
        does: does(judgement.outcome),
        decider: decider(estate, judgement.by),
        also: match judgement.by {
            By::Rule(id) => also(*stage, id).into_iter().map(|id| rule_fact(estate, id)).collect(),
            _ => Vec::new(),
        },
    };
    stages.iter().zip(judgements).map(one).collect()
}

/// The rules of some filters in one direction, those in force.
fn rules_in_force<'v>(
    view: &'v View<'_>,
    filters: &'v [Id<crate::model::Filter>],
    direction: Direction,
) -> impl Iterator<Item = RuleId> + 'v {
    filters.iter().flat_map(move |filter| {
        let count = u32::try_from(view.estate.filters[*filter].rules(direction).len()).unwrap_or(u32::MAX);
        let all = (0..count).map(move |index| RuleId { filter: *filter, direction, index });
        all.filter(|id| view.in_force(view.estate.rule(*id)))
    })
}

/// The network of a name in output, for grouping.
pub(crate) fn network_name(estate: &Estate, network: Id<Network>) -> String {
    estate.networks[network].name.to_string()
}
