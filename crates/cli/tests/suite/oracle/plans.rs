//! Findings of routes, devices, doors and address plans in random estates, against their definitions, applied to the JSON of the snapshot
//! with whole numbers: addresses of `10.n.s.h` only, so that every prefix can be counted out.

use super::agreement::load;
use fastrand::Rng;
use heronshale_audit::finding::findings;
use heronshale_engine::fabric::Fabric;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

/// Kinds and JSON Pointers.
type Found = BTreeSet<(&'static str, String)>;

const KINDS: [&str; 9] = [
    "idle-table",
    "idle-route",
    "next-hop-dead",
    "blackhole",
    "overlap",
    "address-outside-block",
    "subnet-full",
    "door-left-open",
    "single-member",
];

fn items<'j>(json: &'j Value, section: &str) -> &'j [Value] {
    json[section].as_array().map_or(&[], Vec::as_slice)
}

fn text<'j>(value: &'j Value, field: &str) -> Option<&'j str> {
    value[field].as_str()
}

/// The first and last number of `10.1.2.0/24` or of a single address.
fn bounds(block: &str) -> (u64, u64) {
    let (address, length) = block.split_once('/').unwrap_or((block, "32"));
    let number = address
        .split('.')
        .fold(0_u64, |sum, part| sum * 256 + part.parse::<u64>().unwrap());
    let size = 1_u64 << (32 - length.parse::<u32>().unwrap());
    (number / size * size, number / size * size + size - 1)
}

fn length(block: &str) -> u32 {
    block
        .split_once('/')
        .map_or(32, |(_, length)| length.parse().unwrap())
}

fn blocks(value: &Value) -> Vec<&str> {
    value.as_array().map_or_else(Vec::new, |all| {
        all.iter().map(|one| one.as_str().unwrap()).collect()
    })
}

fn meet(a: (u64, u64), b: (u64, u64)) -> bool {
    a.0 <= b.1 && b.0 <= a.1
}

/// A random estate of three networks, whose plan has mistakes in it.
fn plan(random: &mut Rng) -> Value {
    let pick = |random: &mut Rng, all: &[&str]| all[random.usize(0..all.len())].to_owned();
    let networks: Vec<Value> = (0..3)
        .map(|at| {
            let block = if random.u8(0..6) == 0 {
                "10.0.128.0/17".to_owned()
            } else {
                format!("10.{at}.0.0/16")
            };
            let mut network = json!({ "id": format!("n{at}"), "blocks": [block] });
            if random.bool() {
                network["main_table"] = format!("t{at}").into();
            }
            if random.u8(0..3) == 0 {
                network["settings"] = json!({ "reserved_addresses": random.u32(0..7) });
            }
            network
        })
        .collect();
    let mut subnets = Vec::new();
    let mut interfaces = Vec::new();
    for at in 0..random.usize(3..7) {
        let network = random.usize(0..3);
        let block = match random.u8(0..8) {
            0 => format!("10.9.{at}.0/24"),
            1 => format!("10.{network}.0.0/22"),
            _ => format!("10.{network}.{at}.0/{}", [24, 28, 29][random.usize(0..3)]),
        };
        let mut subnet = json!({ "id": format!("s{at}"), "network": format!("n{network}"), "blocks": [block.clone()] });
        if random.u8(0..3) == 0 {
            subnet["route_table"] = format!("u{network}").into();
        }
        if random.u8(0..4) == 0 {
            subnet["needs"] = random.u32(1..20).into();
        }
        subnets.push(subnet);
        let (first, last) = bounds(&block);
        for one in 0..random.u64(0..8) {
            let number = match random.u8(0..20) {
                0 => bounds("10.200.0.0/24").0 + one,
                _ => (first + 1 + one).min(last),
            };
            let address = [24, 16, 8, 0]
                .map(|shift| (number >> shift & 255).to_string())
                .join(".");
            let id = format!("i{at}-{one}");
            interfaces.push(json!({ "id": id, "subnet": format!("s{at}"), "addresses": [address], "forwards": random.u8(0..3) == 0 }));
        }
    }
    let mut tables = Vec::new();
    for at in 0..3 {
        for name in [format!("t{at}"), format!("u{at}")] {
            let routes: Vec<Value> = (0..random.usize(0..5))
                .map(|_| {
                    let to = pick(
                        random,
                        &[
                            "0.0.0.0/0",
                            "10.0.0.0/8",
                            "10.1.0.0/16",
                            "10.1.0.0/17",
                            "10.1.128.0/17",
                            "10.9.0.0/16",
                            "172.16.0.0/16",
                        ],
                    );
                    let hop = pick(
                        random,
                        &["blackhole", "gateway:w", "gateway:gone", "blackhole", &format!("gateway:w{at}")],
                    );
                    json!({ "to": [to], "next_hop": hop, "enabled": random.u8(0..6) > 0, "metric": random.u32(0..3) })
                })
                .collect();
            tables.push(json!({ "id": name, "network": format!("n{at}"), "routes": routes }));
        }
    }
    let gateways: Vec<Value> = (0..3)
        .map(|at| json!({ "id": format!("w{at}"), "kind": "internet", "network": format!("n{at}"), "attached": random.bool() }))
        .collect();
    let peerings = json!([{ "id": "p", "sides": [{ "network": "n0", "peer_routes": "written" }, { "network": "n1", "up": random.bool(), "peer_routes": "written" }] }]);
    let members: Vec<Value> = (0..random.usize(0..3))
        .map(|at| json!({ "id": format!("m{at}"), "up": random.bool() }))
        .collect();
    let door = |random: &mut Rng| match random.u8(0..4) {
        0 => json!({ "addresses": ["203.0.113.80"], "open": false }),
        1 => json!({ "addresses": ["203.0.113.80"], "allowed": [] }),
        2 => json!({ "addresses": ["203.0.113.80"], "allowed": ["198.51.100.0/24"] }),
        _ => json!({ "addresses": ["203.0.113.80"] }),
    };
    let mut services = Vec::new();
    if let Some(first) = interfaces.first().filter(|_| random.bool()) {
        let private = if random.bool() {
            json!([first["id"]])
        } else {
            json!([])
        };
        services.push(
            json!({ "id": "svc", "services": ["tcp 443"], "public_door": door(random), "private_doors": private }),
        );
    }
    json!({
        "format": "heronshale-snapshot", "version": 1, "estate": { "name": "plan", "taken": "2026-11-02T06:00:00Z", "settings": { "automatic_routes": pick(random, &["overridable", "fixed"]) } },
        "networks": networks, "subnets": subnets, "interfaces": interfaces, "route_tables": tables, "gateways": gateways, "peerings": peerings,
        "hubs": [{ "id": "h", "domains": [], "links": [] }],
        "firewalls": [{ "id": "f", "hub": "h", "addresses": ["10.250.0.1"], "members": members }], "services": services,
    })
}

struct Judge<'j> {
    json: &'j Value,
    found: Found,
}

impl Judge<'_> {
    fn add(&mut self, kind: &'static str, pointer: String) {
        self.found.insert((kind, pointer));
    }

    fn network(&self, id: &str) -> &Value {
        items(self.json, "networks")
            .iter()
            .find(|network| text(network, "id") == Some(id))
            .unwrap()
    }

    /// The subnets that ask a table.
    fn asking(&self, table: &str) -> Vec<&Value> {
        let own = |subnet: &&Value| {
            let main = text(self.network(text(subnet, "network").unwrap()), "main_table");
            text(subnet, "route_table").or(main) == Some(table)
        };
        items(self.json, "subnets").iter().filter(own).collect()
    }

    fn routes(&mut self) {
        let json = self.json;
        let fixed = json["estate"]["settings"]["automatic_routes"] == "fixed";
        for (at, table) in items(json, "route_tables").iter().enumerate() {
            let asked = !self.asking(text(table, "id").unwrap()).is_empty();
            if !asked {
                self.add("idle-table", format!("/route_tables/{at}"));
            }
            let network = self.network(text(table, "network").unwrap()).clone();
            let own = blocks(&network["blocks"]);
            // What goes before what: `fixed` own blocks, then length, then static before automatic, then the metric.
            let order = |block: &str, automatic: bool, metric: u64| {
                (
                    !(fixed && automatic),
                    32 - length(block),
                    u8::from(automatic),
                    metric,
                )
            };
            let routes: Vec<&Value> = items(table, "routes").iter().collect();
            let enabled = |route: &&Value| route["enabled"] != json!(false);
            let held: Vec<(u64, u64)> = items(json, "interfaces")
                .iter()
                .flat_map(|one| blocks(&one["addresses"]))
                .map(bounds)
                .collect();
            for (index, route) in routes
                .iter()
                .enumerate()
                .filter(|(_, route)| enabled(route))
            {
                let pointer = format!("/route_tables/{at}/routes/{index}");
                let to = blocks(&route["to"])[0];
                let mine = order(to, false, route["metric"].as_u64().unwrap());
                let mut before: Vec<(u64, u64)> = Vec::new();
                for other in routes.iter().filter(|route| enabled(route)) {
                    let block = blocks(&other["to"])[0];
                    if order(block, false, other["metric"].as_u64().unwrap()) < mine {
                        before.push(bounds(block));
                    }
                }
                before.extend(
                    own.iter()
                        .filter(|block| order(block, true, 0) < mine)
                        .map(|block| bounds(block)),
                );
                let (first, last) = bounds(to);
                let mut edges: BTreeSet<u64> = BTreeSet::from([first]);
                edges.extend(
                    before
                        .iter()
                        .map(|(_, end)| end + 1)
                        .filter(|edge| (first..=last).contains(edge)),
                );
                edges.extend(
                    held.iter()
                        .map(|(start, _)| *start)
                        .filter(|edge| (first..=last).contains(edge)),
                );
                let free = |number: u64| !before.iter().any(|span| meet(*span, (number, number)));
                let wins = edges.iter().any(|number| free(*number));
                let hop = text(route, "next_hop").unwrap();
                let gateway = items(json, "gateways").iter().find(|one| {
                    Some(&*format!("gateway:{}", text(one, "id").unwrap())) == Some(hop)
                });
                let dead = hop != "blackhole"
                    && gateway.is_none_or(|one| {
                        one["attached"] == json!(false) || one["network"] != table["network"]
                    });
                if dead {
                    self.add("next-hop-dead", pointer.clone());
                } else if asked && !wins {
                    self.add("idle-route", pointer.clone());
                }
                let there = held
                    .iter()
                    .any(|(start, _)| (first..=last).contains(start) && free(*start));
                if asked && hop == "blackhole" && there {
                    self.add("blackhole", pointer);
                }
            }
        }
    }

    fn space(&mut self) {
        let json = self.json;
        let subnets = items(json, "subnets");
        for (at, subnet) in subnets.iter().enumerate() {
            let network = self.network(text(subnet, "network").unwrap());
            let block = blocks(&subnet["blocks"])[0];
            let (first, last) = bounds(block);
            let outside = !blocks(&network["blocks"]).iter().any(|around| {
                let (from, to) = bounds(around);
                from <= first && last <= to
            });
            let reserved = network["settings"]["reserved_addresses"]
                .as_u64()
                .unwrap_or(2);
            let usable = (last - first + 1).saturating_sub(reserved);
            let inside = items(json, "interfaces")
                .iter()
                .filter(|one| one["subnet"] == subnet["id"]);
            let held: BTreeSet<u64> = inside
                .flat_map(|one| blocks(&one["addresses"]))
                .map(|address| bounds(address).0)
                .filter(|number| (first..=last).contains(number))
                .collect();
            let held = u64::try_from(held.len()).unwrap();
            let needs = subnet["needs"].as_u64();
            let nearly =
                usable > 4 && held * 10 >= usable * 9 && needs.is_none_or(|needs| needs > held);
            if needs.is_some_and(|needs| needs > usable) || nearly || held > usable {
                self.add("subnet-full", format!("/subnets/{at}"));
            }
            if outside {
                self.add("address-outside-block", format!("/subnets/{at}"));
            }
        }
        for (at, interface) in items(json, "interfaces").iter().enumerate() {
            let subnet = subnets
                .iter()
                .find(|subnet| subnet["id"] == interface["subnet"])
                .unwrap();
            let number = bounds(blocks(&interface["addresses"])[0]).0;
            let (first, last) = bounds(blocks(&subnet["blocks"])[0]);
            if !(first..=last).contains(&number) {
                self.add("address-outside-block", format!("/interfaces/{at}"));
            }
        }
    }

    /// Whether anything overlaps: which of two is named first is not defined here.
    fn overlaps(&self) -> bool {
        let json = self.json;
        let spans = |section: &str,
                     field: &str,
                     network: &dyn Fn(&Value) -> String|
         -> Vec<(String, (u64, u64))> {
            items(json, section)
                .iter()
                .map(|one| (network(one), bounds(blocks(&one[field])[0])))
                .collect()
        };
        let of_subnet = |one: &Value| one["network"].to_string();
        let of_interface = |one: &Value| {
            let subnet = items(json, "subnets")
                .iter()
                .find(|subnet| subnet["id"] == one["subnet"])
                .unwrap();
            subnet["network"].to_string()
        };
        let twice = |all: &[(String, (u64, u64))]| {
            all.iter().enumerate().any(|(at, (network, span))| {
                all[at + 1..]
                    .iter()
                    .any(|(other, second)| network == other && meet(*span, *second))
            })
        };
        let joined = ["n0", "n1"].map(|id| bounds(blocks(&self.network(id)["blocks"])[0]));
        twice(&spans("subnets", "blocks", &of_subnet))
            || twice(&spans("interfaces", "addresses", &of_interface))
            || meet(joined[0], joined[1])
    }

    fn devices(&mut self) {
        let json = self.json;
        let up = |member: &&Value| member["up"] != json!(false);
        for (at, firewall) in items(json, "firewalls").iter().enumerate() {
            if items(firewall, "members").iter().filter(up).count() == 1 {
                self.add("single-member", format!("/firewalls/{at}"));
            }
        }
        for (at, service) in items(json, "services").iter().enumerate() {
            let door = &service["public_door"];
            let open = door["open"] != json!(false) && door["allowed"] != json!([]);
            if open && !items(service, "private_doors").is_empty() {
                self.add("door-left-open", format!("/services/{at}"));
            }
        }
    }
}

#[test]
fn findings_of_random_plans_are_those_of_their_definitions() {
    let mut seen: BTreeMap<&str, usize> = BTreeMap::new();
    for seed in 0..600 {
        let json = plan(&mut Rng::with_seed(seed));
        let built = load(&json);
        let all = findings(&Fabric::new(&built, None));
        let engine: Found = all
            .iter()
            .filter_map(|finding| {
                let kind = KINDS.iter().find(|kind| **kind == finding.kind)?;
                Some((*kind, finding.place.as_ref()?.pointer.clone()))
            })
            .collect();
        let mut judge = Judge {
            json: &json,
            found: Found::new(),
        };
        judge.routes();
        judge.space();
        judge.devices();
        let overlap = judge.overlaps();
        let (told, engine): (Found, Found) =
            engine.into_iter().partition(|(kind, _)| *kind == "overlap");
        assert_eq!(overlap, !told.is_empty(), "seed {seed}: {told:?}\n{json:#}");
        let missed: Vec<_> = judge.found.difference(&engine).collect();
        let spurious: Vec<_> = engine.difference(&judge.found).collect();
        assert!(
            missed.is_empty() && spurious.is_empty(),
            "seed {seed}: missed {missed:?}, spurious {spurious:?}\n{json:#}"
        );
        judge
            .found
            .iter()
            .for_each(|(kind, _)| *seen.entry(kind).or_default() += 1);
        *seen.entry("overlap").or_default() += usize::from(overlap);
    }
    assert!(
        seen.len() == KINDS.len() && seen.values().all(|count| *count >= 15),
        "{seen:?}"
    );
}
