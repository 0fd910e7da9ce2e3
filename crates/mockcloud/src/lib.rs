//! Skerry, a cloud that does not exist: it tells of an estate in JSON of its own, so that there is something to import that no
//! part of Heronshale knows. What it calls things, and how it writes ports, peers and references, is made up here.

mod server;

pub use server::{Faults, Server, serve};

use serde_json::{Map, Value, json};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

/// The profile by which Heronshale reads what Skerry tells.
pub const PROFILE: &str = include_str!("../skerry.yaml");

/// The demo estate's files.
const MARROWFEN: [&str; 8] = [
    include_str!("../../cli/demo/marrowfen/estate.yaml"),
    include_str!("../../cli/demo/marrowfen/quay.yaml"),
    include_str!("../../cli/demo/marrowfen/tickets.yaml"),
    include_str!("../../cli/demo/marrowfen/cargo.yaml"),
    include_str!("../../cli/demo/marrowfen/fleet.yaml"),
    include_str!("../../cli/demo/marrowfen/office.yaml"),
    include_str!("../../cli/demo/marrowfen/harbour.yaml"),
    include_str!("../../cli/demo/marrowfen/policies.yaml"),
];

/// What Skerry tells: collections of objects by name, and the account.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Cloud {
    /// The account's own data.
    pub account: Value,
    /// The collections.
    pub collections: BTreeMap<String, Vec<Value>>,
}

/// The collections that hold what the snapshot's sections hold, and how their references begin.
const COLLECTIONS: [(&str, &str, &str); 23] = [
    ("networks", "nets", "net"),
    ("subnets", "cells", "cel"),
    ("workloads", "machines", "mch"),
    ("interfaces", "plugs", "plg"),
    ("security_groups", "crews", "crw"),
    ("network_acls", "screens", "scr"),
    ("route_tables", "charts", "cht"),
    ("gateways", "mouths", "mth"),
    ("public_addresses", "buoys", "buo"),
    ("address_sets", "lists", "lst"),
    ("owners", "keepers", "kpr"),
    ("divisions", "areas", "are"),
    ("peerings", "bridges", "brg"),
    ("sites", "yards", "yrd"),
    ("scope_policies", "rulings", "rul"),
    ("own_firewalls", "guards", "grd"),
    ("firewalls", "locks", "lck"),
    ("firewall_policies", "lockbooks", "lbk"),
    ("balancers", "spreaders", "spr"),
    ("services", "offerings", "off"),
    ("hubs", "rings", "rng"),
    ("name_sets", "namelists", "nml"),
    ("gaps", "blind_spots", "bls"),
];

/// Fields that name objects of a section, by what Skerry calls them.
const REFERENCES: [(&str, &str, &str); 9] = [
    ("network", "net", "networks"),
    ("subnet", "cell", "subnets"),
    ("workload", "machine", "workloads"),
    ("interface", "plug", "interfaces"),
    ("groups", "crews", "security_groups"),
    ("acl", "screen", "network_acls"),
    ("route_table", "chart", "route_tables"),
    ("main_table", "chart", "route_tables"),
    ("own_firewall", "guard", "own_firewalls"),
];

/// Other fields with another name.
const NAMES: [(&str, &str); 10] = [
    ("id", "label"),
    ("owner", "kept_by"),
    ("description", "about"),
    ("blocks", "ranges"),
    ("addresses", "at"),
    ("division", "area"),
    ("priority", "rank"),
    ("enforced_until", "ends"),
    ("review_by", "look_again"),
    ("service_identity", "runs_as"),
];

/// What rules do.
const VERDICTS: [(&str, &str); 4] = [
    ("allow", "permit"),
    ("deny", "refuse"),
    ("defer", "pass-on"),
    ("allow-finally", "permit-at-once"),
];

impl Cloud {
    /// The demo estate, as Skerry tells it.
    ///
    /// # Panics
    /// Never: the files ship with the program, and a test reads them.
    pub fn marrowfen() -> Self {
        Self::of(&MARROWFEN).expect("the demo's files are YAML")
    }

    /// An estate, as Skerry tells it.
    ///
    /// # Errors
    /// If a text is not YAML.
    pub fn of(texts: &[&str]) -> Result<Self, String> {
        let mut cloud = Self::default();
        for text in texts {
            let file: Map<String, Value> =
                serde_saphyr::from_str(text).map_err(|error| error.to_string())?;
            for (section, value) in file {
                match (section.as_str(), value) {
                    ("format" | "version", _) => {}
                    ("estate", value) => cloud.account = account(&value),
                    (section, Value::Array(items)) => {
                        let known = COLLECTIONS.iter().find(|(name, ..)| *name == section);
                        let (collection, prefix) = known
                            .map_or((section, "obj"), |(_, collection, prefix)| {
                                (*collection, *prefix)
                            });
                        let told = items.iter().map(|item| object(item, section, prefix));
                        cloud
                            .collections
                            .entry(collection.to_owned())
                            .or_default()
                            .extend(told);
                    }
                    (section, _) => return Err(format!("{section} is not a list")),
                }
            }
        }
        cloud.nest();
        Ok(cloud)
    }

    /// Cells are told within their nets.
    fn nest(&mut self) {
        let cells = self.collections.remove("cells").unwrap_or_default();
        for net in self.collections.entry("nets".to_owned()).or_default() {
            let within = |cell: &&Value| cell["net"] == net["ref"];
            let mut own: Vec<Value> = cells.iter().filter(within).cloned().collect();
            for cell in &mut own {
                if let Some(fields) = cell.as_object_mut() {
                    fields.remove("net");
                }
            }
            net["cells"] = own.into();
        }
    }

    /// What a list of a collection tells of its objects: all, but of crews only which there are.
    pub fn items(&self, collection: &str) -> Option<Vec<Value>> {
        let items = self.collections.get(collection)?;
        if collection != "crews" {
            return Some(items.clone());
        }
        Some(
            items
                .iter()
                .map(|crew| json!({ "ref": crew["ref"], "label": crew["label"] }))
                .collect(),
        )
    }

    /// One crew, with its entries.
    pub fn crew(&self, reference: &str) -> Option<&Value> {
        self.collections
            .get("crews")?
            .iter()
            .find(|crew| crew["ref"] == reference)
    }

    /// Everything as documents of one page, by name.
    pub fn documents(&self) -> Vec<(String, Value)> {
        let mut all = vec![("account".to_owned(), self.account.clone())];
        for name in self.collections.keys() {
            let items = self.items(name).unwrap_or_default();
            all.push((
                name.clone(),
                json!({ "kind": name, "count": items.len(), "items": items }),
            ));
        }
        for crew in self.collections.get("crews").into_iter().flatten() {
            all.push((format!("crews/{}", text(&crew["ref"])), crew.clone()));
        }
        all
    }
}

/// A reference: what kind, and a number that nobody can guess the name from.
fn reference(section: &str, id: &str) -> String {
    let prefix = COLLECTIONS
        .iter()
        .find(|(name, ..)| *name == section)
        .map_or("obj", |(.., prefix)| prefix);
    let digest = Sha256::digest(format!("{section}/{id}"));
    format!(
        "{prefix}-{:02x}{:02x}{:02x}{:02x}",
        digest[0], digest[1], digest[2], digest[3]
    )
}

fn text(value: &Value) -> String {
    value
        .as_str()
        .map_or_else(|| value.to_string(), str::to_owned)
}

/// One value or several, as several.
fn many(value: &Value) -> Vec<Value> {
    value
        .as_array()
        .cloned()
        .unwrap_or_else(|| vec![value.clone()])
}

fn account(estate: &Value) -> Value {
    let traffic = many(&estate["platform_traffic"]).into_iter().map(|one| {
        let what: Vec<Value> = many(&one["services"]).iter().map(service).collect();
        json!({ "at": one["addresses"], "what": what })
    });
    json!({
        "holder": estate["name"],
        "as_of": estate["taken"],
        "probers": estate["probes"],
        "house_traffic": traffic.collect::<Vec<_>>(),
        "billing": { "plan": "harbour-12", "month": "2026-11", "currency": "EUR" },
    })
}

/// An object of a collection.
fn object(item: &Value, section: &str, prefix: &str) -> Value {
    let mut told = Map::new();
    if let Some(id) = item.get("id") {
        told.insert("ref".to_owned(), reference(section, &text(id)).into());
    } else {
        let digest = Sha256::digest(item.to_string());
        told.insert(
            "ref".to_owned(),
            format!(
                "{prefix}-{:02x}{:02x}{:02x}",
                digest[0], digest[1], digest[2]
            )
            .into(),
        );
    }
    let mut entries = Vec::new();
    for (field, value) in item.as_object().into_iter().flatten() {
        match (section, field.as_str()) {
            (
                "security_groups" | "network_acls" | "scope_policies" | "own_firewalls",
                "inbound" | "outbound",
            ) => {
                let way = if field == "inbound" { "into" } else { "out-of" };
                entries.extend(many(value).iter().map(|rule| entry(rule, way)));
            }
            ("route_tables", "routes") => {
                told.insert("legs".to_owned(), many(value).iter().map(leg).collect());
            }
            (_, "tags") => {
                let marks = value.as_object().into_iter().flatten();
                told.insert(
                    "marks".to_owned(),
                    marks.map(|(k, v)| json!({ "k": k, "v": v })).collect(),
                );
            }
            // Ranges of cells stand in one text.
            ("subnets", "blocks") => {
                let all: Vec<String> = many(value).iter().map(text).collect();
                told.insert("ranges".to_owned(), all.join(" ").into());
            }
            _ => {
                let (name, value) = renamed(field, value);
                told.insert(name, value);
            }
        }
    }
    if matches!(
        section,
        "security_groups" | "network_acls" | "scope_policies" | "own_firewalls"
    ) {
        told.insert("entries".to_owned(), entries.into());
    }
    told.insert("revision".to_owned(), (told.len() * 7 % 23).into());
    told.into()
}

/// A field by Skerry's name, and its value if it is a reference.
fn renamed(field: &str, value: &Value) -> (String, Value) {
    if let Some((_, name, section)) = REFERENCES.iter().find(|(own, ..)| *own == field) {
        let told = match value {
            Value::Array(all) => all
                .iter()
                .map(|id| Value::from(reference(section, &text(id))))
                .collect(),
            one => Value::from(reference(section, &text(one))),
        };
        return ((*name).to_owned(), told);
    }
    let name = NAMES
        .iter()
        .find(|(own, _)| *own == field)
        .map_or(field, |(_, name)| name);
    (name.to_owned(), value.clone())
}

/// A rule.
fn entry(rule: &Value, way: &str) -> Value {
    let mut told = Map::new();
    told.insert("way".to_owned(), way.into());
    for (field, value) in rule.as_object().into_iter().flatten() {
        match field.as_str() {
            "action" => {
                let word = VERDICTS
                    .iter()
                    .find(|(own, _)| value == own)
                    .map_or("permit", |(_, word)| word);
                told.insert("verdict".to_owned(), word.into());
            }
            "services" => {
                told.insert("what".to_owned(), many(value).iter().map(service).collect());
            }
            "peers" => {
                told.insert("whom".to_owned(), many(value).iter().map(peer).collect());
            }
            _ => {
                let (name, value) = renamed(field, value);
                told.insert(name, value);
            }
        }
    }
    told.into()
}

/// A service: protocols are numbers, ports a low and a high one, ICMP has a sort and a detail.
fn service(written: &Value) -> Value {
    let written = text(written);
    let (protocol, rest) = written.split_once(' ').unwrap_or((&written, ""));
    let number = match protocol {
        "tcp" => 6,
        "udp" => 17,
        "icmp" => 1,
        "icmpv6" => 58,
        _ => return json!({ "proto": -1 }),
    };
    if rest.is_empty() {
        return json!({ "proto": number });
    }
    if number == 1 || number == 58 {
        return json!({ "proto": number, "sort": rest.parse::<u16>().unwrap_or(0) });
    }
    let (low, high) = rest.split_once('-').unwrap_or((rest, rest));
    json!({ "proto": number, "low": low.parse::<u16>().unwrap_or(0), "high": high.parse::<u16>().unwrap_or(0) })
}

/// A peer: of what kind, and which.
fn peer(written: &Value) -> Value {
    let written = text(written);
    let kinds = [
        ("group", "crew", "security_groups"),
        ("set", "list", "address_sets"),
        ("interface", "plug", "interfaces"),
        ("subnet", "cell", "subnets"),
        ("site", "yard", "sites"),
    ];
    for (own, kind, section) in kinds {
        if let Some(id) = written
            .strip_prefix(own)
            .and_then(|rest| rest.strip_prefix(':'))
        {
            return json!({ "kind": kind, "is": reference(section, id) });
        }
    }
    if let Some(mark) = written.strip_prefix("tag:") {
        let (k, v) = mark.split_once('=').unwrap_or((mark, ""));
        return json!({ "kind": "mark", "k": k, "v": v });
    }
    match written.as_str() {
        "any" => json!({ "kind": "everyone" }),
        "internet" => json!({ "kind": "outside" }),
        _ => json!({ "kind": "range", "is": written }),
    }
}

/// A route.
fn leg(route: &Value) -> Value {
    let mut told = Map::new();
    for (field, value) in route.as_object().into_iter().flatten() {
        if field != "next_hop" {
            let (name, value) = renamed(field, value);
            told.insert(name, value);
            continue;
        }
        let written = text(value);
        let by = match written.split_once(':') {
            None => json!({ "by": "nothing" }),
            Some((kind, id)) => {
                let (by, section) = match kind {
                    "gateway" => ("mouth", "gateways"),
                    "peering" => ("bridge", "peerings"),
                    "firewall" => ("lock", "firewalls"),
                    "interface" => ("plug", "interfaces"),
                    _ => ("other", kind),
                };
                json!({ "by": by, "ref": reference(section, id) })
            }
        };
        told.insert("onward".to_owned(), by);
    }
    told.into()
}
