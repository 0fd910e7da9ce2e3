//! `heronshale schema`: JSON Schemas of files and answers.

use crate::failure::Failure;
use crate::opened::print;
use clap::Args;
use heronshale_intake::{
    acceptances_schema, configuration_schema, did_you_mean, expectations_schema, profile_schema,
    questions_schema, snapshot_schema,
};
use heronshale_report::{answer_kinds, json, schema_of};

/// The JSON Schema of a file or of an answer
#[derive(Args, Debug)]
pub struct Schema {
    /// A file: snapshot, configuration, expectations, acceptances, profile, questions; or an answer: audit, effective, exposure, path …
    of: String,
}

/// Makes a schema.
type Make = fn() -> serde_json::Value;

/// The files that people write.
const FILES: [(&str, Make); 6] = [
    ("snapshot", snapshot_schema),
    ("configuration", configuration_schema),
    ("expectations", expectations_schema),
    ("acceptances", acceptances_schema),
    ("profile", profile_schema),
    ("questions", questions_schema),
];

impl Schema {
    pub fn run(&self) -> Result<u8, Failure> {
        if let Some((_, schema)) = FILES.iter().find(|(name, _)| *name == self.of) {
            print(&json(&schema()))?;
            return Ok(0);
        }
        let Some(schema) = schema_of(&self.of) else {
            let names = || answer_kinds().chain(FILES.iter().map(|(name, _)| *name));
            let all = || format!("there are {}", names().collect::<Vec<_>>().join(", "));
            let hint = did_you_mean(&self.of, names()).unwrap_or_else(all);
            return Err(Failure::wrong(
                format!("there is no schema `{}`", self.of),
                hint,
            ));
        };
        print(schema)?;
        Ok(0)
    }
}
