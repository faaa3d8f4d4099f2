//! `.lantern/layers/`: files of layers that lie, or have lain, under or over one another.
//!
//! Each is named by its BLAKE3 and never changes. From here a framework is laid over a build again,
//! and what lay under it comes back, without a download.

use crate::error::{Error, Result};
use crate::folder::{Folder, own};
use lantern_core::artifact::Artifact;
use lantern_core::link;
use std::collections::BTreeMap;

/// Everything that is kept aside, by its BLAKE3.
///
/// # Errors
/// When the folder cannot be listed.
pub fn stored(folder: &Folder) -> Result<BTreeMap<String, Artifact>> {
    let stored = folder.entries(&own("layers"))?.into_iter();
    let stored = stored.filter(|(path, meta)| meta.is_file() && !path.as_str().ends_with(".part"));
    let stored = stored.map(|(path, meta)| {
        let hash = path.name().to_owned();
        let file = Artifact {
            file: folder.shown(&path).display().to_string(),
            blake3: hash.clone(),
            bytes: meta.stamp.bytes,
            urls: Vec::new(),
        };
        (hash, file)
    });
    Ok(stored.collect())
}

/// Keeps a copy of a content of this BLAKE3; `read` gives it.
///
/// # Errors
/// When it cannot be read or written, or is another content than it should be.
pub fn keep(folder: &Folder, hash: &str, read: impl FnOnce() -> Result<Vec<u8>>) -> Result<()> {
    // Of a link, its mark holds all.
    if link::target(hash).is_some() {
        return Ok(());
    }
    let to = folder.make_own("layers")?.join(hash)?;
    if folder.has(&to)? {
        return Ok(());
    }
    let bytes = read()?;
    if blake3::hash(&bytes).to_hex().as_str() != hash {
        return Err(Error::Io {
            doing: "keeping",
            path: folder.shown(&to),
            source: std::io::Error::other("what is to be kept changed while it was read"),
        });
    }
    folder.write_whole(&to, &bytes)
}
