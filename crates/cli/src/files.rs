//! Files are written whole or not at all, and never over others.
//!
//! A set of files is staged in a folder beside their places, down to the disk, before the first of them gets its name. A new folder
//! gets its name with all its files in it. In a folder that is there, the list of the set makes it valid: a run that is stopped before
//! leaves what was there, and the next run that reads or writes the folder puts a listed set in place ([`finish`]). Writers hold a
//! lock on the folder, so that what is staged there while nobody holds it was left by a run that was stopped.

use crate::failure::Failure;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use tempfile::{Builder, NamedTempFile, TempDir};

/// How what is being written is called until it is whole.
const STAGED: &str = ".heronshale-";

/// The list of a staged set: which files, in the order of their numbers. With it the set is whole.
const LIST: &str = "list.json";

fn failed(what: &str, path: &Path, error: std::io::Error) -> Failure {
    Failure::Io {
        what: format!("cannot {what} {}", path.display()),
        error,
    }
}

/// The folder of a file.
fn folder_of(path: &Path) -> &Path {
    path.parent()
        .filter(|folder| !folder.as_os_str().is_empty())
        .unwrap_or(Path::new("."))
}

/// Where a file's bytes go: where a link leads. What is there and is not a plain file stays as it is.
fn target(path: &Path) -> Result<PathBuf, Failure> {
    let refused = |what: &str| {
        let what = format!("{} is {what}, not a plain file", path.display());
        Err(Failure::wrong(
            what,
            "name another file: other things are not overwritten",
        ))
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

/// The lock on a folder in which something is written. Not every file system has locks: without one nothing is cleaned up.
struct Locked(Option<fs::File>);

impl Locked {
    fn take(folder: &Path) -> Self {
        Self(
            fs::File::open(folder)
                .ok()
                .filter(|file| file.lock().is_ok()),
        )
    }

    /// The lock, if nobody holds it now.
    fn free(folder: &Path) -> Self {
        Self(
            fs::File::open(folder)
                .ok()
                .filter(|file| file.try_lock().is_ok()),
        )
    }
}

/// What a run that was stopped left in a folder: a whole set gets its names, all else goes. Nothing is done where nothing was left.
pub fn finish(folder: &Path) -> Result<(), Failure> {
    let left = left_in(folder);
    if left.is_empty() {
        return Ok(());
    }
    let listed = left.iter().any(|path| path.join(LIST).exists());
    let lock = if listed {
        Locked::take(folder)
    } else {
        Locked::free(folder)
    };
    clean(folder, &lock)
}

/// What was left where an estate is read: in its folder, and beside it.
pub fn finish_around(path: &Path) -> Result<(), Failure> {
    if path.is_dir() {
        finish(path)?;
    }
    finish(folder_of(path))
}

/// What is staged in a folder.
fn left_in(folder: &Path) -> Vec<PathBuf> {
    let staged = |entry: &fs::DirEntry| entry.file_name().to_string_lossy().starts_with(STAGED);
    fs::read_dir(folder)
        .into_iter()
        .flatten()
        .flatten()
        .filter(staged)
        .map(|entry| entry.path())
        .collect()
}

/// As [`finish`], by the holder of the lock.
fn clean(folder: &Path, lock: &Locked) -> Result<(), Failure> {
    if lock.0.is_none() {
        return Ok(());
    }
    for staged in left_in(folder) {
        let list = fs::read(staged.join(LIST))
            .ok()
            .and_then(|text| serde_json::from_slice::<Vec<String>>(&text).ok());
        match list {
            Some(names) => {
                put(folder, &staged, &names)?;
                let names = names
                    .iter()
                    .map(|name| heronshale_report::harmless_text(name))
                    .collect::<Vec<_>>()
                    .join(", ");
                crate::terminal::tell(&format!(
                    "An earlier run was stopped while writing. Completed: {names}.\n"
                ));
            }
            // Whoever may not take it away reads on all the same.
            None if staged.is_dir() => drop(fs::remove_dir_all(staged)),
            None => drop(fs::remove_file(staged)),
        }
    }
    Ok(())
}

/// Gives the files of a whole set their names. Those that have them are no longer staged.
fn put(folder: &Path, staged: &Path, names: &[String]) -> Result<(), Failure> {
    for (at, name) in names.iter().enumerate() {
        let from = staged.join(at.to_string());
        if from.exists() {
            let to = target(&folder.join(name))?;
            let moved = fs::create_dir_all(folder_of(&to)).and_then(|()| fs::rename(&from, &to));
            moved.map_err(|error| failed("write", &to, error))?;
            synced(folder_of(&to));
        }
    }
    fs::remove_dir_all(staged).map_err(|error| failed("remove", staged, error))
}

/// Writes some files into a folder. What is there with the same text stays; what differs is overwritten with `force` only,
/// and without it nothing is written at all.
pub fn write_all(folder: &Path, files: &[(&str, &str)], force: bool) -> Result<(), Failure> {
    finish(folder)?;
    let mut open: Vec<(&str, PathBuf, &str)> = Vec::new();
    for (name, text) in files {
        let path = target(&folder.join(name))?;
        if !path.exists() {
            open.push((name, path, text));
        } else if fs::read(&path).ok().as_deref() != Some(text.as_bytes()) {
            if !force {
                let what = format!(
                    "{} already exists, with another text",
                    folder.join(name).display()
                );
                return Err(Failure::wrong(
                    what,
                    "name another folder, or overwrite it with --force",
                ));
            }
            open.push((name, path, text));
        }
    }
    if !folder.exists() && files.len() > 1 {
        return new_folder(folder, files);
    }
    match open.as_slice() {
        [] => Ok(()),
        [(_, path, text)] => {
            let mut file = temporary(path)?;
            file.file
                .write_all(text.as_bytes())
                .map_err(|error| failed("write", path, error))?;
            persist(file, path)
        }
        _ => replace(folder, &open),
    }
}

/// Writes a set of files into a folder that is there.
fn replace(folder: &Path, open: &[(&str, PathBuf, &str)]) -> Result<(), Failure> {
    let lock = Locked::take(folder);
    clean(folder, &lock)?;
    for (name, path, _) in open {
        if !same_disk(folder, folder_of(path)) {
            let what = format!(
                "{} is a link to another file system",
                folder.join(name).display()
            );
            return Err(Failure::wrong(
                what,
                "a set of files must be on one file system",
            ));
        }
    }
    let staged = staging(folder)?;
    for (at, (_, path, text)) in open.iter().enumerate() {
        let write = || {
            let own = staged.path().join(at.to_string());
            create(&own, text.as_bytes())?;
            fs::metadata(path).map_or(Ok(()), |found| {
                fs::set_permissions(&own, found.permissions())
            })
        };
        write().map_err(|error| failed("write", path, error))?;
    }
    let names: Vec<&str> = open.iter().map(|(name, ..)| *name).collect();
    let part = staged.path().join("list.part");
    let listed = create(&part, serde_json::json!(names).to_string().as_bytes());
    listed
        .and_then(|()| fs::rename(&part, staged.path().join(LIST)))
        .map_err(|error| failed("write into", folder, error))?;
    synced(staged.path());
    // From here on the set is written, by this run or by the next.
    let staged = staged.keep();
    put(
        folder,
        &staged,
        &names
            .iter()
            .map(|name| (*name).to_owned())
            .collect::<Vec<_>>(),
    )
}

/// A new file, down to the disk.
fn create(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let mut file = fs::File::create_new(path)?;
    file.write_all(bytes)?;
    file.sync_all()
}

#[cfg(unix)]
fn same_disk(one: &Path, other: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let disk = |path: &Path| fs::metadata(path).map(|found| found.dev()).ok();
    !other.exists() || disk(one) == disk(other)
}

#[cfg(not(unix))]
fn same_disk(_: &Path, _: &Path) -> bool {
    true
}

/// A folder for what is being written.
fn staging(folder: &Path) -> Result<TempDir, Failure> {
    builder(0o777)
        .prefix(STAGED)
        .tempdir_in(folder)
        .map_err(|error| failed("write into", folder, error))
}

/// A folder with all its files, under its name from the moment on when it is whole.
fn new_folder(folder: &Path, files: &[(&str, &str)]) -> Result<(), Failure> {
    let parent = folder_of(folder);
    fs::create_dir_all(parent).map_err(|error| failed("make the folder", parent, error))?;
    let lock = Locked::take(parent);
    clean(parent, &lock)?;
    let staged = staging(parent)?;
    for (name, text) in files {
        let path = staged.path().join(name);
        let written =
            fs::create_dir_all(folder_of(&path)).and_then(|()| create(&path, text.as_bytes()));
        written.map_err(|error| failed("write", &folder.join(name), error))?;
    }
    fs::rename(staged.path(), folder).map_err(|error| failed("make the folder", folder, error))?;
    // What has another name is nothing to clean up.
    let _ = staged.keep();
    synced(parent);
    Ok(())
}

/// Writes one file; what is there with another text is overwritten with `force` only.
pub fn write_file(path: &Path, text: &str, force: bool) -> Result<(), Failure> {
    let name = path
        .file_name()
        .unwrap_or(path.as_os_str())
        .to_string_lossy()
        .into_owned();
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

/// A file that is not whole yet, and the lock on its folder.
pub struct Temporary {
    pub file: NamedTempFile,
    _lock: Locked,
}

/// A file beside the one that is to be written; the folder is made if need be.
pub fn temporary(path: &Path) -> Result<Temporary, Failure> {
    let path = target(path)?;
    let folder = folder_of(&path);
    fs::create_dir_all(folder).map_err(|error| failed("make the folder", folder, error))?;
    let lock = Locked::take(folder);
    clean(folder, &lock)?;
    let file = builder(0o666).prefix(STAGED).tempfile_in(folder);
    Ok(Temporary {
        file: file.map_err(|error| failed("write into", folder, error))?,
        _lock: lock,
    })
}

/// Puts a whole file in its place, with the permissions of the one that was there.
pub fn persist(whole: Temporary, path: &Path) -> Result<(), Failure> {
    let Temporary { file, _lock } = whole;
    let path = target(path)?;
    let kept = fs::metadata(&path).map(|found| file.as_file().set_permissions(found.permissions()));
    if let Ok(Err(error)) = kept {
        return Err(failed("write", &path, error));
    }
    file.as_file()
        .sync_all()
        .map_err(|error| failed("write", &path, error))?;
    file.persist(&path)
        .map_err(|error| failed("write", &path, error.error))?;
    synced(folder_of(&path));
    Ok(())
}

/// Names reach the disk as well. Not every system can do that for a folder: then they reach it later.
fn synced(folder: &Path) {
    if let Ok(folder) = fs::File::open(folder) {
        let _ = folder.sync_all();
    }
}
