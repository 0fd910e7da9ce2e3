//! OpenStack Networking by its profile: documents as the API gives them, random ones and those of a real one, against a naive
//! reading of the same documents.

mod naive;
mod random;
mod served;

use super::agreement::to_engine;
use super::naive::Packet;
use crate::folder::Folder;
use crate::oracle::pick;
use fastrand::Rng;
use heronshale_engine::effective::effective;
use heronshale_engine::fabric::Fabric;
use heronshale_model::estate::Direction;
use heronshale_sets::packet::PacketSet;
use naive::{addresses, passes};
use random::{documents, id};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// What a real API told of an estate that was created through it.
const REAL: &str = include_str!("../../../fixtures/openstack.json");

type Documents = BTreeMap<String, Value>;

fn list<'v>(documents: &'v Documents, name: &str) -> &'v [Value] {
    documents[name][name.replace('-', "_")].as_array().unwrap()
}

/// A folder with documents, and the snapshot of them.
fn imported(documents: &Documents) -> Folder {
    let folder = Folder::new();
    for (name, document) in documents {
        folder.write(&format!("saved/{name}.json"), document.to_string());
    }
    folder
        .run(&[
            "import",
            "--profile",
            "openstack",
            "saved",
            "--into",
            "snap.yaml",
        ])
        .ok();
    folder
}

/// Imports documents and compares every port on random packets; how many of each verdict.
fn compare(documents: &Documents, random: &mut Rng, packets: usize, what: &str) -> [usize; 2] {
    let folder = imported(documents);
    let snapshot = heronshale_intake::load(&folder.path().join("snap.yaml")).unwrap();
    let view = Fabric::new(&snapshot.estate, None);
    let held: Vec<&str> = list(documents, "ports")
        .iter()
        .flat_map(|port| addresses(port))
        .collect();
    let mut seen = [0, 0];
    for port in list(documents, "ports").iter().filter(|port| {
        port["device_owner"]
            .as_str()
            .is_none_or(|owner| !owner.starts_with("network:"))
    }) {
        let name = port["name"].as_str().unwrap();
        let label = format!("{name}-{}", &port["id"].as_str().unwrap()[..8]);
        let interface = snapshot
            .estate
            .interfaces
            .find(&label)
            .unwrap_or_else(|| panic!("{what}: {label}"));
        let sides =
            [Direction::In, Direction::Out].map(|way| effective(&view, interface, way, None));
        for _ in 0..packets {
            let own: IpAddr = addresses(port)
                [random.usize(0..port["fixed_ips"].as_array().unwrap().len())]
            .parse()
            .unwrap();
            let strangers: &[&str] = if own.is_ipv4() {
                &["8.8.8.8", "10.9.9.7", "10.200.0.1"]
            } else {
                &["2a00::1", "2001:db8:1::5"]
            };
            let known: Vec<&str> = held
                .iter()
                .copied()
                .chain(strangers.iter().copied())
                .collect();
            let other = pick(random, &known)
                .split('/')
                .next()
                .unwrap()
                .parse::<IpAddr>()
                .unwrap();
            if other.is_ipv4() != own.is_ipv4() || other == own {
                continue;
            }
            let protocol = pick(
                random,
                &[
                    6,
                    17,
                    132,
                    if own.is_ipv4() { 1 } else { 58 },
                    47,
                    112,
                    50,
                    89,
                    136,
                ],
            );
            let low = match protocol {
                6 | 17 | 132 => random.u16(18..34),
                58 => {
                    pick(random, &[1_u16, 3, 128, 130, 133, 134, 135, 136]) << 8 | random.u16(0..3)
                }
                1 => pick(random, &[0_u16, 3, 8, 128]) << 8 | random.u16(0..3),
                _ => 0,
            };
            let source_port = if matches!(protocol, 6 | 17 | 132) {
                40_000
            } else {
                0
            };
            let inbound = random.bool();
            let (source, destination) = if inbound { (other, own) } else { (own, other) };
            let packet = Packet {
                source,
                destination,
                protocol,
                low,
                source_port,
            };
            let wanted = passes(documents, port, &packet, inbound);
            let side = &sides[usize::from(!inbound)];
            let holds = |listed: &[heronshale_engine::effective::Listed]| {
                listed
                    .iter()
                    .any(|one| PacketSet::of_entry(&one.entry, ()).contains(&to_engine(&packet)))
            };
            let open = holds(&side.unknown) && !holds(&side.admitted);
            assert_eq!(
                open,
                wanted.is_none(),
                "{what}, {label}, inbound {inbound}: {packet:?}"
            );
            let Some(wanted) = wanted else { continue };
            assert_eq!(
                holds(&side.admitted),
                wanted,
                "{what}, {label}, inbound {inbound}: {packet:?}\n{documents:#?}"
            );
            seen[usize::from(wanted)] += 1;
        }
    }
    seen
}

#[test]
fn groups_of_openstack_mean_what_its_documents_say() {
    let mut seen = [0, 0];
    for seed in 0..60 {
        let mut random = Rng::with_seed(seed);
        let documents = documents(&mut random);
        let found = compare(&documents, &mut random, 60, &format!("seed {seed}"));
        seen = [seen[0] + found[0], seen[1] + found[1]];
    }
    assert!(seen[0] > 2_000 && seen[1] > 1_000, "{seen:?}");
}

#[test]
fn an_estate_made_through_the_real_api_reads_back() {
    let documents: Documents = serde_json::from_str(REAL).unwrap();
    let seen = compare(&documents, &mut Rng::with_seed(1), 2_000, "the real API's");
    assert!(seen[0] > 500 && seen[1] > 500, "{seen:?}");
    let folder = Folder::new();
    for (name, document) in &documents {
        folder.write(&format!("saved/{name}.json"), document.to_string());
    }
    let (_, told) = folder.json(&[
        "import",
        "--profile",
        "openstack",
        "saved",
        "--into",
        "snap.yaml",
    ]);
    assert_eq!(told["answer"]["unresolved"], json!([]), "{told}");
    assert_eq!(told["answer"]["dangling"], json!([]), "{told}");
    // Routers translate sources, by routes that are limited to them.
    let (_, audit) = folder.json(&["audit", "-e", "snap.yaml"]);
    let kinds: Vec<&str> = audit["answer"]["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["kind"].as_str().unwrap())
        .collect();
    assert!(
        kinds.contains(&"exposed") && !kinds.contains(&"no-way-out"),
        "{kinds:?}"
    );
}

#[test]
fn ways_between_ports_are_open_if_all_in_between_let_them_pass() {
    let (mut seen, mut skipped) = ([0; 2], 0);
    for seed in 100..130 {
        let mut random = Rng::with_seed(seed);
        let mut documents = documents(&mut random);
        // Groups let everything pass, so that the others show.
        for group in documents.get_mut("security-groups").unwrap()["security_groups"]
            .as_array_mut()
            .unwrap()
        {
            let any = |at: usize, direction: &str| json!({ "id": id("anyr", at), "direction": direction, "ethertype": "IPv4", "protocol": null });
            group["security_group_rules"]
                .as_array_mut()
                .unwrap()
                .extend([any(0, "ingress"), any(1, "egress")]);
        }
        let folder = imported(&documents);
        let machines: Vec<&Value> = list(&documents, "ports")
            .iter()
            .filter(|one| one["device_id"] != "hub")
            .collect();
        for _ in 0..10 {
            let [from, to] = [pick(&mut random, &machines), pick(&mut random, &machines)];
            let port = random.u16(18..34);
            let [source, destination]: [IpAddr; 2] =
                [from, to].map(|one| addresses(one)[0].parse().unwrap());
            if source == destination {
                continue;
            }
            // The answer is about all ports of clients.
            let fates: Vec<bool> = [1024, 39_500, 65_535]
                .map(|source_port| Packet {
                    source,
                    destination,
                    protocol: 6,
                    low: port,
                    source_port,
                })
                .map(|packet| {
                    passes(&documents, from, &packet, false).unwrap()
                        && passes(&documents, to, &packet, true).unwrap()
                })
                .into();
            let (name, other) = (
                place(&documents, from["name"].as_str().unwrap()),
                destination.to_string(),
            );
            let answer = folder.run(&[
                "path",
                &name,
                &other,
                "--tcp",
                &port.to_string(),
                "-e",
                "snap.yaml",
            ]);
            if fates.iter().any(|fate| *fate != fates[0]) {
                skipped += 1;
                continue;
            }
            let told = format!("seed {seed}: {}\n{documents:#?}", answer.stdout);
            assert_eq!(
                (answer.code, answer.stdout.starts_with("Unknown")),
                (i32::from(!fates[0]), false),
                "{told}"
            );
            seen[usize::from(fates[0])] += 1;
        }
    }
    assert!(
        seen[0] > 100 && seen[1] > 25 && skipped < 60,
        "{seen:?} {skipped}"
    );
}

/// Where something of the real documents stands, as `path` takes it: a port by name, `public:` its floating address.
fn place(documents: &Documents, name: &str) -> String {
    let name_of = |port: &Value| {
        format!(
            "{}-{}",
            port["name"].as_str().unwrap(),
            &port["id"].as_str().unwrap()[..8]
        )
    };
    let (public, name) = name
        .strip_prefix("public:")
        .map_or((false, name), |name| (true, name));
    let Some(port) = list(documents, "ports")
        .iter()
        .find(|one| one["name"] == name)
    else {
        return name.to_owned();
    };
    let mut floating = list(documents, "floatingips").iter().filter(|one| {
        one["port_id"] == port["id"] || one["port_forwardings"][0]["internal_port_id"] == port["id"]
    });
    if public {
        floating.next().unwrap()["floating_ip_address"]
            .as_str()
            .unwrap()
            .to_owned()
    } else {
        name_of(port)
    }
}

/// One of some documents with a field, and what it becomes.
fn change(
    documents: &mut Documents,
    name: &str,
    at: impl Fn(&Value) -> bool,
    field: &str,
    to: Value,
) {
    let key = name.replace('-', "_");
    let all = documents.get_mut(name).unwrap()[key]
        .as_array_mut()
        .unwrap();
    let found = all
        .iter_mut()
        .find(|one| at(one))
        .unwrap_or_else(|| panic!("{name}"));
    found[field] = to;
}

#[test]
fn ways_through_the_real_documents() {
    let documents: Documents = serde_json::from_str(REAL).unwrap();
    let router_port = |at: &'static str| {
        move |one: &Value| {
            one["device_owner"] == "network:router_interface"
                && one["fixed_ips"][0]["ip_address"] == at
        }
    };
    let quay = |one: &Value| one["name"] == "quay";
    let gateway = |one: &Value| one["external_gateway_info"].clone();
    let router = list(&documents, "routers")
        .iter()
        .find(|one| quay(one))
        .unwrap();
    let mut untranslated = gateway(router);
    let inner_router = list(&documents, "routers")
        .iter()
        .find(|one| one["name"] == "inner")
        .unwrap()["id"]
        .clone();
    untranslated["enable_snat"] = false.into();
    type Change<'c> = &'c dyn Fn(&mut Documents);
    let as_is: Change<'_> = &|_| {};
    let no_firewall: Change<'_> = &|documents| {
        documents.insert(
            "firewall-groups".to_owned(),
            json!({ "firewall_groups": [] }),
        );
    };
    let no_rules: Change<'_> = &|documents| _ = documents.remove("firewall-rules");
    let off: Change<'_> =
        &|documents| change(documents, "routers", quay, "admin_state_up", false.into());
    let plain: Change<'_> = &|documents| {
        change(
            documents,
            "routers",
            quay,
            "external_gateway_info",
            untranslated.clone(),
        )
    };
    let routed: Change<'_> = &|documents| {
        change(
            documents,
            "routers",
            quay,
            "routes",
            json!([{ "destination": "10.9.0.0/16", "nexthop": "10.65.1.9" }]),
        );
    };
    let unseen: Change<'_> =
        &|documents| change(documents, "routers", quay, "id", "another".into());
    let high: Change<'_> = &|documents| {
        no_firewall(documents);
        change(
            documents,
            "ports",
            router_port("10.65.1.1"),
            "device_owner",
            "network:ha_router_replicated_interface".into(),
        );
    };
    let spread: Change<'_> = &|documents| {
        change(
            documents,
            "ports",
            router_port("10.65.1.1"),
            "device_owner",
            "network:router_interface_distributed".into(),
        );
    };
    let told: Change<'_> = &|documents| {
        change(
            documents,
            "subnets",
            |one| one["name"] == "tickets-4",
            "host_routes",
            json!([{ "destination": "10.9.0.0/16", "nexthop": "10.65.1.9" }]),
        );
    };
    let beside: Change<'_> = &|documents| {
        change(
            documents,
            "subnets",
            |one| one["name"] == "tickets-4",
            "gateway_ip",
            "10.65.1.254".into(),
        )
    };
    let second: Change<'_> = &|documents| {
        let ports = documents.get_mut("ports").unwrap()["ports"]
            .as_array_mut()
            .unwrap();
        let mut other = ports
            .iter()
            .find(|one| router_port("10.65.1.1")(one))
            .unwrap()
            .clone();
        other["id"] = "11112222-0000".into();
        other["device_id"] = inner_router.clone();
        other["fixed_ips"] = json!([{ "subnet_id": other["fixed_ips"][0]["subnet_id"], "ip_address": "10.65.1.254" }]);
        ports.push(other);
    };
    let dark: Change<'_> = &|documents| {
        change(
            documents,
            "networks",
            |one| one["name"] == "tickets",
            "admin_state_up",
            false.into(),
        )
    };
    let elsewhere: Change<'_> = &|documents| {
        change(
            documents,
            "networks",
            |one| one["name"] == "lonely",
            "provider:physical_network",
            "yard".into(),
        );
        change(
            documents,
            "ports",
            router_port("10.70.1.1"),
            "device_owner",
            "network:dhcp".into(),
        );
        no_firewall(documents);
    };
    let alone: Change<'_> = &|documents| {
        change(
            documents,
            "ports",
            router_port("10.70.1.1"),
            "device_owner",
            "network:dhcp".into(),
        );
        no_firewall(documents);
    };
    let at_machine: Change<'_> = &|documents| {
        let booking = list(documents, "ports")
            .iter()
            .find(|one| one["name"] == "booking")
            .unwrap()["id"]
            .clone();
        change(
            documents,
            "firewall-groups",
            |one| one["name"] == "edge",
            "ports",
            json!([booking]),
        );
    };
    let shut: Change<'_> = &|documents| {
        change(
            documents,
            "firewall-groups",
            |one| one["name"] == "edge",
            "admin_state_up",
            false.into(),
        )
    };
    for (what, changed, from, to, port, begins) in [
        (
            "a floating address",
            as_is,
            "8.8.8.8",
            "public:booking",
            "443",
            "Yes",
        ),
        (
            "the firewall group wants 443",
            as_is,
            "8.8.8.8",
            "public:booking",
            "22",
            "No",
        ),
        (
            "a forwarding",
            as_is,
            "198.51.100.7",
            "public:bastion",
            "2222",
            "Yes",
        ),
        (
            "the bastion's group admits the terminals only",
            no_firewall,
            "8.8.8.8",
            "public:bastion",
            "2222",
            "No",
        ),
        (
            "out by the router's own address",
            as_is,
            "search",
            "8.8.8.8",
            "443",
            "Yes",
        ),
        (
            "out by the floating address",
            as_is,
            "booking",
            "8.8.8.8",
            "443",
            "Yes",
        ),
        (
            "the egress policy refuses it",
            as_is,
            "search",
            "8.8.8.8",
            "23",
            "No",
        ),
        (
            "without a firewall group",
            no_firewall,
            "search",
            "8.8.8.8",
            "23",
            "Yes",
        ),
        (
            "inside of a network no router is asked",
            as_is,
            "open",
            "fares",
            "23",
            "No",
        ),
        (
            "nor is it for what is open",
            as_is,
            "fares",
            "open",
            "23",
            "Yes",
        ),
        ("from another network", as_is, "booking", "open", "23", "No"),
        (
            "both groups let it pass",
            as_is,
            "booking",
            "open",
            "80",
            "Yes",
        ),
        (
            "beyond the prefix of the rule",
            as_is,
            "booking",
            "fast",
            "80",
            "No",
        ),
        (
            "a group that is switched off drops",
            as_is,
            "default",
            "8.8.8.8",
            "443",
            "No",
        ),
        (
            "a network of its own",
            alone,
            "default",
            "8.8.8.8",
            "443",
            "No",
        ),
        (
            "a network behind something else",
            elsewhere,
            "default",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "rules that are not in the export",
            no_rules,
            "8.8.8.8",
            "public:booking",
            "443",
            "Unknown",
        ),
        (
            "a router that is off",
            off,
            "8.8.8.8",
            "public:booking",
            "443",
            "Unknown",
        ),
        (
            "routes of the router",
            routed,
            "8.8.8.8",
            "public:booking",
            "443",
            "Unknown",
        ),
        (
            "a router of somebody else",
            unseen,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "sources that are not translated",
            plain,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "but floating addresses are",
            plain,
            "booking",
            "8.8.8.8",
            "443",
            "Yes",
        ),
        (
            "a router that is there twice",
            high,
            "search",
            "8.8.8.8",
            "443",
            "Yes",
        ),
        (
            "a distributed router's filter",
            spread,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "routes of the hosts",
            told,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "a router that is not the gateway",
            beside,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "one of two routers",
            second,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "the filter of one of two routers",
            second,
            "search",
            "8.8.8.8",
            "23",
            "Unknown",
        ),
        (
            "a network that is off",
            dark,
            "search",
            "8.8.8.8",
            "443",
            "Unknown",
        ),
        (
            "a firewall group at the machine",
            at_machine,
            "8.8.8.8",
            "public:booking",
            "443",
            "Yes",
        ),
        (
            "and its ingress policy",
            at_machine,
            "search",
            "booking",
            "22",
            "No",
        ),
        (
            "a machine's that is switched off",
            &|documents| {
                at_machine(documents);
                shut(documents);
            },
            "8.8.8.8",
            "public:booking",
            "443",
            "No",
        ),
    ]
        as [(&str, Change<'_>, &str, &str, &str, &str); 32]
    {
        let mut documents = documents.clone();
        changed(&mut documents);
        let folder = imported(&documents);
        let (from, to) = (place(&documents, from), place(&documents, to));
        let answer = folder
            .run(&["path", &from, &to, "--tcp", port, "-e", "snap.yaml"])
            .stdout;
        assert!(
            answer.starts_with(&format!("{begins}: ")),
            "{what}: {answer}"
        );
    }
}

#[test]
fn ports_on_external_networks_are_told_to_lack() {
    let mut documents: Documents = serde_json::from_str(REAL).unwrap();
    let outside = list(&documents, "networks")
        .iter()
        .find(|one| one["name"] == "outside")
        .unwrap()["id"]
        .clone();
    change(
        &mut documents,
        "ports",
        |one| one["name"] == "open",
        "network_id",
        outside,
    );
    change(
        &mut documents,
        "ports",
        |one| one["name"] == "open",
        "fixed_ips",
        json!([{ "ip_address": "203.0.113.77" }]),
    );
    let folder = imported(&documents);
    let search = place(&documents, "search");
    for (to, begins) in [("203.0.113.77", "Unknown"), ("203.0.113.78", "Yes")] {
        let answer = folder
            .run(&["path", &search, to, "--tcp", "443", "-e", "snap.yaml"])
            .stdout;
        assert!(answer.starts_with(&format!("{begins}: ")), "{answer}");
    }
}
