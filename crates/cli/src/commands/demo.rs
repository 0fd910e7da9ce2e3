//! `heronshale demo`: the demo estate, written and audited.

use super::compare::Comparing;
use super::rehearse::unfit;
use crate::demo::{CHANGES, FILES, FOLDER, LAST_MONTH, PLANNED, last_month};
use crate::failure::Failure;
use crate::files::write_all;
use crate::opened::{EstateArgs, Opened, StatedArgs, print};
use crate::terminal;
use clap::Args;
use heronshale_answers::{audit, effective_answer, inventory, with_heading};
use heronshale_engine::effective::class_of;
use heronshale_intake::{Change, Difference, SourceText, rehearsed};
use heronshale_model::ends::End;
use heronshale_report as report;
use std::path::{Path, PathBuf};

/// Write the estate of an invented ferry company, and audit it
#[derive(Args, Debug)]
pub struct Demo {
    /// The folder to write it to
    #[arg(default_value = FOLDER)]
    folder: PathBuf,
    /// Overwrite files that are there
    #[arg(long)]
    force: bool,
}

impl Demo {
    pub fn run(&self) -> Result<u8, Failure> {
        let before = beside(&self.folder, LAST_MONTH)?;
        let planned = beside(&self.folder, PLANNED)?;
        let files = last_month();
        let files: Vec<(&str, &str)> = files
            .iter()
            .map(|(name, text)| (*name, text.as_str()))
            .collect();
        write_all(&before, &files, self.force)?;
        write_all(&planned, &CHANGES, self.force)?;
        write_all(&self.folder, &FILES, self.force)?;
        let stated = StatedArgs {
            expectations: Vec::new(),
            acceptances: Vec::new(),
        };
        let estate = EstateArgs {
            config: Some(self.folder.join("heronshale.yaml")),
            ..EstateArgs::of(self.folder.clone())
        };
        let opened = estate.open_with(&stated)?;
        let view = opened.view();
        let look = terminal::look_of_stdout();
        let folder = self.folder.display().to_string();
        let ask = |command: &str| format!("\n$ heronshale {command} -e {folder}\n");
        let mut out = format!(
            "Wrote the estate of Marrowfen Ferries, an invented company, to {folder} ({} files),\nthe same a month before to {} ({} files),\nand what is planned to {} ({} files).\n",
            FILES.len(),
            before.display(),
            files.len(),
            planned.display(),
            CHANGES.len()
        );
        out += &ask("inventory");
        out += &first_lines(
            &report::inventory(
                &with_heading(&view, "inventory", inventory(&view, None)),
                false,
                look,
            ),
            1,
        );
        out += &ask("audit");
        let mut found = audit(&view);
        let first = found.first_fingerprints();
        found.try_advice(&view, |finding| first.contains(&finding.fingerprint));
        out += &report::audit(
            &with_heading(&view, "audit", found),
            report::GroupBy::Severity,
            look,
        );
        let worst = End::parse(&view, "interface:fares-db")
            .and_then(|end| end.one_interface(&view, "fares-db"));
        if let Ok(interface) = worst {
            out += &ask("effective fares-db");
            let one = effective_answer(&view, &class_of(&view, interface), |_| None);
            out += &report::effective(&with_heading(&view, "effective-all", vec![one]), look);
        }
        let comparing = Comparing::plain(EstateArgs::of(self.folder.clone()), stated);
        for (name, text) in CHANGES {
            let file = planned.join(name);
            out += &ask(&format!("rehearse {}", file.display()));
            out += &rehearsal(&comparing, &opened, &file, text, look)?;
        }
        out += &format!("\nTry next, each with -e {folder}:\n");
        let compare = format!("compare {}", before.display());
        out += &format!("  heronshale {compare:<38}  what changed since last month\n");
        let steps = format!("rehearse {} --order", planned.display());
        out += &format!("  heronshale {steps:<38}  in which order to make what is planned\n");
        for (command, why) in TRY {
            out += &format!("  heronshale {command:<38}  {why}\n");
        }
        print(&out)?;
        Ok(0)
    }
}

/// What one planned change would do, in its first sentence.
fn rehearsal(
    comparing: &Comparing,
    opened: &Opened,
    file: &Path,
    text: &str,
    look: report::Look,
) -> Result<String, Failure> {
    let source = SourceText {
        name: file.display().to_string(),
        text: text.to_owned(),
    };
    let change = Change::Overlay(vec![source]);
    let after = rehearsed(opened.snapshot(), &[change]).map_err(unfit)?;
    let difference = Difference::of(opened.snapshot(), &after);
    let there = opened.view_of(&after.estate);
    let answer = comparing.answer(opened, (&opened.view(), &there), &difference, &[])?;
    Ok(report::compare_sentence(&answer, look))
}

/// A folder beside the other.
fn beside(folder: &Path, what: &str) -> Result<PathBuf, Failure> {
    let named = |folder: &Path| {
        let mut name = folder.file_name()?.to_owned();
        name.push(what);
        Some(folder.with_file_name(name))
    };
    let whole = std::path::absolute(folder).ok();
    let whole = whole.and_then(|folder| folder.canonicalize().ok().or(Some(folder)));
    named(folder)
        .or_else(|| whole.as_deref().and_then(named))
        .ok_or_else(|| {
            let what = format!(
                "there is no room for a second folder beside {}",
                folder.display()
            );
            Failure::wrong(what, "name another folder")
        })
}

const TRY: [(&str, &str); 8] = [
    (
        "path desk-1 https://203.0.113.30",
        "one connection, there and back",
    ),
    ("routes freight-db", "where its traffic goes"),
    ("exposure", "what the internet reaches, and how"),
    ("rule fares-db/tmp", "what would change without that rule"),
    (
        "inventory --find 192.0.2.77",
        "everything that holds an address",
    ),
    (
        "effective booking-1 --tcp 443",
        "both families, both directions, one service",
    ),
    ("explain shadowed", "what a kind of finding is"),
    ("audit --at-least serious --format json", "for a program"),
];

fn first_lines(text: &str, count: usize) -> String {
    text.lines()
        .take(count)
        .map(|line| format!("{line}\n"))
        .collect()
}
