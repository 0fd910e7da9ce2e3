//! Answers as JSON, each with its schema.

use crate::harmless::harmless_json;
use serde::Serialize;

/// The kinds of answers that have a schema, each with it; `tests/schemas.rs` writes these files from the types.
const SCHEMAS: [(&str, &str); 25] = [
    ("audit", include_str!("../schemas/audit.json")),
    ("compare", include_str!("../schemas/compare.json")),
    ("connections", include_str!("../schemas/connections.json")),
    ("coverage", include_str!("../schemas/coverage.json")),
    ("effective", include_str!("../schemas/effective.json")),
    (
        "effective-all",
        include_str!("../schemas/effective-all.json"),
    ),
    ("export", include_str!("../schemas/export.json")),
    ("exposure", include_str!("../schemas/exposure.json")),
    ("finding", include_str!("../schemas/finding.json")),
    (
        "finding-accepted",
        include_str!("../schemas/finding-accepted.json"),
    ),
    ("failures", include_str!("../schemas/failures.json")),
    ("find", include_str!("../schemas/find.json")),
    ("guide", include_str!("../schemas/guide.json")),
    ("inventory", include_str!("../schemas/inventory.json")),
    ("matrix", include_str!("../schemas/matrix.json")),
    ("matrix-cell", include_str!("../schemas/matrix-cell.json")),
    ("order", include_str!("../schemas/order.json")),
    ("path", include_str!("../schemas/path.json")),
    ("plan", include_str!("../schemas/plan.json")),
    ("reach", include_str!("../schemas/reach.json")),
    ("reading", include_str!("../schemas/reading.json")),
    ("routes", include_str!("../schemas/routes.json")),
    ("rule", include_str!("../schemas/rule.json")),
    ("tidy", include_str!("../schemas/tidy.json")),
    ("uses", include_str!("../schemas/uses.json")),
];

/// The kinds of answers that have a schema.
pub fn answer_kinds() -> impl Iterator<Item = &'static str> {
    SCHEMAS.iter().map(|(kind, _)| *kind)
}

/// The JSON Schema (draft 2020-12) of an answer, with a line end; none for an unknown kind.
pub fn schema_of(kind: &str) -> Option<&'static str> {
    SCHEMAS
        .iter()
        .find(|(name, _)| *name == kind)
        .map(|(_, schema)| *schema)
}

/// An answer as JSON, indented, with a line end.
pub fn json<T: Serialize>(answer: &T) -> String {
    let text =
        serde_json::to_string_pretty(answer).expect("answers hold nothing that JSON cannot say");
    harmless_json(&text) + "\n"
}
