//! `nft -j list ruleset`: the rule set of nftables in JSON, as libnftables-json(5) describes it.

use super::Source;
use super::chains::{Base, ByState, Chain, Hook, Line, Outcome, Rules, Test, Translation};
use super::parts::{Left, element, flag_test, flags, negated, payload, restricted, scalar, spans};
use crate::open::condition::{Condition, Devices, minus};
use crate::open::rules::{Label, NotUnderstood};
use crate::tree::{Node, Scalar, Value, get, list, text, text_at};
use heronshale_core::address::Family;
use heronshale_core::model::Action;
use heronshale_core::packet::{Intervals, service};
use rustc_hash::FxHashMap;
use std::net::IpAddr;
use std::rc::Rc;

/// A set or map by its name: its elements, or why they are not known.
type Named<'n> = FxHashMap<(&'n str, &'n str, &'n str), Result<Vec<&'n Node<'n>>, String>>;

struct Reader<'n> {
    source: usize,
    named: Named<'n>,
    chains: FxHashMap<(&'n str, &'n str, &'n str), usize>,
    rules: Rules,
    not_understood: Vec<NotUnderstood>,
}

/// The only field of an object, for `{"match": …}`.
fn only<'n>(node: &'n Node<'n>) -> Option<(&'n str, &'n Node<'n>)> {
    let Value::Map(fields) = &node.value else { return None };
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
        Value::Map(fields) => fields.iter().for_each(|(_, value)| device_names(value, names)),
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
    saved: &[Family],
) -> (Rules, Vec<NotUnderstood>) {
    let mut names = Vec::new();
    let objects = get(root, "nftables").map_or(&[][..], list);
    let told = |object: &Node<'_>| {
        let Some((kind, body)) = only(object) else { return false };
        let table = text_at(body, if kind == "table" { "name" } else { "table" });
        let family = match text_at(body, "family") {
            Some("ip") => Family::V4,
            Some("ip6") => Family::V6,
            _ => return false,
        };
        saved.contains(&family) && matches!(table, Some("filter" | "nat" | "mangle" | "raw" | "security"))
    };
    let objects: Vec<&Node<'_>> = objects.iter().filter(|object| !told(object)).collect();
    let objects = objects.as_slice();
    for object in objects {
        let Some((kind, body)) = only(object) else { continue };
        let of_devices = |kinds: &Node<'_>| {
            list(kinds).iter().filter_map(text).any(|kind| kind.starts_with("ifname") || kind.starts_with("iface"))
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
        named: FxHashMap::default(),
        chains: FxHashMap::default(),
        rules: Rules { devices: Devices::new(names), ..Rules::default() },
        not_understood: Vec::new(),
    };
    reader.tables(objects);
    (reader.rules, reader.not_understood)
}

impl<'n> Reader<'n> {
    fn tables(&mut self, objects: &[&'n Node<'n>]) {
        let mut asleep = Vec::new();
        for object in objects {
            let Some((kind, body)) = only(object) else { continue };
            let key =
                |name| (text_at(body, "family").unwrap_or_default(), text_at(body, "table").unwrap_or_default(), name);
            let name = text_at(body, "name").unwrap_or_default();
            match kind {
                "table" => {
                    let dormant = |flags: &Node<'_>| list(flags).iter().any(|one| text(one) == Some("dormant"));
                    let sleeps = get(body, "flags").is_some_and(dormant);
                    asleep.extend(sleeps.then(|| (text_at(body, "family").unwrap_or_default(), name)));
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
                    if get(body, "hook").is_some() && !asleep.contains(&(family, table)) && family != "arp" {
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

    fn base(&mut self, body: &'n Node<'n>, chain: usize, family: &str, name: &str) {
        let label = Label { id: format!("{name}/policy"), at: (self.source, body.span.start), comment: None };
        let hook = match text_at(body, "hook") {
            Some("prerouting" | "ingress") => Hook::Prerouting,
            Some("input") => Hook::Input,
            Some("forward") => Hook::Forward,
            Some("output") => Hook::Output,
            _ => Hook::Postrouting,
        };
        let beneath = matches!(family, "netdev" | "bridge") || text_at(body, "hook") == Some("ingress");
        let priority = text_at(body, "prio").and_then(|text| text.parse::<i64>().ok()).unwrap_or_default();
        let mut only = match family {
            "ip" => Some(Condition::of_family(Family::V4)),
            "ip6" => Some(Condition::of_family(Family::V6)),
            _ => None,
        };
        if let Some(device) = get(body, "dev").filter(|_| beneath) {
            let devices = list(device).iter().filter_map(text).map(|name| self.rules.devices.one(Some(name)));
            let devices = devices.fold(Intervals::empty(), |sum, one| sum.union(&one));
            let outgoing = hook == Hook::Postrouting;
            let mut there = Condition::all();
            *(if outgoing { &mut there.to } else { &mut there.from }) = devices;
            only = Some(there);
        }
        let policy = if text_at(body, "policy") == Some("drop") { Action::Deny } else { Action::Allow };
        let base = Base {
            hook,
            chain,
            priority: if beneath { priority - (1 << 40) } else { priority },
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
        let Some(chain) = self.chains.get(&(family, table, name)).copied() else { return };
        let place = text_at(body, "handle")
            .map_or_else(|| (self.rules.chains[chain].lines.len() + 1).to_string(), str::to_owned);
        let label = Rc::new(Label {
            id: format!("{name}/{place}"),
            at: (self.source, body.span.start),
            comment: text_at(body, "comment").map(str::to_owned),
        });
        let mut tests: Vec<Test> = Vec::new();
        let mut lines: Vec<Line> = Vec::new();
        let line = |tests: &[Test], outcome| Line { tests: tests.to_vec(), outcome, label: label.clone() };
        let mut whys: Vec<String> = Vec::new();
        if matches!(family, "netdev" | "bridge") {
            whys.push(format!("rules of {family} tables"));
            lines.push(line(&tests, Outcome::Unclear(format!("a rule of a {family} table"))));
        }
        for statement in get(body, "expr").map_or(&[][..], list) {
            if !lines.is_empty() {
                break;
            }
            let Some((word, what)) = only(statement) else {
                whys.push("a statement without a name".to_owned());
                lines.push(line(&tests, Outcome::Unclear("a statement that is not understood".to_owned())));
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
                    let (found, why) = self.verdict_map(what, (family, table), &tests, &label);
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
                        lines.push(line(&tests, Outcome::Unclear("a chain that is not in the export".to_owned())));
                    }
                },
                // Looked at, counted or marked, and passed on.
                "counter" | "log" | "comment" | "last" | "ct helper" | "ct timeout" | "ct expectation" | "secmark"
                | "flow" | "dup" => {}
                "mangle" if get(what, "key").is_some_and(marks) => {}
                "set" if get(what, "stmt").is_none() => {}
                "limit" | "quota" | "ct count" | "meter" | "set" => {
                    let why = format!("how much there is of it ({word})");
                    whys.push(why.clone());
                    tests.push(Test::Any(vec![Condition::unknown(why)]));
                }
                "masquerade" | "snat" | "dnat" | "redirect" => {
                    let outcome = translation(word, what);
                    if let Outcome::Unclear(why) = &outcome {
                        whys.push(why.clone());
                    }
                    lines.push(line(&tests, outcome));
                }
                other => {
                    let why = format!("`{other}` is not understood");
                    whys.push(why.clone());
                    lines.push(line(&tests, Outcome::Unclear(why)));
                }
            }
        }
        for why in whys {
            self.not_understood.push(NotUnderstood { rule: label.id.clone(), why, at: label.at });
        }
        self.rules.chains[chain].lines.extend(lines);
    }

    fn verdict_map(
        &self,
        what: &'n Node<'n>,
        table: (&'n str, &'n str),
        before: &[Test],
        label: &Rc<Label>,
    ) -> (Vec<Line>, Vec<String>) {
        let line = |tests: Vec<Test>, outcome| Line {
            tests: before.iter().cloned().chain(tests).collect(),
            outcome,
            label: label.clone(),
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
            let [key, verdict] = list(element) else { return unclear("an element of a verdict map".to_owned()) };
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
                        (None, _) => Outcome::Unclear("a chain that is not in the export".to_owned()),
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
    fn elements(&self, node: &'n Node<'n>, table: (&'n str, &'n str)) -> Result<Vec<&'n Node<'n>>, String> {
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
        let Some((kind, body)) = only(node) else { return anything("an expression".to_owned()) };
        match kind {
            "concat" => Left::Concat(list(body).iter().map(|one| self.left(one)).collect()),
            "meta" => match text_at(body, "key") {
                Some("iif" | "iifname") => Left::From,
                Some("oif" | "oifname") => Left::To,
                Some("l4proto") => Left::Protocol(None),
                Some("nfproto" | "protocol") => Left::Family,
                other => anything(format!("meta {}", other.unwrap_or_default())),
            },
            "ct" => match text_at(body, "key") {
                Some("state") => Left::State,
                Some("direction") => Left::Direction,
                other => anything(format!("ct {}", other.unwrap_or_default())),
            },
            "&" => match (list(body), list(body).first().map(|inner| self.left(inner))) {
                ([_, mask], Some(Left::Flags(all))) => match flags(mask) {
                    Some(mask) => Left::Flags(all & mask),
                    None => anything("flags of TCP".to_owned()),
                },
                _ => anything("bits of a field".to_owned()),
            },
            "payload" => {
                let (of, field) =
                    (text_at(body, "protocol").unwrap_or_default(), text_at(body, "field").unwrap_or_default());
                payload(of, field)
            }
            other => anything(format!("`{other}`")),
        }
    }

    /// What a match asks for; all of the tests have to hold.
    fn matching(&self, what: &'n Node<'n>, table: (&'n str, &'n str)) -> Vec<Test> {
        let unknown = |why: &str| vec![Test::Any(vec![Condition::unknown(why)])];
        let (Some(left), Some(right)) = (get(what, "left"), get(what, "right")) else { return unknown("a match") };
        let left = self.left(left);
        let op = text_at(what, "op").unwrap_or("==");
        let values = match self.elements(right, table) {
            Ok(values) => values,
            Err(why) => return vec![Test::Any(restricted(&left, Condition::unknown(why)))],
        };
        if let Left::Flags(mask) = left {
            return flag_test(mask, op, &values).unwrap_or_else(|| {
                let tcp = Condition::of_services(service::whole(service::TCP));
                vec![Test::Any(vec![tcp.and(&Condition::unknown("flags of TCP"))])]
            });
        }
        match op {
            "==" | "in" => self.equal(&left, &values, table),
            "!=" => self.equal(&left, &values, table).into_iter().map(|test| negated(test, &left)).collect(),
            "<" | ">" | "<=" | ">=" => {
                let number = values.first().and_then(|value| text(value)).and_then(|text| text.parse::<u128>().ok());
                let Some(number) = number else { return unknown("a comparison") };
                let range = match op {
                    "<" => number.checked_sub(1).map_or(Intervals::empty(), |last| Intervals::span(0, last)),
                    "<=" => Intervals::span(0, number),
                    ">" => Intervals::span(number + 1, u128::from(u32::MAX)),
                    _ => Intervals::span(number, u128::from(u32::MAX)),
                };
                match scalar(&left, &range) {
                    Some(found) => vec![Test::Any(found)],
                    None => vec![Test::Any(restricted(&left, Condition::unknown("a comparison")))],
                }
            }
            other => unknown(&format!("the operator {other}")),
        }
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
            Left::Flags(mask) => flag_test(*mask, "==", values)
                .unwrap_or_else(|| vec![Test::Any(restricted(left, Condition::unknown("flags of TCP")))]),
            Left::Unknown(why, at_most) => vec![Test::Any(vec![at_most.and(&Condition::unknown(why))])],
            Left::Concat(parts) => {
                let mut pieces = Vec::new();
                for value in values {
                    let value = element(value);
                    let Some(inner) = get(value, "concat").map(list).filter(|inner| inner.len() == parts.len()) else {
                        pieces.push(Condition::unknown("a set of several parts"));
                        continue;
                    };
                    let mut found = vec![Condition::all()];
                    for (part, value) in parts.iter().zip(inner) {
                        for test in self.equal(part, &[value], table) {
                            let more = match test {
                                Test::Any(more) => more,
                                Test::State(_) => vec![Condition::unknown("the state of the connection, in a set")],
                            };
                            found = found.iter().flat_map(|a| more.iter().map(|b| a.and(b))).collect();
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
                    *(if matches!(left, Left::From) { &mut found.from } else { &mut found.to }) = devices;
                    found
                };
                let perhaps = perhaps.difference(&surely);
                let perhaps = at(perhaps).and(&Condition::unknown("interfaces by a part of their name"));
                let pieces = [at(surely), perhaps].into_iter().filter(|one| !one.is_empty());
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
            whys.extend(pieces.iter().flat_map(|piece| piece.unknown.iter().cloned()));
        }
    }
    whys.dedup();
}

/// The elements of a named set or map, if they stand still.
fn elements<'n>(body: &'n Node<'n>) -> Result<Vec<&'n Node<'n>>, String> {
    let name = text_at(body, "name").unwrap_or_default();
    let moving = |flag: &Node<'_>| matches!(text(flag), Some("dynamic" | "timeout"));
    if get(body, "flags").is_some_and(|flags| list(flags).iter().any(moving)) || get(body, "timeout").is_some() {
        return Err(format!("the set {name} changes by itself"));
    }
    Ok(get(body, "elem").map_or(&[][..], list).iter().collect())
}

/// Whether only marks are set, at which no stage looks that is understood.
fn marks(key: &Node<'_>) -> bool {
    let key = get(key, "meta").or_else(|| get(key, "ct"));
    matches!(key.and_then(|key| text_at(key, "key")), Some("mark" | "priority" | "nftrace" | "secmark" | "label"))
}

fn translation(word: &str, what: &Node<'_>) -> Outcome {
    let unclear = || Outcome::Unclear(format!("`{word}` to more than one address or port"));
    let to = match get(what, "addr") {
        None => None,
        Some(address) => match text(address).and_then(|text| text.parse::<IpAddr>().ok()) {
            Some(address) => Some(address),
            None => return unclear(),
        },
    };
    let port = match get(what, "port") {
        None => None,
        Some(port) => match text(port).and_then(|text| text.parse::<u16>().ok()) {
            Some(port) => Some(port),
            None => return unclear(),
        },
    };
    match word {
        // To this machine itself.
        "redirect" => Outcome::Unclear("a redirection to the machine itself".to_owned()),
        "masquerade" | "snat" => Outcome::Translate(Translation { to, port: None }),
        _ => Outcome::Translate(Translation { to, port }),
    }
}
