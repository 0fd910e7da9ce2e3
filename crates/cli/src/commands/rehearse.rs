//! `heronshale rehearse`: a change that is only thought of.

mod each_down;

use super::compare::Comparing;
use crate::failure::Failure;
use crate::files::write_all;
use crate::opened::Opened;
use crate::terminal;
use clap::Args;
use heronshale_answers::order_answer;
use heronshale_audit::expect::{State, standings};
use heronshale_change::{NoOrder, Ordering, order};
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{Change, Difference, NoChange, Snapshot, SourceText, rehearsed, written};
use heronshale_report as report;
use heronshale_sets::address::Addresses;
use std::fs;
use std::path::{Path, PathBuf};

/// What a change would do, before anybody makes it
///
/// Makes the changes to the estate in memory and compares, as `compare` does. Nothing is written. Several changes are made one
/// after the other, and each row says which of them it needs.
#[derive(Args, Debug)]
pub struct Rehearse {
    /// In words ("remove rule GROUP/RULE", "add rule GROUP/RULE tcp 443 from 10.0.0.0/8", "down peering NAME", "attach table NAME
    /// to subnet NAME"); a file or folder of snapshot items that replace those of the same id; or a patch: JSON Patch (RFC 6902)
    /// or Merge Patch (RFC 7396), of FILE if it is called FILE.patch.json or FILE.merge.json, else of all files as one
    #[arg(value_name = "CHANGE", required_unless_present = "each_down")]
    changes: Vec<String>,
    /// Say in which order to make the edits, so that no state in between is worse than both ends
    #[arg(long, conflicts_with_all = ["fail_on", "review", "only"])]
    order: bool,
    /// Fail each thing alone, after the changes if there are any: gateways, links, peerings, firewalls, members, balancers, back
    /// ends, ways out of subnets
    #[arg(long, conflicts_with_all = ["order", "fail_on", "review", "only"])]
    each_down: bool,
    /// With --each-down: also two at once, where they share a place: parts of one thing, next hops of one table
    #[arg(long, requires = "each_down")]
    pairs: bool,
    /// Write the changed files, comments and layout kept, into this folder
    #[arg(long, value_name = "FOLDER", help_heading = "Output")]
    write: Option<PathBuf>,
    /// Overwrite files that are there
    #[arg(long, requires = "write", help_heading = "Output")]
    force: bool,
    #[command(flatten)]
    comparing: Comparing,
}

impl Rehearse {
    pub fn run(&self) -> Result<u8, Failure> {
        let Comparing { estate, stated, .. } = &self.comparing;
        self.comparing.fail_on()?;
        let mut changes: Vec<Change> = Vec::new();
        for text in &self.changes {
            changes.extend(read(text)?);
        }
        let opened = estate.open_with(stated)?;
        let after = rehearsed(opened.snapshot(), &changes).map_err(unfit)?;
        let difference = Difference::of(opened.snapshot(), &after);
        let renamed = difference.renamed().map(|(estate, _)| estate);
        let before = renamed
            .as_ref()
            .map_or_else(|| opened.view(), |estate| opened.view_of(estate));
        let views = (&before, &opened.view_of(&after.estate));
        if let Some(folder) = &self.write {
            self.write_to(folder, &opened, &after)?;
        }
        if self.each_down {
            let base = if changes.is_empty() {
                opened.snapshot()
            } else {
                &after
            };
            return each_down::run(&opened, base, self.pairs);
        }
        if self.order {
            return steps(&opened, views, &difference);
        }
        self.comparing.tell(&opened, views, &difference)
    }

    /// Writes the files that change. What they say is read again first.
    fn write_to(&self, folder: &Path, opened: &Opened, after: &Snapshot) -> Result<(), Failure> {
        let files = written(opened.snapshot(), after);
        let texts: Vec<(&str, &str)> = files
            .iter()
            .map(|file| (file.name.as_str(), file.text.as_str()))
            .collect();
        write_all(folder, &texts, self.force)?;
        if files.is_empty() {
            terminal::tell("Wrote nothing: no file changes.\n");
        }
        for file in &files {
            let path = folder.join(&file.name);
            let lost = if file.layout_kept {
                ""
            } else {
                "; its comments and its layout are lost"
            };
            terminal::tell(&format!("Wrote {}{lost}.\n", path.display()));
        }
        Ok(())
    }
}

/// What is wrong with a change.
pub(super) fn unfit(error: NoChange) -> Failure {
    match error {
        NoChange::Words { what, help } => Failure::wrong(what, help),
        NoChange::Load(error) => error.into(),
    }
}

/// Puts the edits in order; 1 if every order passes a harmful state.
fn steps(
    opened: &Opened,
    views: (&Fabric<'_>, &Fabric<'_>),
    difference: &Difference,
) -> Result<u8, Failure> {
    let kept = |view: &Fabric<'_>| {
        let all = standings(view);
        all.iter().map(|one| one.state == State::Kept).collect()
    };
    let with = Ordering {
        between: difference,
        judged: &|estate| opened.view_of(estate),
        kept: &kept,
        marked: marked(views.0).union(&marked(views.1)),
    };
    let found = order(views, &with).map_err(|error| match error {
        NoOrder::TooMany { steps, most } => Failure::wrong(
            format!("{steps} steps are too many to put in order: {most} are the most here"),
            "rehearse fewer changes at once",
        ),
        NoOrder::Illegal => Failure::wrong(
            "no order of these edits was found: each passes a state that is no legal estate",
            "make the edits together",
        ),
    })?;
    let answer = order_answer(views, &found);
    let is_safe = answer.is_safe;
    opened.answer(views.1, "order", answer, report::order)?;
    Ok(u8::from(!is_safe))
}

/// The addresses of marked interfaces, public ones included.
fn marked(view: &Fabric<'_>) -> Addresses {
    let marks = view.tuning.marks.iter();
    let all: Vec<_> = marks
        .flat_map(|mark| view.tagged(std::slice::from_ref(mark)))
        .collect();
    let public = view.estate.public_addresses.items().iter();
    let public = public
        .filter(|one| one.interface.is_some_and(|id| all.contains(&id)))
        .map(|one| Addresses::single(one.address));
    let own = all
        .iter()
        .map(|id| view.estate.interfaces[*id].addresses.clone());
    own.chain(public)
        .fold(Addresses::empty(), |sum, one| sum.union(&one))
}

/// Reads changes: those of a path if there is one, else words.
fn read(text: &str) -> Result<Vec<Change>, Failure> {
    let path = Path::new(text);
    if !path.exists() {
        if text.split_whitespace().count() < 2 {
            return Err(Failure::wrong(
                format!("`{text}` is neither a file nor a change in words"),
                "write for example \"remove rule GROUP/RULE\", with quotation marks",
            ));
        }
        return Ok(vec![Change::Words(text.to_owned())]);
    }
    let mut files: Vec<PathBuf> = Vec::new();
    if path.is_dir() {
        let entries = fs::read_dir(path).map_err(|error| failed(path, error))?;
        for entry in entries {
            let file = entry.map_err(|error| failed(path, error))?.path();
            let extension = file
                .extension()
                .map(|one| one.to_string_lossy().to_lowercase());
            if matches!(extension.as_deref(), Some("yaml" | "yml" | "json")) {
                files.push(file);
            }
        }
        files.sort();
    } else {
        files.push(path.to_owned());
    }
    if files.is_empty() {
        return Err(Failure::wrong(
            format!("the folder {text} holds neither a snapshot file nor a patch"),
            "a change in a folder is a set of snapshot files, JSON or YAML, or of patches, JSON",
        ));
    }
    let mut overlay = Vec::new();
    let mut changes = Vec::new();
    for file in &files {
        let text = fs::read_to_string(file).map_err(|error| failed(file, error))?;
        let name = file.display().to_string();
        let source = SourceText { name, text };
        if is_patch(&source) {
            changes.push(Change::Patch(source));
        } else {
            overlay.push(source);
        }
    }
    if !overlay.is_empty() {
        changes.push(Change::Overlay(overlay));
    }
    Ok(changes)
}

/// Whether a file is a patch: a list, or a JSON object that is no snapshot.
fn is_patch(source: &SourceText) -> bool {
    let text = source.text.trim_start();
    source.is_json()
        && (text.starts_with('[') || text.starts_with('{') && !text.contains("\"format\""))
}

fn failed(path: &Path, error: std::io::Error) -> Failure {
    Failure::Io {
        what: format!("cannot read {}", path.display()),
        error,
    }
}
