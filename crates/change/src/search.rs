//! Paths through sets of steps: which step first, so that what is passed costs least.

use rustc_hash::FxHashSet;
use std::cmp::Reverse;
use std::collections::BinaryHeap;

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
    handovers: u32,
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
    let mut open = BinaryHeap::from([Reverse(Reached {
        cost: Cost::default(),
        handovers: 0,
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
            there.handovers += u32::from(!here.path.is_empty() && owner(next) != last);
            there.path.push(next);
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
