//! Random documents of the API.

use super::Documents;
use crate::oracle::pick;
use fastrand::Rng;
use serde_json::{Value, json};

pub fn id(kind: &str, at: usize) -> String {
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
    let icmp: &[&str] = if six {
        &["icmp", "ipv6-icmp", "icmpv6", "58"]
    } else {
        &["icmp", "1"]
    };
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
        2 => {
            rule["protocol"] =
                pick(random, &["47", "vrrp", "any", "0", "esp", "89", "udplite"]).into()
        }
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
        2 if random.bool() => {
            rule["remote_address_group_id"] = id("addr", random.usize(0..3)).into()
        }
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
    let (port, source_port) = (
        ports(),
        if ports().is_null() {
            Value::Null
        } else {
            "39000:41000".into()
        },
    );
    let mut prefix = || {
        let all: &[&str] = if six {
            &["2001:db8::/32", "2001:db8:1::5"]
        } else {
            &["10.0.0.0/8", "10.1.0.5", "10.0.0.0/24", "8.8.8.8/32"]
        };
        if random.bool() {
            Value::Null
        } else {
            pick(random, all).into()
        }
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
    let mut free: Vec<&Value> = ports
        .iter()
        .filter(|port| !port["device_owner"].as_str().unwrap().is_empty())
        .collect();
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
    [
        json!({ "firewall_groups": groups }),
        json!({ "firewall_policies": policies }),
        json!({ "firewall_rules": rules }),
    ]
}

/// Random documents of an API.
pub fn documents(random: &mut Rng) -> Documents {
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
    let address_group = |at: usize, addresses: Value| json!({ "id": id("addr", at), "name": "offices", "addresses": addresses });
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
