//! Files are written whole or not at all, and never over others.
//!
//! A set of files is staged beside its place, down to the disk, before the first of them gets its name. A new folder gets its name
//! with all its files in it.

use crate::failure::Failure;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use tempfile::{Builder, NamedTempFile};

/// How what is being written is called until it is whole.
const STAGED: &str = ".heronshale-";

fn failed(what: &str, path: &Path, error: std::io::Error) -> Failure {
    Failure::Io { what: format!("cannot {what} {}", path.display()), error }
}

/// The folder of a file.
fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Where a file's bytes go: where a link leads. What is there and is no plain file stays as it is.
fn target(path: &Path) -> Result<PathBuf, Failure> {
    let refused = |what: &str| {
        let what = format!("{} is {what}, not a plain file", path.display());
        Err(Failure::wrong(what, "name another file: nothing else is written over"))
    };
    match fs::symlink_metadata(path) {
        Ok(found) if found.is_file() => Ok(path.to_owned()),
        Ok(found) if found.is_symlink() => match path.canonicalize() {
            Ok(to) if to.is_file() => Ok(to),
            Ok(_) => refused("a link to something else"),
            Err(_) => refused("a link that leads nowhere"),
        },
        Ok(found) if found.is_dir() => refused("a folder"),
        Ok(_) => refused("a device, a pipe or a socket"),
        Err(_) => Ok(path.to_owned()),
    }
}

/// Writes some files into a folder. What is there with the same text stays; what differs is overwritten with `force` only,
/// and without it nothing is written at all.
pub fn write_all(folder: &Path, files: &[(&str, &str)], force: bool) -> Result<(), Failure> {
    let mut open: Vec<(PathBuf, &str)> = Vec::new();
    for (name, text) in files {
        let path = target(&folder.join(name))?;
        if !path.exists() {
            open.push((path, text));
        } else if fs::read(&path).ok().as_deref() != Some(text.as_bytes()) {
            if !force {
                let what = format!("{} is there already, with another text", folder.join(name).display());
                return Err(Failure::wrong(what, "name another folder, or overwrite it with --force"));
            }
            open.push((path, text));
        }
    }
    if !folder.exists() && files.len() > 1 {
        return new_folder(folder, files);
    }
    let mut staged = Vec::with_capacity(open.len());
    for (path, text) in open {
        let mut file = temporary(&path)?;
        file.write_all(text.as_bytes()).map_err(|error| failed("write", &path, error))?;
        file.as_file().sync_all().map_err(|error| failed("write", &path, error))?;
        staged.push((file, path));
    }
    staged.into_iter().try_for_each(|(file, path)| persist(file, &path))
}

/// A folder with all its files, under its name from the moment on when it is whole.
fn new_folder(folder: &Path, files: &[(&str, &str)]) -> Result<(), Failure> {
    let parent = folder_of(folder);
    fs::create_dir_all(parent).map_err(|error| failed("make the folder", parent, error))?;
    let staged =
        builder(0o777).prefix(STAGED).tempdir_in(parent).map_err(|error| failed("write into", parent, error))?;
    for (name, text) in files {
        let path = staged.path().join(name);
        let write = || {
            fs::create_dir_all(folder_of(&path))?;
            let mut file = fs::File::create_new(&path)?;
            file.write_all(text.as_bytes())?;
            file.sync_all()
        };
        write().map_err(|error| failed("write", &folder.join(name), error))?;
    }
    fs::rename(staged.path(), folder).map_err(|error| failed("make the folder", folder, error))?;
    // What has another name is nothing to clean up.
    let _ = staged.keep();
    synced(parent);
    Ok(())
}

/// Writes one file; what is there with another text is overwritten with `force` only.
pub fn write_file(path: &Path, text: &str, force: bool) -> Result<(), Failure> {
    let name = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
    write_all(folder_of(path), &[(&name, text)], force)
}

/// What is made with these permissions, less those that the user's mask takes away.
fn builder(mode: u32) -> Builder<'static, 'static> {
    let mut builder = Builder::new();
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        builder.permissions(fs::Permissions::from_mode(mode));
    }
    builder
}

/// A file beside the one that is to be written; the folder is made if need be.
pub fn temporary(path: &Path) -> Result<NamedTempFile, Failure> {
    let path = target(path)?;
    let folder = folder_of(&path);
    fs::create_dir_all(folder).map_err(|error| failed("make the folder", folder, error))?;
    builder(0o666).prefix(STAGED).tempfile_in(folder).map_err(|error| failed("write into", folder, error))
}

/// Puts a whole file in its place, with the permissions of the one that was there.
pub fn persist(file: NamedTempFile, path: &Path) -> Result<(), Failure> {
    let path = target(path)?;
    let kept = fs::metadata(&path).map(|found| file.as_file().set_permissions(found.permissions()));
    if let Ok(Err(error)) = kept {
        return Err(failed("write", &path, error));
    }
    file.as_file().sync_all().map_err(|error| failed("write", &path, error))?;
    file.persist(&path).map_err(|error| failed("write", &path, error.error))?;
    synced(folder_of(&path));
    Ok(())
}

/// Names reach the disk as well. Not every system can do that for a folder: then they reach it later.
fn synced(folder: &Path) {
    if let Ok(folder) = fs::File::open(folder) {
        let _ = folder.sync_all();
    }
}
