//! Back to before the last changeover or restore.

use super::check;
use super::journal::{Journal, Phase};
use super::moves::{self, Move};
use super::restore::restore;
use super::way_back::{self, WayBack};
use super::{Event, Report, Run, Times, make_aside, safe_name, stage, telling_name};
use crate::backup::{self, Manifest, Scope};
use crate::config::Server;
use crate::console::{Console, State};
use crate::error::{Error, Result};
use crate::ledger::{Doing, Ledger, Operation};
use crate::verify::GoodStart;
use lantern_core::path::RelPath;
use lantern_core::plan::Step;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// What an undo came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Undone {
    /// What the server folder is like now.
    pub now: Now,
    /// How long the server was down, in milliseconds; none when it was down before.
    pub down_ms: Option<u64>,
    /// Files that were written since the changeover: they are set aside, under this number.
    pub set_aside: Vec<RelPath>,
    /// Where that lies, relative to the server folder.
    pub aside: String,
    /// The number of this operation.
    pub number: i64,
    /// Whether the world was brought back, too.
    pub with_world: bool,
    /// How many of its files were written since, and are set aside.
    pub world_aside: usize,
    /// Whether the server runs again.
    pub running: bool,
}

/// What a server folder is like after an undo.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Now {
    /// Back at this server version.
    At(String),
    /// As it was before this backup was put back.
    Before(String),
    /// As in this backup: its restore was cut off, and leads to one end alone.
    AsIn(String),
    /// As before: what was cut off had touched nothing.
    Untouched,
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

/// Takes the last changeover or restore back, or an operation that was cut off.
///
/// # Errors
/// When there is nothing to take back, the world was written since and nobody said what becomes of
/// it, the server cannot be stopped, or a rename fails.
pub fn undo(
    server: &Server,
    ledger: &mut Ledger,
    world: World,
    tell: &mut dyn FnMut(Event),
) -> Result<Undone> {
    if let Some(journal) = Journal::read(&server.folder)? {
        return take_back_cut_off(server, ledger, journal, world, tell);
    }
    let last = ledger.last_in_force()?.ok_or(Error::NothingToUndo)?;
    let way_back: WayBack =
        serde_json::from_str(&last.way_back).map_err(|error| Error::Config {
            path: server.folder.own("ledger.db"),
            why: error.to_string(),
        })?;
    let console = Console::of(server);
    let state = console.state()?;
    let restored = way_back.restored.as_ref();
    let needed = restored.is_some() || world != World::Keep;
    let stored = needed.then(|| backup::manifest(server, &way_back.backup));
    let stored = stored.transpose()?;
    let in_backup = stored.as_ref().map(Manifest::paths).unwrap_or_default();
    if let (World::Ask, Some(stored)) = (world, &stored) {
        let mut written = backup::written_since(server, stored)?;
        if let Some(extent) = restored {
            written.retain(|path| extent.covers(server, &in_backup, path));
        }
        refuse_used(&console, &state, &last, written)?;
    }
    let was_up = match state {
        State::Foreign { who } => return Err(Error::NoConsole { who }),
        state => state != State::Down,
    };
    let number = ledger.next_number()?;
    let aside = match restored {
        None => telling_name(server, number, &last.to, &last.from),
        Some(_) => format!("{number:04}-since-{}", safe_name(&last.to)),
    };
    let aside = make_aside(server, &aside)?;
    // A changeover has touched no world, a restore most often has.
    let with_world = match restored {
        None => world == World::Bring,
        Some(_) => world != World::Keep,
    };
    // A changeover's backup also has what only a pack wants kept.
    let only_kept = stored.as_ref().is_some_and(|it| it.scope == Scope::Kept);
    let of_world =
        |path: &RelPath| server.keeps(path.as_str()) || only_kept && in_backup.contains(path);
    let wanted = |path: &RelPath| with_world || !of_world(path);
    let remembered = ledger.remembered()?;
    let moves_back = || {
        let known = match (&stored, restored) {
            (Some(stored), Some(_)) => way_back::hashes(stored),
            _ => {
                let known = remembered.iter();
                known
                    .map(|(path, known)| (path, known.hash.as_str()))
                    .collect()
            }
        };
        way_back.moves_back(server, &known, &aside, &wanted)
    };
    // No server at work removes what a changeover put in place.
    let early = restored.is_none().then(moves_back).transpose()?;
    let mut journal = Journal {
        kind: Doing::Undo,
        number,
        phase: Phase::Preparing,
        was_up,
        from: last.to.clone(),
        to: last.from.clone(),
        plan: None,
        undoes: Some(last.number),
        moves: Vec::new(),
        puts: way_back.puts_before.clone(),
        forgets: way_back.forgets.clone(),
        backup: Some(way_back.backup.clone()),
        restored: None,
        failed: None,
        world: Some(world),
    };
    journal.enter(&server.folder, Phase::Preparing)?;
    let mut run = Run::new(server, journal, tell);
    run.clean_up_staging();
    // What was not exchanged, and is not as the backup has it: the world that the new server wrote,
    // or what came after a restore.
    let exchanged = way_back.exchanged();
    let comes_back = |path: &RelPath| {
        let wanted = match restored {
            None => with_world && of_world(path),
            Some(extent) => extent.covers(server, &in_backup, path) && wanted(path),
        };
        wanted && !exchanged.contains(path)
    };
    let stored_back = || match &stored {
        None => Ok(Vec::new()),
        Some(stored) => stored_moves(server, stored, &comes_back, number, &aside),
    };
    // Unpacked while the server still runs; after its stop only what it has written since.
    let prepared = stored_back().and_then(|_| {
        if was_up {
            run.warn_before_undo()?;
        }
        run.begins(Step::Stop);
        let stopped = run.stop()?;
        let (mut moves, mut since) = early.map_or_else(moves_back, Ok)?;
        let stored = stored_back()?;
        let aside = stored.iter().filter(|step| moves::is_own(&step.to));
        since.extend(aside.map(|step| step.from.clone()));
        moves.extend(stored);
        Ok((stopped, moves, since))
    });
    let (stopped, moves, since) = match prepared {
        Ok(prepared) => prepared,
        Err(error) => {
            if was_up && run.console.state()? == State::Down {
                run.start_old()?;
            }
            run.end()?;
            return Err(error);
        }
    };
    run.journal.moves = moves;
    run.done(Step::Stop, stopped.into());
    run.finish_undo(ledger)?;
    let (world, set_aside): (Vec<_>, Vec<_>) = since.into_iter().partition(of_world);
    Ok(Undone {
        now: match restored {
            None => Now::At(last.from),
            Some(_) => Now::Before(last.to),
        },
        down_ms: run.down_ms(),
        set_aside,
        aside,
        number,
        with_world,
        world_aside: world.len(),
        running: was_up,
    })
}

/// Refuses where the world was written since, or somebody is on.
fn refuse_used(
    console: &Console,
    state: &State,
    last: &Operation,
    written: Vec<RelPath>,
) -> Result<()> {
    let players = match state {
        // A server that hangs tells nothing; it has to be possible to go back from it all the same.
        State::Ours(_) | State::Reached { .. } => console.players().ok().flatten(),
        State::Down | State::Foreign { .. } => None,
    };
    let players = players.unwrap_or_default();
    if written.is_empty() && players.is_empty() {
        return Ok(());
    }
    Err(match last.kind {
        Doing::Restore => Error::RestoredUsed {
            name: last.to.clone(),
            players,
            written,
        },
        Doing::Changeover | Doing::Undo => Error::WorldUsed {
            players,
            written,
            old: last.from.clone(),
            new: last.to.clone(),
        },
    })
}

/// Goes on with an undo or a restore that was cut off.
pub(super) fn resume(
    server: &Server,
    ledger: &mut Ledger,
    journal: Journal,
    tell: &mut dyn FnMut(Event),
) -> Result<Report> {
    let number = journal.number;
    let untouched = matches!(journal.phase, Phase::Preparing | Phase::Stopping);
    let running = match journal.restored.clone().filter(|_| untouched) {
        Some(extent) => {
            let run = Run::new(server, journal, tell);
            run.end()?;
            restore(server, ledger, &run.journal.to, &extent.only, run.tell)?;
            false
        }
        None => take_back_cut_off(server, ledger, journal, World::Ask, tell)?.running,
    };
    Ok(Report {
        number,
        times: Times::default(),
        running,
        loaded: None,
        bad: None,
        backup: String::new(),
    })
}

/// A changeover that was cut off is taken back; an undo or a restore is gone on with.
fn take_back_cut_off(
    server: &Server,
    ledger: &mut Ledger,
    journal: Journal,
    world: World,
    tell: &mut dyn FnMut(Event),
) -> Result<Undone> {
    // How long the server was down before this is not known.
    let mut run = Run::new(server, journal, tell);
    let (kind, phase) = (run.journal.kind, run.journal.phase);
    let mut running = run.journal.was_up;
    let now = match (kind, phase) {
        // It had succeeded and was written down: it is taken back as any other.
        (Doing::Changeover, _) if run.had_succeeded(ledger)? => {
            run.end()?;
            return undo(server, ledger, world, run.tell);
        }
        (_, Phase::Preparing | Phase::Stopping) => {
            run.be_up_again()?;
            run.end()?;
            match kind {
                // Nothing of it was done: it begins anew, as it was told to unless it is told otherwise.
                Doing::Undo => {
                    let told = run.journal.world.filter(|_| world == World::Ask);
                    return undo(server, ledger, told.unwrap_or(world), run.tell);
                }
                Doing::Restore => Now::Untouched,
                Doing::Changeover => Now::At(run.journal.from.clone()),
            }
        }
        (Doing::Changeover, Phase::Swapping | Phase::Starting | Phase::GoingBack) => {
            running = run.try_going_back(ledger, "it was cut off, and taken back")?;
            Now::At(run.journal.from.clone())
        }
        (Doing::Changeover, Phase::Ending) => {
            run.end()?;
            Now::At(run.journal.from.clone())
        }
        (Doing::Undo | Doing::Restore, _) => {
            run.stop_whatever_runs()?;
            run.finish_undo(ledger)?;
            let (from, to) = (run.journal.from.clone(), run.journal.to.clone());
            match kind {
                Doing::Restore => Now::AsIn(to),
                _ if to.is_empty() => Now::Before(from),
                _ => Now::At(to),
            }
        }
    };
    let comes = |step: &&Move| moves::is_own(&step.from) && server.keeps(step.to.as_str());
    let with_world = kind != Doing::Changeover && run.journal.moves.iter().any(|m| comes(&m));
    Ok(Undone {
        now,
        down_ms: run.down_ms(),
        set_aside: Vec::new(),
        aside: String::new(),
        number: run.journal.number,
        with_world,
        world_aside: 0,
        running,
    })
}

impl Run<'_, '_> {
    /// Brings the server up again that was, or may have been, stopped while none of its files was touched.
    fn be_up_again(&mut self) -> Result<()> {
        if self.journal.phase == Phase::Stopping {
            // It may have been told to stop and be on its way down: that has to come to its end.
            self.console.stop()?;
        }
        if self.journal.was_up && self.console.state()? == State::Down {
            self.start_old()?;
        }
        Ok(())
    }

    fn start_again(&mut self) -> Result<()> {
        self.begins(Step::Start);
        let started = self.start_old()?;
        let seconds = started.ready_ms as f64 / 1000.0;
        self.done(Step::Start, format!("ready after {seconds:.1} s"));
        GoodStart::remember(self.server, &started)
    }

    pub(super) fn finish_undo(&mut self, ledger: &mut Ledger) -> Result<()> {
        let folder = &self.server.folder;
        self.begins(Step::Swap);
        self.journal.enter(folder, Phase::Swapping)?;
        moves::perform(folder, &self.journal.moves)?;
        moves::sync(folder, &self.journal.moves)?;
        moves::tidy(folder, &self.journal.moves);
        let aside = |step: &&Move| moves::is_own(&step.to);
        let out = self.journal.moves.iter().filter(aside).count();
        let back = self.journal.moves.len() - out;
        let what = format!(
            "{} taken out, {} put back",
            super::files(out),
            super::files(back)
        );
        self.done(Step::Swap, what);
        // An undo is not taken back itself.
        let way_back = match &self.journal.restored {
            None => WayBack::default(),
            Some(extent) => WayBack {
                moves: self.journal.moves.clone(),
                backup: self.journal.backup.clone().unwrap_or_default(),
                restored: Some(extent.clone()),
                ..WayBack::default()
            },
        };
        self.record(ledger, &way_back)?;
        let started = match self.journal.was_up {
            true => self.start_again(),
            false => Ok(()),
        };
        self.enter_ending()?;
        started
    }
}

/// Unpacks what a backup has of the paths that it covers beside the server, where that was not done
/// before, and says how that and what is there now change places.
pub(super) fn stored_moves(
    server: &Server,
    manifest: &Manifest,
    covers: &dyn Fn(&RelPath) -> bool,
    number: i64,
    aside: &str,
) -> Result<Vec<Move>> {
    let source = backup::source(server)?;
    let staging = stage::folder_name(number);
    let mut moves = Vec::new();
    let mut same = BTreeSet::new();
    let stored = || manifest.files.iter().filter(|stored| covers(&stored.path));
    for stored in stored() {
        let real = server.folder.path(&stored.path)?;
        if real.exists() && crate::folder::hash_file(&real)? == stored.blake3 {
            same.insert(&stored.path);
        }
    }
    let here = server.folder.list()?.files.into_iter();
    let goes = here.map(|(path, _)| path);
    let goes: Vec<RelPath> = goes
        .filter(|path| covers(path) && !same.contains(path))
        .collect();
    let comes = || stored().filter(|stored| !same.contains(&stored.path));
    let both = comes().map(|stored| &stored.path).chain(&goes);
    if let Some(path) = check::elsewhere(server, both)? {
        return Err(Error::StoredOnOtherDisk {
            path,
            name: manifest.name.clone(),
        });
    }
    for path in goes {
        moves.push(Move {
            to: RelPath::parse(&format!("{aside}/{path}"))?,
            from: path,
        });
    }
    for stored in comes() {
        let staged = RelPath::parse(&format!("{staging}/{}", stored.path))?;
        let to = server.folder.path(&staged)?;
        if !to.exists() {
            source.unpack(stored, &to)?;
        }
        moves.push(Move {
            from: staged,
            to: stored.path.clone(),
        });
    }
    Ok(moves)
}
