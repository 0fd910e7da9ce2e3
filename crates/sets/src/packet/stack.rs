//! Lists of products, of which the first that holds a packet decides, as one map.
//!
//! *Problem.* A rule is a product of sets, and a list of rules a stack of them. Laid over each other one by one, each touches
//! every slice of those below, again and again.
//!
//! *Method.* One pass over each dimension: at every number the layers that hold it are known, and what lies below
//! depends on these alone, so that it is built once for each set of layers that occurs. Layers under one that takes all
//! that is left are out.
//!
//! *Cost.* Per dimension and set of layers, sorting its intervals; then the number of intervals times the layers that
//! overlap there, which are few in lists that people write.

use super::map::{HEIGHT, limits};
use super::node::{Label, Node, Slices};
use super::{PacketMap, service};
use crate::address::{Addresses, Family};
use crate::intervals::Intervals;
use rustc_hash::FxHashMap;
use smallvec::SmallVec;

/// A product of sources, destinations, services and source ports, of both families.
#[derive(Clone, Debug)]
pub struct Product {
    sides: [[Intervals; HEIGHT]; 2],
}

impl Product {
    /// The packets of [`PacketMap::fields`].
    pub fn new(
        sources: &Addresses,
        destinations: &Addresses,
        services: impl Fn(Family) -> Intervals,
        source_ports: &Intervals,
    ) -> Self {
        let every_port = *source_ports == Intervals::span(0, u128::from(u16::MAX));
        let sides = Family::BOTH.map(|family| {
            let mut numbers = services(family).intersection(&service::all(family));
            if !every_port {
                numbers = numbers.intersection(&service::all_with_ports());
            }
            [
                sources.of(family).clone(),
                destinations.of(family).clone(),
                numbers,
                source_ports.clone(),
            ]
        });
        Self { sides }
    }

    /// All services, sources and destinations of its packets.
    pub fn extent(&self) -> (Intervals, Addresses, Addresses) {
        let mut all = (Intervals::empty(), Addresses::empty(), Addresses::empty());
        for (family, sides) in Family::BOTH.into_iter().zip(&self.sides) {
            if sides.iter().all(|numbers| !numbers.is_empty()) {
                let [sources, destinations, services, _] = sides;
                let of = |numbers: &Intervals| Addresses::from_intervals(family, numbers.clone());
                all = (
                    all.0.union(services),
                    all.1.union(&of(sources)),
                    all.2.union(&of(destinations)),
                );
            }
        }
        all
    }

    /// The map that gives these packets a label.
    pub fn map<L: Label>(&self, label: L) -> PacketMap<L> {
        let mut map = PacketMap::default();
        for (family, sides) in Family::BOTH.into_iter().zip(&self.sides) {
            *map.side_mut(family) = super::map::product(&sides.each_ref(), label);
        }
        map
    }
}

type Layers = SmallVec<[u32; 8]>;

struct Stack<'l, L> {
    layers: &'l [(Product, Option<L>)],
    family: usize,
    limits: [u128; HEIGHT],
    /// For each layer the dimension from which on it takes all there is.
    full_from: Vec<usize>,
    below: [FxHashMap<Layers, Option<Node<L>>>; HEIGHT],
}

impl<L: Label> PacketMap<L> {
    /// The label of the first product that holds a packet; none there if that has none.
    pub fn stacked(layers: &[(Product, Option<L>)]) -> Self {
        let mut map = Self::default();
        for (at, family) in Family::BOTH.into_iter().enumerate() {
            let limits = limits(family);
            let whole = service::all(family);
            let full = |numbers: &Intervals, dimension: usize| match dimension {
                2 => *numbers == whole,
                _ => *numbers.spans() == [(0, limits[dimension])],
            };
            let full_from = |(product, _): &(Product, Option<L>)| {
                let sides = &product.sides[at];
                (0..HEIGHT)
                    .rev()
                    .take_while(|dimension| full(&sides[*dimension], *dimension))
                    .last()
                    .unwrap_or(HEIGHT)
            };
            let mut stack = Stack {
                layers,
                family: at,
                limits,
                full_from: layers.iter().map(full_from).collect(),
                below: Default::default(),
            };
            let some = |(product, _): &(Product, Option<L>)| {
                product.sides[at].iter().all(|numbers| !numbers.is_empty())
            };
            let all: Layers = (0_u32..)
                .zip(layers)
                .filter(|(_, layer)| some(layer))
                .map(|(layer, _)| layer)
                .collect();
            *map.side_mut(family) = stack.level(0, &all);
        }
        debug_assert!(map.check(), "a stack is canonical");
        map
    }
}

impl<L: Label> Stack<'_, L> {
    /// What these layers make of the dimensions from this one on.
    fn level(&mut self, depth: usize, layers: &[u32]) -> Option<Node<L>> {
        let first = *layers.first()?;
        if depth == HEIGHT {
            return self.layers[first as usize].1.map(Node::Leaf);
        }
        let takes_all = layers
            .iter()
            .position(|layer| self.full_from[*layer as usize] <= depth);
        let layers = &layers[..takes_all.map_or(layers.len(), |at| at + 1)];
        if let Some(known) = self.below[depth].get(layers) {
            return known.clone();
        }
        // Where the intervals of a layer begin and end it is in or out.
        let mut turns: SmallVec<[(u128, u32); 32]> = SmallVec::new();
        for layer in layers {
            for (first, last) in self.layers[*layer as usize].0.sides[self.family][depth].spans() {
                turns.push((*first, *layer));
                if *last < self.limits[depth] {
                    turns.push((last + 1, *layer));
                }
            }
        }
        turns.sort_unstable();
        let mut out = Slices::new();
        let mut inside = Layers::new();
        let mut next = 0;
        while let Some((from, _)) = turns.get(next).copied() {
            while let Some((_, layer)) = turns.get(next).filter(|(at, _)| *at == from) {
                match inside.binary_search(layer) {
                    Ok(at) => _ = inside.remove(at),
                    Err(at) => inside.insert(at, *layer),
                }
                next += 1;
            }
            let last = turns.get(next).map_or(self.limits[depth], |(at, _)| at - 1);
            if let Some(child) = self.level(depth + 1, &inside) {
                out.push(from, last, child);
            }
        }
        let node = out.finish();
        self.below[depth].insert(layers.into(), node.clone());
        node
    }
}
