//! The schemas of answers as files: written from the types with `UPDATE_EXPECT=1`, else compared with them.

use heronshale_answers::{
    Answer, Audit, CellAnswer, CompareAnswer, ConnectionsAnswer, Effective, ExportAnswer,
    ExposureAnswer, FailuresAnswer, Finds, Inventory, MatrixAnswer, OrderAnswer, PathAnswer,
    PlanAnswer, ReachAnswer, RoutesAnswer, RuleAnswer, TidyAnswer, VERSION,
};
use heronshale_audit::finding::{Accepted, Finding};
use heronshale_model::coverage::{CoverageAnswer, GuideAnswer, ReadAnswer};
use heronshale_model::uses::Uses;
use heronshale_report::{answer_kinds, schema_of};
use schemars::{Schema, schema_for};

/// The schema of the type behind a kind of answer.
fn of_type(kind: &str) -> Schema {
    match kind {
        "audit" => schema_for!(Answer<Audit>),
        "compare" => schema_for!(Answer<CompareAnswer>),
        "connections" => schema_for!(Answer<ConnectionsAnswer>),
        "coverage" => schema_for!(Answer<CoverageAnswer>),
        "export" => schema_for!(Answer<ExportAnswer>),
        "reading" => schema_for!(Answer<ReadAnswer>),
        "effective" => schema_for!(Answer<Effective>),
        "effective-all" => schema_for!(Answer<Vec<Effective>>),
        "exposure" => schema_for!(Answer<ExposureAnswer>),
        "finding" => schema_for!(Answer<Finding>),
        "finding-accepted" => schema_for!(Answer<Accepted>),
        "failures" => schema_for!(Answer<FailuresAnswer>),
        "find" => schema_for!(Answer<Finds>),
        "guide" => schema_for!(Answer<GuideAnswer>),
        "inventory" => schema_for!(Answer<Inventory>),
        "matrix" => schema_for!(Answer<MatrixAnswer>),
        "matrix-cell" => schema_for!(Answer<CellAnswer>),
        "reach" => schema_for!(Answer<ReachAnswer>),
        "order" => schema_for!(Answer<OrderAnswer>),
        "path" => schema_for!(Answer<PathAnswer>),
        "plan" => schema_for!(Answer<PlanAnswer>),
        "routes" => schema_for!(Answer<RoutesAnswer>),
        "rule" => schema_for!(Answer<RuleAnswer>),
        "tidy" => schema_for!(Answer<TidyAnswer>),
        "uses" => schema_for!(Answer<Uses>),
        _ => panic!("no type is known for {kind}"),
    }
}

#[test]
#[allow(clippy::disallowed_methods, reason = "on request it writes the files")]
fn the_files_are_what_the_types_say() {
    for kind in answer_kinds() {
        let mut schema = of_type(kind);
        schema.insert(
            "title".to_owned(),
            format!("heronshale-{kind}, version {VERSION}").into(),
        );
        let properties = schema
            .get_mut("properties")
            .expect("an answer is an object");
        properties["format"]["const"] = format!("heronshale-{kind}").into();
        properties["version"]["const"] = VERSION.into();
        let text = serde_json::to_string_pretty(&schema).expect("a schema is JSON") + "\n";
        if std::env::var_os("UPDATE_EXPECT").is_some() {
            let path = concat!(env!("CARGO_MANIFEST_DIR"), "/schemas");
            std::fs::write(format!("{path}/{kind}.json"), &text)
                .expect("the folder of schemas is there");
        } else {
            assert_eq!(
                schema_of(kind),
                Some(text.as_str()),
                "{kind}: UPDATE_EXPECT=1 writes it anew"
            );
        }
    }
}
