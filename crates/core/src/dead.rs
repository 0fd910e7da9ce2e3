//! Rules that do nothing: shadowed by earlier ones, or redundant beside others (design 3.1).
//!
//! *Terms.* What is *visible* of a rule is what it matches and no earlier rule does. A rule is *shadowed* if nothing of it is
//! visible and some packet of it is decided otherwise than it would decide. It is *redundant* if taking it away
//! changes no packet's fate. A filter is judged wherever it is enforced, and a rule is dead only if it is dead everywhere.
//!
//! *Example.* `allow 50-60; allow 40-70; deny 50-60`: the third is shadowed by the first; the first is redundant, since what
//! it matches is met by the second next, and the third decides nothing.
//!
//! *Ends.* A rule that the platform stops at some date covers only rules that stop no later.
//!
//! *Cost.* Each pair of rules whose hulls meet is one operation on packet sets: quadratic in the worst case.

use crate::binding::{Bindings, Enforced, depends_on_place};
use crate::ends::asked_packets;
use crate::faults::{Fault, has};
use crate::model::{Action, Direction, Filter, FilterKind, Id, Peer, Rule, RuleId};
use crate::packet::{Packet, PacketSet};
use crate::stage::{RuleMatch, in_order, rule_match};
use crate::view::View;
use rayon::prelude::*;

/// In which way a rule is dead.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum How {
    /// Earlier rules take all of it, and decide some of it otherwise: for example this packet.
    Shadowed(Packet),
    /// Other rules do all that it does.
    Redundant,
    /// The same, and for some of it the list's default does.
    RedundantByDefault,
}

/// A rule that does nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Dead {
    /// The rule.
    pub rule: RuleId,
    /// In which way.
    pub how: How,
    /// The rules that cover it: none of them can be left out; one if one suffices.
    pub covers: Vec<RuleId>,
    /// Who takes its traffic, in the order in which they do.
    pub takers: Vec<RuleId>,
    /// Whether it stays dead whatever the members of groups and sets become.
    pub durable: bool,
}

/// Every dead rule of the estate, by filter, direction and place.
pub fn dead_rules(view: &View<'_>, bindings: &Bindings) -> Vec<Dead> {
    let filters: Vec<Id<Filter>> = view.estate.filters.ids().collect();
    let found: Vec<Vec<Dead>> = filters.par_iter().map(|filter| dead_rules_of(view, bindings, *filter)).collect();
    found.into_iter().flatten().collect()
}

/// The dead rules of one filter.
pub fn dead_rules_of(view: &View<'_>, bindings: &Bindings, filter: Id<Filter>) -> Vec<Dead> {
    let enforced = bindings.enforced(view, filter);
    let mut dead = Vec::new();
    for direction in Direction::BOTH {
        // Rules of firewall policies depend on zones and names too: not judged here.
        let item = &view.estate.filters[filter];
        if item.rules(direction).is_empty() || matches!(item.kind, FilterKind::FirewallPolicy { .. }) {
            continue;
        }
        let mut lists: Vec<List> = Vec::new();
        for place in &enforced {
            let list = List::new(view, bindings, place, direction);
            let same = |other: &List| other.entries.len() == list.entries.len() && other.is_like(&list);
            if !lists.iter().any(same) {
                lists.push(list);
            }
        }
        let count = u32::try_from(view.estate.filters[filter].rules(direction).len()).unwrap_or(u32::MAX);
        for index in 0..count {
            let rule = RuleId { filter, direction, index };
            let verdicts: Option<Vec<Dead>> = lists.iter().map(|list| list.judge(view, rule)).collect();
            dead.extend(verdicts.and_then(joined));
        }
    }
    dead
}

/// The verdict of all places: dead where it is dead in each; shadowed if it is in one.
fn joined(verdicts: Vec<Dead>) -> Option<Dead> {
    let at = verdicts.iter().position(|dead| matches!(dead.how, How::Shadowed(_))).unwrap_or(0);
    let durable = verdicts.iter().all(|dead| dead.durable);
    let merge = |of: fn(&Dead) -> &Vec<RuleId>| {
        let mut all: Vec<RuleId> = Vec::new();
        for id in verdicts.iter().flat_map(of) {
            if !all.contains(id) {
                all.push(*id);
            }
        }
        all
    };
    let (covers, takers) = (merge(|dead| &dead.covers), merge(|dead| &dead.takers));
    let by_default = verdicts.iter().any(|dead| dead.how == How::RedundantByDefault);
    let mut chosen = verdicts.get(at)?.clone();
    if by_default && chosen.how == How::Redundant {
        chosen.how = How::RedundantByDefault;
    }
    Some(Dead { covers, takers, durable, ..chosen })
}

/// What a rule does with what it matches; equal if action, keeping of state, and defer or finally are.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Decision {
    action: Action,
    stateless: bool,
}

struct Entry {
    id: RuleId,
    decision: Decision,
    matched: RuleMatch,
    either: PacketSet,
    hull: Hull,
}

/// Bounds of what a rule matches, for a quick no: services and peers by family.
struct Hull {
    services: Option<(u128, u128)>,
    peers: [Option<(u128, u128)>; 2],
}

impl Hull {
    fn meets(&self, other: &Self) -> bool {
        let meet = |a: Option<(u128, u128)>, b: Option<(u128, u128)>| matches!((a, b), (Some(a), Some(b)) if a.0 <= b.1 && b.0 <= a.1);
        meet(self.services, other.services) && (0..2).any(|at| meet(self.peers[at], other.peers[at]))
    }
}

/// A list of rules where it is enforced.
struct List {
    union: bool,
    lacking: bool,
    /// The packets whose near side is an interface there: where witnesses are looked for first.
    home: PacketSet,
    default: Option<Decision>,
    entries: Vec<Entry>,
}

impl List {
    fn new(view: &View<'_>, bindings: &Bindings, place: &Enforced, direction: Direction) -> Self {
        let settings = view.settings(place.network);
        let item = &view.estate.filters[place.filters[0]];
        let union = item.is_union();
        let mut order = in_order(view, &place.filters, direction, settings.equal_priority);
        if union {
            order.sort_unstable();
        }
        let stateless_filter = !item.keeps_state();
        let entries = order.into_iter().map(|id| {
            let rule = view.estate.rule(id);
            let matched = rule_match(view, id, place.network.filter(|_| depends_on_place(rule)));
            let either = matched.sure.union(&matched.maybe);
            let stateless = stateless_filter || rule.stateless;
            let hull = hull_of(view, rule, place);
            Entry { id, decision: Decision { action: rule.action, stateless }, matched, either, hull }
        });
        let entries = entries.collect();
        let defaults = place.filters.iter().map(|filter| view.estate.filters[*filter].default_action(direction));
        let mut defaults: Vec<Option<Action>> = defaults.collect();
        defaults.sort_by_key(|action| !action.is_some_and(Action::refuses));
        let default = match item.kind {
            FilterKind::ScopePolicy { .. } => Some(Decision { action: Action::Defer, stateless: false }),
            _ => defaults.first().copied().flatten().map(|action| Decision { action, stateless: stateless_filter }),
        };
        let here = bindings.interfaces(place.filters[0]).iter();
        let here = here.filter(|id| Some(view.estate.network_of(**id)) == place.network);
        let own = here.flat_map(|id| view.estate.interfaces[*id].addresses.ranges()).collect();
        let home = asked_packets(direction.opposite(), &own, &[]);
        Self { union, lacking: place.lacking, home, default, entries }
    }

    fn is_like(&self, other: &Self) -> bool {
        let same = |(a, b): (&Entry, &Entry)| a.id == b.id && a.matched.sure == b.matched.sure && a.either == b.either;
        self.lacking == other.lacking && self.entries.iter().zip(&other.entries).all(same)
    }

    fn judge(&self, view: &View<'_>, rule: RuleId) -> Option<Dead> {
        let at = self.entries.iter().position(|entry| entry.id == rule)?;
        if self.lacking || self.entries[at].either.is_empty() {
            return None;
        }
        if self.union {
            self.judge_union(view, at)
        } else {
            self.judge_shadow(view, at).or_else(|| self.judge_removal(view, at))
        }
    }

    /// Whether a rule may stand for another over time: it has no end, or one that is not earlier.
    fn outlasts(&self, view: &View<'_>, other: usize, at: usize) -> bool {
        let end = |at: usize| view.estate.rule(self.entries[at].id).enforced_until;
        match (end(other), end(at)) {
            _ if has(Fault::DeadByEndingCovers) => true,
            (None, _) => true,
            (Some(theirs), Some(own)) => theirs >= own,
            (Some(_), None) => false,
        }
    }

    fn meeting(&self, at: usize, others: std::ops::Range<usize>) -> impl Iterator<Item = usize> + '_ {
        others.filter(move |other| *other != at && self.entries[*other].hull.meets(&self.entries[at].hull))
    }

    /// Rules among `candidates` that cover all of a rule, none of which can be left out.
    fn cover(&self, at: usize, candidates: &[usize]) -> Option<Vec<usize>> {
        let whole = &self.entries[at].either;
        let sure = |other: &usize| &self.entries[*other].matched.sure;
        if let Some(one) = candidates.iter().find(|other| whole.is_subset(sure(other))) {
            return Some(vec![*one]);
        }
        if has(Fault::DeadSingleCoversOnly) {
            return None;
        }
        let mut rest = whole.clone();
        let mut used = Vec::new();
        for other in candidates {
            let less = rest.difference(sure(other));
            if less != rest {
                used.push(*other);
                rest = less;
            }
            if rest.is_empty() {
                break;
            }
        }
        if !rest.is_empty() {
            return None;
        }
        for at in (0..used.len()).rev() {
            let others = used.iter().enumerate().filter(|(other, _)| *other != at);
            let without = others.fold(whole.clone(), |rest, (_, other)| rest.difference(sure(other)));
            if without.is_empty() {
                used.remove(at);
            }
        }
        Some(used)
    }

    fn dead(&self, view: &View<'_>, at: usize, how: How, covers: &[usize], takers: &[usize]) -> Dead {
        let ids = |list: &[usize]| list.iter().map(|at| self.entries[*at].id).collect();
        let durable =
            is_durable(view, self.entries[at].id, &covers.iter().map(|at| self.entries[*at].id).collect::<Vec<_>>());
        Dead { rule: self.entries[at].id, how, covers: ids(covers), takers: ids(takers), durable }
    }

    fn judge_union(&self, view: &View<'_>, at: usize) -> Option<Dead> {
        let stateless = self.entries[at].decision.stateless;
        let fits = |other: &usize| {
            self.outlasts(view, *other, at)
                && (!stateless || has(Fault::DeadWhateverState) || self.entries[*other].decision.stateless)
        };
        let candidates: Vec<usize> = self.meeting(at, 0..self.entries.len()).filter(fits).collect();
        let covers = self.cover(at, &candidates)?;
        Some(self.dead(view, at, How::Redundant, &covers, &covers))
    }

    /// Nothing of it is visible.
    fn judge_shadow(&self, view: &View<'_>, at: usize) -> Option<Dead> {
        let until = if has(Fault::DeadByLaterRules) { self.entries.len() } else { at };
        let candidates: Vec<usize> =
            self.meeting(at, 0..until).filter(|other| self.outlasts(view, *other, at)).collect();
        let covers = self.cover(at, &candidates)?;
        let mut rest = self.entries[at].either.clone();
        let (mut takers, mut otherwise) = (Vec::new(), None);
        for other in self.meeting(at, 0..at) {
            let taken = rest.intersection(&self.entries[other].matched.sure);
            if taken.is_empty() {
                continue;
            }
            takers.push(other);
            if self.entries[other].decision != self.entries[at].decision {
                otherwise = otherwise.or_else(|| taken.intersection(&self.home).witness()).or_else(|| taken.witness());
            }
            rest = rest.difference(&taken);
        }
        let how = otherwise.map_or(How::Redundant, How::Shadowed);
        Some(self.dead(view, at, how, &covers, &takers))
    }

    /// Some of it is visible, and decided alike by what comes next: now, and after each end of a rule while it lasts.
    fn judge_removal(&self, view: &View<'_>, at: usize) -> Option<Dead> {
        let end = |at: usize| view.estate.rule(self.entries[at].id).enforced_until;
        let own_end = end(at);
        let mut ends: Vec<Option<jiff::Timestamp>> = (0..self.entries.len())
            .filter_map(end)
            .filter(|end| own_end.is_none_or(|own| *end < own))
            .map(Some)
            .collect();
        ends.push(None);
        ends.sort_unstable();
        ends.dedup();
        let mut takers: Option<Vec<usize>> = None;
        let mut by_default = false;
        for passed in ends {
            let lives = |other: usize| passed.is_none_or(|passed| end(other).is_none_or(|end| end > passed));
            let (now, rest) = self.removal_while(at, lives)?;
            by_default |= rest;
            takers.get_or_insert(now);
        }
        let takers = takers.unwrap_or_default();
        let how = if by_default { How::RedundantByDefault } else { How::Redundant };
        let mut dead = self.dead(view, at, how, &takers, &takers);
        dead.durable = self.entries.iter().all(|entry| !names_members(view.estate.rule(entry.id)));
        Some(dead)
    }

    /// Who takes the visible part of a rule that is taken away, while some rules live, and whether the default takes a
    /// rest; nothing if that changes some packet's fate.
    fn removal_while(&self, at: usize, lives: impl Fn(usize) -> bool) -> Option<(Vec<usize>, bool)> {
        let own = self.entries[at].decision;
        let mut rest = self.entries[at].either.clone();
        for other in self.meeting(at, 0..at).filter(|other| lives(*other)) {
            rest = rest.difference(&self.entries[other].matched.sure);
        }
        let mut takers = Vec::new();
        for other in self.meeting(at, at + 1..self.entries.len()).filter(|other| lives(*other)) {
            let entry = &self.entries[other];
            if !rest.overlaps(&entry.either) {
                continue;
            }
            if entry.decision != own {
                if has(Fault::DeadIgnoresBetween) {
                    continue;
                }
                return None;
            }
            takers.push(other);
            rest = rest.difference(&entry.matched.sure);
            if rest.is_empty() {
                break;
            }
        }
        (rest.is_empty() || self.default == Some(own) || has(Fault::DeadIgnoresDefault))
            .then_some((takers, !rest.is_empty()))
    }
}

fn hull_of(view: &View<'_>, rule: &Rule, place: &Enforced) -> Hull {
    use crate::address::Family;
    let bounds = |numbers: &crate::packet::Intervals| match (numbers.spans().first(), numbers.spans().last()) {
        (Some(first), Some(last)) => Some((first.0, last.1)),
        _ => None,
    };
    let peers = view.rule_peers(rule, place.network).either();
    let services = Family::BOTH
        .into_iter()
        .fold(crate::packet::Intervals::empty(), |sum, family| sum.union(&rule.service_numbers(family)));
    Hull { services: bounds(&services), peers: Family::BOTH.map(|family| bounds(peers.of(family))) }
}

/// Whether a rule speaks of something whose members change.
fn names_members(rule: &Rule) -> bool {
    let changes = |peer: &Peer| !matches!(peer, Peer::Block(_) | Peer::Any);
    rule.peers.iter().flatten().chain(&rule.except).chain(rule.local.iter().flatten()).any(changes)
}

/// Whether a rule stays covered whatever the members of groups and sets become: some cover alone takes all that it could
/// ever match, by its written prefixes or by naming the same peers; or no rule names members at all.
fn is_durable(view: &View<'_>, id: RuleId, covers: &[RuleId]) -> bool {
    let rule = view.estate.rule(id);
    if !names_members(rule) && covers.iter().all(|cover| !names_members(view.estate.rule(*cover))) {
        return true;
    }
    covers.iter().any(|cover| {
        let cover = view.estate.rule(*cover);
        let services = crate::address::Family::BOTH
            .iter()
            .all(|family| rule.service_numbers(*family).is_subset(&cover.service_numbers(*family)));
        let ports = rule.source_port_numbers().is_subset(&cover.source_port_numbers());
        let except = cover.except.iter().all(|peer| rule.except.contains(peer));
        let peers = match (&cover.peers, &rule.peers) {
            (None, _) => true,
            (Some(theirs), _) if theirs.contains(&Peer::Any) => true,
            (Some(theirs), Some(own)) => own.iter().all(|peer| theirs.contains(peer)),
            (Some(_), None) => false,
        };
        services && ports && except && peers && (cover.local.is_none() || cover.local == rule.local)
    })
}
