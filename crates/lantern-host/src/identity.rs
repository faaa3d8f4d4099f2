//! Whether a server folder is the one that was taken into care.
//!
//! Lantern's records lie in the folder and go along with every copy of it, so they do not tell a server from its copy.
//! `.lantern/folder.json` says which folder of the disk they were written for.

use crate::config::fault::ConfigFault;
use crate::config::{FILE, PROCESS};
use crate::error::{Error, Result};
use crate::folder::{Folder, own};
use crate::place::here;
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::path::Path;
use toml_edit::DocumentMut;

/// A folder as the disk knows it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Known {
    format: u32,
    /// The number of the disk. It may be another one after a restart of the machine.
    disk: u64,
    /// The folder's number on that disk.
    inode: u64,
    /// Where it lies.
    path: String,
}

/// What a folder is whose records were written for another one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Become {
    /// The same server, which lies elsewhere now.
    Moved,
    /// A server of its own.
    Copy,
}

fn record() -> RelPath {
    own("folder.json")
}

fn is_now(folder: &Folder) -> Option<Known> {
    let meta = here::look(folder.root())?;
    Some(Known {
        format: 1,
        disk: meta.disk,
        inode: meta.stamp.inode,
        path: folder.root().display().to_string(),
    })
}

fn recorded(folder: &Folder) -> Result<Option<Known>> {
    let path = record();
    if !folder.has(&path)? {
        return Ok(None);
    }
    let known = serde_json::from_slice(&folder.read(&path)?);
    known.map(Some).map_err(|error| {
        Error::Config(ConfigFault::Text {
            path: folder.shown(&path),
            why: error.to_string(),
        })
    })
}

fn write(folder: &Folder, known: &Known) -> Result<()> {
    let text = serde_json::to_vec(known).expect("a folder has only plain values");
    folder.write_whole(&record(), &text)
}

/// Forgets which folder it was.
///
/// # Errors
/// When the disk refuses.
pub fn forget(folder: &Folder) -> Result<()> {
    match folder.has(&record())? {
        true => folder.remove_file(&record()),
        false => Ok(()),
    }
}

/// Makes sure that lantern's records are this folder's own; where there is no record yet, it is made.
///
/// A folder that was renamed on its disk is still the same.
///
/// # Errors
/// [`ConfigFault::OtherFolder`] where they were written for another folder: this one is a copy of it, or what became of it
/// on another disk, and only the administrator knows which.
pub fn confirm(folder: &Folder) -> Result<()> {
    let Some(now) = is_now(folder) else {
        return Err(Error::NotAFolder(folder.root().into()));
    };
    match recorded(folder)? {
        None => write(folder, &now),
        Some(known) if known == now => Ok(()),
        Some(known) => {
            let same_disk = known.disk == now.disk || known.path == now.path;
            if known.inode == now.inode && same_disk {
                return write(folder, &now);
            }
            Err(Error::Config(ConfigFault::OtherFolder {
                here: now.path,
                is_still_there: is_in_care(&known),
                there: known.path,
            }))
        }
    }
}

/// Whether the folder is still where it was, and in lantern's care.
fn is_in_care(known: &Known) -> bool {
    let path = Path::new(&known.path);
    let same = here::look(path).is_some_and(|meta| meta.stamp.inode == known.inode);
    same && here::look(&path.join(FILE)).is_some()
}

/// Settles what a folder is whose records were written for another one.
///
/// A copy gets the mark that is given, and forgets the process that its original runs as.
///
/// # Errors
/// When its records were written for it, it is to have been moved and is still there as well, or it cannot be written.
pub fn settle(folder: &Folder, becomes: Become, mark: &str) -> Result<()> {
    let Some(now) = is_now(folder) else {
        return Err(Error::NotAFolder(folder.root().into()));
    };
    match confirm(folder) {
        Ok(()) => return Err(Error::Config(ConfigFault::OwnFolder(now.path))),
        Err(Error::Config(ConfigFault::OtherFolder {
            there,
            is_still_there: true,
            ..
        })) if becomes == Become::Moved => {
            return Err(Error::Config(ConfigFault::StillThere(there.into())));
        }
        Err(Error::Config(ConfigFault::OtherFolder { .. })) => {}
        Err(other) => return Err(other),
    }
    // Of several servers, each has a folder of its own there.
    let rooms = folder.entries(&own("console/servers"))?.into_iter();
    let rooms = rooms.map(|(path, _)| path).chain([own("console")]);
    for process in rooms.filter_map(|room| room.join(PROCESS).ok()) {
        if folder.has(&process)? {
            folder.remove_file(&process)?;
        }
    }
    if becomes == Become::Copy {
        let path = RelPath::parse(FILE)?;
        let text = folder.read_text(&path)?;
        let fault = |why: String| {
            Error::Config(ConfigFault::Text {
                path: folder.shown(&path),
                why,
            })
        };
        let settings = text.as_str().parse::<DocumentMut>();
        let mut settings = settings.map_err(|error| fault(error.to_string()))?;
        let id = settings.get_mut("id").and_then(|item| item.as_value_mut());
        let id = id.ok_or_else(|| fault("id is missing".into()))?;
        let around = id.decor().clone();
        *id = mark.into();
        *id.decor_mut() = around;
        folder.write_whole(&path, settings.to_string().as_bytes())?;
    }
    write(folder, &now)
}
