//! The internet can open a connection to an interface.

use super::super::context::Context;
use super::super::draft::{Draft, Evidence, Role, Trial};
use super::super::key::Key;
use super::super::kind::Kind;
use crate::describe::{RuleFact, plural, rule_text};
use crate::exposure::{DeviceWay, DirectWay};
use crate::facts::Factor;
use crate::facts::{
    Decided, Decider, EXPOSED_BASE, HolderKind, OpenFact, WalkedFact, WayFact, WayKind,
    device_way_fact, exposure_factors, letting, way_fact,
};
use crate::fix::{Edit, EditKind};
use heronshale_engine::judgement::By;
use heronshale_model::estate::{Id, PublicAddress, RuleId};
use heronshale_sets::each::each;
use heronshale_sets::packet::PacketSet;

pub(crate) const KIND: Kind = Kind {
    name: "exposed",
    base: EXPOSED_BASE,
    about: "The internet can open a connection to an interface, by its public or global IPv6 address or through \
        a balancer, a translating firewall or a public door of a service.",
    why: "Anyone who finds the address can talk to the service behind it. Each opening should be there because \
        somebody wants it.",
    triggers: "For at least one internet address, the gateway, the internet block, every inbound stage, the route \
        of the reply and every outbound stage let a connection through. Not reported if any of them blocks \
        all traffic. Connections that depend on something missing from the snapshot are listed as unknown by \
        `exposure`.",
    fix: "Narrow or delete the rule that allows it, remove the public address, or record it as intended.",
    side_effects: "Blocks everything else that the rules allow.",
    factors: &[
        "up: a sensitive port is open",
        "up: from any address, unless only web ports or ICMP are open",
        "down: only web ports, or only ICMP",
        "up: an expectation forbids it",
        "to a note: expectations allow all of it",
    ],
    example: include_str!("../examples/exposed.yaml"),
    check: |context| {
        let direct = facts(context)
            .iter()
            .map(|fact| tell(context, fact))
            .collect::<Vec<_>>();
        let open = context
            .device_ways()
            .iter()
            .filter(|way| !way.open().is_empty());
        direct
            .into_iter()
            .chain(open.map(|way| by_device(context, way)))
            .collect()
    },
};

struct Fact {
    way: WayFact,
    factors: Vec<Factor>,
    packets: PacketSet,
    /// What narrowing the rules costs.
    side_effects: String,
    /// The public address, if it is one.
    public: Option<Id<PublicAddress>>,
}

fn facts(context: &Context<'_, '_>) -> Vec<Fact> {
    let open: Vec<&DirectWay> = context
        .ways()
        .iter()
        .filter(|way| !way.open().is_empty())
        .collect();
    let judging = context.judging();
    let asked =
        |way: &DirectWay| PacketSet::union_all(way.parts.iter().map(|part| part.packets.clone()));
    each(&open, |way| {
        let spoken = judging.direct(way);
        let packets = way.open();
        let last = way
            .parts
            .iter()
            .filter(|part| part.verdict.is_open())
            .filter_map(|part| {
                part.way
                    .judgements
                    .iter()
                    .rev()
                    .find_map(|judgement| rule_of(judgement.by))
            });
        let side_effects = side_effects(context, last.collect());
        let factors = exposure_factors(context.view, &packets, &asked(way), &spoken);
        Fact {
            way: way_fact(context.view, way, &spoken),
            factors,
            packets,
            side_effects,
            public: way.public,
        }
    })
}

fn tell(context: &Context<'_, '_>, fact: &Fact) -> Draft {
    let WayFact {
        interface,
        address,
        own,
        way,
        open,
        ..
    } = &fact.way;
    let subject_name = interface.workload.as_ref().unwrap_or(&interface.name);
    let mut order: Vec<&OpenFact> = open.iter().collect();
    order.sort_by_key(|one| one.services.iter().all(|text| text.starts_with("icmp")));
    let what: Vec<String> = order
        .iter()
        .map(|one| format!("{} from {}", one.services.join(", "), one.sources.said))
        .collect();
    let mut witness = order.iter().find_map(|one| one.witness.clone());
    if let Some(packet) = witness.as_mut().filter(|_| *way == WayKind::PublicAddress) {
        // Behind the arrow stands the destination: asked is the public address, which stands for the own one.
        if let Some((from, to)) = packet.text.split_once(" → ") {
            packet.text = format!("{from} → {} → {own}", to.replacen(own.as_str(), address, 1));
        }
    }
    let facts = deciding(open);
    let rules: Vec<String> = facts.iter().map(|rule| name_of(rule)).collect();
    let mut trials: Vec<Trial> = context.deleting(&facts).into_iter().collect();
    trials.extend(fact.public.map(|id| Trial::of(released(context, id))));
    Draft {
        former: None,
        trials,
        cause: cause(&rules),
        key: Key::default()
            .object("interface", &interface.name)
            .notation(address),
        subject: interface.name.clone(),
        short: shortened(&what),
        title: format!(
            "{subject_name} at {address} is open to {}",
            shortened(&what)
        ),
        place: Some(interface.place.clone()),
        networks: vec![interface.network.clone()],
        owner: interface.owner.clone(),
        factors: fact.factors.clone(),
        packets: Some(fact.packets.any_source_port()),
        evidence: evidence(open),
        witness,
        interfaces: None,
        side_effects: (!rules.is_empty()).then(|| fact.side_effects.clone()),
        fix: match rules.as_slice() {
            [] => {
                "No rule filters this: bind a group to the interface, or remove the public address."
                    .to_owned()
            }
            rules => narrow(rules),
        },
    }
}

/// The rules to narrow: whatever they let in is one cause. Without any the way in is one by itself.
fn cause(rules: &[String]) -> Option<String> {
    (!rules.is_empty()).then(|| rules.join(", "))
}

fn narrow(rules: &[String]) -> String {
    format!(
        "If this is not intended: narrow or delete {}, or remove the address.",
        rules.join(", ")
    )
}

fn rule_of(by: By) -> Option<RuleId> {
    if let By::Rule(id) = by {
        Some(id)
    } else {
        None
    }
}

/// What else ends if rules go: on how many interfaces they act, and what they let in from elsewhere than the internet.
fn side_effects(context: &Context<'_, '_>, mut rules: Vec<RuleId>) -> String {
    rules.sort_unstable();
    rules.dedup();
    let mut interfaces: Vec<_> = rules
        .iter()
        .flat_map(|id| context.bindings.interfaces(id.filter).iter().copied())
        .collect();
    interfaces.sort_unstable();
    interfaces.dedup();
    let internet = context.view.internet_end();
    let inside = rules.iter().any(|id| {
        let held = context
            .view
            .estate
            .networks
            .items()
            .iter()
            .map(|network| &network.blocks);
        let sources = context.rule_packets(*id).sources().difference(&internet);
        held.into_iter().any(|blocks| sources.overlaps(blocks))
    });
    let inside = if inside {
        "Deleting also blocks traffic from inside."
    } else {
        "No traffic from inside uses them."
    };
    match interfaces.len() {
        0 => inside.to_owned(),
        count => format!("{inside} Applies to {}.", plural(count, "interface")),
    }
}

/// A way in that leads by a device.
fn by_device(context: &Context<'_, '_>, way: &DeviceWay) -> Draft {
    let spoken = context.judging().by_device(way);
    let fact = device_way_fact(context.view, way, &spoken);
    let address = fact.addresses.join(", ");
    let said = |part: &WalkedFact| {
        let traffic = part
            .traffic
            .iter()
            .map(|one| format!("{} from {}", one.services.join(", "), one.sources.said));
        let turns = if part.conditions.is_empty() {
            String::new()
        } else {
            format!(" (if {})", part.conditions.join(", and if "))
        };
        format!("{}{turns}", traffic.collect::<Vec<_>>().join(", "))
    };
    let what: Vec<String> = fact.open.iter().map(said).collect();
    let mut evidence: Vec<Evidence> = Vec::new();
    let mut rules: Vec<String> = Vec::new();
    let mut facts: Vec<&RuleFact> = Vec::new();
    for rule in fact.open.iter().flat_map(|part| &part.rules) {
        let text = rule_text(rule);
        let piece = Evidence {
            role: Role::LetInBy,
            text,
            place: Some(rule.place.clone()),
            rule: Some(rule.clone()),
        };
        if !evidence.contains(&piece) {
            evidence.push(piece);
            rules.push(name_of(rule));
            facts.push(rule);
        }
    }
    let ids = way
        .parts
        .iter()
        .filter(|part| part.is_open())
        .flat_map(|part| letting(context.view, part))
        .collect();
    let reached = if fact.ends.is_empty() {
        String::new()
    } else {
        format!(", which leads to {}", fact.ends.join(", "))
    };
    Draft {
        former: None,
        trials: context.deleting(&facts).into_iter().collect(),
        cause: cause(&rules),
        key: Key::default()
            .object(token_of(fact.kind), &fact.name)
            .notation(&address),
        title: format!(
            "{} {} at {address} is open to {}{reached}",
            fact.kind.word(),
            fact.name,
            shortened(&what)
        ),
        subject: format!("{} {}", fact.kind.word(), fact.name),
        short: shortened(&what),
        place: Some(fact.place.clone()),
        networks: fact.network.iter().cloned().collect(),
        owner: fact.owner.clone(),
        factors: exposure_factors(context.view, &way.open(), &way.asked(), &spoken),
        packets: Some(way.open().any_source_port()),
        evidence,
        witness: fact.open.iter().find_map(|part| part.witness.clone()),
        interfaces: None,
        side_effects: (!rules.is_empty()).then(|| side_effects(context, ids)),
        fix: match rules.as_slice() {
            [] => "No rule filters this: close it at the device, or remove the public address."
                .to_owned(),
            rules => narrow(rules),
        },
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

/// The rules that let it in, each once, in the order of the stages; of groups all that do.
fn evidence(open: &[OpenFact]) -> Vec<Evidence> {
    let mut all: Vec<Evidence> = Vec::new();
    for decided in open.iter().flat_map(|one| &one.decided) {
        for rule in admitting(decided) {
            let text = rule_text(rule);
            let piece = Evidence {
                role: Role::LetInBy,
                text,
                place: Some(rule.place.clone()),
                rule: Some(rule.clone()),
            };
            if !all.contains(&piece) {
                all.push(piece);
            }
        }
    }
    all
}

fn admitting(decided: &Decided) -> Vec<&RuleFact> {
    match &decided.decider {
        Decider::Rule { rule } => std::iter::once(rule).chain(&decided.also).collect(),
        _ => Vec::new(),
    }
}

/// The last rules that each opening needed, each once: without them it is closed, unless a default lets it in.
fn deciding(open: &[OpenFact]) -> Vec<&RuleFact> {
    let mut rules: Vec<&RuleFact> = Vec::new();
    for one in open {
        let last = one
            .decided
            .iter()
            .rev()
            .find(|decided| matches!(decided.decider, Decider::Rule { .. }));
        for rule in last.into_iter().flat_map(admitting) {
            if !rules.iter().any(|known| name_of(known) == name_of(rule)) {
                rules.push(rule);
            }
        }
    }
    rules
}

fn name_of(rule: &RuleFact) -> String {
    format!("rule {} of {}", rule.rule, rule.filter)
}

/// Takes a public address from whoever holds it.
fn released(context: &Context<'_, '_>, id: Id<PublicAddress>) -> Edit {
    let public = &context.view.estate.public_addresses[id];
    Edit::new(
        EditKind::PublicAddress,
        format!("release public address {}", public.name),
        Some(public.origin),
        public.owner,
        move |estate| estate.public_addresses.get_mut(id).interface = None,
    )
}

/// What holds an address, as a key has it.
fn token_of(kind: HolderKind) -> &'static str {
    match kind {
        HolderKind::Interface => "interface",
        HolderKind::Balancer => "balancer",
        HolderKind::Firewall => "firewall",
        HolderKind::Service => "service",
    }
}
