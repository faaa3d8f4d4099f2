//! `.lantern/journal.json`: what is being done, written down before it is done.

use super::moves::Move;
use super::undo::World;
use super::way_back::Extent;
use crate::disk;
use crate::durable;
use crate::error::{At, Error, Result};
use crate::folder::Folder;
use crate::ledger::{Doing, Put};
use lantern_core::inventory::Beneath;
use lantern_core::plan::Plan;
use serde::{Deserialize, Serialize};
use std::fs;

/// How far an operation has come; what comes before was done and synced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Phase {
    /// New files are being unpacked beside the server; nothing of it has been touched.
    Preparing,
    /// The server has been asked to stop; no file has been touched.
    Stopping,
    /// Files are being renamed.
    Swapping,
    /// The files are in place; the server is being started.
    Starting,
    /// It failed, and the old state is being put back.
    GoingBack,
    /// It is done, or the old state is back; only what is left over has still to go.
    Ending,
}

/// An operation that has begun and not ended.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Journal {
    /// What it is.
    pub kind: Doing,
    /// The number it will have in the ledger.
    pub number: i64,
    /// How far it has come.
    pub phase: Phase,
    /// Whether the server was up when it began.
    pub was_up: bool,
    /// The server version before; for the undo of a restore, the backup's name.
    pub from: String,
    /// The server version after; for a restore, the backup's name.
    pub to: String,
    /// The plan, for a changeover.
    pub plan: Option<Plan>,
    /// The operation that an undo takes back.
    pub undoes: Option<i64>,
    /// The renames, in order.
    pub moves: Vec<Move>,
    /// The rows that the ledger will get.
    pub puts: Vec<PutRow>,
    /// The paths that the ledger will forget.
    pub forgets: Vec<lantern_core::path::RelPath>,
    /// The backup that was made, or that is put back.
    pub backup: Option<String>,
    /// What a restore puts back.
    pub restored: Option<Extent>,
    /// Why the old state is being put back.
    pub failed: Option<String>,
    /// What an undo was told to make of the world.
    pub world: Option<World>,
}

/// A row of the ledger, as the journal writes it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PutRow {
    path: lantern_core::path::RelPath,
    hash: String,
    owner: Option<lantern_core::component::Id>,
    version: Option<String>,
    shipped: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    under: Option<Beneath>,
}

impl From<Put> for PutRow {
    fn from(put: Put) -> PutRow {
        PutRow {
            path: put.path,
            hash: put.hash,
            owner: put.owner,
            version: put.version,
            shipped: put.shipped,
            under: put.under,
        }
    }
}

impl From<PutRow> for Put {
    fn from(row: PutRow) -> Put {
        Put {
            path: row.path,
            hash: row.hash,
            owner: row.owner,
            version: row.version,
            shipped: row.shipped,
            under: row.under,
        }
    }
}

impl Journal {
    /// Reads the journal of an operation that was cut off; none when there is none.
    ///
    /// # Errors
    /// When it is there and cannot be read.
    pub fn read(folder: &Folder) -> Result<Option<Journal>> {
        let path = folder.own("journal.json");
        let text = match fs::read(&path) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            other => other.at("reading", &path)?,
        };
        let journal = serde_json::from_slice(&text).map_err(|error| Error::Config {
            path,
            why: error.to_string(),
        })?;
        Ok(Some(journal))
    }

    /// Writes the journal down for a phase, before that phase begins.
    ///
    /// # Errors
    /// When the disk refuses; the phase must then not begin.
    pub fn enter(&mut self, folder: &Folder, phase: Phase) -> Result<()> {
        self.phase = phase;
        let text = serde_json::to_vec(self).expect("a journal has only plain values");
        durable::write(&folder.own("journal.json"), &text)
    }

    /// Ends the operation.
    ///
    /// # Errors
    /// When the journal cannot be removed.
    pub fn end(folder: &Folder) -> Result<()> {
        let path = folder.own("journal.json");
        disk::step()
            .and_then(|()| fs::remove_file(&path))
            .at("removing", &path)?;
        durable::sync_folder(&folder.own(""))
    }

    /// What happened and what state things are in, in two lines.
    pub fn told(&self) -> String {
        let (from, to) = (&self.from, &self.to);
        let what = match self.kind {
            Doing::Undo if to.is_empty() => format!("An undo of the restore of {from}"),
            Doing::Undo => format!("An undo, {from} back to {to},"),
            Doing::Restore => format!("A restore of {to}"),
            Doing::Changeover => format!("A changeover, {from} to {to},"),
        };
        let state = match self.phase {
            Phase::Preparing => {
                "while new files were being unpacked; no file of the server was touched."
            }
            Phase::Stopping => "while the server was being stopped; none of its files was touched.",
            Phase::Swapping => "while files were being exchanged: some are old, some are new.",
            Phase::Starting => "while the server was being started; all files are exchanged.",
            Phase::GoingBack => "while the old state was being put back.",
            Phase::Ending => "at its very end: all files are where they belong.",
        };
        format!("{what} was cut off\n{state}")
    }
}
