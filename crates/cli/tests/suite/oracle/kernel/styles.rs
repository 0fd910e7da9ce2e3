//! Rule sets in the styles of those who write them: nearly all is understood, and what is said is what the kernel does.

use super::net::{Net, Place, run};
use super::{Imported, Seen, Way, compare, imported, loaded, output};
use crate::oracle::naive::{Packet, in_block};
use fastrand::Rng;
use heronshale_sets::address::{Block, address_of};
use serde::Deserialize;
use std::collections::{BTreeSet, HashSet};
use std::net::IpAddr;
use std::panic::AssertUnwindSafe;

/// Packets for each machine and way.
const PACKETS: usize = 60;

#[derive(Deserialize)]
struct Machines {
    machine: Vec<Machine>,
}

#[derive(Deserialize)]
struct Machine {
    name: String,
    nft: Option<String>,
    four: Option<String>,
    six: Option<String>,
    sets: Option<String>,
    /// How many of its rules no file tells for sure.
    #[serde(default)]
    open: usize,
}

/// What rules name: the packets are made of it, and of what lies beside.
struct Named {
    blocks: Vec<Block>,
    ports: Vec<u16>,
}

impl Named {
    fn of(text: &str) -> Self {
        let words = || text.split(|sign: char| !sign.is_ascii_hexdigit() && !".:/-".contains(sign));
        let blocks = words()
            .filter(|word| word.contains(['.', ':']) && word.len() > 6 && !word.ends_with("::"));
        let numbers = text
            .split(|sign: char| !sign.is_ascii_digit())
            .filter_map(|word| word.parse().ok());
        let ports: BTreeSet<u16> = numbers.filter(|port| *port > 0).collect();
        Self {
            blocks: blocks.filter_map(|word| word.parse().ok()).collect(),
            ports: ports.into_iter().collect(),
        }
    }

    /// An address that is named, near one, or any, within these prefixes.
    fn address(&self, random: &mut Rng, six: bool, within: &[&str]) -> IpAddr {
        let first = |text: &str| text.parse::<Block>().unwrap().range;
        let own: Vec<&Block> = { self.blocks.iter() }
            .filter(|block| {
                within
                    .iter()
                    .any(|all| in_block(address_of(block.range.family, block.range.first), all))
            })
            .filter(|block| address_of(block.range.family, block.range.first).is_ipv6() == six)
            .collect();
        let range = match random.u8(0..4) {
            0..=2 if !own.is_empty() => own[random.usize(0..own.len())].range,
            _ => {
                let fit: Vec<&&str> = within
                    .iter()
                    .filter(|one| one.contains(':') == six)
                    .collect();
                first(fit[random.usize(0..fit.len())])
            }
        };
        let offset = random
            .u128(u128::from(range.last > range.first)..=(range.last - range.first).min(0xFFFF));
        address_of(range.family, range.first + offset)
    }

    fn port(&self, random: &mut Rng) -> u16 {
        match random.u8(0..8) {
            0 => random.u16(1..),
            1 => self
                .ports
                .get(random.usize(0..self.ports.len().max(1)))
                .copied()
                .unwrap_or(80)
                .saturating_add(1),
            _ => self
                .ports
                .get(random.usize(0..self.ports.len().max(1)))
                .copied()
                .unwrap_or(80),
        }
    }

    fn packet(&self, random: &mut Rng, way: &Way, real: bool) -> Packet {
        let six = random.u8(0..3) == 0;
        let left: &[&str] = &["10.50.0.0/15", "fd00:50::/32"];
        // What seems to be its own is taken by nobody behind the machine.
        let near: &[&str] = if way.to == Place::Machine {
            &["10.201.4.0/24"]
        } else {
            &[]
        };
        let spoofed: &[&str] = &[&["10.99.0.0/16", "fd00:99::/32"], near].concat();
        let right: &[&str] = &["10.200.0.0/14", "fd00:200::/32"];
        let own: &[&str] = &["10.200.0.1", "fd00:200::1"];
        let wide: &[&str] = &["10.208.0.0/14", "fd00:208::/32"];
        let (sources, destinations) = match (way.from, way.to) {
            (Place::Machine, _) => (
                if real {
                    &["10.50.0.1", "fd00:50::1"]
                } else {
                    wide
                },
                right,
            ),
            (_, Place::Machine) => (left, if real { own } else { wide }),
            _ => (left, right),
        };
        let sources = if way.from == Place::Left && random.u8(0..12) == 0 {
            spoofed
        } else {
            sources
        };
        let protocol =
            [6, 6, 6, 17, 17, 17, if six { 58 } else { 1 }, 47, 89, 132][random.usize(0..10)];
        let (low, source_port) = match protocol {
            6 | 17 | 132 => {
                let high = random.u16(1024..);
                (
                    self.port(random),
                    if random.u8(0..5) == 0 {
                        self.port(random)
                    } else {
                        high
                    },
                )
            }
            1 => ([8, 8, 13, 3][random.usize(0..4)] << 8, 0),
            58 => ([128, 128, 1, 2][random.usize(0..4)] << 8, 0),
            _ => (0, 0),
        };
        let source = self.address(random, six, sources);
        let destination = self.address(random, six, destinations);
        Packet {
            source,
            destination,
            protocol,
            low,
            source_port,
        }
    }
}

/// Loads a machine's rules, and reads them back as its files have them.
fn files(machine: &Machine) -> Vec<(&'static str, String)> {
    let mut files = vec![
        ("addr.json", output("ip", &["-j", "-d", "addr"])),
        ("route.json", output("ip", &["-j", "route"])),
        ("route6.json", output("ip", &["-j", "-6", "route"])),
        ("rule.json", output("ip", &["-j", "rule"])),
    ];
    run("nft", &["flush", "ruleset"], "");
    if let Some(rules) = &machine.nft {
        let kept = loaded(rules.clone());
        let refused = rules.lines().filter(|line| !kept.contains(line)).count();
        println!("{}: the kernel refuses {refused} lines", machine.name);
        assert!(refused < 3, "{}", machine.name);
        files.push(("nft.json", output("nft", &["-j", "list", "ruleset"])));
    }
    let load = |program: &str, text: &str| {
        let out = run(program, &[], text);
        assert!(
            out.status.success(),
            "{}: {}",
            machine.name,
            String::from_utf8_lossy(&out.stderr)
        );
    };
    if let Some(sets) = &machine.sets {
        let out = run("ipset", &["restore"], sets);
        assert!(
            out.status.success(),
            "{}: {}",
            machine.name,
            String::from_utf8_lossy(&out.stderr)
        );
        files.push(("sets.txt", output("ipset", &["save"])));
    }
    if machine.nft.is_none() {
        const OPEN: &str =
            "*filter\n:INPUT ACCEPT [0:0]\n:FORWARD ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\nCOMMIT\n";
        load("iptables-restore", machine.four.as_deref().unwrap_or(OPEN));
        load("ip6tables-restore", machine.six.as_deref().unwrap_or(OPEN));
        files.push(("four.rules", output("iptables-save", &[])));
        files.push(("six.rules", output("ip6tables-save", &[])));
    }
    files
}

#[test]
fn rule_sets_of_administrators_decide_as_the_kernel_does() {
    let programs = [
        "nft",
        "ipset",
        "iptables-restore",
        "ip6tables-restore",
        "iptables-save",
        "ip6tables-save",
    ];
    let Some(mut net) = Net::new(&programs, "style") else {
        return;
    };
    let all: Machines = {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/fixtures/machines.toml");
        toml::from_str(&std::fs::read_to_string(path).unwrap()).unwrap()
    };
    let (mut seen, mut rules, mut unclear): (Seen, _, _) = ([0; 5], 0, 0);
    let (mut used, mut wrong) = (HashSet::new(), Vec::new());
    for machine in &all.machine {
        let files = files(machine);
        let given: Vec<(&str, &str)> = files
            .iter()
            .map(|(name, text)| (*name, text.as_str()))
            .collect();
        let read: Imported = imported(&given);
        let open: BTreeSet<&str> = read
            .workload
            .read
            .unclear
            .iter()
            .map(|one| one.rule.as_str())
            .collect();
        rules += read.workload.read.rules;
        unclear += open.len();
        if open.len() > machine.open {
            wrong.push(format!(
                "{}: {:?}",
                machine.name, read.workload.read.unclear
            ));
        }
        let text = [&machine.nft, &machine.four, &machine.six, &machine.sets]
            .map(|text| text.as_deref().unwrap_or(""));
        let text = text.concat();
        // Where the rules ask for the machine's addresses, only those that its files tell are asked for.
        let real = ["fib ", "addrtype", "pkt"]
            .iter()
            .any(|word| text.contains(word));
        let named = Named::of(&text);
        let mut random = Rng::with_seed(7);
        let mut make = |way: &Way, _| loop {
            let packet = named.packet(&mut random, way, real);
            // Conntrack knows connections by these.
            let ports = if matches!(packet.protocol, 6 | 17 | 132) {
                [packet.source_port, packet.low]
            } else {
                [0; 2]
            };
            if used.insert((packet.source, packet.destination, packet.protocol, ports)) {
                return packet;
            }
        };
        let compared = AssertUnwindSafe(|| {
            compare(
                &mut net,
                &mut make,
                PACKETS,
                &read,
                &machine.name,
                &mut seen,
            )
        });
        if std::panic::catch_unwind(compared).is_err() {
            wrong.push(format!("{}: not as the kernel does", machine.name));
        }
        // Each begins without the rules of the last.
        for program in ["iptables-restore", "ip6tables-restore"]
            .iter()
            .filter(|_| machine.nft.is_none())
        {
            run(
                program,
                &[],
                "*raw\nCOMMIT\n*mangle\nCOMMIT\n*nat\nCOMMIT\n*filter\nCOMMIT\n",
            );
        }
        run("nft", &["flush", "ruleset"], "");
        run("ipset", &["destroy"], "");
    }
    println!(
        "{} machines, {rules} rules, {unclear} not understood, compared {seen:?}",
        all.machine.len()
    );
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(
        all.machine.len() >= 40 && unclear * 20 <= rules,
        "{unclear} of {rules} are not understood"
    );
    let total: usize = seen.iter().sum();
    assert!(
        seen[..3].iter().all(|count| *count > total / 50) && seen[4] < total / 10,
        "{seen:?}"
    );
}
