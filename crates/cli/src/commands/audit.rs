//! `heronshale audit`: every finding, or the chosen ones, with acceptances, evidence and what is new since.

use crate::evidence;
use crate::failure::{FOUND, Failure};
use crate::files::write_file;
use crate::opened::{EstateArgs, Opened, StatedArgs};
use crate::terminal;
use clap::{Args, ValueEnum};
use heronshale_answers::{self, heading};
use heronshale_audit::finding::{CATALOGUE, Finding, pinned_facts};
use heronshale_change::compare;
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{Difference, did_you_mean};
use heronshale_model::severity::Severity;
use heronshale_report as report;
use std::path::PathBuf;

/// Everything that is wrong or worth a look, worst first
///
/// Lists root causes, then the three to fix first, then who has how much to do. Ends with 1 if a finding is at or above --fail-on,
/// or if something is undecided.
#[derive(Args, Debug)]
pub struct Audit {
    #[command(flatten)]
    estate: EstateArgs,
    #[command(flatten)]
    stated: StatedArgs,
    /// End with 1 if a finding is at or above this severity; `never` looks at none
    #[arg(long, value_name = "SEVERITY", default_value = "serious", value_parser = ["note", "minor", "serious", "urgent", "never"])]
    fail_on: String,
    /// Only findings at or above this severity
    #[arg(long, value_name = "SEVERITY", value_parser = ["note", "minor", "serious", "urgent"])]
    at_least: Option<String>,
    /// Only this kind of finding; may be given several times
    #[arg(long, value_name = "KIND")]
    kind: Vec<String>,
    /// Only findings of this owner
    #[arg(long, value_name = "OWNER")]
    owner: Vec<String>,
    /// Only findings about this network
    #[arg(long, value_name = "NETWORK")]
    network: Vec<String>,
    /// Only findings that are new, or have grown, since this earlier snapshot
    #[arg(long, value_name = "OLD")]
    since: Option<PathBuf>,
    /// How to group the list; all but severity list every root cause with its fix
    #[arg(long, value_enum, default_value = "severity")]
    by: By,
    /// Write the findings shown to this file as acceptances, with reason, name and date left blank
    #[arg(long, value_name = "FILE")]
    draft_acceptances: Option<PathBuf>,
    /// Write the whole audit with its evidence to this folder: hashes of inputs, what was examined and what not, source lines
    #[arg(long, value_name = "DIR", conflicts_with_all = ["at_least", "kind", "owner", "network", "since", "check"])]
    evidence: Option<PathBuf>,
    /// Make the evidence again and compare it with this folder byte for byte; ends with 1 if anything differs
    #[arg(long, value_name = "DIR", conflicts_with_all = ["at_least", "kind", "owner", "network", "since"])]
    check: Option<PathBuf>,
    /// Overwrite files that are there
    #[arg(long)]
    force: bool,
}

/// How the list of root causes is grouped.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum By {
    /// Urgent and serious ones in lines, the others counted
    Severity,
    /// The work list of each owner
    Owner,
    /// Each network
    Network,
    /// Each kind of finding
    Kind,
    /// Each file
    File,
}

impl By {
    fn group(self) -> report::GroupBy {
        match self {
            Self::Severity => report::GroupBy::Severity,
            Self::Owner => report::GroupBy::Owner,
            Self::Network => report::GroupBy::Network,
            Self::Kind => report::GroupBy::Kind,
            Self::File => report::GroupBy::File,
        }
    }
}

/// The severity of a name; none for `never`.
fn severity(name: &str) -> Option<Severity> {
    Severity::ALL
        .into_iter()
        .find(|severity| severity.word() == name)
}

fn known(given: &[String], names: &[&str], what: &str) -> Result<(), Failure> {
    match given.iter().find(|name| !names.contains(&name.as_str())) {
        None => Ok(()),
        Some(name) => {
            let hint = did_you_mean(name, names.iter().copied())
                .unwrap_or_else(|| format!("there are {}", names.join(", ")));
            Err(Failure::wrong(
                format!("there is no {what} called `{name}`"),
                hint,
            ))
        }
    }
}

impl Audit {
    /// The audit of a snapshot, with nothing else asked for.
    pub fn of(estate: PathBuf) -> Self {
        let none = StatedArgs {
            expectations: Vec::new(),
            acceptances: Vec::new(),
        };
        Self {
            estate: EstateArgs::of(estate),
            stated: none,
            fail_on: "serious".to_owned(),
            at_least: None,
            kind: Vec::new(),
            owner: Vec::new(),
            network: Vec::new(),
            since: None,
            by: By::Severity,
            draft_acceptances: None,
            evidence: None,
            check: None,
            force: false,
        }
    }

    pub fn run(&self) -> Result<u8, Failure> {
        let kinds: Vec<&str> = CATALOGUE.iter().map(|kind| kind.name).collect();
        known(&self.kind, &kinds, "kind of finding")?;
        if let Some(folder) = &self.check {
            return evidence::check(&self.estate, &self.stated, folder);
        }
        let opened = self.estate.open_with(&self.stated)?;
        let view = opened.view();
        let owners: Vec<&str> = view
            .estate
            .owners
            .items()
            .iter()
            .map(|owner| &*owner.name)
            .collect();
        known(&self.owner, &owners, "owner")?;
        let networks: Vec<&str> = view
            .estate
            .networks
            .items()
            .iter()
            .map(|network| &*network.name)
            .collect();
        known(&self.network, &networks, "network")?;
        let mut found = heronshale_answers::audit(&view);
        let threshold = severity(&self.fail_on);
        // What is undecided is never fine, whatever is asked for.
        let undecided = found
            .findings
            .iter()
            .any(|finding| finding.kind == "undecided");
        if let Some(old) = &self.since {
            since(&mut found, &opened, &view, &opened.other(old)?);
        }
        self.choose(&mut found);
        let fails =
            undecided || threshold.is_some_and(|threshold| found.worst() >= Some(threshold));
        if let Some(file) = &self.draft_acceptances {
            self.draft(&view, &found, file)?;
        }
        // What is told is tried: of a list the advice that stands below it.
        let first = found.first_fingerprints();
        let in_lines = self.by.group() == report::GroupBy::Severity
            && found.causes > report::FEW
            && !opened.tells_all();
        let told = |finding: &Finding| {
            !in_lines || self.evidence.is_some() || first.contains(&finding.fingerprint)
        };
        found.try_advice(&view, told);
        if let Some(folder) = &self.evidence {
            evidence::write(
                &opened,
                &view,
                &found,
                self.estate.at.as_deref(),
                folder,
                self.force,
            )?;
        }
        answer(&opened, &view, found, self.by.group())?;
        Ok(if fails { FOUND } else { 0 })
    }

    fn draft(
        &self,
        view: &Fabric<'_>,
        found: &heronshale_answers::Audit,
        file: &std::path::Path,
    ) -> Result<(), Failure> {
        let accepting = |kind: &str| {
            kind.starts_with("acceptance-")
                || kind.starts_with("expectation-")
                || kind == "undecided"
        };
        let chosen = || {
            found
                .findings
                .iter()
                .filter(|finding| !accepting(&finding.kind))
        };
        let pinned = |finding: &Finding| {
            finding
                .packets
                .as_ref()
                .map(|packets| pinned_facts(view, packets))
        };
        let text = report::acceptances(
            &heading(view),
            chosen().map(|finding| (finding, pinned(finding))),
        );
        write_file(file, &text, self.force)?;
        let left = found.findings.len() - chosen().count();
        let left = if left > 0 {
            format!("; {left} more cannot be accepted")
        } else {
            String::new()
        };
        terminal::tell(&format!(
            "Wrote {} with {}, to be filled in{left}.\n",
            report::harmless_text(&file.display().to_string()),
            heronshale_audit::describe::plural(chosen().count(), "finding")
        ));
        Ok(())
    }

    fn choose(&self, found: &mut heronshale_answers::Audit) {
        let least = self.at_least.as_deref().and_then(severity);
        let level = least.map(|least| format!("{} and worse", least.word()));
        let named = [
            ("kind", &self.kind),
            ("owner", &self.owner),
            ("network", &self.network),
        ];
        let named = named
            .into_iter()
            .filter(|(_, names)| !names.is_empty())
            .map(|(what, names)| format!("{what} {}", names.join(" or ")));
        let only: Vec<String> = level.into_iter().chain(named).collect();
        let wanted = |finding: &Finding| {
            least.is_none_or(|least| finding.severity >= least)
                && (self.kind.is_empty() || self.kind.contains(&finding.kind))
                && (self.owner.is_empty()
                    || finding
                        .owner
                        .as_ref()
                        .is_some_and(|owner| self.owner.contains(owner)))
                && (self.network.is_empty()
                    || finding
                        .networks
                        .iter()
                        .any(|network| self.network.contains(network)))
        };
        if !only.is_empty() {
            found.keep(only, wanted);
        }
    }
}

/// Keeps what is new since an earlier snapshot, and says by which edits ways in were opened.
fn since(found: &mut heronshale_answers::Audit, opened: &Opened, view: &Fabric<'_>, old: &Opened) {
    let difference = Difference::of(old.snapshot(), opened.snapshot());
    // What has another name only is no news.
    let renamed = difference.renamed();
    let before = renamed
        .as_ref()
        .map_or_else(|| old.view(), |(estate, _)| old.view_of(estate));
    found.keep_new(&before);
    if found.has_new_ways() {
        let comparison = compare((&before, view), &difference, &|estate| {
            opened.view_of(estate)
        });
        found.explain_new(view, &comparison);
    }
    if let Some(since) = &mut found.since {
        since.renamed = renamed.map_or(0, |(_, count)| count);
        // What was read with its new names stands where it was written.
        let places = since.gone.iter_mut().flat_map(Finding::places_mut);
        for place in places {
            if let Some(before) = difference.place_in_old(place) {
                *place = before;
            }
        }
    }
}

fn answer(
    opened: &Opened,
    view: &Fabric<'_>,
    found: heronshale_answers::Audit,
    by: report::GroupBy,
) -> Result<(), Failure> {
    opened.answer(view, "audit", found, |whole, look| {
        report::audit(whole, by, look)
    })
}
