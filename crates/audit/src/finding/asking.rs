//! What several kinds ask about rules.

use super::context::Context;
use crate::facts::Factor;
use heronshale_engine::rules::rule_peers;
use heronshale_model::estate::{Direction, Filter, Id, Rule, RuleId};
use heronshale_model::view::Matched;

pub(super) fn factor(steps: i32, because: impl Into<String>) -> Factor {
    Factor {
        steps,
        because: because.into(),
    }
}

/// What the peers of a rule stand for in each place where it is enforced.
pub(super) fn peers_where_enforced(context: &Context<'_, '_>, id: RuleId) -> Vec<Matched> {
    let rule = context.view.estate.rule(id);
    let mut networks: Vec<_> = context
        .bindings
        .enforced(context.view, id.filter)
        .iter()
        .map(|place| place.network)
        .collect();
    networks.sort_unstable();
    networks.dedup();
    networks
        .into_iter()
        .map(|network| rule_peers(context.view, rule, network))
        .collect()
}

/// The allow rules for what interfaces receive, those in force.
pub(super) fn inbound_allows(context: &Context<'_, '_>) -> impl Iterator<Item = RuleId> {
    context
        .view
        .estate
        .filters
        .ids()
        .flat_map(|filter| inbound_allows_of(context, filter))
}

/// The same of one filter.
pub(super) fn inbound_allows_of(context: &Context<'_, '_>, filter: Id<Filter>) -> Vec<RuleId> {
    let rules = context.view.estate.filters[filter].rules(Direction::In);
    let admits = |(_, rule): &(u32, &Rule)| rule.action.admits() && context.view.in_force(rule);
    (0..)
        .zip(rules)
        .filter(admits)
        .map(|(index, _)| RuleId {
            filter,
            direction: Direction::In,
            index,
        })
        .collect()
}
