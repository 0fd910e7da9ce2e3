//! Files are written whole or not at all, and never over others.

use crate::failure::Failure;
use std::fs;
use std::io::Write;
use std::path::Path;
use tempfile::NamedTempFile;

fn failed(what: &str, path: &Path, error: std::io::Error) -> Failure {
    Failure::Io { what: format!("cannot {what} {}", path.display()), error }
}

/// Writes some files into a folder. What is there with the same text stays; what differs is overwritten with `force` only,
/// and without it nothing is written at all.
pub fn write_all(folder: &Path, files: &[(&str, &str)], force: bool) -> Result<(), Failure> {
    let differs = |(name, text): &&(&str, &str)| {
        let path = folder.join(name);
        path.exists() && fs::read(&path).ok().as_deref() != Some(text.as_bytes())
    };
    if let Some((name, _)) = files.iter().find(differs).filter(|_| !force) {
        let what = format!("{} is there already, with another text", folder.join(name).display());
        return Err(Failure::wrong(what, "name another folder, or overwrite it with --force"));
    }
    for (name, text) in files {
        write(&folder.join(name), text)?;
    }
    Ok(())
}

/// Writes one file; what is there with another text is overwritten with `force` only.
pub fn write_file(path: &Path, text: &str, force: bool) -> Result<(), Failure> {
    let name = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    write_all(folder, &[(&name, text)], force)
}

fn write(path: &Path, text: &str) -> Result<(), Failure> {
    let mut file = temporary(path)?;
    file.write_all(text.as_bytes()).map_err(|error| failed("write", path, error))?;
    persist(file, path)
}

/// A file beside the one that is to be written; the folder is made if need be.
pub fn temporary(path: &Path) -> Result<NamedTempFile, Failure> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    fs::create_dir_all(folder).map_err(|error| failed("make the folder", folder, error))?;
    NamedTempFile::new_in(folder).map_err(|error| failed("write into", folder, error))
}

/// Puts a whole file in its place.
pub fn persist(file: NamedTempFile, path: &Path) -> Result<(), Failure> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let _ = file.as_file().set_permissions(fs::Permissions::from_mode(0o644));
    }
    file.persist(path).map_err(|error| failed("write", path, error.error))?;
    Ok(())
}
