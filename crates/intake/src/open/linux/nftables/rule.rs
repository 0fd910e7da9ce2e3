//! One rule of nftables: its statements, translations, verdict maps.

use super::*;

impl<'n> Reader<'n> {
    pub(super) fn rule(&mut self, body: &'n Node<'n>) {
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
    pub(super) fn translations(
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

    pub(super) fn verdict_map(
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
    pub(super) fn elements(
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

    pub(super) fn left(&self, node: &'n Node<'n>) -> Left {
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
}

/// Which mark an expression is.
pub(super) fn mark_of(node: &Node<'_>) -> Option<Marked> {
    let is = |kind: &str| get(node, kind).and_then(|body| text_at(body, "key")) == Some("mark");
    if is("meta") {
        return Some(Marked::Packet);
    }
    is("ct").then_some(Marked::Connection)
}

/// How a mark becomes a value: a number, the other mark, or the same mark with some bits changed.
pub(super) fn change(of: Marked, value: &Node<'_>) -> Change {
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
pub(super) fn mangled(what: &Node<'_>) -> Result<Option<Effect>, String> {
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

pub(super) fn translation(word: &str, addr: Option<&Node<'_>>, port: Option<&Node<'_>>) -> Outcome {
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
