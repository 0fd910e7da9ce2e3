//! What answers say in words, read back and compared with the naive evaluator: effective rules, what rests on a rule, witnesses.

use super::agreement::load;
use super::estates::{INTERFACES, estate, packet};
use super::naive::{Evaluator, Fate, Packet, in_block, list, text};
use super::routes::with_ways_in;
use fastrand::Rng;
use heronshale_answers::{audit, effective_answer, exposure_answer, rule_answer};
use heronshale_engine::effective::class_of;
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::Direction;
use serde_json::{Value, json};
use std::net::IpAddr;

/// Whether ports such as `80,8000-8100` hold a port.
fn in_ports(ports: &str, port: u16) -> bool {
    ports.split(',').any(|part| {
        let (first, last) = part.split_once('-').unwrap_or((part, part));
        (first.parse::<u16>().unwrap()..=last.parse().unwrap()).contains(&port)
    })
}

/// Whether one item of a list of services, such as `tcp 443`, `icmp 8/0` or `protocol 48-49`, holds a packet.
fn in_service(said: &str, packet: &Packet) -> bool {
    let (name, low) = said
        .split_once(' ')
        .map_or((said, None), |(name, low)| (name, Some(low)));
    if name == "protocol" {
        let low = low.unwrap();
        let (first, last) = low.split_once('-').unwrap_or((low, low));
        return (first.parse::<u8>().unwrap()..=last.parse().unwrap()).contains(&packet.protocol);
    }
    let names = [
        ("icmp", 1),
        ("igmp", 2),
        ("ipip", 4),
        ("tcp", 6),
        ("udp", 17),
        ("gre", 47),
        ("esp", 50),
        ("ah", 51),
        ("icmpv6", 58),
        ("ospf", 89),
        ("pim", 103),
        ("vrrp", 112),
        ("l2tp", 115),
        ("sctp", 132),
    ];
    let known = names
        .iter()
        .find(|(known, _)| *known == name)
        .map(|(_, number)| *number);
    if known.unwrap() != packet.protocol {
        return false;
    }
    let Some(low) = low else { return true };
    if !matches!(packet.protocol, 1 | 58) {
        return in_ports(low, packet.low);
    }
    let (kind, code) = low
        .split_once('/')
        .map_or((low, None), |(kind, code)| (kind, Some(code)));
    in_ports(kind, packet.low >> 8) && code.is_none_or(|code| in_ports(code, packet.low & 0xFF))
}

/// Whether services in words hold a packet: `any`, a list, or `any except` a list.
fn in_services(said: &[Value], packet: &Packet) -> bool {
    let said: Vec<&str> = said.iter().map(|one| one.as_str().unwrap()).collect();
    match said.as_slice() {
        ["any"] => true,
        [one] if one.starts_with("any except ") => !one["any except ".len()..]
            .split(", ")
            .any(|item| in_service(item, packet)),
        items => items.iter().any(|item| in_service(item, packet)),
    }
}

fn in_ranges(words: &Value, address: IpAddr) -> bool {
    list(words, "ranges")
        .iter()
        .any(|range| in_block(address, range.as_str().unwrap()))
}

fn holds(entry: &Value, packet: &Packet, way: &str) -> bool {
    let entry = &entry["traffic"];
    let (peer, own) = if way == "in" {
        (packet.source, packet.destination)
    } else {
        (packet.destination, packet.source)
    };
    let family = if packet.source.is_ipv4() {
        "ipv4"
    } else {
        "ipv6"
    };
    let ports = text(entry, "source_ports").is_none_or(|ports| {
        matches!(packet.protocol, 6 | 17 | 132) && in_ports(ports, packet.source_port)
    });
    text(entry, "family") == Some(family)
        && in_ranges(&entry["peer"], peer)
        && (entry["local"].is_null() || in_ranges(&entry["local"], own))
        && in_services(list(entry, "services"), packet)
        && ports
}

/// An answer as JSON.
pub fn to_value(answer: &impl serde::Serialize) -> Value {
    serde_json::to_value(answer).unwrap()
}

fn direction_of(way: &str) -> usize {
    usize::from(way == "out")
}

#[test]
fn effective_rules_in_words_read_from_the_top_say_what_the_naive_evaluator_says() {
    for seed in 0..400 {
        let mut random = Rng::with_seed(seed);
        let json = estate(&mut random);
        let (built, naive) = (load(&json), Evaluator::new(&json));
        let view = Fabric::new(&built, None);
        let at = random.usize(0..INTERFACES.len());
        let class = class_of(&view, built.interfaces.find(INTERFACES[at]).unwrap());
        let answer = to_value(&effective_answer(&view, &class, |_| None));
        for _ in 0..60 {
            let way = if random.bool() { "in" } else { "out" };
            let asked = packet(&mut random, &json["interfaces"][at], way);
            let side = &answer["sides"][direction_of(way)];
            let first = |field: &str| {
                list(side, field)
                    .iter()
                    .find(|entry| holds(entry, &asked, way))
            };
            let said = match (first("admitted"), first("unknown"), first("left")) {
                (Some(_), _, _) => Fate::Admitted,
                (None, Some(_), _) => Fate::Unknown,
                (None, None, Some(_)) => Fate::Denied,
                found => panic!("seed {seed}, {asked:?}: {found:?}"),
            };
            let (fate, possible) = naive.fate(INTERFACES[at], &asked, way);
            assert_eq!(
                said, fate,
                "seed {seed}, {} {way}, {asked:?}",
                INTERFACES[at]
            );
            if fate == Fate::Denied {
                let last = list(first("left").unwrap(), "decided").last().unwrap();
                let rule = last["decider"]["rule"]["rule"].as_str();
                let ends: Vec<&str> = possible
                    .iter()
                    .map(|decisions| decisions.last().unwrap().by.as_str())
                    .collect();
                assert!(
                    rule.is_none_or(|rule| ends.contains(&rule)),
                    "seed {seed}, {asked:?}: {rule:?}, not {ends:?}"
                );
            }
        }
    }
}

/// The estate with one rule switched off.
fn without(json: &Value, pointer: &str) -> Value {
    let mut changed = json.clone();
    changed.pointer_mut(pointer).unwrap()["enabled"] = false.into();
    changed
}

#[test]
fn what_rests_on_a_rule_is_what_the_naive_evaluator_loses_and_gains_without_it() {
    let (mut changes, mut rules) = (0, 0);
    for seed in 0..250 {
        let mut random = Rng::with_seed(seed);
        let json = estate(&mut random);
        let built = load(&json);
        let view = Fabric::new(&built, None);
        let ids: Vec<_> = built
            .rule_ids()
            .filter(|id| view.in_force(built.rule(*id)))
            .collect();
        let Some(id) = (!ids.is_empty()).then(|| ids[random.usize(0..ids.len())]) else {
            continue;
        };
        let changed = without(&json, &built.rule(id).origin.pointer());
        let (before, after) = (Evaluator::new(&json), Evaluator::new(&changed));
        let answer = to_value(&rule_answer(&view, id));
        let way = if id.direction == Direction::In {
            "in"
        } else {
            "out"
        };
        rules += 1;
        for _ in 0..150 {
            let at = random.usize(0..INTERFACES.len());
            let asked = packet(&mut random, &json["interfaces"][at], way);
            let fates = [&before, &after].map(|naive| naive.fate(INTERFACES[at], &asked, way).0);
            let here = |one: &&Value| {
                list(one, "interfaces")
                    .iter()
                    .any(|name| name == INTERFACES[at])
                    && holds(one, &asked, way)
            };
            let told: Vec<&Value> = list(&answer, "rests").iter().filter(here).collect();
            let says = |admitted: bool, perhaps: bool| {
                told.iter()
                    .any(|one| one["admitted"] == admitted && one["perhaps"] == perhaps)
            };
            // Entries are as wide as what is decided alike allows, so they are asked only where something changes.
            let right = match fates {
                [Fate::Admitted, Fate::Denied] => says(true, false),
                [Fate::Denied, Fate::Admitted] => says(false, false),
                [Fate::Unknown, Fate::Denied] | [Fate::Admitted, Fate::Unknown] => says(true, true),
                [Fate::Denied, Fate::Unknown] | [Fate::Unknown, Fate::Admitted] => {
                    says(false, true)
                }
                [Fate::Denied, Fate::Denied] => !says(true, false) && !says(false, false),
                _ => continue,
            };
            changes += usize::from(fates[0] != fates[1]);
            assert!(
                right,
                "seed {seed}, rule {}, {} {asked:?}: {fates:?}, told {told:#?}",
                built.rule_name(id),
                INTERFACES[at]
            );
        }
    }
    assert!(
        changes > 500 && rules > 200,
        "{changes} changes of {rules} rules"
    );
}

/// A witness as a packet.
fn from_witness(witness: &Value) -> Packet {
    let number = |field: &str| {
        witness[field]
            .as_u64()
            .map_or(0, |number| u16::try_from(number).unwrap())
    };
    let icmp = witness["icmp"].as_array().map(|pair| {
        u16::try_from(pair[0].as_u64().unwrap() * 256 + pair[1].as_u64().unwrap()).unwrap()
    });
    let address = |field: &str| text(witness, field).unwrap().parse().unwrap();
    Packet {
        source: address("source"),
        destination: address("destination"),
        protocol: u8::try_from(witness["protocol"].as_u64().unwrap()).unwrap(),
        low: icmp.unwrap_or_else(|| number("port")),
        source_port: number("source_port"),
    }
}

#[test]
fn every_witness_of_an_exposure_gets_in_and_its_reply_passes_and_what_is_told_open_is_open() {
    let mut witnesses = 0;
    for seed in 0..300 {
        let mut random = Rng::with_seed(seed);
        let mut json = estate(&mut random);
        with_ways_in(&mut random, &mut json);
        let (built, naive) = (load(&json), Evaluator::new(&json));
        let view = Fabric::new(&built, None);
        let answer = to_value(&exposure_answer(&view, None));
        for way in list(&answer, "ways") {
            let name = text(&way["interface"], "name").unwrap();
            for open in list(way, "open") {
                let packet = from_witness(&open["witness"]);
                assert_eq!(
                    naive.fate(name, &packet, "in").0,
                    Fate::Admitted,
                    "seed {seed}, {name}, {open:#}"
                );
                assert_eq!(
                    naive.reply_passes(name, &packet, "in"),
                    Some(true),
                    "seed {seed}, {name}, {open:#}"
                );
                assert!(
                    in_ranges(&open["sources"], packet.source)
                        && in_services(list(open, "services"), &packet),
                    "seed {seed}, {open:#}"
                );
                let internet = list(&open["sources"], "ranges").iter().all(|range| {
                    naive.is_internet(
                        range
                            .as_str()
                            .unwrap()
                            .split(['/', '-'])
                            .next()
                            .unwrap()
                            .parse()
                            .unwrap(),
                    )
                });
                assert!(internet, "seed {seed}: {:#}", open["sources"]);
                witnesses += 1;
            }
        }
        let exposed = to_value(&audit(&view));
        let with_findings: std::collections::BTreeSet<&str> = list(&exposed, "findings")
            .iter()
            .filter(|finding| text(finding, "kind") == Some("exposed"))
            .map(|finding| finding["place"]["pointer"].as_str().unwrap())
            .collect();
        let is_open = |way: &&Value| !list(way, "open").is_empty();
        let direct = list(&answer, "ways")
            .iter()
            .filter(is_open)
            .map(|way| &way["interface"]["place"]);
        let by_devices = list(&answer, "by_devices")
            .iter()
            .filter(is_open)
            .map(|way| &way["place"]);
        let open: std::collections::BTreeSet<&str> = direct
            .chain(by_devices)
            .map(|place| place["pointer"].as_str().unwrap())
            .collect();
        assert_eq!(with_findings, open, "seed {seed}");
        // The worst ways come first, and exposure and audit agree on how bad each is.
        let rank = |one: &Value| {
            ["urgent", "serious", "minor", "note"]
                .iter()
                .position(|word| one["severity"] == *word)
        };
        let ranks = |of: &str| {
            list(&answer, of)
                .iter()
                .filter_map(rank)
                .collect::<Vec<usize>>()
        };
        assert!(
            ranks("ways").is_sorted() && ranks("by_devices").is_sorted(),
            "seed {seed}"
        );
        let mut ways = [ranks("ways"), ranks("by_devices")].concat();
        ways.sort_unstable();
        let mut found: Vec<usize> = list(&exposed, "findings")
            .iter()
            .filter(|one| text(one, "kind") == Some("exposed"))
            .filter_map(rank)
            .collect();
        found.sort_unstable();
        assert_eq!(ways, found, "seed {seed}");
    }
    assert!(witnesses > 300, "{witnesses}");
}

#[test]
fn words_for_peers_mean_exactly_what_their_ranges_say() {
    for seed in 0..150 {
        let mut random = Rng::with_seed(seed);
        let json = estate(&mut random);
        let built = load(&json);
        let view = Fabric::new(&built, None);
        for id in built.interfaces.ids().take(2) {
            let answer = to_value(&effective_answer(&view, &class_of(&view, id), |_| None));
            for entry in list(&answer, "sides")
                .iter()
                .flat_map(|side| ["admitted", "left"].map(|field| list(side, field)))
                .flatten()
            {
                let said = text(&entry["traffic"]["peer"], "said").unwrap();
                let plain = !said.contains(|sign: char| sign.is_ascii_uppercase())
                    && said
                        .split(", ")
                        .all(|item| item.parse::<heronshale_sets::address::Block>().is_ok());
                if plain {
                    let words: Vec<Value> = said.split(", ").map(|item| json!(item)).collect();
                    assert_eq!(
                        entry["traffic"]["peer"]["ranges"],
                        Value::from(words),
                        "seed {seed}"
                    );
                }
                if said == "any" {
                    let whole = if text(&entry["traffic"], "family") == Some("ipv4") {
                        "0.0.0.0/0"
                    } else {
                        "::/0"
                    };
                    assert_eq!(
                        entry["traffic"]["peer"]["ranges"],
                        json!([whole]),
                        "seed {seed}"
                    );
                }
            }
        }
    }
}
