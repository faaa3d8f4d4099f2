//! What a person has fetched: found in a folder of downloads by what it is, whatever it is called there.

use super::hashes_of;
use super::store::{Store, Stored};
use crate::error::Result;
use crate::place::here;
use lantern_core::supply::{Checksum, HashKind, Supply, Wanted};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// What browsers call a file that is not whole yet ends so, as far as several of them agree.
const UNFINISHED: [&str; 4] = ["part", "partial", "download", "tmp"];

/// What a folder of downloads has of what is wanted.
#[derive(Debug, Default)]
pub struct Found {
    /// What is there, by its number among what is wanted, with where it lay.
    pub there: BTreeMap<usize, (Stored, PathBuf)>,
    /// What looks like it and is not it: by number, where it lies, and why.
    pub like: Vec<(usize, PathBuf, NotIt)>,
}

/// Why a file that looks like one that is wanted is not it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotIt {
    /// Whoever fetches it has not finished.
    #[error("it is not whole yet")]
    Unfinished,
    /// It is shorter than is stated: bytes there, and stated.
    #[error("it has {0} of {1} bytes: it is cut off, or another one")]
    Shorter(u64, u64),
    /// It is longer than is stated: bytes there, and stated.
    #[error("it has {0} bytes, and {1} are stated")]
    Longer(u64, u64),
    /// Its hash is another one.
    #[error("it is another file: its hash is not the one that is stated")]
    Other,
    /// It is an archive that cannot be read, and why.
    #[error("it is damaged or cut off: {0}")]
    Broken(String),
    /// It is for clients.
    #[error("it is the client edition")]
    ClientEdition,
    /// It says that it is the same release.
    #[error("it says that it is this release, but its hash is not the one that is stated")]
    SaysSo,
}

/// Looks in a folder of downloads for files that are wanted, and has the store keep them; the folder stays as it is.
///
/// # Errors
/// When the folder cannot be listed, or the store written.
pub fn find(folder: &Path, wanted: &[Wanted], store: &Store) -> Result<Found> {
    let mut found = Found::default();
    for path in here::list(folder)? {
        let Some(meta) = here::look(&path).filter(|meta| meta.is_file()) else {
            continue;
        };
        let bytes = meta.stamp.bytes;
        let name = path
            .file_name()
            .map(|name| name.to_string_lossy().into_owned());
        let name = name.unwrap_or_default();
        let by_hash = wanted
            .iter()
            .enumerate()
            .filter(|(at, it)| !found.there.contains_key(at) && !it.supply.checks.is_empty());
        let may_be: Vec<(usize, &Wanted)> = by_hash
            .filter(|(_, it)| it.supply.bytes.is_none_or(|stated| stated == bytes))
            .collect();
        let mut is_one = false;
        if !may_be.is_empty() {
            let kinds = may_be
                .iter()
                .flat_map(|(_, it)| it.supply.checks.iter().map(|check| check.kind));
            let kinds: BTreeSet<HashKind> = kinds.collect();
            let hashes =
                here::open(&path).and_then(|mut file| hashes_of(&mut file, kinds.into_iter()));
            let Ok(hashes) = hashes else {
                continue;
            };
            for (at, it) in may_be {
                let is_it = |check: &Checksum| hashes.contains(check);
                if it.supply.checks.iter().all(is_it) {
                    let stored = store.take(&path, &it.supply, &hashes, bytes)?;
                    found.there.insert(at, (stored, path.clone()));
                    is_one = true;
                }
            }
        }
        if is_one {
            continue;
        }
        for (at, it) in wanted.iter().enumerate() {
            if resembles(&name, &it.supply.name) {
                found
                    .like
                    .push((at, path.clone(), why_not(&name, bytes, &it.supply)));
            }
        }
    }
    found.like.retain(|(at, ..)| !found.there.contains_key(at));
    Ok(found)
}

/// Whether a file's name is that of what is wanted, or what a browser makes of it: `name (2).zip`, `name.zip.part`.
fn resembles(name: &str, wanted: &str) -> bool {
    let (stem, end) = wanted.rsplit_once('.').unwrap_or((wanted, ""));
    let Some(rest) = name.strip_prefix(stem) else {
        return false;
    };
    let rest = rest.trim_start();
    let counted = rest.strip_prefix('(').and_then(|rest| {
        let (number, rest) = rest.split_once(')')?;
        number
            .bytes()
            .all(|byte| byte.is_ascii_digit())
            .then_some(rest)
    });
    let rest = counted.unwrap_or(rest);
    rest.is_empty() || rest.trim_start_matches('.').starts_with(end)
}

fn why_not(name: &str, bytes: u64, supply: &Supply) -> NotIt {
    let (_, end) = name.rsplit_once('.').unwrap_or_default();
    let end = end.to_lowercase();
    if UNFINISHED.iter().any(|it| end.ends_with(it)) {
        return NotIt::Unfinished;
    }
    match supply.bytes {
        Some(stated) if bytes < stated => NotIt::Shorter(bytes, stated),
        Some(stated) if bytes > stated => NotIt::Longer(bytes, stated),
        _ => NotIt::Other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_browsers_make_of_a_name_is_known() {
        for (name, is_like) in [
            ("fern-1.2.bloom", true),
            ("fern-1.2 (2).bloom", true),
            ("fern-1.2(2).bloom", true),
            ("fern-1.2.bloom.part", true),
            ("fern-1.2.bloom.xdownload", true),
            ("fern-1.2.1.bloom", false),
            ("fern-1.2-client.bloom", false),
            ("ivy-1.2.bloom", false),
        ] {
            assert_eq!(resembles(name, "fern-1.2.bloom"), is_like, "{name}");
        }
    }
}
