//! The language of rules: what a rule in a place is about, what it decides, and in which order a list is tried.
//!
//! Stages compile maps from this, firewall policies theirs, and dead rules take their lines from it (`docs/semantics.md` 2).

use crate::binding::depends_on_place;
use crate::faults::{Fault, has};
use heronshale_model::estate::{
    Action, Direction, EqualPriority, Filter, FilterKind, Id, Network, Rule, RuleId,
};
use heronshale_model::view::{Matched, View};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;

/// The other side of a rule: its peers less its exceptions.
pub fn rule_peers(view: &View<'_>, rule: &Rule, from: Option<Id<Network>>) -> Matched {
    let included = rule.peers.as_ref().map_or_else(
        || Matched::sure(Addresses::all()),
        |peers| view.peers(peers, from),
    );
    if rule.except.is_empty() || has(Fault::IgnoreExcept) {
        return included;
    }
    included.without(&view.peers(&rule.except, from))
}

/// This side of a rule, as it names it.
pub fn rule_local(view: &View<'_>, rule: &Rule, from: Option<Id<Network>>) -> Matched {
    match &rule.local {
        Some(local) if !has(Fault::IgnoreLocal) => view.peers(local, from),
        _ => Matched::sure(Addresses::all()),
    }
}

/// What a rule is about in a place: its peers, and this side less what a firewall's rule excepts.
pub fn rule_sides(view: &View<'_>, rule: &Rule, network: Option<Id<Network>>) -> [Matched; 2] {
    let local = rule_local(view, rule, network);
    let excepted = rule
        .firewall
        .as_deref()
        .map_or(&[][..], |more| &more.except_destinations);
    let local = if excepted.is_empty() {
        local
    } else {
        local.without(&view.peers(excepted, network))
    };
    [rule_peers(view, rule, network), local]
}

/// The place that matters to a rule: none if it says the same everywhere.
pub fn place_of_rule(rule: &Rule, network: Option<Id<Network>>) -> Option<Id<Network>> {
    network.filter(|_| depends_on_place(rule))
}

/// The services of a rule, as numbers of [`service`].
pub fn rule_services(rule: &Rule, family: Family) -> Intervals {
    let numbers = rule.service_numbers(family);
    if has(Fault::AnyPortsOnlyTcp)
        && rule
            .services
            .iter()
            .any(|s| s.protocol.is_none() && s.low.is_some())
    {
        return numbers.intersection(&service::whole(service::TCP));
    }
    if has(Fault::PortsOffByOne) && rule.services.iter().any(|s| s.low.is_some()) {
        return Intervals::from_spans(
            numbers
                .spans()
                .iter()
                .map(|(first, last)| (*first, if last > first { last - 1 } else { *last })),
        );
    }
    numbers
}

/// The source ports of a rule.
pub fn rule_source_ports(rule: &Rule) -> Intervals {
    if has(Fault::IgnoreSourcePorts) {
        Intervals::span(0, u128::from(u16::MAX))
    } else {
        rule.source_port_numbers()
    }
}

/// What a rule does with what it matches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Decision {
    /// Its action.
    pub action: Action,
    /// Whether the reply is matched as a packet of its own: by the rule, or by its filter.
    pub stateless: bool,
}

/// Whether a rule says that replies are matched as packets of their own.
pub fn is_stateless(rule: &Rule) -> bool {
    rule.stateless && !has(Fault::StatelessRuleKeepsState)
}

/// What a rule decides.
pub fn decision_of(view: &View<'_>, id: RuleId) -> Decision {
    let rule = view.estate.rule(id);
    Decision {
        action: rule.action,
        stateless: is_stateless(rule) || !view.estate.filters[id.filter].keeps_state(),
    }
}

/// The rules of some filters of one place in the order in which they are tried: those of a firewall policy by level, class and section,
/// those of unions as bound and as written, all others by priority.
pub fn tried(
    view: &View<'_>,
    filters: &[Id<Filter>],
    direction: Direction,
    network: Option<Id<Network>>,
) -> Vec<RuleId> {
    let Some(first) = filters.first() else {
        return Vec::new();
    };
    let kind = &view.estate.filters[*first];
    if matches!(kind.kind, FilterKind::FirewallPolicy { .. }) {
        return policy_order(view, *first, network);
    }
    let mut order = in_order(
        view,
        filters,
        direction,
        view.settings(network).equal_priority,
    );
    if kind.is_union() {
        let bound = |id: &RuleId| {
            (
                filters.iter().position(|filter| *filter == id.filter),
                id.index,
            )
        };
        order.sort_unstable_by_key(bound);
    }
    order
}

/// The rules of some filters in the order in which they are tried: those in force, lowest priority first.
///
/// A rule without a priority comes after all that have one; two without are taken as written. Of equal priorities
/// deny and reject come first, or all as written, by the setting.
pub fn in_order(
    view: &View<'_>,
    filters: &[Id<Filter>],
    direction: Direction,
    equal: EqualPriority,
) -> Vec<RuleId> {
    let listed = if has(Fault::InboundRulesForOutbound) {
        Direction::In
    } else {
        direction
    };
    let mut rules: Vec<RuleId> = Vec::new();
    for &filter in filters {
        let count =
            u32::try_from(view.estate.filters[filter].rules(listed).len()).unwrap_or(u32::MAX);
        let all = (0..count).map(|index| RuleId {
            filter,
            direction: listed,
            index,
        });
        rules.extend(all.filter(|id| view.in_force(view.estate.rule(*id))));
    }
    let equal = if has(Fault::EqualPriorityByPosition) {
        EqualPriority::Position
    } else {
        equal
    };
    rules.sort_by_key(|id| {
        let rule = view.estate.rule(*id);
        let priority = rule
            .priority
            .filter(|p| *p != 0 || !has(Fault::PriorityZeroIsNone));
        let later =
            equal == EqualPriority::DenyFirst && priority.is_some() && !rule.action.refuses();
        let priority = if has(Fault::OrderedHighestFirst) {
            priority.map(|p| u32::MAX - p)
        } else {
            priority
        };
        (priority.is_none(), priority, later)
    });
    rules
}

/// The rules of a policy in the order in which they are tried.
pub fn policy_order(
    view: &View<'_>,
    policy: Id<Filter>,
    network: Option<Id<Network>>,
) -> Vec<RuleId> {
    let filter = &view.estate.filters[policy];
    let FilterKind::FirewallPolicy {
        class_order,
        sections,
        ..
    } = &filter.kind
    else {
        return Vec::new();
    };
    let deny_first = view.settings(network).equal_priority == EqualPriority::DenyFirst;
    let count = u32::try_from(filter.rules[0].len()).unwrap_or(u32::MAX);
    let all = (0..count).map(|index| RuleId {
        filter: policy,
        direction: Direction::In,
        index,
    });
    let mut rules: Vec<RuleId> = all
        .filter(|id| view.in_force(view.estate.rule(*id)))
        .collect();
    rules.sort_by_key(|id| {
        let rule = view.estate.rule(*id);
        let section = rule.firewall.as_ref().and_then(|more| more.section);
        let found = section.and_then(|at| sections.get(at as usize));
        let class = found.and_then(|section| section.class.as_ref());
        let rank = class.and_then(|class| class_order.iter().position(|other| other == class));
        let of_section = found.and_then(|section| section.priority);
        let later = deny_first && rule.priority.is_some() && !rule.action.refuses();
        (
            (
                rank.is_none() && !has(Fault::WalkClassesIgnored),
                rank.filter(|_| !has(Fault::WalkClassesIgnored)),
            ),
            (of_section.is_none(), of_section, section.is_none(), section),
            (rule.priority.is_none(), rule.priority, later),
        )
    });
    rules
}
