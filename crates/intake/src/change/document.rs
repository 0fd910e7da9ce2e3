//! A snapshot as one document: the items of all files, each with its places.

use crate::files::{LoadError, SourceText};
use crate::tree::{Node, Scalar, Sink, Value as Tree};
use crate::written::{FORMAT, VERSION};
use crate::{json, yaml};
use heronshale_model::source::{FileId, Span};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// Fields that say nothing about packets.
pub(super) const PROSE: [&str; 5] = ["description", "reason", "contact", "review_by", "needs"];

/// A value and where it stands.
#[derive(Clone, Debug)]
pub(super) struct Placed {
    pub span: Span,
    pub shape: Shape,
}

/// The shapes of values. Scalars are the same if their texts are.
#[derive(Clone, Debug)]
pub(super) enum Shape {
    Scalar(Scalar, String),
    List(Vec<Placed>),
    Map(Vec<(String, Placed)>),
}

/// Equal but for places.
impl PartialEq for Placed {
    fn eq(&self, other: &Self) -> bool {
        match (&self.shape, &other.shape) {
            (Shape::Scalar(_, one), Shape::Scalar(_, other)) => one == other,
            (Shape::List(one), Shape::List(other)) => one == other,
            (Shape::Map(one), Shape::Map(other)) => {
                one.len() == other.len()
                    && one.iter().all(|(key, value)| {
                        let found = other.iter().find(|(name, _)| name == key);
                        found.is_some_and(|(_, there)| there == value)
                    })
            }
            _ => false,
        }
    }
}

impl Placed {
    fn of(node: &Node<'_>) -> Self {
        let shape = match &node.value {
            Tree::Scalar(kind, text) => Shape::Scalar(*kind, text.to_string()),
            Tree::List(items) => Shape::List(items.iter().map(Self::of).collect()),
            Tree::Map(fields) => Shape::Map(
                fields
                    .iter()
                    .map(|(key, value)| (plain(key), Self::of(value)))
                    .collect(),
            ),
        };
        Self {
            span: node.span,
            shape,
        }
    }

    /// A field of a map; a field without a value is not there.
    pub fn get(&self, field: &str) -> Option<&Self> {
        let Shape::Map(fields) = &self.shape else {
            return None;
        };
        let found = fields.iter().find(|(name, _)| name == field);
        found
            .map(|(_, value)| value)
            .filter(|value| !matches!(value.shape, Shape::Scalar(Scalar::Null, _)))
    }

    /// A scalar as text.
    pub fn text(&self) -> Option<&str> {
        match &self.shape {
            Shape::Scalar(_, text) => Some(text),
            _ => None,
        }
    }

    /// The text of a field.
    pub fn text_at(&self, field: &str) -> Option<&str> {
        self.get(field).and_then(Self::text)
    }

    /// The elements of a list; anything else stands for a list of one.
    pub fn elements(&self) -> &[Self] {
        match &self.shape {
            Shape::List(items) => items,
            _ => std::slice::from_ref(self),
        }
    }

    /// On one line, for people.
    pub fn words(&self) -> String {
        match &self.shape {
            Shape::Scalar(_, text) => text.clone(),
            Shape::List(items) => {
                let all: Vec<String> = items.iter().map(Self::words).collect();
                all.join(", ")
            }
            Shape::Map(fields) => {
                let told = fields.iter().filter(|(name, _)| name != "description");
                let all: Vec<String> = told
                    .map(|(name, value)| format!("{name} {}", value.words()))
                    .collect();
                all.join(", ")
            }
        }
    }

    /// As JSON, as the format reads it.
    pub fn json(&self) -> Value {
        match &self.shape {
            Shape::Scalar(Scalar::Null, _) => Value::Null,
            Shape::Scalar(Scalar::Bool, text) => Value::Bool(text == "true"),
            Shape::Scalar(Scalar::Number, text) => {
                serde_json::from_str(text).unwrap_or_else(|_| Value::String(text.clone()))
            }
            Shape::Scalar(Scalar::Text, text) => Value::String(text.clone()),
            Shape::List(items) => Value::Array(items.iter().map(Self::json).collect()),
            Shape::Map(fields) => {
                let all = fields
                    .iter()
                    .map(|(key, value)| (key.clone(), value.json()));
                Value::Object(all.collect::<Map<_, _>>())
            }
        }
    }

    /// The same text for whatever says the same, in whatever order of fields; of fields that say nothing of packets none.
    pub fn canonical(&self) -> String {
        match &self.shape {
            Shape::Scalar(_, text) => format!("{text:?}"),
            Shape::List(items) => {
                let all: Vec<String> = items.iter().map(Self::canonical).collect();
                format!("[{}]", all.join(","))
            }
            Shape::Map(fields) => {
                let told = fields
                    .iter()
                    .filter(|(name, _)| !PROSE.contains(&name.as_str()));
                let mut all: Vec<String> = told
                    .map(|(name, value)| format!("{name:?}:{}", value.canonical()))
                    .collect();
                all.sort();
                format!("{{{}}}", all.join(","))
            }
        }
    }

    /// The texts of all fields of a name in it.
    pub fn texts_of<'p>(&'p self, field: &str, found: &mut Vec<&'p str>) {
        match &self.shape {
            Shape::Scalar(..) => {}
            Shape::List(items) => items.iter().for_each(|item| item.texts_of(field, found)),
            Shape::Map(fields) => {
                for (name, value) in fields {
                    match value.text() {
                        Some(text) if name == field => found.push(text),
                        _ => value.texts_of(field, found),
                    }
                }
            }
        }
    }

    /// Every scalar in it.
    pub fn scalars<'p>(&'p self, found: &mut Vec<&'p str>) {
        match &self.shape {
            Shape::Scalar(_, text) => found.push(text),
            Shape::List(items) => items.iter().for_each(|item| item.scalars(found)),
            Shape::Map(fields) => fields.iter().for_each(|(_, value)| value.scalars(found)),
        }
    }
}

fn plain(node: &Node<'_>) -> String {
    match &node.value {
        Tree::Scalar(_, text) => text.to_string(),
        Tree::List(_) | Tree::Map(_) => String::new(),
    }
}

/// The items of all files, section by section; `estate` is a section of one.
#[derive(Default)]
pub(super) struct Document {
    pub sections: BTreeMap<String, Vec<Placed>>,
    at: String,
}

impl Sink for Document {
    fn field(&mut self, key: &Node<'_>) {
        self.at = plain(key);
    }

    fn item(&mut self, _: Option<u32>, node: &Node<'_>) {
        if !matches!(self.at.as_str(), "format" | "version" | "holds") {
            let section = self.sections.entry(self.at.clone()).or_default();
            section.push(Placed::of(node));
        }
    }
}

impl Document {
    /// The document of files that have been read once without an error.
    pub fn of(texts: &[SourceText]) -> Self {
        Self::of_any(texts).unwrap_or_default()
    }

    /// The document of files that nobody has read yet.
    ///
    /// # Errors
    /// Where the syntax of one is broken.
    pub fn of_any(texts: &[SourceText]) -> Result<Self, LoadError> {
        let mut document = Self::default();
        for (at, source) in (0_u32..).zip(texts) {
            let read = if source.is_json() {
                json::read(FileId(at), &source.text, &mut document)
            } else {
                yaml::read(FileId(at), &source.text, &mut document)
            };
            read.map_err(|problem| LoadError::Input {
                problems: vec![problem],
                texts: texts.to_vec(),
            })?;
        }
        Ok(document)
    }

    /// The items, section by section, as JSON.
    pub fn json(&self) -> Map<String, Value> {
        let mut whole = Map::new();
        for (name, items) in &self.sections {
            let mut all = items.iter().map(Placed::json);
            let value = if name == "estate" {
                all.next_back().unwrap_or(Value::Null)
            } else {
                Value::Array(all.collect())
            };
            whole.insert(name.clone(), value);
        }
        whole
    }

    /// The items of a section.
    pub fn section(&self, name: &str) -> &[Placed] {
        self.sections.get(name).map_or(&[], Vec::as_slice)
    }
}

/// Sections as a snapshot file.
pub(super) fn as_snapshot(mut sections: Map<String, Value>) -> Value {
    sections.insert("format".to_owned(), json!(FORMAT));
    sections.insert("version".to_owned(), json!(VERSION));
    Value::Object(sections)
}
