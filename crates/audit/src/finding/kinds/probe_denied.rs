//! Back ends whose filters deny the health checks.

use super::super::context::Context;
use super::super::draft::{Draft, Role};
use super::super::key::Key;
use super::super::kind::Kind;
use super::super::routing::addresses_text;
use crate::describe::owner_text;
use heronshale_engine::judgement::Judgement;
use heronshale_engine::stage::chain;
use heronshale_model::estate::{Balancer, Direction, FrontEnd, Id, Interface, Service};
use heronshale_model::severity::Severity;
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{PacketSet, service};

pub(crate) const KIND: Kind = Kind {
    name: "probe-denied",
    base: Severity::Serious,
    about: "The filters of a back end block the health checks of its balancer.",
    why: "The balancer considers the back end dead and sends it nothing. With all back ends blocked, the \
        service is down.",
    triggers: "The own firewall, groups, scope policies or ACL of a back end deny, for certain, TCP from some or \
        all `probes` addresses to its port. Not reported if the snapshot does not say where probes come \
        from, or for back ends given by address only.",
    fix: "Allow the peer `probes` on the back end's port.",
    side_effects: "Opens the port to the balancer's probes.",
    factors: &[],
    example: include_str!("../examples/probe-denied.yaml"),
    check: |context| {
        facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect()
    },
};

struct Fact {
    balancer: Id<Balancer>,
    interface: Id<Interface>,
    ports: Intervals,
    denied: Addresses,
    by: Judgement,
    stage: heronshale_engine::judgement::StageKind,
}

/// The ports at which a back end is asked: its own, else those of the front ends.
fn ports(balancer: &Balancer, port: Option<u16>) -> Intervals {
    let tcp = |one: &Service| {
        one.numbers(Family::V4)
            .intersection(&service::whole(service::TCP))
    };
    let front = |front: &FrontEnd| {
        front
            .services
            .iter()
            .fold(Intervals::empty(), |sum, one| sum.union(&tcp(one)))
    };
    match port {
        Some(port) => {
            let number = u128::from(service::code(service::TCP, port));
            Intervals::span(number, number)
        }
        None => balancer
            .front_ends
            .iter()
            .fold(Intervals::empty(), |sum, one| sum.union(&front(one))),
    }
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let (view, estate) = (context.view, context.view.estate);
    let Some(probes) = &estate.probes else {
        return Vec::new();
    };
    let mut found: Vec<Fact> = Vec::new();
    for (id, balancer) in estate.balancers.iter() {
        for end in &balancer.back_ends {
            let Some(interface) = end.interface else {
                continue;
            };
            let ports = ports(balancer, end.port);
            let own = &estate.interfaces[interface].addresses;
            let every = Intervals::span(0, u128::from(u16::MAX));
            let asked = PacketSet::fields(probes, own, |_| ports.clone(), &every, ());
            let crossed = chain(view, interface, Direction::In);
            let mut denied = Addresses::empty();
            let mut by = None;
            for (way, packets) in crossed.ways(&asked).regions() {
                if way.refuses() {
                    denied = denied.union(&packets.sources());
                    let last = way.judgements.len() - 1;
                    by = by.or(Some((way.judgements[last], crossed.stages[last].kind)));
                }
            }
            if let Some((by, stage)) = by {
                found.push(Fact {
                    balancer: id,
                    interface,
                    ports,
                    denied,
                    by,
                    stage,
                });
            }
        }
    }
    found
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let estate = context.view.estate;
    let (balancer, interface) = (
        &estate.balancers[fact.balancer],
        &estate.interfaces[fact.interface],
    );
    let owner = owner_text(estate, estate.interface_owner(fact.interface));
    let key = Key::of("balancer")
        .name(&balancer.name)
        .token("interface")
        .name(&interface.name);
    let mut draft = context.about(key, &interface.origin, owner);
    draft.networks = context.networks_of(&[fact.interface]);
    let ports = service::texts(Family::V4, &fact.ports).join(", ");
    draft.brief(&*interface.name, format!("health check {ports} blocked"));
    draft.title = format!(
        "back end {} of balancer {} blocks health checks from {} on {ports}",
        interface.name,
        balancer.name,
        addresses_text(&fact.denied)
    );
    let evidence = match fact.by.by {
        heronshale_engine::judgement::By::Rule(rule) => context.rule_evidence(Role::AtFault, rule),
        _ => context.evidence(
            Role::Default,
            format!("{}: no rule matches", fact.stage.word()),
            Some(&interface.origin),
        ),
    };
    draft.evidence.push(evidence);
    draft.fix = format!("Allow the peer `probes` on {ports} at {}.", interface.name);
    draft
}
