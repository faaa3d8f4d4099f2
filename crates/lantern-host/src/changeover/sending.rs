//! What comes, brought to a server on another machine while that still runs: from the folder here in which it was unpacked to the
//! one there from which it is renamed.

use super::carrying::carry;
use super::near::{Lies, Near, Turn};
use super::parcel;
use super::stage::{self, folder_name};
use super::whole::is_alike;
use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::error::{Error, Result};
use crate::folder::{Folder, HEX, Stamp, own};
use crate::ledger::Ledger;
use crate::meter;
use crate::place::Meta;
use crate::told::plain;
use lantern_core::operation::{Move, OperationKind};
use lantern_core::path::RelPath;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io;
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// What stands in a name for a content that nobody has stated.
const UNNAMED: &str = "unnamed";
/// After so many bytes, or files, what has come is written down: from there it goes on after a break.
const STRETCH_BYTES: u64 = 16 << 20;
const STRETCH_FILES: usize = 256;
/// So often a line that breaks is opened again, and how long is waited before.
const TRIES: u32 = 5;
const PAUSE: Duration = Duration::from_millis(if cfg!(test) { 2 } else { 2000 });

/// What was sent.
#[derive(Debug, Default)]
pub struct Sent {
    /// Files that were sent, and their size in bytes.
    pub files: usize,
    pub bytes: u64,
    /// Files that were there from an attempt before.
    pub there: usize,
    /// Files that lay at another server on that machine, and were copied there.
    pub copied: usize,
    /// How long it took, in milliseconds.
    pub ms: u64,
    /// What was sent as one archive before, in words; none where nothing was.
    pub as_one: Option<String>,
    /// How often the line broke.
    pub breaks: u32,
    /// How many files will belong to the account, as they cannot be given to whom they belong.
    pub not_given: usize,
}

/// Sends what was unpacked here, each file whole or not at all, and looks that each is there with its size. Where the line breaks,
/// it is opened again, and what is there already is not sent again.
///
/// # Errors
/// When the other end takes something not, or is not reached any more.
pub fn send(server: &Server, ledger: &mut Ledger, moves: &[Move], number: i64) -> Result<Sent> {
    let begun = Instant::now();
    let comes: Vec<&Move> = moves.iter().filter(|step| step.brings()).collect();
    let sending = Sending {
        near: Near::of(server, &comes),
        folder: &server.folder,
        from: stage::unpacked(server, number)?,
        to: RelPath::parse(&folder_name(number))?,
        parts: own(&format!("staging/{number:04}.coming")),
        aside: rooms_aside(moves)?,
    };
    let mut far_off = comes.clone();
    far_off.retain(|step| {
        !step
            .expects
            .as_deref()
            .is_some_and(|it| sending.near.has(it))
    });
    let mut sent = Sent {
        as_one: over_breaks(|| parcel::send(server, ledger, &far_off, &sending.from, number))?,
        ..Sent::default()
    };
    loop {
        match sending.all(ledger, &comes, &mut sent) {
            Err(error) if is_break(&error) && sent.breaks < TRIES => {
                sent.breaks += 1;
                if !crate::interrupt::pause(PAUSE) {
                    return Err(ChangeoverFault::CalledOff(OperationKind::Changeover).into());
                }
            }
            Err(error) => return Err(error),
            Ok(()) => break,
        }
    }
    sent.ms = begun.elapsed().as_millis() as u64;
    Ok(sent)
}

/// Whether the line has broken, so that it is worth being tried again.
fn is_break(error: &Error) -> bool {
    let kinds = [
        io::ErrorKind::ConnectionAborted,
        io::ErrorKind::ConnectionRefused,
        io::ErrorKind::ConnectionReset,
        io::ErrorKind::HostUnreachable,
        io::ErrorKind::NetworkUnreachable,
        io::ErrorKind::TimedOut,
    ];
    matches!(error, Error::Io { source, .. } if kinds.contains(&source.kind()))
}

/// Does something that can be done again from wherever it was cut off; where the line breaks, again over a new one.
///
/// # Errors
/// When it fails otherwise, or breaks too often.
pub fn over_breaks<T>(mut work: impl FnMut() -> Result<T>) -> Result<T> {
    let mut tries = 1;
    loop {
        match work() {
            Err(error) if is_break(&error) && tries < TRIES => {
                tries += 1;
                std::thread::sleep(PAUSE);
            }
            done => return done,
        }
    }
}

struct Sending<'f> {
    folder: &'f Folder,
    /// What lies there already, at another server.
    near: Near,
    /// Where it was unpacked, here.
    from: RelPath,
    /// Where it comes to lie, there.
    to: RelPath,
    /// Where each file is written until it is whole.
    parts: RelPath,
    /// Where what goes will lie.
    aside: BTreeSet<RelPath>,
}

/// The folders of an operation's own that what goes comes into.
fn rooms_aside(moves: &[Move]) -> Result<BTreeSet<RelPath>> {
    let goes = moves.iter().filter(|step| !step.brings());
    let rooms = goes.filter_map(|step| {
        let own = step.to.as_str().strip_suffix(step.from.as_str())?;
        Some(RelPath::parse(own.trim_end_matches('/')))
    });
    Ok(rooms.collect::<std::result::Result<_, _>>()?)
}

/// One file that has to be sent.
struct Coming<'m> {
    /// Where it is here.
    from: RelPath,
    /// Where it comes to lie there.
    to: &'m RelPath,
    /// Where it is renamed to later.
    at: &'m RelPath,
    expects: &'m str,
    bytes: u64,
    part: RelPath,
    /// The size of what an attempt before has left of it, where that can be gone on with.
    before: Option<u64>,
}

impl Sending<'_> {
    fn all(&self, ledger: &mut Ledger, comes: &[&Move], sent: &mut Sent) -> Result<()> {
        let kept = self.kept(ledger, comes)?;
        let mut missing = Vec::new();
        let (mut bytes, mut links) = (0, Vec::new());
        for (index, step) in comes.iter().enumerate() {
            if kept.contains(&step.from) {
                continue;
            }
            let from = self.from.join(step.to.as_str())?;
            let Some(here) = self.folder.look(&from)? else {
                return Err(ChangeoverFault::NothingComes {
                    path: step.to.clone(),
                }
                .into());
            };
            if here.is_link() {
                links.push((from, &step.from));
                continue;
            }
            bytes += here.stamp.bytes;
            missing.push(Coming {
                from,
                to: &step.from,
                at: &step.to,
                expects: step.expects.as_deref().unwrap_or_default(),
                bytes: here.stamp.bytes,
                part: self.part(index, step.expects.as_deref())?,
                before: None,
            });
        }
        if sent.breaks == 0 {
            sent.there = kept.len();
            meter::begin(bytes);
        }
        self.room(bytes)?;
        // Before the stop, as every answer is waited for.
        for room in &self.aside {
            self.folder.make_folders(room)?;
        }
        self.keep_parts(&mut missing)?;
        self.folder.make_folders(&self.parts)?;
        self.make_folders(comes)?;
        for (from, to) in links {
            if !self.folder.has(to)? {
                self.folder.make_link(&self.folder.read_link(&from)?, to)?;
            }
        }
        self.each(ledger, &missing, sent)?;
        self.folder.remove_all(&self.parts)
    }

    /// Sends files, with many under way at once; what has come is written down meanwhile. After the first that is not taken none is
    /// begun.
    fn each(&self, ledger: &mut Ledger, missing: &[Coming<'_>], sent: &mut Sent) -> Result<()> {
        let failed: Mutex<Option<Error>> = Mutex::new(None);
        let failed_so_far = || failed.lock().unwrap_or_else(PoisonError::into_inner);
        let (came, rows) = channel();
        let written = std::thread::scope(|scope| {
            let writing = scope.spawn(move || written_down(ledger, &rows, sent));
            self.folder.each(missing, |coming| {
                if failed_so_far().is_some() {
                    return;
                }
                let done = match crate::interrupt::called_off() {
                    true => Err(ChangeoverFault::CalledOff(OperationKind::Changeover).into()),
                    false => self.one(coming),
                };
                match done {
                    Ok(it) => drop(came.send((coming, it))),
                    Err(error) => {
                        let mut failed = failed_so_far();
                        // That the line has broken says less than what the other end has answered before.
                        if failed.as_ref().is_none_or(is_break) {
                            *failed = Some(error);
                        }
                    }
                }
            });
            drop(came);
            writing.join()
        });
        written.unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
        match failed.into_inner().unwrap_or_else(PoisonError::into_inner) {
            Some(error) => Err(error),
            None => Ok(()),
        }
    }

    /// What a file is called until it is whole: by its content, so that what an attempt before left of it can be gone on with.
    fn part(&self, index: usize, expects: Option<&str>) -> Result<RelPath> {
        let content = expects.filter(|expects| expects.len() == HEX);
        let content = content.map_or(UNNAMED, |content| &content[..16]);
        Ok(self.parts.join(&format!("{content}-{index}"))?)
    }

    /// Removes what an attempt before has left, but what can be gone on with.
    fn keep_parts(&self, missing: &mut [Coming<'_>]) -> Result<()> {
        let left = self.folder.metas_below(&self.parts)?;
        let left: HashMap<&RelPath, u64> = left
            .iter()
            .map(|(path, meta)| (path, meta.stamp.bytes))
            .collect();
        let unnamed = self.parts.join(UNNAMED)?;
        let mut kept = BTreeSet::new();
        for coming in missing {
            let is_named = !coming.part.as_str().starts_with(unnamed.as_str());
            coming.before = left.get(&coming.part).copied().filter(|_| is_named);
            if coming.before.is_some() {
                kept.insert(&coming.part);
            }
        }
        for path in left.keys().filter(|path| !kept.contains(*path)) {
            self.folder.remove_file(path)?;
        }
        Ok(())
    }

    /// What is there from an attempt before; all else that lies there goes.
    fn kept(&self, ledger: &Ledger, comes: &[&Move]) -> Result<BTreeSet<RelPath>> {
        let known = ledger.seen()?;
        let expected: HashMap<&RelPath, Option<&str>> = comes
            .iter()
            .map(|step| (&step.from, step.expects.as_deref()))
            .collect();
        let mut kept = BTreeSet::new();
        for (path, meta) in self.folder.metas_below(&self.to)? {
            let known = known.get(path.as_str());
            let is_whole = known.is_some_and(|(stamp, hash)| {
                *stamp == meta.stamp && expected.get(&path) == Some(&Some(hash.as_str()))
            });
            match is_whole {
                true => drop(kept.insert(path)),
                false => self.folder.remove_file(&path)?,
            }
        }
        Ok(kept)
    }

    /// Refuses where there is not room enough, as far as the other end tells.
    fn room(&self, needed: u64) -> Result<()> {
        match self.folder.free_bytes(&self.to) {
            Ok(free) if free < needed => Err(Error::DiskFull {
                path: self.folder.shown(&self.to),
                needed,
                free,
            }),
            _ => Ok(()),
        }
    }

    /// Makes the folders that files come into, each like the one whose place it may take.
    fn make_folders(&self, comes: &[&Move]) -> Result<()> {
        let mut folders = BTreeMap::new();
        for step in comes {
            let (mut from, mut to) = (step.from.folder(), step.to.folder());
            while let (Some(staged), Some(at)) = (from, to) {
                (from, to) = (staged.folder(), at.folder());
                folders.insert(staged, at);
            }
        }
        self.folder.make_folders(&self.to)?;
        let folders: Vec<(RelPath, RelPath)> = folders.into_iter().collect();
        let names: Vec<RelPath> = folders.iter().map(|(staged, _)| staged.clone()).collect();
        self.folder.make_each(&names)?;
        let alike = self.folder.each(&folders, |(staged, at)| {
            let Some(there) = self.folder.met(at)?.filter(Meta::is_folder) else {
                return Ok(());
            };
            let now = self.folder.met(staged)?;
            if now.is_some_and(|now| !is_alike(&now, &there)) {
                // One that cannot be like it takes nobody's place.
                self.folder
                    .give(staged, there.owner, there.group, there.rights)?;
            }
            Ok(())
        });
        alike.into_iter().collect()
    }

    /// Sends one file, or copies it there from another server's.
    fn one(&self, coming: &Coming<'_>) -> Result<Came> {
        let Coming {
            from, to, at, part, ..
        } = coming;
        let here = self.folder.look(from)?;
        let before = self.folder.met(at)?.filter(Meta::is_file);
        let rights = here.map_or(0, |meta| meta.rights);
        let rights = before.map_or(rights, |before| before.rights | rights & 0o111);
        let mut claim = None;
        let (mut tried, mut is_copied) = (false, false);
        match self.near.turn(coming.expects) {
            Turn::Copy(lies) => {
                // What an attempt before has left of it is not gone on with.
                if coming.before.is_some() {
                    self.folder.remove_file(part)?;
                }
                tried = true;
                for lies in &lies {
                    is_copied = is_copied || self.copy(lies, coming, rights)?;
                }
            }
            Turn::Send(claimed) => claim = claimed,
        }
        if !is_copied {
            let before = coming.before.filter(|_| !tried);
            carry(self.folder, from, part, before, Some(rights))?;
        }
        let there = self.folder.look(part)?;
        let Some(there) = there.filter(|there| there.stamp.bytes == coming.bytes) else {
            return Err(ChangeoverFault::NotTaken {
                path: self.folder.shown(to),
                why: match there {
                    Some(there) => {
                        format!("{} of {} bytes came there", there.stamp.bytes, coming.bytes)
                    }
                    None => "it did not come there".into(),
                },
            }
            .into());
        };
        self.folder.rename(part, to)?;
        if let (Some(claim), Some(path)) = (claim, self.folder.path_there(to)) {
            claim.came(path, there.stamp);
        }
        Ok(Came {
            stamp: there.stamp,
            is_given: before.is_none_or(|before| before.owner == there.owner),
            is_copied,
        })
    }

    /// Copies a file there from another server's; false where that is no more what it was, or the other end does not copy it.
    fn copy(&self, lies: &Lies, coming: &Coming<'_>, rights: u32) -> Result<bool> {
        let folder = self.folder;
        match folder.copy_there(&lies.path, &lies.stamp, &coming.part, rights) {
            Ok(true) => {
                meter::did(coming.bytes);
                Ok(true)
            }
            Err(error) if is_break(&error) => Err(error),
            // What cannot be copied is sent.
            _ => {
                if folder.has(&coming.part)? {
                    folder.remove_file(&coming.part)?;
                }
                Ok(false)
            }
        }
    }
}

/// What has become of a file.
struct Came {
    /// What it is known by there.
    stamp: Stamp,
    /// Whether it belongs to whom the one before belongs.
    is_given: bool,
    is_copied: bool,
}

/// Writes down what has come, a stretch at a time.
fn written_down(
    ledger: &mut Ledger,
    came: &Receiver<(&Coming<'_>, Came)>,
    sent: &mut Sent,
) -> Result<()> {
    let mut is_all = false;
    while !is_all {
        let (mut rows, mut bytes) = (Vec::new(), 0);
        while bytes < STRETCH_BYTES && rows.len() < STRETCH_FILES {
            let Ok((coming, it)) = came.recv() else {
                is_all = true;
                break;
            };
            bytes += coming.bytes;
            match it.is_copied {
                true => sent.copied += 1,
                false => {
                    sent.files += 1;
                    sent.bytes += coming.bytes;
                }
            }
            sent.not_given += usize::from(!it.is_given);
            rows.push((coming.to, it.stamp, coming.expects.to_owned()));
        }
        ledger.see(rows.into_iter(), &[])?;
    }
    Ok(())
}

/// The folders that something is renamed in or from, as far as they are there: what is not is made in what is.
fn touched(folder: &Folder, moves: &[Move]) -> Result<Vec<RelPath>> {
    let mut above: BTreeSet<RelPath> = BTreeSet::new();
    for step in moves {
        let mut next = step.path().folder();
        while let Some(path) = next.filter(|path| !above.contains(path)) {
            next = path.folder();
            above.insert(path);
        }
    }
    let above: Vec<RelPath> = above.into_iter().collect();
    let met = folder.each(&above, |path| folder.met(path));
    let mut there = BTreeSet::new();
    for (path, met) in above.iter().zip(met) {
        if met?.is_some_and(|meta| meta.is_folder()) {
            there.insert(path);
        }
    }
    let mut touched = BTreeSet::new();
    for step in moves {
        let mut next = step.path().folder();
        while let Some(path) = next {
            next = path.folder();
            if there.contains(&path) {
                touched.insert(path);
                break;
            }
        }
    }
    Ok(touched.into_iter().collect())
}

/// Where it is tried whether something may be renamed: an empty folder of lantern's own, in one that is touched and in its own room.
fn trying(path: &RelPath, index: usize, number: i64) -> Result<(RelPath, RelPath)> {
    let room = own(&format!("staging/{number:04}.tries"));
    Ok((
        path.join(&format!("lantern-tries-{number:04}"))?,
        room.join(&index.to_string())?,
    ))
}

/// Tries whether the account may rename in each folder that something is renamed in or from: what is refused is known before the
/// server stops.
///
/// # Errors
/// [`ChangeoverFault::NotTaken`], with the folder.
pub fn try_renames(server: &Server, moves: &[Move], number: i64) -> Result<()> {
    let folder = &server.folder;
    let tried = touched(folder, moves)?;
    let tried: Vec<(usize, RelPath)> = tried.into_iter().enumerate().collect();
    let refused = |path: &RelPath, error: &Error| {
        let why = match error {
            Error::Io { source, .. } => plain(source),
            other => other.to_string(),
        };
        let why = format!("nothing can be renamed in this folder by file transfer: {why}");
        Error::Changeover(ChangeoverFault::NotTaken {
            path: folder.shown(path),
            why,
        })
    };
    let room = own(&format!("staging/{number:04}.tries"));
    folder.remove_all(&room)?;
    folder.make_folders(&room)?;
    let outcomes = folder.each(&tried, |(index, path)| {
        let (here, there) = trying(path, *index, number)?;
        folder.make_each(std::slice::from_ref(&here))?;
        let renamed = folder.rename(&here, &there);
        match renamed {
            Ok(()) => folder.remove_if_empty(&there),
            Err(_) => folder.remove_if_empty(&here),
        };
        renamed
    });
    for (outcome, (_, path)) in outcomes.into_iter().zip(&tried) {
        outcome.map_err(|error| match is_break(&error) {
            true => error,
            false => refused(path, &error),
        })?;
    }
    folder.remove_if_empty(&room);
    Ok(())
}

/// Removes what was sent and is not whole.
pub fn forget_sent(server: &Server, number: i64) {
    let folder = &server.folder;
    let _ = folder.remove_all(&own(&format!("staging/{number:04}.coming")));
    let _ = parcel::forget(folder, number, None);
}

/// Whether sending was cut off or called off, so that the next attempt can go on from there.
pub fn can_go_on(error: &Error) -> bool {
    matches!(error, Error::Changeover(ChangeoverFault::CalledOff(_))) || is_break(error)
}

/// Removes what trying may have left behind where the line broke.
pub fn forget_tries(server: &Server, moves: &[Move], number: i64) {
    let folder = &server.folder;
    let tried = touched(folder, moves).unwrap_or_default();
    let tried: Vec<(usize, RelPath)> = tried.into_iter().enumerate().collect();
    folder.each(&tried, |(index, path)| {
        let (here, _) = trying(path, *index, number)?;
        folder.remove_if_empty(&here);
        Ok::<(), Error>(())
    });
    let _ = folder.remove_all(&own(&format!("staging/{number:04}.tries")));
    for room in rooms_aside(moves).unwrap_or_default() {
        if folder
            .metas_below(&room)
            .is_ok_and(|inside| inside.is_empty())
        {
            let _ = folder.remove_all(&room);
        }
    }
}
