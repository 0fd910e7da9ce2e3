//! What a Linux machine filters, routes and translates, as a workload's own firewall or as a firewall that forwards.
//!
//! Read are `nft -j list ruleset`, `iptables-save`, `ipset save`, `ip -j addr`, `ip -j route` and `ip -j rule`; which a file is shows by what is in
//! it. What a rule says that is not understood makes it unknown, never one that matches all or nothing.

mod chains;
mod ipset;
mod iptables;
mod machine;
mod nftables;
mod parts;
mod written;

use crate::files::{LoadError, SourceText};
use crate::json;
use crate::open::condition::Devices;
use crate::open::part::Part;
use crate::open::rules::placed;
use crate::tree::{Node, Value, get, span};
use chains::{Hook, Refused, Rules};
use heronshale_model::estate::Estate;
use heronshale_model::source::{FileId, Problem, SourceFile};
use heronshale_sets::address::Family;
use heronshale_sets::packet::service;
use machine::Machine;

/// As what a machine's rules are taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// What it receives and sends itself: a workload's own firewall.
    Workload,
    /// What it passes on: a firewall with its policy, routes and translations.
    Firewall {
        /// Whether an interface in each of its networks stands for all other addresses there.
        hosts: bool,
    },
}

/// A text with its number among the problems.
pub(crate) struct Source {
    file: usize,
    text: String,
}

/// The protocol that a name or number stands for, with the names of the system's list.
fn protocol(name: &str) -> Option<u8> {
    Some(match name {
        "ipv6-icmp" | "icmp6" => service::ICMPV6,
        "comp" | "ipcomp" => 108,
        "dccp" => 33,
        "udplite" => 136,
        "ah" => 51,
        "ipip" | "ipencap" => 4,
        "ipv6" => 41,
        other => service::protocol_named(other)?,
    })
}

/// The ICMP type that a name stands for.
fn icmp_type(protocol: u8, name: &str) -> Option<u8> {
    const FOUR: [(&str, u8); 21] = [
        ("echo-reply", 0),
        ("pong", 0),
        ("destination-unreachable", 3),
        ("source-quench", 4),
        ("redirect", 5),
        ("echo-request", 8),
        ("ping", 8),
        ("router-advertisement", 9),
        ("router-solicitation", 10),
        ("time-exceeded", 11),
        ("ttl-exceeded", 11),
        ("parameter-problem", 12),
        ("timestamp-request", 13),
        ("timestamp-reply", 14),
        ("info-request", 15),
        ("info-reply", 16),
        ("address-mask-request", 17),
        ("address-mask-reply", 18),
        ("port-unreachable", u8::MAX),
        ("host-unreachable", u8::MAX),
        ("network-unreachable", u8::MAX),
    ];
    const SIX: [(&str, u8); 22] = [
        ("destination-unreachable", 1),
        ("packet-too-big", 2),
        ("time-exceeded", 3),
        ("parameter-problem", 4),
        ("echo-request", 128),
        ("echo-reply", 129),
        ("mld-listener-query", 130),
        ("mld-listener-report", 131),
        ("mld-listener-done", 132),
        ("mld-listener-reduction", 132),
        ("nd-router-solicit", 133),
        ("router-solicitation", 133),
        ("nd-router-advert", 134),
        ("router-advertisement", 134),
        ("nd-neighbor-solicit", 135),
        ("neighbour-solicitation", 135),
        ("nd-neighbor-advert", 136),
        ("neighbour-advertisement", 136),
        ("nd-redirect", 137),
        ("redirect", 137),
        ("router-renumbering", 138),
        ("mld2-listener-report", 143),
    ];
    let all: &[(&str, u8)] = if protocol == service::ICMP {
        &FOUR
    } else {
        &SIX
    };
    let found = all
        .iter()
        .find(|(known, _)| *known == name)
        .map(|(_, number)| *number);
    found.filter(|number| *number != u8::MAX)
}

/// Which of the files that are read one is.
enum Kind<'t> {
    Nftables(Node<'t>),
    Saved(Family),
    Addresses(Node<'t>),
    Routes(Node<'t>),
    Rules(Node<'t>),
    /// `ipset save`.
    Sets,
    /// An empty list: of any of them.
    Nothing,
}

fn problem(file: usize, at: usize, length: usize, title: String, help: &str) -> Problem {
    let file = FileId(u32::try_from(file).unwrap_or(u32::MAX));
    Problem {
        title,
        span: span(file, at, at + length.max(1)),
        label: "here".to_owned(),
        related: None,
        help: Some(help.to_owned()),
    }
}

fn kind_of(source: &Source) -> Result<Kind<'_>, Problem> {
    const HELP: &str = "give what these print: nft -j list ruleset, iptables-save, ipset save, ip -j addr, ip -j route, ip -j rule";
    let start = source.text.trim_start();
    if start.starts_with(['{', '[']) {
        let file = FileId(u32::try_from(source.file).unwrap_or(u32::MAX));
        let node = json::whole(file, &source.text)?;
        let field = |node: &Node<'_>, name: &str| get(node, name).is_some();
        if field(&node, "nftables") {
            return Ok(Kind::Nftables(node));
        }
        if let Value::List(items) = &node.value {
            // A list of addresses may hold empty objects for interfaces that were filtered out.
            let any = |name: &str| items.iter().any(|item| field(item, name));
            return Ok(match () {
                () if any("addr_info") => Kind::Addresses(node),
                () if any("dst") && !any("priority") => Kind::Routes(node),
                () if any("priority") && any("table") => Kind::Rules(node),
                () if items.is_empty() => Kind::Nothing,
                () => {
                    return Err(problem(
                        source.file,
                        0,
                        1,
                        "this JSON is not from a Linux machine".to_owned(),
                        HELP,
                    ));
                }
            });
        }
        return Err(problem(
            source.file,
            0,
            1,
            "this JSON is not from a Linux machine".to_owned(),
            HELP,
        ));
    }
    if ipset::is_saved(&source.text) {
        return Ok(Kind::Sets);
    }
    if source
        .text
        .lines()
        .any(|line| line.trim_start().starts_with('*'))
    {
        return iptables::family_of(&source.text)
            .map(Kind::Saved)
            .ok_or_else(|| {
                let title = "it is not clear whether these rules are for IPv4 or IPv6".to_owned();
                problem(
                    source.file,
                    0,
                    1,
                    title,
                    "keep the first line, `# Generated by iptables-save` or `ip6tables-save`",
                )
            });
    }
    if source.text.trim().is_empty() {
        const EMPTY: &str = "iptables-save prints nothing where no table was ever set: leave it out, and that family is unknown, \
            or save it with -t filter";
        return Err(problem(
            source.file,
            0,
            0,
            "this file is empty".to_owned(),
            EMPTY,
        ));
    }
    Err(problem(
        source.file,
        0,
        1,
        "this is not a rule set, and no JSON".to_owned(),
        HELP,
    ))
}

/// Makes a part of a snapshot of a machine's files, each with its name and text. Beside an estate, the machine's interfaces are
/// found in it by their addresses.
///
/// # Errors
/// If a file cannot be used: all that is wrong with them.
pub fn read_machine(
    files: Vec<(String, String)>,
    name: &str,
    role: Role,
    beside: Option<&Estate>,
) -> Result<Part, LoadError> {
    let names: Vec<SourceFile> = files
        .iter()
        .map(|(name, text)| SourceFile::new(name, text.as_bytes()))
        .collect();
    let sources: Vec<Source> = { files.iter().enumerate() }
        .map(|(file, (_, text))| Source {
            file,
            text: text.clone(),
        })
        .collect();
    let input = |problems| {
        let texts = files
            .iter()
            .map(|(name, text)| SourceText {
                name: name.clone(),
                text: text.clone(),
            })
            .collect();
        LoadError::Input { problems, texts }
    };
    let (mut kinds, mut problems) = (Vec::new(), Vec::new());
    for source in &sources {
        match kind_of(source) {
            Ok(kind) => kinds.push((source, kind)),
            Err(problem) => problems.push(problem),
        }
    }
    let mut machine = Machine::default();
    for (source, kind) in &kinds {
        match kind {
            Kind::Addresses(node) => machine.addresses(node, source.file, &mut problems),
            Kind::Routes(node) => machine.routes(node, source.file, &mut problems),
            Kind::Rules(node) => machine.rules(node),
            _ => {}
        }
    }
    let devices: Vec<String> = machine
        .devices
        .iter()
        .map(|device| device.name.clone())
        .collect();
    let mut named = devices.clone();
    for (source, kind) in &kinds {
        if matches!(kind, Kind::Saved(_)) {
            named.extend(
                iptables::device_names(&source.text)
                    .into_iter()
                    .filter(|name| name != "lo"),
            );
        }
    }
    let facts = machine.facts();
    let mut sets = ipset::Sets::default();
    for (source, kind) in &kinds {
        if matches!(kind, Kind::Sets) {
            sets.read(source, &mut problems);
        }
    }
    for (source, kind) in &kinds {
        if matches!(kind, Kind::Saved(_)) {
            iptables::changed_sets(&source.text)
                .iter()
                .for_each(|name| sets.changes(name));
        }
    }
    let beside_rules = iptables::Beside {
        facts: &facts,
        sets: &sets,
    };
    let (mut rules, mut not_understood, mut filters) = (Rules::default(), Vec::new(), 0);
    let saved: Vec<Family> = kinds
        .iter()
        .filter_map(|(_, kind)| {
            if let Kind::Saved(family) = kind {
                Some(*family)
            } else {
                None
            }
        })
        .collect();
    let mut first: Option<usize> = None;
    for (source, kind) in &kinds {
        if let Kind::Nftables(node) = kind {
            filters += 1;
            if let Some(_other) = first.replace(source.file) {
                let title = "a second rule set of nftables: a machine has one".to_owned();
                problems.push(problem(
                    source.file,
                    0,
                    1,
                    title,
                    "give the files of one machine",
                ));
            }
            (rules, not_understood) = nftables::read(source, node, &named, &facts, &saved);
        }
    }
    if first.is_none() {
        rules.devices = Devices::new(named).complete(facts.known);
    }
    for (source, kind) in &kinds {
        let Kind::Saved(family) = kind else { continue };
        filters += 1;
        if saved.iter().filter(|other| *other == family).count() > 1 {
            let title = format!("a second file with the rules of {family}: a machine has one");
            problems.push(problem(
                source.file,
                0,
                1,
                title,
                "give the files of one machine",
            ));
        } else if let Err(wrong) = iptables::read(
            source,
            *family,
            &mut rules,
            &beside_rules,
            &mut not_understood,
        ) {
            problems.push(problem(
                source.file,
                wrong.at,
                wrong.length,
                wrong.what,
                wrong.help,
            ));
        }
    }
    // Where only one family's rules are given, the other's may be anything.
    if first.is_none() && saved.len() == 1 {
        let other = if saved[0] == Family::V4 {
            Family::V6
        } else {
            Family::V4
        };
        rules.unclear(
            other,
            &format!("the rules of {other} are not among the files"),
        );
    }
    if filters == 0 && problems.is_empty() {
        let help = "give also what `nft -j list ruleset` or `iptables-save` prints";
        problems.push(problem(
            0,
            0,
            1,
            "no file contains a machine's rules".to_owned(),
            help,
        ));
    }
    if !problems.is_empty() {
        return Err(input(problems));
    }
    let refused = |refused| {
        let title = match refused {
            Refused::TooMany => format!(
                "the rules come to more than {} entries",
                chains::MOST_ENTRIES
            ),
            Refused::TooDeep => "chains call each other too deeply, or in a cycle".to_owned(),
        };
        input(vec![problem(
            first.unwrap_or_default(),
            0,
            1,
            title,
            "give a part of the rule set",
        )])
    };
    not_understood.extend(rules.open_tests());
    let acting = rules.acting();
    not_understood.retain(|one| acting.contains(one.rule.as_str()));
    let mut part = match role {
        Role::Workload => written::own_firewall(&rules, &machine, name, beside),
        Role::Firewall { hosts } => written::firewall(&rules, &machine, name, beside, hosts),
    }
    .map_err(refused)?;
    part.read.rules = rules.chains.iter().map(|chain| chain.lines.len()).sum();
    part.read.unclear = placed(not_understood, &names);
    part.read.files = files.into_iter().map(|(name, _)| name).collect();
    Ok(part)
}

/// The hooks that a packet passes which the machine receives, sends, or passes on.
const RECEIVED: [Hook; 2] = [Hook::Prerouting, Hook::Input];
const SENT: [Hook; 2] = [Hook::Output, Hook::Postrouting];
const PASSED_ON: [Hook; 3] = [Hook::Prerouting, Hook::Forward, Hook::Postrouting];
