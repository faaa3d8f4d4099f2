//! A folder on another machine, reached over the SSH file transfer protocol.

use super::folders::Folders;
use super::line::{AT_ONCE, COPY_DATA, Line, POSIX_RENAME, is_end};
use super::{Address, Means, Way, again, lock, reading, replace_in_steps, unsupported, writing};
use crate::place::{Held, Meta, NewFile, Place, Sort, Source, Stamp};
use lantern_core::path::RelPath;
use russh_sftp::client::RawSftpSession;
use russh_sftp::client::error::Error;
use russh_sftp::extensions;
use russh_sftp::protocol::{FileAttributes, OpenFlags, Packet, StatusCode};
use std::collections::BTreeMap;
use std::ffi::OsString;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// A line that could not be opened is not tried again for so long.
const AGAIN_AFTER: Duration = Duration::from_millis(if cfg!(test) { 1 } else { 1000 });

/// The line that is open, or was, and why it could not be opened again.
#[derive(Debug)]
struct Open {
    line: Arc<Line>,
    failed: Option<(Instant, io::Error)>,
}

/// A folder on another machine.
#[derive(Debug)]
pub struct Sftp {
    /// The address, for messages.
    shown: PathBuf,
    folders: Folders,
    /// How it is reached.
    way: Way,
    /// The line that is open; one that has ended is opened again when something is asked for.
    line: Mutex<Open>,
}

impl Sftp {
    /// Opens a folder: through a command line of the administrator's, or the system's `ssh`.
    ///
    /// # Errors
    /// When the other end is not reached, or there is no such folder.
    pub fn open(address: &Address, means: &Means) -> io::Result<Sftp> {
        let line = Line::open(address, means.through.as_deref())?;
        let path = match address.path.as_str() {
            "" => ".",
            path => path,
        };
        let session = &line.session;
        let real = line.wait(async {
            let name = session.realpath(path).await?;
            let top = name.files.into_iter().next();
            let top = top.map(|file| file.filename);
            let top = top.ok_or(Error::UnexpectedPacket)?;
            let attrs = session.stat(top.as_str()).await?.attrs;
            Ok((top, attrs))
        });
        let (top, attrs) = real?;
        if meta_of(&attrs).sort != Sort::Folder {
            return Err(io::Error::new(
                io::ErrorKind::NotADirectory,
                "it is not a folder",
            ));
        }
        Ok(Sftp {
            shown: PathBuf::from(address.to_string()),
            folders: Folders::below(&top),
            way: (address.clone(), means.clone()),
            line: Mutex::new(Open {
                line: Arc::new(line),
                failed: None,
            }),
        })
    }

    /// The line that is open. One that has ended is opened anew: what was asked over it is not asked again, as nobody knows how
    /// much of that was done.
    fn line(&self) -> io::Result<Arc<Line>> {
        let mut open = self.line.lock().unwrap_or_else(PoisonError::into_inner);
        if open.line.has_ended() {
            // Whoever asks for many things at once learns once that nobody is reached.
            if let Some((when, error)) = &open.failed
                && when.elapsed() < AGAIN_AFTER
            {
                return Err(again(error));
            }
            match Line::open(&self.way.0, self.way.1.through.as_deref()) {
                Ok(line) => open.line = Arc::new(line),
                Err(error) => {
                    let told = again(&error);
                    open.failed = Some((Instant::now(), error));
                    return Err(told);
                }
            }
            self.folders.forget();
        }
        Ok(Arc::clone(&open.line))
    }

    fn whole(&self, path: &RelPath) -> String {
        self.folders.whole(path)
    }

    fn on_the_way(&self, path: &RelPath) -> io::Result<()> {
        self.folders.on_the_way(path, |folder| {
            let line = self.line()?;
            match line.wait(line.session.lstat(self.whole(folder))) {
                Ok(it) => Ok(Some(meta_of(&it.attrs).sort)),
                Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
                Err(error) => Err(error),
            }
        })
    }
}

/// What an extension answers that only says whether it was done.
async fn done(asked: impl Future<Output = Result<Packet, Error>>) -> Result<(), Error> {
    match asked.await? {
        Packet::Status(status) if status.status_code == StatusCode::Ok => Ok(()),
        Packet::Status(status) => Err(status.into()),
        _ => Err(Error::UnexpectedPacket),
    }
}

/// An open file there, which is closed with this.
struct Handle<'l> {
    line: &'l Arc<Line>,
    handle: String,
    is_left: bool,
}

impl<'l> Handle<'l> {
    fn of(line: &'l Arc<Line>, handle: String) -> Handle<'l> {
        Handle {
            line,
            handle,
            is_left: false,
        }
    }

    /// As an extension names it: as the bytes that it is.
    fn packed(&self) -> io::Result<Vec<u8>> {
        let bytes = self.handle.chars().map(u8::try_from);
        let bytes: Vec<u8> = bytes.collect::<Result<_, _>>().map_err(io::Error::other)?;
        let length = u32::try_from(bytes.len()).map_err(io::Error::other)?;
        Ok([&length.to_be_bytes()[..], &bytes].concat())
    }

    /// It is closed by somebody else.
    fn handed_over(mut self) -> String {
        self.is_left = true;
        self.handle.clone()
    }
}

impl Drop for Handle<'_> {
    fn drop(&mut self) {
        if !self.is_left {
            let (session, handle) = (Arc::clone(&self.line.session), self.handle.clone());
            self.line.leave(async move {
                let _ = session.close(handle).await;
            });
        }
    }
}

/// What the other end says of something. It gives no time but the last writing's, in seconds, and no number of a file.
fn meta_of(attrs: &FileAttributes) -> Meta {
    let mode = attrs.permissions.unwrap_or(0);
    let written = i64::from(attrs.mtime.unwrap_or(0)) * 1_000_000_000;
    Meta {
        sort: match mode & 0o170_000 {
            0o100_000 => Sort::File,
            0o040_000 => Sort::Folder,
            0o120_000 => Sort::Link,
            _ => Sort::Other,
        },
        stamp: Stamp {
            bytes: attrs.size.unwrap_or(0),
            modified_ns: written,
            changed_ns: written,
            inode: 0,
        },
        rights: mode & 0o7777,
        disk: 0,
        owner: attrs.uid.unwrap_or(0),
        group: attrs.gid.unwrap_or(0),
    }
}

/// A name as it came over the line: one that was no text there is none here either.
fn name_of(name: String) -> OsString {
    #[cfg(unix)]
    if name.contains(char::REPLACEMENT_CHARACTER) {
        use std::os::unix::ffi::OsStringExt;
        let mut bytes = name.into_bytes();
        bytes.push(0xff);
        return OsString::from_vec(bytes);
    }
    name.into()
}

/// All that lies in one folder.
async fn listed(
    session: Arc<RawSftpSession>,
    folder: String,
) -> Result<Vec<(OsString, Meta)>, Error> {
    let handle = session.opendir(folder).await?.handle;
    let mut found = Vec::new();
    // The answer after the last one says that it was: so two are asked for at once.
    let ended = 'all: loop {
        let one = || session.readdir(handle.as_str());
        let (first, second) = tokio::join!(one(), one());
        for names in [first, second] {
            match names {
                Ok(names) => {
                    let names = names.files.into_iter();
                    let names = names.filter(|it| it.filename != "." && it.filename != "..");
                    found.extend(names.map(|it| (name_of(it.filename), meta_of(&it.attrs))));
                }
                Err(error) if is_end(&error) => break 'all Ok(()),
                Err(error) => break 'all Err(error),
            }
        }
    };
    // Nobody waits for the word that it is closed.
    tokio::spawn(async move { session.close(handle).await });
    ended.map(|()| found)
}

impl Place for Sftp {
    fn root(&self) -> &Path {
        &self.shown
    }

    fn at_once(&self) -> usize {
        AT_ONCE
    }

    fn shell(&self) -> Option<Vec<String>> {
        super::shell(&self.way)
    }

    fn path_there(&self, path: &RelPath) -> Option<String> {
        Some(self.whole(path))
    }

    fn look(&self, path: &RelPath) -> io::Result<Option<Meta>> {
        self.on_the_way(path)?;
        let line = self.line()?;
        match line.wait(line.session.lstat(self.whole(path))) {
            Ok(it) => Ok(Some(meta_of(&it.attrs))),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn list(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Meta)>> {
        let mut all = self.list_each(&[folder.cloned()]);
        all.pop().unwrap_or_else(|| Ok(Vec::new()))
    }

    fn list_each(&self, folders: &[Option<RelPath>]) -> Vec<io::Result<Vec<(OsString, Meta)>>> {
        let line = match self.line() {
            Ok(line) => line,
            Err(error) => return folders.iter().map(|_| Err(again(&error))).collect(),
        };
        let answers = line.wait_all(folders.iter().map(|folder| {
            let folder = self.folders.folder(folder.as_ref());
            listed(Arc::clone(&line.session), folder)
        }));
        for (folder, answer) in folders.iter().zip(&answers) {
            if let (Some(folder), Ok(_)) = (folder, answer) {
                self.folders.is_plain(folder);
            }
        }
        answers
    }

    fn sorts(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Sort)>> {
        let listed = self.list(folder)?.into_iter();
        Ok(listed.map(|(name, meta)| (name, meta.sort)).collect())
    }

    fn open(&self, path: &RelPath) -> io::Result<Box<dyn Source>> {
        self.on_the_way(path)?;
        let whole = self.whole(path);
        let line = self.line()?;
        let session = &line.session;
        let asked = async {
            let read = session.open(&whole, OpenFlags::READ, FileAttributes::empty());
            let (met, opened) = tokio::join!(session.lstat(&whole), read);
            Ok((met?.attrs, opened?.handle))
        };
        let (attrs, handle) = line.wait(asked)?;
        let handle = reading::Handle::new(Arc::clone(&line), handle);
        let meta = meta_of(&attrs);
        match meta.sort {
            Sort::File => Ok(Box::new(reading::Reading::new(
                handle,
                meta.stamp.bytes,
                Some(meta),
            ))),
            _ => Err(io::Error::other("it is no regular file")),
        }
    }

    fn read_link(&self, path: &RelPath) -> io::Result<String> {
        self.on_the_way(path)?;
        let line = self.line()?;
        let name = line.wait(line.session.readlink(self.whole(path)))?;
        let target = name.files.into_iter().next().map(|file| file.filename);
        let target = target.filter(|it| !it.contains(char::REPLACEMENT_CHARACTER));
        target.ok_or_else(|| io::Error::other("what stands in it is no text"))
    }

    fn make_link(&self, target: &str, path: &RelPath) -> io::Result<()> {
        self.on_the_way(path)?;
        // The order of the two is what OpenSSH made of it, and most servers follow.
        let line = self.line()?;
        let made = line.session.symlink(target, self.whole(path));
        line.wait(made).map(|_| ())
    }

    fn create(&self, path: &RelPath) -> io::Result<Box<dyn NewFile>> {
        self.on_the_way(path)?;
        let flags = OpenFlags::CREATE | OpenFlags::EXCLUDE | OpenFlags::WRITE;
        let line = self.line()?;
        let made = line
            .session
            .open(self.whole(path), flags, FileAttributes::empty());
        let handle = line.wait(made)?.handle;
        Ok(Box::new(writing::Writing::new(line, handle, 0)))
    }

    fn unsure_end(&self) -> Option<u64> {
        Some(writing::AT_ONCE)
    }

    fn go_on(&self, path: &RelPath, at: u64) -> io::Result<Box<dyn NewFile>> {
        self.on_the_way(path)?;
        let line = self.line()?;
        let opened = line
            .session
            .open(self.whole(path), OpenFlags::WRITE, FileAttributes::empty());
        let handle = line.wait(opened)?.handle;
        Ok(Box::new(writing::Writing::new(line, handle, at)))
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        self.on_the_way(from)?;
        // The protocol says that nothing is replaced; not every server heeds it.
        if self.look(to)?.is_some() {
            return Err(io::Error::from(io::ErrorKind::AlreadyExists));
        }
        let line = self.line()?;
        // Where the answer is lost, nobody knows whether it was done.
        self.folders.is_plain_no_more(from);
        let renamed = line.session.rename(self.whole(from), self.whole(to));
        line.wait(renamed).map(|_| ())
    }

    fn replace(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        self.on_the_way(from)?;
        self.on_the_way(to)?;
        let line = self.line()?;
        if !line.can(POSIX_RENAME) {
            return replace_in_steps(self, from, to);
        }
        let mut words = Vec::new();
        for path in [self.whole(from), self.whole(to)] {
            let length = u32::try_from(path.len()).map_err(io::Error::other)?;
            words.extend(length.to_be_bytes());
            words.extend(path.into_bytes());
        }
        line.wait(done(line.session.extended(POSIX_RENAME, words)))
    }

    fn copies_there(&self) -> bool {
        self.line().is_ok_and(|line| line.can(COPY_DATA))
    }

    fn copy_there(&self, from: &str, stamp: &Stamp, to: &RelPath, rights: u32) -> io::Result<bool> {
        self.on_the_way(to)?;
        let line = self.line()?;
        let session = &line.session;
        let opened = session.open(from, OpenFlags::READ, FileAttributes::empty());
        let source = match line.wait(opened) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(false),
            opened => Handle::of(&line, opened?.handle),
        };
        let there = line.wait(session.fstat(source.handle.clone()))?;
        let there = meta_of(&there.attrs);
        let alike = |stamp: &Stamp| (stamp.bytes, stamp.modified_ns);
        if there.sort != Sort::File || alike(&there.stamp) != alike(stamp) {
            return Ok(false);
        }
        let flags = OpenFlags::CREATE | OpenFlags::EXCLUDE | OpenFlags::WRITE;
        let made = session.open(self.whole(to), flags, FileAttributes::empty());
        let target = Handle::of(&line, line.wait(made)?.handle);
        // From the beginning of one, to its end, to the beginning of the other.
        let mut words = source.packed()?;
        words.extend([0; 16]);
        words.extend(target.packed()?);
        words.extend([0; 8]);
        line.wait(done(session.extended(COPY_DATA, words)))?;
        let written = writing::Writing::new(Arc::clone(&line), target.handed_over(), 0);
        written.set_rights(rights)?;
        written.sync()?;
        Ok(true)
    }

    fn make_folder(&self, path: &RelPath, rights: u32) -> io::Result<()> {
        self.on_the_way(path)?;
        if self.folders.is_known(path) {
            return Ok(());
        }
        let attrs = FileAttributes {
            permissions: Some(rights),
            ..FileAttributes::empty()
        };
        let line = self.line()?;
        let made = line.session.mkdir(self.whole(path), attrs);
        if let Err(error) = line.wait(made)
            && !self.look(path)?.is_some_and(|meta| meta.is_folder())
        {
            return Err(error);
        }
        self.folders.is_plain(path);
        Ok(())
    }

    fn remove_file(&self, path: &RelPath) -> io::Result<()> {
        self.on_the_way(path)?;
        let line = self.line()?;
        let removed = line.session.remove(self.whole(path));
        line.wait(removed).map(|_| ())
    }

    fn remove_folder(&self, path: &RelPath) -> io::Result<()> {
        self.on_the_way(path)?;
        let line = self.line()?;
        self.folders.is_plain_no_more(path);
        let removed = line.session.rmdir(self.whole(path));
        line.wait(removed).map(|_| ())
    }

    /// The protocol has no word for it: what the other end answers is all that is known.
    fn sync(&self, _: Option<&RelPath>) -> io::Result<()> {
        Ok(())
    }

    fn share(&self, _: &RelPath, _: &RelPath) -> io::Result<()> {
        unsupported("sharing content")
    }

    fn give(&self, path: &RelPath, owner: u32, group: u32, rights: Option<u32>) -> io::Result<()> {
        let attrs = FileAttributes {
            uid: Some(owner),
            gid: Some(group),
            permissions: rights,
            ..FileAttributes::empty()
        };
        self.on_the_way(path)?;
        let line = self.line()?;
        let set = line.session.setstat(self.whole(path), attrs);
        line.wait(set).map(|_| ())
    }

    fn attributes(&self, _: &RelPath) -> io::Result<BTreeMap<String, Vec<u8>>> {
        Ok(BTreeMap::new())
    }

    fn set_attribute(&self, _: &RelPath, _: &str, _: &[u8]) -> io::Result<()> {
        unsupported("setting an extended attribute")
    }

    fn free_bytes(&self) -> io::Result<u64> {
        let line = self.line()?;
        if !line.can(extensions::STATVFS) {
            return unsupported("asking how much room there is");
        }
        let asked = line.session.statvfs(self.folders.folder(None));
        let room = line.wait(asked)?;
        Ok(room.blocks_avail.saturating_mul(room.fragment_size))
    }

    fn lock(&self, path: &RelPath, words: &str) -> io::Result<Result<Box<dyn Held>, String>> {
        lock::take(self, self.way.clone(), path, words)
    }

    fn locked_by(&self, path: &RelPath) -> io::Result<Option<String>> {
        lock::held_by(self, path)
    }
}
