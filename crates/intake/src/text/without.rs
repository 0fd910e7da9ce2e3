//! Rules taken out of snapshot files: as JSON Patch (RFC 6902), and in the text itself, so that comments and layout stay.
//!
//! The text is edited, read again, and compared with what the patch makes of the old document: were the two to differ,
//! nothing would be offered.

use super::{bracket_cuts, dash_before, line_item};
use crate::files::SourceText;
use crate::load::Snapshot;
use crate::tree::{Node, Scalar, Sink, Value as Tree};
use crate::{json, yaml};
use heronshale_model::estate::{Direction, Filter, Id, RuleId};
use heronshale_model::source::{FileId, Origin, Problem};
use json_patch::jsonptr::PointerBuf;
use json_patch::{Patch, PatchOperation, RemoveOperation, TestOperation};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// A file without some rules.
#[derive(Debug)]
pub struct Edited {
    /// The file.
    pub file: FileId,
    /// Its name, relative to the estate's folder.
    pub name: String,
    /// The change: for each rule a `test` that it is still there, then its `remove`.
    pub patch: Patch,
    /// The new text.
    pub text: String,
}

/// Places in lists of rules.
type Gone = BTreeMap<(Id<Filter>, Direction), Vec<usize>>;

/// A document as a value, section by section.
#[derive(Default)]
struct Document {
    fields: Map<String, Value>,
    at: String,
}

impl Sink for Document {
    fn field(&mut self, key: &Node<'_>) {
        self.at = text_of(key);
        self.fields
            .insert(self.at.clone(), Value::Array(Vec::new()));
    }

    fn item(&mut self, index: Option<u32>, node: &Node<'_>) {
        let value = value_of(node);
        match (index, self.fields.get_mut(&self.at)) {
            (Some(_), Some(Value::Array(items))) => items.push(value),
            (_, Some(field)) => *field = value,
            (_, None) => {}
        }
    }
}

fn text_of(node: &Node<'_>) -> String {
    match &node.value {
        Tree::Scalar(_, text) => text.to_string(),
        Tree::List(_) | Tree::Map(_) => String::new(),
    }
}

/// Scalars of YAML are what the snapshot format reads from them.
fn value_of(node: &Node<'_>) -> Value {
    match &node.value {
        Tree::Scalar(Scalar::Null, _) => Value::Null,
        Tree::Scalar(Scalar::Bool, text) => Value::Bool(text == "true"),
        Tree::Scalar(Scalar::Number, text) => {
            serde_json::from_str(text).unwrap_or_else(|_| Value::String(text.to_string()))
        }
        Tree::Scalar(Scalar::Text, text) => Value::String(text.to_string()),
        Tree::List(items) => Value::Array(items.iter().map(value_of).collect()),
        Tree::Map(fields) => Value::Object(
            fields
                .iter()
                .map(|(key, value)| (text_of(key), value_of(value)))
                .collect(),
        ),
    }
}

/// The document of a file.
pub(crate) fn document(file: FileId, source: &SourceText, text: &str) -> Result<Value, Problem> {
    let mut document = Document::default();
    if source.is_json() {
        json::read(file, text, &mut document)?
    } else {
        yaml::read(file, text, &mut document)?
    }
    Ok(Value::Object(document.fields))
}

/// The files of a snapshot without some rules; those that change. `None` for a file whose text could not be edited safely.
pub fn without_rules(snapshot: &Snapshot, rules: &[RuleId]) -> Vec<(String, Option<Edited>)> {
    let mut by_file: BTreeMap<FileId, Gone> = BTreeMap::new();
    for rule in rules {
        let file = snapshot.estate.rule(*rule).origin.span.file;
        let lists = by_file.entry(file).or_default();
        lists
            .entry((rule.filter, rule.direction))
            .or_default()
            .push(rule.index as usize);
    }
    let edited = |(file, lists): (FileId, Gone)| {
        let source = &snapshot.texts[file.0 as usize];
        (source.name.clone(), edit(snapshot, file, source, lists))
    };
    by_file.into_iter().map(edited).collect()
}

fn edit(snapshot: &Snapshot, file: FileId, source: &SourceText, lists: Gone) -> Option<Edited> {
    let mut document_now = document(file, source, &source.text).ok()?;
    let mut operations = Vec::new();
    let mut cuts: Vec<(usize, usize)> = Vec::new();
    for ((filter, direction), mut gone) in lists {
        gone.sort_unstable();
        let rules = snapshot.estate.filters[filter].rules(direction);
        let origins: Vec<&Origin> = rules.iter().map(|rule| &rule.origin).collect();
        // From the last on, so that the places of those before stay what they are.
        for at in gone.iter().rev() {
            let path = PointerBuf::parse(origins[*at].pointer()).ok()?;
            let value = path.resolve(&document_now).ok()?.clone();
            operations.push(PatchOperation::Test(TestOperation {
                path: path.clone(),
                value,
            }));
            operations.push(PatchOperation::Remove(RemoveOperation { path }));
        }
        let spans: Vec<(usize, usize)> = origins
            .iter()
            .map(|origin| (origin.span.start as usize, origin.span.end as usize))
            .collect();
        cuts.extend(cuts_of(&source.text, &spans, &gone)?);
    }
    let patch = Patch(operations);
    json_patch::patch(&mut document_now, &patch).ok()?;
    cuts.sort_unstable();
    let mut text = String::with_capacity(source.text.len());
    let mut at = 0;
    for (from, to) in cuts {
        text.push_str(source.text.get(at..from)?);
        at = to;
    }
    text.push_str(source.text.get(at..)?);
    (document(file, source, &text).ok()? == document_now).then(|| Edited {
        file,
        name: source.name.clone(),
        patch,
        text,
    })
}

/// The parts of a text to be cut so that some items of a list go; none if that cannot be done safely.
pub(super) fn cuts_of(
    text: &str,
    items: &[(usize, usize)],
    gone: &[usize],
) -> Option<Vec<(usize, usize)>> {
    let dashed: Option<Vec<usize>> = gone
        .iter()
        .map(|at| dash_before(text, items[*at].0))
        .collect();
    if let Some(dashes) = dashed {
        // A list written line by line cannot be left empty: its key would be left without a value.
        return (gone.len() < items.len()).then(|| {
            dashes
                .into_iter()
                .map(|dash| line_item(text, dash))
                .collect()
        });
    }
    Some(bracket_cuts(items, gone))
}
