//! The sets that rules use in one dimension, each kept once, and which of them hold a number.

use super::spans::{Coordinate, prefixes};
use rustc_hash::FxHashMap;
use std::cmp::Reverse;

const NONE: u32 = u32::MAX;

pub(super) fn narrow(number: usize) -> u32 {
    u32::try_from(number).expect("fewer than 2^32 of anything in one list")
}

/// The sets of one dimension, by number.
#[derive(Debug)]
pub(super) struct Sets<T> {
    spans: Vec<(T, T)>,
    ends: Vec<u32>,
}

/// Sets while they are collected: the same set gets the same number.
#[derive(Debug)]
pub(super) struct Collected<T> {
    sets: Sets<T>,
    single: FxHashMap<(T, T), u32>,
    several: FxHashMap<Box<[(T, T)]>, u32>,
}

impl<T: Coordinate> Collected<T> {
    pub fn new() -> Self {
        let sets = Sets { spans: Vec::new(), ends: Vec::new() };
        Self { sets, single: FxHashMap::default(), several: FxHashMap::default() }
    }

    pub fn add(&mut self, spans: &[(T, T)]) -> u32 {
        let next = narrow(self.sets.ends.len());
        let known = match spans {
            [one] => *self.single.entry(*one).or_insert(next),
            _ => match self.several.get(spans) {
                Some(known) => *known,
                None => {
                    self.several.insert(spans.into(), next);
                    next
                }
            },
        };
        if known == next {
            self.sets.spans.extend_from_slice(spans);
            self.sets.ends.push(narrow(self.sets.spans.len()));
        }
        known
    }

    /// The sets numbered by where they begin, wider ones first, and the new number of each old one.
    pub fn finish(self) -> (Sets<T>, Vec<u32>) {
        let old = self.sets;
        let key = |id: u32| {
            let spans = old.of(id);
            (spans.first().map(|span| span.0), Reverse(spans.last().map(|span| span.1)), spans.len())
        };
        let mut order: Vec<u32> = (0..narrow(old.ends.len())).collect();
        order.sort_unstable_by_key(|id| (key(*id), *id));
        let mut rank = vec![0; order.len()];
        let mut sets = Sets { spans: Vec::with_capacity(old.spans.len()), ends: Vec::with_capacity(order.len()) };
        for (at, id) in order.iter().enumerate() {
            rank[*id as usize] = narrow(at);
            sets.spans.extend_from_slice(old.of(*id));
            sets.ends.push(narrow(sets.spans.len()));
        }
        (sets, rank)
    }
}

impl<T: Coordinate> Sets<T> {
    #[inline]
    pub fn of(&self, id: u32) -> &[(T, T)] {
        let id = id as usize;
        let from = if id == 0 { 0 } else { self.ends[id - 1] as usize };
        &self.spans[from..self.ends[id] as usize]
    }

    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// How many spans all of them have.
    pub fn spans(&self) -> usize {
        self.spans.len()
    }
}

/// Which sets hold a number: spans as prefixes, each with its nearest wider one.
///
/// Prefixes are nested or apart, so all that hold a number are the last one that begins at or before it, and what is
/// around that.
#[derive(Debug)]
pub(super) struct Nested<T> {
    starts: Vec<T>,
    lasts: Vec<T>,
    around: Vec<u32>,
    /// The end of each prefix's part of `sets`; empty if each prefix is one set, of the same number.
    ends: Vec<u32>,
    sets: Vec<u32>,
}

impl<T: Coordinate> Nested<T> {
    /// `first_rule`: for each set the first rule that uses it.
    pub fn new(of: &Sets<T>, first_rule: &[u32]) -> Self {
        let mut pieces: Vec<(T, Reverse<T>, u32)> = Vec::with_capacity(of.spans.len());
        for id in 0..narrow(of.len()) {
            for span in of.of(id) {
                prefixes(*span, |piece| pieces.push((piece.0, Reverse(piece.1), id)));
            }
        }
        // Nearly sorted already: sets are numbered by where they begin.
        pieces.sort();
        let plain = pieces.len() == of.len()
            && pieces.iter().enumerate().all(|(at, piece)| piece.2 as usize == at)
            && pieces.windows(2).all(|pair| (pair[0].0, pair[0].1) != (pair[1].0, pair[1].1));
        let mut nested =
            Self { starts: Vec::new(), lasts: Vec::new(), around: Vec::new(), ends: Vec::new(), sets: Vec::new() };
        nested.starts.reserve_exact(if plain { pieces.len() } else { 0 });
        let mut open: Vec<u32> = Vec::new();
        let mut at = 0;
        while at < pieces.len() {
            let (start, Reverse(last), _) = pieces[at];
            while open.last().is_some_and(|outer| nested.lasts[*outer as usize] < start) {
                open.pop();
            }
            nested.around.push(open.last().copied().unwrap_or(NONE));
            open.push(narrow(nested.starts.len()));
            nested.starts.push(start);
            nested.lasts.push(last);
            let first = |set: u32| first_rule[set as usize];
            let same = pieces[at..].iter().take_while(|piece| (piece.0, piece.1) == (start, Reverse(last))).count();
            if !plain {
                let from = nested.sets.len();
                nested.sets.extend(pieces[at..at + same].iter().map(|piece| piece.2));
                nested.sets[from..].sort_unstable_by_key(|set| (first(*set), *set));
                nested.ends.push(narrow(nested.sets.len()));
            }
            at += same;
        }
        nested
    }

    /// How many prefixes begin at or before a number.
    #[inline]
    fn after(&self, number: T, near: Option<u32>) -> usize {
        // A prefix of the same number as its set: those that begin later and hold the number follow it closely.
        let Some(near) = near.filter(|near| self.ends.is_empty() && self.starts[*near as usize] <= number) else {
            return self.starts.partition_point(|start| *start <= number);
        };
        let (mut low, mut step) = (near as usize + 1, 1);
        while low + step <= self.starts.len() && self.starts[low + step - 1] <= number {
            low += step;
            step *= 2;
        }
        let high = (low + step).min(self.starts.len());
        low + self.starts[low..high].partition_point(|start| *start <= number)
    }

    /// How many bytes it takes on the heap.
    pub fn bytes(&self) -> usize {
        (self.starts.capacity() + self.lasts.capacity()) * size_of::<T>()
            + (self.around.capacity() + self.ends.capacity() + self.sets.capacity()) * 4
    }

    /// Calls with each set that holds a number, as long as `may` says so; what it denies once, it denies of all sets whose first
    /// rule is no earlier.
    /// `near`: a set that holds the number, if one is known; the search begins there.
    #[inline]
    pub fn at(&self, number: T, near: Option<u32>, may: impl Fn(u32) -> bool, mut add: impl FnMut(u32)) {
        let after = self.after(number, near);
        let mut at = if after == 0 { NONE } else { narrow(after - 1) };
        while at != NONE {
            let here = at as usize;
            if self.lasts[here] >= number {
                if self.ends.is_empty() {
                    if may(at) {
                        add(at);
                    }
                } else {
                    let from = if here == 0 { 0 } else { self.ends[here - 1] as usize };
                    let sets = &self.sets[from..self.ends[here] as usize];
                    sets.iter().take_while(|set| may(**set)).for_each(|set| add(*set));
                }
            }
            at = self.around[here];
        }
    }
}
