//! An address outside of the space that it is part of.

use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use super::super::routing::addresses_text;
use crate::describe::owner_text;
use heronshale_model::estate::GatewayKind;
use heronshale_model::severity::Severity;
use heronshale_model::source::Origin;
use heronshale_sets::address::Addresses;

pub(crate) const KIND: Kind = Kind {
    name: "address-outside-block",
    base: Severity::Serious,
    about: "A subnet lies outside the blocks of its network, or an address outside the blocks of its subnet.",
    why: "Routes follow blocks. Traffic to an address outside its block may not arrive, and rules for the \
        network do not include it.",
    triggers: "A subnet has a block that is not fully inside its network's blocks. An interface has an address \
        outside its subnet, or a held prefix of several addresses outside its network. A NAT gateway's own \
        address is outside its subnet. Not reported for networks without blocks.",
    fix: "Correct the address, or add the block to the network or subnet.",
    side_effects: "A corrected address breaks connections to the old one. An added block changes the meaning of rules \
        and routes for that name.",
    factors: &[],
    example: include_str!("../examples/address-outside-block.yaml"),
    check: |context| {
        facts(context)
            .into_iter()
            .map(|fact| tell(context, &fact))
            .collect()
    },
};

struct Fact {
    key: Key,
    what: String,
    within: String,
    outside: Addresses,
    origin: Origin,
    around: Origin,
    network: String,
    owner: Option<String>,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let estate = context.view.estate;
    let mut found = Vec::new();
    for (id, subnet) in estate.subnets.iter() {
        let network = &estate.networks[subnet.network];
        let outside = subnet.blocks.difference(&network.blocks);
        if !network.blocks.is_empty() && !outside.is_empty() {
            found.push(Fact {
                key: Key::of("subnet").name(&subnet.name),
                what: format!("subnet {}", subnet.name),
                within: format!("network {}", network.name),
                outside,
                origin: subnet.origin,
                around: network.origin,
                network: network.name.to_string(),
                owner: owner_text(estate, estate.subnet_owner(id)),
            });
        }
    }
    for (id, interface) in estate.interfaces.iter() {
        let subnet = &estate.subnets[interface.subnet];
        let network = &estate.networks[subnet.network];
        let single = |range: &heronshale_sets::address::Range| range.first == range.last;
        let allowed = |range: &heronshale_sets::address::Range| {
            let here = if single(range) {
                subnet.blocks.clone()
            } else {
                subnet.blocks.union(&network.blocks)
            };
            [*range]
                .into_iter()
                .collect::<Addresses>()
                .difference(&here)
        };
        let written = interface.written_addresses.iter().map(|block| block.range);
        let outside = written.fold(Addresses::empty(), |sum, range| sum.union(&allowed(&range)));
        if !subnet.blocks.is_empty() && !outside.is_empty() {
            found.push(Fact {
                key: Key::of("interface").name(&interface.name),
                what: format!("interface {}", interface.name),
                within: format!("subnet {}", subnet.name),
                outside,
                origin: interface.origin,
                around: subnet.origin,
                network: network.name.to_string(),
                owner: owner_text(estate, estate.interface_owner(id)),
            });
        }
    }
    for gateway in estate.gateways.items() {
        let GatewayKind::Nat {
            subnet: id,
            address: Some(address),
            ..
        } = &gateway.kind
        else {
            continue;
        };
        let subnet = &estate.subnets[*id];
        let outside = Addresses::single(*address).difference(&subnet.blocks);
        if !subnet.blocks.is_empty() && !outside.is_empty() {
            found.push(Fact {
                key: Key::of("NAT gateway").name(&gateway.name),
                what: format!("NAT gateway {}", gateway.name),
                within: format!("subnet {}", subnet.name),
                outside,
                origin: gateway.origin,
                around: subnet.origin,
                network: estate.networks[gateway.network].name.to_string(),
                owner: owner_text(estate, gateway.owner.or(estate.subnet_owner(*id))),
            });
        }
    }
    found
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let outside = addresses_text(&fact.outside);
    let mut draft = context.about(
        fact.key.clone().addresses(&fact.outside),
        &fact.origin,
        fact.owner.clone(),
    );
    draft.former = Some(format!("{} {outside}", fact.what));
    draft.networks = vec![fact.network.clone()];
    draft.brief(&fact.what, format!("{outside} is outside {}", fact.within));
    draft.title = format!(
        "{} has {outside}, outside the blocks of {}",
        fact.what, fact.within
    );
    draft
        .evidence
        .push(context.evidence(Role::Names, fact.within.clone(), Some(&fact.around)));
    draft.fix = format!("Correct the address, or add the block to {}.", fact.within);
    draft
}
