//! OpenStack Networking by its profile: documents as the API gives them, random ones and those of a real one, against a naive
//! reading of the same documents.

use super::agreement::to_engine;
use super::naive::Packet;
use crate::folder::Folder;
use fastrand::Rng;
use heronshale_core::effective::effective;
use heronshale_core::model::Direction;
use heronshale_core::packet::PacketSet;
use heronshale_core::view::View;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// What a real API told of an estate that was created through it.
const REAL: &str = include_str!("../../fixtures/openstack.json");

type Documents = BTreeMap<String, Value>;

fn pick<T: Clone>(random: &mut Rng, all: &[T]) -> T {
    all[random.usize(0..all.len())].clone()
}

fn id(kind: &str, at: usize) -> String {
    format!("{at:04}{kind}-0000-4000-8000-000000000000")
}

/// A random rule, as the API keeps them.
fn rule(random: &mut Rng, at: usize, group: &str) -> Value {
    let six = random.bool();
    let mut rule = json!({
        "id": id("rule", at), "security_group_id": group, "direction": pick(random, &["ingress", "egress"]),
        "ethertype": if six { "IPv6" } else { "IPv4" }, "protocol": null, "port_range_min": null, "port_range_max": null,
        "remote_ip_prefix": null, "remote_group_id": null, "remote_address_group_id": null, "description": null,
    });
    let icmp: &[&str] = if six { &["icmp", "ipv6-icmp", "icmpv6", "58"] } else { &["icmp", "1"] };
    match random.u8(0..5) {
        0 => {}
        1 => {
            rule["protocol"] = pick(random, icmp).into();
            if random.bool() {
                rule["port_range_min"] = pick(random, &[0, 3, 8, 128]).into();
                if random.bool() {
                    rule["port_range_max"] = random.u8(0..3).into();
                }
            }
        }
        2 => rule["protocol"] = pick(random, &["47", "vrrp", "any", "0", "esp", "89", "udplite"]).into(),
        _ => {
            rule["protocol"] = pick(random, &["tcp", "6", "udp", "17", "sctp", "132"]).into();
            if random.u8(0..4) > 0 {
                let low = random.u16(20..30);
                rule["port_range_min"] = low.into();
                rule["port_range_max"] = (low + random.u16(0..4)).into();
            }
        }
    }
    match random.u8(0..4) {
        0 => {}
        1 => {
            let prefixes: &[&str] = if six {
                &["2001:db8::/32", "::/0", "2001:db8:1::5/128"]
            } else {
                &["10.0.0.0/8", "0.0.0.0/0", "10.1.0.5/32"]
            };
            rule["remote_ip_prefix"] = pick(random, prefixes).into();
        }
        2 if random.bool() => rule["remote_address_group_id"] = id("addr", random.usize(0..3)).into(),
        _ => rule["remote_group_id"] = id("grup", random.usize(0..4)).into(),
    }
    rule
}

/// Random documents of an API.
fn documents(random: &mut Rng) -> Documents {
    let mut networks = Vec::new();
    let mut subnets = Vec::new();
    for at in 0..2 {
        networks.push(json!({ "id": id("netw", at), "name": pick(random, &["quay", "", "yard"]), "project_id": "p", "router:external": false }));
        subnets.push(json!({ "id": id("subn", at), "name": "four", "network_id": id("netw", at), "cidr": format!("10.{at}.0.0/24") }));
        subnets.push(json!({ "id": id("sixs", at), "name": "six", "network_id": id("netw", at), "cidr": format!("2001:db8:{at}::/64") }));
    }
    let mut rules = 0;
    let groups: Vec<Value> = (0..4)
        .map(|at| {
            let group = id("grup", at);
            let own: Vec<Value> = (0..random.usize(0..5))
                .map(|_| {
                    rules += 1;
                    rule(random, rules, &group)
                })
                .collect();
            json!({ "id": group, "name": pick(random, &["default", "web", ""]), "stateful": true, "description": "", "security_group_rules": own })
        })
        .collect();
    let ports: Vec<Value> = (0..6)
        .map(|at| {
            let network = random.usize(0..2);
            let mut fixed = vec![json!({ "subnet_id": id("subn", network), "ip_address": format!("10.{network}.0.{}", at + 4) })];
            if random.bool() {
                fixed.push(json!({ "subnet_id": id("sixs", network), "ip_address": format!("2001:db8:{network}::{}", at + 4) }));
            }
            let secure = random.u8(0..6) > 0;
            let bound: Vec<String> =
                (0..4).filter(|_| secure && random.u8(0..3) == 0).map(|group| id("grup", group)).collect();
            let pairs = if random.u8(0..3) == 0 { json!([{ "ip_address": "10.9.9.0/28" }]) } else { json!([]) };
            json!({
                "id": id("port", at), "name": format!("port{at}"), "network_id": id("netw", network), "fixed_ips": fixed,
                "security_groups": bound, "allowed_address_pairs": pairs, "port_security_enabled": secure,
                "admin_state_up": random.u8(0..8) > 0, "device_owner": pick(random, &["compute:nova", ""]), "device_id": format!("vm-{at}"), "project_id": "p", "description": "",
            })
        })
        .collect();
    let address_group =
        |at: usize, addresses: Value| json!({ "id": id("addr", at), "name": "offices", "addresses": addresses });
    let address_groups = [
        address_group(0, json!([])),
        address_group(1, json!(["10.0.0.4/31", "2001:db8::/32"])),
        address_group(2, json!(["10.0.0.0/8", "8.8.8.8/32"])),
    ];
    [
        ("address-groups", json!({ "address_groups": address_groups })),
        ("networks", json!({ "networks": networks })),
        ("subnets", json!({ "subnets": subnets })),
        ("security-groups", json!({ "security_groups": groups })),
        ("ports", json!({ "ports": ports })),
        ("routers", json!({ "routers": [] })),
        ("floatingips", json!({ "floatingips": [] })),
    ]
    .into_iter()
    .map(|(name, document)| (name.to_owned(), document))
    .collect()
}

fn list<'v>(documents: &'v Documents, name: &str) -> &'v [Value] {
    documents[name][name.replace('-', "_")].as_array().unwrap()
}

/// Whether an address lies in another, or in a prefix.
fn within(address: IpAddr, prefix: &str) -> bool {
    let (base, length) = prefix.split_once('/').unwrap_or((prefix, "128"));
    match (address, base.parse().unwrap()) {
        (IpAddr::V4(a), IpAddr::V4(b)) => {
            let length: u32 = length.parse::<u32>().unwrap().min(32);
            length == 0 || (a.to_bits() ^ b.to_bits()) >> (32 - length) == 0
        }
        (IpAddr::V6(a), IpAddr::V6(b)) => {
            let length: u32 = length.parse().unwrap();
            length == 0 || (a.to_bits() ^ b.to_bits()) >> (128 - length) == 0
        }
        _ => false,
    }
}

/// The addresses of a port, its allowed pairs with them.
fn addresses(port: &Value) -> Vec<&str> {
    let of = |list: &'static str| port[list].as_array().unwrap().iter().map(|one| one["ip_address"].as_str().unwrap());
    of("fixed_ips").chain(of("allowed_address_pairs")).collect()
}

fn matches(documents: &Documents, rule: &Value, packet: &Packet, other: IpAddr) -> bool {
    let six = other.is_ipv6();
    if (rule["ethertype"] == "IPv6") != six {
        return false;
    }
    let protocol = match rule["protocol"].as_str() {
        None | Some("any" | "0") => None,
        Some("icmp" | "1" | "icmpv6" | "ipv6-icmp" | "58") => Some(if six { 58 } else { 1 }),
        Some("tcp") => Some(6),
        Some("udp") => Some(17),
        Some("sctp") => Some(132),
        Some("vrrp") => Some(112),
        Some("esp") => Some(50),
        Some("udplite") => Some(136),
        Some(number) => Some(number.parse::<u8>().unwrap()),
    };
    if protocol.is_some_and(|protocol| protocol != packet.protocol) {
        return false;
    }
    let (low, high) = (rule["port_range_min"].as_u64(), rule["port_range_max"].as_u64());
    let fits = match (protocol, low) {
        (None, _) | (_, None) => true,
        (Some(1 | 58), Some(sort)) => {
            u64::from(packet.low >> 8) == sort && high.is_none_or(|code| u64::from(packet.low & 255) == code)
        }
        (_, Some(low)) => (low..=high.unwrap()).contains(&packet.low.into()),
    };
    let of_address_group = |group: &str| {
        let all = list(documents, "address-groups").iter().filter(|one| one["id"] == group);
        all.flat_map(|one| one["addresses"].as_array().unwrap()).any(|one| within(other, one.as_str().unwrap()))
    };
    let remote = match (rule["remote_ip_prefix"].as_str(), &rule["remote_group_id"]) {
        (Some(prefix), _) => within(other, prefix),
        (None, Value::Null) => rule["remote_address_group_id"].as_str().is_none_or(of_address_group),
        (None, group) => list(documents, "ports").iter().any(|port| {
            port["security_groups"].as_array().unwrap().contains(group)
                && addresses(port).iter().any(|address| within(other, address))
        }),
    };
    fits && remote
}

/// Whether a port's groups let a packet pass.
fn passes(documents: &Documents, port: &Value, packet: &Packet, inbound: bool) -> bool {
    if port["admin_state_up"] == false {
        return false;
    }
    if port["port_security_enabled"] == false {
        return true;
    }
    let (way, other) = if inbound { ("ingress", packet.source) } else { ("egress", packet.destination) };
    let bound = port["security_groups"].as_array().unwrap();
    let groups = list(documents, "security-groups").iter().filter(|group| bound.contains(&group["id"]));
    let rules = groups.flat_map(|group| group["security_group_rules"].as_array().unwrap());
    rules.filter(|rule| rule["direction"] == way).any(|rule| matches(documents, rule, packet, other))
}

/// Imports documents and compares every port on random packets; how many of each verdict.
fn compare(documents: &Documents, random: &mut Rng, packets: usize, what: &str) -> [usize; 2] {
    let folder = Folder::new();
    for (name, document) in documents {
        folder.write(&format!("saved/{name}.json"), document.to_string());
    }
    folder.run(&["import", "--profile", "openstack", "saved", "--into", "snap.yaml"]).ok();
    let snapshot = heronshale_intake::load(&folder.path().join("snap.yaml")).unwrap();
    let view = View::new(&snapshot.estate, None);
    let held: Vec<&str> = list(documents, "ports").iter().flat_map(|port| addresses(port)).collect();
    let mut seen = [0, 0];
    for port in list(documents, "ports")
        .iter()
        .filter(|port| port["device_owner"].as_str().is_none_or(|owner| !owner.starts_with("network:")))
    {
        let name = port["name"].as_str().unwrap();
        let label = format!("{name}-{}", &port["id"].as_str().unwrap()[..8]);
        let interface = snapshot.estate.interfaces.find(&label).unwrap_or_else(|| panic!("{what}: {label}"));
        let sides = [Direction::In, Direction::Out].map(|way| effective(&view, interface, way, None));
        for _ in 0..packets {
            let own: IpAddr =
                addresses(port)[random.usize(0..port["fixed_ips"].as_array().unwrap().len())].parse().unwrap();
            let strangers: &[&str] =
                if own.is_ipv4() { &["8.8.8.8", "10.9.9.7", "10.200.0.1"] } else { &["2a00::1", "2001:db8:1::5"] };
            let known: Vec<&str> = held.iter().copied().chain(strangers.iter().copied()).collect();
            let other = pick(random, &known).split('/').next().unwrap().parse::<IpAddr>().unwrap();
            if other.is_ipv4() != own.is_ipv4() || other == own {
                continue;
            }
            let protocol = pick(random, &[6, 17, 132, if own.is_ipv4() { 1 } else { 58 }, 47, 112, 50, 89, 136]);
            let low = match protocol {
                6 | 17 | 132 => random.u16(18..34),
                1 | 58 => pick(random, &[0_u16, 3, 8, 128]) << 8 | random.u16(0..3),
                _ => 0,
            };
            let source_port = if matches!(protocol, 6 | 17 | 132) { 40_000 } else { 0 };
            let inbound = random.bool();
            let (source, destination) = if inbound { (other, own) } else { (own, other) };
            let packet = Packet { source, destination, protocol, low, source_port };
            let wanted = passes(documents, port, &packet, inbound);
            let side = &sides[usize::from(!inbound)];
            let holds = |listed: &[heronshale_core::effective::Listed]| {
                listed.iter().any(|one| PacketSet::of_entry(&one.entry, ()).contains(&to_engine(&packet)))
            };
            assert!(!holds(&side.unknown), "{what}, {label}: {packet:?} is open");
            assert_eq!(holds(&side.admitted), wanted, "{what}, {label}, inbound {inbound}: {packet:?}\n{documents:#?}");
            seen[usize::from(wanted)] += 1;
        }
    }
    seen
}

#[test]
fn groups_of_openstack_mean_what_its_documents_say() {
    let mut seen = [0, 0];
    for seed in 0..60 {
        let mut random = Rng::with_seed(seed);
        let documents = documents(&mut random);
        let found = compare(&documents, &mut random, 60, &format!("seed {seed}"));
        seen = [seen[0] + found[0], seen[1] + found[1]];
    }
    assert!(seen[0] > 2_000 && seen[1] > 1_000, "{seen:?}");
}

#[test]
fn an_estate_made_through_the_real_api_reads_back() {
    let documents: Documents = serde_json::from_str(REAL).unwrap();
    let seen = compare(&documents, &mut Rng::with_seed(1), 2_000, "the real API's");
    assert!(seen[0] > 500 && seen[1] > 500, "{seen:?}");
    let folder = Folder::new();
    for (name, document) in &documents {
        folder.write(&format!("saved/{name}.json"), document.to_string());
    }
    let (_, told) = folder.json(&["import", "--profile", "openstack", "saved", "--into", "snap.yaml"]);
    assert_eq!(told["answer"]["unresolved"], json!([]), "{told}");
    assert_eq!(told["answer"]["dangling"], json!([]), "{told}");
    // The floating address leads to its port, the forwarding to the bastion; what has neither group nor router stays closed.
    let reached = |to: &str, port: &str| folder.run(&["path", "8.8.8.8", to, "--tcp", port, "-e", "snap.yaml"]).code;
    let address = |port: &str| {
        let all = list(&documents, "floatingips").iter();
        let id = list(&documents, "ports").iter().find(|one| one["name"] == port).unwrap()["id"].clone();
        let mut found = all.filter(|one| one["port_id"] == id || one["port_forwardings"][0]["internal_port_id"] == id);
        found.next().unwrap()["floating_ip_address"].as_str().unwrap().to_owned()
    };
    assert_eq!(reached(&address("booking"), "443"), 0);
    assert_eq!(reached(&address("booking"), "22"), 1);
    assert_eq!(folder.run(&["path", "198.51.100.7", &address("bastion"), "--tcp", "2222", "-e", "snap.yaml"]).code, 0);
    assert_eq!(reached(&address("bastion"), "2222"), 1, "the bastion's group admits the terminals only");
}

#[test]
fn what_passes_a_firewall_group_is_not_known() {
    let mut documents: Documents = serde_json::from_str(REAL).unwrap();
    let imported = |documents: &Documents| {
        let folder = Folder::new();
        for (name, document) in documents {
            folder.write(&format!("saved/{name}.json"), document.to_string());
        }
        folder.run(&["import", "--profile", "openstack", "saved", "--into", "snap.yaml"]).ok();
        folder
    };
    let address = |documents: &Documents, port: &str| {
        let port = list(documents, "ports").iter().find(|one| one["name"] == port).unwrap().clone();
        let mut floating = list(documents, "floatingips").iter().filter(|one| one["port_id"] == port["id"]);
        (port.clone(), floating.next().unwrap()["floating_ip_address"].as_str().unwrap().to_owned())
    };
    let (booking, public) = address(&documents, "booking");
    let path = ["path", "8.8.8.8", &public, "--tcp", "443", "-e", "snap.yaml"];
    assert_eq!(imported(&documents).run(&path).code, 0);
    let router = |one: &&Value| {
        one["network_id"] == booking["network_id"]
            && one["device_owner"].as_str().unwrap().starts_with("network:router_interface")
    };
    let router = list(&documents, "ports").iter().find(router).unwrap().clone();
    for (port, up, begins) in [(&router, true, "Unknown: "), (&booking, true, "Unknown: "), (&router, false, "Yes: ")] {
        let group =
            json!({ "id": "f", "name": "edge", "ports": [port["id"]], "admin_state_up": up, "status": "ACTIVE" });
        documents.insert("firewall-groups".to_owned(), json!({ "firewall_groups": [group] }));
        let told = imported(&documents).run(&path).stdout;
        assert!(told.starts_with(begins), "{told}");
    }
    documents.remove("firewall-groups");
    documents.get_mut("routers").unwrap()["routers"][0]["admin_state_up"] = false.into();
    let told = imported(&documents).run(&path).stdout;
    assert!(
        told.starts_with("Unknown: ") || told.starts_with("Yes: ") && list(&documents, "routers").len() > 1,
        "{told}"
    );
}
