//! Why a command ends without an answer: classes of failures, their hints and their exit codes, in one place.

use crate::terminal;
use heronshale_intake::{LoadError, NotRead, SourceText, did_you_mean};
use heronshale_model::ends::EndError;
use heronshale_model::source::Problem;
use heronshale_report::{SourceFile, harmless_text, problems};
use std::io;
use std::path::Path;

/// Exit code: something was found at or above the threshold, or an answer is open.
pub const FOUND: u8 = 1;
/// Exit code: wrong use.
pub const USE: u8 = 2;
/// Exit code: the input cannot be used.
pub const INPUT: u8 = 3;
/// Exit code: the environment failed.
pub const ENVIRONMENT: u8 = 4;

/// Why there is no answer.
#[derive(Debug)]
pub enum Failure {
    /// The command was called wrongly.
    Use {
        /// What is wrong.
        what: String,
        /// What would be right.
        hint: Option<String>,
    },
    /// The snapshot cannot be used, or not be reached.
    Snapshot(Box<LoadError>),
    /// Exports, or the profile by which they are read, cannot be used, or not be reached.
    Exports(Box<LoadError>),
    /// Something could not be fetched.
    #[cfg_attr(
        not(feature = "collect"),
        allow(dead_code, reason = "nothing is collected")
    )]
    Collect {
        /// What, and why.
        what: String,
        /// What to do.
        hint: String,
    },
    /// A file that is not a snapshot cannot be used.
    Input {
        /// What is wrong.
        what: String,
        /// What would be right.
        hint: String,
    },
    /// A file could not be written.
    Io {
        /// What was tried.
        what: String,
        /// What the system said.
        error: io::Error,
    },
}

impl Failure {
    /// Wrong use, with what would be right.
    pub fn wrong(what: impl Into<String>, hint: impl Into<String>) -> Self {
        Self::Use {
            what: what.into(),
            hint: Some(hint.into()),
        }
    }

    /// A file that cannot be used, with what would be right.
    pub fn input(what: impl Into<String>, hint: impl Into<String>) -> Self {
        Self::Input {
            what: what.into(),
            hint: hint.into(),
        }
    }

    /// Exports that cannot be used.
    pub fn exports(error: LoadError) -> Self {
        Self::Exports(Box::new(error))
    }

    /// A name that stands for nothing, or for too much.
    pub fn end(given: &str, error: EndError) -> Self {
        const SHOWN: usize = 8;
        let EndError {
            what,
            candidates,
            ambiguous,
        } = error;
        let list = |candidates: &[String]| {
            let more = candidates.len().saturating_sub(SHOWN);
            let tail = if more > 0 {
                format!(" and {more} more")
            } else {
                String::new()
            };
            candidates
                .iter()
                .take(SHOWN)
                .cloned()
                .collect::<Vec<_>>()
                .join(", ")
                + &tail
        };
        let hint = match (ambiguous, candidates.as_slice()) {
            (_, []) => None,
            (true, all) => Some(format!("write one of {}", list(all))),
            (false, all) => did_you_mean(given, all.iter().map(String::as_str))
                .or_else(|| near_by_part(given, all))
                .or_else(|| (all.len() <= SHOWN).then(|| format!("there are {}", list(all))))
                .or_else(|| Some("`heronshale inventory` lists what there is".to_owned())),
        };
        Self::Use { what, hint }
    }

    /// The exit code.
    pub fn code(&self) -> u8 {
        match self {
            Self::Use { .. } => USE,
            Self::Snapshot(error) | Self::Exports(error)
                if matches!(**error, LoadError::Environment { .. }) =>
            {
                ENVIRONMENT
            }
            Self::Snapshot(_) | Self::Exports(_) | Self::Input { .. } => INPUT,
            Self::Io { .. } | Self::Collect { .. } => ENVIRONMENT,
        }
    }

    /// What to tell, on standard error.
    pub fn message(&self) -> String {
        match self {
            Self::Use { what, hint } => with_hint(what, hint.as_deref()),
            Self::Collect { what, hint } | Self::Input { what, hint } => {
                with_hint(what, Some(hint))
            }
            Self::Io { what, error } => with_hint(&format!("{what}: {error}"), None),
            Self::Exports(error) => match &**error {
                LoadError::Environment { what, error } => {
                    with_hint(&format!("{what}: {error}"), None)
                }
                LoadError::NoSnapshot { path, .. } => {
                    with_hint(&format!("{} has no exports", path.display()), None)
                }
                LoadError::Input { problems, texts } => {
                    shown(problems, texts, "no snapshot was written")
                }
            },
            Self::Snapshot(error) => match &**error {
                LoadError::Environment { what, error } => {
                    let hint = (error.kind() == io::ErrorKind::NotFound)
                        .then_some("name the snapshot with -e PATH: a file, or a folder of files; `heronshale init` writes a first one");
                    with_hint(&format!("{what}: {error}"), hint)
                }
                LoadError::NoSnapshot { path, not_read } => with_hint(
                    &no_snapshot(path, not_read),
                    Some(
                        "name another folder with -e PATH; `heronshale init` writes a first snapshot",
                    ),
                ),
                LoadError::Input { problems, texts } => {
                    shown(problems, texts, "the estate was not judged")
                }
            },
        }
    }
}

/// Problems with their lines, and what came of it.
fn shown(all: &[Problem], texts: &[SourceText], outcome: &str) -> String {
    let files: Vec<SourceFile<'_>> = texts
        .iter()
        .map(|file| SourceFile {
            name: &file.name,
            text: &file.text,
        })
        .collect();
    problems(all, &files, outcome, terminal::look_of_stderr())
}

/// Names that hold the given one, or are held by it.
fn near_by_part(given: &str, all: &[String]) -> Option<String> {
    let lower = given.to_lowercase();
    let near: Vec<&str> = all
        .iter()
        .map(String::as_str)
        .filter(|name| name.to_lowercase().contains(&lower))
        .take(5)
        .collect();
    (!near.is_empty() && given.len() > 1).then(|| format!("did you mean {}?", near.join(" or ")))
}

fn with_hint(what: &str, hint: Option<&str>) -> String {
    let hint = hint.map_or_else(String::new, |hint| format!("  {}\n", harmless_text(hint)));
    format!("error: {}\n{hint}", harmless_text(what))
}

fn no_snapshot(path: &Path, not_read: &[NotRead]) -> String {
    let looked = match not_read {
        [] => "it has no files".to_owned(),
        files => {
            let shown: Vec<String> = files
                .iter()
                .take(5)
                .map(|file| format!("{}: {}", file.name, file.why))
                .collect();
            let more = if files.len() > 5 {
                format!("; and {} more", files.len() - 5)
            } else {
                String::new()
            };
            format!("{}{more}", shown.join("; "))
        }
    };
    format!("no snapshot in the folder {} ({looked})", path.display())
}

impl From<LoadError> for Failure {
    fn from(error: LoadError) -> Self {
        Self::Snapshot(Box::new(error))
    }
}
