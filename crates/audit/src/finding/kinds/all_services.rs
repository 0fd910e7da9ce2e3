//! A rule admits every service.

use super::super::asking::{factor, inbound_allows, peers_where_enforced};
use super::super::context::Context;
use super::super::draft::Draft;
use super::super::kind::Kind;
use super::any_source::families_of_any;
use heronshale_model::estate::{FilterKind, Peer, RuleId};
use heronshale_model::severity::Severity;
use heronshale_sets::address::Family;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;

pub(crate) const KIND: Kind = Kind {
    name: "all-services",
    base: Severity::Minor,
    about: "A rule allows every service.",
    why: "The rule's peers can reach every service on the machine, including forgotten ones and future ones.",
    triggers: "An inbound allow rule in force covers every TCP port (0-65535, or no ports given; port 0 may be \
        missing) in a family in which it has peers. Not reported for 1024-65535, or for all of UDP or ICMP \
        alone.",
    fix: "Name the services that are needed.",
    side_effects: "Blocks every service that the new rule does not name.",
    factors: &[
        "up: from any address",
        "down: in a network ACL, with groups behind it",
        "down: only from members of named groups, tags or interfaces",
        "down: its filter applies to nothing",
    ],
    example: include_str!("../examples/all-services.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

struct Fact {
    rule: RuleId,
    from_any: bool,
    acl: bool,
    only_named: bool,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let estate = context.view.estate;
    let every_port = Intervals::span(
        u128::from(service::code(service::TCP, 1)),
        u128::from(service::code(service::TCP, u16::MAX)),
    );
    let wide = |id: &RuleId| {
        let rule = estate.rule(*id);
        let places = peers_where_enforced(context, *id);
        Family::BOTH.iter().any(|family| {
            let somebody = places
                .iter()
                .any(|peers| !peers.either().of(*family).is_empty());
            somebody && every_port.is_subset(&rule.service_numbers(*family))
        })
    };
    let named = |peer: &Peer| {
        matches!(
            peer,
            Peer::Group(_) | Peer::Tag(_) | Peer::Identity(_) | Peer::Interface(_)
        )
    };
    inbound_allows(context)
        .filter(wide)
        .map(|rule| Fact {
            rule,
            from_any: !families_of_any(context, rule).is_empty(),
            acl: matches!(estate.filters[rule.filter].kind, FilterKind::NetworkAcl),
            only_named: estate
                .rule(rule)
                .peers
                .as_ref()
                .is_some_and(|peers| peers.iter().all(named)),
        })
        .collect()
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let mut draft = context.about_rule(fact.rule);
    draft.packets = Some(context.rule_packets(fact.rule));
    let says = crate::describe::rule_says(context.view.estate, fact.rule);
    draft.says("every TCP port");
    draft.title = format!(
        "{} allows every TCP port: {says}",
        context.rule_name(fact.rule)
    );
    let given = [
        (fact.from_any, 1, "from any address"),
        (fact.acl, -1, "a network ACL with groups behind it"),
        (
            fact.only_named,
            -1,
            "only from members of named groups, tags or interfaces",
        ),
        (
            context.acts_on_nothing(fact.rule.filter),
            -1,
            "its filter applies to nothing",
        ),
    ];
    draft.factors = given
        .iter()
        .filter(|(holds, _, _)| *holds)
        .map(|(_, steps, because)| factor(*steps, *because))
        .collect();
    draft.evidence.push(context.acts_on(fact.rule.filter));
    draft.trials.push(context.without(fact.rule));
    draft.fix = "Name the services that are needed.".to_owned();
    draft
}
