//! `heronshale explain`: kinds of findings, and single findings.

use crate::failure::Failure;
use crate::opened::{EstateArgs, StatedArgs, print};
use crate::terminal;
use clap::Args;
use heronshale_audit::finding::{CATALOGUE, Finding, Judged, judged, kind, try_advice};
use heronshale_audit::fix::Kept;
use heronshale_intake::did_you_mean;
use heronshale_report as report;

/// A kind of finding, or one finding of the audit in full
#[derive(Args, Debug)]
pub struct Explain {
    /// A kind such as `shadowed`, or a fingerprint such as 7kq2-m3fa or its first four signs; nothing lists all kinds
    what: Option<String>,
    #[command(flatten)]
    estate: EstateArgs,
    #[command(flatten)]
    stated: StatedArgs,
}

/// Whether a text has the form of a fingerprint, or of its beginning.
fn is_fingerprint(text: &str) -> bool {
    (4..=9).contains(&text.len())
        && text.chars().enumerate().all(|(at, sign)| {
            if at == 4 {
                sign == '-'
            } else {
                sign.is_ascii_alphanumeric()
            }
        })
}

impl Explain {
    pub fn run(&self) -> Result<u8, Failure> {
        let look = terminal::look_of_stdout();
        let Some(what) = &self.what else {
            print(&report::explain(None, look))?;
            return Ok(0);
        };
        if let Some(kind) = kind(what) {
            print(&report::explain(Some(kind), look))?;
            return Ok(0);
        }
        if !is_fingerprint(what) {
            let names = CATALOGUE.iter().map(|kind| kind.name);
            let all = || {
                format!(
                    "a kind is one of {}",
                    CATALOGUE
                        .iter()
                        .map(|kind| kind.name)
                        .collect::<Vec<_>>()
                        .join(", ")
                )
            };
            let hint = did_you_mean(what, names).unwrap_or_else(all);
            return Err(Failure::wrong(
                format!("`{what}` is neither a kind of finding nor a fingerprint"),
                hint,
            ));
        }
        let opened = self.estate.open_with(&self.stated)?;
        let view = opened.view();
        let mut all = judged(&view);
        let what = only(&all, what)?;
        let is_it = |finding: &Finding| finding.fingerprint == what;
        let kept = Kept::among(&all.standings);
        let accepted = all.accepted.iter_mut().map(|one| &mut one.finding);
        let mut told: Vec<&mut Finding> = all.findings.iter_mut().chain(accepted).collect();
        told.retain(|finding| is_it(finding));
        try_advice(&view, &kept, &mut told);
        if let Some(accepted) = all.accepted.into_iter().find(|one| is_it(&one.finding)) {
            opened.answer(&view, "finding-accepted", accepted, report::one_accepted)?;
            return Ok(0);
        }
        let Some(finding) = all.findings.into_iter().find(is_it) else {
            let hint = "the audit prints fingerprints; a finding that is gone was fixed, or its subject has changed";
            return Err(Failure::wrong(
                format!("the estate has no finding {what}"),
                hint,
            ));
        };
        opened.answer(&view, "finding", finding, report::one_finding)?;
        Ok(0)
    }
}

/// The fingerprint that begins so, if there is only one; else the text itself.
fn only(all: &Judged, what: &str) -> Result<String, Failure> {
    let what = what.to_ascii_lowercase();
    let accepted = all.accepted.iter().map(|one| &one.finding);
    let prints = all.findings.iter().chain(accepted);
    let prints = prints.map(|finding| finding.fingerprint.as_str());
    let mut found: Vec<&str> = prints.filter(|print| print.starts_with(&what)).collect();
    found.dedup();
    match found.as_slice() {
        [one] => Ok((*one).to_owned()),
        [] => Ok(what),
        several => Err(Failure::wrong(
            format!("several findings begin with {what}"),
            format!("name one of {}", several.join(", ")),
        )),
    }
}
