//! Carrying a plan out, and going back.
//!
//! The files of a changeover, all in `.lantern/`: `journal.json` says what is being done,
//! `staging/NNNN` holds what comes, `set-aside/NNNN` what went. The swap is renames between those and
//! the server folder, on one file system; each can be done again or taken back.

mod check;
#[cfg(test)]
mod faults;
mod journal;
mod moves;
mod restore;
mod run;
mod stage;
mod undo;
mod way_back;

pub use journal::{Journal, Phase};
pub use restore::{Restored, restore};
pub use undo::{Now, Undone, World, undo};
pub(crate) use way_back::WayBack;

use crate::backup;
use crate::config::Server;
use crate::console::{Console, State};
use crate::error::{At, Error, Result};
use crate::ledger::{Doing, Ledger, Put};
use crate::rehearsal::Copied;
use crate::survey::{Depth, survey};
use lantern_core::path::RelPath;
use lantern_core::plan::{Plan, Step, What, remembered_after};
use moves::Move;
use run::Run;
use std::fs;
use std::path::PathBuf;

/// What a changeover tells while it is under way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// A step begins.
    Begins(Step),
    /// Bytes done, of bytes there are, in the step that has begun.
    Progress(u64, u64),
    /// The step that has begun is done: what it did.
    Done(Step, String),
    /// The copy for a rehearsal is made.
    Copied(Copied),
    /// The server is starting: the start before took so many milliseconds, and it may take so many seconds.
    Waiting(Option<u64>, u64),
    /// It failed; the old state is being put back.
    GoesBack(String),
}

/// What a changeover came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// Its number in the ledger.
    pub number: i64,
    /// How long the server was away, and why.
    pub times: Times,
    /// Whether the server runs now.
    pub running: bool,
    /// How many components the server says it has loaded, of those expected.
    pub loaded: Option<(usize, usize)>,
    /// What is wrong with the new state, where it was to stay all the same.
    pub bad: Option<String>,
    /// The backup's name.
    pub backup: String,
}

/// How long the server was away, in milliseconds.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Times {
    /// From the moment it was asked to stop until it was down; none when it was down before.
    pub stop_ms: Option<u64>,
    /// From then on until its start was called: lantern's own part.
    pub own_ms: u64,
    /// From then on until it was ready.
    pub start_ms: u64,
}

impl Times {
    /// All of it; none when the server was down before.
    pub fn total_ms(&self) -> Option<u64> {
        Some(self.stop_ms? + self.own_ms + self.start_ms)
    }
}

/// Refuses to go on where an operation was cut off.
///
/// # Errors
/// [`Error::Interrupted`] with what state things are in.
pub fn refuse_interrupted(server: &Server) -> Result<()> {
    match Journal::read(&server.folder)? {
        Some(journal) => Err(Error::Interrupted {
            told: journal.told(),
        }),
        None => Ok(()),
    }
}

/// Carries a plan out. On failure after the server was stopped, the old state is put back; with
/// `stay`, the new one stays where all files are in place, whatever the server then does.
///
/// # Errors
/// Before the swap: what stands in the way, nothing touched. After it: [`Error::RolledBack`].
pub fn changeover(
    server: &Server,
    ledger: &mut Ledger,
    plan: Plan,
    stay: bool,
    tell: &mut dyn FnMut(Event),
) -> Result<Report> {
    refuse_interrupted(server)?;
    begin(server, ledger, plan, false, stay, tell)
}

/// Carries a plan out from the beginning; `was_up` says that the server was up before lantern stopped it.
fn begin(
    server: &Server,
    ledger: &mut Ledger,
    plan: Plan,
    was_up: bool,
    stay: bool,
    tell: &mut dyn FnMut(Event),
) -> Result<Report> {
    let server = &server.keeping(plan.keep.patterns.iter().map(String::as_str))?;
    tell(Event::Begins(Step::Check));
    if plan.is_empty() {
        return Err(Error::NothingToDo);
    }
    let found = survey(server, ledger, Depth::Usual)?;
    check::matches(server, &plan, &found)?;
    let console = Console::of(server);
    let state = console.state()?;
    if let State::Foreign { who } = state {
        return Err(Error::NoConsole { who });
    }
    if state != State::Down {
        console.probe()?;
    }
    let number = ledger.next_number()?;
    let was_up = was_up || state != State::Down;
    let mut journal = open_journal(server, ledger, &plan, number, was_up)?;
    tell(Event::Done(
        Step::Check,
        format!("{} paths are as planned", plan.actions.len()),
    ));
    journal.enter(&server.folder, Phase::Preparing)?;
    let mut run = Run::new(server, journal, tell);
    run.stay = stay;
    match run.before_swap(&plan) {
        Ok(pass) => run.swap_and_start(ledger, &plan, &pass),
        Err(error) => {
            // Nothing was exchanged: the server comes back as it was.
            if was_up
                && console.state()? == State::Down
                && let Err(second) = console.start()
            {
                return Err(Error::Interrupted {
                    told: format!(
                        "The changeover failed before any file was touched ({error}),\nand the server could not be started again: {second}."
                    ),
                });
            }
            run.end()?;
            Err(error)
        }
    }
}

/// Goes on with a changeover that was cut off.
///
/// # Errors
/// [`Error::NothingToResume`] when none was; otherwise as [`changeover`].
pub fn resume(
    server: &Server,
    ledger: &mut Ledger,
    stay: bool,
    tell: &mut dyn FnMut(Event),
) -> Result<Report> {
    let journal = Journal::read(&server.folder)?.ok_or(Error::NothingToResume)?;
    let Some(plan) = journal.plan.clone() else {
        return undo::resume(server, ledger, journal, tell);
    };
    let mut run = Run::new(server, journal, tell);
    if run.had_succeeded(ledger)? {
        run.end()?;
        return Ok(Report {
            number: run.journal.number,
            times: Times::default(),
            running: Console::of(server).state()? != State::Down,
            loaded: None,
            bad: None,
            backup: run.journal.backup.clone().unwrap_or_default(),
        });
    }
    let had_failed = run.journal.failed.clone();
    let had_failed = had_failed.unwrap_or_else(|| "it had failed before it was cut off".into());
    match run.journal.phase {
        // Nothing was touched: it begins anew, with every check.
        Phase::Preparing | Phase::Stopping => {
            begin(server, ledger, plan, run.journal.was_up, stay, run.tell)
        }
        Phase::Swapping | Phase::Starting => {
            let server = &server.keeping(plan.keep.patterns.iter().map(String::as_str))?;
            Console::of(server).stop()?;
            let pass = backup::pass(server, None)?;
            let mut run = Run::new(server, run.journal, run.tell);
            run.stay = stay;
            run.swap_and_start(ledger, &plan, &pass)
        }
        Phase::GoingBack => Err(run.go_back_since(ledger, had_failed, Vec::new())),
        Phase::Ending => {
            run.end()?;
            Err(Error::RolledBack {
                why: had_failed,
                last: Vec::new(),
                down_ms: 0,
                running: run.journal.was_up,
            })
        }
    }
}

fn open_journal(
    server: &Server,
    ledger: &Ledger,
    plan: &Plan,
    number: i64,
    was_up: bool,
) -> Result<Journal> {
    let from = plan.from.as_deref().unwrap_or("unknown");
    let aside = format!(
        ".lantern/set-aside/{}",
        telling_name(server, number, from, &plan.to)
    );
    let staging = stage::folder_name(number);
    let within = |folder: &str, path: &RelPath| RelPath::parse(&format!("{folder}/{path}"));
    let mut moves = Vec::new();
    let goes = |what| matches!(what, What::SetAside | What::Replace | What::Edit);
    for action in plan.actions.iter().filter(|action| goes(action.what)) {
        moves.push(Move {
            from: action.path.clone(),
            to: within(&aside, &action.path)?,
        });
    }
    let comes = |what| matches!(what, What::Place | What::Replace | What::Edit);
    for action in plan.actions.iter().filter(|action| comes(action.what)) {
        moves.push(Move {
            from: within(&staging, &action.path)?,
            to: action.path.clone(),
        });
    }
    let old = ledger.remembered()?;
    let puts = remembered_after(plan, &old).into_iter();
    let puts = puts.map(|(path, known)| Put {
        path,
        hash: known.hash,
        owner: known.owner,
        version: known.version,
        shipped: known.shipped,
        under: known.under,
    });
    let gone = plan.of(What::SetAside).map(|action| action.path.clone());
    Ok(Journal {
        kind: Doing::Changeover,
        number,
        phase: Phase::Preparing,
        was_up,
        from: plan.from.clone().unwrap_or_else(|| "unknown".into()),
        to: plan.to.clone(),
        plan: Some(plan.clone()),
        undoes: None,
        moves,
        puts: puts.map(Into::into).collect(),
        forgets: gone.filter(|path| old.contains_key(path)).collect(),
        backup: None,
        restored: None,
        failed: None,
        world: None,
    })
}

/// The moves that take back those of `moves` that were done, last first.
fn undone_moves(folder: &crate::folder::Folder, moves: &[Move]) -> Result<Vec<Move>> {
    let mut back = Vec::new();
    for step in moves.iter().rev() {
        if step.is_done(folder)? {
            back.push(step.back());
        }
    }
    Ok(back)
}

fn files(count: usize) -> String {
    if count == 1 {
        "1 file".into()
    } else {
        format!("{count} files")
    }
}

/// The first path that is not there yet, of those with nothing, `-2`, `-3` … behind the name.
pub(crate) fn free_name(path: impl Fn(&str) -> PathBuf) -> PathBuf {
    let later = (2..).map(|n| path(&format!("-{n}")));
    let mut all = std::iter::once(path("")).chain(later);
    all.find(|path| !path.exists()).unwrap_or_else(|| path(""))
}

/// A name for what an operation leaves behind: number, server, versions and day.
fn telling_name(server: &Server, number: i64, from: &str, to: &str) -> String {
    let day = jiff::Zoned::now().strftime("%Y-%m-%d");
    let server = safe_name(&server.config.name);
    let (from, to) = (safe_name(from), safe_name(to));
    format!("{number:04}-{server}-{from}-to-{to}-{day}")
}

/// A name with nothing in it that a path could trip over.
pub(crate) fn safe_name(text: &str) -> String {
    let fine = |c: char| c.is_ascii_alphanumeric() || "._-+".contains(c);
    let letters = text.chars().map(|c| if fine(c) { c } else { '-' });
    letters.collect()
}

/// Makes sure that a folder for set-aside files can be made before anything is moved there; where it is.
fn make_aside(server: &Server, name: &str) -> Result<String> {
    let name = format!(".lantern/set-aside/{name}");
    let path = server.folder.root().join(&name);
    fs::create_dir_all(&path).at("making the folder", &path)?;
    Ok(name)
}
