//! Seeded estates for benchmarks: at least 200 networks around four hubs, with firewalls, translations, balancers, services, and in
//! every network the mistakes that audits are about. The estate of Marrowfen Ferries stands beside them, so that every kind of
//! finding occurs.

use fastrand::Rng;
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// Networks around one hub.
const AROUND: usize = 50;
const PORTS: [u16; 12] = [
    22, 80, 443, 3306, 5432, 6379, 8080, 8443, 9100, 9200, 5672, 3389,
];

/// The estate as plain owned structs: what parsing costs without a model.
#[derive(Deserialize, Default)]
#[serde(default)]
pub struct Plain {
    format: String,
    version: u8,
    networks: Vec<Object>,
    subnets: Vec<Object>,
    interfaces: Vec<Object>,
    workloads: Vec<Object>,
    public_addresses: Vec<Object>,
    address_sets: Vec<Object>,
    security_groups: Vec<Object>,
    network_acls: Vec<Object>,
    route_tables: Vec<Object>,
    scope_policies: Vec<Object>,
    firewalls: Vec<Value>,
    firewall_policies: Vec<Object>,
    gateways: Vec<Object>,
    hubs: Vec<Value>,
    balancers: Vec<Value>,
    services: Vec<Value>,
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct Object {
    id: Option<String>,
    address: Option<String>,
    network: Option<String>,
    subnet: Option<String>,
    interface: Option<String>,
    workload: Option<String>,
    owner: Option<String>,
    description: Option<String>,
    kind: Option<String>,
    public: Option<String>,
    scope: Option<String>,
    acl: Option<String>,
    main_table: Option<String>,
    route_table: Option<String>,
    division: Option<String>,
    base: Option<String>,
    form: Option<String>,
    forwards: Option<bool>,
    order: Option<u32>,
    blocks: Vec<String>,
    addresses: Vec<String>,
    groups: Vec<String>,
    content: Vec<String>,
    tags: BTreeMap<String, String>,
    inbound: Vec<Rule>,
    outbound: Vec<Rule>,
    rules: Vec<Rule>,
    routes: Vec<Rule>,
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct Rule {
    id: Option<String>,
    action: Option<String>,
    priority: Option<u32>,
    description: Option<String>,
    next_hop: Option<String>,
    enforced_until: Option<String>,
    review_by: Option<String>,
    services: Vec<String>,
    peers: Vec<String>,
    sources: Vec<String>,
    destinations: Vec<String>,
    to: Vec<String>,
}

fn pick<'s>(random: &mut Rng, from: &[&'s str]) -> &'s str {
    from[random.usize(0..from.len())]
}

fn chance(random: &mut Rng, percent: u8) -> bool {
    random.u8(0..100) < percent
}

/// The second byte of a network's block; 64 to 79 are Marrowfen's.
fn byte(network: usize) -> usize {
    if network < 64 { network } else { network + 16 }
}

struct Generator {
    random: Rng,
    networks: usize,
    /// To each network.
    subnets: usize,
    groups: usize,
}

impl Generator {
    fn peer(&mut self, network: usize) -> String {
        let random = &mut self.random;
        let other = byte(random.usize(0..self.networks));
        match random.u8(0..20) {
            // Mostly groups of the own network, as teams write them.
            0..=7 => {
                format!(
                    "group:g{}",
                    (network + random.usize(0..self.groups) / self.networks * self.networks)
                        % self.groups
                )
            }
            8 => format!("group:g{}", random.usize(0..self.groups)),
            9..=12 => format!(
                "10.{}.{}.0/24",
                byte(network),
                random.usize(0..self.subnets)
            ),
            13..=14 => format!("10.{other}.0.0/16"),
            15..=16 => format!(
                "10.{other}.{}.{}",
                random.usize(0..self.subnets),
                random.u8(4..24)
            ),
            17 => format!("set:partners-{}", random.usize(0..20)),
            18 => pick(random, &["10.0.0.0/8", "tag:role=web", "tag:role=worker"]).to_owned(),
            _ => pick(random, &["any", "internet", "192.0.2.0/24", "::/0"]).to_owned(),
        }
    }

    fn services(&mut self) -> Vec<String> {
        let random = &mut self.random;
        let port = PORTS[random.usize(0..PORTS.len())];
        match random.u8(0..20) {
            0..=12 => vec![format!("tcp {port}")],
            13..=14 => vec![format!("tcp {port}"), format!("tcp {}", port + 1)],
            15 => vec![format!("tcp {port}-{}", port + random.u16(1..2000))],
            16 => vec!["udp 53".into(), "tcp 53".into()],
            17 => vec![format!("tcp {}", random.u16(9000..60000))],
            18 => vec!["icmp 8".into()],
            _ => vec![pick(random, &["any", "tcp", "udp"]).into()],
        }
    }

    fn rule(&mut self, id: usize, network: usize) -> Value {
        let mut rule = json!({ "id": format!("r{id}"), "services": self.services(), "peers": [self.peer(network)] });
        if chance(&mut self.random, 85) {
            rule["description"] = format!("Asked for by team {}", self.random.u8(..)).into();
        }
        match self.random.u8(0..60) {
            0 => rule["enforced_until"] = "2026-06-30".into(),
            1 => rule["review_by"] = "2026-06-30".into(),
            2 => rule["review_by"] = "2027-06-30".into(),
            3 => rule["enforced_until"] = "2027-06-30".into(),
            _ => {}
        }
        rule
    }

    fn group(&mut self, at: usize) -> Value {
        let network = at % self.networks;
        let mut inbound: Vec<Value> = (0..6).map(|id| self.rule(id, network)).collect();
        if chance(&mut self.random, 12) {
            // Asked for twice, the second time for one machine.
            let mut again = inbound[0].clone();
            again["id"] = "r9".into();
            inbound.push(again);
        }
        let all = json!({ "id": "all", "peers": ["any"], "description": "Updates" });
        let outbound = if chance(&mut self.random, 70) {
            vec![all]
        } else {
            (10..12).map(|id| self.rule(id, network)).collect()
        };
        json!({ "id": format!("g{at}"), "owner": format!("team-{}", at % 40), "inbound": inbound, "outbound": outbound })
    }

    fn acl(&mut self, network: usize) -> Value {
        let mut inbound: Vec<Value> = (1..8)
            .map(|at| {
                let mut rule = self.rule(at, network);
                rule["peers"] = json!([format!(
                    "10.{}.0.0/16",
                    byte(self.random.usize(0..self.networks))
                )]);
                rule["action"] = pick(&mut self.random, &["allow", "allow", "deny"]).into();
                rule["priority"] = (at * 10).into();
                rule
            })
            .collect();
        inbound.push(json!({ "id": "rest", "action": "allow", "priority": 900, "peers": ["any"] }));
        json!({ "id": format!("a{network}"), "inbound": inbound, "outbound": [{ "id": "all", "action": "allow", "priority": 900, "peers": ["any"] }] })
    }

    fn policy(&mut self, hub: usize) -> Value {
        let mut rules: Vec<Value> = (0..60)
            .map(|at| {
                let mut rule = json!({ "id": format!("f{at}"), "priority": at, "services": self.services(),
                    "description": "Between the networks" });
                rule["action"] = pick(&mut self.random, &["allow", "allow", "allow", "deny"]).into();
                for side in ["sources", "destinations"] {
                    let block = byte(self.random.usize(0..self.networks));
                    rule[side] = json!([format!("10.{block}.{}.0/24", self.random.usize(0..self.subnets))]);
                }
                rule
            })
            .collect();
        rules.push(json!({ "id": "web", "action": "allow", "priority": 900, "services": ["tcp 80,443"], "destinations": ["internet"] }));
        rules.push(json!({ "id": "metrics", "action": "allow", "priority": 901, "services": ["tcp 9100"], "sources": [format!("10.{}.0.0/16", byte(hub * AROUND))] }));
        json!({ "id": format!("policy-{hub}"), "base": "bench-everywhere", "rules": rules })
    }
}

/// An estate of so many interfaces, as JSON: 8 to a group, 20 to a subnet; the fewer, the smaller the networks.
pub fn estate(interfaces: usize) -> String {
    let networks = 200;
    let subnets = (interfaces / 20 / networks).max(1);
    let mut generator = Generator {
        random: Rng::with_seed(interfaces as u64),
        networks,
        subnets,
        groups: (interfaces / 8).max(networks),
    };
    let edge = |network: usize| network.is_multiple_of(AROUND);
    let mut networks_of = Vec::new();
    let mut tables = Vec::new();
    let mut gateways = Vec::new();
    let mut subnets_of = Vec::new();
    let mut places = Vec::new();
    let mut cards = Vec::new();
    let mut firewalls = Vec::new();
    let mut public = Vec::new();
    for network in 0..networks {
        let (block, hub) = (byte(network), network / AROUND);
        networks_of.push(json!({ "id": format!("n{network}"), "blocks": [format!("10.{block}.0.0/16"), format!("2001:db8:{block:x}::/48")],
            "main_table": format!("t{network}"), "owner": format!("team-{}", network % 40), "tags": { "stage": (["live", "test"][network % 2]) } }));
        gateways.push(json!({ "id": format!("w{network}"), "kind": "internet", "network": format!("n{network}") }));
        let mut routes = vec![
            json!({ "id": "inside", "to": ["10.0.0.0/8"], "next_hop": format!("hub:h{hub}") }),
        ];
        // A third goes out by itself, a third by NAT, a third through the hub's firewall.
        match (edge(network), network % 3) {
            (true, _) | (_, 0) => routes
                .push(json!({ "id": "out", "to": ["0.0.0.0/0", "::/0"], "next_hop": format!("gateway:w{network}") })),
            (_, 1) => {
                routes.push(json!({ "id": "out", "to": ["0.0.0.0/0"], "next_hop": format!("gateway:x{network}") }));
                gateways.push(json!({ "id": format!("x{network}"), "kind": "nat", "network": format!("n{network}"), "subnet": format!("s{network}-edge"),
                    "address": format!("10.{block}.255.20"), "public": format!("203.0.{block}.250") }));
            }
            _ => routes.push(json!({ "id": "out", "to": ["0.0.0.0/0"], "next_hop": format!("hub:h{hub}") })),
        }
        tables.push(json!({ "id": format!("t{network}"), "network": format!("n{network}"), "routes": routes }));
        tables.push(json!({ "id": format!("e{network}"), "network": format!("n{network}"),
            "routes": [{ "id": "inside", "to": ["10.0.0.0/8"], "next_hop": format!("hub:h{hub}") }, { "id": "out", "to": ["0.0.0.0/0"], "next_hop": format!("gateway:w{network}") }] }));
        subnets_of.push(json!({ "id": format!("s{network}-edge"), "network": format!("n{network}"), "blocks": [format!("10.{block}.255.0/24")], "route_table": format!("e{network}") }));
        if edge(network) {
            for (leg, zone) in [("in", "inside"), ("out", "outside")] {
                cards.push(json!({ "id": format!("fw{hub}-{leg}"), "subnet": format!("s{network}-edge"), "addresses": [format!("10.{block}.255.{}", 10 + usize::from(zone == "outside"))], "forwards": true }));
            }
            firewalls.push(json!({ "id": format!("fw{hub}"), "policy": format!("policy-{hub}"),
                "interfaces": [{ "interface": format!("fw{hub}-in"), "zone": "inside" }, { "interface": format!("fw{hub}-out"), "zone": "outside" }],
                "routes": [{ "to": ["10.0.0.0/8"], "interface": format!("fw{hub}-in") }, { "to": ["0.0.0.0/0"], "interface": format!("fw{hub}-out") }],
                "destination_translations": (0..12).map(|at| json!({ "id": format!("in{at}"), "destinations": [format!("10.{block}.255.11")],
                    "services": [format!("tcp {}", 8000 + at)], "to": format!("10.{}.0.4", byte(network + at + 1)), "port": 443 })).collect::<Vec<_>>(),
                "source_translations": [{ "id": "out", "sources": ["10.0.0.0/8"], "destinations": ["internet"] }] }));
            public.push(json!({ "address": format!("203.0.{block}.251"), "interface": format!("fw{hub}-out") }));
        }
        for subnet in 0..subnets {
            let mut one = json!({ "id": format!("s{network}-{subnet}"), "network": format!("n{network}"), "blocks": [format!("10.{block}.{subnet}.0/24"), format!("2001:db8:{block:x}:{subnet:x}::/64")] });
            if network % 4 == 1 {
                one["acl"] = format!("a{network}").into();
            }
            subnets_of.push(one);
            places.push((network, subnet));
        }
    }
    let mut workloads = Vec::new();
    for at in 0..interfaces {
        let (network, subnet) = places[at % places.len()];
        let (block, low) = (byte(network), at / places.len() + 4);
        let mut groups = vec![format!(
            "g{}",
            (network + at / places.len() % 5 * networks) % generator.groups
        )];
        if chance(&mut generator.random, 30) {
            let other = generator.random.usize(0..generator.groups / networks) * networks + network;
            if groups[0] != format!("g{other}") {
                groups.push(format!("g{other}"));
            }
        }
        let mut card = json!({ "id": format!("i{at}"), "subnet": format!("s{network}-{subnet}"), "groups": groups, "addresses": [format!("10.{block}.{subnet}.{low}")] });
        if network.is_multiple_of(3) {
            card["addresses"] = json!([
                format!("10.{block}.{subnet}.{low}"),
                format!("2001:db8:{block:x}:{subnet:x}::{low:x}")
            ]);
        }
        if chance(&mut generator.random, 40) {
            workloads.push(json!({ "id": format!("m{at}"), "tags": { "role": pick(&mut generator.random, &["web", "worker", "store", "batch"]) } }));
            card["workload"] = format!("m{at}").into();
            if chance(&mut generator.random, 2) {
                workloads.last_mut().unwrap()["tags"]["data"] = "restricted".into();
            }
        }
        cards.push(card);
        // Public addresses in a third of the networks.
        if network.is_multiple_of(3) && chance(&mut generator.random, 6) && public.len() < 60_000 {
            let number = public.len();
            public.push(json!({ "address": format!("198.{}.{}.{}", 18 + number / 62_500, number / 250 % 250, number % 250 + 1), "interface": format!("i{at}") }));
        }
    }
    let hubs: Vec<Value> = (0..networks / AROUND)
        .map(|hub| {
            let mut links: Vec<Value> = (hub * AROUND..(hub + 1) * AROUND)
                .map(|network| {
                    let mut link = json!({ "id": format!("n{network}"), "to": format!("network:n{network}"), "reads": "inside", "announces_into": ["inside"] });
                    if edge(network) {
                        link["subnet"] = format!("s{network}-edge").into();
                    }
                    link
                })
                .collect();
            let mut routes = vec![json!({ "to": ["0.0.0.0/0"], "next_hop": format!("link:n{}", hub * AROUND) })];
            for other in (0..networks / AROUND).filter(|other| *other != hub) {
                links.push(json!({ "id": format!("h{other}"), "to": format!("hub:h{other}"), "reads": "inside" }));
                let there: Vec<String> = (other * AROUND..(other + 1) * AROUND).map(|network| format!("10.{}.0.0/16", byte(network))).collect();
                routes.push(json!({ "to": there, "next_hop": format!("link:h{other}") }));
            }
            json!({ "id": format!("h{hub}"), "domains": [{ "id": "inside", "routes": routes }], "links": links })
        })
        .collect();
    let groups: Vec<Value> = (0..generator.groups)
        .map(|at| generator.group(at))
        .collect();
    let acls: Vec<Value> = (1..networks)
        .step_by(4)
        .map(|network| generator.acl(network))
        .collect();
    let mut policies: Vec<Value> = (0..networks / AROUND)
        .map(|hub| generator.policy(hub))
        .collect();
    policies.push(json!({ "id": "bench-everywhere", "rules": [{ "id": "no-telnet", "action": "deny", "priority": 1, "services": ["tcp 23"] }] }));
    let sets: Vec<Value> = (0..20)
        .map(|at| json!({ "id": format!("partners-{at}"), "content": (0..at * 3 + 1).map(|one| format!("198.51.{}.{}/30", at, one * 4)).collect::<Vec<_>>() }))
        .collect();
    let balancers: Vec<Value> = (0..networks).step_by(6)
        .map(|network| {
            let backs: Vec<Value> = (0..3).map(|at| json!({ "address": format!("10.{}.0.{}", byte(network), at + 4) })).collect();
            json!({ "id": format!("b{network}"), "network": format!("n{network}"), "subnet": format!("s{network}-0"), "kind": (["keeping", "proxy"][network / 6 % 2]),
                "front_ends": [{ "address": format!("203.0.{}.1", byte(network)), "public": true, "services": ["tcp 443"] }], "back_ends": backs,
                "interfaces": if network / 6 % 2 == 1 { vec![format!("i{network}")] } else { vec![] } })
        })
        .collect();
    let owners: Vec<Value> = (0..40)
        .map(|at| json!({ "id": format!("team-{at}") }))
        .collect();
    json!({
        "format": "heronshale-snapshot", "version": 1, "owners": owners, "networks": networks_of, "subnets": subnets_of, "interfaces": cards,
        "workloads": workloads, "public_addresses": public, "address_sets": sets, "security_groups": groups, "network_acls": acls,
        "route_tables": tables, "firewalls": firewalls, "firewall_policies": policies, "gateways": gateways, "hubs": hubs, "balancers": balancers,
        "services": (0..20).map(|at| json!({ "id": format!("v{at}"), "services": ["tcp 443"], "public_door": { "addresses": [format!("203.0.113.{}", 100 + at)] } })).collect::<Vec<_>>(),
    })
    .to_string()
}

/// The estate of Marrowfen Ferries, file by file.
pub const FERRIES: [(&str, &str); 8] = [
    (
        "cargo.yaml",
        include_str!("../../demo/marrowfen/cargo.yaml"),
    ),
    (
        "estate.yaml",
        include_str!("../../demo/marrowfen/estate.yaml"),
    ),
    (
        "fleet.yaml",
        include_str!("../../demo/marrowfen/fleet.yaml"),
    ),
    (
        "harbour.yaml",
        include_str!("../../demo/marrowfen/harbour.yaml"),
    ),
    (
        "office.yaml",
        include_str!("../../demo/marrowfen/office.yaml"),
    ),
    (
        "policies.yaml",
        include_str!("../../demo/marrowfen/policies.yaml"),
    ),
    ("quay.yaml", include_str!("../../demo/marrowfen/quay.yaml")),
    (
        "tickets.yaml",
        include_str!("../../demo/marrowfen/tickets.yaml"),
    ),
];
