//! `heronshale rehearse`: a change that is only thought of.

use super::compare::{Comparing, tell};
use crate::failure::Failure;
use crate::opened::Opened;
use clap::Args;
use heronshale_answers::order_answer;
use heronshale_audit::expect::{State, standings};
use heronshale_change::{NoOrder, Ordering, order};
use heronshale_engine::fabric::Fabric;
use heronshale_intake::{Change, Difference, NoChange, SourceText, rehearsed};
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
    /// In words ("remove rule GROUP/RULE", "down peering NAME", "attach table NAME to subnet NAME"), or a file or folder of
    /// snapshot items that replace those of the same id
    #[arg(value_name = "CHANGE", required = true)]
    changes: Vec<String>,
    /// Say in which order to make the edits, so that no state in between is worse than both ends
    #[arg(long, conflicts_with = "fail_on")]
    order: bool,
    #[command(flatten)]
    comparing: Comparing,
}

impl Rehearse {
    pub fn run(&self) -> Result<u8, Failure> {
        let Comparing { estate, stated, .. } = &self.comparing;
        let fail_on = self.comparing.fail_on()?;
        let changes: Vec<Change> = self
            .changes
            .iter()
            .map(|text| change(text))
            .collect::<Result<_, _>>()?;
        let opened = estate.open_with(stated)?;
        let after = match rehearsed(opened.snapshot(), &changes) {
            Ok(after) => after,
            Err(NoChange::Words { what, help }) => return Err(Failure::wrong(what, help)),
            Err(NoChange::Load(error)) => return Err(error.into()),
        };
        let difference = Difference::of(opened.snapshot(), &after);
        let views = (&opened.view(), &opened.view_of(&after.estate));
        if self.order {
            return steps(&opened, views, &difference);
        }
        tell(&opened, views, &difference, &fail_on)
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

/// Reads one change: a path if there is one, else words.
fn change(text: &str) -> Result<Change, Failure> {
    let path = Path::new(text);
    if !path.exists() {
        if text.split_whitespace().count() < 2 {
            return Err(Failure::wrong(
                format!("`{text}` is neither a file nor a change in words"),
                "write for example \"remove rule GROUP/RULE\", with quotation marks",
            ));
        }
        return Ok(Change::Words(text.to_owned()));
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
            format!("the folder {text} holds no snapshot file"),
            "a change in a folder is a set of snapshot files, JSON or YAML",
        ));
    }
    let read = |file: &PathBuf| {
        let text = fs::read_to_string(file).map_err(|error| failed(file, error))?;
        let name = file.display().to_string();
        Ok(SourceText { name, text })
    };
    files
        .iter()
        .map(read)
        .collect::<Result<_, _>>()
        .map(Change::Overlay)
}

fn failed(path: &Path, error: std::io::Error) -> Failure {
    Failure::Io {
        what: format!("cannot read {}", path.display()),
        error,
    }
}
