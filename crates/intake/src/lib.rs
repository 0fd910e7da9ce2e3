//! From bytes to the model: snapshot files, with the position of everything.

mod build;
mod change;
mod configuration;
mod connections;
mod document;
mod files;
mod json;
mod kept;
mod load;
mod observed;
mod open;
mod profile;
mod reading;
mod sections;
mod slips;
mod statements;
mod text;
mod tree;
mod values;
mod written;
mod yaml;

pub use change::{
    Change, Difference, Failing, NoChange, Reverted, failing, failing_pairs, rehearsed, reverted,
    uses, written,
};
pub use configuration::{Configuration, configuration_schema, load_configuration};
pub use connections::{ConnectionList, load_connections};
pub use files::CONFIGURATION;
pub use files::{ACCEPTANCES, EXPECTATIONS};
pub use files::{LoadError, NotRead, SourceText};
pub use kept::{BEGUN, COLLECTED, COLLECTION, Collected, KeptFile, Missing};
pub use load::{Beside, Snapshot, load, load_texts};
pub use observed::load_observed;
pub use open::{AclReading, Part, Role, read_acls, read_machine, read_routes};
pub use profile::{
    BUILT_IN, DraftProfile, EachOf, Exports, PROFILE, Plan, Profile, QUESTIONS, Question,
    Questions, Request, Sent, answered_profile, built_in_profile, draft_profile, exports, import,
    load_profile, load_questions, profile_schema, questions_schema, wrong_answer,
};
pub use reading::{did_you_mean, parse_moment};
pub use sections::{snapshot_schema, snapshot_sections};
pub use statements::{
    acceptances_schema, expectations_schema, load_acceptances, load_expectations,
};
pub use text::{Edited, Rewritten, without_rules};
pub use written::{FORMAT, VERSION};
