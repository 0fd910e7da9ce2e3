//! Which routes win, on thousands of random estates: against a look at every route for one address at a time.

use super::agreement::load;
use super::estates::{INTERFACES, estate};
use super::naive::{Evaluator, in_block, list, text};
use fastrand::Rng;
use heronshale_answers::{RouteFact, RoutesAnswer, RoutesOf, routes_answer};
use heronshale_audit::facts::hop_text;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::route::{Hop, Winner, routed};
use heronshale_model::estate::Estate;
use heronshale_sets::address::{Addresses, Block};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::net::IpAddr;

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

/// One of several.
pub fn one_of<'s>(random: &mut Rng, all: &[&'s str]) -> &'s str {
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
        let hop = if random.u8(0..100) < 65 {
            &own
        } else {
            one_of(random, &hops)
        };
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
pub fn with_ways_in(random: &mut Rng, estate: &mut Value) {
    estate["route_tables"] = json!([
        table(random, "t0", "n0"),
        table(random, "t0b", "n0"),
        table(random, "t1", "n1")
    ]);
    estate["gateways"] = json!([
        { "id": "ig-n0", "kind": "internet", "network": "n0", "attached": random.u8(0..10) > 0 },
        { "id": "ig-n1", "kind": "internet", "network": "n1" },
        { "id": "nat", "kind": "nat", "network": "n0", "subnet": "u0", "address": "10.0.0.14", "public": "198.51.100.20" },
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
            estate["networks"][at]["internet_traffic"] =
                one_of(random, &["none", "outbound_only"]).into();
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
    block
        .split_once('/')
        .map_or(whole, |(_, length)| length.parse().unwrap())
}

/// Not fixed, missing bits of the prefix, kind, metric: the lowest wins.
type Rank = (bool, u32, u8, u64);

/// By what packets leave an interface's subnet for an address: every route that wins, as the snapshot writes its next hop;
/// `dead`, `unknown`, or `stuck:` an interface that may not forward. None: no route.
pub fn winners(json: &Value, naive: &Evaluator<'_>, interface: &Value, to: IpAddr) -> Vec<String> {
    let find = |section: &str, id: &str| {
        list(json, section)
            .iter()
            .find(|item| text(item, "id") == Some(id))
    };
    let subnet = find("subnets", text(interface, "subnet").unwrap()).unwrap();
    let network = text(subnet, "network").unwrap();
    let fixed = naive.word(network, "automatic_routes", "overridable") == "fixed";
    let skipped = naive.word(network, "missing_next_hop", "lost") == "skipped";
    let mut all: Vec<(Rank, String)> = Vec::new();
    let mut automatic = |network: &str, hop: &str| {
        for block in list(find("networks", network).unwrap(), "blocks")
            .iter()
            .map(|block| block.as_str().unwrap())
        {
            if in_block(to, block) {
                all.push(((!fixed, 128 - length(block), 1, 0), hop.to_owned()));
            }
        }
    };
    automatic(network, "local");
    for peering in list(json, "peerings")
        .iter()
        .filter(|peering| is_up(peering))
    {
        let names: Vec<&str> = list(peering, "sides")
            .iter()
            .map(|side| text(side, "network").unwrap())
            .collect();
        if names.contains(&network) {
            let hop = format!("peering:{}", text(peering, "id").unwrap());
            names
                .iter()
                .filter(|name| **name != network)
                .for_each(|name| automatic(name, &hop));
        }
    }
    if let Some(table) = text(subnet, "route_table")
        .or_else(|| text(find("networks", network).unwrap(), "main_table"))
    {
        let Some(table) = find("route_tables", table) else {
            // No route of a table comes before a fixed one.
            let best = all.iter().filter(|_| fixed).map(|(rank, _)| *rank).min();
            let certain = all
                .into_iter()
                .filter(|(rank, _)| Some(*rank) == best)
                .map(|(_, hop)| hop);
            let certain: Vec<String> = certain.collect();
            return if certain.is_empty() {
                vec!["unknown".to_owned()]
            } else {
                certain
            };
        };
        for route in list(table, "routes")
            .iter()
            .filter(|route| route.get("enabled") != Some(&Value::Bool(false)))
        {
            let blocks: Vec<&str> = match &route["to"] {
                Value::Array(all) => all.iter().map(|block| block.as_str().unwrap()).collect(),
                one => vec![one.as_str().unwrap()],
            };
            let hop = resolved(json, network, text(route, "next_hop").unwrap());
            if hop == "dead" && skipped {
                continue;
            }
            let kind = if text(route, "kind") == Some("propagated") {
                2
            } else {
                0
            };
            for block in blocks.into_iter().filter(|block| in_block(to, block)) {
                let rank = (
                    true,
                    128 - length(block),
                    kind,
                    route["metric"].as_u64().unwrap_or(0),
                );
                all.push((rank, hop.clone()));
            }
        }
    }
    let best = all.iter().map(|(rank, _)| *rank).min();
    let mut winners: Vec<String> = Vec::new();
    for (_, hop) in all.into_iter().filter(|(rank, _)| Some(*rank) == best) {
        // Branches that are equal count once.
        if !winners.contains(&hop) {
            winners.push(hop);
        }
    }
    if naive.word(network, "equal_routes", "all") == "first" {
        winners.truncate(1);
    }
    winners
}

fn is_up(peering: &Value) -> bool {
    list(peering, "sides")
        .iter()
        .all(|side| side.get("up") != Some(&Value::Bool(false)))
}

/// What a written next hop really leads to.
fn resolved(json: &Value, network: &str, hop: &str) -> String {
    let find = |section: &str, id: &str| {
        list(json, section)
            .iter()
            .find(|item| text(item, "id") == Some(id))
    };
    let interface = |id: &str| {
        let home = if id == "i3" { "n1" } else { "n0" };
        if !near(json, home, network) {
            return "dead".to_owned();
        }
        let forwards = find("interfaces", id).unwrap().get("forwards") == Some(&Value::Bool(true));
        if forwards {
            format!("interface:{id}")
        } else {
            format!("stuck:{id}")
        }
    };
    let works = match hop.split_once(':') {
        Some(("gateway", id)) => find("gateways", id).is_some_and(|gateway| {
            text(gateway, "network") == Some(network)
                && gateway.get("attached") != Some(&Value::Bool(false))
        }),
        Some(("peering", id)) => {
            let peering = find("peerings", id).unwrap();
            is_up(peering)
                && list(peering, "sides")
                    .iter()
                    .any(|side| text(side, "network") == Some(network))
        }
        Some((_, id)) => return interface(id),
        None if hop == "10.0.0.5" => {
            return interface("i1");
        }
        None => true,
    };
    if works {
        hop.to_owned()
    } else {
        "dead".to_owned()
    }
}

/// Whether two networks are one, or peered and up.
fn near(json: &Value, a: &str, b: &str) -> bool {
    a == b
        || list(json, "peerings").iter().any(|peering| {
            let sides = list(peering, "sides");
            let joins = |network: &str| {
                sides
                    .iter()
                    .any(|side| text(side, "network") == Some(network))
            };
            joins(a) && joins(b) && is_up(peering)
        })
}

/// A winner in the words of the snapshot.
fn in_words(estate: &Estate, winner: &Winner) -> String {
    match winner.hop {
        Hop::Local => "local".to_owned(),
        Hop::Blackhole => "blackhole".to_owned(),
        Hop::Gateway(id) => format!("gateway:{}", estate.gateways[id].name),
        Hop::Interface(id) => format!("interface:{}", estate.interfaces[id].name),
        Hop::MayNotForward(id) => format!("stuck:{}", estate.interfaces[id].name),
        Hop::Peering(id) => format!("peering:{}", estate.peerings[id].name),
        Hop::Dead => "dead".to_owned(),
        Hop::Unknown => "unknown".to_owned(),
        other => format!("{other:?}"),
    }
}

fn holds(texts: &[String], address: IpAddr) -> bool {
    let block = |text: &String| text.parse::<Block>().unwrap().range;
    texts
        .iter()
        .map(block)
        .collect::<Addresses>()
        .contains(address)
}

/// Whether the list of routes says of an address what wins: each winner's next hop, nowhere if there is none, and a loss at
/// every other route whose prefix has it.
fn told_alike(told: &RoutesAnswer, to: IpAddr, winners: &[String]) -> Result<(), String> {
    if told.table.as_ref().is_some_and(|table| table.missing) {
        return Ok(());
    }
    let own = told.straight_in.is_some();
    let mut found: Vec<&String> = told
        .routes
        .iter()
        .filter(|route| holds(&route.wins, to))
        .map(|route| &route.hop)
        .collect();
    let mut wanted: Vec<&String> = winners.iter().collect();
    for all in [&mut found, &mut wanted] {
        all.sort();
        all.dedup();
    }
    if !own && found != wanted && told.last.is_none() {
        return Err(format!("told {found:?}, not {wanted:?}"));
    }
    if found.is_empty() != holds(&told.nowhere, to) && told.last.is_none() && !own {
        return Err(format!("told {found:?}, and nowhere {:?}", told.nowhere));
    }
    let beaten =
        |route: &&RouteFact| holds(std::slice::from_ref(&route.to), to) && !holds(&route.wins, to);
    match told
        .routes
        .iter()
        .filter(beaten)
        .find(|route| route.loses.is_empty())
    {
        Some(route) => Err(format!("{} loses it to nobody", route.to)),
        None => Ok(()),
    }
}

/// Asks about addresses of all sorts in one random estate; the first disagreement.
pub fn try_routes(seed: u64, seen: &mut BTreeMap<String, usize>) -> Result<(), String> {
    let mut random = Rng::with_seed(seed);
    let mut json = estate(&mut random);
    with_ways_in(&mut random, &mut json);
    let built = load(&json);
    let naive = Evaluator::new(&json);
    let view = Fabric::new(&built, None);
    let addresses = [
        "10.0.0.4",
        "10.0.0.5",
        "10.0.1.3",
        "10.0.2.7",
        "10.1.0.1",
        "203.0.113.9",
        "203.0.113.10",
        "198.51.100.1",
        "8.8.8.8",
        "200.1.1.1",
        "2001:db8::4",
        "2001:db8:1::3",
        "2001:db8:ffff::1",
        "2001:db9::1",
        "fd00::1",
    ];
    for (at, name) in INTERFACES.iter().enumerate() {
        let subnet = built.interfaces[built.interfaces.find(name).unwrap()].subnet;
        let found = routed(&view, subnet, None, None, &Addresses::all());
        let interface = built.interfaces.find(name).unwrap();
        let told = routes_answer(&view, RoutesOf::Interface(interface));
        for text in addresses {
            let to: IpAddr = text.parse().unwrap();
            let holding: Vec<_> = found
                .iter()
                .filter(|routed| routed.addresses.contains(to))
                .collect();
            let [one] = holding.as_slice() else {
                return Err(format!("seed {seed}: {to} is in {} parts", holding.len()));
            };
            let mut engine: Vec<String> = one
                .winners
                .iter()
                .map(|winner| in_words(&built, winner))
                .collect();
            let mut wanted = winners(&json, &naive, &json["interfaces"][at], to);
            engine.sort();
            wanted.sort();
            let word = wanted
                .first()
                .map_or("no route", |hop| hop.split(':').next().unwrap_or(hop));
            *seen
                .entry(if wanted.len() > 1 {
                    "several".to_owned()
                } else {
                    word.to_owned()
                })
                .or_default() += 1;
            if engine != wanted {
                return Err(format!(
                    "seed {seed}, {name} to {to}: {engine:?}, not {wanted:?}"
                ));
            }
            told_alike(
                &told,
                to,
                &one.winners
                    .iter()
                    .map(|winner| hop_text(&view, winner.hop))
                    .collect::<Vec<_>>(),
            )
            .map_err(|what| format!("seed {seed}, {name} to {to}: {what}"))?;
        }
    }
    Ok(())
}

#[test]
fn the_routes_that_win_are_those_that_a_look_at_every_route_finds() {
    let mut seen = BTreeMap::new();
    for seed in 0..2_000 {
        try_routes(seed, &mut seen).unwrap_or_else(|what| panic!("{what}"));
    }
    for word in [
        "local",
        "blackhole",
        "gateway",
        "interface",
        "stuck",
        "peering",
        "dead",
        "unknown",
        "no route",
        "several",
    ] {
        assert!(
            seen.get(word).is_some_and(|count| *count > 100),
            "{word}: {seen:?}"
        );
    }
}
