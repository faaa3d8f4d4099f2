//! Hashes that settings name of files, as they lie here.

use crate::config::Server;
use crate::error::Result;
use crate::folder::Stamp;
use crate::gather::hashes_of;
use crate::ledger::Ledger;
use lantern_core::family::Family;
use lantern_core::flags::NamedHashes;
use lantern_core::path::RelPath;
use lantern_core::supply::{Checksum, HashKind};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// Of a pattern that finds more files than these, nobody knows which is meant, before a plan and after it.
const MOST: usize = 8;

/// Takes the hashes that settings of any of the servers name; of a file that looks as `known` says, it is not read again.
/// A file on another machine is not fetched for it: of that, and of what cannot be read, none is known.
///
/// # Errors
/// When the ledger cannot be written.
pub fn named(
    server: &Server,
    ledger: &Ledger,
    known: &HashMap<String, (Stamp, Vec<Checksum>)>,
    files: &[(RelPath, Stamp)],
) -> Result<NamedHashes> {
    let mut taken = NamedHashes::new();
    if server.family.named_hashes().next().is_none() {
        return Ok(taken);
    }
    let mut meant: BTreeMap<&RelPath, (&Stamp, BTreeSet<HashKind>)> = BTreeMap::new();
    let families: Vec<Family> = server.each().into_iter().map(|one| one.family).collect();
    for (kind, of) in families.iter().flat_map(Family::named_hashes) {
        let found = files.iter().filter(|(path, _)| of.matches(path.as_str()));
        let found: Vec<_> = found.collect();
        let is_read = found.len() <= MOST && !server.folder.is_far();
        for (path, stamp) in found {
            let (_, kinds) = meant.entry(path).or_insert((stamp, BTreeSet::new()));
            kinds.extend(is_read.then_some(kind));
        }
    }
    for (path, (stamp, kinds)) in meant {
        let known = known.get(path.as_str()).filter(|(then, hashes)| {
            let has = |kind: &HashKind| hashes.iter().any(|it| it.kind == *kind);
            then == stamp && kinds.iter().all(has)
        });
        let hashes = match known {
            _ if kinds.is_empty() => Vec::new(),
            Some((_, hashes)) => hashes.clone(),
            None => {
                let file = server.folder.open_file(path).ok();
                let hashes = file.and_then(|mut it| hashes_of(&mut it, kinds.into_iter()).ok());
                if let Some(hashes) = &hashes {
                    ledger.keep_named_hashes(path, stamp, hashes)?;
                }
                hashes.unwrap_or_default()
            }
        };
        taken.insert(path.clone(), hashes);
    }
    Ok(taken)
}
