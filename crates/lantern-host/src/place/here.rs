//! Files of this machine that lie in no server folder: what a command line or a settings file names by its
//! path, such as archives in a drop folder, catalogues, and the logs of a service manager.

#![allow(clippy::disallowed_methods, clippy::disallowed_types)] // The place where the disk is.

pub(crate) use super::local::OpenFile;
use super::{Meta, Source};
use crate::error::{At, Error, Result};
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
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
        // Growing would hold a large one twice.
        let long = file.meta()?.stamp.bytes.min(LONGEST);
        bytes.reserve_exact(long as usize);
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
    let mut names = Vec::new();
    let entries = match fs::read_dir(folder) {
        Err(error) if error.kind() == io::ErrorKind::NotADirectory => {
            return Err(Error::NotAFolder(folder.into()));
        }
        listed => listed.at("listing", folder)?,
    };
    for entry in entries {
        names.push(entry.at("listing", folder)?.file_name());
    }
    names.sort();
    Ok(names.into_iter().map(|name| folder.join(name)).collect())
}

/// Makes a folder with all that lead to it.
///
/// # Errors
/// When the disk refuses.
pub fn make_folders(folder: &Path) -> Result<()> {
    fs::create_dir_all(folder).at("making the folder", folder)
}

/// A file of this machine that is being written.
pub type BeingWritten = File;

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

/// Writes a file that may be lost when the power goes; nobody sees half of it.
///
/// # Errors
/// When the disk refuses.
pub(crate) fn note(path: &Path, bytes: &[u8]) -> Result<()> {
    let mut beside = path.as_os_str().to_owned();
    beside.push(".part");
    fs::write(&beside, bytes).at("writing", path)?;
    fs::rename(&beside, path).at("renaming", path)
}

/// Renames, and never over something that is there.
///
/// # Errors
/// When something is there, the two lie on different disks, or the disk refuses.
pub(crate) fn rename(from: &Path, to: &Path) -> io::Result<()> {
    super::local::rename(from, to)
}

/// Writes a new file that nobody else can read.
///
/// # Errors
/// When something is there, or the disk refuses.
pub(crate) fn write_private(path: &Path, bytes: &[u8]) -> Result<()> {
    let mut options = OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    let written = options.open(path).and_then(|mut file| {
        file.write_all(bytes)?;
        file.sync_all()
    });
    written.at("writing", path)
}

/// Renames, also over a file that is there.
///
/// # Errors
/// When the two lie on different disks, or the disk refuses.
pub(crate) fn put(from: &Path, to: &Path) -> Result<()> {
    fs::rename(from, to).at("renaming", from)
}

/// Gives a file one more name; where the disk knows no such thing, copies it.
///
/// # Errors
/// When something is there, or the disk refuses.
pub(crate) fn link(from: &Path, to: &Path) -> Result<()> {
    if fs::hard_link(from, to).is_ok() {
        return Ok(());
    }
    fs::copy(from, to).map(|_| ()).at("copying", from)
}

/// Copies a file, and has the disk keep it.
///
/// # Errors
/// When the disk refuses.
pub(crate) fn copy(from: &Path, to: &Path) -> Result<()> {
    fs::copy(from, to).at("copying", from)?;
    let file = File::open(to).and_then(|file| file.sync_all());
    file.at("writing", to)
}

/// Removes a file.
///
/// # Errors
/// When the disk refuses.
pub(crate) fn remove(path: &Path) -> Result<()> {
    fs::remove_file(path).at("removing", path)
}

/// Removes a folder, where nothing is in it.
pub(crate) fn remove_empty(folder: &Path) {
    let _ = fs::remove_dir(folder);
}

/// Has a file look as if it had been written just now.
pub(crate) fn touch(path: &Path) {
    let file = OpenOptions::new().append(true).open(path);
    let _ = file.and_then(|file| file.set_modified(std::time::SystemTime::now()));
}

/// How long ago a file was written, in seconds.
pub(crate) fn age(path: &Path) -> Option<u64> {
    let modified = fs::metadata(path).ok()?.modified().ok()?;
    Some(modified.elapsed().map_or(0, |since| since.as_secs()))
}

/// When a file was written or read last, in seconds since 1970, and its size in bytes.
pub(crate) fn used(path: &Path) -> Option<(u64, u64)> {
    let meta = fs::symlink_metadata(path).ok()?;
    let times = [meta.accessed(), meta.modified()].into_iter().flatten();
    let seconds = times.filter_map(|time| {
        let since = time.duration_since(std::time::UNIX_EPOCH).ok()?;
        Some(since.as_secs())
    });
    Some((seconds.max().unwrap_or(0), meta.len()))
}

/// A file that is written to its end, perhaps on another day; nobody else writes it meanwhile, but waits.
pub(crate) struct Growing(File);

impl Growing {
    /// Opens it, and makes it where it is not there yet.
    ///
    /// # Errors
    /// When the disk refuses.
    pub(crate) fn open(path: &Path) -> Result<Growing> {
        let mut options = OpenOptions::new();
        let file = options.read(true).append(true).create(true).open(path);
        let file = file.at("opening", path)?;
        file.lock().at("locking", path)?;
        Ok(Growing(file))
    }

    /// Whether somebody is at work on the file at a path.
    pub(crate) fn is_busy(path: &Path) -> bool {
        let file = OpenOptions::new().append(true).open(path);
        file.is_ok_and(|file| file.try_lock().is_err())
    }

    /// What there is of it so far, from its beginning.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(crate) fn read(&mut self, mut each: impl FnMut(&[u8])) -> io::Result<()> {
        self.0.seek(SeekFrom::Start(0))?;
        let mut buffer = vec![0; 1 << 16];
        loop {
            match self.0.read(&mut buffer)? {
                0 => return Ok(()),
                many => each(&buffer[..many]),
            }
        }
    }

    /// Whether it still lies at a path: somebody else may have brought it to its end.
    pub(crate) fn is_at(&self, path: &Path) -> bool {
        let length = |meta: fs::Metadata| (meta.len(), meta.modified().ok());
        let there = fs::symlink_metadata(path).map(length);
        let own = self.0.metadata().map(length);
        matches!((there, own), (Ok(there), Ok(own)) if there == own)
    }

    /// How much there is, in bytes.
    pub(crate) fn len(&self) -> u64 {
        self.0.metadata().map_or(0, |meta| meta.len())
    }

    /// Forgets what there is.
    ///
    /// # Errors
    /// When the disk refuses.
    pub(crate) fn empty(&mut self) -> io::Result<()> {
        self.0.set_len(0)
    }

    /// Writes more.
    ///
    /// # Errors
    /// When the disk is full.
    pub(crate) fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.0.write_all(bytes)
    }

    /// Has the disk keep it.
    ///
    /// # Errors
    /// When it does not.
    pub(crate) fn sync(&self) -> io::Result<()> {
        self.0.sync_all()
    }
}
