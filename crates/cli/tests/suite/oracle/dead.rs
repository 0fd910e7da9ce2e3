//! Dead rules of thousands of random lists, against the definitions applied cell by cell.
//!
//! The universe has 12 cells (four peers, three ports) and the rest of all packets, on which only rules about everything
//! differ. A set of cells is a bit mask.

use super::agreement::load;
use fastrand::Rng;
use heronshale_audit::dead::{Dead, How, dead_rules_within};
use heronshale_engine::binding::Bindings;
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::Direction;
use heronshale_sets::cover::Limits;
use serde_json::{Value, json};

const PEERS: [&str; 4] = ["10.1.0.1", "10.1.0.2", "10.1.0.3", "10.1.0.4"];
const PORTS: [&str; 3] = ["tcp 21", "tcp 22", "tcp 23"];
/// The thirteenth cell: all that no peer and port of the universe names.
const REST: u16 = 1 << 12;

#[derive(Clone, Debug)]
pub struct Rule {
    pub cells: u16,
    action: &'static str,
    priority: Option<u8>,
    stateless: bool,
    pub enabled: bool,
    pub ends: Option<&'static str>,
    pub index: usize,
}

fn subset(random: &mut Rng, count: usize) -> u16 {
    if random.u8(0..4) == 0 {
        (1 << count) - 1
    } else {
        random.u16(1..1 << count)
    }
}

fn rule(random: &mut Rng, form: &str, index: usize) -> (Rule, Value) {
    let (peers, ports) = (subset(random, 4), subset(random, 3));
    let everything = random.u8(0..12) == 0;
    let mut cells = if everything { REST } else { 0 };
    for at in 0..12 {
        let (peer, port) = (at / 3, at % 3);
        if everything || (peers >> peer & 1 == 1 && ports >> port & 1 == 1) {
            cells |= 1 << at;
        }
    }
    let mut written = json!({ "id": format!("r{index}") });
    if !everything {
        let pick = |mask: u16, all: &[&'static str]| {
            (0..all.len())
                .filter(|at| mask >> at & 1 == 1)
                .map(|at| all[at])
                .collect::<Vec<_>>()
        };
        written["peers"] = json!(pick(peers, &PEERS));
        written["services"] = json!(pick(ports, &PORTS));
    }
    let actions: &[&str] = match form {
        "union" => &["allow"],
        "policy" => &["allow", "deny", "reject", "allow-finally", "defer"],
        _ => &["allow", "allow", "deny", "deny", "reject"],
    };
    let action = actions[random.usize(0..actions.len())];
    let mut priority = None;
    if form != "union" {
        written["action"] = action.into();
        if random.u8(0..4) > 0 {
            priority = Some(random.u8(0..4));
            written["priority"] = priority.into();
        }
    }
    let stateless = random.u8(0..6) == 0;
    let enabled = random.u8(0..10) > 0;
    let ends = [
        None,
        None,
        None,
        None,
        Some("2026-12-01"),
        Some("2026-12-31"),
        Some("2026-10-01"),
    ][random.usize(0..7)];
    written["stateless"] = stateless.into();
    written["enabled"] = enabled.into();
    if let Some(ends) = ends {
        written["enforced_until"] = ends.into();
    }
    (
        Rule {
            cells,
            action: actions.iter().find(|known| **known == action).unwrap(),
            priority,
            stateless,
            enabled,
            ends,
            index,
        },
        written,
    )
}

fn snapshot(form: &str, rules: &[Value], default: &str) -> Value {
    let mut estate = json!({
        "format": "heronshale-snapshot", "version": 1,
        "estate": { "name": "lists", "taken": "2026-11-02T06:00:00Z" },
        "networks": [{ "id": "n", "blocks": ["10.0.0.0/16"] }],
        "subnets": [{ "id": "s", "network": "n", "blocks": ["10.0.0.0/24"] }],
        "interfaces": [{ "id": "i", "subnet": "s", "addresses": ["10.0.0.4"] }],
    });
    match form {
        "acl" => {
            estate["network_acls"] = json!([{ "id": "f", "inbound": rules }]);
            estate["subnets"][0]["acl"] = "f".into();
        }
        "policy" => {
            estate["scope_policies"] = json!([{ "id": "f", "scope": "estate", "inbound": rules }])
        }
        "own" => {
            estate["own_firewalls"] = json!([{ "id": "f", "default_inbound": default, "default_outbound": "allow", "inbound": rules }]);
            estate["interfaces"][0]["own_firewall"] = "f".into();
        }
        _ => {
            estate["security_groups"] = json!([{ "id": "f", "form": form, "inbound": rules }]);
            if form == "ordered" {
                estate["security_groups"][0]["default_inbound"] = default.into();
            }
            estate["interfaces"][0]["groups"] = json!(["f"]);
        }
    }
    estate
}

/// What a list decides about a cell, at a date (a bare date as text): the action and whether state is kept.
pub fn decide(
    rules: &[Rule],
    form: &str,
    default: &str,
    cell: u16,
    now: &str,
    without: Option<usize>,
) -> (String, bool) {
    let in_force = |rule: &&Rule| {
        rule.enabled && rule.ends.is_none_or(|end| end >= now) && Some(rule.index) != without
    };
    let mut hits = rules
        .iter()
        .filter(in_force)
        .filter(|rule| rule.cells & cell != 0);
    if form == "union" {
        let hits: Vec<&Rule> = hits.collect();
        return match hits.is_empty() {
            true => ("deny".to_owned(), true),
            false => ("allow".to_owned(), hits.iter().all(|rule| !rule.stateless)),
        };
    }
    match hits.next() {
        Some(rule) => {
            let (action, keeps) = decision(rule, form);
            (action.to_owned(), keeps)
        }
        None => match form {
            "acl" => ("deny".to_owned(), false),
            // Past the innermost policy all is let through, to the groups.
            "policy" => ("allow".to_owned(), true),
            _ => (default.to_owned(), true),
        },
    }
}

/// What a rule decides; past the innermost policy all that it defers is let through.
fn decision(rule: &Rule, form: &str) -> (&'static str, bool) {
    match rule.action {
        "defer" => ("allow", true),
        action => (action, form != "acl" && !rule.stateless),
    }
}

/// Dates at which anything may differ: today, and after each end.
pub const MOMENTS: [&str; 3] = ["2026-11-02", "2026-12-15", "2027-01-01"];

pub fn cells() -> impl Iterator<Item = u16> {
    (0..13).map(|at| 1 << at)
}

/// `shadowed` or `redundant` by the definitions; none: the rule does something.
pub fn expected(rules: &[Rule], at: usize, form: &str, default: &str) -> Option<&'static str> {
    let own = &rules[at];
    if !own.enabled || own.ends.is_some_and(|end| end < MOMENTS[0]) {
        return None;
    }
    let lives = |now: &&&str| own.ends.is_none_or(|end| end >= **now);
    let same = MOMENTS.iter().filter(lives).all(|now| {
        cells().filter(|cell| own.cells & cell != 0).all(|cell| {
            decide(rules, form, default, cell, now, None)
                == decide(rules, form, default, cell, now, Some(own.index))
        })
    });
    if !same {
        return None;
    }
    if form == "union" {
        return Some("redundant");
    }
    let earlier = |cell: u16, now: &str| {
        rules[..at].iter().find(|rule| {
            rule.enabled && rule.ends.is_none_or(|end| end >= now) && rule.cells & cell != 0
        })
    };
    let hidden = MOMENTS.iter().filter(lives).all(|now| {
        cells()
            .filter(|cell| own.cells & cell != 0)
            .all(|cell| earlier(cell, now).is_some())
    });
    let otherwise = cells().filter(|cell| own.cells & cell != 0).any(|cell| {
        earlier(cell, MOMENTS[0]).is_some_and(|rule| decision(rule, form) != decision(own, form))
    });
    Some(if hidden && otherwise {
        "shadowed"
    } else {
        "redundant"
    })
}

/// Whether an earlier rule takes a packet of a rule today and decides it otherwise.
fn is_partly_shadowed(rules: &[Rule], at: usize, form: &str) -> bool {
    let own = &rules[at];
    let there = |rule: &&Rule| rule.enabled && rule.ends.is_none_or(|end| end >= MOMENTS[0]);
    form != "union"
        && there(&own)
        && cells().filter(|cell| own.cells & cell != 0).any(|cell| {
            let first = rules[..at]
                .iter()
                .filter(there)
                .find(|rule| rule.cells & cell != 0);
            first.is_some_and(|rule| decision(rule, form) != decision(own, form))
        })
}

/// Whether the named covers take all of a rule, and none of them can be left out.
fn wrong_covers(rules: &[Rule], dead: &Dead, own: &Rule) -> Option<String> {
    let masks: Vec<u16> = dead
        .covers
        .iter()
        .map(|id| {
            rules
                .iter()
                .find(|rule| rule.index == id.index as usize)
                .unwrap()
                .cells
        })
        .collect();
    let all = masks.iter().fold(0, |sum, mask| sum | mask);
    if own.cells & !all != 0 {
        return Some(format!("covers {masks:?} leave some of {}", own.cells));
    }
    let spare = (0..masks.len()).find(|skip| {
        let others = masks
            .iter()
            .enumerate()
            .filter(|(at, _)| at != skip)
            .fold(0, |sum, (_, mask)| sum | mask);
        own.cells & !others == 0
    });
    spare.map(|at| format!("cover {at} of {masks:?} is not needed for {}", own.cells))
}

/// A random list: its form, its default, its rules in the order in which they are tried, and the snapshot.
pub fn random_list(random: &mut Rng) -> (&'static str, &'static str, Vec<Rule>, Value) {
    let form = ["union", "ordered", "acl", "policy", "own"][random.usize(0..5)];
    let default = ["allow", "deny", "reject"][random.usize(0..3)];
    let (mut rules, written): (Vec<Rule>, Vec<Value>) = (0..random.usize(1..7))
        .map(|index| rule(random, form, index))
        .unzip();
    if form != "union" {
        // Of equal priorities deny and reject come first; a rule without a priority comes last, as written.
        rules.sort_by_key(|rule| {
            (
                rule.priority.is_none(),
                rule.priority,
                rule.priority.is_some() && !matches!(rule.action, "deny" | "reject"),
            )
        });
    }
    let json = snapshot(form, &written, default);
    (form, default, rules, json)
}

pub fn try_list(
    seed: u64,
    counts: &mut std::collections::BTreeMap<String, usize>,
) -> Result<(), String> {
    let mut random = Rng::with_seed(seed);
    let (form, default, rules, json) = random_list(&mut random);
    let estate = load(&json);
    let view = Fabric::new(&estate, None);
    let bindings = Bindings::new(&view);
    // On this thread, where a seeded fault holds.
    let tiny = Limits {
        scanned: 0,
        bucket: 0,
        few: 1,
        between: 1,
        looks: 2,
        tried: 1,
        lemma: 1,
        steps: 1_000_000,
    };
    let limits = if random.bool() {
        tiny
    } else {
        Limits::default()
    };
    let all = estate
        .filters
        .ids()
        .flat_map(|filter| dead_rules_within(&view, &bindings, filter, limits));
    let (partly, found): (Vec<Dead>, Vec<Dead>) =
        all.partition(|dead| matches!(dead.how, How::PartlyShadowed(_)));
    for (at, own) in rules.iter().enumerate() {
        let dead = found.iter().find(|dead| {
            dead.rule.index as usize == own.index && dead.rule.direction == Direction::In
        });
        let says = dead.map(|dead| {
            if matches!(dead.how, How::Shadowed(_)) {
                "shadowed"
            } else {
                "redundant"
            }
        });
        let wanted = expected(&rules, at, form, default);
        *counts
            .entry(format!("{form} {}", wanted.unwrap_or("alive")))
            .or_default() += 1;
        if says != wanted {
            return Err(format!(
                "seed {seed}, {form}, default {default}, r{}: {says:?}, not {wanted:?}\n{json:#}",
                own.index
            ));
        }
        let wanted = wanted.is_none() && is_partly_shadowed(&rules, at, form);
        let partly = partly
            .iter()
            .find(|dead| dead.rule.index as usize == own.index);
        *counts.entry(format!("{form} partly")).or_default() += usize::from(wanted);
        if partly.is_some() != wanted {
            return Err(format!(
                "seed {seed}, {form}, r{}: partly {partly:?}, not {wanted}\n{json:#}",
                own.index
            ));
        }
        let Some(dead) = dead else { continue };
        if let How::Shadowed(packet) = &dead.how {
            let peer = PEERS
                .iter()
                .position(|peer| *peer == packet.source_address().to_string());
            let port = (packet.protocol() == 6)
                .then(|| {
                    [21, 22, 23]
                        .iter()
                        .position(|port| *port == packet.service & 0xFFFF)
                })
                .flatten();
            let cell = peer
                .zip(port)
                .map_or(REST, |(peer, port)| 1 << (peer * 3 + port));
            let (action, keeps) = decide(&rules, form, default, cell, MOMENTS[0], None);
            let as_own = (&*action, keeps) == decision(own, form);
            if own.cells & cell == 0 || as_own {
                return Err(format!(
                    "seed {seed}, r{}: {packet} is not a witness\n{json:#}",
                    own.index
                ));
            }
        }
        if (matches!(dead.how, How::Shadowed(_)) || form == "union")
            && let Some(what) = wrong_covers(&rules, dead, own)
        {
            return Err(format!(
                "seed {seed}, {form}, r{}: {what}\n{json:#}",
                own.index
            ));
        }
    }
    Ok(())
}

#[test]
fn dead_rules_equal_the_definitions_cell_by_cell() {
    let mut counts = std::collections::BTreeMap::new();
    for seed in 0..6_000 {
        try_list(seed, &mut counts).unwrap_or_else(|what| panic!("{what}"));
    }
    for form in ["ordered", "acl", "policy", "own"] {
        for verdict in ["alive", "shadowed", "redundant", "partly"] {
            assert!(
                counts
                    .get(&format!("{form} {verdict}"))
                    .is_some_and(|count| *count > 100),
                "{counts:?}"
            );
        }
    }
    assert!(
        counts
            .get("union redundant")
            .is_some_and(|count| *count > 100),
        "{counts:?}"
    );
}
