//! What is needed to take an operation back.

use super::{Extent, Move, Record, is_own};
use crate::path::{PathFault, RelPath};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// What is needed to take an operation back.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WayBack {
    /// The number of the format: 2.
    pub format: u32,
    /// The renames that it did, in order.
    pub moves: Vec<Move>,
    /// What the ledger then learns again.
    pub record: Record,
    /// The backup that it made, or put back.
    pub backup: String,
    /// What a restore put back; none for a changeover.
    pub restored: Option<Extent>,
    /// The links that were taken for folders; none where that was not written down.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub followed: Option<BTreeSet<RelPath>>,
}

impl WayBack {
    /// The paths in the server folder that were exchanged.
    pub fn exchanged(&self) -> BTreeSet<&RelPath> {
        let ends = self.moves.iter().flat_map(|step| [&step.from, &step.to]);
        ends.filter(|path| !is_own(path)).collect()
    }

    /// Goes from the state after the operation to the one before it, in a list of where what was at a path lies; none
    /// where nothing was there. A path that is not in it is as it is now.
    pub fn step_back(&self, state: &mut BTreeMap<RelPath, Option<RelPath>>) {
        for step in self.moves.iter().rev() {
            match step.brings() {
                true => state.insert(step.to.clone(), None),
                false => state.insert(step.from.clone(), Some(step.to.clone())),
            };
        }
    }

    /// The renames back: what came goes aside, and what was set aside comes back, last first. Paths that are not
    /// `wanted` stay as they are, and so does what came and is not `there` any more.
    ///
    /// # Errors
    /// When a path becomes too long below `aside`.
    pub fn moves_back(
        &self,
        aside: &str,
        wanted: &dyn Fn(&RelPath) -> bool,
        there: &dyn Fn(&RelPath) -> bool,
    ) -> Result<Vec<Move>, PathFault> {
        let mut moves = Vec::new();
        for step in self.moves.iter().rev() {
            if !wanted(step.path()) {
                continue;
            }
            if !step.brings() {
                moves.push(step.back());
            } else if there(&step.to) {
                moves.push(Move::goes(aside, &step.to, None)?);
            }
        }
        Ok(moves)
    }
}
