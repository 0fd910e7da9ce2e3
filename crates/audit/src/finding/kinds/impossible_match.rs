//! A rule that can match no packet, whoever its peers are.

use super::super::asking::peers_where_enforced;
use super::super::context::Context;
use super::super::draft::Draft;
use super::super::kind::Kind;
use heronshale_engine::rules::rule_local;
use heronshale_model::estate::RuleId;
use heronshale_model::severity::Severity;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::packet::service;

pub(crate) const KIND: Kind = Kind {
    name: "impossible-match",
    base: Severity::Minor,
    about: "A rule can match no packet.",
    why: "It looks like protection, or like an opening, and is neither.",
    triggers: "A rule in force has peers with addresses, and its services make every match impossible: ports on a \
        protocol without ports, source ports with such protocols only, ICMP with IPv6 peers only, ICMPv6 \
        with IPv4 peers only, or peers and own side of different families. Not reported if one service and \
        one peer fit together. For peers without addresses, see peer-empty.",
    fix: "Correct the protocol or the peers, or delete the rule.",
    side_effects: "Deleting it changes nothing. A corrected rule takes effect for the first time.",
    factors: &[],
    example: include_str!("../examples/impossible-match.yaml"),
    check: |context| {
        facts(context)
            .into_iter()
            .map(|(rule, why)| tell(context, rule, why))
            .collect()
    },
};

fn facts(context: &Context<'_, '_>) -> Vec<(RuleId, &'static str)> {
    let (estate, view) = (context.view.estate, context.view);
    let mut found = Vec::new();
    for id in estate
        .rule_ids()
        .filter(|id| view.in_force(estate.rule(*id)))
    {
        let rule = estate.rule(id);
        if rule.services.is_empty() && rule.local.is_none() {
            continue;
        }
        let services = Family::BOTH.map(|family| {
            let services = rule.service_numbers(family);
            let narrowed = rule.source_ports.is_some();
            if narrowed {
                services.intersection(&service::all_with_ports())
            } else {
                services
            }
        });
        let peers = peers_where_enforced(context, id);
        let somebody = peers.iter().any(|peers| !peers.either().is_empty());
        let local = rule_local(view, rule, None).either();
        let goes = |peers: &Addresses| {
            Family::BOTH
                .iter()
                .zip(&services)
                .any(|(family, services)| {
                    !peers.of(*family).is_empty()
                        && !local.of(*family).is_empty()
                        && !services.is_empty()
                })
        };
        if !somebody || local.is_empty() || peers.iter().any(|peers| goes(&peers.either())) {
            continue;
        }
        let families_apart = peers.iter().all(|peers| {
            let peers = peers.either();
            Family::BOTH
                .iter()
                .all(|family| peers.of(*family).is_empty() || local.of(*family).is_empty())
        });
        let nothing = Family::BOTH
            .iter()
            .all(|family| rule.service_numbers(*family).is_empty());
        found.push((
            id,
            match () {
                () if nothing => "its protocol has no ports",
                () if services
                    .iter()
                    .all(heronshale_sets::intervals::Intervals::is_empty) =>
                {
                    "none of its protocols has source ports"
                }
                () if families_apart => {
                    "its peers and its own side have different address families"
                }
                () => "its services do not exist in the address family of its peers",
            },
        ));
    }
    found
}

fn tell(context: &Context<'_, '_>, rule: RuleId, why: &str) -> Draft {
    let mut draft = context.about_rule(rule);
    draft.says(why);
    draft.title = format!("{} can match no packet: {why}", context.rule_name(rule));
    draft.fix = "Correct the protocol or the peers, or delete the rule.".to_owned();
    draft
}
