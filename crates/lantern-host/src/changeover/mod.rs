//! Carrying a plan out, and going back.
//!
//! The files of an operation, all in `.lantern/`: `journal.json` says what is being done,
//! `staging/NNNN` holds what comes, `set-aside/NNNN` what went. The swap is renames between those and
//! the server folder, on one file system; each can be done again or taken back. What comes next is for
//! [`lantern_core::operation::next`] to say; [`run`] asks it, and [`steps`] does it.

pub mod by_hand;
mod carrying;
pub(crate) mod check;
pub mod fault;
#[cfg(test)]
mod faults;
#[cfg(all(test, feature = "far"))]
mod faults_afar;
mod journal;
mod moves;
mod near;
mod parcel;
mod paused;
mod restore;
mod run;
mod sending;
mod servers;
mod stage;
#[cfg(test)]
mod states;
mod steps;
mod taking_over;
mod undo;
mod whole;

pub use restore::{Restored, restore};
pub use taking_over::{TakenOver, left_by, take_over};
pub use undo::{Now, Undone, undo};

use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::console::fault::ConsoleFault;
use crate::console::{Console, Log, ServerState};
use crate::error::{Error, Result};
use crate::folder::{own, safe_name};
use crate::ledger::Ledger;
use crate::lock;
use crate::records;
use crate::survey::{Depth, survey};
use lantern_core::operation::{
    Came, Direction, Ending, Journal, Move, Operation, OperationKind, Phase, Times, UNKNOWN, Work,
};
use lantern_core::plan::{Plan, Step};
use run::Run;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What an operation tells while it is under way.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Event {
    /// A step begins.
    Begins(Step),
    /// Seconds that players were warned, of those they are.
    Warned(u64, u64),
    /// The step that has begun is done: what it did.
    Done(Step, String),
    /// The copy for a rehearsal is made.
    Copied(Copied),
    /// The servers are starting.
    Waiting {
        /// How long the start before took, in milliseconds.
        before_ms: Option<u64>,
        /// How long it may take, in seconds.
        limit_s: u64,
        /// Where each prints to; nobody on another machine reads that.
        #[serde(skip)]
        outputs: Vec<Log>,
    },
    /// It failed; the old state is being put back.
    GoesBack(String),
}

/// How the copy for a rehearsal was made.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Copied {
    /// Files that share their content with the live one until one of them is written.
    pub cloned: usize,
    /// Files that were copied.
    pub copied: usize,
    /// Their size in bytes.
    pub bytes: u64,
    /// Links, devices and odd names, which are not in the copy.
    pub left_out: Vec<String>,
}

/// What a changeover came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// Its number in the ledger.
    pub number: i64,
    /// Whether the server was up when it began.
    pub was_up: bool,
    /// Of several servers of one install, those that were stopped and started.
    pub servers: Vec<String>,
    /// How long the server was away, and why.
    pub times: Times,
    /// Whether the server runs now.
    pub running: bool,
    /// How many components the server says it has loaded; none where it cannot tell.
    pub loaded: Option<usize>,
    /// What was seen of the components that have to run, in words; empty where nothing was looked at.
    pub seen: String,
    /// What is wrong with the new state, where it was to stay all the same.
    pub bad: Option<String>,
    /// The backup's name.
    pub backup: String,
}

impl Report {
    /// Stops a server again that was down before, and was only started to be looked at. The operation ends with that:
    /// what the start wrote is its doing, and nobody's since.
    ///
    /// # Errors
    /// When it does not stop, or the ledger cannot be written.
    pub fn stop_again(&mut self, server: &Server, ledger: &Ledger) -> Result<()> {
        let each = self.servers.iter();
        let named = each.map(|name| Ok(server.chosen(Some(name))?.remove(0)));
        let named: Vec<Server> = named.collect::<Result<_>>()?;
        let each = if named.is_empty() {
            server.each()
        } else {
            named
        };
        for one in &each {
            Console::of(one).stop()?;
        }
        self.running = false;
        ledger.ended(self.number, jiff::Timestamp::now().as_millisecond())?;
        records::share(&server.folder, &server.config.id)
    }
}

/// The plan of a changeover that was cut off; none where none was.
///
/// # Errors
/// When the journal cannot be read.
pub fn cut_off_plan(server: &Server) -> Result<Option<Plan>> {
    let journal = journal::read(server)?;
    Ok(journal.and_then(|journal| match journal.operation.work {
        Work::Changeover { plan, .. } => Some(*plan),
        Work::Undo { .. } | Work::Restore { .. } => None,
    }))
}

/// Refuses to go on where an operation was cut off.
///
/// # Errors
/// [`ChangeoverFault::Interrupted`] with what state things are in.
pub fn refuse_interrupted(server: &Server) -> Result<()> {
    match journal::read(server)? {
        Some(journal) => Err(Error::Changeover(ChangeoverFault::Interrupted {
            told: journal.operation.cut_off(journal.phase),
            stuck: None,
        })),
        None => Ok(()),
    }
}

/// What goes on in a server folder besides the command that looks.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Meanwhile {
    /// Nothing.
    Nothing,
    /// Another lantern is at work; in words.
    UnderWay(String),
    /// An operation was cut off, and what state things are in.
    CutOff(String),
    /// On a server on another machine, somebody else's was cut off; who, and what state things are in.
    CutOffElsewhere(String),
}

/// Whether another lantern is at work in a folder, or was cut off there.
///
/// # Errors
/// When that cannot be seen.
pub fn meanwhile(server: &Server) -> Result<Meanwhile> {
    let holder = lock::holder(&server.folder)?.or(lock::holder_there(server)?);
    let journal = match journal::read(server) {
        Err(error @ Error::Changeover(ChangeoverFault::CutOffElsewhere { .. })) => {
            return Ok(match holder {
                Some(who) => Meanwhile::UnderWay(format!("{who} is at work there")),
                None => Meanwhile::CutOffElsewhere(error.to_string()),
            });
        }
        journal => journal?,
    };
    Ok(match (holder, journal) {
        (Some(who), Some(journal)) => {
            Meanwhile::UnderWay(format!("{} is under way: {who}", journal.operation.told()))
        }
        (Some(who), None) => Meanwhile::UnderWay(format!("{who} is at work here")),
        (None, Some(journal)) => Meanwhile::CutOff(journal.operation.cut_off(journal.phase)),
        (None, None) => Meanwhile::Nothing,
    })
}

/// Carries a plan out. On failure after the server was stopped, the old state is put back; with
/// `stays`, the new one stays where all files are in place, whatever the server then does.
///
/// # Errors
/// Before the swap: what stands in the way, nothing touched. After it: [`ChangeoverFault::RolledBack`].
pub fn changeover(
    server: &Server,
    ledger: &mut Ledger,
    plan: Plan,
    stays: bool,
    tell: &mut dyn FnMut(Event),
) -> Result<Report> {
    refuse_interrupted(server)?;
    begin(server, ledger, plan, stays, tell)
}

/// Looks at what a changeover would refuse, and does nothing.
///
/// # Errors
/// What stands in the way.
pub fn look_ahead(server: &Server, plan: &Plan) -> Result<()> {
    let server = &server.keeping(plan.keep.patterns.iter().map(String::as_str))?;
    if plan.is_empty() {
        return Err(ChangeoverFault::NothingToDo.into());
    }
    check::decided(plan)?;
    check::program(server, plan)?;
    let mut ledger = Ledger::open(&server.folder)?;
    let found = survey(server, &mut ledger, Depth::Usual)?;
    check::matches(server, plan, &found)?;
    check::not_shared(server, plan)?;
    servers::concerned(&named(server, plan)?, reachable).map(|_| ())
}

/// Carries a plan out from the beginning.
fn begin(
    server: &Server,
    ledger: &mut Ledger,
    plan: Plan,
    stays: bool,
    tell: &mut dyn FnMut(Event),
) -> Result<Report> {
    let server = &server.keeping(plan.keep.patterns.iter().map(String::as_str))?;
    tell(Event::Begins(Step::Check));
    // Of a copy it may be of interest whether it starts as it is.
    if plan.is_empty() && server.copy_of.is_none() {
        return Err(ChangeoverFault::NothingToDo.into());
    }
    check::decided(&plan)?;
    check::program(server, &plan)?;
    let found = survey(server, ledger, Depth::Usual)?;
    check::matches(server, &plan, &found)?;
    check::not_shared(server, &plan)?;
    let each = named(server, &plan)?;
    let were = servers::concerned(&each, reachable)?;
    let number = ledger.next_number()?;
    let from = plan.from.as_deref().unwrap_or(UNKNOWN);
    let aside = own(&format!(
        "set-aside/{}",
        telling_name(server, number, from, &plan.to)
    ));
    let folders = (&*stage::folder_name(number), aside.as_str());
    let paths = plan.actions.len();
    let operation = Operation::changeover(number, were, plan, stays, &found.remembered, folders)?;
    let exchanged = operation.moves.iter().map(Move::path).collect();
    let operation = Operation {
        paused: paused::to_pause(server, &exchanged)?,
        ..operation
    };
    tell(Event::Done(
        Step::Check,
        format!("{paths} paths are as planned"),
    ));
    let mut run = Run::begin(server, ledger, operation, tell)?;
    report(&mut run, Came::Itself)
}

/// The servers that a plan stops and starts: those that it names, or all that run on the install.
///
/// # Errors
/// When one of them is not among those of `lantern.toml` any more.
pub fn named(server: &Server, plan: &Plan) -> Result<Vec<Server>> {
    if plan.servers.is_empty() {
        return Ok(server.each());
    }
    let each = plan.servers.iter();
    let each = each.map(|name| Ok(server.chosen(Some(name))?.remove(0)));
    each.collect()
}

/// Whether the server is up.
///
/// # Errors
/// When it is, or may be, and lantern has no way to it.
fn reachable(server: &Server) -> Result<bool> {
    let console = Console::of(server);
    let state = console.state()?;
    console.refuse_second(&state)?;
    match state {
        ServerState::Down => return Ok(false),
        // Whoever stops it by hand knows.
        ServerState::Foreign { .. } if console.is_by_hand() => return Ok(true),
        ServerState::Unknown { .. } if console.can_be_told() => return Ok(true),
        ServerState::Foreign { who } => {
            return Err(ConsoleFault::NoConsole { who }.into());
        }
        ServerState::Unknown { why } => return Err(ConsoleFault::Unseen { why }.into()),
        ServerState::Ours(_) | ServerState::Reached { .. } => {}
    }
    console.probe()?;
    Ok(true)
}

/// Takes an operation to its end, and reports on it where it has succeeded.
fn report(run: &mut Run<'_, '_>, came: Came) -> Result<Report> {
    let ended = run.run_to_end(came)?;
    finished(run, ended)
}

/// The report on an operation that has succeeded.
///
/// # Errors
/// When it has not.
fn finished(run: &mut Run<'_, '_>, ended: run::Ended) -> Result<Report> {
    let bad = match ended.ending {
        Ending::Done => None,
        Ending::DoneBadly => ended.failure.map(|error| error.to_string()),
        _ => return Err(run.error(ended)),
    };
    if run.journal.operation.was_up {
        run.servers.stop_what_was_down()?;
    }
    Ok(Report {
        number: run.journal.operation.number,
        times: run.times(),
        was_up: run.journal.operation.was_up,
        servers: names_in(&run.journal.operation),
        running: bad.is_none() && run.journal.operation.kind() == OperationKind::Changeover
            || !run.servers.are_down()?,
        loaded: run.learnt.loaded,
        seen: run.learnt.seen.clone(),
        bad,
        backup: run
            .journal
            .operation
            .backup()
            .unwrap_or_default()
            .to_owned(),
    })
}

/// Goes on with an operation that was cut off.
///
/// # Errors
/// When none was; otherwise as [`changeover`].
pub fn resume(
    server: &Server,
    ledger: &mut Ledger,
    stays: bool,
    tell: &mut dyn FnMut(Event),
) -> Result<Report> {
    let mut journal = journal::read(server)?.ok_or(ChangeoverFault::NothingToResume)?;
    if let Work::Changeover { stays: told, .. } = &mut journal.operation.work {
        *told |= stays;
    }
    let server = &keeping_as(server, &journal)?;
    same_as_then(server, &journal)?;
    let mut run = Run::cut_off(server, ledger, journal, tell)?;
    // What begins anew goes on from what was sent.
    run.learnt.keeps_sent = run.journal.phase == Phase::Preparing;
    let ended = run.run_to_end(Came::CutOff(Direction::Onward))?;
    if ended.ending != Ending::Anew {
        return finished(&mut run, ended);
    }
    let Run {
        ledger,
        journal,
        tell,
        ..
    } = run;
    let number = journal.operation.number;
    let was_up = journal.operation.was_up;
    let servers = names_in(&journal.operation);
    let untimed = |running, backup| Report {
        number,
        was_up,
        servers: servers.clone(),
        times: Times::default(),
        running,
        loaded: None,
        seen: String::new(),
        bad: None,
        backup,
    };
    match journal.operation.work {
        Work::Changeover { plan, stays, .. } => begin(server, ledger, *plan, stays, tell),
        Work::Undo { world, .. } => {
            let undone = undo(server, ledger, world, tell)?;
            Ok(untimed(undone.running, String::new()))
        }
        Work::Restore { backup, extent } => {
            restore(server, ledger, &backup, &extent.only, tell)?;
            Ok(untimed(false, String::new()))
        }
    }
}

fn names_in(operation: &Operation) -> Vec<String> {
    let servers = operation.servers.iter();
    servers.map(|one| one.name.clone()).collect()
}

/// Refuses to go on with an operation, or back, where folders that it exchanges files in have become links since, or a server
/// that it stops and starts is stated no more.
fn same_as_then(server: &Server, journal: &Journal) -> Result<()> {
    let operation = &journal.operation;
    for one in &operation.servers {
        server.chosen(Some(&one.name))?;
    }
    let ends = operation
        .moves
        .iter()
        .flat_map(|step| [&step.from, &step.to]);
    check::same_links(server, operation.followed.as_ref(), ends)
}

/// The server with what the plan of an operation keeps, too.
fn keeping_as(server: &Server, journal: &Journal) -> Result<Server> {
    match &journal.operation.work {
        Work::Changeover { plan, .. } => {
            server.keeping(plan.keep.patterns.iter().map(String::as_str))
        }
        Work::Undo { .. } | Work::Restore { .. } => Ok(server.clone()),
    }
}

fn files(count: usize) -> String {
    if count == 1 {
        "1 file".into()
    } else {
        format!("{count} files")
    }
}

/// A name for what an operation leaves behind: number, server, versions and day.
fn telling_name(server: &Server, number: i64, from: &str, to: &str) -> String {
    let day = jiff::Zoned::now().strftime("%Y-%m-%d");
    let server = safe_name(&server.config.name);
    let (from, to) = (safe_name(from), safe_name(to));
    format!("{number:04}-{server}-{from}-to-{to}-{day}")
}
