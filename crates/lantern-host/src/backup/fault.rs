//! What is wrong with a backup or its store.

use std::path::PathBuf;

/// What is wrong with a backup or its store.
#[derive(Debug, thiserror::Error)]
pub enum BackupFault {
    /// There is no backup of that name.
    #[error("there is no backup {0}")]
    NoBackup(String),
    /// A backup that an undo would need.
    #[error("{0} is needed for an undo")]
    Needed(String),
    /// Several backups begin so.
    #[error("{} backups begin with {text}: {}", names.len(), names.join(", "))]
    SeveralBackups {
        /// What was typed.
        text: String,
        /// Those.
        names: Vec<String>,
    },
    /// The store has lost something, or it is damaged.
    #[error("the store of backups: {why}")]
    Store {
        /// What is wrong.
        why: String,
    },
    /// Somebody called it off.
    #[error(
        "called off; what was stored so far stays, and the next backup need not store it again"
    )]
    CalledOff,
    /// The folder for backups cannot be used.
    #[error("the folder for backups, {}: {why}", path.display())]
    StorePlace {
        /// The folder.
        path: PathBuf,
        /// Why not.
        why: String,
    },
}
