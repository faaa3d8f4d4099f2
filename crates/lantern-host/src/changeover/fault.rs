//! Why a changeover, an undo or a restore did not go through.

use lantern_core::hour::Players;
use lantern_core::operation::{OperationKind, Stuck};
use lantern_core::path::RelPath;
use std::fmt;
use std::path::PathBuf;

/// Why a changeover, an undo or a restore did not go through.
#[derive(Debug, thiserror::Error)]
pub enum ChangeoverFault {
    /// A changeover was cut off.
    #[error("{told}")]
    Interrupted {
        /// What happened and what state things are in.
        told: String,
        /// Why it could not go on by itself; none where it was cut off.
        stuck: Option<Stuck>,
    },
    /// On a server on another machine, somebody else was cut off, from his own machine.
    #[error("an operation was cut off there, {who}. {told}")]
    CutOffElsewhere {
        /// Who.
        who: String,
        /// What state things are in.
        told: String,
    },
    /// What a plan brings cannot be put where the server is.
    #[error("{}: {why}", path.display())]
    NotTaken {
        /// Where it was tried.
        path: PathBuf,
        /// What is wrong there.
        why: String,
    },
    /// The plan was made for another server.
    #[error(
        "this plan was made for another server, \"{plan_server}\", not for \"{here}\" in this folder"
    )]
    OtherServer {
        /// The server of the plan.
        plan_server: String,
        /// The server in this folder.
        here: String,
    },
    /// The server program lies outside the folder, and is not said to be the one the plan is made for.
    #[error(
        "the plan is for {id} {wanted}, which lies outside this folder, and lantern.toml says {}",
        if stated.is_empty() { "nothing of its version".into() } else { format!("that {stated} is installed") }
    )]
    NotInstalled {
        /// The program's id.
        id: String,
        /// Its version, as stated; empty where none is.
        stated: String,
        /// The version that the plan is made for.
        wanted: String,
    },
    /// The folder is not as the plan saw it.
    #[error("the folder has changed since the plan was made: {}", changes.join("; "))]
    FolderChanged {
        /// What is different, each in a few words.
        changes: Vec<String>,
    },
    /// One of lantern's own folders is something else.
    #[error(
        "{path} is not a folder but a link, or something else: what lantern puts there would end up elsewhere"
    )]
    OwnRoom {
        /// The folder.
        path: RelPath,
    },
    /// Another process runs what is to be exchanged.
    #[error(
        "process {pid} uses {path}, which is to be exchanged: a second server on the same install?"
    )]
    Shared {
        /// The process.
        pid: i32,
        /// The file.
        path: RelPath,
    },
    /// A plan that writes into lantern's own room.
    #[error("the plan writes to {path}, which is lantern's own")]
    WritesOwn {
        /// The path.
        path: RelPath,
    },
    /// A plan that somebody wrote by hand.
    #[error("the plan writes to {path}, which is on the keep list")]
    WritesKept {
        /// The path.
        path: RelPath,
    },
    /// A folder has become a link since, or a link a folder.
    #[error(
        "{path} was a folder and is now a link, or the other way round: what goes back there would end up elsewhere"
    )]
    LinksChanged {
        /// The folder.
        path: RelPath,
    },
    /// What a plan exchanges lies on another disk.
    #[error(
        "{path} is on another disk than .lantern, and files cannot be renamed from one to the other"
    )]
    OtherDisk {
        /// The path.
        path: RelPath,
    },
    /// What is to come back from a backup lies on another disk.
    #[error(
        "{path} is on another disk than .lantern, and files cannot be renamed from one to the other"
    )]
    StoredOnOtherDisk {
        /// The path.
        path: RelPath,
        /// The backup.
        name: String,
    },
    /// Both the administrator and a release have changed the same lines, and nobody has decided what is to be.
    #[error("the plan waits for {}: {}", many(ids.len()), ids.join(", "))]
    Undecided {
        /// The files with the ids of the questions.
        ids: Vec<String>,
    },
    /// What a plan changes in a text does not fit that text, although the text is the one it was made for.
    #[error("the plan's change to {path} does not fit: {why}")]
    OtherText {
        /// The file.
        path: RelPath,
        /// Where, in a few words.
        why: String,
    },
    /// A plan says that something comes to a path, and not what.
    #[error("the plan does not say what is to be put at {path}")]
    NothingComes {
        /// The path.
        path: RelPath,
    },
    /// A plan changes nothing.
    #[error("there is nothing to do: everything is already as the plan wants it")]
    NothingToDo,
    /// It was given up after the server had been stopped, and before any file was exchanged.
    #[error(
        "given up before any file was exchanged; the server had been stopped, and {}: {why}",
        if *is_up { "is up again" } else { "is down now" }
    )]
    GivenUp {
        /// Why, in words.
        why: String,
        /// What it was, where that is known.
        #[source]
        cause: Option<Box<dyn std::error::Error + Send + Sync>>,
        /// Whether the server is up.
        is_up: bool,
        /// What is wrong with it now, where it is.
        wrong: Vec<String>,
    },
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
        /// What is wrong with it now, where it does.
        wrong: Vec<String>,
        /// Files that could not be found to be put back.
        lost: Vec<RelPath>,
    },
    /// The server is up, and what is to be done needs it down.
    #[error("the server is up: {who}")]
    NeedsDown {
        /// How that was seen.
        who: String,
    },
    /// The backup that was made before an operation lies with whoever did that from another machine.
    #[error(
        "the backup that was made before it, {0}, is not here: it was made from another machine"
    )]
    BackupElsewhere(String),
    /// The world was written since the changeover, and nobody said what becomes of it.
    #[error("{} since the changeover: {used}", .used.surely())]
    WorldUsed {
        /// How.
        used: Box<Used>,
        /// The server version before the changeover.
        old: String,
        /// The server version now.
        new: String,
    },
    /// The world was written since a restore, and nobody said what becomes of it.
    #[error("{} since {name} was put back: {used}", .used.surely())]
    RestoredUsed {
        /// The backup.
        name: String,
        /// How.
        used: Box<Used>,
    },
    /// Somebody called it off before the server was stopped.
    #[error("called off before the server was stopped; no file was touched")]
    CalledOff(OperationKind),
    /// It was to be stopped only while nobody is on.
    #[error("{0}; nothing was stopped, and no file was touched")]
    NotEmpty(Players),
    /// Somebody wants it to go back, after the server was stopped.
    #[error("you asked for it to go back")]
    CalledBack,
    /// It went wrong at another server, which moves together with this one.
    #[error("it turned back, as it went wrong at {0}")]
    TurnedBack(String),
    /// There is nothing to take back.
    #[error("there is nothing to undo: no changeover or restore is in force here")]
    NothingToUndo,
    /// No changeover was cut off.
    #[error("there is nothing to resume: no changeover was cut off here")]
    NothingToResume,
    /// The plan brings a link that leads out of the server folder.
    #[error("the plan would make {path} a link that leads out of the server folder, to {target}")]
    LinkLeaves {
        /// Where it would lie.
        path: RelPath,
        /// Where it leads.
        target: String,
    },
    /// A file that has to be moved is neither where it was nor where it goes.
    #[error("{path} is neither in the server folder nor where it was moved to")]
    Lost {
        /// The path.
        path: RelPath,
    },
    /// The server came up, and is not as planned.
    #[error("the server is up, but {why}")]
    NotRight {
        /// What is wrong.
        why: String,
        /// The last lines that it printed.
        last: Vec<String>,
    },
}

/// How a server was used.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Used {
    /// Who is on.
    pub players: Vec<String>,
    /// Why that cannot be told, where it cannot.
    pub unseen: Option<String>,
    /// What of its world was written, new or gone.
    pub written: Vec<RelPath>,
}

impl Used {
    /// Whether nothing speaks for it; that something could not be seen does.
    pub fn is_not(&self) -> bool {
        *self == Used::default()
    }

    /// Whether it was, or only may have been.
    fn surely(&self) -> &'static str {
        match (self.written.is_empty(), self.players.is_empty()) {
            (false, _) => "the world has been written to",
            (true, false) => "the server has been used",
            (true, true) => "the server may have been used",
        }
    }
}

impl fmt::Display for Used {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let written: Vec<&str> = self.written.iter().map(RelPath::as_str).collect();
        let players: Vec<&str> = self.players.iter().map(String::as_str).collect();
        let mut told = Vec::new();
        if !written.is_empty() {
            told.push(some(&written));
        }
        if !players.is_empty() {
            told.push(format!("{} on now", some(&players)));
        }
        if let Some(why) = &self.unseen {
            told.push(format!("who is on cannot be told ({why})"));
        }
        f.write_str(&told.join("; "))
    }
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

fn many(questions: usize) -> String {
    match questions {
        1 => "a decision".into(),
        many => format!("{many} decisions"),
    }
}
