//! Direct exposure of thousands of random estates, against a naive walk of one packet and its reply.

use super::agreement::{from_engine, load, to_engine};
use super::estates::{INTERFACES, estate, packet};
use super::naive::{Evaluator, Fate, Packet, list, reply_to, text};
use super::routes::{one_of, winners, with_ways_in};
use super::topology;
use super::walker::{From, V, Walker};
use fastrand::Rng;
use heronshale_audit::describe::RuleFact;
use heronshale_audit::expect::Judging;
use heronshale_audit::exposure::{HeldBy, Verdict, device_ways, direct_ways};
use heronshale_audit::facts::{Decided, Decider, device_way_fact, way_fact};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::judgement::By;
use heronshale_sets::address::{Family, address_of};
use serde_json::Value;
use std::collections::BTreeMap;

/// What becomes of a connection: `works`, `some`, `unknown`, or `not`, with where it ends.
fn naive_verdict(
    json: &Value,
    naive: &Evaluator<'_>,
    at: usize,
    asked: &Packet,
) -> (&'static str, &'static str) {
    let interface = &json["interfaces"][at];
    let find = |section: &str, id: &str| {
        list(json, section)
            .iter()
            .find(|item| text(item, "id") == Some(id))
            .unwrap()
    };
    let subnet = find("subnets", text(interface, "subnet").unwrap());
    let network = find("networks", text(subnet, "network").unwrap());
    let id = text(network, "id").unwrap();
    let gateway = list(json, "gateways")
        .iter()
        .find(|g| text(g, "kind") == Some("internet") && text(g, "network") == Some(id));
    if gateway.is_none_or(|gateway| gateway.get("attached") == Some(&Value::Bool(false))) {
        return ("not", "no gateway");
    }
    if [subnet, network]
        .iter()
        .any(|place| text(place, "internet_traffic").is_some_and(|word| word != "both_ways"))
    {
        return ("not", "blocked");
    }
    let own = format!("gateway:ig-{id}");
    let routes = winners(json, naive, interface, asked.source);
    let good = routes.iter().filter(|hop| **hop == own).count();
    let perhaps = routes
        .iter()
        .any(|hop| hop == "unknown" || hop.starts_with("interface:"));
    let lost = reply_to(asked).is_some() && good == 0 && !perhaps;
    match naive.fate(INTERFACES[at], asked, "in").0 {
        Fate::Denied => return ("not", "denied"),
        Fate::Unknown if lost => return ("not", "request or reply"),
        Fate::Unknown if naive.never_passes(INTERFACES[at], asked, "in") => {
            return ("not", "request or reply");
        }
        Fate::Unknown => return ("unknown", "request"),
        Fate::Admitted => {}
    }
    if reply_to(asked).is_none() {
        return ("works", "one-way");
    }
    match naive.reply_passes(INTERFACES[at], asked, "in") {
        _ if good == 0 && perhaps => ("unknown", "route"),
        _ if good == 0 => ("not", "reply lost"),
        None => ("unknown", "reply"),
        Some(false) => ("not", "reply denied"),
        Some(true) if good == routes.len() => ("works", "there and back"),
        Some(true) => ("some", "routes"),
    }
}

pub fn try_estate(
    seed: u64,
    seen: &mut BTreeMap<(&'static str, &'static str), usize>,
) -> Result<(), String> {
    let mut random = Rng::with_seed(seed);
    let mut json = estate(&mut random);
    with_ways_in(&mut random, &mut json);
    let built = load(&json);
    let naive = Evaluator::new(&json);
    let view = Fabric::new(&built, None);
    let ways = direct_ways(&view);
    for _ in 0..40 {
        let at = [0, 0, 2, 2, 3][random.usize(0..5)];
        let mut asked = packet(&mut random, &json["interfaces"][at], "in");
        let outside = if asked.source.is_ipv4() {
            ["203.0.113.200", "8.8.8.8", "200.1.1.1"]
        } else {
            ["2001:db9::1", "2001:db8:ffff::1", "2a00::1"]
        };
        asked.source = one_of(&mut random, &outside).parse().unwrap();
        if matches!(asked.protocol, 6 | 17 | 132) {
            asked.source_port = random.u16(2000..2004);
        }
        let engine = to_engine(&asked);
        let name = INTERFACES[at];
        let way = ways.iter().find(|way| {
            &*built.interfaces[way.interface].name == name && way.family == engine.family
        });
        let Some(way) = way else {
            // No public address of this family, or devices on the way: nothing is asked here.
            continue;
        };
        let holding: Vec<_> = way
            .parts
            .iter()
            .filter(|part| part.packets.contains(&engine))
            .collect();
        let [part] = holding.as_slice() else {
            return Err(format!(
                "seed {seed}, {asked:?}: in {} parts",
                holding.len()
            ));
        };
        let (verdict, why) = naive_verdict(&json, &naive, at, &asked);
        *seen.entry((verdict, why)).or_default() += 1;
        let says = match &part.verdict {
            Verdict::Works => "works",
            Verdict::WorksForPorts(ports) if ports.contains(asked.source_port.into()) => "works",
            Verdict::WorksForRoutes => "some",
            Verdict::Unknown => "unknown",
            _ => "not",
        };
        // "Unknown" for the reply is said of all client ports together, so one of them may well be certain.
        let open_reply = [
            "there and back",
            "reply denied",
            "routes",
            "request or reply",
        ]
        .contains(&why);
        let open_reply = says == "unknown" && open_reply;
        if says != verdict && !open_reply {
            return Err(format!(
                "seed {seed}, {name}, {asked:?}: {:?}, not {verdict} ({why})",
                part.verdict
            ));
        }
    }
    Ok(())
}

#[test]
fn direct_exposure_equals_a_naive_walk_there_and_back() {
    let mut seen = BTreeMap::new();
    for seed in 0..3_000 {
        try_estate(seed, &mut seen).unwrap_or_else(|what| panic!("{what}"));
    }
    let total: usize = seen.values().sum();
    for verdict in ["works", "some", "unknown", "not"] {
        let count: usize = seen
            .iter()
            .filter(|((says, _), _)| *says == verdict)
            .map(|(_, count)| count)
            .sum();
        assert!(
            count * 100 >= total,
            "{verdict}: {count} of {total}: {seen:?}"
        );
    }
    for why in [
        "no gateway",
        "blocked",
        "denied",
        "reply lost",
        "reply denied",
    ] {
        assert!(
            seen.iter()
                .any(|((_, because), count)| *because == why && *count > total / 200),
            "{why}: {seen:?}"
        );
    }
}

#[test]
fn exposure_by_devices_equals_a_naive_walk_packet_by_packet() {
    let mut seen: BTreeMap<(bool, V), usize> = BTreeMap::new();
    for seed in 0..700 {
        let mut random = Rng::with_seed(seed);
        let json = topology::estate(&mut random);
        let built = load(&json);
        let view = Fabric::new(&built, None);
        let walker = Walker::new(&json);
        let ways = device_ways(&view);
        for way in &ways {
            let addresses: Vec<_> = way.addresses.ranges().collect();
            for _ in 0..8 {
                let range = addresses[random.usize(0..addresses.len())];
                let destination = address_of(range.family, range.first);
                let source = match range.family {
                    Family::V4 => ["8.8.8.8", "200.1.1.1"][random.usize(0..2)],
                    Family::V6 => "2a00::8",
                };
                let (protocol, low) =
                    [(6, 443), (6, 443), (6, 80), (17, 53), (6, 8443)][random.usize(0..5)];
                let asked = Packet {
                    source: source.parse().unwrap(),
                    destination,
                    protocol,
                    low,
                    source_port: 3000,
                };
                let wanted = walker.verdict(&From::Internet, asked, None, "3000-3001");
                let packet = to_engine(&asked);
                let part = way.parts.iter().find(|part| part.packets.contains(&packet));
                let Some(part) = part else {
                    panic!("seed {seed}: {asked:?} is in no part of {:?}", way.by)
                };
                let found = super::walks::engine_verdict(part.judged.verdict);
                assert_eq!(found, wanted, "seed {seed}, {:?}, {asked:?}", way.by);
                *seen
                    .entry((matches!(way.by, HeldBy::Interface(_)), found))
                    .or_default() += 1;
            }
        }
    }
    for (direct, verdict) in [
        (true, V::Works),
        (true, V::Denied),
        (false, V::Works),
        (false, V::Some),
        (false, V::Lost),
    ] {
        assert!(
            seen.get(&(direct, verdict))
                .is_some_and(|count| *count >= 40),
            "{direct} {verdict:?}: {seen:?}"
        );
    }
}

/// An estate with some rules switched off.
fn without(json: &Value, pointers: &[&str]) -> Value {
    let mut json = json.clone();
    for pointer in pointers {
        json.pointer_mut(pointer).unwrap()["enabled"] = Value::Bool(false);
    }
    json
}

#[test]
fn every_named_piece_is_needed_and_without_it_the_way_is_closed() {
    let mut tried = [0; 4];
    for seed in 0..1_500 {
        let mut random = Rng::with_seed(seed);
        let mut json = estate(&mut random);
        with_ways_in(&mut random, &mut json);
        let built = load(&json);
        let view = Fabric::new(&built, None);
        let judging = Judging::new(&view);
        for way in direct_ways(&view) {
            let open = |json: &Value, packet: &heronshale_sets::packet::Packet| {
                let built = load(json);
                let view = Fabric::new(&built, None);
                direct_ways(&view)
                    .iter()
                    .any(|other| other.open().contains(packet))
            };
            let fact = way_fact(&view, &way, &judging.direct(&way));
            for part in way.parts.iter().filter(|part| part.verdict.is_open()) {
                let Some(packet) = part.packets.witness() else {
                    continue;
                };
                // Parts that fare differently may have one set of rules.
                let alike: Vec<_> = fact
                    .open
                    .iter()
                    .filter(|one| {
                        let by = |decided: &Decided| match &decided.decider {
                            Decider::Rule { rule } => Some(rule.place.clone()),
                            _ => None,
                        };
                        let judged =
                            part.way
                                .judgements
                                .iter()
                                .map(|judgement| match judgement.by {
                                    By::Rule(id) => {
                                        Some(built.sources.place(&built.rule(id).origin))
                                    }
                                    _ => None,
                                });
                        one.decided.iter().map(by).eq(judged)
                    })
                    .collect();
                assert!(!alike.is_empty(), "seed {seed}: a part is not told");
                for (at, decided) in alike[0].decided.iter().enumerate() {
                    let Decider::Rule { rule } = &decided.decider else {
                        continue;
                    };
                    // Where the first match decides, the rule as a denial closes it.
                    if decided.also.is_empty() && written(&json, rule).is_some() {
                        tried[3] += 1;
                        assert!(
                            !open(&refusing(&json, &[rule]), &packet),
                            "seed {seed}: open by {rule:?}: {packet}"
                        );
                    }
                    if !decided.stage.word().contains("groups")
                        || !rule.place.pointer.starts_with("/security_groups")
                    {
                        continue;
                    }
                    let also = alike.iter().flat_map(|one| &one.decided[at].also);
                    let all: Vec<&str> = std::iter::once(rule)
                        .chain(also)
                        .map(|rule| rule.place.pointer.as_str())
                        .collect();
                    let group: Vec<&str> = rule.place.pointer.split('/').collect();
                    if json["security_groups"][group[2].parse::<usize>().unwrap()]["form"]
                        == "ordered"
                    {
                        continue;
                    }
                    tried[0] += 1;
                    assert!(
                        !open(&without(&json, &all), &packet),
                        "seed {seed}: open without {all:?}: {packet}"
                    );
                    tried[1] += usize::from(all.len() > 1);
                }
                // Without the gateway nothing is left.
                let mut loose = json.clone();
                for gateway in loose["gateways"].as_array_mut().unwrap() {
                    if gateway["kind"] == "internet" {
                        gateway["attached"] = Value::Bool(false);
                    }
                }
                tried[2] += 1;
                assert!(
                    !open(&loose, &packet),
                    "seed {seed}: open without a gateway"
                );
            }
        }
    }
    assert!(
        tried[0] >= 200 && tried[1] >= 20 && tried[2] >= 400 && tried[3] >= 200,
        "{tried:?}"
    );
}

/// An estate with some rules that let nothing through: turned into denials where rules have an action, else switched off.
fn refusing(json: &Value, rules: &[&RuleFact]) -> Value {
    let mut json = json.clone();
    for rule in rules {
        let written = json
            .pointer_mut(&rule.place.pointer)
            .unwrap_or_else(|| panic!("{rule:?}"));
        if written.get("action").is_some() {
            written["action"] = "deny".into();
        } else {
            written["enabled"] = Value::Bool(false);
        }
    }
    json
}

#[test]
fn without_any_piece_that_is_named_a_way_by_devices_is_closed() {
    let mut tried: BTreeMap<(String, bool), usize> = BTreeMap::new();
    for seed in 0..1_500 {
        let mut random = Rng::with_seed(seed);
        let json = topology::estate(&mut random);
        let built = load(&json);
        let view = Fabric::new(&built, None);
        let judging = Judging::new(&view);
        for way in &device_ways(&view) {
            let fact = device_way_fact(&view, way, &judging.by_device(way));
            let open = fact
                .open
                .iter()
                .filter(|part| part.verdict == heronshale_engine::walk::Verdict::Works);
            for part in open {
                let Some(packet) =
                    way.parts
                        .iter()
                        .filter_map(|part| part.example)
                        .find(|packet| {
                            part.witness.as_ref().is_some_and(|witness| {
                                *witness == heronshale_audit::describe::witness(packet)
                            })
                        })
                else {
                    continue;
                };
                let asked = from_engine(&packet);
                let verdict = |json: &Value| {
                    Walker::new(json).verdict(&From::Internet, asked, None, "3000-3001")
                };
                assert_eq!(verdict(&json), V::Works, "seed {seed}: {asked:?}");
                for rule in &part.rules {
                    let kind = rule.place.pointer.split('/').nth(1).unwrap().to_owned();
                    let section =
                        |one: &RuleFact| one.place.pointer.split('/').nth(1).unwrap().to_owned();
                    // Of union groups any one lets in, so that all have to go.
                    let alike = |one: &&RuleFact| {
                        **one == *rule
                            || kind == "security_groups"
                                && section(one) == kind
                                && written(&json, one).is_none()
                    };
                    let gone: Vec<&RuleFact> = part.rules.iter().filter(alike).collect();
                    let then = verdict(&refusing(&json, &gone));
                    assert_ne!(
                        then,
                        V::Works,
                        "seed {seed}: {asked:?} works without {gone:?}"
                    );
                    *tried.entry((kind, then == V::Some)).or_default() += 1;
                }
            }
        }
    }
    for (kind, least) in [
        ("network_acls", 100),
        ("security_groups", 30),
        ("own_firewalls", 10),
        ("firewall_policies", 10),
    ] {
        assert!(
            tried
                .get(&(kind.to_owned(), false))
                .is_some_and(|count| *count >= least),
            "{kind}: {tried:?}"
        );
    }
}

/// The action as it is written.
fn written<'j>(json: &'j Value, rule: &RuleFact) -> Option<&'j Value> {
    json.pointer(&rule.place.pointer).unwrap().get("action")
}
