//! Random small estates as the JSON of a snapshot, and packets worth asking about.

use super::naive::Packet;
use crate::oracle::pick;
use fastrand::Rng;
use serde_json::{Value, json};
use std::net::IpAddr;

/// Names of the interfaces of every estate.
pub const INTERFACES: [&str; 5] = ["i0", "i1", "i2", "i3", "i4"];
const GROUPS: [&str; 6] = ["g0", "g1", "g2", "g3", "g4", "g5"];
const SETS: [&str; 4] = ["s0", "s1", "s2", "s3"];
const TAGS: [&str; 4] = [
    "tag:role=web",
    "tag:role=db",
    "tag:role=web,env=live",
    "tag:env=live",
];
const BLOCKS: [&str; 14] = [
    "10.0.0.0/28",
    "10.0.0.4",
    "10.0.1.0/29",
    "10.0.2.0-10.0.2.9",
    "198.51.100.0/24",
    "198.51.100.7",
    "0.0.0.0/0",
    "10.0.0.0/8",
    "2001:db8::/32",
    "2001:db8:1::/64",
    "2001:db8:2::5",
    "::/0",
    "192.168.0.0/16",
    "0.0.0.0/1",
];
const SERVICES: [&str; 15] = [
    "any",
    "tcp",
    "tcp 22",
    "tcp 80-90",
    "tcp 80,443",
    "udp 53",
    "udp",
    "icmp",
    "icmp 8",
    "icmp 8/0",
    "icmpv6 128",
    "gre",
    "any 22",
    "any 0-65535",
    "gre 22",
];

fn chance(random: &mut Rng, percent: u8) -> bool {
    random.u8(0..100) < percent
}

fn peer(random: &mut Rng) -> String {
    match random.u8(0..20) {
        0..=6 => pick(random, &BLOCKS).to_owned(),
        7..=8 => format!("set:{}", pick(random, &SETS)),
        9..=11 => format!("group:{}", pick(random, &GROUPS)),
        12 => {
            if chance(random, 30) {
                "group:gone".to_owned()
            } else {
                "any".to_owned()
            }
        }
        13..=14 => pick(random, &TAGS).to_owned(),
        15 => format!("identity:{}", pick(random, &["alpha", "beta"])),
        16 => format!("interface:{}", pick(random, &INTERFACES)),
        17 => format!("{}:{}", "network", pick(random, &["n0", "n1", "n2"])),
        18 => pick(
            random,
            &["subnet:u0", "subnet:u1", "subnet:u2", "site:harbour"],
        )
        .to_owned(),
        _ => pick(random, &["internet", "any", "probes"]).to_owned(),
    }
}

fn peers(random: &mut Rng, most: usize) -> Value {
    let count = random.usize(1..=most);
    (0..count).map(|_| peer(random)).collect()
}

/// A rule of a kind of filter that knows these actions.
fn rule(random: &mut Rng, id: &str, actions: &[&str]) -> Value {
    let mut rule = json!({ "id": id });
    if !actions.is_empty() {
        rule["action"] = pick(random, actions).into();
        if chance(random, 80) {
            rule["priority"] = [0, 1, 2, 3, 3, 3, u32::MAX][random.usize(0..7)].into();
        }
    }
    if chance(random, 75) {
        rule["services"] = (0..random.u8(1..3))
            .map(|_| Value::from(pick(random, &SERVICES)))
            .collect();
    }
    match random.u8(0..20) {
        0..=3 => {}
        4 => rule["peers"] = json!([]),
        _ => rule["peers"] = peers(random, 3),
    }
    if chance(random, 15) {
        // What is excepted has to be in the snapshot.
        let except: Vec<String> = (0..2)
            .map(|_| peer(random))
            .filter(|p| p != "group:gone")
            .collect();
        rule["except"] = except.into();
    }
    if chance(random, 10) {
        rule["local"] = json!([
            pick(random, &BLOCKS),
            pick(random, &["10.0.0.4", "10.0.1.2", "2001:db8::/32"])
        ]);
    }
    if chance(random, 10) {
        rule["source_ports"] = pick(random, &["1024-65535", "2000", "53", "1024-3000"]).into();
    }
    if chance(random, 8) {
        rule["enabled"] = false.into();
    }
    if chance(random, 12) {
        rule["stateless"] = true.into();
    }
    if chance(random, 8) {
        rule["enforced_until"] = pick(random, &["2026-10-01", "2026-12-01"]).into();
    }
    rule
}

fn rules(random: &mut Rng, prefix: &str, actions: &[&str], most: usize) -> Value {
    let count = random.usize(0..=most);
    (0..count)
        .map(|at| rule(random, &format!("{prefix}{at}"), actions))
        .collect()
}

/// A list that lets most through, so that later stages decide too.
fn open_rules(random: &mut Rng, prefix: &str, actions: &[&str], most: usize) -> Value {
    let mut list = rules(random, prefix, actions, most);
    if chance(random, 70) {
        let mut last = json!({ "id": format!("{prefix}-open") });
        if !actions.is_empty() {
            last["action"] = "allow".into();
            last["priority"] = 4.into();
        }
        list.as_array_mut().unwrap().push(last);
    }
    list
}

fn group(random: &mut Rng, id: &str, ordered: bool) -> Value {
    let actions: &[&str] = if ordered {
        &["allow", "allow", "deny", "reject"]
    } else {
        &[]
    };
    let mut group = json!({
        "id": id,
        "inbound": open_rules(random, &format!("{id}-in"), actions, 3),
        "outbound": open_rules(random, &format!("{id}-out"), actions, 3),
    });
    if ordered {
        group["form"] = "ordered".into();
        for field in ["default_inbound", "default_outbound"] {
            if chance(random, 60) {
                group[field] = pick(random, &["allow", "deny", "allow"]).into();
            }
        }
    }
    group
}

fn settings(random: &mut Rng) -> Value {
    let mut settings = json!({});
    let choices: [(&str, &[&str]); 5] = [
        ("named_peer_reach", &["network", "peered", "estate"]),
        ("equal_priority", &["deny_first", "position"]),
        ("subnet_groups", &["both_must_allow", "pooled"]),
        ("no_group", &["allow", "deny"]),
        ("client_ports", &["1024-65535", "2000-2003"]),
    ];
    for (name, words) in choices {
        if chance(random, 35) {
            settings[name] = pick(random, words).into();
        }
    }
    if chance(random, 30) {
        settings["implied_pair"] = random.bool().into();
    }
    settings
}

fn groups_at(random: &mut Rng, ordered: bool, most: usize) -> Value {
    let mut names: Vec<&str> = if ordered {
        GROUPS[3..].to_vec()
    } else {
        GROUPS[..3].to_vec()
    };
    random.shuffle(&mut names);
    names.truncate(random.usize(0..=most));
    if chance(random, 4) {
        names.push("gone");
    }
    names.into()
}

fn policy(random: &mut Rng, id: &str, scope: &str, order: u8) -> Value {
    let actions = [
        "allow",
        "deny",
        "reject",
        "allow-finally",
        "defer",
        "defer",
        "allow-finally",
    ];
    let mut policy = json!({
        "id": id, "scope": scope, "order": order,
        "inbound": rules(random, &format!("{id}-in"), &actions, 3),
        "outbound": rules(random, &format!("{id}-out"), &actions, 3),
    });
    if chance(random, 40) {
        let kinds = [
            "tag:role=web",
            "identity:alpha",
            "network:n0",
            "subnet:u0",
            "interface:i1",
            "tag:role=db,env=live",
        ];
        policy["targets"] = json!([pick(random, &kinds), pick(random, &kinds)]);
    }
    policy
}

/// A random estate.
pub fn estate(random: &mut Rng) -> Value {
    let ordered = random.bool();
    let mut estate = json!({
        "format": "heronshale-snapshot", "version": 1,
        "estate": { "name": "random", "taken": "2026-11-02T06:00:00Z", "settings": settings(random) },
        "conducts": [{ "id": "c0", "settings": settings(random) }],
        "divisions": [{ "id": "d0" }, { "id": "d1", "parent": "d0" }],
        "sites": [{ "id": "harbour", "holds": ["192.168.0.0/17", "203.0.113.0/25"] }],
        "networks": [
            { "id": "n0", "blocks": ["10.0.0.0/24", "2001:db8::/64"], "division": pick(random, &["d0", "d1"]), "settings": settings(random) },
            { "id": "n1", "blocks": ["10.0.1.0/24", "2001:db8:1::/64"], "conduct": "c0" },
            { "id": "n2", "blocks": ["10.0.2.0/24", "2001:db8:2::/64"], "division": "d0" },
        ],
        "peerings": [
            { "id": "p0", "sides": [{ "network": "n0" }, { "network": "n1", "up": chance(random, 70) }] },
            { "id": "p1", "sides": [{ "network": "n1" }, { "network": "n2" }] },
        ],
        "workloads": [{ "id": "w0", "tags": { "role": "web" }, "service_identity": "alpha" }, { "id": "w1", "tags": { "env": "live" }, "own_firewall": "o1" }],
        "public_addresses": [{ "address": "198.51.100.7", "interface": "i0" }],
        "address_sets": [
            { "id": "s0", "content": [pick(random, &BLOCKS), "set:s1"] },
            { "id": "s1", "content": [pick(random, &BLOCKS), pick(random, &["set:s0", "set:s2", "10.0.2.5"])] },
            { "id": "s2", "content": [pick(random, &BLOCKS)] },
            { "id": "s3", "content": if chance(random, 40) { json!("unknown") } else { json!(["198.51.100.0/25", "set:s0"]) } },
        ],
        "network_acls": [],
        "own_firewalls": [],
    });
    if random.bool() {
        estate["estate"]["probes"] = json!(["10.0.2.7", "2001:db8:2::7"]);
    }
    if chance(random, 30) {
        estate["estate"]["platform_traffic"] = json!([{ "addresses": ["10.0.0.4", "198.51.100.9"], "services": ["udp 53", "tcp 22"] }]);
    }
    let subnets = [
        ("u0", "n0", "10.0.0.0/28", "2001:db8::/72"),
        ("u1", "n1", "10.0.1.0/28", "2001:db8:1::/72"),
        ("u2", "n0", "10.0.0.16/28", "2001:db8:0:0:100::/72"),
    ];
    estate["subnets"] = subnets
        .iter()
        .map(|(id, network, v4, v6)| {
            let mut subnet =
                json!({ "id": id, "network": network, "blocks": [v4, v6], "groups": groups_at(random, ordered, 1) });
            if chance(random, 65) {
                subnet["acl"] = if chance(random, 4) { "gone".into() } else { pick(random, &["a0", "a1"]).into() };
            }
            subnet
        })
        .collect();
    let places = [
        ("u0", "10.0.0.4", "2001:db8::4"),
        ("u0", "10.0.0.5", "2001:db8::5"),
        ("u1", "10.0.1.2", "2001:db8:1::2"),
        ("u1", "10.0.1.3", "2001:db8:1::3"),
        ("u2", "10.0.0.18", "2001:db8::100:0:0:2"),
    ];
    estate["interfaces"] = INTERFACES
        .iter()
        .zip(places)
        .map(|(id, (subnet, v4, v6))| {
            let mut interface =
                json!({ "id": id, "subnet": subnet, "addresses": [v4, v6], "groups": groups_at(random, ordered, 2) });
            let fields: [(&str, u8, &[&str]); 3] = [
                ("workload", 50, &["w0", "w1"]),
                ("service_identity", 20, &["beta"]),
                ("own_firewall", 40, &["o0", "o1"]),
            ];
            for (field, percent, names) in fields {
                if chance(random, percent) {
                    interface[field] = pick(random, names).into();
                }
            }
            if chance(random, 40) {
                interface["tags"] =
                    json!({ "role": pick(random, &["web", "db"]), "env": pick(random, &["live", "test"]) });
            }
            if chance(random, 8) {
                interface["unfiltered"] = true.into();
            }
            interface
        })
        .collect();
    estate["security_groups"] = GROUPS
        .iter()
        .enumerate()
        .map(|(at, id)| group(random, id, at >= 3))
        .collect();
    let plain = ["allow", "allow", "deny", "reject"];
    estate["network_acls"] = ["a0", "a1"].iter().map(|id| {
        json!({ "id": id, "inbound": open_rules(random, &format!("{id}-in"), &plain, 4), "outbound": open_rules(random, &format!("{id}-out"), &plain, 4) })
    }).collect();
    estate["own_firewalls"] = ["o0", "o1"].iter().map(|id| {
        json!({ "id": id, "default_inbound": pick(random, &["allow", "deny", "allow"]), "default_outbound": pick(random, &["allow", "reject", "allow"]),
            "inbound": open_rules(random, &format!("{id}-in"), &plain, 3), "outbound": open_rules(random, &format!("{id}-out"), &plain, 3) })
    }).collect();
    let scopes = [
        ("estate", 1),
        ("estate", 0),
        ("division:d0", 0),
        ("division:d1", 0),
        ("network:n0", 0),
        ("network:n1", 0),
    ];
    let mut policies = Vec::new();
    for (at, (scope, order)) in scopes.iter().enumerate() {
        if chance(random, 30) {
            policies.push(policy(random, &format!("p{at}"), scope, *order));
        }
    }
    estate["scope_policies"] = policies.into();
    estate
}

/// A packet to or from an interface, near what rules speak of.
pub fn packet(random: &mut Rng, interface: &Value, direction: &str) -> Packet {
    let v4 = random.u8(0..3) > 0;
    let addresses = interface["addresses"].as_array().unwrap();
    let own: IpAddr = addresses[usize::from(!v4)]
        .as_str()
        .unwrap()
        .parse()
        .unwrap();
    let others: &[&str] = if v4 {
        &[
            "10.0.0.4",
            "10.0.0.5",
            "10.0.1.2",
            "10.0.1.3",
            "10.0.0.18",
            "10.0.2.5",
            "10.0.2.7",
            "198.51.100.7",
            "198.51.100.9",
            "203.0.113.9",
            "192.168.0.9",
            "192.168.200.1",
            "8.8.8.8",
            "200.1.1.1",
            "10.0.0.15",
            "10.0.0.16",
        ]
    } else {
        &[
            "2001:db8::4",
            "2001:db8:1::2",
            "2001:db8:1::3",
            "2001:db8::100:0:0:2",
            "2001:db8:2::5",
            "2001:db8:2::7",
            "2001:db9::1",
            "fd00::1",
            "2001:db8:ffff::1",
        ]
    };
    let other: IpAddr = others[random.usize(0..others.len())].parse().unwrap();
    let protocol = [6, 6, 6, 6, 17, 17, if v4 { 1 } else { 58 }, 47, 132][random.usize(0..9)];
    let icmp: &[u16] = if v4 {
        &[0x0800, 0x0801, 0x0000, 0x0303]
    } else {
        &[0x8000, 0x8100, 0x0200]
    };
    let low = match protocol {
        6 | 17 | 132 => [22, 53, 80, 89, 90, 91, 443, 2000, 0, 65535][random.usize(0..10)],
        1 | 58 => icmp[random.usize(0..icmp.len())],
        _ => 0,
    };
    let ported = matches!(protocol, 6 | 17 | 132);
    let source_port = if ported {
        [2000, 2001, 3000, 3001, 40000, 53, 22][random.usize(0..7)]
    } else {
        0
    };
    let (source, destination) = if direction == "in" {
        (other, own)
    } else {
        (own, other)
    };
    Packet {
        source,
        destination,
        protocol,
        low,
        source_port,
    }
}
