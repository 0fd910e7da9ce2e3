//! A filter that lets all of IPv6 in where IPv4 is narrower.

use super::super::asking::{factor, inbound_allows_of};
use super::super::context::Context;
use super::super::draft::{Draft, Evidence, Role};
use super::super::kind::Kind;
use crate::describe::filter_text;
use heronshale_engine::rules::rule_peers;
use heronshale_engine::stage::meaning;
use heronshale_model::estate::{Direction, Filter, FilterKind, Id, Rule, RuleId};
use heronshale_model::severity::Severity;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::each::each;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};

pub(crate) const KIND: Kind = Kind {
    name: "ipv6-wider",
    base: Severity::Serious,
    about: "A filter allows services from every public IPv6 address, and from some IPv4 addresses only.",
    why: "Somebody narrowed IPv4 and forgot IPv6. The same machine is open to the world by its other address.",
    triggers: "Inbound, a group or own firewall allows a service with ports from every public IPv6 address, and the \
        same service from some but not all public IPv4 addresses. Not reported if IPv4 is as wide or not \
        allowed at all, for ICMP, or for scope policies and ACLs, because other filters narrow them.",
    fix: "Narrow the IPv6 rule to the same peers as the IPv4 rule.",
    side_effects: "Blocks all other IPv6 peers.",
    factors: &["down: none of its interfaces has an IPv6 address"],
    example: include_str!("../examples/ipv6-wider.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

struct Fact {
    filter: Id<Filter>,
    services: Intervals,
}

/// The services with ports that a set holds from every public source, whatever the destination and source port; and from any
/// source.
fn from_all_and_some(
    set: &PacketSet,
    internet: &Addresses,
    family: Family,
) -> (Intervals, Intervals) {
    let every = Addresses::of_family(family);
    let ports = Intervals::span(0, u128::from(u16::MAX));
    let from = |sources: &Addresses| {
        PacketSet::fields(sources, &every, |_| service::all_with_ports(), &ports, ())
    };
    let some = set.intersection(&from(&every));
    let lacking = from(&internet.intersection(&every))
        .difference(set)
        .services();
    (
        service::all_with_ports().difference(&lacking),
        some.services(),
    )
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let view = context.view;
    let filters: Vec<Id<Filter>> = view
        .estate
        .filters
        .iter()
        .filter(|(_, filter)| {
            let kind = matches!(
                filter.kind,
                FilterKind::UnionGroup
                    | FilterKind::OrderedGroup { .. }
                    | FilterKind::OwnFirewall { .. }
            );
            kind && !filter.rules(Direction::In).is_empty()
        })
        .map(|(id, _)| id)
        .collect();
    let internet = view.internet();
    let public_six = internet.intersection(&Addresses::of_family(Family::V6));
    // Without a rule that is about public IPv6, a union group admits none of it.
    let may = |filter: &Id<Filter>| {
        let item = &view.estate.filters[*filter];
        let about = |rule: &Rule| rule_peers(view, rule, None).either().overlaps(&public_six);
        !item.is_union() || item.rules(Direction::In).iter().any(about)
    };
    let of = |filter: &Id<Filter>| {
        if !may(filter) {
            return None;
        }
        let admitted =
            meaning(view, *filter, Direction::In).select(|judgement| judgement.outcome.passes());
        let (all, _) = from_all_and_some(&admitted, internet, Family::V6);
        if all.is_empty() {
            return None;
        }
        let (all_of_four, some_of_four) = from_all_and_some(&admitted, internet, Family::V4);
        let services = all.intersection(&some_of_four).difference(&all_of_four);
        (!services.is_empty()).then_some(Fact {
            filter: *filter,
            services,
        })
    };
    each(&filters, of).into_iter().flatten().collect()
}

/// The rules that let all of public IPv6, or a part of it, in to these services.
fn admitting<'c>(
    context: &'c Context<'_, '_>,
    fact: &'c Fact,
) -> impl Iterator<Item = RuleId> + 'c {
    let view = context.view;
    inbound_allows_of(context, fact.filter)
        .into_iter()
        .filter(move |id| {
            let rule = view.estate.rule(*id);
            let public = rule_peers(view, rule, None)
                .either()
                .intersection(view.internet());
            !public.of(Family::V6).is_empty()
                && rule.service_numbers(Family::V6).overlaps(&fact.services)
        })
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let mut draft = context.about_filter(fact.filter);
    let six = Addresses::of_family(Family::V6);
    let ports = Intervals::span(0, u128::from(u16::MAX));
    let from = context.view.internet().intersection(&six);
    draft.packets = Some(PacketSet::fields(
        &from,
        &six,
        |_| fact.services.clone(),
        &ports,
        (),
    ));
    let services = service::texts(Family::V6, &fact.services).join(", ");
    draft.says(format!("{services} from any IPv6"));
    draft.title = format!(
        "{} allows {services} from every public IPv6 address, but from some IPv4 addresses only",
        filter_text(estate, fact.filter)
    );
    let interfaces = context.bindings.interfaces(fact.filter);
    if interfaces
        .iter()
        .all(|id| estate.interfaces[*id].addresses.of(Family::V6).is_empty())
    {
        draft
            .factors
            .push(factor(-1, "none of its interfaces has an IPv6 address"));
    }
    draft.evidence.push(Evidence {
        role: Role::AtFault,
        text: services,
        rule: None,
        place: None,
    });
    draft
        .evidence
        .extend(admitting(context, fact).map(|id| context.rule_evidence(Role::LetInBy, id)));
    draft.evidence.push(context.acts_on(fact.filter));
    draft
        .trials
        .extend(admitting(context, fact).map(|id| context.without(id)));
    draft.fix = "Narrow the IPv6 rule to the same peers as the IPv4 rule.".to_owned();
    draft
}
