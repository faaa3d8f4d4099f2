//! What can go wrong outside the core: what any room may meet, and the faults of each room.
//!
//! A room states its own in its `fault.rs`. The advice stands in the command line program alone.

use crate::acquire::fault::AcquireFault;
use crate::adopt::fault::AdoptFault;
use crate::archive::fault::ArchiveFault;
use crate::backup::fault::BackupFault;
use crate::changeover::fault::ChangeoverFault;
use crate::clients::fault::ClientFault;
use crate::config::fault::ConfigFault;
use crate::console::fault::ConsoleFault;
use crate::culprit::fault::CulpritFault;
use crate::group::fault::GroupFault;
use crate::keep_up::fault::KeepUpFault;
use crate::night::fault::NightFault;
use crate::planning::fault::PlanningFault;
use crate::rehearsal::fault::RehearsalFault;
use crate::release::fault::ReleaseFault;
use crate::session::fault::SessionFault;
use crate::signing::fault::SigningFault;
use crate::survey::fault::SurveyFault;
use crate::told::plain;
use crate::unattended::fault::UnattendedFault;
use crate::web::fault::WebFault;
use lantern_core::catalogue::CatalogueFault;
use lantern_core::listing::ListingFault;
use lantern_core::page::TemplateFault;
use lantern_core::path::{PathFault, RelPath};
use lantern_core::plan::DrawFault;
use lantern_core::version::{RangeFault, VersionFault};
use std::io;
use std::path::{Path, PathBuf};

impl Error {
    /// Whether somebody on the web said that there is no such thing.
    pub(crate) fn is_not_there(&self) -> bool {
        let gone = |status: u16| matches!(status, 404 | 410);
        matches!(self, Error::Web { fault: WebFault::Status { status, .. }, .. } if gone(*status))
    }
}

/// The result of everything in this crate.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What can go wrong outside the core.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// A file or folder cannot be read or written.
    #[error("{doing} {} failed: {}", path.display(), plain(source))]
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
    /// A server on another machine is only looked at.
    #[error("{address} is on another machine, and {doing} is not done there yet")]
    Far {
        /// Where it is.
        address: String,
        /// What was to be done, as the beginning of a sentence's part: `a changeover`.
        doing: &'static str,
    },
    /// Somebody has worked at a server from another machine, since it was looked at for what was asked now.
    #[error(
        "this server was worked at meanwhile, {who}: what was asked now was asked of what is no longer so"
    )]
    MovedOn {
        /// Who, and where.
        who: String,
    },
    /// What is known of a server here, and what somebody else wrote down beside it, have gone apart.
    #[error(
        "what is known of this server here, and what was written down beside it, {who}, have gone apart"
    )]
    Apart {
        /// Who, and where.
        who: String,
    },
    /// The machine on which a server folder lies is not reached, or has no such folder.
    #[error("{address}: {source}")]
    NotReached {
        /// Where it should be.
        address: String,
        /// What the line, or the other end, says.
        source: io::Error,
    },
    /// What is said to be the address of a folder is none.
    #[error("{0}")]
    Address(String),
    /// The ledger cannot be read or written.
    #[error("the ledger {}: {source}", path.display())]
    Ledger {
        /// The file.
        path: PathBuf,
        /// What SQLite said.
        source: rusqlite::Error,
    },
    /// A file of certificates names nobody.
    #[error("{} holds no certificate", .0.display())]
    NoCertificate(PathBuf),
    /// What a host wants to be shown is not at hand.
    #[error("the key for {host}: {why}")]
    NoKey {
        /// The host.
        host: String,
        /// What is missing.
        why: String,
    },
    /// What has to be signed is not, or not as it should be; or it cannot be signed.
    #[error("{}: {fault}", path.display())]
    Signing {
        /// The catalogue, or the key.
        path: PathBuf,
        /// What is wrong.
        fault: SigningFault,
    },
    /// A listing is asked for each component by itself, and none was named.
    #[error("{} asks for each component by itself, and none is named", .0.display())]
    WhichComponent(PathBuf),
    /// Somebody else's listing cannot be used.
    #[error("{at}: {fault}")]
    Listing {
        /// The mapping, or the address of an answer.
        at: String,
        /// What is wrong.
        fault: ListingFault,
    },
    /// A catalogue on the web cannot be had.
    #[error("the catalogue {url}: {fault}")]
    Web {
        /// Its address.
        url: String,
        /// What went wrong.
        fault: WebFault,
    },
    /// Nothing lies at this path in the server folder.
    #[error("there is nothing at {0} in the server folder")]
    NoFile(RelPath),
    /// No operation has this number.
    #[error(
        "the history has no number {number}{}",
        .last.map_or(": nothing was done here yet".into(), |last| format!(": the last one is {last}"))
    )]
    NoOperation {
        /// The number that was asked for.
        number: i64,
        /// The last one there is.
        last: Option<i64>,
    },
    /// What is said to be learned of releases is not written as lantern writes it.
    #[error("{}: {why}", path.display())]
    Learned {
        /// The file, or the address.
        path: PathBuf,
        /// What is wrong.
        why: String,
    },
    /// Nothing that was found out has that number.
    #[error("nothing that is known here has the number {0}")]
    NoFact(u32),
    /// What an operation set aside was deleted, so that nobody knows any more how things were before it.
    #[error("what number {0} set aside was thinned out, so the state before it is no longer known")]
    ThinnedOut(i64),
    /// What lay in a drop folder was to be sent along, and is not there.
    #[error("{0} was to be sent along, and has not arrived")]
    NotSent(String),
    /// What another lantern asks for cannot be understood; why.
    #[error("what is asked for cannot be understood: {0}")]
    Misasked(String),
    /// A lantern on another machine cannot be asked.
    #[error("{machine}: {fault}")]
    Session {
        /// The machine.
        machine: String,
        /// Why.
        fault: SessionFault,
    },
    /// What a lantern on another machine was asked has failed there.
    #[error("{why}")]
    There {
        /// The machine.
        machine: String,
        /// Why, in words.
        why: String,
        /// What to do, line by line.
        advice: Vec<String>,
        /// The exit status that it would be.
        status: u8,
    },
    /// Another machine is at work in a server folder that is neither's own.
    #[error("somebody is at work there: {who}")]
    BusyThere {
        /// Who, doing what, and since when.
        who: String,
    },
    /// Another lantern is at work in the folder.
    #[error("another lantern is at work here: {who}")]
    Busy {
        /// What it does, and its process.
        who: String,
    },
    /// What lantern itself wrote down is of a format that only a later lantern reads.
    #[error(
        "{} was written by a later version of lantern: its format is {found}, and this one reads up to {reads}", path.display()
    )]
    NewerState {
        /// The file.
        path: PathBuf,
        /// The format that it is of.
        found: u64,
        /// The last format that this lantern reads.
        reads: u64,
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
    #[error("{} is not the expected file: its hash is {found}, not {expected}", path.display())]
    OtherArchive {
        /// The file.
        path: PathBuf,
        /// Shortened hash that was expected.
        expected: String,
        /// Shortened hash that was found.
        found: String,
    },
    /// A version cannot be read.
    #[error(transparent)]
    Version(#[from] VersionFault),
    /// A range of versions cannot be read.
    #[error(transparent)]
    Range(#[from] RangeFault),
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
    /// A program that is to be run is not there.
    #[error("{program} cannot be run: {}", plain(source))]
    NoProgram {
        /// The program.
        program: String,
        /// What the system says.
        source: io::Error,
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
    #[error("a plan cannot name the path {}, as it is not UTF-8", .0.display())]
    OddPath(PathBuf),
    /// A file that is to be written is there already.
    #[error("{} already exists", .0.display())]
    InTheWay(PathBuf),
    /// A path from outside is not fit to be used.
    #[error("{0}")]
    Path(#[from] PathFault),
    /// No plan can be drawn although releases fit together.
    #[error(transparent)]
    Draw(#[from] DrawFault),
    /// Why a server is not taken into care.
    #[error(transparent)]
    Adopt(#[from] AdoptFault),
    /// What is wrong with what says how a server is run.
    #[error(transparent)]
    Config(#[from] ConfigFault),
    /// Why servers do not move together.
    #[error(transparent)]
    Group(#[from] GroupFault),
    /// Why a recipe gives no server program.
    #[error(transparent)]
    Acquire(#[from] AcquireFault),
    /// What is wrong with a backup or its store.
    #[error(transparent)]
    Backup(#[from] BackupFault),
    /// Why a changeover, an undo or a restore did not go through.
    #[error(transparent)]
    Changeover(#[from] ChangeoverFault),
    /// Why the server cannot be seen, stopped, started or spoken to.
    #[error(transparent)]
    Console(#[from] ConsoleFault),
    /// Why a rehearsal was not held, or was ended.
    #[error(transparent)]
    Rehearsal(#[from] RehearsalFault),
    /// Why nothing could be looked for that makes a start fail.
    #[error(transparent)]
    Culprit(#[from] CulpritFault),
    /// The server is not kept up by itself.
    #[error(transparent)]
    KeepUp(#[from] KeepUpFault),
    /// A changeover is not carried out where nobody is there for it.
    #[error(transparent)]
    Unattended(#[from] UnattendedFault),
    /// Why no changeover waits.
    #[error(transparent)]
    Night(#[from] NightFault),
    /// Why there is no plan.
    #[error(transparent)]
    Planning(#[from] PlanningFault),
    /// A template of the administrator's cannot be filled.
    #[error("{what}, {fault}")]
    Template {
        /// Which one.
        what: String,
        /// What is wrong.
        fault: TemplateFault,
    },
    /// Nothing can be said of players' clients, or packed for them.
    #[error(transparent)]
    Client(#[from] ClientFault),
    /// Why a folder cannot be looked at.
    #[error(transparent)]
    Survey(#[from] SurveyFault),
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
