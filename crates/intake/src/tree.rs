//! What JSON and YAML have in common: a tree of values, each with its bytes.

use heronshale_model::source::{FileId, Problem, Span};
use std::borrow::Cow;

/// Deeper nesting is refused; the format needs seven levels.
pub(crate) const DEEPEST: usize = 32;

/// A value and where it stands.
#[derive(Clone, Debug)]
pub(crate) struct Node<'t> {
    pub span: Span,
    pub value: Value<'t>,
}

/// How a scalar was written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Scalar {
    Text,
    Number,
    Bool,
    Null,
}

/// The shapes of values.
#[derive(Clone, Debug)]
pub(crate) enum Value<'t> {
    Scalar(Scalar, Cow<'t, str>),
    List(Vec<Node<'t>>),
    Map(Vec<(Node<'t>, Node<'t>)>),
}

impl Node<'_> {
    /// What it is, for "expected a list, found …".
    pub fn describe(&self) -> &'static str {
        match &self.value {
            Value::Scalar(Scalar::Text, _) => "a text",
            Value::Scalar(Scalar::Number, _) => "a number",
            Value::Scalar(Scalar::Bool, _) => "true or false",
            Value::Scalar(Scalar::Null, _) => "nothing (null)",
            Value::List(_) => "a list",
            Value::Map(_) => "a map",
        }
    }

    /// How many values it holds, itself included.
    pub fn size(&self) -> usize {
        match &self.value {
            Value::Scalar(..) => 1,
            Value::List(items) => 1 + items.iter().map(Node::size).sum::<usize>(),
            Value::Map(fields) => {
                1 + fields
                    .iter()
                    .map(|(_, value)| 1 + value.size())
                    .sum::<usize>()
            }
        }
    }
}

/// Takes a document's top-level fields: lists item by item, so that no more than one item is held as a tree.
pub(crate) trait Sink {
    /// A top-level field; called once a field, before its items.
    fn field(&mut self, key: &Node<'_>);
    /// An item of the field's list, or with no index the field's value if it is not a list.
    fn item(&mut self, index: Option<u32>, node: &Node<'_>);
}

/// A problem of the syntax, at a place.
pub(crate) fn syntax_problem(
    file: FileId,
    at: usize,
    title: String,
    label: &str,
    help: Option<String>,
) -> Problem {
    let at = u32::try_from(at).unwrap_or(u32::MAX);
    Problem {
        title,
        span: Span {
            file,
            start: at,
            end: at.saturating_add(1),
        },
        label: label.to_owned(),
        related: None,
        help,
    }
}

/// The problem of a value nested deeper than [`DEEPEST`].
pub(crate) fn too_deep(file: FileId, at: usize) -> Problem {
    let title = format!("values are nested deeper than {DEEPEST} levels");
    let help = "a snapshot needs seven levels; is this another kind of file?".to_owned();
    syntax_problem(file, at, title, "too deep here", Some(help))
}

/// A span from byte offsets; files of 4 GiB and more are refused before.
pub(crate) fn span(file: FileId, start: usize, end: usize) -> Span {
    let narrow = |offset: usize| u32::try_from(offset).unwrap_or(u32::MAX);
    Span {
        file,
        start: narrow(start),
        end: narrow(end),
    }
}

/// A field of a map.
pub(crate) fn get<'n>(node: &'n Node<'n>, name: &str) -> Option<&'n Node<'n>> {
    let Value::Map(fields) = &node.value else {
        return None;
    };
    let found = fields
        .iter()
        .find(|(key, _)| matches!(&key.value, Value::Scalar(_, text) if text == name));
    found.map(|(_, value)| value)
}

/// A text, or a number as it is written.
pub(crate) fn text<'n>(node: &'n Node<'n>) -> Option<&'n str> {
    match &node.value {
        Value::Scalar(Scalar::Text | Scalar::Number, text) => Some(text),
        _ => None,
    }
}

/// The text of a field.
pub(crate) fn text_at<'n>(node: &'n Node<'n>, name: &str) -> Option<&'n str> {
    get(node, name).and_then(text)
}

/// The items of a list; anything else stands for a list of one.
pub(crate) fn list<'n>(node: &'n Node<'n>) -> &'n [Node<'n>] {
    match &node.value {
        Value::List(items) => items,
        _ => std::slice::from_ref(node),
    }
}
