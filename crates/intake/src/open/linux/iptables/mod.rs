//! `iptables-save` and `ip6tables-save`: the rules of one family as text, as iptables-save(8) and iptables-extensions(8) describe it.

mod rule;

use rule::{Rule, number, target};

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

/// A text that is not a rule set: from which byte on, and why.
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

/// Reads the rules of one family, beside those that already exist.
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
                format!("`{body}` is not a rule"),
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
