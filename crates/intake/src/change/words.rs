//! What edits are called, and which order of which list has a meaning.

use super::document::{Placed, Shape};

/// Something that an edit is about.
#[derive(Clone, Copy)]
pub(super) struct Item<'m> {
    pub section: &'static str,
    pub id: &'m str,
    /// The list in which it stands, of which item.
    pub within: Option<&'m str>,
    /// Whether it is a union group, of whose rules any admits.
    pub is_union: bool,
}

impl Item<'_> {
    /// With its kind: `group fares-db`, `rule fares-db/tmp`.
    pub fn name(&self) -> String {
        match self.within {
            None if self.section == "estate" => "the estate".to_owned(),
            None => format!("{} {}", noun(self.section), self.id),
            Some(within) => {
                let (list, of) = within.split_once('\u{0}').unwrap_or((within, ""));
                format!("{} {of}/{}", element(list), self.id)
            }
        }
    }

    /// A list of it, as [`Self::within`] of its elements.
    pub fn within(&self, list: &str) -> String {
        let of = match self.within {
            None => self.id.to_owned(),
            Some(within) => {
                let of = within.split_once('\u{0}').map_or("", |(_, of)| of);
                format!("{of}/{}", self.id)
            }
        };
        format!("{list}\u{0}{of}")
    }
}

/// A section by its name, as the program knows it.
pub(super) fn section(name: &str) -> &'static str {
    crate::sections::section_named(name).unwrap_or("estate")
}

/// What an item of each section is called.
pub(super) const NOUNS: [(&str, &str); 26] = [
    ("conducts", "conduct"),
    ("owners", "owner"),
    ("divisions", "division"),
    ("networks", "network"),
    ("subnets", "subnet"),
    ("workloads", "workload"),
    ("interfaces", "interface"),
    ("public_addresses", "public address"),
    ("address_sets", "set"),
    ("security_groups", "group"),
    ("network_acls", "ACL"),
    ("scope_policies", "scope policy"),
    ("own_firewalls", "own firewall"),
    ("route_tables", "table"),
    ("gateways", "gateway"),
    ("peerings", "peering"),
    ("sites", "site"),
    ("firewalls", "firewall"),
    ("firewall_policies", "firewall policy"),
    ("balancers", "balancer"),
    ("services", "service"),
    ("hubs", "hub"),
    ("name_sets", "name set"),
    ("dns_zones", "zone"),
    ("public_names", "public record"),
    ("gaps", "gap"),
];

/// What an item of a section is called.
fn noun(section: &str) -> &'static str {
    let found = NOUNS.iter().find(|(known, _)| *known == section);
    found.map_or("the estate", |(_, noun)| noun)
}

/// What an element of a list is called.
pub(super) fn element(list: &str) -> &'static str {
    match list {
        "inbound" | "outbound" | "rules" => "rule",
        "routes" => "route",
        "records" => "record",
        "links" => "link",
        "domains" => "domain",
        "sections" => "section",
        "front_ends" => "front end",
        "back_ends" => "back end",
        "members" => "member",
        "interfaces" => "interface",
        "destination_translations" | "source_translations" => "translation",
        "sides" => "side",
        "own_services" => "own service",
        _ => "entry",
    }
}

/// A field in plain words.
pub(super) fn field(name: &str) -> String {
    name.replace('_', " ")
}

/// What an item of a section is known by.
pub(super) fn id_of(section: &str, item: &Placed) -> String {
    let by = match section {
        "public_addresses" => "address",
        "public_names" => "name",
        "gaps" => {
            let lacks = item.text_at("lacks").map(|lacks| format!(" ({lacks})"));
            return item.text_at("object").unwrap_or_default().to_owned()
                + lacks.as_deref().unwrap_or_default();
        }
        "estate" => return String::new(),
        _ => "id",
    };
    item.text_at(by).unwrap_or_default().to_owned()
}

/// What an element that is a record is called.
pub(super) fn element_name(before: Option<&Placed>, after: Option<&Placed>, key: &str) -> String {
    let one = after.or(before);
    let named = ["id", "interface", "network", "address", "name"]
        .into_iter()
        .find_map(|field| one.and_then(|one| one.text_at(field)));
    named.map_or_else(
        || one.map_or_else(|| key.to_owned(), |one| format!("({})", one.words())),
        str::to_owned,
    )
}

/// A field that has another value.
pub(super) fn changed(
    item: &Item<'_>,
    name: &str,
    was: Option<&Placed>,
    is: Option<&Placed>,
) -> String {
    let (of, name) = (item.name(), field(name));
    match (was, is) {
        (None, Some(is)) => format!("{of}: set {name} to {}", is.words()),
        (Some(was), None) => format!("{of}: take away {name} {}", was.words()),
        (Some(was), Some(is)) => format!("{of}: {name} {} → {}", was.words(), is.words()),
        (None, None) => of,
    }
}

/// A word that comes into a list, or goes out of it.
pub(super) fn listed(item: &Item<'_>, name: &str, one: &Placed, gone: bool) -> String {
    let (of, name, one) = (item.name(), field(name), one.words());
    if gone {
        format!("{of}: remove {one} from {name}")
    } else {
        format!("{of}: add {one} to {name}")
    }
}

/// The elements of a list, each with its key.
type Keyed<'l, 'p> = &'l [(String, &'p Placed)];

/// Whether elements that both lists have stand in another order, where an order has a meaning: in lists of which the first
/// match decides, unless both have priorities of their own, and where the first is the primary one.
pub(super) fn order_matters(
    item: &Item<'_>,
    list: &str,
    (old, new): (Keyed<'_, '_>, Keyed<'_, '_>),
    first_route: bool,
) -> bool {
    let place = |key: &String| new.iter().position(|(other, _)| other == key);
    let common: Vec<(usize, &Placed)> = old
        .iter()
        .filter_map(|(key, one)| place(key).map(|at| (at, *one)))
        .collect();
    let priority = |one: &Placed| one.text_at("priority").map(str::to_owned);
    let turned = |which: &dyn Fn(&Placed, &Placed) -> bool| {
        common.iter().enumerate().any(|(at, (place, one))| {
            let later = common[at + 1..].iter();
            later
                .filter(|(other, _)| other < place)
                .any(|(_, other)| which(one, other))
        })
    };
    let is_v4 = |one: &Placed| one.text().is_some_and(|text| !text.contains(':'));
    match list {
        // Rules of unlike priorities are sorted anyhow; neighbours that decide alike may change places, but this is not looked at.
        "inbound" | "outbound" | "rules" | "sections" => {
            // Where rules come or go as well, their places among the others must be known.
            let same = common.len() == old.len() && common.len() == new.len();
            !item.is_union && turned(&|one, other| !same || priority(one) == priority(other))
        }
        "destination_translations" | "source_translations" | "class_order" => turned(&|_, _| true),
        "routes" => first_route && turned(&|_, _| true),
        "records" => turned(&|one, other| one.text_at("name") == other.text_at("name")),
        "addresses" if item.section == "interfaces" => {
            turned(&|one, other| is_v4(one) == is_v4(other))
                && first_of(old, is_v4) != first_of(new, is_v4)
        }
        "groups" => turned(&|_, _| true),
        _ => false,
    }
}

/// The first of each family.
fn first_of<'p>(list: &[(String, &'p Placed)], is_v4: fn(&Placed) -> bool) -> [Option<&'p str>; 2] {
    [true, false].map(|v4| {
        let mut of = list.iter().filter(|(_, one)| is_v4(one) == v4);
        of.next().and_then(|(_, one)| one.text())
    })
}

/// Who changes an item: its owner, else that of what it belongs to.
pub(super) fn owner_of(
    section: &str,
    item: &Placed,
    find: &dyn Fn(&str, &str) -> Option<Placed>,
) -> Option<String> {
    if let Some(owner) = item.text_at("owner") {
        return Some(owner.to_owned());
    }
    let around: &[(&str, &str)] = match section {
        "interfaces" => &[("workload", "workloads"), ("subnet", "subnets")],
        "public_addresses" => &[("interface", "interfaces")],
        "subnets" | "gateways" | "route_tables" | "balancers" | "services" => {
            &[("network", "networks")]
        }
        "peerings" => {
            let Shape::List(sides) = &item.get("sides")?.shape else {
                return None;
            };
            return sides.iter().find_map(|side| {
                let network = find("networks", side.text_at("network")?)?;
                owner_of("networks", &network, find)
            });
        }
        _ => &[],
    };
    around.iter().find_map(|(field, section)| {
        let there = find(section, item.text_at(field)?)?;
        owner_of(section, &there, find)
    })
}
