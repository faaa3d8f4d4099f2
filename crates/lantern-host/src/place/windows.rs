//! A folder on a disk of this machine, where that is Windows.
//!
//! Weaker than on Linux: a rename looks whether its target is free and then renames, which are two steps; owners, groups,
//! rights and extended attributes are not known; contents cannot be shared.

#![allow(clippy::disallowed_methods, clippy::disallowed_types)] // The place where the disk is.

use super::{Held, Meta, NewFile, Place, Sort, Source, Stamp};
use cap_fs_ext::MetadataExt;
use cap_std::ambient_authority;
use cap_std::fs::{Dir, FileType, Metadata, OpenOptions};
use lantern_core::path::RelPath;
use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs::{File, TryLockError};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::windows::fs::FileExt;
use std::path::{Path, PathBuf};

/// A folder on a disk of this machine, kept open: no path leads out of it.
#[derive(Debug)]
pub struct Local {
    root: PathBuf,
    folder: Dir,
}

/// What lies on the way is a link, which is not followed.
#[derive(Debug, thiserror::Error)]
#[error("a link on the way leads out of the folder")]
pub struct LinkOnTheWay;

impl Local {
    /// Opens a folder; the path to it may lead over links.
    ///
    /// # Errors
    /// When it is none.
    pub fn open(path: &Path) -> io::Result<Local> {
        let root = path.canonicalize()?;
        let folder = Dir::open_ambient_dir(&root, ambient_authority())?;
        Ok(Local { root, folder })
    }

    /// The folder that a path lies in, and its last name; refuses where a link is on the way.
    fn parent<'p>(&self, path: &'p RelPath) -> io::Result<(Dir, &'p str)> {
        let mut at = self.folder.try_clone()?;
        let mut names = path.as_str().split('/').peekable();
        while let Some(name) = names.next() {
            if names.peek().is_none() {
                return Ok((at, name));
            }
            if at.symlink_metadata(name)?.file_type().is_symlink() {
                return Err(io::Error::other(LinkOnTheWay));
            }
            at = at.open_dir(name)?;
        }
        Err(io::ErrorKind::InvalidInput.into())
    }

    fn open_folder(&self, folder: Option<&RelPath>) -> io::Result<Dir> {
        match folder {
            None => self.folder.try_clone(),
            Some(path) => {
                let (parent, name) = self.parent(path)?;
                parent.open_dir(name)
            }
        }
    }
}

/// What lies at a path of this machine, links followed; none when there is nothing, or it cannot be told.
pub(super) fn look(path: &Path) -> Option<Meta> {
    let folder = path.parent().filter(|at| !at.as_os_str().is_empty());
    let folder = Dir::open_ambient_dir(folder.unwrap_or(Path::new(".")), ambient_authority());
    let name = path.file_name()?;
    folder.ok()?.metadata(name).ok().map(|it| meta(&it))
}

/// Renames, and never over something that is there.
pub(super) fn rename(from: &Path, to: &Path) -> io::Result<()> {
    match to.symlink_metadata() {
        Ok(_) => Err(io::ErrorKind::AlreadyExists.into()),
        Err(_) => std::fs::rename(from, to),
    }
}

/// Makes the names in a folder last: they are the system's own to keep, as it offers no call for that.
pub(super) fn sync(_: &Path) -> io::Result<()> {
    Ok(())
}

fn meta(from: &Metadata) -> Meta {
    let written = from.modified().map(cap_std::time::SystemTime::into_std);
    let since = written.map(|at| at.duration_since(std::time::UNIX_EPOCH));
    let ns = match since {
        Ok(Ok(since)) => i64::try_from(since.as_nanos()).unwrap_or(i64::MAX),
        _ => 0,
    };
    Meta {
        sort: sort(from.file_type()),
        stamp: Stamp {
            bytes: from.len(),
            modified_ns: ns,
            changed_ns: ns,
            inode: from.ino(),
        },
        rights: if from.permissions().readonly() {
            0o444
        } else {
            0o666
        },
        disk: from.dev(),
        owner: 0,
        group: 0,
    }
}

fn sort(kind: FileType) -> Sort {
    match kind {
        kind if kind.is_symlink() => Sort::Link,
        kind if kind.is_dir() => Sort::Folder,
        kind if kind.is_file() => Sort::File,
        _ => Sort::Other,
    }
}

fn unsupported(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::Unsupported, format!("{what} on this system"))
}

impl Place for Local {
    fn root(&self) -> &Path {
        &self.root
    }

    fn look(&self, path: &RelPath) -> io::Result<Option<Meta>> {
        let absent = |error: &io::Error| {
            use io::ErrorKind::{NotADirectory, NotFound};
            matches!(error.kind(), NotFound | NotADirectory)
        };
        let found = self
            .parent(path)
            .and_then(|(parent, name)| parent.symlink_metadata(name));
        match found {
            Err(error) if absent(&error) => Ok(None),
            found => Ok(Some(meta(&found?))),
        }
    }

    fn list(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Meta)>> {
        let folder = self.open_folder(folder)?;
        let mut found = Vec::new();
        for entry in folder.entries()? {
            let name = entry?.file_name();
            match folder.symlink_metadata(&name) {
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                told => found.push((name, meta(&told?))),
            }
        }
        Ok(found)
    }

    fn sorts(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Sort)>> {
        let listed = self.list(folder)?.into_iter();
        Ok(listed.map(|(name, meta)| (name, meta.sort)).collect())
    }

    fn open(&self, path: &RelPath) -> io::Result<Box<dyn Source>> {
        let (parent, name) = self.parent(path)?;
        match sort(parent.symlink_metadata(name)?.file_type()) {
            Sort::File => Ok(Box::new(OpenFile(parent.open(name)?.into_std()))),
            Sort::Folder => Err(io::ErrorKind::IsADirectory.into()),
            Sort::Link | Sort::Other => Err(io::Error::other("it is no regular file")),
        }
    }

    fn read_link(&self, path: &RelPath) -> io::Result<String> {
        let (parent, name) = self.parent(path)?;
        let target = parent.read_link_contents(name)?.into_os_string();
        let no_text = |_| io::Error::other("where the link leads is no text");
        target.into_string().map_err(no_text)
    }

    fn make_link(&self, _: &str, _: &RelPath) -> io::Result<()> {
        Err(unsupported("links are not made"))
    }

    fn create(&self, path: &RelPath) -> io::Result<Box<dyn NewFile>> {
        let (parent, name) = self.parent(path)?;
        let file = parent.open_with(name, OpenOptions::new().write(true).create_new(true))?;
        Ok(Box::new(OpenFile(file.into_std())))
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        let ((old, from), (new, to)) = (self.parent(from)?, self.parent(to)?);
        match new.symlink_metadata(to) {
            Ok(_) => Err(io::ErrorKind::AlreadyExists.into()),
            Err(_) => old.rename(from, &new, to),
        }
    }

    fn replace(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        let ((old, from), (new, to)) = (self.parent(from)?, self.parent(to)?);
        old.rename(from, &new, to)
    }

    fn make_folder(&self, path: &RelPath, _: u32) -> io::Result<()> {
        let (parent, name) = self.parent(path)?;
        match parent.create_dir(name) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                match self.look(path)?.is_some_and(|there| there.is_folder()) {
                    true => Ok(()),
                    false => Err(error),
                }
            }
            made => made,
        }
    }

    fn remove_file(&self, path: &RelPath) -> io::Result<()> {
        let (parent, name) = self.parent(path)?;
        parent.remove_file(name)
    }

    fn remove_folder(&self, path: &RelPath) -> io::Result<()> {
        let (parent, name) = self.parent(path)?;
        parent.remove_dir(name)
    }

    fn sync(&self, _: Option<&RelPath>) -> io::Result<()> {
        // Names are the system's own to keep: it offers no call for a folder.
        Ok(())
    }

    fn share(&self, _: &RelPath, _: &RelPath) -> io::Result<()> {
        Err(unsupported("contents cannot be shared"))
    }

    fn give(&self, _: &RelPath, owner: u32, group: u32, _: Option<u32>) -> io::Result<()> {
        match (owner, group) {
            (0, 0) => Ok(()),
            _ => Err(unsupported("owners are not known")),
        }
    }

    fn attributes(&self, _: &RelPath) -> io::Result<BTreeMap<String, Vec<u8>>> {
        Ok(BTreeMap::new())
    }

    fn set_attribute(&self, _: &RelPath, _: &str, _: &[u8]) -> io::Result<()> {
        Err(unsupported("there are no extended attributes"))
    }

    fn free_bytes(&self) -> io::Result<u64> {
        fs4::available_space(&self.root)
    }

    fn lock(&self, path: &RelPath, words: &str) -> io::Result<Result<Box<dyn Held>, String>> {
        let (parent, name) = self.parent(path)?;
        let mut options = OpenOptions::new();
        let options = options.read(true).write(true).create(true);
        let mut file = parent.open_with(name, options)?.into_std();
        match file.try_lock() {
            Ok(()) => {}
            // What stands in a file that somebody has locked cannot be read here.
            Err(TryLockError::WouldBlock) => return Ok(Err("another lantern".into())),
            Err(TryLockError::Error(error)) => return Err(error),
        }
        file.set_len(0)?;
        file.write_all(words.as_bytes())?;
        Ok(Ok(Box::new(HeldFile { _file: file })))
    }

    fn locked_by(&self, path: &RelPath) -> io::Result<Option<String>> {
        let opened = self
            .parent(path)
            .and_then(|(parent, name)| parent.open(name));
        let file = match opened {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            opened => opened?.into_std(),
        };
        match file.try_lock_shared() {
            Ok(()) => Ok(None),
            Err(TryLockError::WouldBlock) => Ok(Some("another lantern".into())),
            Err(TryLockError::Error(error)) => Err(error),
        }
    }
}

/// A lock, which the system frees when the process ends, however it does.
#[derive(Debug)]
struct HeldFile {
    _file: File,
}

impl Held for HeldFile {}

/// An open file of this machine.
pub(crate) struct OpenFile(pub(super) File);

impl Read for OpenFile {
    fn read(&mut self, bytes: &mut [u8]) -> io::Result<usize> {
        self.0.read(bytes)
    }
}

impl Seek for OpenFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.0.seek(to)
    }
}

impl Source for OpenFile {
    fn meta(&self) -> io::Result<Meta> {
        Ok(meta(&Metadata::from_file(&self.0)?))
    }

    fn attributes(&self) -> io::Result<BTreeMap<String, Vec<u8>>> {
        Ok(BTreeMap::new())
    }

    fn read_at(&self, bytes: &mut [u8], offset: u64) -> io::Result<usize> {
        let mut done = 0;
        while done < bytes.len() {
            match self.0.seek_read(&mut bytes[done..], offset + done as u64) {
                Ok(0) => break,
                Ok(read) => done += read,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        Ok(done)
    }
}

impl Write for OpenFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl NewFile for OpenFile {
    fn write_all_at(&self, bytes: &[u8], offset: u64) -> io::Result<()> {
        let mut done = 0;
        while done < bytes.len() {
            match self.0.seek_write(&bytes[done..], offset + done as u64) {
                Ok(0) => return Err(io::ErrorKind::WriteZero.into()),
                Ok(written) => done += written,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    fn sync(&self) -> io::Result<()> {
        self.0.sync_all()
    }

    fn set_rights(&self, _: u32) -> io::Result<()> {
        Ok(())
    }

    fn set_attribute(&self, _: &str, _: &[u8]) -> io::Result<()> {
        Err(unsupported("there are no extended attributes"))
    }
}
