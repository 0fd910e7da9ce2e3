//! Maps from packets to labels, and sets of packets: the public face of the interval diagrams.

mod set;

pub use set::Row;
use set::split;

use super::node::{
    Combine, Label, Merge, Node, Overlay, Restrict, Slice, Slices, Without, meet, merge, narrowed,
    within,
};
use super::{Entry, Packet, service};
use crate::address::{Addresses, Block, Family, last_of};
use crate::intervals::Intervals;
use rustc_hash::{FxHashMap, FxHashSet};
use std::marker::PhantomData;
use std::net::IpAddr;
use std::sync::Arc;

/// How many dimensions there are below the family: source, destination, service, source port.
pub(super) const HEIGHT: usize = 4;

/// A partial map from packets to labels. Canonical: `==` is equality of the maps.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PacketMap<L: Label> {
    pub(super) v4: Option<Node<L>>,
    pub(super) v6: Option<Node<L>>,
}

/// A set of packets. Canonical: `==` is equality of the sets.
pub type PacketSet = PacketMap<()>;

impl<L: Label> Default for PacketMap<L> {
    fn default() -> Self {
        Self { v4: None, v6: None }
    }
}

/// The largest number in each dimension.
pub(super) fn limits(family: Family) -> [u128; HEIGHT] {
    [
        last_of(family),
        last_of(family),
        u128::from(service::LAST),
        u128::from(u16::MAX),
    ]
}

/// The box of `label` over the given dimensions; nothing if one is empty.
pub(super) fn product<L: Label>(dimensions: &[&Intervals], label: L) -> Option<Node<L>> {
    let mut child = Node::Leaf(label);
    for dimension in dimensions.iter().rev() {
        let mut slices = Slices::new();
        for &(first, last) in dimension.spans() {
            slices.push(first, last, child.clone());
        }
        child = slices.finish()?;
    }
    Some(child)
}

impl<L: Label> PacketMap<L> {
    /// The map that gives no packet a label.
    pub fn empty() -> Self {
        Self::default()
    }

    /// The map that gives every packet that exists the same label.
    pub fn constant(label: L) -> Self {
        let everywhere = Addresses::all();
        Self::fields(
            &everywhere,
            &everywhere,
            service::all,
            &Intervals::span(0, u128::from(u16::MAX)),
            label,
        )
    }

    /// One label on a product. `services` gives the services for a family; those that do not exist in it are left
    /// out. `source_ports` restricts protocols with ports only; if it is not all ports, protocols without
    /// ports are left out.
    pub fn fields(
        sources: &Addresses,
        destinations: &Addresses,
        services: impl Fn(Family) -> Intervals,
        source_ports: &Intervals,
        label: L,
    ) -> Self {
        let mut map = Self::default();
        let all_ports = Intervals::span(0, u128::from(u16::MAX));
        for family in Family::BOTH {
            let mut services = services(family).intersection(&service::all(family));
            if *source_ports != all_ports {
                services = services.intersection(&service::all_with_ports());
            }
            let dimensions = [
                sources.of(family),
                destinations.of(family),
                &services,
                source_ports,
            ];
            *map.side_mut(family) = product(&dimensions, label);
        }
        map
    }

    /// One label on the packets of an entry.
    pub fn of_entry(entry: &Entry, label: L) -> Self {
        let mut map = Self::default();
        let dimensions = [
            &entry.sources,
            &entry.destinations,
            &entry.services,
            &entry.source_ports,
        ];
        *map.side_mut(entry.family) = product(&dimensions, label);
        map
    }

    pub(super) fn side(&self, family: Family) -> Option<&Node<L>> {
        match family {
            Family::V4 => self.v4.as_ref(),
            Family::V6 => self.v6.as_ref(),
        }
    }

    pub(super) fn side_mut(&mut self, family: Family) -> &mut Option<Node<L>> {
        match family {
            Family::V4 => &mut self.v4,
            Family::V6 => &mut self.v6,
        }
    }

    fn merged<M: Merge<A = L>>(&self, other: &PacketMap<M::B>, mut op: M) -> PacketMap<M::C> {
        let result = PacketMap {
            v4: merge(&mut op, self.v4.as_ref(), other.v4.as_ref()),
            v6: merge(&mut op, self.v6.as_ref(), other.v6.as_ref()),
        };
        debug_assert!(result.check(), "a merge restores the canonical form");
        result
    }

    /// Whether the canonical form holds; for tests and debug builds.
    pub fn check(&self) -> bool {
        Family::BOTH
            .iter()
            .all(|family| self.side(*family).is_none_or(Node::check))
    }

    /// Whether no packet has a label.
    pub fn is_empty(&self) -> bool {
        self.v4.is_none() && self.v6.is_none()
    }

    /// This map where it has a label, else `other`: so the earlier of two rules decides.
    #[must_use]
    pub fn overlay(&self, other: &Self) -> Self {
        self.merged(other, Overlay(PhantomData))
    }

    /// The overlay of many maps, the first on top. Cost: a balanced tree of overlays.
    pub fn overlay_all(mut maps: Vec<Self>) -> Self {
        while maps.len() > 1 {
            let mut halved = Vec::with_capacity(maps.len().div_ceil(2));
            let mut pairs = maps.chunks(2);
            for pair in &mut pairs {
                halved.push(if let [upper, lower] = pair {
                    upper.overlay(lower)
                } else {
                    pair[0].clone()
                });
            }
            maps = halved;
        }
        maps.pop().unwrap_or_default()
    }

    /// The map on the packets of `set` only.
    #[must_use]
    pub fn restrict<M: Label>(&self, set: &PacketMap<M>) -> Self {
        self.merged(set, Restrict(PhantomData))
    }

    /// The map on the packets from these sources to these destinations only; none for all.
    #[must_use]
    pub fn between(&self, sources: Option<&Addresses>, destinations: Option<&Addresses>) -> Self {
        let mut map = Self::default();
        for family in Family::BOTH {
            let Some(node) = self.side(family) else {
                continue;
            };
            let to = destinations.map(|to| to.of(family).spans());
            // Rows that share what is below share what is left of it.
            let mut known: FxHashMap<usize, Option<Node<L>>> = FxHashMap::default();
            let mut row = |child: &Node<L>| match to {
                None => Some(child.clone()),
                Some(to) => known
                    .entry(child.slices().as_ptr() as usize)
                    .or_insert_with(|| narrowed(child, to, |below| Some(below.clone())))
                    .clone(),
            };
            let everywhere = [(0, u128::MAX)];
            let from = sources.map_or(&everywhere[..], |from| from.of(family).spans());
            *map.side_mut(family) = narrowed(node, from, &mut row);
        }
        debug_assert!(map.check(), "what is narrowed is canonical");
        map
    }

    /// The map without the packets of `set`.
    #[must_use]
    pub fn without<M: Label>(&self, set: &PacketMap<M>) -> Self {
        self.merged(set, Without(PhantomData))
    }

    /// Where both maps have a label, what `join` makes of the two; nothing elsewhere.
    pub fn combine<M: Label, N: Label>(
        &self,
        other: &PacketMap<M>,
        join: impl FnMut(L, M) -> Option<N>,
    ) -> PacketMap<N> {
        self.merged(other, Combine(join, PhantomData))
    }

    /// Every label replaced, or dropped.
    pub fn relabel<N: Label>(&self, mut change: impl FnMut(L) -> Option<N>) -> PacketMap<N> {
        self.combine(self, |label, _| change(label))
    }

    /// All services of packets that have a label.
    pub fn services(&self) -> Intervals {
        let mut seen = FxHashSet::default();
        let mut spans = Vec::new();
        for family in Family::BOTH {
            for source in self.side(family).map_or(&[][..], Node::slices) {
                for destination in source.child.slices() {
                    if seen.insert(destination.child.slices().as_ptr() as usize) {
                        spans.extend(
                            destination
                                .child
                                .slices()
                                .iter()
                                .map(|slice| (slice.first, slice.last)),
                        );
                    }
                }
            }
        }
        Intervals::from_spans(spans)
    }

    /// All services with ports of packets that have a label.
    pub fn services_with_ports(&self) -> Intervals {
        self.services().intersection(&service::all_with_ports())
    }

    /// All source addresses of packets that have a label.
    pub fn sources(&self) -> Addresses {
        let of = |family: Family| {
            let slices = self.side(family).map_or(&[][..], Node::slices);
            Addresses::from_intervals(
                family,
                Intervals::from_spans(slices.iter().map(|s| (s.first, s.last))),
            )
        };
        of(Family::V4).union(&of(Family::V6))
    }

    /// All destination addresses of packets that have a label.
    pub fn destinations(&self) -> Addresses {
        let of = |family: Family| {
            let slices = self.side(family).map_or(&[][..], Node::slices);
            let mut seen = FxHashSet::default();
            let fresh = slices
                .iter()
                .filter(|slice| seen.insert(slice.child.slices().as_ptr() as usize));
            let spans =
                fresh.flat_map(|slice| slice.child.slices().iter().map(|s| (s.first, s.last)));
            Addresses::from_intervals(family, Intervals::from_spans(spans))
        };
        of(Family::V4).union(&of(Family::V6))
    }

    /// The packets whose label is chosen.
    pub fn select(&self, mut chosen: impl FnMut(L) -> bool) -> PacketSet {
        self.relabel(|label| chosen(label).then_some(()))
    }

    /// The packets that have a label.
    pub fn domain(&self) -> PacketSet {
        self.select(|_| true)
    }

    /// The label of one packet.
    pub fn get(&self, packet: &Packet) -> Option<L> {
        let port = if service::has_ports(packet.protocol()) {
            packet.source_port
        } else {
            0
        };
        let point = [
            packet.source,
            packet.destination,
            u128::from(packet.service),
            u128::from(port),
        ];
        let mut node = self.side(packet.family)?;
        for number in point {
            let slices = node.slices();
            let after = slices.partition_point(|slice| slice.first <= number);
            let slice = slices
                .get(after.checked_sub(1)?)
                .filter(|slice| slice.last >= number)?;
            node = &slice.child;
        }
        match node {
            Node::Leaf(label) => Some(*label),
            Node::Branch(_) => None,
        }
    }

    /// The packets of each label, in the order in which labels occur first from the lowest packet upwards.
    pub fn regions(&self) -> Vec<(L, PacketSet)> {
        let mut regions: Vec<(L, PacketSet)> = Vec::new();
        for family in Family::BOTH {
            let Some(node) = self.side(family) else {
                continue;
            };
            for (label, part) in split(node, &mut FxHashMap::default()).iter() {
                let at = regions.iter().position(|(known, _)| known == label);
                let at = at.unwrap_or_else(|| {
                    regions.push((*label, PacketSet::default()));
                    regions.len() - 1
                });
                *regions[at].1.side_mut(family) = Some(part.clone());
            }
        }
        regions
    }

    /// The lowest packet that has a label: by family, source, destination, service, source port.
    pub fn lowest(&self) -> Option<Packet> {
        Family::BOTH.into_iter().find_map(|family| {
            let mut node = self.side(family)?;
            let mut point = [0_u128; HEIGHT];
            for number in &mut point {
                let slice = node.slices().first()?;
                *number = slice.first;
                node = &slice.child;
            }
            Some(Self::packet(family, point))
        })
    }

    fn packet(family: Family, point: [u128; HEIGHT]) -> Packet {
        let service = u32::try_from(point[2]).expect("services are below 2^24");
        let port = u16::try_from(point[3]).expect("ports are below 2^16");
        Packet {
            family,
            source: point[0],
            destination: point[1],
            service,
            source_port: port,
        }
    }

    /// Disjoint boxes that together are the domain, in ascending order, with their labels.
    pub fn boxes(&self) -> Vec<(Entry, L)> {
        let mut out = Vec::new();
        for family in Family::BOTH {
            if let Some(node) = self.side(family) {
                let mut spans = Vec::with_capacity(HEIGHT);
                collect_boxes(family, node, &mut spans, &mut out);
            }
        }
        out
    }
}

fn collect_boxes<L: Label>(
    family: Family,
    node: &Node<L>,
    spans: &mut Vec<Intervals>,
    out: &mut Vec<(Entry, L)>,
) {
    match node {
        Node::Leaf(label) => {
            if let [sources, destinations, services, source_ports] = spans.as_slice() {
                let [sources, destinations] = [sources.clone(), destinations.clone()];
                let [services, source_ports] = [services.clone(), source_ports.clone()];
                out.push((
                    Entry {
                        family,
                        sources,
                        destinations,
                        services,
                        source_ports,
                    },
                    *label,
                ));
            }
        }
        Node::Branch(slices) => {
            for (child, span) in grouped(slices) {
                spans.push(span);
                collect_boxes(family, child, spans, out);
                spans.pop();
            }
        }
    }
}

/// The distinct children of a branch, each with all the numbers that lead to it, in order of first occurrence.
pub(super) fn grouped<L: Label>(slices: &[Slice<L>]) -> Vec<(&Node<L>, Intervals)> {
    type Spans = Vec<(u128, u128)>;
    let mut groups: Vec<(&Node<L>, Spans)> = Vec::new();
    let mut by_pointer: FxHashMap<usize, usize> = FxHashMap::default();
    for slice in slices {
        let pointer = match &slice.child {
            Node::Branch(below) => Some(below.as_ptr() as usize),
            Node::Leaf(_) => None,
        };
        let known = pointer.and_then(|pointer| by_pointer.get(&pointer).copied());
        let at = known.or_else(|| groups.iter().position(|(child, _)| **child == slice.child));
        let at = at.unwrap_or_else(|| {
            groups.push((&slice.child, Vec::new()));
            groups.len() - 1
        });
        if let Some(pointer) = pointer {
            by_pointer.insert(pointer, at);
        }
        groups[at].1.push((slice.first, slice.last));
    }
    groups
        .into_iter()
        .map(|(child, spans)| (child, Intervals::from_spans(spans)))
        .collect()
}

/// The children of a branch by where they are held, each with all the numbers that lead to it, in order of first occurrence.
fn by_pointer<L: Label>(slices: &[Slice<L>]) -> Vec<(&Node<L>, Intervals)> {
    let mut index: FxHashMap<usize, usize> = FxHashMap::default();
    type Group<'n, L> = (&'n Node<L>, Vec<(u128, u128)>);
    let mut groups: Vec<Group<'_, L>> = Vec::new();
    for slice in slices {
        let at = *index
            .entry(slice.child.slices().as_ptr() as usize)
            .or_insert_with(|| {
                groups.push((&slice.child, Vec::new()));
                groups.len() - 1
            });
        groups[at].1.push((slice.first, slice.last));
    }
    groups
        .into_iter()
        .map(|(child, spans)| (child, Intervals::from_spans(spans)))
        .collect()
}
