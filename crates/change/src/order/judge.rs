//! States of some steps: walked once each, and judged by two ends.

use super::{Between, Harm, Harmed, Ordering};
use crate::class::{Rank, rank};
use crate::compare::{Frame, everything, walks};
use crate::outcome::{Outcome, OutcomeMap, Outcomes, State};
use crate::search::{Found, States as Passed};
use crate::starts::From;
use heronshale_engine::fabric::Fabric;
use heronshale_model::change::Edit;
use heronshale_sets::address::Addresses;
use heronshale_sets::packet::PacketSet;
use rustc_hash::FxHashMap;
use std::cell::{Cell, RefCell};
use std::collections::BTreeSet;
use std::rc::Rc;

/// What a state is like.
pub(super) struct Walked {
    pub maps: Vec<OutcomeMap>,
    /// Starts that neither end has.
    pub extra: Vec<(From, OutcomeMap)>,
    pub kept: Vec<bool>,
}

/// All states of a change.
pub(super) struct Judge<'o, 'f, 'e> {
    pub with: &'o Ordering<'o>,
    pub frame: Frame<'f, 'e>,
    pub edits: Vec<Edit>,
    pub steps: Vec<Vec<usize>>,
    /// Each outcome once.
    pub outcomes: RefCell<Outcomes>,
    pub known: RefCell<FxHashMap<u64, Option<Rc<Walked>>>>,
    pub judged: RefCell<FxHashMap<(u64, u64), Rc<Between>>>,
    pub left: Cell<usize>,
    pub interfaces: usize,
}

impl Judge<'_, '_, '_> {
    pub(super) fn full(&self) -> u64 {
        (1 << self.steps.len()) - 1
    }

    /// The edits of some steps.
    pub(super) fn edits_of(&self, bits: u64) -> Vec<usize> {
        let taken = self.steps.iter().enumerate();
        let taken = taken.filter(|(at, _)| bits >> at & 1 == 1);
        let mut all: Vec<usize> = taken.flat_map(|(_, edits)| edits.iter().copied()).collect();
        all.sort_unstable();
        all
    }

    /// Walks both ends; whether something is open there.
    pub(super) fn ends(&self, [old, new]: [&Fabric<'_>; 2]) -> bool {
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

    pub(super) fn walked(&self, view: &Fabric<'_>, state: &State<'_, '_>) -> Walked {
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
    pub(super) fn is_closed(&self, taken: &[usize]) -> bool {
        let mut needs = taken.iter().flat_map(|at| &self.edits[*at].needs);
        needs.all(|need| taken.contains(need))
    }

    /// A state; none if it is no legal estate, or if no more states may be walked.
    pub(super) fn state(&self, bits: u64) -> Option<Rc<Walked>> {
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
    pub(super) fn judge(&self, bits: u64, end: u64) -> Option<Rc<Between>> {
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

    pub(super) fn harmed(
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
    pub(super) fn best(&self) -> Option<Found> {
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

    pub(super) fn greedy(&self) -> Found {
        let owner = |at: usize| self.owner(at);
        crate::search::greedy(self.steps.len(), &owner, &|bits| {
            self.judge(bits, self.full()).map(|state| state.cost())
        })
    }

    pub(super) fn owner(&self, step: usize) -> Option<&str> {
        let first = self.steps[step].first()?;
        self.edits[*first].owner.as_deref()
    }

    pub(super) fn is_safe(&self, bits: u64, end: u64) -> bool {
        self.judge(bits, end).is_some_and(|state| state.is_safe())
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
