//! `.lantern/ledger.db`: what every file is, who put it there, and what was done here.

use crate::error::{Error, Result};
use crate::folder::{Folder, Stamp};
use lantern_core::component::Id;
use lantern_core::descriptor::Found;
use lantern_core::inventory::{Beneath, Remembered};
use lantern_core::path::RelPath;
use rusqlite::config::DbConfig;
use rusqlite::types::{FromSql, FromSqlError, FromSqlResult, ValueRef};
use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};

/// The ledger of one server.
#[derive(Debug)]
pub struct Ledger {
    path: PathBuf,
    db: Connection,
}

/// One thing that was done to the server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Operation {
    /// Counts up from 1.
    pub number: i64,
    /// What it was.
    pub kind: Doing,
    /// When it ended, in milliseconds since 1970.
    pub ended_ms: i64,
    /// The server version before; for the undo of a restore, the backup's name.
    pub from: String,
    /// The server version after; for a restore, the backup's name.
    pub to: String,
    /// What is needed to take it back, as JSON.
    pub way_back: String,
    /// Whether it was taken back.
    pub undone: bool,
    /// Why it failed, and the old state came back by itself; none where it did not.
    pub failed: Option<String>,
}

/// What was done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Doing {
    /// A plan was carried out.
    Changeover,
    /// One of the others was taken back.
    Undo,
    /// A backup was put back where it came from.
    Restore,
}

impl Doing {
    /// Its name.
    pub fn as_str(self) -> &'static str {
        match self {
            Doing::Changeover => "changeover",
            Doing::Undo => "undo",
            Doing::Restore => "restore",
        }
    }
}

impl FromSql for Doing {
    fn column_result(value: ValueRef<'_>) -> FromSqlResult<Doing> {
        let name = value.as_str()?;
        let all = [Doing::Changeover, Doing::Undo, Doing::Restore];
        let found = all.into_iter().find(|doing| doing.as_str() == name);
        found.ok_or(FromSqlError::InvalidType)
    }
}

impl Operation {
    /// Whether it can be taken back.
    pub fn is_in_force(&self) -> bool {
        self.can_be_in_force() && !self.is_thinned()
    }

    /// Whether it changed the server, and was not taken back.
    fn can_be_in_force(&self) -> bool {
        self.kind != Doing::Undo && !self.undone && self.failed.is_none()
    }

    /// Whether what it set aside was thinned out, so that it cannot be taken back.
    pub fn is_thinned(&self) -> bool {
        self.way_back.is_empty()
    }
}

const SCHEMA: &str = "
    CREATE TABLE IF NOT EXISTS seen (
        path TEXT PRIMARY KEY, bytes INTEGER NOT NULL, modified_ns INTEGER NOT NULL,
        changed_ns INTEGER NOT NULL, inode INTEGER NOT NULL, hash TEXT NOT NULL
    ) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS inside (
        hash TEXT NOT NULL, wanted TEXT NOT NULL, found TEXT NOT NULL, PRIMARY KEY (hash, wanted)
    ) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS put (
        path TEXT PRIMARY KEY, hash TEXT NOT NULL, owner TEXT, version TEXT, shipped INTEGER NOT NULL,
        under_owner TEXT, under_version TEXT, under_hash TEXT
    ) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS choice (id TEXT PRIMARY KEY, variant TEXT NOT NULL) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS operation (
        number INTEGER PRIMARY KEY, kind TEXT NOT NULL, ended_ms INTEGER NOT NULL,
        came_from TEXT NOT NULL, went_to TEXT NOT NULL, way_back TEXT NOT NULL, undone INTEGER NOT NULL
    );
    CREATE TABLE IF NOT EXISTS failure (number INTEGER PRIMARY KEY, why TEXT NOT NULL);
    PRAGMA user_version = 3;
";

/// What was found in an archive, or why it cannot be read.
pub type Inside = std::result::Result<Vec<Found>, String>;

/// An archive's BLAKE3, and what was looked for in it.
pub type InsideKey = (String, String);

/// One row of what was put where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Put {
    /// The path.
    pub path: RelPath,
    /// BLAKE3 of what was put there.
    pub hash: String,
    /// The component that it belongs to.
    pub owner: Option<Id>,
    /// That component's version.
    pub version: Option<String>,
    /// Whether a release shipped it, rather than adoption finding it.
    pub shipped: bool,
    /// The file of a lower layer that lies under it.
    pub under: Option<Beneath>,
}

impl Ledger {
    /// Opens the ledger, and makes it where there is none.
    ///
    /// # Errors
    /// When the file cannot be read or written, or is no ledger.
    pub fn open(folder: &Folder) -> Result<Ledger> {
        folder.make_own("")?;
        let path = folder.own("ledger.db");
        let open = || -> rusqlite::Result<Connection> {
            let db = Connection::open(&path)?;
            db.pragma_update(None, "journal_mode", "WAL")?;
            db.pragma_update(None, "synchronous", "FULL")?;
            // The log is taken over into the file when it has grown, not whenever a command ends.
            db.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true)?;
            if db.query_row("PRAGMA user_version", [], |row| row.get::<_, i64>(0))? < 3 {
                db.execute_batch(SCHEMA)?;
            }
            Ok(db)
        };
        match open() {
            Ok(db) => Ok(Ledger { path, db }),
            Err(source) => Err(Error::Ledger { path, source }),
        }
    }

    /// Writes a copy of the ledger to a new file.
    ///
    /// # Errors
    /// When it cannot be read or written.
    pub fn copy_to(&self, path: &Path) -> Result<()> {
        let text = path.display().to_string();
        self.told(self.db.execute("VACUUM INTO ?1", [text]))
            .map(|_| ())
    }

    fn told<T>(&self, result: rusqlite::Result<T>) -> Result<T> {
        result.map_err(|source| Error::Ledger {
            path: self.path.clone(),
            source,
        })
    }

    /// The hashes of all files as they were when last read.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn seen(&self) -> Result<HashMap<String, (Stamp, String)>> {
        let rows = || {
            let mut query = self
                .db
                .prepare("SELECT path, bytes, modified_ns, changed_ns, inode, hash FROM seen")?;
            let rows = query.query_map([], |row| {
                let stamp = Stamp {
                    bytes: row.get::<_, i64>(1)? as u64,
                    modified_ns: row.get(2)?,
                    changed_ns: row.get(3)?,
                    inode: row.get::<_, i64>(4)? as u64,
                };
                Ok((row.get(0)?, (stamp, row.get(5)?)))
            })?;
            rows.collect()
        };
        self.told(rows())
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
            let change = self.db.unchecked_transaction()?;
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
    pub fn insides(&self) -> Result<HashMap<InsideKey, Inside>> {
        let rows = || {
            let mut query = self.db.prepare("SELECT hash, wanted, found FROM inside")?;
            let rows = query.query_map([], |row| {
                let found: String = row.get(2)?;
                Ok(((row.get(0)?, row.get(1)?), found))
            })?;
            rows.collect::<rusqlite::Result<Vec<(InsideKey, String)>>>()
        };
        let rows = self.told(rows())?.into_iter();
        // What cannot be read back is looked for again.
        Ok(rows
            .filter_map(|(key, found)| Some((key, serde_json::from_str(&found).ok()?)))
            .collect())
    }

    /// Remembers what was found in archives, and forgets those that are gone.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn remember_insides(&mut self, found: &[(&InsideKey, &Inside)]) -> Result<()> {
        let write = || {
            let change = self.db.unchecked_transaction()?;
            change.execute(
                "DELETE FROM inside WHERE hash NOT IN (SELECT hash FROM seen)",
                [],
            )?;
            {
                let mut insert =
                    change.prepare("INSERT OR REPLACE INTO inside VALUES (?1, ?2, ?3)")?;
                for ((hash, wanted), found) in found {
                    let found = serde_json::to_string(found).unwrap_or_default();
                    insert.execute(params![hash, wanted, found])?;
                }
            }
            change.commit()
        };
        self.told(write())
    }

    /// What was put where, and by whom.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn remembered(&self) -> Result<BTreeMap<RelPath, Remembered>> {
        let puts = self.puts()?.into_iter();
        Ok(puts
            .map(|put| {
                let remembered = Remembered {
                    owner: put.owner,
                    version: put.version,
                    hash: put.hash,
                    shipped: put.shipped,
                    under: put.under,
                };
                (put.path, remembered)
            })
            .collect())
    }

    /// Every row of what was put where.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn puts(&self) -> Result<Vec<Put>> {
        let rows = || {
            let mut query = self
                .db
                .prepare("SELECT path, hash, owner, version, shipped, under_owner, under_version, under_hash FROM put")?;
            let rows = query.query_map([], |row| {
                let path: String = row.get(0)?;
                Ok(RelPath::parse(&path).ok().map(|path| {
                    Ok(Put {
                        path,
                        hash: row.get(1)?,
                        owner: row.get::<_, Option<String>>(2)?.map(Id::from),
                        version: row.get(3)?,
                        shipped: row.get(4)?,
                        under: match (row.get::<_, Option<String>>(5)?, row.get(7)?) {
                            (Some(owner), Some(hash)) => Some(Beneath {
                                owner: Id::from(owner),
                                version: row.get(6)?,
                                hash,
                            }),
                            _ => None,
                        },
                    })
                }))
            })?;
            rows.filter_map(Result::transpose).map(|row| row?).collect()
        };
        self.told(rows())
    }

    /// Puts rows in the place of those of the same paths, and forgets others.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn put(&mut self, rows: &[Put], forget: &[RelPath]) -> Result<()> {
        let write = || {
            let change = self.db.unchecked_transaction()?;
            put_rows(&change, rows, forget)?;
            change.commit()
        };
        self.told(write())
    }

    /// Writes an operation down together with what it put where, all or nothing.
    ///
    /// `undoes` is the number of the operation that this one took back.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn record(
        &mut self,
        operation: &Operation,
        rows: &[Put],
        forget: &[RelPath],
        undoes: Option<i64>,
    ) -> Result<()> {
        let write = || {
            let change = self.db.unchecked_transaction()?;
            put_rows(&change, rows, forget)?;
            change.execute(
                "INSERT OR REPLACE INTO operation VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                params![
                    operation.number,
                    operation.kind.as_str(),
                    operation.ended_ms,
                    operation.from,
                    operation.to,
                    operation.way_back,
                    operation.undone
                ],
            )?;
            if let Some(why) = &operation.failed {
                let query = "INSERT OR REPLACE INTO failure VALUES (?1, ?2)";
                change.execute(query, params![operation.number, why])?;
            }
            if let Some(number) = undoes {
                change.execute(
                    "UPDATE operation SET undone = 1 WHERE number = ?1",
                    [number],
                )?;
            }
            change.commit()
        };
        self.told(write())
    }

    /// The variants that were chosen.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn variants(&self) -> Result<BTreeMap<Id, String>> {
        let rows = || {
            let mut query = self.db.prepare("SELECT id, variant FROM choice")?;
            let rows = query.query_map([], |row| {
                Ok((Id::from(row.get::<_, String>(0)?), row.get(1)?))
            })?;
            rows.collect()
        };
        self.told(rows())
    }

    /// Remembers which variant of a component was chosen.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn choose(&mut self, id: &Id, variant: &str) -> Result<()> {
        let write = || {
            let query = "INSERT OR REPLACE INTO choice VALUES (?1, ?2)";
            self.db
                .execute(query, params![id.as_str(), variant])
                .map(|_| ())
        };
        self.told(write())
    }

    /// The number for the next operation.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn next_number(&self) -> Result<i64> {
        let query = "SELECT COALESCE(MAX(number), 0) + 1 FROM operation";
        self.told(self.db.query_row(query, [], |row| row.get(0)))
    }

    /// Everything that was done here, the first first.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn operations(&self) -> Result<Vec<Operation>> {
        let rows = || {
            let mut query = self.db.prepare(
                "SELECT number, kind, ended_ms, came_from, went_to, way_back, undone, why
                 FROM operation LEFT JOIN failure USING (number) ORDER BY number",
            )?;
            let rows = query.query_map([], |row| {
                Ok(Operation {
                    number: row.get(0)?,
                    kind: row.get(1)?,
                    ended_ms: row.get(2)?,
                    from: row.get(3)?,
                    to: row.get(4)?,
                    way_back: row.get(5)?,
                    undone: row.get(6)?,
                    failed: row.get(7)?,
                })
            })?;
            rows.collect()
        };
        self.told(rows())
    }

    /// What an undo takes back: the last changeover or restore that was not taken back; none when
    /// what it set aside was thinned out.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn last_in_force(&self) -> Result<Option<Operation>> {
        let mut last_first = self.operations()?.into_iter().rev();
        let last = last_first.find(Operation::can_be_in_force);
        Ok(last.filter(|last| !last.is_thinned()))
    }

    /// Forgets the way back of an operation whose set-aside files are about to go.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn thin(&mut self, number: i64) -> Result<()> {
        let query = "UPDATE operation SET way_back = '' WHERE number = ?1";
        self.told(self.db.execute(query, [number]).map(|_| ()))
    }
}

fn put_rows(db: &Connection, rows: &[Put], forget: &[RelPath]) -> rusqlite::Result<()> {
    let mut delete = db.prepare("DELETE FROM put WHERE path = ?1")?;
    for path in forget {
        delete.execute([path.as_str()])?;
    }
    let mut insert =
        db.prepare("INSERT OR REPLACE INTO put VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)")?;
    for row in rows {
        insert.execute(params![
            row.path.as_str(),
            row.hash,
            row.owner.as_ref().map(Id::as_str),
            row.version,
            row.shipped,
            row.under.as_ref().map(|under| under.owner.as_str()),
            row.under
                .as_ref()
                .and_then(|under| under.version.as_deref()),
            row.under.as_ref().map(|under| under.hash.as_str()),
        ])?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_again() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::open(dir.path()).unwrap();
        let mut ledger = Ledger::open(&folder).unwrap();
        let path = RelPath::parse("addons/a.vpk").unwrap();
        let put = Put {
            path: path.clone(),
            hash: "00".into(),
            owner: Some(Id::new("a")),
            version: None,
            shipped: true,
            under: None,
        };
        ledger.put(&[put], &[]).unwrap();
        let operation = Operation {
            number: ledger.next_number().unwrap(),
            kind: Doing::Changeover,
            ended_ms: 5,
            from: "5.1".into(),
            to: "5.4".into(),
            way_back: "{}".into(),
            undone: false,
            failed: None,
        };
        ledger
            .record(&operation, &[], std::slice::from_ref(&path), None)
            .unwrap();
        drop(ledger);
        let mut ledger = Ledger::open(&folder).unwrap();
        assert!(ledger.remembered().unwrap().is_empty());
        assert_eq!(ledger.last_in_force().unwrap().as_ref(), Some(&operation));
        let undo = Operation {
            number: ledger.next_number().unwrap(),
            kind: Doing::Undo,
            ..operation
        };
        ledger.record(&undo, &[], &[], Some(1)).unwrap();
        assert_eq!(ledger.last_in_force().unwrap(), None);
    }

    #[test]
    fn garbage_is_no_ledger() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::open(dir.path()).unwrap();
        folder.make_own("").unwrap();
        std::fs::write(
            folder.own("ledger.db"),
            "not a database, but long enough to be looked at",
        )
        .unwrap();
        assert!(matches!(Ledger::open(&folder), Err(Error::Ledger { .. })));
    }
}
