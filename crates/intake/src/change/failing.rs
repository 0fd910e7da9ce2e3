//! What can fail: things that the format has a word for when they are down, and gateways to which routes can be taken away.

use super::document::{Document, Placed};
use super::rehearse::whole;
use super::spoken::{gateways_of, in_words};
use super::words;
use crate::load::Snapshot;
use heronshale_model::source::Place;
use std::collections::BTreeSet;

/// Something that can fail.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failing {
    /// Which kind of thing: `gateway`, `peering`, `link`, `firewall`, `member`, `balancer`, `back end`.
    pub kind: &'static str,
    /// Its name; of a part `OF/NAME`.
    pub name: String,
    /// Who owns it.
    pub owner: Option<String>,
    /// Where it was written.
    pub place: Place,
    /// Whether it is down as it is.
    pub is_down: bool,
}

impl Failing {
    /// With its kind: `gateway quay-internet`.
    pub fn told(&self) -> String {
        format!("{} {}", self.kind, self.name)
    }

    /// Its failure, as a change in words.
    pub fn words(&self) -> String {
        format!("down {} {}", self.kind, self.name)
    }
}

/// A kind of things: the section, the kind, and the list and kind of their parts.
type Kind = (
    &'static str,
    &'static str,
    Option<(&'static str, &'static str)>,
);

/// All kinds of things that can fail.
const KINDS: [Kind; 5] = [
    ("gateways", "gateway", None),
    ("peerings", "peering", None),
    ("hubs", "", Some(("links", "link"))),
    ("firewalls", "firewall", Some(("members", "member"))),
    ("balancers", "balancer", Some(("back_ends", "back end"))),
];

/// The way out of a subnet: all gateways to which its routes lead.
pub(super) const WAY_OUT: &str = "way out of subnet";

/// Pairs of things that share a place, so that both together may do more than each alone: parts of one thing, and next hops of one
/// table.
pub fn failing_pairs(base: &Snapshot, things: &[&Failing]) -> Vec<(usize, usize)> {
    let document = Document::of(&base.texts);
    let mut tables: Vec<BTreeSet<String>> = Vec::new();
    for table in document.section("route_tables") {
        let routes = table.get("routes").map_or(&[][..], Placed::elements);
        let hops = routes.iter().filter_map(|route| route.text_at("next_hop"));
        tables.push(hops.map(|hop| hop.replace(':', " ")).collect());
    }
    let of = |thing: &Failing| thing.name.split_once('/').map(|(of, _)| of.to_owned());
    let whole = |thing: &Failing| match of(thing) {
        // A member stands for its firewall.
        Some(of) if thing.kind == "member" => format!("firewall {of}"),
        Some(of) if thing.kind == "back end" => format!("balancer {of}"),
        _ => format!("{} {}", thing.kind, thing.name),
    };
    let shares = |one: &Failing, other: &Failing| {
        let (a, b) = (whole(one), whole(other));
        let parts = one.kind == other.kind && of(one).is_some() && of(one) == of(other);
        let hops = a != b
            && tables
                .iter()
                .any(|all| all.contains(&a) && all.contains(&b));
        parts || hops
    };
    let mut found = Vec::new();
    for (at, one) in things.iter().enumerate() {
        for (to, other) in things.iter().enumerate().skip(at + 1) {
            if shares(one, other) {
                found.push((at, to));
            }
        }
    }
    found
}

/// All that can fail in a snapshot, kind by kind.
pub fn failing(base: &Snapshot) -> Vec<Failing> {
    let document = Document::of(&base.texts);
    let as_is = whole(&base.texts);
    let find = |section: &str, id: &str| {
        let mut all = document.section(section).iter();
        all.find(|one| words::id_of(section, one) == id).cloned()
    };
    let mut found = Vec::new();
    let mut add = |kind: &'static str, name: String, section: &str, item: &Placed, at: &Placed| {
        let sources = &base.estate.sources;
        let file = sources.file(at.span.file);
        let (line, start) = file.line(at.span.start);
        let mut thing = Failing {
            kind,
            name,
            owner: words::owner_of(section, item, &find),
            place: Place {
                file: file.name.to_string(),
                line,
                column: (at.span.start - start) as usize + 1,
                pointer: String::new(),
            },
            is_down: false,
        };
        let mut after = as_is.clone();
        // What has no name cannot be named, and what cannot be down cannot fail.
        if in_words(&mut after, &thing.words()).is_ok() {
            let mut sides = item.get("sides").map_or(&[][..], Placed::elements).iter();
            // One side suffices. A gateway without routes is no less up for it.
            thing.is_down = match kind {
                "peering" => sides.any(|side| side.text_at("up") == Some("false")),
                "gateway" => {
                    let fields = ["attached", "up"];
                    fields
                        .iter()
                        .any(|field| item.text_at(field) == Some("false"))
                }
                _ => after == as_is,
            };
            found.push(thing);
        }
    };
    for (section, kind, parts) in KINDS {
        for item in document.section(section) {
            let id = words::id_of(section, item);
            let elements = parts.and_then(|(list, _)| item.get(list));
            let elements = elements.map_or(&[][..], Placed::elements);
            if !kind.is_empty() {
                add(kind, id.clone(), section, item, item);
            }
            // One part alone is the whole.
            let Some((_, kind)) = parts.filter(|_| kind.is_empty() || elements.len() > 1) else {
                continue;
            };
            for element in elements {
                let known = ["id", "interface", "address"];
                let known = known.into_iter().find_map(|field| element.text_at(field));
                if let Some(known) = known {
                    add(kind, format!("{id}/{known}"), section, item, element);
                }
            }
        }
    }
    // A way out by one gateway is that gateway.
    for subnet in document.section("subnets") {
        let id = words::id_of("subnets", subnet);
        if gateways_of(&as_is, &id).is_ok_and(|gateways| gateways.len() > 1) {
            add(WAY_OUT, id, "subnets", subnet, subnet);
        }
    }
    found
}
