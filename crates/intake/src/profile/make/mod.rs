//! From a record of an export to an object of a snapshot: evaluates what the profile says, and remembers where each value
//! comes from, so that an error points into the profile and into the data.

mod values;

use values::{node, plain, raw};

use super::compile::{Lookup, Made, Nodes, Piece, Rule, Source, Then, Value};
use super::written::{FilePart, Otherwise};
use crate::reading::Reading;
use crate::sections::check;
use crate::tree::{Node, Scalar, Value as Tree};
use heronshale_model::source::{FileId, Span};
use jsonpath_rust::parser::model::JpQuery;
use jsonpath_rust::query::js_path_process;
use rustc_hash::FxHashMap;
use serde_json::{Map, Value as Json};
use std::borrow::Cow;
use std::collections::BTreeMap;

/// So many texts may come of one `text` that lists fill.
const MOST_TEXTS: usize = 4_096;

/// A value that was made.
#[derive(Clone, Debug)]
pub(super) struct Got {
    pub what: What,
    /// Which of the origins it has.
    pub origin: u32,
}

/// Its shapes.
#[derive(Clone, Debug)]
pub(super) enum What {
    Scalar(Json),
    List(Vec<Got>),
    Map(Vec<(String, Got)>),
}

/// Where a value comes from.
#[derive(Clone, Debug)]
struct Origin {
    /// In the profile.
    span: Span,
    /// In the document; none for constants.
    pointer: Option<String>,
}

/// A record that is being read.
pub(super) struct Scope<'s> {
    pub node: &'s Json,
    /// Where it stands in its document, a normalized path (RFC 9535, section 2.7).
    pub pointer: &'s str,
    pub outer: Option<&'s Scope<'s>>,
    /// The file, relative to what was given.
    pub file: &'s str,
}

/// What is wrong with a record.
#[derive(Clone, Debug)]
pub(super) struct Trouble {
    pub title: String,
    pub label: String,
    pub help: Option<String>,
    /// In the profile.
    pub span: Span,
    /// In the document.
    pub pointer: Option<String>,
}

/// A join: what each id gives.
pub(super) type Index = FxHashMap<String, Vec<Json>>;

/// Makes objects.
pub(super) struct Making<'p> {
    pub lookups: &'p [Lookup],
    pub indexes: Vec<Index>,
    pub troubles: Vec<Trouble>,
    /// Ids that no record has, by the place in the profile, with how often.
    pub unresolved: BTreeMap<(Span, String), usize>,
    /// For each field by its place in the profile, how many records were asked and how many had a value.
    pub given: FxHashMap<Span, (usize, usize)>,
    origins: Vec<Origin>,
}

/// A scalar as text; other values have none.
pub(super) fn text_of(json: &Json) -> String {
    match json {
        Json::String(text) => text.clone(),
        other => other.to_string(),
    }
}

/// The nodes that a path finds, each with where it stands in its document.
pub(super) fn found<'j>(query: &JpQuery, node: &'j Json, pointer: &str) -> Vec<(&'j Json, String)> {
    let all = js_path_process(query, node).unwrap_or_default();
    all.into_iter()
        .map(|one| (one.clone().val(), format!("{pointer}{}", &one.path()[1..])))
        .collect()
}

impl<'p> Making<'p> {
    pub fn new(lookups: &'p [Lookup]) -> Self {
        Self {
            lookups,
            indexes: vec![Index::default(); lookups.len()],
            troubles: Vec::new(),
            unresolved: BTreeMap::new(),
            given: FxHashMap::default(),
            origins: Vec::new(),
        }
    }

    /// Takes a record into the index of a lookup.
    pub fn index(&mut self, lookup: usize, scope: &Scope<'_>) {
        let rule: &'p Lookup = &self.lookups[lookup];
        let keys = self.values(&rule.by, scope);
        let taken = self.values(&rule.take, scope);
        let taken: Vec<Json> = taken.iter().map(raw).collect();
        for key in keys {
            if let What::Scalar(key) = key.what {
                let known = self.indexes[lookup].entry(text_of(&key)).or_default();
                // Pages that overlap say the same twice.
                for one in &taken {
                    if !known.contains(one) {
                        known.push(one.clone());
                    }
                }
            }
        }
        self.origins.clear();
    }

    /// The first value of each field as text; none unless each has one.
    pub fn texts_of(
        &mut self,
        fields: &[Made],
        scope: &Scope<'_>,
    ) -> Option<Vec<(String, String)>> {
        self.origins.clear();
        let text = |(name, got): (String, Got)| match got.what {
            What::Scalar(json) => Some((name, text_of(&json))),
            _ => None,
        };
        let made = self.fields(fields, scope, false);
        (made.len() == fields.len())
            .then(|| made.into_iter().map(text).collect::<Option<Vec<_>>>())?
    }

    /// Whether each of some values is there.
    pub fn has(&mut self, all: &[Value], scope: &Scope<'_>) -> bool {
        self.origins.clear();
        all.iter()
            .all(|value| !self.values(value, scope).is_empty())
    }

    /// By what a record is gathered with others.
    pub fn gathered_by(&mut self, value: &Value, scope: &Scope<'_>) -> Vec<String> {
        self.origins.clear();
        let values = self.values(value, scope);
        values
            .iter()
            .filter_map(|got| {
                if let What::Scalar(json) = &got.what {
                    Some(text_of(json))
                } else {
                    None
                }
            })
            .collect()
    }

    /// The object that a rule makes of a record, if nothing is wrong with it.
    pub fn object(&mut self, rule: &Rule, scope: &Scope<'_>) -> Option<Json> {
        let before = self.troubles.len();
        self.origins.clear();
        let origin = self.origin(rule.span, Some(scope.pointer.to_owned()));
        let fields = self.fields(&rule.fields, scope, true);
        let object = Got {
            what: What::Map(fields),
            origin,
        };
        let mut reading = Reading::default();
        check(rule.section, &node(&object), &mut reading);
        for problem in reading.problems {
            let origin = &self.origins[problem.span.start as usize];
            self.troubles.push(Trouble {
                title: problem.title,
                label: problem.label,
                help: problem.help,
                span: origin.span,
                pointer: origin.pointer.clone(),
            });
        }
        (self.troubles.len() == before).then(|| plain(&object))
    }

    fn origin(&mut self, span: Span, pointer: Option<String>) -> u32 {
        self.origins.push(Origin { span, pointer });
        u32::try_from(self.origins.len() - 1).unwrap_or(u32::MAX)
    }

    fn trouble(&mut self, got: &Got, span: Span, title: String, help: Option<String>) {
        let pointer = self.origins[got.origin as usize].pointer.clone();
        self.troubles.push(Trouble {
            title,
            label: "this is what reads it".to_owned(),
            help,
            span,
            pointer,
        });
    }

    fn fields(&mut self, fields: &[Made], scope: &Scope<'_>, counted: bool) -> Vec<(String, Got)> {
        let mut made = Vec::with_capacity(fields.len());
        for field in fields {
            let values = self.values(&field.value, scope);
            if counted || !values.is_empty() {
                let given = self.given.entry(field.value.span).or_default();
                given.0 += 1;
                given.1 += usize::from(!values.is_empty());
            }
            let is_list = field.list && matches!(field.value.source, Source::Each(..));
            let got = match values.len() {
                0 => continue,
                1 if !is_list => values.into_iter().next(),
                _ => Some(Got {
                    origin: values[0].origin,
                    what: What::List(values),
                }),
            };
            made.extend(got.map(|got| (field.name.clone(), got)));
        }
        made
    }

    fn values(&mut self, value: &Value, scope: &Scope<'_>) -> Vec<Got> {
        let mut values = self.source(value, scope);
        for then in &value.then {
            values = self.then(then, values, value.span, scope);
        }
        values
    }
}
