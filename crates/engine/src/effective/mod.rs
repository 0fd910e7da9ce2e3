//! Effective rules of an interface (`docs/semantics.md` 4): what all stages of one side admit together, by which rules, and
//! whether the reply gets back through the stages that keep no state.

mod class;
mod replies;

pub(crate) use class::stage_classes;
pub use class::{Class, class_of, classes, domain, filters_at};
pub use replies::Replies;

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
    /// That depends on something missing from the snapshot, at this stage.
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
    /// What depends on something missing from the snapshot, to be read on from there.
    pub unknown: Vec<Listed>,
    /// What is refused: to be read from the top, of what no entry above has taken.
    pub left: Vec<Listed>,
    /// Exactly what is admitted.
    pub admitted_set: PacketSet,
    /// Exactly what is unknown.
    pub unknown_set: PacketSet,
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
