//! What was done to a server, and what each operation set aside.

use crate::changeover::WayBack;
use crate::config::Server;
use crate::error::{At, Result};
use crate::ledger::{Ledger, Operation};
use std::collections::BTreeSet;
use std::fs;
use std::path::PathBuf;
use walkdir::WalkDir;

/// One operation, with what it left behind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// What was done.
    pub operation: Operation,
    /// The folders of what it set aside.
    pub aside: Vec<PathBuf>,
    /// How many files lie there.
    pub files: usize,
    /// Their size in bytes.
    pub bytes: u64,
}

/// Everything that was done, the first first.
///
/// # Errors
/// When the ledger or the folder of set-aside files cannot be read.
pub fn history(server: &Server, ledger: &Ledger) -> Result<Vec<Entry>> {
    let root = server.folder.own("set-aside");
    let mut folders: Vec<PathBuf> = Vec::new();
    if root.is_dir() {
        for entry in fs::read_dir(&root).at("listing", &root)? {
            folders.push(entry.at("listing", &root)?.path());
        }
    }
    folders.sort();
    let entries = ledger.operations()?.into_iter().map(|operation| {
        let number = format!("{:04}-", operation.number);
        let of_it = |path: &&PathBuf| {
            let name = path.file_name().map(|name| name.to_string_lossy());
            name.is_some_and(|name| name.starts_with(&number))
        };
        let aside: Vec<PathBuf> = folders.iter().filter(of_it).cloned().collect();
        let inside = aside
            .iter()
            .flat_map(|folder| WalkDir::new(folder).into_iter().flatten());
        let files = inside.filter(|entry| entry.file_type().is_file());
        let sizes: Vec<u64> = files
            .filter_map(|entry| Some(entry.metadata().ok()?.len()))
            .collect();
        Entry {
            operation,
            aside,
            files: sizes.len(),
            bytes: sizes.iter().sum(),
        }
    });
    Ok(entries.collect())
}

/// Deletes what all but the last `keep` operations set aside; they cannot be taken back afterwards.
///
/// Returns what was deleted.
///
/// # Errors
/// When the ledger cannot be written, or a file cannot be deleted; what was deleted stays deleted.
pub fn thin(server: &Server, ledger: &mut Ledger, keep: usize) -> Result<Vec<Entry>> {
    let mut old = history(server, ledger)?;
    old.truncate(old.len().saturating_sub(keep));
    old.retain(|entry| !entry.aside.is_empty());
    for entry in &old {
        ledger.thin(entry.operation.number)?;
        for folder in &entry.aside {
            fs::remove_dir_all(folder).at("removing", folder)?;
        }
    }
    Ok(old)
}

/// The backups that taking back what is in force may need, one after the other.
///
/// # Errors
/// When the ledger cannot be read.
pub fn backups_needed(ledger: &Ledger) -> Result<BTreeSet<String>> {
    let in_force = ledger.operations()?.into_iter();
    let in_force = in_force.filter(Operation::is_in_force);
    let ways = in_force.filter_map(|o| serde_json::from_str::<WayBack>(&o.way_back).ok());
    Ok(ways.map(|way_back| way_back.backup).collect())
}
