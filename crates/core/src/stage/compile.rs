//! From rule lists to maps of judgements.

use super::{By, Judgement, Outcome, State};
use crate::address::{Addresses, Family};
use crate::faults::{Fault, has};
use crate::model::{Action, Direction, EqualPriority, Filter, Id, Network, Rule, RuleId};
use crate::packet::{Intervals, PacketMap, PacketSet, Product, service};
use crate::view::View;

/// The packets that a rule matches: for certain, and perhaps.
#[derive(Clone, Debug)]
pub struct RuleMatch {
    /// Matched for certain.
    pub sure: PacketSet,
    /// Matched or not, depending on what the snapshot lacks; disjoint from `sure`.
    pub maybe: PacketSet,
}

fn product_of(direction: Direction, peers: &Addresses, local: &Addresses, rule: &Rule) -> Product {
    let (sources, destinations) = match direction {
        Direction::In => (peers, local),
        Direction::Out => (local, peers),
    };
    let services = |family| service_numbers(rule, family);
    let all_ports = Intervals::span(0, u128::from(u16::MAX));
    let ports = if has(Fault::IgnoreSourcePorts) { all_ports } else { rule.source_port_numbers() };
    if has(Fault::ForgetIpv6) {
        let sources = sources.intersection(&Addresses::of_family(Family::V4));
        return Product::new(&sources, destinations, services, &ports);
    }
    Product::new(sources, destinations, services, &ports)
}

fn service_numbers(rule: &Rule, family: Family) -> Intervals {
    let numbers = rule.service_numbers(family);
    if has(Fault::AnyPortsOnlyTcp) && rule.services.iter().any(|s| s.protocol.is_none() && s.low.is_some()) {
        return numbers.intersection(&service::whole(service::TCP));
    }
    if has(Fault::PortsOffByOne) && rule.services.iter().any(|s| s.low.is_some()) {
        return Intervals::from_spans(
            numbers.spans().iter().map(|(first, last)| (*first, if last > first { last - 1 } else { *last })),
        );
    }
    numbers
}

/// What a rule matches for certain, and that with what it perhaps matches, if there is such.
struct Reach {
    sure: Product,
    either: Option<Product>,
}

fn reach(view: &View<'_>, id: RuleId, network: Option<Id<Network>>) -> Reach {
    let rule = view.estate.rule(id);
    let (peers, local) = (view.rule_peers(rule, network), view.rule_local(rule, network));
    let local = match rule.firewall.as_deref().filter(|more| !more.except_destinations.is_empty()) {
        Some(more) => local.without(&view.peers(&more.except_destinations, network)),
        None => local,
    };
    let sure = product_of(id.direction, &peers.sure, &local.sure, rule);
    let doubtful = !peers.maybe.is_empty() || !local.maybe.is_empty();
    let either = doubtful.then(|| product_of(id.direction, &peers.either(), &local.either(), rule));
    Reach { sure, either }
}

impl Reach {
    fn matched(&self) -> RuleMatch {
        let sure = self.sure.map(());
        let maybe = self.either.as_ref().map_or_else(PacketSet::empty, |either| either.map(()).difference(&sure));
        RuleMatch { sure, maybe }
    }
}

/// The packets that a rule matches where it is enforced in a network.
pub fn rule_match(view: &View<'_>, id: RuleId, network: Option<Id<Network>>) -> RuleMatch {
    reach(view, id, network).matched()
}

/// All services, sources and destinations of what a rule matches, perhaps or for certain.
pub(crate) fn rule_extent(
    view: &View<'_>,
    id: RuleId,
    network: Option<Id<Network>>,
) -> (Intervals, Addresses, Addresses) {
    let reach = reach(view, id, network);
    reach.either.as_ref().unwrap_or(&reach.sure).extent()
}

/// The rules of some filters in the order in which they are tried: those in force, lowest priority first.
///
/// A rule without a priority comes after all that have one; two without are taken as written. Of equal priorities
/// deny and reject come first, or all as written, by the setting.
pub fn in_order(view: &View<'_>, filters: &[Id<Filter>], direction: Direction, equal: EqualPriority) -> Vec<RuleId> {
    let listed = if has(Fault::InboundRulesForOutbound) { Direction::In } else { direction };
    let mut rules: Vec<RuleId> = Vec::new();
    for &filter in filters {
        let count = u32::try_from(view.estate.filters[filter].rules(listed).len()).unwrap_or(u32::MAX);
        let all = (0..count).map(|index| RuleId { filter, direction: listed, index });
        rules.extend(all.filter(|id| view.in_force(view.estate.rule(*id))));
    }
    let equal = if has(Fault::EqualPriorityByPosition) { EqualPriority::Position } else { equal };
    rules.sort_by_key(|id| {
        let rule = view.estate.rule(*id);
        let priority = rule.priority.filter(|p| *p != 0 || !has(Fault::PriorityZeroIsNone));
        let later = equal == EqualPriority::DenyFirst && priority.is_some() && !rule.action.refuses();
        let priority = if has(Fault::OrderedHighestFirst) { priority.map(|p| u32::MAX - p) } else { priority };
        (priority.is_none(), priority, later)
    });
    rules
}

fn judgement_of(action: Action, by: By, keeps_state: bool) -> Judgement {
    let outcome = match action {
        Action::Allow | Action::Defer => Outcome::Pass,
        Action::AllowFinally => Outcome::PassFinally,
        Action::Deny => Outcome::Deny,
        Action::Reject if has(Fault::RejectPasses) => Outcome::Pass,
        Action::Reject => Outcome::Reject,
    };
    Judgement { outcome, by, state: if keeps_state { State::Kept } else { State::NotKept } }
}

/// What a filter does by its default.
pub(super) fn default_judgement(action: Action, by: By) -> Judgement {
    judgement_of(action, by, true)
}

/// An ordered list above what happens to the rest. `below` is total, so the result is.
pub(super) fn ordered(
    view: &View<'_>,
    rules: &[RuleId],
    network: Option<Id<Network>>,
    stateful: bool,
    below: &PacketMap<Judgement>,
) -> PacketMap<Judgement> {
    let reaches: Vec<Reach> = rules.iter().map(|id| reach(view, *id, network)).collect();
    let judge = |id: &RuleId| {
        let rule = view.estate.rule(*id);
        let stateless = rule.stateless && !has(Fault::StatelessRuleKeepsState);
        judgement_of(rule.action, By::Rule(*id), stateful && !stateless)
    };
    let defers = |id: &RuleId| view.estate.rule(*id).action == Action::Defer && !has(Fault::DeferAllows);
    if reaches.iter().all(|reach| reach.either.is_none()) {
        let layers = rules.iter().zip(reaches).map(|(id, reach)| (reach.sure, (!defers(id)).then(|| judge(id))));
        return PacketMap::stacked(&layers.collect::<Vec<_>>()).overlay(below);
    }
    let effect = |id: &RuleId, set: &PacketSet| {
        if defers(id) { below.restrict(set) } else { set.relabel(|()| Some(judge(id))) }
    };
    let matches: Vec<RuleMatch> = reaches.iter().map(Reach::matched).collect();
    let mut map = below.clone();
    for (id, matched) in rules.iter().zip(&matches).rev() {
        let doubtful =
            effect(id, &matched.maybe).combine(&map, |with, without| Some(with.doubt(without, By::Rule(*id))));
        map = effect(id, &matched.sure).overlay(&doubtful.overlay(&map));
    }
    map
}

/// A union of allow rules: any that matches admits; the first by binding order and position is named.
pub(super) fn union(
    view: &View<'_>,
    groups: &[Id<Filter>],
    direction: Direction,
    network: Option<Id<Network>>,
    rest: Judgement,
) -> PacketMap<Judgement> {
    let listed = if has(Fault::InboundRulesForOutbound) { Direction::In } else { direction };
    let groups = if has(Fault::IgnoreSecondGroup) { &groups[..groups.len().min(1)] } else { groups };
    let mut rules = Vec::new();
    for &filter in groups {
        let count = u32::try_from(view.estate.filters[filter].rules(listed).len()).unwrap_or(u32::MAX);
        let all = (0..count).map(|index| RuleId { filter, direction: listed, index });
        rules.extend(all.filter(|id| view.in_force(view.estate.rule(*id))));
    }
    if has(Fault::GroupsAsFirstMatch) {
        rules.truncate(1);
    }
    let reaches: Vec<Reach> = rules.iter().map(|id| reach(view, *id, network)).collect();
    let pass = |id: RuleId| Judgement::new(Outcome::Pass, By::Rule(id));
    let doubt = |id: RuleId| Judgement::new(Outcome::Unknown, By::Rule(id));
    // What a rule matches for certain is above what it and others perhaps match.
    let sure = rules.iter().zip(&reaches).map(|(id, reach)| (reach.sure.clone(), Some(pass(*id))));
    let maybe = rules.iter().zip(&reaches).filter_map(|(id, reach)| Some((reach.either.clone()?, Some(doubt(*id)))));
    let decided = PacketMap::stacked(&sure.chain(maybe).collect::<Vec<_>>());
    forget_state(view, &rules, &reaches, decided).overlay(&PacketMap::constant(rest))
}

/// Where a stateless rule of a union matches, no state is kept; where one perhaps matches, that is unknown.
fn forget_state(
    view: &View<'_>,
    rules: &[RuleId],
    reaches: &[Reach],
    decided: PacketMap<Judgement>,
) -> PacketMap<Judgement> {
    let mut stateless = rules.iter().zip(reaches).filter(|(id, _)| view.estate.rule(**id).stateless).peekable();
    if stateless.peek().is_none() || has(Fault::StatelessRuleKeepsState) {
        return decided;
    }
    let (mut sure, mut maybe) = (PacketSet::empty(), PacketSet::empty());
    for (_, reach) in stateless {
        let matched = reach.matched();
        sure = sure.union(&matched.sure);
        maybe = maybe.union(&matched.maybe);
    }
    let with = |set: &PacketSet, state| {
        let admitted = decided.restrict(set);
        admitted.relabel(|one| one.outcome.passes().then_some(Judgement { state, ..one }))
    };
    with(&sure, State::NotKept).overlay(&with(&maybe, State::Unknown)).overlay(&decided)
}

/// What a filter decides by itself, whatever it is bound to: its rules over its default; total. Members of peers are all
/// that there are in the estate. What a scope policy leaves to the next one has the outcome *unknown*.
pub fn meaning(view: &View<'_>, filter: Id<Filter>, direction: Direction) -> PacketMap<Judgement> {
    let item = &view.estate.filters[filter];
    if item.is_union() {
        return union(view, &[filter], direction, None, Judgement::new(Outcome::Deny, By::NoRule));
    }
    let rules = in_order(view, &[filter], direction, view.settings(None).equal_priority);
    let rest = match item.default_action(direction) {
        Some(action) => judgement_of(action, By::Default(filter), item.keeps_state()),
        // Left to the next policy, which is not the same as let on.
        None => Judgement::new(Outcome::Unknown, By::NoPolicy),
    };
    ordered(view, &rules, None, item.keeps_state(), &PacketMap::constant(rest))
}
