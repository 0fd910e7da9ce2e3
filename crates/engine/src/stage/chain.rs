//! The stages of an interface, in the order in which packets cross them.

use super::compile::{default_judgement, in_order, ordered, union};
use super::{Layer, Open};
use crate::doubt::{Doubt, Node, Unsaid, Whose};
use crate::faults::{Fault, has};
use crate::judgement::{By, Judgement, Outcome, StageKind, State};
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
    /// On what it turns where that depends on what the snapshot lacks, as far as that is one question or a few.
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

/// How rule lists are read in a network, in one direction.
#[derive(Clone, Copy)]
struct Lists<'v, 'e> {
    view: &'v View<'e>,
    direction: Direction,
    network: Id<Network>,
}

/// Where and which way: the subject of a chain.
struct Site<'v, 'e> {
    view: &'v View<'e>,
    interface: Id<Interface>,
    direction: Direction,
    network: Id<Network>,
    lists: Lists<'v, 'e>,
}

impl Lists<'_, '_> {
    /// Whether the snapshot lacks the rules of a filter.
    fn lacks_rules(&self, filter: Id<Filter>) -> bool {
        let item = &self.view.estate.filters[filter];
        // A scope policy is the network's own only where it is bound to it.
        let of_network = match &item.kind {
            FilterKind::ScopePolicy { scope, .. } => *scope == Scope::Network(self.network),
            _ => true,
        };
        let network = &self.view.estate.networks[self.network].name;
        item.key
            .split_once(':')
            .is_some_and(|(kind, name)| self.view.lacks(kind, name, Lack::Rules))
            || (of_network && self.view.lacks("network", network, Lack::Rules))
    }

    /// An ordered list of one or several filters over its defaults.
    fn list(&self, filters: &[Id<Filter>]) -> Layer {
        if filters.iter().any(|filter| self.lacks_rules(*filter)) {
            let stateless = filters
                .iter()
                .any(|filter| !self.view.estate.filters[*filter].keeps_state());
            let state = if stateless {
                State::NotKept
            } else {
                State::Kept
            };
            return Layer::constant(Judgement {
                outcome: Outcome::Unknown,
                by: By::Lacking,
                state,
            });
        }
        let settings = self.view.settings(self.network);
        let rules = in_order(self.view, filters, self.direction, settings.equal_priority);
        let stateful = filters
            .iter()
            .all(|filter| self.view.estate.filters[*filter].keeps_state());
        let rest = Layer::constant(self.default_of(filters));
        ordered(self.view, &rules, Some(self.network), stateful, &rest)
    }

    /// What happens to packets that no rule of the merged filters matches: deny if any default refuses.
    fn default_of(&self, filters: &[Id<Filter>]) -> Judgement {
        let judge = |filter: &Id<Filter>| {
            let item = &self.view.estate.filters[*filter];
            let action = item.default_action(self.direction)?;
            if matches!(item.kind, FilterKind::NetworkAcl) {
                let outcome = if has(Fault::AclDefaultAllow) {
                    Outcome::Pass
                } else {
                    Outcome::Deny
                };
                return Some(Judgement {
                    outcome,
                    by: By::ImpliedDeny,
                    state: State::NotKept,
                });
            }
            Some(default_judgement(action, By::Default(*filter)))
        };
        let mut all = filters.iter().filter_map(judge);
        let first = all
            .next()
            .unwrap_or(Judgement::new(Outcome::Deny, By::NoRule));
        if has(Fault::OneDefaultOfTwo) || first.outcome.refuses() {
            return first;
        }
        all.find(|judgement| judgement.outcome.refuses())
            .unwrap_or(first)
    }
}

impl<'v, 'e> Site<'v, 'e> {
    fn new(view: &'v View<'e>, interface: Id<Interface>, direction: Direction) -> Self {
        let network = view.estate.network_of(interface);
        Self {
            view,
            interface,
            direction,
            network,
            lists: Lists {
                view,
                direction,
                network,
            },
        }
    }

    fn constant(outcome: Outcome, by: By) -> Layer {
        Layer::constant(Judgement::new(outcome, by))
    }

    fn own_firewall(&self) -> Option<Stage> {
        if has(Fault::DropOwnFirewall) {
            return None;
        }
        let kind = StageKind::OwnFirewall;
        let unknown = Judgement::new(Outcome::Unknown, By::Lacking);
        let lacking = || Some(Stage::of(kind, Vec::new(), Layer::constant(unknown)));
        match self.view.estate.own_firewall(self.interface) {
            None if self.view.lacks_at(self.interface, Lack::OwnFirewalls) => lacking(),
            None => None,
            Some(Reference::Missing(_)) => lacking(),
            Some(Reference::Found(filter)) => {
                Some(Stage::of(kind, vec![*filter], self.lists.list(&[*filter])))
            }
        }
    }

    fn scope_policies(&self) -> Option<Stage> {
        if has(Fault::DropScopePolicies) {
            return None;
        }
        let mut filters = policies_at(self.view, self.interface);
        let settings = self.view.settings(self.network);
        let implied = settings.implied_pair && !has(Fault::ForgetImpliedPair);
        // A policy that the snapshot lacks may be bound anywhere.
        let elsewhere = self.view.lacks_any(&["policy"]);
        if filters.is_empty() && !implied && !elsewhere {
            return None;
        }
        if has(Fault::InnerScopeFirst) {
            filters.reverse();
        }
        let mut map = match (implied, self.direction) {
            (true, Direction::In) => Self::constant(Outcome::Deny, By::ImpliedPair),
            (true, Direction::Out) => Self::constant(Outcome::Pass, By::ImpliedPair),
            (false, _) => Self::constant(Outcome::Pass, By::NoPolicy),
        };
        let lacking = Judgement::new(Outcome::UnknownFinally, By::Lacking);
        for filter in filters.iter().rev() {
            map = if self.lists.lacks_rules(*filter) {
                Layer::constant(lacking)
            } else {
                let rules = in_order(
                    self.view,
                    &[*filter],
                    self.direction,
                    settings.equal_priority,
                );
                ordered(self.view, &rules, Some(self.network), true, &map)
            };
        }
        if elsewhere {
            map = Layer::constant(lacking);
        }
        Some(Stage::of(StageKind::ScopePolicies, filters, map))
    }

    /// The groups of the interface, then of the subnet: the order of sending.
    fn groups(&self) -> Vec<Stage> {
        let estate = self.view.estate;
        let item = &estate.interfaces[self.interface];
        let settings = self.view.settings(self.network);
        let mut interface = &item.groups[..];
        let mut subnet = &estate.subnets[item.subnet].groups[..];
        if has(Fault::DropInterfaceGroups) {
            interface = &[];
        }
        if has(Fault::DropSubnetGroups) {
            subnet = &[];
        }
        let lacking = self.view.lacks_at(self.interface, Lack::Groups);
        if interface.is_empty() && subnet.is_empty() && !lacking {
            let deny = settings.no_group == NoGroup::Deny && !has(Fault::ForgetNoGroup);
            let layer = Self::constant(Outcome::Deny, By::NoGroup);
            return if deny {
                vec![Stage::of(StageKind::InterfaceGroups, Vec::new(), layer)]
            } else {
                Vec::new()
            };
        }
        let all_union = interface
            .iter()
            .chain(subnet)
            .all(|g| g.found().is_none_or(|g| estate.filters[g].is_union()));
        let mut pooled = settings.subnet_groups == SubnetGroups::Pooled;
        if has(Fault::PooledAsBoth) || has(Fault::BothAsPooled) {
            pooled = has(Fault::BothAsPooled);
        }
        if pooled && all_union && !interface.is_empty() && !subnet.is_empty() {
            let both: Vec<_> = interface.iter().chain(subnet).cloned().collect();
            return vec![self.place(StageKind::PooledGroups, &both, lacking)];
        }
        let mut stages = Vec::new();
        if !interface.is_empty() || lacking {
            stages.push(self.place(StageKind::InterfaceGroups, interface, lacking));
        }
        if !subnet.is_empty() {
            stages.push(self.place(StageKind::SubnetGroups, subnet, lacking));
        }
        stages
    }

    /// The groups bound at one place, as one stage. `lacking`: there may be more of them.
    fn place(&self, kind: StageKind, groups: &[Reference<Filter>], lacking: bool) -> Stage {
        let found: Vec<Id<Filter>> = groups.iter().filter_map(Reference::found).collect();
        let lacking = lacking || found.len() < groups.len();
        let is_union = found
            .first()
            .is_some_and(|group| self.view.estate.filters[*group].is_union());
        let unknown = Judgement::new(Outcome::Unknown, By::Lacking);
        let layer = if found.is_empty() || (lacking && !is_union) {
            Layer::constant(unknown)
        } else if is_union {
            let open = lacking || found.iter().any(|group| self.lists.lacks_rules(*group));
            let rest = if open {
                unknown
            } else {
                Judgement::new(Outcome::Deny, By::NoRule)
            };
            union(self.view, &found, self.direction, Some(self.network), rest)
        } else {
            self.lists.list(&found)
        };
        Stage::of(kind, found, layer)
    }

    fn acl(&self) -> Option<Stage> {
        let subnet = self.view.estate.interfaces[self.interface].subnet;
        let mut stage = acl_of(self.view, subnet, self.direction)?;
        if !has(Fault::AclForNeighbours) {
            let neighbours = self.with_peers(&self.view.estate.subnets[subnet].blocks);
            let skipped =
                neighbours.relabel(|()| Some(Judgement::new(Outcome::Pass, By::SameSubnet)));
            stage.map = skipped.overlay(&stage.map);
            stage.open = stage
                .open
                .take()
                .map(|(map, forest)| (map.without(&skipped), forest));
        }
        Some(stage)
    }

    /// All packets whose other side is one of these addresses.
    fn with_peers(&self, peers: &Addresses) -> PacketSet {
        let all = Addresses::all();
        let every_port = Intervals::span(0, u128::from(u16::MAX));
        match self.direction {
            Direction::In => PacketSet::fields(peers, &all, service::all, &every_port, ()),
            Direction::Out => PacketSet::fields(&all, peers, service::all, &every_port, ()),
        }
    }
}

/// The scope policies that apply to an interface, outermost first: estate, divisions from outside in, network.
pub fn policies_at(view: &View<'_>, interface: Id<Interface>) -> Vec<Id<Filter>> {
    let estate = view.estate;
    let network = estate.network_of(interface);
    let divisions = view.divisions_of(network);
    let level = |scope: &Scope| match scope {
        Scope::Estate => Some(0),
        Scope::Division(division) => divisions
            .iter()
            .position(|d| d == division)
            .map(|at| at + 1),
        Scope::Network(other) => (*other == network).then_some(divisions.len() + 1),
    };
    let applies = |targets: &Option<Vec<Target>>| {
        has(Fault::TargetsIgnored)
            || targets.as_ref().is_none_or(|targets| {
                targets
                    .iter()
                    .any(|target| is_target(view, interface, target))
            })
    };
    let mut found: Vec<((usize, u32), Id<Filter>)> = Vec::new();
    for &id in view.policies() {
        let filter = &estate.filters[id];
        if let FilterKind::ScopePolicy {
            scope,
            order,
            targets,
        } = &filter.kind
            && let Some(level) = level(scope)
            && applies(targets)
        {
            found.push(((level, *order), id));
        }
    }
    found.sort_unstable();
    found.into_iter().map(|(_, id)| id).collect()
}

fn is_target(view: &View<'_>, interface: Id<Interface>, target: &Target) -> bool {
    let estate = view.estate;
    match target {
        Target::Tag(pairs) => estate.has_tags(interface, pairs),
        Target::Identity(name) => estate.identity(interface) == Some(name),
        Target::Network(network) => network.found() == Some(estate.network_of(interface)),
        Target::Subnet(subnet) => subnet.found() == Some(estate.interfaces[interface].subnet),
        Target::Interface(other) => other.found() == Some(interface),
    }
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

/// What becomes of packets at the stages of one side, for each answer to what is in doubt there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Completed {
    /// Nothing more is in doubt: every judgement of the way is certain.
    Way(Way),
    /// It turns on a doubt, which this way met first.
    Turn(Box<(Doubt, Way, Completed, Completed)>),
}

impl Completed {
    fn ways(&self) -> Vec<&Way> {
        match self {
            Self::Way(way) => vec![way],
            Self::Turn(turn) => [turn.2.ways(), turn.3.ways()].concat(),
        }
    }
}

/// So many doubts of one side are told apart; with more, each stage's is one of its own.
const MOST_DOUBTS: usize = 10;

/// The completions of one way through some stages, for each part of its packets. `whose` and `reply` say whose stages these are.
pub(crate) fn completed(
    chain: &Chain,
    whose: Whose,
    reply: bool,
    way: &Way,
    set: &PacketSet,
) -> Vec<(Completed, PacketSet)> {
    // Packets by what their stages have to decide: a decision that turns on doubts, or what is known.
    let mut lists: Vec<Vec<(Option<u32>, Judgement)>> = vec![Vec::new()];
    let mut map: PacketMap<u32> = set.relabel(|()| Some(0));
    for (stage, judged) in chain.stages.iter().zip(&way.judgements) {
        let mut index = rustc_hash::FxHashMap::default();
        let mut next: Vec<Vec<(Option<u32>, Judgement)>> = Vec::new();
        let mut push = |list: u32, node: Option<u32>, judgement: Judgement| {
            *index.entry((list, node, judgement)).or_insert_with(|| {
                next.push(
                    lists[list as usize]
                        .iter()
                        .copied()
                        .chain([(node, judgement)])
                        .collect(),
                );
                u32::try_from(next.len() - 1).expect("fewer than 2^32 decisions")
            })
        };
        let open = stage.open.as_ref().filter(|_| !judged.is_certain());
        let decided = open
            .map(|(open, _)| map.combine(open, |list, node| Some(push(list, Some(node), *judged))));
        let rest = map.combine(&stage.map, |list, judgement| {
            Some(push(list, None, judgement))
        });
        map = decided.map_or_else(|| rest.clone(), |decided| decided.overlay(&rest));
        lists = next;
    }
    let stages = Completing {
        chain,
        whose,
        reply,
    };
    map.regions()
        .into_iter()
        .map(|(list, part)| {
            (
                stages.beyond(
                    &lists[list as usize],
                    Way {
                        judgements: Vec::new(),
                    },
                    &mut Vec::new(),
                ),
                part,
            )
        })
        .collect()
}

struct Completing<'c> {
    chain: &'c Chain,
    whose: Whose,
    reply: bool,
}

/// What stages have to decide, in their order.
type ToDecide<'d> = &'d [(Option<u32>, Judgement)];

impl Completing<'_> {
    /// The stages behind those that a way has passed, given some answers.
    fn beyond(
        &self,
        nodes: ToDecide<'_>,
        so_far: Way,
        given: &mut Vec<(Doubt, bool)>,
    ) -> Completed {
        let at = so_far.judgements.len();
        let (Some((node, known)), false) = (nodes.get(at), so_far.refuses()) else {
            return Completed::Way(so_far);
        };
        let (stage, known) = (&self.chain.stages[at], *known);
        let mut met = so_far.clone();
        met.extend(stage.kind, known);
        if let (Some(node), Some((_, forest))) = (node, &stage.open)
            && given.len() < MOST_DOUBTS
        {
            let mut node = *node;
            loop {
                match forest.node(node) {
                    Node::End(judgement) => return self.free(nodes, &so_far, *judgement, given),
                    Node::Turn { doubt, yes, no } => {
                        let doubt = &forest.doubt(*doubt).0;
                        if let Some((_, is)) = given.iter().find(|(other, _)| other == doubt) {
                            node = if *is { *yes } else { *no };
                            continue;
                        }
                        let doubt = doubt.clone();
                        return self.turn(nodes, &so_far, met, doubt, given);
                    }
                }
            }
        }
        self.free(nodes, &so_far, known, given)
    }

    fn turn(
        &self,
        nodes: ToDecide<'_>,
        so_far: &Way,
        met: Way,
        doubt: Doubt,
        given: &mut Vec<(Doubt, bool)>,
    ) -> Completed {
        let [yes, no] = [true, false].map(|is| {
            given.push((doubt.clone(), is));
            let found = self.beyond(nodes, so_far.clone(), given);
            given.pop();
            found
        });
        if yes == no {
            yes
        } else {
            Completed::Turn(Box::new((doubt, met, yes, no)))
        }
    }

    /// A stage's judgement, which may be anything where the snapshot lacks its rules.
    fn free(
        &self,
        nodes: ToDecide<'_>,
        so_far: &Way,
        judgement: Judgement,
        given: &mut Vec<(Doubt, bool)>,
    ) -> Completed {
        let stage = &self.chain.stages[so_far.judgements.len()];
        let (kind, direction) = (stage.kind, self.chain.direction);
        let mut met = so_far.clone();
        met.extend(kind, judgement);
        let lets_on = Doubt::of_packet(Unsaid::LetsOn(self.whose, kind, direction, self.reply));
        let finally = Doubt::of_packet(Unsaid::Finally(self.whose, kind, direction, self.reply));
        let answer = |doubt: &Doubt| {
            given
                .iter()
                .find(|(other, _)| other == doubt)
                .map(|(_, is)| *is)
        };
        let outcome = match judgement.outcome {
            Outcome::Unknown | Outcome::UnknownFinally => {
                match (answer(&lets_on), judgement.outcome) {
                    (None, _) => return self.turn(nodes, so_far, met, lets_on, given),
                    (Some(false), _) => Outcome::Deny,
                    (Some(true), Outcome::Unknown) => Outcome::Pass,
                    (Some(true), _) => Outcome::PassPerhapsFinally,
                }
            }
            other => other,
        };
        let outcome = match (outcome, answer(&finally)) {
            (Outcome::PassPerhapsFinally, None) => {
                return self.turn(nodes, so_far, met, finally, given);
            }
            (Outcome::PassPerhapsFinally, Some(true)) => Outcome::PassFinally,
            (Outcome::PassPerhapsFinally, Some(false)) => Outcome::Pass,
            (other, _) => other,
        };
        let mut longer = so_far.clone();
        longer.extend(
            kind,
            Judgement {
                outcome,
                ..judgement
            },
        );
        self.beyond(nodes, longer, given)
    }
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
