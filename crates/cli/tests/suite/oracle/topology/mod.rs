//! Random estates in which packets travel: peerings, a hub with two networks and a site, firewalls, translators, balancers, a
//! service with both doors. Most of each estate is set up so that connections work; some pieces are taken away.

mod question;

pub use question::question;
use question::{acl, firewall_rules, policy, route, rules, table};

use super::naive::Packet;
use super::walker::From;
use crate::oracle::pick;
use fastrand::Rng;
use serde_json::{Value, json};
use std::net::IpAddr;

fn chance(random: &mut Rng, percent: u8) -> bool {
    random.u8(0..100) < percent
}

/// The first one mostly, else one of the rest.
fn mostly<'s>(random: &mut Rng, percent: u8, from: &[&'s str]) -> &'s str {
    if chance(random, percent) {
        from[0]
    } else {
        pick(random, from)
    }
}

const NETWORKS: [(&str, &str, &str); 4] = [
    ("a", "10.1.0.0/16", "2001:db8:1::/48"),
    ("b", "10.2.0.0/16", "2001:db8:2::/48"),
    ("q", "10.3.0.0/16", "2001:db8:3::/48"),
    ("e", "10.4.0.0/16", "2001:db8:4::/48"),
];
const SUBNETS: [(&str, &str, &str, &str); 8] = [
    ("a1", "a", "10.1.1.0/24", "2001:db8:1:1::/64"),
    ("a2", "a", "10.1.2.0/24", "2001:db8:1:2::/64"),
    ("b1", "b", "10.2.1.0/24", "2001:db8:2:1::/64"),
    ("b2", "b", "10.2.2.0/24", "2001:db8:2:2::/64"),
    ("q1", "q", "10.3.1.0/24", "2001:db8:3:1::/64"),
    ("q2", "q", "10.3.2.0/24", "2001:db8:3:2::/64"),
    ("e1", "e", "10.4.1.0/24", "2001:db8:4:1::/64"),
    ("e2", "e", "10.4.2.0/24", "2001:db8:4:2::/64"),
];
const INTERFACES: [(&str, &str, &str, &str); 14] = [
    ("ia1", "a1", "10.1.1.4", "2001:db8:1:1::4"),
    ("ia2", "a2", "10.1.2.4", "2001:db8:1:2::4"),
    ("ia3", "a1", "10.1.1.5", ""),
    ("ib1", "b1", "10.2.1.4", "2001:db8:2:1::4"),
    ("ib2", "b2", "10.2.2.4", ""),
    ("fin", "q1", "10.3.1.1", "2001:db8:3:1::1"),
    ("fout", "q2", "10.3.2.1", "2001:db8:3:2::1"),
    ("gin", "q1", "10.3.1.2", ""),
    ("rt", "q1", "10.3.1.9", ""),
    ("iq", "q2", "10.3.2.4", ""),
    ("ie", "e2", "10.4.2.4", "2001:db8:4:2::4"),
    ("door", "a2", "10.1.2.80", ""),
    ("px1", "b1", "10.2.1.91", ""),
    ("px2", "b2", "10.2.2.92", ""),
];
const TRAFFIC: [&str; 6] = ["tcp 443", "tcp 80", "udp 53", "icmp", "tcp 8443", "any"];

/// A random estate.
pub fn estate(random: &mut Rng) -> Value {
    // In some nothing is taken away but what turns on a condition.
    let whole = chance(random, 62);
    let by_firewall = whole || chance(random, 88);
    let by_hub = !whole && chance(random, 30);
    let mut settings = json!({ "client_ports": "3000-3001", "nat_ports": pick(random, &["3000-3001", "4000-4001"]) });
    for (name, words) in [
        ("automatic_routes", ["overridable", "fixed"]),
        ("equal_routes", ["all", "first"]),
        ("missing_next_hop", ["lost", "skipped"]),
        ("same_subnet", ["direct", "routed"]),
        ("policy_sees", ["translated", "original"]),
        ("no_healthy", ["lost", "all"]),
        ("door_route", ["none", "automatic"]),
        ("no_group", ["allow", "allow"]),
        ("named_peer_reach", ["peered", "estate"]),
    ] {
        if chance(random, 25) {
            settings[name] = pick(random, &words).into();
        }
    }
    if chance(random, 15) {
        settings["filter_private_doors"] = false.into();
    }
    let mut estate = json!({
        "format": "heronshale-snapshot", "version": 1,
        "estate": { "name": "random", "taken": "2026-11-02T06:00:00Z", "settings": settings },
        "address_sets": [{ "id": "hidden", "content": if chance(random, 50) { json!("unknown") } else { json!(["10.1.1.4", "8.8.8.8"]) } }],
        "name_sets": [{ "id": "web", "names": ["web.example", "*.marrowfen.example"] }, { "id": "all", "names": ["booking.marrowfen.example"] }],
        "sites": [
            { "id": "yard", "holds": ["192.168.0.0/24"], "announces": if chance(random, 25) { json!(["192.168.0.0/24", "0.0.0.0/0"]) } else { json!(["192.168.0.0/23"]) } },
            { "id": "dock", "holds": ["192.168.8.0/24"] },
        ],
        "security_groups": [{ "id": "g0" }],
        "gaps": [],
    });
    if chance(random, 10) {
        estate["sites"][0]["knows"] = json!(["10.1.0.0/16", "10.2.1.0/24"]);
    }
    if chance(random, 12) {
        estate["estate"]["platform_traffic"] =
            json!([{ "addresses": ["8.8.8.8"], "services": ["udp 53"] }]);
    }
    estate["networks"] = NETWORKS
        .iter()
        .map(|(id, v4, v6)| {
            let mut network =
                json!({ "id": id, "blocks": [v4, v6], "main_table": format!("t-{id}") });
            if chance(random, 4) {
                network["internet_traffic"] = pick(random, &["none", "outbound_only"]).into();
            }
            network
        })
        .collect();
    estate["network_acls"] = ["n0", "n1", "n2"]
        .iter()
        .map(|id| acl(random, id))
        .collect();
    estate["subnets"] = SUBNETS
        .iter()
        .map(|(id, network, v4, v6)| {
            let mut subnet = json!({ "id": id, "network": network, "blocks": [v4, v6] });
            if chance(random, if whole { 27 } else { 58 }) {
                subnet["acl"] = if chance(random, 8) {
                    "gone".into()
                } else {
                    pick(random, &["n0", "n1", "n2"]).into()
                };
            }
            if chance(random, 3) {
                subnet["internet_traffic"] = pick(random, &["none", "outbound_only"]).into();
            }
            if chance(random, 8) {
                subnet["default_outbound"] = true.into();
            }
            if chance(random, 5) {
                subnet["filter_private_doors"] = false.into();
            }
            subnet
        })
        .collect();
    let ordered = ["allow", "deny", "allow"];
    let groups: Vec<Value> = ["g1", "g2", "g3"]
        .iter()
        .map(|id| json!({ "id": id, "inbound": rules(random, &format!("{id}-in"), &[], 80), "outbound": rules(random, &format!("{id}-out"), &[], 85) }))
        .collect();
    estate["security_groups"]
        .as_array_mut()
        .unwrap()
        .extend(groups);
    estate["own_firewalls"] = json!([{ "id": "own", "default_inbound": "allow", "default_outbound": "allow", "inbound": rules(random, "own-in", &ordered, 50), "outbound": rules(random, "own-out", &ordered, 50) }]);
    estate["interfaces"] = INTERFACES
        .iter()
        .map(|(id, subnet, v4, v6)| {
            let addresses: Vec<&str> = [*v4, *v6].into_iter().filter(|a| !a.is_empty()).collect();
            let mut one = json!({ "id": id, "subnet": subnet, "addresses": addresses });
            if chance(random, if whole { 6 } else { 25 }) {
                one["groups"] = match random.u8(0..30) {
                    0..3 => json!(["gone"]),
                    3..5 => json!(["g1", "g0"]),
                    _ => json!([pick(random, &["g1", "g2", "g3"])]),
                };
            }
            if chance(random, 8) {
                one["own_firewall"] = "own".into();
            }
            if chance(random, 30) {
                one["tags"] = json!({ "role": "web" });
            }
            if matches!(*id, "fin" | "fout" | "gin" | "rt") {
                one["forwards"] = (whole || !chance(random, 7)).into();
            }
            if chance(random, 4) {
                one["unfiltered"] = true.into();
            }
            one
        })
        .collect();
    let attached = !chance(random, 8);
    estate["gateways"] = json!([
        { "id": "ig-a", "kind": "internet", "network": "a", "attached": attached },
        { "id": "ig-e", "kind": "internet", "network": "e" },
        { "id": "ig-q", "kind": "internet", "network": "q" },
        { "id": "nat", "kind": "nat", "network": "e", "subnet": "e1", "address": "10.4.1.250", "public": "203.0.113.20" },
        { "id": "nat-a", "kind": "nat", "network": "a", "subnet": "a2", "address": "10.1.2.250", "public": "203.0.113.21" },
        { "id": "out6", "kind": "outbound-only", "network": "a" },
        { "id": "sg", "kind": "site", "network": "q", "site": "yard", "up": !chance(random, 8) },
        { "id": "sg-a", "kind": "site", "network": "a", "site": "yard" },
    ]);
    if chance(random, 60) {
        estate["gateways"].as_array_mut().unwrap().pop();
    }
    if chance(random, 10) {
        estate["gateways"][3]["serves"] = json!(["e2"]);
    }
    if chance(random, 15) {
        estate["gateways"][0]["table"] = "t-ig".into();
    }
    estate["public_addresses"] = json!([
        { "address": "203.0.113.1", "interface": "ia1" }, { "address": "203.0.113.2", "interface": "ib1" },
        { "address": "203.0.113.3", "interface": "ie" }, { "address": "203.0.113.4", "interface": "fout" }, { "address": "203.0.113.5" },
    ]);
    let side = |random: &mut Rng, network: &str| {
        let mut side =
            json!({ "network": network, "accept_forwarded": whole || !chance(random, 25) });
        if chance(random, 4) {
            side["up"] = false.into();
        }
        if !whole && chance(random, 10) {
            side["peer_routes"] = "written".into();
        }
        side["lend_gateways"] = (network == "q").into();
        side["use_gateways"] = (network == "a" && chance(random, 60)).into();
        side
    };
    estate["peerings"] = json!([
        { "id": "aq", "sides": [side(random, "a"), side(random, "q")] },
        { "id": "qb", "sides": [side(random, "q"), side(random, "b")] },
    ]);
    if chance(random, 25) {
        estate["peerings"]
            .as_array_mut()
            .unwrap()
            .push(json!({ "id": "ab", "sides": [side(random, "b"), side(random, "a")] }));
    }
    if chance(random, 20) {
        estate["peerings"].as_array_mut().unwrap().push(
            json!({ "id": "bx", "sides": [side(random, "b"), { "network": "lost-network" }] }),
        );
        estate["gaps"]
            .as_array_mut()
            .unwrap()
            .push(json!({ "object": "network:lost-network", "blocks": ["10.9.0.0/16", "203.0.113.90/31"] }));
    }
    if chance(random, 6) {
        estate["gaps"]
            .as_array_mut()
            .unwrap()
            .push(json!({ "object": "network:b", "lacks": "interfaces" }));
    }
    let to_b = if by_hub {
        "hub:h"
    } else if by_firewall {
        "firewall:fw"
    } else {
        mostly(random, 80, &["peering:aq", "10.1.2.250"])
    };

    let to_b = if estate["peerings"]
        .as_array()
        .unwrap()
        .iter()
        .any(|p| p["id"] == "ab")
        && !whole
        && chance(random, 50)
    {
        "peering:ab"
    } else {
        to_b
    };
    let inline = !by_hub && chance(random, 9);
    let to_b = if inline { "balancer:ilb" } else { to_b };
    let to_a = if by_hub {
        "hub:h"
    } else if whole {
        "firewall:fw"
    } else {
        mostly(random, 80, &["firewall:fw", "balancer:ilb"])
    };
    let out_a = mostly(
        random,
        40,
        &["gateway:nat-a", "gateway:ig-a", "firewall:fw", "hub:h"],
    );
    let out_a2 = mostly(random, 50, &["gateway:nat-a", "gateway:ig-a", "hub:h"]);
    let out_b = mostly(random, 60, &["hub:h", "firewall:fw", "peering:qb"]);
    let v6 = mostly(random, 50, &["gateway:out6", "gateway:ig-a"]);
    let to_yard = mostly(random, 60, &["gateway:sg", "hub:h", "peering:aq"]);
    let b: &[&str] = &["10.2.0.0/16", "2001:db8:2::/48"];
    let a: &[&str] = &["10.1.0.0/16", "2001:db8:1::/48"];
    let four: &[&str] = &["0.0.0.0/0"];
    let six: &[&str] = &["::/0"];
    let yard: &[&str] = &["192.168.0.0/24"];
    let e: &[&str] = &["10.4.0.0/16"];
    let dock: &[&str] = &["192.168.8.0/24"];
    let s = str::to_owned;
    estate["route_tables"] = json!([
        table(
            random,
            "t-a",
            "a",
            vec![
                (b, s(to_b)),
                (four, s(out_a)),
                (six, s(v6)),
                (yard, s(to_yard)),
                (e, s("hub:h")),
                (dock, s("hub:h"))
            ]
        ),
        table(
            random,
            "t-a2",
            "a",
            vec![
                (b, s(to_b)),
                (four, s(out_a2)),
                (six, s(v6)),
                (e, s("hub:h"))
            ]
        ),
        table(
            random,
            "t-b",
            "b",
            vec![
                (a, s(to_a)),
                (four, s(out_b)),
                (e, s("hub:h")),
                (yard, s("hub:h"))
            ]
        ),
        table(
            random,
            "t-q",
            "q",
            vec![(four, s("gateway:ig-q")), (yard, s("gateway:sg"))]
        ),
        table(
            random,
            "t-e",
            "e",
            vec![
                (
                    &["10.1.0.0/16", "10.2.0.0/16", "192.168.0.0/16"],
                    s("hub:h")
                ),
                (four, s("gateway:ig-e")),
                (six, s("gateway:ig-e"))
            ]
        ),
        table(
            random,
            "t-e2",
            "e",
            vec![
                (&["10.1.0.0/16", "10.2.0.0/16"], s("hub:h")),
                (four, s("gateway:nat"))
            ]
        ),
        table(
            random,
            "t-ig",
            "a",
            vec![(&["10.1.1.0/24"], s("firewall:fw"))]
        ),
    ]);
    if chance(random, 60) {
        estate["subnets"][1]["route_table"] = "t-a2".into();
    }
    if chance(random, 85) {
        estate["subnets"][7]["route_table"] = "t-e2".into();
    }
    if chance(random, 3) {
        estate["subnets"][2]["route_table"] = "gone".into();
    }
    let mut firewall = json!({
        "id": "fw", "policy": if chance(random, 4) { "gone" } else { "p0" },
        "interfaces": [{ "interface": "fin", "zone": "inside" }, { "interface": "fout", "zone": "outside" }],
    });
    if chance(random, if whole { 15 } else { 45 }) {
        firewall["routes"] = json!([
            { "to": ["10.0.0.0/8", "192.168.0.0/16"], "interface": "fin" }, { "to": [pick(random, &["0.0.0.0/0", "8.8.8.0/24"])], "interface": "fout" },
        ]);
    }
    if chance(random, 35) {
        firewall["source_translations"] = json!([{ "sources": ["10.0.0.0/8"], "destinations": [pick(random, &["internet", "10.2.0.0/16", "any"])] }]);
        if chance(random, 30) {
            firewall["source_translations"][0]["to"] =
                pick(random, &["10.3.2.1", "10.3.1.1"]).into();
        }
        if chance(random, 20) {
            firewall["source_translations"][0]["to_zones"] = json!(["outside"]);
        }
    }
    if chance(random, 50) {
        firewall["destination_translations"] = json!([{ "destinations": ["10.3.2.1"], "services": ["tcp 443"], "to": pick(random, &["10.2.1.4", "10.1.1.4"]), "port": 8443 }]);
    }
    if chance(random, if whole { 16 } else { 45 }) {
        firewall["members"] = json!([{ "id": "m1", "up": !chance(random, 25) }, { "id": "m2", "up": !chance(random, 25) }]);
        firewall["symmetric"] = chance(random, 30).into();
    }
    let mut second = json!({ "id": "gw", "policy": "p1", "interfaces": [{ "interface": "gin", "zone": "inside" }] });
    if chance(random, 20) {
        second["members"] = json!([{ "id": "only", "up": false }]);
    }
    let mut hub_firewall = json!({ "id": "hf", "hub": "h", "addresses": ["10.8.0.1"], "policy": "p1",
        "source_translations": if chance(random, 25) { json!([{ "destinations": ["10.4.0.0/16"], "to": "10.8.0.1" }]) } else { json!([]) } });
    for one in [&mut firewall, &mut second, &mut hub_firewall] {
        match random.u8(0..6) {
            0..4 => one["own_services"] = json!([]),
            4 => {
                one["own_services"] = json!([{ "services": ["tcp 443", "icmp 8"], "sources": ["10.0.0.0/8", "set:hidden"] }])
            }
            _ => {}
        }
    }
    estate["firewalls"] = json!([firewall, second, hub_firewall]);
    let base = json!({ "id": "base", "rules": firewall_rules(random, "base") });
    estate["firewall_policies"] = json!([
        base,
        policy(random, "p0", Some("base"), 60, if whole { 90 } else { 50 }),
        policy(random, "p1", None, 75, 50)
    ]);
    let up = |random: &mut Rng| !chance(random, 4);
    let mut links = vec![
        json!({ "id": "la", "to": "network:a", "up": up(random), "reads": "d0", "announces_into": ["d0"] }),
        json!({ "id": "lb", "to": "network:b", "up": up(random), "reads": "d0", "announces_into": ["d0", "d1"] }),
        json!({ "id": "le", "to": "network:e", "up": up(random), "reads": mostly(random, 85, &["d0", "d1"]), "announces_into": ["d0"], "subnet": mostly(random, 70, &["e2", "e1"]) }),
        json!({ "id": "ls", "to": "site:dock", "up": up(random), "reads": "d0", "announces_into": ["d0", "d1"] }),
        json!({ "id": "lf", "to": "firewall:hf", "reads": "d0" }),
    ];
    if chance(random, 40) {
        links[0]["subnet"] = pick(random, &["a1", "a2"]).into();
    }
    if chance(random, 30) {
        links.pop();
    }
    for link in links.iter_mut().take(2) {
        if chance(random, 25) {
            link["steer_private"] = "hf".into();
        }
        if chance(random, 15) {
            link["steer_internet"] = "hf".into();
        }
        if chance(random, 15) {
            link["offers_default"] = true.into();
        }
    }
    if chance(random, 20) {
        links.push(json!({ "id": "lh", "to": "hub:h2", "reads": "d0", "announces_into": [] }));
    }
    let mut static_routes = vec![route(&["0.0.0.0/0"], "link:le")];
    if chance(random, 12) {
        static_routes.push(route(
            &[pick(random, &["10.2.1.0/24", "10.1.0.0/16", "8.8.8.8"])],
            pick(random, &["blackhole", "link:lb", "link:gone", "link:la"]),
        ));
    }
    if chance(random, 15) {
        static_routes.push(route(&["192.168.0.0/24"], "link:lh"));
    }
    estate["hubs"] = json!([
        { "id": "h", "domains": [{ "id": "d0", "routes": static_routes }, { "id": "d1", "routes": [route(&["10.1.0.0/16"], "link:la")] }], "links": links },
        { "id": "h2", "domains": [{ "id": "d", "routes": [route(&["10.0.0.0/8"], "link:back")] }],
          "links": [{ "id": "back", "to": "hub:h", "reads": "d" }, { "id": "yard", "to": "site:yard", "reads": "d", "announces_into": ["d"] }] },
    ]);
    let port = |random: &mut Rng| {
        if chance(random, 40) {
            json!(8443)
        } else {
            Value::Null
        }
    };
    let mut keeping = json!({
        "id": "kb", "network": "b", "kind": "keeping", "replies": pick(random, &["by_balancer", "routed"]),
        "front_ends": [{ "address": "10.2.1.200", "services": ["tcp 443", "udp 53"] }],
        "back_ends": [{ "interface": "ib1" }, { "address": "10.2.2.4", "healthy": chance(random, 50) }],
    });
    if chance(random, 60) {
        keeping["subnet"] = "b1".into();
    }
    let mut public = json!({
        "id": "pub", "network": "a", "kind": "keeping", "front_ends": [{ "address": "203.0.113.30", "public": true, "services": ["tcp 443"] }],
        "replies": pick(random, &["by_balancer", "routed"]), "back_ends": [{ "interface": "ia1" }, { "interface": "ia2", "healthy": chance(random, 60) }],
    });
    if chance(random, 40) {
        public["subnet"] = "a1".into();
    }
    let mut proxy = json!({
        "id": "pb", "network": "b", "kind": "proxy", "interfaces": if random.bool() { json!(["px1"]) } else { json!(["px1", "px2"]) },
        "front_ends": [{ "address": pick(random, &["10.2.1.91", "10.2.1.201"]), "services": ["tcp 443"] }],
        "back_ends": [{ "interface": "ib1" }, { "address": "10.1.1.4", "healthy": chance(random, 50) }],
    });
    for (balancer, at) in [(&mut keeping, 0), (&mut public, 0), (&mut proxy, 0)] {
        let found = port(random);
        if !found.is_null() {
            balancer["back_ends"][at]["port"] = found;
        }
        if chance(random, 8) {
            balancer["back_ends"][0]["healthy"] = false.into();
        }
    }
    let next_hop = json!({ "id": "ilb", "network": "q", "kind": "keeping", "symmetric": chance(random, 50), "back_ends": [{ "interface": "fin" }, { "interface": "gin" }] });
    estate["balancers"] = json!([keeping, public, proxy, next_hop]);
    let mut service = json!({
        "id": "svc", "services": ["tcp 443"], "private_doors": ["door"],
        "public_door": { "addresses": ["203.0.113.80"], "open": !chance(random, 15) },
    });
    match random.u8(0..6) {
        0 => service["public_door"]["allowed"] = json!([]),
        1 => {
            service["public_door"]["allowed"] =
                json!(["203.0.113.1", "203.0.113.20", "10.1.0.0/16"])
        }
        2 => service["public_door"]["allowed"] = json!(["set:hidden", "203.0.113.21"]),
        _ => {}
    }
    if chance(random, 35) {
        service["balancer"] = pick(random, &["kb", "pb"]).into();
        service["provider_source"] = "10.2.2.99".into();
    }
    estate["services"] = json!([service]);
    if inline && chance(random, 80) {
        // Nothing but the balancer decides.
        for policy in estate["firewall_policies"].as_array_mut().unwrap() {
            *policy = json!({ "id": policy["id"], "default": "allow" });
        }
        for at in [0, 1] {
            for field in [
                "members",
                "routes",
                "source_translations",
                "destination_translations",
            ] {
                estate["firewalls"][at]
                    .as_object_mut()
                    .unwrap()
                    .remove(field);
            }
        }
        for at in [0, 2, 4] {
            estate["subnets"][at].as_object_mut().unwrap().remove("acl");
        }
        for at in [5, 7] {
            estate["interfaces"][at]["forwards"] = true.into();
            estate["interfaces"][at]
                .as_object_mut()
                .unwrap()
                .remove("groups");
        }
    }
    estate
}
