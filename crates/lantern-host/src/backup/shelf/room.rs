//! A store in a folder, on this machine or on another one.

use super::{Object, Shelf};
use crate::error::{Error, Result};
use crate::folder::{Folder, PART};
use crate::place::{NewFile, Source};
use lantern_core::path::RelPath;
use std::collections::HashMap;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};

/// A file of no content, written to see what the shelf's clock shows.
const CLOCK: &str = "clock";

/// A store in a folder.
#[derive(Debug)]
pub struct Room {
    folder: Folder,
    /// The folder in that one; none of itself.
    at: Option<RelPath>,
    /// Whether it lies on another machine.
    is_far: bool,
    /// Files that have been read from.
    open: Mutex<HashMap<String, Opened>>,
}

#[derive(Clone)]
struct Opened(Arc<dyn Source>);

impl std::fmt::Debug for Opened {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a file")
    }
}

impl Room {
    /// The store at a path in a folder, or the folder itself.
    pub fn new(folder: &Folder, at: Option<&RelPath>, is_far: bool) -> Room {
        Room {
            folder: folder.clone(),
            at: at.cloned(),
            is_far,
            open: Mutex::default(),
        }
    }

    fn path(&self, name: &str) -> Result<RelPath> {
        Ok(match &self.at {
            Some(at) => at.join(name)?,
            None => RelPath::parse(name)?,
        })
    }

    fn begun(&self, name: &str) -> Result<RelPath> {
        self.path(&format!("{name}{PART}"))
    }

    /// Makes the folder of an object, that only its owner may look into.
    fn make_way(&self, path: &RelPath) -> Result<()> {
        let mut above: Vec<RelPath> =
            std::iter::successors(path.folder(), RelPath::folder).collect();
        above.reverse();
        for folder in above {
            if !self.folder.has(&folder)? {
                self.folder.make_private(&folder)?;
                self.folder.sync(folder.folder().as_ref())?;
            }
        }
        Ok(())
    }

    fn opened(&self, name: &str) -> io::Result<Arc<dyn Source>> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(file) = open.get(name) {
            return Ok(Arc::clone(&file.0));
        }
        let path = self.path(name).map_err(io::Error::other)?;
        let file = self.folder.open_file(&path).map_err(io::Error::other)?;
        let file: Arc<dyn Source> = Arc::from(file);
        open.insert(name.to_owned(), Opened(Arc::clone(&file)));
        Ok(file)
    }

    fn is_gone(error: &Error) -> bool {
        matches!(error, Error::Io { source, .. } if source.kind() == io::ErrorKind::NotFound)
    }
}

impl Shelf for Room {
    fn shown(&self, name: &str) -> String {
        match self.path(name) {
            Ok(path) => self.folder.shown(&path).display().to_string(),
            Err(_) => self.folder.lies_at().display().to_string(),
        }
    }

    fn at_once(&self) -> usize {
        match self.is_far {
            true => self.folder.at_once(),
            false => rayon::current_num_threads(),
        }
    }

    fn list(&self, room: &str) -> Result<Vec<Object>> {
        let above = self.at.as_ref().map_or(0, |at| at.as_str().len() + 1);
        let files = self.folder.metas_below(&self.path(room)?)?.into_iter();
        let objects = files.map(|(path, meta)| Object {
            name: path.as_str()[above..].to_owned(),
            bytes: meta.stamp.bytes,
            written_s: meta.stamp.modified_ns.div_euclid(1_000_000_000),
            mark: format!("{}-{}", meta.stamp.modified_ns, meta.stamp.inode),
        });
        Ok(objects.collect())
    }

    fn read(&self, name: &str) -> Result<Option<Vec<u8>>> {
        self.folder.read_if_there(&self.path(name)?)
    }

    fn read_at(&self, name: &str, bytes: &mut [u8], offset: u64) -> io::Result<()> {
        match self.opened(name)?.read_at(bytes, offset)? {
            read if read == bytes.len() => Ok(()),
            _ => Err(io::ErrorKind::UnexpectedEof.into()),
        }
    }

    fn write(&self, name: &str, bytes: &[u8]) -> Result<()> {
        let path = self.path(name)?;
        self.make_way(&path)?;
        self.folder.write_whole(&path, bytes)
    }

    fn write_new(&self, name: &str, bytes: &[u8]) -> Result<bool> {
        let path = self.path(name)?;
        self.make_way(&path)?;
        // A name of its own: two may be at it at once.
        let beside = self.begun(&format!("{name}.{}", super::super::fresh_name()?))?;
        self.folder.write_new(&beside, bytes, None)?;
        let renamed = self.folder.rename(&beside, &path);
        if renamed.is_err() {
            let _ = self.folder.remove_file(&beside);
        }
        match renamed {
            Ok(()) => self.folder.sync(path.folder().as_ref()).map(|()| true),
            Err(_) if self.folder.has(&path)? => Ok(false),
            Err(error) => Err(error),
        }
    }

    fn remove(&self, name: &str) -> Result<()> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        open.remove(name);
        match self.folder.remove_file(&self.path(name)?) {
            Err(error) if Room::is_gone(&error) => Ok(()),
            removed => removed,
        }
    }

    fn begin(&self, name: &str) -> Result<Option<Box<dyn NewFile>>> {
        if self.is_far {
            return Ok(None);
        }
        let part = self.begun(name)?;
        self.make_way(&part)?;
        self.folder.create(&part).map(Some)
    }

    fn end(&self, name: &str) -> Result<()> {
        let path = self.path(name)?;
        self.folder.rename(&self.begun(name)?, &path)?;
        self.folder.sync(path.folder().as_ref())
    }

    fn drop_begun(&self, name: &str) {
        let _ = self
            .begun(name)
            .and_then(|part| self.folder.remove_file(&part));
    }

    fn now_s(&self) -> Result<i64> {
        let path = self.path(CLOCK)?;
        self.write(CLOCK, b"")?;
        let meta = self.folder.look(&path)?;
        Ok(meta.map_or(0, |meta| meta.stamp.modified_ns.div_euclid(1_000_000_000)))
    }

    fn free_bytes(&self) -> Option<u64> {
        let at = self.path(CLOCK).ok()?;
        self.folder.free_bytes(&at).ok()
    }
}
