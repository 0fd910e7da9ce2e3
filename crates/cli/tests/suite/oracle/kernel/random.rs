//! Random rule sets as nft and iptables-restore read them, and random packets for them.

use crate::oracle::naive::Packet;
use crate::oracle::pick;
use fastrand::Rng;
use std::fmt::Write;
use std::net::IpAddr;

/// Addresses at the left; at the machine and at the right the first letter tells which.
const LEFT: [&str; 6] = [
    "10.50.0.0/16",
    "10.50.128.0/17",
    "10.51.3.0/24",
    "10.51.3.7",
    "10.50.0.0-10.50.9.255",
    "10.50.0.0/15",
];
const LEFT_SIX: [&str; 3] = ["fd00:50:1::/48", "fd00:50::/33", "fd00:50:1::7"];
const OTHERS: [&str; 4] = [
    "10.208.0.0/15",
    "10.200.0.0/15",
    "10.209.0.0/16",
    "10.201.128.0/17",
];
const OTHERS_SIX: [&str; 3] = ["fd00:208::/33", "fd00:200:8000::/33", "fd00:208:1::/48"];

fn number(random: &mut Rng, ports: bool) -> String {
    let low = if ports {
        random.u16(20..28)
    } else {
        random.u16(0..3)
    };
    if random.u8(0..3) == 0 {
        format!("{low}-{}", low + random.u16(0..4) + 1)
    } else {
        low.to_string()
    }
}

fn values(random: &mut Rng, one: impl Fn(&mut Rng) -> String) -> String {
    let first = one(random);
    // Without overlaps, which sets refuse: one value, or two that lie apart.
    if random.u8(0..4) == 0 && !first.contains(['-', '/']) {
        format!("{{ {first} }}")
    } else {
        first
    }
}

/// One match for packets of a protocol and family.
fn test(
    random: &mut Rng,
    (both, six): (bool, bool),
    protocol: &str,
    incoming: bool,
    outgoing: bool,
) -> String {
    let no = if random.u8(0..4) == 0 { "!= " } else { "" };
    let family = if six { "ip6" } else { "ip" };
    let (left, others): (&[&str], &[&str]) = if six {
        (&LEFT_SIX, &OTHERS_SIX)
    } else {
        (&LEFT, &OTHERS)
    };
    match random.u8(0..9) {
        0 | 1 => format!(
            "{family} {} {no}{}",
            pick(random, &["saddr", "daddr"]),
            pick(random, left)
        ),
        2 | 3 => format!(
            "{family} {} {no}{}",
            pick(random, &["saddr", "daddr"]),
            pick(random, others)
        ),
        4 if incoming => format!(
            "iifname {no}{}",
            pick(
                random,
                &[
                    "\"m0\"",
                    "\"m1\"",
                    "\"lo\"",
                    "{ \"m0\", \"x9\" }",
                    "@inside",
                    "@wild"
                ]
            )
        ),
        4 if outgoing => format!(
            "oifname {no}{}",
            pick(random, &["\"m0\"", "\"m1\"", "\"lo\""])
        ),
        5 => format!(
            "ct state {}",
            pick(
                random,
                &[
                    "new",
                    "established",
                    "established,related",
                    "{ new, invalid }",
                    "!= new",
                    "invalid"
                ]
            )
        ),
        6 => format!(
            "meta l4proto {no}{}",
            pick(
                random,
                &[
                    "tcp",
                    "{ tcp, udp }",
                    "{ udp, 47 }",
                    "icmp",
                    "ipv6-icmp",
                    "89"
                ]
            )
        ),
        7 if both => format!("meta nfproto {}", if six { "ipv6" } else { "ipv4" }),
        _ => match protocol {
            "icmp" => format!(
                "icmp type {no}{}",
                pick(
                    random,
                    &[
                        "echo-request",
                        "timestamp-request",
                        "{ echo-request, router-solicitation }"
                    ]
                )
            ),
            "icmpv6" => format!(
                "icmpv6 type {no}{}",
                pick(
                    random,
                    &[
                        "echo-request",
                        "packet-too-big",
                        "{ echo-request, echo-reply }"
                    ]
                )
            ),
            "any" => format!("@nh,0,4 {}", if six { 6 } else { 4 }),
            protocol => {
                let field = pick(random, &["dport", "dport", "sport"]);
                let protocol = if random.u8(0..6) == 0 { "th" } else { protocol };
                let value = values(random, |random| number(random, true));
                let compared = if value.contains(['{', '-']) {
                    no
                } else {
                    pick(random, &["", "", "!= ", "< ", ">= "])
                };
                format!("{protocol} {field} {compared}{value}")
            }
        },
    }
}

fn line(random: &mut Rng, family: &str, to: &[String], incoming: bool, outgoing: bool) -> String {
    let six = family == "ip6" || (family == "inet" && random.bool());
    let protocol = pick(
        random,
        &[
            "tcp",
            "udp",
            "sctp",
            if six { "icmpv6" } else { "icmp" },
            "tcp",
        ],
    );
    let mut line = String::new();
    for _ in 0..random.u8(0..4) {
        let _ = write!(
            line,
            "{} ",
            test(
                random,
                (family == "inet", six),
                protocol,
                incoming,
                outgoing
            )
        );
    }
    if protocol == "tcp" && random.u8(0..8) == 0 {
        line.push_str(pick(
            random,
            &[
                "tcp flags syn ",
                "tcp flags & (fin|syn|rst|ack) == syn ",
                "tcp flags ! syn ",
            ],
        ));
    }
    let to = |random: &mut Rng| {
        if to.is_empty() {
            "accept".to_owned()
        } else {
            format!(
                "{} {}",
                pick(random, &["jump", "goto"]),
                to[random.usize(0..to.len())]
            )
        }
    };
    let verdict = match random.u8(0..13) {
        0..=3 => "accept".to_owned(),
        4 | 5 => "drop".to_owned(),
        6 => "counter reject".to_owned(),
        7 => "return".to_owned(),
        8 => "counter".to_owned(),
        9 => {
            let goes = to(random);
            format!(
                "{} vmap {{ {} : accept, 23-25 : drop, 26 : {goes} }}",
                pick(random, &["tcp dport", "udp dport"]),
                random.u8(20..23)
            )
        }
        10 if incoming && random.bool() => {
            let goes = to(random);
            match random.u8(0..2) {
                0 => format!("iifname vmap {{ \"m0\" : {goes}, \"x8\" : drop }}"),
                _ => format!(
                    "iifname . meta l4proto {{ \"m0\" . tcp, \"x7\" . udp, \"m1\" . udp }} {goes}"
                ),
            }
        }
        10 if family != "ip6" && !six => {
            format!(
                "ip saddr . tcp dport {{ 10.50.0.0/16 . 20-23, 10.51.3.7 . 25, 10.50.0.0/15 . 26 }} {}",
                pick(random, &["accept", "drop"])
            )
        }
        _ => to(random),
    };
    line + &verdict
}

/// A rule set of nftables.
pub fn nftables(random: &mut Rng) -> String {
    let mut text = "flush ruleset\n".to_owned();
    for table in 0..random.usize(1..3) {
        let family = pick(random, &["inet", "inet", "ip", "ip6"]);
        let _ = writeln!(text, "table {family} t{table} {{");
        text.push_str("set inside { type ifname; elements = { \"m0\", \"x9\" } }\nset wild { type ifname; flags interval; elements = { \"m*\" } }\n");
        if family == "inet" {
            text.push_str("set named { type ipv4_addr; flags interval; elements = { 10.50.4.0/22, 10.51.3.7 } }\n");
        }
        let chains = random.usize(0..4);
        let name = |at: usize| format!("c{at}");
        // A chain calls those of higher numbers; those it calls stand before it.
        for at in (0..chains).rev() {
            let called: Vec<String> = (at + 1..chains).map(name).collect();
            let _ = writeln!(text, "chain {} {{", name(at));
            for _ in 0..random.usize(1..4) {
                let _ = writeln!(text, "{}", line(random, family, &called, true, true));
            }
            text.push_str("}\n");
        }
        let called: Vec<String> = (0..chains).map(name).collect();
        for hook in ["input", "output", "forward", "input"] {
            if random.u8(0..4) == 0 {
                continue;
            }
            let priority = random.u8(0..30);
            let policy = pick(random, &["accept", "drop"]);
            let _ = writeln!(
                text,
                "chain {hook}{priority} {{ type filter hook {hook} priority {priority}; policy {policy};"
            );
            if random.u8(0..3) > 0 {
                let _ = writeln!(
                    text,
                    "{}",
                    pick(
                        random,
                        &[
                            "ct state established,related accept",
                            "ct state vmap { established : accept, invalid : drop }"
                        ]
                    )
                );
            }
            if family == "inet" && random.u8(0..4) == 0 {
                let _ = writeln!(
                    text,
                    "ip saddr {}@named {}",
                    pick(random, &["", "!= "]),
                    pick(random, &["accept", "drop"])
                );
            }
            for _ in 0..random.usize(0..6) {
                let _ = writeln!(
                    text,
                    "{}",
                    line(random, family, &called, hook != "output", hook != "input")
                );
            }
            text.push_str("}\n");
        }
        text.push_str("}\n");
    }
    text
}

/// Rules of one family, as iptables-restore reads them.
pub fn iptables(random: &mut Rng, six: bool) -> String {
    let mut text = String::new();
    for table in ["raw", "filter"] {
        if table == "raw" && random.u8(0..4) > 0 {
            continue;
        }
        let _ = writeln!(text, "*{table}");
        let hooks: &[&str] = if table == "raw" {
            &["PREROUTING", "OUTPUT"]
        } else {
            &["INPUT", "FORWARD", "OUTPUT"]
        };
        for hook in hooks {
            let _ = writeln!(
                text,
                ":{hook} {} [0:0]",
                if table == "raw" {
                    "ACCEPT"
                } else {
                    pick(random, &["ACCEPT", "DROP"])
                }
            );
        }
        let own: &[&str] = if table == "raw" { &[] } else { &["one", "two"] };
        for chain in own {
            let _ = writeln!(text, ":{chain} - [0:0]");
        }
        for chain in own.iter().chain(hooks).copied() {
            if chain.len() > 3 && table == "filter" && random.u8(0..3) > 0 {
                let _ = writeln!(
                    text,
                    "-A {chain} -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT"
                );
            }
            for _ in 0..random.usize(0..5) {
                let _ = writeln!(text, "-A {chain} {}", old_line(random, six, chain, table));
            }
        }
        text.push_str("COMMIT\n");
    }
    text
}

fn old_line(random: &mut Rng, six: bool, chain: &str, table: &str) -> String {
    let mut line = String::new();
    let no = |random: &mut Rng| if random.u8(0..4) == 0 { "! " } else { "" };
    let (left, others): (&[&str], &[&str]) = if six {
        (&LEFT_SIX, &OTHERS_SIX)
    } else {
        (&LEFT[..4], &OTHERS)
    };
    let protocol = pick(
        random,
        &[
            "tcp",
            "udp",
            "tcp",
            if six { "ipv6-icmp" } else { "icmp" },
            "",
            "gre",
        ],
    );
    if !protocol.is_empty() {
        let _ = write!(line, "-p {protocol} ");
    }
    if random.bool() {
        let (no, all) = (no(random), if random.bool() { left } else { others });
        let _ = write!(
            line,
            "{no}{} {} ",
            pick(random, &["-s", "-d"]),
            pick(random, all)
        );
    }
    if random.u8(0..4) == 0 && !matches!(chain, "OUTPUT") {
        let _ = write!(
            line,
            "{}-i {} ",
            no(random),
            pick(random, &["m0", "m1", "m+", "x3"])
        );
    }
    match (protocol, random.u8(0..5)) {
        ("tcp" | "udp", 0 | 1) => {
            let _ = write!(
                line,
                "{}--dport {} ",
                no(random),
                number(random, true).replace('-', ":")
            );
        }
        ("tcp" | "udp", 2) => {
            let _ = write!(
                line,
                "-m multiport {}{} 21,23:25,27 ",
                no(random),
                pick(random, &["--dports", "--sports", "--ports"])
            );
        }
        ("tcp", 3) => line.push_str(pick(
            random,
            &["--syn ", "! --syn ", "--tcp-flags SYN,ACK SYN "],
        )),
        ("icmp", 0 | 1) => {
            let _ = write!(
                line,
                "{}--icmp-type {} ",
                no(random),
                pick(random, &["echo-request", "8/0", "13"])
            );
        }
        ("ipv6-icmp", 0 | 1) => {
            let _ = write!(
                line,
                "{}--icmpv6-type {} ",
                no(random),
                pick(random, &["echo-request", "128/0", "2"])
            );
        }
        _ => {}
    }
    if table == "filter" && random.u8(0..5) == 0 {
        let _ = write!(
            line,
            "-m conntrack {}--ctstate {} ",
            no(random),
            pick(random, &["NEW", "ESTABLISHED", "NEW,RELATED"])
        );
    }
    let own = matches!(chain, "one" | "two");
    let target = match random.u8(0..8) {
        0..=2 => "-j ACCEPT",
        3 | 4 => "-j DROP",
        5 if table == "filter" => "-j REJECT",
        6 if !own && table == "filter" => pick(random, &["-j one", "-g two", "-j two"]),
        7 => "-j RETURN",
        _ => "-m comment --comment \"a \\\"word\\\" or two\" -j ACCEPT",
    };
    line + target
}

/// From where packets come and where they go: addresses, and the networks in which they are spread; IPv4, then IPv6.
pub struct Ends {
    pub sources: [&'static [&'static str]; 2],
    pub to: [&'static str; 2],
}

const FROM_LEFT: [&[&str]; 2] = [
    &[
        "10.51.3.7",
        "10.51.3.8",
        "10.50.5.1",
        "10.50.200.3",
        "10.51.9.9",
    ],
    &[
        "fd00:50:1::7",
        "fd00:50:1::9",
        "fd00:50:8000::3",
        "fd00:50::9",
    ],
];
const FROM_MACHINE: [&[&str]; 2] = [
    &["10.208.1.1", "10.209.7.7", "10.210.0.9"],
    &["fd00:208:1::5", "fd00:208:8000::5"],
];
const TO_MACHINE: [&str; 2] = ["10.208.0.0", "fd00:208::"];
const TO_RIGHT: [&str; 2] = ["10.200.0.0", "fd00:200::"];

/// To the machine, from it, and through it.
pub const RECEIVED: Ends = Ends {
    sources: FROM_LEFT,
    to: TO_MACHINE,
};
pub const SENT: Ends = Ends {
    sources: FROM_MACHINE,
    to: TO_RIGHT,
};
pub const PASSED_ON: Ends = Ends {
    sources: FROM_LEFT,
    to: TO_RIGHT,
};

/// A packet of a kind that rules ask for; `number` makes its destination one that no packet had before.
pub fn packet(random: &mut Rng, number: u32, ends: &Ends) -> Packet {
    let six = random.u8(0..3) == 0;
    let protocol = [6, 6, 17, 17, 132, if six { 58 } else { 1 }, 47, 89][random.usize(0..8)];
    let low = match protocol {
        6 | 17 | 132 => random.u16(18..32),
        1 => [8, 8, 13, 10][random.usize(0..4)] << 8,
        58 => [128, 128, 2][random.usize(0..3)] << 8,
        _ => 0,
    };
    let source_port = if matches!(protocol, 6 | 17 | 132) {
        random.u16(18..32)
    } else {
        0
    };
    let source = pick(random, ends.sources[usize::from(six)])
        .parse()
        .unwrap();
    // The highest bits at random, the others by the number.
    let destination = match ends.to[usize::from(six)].parse().unwrap() {
        IpAddr::V4(base) => (base.to_bits() | random.u32(0..4) << 16 | (number & 0xFFFF))
            .to_be_bytes()
            .into(),
        IpAddr::V6(base) => {
            let high = [0, 1_u128 << 95, 1 << 80][random.usize(0..3)];
            (base.to_bits() | high | u128::from(number))
                .to_be_bytes()
                .into()
        }
    };
    Packet {
        source,
        destination,
        protocol,
        low,
        source_port,
    }
}
