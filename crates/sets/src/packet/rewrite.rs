//! Changes of headers by devices on the way, on whole sets.

use super::map::{HEIGHT, PacketMap, PacketSet};
use super::node::{Label, Node, Slices};
use super::reply::requests_of;
use super::{Entry, service};
use crate::address::{Addresses, Family, number_of};
use crate::intervals::Intervals;
use rustc_hash::FxHashMap;
use std::net::IpAddr;

/// A change that is the same for all packets it is made to.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Rewrite {
    /// The new source address.
    pub source: Option<IpAddr>,
    /// The ports of which a new source port is drawn, for protocols that have ports.
    pub source_ports: Option<Intervals>,
    /// The new destination address.
    pub destination: Option<IpAddr>,
    /// The new destination port, for protocols that have ports.
    pub port: Option<u16>,
}

impl Rewrite {
    /// Whether nothing changes.
    pub fn is_nothing(&self) -> bool {
        *self == Self::default()
    }
}

fn point(address: IpAddr) -> Intervals {
    let number = number_of(address);
    Intervals::span(number, number)
}

/// The services of one protocol, and the rest, since only protocols with ports change.
fn by_protocol(services: &Intervals) -> Vec<(Option<u8>, Intervals)> {
    let mut parts = Vec::new();
    for protocol in service::WITH_PORTS {
        parts.push((
            Some(protocol),
            services.intersection(&service::whole(protocol)),
        ));
    }
    parts.push((None, services.difference(&service::all_with_ports())));
    parts.retain(|(_, part)| !part.is_empty());
    parts
}

impl PacketSet {
    /// All packets that these may become.
    #[must_use]
    pub fn rewritten(&self, change: &Rewrite) -> Self {
        let boxes = self.boxes().into_iter().flat_map(|(entry, ())| {
            by_protocol(&entry.services)
                .into_iter()
                .map(move |(protocol, services)| {
                    let mut new = Entry {
                        services,
                        ..entry.clone()
                    };
                    if let Some(source) = change.source {
                        new.sources = point(source);
                    }
                    if let Some(destination) = change.destination {
                        new.destinations = point(destination);
                    }
                    if let (Some(protocol), Some(port)) = (protocol, change.port) {
                        let number = u128::from(service::code(protocol, port));
                        new.services = Intervals::span(number, number);
                    }
                    if let (Some(_), Some(ports)) = (protocol, &change.source_ports) {
                        new.source_ports = ports.clone();
                    }
                    Self::of_entry(&new, ())
                })
        });
        Self::union_all(boxes)
    }
}

impl<L: Label> PacketMap<L> {
    /// What this map says of what packets become: a map on the packets before the change. Where source ports are drawn, the
    /// labels must not depend on them: see [`PacketMap::fold_source_ports`].
    #[must_use]
    pub fn before(&self, change: &Rewrite) -> Self {
        if change.is_nothing() {
            return self.clone();
        }
        let all = Intervals::span(0, u128::from(u16::MAX));
        let every = |family| Addresses::of_family(family).of(family).clone();
        let mut parts = Vec::new();
        for (entry, label) in self.boxes() {
            let holds = |numbers: &Intervals, address: Option<IpAddr>| {
                address.is_none_or(|address| {
                    Family::of(address) == entry.family && numbers.contains(number_of(address))
                })
            };
            if !holds(&entry.sources, change.source)
                || !holds(&entry.destinations, change.destination)
            {
                continue;
            }
            for (protocol, services) in by_protocol(&entry.services) {
                let mut old = Entry {
                    services,
                    ..entry.clone()
                };
                if change.source.is_some() {
                    old.sources = every(entry.family);
                }
                if change.destination.is_some() {
                    old.destinations = every(entry.family);
                }
                if let (Some(protocol), Some(port)) = (protocol, change.port) {
                    if !old
                        .services
                        .contains(u128::from(service::code(protocol, port)))
                    {
                        continue;
                    }
                    old.services = service::whole(protocol);
                }
                if protocol.is_some() && change.source_ports.is_some() {
                    old.source_ports = all.clone();
                }
                parts.push(Self::of_entry(&old, label));
            }
        }
        Self::overlay_all(parts)
    }

    /// Packets that differ only in the source port get one label: `join` of all their labels with the ports of each, in
    /// ascending order of the lowest.
    #[must_use]
    pub fn fold_source_ports(&self, join: &mut impl FnMut(&[(Intervals, L)]) -> L) -> Self {
        let mut memo: FxHashMap<usize, Node<L>> = FxHashMap::default();
        let mut side = |node: Option<&Node<L>>| node.map(|node| fold(node, 0, join, &mut memo));
        Self {
            v4: side(self.v4.as_ref()),
            v6: side(self.v6.as_ref()),
        }
    }

    /// What this map says of the reply to each packet; nothing where there is no reply.
    #[must_use]
    pub fn mirrored(&self) -> Self {
        let turned = self.boxes().into_iter().flat_map(|(entry, label)| {
            requests_of(&entry)
                .into_iter()
                .map(move |request| Self::of_entry(&request, label))
        });
        Self::overlay_all(turned.collect())
    }
}

fn fold<L: Label>(
    node: &Node<L>,
    depth: usize,
    join: &mut impl FnMut(&[(Intervals, L)]) -> L,
    memo: &mut FxHashMap<usize, Node<L>>,
) -> Node<L> {
    let slices = node.slices();
    let key = slices.as_ptr() as usize;
    if let Some(known) = memo.get(&key) {
        return known.clone();
    }
    let mut out = Slices::new();
    if depth + 1 < HEIGHT {
        for slice in slices {
            out.push(
                slice.first,
                slice.last,
                fold(&slice.child, depth + 1, join, memo),
            );
        }
    } else {
        let mut labels: Vec<(Intervals, L)> = Vec::new();
        for slice in slices {
            let Node::Leaf(label) = &slice.child else {
                continue;
            };
            let span = Intervals::span(slice.first, slice.last);
            match labels.iter_mut().find(|(_, known)| known == label) {
                Some((ports, _)) => *ports = ports.union(&span),
                None => labels.push((span, *label)),
            }
        }
        out.push(0, u128::from(u16::MAX), Node::Leaf(join(&labels)));
    }
    let folded = out.finish().unwrap_or_else(|| node.clone());
    memo.insert(key, folded.clone());
    folded
}

impl<L: Label + std::hash::Hash> PacketMap<L> {
    /// The same map with equal parts held once, so that what is done to one of them is done to all. Cost: linear in its size.
    #[must_use]
    pub fn shared(&self) -> Self {
        let mut sharing = Sharing {
            known: FxHashMap::default(),
            done: FxHashMap::default(),
        };
        let mut side = |node: Option<&Node<L>>| node.map(|node| sharing.share(node));
        Self {
            v4: side(self.v4.as_ref()),
            v6: side(self.v6.as_ref()),
        }
    }
}

/// A slice by its bounds and the address, or the label, of what lies below it.
type Signature<L> = Vec<(u128, u128, usize, Option<L>)>;

struct Sharing<L: Label> {
    known: FxHashMap<Signature<L>, Node<L>>,
    done: FxHashMap<usize, Node<L>>,
}

impl<L: Label + std::hash::Hash> Sharing<L> {
    fn share(&mut self, node: &Node<L>) -> Node<L> {
        let slices = node.slices();
        if slices.is_empty() {
            return node.clone();
        }
        let key = slices.as_ptr() as usize;
        if let Some(done) = self.done.get(&key) {
            return done.clone();
        }
        let mut out = Slices::new();
        let mut signature = Vec::with_capacity(slices.len());
        for slice in slices {
            let child = self.share(&slice.child);
            let label = match &child {
                Node::Leaf(label) => Some(*label),
                Node::Branch(_) => None,
            };
            let below = if label.is_some() {
                0
            } else {
                child.slices().as_ptr() as usize
            };
            signature.push((slice.first, slice.last, below, label));
            out.push(slice.first, slice.last, child);
        }
        let built = out.finish().unwrap_or_else(|| node.clone());
        let one = self.known.entry(signature).or_insert(built).clone();
        self.done.insert(key, one.clone());
        one
    }
}
