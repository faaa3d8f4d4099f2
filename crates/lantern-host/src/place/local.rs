//! A folder on a disk of this machine.

#![allow(clippy::disallowed_methods, clippy::disallowed_types)] // The place where the disk is.

use super::{Held, Meta, NewFile, Place, Sort, Source, Stamp};
use lantern_core::path::RelPath;
use rayon::prelude::*;
use rustix::fs::{
    self, AtFlags, Gid, Mode, OFlags, RenameFlags, ResolveFlags, Stat, Uid, XattrFlags,
};
use rustix::io::Errno;
use std::collections::BTreeMap;
use std::ffi::{CStr, OsString};
use std::fs::{File, TryLockError};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStringExt;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// A folder on a disk of this machine, kept open: all paths are found from it, without following a link.
#[derive(Debug)]
pub struct Local {
    root: PathBuf,
    folder: OwnedFd,
}

/// How folders on the way are opened: only to find what is in them.
const ON_THE_WAY: OFlags = OFlags::PATH.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);

impl Local {
    /// Opens a folder; the path to it may lead over links.
    ///
    /// # Errors
    /// When it is none.
    pub fn open(path: &Path) -> io::Result<Local> {
        let root = path.canonicalize()?;
        let folder = fs::open(&root, OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
        Ok(Local { root, folder })
    }

    fn open_at(&self, path: &RelPath, flags: OFlags, mode: Mode) -> io::Result<OwnedFd> {
        let flags = flags | OFlags::CLOEXEC;
        let within =
            ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
        let opened = fs::openat2(&self.folder, path.as_str(), flags, mode, within);
        match opened {
            Err(Errno::NOSYS | Errno::PERM) => {
                self.open_step_by_step(path, flags, mode).map_err(named)
            }
            opened => opened.map_err(named),
        }
    }

    /// As [`Local::open_at`], where the system or a container's rules lack the one call for it.
    fn open_step_by_step(
        &self,
        path: &RelPath,
        flags: OFlags,
        mode: Mode,
    ) -> Result<OwnedFd, Errno> {
        let mut at: Option<OwnedFd> = None;
        let mut names = path.as_str().split('/').peekable();
        while let Some(name) = names.next() {
            let (flags, mode) = match names.peek() {
                Some(_) => (ON_THE_WAY, Mode::empty()),
                None => (flags, mode),
            };
            let from = at.as_ref().map_or(self.folder.as_fd(), OwnedFd::as_fd);
            at = Some(fs::openat(from, name, flags | OFlags::NOFOLLOW, mode)?);
        }
        at.ok_or(Errno::INVAL)
    }

    /// The folder that a path lies in, and its last name.
    fn parent<'p>(&self, path: &'p RelPath) -> io::Result<(Parent<'_>, &'p str)> {
        let parent = match path.folder() {
            None => Parent::Top(self.folder.as_fd()),
            Some(folder) => Parent::Below(self.open_at(&folder, ON_THE_WAY, Mode::empty())?),
        };
        let name = path.as_str().rsplit('/').next().unwrap_or(path.as_str());
        Ok((parent, name))
    }

    fn open_folder(&self, folder: Option<&RelPath>) -> io::Result<OwnedFd> {
        match folder {
            None => Ok(fs::openat(
                &self.folder,
                ".",
                OFlags::DIRECTORY | OFlags::CLOEXEC,
                Mode::empty(),
            )?),
            Some(path) => self.open_at(path, OFlags::DIRECTORY, Mode::empty()),
        }
    }
}

/// A folder that was opened, or the top, which always is.
enum Parent<'l> {
    Top(BorrowedFd<'l>),
    Below(OwnedFd),
}

impl AsFd for Parent<'_> {
    fn as_fd(&self) -> BorrowedFd<'_> {
        match self {
            Parent::Top(folder) => *folder,
            Parent::Below(folder) => folder.as_fd(),
        }
    }
}

/// What lies on the way is a link, which is not followed.
#[derive(Debug, thiserror::Error)]
#[error("a link on the way leads out of the folder")]
pub struct LinkOnTheWay;

/// An error with words of our own where the system's would say nothing to anybody.
fn named(error: Errno) -> io::Error {
    match error {
        Errno::LOOP => io::Error::other(LinkOnTheWay),
        other => other.into(),
    }
}

/// What lies at a path of this machine, links followed; none when there is nothing, or it cannot be told.
pub(super) fn look(path: &Path) -> Option<Meta> {
    let stat = fs::statat(fs::CWD, path, AtFlags::empty()).ok()?;
    Some(meta(&stat))
}

/// Renames, and never over something that is there.
pub(super) fn rename(from: &Path, to: &Path) -> io::Result<()> {
    let renamed = fs::renameat_with(fs::CWD, from, fs::CWD, to, RenameFlags::NOREPLACE);
    Ok(renamed?)
}

/// Makes the names in a folder last.
pub(super) fn sync(folder: &Path) -> io::Result<()> {
    File::open(folder)?.sync_all()
}

fn meta(stat: &Stat) -> Meta {
    let ns = |seconds: i64, rest: i64| seconds.wrapping_mul(1_000_000_000).wrapping_add(rest);
    Meta {
        sort: sort(fs::FileType::from_raw_mode(stat.st_mode)),
        stamp: Stamp {
            bytes: stat.st_size.cast_unsigned(),
            modified_ns: ns(stat.st_mtime, stat.st_mtime_nsec as i64),
            changed_ns: ns(stat.st_ctime, stat.st_ctime_nsec as i64),
            inode: stat.st_ino,
        },
        rights: stat.st_mode & 0o7777,
        disk: stat.st_dev,
        owner: stat.st_uid,
        group: stat.st_gid,
    }
}

fn sort(kind: fs::FileType) -> Sort {
    match kind {
        fs::FileType::RegularFile => Sort::File,
        fs::FileType::Directory => Sort::Folder,
        fs::FileType::Symlink => Sort::Link,
        _ => Sort::Other,
    }
}

/// So many folders are listed by one thread before another one is worth asking.
const LISTED_BY_ONE: usize = 8;

/// So much of the names in a folder is asked for at once, in bytes.
const NAMES_AT_ONCE: usize = 32 << 10;

/// Tells each name in a folder but its own and its parent's, and what lies there as far as the file system says it with the name.
fn each_name(
    folder: &OwnedFd,
    tell: &mut dyn FnMut(&CStr, fs::FileType) -> io::Result<()>,
) -> io::Result<()> {
    let mut buffer = [MaybeUninit::uninit(); NAMES_AT_ONCE];
    let mut entries = fs::RawDir::new(folder, &mut buffer);
    while let Some(entry) = entries.next() {
        let entry = entry?;
        let name = entry.file_name();
        if name != c"." && name != c".." {
            tell(name, entry.file_type())?;
        }
    }
    Ok(())
}

fn os_string(name: &CStr) -> OsString {
    OsString::from_vec(name.to_bytes().to_vec())
}

impl Place for Local {
    fn root(&self) -> &Path {
        &self.root
    }

    fn look(&self, path: &RelPath) -> io::Result<Option<Meta>> {
        let absent = |error: &io::Error| {
            matches!(
                error.kind(),
                io::ErrorKind::NotFound | io::ErrorKind::NotADirectory
            )
        };
        let (parent, name) = match self.parent(path) {
            Err(error) if absent(&error) => return Ok(None),
            parent => parent?,
        };
        match fs::statat(&parent, name, AtFlags::SYMLINK_NOFOLLOW) {
            Err(Errno::NOENT | Errno::NOTDIR) => Ok(None),
            stat => Ok(Some(meta(&stat?))),
        }
    }

    fn list(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Meta)>> {
        let folder = self.open_folder(folder)?;
        let mut found = Vec::new();
        each_name(&folder, &mut |name, _| {
            match fs::statat(&folder, name, AtFlags::SYMLINK_NOFOLLOW) {
                Err(Errno::NOENT) => {}
                stat => found.push((os_string(name), meta(&stat?))),
            }
            Ok(())
        })?;
        Ok(found)
    }

    fn list_each(&self, folders: &[Option<RelPath>]) -> Vec<io::Result<Vec<(OsString, Meta)>>> {
        let each = folders.par_iter().with_min_len(LISTED_BY_ONE);
        each.map(|folder| self.list(folder.as_ref())).collect()
    }

    fn sorts(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Sort)>> {
        let folder = self.open_folder(folder)?;
        let mut found = Vec::new();
        each_name(&folder, &mut |name, kind| {
            match kind {
                // Not every file system tells it here.
                fs::FileType::Unknown => {
                    let stat = fs::statat(&folder, name, AtFlags::SYMLINK_NOFOLLOW);
                    found.extend(stat.map(|stat| (os_string(name), meta(&stat).sort)));
                }
                kind => found.push((os_string(name), sort(kind))),
            }
            Ok(())
        })?;
        Ok(found)
    }

    fn open(&self, path: &RelPath) -> io::Result<Box<dyn Source>> {
        // Not to wait for ever for somebody to write into a pipe.
        let file = self.open_at(path, OFlags::RDONLY | OFlags::NONBLOCK, Mode::empty())?;
        let file = OpenFile(File::from(file));
        match file.meta()?.sort {
            Sort::File => Ok(Box::new(file)),
            Sort::Folder => Err(io::ErrorKind::IsADirectory.into()),
            Sort::Link | Sort::Other => Err(io::Error::other("it is no regular file")),
        }
    }

    fn read_link(&self, path: &RelPath) -> io::Result<String> {
        let (parent, name) = self.parent(path)?;
        let target = fs::readlinkat(&parent, name, Vec::new())?;
        let no_text = |_| io::Error::other("where the link leads is no text");
        target.into_string().map_err(no_text)
    }

    fn make_link(&self, target: &str, path: &RelPath) -> io::Result<()> {
        let (parent, name) = self.parent(path)?;
        Ok(fs::symlinkat(target, &parent, name)?)
    }

    fn create(&self, path: &RelPath) -> io::Result<Box<dyn NewFile>> {
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL;
        let file = self.open_at(path, flags, Mode::from_raw_mode(0o666))?;
        Ok(Box::new(OpenFile(File::from(file))))
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        let ((old, from), (new, to)) = (self.parent(from)?, self.parent(to)?);
        match fs::renameat_with(&old, from, &new, to, RenameFlags::NOREPLACE) {
            // Some file systems cannot check and rename in one step.
            Err(Errno::INVAL | Errno::NOSYS) => {
                if fs::statat(&new, to, AtFlags::SYMLINK_NOFOLLOW).is_ok() {
                    return Err(io::ErrorKind::AlreadyExists.into());
                }
                Ok(fs::renameat(&old, from, &new, to)?)
            }
            renamed => Ok(renamed?),
        }
    }

    fn replace(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        let ((old, from), (new, to)) = (self.parent(from)?, self.parent(to)?);
        Ok(fs::renameat(&old, from, &new, to)?)
    }

    fn make_folder(&self, path: &RelPath, rights: u32) -> io::Result<()> {
        let (parent, name) = self.parent(path)?;
        match fs::mkdirat(&parent, name, Mode::from_raw_mode(rights)) {
            Err(Errno::EXIST) => match self.look(path)? {
                Some(there) if there.is_folder() => Ok(()),
                _ => Err(io::ErrorKind::AlreadyExists.into()),
            },
            made => Ok(made?),
        }
    }

    fn remove_file(&self, path: &RelPath) -> io::Result<()> {
        let (parent, name) = self.parent(path)?;
        Ok(fs::unlinkat(&parent, name, AtFlags::empty())?)
    }

    fn remove_folder(&self, path: &RelPath) -> io::Result<()> {
        let (parent, name) = self.parent(path)?;
        Ok(fs::unlinkat(&parent, name, AtFlags::REMOVEDIR)?)
    }

    fn sync(&self, folder: Option<&RelPath>) -> io::Result<()> {
        Ok(fs::fsync(self.open_folder(folder)?)?)
    }

    fn share(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        let source = self.open_at(from, OFlags::RDONLY, Mode::empty())?;
        let rights = Mode::from_raw_mode(fs::fstat(&source)?.st_mode & 0o7777);
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL;
        let target = self.open_at(to, flags, Mode::from_raw_mode(0o666))?;
        let shared = fs::ioctl_ficlone(&target, &source).and_then(|()| fs::fchmod(&target, rights));
        shared.map_err(|error| {
            let _ = self.remove_file(to);
            error.into()
        })
    }

    fn give(&self, path: &RelPath, owner: u32, group: u32, rights: Option<u32>) -> io::Result<()> {
        let file = self.open_at(path, OFlags::RDONLY | OFlags::NONBLOCK, Mode::empty())?;
        let is_theirs =
            fs::fstat(&file).map(|stat| (stat.st_uid, stat.st_gid) == (owner, group))?;
        let given = match is_theirs {
            true => Ok(()),
            false => fs::fchown(
                &file,
                Some(Uid::from_raw(owner)),
                Some(Gid::from_raw(group)),
            ),
        };
        if let Some(rights) = rights {
            fs::fchmod(&file, Mode::from_raw_mode(rights))?;
        }
        Ok(given?)
    }

    fn attributes(&self, path: &RelPath) -> io::Result<BTreeMap<String, Vec<u8>>> {
        let file = self.open_at(path, OFlags::RDONLY | OFlags::NONBLOCK, Mode::empty())?;
        OpenFile(File::from(file)).attributes()
    }

    fn set_attribute(&self, path: &RelPath, name: &str, value: &[u8]) -> io::Result<()> {
        let file = self.open_at(path, OFlags::RDONLY | OFlags::NONBLOCK, Mode::empty())?;
        Ok(fs::fsetxattr(&file, name, value, XattrFlags::empty())?)
    }

    fn free_bytes(&self) -> io::Result<u64> {
        let stat = fs::fstatvfs(&self.folder)?;
        Ok(stat.f_bavail.saturating_mul(stat.f_frsize))
    }

    fn lock(&self, path: &RelPath, words: &str) -> io::Result<Result<Box<dyn Held>, String>> {
        let flags = OFlags::RDWR | OFlags::CREATE;
        let mut file = File::from(self.open_at(path, flags, Mode::from_raw_mode(0o666))?);
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let mut who = String::new();
                let _ = file.read_to_string(&mut who);
                return Ok(Err(who.trim().to_owned()));
            }
            Err(TryLockError::Error(error)) => return Err(error),
        }
        file.set_len(0)?;
        file.write_all(words.as_bytes())?;
        Ok(Ok(Box::new(HeldFile { _file: file })))
    }

    fn locked_by(&self, path: &RelPath) -> io::Result<Option<String>> {
        let opened = self.open_at(path, OFlags::RDONLY, Mode::empty());
        let mut file = match opened {
            Ok(file) => File::from(file),
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        match file.try_lock_shared() {
            Ok(()) => Ok(None),
            Err(TryLockError::WouldBlock) => {
                let mut who = String::new();
                let _ = file.read_to_string(&mut who);
                Ok(Some(who.trim().to_owned()))
            }
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
        Ok(meta(&fs::fstat(&self.0)?))
    }

    fn attributes(&self) -> io::Result<BTreeMap<String, Vec<u8>>> {
        let mut names = Vec::new();
        match read_whole(&mut names, |buffer| fs::flistxattr(&self.0, buffer)) {
            Err(Errno::NOTSUP | Errno::NOSYS | Errno::PERM) => return Ok(BTreeMap::new()),
            read => read?,
        }
        let mut attributes = BTreeMap::new();
        for name in names
            .split(|byte| *byte == 0)
            .filter(|name| !name.is_empty())
        {
            let Ok(name) = std::str::from_utf8(name) else {
                continue;
            };
            let mut value = Vec::new();
            match read_whole(&mut value, |buffer| fs::fgetxattr(&self.0, name, buffer)) {
                // Not for everybody's eyes, or gone meanwhile.
                Err(Errno::NODATA | Errno::PERM | Errno::ACCESS | Errno::NOTSUP) => {}
                read => {
                    read?;
                    attributes.insert(name.to_owned(), value);
                }
            }
        }
        Ok(attributes)
    }

    fn read_at(&self, mut bytes: &mut [u8], mut offset: u64) -> io::Result<usize> {
        let mut done = 0;
        while !bytes.is_empty() {
            match FileExt::read_at(&self.0, bytes, offset) {
                Ok(0) => break,
                Ok(read) => {
                    (done, offset) = (done + read, offset + read as u64);
                    bytes = &mut bytes[read..];
                }
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
        FileExt::write_all_at(&self.0, bytes, offset)
    }

    fn sync(&self) -> io::Result<()> {
        self.0.sync_all()
    }

    fn set_rights(&self, rights: u32) -> io::Result<()> {
        Ok(fs::fchmod(&self.0, Mode::from_raw_mode(rights))?)
    }

    fn set_attribute(&self, name: &str, value: &[u8]) -> io::Result<()> {
        Ok(fs::fsetxattr(&self.0, name, value, XattrFlags::empty())?)
    }
}

/// Reads what the system gives only into a buffer that is long enough.
fn read_whole(
    into: &mut Vec<u8>,
    read: impl Fn(&mut [u8]) -> Result<usize, Errno>,
) -> Result<(), Errno> {
    let mut length = 256;
    loop {
        into.resize(length, 0);
        match read(into) {
            Err(Errno::RANGE) => length *= 2,
            read => {
                into.truncate(read?);
                return Ok(());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    #[test]
    fn no_link_on_the_way_is_followed_one_way_or_the_other() {
        let dir = tempfile::tempdir().unwrap();
        let outside = tempfile::tempdir().unwrap();
        std::fs::write(outside.path().join("secret"), "x").unwrap();
        std::os::unix::fs::symlink(outside.path(), dir.path().join("out")).unwrap();
        std::os::unix::fs::symlink(outside.path().join("secret"), dir.path().join("file")).unwrap();
        std::fs::create_dir_all(dir.path().join("a/b")).unwrap();
        std::fs::write(dir.path().join("a/b/own"), "y").unwrap();
        let place = Local::open(dir.path()).unwrap();
        let read = |opened: io::Result<OwnedFd>| {
            let mut text = String::new();
            opened
                .and_then(|file| File::from(file).read_to_string(&mut text))
                .map(|_| text)
        };
        let flags = OFlags::RDONLY | OFlags::CLOEXEC;
        for (name, works) in [("out/secret", false), ("file", false), ("a/b/own", true)] {
            let at_once = read(place.open_at(&path(name), flags, Mode::empty()));
            let stepwise = place.open_step_by_step(&path(name), flags, Mode::empty());
            let stepwise = read(stepwise.map_err(io::Error::from));
            assert_eq!(at_once.is_ok(), works, "{name}: {at_once:?}");
            assert_eq!(stepwise.is_ok(), works, "{name}: {stepwise:?}");
        }
        assert!(place.create(&path("out/new")).is_err());
        assert!(place.rename(&path("a/b/own"), &path("out/own")).is_err());
        assert!(place.remove_file(&path("out/secret")).is_err());
        assert_eq!(place.look(&path("file")).unwrap().unwrap().sort, Sort::Link);
        assert_eq!(std::fs::read_dir(outside.path()).unwrap().count(), 1);
    }

    #[test]
    fn nothing_is_ever_renamed_over() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::write(dir.path().join("a"), "a").unwrap();
        std::fs::write(dir.path().join("b"), "b").unwrap();
        let place = Local::open(dir.path()).unwrap();
        let refused = place.rename(&path("a"), &path("b")).unwrap_err();
        assert_eq!(refused.kind(), io::ErrorKind::AlreadyExists);
        assert!(place.create(&path("b")).is_err());
        assert_eq!(std::fs::read(dir.path().join("b")).unwrap(), b"b");
        place.replace(&path("a"), &path("b")).unwrap();
        assert_eq!(std::fs::read(dir.path().join("b")).unwrap(), b"a");
    }
}
