//! The internet can open a connection to an interface.

use super::super::{Context, Draft, Evidence, Factor, Kind, Role, Severity, sensitive};
use super::factor;
use crate::answer::{Decider, OpenFact, WayFact, WayKind, way_fact};
use crate::describe::rule_text;
use crate::exposure::DirectWay;
use crate::packet::{Intervals, PacketSet};

pub(crate) const KIND: Kind = Kind {
    name: "exposed",
    base: Severity::Minor,
    about: "The internet can open a connection to an interface, by a public address or by global IPv6.",
    why: "Whoever finds the address can talk to what listens there. Each such opening should be one that somebody wanted.",
    triggers: "The gateway, the internet block, every stage in, the reply's route and every stage out let a connection \
        through, for at least one address of the internet. Silent if any of them does not, for all traffic; connections that \
        depend on what the snapshot lacks are told as unknown, not here.",
    mend: "Narrow or delete the rule that lets it in, take away the public address, or note that it is meant.",
    factors: &[
        "up: a sensitive port is open",
        "up: from any address, unless it is nothing but web ports or ICMP",
        "down: nothing but web ports, or nothing but ICMP",
    ],
    example: include_str!("../examples/exposed.yaml"),
    check: |context| facts(context).iter().map(tell).collect(),
};

struct Fact {
    way: WayFact,
    factors: Vec<Factor>,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let open = context.ways().iter().filter(|way| !way.open().is_empty());
    open.map(|way| Fact { way: way_fact(context.view, way), factors: factors(way) }).collect()
}

/// What raises and lowers the severity of what is open by a way in.
fn factors(way: &DirectWay) -> Vec<Factor> {
    let services_of =
        |set: &PacketSet| set.boxes().iter().fold(Intervals::empty(), |sum, (entry, ())| sum.union(&entry.services));
    let open = way.open();
    let services = services_of(&open);
    let asked = PacketSet::union_all(way.parts.iter().map(|part| part.packets.clone()));
    let from_anywhere = services.difference(&services_of(&asked.difference(&open)));
    let harmless =
        |services: &Intervals| services.is_empty() || sensitive::only_web(services) || sensitive::only_icmp(services);
    let mut factors = Vec::new();
    if let Some(ports) = sensitive::among(&services) {
        factors.push(factor(1, format!("sensitive port open: {ports}")));
    }
    if sensitive::only_web(&services) {
        factors.push(factor(-1, "nothing but web ports"));
    } else if sensitive::only_icmp(&services) {
        factors.push(factor(-1, "nothing but ICMP"));
    } else if !harmless(&from_anywhere) {
        factors.push(factor(1, "open to any address"));
    }
    factors
}

/// How bad it is that something is open by a way in; none if nothing is.
pub(crate) fn severity(way: &DirectWay) -> Option<Severity> {
    (!way.open().is_empty()).then(|| KIND.base.with(&factors(way)))
}

fn tell(fact: &Fact) -> Draft {
    let WayFact { interface, address, own, way, open, .. } = &fact.way;
    let subject_name = interface.workload.as_ref().unwrap_or(&interface.name);
    let mut order: Vec<&OpenFact> = open.iter().collect();
    order.sort_by_key(|one| one.services.iter().all(|text| text.starts_with("icmp")));
    let what: Vec<String> =
        order.iter().map(|one| format!("{} from {}", one.services.join(", "), one.sources.said)).collect();
    let mut witness = order.iter().find_map(|one| one.witness.clone());
    if let Some(packet) = witness.as_mut().filter(|_| *way == WayKind::PublicAddress) {
        // Behind the arrow stands the destination: asked is the public address, which stands for the own one.
        if let Some((from, to)) = packet.text.split_once(" → ") {
            packet.text = format!("{from} → {} → {own}", to.replacen(own.as_str(), address, 1));
        }
    }
    Draft {
        subject: format!("interface:{} {address}", interface.name),
        title: format!("{subject_name} at {address} is open to {}", shortened(&what)),
        place: Some(interface.place.clone()),
        networks: vec![interface.network.clone()],
        owner: interface.owner.clone(),
        factors: fact.factors.clone(),
        evidence: evidence(open),
        witness,
        mend: mend(open),
    }
}

fn shortened(what: &[String]) -> String {
    match what {
        [one] => one.clone(),
        [one, two] => format!("{one}; {two}"),
        [one, rest @ ..] => format!("{one}; and {} more openings", rest.len()),
        [] => String::new(),
    }
}

/// The rules that let it in, each once, in the order of the stages.
fn evidence(open: &[OpenFact]) -> Vec<Evidence> {
    let mut all: Vec<Evidence> = Vec::new();
    for decided in open.iter().flat_map(|one| &one.decided) {
        if let Decider::Rule { rule } = &decided.decider {
            let text = rule_text(rule);
            let piece =
                Evidence { role: Role::LetInBy, text, place: Some(rule.place.clone()), rule: Some(rule.clone()) };
            if !all.contains(&piece) {
                all.push(piece);
            }
        }
    }
    all
}

fn mend(open: &[OpenFact]) -> String {
    let mut rules: Vec<String> = Vec::new();
    for decided in
        open.iter().filter_map(|one| one.decided.iter().rev().find(|d| matches!(d.decider, Decider::Rule { .. })))
    {
        if let Decider::Rule { rule } = &decided.decider {
            let name = format!("rule {} of {}", rule.rule, rule.filter);
            if !rules.contains(&name) {
                rules.push(name);
            }
        }
    }
    match rules.as_slice() {
        [] => "no rule stands in the way: bind a group to the interface, or take away the public address".to_owned(),
        rules => format!("if nobody means it: narrow or delete {}, or take away the address", rules.join(", ")),
    }
}
