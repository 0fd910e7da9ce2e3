//! Stages: what each check on an interface's side decides about each packet, and by which rule (`docs/semantics.md`).
//!
//! A stage is a total map from packets to [`Judgement`]s. A [`Chain`] is the stages of one interface and direction
//! in the order in which a packet crosses them. Sending: own firewall, scope policies, groups (interface, subnet),
//! ACL. Receiving: ACL, scope policies, groups (subnet, interface), own firewall.

mod chain;
mod compile;

pub use chain::{Chain, Stage, StageKind, Way, Ways, acl_of, chain, own_stages, platform_traffic, policies_at};
pub(crate) use chain::{Completed, completed};
pub use compile::{RuleMatch, in_order, meaning, rule_match};
pub(crate) use compile::{rule_doubts, rule_extent};

use crate::doubt::{Forest, Node};
use crate::model::{Filter, Id, RuleId};
use crate::packet::PacketMap;
use std::sync::Arc;

/// What a stage does with a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Outcome {
    /// Lets it on.
    Pass,
    /// Lets it on, and past the groups of this interface and direction.
    PassFinally,
    /// Lets it on; whether past the groups depends on what the snapshot lacks.
    PassPerhapsFinally,
    /// Drops it in silence.
    Deny,
    /// Drops it and tells the sender.
    Reject,
    /// Depends on what the snapshot lacks.
    Unknown,
    /// The same, and it may be that groups are skipped.
    UnknownFinally,
}

impl Outcome {
    /// Whether the packet goes on.
    pub fn passes(self) -> bool {
        matches!(self, Self::Pass | Self::PassFinally | Self::PassPerhapsFinally)
    }

    /// Whether the packet ends here.
    pub fn refuses(self) -> bool {
        matches!(self, Self::Deny | Self::Reject)
    }

    /// What is left of two outcomes if it is not known which holds.
    pub(crate) fn doubt(self, other: Self) -> Self {
        match (self, other) {
            _ if self == other || (self.refuses() && other.refuses()) => other,
            _ if self.passes() && other.passes() => Self::PassPerhapsFinally,
            _ if self.may_be_final() || other.may_be_final() => Self::UnknownFinally,
            _ => Self::Unknown,
        }
    }

    /// Whether groups are skipped, perhaps.
    pub(crate) fn may_be_final(self) -> bool {
        matches!(self, Self::PassFinally | Self::PassPerhapsFinally | Self::UnknownFinally)
    }
}

/// Whether the reply passes a stage without being matched.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum State {
    /// It does.
    Kept,
    /// It is matched as a packet of its own.
    NotKept,
    /// That depends on what the snapshot lacks.
    Unknown,
}

/// What decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum By {
    /// A rule: for a union of rules the first that matches.
    Rule(RuleId),
    /// The default of a filter.
    Default(Id<Filter>),
    /// No rule of the groups there admits it.
    NoRule,
    /// The implied end of an ACL.
    ImpliedDeny,
    /// The implied pair past the innermost scope policy.
    ImpliedPair,
    /// No policy decided, so the stage lets it on.
    NoPolicy,
    /// Neither interface nor subnet has a group.
    NoGroup,
    /// Both ends are in one subnet: an ACL is not crossed.
    SameSubnet,
    /// A scope policy allowed it finally: groups are skipped.
    Finally,
    /// Traffic of the platform itself.
    Platform,
    /// A filter that is bound here, its rules, or the bindings are not in the snapshot.
    Lacking,
}

/// What a stage decides about a packet, by what, and whether it keeps state for the reply.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Judgement {
    /// What happens.
    pub outcome: Outcome,
    /// What decided.
    pub by: By,
    /// Whether the reply passes this stage without being matched.
    pub state: State,
}

impl Judgement {
    /// A judgement that keeps state.
    pub const fn new(outcome: Outcome, by: By) -> Self {
        Self { outcome, by, state: State::Kept }
    }

    /// Whether neither outcome nor state depends on what the snapshot lacks.
    pub(crate) fn is_certain(self) -> bool {
        let open = matches!(self.outcome, Outcome::Unknown | Outcome::UnknownFinally | Outcome::PassPerhapsFinally);
        !open && (self.outcome.refuses() || self.state != State::Unknown)
    }

    /// The judgement if it is not known which of two holds: `by` names the cause.
    pub(crate) fn doubt(self, other: Self, by: By) -> Self {
        let outcome = self.outcome.doubt(other.outcome);
        let state = if self.state == other.state { self.state } else { State::Unknown };
        if outcome == other.outcome && (state == other.state || outcome.refuses()) {
            return other;
        }
        Self { outcome, by, state }
    }
}

/// Where it turns on doubts what a stage decides: decisions by packet.
pub(crate) type Open = (PacketMap<u32>, Arc<Forest<Judgement>>);

/// What a stage decides about every packet.
#[derive(Clone, Debug)]
pub(crate) struct Layer {
    /// The decision; total.
    pub map: PacketMap<Judgement>,
    /// The packets whose outcome or state turns on doubts, if there are any.
    pub open: Option<Open>,
}

impl Layer {
    /// The same for every packet.
    pub fn constant(judgement: Judgement) -> Self {
        Self { map: PacketMap::constant(judgement), open: None }
    }

    /// What decisions of a forest come to.
    pub fn of(map: &PacketMap<u32>, forest: Forest<Judgement>) -> Self {
        let settled = map.relabel(|at| Some(settle(&forest, at)));
        let turns = |at: u32| {
            let judgement = settle(&forest, at);
            let certain = judgement.outcome.passes() || judgement.outcome.refuses();
            let may_be_final = judgement.outcome == Outcome::PassPerhapsFinally;
            !certain || may_be_final || (judgement.state == State::Unknown && judgement.outcome.passes())
        };
        let open = map.relabel(|at| turns(at).then_some(at));
        Self { map: settled, open: (!open.is_empty()).then(|| (open, Arc::new(forest))) }
    }

    /// The same as decisions of a forest that has those of this layer.
    pub fn nodes(&self, forest: &mut Forest<Judgement>) -> PacketMap<u32> {
        let certain = self.map.relabel(|judgement| Some(forest.end(judgement)));
        self.open.as_ref().map_or_else(|| certain.clone(), |(map, _)| map.overlay(&certain))
    }
}

/// A decision as one judgement, whatever the answers to its doubts are.
fn settle(forest: &Forest<Judgement>, at: u32) -> Judgement {
    match forest.node(at) {
        Node::End(judgement) => *judgement,
        Node::Turn { doubt, yes, no } => {
            let (yes, no) = (settle(forest, *yes), settle(forest, *no));
            let by = &forest.doubt(*doubt).1;
            // Of several that ask one that decides here; what only defers decides nowhere.
            let here = by.iter().find(|by| **by == yes.by || **by == no.by);
            yes.doubt(no, *here.unwrap_or(&by[0]))
        }
    }
}
