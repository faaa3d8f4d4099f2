//! Where the files of a server are: a folder, and the few operations that all else is made of.
//!
//! Everything that lantern reads or writes in a server folder goes through a [`Place`]. Paths are relative
//! to it and no link on the way is followed, so that what was checked is what is used. What lies in no
//! server folder, such as archives in a drop folder, goes through [`here`].

mod address;
#[cfg_attr(not(feature = "far"), path = "unreached.rs")]
pub(crate) mod far;
pub mod here;
#[cfg_attr(windows, path = "windows.rs")]
mod local;
#[cfg(test)]
pub(crate) mod lossy;
mod means;

pub use address::{Address, Scheme};
pub use local::{LinkOnTheWay, Local};
pub use means::{Means, Password, shell_of};

use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fmt;
use std::io::{self, Read, Seek, Write};
use std::path::Path;

/// The rights of a file that somebody may run.
pub const PROGRAM: u32 = 0o755;

/// The rights of lantern's own folder. Plans and backups hold settings files, and with them what is secret
/// there: so it is the owner's alone.
pub const OWNERS_ALONE: u32 = 0o700;

/// What the system says of a file; when all of it is as before, so is the content.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stamp {
    /// Its size.
    pub bytes: u64,
    /// When it was last written, in nanoseconds since 1970.
    pub modified_ns: i64,
    /// When its content, name or rights last changed, in nanoseconds since 1970.
    pub changed_ns: i64,
    /// Its number in the file system.
    pub inode: u64,
}

/// What sort of thing lies at a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sort {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A link; where it leads is not looked at.
    Link,
    /// A device, pipe or socket.
    Other,
}

/// What lies at a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Meta {
    /// What sort of thing it is.
    pub sort: Sort,
    /// What tells it from others, and from itself later.
    pub stamp: Stamp,
    /// Its rights, as the system's number.
    pub rights: u32,
    /// The number of the disk that it lies on.
    pub disk: u64,
    /// The number of the user that it belongs to.
    pub owner: u32,
    /// The number of the group that it belongs to.
    pub group: u32,
}

impl Meta {
    /// Whether it is a regular file.
    pub fn is_file(&self) -> bool {
        self.sort == Sort::File
    }

    /// Whether it is a link.
    pub fn is_link(&self) -> bool {
        self.sort == Sort::Link
    }

    /// Whether it is what a release is made of: a regular file or a link.
    pub fn is_leaf(&self) -> bool {
        self.is_file() || self.is_link()
    }

    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        self.sort == Sort::Folder
    }
}

/// A file that is read.
pub trait Source: Read + Seek + Send + Sync {
    /// What lies there.
    ///
    /// # Errors
    /// When the system does not tell.
    fn meta(&self) -> io::Result<Meta>;

    /// How long it is, in bytes.
    ///
    /// # Errors
    /// When the system does not tell.
    fn length(&self) -> io::Result<u64> {
        Ok(self.meta()?.stamp.bytes)
    }

    /// Its extended attributes, by name: those that may be read.
    ///
    /// # Errors
    /// When the disk refuses; that it has none to offer is no error.
    fn attributes(&self) -> io::Result<BTreeMap<String, Vec<u8>>>;

    /// Reads from a place in it, wherever it is read otherwise; less than asked for only at its end.
    ///
    /// # Errors
    /// When it cannot be read.
    fn read_at(&self, bytes: &mut [u8], offset: u64) -> io::Result<usize>;
}

/// A file that has just been made and is being written.
pub trait NewFile: Write + Send + Sync {
    /// Writes at a place in it, from any thread.
    ///
    /// # Errors
    /// When the disk refuses.
    fn write_all_at(&self, bytes: &[u8], offset: u64) -> io::Result<()>;

    /// Brings its content to the disk.
    ///
    /// # Errors
    /// When the disk refuses.
    fn sync(&self) -> io::Result<()>;

    /// Sets its rights, as the system's number.
    ///
    /// # Errors
    /// When the system refuses.
    fn set_rights(&self, rights: u32) -> io::Result<()>;

    /// Sets an extended attribute.
    ///
    /// # Errors
    /// When the disk has none, or the system refuses.
    fn set_attribute(&self, name: &str, value: &[u8]) -> io::Result<()>;
}

/// Held while lantern works in a folder.
pub trait Held: fmt::Debug + Send {}

/// A folder with the few operations that all else is made of.
///
/// Names of new, renamed and removed files last only once their folder was synced, and contents only once
/// the file was.
pub trait Place: fmt::Debug + Send + Sync {
    /// The folder, for messages and for programs that run in it.
    fn root(&self) -> &Path;

    /// So many things are worth being asked at once: more than one where each answer is waited for from afar.
    fn at_once(&self) -> usize {
        1
    }

    /// The command that runs a line for the shell of another machine that the folder lies on, which is added as its last word; none
    /// where none leads there.
    fn shell(&self) -> Option<Vec<String>> {
        None
    }

    /// What a path is called on another machine that the folder lies on.
    fn path_there(&self, _: &RelPath) -> Option<String> {
        None
    }

    /// What lies at a path, a link itself and not what it leads to; none when there is nothing.
    ///
    /// # Errors
    /// When a folder on the way is a link, or the system does not tell.
    fn look(&self, path: &RelPath) -> io::Result<Option<Meta>>;

    /// The names in a folder, or at the top, and what lies there. What goes away meanwhile is left out.
    ///
    /// # Errors
    /// When it cannot be listed.
    fn list(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Meta)>>;

    /// As [`Place::list`], for several folders.
    fn list_each(&self, folders: &[Option<RelPath>]) -> Vec<io::Result<Vec<(OsString, Meta)>>> {
        let each = folders.iter().map(|folder| self.list(folder.as_ref()));
        each.collect()
    }

    /// As [`Place::list_each`], for folders that were there a while ago.
    fn list_likely(&self, folders: &[Option<RelPath>]) -> Vec<io::Result<Vec<(OsString, Meta)>>> {
        self.list_each(folders)
    }

    /// The names in a folder, or at the top, and what sort of thing lies there: cheaper than [`Place::list`].
    ///
    /// # Errors
    /// When it cannot be listed.
    fn sorts(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Sort)>>;

    /// Opens a regular file to read it.
    ///
    /// # Errors
    /// When it is none, or cannot be read.
    fn open(&self, path: &RelPath) -> io::Result<Box<dyn Source>>;

    /// As [`Place::open`], for a file that was just listed, or looked at, as a regular one of so many bytes: where each answer is
    /// waited for from afar it is not looked at again, and what it is besides cannot be asked of it.
    ///
    /// # Errors
    /// As [`Place::open`].
    fn open_listed(&self, path: &RelPath, _bytes: u64) -> io::Result<Box<dyn Source>> {
        self.open(path)
    }

    /// Where a link leads, as it stands in it.
    ///
    /// # Errors
    /// When it is none, or what stands in it is no text.
    fn read_link(&self, path: &RelPath) -> io::Result<String>;

    /// Makes a link where nothing is.
    ///
    /// # Errors
    /// When something is there, or the disk refuses.
    fn make_link(&self, target: &str, path: &RelPath) -> io::Result<()>;

    /// Makes a file where nothing is.
    ///
    /// # Errors
    /// When something is there, or the disk refuses.
    fn create(&self, path: &RelPath) -> io::Result<Box<dyn NewFile>>;

    /// So much of the end of a file whose writing was cut off may not be as it was written, in bytes, however it was written; none
    /// where writing cannot be gone on with.
    fn unsure_end(&self) -> Option<u64> {
        None
    }

    /// Goes on with writing a file, where its sure part ends.
    ///
    /// # Errors
    /// When it is not there, or the disk refuses, or writing cannot be gone on with.
    fn go_on(&self, _: &RelPath, _: u64) -> io::Result<Box<dyn NewFile>> {
        Err(io::ErrorKind::Unsupported.into())
    }

    /// Renames, and never over something that is there.
    ///
    /// # Errors
    /// When something is there, or the disk refuses.
    fn rename(&self, from: &RelPath, to: &RelPath) -> io::Result<()>;

    /// Renames to where nothing was a moment ago, as a listing had it: without asking once more, where the place has no rename that
    /// refuses by itself. None depends on another.
    ///
    /// # Errors
    /// As [`Place::rename`], for each by itself.
    fn rename_as_listed(&self, renames: &[(RelPath, RelPath)]) -> Vec<io::Result<()>> {
        let renames = renames.iter();
        renames.map(|(from, to)| self.rename(from, to)).collect()
    }

    /// So many renames are given together to [`Place::rename_as_listed`].
    fn renames_at_once(&self) -> usize {
        1
    }

    /// Whether it asks before each rename what is there, so that a listing for many saves something.
    fn asks_before_renames(&self) -> bool {
        false
    }

    /// Renames a file into the place of another one.
    ///
    /// # Errors
    /// When the disk refuses; the other one is then still there.
    fn replace(&self, from: &RelPath, to: &RelPath) -> io::Result<()>;

    /// Whether [`Place::copy_there`] may do something.
    fn copies_there(&self) -> bool {
        false
    }

    /// Copies a file that lies elsewhere on the same machine, by its path there, to where nothing is, and lets it last; false where it is not
    /// there, or does not look as it did. Nothing of it goes over the line.
    ///
    /// # Errors
    /// When the place does not copy, or refuses.
    fn copy_there(&self, _: &str, _: &Stamp, _: &RelPath, _: u32) -> io::Result<bool> {
        Err(io::ErrorKind::Unsupported.into())
    }

    /// Makes a folder, with these rights; that it is there already is no error.
    ///
    /// # Errors
    /// When something else is there, or the disk refuses.
    fn make_folder(&self, path: &RelPath, rights: u32) -> io::Result<()>;

    /// Removes a file or a link.
    ///
    /// # Errors
    /// When it is not there, or the disk refuses.
    fn remove_file(&self, path: &RelPath) -> io::Result<()>;

    /// Removes a folder that is empty.
    ///
    /// # Errors
    /// When it is not, or the disk refuses.
    fn remove_folder(&self, path: &RelPath) -> io::Result<()>;

    /// Makes the names in a folder, or at the top, last.
    ///
    /// # Errors
    /// When the disk refuses.
    fn sync(&self, folder: Option<&RelPath>) -> io::Result<()>;

    /// Makes a file that shares its content with another one until one of them is written.
    ///
    /// # Errors
    /// When the file system cannot; nothing is then there.
    fn share(&self, from: &RelPath, to: &RelPath) -> io::Result<()>;

    /// Gives a file or folder to a user and a group, and then, where they are named, other rights.
    ///
    /// # Errors
    /// When the system refuses, as it does to most users.
    fn give(&self, path: &RelPath, owner: u32, group: u32, rights: Option<u32>) -> io::Result<()>;

    /// The extended attributes of a file or folder, by name: those that may be read.
    ///
    /// # Errors
    /// When it cannot be opened; that its disk has none to offer is no error.
    fn attributes(&self, path: &RelPath) -> io::Result<BTreeMap<String, Vec<u8>>>;

    /// Sets an extended attribute of a file or folder.
    ///
    /// # Errors
    /// When the disk has none, or the system refuses.
    fn set_attribute(&self, path: &RelPath, name: &str, value: &[u8]) -> io::Result<()>;

    /// How much room is left, in bytes.
    ///
    /// # Errors
    /// When the system does not tell.
    fn free_bytes(&self) -> io::Result<u64>;

    /// Takes a lock file for as long as the answer is held; the inner error is what stands in it when
    /// somebody else has it.
    ///
    /// # Errors
    /// When it cannot be opened or written.
    fn lock(&self, path: &RelPath, words: &str) -> io::Result<Result<Box<dyn Held>, String>>;

    /// What stands in a lock file that somebody has; none where nobody has it.
    ///
    /// # Errors
    /// When it cannot be read.
    fn locked_by(&self, path: &RelPath) -> io::Result<Option<String>>;
}
