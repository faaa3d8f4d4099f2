//! Back to before the last changeover or restore.

use super::check;
use super::moves::Looking;
use super::paused;
use super::run::Run;
use super::servers::{self, Servers};
use super::{Event, journal, keeping_as, reachable, same_as_then, stage, telling_name};
use crate::backup::fault::BackupFault;
use crate::backup::{self, Manifest, Stored, StoredFolder};
use crate::changeover::fault::{ChangeoverFault, Used};
use crate::config::Server;
use crate::console::{Console, ServerState};
use crate::error::{Error, Result};
use crate::folder::{free_name, own, safe_name};
use crate::ledger::{Ledger, Logged};
use crate::meter;
use crate::place::Meta;
use crate::records;
use lantern_core::operation::{
    Came, Direction, Ending, Extent, Journal, Move, Operation, OperationKind, Record, Scope,
    Undoable, WayBack, Work, World,
};
use lantern_core::path::RelPath;
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
    /// What is wrong with it now, where it does.
    pub wrong: Vec<String>,
}

/// What a server folder is like after an undo.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Now {
    /// Back at this server version.
    At(String),
    /// As it was before this backup was put back.
    Before(String),
    /// As before: what was cut off had touched nothing.
    Untouched,
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
    if let Some(journal) = journal::read(server)? {
        return take_back_cut_off(server, ledger, journal, world, tell);
    }
    let last = ledger
        .last_in_force()?
        .ok_or(ChangeoverFault::NothingToUndo)?;
    let way_back = ledger.way_back(&last)?;
    let world = match world {
        World::Ask => what_becomes_of_it(server, &last, &way_back)?,
        said => said,
    };
    // A world that comes back may lie behind any of them.
    let now = check::followed(server);
    let links = now.iter().chain(way_back.followed.iter().flatten());
    let links = links.filter(|_| world == World::Bring);
    let exchanged = way_back.exchanged().into_iter().chain(links);
    check::same_links(server, way_back.followed.as_ref(), exchanged)?;
    let each = server.concerned(way_back.exchanged().into_iter());
    let (was_up, servers) = servers::concerned(&each, reachable_or_down)?;
    let operation = Operation {
        followed: None,
        number: ledger.next_number()?,
        was_up,
        servers,
        paused: paused::to_pause(server, &way_back.exchanged())?,
        work: Work::Undo {
            of: match last.kind {
                OperationKind::Restore => Undoable::Restore { backup: last.to },
                OperationKind::Changeover | OperationKind::Undo => Undoable::Changeover {
                    from: last.from,
                    to: last.to,
                },
            },
            world,
        },
        moves: Vec::new(),
        record: Record {
            takes_back: Some(last.number),
            ..way_back.record
        },
    };
    let mut run = Run::begin(server, ledger, operation, tell)?;
    let ended = run.run_to_end(Came::Itself)?;
    match ended.ending {
        Ending::Done => Ok(undone(&run)),
        // Back it is, and the history has it; that the server does not come up is said as an error.
        Ending::DoneBadly => Err(match ended.failure {
            Some(error) => error,
            None => run.error(ended),
        }),
        _ => Err(run.error(ended)),
    }
}

/// As [`reachable`]; a server that hangs can be gone back from all the same.
fn reachable_or_down(server: &Server) -> Result<bool> {
    let console = Console::of(server);
    let state = console.state()?;
    console.refuse_second(&state)?;
    match state {
        ServerState::Ours(_) => Ok(true),
        _ => reachable(server),
    }
}

/// What an undo has come to.
fn undone(run: &Run<'_, '_>) -> Undone {
    let operation = &run.journal.operation;
    let server = run.server;
    let (from, to) = operation.ends();
    let now = match &operation.work {
        Work::Undo {
            of: Undoable::Restore { backup },
            ..
        } => Now::Before(backup.clone()),
        Work::Undo { .. } => Now::At(to.to_owned()),
        Work::Changeover { .. } => Now::At(from.to_owned()),
        Work::Restore { backup, .. } => Now::Before(backup.clone()),
    };
    let comes = |step: &&Move| step.brings() && server.keeps(step.to.as_str());
    let is_undo = operation.kind() == OperationKind::Undo;
    let with_world = match &operation.work {
        Work::Undo {
            of: Undoable::Changeover { .. },
            world,
        } => *world == World::Bring,
        _ => is_undo && operation.moves.iter().any(|step| comes(&step)),
    };
    let since = run.learnt.written_since.iter().cloned();
    let (world, set_aside): (Vec<_>, Vec<_>) =
        since.partition(|path| run.learnt.of_world.contains(path));
    Undone {
        now,
        down_ms: run.down_ms(),
        set_aside,
        aside: run.learnt.aside.clone(),
        number: operation.number,
        with_world,
        world_aside: world.len(),
        running: operation.was_up,
        wrong: run.learnt.wrong.clone(),
    }
}

/// The backup that was made before an operation, which may lie with whoever did that from elsewhere.
fn made_before(server: &Server, name: &str) -> Result<Manifest> {
    match backup::manifest(server, name) {
        Err(Error::Backup(BackupFault::NoBackup(_))) if records::has_others(&server.folder)? => {
            Err(ChangeoverFault::BackupElsewhere(name.to_owned()).into())
        }
        found => found,
    }
}

/// What becomes of the world where nobody has said it: refuses where it was written since, or somebody is on. Where only
/// the operation's own start has written it, and nobody since, the one of the backup comes back.
fn what_becomes_of_it(server: &Server, last: &Logged, way_back: &WayBack) -> Result<World> {
    let stored = made_before(server, &way_back.backup)?;
    let mut written = backup::written_since(server, &stored)?;
    if let Some(extent) = &way_back.restored {
        let in_backup = stored.paths();
        written.retain(|path| covers(server, extent, &in_backup, path));
    }
    let concerned = server.concerned(way_back.exchanged().into_iter());
    let are_some = concerned.len() < server.each().len();
    written.retain(|path| !servers::spared(are_some, concerned.iter(), path.as_str()));
    let mut is_down = true;
    let (mut players, mut unseen) = (Vec::new(), None);
    for one in &concerned {
        let console = Console::of(one);
        let state = console.state()?;
        is_down &= matches!(state, ServerState::Down);
        // That the list cannot be read, or that there is none, does not make it an empty one.
        match state {
            ServerState::Down => {}
            ServerState::Ours(_) | ServerState::Reached { .. } => match console.players() {
                Ok(Some(on)) => players.extend(on),
                Ok(None) => unseen = Some("this family has no list of players".into()),
                Err(error) => unseen = Some(error.to_string()),
            },
            ServerState::Foreign { .. } | ServerState::Unknown { .. } => {
                unseen = Some("its console is not reached".into());
            }
        }
    }
    let used = Box::new(Used {
        players,
        unseen,
        written,
    });
    if used.is_not() {
        return Ok(World::Ask);
    }
    // Another machine's clock may be any time off: it is not held against this one's.
    if is_down && last.kind == OperationKind::Changeover && !server.folder.is_far() {
        let mut nobody_since = true;
        for path in &used.written {
            let meta = server.folder.look(path)?;
            let then = |meta: Meta| meta.stamp.modified_ns <= last.ended_ms * 1_000_000;
            nobody_since &= meta.is_some_and(then);
        }
        if nobody_since {
            return Ok(World::Bring);
        }
    }
    Err(match last.kind {
        OperationKind::Restore => Error::Changeover(ChangeoverFault::RestoredUsed {
            name: last.to.clone(),
            used,
        }),
        OperationKind::Changeover | OperationKind::Undo => {
            Error::Changeover(ChangeoverFault::WorldUsed {
                used,
                old: last.from.clone(),
                new: last.to.clone(),
            })
        }
    })
}

/// Takes an operation back that was cut off; an undo is gone on with.
fn take_back_cut_off(
    server: &Server,
    ledger: &mut Ledger,
    journal: Journal,
    world: World,
    tell: &mut dyn FnMut(Event),
) -> Result<Undone> {
    let server = &keeping_as(server, &journal)?;
    same_as_then(server, &journal)?;
    let mut run = Run::cut_off(server, ledger, journal, tell)?;
    let ended = run.run_to_end(Came::CutOff(Direction::Back))?;
    match ended.ending {
        Ending::TakeBack => undo(server, run.ledger, world, run.tell),
        // Nothing of it was done: it begins anew, as it was told to unless it is told otherwise.
        Ending::Anew => {
            let told = match run.journal.operation.work {
                Work::Undo { world: told, .. } if world == World::Ask => told,
                _ => world,
            };
            undo(server, run.ledger, told, run.tell)
        }
        Ending::Untouched if ended.failure.is_none() => {
            let now = match run.journal.operation.work {
                Work::Restore { .. } => Now::Untouched,
                _ => undone(&run).now,
            };
            Ok(Undone {
                now,
                ..undone(&run)
            })
        }
        Ending::Done | Ending::Back => Ok(undone(&run)),
        _ => Err(run.error(ended)),
    }
}

/// Whether what a restore puts back has a path in it; `stored` are the backup's own, among them what only a pack
/// wants kept.
fn covers(server: &Server, extent: &Extent, stored: &BTreeSet<&RelPath>, path: &RelPath) -> bool {
    let in_scope = extent.scope == Scope::Everything || server.keeps(path.as_str());
    let passes = server.family.passes(path.as_str());
    (in_scope || stored.contains(path)) && !passes && extent.asks_for(path)
}

/// Makes the folders that come back with what a restore, or an undo with the world, puts back and that are not there: empty
/// ones, too.
pub(super) fn make_folders(run: &Run<'_, '_>) -> Result<()> {
    let server = run.server;
    let (name, extent) = match &run.journal.operation.work {
        Work::Restore { backup, extent } => (backup.clone(), extent.clone()),
        Work::Undo {
            of: Undoable::Changeover { .. },
            world: World::Bring,
        } => {
            let number = run.journal.operation.record.takes_back;
            let mut known = run.ledger.operations()?.into_iter();
            let Some(known) = known.find(|known| Some(known.number) == number) else {
                return Ok(());
            };
            let extent = Extent {
                scope: Scope::Kept,
                only: Vec::new(),
            };
            (run.ledger.way_back(&known)?.backup, extent)
        }
        Work::Changeover { .. } | Work::Undo { .. } => return Ok(()),
    };
    let manifest = backup::manifest(server, &name)?;
    let none = BTreeSet::new();
    let wanted = |it: &&StoredFolder| covers(server, &extent, &none, &it.folder);
    let wanted: Vec<&StoredFolder> = manifest.folders.iter().filter(wanted).collect();
    backup::make_missing(server, &wanted)
}

/// Finds out which renames an undo or a restore needs, and unpacks what comes from a backup and is not unpacked yet.
pub(super) fn draw(run: &mut Run<'_, '_>) -> Result<()> {
    match run.journal.operation.work.clone() {
        Work::Changeover { .. } => Ok(()),
        Work::Restore { backup, extent } => {
            let manifest = backup::manifest(run.server, &backup)?;
            let stored = manifest.paths();
            let aside = aside(run, &format!("before-{}", safe_name(&backup)))?;
            let wanted = |path: &RelPath| covers(run.server, &extent, &stored, path);
            run.journal.operation.moves = stored_moves(run, &manifest, &wanted, &aside)?;
            run.learnt.aside = aside;
            Ok(())
        }
        Work::Undo { of, world } => draw_undo(run, &of, world),
    }
}

fn draw_undo(run: &mut Run<'_, '_>, of: &Undoable, world: World) -> Result<()> {
    let server = run.server;
    let number = run.journal.operation.record.takes_back;
    let mut known = run.ledger.operations()?.into_iter();
    let taken_back = known.find(|known| Some(known.number) == number);
    let way_back = run
        .ledger
        .way_back(&taken_back.ok_or(ChangeoverFault::NothingToUndo)?)?;
    let restored = way_back.restored.as_ref();
    let stored = (restored.is_some() || world != World::Keep)
        .then(|| made_before(server, &way_back.backup))
        .transpose()?;
    let in_backup = stored.as_ref().map(Manifest::paths).unwrap_or_default();
    // A changeover has touched no world, a restore most often has.
    let with_world = match of {
        Undoable::Changeover { .. } => world == World::Bring,
        Undoable::Restore { .. } => world != World::Keep,
    };
    // A changeover's backup also has what only a pack wants kept.
    let only_kept = stored.as_ref().is_some_and(|it| it.scope == Scope::Kept);
    let of_world =
        |path: &RelPath| server.keeps(path.as_str()) || only_kept && in_backup.contains(path);
    let wanted = |path: &RelPath| with_world || !of_world(path);
    let aside = match of {
        Undoable::Changeover { from, to } => {
            let name = telling_name(server, run.journal.operation.number, to, from);
            aside_named(run, &name)?
        }
        Undoable::Restore { backup } => aside(run, &format!("since-{}", safe_name(backup)))?,
    };
    let exchanged = way_back.moves.iter();
    let exchanged = exchanged.flat_map(|step| [&step.from, &step.to]);
    let looking = Looking::at(&server.folder, exchanged)?;
    let there = |path: &RelPath| looking.has(path).unwrap_or(true);
    remember_hashes(run)?;
    let mut moves = way_back.moves_back(&aside, &wanted, &there)?;
    let brought = way_back.moves.iter().filter(|step| step.brings());
    let mut since = Vec::new();
    for step in brought.filter(|step| wanted(&step.to)) {
        let now = looking.look(&step.to)?;
        if there(&step.to) && content(run, &step.to, now, step.expects.as_deref())? != step.expects
        {
            since.push(step.to.clone());
        }
    }
    // What was not exchanged, and is not as the backup has it: the world that the new server wrote,
    // or what came after a restore.
    let exchanged = way_back.exchanged();
    let servers = Servers::of(server, &run.journal.operation);
    let comes_back = |path: &RelPath| {
        let wanted = match restored {
            None => with_world && of_world(path),
            Some(extent) => covers(server, extent, &in_backup, path) && wanted(path),
        };
        wanted && !exchanged.contains(path) && !servers.spare(path.as_str())
    };
    if let Some(stored) = &stored {
        let stored = stored_moves(run, stored, &comes_back, &aside)?;
        let out = stored.iter().filter(|step| !step.brings());
        since.extend(out.map(|step| step.from.clone()));
        moves.extend(stored);
    }
    let world = since.iter().filter(|path| of_world(path));
    run.learnt.of_world = world.cloned().collect();
    run.learnt.written_since = since;
    run.learnt.aside = aside;
    run.journal.operation.moves = moves;
    Ok(())
}

/// The folder that what is there now is set aside in, by what stands behind the number in its name.
fn aside(run: &Run<'_, '_>, name: &str) -> Result<String> {
    aside_named(run, &format!("{:04}-{name}", run.journal.operation.number))
}

/// The same, by its whole name. Drawn again, it is the one from before.
fn aside_named(run: &Run<'_, '_>, name: &str) -> Result<String> {
    if !run.learnt.aside.is_empty() {
        return Ok(run.learnt.aside.clone());
    }
    let free = free_name(&run.server.folder, |suffix| {
        Ok(own(&format!("set-aside/{name}{suffix}")))
    })?;
    Ok(free.to_string())
}

/// Files on another machine are known as they were when they were last looked at: they are not fetched to be known again.
fn remember_hashes(run: &mut Run<'_, '_>) -> Result<()> {
    if run.server.folder.is_far() && run.learnt.hashes.is_empty() {
        for (path, known) in run.ledger.seen()? {
            run.learnt.hashes.insert(RelPath::parse(&path)?, known);
        }
    }
    Ok(())
}

/// What tells the content of a file, which is not read again where nothing has changed since; none where it is not there. What was
/// expected of it says how it is told.
fn content(
    run: &mut Run<'_, '_>,
    path: &RelPath,
    there: Option<Meta>,
    expected: Option<&str>,
) -> Result<Option<String>> {
    let folder = &run.server.folder;
    let Some(meta) = there.filter(Meta::is_leaf) else {
        return Ok(None);
    };
    let known = run.learnt.hashes.get(path);
    if let Some((_, hash)) = known.filter(|(stamp, _)| *stamp == meta.stamp) {
        return Ok(Some(hash.clone()));
    }
    let hash = folder.held_against(path, &meta, expected.unwrap_or_default())?;
    let seen = (meta.stamp, hash.clone());
    run.learnt.hashes.insert(path.clone(), seen);
    Ok(Some(hash))
}

/// Unpacks what a backup has of the paths that are wanted beside the server, where that was not done
/// before, and says how that and what is there now change places.
fn stored_moves(
    run: &mut Run<'_, '_>,
    manifest: &Manifest,
    wanted: &dyn Fn(&RelPath) -> bool,
    aside: &str,
) -> Result<Vec<Move>> {
    let server = run.server;
    let source = backup::source(server)?;
    let staging = stage::folder_name(run.journal.operation.number);
    let mut same = BTreeSet::new();
    let stored = || manifest.files.iter().filter(|stored| wanted(&stored.path));
    remember_hashes(run)?;
    let looking = Looking::at(&server.folder, stored().map(|stored| &stored.path))?;
    for stored in stored() {
        let now = looking.look(&stored.path)?;
        // On another machine how a file looks has to do: it is not fetched to be compared.
        let is_same = match server.folder.is_far() {
            true => now.is_some_and(|now| now.stamp == stored.stamp),
            false => content(run, &stored.path, now, None)?.as_ref() == Some(&stored.blake3),
        };
        if is_same {
            same.insert(&stored.path);
        }
    }
    let listing = server.folder.list()?;
    let files = listing.files.into_iter().map(|(path, _)| path);
    let links = listing.links.into_iter().map(|(path, ..)| path);
    let goes: Vec<RelPath> = files
        .chain(links)
        .filter(|path| wanted(path) && !same.contains(path))
        .collect();
    let comes = || stored().filter(|stored| !same.contains(&stored.path));
    let both = comes().map(|stored| &stored.path).chain(&goes);
    if let Some(path) = check::elsewhere(server, both)? {
        return Err(ChangeoverFault::StoredOnOtherDisk {
            path,
            name: manifest.name.clone(),
        }
        .into());
    }
    let mut moves = Vec::new();
    for path in goes {
        moves.push(Move::goes(aside, &path, None)?);
    }
    let (mut unpacked, mut not_given) = (BTreeSet::new(), 0);
    meter::begin(comes().map(|stored| stored.bytes).sum());
    let staged: Vec<&Stored> = comes().collect();
    let staged = server
        .folder
        .each(&staged, |stored| -> Result<(Move, bool, bool)> {
            let step = Move {
                expects: Some(stored.blake3.clone()),
                ..Move::comes(&staging, &stored.path)?
            };
            let is_there = server.folder.has(&step.from)?;
            let mut is_given = true;
            if !is_there {
                is_given = source.unpack(stored, &server.folder, &step.from)?;
                // Earlier lanterns did not write down whose it was.
                if stored.user.is_none() {
                    server.folder.give_like(&step.from, &stored.path, false)?;
                }
            }
            Ok((step, is_there, is_given))
        });
    for staged in staged {
        let (step, is_there, is_given) = staged?;
        not_given += usize::from(!is_given);
        unpacked.extend((!is_there).then(|| step.from.clone()));
        moves.push(step);
    }
    super::moves::sync_above(&server.folder, unpacked.iter())?;
    if server.folder.is_far() {
        // What was just brought there is not fetched to be known.
        let looking = Looking::at(&server.folder, unpacked.iter())?;
        let rows = moves.iter().filter(|step| unpacked.contains(&step.from));
        let rows = rows.filter_map(|step| {
            let there = looking.look(&step.from).ok()??;
            Some((&step.from, there.stamp, step.expects.clone()?))
        });
        run.ledger.see(rows, &[])?;
    }
    run.learnt.not_given = not_given;
    Ok(moves)
}
