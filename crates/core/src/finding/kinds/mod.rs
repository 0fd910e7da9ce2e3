//! One file for each kind of finding.

pub(super) mod acceptance_expired;
pub(super) mod acceptance_too_wide;
pub(super) mod acceptance_unused;
pub(super) mod address_outside_block;
pub(super) mod all_services;
pub(super) mod any_source;
pub(super) mod around_the_firewall;
pub(super) mod blackhole;
pub(super) mod bound_to_nothing;
pub(super) mod dangling_reference;
pub(super) mod default_in_use;
pub(super) mod denied_elsewhere;
pub(super) mod door_left_open;
pub(super) mod expectation_broken;
pub(super) mod expectation_unknown;
pub(super) mod expectation_vacuous;
pub(super) mod exposed;
pub(super) mod host_bits;
pub(super) mod idle_route;
pub(super) mod idle_table;
pub(super) mod impossible_match;
pub(super) mod ipv6_wider;
pub(super) mod may_not_forward;
pub(super) mod mergeable;
pub(super) mod mostly_empty_range;
pub(super) mod next_hop_dead;
pub(super) mod no_description;
pub(super) mod no_longer_enforced;
pub(super) mod no_way_out;
pub(super) mod open_outward;
pub(super) mod overdue;
pub(super) mod overlap;
pub(super) mod partly_shadowed;
pub(super) mod peer_empty;
pub(super) mod peer_missing;
pub(super) mod probe_denied;
pub(super) mod redundant;
pub(super) mod removable_together;
pub(super) mod reply_elsewhere;
pub(super) mod resolves_public;
pub(super) mod same_meaning;
pub(super) mod set_cycle;
pub(super) mod shadowed;
pub(super) mod single_member;
pub(super) mod subnet_full;
pub(super) mod too_big_dropped;
pub(super) mod undecided;
pub(super) mod without_rules;

use super::{Context, Factor};
use crate::model::{Direction, Filter, Id, Rule, RuleId};
use crate::view::Matched;

fn factor(steps: i32, because: impl Into<String>) -> Factor {
    Factor { steps, because: because.into() }
}

/// What the peers of a rule stand for in each place where it is enforced.
fn peers_where_enforced(context: &Context<'_, '_>, id: RuleId) -> Vec<Matched> {
    let rule = context.view.estate.rule(id);
    let mut networks: Vec<_> =
        context.bindings.enforced(context.view, id.filter).iter().map(|place| place.network).collect();
    networks.sort_unstable();
    networks.dedup();
    networks.into_iter().map(|network| context.view.rule_peers(rule, network)).collect()
}

/// The allow rules for what interfaces receive, those in force.
fn inbound_allows(context: &Context<'_, '_>) -> impl Iterator<Item = RuleId> {
    context.view.estate.filters.ids().flat_map(|filter| inbound_allows_of(context, filter))
}

/// The same of one filter.
fn inbound_allows_of(context: &Context<'_, '_>, filter: Id<Filter>) -> Vec<RuleId> {
    let rules = context.view.estate.filters[filter].rules(Direction::In);
    let admits = |(_, rule): &(u32, &Rule)| rule.action.admits() && context.view.in_force(rule);
    (0..).zip(rules).filter(admits).map(|(index, _)| RuleId { filter, direction: Direction::In, index }).collect()
}
