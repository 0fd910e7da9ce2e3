//! The difference of two snapshots as edits, and every state between them (`docs/semantics.md` 17).

mod document;
mod failing;
mod merge;
mod patch;
mod rehearse;
mod renames;
mod revert;
mod spoken;
mod uses;
mod words;
mod write;

pub use failing::{Failing, failing, failing_pairs};
pub use rehearse::{Change, NoChange, rehearsed};
pub use revert::{Reverted, reverted};
pub use uses::uses;
pub use write::written;

use crate::load::{Snapshot, load_texts};
use crate::reading::parse_moment;
use document::{Document, Placed, as_snapshot};
use heronshale_model::change::{Edit, States};
use heronshale_model::estate::{Estate, RemarkKind};
use heronshale_model::source::{Place, SourceFile, SourceMap};
use jiff::Timestamp;
use merge::{Decide, Merge, Met};
use rehearse::REHEARSED;
use rustc_hash::FxHashSet;
use serde_json::{Map, Value};

/// The difference of two snapshots.
pub struct Difference {
    old: Document,
    new: Document,
    /// In the order in which the recursion meets them.
    edits: Vec<Edit>,
    /// Those that count, by their places.
    order: Vec<usize>,
    /// The files of OLD.
    files: Vec<SourceFile>,
    /// How many items and parts of items have another name, and are otherwise the same.
    renamed: usize,
}

/// The name of the file in which a state between two others stands.
const STATE: &str = "state.json";

struct Listing<'d> {
    old: (&'d SourceMap, &'d Document),
    new: (&'d SourceMap, &'d Document),
    edits: Vec<Edit>,
    /// Of each edit what it puts, as words, and what it adds.
    puts: Vec<(Vec<String>, Option<String>)>,
    passes: Option<usize>,
}

impl Decide for Listing<'_> {
    fn is_taken(&mut self, met: Met<'_>) -> bool {
        let (sources, document) = if met.gone { self.old } else { self.new };
        let find = |section: &str, id: &str| {
            let of = |document: &Document| {
                let mut all = document.section(section).iter();
                all.find(|one| words::id_of(section, one) == id).cloned()
            };
            of(document)
        };
        let id = match met.item.within {
            None => met.item.id,
            Some(within) => {
                let of = within.split_once('\u{0}').map_or("", |(_, of)| of);
                of.split('/').next().unwrap_or_default()
            }
        };
        // What was changed in words stands where it stood before.
        let before = self.old.1.section(met.item.section).iter();
        let before = before
            .filter(|_| &*sources.file(met.span.file).name == REHEARSED)
            .find(|one| words::id_of(met.item.section, one) == id);
        let (sources, span) = before.map_or((sources, met.span), |one| (self.old.0, one.span));
        let file = sources.file(span.file);
        let (line, start) = file.line(span.start);
        let owner = find(met.item.section, id)
            .and_then(|item| words::owner_of(met.item.section, &item, &find));
        if met.item.section == "estate" && met.field == "taken" {
            self.passes = Some(self.edits.len());
        }
        self.edits.push(Edit {
            text: met.text,
            owner,
            place: Place {
                file: file.name.to_string(),
                line,
                column: (span.start - start) as usize + 1,
                pointer: String::new(),
            },
            section: met.item.section,
            item: id.to_owned(),
            field: met.field.to_owned(),
            whole: met.whole,
            gone: met.gone,
            gap: met.item.section == "gaps",
            needs: Vec::new(),
        });
        let mut scalars = Vec::new();
        if let Some(puts) = met.puts {
            puts.scalars(&mut scalars);
        }
        let scalars = scalars.into_iter().map(str::to_owned).collect();
        self.puts.push((scalars, met.adds));
        true
    }
}

struct Taking<'t> {
    at: usize,
    taken: &'t dyn Fn(usize) -> bool,
}

impl Decide for Taking<'_> {
    fn is_taken(&mut self, _: Met<'_>) -> bool {
        self.at += 1;
        (self.taken)(self.at - 1)
    }
}

impl Difference {
    /// The difference of two snapshots. What has another name in NEW, and is otherwise the same, has this name in OLD too.
    pub fn of(old: &Snapshot, new: &Snapshot) -> Self {
        let [before, after] = [old, new].map(|one| Document::of(&one.texts));
        let mut translated = Document::of(&old.texts);
        let renamed = renames::renamed(&mut translated, &after);
        if renamed > 0 {
            let mut found = Self::between((old, translated), (new, after));
            let missing = |estate: &Estate| {
                let remarks = estate.remarks.iter();
                let missing = remarks.filter(|one| matches!(one.what, RemarkKind::Missing { .. }));
                missing.count()
            };
            let read = found.state(&[]);
            // Were something named that is not understood here, it would dangle.
            if read.is_some_and(|estate| missing(&estate) == missing(&old.estate)) {
                found.renamed = renamed;
                return found;
            }
            let after = Document::of(&new.texts);
            return Self::between((old, before), (new, after));
        }
        Self::between((old, before), (new, after))
    }

    /// OLD with the names of NEW; none if no name differs.
    pub fn renamed(&self) -> Option<(Estate, usize)> {
        let estate = (self.renamed > 0).then(|| self.state(&[]))??;
        Some((estate, self.renamed))
    }

    /// Where something of OLD with the names of NEW stands; none of a place in any other file.
    pub fn place_in_old(&self, place: &Place) -> Option<Place> {
        if place.file != STATE {
            return None;
        }
        let mut steps = place.pointer.split('/').skip(1);
        let items = self.old.section(steps.next()?);
        let mut here = items.get(steps.next()?.parse::<usize>().ok()?)?;
        for step in steps {
            let element = step.parse::<usize>().ok();
            let next = here
                .get(step)
                .or_else(|| element.and_then(|at| here.elements().get(at)));
            let Some(next) = next else { break };
            here = next;
        }
        let file = self.files.get(here.span.file.0 as usize)?;
        let (line, start) = file.line(here.span.start);
        Some(Place {
            file: file.name.to_string(),
            line,
            column: (here.span.start - start) as usize + 1,
            pointer: String::new(),
        })
    }

    fn between((old, before): (&Snapshot, Document), (new, after): (&Snapshot, Document)) -> Self {
        let listing = Listing {
            old: (&old.estate.sources, &before),
            new: (&new.estate.sources, &after),
            edits: Vec::new(),
            puts: Vec::new(),
            passes: None,
        };
        let mut listing = Merge::new(&before, &after, listing);
        listing.whole();
        let Listing {
            mut edits,
            puts,
            passes,
            ..
        } = listing.decide;
        // What refers to an item that is added needs it.
        for (at, (words, _)) in puts.iter().enumerate() {
            let needs = puts.iter().enumerate().filter(|(other, (_, adds))| {
                *other != at
                    && adds.as_ref().is_some_and(|id| {
                        words.iter().any(|word| {
                            word == id || word.split_once(':').is_some_and(|(_, name)| name == id)
                        })
                    })
            });
            edits[at].needs = needs.map(|(other, _)| other).collect();
        }
        let mut difference = Self {
            order: Vec::new(),
            files: old.estate.sources.files().to_vec(),
            renamed: 0,
            edits,
            old: before,
            new: after,
        };
        let silent = passes.filter(|at| {
            let turns = difference.turns_between(old.estate.taken, new.estate.taken);
            if let Some((from, to)) = turns {
                difference.edits[*at].text = format!("time passes from {from} to {to}");
            }
            turns.is_none()
        });
        let edits = &difference.edits;
        let mut order: Vec<usize> = (0..edits.len()).filter(|at| Some(*at) != silent).collect();
        order.sort_by_key(|at| {
            let place = &edits[*at].place;
            (&place.file, place.line, place.column, !edits[*at].gone)
        });
        difference.order = order;
        difference
    }

    /// Two moments between which something ends.
    fn turns_between(
        &self,
        old: Option<Timestamp>,
        new: Option<Timestamp>,
    ) -> Option<(Timestamp, Timestamp)> {
        let (from, to) = (old?, new?);
        let (first, last) = (from.min(to), from.max(to));
        let mut words = Vec::new();
        for document in [&self.old, &self.new] {
            for items in document.sections.values() {
                let texts = items.iter();
                texts.for_each(|item| item.texts_of("enforced_until", &mut words));
            }
        }
        let mut moments = words.into_iter().filter_map(parse_moment);
        moments
            .any(|end| end >= first && end <= last)
            .then_some((from, to))
    }

    /// The document of a state, as a snapshot file.
    fn merged(&self, taken: &dyn Fn(usize) -> bool) -> Value {
        let mut merge = Merge::new(&self.old, &self.new, Taking { at: 0, taken });
        let mut sections = Map::new();
        for (name, items) in merge.whole() {
            let mut items = items.iter().map(Placed::json);
            let value = if name == "estate" {
                items.next().unwrap_or(Value::Null)
            } else {
                Value::Array(items.collect())
            };
            if !value.is_null() {
                sections.insert(name, value);
            }
        }
        as_snapshot(sections)
    }
}

impl States for Difference {
    fn edits(&self) -> Vec<Edit> {
        let place = |at: &usize| self.order.iter().position(|other| other == at);
        let edit = |at: &usize| {
            let edit = &self.edits[*at];
            Edit {
                needs: edit.needs.iter().filter_map(place).collect(),
                ..edit.clone()
            }
        };
        self.order.iter().map(edit).collect()
    }

    fn state(&self, taken: &[usize]) -> Option<Estate> {
        let document = self.document(taken).to_string();
        let snapshot = load_texts(&[(STATE, &document)]);
        snapshot.ok().map(|snapshot| snapshot.estate)
    }
}

impl Difference {
    /// Where something of a rehearsed state stood before; none of a place in any other file, and of what was not there.
    pub fn place_before(&self, place: &Place) -> Option<Place> {
        if place.file != REHEARSED {
            return None;
        }
        let mut steps = place.pointer.split('/').skip(1);
        let (name, at) = (steps.next()?, steps.next()?);
        let section = words::section(name);
        let item = self.new.section(name).get(at.parse::<usize>().ok()?)?;
        let id = words::id_of(section, item);
        let mut old = self.old.section(name).iter();
        let mut old = old.find(|one| words::id_of(section, one) == id)?;
        let mut new = item;
        while let (Some(list), Some(at)) = (steps.next(), steps.next()) {
            let element = new.get(list)?.elements().get(at.parse::<usize>().ok()?)?;
            let known = element.text_at("id");
            let there = old.get(list).map_or(&[][..], Placed::elements).iter();
            let mut there = there.filter(|one| match known {
                Some(id) => one.text_at("id") == Some(id),
                None => *one == element,
            });
            // Of a new element the item counts.
            let Some(found) = there.next() else { break };
            (old, new) = (found, element);
        }
        let file = self.files.get(old.span.file.0 as usize)?;
        let (line, start) = file.line(old.span.start);
        Some(Place {
            file: file.name.to_string(),
            line,
            column: (old.span.start - start) as usize + 1,
            pointer: String::new(),
        })
    }

    /// The state with these edits, as a snapshot file.
    pub fn document(&self, taken: &[usize]) -> Value {
        // What is no edit is as in NEW.
        let left: FxHashSet<usize> = (0..self.order.len())
            .filter(|at| !taken.contains(at))
            .map(|at| self.order[at])
            .collect();
        self.merged(&|at| !left.contains(&at))
    }
}
