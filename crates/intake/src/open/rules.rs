//! Rules of a snapshot from products of fields.

use super::condition::{Condition, Devices, all_ports, all_services};
use super::part::Part;
use heronshale_model::coverage::UnclearRule;
use heronshale_model::estate::Action;
use heronshale_model::source::{Place, SourceFile};
use heronshale_sets::address::{Addresses, Family};
use heronshale_sets::intervals::Intervals;
use heronshale_sets::packet::service;
use rustc_hash::FxHashMap;
use serde_json::{Map, Value as Json, json};

/// Where a rule stands and what its author says.
#[derive(Debug, Default)]
pub(super) struct Label {
    /// How output names it.
    pub id: String,
    /// In which file, and from which byte on.
    pub at: (usize, u32),
    pub comment: Option<String>,
}

/// A rule of which something is not understood.
#[derive(Debug, Clone)]
pub(super) struct NotUnderstood {
    pub rule: String,
    pub why: String,
    pub at: (usize, u32),
}

/// Where each stands that is not understood.
pub(super) fn placed(mut all: Vec<NotUnderstood>, files: &[SourceFile]) -> Vec<UnclearRule> {
    all.sort_by_key(|one| one.at);
    let one = |one: NotUnderstood| {
        let file = &files[one.at.0];
        let (line, start) = file.line(one.at.1);
        let column = (one.at.1 - start) as usize + 1;
        let place = Place {
            file: file.name.to_string(),
            line,
            column,
            pointer: String::new(),
        };
        UnclearRule {
            rule: one.rule,
            why: one.why,
            place,
        }
    };
    let mut found: Vec<UnclearRule> = all.into_iter().map(one).collect();
    found.dedup();
    found
}

/// What a rule says.
pub(super) struct Stated<'s> {
    pub condition: &'s Condition,
    pub action: Action,
    pub label: &'s Label,
    pub stateless: bool,
}

/// Which fields a rule has: of a workload, with this side and the other; or of a firewall, with both ends and zones.
#[derive(Clone, Copy)]
pub(super) enum Shape<'d> {
    Received,
    Sent,
    Between(&'d Devices),
}

/// Services of both families, each once.
pub(super) fn services(numbers: &Intervals) -> Option<Vec<String>> {
    if all_services().is_subset(numbers) {
        return None;
    }
    let missing = listed(&all_services().difference(numbers));
    let found = listed(numbers);
    if found.len() > 2 && missing.len() < found.len() {
        return Some(vec![format!("any except {}", missing.join(", "))]);
    }
    Some(found)
}

/// Services of both families in the notation, each once.
fn listed(numbers: &Intervals) -> Vec<String> {
    let mut found = Vec::new();
    for family in [Family::V4, Family::V6] {
        let own = numbers.intersection(&service::all(family));
        if own == service::all(family) {
            // Everything of this family, but not of the other: without its ICMP.
            found.extend(
                (0..=u8::MAX)
                    .filter(|protocol| service::exists(family, *protocol))
                    .map(service::protocol_name),
            );
        } else {
            found.extend(service::notation(family, &own));
        }
    }
    let mut seen = std::collections::BTreeSet::new();
    found.retain(|one| seen.insert(one.clone()));
    found
}

fn ports(numbers: &Intervals) -> Option<String> {
    if all_ports().is_subset(numbers) {
        return None;
    }
    let one = |(first, last): &(u128, u128)| {
        if first == last {
            first.to_string()
        } else {
            format!("{first}-{last}")
        }
    };
    Some(
        numbers
            .spans()
            .iter()
            .map(one)
            .collect::<Vec<_>>()
            .join(","),
    )
}

/// Addresses as peers; none for any.
pub(super) fn peers(addresses: &Addresses) -> Option<Vec<String>> {
    if Addresses::all().is_subset(addresses) {
        None
    } else {
        Some(addresses.texts())
    }
}

/// How the names begin of sets that stand for what is not known.
fn unknown_sets(name: &str) -> String {
    format!("{name}-not-understood-")
}

/// Puts one end of a rule: the addresses, or of a rule that is not understood a set that nobody knows, without the others.
fn put_end(
    rule: &mut Map<String, Json>,
    field: &str,
    except: &str,
    addresses: &Addresses,
    unknown: Option<&str>,
) {
    match (unknown, peers(addresses)) {
        (Some(set), known) => {
            rule.insert(field.to_owned(), json!([format!("set:{set}")]));
            if known.is_some() {
                rule.insert(
                    except.to_owned(),
                    json!(Addresses::all().difference(addresses).texts()),
                );
            }
        }
        (None, Some(known)) => {
            rule.insert(field.to_owned(), json!(known));
        }
        (None, None) => {}
    }
}

/// The same packets with as little written as says it: an end that is given by the other end's family is any. Of two ends that only
/// give the family, the source stays if asked for, and else the destination.
pub(super) fn trimmed(condition: &Condition, by_source: bool) -> Condition {
    let mut found = condition.clone();
    if found.source_ports != all_ports() {
        found.services = found.services.intersection(&service::all_with_ports());
    }
    let lives = |family| {
        !condition.source.of(family).is_empty() && !condition.destination.of(family).is_empty()
    };
    let families: Vec<Family> = [Family::V4, Family::V6]
        .into_iter()
        .filter(|family| lives(*family))
        .collect();
    let &[family] = &families[..] else {
        return found;
    };
    let all = Addresses::of_family(family);
    found.source = found.source.intersection(&all);
    found.destination = found.destination.intersection(&all);
    if service::all(family).is_subset(&found.services) {
        found.services = all_services();
    }
    let other = if family == Family::V4 {
        Family::V6
    } else {
        Family::V4
    };
    // Services that the other family has not say the family too.
    let said = !found.services.overlaps(&service::all(other));
    let (source, destination) = (found.source == all, found.destination == all);
    if source && (!destination || said || !by_source) {
        found.source = Addresses::all();
    }
    if destination && (!source || said || by_source) {
        found.destination = Addresses::all();
    }
    found
}

/// Names rules, each once in its list.
#[derive(Default)]
pub(super) struct Names {
    rules: FxHashMap<String, usize>,
    /// How many are not understood.
    unknown: usize,
}

impl Names {
    pub(super) fn of(&mut self, label: &Label) -> String {
        let times = self.rules.entry(label.id.clone()).or_default();
        *times += 1;
        if *times == 1 {
            label.id.clone()
        } else {
            format!("{}.{times}", label.id)
        }
    }
}

pub(super) fn rule(
    stated: &Stated<'_>,
    shape: Shape<'_>,
    name: &str,
    names: &mut Names,
) -> Option<Json> {
    let Stated {
        condition,
        action,
        label,
        stateless,
    } = *stated;
    let condition = trimmed(condition, !matches!(shape, Shape::Sent));
    // Each rule has a set of its own: what one does not tell says nothing of another.
    let unknown = (!condition.unknown.is_empty()).then(|| {
        names.unknown += 1;
        let list = match shape {
            Shape::Received => "in",
            Shape::Sent => "out",
            Shape::Between(_) => "through",
        };
        format!("{}{list}-{}", unknown_sets(name), names.unknown)
    });
    let unknown = unknown.as_deref();
    let mut rule = Map::new();
    rule.insert("id".to_owned(), names.of(label).into());
    rule.insert("action".to_owned(), action.word().into());
    if let Some(services) = services(&condition.services) {
        rule.insert("services".to_owned(), json!(services));
    }
    if let Some(ports) = ports(&condition.source_ports) {
        rule.insert("source_ports".to_owned(), json!([ports]));
    }
    match shape {
        Shape::Received | Shape::Sent => {
            let (other, own) = match shape {
                Shape::Received => (&condition.source, &condition.destination),
                _ => (&condition.destination, &condition.source),
            };
            put_end(&mut rule, "peers", "except", other, unknown);
            put_end(&mut rule, "local", "", own, None);
        }
        Shape::Between(devices) => {
            for (field, numbers) in [("from_zones", &condition.from), ("to_zones", &condition.to)] {
                if let Some(named) = devices.named(numbers) {
                    // Interfaces without a name here are no zones.
                    if named.is_empty() {
                        return None;
                    }
                    rule.insert(field.to_owned(), json!(named));
                }
            }
            put_end(
                &mut rule,
                "sources",
                "except_sources",
                &condition.source,
                unknown,
            );
            put_end(
                &mut rule,
                "destinations",
                "except_destinations",
                &condition.destination,
                None,
            );
        }
    }
    if stateless {
        rule.insert("stateless".to_owned(), true.into());
    }
    let mut words: Vec<String> = label.comment.clone().into_iter().collect();
    words.extend(
        condition
            .unknown
            .iter()
            .map(|why| format!("not understood: {why}")),
    );
    if !words.is_empty() {
        rule.insert("description".to_owned(), words.join("; ").into());
    }
    Some(Json::Object(rule))
}

/// The sets that stand for what is not known, as far as rules need them.
pub(super) fn put_unknown_sets(part: &mut Part, name: &str) {
    let begin = format!("set:{}", unknown_sets(name));
    let mut needed = std::collections::BTreeSet::new();
    for item in part.sections.values().flatten() {
        let text = item.to_string();
        let rests = text
            .match_indices(&begin)
            .map(|(at, _)| &text[at + "set:".len()..]);
        needed.extend(rests.filter_map(|rest| Some(rest.split_once('"')?.0.to_owned())));
    }
    for set in needed {
        let words = "stands where a rule says what is not understood: it may match, or not";
        part.put(
            "address_sets",
            json!({ "id": set, "content": "unknown", "description": words }),
        );
    }
}
