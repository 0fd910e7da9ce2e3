//! `heronshale rule`: one rule: what it matches, where it acts, what would change without it.

use crate::failure::Failure;
use crate::opened::EstateArgs;
use clap::Args;
use heronshale_answers::rule_answer;
use heronshale_model::ends::parse_rule;
use heronshale_report as report;

/// One rule: what it matches, where it applies, and what changes without it
#[derive(Args, Debug)]
pub struct Rule {
    /// The rule: its id, FILTER/ID, group:FILTER/in/ID, or FILE:LINE
    rule: String,
    #[command(flatten)]
    estate: EstateArgs,
}

impl Rule {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = self.estate.open()?;
        let view = opened.view();
        let id = parse_rule(&view, &self.rule).map_err(|error| Failure::end(&self.rule, error))?;
        opened.answer(&view, "rule", rule_answer(&view, id), report::rule)?;
        Ok(0)
    }
}
