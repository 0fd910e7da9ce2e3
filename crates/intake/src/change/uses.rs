//! What refers to an item, what it refers to, and what has to change before it can go. Whether something can stand without it is
//! asked of the reader itself: the snapshot is read again without it.

use super::document::{Document, PROSE, Placed, Shape, as_snapshot};
use super::rehearse::{NoChange, REHEARSED, wrong};
use super::renames::{KINDS, named_in};
use super::words;
use crate::files::LoadError;
use crate::load::{Snapshot, load_texts};
use crate::reading::did_you_mean;
use heronshale_model::source::{Place, Span};
use heronshale_model::uses::{Before, Item, Use, Uses};
use std::collections::BTreeSet;

/// Sections of which nothing has a name that others could use.
const NAMELESS: [&str; 3] = ["estate", "gaps", "public_names"];

/// An item by its section and its id.
type Known = (&'static str, String);

/// A step down in an item.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Down {
    Field(String),
    At(usize),
}

/// A name of an item in another.
struct Mention {
    of: Known,
    /// Where it stands, in words.
    by: String,
    span: Span,
    path: Vec<Down>,
}

/// What refers to an item, what it refers to, and what has to change before it can go.
///
/// # Errors
/// If nothing is called so, or several things are.
pub fn uses(base: &Snapshot, text: &str) -> Result<Uses, NoChange> {
    let document = Document::of(&base.texts);
    let known = find(&document, text.trim())?;
    let teller = Teller {
        base,
        document: &document,
    };
    let thing = document
        .section(known.0)
        .iter()
        .find(|item| words::id_of(known.0, item) == known.1);
    let Some(thing) = thing else {
        return Err(wrong(format!("nothing is called `{text}`"), ""));
    };
    let mut named_by = Vec::new();
    for (section, item) in items(&document) {
        let id = words::id_of(section, item);
        if (section, &id) == (known.0, &known.1) {
            continue;
        }
        let all = mentions(section, item).into_iter();
        let of_it = all.filter(|mention| mention.of == known);
        named_by.extend(of_it.map(|mention| teller.used(section, item, &mention)));
    }
    let names = mentions(known.0, thing).into_iter().map(|mention| {
        let (section, id) = &mention.of;
        let mut told = teller.used(known.0, thing, &mention);
        let mut there = document.section(section).iter();
        let is_there = there.any(|item| words::id_of(section, item) == *id);
        let missing = if is_there { "" } else { " (missing)" };
        told.item = named(section, id) + missing;
        told
    });
    let names = names.collect();
    let (before, dangling, refused) = teller.without(&known);
    Ok(Uses {
        thing: teller.item(known.0, thing),
        named_by,
        names,
        before,
        dangling,
        refused,
    })
}

/// The item that is meant: `group fares-db`, `group:fares-db`, or `fares-db` if nothing else is called so.
fn find(document: &Document, text: &str) -> Result<Known, NoChange> {
    let kind = |word: &str| {
        let prefix = KINDS.iter().find(|(known, _)| *known == word);
        let noun = words::NOUNS.iter().find(|(_, noun)| *noun == word);
        prefix
            .map(|(_, section)| *section)
            .or(noun.map(|(section, _)| *section))
    };
    let by_colon = text
        .split_once(':')
        .and_then(|(word, name)| Some((kind(word)?, name)));
    // The longest noun counts: a firewall policy is no firewall.
    let by_noun = words::NOUNS.iter().filter_map(|(section, noun)| {
        let name = text.strip_prefix(noun)?.strip_prefix(' ')?;
        Some((*section, name))
    });
    let by_noun = by_noun.min_by_key(|(_, name)| name.len());
    let wanted = by_colon.or(by_noun);
    let name = wanted.map_or(text, |(_, name)| name);
    let is_meant = |section: &&str| wanted.is_none_or(|(of, _)| of == *section);
    let mut found: Vec<Known> = Vec::new();
    let mut all: Vec<String> = Vec::new();
    let can_be_named = |section: &&str| is_meant(section) && !NAMELESS.contains(section);
    for (section, item) in items(document).filter(|(section, _)| can_be_named(section)) {
        let id = words::id_of(section, item);
        if id == name {
            found.push((section, id));
        } else {
            all.push(id);
        }
    }
    match found.as_slice() {
        [one] => Ok(one.clone()),
        [] if text.contains('/') => Err(wrong(
            format!("nothing in the snapshot is called `{text}`"),
            "write an item, such as group:web: nothing refers to a single rule, route or link by its name",
        )),
        [] => Err(wrong(
            format!("nothing in the snapshot is called `{text}`"),
            did_you_mean(name, all.iter().map(String::as_str))
                .unwrap_or_else(|| "`heronshale inventory` lists what there is".to_owned()),
        )),
        several => {
            let names: Vec<String> = several.iter().map(|(of, id)| named(of, id)).collect();
            Err(wrong(
                format!("several things are called `{name}`"),
                format!("write the kind before it: {}", names.join(", ")),
            ))
        }
    }
}

/// All items, each with its section.
fn items(document: &Document) -> impl Iterator<Item = (&'static str, &Placed)> {
    document.sections.iter().flat_map(|(name, items)| {
        let section = words::section(name);
        items.iter().map(move |item| (section, item))
    })
}

/// An item with its kind.
fn named(section: &'static str, id: &str) -> String {
    let item = words::Item {
        section,
        id,
        within: None,
        is_union: false,
    };
    item.name()
}

/// Every name of an item in another.
fn mentions(section: &str, item: &Placed) -> Vec<Mention> {
    let mut found = Vec::new();
    let mut path = Vec::new();
    collect(section, "", item, "", &mut path, &mut found);
    found
}

fn collect(
    section: &str,
    field: &str,
    value: &Placed,
    words_so_far: &str,
    path: &mut Vec<Down>,
    found: &mut Vec<Mention>,
) {
    match &value.shape {
        Shape::Scalar(kind, text) => {
            if let Some((of, name)) = named_in(section, field, *kind, text) {
                found.push(Mention {
                    of: (of, name),
                    by: words_so_far.to_owned(),
                    span: value.span,
                    path: path.clone(),
                });
            }
        }
        Shape::List(items) => {
            for (at, item) in items.iter().enumerate() {
                path.push(Down::At(at));
                let by = match &item.shape {
                    Shape::Map(_) => element_words(words_so_far, field, at, item),
                    _ => words_so_far.to_owned(),
                };
                collect(section, field, item, &by, path, found);
                path.pop();
            }
        }
        Shape::Map(fields) => {
            for (name, value) in fields {
                // Prose names nothing, whatever it looks like.
                let field = name.as_str();
                if super::renames::NO_NAMES.contains(&field) || PROSE.contains(&field) {
                    continue;
                }
                path.push(Down::Field(name.clone()));
                let by = match words_so_far {
                    "" => words::field(name),
                    before => format!("{before}, {}", words::field(name)),
                };
                collect(section, name, value, &by, path, found);
                path.pop();
            }
        }
    }
}

/// `rule partners` instead of `inbound`.
fn element_words(before: &str, list: &str, at: usize, element: &Placed) -> String {
    let known = ["id", "interface", "address", "network", "name"];
    let name = known.into_iter().find_map(|field| element.text_at(field));
    let name = name.map_or_else(|| (at + 1).to_string(), str::to_owned);
    let own = format!("{} {name}", words::element(list));
    match before.rsplit_once(", ") {
        Some((above, _)) => format!("{above}, {own}"),
        None => own,
    }
}

/// Takes away what stands at the end of a path.
fn take(value: &mut Placed, path: &[Down]) {
    let Some((step, rest)) = path.split_first() else {
        return;
    };
    match (&mut value.shape, step) {
        (Shape::Map(fields), Down::Field(name)) if rest.is_empty() => {
            fields.retain(|(field, _)| field != name);
        }
        (Shape::List(items), Down::At(at)) if rest.is_empty() && *at < items.len() => {
            items.remove(*at);
        }
        (Shape::Map(fields), Down::Field(name)) => {
            let found = fields.iter_mut().find(|(field, _)| field == name);
            if let Some((_, inner)) = found {
                take(inner, rest);
            }
        }
        (Shape::List(items), Down::At(at)) => {
            if let Some(inner) = items.get_mut(*at) {
                take(inner, rest);
            }
        }
        _ => {}
    }
}

/// The whole of which a reference is a part: the element of a list of records in which it stands.
fn around(path: &[Down]) -> Option<&[Down]> {
    let last = path.iter().rposition(|step| matches!(step, Down::At(_)))?;
    // A bare list of names has no records.
    (last + 1 < path.len()).then(|| &path[..=last])
}

/// Items in trouble, by section and place in it.
type Troubled = BTreeSet<(String, usize)>;

/// What the reader refuses of a document.
#[derive(Default)]
struct Refused {
    items: Troubled,
    /// What is wrong with no item in particular.
    else_wrong: Option<String>,
}

/// Reads a document as a snapshot.
fn refused(document: &Document) -> Refused {
    let text = as_snapshot(document.json()).to_string();
    let (problems, texts) = match load_texts(&[(REHEARSED, &text)]) {
        Ok(_) => return Refused::default(),
        Err(LoadError::Input { problems, texts }) => (problems, texts),
        Err(_) => {
            return Refused {
                else_wrong: Some("nothing would be left".to_owned()),
                ..Refused::default()
            };
        }
    };
    let read = Document::of(&texts);
    let holds = |item: &Placed, at: u32| item.span.start <= at && at < item.span.end;
    let mut found = Refused::default();
    for problem in problems {
        let mut inside = read.sections.iter().filter_map(|(name, items)| {
            let mut items = items.iter();
            let at = items.position(|item| holds(item, problem.span.start))?;
            Some((name.clone(), at))
        });
        match inside.next().filter(|(name, _)| name != "estate") {
            Some(item) => drop(found.items.insert(item)),
            None => found.else_wrong = Some(problem.title),
        }
    }
    found
}

/// What was taken from an item, by section and place in it.
type Taken = ((String, usize), Before);

/// A try to let an item stand without what is gone.
#[derive(Clone, Copy)]
enum Try {
    Reference,
    Element,
}

struct Teller<'t> {
    base: &'t Snapshot,
    document: &'t Document,
}

impl Teller<'_> {
    fn place(&self, span: Span) -> Place {
        let file = self.base.estate.sources.file(span.file);
        let (line, start) = file.line(span.start);
        Place {
            file: file.name.to_string(),
            line,
            column: (span.start - start) as usize + 1,
            pointer: String::new(),
        }
    }

    fn owner(&self, section: &str, item: &Placed) -> Option<String> {
        let find = |section: &str, id: &str| {
            let mut all = self.document.section(section).iter();
            all.find(|one| words::id_of(section, one) == id).cloned()
        };
        words::owner_of(section, item, &find)
    }

    fn item(&self, section: &'static str, item: &Placed) -> Item {
        Item {
            name: named(section, &words::id_of(section, item)),
            owner: self.owner(section, item),
            place: self.place(item.span),
        }
    }

    fn used(&self, section: &'static str, item: &Placed, mention: &Mention) -> Use {
        Use {
            item: named(section, &words::id_of(section, item)),
            by: mention.by.clone(),
            owner: self.owner(section, item),
            place: self.place(mention.span),
        }
    }

    /// What has to be done before an item can go, and what dangles then.
    fn without(&self, known: &Known) -> (Vec<Before>, Vec<Use>, Option<String>) {
        let mut left = Document::default();
        left.sections.clone_from(&self.document.sections);
        let mut gone: Vec<Known> = vec![known.clone()];
        remove(&mut left, known);
        let mut rounds: Vec<Vec<Before>> = Vec::new();
        let open;
        loop {
            let Refused {
                items: mut troubled,
                else_wrong,
            } = refused(&left);
            if troubled.is_empty() {
                open = else_wrong;
                break;
            }
            let mut round: Vec<Before> = Vec::new();
            for kind in [Try::Reference, Try::Element] {
                let (changed, taken) = self.taken(&left, &troubled, &gone, kind);
                let still = refused(&changed).items;
                // What stands then has to change, and no more.
                for (key, before) in taken {
                    if still.contains(&key) {
                        continue;
                    }
                    if let (Some(to), Some(from)) =
                        (left.sections.get_mut(&key.0), changed.sections.get(&key.0))
                    {
                        to[key.1].clone_from(&from[key.1]);
                    }
                    troubled.remove(&key);
                    round.push(before);
                }
            }
            let mut fallen: Vec<Known> = Vec::new();
            for (name, at) in &troubled {
                let section = words::section(name);
                let Some(item) = left.sections.get(name).and_then(|all| all.get(*at)) else {
                    continue;
                };
                round.push(Before {
                    item: self.item(section, item),
                    without: Vec::new(),
                });
                fallen.push((section, words::id_of(section, item)));
            }
            if round.is_empty() {
                open = Some("what is wrong then is not known".to_owned());
                break;
            }
            for one in &fallen {
                remove(&mut left, one);
            }
            gone.extend(fallen);
            rounds.push(round);
        }
        // What rests on something goes before it.
        let before: Vec<Before> = rounds.into_iter().rev().flatten().collect();
        let mut dangling = Vec::new();
        for (section, item) in items(&left) {
            let all = mentions(section, item).into_iter();
            let lost = all.filter(|mention| gone.contains(&mention.of));
            dangling.extend(lost.map(|mention| self.used(section, item, &mention)));
        }
        (before, dangling, open)
    }

    /// The document without what some items say of what is gone, and what was taken from each.
    fn taken(
        &self,
        left: &Document,
        troubled: &Troubled,
        gone: &[Known],
        kind: Try,
    ) -> (Document, Vec<Taken>) {
        let mut changed = Document::default();
        changed.sections.clone_from(&left.sections);
        let mut taken = Vec::new();
        for key in troubled {
            let section = words::section(&key.0);
            let item = changed.sections.get_mut(&key.0);
            let Some(item) = item.and_then(|all| all.get_mut(key.1)) else {
                continue;
            };
            let mut without = Vec::new();
            // From the end, so that the places of the others stay.
            for mention in mentions(section, item).into_iter().rev() {
                if !gone.contains(&mention.of) {
                    continue;
                }
                let path = match kind {
                    Try::Reference => Some(mention.path.as_slice()),
                    Try::Element => around(&mention.path),
                };
                let Some(path) = path else { continue };
                let by = match kind {
                    Try::Reference => mention.by.clone(),
                    Try::Element => {
                        let all = mention.by.rsplit_once(", ");
                        all.map_or_else(|| mention.by.clone(), |(element, _)| element.to_owned())
                    }
                };
                take(item, path);
                if !without.contains(&by) {
                    without.insert(0, by);
                }
            }
            if !without.is_empty() {
                let item = self.item(section, item);
                taken.push((key.clone(), Before { item, without }));
            }
        }
        (changed, taken)
    }
}

fn remove(document: &mut Document, (section, id): &Known) {
    if let Some(items) = document.sections.get_mut(*section) {
        items.retain(|item| words::id_of(section, item) != *id);
    }
}
