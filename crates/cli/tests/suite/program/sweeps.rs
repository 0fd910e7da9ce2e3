//! `reach` and `matrix` as they are met: what they say, what they refuse, and that the answers keep their schema.

use crate::folder::{Folder, HEADER};
use serde_json::Value;

/// A chain of groups behind a balancer, and a network that has nothing to do with it.
const ESTATE: &str = r#"
estate: { name: chain, taken: 2026-11-02T06:00:00Z }
networks: [{ id: tickets, blocks: [10.65.0.0/16], main_table: out }, { id: cargo, blocks: [10.66.0.0/16] }]
subnets: [{ id: web, network: tickets, blocks: [10.65.1.0/24] }, { id: data, network: tickets, blocks: [10.65.4.0/24] }, { id: app, network: cargo, blocks: [10.66.1.0/24] }]
gateways: [{ id: gate, kind: internet, network: tickets }]
route_tables: [{ id: out, network: tickets, routes: [{ to: 0.0.0.0/0, next_hop: "gateway:gate" }] }]
workloads: [{ id: booking, tags: { role: web } }, { id: fares, tags: { role: data } }]
interfaces:
- { id: booking-1, subnet: web, addresses: 10.65.1.11, workload: booking, groups: [web] }
- { id: booking-2, subnet: web, addresses: 10.65.1.12, workload: booking, groups: [web] }
- { id: fares-1, subnet: data, addresses: 10.65.4.20, workload: fares, groups: [data] }
- { id: customs-1, subnet: app, addresses: 10.66.1.15 }
balancers: [{ id: front, network: tickets, kind: keeping, front_ends: [{ address: 203.0.113.30, public: true, services: tcp 443 }], back_ends: [{ interface: booking-1 }, { interface: booking-2 }] }]
security_groups:
- { id: web, inbound: [{ id: https, services: tcp 443 }], outbound: [{ id: fares, services: tcp 5432, peers: "group:data" }] }
- { id: data, inbound: [{ id: web, services: tcp 5432, peers: "group:web" }] }
"#;

fn folder() -> Folder {
    Folder::with(&format!("{HEADER}{}", ESTATE.trim_start()))
}

/// The first sentence of an answer.
fn sentence(folder: &Folder, arguments: &[&str]) -> String {
    let output = folder.run(arguments).ok();
    output
        .lines()
        .take_while(|line| !line.starts_with("chain · "))
        .map(str::trim)
        .collect::<Vec<_>>()
        .join(" ")
}

#[test]
fn sweeps_say_first_what_was_asked() {
    let folder = folder();
    for (asked, said) in [
        (
            "reach internet",
            "The internet reaches 1 of 3 other workloads (booking) directly.",
        ),
        (
            "reach internet --jumps 2",
            "The internet reaches 1 of 3 other workloads (booking) directly; 1 of 3 other workloads (fares) within 2 jumps.",
        ),
        (
            "reach internet --to fares --jumps 1",
            "The internet does not reach fares within 1 jump.",
        ),
        (
            "reach internet --to fares --jumps 4",
            "The internet reaches fares in 2 jumps, via booking.",
        ),
        (
            "reach internet --tcp 443 --jumps 2",
            "The internet reaches 1 of 3 other workloads (booking) directly over tcp 443.",
        ),
        ("reach customs-1", "customs-1 reaches nothing."),
        ("reach --to customs-1", "Nothing reaches customs-1."),
        (
            "reach --to fares --jumps 2",
            "fares is reached directly by 1 of 2 other workloads (booking); within 2 jumps by the internet.",
        ),
        (
            "reach --to balancer:front --tcp 443",
            "balancer:front is reached directly by the internet over tcp 443.",
        ),
        (
            "matrix --tcp 5432",
            "0 of 6 pairs of segments can talk over tcp 5432.",
        ),
        (
            "matrix --by tag:role --tcp 5432",
            "1 of 12 pairs of segments can talk over tcp 5432.",
        ),
        (
            "matrix role=web role=data --by tag:role --tcp 5432",
            "Yes: tcp 5432 from role=web to role=data works for all.",
        ),
        (
            "matrix internet tickets --tcp 443",
            "Partly: tcp 443 from internet to tickets works for tcp 443; by balancer front.",
        ),
        (
            "matrix cargo tickets",
            "No: any traffic from cargo to tickets does not work.",
        ),
    ] {
        let words: Vec<&str> = asked.split(' ').collect();
        assert_eq!(sentence(&folder, &words), said, "{asked}");
    }
}

#[test]
fn chains_say_who_is_passed_and_json_keeps_its_schema() {
    let folder = folder();
    let (code, answer) = folder.json(&["reach", "internet", "--jumps", "3"]);
    assert_eq!(code, 0);
    let reached = answer["answer"]["reached"].as_array().unwrap();
    let fares = reached
        .iter()
        .find(|one| one["place"]["name"] == "fares")
        .unwrap();
    let hops: Vec<(&str, &str)> = fares["hops"]
        .as_array()
        .unwrap()
        .iter()
        .map(|hop| {
            (
                hop["from"]["name"].as_str().unwrap(),
                hop["to"]["name"].as_str().unwrap(),
            )
        })
        .collect();
    assert_eq!(hops, [("the internet", "booking"), ("booking", "fares")]);
    assert_eq!(fares["always_by"][0]["name"], "booking");
    let way = &fares["hops"][0]["ways"][0];
    assert_eq!(
        (&way["by"][0], &way["services"][0]),
        (&Value::from("balancer front"), &Value::from("tcp 443"))
    );
    for (kind, asked) in [
        ("reach", &["reach", "internet", "--jumps", "3"][..]),
        ("matrix", &["matrix"]),
        ("matrix-cell", &["matrix", "tickets", "internet"]),
    ] {
        let (_, answer) = folder.json(asked);
        let schema: Value = serde_json::from_str(&folder.run(&["schema", kind]).ok()).unwrap();
        let check = jsonschema::validator_for(&schema).unwrap();
        assert!(
            check.is_valid(&answer),
            "{kind}: {:?}",
            check.iter_errors(&answer).next().map(|e| e.to_string())
        );
    }
    let text = folder.run(&["reach", "internet", "--jumps", "3"]).ok();
    assert!(
        text.contains("EVERY CHAIN PASSES\n  booking  on the way to fares"),
        "{text}"
    );
}

#[test]
fn what_cannot_be_asked_is_refused_with_what_would_be_right() {
    let folder = folder();
    for (asked, says) in [
        ("reach", "<FROM>"),
        (
            "reach nowhere",
            "nothing in the snapshot is called `nowhere`",
        ),
        (
            "reach 192.168.7.7",
            "matches nothing that opens or accepts connections",
        ),
        ("reach internet --jumps 0", "1..=32"),
        (
            "matrix --by moon",
            "write network, subnet, domain, division, owner, or tag:KEY",
        ),
        ("matrix tikets cargo", "did you mean"),
        ("matrix tickets", "<TO>"),
        ("inventory --force", "--figure"),
    ] {
        let words: Vec<&str> = asked.split(' ').collect();
        let run = folder.run(&words);
        assert_eq!(
            (run.code, run.stdout.as_str()),
            (2, ""),
            "{asked}: {}",
            run.stderr
        );
        assert!(run.stderr.contains(says), "{asked}: {}", run.stderr);
    }
}

#[test]
fn sweeps_are_the_same_bytes_whatever_the_order_of_the_files() {
    let parts = Folder::with_demo();
    let first = parts.run(&["matrix", "-e", "marrowfen-ferries"]).ok();
    assert_eq!(
        first,
        parts.run(&["matrix", "-e", "marrowfen-ferries"]).ok()
    );
    let (_, one) = parts.json(&[
        "reach",
        "internet",
        "--jumps",
        "4",
        "-e",
        "marrowfen-ferries",
    ]);
    let (_, two) = parts.json(&[
        "reach",
        "internet",
        "--jumps",
        "4",
        "-e",
        "marrowfen-ferries",
    ]);
    assert_eq!(one, two);
    // A nearer jump stays one when more are allowed.
    let (_, near) = parts.json(&["reach", "internet", "-e", "marrowfen-ferries"]);
    let names = |answer: &Value| -> Vec<String> {
        let all = answer["answer"]["reached"].as_array().unwrap().iter();
        all.filter(|one| one["jumps"] == 1 && one["certain"] == true)
            .map(|one| one["place"].to_string())
            .collect()
    };
    assert_eq!(names(&near), names(&one));
}

/// Machines that nothing else tells apart, of which a firewall's own service answers one.
#[test]
fn whom_a_firewall_answers_itself_is_told_apart_from_others() {
    let estate = r#"
networks: [{ id: quay, blocks: 10.1.0.0/16 }]
subnets: [{ id: a, network: quay, blocks: 10.1.1.0/24 }, { id: b, network: quay, blocks: 10.1.2.0/24 }]
interfaces:
- { id: one, subnet: a, addresses: 10.1.1.4 }
- { id: extra, subnet: a, addresses: 10.1.1.5 }
- { id: two, subnet: a, addresses: 10.1.1.6 }
- { id: leg, subnet: b, addresses: 10.1.2.9, forwards: true }
firewalls: [{ id: gate, interfaces: [{ interface: leg }], policy: open, own_services: [{ services: tcp 443, sources: SOURCES }] }]
firewall_policies: [{ id: open, rules: [{ id: all, action: allow }] }]
"#;
    for (sources, said) in [
        (
            "10.1.1.4",
            "leg is reached directly by 1 of 3 other workloads (one).",
        ),
        (
            "[10.1.1.5, 10.1.1.6]",
            "leg is reached directly by 2 of 3 other workloads (extra, two).",
        ),
        ("10.1.9.9", "Nothing reaches leg."),
    ] {
        let text = estate.trim_start().replace("SOURCES", sources);
        let folder = Folder::with(&format!("{HEADER}{text}"));
        let output = folder.run(&["reach", "--to", "leg"]);
        assert_eq!(output.stdout.lines().next(), Some(said), "{sources}");
    }
}

/// An interface with an address of another subnet, and a private door at which nothing is filtered, beside others of their groups.
#[test]
fn what_differs_by_subnet_or_door_is_told_apart_from_others() {
    let estate = r#"
networks: [{ id: quay, blocks: 10.1.0.0/16 }]
subnets: [{ id: a, network: quay, blocks: 10.1.1.0/24, acl: shut, filter_private_doors: false }, { id: b, network: quay, blocks: 10.1.2.0/24 }]
interfaces:
- { id: door, subnet: a, addresses: 10.1.1.9 }
- { id: asker, subnet: a, addresses: 10.1.1.5 }
- { id: far-1, subnet: b, addresses: 10.1.2.4 }
- { id: stray-1, subnet: b, addresses: 10.1.1.77 }
- { id: far-2, subnet: b, addresses: 10.1.2.6 }
- { id: stray-2, subnet: b, addresses: 10.1.1.79 }
services: [{ id: store, services: tcp 443, private_doors: [door] }]
network_acls: [{ id: shut, inbound: [{ action: allow }], outbound: [{ action: deny }] }]
"#;
    let folder = Folder::with(&format!("{HEADER}{}", estate.trim_start()));
    let works = |to: &str| {
        folder
            .run(&["path", "asker", to, "--tcp", "443"])
            .stdout
            .starts_with("Yes")
    };
    let told = folder.run(&["reach", "asker", "--tcp", "443"]).stdout;
    for (to, expected) in [
        ("far-1", false),
        ("far-2", false),
        ("stray-1", true),
        ("stray-2", true),
    ] {
        assert_eq!(works(to), expected, "{to}");
        assert_eq!(told.contains(to), expected, "{to}: {told}");
    }
    let plain = folder.run(&["effective", "asker"]).stdout;
    assert!(
        !plain.contains("same for door") && plain.contains("BLOCKED by ACL"),
        "{plain}"
    );
}
