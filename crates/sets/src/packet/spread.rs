//! What is said of one address, said of all that are like it.

use super::map::{PacketMap, PacketSet};
use super::node::{Node, Slices};
use crate::address::Family;
use rustc_hash::FxHashMap;

/// For an address that stands for others: all that it stands for, itself among them, in ascending order.
pub type Members = FxHashMap<(Family, u128), Vec<u128>>;

struct Spread<'m> {
    family: Family,
    /// The addresses that stand for others, in ascending order: of senders, of receivers.
    of: [(&'m Members, Vec<u128>); 2],
    below: FxHashMap<usize, Node<()>>,
}

impl PacketSet {
    /// The packets whose source and destination are in this set, or stand for such: what has one of a group's first address has all
    /// of the group. Cost: linear in the size of the result.
    #[must_use]
    pub fn spread(&self, sources: &Members, destinations: &Members) -> Self {
        // Equal parts held once, so that neighbours are compared by where they are held.
        let one = self.shared();
        let side = |family: Family| {
            let first = |members: &Members| {
                let mut all: Vec<u128> = members
                    .keys()
                    .filter(|(of, _)| *of == family)
                    .map(|(_, one)| *one)
                    .collect();
                all.sort_unstable();
                all
            };
            let of = [
                (sources, first(sources)),
                (destinations, first(destinations)),
            ];
            let mut spread = Spread {
                family,
                of,
                below: FxHashMap::default(),
            };
            one.side(family).map(|node| spread.level(node, 0))
        };
        PacketMap {
            v4: side(Family::V4),
            v6: side(Family::V6),
        }
    }
}

impl Spread<'_> {
    fn level(&mut self, node: &Node<()>, depth: usize) -> Node<()> {
        let key = node.slices().as_ptr() as usize;
        if depth == 1
            && let Some(known) = self.below.get(&key)
        {
            return known.clone();
        }
        let mut pieces: Vec<(u128, u128, Node<()>)> = Vec::new();
        for slice in node.slices() {
            let child = if depth == 0 {
                self.level(&slice.child, 1)
            } else {
                slice.child.clone()
            };
            let (members, firsts) = &self.of[depth];
            let from = firsts.partition_point(|first| *first < slice.first);
            let mut at = Some(slice.first);
            for first in firsts[from..]
                .iter()
                .take_while(|first| **first <= slice.last)
            {
                if let Some(start) = at.filter(|start| *start < *first) {
                    pieces.push((start, first - 1, child.clone()));
                }
                pieces.extend(
                    members[&(self.family, *first)]
                        .iter()
                        .map(|one| (*one, *one, child.clone())),
                );
                at = first.checked_add(1);
            }
            if let Some(start) = at.filter(|start| *start <= slice.last) {
                pieces.push((start, slice.last, child));
            }
        }
        pieces.sort_by_key(|(first, _, _)| *first);
        let mut out = Slices::new();
        for (first, last, child) in pieces {
            out.push(first, last, child);
        }
        let built = out.finish().unwrap_or_else(|| node.clone());
        if depth == 1 {
            self.below.insert(key, built.clone());
        }
        built
    }
}
