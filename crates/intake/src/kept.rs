//! What was collected from an API: the answers as files, and the list of them.

use crate::files::{LoadError, SourceText};
use heronshale_model::source::{FileId, Problem};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::fs;
use std::path::Path;

/// What the file says in its field `format` that tells what was collected into a folder.
pub const COLLECTION: &str = "heronshale-collection";
/// Its name.
pub const COLLECTED: &str = "collected.json";

/// The name of the file that tells from where a folder's answers are.
pub const BEGUN: &str = "collecting-from";

/// What was collected.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Collected {
    /// [`COLLECTION`].
    pub format: String,
    /// 1.
    pub version: u32,
    /// Where it was asked.
    pub url: String,
    /// When it was complete.
    pub taken: String,
    /// How many requests were answered.
    #[serde(skip)]
    pub answered: usize,
    /// How many were answered before, and not asked again.
    #[serde(skip)]
    pub kept: usize,
    /// How often a request was made again.
    #[serde(skip)]
    pub again: usize,
    /// What could not be fetched, and what is missing from the snapshot by that.
    pub missing: Vec<Missing>,
    /// The files that keep the answers; none of a folder that an older version collected.
    #[serde(default)]
    pub files: Vec<KeptFile>,
}

/// A file that keeps answers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptFile {
    /// Its name in the folder.
    pub name: String,
    /// How many answers it holds, a line each.
    pub pages: usize,
    /// The SHA-256 digest of its bytes, in hexadecimal.
    pub sha256: String,
}

impl KeptFile {
    /// A file with these bytes.
    pub fn of(name: &str, bytes: &[u8]) -> Self {
        let pages = bytes.iter().filter(|byte| **byte == b'\n').count();
        let digest = Sha256::digest(bytes);
        let sha256 = digest
            .iter()
            .fold(String::new(), |text, byte| text + &format!("{byte:02x}"));
        Self {
            name: name.to_owned(),
            pages,
            sha256,
        }
    }
}

/// Something that could not be fetched.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Missing {
    /// What was asked, without the origin.
    pub request: String,
    /// Why there is no answer.
    pub why: String,
    /// The object that the snapshot lacks: its kind and name. None if the profile names none.
    pub object: Option<String>,
    /// Which part of it.
    pub lacks: Option<String>,
}

/// What was collected into a folder, if that is complete.
pub(crate) fn collected(path: &Path) -> Option<Collected> {
    let text = fs::read_to_string(path).ok()?;
    serde_json::from_str::<Collected>(&text)
        .ok()
        .filter(|found| found.format == COLLECTION)
}

/// That a folder holds what was collected into it: the list says which files with which answers.
///
/// # Errors
/// What is missing, cut or changed, at its place in the list.
pub(crate) fn unchanged(
    folder: &Path,
    list: &Path,
    collected: &Collected,
) -> Result<(), LoadError> {
    let text = fs::read_to_string(list).unwrap_or_default();
    let mut problems = Vec::new();
    for kept in &collected.files {
        let title =
            match fs::read(folder.join(&kept.name)).map(|bytes| KeptFile::of(&kept.name, &bytes)) {
                Ok(now) if now == *kept => continue,
                Ok(now) if now.pages == kept.pages => {
                    format!("{} is not what was collected", kept.name)
                }
                Ok(now) => format!(
                    "{} has {} of the {} collected answers",
                    kept.name, now.pages, kept.pages
                ),
                Err(_) => format!("{} was collected, but does not exist", kept.name),
            };
        let quoted = format!("\"{}\"", kept.name);
        let at = text.find(&quoted).unwrap_or_default();
        let help = "put the file back as it was, or collect into an empty folder";
        problems.push(Problem {
            title,
            span: crate::tree::span(FileId(0), at, at + quoted.len()),
            label: "in the list of what was collected".to_owned(),
            related: None,
            help: Some(help.to_owned()),
        });
    }
    if problems.is_empty() {
        return Ok(());
    }
    let name = list
        .file_name()
        .unwrap_or(list.as_os_str())
        .to_string_lossy()
        .into_owned();
    Err(LoadError::Input {
        problems,
        texts: vec![SourceText { name, text }],
    })
}
