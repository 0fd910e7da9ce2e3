//! A subnet without room.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::owner_text;
use heronshale_model::estate::{GatewayKind, Id, Subnet};
use heronshale_model::severity::Severity;
use heronshale_sets::address::{Addresses, Family};

pub(crate) const KIND: Kind = Kind {
    name: "subnet-full",
    base: Severity::Minor,
    about: "A subnet has no room, or almost none, for what it must hold.",
    why: "The next machine, or the next replacement during an update, does not start. Blocks in use are hard \
        to change.",
    triggers: "Interfaces, NAT gateways and balancers use at least nine of ten usable IPv4 addresses of a subnet \
        (its blocks less `reserved_addresses` each), or the subnet has fewer than it `needs`. Not reported \
        for subnets without IPv4, or for subnets of four addresses or fewer with enough room for their \
        needs.",
    fix: "Make a larger subnet, or move something out.",
    side_effects: "Whatever moves gets another address.",
    factors: &[
        "up: no address is free",
        "down: some address is free and no need is stated",
    ],
    example: include_str!("../examples/subnet-full.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

/// From this share of ten on a subnet counts as nearly full.
const NEARLY: u128 = 9;
/// Subnets with so few usable addresses are made for what is in them.
const TINY: u128 = 4;

struct Fact {
    subnet: Id<Subnet>,
    usable: u128,
    held: u128,
    needs: Option<u128>,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let estate = context.view.estate;
    let mut by_subnet: Vec<Vec<heronshale_sets::address::Range>> =
        vec![Vec::new(); estate.subnets.len()];
    for interface in estate.interfaces.items() {
        by_subnet[interface.subnet.index()].extend(interface.addresses.ranges());
    }
    for gateway in estate.gateways.items() {
        if let GatewayKind::Nat {
            subnet,
            address: Some(address),
            ..
        } = &gateway.kind
        {
            by_subnet[subnet.index()].push(heronshale_sets::address::Range::single(*address));
        }
    }
    for balancer in estate.balancers.items() {
        if let Some(subnet) = balancer.subnet {
            let fronts = balancer.front_ends.iter().filter(|front| !front.public);
            by_subnet[subnet.index()]
                .extend(fronts.map(|front| heronshale_sets::address::Range::single(front.address)));
        }
    }
    let count = |addresses: &Addresses| {
        addresses
            .of(Family::V4)
            .spans()
            .iter()
            .map(|(first, last)| last - first + 1)
            .sum::<u128>()
    };
    let of = |(id, subnet): (Id<Subnet>, &Subnet)| {
        let blocks = subnet
            .blocks
            .ranges()
            .filter(|range| range.family == Family::V4)
            .map(|_| 1_u128)
            .sum::<u128>();
        let reserved = u128::from(context.view.settings(subnet.network).reserved_addresses);
        let usable = count(&subnet.blocks).saturating_sub(reserved * blocks);
        let held: Addresses = by_subnet[id.index()].iter().copied().collect();
        Fact {
            subnet: id,
            usable,
            held: count(&held.intersection(&subnet.blocks)),
            needs: subnet.needs.map(u128::from),
        }
    };
    let full = |fact: &Fact| {
        let four = !estate.subnets[fact.subnet].blocks.of(Family::V4).is_empty();
        let short = fact.needs.is_some_and(|needs| needs > fact.usable);
        let enough = fact.needs.is_some_and(|needs| needs <= fact.held);
        let nearly = fact.usable > TINY && fact.held * 10 >= fact.usable * NEARLY && !enough;
        four && (short || nearly || fact.held > fact.usable)
    };
    estate.subnets.iter().map(of).filter(full).collect()
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let subnet = &estate.subnets[fact.subnet];
    let owner = owner_text(estate, estate.subnet_owner(fact.subnet));
    let mut draft = context.about(Key::of("subnet").name(&subnet.name), &subnet.origin, owner);
    draft.networks = vec![estate.networks[subnet.network].name.to_string()];
    let (held, usable) = (fact.held, fact.usable);
    draft.brief(
        format!("subnet {}", subnet.name),
        match fact.needs {
            Some(needs) if needs > usable => format!("needs {needs}, has {usable}"),
            _ => format!("{held} of {usable} addresses taken"),
        },
    );
    draft.title = match fact.needs {
        Some(needs) if needs > usable => {
            format!(
                "subnet {} needs {needs} addresses and has only {usable} usable ones",
                subnet.name
            )
        }
        _ => format!(
            "{held} of {usable} usable addresses of subnet {} are taken",
            subnet.name
        ),
    };
    let reserved = context.view.settings(subnet.network).reserved_addresses;
    let text = format!(
        "{}, {reserved} of each block reserved",
        subnet.blocks.texts().join(", ")
    );
    draft
        .evidence
        .push(context.evidence(Role::AtFault, text, None));
    if held >= usable || fact.needs.is_some_and(|needs| needs > usable) {
        draft.factors.push(factor(1, "no address is free"));
    } else {
        draft
            .factors
            .push(factor(-1, "some address is free and no need is stated"));
    }
    draft.fix = "Make a larger subnet, or move something out.".to_owned();
    draft
}
