//! What lanterns before this one wrote down of operations: format 1 of the journal, and the ways back in a ledger
//! of format 3. Read here, and nowhere written.

use lantern_core::component::Id;
use lantern_core::inventory::{Beneath, Remembered};
use lantern_core::operation::{
    Extent, FORMAT, Journal, Move, Operation, Phase, Record, Undoable, WayBack, Work, World,
};
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
use serde::Deserialize;
use std::collections::BTreeMap;

/// A row of the ledger.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Row {
    path: RelPath,
    hash: String,
    owner: Option<Id>,
    version: Option<String>,
    shipped: bool,
    #[serde(default)]
    under: Option<Beneath>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct OldWayBack {
    moves: Vec<Move>,
    puts_before: Vec<Row>,
    forgets: Vec<RelPath>,
    backup: String,
    restored: Option<Extent>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct OldJournal {
    kind: OldKind,
    number: i64,
    phase: Phase,
    was_up: bool,
    from: String,
    to: String,
    plan: Option<Plan>,
    undoes: Option<i64>,
    moves: Vec<Move>,
    puts: Vec<Row>,
    forgets: Vec<RelPath>,
    backup: Option<String>,
    restored: Option<Extent>,
    failed: Option<String>,
    world: Option<World>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum OldKind {
    Changeover,
    Undo,
    Restore,
}

/// What is remembered of files, and what is forgotten.
fn files(rows: Vec<Row>, forgets: Vec<RelPath>) -> BTreeMap<RelPath, Option<Remembered>> {
    let mut files: BTreeMap<_, _> = forgets.into_iter().map(|path| (path, None)).collect();
    files.extend(rows.into_iter().map(|row| {
        let known = Remembered {
            owner: row.owner,
            version: row.version,
            hash: row.hash,
            shipped: row.shipped,
            under: row.under,
        };
        (row.path, Some(known))
    }));
    files
}

/// Reads a way back; `remembered` is what the ledger knows now. None for what was not to be taken back, such as
/// an undo.
///
/// # Errors
/// With why it cannot be read.
pub fn way_back(
    text: &str,
    remembered: &BTreeMap<RelPath, Remembered>,
) -> Result<Option<WayBack>, String> {
    let old: OldWayBack = serde_json::from_str(text).map_err(|error| error.to_string())?;
    if old.moves.is_empty() {
        return Ok(None);
    }
    let expected = |step: Move| Move {
        expects: match step.brings() {
            true => remembered.get(&step.to).map(|known| known.hash.clone()),
            false => None,
        },
        ..step
    };
    Ok(Some(WayBack {
        followed: None,
        format: FORMAT,
        moves: old.moves.into_iter().map(expected).collect(),
        record: Record {
            files: files(old.puts_before, old.forgets),
            ..Record::default()
        },
        backup: old.backup,
        restored: old.restored,
    }))
}

/// Reads a journal.
///
/// # Errors
/// With why it cannot be read.
pub fn journal(text: &[u8]) -> Result<Journal, String> {
    let old: OldJournal = serde_json::from_slice(text).map_err(|error| error.to_string())?;
    let lacks = |what: &str| format!("{what} is missing");
    let work = match old.kind {
        OldKind::Changeover => Work::Changeover {
            plan: Box::new(old.plan.ok_or_else(|| lacks("plan"))?),
            backup: old.backup,
            stays: false,
        },
        OldKind::Undo => Work::Undo {
            of: match old.to.is_empty() {
                true => Undoable::Restore { backup: old.from },
                false => Undoable::Changeover {
                    from: old.to,
                    to: old.from,
                },
            },
            world: old.world.unwrap_or(World::Ask),
        },
        OldKind::Restore => Work::Restore {
            backup: old.to,
            extent: old.restored.ok_or_else(|| lacks("restored"))?,
        },
    };
    Ok(Journal {
        format: FORMAT,
        phase: old.phase,
        operation: Operation {
            followed: None,
            number: old.number,
            was_up: old.was_up,
            servers: Vec::new(),
            paused: Vec::new(),
            work,
            moves: old.moves,
            record: Record {
                files: files(old.puts, old.forgets),
                variants: BTreeMap::new(),
                takes_back: old.undoes,
            },
        },
        failed: old.failed,
    })
}
