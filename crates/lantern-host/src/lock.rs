//! One lantern at a time in one folder.

use crate::error::{At, Error, Result};
use crate::folder::Folder;
use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Seek, SeekFrom, Write};

/// Held while lantern works in a folder. The system frees it when the process ends, however it does.
#[derive(Debug)]
pub struct Lock {
    _file: File,
}

impl Lock {
    /// Takes the lock; `doing` tells others what this lantern does.
    ///
    /// # Errors
    /// When another lantern holds it.
    pub fn take(folder: &Folder, doing: &str) -> Result<Lock> {
        folder.make_own("")?;
        let path = folder.own("lock");
        let open = OpenOptions::new()
            .read(true)
            .write(true)
            .create(true)
            .truncate(false)
            .open(&path);
        let mut file = open.at("opening", &path)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let mut who = String::new();
                let _ = file.read_to_string(&mut who);
                return Err(Error::Busy {
                    who: who.trim().into(),
                });
            }
            Err(TryLockError::Error(source)) => return Err(source).at("locking", &path),
        }
        let text = format!("lantern {doing}, process {}\n", std::process::id());
        let written = file
            .set_len(0)
            .and_then(|()| file.seek(SeekFrom::Start(0)))
            .and_then(|_| file.write_all(text.as_bytes()));
        written.at("writing", &path)?;
        Ok(Lock { _file: file })
    }
}
