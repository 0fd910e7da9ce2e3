//! An order told: its steps, why they stand so, what is undone safely, and what has no order.

use super::judge::Judge;
use super::{Between, Check, Conflict, Constraint, Harm, MOST_FREE, MOST_JUDGED, Order, Step, Why};
use crate::class::Class;
use crate::search::{Found, States as Passed};
use std::rc::Rc;

impl Judge<'_, '_, '_> {
    /// An order with all that is to be said of it.
    pub(super) fn told(&self, path: &[usize], all_tried: bool, open: bool) -> Order {
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
