//! OpenStack Networking by its profile: documents as the API gives them, random ones and those of a real one, against a naive
//! reading of the same documents.

use super::agreement::to_engine;
use super::naive::Packet;
use crate::folder::Folder;
use crate::oracle::pick;
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

/// A random rule of a firewall, as the API keeps them.
fn firewall_rule(random: &mut Rng, at: usize) -> Value {
    let six = random.bool();
    let protocol = pick(random, &[None, Some("tcp"), Some("udp"), Some("icmp")]);
    let mut ports = || match (protocol, random.u8(0..3)) {
        (None | Some("icmp"), _) | (_, 0) => Value::Null,
        (_, 1) => random.u16(18..34).to_string().into(),
        _ => format!("{}:{}", random.u16(18..26), random.u16(26..34)).into(),
    };
    let (port, source_port) = (ports(), if ports().is_null() { Value::Null } else { "39000:41000".into() });
    let mut prefix = || {
        let all: &[&str] = if six {
            &["2001:db8::/32", "2001:db8:1::5"]
        } else {
            &["10.0.0.0/8", "10.1.0.5", "10.0.0.0/24", "8.8.8.8/32"]
        };
        if random.bool() { Value::Null } else { pick(random, all).into() }
    };
    let (source, destination) = (prefix(), prefix());
    json!({
        "id": id("fwrl", at), "name": "rule", "action": pick(random, &["allow", "allow", "deny", "reject"]), "enabled": random.u8(0..6) > 0,
        "ip_version": if six { 6 } else { 4 }, "protocol": protocol, "source_ip_address": source,
        "destination_ip_address": destination, "source_port": source_port, "destination_port": port, "description": "",
    })
}

/// Random firewall groups, each at some of the ports, which are in one group at most.
fn firewalls(random: &mut Rng, ports: &[Value]) -> [Value; 3] {
    let mut rules: Vec<Value> = (0..8).map(|at| firewall_rule(random, at)).collect();
    rules.extend([4, 6].iter().enumerate().map(|(at, version)| {
        let any = json!({ "name": "rest", "action": "allow", "enabled": true, "protocol": null, "description": null });
        let mut rule = json!({ "id": id("fwrl", 8 + at), "ip_version": version });
        rule.as_object_mut().unwrap().extend(any.as_object().unwrap().clone());
        rule
    }));
    let policies: Vec<Value> = (0..4)
        .map(|at| {
            let mut order: Vec<String> = (0..8).map(|rule| id("fwrl", rule)).collect();
            random.shuffle(&mut order);
            order.truncate(random.usize(0..6));
            // Where a policy lets all the rest pass, the other stages show.
            if random.u8(0..3) > 0 {
                order.extend([id("fwrl", 8), id("fwrl", 9)]);
            }
            json!({ "id": id("fwpo", at), "name": "policy", "firewall_rules": order })
        })
        .collect();
    let mut free: Vec<&Value> =
        ports.iter().filter(|port| !port["device_owner"].as_str().unwrap().is_empty()).collect();
    random.shuffle(&mut free);
    let groups: Vec<Value> = (0..3)
        .map(|at| {
            let mut policy = || (random.u8(0..5) > 0).then(|| id("fwpo", random.usize(0..4)));
            let (ingress, egress) = (policy(), policy());
            let count = random.usize(0..3).min(free.len());
            let bound: Vec<&Value> = free.drain(..count).map(|port| &port["id"]).collect();
            json!({
                "id": id("fwgr", at), "name": "edge", "ports": bound, "ingress_firewall_policy_id": ingress,
                "egress_firewall_policy_id": egress, "admin_state_up": random.u8(0..6) > 0, "status": "PENDING_CREATE",
            })
        })
        .collect();
    [json!({ "firewall_groups": groups }), json!({ "firewall_policies": policies }), json!({ "firewall_rules": rules })]
}

/// Random documents of an API.
fn documents(random: &mut Rng) -> Documents {
    let mut networks = Vec::new();
    let mut subnets = Vec::new();
    for at in 0..2 {
        networks.push(json!({ "id": id("netw", at), "name": pick(random, &["quay", "", "yard"]), "project_id": "p", "router:external": false }));
        subnets.push(json!({ "id": id("subn", at), "name": "four", "network_id": id("netw", at), "cidr": format!("10.{at}.0.0/24"), "gateway_ip": format!("10.{at}.0.1") }));
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
    let router = |at: usize| {
        json!({
            "id": id("rout", at), "name": "", "network_id": id("netw", at), "security_groups": [], "allowed_address_pairs": [],
            "fixed_ips": [{ "subnet_id": id("subn", at), "ip_address": format!("10.{at}.0.1") }, { "subnet_id": id("sixs", at), "ip_address": format!("2001:db8:{at}::1") }],
            "port_security_enabled": false, "admin_state_up": true, "device_owner": "network:router_interface", "device_id": "hub", "project_id": "p", "description": "",
        })
    };
    let mut ports: Vec<Value> = (0..6)
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
    ports.extend((0..2).map(router));
    let [firewall_groups, firewall_policies, firewall_rules] = firewalls(random, &ports);
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
        ("routers", json!({ "routers": [{ "id": "hub", "name": "hub", "admin_state_up": true, "external_gateway_info": null, "routes": [] }] })),
        ("firewall-groups", firewall_groups),
        ("firewall-policies", firewall_policies),
        ("firewall-rules", firewall_rules),
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

/// What the firewall group at a port says to a packet, if there is one.
fn firewall_passes(documents: &Documents, port: &Value, packet: &Packet, way: &str) -> Option<bool> {
    let all = |name: &str| documents.get(name).map_or(&[][..], |_| list(documents, name));
    let named = |name: &str, id: &Value| all(name).iter().find(|one| one["id"] == *id).cloned();
    let group = all("firewall-groups").iter().find(|group| group["ports"].as_array().unwrap().contains(&port["id"]))?;
    if group["admin_state_up"] == false {
        return Some(false);
    }
    let Some(policy) = named("firewall-policies", &group[format!("{way}_firewall_policy_id")]) else {
        return Some(false);
    };
    let rules = policy["firewall_rules"].as_array().unwrap().iter().map(|id| named("firewall-rules", id).unwrap());
    let ports = |written: &Value, port: u16| {
        written.as_str().is_none_or(|written| {
            let (low, high) = written.split_once(':').unwrap_or((written, written));
            (low.parse::<u16>().unwrap()..=high.parse().unwrap()).contains(&port)
        })
    };
    let matches = |rule: &Value| {
        let six = packet.source.is_ipv6();
        let protocol = match rule["protocol"].as_str() {
            None => None,
            Some("tcp") => Some(6),
            Some("udp") => Some(17),
            Some("icmp") => Some(if six { 58 } else { 1 }),
            Some(other) => panic!("{other}"),
        };
        let of = |field: &str, address| rule[field].as_str().is_none_or(|prefix| within(address, prefix));
        rule["enabled"] == true
            && (rule["ip_version"] == 6) == six
            && protocol.is_none_or(|protocol| protocol == packet.protocol)
            && of("source_ip_address", packet.source)
            && of("destination_ip_address", packet.destination)
            && ports(&rule["source_port"], packet.source_port)
            && ports(&rule["destination_port"], packet.low)
    };
    Some(rules.into_iter().find(matches).is_some_and(|rule| rule["action"] == "allow"))
}

/// Whether a port lets a packet pass: its groups, its firewall group, and that of the router for what comes from elsewhere or goes there.
fn passes(documents: &Documents, port: &Value, packet: &Packet, inbound: bool) -> bool {
    let (way, other) = if inbound { ("ingress", packet.source) } else { ("egress", packet.destination) };
    let network = |one: &&Value| one["network_id"] == port["network_id"];
    let inside =
        list(documents, "subnets").iter().filter(network).any(|one| within(other, one["cidr"].as_str().unwrap()));
    let router = |one: &&Value| network(one) && one["device_owner"] == "network:router_interface";
    groups_pass(documents, port, packet, inbound)
        && firewall_passes(documents, port, packet, way) != Some(false)
        && (inside
            || list(documents, "ports")
                .iter()
                .filter(router)
                .all(|router| firewall_passes(documents, router, packet, way) != Some(false)))
}

/// Whether a port's groups let a packet pass.
fn groups_pass(documents: &Documents, port: &Value, packet: &Packet, inbound: bool) -> bool {
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

/// A folder with documents, and the snapshot of them.
fn imported(documents: &Documents) -> Folder {
    let folder = Folder::new();
    for (name, document) in documents {
        folder.write(&format!("saved/{name}.json"), document.to_string());
    }
    folder.run(&["import", "--profile", "openstack", "saved", "--into", "snap.yaml"]).ok();
    folder
}

/// Imports documents and compares every port on random packets; how many of each verdict.
fn compare(documents: &Documents, random: &mut Rng, packets: usize, what: &str) -> [usize; 2] {
    let folder = imported(documents);
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
    // Routers translate sources, by routes that are limited to them.
    let (_, audit) = folder.json(&["audit", "-e", "snap.yaml"]);
    let kinds: Vec<&str> =
        audit["answer"]["findings"].as_array().unwrap().iter().map(|one| one["kind"].as_str().unwrap()).collect();
    assert!(kinds.contains(&"exposed") && !kinds.contains(&"no-way-out"), "{kinds:?}");
}

#[test]
fn ways_between_ports_are_open_if_all_in_between_let_them_pass() {
    let (mut seen, mut skipped) = ([0; 2], 0);
    for seed in 100..130 {
        let mut random = Rng::with_seed(seed);
        let mut documents = documents(&mut random);
        // Groups let everything pass, so that the others show.
        for group in documents.get_mut("security-groups").unwrap()["security_groups"].as_array_mut().unwrap() {
            let any = |at: usize, direction: &str| json!({ "id": id("anyr", at), "direction": direction, "ethertype": "IPv4", "protocol": null });
            group["security_group_rules"].as_array_mut().unwrap().extend([any(0, "ingress"), any(1, "egress")]);
        }
        let folder = imported(&documents);
        let machines: Vec<&Value> = list(&documents, "ports").iter().filter(|one| one["device_id"] != "hub").collect();
        for _ in 0..10 {
            let [from, to] = [pick(&mut random, &machines), pick(&mut random, &machines)];
            let port = random.u16(18..34);
            let [source, destination]: [IpAddr; 2] = [from, to].map(|one| addresses(one)[0].parse().unwrap());
            if source == destination {
                continue;
            }
            // The answer is about all ports of clients.
            let fates: Vec<bool> = [1024, 39_500, 65_535]
                .map(|source_port| Packet { source, destination, protocol: 6, low: port, source_port })
                .map(|packet| passes(&documents, from, &packet, false) && passes(&documents, to, &packet, true))
                .into();
            let (name, other) = (place(&documents, from["name"].as_str().unwrap()), destination.to_string());
            let answer = folder.run(&["path", &name, &other, "--tcp", &port.to_string(), "-e", "snap.yaml"]);
            if fates.iter().any(|fate| *fate != fates[0]) {
                skipped += 1;
                continue;
            }
            let told = format!("seed {seed}: {}\n{documents:#?}", answer.stdout);
            assert_eq!((answer.code, answer.stdout.starts_with("Unknown")), (i32::from(!fates[0]), false), "{told}");
            seen[usize::from(fates[0])] += 1;
        }
    }
    assert!(seen[0] > 100 && seen[1] > 25 && skipped < 60, "{seen:?} {skipped}");
}

/// Where something of the real documents stands, as `path` takes it: a port by name, `public:` its floating address.
fn place(documents: &Documents, name: &str) -> String {
    let name_of = |port: &Value| format!("{}-{}", port["name"].as_str().unwrap(), &port["id"].as_str().unwrap()[..8]);
    let (public, name) = name.strip_prefix("public:").map_or((false, name), |name| (true, name));
    let Some(port) = list(documents, "ports").iter().find(|one| one["name"] == name) else { return name.to_owned() };
    let mut floating = list(documents, "floatingips")
        .iter()
        .filter(|one| one["port_id"] == port["id"] || one["port_forwardings"][0]["internal_port_id"] == port["id"]);
    if public { floating.next().unwrap()["floating_ip_address"].as_str().unwrap().to_owned() } else { name_of(port) }
}

/// One of some documents with a field, and what it becomes.
fn change(documents: &mut Documents, name: &str, at: impl Fn(&Value) -> bool, field: &str, to: Value) {
    let key = name.replace('-', "_");
    let all = documents.get_mut(name).unwrap()[key].as_array_mut().unwrap();
    let found = all.iter_mut().find(|one| at(one)).unwrap_or_else(|| panic!("{name}"));
    found[field] = to;
}

#[test]
fn ways_through_the_real_documents() {
    let documents: Documents = serde_json::from_str(REAL).unwrap();
    let router_port = |at: &'static str| {
        move |one: &Value| one["device_owner"] == "network:router_interface" && one["fixed_ips"][0]["ip_address"] == at
    };
    let quay = |one: &Value| one["name"] == "quay";
    let gateway = |one: &Value| one["external_gateway_info"].clone();
    let router = list(&documents, "routers").iter().find(|one| quay(one)).unwrap();
    let mut untranslated = gateway(router);
    let inner_router = list(&documents, "routers").iter().find(|one| one["name"] == "inner").unwrap()["id"].clone();
    untranslated["enable_snat"] = false.into();
    type Change<'c> = &'c dyn Fn(&mut Documents);
    let as_is: Change<'_> = &|_| {};
    let no_firewall: Change<'_> = &|documents| {
        documents.insert("firewall-groups".to_owned(), json!({ "firewall_groups": [] }));
    };
    let no_rules: Change<'_> = &|documents| _ = documents.remove("firewall-rules");
    let off: Change<'_> = &|documents| change(documents, "routers", quay, "admin_state_up", false.into());
    let plain: Change<'_> =
        &|documents| change(documents, "routers", quay, "external_gateway_info", untranslated.clone());
    let routed: Change<'_> = &|documents| {
        change(documents, "routers", quay, "routes", json!([{ "destination": "10.9.0.0/16", "nexthop": "10.65.1.9" }]));
    };
    let unseen: Change<'_> = &|documents| change(documents, "routers", quay, "id", "another".into());
    let high: Change<'_> = &|documents| {
        no_firewall(documents);
        change(
            documents,
            "ports",
            router_port("10.65.1.1"),
            "device_owner",
            "network:ha_router_replicated_interface".into(),
        );
    };
    let spread: Change<'_> = &|documents| {
        change(
            documents,
            "ports",
            router_port("10.65.1.1"),
            "device_owner",
            "network:router_interface_distributed".into(),
        );
    };
    let told: Change<'_> = &|documents| {
        change(
            documents,
            "subnets",
            |one| one["name"] == "tickets-4",
            "host_routes",
            json!([{ "destination": "10.9.0.0/16", "nexthop": "10.65.1.9" }]),
        );
    };
    let beside: Change<'_> =
        &|documents| change(documents, "subnets", |one| one["name"] == "tickets-4", "gateway_ip", "10.65.1.254".into());
    let second: Change<'_> = &|documents| {
        let ports = documents.get_mut("ports").unwrap()["ports"].as_array_mut().unwrap();
        let mut other = ports.iter().find(|one| router_port("10.65.1.1")(one)).unwrap().clone();
        other["id"] = "11112222-0000".into();
        other["device_id"] = inner_router.clone();
        other["fixed_ips"] = json!([{ "subnet_id": other["fixed_ips"][0]["subnet_id"], "ip_address": "10.65.1.254" }]);
        ports.push(other);
    };
    let dark: Change<'_> =
        &|documents| change(documents, "networks", |one| one["name"] == "tickets", "admin_state_up", false.into());
    let elsewhere: Change<'_> = &|documents| {
        change(documents, "networks", |one| one["name"] == "lonely", "provider:physical_network", "yard".into());
        change(documents, "ports", router_port("10.70.1.1"), "device_owner", "network:dhcp".into());
        no_firewall(documents);
    };
    let alone: Change<'_> = &|documents| {
        change(documents, "ports", router_port("10.70.1.1"), "device_owner", "network:dhcp".into());
        no_firewall(documents);
    };
    let at_machine: Change<'_> = &|documents| {
        let booking = list(documents, "ports").iter().find(|one| one["name"] == "booking").unwrap()["id"].clone();
        change(documents, "firewall-groups", |one| one["name"] == "edge", "ports", json!([booking]));
    };
    let shut: Change<'_> =
        &|documents| change(documents, "firewall-groups", |one| one["name"] == "edge", "admin_state_up", false.into());
    for (what, changed, from, to, port, begins) in [
        ("a floating address", as_is, "8.8.8.8", "public:booking", "443", "Yes"),
        ("the firewall group wants 443", as_is, "8.8.8.8", "public:booking", "22", "No"),
        ("a forwarding", as_is, "198.51.100.7", "public:bastion", "2222", "Yes"),
        ("the bastion's group admits the terminals only", no_firewall, "8.8.8.8", "public:bastion", "2222", "No"),
        ("out by the router's own address", as_is, "search", "8.8.8.8", "443", "Yes"),
        ("out by the floating address", as_is, "booking", "8.8.8.8", "443", "Yes"),
        ("the egress policy refuses it", as_is, "search", "8.8.8.8", "23", "No"),
        ("without a firewall group", no_firewall, "search", "8.8.8.8", "23", "Yes"),
        ("inside of a network no router is asked", as_is, "open", "fares", "23", "No"),
        ("nor is it for what is open", as_is, "fares", "open", "23", "Yes"),
        ("from another network", as_is, "booking", "open", "23", "No"),
        ("both groups let it pass", as_is, "booking", "open", "80", "Yes"),
        ("beyond the prefix of the rule", as_is, "booking", "fast", "80", "No"),
        ("a group that is switched off drops", as_is, "default", "8.8.8.8", "443", "No"),
        ("a network of its own", alone, "default", "8.8.8.8", "443", "No"),
        ("a network behind something else", elsewhere, "default", "8.8.8.8", "443", "Unknown"),
        ("rules that are not in the export", no_rules, "8.8.8.8", "public:booking", "443", "Unknown"),
        ("a router that is off", off, "8.8.8.8", "public:booking", "443", "Unknown"),
        ("routes of the router", routed, "8.8.8.8", "public:booking", "443", "Unknown"),
        ("a router of somebody else", unseen, "search", "8.8.8.8", "443", "Unknown"),
        ("sources that are not translated", plain, "search", "8.8.8.8", "443", "Unknown"),
        ("but floating addresses are", plain, "booking", "8.8.8.8", "443", "Yes"),
        ("a router that is there twice", high, "search", "8.8.8.8", "443", "Yes"),
        ("a distributed router's filter", spread, "search", "8.8.8.8", "443", "Unknown"),
        ("routes of the hosts", told, "search", "8.8.8.8", "443", "Unknown"),
        ("a router that is not the gateway", beside, "search", "8.8.8.8", "443", "Unknown"),
        ("one of two routers", second, "search", "8.8.8.8", "443", "Unknown"),
        ("the filter of one of two routers", second, "search", "8.8.8.8", "23", "Unknown"),
        ("a network that is off", dark, "search", "8.8.8.8", "443", "Unknown"),
        ("a firewall group at the machine", at_machine, "8.8.8.8", "public:booking", "443", "Yes"),
        ("and its ingress policy", at_machine, "search", "booking", "22", "No"),
        (
            "a machine's that is switched off",
            &|documents| {
                at_machine(documents);
                shut(documents);
            },
            "8.8.8.8",
            "public:booking",
            "443",
            "No",
        ),
    ] as [(&str, Change<'_>, &str, &str, &str, &str); 32]
    {
        let mut documents = documents.clone();
        changed(&mut documents);
        let folder = imported(&documents);
        let (from, to) = (place(&documents, from), place(&documents, to));
        let answer = folder.run(&["path", &from, &to, "--tcp", port, "-e", "snap.yaml"]).stdout;
        assert!(answer.starts_with(&format!("{begins}: ")), "{what}: {answer}");
    }
}

#[test]
fn ports_on_external_networks_are_told_to_lack() {
    let mut documents: Documents = serde_json::from_str(REAL).unwrap();
    let outside = list(&documents, "networks").iter().find(|one| one["name"] == "outside").unwrap()["id"].clone();
    change(&mut documents, "ports", |one| one["name"] == "open", "network_id", outside);
    change(
        &mut documents,
        "ports",
        |one| one["name"] == "open",
        "fixed_ips",
        json!([{ "ip_address": "203.0.113.77" }]),
    );
    let folder = imported(&documents);
    let search = place(&documents, "search");
    for (to, begins) in [("203.0.113.77", "Unknown"), ("203.0.113.78", "Yes")] {
        let answer = folder.run(&["path", &search, to, "--tcp", "443", "-e", "snap.yaml"]).stdout;
        assert!(answer.starts_with(&format!("{begins}: ")), "{answer}");
    }
}

/// Answers as the API does: lists in pages of three with links, 404 where an extension is not there, 401 without the token.
fn serve(documents: Documents, lacks: &'static [&'static str]) -> String {
    use std::io::{BufRead, BufReader, Write};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}/v2.0", listener.local_addr().unwrap());
    let own = url.clone();
    let answer = move |target: &str, token: bool| -> (&str, Value) {
        let (path, query) = target.split_once('?').unwrap_or((target, ""));
        let name = path.rsplit('/').next().unwrap().replace('_', "-");
        if !token {
            return ("401 Unauthorized", json!({ "error": "token" }));
        }
        if lacks.contains(&name.as_str()) {
            return ("404 Not Found", json!({ "message": "The resource could not be found." }));
        }
        let key = name.replace('-', "_");
        let Some(all) = documents.get(&name).and_then(|document| document[&key].as_array()) else {
            return ("200 OK", json!({ key: [] }));
        };
        let marker = query.split('&').find_map(|part| part.strip_prefix("marker="));
        let from = marker.map_or(0, |marker| all.iter().position(|one| one["id"] == marker).unwrap() + 1);
        let page = &all[from..(from + 3).min(all.len())];
        let mut links = vec![json!({ "rel": "previous", "href": format!("{own}{path}?page_reverse=True") })];
        if from + 3 < all.len() {
            let last = page[2]["id"].as_str().unwrap();
            links.insert(random_side(from), json!({ "rel": "next", "href": format!("{}{}?limit=3&marker={last}", own, path.trim_start_matches("/v2.0")) }));
        }
        ("200 OK", json!({ &key: page, format!("{key}_links"): links }))
    };
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            let mut lines = BufReader::new(stream.try_clone().unwrap()).lines().map_while(Result::ok);
            let Some(first) = lines.next() else { continue };
            let head: Vec<String> = lines.take_while(|line| !line.is_empty()).map(|line| line.to_lowercase()).collect();
            let token = head.contains(&"x-auth-token: gannet".to_owned());
            let (status, body) = answer(first.split(' ').nth(1).unwrap(), token);
            let body = body.to_string();
            let length = body.len();
            let told = format!(
                "HTTP/1.1 {status}\r\ncontent-type: application/json\r\ncontent-length: {length}\r\nconnection: close\r\n\r\n{body}"
            );
            let _ = stream.write_all(told.as_bytes());
        }
    });
    url
}

/// The next page is linked now before, now behind the previous one.
fn random_side(at: usize) -> usize {
    (at / 3) % 2
}

#[test]
fn what_the_api_tells_in_pages_is_what_its_documents_say() {
    let documents: Documents = serde_json::from_str(REAL).unwrap();
    let lines = |folder: &Folder, name: &str| {
        let text = folder.read(name);
        let told = |line: &&str| !line.trim_start().starts_with('#') && !line.contains("taken: ");
        let mut lines: Vec<String> = text.lines().filter(told).map(str::to_owned).collect();
        lines.sort();
        lines
    };
    for lacks in [&[][..], &["firewall-groups", "firewall-policies", "firewall-rules"]] {
        let mut there = documents.clone();
        there.retain(|name, _| !lacks.contains(&name.as_str()));
        let folder = imported(&there);
        let url = serve(documents.clone(), lacks);
        let import = ["import", "--profile", "openstack", "--url", &url, "--collect", "kept", "--into", "live.yaml"];
        let run = folder.run_with(&import, &[("OS_TOKEN", "gannet")]);
        assert_eq!(run.code, 0, "{}", run.stderr);
        assert_eq!(lines(&folder, "live.yaml"), lines(&folder, "snap.yaml"));
    }
    // Without a token that counts nothing is written, and what is no extension has to be there.
    for (lacks, token, status) in [(&[][..], "puffin", "401"), (&["routers"][..], "gannet", "404")] {
        let folder = Folder::new();
        let url = serve(documents.clone(), lacks);
        let import = ["import", "--profile", "openstack", "--url", &url, "--collect", "kept", "--into", "live.yaml"];
        let run = folder.run_with(&import, &[("OS_TOKEN", token)]);
        assert!(run.code == 4 && run.stderr.contains(&format!("status {status}")), "{}", run.stderr);
        assert!(!folder.path().join("live.yaml").exists());
    }
}
