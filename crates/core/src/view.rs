//! The frozen view: what names mean as addresses, computed once for an estate and a date.

use crate::address::{Addresses, internet_at_large};
use crate::faults::{Fault, has};
use crate::model::{
    AddressSet, Estate, Filter, FilterKind, Id, Interface, Lack, Name, NamedPeerReach, Network, Peer, PublicAddress,
    Reference, Rule, SetItem, Settings,
};
use crate::stated::Stated;
use crate::tuning::Tuning;
use rustc_hash::{FxHashMap, FxHashSet};
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
    unlisted: Vec<[OnceLock<Addresses>; 2]>,
    interfaces_in: Vec<Vec<Id<Interface>>>,
    network_of: Vec<Id<Network>>,
    mapped: FxHashMap<Id<Interface>, Vec<Id<PublicAddress>>>,
    stage_classes: OnceLock<Vec<u32>>,
    class_numbers: OnceLock<Vec<u32>>,
    held_by_several: OnceLock<Addresses>,
    held_by_others: OnceLock<Addresses>,
    named_peers: RwLock<NamedPeers>,
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
        self.stage_classes.get_or_init(|| crate::effective::stage_classes(self))
    }

    /// For each interface the number of its class, once for all that ask.
    pub(crate) fn class_numbers(&self) -> &[u32] {
        self.class_numbers.get_or_init(|| {
            let mut of = vec![0; self.estate.interfaces.len()];
            for (number, class) in (0_u32..).zip(crate::effective::classes(self)) {
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
            let open = self.lacks("network", &network.name, Lack::Interfaces)
                || (groups && self.lacks("network", &network.name, Lack::Groups));
            if open && self.reaches(from, id) {
                unlisted = unlisted.union(&network.blocks);
            }
        }
        let near = |name: &Name| {
            self.estate.peerings.items().iter().any(|peering| {
            peering.is_up() && matches!(from.and_then(|from| peering.opposite(from)), Some(Reference::Missing(other)) if other == name)
        })
        };
        let reach = self.settings(from).named_peer_reach;
        for gap in self.estate.gaps.iter().filter(|gap| gap.lack == Lack::Everything) {
            let Some(name) = gap.object.strip_prefix("network:") else { continue };
            if reach == NamedPeerReach::Estate || (reach == NamedPeerReach::Peered && near(&name.into())) {
                let elsewhere = || Addresses::all().difference(&internet_at_large());
                unlisted = unlisted.union(&gap.blocks.clone().unwrap_or_else(elsewhere));
            }
        }
        unlisted
    }

    fn named(&self, interfaces: &[Id<Interface>], from: Option<Id<Network>>, groups: bool) -> Matched {
        let sure = self.held_by(interfaces, from);
        let maybe = self.unlisted(from, groups).difference(&sure);
        Matched { sure, maybe }
    }

    fn gap_blocks(&self, kind: &str, name: &Name) -> Matched {
        let object = format!("{kind}:{name}");
        let blocks = self.estate.gaps.iter().find(|gap| *gap.object == object).and_then(|gap| gap.blocks.clone());
        blocks.map_or_else(Matched::unknown, Matched::sure)
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
            Peer::Interface(Reference::Found(interface)) => Matched::sure(self.held_by(&[*interface], from)),
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
                SetItem::Set(Reference::Missing(_)) => {
                    meanings[id.index()].matched = meanings[id.index()].matched.union(&Matched::unknown());
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
                if joined != meanings[at].matched {
                    meanings[at].matched = joined;
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
