//! `.lantern/ledger.db`: what every file is, who put it there, and what was done here.

mod cache;
mod shared;

pub use cache::{Inside, InsideKey, Insides, Learnt};
pub use shared::Rows;

use crate::config::fault::ConfigFault;
use crate::error::{Error, Result};
use crate::folder::{Folder, own};
use crate::format1;
use lantern_core::component::Id;
use lantern_core::inventory::{Beneath, Remembered};
use lantern_core::operation::{self, Detail, OperationKind, Record, WayBack};
use lantern_core::path::RelPath;
use parking_lot::{ReentrantMutex, ReentrantMutexGuard};
use rusqlite::config::DbConfig;
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// The ledger of one server.
#[derive(Debug)]
pub struct Ledger {
    path: PathBuf,
    db: ReentrantMutex<Connection>,
}

/// One operation as the history has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Logged {
    /// Counts up from 1.
    pub number: i64,
    /// What it was.
    pub kind: OperationKind,
    /// When it ended, in milliseconds since 1970.
    pub ended_ms: i64,
    /// The server version before; for the undo of a restore, the backup's name.
    pub from: String,
    /// The server version after; for a restore, the backup's name.
    pub to: String,
    /// Whether it was taken back.
    pub undone: bool,
    /// Why it failed, and the old state came back by itself; none where it did not.
    pub failed: Option<String>,
    /// Whether what it set aside was thinned out, so that it cannot be taken back.
    pub is_thinned: bool,
}

impl Logged {
    /// Whether it can be taken back.
    pub fn is_in_force(&self) -> bool {
        self.can_be_in_force() && !self.is_thinned
    }

    /// Whether it changed the server, and was not taken back.
    pub fn can_be_in_force(&self) -> bool {
        self.kind != OperationKind::Undo && !self.undone && self.failed.is_none()
    }
}

/// The number of the ledger's format.
const FORMAT: i64 = 7;

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
    CREATE TABLE IF NOT EXISTS download (
        path TEXT PRIMARY KEY, bytes INTEGER NOT NULL, modified_ns INTEGER NOT NULL,
        changed_ns INTEGER NOT NULL, inode INTEGER NOT NULL, hash TEXT NOT NULL
    ) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS contents (hash TEXT PRIMARY KEY, list TEXT NOT NULL) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS shipped (number INTEGER PRIMARY KEY, hash TEXT NOT NULL UNIQUE, bytes INTEGER NOT NULL, packed BLOB NOT NULL);
    CREATE TABLE IF NOT EXISTS detail (number INTEGER PRIMARY KEY, what TEXT NOT NULL);
    CREATE TABLE IF NOT EXISTS named (
        path TEXT PRIMARY KEY, bytes INTEGER NOT NULL, modified_ns INTEGER NOT NULL,
        changed_ns INTEGER NOT NULL, inode INTEGER NOT NULL, hashes TEXT NOT NULL
    ) WITHOUT ROWID;
    PRAGMA user_version = 7;
";

impl Ledger {
    /// Opens the ledger, and makes it where there is none.
    ///
    /// # Errors
    /// When the file cannot be read or written, is no ledger, or is of a format that only a later lantern reads.
    pub fn open(folder: &Folder) -> Result<Ledger> {
        folder.make_own("")?;
        let path = folder.shown(&own("ledger.db"));
        let open = || -> rusqlite::Result<(Connection, i64)> {
            let db = Connection::open(&path)?;
            db.pragma_update(None, "journal_mode", "WAL")?;
            db.pragma_update(None, "synchronous", "FULL")?;
            // The log is taken over into the file when it has grown, not whenever a command ends.
            db.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true)?;
            let found = db.query_row("PRAGMA user_version", [], |row| row.get(0))?;
            if found != 3 && found < FORMAT {
                db.execute_batch(SCHEMA)?;
            }
            Ok((db, found))
        };
        let (db, found) = match open() {
            Ok(opened) => opened,
            Err(source) => return Err(Error::Ledger { path, source }),
        };
        if found > FORMAT {
            return Err(Error::NewerState {
                path,
                found: found.unsigned_abs(),
                reads: FORMAT.unsigned_abs(),
            });
        }
        let ledger = Ledger {
            path,
            db: ReentrantMutex::new(db),
        };
        if found == 3 {
            ledger.bring_forward()?;
        }
        Ok(ledger)
    }

    /// Writes the ways back anew that a lantern of format 3 wrote, all or nothing.
    fn bring_forward(&self) -> Result<()> {
        let remembered = self.remembered()?;
        let ways = || -> rusqlite::Result<Vec<(i64, String)>> {
            let db = self.db();
            let mut query =
                db.prepare("SELECT number, way_back FROM operation WHERE way_back <> ''")?;
            let rows = query.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
            rows.collect()
        };
        let mut anew = Vec::new();
        for (number, text) in self.told(ways())? {
            let way_back =
                format1::way_back(&text, &remembered).map_err(|why| self.unread(&why))?;
            anew.push((number, way_back));
        }
        let write = || {
            let db = self.db();
            let change = db.unchecked_transaction()?;
            for (number, way_back) in &anew {
                let text = way_back.as_ref().map_or(String::new(), written);
                let query = "UPDATE operation SET way_back = ?2 WHERE number = ?1";
                change.execute(query, params![number, text])?;
            }
            change.execute_batch(SCHEMA)?;
            change.commit()
        };
        self.told(write())
    }

    /// The database, of which one thread at a time makes use.
    fn db(&self) -> ReentrantMutexGuard<'_, Connection> {
        self.db.lock()
    }

    fn unread(&self, why: &str) -> Error {
        Error::Config(ConfigFault::Text {
            path: self.path.clone(),
            why: why.to_owned(),
        })
    }

    /// Writes a copy of the ledger to a new file.
    ///
    /// # Errors
    /// When it cannot be read or written.
    pub fn copy_to(&self, path: &Path) -> Result<()> {
        let text = path.display().to_string();
        self.told(self.db().execute("VACUUM INTO ?1", [text]))
            .map(|_| ())
    }

    fn told<T>(&self, result: rusqlite::Result<T>) -> Result<T> {
        result.map_err(|source| Error::Ledger {
            path: self.path.clone(),
            source,
        })
    }

    /// What was put where, and by whom.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn remembered(&self) -> Result<BTreeMap<RelPath, Remembered>> {
        let rows = || {
            let db = self.db();
            let mut query = db.prepare(
                "SELECT path, hash, owner, version, shipped, under_owner, under_version, under_hash FROM put",
            )?;
            let rows = query.query_map([], |row| {
                let path: String = row.get(0)?;
                Ok(RelPath::parse(&path).ok().map(|path| {
                    let remembered = Remembered {
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
                    };
                    Ok((path, remembered))
                }))
            })?;
            rows.filter_map(Result::transpose).map(|row| row?).collect()
        };
        self.told(rows())
    }

    /// Remembers files, each in the place of what was known of its path, or forgets them.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn put(&self, files: &BTreeMap<RelPath, Option<Remembered>>) -> Result<()> {
        let write = || {
            let db = self.db();
            let change = db.unchecked_transaction()?;
            put_files(&change, files)?;
            change.commit()
        };
        self.told(write())
    }

    /// Writes an operation down together with all that is recorded of it, all or nothing.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn record(
        &mut self,
        operation: &Logged,
        record: &Record,
        way_back: Option<&WayBack>,
        detail: &Detail,
    ) -> Result<()> {
        let write = || {
            let db = self.db();
            let change = db.unchecked_transaction()?;
            put_files(&change, &record.files)?;
            for (id, variant) in &record.variants {
                match variant {
                    Some(variant) => {
                        let query = "INSERT OR REPLACE INTO choice VALUES (?1, ?2)";
                        change.execute(query, params![id.as_str(), variant])?;
                    }
                    None => {
                        change.execute("DELETE FROM choice WHERE id = ?1", [id.as_str()])?;
                    }
                }
            }
            change.execute(
                "INSERT OR REPLACE INTO operation VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                params![
                    operation.number,
                    operation.kind.as_str(),
                    operation.ended_ms,
                    operation.from,
                    operation.to,
                    way_back.map_or(String::new(), written),
                    operation.undone
                ],
            )?;
            let detail = serde_json::to_string(detail).expect("it has only plain values");
            let query = "INSERT OR REPLACE INTO detail VALUES (?1, ?2)";
            change.execute(query, params![operation.number, detail])?;
            if let Some(why) = &operation.failed {
                let query = "INSERT OR REPLACE INTO failure VALUES (?1, ?2)";
                change.execute(query, params![operation.number, why])?;
            }
            if let Some(number) = record.takes_back {
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
            let db = self.db();
            let mut query = db.prepare("SELECT id, variant FROM choice")?;
            let rows = query.query_map([], |row| {
                Ok((Id::from(row.get::<_, String>(0)?), row.get(1)?))
            })?;
            rows.collect()
        };
        self.told(rows())
    }

    /// The number for the next operation.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn next_number(&self) -> Result<i64> {
        let query = "SELECT COALESCE(MAX(number), 0) + 1 FROM operation";
        self.told(self.db().query_row(query, [], |row| row.get(0)))
    }

    /// Everything that was done here, the first first.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn operations(&self) -> Result<Vec<Logged>> {
        let rows = || {
            let db = self.db();
            let mut query = db.prepare(
                "SELECT number, kind, ended_ms, came_from, went_to, undone, why, way_back = ''
                 FROM operation LEFT JOIN failure USING (number) ORDER BY number",
            )?;
            let rows = query.query_map([], |row| {
                let name: String = row.get(1)?;
                let kind = OperationKind::ALL
                    .into_iter()
                    .find(|kind| kind.as_str() == name);
                let kind = kind.ok_or(rusqlite::Error::InvalidQuery)?;
                let failed: Option<String> = row.get(6)?;
                let has_no_way_back: bool = row.get(7)?;
                Ok(Logged {
                    number: row.get(0)?,
                    kind,
                    ended_ms: row.get(2)?,
                    from: row.get(3)?,
                    to: row.get(4)?,
                    undone: row.get(5)?,
                    is_thinned: has_no_way_back && kind != OperationKind::Undo && failed.is_none(),
                    failed,
                })
            })?;
            rows.collect()
        };
        self.told(rows())
    }

    /// What an operation did; empty for one of before that was written down.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn detail(&self, number: i64) -> Result<Detail> {
        let query = "SELECT what FROM detail WHERE number = ?1";
        let found = self.db().query_row(query, [number], |row| row.get(0));
        let text: Option<String> = self.told(found.optional())?;
        let detail = text.map(|text| serde_json::from_str(&text));
        let detail = detail.transpose();
        Ok(detail
            .map_err(|error| self.unread(&error.to_string()))?
            .unwrap_or_default())
    }

    /// What is needed to take an operation back that is in force.
    ///
    /// # Errors
    /// When the ledger cannot be read, or a later lantern wrote it.
    pub fn way_back(&self, operation: &Logged) -> Result<WayBack> {
        let query = "SELECT way_back FROM operation WHERE number = ?1";
        let text: String = self.told(
            self.db()
                .query_row(query, [operation.number], |row| row.get(0)),
        )?;
        let way_back: WayBack =
            serde_json::from_str(&text).map_err(|error| self.unread(&error.to_string()))?;
        if way_back.format != operation::FORMAT {
            return Err(Error::NewerState {
                path: self.path.clone(),
                found: way_back.format.into(),
                reads: operation::FORMAT.into(),
            });
        }
        Ok(way_back)
    }

    /// What an undo takes back: the last changeover or restore that was not taken back; none when
    /// what it set aside was thinned out.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn last_in_force(&self) -> Result<Option<Logged>> {
        let mut last_first = self.operations()?.into_iter().rev();
        let last = last_first.find(Logged::can_be_in_force);
        Ok(last.filter(|last| !last.is_thinned))
    }

    /// Writes down that an operation has ended only now.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn ended(&self, number: i64, ms: i64) -> Result<()> {
        let query = "UPDATE operation SET ended_ms = ?2 WHERE number = ?1";
        self.told(self.db().execute(query, params![number, ms]).map(|_| ()))
    }

    /// Forgets the way back of an operation whose set-aside files are about to go.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn thin(&mut self, number: i64) -> Result<()> {
        let query = "UPDATE operation SET way_back = '' WHERE number = ?1";
        self.told(self.db().execute(query, [number]).map(|_| ()))
    }
}

/// A way back as it is written down.
fn written(way_back: &WayBack) -> String {
    serde_json::to_string(way_back).expect("a way back has only plain values")
}

fn put_files(
    db: &Connection,
    files: &BTreeMap<RelPath, Option<Remembered>>,
) -> rusqlite::Result<()> {
    let mut delete = db.prepare("DELETE FROM put WHERE path = ?1")?;
    let mut insert =
        db.prepare("INSERT OR REPLACE INTO put VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)")?;
    for (path, known) in files {
        let Some(known) = known else {
            delete.execute([path.as_str()])?;
            continue;
        };
        let under = known.under.as_ref();
        insert.execute(params![
            path.as_str(),
            known.hash,
            known.owner.as_ref().map(Id::as_str),
            known.version,
            known.shipped,
            under.map(|under| under.owner.as_str()),
            under.and_then(|under| under.version.as_deref()),
            under.map(|under| under.hash.as_str()),
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
        let path = RelPath::parse("addons/a.bloom").unwrap();
        let known = Remembered {
            hash: "00".into(),
            owner: Some(Id::new("a")),
            version: None,
            shipped: true,
            under: None,
        };
        let weather = Id::new("weather");
        let record = Record {
            files: BTreeMap::from([(path.clone(), Some(known.clone()))]),
            variants: BTreeMap::from([(weather.clone(), Some("wild".to_owned()))]),
            takes_back: None,
        };
        let way_back = WayBack {
            format: operation::FORMAT,
            record: record.reversed(&BTreeMap::new(), &BTreeMap::new()),
            ..WayBack::default()
        };
        let first = Logged {
            number: ledger.next_number().unwrap(),
            kind: OperationKind::Changeover,
            ended_ms: 5,
            from: "5.1".into(),
            to: "5.4".into(),
            undone: false,
            failed: None,
            is_thinned: false,
        };
        let detail = Detail {
            backup: Some("0001".into()),
            ..Detail::default()
        };
        ledger
            .record(&first, &record, Some(&way_back), &detail)
            .unwrap();
        assert_eq!(ledger.detail(1).unwrap(), detail);
        assert_eq!(ledger.detail(9).unwrap(), Detail::default());
        drop(ledger);
        let mut ledger = Ledger::open(&folder).unwrap();
        assert_eq!(ledger.remembered().unwrap()[&path], known);
        assert_eq!(ledger.variants().unwrap()[&weather], "wild");
        let last = ledger.last_in_force().unwrap().unwrap();
        assert_eq!(last, first);
        let back = ledger.way_back(&last).unwrap();
        assert_eq!(back, way_back);
        let undo = Logged {
            number: ledger.next_number().unwrap(),
            kind: OperationKind::Undo,
            is_thinned: true,
            ..first
        };
        let record = Record {
            takes_back: Some(1),
            ..back.record
        };
        ledger
            .record(&undo, &record, None, &Detail::default())
            .unwrap();
        assert_eq!(ledger.last_in_force().unwrap(), None);
        assert!(ledger.remembered().unwrap().is_empty());
        assert!(ledger.variants().unwrap().is_empty());
    }

    #[test]
    fn a_ledger_of_a_later_lantern_is_refused() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::open(dir.path()).unwrap();
        let ledger = Ledger::open(&folder).unwrap();
        ledger
            .db()
            .pragma_update(None, "user_version", FORMAT + 1)
            .unwrap();
        drop(ledger);
        let refused = Ledger::open(&folder).unwrap_err();
        assert!(
            matches!(refused, Error::NewerState { found, .. } if found == FORMAT as u64 + 1),
            "{refused}"
        );
    }

    #[test]
    fn garbage_is_no_ledger() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::open(dir.path()).unwrap();
        let path = folder.make_own("").unwrap().join("ledger.db").unwrap();
        let text = b"not a database, but long enough to be looked at";
        folder.write_new(&path, text, None).unwrap();
        assert!(matches!(Ledger::open(&folder), Err(Error::Ledger { .. })));
    }
}
