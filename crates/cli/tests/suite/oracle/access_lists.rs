//! Access control lists of RFC 8519: random documents, read entry by entry and packet by packet, against what they become.

use super::agreement::{load, to_engine};
use super::naive::{Packet, in_block, list, text};
use crate::oracle::pick;
use fastrand::Rng;
use heronshale_engine::effective::{Side, effective};
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{AclReading, read_acls};
use heronshale_model::estate::{Action, Direction};
use serde_json::{Value, json};
use std::net::IpAddr;

const OWN: [&str; 2] = ["10.1.0.4", "2001:db8:1::4"];
const OTHERS: [[&str; 3]; 2] = [
    ["10.2.0.9", "8.8.8.8", "10.3.0.1"],
    ["2001:db8:2::9", "2a00::1", "2001:db8:3::1"],
];
const PREFIXES: [[&str; 5]; 2] = [
    [
        "10.2.0.0/16",
        "10.0.0.0/8",
        "10.1.0.4/32",
        "0.0.0.0/0",
        "10.1.0.0/16",
    ],
    [
        "2001:db8:2::/48",
        "2001:db8::/32",
        "2001:db8:1::4/128",
        "::/0",
        "2a00::/16",
    ],
];

fn chance(random: &mut Rng, percent: u8) -> bool {
    random.u8(0..100) < percent
}

/// A name as the module writes it, or with the module before it.
fn identity(random: &mut Rng, name: &str) -> String {
    if random.bool() {
        name.to_owned()
    } else {
        format!("ietf-access-control-list:{name}")
    }
}

fn ports(random: &mut Rng) -> Value {
    let port = random.u16(18..30);
    match random.u8(0..4) {
        0 => json!({ "lower-port": port, "upper-port": port + random.u16(0..5) }),
        1 => json!({ "lower-port": port }),
        _ => json!({ "operator": pick(random, &["eq", "neq", "lte", "gte"]), "port": port }),
    }
}

/// What an entry matches; none of it if it matches all.
fn matches(random: &mut Rng) -> Option<Value> {
    if chance(random, 15) {
        return None;
    }
    let mut matches = json!({});
    let six = random.bool();
    let protocol = pick(
        random,
        &[None, Some("tcp"), Some("udp"), Some("icmp"), Some("gre")],
    );
    let number = |name: &str| match name {
        "tcp" => 6,
        "udp" => 17,
        "gre" => 47,
        _ if six => 58,
        _ => 1,
    };
    if chance(random, 75) || protocol == Some("gre") {
        let word = if six { "ipv6" } else { "ipv4" };
        let mut network = json!({});
        for side in ["source", "destination"] {
            if chance(random, 45) {
                network[format!("{side}-{word}-network")] =
                    pick(random, &PREFIXES[usize::from(six)]).into();
            }
        }
        if let Some(protocol) = protocol.filter(|protocol| *protocol == "gre" || chance(random, 50))
        {
            network["protocol"] = number(protocol).into();
        }
        if chance(random, 20) {
            network["dscp"] = 8.into();
        }
        matches[word] = network;
    }
    match protocol {
        Some(transport @ ("tcp" | "udp")) => {
            let mut fields = json!({});
            for side in ["source-port", "destination-port"] {
                if chance(random, 45) {
                    fields[side] = ports(random);
                }
            }
            if transport == "tcp" && chance(random, 20) {
                fields["flags"] = "syn".into();
            }
            matches[transport] = fields;
        }
        Some("icmp") => {
            let mut fields = json!({});
            if chance(random, 70) {
                fields["type"] = pick(random, &[3, 8, 128]).into();
                if chance(random, 50) {
                    fields["code"] = random.u8(0..2).into();
                }
            }
            matches["icmp"] = fields;
        }
        _ => {}
    }
    if chance(random, 10) {
        matches["ingress-interface"] = "quay-0".into();
    }
    Some(matches)
}

fn acl(random: &mut Rng, name: &str) -> Value {
    let aces: Vec<Value> = (0..random.usize(0..6))
        .map(|at| {
            let forwarding = pick(random, &["accept", "accept", "drop", "reject"]);
            let mut ace =
                json!({ "name": format!("e{at}"), "actions": { "forwarding": identity(random, forwarding) } });
            if let Some(matches) = matches(random) {
                ace["matches"] = matches;
            }
            ace
        })
        .collect();
    json!({ "name": name, "aces": { "ace": aces } })
}

/// Whether ports fit, by the grouping `port-range-or-operator`.
fn fits(ports: &Value, port: u16) -> bool {
    let number = |field: &str| ports[field].as_u64();
    let port = u64::from(port);
    match (text(ports, "operator"), number("port")) {
        (Some("eq"), Some(wanted)) => port == wanted,
        (Some("neq"), Some(wanted)) => port != wanted,
        (Some("lte"), Some(wanted)) => port <= wanted,
        (Some("gte"), Some(wanted)) => port >= wanted,
        _ => {
            let lower = number("lower-port").unwrap();
            (lower..=number("upper-port").unwrap_or(lower)).contains(&port)
        }
    }
}

/// Whether an entry matches a packet: what it says that can be judged, and whether it says more.
fn matched(matches: &Value, packet: &Packet) -> (bool, bool) {
    let (mut all, mut more) = (true, false);
    let six = packet.source.is_ipv6();
    for (name, fields) in matches.as_object().unwrap() {
        for (field, value) in fields.as_object().into_iter().flatten() {
            let within = |address| in_block(address, value.as_str().unwrap());
            all &= match field.as_str() {
                "source-ipv4-network" | "source-ipv6-network" => within(packet.source),
                "destination-ipv4-network" | "destination-ipv6-network" => {
                    within(packet.destination)
                }
                "protocol" => value.as_u64() == Some(packet.protocol.into()),
                "source-port" => fits(value, packet.source_port),
                "destination-port" => fits(value, packet.low),
                "type" => value.as_u64() == Some((packet.low >> 8).into()),
                "code" => value.as_u64() == Some((packet.low & 255).into()),
                _ => {
                    more = true;
                    true
                }
            };
        }
        all &= match name.as_str() {
            "ipv4" => !six,
            "ipv6" => six,
            "tcp" => packet.protocol == 6,
            "udp" => packet.protocol == 17,
            "icmp" => packet.protocol == if six { 58 } else { 1 },
            _ => {
                more = true;
                true
            }
        };
    }
    (all, more)
}

/// What becomes of a packet: every possibility, as far as entries say what cannot be judged.
fn verdicts(acl: &Value, rest: bool, packet: &Packet) -> Vec<bool> {
    let mut possible = Vec::new();
    for ace in list(&acl["aces"], "ace") {
        let accepts = ace["actions"]["forwarding"]
            .as_str()
            .unwrap()
            .ends_with("accept");
        let (fits, more) = ace
            .get("matches")
            .map_or((true, false), |matches| matched(matches, packet));
        if fits {
            possible.push(accepts);
            if !more {
                return possible;
            }
        }
    }
    possible.push(rest);
    possible
}

fn packet(random: &mut Rng, inbound: bool) -> Packet {
    let six = random.bool();
    let [own, other] = [
        OWN[usize::from(six)],
        pick(random, &OTHERS[usize::from(six)]),
    ];
    let [own, other]: [IpAddr; 2] = [own, other].map(|address| address.parse().unwrap());
    let protocol = pick(random, &[6, 17, 47, 132, if six { 58 } else { 1 }]);
    let low = match protocol {
        6 | 17 | 132 => random.u16(16..36),
        47 => 0,
        _ => pick(random, &[3_u16, 8, 128]) << 8 | random.u16(0..2),
    };
    let source_port = if matches!(protocol, 6 | 17 | 132) {
        random.u16(16..36)
    } else {
        0
    };
    let (source, destination) = if inbound { (other, own) } else { (own, other) };
    Packet {
        source,
        destination,
        protocol,
        low,
        source_port,
    }
}

#[test]
fn entries_decide_what_a_reading_of_the_rfc_decides() {
    let mut seen = [0; 3];
    for seed in 0..400 {
        let mut random = Rng::with_seed(seed);
        let lists = ["quay:inbound", "quay:outbound"].map(|name| acl(&mut random, name));
        let module = if random.bool() {
            "ietf-access-control-list:acls"
        } else {
            "acls"
        };
        let document = json!({ module: { "acl": lists } }).to_string();
        let rest = if random.bool() {
            Action::Allow
        } else {
            Action::Deny
        };
        let reading = AclReading {
            rest: Some(rest),
            direction: Direction::In,
        };
        let part = read_acls(vec![("acl.json".to_owned(), document.clone())], &reading).unwrap();
        let sets = part.section("address_sets").to_vec();
        let estate = load(&json!({
            "format": "heronshale-snapshot", "version": 1,
            "networks": [{ "id": "n", "blocks": ["10.1.0.0/16", "2001:db8:1::/48"] }],
            "subnets": [{ "id": "s", "network": "n", "blocks": ["10.1.0.0/16", "2001:db8:1::/48"], "acl": "quay" }],
            "interfaces": [{ "id": "i", "subnet": "s", "addresses": OWN }],
            "network_acls": part.section("network_acls"), "address_sets": sets,
        }));
        let view = Fabric::new(&estate, None);
        let interface = estate.interfaces.find("i").unwrap();
        let sides: Vec<Side> = Direction::BOTH
            .map(|way| effective(&view, interface, way, None))
            .into_iter()
            .collect();
        for _ in 0..150 {
            let inbound = random.bool();
            let packet = packet(&mut random, inbound);
            let possible = verdicts(
                &lists[usize::from(!inbound)],
                rest == Action::Allow,
                &packet,
            );
            let way = if inbound {
                Direction::In
            } else {
                Direction::Out
            };
            let side = &sides[Direction::BOTH.iter().position(|one| *one == way).unwrap()];
            let engine = to_engine(&packet);
            let found = (
                side.admitted_set.contains(&engine),
                side.unknown_set.contains(&engine),
            );
            let wanted = match (possible.contains(&true), possible.contains(&false)) {
                (true, true) => (false, true),
                (passes, _) => (passes, false),
            };
            assert_eq!(
                found, wanted,
                "seed {seed}, {packet:?}: {possible:?}\n{document}"
            );
            seen[if wanted.1 { 2 } else { usize::from(wanted.0) }] += 1;
        }
    }
    assert!(seen.iter().all(|count| *count > 800), "{seen:?}");
}
