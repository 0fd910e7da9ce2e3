//! Direct exposure of thousands of random estates, against a naive walk of one packet and its reply.

use super::agreement::{load, to_engine};
use super::estates::{INTERFACES, estate, packet};
use super::naive::{Evaluator, Fate, Packet, in_block, list, reply_to, text};
use fastrand::Rng;
use heronshale_core::exposure::{Verdict, direct_ways};
use heronshale_core::view::View;
use serde_json::{Value, json};
use std::collections::BTreeMap;

const PREFIXES: [&str; 10] = [
    "0.0.0.0/0",
    "128.0.0.0/1",
    "203.0.113.0/24",
    "203.0.113.9",
    "198.0.0.0/8",
    "::/0",
    "2001:db8:ffff::/48",
    "10.0.0.0/8",
    "10.0.1.0/24",
    "2001:db9::/32",
];

fn one_of<'s>(random: &mut Rng, all: &[&'s str]) -> &'s str {
    all[random.usize(0..all.len())]
}

fn table(random: &mut Rng, id: &str, network: &str) -> Value {
    let hops = [
        "gateway:ig-n0",
        "gateway:ig-n1",
        "gateway:nat",
        "gateway:out6",
        "gateway:gone",
        "blackhole",
        "local",
        "peering:p0",
        "interface:i1",
        "interface:i3",
        "10.0.0.5",
    ];
    let own = format!("gateway:ig-{network}");
    let routes = (0..random.u8(0..5)).map(|_| {
        let hop = if random.u8(0..100) < 65 { &own } else { one_of(random, &hops) };
        let many = if random.bool() { PREFIXES.len() } else { 1 };
        let mut route = json!({ "to": one_of(random, &PREFIXES[..many]), "next_hop": hop });
        if random.u8(0..10) < 2 {
            route["metric"] = random.u8(0..2).into();
        }
        if random.u8(0..10) < 1 {
            route["kind"] = "propagated".into();
        }
        if random.u8(0..12) < 1 {
            route["enabled"] = false.into();
        }
        route
    });
    let mut routes: Vec<Value> = routes.collect();
    if random.u8(0..10) < 6 {
        routes.push(json!({ "to": ["0.0.0.0/0", "::/0"], "next_hop": own }));
    }
    json!({ "id": id, "network": network, "routes": routes })
}

/// Gateways, routes and public addresses for a random estate.
fn with_ways_in(random: &mut Rng, estate: &mut Value) {
    estate["route_tables"] = json!([table(random, "t0", "n0"), table(random, "t0b", "n0"), table(random, "t1", "n1")]);
    estate["gateways"] = json!([
        { "id": "ig-n0", "kind": "internet", "network": "n0", "attached": random.u8(0..10) > 0 },
        { "id": "ig-n1", "kind": "internet", "network": "n1" },
        { "id": "nat", "kind": "nat", "network": "n0", "subnet": "u0", "public": "198.51.100.20" },
        { "id": "out6", "kind": "outbound-only", "network": "n0" },
    ]);
    estate["public_addresses"] = json!([
        { "address": "198.51.100.7", "interface": "i0" }, { "address": "198.51.100.8", "interface": "i2" }, { "address": "198.51.100.9" },
    ]);
    for (at, main) in [(0, "t0"), (1, "t1")] {
        if random.u8(0..10) < 9 {
            estate["networks"][at]["main_table"] = main.into();
        }
        if random.u8(0..12) < 1 {
            estate["networks"][at]["internet_traffic"] = one_of(random, &["none", "outbound_only"]).into();
        }
    }
    for (at, table) in [(0, "t0b"), (2, "t0b")] {
        match random.u8(0..20) {
            0..4 => estate["subnets"][at]["route_table"] = table.into(),
            4 => estate["subnets"][at]["route_table"] = "gone".into(),
            5 => estate["subnets"][at]["internet_traffic"] = "outbound_only".into(),
            _ => {}
        }
    }
    estate["interfaces"][1]["forwards"] = random.bool().into();
    for (name, words) in [
        ("automatic_routes", ["overridable", "fixed"]),
        ("equal_routes", ["all", "first"]),
        ("missing_next_hop", ["lost", "skipped"]),
    ] {
        if random.u8(0..10) < 4 {
            estate["estate"]["settings"][name] = one_of(random, &words).into();
        }
    }
    // Most packets should get as far as the reply.
    for interface in estate["interfaces"].as_array_mut().unwrap() {
        if random.u8(0..10) < 6 {
            interface["unfiltered"] = true.into();
        }
    }
}

fn length(block: &str) -> u32 {
    let whole = if block.contains(':') { 128 } else { 32 };
    block.split_once('/').map_or(whole, |(_, length)| length.parse().unwrap())
}

/// Not fixed, missing bits of the prefix, kind, metric.
type Rank = (bool, u32, u8, u64);

/// By what the reply leaves a subnet: for each route that wins whether it is right, `None` where that is not known.
fn reply_routes(
    json: &Value,
    naive: &Evaluator<'_>,
    interface: &Value,
    network: &str,
    to: std::net::IpAddr,
) -> Option<Vec<Option<bool>>> {
    let find = |section: &str, id: &str| list(json, section).iter().find(|item| text(item, "id") == Some(id));
    let subnet = find("subnets", text(interface, "subnet").unwrap()).unwrap();
    let table = text(subnet, "route_table").or_else(|| text(find("networks", network).unwrap(), "main_table"));
    let fixed = naive.word(network, "automatic_routes", "overridable") == "fixed";
    let skipped = naive.word(network, "missing_next_hop", "lost") == "skipped";
    let attached =
        |id: &str| find("gateways", id).is_some_and(|gateway| gateway.get("attached") != Some(&Value::Bool(false)));
    // Rank by which the lowest wins, and whether the reply leaves rightly.
    let mut all: Vec<(Rank, Option<bool>)> = Vec::new();
    let mut automatic = |network: &str| {
        for block in list(find("networks", network).unwrap(), "blocks").iter().map(|block| block.as_str().unwrap()) {
            if in_block(to, block) {
                all.push(((!fixed, 128 - length(block), 1, 0), Some(false)));
            }
        }
    };
    automatic(network);
    for peering in list(json, "peerings") {
        let sides = list(peering, "sides");
        let up = sides.iter().all(|side| side.get("up") != Some(&Value::Bool(false)));
        let names: Vec<&str> = sides.iter().map(|side| text(side, "network").unwrap()).collect();
        if up && names.contains(&network) {
            names.iter().filter(|name| **name != network).for_each(|name| automatic(name));
        }
    }
    if let Some(table) = table {
        let Some(table) = find("route_tables", table) else { return Some(vec![None]) };
        for route in list(table, "routes").iter().filter(|route| route.get("enabled") != Some(&Value::Bool(false))) {
            let blocks: Vec<&str> = match &route["to"] {
                Value::Array(all) => all.iter().map(|block| block.as_str().unwrap()).collect(),
                one => vec![one.as_str().unwrap()],
            };
            let hop = text(route, "next_hop").unwrap();
            let own = format!("gateway:ig-{network}");
            let dead = match hop.split_once(':') {
                Some(("gateway", id)) => {
                    find("gateways", id).is_none_or(|g| text(g, "network") != Some(network)) || !attached(id)
                }
                Some(("peering", id)) => {
                    let sides = list(find("peerings", id).unwrap(), "sides");
                    sides.iter().any(|side| side.get("up") == Some(&Value::Bool(false)))
                        || !sides.iter().any(|side| text(side, "network") == Some(network))
                }
                None if hop == "10.0.0.5" => !near(json, "n0", network),
                _ => false,
            };
            if dead && skipped {
                continue;
            }
            let forwards = |id: &str| find("interfaces", id).unwrap().get("forwards") == Some(&Value::Bool(true));
            let right = match hop {
                _ if dead => Some(false),
                hop if hop == own => Some(true),
                // What a forwarding interface does with it is not modelled.
                "interface:i1" | "10.0.0.5" if forwards("i1") => None,
                _ => Some(false),
            };
            let kind = if text(route, "kind") == Some("propagated") { 2 } else { 0 };
            for block in blocks.into_iter().filter(|block| in_block(to, block)) {
                all.push(((true, 128 - length(block), kind, route["metric"].as_u64().unwrap_or(0)), right));
            }
        }
    }
    let best = all.iter().map(|(rank, _)| *rank).min()?;
    let mut winners: Vec<Option<bool>> =
        all.iter().filter(|(rank, _)| *rank == best).map(|(_, right)| *right).collect();
    if naive.word(network, "equal_routes", "all") == "first" {
        winners.truncate(1);
    }
    Some(winners)
}

/// Whether two networks are one, or peered and up.
fn near(json: &Value, a: &str, b: &str) -> bool {
    a == b
        || list(json, "peerings").iter().any(|peering| {
            let sides = list(peering, "sides");
            let joins = |network: &str| sides.iter().any(|side| text(side, "network") == Some(network));
            joins(a) && joins(b) && sides.iter().all(|side| side.get("up") != Some(&Value::Bool(false)))
        })
}

/// What becomes of a connection: `works`, `some`, `unknown`, or `not`, with where it ends.
fn naive_verdict(json: &Value, naive: &Evaluator<'_>, at: usize, asked: &Packet) -> (&'static str, &'static str) {
    let interface = &json["interfaces"][at];
    let find = |section: &str, id: &str| list(json, section).iter().find(|item| text(item, "id") == Some(id)).unwrap();
    let subnet = find("subnets", text(interface, "subnet").unwrap());
    let network = find("networks", text(subnet, "network").unwrap());
    let id = text(network, "id").unwrap();
    let gateway =
        list(json, "gateways").iter().find(|g| text(g, "kind") == Some("internet") && text(g, "network") == Some(id));
    if gateway.is_none_or(|gateway| gateway.get("attached") == Some(&Value::Bool(false))) {
        return ("not", "no gateway");
    }
    if [subnet, network].iter().any(|place| text(place, "internet_traffic").is_some_and(|word| word != "both_ways")) {
        return ("not", "blocked");
    }
    match naive.fate(INTERFACES[at], asked, "in").0 {
        Fate::Denied => return ("not", "denied"),
        Fate::Unknown => return ("unknown", "request"),
        Fate::Admitted => {}
    }
    if reply_to(asked).is_none() {
        return ("works", "one-way");
    }
    let routes = reply_routes(json, naive, interface, id, asked.source).unwrap_or_default();
    let good = routes.iter().filter(|right| **right == Some(true)).count();
    match naive.reply_passes(INTERFACES[at], asked, "in") {
        _ if good == 0 && routes.contains(&None) => ("unknown", "route"),
        _ if good == 0 => ("not", "reply lost"),
        None => ("unknown", "reply"),
        Some(false) => ("not", "reply denied"),
        Some(true) if good == routes.len() => ("works", "there and back"),
        Some(true) => ("some", "routes"),
    }
}

fn try_estate(seed: u64, seen: &mut BTreeMap<(&'static str, &'static str), usize>) -> Result<(), String> {
    let mut random = Rng::with_seed(seed);
    let mut json = estate(&mut random);
    with_ways_in(&mut random, &mut json);
    let built = load(&json);
    let naive = Evaluator::new(&json);
    let view = View::new(&built, None);
    let ways = direct_ways(&view);
    for _ in 0..40 {
        let at = [0, 0, 2, 2, 3][random.usize(0..5)];
        let mut asked = packet(&mut random, &json["interfaces"][at], "in");
        let outside = if asked.source.is_ipv4() {
            ["203.0.113.200", "8.8.8.8", "200.1.1.1"]
        } else {
            ["2001:db9::1", "2001:db8:ffff::1", "2a00::1"]
        };
        asked.source = one_of(&mut random, &outside).parse().unwrap();
        if matches!(asked.protocol, 6 | 17 | 132) {
            asked.source_port = random.u16(2000..2004);
        }
        let engine = to_engine(&asked);
        let name = INTERFACES[at];
        let way = ways.iter().find(|way| &*built.interfaces[way.interface].name == name && way.family == engine.family);
        let Some(way) = way else {
            // No public address of this family: nothing is asked.
            continue;
        };
        let holding: Vec<_> = way.parts.iter().filter(|part| part.packets.contains(&engine)).collect();
        let [part] = holding.as_slice() else {
            return Err(format!("seed {seed}, {asked:?}: in {} parts", holding.len()));
        };
        let (verdict, why) = naive_verdict(&json, &naive, at, &asked);
        *seen.entry((verdict, why)).or_default() += 1;
        let says = match &part.verdict {
            Verdict::Works => "works",
            Verdict::WorksForPorts(ports) if ports.contains(asked.source_port.into()) => "works",
            Verdict::WorksForRoutes => "some",
            Verdict::Unknown => "unknown",
            _ => "not",
        };
        // "Unknown" for the reply is said of all client ports together, so one of them may well be certain.
        let open_reply = says == "unknown" && ["there and back", "reply denied", "routes"].contains(&why);
        if says != verdict && !open_reply {
            return Err(format!("seed {seed}, {name}, {asked:?}: {:?}, not {verdict} ({why})", part.verdict));
        }
    }
    Ok(())
}

#[test]
fn direct_exposure_equals_a_naive_walk_there_and_back() {
    let mut seen = BTreeMap::new();
    for seed in 0..3_000 {
        try_estate(seed, &mut seen).unwrap_or_else(|what| panic!("{what}"));
    }
    let total: usize = seen.values().sum();
    for verdict in ["works", "some", "unknown", "not"] {
        let count: usize = seen.iter().filter(|((says, _), _)| *says == verdict).map(|(_, count)| count).sum();
        assert!(count * 100 >= total, "{verdict}: {count} of {total}: {seen:?}");
    }
    for why in ["no gateway", "blocked", "denied", "reply lost", "reply denied", "route"] {
        assert!(seen.iter().any(|((_, because), count)| *because == why && *count > total / 200), "{why}: {seen:?}");
    }
}
