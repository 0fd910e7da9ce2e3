//! Because of which edits something changed, and which of them undo it.
//!
//! A set of edits is *sufficient* if the old state with them alone has the new outcome, and *needed* if the new state without
//! them has the old one. The cause is all inclusion-minimal sufficient sets, the undo the first inclusion-minimal needed set.

use crate::compare::Difference;
use crate::outcome::{Outcomes, State};
use crate::starts::From;
use heronshale_engine::fabric::Fabric;
use heronshale_model::change::{Edit, States};
use heronshale_model::estate::Estate;
use heronshale_sets::address::Addresses;
use heronshale_sets::each::each;
use heronshale_sets::packet::{PacketMap, PacketSet};
use rustc_hash::FxHashMap;
use std::collections::BTreeMap;

/// Up to so many edits every set of them is tried.
const MOST_EXACT: usize = 7;
/// With more edits so many states are tried: each edit alone, all but each, then pairs, and all but each pair.
const MOST_TRIES: usize = 200;
/// So many interfaces are built anew for all tries together: large estates get fewer tries.
const MOST_BUILT: usize = 400_000;

/// Because of which edits something changed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Cause {
    /// The inclusion-minimal sufficient sets: the fewest edits first, then by place.
    pub sets: Vec<Vec<usize>>,
    /// The edits that undo it.
    pub undo: Vec<usize>,
    /// Whether no smaller sets were left untried.
    pub minimal: bool,
}

impl Cause {
    /// Whether only what the snapshots declare as missing makes the difference.
    pub(crate) fn is_gaps_only(&self, edits: &[Edit]) -> bool {
        let mut all = self.sets.iter().flatten().peekable();
        all.peek().is_some() && all.all(|at| edits[*at].gap)
    }
}

/// Which sets of edits were tried.
#[derive(Clone, Copy)]
enum Tried {
    /// All of them.
    All,
    /// All of up to two edits.
    Pairs,
    /// Some of them.
    Some,
}

/// A set of edits as bits.
type Taken = Vec<bool>;

/// The sets that are tried, the empty and the full one left out; whether these are all.
fn tries(edits: &[Edit], interfaces: usize) -> (Vec<Taken>, Tried) {
    let count = edits.len();
    let closed = |taken: &Taken| {
        (0..count).all(|at| !taken[at] || edits[at].needs.iter().all(|other| taken[*other]))
    };
    if count <= MOST_EXACT {
        let all = 1..(1_u32 << count).saturating_sub(1);
        let sets = all.map(|bits| (0..count).map(|at| bits >> at & 1 == 1).collect::<Taken>());
        let mut sets: Vec<Taken> = sets.filter(closed).collect();
        sets.sort_by_key(|taken| taken.iter().filter(|one| **one).count());
        return (sets, Tried::All);
    }
    let with = |some: &[usize]| -> Taken {
        let mut taken = vec![false; count];
        // What an edit needs comes with it.
        let mut open = some.to_vec();
        while let Some(at) = open.pop() {
            if !std::mem::replace(&mut taken[at], true) {
                open.extend(&edits[at].needs);
            }
        }
        taken
    };
    let without = |gone: &[usize]| -> Taken {
        let mut taken = vec![true; count];
        for at in gone {
            taken[*at] = false;
        }
        loop {
            let broken = (0..count)
                .find(|at| taken[*at] && edits[*at].needs.iter().any(|other| !taken[*other]));
            match broken {
                Some(at) => taken[at] = false,
                None => return taken,
            }
        }
    };
    let mut sets: Vec<Taken> = (0..count).map(|at| with(&[at])).collect();
    sets.extend((0..count).map(|at| without(&[at])));
    let pairs = || (0..count).flat_map(|one| (one + 1..count).map(move |other| [one, other]));
    sets.extend(pairs().flat_map(|pair| [with(&pair), without(&pair)]));
    let mut known = rustc_hash::FxHashSet::default();
    sets.retain(|taken| {
        known.insert(taken.clone()) && taken.contains(&true) && taken.contains(&false)
    });
    let most = MOST_TRIES.min(MOST_BUILT / interfaces.max(1)).max(2);
    let tried = if sets.len() <= most {
        Tried::Pairs
    } else {
        Tried::Some
    };
    sets.truncate(most);
    (sets, tried)
}

/// Connections of one start that changed, cut into those that fared alike in every state that was tried.
struct Cells {
    from: From,
    packets: PacketSet,
    map: PacketMap<u32>,
    /// Which difference, and of each try whether the outcome is the old one and the new one.
    cells: Vec<(usize, Vec<(bool, bool)>)>,
}

/// Finds the cause of each difference; what has several causes becomes several. Beside them: whether every set of edits was tried.
pub(crate) fn causes(
    found: Vec<Difference>,
    between: &dyn States,
    edits: &[Edit],
    judged: &(dyn for<'e> Fn(&'e Estate) -> Fabric<'e> + Sync),
    (hands, interfaces): (&Addresses, usize),
) -> (Vec<Difference>, bool) {
    let (sets, mut which) = tries(edits, interfaces);
    let mut by_start: BTreeMap<&From, Vec<usize>> = BTreeMap::new();
    for (at, one) in found.iter().enumerate() {
        by_start.entry(&one.from).or_default().push(at);
    }
    let mut starts: Vec<Cells> = by_start
        .into_iter()
        .map(|(from, all)| {
            let maps = all.iter().enumerate().map(|(number, at)| {
                let number = u32::try_from(number).expect("fewer than 2^32 differences");
                found[*at].packets.relabel(|()| Some(number))
            });
            let map = PacketMap::overlay_all(maps.collect());
            Cells {
                from: from.clone(),
                packets: PacketSet::union_all(all.iter().map(|at| found[*at].packets.clone())),
                map,
                cells: all.into_iter().map(|at| (at, Vec::new())).collect(),
            }
        })
        .collect();
    let mut tried: Vec<Taken> = Vec::new();
    for taken in sets {
        let numbers: Vec<usize> = (0..edits.len()).filter(|at| taken[*at]).collect();
        let Some(estate) = between.state(&numbers) else {
            continue;
        };
        let fabric = judged(&estate);
        let state = State::of(&fabric, hands);
        starts = each(&starts, |cells| tried_in(cells, &state, &found));
        // Of what was given up nobody knows whether these edits suffice.
        if fabric.gave_up() {
            which = Tried::Some;
        }
        tried.push(taken);
    }
    let mut told = Vec::new();
    for cells in starts {
        for (number, packets) in cells.map.regions() {
            let (at, bits) = &cells.cells[number as usize];
            let cause = read(edits.len(), &tried, bits, which);
            let one = Difference {
                packets,
                cause,
                ..found[*at].clone()
            };
            let same = |other: &&mut Difference| {
                other.class == one.class
                    && other.from == one.from
                    && other.cause == one.cause
                    && other.old == one.old
                    && other.new == one.new
            };
            match told.iter_mut().find(same) {
                Some(other) => {
                    let other: &mut Difference = other;
                    other.packets = other.packets.union(&one.packets);
                }
                None => told.push(one),
            }
        }
    }
    (told, matches!(which, Tried::All))
}

/// The cells of a start, cut by their outcomes in one more state.
fn tried_in(cells: &Cells, state: &State<'_, '_>, found: &[Difference]) -> Cells {
    let mut all = Outcomes::default();
    let outcomes = state.outcomes(&cells.from, &cells.packets, &mut all);
    let mut next: Vec<(usize, Vec<(bool, bool)>)> = Vec::new();
    let mut known: FxHashMap<(u32, bool, bool), u32> = FxHashMap::default();
    let map = cells.map.combine(&outcomes, |cell, outcome| {
        let (at, bits) = &cells.cells[cell as usize];
        let (one, here) = (&found[*at], all.get(outcome));
        let is_old = one.class.is_same(&one.old, here);
        let is_new = one.class.is_same(&one.new, here);
        let number = *known.entry((cell, is_old, is_new)).or_insert_with(|| {
            let mut bits = bits.clone();
            bits.push((is_old, is_new));
            next.push((*at, bits));
            u32::try_from(next.len() - 1).expect("fewer than 2^32 cells")
        });
        Some(number)
    });
    Cells {
        from: cells.from.clone(),
        packets: cells.packets.clone(),
        map,
        cells: next,
    }
}

/// Reads the minimal sets of what was tried.
fn read(count: usize, tried: &[Taken], bits: &[(bool, bool)], which: Tried) -> Cause {
    let full = (0..count).collect::<Vec<_>>();
    let numbers = |taken: &Taken, wanted: bool| -> Vec<usize> {
        full.iter()
            .copied()
            .filter(|at| taken[*at] == wanted)
            .collect()
    };
    let of = tried.iter().zip(bits);
    let sufficient = of.clone().filter(|(_, (_, is_new))| *is_new);
    let mut sets: Vec<Vec<usize>> = sufficient.map(|(taken, _)| numbers(taken, true)).collect();
    sets.push(full.clone());
    let needed = of.filter(|(_, (is_old, _))| *is_old);
    let mut undo: Vec<Vec<usize>> = needed.map(|(taken, _)| numbers(taken, false)).collect();
    undo.push(full.clone());
    let sets = smallest(sets);
    let undo = smallest(undo).into_iter().next().unwrap_or_default();
    let sure = match which {
        Tried::All => usize::MAX,
        Tried::Pairs => 2,
        Tried::Some => 1,
    };
    let minimal = sets.iter().chain([&undo]).all(|set| set.len() <= sure);
    Cause {
        sets,
        undo,
        minimal,
    }
}

/// The sets that hold no other, the smallest first, then by place.
fn smallest(mut sets: Vec<Vec<usize>>) -> Vec<Vec<usize>> {
    sets.retain(|set| !set.is_empty());
    sets.sort_by(|one, other| (one.len(), one).cmp(&(other.len(), other)));
    sets.dedup();
    let mut kept: Vec<Vec<usize>> = Vec::new();
    for set in sets {
        let holds = |small: &Vec<usize>| small.iter().all(|at| set.contains(at));
        if !kept.iter().any(holds) {
            kept.push(set);
        }
    }
    kept
}
