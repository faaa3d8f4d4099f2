//! Why a rehearsal was not held, or was ended.

use lantern_core::path::RelPath;

/// Why a rehearsal was not held, or was ended.
#[derive(Debug, thiserror::Error)]
pub enum RehearsalFault {
    /// Somebody called the rehearsal off.
    #[error("the rehearsal was called off; the copy is gone")]
    CalledOff,
    /// A file names the server's own folder, so a copy of the server would run on the live one's files.
    #[error(
        "{path}:{line} names the server folder itself, so a copy would run on the live server's files"
    )]
    OwnPath {
        /// The file.
        path: RelPath,
        /// The line, from 1.
        line: usize,
    },
    /// The port of a server that is up, or may be, is not found: a copy would want the same.
    #[error(
        "no port is found in {file}, so a copy would want that of the server, which is not known to be down"
    )]
    OwnPort {
        /// The file in which the family looks for it.
        file: String,
    },
    /// A rehearsal came near the live server.
    #[error(
        "the rehearsal was ended: the copy had opened {path} of the live server, or written it"
    )]
    Touched {
        /// The file.
        path: String,
    },
}
