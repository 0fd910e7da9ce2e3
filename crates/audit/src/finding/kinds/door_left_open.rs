//! A public door beside a private one.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Role, Trial};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::{owner_text, peer_text};
use crate::fix::{Edit, EditKind};
use heronshale_model::estate::{Id, PlatformService};
use heronshale_model::severity::Severity;
use heronshale_sets::address::Addresses;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service as numbers};

pub(crate) const KIND: Kind = Kind {
    name: "door-left-open",
    base: Severity::Serious,
    about: "A service has a private door, and its public door is still open.",
    why: "The private door exists so that nobody has to come in from outside. With the public door open, or \
        with old entries on its list, the service is as exposed as before.",
    triggers: "A service has at least one private door, and its public door is open to everyone or has a non-empty \
        list. Not reported if the public door is shut, if its list is empty, or if the service has no \
        private door.",
    fix: "Shut the public door, or empty its list.",
    side_effects: "Blocks all traffic by the public door, including clients that should use the private one.",
    factors: &[
        "up: it is open to everyone",
        "down: only addresses inside the estate are on the list",
    ],
    example: include_str!("../examples/door-left-open.yaml"),
    check: |context| {
        facts(context)
            .into_iter()
            .map(|id| tell(context, id))
            .collect()
    },
};

fn facts(context: &Context<'_, '_>) -> Vec<Id<PlatformService>> {
    let open = |service: &PlatformService| {
        let door = service.public_door.as_ref().is_some_and(|door| {
            door.open
                && door
                    .allowed
                    .as_ref()
                    .is_none_or(|allowed| !allowed.is_empty())
        });
        door && !service.private_doors.is_empty()
    };
    context
        .view
        .estate
        .services
        .iter()
        .filter(|(_, service)| open(service))
        .map(|(id, _)| id)
        .collect()
}

fn tell(context: &Context<'_, '_>, id: Id<PlatformService>) -> Draft {
    let estate = context.view.estate;
    let service = &estate.services[id];
    let owner = owner_text(estate, service.owner);
    let mut draft = context.about(
        Key::of("service").name(&service.name),
        &service.origin,
        owner,
    );
    let doors: Vec<String> = service
        .private_doors
        .iter()
        .map(|id| estate.interfaces[*id].name.to_string())
        .collect();
    draft.networks = context.networks_of(&service.private_doors);
    let Some(door) = &service.public_door else {
        return draft;
    };
    let every = Intervals::span(0, u128::from(u16::MAX));
    let from = door.allowed.as_ref().map_or_else(Addresses::all, |peers| {
        context.view.peers(peers, None).either()
    });
    draft.packets = Some(PacketSet::fields(
        &from,
        &door.addresses,
        |_| numbers::all_with_ports(),
        &every,
        (),
    ));
    let to = match &door.allowed {
        None => "everyone".to_owned(),
        Some(peers) => {
            let names: Vec<String> = peers.iter().map(|peer| peer_text(estate, peer)).collect();
            super::super::draft::counted(&names, "entry")
        }
    };
    draft.brief(
        format!("service {}", service.name),
        format!("public door still open to {to}"),
    );
    draft.title = format!(
        "service {} has a private door, and its public door is still open to {to}",
        service.name
    );
    let text = format!("public door at {}", door.addresses.texts().join(", "));
    draft
        .evidence
        .push(context.evidence(Role::AtFault, text, Some(&door.origin)));
    let text = super::super::draft::counted(&doors, "private door");
    let first = service
        .private_doors
        .first()
        .map(|id| &estate.interfaces[*id].origin);
    draft
        .evidence
        .push(context.evidence(Role::MeantBy, text, first));
    match &door.allowed {
        None => draft.factors.push(factor(1, "it is open to everyone")),
        Some(peers)
            if !context
                .view
                .peers(peers, None)
                .either()
                .overlaps(context.view.internet()) =>
        {
            draft.factors.push(factor(
                -1,
                "only addresses inside the estate are on the list",
            ));
        }
        Some(_) => {}
    }
    draft.trials.push(Trial::of(shut(context, id)));
    draft.fix = format!(
        "Shut the public door of service {}, or empty its list.",
        service.name
    );
    draft
}

/// Shuts a service's public door.
fn shut(context: &Context<'_, '_>, id: Id<PlatformService>) -> Edit {
    let service = &context.view.estate.services[id];
    Edit::new(
        EditKind::Door,
        format!("shut the public door of service {}", service.name),
        Some(service.origin),
        service.owner,
        move |estate| {
            if let Some(door) = &mut estate.services.get_mut(id).public_door {
                door.open = false;
            }
        },
    )
}
