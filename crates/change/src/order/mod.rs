//! The order of steps: edits made one after the other, so that no state in between is worse than both ends
//! (`docs/semantics.md` 17).
//!
//! *Problem.* Each order of the same edits ends in the same state, but not by the same way. *Form.* States are sets of steps. Each
//! state is walked once, whatever the orders that pass it; an order is a path from the empty set to the full one.
//!
//! Invariants: a state that is no legal estate is never entered; what was given up counts as harm.

mod found;
mod judge;
mod telling;

pub use found::{Between, Check, Conflict, Constraint, Harm, Harmed, NoOrder, Order, Step, Why};

use crate::compare::{Frame, is_of_names};
use crate::impact::touched;
use crate::search::Found;
use heronshale_engine::fabric::Fabric;
use heronshale_model::change::{Edit, States};
use heronshale_model::estate::Estate;
use heronshale_sets::address::Addresses;
use judge::Judge;
use std::cell::{Cell, RefCell};
use std::collections::BTreeSet;

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
