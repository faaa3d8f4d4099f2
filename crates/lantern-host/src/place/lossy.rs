//! A disk for tests, laid over a real one: it fails, becomes unwritable, is cut off by a kill or by a power loss,
//! and after that has lost what was not synced.
//!
//! What a power loss takes: every name that was made, renamed or removed in a folder that was not synced since
//! (for a rename, both folders), and every content of a file that was not synced. A disk may also have written
//! some of it in another order than it was told.

use super::{Held, Local, Meta, NewFile, Place, Sort, Source};
use lantern_core::path::RelPath;
use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::fs::{self, File};
use std::io::{self, Write};
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// What happens at a change to the disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Fault {
    /// It fails, and those after it succeed.
    Fails,
    /// It and all after it fail: the disk has become unwritable.
    Unwritable,
    /// The process is killed before it.
    Kills,
    /// The power goes before it, and all that was not synced is lost.
    PowerGoes,
    /// The power goes before it, and some of what was not synced is lost, chosen by its number.
    PowerGoesReordered,
}

/// What was done and may be lost.
#[derive(Debug, Clone)]
enum Pending {
    Made {
        path: PathBuf,
    },
    Renamed {
        from: PathBuf,
        to: PathBuf,
        /// What was in its place, as the disk still has it.
        kept: Option<PathBuf>,
        synced: BTreeSet<PathBuf>,
    },
    /// A file or an empty folder, kept aside as the disk still has it.
    Removed {
        path: PathBuf,
        kept: PathBuf,
    },
    /// The content of a file that has just been made.
    Written {
        path: PathBuf,
    },
}

impl Pending {
    fn paths(&self) -> Vec<&Path> {
        match self {
            Pending::Made { path } | Pending::Written { path } | Pending::Removed { path, .. } => {
                vec![path]
            }
            Pending::Renamed { from, to, .. } => vec![from, to],
        }
    }
}

#[derive(Debug, Default)]
struct State {
    at: u64,
    fault: Option<Fault>,
    changes: u64,
    pending: Vec<Pending>,
    /// What is not synced though it is asked for.
    idle: Option<String>,
    /// What was synced: contents and names, by where they lie.
    synced: BTreeSet<String>,
    graves: u64,
}

/// One disk, whichever folders of it are opened.
#[derive(Debug, Clone)]
pub(crate) struct Disk {
    state: Arc<Mutex<State>>,
    graveyard: PathBuf,
}

struct Killed;

thread_local! {
    static CURRENT: RefCell<Option<Disk>> = const { RefCell::new(None) };
}

/// What a run on such a disk showed.
pub(crate) struct Ran<T> {
    /// What it came to; none when it was killed.
    pub(crate) came_to: Option<T>,
    /// How many changes there were.
    pub(crate) changes: u64,
    /// What was synced: contents and names, by where they lie.
    pub(crate) synced: BTreeSet<String>,
}

/// Does something with a fault at its n-th change; syncs of what is called `idle` do nothing.
/// `graveyard` is a folder on the same disk as all that is touched; `ends` ends every process that a power loss would.
pub(crate) fn with<T>(
    (at, fault): (u64, Fault),
    idle: Option<&str>,
    graveyard: &Path,
    ends: impl FnOnce(),
    work: impl FnOnce() -> T,
) -> Ran<T> {
    let disk = Disk {
        state: Arc::new(Mutex::new(State {
            at,
            fault: Some(fault),
            idle: idle.map(str::to_owned),
            ..State::default()
        })),
        graveyard: graveyard.to_owned(),
    };
    CURRENT.set(Some(disk.clone()));
    let done = catch_unwind(AssertUnwindSafe(work));
    CURRENT.set(None);
    let came_to = match done {
        Ok(value) => Some(value),
        Err(panic) if panic.is::<Killed>() => None,
        Err(panic) => resume_unwind(panic),
    };
    let state = disk.state();
    let (changes, synced) = (state.changes, state.synced.clone());
    drop(state);
    let power = matches!(fault, Fault::PowerGoes | Fault::PowerGoesReordered);
    if power && came_to.is_none() {
        ends();
    }
    match fault {
        Fault::PowerGoes if came_to.is_none() => disk.lose(|_| true),
        Fault::PowerGoesReordered if came_to.is_none() => {
            // Any mixture will do, as long as it is the same one the next time.
            disk.lose(|index| (index as u64 * 7 + at * 13) % 5 < 2);
        }
        _ => {}
    }
    Ran {
        came_to,
        changes,
        synced,
    }
}

/// The disk that the test runs on, laid over a folder; none outside of such tests.
pub(crate) fn instead_of(local: &Local) -> Option<Arc<dyn Place>> {
    let disk = CURRENT.with_borrow(Clone::clone)?;
    let local = Local::open(local.root()).ok()?;
    Some(Arc::new(Lossy { disk, local }))
}

impl Disk {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Right before a change.
    fn step(&self) -> io::Result<()> {
        let mut state = self.state();
        let number = state.changes;
        state.changes += 1;
        match state.fault {
            Some(Fault::Fails) if number == state.at => Err(io::ErrorKind::StorageFull.into()),
            Some(Fault::Unwritable) if number >= state.at => {
                Err(io::ErrorKind::ReadOnlyFilesystem.into())
            }
            Some(Fault::Kills | Fault::PowerGoes | Fault::PowerGoesReordered)
                if number >= state.at =>
            {
                drop(state);
                // What is done while all is being dropped, a killed process would not do.
                match std::thread::panicking() {
                    true => Err(io::ErrorKind::Interrupted.into()),
                    false => resume_unwind(Box::new(Killed)),
                }
            }
            _ => Ok(()),
        }
    }

    /// Whether its fault ends the process.
    fn cuts(&self) -> bool {
        let fault = self.state().fault;
        matches!(
            fault,
            Some(Fault::Kills | Fault::PowerGoes | Fault::PowerGoesReordered)
        )
    }

    fn remember(&self, pending: Pending) {
        self.state().pending.push(pending);
    }

    /// A sync of what lies at a path of the server folder: whether it does anything.
    fn syncs(&self, what: &str, path: &str) -> bool {
        // One name for all of a sort: numbers of operations and packs left out, and what lies deep.
        let parts = path.split('/').take(3);
        let parts = parts.map(|part| part.trim_start_matches(|c: char| c.is_ascii_digit()));
        let name = format!("{what} {}", parts.collect::<Vec<_>>().join("/"));
        let mut state = self.state();
        let idle = state.idle.as_ref() == Some(&name);
        state.synced.insert(name);
        !idle
    }

    fn folder_synced(&self, folder: &Path) {
        let is_in = |path: &Path| path.parent() == Some(folder);
        self.state().pending.retain_mut(|pending| match pending {
            Pending::Made { path } => !is_in(path),
            Pending::Removed { path, .. } => !is_in(path),
            Pending::Written { .. } => true,
            Pending::Renamed {
                from, to, synced, ..
            } => {
                synced.insert(folder.to_owned());
                let both = [from, to]
                    .into_iter()
                    .all(|path| path.parent().is_some_and(|parent| synced.contains(parent)));
                !both
            }
        });
    }

    fn file_synced(&self, file: &Path) {
        self.state()
            .pending
            .retain(|pending| !matches!(pending, Pending::Written { path } if path == file));
    }

    /// A file that waits for its content to be synced has another name now.
    fn followed(&self, from: &Path, to: &Path) {
        for pending in &mut self.state().pending {
            if let Pending::Written { path } = pending
                && let Ok(below) = path.strip_prefix(from)
            {
                *path = if below.as_os_str().is_empty() {
                    to.to_owned()
                } else {
                    to.join(below)
                };
            }
        }
    }

    /// Takes back what the power loss takes: whatever `goes`, and all that came after it at the same paths.
    fn lose(&self, goes: impl Fn(usize) -> bool) {
        let pending = std::mem::take(&mut self.state().pending);
        let mut lost: Vec<Pending> = Vec::new();
        for (index, it) in pending.into_iter().enumerate() {
            let meets = |a: &Path, b: &Path| a.starts_with(b) || b.starts_with(a);
            let depends = lost.iter().any(|other| {
                let others = other.paths();
                it.paths()
                    .iter()
                    .any(|path| others.iter().any(|other| meets(path, other)))
            });
            if depends || goes(index) {
                lost.push(it);
            }
        }
        for it in lost.into_iter().rev() {
            match it {
                // The name goes with what it leads to.
                Pending::Made { path } => {
                    let _ = fs::remove_file(&path).or_else(|_| fs::remove_dir_all(&path));
                }
                Pending::Renamed { from, to, kept, .. } => {
                    if let Some(parent) = from.parent() {
                        let _ = fs::create_dir_all(parent);
                    }
                    let _ = fs::rename(&to, &from);
                    if let Some(kept) = kept {
                        let _ = fs::rename(&kept, &to);
                    }
                }
                Pending::Removed { path, kept } => {
                    if let Some(parent) = path.parent() {
                        let _ = fs::create_dir_all(parent);
                    }
                    let _ = fs::rename(&kept, &path);
                }
                Pending::Written { path } => {
                    if path.is_file() {
                        let _ = File::create(&path);
                    }
                }
            }
        }
    }

    fn grave(&self) -> PathBuf {
        let mut state = self.state();
        state.graves += 1;
        self.graveyard.join(state.graves.to_string())
    }
}

/// A folder of such a disk.
#[derive(Debug)]
struct Lossy {
    disk: Disk,
    local: Local,
}

impl Lossy {
    fn real(&self, path: &RelPath) -> PathBuf {
        self.local.root().join(path.as_str())
    }
}

impl Place for Lossy {
    fn root(&self) -> &Path {
        self.local.root()
    }

    fn look(&self, path: &RelPath) -> io::Result<Option<Meta>> {
        self.local.look(path)
    }

    fn list(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Meta)>> {
        self.local.list(folder)
    }

    fn sorts(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Sort)>> {
        self.local.sorts(folder)
    }

    fn open(&self, path: &RelPath) -> io::Result<Box<dyn Source>> {
        self.local.open(path)
    }

    fn read_link(&self, path: &RelPath) -> io::Result<String> {
        self.local.read_link(path)
    }

    fn make_link(&self, target: &str, path: &RelPath) -> io::Result<()> {
        self.disk.step()?;
        self.local.make_link(target, path)?;
        self.disk.remember(Pending::Made {
            path: self.real(path),
        });
        Ok(())
    }

    fn create(&self, path: &RelPath) -> io::Result<Box<dyn NewFile>> {
        self.disk.step()?;
        let file = self.local.create(path)?;
        let real = self.real(path);
        self.disk.remember(Pending::Made { path: real.clone() });
        self.disk.remember(Pending::Written { path: real.clone() });
        Ok(Box::new(LossyFile {
            disk: self.disk.clone(),
            file,
            path: real,
            below: path.to_string(),
        }))
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        self.disk.step()?;
        self.local.rename(from, to)?;
        let (from, to) = (self.real(from), self.real(to));
        self.disk.followed(&from, &to);
        self.disk.remember(Pending::Renamed {
            from,
            to,
            kept: None,
            synced: BTreeSet::new(),
        });
        Ok(())
    }

    fn replace(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        self.disk.step()?;
        let (real_from, real_to) = (self.real(from), self.real(to));
        let kept = match self.local.look(to)? {
            None => None,
            Some(_) => {
                let kept = self.disk.grave();
                fs::rename(&real_to, &kept)?;
                Some(kept)
            }
        };
        self.local.replace(from, to)?;
        self.disk.followed(&real_from, &real_to);
        self.disk.remember(Pending::Renamed {
            from: real_from,
            to: real_to,
            kept,
            synced: BTreeSet::new(),
        });
        Ok(())
    }

    fn make_folder(&self, path: &RelPath, rights: u32) -> io::Result<()> {
        if self.local.look(path)?.is_some() {
            return self.local.make_folder(path, rights);
        }
        self.disk.step()?;
        self.local.make_folder(path, rights)?;
        self.disk.remember(Pending::Made {
            path: self.real(path),
        });
        Ok(())
    }

    fn remove_file(&self, path: &RelPath) -> io::Result<()> {
        self.disk.step()?;
        let (path, kept) = (self.real(path), self.disk.grave());
        fs::rename(&path, &kept)?;
        self.disk.remember(Pending::Removed { path, kept });
        Ok(())
    }

    fn remove_folder(&self, path: &RelPath) -> io::Result<()> {
        let entries = self.local.list(Some(path))?;
        if !entries.is_empty() {
            return Err(io::ErrorKind::DirectoryNotEmpty.into());
        }
        self.disk.step()?;
        let (path, kept) = (self.real(path), self.disk.grave());
        fs::rename(&path, &kept)?;
        self.disk.remember(Pending::Removed { path, kept });
        Ok(())
    }

    fn sync(&self, folder: Option<&RelPath>) -> io::Result<()> {
        self.disk.step()?;
        self.local.sync(folder)?;
        if self
            .disk
            .syncs("names in", folder.map_or("", RelPath::as_str))
        {
            let folder = folder.map_or(self.root().to_owned(), |path| self.real(path));
            self.disk.folder_synced(&folder);
        }
        Ok(())
    }

    fn share(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        self.disk.step()?;
        self.local.share(from, to)?;
        self.disk.remember(Pending::Made {
            path: self.real(to),
        });
        Ok(())
    }

    fn give(&self, path: &RelPath, owner: u32, group: u32, rights: Option<u32>) -> io::Result<()> {
        self.local.give(path, owner, group, rights)
    }

    fn attributes(&self, path: &RelPath) -> io::Result<BTreeMap<String, Vec<u8>>> {
        self.local.attributes(path)
    }

    fn set_attribute(&self, path: &RelPath, name: &str, value: &[u8]) -> io::Result<()> {
        self.local.set_attribute(path, name, value)
    }

    fn free_bytes(&self) -> io::Result<u64> {
        self.local.free_bytes()
    }

    fn lock(&self, path: &RelPath, words: &str) -> io::Result<Result<Box<dyn Held>, String>> {
        self.local.lock(path, words)
    }

    fn locked_by(&self, path: &RelPath) -> io::Result<Option<String>> {
        self.local.locked_by(path)
    }
}

/// A file of such a disk.
struct LossyFile {
    disk: Disk,
    file: Box<dyn NewFile>,
    path: PathBuf,
    /// Its path in the server folder when it was made.
    below: String,
}

impl Write for LossyFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        // Ended before a write or before its sync, a file is worth as little.
        if !self.disk.cuts() {
            self.disk.step()?;
        }
        self.file.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl NewFile for LossyFile {
    fn write_all_at(&self, bytes: &[u8], offset: u64) -> io::Result<()> {
        self.disk.step()?;
        self.file.write_all_at(bytes, offset)
    }

    fn sync(&self) -> io::Result<()> {
        self.disk.step()?;
        self.file.sync()?;
        if self.disk.syncs("content of", &self.below) {
            self.disk.file_synced(&self.path);
        }
        Ok(())
    }

    fn set_rights(&self, rights: u32) -> io::Result<()> {
        self.file.set_rights(rights)
    }

    fn set_attribute(&self, name: &str, value: &[u8]) -> io::Result<()> {
        self.file.set_attribute(name, value)
    }
}
