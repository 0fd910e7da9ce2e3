//! A name that still leads to the public door.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::owner_text;
use heronshale_model::estate::{Id, Name, Network, PlatformService};
use heronshale_model::names::{plain_name, resolve};
use heronshale_model::severity::Severity;
use heronshale_sets::address::Addresses;

pub(crate) const KIND: Kind = Kind {
    name: "resolves-public",
    base: Severity::Serious,
    about: "In a network with a private door to a service, the service's name resolves to the public door.",
    why: "Everybody believes that the traffic stays inside. It leaves by the internet and comes back by the \
        public door, or fails once that door is shut. The DNS zone is missing, is not linked, or has no \
        record.",
    triggers: "A DNS name of the snapshot resolves to the public door of a service when a network asks that has a \
        private door to it, or that is peered with such a network. Not reported if the name resolves to a \
        private door or not at all there.",
    fix: "Link the zone with the record for the private door to the network, or add the record.",
    side_effects: "Clients of the name use the private door.",
    factors: &["down: the private door is in a peered network"],
    example: include_str!("../examples/resolves-public.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

struct Fact {
    service: Id<PlatformService>,
    name: Name,
    /// The networks from which it resolves so; `true`: the door stands in it.
    networks: Vec<(Id<Network>, bool)>,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let (view, estate) = (context.view, context.view.estate);
    let zones = estate
        .dns_zones
        .items()
        .iter()
        .flat_map(|zone| &zone.records);
    let mut names: Vec<Name> = estate
        .public_names
        .iter()
        .chain(zones)
        .map(|record| plain_name(&record.name.replacen("*.", "any.", 1)))
        .collect();
    names.sort_unstable();
    names.dedup();
    let mut found = Vec::new();
    for (id, service) in estate
        .services
        .iter()
        .filter(|(_, service)| !service.private_doors.is_empty())
    {
        let Some(door) = &service.public_door else {
            continue;
        };
        let home: Vec<Id<Network>> = service
            .private_doors
            .iter()
            .map(|id| estate.network_of(*id))
            .collect();
        let near = |network: Id<Network>| {
            home.iter()
                .any(|home| heronshale_engine::route::joins(view, network, *home).is_some())
        };
        let asking: Vec<(Id<Network>, bool)> = estate
            .networks
            .ids()
            .filter_map(|network| match (home.contains(&network), near(network)) {
                (true, _) => Some((network, true)),
                (false, true) => Some((network, false)),
                _ => None,
            })
            .collect();
        for name in &names {
            let public = |network: Id<Network>| {
                let found = resolve(view, Some(network), name);
                // A zone that is missing may answer otherwise.
                if found.missing.is_some() {
                    return false;
                }
                let addresses: Addresses = found.addresses.into_iter().collect();
                !addresses.is_empty() && addresses.is_subset(&door.addresses)
            };
            let networks: Vec<_> = asking
                .iter()
                .copied()
                .filter(|(network, _)| public(*network))
                .collect();
            if !networks.is_empty() {
                found.push(Fact {
                    service: id,
                    name: name.clone(),
                    networks,
                });
            }
        }
    }
    found
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let service = &estate.services[fact.service];
    let (first, here) = fact
        .networks
        .iter()
        .find(|(_, here)| *here)
        .copied()
        .unwrap_or(fact.networks[0]);
    let owner = owner_text(estate, estate.networks[first].owner.or(service.owner));
    let found = resolve(context.view, Some(first), &fact.name);
    let origin = found
        .lookups
        .iter()
        .rev()
        .find_map(|lookup| lookup.record.as_ref())
        .map(|record| record.origin);
    let names: Vec<String> = fact
        .networks
        .iter()
        .map(|(id, _)| estate.networks[*id].name.to_string())
        .collect();
    let key = Key::of("service").name(&service.name).name(&fact.name);
    let mut draft = context.about(key, &origin.unwrap_or(service.origin), owner);
    draft.networks.clone_from(&names);
    let addresses: Vec<String> = found.addresses.iter().map(ToString::to_string).collect();
    let from = if names.len() == 1 {
        format!("network {}", names[0])
    } else {
        super::super::draft::counted(&names, "network")
    };
    draft.brief(&*fact.name, format!("public in {}", names.join(", ")));
    draft.title = format!(
        "{} resolves in {from} to {}, the public door of service {}",
        fact.name,
        addresses.join(", "),
        service.name
    );
    let doors: Vec<String> = service
        .private_doors
        .iter()
        .map(|id| {
            format!(
                "{} ({})",
                estate.interfaces[*id].name,
                estate.interfaces[*id].addresses.texts().join(", ")
            )
        })
        .collect();
    let text = super::super::draft::counted(&doors, "private door");
    draft
        .evidence
        .push(context.evidence(Role::MeantBy, text, Some(&service.origin)));
    // A zone that has the record, and is linked elsewhere.
    let doors = service
        .private_doors
        .iter()
        .flat_map(|id| estate.interfaces[*id].addresses.ranges());
    let doors: Addresses = doors.collect();
    let zone = estate.dns_zones.items().iter().find(|zone| {
        zone.records.iter().any(|record| {
            matches!(&record.data, heronshale_model::estate::RecordData::Addresses(all) if all.iter().any(|a| doors.contains(*a)))
        }) && !zone.networks.iter().any(|network| network.found() == Some(first))
    });
    if let Some(zone) = zone {
        let text = format!(
            "zone {}, with a record for the private door and not linked to {}",
            zone.name, estate.networks[first].name
        );
        draft
            .evidence
            .push(context.evidence(Role::AtFault, text, Some(&zone.origin)));
    }
    if !here {
        draft
            .factors
            .push(factor(-1, "the private door is in a peered network"));
    }
    draft.fix = match zone {
        Some(zone) => format!(
            "Link zone {} to network {}.",
            zone.name, estate.networks[first].name
        ),
        None => format!(
            "Give network {} a zone with a record of {} for the private door.",
            estate.networks[first].name, fact.name
        ),
    };
    draft
}
