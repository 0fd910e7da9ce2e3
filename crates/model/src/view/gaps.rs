//! What is missing from the snapshot, and the addresses of which it therefore does not say who holds them.

use super::{Matched, View};
use crate::estate::{Estate, Gap, Id, Interface, Lack, Name, Network};
use heronshale_sets::address::Addresses;
use rustc_hash::FxHashMap;

/// What the snapshot says that it lacks, by kind and name of the object.
pub(super) type Gaps = FxHashMap<Name, FxHashMap<Name, Vec<Lack>>>;

/// An object without a kind is nobody's.
pub(super) fn gaps_of(estate: &Estate) -> Gaps {
    let mut gaps = Gaps::default();
    for gap in &estate.gaps {
        if let Some((kind, name)) = gap.object.split_once(':') {
            gaps.entry(kind.into())
                .or_default()
                .entry(name.into())
                .or_default()
                .push(gap.lack);
        }
    }
    gaps
}

impl<'e> View<'e> {
    /// Whether the snapshot says that it lacks this part of an object.
    pub fn lacks(&self, kind: &str, name: &str, lack: Lack) -> bool {
        self.gaps
            .get(kind)
            .and_then(|of| of.get(name))
            .is_some_and(|lacks| lacks.contains(&lack))
    }

    /// The objects of a kind that the snapshot says it lacks as a whole.
    pub fn lacking<'v>(&'v self, kind: &'v str) -> impl Iterator<Item = &'e Gap> + 'v {
        let some = self
            .gaps
            .get(kind)
            .is_some_and(|of| of.values().flatten().any(|lack| *lack == Lack::Everything));
        let all = if some { &self.estate.gaps[..] } else { &[] };
        let is_of = move |gap: &&Gap| {
            gap.object
                .split_once(':')
                .is_some_and(|(other, _)| other == kind)
        };
        all.iter()
            .filter(|gap| gap.lack == Lack::Everything)
            .filter(is_of)
    }

    /// Whether the snapshot says that it lacks an object of one of these kinds as a whole.
    pub fn lacks_any(&self, kinds: &[&str]) -> bool {
        !self.gaps.is_empty() && kinds.iter().any(|kind| self.lacking(kind).next().is_some())
    }

    /// Where a network may lie of which the snapshot does not even have the blocks: outside of what anything is known to hold.
    pub fn elsewhere(&self) -> &Addresses {
        &self.bounds.elsewhere
    }

    /// The blocks of a network that the snapshot lacks, and whether they are known.
    pub fn lacking_blocks(&self, name: &str) -> (&Addresses, bool) {
        let gap = self
            .lacking("network")
            .find(|gap| gap.object.strip_prefix("network:") == Some(name));
        gap.and_then(|gap| gap.blocks.as_ref())
            .map_or((&self.bounds.elsewhere, false), |blocks| (blocks, true))
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
        let subnets = || {
            estate
                .subnets
                .items()
                .iter()
                .filter(|subnet| subnet.network == network)
        };
        let mut open = Addresses::empty();
        for subnet in
            subnets().filter(|subnet| self.lacks("subnet", &subnet.name, Lack::Interfaces))
        {
            open = open.union(&subnet.blocks);
        }
        for gap in self.lacking("subnet") {
            let outside = || {
                subnets().fold(item.blocks.clone(), |rest, subnet| {
                    rest.difference(&subnet.blocks)
                })
            };
            open = open.union(
                &gap.blocks
                    .as_ref()
                    .map_or_else(outside, |blocks| blocks.intersection(&item.blocks)),
            );
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
                let own = gap
                    .blocks
                    .as_ref()
                    .map_or_else(|| item.blocks.clone(), |own| own.intersection(&item.blocks));
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
            || item.workload.is_some_and(|workload| {
                self.lacks("workload", &self.estate.workloads[workload].name, lack)
            })
    }

    /// Addresses in reach of which the snapshot does not say who holds them, found once for each network.
    pub(super) fn unlisted(&self, from: Option<Id<Network>>, groups: bool) -> &Addresses {
        let place = from.map_or(0, |from| from.index() + 1);
        self.known.unlisted[place][usize::from(groups)]
            .get_or_init(|| self.find_unlisted(from, groups))
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
                let open = self
                    .interfaces_in(id)
                    .iter()
                    .filter(|id| self.lacks_at(**id, Lack::Groups));
                let held = open.flat_map(|id| self.estate.interfaces[*id].addresses.ranges());
                unlisted = unlisted.union(&held.collect());
            }
        }
        for gap in self.lacking("network") {
            let Some(name) = gap.object.strip_prefix("network:") else {
                continue;
            };
            if self.may_reach_lacking(from, name) {
                unlisted = unlisted.union(gap.blocks.as_ref().unwrap_or(&self.bounds.elsewhere));
            }
        }
        unlisted
    }

    pub(super) fn gap_blocks(&self, kind: &str, name: &Name) -> Matched {
        let object = format!("{kind}:{name}");
        let declared = self.lacking(kind).find(|gap| *gap.object == object);
        match declared.map(|gap| gap.blocks.clone()) {
            Some(Some(blocks)) => Matched::sure(blocks),
            Some(None) => Matched {
                sure: Addresses::empty(),
                maybe: self.bounds.elsewhere.clone(),
            },
            None => Matched::unknown(),
        }
    }
}
