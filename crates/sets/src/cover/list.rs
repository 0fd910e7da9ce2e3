//! The index over a list of rules.

use super::bounds::{Bounds, Tree};
use super::rules::{Entry, Product, Rules};
use super::sets::{Nested, Sets, narrow};
use super::spans::Coordinate;
use rustc_hash::FxHashMap;
use std::ops::{ControlFlow, Range};
use std::sync::OnceLock;

/// From how many on the index is used instead of looking at all; tests lower them.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Parts of rules that begin with one source, above which they are found by destination.
    pub scanned: usize,
    /// Parts with one source and one destination, above which they are found by service.
    pub bucket: usize,
    /// Sets that may hold a packet, or meet a set of packets, above which they are not gone through one by one.
    pub few: usize,
    /// Rules between two, up to which they are gone through one by one.
    pub between: u32,
    /// Parts and boxes that are looked at in the order of the rules before all are gone through in another.
    pub looks: u32,
    /// Rules that may decide otherwise, of which so many are tried before all are looked for.
    pub tried: usize,
    /// Steps of a proof, above which what it proved is kept for the rules that follow.
    pub lemma: u32,
    /// Steps of a proof, above which the verdict is "undecided".
    pub steps: u32,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            scanned: 24,
            bucket: 48,
            few: 256,
            between: 64,
            looks: 2_048,
            tried: 8,
            lemma: 24,
            steps: 4_000_000,
        }
    }
}

/// The bit of a decision in a mask; decisions past the 31st share one.
#[inline]
pub(super) fn bit(decision: u16) -> u32 {
    1 << decision.min(31)
}

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
    pub fn has(&self, rule: u32) -> bool {
        rule >= self.rules.0
            && rule < self.rules.1
            && rule != self.without
            && self.gone.is_none_or(|gone| !gone[rule as usize])
    }
}

/// A part of a rule with one of its services, where it stands in the index.
#[derive(Clone, Copy, Debug)]
pub(super) struct Slot {
    pub service: (u32, u32),
    pub rule: u32,
    pub entry: u32,
}

/// A list of rules, indexed.
#[derive(Debug)]
pub struct List<N> {
    pub(super) sources: Sets<N>,
    pub(super) destinations: Sets<N>,
    services: Sets<u32>,
    pub(super) others: Sets<u32>,
    /// By source, then destination.
    entries: Vec<Entry>,
    /// The parts of each rule in turn.
    parts: Vec<u32>,
    /// The end of each rule's parts; empty if each rule is one part.
    ends: Vec<u32>,
    pub(super) by_source: Nested<N>,
    pub(super) by_destination: Nested<N>,
    /// By source, then destination, then service.
    pub(super) slots: Vec<Slot>,
    /// The destination of each slot.
    pub(super) destination_of: Vec<u32>,
    /// The end of each source's slots.
    source_ends: Vec<u32>,
    /// Where slots with one source and one destination are, for sources with many.
    buckets: FxHashMap<u64, (u32, u32)>,
    /// For each destination which of these there may be: the sources' last five bits.
    bucket_masks: Vec<u32>,
    /// The same by source, and by destination, for sets of packets that are wide on the other side.
    by_set: [OnceLock<BySet<N>>; 2],
    /// Around slots in their order.
    slot_bounds: OnceLock<Tree<N>>,
    /// Around parts in their order.
    part_bounds: OnceLock<Tree<N>>,
    pub(super) limits: Limits,
}

/// In how many regions the sets of a dimension are parted.
const REGIONS: u64 = 32;

/// Slots by the set of one dimension, then decision, region of the other dimension, service and rule.
#[derive(Debug)]
pub(super) struct BySet<N> {
    slots: Vec<u32>,
    ends: Vec<u32>,
    bounds: Tree<N>,
}

impl<N: Coordinate> BySet<N> {
    /// Looks at the slots of a set, wherever `may` says that something may be.
    pub fn within(
        &self,
        set: u32,
        may: &mut impl FnMut(&Bounds<N>) -> bool,
        look: &mut impl FnMut(usize) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let from = if set == 0 {
            0
        } else {
            self.ends[set as usize - 1] as usize
        };
        let to = self.ends[set as usize] as usize;
        self.bounds
            .within((from, to), may, &mut |at| look(self.slots[at] as usize))
    }

    fn bytes(&self) -> usize {
        (self.slots.capacity() + self.ends.capacity()) * 4 + self.bounds.bytes()
    }
}

fn pair(source: u32, destination: u32) -> u64 {
    u64::from(source) << 32 | u64::from(destination)
}

impl<N: Coordinate> List<N> {
    /// Indexes what was collected.
    pub fn new(rules: Rules<N>, limits: Limits) -> Self {
        let Rules {
            addresses: [sources, destinations],
            numbers: [services, others],
            mut entries,
            mut ends,
        } = rules;
        let (sources, source_rank) = sources.finish();
        let (destinations, destination_rank) = destinations.finish();
        let (services, others) = (services.unsorted(), others.unsorted());
        // Source, destination, number of the part.
        let mut keys: Vec<u128> = Vec::with_capacity(entries.len());
        let mut first_rules = [
            vec![u32::MAX; sources.len()],
            vec![u32::MAX; destinations.len()],
        ];
        for (at, entry) in (0..).zip(&mut entries) {
            for (set, rank) in entry.sets.iter_mut().zip([&source_rank, &destination_rank]) {
                *set = rank[*set as usize];
            }
            keys.push(u128::from(pair(entry.sets[0], entry.sets[1])) << 32 | at);
            for (first, set) in first_rules.iter_mut().zip(entry.sets) {
                let rule = &mut first[set as usize];
                *rule = (*rule).min(entry.rule);
            }
        }
        drop((source_rank, destination_rank));
        if (1..).zip(&ends).all(|(at, end)| at == *end) {
            ends = Vec::new();
        }
        keys.sort_unstable();
        let mut parts = vec![0; entries.len()];
        let old = |key: &u128| (*key & u128::from(u32::MAX)) as usize;
        (0..).zip(&keys).for_each(|(at, key)| parts[old(key)] = at);
        let entries: Vec<Entry> = keys.iter().map(|key| entries[old(key)]).collect();
        let mut slots: Vec<Slot> = Vec::with_capacity(entries.len());
        let mut destination_of: Vec<u32> = Vec::with_capacity(entries.len());
        let mut source_ends = vec![0; sources.len()];
        let mut buckets = FxHashMap::default();
        let mut bucket_masks = vec![0; destinations.len()];
        let mut from = 0;
        let mut source_from = 0;
        for (at, (key, entry)) in keys.iter().zip(&entries).enumerate() {
            let pair_of = |key: &u128| key >> 32;
            for span in services.of(entry.sets[2]) {
                slots.push(Slot {
                    service: *span,
                    rule: entry.rule,
                    entry: narrow(at),
                });
                destination_of.push(entry.sets[1]);
            }
            let next = keys.get(at + 1).map(pair_of);
            if next == Some(pair_of(key)) {
                continue;
            }
            // One source and one destination: by service, so that bounds are tight.
            if slots.len() - from > 1 {
                slots[from..].sort_unstable_by_key(|slot| (slot.service, slot.rule, slot.entry));
            }
            from = slots.len();
            if next.is_none_or(|next| next >> 32 != key >> 64) {
                source_ends[entry.sets[0] as usize] = narrow(slots.len());
                if slots.len() - source_from > limits.scanned {
                    let mut begin = source_from;
                    while begin < slots.len() {
                        let destination = destination_of[begin];
                        let same = destination_of[begin..]
                            .iter()
                            .take_while(|other| **other == destination)
                            .count();
                        buckets.insert(
                            pair(entry.sets[0], destination),
                            (narrow(begin), narrow(begin + same)),
                        );
                        bucket_masks[destination as usize] |= 1 << (entry.sets[0] % 32);
                        begin += same;
                    }
                }
                source_from = slots.len();
            }
        }
        drop(keys);
        slots.shrink_to_fit();
        destination_of.shrink_to_fit();
        let by_source = Nested::new(&sources, &first_rules[0]);
        let by_destination = Nested::new(&destinations, &first_rules[1]);
        Self {
            sources,
            destinations,
            services,
            others,
            entries,
            parts,
            ends,
            by_source,
            by_destination,
            slots,
            destination_of,
            source_ends,
            buckets,
            bucket_masks,
            by_set: [OnceLock::new(), OnceLock::new()],
            slot_bounds: OnceLock::new(),
            part_bounds: OnceLock::new(),
            limits,
        }
    }

    fn bounds_of(&self, part: u32, service: (u32, u32)) -> Bounds<N> {
        let hull = |spans: &[(N, N)]| (spans[0].0, spans[spans.len() - 1].1);
        let entry = self.entry(part);
        Bounds {
            source: hull(self.sources.of(entry.sets[0])),
            destination: hull(self.destinations.of(entry.sets[1])),
            service,
            rule: (entry.rule, entry.rule),
            decisions: bit(entry.decision),
        }
    }

    /// Around slots in their order.
    pub(super) fn slot_bounds(&self) -> &Tree<N> {
        self.slot_bounds.get_or_init(|| {
            Tree::new(
                self.slots
                    .iter()
                    .map(|slot| self.bounds_of(slot.entry, slot.service)),
            )
        })
    }

    /// Around parts in the order of their rules.
    pub(super) fn part_bounds(&self) -> &Tree<N> {
        self.part_bounds.get_or_init(|| {
            let service = |part: u32| {
                let spans = self.services.of(self.entry(part).sets[2]);
                (spans[0].0, spans[spans.len() - 1].1)
            };
            Tree::new(
                self.parts
                    .iter()
                    .map(|part| self.bounds_of(*part, service(*part))),
            )
        })
    }

    /// The slots of a source.
    #[inline]
    pub(super) fn of_source(&self, source: u32) -> (usize, usize) {
        let end = self.source_ends[source as usize] as usize;
        (
            if source == 0 {
                0
            } else {
                self.source_ends[source as usize - 1] as usize
            },
            end,
        )
    }

    /// The slots of a source that has many, and a destination.
    #[inline]
    pub(super) fn bucket(&self, source: u32, destination: u32) -> Option<(usize, usize)> {
        self.buckets
            .get(&pair(source, destination))
            .map(|(from, end)| (*from as usize, *end as usize))
    }

    /// With which sources that have many slots a destination may have some: by the last five bits of their numbers.
    #[inline]
    pub(super) fn bucket_mask(&self, destination: u32) -> u32 {
        self.bucket_masks[destination as usize]
    }

    /// Slots by source (dimension 0) or destination (1).
    pub(super) fn by_set(&self, dimension: usize) -> &BySet<N> {
        self.by_set[dimension].get_or_init(|| {
            let count = if dimension == 0 {
                self.sources.len()
            } else {
                self.destinations.len()
            };
            let other = (self.sources.len() + self.destinations.len() - count) as u64;
            let set = |slot: &Slot| self.entry(slot.entry).sets[dimension] as usize;
            let mut ends = vec![0_u32; count];
            self.slots.iter().for_each(|slot| ends[set(slot)] += 1);
            let mut sum = 0;
            for end in &mut ends {
                sum += std::mem::replace(end, sum);
            }
            // Where each set's slots begin, and once all are there, where they end.
            let mut slots = vec![0; self.slots.len()];
            for (at, slot) in (0..).zip(&self.slots) {
                let place = &mut ends[set(slot)];
                slots[*place as usize] = at;
                *place += 1;
            }
            let mut from = 0;
            for end in &ends {
                let of_set = &mut slots[from..*end as usize];
                if of_set.len() > 16 {
                    of_set.sort_by_cached_key(|at| {
                        let slot = &self.slots[*at as usize];
                        let entry = self.entry(slot.entry);
                        let region = u64::from(entry.sets[1 - dimension]) * REGIONS / other;
                        (entry.decision, region, slot.service, slot.rule)
                    });
                }
                from = *end as usize;
            }
            let bounds = Tree::new(slots.iter().map(|at| {
                let slot = &self.slots[*at as usize];
                self.bounds_of(slot.entry, slot.service)
            }));
            BySet {
                slots,
                ends,
                bounds,
            }
        })
    }

    /// How many rules.
    pub fn len(&self) -> usize {
        if self.ends.is_empty() {
            self.entries.len()
        } else {
            self.ends.len()
        }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// How many parts all rules have.
    pub fn parts_of_all(&self) -> usize {
        self.entries.len()
    }

    /// All rules in the order in which they are asked fastest: neighbours have much in common.
    pub fn order(&self) -> Vec<u32> {
        let mut order = Vec::with_capacity(self.len());
        let mut known = vec![0_u64; self.len() / 64 + 1];
        let mut add = |rule: u32| {
            let (word, bit) = (&mut known[rule as usize / 64], 1 << (rule % 64));
            if *word & bit == 0 {
                *word |= bit;
                order.push(rule);
            }
        };
        self.entries.iter().for_each(|entry| add(entry.rule));
        (0..narrow(self.len())).for_each(add);
        order
    }

    #[inline]
    pub(super) fn entry(&self, id: u32) -> &Entry {
        &self.entries[id as usize]
    }

    /// Where the parts of a rule stand among the parts of all rules.
    #[inline]
    pub(super) fn places(&self, rule: u32) -> Range<usize> {
        let rule = rule as usize;
        if self.ends.is_empty() {
            return rule..rule + 1;
        }
        let from = if rule == 0 {
            0
        } else {
            self.ends[rule - 1] as usize
        };
        from..self.ends[rule] as usize
    }

    /// The part that stands there.
    #[inline]
    pub(super) fn part(&self, place: usize) -> u32 {
        self.parts[place]
    }

    /// The parts of a rule.
    #[inline]
    pub(super) fn parts(&self, rule: u32) -> impl Iterator<Item = u32> + use<'_, N> {
        self.parts[self.places(rule)].iter().copied()
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

    /// How many bytes it takes on the heap.
    pub fn bytes(&self) -> usize {
        fn of<T>(vector: &Vec<T>) -> usize {
            vector.capacity() * size_of::<T>()
        }
        self.sources.bytes()
            + self.destinations.bytes()
            + self.services.bytes()
            + self.others.bytes()
            + of(&self.entries)
            + of(&self.parts)
            + of(&self.ends)
            + self.by_source.bytes()
            + self.by_destination.bytes()
            + of(&self.slots)
            + of(&self.destination_of)
            + of(&self.source_ends)
            + of(&self.bucket_masks)
            + self.buckets.capacity() * (size_of::<(u64, (u32, u32))>() + 1)
            + self
                .by_set
                .iter()
                .filter_map(OnceLock::get)
                .map(BySet::bytes)
                .sum::<usize>()
            + [&self.slot_bounds, &self.part_bounds]
                .into_iter()
                .filter_map(OnceLock::get)
                .map(Tree::bytes)
                .sum::<usize>()
    }
}
