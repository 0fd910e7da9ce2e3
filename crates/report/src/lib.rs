//! From results to bytes: text for people, JSON for programs, documentation from declarations.
//!
//! Renderers get final answers and decide nothing about their content. They read no file and ask no environment: the
//! terminal's width and whether to use colour come in as a [`Look`].

mod draft;
mod export;
mod figure;
mod harmless;
mod json;
mod ledger;
mod markdown;
mod page;
mod problems;
mod text;

pub use draft::{acceptances, expectations};
pub use export::{acl_json, exported, routes_json, sheet_csv};
pub use figure::figure;
pub use harmless::{harmless_json, harmless_text};
pub use json::{answer_kinds, json, schema_of};
pub use ledger::{ledger, ledger_csv};
pub use markdown::{catalogue_reference, document_reference, snapshot_reference};
pub use page::Look;
pub use problems::{SourceFile, problems};
pub use text::{
    FEW, GroupBy, audit, compare, compare_sentence, connections, connections_csv, coverage,
    drafted_profile, effective, explain, exposure, finds, guide, inventory, losses, matrix,
    matrix_cell, one_accepted, one_finding, order, path, plan, reach, reading, review, routes,
    rule, tidy, too_many_classes, uses,
};
