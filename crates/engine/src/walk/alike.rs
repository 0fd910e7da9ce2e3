//! Interfaces that no part of the estate tells apart: of each kind one is asked, and what becomes of it becomes of all.
//!
//! *Problem.* Between two networks of 10,000 interfaces the partition has as many slices as senders, each with a set of
//! receivers of its own, although few of them differ in anything.
//!
//! *Form.* Two plain interfaces are alike if they have the same network, stages, and subnet conduct (ACL, table, groups,
//! internet traffic), and if every set of addresses that the estate can ask about (peers of rules, routes, announcements, translations,
//! doors …) holds both or neither. Exchanging two that are alike changes nothing in the estate, so a packet of one fares as the same
//! packet of the other; as long as no packet has two of one kind at its ends. Hence only senders that are not receivers, in
//! subnets that hold none, are taken together, and the other way round.

use super::{Asked, Start, boxed};
use crate::fabric::Fabric;
use crate::faults::{Fault, has};
use crate::route::table_of;
use heronshale_model::estate::{
    Estate, Filter, Id, Interface, InternetTraffic, Network, Peer, Reference, RouteDestination,
    RouteTable, Subnet, Tags,
};
use heronshale_model::mentions::{Mention, mentions};
use heronshale_sets::address::{
    Addresses, Family, Range, address_of, internet_at_large, number_of,
};
use heronshale_sets::packet::{Members, PacketSet};
use rustc_hash::{FxHashMap, FxHashSet};
use std::net::IpAddr;

/// A smaller question that stands for a large one.
pub(super) struct Smaller {
    pub asked: Asked,
    /// The addresses for which others stand.
    pub left_out: Addresses,
    senders: Members,
    receivers: Members,
}

impl Smaller {
    /// What is said of some packets, said of all that are alike.
    pub fn spread(&self, packets: &PacketSet) -> PacketSet {
        packets.spread(&self.senders, &self.receivers)
    }
}

/// What a subnet's interfaces have of it.
#[derive(Clone, PartialEq, Eq, Hash)]
enum InSubnet<'e> {
    /// Something stands in it that could tell it from others.
    Own(Id<Subnet>),
    Plain {
        acl: Option<&'e Reference<Filter>>,
        groups: &'e [Reference<Filter>],
        table: Option<&'e Reference<RouteTable>>,
        internet_traffic: InternetTraffic,
        default_outbound: bool,
    },
}

#[derive(Clone, PartialEq, Eq, Hash)]
struct Kind<'e> {
    /// Whether it sends, and whether it receives.
    sides: [bool; 2],
    /// What the asker wants apart.
    apart: u32,
    network: Id<Network>,
    subnet: InSubnet<'e>,
    stages: u32,
    /// The tags by which routes are limited that it has.
    routed_by: Vec<bool>,
    /// For each family the sets that hold the address; none without one.
    held: [Option<Vec<u32>>; 2],
}

/// The smaller question, if there is one that stands for all that was asked.
pub(super) fn smaller(view: &Fabric<'_>, asked: &Asked) -> Option<Smaller> {
    let estate = view.estate;
    let Start::Interfaces(starts) = &asked.start else {
        return None;
    };
    let least = view.limits.likenesses_from;
    if !asked.any_of.is_empty() || tells_apart(view) {
        return None;
    }
    let wanted = asked.packets.destinations();
    let senders: FxHashSet<Id<Interface>> = starts.iter().copied().collect();
    let held = estate
        .interfaces
        .iter()
        .filter(|(_, item)| item.addresses.overlaps(&wanted));
    let receivers: FxHashSet<Id<Interface>> = held.map(|(id, _)| id).collect();
    if senders.len().max(receivers.len()) < least {
        return None;
    }
    let candidates = plain(view, |id| senders.contains(&id) != receivers.contains(&id));
    let kinds = grouped(view, &candidates, &senders, &receivers, &|_| 0);
    let mut smaller = Smaller {
        asked: asked.clone(),
        left_out: Addresses::empty(),
        senders: Members::default(),
        receivers: Members::default(),
    };
    let mut left_out = [Vec::new(), Vec::new()];
    for members in kinds.iter().filter(|members| members.len() > 1) {
        let sender = senders.contains(&members[0]);
        for family in Family::BOTH {
            let mut numbers: Vec<u128> = members
                .iter()
                .filter_map(|id| estate.interfaces[*id].primary(family))
                .map(number_of)
                .collect();
            numbers.sort_unstable();
            let Some((first, others)) = numbers.split_first() else {
                continue;
            };
            let of = if sender {
                &mut smaller.senders
            } else {
                &mut smaller.receivers
            };
            left_out[usize::from(!sender)].extend(
                others
                    .iter()
                    .map(|number| Range::single(address_of(family, *number))),
            );
            of.insert((family, *first), numbers);
        }
    }
    let [from, to] = left_out.map(|ranges| ranges.into_iter().collect::<Addresses>());
    if from.is_empty() && to.is_empty() {
        return None;
    }
    let all = Addresses::all();
    let packets = asked
        .packets
        .difference(&boxed(&from, &all))
        .difference(&boxed(&all, &to));
    // All of a kind must have been asked about alike.
    if smaller.spread(&packets) != asked.packets {
        return None;
    }
    let sources = packets.sources();
    let stay = starts
        .iter()
        .copied()
        .filter(|id| estate.interfaces[*id].addresses.overlaps(&sources));
    smaller.asked.start = Start::Interfaces(stay.collect());
    smaller.asked.packets = packets;
    smaller.left_out = from.union(&to);
    Some(smaller)
}

/// Whether gaps tell single interfaces apart.
fn tells_apart(view: &Fabric<'_>) -> bool {
    let single = |object: &str| {
        ["interface:", "workload:", "subnet:"]
            .iter()
            .any(|kind| object.starts_with(kind))
    };
    view.estate.gaps.iter().any(|gap| single(&gap.object))
}

/// All senders and receivers by what tells them apart, `apart` included; each list in the order of the snapshot.
///
/// Exchanging two members of a list changes nothing in the estate. So if `a` and `b` are two of one list and `c` is of another, what
/// `a` may send to `c` is what `b` may, and what `a` may send to `b` is what any member may send to any other.
pub fn kinds(
    view: &Fabric<'_>,
    senders: &FxHashSet<Id<Interface>>,
    receivers: &FxHashSet<Id<Interface>>,
    apart: &dyn Fn(Id<Interface>) -> u32,
) -> Vec<Vec<Id<Interface>>> {
    let asked = |id: Id<Interface>| senders.contains(&id) || receivers.contains(&id);
    let candidates = if tells_apart(view) {
        Vec::new()
    } else {
        plain(view, asked)
    };
    let mut all = grouped(view, &candidates, senders, receivers, apart);
    let alike: FxHashSet<Id<Interface>> = candidates.into_iter().collect();
    all.extend(
        view.estate
            .interfaces
            .ids()
            .filter(|id| asked(*id) && !alike.contains(id))
            .map(|id| vec![id]),
    );
    all.sort_unstable_by_key(|members| members[0]);
    all
}

/// Plain interfaces that fare alike but for where in a network they stand: packets between subnets of one kind are not told from
/// those within. For questions about routes, in an estate without ACLs and public addresses.
pub fn routed_alike(
    view: &Fabric<'_>,
    apart: &dyn Fn(Id<Interface>) -> u32,
) -> Vec<Vec<Id<Interface>>> {
    if tells_apart(view) {
        return Vec::new();
    }
    let none = FxHashSet::default();
    grouped(view, &plain(view, |_| true), &none, &none, apart)
}

/// Whether something in the estate asks about some of these addresses and not about others.
pub fn are_told_apart(view: &Fabric<'_>, addresses: &Addresses) -> bool {
    marks(view)
        .iter()
        .any(|set| set.overlaps(addresses) && !addresses.difference(set).is_empty())
}

fn grouped(
    view: &Fabric<'_>,
    candidates: &[Id<Interface>],
    senders: &FxHashSet<Id<Interface>>,
    receivers: &FxHashSet<Id<Interface>>,
    apart: &dyn Fn(Id<Interface>) -> u32,
) -> Vec<Vec<Id<Interface>>> {
    let estate = view.estate;
    let own = own_subnets(view, senders, receivers);
    let own = if has(Fault::AlikeAcrossSubnets) {
        FxHashSet::default()
    } else {
        own
    };
    let marked = marked(view, candidates);
    let stages = view.stage_classes();
    let limits: FxHashSet<&Tags> = estate
        .route_tables
        .items()
        .iter()
        .flat_map(|table| &table.routes)
        .map(|route| &route.only_tagged)
        .collect();
    let mut limits: Vec<&Tags> = limits.into_iter().filter(|tags| !tags.is_empty()).collect();
    limits.sort_unstable();
    let mut index: FxHashMap<Kind<'_>, usize> = FxHashMap::default();
    let mut kinds: Vec<Vec<Id<Interface>>> = Vec::new();
    for id in candidates {
        let item = &estate.interfaces[*id];
        let subnet = &estate.subnets[item.subnet];
        let in_subnet = if own.contains(&item.subnet) {
            InSubnet::Own(item.subnet)
        } else {
            InSubnet::Plain {
                acl: subnet.acl.as_ref(),
                groups: &subnet.groups,
                table: table_of(view, item.subnet),
                internet_traffic: subnet.internet_traffic,
                default_outbound: subnet.default_outbound,
            }
        };
        let kind = Kind {
            sides: [senders.contains(id), receivers.contains(id)],
            apart: apart(*id),
            network: subnet.network,
            subnet: in_subnet,
            stages: if has(Fault::AlikeWithoutStages) {
                0
            } else {
                stages[id.index()]
            },
            routed_by: limits
                .iter()
                .map(|tags| estate.has_tags(*id, tags))
                .collect(),
            held: Family::BOTH.map(|family| item.primary(family).map(|own| marked[&own].clone())),
        };
        let at = *index.entry(kind).or_insert_with(|| {
            kinds.push(Vec::new());
            kinds.len() - 1
        });
        kinds[at].push(*id);
    }
    kinds
}

/// Subnets with something in them that packets on the way could tell from others.
fn own_subnets(
    view: &Fabric<'_>,
    senders: &FxHashSet<Id<Interface>>,
    receivers: &FxHashSet<Id<Interface>>,
) -> FxHashSet<Id<Subnet>> {
    let estate = view.estate;
    let of = |all: &FxHashSet<Id<Interface>>| -> FxHashSet<Id<Subnet>> {
        all.iter().map(|id| estate.interfaces[*id].subnet).collect()
    };
    let (sending, receiving) = (of(senders), of(receivers));
    let mut own: FxHashSet<Id<Subnet>> = sending.intersection(&receiving).copied().collect();
    // What is led to an interface may come from its own subnet, past the ACL, and so may what that sends back.
    let (devices, special) = (view.roles(), special(view));
    let single: Addresses = singles(view).into_iter().map(Range::single).collect();
    for (id, interface) in estate.interfaces.iter() {
        let led_to = special.contains(&id) || interface.addresses.overlaps(&single);
        if interface.forwards || led_to || devices.contains_key(&id) {
            own.insert(interface.subnet);
        }
    }
    // Where an address lies in another subnet than its holder, the two subnets are like no other.
    for (id, outside) in outside_of_subnets(estate) {
        own.insert(id);
        let there = estate
            .subnets
            .iter()
            .filter(|(_, item)| item.blocks.overlaps(&outside));
        own.extend(there.map(|(id, _)| id));
    }
    mentions(estate, &mut |mention| {
        if let Mention::Subnet(subnet) = mention {
            own.insert(subnet);
        }
    });
    own
}

/// Interfaces that are nothing but ends of packets, with one address of a family, among those that are asked about.
fn plain(view: &Fabric<'_>, asked: impl Fn(Id<Interface>) -> bool) -> Vec<Id<Interface>> {
    let estate = view.estate;
    let devices = view.roles();
    let special = special(view);
    let is_plain = |(id, item): &(Id<Interface>, &Interface)| {
        let single = |family: Family| {
            item.addresses
                .of(family)
                .spans()
                .iter()
                .all(|(first, last)| first == last)
        };
        let one = |family: Family| item.addresses.of(family).spans().len() <= 1 && single(family);
        asked(*id)
            && !item.forwards
            && !devices.contains_key(id)
            && !special.contains(id)
            && Family::BOTH.into_iter().all(one)
    };
    estate
        .interfaces
        .iter()
        .filter(is_plain)
        .map(|(id, _)| id)
        .collect()
}

/// For each address of these interfaces the sets of the estate that hold it.
fn marked(view: &Fabric<'_>, of: &[Id<Interface>]) -> FxHashMap<IpAddr, Vec<u32>> {
    let estate = view.estate;
    let mut numbers: [Vec<u128>; 2] = [Vec::new(), Vec::new()];
    for id in of {
        for (at, family) in Family::BOTH.into_iter().enumerate() {
            numbers[at].extend(estate.interfaces[*id].primary(family).map(number_of));
        }
    }
    let mut found: FxHashMap<IpAddr, Vec<u32>> = FxHashMap::default();
    for (family, numbers) in Family::BOTH.into_iter().zip(&mut numbers) {
        numbers.sort_unstable();
        found.extend(
            numbers
                .iter()
                .map(|number| (address_of(family, *number), Vec::new())),
        );
    }
    let marks = if has(Fault::AlikeWithoutMarks) {
        Vec::new()
    } else {
        marks(view)
    };
    for (mark, set) in (0_u32..).zip(marks) {
        for (family, numbers) in Family::BOTH.into_iter().zip(&numbers) {
            for (first, last) in set.of(family).spans() {
                let from = numbers.partition_point(|number| number < first);
                let until = numbers.partition_point(|number| number <= last);
                for number in &numbers[from..until] {
                    let marks = found
                        .get_mut(&address_of(family, *number))
                        .expect("every address was put in");
                    if marks.last() != Some(&mark) {
                        marks.push(mark);
                    }
                }
            }
        }
    }
    found
}

/// Interfaces that something in the estate leads to by name.
fn special(view: &Fabric<'_>) -> FxHashSet<Id<Interface>> {
    let mut special = FxHashSet::default();
    mentions(view.estate, &mut |mention| {
        if let Mention::LedTo(interface) = mention {
            special.insert(interface);
        }
    });
    special
}

/// Addresses that something in the estate leads to, one by one.
fn singles(view: &Fabric<'_>) -> Vec<IpAddr> {
    let mut singles = Vec::new();
    mentions(view.estate, &mut |mention| {
        if let Mention::Single(address) = mention {
            singles.push(address);
        }
    });
    singles
}

/// Every set of addresses that tells packets apart: what something asks about, and what single things hold.
fn marks(view: &Fabric<'_>) -> Vec<Addresses> {
    let mut sets = asked_about(view);
    mentions(view.estate, &mut |mention| match mention {
        Mention::Held(addresses) => sets.extend([addresses.clone()]),
        Mention::Single(address) => sets.extend([Addresses::single(address)]),
        _ => {}
    });
    let mut sets: Vec<Addresses> = sets.into_iter().collect();
    sets.retain(|set| !set.is_empty());
    sets
}

/// Every set of addresses that something in the estate asks about, whoever holds them. Named peers reach whole networks or nothing of
/// them, so they are read as if they reached all.
pub(crate) fn asked_about(view: &Fabric<'_>) -> FxHashSet<Addresses> {
    let estate = view.estate;
    let mut sets: FxHashSet<Addresses> = FxHashSet::default();
    let mut peers: FxHashSet<&Peer> = FxHashSet::default();
    mentions(estate, &mut |mention| match mention {
        Mention::Peer(peer) => peers.extend([peer]),
        Mention::Destination(RouteDestination::Block(block)) => sets.extend([block.range.into()]),
        Mention::Destination(RouteDestination::Set(Reference::Found(set))) => {
            let matched = &view.set(*set).matched;
            sets.extend([matched.sure.clone(), matched.maybe.clone()]);
        }
        Mention::Asked(addresses) => sets.extend([addresses.clone()]),
        Mention::Range(range) => sets.extend([(*range).into()]),
        Mention::Destination(RouteDestination::Set(Reference::Missing(_)))
        | Mention::Held(_)
        | Mention::Single(_)
        | Mention::LedTo(_)
        | Mention::Subnet(_) => {}
    });
    for peer in peers {
        let matched = view.peer(peer, None);
        sets.extend([matched.sure, matched.maybe]);
    }
    sets.extend([view.internet().clone(), internet_at_large()]);
    sets.extend(held_twice(estate));
    for (_, outside) in outside_of_subnets(estate) {
        let blocks = estate.subnets.items().iter().map(|item| &item.blocks);
        sets.extend(blocks.map(|blocks| blocks.intersection(&outside)));
        sets.insert(outside);
    }
    sets
}

/// For each subnet in which some interface holds addresses outside of its blocks: these addresses.
fn outside_of_subnets(estate: &Estate) -> Vec<(Id<Subnet>, Addresses)> {
    let mut found: FxHashMap<Id<Subnet>, Vec<Range>> = FxHashMap::default();
    for interface in estate.interfaces.items() {
        let outside = interface
            .addresses
            .difference(&estate.subnets[interface.subnet].blocks);
        if !outside.is_empty() {
            found
                .entry(interface.subnet)
                .or_default()
                .extend(outside.ranges());
        }
    }
    found
        .into_iter()
        .map(|(id, ranges)| (id, ranges.into_iter().collect()))
        .collect()
}

/// What two things hold is like nothing else.
fn held_twice(estate: &Estate) -> Vec<Addresses> {
    let interfaces = estate.interfaces.items().iter();
    let mut held: Vec<Range> = interfaces
        .flat_map(|item| item.addresses.ranges())
        .collect();
    held.sort_unstable_by_key(|range| (range.family, range.first));
    let meet = |pair: &&[Range]| pair[0].family == pair[1].family && pair[1].first <= pair[0].last;
    let pairs = held.windows(2).filter(meet);
    pairs
        .flat_map(|pair| [pair[0].into(), pair[1].into()])
        .collect()
}
