//! A change that is only thought of: made to the document in memory, and read again.

use super::document::Document;
use super::words;
use crate::files::{LoadError, SourceText};
use crate::load::{Snapshot, load_texts};
use crate::reading::did_you_mean;
use crate::written::{FORMAT, VERSION};
use serde_json::{Map, Value, json};

/// The name of the file in which the rest of the estate stands after a change.
pub(super) const REHEARSED: &str = "the estate after the change.json";

/// One change.
#[derive(Clone, Debug)]
pub enum Change {
    /// In words: `remove rule fares-db/tmp`, `down peering quay-tickets`.
    Words(String),
    /// Snapshot files whose items replace those of the same id, or are new.
    Overlay(Vec<SourceText>),
}

/// Why a change cannot be rehearsed.
#[derive(Debug)]
pub enum NoChange {
    /// It is not understood, or what it is about is not there.
    Words {
        /// What is wrong.
        what: String,
        /// What would be right.
        help: String,
    },
    /// What comes out is no legal snapshot.
    Load(LoadError),
}

fn wrong(what: impl Into<String>, help: impl Into<String>) -> NoChange {
    NoChange::Words {
        what: what.into(),
        help: help.into(),
    }
}

/// The forms in words.
const FORMS: &str = "write remove KIND NAME, disable rule GROUP/RULE, disable route TABLE/ROUTE, down KIND NAME, or attach table NAME to subnet NAME";

/// A section, and lists of its items.
type Lists = (&'static str, &'static [&'static str]);

/// Where elements of a kind stand: the section, and the lists of an item.
const ELEMENTS: [(&str, &[Lists]); 5] = [
    (
        "rule",
        &[
            ("security_groups", &["inbound", "outbound"]),
            ("network_acls", &["inbound", "outbound"]),
            ("scope_policies", &["inbound", "outbound"]),
            ("own_firewalls", &["inbound", "outbound"]),
            ("firewall_policies", &["rules"]),
        ],
    ),
    ("route", &[("route_tables", &["routes"])]),
    ("link", &[("hubs", &["links"])]),
    ("member", &[("firewalls", &["members"])]),
    ("back end", &[("balancers", &["back_ends"])]),
];

/// Makes changes to a snapshot, one after the other, and reads what comes out. The snapshot stays as it is.
///
/// # Errors
/// If a change is not understood or does not apply, or if what comes out is no legal snapshot.
pub fn rehearsed(base: &Snapshot, changes: &[Change]) -> Result<Snapshot, NoChange> {
    let document = Document::of(&base.texts);
    let mut whole = Map::new();
    for (name, items) in &document.sections {
        let mut all = items.iter().map(super::document::Placed::json);
        let value = if name == "estate" {
            all.next_back().unwrap_or(Value::Null)
        } else {
            Value::Array(all.collect())
        };
        whole.insert(name.clone(), value);
    }
    let mut overlays: Vec<&SourceText> = Vec::new();
    for change in changes {
        match change {
            Change::Words(text) => in_words(&mut whole, text)?,
            Change::Overlay(texts) => {
                let over = Document::of_any(texts).map_err(NoChange::Load)?;
                for (section, items) in &over.sections {
                    let Some(Value::Array(there)) = whole.get_mut(section) else {
                        whole.remove(section);
                        continue;
                    };
                    let kind = words::section(section);
                    let ids: Vec<String> =
                        items.iter().map(|item| words::id_of(kind, item)).collect();
                    there.retain(|item| !ids.contains(&id_of(kind, item)));
                }
                overlays.extend(texts);
            }
        }
    }
    whole.insert("format".to_owned(), json!(FORMAT));
    whole.insert("version".to_owned(), json!(VERSION));
    let text = serde_json::to_string_pretty(&Value::Object(whole)).unwrap_or_default();
    let mut files = vec![(REHEARSED, text.as_str())];
    files.extend(
        overlays
            .iter()
            .map(|one| (one.name.as_str(), one.text.as_str())),
    );
    load_texts(&files).map_err(NoChange::Load)
}

/// What an item is known by.
fn id_of(section: &str, item: &Value) -> String {
    let field = match section {
        "public_addresses" => "address",
        "public_names" => "name",
        "gaps" => "object",
        _ => "id",
    };
    item[field].as_str().unwrap_or_default().to_owned()
}

/// One change in words.
fn in_words(whole: &mut Map<String, Value>, text: &str) -> Result<(), NoChange> {
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let Some((verb, rest)) = text.split_once(' ') else {
        return Err(wrong(format!("`{text}` is no change"), FORMS));
    };
    match verb {
        "remove" => remove(whole, rest),
        "disable" => {
            let (kind, name) = kind_of(rest)?;
            if !matches!(kind, "rule" | "route") {
                return Err(wrong(
                    format!("{kind} {name} cannot be disabled"),
                    "disable a rule or a route; `down` is for devices",
                ));
            }
            let found = element(whole, kind, name)?;
            found.0[found.1]["enabled"] = json!(false);
            Ok(())
        }
        "down" => down(whole, rest),
        "attach" => attach(whole, rest),
        _ => Err(wrong(format!("`{verb}` is no kind of change"), FORMS)),
    }
}

/// The kind at the beginning of some words, and the name behind it.
fn kind_of(text: &str) -> Result<(&'static str, &str), NoChange> {
    let kinds = || words::NOUNS.iter().map(|(_, noun)| *noun);
    let kinds = kinds().chain(ELEMENTS.iter().map(|(kind, _)| *kind));
    let mut found: Vec<(&'static str, &str)> = kinds
        .clone()
        .filter_map(|kind| {
            let name = text.strip_prefix(kind)?.strip_prefix(' ')?;
            Some((kind, name))
        })
        .collect();
    found.sort_by_key(|(kind, _)| std::cmp::Reverse(kind.len()));
    found.first().copied().ok_or_else(|| {
        let first = text.split(' ').next().unwrap_or_default();
        let all: Vec<&str> = kinds.clone().collect();
        let help = did_you_mean(first, kinds)
            .unwrap_or_else(|| format!("the kinds are {}", all.join(", ")));
        wrong(format!("`{text}` names no kind of thing"), help)
    })
}

fn remove(whole: &mut Map<String, Value>, text: &str) -> Result<(), NoChange> {
    let (kind, name) = kind_of(text)?;
    if ELEMENTS.iter().any(|(element, _)| *element == kind) {
        let (list, at) = element(whole, kind, name)?;
        list.remove(at);
        return Ok(());
    }
    let (section, at) = item(whole, kind, name)?;
    if let Some(Value::Array(items)) = whole.get_mut(section) {
        items.remove(at);
    }
    Ok(())
}

/// An item of a kind: its section, and its place there.
fn item(
    whole: &Map<String, Value>,
    kind: &str,
    name: &str,
) -> Result<(&'static str, usize), NoChange> {
    let section = words::NOUNS.iter().find(|(_, noun)| *noun == kind);
    let section = section.map_or("estate", |(section, _)| *section);
    let none = Vec::new();
    let items = whole
        .get(section)
        .and_then(Value::as_array)
        .unwrap_or(&none);
    let ids: Vec<String> = items.iter().map(|item| id_of(section, item)).collect();
    let place = ids.iter().position(|id| id == name);
    place.map(|at| (section, at)).ok_or_else(|| {
        let help = did_you_mean(name, ids.iter().map(String::as_str))
            .unwrap_or_else(|| "`heronshale inventory` lists what there is".to_owned());
        wrong(format!("there is no {kind} called `{name}`"), help)
    })
}

/// An element of a kind, as `OF/NAME`: its list, and its place there.
fn element<'w>(
    whole: &'w mut Map<String, Value>,
    kind: &str,
    name: &str,
) -> Result<(&'w mut Vec<Value>, usize), NoChange> {
    let Some((of, id)) = name.rsplit_once('/') else {
        return Err(wrong(
            format!("`{name}` names no {kind}"),
            format!("write {kind} OF/NAME: the item in which it stands, and its own name"),
        ));
    };
    let places = ELEMENTS.iter().find(|(element, _)| *element == kind);
    let places = places.map_or(&[][..], |(_, places)| places);
    let mut found: Option<(&str, usize, &str, usize)> = None;
    let mut names = Vec::new();
    for (section, lists) in places {
        let items = whole.get(*section).and_then(Value::as_array);
        for (at, item) in items.into_iter().flatten().enumerate() {
            if id_of(section, item) != of {
                continue;
            }
            for list in *lists {
                for (place, one) in elements_of(&item[*list]).iter().enumerate() {
                    let known = ["id", "interface", "address"];
                    let known = known.iter().find_map(|field| one[*field].as_str());
                    names.extend(known.map(|known| format!("{of}/{known}")));
                    if known == Some(id) {
                        found = found.or(Some((section, at, list, place)));
                    }
                }
            }
        }
    }
    let Some((section, at, list, place)) = found else {
        let help = did_you_mean(name, names.iter().map(String::as_str))
            .unwrap_or_else(|| "`heronshale inventory` lists what there is".to_owned());
        return Err(wrong(format!("there is no {kind} called `{name}`"), help));
    };
    let list = whole
        .get_mut(section)
        .and_then(|items| as_list(&mut items[at][list]));
    list.map(|list| (list, place))
        .ok_or_else(|| wrong(format!("there is no {kind} called `{name}`"), FORMS))
}

/// The elements of a list; one value alone stands for a list of one.
fn elements_of(value: &Value) -> &[Value] {
    match value {
        Value::Array(all) => all,
        Value::Null => &[],
        one => std::slice::from_ref(one),
    }
}

/// The same to be changed; none of what is not there.
fn as_list(value: &mut Value) -> Option<&mut Vec<Value>> {
    if value.is_object() {
        *value = Value::Array(vec![value.take()]);
    }
    value.as_array_mut()
}

/// Something fails.
fn down(whole: &mut Map<String, Value>, text: &str) -> Result<(), NoChange> {
    let (kind, name) = kind_of(text)?;
    match kind {
        "link" | "member" => {
            let (list, at) = element(whole, kind, name)?;
            list[at]["up"] = json!(false);
            return Ok(());
        }
        "back end" => {
            let (list, at) = element(whole, kind, name)?;
            list[at]["healthy"] = json!(false);
            return Ok(());
        }
        "peering" | "gateway" | "firewall" | "balancer" => {}
        _ => {
            return Err(wrong(
                format!("{kind} {name} cannot be down"),
                "down is for a gateway, link, peering, firewall, member, balancer or back end",
            ));
        }
    }
    let (section, at) = item(whole, kind, name)?;
    let Some(one) = whole.get_mut(section).map(|items| &mut items[at]) else {
        return Ok(());
    };
    let each = |one: &mut Value, list: &str, field: &str| {
        for element in as_list(&mut one[list]).into_iter().flatten() {
            element[field] = json!(false);
        }
    };
    match kind {
        "peering" => each(one, "sides", "up"),
        "balancer" => each(one, "back_ends", "healthy"),
        "firewall" => {
            each(one, "members", "up");
            if elements_of(&one["members"]).is_empty() {
                one["members"] = json!([{ "id": "only", "up": false }]);
            }
        }
        _ => match one["kind"].as_str() {
            Some("internet") => one["attached"] = json!(false),
            Some("site") => one["up"] = json!(false),
            other => {
                let kind = other.unwrap_or("unknown").to_owned();
                return Err(wrong(
                    format!("the format has no way to say that a {kind} gateway is down"),
                    "remove or disable the routes that lead to it",
                ));
            }
        },
    }
    Ok(())
}

/// A subnet gets another table.
fn attach(whole: &mut Map<String, Value>, text: &str) -> Result<(), NoChange> {
    let parts = text
        .strip_prefix("table ")
        .and_then(|rest| rest.split_once(" to subnet "));
    let Some((table, subnet)) = parts else {
        return Err(wrong(
            format!("`attach {text}` is not understood"),
            "write attach table NAME to subnet NAME",
        ));
    };
    item(whole, "table", table)?;
    let (section, at) = item(whole, "subnet", subnet)?;
    if let Some(items) = whole.get_mut(section) {
        items[at]["route_table"] = json!(table);
    }
    Ok(())
}
