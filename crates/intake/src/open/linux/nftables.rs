//! `nft -j list ruleset`: the rule set of nftables in JSON, as libnftables-json(5) describes it.

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

    fn rule(&mut self, body: &'n Node<'n>) {
        let family = text_at(body, "family").unwrap_or_default();
        let table = text_at(body, "table").unwrap_or_default();
        let name = text_at(body, "chain").unwrap_or_default();
        let Some(chain) = self.chains.get(&(family, table, name)).copied() else {
            return;
        };
        let place = text_at(body, "handle").map_or_else(
            || (self.rules.chains[chain].lines.len() + 1).to_string(),
            str::to_owned,
        );
        let label = Rc::new(Label {
            id: format!("{name}/{place}"),
            at: (self.source, body.span.start),
            comment: text_at(body, "comment").map(str::to_owned),
        });
        let mut tests: Vec<Test> = Vec::new();
        let mut lines: Vec<Line> = Vec::new();
        let mut effects: Vec<Effect> = Vec::new();
        let mut whys: Vec<String> = Vec::new();
        for statement in get(body, "expr").map_or(&[][..], list) {
            if !lines.is_empty() {
                break;
            }
            let line = |tests: &[Test], outcome| Line {
                tests: tests.to_vec(),
                effects: effects.clone(),
                outcome,
                label: label.clone(),
            };
            let Some((word, what)) = only(statement) else {
                whys.push("a statement without a name".to_owned());
                lines.push(line(
                    &tests,
                    Outcome::Unclear("a statement that is not understood".to_owned()),
                ));
                break;
            };
            let to = |at: &Self, what: &Node<'n>| {
                let target = text_at(what, "target").unwrap_or_default();
                at.chains.get(&(family, table, target)).copied()
            };
            match word {
                "match" => {
                    let found = self.matching(what, (family, table));
                    note_unknown(&found, &mut whys);
                    tests.extend(found);
                }
                "vmap" => {
                    let (found, why) =
                        self.verdict_map(what, (family, table), &line(&tests, Outcome::Next));
                    whys.extend(why);
                    lines.extend(found);
                }
                "accept" => lines.push(line(&tests, Outcome::Accept)),
                "drop" => lines.push(line(&tests, Outcome::Drop)),
                "reject" => lines.push(line(&tests, Outcome::Reject)),
                "return" => lines.push(line(&tests, Outcome::Return)),
                "continue" => break,
                "jump" | "goto" => match to(self, what) {
                    Some(chain) if word == "jump" => lines.push(line(&tests, Outcome::Jump(chain))),
                    Some(chain) => lines.push(line(&tests, Outcome::Goto(chain))),
                    None => {
                        whys.push("a chain that is not in the export".to_owned());
                        lines.push(line(
                            &tests,
                            Outcome::Unclear("a chain that is not in the export".to_owned()),
                        ));
                    }
                },
                "notrack" => effects.push(Effect::Untrack),
                // Looked at or counted, and passed on.
                "counter" | "log" | "comment" | "last" | "ct helper" | "ct timeout"
                | "ct expectation" | "secmark" | "flow" | "dup" => {}
                "mangle" => match mangled(what) {
                    Ok(effect) => effects.extend(effect),
                    Err(why) => {
                        whys.push(why.clone());
                        lines.push(line(&tests, Outcome::Unclear(why)));
                    }
                },
                "set" | "map" if get(what, "stmt").is_none() => {}
                "limit" | "quota" | "ct count" | "meter" | "set" | "map" => {
                    let why = format!("how much there is of it ({word})");
                    whys.push(why.clone());
                    tests.push(Test::Any(vec![Condition::unknown(why)]));
                }
                "masquerade" | "snat" | "dnat" | "redirect" => {
                    let found = self.translations(
                        word,
                        what,
                        (family, table),
                        &line(&tests, Outcome::Next),
                    );
                    for line in &found {
                        if let Outcome::Unclear(why) = &line.outcome {
                            whys.push(why.clone());
                        }
                    }
                    lines.extend(found);
                }
                other => {
                    let why = format!("`{other}` is not understood");
                    whys.push(why.clone());
                    lines.push(line(&tests, Outcome::Unclear(why)));
                }
            }
        }
        if lines.is_empty() && !effects.is_empty() {
            lines.push(Line {
                tests,
                effects,
                outcome: Outcome::Next,
                label: label.clone(),
            });
        }
        // A rule that decides nothing and changes nothing leaves nothing open, whatever it asks.
        for why in whys.drain(..).filter(|_| !lines.is_empty()) {
            self.not_understood.push(NotUnderstood {
                rule: label.id.clone(),
                why,
                at: label.at,
            });
        }
        self.rules.chains[chain].lines.extend(lines);
    }

    /// The lines of a translation: one, or one for each element of the map in which it looks.
    fn translations(
        &self,
        word: &str,
        what: &'n Node<'n>,
        table: (&'n str, &'n str),
        before: &Line,
    ) -> Vec<Line> {
        let unclear = |why: String| {
            vec![Line {
                outcome: Outcome::Unclear(why),
                ..before.clone()
            }]
        };
        let Some(map) = get(what, "addr").and_then(|addr| get(addr, "map")) else {
            return vec![Line {
                outcome: translation(word, get(what, "addr"), get(what, "port")),
                ..before.clone()
            }];
        };
        let (Some(key), Some(data)) = (get(map, "key"), get(map, "data")) else {
            return unclear("a map without its parts".to_owned());
        };
        let elements = match self.elements(data, table) {
            Ok(elements) => elements,
            Err(why) => return unclear(why),
        };
        let left = self.left(key);
        let mut lines = Vec::new();
        for element in elements {
            let [key, value] = list(element) else {
                return unclear("an element of a map".to_owned());
            };
            let outcome = match get(value, "concat").map(list) {
                Some([address, port]) => translation(word, Some(address), Some(port)),
                Some(_) => return unclear("an element of a map".to_owned()),
                None => translation(word, Some(value), get(what, "port")),
            };
            let tests = before
                .tests
                .iter()
                .cloned()
                .chain(self.equal(&left, &[key], table))
                .collect();
            lines.push(Line {
                tests,
                outcome,
                ..before.clone()
            });
        }
        lines
    }

    fn verdict_map(
        &self,
        what: &'n Node<'n>,
        table: (&'n str, &'n str),
        before: &Line,
    ) -> (Vec<Line>, Vec<String>) {
        let line = |tests: Vec<Test>, outcome| Line {
            tests: before.tests.iter().cloned().chain(tests).collect(),
            outcome,
            ..before.clone()
        };
        let unclear = |why: String| {
            let found = line(Vec::new(), Outcome::Unclear(why.clone()));
            (vec![found], vec![why])
        };
        let (Some(key), Some(data)) = (get(what, "key"), get(what, "data")) else {
            return unclear("a verdict map without its parts".to_owned());
        };
        let left = self.left(key);
        let elements = match self.elements(data, table) {
            Ok(elements) => elements,
            Err(why) => return unclear(why),
        };
        let (mut lines, mut whys, mut others) = (Vec::new(), Vec::new(), vec![Condition::all()]);
        let mut catch_all = None;
        for element in elements {
            let [key, verdict] = list(element) else {
                return unclear("an element of a verdict map".to_owned());
            };
            let outcome = match only(verdict) {
                Some(("accept", _)) => Outcome::Accept,
                Some(("drop", _)) => Outcome::Drop,
                Some(("return", _)) => Outcome::Return,
                Some(("continue", _)) => continue,
                Some((word @ ("jump" | "goto"), what)) => {
                    let target = text_at(what, "target").unwrap_or_default();
                    match (self.chains.get(&(table.0, table.1, target)), word) {
                        (Some(chain), "jump") => Outcome::Jump(*chain),
                        (Some(chain), _) => Outcome::Goto(*chain),
                        (None, _) => {
                            Outcome::Unclear("a chain that is not in the export".to_owned())
                        }
                    }
                }
                _ => Outcome::Unclear("an element of a verdict map".to_owned()),
            };
            if text(key) == Some("*") {
                catch_all = Some(outcome);
                continue;
            }
            let tests = self.equal(&left, &[key], table);
            note_unknown(&tests, &mut whys);
            for test in &tests {
                if let Test::Any(pieces) = test {
                    others = pieces.iter().fold(others, minus);
                }
            }
            lines.push(line(tests, outcome));
        }
        if let Some(outcome) = catch_all {
            lines.push(line(vec![Test::Any(others)], outcome));
        }
        (lines, whys)
    }

    /// The elements of a set that is written here, or named.
    fn elements(
        &self,
        node: &'n Node<'n>,
        table: (&'n str, &'n str),
    ) -> Result<Vec<&'n Node<'n>>, String> {
        if let Some(inside) = get(node, "set") {
            return Ok(list(inside).iter().collect());
        }
        match text(node).and_then(|name| name.strip_prefix('@')) {
            Some(name) => match self.named.get(&(table.0, table.1, name)) {
                Some(found) => found.clone(),
                None => Err(format!("the set {name} is not in the export")),
            },
            None => Ok(list(node).iter().collect()),
        }
    }

    fn left(&self, node: &'n Node<'n>) -> Left {
        let anything = |what: String| Left::Unknown(what, Box::new(Condition::all()));
        let Some((kind, body)) = only(node) else {
            return anything("an expression".to_owned());
        };
        match kind {
            "concat" => Left::Concat(list(body).iter().map(|one| self.left(one)).collect()),
            "meta" => match text_at(body, "key") {
                Some("iif" | "iifname") => Left::From,
                Some("oif" | "oifname") => Left::To,
                Some("l4proto") => Left::Protocol(None),
                Some("mark") => Left::Mark(Marked::Packet, u32::MAX),
                Some("pkttype") => Left::PacketType,
                // Only packets of programs of this machine have them.
                Some(key @ ("skuid" | "skgid" | "cgroup" | "rtclassid")) => {
                    let own = Condition {
                        from: Devices::none(),
                        ..Condition::all()
                    };
                    Left::Unknown(format!("meta {key}"), Box::new(own))
                }
                Some("nfproto" | "protocol") => Left::Family,
                other => anything(format!("meta {}", other.unwrap_or_default())),
            },
            "ct" => match text_at(body, "key") {
                Some("state") => Left::State,
                Some("direction") => Left::Direction,
                Some("mark") => Left::Mark(Marked::Connection, u32::MAX),
                Some("status") => Left::Status,
                other => anything(format!("ct {}", other.unwrap_or_default())),
            },
            "&" => match (list(body), list(body).first().map(|inner| self.left(inner))) {
                ([_, mask], Some(Left::Flags(all))) => match flags(mask) {
                    Some(mask) => Left::Flags(all & mask),
                    None => anything("flags of TCP".to_owned()),
                },
                ([inner, mask], _) if is_fragment(inner) => match number(mask) {
                    Some(mask) if mask & !0x3FFF == 0 => Left::Zero,
                    _ => anything("bits of a field".to_owned()),
                },
                ([_, mask], Some(Left::Mark(of, all))) => match number(mask) {
                    Some(mask) => Left::Mark(of, all & mask),
                    None => anything("bits of a mark".to_owned()),
                },
                _ => anything("bits of a field".to_owned()),
            },
            "payload" => {
                let (of, field) = (
                    text_at(body, "protocol").unwrap_or_default(),
                    text_at(body, "field").unwrap_or_default(),
                );
                payload(of, field)
            }
            "fib" => {
                let flags = get(body, "flags")
                    .map_or(&[][..], list)
                    .iter()
                    .filter_map(text)
                    .collect::<Vec<_>>();
                Left::Fib(fib(text_at(body, "result").unwrap_or_default(), &flags))
            }
            "socket" => {
                let own = Condition {
                    from: Devices::none(),
                    ..Condition::all()
                };
                Left::Unknown("socket".to_owned(), Box::new(own))
            }
            // Packets are whole, and without headers between that of IP and the next.
            "exthdr" => Left::Header {
                field: get(body, "field").is_some(),
            },
            other => anything(format!("`{other}`")),
        }
    }

    /// What a match asks for; all of the tests have to hold.
    fn matching(&self, what: &'n Node<'n>, table: (&'n str, &'n str)) -> Vec<Test> {
        let unknown = |why: &str| vec![Test::Any(vec![Condition::unknown(why)])];
        let (Some(left), Some(right)) = (get(what, "left"), get(what, "right")) else {
            return unknown("a match");
        };
        let left = self.left(left);
        let op = text_at(what, "op").unwrap_or("==");
        // Flags without a set are all of them together, however they are joined.
        let together = matches!(left, Left::Flags(_))
            && get(right, "set").is_none()
            && !matches!(text(right), Some(name) if name.starts_with('@'));
        let values = match if together {
            Ok(vec![right])
        } else {
            self.elements(right, table)
        } {
            Ok(values) => values,
            Err(why) => return vec![Test::Any(restricted(&left, Condition::unknown(why)))],
        };
        if let Left::Flags(mask) = left {
            return flag_test(mask, op, &values).unwrap_or_else(|| {
                let tcp = Condition::of_services(service::whole(service::TCP));
                vec![Test::Any(vec![
                    tcp.and(&Condition::unknown("flags of TCP")),
                ])]
            });
        }
        match op {
            "==" | "in" => self.equal(&left, &values, table),
            "!=" => self
                .equal(&left, &values, table)
                .into_iter()
                .map(|test| negated(test, &left))
                .collect(),
            "<" | ">" | "<=" | ">=" => {
                let number = values
                    .first()
                    .and_then(|value| text(value))
                    .and_then(|text| text.parse::<u128>().ok());
                let Some(number) = number else {
                    return unknown("a comparison");
                };
                let range = match op {
                    "<" => number
                        .checked_sub(1)
                        .map_or(Intervals::empty(), |last| Intervals::span(0, last)),
                    "<=" => Intervals::span(0, number),
                    ">" => Intervals::span(number + 1, u128::from(u32::MAX)),
                    _ => Intervals::span(number, u128::from(u32::MAX)),
                };
                match scalar(&left, &range) {
                    Some(found) => vec![Test::Any(found)],
                    None => vec![Test::Any(restricted(
                        &left,
                        Condition::unknown("a comparison"),
                    ))],
                }
            }
            other => unknown(&format!("the operator {other}")),
        }
    }

    /// The words of values, also of those in a set.
    fn words(&self, values: &[&'n Node<'n>], table: (&'n str, &'n str)) -> Option<Vec<&'n str>> {
        let mut found = Vec::new();
        for value in values {
            let value = element(value);
            match word(value) {
                Some(word) => found.push(word),
                None => found.extend(
                    self.elements(value, table)
                        .ok()?
                        .into_iter()
                        .filter_map(|one| text(element(one))),
                ),
            }
        }
        Some(found)
    }

    /// That a part is one of some values.
    fn equal(&self, left: &Left, values: &[&'n Node<'n>], table: (&'n str, &'n str)) -> Vec<Test> {
        match left {
            Left::State | Left::Direction => {
                let mut names = Vec::new();
                for value in values {
                    match self.elements(value, table) {
                        Ok(inner) => names.extend(inner.into_iter().filter_map(text)),
                        Err(why) => return vec![Test::Any(vec![Condition::unknown(why)])],
                    }
                }
                let both = names.contains(&"original") && names.contains(&"reply");
                vec![match left {
                    Left::State => Test::State(ByState::one_of(&names)),
                    _ if both => Test::Any(vec![Condition::all()]),
                    _ => Test::State(ByState::direction(names.contains(&"original"))),
                }]
            }
            Left::Mark(of, bits) => {
                let mut known = Vec::new();
                for value in values.iter().flat_map(|value| {
                    get(value, "set").map_or_else(|| vec![*value], |set| list(set).iter().collect())
                }) {
                    let value = element(value);
                    let ends = match get(value, "range").map(list) {
                        Some([first, last]) => number(first).zip(number(last)),
                        _ => number(value).map(|one| (one, one)),
                    };
                    let Some(ends) = ends else {
                        return vec![Test::Any(vec![Condition::unknown("a mark")])];
                    };
                    known.push(ends);
                }
                vec![Test::Mark {
                    of: *of,
                    bits: *bits,
                    values: known,
                    negated: false,
                }]
            }
            Left::Status => match self.words(values, table).as_deref() {
                Some(["dnat"]) => vec![Test::Translated {
                    source: false,
                    negated: false,
                }],
                Some(["snat"]) => vec![Test::Translated {
                    source: true,
                    negated: false,
                }],
                _ => vec![Test::Any(vec![Condition::unknown(
                    "the status of the connection",
                )])],
            },
            Left::PacketType => {
                let words = self.words(values, table);
                let found = words.and_then(|words| of_packet_types(&words, self.facts));
                let one = found.map(|destination| Condition {
                    destination,
                    ..Condition::all()
                });
                vec![Test::Any(vec![
                    one.unwrap_or_else(|| Condition::unknown("meta pkttype")),
                ])]
            }
            Left::Fib(what) => {
                let words = self.words(values, table).unwrap_or_default();
                vec![Test::Any(by_routes(
                    *what,
                    &words,
                    self.facts,
                    &self.rules.devices,
                ))]
            }
            Left::Header { field } => {
                let is = |value: &&Node<'_>| matches!(word(value), Some("false" | "0"));
                let holds = !field && values.iter().any(is);
                vec![Test::Any(if holds {
                    vec![Condition::all()]
                } else {
                    Vec::new()
                })]
            }
            Left::Hops(family) => {
                let all = Condition::of_family(*family)
                    .and(&Condition::unknown("how many hops are left"));
                // What is passed on has lost one of them.
                let most = values.iter().all(|value| number(value) == Some(255));
                let one_end = |from: Intervals, to: Intervals| Condition {
                    from,
                    to,
                    ..Condition::all()
                };
                let any = || Devices::any().union(&Devices::none());
                let ends = [
                    one_end(Devices::none(), any()),
                    one_end(Devices::any(), Devices::none()),
                ];
                vec![Test::Any(if most {
                    ends.iter().map(|end| end.and(&all)).collect()
                } else {
                    vec![all]
                })]
            }
            Left::Zero => {
                let holds = values.iter().any(|value| number(value) == Some(0));
                vec![Test::Any(if holds {
                    vec![Condition::of_family(Family::V4)]
                } else {
                    Vec::new()
                })]
            }
            Left::Flags(mask) => flag_test(*mask, "==", values).unwrap_or_else(|| {
                vec![Test::Any(restricted(
                    left,
                    Condition::unknown("flags of TCP"),
                ))]
            }),
            Left::Unknown(why, at_most) => {
                vec![Test::Any(vec![at_most.and(&Condition::unknown(why))])]
            }
            Left::Concat(parts) => {
                let mut pieces = Vec::new();
                for value in values {
                    let value = element(value);
                    let Some(inner) = get(value, "concat")
                        .map(list)
                        .filter(|inner| inner.len() == parts.len())
                    else {
                        pieces.push(Condition::unknown("a set of several parts"));
                        continue;
                    };
                    let mut found = vec![Condition::all()];
                    for (part, value) in parts.iter().zip(inner) {
                        for test in self.equal(part, &[value], table) {
                            let more = match test {
                                Test::Any(more) => more,
                                Test::State(_) => vec![Condition::unknown(
                                    "the state of the connection, in a set",
                                )],
                                Test::Mark { .. } => vec![Condition::unknown("a mark, in a set")],
                                Test::Translated { .. } => {
                                    vec![Condition::unknown(
                                        "the status of the connection, in a set",
                                    )]
                                }
                            };
                            found = found
                                .iter()
                                .flat_map(|a| more.iter().map(|b| a.and(b)))
                                .collect();
                        }
                    }
                    pieces.extend(found.into_iter().filter(|one| !one.is_empty()));
                }
                vec![Test::Any(pieces)]
            }
            Left::From | Left::To => {
                let (mut surely, mut perhaps) = (Intervals::empty(), Intervals::empty());
                for value in values {
                    match text(element(value)) {
                        Some("*") => surely = Devices::any(),
                        Some(name) => {
                            let found = self.rules.devices.matching(name);
                            surely = surely.union(&found.surely);
                            perhaps = perhaps.union(&found.perhaps);
                        }
                        None => perhaps = Devices::any(),
                    }
                }
                let at = |devices: Intervals| {
                    let mut found = Condition::all();
                    *(if matches!(left, Left::From) {
                        &mut found.from
                    } else {
                        &mut found.to
                    }) = devices;
                    found
                };
                let perhaps = perhaps.difference(&surely);
                let perhaps =
                    at(perhaps).and(&Condition::unknown("interfaces by a part of their name"));
                let pieces = [at(surely), perhaps]
                    .into_iter()
                    .filter(|one| !one.is_empty());
                vec![Test::Any(pieces.collect())]
            }
            _ => {
                let (mut found, mut unknown) = (Vec::new(), Vec::new());
                for value in values {
                    match spans(left, element(value)) {
                        Some(some) => found.extend(some),
                        None => unknown.push(Condition::unknown("a value that is not understood")),
                    }
                }
                let mut pieces = scalar(left, &Intervals::from_spans(found)).unwrap_or_default();
                pieces.extend(unknown.into_iter().flat_map(|one| restricted(left, one)));
                vec![Test::Any(pieces)]
            }
        }
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

/// A text, a number, true or false.
fn word<'n>(node: &'n Node<'n>) -> Option<&'n str> {
    match &node.value {
        Value::Scalar(Scalar::Text | Scalar::Number | Scalar::Bool, text) => Some(text),
        _ => None,
    }
}

/// The number of a text in decimal or hexadecimal.
fn number(node: &Node<'_>) -> Option<u32> {
    let word = text(node)?;
    word.parse()
        .ok()
        .or_else(|| u32::from_str_radix(word.strip_prefix("0x")?, 16).ok())
}

/// Whether an expression is the part of IPv4's header about fragments.
fn is_fragment(node: &Node<'_>) -> bool {
    get(node, "payload").is_some_and(|part| {
        text_at(part, "protocol") == Some("ip") && text_at(part, "field") == Some("frag-off")
    })
}

/// Which mark an expression is.
fn mark_of(node: &Node<'_>) -> Option<Marked> {
    let is = |kind: &str| get(node, kind).and_then(|body| text_at(body, "key")) == Some("mark");
    if is("meta") {
        return Some(Marked::Packet);
    }
    is("ct").then_some(Marked::Connection)
}

/// How a mark becomes a value: a number, the other mark, or the same mark with some bits changed.
fn change(of: Marked, value: &Node<'_>) -> Change {
    if let Some(value) = number(value) {
        return Change::Set {
            bits: u32::MAX,
            value,
        };
    }
    let other = |node: &Node<'_>| mark_of(node).is_some_and(|found| found != of);
    if other(value) {
        return Change::Other { bits: u32::MAX };
    }
    let pair = |sign: &str, node: &Node<'_>| match get(node, sign).map(list) {
        Some([one, two]) => number(two).map(|number| (mark_of(one), number)),
        _ => None,
    };
    if let Some((Some(found), kept)) = pair("&", value) {
        if found == of {
            return Change::Set {
                bits: !kept,
                value: 0,
            };
        }
        // What is not kept of the other mark is nothing.
        return Change::Unknown { bits: u32::MAX };
    }
    if let Some((Some(found), more)) = pair("|", value)
        && found == of
    {
        return Change::Set {
            bits: more,
            value: more,
        };
    }
    // The mark without some bits, and others in their place.
    for sign in ["|", "^"] {
        if let Some([inner, more]) = get(value, sign).map(list)
            && let (Some((Some(found), kept)), Some(more)) = (pair("&", inner), number(more))
            && found == of
            && more & kept == 0
        {
            return Change::Set {
                bits: !kept,
                value: more,
            };
        }
    }
    Change::Unknown { bits: u32::MAX }
}

/// What is changed of a packet: marks, or what no rule asks that is understood; an address or a port is not understood.
fn mangled(what: &Node<'_>) -> Result<Option<Effect>, String> {
    let (Some(key), Some(value)) = (get(what, "key"), get(what, "value")) else {
        return Err("`mangle` without its parts".to_owned());
    };
    if let Some(of) = mark_of(key) {
        return Ok(Some(Effect::Mark(of, change(of, value))));
    }
    const ENDS: [&str; 6] = ["saddr", "daddr", "sport", "dport", "protocol", "nexthdr"];
    match get(key, "payload") {
        Some(part) if !matches!(text_at(part, "field"), Some(field) if !ENDS.contains(&field)) => {
            Err("a change of addresses or ports without translation".to_owned())
        }
        _ => Ok(None),
    }
}

fn translation(word: &str, addr: Option<&Node<'_>>, port: Option<&Node<'_>>) -> Outcome {
    let unclear = || Outcome::Unclear(format!("`{word}` to more than one address or port"));
    let to = match addr {
        None => None,
        Some(address) => match text(address).and_then(|text| text.parse::<IpAddr>().ok()) {
            Some(address) => Some(address),
            None => return unclear(),
        },
    };
    let port = match port {
        None => None,
        Some(port) => match text(port).and_then(|text| text.parse::<u16>().ok()) {
            Some(port) => Some(port),
            None => return unclear(),
        },
    };
    match word {
        // To this machine itself.
        "redirect" => Outcome::Unclear("a redirection to the machine itself".to_owned()),
        "masquerade" | "snat" => Outcome::Translate(Translation {
            to,
            port: None,
            source: true,
        }),
        _ => Outcome::Translate(Translation {
            to,
            port,
            source: false,
        }),
    }
}
