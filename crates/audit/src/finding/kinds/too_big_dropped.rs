//! Stateless filters that drop "packet too big".

use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::filter_text;
use heronshale_engine::stage::acl_of;
use heronshale_model::estate::{Direction, Filter, Id, Subnet};
use heronshale_model::severity::Severity;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};

pub(crate) const KIND: Kind = Kind {
    name: "too-big-dropped",
    base: Severity::Minor,
    about: "A stateless filter drops the ICMP errors that tell senders that their packets are too big.",
    why: "Connections open, small answers work, and large ones hang. Path MTU discovery (RFC 1191, RFC 8201) \
        needs these errors, and a stateless filter cannot tell that they belong to an allowed connection \
        (RFC 4890, section 4.3.1).",
    triggers: "The network ACL of a subnet with interfaces lets TCP out beyond the network, and lets ICMP 3/4 \
        (IPv4) or ICMPv6 type 2 (IPv6) in from nowhere. Not reported if they may come in from somewhere, if \
        only the network itself is reachable, or for stateful filters, which pass such errors.",
    fix: "Allow ICMP type 3 code 4 and ICMPv6 type 2 inbound.",
    side_effects: "Allows these errors and nothing else.",
    factors: &[],
    example: include_str!("../examples/too-big-dropped.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

struct Fact {
    acl: Id<Filter>,
    families: Vec<Family>,
    subnets: Vec<Id<Subnet>>,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let estate = context.view.estate;
    let mut found: Vec<Fact> = Vec::new();
    let mut populated = vec![Addresses::empty(); estate.subnets.len()];
    for interface in estate.interfaces.items() {
        let own = &mut populated[interface.subnet.index()];
        if !Family::BOTH
            .iter()
            .all(|family| !own.of(*family).is_empty())
        {
            *own = own.union(&interface.addresses);
        }
    }
    for filter in estate.filters.ids() {
        let subnets: Vec<Id<Subnet>> = context
            .bindings
            .acl_subnets(filter)
            .iter()
            .copied()
            .filter(|id| !populated[id.index()].is_empty())
            .collect();
        let Some(first) = subnets.first() else {
            continue;
        };
        let (Some(inbound), Some(outbound)) = (
            acl_of(context.view, *first, Direction::In),
            acl_of(context.view, *first, Direction::Out),
        ) else {
            continue;
        };
        let every = Intervals::span(0, u128::from(u16::MAX));
        let beyond =
            Addresses::all().difference(&estate.networks[estate.subnets[*first].network].blocks);
        let lacks = |family: &Family| {
            let own = subnets
                .iter()
                .any(|id| !populated[id.index()].of(*family).is_empty());
            let here = Addresses::of_family(*family);
            let tcp =
                PacketSet::fields(&here, &beyond, |_| service::whole(service::TCP), &every, ());
            let sends = outbound
                .map
                .restrict(&tcp)
                .select(|judgement| !judgement.outcome.refuses());
            let number = match family {
                Family::V4 => u128::from(service::code(1, 3 << 8 | 4)),
                Family::V6 => u128::from(service::code(58, 2 << 8)),
            };
            let error = PacketSet::fields(
                &beyond,
                &here,
                |_| Intervals::span(number, number),
                &every,
                (),
            );
            let comes = inbound
                .map
                .restrict(&error)
                .select(|judgement| !judgement.outcome.refuses());
            own && !sends.is_empty() && comes.is_empty()
        };
        let families: Vec<Family> = Family::BOTH.into_iter().filter(lacks).collect();
        if !families.is_empty() {
            found.push(Fact {
                acl: filter,
                families,
                subnets,
            });
        }
    }
    found
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let filter = &estate.filters[fact.acl];
    let owner = context.filter_owner(fact.acl);
    let mut draft = context.about(Key::filter(filter), &filter.origin, owner);
    draft.networks = fact
        .subnets
        .iter()
        .map(|id| {
            estate.networks[estate.subnets[*id].network]
                .name
                .to_string()
        })
        .collect();
    draft.networks.sort_unstable();
    draft.networks.dedup();
    let errors: Vec<&str> = fact
        .families
        .iter()
        .map(|family| match family {
            Family::V4 => "ICMP 3/4",
            Family::V6 => "ICMPv6 type 2",
        })
        .collect();
    draft.says(format!("no {} in", errors.join(" and ")));
    draft.title = format!(
        "{} lets TCP out but no {} in: large packets hang",
        filter_text(estate, fact.acl),
        errors.join(" and ")
    );
    draft
        .evidence
        .push(context.evidence(Role::ActsOn, context.subnets(&fact.subnets), None));
    draft.fix = format!("Allow {} inbound from any.", errors.join(" and "));
    draft
}
