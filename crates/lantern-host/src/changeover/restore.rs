//! A backup put back where it came from.

use super::run::Run;
use super::servers;
use super::{Event, refuse_interrupted};
use crate::backup;
use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::console::{Console, ServerState};
use crate::error::{Error, Result};
use crate::ledger::Ledger;
use lantern_core::operation::{Came, Ending, Extent, Operation, Record, Work};
use lantern_core::path::RelPath;

/// What a restore in place came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Restored {
    /// Files that came back from the backup.
    pub brought: usize,
    /// Files that went out of the way, because they were written since or are new.
    pub set_aside: usize,
    /// Where they lie, relative to the server folder.
    pub aside: String,
}

/// Puts a backup's files, or those below some paths, back into the server folder. Everything is
/// unpacked beside it first; what is there now and is not the same is set aside.
///
/// # Errors
/// When the server is up, there is no such backup, or something in it is lost: then nothing was touched.
pub fn restore(
    server: &Server,
    ledger: &mut Ledger,
    name: &str,
    only: &[RelPath],
    tell: &mut dyn FnMut(Event),
) -> Result<Restored> {
    refuse_interrupted(server)?;
    let each = server.concerned(only.iter());
    for one in &each {
        let console = Console::of(one);
        let state = console.state()?;
        if matches!(state, ServerState::Unknown { .. }) && console.can_be_told() {
            console.stop()?;
            continue;
        }
        if let Some(who) = state.who() {
            return Err(ChangeoverFault::NeedsDown { who }.into());
        }
    }
    let (was_up, servers) = servers::concerned(&each, |_| Ok(false))?;
    let extent = Extent {
        scope: backup::manifest(server, name)?.scope,
        only: only.to_vec(),
    };
    let operation = Operation {
        followed: None,
        number: ledger.next_number()?,
        was_up,
        servers,
        paused: Vec::new(),
        work: Work::Restore {
            backup: name.to_owned(),
            extent,
        },
        moves: Vec::new(),
        record: Record::default(),
    };
    let mut run = Run::begin(server, ledger, operation, tell)?;
    let ended = run.run_to_end(Came::Itself)?;
    match (ended.ending, &ended.failure) {
        // All is as in the backup already.
        (Ending::Done, _)
        | (Ending::Untouched, Some(Error::Changeover(ChangeoverFault::NothingToDo))) => {}
        _ => return Err(run.error(ended)),
    }
    let moves = &run.journal.operation.moves;
    let brought = moves.iter().filter(|step| step.brings()).count();
    Ok(Restored {
        brought,
        set_aside: moves.len() - brought,
        aside: run.learnt.aside.clone(),
    })
}
