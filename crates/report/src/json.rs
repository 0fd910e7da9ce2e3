//! Answers as JSON, each with its schema.

use crate::harmless::harmless_json;
use heronshale_core::answer::{
    Answer, Audit, CellAnswer, CoverageAnswer, Effective, ExportAnswer, ExposureAnswer, Finds, GuideAnswer, Inventory,
    MatrixAnswer, PathAnswer, ReachAnswer, ReadAnswer, RoutesAnswer, RuleAnswer, TidyAnswer,
};
use heronshale_core::finding::{Accepted, Finding};
use schemars::{Schema, schema_for};
use serde::Serialize;

/// The kinds of answers that have a schema.
pub const ANSWERS: [&str; 19] = [
    "audit",
    "coverage",
    "effective",
    "effective-all",
    "export",
    "exposure",
    "finding",
    "finding-accepted",
    "find",
    "guide",
    "inventory",
    "matrix",
    "matrix-cell",
    "path",
    "reach",
    "reading",
    "routes",
    "rule",
    "tidy",
];

/// The JSON Schema (draft 2020-12) of an answer; none for an unknown kind.
pub fn schema_of(kind: &str) -> Option<Schema> {
    let mut schema = match kind {
        "audit" => schema_for!(Answer<Audit>),
        "coverage" => schema_for!(Answer<CoverageAnswer>),
        "export" => schema_for!(Answer<ExportAnswer>),
        "reading" => schema_for!(Answer<ReadAnswer>),
        "effective" => schema_for!(Answer<Effective>),
        "effective-all" => schema_for!(Answer<Vec<Effective>>),
        "exposure" => schema_for!(Answer<ExposureAnswer>),
        "finding" => schema_for!(Answer<Finding>),
        "finding-accepted" => schema_for!(Answer<Accepted>),
        "find" => schema_for!(Answer<Finds>),
        "guide" => schema_for!(Answer<GuideAnswer>),
        "inventory" => schema_for!(Answer<Inventory>),
        "matrix" => schema_for!(Answer<MatrixAnswer>),
        "matrix-cell" => schema_for!(Answer<CellAnswer>),
        "reach" => schema_for!(Answer<ReachAnswer>),
        "path" => schema_for!(Answer<PathAnswer>),
        "routes" => schema_for!(Answer<RoutesAnswer>),
        "rule" => schema_for!(Answer<RuleAnswer>),
        "tidy" => schema_for!(Answer<TidyAnswer>),
        _ => return None,
    };
    schema.insert("title".to_owned(), format!("heronshale-{kind}, version 1").into());
    if let Some(properties) = schema.get_mut("properties") {
        properties["format"]["const"] = format!("heronshale-{kind}").into();
        properties["version"]["const"] = 1.into();
    }
    Some(schema)
}

/// An answer as JSON, indented, with a line end.
pub fn json<T: Serialize>(answer: &T) -> String {
    let text = serde_json::to_string_pretty(answer).expect("answers hold nothing that JSON cannot say");
    harmless_json(&text) + "\n"
}
