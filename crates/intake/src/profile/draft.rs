//! A first profile for exports that no profile knows: which lists of objects there are, what is in them, and a guess at what
//! they are, to be worked on by somebody who knows.

use super::Exports;
use super::place::broken;
use super::stream::{Broken, Held, Kind, Taker, read};
use crate::load::LoadError;
use crate::profile::compile::{From, Step};
use crate::profile::coverage::Seen;
use heronshale_core::address::Block;
use jsonpath_rust::parser::model::JpQuery;
use serde_json::Value as Json;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;
use std::net::IpAddr;

/// Larger files are not held for a draft.
const LARGEST: u64 = 256 << 20;
/// So many different values of a field are kept.
const MOST_VALUES: usize = 64;
/// An object of at least so many objects with one field in common is a list by name.
const LIST_BY_NAME: usize = 3;

/// A first profile.
pub struct DraftProfile {
    /// The file.
    pub text: String,
    /// For each list: where it is, and what it may be.
    pub told: Vec<(String, String)>,
}

/// Lists of objects, by files and path.
type Lists = BTreeMap<(String, String), Shape>;

/// Files that are alike: those of a folder below the first, else each by itself.
fn group_of(name: &str) -> String {
    name.rsplit_once('/').map_or_else(|| name.to_owned(), |(folder, _)| format!("{folder}/*"))
}

/// What is known of a list of objects.
#[derive(Default)]
struct Shape {
    count: usize,
    fields: BTreeMap<String, Values>,
}

/// What is known of a field.
#[derive(Default)]
struct Values {
    count: usize,
    some: BTreeSet<String>,
    /// Whether each value was another one.
    unique: bool,
}

/// Sections by what their lists are called, the telling words first.
const WORDS: [(&str, &[&str]); 17] = [
    ("subnets", &["subnet", "segment"]),
    ("interfaces", &["interface", "iface", "nic", "card", "port"]),
    ("security_groups", &["group", "ruleset"]),
    ("network_acls", &["acl", "accesslist", "access_list"]),
    ("route_tables", &["routetable", "route_table", "routing", "route", "table"]),
    ("peerings", &["peering"]),
    ("gateways", &["gateway"]),
    ("public_addresses", &["public", "floating", "elastic", "external"]),
    ("address_sets", &["addressset", "address_set", "prefix", "iplist", "set"]),
    ("firewall_policies", &["policy", "policies"]),
    ("firewalls", &["firewall"]),
    ("balancers", &["balancer"]),
    ("workloads", &["workload", "machine", "instance", "server", "vm"]),
    ("sites", &["site", "branch"]),
    ("hubs", &["hub", "transit"]),
    ("owners", &["owner", "team", "contact"]),
    ("networks", &["network", "net"]),
];

struct Whole<'d>(&'d mut dyn FnMut(&Json));

impl Taker for Whole<'_> {
    fn record(&mut self, _: usize, node: &Json, _: &str, _: &Held) {
        (self.0)(node);
    }
    fn seen(&mut self) -> Option<&mut Seen> {
        None
    }
    fn progress(&mut self, _: u64) {}
}

/// Looks at exports and proposes a profile.
///
/// # Errors
/// If a file cannot be read, is too large to be held, or no list of objects is in any.
pub fn draft_profile(exports: &Exports) -> Result<DraftProfile, LoadError> {
    let mut lists = Lists::new();
    let all = |steps, text: &str| From {
        steps,
        rest: None,
        alone: false,
        query: JpQuery::new(Vec::new()),
        text: text.to_owned(),
    };
    let (whole, rows) = (all(Vec::new(), "$"), all(vec![Step::Any], "$[*]"));
    for file in &exports.files {
        let what = || format!("cannot draft a profile from {}", file.path.display());
        if file.bytes > LARGEST {
            let error = std::io::Error::other("it has more than 256 MiB: give a part of it");
            return Err(LoadError::Environment { what: what(), error });
        }
        let group = group_of(&file.name);
        let is_sheet = file.kind == Kind::Csv;
        let mut take = |document: &Json| {
            if is_sheet {
                return list_item(document, &group, "$[*]", &mut lists);
            }
            // A folder of documents is a list of them.
            if group.ends_with('*') && !document.is_array() {
                list_item(document, &group, "$", &mut lists);
            } else {
                lists_in(document, &group, "$", &mut lists);
            }
        };
        match read(&file.path, file.kind, &[if is_sheet { &rows } else { &whole }], &mut Whole(&mut take)) {
            Err(Broken::Reading(error)) => return Err(LoadError::Environment { what: what(), error }),
            Err(Broken::Syntax(line, column, what)) => return Err(broken(file, line, column, &what)),
            Ok(()) => {}
        }
    }
    if lists.is_empty() {
        let error = std::io::Error::new(std::io::ErrorKind::InvalidData, "no list of objects is in the exports");
        return Err(LoadError::Environment { what: "cannot draft a profile".to_owned(), error });
    }
    Ok(written(&lists))
}

/// `$.name`, or `$['a name']`, with the escapes of RFC 9535.
fn member(path: &str, name: &str) -> String {
    let plain = name.chars().all(|sign| sign.is_ascii_alphanumeric() || sign == '_')
        && !name.starts_with(|sign: char| sign.is_ascii_digit());
    if plain {
        return format!("{path}.{name}");
    }
    let mut quoted = String::new();
    for sign in name.chars() {
        match sign {
            '\'' | '\\' => quoted.extend(['\\', sign]),
            sign if sign.is_control() => quoted.push_str(&format!("\\u{:04x}", u32::from(sign))),
            sign => quoted.push(sign),
        }
    }
    format!("{path}['{quoted}']")
}

/// Whether the members of an object are a list by name.
fn is_list_by_name(fields: &serde_json::Map<String, Json>) -> bool {
    let mut common: Option<BTreeSet<&String>> = None;
    for value in fields.values() {
        let Json::Object(inner) = value else { return false };
        let keys: BTreeSet<&String> = inner.keys().collect();
        common = Some(common.map_or(keys.clone(), |common| common.intersection(&keys).copied().collect()));
    }
    fields.len() >= LIST_BY_NAME && common.is_some_and(|common| !common.is_empty())
}

/// The lists of objects in a value.
fn lists_in(json: &Json, group: &str, path: &str, lists: &mut Lists) {
    match json {
        Json::Array(items) => {
            let path = format!("{path}[*]");
            for item in items {
                list_item(item, group, &path, lists);
            }
        }
        Json::Object(fields) if is_list_by_name(fields) => {
            let path = format!("{path}.*");
            for item in fields.values() {
                list_item(item, group, &path, lists);
            }
        }
        Json::Object(fields) => {
            for (name, value) in fields {
                lists_in(value, group, &member(path, name), lists);
            }
        }
        _ => {}
    }
}

fn list_item(item: &Json, group: &str, path: &str, lists: &mut Lists) {
    if let Json::Object(fields) = item {
        let shape = lists.entry((group.to_owned(), path.to_owned())).or_default();
        shape.count += 1;
        for (name, value) in fields {
            leaves(value, &member("$", name), &mut shape.fields);
        }
        for (name, value) in fields {
            lists_in(value, group, &member(path, name), lists);
        }
    }
}

/// The scalars of a record, without those of lists of objects in it.
fn leaves(json: &Json, path: &str, fields: &mut BTreeMap<String, Values>) {
    match json {
        Json::Null => {}
        Json::Object(inner) if is_list_by_name(inner) => {}
        Json::Object(inner) => {
            for (name, value) in inner {
                leaves(value, &member(path, name), fields);
            }
        }
        Json::Array(items) => {
            for item in items.iter().filter(|item| !item.is_object()) {
                leaves(item, &format!("{path}[*]"), fields);
            }
        }
        scalar => {
            let values = fields.entry(path.to_owned()).or_insert_with(|| Values { unique: true, ..Values::default() });
            values.count += 1;
            let text = super::make::text_of(scalar);
            if values.some.contains(&text) {
                values.unique = false;
            } else if values.some.len() < MOST_VALUES {
                values.some.insert(text);
            }
        }
    }
}

/// The last name of a path.
fn last_name(path: &str) -> String {
    let plain = path.trim_end_matches(".*").trim_end_matches("[*]");
    let last = plain.rsplit(['.', '[']).next().unwrap_or(plain);
    last.trim_matches(['\'', ']', '$']).to_lowercase()
}

/// Names that say nothing of what a list holds.
const PLAIN: [&str; 8] = ["", "items", "data", "results", "values", "value", "objects", "records"];

/// What a list may be: by its name, by the name of its file, or because there are ports in it.
fn section_of(group: &str, path: &str, lists: &Lists) -> Option<&'static str> {
    let of = |name: &str| {
        let name = name.to_lowercase().replace(['-', ' '], "_");
        WORDS.iter().find(|(_, words)| words.iter().any(|word| name.contains(word))).map(|(section, _)| *section)
    };
    let name = last_name(path);
    if !PLAIN.contains(&name.as_str()) {
        return of(&name);
    }
    let file = group.trim_end_matches("/*").rsplit('/').next().unwrap_or(group);
    let within =
        |(other, inner): &(String, String)| other == group && inner.len() > path.len() && inner.starts_with(path);
    let has_ports = |shape: &Shape| {
        let about =
            |words: &[&str]| shape.fields.keys().any(|field| words.iter().any(|word| last_name(field).contains(word)));
        about(&["proto"]) && about(&["port", "low", "high", "from", "to"])
    };
    let rules = || lists.iter().any(|(key, shape)| within(key) && has_ports(shape));
    of(file.split('.').next().unwrap_or(file)).or_else(|| rules().then_some("security_groups"))
}

impl Values {
    fn all(&self, holds: impl Fn(&str) -> bool) -> bool {
        !self.some.is_empty() && self.some.iter().all(|value| holds(value))
    }

    fn are_addresses(&self) -> bool {
        self.all(|value| value.parse::<IpAddr>().is_ok())
    }

    fn are_blocks(&self) -> bool {
        self.all(|value| value.contains('/') && value.parse::<Block>().is_ok())
    }

    /// A few of them, as a comment shows them.
    fn shown(&self) -> String {
        const SHOWN: usize = 4;
        let few: Vec<String> = self.some.iter().take(SHOWN).map(|value| format!("{:?}", cut(value))).collect();
        let more = if self.some.len() > SHOWN { ", …" } else { "" };
        format!("{}{more}", few.join(", "))
    }
}

fn cut(value: &str) -> String {
    const LONGEST: usize = 32;
    let short: String = value.chars().take(LONGEST).collect();
    if short.len() < value.len() { short + "…" } else { short }
}

/// The field that tells objects of a list apart: one that each has, and with another value each.
fn id_of(shape: &Shape) -> Option<&str> {
    let apart = |values: &Values| values.unique && values.count == shape.count;
    let named = |names: &[&str]| {
        let is = |path: &&String| names.contains(&last_name(path).as_str());
        shape.fields.iter().filter(|(_, values)| apart(values)).map(|(path, _)| path).find(is)
    };
    let any =
        || shape.fields.iter().find(|(path, values)| apart(values) && !path.contains("[*]")).map(|(path, _)| path);
    named(&["id", "ref", "key", "uid", "uuid"]).or_else(|| named(&["name", "label"])).or_else(any).map(String::as_str)
}

/// What gives a field of a section, if the values tell.
fn guesses(section: &str, shape: &Shape) -> Vec<(&'static str, String)> {
    let mut found = Vec::new();
    let first = |holds: &dyn Fn(&Values) -> bool| {
        shape.fields.iter().find(|(_, values)| holds(values)).map(|(path, _)| path.clone())
    };
    if section != "public_addresses" {
        let id = id_of(shape).map_or_else(|| "$.TODO".to_owned(), str::to_owned);
        found.push(("id", id));
    }
    let blocks = first(&Values::are_blocks);
    let addresses = first(&Values::are_addresses);
    let by_name = |word: &str| shape.fields.keys().find(|path| last_name(path).contains(word)).cloned();
    match section {
        "networks" => found.extend(blocks.map(|path| ("blocks", path))),
        "subnets" => {
            found.push(("network", by_name("net").unwrap_or_else(|| "$.TODO".to_owned())));
            found.extend(blocks.map(|path| ("blocks", path)));
        }
        "interfaces" => {
            let subnet = by_name("subnet").or_else(|| by_name("segment"));
            found.push(("subnet", subnet.unwrap_or_else(|| "$.TODO".to_owned())));
            found.push(("addresses", addresses.unwrap_or_else(|| "$.TODO".to_owned())));
            found.extend(by_name("group").map(|path| ("groups", path)));
        }
        "address_sets" => found.extend(blocks.or(addresses).map(|path| ("content", path))),
        "public_addresses" => {
            found.push(("address", addresses.unwrap_or_else(|| "$.TODO".to_owned())));
            found.extend(by_name("interface").or_else(|| by_name("nic")).map(|path| ("interface", path)));
        }
        _ => {}
    }
    found
}

fn written(lists: &Lists) -> DraftProfile {
    let mut text = String::from(
        "# A first profile, drafted from exports. Each line marked TODO is a guess: see what the list really is, and what its fields\n\
         # mean. `heronshale schema profile` and docs/intake.md say what can be written; `heronshale import` tells what is ignored.\n\
         format: heronshale-profile\nversion: 1\nname: drafted\ndraft: true\nrecords:\n",
    );
    let mut told = Vec::new();
    let mut any = false;
    for ((group, path), shape) in lists {
        let around = |(other, outer): &&(String, String)| {
            other == group
                && path != outer
                && path.starts_with(outer.as_str())
                && path[outer.len()..].starts_with(['.', '['])
        };
        let within = lists.keys().filter(around).max_by_key(|(_, outer)| outer.len()).map(|(_, outer)| outer);
        let section = section_of(group, path, lists).filter(|_| within.is_none());
        let mut comment = String::new();
        for (field, values) in &shape.fields {
            let unique = if values.unique && values.count > 1 { ", each another" } else { "" };
            let _ = writeln!(
                comment,
                "    #   {}  in {} of {}{unique}: {}",
                line(field),
                values.count,
                shape.count,
                values.shown()
            );
        }
        let place = format!("{group} {path}");
        let objects = if shape.count == 1 { "1 object".to_owned() } else { format!("{} objects", shape.count) };
        match (section, within) {
            (Some(section), _) => {
                any = true;
                let _ = writeln!(
                    text,
                    "  - into: {section}  # TODO: is it?\n    files: \"{group}\"\n    from: {}",
                    quoted(path)
                );
                text.push_str(&comment);
                text.push_str("    fields:\n");
                for (field, from) in guesses(section, shape) {
                    let _ = writeln!(text, "      {field}: {}  # TODO", quoted(&from));
                }
                told.push((place, format!("{objects}: perhaps {section}")));
            }
            (None, Some(outer)) => {
                let _ = writeln!(
                    text,
                    "    # in each of {}: ${}, {objects} in all",
                    line(&format!("{group} {outer}")),
                    line(&path[outer.len()..])
                );
                text.push_str(&comment);
                told.push((place, format!("{objects}, in each of {outer}")));
            }
            (None, None) => {
                let _ = writeln!(text, "  # TODO: {}, {objects}: what are they?", line(&place));
                text.push_str(&comment);
                told.push((place, format!("{objects}: what are they?")));
            }
        }
    }
    if !any {
        text = text.replacen("records:\n", "records: []\n", 1);
    }
    DraftProfile { text, told }
}

/// As YAML takes it: a plain text, or quoted as JSON is.
fn quoted(text: &str) -> String {
    let plain = |sign: char| sign.is_ascii_alphanumeric() || "$._-/".contains(sign);
    if text.chars().all(plain) { text.to_owned() } else { serde_json::Value::from(text).to_string() }
}

/// As a comment takes it: in one line.
fn line(text: &str) -> String {
    text.escape_debug().to_string()
}
