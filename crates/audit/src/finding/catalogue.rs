//! Every kind of finding.

use super::kind::Kind;
use super::kinds;

/// Every kind, in the order in which `explain` and the documentation list them.
pub const CATALOGUE: &[&Kind] = &[
    &kinds::expectation_broken::KIND,
    &kinds::expectation_unknown::KIND,
    &kinds::expectation_vacuous::KIND,
    &kinds::exposed::KIND,
    &kinds::any_source::KIND,
    &kinds::all_services::KIND,
    &kinds::ipv6_wider::KIND,
    &kinds::open_outward::KIND,
    &kinds::default_in_use::KIND,
    &kinds::mostly_empty_range::KIND,
    &kinds::undecided::KIND,
    &kinds::shadowed::KIND,
    &kinds::partly_shadowed::KIND,
    &kinds::redundant::KIND,
    &kinds::removable_together::KIND,
    &kinds::denied_elsewhere::KIND,
    &kinds::mergeable::KIND,
    &kinds::same_meaning::KIND,
    &kinds::around_the_firewall::KIND,
    &kinds::reply_elsewhere::KIND,
    &kinds::blackhole::KIND,
    &kinds::next_hop_dead::KIND,
    &kinds::may_not_forward::KIND,
    &kinds::no_way_out::KIND,
    &kinds::idle_route::KIND,
    &kinds::idle_table::KIND,
    &kinds::overlap::KIND,
    &kinds::address_outside_block::KIND,
    &kinds::subnet_full::KIND,
    &kinds::door_left_open::KIND,
    &kinds::resolves_public::KIND,
    &kinds::single_member::KIND,
    &kinds::probe_denied::KIND,
    &kinds::too_big_dropped::KIND,
    &kinds::bound_to_nothing::KIND,
    &kinds::without_rules::KIND,
    &kinds::peer_missing::KIND,
    &kinds::peer_empty::KIND,
    &kinds::impossible_match::KIND,
    &kinds::acceptance_expired::KIND,
    &kinds::acceptance_too_wide::KIND,
    &kinds::acceptance_unused::KIND,
    &kinds::overdue::KIND,
    &kinds::no_longer_enforced::KIND,
    &kinds::no_description::KIND,
    &kinds::dangling_reference::KIND,
    &kinds::set_cycle::KIND,
    &kinds::host_bits::KIND,
];

/// The kind of a name.
pub fn kind(name: &str) -> Option<&'static Kind> {
    CATALOGUE.iter().find(|kind| kind.name == name).copied()
}
