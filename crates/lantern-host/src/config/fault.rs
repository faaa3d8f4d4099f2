//! What is wrong with what says how a server is run.

use lantern_core::family::FamilyFault;
use std::path::PathBuf;

/// What is wrong with what says how a server is run.
#[derive(Debug, thiserror::Error)]
pub enum ConfigFault {
    /// The folder has no `lantern.toml`.
    #[error("{} is not in lantern's care: it has no lantern.toml", .0.display())]
    NotAdopted(PathBuf),
    /// `lantern.toml` names a family that does not exist.
    #[error("there is no family \"{name}\"; known are {}", known.join(", "))]
    UnknownFamily {
        /// The name.
        name: String,
        /// The families there are.
        known: Vec<String>,
    },
    /// `lantern.toml` cannot be made sense of.
    #[error("{}: {why}", path.display())]
    Text {
        /// The file.
        path: PathBuf,
        /// What is wrong, with the line where there is one.
        why: String,
    },
    /// A family file cannot be made sense of.
    #[error("{}: {fault}", path.display())]
    Family {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        fault: FamilyFault,
    },
}
