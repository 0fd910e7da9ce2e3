//! Reads a snapshot: a file, or all snapshot files of a folder as one estate.

use crate::build::build;
use crate::files::{
    ACCEPTANCES, CONFIGURATION, EXPECTATIONS, LoadError, NotRead, SourceText, is_json, text_of,
};
use crate::sections::{Collected, FileSink};
use crate::slips::typographic;
use crate::tree::syntax_problem;
use crate::written::FORMAT;
use crate::{json, yaml};
use heronshale_model::estate::Estate;
use heronshale_model::source::{FileId, Problem, SourceFile, SourceMap};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// What else may lie in an estate's folder.
const BESIDE: [&str; 3] = [EXPECTATIONS, ACCEPTANCES, CONFIGURATION];

/// Folders nested deeper than this are refused, so that a circle of links ends.
const DEEPEST_FOLDER: usize = 32;

/// A snapshot that was read.
#[derive(Debug)]
pub struct Snapshot {
    /// The estate.
    pub estate: Estate,
    /// The files, by [`FileId`].
    pub texts: Vec<SourceText>,
    /// Files of the folder that are no part of the snapshot, with the reason.
    pub not_read: Vec<NotRead>,
    /// Files of the folder that say something about the estate.
    pub beside: Vec<Beside>,
}

/// A file beside the snapshot that says something about the estate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Beside {
    /// What it says it is: one of [`EXPECTATIONS`], [`ACCEPTANCES`] and [`CONFIGURATION`].
    pub format: &'static str,
    /// Relative to the estate's folder.
    pub name: String,
    /// Where it is.
    pub path: PathBuf,
}

fn environment(what: &str, path: &Path, error: io::Error) -> LoadError {
    LoadError::Environment {
        what: format!("{what} {}", path.display()),
        error,
    }
}

/// Reads the estate at a path.
pub fn load(path: &Path) -> Result<Snapshot, LoadError> {
    let metadata = fs::metadata(path).map_err(|error| environment("cannot read", path, error))?;
    let mut loader = Loader::default();
    if metadata.is_dir() {
        let mut files = Vec::new();
        list(path, path, 0, &mut files)?;
        files.sort();
        for (name, file) in files {
            loader.file_of_folder(name, &file)?;
        }
        if loader.texts.is_empty() {
            return Err(LoadError::NoSnapshot {
                path: path.to_owned(),
                not_read: loader.not_read,
            });
        }
    } else {
        let name = path
            .file_name()
            .unwrap_or(path.as_os_str())
            .to_string_lossy()
            .into_owned();
        let bytes = fs::read(path).map_err(|error| environment("cannot read", path, error))?;
        loader.file(name, bytes, true);
    }
    loader.finish()
}

/// Reads an estate from texts in memory, by name: for tests, and for what is made and not stored.
pub fn load_texts(files: &[(&str, &str)]) -> Result<Snapshot, LoadError> {
    let mut loader = Loader::default();
    for (name, text) in files {
        loader.file((*name).to_owned(), text.as_bytes().to_vec(), true);
    }
    loader.finish()
}

pub(crate) fn list(
    root: &Path,
    folder: &Path,
    depth: usize,
    files: &mut Vec<(String, PathBuf)>,
) -> Result<(), LoadError> {
    let failed = |error| environment("cannot list the folder", folder, error);
    if depth > DEEPEST_FOLDER {
        return Err(failed(io::Error::other(format!(
            "folders are nested deeper than {DEEPEST_FOLDER} levels"
        ))));
    }
    for entry in fs::read_dir(folder).map_err(failed)? {
        let path = entry.map_err(failed)?.path();
        let hidden = path
            .file_name()
            .is_some_and(|name| name.to_string_lossy().starts_with('.'));
        if hidden {
            continue;
        }
        if path.is_dir() {
            // What an audit wrote as evidence is not a part of what was audited.
            if !is_evidence(&path) {
                list(root, &path, depth + 1, files)?;
            }
        } else {
            let parts = path.strip_prefix(root).unwrap_or(&path).components();
            let parts: Vec<_> = parts
                .map(|part| part.as_os_str().to_string_lossy().into_owned())
                .collect();
            files.push((parts.join("/"), path));
        }
    }
    Ok(())
}

/// Whether a folder is the evidence of an audit.
fn is_evidence(folder: &Path) -> bool {
    let manifest = folder.join("evidence.json");
    manifest.is_file()
        && fs::read(manifest).is_ok_and(|bytes| contains(&bytes, b"heronshale-evidence"))
}

#[derive(Default)]
struct Loader {
    sources: SourceMap,
    texts: Vec<SourceText>,
    collected: Collected,
    problems: Vec<Problem>,
    not_read: Vec<NotRead>,
    beside: Vec<Beside>,
    /// Whether a file was not read to its end.
    cut_short: bool,
}

impl Loader {
    fn file_of_folder(&mut self, name: String, path: &Path) -> Result<(), LoadError> {
        let extension = path
            .extension()
            .map(|extension| extension.to_string_lossy().to_ascii_lowercase());
        if !matches!(extension.as_deref(), Some("json" | "yaml" | "yml")) {
            self.not_read.push(NotRead {
                name,
                why: "neither JSON nor YAML by its name",
            });
            return Ok(());
        }
        if !path.is_file() {
            self.not_read.push(NotRead {
                name,
                why: "no plain file",
            });
            return Ok(());
        }
        let bytes = fs::read(path).map_err(|error| environment("cannot read", path, error))?;
        if contains(&bytes, FORMAT.as_bytes()) {
            self.file(name, bytes, false);
        } else if let Some(format) = BESIDE
            .iter()
            .find(|format| contains(&bytes, format.as_bytes()))
        {
            self.beside.push(Beside {
                format,
                name,
                path: path.to_owned(),
            });
        } else if bytes.starts_with(&[0xFF, 0xFE]) || bytes.starts_with(&[0xFE, 0xFF]) {
            self.file(name, bytes, true);
        } else if is_cut(&bytes) {
            const HELP: &str = "get the whole file again; if it is not a part of the estate, take it out of the folder";
            let file = FileId(u32::try_from(self.texts.len()).expect("fewer than 2^32 files"));
            self.refuse(
                file,
                name,
                "the file ends before its header is complete",
                HELP,
            );
        } else {
            self.not_read.push(NotRead {
                name,
                why: "no snapshot header",
            });
        }
        Ok(())
    }

    /// Reads a file; one that is not named by the user and turns out to be no snapshot is only listed.
    fn file(&mut self, name: String, bytes: Vec<u8>, named: bool) {
        let file = FileId(u32::try_from(self.texts.len()).expect("fewer than 2^32 files"));
        if u32::try_from(bytes.len()).is_err() {
            self.refuse(
                file,
                name,
                "the file is larger than 4 GiB",
                "split it: the files of a folder are one estate",
            );
            return;
        }
        if bytes.iter().all(u8::is_ascii_whitespace) {
            self.refuse(
                file,
                name,
                "the file is empty",
                "`heronshale init` writes a small snapshot to begin with",
            );
            return;
        }
        let body = match text_of(bytes) {
            Ok(text) => text,
            Err(what) => {
                return self.refuse(
                    file,
                    name,
                    &what,
                    "save it as UTF-8; a snapshot is JSON or YAML",
                );
            }
        };
        let is_json = is_json(&name, &body);
        let before = self.collected.lengths();
        let mut sink = FileSink::new(&mut self.collected, file);
        let read = if is_json {
            json::read(file, &body, &mut sink)
        } else {
            yaml::read(file, &body, &mut sink)
        };
        if read.is_ok() && !sink.is_snapshot && !named {
            self.collected.forget_after(&before);
            self.not_read.push(NotRead {
                name,
                why: "no snapshot header",
            });
            return;
        }
        match read {
            Ok(()) => {
                sink.finish();
                sink.count(&before);
            }
            // What was read before may be wrong for the same reason: of a file with broken syntax only that is told.
            Err(problem) => {
                sink.reading.problems = vec![problem];
                self.cut_short = true;
            }
        }
        let mut problems = std::mem::take(&mut sink.reading.problems);
        for problem in problems
            .iter_mut()
            .filter(|problem| problem.span.file == file)
        {
            let marked = body.get(problem.span.start as usize..problem.span.end as usize);
            problem.help = marked.and_then(typographic).or(problem.help.take());
        }
        self.problems.extend(problems);
        self.sources.add(SourceFile::new(&name, body.as_bytes()));
        self.texts.push(SourceText { name, text: body });
    }

    fn refuse(&mut self, file: FileId, name: String, title: &str, help: &str) {
        self.cut_short = true;
        self.problems.push(syntax_problem(
            file,
            0,
            title.to_owned(),
            "",
            Some(help.to_owned()),
        ));
        self.sources.add(SourceFile::new(&name, b""));
        self.texts.push(SourceText {
            name,
            text: String::new(),
        });
    }

    fn finish(mut self) -> Result<Snapshot, LoadError> {
        let broken = std::mem::take(&mut self.problems);
        let built = build(self.sources, self.collected);
        let problems = match built {
            Ok(estate) if broken.is_empty() => {
                let (texts, not_read, beside) = (self.texts, self.not_read, self.beside);
                return Ok(Snapshot {
                    estate,
                    texts,
                    not_read,
                    beside,
                });
            }
            // What stood behind a cut is missing to all that names it: those errors would only repeat the first.
            Err(more) if !self.cut_short => merge(broken, more),
            _ => broken,
        };
        Err(LoadError::Input {
            problems,
            texts: self.texts,
        })
    }
}

/// Whether a file ends before its header does: it is empty but for comments, or its first words are the beginning of a header.
fn is_cut(bytes: &[u8]) -> bool {
    let text = String::from_utf8_lossy(bytes);
    let plain = text
        .lines()
        .filter(|line| !line.trim_start().starts_with('#'))
        .flat_map(str::chars);
    let first: String = plain
        .filter(|sign| !matches!(sign, '{' | '"' | '\'' | ' ' | '\t' | '\r'))
        .take(64)
        .collect();
    let known = [FORMAT]
        .iter()
        .chain(&BESIDE)
        .map(|format| format!("format:{format}"));
    known.into_iter().any(|header| header.starts_with(&first))
}

fn merge(mut broken: Vec<Problem>, more: Vec<Problem>) -> Vec<Problem> {
    broken.extend(more);
    broken.sort_by_key(|problem| problem.span);
    broken.dedup();
    broken
}

fn contains(haystack: &[u8], needle: &[u8]) -> bool {
    haystack
        .windows(needle.len())
        .any(|window| window == needle)
}
