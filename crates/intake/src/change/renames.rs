//! Items that have another id and are otherwise the same: the old state is read as if it had the new names.
//!
//! An item whose id is not in the other state is looked for by its content less names; it is found if exactly one item of the other
//! state can be it. What refers to items that are found already, or that kept their ids, must refer to the same. Where several
//! items are alike, those that refer to them tell them apart.

use super::document::{Document, Placed, Shape};
use super::words;
use crate::tree::Scalar;
use std::collections::{BTreeMap, BTreeSet};

/// An item: its section, and its id.
type Known = (&'static str, String);

/// What an item looks like: its section, its content, and who names it.
type Look = (&'static str, String, Vec<String>);

/// Fields that name items, and the sections of these.
const FIELDS: [(&str, &str); 29] = [
    ("acl", "network_acls"),
    ("balancer", "balancers"),
    ("base", "firewall_policies"),
    ("conduct", "conducts"),
    ("division", "divisions"),
    ("group", "security_groups"),
    ("groups", "security_groups"),
    ("hub", "hubs"),
    ("interface", "interfaces"),
    ("interfaces", "interfaces"),
    ("main_table", "route_tables"),
    ("network", "networks"),
    ("networks", "networks"),
    ("own_firewall", "own_firewalls"),
    ("owner", "owners"),
    ("parent", "divisions"),
    ("policy", "firewall_policies"),
    ("private_doors", "interfaces"),
    ("resolves_as", "networks"),
    ("route_table", "route_tables"),
    ("serves", "subnets"),
    ("set", "address_sets"),
    ("site", "sites"),
    ("steer_internet", "firewalls"),
    ("steer_private", "firewalls"),
    ("subnet", "subnets"),
    ("table", "route_tables"),
    ("workload", "workloads"),
    ("names", "name_sets"),
];

/// Kinds as they stand before names, and the sections of these.
pub(super) const KINDS: [(&str, &str); 21] = [
    ("acl", "network_acls"),
    ("balancer", "balancers"),
    ("division", "divisions"),
    ("firewall", "firewalls"),
    ("firewall-policy", "firewall_policies"),
    ("gateway", "gateways"),
    ("group", "security_groups"),
    ("hub", "hubs"),
    ("interface", "interfaces"),
    ("names", "name_sets"),
    ("network", "networks"),
    ("own-firewall", "own_firewalls"),
    ("peering", "peerings"),
    ("policy", "scope_policies"),
    ("service", "services"),
    ("set", "address_sets"),
    ("site", "sites"),
    ("subnet", "subnets"),
    ("table", "route_tables"),
    ("workload", "workloads"),
    ("zone", "dns_zones"),
];

/// Fields in which nothing is a name of an item.
pub(super) const NO_NAMES: [&str; 6] = ["id", "tags", "only_tagged", "tag", "settings", "name"];
/// Sections whose items have ids that others may name.
const WITHOUT_IDS: [&str; 4] = ["estate", "gaps", "public_addresses", "public_names"];

/// The section of a field that names items; none of what only looks like one.
fn named_by(section: &str, field: &str) -> Option<&'static str> {
    // Names of a name set are DNS names.
    if field == "names" && section != "firewall_policies" {
        return None;
    }
    let found = FIELDS.iter().find(|(known, _)| *known == field);
    found.map(|(_, section)| *section)
}

/// The item that a scalar of some field names: its section, and its id.
pub(super) fn named_in(section: &str, field: &str, scalar: Scalar, text: &str) -> Option<Known> {
    if !matches!(scalar, Scalar::Text | Scalar::Number) {
        return None;
    }
    if let Some(of) = named_by(section, field) {
        return Some((of, text.to_owned()));
    }
    let (kind, name) = text.split_once(':')?;
    let of = KINDS.iter().find(|(known, _)| *known == kind)?;
    Some((of.1, name.to_owned()))
}

/// Shows every name of an item in a value, with the section of that item.
fn each_name(
    section: &str,
    field: &str,
    value: &mut Placed,
    change: &mut dyn FnMut(&'static str, &str) -> Option<String>,
) {
    match &mut value.shape {
        Shape::Scalar(scalar, text) => {
            if let Some((of, name)) = named_in(section, field, *scalar, text)
                && let Some(new) = change(of, &name)
            {
                *text = match text.strip_suffix(&name) {
                    Some(kind) => format!("{kind}{new}"),
                    None => new,
                };
            }
        }
        Shape::List(items) => {
            for item in items {
                each_name(section, field, item, change);
            }
        }
        Shape::Map(fields) => {
            for (name, value) in fields {
                if !NO_NAMES.contains(&name.as_str()) {
                    each_name(section, name, value, change);
                }
            }
        }
    }
}

/// Takes all ids away, and what refers to parts of the same item.
fn blank(value: &mut Placed) {
    match &mut value.shape {
        Shape::Scalar(_, text) => {
            if text.starts_with("link:") {
                "link:*".clone_into(text);
            }
        }
        Shape::List(items) => items.iter_mut().for_each(blank),
        Shape::Map(fields) => {
            fields.retain(|(name, _)| !["id", "reads", "announces_into"].contains(&name.as_str()));
            fields.iter_mut().for_each(|(_, value)| blank(value));
        }
    }
}

/// Two states, and which items of one are which of the other.
struct Search<'d> {
    sides: [&'d Document; 2],
    /// The items whose ids are not in the other state.
    open: [BTreeMap<Known, &'d Placed>; 2],
    /// Of each old id the new one.
    found: BTreeMap<Known, String>,
    /// The new items that were found.
    taken: BTreeSet<Known>,
}

/// So many items that are alike are told apart by those that name them; more stay unmatched.
const MOST_ALIKE: usize = 400;

impl<'d> Search<'d> {
    fn of(old: &'d Document, new: &'d Document) -> Self {
        let all = |document: &'d Document| -> BTreeMap<Known, &'d Placed> {
            let sections = document.sections.iter();
            let sections = sections.filter(|(name, _)| !WITHOUT_IDS.contains(&name.as_str()));
            let items = sections.flat_map(|(name, items)| {
                let section = words::section(name);
                items.iter().map(move |item| (section, item))
            });
            items
                .map(|(section, item)| ((section, words::id_of(section, item)), item))
                .collect()
        };
        let (before, after) = (all(old), all(new));
        let only = |one: &BTreeMap<Known, &'d Placed>, other: &BTreeMap<Known, &'d Placed>| {
            let mut left = one.clone();
            left.retain(|known, _| !other.contains_key(known));
            left
        };
        Self {
            open: [only(&before, &after), only(&after, &before)],
            sides: [old, new],
            found: BTreeMap::new(),
            taken: BTreeSet::new(),
        }
    }

    /// What an item says less names; names of what is known are the new ones, of what is still looked for nothing.
    fn content(&self, side: usize, section: &str, item: &Placed) -> String {
        let mut item = item.clone();
        blank(&mut item);
        each_name(section, "", &mut item, &mut |of, name| {
            let known = (of, name.to_owned());
            if side == 0
                && let Some(new) = self.found.get(&known)
            {
                return Some(new.clone());
            }
            let is_found = side == 1 && self.taken.contains(&known);
            (self.open[side].contains_key(&known) && !is_found).then(|| "*".to_owned())
        });
        item.canonical()
    }

    /// Who names an item: the contents of these, without the name.
    fn users(&self, side: usize, known: &Known) -> Vec<String> {
        let mut found = Vec::new();
        for (name, items) in &self.sides[side].sections {
            let section = words::section(name);
            for item in items {
                let mut names = false;
                let mut marked = item.clone();
                each_name(section, "", &mut marked, &mut |of, name| {
                    let is_it = of == known.0 && name == known.1;
                    names |= is_it;
                    is_it.then(|| "this".to_owned())
                });
                if names {
                    found.push(format!(
                        "{section} {}",
                        self.content(side, section, &marked)
                    ));
                }
            }
        }
        found.sort();
        found
    }

    /// Finds what can be found, round by round.
    fn all(mut self) -> BTreeMap<Known, String> {
        let mut with_users = false;
        loop {
            let mut by_content: BTreeMap<Look, [Vec<&Known>; 2]> = BTreeMap::new();
            for side in [0, 1] {
                for (known, item) in &self.open[side] {
                    let is_found = match side {
                        0 => self.found.contains_key(known),
                        _ => self.taken.contains(known),
                    };
                    if is_found {
                        continue;
                    }
                    let users = if with_users {
                        self.users(side, known)
                    } else {
                        Vec::new()
                    };
                    let key = (known.0, self.content(side, known.0, item), users);
                    by_content.entry(key).or_default()[side].push(known);
                }
            }
            let mut pairs: Vec<(Known, String)> = Vec::new();
            for ((_, content, users), [old, new]) in by_content {
                // Whatever names them names them alike, and all else is found: which is which says nothing.
                let mut texts = users.iter().chain([&content]);
                let twins = with_users && texts.all(|text| !text.contains('*'));
                if old.len() == new.len() && (old.len() == 1 || twins) {
                    let both = old.into_iter().cloned().zip(new);
                    pairs.extend(both.map(|(old, new)| (old, new.1.clone())));
                }
            }
            if pairs.is_empty() {
                let left = self.open[0].len() - self.found.len();
                if with_users || left > MOST_ALIKE {
                    return self.found;
                }
                with_users = true;
                continue;
            }
            with_users = false;
            let taken = pairs.iter().map(|(old, new)| (old.0, new.clone()));
            self.taken.extend(taken);
            self.found.extend(pairs);
        }
    }
}

/// Parts of an item that have another id: the old ids, and the new ones. Where nothing refers to parts, those that are alike
/// stand for each other.
fn parts(old: &Placed, new: &Placed, is_named: bool) -> BTreeMap<String, String> {
    let named = |list: &Placed| -> Vec<(String, String)> {
        let elements = list.elements().iter();
        elements
            .filter_map(|one| {
                let id = one.text_at("id")?.to_owned();
                let mut content = one.clone();
                blank(&mut content);
                Some((id, content.canonical()))
            })
            .collect()
    };
    let (old, new) = (named(old), named(new));
    let ids = |list: &[(String, String)]| -> BTreeSet<String> {
        list.iter().map(|(id, _)| id.clone()).collect()
    };
    let (before, after) = (ids(&old), ids(&new));
    let left = |list: Vec<(String, String)>, other: &BTreeSet<String>| {
        let mut by: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for (id, content) in list.into_iter().filter(|(id, _)| !other.contains(id)) {
            by.entry(content).or_default().push(id);
        }
        by
    };
    let (old, mut new) = (left(old, &after), left(new, &before));
    old.into_iter()
        .filter_map(|(content, old)| {
            let new = new.remove(&content)?;
            let fits = old.len() == new.len() && (old.len() == 1 || !is_named);
            fits.then(|| old.into_iter().zip(new))
        })
        .flatten()
        .collect()
}

fn put_id(fields: &mut [(String, Placed)], new: &str) {
    let ids = fields.iter_mut().filter(|(field, _)| field == "id");
    for (_, value) in ids {
        if let Shape::Scalar(_, id) = &mut value.shape {
            new.clone_into(id);
        }
    }
}

/// Parts of an item get the ids that they have in another state of it; how many.
fn rename_parts(old: &mut Placed, new: &Placed) -> usize {
    let Shape::Map(fields) = &mut old.shape else {
        return 0;
    };
    let mut links: BTreeMap<String, String> = BTreeMap::new();
    let mut domains: BTreeMap<String, String> = BTreeMap::new();
    let mut count = 0;
    for (name, value) in fields.iter_mut() {
        let Some(there) = new.get(name) else { continue };
        if value == there || !matches!(value.shape, Shape::List(_)) {
            continue;
        }
        let found = parts(value, there, ["links", "domains"].contains(&name.as_str()));
        let Shape::List(items) = &mut value.shape else {
            continue;
        };
        for item in items {
            let new_id = item.text_at("id").and_then(|id| found.get(id));
            if let (Some(new), Shape::Map(fields)) = (new_id, &mut item.shape) {
                put_id(fields, new);
                count += 1;
            }
            let there = there.elements().iter();
            let mut there = there.filter(|one| one.text_at("id") == item.text_at("id"));
            if let (Some(_), Some(there)) = (item.text_at("id"), there.next()) {
                count += rename_parts(item, there);
            }
        }
        match name.as_str() {
            "links" => links = found,
            "domains" => domains = found,
            _ => {}
        }
    }
    if !links.is_empty() || !domains.is_empty() {
        fields
            .iter_mut()
            .for_each(|(name, value)| within_hub(name, value, &links, &domains));
    }
    count
}

/// What parts of a hub say of its other parts.
fn within_hub(
    field: &str,
    value: &mut Placed,
    links: &BTreeMap<String, String>,
    domains: &BTreeMap<String, String>,
) {
    match &mut value.shape {
        Shape::Scalar(_, text) => {
            if ["reads", "announces_into"].contains(&field) {
                if let Some(new) = domains.get(text) {
                    text.clone_from(new);
                }
            } else if let Some(new) = text.strip_prefix("link:").and_then(|name| links.get(name)) {
                *text = format!("link:{new}");
            }
        }
        Shape::List(items) => items
            .iter_mut()
            .for_each(|item| within_hub(field, item, links, domains)),
        Shape::Map(fields) => fields
            .iter_mut()
            .for_each(|(name, value)| within_hub(name, value, links, domains)),
    }
}

/// The old state with the names of the new one; how many items and parts have another name.
pub(super) fn renamed(old: &mut Document, new: &Document) -> usize {
    let found = Search::of(old, new).all();
    let mut count = found.len();
    for (name, items) in &mut old.sections {
        let section = words::section(name);
        let there: BTreeMap<String, &Placed> = new
            .section(name)
            .iter()
            .map(|item| (words::id_of(section, item), item))
            .collect();
        for item in items.iter_mut() {
            if !found.is_empty() {
                each_name(section, "", item, &mut |of, name| {
                    found.get(&(of, name.to_owned())).cloned()
                });
            }
            let known = (section, words::id_of(section, item));
            if let (Shape::Map(fields), Some(new)) = (&mut item.shape, found.get(&known)) {
                put_id(fields, new);
            }
            if let Some(new) = there.get(&words::id_of(section, item)) {
                count += rename_parts(item, new);
            }
        }
    }
    count
}
