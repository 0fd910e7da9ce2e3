//! Who talks without any device between: where nothing keeps state, nothing can be missed by a reply.
//!
//! *Problem.* Whether replies miss a device has to be asked between all places of an estate. Most of them are joined by
//! nothing but routes, and every packet between two such places fares the same as far as devices go.
//!
//! *Method.* For each place where packets are routed, the destinations on whose way a device *may* stand: those
//! that some winning route leads to one, and those that it leads on to a place where that holds. The least fixed point of this
//! is wider than the truth (it forgets by which link a packet came, and takes all of nature's choices at once), so what lies
//! outside of it meets no device for certain.
//!
//! *Global IPv6* is not translated: two networks whose packets to each other can only leave by their own internet gateways meet these
//! two, there and back, and each sees both directions.
//!
//! *Cost.* Each place splits its destinations once; then a few rounds over all places.

use crate::fabric::Fabric;
use crate::fabric::internet_gateway;
use crate::faults::{Fault, has};
use crate::route::{
    Candidates, Hop, RoutePlace, candidates, domain_candidates, link_of, routed_packets,
};
use heronshale_model::estate::{
    Gateway, GatewayKind, Hub, Id, LinkEnd, Network, Reference, SameSubnet, Subnet,
};
use heronshale_sets::address::{Addresses, Family, Range, internet_at_large};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};
use rustc_hash::{FxHashMap, FxHashSet};

/// Where a packet is routed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Stop {
    Subnet(Id<Subnet>),
    /// Outside of all subnets, by a network's main table: what comes in from a hub.
    Main(Id<Network>),
    /// Outside of all subnets, by automatic routes: what comes in from the internet.
    Outside(Id<Network>),
    Domain(Id<Hub>, usize),
}

/// What becomes of packets to some addresses at a stop.
enum Next {
    /// They may come to a device.
    Device,
    /// They leave by an internet gateway as they are.
    Out(Id<Gateway>),
    /// They come to whoever holds their destination in a network.
    Holder(Id<Network>),
    /// They are routed again.
    On(Stop),
}

/// To which destinations packets may come from a stop: to a device, out by a gateway, to who holds them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Ends {
    device: Addresses,
    out: Vec<(Id<Gateway>, Addresses)>,
    held: Addresses,
}

/// What comes next for each destination. What ends without a device has nothing.
type Onward = Vec<(Addresses, Next)>;

/// For each subnet addresses of its plain interfaces, and those of others between which and these no packet and no reply meets a device
/// that sees only one of the two.
pub struct Direct {
    /// The second is a place in `to`.
    between: FxHashMap<Id<Subnet>, Vec<(Addresses, usize)>>,
    to: Vec<Addresses>,
}

struct Finder<'v, 'e> {
    view: &'v Fabric<'e>,
    /// Addresses of a network that are a device's.
    devices: Vec<Addresses>,
    stops: FxHashMap<Stop, usize>,
    onward: Vec<Onward>,
}

impl Direct {
    /// None where routes ask who sends: there nothing is said.
    pub fn new(view: &Fabric<'_>) -> Option<Self> {
        let estate = view.estate;
        let mut routes = estate
            .route_tables
            .items()
            .iter()
            .flat_map(|table| &table.routes);
        let asks = routes.any(|route| !route.only_tagged.is_empty() || route.only_from.is_some());
        if asks || !view.limits.shortcuts {
            return None;
        }
        let mut held: FxHashMap<Id<Subnet>, Vec<Range>> = FxHashMap::default();
        let parts = view.roles();
        for (_, interface) in estate
            .interfaces
            .iter()
            .filter(|(id, one)| !one.forwards && !parts.contains_key(id))
        {
            held.entry(interface.subnet)
                .or_default()
                .extend(interface.addresses.ranges());
        }
        let mut held: Vec<(Id<Subnet>, Addresses)> = held
            .into_iter()
            .map(|(subnet, ranges)| (subnet, ranges.into_iter().collect()))
            .collect();
        held.retain(|(_, addresses)| !addresses.is_empty());
        held.sort_unstable_by_key(|(subnet, _)| *subnet);
        let mut finder = Finder {
            view,
            devices: devices(view),
            stops: FxHashMap::default(),
            onward: Vec::new(),
        };
        let stops: Vec<usize> = held
            .iter()
            .map(|(subnet, _)| finder.stop(Stop::Subnet(*subnet)))
            .collect();
        let gates: Vec<Option<Gate>> = held
            .iter()
            .map(|(subnet, _)| finder.gate(*subnet))
            .collect();
        let ends = finder.ends();
        let meet: Vec<Addresses> = stops.iter().map(|stop| ends[*stop].meeting()).collect();
        // An address that several hold does not say who answers.
        let several = view.held_by_several();
        let other_names = other_names(view);
        // For those that leave by their network's own gateway: what comes back by it to them, and for which destinations.
        let out: Vec<Option<(Addresses, Addresses)>> = (0..held.len())
            .map(|at| {
                let gate = gates[at].as_ref()?;
                let own = held[at]
                    .1
                    .intersection(&gate.region)
                    .difference(several)
                    .difference(&other_names);
                let own = own.difference(&ends[gate.inside].meeting());
                Some((own, ends[stops[at]].only_by(gate.gateway)))
            })
            .collect();
        let mut direct = Self {
            between: FxHashMap::default(),
            to: Vec::new(),
        };
        // Subnets of which the same is true share what they reach.
        let near = Distinct::new(meet.iter().enumerate());
        let all_of = |places: &Vec<usize>| {
            places
                .iter()
                .flat_map(|at| held[*at].1.ranges())
                .collect::<Addresses>()
        };
        let members: Vec<Addresses> = near.places.iter().map(all_of).collect();
        let mut known: FxHashMap<(usize, Vec<usize>), usize> = FxHashMap::default();
        for (at, (subnet, own)) in held.iter().enumerate() {
            let back =
                |kind: &usize| has(Fault::DirectForgetsReplies) || !near.sets[*kind].overlaps(own);
            let kinds: Vec<usize> = (0..near.sets.len()).filter(back).collect();
            let kind = near.of[&at];
            let to = *known
                .entry((kind, kinds))
                .or_insert_with_key(|(kind, kinds)| {
                    let all: Addresses = kinds
                        .iter()
                        .flat_map(|kind| members[*kind].ranges())
                        .collect();
                    direct
                        .to
                        .push(all.difference(near.sets[*kind]).difference(several));
                    direct.to.len() - 1
                });
            direct
                .between
                .entry(*subnet)
                .or_default()
                .push((own.clone(), to));
        }
        let gated =
            |(at, out): (usize, &'_ Option<(Addresses, Addresses)>)| out.as_ref().map(|_| at);
        let gated: Vec<usize> = out.iter().enumerate().filter_map(gated).collect();
        let of = |at: &usize| out[*at].as_ref().expect("these leave by a gateway");
        let by_gateway = Distinct::new(gated.iter().map(|at| (*at, &of(at).1)));
        let mut known: FxHashMap<(usize, Vec<usize>), usize> = FxHashMap::default();
        for at in &gated {
            let (own, reach) = of(at);
            let kinds: Vec<usize> = (0..by_gateway.sets.len())
                .filter(|kind| own.is_subset(by_gateway.sets[*kind]))
                .collect();
            let to = *known
                .entry((by_gateway.of[at], kinds))
                .or_insert_with_key(|(_, kinds)| {
                    let others = kinds
                        .iter()
                        .flat_map(|kind| &by_gateway.places[*kind])
                        .map(|other| &of(other).0);
                    direct.to.push(
                        others
                            .filter(|other| other.is_subset(reach))
                            .flat_map(Addresses::ranges)
                            .collect(),
                    );
                    direct.to.len() - 1
                });
            direct
                .between
                .entry(held[*at].0)
                .or_default()
                .push((own.clone(), to));
        }
        Some(direct)
    }

    /// What interfaces of these subnets send to others without a device between, there or back.
    pub fn packets(&self, subnets: impl Iterator<Item = Id<Subnet>>) -> PacketSet {
        let every = Intervals::span(0, u128::from(u16::MAX));
        let subnets: FxHashSet<Id<Subnet>> = subnets.collect();
        let mut from: FxHashMap<usize, Vec<Range>> = FxHashMap::default();
        for (own, to) in subnets
            .iter()
            .filter_map(|subnet| self.between.get(subnet))
            .flatten()
        {
            from.entry(*to).or_default().extend(own.ranges());
        }
        let one = |(to, from): (usize, Vec<Range>)| {
            PacketSet::fields(
                &from.into_iter().collect(),
                &self.to[to],
                service::all,
                &every,
                (),
            )
        };
        PacketSet::union_all(from.into_iter().map(one))
    }
}

/// Sets, each once, with the places where it occurs.
struct Distinct<'s> {
    sets: Vec<&'s Addresses>,
    places: Vec<Vec<usize>>,
    /// For each place the number of its set.
    of: FxHashMap<usize, usize>,
}

impl<'s> Distinct<'s> {
    fn new(all: impl Iterator<Item = (usize, &'s Addresses)>) -> Self {
        let mut index: FxHashMap<&Addresses, usize> = FxHashMap::default();
        let mut distinct = Self {
            sets: Vec::new(),
            places: Vec::new(),
            of: FxHashMap::default(),
        };
        for (place, set) in all {
            let at = *index.entry(set).or_insert_with(|| {
                distinct.sets.push(set);
                distinct.places.push(Vec::new());
                distinct.sets.len() - 1
            });
            distinct.places[at].push(place);
            distinct.of.insert(place, at);
        }
        distinct
    }
}

/// For each network the addresses in it that a device holds.
fn devices(view: &Fabric<'_>) -> Vec<Addresses> {
    let estate = view.estate;
    let parts = view.roles();
    let mut held: Vec<Vec<Range>> = vec![Vec::new(); estate.networks.len()];
    for (id, interface) in estate.interfaces.iter() {
        if interface.forwards || parts.contains_key(&id) {
            held[estate.network_of(id).index()].extend(interface.addresses.ranges());
        }
    }
    for balancer in estate.balancers.items() {
        let fronts = balancer
            .front_ends
            .iter()
            .map(|front| Range::single(front.address));
        held[balancer.network.index()].extend(fronts);
    }
    for gateway in estate.gateways.items() {
        if let GatewayKind::Nat {
            address: Some(address),
            ..
        } = &gateway.kind
        {
            held[gateway.network.index()].push(Range::single(*address));
        }
    }
    held.into_iter()
        .map(|ranges| ranges.into_iter().collect())
        .collect()
}

/// Addresses by which something else is meant than the interface that holds them: public ones, and those that a gateway maps to
/// these.
fn other_names(view: &Fabric<'_>) -> Addresses {
    let estate = view.estate;
    let mapped = estate
        .public_addresses
        .items()
        .iter()
        .filter_map(|public| public.private);
    let nat = estate
        .gateways
        .items()
        .iter()
        .filter_map(|gateway| match &gateway.kind {
            GatewayKind::Nat { address, .. } => *address,
            _ => None,
        });
    mapped
        .chain(nat)
        .collect::<Addresses>()
        .union(view.public())
}

/// The internet gateway of a subnet's network.
struct Gate {
    gateway: Id<Gateway>,
    /// The global IPv6 addresses that the internet leads to the network.
    region: Addresses,
    /// Where what it lets in is routed.
    inside: usize,
}

impl Ends {
    /// Destinations on whose way something stands that keeps state.
    fn meeting(&self) -> Addresses {
        self.out
            .iter()
            .fold(self.device.clone(), |sum, (_, out)| sum.union(out))
    }

    /// Destinations to which packets only leave by a gateway.
    fn only_by(&self, gateway: Id<Gateway>) -> Addresses {
        let mut only = Addresses::empty();
        for (id, out) in &self.out {
            if *id == gateway || has(Fault::DirectByAnyGateway) {
                only = only.union(&out.difference(&self.device).difference(&self.held));
            }
        }
        let other = |id: &Id<Gateway>| *id != gateway && !has(Fault::DirectByAnyGateway);
        self.out
            .iter()
            .filter(|(id, _)| other(id))
            .fold(only, |only, (_, out)| only.difference(out))
    }

    /// The same, of some destinations only.
    fn within(&self, addresses: &Addresses) -> Self {
        let out = self
            .out
            .iter()
            .map(|(id, out)| (*id, out.intersection(addresses)));
        Self {
            device: self.device.intersection(addresses),
            out: out.filter(|(_, out)| !out.is_empty()).collect(),
            held: self.held.intersection(addresses),
        }
    }

    fn join(&mut self, other: &Self) {
        self.device = self.device.union(&other.device);
        self.held = self.held.union(&other.held);
        for (id, more) in &other.out {
            match self.out.iter_mut().find(|(known, _)| known == id) {
                Some((_, out)) => *out = out.union(more),
                None => self.out.push((*id, more.clone())),
            }
        }
    }
}

impl<'e> Finder<'_, 'e> {
    /// The gateway by which a subnet's network is on the internet, if that has no routes of its own.
    fn gate(&mut self, subnet: Id<Subnet>) -> Option<Gate> {
        let estate = self.view.estate;
        let network = estate.subnets[subnet].network;
        let gateway = internet_gateway(self.view, network)?;
        let GatewayKind::Internet { table: None, .. } = estate.gateways[gateway].kind else {
            return None;
        };
        // The internet leads an address to the first network that has it.
        let mut region = estate.networks[network].blocks.intersection(&global());
        for (_, other) in estate.networks.iter().take_while(|(id, _)| *id < network) {
            region = region.difference(&other.blocks);
        }
        Some(Gate {
            gateway,
            region,
            inside: self.stop(Stop::Outside(network)),
        })
    }

    /// The number of a stop; what it leads to is found when it is new.
    fn stop(&mut self, stop: Stop) -> usize {
        if let Some(known) = self.stops.get(&stop) {
            return *known;
        }
        let at = self.onward.len();
        self.stops.insert(stop, at);
        self.onward.push(Vec::new());
        let onward = match stop {
            Stop::Subnet(subnet) => self.leaving_subnet(subnet),
            Stop::Main(network) => {
                let table = self.view.estate.networks[network].main_table.as_ref();
                self.routed(
                    network,
                    &candidates(
                        self.view,
                        RoutePlace {
                            table,
                            ..RoutePlace::outside(network)
                        },
                    ),
                )
            }
            Stop::Outside(network) => self.routed(
                network,
                &candidates(self.view, RoutePlace::outside(network)),
            ),
            Stop::Domain(hub, domain) => self.in_domain(hub, domain),
        };
        for (_, next) in &onward {
            if let Next::On(next) = next {
                self.stop(*next);
            }
        }
        self.onward[at] = onward;
        at
    }

    fn leaving_subnet(&self, subnet: Id<Subnet>) -> Onward {
        let item = &self.view.estate.subnets[subnet];
        let place: RoutePlace<'e> = RoutePlace::in_subnet(self.view, subnet, None);
        let mut onward = self.routed(item.network, &candidates(self.view, place));
        if self.view.settings(item.network).same_subnet == SameSubnet::Direct {
            for (addresses, _) in &mut onward {
                *addresses = addresses.difference(&item.blocks);
            }
            onward.push((item.blocks.clone(), Next::Holder(item.network)));
        }
        onward
    }

    /// What the routes of a place in a network make of all destinations.
    fn routed(&self, network: Id<Network>, candidates: &Candidates) -> Onward {
        let estate = self.view.estate;
        let mut onward = Vec::new();
        for (addresses, hop) in winners(candidates) {
            let next = match hop {
                Hop::Local => Next::Holder(network),
                Hop::Peering(peering) => match estate.peerings[peering].opposite(network) {
                    Some(Reference::Found(other)) => Next::Holder(*other),
                    _ => continue,
                },
                Hop::Hub(hub, link) => match self.entering_hub(hub, link) {
                    Some(next) => next,
                    None => continue,
                },
                Hop::Blackhole | Hop::Dead | Hop::Unknown => continue,
                Hop::Gateway(id)
                    if matches!(
                        estate.gateways[id].kind,
                        GatewayKind::Internet { table: None, .. }
                    ) =>
                {
                    onward.push((addresses.intersection(&global()), Next::Out(id)));
                    onward.push((addresses.difference(&global()), Next::Device));
                    continue;
                }
                _ => Next::Device,
            };
            onward.push((addresses, next));
        }
        onward
    }

    /// Into a hub by one of its links; none: no domain is read there, and the packets end.
    fn entering_hub(&self, hub: Id<Hub>, link: usize) -> Option<Next> {
        let link = &self.view.estate.hubs[hub].links[link];
        let steered = link.steer_internet.is_some() || link.steer_private.is_some();
        if steered && !has(Fault::DirectForgetsSteering) {
            return Some(Next::Device);
        }
        link.reads.map(|domain| Next::On(Stop::Domain(hub, domain)))
    }

    fn in_domain(&self, hub: Id<Hub>, domain: usize) -> Onward {
        let estate = self.view.estate;
        let mut onward = Vec::new();
        for (addresses, hop) in winners(&domain_candidates(self.view, hub, domain)) {
            let Hop::Hub(_, out) = hop else { continue };
            let link = &estate.hubs[hub].links[out];
            let next = match &link.to {
                LinkEnd::Network(Reference::Found(network)) => {
                    Next::On(link.subnet.map_or(Stop::Main(*network), Stop::Subnet))
                }
                LinkEnd::Hub(Reference::Found(other)) => {
                    let back = |to: &LinkEnd| *to == LinkEnd::Hub(Reference::Found(hub));
                    match link_of(&estate.hubs[*other], back)
                        .and_then(|(entry, _)| self.entering_hub(*other, entry))
                    {
                        Some(next) => next,
                        None => continue,
                    }
                }
                LinkEnd::Network(_) | LinkEnd::Hub(_) => continue,
                LinkEnd::Site(_) | LinkEnd::Firewall(_) => Next::Device,
            };
            onward.push((addresses, next));
        }
        onward
    }

    /// For each stop where packets may end up.
    fn ends(&self) -> Vec<Ends> {
        let mut ends = vec![Ends::default(); self.onward.len()];
        let mut changed = true;
        while changed {
            changed = false;
            for (at, onward) in self.onward.iter().enumerate() {
                let mut all = ends[at].clone();
                for (addresses, next) in onward {
                    match next {
                        Next::Device => all.device = all.device.union(addresses),
                        Next::Out(gateway) => {
                            all.join(&Ends {
                                out: vec![(*gateway, addresses.clone())],
                                ..Ends::default()
                            });
                        }
                        Next::Holder(network) => {
                            let device = addresses.intersection(&self.devices[network.index()]);
                            all.join(&Ends {
                                device,
                                held: addresses.clone(),
                                ..Ends::default()
                            });
                        }
                        Next::On(stop) => all.join(&ends[self.stops[stop]].within(addresses)),
                    }
                }
                if all != ends[at] {
                    ends[at] = all;
                    changed = true;
                }
            }
        }
        ends
    }
}

/// Global IPv6 addresses.
fn global() -> Addresses {
    internet_at_large().intersection(&Addresses::of_family(Family::V6))
}

/// The winning hops for all destinations; those for which no route wins are left out. Several may win for one.
fn winners(candidates: &Candidates) -> Vec<(Addresses, Hop)> {
    let (all, every) = (Addresses::all(), Intervals::span(0, u128::from(u16::MAX)));
    let any = PacketSet::fields(&all, &all, service::all, &every, ());
    let routed = routed_packets(candidates, &any, false);
    let each = |(packets, winners): (PacketSet, Vec<crate::route::Winner>)| {
        let to = packets.destinations();
        winners
            .into_iter()
            .map(move |winner| (to.clone(), winner.hop))
            .collect::<Vec<_>>()
    };
    routed.into_iter().flat_map(each).collect()
}
