//! One file for each kind of finding.

pub(super) mod all_services;
pub(super) mod any_source;
pub(super) mod bound_to_nothing;
pub(super) mod dangling_reference;
pub(super) mod exposed;
pub(super) mod host_bits;
pub(super) mod peer_empty;
pub(super) mod peer_missing;
pub(super) mod redundant;
pub(super) mod set_cycle;
pub(super) mod shadowed;

use super::{Context, Factor};
use crate::model::{Direction, RuleId};

fn factor(steps: i32, because: impl Into<String>) -> Factor {
    Factor { steps, because: because.into() }
}

/// The allow rules for what interfaces receive, those in force.
fn inbound_allows(context: &Context<'_, '_>) -> impl Iterator<Item = RuleId> {
    let estate = context.view.estate;
    let ids: Vec<RuleId> = estate
        .rule_ids()
        .filter(|id| {
            let rule = estate.rule(*id);
            id.direction == Direction::In && rule.action.admits() && context.view.in_force(rule)
        })
        .collect();
    ids.into_iter()
}
