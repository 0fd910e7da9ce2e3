//! Addresses that can be asked, and who holds them.

use super::{Node, ReachedBy};
use crate::fabric::Fabric;
use heronshale_model::estate::{Id, Interface};
use heronshale_sets::address::{Addresses, Family, Range};
use rustc_hash::FxHashMap;

/// Who holds an address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Held {
    pub node: u32,
    /// Whether it is the second interface of its node.
    pub second: bool,
}

/// All addresses that are asked.
pub(super) struct Destinations {
    pub all: Addresses,
    /// In ascending order; may overlap.
    held: Vec<(Range, ReachedBy, Option<Held>)>,
    /// For each place the largest address of its family up to there, so that a search knows where to stop.
    reach: Vec<u128>,
    /// Large sets, asked last.
    wide: Vec<(Addresses, u32)>,
    /// What nobody holds and a firewall translates.
    elsewhere: Addresses,
}

/// The place of a node that is not an interface.
pub(super) fn place(nodes: &[Node], wanted: &Node) -> usize {
    nodes
        .iter()
        .rposition(|node| node == wanted)
        .expect("every site, service and gap has a node")
}

fn number(at: usize) -> u32 {
    u32::try_from(at).expect("fewer than 2^32 nodes")
}

/// The nodes that hold some of these sources. `holders` are disjoint and in ascending order.
pub(super) fn among(holders: &[(Range, u32)], sources: &Addresses) -> Vec<u32> {
    let mut found = Vec::new();
    for range in sources.ranges() {
        let before = |other: &Range| (other.family, other.last) < (range.family, range.first);
        let from = holders.partition_point(|(other, _)| before(other));
        let here = holders[from..]
            .iter()
            .take_while(|(o, _)| o.family == range.family && o.first <= range.last);
        found.extend(here.map(|(_, node)| *node));
    }
    found.sort_unstable();
    found.dedup();
    found
}

impl Destinations {
    pub fn new(
        view: &Fabric<'_>,
        nodes: &[Node],
        node_of: &FxHashMap<Id<Interface>, u32>,
        to: &[(Id<Interface>, u32, bool)],
    ) -> Self {
        let estate = view.estate;
        let mut held: Vec<(Range, ReachedBy, Option<Held>)> = Vec::new();
        let mut asked: FxHashMap<Id<Interface>, bool> = FxHashMap::default();
        for (id, _, second) in to {
            asked.insert(*id, *second);
        }
        let mut others = Vec::new();
        for (id, interface) in estate.interfaces.iter() {
            let second = asked.get(&id).copied();
            let of = Some(Held {
                node: node_of[&id],
                second: second.unwrap_or(false),
            });
            let ranges = interface
                .addresses
                .ranges()
                .map(|range| (range, ReachedBy::Own, of));
            if second.is_some() {
                held.extend(ranges)
            } else {
                others.extend(ranges)
            }
        }
        for (id, public) in estate.public_addresses.iter() {
            let of = public.interface.map(|id| Held {
                node: node_of[&id],
                second: false,
            });
            held.push((Range::single(public.address), ReachedBy::Public(id), of));
        }
        for (id, balancer) in estate.balancers.iter() {
            let fronts = balancer
                .front_ends
                .iter()
                .map(|front| Range::single(front.address));
            held.extend(fronts.map(|range| (range, ReachedBy::Balancer(id), None)));
        }
        for (id, firewall) in estate.firewalls.iter() {
            held.extend(
                firewall
                    .addresses
                    .ranges()
                    .map(|range| (range, ReachedBy::Firewall(id), None)),
            );
        }
        for (id, service) in estate.services.iter() {
            let of = Some(Held {
                node: number(place(nodes, &Node::Service(id))),
                second: false,
            });
            let doors = service
                .public_door
                .iter()
                .flat_map(|door| door.addresses.ranges());
            held.extend(doors.map(|range| (range, ReachedBy::Own, of)));
        }
        // What a firewall translates need not be anybody's.
        let mut translated = Addresses::empty();
        for one in estate
            .firewalls
            .items()
            .iter()
            .flat_map(|firewall| &firewall.destination_translations)
        {
            let destinations = one.destinations.as_ref();
            translated = destinations.map_or_else(Addresses::all, |peers| {
                translated.union(&view.peers(peers, None).either())
            });
            if one.destinations.is_none() {
                break;
            }
        }
        let mut wide = vec![(view.internet_end(), number(place(nodes, &Node::Internet)))];
        for (id, site) in estate.sites.iter() {
            wide.push((
                site.holds.union(&site.announces),
                number(place(nodes, &Node::Site(id))),
            ));
        }
        for (at, gap) in estate.gaps.iter().enumerate() {
            wide.extend(
                gap.blocks
                    .clone()
                    .map(|blocks| (blocks, number(place(nodes, &Node::Lacking(at))))),
            );
        }
        let known = wide.iter().fold(
            held.iter().map(|(range, _, _)| *range).collect(),
            |sum: Addresses, (all, _)| {
                // A site that announces everything does not hold it.
                sum.union(all)
            },
        );
        let elsewhere = translated.difference(&known);
        // What is nobody's who was asked about may be asked with something larger.
        held.extend(others);
        held.sort_unstable_by_key(|(range, by, of)| {
            (range.family, range.first, range.last, *by, *of)
        });
        held.dedup();
        let mut reach = Vec::with_capacity(held.len());
        let mut last: Option<(Family, u128)> = None;
        for (range, _, _) in &held {
            let largest = last
                .filter(|(family, _)| *family == range.family)
                .map_or(range.last, |(_, l)| l.max(range.last));
            last = Some((range.family, largest));
            reach.push(largest);
        }
        Self {
            all: known.union(&elsewhere),
            held,
            reach,
            wide,
            elsewhere,
        }
    }

    /// Some addresses by what they are asked as, and who holds them.
    pub fn among(&self, addresses: &Addresses) -> Vec<(ReachedBy, Vec<Held>)> {
        let mut found: Vec<(ReachedBy, Held)> = Vec::new();
        let mut without: Vec<ReachedBy> = Vec::new();
        let mut rest: Vec<Range> = Vec::new();
        for range in addresses.ranges() {
            // Starts reach up to `reach`, which ascends within a family.
            let from = self
                .held
                .partition_point(|(other, _, _)| other.family < range.family);
            let until = from
                + self.held[from..].partition_point(|(other, _, _)| other.family == range.family);
            let first = from + self.reach[from..until].partition_point(|last| *last < range.first);
            let here = self.held[first..until]
                .iter()
                .take_while(|(other, _, _)| other.first <= range.last);
            for (other, by, of) in here.filter(|(other, _, _)| other.last >= range.first) {
                rest.push(*other);
                match of {
                    Some(of) => found.push((*by, *of)),
                    None => without.push(*by),
                }
            }
        }
        let left = addresses.difference(&rest.into_iter().collect());
        for (all, node) in self.wide.iter().filter(|_| !left.is_empty()) {
            if all.overlaps(&left) {
                found.push((
                    ReachedBy::Own,
                    Held {
                        node: *node,
                        second: false,
                    },
                ));
            }
        }
        if self.elsewhere.overlaps(&left) {
            without.push(ReachedBy::Translated);
        }
        found.sort_unstable();
        found.dedup();
        without.sort_unstable();
        without.dedup();
        let mut groups: Vec<(ReachedBy, Vec<Held>)> = Vec::new();
        for (by, held) in found {
            match groups.last_mut().filter(|(other, _)| *other == by) {
                Some((_, all)) => all.push(held),
                None => groups.push((by, vec![held])),
            }
        }
        groups.extend(
            without
                .into_iter()
                .filter(|by| !groups.iter().any(|(other, _)| other == by))
                .map(|by| (by, Vec::new()))
                .collect::<Vec<_>>(),
        );
        groups
    }
}
