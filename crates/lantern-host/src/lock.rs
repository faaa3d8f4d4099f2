//! One lantern at a time in one folder.

use crate::error::{At, Error, Result};
use crate::folder::Folder;
use crate::place::Held;

/// Held while lantern works in a folder. The system frees it when the process ends, however it does.
#[derive(Debug)]
pub struct Lock {
    _held: Box<dyn Held>,
}

impl Lock {
    /// Takes the lock; `doing` tells others what this lantern does.
    ///
    /// # Errors
    /// When another lantern holds it.
    pub fn take(folder: &Folder, doing: &str) -> Result<Lock> {
        let path = folder.make_own("")?.join("lock")?;
        let words = format!("lantern {doing}, process {}\n", std::process::id());
        let taken = folder.place().lock(&path, &words);
        match taken.at("locking", &folder.shown(&path))? {
            Ok(held) => Ok(Lock { _held: held }),
            Err(who) => Err(Error::Busy { who }),
        }
    }
}
