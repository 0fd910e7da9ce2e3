//! The stages of an interface, in the order in which packets cross them.

mod completing;
mod site;

pub(crate) use completing::{Completed, completed};
pub use site::policies_at;
use site::{Lists, Site};

use super::compile::{default_judgement, ordered, union};
use super::{Layer, Open};
use crate::doubt::{Doubt, Node, Unsaid, Whose};
use crate::faults::{Fault, has};
use crate::judgement::{By, Judgement, Outcome, StageKind, State};
use crate::rules::in_order;
use heronshale_model::estate::{
    Direction, Filter, FilterKind, Id, Interface, Lack, Network, NoGroup, Reference, Scope, Subnet,
    SubnetGroups, Target,
};
use heronshale_model::view::View;
use heronshale_sets::address::Addresses;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketMap, PacketSet, service};

/// One check: what it decides about every packet.
#[derive(Clone, Debug)]
pub struct Stage {
    /// Which check.
    pub kind: StageKind,
    /// The filters that make it up, in binding order.
    pub filters: Vec<Id<Filter>>,
    /// The decision on every packet; total.
    pub map: PacketMap<Judgement>,
    /// On what it turns where that depends on something missing from the snapshot, as far as that is one question or a few.
    pub open: Option<Open>,
}

impl Stage {
    fn of(kind: StageKind, filters: Vec<Id<Filter>>, layer: Layer) -> Self {
        Self {
            kind,
            filters,
            map: layer.map,
            open: layer.open,
        }
    }

    /// The same, asked of replies.
    #[must_use]
    pub(crate) fn mirrored(&self) -> Self {
        let open = self
            .open
            .as_ref()
            .map(|(map, forest)| (map.mirrored(), std::sync::Arc::new(forest.mirrored())));
        Self {
            map: self.map.mirrored(),
            open,
            ..self.clone()
        }
    }
}

/// The stages of one interface and direction.
#[derive(Clone, Debug)]
pub struct Chain {
    /// Received or sent.
    pub direction: Direction,
    /// In the order in which a packet crosses them.
    pub stages: Vec<Stage>,
}

/// The stages of an interface in one direction without its subnet's ACL, which a packet crosses only where it leaves or
/// enters the subnet.
pub fn own_stages(view: &View<'_>, interface: Id<Interface>, direction: Direction) -> Chain {
    let site = Site::new(view, interface, direction);
    let stages = if view.estate.interfaces[interface].unfiltered {
        Vec::new()
    } else {
        let (own, policies, groups) = (site.own_firewall(), site.scope_policies(), site.groups());
        match direction {
            Direction::Out => own.into_iter().chain(policies).chain(groups).collect(),
            Direction::In => policies
                .into_iter()
                .chain(groups.into_iter().rev())
                .chain(own)
                .collect(),
        }
    };
    Chain { direction, stages }
}

/// What a subnet's network ACL decides about packets that leave or enter it; none: no such stage.
pub fn acl_of(view: &View<'_>, subnet: Id<Subnet>, direction: Direction) -> Option<Stage> {
    if has(Fault::DropAclStage) {
        return None;
    }
    let item = &view.estate.subnets[subnet];
    let lists = Lists {
        view,
        direction,
        network: item.network,
    };
    let (filters, mut layer) = match item.acl.as_ref()? {
        Reference::Missing(_) => {
            let unknown = Judgement {
                outcome: Outcome::Unknown,
                by: By::Lacking,
                state: State::NotKept,
            };
            (Vec::new(), Layer::constant(unknown))
        }
        Reference::Found(acl) => (vec![*acl], lists.list(&[*acl])),
    };
    if has(Fault::AclKeepsState) {
        layer.map = layer.map.relabel(|judgement| {
            Some(Judgement {
                state: State::Kept,
                ..judgement
            })
        });
    }
    Some(Stage::of(StageKind::NetworkAcl, filters, layer))
}

/// Whether an interface is a private door at which no stage applies, its subnet's ACL included.
pub(crate) fn unfiltered_door(view: &View<'_>, interface: Id<Interface>) -> bool {
    let estate = view.estate;
    let subnet = &estate.subnets[estate.interfaces[interface].subnet];
    let applies = subnet
        .filter_private_doors
        .unwrap_or(view.settings(subnet.network).filter_private_doors);
    let applies = applies != has(Fault::WalkDoorFilteredOtherwise);
    let is_door = || {
        estate
            .services
            .items()
            .iter()
            .any(|service| service.private_doors.contains(&interface))
    };
    (!applies || estate.interfaces[interface].unfiltered) && is_door()
}

/// What interfaces send to the platform itself, past every stage.
pub fn platform_traffic(view: &View<'_>) -> PacketSet {
    let every_port = Intervals::span(0, u128::from(u16::MAX));
    PacketSet::union_all(view.estate.platform_traffic.iter().map(|traffic| {
        let services = |family| {
            if traffic.services.is_empty() {
                return service::all(family);
            }
            traffic
                .services
                .iter()
                .fold(Intervals::empty(), |sum, one| {
                    sum.union(&one.numbers(family))
                })
        };
        PacketSet::fields(
            &Addresses::all(),
            &traffic.addresses,
            services,
            &every_port,
            (),
        )
    }))
}

/// The stages of an interface in one direction.
pub fn chain(view: &View<'_>, interface: Id<Interface>, direction: Direction) -> Chain {
    let site = Site::new(view, interface, direction);
    if unfiltered_door(view, interface) {
        return Chain {
            direction,
            stages: Vec::new(),
        };
    }
    let unfiltered = view.estate.interfaces[interface].unfiltered;
    let acl = if unfiltered && has(Fault::UnfilteredWithoutAcl) {
        None
    } else {
        site.acl()
    };
    let mut stages: Vec<Stage> = if unfiltered {
        acl.into_iter().collect()
    } else {
        let (own, policies, groups) = (site.own_firewall(), site.scope_policies(), site.groups());
        match direction {
            Direction::Out => own
                .into_iter()
                .chain(policies)
                .chain(groups)
                .chain(acl)
                .collect(),
            Direction::In => acl
                .into_iter()
                .chain(policies)
                .chain(groups.into_iter().rev())
                .chain(own)
                .collect(),
        }
    };
    let platform = if direction == Direction::In {
        PacketSet::empty()
    } else {
        platform_traffic(view)
    };
    if !platform.is_empty() && !has(Fault::PlatformTrafficFiltered) {
        let exempt = platform.relabel(|()| Some(Judgement::new(Outcome::Pass, By::Platform)));
        for stage in &mut stages {
            stage.map = exempt.overlay(&stage.map);
            stage.open = stage
                .open
                .take()
                .map(|(map, forest)| (map.without(&exempt), forest));
        }
    }
    Chain { direction, stages }
}

impl Chain {
    /// What each stage that the packets cross decides, as one map to places in a list of ways through; and that list.
    ///
    /// A way ends at the first stage that refuses. Where a stage is unknown the packet goes on, since a later stage
    /// may refuse it either way.
    pub fn ways(&self, domain: &PacketSet) -> Ways {
        let mut all: Vec<Way> = vec![Way {
            judgements: Vec::new(),
        }];
        let mut map: PacketMap<u32> = domain.relabel(|()| Some(0));
        for stage in &self.stages {
            let mut index = rustc_hash::FxHashMap::default();
            let mut next: Vec<Way> = Vec::new();
            map = map.combine(&stage.map, |way, judgement| {
                let key = (
                    way,
                    if all[way as usize].refuses() {
                        None
                    } else {
                        Some(judgement)
                    },
                );
                let at = *index.entry(key).or_insert_with(|| {
                    let mut longer = all[way as usize].clone();
                    longer.extend(stage.kind, judgement);
                    next.push(longer);
                    u32::try_from(next.len() - 1).expect("fewer than 2^32 ways")
                });
                Some(at)
            });
            all = next;
        }
        self.settled(Ways { map, all })
    }

    /// Ways of which two stages turn on one doubt, so that they end or pass for certain although neither stage decides for
    /// certain.
    fn settled(&self, mut ways: Ways) -> Ways {
        let asks_twice = |way: &Way| {
            let open = self.stages.iter().zip(&way.judgements);
            open.filter(|(stage, judgement)| stage.open.is_some() && !judgement.is_certain())
                .count()
                > 1
        };
        if !ways.all.iter().any(|way| !way.refuses() && asks_twice(way)) {
            return ways;
        }
        let mut changed: Vec<PacketMap<u32>> = Vec::new();
        for (at, set) in ways.map.regions() {
            let way = ways.all[at as usize].clone();
            if way.refuses() || !asks_twice(&way) {
                continue;
            }
            for (tree, part) in completed(self, Whose::Nobody, false, &way, &set) {
                let ends = tree.ways();
                let Some(ended) = same_end(&way, &ends) else {
                    continue;
                };
                let label = u32::try_from(ways.all.len()).expect("fewer than 2^32 ways");
                ways.all.push(ended);
                changed.push(part.relabel(|()| Some(label)));
            }
        }
        changed.push(ways.map);
        Ways {
            map: PacketMap::overlay_all(changed),
            all: ways.all,
        }
    }
}

/// What a way comes to if it comes to the same in all completions.
fn same_end(way: &Way, ends: &[&Way]) -> Option<Way> {
    if ends.iter().all(|end| end.refuses()) {
        // It ends where the last of the stages that turn on the doubt does.
        let last = ends.iter().max_by_key(|end| end.judgements.len())?;
        let mut ended = Way {
            judgements: way.judgements[..last.judgements.len()].to_vec(),
        };
        *ended.judgements.last_mut()? = *last.judgements.last()?;
        return Some(ended);
    }
    // What lets on with the fewest pieces matching is what it takes.
    let fewest = *ends.last()?;
    let states = |way: &Way| {
        way.judgements
            .iter()
            .map(|judgement| judgement.state)
            .collect::<Vec<_>>()
    };
    let alike = |end: &&Way| end.passes() && states(end) == states(fewest);
    ends.iter().all(alike).then(|| fewest.clone())
}

/// What the stages decided about packets that are decided alike.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Way {
    /// One for each stage, up to the first that refuses.
    pub judgements: Vec<Judgement>,
}

impl Way {
    fn extend(&mut self, kind: StageKind, judgement: Judgement) {
        if self.refuses() {
            return;
        }
        let finally = self
            .judgements
            .iter()
            .any(|j| j.outcome == Outcome::PassFinally);
        let skipped =
            kind.is_groups() || (has(Fault::FinallySkipsAcl) && kind == StageKind::NetworkAcl);
        let perhaps = self.judgements.iter().any(|j| j.outcome.may_be_final());
        if finally && skipped && !has(Fault::FinallySkipsNothing) {
            self.judgements
                .push(Judgement::new(Outcome::Pass, By::Finally));
        } else if perhaps && skipped {
            let outcome = if judgement.outcome.refuses() {
                Outcome::Unknown
            } else {
                judgement.outcome
            };
            let state = if judgement.state == State::Kept {
                State::Kept
            } else {
                State::Unknown
            };
            self.judgements.push(Judgement {
                outcome,
                state,
                ..judgement
            });
        } else {
            self.judgements.push(judgement);
        }
    }

    /// Whether a stage refuses these packets.
    pub fn refuses(&self) -> bool {
        self.judgements
            .last()
            .is_some_and(|last| last.outcome.refuses())
    }

    /// Whether all stages let them on for certain.
    pub fn passes(&self) -> bool {
        self.judgements
            .iter()
            .all(|judgement| judgement.outcome.passes())
    }
}

/// Packets by the way that they take through the stages.
#[derive(Clone, Debug)]
pub struct Ways {
    /// From packets to places in `all`.
    pub map: PacketMap<u32>,
    /// The ways.
    pub all: Vec<Way>,
}

impl Ways {
    /// Each way with its packets.
    pub fn regions(&self) -> Vec<(&Way, PacketSet)> {
        self.map
            .regions()
            .into_iter()
            .map(|(at, set)| (&self.all[at as usize], set))
            .collect()
    }
}
