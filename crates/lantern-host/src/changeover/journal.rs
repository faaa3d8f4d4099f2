//! `.lantern/journal.json`: what is being done, written down before it is done.

use crate::config::fault::ConfigFault;
use crate::error::{Error, Result};
use crate::folder::{Folder, own};
use crate::format1;
use lantern_core::operation::{FORMAT, Journal};
use lantern_core::path::RelPath;
use serde::Deserialize;

/// What every format of the journal has; the first had no number.
#[derive(Deserialize)]
struct Numbered {
    format: Option<u32>,
}

fn path() -> RelPath {
    own("journal.json")
}

/// Reads the journal of an operation that was cut off; none when there is none.
///
/// # Errors
/// When it is there and cannot be read, or a later lantern wrote it.
pub fn read(folder: &Folder) -> Result<Option<Journal>> {
    let Some(text) = folder.read_if_there(&path())? else {
        return Ok(None);
    };
    let shown = folder.shown(&path());
    let read = match serde_json::from_slice::<Numbered>(&text) {
        Ok(Numbered { format: None }) => format1::journal(&text),
        Ok(Numbered {
            format: Some(found),
        }) if found > FORMAT => {
            return Err(Error::NewerState {
                path: shown,
                found: found.into(),
                reads: FORMAT.into(),
            });
        }
        _ => serde_json::from_slice(&text).map_err(|error| error.to_string()),
    };
    read.map(Some)
        .map_err(|why| Error::Config(ConfigFault::Text { path: shown, why }))
}

/// Writes the journal down; it lasts from here on.
///
/// # Errors
/// When the disk refuses; what it says must then not begin.
pub fn write(folder: &Folder, journal: &Journal) -> Result<()> {
    let text = serde_json::to_vec(journal).expect("a journal has only plain values");
    folder.write_whole(&path(), &text)
}

/// Removes the journal: the operation has ended.
///
/// # Errors
/// When it cannot be removed.
pub fn remove(folder: &Folder) -> Result<()> {
    if folder.has(&path())? {
        folder.remove_file(&path())?;
    }
    folder.sync(path().folder().as_ref())
}
