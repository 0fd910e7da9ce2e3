//! What a match of nftables means.

use super::*;

impl<'n> Reader<'n> {
    /// What a match asks for; all of the tests have to hold.
    pub(super) fn matching(&self, what: &'n Node<'n>, table: (&'n str, &'n str)) -> Vec<Test> {
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
    pub(super) fn words(
        &self,
        values: &[&'n Node<'n>],
        table: (&'n str, &'n str),
    ) -> Option<Vec<&'n str>> {
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
    pub(super) fn equal(
        &self,
        left: &Left,
        values: &[&'n Node<'n>],
        table: (&'n str, &'n str),
    ) -> Vec<Test> {
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

/// Whether an expression is the part of IPv4's header about fragments.
pub(super) fn is_fragment(node: &Node<'_>) -> bool {
    get(node, "payload").is_some_and(|part| {
        text_at(part, "protocol") == Some("ip") && text_at(part, "field") == Some("frag-off")
    })
}

/// The number of a text in decimal or hexadecimal.
pub(super) fn number(node: &Node<'_>) -> Option<u32> {
    let word = text(node)?;
    word.parse()
        .ok()
        .or_else(|| u32::from_str_radix(word.strip_prefix("0x")?, 16).ok())
}

/// A text, a number, true or false.
pub(super) fn word<'n>(node: &'n Node<'n>) -> Option<&'n str> {
    match &node.value {
        Value::Scalar(Scalar::Text | Scalar::Number | Scalar::Bool, text) => Some(text),
        _ => None,
    }
}
