//! Files that people write: what each says that it is, its text, and why it cannot be used.

use heronshale_model::source::Problem;
use std::io;
use std::path::PathBuf;

/// What a configuration file says in its field `format`.
pub const CONFIGURATION: &str = "heronshale-configuration";

/// What a file of expectations says in its field `format`.
pub const EXPECTATIONS: &str = "heronshale-expectations";

/// What a file of acceptances says in its field `format`.
pub const ACCEPTANCES: &str = "heronshale-acceptances";

/// The text of a file that was read, for showing its lines.
#[derive(Debug, Clone)]
pub struct SourceText {
    /// Relative to the estate's folder.
    pub name: String,
    /// Its text; where bytes were no UTF-8, a stand-in.
    pub text: String,
}

impl SourceText {
    /// Whether it is JSON: by its name, else by how it begins.
    pub fn is_json(&self) -> bool {
        is_json(&self.name, &self.text)
    }
}

/// Whether a text is JSON: by its name, else by how it begins.
pub(crate) fn is_json(name: &str, text: &str) -> bool {
    match name.rsplit('.').next() {
        Some("json") => true,
        Some("yaml" | "yml") => false,
        _ => text.trim_start().starts_with(['{', '[']),
    }
}

/// A file that lies in the folder and is not a part of the snapshot.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotRead {
    /// Relative to the estate's folder.
    pub name: String,
    /// Why it was not read.
    pub why: &'static str,
}

/// Why no estate came of it.
#[derive(Debug)]
pub enum LoadError {
    /// The files could not be reached.
    Environment {
        /// What was tried.
        what: String,
        /// What the system said.
        error: io::Error,
    },
    /// The content cannot be used.
    Input {
        /// Everything that is wrong, by file and place.
        problems: Vec<Problem>,
        /// The files, by [`FileId`](heronshale_model::source::FileId).
        texts: Vec<SourceText>,
    },
    /// There is no snapshot.
    NoSnapshot {
        /// Where it was looked for.
        path: PathBuf,
        /// The files that were there.
        not_read: Vec<NotRead>,
    },
}

/// The text of a file, without a byte order mark.
///
/// # Errors
/// In words, if it is not text in UTF-8.
pub(crate) fn text_of(bytes: Vec<u8>) -> Result<String, String> {
    if bytes.starts_with(&[0xFF, 0xFE]) || bytes.starts_with(&[0xFE, 0xFF]) {
        return Err("the file is text in UTF-16, not in UTF-8".to_owned());
    }
    let mut text = String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let before = &error.as_bytes()[..at];
        let line = before.iter().filter(|byte| **byte == b'\n').count() + 1;
        let column = at
            - before
                .iter()
                .rposition(|byte| *byte == b'\n')
                .map_or(0, |end| end + 1)
            + 1;
        format!(
            "the file is not text in UTF-8: byte {:#04x} in line {line}, column {column}",
            error.as_bytes()[at]
        )
    })?;
    if text.contains('\0') {
        return Err("the file is not text in UTF-8: it contains a null byte".to_owned());
    }
    if text.starts_with('\u{feff}') {
        text.drain(..'\u{feff}'.len_utf8());
    }
    Ok(text)
}

/// What is wrong if a file does not hold what it says.
pub(crate) fn miscounted(said: u32, found: usize) -> String {
    format!("the file announces {said} entries and has {found}")
}

/// What to do then.
pub(crate) const MISCOUNTED: &str = "is the file cut? Get the whole file, or correct the number";
