//! Rules as products of sets, while they are collected.

use super::sets::{Collected, narrow};
use super::spans::{Coordinate, has, holds, overlap};

/// A set of packets of one family: everything of these sources to these destinations, and so on.
#[derive(Clone, Copy, Debug)]
pub struct Product<'a, N> {
    /// Source addresses.
    pub source: &'a [(N, N)],
    /// Destination addresses.
    pub destination: &'a [(N, N)],
    /// Service numbers.
    pub service: &'a [(u32, u32)],
    /// Whatever else tells packets apart: source ports, and more where a list needs it.
    pub other: &'a [(u32, u32)],
}

impl<N: Coordinate> Product<'_, N> {
    /// The packet with the lowest number in each dimension; the product is not empty.
    pub fn low(&self) -> Point<N> {
        Point {
            source: self.source[0].0,
            destination: self.destination[0].0,
            service: self.service[0].0,
            other: self.other[0].0,
        }
    }

    /// Whether it holds a packet.
    pub fn has(&self, point: Point<N>) -> bool {
        has(self.service, point.service)
            && has(self.source, point.source)
            && has(self.destination, point.destination)
            && has(self.other, point.other)
    }

    /// Whether it holds all of another.
    #[inline]
    pub fn holds(&self, other: &Product<'_, N>) -> bool {
        holds(self.service, other.service)
            && holds(self.source, other.source)
            && holds(self.destination, other.destination)
            && holds(self.other, other.other)
    }

    /// Whether the two have a packet in common.
    #[inline]
    pub fn meets(&self, other: &Product<'_, N>) -> bool {
        overlap(self.service, other.service)
            && overlap(self.source, other.source)
            && overlap(self.destination, other.destination)
            && overlap(self.other, other.other)
    }
}

/// One packet.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Point<N> {
    /// The source address.
    pub source: N,
    /// The destination address.
    pub destination: N,
    /// The service number.
    pub service: u32,
    /// The number in the fourth dimension.
    pub other: u32,
}

/// How a part of a rule counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part {
    /// The rule matches this, no more and no less.
    Whole,
    /// It matches this for certain.
    Sure,
    /// It matches no more than this.
    Most,
}

/// A part of a rule: numbers of its sets.
#[derive(Clone, Copy, Debug)]
pub(super) struct Entry {
    pub rule: u32,
    pub sets: [u32; 4],
    pub decision: u16,
    part: Part,
}

impl Entry {
    /// Whether it may take packets: what is matched for certain.
    #[inline]
    pub fn takes(&self) -> bool {
        self.part != Part::Most
    }

    /// Whether it says how far the rule may reach.
    #[inline]
    pub fn reaches(&self) -> bool {
        self.part != Part::Sure
    }
}

/// Rules while they are collected.
#[derive(Debug)]
pub struct Rules<N> {
    pub(super) addresses: [Collected<N>; 2],
    pub(super) numbers: [Collected<u32>; 2],
    pub(super) entries: Vec<Entry>,
    pub(super) ends: Vec<u32>,
}

impl<N: Coordinate> Default for Rules<N> {
    fn default() -> Self {
        Self::new()
    }
}

impl<N: Coordinate> Rules<N> {
    /// No rules yet.
    pub fn new() -> Self {
        let addresses = [Collected::new(), Collected::new()];
        Self {
            addresses,
            numbers: [Collected::of_few(), Collected::of_few()],
            entries: Vec::new(),
            ends: Vec::new(),
        }
    }

    /// No rules yet, but room for so many of one part each.
    pub fn with_capacity(rules: usize) -> Self {
        let addresses = [
            Collected::with_capacity(rules),
            Collected::with_capacity(rules),
        ];
        Self {
            addresses,
            entries: Vec::with_capacity(rules),
            ends: Vec::with_capacity(rules),
            ..Self::new()
        }
    }

    /// The next rule begins; its number is its position.
    pub fn next_rule(&mut self) {
        self.ends.push(narrow(self.entries.len()));
    }

    /// A part of the rule begun last, with what it decides, below 2^16. An empty product is not a part.
    pub fn add(&mut self, part: Part, decision: u16, product: &Product<'_, N>) {
        if [product.source.is_empty(), product.destination.is_empty()].contains(&true)
            || [product.service.is_empty(), product.other.is_empty()].contains(&true)
        {
            return;
        }
        let sets = [
            self.addresses[0].add(product.source),
            self.addresses[1].add(product.destination),
            self.numbers[0].add(product.service),
            self.numbers[1].add(product.other),
        ];
        let rule = narrow(self.ends.len() - 1);
        self.entries.push(Entry {
            rule,
            sets,
            decision,
            part,
        });
        *self.ends.last_mut().expect("a rule was begun") = narrow(self.entries.len());
    }
}
