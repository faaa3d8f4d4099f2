//! What lies in a folder of downloads and is not what is wanted: what it is then, as the readers of a family know it.

use crate::downloads::Downloads;
use crate::error::{Error, Result};
use crate::place::here;
use crate::release::{self, fault::ReleaseFault};
use lantern_core::artifact::Artifact;
use lantern_core::component::Side;
use lantern_core::family::{Family, Reader};
use std::path::{Path, PathBuf};

/// What a download is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Edition {
    /// Some file of a release, by its id and version.
    Of(String),
    /// The client edition of a release, by its id and version.
    Client(String),
    /// An archive that cannot be read, and why.
    Broken(String),
}

/// Reads each file of a folder that some reader's `drop` names; those that no reader knows are not told of.
///
/// # Errors
/// When the folder cannot be listed.
pub fn read(folder: &Path, family: &Family) -> Result<Vec<(PathBuf, Edition)>> {
    let downloads = Downloads::apart();
    let mut editions = Vec::new();
    for path in here::list(folder)? {
        let name = path.file_name().map(|name| name.to_string_lossy());
        let name = name.unwrap_or_default();
        let dropped = |reader: &&Reader| reader.drop.as_ref().is_some_and(|it| it.matches(&name));
        let readers: Vec<&Reader> = family.readers.iter().filter(dropped).collect();
        let meta = here::look(&path).filter(|meta| meta.is_file());
        let (Some(meta), Some(file), false) = (meta, path.to_str(), readers.is_empty()) else {
            continue;
        };
        let artifact = Artifact {
            file: file.to_owned(),
            // Its path tells it from the others here: nobody asks for a hash of what is not wanted.
            blake3: file.to_owned(),
            bytes: meta.stamp.bytes,
            urls: Vec::new(),
        };
        match release::read(&artifact, &readers, family, &downloads) {
            Ok(read) => editions.extend(read.into_iter().map(|read| {
                let what = format!("{} {}", read.facts.id, read.facts.version);
                let edition = match read.facts.side {
                    Some(Side::Client) => Edition::Client(what),
                    _ => Edition::Of(what),
                };
                (path.clone(), edition)
            })),
            Err(Error::Release {
                fault: ReleaseFault::ClientEdition(what),
                ..
            }) => editions.push((path, Edition::Client(what))),
            Err(Error::Archive { fault, .. }) => {
                editions.push((path, Edition::Broken(fault.to_string())));
            }
            Err(_) => {}
        }
    }
    Ok(editions)
}
