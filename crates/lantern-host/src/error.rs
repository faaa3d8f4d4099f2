//! What can go wrong outside the core. The advice stands in the command line program alone.

use crate::archive::fault::ArchiveFault;
use crate::release::fault::ReleaseFault;
use lantern_core::catalogue::CatalogueFault;
use lantern_core::component::Id;
use lantern_core::family::FamilyFault;
use lantern_core::operation::{OperationKind, Stuck};
use lantern_core::path::{PathFault, RelPath};
use lantern_core::plan::{DrawFault, PlanFault};
use lantern_core::resolve::{Obstacle, RequestFault};
use lantern_core::version::{RangeFault, VersionFault};
use std::io;
use std::path::{Path, PathBuf};

/// The result of everything in this crate.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What can go wrong outside the core.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// A file or folder cannot be read or written.
    #[error("{}: {doing} failed: {source}", path.display())]
    Io {
        /// What was tried.
        doing: &'static str,
        /// Where.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// There is no such folder.
    #[error("{} is not a folder", .0.display())]
    NotAFolder(PathBuf),
    /// The folder has no `lantern.toml`.
    #[error("{} is not in lantern's care: it has no lantern.toml", .0.display())]
    NotAdopted(PathBuf),
    /// The folder already has a `lantern.toml`.
    #[error("{} is already in lantern's care", .0.display())]
    AlreadyAdopted(PathBuf),
    /// No known family's marks are there.
    #[error("{} does not look like a server of any family that lantern knows", path.display())]
    NoFamily {
        /// The folder.
        path: PathBuf,
        /// The families that were tried, with the first mark that is missing.
        tried: Vec<(String, String)>,
    },
    /// The marks of several families are there.
    #[error("{} could be a server of several families: {}", path.display(), families.join(", "))]
    SeveralFamilies {
        /// The folder.
        path: PathBuf,
        /// Their names.
        families: Vec<String>,
    },
    /// `lantern.toml` names a family that does not exist.
    #[error("there is no family \"{name}\"; known are {}", known.join(", "))]
    UnknownFamily {
        /// The name.
        name: String,
        /// The families there are.
        known: Vec<String>,
    },
    /// `lantern.toml` cannot be made sense of.
    #[error("{}: {why}", path.display())]
    Config {
        /// The file.
        path: PathBuf,
        /// What is wrong, with the line where there is one.
        why: String,
    },
    /// A family file cannot be made sense of.
    #[error("{}: {fault}", path.display())]
    Family {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        fault: FamilyFault,
    },
    /// The ledger cannot be read or written.
    #[error("the ledger {}: {source}", path.display())]
    Ledger {
        /// The file.
        path: PathBuf,
        /// What SQLite said.
        source: rusqlite::Error,
    },
    /// Another lantern is at work in the folder.
    #[error("another lantern is at work here: {who}")]
    Busy {
        /// What it does, and its process.
        who: String,
    },
    /// A changeover was cut off.
    #[error("{told}")]
    Interrupted {
        /// What happened and what state things are in.
        told: String,
        /// Why it could not go on by itself; none where it was cut off.
        stuck: Option<Stuck>,
    },
    /// What lantern itself wrote down is of a format that only a later lantern reads.
    #[error(
        "{} was written by a later lantern: it is of format {found}, and this one reads up to {reads}", path.display()
    )]
    NewerState {
        /// The file.
        path: PathBuf,
        /// The format that it is of.
        found: u64,
        /// The last format that this lantern reads.
        reads: u64,
    },
    /// Whether the server is up cannot be told.
    #[error("whether the server is up cannot be told: {why}")]
    Unseen {
        /// What cannot be seen.
        why: String,
    },
    /// A catalogue as a whole cannot be read.
    #[error("the catalogue {}: {fault}", path.display())]
    Catalogue {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        fault: CatalogueFault,
    },
    /// An archive cannot be used.
    #[error("{}: {fault}", path.display())]
    Archive {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        fault: ArchiveFault,
    },
    /// An archive is not the one that the plan or catalogue means.
    #[error("{} is not the file it was: its hash is {found}, expected was {expected}", path.display())]
    OtherArchive {
        /// The file.
        path: PathBuf,
        /// Shortened hash that was expected.
        expected: String,
        /// Shortened hash that was found.
        found: String,
    },
    /// Several load-order files match.
    #[error("several files could hold the load order: {}", files.join(", "))]
    SeveralOrderFiles {
        /// They.
        files: Vec<String>,
    },
    /// A version cannot be read.
    #[error(transparent)]
    Version(#[from] VersionFault),
    /// A range of versions cannot be read.
    #[error(transparent)]
    Range(#[from] RangeFault),
    /// The target is the installed server version, and nobody knows which that is.
    #[error("the installed server version is not known; name one with --to")]
    NoServerVersion,
    /// No releases fit together; the story of what stands in the way.
    #[error("{told}")]
    Obstacle {
        /// It as a value.
        obstacle: Box<Obstacle>,
        /// It in words.
        told: String,
    },
    /// The build cannot bring the installed server's worlds forward, not even in stops.
    #[error(
        "server {to} cannot bring forward the worlds of {from}, and no stops on the way lead there"
    )]
    NoWay {
        /// The installed version.
        from: String,
        /// The version asked for.
        to: String,
    },
    /// A saved request cannot be read.
    #[error("the request {}: {fault}", path.display())]
    Request {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        fault: RequestFault,
    },
    /// No plan was asked for yet, so there is no request to explain.
    #[error("there is no question to explain: no plan has been asked for here")]
    NoRequest,
    /// No plan can be drawn although releases fit together.
    #[error("{0}")]
    Draw(#[from] DrawFault),
    /// A text is no plan.
    #[error("the plan {}: {fault}", path.display())]
    Plan {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        fault: PlanFault,
    },
    /// The plan was made for another server.
    #[error(
        "this plan was made for another server, \"{plan_server}\", not for the \"{here}\" in this folder"
    )]
    OtherServer {
        /// The server of the plan.
        plan_server: String,
        /// The server in this folder.
        here: String,
    },
    /// The folder is not as the plan saw it.
    #[error("the folder has changed since the plan was made: {}", changes.join("; "))]
    FolderChanged {
        /// What is different, each in a few words.
        changes: Vec<String>,
    },
    /// A plan that somebody wrote by hand.
    #[error("the plan writes to {path}, which is on the keep list")]
    WritesKept {
        /// The path.
        path: RelPath,
    },
    /// What a plan exchanges lies on another disk.
    #[error(
        "{path} lies on another disk than .lantern, and renames do not lead from one to the other"
    )]
    OtherDisk {
        /// The path.
        path: RelPath,
    },
    /// What is to come back from a backup lies on another disk.
    #[error(
        "{path} lies on another disk than .lantern, and renames do not lead from one to the other"
    )]
    StoredOnOtherDisk {
        /// The path.
        path: RelPath,
        /// The backup.
        name: String,
    },
    /// What a plan changes in a text does not fit that text, although the text is the one it was made for.
    #[error("the plan's change to {path} does not fit: {why}")]
    OtherText {
        /// The file.
        path: RelPath,
        /// Where, in a few words.
        why: String,
    },
    /// A plan changes nothing.
    #[error("there is nothing to do: everything is as the plan wants it")]
    NothingToDo,
    /// The server runs and nothing reaches its console.
    #[error("the server is running ({who}), and lantern has no way to its console")]
    NoConsole {
        /// The process and how it was seen.
        who: String,
    },
    /// The server was asked to stop and did not.
    #[error(
        "the server was asked to stop and is still there after {seconds} s ({who}); no file was touched"
    )]
    DidNotStop {
        /// How long it was waited for.
        seconds: u64,
        /// How it was seen.
        who: String,
    },
    /// The server did not come up.
    #[error("the server did not come up: {why}")]
    DidNotStart {
        /// Why, as far as can be told.
        why: String,
        /// The last lines that it printed.
        last: Vec<String>,
    },
    /// The server came up, and is not as planned.
    #[error("the server is up, but {why}")]
    NotRight {
        /// What is wrong.
        why: String,
        /// The last lines that it printed.
        last: Vec<String>,
    },
    /// The disk is full.
    #[error("the disk is full: {} needs {needed} bytes, {free} are free", path.display())]
    DiskFull {
        /// Where.
        path: PathBuf,
        /// Bytes needed.
        needed: u64,
        /// Bytes free.
        free: u64,
    },
    /// A file names the server's own folder, so a copy of the server would run on the live one's files.
    #[error(
        "{path}:{line} names the server's own folder, so a copy of it would run on the live server's files"
    )]
    OwnPath {
        /// The file.
        path: RelPath,
        /// The line, from 1.
        line: usize,
    },
    /// A rehearsal came near the live server.
    #[error("the rehearsal was ended: the copy had {path} of the live server open, or wrote it")]
    RehearsalTouched {
        /// The file.
        path: String,
    },
    /// Somebody called the rehearsal off.
    #[error("the rehearsal was called off; the copy is gone")]
    RehearsalOff,
    /// The changeover failed and the old state is back.
    #[error("the changeover failed, and the old state is back: {why}")]
    RolledBack {
        /// Why it failed.
        why: String,
        /// The last lines that the server printed.
        last: Vec<String>,
        /// How long the server was down, in milliseconds.
        down_ms: u64,
        /// Whether the old server runs again.
        running: bool,
    },
    /// Nothing says how the server program is made.
    #[error("neither lantern.toml nor the family has a recipe for the server program")]
    NoRecipe,
    /// A program that is to be run is not there.
    #[error("{program} cannot be run: {source}")]
    NoProgram {
        /// The program.
        program: String,
        /// What the system says.
        source: io::Error,
    },
    /// A recipe's runtime is too old, too new, or does not tell.
    #[error("the recipe needs {program} {needed}; found: {found}")]
    Runtime {
        /// The runtime's program.
        program: String,
        /// The range it has to be in.
        needed: String,
        /// The version that was found.
        found: String,
    },
    /// A recipe did not give what is wanted.
    #[error("the recipe gave no server program: {why}")]
    Recipe {
        /// Why.
        why: String,
        /// What it printed.
        log: PathBuf,
        /// The end of that.
        last: Vec<String>,
    },
    /// A command line of lantern.toml did not do what it is there for.
    #[error("{command}: {why}")]
    CommandLine {
        /// The command line.
        command: String,
        /// What happened.
        why: String,
    },
    /// The remote console cannot be used.
    #[error("the remote console at {address} {why}")]
    Remote {
        /// Where it is.
        address: String,
        /// Why not.
        why: String,
    },
    /// The console did not answer.
    #[error("the console did not answer \"{line}\"")]
    NoAnswer {
        /// What it was asked.
        line: String,
    },
    /// Something started the server again after it had been stopped.
    #[error("something has started the server again: {who}")]
    StartedAgain {
        /// How that was seen.
        who: String,
    },
    /// There is no backup of that name.
    #[error("there is no backup {0}")]
    NoBackup(String),
    /// The store has lost something, or it is damaged.
    #[error("the store of backups: {why}")]
    Store {
        /// What is wrong.
        why: String,
    },
    /// The folder for backups cannot be used.
    #[error("the folder for backups, {}, {why}", path.display())]
    StorePlace {
        /// The folder.
        path: PathBuf,
        /// Why not.
        why: String,
    },
    /// The server is up, and what is to be done needs it down.
    #[error("the server is up: {who}")]
    NeedsDown {
        /// How that was seen.
        who: String,
    },
    /// A download is no release that can be used.
    #[error("{}: {fault}", path.display())]
    Release {
        /// The download.
        path: PathBuf,
        /// Why not.
        fault: ReleaseFault,
    },
    /// A path is no text, so that no plan can name it.
    #[error("{} is no path that a plan can name, as it is not UTF-8", .0.display())]
    OddPath(PathBuf),
    /// A choice of a variant cannot be read.
    #[error("\"{0}\" chooses no variant")]
    Variant(String),
    /// A file that is to be written is there already.
    #[error("{} is there already", .0.display())]
    InTheWay(PathBuf),
    /// Nothing of that id is installed.
    #[error("{id} is not installed")]
    NotInstalled {
        /// The id that was asked for.
        id: Id,
    },
    /// The world was written since the changeover, and nobody said what becomes of it.
    #[error("the new server was used since the changeover: {}", used(.players, .written))]
    WorldUsed {
        /// Who is on.
        players: Vec<String>,
        /// What was written, new or gone.
        written: Vec<RelPath>,
        /// The server version before the changeover.
        old: String,
        /// The server version now.
        new: String,
    },
    /// The world was written since a restore, and nobody said what becomes of it.
    #[error("the server was used since {name} was put back: {}", used(.players, .written))]
    RestoredUsed {
        /// The backup.
        name: String,
        /// Who is on.
        players: Vec<String>,
        /// What was written, new or gone.
        written: Vec<RelPath>,
    },
    /// Somebody called it off before the server was stopped.
    #[error("called off before the server was stopped; no file was touched")]
    CalledOff(OperationKind),
    /// There is nothing to take back.
    #[error("there is nothing to undo: no changeover or restore is in force here")]
    NothingToUndo,
    /// No changeover was cut off.
    #[error("there is nothing to go on with: no changeover was cut off here")]
    NothingToResume,
    /// No plan was made yet.
    #[error("there is no plan {}", .0.display())]
    NoPlan(PathBuf),
    /// The server is up already.
    #[error("the server is up already: {who}")]
    AlreadyUp {
        /// How that was seen.
        who: String,
    },
    /// A path from outside is not fit to be used.
    #[error("{0}")]
    Path(#[from] PathFault),
    /// A file that has to be moved is neither where it was nor where it goes.
    #[error("{path} is neither in the server folder nor where it was moved to")]
    Lost {
        /// The path.
        path: RelPath,
    },
}

/// How a server was used: who is on, and what of its world was written.
fn used(players: &[String], written: &[RelPath]) -> String {
    let written: Vec<&str> = written.iter().map(RelPath::as_str).collect();
    let players: Vec<&str> = players.iter().map(String::as_str).collect();
    let mut told = Vec::new();
    if !players.is_empty() {
        told.push(format!("{} on now", some(&players)));
    }
    if !written.is_empty() {
        told.push(format!("{} written", some(&written)));
    }
    told.join("; ")
}

/// A few of many names, and how many more there are.
fn some(paths: &[&str]) -> String {
    let shown: Vec<&str> = paths.iter().take(3).copied().collect();
    let more = match paths.len().saturating_sub(shown.len()) {
        0 => String::new(),
        n => format!(" and {n} more"),
    };
    format!("{}{more}", shown.join(", "))
}

/// Puts a path and what was tried onto the system's errors.
pub(crate) trait At<T> {
    /// Names what was tried, and where.
    fn at(self, doing: &'static str, path: &Path) -> Result<T>;
}

impl<T> At<T> for io::Result<T> {
    fn at(self, doing: &'static str, path: &Path) -> Result<T> {
        self.map_err(|source| Error::Io {
            doing,
            path: path.into(),
            source,
        })
    }
}

impl<T> At<T> for rustix::io::Result<T> {
    fn at(self, doing: &'static str, path: &Path) -> Result<T> {
        self.map_err(io::Error::from).at(doing, path)
    }
}
