//! A rule that admits a private range in which hardly anybody is.

use super::super::asking::{factor, inbound_allows};
use super::super::context::Context;
use super::super::draft::{Draft, Evidence, Role};
use super::super::kind::Kind;
use heronshale_model::estate::{Peer, RuleId};
use heronshale_model::severity::Severity;
use heronshale_sets::address::{Addresses, Family};

pub(crate) const KIND: Kind = Kind {
    name: "mostly-empty-range",
    base: Severity::Note,
    about: "A rule allows a private range in which almost no address is in use.",
    why: "Anyone who gets an address there tomorrow is allowed, and nobody decides that.",
    triggers: "An inbound allow rule in force names a private IPv4 prefix or range (RFC 1918, RFC 6598) of at least \
        4,096 addresses, of which interfaces of the estate have at most 1 in 256, and which overlaps a \
        network of the estate. Both numbers can be configured. Not reported for smaller ranges, for ranges \
        outside all networks or with addresses of a site or a gap, or for peers by name.",
    fix: "Name the subnets, groups or addresses that need it.",
    side_effects: "Named peers are not affected. New addresses in the range have to be named.",
    factors: &["up: sensitive ports", "down: its filter applies to nothing"],
    example: include_str!("../examples/mostly-empty-range.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

struct Fact {
    rule: RuleId,
    range: String,
    addresses: u128,
    held: u128,
}

fn private() -> Addresses {
    let blocks = [
        "10.0.0.0/8",
        "100.64.0.0/10",
        "172.16.0.0/12",
        "192.168.0.0/16",
    ];
    blocks
        .iter()
        .filter_map(|text| text.parse::<heronshale_sets::address::Block>().ok())
        .map(|block| block.range)
        .collect()
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let (estate, view) = (context.view.estate, context.view);
    // A filter on its own says nothing of who is where.
    if estate.interfaces.is_empty() {
        return Vec::new();
    }
    let held: Addresses = estate
        .interfaces
        .items()
        .iter()
        .flat_map(|interface| interface.addresses.ranges())
        .collect();
    let mut elsewhere: Addresses = estate
        .sites
        .items()
        .iter()
        .flat_map(|site| site.holds.ranges())
        .collect();
    for gap in &estate.gaps {
        elsewhere = gap
            .blocks
            .as_ref()
            .map_or(elsewhere.clone(), |blocks| elsewhere.union(blocks));
    }
    let blocks: Addresses = estate
        .networks
        .items()
        .iter()
        .flat_map(|network| network.blocks.ranges())
        .collect();
    let private = private();
    let limits = &view.tuning;
    let count = |addresses: &Addresses| {
        addresses
            .of(Family::V4)
            .spans()
            .iter()
            .map(|(first, last)| last - first + 1)
            .sum()
    };
    let mut found = Vec::new();
    for rule in inbound_allows(context) {
        for peer in estate.rule(rule).peers.iter().flatten() {
            let Peer::Block(block) = peer else { continue };
            let range: Addresses = std::iter::once(block.range).collect();
            let addresses: u128 = count(&range);
            if addresses < limits.empty_range_addresses
                || !range.is_subset(&private)
                || !range.overlaps(&blocks)
                || range.overlaps(&elsewhere)
            {
                continue;
            }
            let here: u128 = count(&range.intersection(&held));
            if here * limits.empty_range_share <= addresses {
                found.push(Fact {
                    rule,
                    range: block.range.to_string(),
                    addresses,
                    held: here,
                });
            }
        }
    }
    found
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let mut draft = context.about_rule(fact.rule);
    draft.packets = Some(context.rule_packets(fact.rule));
    draft.key = draft.key.notation(&fact.range);
    draft.cause = Some(format!("the range {}", fact.range));
    draft.says(format!(
        "{}, {} of {} addresses in use",
        fact.range, fact.held, fact.addresses
    ));
    draft.title = format!(
        "{} allows {}, with {} of {} addresses in use",
        context.rule_name(fact.rule),
        fact.range,
        fact.held,
        fact.addresses
    );
    let services = context.services_of(fact.rule);
    if let Some(ports) = context.view.tuning.among(&services) {
        draft
            .factors
            .push(factor(1, format!("sensitive port: {ports}")));
    }
    if context.acts_on_nothing(fact.rule.filter) {
        draft
            .factors
            .push(factor(-1, "its filter applies to nothing"));
    }
    draft.evidence.push(Evidence {
        role: Role::Names,
        text: format!(
            "{}: {} of {} addresses are in use",
            fact.range, fact.held, fact.addresses
        ),
        rule: None,
        place: None,
    });
    draft.trials.push(context.without(fact.rule));
    draft.fix = "Name the subnets, groups or addresses that need it.".to_owned();
    draft
}
