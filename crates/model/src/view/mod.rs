//! The frozen view: what names mean as addresses, computed once for an estate and a date.

use heronshale_sets::address::Addresses;
mod gaps;
mod index;
mod matched;
mod same;

pub use matched::{Matched, SetMeaning};
pub use same::{Same, is_same_filter};

use crate::estate::{
    AddressSet, Estate, Filter, FilterKind, Id, Interface, LinkEnd, Name, NamedPeerReach, Network,
    Peer, PublicAddress, Reference, Rule, Settings,
};
use crate::faults::{Fault, has};
use crate::limits::Limits;
use crate::stated::Stated;
use crate::tuning::Tuning;
use gaps::{Gaps, gaps_of};
use index::{Bounds, Index, Joined, held_by_others, held_by_several};
use matched::set_meanings;
use rustc_hash::FxHashMap;
use std::sync::{Arc, OnceLock, RwLock};

/// An estate, the date it is judged by, and what its names mean.
pub struct View<'e> {
    /// The estate.
    pub estate: &'e Estate,
    /// The moment by which ends of rules are judged: what was asked for, else the snapshot's own.
    pub at: Option<jiff::Timestamp>,
    /// By what the audit measures.
    pub tuning: Tuning,
    /// What people say about the estate.
    pub stated: Arc<Stated>,
    /// From which sizes on work is done otherwise.
    pub limits: Limits,
    bounds: Arc<Bounds>,
    index: Arc<Index>,
    joined: Arc<Joined>,
    sets: Arc<Vec<SetMeaning>>,
    policies: Vec<Id<Filter>>,
    gaps: Arc<Gaps>,
    known: Arc<Known>,
}

/// What peers stand for that was asked before.
#[derive(Default)]
struct Known {
    unlisted: Vec<[OnceLock<Addresses>; 2]>,
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
        Self {
            tuning,
            stated: Arc::new(stated),
            limits: Limits::default(),
            estate,
            at: at.or(estate.taken),
            bounds: Arc::new(Bounds::new(estate)),
            index: Arc::new(Index::new(estate)),
            joined: Arc::new(Joined::new(estate)),
            sets: Arc::new(set_meanings(estate)),
            policies: scope_policies(estate),
            gaps: Arc::new(gaps_of(estate)),
            known: Arc::new(Known::new(estate)),
        }
    }

    /// The same within other limits.
    #[must_use]
    pub fn within(self, limits: Limits) -> Self {
        Self { limits, ..self }
    }

    /// The same question to a copy of the estate with changes. What no change touches is not computed anew: tables that the
    /// copy shares with the estate.
    pub fn after<'c>(&self, copy: &'c Estate) -> View<'c> {
        let same = Same::of(self.estate, copy);
        fn kept<T>(is_same: bool, old: &Arc<T>, new: impl FnOnce() -> T) -> Arc<T> {
            if is_same {
                Arc::clone(old)
            } else {
                Arc::new(new())
            }
        }
        View {
            estate: copy,
            at: self.at,
            tuning: self.tuning.clone(),
            stated: Arc::clone(&self.stated),
            limits: self.limits,
            bounds: kept(same.bounds, &self.bounds, || Bounds::new(copy)),
            index: kept(same.index, &self.index, || Index::new(copy)),
            joined: kept(same.joined, &self.joined, || Joined::new(copy)),
            sets: kept(same.sets, &self.sets, || set_meanings(copy)),
            policies: scope_policies(copy),
            gaps: kept(same.gaps, &self.gaps, || gaps_of(copy)),
            known: kept(same.named_peers(), &self.known, || Known::new(copy)),
        }
    }

    /// The interfaces of a network, in the order of the snapshot.
    pub fn interfaces_in(&self, network: Id<Network>) -> &[Id<Interface>] {
        &self.index.interfaces_in[network.index()]
    }

    /// The public addresses that are mapped to an interface, in the order of the snapshot.
    pub fn mapped_to(&self, interface: Id<Interface>) -> &[Id<PublicAddress>] {
        self.index.mapped.get(&interface).map_or(&[], Vec::as_slice)
    }

    /// The addresses that more than one interface holds.
    pub fn held_by_several(&self) -> &Addresses {
        self.index
            .held_by_several
            .get_or_init(|| held_by_several(self.estate))
    }

    /// The addresses of interfaces other than firewalls', and what sites hold.
    pub fn held_by_others(&self) -> &Addresses {
        self.bounds
            .held_by_others
            .get_or_init(|| held_by_others(self.estate))
    }

    /// The peer `internet`: public space less the blocks of networks and what sites hold.
    pub fn internet(&self) -> &Addresses {
        &self.bounds.internet
    }

    /// The internet as an end of a connection: less the estate's public addresses too.
    pub fn internet_end(&self) -> Addresses {
        self.bounds.internet.difference(&self.bounds.public)
    }

    /// The estate's public addresses.
    pub fn public(&self) -> &Addresses {
        &self.bounds.public
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
        &self.index.carriers[group.index()]
    }

    /// The subnets that a group is bound to.
    pub fn bound_subnets(&self, group: Id<Filter>) -> &[Id<crate::estate::Subnet>] {
        &self.index.bound_subnets[group.index()]
    }

    /// The interfaces with all of these tags, their own or their workload's.
    pub fn tagged(&self, pairs: &[(Name, Name)]) -> Vec<Id<Interface>> {
        let none = Vec::new();
        let lists: Vec<&Vec<Id<Interface>>> = pairs
            .iter()
            .map(|pair| self.index.by_tag.get(pair).unwrap_or(&none))
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
        self.index
            .by_identity
            .get(identity)
            .map_or(&[], Vec::as_slice)
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
            NamedPeerReach::Peered => {
                from == to || self.joined.within_reach[from.index()].contains(&to)
            }
            NamedPeerReach::Hub => {
                from == to
                    || self.joined.within_reach[from.index()].contains(&to)
                    || self.joined.at_hub[from.index()].contains(&to)
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
            .filter(|id| self.reaches(from, self.index.network_of[id.index()]));
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
        if let Some(matched) = self
            .known
            .named_peers
            .read()
            .ok()
            .and_then(|all| known(&all))
        {
            return matched;
        }
        let matched = find();
        if let Ok(mut all) = self.known.named_peers.write() {
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
            Peer::Internet => Matched::sure(self.bounds.internet.clone()),
            Peer::Probes => self
                .estate
                .probes
                .clone()
                .map_or_else(Matched::unknown, Matched::sure),
            Peer::Block(block) => Matched::sure([block.range].into_iter().collect()),
            Peer::AddressSet(Reference::Found(set)) => self.sets[set.index()].matched.clone(),
            Peer::Group(Reference::Found(group)) => {
                let carriers = &self.index.carriers[group.index()];
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

/// All scope policies, in the order of the snapshot.
fn scope_policies(estate: &Estate) -> Vec<Id<Filter>> {
    let all = estate.filters.iter();
    let policies = all.filter(|(_, filter)| matches!(filter.kind, FilterKind::ScopePolicy { .. }));
    policies.map(|(id, _)| id).collect()
}

impl Known {
    fn new(estate: &Estate) -> Self {
        Self {
            unlisted: vec![Default::default(); estate.networks.len() + 1],
            named_peers: RwLock::default(),
        }
    }
}
