//! `.lantern/journal.json`: what is being done, written down before it is done.
//!
//! Of a server on another machine it lies here, and a copy of it there, for whoever comes from a third machine.

use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::config::fault::ConfigFault;
use crate::error::{At, Error, Result};
use crate::folder::{Folder, own};
use crate::format1;
use crate::records;
use crate::runner::somebody;
use lantern_core::operation::{FORMAT, Journal};
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::io::{self, Read};

/// What every format of the journal has; the first had no number.
#[derive(Deserialize)]
struct Numbered {
    format: Option<u32>,
}

fn path() -> RelPath {
    own("journal.json")
}

/// The copy of a journal beside a server's files on another machine.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Copied {
    /// The number of the format, as of a journal.
    pub format: u32,
    /// Who wrote it.
    pub who: String,
    /// The mark of the adoption by which he came there.
    pub mark: String,
    /// It.
    pub journal: Journal,
}

/// Packed by zstd: it is written while the server is away, and of many files its text is megabytes.
fn copy() -> RelPath {
    own("under-way.json.zst")
}

/// No longer text of a copy is read, in bytes.
const LONGEST_COPY: u64 = 1 << 28;

fn unpacked(packed: &[u8]) -> io::Result<Vec<u8>> {
    let mut text = Vec::new();
    let unpacking = zstd::stream::read::Decoder::new(packed)?;
    unpacking.take(LONGEST_COPY).read_to_end(&mut text)?;
    Ok(text)
}

/// Reads the journal of an operation that was cut off; none when there is none. Where only its copy was written, that one.
///
/// # Errors
/// When it is there and cannot be read, or a later lantern wrote it; or somebody else's was cut off there.
pub fn read(server: &Server) -> Result<Option<Journal>> {
    let copied = match server.folder.read_if_there(&path())? {
        None => self::copied(server)?,
        // Where the copy is not seen, what stands here holds.
        Some(text) => match self::copied(server) {
            Ok(Some(others)) if others.mark != server.config.id => Some(others),
            // Somebody else has put back what was cut off, and gone on from there.
            Ok(None) if records::are_taken(&server.folder)? => {
                let aside = own("journal-before.json");
                server.folder.replace(&path(), &aside)?;
                None
            }
            _ => return parsed(&server.folder, &text).map(Some),
        },
    };
    match copied {
        None => Ok(None),
        Some(copied) if copied.mark == server.config.id => Ok(Some(copied.journal)),
        Some(Copied { who, journal, .. }) => Err(ChangeoverFault::CutOffElsewhere {
            who,
            told: journal.operation.cut_off(journal.phase),
        }
        .into()),
    }
}

/// The copy beside a server's files on another machine; none where there is none, or they lie here.
///
/// # Errors
/// When it is there and cannot be read, or a later lantern wrote it.
pub fn copied(server: &Server) -> Result<Option<Copied>> {
    let folder = &server.folder;
    if !folder.is_far() {
        return Ok(None);
    }
    let Some(packed) = folder.read_if_there(&copy())? else {
        return Ok(None);
    };
    let shown = folder.shown(&copy());
    let text = unpacked(&packed).at("unpacking", &shown)?;
    match serde_json::from_slice::<Numbered>(&text) {
        Ok(Numbered {
            format: Some(found),
        }) if found > FORMAT => Err(Error::NewerState {
            path: shown,
            found: found.into(),
            reads: FORMAT.into(),
        }),
        _ => serde_json::from_slice(&text).map(Some).map_err(|error| {
            Error::Config(ConfigFault::Text {
                path: shown,
                why: error.to_string(),
            })
        }),
    }
}

fn parsed(folder: &Folder, text: &[u8]) -> Result<Journal> {
    let shown = folder.shown(&path());
    let read = match serde_json::from_slice::<Numbered>(text) {
        Ok(Numbered { format: None }) => format1::journal(text),
        Ok(Numbered {
            format: Some(found),
        }) if found > FORMAT => {
            return Err(Error::NewerState {
                path: shown,
                found: found.into(),
                reads: FORMAT.into(),
            });
        }
        _ => serde_json::from_slice(text).map_err(|error| error.to_string()),
    };
    read.map_err(|why| Error::Config(ConfigFault::Text { path: shown, why }))
}

/// Writes the journal down; it lasts from here on.
///
/// # Errors
/// When the disk refuses; what it says must then not begin.
pub fn write(server: &Server, journal: &Journal) -> Result<()> {
    let folder = &server.folder;
    if folder.is_far() {
        // First there: what stands here is what holds.
        let copied = Copied {
            format: FORMAT,
            who: somebody(),
            mark: server.config.id.clone(),
            journal: journal.clone(),
        };
        let text = serde_json::to_vec(&copied).expect("a journal has only plain values");
        let packed = zstd::bulk::compress(&text, 3).at("packing", &folder.shown(&copy()))?;
        folder.write_whole(&copy(), &packed)?;
    }
    let text = serde_json::to_vec(journal).expect("a journal has only plain values");
    folder.write_whole(&path(), &text)
}

/// Removes the journal: the operation has ended.
///
/// # Errors
/// When it cannot be removed.
pub fn remove(server: &Server) -> Result<()> {
    let folder = &server.folder;
    remove_copy(server)?;
    if folder.has(&path())? {
        folder.remove_file(&path())?;
    }
    folder.sync(path().folder().as_ref())
}

/// Removes the copy beside a server's files on another machine, where there is one.
///
/// # Errors
/// When it cannot be removed.
pub fn remove_copy(server: &Server) -> Result<()> {
    let folder = &server.folder;
    match folder.is_far() && folder.has(&copy())? {
        true => folder.remove_file(&copy()),
        false => Ok(()),
    }
}
