//! What a store lies on: objects with names, in a folder, on another machine, or in an object store.
//!
//! An object is written whole or not at all, and read from anywhere in it. Names have rooms, as `packs/7.index` has; a shelf
//! knows nothing of what they mean.

mod bucket;
mod kept;
#[cfg(feature = "objects")]
mod objects;
mod room;

pub use bucket::Bucket;
pub use kept::Kept;
#[cfg(feature = "objects")]
use objects::Objects;
pub use room::Room;

use crate::error::Result;
use crate::place::NewFile;
use std::fmt::Debug;
use std::io;

/// An object as it was listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Object {
    /// Its name, with its rooms.
    pub name: String,
    /// How long it is, in bytes.
    pub bytes: u64,
    /// When it was written, by the shelf's own clock, in seconds since 1970.
    pub written_s: i64,
    /// Tells it from what had the name before.
    pub mark: String,
}

/// What a store lies on.
pub trait Shelf: Debug + Send + Sync {
    /// What an object is called in messages.
    fn shown(&self, name: &str) -> String;

    /// So many are worth being asked for at once.
    fn at_once(&self) -> usize;

    /// The objects in a room and in the rooms in it, by name; none where there is no such room.
    ///
    /// # Errors
    /// When it cannot be listed.
    fn list(&self, room: &str) -> Result<Vec<Object>>;

    /// What an object holds; none where it is not there.
    ///
    /// # Errors
    /// When it cannot be read.
    fn read(&self, name: &str) -> Result<Option<Vec<u8>>>;

    /// As [`Shelf::read`], of one that was listed just now.
    ///
    /// # Errors
    /// When it cannot be read.
    fn read_listed(&self, object: &Object) -> Result<Option<Vec<u8>>> {
        self.read(&object.name)
    }

    /// Reads from a place in an object, as much as there is room for.
    ///
    /// # Errors
    /// When it cannot be read, or ends before.
    fn read_at(&self, name: &str, bytes: &mut [u8], offset: u64) -> io::Result<()>;

    /// Writes an object, in the place of one that had the name before.
    ///
    /// # Errors
    /// When the shelf refuses; what was there is then there still.
    fn write(&self, name: &str, bytes: &[u8]) -> Result<()>;

    /// Writes an object where there is none of that name; whether there was none.
    ///
    /// # Errors
    /// When the shelf refuses.
    fn write_new(&self, name: &str, bytes: &[u8]) -> Result<bool>;

    /// Removes an object; that it is not there is no error.
    ///
    /// # Errors
    /// When the shelf refuses.
    fn remove(&self, name: &str) -> Result<()>;

    /// Begins an object that is written a part after the other, under a name that is its own for now; none where objects are
    /// written whole alone.
    ///
    /// # Errors
    /// When the shelf refuses.
    fn begin(&self, name: &str) -> Result<Option<Box<dyn NewFile>>>;

    /// Gives an object that was begun, and brought to the disk, its name.
    ///
    /// # Errors
    /// When the shelf refuses.
    fn end(&self, name: &str) -> Result<()>;

    /// Drops an object that was begun.
    fn drop_begun(&self, name: &str);

    /// What the shelf's clock shows, in seconds since 1970.
    ///
    /// # Errors
    /// When the shelf does not tell.
    fn now_s(&self) -> Result<i64>;

    /// How much room is left, in bytes; none where that is nobody's business.
    fn free_bytes(&self) -> Option<u64>;
}
