//! The exports: files, and folders of them.

use super::*;

/// The files of an export.
#[derive(Debug, Default)]
pub struct Exports {
    pub(super) files: Vec<Export>,
    pub(super) not_read: Vec<NotCovered>,
    pub(super) collected: Option<crate::kept::Collected>,
}

impl Exports {
    /// How many bytes they have.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|file| file.bytes).sum()
    }
}

impl Exports {
    pub(super) fn take(
        &mut self,
        name: String,
        path: PathBuf,
        named: bool,
    ) -> Result<(), LoadError> {
        let Some(kind) = kind_of(&path) else {
            let why = "its name does not end with .json, .jsonl, .ndjson or .csv";
            if named {
                let error = std::io::Error::new(std::io::ErrorKind::InvalidInput, why);
                return Err(LoadError::Environment {
                    what: format!("cannot read {}", path.display()),
                    error,
                });
            }
            self.not_read.push(NotCovered {
                name,
                why: why.to_owned(),
            });
            return Ok(());
        };
        let bytes = fs::metadata(&path)
            .map_err(|error| LoadError::Environment {
                what: format!("cannot read {}", path.display()),
                error,
            })?
            .len();
        if !self.files.iter().any(|other| other.path == path) {
            self.files.push(Export {
                name,
                path,
                kind,
                bytes,
            });
        }
        Ok(())
    }
}

#[derive(Debug)]
pub(super) struct Export {
    pub(super) name: String,
    pub(super) path: PathBuf,
    pub(super) kind: Kind,
    pub(super) bytes: u64,
}

/// The files of an export: files, and all of folders whose endings tell that they can be read.
///
/// # Errors
/// If one cannot be reached.
pub fn exports(paths: &[PathBuf]) -> Result<Exports, LoadError> {
    let mut found = Exports::default();
    for path in paths {
        let metadata = fs::metadata(path).map_err(|error| LoadError::Environment {
            what: format!("cannot read {}", path.display()),
            error,
        })?;
        if metadata.is_dir() {
            let mut files = Vec::new();
            crate::load::list(path, path, 0, &mut files)?;
            files.sort();
            for (name, file) in files {
                if name == crate::kept::COLLECTED
                    && let Some(collected) = crate::kept::collected(&file)
                {
                    crate::kept::unchanged(path, &file, &collected)?;
                    found.collected = Some(collected);
                    continue;
                }
                if name != crate::kept::BEGUN {
                    found.take(name, file, false)?;
                }
            }
        } else {
            let name = path
                .file_name()
                .unwrap_or(path.as_os_str())
                .to_string_lossy()
                .into_owned();
            found.take(name, path.clone(), true)?;
        }
    }
    Ok(found)
}
