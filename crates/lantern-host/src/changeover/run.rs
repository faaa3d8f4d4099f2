//! The steps of an operation, each written down before it is done.

use super::journal::{Journal, Phase};
use super::moves;
use super::stage;
use super::{Event, Report, Times, WayBack, files, free_name, telling_name, undone_moves};
use crate::backup::{self, Pass};
use crate::config::Server;
use crate::console::{Console, Started, State};
use crate::disk;
use crate::error::{At, Error, Result};
use crate::ledger::{Ledger, Operation, Put};
use crate::verify::{self, GoodStart};
use lantern_core::plan::{Plan, Step, What};
use std::collections::BTreeSet;
use std::fs;
use std::time::{Duration, Instant};

/// How often it is looked whether a warning is due or the changeover was called off.
const WARN_LOOK: Duration = Duration::from_millis(50);

/// An operation under way: its journal, the console, and whom it tells.
pub(super) struct Run<'a, 'b> {
    pub(super) server: &'a Server,
    pub(super) console: Console<'a>,
    pub(super) journal: Journal,
    pub(super) tell: &'b mut dyn FnMut(Event),
    /// Whether the server stays as it is when the new state proves to be bad.
    pub(super) stay: bool,
    /// The error lines that are nothing new.
    pub(super) known_errors: BTreeSet<String>,
    /// How long the server took to stop, in milliseconds; none when it was down before.
    pub(super) stop_ms: Option<u64>,
    /// Since when it is down.
    pub(super) down_since: Option<Instant>,
}

impl<'a, 'b> Run<'a, 'b> {
    pub(super) fn new(
        server: &'a Server,
        journal: Journal,
        tell: &'b mut dyn FnMut(Event),
    ) -> Run<'a, 'b> {
        Run {
            server,
            console: Console::of(server),
            journal,
            tell,
            stay: false,
            known_errors: verify::known_errors(server),
            stop_ms: None,
            down_since: None,
        }
    }
}

impl Run<'_, '_> {
    pub(super) fn begins(&mut self, step: Step) {
        (self.tell)(Event::Begins(step));
    }

    pub(super) fn done(&mut self, step: Step, what: String) {
        (self.tell)(Event::Done(step, what));
    }

    /// All that touches none of the server's files.
    pub(super) fn before_swap(&mut self, plan: &Plan) -> Result<Pass> {
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
            match first.left_out.join(", ") {
                none if none.is_empty() => format!("{} of the keep list stored", files(first.files())),
                some => format!(
                    "{} of the keep list stored; not in it, as they are links or have odd names: {some}",
                    files(first.files())
                ),
            },
        );

        self.begins(Step::Warn);
        let warned = self.warn()?;
        self.done(Step::Warn, warned);

        self.begins(Step::Stop);
        let stopped = self.stop()?;
        self.done(Step::Stop, stopped.into());
        let second = self.second_backup(&first)?;
        self.console.refuse_up()?;
        Ok(second)
    }

    /// Stops the server where it is up, and writes down before that it may be stopping; says how that
    /// went.
    pub(super) fn stop(&mut self) -> Result<&'static str> {
        self.journal.enter(&self.server.folder, Phase::Stopping)?;
        if self.console.state()? == State::Down {
            self.down_since = self.journal.was_up.then(Instant::now);
            return Ok("the server was down already");
        }
        if !self.journal.was_up {
            self.console.refuse_up()?;
        }
        let begun = Instant::now();
        self.console.stop()?;
        self.stop_ms = Some(begun.elapsed().as_millis() as u64);
        self.down_since = Some(Instant::now());
        Ok("the server is down")
    }

    fn second_backup(&mut self, first: &Pass) -> Result<Pass> {
        self.begins(Step::SecondBackup);
        let pass = backup::pass(self.server, Some(first))?;
        let journal = &self.journal;
        let name = telling_name(self.server, journal.number, &journal.from, &journal.to);
        self.journal.backup = Some(backup::finish(self.server, &pass, &name, None)?);
        let what = format!("{} bytes had changed since", pass.read_bytes);
        self.done(Step::SecondBackup, what);
        Ok(pass)
    }

    /// Tells players, as often as they are to be told, and waits; until somebody calls it off.
    fn warn(&mut self) -> Result<String> {
        if crate::called_off() {
            return Err(Error::CalledOff(self.journal.kind));
        }
        if self.console.state()? == State::Down {
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
                return Err(Error::CalledOff(self.journal.kind));
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

    /// Tells players at the times that are set; where none are, only that it is now.
    pub(super) fn warn_before_undo(&mut self) -> Result<()> {
        if self.server.config.warn.at.is_empty() {
            if crate::called_off() {
                return Err(Error::CalledOff(self.journal.kind));
            }
            // A server that hangs cannot tell anybody, and has to be stopped all the same.
            let _ = self.say(&self.server.config.warn.last);
            return Ok(());
        }
        self.begins(Step::Warn);
        let told = self.warn()?;
        self.done(Step::Warn, told);
        Ok(())
    }

    /// Tells players something; that the server has gone in the meantime is no error.
    pub(super) fn say(&self, text: &str) -> Result<bool> {
        match self.console.say(text) {
            Err(error) => match self.console.state()? {
                State::Down => Ok(true),
                _ => Err(error),
            },
            told => told,
        }
    }

    pub(super) fn swap_and_start(
        &mut self,
        ledger: &mut Ledger,
        plan: &Plan,
        pass: &Pass,
    ) -> Result<Report> {
        let begun = Instant::now();
        let swapped = self.swap(pass);
        if let Err(error) = swapped {
            return Err(self.go_back(ledger, error));
        }
        let own_ms = self.down_since.unwrap_or(begun).elapsed().as_millis() as u64;
        let started = self.start();
        let start_ms = started.as_ref().map_or(0, |started| started.ready_ms);
        let looked = started.and_then(|started| self.verify(plan, &started));
        let (loaded, bad) = match looked {
            Ok(loaded) => (loaded, None),
            Err(error) if !self.stay => return Err(self.go_back(ledger, error)),
            Err(error) => (None, Some(error.to_string())),
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
            restored: None,
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
            times: Times {
                stop_ms: self.stop_ms,
                own_ms,
                start_ms,
            },
            running: bad.is_none() || self.console.state()? != State::Down,
            loaded,
            bad,
            backup,
        })
    }

    /// Writes down that it succeeded, and how it can be taken back.
    pub(super) fn record(&self, ledger: &mut Ledger, way_back: &WayBack) -> Result<()> {
        // Cut off right after this, it is asked for again: what is written down stays as it is.
        if self.recorded(ledger)?.is_some() {
            return Ok(());
        }
        let journal = &self.journal;
        let puts: Vec<Put> = journal.puts.iter().cloned().map(Put::from).collect();
        disk::step().at("writing", &self.server.folder.own("ledger.db"))?;
        let operation = self.operation(way_back, None);
        ledger.record(&operation, &puts, &journal.forgets, journal.undoes)
    }

    /// Writes down that it failed. That the history lacks it is better than a state that is half back.
    fn record_failure(&self, ledger: &mut Ledger, why: &str) {
        let operation = self.operation(&WayBack::default(), Some(why.to_owned()));
        if disk::step().is_ok() {
            let _ = ledger.record(&operation, &[], &[], None);
        }
    }

    fn operation(&self, way_back: &WayBack, failed: Option<String>) -> Operation {
        let journal = &self.journal;
        Operation {
            number: journal.number,
            kind: journal.kind,
            ended_ms: jiff::Timestamp::now().as_millisecond(),
            from: journal.from.clone(),
            to: journal.to.clone(),
            way_back: serde_json::to_string(way_back).expect("a way back has only plain values"),
            undone: false,
            failed,
        }
    }

    /// What the ledger knows of this operation.
    pub(super) fn recorded(&self, ledger: &Ledger) -> Result<Option<Operation>> {
        let mut known = ledger.operations()?.into_iter();
        Ok(known.find(|known| known.number == self.journal.number))
    }

    /// Whether it had succeeded and was written down before it was cut off.
    pub(super) fn had_succeeded(&self, ledger: &Ledger) -> Result<bool> {
        Ok(self
            .recorded(ledger)?
            .is_some_and(|known| known.failed.is_none()))
    }

    /// Nothing is left to do but to tidy up; cut off here, only that is done again.
    pub(super) fn enter_ending(&mut self) -> Result<()> {
        self.journal.enter(&self.server.folder, Phase::Ending)?;
        self.end()
    }

    pub(super) fn end(&self) -> Result<()> {
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
            .filter(|m| moves::is_own(&m.to))
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

    /// Starts the server and waits until it is ready and the hold is over.
    pub(super) fn start(&mut self) -> Result<Started> {
        self.begins(Step::Start);
        self.journal.enter(&self.server.folder, Phase::Starting)?;
        let starting = self.console.start()?;
        let before = GoodStart::read(self.server).map(|good| good.ready_ms);
        let limit = self.server.family.console.ready_timeout_s;
        (self.tell)(Event::Waiting(before, limit));
        let started = self
            .console
            .wait_ready(&starting, &self.known_errors, self.stay)?;
        let hold_s = self.server.family.console.hold_ms as f64 / 1000.0;
        self.done(
            Step::Start,
            format!(
                "ready after {:.1} s, and still up after {hold_s} s more",
                started.ready_ms as f64 / 1000.0
            ),
        );
        Ok(started)
    }

    /// Looks at the server that has started: how many components run, of how many; none where this
    /// family cannot tell.
    fn verify(&mut self, plan: &Plan, started: &Started) -> Result<Option<(usize, usize)>> {
        self.begins(Step::Verify);
        let wanted = verify::wanted(self.server, plan.expects.clone(), self.known_errors.clone())?;
        let verdict = verify::look(&self.console, self.server, &wanted, &started.lines)?;
        let problems = verdict.problems();
        if !problems.is_empty() {
            return Err(Error::NotRight {
                why: problems.join("; "),
                last: Vec::new(),
            });
        }
        GoodStart::remember(self.server, started)?;
        let mut told = match &verdict.components {
            None => vec!["this family cannot say which add-ons run".to_owned()],
            Some(all) => {
                let stated = all
                    .iter()
                    .filter(|answer| answer.installed.is_some())
                    .count();
                let all = all.len();
                vec![format!(
                    "{all} of {all} components are loaded, {stated} of them in a stated version"
                )]
            }
        };
        if !verdict.settings.is_empty() {
            let names: Vec<&str> = verdict.settings.iter().map(|s| s.name.as_str()).collect();
            told.push(format!("{} as set", names.join(", ")));
        }
        if !verdict.errors.is_empty() {
            told.push(match verdict.errors.len() {
                1 => "1 error line, as in the start before".into(),
                errors => format!("{errors} error lines, all as in the start before"),
            });
        }
        self.done(Step::Verify, told.join("; "));
        Ok(verdict.components.map(|all| (all.len(), all.len())))
    }

    /// Puts the old state back, and starts that where the server was up.
    pub(super) fn go_back(&mut self, ledger: &mut Ledger, error: Error) -> Error {
        let why = error.to_string();
        let last = match error {
            Error::DidNotStart { last, .. } | Error::NotRight { last, .. } => last,
            _ => Vec::new(),
        };
        self.go_back_since(ledger, why, last)
    }

    /// As [`Run::go_back`], for a reason in words and the last lines that the server printed.
    pub(super) fn go_back_since(
        &mut self,
        ledger: &mut Ledger,
        why: String,
        last: Vec<String>,
    ) -> Error {
        (self.tell)(Event::GoesBack(why.clone()));
        match self.try_going_back(ledger, &why) {
            Ok(running) => Error::RolledBack {
                why,
                last,
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

    /// Puts the old state back; the reason is the first one given, also after it was cut off.
    pub(super) fn try_going_back(&mut self, ledger: &mut Ledger, why: &str) -> Result<bool> {
        let why = self.journal.failed.get_or_insert_with(|| why.to_owned());
        let why = why.clone();
        self.journal.enter(&self.server.folder, Phase::GoingBack)?;
        self.stop_whatever_runs()?;
        let back = undone_moves(&self.server.folder, &self.journal.moves)?;
        moves::perform(&self.server.folder, &back)?;
        moves::sync(&self.server.folder, &back)?;
        moves::tidy(&self.server.folder, &back);
        if self.journal.was_up {
            self.start_old()?;
        }
        self.keep_rewritten()?;
        self.record_failure(ledger, &why);
        self.enter_ending()?;
        Ok(self.journal.was_up)
    }

    /// Starts what ran before; its error lines are its own affair.
    pub(super) fn start_old(&mut self) -> Result<Started> {
        let starting = self.console.start()?;
        let known = BTreeSet::new();
        self.console.wait_ready(&starting, &known, true)
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

    pub(super) fn stop_whatever_runs(&self) -> Result<()> {
        match self.console.state()? {
            State::Down => Ok(()),
            State::Foreign { who } => Err(Error::NoConsole { who }),
            State::Ours(_) | State::Reached { .. } => self.console.end_failed_start(),
        }
    }

    /// From the moment the server was asked to stop until now.
    pub(super) fn down_ms(&self) -> Option<u64> {
        let since = self.down_since?.elapsed().as_millis() as u64;
        Some(self.stop_ms.unwrap_or(0) + since)
    }

    /// What was staged and not used is of no worth any more.
    pub(super) fn clean_up_staging(&self) {
        let staging = self
            .server
            .folder
            .root()
            .join(stage::folder_name(self.journal.number));
        let _ = disk::step().and_then(|()| fs::remove_dir_all(staging));
    }
}
