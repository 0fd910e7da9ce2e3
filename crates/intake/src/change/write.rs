//! The files of a snapshot after a change: what changed stands where it stood.

use super::rehearse::{id_of, whole};
use super::words;
use crate::files::SourceText;
use crate::load::Snapshot;
use crate::text::{Rewritten, document, rewritten};
use crate::written::{FORMAT, VERSION};
use heronshale_model::source::FileId;
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// A file of a snapshot, and its fields.
pub(super) type File = (String, Map<String, Value>);

/// The files of a snapshot.
pub(super) fn files_of(base: &Snapshot) -> Vec<File> {
    let file = |source: &SourceText| {
        let read = document(FileId(0), source, &source.text);
        let fields = match read {
            Ok(Value::Object(fields)) => fields,
            _ => Map::new(),
        };
        (source.name.clone(), fields)
    };
    base.texts.iter().map(file).collect()
}

/// What an item is known by among all of its section: of the same name the first is the first.
fn key(section: &str, item: &Value, seen: &mut BTreeMap<String, usize>) -> (String, usize) {
    let id = id_of(words::section(section), item);
    let count = seen.entry(format!("{section}/{id}")).or_default();
    *count += 1;
    (id, *count)
}

/// The files with the items of another state: each item stays in its file; new ones stand in the last file that has such items,
/// else in the first file.
pub(super) fn spread(files: Vec<File>, after: &Map<String, Value>) -> Vec<File> {
    let mut wanted: BTreeMap<(&str, String, usize), &Value> = BTreeMap::new();
    let mut order: Vec<(&str, String, usize)> = Vec::new();
    let mut seen = BTreeMap::new();
    for (section, items) in after {
        for item in items.as_array().into_iter().flatten() {
            let (id, count) = key(section, item, &mut seen);
            wanted.insert((section, id.clone(), count), item);
            order.push((section, id, count));
        }
    }
    let mut seen = BTreeMap::new();
    let mut placed: Vec<(&str, String, usize)> = Vec::new();
    let mut files = files;
    for (_, fields) in &mut files {
        let mut change = 0_i64;
        for (section, value) in fields.iter_mut() {
            if section == "estate" {
                if let Some(estate) = after.get("estate") {
                    value.clone_from(estate);
                }
                continue;
            }
            let Some((name, _)) = after.get_key_value(section) else {
                if let (Value::Array(items), true) = (&mut *value, is_section(section)) {
                    change -= i64::try_from(items.len()).unwrap_or(0);
                    items.clear();
                }
                continue;
            };
            let Value::Array(items) = value else { continue };
            let before = items.len();
            items.retain_mut(|item| {
                let (id, count) = key(section, item, &mut seen);
                let known = (name.as_str(), id, count);
                let Some(new) = wanted.get(&known) else {
                    return false;
                };
                item.clone_from(new);
                placed.push(known);
                true
            });
            change -= i64::try_from(before - items.len()).unwrap_or(0);
        }
        counted(fields, change);
    }
    placed.sort();
    for known in order {
        if placed.binary_search(&known).is_ok() {
            continue;
        }
        let has = |file: &File| file.1.get(known.0).is_some_and(Value::is_array);
        let at = files.iter().rposition(has).unwrap_or(0);
        if let Some((_, fields)) = files.get_mut(at) {
            let list = fields
                .entry(known.0.to_owned())
                .or_insert_with(|| Value::Array(Vec::new()));
            if let Value::Array(items) = list {
                items.push((*wanted[&known]).clone());
            }
            counted(fields, 1);
        }
    }
    files
}

fn is_section(name: &str) -> bool {
    crate::sections::section_named(name).is_some_and(|name| name != "estate")
}

/// A file that says how many items it holds says it rightly.
fn counted(fields: &mut Map<String, Value>, change: i64) {
    if let Some(count) = fields.get("holds").and_then(Value::as_i64) {
        fields.insert("holds".to_owned(), json!(count + change));
    }
}

/// The files of a snapshot that say something else in another state of it, comments and layout kept.
pub fn written(base: &Snapshot, after: &Snapshot) -> Vec<Rewritten> {
    files_as(base, &whole(&after.texts))
}

pub(super) fn files_as(base: &Snapshot, after: &Map<String, Value>) -> Vec<Rewritten> {
    let files = spread(files_of(base), after).into_iter();
    let pairs = base.texts.iter().zip(files);
    pairs
        .filter_map(|(source, (_, mut fields))| {
            fields.entry("format").or_insert_with(|| json!(FORMAT));
            fields.entry("version").or_insert_with(|| json!(VERSION));
            rewritten(source, &fields)
        })
        .collect()
}
