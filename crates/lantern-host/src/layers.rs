//! `.lantern/layers/`: files of layers that lie, or have lain, under or over one another.
//!
//! Each is named by its BLAKE3 and never changes. From here a framework is laid over a build again,
//! and what lay under it comes back, without a download.

use crate::error::{At, Result};
use crate::folder::Folder;
use crate::{depot, durable};
use lantern_core::catalogue::ArchiveRef;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

/// Everything that is kept aside, by its BLAKE3.
///
/// # Errors
/// When the folder cannot be listed.
pub fn stored(folder: &Folder) -> Result<BTreeMap<String, ArchiveRef>> {
    let root = folder.own("layers");
    let mut stored = BTreeMap::new();
    let Ok(entries) = fs::read_dir(&root) else {
        return Ok(stored);
    };
    for entry in entries {
        let entry = entry.at("listing", &root)?;
        let hash = entry.file_name().to_string_lossy().into_owned();
        let bytes = entry.metadata().at("reading", &entry.path())?.len();
        let file = ArchiveRef {
            file: depot::shown(&entry.path()),
            blake3: hash.clone(),
            bytes,
        };
        stored.insert(hash, file);
    }
    Ok(stored)
}

/// Keeps a copy of a file, whose BLAKE3 has been looked at or is looked at here.
///
/// # Errors
/// When it cannot be read or written, or is another file than it should be.
pub fn keep(folder: &Folder, from: &Path, hash: &str) -> Result<()> {
    let to = folder.make_own("layers")?.join(hash);
    if to.exists() {
        return Ok(());
    }
    let bytes = fs::read(from).at("reading", from)?;
    if blake3::hash(&bytes).to_hex().as_str() != hash {
        let source = std::io::Error::other("it changed while it was read");
        return Err(source).at("reading", from);
    }
    durable::write(&to, &bytes)
}
