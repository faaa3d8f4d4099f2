//! What may go from a store of backups that several write to at once, none of whom waits for another.
//!
//! Pieces lie in packs, and backups' pages say which pieces are needed. Nobody holds a lock; instead nothing is deleted
//! before it has been out of use for a day. A pack that holds too much that no page needs is first retired: what is needed
//! of it is written to a new pack, and nobody counts on the rest any more. Only what was retired a day ago is deleted, and
//! only after the pages have been looked at once more: what a slow writer had counted on before is then needed by his page,
//! and moves. So nothing that a page needs is ever lost as long as nobody takes half a day from looking at the store to
//! the end of what he does; whoever took longer does not end it.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

/// So long after it was retired a pack is still there.
pub const GRACE: Duration = Duration::from_secs(24 * 60 * 60);

/// So long after it looked at the store an operation may still write to it, or delete.
pub const LONGEST: Duration = Duration::from_secs(12 * 60 * 60);

/// A pack as it was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pack<P> {
    /// What lies in it, with how long each is, in bytes.
    pub pieces: Vec<(P, u64)>,
    /// How long ago it was retired, by the store's own clock.
    pub retired: Option<Duration>,
}

/// What is to be done, in this order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chores<P> {
    /// Pieces that are written to a new pack, each with the number of a pack that has it.
    pub move_on: BTreeMap<P, usize>,
    /// Packs that are retired, once that is done.
    pub retire: Vec<usize>,
    /// Packs that are deleted, once that is done.
    pub delete: Vec<usize>,
}

/// Says what is to be done, where `live` is all that pages need which were read after the packs were listed. A pack is
/// retired where at least one part in `worth` of it is needed by nobody.
pub fn chores<P: Ord + Copy>(packs: &[Pack<P>], live: &BTreeSet<P>, worth: u64) -> Chores<P> {
    // Of what lies in several packs, the first has it.
    let mut homes: BTreeMap<P, usize> = BTreeMap::new();
    let in_use = packs.iter().enumerate();
    for (number, pack) in in_use.filter(|(_, pack)| pack.retired.is_none()) {
        for (piece, _) in pack.pieces.iter().filter(|(piece, _)| live.contains(piece)) {
            homes.entry(*piece).or_insert(number);
        }
    }
    let mut chores = Chores {
        move_on: BTreeMap::new(),
        retire: Vec::new(),
        delete: Vec::new(),
    };
    for (number, pack) in packs.iter().enumerate() {
        match pack.retired {
            Some(ago) => {
                for (piece, _) in &pack.pieces {
                    if live.contains(piece) && !homes.contains_key(piece) {
                        chores.move_on.entry(*piece).or_insert(number);
                    }
                }
                if ago >= GRACE {
                    chores.delete.push(number);
                }
            }
            None => {
                let of = |at_home: bool| -> u64 {
                    let pieces = pack.pieces.iter();
                    let some =
                        pieces.filter(|(piece, _)| (homes.get(piece) == Some(&number)) == at_home);
                    some.map(|(_, bytes)| bytes).sum()
                };
                let dead = of(false);
                if dead > 0 && dead.saturating_mul(worth) >= dead + of(true) {
                    let at_home = pack.pieces.iter().map(|(piece, _)| *piece);
                    let at_home = at_home.filter(|piece| homes.get(piece) == Some(&number));
                    chores.move_on.extend(at_home.map(|piece| (piece, number)));
                    chores.retire.push(number);
                }
            }
        }
    }
    chores
}

#[cfg(test)]
mod tests;
