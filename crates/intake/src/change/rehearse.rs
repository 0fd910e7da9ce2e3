//! A change that is only thought of: made to the document in memory, and read again.

use super::document::{Document, as_snapshot};
use super::patch::patch;
use super::spoken::in_words;
use super::words;
use crate::files::{LoadError, SourceText};
use crate::load::{Snapshot, load_texts};
use serde_json::{Map, Value};

/// The name of the file in which the rest of the estate stands after a change.
pub(super) const REHEARSED: &str = "the estate after the change.json";

/// One change.
#[derive(Clone, Debug)]
pub enum Change {
    /// In words: `remove rule fares-db/tmp`, `down peering quay-tickets`.
    Words(String),
    /// Snapshot files whose items replace those of the same id, or are new.
    Overlay(Vec<SourceText>),
    /// A JSON Patch (RFC 6902) or a JSON Merge Patch (RFC 7396): of the file `tickets.yaml` if it is called
    /// `tickets.yaml.patch.json`, else of all files as one.
    Patch(SourceText),
}

/// Why a change cannot be rehearsed.
#[derive(Debug)]
pub enum NoChange {
    /// It is not understood, or what it is about is not there.
    Words {
        /// What is wrong.
        what: String,
        /// What would be right.
        help: String,
    },
    /// What comes out is no legal snapshot.
    Load(LoadError),
}

pub(super) fn wrong(what: impl Into<String>, help: impl Into<String>) -> NoChange {
    NoChange::Words {
        what: what.into(),
        help: help.into(),
    }
}

/// The items of all files, section by section, as one file.
pub(super) fn whole(texts: &[SourceText]) -> Map<String, Value> {
    Document::of(texts).json()
}

/// Items replace those that are known by the same name; what they are is added by whoever asks.
fn replace(whole: &mut Map<String, Value>, over: &Document) {
    for (section, items) in &over.sections {
        let Some(Value::Array(there)) = whole.get_mut(section) else {
            whole.remove(section);
            continue;
        };
        let kind = words::section(section);
        let ids: Vec<String> = items.iter().map(|item| words::id_of(kind, item)).collect();
        there.retain(|item| !ids.contains(&id_of(kind, item)));
    }
}

/// Adds items to those that are there.
fn append(whole: &mut Map<String, Value>, texts: &[SourceText]) {
    for (section, added) in self::whole(texts) {
        match (whole.get_mut(&section), added) {
            (Some(Value::Array(there)), Value::Array(added)) => there.extend(added),
            (_, added) => drop(whole.insert(section, added)),
        }
    }
}

/// Makes changes to a snapshot, one after the other, and reads what comes out. The snapshot stays as it is.
///
/// # Errors
/// If a change is not understood or does not apply, or if what comes out is no legal snapshot.
pub fn rehearsed(base: &Snapshot, changes: &[Change]) -> Result<Snapshot, NoChange> {
    let mut whole = whole(&base.texts);
    // Files are read as they are, so that what is wrong with them is told with its place.
    let mut overlays: Vec<SourceText> = Vec::new();
    for change in changes {
        if !matches!(change, Change::Overlay(_)) {
            append(&mut whole, &std::mem::take(&mut overlays));
        }
        match change {
            Change::Words(text) => in_words(&mut whole, text)?,
            Change::Patch(source) => patch(base, &mut whole, source)?,
            Change::Overlay(texts) => {
                let over = Document::of_any(texts).map_err(NoChange::Load)?;
                append(&mut whole, &std::mem::take(&mut overlays));
                replace(&mut whole, &over);
                overlays.clone_from(texts);
            }
        }
    }
    let text = serde_json::to_string_pretty(&as_snapshot(whole)).unwrap_or_default();
    let mut files = vec![(REHEARSED, text.as_str())];
    let overlays = overlays.iter();
    files.extend(overlays.map(|one| (one.name.as_str(), one.text.as_str())));
    load_texts(&files).map_err(NoChange::Load)
}

/// What an item is known by.
pub(super) fn id_of(section: &str, item: &Value) -> String {
    let text = |field: &str| item[field].as_str().unwrap_or_default().to_owned();
    match section {
        "public_addresses" => text("address"),
        "public_names" => text("name"),
        "gaps" => {
            let lacks = item["lacks"].as_str().map(|lacks| format!(" ({lacks})"));
            text("object") + lacks.as_deref().unwrap_or_default()
        }
        _ => text("id"),
    }
}
