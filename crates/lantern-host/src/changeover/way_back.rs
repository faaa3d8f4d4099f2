//! What is needed to take an operation back.

use super::journal::PutRow;
use super::moves::{self, Move};
use crate::backup::{Manifest, Scope};
use crate::config::Server;
use crate::error::Result;
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// What is needed to take an operation back.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct WayBack {
    pub(super) moves: Vec<Move>,
    pub(super) puts_before: Vec<PutRow>,
    pub(super) forgets: Vec<RelPath>,
    pub(crate) backup: String,
    pub(super) restored: Option<Extent>,
}

/// What of a server folder a restore puts back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Extent {
    /// What the backup is of.
    pub scope: Scope,
    /// These files and folders alone; all, where there are none.
    pub only: Vec<RelPath>,
}

impl Extent {
    /// Whether it has a path in it; `stored` are the backup's own, among them what only a pack wants kept.
    pub fn covers(&self, server: &Server, stored: &BTreeSet<&RelPath>, path: &RelPath) -> bool {
        let inside = |part: &RelPath| part == path || path.below(part.as_str()).is_some();
        let in_scope = self.scope == Scope::Everything || server.keeps(path.as_str());
        let passes = server.family.passes(path.as_str());
        let asked_for = self.only.is_empty() || self.only.iter().any(inside);
        (in_scope || stored.contains(path)) && !passes && asked_for
    }
}

/// The hashes that files had when an operation had ended.
pub(super) type Known<'k> = BTreeMap<&'k RelPath, &'k str>;

impl WayBack {
    /// The paths in the server folder that were exchanged.
    pub(super) fn exchanged(&self) -> BTreeSet<&RelPath> {
        let ends = self.moves.iter().flat_map(|step| [&step.from, &step.to]);
        ends.filter(|path| !moves::is_own(path)).collect()
    }

    /// What came goes aside, and what was set aside comes back; paths that are not wanted stay as
    /// they are. Besides, those that came and were written since.
    pub(super) fn moves_back(
        &self,
        server: &Server,
        known: &Known<'_>,
        aside: &str,
        wanted: &dyn Fn(&RelPath) -> bool,
    ) -> Result<(Vec<Move>, Vec<RelPath>)> {
        let (mut moves, mut written_since) = (Vec::new(), Vec::new());
        for step in self.moves.iter().rev() {
            if !moves::is_own(&step.from) {
                if wanted(&step.from) {
                    moves.push(step.back());
                }
                continue;
            }
            let real = server.folder.path(&step.to)?;
            if !wanted(&step.to) || !real.exists() {
                continue;
            }
            let now = crate::folder::hash_file(&real)?;
            if known.get(&step.to) != Some(&now.as_str()) {
                written_since.push(step.to.clone());
            }
            moves.push(Move {
                from: step.to.clone(),
                to: RelPath::parse(&format!("{aside}/{}", step.to))?,
            });
        }
        Ok((moves, written_since))
    }
}

/// The hashes of a backup's files.
pub(super) fn hashes(manifest: &Manifest) -> Known<'_> {
    let files = manifest.files.iter();
    files
        .map(|file| (&file.path, file.blake3.as_str()))
        .collect()
}
