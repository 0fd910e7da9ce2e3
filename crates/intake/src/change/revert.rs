//! Edits taken back: the new state without some of them, as a patch of its document.

use super::Difference;
use super::document::as_snapshot;
use super::rehearse::{id_of, whole};
use super::words;
use crate::load::{Snapshot, load_texts};
use heronshale_model::change::States;
use serde_json::{Map, Value};

/// A state without some edits.
pub struct Reverted {
    /// The edits that are taken back: those that were asked for, and what refers to what they add.
    pub edits: Vec<usize>,
    /// JSON Patch (RFC 6902) of all files of the new state as one.
    pub patch: String,
    /// The state.
    pub snapshot: Snapshot,
}

/// The new state without some edits; none where it is no legal snapshot.
pub fn reverted(difference: &Difference, new: &Snapshot, undone: &[usize]) -> Option<Reverted> {
    let all = difference.edits();
    let mut edits = undone.to_vec();
    // What refers to something that is not added any more goes with it.
    loop {
        let more: Vec<usize> = (0..all.len())
            .filter(|at| !edits.contains(at))
            .filter(|at| all[*at].needs.iter().any(|need| edits.contains(need)))
            .collect();
        if more.is_empty() {
            break;
        }
        edits.extend(more);
    }
    edits.sort_unstable();
    edits.dedup();
    let rest: Vec<usize> = (0..all.len()).filter(|at| !edits.contains(at)).collect();
    let now = whole(&new.texts);
    let Value::Object(mut then) = difference.document(&rest) else {
        return None;
    };
    then.remove("format");
    then.remove("version");
    in_order_of(&now, &mut then);
    without_empty(&now, &mut then);
    let patch = json_patch::diff(&Value::Object(now), &Value::Object(then.clone()));
    let text = as_snapshot(then).to_string();
    let snapshot = load_texts(&[(super::STATE, &text)]).ok()?;
    let patch = serde_json::to_string_pretty(&patch).ok()? + "\n";
    Some(Reverted {
        edits,
        patch,
        snapshot,
    })
}

/// Puts items in the order in which another document has them, so that a patch is about what differs.
fn in_order_of(known: &Map<String, Value>, document: &mut Map<String, Value>) {
    for (name, items) in document.iter_mut() {
        let (Some(Value::Array(there)), Value::Array(here)) = (known.get(name), items) else {
            continue;
        };
        let section = words::section(name);
        let ids: Vec<String> = there.iter().map(|item| id_of(section, item)).collect();
        here.sort_by_key(|item| {
            let id = id_of(section, item);
            let place = ids.iter().position(|known| *known == id);
            place.unwrap_or(usize::MAX)
        });
    }
}

/// Takes away what is empty and was not there: settings of which none is left.
fn without_empty(known: &Map<String, Value>, document: &mut Map<String, Value>) {
    for (name, items) in document.iter_mut() {
        let section = words::section(name);
        for item in items.as_array_mut().into_iter().flatten() {
            let id = id_of(section, item);
            let there = known.get(name).and_then(Value::as_array);
            let there = there.and_then(|all| all.iter().find(|one| id_of(section, one) == id));
            if let (Some(there), Value::Object(fields)) = (there, item) {
                fields.retain(|field, value| {
                    let is_empty = value.as_object().is_some_and(Map::is_empty);
                    !is_empty || there.get(field).is_some()
                });
            }
        }
    }
}
