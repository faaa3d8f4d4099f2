//! Why an archive is not used.

use lantern_core::path::PathFault;

/// No path in an archive may have more names.
pub(super) const DEEPEST: usize = 64;
/// Why an archive is not used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ArchiveFault {
    /// It is no archive, or breaks off.
    #[error("it is not a complete archive: {0}")]
    Broken(String),
    /// An entry has a name that leads elsewhere or cannot be written.
    #[error("an entry is refused: {0}")]
    Name(#[from] PathFault),
    /// An entry lies too deep.
    #[error("the entry {0:?} is more than {DEEPEST} folders deep")]
    Deep(String),
    /// A link leads out of the archive.
    #[error("the entry {0:?} is a link that leads out of it, to {1:?}")]
    Link(String, String),
    /// An entry is a hard link or a device.
    #[error("the entry {0:?} is a hard link or a device, which are refused")]
    Odd(String),
    /// An entry is encrypted.
    #[error("the entry {0:?} is encrypted")]
    Encrypted(String),
    /// Two entries have the same name, or names that differ only in case.
    #[error("the entries {0:?} and {1:?} would be one file")]
    Same(String, String),
    /// One path is a file, and a folder with another in it.
    #[error("the entry {0:?} is a file, and {1:?} would be in a folder of that name")]
    FileAndFolder(String, String),
    /// Some name stands in the list of entries more than once.
    #[error("a name occurs twice in its list: {entries} entries, {names} of them different")]
    Twice {
        /// How many entries it lists.
        entries: u64,
        /// How many names they have.
        names: u64,
    },
    /// It would unpack to too much.
    #[error("it would unpack to more than is allowed: {0}")]
    Bomb(String),
    /// An entry does not unpack to what the archive says.
    #[error("the entry {0:?} is damaged: {1}")]
    Damaged(String, String),
    /// No descriptor lies in it.
    #[error("there is no {0} in it")]
    Bare(String),
}
