//! Sets of packets: maps with one label.

use super::*;
use crate::address::address_of;

/// Some sources, and what they send to whom: see [`PacketSet::rows`](PacketMap::rows).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// The sources, of one family.
    pub sources: Addresses,
    /// The destinations of each set of services.
    pub destinations: Vec<(Addresses, Intervals)>,
}

pub(super) type Split<L> = Arc<Vec<(L, Node<()>)>>;

pub(super) fn split<L: Label>(node: &Node<L>, memo: &mut FxHashMap<usize, Split<L>>) -> Split<L> {
    let slices = match node {
        Node::Leaf(label) => return Arc::new(vec![(*label, Node::Leaf(()))]),
        Node::Branch(slices) => slices,
    };
    let key = slices.as_ptr() as usize;
    if let Some(known) = memo.get(&key) {
        return known.clone();
    }
    let mut parts: Vec<(L, Slices<()>)> = Vec::new();
    for slice in slices.iter() {
        for (label, child) in split(&slice.child, memo).iter() {
            let at = parts.iter().position(|(known, _)| known == label);
            let at = at.unwrap_or_else(|| {
                parts.push((*label, Slices::new()));
                parts.len() - 1
            });
            parts[at].1.push(slice.first, slice.last, child.clone());
        }
    }
    let finished = parts
        .into_iter()
        .filter_map(|(label, part)| Some((label, part.finish()?)))
        .collect();
    let result = Arc::new(finished);
    memo.insert(key, Arc::clone(&result));
    result
}

impl PacketSet {
    /// Who sends what to whom: sources that fare alike, each with its destinations by the services that are the same for them.
    /// Source ports are left out.
    pub fn rows(&self) -> Vec<Row> {
        let one = self.shared();
        let mut rows = Vec::new();
        for family in Family::BOTH {
            let Some(node) = one.side(family) else {
                continue;
            };
            for (below, sources) in by_pointer(node.slices()) {
                let destinations =
                    by_pointer(below.slices())
                        .into_iter()
                        .map(|(below, destinations)| {
                            let services =
                                below.slices().iter().map(|slice| (slice.first, slice.last));
                            (
                                Addresses::from_intervals(family, destinations),
                                Intervals::from_spans(services),
                            )
                        });
                rows.push(Row {
                    sources: Addresses::from_intervals(family, sources),
                    destinations: destinations.collect(),
                });
            }
        }
        rows
    }

    /// Every packet that exists.
    pub fn full() -> Self {
        Self::constant(())
    }

    /// The set of one packet.
    pub fn single(packet: &Packet) -> Self {
        let point = |number: u128| Intervals::span(number, number);
        let protocol = packet.protocol();
        let (services, source_ports) = if service::has_ports(protocol) {
            (
                point(u128::from(packet.service)),
                point(u128::from(packet.source_port)),
            )
        } else {
            let every_port = Intervals::span(0, u128::from(u16::MAX));
            let block = service::whole(protocol);
            (
                if service::is_icmp(protocol) {
                    point(u128::from(packet.service))
                } else {
                    block
                },
                every_port,
            )
        };
        let (sources, destinations) = (point(packet.source), point(packet.destination));
        Self::of_entry(
            &Entry {
                family: packet.family,
                sources,
                destinations,
                services,
                source_ports,
            },
            (),
        )
    }

    /// All packets of either set.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        self.overlay(other)
    }

    /// All packets of both sets.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        self.restrict(other)
    }

    /// All packets of this set that are not in `other`.
    #[must_use]
    pub fn difference(&self, other: &Self) -> Self {
        self.without(other)
    }

    /// All packets that exist and are not in this set.
    #[must_use]
    pub fn complement(&self) -> Self {
        Self::full().without(self)
    }

    /// Whether every packet of this set is in `other`.
    pub fn is_subset(&self, other: &Self) -> bool {
        Family::BOTH
            .into_iter()
            .all(|family| match (self.side(family), other.side(family)) {
                (None, _) => true,
                (Some(_), None) => false,
                (Some(own), Some(others)) => within(own, others, &mut FxHashSet::default()),
            })
    }

    /// Whether some packet is in both.
    pub fn overlaps(&self, other: &Self) -> bool {
        Family::BOTH
            .into_iter()
            .any(|family| match (self.side(family), other.side(family)) {
                (Some(own), Some(others)) => meet(own, others, &mut FxHashSet::default()),
                _ => false,
            })
    }

    /// Whether a packet is in the set.
    pub fn contains(&self, packet: &Packet) -> bool {
        self.get(packet).is_some()
    }

    /// One packet of the set, if it has any: from the places a reader would choose if those are in it, else the lowest.
    pub fn witness(&self) -> Option<Packet> {
        let preferred = |choices: &[&str]| {
            choices
                .iter()
                .filter_map(|text| text.parse::<IpAddr>().ok())
                .collect::<Addresses>()
        };
        let outside = preferred(&["198.51.100.7", "2001:db8:ffff::7"]);
        let inside = [
            "10.64.0.1-10.79.255.254",
            "10.0.0.1-10.255.255.254",
            "192.168.0.1-192.168.255.254",
            "fd00::1-fdff::1",
        ];
        let inside: Addresses = inside
            .iter()
            .filter_map(|text| text.parse::<Block>().ok())
            .map(|block| block.range)
            .collect();
        let client = Intervals::span(40_000, 40_000);
        let all = Addresses::all();
        let every = Intervals::span(0, u128::from(u16::MAX));
        let port = |number: u16| {
            let code = u128::from(service::code(service::TCP, number));
            move |_| Intervals::span(code, code)
        };
        let any_port = |_| {
            let of = |number| u128::from(service::code(service::TCP, number));
            Intervals::span(of(1), of(u16::MAX))
        };
        let mut rest = self.clone();
        for wish in [
            Self::fields(&outside, &all, service::all, &every, ()),
            Self::fields(&all, &outside, service::all, &every, ()),
            Self::fields(&inside, &all, service::all, &every, ()),
            Self::fields(&all, &inside, service::all, &every, ()),
            Self::fields(&all, &all, port(443), &every, ()),
            Self::fields(&all, &all, port(22), &every, ()),
            Self::fields(&all, &all, any_port, &every, ()),
            Self::fields(&all, &all, service::all, &client, ()),
        ] {
            rest = rest.narrowed(&wish);
        }
        // The first address of a block is the network's, not a host's.
        let packet = rest.lowest()?;
        let next = |number: u128| {
            let host = Addresses::single(address_of(packet.family, number + 1));
            (number & 0xFF == 0).then_some(host)
        };
        if let Some(host) = next(packet.source) {
            rest = rest.narrowed(&Self::fields(&host, &all, service::all, &every, ()));
        }
        if let Some(host) = next(packet.destination) {
            rest = rest.narrowed(&Self::fields(&all, &host, service::all, &every, ()));
        }
        rest.lowest()
    }

    /// What of the set is wished for, if anything is; else all of it.
    fn narrowed(self, wish: &Self) -> Self {
        let narrowed = self.restrict(wish);
        if narrowed.is_empty() { self } else { narrowed }
    }

    /// The set with every source port, wherever it has one: the packets that differ only in the source port
    /// from one of the set.
    #[must_use]
    pub fn any_source_port(&self) -> Self {
        let every = Intervals::span(0, u128::from(u16::MAX));
        Self::union_all(self.boxes().into_iter().map(|(mut entry, ())| {
            entry.source_ports = every.clone();
            Self::of_entry(&entry, ())
        }))
    }

    /// The set with every destination: the packets that differ only in the destination from one of the set.
    #[must_use]
    pub fn to_anywhere(&self) -> Self {
        Self::union_all(self.boxes().into_iter().map(|(mut entry, ())| {
            entry.destinations = Intervals::span(0, last_of(entry.family));
            Self::of_entry(&entry, ())
        }))
    }

    /// The union of many sets.
    pub fn union_all(sets: impl IntoIterator<Item = Self>) -> Self {
        Self::overlay_all(sets.into_iter().collect())
    }
}
