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
/// A file on another machine is not fetched for it: of that, and of what cannot be read, nothing is known.
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
    if server.family.named_hashes().next().is_none() || server.folder.is_far() {
        return Ok(taken);
    }
    let mut meant: BTreeMap<&RelPath, (&Stamp, BTreeSet<HashKind>)> = BTreeMap::new();
    let families: Vec<Family> = server.each().into_iter().map(|one| one.family).collect();
    for (kind, of) in families.iter().flat_map(Family::named_hashes) {
        let found = files.iter().filter(|(path, _)| of.matches(path.as_str()));
        let found: Vec<_> = found.take(MOST + 1).collect();
        for (path, stamp) in found.iter().filter(|_| found.len() <= MOST) {
            let (_, kinds) = meant.entry(path).or_insert((stamp, BTreeSet::new()));
            kinds.insert(kind);
        }
    }
    for (path, (stamp, kinds)) in meant {
        let known = known.get(path.as_str()).filter(|(then, hashes)| {
            let has = |kind: &HashKind| hashes.iter().any(|it| it.kind == *kind);
            then == stamp && kinds.iter().all(has)
        });
        if let Some((_, hashes)) = known {
            taken.insert(path.clone(), hashes.clone());
            continue;
        }
        let Ok(mut file) = server.folder.open_file(path) else {
            continue;
        };
        if let Ok(hashes) = hashes_of(&mut file, kinds.into_iter()) {
            ledger.keep_named_hashes(path, stamp, &hashes)?;
            taken.insert(path.clone(), hashes);
        }
    }
    Ok(taken)
}
