//! Effective rules of an interface (`docs/semantics.md` 4): what all stages of one side admit together, by which rules, and
//! whether the reply gets back through the stages that keep no state.

use crate::judgement::{By, Judgement, Outcome, StageKind, State};
use crate::stage::{Chain, Stage, Way, chain, policies_at};
use heronshale_model::estate::{Direction, Filter, Id, Interface, Lack, Reference, Subnet};
use heronshale_model::view::View;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{Entry, PacketSet, entries, entries_within, service};
use rustc_hash::FxHashMap;
use std::cell::OnceCell;

/// Whether the reply to an admitted packet passes the stages of this interface that keep no state.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reply {
    /// It does, or there is none.
    Passes,
    /// Only if the client's port is one of these.
    OnlyTo(Intervals),
    /// It does not, at this stage.
    Denied(StageKind),
    /// That depends on what the snapshot lacks, at this stage.
    Unknown(StageKind),
}

/// Packets that are decided alike, as one entry of a list.
#[derive(Clone, Debug)]
pub struct Listed {
    /// The packets.
    pub entry: Entry,
    /// What each stage decided.
    pub way: Way,
    /// For admitted packets, whether the reply gets back.
    pub reply: Reply,
}

/// What one side of an interface does with packets of one direction.
#[derive(Clone, Debug)]
pub struct Side {
    /// Received or sent.
    pub direction: Direction,
    /// The stages in the order of crossing.
    pub stages: Vec<(StageKind, Vec<Id<Filter>>)>,
    /// What is admitted, to be read from the top: the first entry that holds a packet names what decided it. None can be
    /// dropped and no two merged.
    pub admitted: Vec<Listed>,
    /// What depends on what the snapshot lacks, to be read on from there.
    pub unknown: Vec<Listed>,
    /// What is refused: to be read from the top, of what no entry above has taken.
    pub left: Vec<Listed>,
    /// Exactly what is admitted.
    pub admitted_set: PacketSet,
    /// Exactly what is unknown.
    pub unknown_set: PacketSet,
}

/// Interfaces on which the same filters act alike.
#[derive(Clone, Debug)]
pub struct Class {
    /// The members, in the order of the snapshot; never empty.
    pub members: Vec<Id<Interface>>,
}

impl Class {
    /// Puts a member that is wanted in front; whether there is one.
    pub fn put_first(&mut self, wanted: &[Id<Interface>]) -> bool {
        let found = self
            .members
            .iter()
            .position(|member| wanted.contains(member));
        if let Some(at) = found {
            self.members[..=at].rotate_right(1);
        }
        found.is_some()
    }

    /// The first member stands for all.
    pub fn representative(&self) -> Id<Interface> {
        self.members[0]
    }
}

#[derive(PartialEq, Eq, Hash)]
struct ClassKey {
    subnet: Id<Subnet>,
    groups: Vec<Reference<Filter>>,
    own_firewall: Option<Reference<Filter>>,
    policies: Vec<Id<Filter>>,
    unfiltered: bool,
    lacks: [bool; 2],
    families: [bool; 2],
    /// Only where a rule is about the own addresses.
    addresses: Option<Addresses>,
}

/// Whether some rule that acts on an interface is about its own addresses.
fn uses_local(view: &View<'_>, filters: impl Iterator<Item = Id<Filter>>) -> bool {
    let mut rules = filters.flat_map(|filter| view.estate.filters[filter].rules.iter().flatten());
    rules.any(|rule| rule.local.is_some())
}

/// All filters that are enforced at an interface, as far as the snapshot has them.
pub fn filters_at(view: &View<'_>, id: Id<Interface>) -> Vec<Id<Filter>> {
    let interface = &view.estate.interfaces[id];
    let subnet = &view.estate.subnets[interface.subnet];
    let own_firewall = view.estate.own_firewall(id);
    let bound = interface
        .groups
        .iter()
        .chain(&subnet.groups)
        .chain(own_firewall)
        .chain(&subnet.acl);
    bound
        .filter_map(Reference::found)
        .chain(policies_at(view, id))
        .collect()
}

fn class_key(view: &View<'_>, id: Id<Interface>) -> ClassKey {
    let interface = &view.estate.interfaces[id];
    let filters = filters_at(view, id).into_iter();
    let addresses = uses_local(view, filters).then(|| interface.addresses.clone());
    ClassKey {
        subnet: interface.subnet,
        groups: interface.groups.clone(),
        own_firewall: view.estate.own_firewall(id).cloned(),
        policies: policies_at(view, id),
        unfiltered: interface.unfiltered,
        lacks: [Lack::OwnFirewalls, Lack::Groups].map(|lack| view.lacks_at(id, lack)),
        families: Family::BOTH.map(|family| !interface.addresses.of(family).is_empty()),
        addresses,
    }
}

/// For each interface a number: those of one number have the same stages, their subnets' ACLs left out.
pub(crate) fn stage_classes(view: &View<'_>) -> Vec<u32> {
    type Key = (
        Id<heronshale_model::estate::Network>,
        Vec<Reference<Filter>>,
        ClassKey,
    );
    let mut index: FxHashMap<Key, u32> = FxHashMap::default();
    let class = |id: Id<Interface>| {
        let mut key = class_key(view, id);
        let subnet = std::mem::replace(&mut key.subnet, Id::new(0));
        let item = &view.estate.subnets[subnet];
        let next = u32::try_from(index.len()).unwrap_or(u32::MAX);
        *index
            .entry((item.network, item.groups.clone(), key))
            .or_insert(next)
    };
    view.estate.interfaces.ids().map(class).collect()
}

/// All interfaces, by class, in the order of their first members.
pub fn classes(view: &View<'_>) -> Vec<Class> {
    let mut index: FxHashMap<ClassKey, usize> = FxHashMap::default();
    let mut classes: Vec<Class> = Vec::new();
    for id in view.estate.interfaces.ids() {
        let at = *index.entry(class_key(view, id)).or_insert_with(|| {
            classes.push(Class {
                members: Vec::new(),
            });
            classes.len() - 1
        });
        classes[at].members.push(id);
    }
    classes
}

/// The class that an interface belongs to.
pub fn class_of(view: &View<'_>, id: Id<Interface>) -> Class {
    let key = class_key(view, id);
    let subnet = view.estate.interfaces[id].subnet;
    let same = |other: &Id<Interface>| {
        view.estate.interfaces[*other].subnet == subnet && class_key(view, *other) == key
    };
    let mut members: Vec<_> = view.estate.interfaces.ids().filter(same).collect();
    members.retain(|member| *member != id);
    members.insert(0, id);
    Class { members }
}

/// The packets that the question is about: of the families that the interface has, and to or from its own
/// addresses where rules are about those.
pub fn domain(view: &View<'_>, interface: Id<Interface>, direction: Direction) -> PacketSet {
    let key = class_key(view, interface);
    let all = Addresses::all();
    let mut local = key.addresses.unwrap_or_else(|| all.clone());
    for (family, present) in Family::BOTH.into_iter().zip(key.families) {
        if !present {
            local = local.difference(&Addresses::of_family(family));
        }
    }
    let every_port = Intervals::span(0, u128::from(u16::MAX));
    match direction {
        Direction::In => PacketSet::fields(&all, &local, service::all, &every_port, ()),
        Direction::Out => PacketSet::fields(&local, &all, service::all, &every_port, ()),
    }
}

/// The effective rules of an interface in one direction, of all packets or of those in `asked`.
pub fn effective(
    view: &View<'_>,
    interface: Id<Interface>,
    direction: Direction,
    asked: Option<&PacketSet>,
) -> Side {
    let [forward, backward] =
        [direction, direction.opposite()].map(|direction| chain(view, interface, direction));
    side_by(view, interface, &forward, &backward, asked)
}

/// The effective rules of an interface: received, and sent.
pub fn effective_both(
    view: &View<'_>,
    interface: Id<Interface>,
    asked: [Option<&PacketSet>; 2],
) -> [Side; 2] {
    let [received, sent] = Direction::BOTH.map(|direction| chain(view, interface, direction));
    let [of_received, of_sent] = asked;
    [
        side_by(view, interface, &received, &sent, of_received),
        side_by(view, interface, &sent, &received, of_sent),
    ]
}

fn side_by(
    view: &View<'_>,
    interface: Id<Interface>,
    forward: &Chain,
    backward: &Chain,
    asked: Option<&PacketSet>,
) -> Side {
    let direction = forward.direction;
    let mut domain = domain(view, interface, direction);
    if let Some(asked) = asked {
        domain = domain.intersection(asked);
    }
    let most_widened = view.limits.most_widened;
    let client_ports = &view
        .settings(view.estate.network_of(interface))
        .client_ports;
    let ways = forward.ways(&domain);
    let replies = Replies::new(backward, client_ports);
    let mut side = Side {
        direction,
        stages: forward
            .stages
            .iter()
            .map(|stage| (stage.kind, stage.filters.clone()))
            .collect(),
        admitted: Vec::new(),
        unknown: Vec::new(),
        left: Vec::new(),
        admitted_set: PacketSet::empty(),
        unknown_set: PacketSet::empty(),
    };
    let mut refused: Vec<(&Way, PacketSet)> = Vec::new();
    let (mut passed, mut open): (Vec<Part<'_>>, Vec<Part<'_>>) = (Vec::new(), Vec::new());
    for (way, set) in ways.regions() {
        if way.refuses() {
            refused.push((way, set));
        } else if way.passes() {
            side.admitted_set = side.admitted_set.union(&set);
            passed.extend(
                replies
                    .of(forward, way, &set)
                    .into_iter()
                    .map(|(reply, set)| Part { way, reply, set }),
            );
        } else {
            side.unknown_set = side.unknown_set.union(&set);
            open.push(Part {
                way,
                reply: Reply::Passes,
                set,
            });
        }
    }
    refused.sort_by_key(|(way, _)| *way);
    side.admitted = listed(passed, PacketSet::empty(), most_widened);
    side.unknown = listed(open, side.admitted_set.clone(), most_widened);
    side.left = left_over(&side, refused, most_widened);
    side
}

/// By what packets are refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DeniedBy {
    /// A stage refuses the request.
    Request(StageKind, By),
    /// A stage without state refuses the reply.
    Reply(StageKind),
}

/// What the stages of one side let through, without saying by which rules.
pub struct Passing {
    /// The stages in the order of crossing.
    pub stages: Vec<Stage>,
    /// The packets that the question is about.
    pub domain: PacketSet,
    /// Admitted for certain, whatever becomes of the reply.
    pub admitted: PacketSet,
    /// What may get through and be answered: everything but what is certainly refused, or whose reply certainly is.
    pub works: PacketSet,
    /// What is refused, by the stage that refuses it; or whose reply is, by the stage that keeps no state.
    pub refused: Vec<(DeniedBy, PacketSet)>,
}

/// What the stages of an interface let through in one direction.
pub fn passing(view: &View<'_>, interface: Id<Interface>, direction: Direction) -> Passing {
    let [forward, backward] =
        [direction, direction.opposite()].map(|direction| chain(view, interface, direction));
    passing_by(view, interface, &forward, &backward, None)
}

/// What the stages of an interface let through, of all packets or of those that are asked: received, and sent.
pub fn passing_both(
    view: &View<'_>,
    interface: Id<Interface>,
    asked: [Option<&PacketSet>; 2],
) -> [Passing; 2] {
    let [received, sent] = Direction::BOTH.map(|direction| chain(view, interface, direction));
    let [of_received, of_sent] = asked;
    [
        passing_by(view, interface, &received, &sent, of_received),
        passing_by(view, interface, &sent, &received, of_sent),
    ]
}

fn passing_by(
    view: &View<'_>,
    interface: Id<Interface>,
    forward: &Chain,
    backward: &Chain,
    asked: Option<&PacketSet>,
) -> Passing {
    let mut domain = domain(view, interface, forward.direction);
    if let Some(asked) = asked {
        domain = domain.intersection(asked);
    }
    let _most_widened = view.limits.most_widened;
    let client_ports = &view
        .settings(view.estate.network_of(interface))
        .client_ports;
    let ways = forward.ways(&domain);
    let replies = Replies::new(backward, client_ports);
    let (mut admitted, mut works, mut refused) =
        (PacketSet::empty(), PacketSet::empty(), Vec::new());
    for (way, set) in ways.regions() {
        if way.refuses() {
            let stage = way.judgements.len().checked_sub(1);
            let by =
                stage.and_then(|at| Some((forward.stages.get(at)?.kind, way.judgements[at].by)));
            refused.extend(by.map(|(kind, by)| (DeniedBy::Request(kind, by), set)));
            continue;
        }
        if !way.passes() {
            works = works.union(&set);
            continue;
        }
        admitted = admitted.union(&set);
        for (reply, set) in replies.of(forward, way, &set) {
            match reply {
                Reply::Denied(kind) => refused.push((DeniedBy::Reply(kind), set)),
                Reply::Passes | Reply::OnlyTo(_) | Reply::Unknown(_) => works = works.union(&set),
            }
        }
    }
    Passing {
        stages: forward.stages.clone(),
        domain,
        admitted,
        works,
        refused,
    }
}

/// Packets of one way with one fate of their replies.
struct Part<'w> {
    way: &'w Way,
    reply: Reply,
    set: PacketSet,
}

/// Where a way stands in a list that is read from the top: what is exempt before what rules decide, earlier rules before
/// later ones, and what no rule decides last.
fn reading_order(way: &Way) -> Vec<(u8, By)> {
    let rank = |by: By| match by {
        By::SameSubnet | By::Platform | By::Finally => 0,
        By::Rule(_) => 1,
        _ => 2,
    };
    way.judgements
        .iter()
        .map(|judgement| (rank(judgement.by), judgement.by))
        .collect()
}

/// Parts as entries, to be read from the top: each is as wide as what stands above it allows, so that "any" stays "any"
/// although an earlier rule has taken some of it. `above` is what lists before this one have taken.
fn listed(mut parts: Vec<Part<'_>>, mut above: PacketSet, most_widened: usize) -> Vec<Listed> {
    parts.sort_by_key(|part| (reading_order(part.way), part.reply != Reply::Passes));
    let mut all = Vec::new();
    let widened = parts.len() <= most_widened;
    for Part { way, reply, set } in parts {
        let told = if widened {
            above = above.union(&set);
            entries_within(&set, &above)
        } else {
            entries(&set)
        };
        all.extend(told.into_iter().map(|entry| Listed {
            entry,
            way: way.clone(),
            reply: reply.clone(),
        }));
    }
    all.sort_by_key(|listed| listed.entry.family);
    all
}

/// What is refused, most specific first, each entry as wide as what stands above it allows.
fn left_over(side: &Side, refused: Vec<(&Way, PacketSet)>, most_widened: usize) -> Vec<Listed> {
    let mut by_end: Vec<(usize, Judgement, Way, PacketSet)> = Vec::new();
    for (way, set) in refused {
        let Some(last) = way.judgements.last() else {
            continue;
        };
        let depth = way.judgements.len();
        match by_end
            .iter_mut()
            .find(|(d, j, _, _)| (*d, *j) == (depth, *last))
        {
            Some((_, _, _, sum)) => *sum = sum.union(&set),
            None => by_end.push((depth, *last, way.clone(), set)),
        }
    }
    let by_rule = |judgement: &Judgement| matches!(judgement.by, By::Rule(_));
    by_end.sort_by_key(|(depth, judgement, _, _)| {
        (!by_rule(judgement), std::cmp::Reverse(*depth), *judgement)
    });
    let widened = by_end.len() <= most_widened;
    let mut above = side.admitted_set.union(&side.unknown_set);
    let mut left = Vec::new();
    for (_, _, way, set) in by_end {
        let told = if widened {
            above = above.union(&set);
            entries_within(&set, &above)
        } else {
            entries(&set)
        };
        left.extend(told.into_iter().map(|entry| Listed {
            entry,
            way: way.clone(),
            reply: Reply::Passes,
        }));
    }
    left.sort_by_key(|listed| listed.entry.family);
    left
}

/// Which requests have their reply let through, stage by stage of the opposite direction. Only stages that keep no state are
/// ever asked, and most do, so that each is turned around when it is first needed.
pub struct Replies<'c> {
    client_ports: &'c Intervals,
    stages: Vec<(&'c Stage, OnceCell<Answered>)>,
    finally: OnceCell<PacketSet>,
}

/// The requests whose reply one stage lets through.
struct Answered {
    sure: PacketSet,
    either: PacketSet,
}

impl Answered {
    fn by(stage: &Stage) -> Self {
        let maybe = stage
            .map
            .select(|judgement| !judgement.outcome.passes() && !judgement.outcome.refuses());
        let sure = stage.map.select(|judgement| judgement.outcome.passes());
        let either = if maybe.is_empty() {
            sure.clone()
        } else {
            sure.union(&maybe)
        };
        Self {
            sure: sure.requests_answered(),
            either: either.requests_answered(),
        }
    }
}

impl<'c> Replies<'c> {
    /// Replies to what crosses one side, judged by the chain of the other.
    pub fn new(backward: &'c Chain, client_ports: &'c Intervals) -> Self {
        let stages = backward
            .stages
            .iter()
            .map(|stage| (stage, OnceCell::new()))
            .collect();
        Self {
            client_ports,
            stages,
            finally: OnceCell::new(),
        }
    }

    /// The requests whose reply the scope policies let past the filters below them.
    fn finally(&self) -> &PacketSet {
        self.finally.get_or_init(|| {
            let mut scopes = self
                .stages
                .iter()
                .filter(|(stage, _)| stage.kind == StageKind::ScopePolicies);
            let passing = scopes
                .next()
                .map(|(stage, _)| stage.map.select(|j| j.outcome == Outcome::PassFinally));
            passing.unwrap_or_default().requests_answered()
        })
    }

    /// Splits admitted packets of one way by what becomes of their replies.
    pub fn of(&self, forward: &Chain, way: &Way, set: &PacketSet) -> Vec<(Reply, PacketSet)> {
        let crossed = forward.stages.iter().zip(&way.judgements);
        let matched = |wanted: State| {
            let kinds = crossed
                .clone()
                .filter(move |(_, judgement)| judgement.state == wanted);
            kinds.map(|(stage, _)| stage.kind).collect::<Vec<_>>()
        };
        let (stateless, doubtful) = (matched(State::NotKept), matched(State::Unknown));
        let mut parts = Vec::new();
        let mut rest = set.clone();
        let finally = stateless.contains(&StageKind::ScopePolicies);
        for (stage, answered) in self
            .stages
            .iter()
            .filter(|(stage, _)| stateless.contains(&stage.kind))
        {
            let kind = &stage.kind;
            let Answered { sure, either } = answered.get_or_init(|| Answered::by(stage));
            let skips = finally
                && !matches!(
                    kind,
                    StageKind::NetworkAcl | StageKind::OwnFirewall | StageKind::ScopePolicies
                );
            let widen = |set: &PacketSet| {
                if skips {
                    set.union(self.finally())
                } else {
                    set.clone()
                }
            };
            let (open, closed) = self.split(&rest, &widen(either), *kind, false);
            parts.extend(closed);
            let (open, unsure) = self.split(&open, &widen(sure), *kind, true);
            parts.extend(unsure);
            rest = open;
        }
        for (stage, answered) in self
            .stages
            .iter()
            .filter(|(stage, _)| doubtful.contains(&stage.kind))
        {
            let sure = &answered.get_or_init(|| Answered::by(stage)).sure;
            let (open, unsure) = self.split(&rest, sure, stage.kind, true);
            parts.extend(unsure);
            rest = open;
        }
        if !rest.is_empty() {
            parts.insert(0, (Reply::Passes, rest));
        }
        parts
    }

    /// What of a set is answered whatever port the client has, and the rest by what becomes of it.
    fn split(
        &self,
        set: &PacketSet,
        answered: &PacketSet,
        kind: StageKind,
        doubt: bool,
    ) -> (PacketSet, Vec<(Reply, PacketSet)>) {
        let all = Addresses::all();
        let from_clients = PacketSet::fields(
            &all,
            &all,
            |_| service::all_with_ports(),
            self.client_ports,
            (),
        );
        let every_port = Intervals::span(0, u128::from(u16::MAX));
        let with_ports =
            PacketSet::fields(&all, &all, |_| service::all_with_ports(), &every_port, ());
        let asked = set.intersection(&from_clients);
        let without_clients = set
            .intersection(&with_ports)
            .difference(&asked.any_source_port());
        let relevant = asked
            .union(&without_clients)
            .union(&set.difference(&with_ports));
        let failing = relevant.difference(answered);
        if failing.is_empty() {
            return (set.clone(), Vec::new());
        }
        let passing = relevant.intersection(answered);
        let (some_fail, some_pass) = (failing.any_source_port(), passing.any_source_port());
        let never = set.intersection(&some_fail).difference(&some_pass);
        let mut parts = Vec::new();
        let end = if doubt {
            Reply::Unknown(kind)
        } else {
            Reply::Denied(kind)
        };
        if !never.is_empty() {
            parts.push((end, never));
        }
        let mixed = set.intersection(&some_fail).intersection(&some_pass);
        let mut by_ports: Vec<(Intervals, PacketSet)> = Vec::new();
        for (entry, ()) in passing.intersection(&mixed).boxes() {
            let part = PacketSet::of_entry(&entry, ())
                .any_source_port()
                .intersection(&mixed);
            match by_ports
                .iter_mut()
                .find(|(ports, _)| *ports == entry.source_ports)
            {
                Some((_, sum)) => *sum = sum.union(&part),
                None => by_ports.push((entry.source_ports.clone(), part)),
            }
        }
        let doubtful = |ports| {
            if doubt {
                Reply::Unknown(kind)
            } else {
                Reply::OnlyTo(ports)
            }
        };
        parts.extend(
            by_ports
                .into_iter()
                .map(|(ports, part)| (doubtful(ports), part)),
        );
        (set.difference(&some_fail), parts)
    }
}
