//! The effective rules of thousands of random estates, against the naive evaluator; and every seeded fault, caught.

use super::estates::{INTERFACES, estate, packet};
use super::naive::{Decision, Evaluator, Fate, Packet};
use fastrand::Rng;
use heronshale_engine::effective::{Listed, Reply, Side, effective, effective_both, passing_both};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::{By, Judgement, Outcome, StageKind, State};
use heronshale_intake::load_texts;
use heronshale_model::estate::{Direction, Estate};
use heronshale_model::limits::Limits;
use heronshale_sets::address::{Addresses, Family, address_of, number_of};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::{self as engine, PacketSet, service};
use serde_json::Value;
use std::collections::BTreeMap;

pub fn load(json: &Value) -> Estate {
    let text = serde_json::to_string_pretty(json).unwrap();
    match load_texts(&[("random.json", &text)]) {
        Ok(snapshot) => snapshot.estate,
        Err(error) => panic!("{error:?}\n{text}"),
    }
}

pub fn to_engine(packet: &Packet) -> engine::Packet {
    engine::Packet {
        family: Family::of(packet.source),
        source: number_of(packet.source),
        destination: number_of(packet.destination),
        service: service::code(packet.protocol, packet.low),
        source_port: packet.source_port,
    }
}

/// The same packet as the naive evaluators have it.
pub fn from_engine(packet: &engine::Packet) -> Packet {
    Packet {
        source: address_of(packet.family, packet.source),
        destination: address_of(packet.family, packet.destination),
        protocol: service::protocol_of(packet.service),
        low: service::port_of(packet.service),
        source_port: packet.source_port,
    }
}

fn holding<'l>(listed: &'l [Listed], packet: &engine::Packet) -> Vec<&'l Listed> {
    listed
        .iter()
        .filter(|one| PacketSet::of_entry(&one.entry, ()).contains(packet))
        .collect()
}

/// The engine's decisions in the words of the naive evaluator.
fn in_words(
    estate: &Estate,
    stages: &[(
        StageKind,
        Vec<heronshale_model::estate::Id<heronshale_model::estate::Filter>>,
    )],
    decisions: &[Judgement],
) -> Vec<(String, String)> {
    let word = |kind: StageKind| match kind {
        StageKind::OwnFirewall => "own",
        StageKind::ScopePolicies => "policies",
        StageKind::InterfaceGroups | StageKind::PooledGroups => "groups",
        StageKind::SubnetGroups => "subnet groups",
        StageKind::NetworkAcl => "ACL",
    };
    let by = |by: By| match by {
        By::Rule(id) => estate.rule_name(id),
        By::Default(_) => "default".to_owned(),
        By::NoRule => "no rule".to_owned(),
        By::ImpliedDeny => "implied".to_owned(),
        By::ImpliedPair => "implied pair".to_owned(),
        By::NoPolicy => "no policy".to_owned(),
        By::NoGroup => "no group".to_owned(),
        By::SameSubnet => "same subnet".to_owned(),
        By::Finally => "finally".to_owned(),
        By::Platform => "platform".to_owned(),
        By::Lacking => "lacking".to_owned(),
    };
    stages
        .iter()
        .zip(decisions)
        .map(|((kind, _), judgement)| (word(*kind).to_owned(), by(judgement.by)))
        .collect()
}

/// What the engine says of one packet, compared with what it must be.
fn disagreement(
    estate: &Estate,
    side: &Side,
    asked: &Packet,
    naive: &Evaluator<'_>,
    id: &str,
    way: &str,
) -> Option<String> {
    let packet = to_engine(asked);
    let (fate, possible) = naive.fate(id, asked, way);
    let admitted = holding(&side.admitted, &packet);
    let unknown = holding(&side.unknown, &packet);
    let engine_fate = match (admitted.is_empty(), unknown.is_empty()) {
        (false, _) => Fate::Admitted,
        (true, false) => Fate::Unknown,
        (true, true) => Fate::Denied,
    };
    if engine_fate != fate {
        return Some(format!("{engine_fate:?}, not {fate:?} by {possible:?}"));
    }
    let first_left = side
        .left
        .iter()
        .find(|one| PacketSet::of_entry(&one.entry, ()).contains(&packet));
    let listed = match fate {
        Fate::Admitted => admitted.first().copied(),
        Fate::Unknown => return None,
        Fate::Denied => first_left,
    };
    let Some(listed) = listed else {
        return Some("what is left does not list it".to_owned());
    };
    let words = in_words(estate, &side.stages, &listed.way.judgements);
    let wanted = |decisions: &Vec<Decision>| {
        decisions
            .iter()
            .map(|d| (d.stage.to_owned(), d.by.clone()))
            .collect::<Vec<_>>()
    };
    let wanted: Vec<Vec<(String, String)>> = possible.iter().map(wanted).collect();
    // The list of what is left merges packets that end at one judgement; the earlier stages are those of one of them.
    let from = if fate == Fate::Denied {
        words.len() - 1
    } else {
        0
    };
    // Where it is open which of two rules lets the packet on, either may be named.
    let open = |at: usize| {
        listed.way.judgements[..=at]
            .iter()
            .any(|j| j.outcome == Outcome::PassPerhapsFinally || j.state == State::Unknown)
    };
    let named = |at: usize| {
        open(at)
            || wanted
                .iter()
                .any(|decisions| decisions.len() == words.len() && decisions[at] == words[at])
    };
    if !(from..words.len()).all(named) {
        return Some(format!("decided by {words:?}, not {wanted:?}"));
    }
    if fate == Fate::Admitted {
        return wrong_reply(listed, asked, naive, id, way);
    }
    None
}

fn wrong_reply(
    listed: &Listed,
    asked: &Packet,
    naive: &Evaluator<'_>,
    id: &str,
    way: &str,
) -> Option<String> {
    let (first, last) = naive.client_ports(id);
    let ported = matches!(asked.protocol, 6 | 17 | 132);
    let clients = Intervals::span(first.into(), last.into());
    if ported && !clients.contains(asked.source_port.into()) {
        return None;
    }
    let passes = naive.reply_passes(id, asked, way);
    let says = match &listed.reply {
        Reply::Passes => Some(true),
        Reply::Denied(_) => Some(false),
        Reply::Unknown(_) => None,
        Reply::OnlyTo(ports) => Some(ports.contains(asked.source_port.into())),
    };
    // "Unknown" is said of all client ports together, so one of them may well be certain.
    (says != passes && says.is_some()).then(|| format!("reply {:?}, not {passes:?}", listed.reply))
}

/// How often each stage decided, over all packets asked.
pub type Deciders = BTreeMap<String, usize>;

/// Asks about some packets of a random estate; the first disagreement.
pub fn try_estate(seed: u64, packets: usize, deciders: &mut Deciders) -> Result<(), String> {
    try_within(seed, packets, deciders, Limits::default())
}

fn try_within(
    seed: u64,
    packets: usize,
    deciders: &mut Deciders,
    limits: Limits,
) -> Result<(), String> {
    let mut random = Rng::with_seed(seed);
    let json = estate(&mut random);
    let built = load(&json);
    let naive = Evaluator::new(&json);
    let view = Fabric::within(&built, limits);
    for (way, direction) in [("in", Direction::In), ("out", Direction::Out)] {
        let at = random.usize(0..INTERFACES.len());
        let interface = built.interfaces.find(INTERFACES[at]).unwrap();
        let side = effective(&view, interface, direction, None);
        for _ in 0..packets {
            let asked = packet(&mut random, &json["interfaces"][at], way);
            let (fate, possible) = naive.fate(INTERFACES[at], &asked, way);
            let decider = possible
                .last()
                .and_then(|decisions| decisions.last())
                .filter(|_| fate == Fate::Denied)
                .map_or("none refuses", |last| last.stage);
            *deciders
                .entry(format!(
                    "{way} {}",
                    if fate == Fate::Unknown {
                        "unknown"
                    } else {
                        decider
                    }
                ))
                .or_default() += 1;
            if let Some(what) = disagreement(&built, &side, &asked, &naive, INTERFACES[at], way) {
                return Err(format!(
                    "seed {seed}, {} {way}, {asked:?}: {what}",
                    INTERFACES[at]
                ));
            }
        }
    }
    Ok(())
}

#[test]
fn effective_rules_equal_a_naive_evaluation_packet_by_packet() {
    let mut deciders = Deciders::new();
    for seed in 0..4_000 {
        try_estate(seed, 25, &mut deciders).unwrap_or_else(|what| panic!("{what}"));
    }
    let total: usize = deciders.values().sum();
    for stage in [
        "own",
        "policies",
        "groups",
        "subnet groups",
        "ACL",
        "none refuses",
        "unknown",
    ] {
        for way in ["in", "out"] {
            let share = deciders
                .get(&format!("{way} {stage}"))
                .copied()
                .unwrap_or(0) as f64
                / (total as f64 / 2.0);
            assert!(
                share >= 0.01,
                "{way} {stage} decides {share:.4} of the packets: {deciders:?}"
            );
        }
    }
}

#[test]
fn lists_too_long_to_widen_mean_the_same() {
    for seed in 0..1_000 {
        let tried = try_within(
            seed,
            25,
            &mut Deciders::new(),
            Limits {
                most_widened: 0,
                ..Limits::default()
            },
        );
        tried.unwrap_or_else(|what| panic!("{what}"));
    }
}

/// Both sides of an interface at once are the two sides alone, and what passes of some packets is what passes of all, of these.
#[test]
fn sides_together_are_the_sides_alone_and_parts_are_parts_of_the_whole() {
    let mut parts = 0;
    for seed in 0..200 {
        let mut random = Rng::with_seed(seed);
        let built = load(&estate(&mut random));
        let view = Fabric::new(&built, None);
        for interface in built.interfaces.ids() {
            let both = effective_both(&view, interface, [None, None]);
            let passing = passing_both(&view, interface, [None, None]);
            for (at, direction) in Direction::BOTH.into_iter().enumerate() {
                let alone = effective(&view, interface, direction, None);
                let (one, other) = (&both[at], &alone);
                assert!(
                    one.admitted_set == other.admitted_set && one.unknown_set == other.unknown_set,
                    "seed {seed}"
                );
                let told = |side: &Side| {
                    let lists = [&side.admitted, &side.unknown, &side.left];
                    lists.map(|all| all.iter().map(|one| one.entry.clone()).collect::<Vec<_>>())
                };
                assert_eq!(told(one), told(other), "seed {seed}");
                // Admitted for certain is admitted, whatever becomes of replies; what works may be unknown, and is never refused.
                let whole = &passing[at];
                assert!(whole.admitted == alone.admitted_set, "seed {seed}");
                assert!(
                    whole
                        .works
                        .is_subset(&alone.admitted_set.union(&alone.unknown_set)),
                    "seed {seed}"
                );
                let refused =
                    PacketSet::union_all(whole.refused.iter().map(|(_, set)| set.clone()));
                assert!(whole.works.union(&refused) == whole.domain, "seed {seed}");
                assert!(!whole.works.overlaps(&refused), "seed {seed}");
                // Of the packets of one service all that is said is said of the whole too.
                let service = Intervals::span(
                    u128::from(service::code(6, 443)),
                    u128::from(service::code(6, 443)),
                );
                let every = Intervals::span(0, u128::from(u16::MAX));
                let all = Addresses::all();
                let asked = PacketSet::fields(&all, &all, |_| service.clone(), &every, ());
                let asks = [Some(&asked), Some(&asked)];
                let part = &passing_both(&view, interface, asks)[at];
                assert!(
                    part.works == whole.works.intersection(&asked),
                    "seed {seed}"
                );
                assert!(
                    part.admitted == whole.admitted.intersection(&asked),
                    "seed {seed}"
                );
                parts += usize::from(!part.works.is_empty());
            }
        }
    }
    assert!(parts > 500, "{parts}");
}
