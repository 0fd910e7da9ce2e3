//! How the time grows with the estate: reading against plain JSON parsing, and the analyses against reading.
//!
//! `cargo bench --bench scale` prints medians of interleaved runs in one process, as ratios: absolute times say more about the
//! machine than about the program.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    reason = "a benchmark prints, and stops where it cannot go on"
)]

mod estates;

use heronshale_answers::{Matrix, ReachAsked, audit, path_answer, reach_answer};
use heronshale_audit::finding::CATALOGUE;
use heronshale_engine::effective::{Class, classes, effective_both, passing_both};
use heronshale_engine::fabric::Fabric;
use heronshale_engine::path::{Connection, Goal, question};
use heronshale_intake::load_texts;
use heronshale_model::ends::End;
use heronshale_model::segments::SegmentBy;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::hint::black_box;
use std::time::Instant;

/// The allocator of the program.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROUNDS: usize = 7;

fn seconds<T>(run: impl FnOnce() -> T) -> f64 {
    let start = Instant::now();
    black_box(run());
    start.elapsed().as_secs_f64()
}

fn median(mut all: Vec<f64>) -> f64 {
    all.sort_by(f64::total_cmp);
    all[all.len() / 2]
}

/// Two networks of so many interfaces each: 250 to a subnet, four groups to a subnet of 250 in each network; half of the rules are
/// about groups.
fn pair(interfaces: usize) -> String {
    let mut random = fastrand::Rng::with_seed(5);
    let groups = 250;
    let subnets = interfaces.div_ceil(250);
    let mut sections: [Vec<Value>; 3] = Default::default();
    for (network, base) in [("east", 0), ("west", 128)] {
        for at in 0..groups {
            let mut rule = |id: usize| {
                let peer = match random.u8(0..10) {
                    0..5 => format!(
                        "group:{}-g{}",
                        ["east", "west"][random.usize(0..2)],
                        random.usize(0..groups)
                    ),
                    5..7 => "10.0.0.0/8".to_owned(),
                    7..9 => format!("10.{}.{}.0/24", random.u8(..), random.usize(0..subnets)),
                    _ => "internet".to_owned(),
                };
                let port = [22, 80, 443, 5432, 8080, 9100][random.usize(0..6)];
                json!({ "id": format!("r{id}"), "services": format!("tcp {port}"), "peers": peer })
            };
            let inbound: Vec<Value> = (0..3).map(&mut rule).collect();
            sections[0]
                .push(json!({ "id": format!("{network}-g{at}"), "inbound": inbound, "outbound": [{ "id": "all" }] }));
        }
        for subnet in 0..subnets {
            let block = format!("10.{}.{}", base + subnet / 256, subnet % 256);
            sections[1].push(
                json!({ "id": format!("{network}-{subnet}"), "network": network, "blocks": format!("{block}.0/24") }),
            );
            let tier: Vec<usize> = (0..4).map(|_| random.usize(0..groups)).collect();
            for at in 0..250.min(interfaces - subnet * 250) {
                let group = tier[random.usize(0..4)];
                sections[2]
                    .push(json!({ "id": format!("{network}-{subnet}-{at}"), "subnet": format!("{network}-{subnet}"),
                    "addresses": format!("{block}.{}", at + 2), "groups": format!("{network}-g{group}") }));
            }
        }
    }
    let [groups, subnets, interfaces] = sections;
    json!({
        "format": "heronshale-snapshot", "version": 1, "estate": { "name": "pair", "taken": "2026-11-02T06:00:00Z" },
        "networks": [{ "id": "east", "blocks": "10.0.0.0/9" }, { "id": "west", "blocks": "10.128.0.0/9" }],
        "peerings": [{ "id": "p", "sides": [{ "network": "east" }, { "network": "west" }] }],
        "security_groups": groups, "subnets": subnets, "interfaces": interfaces,
    })
    .to_string()
}

/// From one network to the other, on one port and on all.
fn paths() {
    println!(
        "{:>22} {:>8} {:>16} {:>16} {:>12}",
        "interfaces each side", "MB", "one port / read", "all / read", "one port, s"
    );
    for interfaces in [1_000, 10_000] {
        let text = pair(interfaces);
        let mut rounds: [Vec<f64>; 3] = Default::default();
        for _ in 0..ROUNDS {
            rounds[0].push(seconds(|| load_texts(&[("e.json", &text)]).unwrap()));
            let snapshot = load_texts(&[("e.json", &text)]).unwrap();
            let view = Fabric::new(&snapshot.estate, None);
            let end = |text: &str| End::parse(&view, text).unwrap();
            for (at, services) in [vec!["tcp 443".parse().unwrap()], Vec::new()]
                .into_iter()
                .enumerate()
            {
                let connection = Connection {
                    from: end("network:east"),
                    to: Goal::End(end("network:west")),
                    services,
                    source_port: None,
                };
                rounds[at + 1].push(seconds(|| {
                    path_answer(
                        &view,
                        &question(&view, &connection).unwrap(),
                        ["east", "west"],
                    )
                    .parts
                    .len()
                }));
            }
        }
        let [read, one, all] = rounds.map(median);
        let size = text.len() as f64 / 1e6;
        println!(
            "{interfaces:>22} {size:>8.1} {:>16.2} {:>16.2} {one:>12.2}",
            one / read,
            all / read
        );
    }
}

/// Networks of 250 interfaces in three tiers, behind a firewall in a hub network.
fn tiers(interfaces: usize) -> String {
    let networks = interfaces / 250;
    let tier = ["web", "app", "data"];
    let all = |one: &dyn Fn(usize) -> Value| (0..networks).map(one).collect::<Vec<_>>();
    let mut network_list = vec![json!({ "id": "q", "blocks": "10.0.0.0/16", "main_table": "t-q" })];
    network_list.extend(all(&|at| json!({ "id": format!("n{at}"), "blocks": format!("10.{}.0.0/16", at + 1), "main_table": format!("t-n{at}") })));
    let mut subnets = vec![json!({ "id": "q-fw", "network": "q", "blocks": "10.0.1.0/24" })];
    let mut places =
        vec![json!({ "id": "fw", "subnet": "q-fw", "addresses": "10.0.1.4", "forwards": true })];
    let mut groups = Vec::new();
    for at in 0..networks {
        let group = |place: usize, service: &str, peers: String| json!({ "id": format!("n{at}-{}", tier[place]), "inbound": [{ "id": "in", "services": service, "peers": peers }, { "id": "peer", "services": "tcp 5433", "peers": format!("10.{}.0.0/16", at * 7 % networks + 1) }], "outbound": [{ "id": "all" }] });
        groups.push(group(0, "tcp 443", "any".to_owned()));
        groups.push(group(1, "tcp 8443", format!("group:n{at}-web")));
        groups.push(group(2, "tcp 5432", format!("group:n{at}-app")));
        for (place, name) in tier.iter().enumerate() {
            subnets.push(json!({ "id": format!("n{at}-{name}"), "network": format!("n{at}"), "blocks": format!("10.{}.{place}.0/24", at + 1) }));
        }
        for one in 0..250 {
            let name = tier[one % 3];
            places.push(json!({ "id": format!("n{at}-{one}"), "subnet": format!("n{at}-{name}"), "addresses": format!("10.{}.{}.{}", at + 1, one % 3, one / 3 + 4), "groups": format!("n{at}-{name}") }));
        }
    }
    let mut tables = vec![
        json!({ "id": "t-q", "network": "q", "routes": [{ "to": "0.0.0.0/0", "next_hop": "gateway:w" }] }),
    ];
    tables.extend(all(&|at| json!({ "id": format!("t-n{at}"), "network": format!("n{at}"), "routes": [{ "to": ["10.0.0.0/8", "0.0.0.0/0"], "next_hop": "firewall:f" }] })));
    json!({
        "format": "heronshale-snapshot", "version": 1, "estate": { "name": "tiers", "taken": "2026-11-02T06:00:00Z" },
        "networks": network_list, "subnets": subnets, "interfaces": places, "security_groups": groups, "route_tables": tables,
        "gateways": [{ "id": "w", "kind": "internet", "network": "q" }],
        "firewalls": [{ "id": "f", "interfaces": { "interface": "fw" }, "policy": "inside" }],
        "firewall_policies": [{ "id": "inside", "rules": [{ "id": "some", "action": "allow", "services": "tcp 443,5433" }] }],
        "peerings": all(&|at| json!({ "id": format!("p{at}"), "sides": [{ "network": format!("n{at}"), "accept_forwarded": true }, { "network": "q" }] })),
    })
    .to_string()
}

/// Over the whole estate: the matrix, and who the internet reaches in three jumps.
fn sweeps() {
    println!(
        "{:>10} {:>8} {:>18} {:>14} {:>14} {:>13}",
        "interfaces", "MB", "matrix, one port", "matrix, all", "reach, 3", "one port, s"
    );
    for interfaces in [1_000, 10_000] {
        let text = tiers(interfaces);
        let mut rounds: [Vec<f64>; 4] = Default::default();
        for _ in 0..ROUNDS {
            rounds[0].push(seconds(|| load_texts(&[("e.json", &text)]).unwrap()));
            let snapshot = load_texts(&[("e.json", &text)]).unwrap();
            let view = Fabric::new(&snapshot.estate, None);
            let web = ["tcp 443".parse().unwrap()];
            rounds[1].push(seconds(|| {
                Matrix::new(&view, SegmentBy::Network, &web)
                    .answer()
                    .cells
                    .len()
            }));
            rounds[2].push(seconds(|| {
                Matrix::new(&view, SegmentBy::Network, &[])
                    .answer()
                    .cells
                    .len()
            }));
            let from = End::parse(&view, "n0-0").unwrap();
            let asked = ReachAsked {
                from: Some((&from, "n0-0")),
                to: None,
                jumps: 3,
                services: &[],
            };
            rounds[3].push(seconds(|| {
                reach_answer(&view, &asked).map(|answer| answer.reached.len())
            }));
        }
        let [read, one, all, reach] = rounds.map(median);
        let size = text.len() as f64 / 1e6;
        println!(
            "{interfaces:>10} {size:>8.1} {:>18.1} {:>14.1} {:>14.1} {one:>13.2}",
            one / read,
            all / read,
            reach / read
        );
    }
}

/// The whole estate: reading against plain owned structs (F); of all classes the exact sets that get through and back, both ways,
/// and the effective rules as lists to be read; and the audit.
fn estates(most: usize) {
    println!(
        "{:>10} {:>8} {:>8} {:>8} {:>10} {:>10} {:>14} {:>10} {:>10} {:>9}",
        "interfaces",
        "MB",
        "classes",
        "F, s",
        "read / F",
        "sets / F",
        "effective / F",
        "audit / F",
        "findings",
        "kinds"
    );
    for interfaces in [1_000, 10_000, 100_000]
        .into_iter()
        .filter(|interfaces| *interfaces <= most)
    {
        let text = estates::estate(interfaces);
        let mut files = vec![("bench.json", &*text)];
        files.extend(estates::FERRIES);
        let mut rounds: [Vec<f64>; 5] = Default::default();
        let mut classes_found = 0;
        let mut kinds = BTreeMap::new();
        for _ in 0..if interfaces > 1_000 { 3 } else { ROUNDS } {
            rounds[0].push(seconds(|| {
                serde_json::from_str::<estates::Plain>(&text).unwrap()
            }));
            rounds[1].push(seconds(|| load_texts(&files).unwrap()));
            let snapshot = load_texts(&files).unwrap();
            rounds[4].push(seconds(|| {
                let view = Fabric::new(&snapshot.estate, None);
                let both = |class: &Class| {
                    passing_both(&view, class.representative(), [None, None])
                        .map(|passing| passing.works.is_empty())
                };
                classes(&view).iter().map(both).collect::<Vec<_>>()
            }));
            rounds[2].push(seconds(|| {
                let view = Fabric::new(&snapshot.estate, None);
                let all = classes(&view);
                classes_found = all.len();
                let both = |class: &Class| {
                    effective_both(&view, class.representative(), [None, None])
                        .map(|side| side.admitted.len())
                };
                all.iter().map(both).collect::<Vec<_>>()
            }));
            rounds[3].push(seconds(|| {
                for finding in audit(&Fabric::new(&snapshot.estate, None)).findings {
                    *kinds.entry(finding.kind).or_insert(0_usize) += 1;
                }
            }));
        }
        let runs = rounds[0].len();
        let [plain, read, effective, audit, sets] = rounds.map(median);
        let size = text.len() as f64 / 1e6;
        println!(
            "{interfaces:>10} {size:>8.1} {classes_found:>8} {plain:>8.3} {:>10.2} {:>10.2} {:>14.2} {:>10.2} {:>10} {:>5}/{}",
            read / plain,
            (read + sets) / plain,
            (read + effective) / plain,
            (read + audit) / plain,
            kinds.values().sum::<usize>() / runs,
            kinds.len(),
            CATALOGUE.len(),
        );
        let lacking: Vec<_> = CATALOGUE
            .iter()
            .map(|kind| kind.name)
            .filter(|name| !kinds.contains_key(*name))
            .collect();
        println!("{:>10} without {}", "", lacking.join(", "));
    }
}

/// `paths`, `sweeps` or `estates [INTERFACES]` runs only that; `write INTERFACES FILE` writes an estate.
fn main() {
    let given: Vec<String> = std::env::args()
        .skip(1)
        .filter(|word| !word.starts_with("--"))
        .collect();
    let number = |at: usize| {
        given
            .get(at)
            .and_then(|word| word.parse().ok())
            .unwrap_or(100_000)
    };
    let wanted = |what: &str| given.first().is_none_or(|word| word == what);
    if given.first().is_some_and(|word| word == "write") {
        std::fs::write(&given[2], estates::estate(number(1))).unwrap();
        return;
    }
    if wanted("paths") {
        paths();
    }
    if wanted("sweeps") {
        sweeps();
    }
    if wanted("estates") {
        estates(number(1));
    }
}
