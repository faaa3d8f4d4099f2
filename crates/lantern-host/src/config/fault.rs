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
    #[error("there is no family \"{name}\"; known families: {}", known.join(", "))]
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
    /// No server of the install has that name.
    #[error("no server of this install is called \"{name}\"{}", if known.is_empty() { "; it has only one".into() } else { format!("; there are: {}", known.join(", ")) })]
    NoSuchServer {
        /// The name.
        name: String,
        /// The servers there are.
        known: Vec<String>,
    },
    /// A group's file cannot be made sense of.
    #[error("{}: {why}", path.display())]
    Group {
        /// The file.
        path: PathBuf,
        /// What is wrong, with the line where there is one.
        why: String,
    },
    /// What is asked of it is done on this machine alone, and it is one at which a lantern works that is there.
    #[error("{0} is worked at by the lantern that is there")]
    IsThere(String),
    /// No group is named, and it is not the file of one group alone that lies here.
    #[error("no group is named{}", if .0.is_empty() { ", and no *.group.toml lies in this folder".into() } else { format!("; here lie: {}", .0.iter().map(|file| file.display().to_string()).collect::<Vec<_>>().join(", ")) })]
    WhichGroup(Vec<PathBuf>),
    /// Only one of several servers can be meant.
    #[error("several servers run on this install: {}", .0.join(", "))]
    WhichServer(Vec<String>),
    /// Lantern's records in a folder were written for another one.
    #[error("lantern's records in this folder were written for another one: {there}{}", if *is_still_there { ", which is still there" } else { "" })]
    OtherFolder {
        /// The folder.
        here: String,
        /// The one that they were written for.
        there: String,
        /// Whether that one is still there.
        is_still_there: bool,
    },
    /// There is nothing to settle: the records in a folder are its own.
    #[error(
        "lantern's records in {0} were written for this very folder: there is nothing to settle"
    )]
    OwnFolder(String),
    /// What is said to have been moved is still where it was, and in care.
    #[error("{} is still there, and in lantern's care: two folders cannot be one server", .0.display())]
    StillThere(PathBuf),
    /// A family file cannot be made sense of.
    #[error("{}: {fault}", path.display())]
    Family {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        fault: FamilyFault,
    },
}
