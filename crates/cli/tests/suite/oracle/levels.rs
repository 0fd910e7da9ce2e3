//! Dead rules across filters of one stage, cell by cell: policies of several levels, groups that are bound together, firewall
//! policies with bases, classes, sections and zones, and translations.
//!
//! The universe has 12 cells (four peers, three ports), times nine pairs of zones where there are zones (two, and none).

use super::agreement::load;
use fastrand::Rng;
use heronshale_audit::dead::{How, dead_rules, dead_translations};
use heronshale_engine::binding::Bindings;
use heronshale_engine::fabric::Fabric;
use serde_json::{Value, json};
use std::collections::BTreeMap;

const PEERS: [&str; 4] = [
    "198.51.100.1",
    "198.51.100.2",
    "198.51.100.3",
    "198.51.100.4",
];
const PORTS: [&str; 3] = ["tcp 21", "tcp 22", "tcp 23"];
const ZONES: [&str; 2] = ["inside", "outside"];

/// Cells as bits: peer, port, zone in, zone out (2 is none).
type Cells = u128;

#[derive(Clone, Debug)]
struct Rule {
    id: String,
    cells: Cells,
    action: String,
}

fn bits(random: &mut Rng, count: usize) -> u8 {
    if random.u8(0..3) == 0 {
        (1 << count) - 1
    } else {
        random.u8(1..1 << count)
    }
}

fn pick<'t>(mask: u8, all: &[&'t str]) -> Vec<&'t str> {
    (0..all.len())
        .filter(|at| mask >> at & 1 == 1)
        .map(|at| all[at])
        .collect()
}

fn cell(peer: usize, port: usize, from: usize, to: usize) -> Cells {
    1 << (((peer * 3 + port) * 3 + from) * 3 + to)
}

fn all_cells(zones: bool) -> Vec<Cells> {
    let side = if zones { 3 } else { 1 };
    let mut all = Vec::new();
    for at in 0..12 {
        (0..side)
            .for_each(|from| (0..side).for_each(|to| all.push(cell(at / 3, at % 3, from, to))));
    }
    all
}

/// A rule, and how it is written; `peers` is the field for the other side.
fn rule(random: &mut Rng, id: &str, actions: &[&str], peers: &str, zones: bool) -> (Rule, Value) {
    let (of_peers, of_ports) = (bits(random, 4), bits(random, 3));
    let action = actions[random.usize(0..actions.len())];
    let mut written =
        json!({ "id": id, peers: pick(of_peers, &PEERS), "services": pick(of_ports, &PORTS) });
    if actions.len() > 1 {
        written["action"] = action.into();
    }
    let mut zone = |name: &str| {
        if !zones || random.bool() {
            return 0b111;
        }
        let mask = random.u8(1..4);
        written[name] = json!(pick(mask, &ZONES));
        mask
    };
    let (from, to) = (zone("from_zones"), zone("to_zones"));
    let mut cells = 0;
    for at in 0..12 {
        if of_peers >> (at / 3) & 1 == 1 && of_ports >> (at % 3) & 1 == 1 {
            for pair in
                (0..9).filter(|pair| from >> (pair / 3) & 1 == 1 && to >> (pair % 3) & 1 == 1)
            {
                cells |= cell(at / 3, at % 3, pair / 3, pair % 3);
            }
        }
    }
    (
        Rule {
            id: id.to_owned(),
            cells,
            action: action.to_owned(),
        },
        written,
    )
}

fn rules(
    random: &mut Rng,
    prefix: &str,
    most: usize,
    actions: &[&str],
    peers: &str,
    zones: bool,
) -> (Vec<Rule>, Vec<Value>) {
    let count = random.usize(1..=most);
    (0..count)
        .map(|at| rule(random, &format!("{prefix}{at}"), actions, peers, zones))
        .unzip()
}

/// Who decides a cell, level by level: a deferring rule leaves it to the next level.
fn decide<'l>(levels: &'l [Vec<Rule>], default: &'l str, cell: Cells, without: &str) -> &'l str {
    for level in levels {
        match level
            .iter()
            .find(|rule| rule.id != without && rule.cells & cell != 0)
        {
            Some(rule) if rule.action != "defer" => return &rule.action,
            _ => {}
        }
    }
    default
}

/// What is said of a rule of the innermost level by the definitions.
fn expected(
    levels: &[Vec<Rule>],
    own: &Rule,
    default: &str,
    cells: &[Cells],
) -> Option<&'static str> {
    let (inner, outer) = levels.split_last().unwrap();
    let at = inner.iter().position(|rule| rule.id == own.id).unwrap();
    let mine: Vec<Cells> = cells
        .iter()
        .copied()
        .filter(|cell| own.cells & cell != 0)
        .collect();
    // Who takes a cell before the rule: a level above that decides it, or an earlier rule of its own list.
    let before = |cell: Cells| {
        let above = outer.iter().find_map(|level| {
            level
                .iter()
                .find(|rule| rule.cells & cell != 0)
                .filter(|rule| rule.action != "defer")
        });
        above.or_else(|| inner[..at].iter().find(|rule| rule.cells & cell != 0))
    };
    let hidden = mine.iter().all(|cell| before(*cell).is_some());
    let otherwise = mine
        .iter()
        .any(|cell| before(*cell).is_some_and(|rule| rule.action != own.action));
    let inner_only = [inner.clone()];
    let seen = mine.iter().copied().filter(|cell| before(*cell).is_none());
    let same = seen.clone().all(|cell| {
        let next = inner_only[0][at + 1..]
            .iter()
            .find(|rule| rule.cells & cell != 0)
            .map_or(default, |rule| &rule.action);
        next == own.action
    });
    match (hidden, otherwise) {
        (true, true) => Some("shadowed"),
        (true, false) => Some("redundant"),
        (false, _) if same => Some("redundant"),
        (false, true) => Some("partly"),
        (false, false) => None,
    }
}

fn says(how: &How) -> &'static str {
    match how {
        How::Shadowed(_) => "shadowed",
        How::PartlyShadowed(_) => "partly",
        How::Redundant | How::RedundantByDefault => "redundant",
        How::Undecided => "undecided",
    }
}

/// The estate: one interface whose groups, policies and firewall are filled in.
fn frame() -> Value {
    json!({
        "format": "heronshale-snapshot", "version": 1,
        "estate": { "name": "lists", "taken": "2026-11-02T06:00:00Z" },
        "networks": [{ "id": "n", "blocks": ["10.0.0.0/16"] }],
        "subnets": [{ "id": "s", "network": "n", "blocks": ["10.0.0.0/24"] }],
        "interfaces": [{ "id": "i", "subnet": "s", "addresses": ["10.0.0.4"] }],
    })
}

/// Verdicts by rule id.
fn found(json: &Value) -> BTreeMap<String, (&'static str, bool)> {
    let built = load(json);
    let view = Fabric::new(&built, None);
    let dead = dead_rules(&view, &Bindings::new(&view));
    dead.iter()
        .map(|one| (built.rule_name(one.rule), (says(&one.how), one.across)))
        .collect()
}

#[test]
fn policies_below_others_are_judged_by_what_comes_down() {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for seed in 0..1_500 {
        let mut random = Rng::with_seed(seed);
        let actions = ["allow", "allow-finally", "deny", "deny", "defer", "defer"];
        let (outer, above) = rules(&mut random, "a", 3, &actions, "peers", false);
        let (inner, below) = rules(&mut random, "b", 4, &actions, "peers", false);
        let mut json = frame();
        json["scope_policies"] = json!([{ "id": "q", "scope": "network:n", "inbound": below }, { "id": "p", "scope": "estate", "inbound": above }]);
        let verdicts = found(&json);
        let levels = [outer, inner];
        for own in &levels[1] {
            // Past the innermost policy all is let through, what it defers too.
            let plain = |rule: &Rule| Rule {
                action: rule.action.replace("defer", "allow"),
                ..rule.clone()
            };
            let as_decided = [levels[0].clone(), levels[1].iter().map(plain).collect()];
            let wanted = expected(&as_decided, &plain(own), "allow", &all_cells(false));
            let is = verdicts.get(&own.id).map(|(how, _)| *how);
            assert_eq!(is, wanted, "seed {seed}, {}\n{json:#}", own.id);
            *counts.entry(wanted.unwrap_or("alive")).or_default() += 1;
            if wanted.is_some_and(|how| how != "partly") {
                let same = |cell: &Cells| {
                    decide(&levels, "allow", *cell, "") == decide(&levels, "allow", *cell, &own.id)
                };
                assert!(all_cells(false).iter().all(same), "seed {seed}, {}", own.id);
            }
        }
    }
    assert!(
        ["alive", "shadowed", "redundant", "partly"]
            .iter()
            .all(|how| counts.get(how).is_some_and(|c| *c > 100)),
        "{counts:?}"
    );
}

#[test]
fn groups_bound_together_everywhere_cover_one_another() {
    let mut across = 0;
    for seed in 0..1_500 {
        let mut random = Rng::with_seed(seed);
        let groups: Vec<(Vec<Rule>, Vec<Value>)> = (0..3)
            .map(|at| {
                rules(
                    &mut random,
                    &format!("g{at}-"),
                    3,
                    &["allow"],
                    "peers",
                    false,
                )
            })
            .collect();
        let mut json = frame();
        json["security_groups"] = groups
            .iter()
            .enumerate()
            .map(|(at, (_, rules))| json!({ "id": format!("g{at}"), "inbound": rules }))
            .collect();
        let mut bound: Vec<Vec<usize>> = Vec::new();
        json["interfaces"] = (0..random.usize(1..4))
            .map(|nth| {
                let mut here: Vec<usize> = (0..3).filter(|_| random.u8(0..3) > 0).collect();
                random.shuffle(&mut here);
                bound.push(here.clone());
                let names: Vec<String> = here.iter().map(|at| format!("g{at}")).collect();
                json!({ "id": format!("i{nth}"), "subnet": "s", "addresses": [format!("10.0.0.{}", nth + 4)], "groups": names })
            })
            .collect();
        let verdicts = found(&json);
        for (at, (own_rules, _)) in groups.iter().enumerate() {
            for own in own_rules {
                let without = |groups_here: &[usize]| {
                    let all = groups_here
                        .iter()
                        .flat_map(|at| &groups[*at].0)
                        .filter(|rule| rule.id != own.id);
                    own.cells & !all.fold(0, |sum, rule| sum | rule.cells) == 0
                };
                let alone = without(&[at]);
                let carriers: Vec<&Vec<usize>> =
                    bound.iter().filter(|here| here.contains(&at)).collect();
                let beside = !carriers.is_empty() && carriers.iter().all(|here| without(here));
                let wanted = (alone || beside).then_some(("redundant", !alone));
                across += usize::from(!alone && beside);
                assert_eq!(
                    verdicts.get(&own.id).copied(),
                    wanted,
                    "seed {seed}, {}\n{json:#}",
                    own.id
                );
            }
        }
    }
    assert!(across > 100, "{across}");
}

#[test]
fn firewall_policies_are_judged_in_their_order_zone_by_zone() {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for seed in 0..1_200 {
        let mut random = Rng::with_seed(seed);
        let actions = ["allow", "deny", "defer", "reject"];
        // Below a base that defers nothing zones are exact; what is deferred is deferred whatever the zones are.
        let (outer, above) = rules(&mut random, "a", 3, &actions[..2], "sources", true);
        let mut sections: Vec<(u32, bool, Vec<Rule>, Vec<Value>)> = (0..2)
            .map(|at| {
                let (list, written) = rules(
                    &mut random,
                    &format!("s{at}-"),
                    3,
                    &actions,
                    "sources",
                    true,
                );
                (random.u32(0..3) * 10, random.bool(), list, written)
            })
            .collect();
        let default = ["allow", "deny"][random.usize(0..2)];
        let written: Vec<Value> = sections
            .iter()
            .enumerate()
            .map(|(at, (priority, named, _, rules))| {
                let mut section =
                    json!({ "id": format!("s{at}"), "priority": priority, "rules": rules });
                if *named {
                    section["class"] = "first".into();
                }
                section
            })
            .collect();
        let mut json = frame();
        json["firewall_policies"] = json!([
            { "id": "base", "rules": above },
            { "id": "p", "base": "base", "default": default, "class_order": ["first"], "sections": written },
        ]);
        json["interfaces"][0]["forwards"] = true.into();
        json["firewalls"] = json!([{ "id": "fw", "interfaces": [{ "interface": "i", "zone": "inside" }], "policy": "p" }]);
        sections.sort_by_key(|(priority, named, ..)| (!named, *priority));
        let inner: Vec<Rule> = sections
            .into_iter()
            .flat_map(|(_, _, list, _)| list)
            .collect();
        let levels = [outer, inner];
        let verdicts = found(&json);
        for own in &levels[1] {
            let wanted = expected(&levels, own, default, &all_cells(true));
            let is = verdicts.get(&own.id).map(|(how, _)| *how);
            assert_eq!(
                is, wanted,
                "seed {seed}, {}, default {default}\n{json:#}",
                own.id
            );
            *counts.entry(wanted.unwrap_or("alive")).or_default() += 1;
        }
    }
    assert!(
        ["alive", "shadowed", "redundant", "partly"]
            .iter()
            .all(|how| counts.get(how).is_some_and(|c| *c > 50)),
        "{counts:?}"
    );
}

#[test]
fn translations_are_judged_like_rules() {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for seed in 0..1_500 {
        let mut random = Rng::with_seed(seed);
        let of_source = random.bool();
        let (list, mut written) = rules(
            &mut random,
            "t",
            5,
            &["10.0.0.8", "10.0.0.9"],
            "sources",
            true,
        );
        for one in &mut written {
            let fields = one.as_object_mut().unwrap();
            let to = fields.remove("action").unwrap();
            fields.insert("to".to_owned(), to);
            if !of_source {
                fields.remove("to_zones");
            }
        }
        // Destination translations do not know by which zone packets go out.
        let list: Vec<Rule> = list
            .into_iter()
            .map(|rule| {
                let wide = |cell: &Cells| {
                    let at = cell.trailing_zeros();
                    (0..3).any(|to| rule.cells >> (at / 3 * 3 + to) & 1 == 1)
                };
                let cells = if of_source {
                    rule.cells
                } else {
                    all_cells(true).iter().filter(|c| wide(c)).sum()
                };
                Rule { cells, ..rule }
            })
            .collect();
        let mut json = frame();
        json["interfaces"][0]["forwards"] = true.into();
        let kind = if of_source {
            "source_translations"
        } else {
            "destination_translations"
        };
        json["firewalls"] = json!([{ "id": "fw", "interfaces": [{ "interface": "i", "zone": "inside" }], kind: written }]);
        let built = load(&json);
        let dead = dead_translations(&Fabric::new(&built, None));
        let levels = [list];
        for (at, own) in levels[0].iter().enumerate() {
            let wanted =
                expected(&levels, own, "none", &all_cells(true)).filter(|how| *how != "partly");
            let is = dead
                .iter()
                .find(|one| one.index == at && one.of_source == of_source)
                .map(|one| says(&one.how));
            assert_eq!(is, wanted, "seed {seed}, {}\n{json:#}", own.id);
            *counts.entry(wanted.unwrap_or("alive")).or_default() += 1;
        }
    }
    assert!(
        ["alive", "shadowed", "redundant"]
            .iter()
            .all(|how| counts.get(how).is_some_and(|c| *c > 50)),
        "{counts:?}"
    );
}
