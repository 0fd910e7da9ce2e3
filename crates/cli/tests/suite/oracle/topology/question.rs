//! A random question, and parts of random estates.

use super::*;

/// A question: from where, which packet, asked by which name.
pub fn question(random: &mut Rng) -> (From, Packet, Option<&'static str>) {
    if chance(random, 88) {
        return meant(random);
    }
    let v4 = chance(random, 88);
    let (from, source) = match random.u8(0..20) {
        0..4 => (From::Internet, if v4 { "8.8.8.8" } else { "2a00::8" }),
        4..6 if v4 => (From::Site("yard".into()), "192.168.0.7"),
        6 if v4 => (From::Site("dock".into()), "192.168.8.7"),
        _ => {
            let (id, _, four, six) =
                INTERFACES[[0, 0, 0, 1, 1, 3, 3, 4, 9, 10, 10, 2, 11, 6][random.usize(0..14)]];
            let own = if v4 || six.is_empty() { four } else { six };
            (From::Interface(id.into()), own)
        }
    };
    let source: IpAddr = source.parse().unwrap();
    let to: &[&str] = if source.is_ipv4() {
        &[
            "10.1.1.4",
            "10.1.2.4",
            "10.2.1.4",
            "10.2.1.4",
            "10.2.2.4",
            "10.2.1.200",
            "10.2.1.91",
            "10.2.1.201",
            "10.3.2.1",
            "10.3.2.4",
            "10.4.2.4",
            "10.4.2.4",
            "8.8.8.8",
            "203.0.113.90",
            "200.1.1.1",
            "203.0.113.1",
            "203.0.113.2",
            "203.0.113.3",
            "203.0.113.4",
            "203.0.113.5",
            "203.0.113.20",
            "203.0.113.30",
            "203.0.113.80",
            "192.168.0.9",
            "192.168.1.9",
            "192.168.8.9",
            "10.1.2.80",
            "10.9.0.1",
            "10.1.1.77",
            "10.1.1.5",
            "10.5.0.1",
            "10.4.1.250",
        ]
    } else {
        &[
            "2001:db8:1:1::4",
            "2001:db8:1:2::4",
            "2001:db8:2:1::4",
            "2001:db8:4:2::4",
            "2a00::1",
            "2a00::8",
            "fd00::1",
        ]
    };
    let to: &[&str] = if from == From::Internet && source.is_ipv4() {
        &[
            "203.0.113.1",
            "203.0.113.2",
            "203.0.113.3",
            "203.0.113.4",
            "203.0.113.4",
            "203.0.113.20",
            "203.0.113.30",
            "203.0.113.91",
            "203.0.113.80",
            "10.1.1.4",
            "203.0.113.5",
        ]
    } else {
        to
    };
    let destination: IpAddr = pick(random, to).parse().unwrap();
    let icmp = if source.is_ipv4() { 1 } else { 58 };
    let protocol = [6, 6, 6, 6, 6, 17, icmp, 47][random.usize(0..8)];
    let low = match protocol {
        6 => [443, 443, 443, 80, 8443][random.usize(0..5)],
        17 => 53,
        1 => [0x0800, 0x0800, 0x0301][random.usize(0..3)],
        58 => 0x8000,
        _ => 0,
    };
    let name = name(random);
    (
        from,
        Packet {
            source,
            destination,
            protocol,
            low,
            source_port: 0,
        },
        name,
    )
}

pub(super) fn name(random: &mut Rng) -> Option<&'static str> {
    match random.u8(0..12) {
        0 => Some("booking.marrowfen.example"),
        1 => Some("web.example"),
        2 => Some("other.example"),
        _ => None,
    }
}

/// A question that the estate was made for.
pub(super) fn meant(random: &mut Rng) -> (From, Packet, Option<&'static str>) {
    let pairs = [
        ("ia1", "10.1.1.4", "10.2.1.4"),
        ("ia1", "10.1.1.4", "10.2.1.4"),
        ("ia1", "10.1.1.4", "10.2.1.200"),
        ("ia2", "10.1.2.4", "10.2.1.4"),
        ("ib1", "10.2.1.4", "10.1.1.5"),
        ("internet", "8.8.8.8", "203.0.113.4"),
        ("ia3", "10.1.1.5", "10.2.2.4"),
        ("ia1", "10.1.1.4", "8.8.8.8"),
        ("ia1", "10.1.1.4", "10.4.2.4"),
        ("ia1", "10.1.1.4", "203.0.113.80"),
        ("ia1", "10.1.1.4", "192.168.0.9"),
        ("ia2", "10.1.2.4", "8.8.8.8"),
        ("ia2", "10.1.2.4", "10.2.2.4"),
        ("ia3", "10.1.1.5", "10.2.1.91"),
        ("ia3", "10.1.1.5", "10.1.2.80"),
        ("ia3", "10.1.1.5", "10.2.1.4"),
        ("ia3", "10.1.1.5", "10.1.2.4"),
        ("ib1", "10.2.1.4", "10.1.1.4"),
        ("ib1", "10.2.1.4", "10.1.2.4"),
        ("ib1", "10.2.1.4", "8.8.8.8"),
        ("ib2", "10.2.2.4", "10.2.1.4"),
        ("ib2", "10.2.2.4", "10.1.1.4"),
        ("ib2", "10.2.2.4", "10.1.2.4"),
        ("ia1", "10.1.1.4", "10.2.2.4"),
        ("ib1", "10.2.1.4", "10.1.2.4"),
        ("ib2", "10.2.2.4", "10.1.1.5"),
        ("ie", "10.4.2.4", "8.8.8.8"),
        ("ie", "10.4.2.4", "10.1.1.4"),
        ("iq", "10.3.2.4", "192.168.0.9"),
        ("ia1", "2001:db8:1:1::4", "2a00::1"),
        ("internet", "8.8.8.8", "203.0.113.1"),
        ("internet", "8.8.8.8", "203.0.113.3"),
        ("internet", "8.8.8.8", "203.0.113.4"),
        ("internet", "8.8.8.8", "203.0.113.30"),
        ("internet", "8.8.8.8", "203.0.113.80"),
        ("yard", "192.168.0.7", "10.1.1.4"),
        ("yard", "192.168.0.7", "10.3.2.4"),
        ("dock", "192.168.8.7", "10.2.1.4"),
    ];
    let (from, source, destination) = pairs[random.usize(0..pairs.len())];
    let from = match from {
        "internet" => From::Internet,
        "yard" | "dock" => From::Site(from.to_owned()),
        id => From::Interface(id.to_owned()),
    };
    let (source, destination): (IpAddr, IpAddr) =
        (source.parse().unwrap(), destination.parse().unwrap());
    let (protocol, low) = [(6, 443), (6, 443), (6, 443), (17, 53), (6, 8443)][random.usize(0..5)];
    (
        from,
        Packet {
            source,
            destination,
            protocol,
            low,
            source_port: 0,
        },
        name(random),
    )
}

pub(super) fn peer(random: &mut Rng) -> &'static str {
    [
        "10.1.0.0/16",
        "10.2.0.0/16",
        "10.1.1.4",
        "internet",
        "0.0.0.0/0",
        "::/0",
        "group:g0",
        "10.4.0.0/16",
        "203.0.113.0/24",
        "192.168.0.0/24",
        "set:hidden",
        "any",
        "tag:role=web",
        "network:b",
        "site:yard",
    ][random.usize(0..15)]
}

pub(super) fn rule(random: &mut Rng, id: String, actions: &[&str]) -> Value {
    let mut rule = json!({ "id": id });
    if !actions.is_empty() {
        rule["action"] = pick(random, actions).into();
        rule["priority"] = random.u8(1..4).into();
    }
    rule["services"] = json!([pick(random, &TRAFFIC)]);
    rule["peers"] = json!([peer(random)]);
    if chance(random, 30) {
        rule["stateless"] = true.into();
    }
    rule
}

/// Rules, and behind them mostly one that lets all through.
pub(super) fn rules(random: &mut Rng, id: &str, actions: &[&str], open: u8) -> Value {
    let count = if chance(random, 45) {
        random.usize(1..3)
    } else {
        0
    };
    let mut all: Vec<Value> = (0..count)
        .map(|at| rule(random, format!("{id}{at}"), actions))
        .collect();
    if chance(random, open) {
        let mut last = json!({ "id": format!("{id}-rest") });
        if !actions.is_empty() {
            last["action"] = "allow".into();
            last["priority"] = 9.into();
        }
        all.push(last);
    }
    all.into()
}

pub(super) fn acl(random: &mut Rng, id: &str) -> Value {
    let actions = ["allow", "deny", "allow", "reject"];
    let mut acl = json!({ "id": id });
    for side in ["inbound", "outbound"] {
        acl[side] = rules(random, &format!("{id}-{side}"), &actions, 85);
        if chance(random, 55) {
            // Replies reach some client ports only.
            let low = pick(
                random,
                &["any 3000", "any 4000", "any 5000", "any 3000-4000"],
            );
            let web = json!({ "id": format!("{id}-{side}-few"), "action": "allow", "priority": 1, "services": [low, "tcp 443", "udp 53", "icmp"] });
            acl[side] = json!([web]);
        }
    }
    acl
}

pub(super) fn route(to: &[&str], hop: &str) -> Value {
    json!({ "to": to, "next_hop": hop })
}

pub(super) fn table(
    random: &mut Rng,
    id: &str,
    network: &str,
    wanted: Vec<(&[&str], String)>,
) -> Value {
    let mut routes: Vec<Value> = Vec::new();
    for (to, hop) in wanted {
        if !chance(random, 6) {
            let mut one = route(to, &hop);
            if chance(random, 4) {
                one["metric"] = 1.into();
            }
            if chance(random, 3) {
                one["only_tagged"] = json!({ "role": "web" });
            }
            if chance(random, 3) {
                one["only_from"] =
                    json!([pick(random, &["10.1.1.0/24", "10.2.0.0/16", "0.0.0.0/0"])]);
            }
            if chance(random, 3) {
                one["enabled"] = false.into();
            }
            routes.push(one);
        }
    }
    if chance(random, 14) {
        let to = pick(
            random,
            &[
                "10.1.0.0/16",
                "10.2.0.0/16",
                "0.0.0.0/0",
                "10.2.1.4",
                "203.0.113.80",
                "192.168.0.0/24",
                "10.4.0.0/16",
                "8.8.8.8",
                "10.1.1.4",
            ],
        );
        let hops = [
            "blackhole",
            "firewall:fw",
            "peering:aq",
            "peering:qb",
            "hub:h",
            "interface:rt",
            "10.3.1.9",
            "gateway:gone",
            "local",
            "balancer:ilb",
            "gateway:ig-a",
            "gateway:sg",
            "service:svc",
            "interface:fin",
        ];
        routes.push(route(&[to], pick(random, &hops)));
    }
    let mut table = json!({ "id": id, "network": network, "routes": routes });
    if chance(random, 25) {
        table["accepts_propagation"] = true.into();
    }
    table
}

pub(super) fn firewall_rules(random: &mut Rng, id: &str) -> Value {
    let mut all = Vec::new();
    for at in 0..random.usize(0..3) {
        let mut one = json!({ "id": format!("{id}{at}"), "action": mostly(random, 60, &["allow", "deny", "reject", "defer"]), "services": [mostly(random, 55, &["any", "tcp 443", "udp 53", "icmp", "tcp 80"])] });
        if chance(random, 70) {
            one["priority"] = random.u8(0..3).into();
        }
        if chance(random, 30) {
            one["sources"] = json!([peer(random)]);
        }
        if chance(random, 25) {
            one["destinations"] = json!([peer(random)]);
        }
        for side in ["except_sources", "except_destinations"] {
            if chance(random, 8) {
                one[side] = json!([pick(
                    random,
                    &["10.2.1.4", "10.1.0.0/16", "set:hidden", "8.8.8.8"]
                )]);
            }
        }
        if chance(random, 45) {
            one["names"] = json!([pick(random, &["web", "all"])]);
        }
        if chance(random, 45) {
            one["condition"] =
                pick(random, &["a person of the office", "the path is /open"]).into();
        }
        if chance(random, 15) {
            one["from_zones"] = json!([pick(random, &["inside", "outside"])]);
        }
        if chance(random, 15) {
            one["to_zones"] = json!([pick(random, &["inside", "outside"])]);
        }
        all.push(one);
    }
    all.into()
}

pub(super) fn policy(random: &mut Rng, id: &str, base: Option<&str>, open: u8, turns: u8) -> Value {
    let mut sections = vec![
        json!({ "id": "one", "priority": 5, "rules": firewall_rules(random, &format!("{id}-s")) }),
    ];
    if chance(random, 40) {
        let mut more = json!({ "id": "two", "rules": firewall_rules(random, &format!("{id}-t")) });
        if random.bool() {
            more["priority"] = 2.into();
        }
        if random.bool() {
            more["class"] = "second".into();
        }
        sections.push(more);
    }
    let mut policy = json!({ "id": id, "class_order": ["second"], "sections": sections, "rules": firewall_rules(random, &format!("{id}-r")) });
    if let Some(base) = base {
        policy["base"] = base.into();
    }
    let turning = chance(random, turns);
    if turning {
        // Most turns on a name, a person or a path.
        let mut first = json!({ "id": format!("{id}-turns"), "action": "allow", "priority": 0 });
        match random.u8(0..3) {
            0 => first["names"] = json!([pick(random, &["web", "all"])]),
            1 => first["condition"] = "a person of the office".into(),
            _ => first["condition"] = "the path is /open".into(),
        }
        policy["sections"]
            .as_array_mut()
            .unwrap()
            .push(json!({ "id": "turns", "priority": 1, "rules": [first] }));
    }
    if !turning && chance(random, open) {
        policy["default"] = "allow".into();
    }
    policy
}
