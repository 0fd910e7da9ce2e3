//! `heronshale exposure`: what the internet reaches, and what it would take.

use crate::failure::{FOUND, Failure};
use crate::files::write_file;
use crate::opened::{EstateArgs, Opened, StatedArgs, end};
use crate::terminal;
use clap::Args;
use heronshale_answers::draft::drafted;
use heronshale_answers::{
    ExposureOf, ReachAsked, Sight, exposure_answer, heading, observed, one_step_away, onward,
    outward, reach_answer,
};
use heronshale_engine::fabric::Fabric;
use heronshale_intake::load_observed;
use heronshale_report as report;
use std::path::PathBuf;

/// What the internet reaches, by which way in, and what closes the rest
///
/// Follows each public or global address, balancer, translating firewall and public door there and back, and compares it with
/// expectations. Names closed ways that a single change would open.
#[derive(Args, Debug)]
pub struct Exposure {
    /// Only these: a name, an address, network:tickets, tag:role=web, balancer:NAME, service:NAME, firewall:NAME …
    selector: Option<String>,
    #[command(flatten)]
    estate: EstateArgs,
    #[command(flatten)]
    stated: StatedArgs,
    /// One row for each address, way in and port range, closed ones included; --format csv writes CSV (RFC 4180)
    #[arg(long, conflicts_with_all = ["onward", "outward", "observed", "from"])]
    ledger: bool,
    /// Compare with ports seen open from outside: CSV with the columns address, protocol, port. Ends with 1 if one is closed here
    #[arg(long, value_name = "FILE")]
    observed: Option<PathBuf>,
    /// Also what lies behind exposed workloads within so many connections, and chains to marked workloads
    #[arg(long, value_name = "JUMPS", value_parser = clap::value_parser!(u32).range(1..=8))]
    onward: Option<u32>,
    /// Also who connects to the internet, by which device, as which address
    #[arg(long)]
    outward: bool,
    /// Exposed to another place than the internet: a site, an interface, network:office …
    #[arg(long, value_name = "PLACE", conflicts_with_all = ["selector", "observed", "onward", "outward", "draft_expectations"])]
    from: Option<String>,
    /// Write openings without an expectation to this file, as expectations to confirm or to delete
    #[arg(long, value_name = "FILE")]
    draft_expectations: Option<PathBuf>,
    /// Overwrite files that are there
    #[arg(long)]
    force: bool,
}

impl Exposure {
    pub fn run(&self) -> Result<u8, Failure> {
        let opened = match self.ledger {
            true => self.estate.open_for_table(&self.stated)?,
            false => self.estate.open_with(&self.stated)?,
        };
        let view = opened.view();
        if let Some(place) = &self.from {
            return self.seen_from(&opened, &view, place);
        }
        let only = self.selector.as_ref().map(|text| {
            let found = end(&view, text)?;
            ExposureOf::end(&view, &found).ok_or_else(|| {
                Failure::wrong(
                    format!("`{text}` matches nothing that the internet could reach"),
                    "name an interface, a workload, balancer:NAME, service:NAME, firewall:NAME, or a selector that matches some",
                )
            })
        });
        let only = only.transpose()?;
        if let Some(file) = &self.draft_expectations {
            let all = drafted(&view);
            write_file(
                file,
                &report::expectations(&heading(&view), &all),
                self.force,
            )?;
            let said = all.iter().filter(|one| one.not_said.is_none()).count();
            let said = heronshale_audit::describe::plural(said, "expectation");
            terminal::tell(&format!(
                "Wrote {} with {said}, to be confirmed or deleted.\n",
                report::harmless_text(&file.display().to_string())
            ));
        }
        let mut found = exposure_answer(&view, only.as_ref());
        if self.ledger {
            opened.answer_with_csv(&view, "exposure", found, report::ledger, report::ledger_csv)?;
            return Ok(0);
        }
        if only.is_none() {
            (found.one_step_away, found.steps_not_looked_at) = one_step_away(&view);
        }
        found.onward = self.onward.map(|jumps| onward(&view, jumps));
        found.outward = self.outward.then(|| outward(&view));
        if let Some(file) = &self.observed {
            found.observed = Some(observed(&view, &load_observed(file)?));
        }
        let contradicts = found
            .observed
            .iter()
            .any(|observed| observed.seen.iter().any(|one| one.sight == Sight::Closed));
        opened.answer(&view, "exposure", found, report::exposure)?;
        Ok(if contradicts { FOUND } else { 0 })
    }

    fn seen_from(&self, opened: &Opened, view: &Fabric<'_>, place: &str) -> Result<u8, Failure> {
        let from = end(view, place)?;
        let asked = ReachAsked {
            from: Some((&from, place)),
            to: None,
            jumps: 1,
            services: &[],
        };
        let Some(found) = reach_answer(view, &asked) else {
            return Err(Failure::wrong(
                format!("`{place}` matches nothing that opens connections"),
                "name a site, an interface, a workload, or a selector that matches some",
            ));
        };
        opened.answer(view, "reach", found, report::reach)?;
        Ok(0)
    }
}
