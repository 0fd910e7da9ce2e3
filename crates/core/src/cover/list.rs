//! A list of rules as products of sets, and the index over it.

use super::sets::{Collected, Nested, Sets, narrow};
use super::spans::{Coordinate, has, holds, overlap};
use rustc_hash::FxHashMap;
use std::ops::{ControlFlow, Range};

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
    sets: [u32; 4],
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

/// From how many on the index is used instead of looking at all; tests lower them.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Parts of rules that begin with one source, above which they are found by destination.
    pub scanned: usize,
    /// Parts with one source and one destination, above which they are found by service.
    pub bucket: usize,
    /// Steps of a proof, above which what it proved is kept for the rules that follow.
    pub lemma: u32,
    /// Steps of a proof, above which the verdict is "undecided".
    pub steps: u32,
}

impl Default for Limits {
    fn default() -> Self {
        Self { scanned: 24, bucket: 48, lemma: 24, steps: 4_000_000 }
    }
}

/// Rules while they are collected.
#[derive(Debug)]
pub struct Rules<N> {
    addresses: [Collected<N>; 2],
    numbers: [Collected<u32>; 2],
    entries: Vec<Entry>,
    ends: Vec<u32>,
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
        Self { addresses, numbers: [Collected::new(), Collected::new()], entries: Vec::new(), ends: Vec::new() }
    }

    /// The next rule begins; its number is its position.
    pub fn next_rule(&mut self) {
        self.ends.push(narrow(self.entries.len()));
    }

    /// A part of the rule begun last, with what it decides, below 2^16. An empty product is no part.
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
        self.entries.push(Entry { rule, sets, decision, part });
        *self.ends.last_mut().expect("a rule was begun") = narrow(self.entries.len());
    }
}

/// A part of a rule with one of its services, where it stands in the index.
#[derive(Clone, Copy, Debug)]
struct Slot {
    destination: u32,
    service: (u32, u32),
    rule: u32,
    entry: u32,
}

/// Bounds of some slots that follow one another.
#[derive(Clone, Copy, Debug)]
struct Bounds<N> {
    source: (N, N),
    destination: (N, N),
    service: (u32, u32),
    rule: (u32, u32),
    decisions: u32,
}

impl<N: Coordinate> Bounds<N> {
    fn join(&mut self, other: &Self) {
        let wide = |a: &mut (N, N), b: (N, N)| *a = (a.0.min(b.0), a.1.max(b.1));
        let wider = |a: &mut (u32, u32), b: (u32, u32)| *a = (a.0.min(b.0), a.1.max(b.1));
        wide(&mut self.source, other.source);
        wide(&mut self.destination, other.destination);
        wider(&mut self.service, other.service);
        wider(&mut self.rule, other.rule);
        self.decisions |= other.decisions;
    }
}

/// The bit of a decision in a mask; decisions past the 31st share one.
#[inline]
pub(super) fn bit(decision: u16) -> u32 {
    1 << decision.min(31)
}

/// How many slots or bounds one bound covers.
const FAN: usize = 16;

/// Which rules a question is about.
#[derive(Clone, Copy, Debug)]
pub(super) struct Window<'w> {
    pub rules: (u32, u32),
    /// A rule that is left out.
    pub without: u32,
    /// Only rules with these decisions.
    pub decisions: u32,
    /// Rules that are gone.
    pub gone: Option<&'w [bool]>,
}

impl Window<'_> {
    #[inline]
    fn has(&self, rule: u32) -> bool {
        rule >= self.rules.0
            && rule < self.rules.1
            && rule != self.without
            && self.gone.is_none_or(|gone| !gone[rule as usize])
    }
}

/// A list of rules, indexed.
#[derive(Debug)]
pub struct List<N> {
    sources: Sets<N>,
    destinations: Sets<N>,
    services: Sets<u32>,
    others: Sets<u32>,
    entries: Vec<Entry>,
    ends: Vec<u32>,
    by_source: Nested<N>,
    by_destination: Nested<N>,
    /// For each set of sources, of destinations, the first rule that uses it.
    first_rules: [Vec<u32>; 2],
    slots: Vec<Slot>,
    /// The end of each source's slots.
    source_ends: Vec<u32>,
    /// Where slots with one source and one destination are, for sources with many.
    buckets: FxHashMap<(u32, u32), (u32, u32)>,
    /// Bounds of 16 slots each, of 16 of those, and so on.
    bounds: Vec<Vec<Bounds<N>>>,
    pub(super) limits: Limits,
}

/// What a question needs besides the list.
#[derive(Debug)]
pub(super) struct Scratch {
    marks: Vec<u32>,
    round: u32,
    sources: Vec<u32>,
    destinations: Vec<u32>,
}

impl<N: Coordinate> List<N> {
    /// Indexes what was collected.
    pub fn new(rules: Rules<N>, limits: Limits) -> Self {
        let Rules { addresses: [sources, destinations], numbers: [services, others], mut entries, ends } = rules;
        let (sources, source_rank) = sources.finish();
        let (destinations, destination_rank) = destinations.finish();
        let (services, service_rank) = services.finish();
        let (others, other_rank) = others.finish();
        for entry in &mut entries {
            for (set, rank) in entry.sets.iter_mut().zip([&source_rank, &destination_rank, &service_rank, &other_rank])
            {
                *set = rank[*set as usize];
            }
        }
        drop((source_rank, destination_rank, service_rank, other_rank));
        let mut keys: Vec<(u64, u32)> = Vec::with_capacity(entries.len());
        for (at, entry) in entries.iter().enumerate() {
            keys.push((u64::from(entry.sets[0]) << 32 | u64::from(entry.sets[1]), narrow(at)));
        }
        keys.sort_unstable();
        let mut slots: Vec<Slot> = Vec::with_capacity(entries.len());
        let mut source_ends = vec![0; sources.len()];
        let mut buckets = FxHashMap::default();
        let mut from = 0;
        let mut source_from = 0;
        for (at, (key, id)) in keys.iter().enumerate() {
            let entry = &entries[*id as usize];
            for span in services.of(entry.sets[2]) {
                slots.push(Slot { destination: entry.sets[1], service: *span, rule: entry.rule, entry: *id });
            }
            let next = keys.get(at + 1).map(|next| next.0);
            if next == Some(*key) {
                continue;
            }
            // One source and one destination: by service, so that bounds are tight.
            slots[from..].sort_unstable_by_key(|slot| (slot.service, slot.rule, slot.entry));
            from = slots.len();
            if next.is_none_or(|next| next >> 32 != key >> 32) {
                source_ends[entry.sets[0] as usize] = narrow(slots.len());
                if slots.len() - source_from > limits.scanned {
                    let mut begin = source_from;
                    while begin < slots.len() {
                        let destination = slots[begin].destination;
                        let mut end = begin + 1;
                        while end < slots.len() && slots[end].destination == destination {
                            end += 1;
                        }
                        buckets.insert((entry.sets[0], destination), (narrow(begin), narrow(end)));
                        begin = end;
                    }
                }
                source_from = slots.len();
            }
        }
        drop(keys);
        let first_rules = |dimension: usize, count: usize| {
            let mut first = vec![u32::MAX; count];
            for entry in &entries {
                let rule = &mut first[entry.sets[dimension] as usize];
                *rule = (*rule).min(entry.rule);
            }
            first
        };
        let first_rules = [first_rules(0, sources.len()), first_rules(1, destinations.len())];
        let by_source = Nested::new(&sources, &first_rules[0]);
        let by_destination = Nested::new(&destinations, &first_rules[1]);
        let mut list = Self {
            sources,
            destinations,
            services,
            others,
            entries,
            ends,
            by_source,
            by_destination,
            first_rules,
            slots,
            source_ends,
            buckets,
            bounds: Vec::new(),
            limits,
        };
        list.bound();
        list
    }

    fn bound(&mut self) {
        let hull = |spans: &[(N, N)]| (spans[0].0, spans[spans.len() - 1].1);
        let of_slot = |slot: &Slot| {
            let entry = &self.entries[slot.entry as usize];
            Bounds {
                source: hull(self.sources.of(entry.sets[0])),
                destination: hull(self.destinations.of(entry.sets[1])),
                service: slot.service,
                rule: (slot.rule, slot.rule),
                decisions: bit(entry.decision),
            }
        };
        let join = |some: &[Bounds<N>]| {
            let mut all = some[0];
            some[1..].iter().for_each(|one| all.join(one));
            all
        };
        let mut level: Vec<Bounds<N>> = Vec::with_capacity(self.slots.len().div_ceil(FAN));
        let mut few: Vec<Bounds<N>> = Vec::with_capacity(FAN);
        for chunk in self.slots.chunks(FAN) {
            few.clear();
            few.extend(chunk.iter().map(of_slot));
            level.push(join(&few));
        }
        while level.len() > 1 {
            let above: Vec<Bounds<N>> = level.chunks(FAN).map(join).collect();
            self.bounds.push(level);
            level = above;
        }
        self.bounds.push(level);
    }

    /// How many rules.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    pub(super) fn scratch(&self) -> Scratch {
        Scratch { marks: vec![0; self.destinations.len()], round: 0, sources: Vec::new(), destinations: Vec::new() }
    }

    #[inline]
    pub(super) fn entry(&self, id: u32) -> &Entry {
        &self.entries[id as usize]
    }

    /// The parts of a rule.
    pub(super) fn parts(&self, rule: u32) -> Range<u32> {
        let rule = rule as usize;
        let from = if rule == 0 { 0 } else { self.ends[rule - 1] };
        from..self.ends[rule]
    }

    /// What a part of a rule is.
    #[inline]
    pub(super) fn product(&self, id: u32) -> Product<'_, N> {
        let entry = &self.entries[id as usize];
        Product {
            source: self.sources.of(entry.sets[0]),
            destination: self.destinations.of(entry.sets[1]),
            service: self.services.of(entry.sets[2]),
            other: self.others.of(entry.sets[3]),
        }
    }

    /// Calls with every part of a rule in the window that holds a packet, in an order that the list alone settles. `near`: a part
    /// whose sets hold it, if one is known.
    pub(super) fn at(
        &self,
        point: Point<N>,
        near: Option<u32>,
        window: &Window<'_>,
        scratch: &mut Scratch,
        mut found: impl FnMut(u32) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let Scratch { marks, round, sources, destinations } = scratch;
        *round = round.wrapping_add(1);
        if *round == 0 {
            marks.fill(0);
            *round = 1;
        }
        sources.clear();
        destinations.clear();
        let before = |dimension: usize| move |set: u32| self.first_rules[dimension][set as usize] < window.rules.1;
        let near = near.map(|part| self.entries[part as usize].sets);
        self.by_source.at(point.source, near.map(|sets| sets[0]), before(0), |set| sources.push(set));
        self.by_destination.at(point.destination, near.map(|sets| sets[1]), before(1), |set| {
            destinations.push(set);
            marks[set as usize] = *round;
        });
        let mut look = |slot: &Slot| {
            if slot.service.0 > point.service || slot.service.1 < point.service || !window.has(slot.rule) {
                return ControlFlow::Continue(());
            }
            let entry = &self.entries[slot.entry as usize];
            if bit(entry.decision) & window.decisions == 0 || !has(self.others.of(entry.sets[3]), point.other) {
                return ControlFlow::Continue(());
            }
            found(slot.entry)
        };
        for source in sources.iter() {
            let end = self.source_ends[*source as usize] as usize;
            let from = if *source == 0 { 0 } else { self.source_ends[*source as usize - 1] as usize };
            if end - from <= self.limits.scanned {
                for slot in &self.slots[from..end] {
                    if marks[slot.destination as usize] == *round {
                        look(slot)?;
                    }
                }
                continue;
            }
            for destination in destinations.iter() {
                let Some((from, end)) = self.buckets.get(&(*source, *destination)) else { continue };
                let (from, end) = (*from as usize, *end as usize);
                if end - from <= self.limits.bucket {
                    self.slots[from..end].iter().try_for_each(&mut look)?;
                } else {
                    self.within(
                        self.bounds.len(),
                        (from, end),
                        &mut |bounds: &Bounds<N>| {
                            bounds.service.0 <= point.service
                                && bounds.service.1 >= point.service
                                && bounds.rule.0 < window.rules.1
                                && bounds.rule.1 >= window.rules.0
                        },
                        &mut look,
                    )?;
                }
            }
        }
        ControlFlow::Continue(())
    }

    /// Goes down the bounds over some slots, wherever `may` says that something may be.
    fn within(
        &self,
        level: usize,
        (from, end): (usize, usize),
        may: &mut impl FnMut(&Bounds<N>) -> bool,
        look: &mut impl FnMut(&Slot) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        if level == 0 {
            return self.slots[from..end].iter().try_for_each(look);
        }
        let size = FAN.pow(u32::try_from(level).unwrap_or(u32::MAX));
        for at in from / size..end.div_ceil(size) {
            if may(&self.bounds[level - 1][at]) {
                self.within(level - 1, (from.max(at * size), end.min((at + 1) * size)), may, look)?;
            }
        }
        ControlFlow::Continue(())
    }

    /// Calls with every part of a rule in the window that meets a set of packets and fits, in an order that the list alone settles.
    pub(super) fn meeting(
        &self,
        region: &Product<'_, N>,
        window: &Window<'_>,
        mut found: impl FnMut(u32) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let hull = |spans: &[(N, N)]| (spans[0].0, spans[spans.len() - 1].1);
        let (source, destination) = (hull(region.source), hull(region.destination));
        let service = (region.service[0].0, region.service[region.service.len() - 1].1);
        let meet = |a: (N, N), b: (N, N)| a.0 <= b.1 && b.0 <= a.1;
        let mut may = |bounds: &Bounds<N>| {
            bounds.decisions & window.decisions != 0
                && bounds.rule.0 < window.rules.1
                && bounds.rule.1 >= window.rules.0
                && bounds.service.0 <= service.1
                && service.0 <= bounds.service.1
                && meet(bounds.source, source)
                && meet(bounds.destination, destination)
        };
        let mut look = |slot: &Slot| {
            if slot.service.0 > service.1 || slot.service.1 < service.0 || !window.has(slot.rule) {
                return ControlFlow::Continue(());
            }
            let entry = &self.entries[slot.entry as usize];
            if bit(entry.decision) & window.decisions == 0 || !self.product(slot.entry).meets(region) {
                return ControlFlow::Continue(());
            }
            found(slot.entry)
        };
        self.within(self.bounds.len(), (0, self.slots.len()), &mut may, &mut look)
    }

    /// How many bytes it takes on the heap.
    pub fn bytes(&self) -> usize {
        fn of<T>(vector: &Vec<T>) -> usize {
            vector.capacity() * size_of::<T>()
        }
        let sets = |spans: usize, ends: usize| spans * size_of::<(N, N)>() + ends * 4;
        sets(self.sources.spans(), self.sources.len())
            + sets(self.destinations.spans(), self.destinations.len())
            + (self.services.spans() + self.others.spans()) * 8
            + (self.services.len() + self.others.len()) * 4
            + of(&self.entries)
            + of(&self.ends)
            + self.by_source.bytes()
            + self.by_destination.bytes()
            + of(&self.slots)
            + self.first_rules.iter().map(of).sum::<usize>()
            + of(&self.source_ends)
            + self.buckets.capacity() * (size_of::<((u32, u32), (u32, u32))>() + 1)
            + self.bounds.iter().map(of).sum::<usize>()
    }
}
