//! Questions to the index: which parts of rules hold a packet, which meet a set of packets.

use super::bounds::Bounds;
use super::list::{List, Slot, Window, bit};
use super::rules::{Entry, Point, Product};
use super::spans::{Coordinate, has};
use std::cell::Cell;
use std::ops::ControlFlow;

/// What a question needs besides the list.
#[derive(Debug)]
pub(super) struct Scratch {
    /// One bit for each set of destinations: those in `destinations`.
    marks: Vec<u64>,
    sources: Vec<u32>,
    destinations: Vec<u32>,
    /// Of each of these, with which sources it has a bucket.
    masks: Vec<u32>,
}

impl Scratch {
    fn clear(&mut self) {
        self.destinations
            .iter()
            .for_each(|set| self.marks[*set as usize / 64] = 0);
        self.destinations.clear();
        self.masks.clear();
        self.sources.clear();
    }
}

impl<N: Coordinate> List<N> {
    pub(super) fn scratch(&self) -> Scratch {
        let marks = vec![0; self.destinations.len() / 64 + 1];
        Scratch {
            marks,
            sources: Vec::new(),
            destinations: Vec::new(),
            masks: Vec::new(),
        }
    }

    /// Calls with every part of a rule in the window that holds a packet, in an order that the list alone settles. `near`: a part
    /// whose sets hold it, if one is known.
    #[inline]
    pub(super) fn at(
        &self,
        point: Point<N>,
        near: Option<u32>,
        window: &Window<'_>,
        scratch: &mut Scratch,
        mut found: impl FnMut(u32) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        scratch.clear();
        let Scratch {
            marks,
            sources,
            destinations,
            masks,
        } = scratch;
        let near = near.map(|part| self.entry(part).sets);
        let before = window.rules.1;
        self.by_source.at(
            &self.sources,
            point.source,
            near.map(|sets| sets[0]),
            before,
            |set| sources.push(set),
        );
        if sources.is_empty() {
            return ControlFlow::Continue(());
        }
        self.by_destination.at(
            &self.destinations,
            point.destination,
            near.map(|sets| sets[1]),
            before,
            |set| {
                destinations.push(set);
                masks.push(self.bucket_mask(set));
                marks[set as usize / 64] |= 1 << (set % 64);
            },
        );
        let mut look = |slot: &Slot| {
            if slot.service.0 > point.service
                || slot.service.1 < point.service
                || !window.has(slot.rule)
            {
                return ControlFlow::Continue(());
            }
            let entry = self.entry(slot.entry);
            if bit(entry.decision) & window.decisions == 0
                || !has(self.others.of(entry.sets[3]), point.other)
            {
                return ControlFlow::Continue(());
            }
            found(slot.entry)
        };
        for source in sources.iter() {
            let (from, end) = self.of_source(*source);
            if end - from <= self.limits.scanned {
                for (at, set) in self.destination_of[from..end].iter().enumerate() {
                    if marks[*set as usize / 64] >> (set % 64) & 1 == 1 {
                        look(&self.slots[from + at])?;
                    }
                }
                continue;
            }
            for (destination, mask) in destinations.iter().zip(masks.iter()) {
                if mask >> (source % 32) & 1 == 0 {
                    continue;
                }
                let Some((from, end)) = self.bucket(*source, *destination) else {
                    continue;
                };
                if end - from <= self.limits.bucket {
                    self.slots[from..end].iter().try_for_each(&mut look)?;
                } else {
                    self.slot_bounds().within(
                        (from, end),
                        &mut |bounds: &Bounds<N>| {
                            bounds.service.0 <= point.service
                                && bounds.service.1 >= point.service
                                && bounds.rule.0 < window.rules.1
                                && bounds.rule.1 >= window.rules.0
                        },
                        &mut |at| look(&self.slots[at]),
                    )?;
                }
            }
        }
        ControlFlow::Continue(())
    }

    /// Whether so many sets may hold a packet that looking at all of them takes long.
    fn is_crowded(&self, point: Point<N>) -> bool {
        let few = self.limits.few;
        self.by_source.may_crowd(few) && self.by_source.spans_around(point.source) > few
            || self.by_destination.may_crowd(few)
                && self.by_destination.spans_around(point.destination) > few
    }

    /// Calls with every part of a rule in the window that meets a set of packets, in an order that the list alone settles.
    pub(super) fn meeting(
        &self,
        region: &Product<'_, N>,
        window: &Window<'_>,
        scratch: &mut Scratch,
        mut found: impl FnMut(u32) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let hull = |spans: &[(N, N)]| (spans[0].0, spans[spans.len() - 1].1);
        let (source, destination) = (hull(region.source), hull(region.destination));
        let service = (
            region.service[0].0,
            region.service[region.service.len() - 1].1,
        );
        let mut look = |at: usize| {
            let slot = &self.slots[at];
            if slot.service.0 > service.1 || slot.service.1 < service.0 || !window.has(slot.rule) {
                return ControlFlow::Continue(());
            }
            let entry = self.entry(slot.entry);
            if bit(entry.decision) & window.decisions == 0
                || !self.product(slot.entry).meets(region)
            {
                return ControlFlow::Continue(());
            }
            found(slot.entry)
        };
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
        let (from, end) = window.rules;
        if end.saturating_sub(from) <= self.limits.between {
            let parts = |rule: u32| self.parts(rule);
            return (from..end)
                .filter(|rule| window.has(*rule))
                .flat_map(parts)
                .try_for_each(|part| {
                    let entry = self.entry(part);
                    if bit(entry.decision) & window.decisions == 0
                        || !self.product(part).meets(region)
                    {
                        return ControlFlow::Continue(());
                    }
                    found(part)
                });
        }
        let before = window.rules.1;
        let few = self.limits.few;
        let wide = [
            self.by_source.inside(source) > few,
            self.by_destination.inside(destination) > few,
        ];
        scratch.clear();
        let Scratch {
            marks,
            sources,
            destinations,
            ..
        } = scratch;
        if !wide[0] {
            self.by_source
                .meeting(&self.sources, source, before, |set| sources.push(set));
            distinct(sources);
        }
        if !wide[1] {
            self.by_destination
                .meeting(&self.destinations, destination, before, |set| {
                    destinations.push(set)
                });
            distinct(destinations);
            destinations
                .iter()
                .for_each(|set| marks[*set as usize / 64] |= 1 << (set % 64));
        }
        match wide {
            [false, false] => {
                for source in sources.iter() {
                    let (from, end) = self.of_source(*source);
                    if end - from <= self.limits.scanned || (end - from) / 8 <= destinations.len() {
                        for (at, set) in (from..).zip(&self.destination_of[from..end]) {
                            if marks[*set as usize / 64] >> (set % 64) & 1 == 1 {
                                look(at)?;
                            }
                        }
                        continue;
                    }
                    for destination in destinations.iter() {
                        let Some(slots) = self.bucket(*source, *destination) else {
                            continue;
                        };
                        self.slot_bounds().within(slots, &mut may, &mut look)?;
                    }
                }
                ControlFlow::Continue(())
            }
            [false, true] => sources
                .iter()
                .try_for_each(|set| self.by_set(0).within(*set, &mut may, &mut look)),
            [true, false] => destinations
                .iter()
                .try_for_each(|set| self.by_set(1).within(*set, &mut may, &mut look)),
            // By boxes alone.
            [true, true] => self
                .slot_bounds()
                .within((0, self.slots.len()), &mut may, &mut look),
        }
    }

    /// Of a packet that very many sets may hold, the first part of a rule in the window that holds it and counts, if one is
    /// found soon. `None`: it may be that there is one.
    pub(super) fn first_of_many(
        &self,
        point: Point<N>,
        window: &Window<'_>,
        counts: impl Fn(&Entry) -> bool,
    ) -> Option<u32> {
        if !self.is_crowded(point) {
            return None;
        }
        let looks = Cell::new(0);
        let mut first = None;
        let mut may = |bounds: &Bounds<N>| {
            looks.set(looks.get() + 1);
            bounds.service.0 <= point.service
                && bounds.service.1 >= point.service
                && bounds.source.0 <= point.source
                && bounds.source.1 >= point.source
                && bounds.destination.0 <= point.destination
                && bounds.destination.1 >= point.destination
                && bounds.decisions & window.decisions != 0
        };
        let mut look = |at: usize| {
            let part = self.part(at);
            let entry = self.entry(part);
            looks.set(looks.get() + 1);
            if window.has(entry.rule)
                && bit(entry.decision) & window.decisions != 0
                && counts(entry)
                && self.product(part).has(point)
            {
                first = Some(part);
                return ControlFlow::Break(());
            }
            if looks.get() < self.limits.looks {
                ControlFlow::Continue(())
            } else {
                ControlFlow::Break(())
            }
        };
        let (from, end) = window.rules;
        if from < end {
            let parts = (self.places(from).start, self.places(end - 1).end);
            let _ = self.part_bounds().within(parts, &mut may, &mut look);
        }
        first
    }
}

fn distinct(sets: &mut Vec<u32>) {
    sets.sort_unstable();
    sets.dedup();
}
