//! One machine between everything.

use super::super::asking::factor;
use super::super::context::Context;
use super::super::draft::{Draft, Role, Trial};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::owner_text;
use crate::fix::{Edit, EditKind};
use heronshale_model::estate::{Balancer, Firewall, Id};
use heronshale_model::severity::Severity;

pub(crate) const KIND: Kind = Kind {
    name: "single-member",
    base: Severity::Note,
    about: "Only one member of a firewall, or one back end of a balancer, works.",
    why: "If that one fails or restarts, everything behind it is down. The redundancy is gone.",
    triggers: "A firewall lists members, and exactly one is up. A balancer has exactly one healthy back end. Not \
        reported for firewalls without a list of members. If none is up and something leads to it, see \
        next-hop-dead.",
    fix: "Bring the others up, or add one.",
    side_effects: "No traffic changes while that member is up.",
    factors: &["up: others are listed and do not work"],
    example: include_str!("../examples/single-member.yaml"),
    check: |context| {
        let mut drafts: Vec<Draft> = firewalls(context)
            .into_iter()
            .map(|id| tell_firewall(context, id))
            .collect();
        drafts.extend(
            balancers(context)
                .into_iter()
                .map(|id| tell_balancer(context, id)),
        );
        drafts
    },
};

fn firewalls(context: &Context<'_, '_>) -> Vec<Id<Firewall>> {
    let single = |firewall: &Firewall| !firewall.members.is_empty() && firewall.members_up() == 1;
    context
        .view
        .estate
        .firewalls
        .iter()
        .filter(|(_, firewall)| single(firewall))
        .map(|(id, _)| id)
        .collect()
}

fn balancers(context: &Context<'_, '_>) -> Vec<Id<Balancer>> {
    let single =
        |balancer: &Balancer| balancer.back_ends.iter().filter(|end| end.healthy).count() == 1;
    context
        .view
        .estate
        .balancers
        .iter()
        .filter(|(_, balancer)| single(balancer))
        .map(|(id, _)| id)
        .collect()
}

fn tell_firewall(context: &Context<'_, '_>, id: Id<Firewall>) -> Draft {
    let estate = context.view.estate;
    let firewall = &estate.firewalls[id];
    let owner = owner_text(estate, firewall.owner);
    let mut draft = context.about(
        Key::of("firewall").name(&firewall.name),
        &firewall.origin,
        owner,
    );
    let legs: Vec<_> = firewall.legs.iter().map(|leg| leg.interface).collect();
    draft.networks = context.networks_of(&legs);
    let up = firewall
        .members
        .iter()
        .find(|member| member.up)
        .map_or("", |member| &member.name);
    draft.brief(
        format!("firewall {}", firewall.name),
        format!("only {up} is up"),
    );
    draft.title = format!(
        "firewall {} has one member that is up, {up}, of {}",
        firewall.name,
        firewall.members.len()
    );
    let down = firewall
        .members
        .iter()
        .filter(|member| !member.up)
        .map(|member| member.name.to_string());
    let down: Vec<String> = down.collect();
    if !down.is_empty() {
        draft.evidence.push(context.evidence(
            Role::AtFault,
            format!("down: {}", down.join(", ")),
            None,
        ));
        draft
            .factors
            .push(factor(1, "others are listed and do not work"));
    }
    if !down.is_empty() {
        let text = format!("bring {} of firewall {} up", down.join(", "), firewall.name);
        let up = Edit::new(
            EditKind::Up,
            text,
            Some(firewall.origin),
            firewall.owner,
            move |estate| {
                for member in &mut estate.firewalls.get_mut(id).members {
                    member.up = true;
                }
            },
        );
        draft.trials.push(Trial::of(up));
    }
    draft.fix = if down.is_empty() {
        "Add a second member.".to_owned()
    } else {
        format!("Bring {} up.", down.join(", "))
    };
    draft
}

fn tell_balancer(context: &Context<'_, '_>, id: Id<Balancer>) -> Draft {
    let estate = context.view.estate;
    let balancer = &estate.balancers[id];
    let owner = owner_text(
        estate,
        balancer.owner.or(estate.networks[balancer.network].owner),
    );
    let mut draft = context.about(
        Key::of("balancer").name(&balancer.name),
        &balancer.origin,
        owner,
    );
    draft.networks = vec![estate.networks[balancer.network].name.to_string()];
    let name = |end: &heronshale_model::estate::BackEnd| match (end.interface, end.address) {
        (Some(id), _) => estate.interfaces[id].name.to_string(),
        (None, Some(address)) => address.to_string(),
        (None, None) => String::new(),
    };
    let up = balancer.back_ends.iter().find(|end| end.healthy);
    draft.brief(
        format!("balancer {}", balancer.name),
        "one healthy back end",
    );
    draft.title = format!(
        "balancer {} has one healthy back end, {}, of {}",
        balancer.name,
        up.map_or_else(String::new, name),
        balancer.back_ends.len()
    );
    let down: Vec<&heronshale_model::estate::BackEnd> = balancer
        .back_ends
        .iter()
        .filter(|end| !end.healthy)
        .collect();
    for end in &down {
        draft.evidence.push(context.evidence(
            Role::AtFault,
            format!("not healthy: {}", name(end)),
            Some(&end.origin),
        ));
    }
    if !down.is_empty() {
        draft
            .factors
            .push(factor(1, "others are listed and do not work"));
    }
    if !down.is_empty() {
        let names: Vec<String> = down.iter().map(|end| name(end)).collect();
        let text = format!(
            "bring {} of balancer {} up",
            names.join(", "),
            balancer.name
        );
        let up = Edit::new(
            EditKind::Up,
            text,
            Some(balancer.origin),
            balancer.owner,
            move |estate| {
                for end in &mut estate.balancers.get_mut(id).back_ends {
                    end.healthy = true;
                }
            },
        );
        draft.trials.push(Trial::of(up));
    }
    draft.fix = match down.as_slice() {
        [] => "Add a second back end.".to_owned(),
        down => format!(
            "Bring {} up.",
            down.iter()
                .map(|end| name(end))
                .collect::<Vec<_>>()
                .join(", ")
        ),
    };
    draft
}
