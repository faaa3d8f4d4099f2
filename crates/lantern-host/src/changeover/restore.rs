//! A backup put back where it came from.

use super::journal::{Journal, Phase};
use super::moves;
use super::undo::stored_moves;
use super::way_back::Extent;
use super::{Event, Run, free_name, refuse_interrupted, safe_name};
use crate::backup;
use crate::config::Server;
use crate::console::Console;
use crate::error::{At, Error, Result};
use crate::ledger::{Doing, Ledger};
use lantern_core::path::RelPath;
use lantern_core::plan::Step;
use std::fs;

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
    if let Some(who) = Console::of(server).state()?.who() {
        return Err(Error::NeedsDown { who });
    }
    let manifest = backup::manifest(server, name)?;
    let extent = Extent {
        scope: manifest.scope,
        only: only.to_vec(),
    };
    let stored = manifest.paths();
    let covers = |path: &RelPath| extent.covers(server, &stored, path);
    let number = ledger.next_number()?;
    let aside = free_name(|suffix| {
        let name = format!("set-aside/{number:04}-before-{}{suffix}", safe_name(name));
        server.folder.own(&name)
    });
    let below = aside.strip_prefix(server.folder.root()).unwrap_or(&aside);
    let aside = below.display().to_string();
    let mut journal = Journal {
        kind: Doing::Restore,
        number,
        phase: Phase::Preparing,
        was_up: false,
        from: String::new(),
        to: name.to_owned(),
        plan: None,
        undoes: None,
        moves: Vec::new(),
        puts: Vec::new(),
        forgets: Vec::new(),
        backup: Some(name.to_owned()),
        restored: Some(extent.clone()),
        failed: None,
        world: None,
    };
    journal.enter(&server.folder, Phase::Preparing)?;
    let mut run = Run::new(server, journal, tell);
    run.clean_up_staging();
    run.begins(Step::Stage);
    match stored_moves(server, &manifest, &covers, number, &aside) {
        Ok(moves) => run.journal.moves = moves,
        Err(error) => {
            run.end()?;
            return Err(error);
        }
    }
    let out = run.journal.moves.iter();
    let set_aside = out.filter(|step| moves::is_own(&step.to)).count();
    let brought = run.journal.moves.len() - set_aside;
    if run.journal.moves.is_empty() {
        run.end()?;
        return Ok(Restored {
            brought,
            set_aside,
            aside,
        });
    }
    run.done(
        Step::Stage,
        format!("{} unpacked and checked", super::files(brought)),
    );
    let folder = server.folder.root().join(&aside);
    fs::create_dir_all(&folder).at("making the folder", &folder)?;
    run.finish_undo(ledger)?;
    Ok(Restored {
        brought,
        set_aside,
        aside,
    })
}
