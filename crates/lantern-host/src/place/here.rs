//! Files of this machine that lie in no server folder: what a command line or a settings file names by its
//! path, such as archives in a drop folder, catalogues, and the logs of a service manager.

#![allow(clippy::disallowed_methods, clippy::disallowed_types)] // The place where the disk is.

pub(crate) use super::local::OpenFile;
use super::{Meta, Source};
use crate::error::{At, Result};
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

/// No file that is read whole may be longer, in bytes: a catalogue of 100 MB is a large one.
const LONGEST: u64 = 512 << 20;

/// Opens a file to read it; links are followed.
///
/// # Errors
/// When it cannot be read.
pub fn open(path: &Path) -> io::Result<Box<dyn Source>> {
    // A pipe would be waited for, and a device may never end.
    if look(path).is_some_and(|meta| !meta.is_file()) {
        return Err(io::Error::other(
            "it is no file but a folder, a pipe or a device",
        ));
    }
    Ok(Box::new(OpenFile(File::open(path)?)))
}

/// A new file without a name, which is gone when it is closed.
///
/// # Errors
/// When the disk refuses.
pub(crate) fn nameless() -> io::Result<OpenFile> {
    Ok(OpenFile(tempfile::tempfile()?))
}

/// Reads a file that comes from outside: none that would fill the memory.
///
/// # Errors
/// When it cannot be read, is a pipe or a device, or is longer than [`LONGEST`].
pub fn read(path: &Path) -> Result<Vec<u8>> {
    let mut bytes = Vec::new();
    let read = open(path).and_then(|file| {
        file.take(LONGEST + 1).read_to_end(&mut bytes)?;
        match bytes.len() as u64 > LONGEST {
            true => Err(io::Error::other("it is longer than 512 MiB")),
            false => Ok(()),
        }
    });
    read.at("reading", path)?;
    Ok(bytes)
}

/// Reads a text file, as [`read`].
///
/// # Errors
/// As [`read`], and when it is no UTF-8.
pub fn read_text(path: &Path) -> Result<String> {
    let no_text = |_| io::Error::new(io::ErrorKind::InvalidData, "it is no UTF-8 text");
    String::from_utf8(read(path)?)
        .map_err(no_text)
        .at("reading", path)
}

/// What lies at a path, whatever links lead there; none when there is nothing, or it cannot be told.
pub fn look(path: &Path) -> Option<Meta> {
    super::local::look(path)
}

/// Where a path leads, without links in it; none when there is nothing.
pub fn real(path: &Path) -> Option<PathBuf> {
    path.canonicalize().ok()
}

/// What lies in a folder, by path.
///
/// # Errors
/// When it cannot be listed.
pub fn list(folder: &Path) -> Result<Vec<PathBuf>> {
    let mut paths = Vec::new();
    for entry in fs::read_dir(folder).at("listing", folder)? {
        paths.push(entry.at("listing", folder)?.path());
    }
    paths.sort();
    Ok(paths)
}

/// Makes a folder with all that lead to it.
///
/// # Errors
/// When the disk refuses.
pub fn make_folders(folder: &Path) -> Result<()> {
    fs::create_dir_all(folder).at("making the folder", folder)
}

/// Writes a file beside its place, syncs it, renames it there and syncs the folder: it is there whole or
/// not at all, even when the power goes. What `write` did not finish is removed.
///
/// # Errors
/// When the disk is full or the folder cannot be written; an old file is then still there.
pub fn write_whole(path: &Path, write: &mut dyn FnMut(&mut File) -> io::Result<()>) -> Result<()> {
    let mut beside = path.as_os_str().to_owned();
    beside.push(".part");
    let beside = Path::new(&beside);
    let open = OpenOptions::new()
        .read(true)
        .write(true)
        .create(true)
        .truncate(true)
        .open(beside);
    let written = open.and_then(|mut file| {
        write(&mut file)?;
        file.sync_all()
    });
    if let Err(error) = written {
        let _ = fs::remove_file(beside);
        return Err(error).at("writing", path);
    }
    fs::rename(beside, path).at("renaming", path)?;
    let folder = path
        .parent()
        .filter(|folder| !folder.as_os_str().is_empty());
    let folder = folder.unwrap_or(Path::new("."));
    super::local::sync(folder).at("syncing", folder)
}

/// Writes bytes as [`write_whole`].
///
/// # Errors
/// As [`write_whole`].
pub fn write(path: &Path, bytes: &[u8]) -> Result<()> {
    write_whole(path, &mut |file| file.write_all(bytes))
}

/// Renames, and never over something that is there.
///
/// # Errors
/// When something is there, the two lie on different disks, or the disk refuses.
pub(crate) fn rename(from: &Path, to: &Path) -> io::Result<()> {
    super::local::rename(from, to)
}
