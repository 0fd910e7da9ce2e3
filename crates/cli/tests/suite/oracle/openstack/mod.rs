//! OpenStack Networking by its profile: documents as the API gives them, random ones and those of a real one, against a naive
//! reading of the same documents.

mod ways;

use ways::{change, place};

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
