//! What is done to a server, as a value; and what comes next in it, whatever has happened.
//!
//! An [`Operation`] is a changeover, an undo or a restore, each with its own data, with the renames that
//! carry it out and with what is recorded when it has ended. The [`next`] table decides what comes next,
//! on the way forward, on the way back and after a cut; nobody else does.

mod detail;
mod next;
#[cfg(test)]
mod tests;
mod way_back;

pub use detail::{Detail, StepTaken, Times};
pub use next::{Action, Came, Direction, Ending, Seen, ServerSeen, Stuck, Trouble, next};
pub use way_back::WayBack;

use crate::component::Id;
use crate::inventory::Remembered;
use crate::path::{PathFault, RelPath};
use crate::plan::{ActionKind, OWN, Plan, remembered_after};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// The number of the format in which operations, and the ways back from them, are written down.
pub const FORMAT: u32 = 2;

/// One thing that is done to a server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Operation {
    /// The number it has in the ledger.
    pub number: i64,
    /// Whether the server was up when it began; of several, whether any was.
    pub was_up: bool,
    /// Of several servers of one install, those that are stopped and started; none where there is only one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub servers: Vec<Concerned>,
    /// Settings that say something else until it ends.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub paused: Vec<Paused>,
    /// What is done.
    pub work: Work,
    /// The renames that carry it out, in order.
    pub moves: Vec<Move>,
    /// What is recorded when it has succeeded.
    pub record: Record,
    /// The links that were taken for folders when it began; none where that was not written down.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub followed: Option<BTreeSet<RelPath>>,
}

/// One of several servers of an install, which an operation stops and starts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Concerned {
    /// Its name.
    pub name: String,
    /// Whether it was up when the operation began.
    pub was_up: bool,
}

/// A setting that says something else while an operation is under way.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Paused {
    /// The file.
    pub path: RelPath,
    /// What the family calls the setting.
    pub flag: String,
    /// What it said before.
    pub was: String,
}

/// What an operation does, with the data of its own kind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub enum Work {
    /// A plan is carried out.
    Changeover {
        /// The plan.
        plan: Box<Plan>,
        /// The backup of the keep list with the server down, once it is made.
        backup: Option<String>,
        /// Whether the new state stays even when the server does not come up with it as it should.
        stays: bool,
    },
    /// An earlier operation is taken back.
    Undo {
        /// What is taken back.
        of: Undoable,
        /// What becomes of the world.
        world: World,
    },
    /// A backup is put back where it came from.
    Restore {
        /// The backup's name.
        backup: String,
        /// What of the server folder is put back.
        extent: Extent,
    },
}

/// An operation that is taken back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub enum Undoable {
    /// A changeover between two server versions.
    Changeover {
        /// The server version before it.
        from: String,
        /// The server version after it.
        to: String,
    },
    /// A restore.
    Restore {
        /// The backup that was put back.
        backup: String,
    },
}

/// What was done, in one word.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum OperationKind {
    /// A plan was carried out.
    Changeover,
    /// One of the others was taken back.
    Undo,
    /// A backup was put back where it came from.
    Restore,
}

impl OperationKind {
    /// All of them.
    pub const ALL: [OperationKind; 3] = [
        OperationKind::Changeover,
        OperationKind::Undo,
        OperationKind::Restore,
    ];

    /// Its name.
    pub fn as_str(self) -> &'static str {
        match self {
            OperationKind::Changeover => "changeover",
            OperationKind::Undo => "undo",
            OperationKind::Restore => "restore",
        }
    }
}

/// How far an operation has come; what comes before was done and synced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Phase {
    /// New files are being unpacked beside the server; nothing of it has been touched.
    Preparing,
    /// The server has been asked to stop; no file has been touched.
    Stopping,
    /// Files are being renamed.
    Swapping,
    /// The files are in place; the server is being started.
    Starting,
    /// It failed, and the state before is being put back.
    GoingBack,
    /// It is done, or the state before is back; only what is left over has still to go.
    Ending,
}

/// What becomes of the world when a changeover is taken back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum World {
    /// It stays; but where it was written since, that is asked for first.
    Ask,
    /// It stays, whatever was written since.
    Keep,
    /// It comes back from the backup; what was written since is set aside.
    Bring,
}

/// What a backup is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Scope {
    /// What is on the keep list: worlds, players.
    Kept,
    /// Every file of the server folder but lantern's own.
    Everything,
}

/// What of a server folder a restore puts back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Extent {
    /// What the backup is of.
    pub scope: Scope,
    /// These files and folders alone; all, where there are none.
    pub only: Vec<RelPath>,
}

impl Extent {
    /// Whether a path was asked for.
    pub fn asks_for(&self, path: &RelPath) -> bool {
        self.only.is_empty() || self.only.iter().any(|part| path.is_within(part))
    }
}

/// One rename inside the server folder.
///
/// One of its ends lies in lantern's own folder, at a place that no other move uses; so what was done
/// before a cut can be told from the disk alone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Move {
    /// Where the file is.
    pub from: RelPath,
    /// Where it goes.
    pub to: RelPath,
    /// BLAKE3 of what is moved: of what goes out of the way, looked at again right before; of what comes, to tell
    /// later whether it was written since. None where it may be anything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expects: Option<String>,
}

/// Whether a path is in lantern's own folder.
pub fn is_own(path: &RelPath) -> bool {
    path.below(OWN).is_some()
}

impl Move {
    /// Something comes from lantern's own folder.
    pub fn comes(staging: &str, path: &RelPath) -> Result<Move, PathFault> {
        Ok(Move {
            from: RelPath::parse(&format!("{staging}/{path}"))?,
            to: path.clone(),
            expects: None,
        })
    }

    /// Something goes to lantern's own folder.
    pub fn goes(aside: &str, path: &RelPath, expects: Option<String>) -> Result<Move, PathFault> {
        Ok(Move {
            from: path.clone(),
            to: RelPath::parse(&format!("{aside}/{path}"))?,
            expects,
        })
    }

    /// Whether a file comes into the server folder by it.
    pub fn brings(&self) -> bool {
        is_own(&self.from)
    }

    /// The move that takes this one back.
    pub fn back(&self) -> Move {
        Move {
            from: self.to.clone(),
            to: self.from.clone(),
            expects: None,
        }
    }

    /// The end that lies in the server folder proper.
    pub fn path(&self) -> &RelPath {
        if self.brings() { &self.to } else { &self.from }
    }
}

/// What the ledger learns when an operation has succeeded.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Record {
    /// What it will remember of each path; none where it forgets it.
    pub files: BTreeMap<RelPath, Option<Remembered>>,
    /// The variant that is chosen of each component; none where none is any more.
    pub variants: BTreeMap<Id, Option<String>>,
    /// The operation that is taken back.
    pub takes_back: Option<i64>,
}

impl Record {
    /// What the ledger has to learn to be again as it is now, before this.
    pub fn reversed(
        &self,
        files: &BTreeMap<RelPath, Remembered>,
        variants: &BTreeMap<Id, String>,
    ) -> Record {
        let paths = self.files.keys();
        let ids = self.variants.keys();
        Record {
            files: paths
                .map(|path| (path.clone(), files.get(path).cloned()))
                .collect(),
            variants: ids
                .map(|id| (id.clone(), variants.get(id).cloned()))
                .collect(),
            takes_back: None,
        }
    }
}

impl Operation {
    /// A plan that is to be carried out: what is renamed by it, and what is recorded of it.
    ///
    /// `remembered` is what the ledger knows before; `staging` and `aside` are folders of lantern's own.
    ///
    /// # Errors
    /// When a path becomes too long below one of those folders.
    pub fn changeover(
        number: i64,
        (was_up, servers): (bool, Vec<Concerned>),
        plan: Plan,
        stays: bool,
        remembered: &BTreeMap<RelPath, Remembered>,
        (staging, aside): (&str, &str),
    ) -> Result<Operation, PathFault> {
        let goes = |kind| {
            matches!(
                kind,
                ActionKind::SetAside | ActionKind::Replace | ActionKind::Edit
            )
        };
        let comes = |kind| {
            matches!(
                kind,
                ActionKind::Place | ActionKind::Replace | ActionKind::Edit
            )
        };
        let mut moves = Vec::new();
        for action in plan.actions.iter().filter(|action| goes(action.what)) {
            moves.push(Move::goes(aside, &action.path, action.before.clone())?);
        }
        for action in plan.actions.iter().filter(|action| comes(action.what)) {
            moves.push(Move {
                expects: action.after.clone(),
                ..Move::comes(staging, &action.path)?
            });
        }
        let gone = plan.of(ActionKind::SetAside).map(|action| &action.path);
        let gone = gone.filter(|path| remembered.contains_key(*path));
        let mut files: BTreeMap<_, _> = gone.map(|path| (path.clone(), None)).collect();
        let known = remembered_after(&plan, remembered).into_iter();
        files.extend(known.map(|(path, known)| (path, Some(known))));
        let chosen = plan.components.iter();
        let chosen = chosen.filter_map(|it| Some((it.id.clone(), Some(it.variant.clone()?))));
        let record = Record {
            files,
            variants: chosen.collect(),
            takes_back: None,
        };
        let work = Work::Changeover {
            plan: Box::new(plan),
            backup: None,
            stays,
        };
        Ok(Operation {
            number,
            was_up,
            servers,
            paused: Vec::new(),
            work,
            moves,
            record,
            followed: None,
        })
    }

    /// An edit that was made anew, as its text had been written since: what is there now, and what comes.
    pub fn edited_anew(&mut self, path: &RelPath, before: &str, after: &str) {
        for step in &mut self.moves {
            if step.from == *path {
                step.expects = Some(before.into());
            }
            if step.to == *path && step.brings() {
                step.expects = Some(after.into());
            }
        }
        if let Some(Some(known)) = self.record.files.get_mut(path) {
            known.hash = after.into();
        }
        if let Work::Changeover { plan, .. } = &mut self.work {
            for action in plan
                .actions
                .iter_mut()
                .filter(|action| action.path == *path)
            {
                action.before = Some(before.into());
                action.after = Some(after.into());
            }
        }
    }

    /// Its kind.
    pub fn kind(&self) -> OperationKind {
        match &self.work {
            Work::Changeover { .. } => OperationKind::Changeover,
            Work::Undo { .. } => OperationKind::Undo,
            Work::Restore { .. } => OperationKind::Restore,
        }
    }

    /// What of it decides what comes next.
    pub fn facts(&self) -> Facts {
        let stays = match &self.work {
            Work::Changeover { stays, .. } => *stays,
            // To have gone back is what was wanted, however the server then does.
            Work::Undo { .. } | Work::Restore { .. } => true,
        };
        Facts {
            kind: self.kind(),
            was_up: self.was_up,
            stays,
        }
    }

    /// Where it comes from and where it leads, as the history shows it: server versions, or a backup's name.
    pub fn ends(&self) -> (&str, &str) {
        match &self.work {
            Work::Changeover { plan, .. } => (plan.from.as_deref().unwrap_or(UNKNOWN), &plan.to),
            Work::Undo { of, .. } => match of {
                Undoable::Changeover { from, to } => (to, from),
                Undoable::Restore { backup } => (backup, ""),
            },
            Work::Restore { backup, .. } => ("", backup),
        }
    }

    /// The backup that it made, or puts back.
    pub fn backup(&self) -> Option<&str> {
        match &self.work {
            Work::Changeover { backup, .. } => backup.as_deref(),
            Work::Restore { backup, .. } => Some(backup),
            Work::Undo { .. } => None,
        }
    }

    /// How it is taken back once it has succeeded; an undo is not. `files` and `variants` are what the
    /// ledger knows before it is recorded.
    pub fn way_back(
        &self,
        files: &BTreeMap<RelPath, Remembered>,
        variants: &BTreeMap<Id, String>,
    ) -> Option<WayBack> {
        let restored = match &self.work {
            Work::Changeover { .. } => None,
            Work::Restore { extent, .. } => Some(extent.clone()),
            Work::Undo { .. } => return None,
        };
        Some(WayBack {
            format: FORMAT,
            moves: self.moves.clone(),
            record: self.record.reversed(files, variants),
            backup: self.backup().unwrap_or_default().to_owned(),
            restored,
            followed: self.followed.clone(),
        })
    }

    /// What it is, and in which state a cut in a phase leaves things, in two lines.
    pub fn cut_off(&self, phase: Phase) -> String {
        format!("{} was cut off\n{}", self.told(), phase.state())
    }

    /// What it is, as the beginning of a sentence.
    pub fn told(&self) -> String {
        match &self.work {
            Work::Changeover { .. } => {
                let (from, to) = self.ends();
                format!("A changeover, {from} to {to},")
            }
            Work::Undo { of, .. } => match of {
                Undoable::Changeover { from, to } => format!("An undo, {to} back to {from},"),
                Undoable::Restore { backup } => format!("An undo of the restore of {backup}"),
            },
            Work::Restore { backup, .. } => format!("A restore of {backup}"),
        }
    }
}

/// What stands for a server version that is not known.
pub const UNKNOWN: &str = "unknown";

/// What of an operation decides what comes next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Facts {
    /// Its kind.
    pub kind: OperationKind,
    /// Whether the server was up when it began.
    pub was_up: bool,
    /// Whether it stays done though the server does not come up as it should.
    pub stays: bool,
}

impl Phase {
    /// All of them, in their order.
    pub const ALL: [Phase; 6] = [
        Phase::Preparing,
        Phase::Stopping,
        Phase::Swapping,
        Phase::Starting,
        Phase::GoingBack,
        Phase::Ending,
    ];

    /// In which state a cut in it leaves things.
    fn state(self) -> &'static str {
        match self {
            Phase::Preparing => {
                "while new files were being unpacked; no file of the server was touched."
            }
            Phase::Stopping => "while the server was being stopped; none of its files was touched.",
            Phase::Swapping => "while files were being exchanged: some are old, some are new.",
            Phase::Starting => "while the server was being started; all files are exchanged.",
            Phase::GoingBack => "while the state before was being put back.",
            Phase::Ending => "at its very end: all files are where they belong.",
        }
    }
}

/// An operation that has begun and not ended, as it is written down before each phase.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Journal {
    /// The number of the format: 2.
    pub format: u32,
    /// How far it has come.
    pub phase: Phase,
    /// The operation.
    pub operation: Operation,
    /// Why it is being taken back, the first reason that there was.
    pub failed: Option<String>,
}
