//! `nft -j list ruleset`: the rule set of nftables in JSON, as libnftables-json(5) describes it.

mod matching;
mod rule;

use matching::{is_fragment, number};

use super::Source;
use super::chains::{
    Base, ByState, Chain, Change, Effect, Hook, Line, Marked, Outcome, Rules, Test, Translation,
};
use super::machine::Facts;
use super::parts::{
    Left, by_routes, element, fib, flag_test, flags, negated, of_packet_types, payload, restricted,
    scalar, spans,
};
use crate::open::condition::{Condition, Devices, minus};
use crate::open::rules::{Label, NotUnderstood};
use crate::tree::{Node, Scalar, Value, get, list, text, text_at};
use heronshale_model::estate::Action;
use heronshale_sets::address::Family;
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use rustc_hash::FxHashMap;
use std::net::IpAddr;
use std::rc::Rc;

/// A set or map by its name: its elements, or why they are not known.
type Named<'n> = FxHashMap<(&'n str, &'n str, &'n str), Result<Vec<&'n Node<'n>>, String>>;

struct Reader<'n> {
    source: usize,
    facts: &'n Facts,
    named: Named<'n>,
    chains: FxHashMap<(&'n str, &'n str, &'n str), usize>,
    rules: Rules,
    not_understood: Vec<NotUnderstood>,
}

/// The only field of an object, for `{"match": …}`.
fn only<'n>(node: &'n Node<'n>) -> Option<(&'n str, &'n Node<'n>)> {
    let Value::Map(fields) = &node.value else {
        return None;
    };
    let (key, value) = fields.first()?;
    Some((text(key)?, value))
}

/// Whether an expression is an interface, or has one among its parts.
fn is_device(node: &Node<'_>) -> bool {
    let key = get(node, "meta").and_then(|meta| text_at(meta, "key"));
    matches!(key, Some("iif" | "iifname" | "oif" | "oifname"))
        || get(node, "concat").is_some_and(|parts| list(parts).iter().any(is_device))
}

/// The interfaces that rules name: what is compared with one, or is the key of a verdict map of them.
fn device_names(node: &Node<'_>, names: &mut Vec<String>) {
    if let Some((left, right)) = get(node, "left").zip(get(node, "right"))
        && is_device(left)
    {
        texts(right, names);
    }
    if let Some((key, data)) = get(node, "key").zip(get(node, "data"))
        && is_device(key)
    {
        keys(get(data, "set").unwrap_or(data), names);
    }
    match &node.value {
        Value::Map(fields) => fields
            .iter()
            .for_each(|(_, value)| device_names(value, names)),
        Value::List(items) => items.iter().for_each(|item| device_names(item, names)),
        Value::Scalar(..) => {}
    }
}

/// The names in the elements of a set, or in the keys of a map.
fn keys(elements: &Node<'_>, names: &mut Vec<String>) {
    for element in list(elements) {
        match &element.value {
            Value::List(pair) => pair.iter().take(1).for_each(|key| texts(key, names)),
            _ => texts(element, names),
        }
    }
}

fn texts(node: &Node<'_>, names: &mut Vec<String>) {
    match &node.value {
        Value::Scalar(Scalar::Text, text) => {
            // The kernel's names of interfaces have at most 15 characters; a star stands for any. In sets of several parts addresses
            // stand beside them.
            let other = text.contains(['*', '@', '/', ':', ' ']) || text.parse::<IpAddr>().is_ok();
            if !text.is_empty() && text.len() < 16 && !other {
                names.push(text.to_string());
            }
        }
        Value::Scalar(..) => {}
        Value::List(items) => items.iter().for_each(|item| texts(item, names)),
        Value::Map(fields) => fields.iter().for_each(|(_, value)| texts(value, names)),
    }
}

/// Reads a rule set; `devices` are the machine's interfaces, if they are known. Tables of families whose rules are `saved` as
/// iptables-save tells them are taken from there: nftables shows what it does not know of them as foreign.
pub(super) fn read<'n>(
    source: &'n Source,
    root: &'n Node<'n>,
    devices: &[String],
    facts: &'n Facts,
    saved: &[Family],
) -> (Rules, Vec<NotUnderstood>) {
    let mut names = Vec::new();
    let objects = get(root, "nftables").map_or(&[][..], list);
    let told = |object: &Node<'_>| {
        let Some((kind, body)) = only(object) else {
            return false;
        };
        let table = text_at(body, if kind == "table" { "name" } else { "table" });
        let family = match text_at(body, "family") {
            Some("ip") => Family::V4,
            Some("ip6") => Family::V6,
            _ => return false,
        };
        saved.contains(&family)
            && matches!(
                table,
                Some("filter" | "nat" | "mangle" | "raw" | "security")
            )
    };
    let objects: Vec<&Node<'_>> = objects.iter().filter(|object| !told(object)).collect();
    let objects = objects.as_slice();
    for object in objects {
        let Some((kind, body)) = only(object) else {
            continue;
        };
        let of_devices = |kinds: &Node<'_>| {
            list(kinds)
                .iter()
                .filter_map(text)
                .any(|kind| kind.starts_with("ifname") || kind.starts_with("iface"))
        };
        match kind {
            "rule" => device_names(body, &mut names),
            "chain" => {
                if let Some(device) = get(body, "dev") {
                    texts(device, &mut names);
                }
            }
            // Of elements that stand apart the kind is not told: a name too many does no harm there.
            "set" | "map" if get(body, "type").is_some_and(of_devices) => {
                if let Some(elements) = get(body, "elem") {
                    keys(elements, &mut names);
                }
            }
            "element" => {
                if let Some(elements) = get(body, "elem") {
                    keys(elements, &mut names);
                }
            }
            _ => {}
        }
    }
    names.retain(|name| name != "lo");
    names.extend(devices.iter().cloned());
    let mut reader = Reader {
        source: source.file,
        facts,
        named: FxHashMap::default(),
        chains: FxHashMap::default(),
        rules: Rules {
            devices: Devices::new(names).complete(facts.known),
            ..Rules::default()
        },
        not_understood: Vec::new(),
    };
    reader.tables(objects);
    (reader.rules, reader.not_understood)
}

impl<'n> Reader<'n> {
    fn tables(&mut self, objects: &[&'n Node<'n>]) {
        let (mut asleep, mut perhaps_asleep) = (Vec::new(), Vec::new());
        for object in objects {
            let Some((kind, body)) = only(object) else {
                continue;
            };
            let key = |name| {
                (
                    text_at(body, "family").unwrap_or_default(),
                    text_at(body, "table").unwrap_or_default(),
                    name,
                )
            };
            let name = text_at(body, "name").unwrap_or_default();
            match kind {
                "table" => {
                    let has = |wanted: &dyn Fn(&str) -> bool| {
                        get(body, "flags")
                            .is_some_and(|flags| list(flags).iter().filter_map(text).any(wanted))
                    };
                    let sleeps = has(&|flag| flag == "dormant");
                    // Some versions of nft print another word in the place of a flag.
                    if has(&|flag| !matches!(flag, "dormant" | "owner" | "persist")) {
                        perhaps_asleep.push((text_at(body, "family").unwrap_or_default(), name));
                    }
                    asleep.extend(
                        sleeps.then(|| (text_at(body, "family").unwrap_or_default(), name)),
                    );
                }
                "set" | "map" => {
                    self.named.insert(key(name), elements(body));
                }
                "element" => {
                    let more = get(body, "elem").map_or(&[][..], list).iter();
                    if let Some(Ok(known)) = self.named.get_mut(&key(name)) {
                        known.extend(more);
                    }
                }
                "chain" => {
                    let at = self.rules.chains.len();
                    self.rules.chains.push(Chain::default());
                    self.chains.insert(key(name), at);
                    let (family, table, _) = key(name);
                    let routed = family != "arp" && (family != "bridge" || self.sees_routed(body));
                    if get(body, "hook").is_some() && !asleep.contains(&(family, table)) && routed {
                        // A frame comes by a port of the bridge, a packet by the bridge: what the rules say of it is not known here.
                        let why = if family == "bridge" {
                            Some("frames of bridges are not followed")
                        } else if perhaps_asleep.contains(&(family, table)) {
                            Some("nft names no flag of the table that is one: it may be dormant")
                        } else {
                            None
                        };
                        let at = why.map_or(at, |why| self.perhaps(body, name, why));
                        self.base(body, at, family, name);
                    }
                }
                _ => {}
            }
        }
        for object in objects {
            if let Some(("rule", body)) = only(object) {
                self.rule(body);
            }
        }
    }

    /// A chain in the place of one of which nobody knows what it does to packets.
    fn perhaps(&mut self, body: &'n Node<'n>, name: &str, why: &str) -> usize {
        let why = why.to_owned();
        let label = Rc::new(Label {
            id: name.to_owned(),
            at: (self.source, body.span.start),
            comment: None,
        });
        self.not_understood.push(NotUnderstood {
            rule: label.id.clone(),
            why: why.clone(),
            at: label.at,
        });
        let line = Line {
            tests: Vec::new(),
            effects: Vec::new(),
            outcome: Outcome::Unclear(why),
            label,
        };
        self.rules.chains.push(Chain { lines: vec![line] });
        self.rules.chains.len() - 1
    }

    /// Whether a chain of a bridge table meets packets that are routed: not where frames are only passed from port to port, and
    /// nowhere on a machine without bridges.
    fn sees_routed(&self, body: &Node<'_>) -> bool {
        text_at(body, "hook") != Some("forward")
            && !(self.facts.known && self.facts.bridges.is_empty())
    }

    fn base(&mut self, body: &'n Node<'n>, chain: usize, family: &str, name: &str) {
        let label = Label {
            id: format!("{name}/policy"),
            at: (self.source, body.span.start),
            comment: None,
        };
        let hook = match text_at(body, "hook") {
            Some("prerouting" | "ingress") => Hook::Prerouting,
            Some("input") => Hook::Input,
            Some("forward") => Hook::Forward,
            Some("output") => Hook::Output,
            _ => Hook::Postrouting,
        };
        let beneath =
            matches!(family, "netdev" | "bridge") || text_at(body, "hook") == Some("ingress");
        let priority = text_at(body, "prio")
            .and_then(|text| text.parse::<i64>().ok())
            .unwrap_or_default();
        let mut only = match family {
            "ip" => Some(Condition::of_family(Family::V4)),
            "ip6" => Some(Condition::of_family(Family::V6)),
            _ => None,
        };
        if let Some(device) = get(body, "dev").filter(|_| beneath) {
            let devices = list(device)
                .iter()
                .filter_map(text)
                .map(|name| self.rules.devices.one(Some(name)));
            let devices = devices.fold(Intervals::empty(), |sum, one| sum.union(&one));
            let outgoing = hook == Hook::Postrouting;
            let mut there = Condition::all();
            *(if outgoing {
                &mut there.to
            } else {
                &mut there.from
            }) = devices;
            only = Some(there);
        }
        if family == "bridge" && self.facts.known {
            let bridges = self
                .facts
                .bridges
                .iter()
                .map(|name| self.rules.devices.one(Some(name)));
            let bridges = bridges.fold(Intervals::empty(), |sum, one| sum.union(&one));
            let mut there = Condition::all();
            let outgoing = matches!(hook, Hook::Postrouting | Hook::Output);
            *(if outgoing {
                &mut there.to
            } else {
                &mut there.from
            }) = bridges;
            only = Some(there);
        }
        let policy = if text_at(body, "policy") == Some("drop") {
            Action::Deny
        } else {
            Action::Allow
        };
        // What the frames of an interface carry comes by others too: how it fares there is not followed.
        let below = get(body, "dev")
            .filter(|_| beneath)
            .map_or(&[][..], list)
            .iter()
            .filter_map(text);
        let above = below.flat_map(|lower| {
            self.facts
                .carried
                .iter()
                .filter(move |(_, own)| own == lower)
        });
        let above = above.map(|(upper, _)| self.rules.devices.one(Some(upper)));
        let above = above.fold(Intervals::empty(), |sum, one| sum.union(&one));
        if !above.is_empty() {
            let chain = self.perhaps(
                body,
                name,
                "frames of interfaces above this one are not followed",
            );
            let mut there = Condition::all();
            *(if hook == Hook::Postrouting {
                &mut there.to
            } else {
                &mut there.from
            }) = above;
            let priority = priority - (1 << 40);
            let label = Rc::new(Label {
                id: name.to_owned(),
                ..Label::default()
            });
            let (translates, policy) = (false, Action::Allow);
            self.rules.bases.push(Base {
                hook,
                chain,
                priority,
                translates,
                only: Some(there),
                policy,
                label,
            });
        }
        let base = Base {
            hook,
            chain,
            priority: if beneath {
                priority - (1 << 40)
            } else {
                priority
            },
            translates: text_at(body, "type") == Some("nat"),
            only,
            policy,
            label: Rc::new(label),
        };
        self.rules.bases.push(base);
    }
}

/// Why a test may hold or not.
fn note_unknown(tests: &[Test], whys: &mut Vec<String>) {
    for test in tests {
        if let Test::Any(pieces) = test {
            whys.extend(
                pieces
                    .iter()
                    .flat_map(|piece| piece.unknown.iter().cloned()),
            );
        }
    }
    whys.dedup();
}

/// The elements of a named set or map, if they stand still.
fn elements<'n>(body: &'n Node<'n>) -> Result<Vec<&'n Node<'n>>, String> {
    let name = text_at(body, "name").unwrap_or_default();
    let moving = |flag: &Node<'_>| matches!(text(flag), Some("dynamic" | "timeout"));
    if get(body, "flags").is_some_and(|flags| list(flags).iter().any(moving))
        || get(body, "timeout").is_some()
    {
        return Err(format!("the set {name} changes by itself"));
    }
    Ok(get(body, "elem").map_or(&[][..], list).iter().collect())
}
