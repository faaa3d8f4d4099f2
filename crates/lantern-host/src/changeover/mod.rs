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
mod stage;
mod undo;

pub use journal::{Journal, Phase};
pub use undo::{Undone, World, undo};

use crate::backup::{self, Pass};
use crate::config::Server;
use crate::console::{Console, Process, Started, State};
use crate::disk;
use crate::error::{At, Error, Result};
use crate::ledger::{Ledger, Operation, Put};
use crate::survey::{Depth, survey};
use lantern_core::path::RelPath;
use lantern_core::plan::{Plan, Step, What, remembered_after};
use moves::Move;
use serde::{Deserialize, Serialize};
use std::fs;
use std::path::PathBuf;
use std::time::{Duration, Instant};

/// How often it is looked whether a warning is due or the changeover was called off.
const WARN_LOOK: Duration = Duration::from_millis(50);

/// What a changeover tells while it is under way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// A step begins.
    Begins(Step),
    /// Bytes done, of bytes there are, in the step that has begun.
    Progress(u64, u64),
    /// The step that has begun is done: what it did.
    Done(Step, String),
    /// It failed; the old state is being put back.
    GoesBack(String),
}

/// What a changeover came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// Its number in the ledger.
    pub number: i64,
    /// From the moment the server was down until it was ready again, in milliseconds; none when it
    /// was down before.
    pub down_ms: Option<u64>,
    /// The part of it that was lantern's: until the start was called, in milliseconds.
    pub own_ms: u64,
    /// How many add-ons the server says it has loaded, of those expected.
    pub loaded: Option<(usize, usize)>,
    /// The backup's name.
    pub backup: String,
}

/// What is needed to take a changeover back.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct WayBack {
    moves: Vec<Move>,
    puts_before: Vec<journal::PutRow>,
    forgets: Vec<RelPath>,
    backup: String,
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

/// Carries a plan out. On failure after the server was stopped, the old state is put back.
///
/// # Errors
/// Before the swap: what stands in the way, nothing touched. After it: [`Error::RolledBack`].
pub fn changeover(
    server: &Server,
    ledger: &mut Ledger,
    plan: Plan,
    tell: &mut dyn FnMut(Event),
) -> Result<Report> {
    refuse_interrupted(server)?;
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
    let number = ledger.next_number()?;
    let mut journal = open_journal(server, ledger, &plan, number, state != State::Down)?;
    tell(Event::Done(
        Step::Check,
        format!("{} paths are as planned", plan.actions.len()),
    ));
    journal.enter(&server.folder, Phase::Preparing)?;
    let mut run = Run::new(server, journal, tell, None);
    match run.before_swap(&plan) {
        Ok(pass) => run.swap_and_start(ledger, &plan, &pass),
        Err(error) => {
            run.clean_up_staging();
            Journal::end(&server.folder)?;
            Err(error)
        }
    }
}

/// Goes on with a changeover that was cut off.
///
/// # Errors
/// [`Error::NothingToResume`] when none was; otherwise as [`changeover`].
pub fn resume(server: &Server, ledger: &mut Ledger, tell: &mut dyn FnMut(Event)) -> Result<Report> {
    let journal = Journal::read(&server.folder)?.ok_or(Error::NothingToResume)?;
    let Some(plan) = journal.plan.clone() else {
        return undo::resume(server, ledger, journal, tell);
    };
    match journal.phase {
        // Nothing was touched: it begins anew, with every check.
        Phase::Preparing | Phase::Stopping => {
            Journal::end(&server.folder)?;
            changeover(server, ledger, plan, tell)
        }
        Phase::Swapping | Phase::Starting => {
            let server = &server.keeping(plan.keep.patterns.iter().map(String::as_str))?;
            Console::of(server).stop()?;
            let pass = backup::pass(server, None)?;
            let mut run = Run::new(server, journal, tell, Some(Instant::now()));
            run.swap_and_start(ledger, &plan, &pass)
        }
        Phase::GoingBack => {
            let mut run = Run::new(server, journal, tell, Some(Instant::now()));
            Err(run.go_back("it was cut off while it was going back".into()))
        }
        Phase::Ending => {
            let run = Run::new(server, journal, tell, None);
            let recorded = run.is_recorded(ledger)?;
            run.end()?;
            if recorded {
                return Ok(Report {
                    number: run.journal.number,
                    down_ms: None,
                    own_ms: 0,
                    loaded: None,
                    backup: run.journal.backup.clone().unwrap_or_default(),
                });
            }
            Err(Error::RolledBack {
                why: "it had failed before it was cut off".into(),
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
        kind: "changeover".into(),
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
    })
}

struct Run<'a, 'b> {
    server: &'a Server,
    console: Console<'a>,
    journal: Journal,
    tell: &'b mut dyn FnMut(Event),
    down_since: Option<Instant>,
    own_ms: u64,
}

impl<'a, 'b> Run<'a, 'b> {
    fn new(
        server: &'a Server,
        journal: Journal,
        tell: &'b mut dyn FnMut(Event),
        down_since: Option<Instant>,
    ) -> Run<'a, 'b> {
        Run {
            server,
            console: Console::of(server),
            journal,
            tell,
            down_since,
            own_ms: 0,
        }
    }
}

impl Run<'_, '_> {
    fn begins(&mut self, step: Step) {
        (self.tell)(Event::Begins(step));
    }

    fn done(&mut self, step: Step, what: String) {
        (self.tell)(Event::Done(step, what));
    }

    /// All that touches none of the server's files.
    fn before_swap(&mut self, plan: &Plan) -> Result<Pass> {
        self.begins(Step::Stage);
        let tell = &mut *self.tell;
        stage::stage(
            self.server,
            plan,
            self.journal.number,
            &mut |done, total| {
                tell(Event::Progress(done, total));
            },
        )?;
        let new = plan.of(What::Place).count() + plan.of(What::Replace).count();
        self.done(Step::Stage, format!("{} unpacked and checked", files(new)));

        self.begins(Step::FirstBackup);
        let first = backup::pass(self.server, None)?;
        self.done(
            Step::FirstBackup,
            format!("{} of the keep list stored", files(first.files())),
        );

        self.begins(Step::Warn);
        let warned = self.warn()?;
        self.done(Step::Warn, warned);

        self.begins(Step::Stop);
        self.journal.enter(&self.server.folder, Phase::Stopping)?;
        if self.journal.was_up {
            self.console.stop()?;
        }
        self.down_since = self.journal.was_up.then(Instant::now);
        let stopped = if self.journal.was_up {
            "the server is down"
        } else {
            "the server was down already"
        };
        self.done(Step::Stop, stopped.into());
        let second = self.second_backup(&first);
        if second.is_err() && self.journal.was_up {
            // Nothing was exchanged: the server comes back as it was.
            self.console.start()?;
        }
        second
    }

    fn second_backup(&mut self, first: &Pass) -> Result<Pass> {
        self.begins(Step::SecondBackup);
        let pass = backup::pass(self.server, Some(first))?;
        let journal = &self.journal;
        let name = telling_name(self.server, journal.number, &journal.from, &journal.to);
        self.journal.backup = Some(backup::finish(self.server, &pass, &name)?);
        let what = format!("{} bytes had changed since", pass.read_bytes);
        self.done(Step::SecondBackup, what);
        Ok(pass)
    }

    /// Tells players, as often as they are to be told, and waits; until somebody calls it off.
    fn warn(&mut self) -> Result<String> {
        if !self.journal.was_up {
            return Ok("nobody to warn: the server is down".into());
        }
        let warn = &self.server.config.warn;
        let mut times = warn.at.clone();
        times.sort_unstable();
        let Some(total) = times.last().map(|longest| longest.0) else {
            return Ok("players were not told: no times are set".into());
        };
        let begun = Instant::now();
        let mut told = 0;
        loop {
            let left = total.saturating_sub(begun.elapsed());
            while let Some(next) = times.pop_if(|next| next.0 >= left) {
                let text = warn.text.replace("{time}", &next.to_string());
                if !self.say(&text)? {
                    return Ok("this family has no command to tell players something".into());
                }
                told += 1;
            }
            if crate::called_off() {
                self.say(&warn.off)?;
                return Err(Error::CalledOff);
            }
            if left.is_zero() {
                break;
            }
            std::thread::sleep(WARN_LOOK.min(left));
            let done = begun.elapsed().as_secs().min(total.as_secs());
            (self.tell)(Event::Progress(done, total.as_secs()));
        }
        self.say(&warn.last)?;
        let times = if told == 1 {
            "once".into()
        } else {
            format!("{told} times")
        };
        Ok(format!(
            "players were told {times}, and once more at the end"
        ))
    }

    /// Tells players something; that the server has gone in the meantime is no error.
    fn say(&self, text: &str) -> Result<bool> {
        match self.console.say(text) {
            Err(error) => match self.console.state()? {
                State::Down => Ok(true),
                State::Ours(_) | State::Foreign { .. } => Err(error),
            },
            told => told,
        }
    }

    fn swap_and_start(&mut self, ledger: &mut Ledger, plan: &Plan, pass: &Pass) -> Result<Report> {
        let begun = Instant::now();
        let started = match self.swap(pass).and_then(|()| self.start(begun)) {
            Ok(started) => started,
            Err(error) => return Err(self.go_back(error.to_string())),
        };
        let down_ms = self.down_ms();
        let loaded = match self.verify(plan, &started) {
            Ok(loaded) => loaded,
            Err(error) => return Err(self.go_back(error.to_string())),
        };
        let backup = self.journal.backup.clone().unwrap_or_default();
        let before = ledger.puts()?;
        let way_back = WayBack {
            moves: self.journal.moves.clone(),
            puts_before: before.into_iter().map(Into::into).collect(),
            forgets: self
                .journal
                .puts
                .iter()
                .cloned()
                .map(Put::from)
                .map(|put| put.path)
                .collect(),
            backup: backup.clone(),
        };
        self.record(ledger, &way_back)?;
        for change in &plan.components {
            if let Some(variant) = &change.variant {
                ledger.choose(&change.id, variant)?;
            }
        }
        self.enter_ending()?;
        Ok(Report {
            number: self.journal.number,
            down_ms,
            own_ms: self.own_ms,
            loaded,
            backup,
        })
    }

    fn record(&self, ledger: &mut Ledger, way_back: &WayBack) -> Result<()> {
        let journal = &self.journal;
        let operation = Operation {
            number: journal.number,
            kind: journal.kind.clone(),
            ended_ms: jiff::Timestamp::now().as_millisecond(),
            from: journal.from.clone(),
            to: journal.to.clone(),
            way_back: serde_json::to_string(way_back).expect("a way back has only plain values"),
            undone: false,
        };
        // Cut off right after this, it is asked for again: what is written down stays as it is.
        if self.is_recorded(ledger)? {
            return Ok(());
        }
        let puts: Vec<Put> = journal.puts.iter().cloned().map(Put::from).collect();
        disk::step().at("writing", &self.server.folder.own("ledger.db"))?;
        ledger.record(&operation, &puts, &journal.forgets, journal.undoes)
    }

    fn is_recorded(&self, ledger: &Ledger) -> Result<bool> {
        let known = ledger.operations()?;
        Ok(known
            .iter()
            .any(|known| known.number == self.journal.number))
    }

    /// Nothing is left to do but to tidy up; cut off here, only that is done again.
    fn enter_ending(&mut self) -> Result<()> {
        self.journal.enter(&self.server.folder, Phase::Ending)?;
        self.end()
    }

    fn end(&self) -> Result<()> {
        self.clean_up_staging();
        Journal::end(&self.server.folder)
    }

    fn swap(&mut self, pass: &Pass) -> Result<()> {
        self.begins(Step::Swap);
        self.journal.enter(&self.server.folder, Phase::Swapping)?;
        let moves = &self.journal.moves;
        moves::perform(&self.server.folder, moves)?;
        moves::sync(&self.server.folder, moves)?;
        moves::tidy(&self.server.folder, moves);
        let changed = pass.changes_since(self.server)?;
        if !changed.is_empty() {
            return Err(Error::FolderChanged { changes: changed });
        }
        let aside = self
            .journal
            .moves
            .iter()
            .filter(|m| m.to.as_str().starts_with(".lantern/"))
            .count();
        let placed = self.journal.moves.len() - aside;
        self.done(
            Step::Swap,
            format!(
                "{} set aside, {} put in place; the keep list is untouched",
                files(aside),
                files(placed)
            ),
        );
        Ok(())
    }

    fn start(&mut self, begun: Instant) -> Result<Started> {
        self.begins(Step::Start);
        self.journal.enter(&self.server.folder, Phase::Starting)?;
        let process = self.console.start()?;
        let since = self.down_since.unwrap_or(begun);
        self.own_ms = since.elapsed().as_millis() as u64;
        let started = self.console.wait_ready(&process).inspect_err(|_| {
            let _ = self.console.end_failed_start(&process);
        })?;
        self.done(
            Step::Start,
            "the ready line came, and the server is still up".into(),
        );
        Ok(started)
    }

    fn verify(&mut self, plan: &Plan, started: &Started) -> Result<Option<(usize, usize)>> {
        self.begins(Step::Verify);
        let Some(loaded) = self.console.loaded(started)? else {
            self.done(
                Step::Verify,
                "this family cannot say which add-ons run".into(),
            );
            return Ok(None);
        };
        let mut wrong = Vec::new();
        for expected in &plan.expects {
            match (loaded.get(&expected.id), &expected.version) {
                (None, _) => wrong.push(format!("{} is not loaded", expected.id)),
                (Some(Some(version)), Some(wanted)) if version != wanted => {
                    wrong.push(format!(
                        "{} is loaded in {version}, not {wanted}",
                        expected.id
                    ));
                }
                _ => {}
            }
        }
        if !wrong.is_empty() {
            return Err(Error::DidNotStart {
                why: format!("it is up, but {}", wrong.join(", ")),
            });
        }
        let (all, versions) = (
            plan.expects.len(),
            plan.expects.iter().filter(|e| e.version.is_some()).count(),
        );
        self.done(
            Step::Verify,
            format!("{all} of {all} components are loaded, {versions} of them in a stated version"),
        );
        Ok(Some((all, all)))
    }

    /// Puts the old state back, and starts that where the server was up.
    fn go_back(&mut self, why: String) -> Error {
        (self.tell)(Event::GoesBack(why.clone()));
        match self.try_going_back() {
            Ok(running) => Error::RolledBack {
                why,
                down_ms: self.down_ms().unwrap_or(0),
                running,
            },
            Err(error) => Error::Interrupted {
                told: format!(
                    "The changeover failed ({why}),\nand putting the old state back did not succeed either: {error}."
                ),
            },
        }
    }

    fn try_going_back(&mut self) -> Result<bool> {
        self.journal.enter(&self.server.folder, Phase::GoingBack)?;
        self.stop_whatever_runs()?;
        let back = undone_moves(&self.server.folder, &self.journal.moves)?;
        moves::perform(&self.server.folder, &back)?;
        moves::sync(&self.server.folder, &back)?;
        moves::tidy(&self.server.folder, &back);
        if self.journal.was_up {
            let process = self.console.start()?;
            self.console.wait_ready(&process)?;
        }
        self.keep_rewritten()?;
        self.enter_ending()?;
        Ok(self.journal.was_up)
    }

    /// What the server that failed wrote into new files is no release's: it is set aside, not dropped.
    fn keep_rewritten(&self) -> Result<()> {
        let folder = &self.server.folder;
        let number = self.journal.number;
        let staging = folder.root().join(stage::folder_name(number));
        let aside =
            free_name(|suffix| folder.own(&format!("set-aside/{number:04}-failed{suffix}")));
        for put in self.journal.puts.iter().cloned().map(Put::from) {
            let staged = staging.join(put.path.as_str());
            if !staged.is_file() || crate::folder::hash_file(&staged)? == put.hash {
                continue;
            }
            let to = aside.join(put.path.as_str());
            if let Some(parent) = to.parent() {
                fs::create_dir_all(parent).at("making the folder", parent)?;
            }
            disk::step()
                .and_then(|()| fs::rename(&staged, &to))
                .at("renaming", &staged)?;
        }
        Ok(())
    }

    fn stop_whatever_runs(&self) -> Result<()> {
        let process: Process = match self.console.state()? {
            State::Ours(process) => process,
            State::Down => return Ok(()),
            State::Foreign { who } => return Err(Error::NoConsole { who }),
        };
        self.console.end_failed_start(&process)
    }

    fn down_ms(&self) -> Option<u64> {
        self.down_since
            .map(|since| since.elapsed().as_millis() as u64)
    }

    /// What was staged and not used is of no worth any more.
    fn clean_up_staging(&self) {
        let staging = self
            .server
            .folder
            .root()
            .join(stage::folder_name(self.journal.number));
        let _ = disk::step().and_then(|()| fs::remove_dir_all(staging));
    }
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
    let safe = |text: &str| -> String {
        let fine = |c: char| c.is_ascii_alphanumeric() || "._-+".contains(c);
        text.chars()
            .map(|c| if fine(c) { c } else { '-' })
            .collect()
    };
    let server = safe(&server.config.name);
    format!("{number:04}-{server}-{}-to-{}-{day}", safe(from), safe(to))
}

/// Makes sure that a folder for set-aside files can be made before anything is moved there.
pub(crate) fn make_aside(server: &Server, number: i64, from: &str, to: &str) -> Result<String> {
    let name = format!(
        ".lantern/set-aside/{}",
        telling_name(server, number, from, to)
    );
    let path = server.folder.root().join(&name);
    fs::create_dir_all(&path).at("making the folder", &path)?;
    Ok(name)
}
