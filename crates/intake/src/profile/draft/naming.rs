//! By what objects are known, and what is left alone.

use super::shape::{Field, List, last_name};
use super::values::Kind;
use serde_json::{Map, Value as Json};

/// Names of fields that tell objects apart.
const NAMES: [&str; 3] = ["name", "label", "title"];

const IDS: [&str; 6] = ["id", "ref", "key", "uid", "uuid", "code"];

/// Whether a field is called as what tells objects apart.
pub(super) fn is_id(field: &Field) -> bool {
    let name = last_name(&field.path);
    name == "~" || NAMES.contains(&name.as_str()) || IDS.contains(&name.as_str())
}

/// The field by which people know the objects of a list: its name, if no two have the same; else its id.
pub(super) fn id_of(list: &List) -> Option<usize> {
    let keys: Vec<(usize, &Field)> = list.keys().collect();
    let called = |names: &[&str]| {
        keys.iter()
            .find(|(_, it)| names.contains(&last_name(&it.path).as_str()))
            .map(|(at, _)| *at)
    };
    // `group_name` of groups, and then `group_id`.
    let of_list = |names: &[&str]| {
        let ends = |it: &Field| {
            names
                .iter()
                .any(|name| it.name().ends_with(&format!("_{name}")))
        };
        keys.iter()
            .find(|(_, it)| ends(it) && is_named(it, list))
            .map(|(at, _)| *at)
    };
    let text = |kind: Kind| {
        keys.iter()
            .find(|(_, it)| it.traits.kind == kind)
            .map(|(at, _)| *at)
    };
    called(&["~"])
        .or_else(|| called(&NAMES))
        .or_else(|| of_list(&NAMES))
        .or_else(|| called(&IDS))
        .or_else(|| of_list(&IDS))
        .or_else(|| {
            keys.iter()
                .find(|(_, it)| it.is_called(&["name", "id"]))
                .map(|(at, _)| *at)
        })
        .or_else(|| text(Kind::Texts))
        .or_else(|| keys.first().map(|(at, _)| *at))
}

/// Sections whose objects a draft does not describe, and what a gap calls them.
pub(super) const NOT_READ: [(&str, &str); 9] = [
    ("own_firewalls", "own-firewall"),
    ("firewall_policies", "firewall-policy"),
    ("scope_policies", "policy"),
    ("firewalls", "firewall"),
    ("balancers", "balancer"),
    ("peerings", "peering"),
    ("hubs", "hub"),
    ("services", "service"),
    ("dns_zones", "zone"),
];

/// Whether a draft does not describe the objects of a section.
pub(super) fn is_not_read(section: &str) -> bool {
    NOT_READ.iter().any(|(known, _)| *known == section)
}

/// A value with one more field.
pub(super) fn with(value: Json, name: &str, to: Json) -> Json {
    let mut made = match value {
        Json::Object(made) => made,
        path => Map::from_iter([("path".to_owned(), path)]),
    };
    made.insert(name.to_owned(), to);
    Json::Object(made)
}

pub(super) fn is_named(field: &Field, list: &List) -> bool {
    let (field, list) = (field.name(), list.name());
    let (field, list) = (stem(&field), stem(&list));
    field.len() > 1 && list.len() > 1 && (field.contains(list) || list.contains(field))
}

/// The words that fields and lists about the same thing share.
pub(super) fn stem(name: &str) -> &str {
    let name = name
        .trim_end_matches("_ids")
        .trim_end_matches("_id")
        .trim_end_matches("_ref")
        .trim_end_matches("_refs");
    let name = name
        .trim_end_matches("_name")
        .trim_end_matches("_key")
        .trim_end_matches("_uid");
    name.strip_suffix('s').unwrap_or(name)
}
