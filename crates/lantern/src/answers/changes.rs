//! What was changed, and taken back.

use lantern_core::component::Id;
use lantern_core::keep_up::{Left, Waits};
use lantern_core::operation::{Detail, OperationKind};
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
use lantern_host::changeover::{Now, Report, TakenOver, Undone};
use lantern_host::difference::Difference;
use lantern_host::keep_up::Proposal;
use lantern_host::night;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

/// `changeover`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ChangeoverDone {
    number: i64,
    running: bool,
    down_ms: Option<u64>,
    stop_ms: Option<u64>,
    own_ms: u64,
    /// How long it waited for servers that are down together with it.
    waited_ms: u64,
    start_ms: u64,
    by_hand_ms: u64,
    bad: Option<String>,
    loaded: Option<usize>,
    backup: String,
}

impl From<&Report> for ChangeoverDone {
    fn from(report: &Report) -> ChangeoverDone {
        ChangeoverDone {
            number: report.number,
            running: report.running,
            down_ms: report.times.total_ms(),
            stop_ms: report.times.stop_ms,
            own_ms: report.times.own_ms,
            waited_ms: report.times.waited_ms,
            start_ms: report.times.start_ms,
            by_hand_ms: report.times.by_hand_ms,
            bad: report.bad.clone(),
            loaded: report.loaded,
            backup: report.backup.clone(),
        }
    }
}

/// `history`
#[derive(Debug, Serialize, JsonSchema)]
pub struct History {
    /// What was done, the first first.
    pub operations: Vec<PastOperation>,
}

/// One operation in the history.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PastOperation {
    number: i64,
    kind: OperationKind,
    ended_ms: i64,
    from: String,
    to: String,
    undone: bool,
    failed: Option<String>,
    thinned: bool,
    aside: Vec<PathBuf>,
    files: usize,
    bytes: u64,
}

impl PastOperation {
    /// One operation; `shown` is where a folder of its own lies for others.
    pub fn new(
        past: &lantern_host::history::PastOperation,
        shown: impl Fn(&RelPath) -> PathBuf,
    ) -> PastOperation {
        let operation = &past.operation;
        PastOperation {
            number: operation.number,
            kind: operation.kind,
            ended_ms: operation.ended_ms,
            from: operation.from.clone(),
            to: operation.to.clone(),
            undone: operation.undone,
            failed: operation.failed.clone(),
            thinned: operation.is_thinned,
            aside: past.aside.iter().map(shown).collect(),
            files: past.files,
            bytes: past.bytes,
        }
    }
}

/// `outlook --updates`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Updates<'a> {
    updates: Vec<Update<'a>>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Update<'a> {
    id: &'a Id,
    from: &'a str,
    to: &'a str,
}

impl<'a> Updates<'a> {
    /// Newer releases: what, from which version, to which.
    pub fn new(newer: &'a [(Id, String, String)]) -> Updates<'a> {
        let newer = newer.iter();
        let updates = newer.map(|(id, from, to)| Update { id, from, to });
        Updates {
            updates: updates.collect(),
        }
    }
}

/// Any command that fails
#[derive(Debug, Serialize, JsonSchema)]
pub struct Failure {
    /// What went wrong.
    pub error: String,
    /// What to do, line by line.
    pub advice: Vec<String>,
    /// The exit status.
    pub exit_status: u8,
    /// Where no releases fit together: how many independent problems there are.
    pub conflicts: Option<usize>,
}

/// `diff`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Differences<'a> {
    /// Each file that was looked at, by path.
    pub differences: &'a [Difference],
}

/// `history N`
#[derive(Debug, Serialize, JsonSchema)]
pub struct OperationTold<'a> {
    /// Its line in the history.
    #[serde(flatten)]
    pub operation: PastOperation,
    /// What it did.
    pub detail: &'a Detail,
}

/// `history --thin`
#[derive(Debug, Serialize, JsonSchema)]
pub struct HistoryThinned {
    /// How many operations.
    pub thinned: usize,
    /// How many files.
    pub files: usize,
    /// How large they were together.
    pub bytes: u64,
}

/// `keep-up`, where it carries nothing out; otherwise it answers as `changeover`
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeptUp<'a> {
    /// Where the plan lies; null where nothing moves.
    saved: Option<&'a PathBuf>,
    plan: Option<&'a Plan>,
    waits: &'a [Waits],
    left: &'a [Left],
    /// Releases whose files could not be had.
    missing: &'a [String],
}

impl<'a> KeptUp<'a> {
    /// What was proposed.
    pub fn new(proposal: &'a Proposal) -> KeptUp<'a> {
        KeptUp {
            saved: proposal.plan.as_ref().map(|_| &proposal.path),
            plan: proposal.plan.as_ref(),
            waits: &proposal.waits,
            left: &proposal.left,
            missing: &proposal.missing,
        }
    }
}

/// `undo`
#[derive(Debug, Serialize, JsonSchema)]
pub struct UndoDone<'a> {
    number: i64,
    server_version: Option<&'a str>,
    restored: Option<&'a str>,
    down_ms: Option<u64>,
    with_world: bool,
    running: bool,
    wrong: &'a [String],
    written_since: &'a [RelPath],
}

impl<'a> From<&'a Undone> for UndoDone<'a> {
    fn from(undone: &'a Undone) -> UndoDone<'a> {
        let (server_version, restored) = match &undone.now {
            Now::At(version) => (Some(version.as_str()), None),
            Now::Before(name) => (None, Some(name.as_str())),
            Now::Untouched => (None, None),
        };
        UndoDone {
            number: undone.number,
            server_version,
            restored,
            down_ms: undone.down_ms,
            with_world: undone.with_world,
            running: undone.running,
            wrong: &undone.wrong,
            written_since: &undone.set_aside,
        }
    }
}

/// `take-over`
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakeOverDone<'a> {
    /// Who was at work, or was cut off; null where nobody was.
    who: Option<&'a str>,
    /// What was cut off, and what state things were in; null where nothing was.
    told: Option<&'a str>,
    /// Files that were put back.
    back: usize,
    /// Files that cannot be found to be put back.
    lost: &'a [RelPath],
    /// Whose records were taken, where those of this machine had gone apart from them; null where they had not.
    records: Option<&'a str>,
}

impl<'a> From<&'a TakenOver> for TakeOverDone<'a> {
    fn from(taken: &'a TakenOver) -> TakeOverDone<'a> {
        TakeOverDone {
            who: taken.who.as_deref(),
            told: taken.told.as_deref(),
            back: taken.back,
            lost: &taken.lost,
            records: taken.records.as_deref(),
        }
    }
}

/// `changeover --call-off`.
#[derive(Serialize, JsonSchema)]
pub struct NightCalledOff {
    /// What waited.
    pub called_off: night::NightWait,
}
