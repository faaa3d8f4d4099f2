//! Drops what no backup needs any more.

use super::{Hash, Needed, Packs, Store, in_packs, of_pack};
use crate::backup::fault::BackupFault;
use crate::backup::shelf::Object;
use crate::error::{Error, Result};
use lantern_core::thinning::{self, GRACE, Pack};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

/// Where several write, a pack is thinned out when one part in so many of it is of no use.
const WORTH: u64 = 5;

/// What thinning a store out came to.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub struct Thinned {
    /// So much room was given back, in bytes.
    pub given_back: u64,
    /// So much may be given back from a day on, the next time, in bytes.
    pub later: u64,
    /// So much that nobody needs lies among too much that is needed, in bytes.
    pub among: u64,
}

/// What was listed, by name.
type Named = BTreeMap<String, Object>;

impl Store {
    /// Drops what is not needed, as pages say that were read after it was opened: at once where nobody else writes, and
    /// otherwise as [`thinning`] says.
    ///
    /// # Errors
    /// When a live piece cannot be read, before anything is dropped; or the store cannot be written.
    pub fn thin(&mut self, needed: &Needed) -> Result<Thinned> {
        let live = &needed.pieces;
        let home = self.home.clone();
        let now_s = match home.shared {
            true => home.shelf.now_s()?,
            false => 0,
        };
        let named = self.listed.iter();
        let named: Named = named.map(|it| (it.name.clone(), it.clone())).collect();
        let ago = |of: &Object| Duration::from_secs((now_s - of.written_s).max(0).unsigned_abs());
        let (names, packs) = self.packs_of(&named, &ago);
        let worth = if home.shared { WORTH } else { u64::MAX };
        let chores = thinning::chores(&packs, live, worth);
        let of_use = packs
            .iter()
            .enumerate()
            .filter(|(number, pack)| pack.retired.is_none() && !chores.retire.contains(number));
        let among = of_use.flat_map(|(_, pack)| &pack.pieces);
        let among = among.filter(|(piece, _)| !live.contains(piece));
        let among = among.map(|(_, bytes)| bytes).sum();
        drop(packs);
        self.move_on(chores.move_on.keys(), &needed.lists)?;
        let named_of = |numbers: &[usize]| -> BTreeSet<&str> {
            numbers.iter().map(|it| names[*it].as_str()).collect()
        };
        let (leaving, waited) = (named_of(&chores.retire), named_of(&chores.delete));
        let gone = match home.shared {
            false => leaving.clone(),
            true => {
                for name in &leaving {
                    self.since.in_time()?;
                    home.shelf.write_new(&of_pack(name, "retired"), b"")?;
                }
                waited
            }
        };
        let mut given_back = 0;
        for name in &gone {
            // Without its index, a pack is but a leftover.
            for of in ["index", "pack", "retired"] {
                self.since.in_time()?;
                home.shelf.remove(&of_pack(name, of))?;
            }
            given_back += bytes_of(&named, name);
        }
        let mut later = 0;
        if home.shared {
            given_back += self.drop_leftovers(&named, &ago)?;
            let mut waiting = leaving.clone();
            let retired = named.keys().filter_map(|name| in_packs(name));
            waiting.extend(retired.filter_map(|(name, of)| (of == "retired").then_some(name)));
            let waiting = waiting.difference(&gone);
            later = waiting.map(|name| bytes_of(&named, name)).sum();
        }
        let packs = &self.packs;
        self.known
            .retain(|_, at| !leaving.contains(packs[at.pack as usize].as_str()));
        Ok(Thinned {
            given_back: given_back.saturating_sub(self.grown()),
            later,
            among,
        })
    }

    /// The packs whose index can be read: the others are left as they are.
    fn packs_of(
        &self,
        named: &Named,
        ago: &dyn Fn(&Object) -> Duration,
    ) -> (Vec<String>, Vec<Pack<Hash>>) {
        let indexes = self.indexes().into_iter();
        let read = indexes.filter_map(|index| {
            let retired = named.get(&of_pack(&index.name, "retired"));
            let pieces = index.pieces.ok()?.into_iter();
            let pack = Pack {
                pieces: pieces
                    .map(|(hash, at)| (hash, u64::from(at.packed)))
                    .collect(),
                retired: retired.map(ago),
            };
            Some((index.name, pack))
        });
        read.unzip()
    }

    /// Writes pieces to a new pack, in the order in which they lie.
    fn move_on<'h>(
        &mut self,
        pieces: impl Iterator<Item = &'h Hash>,
        lists: &BTreeSet<Hash>,
    ) -> Result<()> {
        let mut pieces: Vec<&Hash> = pieces.collect();
        pieces.sort_by_key(|hash| self.lies_at(hash));
        for hash in pieces {
            let piece = self.get(hash);
            let piece = piece.map_err(|why| Error::Backup(BackupFault::Store { why }))?;
            let lane = match lists.contains(hash) {
                true => self.of_lists(),
                false => &self.contents,
            };
            self.add(*hash, &piece, &mut Packs::default(), lane)?;
        }
        self.commit()
    }

    /// Removes what others left behind who were killed a day ago: no index will speak of it any more.
    fn drop_leftovers(&self, named: &Named, ago: &dyn Fn(&Object) -> Duration) -> Result<u64> {
        let mut given_back = 0;
        for object in named.values().filter(|object| ago(object) >= GRACE) {
            let is_left = match in_packs(&object.name) {
                Some((_, "part")) => true,
                Some((name, "pack")) => !named.contains_key(&of_pack(name, "index")),
                Some((name, "retired")) => !named.contains_key(&of_pack(name, "pack")),
                _ => false,
            };
            if is_left {
                self.since.in_time()?;
                self.home.shelf.remove(&object.name)?;
                given_back += object.bytes;
            }
        }
        Ok(given_back)
    }
}

/// How much a pack takes, in bytes.
fn bytes_of(named: &Named, name: &str) -> u64 {
    let objects = ["pack", "index"].into_iter();
    let objects = objects.filter_map(|of| named.get(&of_pack(name, of)));
    objects.map(|object| object.bytes).sum()
}
