//! `heronshale rehearse`: a change that is only thought of.

use super::compare::{Comparing, tell};
use crate::failure::Failure;
use clap::Args;
use heronshale_intake::{Change, Difference, NoChange, SourceText, rehearsed};
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
        tell(&opened, views, &difference, &fail_on)
    }
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
