//! The sets that rules use in one dimension, each kept once, and which of them hold a number.

use super::spans::{Coordinate, enclosing};
use rustc_hash::FxHashMap;

const NONE: u32 = u32::MAX;

pub(super) fn narrow(number: usize) -> u32 {
    u32::try_from(number).expect("fewer than 2^32 of anything in one list")
}

/// The sets of one dimension, by number.
#[derive(Debug)]
pub(super) struct Sets<T> {
    spans: Vec<(T, T)>,
    /// The end of each set's spans; empty if each set is one span.
    ends: Vec<u32>,
}

/// Sets while they are collected: several spans once each, single spans as often as they come.
#[derive(Debug)]
pub(super) struct Collected<T> {
    spans: Vec<(T, T)>,
    /// The end of each set's spans; empty as long as each is one span.
    ends: Vec<u32>,
    several: FxHashMap<Box<[(T, T)]>, u32>,
    /// Single spans, where few are expected.
    single: Option<FxHashMap<(T, T), u32>>,
}

impl<T: Coordinate> Collected<T> {
    pub fn new() -> Self {
        Self {
            spans: Vec::new(),
            ends: Vec::new(),
            several: FxHashMap::default(),
            single: None,
        }
    }

    /// No sets yet, but room for so many of one span each.
    pub fn with_capacity(sets: usize) -> Self {
        Self {
            spans: Vec::with_capacity(sets),
            ..Self::new()
        }
    }

    /// No sets yet; few different ones are expected.
    pub fn of_few() -> Self {
        Self {
            single: Some(FxHashMap::default()),
            ..Self::new()
        }
    }

    /// How many there are.
    fn len(&self) -> usize {
        if self.ends.is_empty() {
            self.spans.len()
        } else {
            self.ends.len()
        }
    }

    #[inline]
    pub fn add(&mut self, spans: &[(T, T)]) -> u32 {
        let next = narrow(self.len());
        if let [one] = spans {
            if let Some(single) = &mut self.single {
                let known = *single.entry(*one).or_insert(next);
                if known != next {
                    return known;
                }
            } else if self.ends.is_empty() {
                if self.spans.last() != Some(one) {
                    self.spans.push(*one);
                }
                return narrow(self.spans.len() - 1);
            }
        } else if let Some(known) = self.several.get(spans) {
            return *known;
        } else {
            if self.ends.is_empty() {
                self.ends.extend(1..=narrow(self.spans.len()));
            }
            self.several.insert(spans.into(), next);
        }
        self.spans.extend_from_slice(spans);
        if spans.len() > 1 || !self.ends.is_empty() {
            self.ends.push(narrow(self.spans.len()));
        }
        next
    }

    /// The sets as they came.
    pub fn unsorted(self) -> Sets<T> {
        let Self {
            mut spans,
            mut ends,
            ..
        } = self;
        spans.shrink_to_fit();
        ends.shrink_to_fit();
        Sets { spans, ends }
    }

    /// The sets numbered by where they begin, wider ones first, and the new number of each collected one.
    pub fn finish(self) -> (Sets<T>, Vec<u32>) {
        let count = self.len();
        let Self {
            spans,
            ends,
            several,
            single,
        } = self;
        drop((several, single));
        let old = Sets { spans, ends };
        let mut order: Vec<((T, T), u32)> = Vec::with_capacity(count);
        for id in 0..narrow(count) {
            let spans = old.of(id);
            order.push(((spans[0].0, spans[spans.len() - 1].1), id));
        }
        T::sort(&mut order);
        let mut rank = vec![0; count];
        let single = old.ends.is_empty();
        let mut sets = Sets {
            spans: Vec::new(),
            ends: Vec::new(),
        };
        // The number of the single span of this hull, if one came.
        let mut last: Option<((T, T), u32)> = None;
        for (hull, id) in order {
            let own = old.of(id);
            if own.len() == 1 {
                if let Some((known, number)) = last
                    && known == hull
                {
                    rank[id as usize] = number;
                    continue;
                }
                last = Some((hull, narrow(sets.len())));
            }
            rank[id as usize] = narrow(sets.len());
            sets.spans.extend_from_slice(own);
            if !single {
                sets.ends.push(narrow(sets.spans.len()));
            }
        }
        sets.spans.shrink_to_fit();
        sets.ends.shrink_to_fit();
        (sets, rank)
    }
}

impl<T: Coordinate> Sets<T> {
    #[inline]
    pub fn of(&self, id: u32) -> &[(T, T)] {
        let id = id as usize;
        if self.ends.is_empty() {
            return &self.spans[id..=id];
        }
        let from = if id == 0 {
            0
        } else {
            self.ends[id - 1] as usize
        };
        &self.spans[from..self.ends[id] as usize]
    }

    pub fn len(&self) -> usize {
        if self.ends.is_empty() {
            self.spans.len()
        } else {
            self.ends.len()
        }
    }

    /// How many bytes it takes on the heap.
    pub fn bytes(&self) -> usize {
        self.spans.capacity() * size_of::<(T, T)>() + self.ends.capacity() * 4
    }
}

/// A prefix around which spans are kept.
#[derive(Clone, Copy, Debug)]
struct Node<T> {
    start: T,
    last: T,
    /// The nearest wider one.
    around: u32,
    /// The first rule that uses one of its sets.
    first: u32,
}

/// A span of a set, at the node of the smallest prefix around it.
#[derive(Clone, Copy, Debug)]
struct Member {
    set: u32,
    /// Which of all spans.
    span: u32,
    /// The first rule that uses the set.
    first: u32,
}

/// Which sets hold a number: each span at the smallest prefix around it, and each prefix with the nearest wider one.
///
/// Prefixes are nested or apart, so all that hold a number are the last one that begins at or before it, and what is
/// around that. Of the spans of a set no two are at one prefix, since each has both numbers in its middle.
#[derive(Debug)]
pub(super) struct Nested<T> {
    nodes: Vec<Node<T>>,
    /// The end of each node's part of `members`; empty if each node is one set of the same number, which is that prefix.
    ends: Vec<u32>,
    /// By the first rule that uses them.
    members: Vec<Member>,
    /// Nodes whose spans are not all the whole prefix.
    loose: Vec<u64>,
    /// For each set the node of its first span; empty as above.
    homes: Vec<u32>,
    /// The most members of a node.
    most: usize,
}

impl<T: Coordinate> Nested<T> {
    /// `first_rule`: for each set the first rule that uses it.
    pub fn new(of: &Sets<T>, first_rule: &[u32]) -> Self {
        let mut pieces: Vec<((T, T), u32)> = Vec::with_capacity(of.spans.len());
        for (at, span) in of.spans.iter().enumerate() {
            pieces.push((enclosing(*span), narrow(at)));
        }
        let plain = of.ends.is_empty()
            && pieces
                .iter()
                .zip(&of.spans)
                .all(|(piece, span)| piece.0 == *span);
        // Else sorted already: sets are numbered by where they begin.
        if !plain {
            T::sort(&mut pieces);
        }
        let mut nested = Self {
            nodes: Vec::new(),
            ends: Vec::new(),
            members: Vec::new(),
            loose: Vec::new(),
            homes: Vec::new(),
            most: 1,
        };
        nested
            .nodes
            .reserve_exact(if plain { pieces.len() } else { 0 });
        let mut sets: Vec<u32> = Vec::new();
        if !plain && !of.ends.is_empty() {
            sets.reserve_exact(of.spans.len());
            let mut from = 0;
            for (set, end) in of.ends.iter().enumerate() {
                sets.extend((from..*end).map(|_| narrow(set)));
                from = *end;
            }
        }
        let set_of = |span: u32| {
            if sets.is_empty() {
                span
            } else {
                sets[span as usize]
            }
        };
        let mut open: Vec<u32> = Vec::new();
        let mut at = 0;
        while at < pieces.len() {
            let (start, last) = pieces[at].0;
            while open
                .last()
                .is_some_and(|outer| nested.nodes[*outer as usize].last < start)
            {
                open.pop();
            }
            let around = open.last().copied().unwrap_or(NONE);
            let number = nested.nodes.len();
            open.push(narrow(number));
            let mut next = at + 1;
            if plain {
                nested.nodes.push(Node {
                    start,
                    last,
                    around,
                    first: first_rule[number],
                });
                at = next;
                continue;
            }
            while pieces
                .get(next)
                .is_some_and(|piece| piece.0 == (start, last))
            {
                next += 1;
            }
            let from = nested.members.len();
            for (_, span) in &pieces[at..next] {
                let set = set_of(*span);
                nested.members.push(Member {
                    set,
                    span: *span,
                    first: first_rule[set as usize],
                });
            }
            nested.members[from..].sort_unstable_by_key(|member| (member.first, member.set));
            if pieces[at..next]
                .iter()
                .any(|(_, span)| of.spans[*span as usize] != (start, last))
            {
                nested.loose.resize(number / 64 + 1, 0);
                nested.loose[number / 64] |= 1 << (number % 64);
            }
            nested.most = nested.most.max(next - at);
            nested.nodes.push(Node {
                start,
                last,
                around,
                first: nested.members[from].first,
            });
            nested.ends.push(narrow(nested.members.len()));
            at = next;
        }
        if !plain {
            nested.nodes.shrink_to_fit();
            nested.ends.shrink_to_fit();
            nested.loose.resize(nested.nodes.len() / 64 + 1, 0);
            nested.homes = vec![NONE; of.len()];
            let mut from = 0;
            for (node, end) in (0..).zip(&nested.ends) {
                for member in &nested.members[from..*end as usize] {
                    let home = &mut nested.homes[member.set as usize];
                    *home = (*home).min(node);
                }
                from = *end as usize;
            }
        }
        nested
    }

    /// How many nodes begin at or before a number. `near`: a set; the search begins there.
    #[inline]
    fn after(&self, number: T, near: Option<u32>) -> usize {
        let near = near.map(|set| if self.homes.is_empty() { set } else { self.homes[set as usize] } as usize);
        let Some(near) = near.filter(|near| self.nodes[*near].start <= number) else {
            return self.nodes.partition_point(|node| node.start <= number);
        };
        let (mut low, mut step) = (near + 1, 1);
        while low + step <= self.nodes.len() && self.nodes[low + step - 1].start <= number {
            low += step;
            step *= 2;
        }
        let high = (low + step).min(self.nodes.len());
        low + self.nodes[low..high].partition_point(|node| node.start <= number)
    }

    /// How many bytes it takes on the heap.
    pub fn bytes(&self) -> usize {
        self.nodes.capacity() * size_of::<Node<T>>()
            + self.members.capacity() * size_of::<Member>()
            + (self.ends.capacity() + self.homes.capacity()) * 4
            + self.loose.capacity() * 8
    }

    #[inline]
    fn is_loose(&self, node: usize) -> bool {
        self.loose[node / 64] >> (node % 64) & 1 == 1
    }

    fn members(&self, node: usize) -> &[Member] {
        let from = if node == 0 {
            0
        } else {
            self.ends[node - 1] as usize
        };
        &self.members[from..self.ends[node] as usize]
    }

    /// Calls with each set that holds a number and is used before some rule. `near`: a set that holds the number, if one is
    /// known; the search begins there.
    #[inline]
    pub fn at(
        &self,
        of: &Sets<T>,
        number: T,
        near: Option<u32>,
        before: u32,
        mut add: impl FnMut(u32),
    ) {
        let after = self.after(number, near);
        let mut at = if after == 0 { NONE } else { narrow(after - 1) };
        while at != NONE {
            let here = at as usize;
            let node = &self.nodes[here];
            if node.last >= number && node.first < before {
                if self.ends.is_empty() {
                    add(at);
                } else {
                    let members = self
                        .members(here)
                        .iter()
                        .take_while(|member| member.first < before);
                    if self.is_loose(here) {
                        let holds = |span: (T, T)| span.0 <= number && number <= span.1;
                        members
                            .filter(|member| holds(of.spans[member.span as usize]))
                            .for_each(|member| add(member.set));
                    } else {
                        members.for_each(|member| add(member.set));
                    }
                }
            }
            at = node.around;
        }
    }

    /// Whether more than so many spans may be around one number.
    #[inline]
    pub fn may_crowd(&self, few: usize) -> bool {
        self.most > few / 4
    }

    /// How many spans are at the nodes around a number.
    pub fn spans_around(&self, number: T) -> usize {
        let after = self.after(number, None);
        let mut at = if after == 0 { NONE } else { narrow(after - 1) };
        let mut count = 0;
        while at != NONE {
            count += if self.ends.is_empty() {
                1
            } else {
                self.members(at as usize).len()
            };
            at = self.nodes[at as usize].around;
        }
        count
    }

    /// How many nodes may have something in common with a span, besides those around its first number.
    pub fn inside(&self, span: (T, T)) -> usize {
        if span.0 == span.1 {
            return 0;
        }
        let from = self.after(span.0, None);
        self.nodes[from..].partition_point(|node| node.start <= span.1)
    }

    /// Calls with each set that has a number of a span in common and is used before some rule; a set of several spans perhaps
    /// more than once.
    pub fn meeting(&self, of: &Sets<T>, span: (T, T), before: u32, mut add: impl FnMut(u32)) {
        let after = self.after(span.0, None);
        let mut node = |here: usize| {
            let node = &self.nodes[here];
            if node.last < span.0 || node.first >= before {
                return;
            }
            if self.ends.is_empty() {
                return add(narrow(here));
            }
            let meets = |other: (T, T)| other.0 <= span.1 && span.0 <= other.1;
            self.members(here)
                .iter()
                .take_while(|member| member.first < before)
                .filter(|member| meets(of.spans[member.span as usize]))
                .for_each(|member| add(member.set));
        };
        let mut at = if after == 0 { NONE } else { narrow(after - 1) };
        while at != NONE {
            node(at as usize);
            at = self.nodes[at as usize].around;
        }
        (after..self.nodes.len())
            .take_while(|at| self.nodes[*at].start <= span.1)
            .for_each(node);
    }
}
