//! From bytes to the model: snapshot files, with the position of everything.

mod build;
mod configuration;
mod edit;
mod json;
mod load;
mod reading;
mod sections;
mod tree;
mod values;
mod written;
mod yaml;

pub use configuration::{CONFIGURATION, configuration_schema, load_configuration};
pub use edit::{Edited, without_rules};
pub use load::{LoadError, NotRead, Snapshot, SourceText, load, load_texts};
pub use reading::{did_you_mean, parse_moment};
pub use sections::snapshot_schema;
pub use written::{FORMAT, VERSION};
