//! Hashes that settings name of files, as they lie here.

use crate::config::Server;
use crate::error::{At, Result};
use crate::folder::Stamp;
use crate::gather::hashes_of;
use crate::ledger::Ledger;
use lantern_core::flags::NamedHashes;
use lantern_core::path::RelPath;
use lantern_core::supply::HashKind;
use std::collections::BTreeSet;

/// Takes the hashes that settings of any of the servers name; of a file that looks as the ledger remembers it, it is not read again.
/// A file on another machine is not fetched for it: of that, nothing is known.
///
/// # Errors
/// When such a file, or the ledger, cannot be read.
pub fn named(server: &Server, ledger: &Ledger, files: &[(RelPath, Stamp)]) -> Result<NamedHashes> {
    let families = server.each().into_iter().map(|one| one.family);
    let families: Vec<_> = families.filter(|family| family.names_hashes()).collect();
    if families.is_empty() || server.folder.is_far() {
        return Ok(NamedHashes::new());
    }
    let known = ledger.named_hashes()?;
    let mut taken = NamedHashes::new();
    for (path, stamp) in files {
        let kinds = families
            .iter()
            .flat_map(|family| family.hashes_named(path.as_str()));
        let kinds: BTreeSet<HashKind> = kinds.collect();
        if kinds.is_empty() {
            continue;
        }
        let known = known.get(path.as_str()).filter(|(then, hashes)| {
            let has = |kind: &HashKind| hashes.iter().any(|it| it.kind == *kind);
            then == stamp && kinds.iter().all(has)
        });
        if let Some((_, hashes)) = known {
            taken.insert(path.clone(), hashes.clone());
            continue;
        }
        let mut file = server.folder.open_file(path)?;
        let hashes = hashes_of(&mut file, kinds.into_iter());
        let hashes = hashes.at("reading", &server.folder.shown(path))?;
        ledger.keep_named_hashes(path, stamp, &hashes)?;
        taken.insert(path.clone(), hashes);
    }
    Ok(taken)
}
