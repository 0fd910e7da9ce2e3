//! From rule lists to maps of judgements.

use super::Layer;
use crate::doubt::{Forest, Turning};
use crate::faults::{Fault, has};
use crate::judgement::{By, Judgement, Outcome, State};
use crate::peers::pairs_in_doubt;
use crate::rules::{in_order, is_stateless, rule_services, rule_sides, rule_source_ports};
use heronshale_model::estate::{Action, Direction, Filter, Id, Network, Rule, RuleId};
use heronshale_model::view::View;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketMap, PacketSet, Product};

/// The packets that a rule matches: for certain, and perhaps.
#[derive(Clone, Debug)]
pub struct RuleMatch {
    /// Matched for certain.
    pub sure: PacketSet,
    /// Matched or not, depending on what is missing from the snapshot; disjoint from `sure`.
    pub maybe: PacketSet,
}

fn product_of(direction: Direction, peers: &Addresses, local: &Addresses, rule: &Rule) -> Product {
    let (sources, destinations) = match direction {
        Direction::In => (peers, local),
        Direction::Out => (local, peers),
    };
    let services = |family| rule_services(rule, family);
    let ports = rule_source_ports(rule);
    if has(Fault::ForgetIpv6) {
        let sources = sources.intersection(&Addresses::of_family(Family::V4));
        return Product::new(&sources, destinations, services, &ports);
    }
    Product::new(sources, destinations, services, &ports)
}

/// The packets of which it is in doubt whether a rule matches them, by what it turns on; disjoint.
///
/// `anywhere`: whatever this side is, but for what the rule excepts.
pub(crate) fn rule_doubts(
    view: &View<'_>,
    id: RuleId,
    network: Option<Id<Network>>,
    anywhere: bool,
) -> Vec<(PacketSet, Turning)> {
    let rule = view.estate.rule(id);
    let but = rule
        .firewall
        .as_deref()
        .map_or(&[][..], |more| &more.except_destinations);
    let except = if has(Fault::IgnoreExcept) {
        &[][..]
    } else {
        &rule.except
    };
    let local = rule
        .local
        .as_deref()
        .filter(|_| !anywhere && !has(Fault::IgnoreLocal));
    let (peers, local) = ((rule.peers.as_deref(), except), (local, but));
    let (sources, destinations) = match id.direction {
        Direction::In => (peers, local),
        Direction::Out => (local, peers),
    };
    let pairs = pairs_in_doubt(view, sources, destinations, network)
        .into_iter()
        .map(|([from, to], turning)| {
            let (peers, local) = match id.direction {
                Direction::In => (from, to),
                Direction::Out => (to, from),
            };
            (
                product_of(id.direction, &peers, &local, rule).map(()),
                turning,
            )
        });
    pairs.filter(|(set, _)| !set.is_empty()).collect()
}

/// What a rule matches for certain, and that with what it perhaps matches, if there is such.
struct Reach {
    sure: Product,
    either: Option<Product>,
}

fn reach(view: &View<'_>, id: RuleId, network: Option<Id<Network>>) -> Reach {
    let rule = view.estate.rule(id);
    let [peers, local] = rule_sides(view, rule, network);
    let sure = product_of(id.direction, &peers.sure, &local.sure, rule);
    let doubtful = !peers.maybe.is_empty() || !local.maybe.is_empty();
    let either = doubtful.then(|| product_of(id.direction, &peers.either(), &local.either(), rule));
    Reach { sure, either }
}

impl Reach {
    fn matched(&self) -> RuleMatch {
        let sure = self.sure.map(());
        let maybe = self
            .either
            .as_ref()
            .map_or_else(PacketSet::empty, |either| either.map(()).difference(&sure));
        RuleMatch { sure, maybe }
    }
}

/// The packets that a rule matches where it is enforced in a network.
pub fn rule_match(view: &View<'_>, id: RuleId, network: Option<Id<Network>>) -> RuleMatch {
    reach(view, id, network).matched()
}

/// All services, sources and destinations of what a rule matches, perhaps or for certain.
pub fn rule_extent(
    view: &View<'_>,
    id: RuleId,
    network: Option<Id<Network>>,
) -> (Intervals, Addresses, Addresses) {
    let reach = reach(view, id, network);
    reach.either.as_ref().unwrap_or(&reach.sure).extent()
}

fn judgement_of(action: Action, by: By, keeps_state: bool) -> Judgement {
    let outcome = match action {
        Action::Allow | Action::Defer => Outcome::Pass,
        Action::AllowFinally => Outcome::PassFinally,
        Action::Deny => Outcome::Deny,
        Action::Reject if has(Fault::RejectPasses) => Outcome::Pass,
        Action::Reject => Outcome::Reject,
    };
    Judgement {
        outcome,
        by,
        state: if keeps_state {
            State::Kept
        } else {
            State::NotKept
        },
    }
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
    below: &Layer,
) -> Layer {
    let reaches: Vec<Reach> = rules.iter().map(|id| reach(view, *id, network)).collect();
    let judge = |id: &RuleId| {
        let rule = view.estate.rule(*id);
        judgement_of(rule.action, By::Rule(*id), stateful && !is_stateless(rule))
    };
    let defers =
        |id: &RuleId| view.estate.rule(*id).action == Action::Defer && !has(Fault::DeferAllows);
    if reaches.iter().all(|reach| reach.either.is_none()) {
        let layers = rules
            .iter()
            .zip(reaches)
            .map(|(id, reach)| (reach.sure, (!defers(id)).then(|| judge(id))));
        let layers: Vec<_> = layers.collect();
        let decided = PacketMap::stacked(&layers);
        let open = below
            .open
            .as_ref()
            .map(|(map, forest)| (map.without(&decided), std::sync::Arc::clone(forest)));
        return Layer {
            map: decided.overlay(&below.map),
            open: open.filter(|(map, _)| !map.is_empty()),
        };
    }
    let mut forest: Forest<Judgement> = below
        .open
        .as_ref()
        .map_or_else(Forest::default, |(_, forest)| Forest::clone(forest));
    let doubts: Vec<Vec<(PacketSet, Turning)>> = rules
        .iter()
        .zip(&reaches)
        .map(|(id, reach)| {
            if reach.either.is_some() {
                rule_doubts(view, *id, network, false)
            } else {
                Vec::new()
            }
        })
        .collect();
    place_all(&mut forest, rules, &doubts);
    let lowest = below.nodes(&mut forest);
    let mut map = lowest.clone();
    for ((id, reach), doubts) in rules.iter().zip(&reaches).zip(&doubts).rev() {
        let decided = forest.end(judge(id));
        let effect = |set: &PacketSet| {
            if defers(id) {
                lowest.restrict(set)
            } else {
                set.relabel(|()| Some(decided))
            }
        };
        let above = map.clone();
        for (set, turning) in doubts {
            let turned = effect(set).combine(&above, |with, without| {
                Some(forest.decide(turning, By::Rule(*id), with, without))
            });
            map = turned.overlay(&map);
        }
        map = effect(&reach.sure.map(())).overlay(&map);
    }
    Layer::of(&map, forest)
}

/// Gives all doubts of a list their places in the order in which they are asked.
fn place_all(
    forest: &mut Forest<Judgement>,
    rules: &[RuleId],
    doubts: &[Vec<(PacketSet, Turning)>],
) {
    for (id, doubts) in rules.iter().zip(doubts) {
        for doubt in doubts.iter().flat_map(|(_, turning)| turning.doubts()) {
            forest.place(doubt, By::Rule(*id));
        }
    }
}

/// A union of allow rules: any that matches admits; the first by binding order and position is named.
pub(super) fn union(
    view: &View<'_>,
    groups: &[Id<Filter>],
    direction: Direction,
    network: Option<Id<Network>>,
    rest: Judgement,
) -> Layer {
    let listed = if has(Fault::InboundRulesForOutbound) {
        Direction::In
    } else {
        direction
    };
    let groups = if has(Fault::IgnoreSecondGroup) {
        &groups[..groups.len().min(1)]
    } else {
        groups
    };
    let mut rules = Vec::new();
    for &filter in groups {
        let count =
            u32::try_from(view.estate.filters[filter].rules(listed).len()).unwrap_or(u32::MAX);
        let all = (0..count).map(|index| RuleId {
            filter,
            direction: listed,
            index,
        });
        rules.extend(all.filter(|id| view.in_force(view.estate.rule(*id))));
    }
    if has(Fault::GroupsAsFirstMatch) {
        rules.truncate(1);
    }
    let reaches: Vec<Reach> = rules.iter().map(|id| reach(view, *id, network)).collect();
    let pass = |id: RuleId| Judgement::new(Outcome::Pass, By::Rule(id));
    let stateless = |id: &RuleId| is_stateless(view.estate.rule(*id));
    let forgets = |judgement: Judgement| {
        let state = if judgement.outcome.passes() {
            State::NotKept
        } else {
            judgement.state
        };
        Judgement { state, ..judgement }
    };
    if reaches.iter().all(|reach| reach.either.is_none()) {
        let sure = rules
            .iter()
            .zip(&reaches)
            .map(|(id, reach)| (reach.sure.clone(), Some(pass(*id))));
        let mut map =
            PacketMap::stacked(&sure.collect::<Vec<_>>()).overlay(&PacketMap::constant(rest));
        // Where a stateless rule matches, no state is kept.
        let without = rules
            .iter()
            .zip(&reaches)
            .filter(|(id, _)| stateless(id))
            .map(|(_, reach)| reach.sure.map(()));
        let without = PacketSet::union_all(without);
        if !without.is_empty() {
            map = map
                .restrict(&without)
                .relabel(|one| Some(forgets(one)))
                .overlay(&map);
        }
        return Layer { map, open: None };
    }
    let mut forest: Forest<Judgement> = Forest::default();
    let doubts: Vec<Vec<(PacketSet, Turning)>> = rules
        .iter()
        .zip(&reaches)
        .map(|(id, reach)| {
            if reach.either.is_some() {
                rule_doubts(view, *id, network, false)
            } else {
                Vec::new()
            }
        })
        .collect();
    place_all(&mut forest, &rules, &doubts);
    let last = forest.end(rest);
    let mut map = PacketMap::constant(last);
    for ((id, reach), doubts) in rules.iter().zip(&reaches).zip(&doubts).rev() {
        let admitted = forest.end(pass(*id));
        for (set, turning) in doubts {
            let turned = map
                .restrict(set)
                .relabel(|without| Some(forest.decide(turning, By::Rule(*id), admitted, without)));
            map = turned.overlay(&map);
        }
        map = reach.sure.map(admitted).overlay(&map);
    }
    for ((id, reach), doubts) in rules
        .iter()
        .zip(&reaches)
        .zip(&doubts)
        .filter(|((id, _), _)| stateless(id))
    {
        let forgotten = map
            .restrict(&reach.sure.map(()))
            .relabel(|at| Some(forest.changed(at, &forgets)));
        let kept = map.clone();
        map = forgotten.overlay(&map);
        for (set, turning) in doubts {
            let turned = kept.restrict(set).relabel(|at| {
                let without = forest.changed(at, &forgets);
                Some(forest.decide(turning, By::Rule(*id), without, at))
            });
            map = turned.overlay(&map);
        }
    }
    Layer::of(&map, forest)
}

/// What a filter decides by itself, whatever it is bound to: its rules over its default; total. Members of peers are all
/// that there are in the estate. What a scope policy leaves to the next one has the outcome *unknown*.
pub fn meaning(view: &View<'_>, filter: Id<Filter>, direction: Direction) -> PacketMap<Judgement> {
    let item = &view.estate.filters[filter];
    if item.is_union() {
        return union(
            view,
            &[filter],
            direction,
            None,
            Judgement::new(Outcome::Deny, By::NoRule),
        )
        .map;
    }
    let rules = in_order(
        view,
        &[filter],
        direction,
        view.settings(None).equal_priority,
    );
    let rest = match item.default_action(direction) {
        Some(action) => judgement_of(action, By::Default(filter), item.keeps_state()),
        // Left to the next policy, which is not the same as let on.
        None => Judgement::new(Outcome::Unknown, By::NoPolicy),
    };
    ordered(
        view,
        &rules,
        None,
        item.keeps_state(),
        &Layer::constant(rest),
    )
    .map
}
