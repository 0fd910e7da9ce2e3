//! A subnet without room.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::owner_text;
use crate::facts::{Room, rooms};
use heronshale_model::estate::{Id, Subnet};
use heronshale_model::severity::Severity;
use heronshale_sets::address::Family;

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
    let of = |(id, room): (Id<Subnet>, Room)| Fact {
        subnet: id,
        usable: room.usable,
        held: room.used(),
        needs: estate.subnets[id].needs.map(u128::from),
    };
    let full = |fact: &Fact| {
        let four = !estate.subnets[fact.subnet].blocks.of(Family::V4).is_empty();
        let short = fact.needs.is_some_and(|needs| needs > fact.usable);
        let enough = fact.needs.is_some_and(|needs| needs <= fact.held);
        let nearly = fact.usable > TINY && fact.held * 10 >= fact.usable * NEARLY && !enough;
        four && (short || nearly || fact.held > fact.usable)
    };
    rooms(context.view)
        .into_iter()
        .map(of)
        .filter(full)
        .collect()
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
