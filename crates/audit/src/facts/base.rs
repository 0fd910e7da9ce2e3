//! Interfaces, and what decided at stages.

use crate::describe::{RuleFact, filter_text, owner_text, rule_fact};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::{By, Judgement, Outcome, StageKind};
use heronshale_model::estate::{Direction, Estate, Id, Interface, RuleId};
use heronshale_model::source::Place;
use serde::Serialize;

/// An interface as a reader finds it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Does {
    /// Lets them on.
    Passes,
    /// Drops them in silence.
    Denies,
    /// Drops them and tells the sender.
    Rejects,
    /// Depends on what is missing from the snapshot.
    Unknown,
}

/// One stage and what it decided.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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

/// An interface as data.
pub fn interface_fact(view: &Fabric<'_>, id: Id<Interface>) -> InterfaceFact {
    let estate = view.estate;
    let item = &estate.interfaces[id];
    let public = view
        .mapped_to(id)
        .iter()
        .map(|public| &estate.public_addresses[*public]);
    InterfaceFact {
        name: item.name.to_string(),
        workload: item
            .workload
            .map(|workload| estate.workloads[workload].name.to_string()),
        network: estate.networks[estate.network_of(id)].name.to_string(),
        subnet: estate.subnets[item.subnet].name.to_string(),
        addresses: item
            .written_addresses
            .iter()
            .map(|block| block.range.to_string())
            .collect(),
        public: public.map(|public| public.name.to_string()).collect(),
        owner: owner_text(estate, estate.interface_owner(id)),
        place: estate.sources.place(&item.origin),
    }
}

/// What decided, as data.
pub fn decider(estate: &Estate, by: By) -> Decider {
    match by {
        By::Rule(id) => Decider::Rule {
            rule: rule_fact(estate, id),
        },
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

/// What an outcome does with packets.
pub fn does(outcome: Outcome) -> Does {
    match outcome {
        Outcome::Pass | Outcome::PassFinally | Outcome::PassPerhapsFinally => Does::Passes,
        Outcome::Deny => Does::Denies,
        Outcome::Reject => Does::Rejects,
        Outcome::Unknown | Outcome::UnknownFinally => Does::Unknown,
    }
}

/// The stages that some packets cross with what each decided; `also` names other rules of a union that admit them all.
pub fn decided(
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
            By::Rule(id) => also(*stage, id)
                .into_iter()
                .map(|id| rule_fact(estate, id))
                .collect(),
            _ => Vec::new(),
        },
    };
    stages.iter().zip(judgements).map(one).collect()
}

/// The rules of some filters in one direction, those in force.
pub fn rules_in_force<'v>(
    view: &'v Fabric<'_>,
    filters: &'v [Id<heronshale_model::estate::Filter>],
    direction: Direction,
) -> impl Iterator<Item = RuleId> + 'v {
    filters.iter().flat_map(move |filter| {
        let count =
            u32::try_from(view.estate.filters[*filter].rules(direction).len()).unwrap_or(u32::MAX);
        let all = (0..count).map(move |index| RuleId {
            filter: *filter,
            direction,
            index,
        });
        all.filter(|id| view.in_force(view.estate.rule(*id)))
    })
}
