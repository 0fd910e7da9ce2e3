//! `iptables-save` and `ip6tables-save`: the rules of one family as text, as iptables-save(8) and iptables-extensions(8) describe it.

use super::chains::{
    Base, ByState, Chain, Change, Effect, Hook, Line, Marked, Outcome, Rules, Test, Translation,
};
use super::ipset::Sets;
use super::machine::Facts;
use super::parts::{Fib, by_routes, of_packet_types};
use super::{Source, icmp_type, protocol};
use crate::open::condition::{Condition, Devices, all_ports, minus};
use crate::open::rules::{Label, NotUnderstood};
use heronshale_model::estate::Action;
use heronshale_sets::address::{Addresses, Block, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use rustc_hash::FxHashMap;
use std::net::IpAddr;
use std::rc::Rc;

/// A text that is no rule set: from which byte on, and why.
pub(super) struct Wrong {
    pub at: usize,
    pub length: usize,
    pub what: String,
    pub help: &'static str,
}

/// Words of a line: parts in quotes are one word, with backslashes before quotes.
fn words(line: &str) -> Vec<String> {
    let (mut found, mut word, mut inside, mut begun) = (Vec::new(), String::new(), false, false);
    let mut letters = line.chars();
    while let Some(letter) = letters.next() {
        match letter {
            '"' => (inside, begun) = (!inside, true),
            '\\' if inside => word.extend(letters.next()),
            ' ' | '\t' if !inside => {
                if begun {
                    found.push(std::mem::take(&mut word));
                    begun = false;
                }
            }
            other => {
                word.push(other);
                begun = true;
            }
        }
    }
    if begun {
        found.push(word);
    }
    found
}

/// The names of interfaces that a text names.
pub(super) fn device_names(text: &str) -> Vec<String> {
    let mut names = Vec::new();
    for line in text.lines() {
        let words = words(line);
        for pair in words.windows(2) {
            if matches!(
                pair[0].as_str(),
                "-i" | "-o" | "--in-interface" | "--out-interface"
            ) && !pair[1].ends_with('+')
            {
                names.push(pair[1].clone());
            }
        }
    }
    names
}

/// The sets that rules themselves fill or empty.
pub(super) fn changed_sets(text: &str) -> Vec<String> {
    let mut names = Vec::new();
    for line in text.lines() {
        let words = words(line);
        let changed =
            |pair: &[String]| matches!(pair[0].as_str(), "--add-set" | "--del-set" | "--map-set");
        names.extend(
            words
                .windows(2)
                .filter(|pair| changed(pair))
                .map(|pair| pair[1].clone()),
        );
    }
    names
}

/// Of which family a text is, if it says so: by its first line, or by an address.
pub(super) fn family_of(text: &str) -> Option<Family> {
    if text.contains("ip6tables-save") {
        return Some(Family::V6);
    }
    if text.contains("iptables-save") {
        return Some(Family::V4);
    }
    let found = text.split_whitespace().find_map(|word| {
        word.parse::<Block>()
            .ok()
            .filter(|_| word.contains(['.', ':']))
    });
    found.map(|block| block.range.family)
}

/// When a table is asked at a hook.
fn priority(table: &str, hook: Hook) -> Option<i64> {
    Some(match table {
        "raw" => -300,
        "mangle" => -150,
        "nat" if matches!(hook, Hook::Prerouting | Hook::Output) => -100,
        "nat" => 100,
        "filter" => 0,
        "security" => 50,
        _ => return None,
    })
}

fn hook(chain: &str) -> Option<Hook> {
    Some(match chain {
        "PREROUTING" => Hook::Prerouting,
        "INPUT" => Hook::Input,
        "FORWARD" => Hook::Forward,
        "OUTPUT" => Hook::Output,
        "POSTROUTING" => Hook::Postrouting,
        _ => return None,
    })
}

/// What rules may ask beside packets.
pub(super) struct Beside<'b> {
    pub facts: &'b Facts,
    pub sets: &'b Sets,
}

/// Reads the rules of one family, beside those that are there already.
pub(super) fn read(
    source: &Source,
    family: Family,
    rules: &mut Rules,
    beside: &Beside<'_>,
    not_understood: &mut Vec<NotUnderstood>,
) -> Result<(), Wrong> {
    let mut table = "";
    let mut chains: FxHashMap<(&str, String), usize> = FxHashMap::default();
    // Chains first: a rule may jump to one that is declared before it only, but a file may be put together by hand.
    let mut at = 0;
    for line in source.text.split_inclusive('\n') {
        let begin = at;
        at += line.len();
        let line = line.trim_end();
        let wrong = |what: String, help| Wrong {
            at: begin,
            length: line.len(),
            what,
            help,
        };
        match line.trim_start().chars().next() {
            Some('*') => {
                table = line.trim_start()[1..].trim();
                if priority(table, Hook::Input).is_none() {
                    return Err(wrong(
                        format!("there is no table `{table}`"),
                        "raw, mangle, nat, filter or security",
                    ));
                }
            }
            Some(':') => {
                let words = words(line);
                let name = words.first().map_or("", |word| &word[1..]);
                let policy = match words.get(1).map(String::as_str) {
                    Some("ACCEPT" | "-") => Action::Allow,
                    Some("DROP") => Action::Deny,
                    _ => {
                        return Err(wrong(
                            format!("`{line}` declares no chain"),
                            "write `:NAME POLICY [0:0]`",
                        ));
                    }
                };
                let chain = rules.chains.len();
                rules.chains.push(Chain::default());
                chains.insert((table, name.to_owned()), chain);
                if let Some(hook) = hook(name) {
                    let id = format!("{table}/{name}/policy");
                    let label = Label {
                        id,
                        at: (source.file, offset(begin)),
                        comment: None,
                    };
                    rules.bases.push(Base {
                        hook,
                        chain,
                        priority: priority(table, hook).unwrap_or_default(),
                        translates: table == "nat",
                        only: Some(Condition::of_family(family)),
                        policy,
                        label: Rc::new(label),
                    });
                }
            }
            _ => {}
        }
    }
    let (mut table, mut at) = ("", 0);
    let mut counts: FxHashMap<usize, usize> = FxHashMap::default();
    for line in source.text.split_inclusive('\n') {
        let begin = at;
        at += line.len();
        let line = line.trim_end();
        let wrong = |what: String, help| Wrong {
            at: begin,
            length: line.len(),
            what,
            help,
        };
        let body = line.trim_start();
        match body.chars().next() {
            None | Some('#' | ':') => continue,
            Some('*') => {
                table = body[1..].trim();
                continue;
            }
            _ if body == "COMMIT" => continue,
            _ => {}
        }
        let mut words = words(body);
        if words.first().is_some_and(|word| word.starts_with('[')) {
            words.remove(0);
        }
        let ["-A" | "--append", name, rest @ ..] =
            &words.iter().map(String::as_str).collect::<Vec<_>>()[..]
        else {
            return Err(wrong(
                format!("`{body}` is no rule"),
                "a rule is `-A CHAIN …`, as iptables-save writes it",
            ));
        };
        let Some(chain) = chains.get(&(table, (*name).to_owned())).copied() else {
            return Err(wrong(
                format!("the table `{table}` has no chain `{name}`"),
                "declare it with `:NAME -`",
            ));
        };
        let number = counts.entry(chain).or_default();
        *number += 1;
        let id = if table == "filter" {
            format!("{name}/{number}")
        } else {
            format!("{table}/{name}/{number}")
        };
        let mut rule = Rule {
            family,
            beside,
            tests: Vec::new(),
            whys: Vec::new(),
            protocol: None,
            comment: None,
            target: None,
            module: String::new(),
        };
        rule.read(rest, rules);
        let label = Rc::new(Label {
            id: id.clone(),
            at: (source.file, offset(begin)),
            comment: rule.comment.take(),
        });
        let mut effects = Vec::new();
        let outcome = match rule.target.take() {
            None => None,
            Some((to, goes, options)) => match chains.get(&(table, to.clone())) {
                Some(chain) if goes => Some(Outcome::Goto(*chain)),
                Some(chain) => Some(Outcome::Jump(*chain)),
                None => match effect(&to, &options) {
                    Some(effect) => {
                        effects.push(effect);
                        Some(Outcome::Next)
                    }
                    None => target(&to, &options),
                },
            },
        };
        if let Some(Outcome::Unclear(why)) = &outcome {
            rule.whys.push(why.clone());
        }
        // A rule that decides nothing and changes nothing leaves nothing open, whatever it asks.
        if outcome.is_none() {
            continue;
        }
        not_understood.extend(rule.whys.drain(..).map(|why| NotUnderstood {
            rule: id.clone(),
            why,
            at: label.at,
        }));
        if let Some(outcome) = outcome {
            rules.chains[chain].lines.push(Line {
                tests: rule.tests,
                effects,
                outcome,
                label,
            });
        }
    }
    whole_tables(source)
}

/// Each table has to end with its `COMMIT`, and each part that `iptables-save` says it wrote with its last line: else the file is cut.
fn whole_tables(source: &Source) -> Result<(), Wrong> {
    const HELP: &str = "a table ends with a line `COMMIT`: is the file whole? Save the rules again";
    // The first line of a table, and of a part.
    let mut open: Option<(usize, &str)> = None;
    let mut generated: Option<(usize, &str)> = None;
    let mut at = 0;
    let unfinished = |(at, line): (usize, &str), what: &str| Wrong {
        at,
        length: line.len(),
        what: what.to_owned(),
        help: HELP,
    };
    for whole in source.text.split_inclusive('\n') {
        let (begin, line) = (at, whole.trim());
        at += whole.len();
        if line.starts_with('*')
            && let Some(before) = open.replace((begin, line))
        {
            return Err(unfinished(before, "this table has no `COMMIT`"));
        } else if line == "COMMIT" {
            open = None;
        } else if line.starts_with("# Generated by ") {
            generated = Some((begin, line));
        } else if line.starts_with("# Completed on") {
            generated = None;
        }
    }
    match (open, generated) {
        (Some(table), _) => Err(unfinished(table, "this table has no `COMMIT`")),
        (None, Some(part)) => Err(unfinished(
            part,
            "this part has no last line `# Completed on …`",
        )),
        (None, None) => Ok(()),
    }
}

fn offset(at: usize) -> u32 {
    u32::try_from(at).unwrap_or(u32::MAX)
}

/// What a target changes of a packet that goes on; none if it is no such target.
fn effect(name: &str, options: &[&str]) -> Option<Effect> {
    let option = |name: &str| {
        options
            .iter()
            .position(|word| *word == name)
            .map(|at| options.get(at + 1).copied())
    };
    let masked = |text: &str| {
        let (value, mask) = text
            .split_once('/')
            .map_or((text, None), |(value, mask)| (value, Some(mask)));
        Some((number(value)?, mask.map_or(Some(u32::MAX), number)?))
    };
    let to = |change: Option<Change>| change.unwrap_or(Change::Unknown { bits: u32::MAX });
    // `--set-xmark VALUE/MASK` clears the bits of the mask, and turns those of the value; `--set-mark` sets them.
    let set = |text: Option<&str>, turns: bool| {
        let (value, mask) = masked(text?)?;
        if turns && value & !mask != 0 {
            return None;
        }
        Some(Change::Set {
            bits: mask | value,
            value,
        })
    };
    let given = |words: [&str; 2]| {
        let exact = option(words[0]).map(|text| to(set(text, true)));
        exact.or_else(|| option(words[1]).map(|text| to(set(text, false))))
    };
    match name {
        "NOTRACK" => Some(Effect::Untrack),
        "CT" if options.contains(&"--notrack") => Some(Effect::Untrack),
        "MARK" => Some(Effect::Mark(
            Marked::Packet,
            to(given(["--set-xmark", "--set-mark"])),
        )),
        "CONNMARK" => {
            let bits = |name: &str| option(name).flatten().map_or(Some(u32::MAX), number);
            let same = || bits("--nfmask").filter(|own| bits("--ctmask") == Some(*own));
            let whole = || option("--mask").flatten().map_or_else(same, number);
            let other = || to(whole().map(|bits| Change::Other { bits }));
            if option("--save-mark").is_some() {
                return Some(Effect::Mark(Marked::Connection, other()));
            }
            if option("--restore-mark").is_some() {
                return Some(Effect::Mark(Marked::Packet, other()));
            }
            Some(Effect::Mark(
                Marked::Connection,
                to(given(["--set-xmark", "--set-mark"])),
            ))
        }
        _ => None,
    }
}

/// A number in decimal or hexadecimal.
fn number(text: &str) -> Option<u32> {
    match text.strip_prefix("0x") {
        Some(digits) => u32::from_str_radix(digits, 16).ok(),
        None => text.parse().ok(),
    }
}

/// What a target that is no chain does; none if it only looks or marks.
fn target(name: &str, options: &[&str]) -> Option<Outcome> {
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

struct Rule<'w> {
    family: Family,
    beside: &'w Beside<'w>,
    /// The module whose options are read.
    module: String,
    tests: Vec<Test>,
    whys: Vec<String>,
    protocol: Option<u8>,
    comment: Option<String>,
    target: Option<(String, bool, Vec<&'w str>)>,
}

impl<'w> Rule<'w> {
    fn put(&mut self, condition: Option<Condition>, no: bool, why: &str) {
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
    fn pieces(&mut self, found: Vec<Condition>, no: bool, why: &str) {
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
    fn has(&self) -> Condition {
        self.protocol.map_or_else(Condition::all, |protocol| {
            Condition::of_services(service::whole(protocol))
        })
    }

    fn read(&mut self, words: &[&'w str], rules: &Rules) {
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
    fn skip(&mut self, words: &[&'w str], from: usize) -> usize {
        const NEXT: [&str; 6] = ["-m", "--match", "-j", "--jump", "-g", "--goto"];
        (from..words.len())
            .find(|at| NEXT.contains(&words[*at]))
            .unwrap_or(words.len())
    }

    fn flags(&mut self, mask: &str, wanted: &str, no: bool) {
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

/// An address, or one with a mask of either notation.
fn block(text: &str) -> Option<Block> {
    if let Some((address, mask)) = text.split_once('/')
        && let Ok(mask) = mask.parse::<std::net::Ipv4Addr>()
    {
        let length = mask.to_bits().leading_ones();
        let plain = mask.to_bits().checked_shl(length).unwrap_or(0) == 0;
        return plain.then(|| format!("{address}/{length}").parse().ok())?;
    }
    text.parse().ok()
}

/// Ports such as `22`, `1024:65535` or `80,443,8000:8100`.
fn ports(text: &str) -> Option<Intervals> {
    let one = |part: &str| -> Option<(u128, u128)> {
        let (first, last) = part.split_once(':').unwrap_or((part, part));
        let number = |text: &str, absent: u16| {
            if text.is_empty() {
                Some(absent)
            } else {
                text.parse::<u16>().ok()
            }
        };
        Some((number(first, 0)?.into(), number(last, u16::MAX)?.into()))
    };
    let spans: Option<Vec<_>> = text.split(',').map(one).collect();
    spans.map(Intervals::from_spans)
}

fn to_ports(ports: &Intervals) -> Intervals {
    let ports = ports.intersection(&all_ports());
    let spans = service::WITH_PORTS.into_iter().flat_map(|protocol| {
        let base = u128::from(service::code(protocol, 0));
        ports
            .spans()
            .iter()
            .map(move |(first, last)| (base + first, base + last))
            .collect::<Vec<_>>()
    });
    Intervals::from_spans(spans)
}

/// An ICMP type by name or number, with or without a code.
fn icmp(protocol: u8, text: &str) -> Option<Condition> {
    let base = u128::from(service::code(protocol, 0));
    if text == "any" {
        return Some(Condition::of_services(service::whole(protocol)));
    }
    let (kind, code) = text
        .split_once('/')
        .map_or((text, None), |(kind, code)| (kind, Some(code)));
    let kind = u128::from(kind.parse().ok().or_else(|| icmp_type(protocol, kind))?);
    let (first, last) = match code {
        None => (0, 255),
        Some(code) => {
            let code = u128::from(code.parse::<u8>().ok()?);
            (code, code)
        }
    };
    Some(Condition::of_services(Intervals::span(
        base + kind * 256 + first,
        base + kind * 256 + last,
    )))
}
