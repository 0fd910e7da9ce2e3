//! Findings about single rules and filters of random estates, against their definitions applied to the JSON: what is too wide, out of
//! date, impossible, could be one rule, or stands twice.

use super::agreement::load;
use super::naive::{list, text};
use fastrand::Rng;
use heronshale_audit::finding::findings;
use heronshale_engine::fabric::Fabric;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

/// Kind and JSON Pointer.
type Found = BTreeSet<(String, String)>;

const KINDS: [&str; 8] = [
    "mergeable",
    "same-meaning",
    "ipv6-wider",
    "mostly-empty-range",
    "overdue",
    "no-longer-enforced",
    "no-description",
    "impossible-match",
];

/// Peers with what they stand for, by bits: three parts of 198.51.100.0/25, the rest of public IPv4, two parts of public IPv6, and part
/// of the network itself.
const PEERS: [(&str, u8); 9] = [
    ("198.51.100.0/27", 0b000_0001),
    ("198.51.100.32/27", 0b000_0010),
    ("198.51.100.64/27", 0b000_0100),
    ("198.51.100.0/26", 0b000_0011),
    ("198.51.100.32-198.51.100.95", 0b000_0110),
    ("0.0.0.0/0", 0b100_1111),
    ("2001:db8::/32", 0b001_0000),
    ("2000::/3", 0b011_0000),
    ("10.65.0.0/17", 0b100_0000),
];
const V4: u8 = 0b000_1111;
const V6: u8 = 0b011_0000;
/// Where the blocks of [`PEERS`] begin and end, as far as they are single ranges of one family.
const SPANS: [(u8, u32, u32); 9] = [
    (4, 0, 0),
    (4, 1, 1),
    (4, 2, 2),
    (4, 0, 1),
    (4, 1, 2),
    (4, 0, 19),
    (6, 0, 0),
    (6, 0, 1),
    (4, 15, 15),
];

const SERVICES: [(&str, u32, u32); 6] = [
    ("tcp 20", 20, 20),
    ("tcp 21", 21, 21),
    ("tcp 20-21", 20, 21),
    ("tcp 22", 22, 22),
    ("icmpv6 128", 0, 0),
    ("icmp 8", 1, 1),
];

fn rule(random: &mut Rng, at: usize, ordered: bool) -> Value {
    let mut rule = json!({
        "id": format!("r{at}"),
        "services": SERVICES[random.usize(0..SERVICES.len())].0,
        "peers": PEERS[random.usize(0..PEERS.len())].0,
    });
    if ordered {
        rule["action"] = ["allow", "deny"][random.usize(0..2)].into();
    }
    if random.u8(0..8) == 0 {
        rule["review_by"] = ["2026-11-01", "2026-11-02", "2026-12-01"][random.usize(0..3)].into();
    }
    if random.u8(0..8) == 0 {
        rule["enforced_until"] =
            ["2026-11-01", "2026-11-02", "2026-12-01"][random.usize(0..3)].into();
    }
    if random.u8(0..3) > 0 {
        rule["description"] = ["why", " "][random.usize(0..2)].into();
    }
    if random.u8(0..10) == 0 {
        rule["enabled"] = false.into();
    }
    rule
}

fn estate(random: &mut Rng) -> Value {
    let mut groups = Vec::new();
    for at in 0..random.usize(1..4) {
        let ordered = random.bool();
        let rules: Vec<Value> = (0..random.usize(1..5))
            .map(|at| rule(random, at, ordered))
            .collect();
        let mut group = json!({ "id": format!("g{at}"), "inbound": rules });
        if ordered {
            group["form"] = "ordered".into();
        }
        groups.push(group);
    }
    // Now and then the same once more, in another order where that means the same.
    if random.u8(0..3) == 0 {
        let mut again = groups[0].clone();
        again["id"] = "again".into();
        if again.get("form").is_none() {
            again["inbound"].as_array_mut().unwrap().reverse();
        }
        groups.push(again);
    }
    let holders = random.usize(0..4) * 60;
    let interfaces: Vec<Value> = (0..=holders)
        .map(|at| json!({ "id": format!("i{at}"), "subnet": "s", "addresses": [format!("10.65.1.{}", at + 4)] }))
        .collect();
    json!({
        "format": "heronshale-snapshot", "version": 1,
        "estate": { "name": "wide", "taken": "2026-11-02T06:00:00Z" },
        "networks": [{ "id": "n", "blocks": ["10.65.0.0/16"] }],
        "subnets": [{ "id": "s", "network": "n", "blocks": ["10.65.1.0/24"] }],
        "interfaces": interfaces,
        "security_groups": groups,
    })
}

fn in_force(rule: &Value) -> bool {
    rule["enabled"] != Value::Bool(false)
        && text(rule, "enforced_until").is_none_or(|end| end >= "2026-11-02")
}

fn peer(rule: &Value) -> usize {
    PEERS
        .iter()
        .position(|(peer, _)| *peer == text(rule, "peers").unwrap())
        .unwrap()
}

fn service(rule: &Value) -> usize {
    SERVICES
        .iter()
        .position(|(service, ..)| *service == text(rule, "services").unwrap())
        .unwrap()
}

/// The cells that a rule matches: ports 20 to 22 and the two pings, times seven parts of the address space.
fn cells(rule: &Value) -> u64 {
    let (parts, (name, first, last)) = (PEERS[peer(rule)].1, SERVICES[service(rule)]);
    let rows: Vec<u32> = if name.starts_with("tcp") {
        (first - 20..=last - 20).collect()
    } else {
        vec![3 + first]
    };
    let allowed = match name {
        "icmpv6 128" => V6,
        "icmp 8" => !V6,
        _ => 0xFF,
    };
    rows.into_iter()
        .fold(0, |sum, row| sum | u64::from(parts & allowed) << (row * 7))
}

fn action(rule: &Value) -> &str {
    text(rule, "action").unwrap_or("allow")
}

/// What a group decides about a cell.
fn admits(group: &Value, cell: u64) -> bool {
    let mut hits = list(group, "inbound")
        .iter()
        .filter(|rule| in_force(rule) && cells(rule) & cell != 0);
    if text(group, "form").is_none() {
        hits.next().is_some()
    } else {
        hits.next().is_some_and(|rule| action(rule) == "allow")
    }
}

fn all_cells() -> impl Iterator<Item = u64> {
    (0..35).map(|at| 1 << at)
}

/// Groups of rules that could be one, each by its first rule: linked one by one wherever two ranges touch.
fn mergeable(group: &Value, dead: &BTreeSet<usize>) -> BTreeSet<usize> {
    let rules = list(group, "inbound");
    let of_interest: Vec<usize> = (0..rules.len())
        .filter(|at| in_force(&rules[*at]) && !dead.contains(at))
        .collect();
    let same = |a: &Value, b: &Value, field: &str| a.get(field) == b.get(field);
    let mut found = BTreeSet::new();
    for by_peer in [true, false] {
        let touch = |a: usize, b: usize| {
            let (one, other) = (&rules[a], &rules[b]);
            if !same(one, other, "enforced_until") || action(one) != action(other) {
                return false;
            }
            if by_peer {
                let ((f, a, b), (g, c, d)) = (SPANS[peer(one)], SPANS[peer(other)]);
                f == g && same(one, other, "services") && a <= d + 1 && c <= b + 1
            } else {
                let ((n, a, b), (m, c, d)) = (SERVICES[service(one)], SERVICES[service(other)]);
                n.starts_with("tcp")
                    && m.starts_with("tcp")
                    && same(one, other, "peers")
                    && a <= d + 1
                    && c <= b + 1
            }
        };
        let mut left: BTreeSet<usize> = of_interest.iter().copied().collect();
        while let Some(first) = left.pop_first() {
            let mut run = vec![first];
            while let Some(next) = left
                .iter()
                .copied()
                .find(|at| run.iter().any(|other| touch(*other, *at)))
            {
                left.remove(&next);
                run.push(next);
            }
            run.sort_unstable();
            let (first, last) = (run[0], run[run.len() - 1]);
            let crossed = text(group, "form").is_some()
                && (first..last).any(|at| {
                    !run.contains(&at)
                        && in_force(&rules[at])
                        && action(&rules[at]) != action(&rules[first])
                        && run
                            .iter()
                            .any(|own| cells(&rules[*own]) & cells(&rules[at]) != 0)
                });
            if run.len() > 1 && !crossed {
                found.insert(first);
            }
        }
    }
    found
}

fn expected(json: &Value, dead: &BTreeMap<String, BTreeSet<usize>>) -> Found {
    let mut found = Found::new();
    let groups = list(json, "security_groups");
    let held = list(json, "interfaces").len();
    let says =
        |rule: &Value| text(rule, "description").is_some_and(|words| !words.trim().is_empty());
    let any_says = groups
        .iter()
        .flat_map(|group| list(group, "inbound"))
        .any(says);
    // By what groups mean: names and places.
    type Meaning = (bool, Vec<bool>);
    let mut known: Vec<(Meaning, Vec<(String, String)>)> = Vec::new();
    for (nth, group) in groups.iter().enumerate() {
        let at_group = format!("/security_groups/{nth}");
        let mut add = |kind: &str, pointer: String| found.insert((kind.to_owned(), pointer));
        let rules = list(group, "inbound");
        for (at, rule) in rules.iter().enumerate() {
            let here = format!("{at_group}/inbound/{at}");
            let ended = text(rule, "enforced_until").is_some_and(|end| end < "2026-11-02");
            if rule["enabled"] != Value::Bool(false) && ended {
                add("no-longer-enforced", here.clone());
            }
            if !in_force(rule) {
                continue;
            }
            if text(rule, "review_by").is_some_and(|by| by < "2026-11-02") {
                add("overdue", here.clone());
            }
            if cells(rule) == 0 {
                add("impossible-match", here.clone());
            }
            // 10.65.0.0/17 has 32,768 addresses, 1 in 256 is 128.
            if PEERS[peer(rule)].0 == "10.65.0.0/17"
                && action(rule) == "allow"
                && held * 256 <= 32_768
            {
                add("mostly-empty-range", here);
            }
        }
        if any_says && rules.iter().any(|rule| in_force(rule) && !says(rule)) {
            add("no-description", at_group.clone());
        }
        let wide = (0..3).any(|row| {
            let from = |parts: u8| {
                (0..7)
                    .filter(move |part| parts >> part & 1 == 1)
                    .map(move |part| 1 << (row * 7 + part))
            };
            let all_of_six = from(V6).all(|cell| admits(group, cell));
            let some_of_four = from(V4 | 0b100_0000).any(|cell| admits(group, cell));
            all_of_six && some_of_four && !from(V4).all(|cell| admits(group, cell))
        });
        if wide {
            add("ipv6-wider", at_group.clone());
        }
        for first in mergeable(group, &dead[text(group, "id").unwrap()]) {
            add("mergeable", format!("{at_group}/inbound/{first}"));
        }
        let meaning = (
            text(group, "form").is_some(),
            all_cells()
                .map(|cell| admits(group, cell))
                .collect::<Vec<_>>(),
        );
        if rules.iter().any(in_force) {
            let same = (text(group, "id").unwrap().to_owned(), at_group);
            match known.iter_mut().find(|(other, _)| *other == meaning) {
                Some((_, all)) => all.push(same),
                None => known.push((meaning, vec![same])),
            }
        }
    }
    // Of those that mean the same the first by name stays.
    for (_, mut all) in known {
        all.sort();
        found.extend(
            all.into_iter()
                .skip(1)
                .map(|(_, at)| ("same-meaning".to_owned(), at)),
        );
    }
    found
}

#[test]
fn findings_about_rules_equal_their_definitions() {
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for seed in 0..1_500 {
        let mut random = Rng::with_seed(seed);
        let json = estate(&mut random);
        let built = load(&json);
        let all = findings(&Fabric::new(&built, None));
        let mut dead: BTreeMap<String, BTreeSet<usize>> = BTreeMap::new();
        for group in list(&json, "security_groups") {
            dead.insert(text(group, "id").unwrap().to_owned(), BTreeSet::new());
        }
        let mut found = Found::new();
        for finding in &all {
            let pointer = finding
                .place
                .as_ref()
                .map(|place| place.pointer.clone())
                .unwrap_or_default();
            if ["shadowed", "redundant"].contains(&finding.kind.as_str()) {
                let mut parts = pointer
                    .split('/')
                    .skip(2)
                    .step_by(2)
                    .map(|part| part.parse::<usize>().unwrap());
                let (group, at) = (parts.next().unwrap(), parts.next().unwrap());
                let id = text(&json["security_groups"][group], "id").unwrap();
                dead.get_mut(id).unwrap().insert(at);
            } else if KINDS.contains(&finding.kind.as_str()) {
                found.insert((finding.kind.clone(), pointer));
            }
        }
        let wanted = expected(&json, &dead);
        let (missed, spurious): (Vec<_>, Vec<_>) = (
            wanted.difference(&found).collect(),
            found.difference(&wanted).collect(),
        );
        assert!(
            missed.is_empty() && spurious.is_empty(),
            "seed {seed}: missed {missed:?}, spurious {spurious:?}\n{json:#}"
        );
        wanted
            .into_iter()
            .for_each(|(kind, _)| *counts.entry(kind).or_default() += 1);
    }
    assert!(
        KINDS
            .iter()
            .all(|kind| counts.get(*kind).is_some_and(|count| *count > 50)),
        "{counts:?}"
    );
}
