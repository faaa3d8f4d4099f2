//! One lantern at a time in one folder.

use crate::backup;
use crate::config::Server;
use crate::error::{At, Error, Result};
use crate::folder::Folder;
use crate::place::Held;
use lantern_core::path::RelPath;

/// Held while lantern works in a folder. The system frees it when the process ends, however it does.
#[derive(Debug)]
pub struct Lock {
    _held: Vec<Box<dyn Held>>,
}

impl Lock {
    /// Takes the lock; `doing` tells others what this lantern does.
    ///
    /// # Errors
    /// When another lantern holds it.
    pub fn take(folder: &Folder, doing: &str) -> Result<Lock> {
        let held = hold(folder, &folder.make_own("")?, doing)?;
        Ok(Lock { _held: vec![held] })
    }

    /// Takes the lock of the server's room in a shared store of backups, too: a server folder that several machines see may
    /// be worked in from each. A store that is not there now is not locked, and its use is an error of its own.
    ///
    /// # Errors
    /// When another lantern holds it.
    pub fn with_store(mut self, server: &Server, doing: &str) -> Result<Lock> {
        if server.config.backup.store.is_some()
            && let Ok((folder, room)) = backup::place(server)
        {
            self._held.push(hold(&folder, &room, doing)?);
        }
        Ok(self)
    }
}

fn hold(folder: &Folder, room: &RelPath, doing: &str) -> Result<Box<dyn Held>> {
    let path = room.join("lock")?;
    let words = format!("lantern {doing}, process {}\n", std::process::id());
    let taken = folder.place().lock(&path, &words);
    let taken = taken.at("locking", &folder.shown(&path))?;
    taken.map_err(|who| Error::Busy { who })
}
