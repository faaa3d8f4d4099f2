//! Files that are there whole or not at all, even when the power goes.

use crate::disk;
use crate::error::{At, Result};
use std::fs::{self, File};
use std::io::Write;
use std::path::Path;

/// Writes a file beside its place, syncs it, renames it there and syncs the folder.
///
/// # Errors
/// When the disk is full or the folder cannot be written; the old file is then still there.
pub fn write(path: &Path, content: &[u8]) -> Result<()> {
    let mut beside = path.as_os_str().to_owned();
    beside.push(".part");
    let beside = Path::new(&beside);
    let written = disk::step()
        .and_then(|()| File::create(beside))
        .and_then(|mut file| {
            disk::step()?;
            file.write_all(content)?;
            file.sync_all()
        });
    if let Err(error) = written {
        let _ = fs::remove_file(beside);
        return Err(error).at("writing", path);
    }
    disk::step()
        .and_then(|()| fs::rename(beside, path))
        .at("renaming", path)?;
    match path.parent() {
        Some(folder) if folder.as_os_str().is_empty() => sync_folder(Path::new(".")),
        Some(folder) => sync_folder(folder),
        None => Ok(()),
    }
}

/// Makes the names in a folder last.
///
/// # Errors
/// When the folder cannot be opened or synced.
pub fn sync_folder(folder: &Path) -> Result<()> {
    let synced = disk::step()
        .and_then(|()| File::open(folder))
        .and_then(|folder| folder.sync_all());
    synced.at("syncing", folder)
}
