//! Sweeps: who opens which connections to whom, over the whole estate, in one walk for each kind of start.
//!
//! *Problem.* Pairs of interfaces are too many to be asked one by one. *Form.* Interfaces that nothing in the estate tells apart are one
//! [`Node`]; of each node one interface sends, and two receive, so that pairs inside of it are asked too. What comes back
//! is read as [`Row`]s: sources that fare alike, and what they send to which nodes. A row stands for all pairs of members,
//! an interface and itself left out.
//!
//! Where the asked address does not say who is reached (a public address, a front end, a translation, an address that several hold), the
//! walk tells at which interface it arrives ([`Tell::Ends`](crate::walk::Tell::Ends)).
//!
//! Cost: that of one walk between all nodes; grows with the number of nodes, not with that of interfaces.

mod reading;

mod chain;
mod index;
mod transit;

pub use chain::{Chains, Hop, Place, Reached, Way, machine_of, machines};
pub use transit::Transit;

use crate::fabric::Fabric;
use crate::faults::{Fault, has};
use crate::walk::{Asked, Judged, Labels, Part, Spot, Start, Verdict, What, Why, alike, walk_ends};
use heronshale_model::estate::{
    Balancer, Firewall, Id, Interface, Network, PlatformService, PublicAddress, Service, Site,
};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::each::each;
use heronshale_sets::faults::{carried, under};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};
use index::{Destinations, Held};
use rustc_hash::{FxHashMap, FxHashSet};

/// Where connections start or end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Node {
    /// Interfaces that nothing tells apart, in the order of the snapshot.
    Interfaces(Vec<Id<Interface>>),
    /// The internet.
    Internet,
    /// A site.
    Site(Id<Site>),
    /// A platform service, by its public door.
    Service(Id<PlatformService>),
    /// A part of the estate that is missing from the snapshot: the place of its gap.
    Lacking(usize),
}

/// What was asked, where that is not the end's own address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum ReachedBy {
    /// Its own address, or the only one there is.
    Own,
    /// A public address that is mapped to an interface.
    Public(Id<PublicAddress>),
    /// A front end of a balancer.
    Balancer(Id<Balancer>),
    /// An address that a firewall translates.
    Firewall(Id<Firewall>),
    /// An address that some translation or device leads elsewhere.
    Translated,
}

/// How packets fare.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fate {
    /// The verdict, with conditions and choices.
    pub judged: Judged,
    /// Where it works, perhaps under a condition: the firewalls that requests pass, by any of nature's choices.
    pub firewalls: Vec<Id<Firewall>>,
    /// Whether it may work without any of them.
    pub without: bool,
    /// Whether nature has no choice, and nothing is in doubt.
    pub certain: bool,
    /// Where a firewall ends it, or the reply misses what saw the request.
    pub ended_at: Option<Ended>,
}

/// How a firewall, or another device that keeps state, ends connections.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Ended {
    /// The device.
    pub at: Spot,
    /// Whether it denies.
    pub denies: bool,
    /// Whether the request came by it and the reply did not, or the other way round.
    pub other_way: bool,
    /// Whether the reply ends.
    pub reply: bool,
}

/// Some destinations of a row, all for the same services.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reach {
    /// The nodes; `true`: other members of a node reach it too.
    pub targets: Vec<(u32, bool)>,
    /// By which address.
    pub by: ReachedBy,
    /// The family of both ends.
    pub family: Family,
    /// The services, as numbers of [`service`].
    pub services: Intervals,
}

/// Sources that fare alike.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// The nodes that send.
    pub sources: Vec<u32>,
    /// What becomes of what they send.
    pub fate: u32,
    /// To whom, and what.
    pub reach: Vec<Reach>,
    /// Of the internet or a site, the addresses that send, if these are not all.
    pub partly: Option<Addresses>,
}

/// What was asked for, and what came out.
pub struct Sweep {
    /// Where connections start and end.
    pub nodes: Vec<Node>,
    /// How packets fare.
    pub fates: Vec<Fate>,
    /// All that was asked, each packet in one row.
    pub rows: Vec<Row>,
    /// The node of each interface that was asked about.
    node_of: FxHashMap<Id<Interface>, u32>,
    /// For private doors the node of their service.
    doors: FxHashMap<u32, u32>,
}

/// Where a sweep starts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum From<'q> {
    /// Everywhere: all interfaces, the internet, every site.
    Everywhere,
    /// At these interfaces.
    Interfaces(&'q [Id<Interface>]),
    /// On the internet.
    Internet,
    /// At a site.
    Site(Id<Site>),
}

/// What of some senders' packets need not be asked.
pub type Spared<'q> = &'q (dyn Fn(&[Id<Interface>]) -> PacketSet + Sync);

/// What a sweep asks.
pub struct Sweeping<'q> {
    /// Where connections start.
    pub from: From<'q>,
    /// The interfaces to whose own addresses they go; none for all. Addresses of devices are asked always.
    pub to: Option<&'q [Id<Interface>]>,
    /// Which services; empty for all.
    pub services: &'q [Service],
    /// Whether what does not work is told too.
    pub failing: bool,
    /// Where given, what of some senders' packets need not be asked.
    pub spared: Option<Spared<'q>>,
    /// Interfaces with different numbers are kept apart.
    pub apart: &'q dyn Fn(Id<Interface>) -> u32,
    /// Whether a private door is told as the interface that it is, not as its service.
    pub doors_apart: bool,
}

impl<'q> Sweeping<'q> {
    /// What works, or may, from somewhere to everything, of all services.
    pub fn of(from: From<'q>, apart: &'q dyn Fn(Id<Interface>) -> u32) -> Self {
        Self {
            from,
            to: None,
            services: &[],
            failing: false,
            spared: None,
            apart,
            doors_apart: false,
        }
    }
}

impl Sweep {
    /// The node of an interface, if it was asked about.
    pub fn node(&self, interface: Id<Interface>) -> Option<u32> {
        self.node_of.get(&interface).copied()
    }

    /// Whether a target of a row is reached from one of its sources; a node that is one interface does not count as reaching
    /// itself.
    pub fn counts(source: u32, target: (u32, bool)) -> bool {
        source != target.0 || target.1
    }

    fn node_number(&self, node: usize) -> u32 {
        u32::try_from(node).expect("fewer than 2^32 nodes")
    }
}

/// Walks from everywhere that is asked to everywhere that is asked.
pub fn sweep(view: &Fabric<'_>, asked: &Sweeping<'_>) -> Sweep {
    let estate = view.estate;
    let all = || estate.interfaces.ids().collect::<Vec<_>>();
    let senders: Vec<Id<Interface>> = match asked.from {
        From::Everywhere => all(),
        From::Interfaces(from) => from.to_vec(),
        From::Internet | From::Site(_) => Vec::new(),
    };
    // What a firewall translates may be anybody's address.
    let translates = estate
        .firewalls
        .items()
        .iter()
        .any(|firewall| !firewall.destination_translations.is_empty());
    // Private doors, proxies' and firewalls' interfaces lead to others.
    let devices = view.roles();
    let with_devices = |to: &[Id<Interface>]| to.iter().chain(devices.keys()).copied().collect();
    let receivers: Vec<Id<Interface>> = asked
        .to
        .filter(|_| !translates)
        .map_or_else(all, with_devices);
    // A private door opens nothing from its side.
    let doors: FxHashSet<Id<Interface>> = estate
        .services
        .items()
        .iter()
        .flat_map(|service| service.private_doors.iter().copied())
        .collect();
    let sending: FxHashSet<Id<Interface>> = senders
        .iter()
        .copied()
        .filter(|id| !doors.contains(id))
        .collect();
    let receiving: FxHashSet<Id<Interface>> = receivers.iter().copied().collect();
    let kinds = alike::kinds(view, &sending, &receiving, asked.apart);
    let mut found = Sweep {
        nodes: Vec::new(),
        fates: Vec::new(),
        rows: Vec::new(),
        node_of: FxHashMap::default(),
        doors: FxHashMap::default(),
    };
    for members in kinds {
        let at = found.node_number(found.nodes.len());
        found.node_of.extend(members.iter().map(|id| (*id, at)));
        found.nodes.push(Node::Interfaces(members));
    }
    // Devices reach interfaces that were not asked about by themselves.
    for id in estate.interfaces.ids() {
        if !found.node_of.contains_key(&id) {
            let at = found.node_number(found.nodes.len());
            found.node_of.insert(id, at);
            found.nodes.push(Node::Interfaces(vec![id]));
        }
    }
    found.nodes.push(Node::Internet);
    found.nodes.extend(estate.sites.ids().map(Node::Site));
    found.nodes.extend(estate.services.ids().map(Node::Service));
    found
        .nodes
        .extend((0..estate.gaps.len()).map(Node::Lacking));
    for (id, service) in estate.services.iter() {
        let of = found.node_number(index::place(&found.nodes, &Node::Service(id)));
        let doors = service.private_doors.iter().filter(|_| !asked.doors_apart);
        let doors: Vec<u32> = doors.filter_map(|door| found.node(*door)).collect();
        found.doors.extend(doors.into_iter().map(|door| (door, of)));
    }
    let (mut from, mut left_out) = (Vec::new(), Vec::new());
    let mut to: Vec<(Id<Interface>, u32, bool)> = Vec::new();
    for (at, node) in found.nodes.iter().enumerate() {
        let Node::Interfaces(members) = node else {
            continue;
        };
        let at = found.node_number(at);
        from.extend(
            members
                .first()
                .filter(|first| sending.contains(*first))
                .map(|first| (*first, at)),
        );
        let asked = members
            .iter()
            .take(if has(Fault::SweepOneOfEachKind) { 1 } else { 2 })
            .enumerate()
            .filter(|(_, id)| receiving.contains(*id));
        to.extend(asked.map(|(place, id)| (*id, at, place == 1)));
        left_out.extend(
            members
                .iter()
                .skip(2)
                .flat_map(|id| estate.interfaces[*id].addresses.ranges()),
        );
    }
    let left_out: Addresses = left_out.into_iter().collect();
    let destinations = Destinations::new(view, &found.nodes, &found.node_of, &to);
    let reached = destinations.all.difference(&left_out);
    let question = |start: Start, packets: PacketSet| Asked {
        start,
        packets,
        name: None,
        any_of: Vec::new(),
    };
    let (services, failing, spared) = (asked.services, asked.failing, asked.spared);
    let lists = without_twice(view, &from);
    let together = view.limits.senders_together;
    let lists: Vec<&[Sender]> = lists
        .iter()
        .flat_map(|list| list.chunks(together))
        .collect();
    let mut outside: Vec<(Start, Addresses, usize)> = Vec::new();
    if matches!(asked.from, From::Everywhere | From::Internet) {
        outside.push((
            Start::Internet,
            view.internet_end(),
            index::place(&found.nodes, &Node::Internet),
        ));
    }
    for id in estate.sites.ids() {
        if asked.from == From::Everywhere || asked.from == From::Site(id) {
            let node = index::place(&found.nodes, &Node::Site(id));
            outside.push((Start::Site(id), estate.sites[id].holds.clone(), node));
        }
    }
    let inside = |from: &&[Sender]| {
        let packets = from_interfaces(view, from, &reached, services);
        let ids: Vec<Id<Interface>> = from.iter().map(|(id, _)| *id).collect();
        let packets = spared.map_or_else(
            || packets.clone(),
            |spared| packets.difference(&spared(&ids)),
        );
        if packets.is_empty() {
            return (Vec::new(), Vec::new());
        }
        let start = Start::Interfaces(ids);
        let answered = walk_ends(view, &question(start, packets), left_out.clone());
        let mut holders: Vec<(heronshale_sets::address::Range, u32)> = Vec::new();
        for (id, node) in *from {
            holders.extend(
                estate.interfaces[*id]
                    .addresses
                    .ranges()
                    .map(|range| (range, *node)),
            );
        }
        holders.sort_unstable_by_key(|(range, _)| (range.family, range.first));
        found.read(
            view,
            &destinations,
            answered.parts,
            &answered.labels,
            failing,
            (None, &|sources| index::among(&holders, sources)),
        )
    };
    let outside_in = |(start, sources, node): &(Start, Addresses, usize)| {
        // Nothing else can be sent across the internet.
        let public = heronshale_sets::address::internet_at_large();
        let reached = if *start == Start::Internet {
            reached.intersection(&public)
        } else {
            reached.clone()
        };
        let packets = sent(
            sources,
            &reached,
            services,
            &view.settings(None).client_ports,
        );
        let node = found.node_number(*node);
        let answered = walk_ends(view, &question(start.clone(), packets), left_out.clone());
        found.read(
            view,
            &destinations,
            answered.parts,
            &answered.labels,
            failing,
            (Some(sources), &|_| vec![node]),
        )
    };
    let fault = carried();
    // Rows point to nodes only, so that each part is read on its own.
    let (from_outside, from_inside): (Vec<_>, Vec<_>) = rayon::join(
        || under(fault, || each(&outside, outside_in)),
        || under(fault, || each(&lists, inside)),
    );
    for (fates, rows) in from_inside.into_iter().chain(from_outside) {
        found.add(fates, rows);
    }
    found
}

/// An interface that sends, and its node.
pub(crate) type Sender = (Id<Interface>, u32);

/// Interfaces in lists in which no two hold one address, since a packet says nothing else about who sent it.
pub fn without_twice(view: &Fabric<'_>, from: &[Sender]) -> Vec<Vec<Sender>> {
    let several = view.held_by_several();
    let mut lists: Vec<(Addresses, Vec<Sender>)> = vec![(Addresses::empty(), Vec::new())];
    for one in from {
        let own = &view.estate.interfaces[one.0].addresses;
        let at = if own.overlaps(several) {
            lists.iter().position(|(held, _)| !held.overlaps(own))
        } else {
            Some(0)
        };
        let at = at.unwrap_or_else(|| {
            lists.push((Addresses::empty(), Vec::new()));
            lists.len() - 1
        });
        if own.overlaps(several) {
            lists[at].0 = lists[at].0.union(own);
        }
        lists[at].1.push(*one);
    }
    lists
        .into_iter()
        .map(|(_, list)| list)
        .filter(|list| !list.is_empty())
        .collect()
}

/// What interfaces send, each from the client ports of its network.
fn from_interfaces(
    view: &Fabric<'_>,
    from: &[(Id<Interface>, u32)],
    to: &Addresses,
    services: &[Service],
) -> PacketSet {
    let mut by_ports: Vec<(&Intervals, Vec<heronshale_sets::address::Range>)> = Vec::new();
    let mut known: FxHashMap<Id<Network>, usize> = FxHashMap::default();
    for (id, _) in from {
        let network = view.estate.network_of(*id);
        let at = *known.entry(network).or_insert_with(|| {
            let ports = &view.settings(network).client_ports;
            by_ports
                .iter()
                .position(|(other, _)| *other == ports)
                .unwrap_or_else(|| {
                    by_ports.push((ports, Vec::new()));
                    by_ports.len() - 1
                })
        });
        by_ports[at]
            .1
            .extend(view.estate.interfaces[*id].addresses.ranges());
    }
    let sets = by_ports
        .into_iter()
        .map(|(ports, sources)| sent(&sources.into_iter().collect(), to, services, ports));
    PacketSet::union_all(sets)
}

/// The numbers of some services; of all if none is named.
pub fn numbers_of(services: &[Service], family: Family) -> Intervals {
    if services.is_empty() {
        return service::all(family);
    }
    services.iter().fold(Intervals::empty(), |sum, one| {
        sum.union(&one.numbers(family))
    })
}

/// Packets of some services, with these client ports where they have any.
pub fn sent(
    sources: &Addresses,
    to: &Addresses,
    services: &[Service],
    ports: &Intervals,
) -> PacketSet {
    let numbers = |family| numbers_of(services, family);
    let every = Intervals::span(0, u128::from(u16::MAX));
    let ported = |family| numbers(family).intersection(&service::all_with_ports());
    let others = |family| numbers(family).difference(&service::all_with_ports());
    let with = PacketSet::fields(sources, to, ported, ports, ());
    with.union(&PacketSet::fields(sources, to, others, &every, ()))
}
