//! Ways in from the internet that are led by devices: what is open to whom, where it ends, and what the audit says of it.

use super::ways::changed;
use crate::folder::Folder;
use serde_json::Value;

struct Case {
    id: &'static str,
    changes: &'static [(&'static str, &'static str)],
    /// Who holds the address, and the address.
    way: [&'static str; 2],
    /// What is open beside one-way ICMP, which needs no reply: services and sources.
    open: &'static [&'static str],
    /// The interfaces that are reached.
    ends: &'static [&'static str],
    /// A word of what closes the rest.
    closed: &'static str,
}

const fn case(
    id: &'static str,
    changes: &'static [(&'static str, &'static str)],
    way: [&'static str; 2],
    open: &'static [&'static str],
    ends: &'static [&'static str],
    closed: &'static str,
) -> Case {
    Case {
        id,
        changes,
        way,
        open,
        ends,
        closed,
    }
}

const BALANCER: (&str, &str) = (
    "hubs:",
    "balancers:\n- { id: B, network: a, subnet: as, kind: keeping, front_ends: { address: 203.0.113.50, public: true, services: tcp 443 }, back_ends: [{ interface: ia2, port: 8443 }] }\nhubs:",
);
const SICK: (&str, &str) = (
    "{ interface: ia2, port: 8443 }",
    "{ interface: ia2, port: 8443, healthy: false }",
);
const GROUPED: (&str, &str) = (
    "subnet: as2, addresses: 10.1.2.4 }",
    "subnet: as2, addresses: 10.1.2.4, groups: [web] }",
);
const PARTNERS: (&str, &str) = (
    "hubs:",
    "security_groups: [{ id: web, inbound: { id: partners, services: tcp 8443, peers: 192.0.2.0/24 } }]\nhubs:",
);
const TRANSLATED: (&str, &str) = (
    "- { id: F, interfaces: { interface: fw }, policy: open }",
    "- { id: F, interfaces: { interface: fw }, policy: open, own_services: [], destination_translations: [{ destinations: 10.2.1.1, services: tcp 8022, to: 10.3.1.4, port: 22 }] }",
);
const QUAY_OUT: (&str, &str) = (
    "- { id: tq, network: q }",
    "- { id: tq, network: q, routes: [{ to: 0.0.0.0/0, next_hop: \"gateway:gq\" }] }",
);
const QUAY_GATEWAY: (&str, &str) = (
    "- { id: ge, kind: internet, network: e }",
    "- { id: ge, kind: internet, network: e }\n- { id: gq, kind: internet, network: q }",
);
const FIREWALL_PUBLIC: (&str, &str) = (
    "public_addresses: [{ address: 203.0.113.4, interface: ia }]",
    "public_addresses: [{ address: 203.0.113.4, interface: ia }, { address: 203.0.113.7, interface: fw }]",
);
const HOME: (&str, &str) = (
    "- { id: tb, network: b, routes: [{ to: 10.1.0.0/16,",
    "- { id: tb, network: b, routes: [{ to: [10.1.0.0/16, 0.0.0.0/0],",
);
const STEERED: (&str, &str) = (
    "- { id: tq, network: q }",
    "- { id: tq, network: q }\n- { id: tg, network: a, routes: [{ to: 10.1.1.0/24, next_hop: \"firewall:F\" }] }",
);
const GATEWAY_TABLE: (&str, &str) = (
    "- { id: ga, kind: internet, network: a }",
    "- { id: ga, kind: internet, network: a, table: tg }",
);
const LEG: (&str, &str) = (
    "- { id: ia2, ",
    "- { id: fa, subnet: as2, addresses: 10.1.2.1, forwards: true }\n- { id: ia2, ",
);
const THROUGH_LEG: (&str, &str) = (
    "- { id: F, interfaces: { interface: fw }, policy: open }",
    "- { id: F, interfaces: { interface: fa }, policy: open }",
);
const REPLIES_BY_F: (&str, &str) = (
    "{ to: [0.0.0.0/0, \"::/0\"], next_hop: \"gateway:ga\" }",
    "{ to: 0.0.0.0/0, next_hop: \"firewall:F\" }",
);

const fn service(door: &'static str) -> (&'static str, &'static str) {
    ("hubs:", door)
}

const CASES: &[Case] = &[
    case(
        "a balancer that keeps the client",
        &[BALANCER],
        ["balancer B", "203.0.113.50"],
        &["tcp 443 from any IPv4 address"],
        &["ia2"],
        "no front end",
    ),
    case(
        "the back end's group knows partners only",
        &[BALANCER, GROUPED, PARTNERS],
        ["balancer B", "203.0.113.50"],
        &["tcp 443 from 192.0.2.0/24"],
        &["ia2"],
        "no rule matches",
    ),
    case(
        "no back end is healthy",
        &[BALANCER, SICK],
        ["balancer B", "203.0.113.50"],
        &[],
        &[],
        "it has no healthy back end",
    ),
    case(
        "a firewall that translates",
        &[TRANSLATED, QUAY_OUT, QUAY_GATEWAY, FIREWALL_PUBLIC, HOME],
        ["interface fw", "203.0.113.7"],
        &["tcp 8022 from any IPv4 address"],
        &["ib"],
        "without a matching translation",
    ),
    case(
        "a firewall that translates, and the replies go home otherwise",
        &[TRANSLATED, QUAY_OUT, QUAY_GATEWAY, FIREWALL_PUBLIC],
        ["interface fw", "203.0.113.7"],
        &[],
        &[],
        "no route",
    ),
    case(
        "a door open to everyone",
        &[service(
            "services: [{ id: S, services: tcp 443, public_door: { addresses: 203.0.113.80 } }]\nhubs:",
        )],
        ["service S", "203.0.113.80"],
        &["tcp 443 from any IPv4 address"],
        &[],
        "no such port",
    ),
    case(
        "a door open to some",
        &[service(
            "services: [{ id: S, services: tcp 443, public_door: { addresses: 203.0.113.80, allowed: [198.51.100.0/24] } }]\nhubs:",
        )],
        ["service S", "203.0.113.80"],
        &["tcp 443 from 198.51.100.0/24"],
        &[],
        "its list does not contain the source",
    ),
    case(
        "a door that is shut",
        &[service(
            "services: [{ id: S, services: tcp 443, public_door: { addresses: 203.0.113.80, open: false } }]\nhubs:",
        )],
        ["service S", "203.0.113.80"],
        &[],
        &[],
        "it is shut",
    ),
    case(
        "a gateway's table steers in through a firewall, the replies go straight",
        &[GATEWAY_TABLE, STEERED, LEG, THROUGH_LEG],
        ["interface ia", "203.0.113.4"],
        &[],
        &["ia"],
        "the reply bypasses it",
    ),
    case(
        "steered through the firewall there and back",
        &[
            GATEWAY_TABLE,
            STEERED,
            LEG,
            THROUGH_LEG,
            REPLIES_BY_F,
            (
                "- { id: as2, network: a, blocks: 10.1.2.0/24 }",
                "- { id: as2, network: a, blocks: 10.1.2.0/24, route_table: out }",
            ),
            (
                "- { id: tb, network: b,",
                "- { id: out, network: a, routes: [{ to: 0.0.0.0/0, next_hop: \"gateway:ga\" }] }\n- { id: tb, network: b,",
            ),
        ],
        ["interface ia", "203.0.113.4"],
        &["any from any IPv4 address"],
        &["ia"],
        "",
    ),
    case(
        "replies are led by a firewall that saw no request",
        &[LEG, THROUGH_LEG, REPLIES_BY_F],
        ["interface ia", "203.0.113.4"],
        &[],
        &["ia"],
        "the request did not",
    ),
];

fn texts<'v>(list: &'v Value, of: impl Fn(&'v Value) -> &'v Value) -> Vec<&'v str> {
    list.as_array()
        .unwrap()
        .iter()
        .map(|one| of(one).as_str().unwrap())
        .collect()
}

#[test]
fn ways_in_by_devices_are_told_with_what_they_open_and_where_they_end() {
    let mut wrong = Vec::new();
    for case in CASES {
        let folder = Folder::with(&changed(case.id, case.changes));
        let (_, answer) = folder.json(&["exposure"]);
        let by_devices = answer["answer"]["by_devices"].as_array().unwrap();
        let named = |way: &&Value| {
            format!(
                "{} {}",
                way["kind"].as_str().unwrap(),
                way["name"].as_str().unwrap()
            ) == case.way[0]
                && texts(&way["addresses"], |one| one).contains(&case.way[1])
        };
        let Some(way) = by_devices.iter().find(named) else {
            wrong.push(format!("{}: not told: {by_devices:#?}", case.id));
            continue;
        };
        let open: Vec<String> = way["open"]
            .as_array()
            .unwrap()
            .iter()
            .flat_map(|part| part["traffic"].as_array().unwrap())
            .map(|one| {
                format!(
                    "{} from {}",
                    texts(&one["services"], |s| s).join(", "),
                    one["sources"]["said"].as_str().unwrap()
                )
            })
            .filter(|text| !text.starts_with("icmp"))
            .collect();
        let closed: Vec<String> = way["closed"]
            .as_array()
            .unwrap()
            .iter()
            .map(|part| {
                part["steps"].as_array().unwrap().last().unwrap()["why"]
                    .as_str()
                    .unwrap()
                    .to_owned()
            })
            .collect();
        let fits = open == case.open
            && texts(&way["ends"], |one| one) == case.ends
            && (case.closed.is_empty() || closed.iter().any(|why| why.contains(case.closed)));
        if !fits {
            wrong.push(format!("{}: {open:?} {} {closed:?}", case.id, way["ends"]));
        }
        // The audit tells what is open as a finding, and nothing else.
        let (_, audit) = folder.json(&["audit", "--kind", "exposed"]);
        let titles = texts(&audit["answer"]["findings"], |one| &one["title"]);
        let told = titles
            .iter()
            .any(|title| title.starts_with(&format!("{} at {}", case.way[0], case.way[1])));
        if told == way["open"].as_array().unwrap().is_empty() {
            wrong.push(format!("{}: {titles:?}", case.id));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
