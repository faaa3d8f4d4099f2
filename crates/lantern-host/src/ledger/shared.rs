//! What a ledger knows, as rows that another machine's ledger takes in.

use super::Ledger;
use crate::error::{Error, Result};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use rusqlite::types::{Value, ValueRef};
use rusqlite::{ToSql, Transaction, params_from_iter};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The tables that are true on any machine, each with the column by which its rows are sorted. Of the others it is known again when it is
/// asked for.
const TABLES: [(&str, &str); 7] = [
    ("operation", "number"),
    ("failure", "number"),
    ("detail", "number"),
    ("choice", "id"),
    ("put", "path"),
    ("seen", "path"),
    ("shipped", "number"),
];

/// The ledger's format in which these tables came to be as they are: later ones have others besides.
const SHARED: i64 = 6;

/// A value in a row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
enum Cell {
    None,
    Number(i64),
    Text(String),
    /// Bytes, in base64.
    Bytes {
        base64: String,
    },
}

/// What a ledger knows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rows {
    /// The number of the ledger's format in which the tables came to be so.
    format: i64,
    /// By table, each row as its columns.
    tables: BTreeMap<String, Vec<Vec<Cell>>>,
}

impl Rows {
    /// What tells one operation from all others, of each in order.
    pub fn operations(&self) -> Vec<String> {
        let rows = self.tables.get("operation").into_iter().flatten();
        // Its number, what it was, when it ended, from where and to where; whether it was taken back comes later.
        let told = rows.map(|row| serde_json::to_string(&row[..row.len().min(5)]));
        told.map(Result::unwrap_or_default).collect()
    }
}

impl Ledger {
    /// What it knows.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn rows(&self) -> Result<Rows> {
        let read = |(table, sorted): (&str, &str)| {
            let db = self.db();
            let mut query = db.prepare(&format!("SELECT * FROM {table} ORDER BY {sorted}"))?;
            let many = query.column_count();
            let rows = query.query_map([], |row| {
                let cells = (0..many).map(|at| {
                    Ok(match row.get_ref(at)? {
                        ValueRef::Integer(number) => Cell::Number(number),
                        ValueRef::Text(text) => Cell::Text(String::from_utf8_lossy(text).into()),
                        ValueRef::Blob(bytes) => Cell::Bytes {
                            base64: STANDARD.encode(bytes),
                        },
                        ValueRef::Null | ValueRef::Real(_) => Cell::None,
                    })
                });
                cells.collect::<rusqlite::Result<Vec<Cell>>>()
            })?;
            Ok((table.to_owned(), rows.collect::<rusqlite::Result<_>>()?))
        };
        let tables = TABLES.into_iter().map(read);
        Ok(Rows {
            format: SHARED,
            tables: self.told(tables.collect())?,
        })
    }

    /// Knows what another ledger of the same server does, in the place of what it knew; all or nothing.
    ///
    /// # Errors
    /// When they are of another format, or no rows of a ledger; or it cannot be written.
    pub fn take_in(&self, rows: &Rows) -> Result<()> {
        if rows.format != SHARED {
            return Err(Error::NewerState {
                path: self.path.clone(),
                found: rows.format.unsigned_abs(),
                reads: SHARED.unsigned_abs(),
            });
        }
        let db = self.db();
        let change = self.told(db.unchecked_transaction())?;
        self.told(put_all(&change, rows))?;
        // What nobody could read again is not taken.
        self.remembered()?;
        self.variants()?;
        self.seen()?;
        for operation in self.operations()? {
            self.detail(operation.number)?;
            if operation.is_in_force() {
                self.way_back(&operation)?;
            }
        }
        self.told(change.commit())
    }
}

fn put_all(change: &Transaction<'_>, rows: &Rows) -> rusqlite::Result<()> {
    for (table, _) in TABLES {
        change.execute(&format!("DELETE FROM {table}"), [])?;
        let columns = change.prepare(&format!("SELECT * FROM {table}"))?;
        let places = vec!["?"; columns.column_count()].join(", ");
        let mut put = change.prepare(&format!("INSERT INTO {table} VALUES ({places})"))?;
        for row in rows.tables.get(table).into_iter().flatten() {
            put.execute(params_from_iter(row.iter().map(value)))?;
        }
    }
    Ok(())
}

fn value(cell: &Cell) -> impl ToSql {
    match cell {
        Cell::None => Value::Null,
        Cell::Number(number) => Value::Integer(*number),
        Cell::Text(text) => Value::Text(text.clone()),
        Cell::Bytes { base64 } => STANDARD.decode(base64).map_or(Value::Null, Value::Blob),
    }
}
