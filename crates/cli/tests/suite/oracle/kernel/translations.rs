//! Translation of addresses: where packets come out, and as what, in the kernel and by what was imported.

use super::net::{Net, Place, run};
use super::{count, ends, in_block, list, output};
use crate::oracle::naive::{Packet, text};
use crate::oracle::pick;
use fastrand::Rng;
use heronshale_intake::{Role, read_machine};
use heronshale_model::estate::Service;
use heronshale_sets::address::Family;
use heronshale_sets::packet::service;
use serde_json::Value;
use std::net::IpAddr;

const SOURCES: [&str; 4] = ["10.50.1.7", "10.50.1.9", "10.51.8.3", "10.50.0.9"];
const DOORS: [&str; 4] = ["10.208.1.1", "10.209.7.7", "10.210.0.9", "10.200.0.1"];
const BEHIND: [&str; 4] = ["10.200.1.1", "10.201.0.5", "10.202.9.9", "10.203.0.1"];

/// What a line asks of packets.
fn tests(random: &mut Rng, before: bool) -> String {
    let mut tests = String::new();
    match random.u8(0..6) {
        0 if before => tests += "iifname \"m0\" ",
        1 if before => tests += "iifname \"m1\" ",
        0 => tests += "oifname \"m1\" ",
        1 => tests += "oifname != \"m1\" ",
        _ => {}
    }
    if random.u8(0..3) == 0 {
        tests += &format!(
            "ip saddr {}{} ",
            pick(random, &["", "!= "]),
            pick(random, &["10.50.0.0/16", "10.50.1.7", "10.50.1.0/24"])
        );
    }
    match random.u8(0..4) {
        0 => {
            tests += &format!(
                "ip daddr {} ",
                pick(random, if before { &DOORS } else { &BEHIND })
            )
        }
        1 => {
            tests += &format!(
                "ip daddr {} ",
                pick(random, &["10.208.0.0/14", "10.200.0.0/14", "10.200.0.0/15"])
            )
        }
        _ => {}
    }
    match random.u8(0..4) {
        0 => {
            tests += &format!(
                "{} dport {} ",
                pick(random, &["tcp", "udp"]),
                random.u16(18..32)
            )
        }
        1 => {
            tests += &format!(
                "{} dport {}-{} ",
                pick(random, &["tcp", "udp"]),
                random.u16(18..24),
                random.u16(24..32)
            )
        }
        2 => tests += &format!("meta l4proto {} ", pick(random, &["tcp", "udp"])),
        _ => {}
    }
    tests
}

/// A rule set: what is done before routes are asked, what behind, and a policy between.
fn rules(random: &mut Rng) -> String {
    let mut chains = [String::new(), String::new(), String::new()];
    for _ in 0..random.usize(1..6) {
        let tests = tests(random, true);
        let how = match random.u8(0..5) {
            0 => "accept".to_owned(),
            1 => format!("dnat ip to {}", pick(random, &DOORS)),
            2 if tests.contains("dport") || tests.contains("l4proto") => {
                format!(
                    "dnat ip to {}:{}",
                    pick(random, &BEHIND),
                    random.u16(18..32)
                )
            }
            _ => format!("dnat ip to {}", pick(random, &BEHIND)),
        };
        chains[0] += &format!("    {tests}{how}\n");
    }
    for _ in 0..random.usize(0..4) {
        let how = pick(
            random,
            &[
                "accept",
                "masquerade",
                "snat ip to 10.208.3.3",
                "snat ip to 10.200.0.1",
            ],
        );
        chains[1] += &format!("    {}{how}\n", tests(random, false));
    }
    for _ in 0..random.usize(0..3) {
        chains[2] += &format!(
            "    {}{}\n",
            tests(random, false).replace("oifname != \"m1\" ", ""),
            pick(random, &["drop", "accept"])
        );
    }
    let [before, behind, between] = chains;
    format!(
        "flush ruleset\ntable inet heron {{\n  chain before {{\n    type nat hook prerouting priority -100; policy accept;\n{before}  }}\n  \
         chain behind {{\n    type nat hook postrouting priority 100; policy accept;\n{behind}  }}\n  \
         chain between {{\n    type filter hook forward priority 0; policy accept;\n    ct state established accept\n{between}  }}\n}}\n"
    )
}

/// The first translation that is about a packet.
fn first<'v>(all: &'v [Value], packet: &Packet, [from, to]: [&str; 2]) -> Option<&'v Value> {
    let code = u128::from(service::code(packet.protocol, packet.low));
    all.iter().find(|one| {
        let zone = |field: &str, own: &str| {
            one.get(field)
                .is_none_or(|all| all.as_array().unwrap().contains(&own.into()))
        };
        let within = |field: &str, address: IpAddr| {
            one.get(field).is_none_or(|all| {
                all.as_array()
                    .unwrap()
                    .iter()
                    .any(|block| in_block(address, block.as_str().unwrap()))
            })
        };
        let named = |service: &Value| {
            service
                .as_str()
                .unwrap()
                .parse::<Service>()
                .unwrap()
                .numbers(Family::V4)
        };
        zone("from_zones", from)
            && zone("to_zones", to)
            && within("sources", packet.source)
            && within("destinations", packet.destination)
            && one.get("services").is_none_or(|all| {
                all.as_array()
                    .unwrap()
                    .iter()
                    .any(|one| named(one).contains(code))
            })
    })
}

/// As what a packet from the left comes out at the right, if it does.
fn by_import(firewall: &Value, policy: &Value, mut packet: Packet) -> Option<Packet> {
    let address = |one: &Value| text(one, "to").map(|to| to.parse::<IpAddr>().unwrap());
    if let Some(change) = first(
        list(firewall, "destination_translations"),
        &packet,
        ["m0", ""],
    ) {
        packet.destination = address(change).unwrap();
        packet.low = change["port"]
            .as_u64()
            .map_or(packet.low, |port| u16::try_from(port).unwrap());
    }
    let own = DOORS
        .map(|door| door.parse::<IpAddr>().unwrap())
        .contains(&packet.destination);
    let by = list(firewall, "routes")
        .iter()
        .filter(|route| {
            list(route, "to")
                .iter()
                .any(|to| in_block(packet.destination, to.as_str().unwrap()))
        })
        .map(|route| text(route, "interface").unwrap());
    if own || !by.into_iter().any(|interface| interface == "machine-m1") {
        return None;
    }
    let fields = [
        "sources",
        "except_sources",
        "destinations",
        "except_destinations",
    ];
    let verdict = ends(
        list(policy, "rules"),
        policy["default"] == "allow",
        &packet,
        fields,
        ["m0", "m1"],
    );
    assert_eq!(verdict.len(), 1, "{packet:?}");
    if !verdict[0].0 {
        return None;
    }
    if let Some(change) = first(list(firewall, "source_translations"), &packet, ["m0", "m1"]) {
        packet.source = address(change).unwrap_or("10.200.0.1".parse().unwrap());
    }
    Some(packet)
}

/// The same in the words of iptables.
fn iptables(random: &mut Rng) -> String {
    let tests = |random: &mut Rng, before: bool| {
        let mut tests = String::new();
        match random.u8(0..5) {
            0 if before => tests += "-i m0 ",
            1 if before => tests += "! -i m1 ",
            0 => tests += "-o m1 ",
            1 => tests += "! -o m1 ",
            _ => {}
        }
        if random.u8(0..3) == 0 {
            let not = pick(random, &["", "! "]);
            tests += &format!(
                "{not}-s {} ",
                pick(random, &["10.50.0.0/16", "10.50.1.7", "10.50.1.0/24"])
            );
        }
        match random.u8(0..4) {
            0 => {
                tests += &format!(
                    "-d {} ",
                    pick(random, if before { &DOORS } else { &BEHIND })
                )
            }
            1 => {
                tests += &format!(
                    "{}-d {} ",
                    pick(random, &["", "! "]),
                    pick(random, &["10.208.0.0/14", "10.200.0.0/15"])
                )
            }
            _ => {}
        }
        match random.u8(0..4) {
            0 => {
                tests += &format!(
                    "-p {} --dport {} ",
                    pick(random, &["tcp", "udp"]),
                    random.u16(18..32)
                )
            }
            1 => {
                let (first, last) = (random.u16(18..24), random.u16(24..32));
                tests += &format!(
                    "-p {} --dport {first}:{last} ",
                    pick(random, &["tcp", "udp"])
                );
            }
            2 => {
                tests += &format!(
                    "-p udp -m multiport --dports {},{}:31 ",
                    random.u16(18..24),
                    random.u16(24..30)
                )
            }
            _ => {}
        }
        tests
    };
    let mut text =
        "*nat\n:PREROUTING ACCEPT\n:INPUT ACCEPT\n:OUTPUT ACCEPT\n:POSTROUTING ACCEPT\n:doors -\n"
            .to_owned();
    for chain in ["PREROUTING", "PREROUTING", "PREROUTING", "doors", "doors"] {
        let tests = tests(random, true);
        let how = match random.u8(0..6) {
            0 => "ACCEPT".to_owned(),
            1 if chain == "doors" => "RETURN".to_owned(),
            1 => "doors".to_owned(),
            2 if tests.contains("-p ") => {
                format!(
                    "DNAT --to-destination {}:{}",
                    pick(random, &BEHIND),
                    random.u16(18..32)
                )
            }
            _ => format!(
                "DNAT --to-destination {}",
                pick(random, &[&BEHIND[..], &DOORS[..1]].concat())
            ),
        };
        text += &format!("-A {chain} {tests}-j {how}\n");
    }
    for _ in 0..random.usize(0..4) {
        let how = pick(
            random,
            &[
                "ACCEPT",
                "MASQUERADE",
                "SNAT --to-source 10.208.3.3",
                "SNAT --to-source 10.200.0.1",
            ],
        );
        text += &format!("-A POSTROUTING {}-j {how}\n", tests(random, false));
    }
    text += "COMMIT\n*filter\n:INPUT ACCEPT\n:FORWARD ACCEPT\n:OUTPUT ACCEPT\n-A FORWARD -m conntrack --ctstate ESTABLISHED -j ACCEPT\n";
    for _ in 0..random.usize(0..3) {
        text += &format!(
            "-A FORWARD {}-j {}\n",
            tests(random, false).replace("! -o m1 ", ""),
            pick(random, &["DROP", "ACCEPT"])
        );
    }
    text + "COMMIT\n"
}

/// The namespaces, and what `ip` says of the machine's addresses and routes.
fn stand(programs: &[&str], name: &str) -> Option<(Net, [String; 2])> {
    let net = Net::new(programs, name)?;
    // What the machine's own address sends comes from outside for those at the right.
    net.enter(Place::Right);
    output(
        "ip",
        &[
            "route",
            "add",
            "10.200.0.1/32",
            "dev",
            "r0",
            "table",
            "local",
        ],
    );
    net.enter(Place::Machine);
    Some((
        net,
        ["addr", "route"].map(|what| output("ip", &["-j", what])),
    ))
}

/// Packets that were compared, and those of them that came out with none, one and both ends changed.
#[derive(Debug)]
struct Seen {
    number: u16,
    counts: [usize; 4],
}

/// Sends packets through the rules in force, and holds what comes out against what was imported.
fn compare(
    net: &mut Net,
    random: &mut Rng,
    files: &[(&str, &String)],
    what: &str,
    seen: &mut Seen,
) {
    let files = files
        .iter()
        .map(|(name, text)| ((*name).to_owned(), (*text).clone()))
        .collect();
    let part = read_machine(files, "machine", Role::Firewall { hosts: false }, None).unwrap();
    let gaps = part.section("gaps");
    assert!(
        gaps.iter()
            .all(|gap| gap["object"] == "gateway:machine-beyond"),
        "{what}: {gaps:#?}"
    );
    let (firewall, policy) = (
        &part.section("firewalls")[0],
        &part.section("firewall_policies")[0],
    );
    for _ in 0..30 {
        seen.number += 1;
        let to = if random.bool() {
            pick(random, &DOORS)
        } else {
            pick(random, &BEHIND)
        };
        let packet = Packet {
            source: pick(random, &SOURCES).parse().unwrap(),
            destination: to.parse().unwrap(),
            protocol: pick(random, &[6, 17]),
            low: random.u16(18..32),
            // Each is a connection of its own.
            source_port: seen.number,
        };
        let wanted = by_import(firewall, policy, packet);
        let sent = net.send(Place::Left, &packet);
        let arrived = net
            .arrived(Place::Right, sent, wanted.is_some())
            .then(|| net.header(Place::Right, sent));
        let plain = |packet: Packet| Packet {
            source_port: 0,
            ..packet
        };
        assert_eq!(
            arrived.map(plain),
            wanted.map(plain),
            "{what}: {packet:?}\n{firewall:#}\n{policy:#}"
        );
        let Some(arrived) = arrived else {
            seen.counts[0] += 1;
            continue;
        };
        let changed = [
            arrived.source != packet.source,
            arrived.destination != packet.destination,
        ];
        seen.counts[1 + usize::from(changed[0]) + usize::from(changed[1])] += 1;
        // The kernel at the right answers TCP itself.
        if packet.protocol == 17 {
            let back = |packet: &Packet| Packet {
                source: packet.destination,
                destination: packet.source,
                low: packet.source_port,
                source_port: packet.low,
                ..*packet
            };
            let sent = net.send(Place::Right, &back(&arrived));
            assert!(
                net.arrived(Place::Left, sent, true),
                "{what}: the reply to {packet:?}"
            );
            assert_eq!(net.header(Place::Left, sent), back(&packet), "{what}");
        }
    }
}

#[test]
fn what_nftables_translates_comes_out_as_in_the_kernel() {
    let Some((mut net, [addresses, routes])) = stand(&["nft"], "nat") else {
        return;
    };
    let mut seen = Seen {
        number: 1024,
        counts: [0; 4],
    };
    for seed in 0..count(150).min(800) {
        let mut random = Rng::with_seed(seed);
        let rules = rules(&mut random);
        let loaded = run("nft", &["-f", "-"], &rules);
        assert!(
            loaded.status.success(),
            "{rules}\n{}",
            String::from_utf8_lossy(&loaded.stderr)
        );
        let told = output("nft", &["-j", "list", "ruleset"]);
        let files = [
            ("nft.json", &told),
            ("addr.json", &addresses),
            ("route.json", &routes),
        ];
        compare(
            &mut net,
            &mut random,
            &files,
            &format!("seed {seed}\n{rules}"),
            &mut seen,
        );
    }
    println!("compared {seen:?}");
    assert!(seen.counts.iter().all(|count| *count > 100), "{seen:?}");
}

#[test]
fn what_iptables_translates_comes_out_as_in_the_kernel() {
    let programs = [
        "iptables-restore",
        "ip6tables-restore",
        "iptables-save",
        "ip6tables-save",
    ];
    let Some((mut net, [addresses, routes])) = stand(&programs, "natipt") else {
        return;
    };
    let mut seen = Seen {
        number: 1024,
        counts: [0; 4],
    };
    let six = "*filter\n:INPUT ACCEPT\n:FORWARD ACCEPT\n:OUTPUT ACCEPT\nCOMMIT\n";
    assert!(run("ip6tables-restore", &[], six).status.success());
    for seed in 0..count(100).min(800) {
        let mut random = Rng::with_seed(seed);
        let rules = iptables(&mut random);
        let loaded = run("iptables-restore", &[], &rules);
        assert!(
            loaded.status.success(),
            "{rules}\n{}",
            String::from_utf8_lossy(&loaded.stderr)
        );
        let [four, six] = ["iptables-save", "ip6tables-save"].map(|program| output(program, &[]));
        let files = [
            ("four.txt", &four),
            ("six.txt", &six),
            ("addr.json", &addresses),
            ("route.json", &routes),
        ];
        compare(
            &mut net,
            &mut random,
            &files,
            &format!("seed {seed}\n{rules}"),
            &mut seen,
        );
    }
    println!("compared {seen:?}");
    assert!(seen.counts.iter().all(|count| *count > 60), "{seen:?}");
}
