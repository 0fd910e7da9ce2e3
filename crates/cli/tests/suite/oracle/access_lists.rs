//! Access control lists of RFC 8519: random documents, read entry by entry and packet by packet, against what they become.

use super::agreement::{load, to_engine};
use super::naive::{Packet, in_block, list, text};
use crate::oracle::pick;
use fastrand::Rng;
use heronshale_core::effective::{Side, effective};
use heronshale_core::model::{Action, Direction};
use heronshale_core::view::View;
use heronshale_intake::{AclReading, read_acls};
use serde_json::{Value, json};
use std::net::IpAddr;

const OWN: [&str; 2] = ["10.1.0.4", "2001:db8:1::4"];
const OTHERS: [[&str; 3]; 2] = [["10.2.0.9", "8.8.8.8", "10.3.0.1"], ["2001:db8:2::9", "2a00::1", "2001:db8:3::1"]];
const PREFIXES: [[&str; 5]; 2] = [
    ["10.2.0.0/16", "10.0.0.0/8", "10.1.0.4/32", "0.0.0.0/0", "10.1.0.0/16"],
    ["2001:db8:2::/48", "2001:db8::/32", "2001:db8:1::4/128", "::/0", "2a00::/16"],
];

fn chance(random: &mut Rng, percent: u8) -> bool {
    random.u8(0..100) < percent
}

/// A name as the module writes it, or with the module before it.
fn identity(random: &mut Rng, name: &str) -> String {
    if random.bool() { name.to_owned() } else { format!("ietf-access-control-list:{name}") }
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
    let protocol = pick(random, &[None, Some("tcp"), Some("udp"), Some("icmp"), Some("gre")]);
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
                network[format!("{side}-{word}-network")] = pick(random, &PREFIXES[usize::from(six)]).into();
            }
        }
        if let Some(protocol) = protocol.filter(|protocol| *protocol == "gre" || chance(random, 50)) {
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
                "destination-ipv4-network" | "destination-ipv6-network" => within(packet.destination),
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
        let accepts = ace["actions"]["forwarding"].as_str().unwrap().ends_with("accept");
        let (fits, more) = ace.get("matches").map_or((true, false), |matches| matched(matches, packet));
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
    let [own, other] = [OWN[usize::from(six)], pick(random, &OTHERS[usize::from(six)])];
    let [own, other]: [IpAddr; 2] = [own, other].map(|address| address.parse().unwrap());
    let protocol = pick(random, &[6, 17, 47, 132, if six { 58 } else { 1 }]);
    let low = match protocol {
        6 | 17 | 132 => random.u16(16..36),
        47 => 0,
        _ => pick(random, &[3_u16, 8, 128]) << 8 | random.u16(0..2),
    };
    let source_port = if matches!(protocol, 6 | 17 | 132) { random.u16(16..36) } else { 0 };
    let (source, destination) = if inbound { (other, own) } else { (own, other) };
    Packet { source, destination, protocol, low, source_port }
}

#[test]
fn entries_decide_what_a_reading_of_the_rfc_decides() {
    let mut seen = [0; 3];
    for seed in 0..400 {
        let mut random = Rng::with_seed(seed);
        let lists = ["quay:inbound", "quay:outbound"].map(|name| acl(&mut random, name));
        let module = if random.bool() { "ietf-access-control-list:acls" } else { "acls" };
        let document = json!({ module: { "acl": lists } }).to_string();
        let rest = if random.bool() { Action::Allow } else { Action::Deny };
        let reading = AclReading { rest: Some(rest), direction: Direction::In };
        let part = read_acls(vec![("acl.json".to_owned(), document.clone())], &reading).unwrap();
        let sets = part.section("address_sets").to_vec();
        let estate = load(&json!({
            "format": "heronshale-snapshot", "version": 1,
            "networks": [{ "id": "n", "blocks": ["10.1.0.0/16", "2001:db8:1::/48"] }],
            "subnets": [{ "id": "s", "network": "n", "blocks": ["10.1.0.0/16", "2001:db8:1::/48"], "acl": "quay" }],
            "interfaces": [{ "id": "i", "subnet": "s", "addresses": OWN }],
            "network_acls": part.section("network_acls"), "address_sets": sets,
        }));
        let view = View::new(&estate, None);
        let interface = estate.interfaces.find("i").unwrap();
        let sides: Vec<Side> = Direction::BOTH.map(|way| effective(&view, interface, way, None)).into_iter().collect();
        for _ in 0..150 {
            let inbound = random.bool();
            let packet = packet(&mut random, inbound);
            let possible = verdicts(&lists[usize::from(!inbound)], rest == Action::Allow, &packet);
            let way = if inbound { Direction::In } else { Direction::Out };
            let side = &sides[Direction::BOTH.iter().position(|one| *one == way).unwrap()];
            let engine = to_engine(&packet);
            let found = (side.admitted_set.contains(&engine), side.unknown_set.contains(&engine));
            let wanted = match (possible.contains(&true), possible.contains(&false)) {
                (true, true) => (false, true),
                (passes, _) => (passes, false),
            };
            assert_eq!(found, wanted, "seed {seed}, {packet:?}: {possible:?}\n{document}");
            seen[if wanted.1 { 2 } else { usize::from(wanted.0) }] += 1;
        }
    }
    assert!(seen.iter().all(|count| *count > 800), "{seen:?}");
}

/// Where next hops lead that name an interface, or an address that it holds.
const HOPS: [(&str, &str, &str); 3] = [
    ("quay-0", "10.1.0.11", "2001:db8:1::11"),
    ("quay-1", "10.1.0.12", "2001:db8:1::12"),
    ("quay-2", "10.1.0.13", "2001:db8:1::13"),
];

/// A next hop as RFC 8349 has it, and its name here.
fn next_hop(random: &mut Rng, six: bool) -> (Value, &'static str) {
    let (name, four, own) = pick(random, &HOPS);
    match random.u8(0..4) {
        0 => {
            let special = pick(random, &["blackhole", "unreachable", "prohibit"]);
            (json!({ "special-next-hop": identity(random, special) }), "blackhole")
        }
        1 => (json!({ "outgoing-interface": name }), name),
        _ => (json!({ "next-hop-address": if six { own } else { four } }), name),
    }
}

#[test]
fn static_routes_of_rfc_8349_win_where_their_prefixes_are_longest() {
    use heronshale_core::address::Addresses;
    use heronshale_core::route::{Hop, routed};
    use std::collections::BTreeSet;
    const TO: [[&str; 5]; 2] = [
        ["0.0.0.0/0", "10.0.0.0/8", "10.2.0.0/16", "8.8.0.0/16", "10.2.0.9/32"],
        ["::/0", "2001:db8::/32", "2001:db8:2::/48", "2a00::/16", "2001:db8:2::9/128"],
    ];
    let mut seen = [0; 3];
    for seed in 0..200 {
        let mut random = Rng::with_seed(seed);
        let mut written: Vec<(String, BTreeSet<&str>)> = Vec::new();
        let mut families = [Vec::new(), Vec::new()];
        for _ in 0..random.usize(0..8) {
            let six = random.bool();
            let to = pick(&mut random, &TO[usize::from(six)]);
            // One route for each prefix, with one next hop or a list of them.
            if written.iter().any(|(known, _)| known == to) {
                continue;
            }
            let hops: Vec<(Value, &str)> = (0..random.usize(1..3)).map(|_| next_hop(&mut random, six)).collect();
            let names: BTreeSet<&str> = hops.iter().map(|(_, name)| *name).collect();
            let hop = match &hops[..] {
                [(one, _)] => one.clone(),
                _ => json!({ "next-hop-list": { "next-hop": hops.iter().map(|(hop, _)| hop).collect::<Vec<_>>() } }),
            };
            let of = if six { "ietf-ipv6-unicast-routing" } else { "ietf-ipv4-unicast-routing" };
            let field =
                if random.bool() { format!("{of}:destination-prefix") } else { "destination-prefix".to_owned() };
            families[usize::from(six)].push(json!({ field: to, "next-hop": hop }));
            written.push((to.to_owned(), names));
        }
        let [four, six] = families;
        let protocol = json!({ "type": "ietf-routing:static", "name": "st", "static-routes": {
            "ietf-ipv4-unicast-routing:ipv4": { "route": four }, "ietf-ipv6-unicast-routing:ipv6": { "route": six } } });
        let document =
            json!({ "ietf-routing:routing": { "control-plane-protocols": { "control-plane-protocol": [protocol] } } })
                .to_string();
        let part =
            heronshale_intake::read_routes(vec![("r.json".to_owned(), document.clone())], "t", "n", None).unwrap();
        let interface = |(name, four, six): &(&str, &str, &str)| json!({ "id": name, "subnet": "s", "addresses": [four, six], "forwards": true });
        let estate = load(&json!({
            "format": "heronshale-snapshot", "version": 1,
            "networks": [{ "id": "n", "blocks": ["10.1.0.0/16", "2001:db8:1::/48"], "main_table": "t" }],
            "subnets": [{ "id": "s", "network": "n", "blocks": ["10.1.0.0/16", "2001:db8:1::/48"] }],
            "interfaces": HOPS.iter().map(interface).collect::<Vec<_>>(),
            "route_tables": part.section("route_tables"),
        }));
        let view = View::new(&estate, None);
        for to in OTHERS.concat() {
            let to: IpAddr = to.parse().unwrap();
            let length = |prefix: &str| prefix.split_once('/').unwrap().1.parse::<u8>().unwrap();
            let fits = written.iter().filter(|(prefix, _)| in_block(to, prefix));
            let wanted =
                fits.max_by_key(|(prefix, _)| length(prefix)).map(|(_, names)| names.clone()).unwrap_or_default();
            let found = routed(&view, estate.subnets.find("s").unwrap(), None, None, &Addresses::single(to));
            let name = |hop: Hop| match hop {
                Hop::Blackhole => "blackhole".to_owned(),
                Hop::Interface(interface) => estate.interfaces[interface].name.to_string(),
                other => format!("{other:?}"),
            };
            let found: BTreeSet<String> =
                found.iter().flat_map(|routed| &routed.winners).map(|winner| name(winner.hop)).collect();
            assert_eq!(found, wanted.iter().map(ToString::to_string).collect(), "seed {seed}, {to}\n{document}");
            seen[wanted.len()] += 1;
        }
    }
    assert!(seen.iter().all(|count| *count > 100), "{seen:?}");
}
