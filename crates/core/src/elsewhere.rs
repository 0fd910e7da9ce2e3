//! Rules whose packets another stage of the same interface refuses (design 3.1, "denied elsewhere").
//!
//! What a rule admits at its own stage is compared with what all stages let through and answer. One packet is enough for a
//! rule to be of use, be it a reply that a rule without state lets through; a rule is reported only if there is none on any interface on which it acts.

use crate::binding::depends_on_place;
pub use crate::effective::DeniedBy;
use crate::effective::{Class, classes, domain, filters_at, passing_both};
use crate::ends::asked_packets;
use crate::model::{Direction, Filter, Id, Interface, Lack, Network, Reference, RuleId};
use crate::packet::{Packet, PacketSet};
use crate::stage::{By, policies_at, rule_match};
use crate::view::View;
use rayon::prelude::*;
use std::collections::BTreeMap;

/// A rule whose packets are refused elsewhere.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Denied {
    /// The rule.
    pub rule: RuleId,
    /// By what, on the first interface on which it acts.
    pub by: DeniedBy,
    /// One packet that the rule admits and that is refused there.
    pub packet: Packet,
}

/// What is said of a rule on one class of interfaces.
type Told = (RuleId, Option<Denied>);

/// Every such rule of the estate, by filter and place.
pub fn denied_elsewhere(view: &View<'_>) -> Vec<Denied> {
    const BATCH: usize = 512;
    let mut verdicts: BTreeMap<RuleId, Option<Denied>> = BTreeMap::new();
    for batch in classes(view).chunks(BATCH) {
        let useful = |rule: &RuleId| verdicts.get(rule).is_some_and(Option::is_none);
        let told: Vec<Vec<Told>> = batch.par_iter().map(|class| of_class(view, class, useful)).collect();
        for (rule, denied) in told.into_iter().flatten() {
            let known = verdicts.entry(rule).or_insert_with(|| denied.clone());
            if denied.is_none() {
                *known = None;
            }
        }
    }
    verdicts.into_values().flatten().collect()
}

fn of_class(view: &View<'_>, class: &Class, useful: impl Fn(&RuleId) -> bool) -> Vec<Told> {
    let interface = class.representative();
    let network = view.estate.network_of(interface);
    let mut told = Vec::new();
    if only_groups(view, interface) {
        // What the groups admit is admitted.
        for direction in Direction::BOTH {
            let domain = domain(view, interface, direction);
            for filter in view.estate.interfaces[interface].groups.iter().filter_map(Reference::found) {
                let count = u32::try_from(view.estate.filters[filter].rules(direction).len()).unwrap_or(u32::MAX);
                let rules = (0..count).map(|index| RuleId { filter, direction, index });
                let asked = rules.filter(|id| view.in_force(view.estate.rule(*id)) && !useful(id));
                let admits = asked.filter(|id| matched(view, *id, network).overlaps(&domain));
                told.extend(admits.map(|id| (id, None)));
            }
        }
        return told;
    }
    // Where every rule is known to be of use, nothing is asked.
    let open = |direction: Direction, filter: &Id<Filter>| {
        let count = u32::try_from(view.estate.filters[*filter].rules(direction).len()).unwrap_or(u32::MAX);
        let mut rules = (0..count).map(|index| RuleId { filter: *filter, direction, index });
        rules.any(|id| {
            let rule = view.estate.rule(id);
            rule.action.admits() && view.in_force(rule) && !useful(&id)
        })
    };
    let filters = filters_at(view, interface);
    if !filters.iter().any(|filter| Direction::BOTH.into_iter().any(|direction| open(direction, filter))) {
        return told;
    }
    let own = &view.estate.interfaces[interface].addresses;
    let home = |direction: Direction| asked_packets(direction.opposite(), own, &[]);
    let both = passing_both(view, interface);
    for (direction, passing, opposite) in [(Direction::In, &both[0], &both[1]), (Direction::Out, &both[1], &both[0])] {
        for stage in &passing.stages {
            for filter in &stage.filters {
                let count = u32::try_from(view.estate.filters[*filter].rules(direction).len()).unwrap_or(u32::MAX);
                let union = view.estate.filters[*filter].is_union();
                for index in 0..count {
                    let id = RuleId { filter: *filter, direction, index };
                    let rule = view.estate.rule(id);
                    if !rule.action.admits() || !view.in_force(rule) || useful(&id) {
                        continue;
                    }
                    let mut admits = matched(view, id, network).intersection(&passing.domain);
                    if !union {
                        admits = admits.intersection(&stage.map.select(|judgement| judgement.by == By::Rule(id)));
                    }
                    if admits.is_empty() {
                        continue;
                    }
                    // A rule that keeps no state also lets replies through.
                    let stateless = rule.stateless || !view.estate.filters[*filter].keeps_state();
                    let replies = stateless && admits.requests_answered().overlaps(&opposite.works);
                    if replies || admits.overlaps(&passing.works) {
                        told.push((id, None));
                        continue;
                    }
                    let denied = passing.refused.iter().find_map(|(by, set)| {
                        let refused = admits.intersection(set);
                        let packet = refused.intersection(&home(direction)).witness().or_else(|| refused.witness())?;
                        Some(Denied { rule: id, by: *by, packet })
                    });
                    told.push((id, denied));
                }
            }
        }
    }
    told
}

/// Whether an interface has no other stage than union groups of its own, all of which are known and keep all states.
fn only_groups(view: &View<'_>, interface: Id<Interface>) -> bool {
    let estate = view.estate;
    let item = &estate.interfaces[interface];
    let subnet = &estate.subnets[item.subnet];
    let plain = |group: &Reference<Filter>| {
        group.found().is_some_and(|id| {
            let filter = &estate.filters[id];
            let lacking = filter.key.split_once(':').is_some_and(|(kind, name)| view.lacks(kind, name, Lack::Rules));
            !lacking && filter.is_union() && !filter.rules.iter().flatten().any(|rule| rule.stateless)
        })
    };
    !item.unfiltered
        && subnet.acl.is_none()
        && subnet.groups.is_empty()
        && estate.own_firewall(interface).is_none()
        && policies_at(view, interface).is_empty()
        && !view.settings(estate.network_of(interface)).implied_pair
        && ![Lack::OwnFirewalls, Lack::Groups].iter().any(|lack| view.lacks_at(interface, *lack))
        && !item.groups.is_empty()
        && item.groups.iter().all(plain)
}

fn matched(view: &View<'_>, id: RuleId, network: Id<Network>) -> PacketSet {
    let matched = rule_match(view, id, Some(network).filter(|_| depends_on_place(view.estate.rule(id))));
    matched.sure.union(&matched.maybe)
}
