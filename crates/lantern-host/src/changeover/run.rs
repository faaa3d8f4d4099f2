//! The steps of an operation, each written down before it is done.

use super::journal::{Journal, Phase};
use super::moves;
use super::stage;
use super::{Event, Report, WayBack, files, free_name, telling_name, undone_moves};
use crate::backup::{self, Pass};
use crate::config::Server;
use crate::console::{Console, Process, Started, State};
use crate::disk;
use crate::error::{At, Error, Result};
use crate::ledger::{Ledger, Operation, Put};
use lantern_core::plan::{Plan, Step, What};
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
    pub(super) down_since: Option<Instant>,
    pub(super) own_ms: u64,
}

impl<'a, 'b> Run<'a, 'b> {
    pub(super) fn new(
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
        self.journal.backup = Some(backup::finish(self.server, &pass, &name, None)?);
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

    pub(super) fn swap_and_start(
        &mut self,
        ledger: &mut Ledger,
        plan: &Plan,
        pass: &Pass,
    ) -> Result<Report> {
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

    pub(super) fn record(&self, ledger: &mut Ledger, way_back: &WayBack) -> Result<()> {
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

    pub(super) fn is_recorded(&self, ledger: &Ledger) -> Result<bool> {
        let known = ledger.operations()?;
        Ok(known
            .iter()
            .any(|known| known.number == self.journal.number))
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
    pub(super) fn go_back(&mut self, why: String) -> Error {
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

    pub(super) fn try_going_back(&mut self) -> Result<bool> {
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

    pub(super) fn stop_whatever_runs(&self) -> Result<()> {
        let process: Process = match self.console.state()? {
            State::Ours(process) => process,
            State::Down => return Ok(()),
            State::Foreign { who } => return Err(Error::NoConsole { who }),
        };
        self.console.end_failed_start(&process)
    }

    pub(super) fn down_ms(&self) -> Option<u64> {
        self.down_since
            .map(|since| since.elapsed().as_millis() as u64)
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
