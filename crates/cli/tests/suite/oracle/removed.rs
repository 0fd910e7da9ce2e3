//! What is taken out of random estates and declared as lacking: an answer that is certain without it is the answer with it.

use super::agreement::{load, to_engine};
use super::naive::Packet;
use super::pick;
use super::topology::{estate, question};
use super::walker::From;
use fastrand::Rng;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::walk::{Asked, Start, Tell, Verdict, walk};
use heronshale_intake::load_texts;
use heronshale_sets::packet::PacketSet;
use serde_json::{Value, json};
use std::collections::BTreeMap;

fn find<'j>(json: &'j mut Value, section: &str, id: &str) -> Option<&'j mut Value> {
    json[section]
        .as_array_mut()?
        .iter_mut()
        .find(|one| one["id"] == id)
}

/// Takes something out by its name.
fn drop_one(json: &mut Value, section: &str, id: &str) -> Option<()> {
    let all = json[section].as_array_mut()?;
    let at = all.iter().position(|one| one["id"] == id)?;
    all.remove(at);
    Some(())
}

/// Takes some of a list out, at least one of those that may be.
fn drop_some(random: &mut Rng, list: &mut Value, may_go: impl Fn(&Value) -> bool) -> Option<()> {
    let all = list.as_array_mut()?;
    let places: Vec<usize> = (0..all.len()).filter(|at| may_go(&all[*at])).collect();
    let first = *places.get(random.usize(0..places.len().max(1)))?;
    for at in places.into_iter().rev() {
        if at == first || random.bool() {
            all.remove(at);
        }
    }
    Some(())
}

/// A lacking rule is taken to keep state as its filter does.
fn keeps_state(rule: &Value) -> bool {
    rule.get("stateless") != Some(&Value::Bool(true))
}

/// The kinds of things that may be lacking as a whole, their section, and those of them on which no other kind depends.
const WHOLE: [(&str, &str, &[&str]); 13] = [
    ("acl", "network_acls", &["n0", "n1", "n2"]),
    ("group", "security_groups", &["g0", "g1", "g2", "g3"]),
    ("own-firewall", "own_firewalls", &["own"]),
    (
        "firewall-policy",
        "firewall_policies",
        &["base", "p0", "p1"],
    ),
    (
        "table",
        "route_tables",
        &["t-a", "t-a2", "t-b", "t-q", "t-e", "t-e2", "t-ig"],
    ),
    (
        "gateway",
        "gateways",
        &["ig-a", "ig-e", "ig-q", "nat", "nat-a", "out6", "sg", "sg-a"],
    ),
    ("peering", "peerings", &["aq", "qb", "ab", "bx"]),
    ("site", "sites", &["dock"]),
    ("hub", "hubs", &["h2"]),
    ("balancer", "balancers", &["kb", "pub", "ilb"]),
    ("interface", "interfaces", &["ia3", "ib2", "iq"]),
    ("set", "address_sets", &["hidden"]),
    ("names", "name_sets", &["web", "all"]),
];

/// Takes something out of an estate: the gap to declare, if there is something to take.
fn remove(
    random: &mut Rng,
    json: &mut Value,
    way: usize,
) -> Option<(String, Option<&'static str>)> {
    if let Some((kind, section, names)) = WHOLE.get(way) {
        let id = pick(random, names);
        drop_one(json, section, id)?;
        return Some((format!("{kind}:{id}"), None));
    }
    let parts = way - WHOLE.len();
    let whole = |kind: &str, id: &str, part| Some((format!("{kind}:{id}"), Some(part)));
    let sides = ["inbound", "outbound"];
    match parts {
        0 => {
            let (kind, section, id) = pick(
                random,
                &[
                    ("acl", "network_acls", "n0"),
                    ("acl", "network_acls", "n1"),
                    ("acl", "network_acls", "n2"),
                    ("group", "security_groups", "g1"),
                    ("group", "security_groups", "g2"),
                    ("own-firewall", "own_firewalls", "own"),
                ],
            );
            let side = pick(random, &sides);
            drop_some(random, &mut find(json, section, id)?[side], keeps_state)?;
            whole(kind, id, "rules")
        }
        1 => {
            let id = pick(random, &["base", "p0", "p1"]);
            drop_some(
                random,
                &mut find(json, "firewall_policies", id)?["rules"],
                keeps_state,
            )?;
            whole("firewall-policy", id, "rules")
        }
        2 => {
            let id = pick(
                random,
                &["t-a", "t-a2", "t-b", "t-q", "t-e", "t-e2", "t-ig"],
            );
            let table = find(json, "route_tables", id)?;
            drop_some(random, &mut table["routes"], |_| true)?;
            if random.bool() {
                whole("table", id, "routes")
            } else {
                whole("network", table["network"].as_str()?, "routes")
            }
        }
        3 => {
            drop_some(
                random,
                &mut find(json, "hubs", "h")?["domains"][0]["routes"],
                |_| true,
            )?;
            whole("hub", "h", "routes")
        }
        4 => {
            drop_some(
                random,
                find(json, "firewalls", "fw")?.get_mut("routes")?,
                |_| true,
            )?;
            whole("firewall", "fw", "routes")
        }
        5 => {
            let part = pick(random, &["groups", "own_firewalls"]);
            let field = if part == "groups" {
                "groups"
            } else {
                "own_firewall"
            };
            let all = json["interfaces"].as_array_mut()?;
            let with: Vec<usize> = (0..all.len())
                .filter(|at| all[*at].get(field).is_some())
                .collect();
            let one = &mut all[*with.get(random.usize(0..with.len().max(1)))?];
            one.as_object_mut()?.remove(field);
            let subnet = one["subnet"].as_str()?;
            match random.u8(0..3) {
                0 => whole("interface", one["id"].as_str()?, part),
                1 => whole("subnet", subnet, part),
                _ => whole("network", &subnet[..1], part),
            }
        }
        6 => {
            let (id, subnet) = pick(random, &[("ia3", "a1"), ("ib2", "b2"), ("iq", "q2")]);
            drop_one(json, "interfaces", id)?;
            if random.bool() {
                whole("subnet", subnet, "interfaces")
            } else {
                whole("network", &subnet[..1], "interfaces")
            }
        }
        7 => {
            // Of all filters of a network.
            let network = pick(random, &["a", "b", "q", "e"]);
            let used: Vec<String> = json["subnets"]
                .as_array()?
                .iter()
                .filter(|subnet| subnet["network"] == network)
                .filter_map(|subnet| Some(subnet.get("acl")?.as_str()?.to_owned()))
                .collect();
            let acl = used.get(random.usize(0..used.len().max(1)))?.clone();
            let elsewhere = json["subnets"]
                .as_array()?
                .iter()
                .any(|s| s["network"] != network && s["acl"] == *acl);
            if elsewhere {
                return None;
            }
            let side = pick(random, &sides);
            drop_some(
                random,
                &mut find(json, "network_acls", &acl)?[side],
                keeps_state,
            )?;
            whole("network", network, "rules")
        }
        8 => {
            find(json, "address_sets", "hidden")?["content"] = "unknown".into();
            None.or(Some((String::new(), None)))
        }
        _ => {
            let firewall = find(json, "firewalls", pick(random, &["fw", "gw", "hf"]))?;
            firewall.as_object_mut()?.remove("own_services")?;
            Some((String::new(), None))
        }
    }
}

fn verdict(view: &Fabric<'_>, from: &From, asked: Packet, name: Option<&str>) -> Option<Verdict> {
    let start = match from {
        From::Internet => Start::Internet,
        From::Site(site) => Start::Site(view.estate.sites.find(site)?),
        From::Interface(id) => Start::Interfaces(vec![view.estate.interfaces.find(id)?]),
    };
    let ported = matches!(asked.protocol, 6 | 17 | 132);
    let packets = (3000..=3001).map(|port| {
        PacketSet::single(&to_engine(&Packet {
            source_port: if ported { port } else { 0 },
            ..asked
        }))
    });
    let question = Asked {
        start,
        packets: PacketSet::union_all(packets),
        name: name.map(Into::into),
        any_of: Vec::new(),
    };
    Some(walk(view, &question, Tell::Deciders).summary.verdict)
}

#[test]
fn what_is_certain_without_something_is_the_same_with_it() {
    let mut seen: BTreeMap<(usize, bool), usize> = BTreeMap::new();
    let mut wrong = Vec::new();
    for seed in 0..3_000 {
        let mut random = Rng::with_seed(seed);
        let whole = estate(&mut random);
        let way = random.usize(0..WHOLE.len() + 10);
        let mut json = whole.clone();
        let Some((object, part)) = remove(&mut random, &mut json, way) else {
            continue;
        };
        if !object.is_empty() {
            let mut gap = json!({ "object": object });
            if let Some(part) = part {
                gap["lacks"] = part.into();
            }
            if object == "balancer:pub" {
                // Without its address nothing tells it from the internet.
                gap["blocks"] = json!(["203.0.113.30"]);
            }
            json["gaps"].as_array_mut().unwrap().push(gap);
        }
        // What something refers to and may not be lacking is refused.
        let Ok(without) = load_texts(&[("random.json", &json.to_string())]) else {
            continue;
        };
        let (with, without) = (load(&whole), without.estate);
        let [with, without] = [&with, &without].map(|built| Fabric::new(built, None));
        for _ in 0..16 {
            let (from, asked, name) = question(&mut random);
            let Some(found) = verdict(&without, &from, asked, name) else {
                continue;
            };
            let Some(wanted) = verdict(&with, &from, asked, name) else {
                continue;
            };
            let works = |verdict| matches!(verdict, Verdict::Works | Verdict::WorksForSome);
            let right = found == wanted || (found == Verdict::WorksForSome && works(wanted));
            *seen
                .entry((way, found == Verdict::Unknown && wanted != Verdict::Unknown))
                .or_default() += 1;
            if found != Verdict::Unknown && !right {
                wrong.push(format!(
                    "seed {seed}, without {object} {part:?}: {from:?} {asked:?} {name:?}: {found:?}, but {wanted:?}"
                ));
            }
        }
    }
    assert!(
        wrong.is_empty(),
        "{} wrong\n{}",
        wrong.len(),
        wrong[..wrong.len().min(40)].join("\n")
    );
    for way in 0..WHOLE.len() + 10 {
        for opens in [true, false] {
            assert!(seen.contains_key(&(way, opens)), "{way} {opens}: {seen:?}");
        }
    }
}
