//! An operation under way: what the table says comes next is done, and what came of it is told to the table.

use super::moves::Looking;
use super::servers::Servers;
use super::{Event, check, sending, stage};
use super::{journal, paused};
use crate::armed::{self, Became};
use crate::backup::Pass;
use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::console::fault::ConsoleFault;
use crate::error::{Error, Result};
use crate::interrupt::{self, Moment, UnderWay};
use crate::ledger::{Ledger, Logged};
use crate::lock;
use crate::place::{Held, Stamp};
use crate::records;
use crate::shipped;
use lantern_core::group::Gate;
use lantern_core::health::ErrorSeen;
use lantern_core::operation::{
    self, Action, Came, Detail, Ending, Journal, Operation, Phase, Seen, StepTaken, Stuck, Times,
    Trouble, Work,
};
use lantern_core::path::RelPath;
use lantern_core::plan::Step;
use std::collections::{BTreeSet, HashMap};
use std::time::{Duration, Instant};

/// An operation under way.
pub(super) struct Run<'a, 'b> {
    pub(super) server: &'a Server,
    pub(super) ledger: &'a mut Ledger,
    pub(super) servers: Servers,
    pub(super) journal: Journal,
    pub(super) tell: &'b mut dyn FnMut(Event),
    /// As somebody sees it who wishes it to end.
    under_way: UnderWay,
    /// Keeps others out of a folder on another machine.
    _there: Option<Box<dyn Held>>,
    /// What was learnt on the way, and is told at the end.
    pub(super) learnt: Learnt,
    /// Why it failed, the first reason there was in this run.
    failure: Option<Error>,
    /// Why it then could not go on either.
    last_failure: Option<Error>,
}

/// What was learnt on the way.
#[derive(Default)]
pub(super) struct Learnt {
    /// The keep list as the first backup saw it, and then as the second did.
    pub(super) pass: Option<Pass>,
    /// How long the server took to stop, in milliseconds; none when it was down before.
    pub(super) stop_ms: Option<u64>,
    /// Since when it is down.
    pub(super) down_since: Option<Instant>,
    /// From its stop until its start was called, in milliseconds, without waiting for others.
    pub(super) own_ms: u64,
    /// How long it waited since its stop for servers that are down together with it.
    pub(super) waited: Duration,
    /// The files in staging, as they were when they were checked.
    pub(super) staged: HashMap<RelPath, Stamp>,
    /// Whether what was sent to another machine stays there for the next attempt.
    pub(super) keeps_sent: bool,
    /// Texts that were written after they had been looked at, and edited as they were then.
    pub(super) edited_anew: Vec<RelPath>,
    /// What could not be found to be put back.
    pub(super) lost: Vec<RelPath>,
    /// How many files that came from a backup could not be given to whom they belonged.
    pub(super) not_given: usize,
    /// What is wrong with the server that ran before and runs again.
    pub(super) wrong: Vec<String>,
    /// How many components run of how many, where the family can tell.
    pub(super) loaded: Option<usize>,
    /// What was seen of the components that have to run, in words.
    pub(super) seen: String,
    /// What was written since by others and goes aside.
    pub(super) written_since: Vec<RelPath>,
    /// Of those, what belongs to the world.
    pub(super) of_world: BTreeSet<RelPath>,
    /// Where an undo or a restore sets aside what is there now, relative to the server folder.
    pub(super) aside: String,
    /// Texts that a release ships where the administrator's own stay, by their BLAKE3.
    pub(super) shipped: Vec<(String, Vec<u8>)>,
    /// The steps that were taken, and when the last of them began.
    pub(super) steps: (Vec<StepTaken>, Option<Instant>),
    /// The error lines of the start.
    pub(super) errors: Vec<ErrorSeen>,
    /// The hashes of files that were looked at, as they were then.
    pub(super) hashes: HashMap<RelPath, (Stamp, String)>,
}

/// How an operation came to its end.
pub(super) struct Ended {
    /// How.
    pub(super) ending: Ending,
    /// The first failure, where there was one.
    pub(super) failure: Option<Error>,
    /// Why it then could not go on either, where it could not.
    last_failure: Option<Error>,
}

impl<'a, 'b> Run<'a, 'b> {
    /// An operation that begins.
    pub(super) fn begin(
        server: &'a Server,
        ledger: &'a mut Ledger,
        operation: Operation,
        tell: &'b mut dyn FnMut(Event),
    ) -> Result<Run<'a, 'b>> {
        check::own_room(server)?;
        let there = lock::there(server, operation.kind().as_str())?;
        let operation = Operation {
            followed: Some(check::followed(server)),
            ..operation
        };
        let journal = Journal {
            format: operation::FORMAT,
            phase: Phase::Preparing,
            operation,
            failed: None,
        };
        journal::write(server, &journal)?;
        Ok(Run::of(server, ledger, journal, there, tell))
    }

    /// An operation that was cut off.
    ///
    /// # Errors
    /// When somebody is at work there from another machine.
    pub(super) fn cut_off(
        server: &'a Server,
        ledger: &'a mut Ledger,
        journal: Journal,
        tell: &'b mut dyn FnMut(Event),
    ) -> Result<Run<'a, 'b>> {
        let there = lock::there(server, journal.operation.kind().as_str())?;
        Ok(Run::of(server, ledger, journal, there, tell))
    }

    fn of(
        server: &'a Server,
        ledger: &'a mut Ledger,
        journal: Journal,
        there: Option<Box<dyn Held>>,
        tell: &'b mut dyn FnMut(Event),
    ) -> Run<'a, 'b> {
        Run {
            under_way: UnderWay::begin(),
            _there: there,
            server,
            ledger,
            servers: Servers::of(server, &journal.operation),
            journal,
            tell,
            learnt: Learnt::default(),
            failure: None,
            last_failure: None,
        }
    }

    /// Does what the table says until it says that this is the end.
    ///
    /// # Errors
    /// When the ledger cannot be read, which says how far it had come.
    pub(super) fn run_to_end(&mut self, came: Came) -> Result<Ended> {
        let (mut came, mut trouble, mut bad) = (came, None, false);
        self.under_way.enter(self.moment(self.journal.phase));
        'asked: loop {
            let seen = Seen {
                server: self.servers.seen(),
                recorded: self.is_recorded()?,
                came,
                trouble: trouble.take(),
                bad,
            };
            let mut facts = self.journal.operation.facts();
            facts.stays &= !interrupt::wants_back();
            for action in operation::next(facts, self.journal.phase, seen) {
                if let Action::End(ending) = action {
                    return Ok(self.ended(ending));
                }
                if let Err(error) = self.act(action) {
                    let slow = matches!(error, Error::Console(ConsoleFault::DidNotStop { .. }));
                    bad |= matches!(action, Action::Start | Action::Verify | Action::StartAgain);
                    trouble = Some(Trouble { at: action, slow });
                    self.failed(error);
                    continue 'asked;
                }
                if let Action::Enter(_) = action {
                    came = Came::Itself;
                }
            }
        }
    }

    fn ended(&mut self, ending: Ending) -> Ended {
        Ended {
            ending,
            failure: self.failure.take(),
            last_failure: self.last_failure.take(),
        }
    }

    fn failed(&mut self, error: Error) {
        if let Some(seat) = &self.server.seat {
            seat.fails();
        }
        match self.failure {
            None => self.failure = Some(error),
            Some(_) => self.last_failure = Some(error),
        }
    }

    /// Why it failed, in words: the first reason, also where it was cut off since.
    pub(super) fn why_failed(&self) -> String {
        let before = self.journal.failed.clone();
        let now = || self.failure.as_ref().map(ToString::to_string);
        before
            .or_else(now)
            .unwrap_or_else(|| "it was cut off, and taken back".into())
    }

    /// How far this phase is, as far as a wish to end it matters.
    fn moment(&self, phase: Phase) -> Moment {
        let is_changeover = matches!(self.journal.operation.work, Work::Changeover { .. });
        match phase {
            Phase::Preparing => Moment::Before,
            // Of a rehearsal nobody has anything but its end.
            _ if self.server.copy_of.is_some() => Moment::Before,
            Phase::Stopping | Phase::Swapping | Phase::Starting if is_changeover => {
                Moment::Exchanging
            }
            _ => Moment::Finishing,
        }
    }

    fn act(&mut self, action: Action) -> Result<()> {
        let can_go_back = matches!(
            action,
            Action::SecondBackup
                | Action::LookAgain
                | Action::Swap
                | Action::CompareKept
                | Action::Start
                | Action::Verify
        );
        if can_go_back && interrupt::wants_back() {
            return Err(ChangeoverFault::CalledBack.into());
        }
        self.meet(self.gate(action))?;
        match action {
            Action::Stage => self.stage(),
            Action::FirstBackup => self.first_backup(),
            Action::Warn => self.warn(),
            Action::Stop => self.stop(),
            Action::AwaitStop => self.await_stop(),
            Action::SecondBackup => self.second_backup(),
            Action::LookAgain => self.look_again(),
            Action::DrawMoves => self.draw_moves(),
            Action::Enter(phase) => self.enter(phase),
            Action::EndWhatRuns => self.end_what_runs(),
            Action::Swap => self.swap(),
            Action::CompareKept => self.compare_kept(),
            Action::Start => self.start(),
            Action::Verify => self.verify().and_then(|()| self.meet(Some(Gate::Settle))),
            Action::StartAgain => self.start_again(),
            Action::SwapBack => self.swap_back(),
            Action::SetAsideRewritten => self.set_aside_rewritten(),
            Action::Record => self.record(),
            Action::RecordFailure => {
                // That the history lacks it is better than a state that is half back.
                let _ = self.record_failure();
                Ok(())
            }
            Action::TidyUp => self.tidy_up(),
            Action::End(_) => Ok(()),
        }
    }

    /// Where this server waits for others before an action, if it goes down together with some.
    fn gate(&self, action: Action) -> Option<Gate> {
        Some(match action {
            Action::Stage => Gate::Begin,
            Action::Warn => Gate::Warn,
            Action::Enter(Phase::Stopping) => Gate::AskToStop,
            Action::Stop => Gate::Stop,
            // Who was cut off in the middle of it may find others up.
            Action::SecondBackup | Action::DrawMoves | Action::Swap => Gate::Exchange,
            Action::Start => Gate::Start,
            Action::SwapBack => Gate::PutBack,
            // Before it begins anew, what was up comes up by itself.
            Action::StartAgain if self.journal.phase == Phase::Preparing => return None,
            Action::StartAgain => Gate::StartAgain,
            _ => return None,
        })
    }

    fn meet(&mut self, gate: Option<Gate>) -> Result<()> {
        let (Some(seat), Some(gate)) = (&self.server.seat, gate) else {
            return Ok(());
        };
        let since = Instant::now();
        let met = seat.arrive(gate, self.journal.operation.kind());
        if self.learnt.down_since.is_some() && gate <= Gate::Start {
            self.learnt.waited += since.elapsed();
        }
        Ok(met?)
    }

    /// Writes down that a phase begins.
    fn enter(&mut self, phase: Phase) -> Result<()> {
        let mut journal = self.journal.clone();
        journal.phase = phase;
        if phase == Phase::GoingBack {
            journal.failed = Some(self.why_failed());
        }
        journal::write(self.server, &journal)?;
        self.under_way.enter(self.moment(phase));
        if phase == Phase::GoingBack && self.failure.is_some() {
            let why = self.why_failed();
            (self.tell)(Event::GoesBack(why));
        }
        self.journal = journal;
        Ok(())
    }

    /// Whether it had succeeded and was written down.
    fn is_recorded(&self) -> Result<bool> {
        let number = self.journal.operation.number;
        let known = self.ledger.operations()?.into_iter();
        let mut of_it = known.filter(|known| known.number == number);
        Ok(of_it.any(|known| known.failed.is_none()))
    }

    fn record(&mut self) -> Result<()> {
        let operation = &self.journal.operation;
        let way_back = operation.way_back(&self.ledger.remembered()?, &self.ledger.variants()?);
        let logged = self.logged(None);
        let detail = self.detail();
        if matches!(self.journal.operation.work, Work::Changeover { .. }) {
            self.see_what_was_moved(false)?;
        }
        let record = &self.journal.operation.record;
        self.ledger
            .record(&logged, record, way_back.as_ref(), &detail)?;
        if let Work::Changeover { plan, .. } = &self.journal.operation.work {
            // That nobody is told so later is no reason to go back.
            let _ = armed::became(self.server, plan, Became::Done(logged.number));
        }
        let files = record.files.iter();
        let files = files.filter_map(|(path, known)| Some((path, known.as_ref()?.hash.as_str())));
        // They are there for a later merge: that one is missing is no reason to go back.
        let _ = shipped::keep_files(&self.server.folder, self.ledger, files);
        let _ = shipped::keep(
            self.ledger,
            std::mem::take(&mut self.learnt.shipped).into_iter(),
        );
        Ok(())
    }

    /// Writes down what the files are that were moved, or moved back, on another machine: they would have to be fetched to be known
    /// otherwise, and look as they did before.
    ///
    /// # Errors
    /// When a folder cannot be listed, or the ledger not be written.
    pub(super) fn see_what_was_moved(&mut self, back: bool) -> Result<()> {
        let folder = &self.server.folder;
        if !folder.is_far() {
            return Ok(());
        }
        let moves = self.journal.operation.moves.iter();
        let ends = moves.map(|step| match back {
            false => (&step.from, &step.to),
            true => (&step.to, &step.from),
        });
        let ends: Vec<(&RelPath, &RelPath)> = ends.collect();
        let known = self.ledger.seen()?;
        let looking = Looking::at(folder, ends.iter().map(|(_, to)| *to))?;
        let mut rows = Vec::new();
        for (from, to) in ends {
            let Some(there) = looking.look(to)? else {
                continue;
            };
            let before = known.get(from.as_str());
            if let Some((_, hash)) = before.filter(|(stamp, _)| *stamp == there.stamp) {
                rows.push((to, there.stamp, hash.clone()));
            }
        }
        self.ledger.see(rows.into_iter(), &[])
    }

    fn record_failure(&mut self) -> Result<()> {
        let why = self.why_failed();
        let logged = self.logged(Some(why.clone()));
        let number = logged.number;
        if let Work::Changeover { plan, .. } = &self.journal.operation.work {
            let _ = armed::became(self.server, plan, Became::WentBack { number, why });
        }
        let nothing = operation::Record::default();
        self.ledger.record(&logged, &nothing, None, &self.detail())
    }

    fn detail(&self) -> Detail {
        Detail {
            // Who goes on with what was cut off has not seen all of it.
            times: self.learnt.down_since.is_some().then(|| self.times()),
            steps: self.learnt.steps.0.clone(),
            errors: self.learnt.errors.clone(),
            ..Detail::of(&self.journal.operation)
        }
    }

    fn logged(&self, failed: Option<String>) -> Logged {
        let operation = &self.journal.operation;
        let (from, to) = operation.ends();
        Logged {
            number: operation.number,
            kind: operation.kind(),
            ended_ms: jiff::Timestamp::now().as_millisecond(),
            from: from.to_owned(),
            to: to.to_owned(),
            undone: false,
            failed,
            is_thinned: false,
        }
    }

    /// Removes what was staged and not used, and the journal.
    fn tidy_up(&mut self) -> Result<()> {
        let staging = stage::folder_name(self.journal.operation.number);
        // What stays of it is removed by the next operation of that number.
        if !self.learnt.keeps_sent {
            let _ = self.server.folder.remove_all(&RelPath::parse(&staging)?);
        }
        if self.server.folder.is_far() {
            let Operation { number, moves, .. } = &self.journal.operation;
            sending::forget_tries(self.server, moves, *number);
            if !self.learnt.keeps_sent {
                sending::forget_sent(self.server, *number);
            }
            let _ = self
                .server
                .folder
                .remove_all(&stage::unpacked(self.server, *number)?);
        }
        paused::resume(self.server, &self.journal.operation.paused)?;
        records::share(&self.server.folder, &self.server.config.id)?;
        journal::remove(self.server)
    }

    pub(super) fn begins(&mut self, step: Step) {
        self.learnt.steps.1 = Some(Instant::now());
        (self.tell)(Event::Begins(step));
    }

    pub(super) fn done(&mut self, step: Step, what: String) {
        let (steps, began) = &mut self.learnt.steps;
        let took = began.take().map_or(Duration::ZERO, |began| began.elapsed());
        steps.push(StepTaken {
            step,
            what: what.clone(),
            ms: took.as_millis() as u64,
        });
        (self.tell)(Event::Done(step, what));
    }

    /// From the moment the server was asked to stop until now, in milliseconds; none when it was down before.
    pub(super) fn down_ms(&self) -> Option<u64> {
        let since = self.learnt.down_since?.elapsed().as_millis() as u64;
        Some(self.learnt.stop_ms.unwrap_or(0) + since)
    }

    /// How long the server was away.
    pub(super) fn times(&self) -> Times {
        Times {
            stop_ms: self.learnt.stop_ms,
            own_ms: self.learnt.own_ms,
            waited_ms: self.learnt.waited.as_millis() as u64,
            start_ms: self.servers.ready_ms(),
            by_hand_ms: self.servers.by_hand_ms(),
        }
    }

    /// The error of an operation that did not succeed: the state before is back, or it cannot go on by itself.
    pub(super) fn error(&self, ended: Ended) -> Error {
        let why = self.why_failed();
        let why = match &ended.failure {
            Some(failure) if self.journal.failed.is_none() => failure.to_string(),
            _ => why,
        };
        match ended.ending {
            Ending::Stuck(stuck) => Error::Changeover(ChangeoverFault::Interrupted {
                told: self.stuck(stuck, &why, ended.last_failure.as_ref()),
                stuck: Some(stuck),
            }),
            Ending::Untouched if self.learnt.down_since.is_some() => {
                Error::Changeover(ChangeoverFault::GivenUp {
                    why,
                    cause: ended.failure.map(Into::into),
                    is_up: self.servers.are_down().is_ok_and(|down| !down),
                    wrong: self.learnt.wrong.clone(),
                })
            }
            Ending::Untouched => match ended.failure {
                Some(failure) => failure,
                None => Error::Changeover(ChangeoverFault::Interrupted {
                    told: why,
                    stuck: None,
                }),
            },
            _ => Error::Changeover(ChangeoverFault::RolledBack {
                why,
                last: match ended.failure {
                    Some(
                        Error::Console(ConsoleFault::DidNotStart { last, .. })
                        | Error::Changeover(ChangeoverFault::NotRight { last, .. }),
                    ) => last,
                    _ => Vec::new(),
                },
                down_ms: self.down_ms().unwrap_or(0),
                running: self.journal.operation.was_up,
                wrong: self.learnt.wrong.clone(),
                lost: self.learnt.lost.clone(),
            }),
        }
    }

    fn stuck(&self, stuck: Stuck, why: &str, last: Option<&Error>) -> String {
        let what = match &self.journal.operation.work {
            Work::Changeover { .. } => "The changeover",
            Work::Undo { .. } => "The undo",
            Work::Restore { .. } => "The restore",
        };
        let last = last.map(ToString::to_string).filter(|last| last != why);
        let last = last.map_or(String::new(), |last| format!(": {last}"));
        format!("{what} could not go on ({why}).\n{}{last}.", stuck.state())
    }
}
