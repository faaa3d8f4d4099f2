//! A folder on another machine, reached by FTP (RFC 959, RFC 3659), behind TLS or in the clear.
//!
//! One connection carries one thing at a time, so there are several. A server that knows the listings of RFC 3659 tells times in seconds; of
//! others, what they print for people is read, and times are as coarse as that.

mod line;
mod lines;
mod listings;

use self::line::{Line, Secured};
use self::lines::{Lines, TAKEN, is_break, is_refused, told, waited_in_vain};
use self::listings::{last_name, meta_in, meta_of, read_line, strange, without_rights};
use super::folders::Folders;
use super::reading::{Reading, Stretches};
use super::{Address, Held, Means, Meta, NewFile, Place, Sort, Source, Way, lock, unsupported};
use crate::place::OWNERS_ALONE;
use lantern_core::operation::is_own;
use lantern_core::path::RelPath;
use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fmt;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use suppaftp::list::ListParser;
use suppaftp::{FtpError, Status};

/// So many renames are sent in one go, of which the answers then find room in what a connection holds.
const AHEAD: usize = 32;

/// A folder on another machine.
pub struct Ftp {
    /// The address, for messages.
    shown: PathBuf,
    folders: Folders,
    way: Way,
    /// Whether the other end knows the listings of RFC 3659.
    tells_facts: bool,
    /// Whether several commands can be sent before the first is answered.
    reads_ahead: bool,
    lines: Lines,
}

impl fmt::Debug for Ftp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Ftp").field("shown", &self.shown).finish()
    }
}

impl Ftp {
    /// Opens a folder.
    ///
    /// # Errors
    /// When the other end is not reached, does not let one in, or there is no such folder.
    pub fn open(address: &Address, means: &Means) -> io::Result<Ftp> {
        let lines = Lines::to(address, means)?;
        let found = lines.with(|line| {
            let knows = line.feat().unwrap_or_default();
            if !address.path.is_empty() {
                line.cwd(&address.path)?;
            }
            let tells_facts = knows.contains_key("MLST") || knows.contains_key("MLSD");
            Ok((line.pwd()?, tells_facts))
        });
        let (top, tells_facts) = found.map_err(|error| match is_refused(&error) {
            true => io::Error::new(io::ErrorKind::NotFound, error.to_string()),
            false => error,
        })?;
        // A server that does not read them says nothing of that: it is found out here, and not in the middle of a swap.
        let tried = lines.with(|line| match line.is_answered_ahead() {
            true => Ok(()),
            false => Err(FtpError::BadResponse),
        });
        Ok(Ftp {
            reads_ahead: tried.is_ok(),
            shown: PathBuf::from(address.to_string()),
            folders: Folders::below(&top),
            way: (address.clone(), means.clone()),
            tells_facts,
            lines,
        })
    }

    fn whole(&self, path: &RelPath) -> String {
        self.folders.whole(path)
    }

    fn on_the_way(&self, path: &RelPath) -> io::Result<()> {
        let sort = |folder: &RelPath| Ok(self.seen(folder)?.map(|meta| meta.sort));
        self.folders.on_the_way(path, sort)
    }

    /// What lies at a path; none when there is nothing.
    fn seen(&self, path: &RelPath) -> io::Result<Option<Meta>> {
        let whole = self.whole(path);
        if self.tells_facts {
            let line = self.lines.with(|line| line.mlst(Some(&whole)));
            return match line {
                Ok(line) => match ListParser::parse_mlst(&without_rights(line.trim())) {
                    Ok(file) => Ok(Some(meta_in(&line, &file))),
                    Err(_) => Err(strange(&line)),
                },
                Err(error) if is_refused(&error) => Ok(None),
                Err(error) => Err(error),
            };
        }
        // A file is listed by itself; of a folder that would show what is in it.
        if self.has_size(path)? {
            let listed = self.lines.with(|line| line.list(Some(&whole)))?;
            let file = listed.iter().find_map(|line| read_line(line));
            if let Some(file) = file {
                return Ok(Some(meta_of(&file)));
            }
        }
        let inside = match self.listed(path.folder().as_ref()) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            inside => inside?,
        };
        let mut inside = inside.into_iter();
        let found = inside.find(|(name, _)| name.to_str() == Some(path.name()));
        Ok(found.map(|(_, meta)| meta))
    }

    /// All that lies in one folder. Of one that nobody has seen it is asked first whether it is there, where that can be asked: there are
    /// servers that lose the next connection for data when one was opened for a listing that is then refused.
    fn listed(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Meta)>> {
        let whole = self.folders.folder(folder);
        if let Some(folder) = folder.filter(|it| self.tells_facts && !self.folders.is_known(it))
            && self.seen(folder)?.is_none()
        {
            return Err(io::Error::new(io::ErrorKind::NotFound, "it is not there"));
        }
        let lines = match self.tells_facts {
            true => self.lines.with(|line| line.mlsd(Some(&whole))),
            // A folder is gone into first: in a listing's own words, blanks in its path would be several names, and what begins with
            // a dot is not shown by every server.
            false => self.lines.with(|line| {
                line.cwd(&whole)?;
                line.list(Some("-a"))
            }),
        };
        let lines = lines.map_err(|error| match is_refused(&error) {
            true => io::Error::new(io::ErrorKind::NotFound, error.to_string()),
            false => error,
        })?;
        let mut found = Vec::new();
        for line in lines.iter().map(|line| line.trim_end()) {
            if line.is_empty() || !self.tells_facts && line.starts_with("total ") {
                continue;
            }
            if self.tells_facts {
                let facts = line.to_ascii_lowercase();
                // The folder itself, and the one above it.
                if facts.contains("type=cdir;") || facts.contains("type=pdir;") {
                    continue;
                }
            }
            let file = match self.tells_facts {
                true => ListParser::parse_mlsd(&without_rights(line)).ok(),
                false => read_line(line),
            };
            let file = file.ok_or_else(|| strange(line))?;
            let name = last_name(file.name());
            if name != "." && name != ".." {
                let meta = match self.tells_facts {
                    true => meta_in(line, &file),
                    false => meta_of(&file),
                };
                found.push((OsString::from(name), meta));
            }
        }
        Ok(found)
    }

    /// Whether there is something that has a size: what a file has, and with some servers a folder.
    fn has_size(&self, path: &RelPath) -> io::Result<bool> {
        let whole = self.whole(path);
        match self.lines.with(|line| line.size(&whole)) {
            Ok(_) => Ok(true),
            Err(error) if is_refused(&error) => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// Whether something is at a place to which something is to be renamed, in one question where there is nothing: what is not there
    /// cannot be named as what is to be renamed. Where it can be, what is there is looked at. A link that leads nowhere may not be seen.
    fn is_taken(&self, path: &RelPath) -> io::Result<bool> {
        self.on_the_way(path)?;
        if !self.tells_facts {
            let named = format!("RNFR {}", self.whole(path));
            let named = self
                .lines
                .with(|line| line.custom_command(&named, &[Status::RequestFilePending]));
            match named {
                Err(error) if is_refused(&error) => return Ok(false),
                Err(error) => return Err(error),
                Ok(_) => (),
            }
        }
        Ok(self.seen(path)?.is_some())
    }

    /// The error of something that was asked of a path: where nothing is there, that.
    fn of_path(&self, path: &RelPath, error: io::Error) -> io::Error {
        match is_refused(&error) && matches!(self.seen(path), Ok(None)) {
            true => io::Error::new(io::ErrorKind::NotFound, "it is not there"),
            false => error,
        }
    }
}

/// A file that is read, a stretch at a time.
struct Part {
    lines: Lines,
    whole: String,
}

impl Stretches for Part {
    /// Each stretch is a connection of its own, which takes as long as several answers do, and of one that is broken off about so much
    /// is under way.
    const GROWS: u64 = 16;
    const MOST: u64 = 8 << 20;

    fn stretch(&self, from: u64, length: u64) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        let mut line = self.lines.taken()?;
        #[cfg(test)]
        if self.lines.cut().is_some() {
            self.lines.closed();
            return Err(told(&FtpError::BadResponse));
        }
        let read = (|| {
            line.resume_transfer(from as usize)?;
            let mut data = line.retr_as_stream(&self.whole)?;
            let mut piece = vec![0; 64 << 10];
            while (bytes.len() as u64) < length {
                let wanted = piece.len().min((length - bytes.len() as u64) as usize);
                match data
                    .read(&mut piece[..wanted])
                    .map_err(FtpError::ConnectionError)?
                {
                    0 => break,
                    read => bytes.extend_from_slice(&piece[..read]),
                }
            }
            // Where that was not its end, the other end says that it was broken off, and in the one answer that it owes.
            let is_short = (bytes.len() as u64) < length;
            match data.finish() {
                Err(error) if is_short || is_break(&error) => Err(error),
                _ => Ok(()),
            }
        })();
        match &read {
            Err(error) if is_break(error) => self.lines.closed(),
            _ => self.lines.given_back(line),
        }
        read.map(|()| bytes).map_err(|error| told(&error))
    }
}

type Data = suppaftp::TransferStream<Secured>;

/// A file that is being written.
struct Writing {
    lines: Lines,
    whole: String,
    under_way: Mutex<UnderWay>,
}

/// How far it is.
struct UnderWay {
    line: Option<(Line, Data)>,
    at: u64,
    rights: Option<u32>,
}

impl Writing {
    fn under_way(&self) -> MutexGuard<'_, UnderWay> {
        self.under_way
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
    }
}

fn ended() -> io::Error {
    io::Error::new(
        io::ErrorKind::ConnectionAborted,
        "it was written to its end",
    )
}

impl Write for Writing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let at = self.under_way().at;
        self.write_all_at(bytes, at)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl NewFile for Writing {
    fn write_all_at(&self, bytes: &[u8], offset: u64) -> io::Result<()> {
        let mut under_way = self.under_way();
        if offset != under_way.at {
            return unsupported("writing elsewhere than at its end");
        }
        #[cfg(test)]
        if self.lines.cut().is_some() {
            drop(under_way.line.take());
            self.lines.closed();
            return Err(told(&FtpError::BadResponse));
        }
        let (line, mut data) = under_way.line.take().ok_or_else(ended)?;
        if let Err(error) = data.write_all(bytes) {
            self.lines.closed();
            if waited_in_vain(&error) {
                let why = format!(
                    "nothing more was taken for {} seconds: the disk there may be full, or a quota reached",
                    TAKEN.as_secs()
                );
                return Err(io::Error::new(io::ErrorKind::TimedOut, why));
            }
            // Why it takes no more, the other end says where it is asked things. How often, differs: the line is not used again.
            let said = data.finish();
            drop(line);
            return Err(match said {
                Err(said) if !is_break(&said) => told(&said),
                _ => told(&FtpError::ConnectionError(error)),
            });
        }
        under_way.line = Some((line, data));
        under_way.at += bytes.len() as u64;
        Ok(())
    }

    /// Ends the transfer: what the other end answers then is all that is known.
    fn sync(&self) -> io::Result<()> {
        let mut under_way = self.under_way();
        let Some((mut line, data)) = under_way.line.take() else {
            return Ok(());
        };
        let finished = data.finish();
        if finished.is_ok()
            && let Some(rights) = under_way.rights
        {
            // A host that does not know it leaves them as they are.
            let _ = line.site(format!("CHMOD {rights:o} {}", self.whole));
        }
        match &finished {
            Ok(()) => self.lines.given_back(line),
            // More may be said of it: the line is not used again.
            Err(_) => self.lines.closed(),
        }
        finished.map_err(|error| told(&error))
    }

    fn set_rights(&self, rights: u32) -> io::Result<()> {
        self.under_way().rights = Some(rights);
        Ok(())
    }

    fn set_attribute(&self, _: &str, _: &[u8]) -> io::Result<()> {
        unsupported("setting an extended attribute")
    }
}

impl Drop for Writing {
    fn drop(&mut self) {
        let _ = self.sync();
    }
}

impl Ftp {
    /// A file to be read.
    fn part(&self, path: &RelPath) -> Part {
        Part {
            lines: self.lines.clone(),
            whole: self.whole(path),
        }
    }

    /// Begins to send a file: a new one, or what comes behind the end of one that is so long.
    fn storing(&self, path: &RelPath, at: u64) -> io::Result<Box<dyn NewFile>> {
        let whole = self.whole(path);
        let mut line = self.lines.taken()?;
        let begun = match at {
            0 => line.put_with_stream(&whole),
            _ => line.append_with_stream(&whole),
        };
        match begun {
            Ok(data) => Ok(Box::new(Writing {
                lines: self.lines.clone(),
                whole,
                under_way: Mutex::new(UnderWay {
                    line: Some((line, data)),
                    at,
                    rights: None,
                }),
            })),
            Err(error) => {
                match is_break(&error) {
                    true => self.lines.closed(),
                    false => self.lines.given_back(line),
                }
                Err(told(&error))
            }
        }
    }
}

impl Place for Ftp {
    fn root(&self) -> &Path {
        &self.shown
    }

    fn at_once(&self) -> usize {
        self.lines.most()
    }

    fn shell(&self) -> Option<Vec<String>> {
        super::shell(&self.way)
    }

    fn path_there(&self, path: &RelPath) -> Option<String> {
        Some(self.whole(path))
    }

    fn look(&self, path: &RelPath) -> io::Result<Option<Meta>> {
        self.on_the_way(path)?;
        self.seen(path)
    }

    fn list(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Meta)>> {
        let listed = self.listed(folder)?;
        if let Some(folder) = folder {
            self.folders.is_plain(folder);
        }
        let names = listed.iter().filter(|(_, meta)| meta.is_folder());
        for name in names.filter_map(|(name, _)| name.to_str()) {
            let path = match folder {
                Some(folder) => folder.join(name),
                None => RelPath::parse(name),
            };
            if let Ok(path) = path {
                self.folders.is_plain(&path);
            }
        }
        Ok(listed)
    }

    fn list_likely(&self, folders: &[Option<RelPath>]) -> Vec<io::Result<Vec<(OsString, Meta)>>> {
        // Where it can be asked whether one still is there, it is.
        if self.tells_facts {
            let folders = folders.iter().flatten();
            folders.for_each(|folder| self.folders.is_plain_no_more(folder));
        }
        self.list_each(folders)
    }

    fn list_each(&self, folders: &[Option<RelPath>]) -> Vec<io::Result<Vec<(OsString, Meta)>>> {
        let next = AtomicUsize::new(0);
        let answers: Vec<Mutex<Option<io::Result<_>>>> =
            folders.iter().map(|_| Mutex::new(None)).collect();
        std::thread::scope(|scope| {
            for _ in 0..self.lines.most().min(folders.len()) {
                scope.spawn(|| {
                    loop {
                        let index = next.fetch_add(1, Ordering::Relaxed);
                        let Some(folder) = folders.get(index) else {
                            return;
                        };
                        let answer = self.list(folder.as_ref());
                        *answers[index]
                            .lock()
                            .unwrap_or_else(PoisonError::into_inner) = Some(answer);
                    }
                });
            }
        });
        let answers = answers.into_iter();
        let answers = answers.map(|it| it.into_inner().unwrap_or_else(PoisonError::into_inner));
        answers
            .map(|it| it.unwrap_or_else(|| Err(io::ErrorKind::ConnectionAborted.into())))
            .collect()
    }

    fn sorts(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Sort)>> {
        let listed = self.list(folder)?.into_iter();
        Ok(listed.map(|(name, meta)| (name, meta.sort)).collect())
    }

    fn open(&self, path: &RelPath) -> io::Result<Box<dyn Source>> {
        let meta = self.look(path)?;
        let meta = meta.ok_or_else(|| io::Error::from(io::ErrorKind::NotFound))?;
        match meta.sort {
            Sort::File => Ok(Box::new(Reading::new(
                self.part(path),
                meta.stamp.bytes,
                Some(meta),
            ))),
            _ => Err(io::Error::other("it is no regular file")),
        }
    }

    fn open_listed(&self, path: &RelPath, bytes: u64) -> io::Result<Box<dyn Source>> {
        self.on_the_way(path)?;
        Ok(Box::new(Reading::new(self.part(path), bytes, None)))
    }

    fn read_link(&self, path: &RelPath) -> io::Result<String> {
        if self.tells_facts {
            return unsupported("reading a link");
        }
        let whole = self.folders.folder(path.folder().as_ref());
        let lines = self.lines.with(|line| {
            line.cwd(&whole)?;
            line.list(Some("-a"))
        })?;
        let files = lines.iter().filter_map(|line| read_line(line));
        let link = files.filter(|file| file.is_symlink());
        let mut link = link.filter(|file| last_name(file.name()) == path.name());
        let target = link
            .next()
            .and_then(|file| file.symlink().map(Path::to_owned));
        let target = target.and_then(|target| target.to_str().map(str::to_owned));
        target.ok_or_else(|| io::Error::other("where it leads is not told"))
    }

    fn make_link(&self, _: &str, _: &RelPath) -> io::Result<()> {
        unsupported("making a link")
    }

    fn create(&self, path: &RelPath) -> io::Result<Box<dyn NewFile>> {
        // A file whose name may not be changed is found by its size; lantern's own may be.
        let is_told = self.tells_facts || is_own(path);
        match self.is_taken(path)? || !is_told && self.has_size(path)? {
            true => Err(io::ErrorKind::AlreadyExists.into()),
            false => self.storing(path, 0),
        }
    }

    /// What came before a break came in order.
    fn unsure_end(&self) -> Option<u64> {
        Some(0)
    }

    fn go_on(&self, path: &RelPath, at: u64) -> io::Result<Box<dyn NewFile>> {
        self.storing(path, at)
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        // The protocol leaves it open what becomes of what is there.
        if self.is_taken(to)? {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        let both = [(from.clone(), to.clone())];
        self.rename_as_listed(&both).into_iter().collect()
    }

    fn asks_before_renames(&self) -> bool {
        true
    }

    fn renames_at_once(&self) -> usize {
        if self.reads_ahead { AHEAD } else { 1 }
    }

    fn rename_as_listed(&self, renames: &[(RelPath, RelPath)]) -> Vec<io::Result<()>> {
        let on_the_way = renames.iter().map(|(from, to)| {
            self.on_the_way(from)?;
            self.on_the_way(to)
        });
        let mut results: Vec<io::Result<()>> = on_the_way.collect();
        let ready: Vec<usize> = (0..renames.len())
            .filter(|at| results[*at].is_ok())
            .collect();
        let whole = ready.iter().map(|at| {
            let (from, to) = &renames[*at];
            // Where the answer is lost, nobody knows whether it was done.
            self.folders.is_plain_no_more(from);
            (self.whole(from), self.whole(to))
        });
        let whole: Vec<(String, String)> = whole.collect();
        let renamed = match &whole[..] {
            [(old, new)] => vec![self.lines.with(|line| line.rename(old, new))],
            several => self.lines.rename_ahead(several),
        };
        for (at, renamed) in ready.into_iter().zip(renamed) {
            results[at] = renamed.map_err(|error| self.of_path(&renames[at].0, error));
        }
        results
    }

    fn replace(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        self.on_the_way(from)?;
        self.on_the_way(to)?;
        let (old, new) = (self.whole(from), self.whole(to));
        match self.lines.with(|line| line.rename(&old, &new)) {
            Err(error) if is_refused(&error) && self.seen(to)?.is_some() => {
                super::replace_in_steps(self, from, to)
            }
            renamed => renamed,
        }
    }

    fn make_folder(&self, path: &RelPath, rights: u32) -> io::Result<()> {
        if self.folders.is_known(path) {
            return Ok(());
        }
        self.on_the_way(path)?;
        let whole = self.whole(path);
        let made = self.lines.with(|line| {
            line.mkdir(&whole)?;
            // A host that does not know it leaves them as they are.
            if rights == OWNERS_ALONE {
                let _ = line.site(format!("CHMOD {rights:o} {whole}"));
            }
            Ok(())
        });
        match made {
            Ok(()) => {
                self.folders.is_plain(path);
                Ok(())
            }
            Err(error) => match self.look(path)? {
                Some(meta) if meta.is_folder() => Ok(()),
                _ => Err(error),
            },
        }
    }

    fn remove_file(&self, path: &RelPath) -> io::Result<()> {
        self.on_the_way(path)?;
        let whole = self.whole(path);
        let removed = self.lines.with(|line| line.rm(&whole));
        removed.map_err(|error| self.of_path(path, error))
    }

    fn remove_folder(&self, path: &RelPath) -> io::Result<()> {
        self.on_the_way(path)?;
        let whole = self.whole(path);
        self.folders.is_plain_no_more(path);
        let removed = self.lines.with(|line| line.rmdir(&whole));
        removed.map_err(|error| self.of_path(path, error))
    }

    /// The protocol has no word for it: what the other end answers is all that is known.
    fn sync(&self, _: Option<&RelPath>) -> io::Result<()> {
        Ok(())
    }

    fn share(&self, _: &RelPath, _: &RelPath) -> io::Result<()> {
        unsupported("sharing content")
    }

    fn give(&self, path: &RelPath, _: u32, _: u32, rights: Option<u32>) -> io::Result<()> {
        self.on_the_way(path)?;
        let whole = self.whole(path);
        let Some(rights) = rights else {
            return unsupported("giving a file away");
        };
        let set = self
            .lines
            .with(|line| line.site(format!("CHMOD {rights:o} {whole}")));
        set.map(|_| ())
    }

    fn attributes(&self, _: &RelPath) -> io::Result<BTreeMap<String, Vec<u8>>> {
        Ok(BTreeMap::new())
    }

    fn set_attribute(&self, _: &RelPath, _: &str, _: &[u8]) -> io::Result<()> {
        unsupported("setting an extended attribute")
    }

    fn free_bytes(&self) -> io::Result<u64> {
        unsupported("asking how much room there is")
    }

    fn lock(&self, path: &RelPath, words: &str) -> io::Result<Result<Box<dyn Held>, String>> {
        lock::take(self, self.way.clone(), path, words)
    }

    fn locked_by(&self, path: &RelPath) -> io::Result<Option<String>> {
        lock::held_by(self, path)
    }
}
