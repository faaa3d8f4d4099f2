//! A shelf elsewhere, with what was read whole kept here: indexes and pages are read by each command, and never change.

use super::{Object, Shelf};
use crate::error::Result;
use crate::folder::Folder;
use crate::place::NewFile;
use lantern_core::path::RelPath;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use std::collections::BTreeSet;
use std::io;
use std::sync::Arc;

/// A shelf, and the folder that keeps what was read of it.
#[derive(Debug)]
pub struct Kept {
    pub(in crate::backup) shelf: Arc<dyn Shelf>,
    pub(in crate::backup) folder: Folder,
    pub(in crate::backup) at: RelPath,
}

/// Whether an object has a name that no other one ever has, and is read whole.
fn is_drawn(name: &str) -> bool {
    name.starts_with("packs/") && name.ends_with(".index")
}

impl Kept {
    /// The file that keeps an object.
    fn file(&self, object: &Object) -> Option<RelPath> {
        let mark = match is_drawn(&object.name) {
            true => "",
            false => &object.mark,
        };
        self.file_of(&object.name, mark, object.bytes)
    }

    fn file_of(&self, name: &str, mark: &str, bytes: u64) -> Option<RelPath> {
        let name = utf8_percent_encode(name, NON_ALPHANUMERIC);
        let mark = blake3::hash(format!("{mark} {bytes}").as_bytes());
        self.at
            .join(&format!("{name}@{}", &mark.to_hex()[..16]))
            .ok()
    }

    /// Drops what is kept of a room and is not on the shelf any more.
    fn tidy(&self, room: &str, listed: &[Object]) {
        let begins = format!("{}%2F", utf8_percent_encode(room, NON_ALPHANUMERIC));
        let stay: BTreeSet<RelPath> = listed.iter().filter_map(|it| self.file(it)).collect();
        let kept = self.folder.entries(&self.at).unwrap_or_default();
        for (path, _) in kept {
            if path.name().starts_with(&begins) && !stay.contains(&path) {
                let _ = self.folder.remove_file(&path);
            }
        }
    }
}

impl Shelf for Kept {
    fn shown(&self, name: &str) -> String {
        self.shelf.shown(name)
    }

    fn at_once(&self) -> usize {
        self.shelf.at_once()
    }

    fn list(&self, room: &str) -> Result<Vec<Object>> {
        let listed = self.shelf.list(room)?;
        self.tidy(room, &listed);
        Ok(listed)
    }

    fn read(&self, name: &str) -> Result<Option<Vec<u8>>> {
        self.shelf.read(name)
    }

    fn read_listed(&self, object: &Object) -> Result<Option<Vec<u8>>> {
        let file = self.file(object);
        let kept = file.as_ref().and_then(|file| self.folder.read(file).ok());
        if let Some(bytes) = kept.filter(|bytes| bytes.len() as u64 == object.bytes) {
            return Ok(Some(bytes));
        }
        let bytes = self.shelf.read_listed(object)?;
        if let (Some(bytes), Some(file)) = (&bytes, &file) {
            // It only spares reading it again.
            let _ = self.folder.write_whole(file, bytes);
        }
        Ok(bytes)
    }

    fn read_at(&self, name: &str, bytes: &mut [u8], offset: u64) -> io::Result<()> {
        self.shelf.read_at(name, bytes, offset)
    }

    fn write(&self, name: &str, bytes: &[u8]) -> Result<()> {
        self.shelf.write(name, bytes)?;
        if is_drawn(name)
            && let Some(file) = self.file_of(name, "", bytes.len() as u64)
        {
            let _ = self.folder.write_whole(&file, bytes);
        }
        Ok(())
    }

    fn write_new(&self, name: &str, bytes: &[u8]) -> Result<bool> {
        self.shelf.write_new(name, bytes)
    }

    fn remove(&self, name: &str) -> Result<()> {
        self.shelf.remove(name)
    }

    fn begin(&self, name: &str) -> Result<Option<Box<dyn NewFile>>> {
        self.shelf.begin(name)
    }

    fn end(&self, name: &str) -> Result<()> {
        self.shelf.end(name)
    }

    fn drop_begun(&self, name: &str) {
        self.shelf.drop_begun(name);
    }

    fn now_s(&self) -> Result<i64> {
        self.shelf.now_s()
    }

    fn free_bytes(&self) -> Option<u64> {
        self.shelf.free_bytes()
    }
}
