//! Orders of steps of random estates: every state in between is held against both ends by comparing it with each, and where no
//! order is said to be safe, none of all orders is.

use super::compared::{judged, pair, read};
use super::pick;
use fastrand::Rng;
use heronshale_change::{
    Difference as Changed, NoOrder, Order, Ordering, Outcome, Seen, compare_all, order,
};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::Verdict;
use heronshale_intake::Difference;
use heronshale_model::change::States;
use heronshale_model::estate::{Estate, Name};
use heronshale_sets::address::Addresses;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

/// What is done of the edits.
type Done = BTreeSet<usize>;

/// No state between two others.
struct None_;

impl States for None_ {
    fn edits(&self) -> Vec<heronshale_model::change::Edit> {
        Vec::new()
    }

    fn state(&self, _: &[usize]) -> Option<Estate> {
        None
    }
}

fn rank(outcome: &Outcome) -> Option<u8> {
    match outcome.verdict {
        Some(Verdict::Works) => Some(3),
        Some(Verdict::WorksForSome) => Some(2),
        Some(Verdict::Conditional) => Some(1),
        Some(Verdict::Unknown | Verdict::Undecided) => None,
        _ => Some(0),
    }
}

/// The firewalls that every way of some outcomes passes.
fn passed(outcomes: [&Outcome; 2], list: fn(&Seen) -> &Vec<Name>) -> BTreeSet<Name> {
    let ways = outcomes.into_iter().flat_map(|one| &one.ways);
    let sets = ways.map(|way| list(way).iter().cloned().collect::<BTreeSet<Name>>());
    sets.reduce(|all, one| all.intersection(&one).cloned().collect())
        .unwrap_or_default()
}

fn is_harm(old: &Outcome, here: &Outcome, new: &Outcome) -> bool {
    let (Some(first), Some(last)) = (rank(old), rank(new)) else {
        return false;
    };
    let Some(between) = rank(here) else {
        return true;
    };
    if between > first.max(last) || between < first.min(last) {
        return true;
    }
    let lists: [fn(&Seen) -> &Vec<Name>; 2] = [|way| &way.request, |way| &way.reply];
    first.min(last).min(between) > 0
        && lists.into_iter().any(|list| {
            let needed = passed([old, new], list);
            let mut ways = here.ways.iter();
            ways.any(|way| needed.iter().any(|one| !list(way).contains(one)))
        })
}

/// Whether something fares worse in a state than in two others, all compared with it.
fn is_harmful(old: &Fabric<'_>, here: &Fabric<'_>, new: &Fabric<'_>) -> bool {
    let differences = |end| compare_all((end, here), &None_, &judged).differences;
    let (before, after): (Vec<Changed>, Vec<Changed>) = (differences(old), differences(new));
    before.iter().any(|one| {
        after.iter().any(|other| {
            one.from == other.from
                && one.packets.overlaps(&other.packets)
                && is_harm(&one.old, &one.new, &other.old)
        })
    })
}

/// All that can be known of the states of a pair.
struct States_<'d> {
    difference: &'d Difference,
    harmful: BTreeMap<(Done, Done), Option<bool>>,
}

impl States_<'_> {
    /// Whether a state between OLD and another is harmful; none if one is no legal estate.
    fn harmful(&mut self, done: &Done, end: &Done) -> Option<bool> {
        let key = (done.clone(), end.clone());
        if let Some(known) = self.harmful.get(&key) {
            return *known;
        }
        let edits = self.difference.edits();
        let estate = |done: &Done| {
            let mut needs = done.iter().flat_map(|at| &edits[*at].needs);
            let closed = needs.all(|need| done.contains(need));
            let taken: Vec<usize> = done.iter().copied().collect();
            closed.then(|| self.difference.state(&taken)).flatten()
        };
        let found = (|| {
            let (old, here, new) = (estate(&Done::new())?, estate(done)?, estate(end)?);
            Some(is_harmful(&judged(&old), &judged(&here), &judged(&new)))
        })();
        self.harmful.insert(key, found);
        found
    }

    /// Whether some order leads to a set of edits without a harmful state.
    fn has_order(&mut self, steps: &[Vec<usize>], end: &Done) -> bool {
        let wanted: Vec<&Vec<usize>> = steps
            .iter()
            .filter(|step| step.iter().all(|at| end.contains(at)))
            .collect();
        let mut open = vec![Done::new()];
        let mut seen = BTreeSet::new();
        while let Some(done) = open.pop() {
            if done == *end {
                return true;
            }
            for step in &wanted {
                let mut next = done.clone();
                next.extend(step.iter());
                let fresh = next != done && seen.insert(next.clone());
                if fresh && (next == *end || self.harmful(&next, end) == Some(false)) {
                    open.push(next);
                }
            }
        }
        false
    }
}

fn steps(found: &Order) -> Vec<Vec<usize>> {
    found.steps.iter().map(|step| step.edits.clone()).collect()
}

/// Machines in groups that let each other in, one of them behind a firewall if the table says so.
fn yard(random: &mut Rng) -> Value {
    let mut groups = Vec::new();
    for name in ["g0", "g1", "g2"] {
        let rules: Vec<Value> = (0..random.usize(0..4))
            .map(|at| {
                let peer = pick(random, &["group:g0", "group:g1", "group:g2", "10.1.1.0/29"]);
                let port = pick(random, &["tcp 80", "tcp 443"]);
                json!({ "id": format!("r{at}"), "services": port, "peers": peer })
            })
            .collect();
        let out = json!([{ "id": "all", "peers": "any" }]);
        groups.push(json!({ "id": name, "inbound": rules, "outbound": out }));
    }
    let mut machines = Vec::new();
    for at in 0..4 {
        let member = pick(random, &["g0", "g1", "g2"]);
        let subnet = if at < 3 { "a" } else { "b" };
        let address = format!("10.1.{}.{}", at / 3 + 1, 4 + at);
        machines.push(json!({ "id": format!("m{at}"), "subnet": subnet, "addresses": address, "groups": [member] }));
    }
    machines.push(json!({ "id": "f", "subnet": "f", "addresses": "10.1.9.9", "forwards": true, "unfiltered": true }));
    let tables: Vec<Value> = ["a", "b"]
        .into_iter()
        .zip(["10.1.2.0/24", "10.1.1.0/24"])
        .map(|(name, to)| {
            let hop = pick(random, &["local", "interface:f", "interface:f"]);
            let routes = json!([{ "id": "there", "to": to, "next_hop": hop }]);
            json!({ "id": name, "network": "n", "routes": routes })
        })
        .collect();
    json!({
        "format": "heronshale-snapshot", "version": 1,
        "estate": { "name": "yard", "settings": { "client_ports": "3000-3001" } },
        "networks": [{ "id": "n", "blocks": "10.1.0.0/16" }],
        "subnets": [
            { "id": "a", "network": "n", "blocks": "10.1.1.0/24", "route_table": "a" },
            { "id": "b", "network": "n", "blocks": "10.1.2.0/24", "route_table": "b" },
            { "id": "f", "network": "n", "blocks": "10.1.9.0/24" },
        ],
        "interfaces": machines,
        "firewalls": [{ "id": "fw", "interfaces": { "interface": "f" }, "policy": "all" }],
        "firewall_policies": [{ "id": "all", "default": "allow" }],
        "route_tables": tables,
        "security_groups": groups,
    })
}

/// The same with some pieces as they are in another.
fn rebuilt(random: &mut Rng, old: &Value, other: &Value) -> Value {
    let mut new = old.clone();
    for _ in 0..random.usize(2..5) {
        let section = pick(
            random,
            &[
                "security_groups",
                "security_groups",
                "interfaces",
                "route_tables",
            ],
        );
        let count = old[section].as_array().map_or(0, Vec::len);
        let at = random.usize(0..count);
        let (field, list) = match section {
            "interfaces" => ("groups", None),
            "route_tables" => ("routes", None),
            _ => ("inbound", Some(random.usize(0..3))),
        };
        let there = other[section][at].get(field).cloned();
        match (list, there) {
            (Some(place), Some(there)) => {
                let rules = new[section][at][field].as_array_mut().unwrap();
                match there.get(place) {
                    Some(rule) if place < rules.len() => rules[place] = rule.clone(),
                    Some(rule) => {
                        let mut rule = rule.clone();
                        rule["id"] = format!("n{}", rules.len()).into();
                        rules.push(rule);
                    }
                    None if place < rules.len() => drop(rules.remove(place)),
                    None => {}
                }
            }
            (None, Some(there)) => new[section][at][field] = there,
            _ => {}
        }
    }
    new
}

/// Two rules let two machines in, and change places: with one of the two edits one machine is not let in.
fn crossed(random: &mut Rng, old: &mut Value) -> Value {
    let rule = |id: &str, peer: &str| json!({ "id": id, "services": "tcp 80", "peers": peer });
    let at = random.usize(0..3);
    let with = |json: &Value, first: &str, second: &str| {
        let mut json = json.clone();
        json["security_groups"][at]["inbound"] = json!([rule("x", first), rule("y", second)]);
        json
    };
    let mut peers = ["10.1.1.4", "10.1.1.5", "10.1.1.6", "10.1.2.7"];
    random.shuffle(&mut peers);
    let [first, second, third, _] = peers;
    let new = match random.bool() {
        true => with(old, second, first),
        false => with(old, second, third),
    };
    *old = with(old, first, second);
    new
}

#[test]
fn orders_are_safe_and_where_there_is_none_no_order_is() {
    let (mut safe, mut none, mut free, mut bound) = (0, 0, 0, 0);
    for seed in 1000..1080 {
        let mut random = Rng::with_seed(seed);
        let (before, now) = if seed % 5 == 0 {
            pair(&mut random)
        } else {
            let (mut old, other) = (yard(&mut random), yard(&mut random));
            let new = match seed % 5 {
                1 | 2 => crossed(&mut random, &mut old),
                _ => rebuilt(&mut random, &old, &other),
            };
            (old, new)
        };
        let (old, new) = (read(&before).unwrap(), read(&now).unwrap());
        let difference = Difference::of(&old, &new);
        let count = difference.edits().len();
        if !(2..=5).contains(&count) {
            continue;
        }
        let with = Ordering {
            between: &difference,
            judged: &judged,
            kept: &|_| Vec::new(),
            marked: Addresses::empty(),
        };
        let views = (&judged(&old.estate), &judged(&new.estate));
        let found = match order(views, &with) {
            Ok(found) => found,
            Err(error) => {
                assert_eq!(error, NoOrder::Illegal, "seed {seed}");
                continue;
            }
        };
        let mut states = States_ {
            difference: &difference,
            harmful: BTreeMap::new(),
        };
        let all: Done = (0..count).collect();
        let steps = steps(&found);
        let made: Done = steps.iter().flatten().copied().collect();
        assert_eq!(made, all, "seed {seed}: every edit is made once");
        match &found.conflict {
            None => {
                safe += 1;
                let any: Vec<&Vec<usize>> = found
                    .steps
                    .iter()
                    .filter(|step| step.any_time)
                    .map(|step| &step.edits)
                    .collect();
                free += usize::from(!any.is_empty());
                let bound: Vec<&Vec<usize>> =
                    steps.iter().filter(|step| !any.contains(step)).collect();
                // Steps for any time are made at any time.
                for first in 0..=bound.len() {
                    for some in 0..1_u32 << any.len() {
                        let with = any.iter().enumerate();
                        let with = with.filter(|(bit, _)| some >> bit & 1 == 1);
                        let with = with.flat_map(|(_, step)| step.iter());
                        let done: Done = bound[..first]
                            .iter()
                            .flat_map(|step| step.iter())
                            .chain(with)
                            .copied()
                            .collect();
                        if !done.is_empty() && done != all {
                            let harmful = states.harmful(&done, &all);
                            assert_eq!(harmful, Some(false), "seed {seed}: {done:?}");
                        }
                    }
                }
                for (at, step) in found.steps.iter().enumerate() {
                    let prefix = |count: usize| steps[..count].iter().flatten().copied().collect();
                    let here: Done = prefix(at + 1);
                    let bad = (1..=at).filter(|count| {
                        let back: Done = prefix(*count);
                        states.harmful(&back, &here) == Some(true)
                    });
                    assert_eq!(step.undo.len(), bad.count(), "seed {seed}: undo from {at}");
                }
            }
            Some(conflict) => {
                none += 1;
                assert!(
                    !states.has_order(&steps, &all),
                    "seed {seed}: there is an order"
                );
                let set: Done = conflict.edits.iter().copied().collect();
                assert!(!states.has_order(&steps, &set), "seed {seed}: of {set:?}");
                assert!(conflict.minimal, "seed {seed}");
                // All smaller sets have an order.
                for bits in 1..1_u32 << steps.len() {
                    let some = (0..steps.len()).filter(|at| bits >> at & 1 == 1);
                    let part: Done = some.flat_map(|at| steps[at].clone()).collect();
                    let is_state = states.harmful(&part, &part).is_some();
                    if part.is_subset(&set) && part != set && is_state {
                        assert!(states.has_order(&steps, &part), "seed {seed}: {part:?}");
                    }
                }
            }
        }
        for one in &found.constraints {
            bound += 1;
            let any = found.steps.iter().filter(|step| step.any_time).count();
            assert!(one.first < one.then && one.then < steps.len() - any);
        }
    }
    assert!(
        safe > 20 && none > 4 && free > 5 && bound > 5,
        "{safe} {none} {free} {bound}"
    );
}
