//! Paths through sets of steps: which step first, so that what is passed costs least.

use rustc_hash::FxHashSet;
use std::cmp::Reverse;
use std::collections::{BTreeSet, BinaryHeap};

/// What passing a state costs; the first figure counts most.
pub(crate) type Cost = [u32; 8];

/// A state, as a search asks for it.
pub(crate) enum States {
    /// It can be passed.
    Cost(Cost),
    /// It cannot be passed.
    Illegal,
    /// Nobody knows: no more states are tried.
    NotTried,
}

/// What a search found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Found {
    /// The steps in their order.
    Path(Vec<usize>),
    /// Every order passes a state that cannot be passed.
    None,
    /// Not every state could be tried.
    NotTried,
}

/// A path so far. The order of its fields is the order in which paths are tried.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Reached {
    cost: Cost,
    /// Handovers so far, and those that must follow: each owner with steps left takes over at least once.
    handovers: usize,
    path: Vec<usize>,
    /// Whether the last state's cost is in it.
    is_judged: bool,
}

/// The path that costs least, then with the fewest handovers, then the first by its steps. The ends cost nothing.
pub(crate) fn best<'s>(
    count: usize,
    owner: &dyn Fn(usize) -> Option<&'s str>,
    state: &dyn Fn(u64) -> States,
) -> Found {
    let full = (1_u64 << count) - 1;
    let to_come = |path: &[usize]| {
        let last = path.last().map(|at| owner(*at));
        let left = (0..count).filter(|at| !path.contains(at)).map(owner);
        let owners: BTreeSet<Option<&str>> = left.filter(|one| Some(*one) != last).collect();
        owners.len()
    };
    let mut open = BinaryHeap::from([Reverse(Reached {
        cost: Cost::default(),
        handovers: to_come(&[]),
        path: Vec::new(),
        is_judged: true,
    })]);
    let mut done: FxHashSet<(u64, Option<&str>)> = FxHashSet::default();
    while let Some(Reverse(mut here)) = open.pop() {
        let bits = here.path.iter().fold(0_u64, |bits, at| bits | 1 << at);
        if bits == full {
            return Found::Path(here.path);
        }
        let last = here.path.last().and_then(|at| owner(*at));
        if done.contains(&(bits, last)) {
            continue;
        }
        // A state is looked at once it is the next to be passed.
        if !here.is_judged {
            match state(bits) {
                States::Cost(cost) => {
                    here.cost
                        .iter_mut()
                        .zip(cost)
                        .for_each(|(sum, one)| *sum += one);
                }
                States::Illegal => continue,
                States::NotTried => return Found::NotTried,
            }
            here.is_judged = true;
            open.push(Reverse(here));
            continue;
        }
        done.insert((bits, last));
        for next in (0..count).filter(|at| bits >> at & 1 == 0) {
            let mut there = here.clone();
            there.path.push(next);
            let so_far = here.handovers - to_come(&here.path);
            let is_handover = !here.path.is_empty() && owner(next) != last;
            there.handovers = so_far + usize::from(is_handover) + to_come(&there.path);
            there.is_judged = false;
            open.push(Reverse(there));
        }
    }
    Found::None
}

/// A path that at each place takes the step that costs least there.
pub(crate) fn greedy<'s>(
    count: usize,
    owner: &dyn Fn(usize) -> Option<&'s str>,
    state: &dyn Fn(u64) -> Option<Cost>,
) -> Found {
    let full = (1_u64 << count) - 1;
    let mut path: Vec<usize> = Vec::new();
    let mut bits = 0_u64;
    while bits != full {
        let last = path.last().copied();
        let next = (0..count)
            .filter(|at| bits >> at & 1 == 0)
            .filter_map(|at| {
                let there = bits | 1 << at;
                let cost = if there == full {
                    Some(Cost::default())
                } else {
                    state(there)
                };
                let handover = last.is_some_and(|last| owner(last) != owner(at));
                cost.map(|cost| (cost, handover, at))
            })
            .min();
        let Some((_, _, at)) = next else {
            return Found::None;
        };
        path.push(at);
        bits |= 1 << at;
    }
    Found::Path(path)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::cell::Cell;

    /// All orders of some steps.
    fn orders(count: usize) -> Vec<Vec<usize>> {
        if count == 0 {
            return vec![Vec::new()];
        }
        let shorter = orders(count - 1);
        let put = |order: &Vec<usize>| -> Vec<Vec<usize>> {
            let at = 0..=order.len();
            at.map(|at| {
                let mut order = order.clone();
                order.insert(at, count - 1);
                order
            })
            .collect()
        };
        shorter.iter().flat_map(put).collect()
    }

    #[test]
    fn the_best_of_all_orders_is_found() {
        let mut number = 7_u64;
        let mut random = move |below: u64| {
            number = number
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1);
            (number >> 33) % below
        };
        let (mut found, mut none) = (0, 0);
        for _ in 0..400 {
            let count = 1 + usize::try_from(random(5)).unwrap();
            let names = ["harbour", "yard", "office"];
            let owners: Vec<Option<&str>> = (0..count)
                .map(|_| names.get(usize::try_from(random(4)).unwrap()).copied())
                .collect();
            let costs: Vec<Option<Cost>> = (0..1 << count)
                .map(|_| {
                    let mut cost = Cost::default();
                    cost[usize::try_from(random(8)).unwrap()] = u32::try_from(random(2)).unwrap();
                    (random(3) > 0).then_some(cost)
                })
                .collect();
            let owner = |at: usize| owners[at];
            let full = (1_u64 << count) - 1;
            let state = |bits: u64| costs[usize::try_from(bits).unwrap()];
            let price = |order: &Vec<usize>| -> Option<(Cost, usize, Vec<usize>)> {
                let (mut sum, mut bits) = (Cost::default(), 0);
                for at in order {
                    bits |= 1 << at;
                    if bits != full {
                        sum.iter_mut()
                            .zip(state(bits)?)
                            .for_each(|(sum, one)| *sum += one);
                    }
                }
                let pairs = order.windows(2);
                let handovers = pairs
                    .filter(|pair| owner(pair[0]) != owner(pair[1]))
                    .count();
                Some((sum, handovers, order.clone()))
            };
            let wanted = orders(count).iter().filter_map(price).min();
            let asked = Cell::new(0);
            let best = best(count, &owner, &|bits| {
                asked.set(asked.get() + 1);
                state(bits).map_or(States::Illegal, States::Cost)
            });
            match wanted {
                Some((.., order)) => {
                    assert_eq!(best, Found::Path(order));
                    found += 1;
                }
                None => {
                    assert_eq!(best, Found::None);
                    none += 1;
                }
            }
        }
        assert!(found > 100 && none > 10, "{found} {none}");
    }

    #[test]
    fn where_every_state_is_safe_few_are_looked_at() {
        let asked = Cell::new(0);
        let owner = |at: usize| {
            Some(if at.is_multiple_of(2) {
                "harbour"
            } else {
                "yard"
            })
        };
        let found = best(12, &owner, &|_| {
            asked.set(asked.get() + 1);
            States::Cost(Cost::default())
        });
        assert_eq!(
            found,
            Found::Path(vec![0, 2, 4, 6, 8, 10, 1, 3, 5, 7, 9, 11])
        );
        assert!(asked.get() < 40, "{} states", asked.get());
    }
}
