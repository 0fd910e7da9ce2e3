//! Two more shapes of estates: `lab`, in which teams of unlike size share networks and each service has a group of its own, and
//! `spokes`, fifty networks of three tiers around one firewall, alike but for what somebody opened by hand.

use fastrand::Rng;
use serde_json::{Value, json};

/// Ports by how often they are asked for.
const PORTS: [&str; 14] = [
    "443",
    "80",
    "22",
    "8080",
    "5432",
    "3306",
    "53",
    "6379",
    "9200-9300",
    "1024-65535",
    "",
    "3389",
    "30000-32767",
    "9090-9100",
];
const TIERS: [&str; 3] = ["web", "app", "data"];
const STAGES: [&str; 3] = ["live", "trial", "build"];

/// A number below a bound, small ones more often: the least of three.
fn seldom(random: &mut Rng, bound: usize) -> usize {
    (0..3).map(|_| random.usize(0..bound)).min().unwrap_or(0)
}

fn service(random: &mut Rng) -> String {
    let port = PORTS[seldom(random, PORTS.len())];
    let protocol = ["tcp", "tcp", "tcp", "udp", "any"][seldom(random, 5)];
    if protocol == "any" || port.is_empty() {
        protocol.to_owned()
    } else {
        format!("{protocol} {port}")
    }
}

struct Lab {
    random: Rng,
    networks: usize,
    /// To each network.
    subnets: usize,
    /// To each network.
    groups: usize,
    sets: usize,
}

impl Lab {
    fn peers(&mut self, network: usize) -> Vec<String> {
        let random = &mut self.random;
        let group = |at: usize| format!("group:g{network}-{at}");
        match random.u8(0..10) {
            0..=3 => vec![group(seldom(random, self.groups))],
            4 => vec![format!("set:s{}", seldom(random, self.sets))],
            5 => vec!["any".to_owned()],
            6 => vec![
                format!("10.{network}.0.0/16"),
                format!("10.{}.0.0/16", random.usize(0..self.networks)),
            ],
            _ => vec![
                format!("10.{network}.{}.0/24", random.usize(0..self.subnets)),
                format!("10.{network}.{}.{}", random.u8(..), random.u8(..)),
            ],
        }
    }

    fn group(&mut self, network: usize, at: usize) -> Value {
        let count = 5 + self.random.usize(0..7);
        let mut rules = |from: usize, to: usize| -> Vec<Value> {
            let rule = |id: usize| json!({ "id": format!("r{id}"), "services": [service(&mut self.random)], "peers": self.peers(network), "description": format!("rule {id}") });
            (from..to).map(rule).collect()
        };
        let (inbound, outbound) = (rules(0, count - 2), rules(count - 2, count));
        json!({ "id": format!("g{network}-{at}"), "inbound": inbound, "outbound": outbound })
    }

    fn acl(&mut self, network: usize) -> Value {
        let mut side = || -> Vec<Value> {
            let mut rules: Vec<Value> = (0..5)
                .map(|at| {
                    let random = &mut self.random;
                    let peer = match random.u8(0..4) {
                        0 => "any".to_owned(),
                        1 => format!("10.{}.0.0/16", random.usize(0..self.networks)),
                        2 => format!("10.{network}.{}.0/24", random.u8(..)),
                        _ => "10.0.0.0/8".to_owned(),
                    };
                    let action = ["deny", "allow", "allow", "allow"][random.usize(0..4)];
                    json!({ "id": format!("e{at}"), "priority": 100 + at * 10, "action": action, "services": [service(random)], "peers": [peer] })
                })
                .collect();
            rules.push(
                json!({ "id": "rest", "priority": 900, "action": "allow", "peers": ["any"] }),
            );
            rules
        };
        let (inbound, outbound) = (side(), side());
        json!({ "id": format!("a{network}"), "inbound": inbound, "outbound": outbound })
    }

    fn set(&mut self, at: usize) -> Value {
        let count = 5 + self.random.usize(0..30);
        let block = |random: &mut Rng| {
            let length = 20 + random.u32(0..13);
            let number = (random.u32(..) >> 1 | 0x4000_0000) & (!0_u32 << (32 - length));
            format!("{}/{length}", std::net::Ipv4Addr::from(number))
        };
        let content: Vec<String> = (0..count).map(|_| block(&mut self.random)).collect();
        json!({ "id": format!("s{at}"), "content": content })
    }
}

/// Teams of unlike size in shared networks, joined by peerings with the first one.
pub fn lab(interfaces: usize) -> String {
    let networks = (interfaces / 1_000).clamp(1, 200);
    let mut lab = Lab {
        random: Rng::with_seed(42),
        networks,
        subnets: (interfaces / 20 / networks).clamp(1, 255),
        groups: (interfaces / 8 / networks).max(1),
        sets: (networks / 2).max(5),
    };
    let each = |one: &dyn Fn(usize) -> Value| (0..networks).map(one).collect::<Vec<_>>();
    let network_list = each(
        &|at| json!({ "id": format!("n{at}"), "blocks": [format!("10.{at}.0.0/16")], "main_table": format!("t{at}"), "tags": { "stage": STAGES[at % 3] } }),
    );
    let tables: Vec<Value> = (0..networks)
        .map(|at| {
            let out = ["in", "nat", "nat"][lab.random.usize(0..3)];
            json!({ "id": format!("t{at}"), "network": format!("n{at}"), "routes": [{ "id": "out", "to": ["0.0.0.0/0"], "next_hop": format!("gateway:{out}{at}") }] })
        })
        .collect();
    let gateways = (0..networks).flat_map(|at| [
        json!({ "id": format!("in{at}"), "kind": "internet", "network": format!("n{at}") }),
        json!({ "id": format!("nat{at}"), "kind": "nat", "network": format!("n{at}"), "subnet": format!("n{at}-0"), "address": format!("10.{at}.0.3"), "public": format!("203.0.{at}.250") }),
    ]);
    let gateways: Vec<Value> = gateways.collect();
    let peerings: Vec<Value> = (1..networks)
        .map(|at| json!({ "id": format!("p{at}"), "sides": [{ "network": "n0" }, { "network": format!("n{at}") }] }))
        .collect();
    let sets: Vec<Value> = (0..lab.sets).map(|at| lab.set(at)).collect();
    let acls: Vec<Value> = (0..networks).map(|at| lab.acl(at)).collect();
    let mut subnets = Vec::new();
    let mut groups = Vec::new();
    for network in 0..networks {
        for at in 0..lab.subnets {
            subnets.push(json!({ "id": format!("n{network}-{at}"), "network": format!("n{network}"), "blocks": [format!("10.{network}.{at}.0/24")], "acl": format!("a{network}"), "tags": { "tier": TIERS[at % 3] } }));
        }
        groups.extend((0..lab.groups).map(|at| lab.group(network, at)));
    }
    let (places, workloads, public) = lab_machines(&mut lab, interfaces);
    json!({
        "format": "heronshale-snapshot", "version": 1, "estate": { "name": "lab", "taken": "2026-11-02T06:00:00Z" },
        "networks": network_list, "subnets": subnets, "interfaces": places, "workloads": workloads, "public_addresses": public,
        "address_sets": sets, "security_groups": groups, "network_acls": acls, "route_tables": tables, "gateways": gateways,
        "peerings": peerings,
    })
    .to_string()
}

/// Services of one to sixty machines, each with its group and mostly with one that its network shares.
fn lab_machines(lab: &mut Lab, interfaces: usize) -> (Vec<Value>, Vec<Value>, Vec<Value>) {
    let (mut places, mut workloads, mut public) = (Vec::new(), Vec::new(), Vec::new());
    let mut used = vec![4_usize; lab.networks * lab.subnets];
    let mut number = 0;
    while places.len() < interfaces {
        let (network, own) = (number / lab.groups % lab.networks, number % lab.groups);
        number += 1;
        let random = &mut lab.random;
        let size = match random.u8(0..10) {
            0..=3 => 1 + random.usize(0..3),
            4..=7 => 3 + random.usize(0..8),
            8 => 8 + random.usize(0..16),
            _ => 20 + random.usize(0..40),
        };
        let mut of = vec![own];
        if random.u8(0..10) < 7 {
            of.push(0);
        }
        if random.u8(0..10) < 3 {
            of.push(seldom(random, lab.groups));
        }
        of.sort_unstable();
        of.dedup();
        let names: Vec<String> = of.iter().map(|at| format!("g{network}-{at}")).collect();
        workloads.push(
            json!({ "id": format!("service-{number}"), "tags": { "stage": STAGES[network % 3] } }),
        );
        let first = random.usize(0..lab.subnets);
        for machine in 0..size {
            let mut subnet = (first + machine % 2) % lab.subnets;
            while used[network * lab.subnets + subnet] > 250 {
                subnet = (subnet + 1) % lab.subnets;
            }
            let host = &mut used[network * lab.subnets + subnet];
            *host += 1;
            let id = format!("i{}", places.len());
            if lab.random.u16(0..1000) < 10 {
                let at = public.len();
                public.push(json!({ "address": format!("198.18.{}.{}", at / 250, at % 250 + 1), "interface": id }));
            }
            places.push(json!({ "id": id, "subnet": format!("n{network}-{subnet}"), "addresses": [format!("10.{network}.{subnet}.{host}")], "groups": names, "workload": format!("service-{number}") }));
        }
    }
    (places, workloads, public)
}

fn plain_rule(id: &str, service: &str, peers: &str) -> Value {
    json!({ "id": id, "services": [service], "peers": [peers], "description": "As agreed" })
}

/// The groups of the three tiers, with a prefix of their own.
fn tier_groups(prefix: &str) -> Vec<Value> {
    let rules = [
        [
            plain_rule("https", "tcp 443", "any"),
            plain_rule("http", "tcp 80", "internet"),
        ],
        [
            plain_rule("web", "tcp 8443", &format!("group:{prefix}web")),
            plain_rule("deploy", "tcp 8080", "set:builders"),
        ],
        [
            plain_rule("app", "tcp 5432", &format!("group:{prefix}app")),
            plain_rule("backup", "tcp 5433", "10.49.0.0/16"),
        ],
    ];
    let groups = TIERS.iter().zip(rules);
    groups
        .map(|(tier, rules)| json!({ "id": format!("{prefix}{tier}"), "inbound": rules }))
        .collect()
}

/// Fifty networks of three tiers around one firewall behind a hub; one machine in ten has something that was done by hand.
pub fn spokes(interfaces: usize) -> String {
    const NETWORKS: usize = 50;
    let mut random = Rng::with_seed(77);
    let to_tier = interfaces.div_ceil(NETWORKS * TIERS.len());
    let parts = to_tier.div_ceil(250);
    let mut networks =
        vec![json!({ "id": "core", "blocks": ["10.200.0.0/16"], "main_table": "core" })];
    let mut subnets =
        vec![json!({ "id": "core-fw", "network": "core", "blocks": ["10.200.0.0/24"] })];
    let door = |id: &str, host: usize| json!({ "id": id, "subnet": "core-fw", "addresses": [format!("10.200.0.{host}")], "forwards": true });
    let mut places = vec![door("fw-in", 4), door("fw-out", 5)];
    let ways = |hop: &str| json!([{ "id": "inside", "to": ["10.0.0.0/8"], "next_hop": "hub:h" }, { "id": "out", "to": ["0.0.0.0/0"], "next_hop": hop }]);
    let mut tables =
        vec![json!({ "id": "core", "network": "core", "routes": ways("gateway:out") })];
    let link = |to: &str| json!({ "id": to, "to": format!("network:{to}"), "reads": "inside", "announces_into": ["inside"] });
    let mut core = link("core");
    core["subnet"] = "core-fw".into();
    let mut links = vec![core];
    let base = [
        plain_rule("metrics", "tcp 9100", "10.200.0.0/16"),
        plain_rule("ping", "icmp 8", "10.0.0.0/8"),
        plain_rule("admin", "tcp 22", "set:bastions"),
    ];
    let mut groups = vec![
        json!({ "id": "base", "inbound": base, "outbound": [{ "id": "all", "peers": ["any"], "description": "Updates" }] }),
    ];
    groups.extend(tier_groups("shared-"));
    for network in 0..NETWORKS {
        let name = format!("n{network}");
        networks.push(
            json!({ "id": name, "blocks": [format!("10.{network}.0.0/16")], "main_table": name }),
        );
        tables.push(json!({ "id": name, "network": name, "routes": ways("hub:h") }));
        links.push(link(&name));
        // Two networks of three have copies of their own.
        let prefix = if network % 3 == 0 {
            "shared-".to_owned()
        } else {
            format!("{name}-")
        };
        if network % 3 != 0 {
            groups.extend(tier_groups(&prefix));
        }
        for (at, tier) in TIERS.iter().enumerate() {
            for part in 0..parts {
                subnets.push(json!({ "id": format!("{name}-{tier}-{part}"), "network": name, "blocks": [format!("10.{network}.{}.0/24", at * parts + part)] }));
            }
            for one in 0..to_tier {
                let mut bound = vec!["base".to_owned(), format!("{prefix}{tier}")];
                match random.u8(0..30) {
                    0 => bound.push(format!("shared-{}", TIERS[random.usize(0..3)])),
                    1 => {
                        let id = format!("by-hand-{}", groups.len());
                        let peer = format!(
                            "10.{}.{}.{}",
                            random.usize(0..NETWORKS),
                            random.usize(0..3),
                            random.usize(4..60)
                        );
                        groups.push(json!({ "id": id, "inbound": [plain_rule("temporary", &format!("tcp {}", random.u16(1024..60000)), &peer)] }));
                        bound.push(id);
                    }
                    2 => drop(bound.remove(0)),
                    _ => {}
                }
                bound.dedup();
                places.push(json!({ "id": format!("{name}-{tier}-i{one}"), "subnet": format!("{name}-{tier}-{}", one / 250), "addresses": [format!("10.{network}.{}.{}", at * parts + one / 250, one % 250 + 4)], "groups": bound, "tags": { "tier": tier } }));
            }
        }
    }
    let mut policy: Vec<Value> = (0..150)
        .map(|at| {
            let mut block = || format!("10.{}.{}.0/24", random.usize(0..NETWORKS), random.usize(0..3 * parts));
            let (from, to) = (block(), block());
            let action = ["deny", "allow", "allow", "allow", "allow", "allow"][random.usize(0..6)];
            json!({ "id": format!("p{at}"), "priority": at * 10, "action": action, "services": [service(&mut random)], "sources": [from], "destinations": [to] })
        })
        .collect();
    policy.push(json!({ "id": "out", "priority": 9000, "action": "allow", "services": ["tcp 443"], "sources": ["10.0.0.0/8"], "destinations": ["internet"] }));
    let inward = |at: usize| json!({ "id": format!("in{at}"), "destinations": ["10.200.0.5"], "services": [format!("tcp {}", 8000 + at)], "to": format!("10.{}.0.4", at * 2), "port": 443 });
    json!({
        "format": "heronshale-snapshot", "version": 1, "estate": { "name": "spokes", "taken": "2026-11-02T06:00:00Z" },
        "networks": networks, "subnets": subnets, "interfaces": places,
        "public_addresses": [{ "address": "203.0.113.1", "interface": "fw-out" }],
        "address_sets": [{ "id": "bastions", "content": ["10.200.9.0/28", "198.51.100.0/28"] }, { "id": "builders", "content": ["10.48.0.0/20", "10.200.8.0/24"] }],
        "security_groups": groups, "route_tables": tables, "gateways": [{ "id": "out", "kind": "internet", "network": "core" }],
        "firewalls": [{ "id": "fw", "policy": "central", "interfaces": [{ "interface": "fw-in", "zone": "inside" }, { "interface": "fw-out", "zone": "outside" }],
            "routes": [{ "to": ["10.0.0.0/8"], "interface": "fw-in" }, { "to": ["0.0.0.0/0"], "interface": "fw-out" }],
            "destination_translations": (0..20).map(inward).collect::<Vec<_>>(),
            "source_translations": [{ "id": "out", "sources": ["10.0.0.0/8"], "destinations": ["internet"] }] }],
        "firewall_policies": [{ "id": "central", "rules": policy }],
        "hubs": [{ "id": "h", "domains": [{ "id": "inside", "routes": [{ "to": ["0.0.0.0/0"], "next_hop": "link:core" }] }], "links": links }],
    })
    .to_string()
}
