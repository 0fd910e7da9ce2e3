//! Repairs of what stages and policies refuse.

use super::*;

/// A rule more in a filter, or the deciding rule switched off.
pub(super) fn in_filter(
    view: &Fabric<'_>,
    failure: &Failure,
    filter: Id<Filter>,
    direction: Direction,
    by: By,
) -> Vec<Edit> {
    let estate = view.estate;
    let item = &estate.filters[filter];
    let mut edits = Vec::new();
    if let Ok(priority) = priority_before(estate, by) {
        let rule = rule_for(view, &failure.packets, direction, item.origin, priority);
        let says = rule_line(estate, &rule, direction);
        let first = priority.map_or_else(String::new, |priority| format!(", priority {priority}"));
        let text = format!(
            "add to {} {}, {}: allow {says}{first}",
            item.kind_word(),
            item.name,
            direction.bound()
        );
        edits.push(Edit::new(
            EditKind::Rule,
            text,
            Some(item.origin),
            item.owner,
            add_rule(filter, direction, rule),
        ));
    }
    if let By::Rule(id) = by {
        edits.extend(switched_off(estate, id));
    }
    edits
}

pub(super) fn switched_off(estate: &Estate, id: RuleId) -> Option<Edit> {
    let rule = estate.rule(id);
    let filter = &estate.filters[id.filter];
    let text = format!(
        "disable rule {} of {} {}",
        estate.rule_name(id),
        filter.kind_word(),
        filter.name
    );
    rule.enabled.then(|| {
        Edit::new(
            EditKind::Flag,
            text,
            Some(rule.origin),
            filter.owner,
            move |estate| {
                rule_mut(estate, id).enabled = false;
            },
        )
    })
}

pub(super) fn rule_mut(estate: &mut Estate, id: RuleId) -> &mut heronshale_model::estate::Rule {
    let at = usize::from(id.direction == Direction::Out);
    &mut estate.filters.get_mut(id.filter).rules[at][id.index as usize]
}

pub(super) fn at_stage(
    view: &Fabric<'_>,
    failure: &Failure,
    interface: Id<Interface>,
    direction: Direction,
    stage: StageKind,
    by: By,
) -> Vec<Edit> {
    let decider = match by {
        By::Rule(id) => Some(id.filter),
        By::Default(id) => Some(id),
        _ => None,
    };
    let mut filters: Vec<Id<Filter>> = decider.into_iter().collect();
    // Where none decides, any that is bound there can say so; of policies the innermost.
    if decider.is_none() {
        let item = &view.estate.interfaces[interface];
        let found =
            |all: &[Reference<Filter>]| all.iter().filter_map(Reference::found).collect::<Vec<_>>();
        let subnet = &view.estate.subnets[item.subnet];
        filters.extend(match stage {
            StageKind::InterfaceGroups => found(&item.groups),
            StageKind::SubnetGroups => found(&subnet.groups),
            StageKind::PooledGroups => [found(&item.groups), found(&subnet.groups)].concat(),
            StageKind::ScopePolicies => policies_at(view, interface)
                .last()
                .copied()
                .into_iter()
                .collect(),
            StageKind::OwnFirewall | StageKind::NetworkAcl => Vec::new(),
        });
    }
    let mut edits: Vec<Edit> = filters
        .iter()
        .flat_map(|filter| in_filter(view, failure, *filter, direction, by))
        .collect();
    if stage == StageKind::InterfaceGroups {
        edits.extend(bound_groups(view, failure, interface, direction));
    }
    if by == By::ImpliedPair && edits.is_empty() {
        let network = view.estate.network_of(interface);
        let item = &view.estate.networks[network];
        let text = format!("disable the implied pair of network {}", item.name);
        edits.push(Edit::new(
            EditKind::Flag,
            text,
            Some(item.origin),
            item.owner,
            move |estate| {
                estate.networks.get_mut(network).settings.implied_pair = false;
            },
        ));
    }
    edits
}

/// Groups that let these packets pass, bound to the interface beside what it has.
pub(super) fn bound_groups(
    view: &Fabric<'_>,
    failure: &Failure,
    interface: Id<Interface>,
    direction: Direction,
) -> Vec<Edit> {
    const MOST: usize = 3;
    let estate = view.estate;
    let item = &estate.interfaces[interface];
    let bound: Vec<Id<Filter>> = item.groups.iter().filter_map(Reference::found).collect();
    let union = bound
        .first()
        .is_none_or(|first| estate.filters[*first].is_union());
    let is_group = |filter: &Filter| filter.kind_word() == "group" && filter.is_union() == union;
    let others = estate
        .filters
        .iter()
        .filter(|(id, filter)| is_group(filter) && !bound.contains(id));
    let lets_on = |id: Id<Filter>| {
        let network = Some(estate.network_of(interface));
        let rules = heronshale_engine::rules::in_order(
            view,
            &[id],
            direction,
            view.settings(network).equal_priority,
        );
        let admits = rules.iter().filter(|id| estate.rule(**id).action.admits());
        let sure = admits.map(|id| heronshale_engine::stage::rule_match(view, *id, network).sure);
        failure.packets.is_subset(&PacketSet::union_all(sure))
    };
    let found = others.filter(|(id, _)| lets_on(*id)).take(MOST);
    found
        .map(|(id, filter)| {
            let text = format!("bind group {} to interface {}", filter.name, item.name);
            let owner = estate.interface_owner(interface);
            Edit::new(
                EditKind::Binding,
                text,
                Some(item.origin),
                owner,
                move |estate| {
                    estate
                        .interfaces
                        .get_mut(interface)
                        .groups
                        .push(Reference::Found(id));
                },
            )
        })
        .collect()
}

/// Balancers in front of firewalls that may send a reply to another of them, made to remember.
pub(super) fn symmetric_balancers(view: &Fabric<'_>, failure: &Failure) -> Vec<Edit> {
    let estate = view.estate;
    let mut edits = Vec::new();
    for step in &failure.steps {
        let What::Routed(Winner {
            hop: heronshale_engine::route::Hop::Balancer(id),
            ..
        }) = step.what
        else {
            continue;
        };
        let item = &estate.balancers[id];
        if item.symmetric {
            continue;
        }
        let text = format!(
            "let balancer {} return replies to the back end of the request (`symmetric`)",
            item.name
        );
        let owner = item.owner.or(estate.networks[item.network].owner);
        edits.push(Edit::new(
            EditKind::Flag,
            text,
            Some(item.origin),
            owner,
            move |estate| {
                estate.balancers.get_mut(id).symmetric = true;
            },
        ));
    }
    edits.dedup_by(|a, b| a.text == b.text);
    edits
}

/// Rules that let the request pass without keeping state, made to keep it.
pub(super) fn kept_states(view: &Fabric<'_>, failure: &Failure, at: Spot) -> Vec<Edit> {
    let estate = view.estate;
    let mut edits = Vec::new();
    for step in failure
        .steps
        .iter()
        .filter(|step| !step.reply && step.at == at)
    {
        let What::Stage { judgement, .. } = &step.what else {
            continue;
        };
        let By::Rule(id) = judgement.by else { continue };
        if !estate.rule(id).stateless {
            continue;
        }
        let filter = &estate.filters[id.filter];
        let text = format!(
            "make rule {} of {} {} stateful",
            estate.rule_name(id),
            filter.kind_word(),
            filter.name
        );
        edits.push(Edit::new(
            EditKind::Flag,
            text,
            Some(estate.rule(id).origin),
            filter.owner,
            move |estate| {
                rule_mut(estate, id).stateless = false;
            },
        ));
    }
    edits
}

pub(super) fn at_policy(
    view: &Fabric<'_>,
    failure: &Failure,
    firewall: Id<Firewall>,
    by: By,
) -> Vec<Edit> {
    let estate = view.estate;
    let filter = match by {
        By::Rule(id) => Some(id.filter),
        By::Default(id) => Some(id),
        _ => estate.firewalls[firewall]
            .policy
            .as_ref()
            .and_then(Reference::found),
    };
    let Some(filter) = filter else {
        return Vec::new();
    };
    let item = &estate.filters[filter];
    let section = match by {
        By::Rule(id) => estate
            .rule(id)
            .firewall
            .as_ref()
            .and_then(|more| more.section),
        _ => None,
    };
    let mut edits = Vec::new();
    // A policy that sees what was asked is told so, not what a translation made of it.
    let leg = estate.firewalls[firewall]
        .legs
        .first()
        .map(|leg| estate.network_of(leg.interface));
    let sees = estate.firewalls[firewall]
        .policy_sees
        .unwrap_or(view.settings(leg).policy_sees);
    let at = failure
        .steps
        .iter()
        .rev()
        .nth(1)
        .filter(|step| step.at == Spot::Firewall(firewall) && !step.reply);
    let translated = at.is_some_and(|step| matches!(step.what, What::Changed(..)));
    let packets = if translated && sees == PolicySees::Original {
        &failure.before
    } else {
        &failure.packets
    };
    if let Ok(priority) = priority_before(estate, by) {
        let mut rule = firewall_rule_for(view, packets, item.origin, priority);
        rule.firewall = Some(Box::new(FirewallMatch {
            section,
            ..FirewallMatch::default()
        }));
        let within = match (&item.kind, section) {
            (FilterKind::FirewallPolicy { sections, .. }, Some(at)) => sections
                .get(at as usize)
                .map_or_else(String::new, |section| format!(", section {}", section.name)),
            _ => String::new(),
        };
        let first = priority.map_or_else(String::new, |priority| format!(", priority {priority}"));
        let says = rule_line(estate, &rule, Direction::In);
        let text = format!(
            "add to {} {}{within}: allow {says}{first}",
            item.kind_word(),
            item.name
        );
        edits.push(Edit::new(
            EditKind::Rule,
            text,
            Some(item.origin),
            item.owner,
            add_rule(filter, Direction::In, rule),
        ));
    }
    if let By::Rule(id) = by {
        edits.extend(switched_off(estate, id));
    }
    edits
}
