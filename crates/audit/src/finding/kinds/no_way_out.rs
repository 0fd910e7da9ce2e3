//! A NAT gateway that cannot send.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::owner_text;
use heronshale_engine::route::Hop;
use heronshale_model::estate::{
    Gateway, GatewayKind, Id, InternetTraffic, NextHop, Reference, Subnet,
};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "no-way-out",
    base: Severity::Serious,
    about: "A NAT gateway stands in a subnet without a way out.",
    why: "All subnets that use it lose their connections to the outside. Their own routes look right: the \
        missing route is behind the gateway.",
    triggers: "A NAT gateway with a public address stands in a subnet that routes no internet address to anything \
        but the gateway itself, a blackhole, or a dead next hop. Or the subnet or network may not talk to \
        the internet. Not reported for NAT gateways with a private address whose subnet has any other route, \
        or if the routes are missing from the snapshot.",
    fix: "Give the subnet of the NAT gateway a default route to an attached internet gateway.",
    side_effects: "Everything that uses the NAT gateway can reach the internet.",
    factors: &["down: no route leads to it and it serves no subnet"],
    example: include_str!("../examples/no-way-out.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

struct Fact {
    gateway: Id<Gateway>,
    subnet: Id<Subnet>,
    why: &'static str,
    used: bool,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let (view, estate) = (context.view, context.view.estate);
    let mut found = Vec::new();
    for (id, gateway) in estate.gateways.iter() {
        let GatewayKind::Nat {
            subnet,
            public,
            serves,
            address,
            ..
        } = &gateway.kind
        else {
            continue;
        };
        let wanted = if public.is_some() {
            view.internet_end()
        } else {
            heronshale_sets::address::Addresses::all()
                .difference(&estate.networks[gateway.network].blocks)
        };
        let four = wanted.intersection(&heronshale_sets::address::Addresses::of_family(
            heronshale_sets::address::Family::V4,
        ));
        let routes = heronshale_engine::route::routed(view, *subnet, None, *address, &four);
        let leads = |hop: Hop| {
            !matches!(hop, Hop::Blackhole | Hop::Dead | Hop::MayNotForward(_))
                && hop != Hop::Gateway(id)
                && (hop != Hop::Local || public.is_none())
        };
        let closed = |traffic: InternetTraffic| traffic == InternetTraffic::None;
        let blocked = public.is_some()
            && (closed(estate.subnets[*subnet].internet_traffic)
                || closed(estate.networks[gateway.network].internet_traffic));
        let out = routes
            .iter()
            .flat_map(|routed| &routed.winners)
            .any(|winner| leads(winner.hop));
        let why = match (out, blocked) {
            (false, _) => "no route leads out",
            (true, true) => "it may not talk to the internet",
            (true, false) => continue,
        };
        let named = |next: &NextHop| *next == NextHop::Gateway(Reference::Found(id));
        let used = !serves.is_empty()
            || context
                .routes()
                .any(|(_, _, route)| route.enabled && named(&route.next_hop));
        found.push(Fact {
            gateway: id,
            subnet: *subnet,
            why,
            used,
        });
    }
    found
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let gateway = &estate.gateways[fact.gateway];
    let subnet = &estate.subnets[fact.subnet];
    let owner = owner_text(estate, gateway.owner.or(estate.subnet_owner(fact.subnet)));
    let mut draft = context.about(
        Key::of("gateway").name(&gateway.name),
        &gateway.origin,
        owner,
    );
    draft.networks = vec![estate.networks[gateway.network].name.to_string()];
    draft.brief(format!("NAT gateway {}", gateway.name), fact.why);
    draft.title = format!(
        "NAT gateway {} has no way out of subnet {}: {}",
        gateway.name, subnet.name, fact.why
    );
    let table = heronshale_engine::route::table_of(context.view, fact.subnet).map_or_else(
        || "automatic routes only".to_owned(),
        |table| {
            format!(
                "table {}",
                crate::describe::name_of(&estate.route_tables, table)
            )
        },
    );
    let text = format!("subnet {}, {table}", subnet.name);
    draft
        .evidence
        .push(context.evidence(Role::GoesBy, text, Some(&subnet.origin)));
    if !fact.used {
        draft
            .factors
            .push(factor(-1, "no route leads to it and it serves no subnet"));
    }
    draft.fix = format!(
        "Give subnet {} a default route to an attached internet gateway.",
        subnet.name
    );
    draft
}
