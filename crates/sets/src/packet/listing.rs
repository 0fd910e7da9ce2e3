//! A packet set as a list that a person can read: entries of which none can be dropped and no two merged.
//!
//! *Terms.* An entry is a product: these sources, these destinations, these services, these source ports, each a set.
//! Entries may overlap, since "any on 80; 10.0.0.0/8 on 22" reads better than a partition.
//!
//! *Method.* Rows of a diagram with a larger child also admit what a smaller child admits; so each box below a child
//! is widened to all rows that admit the whole box. Then what others cover is dropped, what remains is
//! reduced to what it alone must say, and entries that differ in one dimension only are joined: the steps
//! expand, irredundant, reduce of two-level logic minimisation (Brayton et al., 1984).
//!
//! *Cost.* Quadratic in the number of distinct children, which is small for the rules of one interface.

use super::map::{PacketSet, grouped, limits};
use super::node::Node;
use super::service;
use crate::address::Family;
use crate::intervals::Intervals;

/// The packets of one family with these sources, destinations, services and source ports.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The family of both addresses.
    pub family: Family,
    /// Source addresses.
    pub sources: Intervals,
    /// Destination addresses.
    pub destinations: Intervals,
    /// Services: see [`service`].
    pub services: Intervals,
    /// Source ports: all of them where the services include a protocol without ports.
    pub source_ports: Intervals,
}

impl Entry {
    fn dimensions(&self) -> [&Intervals; 4] {
        [
            &self.sources,
            &self.destinations,
            &self.services,
            &self.source_ports,
        ]
    }

    fn dimensions_mut(&mut self) -> [&mut Intervals; 4] {
        [
            &mut self.sources,
            &mut self.destinations,
            &mut self.services,
            &mut self.source_ports,
        ]
    }

    /// Whether every source address of the family is in it.
    pub fn any_source(&self) -> bool {
        self.sources == Intervals::span(0, limits(self.family)[0])
    }

    /// Whether every destination address of the family is in it.
    pub fn any_destination(&self) -> bool {
        self.destinations == Intervals::span(0, limits(self.family)[1])
    }

    /// Whether every source port is in it.
    pub fn any_source_port(&self) -> bool {
        self.source_ports == Intervals::span(0, limits(self.family)[3])
    }

    /// The services in words.
    pub fn service_texts(&self) -> Vec<String> {
        service::texts(self.family, &self.services)
    }

    /// The one entry that is the union of both, if there is one.
    fn joined(&self, other: &Self) -> Option<Self> {
        if self.family != other.family {
            return None;
        }
        let mut differing = (0..4).filter(|at| self.dimensions()[*at] != other.dimensions()[*at]);
        let at = differing.next()?;
        if differing.next().is_some() {
            return None;
        }
        let mut joined = self.clone();
        let union = self.dimensions()[at].union(other.dimensions()[at]);
        *joined.dimensions_mut()[at] = union;
        Some(joined)
    }
}

/// The set as entries: together exactly the set, none to be dropped, no two to be merged.
pub fn entries(set: &PacketSet) -> Vec<Entry> {
    let mut all = Vec::new();
    for family in Family::BOTH {
        if let Some(node) = set.side(family) {
            let mut found: Vec<Entry> = boxes_below(node)
                .into_iter()
                .filter_map(|b| from_box(family, b))
                .collect();
            drop_covered(&mut found, None);
            reduce(&mut found);
            join(&mut found);
            all.extend(found);
        }
    }
    debug_assert!(PacketSet::union_all(all.iter().map(|e| PacketSet::of_entry(e, ()))) == *set);
    all
}

/// Wide entries that cover `set` and lie within `allowed`, which holds the set: for lists that are read from the top,
/// where a later entry may be wide because earlier ones have taken their part.
pub fn entries_within(set: &PacketSet, allowed: &PacketSet) -> Vec<Entry> {
    let mut all = Vec::new();
    for family in Family::BOTH {
        if let (Some(_), Some(node)) = (set.side(family), allowed.side(family)) {
            let boxes = boxes_below(node)
                .into_iter()
                .filter_map(|sides| from_box(family, sides));
            let mut found: Vec<Entry> = boxes.filter(|entry| set_of(entry).overlaps(set)).collect();
            drop_covered(&mut found, Some(set));
            all.extend(found.into_iter().map(|entry| tightened(entry, set)));
        }
    }
    all
}

/// An entry as narrow as what it says of `set`, in each dimension where that takes no more words.
fn tightened(mut entry: Entry, set: &PacketSet) -> Entry {
    let said = set_of(&entry).intersection(set).boxes();
    for at in 0..4 {
        let spans = said
            .iter()
            .flat_map(|(piece, ())| piece.dimensions()[at].spans().to_vec());
        let narrow = Intervals::from_spans(spans);
        let wide = &mut entry.dimensions_mut()[at];
        if narrow.spans().len() <= wide.spans().len() {
            **wide = narrow;
        }
    }
    entry
}

fn from_box(family: Family, sides: Vec<Intervals>) -> Option<Entry> {
    let [sources, destinations, services, source_ports] = sides.try_into().ok()?;
    let mut entry = Entry {
        family,
        sources,
        destinations,
        services,
        source_ports,
    };
    // What has no ports is told with all of them, in a box of its own.
    if !entry.any_source_port() {
        entry.services = entry.services.intersection(&service::all_with_ports());
    }
    (!entry.services.is_empty()).then_some(entry)
}

/// Wide boxes of the dimensions from this node on, that together are its set.
fn boxes_below(node: &Node<()>) -> Vec<Vec<Intervals>> {
    let slices = node.slices();
    if slices.is_empty() {
        return vec![Vec::new()];
    }
    let rows = grouped(slices);
    let mut boxes = Vec::new();
    for (child, numbers) in &rows {
        for below in boxes_below(child) {
            let admits = |(other, _): &&(&Node<()>, Intervals)| {
                std::ptr::eq(*other, *child) || holds(other, &below)
            };
            let wide = rows
                .iter()
                .filter(admits)
                .fold(numbers.clone(), |sum, (_, more)| sum.union(more));
            let mut whole = vec![wide];
            whole.extend(below);
            if !boxes.contains(&whole) {
                boxes.push(whole);
            }
        }
    }
    boxes
}

/// Whether the whole box lies in the node's set.
fn holds(node: &Node<()>, sides: &[Intervals]) -> bool {
    let Some((here, below)) = sides.split_first() else {
        return true;
    };
    let inside: Vec<_> = node
        .slices()
        .iter()
        .filter(|slice| holds(&slice.child, below))
        .collect();
    here.is_subset(&Intervals::from_spans(
        inside.iter().map(|slice| (slice.first, slice.last)),
    ))
}

fn set_of(entry: &Entry) -> PacketSet {
    PacketSet::of_entry(entry, ())
}

/// Drops entries that the others cover, narrow ones first; only what lies in `wanted` needs to be covered.
fn drop_covered(entries: &mut Vec<Entry>, wanted: Option<&PacketSet>) {
    let mut order: Vec<usize> = (0..entries.len()).collect();
    order.sort_by_cached_key(|at| (set_of(&entries[*at]).count(), *at));
    let mut kept = vec![true; entries.len()];
    let within =
        |set: PacketSet| wanted.map_or_else(|| set.clone(), |wanted| set.intersection(wanted));
    let sets: Vec<PacketSet> = entries.iter().map(|entry| within(set_of(entry))).collect();
    for at in order {
        let others = sets
            .iter()
            .enumerate()
            .filter(|(other, _)| *other != at && kept[*other]);
        let mut rest = sets[at].clone();
        for (_, set) in others {
            rest = rest.difference(set);
            if rest.is_empty() {
                break;
            }
        }
        kept[at] = !rest.is_empty();
    }
    let mut kept = kept.into_iter();
    entries.retain(|_| kept.next().unwrap_or(true));
}

/// Narrows each entry to the smallest product that holds what no other entry says.
fn reduce(entries: &mut [Entry]) {
    for at in 0..entries.len() {
        let mut rest = set_of(&entries[at]);
        for (other, entry) in entries.iter().enumerate() {
            if other != at {
                rest = rest.difference(&set_of(entry));
            }
        }
        let pieces = rest.boxes();
        let project = |at: usize| {
            Intervals::from_spans(
                pieces
                    .iter()
                    .flat_map(|(piece, ())| piece.dimensions()[at].spans().to_vec()),
            )
        };
        let narrowed: Vec<Intervals> = (0..4).map(project).collect();
        if let Some(entry) = from_box(entries[at].family, narrowed) {
            entries[at] = entry;
        }
    }
}

fn join(entries: &mut Vec<Entry>) {
    let mut at = 0;
    while at < entries.len() {
        let found = (at + 1..entries.len())
            .find_map(|other| Some((other, entries[at].joined(&entries[other])?)));
        if let Some((other, joined)) = found {
            entries.remove(other);
            entries[at] = joined;
            at = 0;
        } else {
            at += 1;
        }
    }
}
