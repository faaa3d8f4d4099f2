//! Backups.

use super::{NameWhy, PathWhy, PlaceWhy};
use lantern_core::operation::Scope;
use lantern_core::path::RelPath;
use lantern_host::backup::{Manifest, Page};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// `backup make`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupMade {
    /// The backup.
    pub name: String,
    /// How many files it has.
    pub files: usize,
    /// How large they are together.
    pub bytes: u64,
    /// How much the store grew by it.
    pub stored_bytes: u64,
    /// Whether the server was up.
    pub while_up: bool,
    /// What is not in it, as it is a link or has an odd name.
    pub left_out: Vec<String>,
}

/// One backup in a list.
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupRow {
    name: String,
    scope: Scope,
    made_ms: i64,
    note: Option<String>,
    files: usize,
    bytes: u64,
    stored_bytes: u64,
    /// How much only this one needs; null where that cannot be told.
    alone_bytes: Option<u64>,
    named: bool,
}

impl From<&Page> for BackupRow {
    fn from(page: &Page) -> BackupRow {
        BackupRow {
            name: page.name.clone(),
            scope: page.scope,
            made_ms: page.made_ms,
            note: page.note.clone(),
            files: page.files,
            bytes: page.bytes,
            stored_bytes: page.stored_bytes,
            alone_bytes: None,
            named: page.named,
        }
    }
}

/// `backup list`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Backups {
    /// Where the store is that servers share; null where it is this server's own.
    shared_store: Option<String>,
    /// How much the store takes; of one that is shared, all of it.
    store_bytes: u64,
    backups: Vec<BackupRow>,
    /// Those of other servers, where `--all` asks for them.
    others: Vec<BackupRow>,
    broken: Vec<NameWhy>,
}

impl Backups {
    /// The backups, and the pages that cannot be read.
    pub fn new(
        pages: &[Page],
        others: &[Page],
        broken: &[(String, String)],
        alone: &BTreeMap<String, u64>,
        (shared_store, store_bytes): (Option<String>, u64),
    ) -> Backups {
        let broken = broken.iter().cloned();
        let row = |page: &Page| BackupRow {
            alone_bytes: alone.get(&page.name).copied(),
            ..BackupRow::from(page)
        };
        Backups {
            shared_store,
            store_bytes,
            backups: pages.iter().map(row).collect(),
            others: others.iter().map(BackupRow::from).collect(),
            broken: broken.map(|(name, why)| NameWhy { name, why }).collect(),
        }
    }
}

/// One file of a backup.
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupFile {
    path: RelPath,
    bytes: u64,
    blake3: String,
}

/// `backup show`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupShown {
    name: String,
    scope: Scope,
    made_ms: i64,
    note: Option<String>,
    files: Vec<BackupFile>,
}

impl From<&Manifest> for BackupShown {
    fn from(backup: &Manifest) -> BackupShown {
        let files = backup.files.iter().map(|file| BackupFile {
            path: file.path.clone(),
            bytes: file.bytes,
            blake3: file.blake3.clone(),
        });
        BackupShown {
            name: backup.name.clone(),
            scope: backup.scope,
            made_ms: backup.made_ms,
            note: backup.note.clone(),
            files: files.collect(),
        }
    }
}

/// `backup check`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupsChecked {
    /// How many backups there are.
    pub backups: usize,
    /// How much of what they need was read.
    pub read_bytes: u64,
    /// How much there is of that.
    pub bytes: u64,
    /// What is wrong.
    pub wrong: Vec<PlaceWhy>,
}

/// `backup restore --to`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupRestored {
    files: usize,
    lost: Vec<PathWhy>,
    /// Files and folders that are not whose they were, or lack attributes.
    not_given: usize,
}

impl BackupRestored {
    /// So many files were put there, and these were not.
    pub fn new(files: usize, lost: &[(String, String)], not_given: usize) -> BackupRestored {
        let lost = lost.iter().cloned();
        BackupRestored {
            files,
            lost: lost.map(|(path, why)| PathWhy { path, why }).collect(),
            not_given,
        }
    }
}

/// `backup restore --in-place`
#[derive(Debug, Serialize, JsonSchema)]
pub struct RestoredInPlace {
    /// Files that came back.
    pub brought: usize,
    /// Files that went out of the way.
    pub set_aside: usize,
    /// Where they lie, relative to the server folder.
    pub aside: String,
}

/// `backup thin`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupsThinned {
    /// The backups that are gone.
    pub gone: Vec<String>,
    /// How much was given back.
    pub bytes: u64,
    /// How much may be given back from a day on, the next time.
    pub later_bytes: u64,
    /// How much that no backup needs lies among too much that is needed.
    pub among_bytes: u64,
}

/// `backup key`
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeyMade {
    /// The file.
    pub path: String,
    /// What tells the key from others, as a store that is sealed with it says.
    pub mark: String,
}
