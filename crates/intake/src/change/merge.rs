//! Two documents put together, edit by edit: one recursion lists the edits and makes the states between the two.
//!
//! The recursion meets the same edits in the same order whatever is decided, so that the number of an edit is its name.

use super::document::{Document, PROSE, Placed, Shape};
use super::words::{self, Item};
use heronshale_model::source::Span;
use std::collections::{BTreeMap, BTreeSet};

/// Lists of which the absence is the empty list.
const LISTS: [&str; 30] = [
    "inbound",
    "outbound",
    "groups",
    "rules",
    "routes",
    "records",
    "links",
    "domains",
    "sections",
    "front_ends",
    "back_ends",
    "members",
    "interfaces",
    "private_doors",
    "destination_translations",
    "source_translations",
    "addresses",
    "networks",
    "names",
    "except",
    "except_sources",
    "except_destinations",
    "announces_into",
    "blocks",
    "holds",
    "class_order",
    "platform_traffic",
    "services",
    "sides",
    "serves",
];

/// Of these lists an absence is a word of its own, wherever the format allows it.
fn is_list(item: &Item<'_>, field: &str) -> bool {
    let own = match field {
        // No table of its own.
        "routes" => item.section != "firewalls",
        // Rules: any service, any name, any address; translations: addresses of their own.
        "services" => matches!(item.section, "balancers" | "services"),
        "names" => item.section == "name_sets",
        "serves" => false,
        "blocks" => item.section != "gaps",
        _ => true,
    };
    own && LISTS.contains(&field)
}

/// What an edit is, as the recursion meets it.
pub(super) struct Met<'m> {
    pub item: Item<'m>,
    /// The field or list of it; empty for a whole item or element.
    pub field: &'m str,
    /// What becomes what, in words.
    pub text: String,
    /// Where: in NEW, of what is gone in OLD.
    pub span: Span,
    pub gone: bool,
    /// What it puts there.
    pub puts: Option<&'m Placed>,
    /// Whether it adds or removes an item as a whole.
    pub whole: bool,
    /// The item that is added as a whole.
    pub adds: Option<String>,
}

/// Decides of each edit whether the new side is taken.
pub(super) trait Decide {
    fn is_taken(&mut self, met: Met<'_>) -> bool;
}

/// Puts two documents together.
pub(super) struct Merge<'d, D> {
    pub old: &'d Document,
    pub new: &'d Document,
    pub decide: D,
    /// Whether of equal routes the first is taken somewhere.
    first_route: bool,
}

/// A list as it is matched: the key of each element, and the element.
type Keyed<'p> = Vec<(String, &'p Placed)>;

impl<'d, D: Decide> Merge<'d, D> {
    pub fn new(old: &'d Document, new: &'d Document, decide: D) -> Self {
        let mut said = Vec::new();
        for document in [old, new] {
            let items = document.sections.values().flatten();
            items.for_each(|item| item.texts_of("equal_routes", &mut said));
        }
        Self {
            old,
            new,
            decide,
            first_route: said.contains(&"first"),
        }
    }

    /// All sections of the state.
    pub fn whole(&mut self) -> BTreeMap<String, Vec<Placed>> {
        let names: BTreeSet<&String> = self
            .old
            .sections
            .keys()
            .chain(self.new.sections.keys())
            .collect();
        let mut found = BTreeMap::new();
        for name in names {
            let section = words::section(name);
            let (old, new) = (self.old.section(name), self.new.section(name));
            let (old, new) = (keyed(section, old), keyed(section, new));
            let mut items = Vec::new();
            for (key, before, after) in matched(&old, &new) {
                // Of the rules of a union any admits.
                let is_union = |side: Option<&Placed>| {
                    side.is_none_or(|side| side.text_at("form").is_none_or(|form| form == "union"))
                };
                let item = Item {
                    section,
                    id: &key,
                    within: None,
                    is_union: section == "security_groups" && is_union(before) && is_union(after),
                };
                items.extend(self.item(&item, before, after));
            }
            found.insert(name.clone(), items);
        }
        found
    }

    fn edit(&mut self, met: Met<'_>) -> bool {
        self.decide.is_taken(met)
    }

    /// A whole item, or an element that is a record.
    fn item(
        &mut self,
        item: &Item<'_>,
        before: Option<&Placed>,
        after: Option<&Placed>,
    ) -> Option<Placed> {
        match (before, after) {
            (Some(before), Some(after)) => Some(self.record(item, before, after)),
            (Some(before), None) => {
                let met = Met {
                    item: *item,
                    field: "",
                    text: format!("remove {}", item.name()),
                    span: before.span,
                    gone: true,
                    puts: None,
                    whole: item.within.is_none(),
                    adds: None,
                };
                (!self.edit(met)).then(|| before.clone())
            }
            (None, Some(after)) => {
                let adds = item.within.is_none().then(|| item.id.to_owned());
                let met = Met {
                    item: *item,
                    field: "",
                    text: format!("add {}", item.name()),
                    span: after.span,
                    gone: false,
                    puts: Some(after),
                    whole: item.within.is_none(),
                    adds,
                };
                self.edit(met).then(|| after.clone())
            }
            (None, None) => None,
        }
    }

    /// A record that both have, field by field.
    fn record(&mut self, item: &Item<'_>, before: &Placed, after: &Placed) -> Placed {
        let (Shape::Map(old), Shape::Map(new)) = (&before.shape, &after.shape) else {
            return after.clone();
        };
        let names = old.iter().chain(new).map(|(name, _)| name);
        let names: BTreeSet<&String> = names.collect();
        let mut fields = Vec::new();
        for name in names {
            let (was, is) = (before.get(name), after.get(name));
            let value = if PROSE.contains(&name.as_str()) || was == is {
                is.cloned()
            } else {
                self.field(item, name, (was, is), (before.span, after.span))
            };
            fields.extend(value.map(|value| (name.clone(), value)));
        }
        Placed {
            span: after.span,
            shape: Shape::Map(fields),
        }
    }

    /// A field that differs.
    fn field(
        &mut self,
        item: &Item<'_>,
        name: &str,
        (was, is): (Option<&Placed>, Option<&Placed>),
        (old_span, new_span): (Span, Span),
    ) -> Option<Placed> {
        let both = was.is_some() && is.is_some();
        let is_map =
            |side: Option<&Placed>| side.is_none_or(|side| matches!(side.shape, Shape::Map(_)));
        // One setting at one place.
        if name == "settings" && is_map(was) && is_map(is) {
            let empty = Placed {
                span: was.or(is).map_or(new_span, |side| side.span),
                shape: Shape::Map(Vec::new()),
            };
            return Some(self.record(item, was.unwrap_or(&empty), is.unwrap_or(&empty)));
        }
        let has_list =
            |side: Option<&Placed>| side.is_some_and(|side| matches!(side.shape, Shape::List(_)));
        if (both && (has_list(was) || has_list(is))) || is_list(item, name) {
            let empty: &[Placed] = &[];
            let old = was.map_or(empty, Placed::elements);
            let new = is.map_or(empty, Placed::elements);
            let scalars = old.iter().chain(new).all(|one| one.text().is_some());
            let shares = old.iter().any(|one| new.contains(one));
            if !scalars || shares || is_list(item, name) {
                return Some(self.list(item, name, old, new, new_span));
            }
        }
        let met = Met {
            item: *item,
            field: name,
            text: words::changed(item, name, was, is),
            span: is.map_or(if both { new_span } else { old_span }, |side| side.span),
            gone: is.is_none(),
            puts: is,
            whole: false,
            adds: None,
        };
        if self.edit(met) {
            is.cloned()
        } else {
            was.cloned()
        }
    }

    /// A list, element by element.
    fn list(
        &mut self,
        item: &Item<'_>,
        name: &str,
        old: &[Placed],
        new: &[Placed],
        span: Span,
    ) -> Placed {
        let (old, new) = paired(old, new);
        let mut kept: BTreeMap<String, Placed> = BTreeMap::new();
        let within = item.within(name);
        for (key, before, after) in matched(&old, &new) {
            let is_record = before
                .or(after)
                .is_some_and(|one| matches!(one.shape, Shape::Map(_)));
            let value = if is_record {
                let name = words::element_name(before, after, &key);
                let element = Item {
                    section: item.section,
                    id: &name,
                    within: Some(&within),
                    is_union: item.is_union,
                };
                self.item(&element, before, after)
            } else {
                self.scalar(item, name, before, after)
            };
            kept.extend(value.map(|value| (key, value)));
        }
        let moved = words::order_matters(item, name, (&old, &new), self.first_route) && {
            let met = Met {
                item: *item,
                field: name,
                text: format!("{}: order of {}", item.name(), words::field(name)),
                span: new.first().map_or(span, |(_, one)| one.span),
                gone: false,
                puts: None,
                whole: false,
                adds: None,
            };
            self.edit(met)
        };
        Placed {
            span,
            shape: Shape::List(in_order(&old, &new, moved, kept)),
        }
    }

    /// An element that is one word.
    fn scalar(
        &mut self,
        item: &Item<'_>,
        name: &str,
        before: Option<&Placed>,
        after: Option<&Placed>,
    ) -> Option<Placed> {
        let (Some(one), gone) = (before.or(after), after.is_none()) else {
            return None;
        };
        if before.is_some() && after.is_some() {
            return after.cloned();
        }
        let met = Met {
            item: *item,
            field: name,
            text: words::listed(item, name, one, gone),
            span: one.span,
            gone,
            puts: after,
            whole: false,
            adds: None,
        };
        (self.edit(met) != gone).then(|| one.clone())
    }
}

/// The elements in the order of OLD, or of NEW; what the other has stands behind what precedes it there, else first.
fn in_order(
    old: &Keyed<'_>,
    new: &Keyed<'_>,
    moved: bool,
    mut kept: BTreeMap<String, Placed>,
) -> Vec<Placed> {
    let (base, other) = if moved { (new, old) } else { (old, new) };
    let keys = |list: &Keyed<'_>| -> Vec<String> {
        let there = list.iter().filter(|(key, _)| kept.contains_key(key));
        there.map(|(key, _)| key.clone()).collect()
    };
    let (mut order, other) = (keys(base), keys(other));
    for (at, key) in other.iter().enumerate() {
        if order.contains(key) {
            continue;
        }
        let before = other[..at].iter().rev();
        let place = before
            .filter_map(|one| order.iter().position(|there| there == one))
            .next()
            .map_or(0, |place| place + 1);
        order.insert(place, key.clone());
    }
    order
        .into_iter()
        .filter_map(|key| kept.remove(&key))
        .collect()
}

/// Pairs of two lists by key: what OLD has in its order, then what only NEW has.
fn matched<'p>(
    old: &Keyed<'p>,
    new: &Keyed<'p>,
) -> Vec<(String, Option<&'p Placed>, Option<&'p Placed>)> {
    let there: BTreeMap<&String, &Placed> = new.iter().map(|(key, one)| (key, *one)).collect();
    let here: BTreeSet<&String> = old.iter().map(|(key, _)| key).collect();
    let first = old
        .iter()
        .map(|(key, one)| (key.clone(), Some(*one), there.get(key).copied()));
    let then = new.iter().filter(|(key, _)| !here.contains(key));
    let then = then.map(|(key, one)| (key.clone(), None, Some(*one)));
    first.chain(then).collect()
}

/// Items of a section by what they are called; of the same name the first is the first.
fn keyed<'p>(section: &str, items: &'p [Placed]) -> Keyed<'p> {
    let mut seen: BTreeMap<String, usize> = BTreeMap::new();
    let mut found = Vec::with_capacity(items.len());
    for one in items {
        let name = words::id_of(section, one);
        let count = seen.entry(name.clone()).or_default();
        *count += 1;
        let key = if *count > 1 {
            format!("{name} ({count})")
        } else {
            name
        };
        found.push((key, one));
    }
    found
}

/// The elements of two lists, keyed alike where they are the same: by id, else by what names them, else by content.
fn paired<'p>(old: &'p [Placed], new: &'p [Placed]) -> (Keyed<'p>, Keyed<'p>) {
    let by = ["id", "interface", "network", "address", "name", "object"]
        .into_iter()
        .find(|field| {
            let is_key = |list: &[Placed]| {
                let names: Vec<&str> = list.iter().filter_map(|one| one.text_at(field)).collect();
                let distinct: BTreeSet<&&str> = names.iter().collect();
                names.len() == list.len() && distinct.len() == names.len()
            };
            is_key(old) && is_key(new)
        });
    let of = |list: &'p [Placed]| -> Keyed<'p> {
        let mut seen: BTreeMap<String, usize> = BTreeMap::new();
        let mut found = Vec::with_capacity(list.len());
        for one in list {
            let key = match by {
                Some(field) => one.text_at(field).unwrap_or_default().to_owned(),
                // Rules with an id are known by it though others of the list have none.
                None => one
                    .text_at("id")
                    .map_or_else(|| one.canonical(), |id| format!("id {id}")),
            };
            let count = seen.entry(key.clone()).or_default();
            *count += 1;
            found.push((format!("{key}\u{0}{count}"), one));
        }
        found
    };
    (of(old), of(new))
}
