//! A folder on another machine, reached by file transfer.
//!
//! Each request waits for its answer once, however far away the other end is; so what can be asked at once is.

mod address;
pub(crate) mod line;
mod reading;
mod writing;

pub use address::Address;

use super::{Held, LinkOnTheWay, Meta, NewFile, Place, Sort, Source, Stamp};
use lantern_core::path::RelPath;
use line::{Line, POSIX_RENAME};
use russh_sftp::client::RawSftpSession;
use russh_sftp::client::error::Error;
use russh_sftp::extensions;
use russh_sftp::protocol::{FileAttributes, OpenFlags, StatusCode};
use std::collections::{BTreeMap, HashSet};
use std::ffi::OsString;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::Semaphore;

/// So many requests are under way at once: more open handles are not given by every server.
pub const AT_ONCE: usize = 48;

/// A line that could not be opened is not tried again for so long.
const AGAIN_AFTER: Duration = Duration::from_millis(if cfg!(test) { 1 } else { 1000 });

/// The line that is open, or was, and why it could not be opened again.
#[derive(Debug)]
struct Open {
    line: Arc<Line>,
    failed: Option<(Instant, io::Error)>,
}

/// An address, and the command line through which it is reached.
type Way = (Address, Option<Vec<String>>);

/// The folders that are open.
static OPEN: Mutex<Vec<(Way, Arc<Far>)>> = Mutex::new(Vec::new());

/// A folder on another machine.
#[derive(Debug)]
pub struct Far {
    /// The address, for messages.
    shown: PathBuf,
    /// The folder as the other end names it, from its root.
    top: String,
    /// How it is reached.
    address: Address,
    through: Option<Vec<String>>,
    /// The line that is open; one that has ended is opened again when something is asked for.
    line: Mutex<Open>,
    /// Folders that were seen to be none but folders.
    plain: Mutex<HashSet<String>>,
}

impl Far {
    /// Opens a folder: through a command line of the administrator's, or the system's `ssh`. One that is open is not opened again.
    ///
    /// # Errors
    /// When the other end is not reached, or there is no such folder.
    pub fn open(address: &Address, through: Option<&[String]>) -> io::Result<Arc<Far>> {
        let way = (address.clone(), through.map(<[String]>::to_vec));
        let mut open = OPEN.lock().unwrap_or_else(PoisonError::into_inner);
        let known = open.iter().find(|(known, _)| *known == way);
        if let Some((_, far)) = known {
            return Ok(Arc::clone(far));
        }
        let far = Arc::new(Far::reach(address, through)?);
        open.push((way, Arc::clone(&far)));
        Ok(far)
    }

    /// Closes what is open to a host.
    #[cfg(test)]
    pub fn close(host: &str) {
        let mut open = OPEN.lock().unwrap_or_else(PoisonError::into_inner);
        open.retain(|((address, _), _)| address.host != host);
    }

    fn reach(address: &Address, through: Option<&[String]>) -> io::Result<Far> {
        let line = Line::open(address, through)?;
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
        Ok(Far {
            shown: PathBuf::from(address.to_string()),
            top: top.trim_end_matches('/').to_owned(),
            address: address.clone(),
            through: through.map(<[String]>::to_vec),
            line: Mutex::new(Open {
                line: Arc::new(line),
                failed: None,
            }),
            plain: Mutex::new(HashSet::new()),
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
            match Line::open(&self.address, self.through.as_deref()) {
                Ok(line) => open.line = Arc::new(line),
                Err(error) => {
                    let told = again(&error);
                    open.failed = Some((Instant::now(), error));
                    return Err(told);
                }
            }
            let mut plain = self.plain.lock().unwrap_or_else(PoisonError::into_inner);
            plain.clear();
        }
        Ok(Arc::clone(&open.line))
    }

    /// A path as the other end names it.
    fn whole(&self, path: &RelPath) -> String {
        format!("{}/{path}", self.top)
    }

    fn folder(&self, folder: Option<&RelPath>) -> String {
        match folder {
            Some(folder) => self.whole(folder),
            None if self.top.is_empty() => "/".into(),
            None => self.top.clone(),
        }
    }

    /// Refuses where a folder on the way is a link. What lies there is asked once.
    fn on_the_way(&self, path: &RelPath) -> io::Result<()> {
        let mut unknown = Vec::new();
        let mut above = path.folder();
        while let Some(folder) = above {
            let plain = self.plain.lock().unwrap_or_else(PoisonError::into_inner);
            if plain.contains(folder.as_str()) {
                break;
            }
            above = folder.folder();
            unknown.push(folder);
        }
        let line = self.line()?;
        for folder in unknown.into_iter().rev() {
            let there = line.wait(line.session.lstat(self.whole(&folder)));
            match there.map(|it| meta_of(&it.attrs).sort) {
                Ok(Sort::Link) => return Err(io::Error::other(LinkOnTheWay)),
                Ok(Sort::Folder) => self.is_plain(&folder),
                // What is asked of the path itself says what is wrong.
                _ => return Ok(()),
            }
        }
        Ok(())
    }

    fn is_plain(&self, folder: &RelPath) {
        let mut plain = self.plain.lock().unwrap_or_else(PoisonError::into_inner);
        plain.insert(folder.as_str().to_owned());
    }

    /// It may be something else, or gone, from now on.
    fn is_plain_no_more(&self, path: &RelPath) {
        let mut plain = self.plain.lock().unwrap_or_else(PoisonError::into_inner);
        plain.retain(|known| {
            let below = known.strip_prefix(path.as_str());
            below.is_none_or(|rest| !rest.is_empty() && !rest.starts_with('/'))
        });
    }

    /// Takes another file's place where the other end has no word for that: the other one is out of the way for a moment.
    fn replace_in_steps(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        let old = RelPath::parse(&format!("{to}.old")).map_err(io::Error::other)?;
        if self.look(to)?.is_none() {
            return self.rename(from, to);
        }
        self.rename(to, &old)?;
        match self.rename(from, to) {
            Ok(()) => self.remove_file(&old),
            Err(error) => {
                self.rename(&old, to)?;
                Err(error)
            }
        }
    }

    fn unsupported<T>(&self, what: &str) -> io::Result<T> {
        Err(io::Error::new(
            io::ErrorKind::Unsupported,
            format!("{what} cannot be done by file transfer"),
        ))
    }
}

/// So much of a lock file is read, in bytes.
const LONGEST_WORDS: u64 = 4096;

/// A lock file that is ours.
#[derive(Debug)]
struct Lock {
    way: Way,
    path: RelPath,
}

impl Held for Lock {}

impl Drop for Lock {
    fn drop(&mut self) {
        // Over whichever line is open by now; where none can be, it stays, and is known by its mark.
        let (address, through) = &self.way;
        if let Ok(far) = Far::open(address, through.as_deref())
            && far.remove_file(&self.path).is_err()
        {
            let _ = far.remove_file(&self.path);
        }
    }
}

/// The same error once more.
fn again(error: &io::Error) -> io::Error {
    io::Error::new(error.kind(), error.to_string())
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

fn is_end(error: &Error) -> bool {
    matches!(error, Error::Status(status) if status.status_code == StatusCode::Eof)
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

impl Place for Far {
    fn root(&self) -> &Path {
        &self.shown
    }

    fn at_once(&self) -> usize {
        AT_ONCE
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
        let asked = async {
            let places = Arc::new(Semaphore::new(AT_ONCE));
            let each = folders.iter().map(|folder| {
                let (session, places) = (Arc::clone(&line.session), Arc::clone(&places));
                let folder = self.folder(folder.as_ref());
                tokio::spawn(async move {
                    let _place = places.acquire().await;
                    listed(session, folder).await
                })
            });
            let each: Vec<_> = each.collect();
            let mut answers = Vec::new();
            for one in each {
                let answer = one.await;
                answers.push(answer.unwrap_or_else(|error| Err(Error::IO(error.to_string()))));
            }
            answers
        };
        let answers = line.wait_all(asked);
        for (folder, answer) in folders.iter().zip(&answers) {
            if let (Some(folder), Ok(_)) = (folder, answer) {
                self.is_plain(folder);
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
        let reading = reading::Reading::new(Arc::clone(&line), handle, meta_of(&attrs));
        match reading.meta()?.sort {
            Sort::File => Ok(Box::new(reading)),
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
        Ok(Box::new(writing::Writing::new(line, handle)))
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        self.on_the_way(from)?;
        // The protocol says that nothing is replaced; not every server heeds it.
        if self.look(to)?.is_some() {
            return Err(io::Error::from(io::ErrorKind::AlreadyExists));
        }
        let line = self.line()?;
        let renamed = line.session.rename(self.whole(from), self.whole(to));
        line.wait(renamed)?;
        self.is_plain_no_more(from);
        Ok(())
    }

    fn replace(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        self.on_the_way(from)?;
        self.on_the_way(to)?;
        let line = self.line()?;
        if !line.can(POSIX_RENAME) {
            return self.replace_in_steps(from, to);
        }
        let mut words = Vec::new();
        for path in [self.whole(from), self.whole(to)] {
            let length = u32::try_from(path.len()).map_err(io::Error::other)?;
            words.extend(length.to_be_bytes());
            words.extend(path.into_bytes());
        }
        let session = &line.session;
        let asked = async {
            match session.extended(POSIX_RENAME, words).await? {
                russh_sftp::protocol::Packet::Status(status)
                    if status.status_code == StatusCode::Ok =>
                {
                    Ok(())
                }
                russh_sftp::protocol::Packet::Status(status) => Err(status.into()),
                _ => Err(Error::UnexpectedPacket),
            }
        };
        line.wait(asked)
    }

    fn make_folder(&self, path: &RelPath, rights: u32) -> io::Result<()> {
        self.on_the_way(path)?;
        let attrs = FileAttributes {
            permissions: Some(rights),
            ..FileAttributes::empty()
        };
        let line = self.line()?;
        let made = line.session.mkdir(self.whole(path), attrs);
        match line.wait(made) {
            Ok(_) => Ok(()),
            Err(error) => match self.look(path)? {
                Some(meta) if meta.is_folder() => Ok(()),
                _ => Err(error),
            },
        }
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
        let removed = line.session.rmdir(self.whole(path));
        line.wait(removed)?;
        self.is_plain_no_more(path);
        Ok(())
    }

    /// The protocol has no word for it: what the other end answers is all that is known.
    fn sync(&self, _: Option<&RelPath>) -> io::Result<()> {
        Ok(())
    }

    fn share(&self, _: &RelPath, _: &RelPath) -> io::Result<()> {
        self.unsupported("sharing content")
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
        self.unsupported("setting an extended attribute")
    }

    fn free_bytes(&self) -> io::Result<u64> {
        let line = self.line()?;
        if !line.can(extensions::STATVFS) {
            return self.unsupported("asking how much room there is");
        }
        let asked = line.session.statvfs(self.folder(None));
        let room = line.wait(asked)?;
        Ok(room.blocks_avail.saturating_mul(room.fragment_size))
    }

    /// The protocol has no locks: a file that is made where none is stands for one, also where whoever made it is gone.
    fn lock(&self, path: &RelPath, words: &str) -> io::Result<Result<Box<dyn Held>, String>> {
        if let Some(who) = self.locked_by(path)? {
            return Ok(Err(who));
        }
        let made = self.create(path).and_then(|mut file| {
            file.write_all(words.as_bytes())?;
            file.sync()
        });
        // Not every server heeds that a file is to be made only where none is.
        match self.locked_by(path)? {
            Some(there) if there == words => {
                made?;
                Ok(Ok(Box::new(Lock {
                    way: (self.address.clone(), self.through.clone()),
                    path: path.clone(),
                })))
            }
            Some(who) => Ok(Err(who)),
            None => Err(made.err().unwrap_or_else(|| io::ErrorKind::NotFound.into())),
        }
    }

    fn locked_by(&self, path: &RelPath) -> io::Result<Option<String>> {
        let mut words = String::new();
        match self.open(path) {
            Ok(file) => file.take(LONGEST_WORDS).read_to_string(&mut words)?,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        Ok(Some(words))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Seek, SeekFrom};

    const SFTP: &str = "/usr/lib/openssh/sftp-server";

    /// A folder of this machine, reached as if it were far away; none where OpenSSH is not here, which fails when `CI` is set.
    fn far(dir: &Path) -> Option<Arc<Far>> {
        if super::super::here::look(Path::new(SFTP)).is_none() {
            let why = format!("{SFTP} is missing; scripts/test installs it");
            assert!(std::env::var_os("CI").is_none(), "{why}");
            eprintln!("not run: {why}");
            return None;
        }
        let address = Address::parse(&format!("sftp://here.example{}", dir.display())).unwrap();
        Some(Far::open(&address, Some(&[SFTP.to_owned()])).unwrap())
    }

    fn at(path: &str) -> RelPath {
        RelPath::parse(path).unwrap()
    }

    #[test]
    fn what_is_written_renamed_and_removed_there() {
        let dir = tempfile::tempdir().unwrap();
        let Some(far) = far(dir.path()) else { return };
        far.make_folder(&at("beds"), 0o755).unwrap();
        far.make_folder(&at("beds"), 0o755).unwrap();
        // Longer than a piece, and than what is fetched ahead.
        let content: Vec<u8> = (0..3_000_000u32).map(|n| (n % 251) as u8).collect();
        let mut file = far.create(&at("beds/one")).unwrap();
        file.write_all(&content[..100]).unwrap();
        file.write_all(&content[100..]).unwrap();
        file.set_rights(0o640).unwrap();
        file.sync().unwrap();
        drop(file);
        let mut read = Vec::new();
        let mut source = far.open(&at("beds/one")).unwrap();
        source.read_to_end(&mut read).unwrap();
        assert!(read == content);
        source.seek(SeekFrom::End(-7)).unwrap();
        read.clear();
        source.read_to_end(&mut read).unwrap();
        assert_eq!(read, content[content.len() - 7..]);
        let mut middle = [0; 5];
        assert_eq!(source.read_at(&mut middle, 1_234_567).unwrap(), 5);
        assert_eq!(middle, content[1_234_567..1_234_572]);
        let meta = far.look(&at("beds/one")).unwrap().unwrap();
        assert_eq!(
            (meta.is_file(), meta.stamp.bytes, meta.rights),
            (true, 3_000_000, 0o640)
        );

        // Nothing that is there is written over, but by a replacement.
        assert!(far.create(&at("beds/one")).is_err());
        drop(far.create(&at("beds/two")).unwrap());
        let refused = far.rename(&at("beds/one"), &at("beds/two")).unwrap_err();
        assert_eq!(refused.kind(), io::ErrorKind::AlreadyExists);
        far.replace(&at("beds/one"), &at("beds/two")).unwrap();
        assert_eq!(far.look(&at("beds/one")).unwrap(), None);
        assert_eq!(
            far.look(&at("beds/two")).unwrap().unwrap().stamp.bytes,
            3_000_000
        );

        // A link is seen, and not gone through.
        far.make_link("beds", &at("plot")).unwrap();
        assert_eq!(far.read_link(&at("plot")).unwrap(), "beds");
        let through = far.look(&at("plot/two")).unwrap_err();
        assert!(through.get_ref().unwrap().is::<LinkOnTheWay>());

        // A folder moves with all in it, and is known no more under its old name.
        far.rename(&at("beds"), &at("rows")).unwrap();
        assert_eq!(far.look(&at("beds/two")).unwrap(), None);
        let names = far.list(Some(&at("rows"))).unwrap();
        assert_eq!(names.len(), 1);
        assert_eq!(names[0].0, "two");
        assert!(far.remove_folder(&at("rows")).is_err(), "it is not empty");
        far.remove_file(&at("rows/two")).unwrap();
        far.remove_folder(&at("rows")).unwrap();
        assert!(far.free_bytes().unwrap() > 0);
        let gone = far.open(&at("rows/two")).err().unwrap();
        assert_eq!(gone.kind(), io::ErrorKind::NotFound);
    }

    #[test]
    fn more_folders_than_are_asked_for_at_once() {
        let dir = tempfile::tempdir().unwrap();
        let Some(far) = far(dir.path()) else { return };
        let folders: Vec<RelPath> = (0..AT_ONCE * 3).map(|n| at(&format!("f{n}"))).collect();
        for (number, folder) in folders.iter().enumerate() {
            far.make_folder(folder, 0o755).unwrap();
            for file in 0..number % 3 {
                drop(
                    far.create(&folder.join(&file.to_string()).unwrap())
                        .unwrap(),
                );
            }
        }
        let asked: Vec<Option<RelPath>> = folders.into_iter().map(Some).collect();
        let listed = far.list_each(&asked);
        let counts: Vec<usize> = listed.into_iter().map(|it| it.unwrap().len()).collect();
        let expected: Vec<usize> = (0..AT_ONCE * 3).map(|n| n % 3).collect();
        assert_eq!(counts, expected);
    }
}
