//! Static routes of RFC 8349: random documents, and where the engine sends by what they become.

use super::agreement::load;
use super::naive::in_block;
use crate::oracle::pick;
use fastrand::Rng;
use heronshale_engine::fabric::Fabric;
use heronshale_engine::route::{Hop, routed};
use heronshale_intake::read_routes;
use heronshale_sets::address::Addresses;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::net::IpAddr;

const ASKED: [&str; 6] = [
    "10.2.0.9",
    "8.8.8.8",
    "10.3.0.1",
    "2001:db8:2::9",
    "2a00::1",
    "2001:db8:3::1",
];

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
            let module = pick(random, &["", "ietf-routing:"]);
            (
                json!({ "special-next-hop": format!("{module}{special}") }),
                "blackhole",
            )
        }
        1 => (json!({ "outgoing-interface": name }), name),
        _ => (
            json!({ "next-hop-address": if six { own } else { four } }),
            name,
        ),
    }
}

#[test]
fn static_routes_of_rfc_8349_win_where_their_prefixes_are_longest() {
    const TO: [[&str; 5]; 2] = [
        [
            "0.0.0.0/0",
            "10.0.0.0/8",
            "10.2.0.0/16",
            "8.8.0.0/16",
            "10.2.0.9/32",
        ],
        [
            "::/0",
            "2001:db8::/32",
            "2001:db8:2::/48",
            "2a00::/16",
            "2001:db8:2::9/128",
        ],
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
            let hops: Vec<(Value, &str)> = (0..random.usize(1..3))
                .map(|_| next_hop(&mut random, six))
                .collect();
            let names: BTreeSet<&str> = hops.iter().map(|(_, name)| *name).collect();
            let hop = match &hops[..] {
                [(one, _)] => one.clone(),
                _ => {
                    json!({ "next-hop-list": { "next-hop": hops.iter().map(|(hop, _)| hop).collect::<Vec<_>>() } })
                }
            };
            let of = if six {
                "ietf-ipv6-unicast-routing"
            } else {
                "ietf-ipv4-unicast-routing"
            };
            let field = if random.bool() {
                format!("{of}:destination-prefix")
            } else {
                "destination-prefix".to_owned()
            };
            families[usize::from(six)].push(json!({ field: to, "next-hop": hop }));
            written.push((to.to_owned(), names));
        }
        let [four, six] = families;
        let protocol = json!({ "type": "ietf-routing:static", "name": "st", "static-routes": {
            "ietf-ipv4-unicast-routing:ipv4": { "route": four }, "ietf-ipv6-unicast-routing:ipv6": { "route": six } } });
        let document =
            json!({ "ietf-routing:routing": { "control-plane-protocols": { "control-plane-protocol": [protocol] } } })
                .to_string();
        let part = read_routes(
            vec![("r.json".to_owned(), document.clone())],
            "t",
            "n",
            None,
        )
        .unwrap();
        let interface = |(name, four, six): &(&str, &str, &str)| json!({ "id": name, "subnet": "s", "addresses": [four, six], "forwards": true });
        let estate = load(&json!({
            "format": "heronshale-snapshot", "version": 1,
            "networks": [{ "id": "n", "blocks": ["10.1.0.0/16", "2001:db8:1::/48"], "main_table": "t" }],
            "subnets": [{ "id": "s", "network": "n", "blocks": ["10.1.0.0/16", "2001:db8:1::/48"] }],
            "interfaces": HOPS.iter().map(interface).collect::<Vec<_>>(),
            "route_tables": part.section("route_tables"),
        }));
        let view = Fabric::new(&estate, None);
        for to in ASKED {
            let to: IpAddr = to.parse().unwrap();
            let length = |prefix: &str| prefix.split_once('/').unwrap().1.parse::<u8>().unwrap();
            let fits = written.iter().filter(|(prefix, _)| in_block(to, prefix));
            let wanted = fits
                .max_by_key(|(prefix, _)| length(prefix))
                .map(|(_, names)| names.clone())
                .unwrap_or_default();
            let found = routed(
                &view,
                estate.subnets.find("s").unwrap(),
                None,
                None,
                &Addresses::single(to),
            );
            let name = |hop: Hop| match hop {
                Hop::Blackhole => "blackhole".to_owned(),
                Hop::Interface(interface) => estate.interfaces[interface].name.to_string(),
                other => format!("{other:?}"),
            };
            let found: BTreeSet<String> = found
                .iter()
                .flat_map(|routed| &routed.winners)
                .map(|winner| name(winner.hop))
                .collect();
            assert_eq!(
                found,
                wanted.iter().map(ToString::to_string).collect(),
                "seed {seed}, {to}\n{document}"
            );
            seen[wanted.len()] += 1;
        }
    }
    assert!(seen.iter().all(|count| *count > 100), "{seen:?}");
}
