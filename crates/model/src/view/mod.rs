//! The frozen view: what names mean as addresses, computed once for an estate and a date.

use heronshale_sets::address::{Addresses, Range, internet_at_large};
mod gaps;
mod matched;

pub use matched::{Matched, SetMeaning};

use crate::estate::{
    AddressSet, Estate, Filter, FilterKind, Id, Interface, LinkEnd, Name, NamedPeerReach, Network,
    Peer, PublicAddress, Reference, Rule, Settings,
};
use crate::faults::{Fault, has};
use crate::limits::Limits;
use crate::stated::Stated;
use crate::tuning::Tuning;
use gaps::{Gaps, gaps_of};
use matched::set_meanings;
use rustc_hash::{FxHashMap, FxHashSet};
use std::sync::{OnceLock, RwLock};

/// An estate, the date it is judged by, and what its names mean.
pub struct View<'e> {
    /// The estate.
    pub estate: &'e Estate,
    /// The moment by which ends of rules are judged: what was asked for, else the snapshot's own.
    pub at: Option<jiff::Timestamp>,
    /// By what the audit measures.
    pub tuning: Tuning,
    /// What people say about the estate.
    pub stated: Stated,
    /// From which sizes on work is done otherwise.
    pub limits: Limits,
    internet: Addresses,
    public: Addresses,
    sets: Vec<SetMeaning>,
    policies: Vec<Id<Filter>>,
    carriers: Vec<Vec<Id<Interface>>>,
    bound_subnets: Vec<Vec<Id<crate::estate::Subnet>>>,
    by_identity: FxHashMap<Name, Vec<Id<Interface>>>,
    by_tag: FxHashMap<(Name, Name), Vec<Id<Interface>>>,
    within_reach: Vec<Vec<Id<Network>>>,
    at_hub: Vec<Vec<Id<Network>>>,
    gaps: Gaps,
    elsewhere: Addresses,
    unlisted: Vec<[OnceLock<Addresses>; 2]>,
    interfaces_in: Vec<Vec<Id<Interface>>>,
    network_of: Vec<Id<Network>>,
    mapped: FxHashMap<Id<Interface>, Vec<Id<PublicAddress>>>,
    held_by_several: OnceLock<Addresses>,
    held_by_others: OnceLock<Addresses>,
    named_peers: RwLock<NamedPeers>,
}

/// What peers stand for, seen from a network.
type NamedPeers = FxHashMap<Option<Id<Network>>, FxHashMap<Peer, Matched>>;

/// What a peer with at least so many members stands for is remembered.
const MANY: usize = 32;

impl<'e> View<'e> {
    /// Computes what names mean. `at` overrides the snapshot's own time.
    pub fn new(
        estate: &'e Estate,
        at: Option<jiff::Timestamp>,
        tuning: Tuning,
        stated: Stated,
    ) -> Self {
        let blocks = estate
            .networks
            .items()
            .iter()
            .fold(Addresses::empty(), |sum, network| {
                sum.union(&network.blocks)
            });
        let held = estate
            .sites
            .items()
            .iter()
            .fold(Addresses::empty(), |sum, site| sum.union(&site.holds));
        let gap_blocks = estate.gaps.iter().filter_map(|gap| gap.blocks.as_ref());
        let known = gap_blocks.fold(blocks.union(&held), |sum, blocks| sum.union(blocks));
        let mut view = Self {
            tuning,
            stated,
            limits: Limits::default(),
            estate,
            at: at.or(estate.taken),
            internet: internet_at_large().difference(&known),
            elsewhere: Addresses::all()
                .difference(&internet_at_large())
                .difference(&known),
            public: public_addresses(estate),
            sets: set_meanings(estate),
            policies: estate
                .filters
                .iter()
                .filter(|(_, filter)| matches!(filter.kind, FilterKind::ScopePolicy { .. }))
                .map(|(id, _)| id)
                .collect(),
            carriers: vec![Vec::new(); estate.filters.len()],
            bound_subnets: vec![Vec::new(); estate.filters.len()],
            by_identity: FxHashMap::default(),
            by_tag: FxHashMap::default(),
            within_reach: reaches(estate),
            at_hub: at_hub(estate),
            gaps: gaps_of(estate),
            unlisted: vec![Default::default(); estate.networks.len() + 1],
            interfaces_in: vec![Vec::new(); estate.networks.len()],
            network_of: estate
                .interfaces
                .ids()
                .map(|id| estate.network_of(id))
                .collect(),
            mapped: FxHashMap::default(),
            held_by_several: OnceLock::new(),
            held_by_others: OnceLock::new(),
            named_peers: RwLock::default(),
        };
        view.index_interfaces();
        view
    }

    /// The same within other limits.
    #[must_use]
    pub fn within(self, limits: Limits) -> Self {
        Self { limits, ..self }
    }

    fn index_interfaces(&mut self) {
        for (id, subnet) in self.estate.subnets.iter() {
            for group in subnet.groups.iter().filter_map(Reference::found) {
                push_once(&mut self.bound_subnets[group.index()], id);
            }
        }
        for (id, public) in self.estate.public_addresses.iter() {
            if let Some(interface) = public.interface {
                self.mapped.entry(interface).or_default().push(id);
            }
        }
        for (id, interface) in self.estate.interfaces.iter() {
            self.interfaces_in[self.estate.network_of(id).index()].push(id);
            for group in interface.groups.iter().filter_map(Reference::found) {
                push_once(&mut self.carriers[group.index()], id);
            }
            if has(Fault::SubnetBindingCarries) {
                for group in self.estate.subnets[interface.subnet]
                    .groups
                    .iter()
                    .filter_map(Reference::found)
                {
                    push_once(&mut self.carriers[group.index()], id);
                }
            }
            if let Some(identity) = self.estate.identity(id) {
                self.by_identity
                    .entry(identity.clone())
                    .or_default()
                    .push(id);
            }
            let workload_tags = interface
                .workload
                .map(|workload| &self.estate.workloads[workload].tags);
            for tag in interface
                .tags
                .iter()
                .chain(workload_tags.into_iter().flatten())
            {
                push_once(self.by_tag.entry(tag.clone()).or_default(), id);
            }
        }
    }

    /// The interfaces of a network, in the order of the snapshot.
    pub fn interfaces_in(&self, network: Id<Network>) -> &[Id<Interface>] {
        &self.interfaces_in[network.index()]
    }

    /// The public addresses that are mapped to an interface, in the order of the snapshot.
    pub fn mapped_to(&self, interface: Id<Interface>) -> &[Id<PublicAddress>] {
        self.mapped.get(&interface).map_or(&[], Vec::as_slice)
    }

    /// The addresses that more than one interface holds.
    pub fn held_by_several(&self) -> &Addresses {
        self.held_by_several
            .get_or_init(|| held_by_several(self.estate))
    }

    /// The addresses of interfaces other than firewalls', and what sites hold.
    pub fn held_by_others(&self) -> &Addresses {
        self.held_by_others.get_or_init(|| {
            let legs = self
                .estate
                .firewalls
                .items()
                .iter()
                .flat_map(|firewall| &firewall.legs);
            let legs: FxHashSet<Id<Interface>> = legs.map(|leg| leg.interface).collect();
            let own = self
                .estate
                .interfaces
                .iter()
                .filter(|(id, _)| !legs.contains(id));
            let sites = self
                .estate
                .sites
                .items()
                .iter()
                .flat_map(|site| site.holds.ranges());
            own.flat_map(|(_, item)| item.addresses.ranges())
                .chain(sites)
                .collect()
        })
    }

    /// The peer `internet`: public space less the blocks of networks and what sites hold.
    pub fn internet(&self) -> &Addresses {
        &self.internet
    }

    /// The internet as an end of a connection: less the estate's public addresses too.
    pub fn internet_end(&self) -> Addresses {
        self.internet.difference(&self.public)
    }

    /// The estate's public addresses.
    pub fn public(&self) -> &Addresses {
        &self.public
    }

    /// All scope policies, in the order of the snapshot.
    pub fn policies(&self) -> &[Id<Filter>] {
        &self.policies
    }

    /// What an address set holds.
    pub fn set(&self, id: Id<AddressSet>) -> &SetMeaning {
        &self.sets[id.index()]
    }

    /// The interfaces that a group is bound to directly.
    pub fn carriers(&self, group: Id<Filter>) -> &[Id<Interface>] {
        &self.carriers[group.index()]
    }

    /// The subnets that a group is bound to.
    pub fn bound_subnets(&self, group: Id<Filter>) -> &[Id<crate::estate::Subnet>] {
        &self.bound_subnets[group.index()]
    }

    /// The interfaces with all of these tags, their own or their workload's.
    pub fn tagged(&self, pairs: &[(Name, Name)]) -> Vec<Id<Interface>> {
        let none = Vec::new();
        let lists: Vec<&Vec<Id<Interface>>> = pairs
            .iter()
            .map(|pair| self.by_tag.get(pair).unwrap_or(&none))
            .collect();
        if has(Fault::TagsAnyPair) {
            let mut any: Vec<_> = lists.into_iter().flatten().copied().collect();
            any.sort_unstable();
            any.dedup();
            return any;
        }
        let Some(shortest) = lists.iter().min_by_key(|list| list.len()) else {
            return Vec::new();
        };
        shortest
            .iter()
            .copied()
            .filter(|id| self.estate.has_tags(*id, pairs))
            .collect()
    }

    /// The interfaces whose workload runs as an account.
    pub fn running_as(&self, identity: &str) -> &[Id<Interface>] {
        self.by_identity.get(identity).map_or(&[], Vec::as_slice)
    }

    /// The divisions around a network, outermost first.
    pub fn divisions_of(&self, network: Id<Network>) -> Vec<Id<crate::estate::Division>> {
        let mut divisions = Vec::new();
        let mut above = self.estate.networks[network].division;
        while let Some(division) = above {
            divisions.insert(0, division);
            above = self.estate.divisions[division].parent;
        }
        divisions
    }

    /// The settings that hold in a network; outside of all, those of the estate.
    pub fn settings(&self, network: impl Into<Option<Id<Network>>>) -> &'e Settings {
        network.into().map_or(&self.estate.settings, |network| {
            &self.estate.networks[network].settings
        })
    }

    /// Whether named peers of a rule that is enforced in one network reach interfaces in another; a rule that is
    /// enforced nowhere is read as if it reached all.
    pub fn reaches(&self, from: Option<Id<Network>>, to: Id<Network>) -> bool {
        let Some(from) = from else { return true };
        match self.settings(from).named_peer_reach {
            NamedPeerReach::Network => from == to,
            NamedPeerReach::Estate => true,
            NamedPeerReach::Peered => from == to || self.within_reach[from.index()].contains(&to),
            NamedPeerReach::Hub => {
                from == to
                    || self.within_reach[from.index()].contains(&to)
                    || self.at_hub[from.index()].contains(&to)
            }
        }
    }

    /// Whether they may reach interfaces there by a peering or a hub that the snapshot lacks.
    fn may_reach(&self, from: Option<Id<Network>>) -> bool {
        from.is_some_and(|from| match self.settings(from).named_peer_reach {
            NamedPeerReach::Network | NamedPeerReach::Estate => false,
            NamedPeerReach::Peered => self.lacks_any(&["peering"]),
            NamedPeerReach::Hub => self.lacks_any(&["peering", "hub"]),
        })
    }

    /// Whether named peers reach into a network that the snapshot lacks, or may.
    fn may_reach_lacking(&self, from: Option<Id<Network>>, name: &str) -> bool {
        let Some(from) = from else { return true };
        let is_it = |other: Option<&Reference<Network>>| matches!(other, Some(Reference::Missing(other)) if **other == *name);
        let peered = || {
            let peerings = self.estate.peerings.items().iter();
            peerings
                .filter(|peering| peering.is_up())
                .any(|peering| is_it(peering.opposite(from)))
        };
        let at_hub = || {
            self.estate.hubs.items().iter().any(|hub| {
                let up = || hub.links.iter().filter(|link| link.up);
                let has = |wanted: &dyn Fn(&Reference<Network>) -> bool| {
                    up().any(
                        |link| matches!(&link.to, LinkEnd::Network(network) if wanted(network)),
                    )
                };
                has(&|network| network.found() == Some(from))
                    && has(&|network| is_it(Some(network)))
            })
        };
        match self.settings(from).named_peer_reach {
            NamedPeerReach::Network => false,
            NamedPeerReach::Estate => true,
            NamedPeerReach::Peered => self.may_reach(Some(from)) || peered(),
            NamedPeerReach::Hub => self.may_reach(Some(from)) || peered() || at_hub(),
        }
    }

    /// The addresses of interfaces, as far as named peers reach from a network.
    pub(super) fn held_by(
        &self,
        interfaces: &[Id<Interface>],
        from: Option<Id<Network>>,
    ) -> Addresses {
        let near = interfaces
            .iter()
            .filter(|id| self.reaches(from, self.network_of[id.index()]));
        let mut all: Addresses = near
            .clone()
            .flat_map(|id| self.estate.interfaces[*id].addresses.ranges())
            .collect();
        if has(Fault::PublicAddressesCarry) {
            for public in self.estate.public_addresses.items() {
                if public
                    .interface
                    .is_some_and(|holder| near.clone().any(|id| *id == holder))
                {
                    all = all.union(&Addresses::single(public.address));
                }
            }
        }
        all
    }

    fn named(
        &self,
        interfaces: &[Id<Interface>],
        from: Option<Id<Network>>,
        groups: bool,
    ) -> Matched {
        let sure = self.held_by(interfaces, from);
        let mut maybe = self.unlisted(from, groups).difference(&sure);
        if self.may_reach(from) {
            maybe = maybe
                .union(&self.held_by(interfaces, None))
                .difference(&sure);
        }
        Matched { sure, maybe }
    }

    /// What a peer with so many members stands for, remembered if these are many.
    fn once(
        &self,
        peer: &Peer,
        from: Option<Id<Network>>,
        members: usize,
        find: impl FnOnce() -> Matched,
    ) -> Matched {
        if members < MANY {
            return find();
        }
        let known = |all: &NamedPeers| all.get(&from).and_then(|of| of.get(peer)).cloned();
        if let Some(matched) = self.named_peers.read().ok().and_then(|all| known(&all)) {
            return matched;
        }
        let matched = find();
        if let Ok(mut all) = self.named_peers.write() {
            all.entry(from)
                .or_default()
                .insert(peer.clone(), matched.clone());
        }
        matched
    }

    /// The addresses that a peer stands for in a rule that is enforced in a network.
    pub fn peer(&self, peer: &Peer, from: Option<Id<Network>>) -> Matched {
        match peer {
            Peer::Any => Matched::sure(Addresses::all()),
            Peer::Internet => Matched::sure(self.internet.clone()),
            Peer::Probes => self
                .estate
                .probes
                .clone()
                .map_or_else(Matched::unknown, Matched::sure),
            Peer::Block(block) => Matched::sure([block.range].into_iter().collect()),
            Peer::AddressSet(Reference::Found(set)) => self.sets[set.index()].matched.clone(),
            Peer::Group(Reference::Found(group)) => {
                let carriers = &self.carriers[group.index()];
                self.once(peer, from, carriers.len(), || {
                    self.named(carriers, from, true)
                })
            }
            Peer::Tag(pairs) => self.once(peer, from, MANY, || {
                self.named(&self.tagged(pairs), from, false)
            }),
            Peer::Identity(identity) => {
                let all = self.running_as(identity);
                self.once(peer, from, all.len(), || self.named(all, from, false))
            }
            Peer::Interface(Reference::Found(interface)) => {
                let sure = self.held_by(&[*interface], from);
                let perhaps = if self.may_reach(from) {
                    self.held_by(&[*interface], None)
                } else {
                    Addresses::empty()
                };
                Matched {
                    maybe: perhaps.difference(&sure),
                    sure,
                }
            }
            Peer::Network(Reference::Found(network)) => {
                Matched::sure(self.estate.networks[*network].blocks.clone())
            }
            Peer::Subnet(Reference::Found(subnet)) => {
                Matched::sure(self.estate.subnets[*subnet].blocks.clone())
            }
            Peer::Site(Reference::Found(site)) => {
                Matched::sure(self.estate.sites[*site].holds.clone())
            }
            Peer::Network(Reference::Missing(name)) => self.gap_blocks("network", name),
            Peer::AddressSet(_)
            | Peer::Group(_)
            | Peer::Interface(_)
            | Peer::Subnet(_)
            | Peer::Site(_) => {
                if has(Fault::MissingPeerMatchesNothing) {
                    Matched::default()
                } else {
                    Matched::unknown()
                }
            }
        }
    }

    /// The addresses that any of some peers stands for.
    pub fn peers(&self, peers: &[Peer], from: Option<Id<Network>>) -> Matched {
        match peers {
            [one] => self.peer(one, from),
            all => all.iter().fold(Matched::default(), |sum, peer| {
                sum.union(&self.peer(peer, from))
            }),
        }
    }

    /// What of a peer is in doubt: the part that is not known, with the addresses that it may hold.
    pub fn open_parts(&self, peer: &Peer, from: Option<Id<Network>>) -> Vec<(Peer, Addresses)> {
        if let Peer::AddressSet(Reference::Found(set)) = peer {
            let meaning = &self.sets[set.index()];
            return meaning
                .open
                .iter()
                .map(|part| (part.clone(), meaning.matched.maybe.clone()))
                .collect();
        }
        let maybe = self.peer(peer, from).maybe;
        if maybe.is_empty() {
            Vec::new()
        } else {
            vec![(peer.clone(), maybe)]
        }
    }

    /// The parts of a peer of which the snapshot does not say everything.
    pub fn open_peers(&self, peer: &Peer, from: Option<Id<Network>>) -> Vec<Peer> {
        self.open_parts(peer, from)
            .into_iter()
            .map(|(part, _)| part)
            .collect()
    }

    /// Whether a rule is in force at the date judged by.
    pub fn in_force(&self, rule: &Rule) -> bool {
        if has(Fault::IgnoreDisabled) && !rule.enabled {
            return true;
        }
        rule.in_force(if has(Fault::ExpiredStillMatches) {
            None
        } else {
            self.at
        })
    }
}

/// Adds an item to a list that is made in the order of the items: where it is there already, it is the last.
fn push_once<T: PartialEq>(list: &mut Vec<T>, item: T) {
    if list.last() != Some(&item) {
        list.push(item);
    }
}

/// The networks that each is peered with, up on both sides.
fn reaches(estate: &Estate) -> Vec<Vec<Id<Network>>> {
    let mut reach = vec![Vec::new(); estate.networks.len()];
    for peering in estate
        .peerings
        .items()
        .iter()
        .filter(|peering| peering.is_up())
    {
        let [a, b] = [&peering.sides[0].network, &peering.sides[1].network];
        if let (Some(a), Some(b)) = (a.found(), b.found()) {
            reach[a.index()].push(b);
            if !has(Fault::ReachOneWay) {
                reach[b.index()].push(a);
            }
        }
    }
    reach
}

/// All public addresses that the estate holds: of interfaces, balancers, NAT gateways, firewalls and public doors.
fn public_addresses(estate: &Estate) -> Addresses {
    let listed = estate
        .public_addresses
        .items()
        .iter()
        .map(|public| public.address);
    let fronts = estate
        .balancers
        .items()
        .iter()
        .flat_map(|balancer| &balancer.front_ends);
    let fronts = fronts
        .filter(|front| front.public)
        .map(|front| front.address);
    let nat = estate
        .gateways
        .items()
        .iter()
        .filter_map(|gateway| match &gateway.kind {
            crate::estate::GatewayKind::Nat { public, .. } => *public,
            _ => None,
        });
    let single: Addresses = listed.chain(fronts).chain(nat).collect();
    let doors = estate
        .services
        .items()
        .iter()
        .filter_map(|service| service.public_door.as_ref());
    let blocks = doors
        .map(|door| &door.addresses)
        .chain(estate.firewalls.items().iter().map(|item| &item.addresses));
    blocks.fold(single, |sum, block| sum.union(block))
}

/// The networks that each shares a hub with, links up.
fn at_hub(estate: &Estate) -> Vec<Vec<Id<Network>>> {
    let mut near = vec![Vec::new(); estate.networks.len()];
    for hub in estate.hubs.items() {
        let networks = hub
            .links
            .iter()
            .filter(|link| link.up)
            .filter_map(|link| match &link.to {
                crate::estate::LinkEnd::Network(network) => network.found(),
                _ => None,
            });
        let networks: Vec<Id<Network>> = networks.collect();
        for one in &networks {
            near[one.index()].extend(&networks);
        }
    }
    near
}

/// The addresses that more than one interface holds.
fn held_by_several(estate: &Estate) -> Addresses {
    let mut held: Vec<_> = estate
        .interfaces
        .items()
        .iter()
        .flat_map(|item| item.addresses.ranges())
        .collect();
    held.sort_unstable_by_key(|range| (range.family, range.first));
    let mut several = Vec::new();
    let mut last: Option<Range> = None;
    for range in held {
        if let Some(before) =
            last.filter(|before| before.family == range.family && range.first <= before.last)
        {
            several.push(Range {
                last: range.last.min(before.last),
                ..range
            });
        }
        if last.is_none_or(|before| before.family != range.family || before.last < range.last) {
            last = Some(range);
        }
    }
    several.into_iter().collect()
}
