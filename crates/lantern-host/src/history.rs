//! What was done to a server, and what each operation set aside.

use crate::config::Server;
use crate::error::{Error, Result};
use crate::folder::own;
use crate::ledger::{Ledger, Logged};
use crate::records;
use lantern_core::path::RelPath;
use std::collections::{BTreeMap, BTreeSet};

/// One operation, with what it left behind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PastOperation {
    /// What was done.
    pub operation: Logged,
    /// The folders of what it set aside.
    pub aside: Vec<RelPath>,
    /// How many files lie there.
    pub files: usize,
    /// Their size in bytes.
    pub bytes: u64,
}

/// Everything that was done, the first first.
///
/// # Errors
/// When the ledger or the folder of set-aside files cannot be read.
pub fn history(server: &Server, ledger: &Ledger) -> Result<Vec<PastOperation>> {
    let folders = server.folder.entries(&own("set-aside"))?.into_iter();
    let folders: Vec<RelPath> = folders.map(|(path, _)| path).collect();
    let mut entries = Vec::new();
    for operation in ledger.operations()? {
        let number = format!("{:04}-", operation.number);
        let of_it = |path: &&RelPath| path.name().starts_with(&number);
        let aside: Vec<RelPath> = folders.iter().filter(of_it).cloned().collect();
        let mut sizes = Vec::new();
        for folder in &aside {
            let inside = server.folder.files_below(folder)?.into_iter();
            sizes.extend(inside.map(|(_, bytes)| bytes));
        }
        entries.push(PastOperation {
            operation,
            aside,
            files: sizes.len(),
            bytes: sizes.iter().sum(),
        });
    }
    Ok(entries)
}

/// Those of all but the last `keep` operations that set something aside which is still there.
///
/// # Errors
/// As [`history`].
pub fn to_thin(server: &Server, ledger: &Ledger, keep: usize) -> Result<Vec<PastOperation>> {
    let mut old = history(server, ledger)?;
    old.truncate(old.len().saturating_sub(keep));
    old.retain(|entry| !entry.aside.is_empty());
    Ok(old)
}

/// Deletes what all but the last `keep` operations set aside; they cannot be taken back afterwards.
///
/// Returns what was deleted.
///
/// # Errors
/// When the ledger cannot be written, or a file cannot be deleted; what was deleted stays deleted.
pub fn thin(server: &Server, ledger: &mut Ledger, keep: usize) -> Result<Vec<PastOperation>> {
    let old = to_thin(server, ledger, keep)?;
    for entry in &old {
        ledger.thin(entry.operation.number)?;
        for folder in &entry.aside {
            server.folder.remove_all(folder)?;
        }
    }
    records::share(&server.folder, &server.config.id)?;
    Ok(old)
}

/// The state before an operation: where what was at a path lies, and none where nothing was. A path that is not in it
/// is as it is now, or was changed by hand since.
///
/// # Errors
/// When there is no such operation, or what it or a later one set aside was thinned out.
pub fn before(ledger: &Ledger, number: i64) -> Result<BTreeMap<RelPath, Option<RelPath>>> {
    let operations = ledger.operations()?;
    let last = operations.last().map(|it| it.number);
    if number < 1 || last.is_none_or(|last| number > last) {
        return Err(Error::NoOperation { number, last });
    }
    let mut state = BTreeMap::new();
    let since = operations.iter().filter(|it| it.number >= number);
    for operation in since.rev().filter(|it| it.can_be_in_force()) {
        if operation.is_thinned {
            return Err(Error::ThinnedOut(operation.number));
        }
        ledger.way_back(operation)?.step_back(&mut state);
    }
    Ok(state)
}

/// The backups that taking back what is in force may need, one after the other.
///
/// # Errors
/// When the ledger cannot be read.
pub fn backups_needed(ledger: &Ledger) -> Result<BTreeSet<String>> {
    let in_force = ledger.operations()?.into_iter();
    let in_force = in_force.filter(Logged::is_in_force);
    let mut needed = BTreeSet::new();
    for operation in in_force {
        needed.insert(ledger.way_back(&operation)?.backup);
    }
    Ok(needed)
}
