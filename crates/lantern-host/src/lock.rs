//! One lantern at a time in one folder.

use crate::backup;
use crate::config::Server;
use crate::error::{Error, Result};
use crate::folder::{Folder, own};
use crate::place::Held;
use lantern_core::path::RelPath;
use std::time::Duration;

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

/// Who works in a folder now, in words; none where nobody does.
///
/// # Errors
/// When that cannot be seen.
pub fn holder(folder: &Folder) -> Result<Option<String>> {
    folder.locked_by(&own("lock"))
}

/// How often a lock that somebody has is tried again, and how long is waited before: who only looks whether it is taken has
/// it for a moment.
const TRIES: u32 = 5;
const PAUSE: Duration = Duration::from_millis(30);

fn hold(folder: &Folder, room: &RelPath, doing: &str) -> Result<Box<dyn Held>> {
    let path = room.join("lock")?;
    let words = format!("lantern {doing}, process {}\n", std::process::id());
    let mut tries = 1;
    loop {
        match folder.lock(&path, &words)? {
            Ok(held) => return Ok(held),
            Err(who) if tries == TRIES => return Err(Error::Busy { who }),
            Err(_) => std::thread::sleep(PAUSE),
        }
        tries += 1;
    }
}
