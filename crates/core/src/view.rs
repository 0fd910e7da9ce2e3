//! The frozen view: what names mean as addresses, computed once for an estate and a date.

use crate::address::{Addresses, internet_at_large};
use crate::doubt::{At, Held, Turning};
use crate::faults::{Fault, has};
use crate::model::{
    AddressSet, Estate, Filter, FilterKind, Gap, Id, Interface, Lack, LinkEnd, Name, NamedPeerReach, Network, Peer,
    PublicAddress, Reference, Rule, SetItem, Settings,
};
use crate::packet::for_all;
use crate::stated::Stated;
use crate::tuning::Tuning;
use rustc_hash::{FxHashMap, FxHashSet};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{OnceLock, RwLock};

/// The addresses that something stands for: those that are certain, and those that depend on what the snapshot lacks.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Matched {
    /// Matched for certain.
    pub sure: Addresses,
    /// Perhaps matched; disjoint from `sure`.
    pub maybe: Addresses,
}

impl Matched {
    fn sure(sure: Addresses) -> Self {
        Self { sure, maybe: Addresses::empty() }
    }

    fn unknown() -> Self {
        Self { sure: Addresses::empty(), maybe: Addresses::all() }
    }

    pub(crate) fn union(&self, other: &Self) -> Self {
        let sure = self.sure.union(&other.sure);
        let maybe = self.maybe.union(&other.maybe).difference(&sure);
        Self { sure, maybe }
    }

    pub(crate) fn without(&self, other: &Self) -> Self {
        let sure = self.sure.difference(&other.sure).difference(&other.maybe);
        let maybe = self.maybe.union(&self.sure).difference(&other.sure).difference(&sure);
        Self { sure, maybe }
    }

    /// Certain or not.
    pub fn either(&self) -> Addresses {
        self.sure.union(&self.maybe)
    }
}

/// What an address set holds once nested sets are followed.
#[derive(Clone, Debug, Default)]
pub struct SetMeaning {
    /// The addresses.
    pub matched: Matched,
    /// The sets of unknown content that it is or holds, and the names in it that are not in the snapshot.
    pub open: Vec<Peer>,
    /// Whether it holds itself, by others.
    pub cyclic: bool,
}

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
    internet: Addresses,
    public: Addresses,
    sets: Vec<SetMeaning>,
    policies: Vec<Id<Filter>>,
    carriers: Vec<Vec<Id<Interface>>>,
    bound_subnets: Vec<Vec<Id<crate::model::Subnet>>>,
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
    stage_classes: OnceLock<Vec<u32>>,
    class_numbers: OnceLock<Vec<u32>>,
    held_by_several: OnceLock<Addresses>,
    held_by_others: OnceLock<Addresses>,
    named_peers: RwLock<NamedPeers>,
    given_up: AtomicBool,
}

/// What the snapshot says that it lacks, by kind and name of the object.
type Gaps = FxHashMap<Name, FxHashMap<Name, Vec<Lack>>>;

/// What peers stand for, seen from a network.
type NamedPeers = FxHashMap<Option<Id<Network>>, FxHashMap<Peer, Matched>>;

/// What a peer with at least so many members stands for is remembered.
const MANY: usize = 32;

impl<'e> View<'e> {
    /// Computes what names mean. `at` overrides the snapshot's own time.
    pub fn new(estate: &'e Estate, at: Option<jiff::Timestamp>) -> Self {
        let blocks = estate.networks.items().iter().fold(Addresses::empty(), |sum, network| sum.union(&network.blocks));
        let held = estate.sites.items().iter().fold(Addresses::empty(), |sum, site| sum.union(&site.holds));
        let gap_blocks = estate.gaps.iter().filter_map(|gap| gap.blocks.as_ref());
        let known = gap_blocks.fold(blocks.union(&held), |sum, blocks| sum.union(blocks));
        let mut view = Self {
            tuning: Tuning::default(),
            stated: Stated::default(),
            estate,
            at: at.or(estate.taken),
            internet: internet_at_large().difference(&known),
            elsewhere: Addresses::all().difference(&internet_at_large()).difference(&known),
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
            network_of: estate.interfaces.ids().map(|id| estate.network_of(id)).collect(),
            mapped: FxHashMap::default(),
            stage_classes: OnceLock::new(),
            class_numbers: OnceLock::new(),
            held_by_several: OnceLock::new(),
            held_by_others: OnceLock::new(),
            named_peers: RwLock::default(),
            given_up: AtomicBool::new(false),
        };
        view.index_interfaces();
        view
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
                for group in self.estate.subnets[interface.subnet].groups.iter().filter_map(Reference::found) {
                    push_once(&mut self.carriers[group.index()], id);
                }
            }
            if let Some(identity) = self.estate.identity(id) {
                self.by_identity.entry(identity.clone()).or_default().push(id);
            }
            let workload_tags = interface.workload.map(|workload| &self.estate.workloads[workload].tags);
            for tag in interface.tags.iter().chain(workload_tags.into_iter().flatten()) {
                push_once(self.by_tag.entry(tag.clone()).or_default(), id);
            }
        }
    }

    /// Says that a question was given up at a declared limit.
    pub(crate) fn give_up(&self) {
        self.given_up.store(true, Ordering::Relaxed);
    }

    /// Whether one of the questions so far was given up.
    pub fn gave_up(&self) -> bool {
        self.given_up.load(Ordering::Relaxed)
    }

    /// The interfaces of a network, in the order of the snapshot.
    pub fn interfaces_in(&self, network: Id<Network>) -> &[Id<Interface>] {
        &self.interfaces_in[network.index()]
    }

    /// The public addresses that are mapped to an interface, in the order of the snapshot.
    pub fn mapped_to(&self, interface: Id<Interface>) -> &[Id<PublicAddress>] {
        self.mapped.get(&interface).map_or(&[], Vec::as_slice)
    }

    /// What [`crate::effective::stage_classes`] says, once for all that ask.
    pub(crate) fn stage_classes(&self) -> &[u32] {
        self.stage_classes.get_or_init(|| for_all(|| crate::effective::stage_classes(self)))
    }

    /// For each interface the number of its class, once for all that ask.
    pub(crate) fn class_numbers(&self) -> &[u32] {
        self.class_numbers.get_or_init(|| {
            let mut of = vec![0; self.estate.interfaces.len()];
            for (number, class) in (0_u32..).zip(for_all(|| crate::effective::classes(self))) {
                for member in class.members {
                    of[member.index()] = number;
                }
            }
            of
        })
    }

    /// What [`crate::walk::held_by_several`] says, once for all that ask.
    pub(crate) fn held_by_several(&self) -> &Addresses {
        self.held_by_several.get_or_init(|| crate::walk::held_by_several(self))
    }

    /// The addresses of interfaces other than firewalls', and what sites hold.
    pub(crate) fn held_by_others(&self) -> &Addresses {
        self.held_by_others.get_or_init(|| {
            let legs = self.estate.firewalls.items().iter().flat_map(|firewall| &firewall.legs);
            let legs: FxHashSet<Id<Interface>> = legs.map(|leg| leg.interface).collect();
            let own = self.estate.interfaces.iter().filter(|(id, _)| !legs.contains(id));
            let sites = self.estate.sites.items().iter().flat_map(|site| site.holds.ranges());
            own.flat_map(|(_, item)| item.addresses.ranges()).chain(sites).collect()
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
    pub(crate) fn public(&self) -> &Addresses {
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
    pub fn bound_subnets(&self, group: Id<Filter>) -> &[Id<crate::model::Subnet>] {
        &self.bound_subnets[group.index()]
    }

    /// The interfaces with all of these tags, their own or their workload's.
    pub fn tagged(&self, pairs: &[(Name, Name)]) -> Vec<Id<Interface>> {
        let none = Vec::new();
        let lists: Vec<&Vec<Id<Interface>>> = pairs.iter().map(|pair| self.by_tag.get(pair).unwrap_or(&none)).collect();
        if has(Fault::TagsAnyPair) {
            let mut any: Vec<_> = lists.into_iter().flatten().copied().collect();
            any.sort_unstable();
            any.dedup();
            return any;
        }
        let Some(shortest) = lists.iter().min_by_key(|list| list.len()) else { return Vec::new() };
        shortest.iter().copied().filter(|id| self.estate.has_tags(*id, pairs)).collect()
    }

    /// The interfaces whose workload runs as an account.
    pub fn running_as(&self, identity: &str) -> &[Id<Interface>] {
        self.by_identity.get(identity).map_or(&[], Vec::as_slice)
    }

    /// The divisions around a network, outermost first.
    pub fn divisions_of(&self, network: Id<Network>) -> Vec<Id<crate::model::Division>> {
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
        network.into().map_or(&self.estate.settings, |network| &self.estate.networks[network].settings)
    }

    /// Whether the snapshot says that it lacks this part of an object.
    pub fn lacks(&self, kind: &str, name: &str, lack: Lack) -> bool {
        self.gaps.get(kind).and_then(|of| of.get(name)).is_some_and(|lacks| lacks.contains(&lack))
    }

    /// The objects of a kind that the snapshot says it lacks as a whole.
    pub fn lacking<'v>(&'v self, kind: &'v str) -> impl Iterator<Item = &'e Gap> + 'v {
        let some = self.gaps.get(kind).is_some_and(|of| of.values().flatten().any(|lack| *lack == Lack::Everything));
        let all = if some { &self.estate.gaps[..] } else { &[] };
        let is_of = move |gap: &&Gap| gap.object.split_once(':').is_some_and(|(other, _)| other == kind);
        all.iter().filter(|gap| gap.lack == Lack::Everything).filter(is_of)
    }

    /// Whether the snapshot says that it lacks an object of one of these kinds as a whole.
    pub fn lacks_any(&self, kinds: &[&str]) -> bool {
        !self.gaps.is_empty() && kinds.iter().any(|kind| self.lacking(kind).next().is_some())
    }

    /// Where a network may lie of which the snapshot does not even have the blocks: outside of what anything is known to hold.
    pub fn elsewhere(&self) -> &Addresses {
        &self.elsewhere
    }

    /// The blocks of a network that the snapshot lacks, and whether they are known.
    pub fn lacking_blocks(&self, name: &str) -> (&Addresses, bool) {
        let gap = self.lacking("network").find(|gap| gap.object.strip_prefix("network:") == Some(name));
        gap.and_then(|gap| gap.blocks.as_ref()).map_or((&self.elsewhere, false), |blocks| (blocks, true))
    }

    /// Addresses of a network that somebody may hold whom the snapshot lacks.
    pub fn unlisted_in(&self, network: Id<Network>) -> Addresses {
        let estate = self.estate;
        let item = &estate.networks[network];
        if self.gaps.is_empty() {
            return Addresses::empty();
        }
        if self.lacks("network", &item.name, Lack::Interfaces) {
            return item.blocks.clone();
        }
        let subnets = || estate.subnets.items().iter().filter(|subnet| subnet.network == network);
        let mut open = Addresses::empty();
        for subnet in subnets().filter(|subnet| self.lacks("subnet", &subnet.name, Lack::Interfaces)) {
            open = open.union(&subnet.blocks);
        }
        for gap in self.lacking("subnet") {
            let outside = || subnets().fold(item.blocks.clone(), |rest, subnet| rest.difference(&subnet.blocks));
            open = open.union(&gap.blocks.as_ref().map_or_else(outside, |blocks| blocks.intersection(&item.blocks)));
        }
        let of_devices = |gap: &Gap| {
            let kind = gap.object.split_once(':').map_or("", |(kind, _)| kind);
            gap.lack == Lack::Interfaces && ["balancer", "firewall", "service"].contains(&kind)
        };
        if estate.gaps.iter().any(of_devices) {
            return item.blocks.clone();
        }
        for kind in ["interface", "workload", "balancer", "firewall", "service"] {
            for gap in self.lacking(kind) {
                let own = gap.blocks.as_ref().map_or_else(|| item.blocks.clone(), |own| own.intersection(&item.blocks));
                open = open.union(&own);
            }
        }
        open
    }

    /// Whether a part is lacking at an interface: said of itself, its subnet or its network.
    pub fn lacks_at(&self, interface: Id<Interface>, lack: Lack) -> bool {
        if self.gaps.is_empty() {
            return false;
        }
        let item = &self.estate.interfaces[interface];
        let subnet = &self.estate.subnets[item.subnet];
        self.lacks("interface", &item.name, lack)
            || self.lacks("subnet", &subnet.name, lack)
            || self.lacks("network", &self.estate.networks[subnet.network].name, lack)
            || item.workload.is_some_and(|workload| self.lacks("workload", &self.estate.workloads[workload].name, lack))
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
                from == to || self.within_reach[from.index()].contains(&to) || self.at_hub[from.index()].contains(&to)
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
        let is_it =
            |other: Option<&Reference<Network>>| matches!(other, Some(Reference::Missing(other)) if **other == *name);
        let peered = || {
            let peerings = self.estate.peerings.items().iter();
            peerings.filter(|peering| peering.is_up()).any(|peering| is_it(peering.opposite(from)))
        };
        let at_hub = || {
            self.estate.hubs.items().iter().any(|hub| {
                let up = || hub.links.iter().filter(|link| link.up);
                let has = |wanted: &dyn Fn(&Reference<Network>) -> bool| {
                    up().any(|link| matches!(&link.to, LinkEnd::Network(network) if wanted(network)))
                };
                has(&|network| network.found() == Some(from)) && has(&|network| is_it(Some(network)))
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
    fn held_by(&self, interfaces: &[Id<Interface>], from: Option<Id<Network>>) -> Addresses {
        let near = interfaces.iter().filter(|id| self.reaches(from, self.network_of[id.index()]));
        let mut all: Addresses = near.clone().flat_map(|id| self.estate.interfaces[*id].addresses.ranges()).collect();
        if has(Fault::PublicAddressesCarry) {
            for public in self.estate.public_addresses.items() {
                if public.interface.is_some_and(|holder| near.clone().any(|id| *id == holder)) {
                    all = all.union(&Addresses::single(public.address));
                }
            }
        }
        all
    }

    /// Addresses in reach of which the snapshot does not say who holds them, found once for each network.
    fn unlisted(&self, from: Option<Id<Network>>, groups: bool) -> &Addresses {
        let place = from.map_or(0, |from| from.index() + 1);
        self.unlisted[place][usize::from(groups)].get_or_init(|| self.find_unlisted(from, groups))
    }

    fn find_unlisted(&self, from: Option<Id<Network>>, groups: bool) -> Addresses {
        let mut unlisted = Addresses::empty();
        if self.gaps.is_empty() {
            return unlisted;
        }
        for (id, network) in self.estate.networks.iter() {
            if !self.reaches(from, id) && !self.may_reach(from) {
                continue;
            }
            unlisted = unlisted.union(&self.unlisted_in(id));
            if groups && self.lacks("network", &network.name, Lack::Groups) {
                unlisted = unlisted.union(&network.blocks);
            } else if groups {
                let open = self.interfaces_in(id).iter().filter(|id| self.lacks_at(**id, Lack::Groups));
                let held = open.flat_map(|id| self.estate.interfaces[*id].addresses.ranges());
                unlisted = unlisted.union(&held.collect());
            }
        }
        for gap in self.lacking("network") {
            let Some(name) = gap.object.strip_prefix("network:") else { continue };
            if self.may_reach_lacking(from, name) {
                unlisted = unlisted.union(gap.blocks.as_ref().unwrap_or(&self.elsewhere));
            }
        }
        unlisted
    }

    fn named(&self, interfaces: &[Id<Interface>], from: Option<Id<Network>>, groups: bool) -> Matched {
        let sure = self.held_by(interfaces, from);
        let mut maybe = self.unlisted(from, groups).difference(&sure);
        if self.may_reach(from) {
            maybe = maybe.union(&self.held_by(interfaces, None)).difference(&sure);
        }
        Matched { sure, maybe }
    }

    fn gap_blocks(&self, kind: &str, name: &Name) -> Matched {
        let object = format!("{kind}:{name}");
        let declared = self.lacking(kind).find(|gap| *gap.object == object);
        match declared.map(|gap| gap.blocks.clone()) {
            Some(Some(blocks)) => Matched::sure(blocks),
            Some(None) => Matched { sure: Addresses::empty(), maybe: self.elsewhere.clone() },
            None => Matched::unknown(),
        }
    }

    /// What a peer with so many members stands for, remembered if these are many.
    fn once(&self, peer: &Peer, from: Option<Id<Network>>, members: usize, find: impl FnOnce() -> Matched) -> Matched {
        if members < MANY {
            return find();
        }
        let known = |all: &NamedPeers| all.get(&from).and_then(|of| of.get(peer)).cloned();
        if let Some(matched) = self.named_peers.read().ok().and_then(|all| known(&all)) {
            return matched;
        }
        let matched = find();
        if let Ok(mut all) = self.named_peers.write() {
            all.entry(from).or_default().insert(peer.clone(), matched.clone());
        }
        matched
    }

    /// The addresses that a peer stands for in a rule that is enforced in a network.
    pub fn peer(&self, peer: &Peer, from: Option<Id<Network>>) -> Matched {
        match peer {
            Peer::Any => Matched::sure(Addresses::all()),
            Peer::Internet => Matched::sure(self.internet.clone()),
            Peer::Probes => self.estate.probes.clone().map_or_else(Matched::unknown, Matched::sure),
            Peer::Block(block) => Matched::sure([block.range].into_iter().collect()),
            Peer::AddressSet(Reference::Found(set)) => self.sets[set.index()].matched.clone(),
            Peer::Group(Reference::Found(group)) => {
                let carriers = &self.carriers[group.index()];
                self.once(peer, from, carriers.len(), || self.named(carriers, from, true))
            }
            Peer::Tag(pairs) => self.once(peer, from, MANY, || self.named(&self.tagged(pairs), from, false)),
            Peer::Identity(identity) => {
                let all = self.running_as(identity);
                self.once(peer, from, all.len(), || self.named(all, from, false))
            }
            Peer::Interface(Reference::Found(interface)) => {
                let sure = self.held_by(&[*interface], from);
                let perhaps = if self.may_reach(from) { self.held_by(&[*interface], None) } else { Addresses::empty() };
                Matched { maybe: perhaps.difference(&sure), sure }
            }
            Peer::Network(Reference::Found(network)) => Matched::sure(self.estate.networks[*network].blocks.clone()),
            Peer::Subnet(Reference::Found(subnet)) => Matched::sure(self.estate.subnets[*subnet].blocks.clone()),
            Peer::Site(Reference::Found(site)) => Matched::sure(self.estate.sites[*site].holds.clone()),
            Peer::Network(Reference::Missing(name)) => self.gap_blocks("network", name),
            Peer::AddressSet(_) | Peer::Group(_) | Peer::Interface(_) | Peer::Subnet(_) | Peer::Site(_) => {
                if has(Fault::MissingPeerMatchesNothing) { Matched::default() } else { Matched::unknown() }
            }
        }
    }

    /// The addresses that any of some peers stands for.
    pub(crate) fn peers(&self, peers: &[Peer], from: Option<Id<Network>>) -> Matched {
        match peers {
            [one] => self.peer(one, from),
            all => all.iter().fold(Matched::default(), |sum, peer| sum.union(&self.peer(peer, from))),
        }
    }

    /// What of a peer is in doubt: the part that is not known, with the addresses that it may hold.
    fn open_parts(&self, peer: &Peer, from: Option<Id<Network>>) -> Vec<(Peer, Addresses)> {
        if let Peer::AddressSet(Reference::Found(set)) = peer {
            let meaning = &self.sets[set.index()];
            return meaning.open.iter().map(|part| (part.clone(), meaning.matched.maybe.clone())).collect();
        }
        let maybe = self.peer(peer, from).maybe;
        if maybe.is_empty() { Vec::new() } else { vec![(peer.clone(), maybe)] }
    }

    /// The parts of a peer of which the snapshot does not say everything.
    pub(crate) fn open_peers(&self, peer: &Peer, from: Option<Id<Network>>) -> Vec<Peer> {
        self.open_parts(peer, from).into_iter().map(|(part, _)| part).collect()
    }

    /// The addresses of which it is in doubt whether some peers less others hold them, by what it turns on.
    pub(crate) fn in_doubt(
        &self,
        included: Option<&[Peer]>,
        excepted: &[&[Peer]],
        from: Option<Id<Network>>,
    ) -> Vec<(Addresses, Held)> {
        let all = included.map_or_else(|| Matched::sure(Addresses::all()), |peers| self.peers(peers, from));
        let without = excepted.iter().fold(all.clone(), |rest, peers| rest.without(&self.peers(peers, from)));
        let mut cells: Vec<(Addresses, Held)> = Vec::new();
        for (part, certain) in
            [(without.maybe.intersection(&all.sure), true), (without.maybe.difference(&all.sure), false)]
        {
            if !part.is_empty() {
                cells.push((part, Held { certain, ..Held::default() }));
            }
        }
        let mut split = |part: &Peer, held: &Addresses, excludes: bool| {
            let mut next = Vec::with_capacity(cells.len());
            for (addresses, known) in cells.drain(..) {
                let (here, rest) = (addresses.intersection(held), addresses.difference(held));
                if !here.is_empty() {
                    let mut more = known.clone();
                    match excludes {
                        true => more.none_of.push(part.clone()),
                        false if !known.certain => more.any_of.push(part.clone()),
                        false => {}
                    }
                    next.push((here, more));
                }
                if !rest.is_empty() {
                    next.push((rest, known));
                }
            }
            cells = next;
        };
        for (peers, excludes) in
            included.into_iter().map(|peers| (peers, false)).chain(excepted.iter().map(|p| (*p, true)))
        {
            for peer in peers {
                for (part, held) in self.open_parts(peer, from) {
                    split(&part, &held, excludes);
                }
            }
        }
        cells
    }

    /// The pairs of addresses of which it is in doubt whether some packets match, by what that turns on. Each side: what is
    /// included, none for every address, and what is excepted.
    pub(crate) fn pairs_in_doubt(
        &self,
        sources: (Option<&[Peer]>, &[Peer]),
        destinations: (Option<&[Peer]>, &[Peer]),
        from: Option<Id<Network>>,
    ) -> Vec<([Addresses; 2], Turning)> {
        let side = |(included, excepted): (Option<&[Peer]>, &[Peer])| {
            let all = included.map_or_else(|| Matched::sure(Addresses::all()), |peers| self.peers(peers, from));
            let certain = (all.without(&self.peers(excepted, from)).sure, Held { certain: true, ..Held::default() });
            std::iter::once(certain).chain(self.in_doubt(included, &[excepted], from)).collect::<Vec<_>>()
        };
        let is_certain = |held: &Held| held.certain && held.none_of.is_empty();
        let mut found = Vec::new();
        let to = side(destinations);
        for (from, of_source) in side(sources) {
            for (to, of_destination) in &to {
                let both = [(At::Source, &of_source), (At::Destination, of_destination)];
                let open = both.into_iter().filter(|(_, held)| !is_certain(held));
                let turning = Turning(open.map(|(at, held)| (at, held.clone())).collect());
                if !turning.0.is_empty() && !from.is_empty() && !to.is_empty() {
                    found.push(([from.clone(), to.clone()], turning));
                }
            }
        }
        found
    }

    /// The other side of a rule: its peers less its exceptions.
    pub fn rule_peers(&self, rule: &Rule, from: Option<Id<Network>>) -> Matched {
        let included =
            rule.peers.as_ref().map_or_else(|| Matched::sure(Addresses::all()), |peers| self.peers(peers, from));
        if rule.except.is_empty() || has(Fault::IgnoreExcept) {
            return included;
        }
        included.without(&self.peers(&rule.except, from))
    }

    /// This side of a rule.
    pub fn rule_local(&self, rule: &Rule, from: Option<Id<Network>>) -> Matched {
        match &rule.local {
            Some(local) if !has(Fault::IgnoreLocal) => self.peers(local, from),
            _ => Matched::sure(Addresses::all()),
        }
    }

    /// Whether a rule is in force at the date judged by.
    pub fn in_force(&self, rule: &Rule) -> bool {
        if has(Fault::IgnoreDisabled) && !rule.enabled {
            return true;
        }
        rule.in_force(if has(Fault::ExpiredStillMatches) { None } else { self.at })
    }
}

/// Adds an item to a list that is made in the order of the items: where it is there already, it is the last.
fn push_once<T: PartialEq>(list: &mut Vec<T>, item: T) {
    if list.last() != Some(&item) {
        list.push(item);
    }
}

/// An object without a kind is nobody's.
fn gaps_of(estate: &Estate) -> Gaps {
    let mut gaps = Gaps::default();
    for gap in &estate.gaps {
        if let Some((kind, name)) = gap.object.split_once(':') {
            gaps.entry(kind.into()).or_default().entry(name.into()).or_default().push(gap.lack);
        }
    }
    gaps
}

/// The networks that each is peered with, up on both sides.
fn reaches(estate: &Estate) -> Vec<Vec<Id<Network>>> {
    let mut reach = vec![Vec::new(); estate.networks.len()];
    for peering in estate.peerings.items().iter().filter(|peering| peering.is_up()) {
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
    let listed = estate.public_addresses.items().iter().map(|public| public.address);
    let fronts = estate.balancers.items().iter().flat_map(|balancer| &balancer.front_ends);
    let fronts = fronts.filter(|front| front.public).map(|front| front.address);
    let nat = estate.gateways.items().iter().filter_map(|gateway| match &gateway.kind {
        crate::model::GatewayKind::Nat { public, .. } => *public,
        _ => None,
    });
    let single: Addresses = listed.chain(fronts).chain(nat).collect();
    let doors = estate.services.items().iter().filter_map(|service| service.public_door.as_ref());
    let blocks = doors.map(|door| &door.addresses).chain(estate.firewalls.items().iter().map(|item| &item.addresses));
    blocks.fold(single, |sum, block| sum.union(block))
}

/// The networks that each shares a hub with, links up.
fn at_hub(estate: &Estate) -> Vec<Vec<Id<Network>>> {
    let mut near = vec![Vec::new(); estate.networks.len()];
    for hub in estate.hubs.items() {
        let networks = hub.links.iter().filter(|link| link.up).filter_map(|link| match &link.to {
            crate::model::LinkEnd::Network(network) => network.found(),
            _ => None,
        });
        let networks: Vec<Id<Network>> = networks.collect();
        for one in &networks {
            near[one.index()].extend(&networks);
        }
    }
    near
}

/// What every set holds: the least fixed point, so that `A = {1, B}, B = {2, A}` are both `{1, 2}`.
///
/// Cost: one round for each level of nesting, at most the number of sets.
fn set_meanings(estate: &Estate) -> Vec<SetMeaning> {
    let mut meanings: Vec<SetMeaning> = vec![SetMeaning::default(); estate.address_sets.len()];
    let mut nested: Vec<Vec<Id<AddressSet>>> = vec![Vec::new(); estate.address_sets.len()];
    for (id, set) in estate.address_sets.iter() {
        let Some(items) = &set.content else {
            meanings[id.index()].matched = Matched::unknown();
            meanings[id.index()].open.push(Peer::AddressSet(Reference::Found(id)));
            continue;
        };
        let ranges = items.iter().filter_map(|item| match item {
            SetItem::Block(block) => Some(block.range),
            SetItem::Set(_) => None,
        });
        meanings[id.index()].matched.sure = ranges.collect();
        for item in items {
            match item {
                SetItem::Set(Reference::Found(inner)) => nested[id.index()].push(*inner),
                SetItem::Set(missing @ Reference::Missing(_)) => {
                    let meaning = &mut meanings[id.index()];
                    meaning.matched = meaning.matched.union(&Matched::unknown());
                    meaning.open.push(Peer::AddressSet(missing.clone()));
                }
                SetItem::Block(_) => {}
            }
        }
    }
    if has(Fault::SetsWithoutNesting) {
        return meanings;
    }
    let mut changed = true;
    while changed {
        changed = false;
        for (at, inner) in nested.iter().enumerate() {
            for other in inner {
                let joined = meanings[at].matched.union(&meanings[other.index()].matched);
                let fresh = meanings[other.index()].open.iter().filter(|part| !meanings[at].open.contains(part));
                let fresh: Vec<Peer> = fresh.cloned().collect();
                if joined != meanings[at].matched || !fresh.is_empty() {
                    meanings[at].matched = joined;
                    meanings[at].open.extend(fresh);
                    changed = true;
                }
            }
        }
    }
    for id in estate.address_sets.ids() {
        meanings[id.index()].cyclic = reaches_itself(id, &nested);
    }
    meanings
}

fn reaches_itself(start: Id<AddressSet>, nested: &[Vec<Id<AddressSet>>]) -> bool {
    let mut seen = FxHashSet::default();
    let mut open = nested[start.index()].clone();
    while let Some(next) = open.pop() {
        if next == start {
            return true;
        }
        if seen.insert(next) {
            open.extend(&nested[next.index()]);
        }
    }
    false
}
