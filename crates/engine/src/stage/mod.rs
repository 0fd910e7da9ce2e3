//! Stages: what each check on an interface's side decides about each packet, and by which rule (`docs/semantics.md` 3).
//!
//! A stage is a total map from packets to [`Judgement`]s. A [`Chain`] is the stages of one interface and direction
//! in the order in which a packet crosses them. Sending: own firewall, scope policies, groups (interface, subnet),
//! ACL. Receiving: ACL, scope policies, groups (subnet, interface), own firewall.

mod chain;
mod compile;

pub use chain::{
    Chain, Stage, Way, Ways, acl_of, chain, own_stages, platform_traffic, policies_at,
};
pub(crate) use chain::{Completed, completed, unfiltered_door};
pub(crate) use compile::rule_doubts;
pub use compile::rule_extent;
pub use compile::{RuleMatch, meaning, rule_match};

use crate::doubt::{Forest, Node};
use crate::judgement::{Judgement, Outcome, State};
use heronshale_sets::packet::PacketMap;
use std::sync::Arc;

/// Where it turns on doubts what a stage decides: decisions by packet.
pub type Open = (PacketMap<u32>, Arc<Forest<Judgement>>);

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
        Self {
            map: PacketMap::constant(judgement),
            open: None,
        }
    }

    /// What decisions of a forest come to.
    pub fn of(map: &PacketMap<u32>, forest: Forest<Judgement>) -> Self {
        let settled = map.relabel(|at| Some(settle(&forest, at)));
        let turns = |at: u32| {
            let judgement = settle(&forest, at);
            let certain = judgement.outcome.passes() || judgement.outcome.refuses();
            let may_be_final = judgement.outcome == Outcome::PassPerhapsFinally;
            !certain
                || may_be_final
                || (judgement.state == State::Unknown && judgement.outcome.passes())
        };
        let open = map.relabel(|at| turns(at).then_some(at));
        Self {
            map: settled,
            open: (!open.is_empty()).then(|| (open, Arc::new(forest))),
        }
    }

    /// The same as decisions of a forest that has those of this layer.
    pub fn nodes(&self, forest: &mut Forest<Judgement>) -> PacketMap<u32> {
        let certain = self.map.relabel(|judgement| Some(forest.end(judgement)));
        self.open
            .as_ref()
            .map_or_else(|| certain.clone(), |(map, _)| map.overlay(&certain))
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
