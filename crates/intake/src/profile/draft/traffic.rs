//! Which traffic rules are about: protocols, ports, and services by name.

use super::Drafting;
use super::asked::Question;
use super::fields::RuleFields;
use super::links::Links;
use super::naming::with;
use super::rules::in_words;
use super::shape::{Field, List};
use super::values;
use serde_json::{Map, Value as Json, json};
use std::collections::BTreeSet;

/// A text, and what fills its names.
type Filled = (&'static str, Vec<(&'static str, Json)>);

impl Drafting<'_> {
    /// Which traffic; the outer is none if somebody has to say first.
    #[expect(
        clippy::option_option,
        reason = "no traffic at all, and traffic that nobody knows, are two things"
    )]
    pub(super) fn services(&mut self, at: usize, fields: &RuleFields) -> Option<Option<Json>> {
        if let Some(inner) = fields.traffic {
            let suffix = self.lists[inner].path[self.lists[at].path.len()..].to_owned();
            let shape = RuleFields::of(inner, self.lists, &self.links, None);
            let give = self.services(inner, &shape)?;
            return Some(give.map(|give| json!({ "every": format!("${suffix}"), "give": give })));
        }
        if let Some(field) = fields.services {
            return Some(Some(services_in_one(&self.lists[at].fields[field])));
        }
        if let Some(named) = self.named_services(at, fields) {
            return Some(Some(named?));
        }
        let Some(ports) = self.ports(at, fields) else {
            let Some(protocol) = fields.protocol else {
                return Some(None);
            };
            return self.protocol(at, protocol).map(Some);
        };
        let protocol = match fields.protocol {
            Some(field) => self.protocol(at, field)?,
            None => self.protocol_of_ports(at)?,
        };
        let mut ways: Vec<Json> = ports
            .into_iter()
            .map(|(text, mut with)| {
                with.insert(0, ("protocol", protocol.clone()));
                let with: Map<String, Json> = with
                    .into_iter()
                    .map(|(key, value)| (key.to_owned(), value))
                    .collect();
                json!({ "text": format!("{{protocol}} {text}"), "with": with })
            })
            .collect();
        ways.push(protocol);
        self.tamed(at, fields, json!({ "first_of": ways }))
            .map(Some)
    }

    /// Services by name, that another list explains.
    #[expect(
        clippy::option_option,
        reason = "no names, and names that nobody explains, are two things"
    )]
    fn named_services(&mut self, at: usize, fields: &RuleFields) -> Option<Option<Json>> {
        if fields.protocol.is_some() {
            return None;
        }
        let list = &self.lists[at];
        let mut all = (0..list.fields.len()).flat_map(|field| {
            self.links
                .of_field(at, field)
                .iter()
                .map(move |link| (field, *link))
        });
        let (field, link) =
            all.find(|(_, link)| self.traffic.contains(&link.list) && link.share >= 50)?;
        let path = self.split_path(at, field);
        let shape = RuleFields::of(link.list, self.lists, &self.links, None);
        let Some(Some(take)) = self.services(link.list, &shape) else {
            return Some(None);
        };
        Some(Some(self.lookup(path, link.list, link.key, take)))
    }

    /// Ways to write ports, the fuller first: the text, and what fills it.
    fn ports(&self, at: usize, fields: &RuleFields) -> Option<Vec<Filled>> {
        let list = &self.lists[at];
        if let Some((low, high)) = fields.range {
            let [low, high] = [low, high].map(|field| ports_of(&list.fields[field]));
            return Some(vec![
                ("{low}-{high}", vec![("low", low.clone()), ("high", high)]),
                ("{low}", vec![("low", low)]),
            ]);
        }
        fields
            .ports
            .map(|field| vec![("{ports}", vec![("ports", ports_of(&list.fields[field]))])])
    }

    /// Protocols by a table, if all of its words are known.
    fn protocol(&mut self, at: usize, field: usize) -> Option<Json> {
        let list = &self.lists[at];
        let it = &list.fields[field];
        let mut table = Vec::new();
        for (word, count) in &it.values {
            if let Some(name) = values::protocol(word) {
                table.push((word.clone(), name));
                continue;
            }
            let answer = self.asker.ask(Question {
                about: format!("{} {} {word:?}", list.place(), it.path),
                ask: format!(
                    "Which protocol is {word:?}, in {} of {}?",
                    it.path,
                    list.place()
                ),
                seen: format!(
                    "{count} of {} rules; all words are {}",
                    list.count,
                    it.shown()
                ),
                choices: ["any", "tcp", "udp", "icmp", "icmpv6"]
                    .map(str::to_owned)
                    .to_vec(),
                guess: (word == "0").then(|| "any".to_owned()),
                otherwise: "the rules count as missing".to_owned(),
                answer: None,
            })?;
            table.push((word.clone(), answer));
        }
        let made = in_words(it, &table);
        let all = it.holders == list.records.len();
        Some(if all {
            made
        } else {
            with(made, "default", "any".into())
        })
    }

    /// The protocol of ports where nothing names one.
    fn protocol_of_ports(&mut self, at: usize) -> Option<Json> {
        let place = self.lists[at].place();
        let answer = self.asker.ask(Question {
            about: format!("{place} protocol of ports"),
            ask: format!("Of which protocol are the ports in {place}?"),
            seen: "no field looks like protocols".to_owned(),
            choices: ["tcp", "udp", "any"].map(str::to_owned).to_vec(),
            guess: Some("any".to_owned()),
            otherwise: "the rules count as missing".to_owned(),
            answer: None,
        })?;
        Some(json!({ "constant": answer }))
    }

    /// What stands where ports would for protocols that have none: all ports, or type and code of ICMP.
    fn tamed(&mut self, at: usize, fields: &RuleFields, services: Json) -> Option<Json> {
        let Some(protocol) = fields.protocol else {
            return Some(services);
        };
        let list = &self.lists[at];
        let (mut whole, mut parts) = (BTreeSet::new(), BTreeSet::new());
        for record in &list.records {
            let name = list
                .of(record, protocol)
                .find_map(values::protocol)
                .unwrap_or_else(|| "any".to_owned());
            let low = fields
                .range
                .map(|(low, _)| low)
                .or(fields.ports)
                .and_then(|low| list.of(record, low).next());
            let high = fields
                .range
                .and_then(|(_, high)| list.of(record, high).next());
            let has_ports = matches!(name.as_str(), "tcp" | "udp" | "sctp");
            let Some(low) = low.filter(|low| !values::is_any(low) && !has_ports) else {
                continue;
            };
            if matches!(
                (low, high),
                ("0" | "1", Some("65535")) | ("0-65535" | "1-65535", None)
            ) {
                whole.insert(name);
            } else if name != "any" {
                parts.insert(name);
            }
        }
        let mut made = services;
        if !whole.is_empty() {
            let pattern = format!("({}) [01]-65535", Vec::from_iter(whole).join("|"));
            made = json!({ "all_of": [made], "pattern": pattern, "becomes": "$1", "otherwise": "keep" });
        }
        if parts.is_empty() {
            return Some(made);
        }
        let names = Vec::from_iter(parts);
        let answer = self.asker.ask(Question {
            about: format!("{} icmp", list.place()),
            ask: format!(
                "What stands where ports would stand, in rules of {} about {}?",
                list.place(),
                names.join(", ")
            ),
            seen: String::new(),
            choices: ["type and code", "nothing that counts"]
                .map(str::to_owned)
                .to_vec(),
            guess: Some("type and code".to_owned()),
            otherwise: "the rules count as missing".to_owned(),
            answer: None,
        })?;
        let (pattern, becomes) = if answer == "type and code" {
            (r"(icmp|icmpv6) (\d+)-(\d+)".to_owned(), "$1 $2/$3")
        } else {
            (format!("({}) .*", names.join("|")), "$1")
        };
        Some(
            json!({ "all_of": [made], "pattern": pattern, "becomes": becomes, "otherwise": "keep" }),
        )
    }
}

/// Ports, without words for all of them, ranges written with `-`.
pub(super) fn ports_of(field: &Field) -> Json {
    let mut made: Json = field.path.as_str().into();
    if let Some(between) = field.traits.split {
        made = with(made, "split", between.into());
    }
    if field.values.keys().any(|value| value.contains(':')) {
        made = with(made, "pattern", r"(\d+)\s*:\s*(\d+)".into());
        made = with(
            with(made, "becomes", "$1-$2".into()),
            "otherwise",
            "keep".into(),
        );
    }
    let any: Vec<Json> = field
        .values
        .keys()
        .filter(|value| values::is_any(value))
        .map(|value| value.as_str().into())
        .collect();
    if any.is_empty() {
        made
    } else {
        with(made, "without", any.into())
    }
}

/// Protocol and ports in one text.
fn services_in_one(field: &Field) -> Json {
    let mut made: Json = field.path.as_str().into();
    let between = field.traits.split;
    if let Some(between) = between {
        made = with(made, "split", between.into());
    }
    let parts = field
        .values
        .keys()
        .flat_map(|value| value.split(between.unwrap_or("\0")));
    let mut forms: BTreeSet<(String, bool, String)> = BTreeSet::new();
    let mut alone: Map<String, Json> = Map::new();
    for part in parts.map(str::trim).filter(|part| !part.is_empty()) {
        if let Some((protocol, behind)) = values::service(part) {
            if part.split(['/', ':', ' ']).any(values::is_any) {
                alone.insert(part.to_owned(), protocol.into());
                continue;
            }
            let word = part
                .split(['/', ':', ' '])
                .nth(usize::from(behind))
                .unwrap_or_default()
                .to_owned();
            forms.insert((word, behind, protocol));
        } else if let Some(protocol) = values::protocol(part).filter(|protocol| protocol != part) {
            alone.insert(part.to_owned(), protocol.into());
        }
    }
    for (word, behind, protocol) in forms {
        let ports = r"([\d,:-]+)";
        let pattern = if behind {
            format!("{ports}[/: ]+{word}")
        } else {
            format!("{word}[/: ]+{ports}")
        };
        made = match made {
            Json::Object(ref fields) if fields.contains_key("pattern") => {
                json!({ "all_of": [made] })
            }
            other => other,
        };
        made = with(
            with(made, "pattern", pattern.into()),
            "becomes",
            format!("{protocol} $1").into(),
        );
        made = with(made, "otherwise", "keep".into());
    }
    if alone.is_empty() {
        made
    } else {
        with(
            with(made, "table", alone.into()),
            "otherwise",
            "keep".into(),
        )
    }
}

/// Whether a list tells traffic and nothing else of a rule: services by name.
pub(super) fn is_traffic(at: usize, lists: &[List], links: &Links) -> bool {
    let fields = RuleFields::of(at, lists, links, None);
    let peers = fields.peers.len() + fields.sources.len() + fields.destinations.len();
    fields.direction.is_none()
        && fields.action.is_none()
        && peers == 0
        && (fields.protocol.is_some() || fields.services.is_some())
        && lists[at].outer.is_none()
}
