//! What can fail: things that the format has a word for when they are down, and gateways to which routes can be taken away.

use super::document::{Document, Placed};
use super::rehearse::whole;
use super::spoken::in_words;
use super::words;
use crate::load::Snapshot;
use heronshale_model::source::Place;

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
    found
}
