//! The lists in which a filter is enforced, with what stands above it.

use super::list::{Enlisted, Line, Zones, number_of};
use crate::faults::{Fault, has};
use heronshale_engine::binding::{Bindings, Enforced, depends_on_place, firewalls_with};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::rules::{Decision, decision_of, place_of_rule, tried};
use heronshale_engine::stage::{policies_at, rule_match};
use heronshale_model::estate::{
    Action, Direction, Filter, FilterKind, Id, Lack, Name, Network, Reference, RuleId,
};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::cover::{Limits, Reading};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, entries};

/// The lists of a filter in one direction.
pub(super) enum Lists {
    /// These.
    Known(Vec<Enlisted<RuleId>>),
    /// The snapshot lacks part of one of them, so nothing is said.
    Lacking,
    /// One has too many ends and zones.
    TooManyParts,
}

/// Where a filter is enforced, as far as its rules are concerned.
#[derive(Clone, PartialEq, Eq)]
struct At {
    network: Option<Id<Network>>,
    /// Policies that are tried before it, outermost first.
    above: Vec<Id<Filter>>,
    /// The filters of the list itself.
    filters: Vec<Id<Filter>>,
    default: Option<Action>,
    lacking: bool,
}

/// The lists of a filter.
pub(super) fn lists_of(
    view: &Fabric<'_>,
    bindings: &Bindings,
    filter: Id<Filter>,
    direction: Direction,
    limits: Limits,
) -> Lists {
    let item = &view.estate.filters[filter];
    let places = match &item.kind {
        FilterKind::ScopePolicy { .. } => scope_places(view, bindings, filter, direction),
        FilterKind::FirewallPolicy { .. } => firewall_places(view, filter),
        _ => {
            let place = |place: Enforced| At {
                network: place.network,
                above: Vec::new(),
                default: default_of(view, &place.filters, direction),
                filters: place.filters,
                lacking: place.lacking,
            };
            bindings
                .enforced(view, filter)
                .into_iter()
                .map(place)
                .collect()
        }
    };
    let mut lists: Vec<Enlisted<RuleId>> = Vec::new();
    let mut known: Vec<(Vec<RuleId>, At)> = Vec::new();
    for place in places {
        let all = || place.above.iter().chain(&place.filters);
        if place.lacking || (!item.is_union() && all().any(|filter| lacks_rules(view, *filter))) {
            return Lists::Lacking;
        }
        let order = tried(view, &place.filters, direction, place.network);
        let depends = |id: &RuleId| depends_on_place(view.estate.rule(*id));
        let alike = |(other, at): &(Vec<RuleId>, At)| {
            *other == order
                && at.above == place.above
                && at.default == place.default
                && (at.network == place.network
                    || (place.above.is_empty() && !order.iter().any(depends)))
        };
        if known.iter().any(alike) {
            continue;
        }
        match enlisted(view, bindings, &place, &order, direction, limits) {
            Some(list) => lists.push(list),
            None => return Lists::TooManyParts,
        }
        known.push((order, place));
    }
    Lists::Known(lists)
}

/// A list of union groups that are bound at one place.
pub(super) fn pooled(
    view: &Fabric<'_>,
    bindings: &Bindings,
    groups: &[Id<Filter>],
    network: Id<Network>,
    direction: Direction,
) -> Option<Enlisted<RuleId>> {
    let place = At {
        network: Some(network),
        above: Vec::new(),
        filters: groups.to_vec(),
        default: None,
        lacking: false,
    };
    let order = tried(view, &place.filters, direction, place.network);
    enlisted(view, bindings, &place, &order, direction, Limits::default())
}

fn lacks_rules(view: &Fabric<'_>, filter: Id<Filter>) -> bool {
    // Of a network that lacks rules any of its filters may have more.
    let somewhere = || {
        view.estate
            .networks
            .items()
            .iter()
            .any(|network| view.lacks("network", &network.name, Lack::Rules))
    };
    let key = &view.estate.filters[filter].key;
    key.split_once(':')
        .is_some_and(|(kind, name)| view.lacks(kind, name, Lack::Rules))
        || somewhere()
}

/// What happens to packets that no rule matches: deny if any default refuses.
fn default_of(view: &Fabric<'_>, filters: &[Id<Filter>], direction: Direction) -> Option<Action> {
    let defaults = filters
        .iter()
        .filter_map(|filter| view.estate.filters[*filter].default_action(direction));
    let mut defaults: Vec<Action> = defaults.collect();
    defaults.sort_by_key(|action| !action.refuses());
    defaults.first().copied()
}

/// For each chain of policies in which one stands: those above it.
fn scope_places(
    view: &Fabric<'_>,
    bindings: &Bindings,
    filter: Id<Filter>,
    direction: Direction,
) -> Vec<At> {
    let at = |network, above, default| At {
        network,
        above,
        filters: vec![filter],
        default,
        lacking: false,
    };
    let mut places: Vec<At> = Vec::new();
    for interface in bindings.interfaces(filter) {
        let all = policies_at(view, *interface);
        let network = view.estate.network_of(*interface);
        // Past the innermost policy comes the implied pair, or the packet goes on as if allowed.
        let implied = view.settings(network).implied_pair;
        let default = match (
            all.last() == Some(&filter),
            implied && direction == Direction::In,
        ) {
            (false, _) => Action::Defer,
            (true, true) => Action::Deny,
            (true, false) => Action::Allow,
        };
        let above = all
            .into_iter()
            .take_while(|other| *other != filter)
            .collect();
        let place = at(Some(network), above, Some(default));
        if !places.contains(&place) {
            places.push(place);
        }
    }
    if places.is_empty() {
        places.push(at(None, Vec::new(), Some(Action::Defer)));
    }
    places
}

/// For each network of a firewall that has a policy, itself or as a base: the bases above it.
fn firewall_places(view: &Fabric<'_>, filter: Id<Filter>) -> Vec<At> {
    let estate = view.estate;
    let base = |id: Id<Filter>| match &estate.filters[id].kind {
        FilterKind::FirewallPolicy { base, .. } => base.as_ref(),
        _ => None,
    };
    let mut above: Vec<Id<Filter>> = Vec::new();
    let mut lacking = false;
    let mut next = filter;
    while let Some(reference) = base(next) {
        match reference
            .found()
            .filter(|base| *base != filter && !above.contains(base))
        {
            Some(found) => {
                above.push(found);
                next = found;
            }
            None => {
                lacking = true;
                break;
            }
        }
    }
    above.reverse();
    let own_default = estate.filters[filter].default_action(Direction::In);
    let at = |network, default| At {
        network,
        above: above.clone(),
        filters: vec![filter],
        default,
        lacking,
    };
    let mut places: Vec<At> = Vec::new();
    for firewall in firewalls_with(estate, filter) {
        let item = &estate.firewalls[firewall];
        let network = item
            .legs
            .first()
            .map(|leg| estate.network_of(leg.interface));
        let own = item.policy.as_ref().and_then(Reference::found) == Some(filter);
        let place = at(
            network,
            if own {
                own_default
            } else {
                Some(Action::Defer)
            },
        );
        if !places.contains(&place) {
            places.push(place);
        }
    }
    if places.is_empty() {
        places.push(at(None, own_default));
    }
    places
}

fn enlisted(
    view: &Fabric<'_>,
    bindings: &Bindings,
    place: &At,
    order: &[RuleId],
    direction: Direction,
    limits: Limits,
) -> Option<Enlisted<RuleId>> {
    let estate = view.estate;
    let union = estate.filters[place.filters[0]].is_union();
    let above: Vec<Vec<RuleId>> = place
        .above
        .iter()
        .map(|filter| tried(view, &[*filter], direction, place.network))
        .collect();
    let zones = Zones::new(
        above
            .iter()
            .flatten()
            .chain(order)
            .flat_map(|id| zones_of(view, *id))
            .collect(),
    );
    let mut lines: Vec<(RuleId, Line)> = Vec::new();
    for level in &above {
        lines.extend(deciding(view, level, place.network, &zones));
    }
    let scoped = matches!(
        estate.filters[place.filters[0]].kind,
        FilterKind::ScopePolicy { .. }
    );
    let rest = place
        .default
        .filter(|action| scoped && *action != Action::Defer);
    lines.extend(order.iter().map(|id| {
        let mut line = line(view, *id, place.network, &zones);
        // What the innermost policy defers, its default decides.
        if let Some(action) = rest.filter(|_| estate.rule(*id).action == Action::Defer) {
            line.decision = number_of(Decision {
                action,
                stateless: false,
            });
        }
        (*id, line)
    }));
    let stateless = place
        .filters
        .iter()
        .all(|filter| !estate.filters[*filter].keeps_state());
    let default = place
        .default
        .filter(|_| !union)
        .map(|action| number_of(Decision { action, stateless }));
    let here = bindings.interfaces(place.filters[0]).iter();
    let here = here.filter(|id| Some(estate.network_of(**id)) == place.network);
    let home: Addresses = here
        .flat_map(|id| estate.interfaces[*id].addresses.ranges())
        .collect();
    let reading = if union {
        Reading::AnyMatch
    } else {
        Reading::FirstMatch
    };
    Enlisted::new(
        reading,
        direction,
        lines,
        zones.pairs(),
        default,
        home,
        limits,
    )
}

fn zones_of(view: &Fabric<'_>, id: RuleId) -> Vec<Name> {
    let more = view.estate.rule(id).firewall.as_deref();
    more.into_iter()
        .flat_map(|more| more.from_zones.iter().chain(&more.to_zones))
        .flatten()
        .cloned()
        .collect()
}

/// A rule as a line: with zones, names and conditions, if it is one of a firewall.
fn line(view: &Fabric<'_>, id: RuleId, network: Option<Id<Network>>, zones: &Zones) -> Line {
    let mut line = Line::of(view, id, network, number_of(decided(view, id)));
    let Some(more) = view.estate.rule(id).firewall.as_deref() else {
        return line;
    };
    line.pairs = zones.of(more.from_zones.as_ref(), more.to_zones.as_ref());
    if more.names.is_some() {
        // By name it may be about any destination but those that it excepts.
        let excepted = view.peers(&more.except_destinations, network).sure;
        line.most.1 = Addresses::all().difference(&excepted);
        if !more.or_destinations {
            line.sure = None;
        }
    }
    if more.condition.is_some() {
        line.sure = None;
    }
    line
}

/// What the rules of a policy above decide, so that it does not come down: each without what earlier ones defer.
fn deciding(
    view: &Fabric<'_>,
    order: &[RuleId],
    network: Option<Id<Network>>,
    zones: &Zones,
) -> Vec<(RuleId, Line)> {
    let mut deferred = PacketSet::empty();
    let mut lines = Vec::new();
    for id in order {
        let rule = view.estate.rule(*id);
        let own = line(view, *id, network, zones);
        if rule.action == Action::Defer {
            let matched = rule_match(view, *id, place_of_rule(rule, network));
            let anywhere = own.sure.is_none();
            let most = if anywhere {
                PacketSet::full()
            } else {
                matched.sure.union(&matched.maybe)
            };
            deferred = deferred.union(&most);
            continue;
        }
        let Some(sure) = own.sure.clone() else {
            continue;
        };
        if deferred.is_empty() {
            lines.push((*id, Line { most: sure, ..own }));
            continue;
        }
        let matched = rule_match(view, *id, place_of_rule(rule, network)).sure;
        for entry in entries(&matched.difference(&deferred)) {
            let of = |numbers: &Intervals| Addresses::from_intervals(entry.family, numbers.clone());
            let (sources, destinations) = (of(&entry.sources), of(&entry.destinations));
            let both = if id.direction == Direction::In {
                (sources, destinations)
            } else {
                (destinations, sources)
            };
            let services = Family::BOTH.map(|family| {
                if family == entry.family {
                    entry.services.clone()
                } else {
                    Intervals::empty()
                }
            });
            lines.push((
                *id,
                Line {
                    decision: own.decision,
                    sure: Some(both.clone()),
                    most: both,
                    services,
                    ports: entry.source_ports.clone(),
                    pairs: own.pairs.clone(),
                    ends: own.ends,
                },
            ));
        }
    }
    lines
}

/// What a rule decides, as dead rules compare it.
fn decided(view: &Fabric<'_>, id: RuleId) -> Decision {
    let decision = decision_of(view, id);
    let any = view.estate.filters[id.filter].is_union() && has(Fault::DeadWhateverState);
    Decision {
        stateless: decision.stateless && !any,
        ..decision
    }
}
