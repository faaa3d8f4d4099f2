//! What lies on another machine and may be what a release brings: only its content tells.

use super::Beginning;
use crate::config::Server;
use crate::error::{At, Result};
use crate::folder::hash_source;
use crate::ledger::{Learnt, Ledger};
use lantern_core::path::RelPath;
use lantern_core::plan::Payload;
use lantern_core::tree::{FileSeen, is_unread};
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Reads what nobody has read so far, where a release brings a file of the same size to the same place; from then on it is known by
/// its content, to the ledger, too.
///
/// # Errors
/// When one cannot be read, or the ledger cannot be written.
pub(super) fn read_alike(
    server: &Server,
    at: &mut Beginning,
    payloads: &BTreeMap<usize, Payload>,
    ledger: Option<&Ledger>,
) -> Result<()> {
    let brought = payloads.values().flat_map(|payload| &payload.files);
    let brought: BTreeSet<(&RelPath, u64)> = brought.map(|it| (&it.path, it.bytes)).collect();
    let is_meant = |file: &&FileSeen| {
        let is_unread = file.hash.as_deref().is_some_and(is_unread);
        is_unread && brought.contains(&(&file.path, file.bytes))
    };
    let meant: Vec<&FileSeen> = at.files.iter().filter(is_meant).collect();
    let read = |file: &FileSeen| -> Result<Learnt> {
        let mut source = server.folder.open_file(&file.path)?;
        let stamp = source.meta().map(|meta| meta.stamp);
        let hash = stamp.and_then(|stamp| Ok((stamp, hash_source(&mut *source)?)));
        let (stamp, hash) = hash.at("reading", &server.folder.shown(&file.path))?;
        Ok(Learnt {
            path: file.path.clone(),
            stamp,
            was: file.hash.clone().unwrap_or_default(),
            hash,
        })
    };
    let learnt: Result<Vec<Learnt>> = server
        .folder
        .with_hands(|| meant.into_par_iter().map(read).collect());
    let learnt = learnt?;
    if learnt.is_empty() {
        return Ok(());
    }
    if let Some(ledger) = ledger {
        ledger.learn(&learnt)?;
    }
    at.learn(&learnt);
    Ok(())
}

impl Beginning {
    /// Puts contents in the place of what stood for them.
    fn learn(&mut self, learnt: &[Learnt]) {
        let by_path: BTreeMap<&RelPath, &Learnt> = learnt.iter().map(|it| (&it.path, it)).collect();
        let inventories = self.parts.iter_mut().map(|part| &mut part.seen.inventory);
        let inventories = inventories.chain([&mut self.inventory]);
        let owned = inventories
            .flat_map(|inventory| &mut Arc::make_mut(inventory).components)
            .flat_map(|component| &mut component.files);
        for file in owned.chain(&mut self.files) {
            if let Some(known) = by_path.get(&file.path)
                && file.hash.as_ref() == Some(&known.was)
            {
                file.hash = Some(known.hash.clone());
            }
        }
        for (path, remembered) in &mut self.remembered {
            if let Some(known) = by_path.get(path)
                && remembered.hash == known.was
            {
                remembered.hash.clone_from(&known.hash);
            }
        }
    }
}
