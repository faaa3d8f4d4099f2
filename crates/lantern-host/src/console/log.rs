//! The file that a server prints to, here or on another machine.

use crate::error::Error;
use crate::folder::Folder;
use crate::place::{Meta, Source, here};
use lantern_core::path::RelPath;
use std::io;
use std::path::PathBuf;

/// The file that a server prints to.
#[derive(Debug, Clone)]
pub enum Log {
    /// It lies on this machine.
    Here(PathBuf),
    /// It lies in a server folder on another machine.
    There(Folder, RelPath),
}

impl Log {
    /// Its path, or its address, for messages.
    pub fn shown(&self) -> PathBuf {
        match self {
            Log::Here(path) => path.clone(),
            Log::There(folder, path) => folder.shown(path),
        }
    }

    /// What lies there; none where nothing does, or that cannot be seen.
    pub(super) fn look(&self) -> Option<Meta> {
        match self {
            Log::Here(path) => here::look(path),
            Log::There(folder, path) => folder.met(path).ok()?,
        }
    }

    pub(super) fn open(&self) -> io::Result<Box<dyn Source>> {
        match self {
            Log::Here(path) => here::open(path),
            Log::There(folder, path) => folder.open_file(path).map_err(|error| match error {
                Error::Io { source, .. } => source,
                other => io::Error::other(other.to_string()),
            }),
        }
    }

    /// Which file lies there and how long it is; zeros when there is none. On another machine files have no numbers.
    pub(super) fn end(&self) -> (u64, u64) {
        self.look()
            .map_or((0, 0), |meta| (meta.stamp.inode, meta.stamp.bytes))
    }
}
