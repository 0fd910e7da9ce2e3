//! One rule of iptables: its matches and its target.

mod values;

pub(super) use values::{block, icmp, number, ports, to_ports};

use super::*;

pub(super) struct Rule<'w> {
    pub(super) family: Family,
    pub(super) beside: &'w Beside<'w>,
    /// The module whose options are read.
    pub(super) module: String,
    pub(super) tests: Vec<Test>,
    pub(super) whys: Vec<String>,
    pub(super) protocol: Option<u8>,
    pub(super) comment: Option<String>,
    pub(super) target: Option<(String, bool, Vec<&'w str>)>,
}

impl<'w> Rule<'w> {
    pub(super) fn put(&mut self, condition: Option<Condition>, no: bool, why: &str) {
        let Some(condition) = condition else {
            self.whys.push(why.to_owned());
            self.tests.push(Test::Any(vec![Condition::unknown(why)]));
            return;
        };
        let pieces = if no {
            minus(vec![self.has()], &condition)
        } else {
            vec![condition.and(&self.has())]
        };
        self.tests.push(Test::Any(
            pieces
                .into_iter()
                .filter(|piece| !piece.is_empty())
                .collect(),
        ));
    }

    /// One of these, or none of them.
    pub(super) fn pieces(&mut self, found: Vec<Condition>, no: bool, why: &str) {
        let unknown = found.iter().any(|one| !one.unknown.is_empty());
        let found = if no {
            let known = found.iter().filter(|one| one.unknown.is_empty());
            let mut rest = known.fold(vec![Condition::all()], minus);
            for perhaps in found.iter().filter(|one| !one.unknown.is_empty()) {
                let there = Condition {
                    unknown: std::collections::BTreeSet::new(),
                    ..perhaps.clone()
                };
                let both: Vec<Condition> = rest.iter().map(|one| one.and(perhaps)).collect();
                rest = minus(rest, &there);
                rest.extend(both);
            }
            rest
        } else {
            found
        };
        let found = found
            .iter()
            .map(|one| one.and(&self.has()))
            .filter(|one| !one.is_empty())
            .collect();
        self.tests.push(Test::Any(found));
        if unknown && !why.is_empty() {
            self.whys.push(why.to_owned());
        }
    }

    /// Packets of its protocol: only those have its ports and types.
    pub(super) fn has(&self) -> Condition {
        self.protocol.map_or_else(Condition::all, |protocol| {
            Condition::of_services(service::whole(protocol))
        })
    }

    pub(super) fn read(&mut self, words: &[&'w str], rules: &Rules) {
        let mut at = 0;
        let mut no = false;
        while let Some(word) = words.get(at).copied() {
            at += 1;
            let value = words.get(at).copied().unwrap_or_default();
            let mut takes = 1;
            match word {
                "!" => {
                    no = true;
                    continue;
                }
                "-m" | "--match" => {
                    self.module = value.to_owned();
                    const KNOWN: [&str; 20] = [
                        "addrtype",
                        "connmark",
                        "owner",
                        "physdev",
                        "pkttype",
                        "set",
                        "tcp",
                        "udp",
                        "sctp",
                        "icmp",
                        "icmp6",
                        "ipv6-icmp",
                        "multiport",
                        "comment",
                        "conntrack",
                        "state",
                        "iprange",
                        "mark",
                        "standard",
                        "icmpv6",
                    ];
                    let end = self.skip(words, at + 1);
                    let options = words.get(at + 1..end).unwrap_or_default();
                    if value == "rpfilter" {
                        let way = if options.contains(&"--invert") {
                            "missing"
                        } else {
                            "exists"
                        };
                        let plain = options
                            .iter()
                            .all(|word| matches!(*word, "--invert" | "--validmark"));
                        let what = if plain { Fib::Back } else { Fib::Other };
                        let found = by_routes(what, &[way], self.beside.facts, &rules.devices);
                        self.pieces(found, false, "what the machine's routes say");
                        at = end;
                        continue;
                    }
                    // Packets are whole, and without headers between that of IPv6 and the next.
                    if matches!(value, "frag" | "rt") {
                        self.pieces(Vec::new(), false, "");
                        at = end;
                        continue;
                    }
                    if !KNOWN.contains(&value) {
                        let why = format!("`-m {value}` is not understood");
                        self.put(None, false, &why);
                        // Its own options are not told apart from others: what is known of the rule ends here.
                        at = self.skip(words, at + 1);
                        no = false;
                        continue;
                    }
                }
                "-p" | "--protocol" => {
                    let number = if value == "all" {
                        None
                    } else {
                        protocol(value)
                    };
                    match number {
                        Some(0) | None if matches!(value, "all" | "0") => {}
                        None => self.put(None, no, "a protocol that is not known"),
                        Some(number) if no => {
                            let others = Condition::of_services(service::whole(number));
                            self.put(Some(others), true, "");
                        }
                        Some(number) => {
                            self.protocol = Some(number);
                            self.put(Some(Condition::all()), false, "");
                        }
                    }
                }
                "-s" | "--source" | "--src" | "-d" | "--destination" | "--dst" => {
                    let blocks: Option<Vec<Block>> = value.split(',').map(block).collect();
                    let addresses = blocks.map(|blocks| {
                        blocks
                            .iter()
                            .map(|block| block.range)
                            .collect::<Addresses>()
                    });
                    let source = matches!(word, "-s" | "--source" | "--src");
                    let there = addresses.map(|addresses| {
                        if source {
                            Condition {
                                source: addresses,
                                ..Condition::all()
                            }
                        } else {
                            Condition {
                                destination: addresses,
                                ..Condition::all()
                            }
                        }
                    });
                    self.put(there, no, "an address that is not understood");
                }
                "--src-range" | "--dst-range" => {
                    let range = value
                        .parse::<Block>()
                        .ok()
                        .map(|block| [block.range].into_iter().collect::<Addresses>());
                    let there = range.map(|range| {
                        if word == "--src-range" {
                            Condition {
                                source: range,
                                ..Condition::all()
                            }
                        } else {
                            Condition {
                                destination: range,
                                ..Condition::all()
                            }
                        }
                    });
                    self.put(there, no, "a range that is not understood");
                }
                "-i" | "--in-interface" | "-o" | "--out-interface" => {
                    let pattern = value
                        .strip_suffix('+')
                        .map_or_else(|| value.to_owned(), |start| format!("{start}*"));
                    let found = rules.devices.matching(&pattern);
                    let incoming = matches!(word, "-i" | "--in-interface");
                    let there = |devices: Intervals| {
                        let mut there = Condition::all();
                        *(if incoming {
                            &mut there.from
                        } else {
                            &mut there.to
                        }) = devices;
                        there
                    };
                    if found.surely == found.perhaps {
                        self.put(Some(there(found.surely)), no, "");
                    } else {
                        let perhaps = there(found.perhaps.difference(&found.surely));
                        let unknown =
                            perhaps.and(&Condition::unknown("interfaces by a part of their name"));
                        let sure = if no {
                            minus(
                                vec![there(Intervals::span(0, u128::from(u32::MAX)))],
                                &there(found.perhaps),
                            )
                        } else {
                            vec![there(found.surely)]
                        };
                        let pieces = sure
                            .into_iter()
                            .chain([unknown])
                            .filter(|one| !one.is_empty());
                        self.tests.push(Test::Any(pieces.collect()));
                        self.whys
                            .push("interfaces by a part of their name".to_owned());
                    }
                }
                "--sport" | "--source-port" | "--sports" | "--source-ports" => {
                    let there = ports(value).map(|source_ports| Condition {
                        source_ports,
                        services: service::all_with_ports(),
                        ..Condition::all()
                    });
                    self.put(there, no, "ports that are not understood");
                }
                "--dport" | "--destination-port" | "--dports" | "--destination-ports" => {
                    let there = ports(value).map(|ports| Condition::of_services(to_ports(&ports)));
                    self.put(there, no, "ports that are not understood");
                }
                "--ports" => match ports(value) {
                    None => self.put(None, no, "ports that are not understood"),
                    Some(ports) => {
                        let from = Condition {
                            source_ports: ports.clone(),
                            services: service::all_with_ports(),
                            ..Condition::all()
                        };
                        let to = Condition::of_services(to_ports(&ports));
                        let pieces = if no {
                            minus(minus(vec![self.has()], &from), &to)
                        } else {
                            vec![from, to]
                        };
                        let pieces = pieces
                            .iter()
                            .map(|piece| piece.and(&self.has()))
                            .filter(|one| !one.is_empty());
                        self.tests.push(Test::Any(pieces.collect()));
                    }
                },
                "--icmp-type" | "--icmpv6-type" => {
                    let protocol = if self.family == Family::V4 {
                        service::ICMP
                    } else {
                        service::ICMPV6
                    };
                    self.protocol = Some(protocol);
                    self.put(icmp(protocol, value), no, "an ICMP type that is not known");
                }
                "--syn" => {
                    takes = 0;
                    self.flags("FIN,SYN,RST,ACK", "SYN", no);
                }
                "--tcp-flags" => {
                    takes = 2;
                    self.flags(value, words.get(at + 1).copied().unwrap_or_default(), no);
                }
                "--ctstate" | "--state" => {
                    let lower = value.to_ascii_lowercase();
                    let states: Vec<&str> = lower.split(',').collect();
                    let holds = ByState::one_of(&states);
                    // SNAT and DNAT are states of translated connections.
                    if let Some(source) = match lower.as_str() {
                        "dnat" => Some(false),
                        "snat" => Some(true),
                        _ => None,
                    } {
                        self.tests.push(Test::Translated {
                            source,
                            negated: no,
                        });
                        at += takes;
                        no = false;
                        continue;
                    }
                    let plain = states.iter().all(|one| {
                        matches!(
                            *one,
                            "new" | "established" | "related" | "invalid" | "untracked"
                        )
                    });
                    if plain {
                        self.tests
                            .push(Test::State(if no { holds.negated() } else { holds }));
                    } else {
                        self.put(None, no, "whether it is translated");
                    }
                }
                "--ctdir" => {
                    let original = (value == "ORIGINAL") != no;
                    self.tests.push(Test::State(ByState::direction(original)));
                }
                "--ctstatus" => self.put(None, no, "the status of the connection"),
                "--mark" => {
                    let (value, mask) = value
                        .split_once('/')
                        .map_or((value, None), |(value, mask)| (value, Some(mask)));
                    let of = if self.module == "connmark" {
                        Marked::Connection
                    } else {
                        Marked::Packet
                    };
                    match number(value).zip(mask.map_or(Some(u32::MAX), number)) {
                        Some((value, bits)) => {
                            self.tests.push(Test::Mark {
                                of,
                                bits,
                                values: vec![(value, value)],
                                negated: no,
                            });
                        }
                        None => self.put(None, no, "a mark"),
                    }
                }
                "--src-type" | "--dst-type" => {
                    let lower = value.to_ascii_lowercase();
                    let names: Vec<&str> = lower.split(',').collect();
                    // The limit to an interface may stand before or behind.
                    let limit = |word: &str| words.contains(&word);
                    let interface = match (limit("--limit-iface-in"), limit("--limit-iface-out")) {
                        (false, false) => None,
                        (incoming, _) => Some(incoming),
                    };
                    let what = Fib::Type {
                        source: word == "--src-type",
                        interface,
                    };
                    let found = by_routes(what, &names, self.beside.facts, &rules.devices);
                    self.pieces(found, no, "what the machine's routes say");
                }
                "--limit-iface-in" | "--limit-iface-out" => takes = 0,
                "--pkt-type" => {
                    let found = of_packet_types(&[&value.to_ascii_lowercase()], self.beside.facts);
                    let there = found.map(|destination| Condition {
                        destination,
                        ..Condition::all()
                    });
                    self.put(there, no, "the type of a packet");
                }
                "--uid-owner" | "--gid-owner" | "--socket-exists" | "--suppl-groups" => {
                    takes = usize::from(word != "--socket-exists" && word != "--suppl-groups");
                    let own = Condition {
                        from: Devices::none(),
                        ..Condition::all()
                    };
                    let mut found = vec![own.and(&Condition::unknown("which program sent it"))];
                    if no {
                        found.push(Condition {
                            from: Devices::any(),
                            ..Condition::all()
                        });
                    }
                    self.pieces(found, false, "which program sent it");
                }
                // Packets are whole, and without headers between that of IPv6 and the next.
                "-f" | "--fragment" => {
                    takes = 0;
                    self.pieces(Vec::new(), no, "");
                }
                "--physdev-is-bridged" | "--physdev-is-in" | "--physdev-is-out" => {
                    takes = 0;
                    if self.beside.facts.known && self.beside.facts.bridges.is_empty() {
                        self.pieces(Vec::new(), no, "");
                    } else {
                        self.put(None, no, "whether it comes by a port of a bridge");
                    }
                }
                "--match-set" => {
                    takes = 2;
                    let way = words.get(at + 1).copied().unwrap_or_default();
                    match self.beside.sets.matching(value, way, &rules.devices) {
                        Ok(found) => self.pieces(found, no, ""),
                        Err(why) => self.put(None, no, &why),
                    }
                }
                "--comment" => self.comment = Some(value.to_owned()),
                "-j" | "--jump" | "-g" | "--goto" => {
                    let options = words.get(at + 1..).unwrap_or_default().to_vec();
                    self.target =
                        Some((value.to_owned(), matches!(word, "-g" | "--goto"), options));
                    return;
                }
                other => {
                    let why = format!("`{other}` is not understood");
                    self.put(None, false, &why);
                    at = self.skip(words, at);
                    no = false;
                    continue;
                }
            }
            at += takes;
            no = false;
        }
    }

    /// Over the words of an extension, up to the next that is known, or the target.
    pub(super) fn skip(&mut self, words: &[&'w str], from: usize) -> usize {
        const NEXT: [&str; 6] = ["-m", "--match", "-j", "--jump", "-g", "--goto"];
        (from..words.len())
            .find(|at| NEXT.contains(&words[*at]))
            .unwrap_or(words.len())
    }

    pub(super) fn flags(&mut self, mask: &str, wanted: &str, no: bool) {
        const NAMES: [&str; 6] = ["FIN", "SYN", "RST", "PSH", "ACK", "URG"];
        let bits = |text: &str| -> Option<u8> {
            text.split(',')
                .filter(|name| *name != "NONE")
                .try_fold(0, |all, name| match name {
                    "ALL" => Some(0x3F),
                    name => NAMES
                        .iter()
                        .position(|known| *known == name)
                        .map(|at| all | (1 << at)),
                })
        };
        self.protocol = self.protocol.or(Some(service::TCP));
        let (Some(mask), Some(wanted)) = (bits(mask), bits(wanted)) else {
            return self.put(None, no, "flags of TCP");
        };
        let holds = |flags: u8| (flags & mask == wanted) != no;
        let replies = [holds(0x12), holds(0x10)];
        let reply = (replies[0] == replies[1]).then_some(replies[0]);
        self.put(Some(Condition::all()), false, "");
        self.tests
            .push(Test::State(ByState::flags(holds(0x02), reply)));
    }
}

/// What a target that is not a chain does; none if it only looks or marks.
pub(super) fn target(name: &str, options: &[&str]) -> Option<Outcome> {
    let option = |name: &str| {
        options
            .iter()
            .position(|word| *word == name)
            .and_then(|at| options.get(at + 1))
    };
    let unclear = || {
        Some(Outcome::Unclear(format!(
            "`{name}` to more than one address or port"
        )))
    };
    let translated = |to: &str| -> Option<Translation> {
        let bare: Option<IpAddr> = to.parse().ok();
        if bare.is_some() {
            return Some(Translation {
                to: bare,
                port: None,
                source: false,
            });
        }
        let (address, port) = to.rsplit_once(':')?;
        let port = Some(port.parse().ok()?);
        let address = address.trim_start_matches('[').trim_end_matches(']');
        let to = if address.is_empty() {
            None
        } else {
            Some(address.parse().ok()?)
        };
        Some(Translation {
            to,
            port,
            source: false,
        })
    };
    Some(match name {
        "ACCEPT" => Outcome::Accept,
        "DROP" => Outcome::Drop,
        "REJECT" => Outcome::Reject,
        "RETURN" => Outcome::Return,
        "MASQUERADE" => Outcome::Translate(Translation {
            to: None,
            port: None,
            source: true,
        }),
        "SNAT" => match option("--to-source").and_then(|to| translated(to)) {
            Some(found) => Outcome::Translate(Translation {
                port: None,
                source: true,
                ..found
            }),
            None => return unclear(),
        },
        "DNAT" => match option("--to-destination").and_then(|to| translated(to)) {
            Some(found) => Outcome::Translate(found),
            None => return unclear(),
        },
        "REDIRECT" => Outcome::Unclear("a redirection to the machine itself".to_owned()),
        "LOG" | "NFLOG" | "ULOG" | "CT" | "CLASSIFY" | "TRACE" | "AUDIT" | "SECMARK"
        | "CONNSECMARK" | "TCPMSS" | "DSCP" | "TOS" | "TTL" | "HL" | "CHECKSUM" | "SET" | "LED"
        | "TEE" => return None,
        other => Outcome::Unclear(format!("`{other}` is not understood")),
    })
}
