//! How rules are read: which are inbound, what they decide, and about whom.

mod peers;

use super::naming::with;
use peers::nodes;
pub(super) use peers::{filtered, quoted_literal};

use super::Drafting;
use super::asked::Question;
use super::fields::RuleFields;
use super::links::Link;
use super::shape::{Field, Record};
use super::traffic::ports_of;
use super::values::{self, Kind, Meaning};
use serde_json::{Map, Value as Json, json};
use std::collections::BTreeSet;

/// How the rules of a group, of a list, or of its rows are read.
#[derive(Default)]
pub(super) struct RulesDraft {
    pub inbound: Vec<Json>,
    pub outbound: Vec<Json>,
    /// Whether some of them deny.
    pub denies: bool,
    /// What is not known of them: then what they say is a gap.
    pub unclear: Vec<String>,
}

/// Where the rules of an object stand.
pub(super) enum Where {
    /// In the object: the path from it.
    Inside(String),
    /// In a list of their own: how they are found, with `{filter}` where a condition stands.
    Joined(Json),
    /// They are the rows of the object.
    Rows,
}

/// Rules of one direction.
struct Way {
    inbound: bool,
    /// Whether anybody knows that.
    known: bool,
    /// The condition that tells them apart; none if they are all of their list.
    condition: Option<String>,
    /// The field of that condition, and its words.
    words: Option<(usize, Vec<String>)>,
}

impl Way {
    /// All rules of a list.
    fn all(inbound: bool) -> Self {
        Self {
            inbound,
            known: true,
            condition: None,
            words: None,
        }
    }
}

/// Most words about which a question is asked, each by itself.
const MOST_WORDS: usize = 12;

impl Drafting<'_> {
    /// Whether a list has rules that deny, as far as that is known.
    pub(super) fn denies(&mut self, at: usize, owner: Option<usize>) -> bool {
        let fields = RuleFields::of(at, self.lists, &self.links, owner);
        let actions = self.words(
            at,
            fields.action,
            "action",
            values::action,
            &["allow", "deny", "reject"],
        );
        actions.is_some_and(|actions| actions.iter().any(|(_, means)| means != "allow"))
    }

    /// How the rules of a list are read, wherever they stand.
    pub(super) fn rules(
        &mut self,
        at: usize,
        owner: Option<usize>,
        stand: &Where,
        into: &mut RulesDraft,
    ) {
        let fields = RuleFields::of(at, self.lists, &self.links, owner);
        let actions = self.words(
            at,
            fields.action,
            "action",
            values::action,
            &["allow", "deny", "reject"],
        );
        if actions.is_none() {
            into.unclear.push(format!(
                "what the rules of {} decide",
                self.lists[at].place()
            ));
        }
        if !self.all_is_read(at, &fields, owner) {
            into.unclear.push(format!(
                "what else the rules of {} say",
                self.lists[at].place()
            ));
        }
        for way in self.ways(at, &fields, into) {
            // What else is to be asked is asked at once.
            let made = self.rule(
                at,
                &fields,
                &way,
                actions.as_deref().unwrap_or_default(),
                into.denies,
            );
            match made {
                None => into.unclear.push(format!(
                    "what the rules of {} are about",
                    self.lists[at].place()
                )),
                Some(rule) if actions.is_some() && way.known => {
                    let each = nodes(stand, way.condition.as_deref());
                    let made = json!({ "each": each, "fields": rule });
                    if way.inbound {
                        into.inbound.push(made)
                    } else {
                        into.outbound.push(made)
                    }
                }
                Some(_) => {}
            }
        }
        into.unclear.dedup();
    }

    /// The ways of rules, each with the condition that tells them apart.
    fn ways(&mut self, at: usize, fields: &RuleFields, into: &mut RulesDraft) -> Vec<Way> {
        let list = &self.lists[at];
        let Some(direction) = fields.direction else {
            let Some(ways) = self.way_of_all(at) else {
                into.unclear
                    .push(format!("whether the rules of {} are inbound", list.place()));
                return vec![Way {
                    known: false,
                    ..Way::all(true)
                }];
            };
            return ways;
        };
        let path = list.fields[direction].path.clone();
        let plain = matches!(
            list.fields[direction].traits.kind,
            Kind::Numbers | Kind::Flag
        );
        let words = self.words(
            at,
            Some(direction),
            "direction",
            values::direction,
            &["inbound", "outbound", "both"],
        );
        let Some(words) = words else {
            into.unclear.push(format!(
                "which rules of {} are inbound",
                self.lists[at].place()
            ));
            return vec![Way {
                known: false,
                ..Way::all(true)
            }];
        };
        // A condition leaves out rules that do not say it, and those that were not looked at.
        let list = &self.lists[at];
        if list.fields[direction].holders < list.count {
            into.unclear
                .push(format!("the direction of some rules of {}", list.place()));
        }
        let way = |inbound: bool| {
            let means = if inbound { "inbound" } else { "outbound" };
            let is_mine = |other: &str| other == means || other == "both";
            let mine: Vec<String> = { words.iter() }
                .filter(|(_, other)| is_mine(other))
                .map(|(word, _)| word.clone())
                .collect();
            let literal = |word: &String| {
                if plain {
                    word.clone()
                } else {
                    quoted_literal(word)
                }
            };
            let all: Vec<String> = mine
                .iter()
                .map(|word| format!("@{} == {}", &path[1..], literal(word)))
                .collect();
            Way {
                inbound,
                known: true,
                condition: Some(all.join(" || ")),
                words: Some((direction, mine)),
            }
        };
        [way(true), way(false)]
            .into_iter()
            .filter(|way| way.condition.as_deref() != Some(""))
            .collect()
    }

    /// The ways of rules that do not say it themselves: by the name of their list, or as people say.
    fn way_of_all(&mut self, at: usize) -> Option<Vec<Way>> {
        let list = &self.lists[at];
        if let Some(means) = values::direction_of_path(&list.path) {
            return Some(vec![Way::all(means == "inbound")]);
        }
        let answer = self.asker.ask(Question {
            about: format!("{} direction", list.place()),
            ask: format!(
                "Nothing in the rules of {} tells a direction. Which rules are they?",
                list.place()
            ),
            seen: format!("{} rules", list.count),
            choices: ["inbound", "outbound", "both"].map(str::to_owned).to_vec(),
            guess: Some("inbound".to_owned()),
            otherwise: "the rules count as missing".to_owned(),
            answer: None,
        })?;
        Some(match answer.as_str() {
            "inbound" => vec![Way::all(true)],
            "outbound" => vec![Way::all(false)],
            _ => vec![Way::all(true), Way::all(false)],
        })
    }

    /// What each word of a field means, if that is known of all.
    fn words(
        &mut self,
        at: usize,
        field: Option<usize>,
        what: &str,
        means: fn(&str) -> Option<Meaning>,
        choices: &[&str],
    ) -> Option<Vec<(String, String)>> {
        let Some(field) = field else {
            return Some(Vec::new());
        };
        let list = &self.lists[at];
        let it = &list.fields[field];
        let denies = it.traits.kind == Kind::Flag && it.is_called(&["deny", "drop", "block"]);
        let sends = it.is_called(&["out", "egress", "sen"]);
        let mut words = Vec::new();
        let mut whole = it.values.len() <= MOST_WORDS;
        for (word, count) in it.values.iter().take(MOST_WORDS) {
            let flag = (it.traits.kind == Kind::Flag).then(|| match what {
                "action" => (
                    if (word == "true") != denies {
                        "allow"
                    } else {
                        "deny"
                    },
                    true,
                ),
                _ => (
                    if (word == "true") != sends {
                        "inbound"
                    } else {
                        "outbound"
                    },
                    true,
                ),
            });
            let known = flag.or_else(|| means(word));
            if let Some((means, true)) = known {
                words.push((word.clone(), means.to_owned()));
                continue;
            }
            let answer = self.asker.ask(Question {
                about: format!("{} {} {word:?}", list.place(), it.path),
                ask: format!(
                    "What does {word:?} mean as the {what} of a rule, in {} of {}?",
                    it.path,
                    list.place()
                ),
                seen: format!(
                    "{count} of {} rules; all words are {}",
                    list.count,
                    it.shown()
                ),
                choices: choices.iter().map(|one| (*one).to_owned()).collect(),
                guess: known.map(|(means, _)| means.to_owned()),
                otherwise: "the rules count as missing".to_owned(),
                answer: None,
            });
            whole &= answer.is_some();
            words.extend(answer.map(|means| (word.clone(), means)));
        }
        whole.then_some(words)
    }

    /// The fields of a rule of one way.
    fn rule(
        &mut self,
        at: usize,
        fields: &RuleFields,
        way: &Way,
        actions: &[(String, String)],
        ordered: bool,
    ) -> Option<Json> {
        let list = &self.lists[at];
        let mut rule = Map::new();
        let unique = list
            .keys()
            .map(|(_, field)| field)
            .find(|field| field.is_called(&["name", "label", "id", "ref"]));
        rule.extend(unique.map(|field| ("id".to_owned(), field.value())));
        let (peers, local) = if way.inbound {
            (
                [&fields.sources[..], &fields.peers].concat(),
                &fields.destinations,
            )
        } else {
            (
                [&fields.destinations[..], &fields.peers].concat(),
                &fields.sources,
            )
        };
        let action = fields
            .action
            .filter(|_| ordered)
            .map(|action| self.action(at, action, actions));
        let priority = fields
            .priority
            .filter(|_| ordered)
            .map(|priority| self.priority(at, priority));
        let services = self.services(at, fields);
        let everybody = self.everybody(at, &peers, way);
        let whom = self.peers(at, &peers);
        if ordered {
            rule.insert(
                "action".into(),
                action.unwrap_or_else(|| Some(json!({ "constant": "allow" })))?,
            );
        }
        if let Some(priority) = priority {
            rule.insert("priority".into(), priority?);
        }
        if let Some((enabled, opposite)) = fields.enabled {
            let path = &list.fields[enabled].path;
            let turned = json!({ "path": path, "table": { "true": false, "false": true } });
            rule.insert(
                "enabled".into(),
                if opposite {
                    turned
                } else {
                    path.as_str().into()
                },
            );
        }
        rule.extend(services?.map(|services| ("services".to_owned(), services)));
        if let Some(ports) = fields.source_ports {
            rule.insert("source_ports".into(), ports_of(&list.fields[ports]));
        }
        if !everybody {
            return None;
        }
        rule.extend(whom.map(|peers| ("peers".to_owned(), peers)));
        // What a rule says of this side counts only where it says more than everything.
        let narrow: Vec<usize> = local
            .iter()
            .copied()
            .filter(|field| !says_all(&list.fields[*field]))
            .collect();
        rule.extend(
            self.peers(at, &narrow)
                .map(|local| ("local".to_owned(), local)),
        );
        let about = fields
            .description
            .map(|about| list.fields[about].path.as_str());
        rule.extend(about.map(|about| ("description".to_owned(), Json::from(about))));
        Some(Json::Object(rule))
    }

    /// What rules decide; none if some do not say it, and nobody else did.
    fn action(&mut self, at: usize, field: usize, actions: &[(String, String)]) -> Option<Json> {
        let list = &self.lists[at];
        let it = &list.fields[field];
        let made = in_words(it, actions);
        let bare = list.records.len() - it.holders;
        if bare == 0 {
            return Some(made);
        }
        let answer = self.asker.ask(Question {
            about: format!("{} {} none", list.place(), it.path),
            ask: format!(
                "{bare} of {} rules of {} have no {}. What do they do?",
                list.count,
                list.place(),
                it.path
            ),
            seen: it.shown(),
            choices: ["allow", "deny"].map(str::to_owned).to_vec(),
            guess: Some("allow".to_owned()),
            otherwise: "the rules count as missing".to_owned(),
            answer: None,
        })?;
        Some(with(made, "default", answer.into()))
    }

    /// Priorities, lowest first; none if nobody said which wins.
    fn priority(&mut self, at: usize, field: usize) -> Option<Json> {
        let list = &self.lists[at];
        let it = &list.fields[field];
        let answer = self.asker.ask(Question {
            about: format!("{} {} order", list.place(), it.path),
            ask: format!(
                "Which rule of {} comes first: that with the lowest or the highest {}?",
                list.place(),
                it.path
            ),
            seen: it.shown(),
            choices: ["lowest", "highest"].map(str::to_owned).to_vec(),
            guess: Some("lowest".to_owned()),
            otherwise: "the rules count as missing".to_owned(),
            answer: None,
        })?;
        if answer == "lowest" {
            return Some(it.path.as_str().into());
        }
        let mut numbers: Vec<i64> = it
            .values
            .keys()
            .filter_map(|value| value.parse().ok())
            .collect();
        numbers.sort_unstable_by(|one, other| other.cmp(one));
        let table: Map<String, Json> = numbers
            .iter()
            .enumerate()
            .map(|(place, number)| (number.to_string(), (place + 1).into()))
            .collect();
        Some(json!({ "path": it.path, "table": table }))
    }
}

/// Whether a field says everything in each rule.
fn says_all(field: &Field) -> bool {
    field
        .values
        .keys()
        .all(|value| values::is_any(value) || matches!(value.as_str(), "0.0.0.0/0" | "::/0"))
}

/// A field whose words stand for others.
pub(super) fn in_words(field: &Field, words: &[(String, String)]) -> Json {
    if words.iter().all(|(word, means)| word == means) {
        return field.path.as_str().into();
    }
    let table: Map<String, Json> = words
        .iter()
        .map(|(word, means)| (word.clone(), means.as_str().into()))
        .collect();
    json!({ "path": field.path, "table": table })
}
