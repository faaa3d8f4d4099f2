//! What was once found out, so that it need not be found out again: hashes by stamp, what lies in an archive by its
//! hash, and the texts of what releases shipped.

use super::Ledger;
use crate::error::Result;
use crate::folder::Stamp;
use crate::place::here;
use lantern_core::artifact::ArchivedFile;
use lantern_core::descriptor::Found;
use lantern_core::path::RelPath;
use lantern_core::supply::Checksum;
use rusqlite::{Connection, OptionalExtension, Row, params};
use std::collections::{BTreeSet, HashMap};
use std::path::Path;

/// What was found in an archive, or why it cannot be read.
pub type Inside = std::result::Result<Vec<Found>, String>;

/// An archive's BLAKE3, and what was looked for in it.
pub type InsideKey = (String, String);

/// What was found in archives, as it is written down.
#[derive(Debug)]
pub struct Insides(HashMap<InsideKey, String>);

impl Insides {
    /// What was found in one; none where nobody looked for it, or it cannot be read back.
    pub fn get(&self, key: &InsideKey) -> Option<Inside> {
        serde_json::from_str(self.0.get(key)?).ok()
    }
}

/// A file on another machine whose content was read after something else had stood for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Learnt {
    /// The file.
    pub path: RelPath,
    /// How it was when it was read.
    pub stamp: Stamp,
    /// What stood for its content.
    pub was: String,
    /// BLAKE3 of its content in hexadecimal.
    pub hash: String,
}

impl Ledger {
    /// Puts contents in the place of what stood for them, wherever that is remembered.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn learn(&self, learnt: &[Learnt]) -> Result<()> {
        let write = || {
            let db = self.db();
            let change = db.unchecked_transaction()?;
            for it in learnt {
                let (path, stamp) = (it.path.as_str(), &it.stamp);
                change.execute(
                    "UPDATE seen SET hash = ?1 WHERE path = ?2 AND hash = ?3 AND bytes = ?4 AND modified_ns = ?5",
                    params![it.hash, path, it.was, stamp.bytes as i64, stamp.modified_ns],
                )?;
                change.execute(
                    "UPDATE put SET hash = ?1 WHERE path = ?2 AND hash = ?3",
                    params![it.hash, path, it.was],
                )?;
            }
            change.commit()
        };
        self.told(write())
    }

    /// The hashes of all files as they were when last read.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn seen(&self) -> Result<HashMap<String, (Stamp, String)>> {
        let rows = || {
            let db = self.db();
            let mut query =
                db.prepare("SELECT path, bytes, modified_ns, changed_ns, inode, hash FROM seen")?;
            let rows = query.query_map([], |row| Ok((row.get(0)?, (stamp(row)?, row.get(5)?))))?;
            rows.collect()
        };
        self.told(rows())
    }

    /// The hashes that settings name of files, as those were when last read.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn named_hashes(&self) -> Result<HashMap<String, (Stamp, Vec<Checksum>)>> {
        let rows = || {
            let db = self.db();
            let mut query = db
                .prepare("SELECT path, bytes, modified_ns, changed_ns, inode, hashes FROM named")?;
            let rows = query.query_map([], |row| Ok((row.get(0)?, (stamp(row)?, row.get(5)?))))?;
            rows.collect::<rusqlite::Result<Vec<(String, (Stamp, String))>>>()
        };
        let rows = self.told(rows())?.into_iter();
        // What cannot be read back is taken again.
        Ok(rows
            .filter_map(|(path, (stamp, hashes))| {
                Some((path, (stamp, serde_json::from_str(&hashes).ok()?)))
            })
            .collect())
    }

    /// Remembers the hashes that settings name of a file.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn keep_named_hashes(
        &self,
        path: &RelPath,
        stamp: &Stamp,
        hashes: &[Checksum],
    ) -> Result<()> {
        let hashes = serde_json::to_string(hashes).unwrap_or_default();
        let wrote = self.db().execute(
            "INSERT OR REPLACE INTO named VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![
                path.as_str(),
                stamp.bytes as i64,
                stamp.modified_ns,
                stamp.changed_ns,
                stamp.inode as i64,
                hashes
            ],
        );
        self.told(wrote).map(|_| ())
    }

    /// Where files lie that are known to hold what is wanted: its hash, the path and what the file looked like.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn lies(&self, wanted: &BTreeSet<&str>) -> Result<Vec<(String, String, Stamp)>> {
        let seen = self.seen()?.into_iter();
        let held = seen.filter(|(_, (_, hash))| wanted.contains(&**hash));
        Ok(held
            .map(|(path, (stamp, hash))| (hash, path, stamp))
            .collect())
    }

    /// Remembers the hashes of files as they are read, and forgets files that are gone.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn see<'p>(
        &mut self,
        files: impl Iterator<Item = (&'p RelPath, Stamp, String)>,
        gone: &[&str],
    ) -> Result<()> {
        let mut files = files.peekable();
        if files.peek().is_none() && gone.is_empty() {
            return Ok(());
        }
        let write = || {
            let db = self.db();
            let change = db.unchecked_transaction()?;
            {
                let mut insert = change
                    .prepare("INSERT OR REPLACE INTO seen VALUES (?1, ?2, ?3, ?4, ?5, ?6)")?;
                for (path, stamp, hash) in files {
                    insert.execute(params![
                        path.as_str(),
                        stamp.bytes as i64,
                        stamp.modified_ns,
                        stamp.changed_ns,
                        stamp.inode as i64,
                        hash
                    ])?;
                }
                let mut delete = change.prepare("DELETE FROM seen WHERE path = ?1")?;
                for path in gone {
                    delete.execute([path])?;
                }
            }
            change.commit()
        };
        self.told(write())
    }

    /// What was found in archives, or why they cannot be read.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn insides(&self) -> Result<Insides> {
        let rows = || {
            let db = self.db();
            let mut query = db.prepare("SELECT hash, wanted, found FROM inside")?;
            let rows = query.query_map([], |row| Ok(((row.get(0)?, row.get(1)?), row.get(2)?)))?;
            rows.collect()
        };
        self.told(rows()).map(Insides)
    }

    /// Does what asks the ledger many things, of one moment: that is much quicker.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn at_one_moment<T>(&self, work: impl FnOnce() -> T) -> Result<T> {
        let is_one = !self.db().is_autocommit();
        if is_one {
            return Ok(work());
        }
        self.told(self.db().execute_batch("BEGIN"))?;
        let done = work();
        self.told(self.db().execute_batch("COMMIT"))?;
        Ok(done)
    }

    /// Remembers what was found in archives, and forgets those that are gone.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn remember_insides(&mut self, found: &[(&InsideKey, &Inside)]) -> Result<()> {
        let write = || {
            let db = self.db();
            let change = db.unchecked_transaction()?;
            forget_insides(&change)?;
            keep_insides(&change, found.iter().map(|(key, found)| (*key, *found)))?;
            change.commit()
        };
        self.told(write())
    }

    /// What was found in one archive, or why it cannot be read.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn inside(&self, (hash, wanted): &InsideKey) -> Result<Option<Inside>> {
        let query = "SELECT found FROM inside WHERE hash = ?1 AND wanted = ?2";
        let ask = || {
            let db = self.db();
            let mut query = db.prepare_cached(query)?;
            query.query_row([hash, wanted], |row| row.get::<_, String>(0))
        };
        let found = self.told(ask().optional())?;
        Ok(found.and_then(|found| serde_json::from_str(&found).ok()))
    }

    /// How a download looked when it was last read, and its hash.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn download(&self, path: &str) -> Result<Option<(Stamp, String)>> {
        let query = "SELECT path, bytes, modified_ns, changed_ns, inode, hash FROM download WHERE path = ?1";
        let ask = || {
            let db = self.db();
            let mut query = db.prepare_cached(query)?;
            query.query_row([path], |row| Ok((stamp(row)?, row.get(5)?)))
        };
        self.told(ask().optional())
    }

    /// The files in a download of this hash, where it was ever read through.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn contents(&self, hash: &str) -> Result<Option<Vec<ArchivedFile>>> {
        let query = "SELECT list FROM contents WHERE hash = ?1";
        let ask = || {
            let db = self.db();
            let mut query = db.prepare_cached(query)?;
            query.query_row([hash], |row| row.get::<_, String>(0))
        };
        // What cannot be read back is looked for again.
        Ok(self
            .told(ask().optional())?
            .and_then(|list| serde_json::from_str(&list).ok()))
    }

    /// Remembers downloads by how they look, lists of files by hash, and what was found in them; forgets those that are gone.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn keep_downloads<'d>(
        &self,
        hashed: impl Iterator<Item = (&'d String, &'d (Stamp, String))>,
        listed: impl Iterator<Item = (&'d String, &'d Vec<ArchivedFile>)>,
        found: impl Iterator<Item = (&'d InsideKey, &'d Inside)>,
    ) -> Result<()> {
        let write = || {
            let known: Vec<String> = {
                let db = self.db();
                let mut query = db.prepare("SELECT path FROM download")?;
                let rows = query.query_map([], |row| row.get(0))?;
                rows.collect::<rusqlite::Result<_>>()?
            };
            let is_gone = |path: &&String| here::look(Path::new(path)).is_none();
            let db = self.db();
            let change = db.unchecked_transaction()?;
            let before = change.total_changes();
            for path in known.iter().filter(is_gone) {
                change.execute("DELETE FROM download WHERE path = ?1", [path])?;
            }
            for (path, (stamp, hash)) in hashed {
                let query = "INSERT OR REPLACE INTO download VALUES (?1, ?2, ?3, ?4, ?5, ?6)";
                let row = params![
                    path,
                    stamp.bytes as i64,
                    stamp.modified_ns,
                    stamp.changed_ns,
                    stamp.inode as i64,
                    hash
                ];
                change.prepare_cached(query)?.execute(row)?;
            }
            for (hash, list) in listed {
                let list = serde_json::to_string(list).unwrap_or_default();
                let query = "INSERT OR IGNORE INTO contents VALUES (?1, ?2)";
                change.prepare_cached(query)?.execute(params![hash, list])?;
            }
            // While nothing comes or goes, nothing of what is known is too much.
            if change.total_changes() > before {
                let query = "DELETE FROM contents WHERE hash NOT IN (SELECT hash FROM download)";
                change.execute(query, [])?;
                forget_insides(&change)?;
            }
            keep_insides(&change, found)?;
            change.commit()
        };
        self.told(write())
    }

    /// Keeps texts by their BLAKE3, packed; where all together would take more than `most` bytes, those go first that no
    /// file is known by, the oldest first, and what still has no room is not kept.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn keep_texts(
        &self,
        texts: &mut dyn Iterator<Item = (String, Vec<u8>)>,
        most: u64,
    ) -> Result<()> {
        let write = || {
            let db = self.db();
            let change = db.unchecked_transaction()?;
            let total = "SELECT COALESCE(SUM(LENGTH(packed)), 0) FROM shipped";
            let mut taken: u64 = change.query_row(total, [], |row| row.get::<_, i64>(0))? as u64;
            for (hash, bytes) in texts {
                let known = "SELECT 1 FROM shipped WHERE hash = ?1";
                if change
                    .query_row(known, [&hash], |_| Ok(()))
                    .optional()?
                    .is_some()
                {
                    continue;
                }
                let Ok(packed) = zstd::bulk::compress(&bytes, 3) else {
                    continue;
                };
                while taken + packed.len() as u64 > most {
                    let oldest = "DELETE FROM shipped WHERE number = (SELECT MIN(number) FROM shipped WHERE hash NOT IN \
                                  (SELECT hash FROM put UNION SELECT under_hash FROM put WHERE under_hash IS NOT NULL)) \
                                  RETURNING LENGTH(packed)";
                    let gone = change.query_row(oldest, [], |row| row.get::<_, i64>(0));
                    match gone.optional()? {
                        Some(gone) => taken -= gone as u64,
                        None => break,
                    }
                }
                if taken + packed.len() as u64 <= most {
                    let query = "INSERT INTO shipped (hash, bytes, packed) VALUES (?1, ?2, ?3)";
                    change.execute(query, params![hash, bytes.len() as i64, packed])?;
                    taken += packed.len() as u64;
                }
            }
            change.commit()
        };
        self.told(write())
    }

    /// A text that was kept, by its BLAKE3; none where it was not, or is damaged.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn text(&self, hash: &str) -> Result<Option<Vec<u8>>> {
        let query = "SELECT bytes, packed FROM shipped WHERE hash = ?1";
        let row = self.db().query_row(query, [hash], |row| {
            Ok((row.get::<_, i64>(0)?, row.get::<_, Vec<u8>>(1)?))
        });
        let text = self.told(row.optional())?.and_then(|(bytes, packed)| {
            let text = zstd::bulk::decompress(&packed, usize::try_from(bytes).ok()?).ok()?;
            (blake3::hash(&text).to_hex().as_str() == hash).then_some(text)
        });
        Ok(text)
    }
}

/// Forgets what was found in archives that are gone.
fn forget_insides(change: &Connection) -> rusqlite::Result<()> {
    let gone = "DELETE FROM inside WHERE hash NOT IN (SELECT hash FROM seen UNION SELECT hash FROM download)";
    change.execute(gone, [])?;
    Ok(())
}

/// How a file looked, in the columns after its path.
fn stamp(row: &Row<'_>) -> rusqlite::Result<Stamp> {
    Ok(Stamp {
        bytes: row.get::<_, i64>(1)? as u64,
        modified_ns: row.get(2)?,
        changed_ns: row.get(3)?,
        inode: row.get::<_, i64>(4)? as u64,
    })
}

/// Writes down what was found in archives.
fn keep_insides<'i>(
    change: &Connection,
    found: impl Iterator<Item = (&'i InsideKey, &'i Inside)>,
) -> rusqlite::Result<()> {
    let mut insert = change.prepare("INSERT OR REPLACE INTO inside VALUES (?1, ?2, ?3)")?;
    for ((hash, wanted), found) in found {
        let found = serde_json::to_string(found).unwrap_or_default();
        insert.execute(params![hash, wanted, found])?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::folder::Folder;
    use lantern_core::inventory::Remembered;
    use std::collections::BTreeMap;

    #[test]
    fn texts_are_kept_within_their_room() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::open(dir.path()).unwrap();
        let ledger = Ledger::open(&folder).unwrap();
        let text = |n: u64| {
            let lines = (0..200).map(|line| format!("{}\n", (line * 7919 + n).pow(3)));
            let bytes = lines.collect::<String>().into_bytes();
            (blake3::hash(&bytes).to_hex().to_string(), bytes)
        };
        let keep = |ledger: &Ledger, n, most| {
            ledger
                .keep_texts(&mut std::iter::once(text(n)), most)
                .unwrap();
        };
        let is_kept = |ledger: &Ledger, n| ledger.text(&text(n).0).unwrap() == Some(text(n).1);
        keep(&ledger, 1, 1 << 20);
        keep(&ledger, 2, 1 << 20);
        assert!(is_kept(&ledger, 1) && is_kept(&ledger, 2) && !is_kept(&ledger, 3));
        // A file is known by the first: where there is room for two, the second goes.
        let known = Remembered {
            hash: text(1).0,
            owner: None,
            version: None,
            shipped: true,
            under: None,
        };
        let path = RelPath::parse("a.conf").unwrap();
        ledger.put(&BTreeMap::from([(path, Some(known))])).unwrap();
        let packed = |n| zstd::bulk::compress(&text(n).1, 3).unwrap().len() as u64;
        keep(&ledger, 3, packed(1) + packed(2) + packed(3) - 1);
        assert!(is_kept(&ledger, 1) && !is_kept(&ledger, 2) && is_kept(&ledger, 3));
        // Where there is none, it is not kept.
        keep(&ledger, 4, packed(1));
        assert!(is_kept(&ledger, 1) && !is_kept(&ledger, 3) && !is_kept(&ledger, 4));
    }
}
