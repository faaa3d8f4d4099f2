//! Why a server is not taken into care.

use std::path::PathBuf;

/// Why a server is not taken into care.
#[derive(Debug, thiserror::Error)]
pub enum AdoptFault {
    /// The folder already has a `lantern.toml`.
    #[error("{} is already in lantern's care", .0.display())]
    AlreadyAdopted(PathBuf),
    /// There is no place on this machine for what lantern keeps of a server on another one.
    #[error("neither XDG_DATA_HOME nor HOME says where lantern's own files of this server can lie")]
    NoHome,
    /// Everything would be sent in the clear, and nobody said that it may.
    #[error("ftp:// sends everything in the clear: the password, and every file")]
    Plain,
    /// No name is given to a server on another machine, and its folder has none.
    #[error("the server needs a name, and one without a slash")]
    NoName,
    /// No known family's marks are there.
    #[error("{} does not look like a server of any known family", path.display())]
    NoFamily {
        /// The folder.
        path: PathBuf,
        /// The families that were tried, with the first mark that is missing.
        tried: Vec<(String, String)>,
    },
    /// The marks of several families are there.
    #[error("{} could be a server of several families: {}", path.display(), families.join(", "))]
    SeveralFamilies {
        /// The folder.
        path: PathBuf,
        /// Their names.
        families: Vec<String>,
    },
}
