//! Rules of Linux machines: what is imported decides about packets as the kernel does, with real packets in network namespaces.

mod naive;
mod net;
mod random;
mod routes;
mod styles;
mod translations;

use super::naive::{Packet, in_block, list, reply_to};
use fastrand::Rng;
use heronshale_intake::{Part, Role, read_machine};
use heronshale_model::estate::Service;
use heronshale_sets::address::Family;
use heronshale_sets::packet::service;
use net::{Net, Place, run};
use random::{Ends, PASSED_ON, RECEIVED, SENT, iptables, nftables, packet};
use serde_json::Value;
use std::process::Command;

/// Packets for each rule set and way.
const PACKETS: usize = 8;

/// What a list says of a packet: the ways in which it may end, whether it is let through and whether it keeps state.
fn ends(
    rules: &[Value],
    default: bool,
    packet: &Packet,
    fields: [&str; 4],
    zones: [&str; 2],
) -> Vec<(bool, bool)> {
    let mut found = Vec::new();
    for rule in rules {
        let family = Family::of(packet.source);
        let named = |service: &Value| {
            service
                .as_str()
                .unwrap()
                .parse::<Service>()
                .unwrap()
                .numbers(family)
        };
        let code = u128::from(service::code(packet.protocol, packet.low));
        let services = rule.get("services").map(|all| all.as_array().unwrap());
        let ported = matches!(packet.protocol, 6 | 17 | 132);
        let port = |span: &str| {
            let (first, last) = span.split_once('-').unwrap_or((span, span));
            (first.parse().unwrap()..=last.parse::<u16>().unwrap()).contains(&packet.source_port)
        };
        let ports = rule.get("source_ports").map(|all| all[0].as_str().unwrap());
        let within = |field: &str, address| {
            let one = |block: &Value| match block.as_str().unwrap() {
                set if set.starts_with("set:") => None,
                block => Some(in_block(address, block)),
            };
            rule.get(field)
                .map(|all| all.as_array().unwrap().iter().map(one).collect::<Vec<_>>())
        };
        let zone = |field: &str, own: &str| {
            rule.get(field)
                .is_none_or(|all| all.as_array().unwrap().contains(&own.into()))
        };
        let other = within(fields[0], packet.source);
        let fits = services.is_none_or(|all| all.iter().any(|one| named(one).contains(code)))
            && ports.is_none_or(|all| ported && all.split(',').any(port))
            && other
                .as_ref()
                .is_none_or(|all| all.iter().any(|one| *one != Some(false)))
            && !within(fields[1], packet.source).is_some_and(|all| all.contains(&Some(true)))
            && within(fields[2], packet.destination)
                .is_none_or(|all| all.iter().any(|one| *one != Some(false)))
            && !within(fields[3], packet.destination).is_some_and(|all| all.contains(&Some(true)))
            && zone("from_zones", zones[0])
            && zone("to_zones", zones[1]);
        if fits {
            found.push((rule["action"] == "allow", rule["stateless"] != true));
            let maybe =
                |all: Option<Vec<Option<bool>>>| all.is_some_and(|all| !all.contains(&Some(true)));
            if !maybe(other) && !maybe(within(fields[2], packet.destination)) {
                return found;
            }
        }
    }
    found.push((default, true));
    found
}

/// A way of packets through the machine, and where its rules stand in what was imported.
struct Way {
    ends: Ends,
    from: Place,
    to: Place,
    zones: [&'static str; 2],
}

const WAYS: [Way; 3] = [
    Way {
        ends: RECEIVED,
        from: Place::Left,
        to: Place::Machine,
        zones: ["m0", ""],
    },
    Way {
        ends: SENT,
        from: Place::Machine,
        to: Place::Right,
        zones: ["", "m1"],
    },
    Way {
        ends: PASSED_ON,
        from: Place::Left,
        to: Place::Right,
        zones: ["m0", "m1"],
    },
];

/// The two imports of a machine.
struct Imported {
    workload: Part,
    firewall: Part,
}

impl Imported {
    /// What becomes of a packet on a way, or of a reply on the way back.
    fn ends(&self, way: &Way, packet: &Packet, reply: bool) -> Vec<(bool, bool)> {
        let (mut zones, mut inbound) = (way.zones, way.to == Place::Machine);
        if reply {
            zones.reverse();
            inbound = !inbound;
        }
        if way.from != Place::Machine && way.to != Place::Machine {
            let policy = &self.firewall.section("firewall_policies")[0];
            let fields = [
                "sources",
                "except_sources",
                "destinations",
                "except_destinations",
            ];
            return ends(
                list(policy, "rules"),
                policy["default"] == "allow",
                packet,
                fields,
                zones,
            );
        }
        let device = if way.to == Place::Machine { "m0" } else { "m1" };
        let named =
            |one: &&Value| list(one, "interfaces").contains(&format!("machine-{device}").into());
        let own = self
            .workload
            .section("own_firewalls")
            .iter()
            .find(named)
            .unwrap();
        if inbound {
            let fields = ["peers", "except", "local", ""];
            return ends(
                list(own, "inbound"),
                own["default_inbound"] == "allow",
                packet,
                fields,
                zones,
            );
        }
        let fields = ["local", "", "peers", "except"];
        ends(
            list(own, "outbound"),
            own["default_outbound"] == "allow",
            packet,
            fields,
            zones,
        )
    }
}

fn imported(files: &[(&str, &str)]) -> Imported {
    let read = |role| {
        let files = files
            .iter()
            .map(|(name, text)| ((*name).to_owned(), (*text).to_owned()))
            .collect();
        read_machine(files, "machine", role, None).unwrap()
    };
    Imported {
        workload: read(Role::Workload),
        firewall: read(Role::Firewall { hosts: false }),
    }
}

/// Whether no way leads back to where a packet seems to come from.
fn is_spoofed(packet: &Packet, from: Place) -> bool {
    let own: &[&str] = match from {
        Place::Left => &["10.50.0.0/15", "fd00:50::/32"],
        _ => &[
            "10.200.0.0/14",
            "10.208.0.0/14",
            "fd00:200::/32",
            "fd00:208::/32",
        ],
    };
    own.iter().all(|block| !in_block(packet.source, block))
}

/// How many were compared: let through, not, replies let through, not, unknown.
type Seen = [usize; 5];

/// Sends packets by every way and compares what the kernel does with what was imported.
fn compare(
    net: &mut Net,
    make: &mut dyn FnMut(&Way, u32) -> Packet,
    count: usize,
    all: &Imported,
    what: &str,
    seen: &mut Seen,
) {
    for way in &WAYS {
        let mut sent = Vec::new();
        for _ in 0..count {
            let number = u32::try_from(seen.iter().sum::<usize>() + sent.len()).unwrap();
            let packet = make(way, number);
            sent.push((packet, net.send(way.from, &packet)));
        }
        for (packet, number) in sent {
            let expected = all.ends(way, &packet, false);
            let passes: Vec<bool> = expected.iter().map(|(passes, _)| *passes).collect();
            let arrived = net.arrived(way.to, number, !passes.contains(&false));
            if passes.contains(&!arrived) && passes.contains(&arrived) {
                seen[4] += 1;
                continue;
            }
            let told = || {
                format!(
                    "{what}: {packet:?} from {:?} to {:?}, arrived: {arrived}",
                    way.from, way.to
                )
            };
            assert_eq!(passes[0], arrived, "{}", told());
            seen[usize::from(!arrived)] += 1;
            // The kernel itself answers TCP and SCTP with a reset, which ends the connection.
            let answered =
                arrived && !matches!(packet.protocol, 6 | 132) && !is_spoofed(&packet, way.from);
            let Some(reply) = reply_to(&packet).filter(|_| answered) else {
                continue;
            };
            let number = net.send(way.to, &reply);
            let anew = all.ends(way, &reply, true);
            let mut possible: Vec<bool> = Vec::new();
            for (_, keeps) in expected.iter().filter(|(passes, _)| *passes) {
                possible.extend(if *keeps {
                    vec![true]
                } else {
                    anew.iter().map(|(passes, _)| *passes).collect()
                });
            }
            let arrived = net.arrived(way.from, number, !possible.contains(&false));
            if possible.contains(&!arrived) && possible.contains(&arrived) {
                seen[4] += 1;
                continue;
            }
            assert_eq!(
                possible[0],
                arrived,
                "{}; the reply {reply:?} arrived: {arrived}",
                told()
            );
            seen[2 + usize::from(!arrived)] += 1;
        }
    }
}

fn output(program: &str, arguments: &[&str]) -> String {
    let out = Command::new(program).args(arguments).output().unwrap();
    assert!(
        out.status.success(),
        "{program}: {}",
        String::from_utf8_lossy(&out.stderr)
    );
    String::from_utf8(out.stdout).unwrap()
}

/// How many rule sets; more by the environment.
fn count(usual: u64) -> u64 {
    std::env::var("HERONSHALE_RULE_SETS")
        .ok()
        .map_or(usual, |text| text.parse().unwrap())
}

/// Loads a rule set, without the lines that nft refuses: the protocols of a line may contradict each other.
fn loaded(mut rules: String) -> String {
    for _ in 0..20 {
        let load = run("nft", &["-f", "-"], &rules);
        if load.status.success() {
            return rules;
        }
        let told = String::from_utf8(load.stderr).unwrap();
        let wrong = |line: &str| {
            line.split("stdin:")
                .nth(1)?
                .split(':')
                .next()?
                .parse::<usize>()
                .ok()
        };
        let wrong: Vec<usize> = told.lines().filter_map(wrong).collect();
        assert!(!wrong.is_empty(), "{rules}\n{told}");
        let kept = rules
            .lines()
            .enumerate()
            .filter(|(at, _)| !wrong.contains(&(at + 1)));
        rules = kept.map(|(_, line)| format!("{line}\n")).collect();
    }
    panic!("{rules}")
}

#[test]
fn rules_of_nftables_decide_as_the_kernel_does() {
    let Some(mut net) = Net::new(&["nft"], "nft") else {
        return;
    };
    let addresses = output("ip", &["-j", "addr"]);
    let (mut seen, mut stumbled) = ([0; 5], 0);
    let all = count(400);
    for seed in 0..all {
        let mut random = Rng::with_seed(seed);
        let rules = loaded(nftables(&mut random));
        // nft itself stumbles over some rules that it took.
        let told = run("nft", &["-j", "list", "ruleset"], "");
        if !told.status.success() {
            stumbled += 1;
            continue;
        }
        let told = String::from_utf8(told.stdout).unwrap();
        let all = imported(&[("nft.json", &told), ("addr.json", &addresses)]);
        let mut make = |way: &Way, number| packet(&mut random, number, &way.ends);
        compare(
            &mut net,
            &mut make,
            PACKETS,
            &all,
            &format!("seed {seed}\n{rules}"),
            &mut seen,
        );
    }
    println!("compared {seen:?}");
    assert!(stumbled <= all / 50, "{stumbled}");
    let total: usize = seen.iter().sum();
    assert!(
        seen[..4].iter().all(|count| *count > total / 50) && seen[4] < total / 10,
        "{seen:?}"
    );
}

#[test]
fn rules_of_iptables_decide_as_the_kernel_does() {
    let restore = ["iptables-restore", "ip6tables-restore"];
    let save = ["iptables-save", "ip6tables-save"];
    let Some(mut net) = Net::new(&[&restore[..], &save[..]].concat(), "ipt") else {
        return;
    };
    let addresses = output("ip", &["-j", "addr"]);
    let mut seen = [0; 5];
    for seed in 0..count(150) {
        let mut random = Rng::with_seed(seed);
        let rules = [iptables(&mut random, false), iptables(&mut random, true)];
        let load = [0, 1].map(|at| run(restore[at], &[], &format!("*raw\nCOMMIT\n{}", rules[at])));
        if let Some(failed) = load.iter().find(|load| !load.status.success()) {
            panic!("{rules:?}\n{}", String::from_utf8_lossy(&failed.stderr));
        }
        let [four, six] = save.map(|program| output(program, &[]));
        let all = imported(&[
            ("four.txt", &four),
            ("six.txt", &six),
            ("addr.json", &addresses),
        ]);
        let mut make = |way: &Way, number| packet(&mut random, number, &way.ends);
        compare(
            &mut net,
            &mut make,
            PACKETS,
            &all,
            &format!("seed {seed}\n{four}\n{six}"),
            &mut seen,
        );
    }
    println!("compared {seen:?}");
    let total: usize = seen.iter().sum();
    assert!(
        seen[..4].iter().all(|count| *count > total / 50) && seen[4] < total / 10,
        "{seen:?}"
    );
}

#[test]
fn rule_sets_are_read_as_a_naive_reading_has_them() {
    let device = |name: &str, address: &str| serde_json::json!({ "ifname": name, "addr_info": [{ "local": address, "prefixlen": 15, "scope": "global" }] });
    let addresses =
        serde_json::json!([device("m0", "10.50.0.1"), device("m1", "10.200.0.1")]).to_string();
    let mut seen = [0; 5];
    for seed in 0..count(500) {
        let mut random = Rng::with_seed(seed);
        let rules = naive::rule_set(&mut random);
        let told = rules.to_string();
        let all = imported(&[("nft.json", &told), ("addr.json", &addresses)]);
        let set = naive::RuleSet::new(&rules);
        for way in &WAYS {
            let (hook, back) = match (way.from, way.to) {
                (_, Place::Machine) => ("input", "output"),
                (Place::Machine, _) => ("output", "input"),
                _ => ("forward", "forward"),
            };
            for number in 0..20 {
                let packet = packet(&mut random, number, &way.ends);
                let expected = all.ends(way, &packet, false);
                let passes = set.passes(
                    hook,
                    &naive::Seen {
                        packet: &packet,
                        reply: false,
                        devices: way.zones,
                    },
                );
                let what = || format!("seed {seed}, {hook}: {packet:?}\n{rules:#}");
                assert!(expected.iter().any(|(one, _)| *one == passes), "{}", what());
                if expected.iter().any(|(one, _)| *one != passes) {
                    seen[4] += 1;
                    continue;
                }
                seen[usize::from(!passes)] += 1;
                let Some(reply) = reply_to(&packet).filter(|_| passes) else {
                    continue;
                };
                let devices = [way.zones[1], way.zones[0]];
                let passes = set.passes(
                    back,
                    &naive::Seen {
                        packet: &reply,
                        reply: true,
                        devices,
                    },
                );
                let anew = all.ends(way, &reply, true);
                let ways = expected.iter().flat_map(|(_, keeps)| {
                    if *keeps {
                        vec![true]
                    } else {
                        anew.iter().map(|(passes, _)| *passes).collect()
                    }
                });
                let ways: Vec<bool> = ways.collect();
                assert!(ways.contains(&passes), "{}, and the reply", what());
                seen[if ways.contains(&!passes) {
                    4
                } else {
                    2 + usize::from(!passes)
                }] += 1;
            }
        }
    }
    let total: usize = seen.iter().sum();
    assert!(
        seen[..4].iter().all(|count| *count > total / 50) && seen[4] < total / 10,
        "{seen:?}"
    );
}
