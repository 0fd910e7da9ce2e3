//! The order of steps: edits made one after the other, so that no state in between is worse than both ends
//! (`docs/semantics.md` 17).
//!
//! *Problem.* Each order of the same edits ends in the same state, but not by the same way. *Form.* States are sets of steps. Each
//! state is walked once, whatever the orders that pass it; an order is a path from the empty set to the full one.
//!
//! Invariants: a state that is no legal estate is never entered; what was given up counts as harm.

use crate::class::{Class, Rank, rank};
use crate::compare::{Frame, everything, is_of_names, walks};
use crate::impact::touched;
use crate::outcome::{Outcome, OutcomeMap, Outcomes, State};
use crate::search::{Cost, Found, States as Passed};
use crate::starts::From;
use heronshale_engine::fabric::Fabric;
use heronshale_model::change::{Edit, States};
use heronshale_model::estate::Estate;
use heronshale_sets::address::Addresses;
use heronshale_sets::packet::PacketSet;
use rustc_hash::FxHashMap;
use serde::Serialize;
use std::cell::{Cell, RefCell};
use std::collections::BTreeSet;
use std::rc::Rc;

/// Up to so many steps every order counts.
pub const MOST_EXACT: usize = 12;
/// More steps are not put in order at all.
pub const MOST_STEPS: usize = 40;
/// So many interfaces are built anew for all states together: large estates get fewer states.
const MOST_BUILT: usize = 400_000;
/// So many interfaces are built anew to find out whether steps may be made at any time.
const MOST_FREE: usize = 4_000;
/// So many states in between are judged by other ends than those of the whole change.
const MOST_JUDGED: usize = 40_000;

/// What is wrong with a state in between; the worst first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Harm {
    /// From the internet, or to marked addresses, more works than at either end.
    OpensWidely,
    /// Something works without a firewall that it passes at both ends.
    Uninspected,
    /// Something that works at both ends works less, or not at all.
    Ends,
    /// Inside, more works than at either end.
    Opens,
    /// Something that is known at both ends is unknown.
    Unknown,
    /// Something was given up at a declared limit.
    Undecided,
    /// An expectation that both ends keep is not kept.
    Breaks,
    /// Something passes no firewall, though it passes some at each end, other ones. This is no harm, but worth a word.
    PassesNone,
}

impl Harm {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::OpensWidely,
        Self::Uninspected,
        Self::Ends,
        Self::Opens,
        Self::Unknown,
        Self::Undecided,
        Self::Breaks,
        Self::PassesNone,
    ];
}

/// Connections that fare badly in a state in between.
#[derive(Clone, Debug)]
pub struct Harmed {
    /// What is wrong.
    pub harm: Harm,
    /// Where they start.
    pub from: From,
    /// The connections, whatever the client port.
    pub packets: PacketSet,
    /// What becomes of them at both ends and in between.
    pub outcomes: [Outcome; 3],
}

/// A state between two others, and what is wrong with it.
#[derive(Clone, Debug, Default)]
pub struct Between {
    /// The steps that are done.
    pub done: Vec<usize>,
    /// Connections that fare badly.
    pub harmed: Vec<Harmed>,
    /// Expectations, by their places, that both ends keep and this state does not.
    pub broken: Vec<usize>,
}

impl Between {
    /// Whether nothing is wrong.
    pub fn is_safe(&self) -> bool {
        self.broken.is_empty() && self.harmed.iter().all(|one| one.harm == Harm::PassesNone)
    }

    pub(crate) fn cost(&self) -> Cost {
        let has = |harm| self.harmed.iter().any(|one| one.harm == harm);
        Harm::ALL.map(|harm| match harm {
            Harm::Breaks => u32::from(!self.broken.is_empty()),
            harm => u32::from(has(harm)),
        })
    }

    /// The worst of it comes first.
    fn sorted(mut self) -> Self {
        self.harmed
            .sort_by(|one, other| (one.harm, &one.from).cmp(&(other.harm, &other.from)));
        self
    }
}

/// Why one step has to come before another.
#[derive(Clone, Debug)]
pub enum Why {
    /// The state would not be a legal estate, or a step would refer to what is not there yet.
    Needs,
    /// The state in between would be harmful.
    Harm(Between),
}

/// Steps of which one has to come first.
#[derive(Clone, Debug)]
pub struct Constraint {
    /// The step that comes first, by its place in the order.
    pub first: usize,
    /// The step that follows, by its place in the order.
    pub then: usize,
    /// Why.
    pub why: Why,
}

/// A connection that fares otherwise after a step.
#[derive(Clone, Debug)]
pub struct Check {
    /// How it changes; none if it stays as it is, and would not without this step once a later one is made.
    pub class: Option<Class>,
    /// Where it starts.
    pub from: From,
    /// The connections.
    pub packets: PacketSet,
    /// What becomes of them after the step.
    pub now: Outcome,
}

/// One step.
#[derive(Clone, Debug)]
pub struct Step {
    /// Its edits: several only where fewer make no legal estate.
    pub edits: Vec<usize>,
    /// Whether it may be made at any time.
    pub any_time: bool,
    /// What shows that it was made; of a step for any time once all are.
    pub check: Option<Check>,
    /// The state after it.
    pub after: Between,
    /// States that are passed when all from this step on backwards is undone, and that are harmful for who knows only these steps.
    pub undo: Vec<Between>,
}

/// Steps that have no safe order among themselves.
#[derive(Clone, Debug)]
pub struct Conflict {
    /// Their edits.
    pub edits: Vec<usize>,
    /// Whether all smaller sets have a safe order.
    pub minimal: bool,
    /// What is wrong in the best of their orders.
    pub state: Between,
}

/// An order of steps.
#[derive(Clone, Debug)]
pub struct Order {
    /// All edits.
    pub edits: Vec<Edit>,
    /// The steps in their order.
    pub steps: Vec<Step>,
    /// Which step has to come before which.
    pub constraints: Vec<Constraint>,
    /// Of steps without a safe order some that have none.
    pub conflict: Option<Conflict>,
    /// Whether every order counted.
    pub all_tried: bool,
    /// Whether something was given up, is unknown at an end or is not judged: nothing is said of that.
    pub open: bool,
}

/// Why there is no order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoOrder {
    /// There are more steps than are put in order.
    TooMany {
        /// How many.
        steps: usize,
        /// How many can be.
        most: usize,
    },
    /// Every order passes states that are no legal estates.
    Illegal,
}

/// What a state is like.
struct Walked {
    maps: Vec<OutcomeMap>,
    /// Starts that neither end has.
    extra: Vec<(From, OutcomeMap)>,
    kept: Vec<bool>,
}

/// What is needed to judge states: the same for all orders.
pub struct Ordering<'o> {
    /// All states between the two.
    pub between: &'o dyn States,
    /// Makes a view of a state.
    pub judged: &'o (dyn for<'e> Fn(&'e Estate) -> Fabric<'e> + Sync),
    /// Whether each expectation is kept.
    pub kept: &'o dyn Fn(&Fabric<'_>) -> Vec<bool>,
    /// Addresses to which nothing may open for a moment.
    pub marked: Addresses,
}

/// All states of a change.
struct Judge<'o, 'f, 'e> {
    with: &'o Ordering<'o>,
    frame: Frame<'f, 'e>,
    edits: Vec<Edit>,
    steps: Vec<Vec<usize>>,
    /// Each outcome once.
    outcomes: RefCell<Outcomes>,
    known: RefCell<FxHashMap<u64, Option<Rc<Walked>>>>,
    judged: RefCell<FxHashMap<(u64, u64), Rc<Between>>>,
    left: Cell<usize>,
    interfaces: usize,
}

/// An order in which no state in between is harmful; if there is none, the one that harms least, and why.
///
/// # Errors
/// If there are too many steps, or no order without an illegal state.
pub fn order(
    (old, new): (&Fabric<'_>, &Fabric<'_>),
    with: &Ordering<'_>,
) -> Result<Order, NoOrder> {
    let edits = with.between.edits();
    let steps = steps_of(with.between, &edits);
    let interfaces = new.estate.interfaces.len().max(1);
    let most = (MOST_BUILT / interfaces).clamp(64, 1 << MOST_EXACT);
    // Each step is tried at each place, one after the other.
    let fits = (1..=MOST_STEPS).take_while(|count| count * count / 2 <= most);
    let limit = fits.last().unwrap_or(1).max(8);
    if steps.len() > limit {
        return Err(NoOrder::TooMany {
            steps: steps.len(),
            most: limit,
        });
    }
    let judge = Judge {
        with,
        frame: Frame::of((old, new), touched((old, new), &edits).as_ref()),
        edits,
        steps,
        outcomes: RefCell::default(),
        known: RefCell::default(),
        judged: RefCell::default(),
        left: Cell::new(most),
        interfaces,
    };
    // Of names, and of what is sent inside to an address that changes sides, nothing is judged.
    let moves = !judge.frame.released.is_empty() || !judge.frame.taken.is_empty();
    let open = judge.ends([old, new]) | moves | judge.edits.iter().any(is_of_names);
    let exact = judge.steps.len() <= MOST_EXACT;
    let found = if exact { judge.best() } else { None };
    let all_tried = found.is_some();
    let found = found.unwrap_or_else(|| judge.greedy());
    let Found::Path(path) = found else {
        return Err(NoOrder::Illegal);
    };
    Ok(judge.told(&path, all_tried, open || old.gave_up() || new.gave_up()))
}

/// Edits that are only legal together are one step.
fn steps_of(between: &dyn States, edits: &[Edit]) -> Vec<Vec<usize>> {
    let all: Vec<usize> = (0..edits.len()).collect();
    let with = |some: &[usize]| -> Vec<usize> {
        let mut taken = some.to_vec();
        let mut at = 0;
        while at < taken.len() {
            for need in &edits[taken[at]].needs {
                if !taken.contains(need) {
                    taken.push(*need);
                }
            }
            at += 1;
        }
        taken.sort_unstable();
        taken
    };
    let without = |gone: &[usize]| -> Vec<usize> {
        let keeps = |at: &usize| !with(&[*at]).iter().any(|one| gone.contains(one));
        all.iter().copied().filter(keeps).collect()
    };
    let is_legal = |taken: &[usize]| between.state(taken).is_some();
    let mut group: Vec<usize> = all.clone();
    let join = |one: usize, other: usize, group: &mut Vec<usize>| {
        let (from, to) = (group[one].max(group[other]), group[one].min(group[other]));
        group
            .iter_mut()
            .filter(|at| **at == from)
            .for_each(|at| *at = to);
    };
    for one in &all {
        let others = || all.iter().filter(|other| *other != one);
        if !is_legal(&with(&[*one])) {
            let found = others().find(|other| is_legal(&with(&[*one, **other])));
            found
                .into_iter()
                .for_each(|other| join(*one, *other, &mut group));
        }
        if !is_legal(&without(&[*one])) {
            let found = others().find(|other| is_legal(&without(&[*one, **other])));
            found
                .into_iter()
                .for_each(|other| join(*one, *other, &mut group));
        }
    }
    let firsts: BTreeSet<usize> = group.iter().copied().collect();
    let of = |first| {
        all.iter()
            .copied()
            .filter(|at| group[*at] == first)
            .collect()
    };
    firsts.into_iter().map(of).collect()
}

impl Judge<'_, '_, '_> {
    fn full(&self) -> u64 {
        (1 << self.steps.len()) - 1
    }

    /// The edits of some steps.
    fn edits_of(&self, bits: u64) -> Vec<usize> {
        let taken = self.steps.iter().enumerate();
        let taken = taken.filter(|(at, _)| bits >> at & 1 == 1);
        let mut all: Vec<usize> = taken.flat_map(|(_, edits)| edits.iter().copied()).collect();
        all.sort_unstable();
        all
    }

    /// Walks both ends; whether something is open there.
    fn ends(&self, [old, new]: [&Fabric<'_>; 2]) -> bool {
        let mut open = false;
        for (bits, view, state) in [
            (0, old, &self.frame.old),
            (self.full(), new, &self.frame.new),
        ] {
            let walked = self.walked(view, state);
            let mut found = false;
            for map in &walked.maps {
                map.relabel(|label| {
                    found |= rank(self.outcomes.borrow().get(label)).is_none();
                    None::<()>
                });
            }
            open |= found;
            self.known.borrow_mut().insert(bits, Some(Rc::new(walked)));
        }
        open
    }

    fn walked(&self, view: &Fabric<'_>, state: &State<'_, '_>) -> Walked {
        let moved = self.frame.released.union(&self.frame.taken);
        let to = Addresses::all().difference(&moved);
        let froms: BTreeSet<&From> = self
            .frame
            .old
            .froms()
            .chain(self.frame.new.froms())
            .collect();
        let others = state.froms().filter(|from| !froms.contains(from));
        let extra: Vec<(From, PacketSet)> = others
            .map(|from| (from.clone(), everything(&state.sources(from), &to)))
            .collect();
        let mut answers = walks(state, &self.frame.asked);
        answers.extend(walks(state, &extra));
        let mut maps: Vec<OutcomeMap> = Vec::with_capacity(answers.len());
        for (map, local) in answers {
            let mut all = self.outcomes.borrow_mut();
            let numbers: Vec<u32> = local.all.into_iter().map(|one| all.number(one)).collect();
            maps.push(map.relabel(|label| Some(numbers[label as usize])));
        }
        let behind = maps.split_off(self.frame.asked.len());
        let extra = extra.into_iter().map(|(from, _)| from).zip(behind);
        Walked {
            maps,
            extra: extra.collect(),
            kept: (self.with.kept)(view),
        }
    }

    /// Whether nothing refers to what is added later.
    fn is_closed(&self, taken: &[usize]) -> bool {
        let mut needs = taken.iter().flat_map(|at| &self.edits[*at].needs);
        needs.all(|need| taken.contains(need))
    }

    /// A state; none if it is no legal estate, or if no more states may be walked.
    fn state(&self, bits: u64) -> Option<Rc<Walked>> {
        if let Some(known) = self.known.borrow().get(&bits) {
            return known.clone();
        }
        let taken = self.edits_of(bits);
        let estate = self
            .is_closed(&taken)
            .then(|| self.with.between.state(&taken))
            .flatten();
        let walked = estate.map(|estate| {
            self.left.set(self.left.get().saturating_sub(1));
            let view = (self.with.judged)(&estate);
            let state = State::of(&view, &self.frame.hands);
            Rc::new(self.walked(&view, &state))
        });
        self.known.borrow_mut().insert(bits, walked.clone());
        walked
    }

    /// What is wrong with a state, judged by the old one and another; none if one of the two is no legal estate.
    fn judge(&self, bits: u64, end: u64) -> Option<Rc<Between>> {
        if let Some(known) = self.judged.borrow().get(&(bits, end)) {
            return Some(known.clone());
        }
        let (first, last, here) = (self.state(0)?, self.state(end)?, self.state(bits)?);
        let mut found = Between {
            done: (0..self.steps.len())
                .filter(|at| bits >> at & 1 == 1)
                .collect(),
            ..Between::default()
        };
        let all = self.outcomes.borrow();
        for (at, (from, _)) in self.frame.asked.iter().enumerate() {
            let mut threes: Vec<(Harm, [u32; 3])> = Vec::new();
            let ends = first.maps[at].combine(&last.maps[at], |one, other| Some((one, other)));
            let harms = ends.combine(&here.maps[at], |(one, other), between| {
                let three = [one, other, between];
                let harm = harm_of(three.map(|number| all.get(number)))?;
                let known = threes.iter().position(|known| *known == (harm, three));
                let number = known.unwrap_or_else(|| {
                    threes.push((harm, three));
                    threes.len() - 1
                });
                u32::try_from(number).ok()
            });
            for (number, packets) in harms.regions() {
                let (harm, three) = threes[number as usize];
                let outcomes = three.map(|number| all.get(number).clone());
                self.harmed(&mut found, harm, from, packets, outcomes);
            }
        }
        for (from, map) in &here.extra {
            for (number, packets) in map.regions() {
                let outcomes = [
                    Outcome::absent(),
                    Outcome::absent(),
                    all.get(number).clone(),
                ];
                let [one, other, between] = &outcomes;
                if let Some(harm) = harm_of([one, other, between]) {
                    self.harmed(&mut found, harm, from, packets, outcomes);
                }
            }
        }
        let kept = first.kept.iter().zip(&last.kept).zip(&here.kept);
        let broken = kept
            .enumerate()
            .filter(|(_, ((one, other), here))| **one && **other && !**here);
        found.broken = broken.map(|(at, _)| at).collect();
        let found = Rc::new(found.sorted());
        self.judged.borrow_mut().insert((bits, end), found.clone());
        Some(found)
    }

    fn harmed(
        &self,
        found: &mut Between,
        harm: Harm,
        from: &From,
        packets: PacketSet,
        outcomes: [Outcome; 3],
    ) {
        let mut push = |harm, packets: PacketSet| {
            if !packets.is_empty() {
                found.harmed.push(Harmed {
                    harm,
                    from: from.clone(),
                    packets,
                    outcomes: outcomes.clone(),
                });
            }
        };
        if harm != Harm::Opens {
            return push(harm, packets);
        }
        if *from == From::Internet {
            return push(Harm::OpensWidely, packets);
        }
        let widely = packets.between(None, Some(&self.with.marked));
        push(Harm::Opens, packets.difference(&widely));
        push(Harm::OpensWidely, widely);
    }

    /// The best of all orders; none if not all could be tried.
    fn best(&self) -> Option<Found> {
        let owner = |at: usize| self.owner(at);
        let found = crate::search::best(self.steps.len(), &owner, &|bits| {
            if self.left.get() == 0 {
                return Passed::NotTried;
            }
            self.judge(bits, self.full())
                .map_or(Passed::Illegal, |state| Passed::Cost(state.cost()))
        });
        (found != Found::NotTried).then_some(found)
    }

    fn greedy(&self) -> Found {
        let owner = |at: usize| self.owner(at);
        crate::search::greedy(self.steps.len(), &owner, &|bits| {
            self.judge(bits, self.full()).map(|state| state.cost())
        })
    }

    fn owner(&self, step: usize) -> Option<&str> {
        let first = self.steps[step].first()?;
        self.edits[*first].owner.as_deref()
    }

    fn is_safe(&self, bits: u64, end: u64) -> bool {
        self.judge(bits, end).is_some_and(|state| state.is_safe())
    }

    /// An order with all that is to be said of it.
    fn told(&self, path: &[usize], all_tried: bool, open: bool) -> Order {
        let full = self.full();
        let prefix = |count: usize| path[..count].iter().fold(0_u64, |bits, at| bits | 1 << at);
        let is_safe = (1..path.len()).all(|count| self.is_safe(prefix(count), full));
        let free = if is_safe && all_tried && path.len() > 1 {
            self.free(path)
        } else {
            Vec::new()
        };
        let bound: Vec<usize> = path
            .iter()
            .copied()
            .filter(|at| !free.contains(at))
            .collect();
        let order: Vec<usize> = bound.iter().chain(&free).copied().collect();
        let prefix = |count: usize| order[..count].iter().fold(0_u64, |bits, at| bits | 1 << at);
        let steps = order.iter().enumerate().map(|(place, at)| {
            let (before, after) = (prefix(place), prefix(place + 1));
            let undo = (1..=place)
                .filter_map(|count| self.judge(prefix(count), after))
                .filter(|state| !state.is_safe());
            Step {
                edits: self.steps[*at].clone(),
                any_time: free.contains(at),
                check: if free.contains(at) {
                    self.check(full & !(1 << at), full)
                } else {
                    self.check(before, after)
                },
                after: self
                    .judge(after, full)
                    .map_or_else(Between::default, |state| (*state).clone()),
                undo: undo.map(|state| (*state).clone()).collect(),
            }
        });
        let constraints = self.constraints(&bound);
        let mut steps: Vec<Step> = steps.collect();
        for (at, step) in steps.iter_mut().enumerate() {
            let keeps = constraints.iter().filter(|one| one.first == at);
            let mut harmed = keeps.flat_map(|one| match &one.why {
                Why::Harm(state) => state.harmed.as_slice(),
                Why::Needs => &[],
            });
            if step.check.is_none() {
                step.check = harmed.find(|one| one.harm == Harm::Ends).map(|one| Check {
                    class: None,
                    from: one.from.clone(),
                    packets: one.packets.clone(),
                    now: one.outcomes[0].clone(),
                });
            }
        }
        Order {
            edits: self.edits.clone(),
            steps,
            constraints,
            conflict: (!is_safe).then(|| self.conflict(all_tried, path)),
            all_tried,
            open,
        }
    }

    /// Steps that may be made at any time: every state with and without them is safe.
    fn free(&self, path: &[usize]) -> Vec<usize> {
        let full = self.full();
        let mut free: Vec<usize> = Vec::new();
        let most = (MOST_FREE / self.interfaces).clamp(16, 256);
        for at in path {
            let mut all = free.clone();
            all.push(*at);
            let rest: Vec<usize> = path
                .iter()
                .copied()
                .filter(|one| !all.contains(one))
                .collect();
            let states = (rest.len() + 1) << all.len();
            if states > most || self.left.get() < states {
                break;
            }
            let is_free = (0..=rest.len()).all(|count| {
                let base = rest[..count]
                    .iter()
                    .fold(0_u64, |bits, one| bits | 1 << one);
                (0..1_u64 << all.len()).all(|some| {
                    let with = all
                        .iter()
                        .enumerate()
                        .filter(|(bit, _)| some >> bit & 1 == 1);
                    let bits = with.fold(base, |bits, (_, one)| bits | 1 << one);
                    bits == 0 || bits == full || self.is_safe(bits, full)
                })
            });
            if is_free {
                free = all;
            }
        }
        free
    }

    /// Of each step the last one before it behind which it has to stay.
    fn constraints(&self, path: &[usize]) -> Vec<Constraint> {
        let full = self.full();
        let mut found = Vec::new();
        for (then, step) in path.iter().enumerate() {
            for first in (0..then).rev() {
                let bits = path[..first]
                    .iter()
                    .fold(1_u64 << step, |bits, at| bits | 1 << at);
                let why = match self.judge(bits, full) {
                    None => Why::Needs,
                    Some(state) if !state.is_safe() => Why::Harm((*state).clone()),
                    Some(_) => continue,
                };
                found.push(Constraint { first, then, why });
                break;
            }
        }
        found
    }

    /// A connection that fares otherwise after a step.
    fn check(&self, before: u64, after: u64) -> Option<Check> {
        let (before, after) = (self.state(before)?, self.state(after)?);
        let all = self.outcomes.borrow();
        let mut found: Option<Check> = None;
        for (at, (from, _)) in self.frame.asked.iter().enumerate() {
            let pairs = before.maps[at].combine(&after.maps[at], |one, other| {
                let class = Class::of(all.get(one), all.get(other))?;
                (class != Class::FailsOtherwise).then_some((class, other))
            });
            for ((class, now), packets) in pairs.regions() {
                if found.as_ref().is_none_or(|one| Some(class) < one.class) {
                    found = Some(Check {
                        class: Some(class),
                        from: from.clone(),
                        packets,
                        now: all.get(now).clone(),
                    });
                }
            }
        }
        found
    }

    /// The first of the smallest sets of steps that have no safe order, judged by themselves.
    fn conflict(&self, all_tried: bool, path: &[usize]) -> Conflict {
        let count = self.steps.len();
        let mut sets: Vec<u64> = if all_tried {
            (1..=self.full())
                .filter(|bits| bits.count_ones() > 1)
                .collect()
        } else {
            Vec::new()
        };
        let places =
            |bits: u64| -> Vec<usize> { (0..count).filter(|at| bits >> at & 1 == 1).collect() };
        sets.sort_by_key(|bits| (bits.count_ones(), places(*bits)));
        let mut minimal = all_tried;
        for set in sets {
            if self.left.get() == 0 || self.judged.borrow().len() > MOST_JUDGED {
                minimal = false;
                break;
            }
            if self.state(set).is_none() {
                continue;
            }
            let steps = places(set);
            let owner = |at: usize| self.owner(steps[at]);
            let bits_of = |some: u64| {
                let taken = steps
                    .iter()
                    .enumerate()
                    .filter(|(bit, _)| some >> bit & 1 == 1);
                taken.fold(0_u64, |bits, (_, at)| bits | 1 << at)
            };
            let found = crate::search::best(steps.len(), &owner, &|some| {
                self.judge(bits_of(some), set)
                    .map_or(Passed::Illegal, |state| Passed::Cost(state.cost()))
            });
            let worst = match &found {
                Found::Path(path) => (1..path.len())
                    .filter_map(|count| {
                        let some = path[..count].iter().fold(0_u64, |bits, at| bits | 1 << at);
                        self.judge(bits_of(some), set)
                    })
                    .find(|state| !state.is_safe()),
                _ => Some(Rc::new(Between::default())),
            };
            if let Some(state) = worst {
                return Conflict {
                    edits: self.edits_of(set),
                    minimal,
                    state: (*state).clone(),
                };
            }
        }
        // What was found of the whole.
        let states = (1..path.len()).filter_map(|count| {
            let bits = path[..count].iter().fold(0_u64, |bits, at| bits | 1 << at);
            self.judge(bits, self.full())
        });
        let state = states.into_iter().find(|state| !state.is_safe());
        Conflict {
            edits: self.edits_of(self.full()),
            minimal,
            state: state.map_or_else(Between::default, |state| (*state).clone()),
        }
    }
}

/// What is wrong with an outcome between two others.
fn harm_of([old, new, here]: [&Outcome; 3]) -> Option<Harm> {
    if here == old || here == new {
        return None;
    }
    let is_given_up =
        |one: &Outcome| one.verdict == Some(heronshale_engine::walk::Verdict::Undecided);
    if is_given_up(here) {
        return Some(Harm::Undecided);
    }
    let (first, last) = (rank(old)?, rank(new)?);
    let Some(between) = rank(here) else {
        return Some(Harm::Unknown);
    };
    if between > first.max(last) {
        return Some(Harm::Opens);
    }
    if between < first.min(last) {
        return Some(Harm::Ends);
    }
    if [first, last, between].contains(&Rank::Fails) {
        return None;
    }
    if here.misses(&[old, new]) {
        return Some(Harm::Uninspected);
    }
    let passes = |one: &Outcome| one.ways.iter().all(|way| !way.request.is_empty());
    let bare = passes(old) && passes(new) && !passes(here);
    bare.then_some(Harm::PassesNone)
}
