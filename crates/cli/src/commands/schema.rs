use crate::failure::Failure;
use crate::opened::print;
use clap::Args;
use heronshale_intake::{configuration_schema, did_you_mean, snapshot_schema};
use heronshale_report::{ANSWERS, json, schema_of};

/// The JSON Schema of snapshot files, or of an answer in JSON
#[derive(Args, Debug)]
pub struct Schema {
    /// `snapshot`, `configuration`, or an answer: audit, effective, effective-all, exposure, finding, find, inventory, rule, tidy
    of: String,
}

impl Schema {
    pub fn run(&self) -> Result<u8, Failure> {
        if self.of == "snapshot" {
            print(&json(&snapshot_schema()))?;
            return Ok(0);
        }
        if self.of == "configuration" {
            print(&json(&configuration_schema()))?;
            return Ok(0);
        }
        let Some(schema) = schema_of(&self.of) else {
            let names = || ANSWERS.iter().copied().chain(["snapshot", "configuration"]);
            let all = || format!("there are {}", names().collect::<Vec<_>>().join(", "));
            let hint = did_you_mean(&self.of, names()).unwrap_or_else(all);
            return Err(Failure::wrong(format!("there is no schema `{}`", self.of), hint));
        };
        print(&json(&schema))?;
        Ok(0)
    }
}
