//! A rule admits from every address of the internet.

use super::super::asking::{factor, inbound_allows, peers_where_enforced};
use super::super::context::Context;
use super::super::draft::Draft;
use super::super::kind::Kind;
use crate::harmless;
use heronshale_model::estate::{FilterKind, RuleId};
use heronshale_model::severity::Severity;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::each::each;
use heronshale_sets::intervals::Intervals;

pub(crate) const KIND: Kind = Kind {
    name: "any-source",
    base: Severity::Minor,
    about: "A rule allows traffic from the whole internet.",
    why: "Its ports become public as soon as anything else changes: a public address, a route, another rule.",
    triggers: "An inbound allow rule in force, of a security group, a scope policy or an own firewall, has the \
        whole IPv4 or IPv6 internet as peers: `any`, `internet`, 0.0.0.0/0, or two halves of it. Not \
        reported for network ACLs, because groups filter behind them. Not reported if the peers leave out a \
        single prefix of the internet.",
    fix: "Name the peers that need it: prefixes, an address set, or a group.",
    side_effects: "Blocks all other peers.",
    factors: &[
        "up: a sensitive port is among its services",
        "down: web ports only, or ICMP only",
        "down: its filter applies to nothing",
    ],
    example: include_str!("../examples/any-source.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

struct Fact {
    rule: RuleId,
    families: Vec<Family>,
    services: Intervals,
}

/// The families in which a rule's peers hold all of the internet.
pub(super) fn families_of_any(context: &Context<'_, '_>, id: RuleId) -> Vec<Family> {
    let rule = context.view.estate.rule(id);
    let places = peers_where_enforced(context, id);
    let holds = |family: &Family| {
        let internet = context
            .view
            .internet()
            .intersection(&Addresses::of_family(*family));
        !rule.service_numbers(*family).is_empty()
            && places.iter().any(|peers| internet.is_subset(&peers.sure))
    };
    Family::BOTH.into_iter().filter(holds).collect()
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let estate = context.view.estate;
    let stateful = |id: &RuleId| !matches!(estate.filters[id.filter].kind, FilterKind::NetworkAcl);
    let rules: Vec<RuleId> = inbound_allows(context).filter(stateful).collect();
    let of = |rule: &RuleId| {
        let families = families_of_any(context, *rule);
        let numbers = families
            .iter()
            .map(|family| estate.rule(*rule).service_numbers(*family));
        let services = numbers.fold(Intervals::empty(), |sum, numbers| sum.union(&numbers));
        (!families.is_empty()).then_some(Fact {
            rule: *rule,
            families,
            services,
        })
    };
    each(&rules, of).into_iter().flatten().collect()
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let mut draft = context.about_rule(fact.rule);
    draft.packets = Some(context.rule_packets(fact.rule));
    let services = heronshale_sets::packet::service::texts(
        fact.families[0],
        &fact
            .services
            .intersection(&heronshale_sets::packet::service::all(fact.families[0])),
    );
    let families: Vec<String> = fact.families.iter().map(Family::to_string).collect();
    draft.says(match families.as_slice() {
        [one] => format!("{} from any {one} address", services.join(", ")),
        _ => format!("{} from anywhere", services.join(", ")),
    });
    draft.title = format!(
        "{} allows {} from any {} address",
        context.rule_name(fact.rule),
        services.join(", "),
        families.join(" and ")
    );
    if let Some(ports) = context.view.tuning.among(&fact.services) {
        draft
            .factors
            .push(factor(1, format!("sensitive port: {ports}")));
    }
    if harmless::only_web(&fact.services) || harmless::only_icmp(&fact.services) {
        draft.factors.push(factor(-1, "web ports or ICMP only"));
    }
    if context.acts_on_nothing(fact.rule.filter) {
        draft
            .factors
            .push(factor(-1, "its filter applies to nothing"));
    }
    draft.evidence.push(context.acts_on(fact.rule.filter));
    draft.trials.push(context.without(fact.rule));
    draft.fix = "Name the peers that need it.".to_owned();
    draft
}
